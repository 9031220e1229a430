//! What stands for a text in what detections remember: 128 bits under two secrets that are made anew each time. Texts that strangers
//! choose, addresses and names, cost no memory of their own, and cannot be chosen so that two of them fall together.

use super::signal::{Field, Signal};
use jiff::tz::TimeZone;
use std::collections::hash_map::RandomState;
use std::hash::{BuildHasher, Hasher};

/// What makes signals belong together.
pub(super) type Key = u128;

/// An odd number, the golden ratio's first 128 bits: multiplied by it, keys of several fields depend on their order.
const MIX: u128 = 0x9e37_79b9_7f4a_7c15_f39c_c060_5ced_c835;

/// Turns texts into what stands for them.
pub(super) struct Hashing {
    secrets: [RandomState; 2],
    /// The machine of the last signal: signals come in runs.
    machine: (Box<str>, Key),
}

/// What was hashed of one signal, so that several detections do it once.
#[derive(Default)]
pub(super) struct Once {
    source: Option<Key>,
    account: Option<Key>,
}

impl Default for Hashing {
    fn default() -> Self {
        Self { secrets: [RandomState::new(), RandomState::new()], machine: ("".into(), 0) }
    }
}

impl Hashing {
    fn text(&self, text: &str) -> Key {
        let [high, low] = &self.secrets;
        Key::from(high.hash_one(text)) << 64 | Key::from(low.hash_one(text))
    }

    /// What stands for a field of a signal; none where it is not known.
    pub(super) fn field(&mut self, field: Field, signal: &Signal<'_>, zone: &TimeZone, once: &mut Once) -> Option<Key> {
        let known = |text: &str| !text.is_empty();
        match field {
            Field::Machine if known(signal.machine) => {
                if *self.machine.0 != *signal.machine {
                    self.machine = (signal.machine.into(), self.text(signal.machine));
                }
                Some(self.machine.1)
            }
            Field::Source if known(signal.source) => Some(*once.source.get_or_insert_with(|| self.text(signal.source))),
            Field::Account if known(signal.account) => Some(*once.account.get_or_insert_with(|| self.text(signal.account))),
            Field::Machine | Field::Source | Field::Account => None,
            other => Some(signal.text(other, zone)).filter(|t| known(t)).map(|t| self.text(&t)),
        }
    }

    /// What makes a signal belong together with others; none where a part of it is not known.
    pub(super) fn key(&mut self, by: &[Field], signal: &Signal<'_>, zone: &TimeZone, once: &mut Once) -> Option<Key> {
        by.iter().try_fold(MIX, |key, field| Some((key.rotate_left(59) ^ self.field(*field, signal, zone, once)?).wrapping_mul(MIX)))
    }
}

/// A map's hasher for keys that are as good as chance already.
#[derive(Debug, Default, Clone, Copy)]
pub(super) struct Taken(u64);

impl Hasher for Taken {
    fn finish(&self) -> u64 {
        self.0
    }

    fn write(&mut self, bytes: &[u8]) {
        // Keys alone are hashed, by the method below.
        bytes.iter().for_each(|b| self.0 = self.0.rotate_left(8) ^ u64::from(*b));
    }

    fn write_u128(&mut self, key: u128) {
        self.0 = (key >> 64) as u64 ^ key as u64;
    }
}

impl BuildHasher for Taken {
    type Hasher = Self;

    fn build_hasher(&self) -> Self {
        Self::default()
    }
}

#[cfg(test)]
mod tests {
    use super::super::signal::What;
    use super::*;

    #[test]
    fn keys_depend_on_every_field_and_their_order_and_need_each() {
        let at = "2026-11-23T03:10:00Z".parse().unwrap();
        let mut hashing = Hashing::default();
        let mut key = |source, account, machine, by: &[Field]| {
            let signal = Signal { source, account, ..Signal::new(What::Failure, at, machine) };
            hashing.key(by, &signal, &TimeZone::UTC, &mut Once::default())
        };
        use Field::{Account, Machine, Network, Source};
        let all = [Source, Account, Machine];
        let one = key("10.0.0.1", "root", "dome", &all);
        assert_eq!(one, key("10.0.0.1", "root", "dome", &all));
        let others = [
            key("10.0.0.2", "root", "dome", &all),
            key("10.0.0.1", "rooa", "dome", &all),
            key("10.0.0.1", "root", "dome-2", &all),
            key("10.0.0.1", "root", "dome", &[Account, Source, Machine]),
            key("10.0.0.1", "root", "dome", &[Source, Account]),
            key("root", "10.0.0.1", "dome", &all),
        ];
        assert!(others.iter().all(|o| o.is_some() && *o != one));
        assert_eq!(key("10.0.0.1", "x", "m", &[Network]), key("10.0.0.9", "y", "n", &[Network]));
        assert_eq!((key("", "root", "dome", &all), key("10.0.0.1", "root", "", &all)), (None, None));
    }

    #[test]
    fn another_time_the_same_text_is_another_key() {
        let (a, b) = (Hashing::default(), Hashing::default());
        assert_ne!(a.text("203.0.113.9"), b.text("203.0.113.9"));
    }
}
