//! The clipboard of the screen (ICCCM section 2): what is cut or copied there is told while that is wanted, and text is put there. A connection of its
//! own, since a selection is handed over by messages.

use super::ScreenError;
use aerie_core::desktop::ScreenWriter;
use std::sync::atomic::{AtomicBool, Ordering};
use std::sync::{Arc, Mutex, PoisonError};
use tokio::sync::mpsc;
use x11rb::connection::Connection as _;
use x11rb::errors::ConnectionError;
use x11rb::protocol::Event;
use x11rb::protocol::xfixes::{ConnectionExt as _, SelectionEventMask};
use x11rb::protocol::xproto::{
    Atom, AtomEnum, ClientMessageEvent, ConnectionExt as _, CreateWindowAux, EventMask, PropMode, SELECTION_NOTIFY_EVENT,
    SelectionNotifyEvent, SelectionRequestEvent, Window, WindowClass,
};
use x11rb::rust_connection::RustConnection;
use x11rb::wrapper::ConnectionExt as _;

/// Words of 32 bits of a text that are read: as much as is passed on. What is longer comes in pieces (INCR), and is passed over.
const MOST_WORDS: u32 = 100_000;

x11rb::atom_manager! {
    /// Names of X.
    Atoms: AtomsCookie {
        CLIPBOARD,
        TARGETS,
        UTF8_STRING,
        AERIE_COPIED,
    }
}

/// What the thread and those who tell it something share.
struct Inner {
    x: RustConnection,
    window: Window,
    wanted: AtomicBool,
    over: AtomicBool,
    put: Mutex<Option<String>>,
}

/// Tells the thread something.
#[derive(Clone)]
pub(super) struct Bell(Arc<Inner>);

impl Bell {
    /// What is copied from here on is wanted, beginning with what was copied last; or nothing is.
    pub(super) fn want(&self, wanted: bool) -> Result<(), ConnectionError> {
        self.0.wanted.store(wanted, Ordering::SeqCst);
        self.ring()
    }

    /// Puts text there.
    pub(super) fn put(&self, text: String) -> Result<(), ConnectionError> {
        *self.0.put.lock().unwrap_or_else(PoisonError::into_inner) = Some(text);
        self.ring()
    }

    pub(super) fn end(&self) {
        self.0.over.store(true, Ordering::SeqCst);
        let _ = self.ring();
    }

    fn ring(&self) -> Result<(), ConnectionError> {
        let event = ClientMessageEvent::new(8, self.0.window, AtomEnum::STRING, [0u8; 20]);
        self.0.x.send_event(false, self.0.window, EventMask::NO_EVENT, event)?;
        self.0.x.flush()
    }
}

/// Has the clipboard.
pub(super) struct Pocket {
    inner: Arc<Inner>,
    atoms: Atoms,
    /// The text that was put there, while nobody copied anything else.
    text: Option<String>,
}

impl Pocket {
    pub(super) fn open() -> Result<(Self, Bell), ScreenError> {
        let (x, number) = RustConnection::connect(None)?;
        let root = x.setup().roots.get(number).ok_or(ScreenError::NoServer)?.root;
        let window = x.generate_id()?;
        x.create_window(0, window, root, -1, -1, 1, 1, 0, WindowClass::INPUT_ONLY, 0, &CreateWindowAux::new())?.check()?;
        let atoms = Atoms::new(&x)?.reply()?;
        x.xfixes_query_version(5, 0)?.reply()?;
        x.xfixes_select_selection_input(window, atoms.CLIPBOARD, SelectionEventMask::SET_SELECTION_OWNER)?.check()?;
        let put = Mutex::new(None);
        let inner = Arc::new(Inner { x, window, wanted: AtomicBool::new(false), over: AtomicBool::new(false), put });
        Ok((Self { inner: inner.clone(), atoms, text: None }, Bell(inner)))
    }

    /// Serves it until it is over.
    pub(super) fn carry(mut self, to: &mpsc::Sender<Vec<u8>>) {
        if let Err(e) = self.try_carry(to) {
            tracing::debug!(error = %e, "the clipboard is served no longer");
        }
    }

    fn try_carry(&mut self, to: &mpsc::Sender<Vec<u8>>) -> Result<(), ScreenError> {
        let inner = self.inner.clone();
        let mut asked = false;
        loop {
            match inner.x.wait_for_event()? {
                Event::ClientMessage(_) => {
                    if inner.over.load(Ordering::SeqCst) {
                        return Ok(());
                    }
                    if let Some(text) = inner.put.lock().unwrap_or_else(PoisonError::into_inner).take() {
                        self.text = Some(text);
                        inner.x.set_selection_owner(inner.window, self.atoms.CLIPBOARD, x11rb::CURRENT_TIME)?;
                    }
                    let wanted = inner.wanted.load(Ordering::SeqCst);
                    if wanted && !asked {
                        self.ask(x11rb::CURRENT_TIME)?;
                    }
                    asked = wanted;
                }
                Event::XfixesSelectionNotify(n) if n.owner != inner.window && inner.wanted.load(Ordering::SeqCst) => {
                    self.ask(n.selection_timestamp)?;
                }
                Event::SelectionNotify(n) if n.property != x11rb::NONE => {
                    let property = inner.x.get_property(true, inner.window, n.property, AtomEnum::ANY, 0, MOST_WORDS)?.reply()?;
                    let readable = property.format == 8 && property.type_ == self.atoms.UTF8_STRING;
                    let text = String::from_utf8_lossy(&property.value);
                    // It may have been taken back meanwhile.
                    let wanted = inner.wanted.load(Ordering::SeqCst);
                    if readable && wanted && to.blocking_send(ScreenWriter::copied(&text)).is_err() {
                        return Ok(());
                    }
                }
                Event::SelectionRequest(r) => self.hand_over(&r)?,
                Event::SelectionClear(_) => self.text = None,
                _ => {}
            }
            inner.x.flush()?;
        }
    }

    /// Asks whoever has it for the text.
    fn ask(&self, time: u32) -> Result<(), ScreenError> {
        let a = &self.atoms;
        self.inner.x.convert_selection(self.inner.window, a.CLIPBOARD, a.UTF8_STRING, a.AERIE_COPIED, time)?;
        Ok(())
    }

    /// Somebody pastes.
    fn hand_over(&self, r: &SelectionRequestEvent) -> Result<(), ScreenError> {
        let (x, a) = (&self.inner.x, &self.atoms);
        let property: Atom = if r.property == x11rb::NONE { r.target } else { r.property };
        let text = self.text.as_deref().unwrap_or_default();
        let given = if r.target == a.TARGETS {
            x.change_property32(PropMode::REPLACE, r.requestor, property, AtomEnum::ATOM, &[a.TARGETS, a.UTF8_STRING])?;
            true
        } else if r.target == a.UTF8_STRING && self.text.is_some() {
            x.change_property8(PropMode::REPLACE, r.requestor, property, a.UTF8_STRING, text.as_bytes())?;
            true
        } else {
            false
        };
        let answer = SelectionNotifyEvent {
            response_type: SELECTION_NOTIFY_EVENT,
            sequence: 0,
            time: r.time,
            requestor: r.requestor,
            selection: r.selection,
            target: r.target,
            property: if given { property } else { x11rb::NONE },
        };
        x.send_event(false, r.requestor, EventMask::NO_EVENT, answer)?;
        Ok(())
    }
}
