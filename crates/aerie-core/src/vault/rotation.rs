use serde::{Deserialize, Serialize};

/// How far a change has come, as it is kept. It is kept before each step that touches the machine, so that a crash at any
/// moment leaves known what may be good there.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Hash, Serialize, Deserialize)]
#[serde(rename_all = "lowercase")]
pub enum Phase {
    /// One credential, and it is good.
    Settled,
    /// A next one is kept; the machine may or may not have it.
    Prepared,
    /// The next one was seen to be good, and is the credential now; the one before may still be good as well.
    Verified,
}

impl Phase {
    /// Its word.
    pub fn word(self) -> &'static str {
        match self {
            Self::Settled => "settled",
            Self::Prepared => "prepared",
            Self::Verified => "verified",
        }
    }

    /// The phase of that word.
    pub fn from_word(word: &str) -> Option<Self> {
        [Self::Settled, Self::Prepared, Self::Verified].into_iter().find(|p| p.word() == word)
    }
}

/// Which of the two.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum Which {
    /// The one so far.
    Old,
    /// The next one.
    New,
}

/// What is to be done next.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
#[must_use]
pub enum Step {
    /// Make the next credential and keep it, with the phase `Prepared`, before the machine is touched.
    Prepare,
    /// Put the next one on the machine.
    Apply,
    /// Sign in with this one.
    Try(Which),
    /// Make the next one the credential, with the phase `Verified`, and the one before a part of the history.
    Commit,
    /// Forget the next one, with the phase `Settled`.
    Discard,
    /// Take the one before from the machine.
    Clean,
    /// Keep the phase `Settled`.
    Settle,
    /// It is over.
    End(Ended),
}

/// How a change ended.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum Ended {
    /// Changed, and the one before is gone.
    Changed,
    /// Nothing was changed; the credential so far is good.
    Unchanged,
    /// It could not be found out now: to be taken up again later, from the phase that is kept.
    Later,
    /// Neither is good on the machine: somebody must look. Both are kept.
    Stuck,
}

/// Why a step failed.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum Fault {
    /// The machine said no.
    Refused,
    /// It could not be asked, or its answer was lost: what became of the step is not known.
    Unknown,
}

/// One change of a credential: what to do, given what came of it so far.
///
/// The laws, which tests hold it to: at every moment at least one of the kept credentials is good on the machine, if one was at
/// the beginning; and whoever tries again without faults ends with exactly one.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Rotation {
    step: Step,
}

impl Rotation {
    /// Begins a change, or takes one up that was left in this phase.
    pub fn new(phase: Phase) -> Self {
        let step = match phase {
            Phase::Settled => Step::Prepare,
            // It is not known whether the machine has the next one.
            Phase::Prepared => Step::Try(Which::New),
            Phase::Verified => Step::Clean,
        };
        Self { step }
    }

    /// What to do next.
    pub fn poll(&self) -> Step {
        self.step
    }

