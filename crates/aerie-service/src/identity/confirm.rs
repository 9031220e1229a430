//! Sign-ins at the gateway that wait for a passkey in the browser.

use crate::keys::random;
use aerie_core::policy::Factors;
use jiff::{SignedDuration, Timestamp};
use std::collections::HashMap;
use std::net::IpAddr;
use std::sync::{Mutex, PoisonError};
use tokio::sync::watch;

/// How long the terminal waits.
const LIFE: SignedDuration = SignedDuration::from_mins(2);
/// Sign-ins that wait at most; and of one person.
const MOST: usize = 1000;
const MOST_OF_ONE: usize = 5;
/// Wrong numbers that end it: whoever opens a stranger's link knows none.
const TRIES: u8 = 3;
/// Letters and digits of the link; 40 bits, for two minutes, behind the brake on strangers.
const DIGITS: &[u8; 32] = b"23456789abcdefghjkmnpqrstuvwxyzo";
const LENGTH: usize = 8;

/// What became of it.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub(crate) enum Outcome {
    /// Nobody answered yet.
    Waiting,
    /// These factors were proved.
    Proved(Factors),
    /// It was refused, or the number was wrong too often.
    Refused,
}

/// A sign-in that waits.
#[derive(Debug, Clone)]
pub(crate) struct Pending {
    pub(crate) code: String,
    pub(crate) person: String,
    pub(crate) machine: String,
    pub(crate) from: IpAddr,
    /// Two digits that the terminal shows and the browser asks for.
    pub(crate) number: u8,
    pub(crate) made: Timestamp,
    /// Whether a passkey is demanded; else a security key that is touched.
    pub(crate) passkey: bool,
    tries: u8,
    outcome: watch::Sender<Outcome>,
}

impl Pending {
    fn is_good(&self, now: Timestamp) -> bool {
        now.duration_since(self.made).abs() < LIFE && *self.outcome.borrow() == Outcome::Waiting
    }
}

/// Every sign-in that waits.
#[derive(Default)]
pub(crate) struct Confirmations(Mutex<HashMap<String, Pending>>);

impl Confirmations {
    fn all(&self) -> std::sync::MutexGuard<'_, HashMap<String, Pending>> {
        self.0.lock().unwrap_or_else(PoisonError::into_inner)
    }

    /// Begins one; none where too many wait.
    pub(crate) fn begin(&self, person: &str, machine: &str, from: IpAddr, passkey: bool, now: Timestamp) -> Option<Pending> {
        let mut all = self.all();
        all.retain(|_, p| p.is_good(now));
        if all.len() >= MOST || all.values().filter(|p| p.person == person).count() >= MOST_OF_ONE {
            return None;
        }
        let chance = u64::from_le_bytes(random().ok()?);
        let digit = |i: usize| DIGITS.get(usize::try_from((chance >> (5 * i)) & 31).unwrap_or(0)).map_or('2', |b| char::from(*b));
        let code: String = (0..LENGTH).map(digit).collect();
        let number = u8::try_from(10 + (chance >> 40) % 90).unwrap_or(10);
        let pending = Pending {
            code: code.clone(),
            person: person.into(),
            machine: machine.into(),
            from,
            number,
            made: now,
            passkey,
            tries: 0,
            outcome: watch::Sender::new(Outcome::Waiting),
        };
        all.insert(code, pending.clone());
        Some(pending)
    }

    /// The one of that link, while it waits.
    pub(crate) fn find(&self, code: &str, now: Timestamp) -> Option<Pending> {
        self.all().get(code).filter(|p| p.is_good(now)).cloned()
    }

    /// Compares the number; three wrong ones refuse the sign-in.
    pub(crate) fn number(&self, code: &str, number: u8) -> bool {
        let mut all = self.all();
        let Some(pending) = all.get_mut(code) else { return false };
        if pending.number == number {
            return true;
        }
        pending.tries += 1;
        if pending.tries >= TRIES {
            pending.outcome.send_replace(Outcome::Refused);
            all.remove(code);
        }
        false
    }

    /// Ends one.
    pub(crate) fn answer(&self, code: &str, outcome: Outcome) -> bool {
        self.all().remove(code).is_some_and(|p| p.outcome.send_replace(outcome) == Outcome::Waiting)
    }
}

impl Pending {
    /// Waits for an answer, so long at most.
    pub(crate) async fn wait(&self, patience: std::time::Duration) -> Outcome {
        let mut seen = self.outcome.subscribe();
        let _ = tokio::time::timeout(patience, seen.wait_for(|o| *o != Outcome::Waiting)).await;
        *seen.borrow()
    }

    /// Whether the time is over.
    pub(crate) fn is_over(&self, now: Timestamp) -> bool {
        now.duration_since(self.made).abs() >= LIFE
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    const FROM: IpAddr = IpAddr::V4(std::net::Ipv4Addr::LOCALHOST);

    #[tokio::test]
    async fn the_terminal_goes_on_when_the_browser_answers_and_three_wrong_numbers_refuse() {
        let (all, now) = (Confirmations::default(), Timestamp::now());
        let a = all.begin("ines", "dome-east", FROM, true, now).unwrap();
        assert!(all.find(&a.code, now).is_some() && all.find("nothing", now).is_none());
        assert_eq!(a.wait(std::time::Duration::ZERO).await, Outcome::Waiting);
        assert!(all.number(&a.code, a.number));
        assert!(all.answer(&a.code, Outcome::Proved(Factors::NONE)));
        assert!(!all.answer(&a.code, Outcome::Refused));
        assert_eq!(a.wait(std::time::Duration::from_secs(60)).await, Outcome::Proved(Factors::NONE));
        let b = all.begin("ines", "dome-east", FROM, true, now).unwrap();
        for _ in 0..TRIES {
            assert!(!all.number(&b.code, b.number + 1));
        }
        assert_eq!(b.wait(std::time::Duration::from_secs(60)).await, Outcome::Refused);
        assert!(!all.number(&b.code, b.number));
    }

    #[test]
    fn it_ends_with_its_time_and_one_person_cannot_fill_the_room() {
        let (all, now) = (Confirmations::default(), Timestamp::now());
        let first = all.begin("ines", "m", FROM, true, now).unwrap();
        for _ in 1..MOST_OF_ONE {
            assert!(all.begin("ines", "m", FROM, true, now).is_some());
        }
        assert!(all.begin("ines", "m", FROM, true, now).is_none());
        assert!(all.begin("noor", "m", FROM, true, now).is_some());
        assert!(all.find(&first.code, now + LIFE).is_none());
        assert!(all.begin("ines", "m", FROM, true, now + LIFE).is_some());
    }
}
