//! The terminals of a live session for those who watch or take part: what they show now, what they show next, and who types.

use aerie_core::visit::ToShell;
use bytes::Bytes;
use std::collections::{BTreeMap, VecDeque};
use std::num::NonZeroU16;
use std::sync::{Mutex, MutexGuard, PoisonError};
use tokio::sync::{broadcast, mpsc};

/// Output of one terminal that is kept to draw its screen for whoever comes to watch. A screen hangs on what came last: of a program
/// that draws anew this is many times its screen.
const KEPT: usize = 256 << 10;
/// Pieces that a watcher may be behind; who is further behind gets the screen anew.
const BEHIND: usize = 256;
/// Pieces typed by a guest that wait for the machine.
const TYPED: usize = 64;
/// Largest screen that is drawn.
const MOST_CELLS: u16 = 500;

/// What a watcher is shown.
#[derive(Debug, Clone)]
pub(crate) enum Shown {
    Output(u32, Bytes),
    /// Columns and rows.
    Size(u32, u16, u16),
    Closed(u32),
    /// Who takes part, or who types, changed.
    People,
}

/// A terminal as it looks now: what draws it on an empty screen.
#[derive(Debug, Clone)]
pub(crate) struct Screen {
    pub(crate) channel: u32,
    pub(crate) columns: u16,
    pub(crate) rows: u16,
    pub(crate) drawn: Vec<u8>,
}

/// Somebody who was invited.
#[derive(Debug, Clone, PartialEq, Eq)]
pub(crate) struct Guest {
    pub(crate) person: String,
    /// Whether they may type.
    pub(crate) control: bool,
    pub(crate) by: String,
    /// How many of their windows look at it.
    pub(crate) here: u32,
}

#[derive(Debug)]
struct Terminal {
    columns: u16,
    rows: u16,
    kept: VecDeque<Bytes>,
    bytes: usize,
    typing: mpsc::Sender<ToShell>,
    /// Whose session it is, where they type at the console.
    owner: Option<String>,
}

#[derive(Debug)]
struct Inner {
    terminals: BTreeMap<u32, Terminal>,
    guests: Vec<Guest>,
    watchers: BTreeMap<String, u32>,
    /// Who types; none for the person whose session it is.
    keyboard: Option<String>,
    told: broadcast::Sender<Shown>,
}

/// What goes on at the terminals of one session.
#[derive(Debug)]
pub(crate) struct Stage(Mutex<Inner>);

impl Default for Stage {
    fn default() -> Self {
        let inner = Inner {
            terminals: BTreeMap::new(),
            guests: vec![],
            watchers: BTreeMap::new(),
            keyboard: None,
            told: broadcast::channel(BEHIND).0,
        };
        Self(Mutex::new(inner))
    }
}

