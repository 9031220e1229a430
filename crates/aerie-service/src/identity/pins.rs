//! PINs: one-time ones for visits, and standing ones of machines.

use super::{Checked, Identity, Tryer, lock};
use crate::keys::random;
use aerie_core::factor::{PinRules, PinState, Target, pin_form, pin_of};
use aerie_store::{Pin, StoreError};
use jiff::Timestamp;
use std::net::IpAddr;
use subtle::ConstantTimeEq as _;
use zeroize::Zeroizing;

/// The result of trying a one-time PIN.
pub(crate) enum PinTried {
    /// It is right, and used up.
    Right(Box<Pin>),
    /// It is wrong, over, or nobody's; which of these is not said.
    Wrong,
    /// Nobody may try for so many seconds.
    Wait(i64),
    /// The same, because so many wrong ones were tried in the whole service.
    Sprayed(i64),
}

impl Identity {
    /// The keyed hashes under which a PIN may be kept. A standing one is bound to its machine.
    fn pin_hashes(&self, machine: Option<&str>, pin: &str) -> Vec<[u8; 32]> {
        self.keys.token_hashes(&machine.map_or_else(|| format!("pin {pin}"), |m| format!("pin of {m} {pin}")))
    }

    /// Issues a PIN: a one-time one, or the standing one of a machine. It is shown once.
    pub(crate) async fn issue_pin(
        &self,
        machine: Option<&str>,
        note: &str,
        by: &str,
        rules: &PinRules,
        now: Timestamp,
    ) -> Result<(Zeroizing<String>, Pin), StoreError> {
        loop {
            let pin = pin_of(u64::from_le_bytes(random().map_err(|_| StoreError::LogClosed)?), rules.digits);
            let kept = Pin {
                id: crate::api::new_id(now),
                machine: machine.map(Into::into),
                note: note.into(),
                hash: self.pin_hashes(machine, &pin).into_iter().next().unwrap_or_default(),
                state: PinState { made: now, ends: machine.is_none().then(|| now + rules.lifetime), tries_left: rules.tries, used: None },
                issued_by: by.into(),
            };
            // Of two visits at a time no two have the same PIN.
            if self.store.add_pin(&kept).await? {
                return Ok((pin, kept));
            }
        }
    }

    /// Tries a one-time PIN; `visit` is the one whose link was opened, if one was: its tries count down. The whole service is
    /// braked as well, so that trying over many live PINs helps nobody.
    pub(crate) async fn try_pin(
        &self,
        visit: Option<&str>,
        given: &str,
        from: IpAddr,
        rules: &PinRules,
        now: Timestamp,
    ) -> Result<PinTried, StoreError> {
        // Who opened the link of a visit tries that visit's PIN alone, five times: guessing at all of them keeps nobody from theirs.
        if visit.is_none()
            && let Some(wait) = lock(&self.brake).wait(rules, now)
        {
            return Ok(PinTried::Sprayed(super::whole_seconds(wait)));
        }
        if let Err(seconds) = self.stranger("a PIN", from, now) {
            return Ok(PinTried::Wait(seconds));
        }
        let hashes = pin_form(given).map(|p| self.pin_hashes(None, &p)).unwrap_or_default();
        // Every live PIN is compared, whichever is right, so that the time tells nothing.
        let mut found = None;
        for pin in self.store.open_pins(now).await? {
            let same = hashes.iter().fold(subtle::Choice::from(0), |any, h| any | h.ct_eq(&pin.hash));
            if bool::from(same) && visit.is_none_or(|v| v == pin.id) && pin.state.is_live(now) {
                found = Some(pin);
            }
        }
        if let Some(pin) = found
            && self.store.use_pin(&pin.id, now).await?
        {
            self.stranger_was_right("a PIN", from);
            return Ok(PinTried::Right(Box::new(pin)));
        }
        match visit {
            Some(visit) => self.store.fail_pin(visit).await?,
            None => lock(&self.brake).handle_wrong(rules, now),
        }
        Ok(PinTried::Wrong)
    }

    /// Checks the standing PIN of a machine, for whoever is at the gateway.
    pub(crate) async fn standing_pin(&self, machine: &str, given: &str, tryer: &Tryer, now: Timestamp) -> Result<Checked, StoreError> {
        let account = format!("the PIN of {machine}");
        let target = Target::Account(&account);
        if let Err(wait) = self.reserve(target, tryer, now) {
            return Ok(wait);
        }
        let kept = self.store.standing_pin(machine).await?;
        let hashes = pin_form(given).map(|p| self.pin_hashes(Some(machine), &p)).unwrap_or_default();
        let kept_hash = kept.map(|k| k.hash);
        let same = hashes.iter().fold(subtle::Choice::from(0), |any, h| any | h.ct_eq(&kept_hash.unwrap_or_default()));
        let right = bool::from(same) && kept_hash.is_some();
        Ok(self.tried(target, tryer, if right { Checked::Right } else { Checked::Wrong }))
    }
}

