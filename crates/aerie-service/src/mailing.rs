//! How often one person may have mail sent to others.

use jiff::{SignedDuration, Timestamp};
use std::collections::{BTreeMap, VecDeque};
use std::sync::{Mutex, PoisonError};

/// What one person does in an hour that mails others: requests for access, and links of visits. A busy service desk makes a visit every
/// few minutes.
const MOST: usize = 40;
const WITHIN: SignedDuration = SignedDuration::from_hours(1);

/// What each person did in the last hour that mailed others. It holds as many entries as there are people who did.
#[derive(Debug, Default)]
pub(crate) struct Mailing(Mutex<BTreeMap<String, VecDeque<Timestamp>>>);

impl Mailing {
    /// Counts one more, before anything is done for it; how many seconds are left where there are too many.
    pub(crate) fn take(&self, person: &str, now: Timestamp) -> Result<(), i64> {
        let mut all = self.0.lock().unwrap_or_else(PoisonError::into_inner);
        // Entries from the future, after the clock went back, do not count.
        all.retain(|_, acts| {
            acts.retain(|t| *t <= now && now.duration_since(*t) < WITHIN);
            !acts.is_empty()
        });
        let acts = all.entry(person.into()).or_default();
        match acts.front() {
            Some(first) if acts.len() >= MOST => Err((WITHIN - now.duration_since(*first)).as_secs().max(1)),
            Some(_) | None => {
                acts.push_back(now);
                Ok(())
            }
        }
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn nobody_has_more_mailed_in_an_hour_than_is_set_and_others_are_not_held_up() {
        let (mailing, t) = (Mailing::default(), |s| Timestamp::from_second(1_800_000_000 + s).unwrap());
        for n in 0..MOST {
            assert_eq!(mailing.take("mira", t(n as i64)), Ok(()));
        }
        assert_eq!(mailing.take("mira", t(600)), Err(3000));
        assert_eq!(mailing.take("nils", t(600)), Ok(()));
        assert_eq!(mailing.take("mira", t(3600)), Ok(()), "the first is an hour ago");
        assert!(mailing.take("mira", t(3600)).is_err());
        assert_eq!(mailing.take("mira", t(-50_000)), Ok(()));
    }
}
