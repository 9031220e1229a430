use jiff::{SignedDuration, Timestamp};
use zeroize::Zeroizing;

/// How PINs are made and what may be tried.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub struct PinRules {
    /// Digits, 6 to 12.
    pub digits: u8,
    /// How long one is good.
    pub lifetime: SignedDuration,
    /// Wrong tries that end it.
    pub tries: u8,
    /// Wrong tries in the whole service within [`PinRules::WINDOW`] after which nobody may try until they have aged.
    pub everywhere: u16,
}

impl PinRules {
    /// The time over which wrong tries in the whole service are counted.
    pub const WINDOW: SignedDuration = SignedDuration::from_mins(10);
}

impl Default for PinRules {
    fn default() -> Self {
        Self { digits: 8, lifetime: SignedDuration::from_mins(10), tries: 5, everywhere: 100 }
    }
}

/// A PIN of `digits` decimal digits from uniform chance. The rest of the division by a power of ten favours small numbers by
/// less than one in 10⁷ of their chance for 12 digits, and by less for fewer.
pub fn pin_of(chance: u64, digits: u8) -> Zeroizing<String> {
    let digits = usize::from(digits.clamp(4, 12));
    let n = chance % 10u64.pow(u32::try_from(digits).unwrap_or(8));
    Zeroizing::new(format!("{n:0digits$}"))
}

/// The digits of what somebody typed as a PIN, without blanks and hyphens; none where it has anything else or is too long.
pub fn pin_form(typed: &str) -> Option<Zeroizing<String>> {
    let mut form = Zeroizing::new(String::new());
    for c in typed.chars().filter(|c| !c.is_whitespace() && *c != '-') {
        if !c.is_ascii_digit() || form.len() == 12 {
            return None;
        }
        form.push(c);
    }
    (form.len() >= 4).then_some(form)
}

/// What is known of a PIN besides its hash.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub struct PinState {
    /// When it was made.
    pub made: Timestamp,
    /// When it ends; none for a standing one.
    pub ends: Option<Timestamp>,
    /// Wrong tries that are left.
    pub tries_left: u8,
    /// When it was used; a standing one never is.
    pub used: Option<Timestamp>,
}

impl PinState {
    /// Whether it can be tried. One that seems to be made in the future is not good: the clock went back, and its time must
    /// not begin again.
    pub fn is_live(&self, now: Timestamp) -> bool {
        let ended = self.ends.is_some_and(|e| now >= e);
        let later = self.ends.is_some() && self.made > now + SignedDuration::from_mins(1);
        !ended && !later && self.tries_left > 0 && self.used.is_none()
    }
}

/// Wrong tries of the whole service within a window: who sprays over many PINs meets this before anything else.
#[derive(Debug, Default)]
pub struct SprayBrake {
    /// Instants of wrong tries, oldest first; never more than the limit.
    wrong: std::collections::VecDeque<Timestamp>,
}

impl SprayBrake {
    /// How long nobody may try; none where one may now.
    pub fn wait(&mut self, rules: &PinRules, now: Timestamp) -> Option<SignedDuration> {
        // An instant in the future is one from before the clock went back: it counts as now.
        self.wrong.iter_mut().for_each(|t| *t = (*t).min(now));
        while self.wrong.front().is_some_and(|t| now.duration_since(*t) >= PinRules::WINDOW) {
            self.wrong.pop_front();
        }
        let over = self.wrong.len() >= usize::from(rules.everywhere);
        let oldest = self.wrong.front().filter(|_| over)?;
        Some(PinRules::WINDOW - now.duration_since(*oldest))
    }

    /// Notes a wrong try.
    pub fn handle_wrong(&mut self, rules: &PinRules, now: Timestamp) {
        if self.wrong.len() >= usize::from(rules.everywhere) {
            self.wrong.pop_front();
        }
        self.wrong.push_back(now);
    }
}

/// The chance that a guesser hits any of `live` PINs within `during`, who tries as fast as the brake lets them and never tries
/// the same number twice: guesses × live PINs ÷ numbers.
///
/// A wrong number is nobody's: it counts against the whole service, and against the PIN of the visit whose link was opened.
pub fn chance_of_a_hit(rules: &PinRules, live: u32, during: SignedDuration) -> f64 {
    let windows = during.as_secs_f64() / PinRules::WINDOW.as_secs_f64();
    let guesses = f64::from(rules.everywhere) * windows.max(1.0);
    let numbers = 10f64.powi(i32::from(rules.digits));
    (guesses * f64::from(live) / numbers).min(1.0)
}

#[cfg(test)]
mod tests {
    use super::*;

    fn t(s: i64) -> Timestamp {
        Timestamp::from_second(1_780_000_000 + s).unwrap()
    }

    #[test]
    fn a_pin_has_its_digits_and_is_read_however_it_is_typed() {
        assert_eq!(*pin_of(7, 8), "00000007");
        assert_eq!(pin_of(u64::MAX, 12).len(), 12);
        assert_eq!(*pin_of(1_234_567_890, 8), "34567890");
        assert_eq!(pin_form(" 3456-7890 ").as_deref().map(String::as_str), Some("34567890"));
        for odd in ["", "123", "1234567890123", "12a4", "\u{0661}\u{0662}\u{0663}\u{0664}"] {
            assert!(pin_form(odd).is_none(), "{odd}");
        }
    }

    #[test]
    fn a_pin_ends_with_its_time_its_tries_and_its_use() {
        let live = PinState { made: t(0), ends: Some(t(600)), tries_left: 5, used: None };
        assert!(live.is_live(t(0)) && live.is_live(t(599)));
        assert!(!live.is_live(t(600)));
        assert!(!PinState { tries_left: 0, ..live }.is_live(t(1)));
        assert!(!PinState { used: Some(t(1)), ..live }.is_live(t(2)));
        // The clock goes back an hour: the ten minutes do not become seventy.
        assert!(!live.is_live(t(-3600)));
        // A standing one has no end, and the clock is no matter.
        assert!(PinState { ends: None, ..live }.is_live(t(-3600)));
    }

    #[test]
    fn spraying_is_braked_for_everybody_and_not_for_ever() {
        let (rules, mut brake) = (PinRules { everywhere: 3, ..PinRules::default() }, SprayBrake::default());
        for i in 0..3 {
            assert_eq!(brake.wait(&rules, t(i)), None);
            brake.handle_wrong(&rules, t(i));
        }
        assert_eq!(brake.wait(&rules, t(3)), Some(SignedDuration::from_secs(597)));
        // A clock that goes back does not lengthen the wait beyond the window.
        assert_eq!(brake.wait(&rules, t(-3600)), Some(PinRules::WINDOW));
        assert_eq!(brake.wait(&rules, t(-3000)), None);
    }

    #[test]
    fn the_documented_chance_is_the_computed_one() {
        let rules = PinRules::default();
        // One live PIN over its ten minutes; fifty at once over a day.
        assert!((chance_of_a_hit(&rules, 1, rules.lifetime) - 1e-6).abs() < 1e-12);
        assert!((chance_of_a_hit(&rules, 50, SignedDuration::from_hours(24)) - 0.0072).abs() < 1e-9);
    }
}
