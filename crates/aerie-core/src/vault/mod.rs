//! Credentials on machines that nobody sees: how one is changed so that no failure on the way locks anybody out. And the file in which the
//! service's own keys are kept.

mod key_file;
mod rotation;

pub use key_file::{KeyFile, KeyFileFault, SealedKey};
pub use rotation::{Ended, Fault, Phase, Rotation, Step, Which};

use jiff::{SignedDuration, Timestamp};
use serde::{Deserialize, Serialize};

/// What is kept for an account.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Hash, Serialize, Deserialize)]
#[serde(rename_all = "lowercase")]
pub enum SecretKind {
    /// A password.
    Password,
    /// An SSH key.
    Key,
}

impl SecretKind {
    /// Its word.
    pub fn word(self) -> &'static str {
        match self {
            Self::Password => "password",
            Self::Key => "key",
        }
    }

    /// The kind of that word.
    pub fn from_word(word: &str) -> Option<Self> {
        [Self::Password, Self::Key].into_iter().find(|k| k.word() == word)
    }
}

/// When a credential is changed.
#[derive(Debug, Clone, Copy, Default, PartialEq, Eq, Serialize, Deserialize)]
#[serde(default, deny_unknown_fields)]
pub struct Schedule {
    /// After each session that used it, and after each check-out.
    pub after_use: bool,
    /// Every so many days; 0 for never.
    pub days: u32,
}

/// How long after a failure it is tried again.
const RETRY: SignedDuration = SignedDuration::from_mins(15);

impl Schedule {
    /// Whether it is time. `used` is when it was last used or seen by somebody; nothing is changed while it is in use.
    pub fn is_due(&self, changed: Timestamp, used: Option<Timestamp>, in_use: bool, failed: Option<Timestamp>, now: Timestamp) -> bool {
        let soon = failed.is_some_and(|f| now.duration_since(f) < RETRY);
        let by_use = self.after_use && used.is_some_and(|u| u > changed);
        let by_age = self.days > 0 && now.duration_since(changed) >= SignedDuration::from_hours(24 * i64::from(self.days));
        !in_use && !soon && (by_use || by_age)
    }
}

/// Characters of passwords that are made: none that are easily confused or that a shell would touch. 62 minus those, so that 24
/// of them have more than 135 bits.
const LETTERS: &[u8] = b"ABCDEFGHJKLMNPQRSTUVWXYZabcdefghijkmnpqrstuvwxyz23456789";
/// Characters of a password that is made.
const LENGTH: usize = 24;

/// A password of random bytes, none where they do not suffice: bytes that would make some letters likelier are passed over.
pub fn password_of(random: &[u8]) -> Option<zeroize::Zeroizing<String>> {
    let fair = 256 - 256 % LETTERS.len();
    let letters = random.iter().filter(|b| usize::from(**b) < fair).filter_map(|b| LETTERS.get(usize::from(*b) % LETTERS.len()));
    let password: String = letters.take(LENGTH).map(|b| char::from(*b)).collect();
    (password.len() == LENGTH).then(|| password.into())
}

/// Whether a text can be an account's name on a machine: it is given to commands there.
pub fn is_account(name: &str) -> bool {
    let plain = |c: char| c.is_ascii_lowercase() || c.is_ascii_digit() || c == '_';
    name.len() <= 32
        && name.starts_with(|c: char| c.is_ascii_lowercase() || c == '_')
        && name.chars().all(|c| plain(c) || c == '-' || c == '.')
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn changes_come_when_they_are_due() {
        let now = Timestamp::from_second(1_780_000_000).unwrap();
        let ago = |h| now - SignedDuration::from_hours(h);
        let s = Schedule { after_use: true, days: 30 };
        assert!(!s.is_due(ago(1), None, false, None, now));
        assert!(s.is_due(ago(2), Some(ago(1)), false, None, now));
        assert!(!s.is_due(ago(2), Some(ago(1)), true, None, now));
        assert!(!s.is_due(ago(2), Some(ago(3)), false, None, now));
        assert!(s.is_due(ago(24 * 30), None, false, None, now));
        assert!(!s.is_due(ago(24 * 30), None, false, Some(now - SignedDuration::from_mins(14)), now));
        assert!(s.is_due(ago(24 * 30), None, false, Some(now - SignedDuration::from_mins(15)), now));
        assert!(!Schedule::default().is_due(ago(24 * 3000), Some(ago(1)), false, None, now));
    }

    #[test]
    fn passwords_are_long_and_even() {
        let all: Vec<u8> = (0..=255).collect();
        let password = password_of(&all).unwrap();
        assert_eq!(password.len(), 24);
        assert!(password_of(&[255; 100]).is_none());
        assert!(password_of(&[1; 23]).is_none());
        assert!(!LETTERS.iter().any(|b| b"0OIl1".contains(b)));
    }

    #[test]
    fn account_names_are_harmless() {
        for good in ["root", "operator", "_apt", "a-b.c"] {
            assert!(is_account(good));
        }
        for bad in ["", "-rf", "a b", "a;b", "a:b", "A", "$(x)", &"a".repeat(33), "a\n"] {
            assert!(!is_account(bad), "{bad}");
        }
    }
}
