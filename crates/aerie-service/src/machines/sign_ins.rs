//! What the service lately signed in to machines with, for the audit: the machine's log tells of it at once, before a session is live.

use aerie_core::audit::{KnownSession, World};
use jiff::Timestamp;
use std::collections::VecDeque;
use std::sync::{Mutex, PoisonError};

/// Sign-ins that are kept: more than happen between two looks of the audit. The store has them all a moment later.
const MOST_LATELY: usize = 4096;

/// One sign-in to a machine.
#[derive(Debug, Clone)]
pub(crate) enum SignIn {
    /// For a user's session.
    Session(KnownSession),
    /// The service's own, for what the word says.
    Own { machine: String, word: String, at: Timestamp },
}

/// The newest sign-ins, whatever became of them.
#[derive(Debug, Default)]
pub(crate) struct SignIns(Mutex<Inner>);

#[derive(Debug, Default)]
struct Inner {
    lately: VecDeque<SignIn>,
    /// How many there ever were.
    count: u64,
}

impl SignIns {
    /// The service is about to sign in.
    pub(crate) fn note(&self, sign_in: SignIn) {
        let mut inner = self.0.lock().unwrap_or_else(PoisonError::into_inner);
        if inner.lately.len() >= MOST_LATELY {
            inner.lately.pop_front();
        }
        inner.count += 1;
        inner.lately.push_back(sign_in);
    }

    /// Those that came after the first `known`, as far as they are kept, and how many there are now.
    pub(crate) fn since(&self, known: u64) -> (Vec<SignIn>, u64) {
        let inner = self.0.lock().unwrap_or_else(PoisonError::into_inner);
        let new = usize::try_from(inner.count.saturating_sub(known)).unwrap_or(usize::MAX);
        let skipped = inner.lately.len().saturating_sub(new);
        (inner.lately.iter().skip(skipped).cloned().collect(), inner.count)
    }

    /// Tells a world of those after the first `known` that it does not have yet; says how many there are now.
    pub(crate) fn tell(&self, world: &mut World, known: u64) -> u64 {
        let (new, count) = self.since(known);
        for sign_in in new {
            match sign_in {
                SignIn::Session(session) => {
                    if let Some(all) = &mut world.sessions {
                        all.entry(session.id.clone()).or_insert(session);
                    }
                }
                SignIn::Own { machine, word, at } => world.own.entry((machine, word)).or_default().push(at),
            }
        }
        count
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use aerie_core::audit::History;
    use aerie_core::audit::detect::DetectionSet;

    #[test]
    fn each_is_told_once_and_the_oldest_are_given_up() {
        let all = SignIns::default();
        let note = |n: usize| all.note(SignIn::Own { machine: n.to_string(), word: "check".into(), at: Timestamp::UNIX_EPOCH });
        let since = |known| {
            let (new, count) = all.since(known);
            let number = |s: &SignIn| match s {
                SignIn::Own { machine, .. } => machine.parse::<usize>().unwrap(),
                SignIn::Session(_) => panic!("none was noted"),
            };
            (new.iter().map(number).collect::<Vec<_>>(), count)
        };
        assert_eq!(since(0), (vec![], 0));
        (0..3).for_each(note);
        assert_eq!((since(0), since(2), since(3), since(9)), ((vec![0, 1, 2], 3), (vec![2], 3), (vec![], 3), (vec![], 3)));
        (3..MOST_LATELY + 2).for_each(note);
        let (kept, count) = since(0);
        assert_eq!((kept.len(), kept[0], count), (MOST_LATELY, 2, MOST_LATELY as u64 + 2));
    }

    #[test]
    fn a_world_learns_of_a_session_and_keeps_what_it_knows_better() {
        let session = |end| KnownSession {
            id: "a".into(),
            person: "mira".into(),
            machine: "mast-2".into(),
            account: "operator".into(),
            begin: Timestamp::UNIX_EPOCH,
            end,
            recorded: false,
            uses: aerie_core::policy::Capabilities::NONE,
            factors: aerie_core::policy::Factors::NONE,
            source: None,
        };
        let all = SignIns::default();
        all.note(SignIn::Session(session(None)));
        let mut world = World {
            history: History::default(),
            sessions: Some([].into()),
            own: [].into(),
            authorities: None,
            detections: std::sync::Arc::new(DetectionSet::shipped()),
        };
        assert_eq!((all.tell(&mut world, 0), world.sessions.as_ref().unwrap()["a"].end), (1, None));
        let ended = Some(Timestamp::from_second(60).unwrap());
        world.sessions = Some([("a".to_string(), session(ended))].into());
        all.tell(&mut world, 0);
        assert_eq!(world.sessions.unwrap()["a"].end, ended);
    }
}
