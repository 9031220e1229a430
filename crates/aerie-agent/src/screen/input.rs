//! Presses keys and moves the pointer (the X test extension). Keysyms are what comes; which key gives them is looked up in the layout that is in
//! use here, and one that no key gives is put on a key that has none.

use super::{ScreenError, Shared};
use aerie_core::desktop::ScreenOrder;
use std::collections::BTreeMap;
use std::sync::Arc;
use std::sync::mpsc::Receiver;
use x11rb::connection::Connection as _;
use x11rb::protocol::xproto::{
    BUTTON_PRESS_EVENT, BUTTON_RELEASE_EVENT, ConnectionExt as _, KEY_PRESS_EVENT, KEY_RELEASE_EVENT, KeyButMask, MOTION_NOTIFY_EVENT,
};
use x11rb::protocol::xtest::ConnectionExt as _;

/// Keysyms from here on are of keys that write nothing: with them Shift is the person's own.
const NO_TEXT: u32 = 0xff00;
/// Left and right Shift.
const SHIFTS: [u32; 2] = [0xffe1, 0xffe2];
/// Keys that are pressed at a time at most.
const MOST_PRESSED: usize = 32;
/// Buttons: left, middle, right, and the four directions of a wheel.
const BUTTONS: u8 = 7;

/// Which key gives a keysym, and whether with Shift; none where it does not matter.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
struct Place {
    code: u8,
    shifted: Option<bool>,
}

/// The layout of the keyboard.
#[derive(Debug, Clone)]
struct Layout {
    first: u8,
    /// Keysyms of one key.
    per: usize,
    keysyms: Vec<u32>,
}

impl Layout {
    fn keys(&self) -> impl Iterator<Item = (u8, &[u32])> {
        self.keysyms.chunks(self.per.max(1)).zip(self.first..=u8::MAX).map(|(syms, code)| (code, syms))
    }

    /// Where a keysym is, without other keys than Shift: those of further levels are put elsewhere.
    fn place(&self, keysym: u32) -> Option<Place> {
        let at = |level: usize| self.keys().find(|(_, syms)| syms.get(level) == Some(&keysym)).map(|(code, _)| code);
        let plain = keysym < NO_TEXT;
        if let Some(code) = at(0) {
            // A key that has but one keysym gives it either way.
            let alone = self.keys().find(|(c, _)| *c == code).is_none_or(|(_, syms)| syms.get(1).is_none_or(|s| *s == 0 || *s == keysym));
            return Some(Place { code, shifted: (plain && !alone).then_some(false) });
        }
        at(1).map(|code| Place { code, shifted: plain.then_some(true) })
    }

    /// Keys that give nothing.
    fn free(&self) -> Vec<u8> {
        self.keys().filter(|(_, syms)| syms.iter().all(|s| *s == 0)).map(|(code, _)| code).collect()
    }
}

/// Acts on the screen.
pub(super) struct Hands {
    shared: Arc<Shared>,
    layout: Layout,
    /// Keys that gave nothing at first, and which of them is next.
    free: Vec<u8>,
    next: usize,
    pressed: BTreeMap<u32, u8>,
    buttons: u8,
}

impl Hands {
    pub(super) fn new(shared: Arc<Shared>) -> Result<Self, ScreenError> {
        shared.x.xtest_get_version(2, 2)?.reply()?;
        let setup = shared.x.setup();
        let (first, last) = (setup.min_keycode, setup.max_keycode);
        let mapping = shared.x.get_keyboard_mapping(first, last - first + 1)?.reply()?;
        let layout = Layout { first, per: mapping.keysyms_per_keycode.into(), keysyms: mapping.keysyms };
        let free = layout.free();
        Ok(Self { shared, layout, free, next: 0, pressed: BTreeMap::new(), buttons: 0 })
    }

    /// Does what it is told until nobody tells it anything; then nothing stays pressed, and the layout is as it was.
    pub(super) fn act(mut self, told: &Receiver<ScreenOrder>) {
        while let Ok(order) = told.recv() {
            if let Err(e) = self.follow(order) {
                tracing::debug!(error = %e, "nothing is pressed any longer");
                break;
            }
        }
        let _ = self.let_go();
    }

    fn follow(&mut self, order: ScreenOrder) -> Result<(), ScreenError> {
        match order {
            ScreenOrder::Key(keysym, true) => self.press(keysym)?,
            ScreenOrder::Key(keysym, false) => {
                if let Some(code) = self.pressed.remove(&keysym) {
                    self.fake(KEY_RELEASE_EVENT, code)?;
                }
            }
            ScreenOrder::At(x, y, buttons) => {
                self.shared.x.xtest_fake_input(MOTION_NOTIFY_EVENT, 0, 0, self.shared.root, x as i16, y as i16, 0)?;
                self.click(buttons)?;
            }
            ScreenOrder::Next(_) | ScreenOrder::Copied(_) | ScreenOrder::Paste(_) => {}
        }
        Ok(self.shared.x.flush()?)
    }

    fn fake(&self, kind: u8, detail: u8) -> Result<(), ScreenError> {
        self.shared.x.xtest_fake_input(kind, detail, 0, self.shared.root, 0, 0, 0)?;
        Ok(())
    }