impl Stage {
    fn lock(&self) -> MutexGuard<'_, Inner> {
        self.0.lock().unwrap_or_else(PoisonError::into_inner)
    }

    /// A terminal is there. What comes out of the receiver was typed by a guest.
    pub(crate) fn open(&self, channel: u32, size: (u16, u16)) -> mpsc::Receiver<ToShell> {
        self.add(channel, size, None)
    }

    /// A terminal is there into which whose session it is types at the console, as guests do.
    pub(crate) fn open_own(&self, channel: u32, size: (u16, u16), owner: &str) -> mpsc::Receiver<ToShell> {
        self.add(channel, size, Some(owner.into()))
    }

    fn add(&self, channel: u32, (columns, rows): (u16, u16), owner: Option<String>) -> mpsc::Receiver<ToShell> {
        let (typing, typed) = mpsc::channel(TYPED);
        self.lock().terminals.insert(channel, Terminal { columns, rows, kept: VecDeque::new(), bytes: 0, typing, owner });
        self.resize(channel, columns, rows);
        typed
    }

    pub(crate) fn resize(&self, channel: u32, columns: u16, rows: u16) {
        let mut inner = self.lock();
        if let Some(t) = inner.terminals.get_mut(&channel) {
            (t.columns, t.rows) = (columns, rows);
        }
        let _ = inner.told.send(Shown::Size(channel, columns, rows));
    }

    pub(crate) fn close(&self, channel: u32) {
        let mut inner = self.lock();
        inner.terminals.remove(&channel);
        let _ = inner.told.send(Shown::Closed(channel));
    }

    /// Takes what a terminal shows. Costs a count where nobody watches.
    pub(crate) fn handle_output(&self, channel: u32, bytes: &Bytes) {
        let mut inner = self.lock();
        let Some(t) = inner.terminals.get_mut(&channel) else { return };
        t.bytes += bytes.len();
        t.kept.push_back(bytes.clone());
        while t.bytes > KEPT && t.kept.len() > 1 {
            t.bytes -= t.kept.pop_front().map_or(0, |b| b.len());
        }
        if inner.told.receiver_count() > 0 {
            let _ = inner.told.send(Shown::Output(channel, bytes.clone()));
        }
    }

    /// What the terminals show now, and what comes next.
    pub(crate) fn watch(&self) -> (Vec<Screen>, broadcast::Receiver<Shown>) {
        let (kept, next) = {
            let inner = self.lock();
            let kept: Vec<_> = inner.terminals.iter().map(|(c, t)| (*c, t.columns, t.rows, t.kept.clone())).collect();
            (kept, inner.told.subscribe())
        };
        // Drawn without the lock: the bytes of the session do not wait for it.
        (kept.into_iter().map(|(channel, columns, rows, kept)| draw(channel, columns, rows, &kept)).collect(), next)
    }

    /// Invites somebody, or changes what they may.
    pub(crate) fn invite(&self, person: &str, control: bool, by: &str) {
        let mut inner = self.lock();
        match inner.guests.iter_mut().find(|g| g.person == person) {
            Some(g) => g.control = control,
            None => inner.guests.push(Guest { person: person.into(), control, by: by.into(), here: 0 }),
        }
        if !control && inner.keyboard.as_deref() == Some(person) {
            inner.keyboard = None;
        }
        let _ = inner.told.send(Shown::People);
    }

    /// Takes an invitation back; whether there was one.
    pub(crate) fn dismiss(&self, person: &str) -> bool {
        let mut inner = self.lock();
        let before = inner.guests.len();
        inner.guests.retain(|g| g.person != person);
        if inner.keyboard.as_deref() == Some(person) {
            inner.keyboard = None;
        }
        let _ = inner.told.send(Shown::People);
        before != inner.guests.len()
    }

    pub(crate) fn guest(&self, person: &str) -> Option<Guest> {
        self.lock().guests.iter().find(|g| g.person == person).cloned()
    }

    /// Those who were invited, those who watch, and who types.
    pub(crate) fn people(&self) -> (Vec<Guest>, Vec<String>, Option<String>) {
        let inner = self.lock();
        (inner.guests.clone(), inner.watchers.keys().cloned().collect(), inner.keyboard.clone())
    }

    /// A window of somebody looks at it; whether it is their first.
    pub(crate) fn come(&self, person: &str) -> bool {
        let mut inner = self.lock();
        let n = inner.watchers.entry(person.into()).or_default();
        *n += 1;
        let first = *n == 1;
        let _ = inner.told.send(Shown::People);
        first
    }

    /// It looks no longer; whether it was their last.
    pub(crate) fn go(&self, person: &str) -> bool {
        let mut inner = self.lock();
        let left = inner.watchers.get_mut(person).map_or(0, |n| {
            *n = n.saturating_sub(1);
            *n
        });
        if left == 0 {
            inner.watchers.remove(person);
            if inner.keyboard.as_deref() == Some(person) {
                inner.keyboard = None;
            }
        }
        let _ = inner.told.send(Shown::People);
        left == 0
    }

    /// Gives the keyboard to a guest who may type, or back; whether that changed anything.
    pub(crate) fn give_keyboard(&self, to: Option<&str>) -> bool {
        let mut inner = self.lock();
        let may = to.is_none_or(|p| inner.guests.iter().any(|g| g.person == p && g.control));
        let changed = may && inner.keyboard.as_deref() != to;
        if changed {
            inner.keyboard = to.map(Into::into);
            let _ = inner.told.send(Shown::People);
        }
        changed
    }

    /// Takes what somebody types who has the keyboard; false where they have not, or there is no such terminal. While a guest has it, a key of
    /// whose session it is takes it back, and does nothing else.
    pub(crate) fn handle_typed(&self, person: &str, channel: u32, bytes: Bytes) -> bool {
        let mut inner = self.lock();
        let owns = inner.terminals.get(&channel).is_some_and(|t| t.owner.as_deref() == Some(person));
        if owns && inner.keyboard.take().is_some() {
            let _ = inner.told.send(Shown::People);
            return true;
        }
        let has = owns || inner.keyboard.as_deref() == Some(person);
        has && inner.terminals.get(&channel).is_some_and(|t| t.typing.try_send(ToShell::Typed(bytes.into())).is_ok())
    }

    /// Whose session it is, and who types at the console, has a window of this size; false where it is not theirs. A size that is there already is
    /// told to nobody.
    pub(crate) fn handle_size(&self, person: &str, channel: u32, columns: u16, rows: u16) -> bool {
        let inner = self.lock();
        let own = inner.terminals.get(&channel).filter(|t| t.owner.as_deref() == Some(person));
        let size = ToShell::size(columns, rows);
        own.is_some_and(|t| size == ToShell::Size(t.columns, t.rows) || t.typing.try_send(size).is_ok())
    }
}

