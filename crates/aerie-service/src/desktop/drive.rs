//! The connection to the desktop's server of a machine, and its pace.

use super::screen::Screen;
use super::tls;
use crate::machines::PathError;
use crate::recorder::Recording;
use crate::service::App;
use crate::sessions::LiveSession;
use aerie_core::desktop::{Event, Fault, Framebuffer, Message, Quality, Rect, Remote};
use aerie_core::evidence::hex;
use aerie_core::recording::Frame;
use jiff::Timestamp;
use std::collections::BTreeSet;
use std::time::Duration;
use tokio::io::{AsyncRead, AsyncReadExt as _, AsyncWrite, AsyncWriteExt as _};
use tokio::sync::mpsc;
use tokio::time::Instant;

/// How long the server may take until its screen is there.
const PATIENCE: Duration = Duration::from_secs(10);
/// Bytes that are read at a time.
const PIECE: usize = 64 << 10;
/// How often the machine is asked for its screen at least, while nobody looks or whoever does is slow: the recording, and those who watch, must
/// not hang on the window of the one who is recorded.
const UNWATCHED: Duration = Duration::from_millis(200);
/// How often a recording gets a whole picture, so that a moment is found without reading from the beginning.
const WHOLE: Duration = Duration::from_secs(10);
/// Keys that are pressed at a time at most.
const MOST_PRESSED: usize = 32;
/// Text of the machine's clipboard that is passed on at most, in characters.
pub(crate) const MOST_COPIED: usize = 100_000;
/// How often that may come.
const CLIPBOARD: Duration = Duration::from_millis(500);

/// Bytes to and from the server, whatever they go through.
pub(crate) trait Stream: AsyncRead + AsyncWrite + Unpin + Send {}
impl<S: AsyncRead + AsyncWrite + Unpin + Send> Stream for S {}

