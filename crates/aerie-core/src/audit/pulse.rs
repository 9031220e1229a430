//! Whether what comes in by itself still does.

use jiff::{SignedDuration, Timestamp};

/// A log is known for how it writes after so long.
const KNOWN_AFTER: SignedDuration = SignedDuration::from_hours(24);
/// No log is silent sooner.
const LEAST: SignedDuration = SignedDuration::from_hours(1);
/// So many times its longest pause is no pause any more.
const TIMES: i32 = 4;

/// How the log of one machine comes in.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub struct Pulse {
    /// When the first line came.
    pub first: Timestamp,
    /// When the last did.
    pub last: Timestamp,
    /// The longest pause between two.
    pub longest: SignedDuration,
}

impl Pulse {
    /// Of a log whose first line comes now.
    pub fn begin(now: Timestamp) -> Self {
        Self { first: now, last: now, longest: SignedDuration::ZERO }
    }

    /// Takes that something came. A pause that was a silence makes the log no slower: it must not hide the next one.
    pub fn handle(&mut self, now: Timestamp) {
        if now <= self.last {
            return;
        }
        if self.silent_since(now).is_none() {
            self.longest = self.longest.max(now.duration_since(self.last));
        }
        self.last = now;
    }

    /// Since when nothing comes that should; none while it may be a pause.
    pub fn silent_since(&self, now: Timestamp) -> Option<Timestamp> {
        let known = self.last.duration_since(self.first) >= KNOWN_AFTER;
        let patience = self.longest.checked_mul(TIMES).unwrap_or(SignedDuration::MAX).max(LEAST);
        (known && now.duration_since(self.last) > patience).then_some(self.last)
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    fn t(minutes: i64) -> Timestamp {
        Timestamp::from_second(1_780_000_000 + minutes * 60).unwrap()
    }

    #[test]
    fn a_log_is_silent_after_four_of_its_longest_pauses() {
        let mut pulse = Pulse::begin(t(0));
        for at in (20..=24 * 60).step_by(20) {
            pulse.handle(t(at));
        }
        let day = 24 * 60;
        assert_eq!(pulse.silent_since(t(day + 80)), None);
        assert_eq!(pulse.silent_since(t(day + 81)), Some(t(day)));
        pulse.handle(t(day + 600));
        assert_eq!((pulse.longest, pulse.silent_since(t(day + 680))), (SignedDuration::from_mins(20), None));
        assert_eq!(pulse.silent_since(t(day + 681)), Some(t(day + 600)));
    }

    #[test]
    fn nothing_is_said_of_a_log_that_is_new_or_that_writes_all_the_time() {
        let mut pulse = Pulse::begin(t(0));
        pulse.handle(t(5));
        assert_eq!(pulse.silent_since(t(100_000)), None);
        let mut busy = Pulse { first: t(0), last: t(24 * 60), longest: SignedDuration::from_secs(1) };
        assert_eq!(busy.silent_since(t(25 * 60)), None);
        assert_eq!(busy.silent_since(t(25 * 60 + 1)), Some(t(24 * 60)));
        // A clock that goes back is no line.
        busy.handle(t(0));
        assert_eq!(busy.last, t(24 * 60));
    }
}