    /// What came of it.
    pub fn handle(&mut self, result: Result<(), Fault>) {
        use Step::{Apply, Clean, Commit, Discard, End, Prepare, Settle, Try};
        self.step = match (self.step, result) {
            (Prepare, Ok(())) => Apply,
            (Prepare, Err(_)) => End(Ended::Unchanged),
            // Whether the machine has it is seen by trying: its answer may have been lost, or be wrong.
            (Apply, _) => Try(Which::New),
            (Try(Which::New), Ok(())) => Commit,
            (Try(Which::New), Err(Fault::Refused)) => Try(Which::Old),
            (Try(Which::Old), Ok(())) => Discard,
            // Not even the old one: unless the machine only now took the new one, nobody gets in any more.
            (Try(Which::Old), Err(Fault::Refused)) => End(Ended::Stuck),
            (Commit, Ok(())) => Clean,
            (Clean, Ok(())) => Settle,
            (Settle, Ok(())) => End(Ended::Changed),
            (Discard, Ok(())) => End(Ended::Unchanged),
            (Try(_), Err(Fault::Unknown)) | (Commit | Clean | Settle | Discard, Err(_)) => End(Ended::Later),
            (End(ended), _) => End(ended),
        };
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use proptest::prelude::*;

    /// A machine and a vault, with faults where they are told to be.
    struct World {
        /// Credentials that are good on the machine.
        good: Vec<u32>,
        current: u32,
        pending: Option<u32>,
        phase: Phase,
        next: u32,
        /// A password takes the place of the one before; a key is added beside it.
        replaces: bool,
    }

    #[derive(Debug, Clone, Copy)]
    enum Mishap {
        None,
        /// The step is not done.
        Refused,
        /// The step is not done, and nobody knows.
        Lost,
        /// The step is done, and nobody knows.
        DoneUnknown,
        /// The service dies before the step.
        CrashBefore,
        /// The service dies after the step.
        CrashAfter,
    }

    impl World {
        fn do_step(&mut self, step: Step) -> Result<(), Fault> {
            let fits = |ok| if ok { Ok(()) } else { Err(Fault::Refused) };
            match step {
                Step::Prepare => {
                    self.next += 1;
                    (self.pending, self.phase) = (Some(self.next), Phase::Prepared);
                    Ok(())
                }
                Step::Apply => {
                    if self.replaces {
                        self.good.clear();
                    }
                    self.good.extend(self.pending);
                    Ok(())
                }
                Step::Try(Which::New) => fits(self.pending.is_some_and(|p| self.good.contains(&p))),
                Step::Try(Which::Old) => fits(self.good.contains(&self.current)),
                Step::Commit => {
                    if let Some(new) = self.pending.replace(self.current) {
                        self.current = new;
                    }
                    self.phase = Phase::Verified;
                    Ok(())
                }
                Step::Clean => {
                    let old = self.pending;
                    self.good.retain(|g| Some(*g) != old);
                    Ok(())
                }
                Step::Settle | Step::Discard => {
                    (self.pending, self.phase) = (None, Phase::Settled);
                    Ok(())
                }
                Step::End(_) => Ok(()),
            }
        }

        /// Runs to the end or a crash.
        fn run(&mut self, mishaps: &mut impl Iterator<Item = Mishap>) -> Option<Ended> {
            let mut rotation = Rotation::new(self.phase);
            loop {
                let step = rotation.poll();
                if let Step::End(ended) = step {
                    return Some(ended);
                }
                let touches = matches!(step, Step::Apply | Step::Try(_) | Step::Clean);
                let result = match mishaps.next().unwrap_or(Mishap::None) {
                    Mishap::CrashBefore => return None,
                    Mishap::CrashAfter => {
                        let _ = self.do_step(step);
                        return None;
                    }
                    // What a credential is good for is not a matter of chance; changes are.
                    Mishap::Refused if matches!(step, Step::Apply | Step::Clean | Step::Prepare) => Err(Fault::Refused),
                    Mishap::Lost if touches => Err(Fault::Unknown),
                    Mishap::DoneUnknown if touches => {
                        let _ = self.do_step(step);
                        Err(Fault::Unknown)
                    }
                    _ => self.do_step(step),
                };
                rotation.handle(result);
                assert!(self.somebody_gets_in(), "{step:?}");
            }
        }

        fn somebody_gets_in(&self) -> bool {
            self.good.contains(&self.current) || self.pending.is_some_and(|p| self.good.contains(&p))
        }
    }

    fn world(replaces: bool) -> World {
        World { good: vec![1], current: 1, pending: None, phase: Phase::Settled, next: 1, replaces }
    }

    #[test]
    fn a_change_without_faults_leaves_the_new_one_alone() {
        for replaces in [true, false] {
            let mut w = world(replaces);
            assert_eq!(w.run(&mut std::iter::empty()), Some(Ended::Changed));
            assert_eq!((w.good.as_slice(), w.current, w.pending, w.phase), (&[2][..], 2, None, Phase::Settled));
        }
    }

    #[test]
    fn a_fault_at_any_step_locks_nobody_out() {
        let faults = [Mishap::Refused, Mishap::Lost, Mishap::DoneUnknown, Mishap::CrashBefore, Mishap::CrashAfter];
        for (at, fault, replaces) in (0..8).flat_map(|at| faults.iter().flat_map(move |f| [true, false].map(|r| (at, *f, r)))) {
            let mut w = world(replaces);
            let mut mishaps = std::iter::repeat_n(Mishap::None, at).chain([fault]);
            let ended = w.run(&mut mishaps);
            assert!(w.somebody_gets_in() && ended != Some(Ended::Stuck), "{fault:?} at {at}: {ended:?}");
            assert!(matches!(w.run(&mut std::iter::empty()), Some(Ended::Changed | Ended::Unchanged)));
            assert!(w.good.contains(&w.current) && w.pending.is_none(), "{fault:?} at {at}");
        }
    }

    #[test]
    fn a_machine_that_takes_neither_is_said_to_be_stuck() {
        let mut w = World { good: vec![], ..world(true) };
        let mut rotation = Rotation::new(Phase::Settled);
        for _ in 0..4 {
            let step = rotation.poll();
            let result = if step == Step::Apply { Err(Fault::Refused) } else { w.do_step(step) };
            rotation.handle(result);
        }
        assert_eq!(rotation.poll(), Step::End(Ended::Stuck));
        assert!(w.pending.is_some());
    }

    fn mishap() -> impl Strategy<Value = Mishap> {
        prop_oneof![
            6 => Just(Mishap::None), 1 => Just(Mishap::Refused), 1 => Just(Mishap::Lost),
            1 => Just(Mishap::DoneUnknown), 1 => Just(Mishap::CrashBefore), 1 => Just(Mishap::CrashAfter),
        ]
    }

    proptest! {
        #[test]
        fn whatever_happens_somebody_gets_in_and_in_the_end_one_is_good(
            mishaps in proptest::collection::vec(mishap(), 0..60), replaces: bool, changes in 1..8usize,
        ) {
            let mut w = world(replaces);
            let mut mishaps = mishaps.into_iter();
            for _ in 0..changes {
                w.run(&mut mishaps);
                prop_assert!(w.somebody_gets_in());
            }
            let mut last = None;
            for _ in 0..3 {
                last = w.run(&mut std::iter::empty());
            }
            prop_assert_eq!(last, Some(Ended::Changed));
            prop_assert!(w.good.contains(&w.current));
            prop_assert_eq!(w.phase, Phase::Settled);
        }
    }
}