fn draw(channel: u32, columns: u16, rows: u16, kept: &VecDeque<Bytes>) -> Screen {
    let (columns, rows) = (columns.clamp(2, MOST_CELLS), rows.clamp(1, MOST_CELLS));
    let size = |n: u16| NonZeroU16::new(n).unwrap_or(NonZeroU16::MIN);
    let drawing = || {
        let mut parser = vt100::Parser::new(size(rows), size(columns), 0);
        kept.iter().for_each(|bytes| parser.process(bytes));
        parser.screen().state_formatted().into()
    };
    // What a machine sends is made by whoever works on it: should it lead the emulation astray, the last of it is shown as it is.
    let drawn = std::panic::catch_unwind(std::panic::AssertUnwindSafe(drawing)).unwrap_or_else(|_| {
        tracing::warn!("a terminal could not be drawn");
        kept.back().map(|b| b.to_vec()).unwrap_or_default()
    });
    Screen { channel, columns, rows, drawn }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn whoever_comes_late_sees_the_screen_as_it_is() {
        let stage = Stage::default();
        let _typed = stage.open(1, (20, 3));
        stage.handle_output(1, &Bytes::from_static(b"one\r\ntwo\r\nthree\r\nfour\x1b[2;1HTWO"));
        let (screens, mut next) = stage.watch();
        let mut parser = vt100::Parser::new(3.try_into().unwrap(), 20.try_into().unwrap(), 0);
        parser.process(&screens[0].drawn);
        assert_eq!(parser.screen().contents(), "two\nTWOee\nfour");
        assert_eq!((screens[0].columns, screens[0].rows, parser.screen().cursor_position()), (20, 3, (1, 3)));
        stage.handle_output(1, &Bytes::from_static(b"!"));
        assert!(matches!(next.try_recv(), Ok(Shown::Output(1, b)) if &b[..] == b"!"));
    }

    #[test]
    fn what_is_kept_has_a_limit() {
        let stage = Stage::default();
        let _typed = stage.open(1, (80, 24));
        for _ in 0..100 {
            stage.handle_output(1, &Bytes::from(vec![b'x'; 32 << 10]));
        }
        assert!(stage.lock().terminals[&1].bytes <= KEPT);
        // One piece that is larger by itself is kept: it is what the screen shows.
        stage.handle_output(1, &Bytes::from(vec![b'y'; KEPT + 1]));
        assert_eq!(stage.lock().terminals[&1].kept.len(), 1);
    }

    #[test]
    fn one_has_the_keyboard_and_only_those_who_may_get_it() {
        let stage = Stage::default();
        let mut typed = stage.open(7, (80, 24));
        stage.invite("arlo", true, "ines");
        stage.invite("piet", false, "ines");
        assert!(!stage.handle_typed("arlo", 7, Bytes::from_static(b"a")), "not before it was given");
        assert!(stage.give_keyboard(Some("arlo")) && !stage.give_keyboard(Some("piet")) && !stage.give_keyboard(Some("noa")));
        assert_eq!(stage.people().2.as_deref(), Some("arlo"));
        assert!(stage.handle_typed("arlo", 7, Bytes::from_static(b"a")) && !stage.handle_typed("piet", 7, Bytes::from_static(b"p")));
        assert_eq!(typed.try_recv().unwrap(), ToShell::Typed(b"a".to_vec()));
        stage.come("arlo");
        stage.come("arlo");
        assert!(!stage.go("arlo") && stage.people().2.is_some());
        assert!(stage.go("arlo") && stage.people().2.is_none(), "whoever leaves lets go of it");
        assert!(stage.give_keyboard(Some("arlo")) && stage.dismiss("arlo") && stage.people().2.is_none());
    }

    #[test]
    fn a_terminal_has_the_size_of_the_window_of_whose_it_is() {
        let stage = Stage::default();
        let mut typed = stage.open_own(1, (100, 30), "mira");
        let _of_a_client = stage.open(2, (80, 24));
        assert!(!stage.handle_size("nils", 1, 90, 40) && !stage.handle_size("mira", 2, 90, 40) && !stage.handle_size("mira", 3, 90, 40));
        assert!(stage.handle_size("mira", 1, 100, 30) && typed.try_recv().is_err(), "it has that size already");
        assert!(stage.handle_size("mira", 1, 0, 9999));
        assert_eq!(typed.try_recv().unwrap(), ToShell::Size(2, 500));
    }
}
