use base32::Alphabet;
use jiff::Timestamp;
use totp_rs::{Algorithm, Builder, Totp};
use zeroize::Zeroizing;

/// Time step in seconds (RFC 6238 section 5.2).
const STEP: u64 = 30;
/// Steps accepted before and after the current one: clocks of phones are half a minute off now and then (section 5.2).
const DRIFT: u64 = 1;
/// Steps before the window in which a code is not taken, but recognised: ten minutes, so that somebody learns that their
/// phone's clock is wrong.
const TOLD: u64 = 20;

/// The shared secret of time-based one-time codes (RFC 6238: SHA-1, six digits, 30 seconds). Prints redacted.
pub struct TotpSecret(Zeroizing<[u8; 20]>);

/// The result of checking a code.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
#[must_use]
pub enum CodeChecked {
    /// It is right, and for this time step; the caller must keep the step and never accept it or an earlier one again.
    Right {
        /// Number of the step since the epoch.
        step: u64,
    },
    /// It was right, and it or a later one was used already.
    Used,
    /// It is the code of another time, so far from now: the clock that made it is wrong. It is not taken.
    Drifted {
        /// Seconds; less than zero where that clock is behind.
        seconds: i64,
    },
    /// It is wrong.
    Wrong,
}

impl std::fmt::Debug for TotpSecret {
    fn fmt(&self, f: &mut std::fmt::Formatter<'_>) -> std::fmt::Result {
        f.write_str("TotpSecret(redacted)")
    }
}

impl TotpSecret {
    /// From 20 random bytes (RFC 4226 section 4 asks for at least 16 and recommends 20).
    pub fn from_bytes(bytes: [u8; 20]) -> Self {
        Self(Zeroizing::new(bytes))
    }

    /// From its base32 form.
    pub fn from_base32(text: &str) -> Option<Self> {
        let bytes = Zeroizing::new(base32::decode(Alphabet::Rfc4648 { padding: false }, text)?);
        Some(Self::from_bytes(bytes.as_slice().try_into().ok()?))
    }

    /// The raw bytes, to be encrypted.
    pub fn expose(&self) -> &[u8; 20] {
        &self.0
    }

    /// The base32 form, to be shown once to its owner.
    pub fn to_base32(&self) -> String {
        base32::encode(Alphabet::Rfc4648 { padding: false }, &*self.0)
    }

    fn totp(&self) -> Option<Totp> {
        Builder::new()
            .with_algorithm(Algorithm::SHA1)
            .with_digits(6)
            .with_skew(0)
            .with_step_duration(STEP)
            .with_secret(*self.0)
            .build()
            .ok()
    }

    /// The code of an instant.
    pub fn code_at(&self, at: Timestamp) -> String {
        let seconds = u64::try_from(at.as_second()).unwrap_or(0);
        self.totp().map(|t| t.generate(seconds).to_string()).unwrap_or_default()
    }

    /// Checks a code. `last_used` is the step of the last code that was accepted from this person.
    ///
    /// # Security
    /// Every step of the window is compared, in constant time, whichever is right. That a code belongs to a time that is over is
    /// told, since it will never be taken; that it belongs to a time to come is not, since whoever guessed it could wait.
    pub fn check(&self, code: &str, at: Timestamp, last_used: Option<u64>) -> CodeChecked {
        self.compare(code, at, last_used, 0)
    }

    /// Checks the first code of a secret that its owner has just been shown: a clock that is ahead is told as well.
    pub fn check_first(&self, code: &str, at: Timestamp) -> CodeChecked {
        self.compare(code, at, None, TOLD)
    }

    fn compare(&self, code: &str, at: Timestamp, last_used: Option<u64>, ahead: u64) -> CodeChecked {
        use subtle::ConstantTimeEq as _;
        let now = u64::try_from(at.as_second()).unwrap_or(0) / STEP;
        let given: String = code.chars().filter(|c| !c.is_whitespace()).collect();
        let Some(totp) = self.totp() else { return CodeChecked::Wrong };
        let (mut found, mut other) = (None, None);
        for step in now.saturating_sub(DRIFT + TOLD)..=now + DRIFT.max(ahead) {
            let right = totp.generate(step * STEP).to_string();
            if bool::from(right.as_bytes().ct_eq(given.as_bytes())) {
                *if step.abs_diff(now) <= DRIFT { &mut found } else { &mut other } = Some(step);
            }
        }
        match (found, last_used) {
            (None, _) => other.map_or(CodeChecked::Wrong, |step| {
                let steps = i64::try_from(step).unwrap_or(0) - i64::try_from(now).unwrap_or(0);
                CodeChecked::Drifted { seconds: steps * i64::try_from(STEP).unwrap_or(0) }
            }),
            (Some(step), Some(last)) if step <= last => CodeChecked::Used,
            (Some(step), _) => CodeChecked::Right { step },
        }
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    fn t(s: i64) -> Timestamp {
        Timestamp::from_second(s).unwrap()
    }

    #[test]
    fn codes_are_those_of_the_rfc() {
        // RFC 6238 appendix B, SHA-1, the last six digits.
        let secret = TotpSecret::from_bytes(*b"12345678901234567890");
        for (at, code) in [(59, "287082"), (1_111_111_109, "081804"), (1_234_567_890, "005924"), (2_000_000_000, "279037")] {
            assert_eq!(secret.code_at(t(at)), code);
        }
    }

    #[test]
    fn a_code_is_good_once_and_for_a_step_either_way() {
        let secret = TotpSecret::from_bytes([9; 20]);
        let at = t(1_780_000_000);
        let code = secret.code_at(at);
        let CodeChecked::Right { step } = secret.check(&code, at, None) else { panic!("refused") };
        assert_eq!(secret.check(&code, at, Some(step)), CodeChecked::Used);
        assert_eq!(secret.check(&code, at, Some(step - 1)), CodeChecked::Right { step });
        assert!(matches!(secret.check(&code, t(1_780_000_030), None), CodeChecked::Right { .. }));
        // A phone that is behind is told of, and its code not taken; one that is ahead only when it is new.
        assert_eq!(secret.check(&code, t(1_780_000_090), None), CodeChecked::Drifted { seconds: -90 });
        assert_eq!(secret.check(&code, t(1_780_000_900), None), CodeChecked::Wrong);
        assert_eq!(secret.check(&code, t(1_779_999_700), None), CodeChecked::Wrong);
        assert_eq!(secret.check_first(&code, t(1_779_999_700)), CodeChecked::Drifted { seconds: 300 });
        assert!(matches!(secret.check_first(&code, at), CodeChecked::Right { .. }));
        assert_eq!(secret.check("", at, None), CodeChecked::Wrong);
        assert_eq!(secret.check("000000000", at, None), CodeChecked::Wrong);
    }

    #[test]
    fn the_secret_survives_base32_and_never_prints() {
        let secret = TotpSecret::from_bytes([7; 20]);
        assert_eq!(TotpSecret::from_base32(&secret.to_base32()).unwrap().expose(), secret.expose());
        assert!(TotpSecret::from_base32("AAAA").is_none());
        assert_eq!(format!("{secret:?}"), "TotpSecret(redacted)");
    }
}