/// Why there is no desktop.
#[derive(Debug, thiserror::Error)]
pub(crate) enum DesktopError {
    #[error(transparent)]
    Path(#[from] PathError),
    #[error("its desktop does not answer within {} seconds", PATIENCE.as_secs())]
    Silent,
    #[error("the connection to its desktop broke off ({0})")]
    Broken(#[from] std::io::Error),
    #[error("its desktop was not understood: {0}")]
    Fault(#[from] Fault),
    #[error("its desktop shows another certificate than the first time; nothing was sent to it")]
    OtherCertificate,
    #[error("what is kept of it could not be read ({0})")]
    Store(#[from] aerie_store::StoreError),
}

impl DesktopError {
    /// A stable word.
    pub(crate) fn code(&self) -> &'static str {
        match self {
            Self::Path(e) => e.code(),
            Self::Silent => "silent",
            Self::Broken(_) => "broken",
            Self::Fault(Fault::Refused(_) | Fault::Security(_)) => "credential-refused",
            Self::Fault(_) => "protocol",
            Self::OtherCertificate => "other-certificate",
            Self::Store(_) => "store",
        }
    }
}

/// What is to be done on the machine.
#[derive(Debug, Clone, PartialEq, Eq)]
pub(crate) enum Order {
    Key(u32, bool),
    At(u16, u16, u8),
    Paste(String),
    /// Text that is cut or copied there is wanted, or no longer.
    Copied(bool),
    /// Whoever pressed something is gone: nothing stays pressed.
    Release,
    Refresh,
    /// How exactly colours are sent.
    Quality(Quality),
}

/// A desktop whose screen is there.
pub(crate) struct Greeted {
    client: Box<dyn Remote>,
    stream: Box<dyn Stream>,
    pub(crate) title: String,
}

/// Greets the server. `pin` is the name under which its certificate is kept; none where the way there is what is trusted.
pub(crate) async fn greet(app: &App, stream: Box<dyn Stream>, client: Box<dyn Remote>, pin: Option<&str>) -> Result<Greeted, DesktopError> {
    tokio::time::timeout(PATIENCE, greeting(app, stream, client, pin)).await.map_err(|_| DesktopError::Silent)?
}

async fn greeting(app: &App, mut stream: Box<dyn Stream>, mut client: Box<dyn Remote>, pin: Option<&str>) -> Result<Greeted, DesktopError> {
    let mut piece = vec![0; PIECE];
    loop {
        while let Some(event) = client.poll_event() {
            match event {
                Event::StartTls => {
                    flush(&mut *client, &mut stream).await?;
                    let (over, shown) = tls::begin(stream).await?;
                    stream = Box::new(over);
                    if let Some(pin) = pin {
                        pinned(app, pin, &shown).await?;
                    }
                    client.handle_tls();
                }
                Event::Began { name } => {
                    flush(&mut *client, &mut stream).await?;
                    return Ok(Greeted { client, stream, title: name });
                }
                // Nothing else comes before it.
                Event::Updated(_) | Event::Resized(..) | Event::Screens(_) | Event::Pointer { .. } | Event::Bell | Event::Clipboard(_) => {}
            }
        }
        flush(&mut *client, &mut stream).await?;
        read(&mut *client, &mut stream, &mut piece).await?;
    }
}

/// Whether this is the certificate that was seen before; the first is kept.
async fn pinned(app: &App, pin: &str, shown: &[u8; 32]) -> Result<(), DesktopError> {
    let key = format!("desktop certificate {pin}");
    match app.store.meta(&key).await? {
        Some(kept) if kept == shown => Ok(()),
        Some(_) => Err(DesktopError::OtherCertificate),
        None => {
            tracing::info!(desktop = pin, certificate = hex(shown), "the certificate of a desktop was seen for the first time");
            Ok(app.store.set_meta(&key, shown).await?)
        }
    }
}

async fn flush(client: &mut dyn Remote, stream: &mut Box<dyn Stream>) -> Result<(), DesktopError> {
    let mut any = false;
    while let Some(bytes) = client.poll_transmit() {
        stream.write_all(&bytes).await?;
        any = true;
    }
    if any {
        stream.flush().await?;
    }
    Ok(())
}

async fn read(client: &mut dyn Remote, stream: &mut Box<dyn Stream>, piece: &mut [u8]) -> Result<(), DesktopError> {
    let n = stream.read(piece).await?;
    if n == 0 {
        return Err(DesktopError::Broken(std::io::ErrorKind::UnexpectedEof.into()));
    }
    Ok(client.handle_bytes(piece.get(..n).unwrap_or_default())?)
}

/// Carries a desktop.
pub(crate) struct Driver<'a> {
    pub(crate) live: &'a LiveSession,
    pub(crate) screen: &'a Screen,
    pub(crate) recording: Option<Recording>,
    pressed: BTreeSet<u32>,
    at: (u16, u16, u8),
    /// When the recording got its last whole picture, and whether anything changed since.
    whole: Instant,
    changed: bool,
    copied: Option<Instant>,
    /// Told with the next update: its size counts.
    screens: Option<Vec<Rect>>,
}

impl<'a> Driver<'a> {
    pub(crate) fn new(live: &'a LiveSession, screen: &'a Screen, recording: Option<Recording>) -> Self {
        let now = Instant::now();
        Self { live, screen, recording, pressed: BTreeSet::new(), at: (0, 0, 0), whole: now, changed: false, copied: None, screens: None }
    }

    /// Carries it until the server closes, does what it may not, or the session ends, which drops this.
    pub(crate) async fn run(&mut self, greeted: Greeted, mut orders: mpsc::Receiver<Order>) -> Result<(), DesktopError> {
        let Greeted { mut client, mut stream, .. } = greeted;
        let mut piece = vec![0; PIECE];
        // The first update was asked for with the greeting.
        let (mut wants, mut asked) = (false, Instant::now());
        loop {
            while let Some(event) = client.poll_event() {
                wants |= self.take(&*client, event).await;
            }
            let room = self.screen.has_room() == Some(true);
            if wants && (room || asked.elapsed() >= UNWATCHED) {
                client.ask(false);
                (wants, asked) = (false, Instant::now());
            }
            flush(&mut *client, &mut stream).await?;
            tokio::select! {
                order = orders.recv() => match order {
                    Some(order) => self.carry_out(&mut *client, order).await,
                    None => return Ok(()),
                },
                read = read(&mut *client, &mut stream, &mut piece) => read?,
                () = self.screen.drawn.notified() => {}
                () = tokio::time::sleep_until(asked + UNWATCHED), if wants => {}
            }
        }
    }

    /// Takes what came of the server's bytes; whether more may be asked for.
    async fn take(&mut self, client: &dyn Remote, event: Event) -> bool {
        match event {
            Event::Updated(damage) => {
                let Some(picture) = client.screen() else { return true };
                let (encoded, bytes) = self.screen.update(picture, &damage);
                self.live.note_out(bytes, Timestamp::now().as_millisecond(), true);
                self.record(encoded).await;
                if let Some(screens) = self.screens.take() {
                    let kept = self.screen.tell(Message::Screens(screens));
                    self.keep(kept).await;
                }
                return true;
            }
            // They may come before the size that they are of is shown, or after it, when nothing else follows.
            Event::Screens(screens) if client.screen().map(Framebuffer::size) == self.screen.size() => {
                let kept = self.screen.tell(Message::Screens(screens));
                self.keep(kept).await;
            }
            Event::Screens(screens) => self.screens = Some(screens),
            Event::Pointer { size, hot, pixels } => {
                let kept = self.screen.tell(Message::Shape { size, hot, pixels });
                self.keep(kept).await;
            }
            Event::Bell => {
                let kept = self.screen.tell(Message::Bell);
                self.keep(kept).await;
            }
            Event::Clipboard(text) if self.copied.is_none_or(|t| t.elapsed() >= CLIPBOARD) => {
                self.copied = Some(Instant::now());
                self.screen.copied(text.chars().take(MOST_COPIED).collect());
            }
            // The size comes with the next update.
            Event::Clipboard(_) | Event::Resized(..) | Event::Began { .. } | Event::StartTls => {}
        }
        false
    }

    async fn record(&mut self, encoded: Vec<Vec<u8>>) {
        let Some(recording) = &self.recording else { return };
        if encoded.is_empty() {
            return;
        }
        if !self.changed || self.whole.elapsed() >= WHOLE {
            (self.whole, self.changed) = (Instant::now(), true);
            recording.whole(0, self.screen.whole()).await;
            return;
        }
        for message in encoded {
            recording.frame(0, Frame::Desktop(message)).await;
        }
    }

    async fn keep(&self, message: Vec<u8>) {
        if let Some(recording) = &self.recording {
            recording.frame(0, Frame::Desktop(message)).await;
        }
    }

    async fn carry_out(&mut self, client: &mut dyn Remote, order: Order) {
        match order {
            Order::Key(keysym, true) if self.pressed.len() >= MOST_PRESSED && !self.pressed.contains(&keysym) => {}
            Order::Key(keysym, down) => {
                client.key(keysym, down);
                if down {
                    self.pressed.insert(keysym);
                    if let Some(recording) = &self.recording {
                        // Which key it was is seen where it shows; elsewhere it may be a secret.
                        recording.frame(0, Frame::Hidden(1)).await;
                    }
                } else {
                    self.pressed.remove(&keysym);
                }
            }
            Order::At(x, y, buttons) => {
                client.pointer((x, y), buttons);
                if self.at != (x, y, buttons) {
                    self.at = (x, y, buttons);
                    let kept = self.screen.tell(Message::At { x, y, buttons });
                    self.keep(kept).await;
                }
            }
            Order::Paste(text) => client.clipboard(&text),
            Order::Copied(wanted) => client.want_clipboard(wanted),
            Order::Release => {
                for keysym in std::mem::take(&mut self.pressed) {
                    client.key(keysym, false);
                }
                if self.at.2 != 0 {
                    client.pointer((self.at.0, self.at.1), 0);
                    self.at.2 = 0;
                }
            }
            Order::Refresh => client.ask(true),
            Order::Quality(quality) => {
                self.screen.set_quality(quality);
                let Some(picture) = client.screen() else { return };
                let (encoded, bytes) = self.screen.update(picture, &[]);
                self.live.note_out(bytes, Timestamp::now().as_millisecond(), true);
                self.record(encoded).await;
            }
        }
    }
}
