//! What becomes of a finding: somebody takes it on, works on it, settles it or accepts it for a while; and it comes back when it happens again.

use super::finding::{Finding, FindingKind};
use jiff::{SignedDuration, Timestamp};
use serde::{Deserialize, Serialize};

/// Longest comment or reason, in characters.
pub const LONGEST_NOTE: usize = 2000;
/// A violation is accepted, and findings are suppressed, for at most so long: then somebody looks anew.
pub const LONGEST_ACCEPTANCE: SignedDuration = SignedDuration::from_hours(24 * 366);

/// How far it is with a finding.
#[derive(Debug, Clone, Copy, Default, PartialEq, Eq, Serialize, Deserialize)]
#[serde(rename_all = "kebab-case")]
pub enum CaseState {
    /// Nobody has looked at it.
    #[default]
    Open,
    /// Somebody has seen it.
    Acknowledged,
    /// Somebody works on it.
    InWork,
    /// It is mended.
    Resolved,
    /// It is as it is, until a day.
    Accepted,
}

impl CaseState {
    /// Every one.
    pub const ALL: [Self; 5] = [Self::Open, Self::Acknowledged, Self::InWork, Self::Resolved, Self::Accepted];

    /// Its word.
    pub fn word(self) -> &'static str {
        match self {
            Self::Open => "open",
            Self::Acknowledged => "acknowledged",
            Self::InWork => "in-work",
            Self::Resolved => "resolved",
            Self::Accepted => "accepted",
        }
    }

    /// The state of that word.
    pub fn from_word(word: &str) -> Option<Self> {
        Self::ALL.into_iter().find(|s| s.word() == word)
    }

    /// Whether nothing is left to do.
    pub fn is_settled(self) -> bool {
        match self {
            Self::Open | Self::Acknowledged | Self::InWork => false,
            Self::Resolved | Self::Accepted => true,
        }
    }
}

/// What somebody does with a finding.
#[derive(Debug, Clone, PartialEq, Eq)]
pub enum Step {
    /// They have seen it.
    Acknowledge,
    /// They begin to work on it.
    Begin,
    /// It is mended; how.
    Resolve(String),
    /// It stays as it is; why, and until when.
    Accept(String, Timestamp),
    /// It is not settled after all; why.
    Reopen(String),
    /// Whose it is; nobody's where it is none.
    Assign(Option<String>),
    /// When it is due; never where it is none.
    Due(Option<Timestamp>),
    /// A comment.
    Comment(String),
}

/// How it is with a finding.
#[derive(Debug, Clone, Default, PartialEq, Eq, Serialize, Deserialize)]
pub struct Case {
    /// How far it is.
    pub state: CaseState,
    /// Whose it is.
    pub owner: Option<String>,
    /// When it is due.
    pub due: Option<Timestamp>,
    /// Until when it is accepted.
    pub until: Option<Timestamp>,
}

/// Why a step was refused.
#[derive(Debug, Clone, Copy, PartialEq, Eq, thiserror::Error)]
pub enum StepRefused {
    /// It is in that state already, or settled.
    #[error("The finding is {0} already.")]
    Already(&'static str),
    /// It is not settled.
    #[error("The finding is not settled.")]
    NotSettled,
    /// There is no reason.
    #[error("Say why: in 1 to {LONGEST_NOTE} characters.")]
    NoReason,
    /// The day is over, or too far.
    #[error("The day lies between now and a year from now.")]
    Day,
    /// An emergency is reviewed by somebody else than the person.
    #[error("An emergency is closed by its review, which somebody else than the person does.")]
    Review,
}

impl Case {
    /// Does a step; gives the sentence for the history, which begins with who did it.
    ///
    /// # Errors
    /// When the state does not allow it, a reason is missing, or a day lies wrong.
    pub fn handle(&mut self, step: &Step, kind: FindingKind, by: &str, now: Timestamp) -> Result<String, StepRefused> {
        let settled = self.state.is_settled();
        let sentence = match step {
            Step::Acknowledge | Step::Begin if settled => return Err(StepRefused::Already(self.state.word())),
            Step::Acknowledge => self.become_state(CaseState::Acknowledged).map(|()| format!("{by} has seen it."))?,
            Step::Begin => self.become_state(CaseState::InWork).map(|()| format!("{by} works on it."))?,
            Step::Resolve(_) | Step::Accept(..) if kind == FindingKind::EmergencyUsed => return Err(StepRefused::Review),
            Step::Resolve(why) => {
                let why = noted(why)?;
                self.become_state(CaseState::Resolved)?;
                format!("{by} resolved it: {why}")
            }
            Step::Accept(why, until) => {
                let why = noted(why)?;
                between(*until, now)?;
                self.state = CaseState::Accepted;
                self.until = Some(*until);
                format!("{by} accepted it until {}: {why}", until.strftime("%Y-%m-%d"))
            }
            Step::Reopen(why) => {
                let why = noted(why)?;
                if !settled {
                    return Err(StepRefused::NotSettled);
                }
                self.reopen();
                format!("{by} opened it again: {why}")
            }
            Step::Assign(owner) => {
                self.owner.clone_from(owner);
                owner.as_ref().map_or_else(|| format!("{by} took its owner away."), |o| format!("{by} gave it to {o}."))
            }
            Step::Due(due) => {
                due.map(|d| between(d, now)).transpose()?;
                self.due = *due;
                due.map_or_else(|| format!("{by} took its day away."), |d| format!("{by} made it due on {}.", d.strftime("%Y-%m-%d")))
            }
            Step::Comment(text) => format!("{by}: {}", noted(text)?),
        };
        Ok(sentence)
    }