    fn click(&mut self, buttons: u8) -> Result<(), ScreenError> {
        for n in 0..BUTTONS {
            let (was, is) = (self.buttons >> n & 1, buttons >> n & 1);
            if was != is {
                self.fake(if is == 1 { BUTTON_PRESS_EVENT } else { BUTTON_RELEASE_EVENT }, n + 1)?;
            }
        }
        self.buttons = buttons;
        Ok(())
    }

    fn press(&mut self, keysym: u32) -> Result<(), ScreenError> {
        // A key that is held comes again and again.
        if let Some(code) = self.pressed.get(&keysym) {
            return self.fake(KEY_PRESS_EVENT, *code);
        }
        if self.pressed.len() >= MOST_PRESSED {
            return Ok(());
        }
        let place = match self.layout.place(keysym) {
            Some(place) => place,
            None => match self.bind(keysym)? {
                Some(code) => Place { code, shifted: None },
                None => return Ok(()),
            },
        };
        let held = self.shifts_held()?;
        match place.shifted {
            Some(true) if held.is_empty() => {
                let shift = self.layout.place(SHIFTS[0]).map(|p| p.code);
                self.around(KEY_PRESS_EVENT, shift.as_slice(), place.code)?;
            }
            Some(false) if !held.is_empty() => self.around(KEY_RELEASE_EVENT, &held, place.code)?,
            _ => self.fake(KEY_PRESS_EVENT, place.code)?,
        }
        self.pressed.insert(keysym, place.code);
        Ok(())
    }

    /// Presses a key while others are for a moment as they are not.
    fn around(&self, kind: u8, others: &[u8], code: u8) -> Result<(), ScreenError> {
        let back = if kind == KEY_PRESS_EVENT { KEY_RELEASE_EVENT } else { KEY_PRESS_EVENT };
        others.iter().try_for_each(|c| self.fake(kind, *c))?;
        self.fake(KEY_PRESS_EVENT, code)?;
        others.iter().try_for_each(|c| self.fake(back, *c))
    }

    /// The Shift keys that are down, by whoever pressed them.
    fn shifts_held(&self) -> Result<Vec<u8>, ScreenError> {
        let mask = self.shared.x.query_pointer(self.shared.root)?.reply()?.mask;
        if !mask.contains(KeyButMask::SHIFT) {
            return Ok(vec![]);
        }
        let down = self.shared.x.query_keymap()?.reply()?.keys;
        let is_down = |code: &u8| down.get(usize::from(code / 8)).is_some_and(|b| b >> (code % 8) & 1 == 1);
        Ok(SHIFTS.iter().filter_map(|s| self.layout.place(*s)).map(|p| p.code).filter(is_down).collect())
    }

    /// Puts a keysym on a key that gives nothing.
    fn bind(&mut self, keysym: u32) -> Result<Option<u8>, ScreenError> {
        if self.free.is_empty() {
            return Ok(None);
        }
        let code = self.free.get(self.next % self.free.len()).copied().unwrap_or_default();
        self.next += 1;
        self.set(code, keysym)?;
        Ok(Some(code))
    }

    fn set(&mut self, code: u8, keysym: u32) -> Result<(), ScreenError> {
        let syms = vec![keysym; self.layout.per];
        self.shared.x.change_keyboard_mapping(1, code, self.layout.per as u8, &syms)?.check()?;
        let at = usize::from(code - self.layout.first) * self.layout.per;
        if let Some(place) = self.layout.keysyms.get_mut(at..at + self.layout.per) {
            place.copy_from_slice(&syms);
        }
        Ok(())
    }

    fn let_go(&mut self) -> Result<(), ScreenError> {
        for code in std::mem::take(&mut self.pressed).into_values() {
            self.fake(KEY_RELEASE_EVENT, code)?;
        }
        self.click(0)?;
        for code in std::mem::take(&mut self.free).into_iter().take(self.next) {
            self.set(code, 0)?;
        }
        Ok(self.shared.x.flush()?)
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn a_keysym_is_found_in_the_layout_that_is_in_use() {
        // A German 7, a letter, Return, Shift, a key of further levels, and one without anything.
        let rows: [[u32; 4]; 6] = [
            [u32::from('7'), u32::from('/'), u32::from('{'), 0],
            [u32::from('a'), u32::from('A'), 0, 0],
            [0xff0d, 0, 0, 0],
            [SHIFTS[0], 0, 0, 0],
            [u32::from('q'), u32::from('Q'), u32::from('@'), 0],
            [0; 4],
        ];
        let layout = Layout { first: 10, per: 4, keysyms: rows.concat() };
        let place = |c: char| layout.place(u32::from(c));
        assert_eq!(place('7'), Some(Place { code: 10, shifted: Some(false) }));
        assert_eq!(place('/'), Some(Place { code: 10, shifted: Some(true) }));
        assert_eq!(place('A'), Some(Place { code: 11, shifted: Some(true) }));
        assert_eq!(layout.place(0xff0d), Some(Place { code: 12, shifted: None }));
        assert_eq!((place('@'), place('ß'), layout.free()), (None, None, vec![15]));
    }
}
