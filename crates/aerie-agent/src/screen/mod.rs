//! Shows the screen of this computer's X server over a stream, and does there what is told (docs/formats/desktop.md). Three threads, since X is
//! spoken to with calls that wait: one looks at the screen, one presses keys, one has the clipboard.

mod capture;
mod clipboard;
mod input;

use aerie_core::desktop::{OrderReader, SCREEN_TARGET, ScreenOrder};
use aerie_tunnel::Asked;
use std::sync::Arc;
use std::sync::atomic::{AtomicBool, AtomicU8, Ordering};
use std::sync::mpsc::sync_channel;
use tokio::io::{AsyncReadExt as _, AsyncWriteExt as _};
use tokio::sync::mpsc;
use x11rb::connection::Connection as _;
use x11rb::errors::{ConnectError, ConnectionError, ReplyError, ReplyOrIdError};
use x11rb::protocol::xproto::{ClientMessageEvent, ConnectionExt as _, CreateWindowAux, EventMask, Window, WindowClass};
use x11rb::rust_connection::RustConnection;

/// Keys and movements that wait.
const ORDERS: usize = 256;
/// Updates that wait for the line: the next is looked for while one goes out.
const UPDATES: usize = 1;
/// Bytes of orders that are read at a time.
const PIECE: usize = 4096;

/// Why the screen cannot be shown.
#[derive(Debug, thiserror::Error)]
pub(crate) enum ScreenError {
    #[error("no X server shows a screen here")]
    NoServer,
    #[error("this computer's screen belongs to Wayland, of which no program gets to see it: share it from the browser instead")]
    Wayland,
    #[error("the X server does not let this program see its screen ({0})")]
    Connect(#[from] ConnectError),
    #[error("the X server broke off ({0})")]
    Connection(#[from] ConnectionError),
    #[error("the X server refuses ({0})")]
    Reply(#[from] ReplyError),
    #[error("the X server has no more identifiers ({0})")]
    Id(#[from] ReplyOrIdError),
    #[error("the X server shows its screen in colours that this program does not know")]
    Colours,
}

/// What both threads know.
struct Shared {
    x: RustConnection,
    root: Window,
    /// Wakes the thread that waits for events.
    bell: Window,
    /// What is asked for: nothing, what changed, or everything.
    wants: AtomicU8,
    over: AtomicBool,
}

const NOTHING: u8 = 0;
const CHANGES: u8 = 1;
const EVERYTHING: u8 = 2;

impl Shared {
    fn open() -> Result<Self, ScreenError> {
        if std::env::var_os("DISPLAY").is_none() {
            return Err(if std::env::var_os("WAYLAND_DISPLAY").is_some() { ScreenError::Wayland } else { ScreenError::NoServer });
        }
        // X programs are shown there, and all else is not.
        if std::env::var_os("WAYLAND_DISPLAY").is_some() {
            return Err(ScreenError::Wayland);
        }
        let (x, number) = RustConnection::connect(None)?;
        let root = x.setup().roots.get(number).ok_or(ScreenError::NoServer)?.root;
        let bell = x.generate_id()?;
        x.create_window(0, bell, root, -1, -1, 1, 1, 0, WindowClass::INPUT_ONLY, 0, &CreateWindowAux::new())?.check()?;
        Ok(Self { x, root, bell, wants: AtomicU8::new(NOTHING), over: AtomicBool::new(false) })
    }

    /// Wakes whoever waits for events.
    fn ring(&self) -> Result<(), ConnectionError> {
        let event = ClientMessageEvent::new(8, self.bell, x11rb::protocol::xproto::AtomEnum::STRING, [0u8; 20]);
        self.x.send_event(false, self.bell, EventMask::NO_EVENT, event)?;
        self.x.flush()
    }

    fn end(&self) {
        self.over.store(true, Ordering::SeqCst);
        let _ = self.ring();
    }
}

/// Ends both threads, also when whoever waits for them does so no longer.
struct Ending(Arc<Shared>);

impl Drop for Ending {
    fn drop(&mut self) {
        self.0.end();
    }
}

/// Whether this is the stream for the screen.
pub(crate) fn is_asked(asked: &Asked) -> bool {
    asked.target == SCREEN_TARGET
}

/// Shows the screen until the service closes the stream, or the X server ends; refuses where there is none.
pub(crate) async fn serve(asked: Asked, note: &crate::serve::Note) {
    let opened = tokio::task::spawn_blocking(|| {
        let shared = Arc::new(Shared::open()?);
        let keys = input::Hands::new(shared.clone())?;
        let eyes = capture::Eyes::new(shared.clone())?;
        Ok::<_, ScreenError>((shared, keys, eyes))
    });
    let (shared, hands, eyes) = match opened.await {
        Ok(Ok(opened)) => opened,
        Ok(Err(why)) => {
            note(&format!("The screen cannot be shown: {why}."));
            return asked.refuse(&why.to_string());
        }
        Err(_) => return asked.refuse("the screen cannot be shown"),
    };
    let ending = Ending(shared.clone());
    note("The screen is seen now.");
    let (mut hearing, mut saying) = tokio::io::split(asked.accept());
    let (orders, told) = sync_channel(ORDERS);
    // Without a clipboard there is still a screen.
    let pocket = tokio::task::spawn_blocking(clipboard::Pocket::open)
        .await
        .ok()
        .and_then(|p| p.inspect_err(|e| tracing::debug!(error = %e, "no clipboard")).ok());
    let bell = pocket.as_ref().map(|(_, bell)| bell.clone());
    let (updates, mut seen) = mpsc::channel::<Vec<u8>>(UPDATES);
    let copies = updates.clone();
    let carrying = tokio::task::spawn_blocking(move || {
        if let Some((pocket, _)) = pocket {
            pocket.carry(&copies);
        }
    });
    let looking = tokio::task::spawn_blocking(move || eyes.look(&updates));
    let acting = tokio::task::spawn_blocking(move || hands.act(&told));
    let saying = async {
        while let Some(bytes) = seen.recv().await {
            if saying.write_all(&bytes).await.is_err() || saying.flush().await.is_err() {
                break;
            }
        }
    };
    let (there, pocketed) = (shared, bell.clone());
    let hearing = async move {
        let (mut reader, mut piece) = (OrderReader::default(), vec![0; PIECE]);
        while let Ok(n) = hearing.read(&mut piece).await
            && n > 0
        {
            let Ok(all) = reader.handle_bytes(piece.get(..n).unwrap_or_default()) else { break };
            for order in all {
                let kept = match order {
                    ScreenOrder::Next(whole) => {
                        there.wants.fetch_max(if whole { EVERYTHING } else { CHANGES }, Ordering::SeqCst);
                        there.ring().is_ok()
                    }
                    ScreenOrder::Copied(wanted) => pocketed.as_ref().is_none_or(|b| b.want(wanted).is_ok()),
                    ScreenOrder::Paste(text) => pocketed.as_ref().is_none_or(|b| b.put(text).is_ok()),
                    // More than can be typed; what it was is not known any more, so nothing may stay pressed.
                    order @ (ScreenOrder::Key(..) | ScreenOrder::At(..)) => orders.try_send(order).is_ok(),
                };
                if !kept {
                    return;
                }
            }
        }
    };
    tokio::select! {
        () = saying => {}
        () = hearing => {}
    }
    drop((ending, seen));
    if let Some(bell) = bell {
        bell.end();
    }
    let _ = tokio::join!(looking, acting, carrying);
    note("The screen is seen no longer.");
}