    /// It happened again: what was resolved, or accepted until a day that is over, is open again. Gives the sentence for the history.
    pub fn handle_again(&mut self, now: Timestamp) -> Option<&'static str> {
        let opens = match self.state {
            CaseState::Resolved => true,
            CaseState::Accepted => self.until.is_none_or(|until| until <= now),
            CaseState::Open | CaseState::Acknowledged | CaseState::InWork => false,
        };
        opens.then(|| {
            self.reopen();
            "It happened again and is open."
        })
    }

    /// Time passed: what was accepted until now is open again.
    pub fn handle_time(&mut self, now: Timestamp) -> Option<&'static str> {
        let over = self.state == CaseState::Accepted && self.until.is_some_and(|until| until <= now);
        over.then(|| {
            self.reopen();
            "The day until which it was accepted is over; it is open."
        })
    }

    fn become_state(&mut self, state: CaseState) -> Result<(), StepRefused> {
        if self.state == state {
            return Err(StepRefused::Already(state.word()));
        }
        self.state = state;
        Ok(())
    }

    fn reopen(&mut self) {
        self.state = CaseState::Open;
        self.until = None;
    }
}

fn noted(text: &str) -> Result<&str, StepRefused> {
    let text = text.trim();
    if text.is_empty() || text.chars().count() > LONGEST_NOTE { Err(StepRefused::NoReason) } else { Ok(text) }
}

fn between(at: Timestamp, now: Timestamp) -> Result<(), StepRefused> {
    if at > now && at.duration_since(now) <= LONGEST_ACCEPTANCE { Ok(()) } else { Err(StepRefused::Day) }
}

/// Findings that are not to come up: of one kind, and with at least one more thing in common.
#[derive(Debug, Clone, Default, PartialEq, Eq, Serialize, Deserialize)]
#[serde(default)]
pub struct Suppression {
    /// Kind, or name of the detection.
    pub kind: String,
    /// On this machine.
    pub machine: Option<String>,
    /// Of this account.
    pub account: Option<String>,
    /// Of this person.
    pub person: Option<String>,
    /// From this address.
    pub source: Option<String>,
    /// Until then.
    pub until: Timestamp,
    /// Why.
    pub why: String,
}

