use crate::policy::{Factor, Factors, Proofs};
use jiff::{SignedDuration, Timestamp};

/// How far the clock may go back before somebody must sign in again.
const SLACK: SignedDuration = SignedDuration::from_mins(1);

/// How long one stays signed in at the console or with the client.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub struct SignedInLimits {
    /// Without a request.
    pub idle: SignedDuration,
    /// In all (SP 800-63B-4 section 2.2.3: 24 hours at most for AAL2, 12 for AAL3).
    pub lifetime: SignedDuration,
    /// How recently a factor that cannot be guessed must have been proved for what changes how people sign in and what they
    /// may do.
    pub fresh: SignedDuration,
}

impl Default for SignedInLimits {
    fn default() -> Self {
        Self { idle: SignedDuration::from_mins(30), lifetime: SignedDuration::from_hours(12), fresh: SignedDuration::from_mins(15) }
    }
}

/// How far somebody came with signing in.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Hash)]
pub enum Stage {
    /// A password was right and a second factor is awaited. Nothing else can be done.
    Proving,
    /// Everything that they have was proved, and they must enrol more before anything else.
    Enrolling,
    /// Signed in.
    Full,
}

impl Stage {
    /// Every stage.
    pub const ALL: [Stage; 3] = [Self::Proving, Self::Enrolling, Self::Full];

    /// The word for it, as stored and shown.
    pub fn word(self) -> &'static str {
        match self {
            Self::Proving => "proving",
            Self::Enrolling => "enrolling",
            Self::Full => "full",
        }
    }

    /// The stage of that word.
    pub fn from_word(word: &str) -> Option<Self> {
        Self::ALL.into_iter().find(|s| s.word() == word)
    }

    /// Where somebody stands with what they proved, who has these factors enrolled; `demanded` where a second factor must be
    /// enrolled before anything else.
    pub fn after(proved: Factors, enrolled: Factors, demanded: bool) -> Self {
        let second = |f: Factors| f.contains(Factor::Code) || f.contains(Factor::Passkey) || f.contains(Factor::SecurityKey);
        match (second(proved), second(enrolled)) {
            // Whoever came in with a code that an administrator gave them has still nothing of their own.
            (_, false) if demanded => Self::Enrolling,
            (false, true) => Self::Proving,
            (true, _) | (false, false) => Self::Full,
        }
    }
}

/// How long a password alone stays good while the second factor is awaited.
pub const PROVING: SignedDuration = SignedDuration::from_mins(5);

/// Somebody who signed in at the console or with the client: what they proved and when, and how long that counts.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub struct SignedIn {
    /// How far they came.
    pub stage: Stage,
    /// Factors, and when each was proved.
    pub proofs: Proofs,
    /// When they signed in.
    pub began: Timestamp,
    /// The last request.
    pub last: Timestamp,
    /// When it ends at the latest, whatever the limits become.
    pub ends: Timestamp,
}

impl SignedIn {
    /// Begins now.
    pub fn begin(stage: Stage, proofs: Proofs, limits: &SignedInLimits, now: Timestamp) -> Self {
        let lifetime = if stage == Stage::Proving { PROVING } else { limits.lifetime };
        Self { stage, proofs, began: now, last: now, ends: now + lifetime }
    }

    /// Whether it still counts. A clock that went back ends it: time that was lived through must not come again.
    pub fn is_good(&self, limits: &SignedInLimits, now: Timestamp) -> bool {
        let over = now >= self.ends.min(self.began + limits.lifetime);
        let idle = now.duration_since(self.last) >= limits.idle;
        let back = self.began > now + SLACK || self.last > now + SLACK;
        !over && !idle && !back
    }

    /// When it will end if nothing is asked.
    pub fn until(&self, limits: &SignedInLimits) -> Timestamp {
        self.ends.min(self.began + limits.lifetime).min(self.last + limits.idle)
    }

    /// Whether a factor that cannot be guessed or typed off was proved lately. A proof in the future counts for nothing.
    pub fn is_fresh(&self, limits: &SignedInLimits, now: Timestamp) -> bool {
        let lately = |f| self.proofs.when(f).is_some_and(|at| at <= now + SLACK && now.duration_since(at) < limits.fresh);
        [Factor::Code, Factor::Passkey, Factor::SecurityKey].into_iter().any(lately)
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    fn t(minutes: i64) -> Timestamp {
        Timestamp::from_second(1_780_000_000 + minutes * 60).unwrap()
    }

    fn signed_in() -> (SignedIn, SignedInLimits) {
        let limits = SignedInLimits::default();
        let proofs = Proofs::at(Factors::of([Factor::Password, Factor::Code]), t(0));
        (SignedIn::begin(Stage::Full, proofs, &limits, t(0)), limits)
    }

    #[test]
    fn it_ends_when_idle_and_in_the_end_and_when_the_clock_goes_back() {
        let (s, limits) = signed_in();
        assert!(s.is_good(&limits, t(29)) && !s.is_good(&limits, t(30)));
        let used = SignedIn { last: t(719), ..s };
        assert!(used.is_good(&limits, t(719)) && !used.is_good(&limits, t(720)));
        assert_eq!((s.until(&limits), used.until(&limits)), (t(30), t(720)));
        assert!(!s.is_good(&limits, t(-60)));
        // Limits that were made shorter count at once; longer ones do not revive.
        assert!(!used.is_good(&SignedInLimits { lifetime: SignedDuration::from_hours(1), ..limits }, t(719)));
        assert!(!used.is_good(&SignedInLimits { lifetime: SignedDuration::from_hours(24), ..limits }, t(720)));
    }

    #[test]
    fn a_password_alone_is_good_for_minutes() {
        let (_, limits) = signed_in();
        let s = SignedIn::begin(Stage::Proving, Proofs::default(), &limits, t(0));
        assert!(s.is_good(&limits, t(4)) && !s.is_good(&limits, t(5)));
    }

    #[test]
    fn proofs_age() {
        let (s, limits) = signed_in();
        assert!(s.is_fresh(&limits, t(14)) && !s.is_fresh(&limits, t(15)));
        assert!(!s.is_fresh(&limits, t(-60)));
        let password = SignedIn { proofs: Proofs::at(Factors::of([Factor::Password, Factor::Key]), t(0)), ..s };
        assert!(!password.is_fresh(&limits, t(1)));
    }

    #[test]
    fn the_stage_follows_from_what_is_proved_and_enrolled() {
        use Factor::{Code, Key, Passkey, Password, SecurityKey};
        let f = |list: &[Factor]| Factors::of(list.iter().copied());
        let table = [
            (&[Password][..], &[Password, Code][..], true, Stage::Proving),
            (&[Password, Code], &[Password, Code], true, Stage::Full),
            (&[Passkey], &[Password, Passkey], true, Stage::Full),
            (&[Password, SecurityKey], &[Password, SecurityKey], true, Stage::Full),
            (&[Password], &[Password], true, Stage::Enrolling),
            (&[Password], &[Password, Key], true, Stage::Enrolling),
            (&[Password, Code], &[Password], true, Stage::Enrolling),
            (&[Password], &[Password], false, Stage::Full),
            (&[Password], &[Password, SecurityKey], false, Stage::Proving),
        ];
        for (proved, enrolled, demanded, stage) in table {
            assert_eq!(Stage::after(f(proved), f(enrolled), demanded), stage, "{proved:?} {enrolled:?} {demanded}");
        }
    }
}