#[cfg(test)]
mod tests {
    use super::super::tests_support::identity;
    use super::*;
    use jiff::SignedDuration;

    fn from(n: u8) -> IpAddr {
        IpAddr::V4(std::net::Ipv4Addr::new(198, 51, 100, n))
    }

    fn rules() -> PinRules {
        PinRules::default()
    }

    #[tokio::test]
    async fn a_pin_is_good_once_for_its_time_and_never_kept_in_the_clear() {
        let (_dir, id) = identity().await;
        let now = Timestamp::now();
        let (pin, kept) = id.issue_pin(None, "printer", "lena", &rules(), now).await.unwrap();
        assert_eq!(pin.len(), 8);
        assert!(!kept.hash.windows(8).any(|w| w == pin.as_bytes()));
        let late = now + SignedDuration::from_mins(10);
        assert!(matches!(id.try_pin(None, &pin, from(1), &rules(), late).await.unwrap(), PinTried::Wrong));
        let back = now - SignedDuration::from_hours(1);
        assert!(matches!(id.try_pin(None, &pin, from(2), &rules(), back).await.unwrap(), PinTried::Wrong));
        assert!(matches!(id.try_pin(None, &pin, from(3), &rules(), now).await.unwrap(), PinTried::Right(p) if p.id == kept.id));
        assert!(matches!(id.try_pin(None, &pin, from(4), &rules(), now).await.unwrap(), PinTried::Wrong));
    }

    #[tokio::test]
    async fn wrong_tries_at_a_visit_end_its_pin() {
        let (_dir, id) = identity().await;
        let now = Timestamp::now();
        let (pin, kept) = id.issue_pin(None, "", "lena", &rules(), now).await.unwrap();
        for i in 0..5 {
            assert!(matches!(id.try_pin(Some(&kept.id), "00", from(i), &rules(), now).await.unwrap(), PinTried::Wrong));
        }
        assert_eq!(id.store.pin(&kept.id).await.unwrap().unwrap().state.tries_left, 0);
        assert!(matches!(id.try_pin(Some(&kept.id), &pin, from(9), &rules(), now).await.unwrap(), PinTried::Wrong));
    }

    #[tokio::test]
    async fn spraying_over_many_live_pins_is_braked_from_wherever_it_comes() {
        let (_dir, id) = identity().await;
        let (now, few) = (Timestamp::now(), PinRules { everywhere: 10, ..rules() });
        let mut pins = vec![];
        for _ in 0..20 {
            pins.push(id.issue_pin(None, "", "lena", &few, now).await.unwrap().0);
        }
        for i in 0..10 {
            assert!(matches!(id.try_pin(None, "00", from(i), &few, now).await.unwrap(), PinTried::Wrong));
        }
        // Even a right one is not looked at now.
        assert!(matches!(id.try_pin(None, &pins[0], from(99), &few, now).await.unwrap(), PinTried::Sprayed(600)));
        let later = now + PinRules::WINDOW - SignedDuration::from_secs(1);
        assert!(matches!(id.try_pin(None, &pins[0], from(99), &few, later).await.unwrap(), PinTried::Sprayed(1)));
    }

    #[tokio::test]
    async fn a_standing_pin_belongs_to_its_machine() {
        let (_dir, id) = identity().await;
        let now = Timestamp::now();
        let who = id.tryer("ines", from(1), None, now).await.unwrap();
        let (old, _) = id.issue_pin(Some("dome-east"), "", "lena", &rules(), now).await.unwrap();
        let (pin, _) = id.issue_pin(Some("dome-east"), "", "lena", &rules(), now).await.unwrap();
        let much_later = now + SignedDuration::from_hours(24 * 300);
        assert_eq!(id.standing_pin("dome-east", &pin, &who, much_later).await.unwrap(), Checked::Right);
        assert_eq!(id.standing_pin("dome-west", &pin, &who, now).await.unwrap(), Checked::Wrong);
        assert_eq!(id.standing_pin("dome-east", &old, &who, now).await.unwrap(), Checked::Wrong);
        // It is no visit's PIN either.
        assert!(matches!(id.try_pin(None, &pin, from(1), &rules(), now).await.unwrap(), PinTried::Wrong));
        for _ in 0..4 {
            let _ = id.standing_pin("dome-east", "00000000", &who, now).await.unwrap();
        }
        assert!(matches!(id.standing_pin("dome-east", &pin, &who, now).await.unwrap(), Checked::Wait(_)));
    }
}