impl Suppression {
    /// Whether it is narrow, justified and of a bounded time.
    ///
    /// # Errors
    /// What it lacks, in a sentence.
    pub fn check(&self, now: Timestamp) -> Result<(), &'static str> {
        let parts = [&self.machine, &self.account, &self.person, &self.source];
        if self.kind.is_empty() || parts.iter().all(|p| p.as_ref().is_none_or(String::is_empty)) {
            return Err(
                "Name the kind of finding, and at least one of machine, account, person and address: a whole kind is switched off in the detections.",
            );
        }
        if parts.iter().any(|p| p.as_ref().is_some_and(|t| t.len() > 255)) || self.kind.len() > 100 {
            return Err("One of the texts is too long.");
        }
        noted(&self.why).map_err(|_| "Say why.")?;
        between(self.until, now).map_err(|_| "It ends between now and a year from now.")
    }

    /// Whether a finding that was last seen at a time is not to come up.
    pub fn covers(&self, f: &Finding, now: Timestamp) -> bool {
        let fits = |wanted: &Option<String>, is: Option<&str>| wanted.as_deref().is_none_or(|w| is == Some(w));
        now < self.until
            && self.kind == f.word()
            && fits(&self.machine, Some(&f.machine))
            && fits(&self.account, Some(&f.account))
            && fits(&self.person, f.person.as_deref())
            && fits(&self.source, f.source.as_deref())
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    fn t(day: i64) -> Timestamp {
        Timestamp::from_second(1_780_000_000 + day * 86_400).unwrap()
    }

    const KIND: FindingKind = FindingKind::AroundGateway;

    #[test]
    fn a_finding_is_worked_on_settled_and_comes_back() {
        let mut case = Case::default();
        let mut history = vec![];
        let steps = [
            Step::Assign(Some("lena".into())),
            Step::Acknowledge,
            Step::Begin,
            Step::Due(Some(t(7))),
            Step::Comment("asked Amara".into()),
            Step::Resolve("key removed".into()),
        ];
        for step in &steps {
            history.push(case.handle(step, KIND, "lena", t(0)).unwrap());
        }
        assert_eq!(history[0], "lena gave it to lena.");
        assert_eq!(history[5], "lena resolved it: key removed");
        assert!(case.state.is_settled());
        assert_eq!(case.handle(&Step::Begin, KIND, "lena", t(1)), Err(StepRefused::Already("resolved")));
        assert_eq!(case.handle_again(t(2)), Some("It happened again and is open."));
        assert_eq!((case.state, case.owner.as_deref()), (CaseState::Open, Some("lena")));
        assert_eq!(case.handle_again(t(2)), None);
    }

    #[test]
    fn what_is_accepted_stays_so_until_its_day() {
        let mut case = Case::default();
        case.handle(&Step::Accept("known".into(), t(10)), KIND, "tove", t(0)).unwrap();
        assert_eq!((case.handle_again(t(5)), case.handle_time(t(5))), (None, None));
        assert!(case.clone().handle_time(t(10)).is_some());
        assert!(case.handle_again(t(11)).is_some());
        assert_eq!((case.state, case.until), (CaseState::Open, None));
    }

    #[test]
    fn steps_without_reason_day_or_state_are_refused() {
        let refused = |case: Case, step: Step| case.clone().handle(&step, KIND, "lena", t(0)).unwrap_err();
        let open = Case::default();
        assert_eq!(refused(open.clone(), Step::Resolve("  ".into())), StepRefused::NoReason);
        assert_eq!(refused(open.clone(), Step::Comment("x".repeat(LONGEST_NOTE + 1))), StepRefused::NoReason);
        assert_eq!(refused(open.clone(), Step::Accept("x".into(), t(0))), StepRefused::Day);
        assert_eq!(refused(open.clone(), Step::Accept("x".into(), t(400))), StepRefused::Day);
        assert_eq!(refused(open.clone(), Step::Due(Some(t(-1)))), StepRefused::Day);
        assert_eq!(refused(open.clone(), Step::Reopen("x".into())), StepRefused::NotSettled);
        let mut case = open.clone();
        assert_eq!(case.handle(&Step::Resolve("x".into()), FindingKind::EmergencyUsed, "lena", t(0)), Err(StepRefused::Review));
        assert!(case.handle(&Step::Comment("x".repeat(LONGEST_NOTE)), KIND, "lena", t(0)).is_ok());
        for s in CaseState::ALL {
            assert_eq!(CaseState::from_word(s.word()), Some(s));
            assert_eq!(serde_json::to_value(s).unwrap(), s.word());
        }
    }

    #[test]
    fn suppressions_are_narrow_justified_and_end() {
        let finding = Finding::seen(KIND, "x", "dome-east", "operator", "It happened.".into(), t(0));
        let good = Suppression {
            kind: "around-gateway".into(),
            machine: Some("dome-east".into()),
            until: t(30),
            why: "the old script goes in March".into(),
            ..Suppression::default()
        };
        assert_eq!(good.check(t(0)), Ok(()));
        assert!(good.covers(&finding, t(1)) && !good.covers(&finding, t(30)));
        for bad in [
            Suppression { machine: None, ..good.clone() },
            Suppression { machine: Some(String::new()), ..good.clone() },
            Suppression { kind: String::new(), ..good.clone() },
            Suppression { why: " ".into(), ..good.clone() },
            Suppression { until: t(367), ..good.clone() },
            Suppression { until: t(0), ..good.clone() },
        ] {
            assert!(bad.check(t(0)).is_err(), "{bad:?}");
        }
        for other in [
            Suppression { machine: Some("dome-west".into()), ..good.clone() },
            Suppression { kind: "guessed".into(), ..good.clone() },
            Suppression { person: Some("ines".into()), ..good.clone() },
        ] {
            assert!(!other.covers(&finding, t(1)), "{other:?}");
        }
    }
}
