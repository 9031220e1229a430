//! Visits: help for a person who was read a PIN or asked for it, from the first word to the report on it.
//!
//! A queue is a machine of the directory with the label `visits` and no address: who may help there, and with what, is said by the rules, as
//! everywhere. [`Visit`] is the state machine: what happens comes in with its time, what must be done goes out as [`VisitEffect`].

mod files;
mod shell;

pub use files::{FileState, FileWay, GivenFile, LARGEST_FILE, MOST_FILES, file_name};
pub use shell::{LONGEST_TYPED, ShellReader, ToShell, Unreadable};

use crate::policy::{Capabilities, Capability};
use jiff::{SignedDuration, Timestamp};
use serde::{Deserialize, Serialize};

/// The label of a machine that is a queue.
pub const QUEUE_LABEL: &str = "visits";
/// The account in whose name things are done on the computer of whoever is helped.
pub const VISITED_ACCOUNT: &str = "visited";
/// What can be done on a screen that a person shares from their browser.
pub const SHARED: [Capability; 1] = [Capability::View];
/// A desktop's server for the person alone, which the program for a visit connects to where it cannot show the screen itself.
pub const VISITED_SERVER: &str = "127.0.0.1:5900";
/// What can be done besides where the person started the program for a visit, each after they agreed to it.
pub const WITH_PROGRAM: [Capability; 4] = [Capability::Control, Capability::ClipboardIn, Capability::ClipboardOut, Capability::Shell];
/// What the program for a visit is asked to open for a shell.
pub const SHELL_TARGET: &str = "shell-of-the-person";
/// Columns and rows of its terminal, until whoever works in it has another size.
pub const SHELL_SIZE: (u16, u16) = (100, 30);

/// Remarks of one visit at most, and their length in characters.
const MOST_REMARKS: usize = 500;
const LONGEST_REMARK: usize = 1000;
/// Pictures of one visit at most.
pub const MOST_PICTURES: usize = 20;
/// Whoever helped is reminded to close it so long after its end.
const REMINDER: SignedDuration = SignedDuration::from_mins(5);

/// How things stand.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Hash, Serialize, Deserialize)]
#[serde(rename_all = "kebab-case")]
pub enum VisitState {
    /// Somebody waits: the person for help, or whoever helps for the person.
    Waiting,
    /// They are connected.
    Active,
    /// It is over, with or without a connection.
    Ended,
    /// Nobody came in time.
    Expired,
}

impl VisitState {
    /// Its word.
    pub fn word(self) -> &'static str {
        match self {
            Self::Waiting => "waiting",
            Self::Active => "active",
            Self::Ended => "ended",
            Self::Expired => "expired",
        }
    }
}

/// How it went.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Serialize, Deserialize)]
#[serde(rename_all = "kebab-case")]
pub enum Outcome {
    /// It is mended.
    Solved,
    /// It is not, and somebody goes on with it.
    Unsolved,
    /// Nobody came.
    NoShow,
    /// The person did not agree.
    Refused,
    /// Nobody said.
    NotSaid,
}

impl Outcome {
    /// Every outcome.
    pub const ALL: [Outcome; 5] = [Self::Solved, Self::Unsolved, Self::NoShow, Self::Refused, Self::NotSaid];

    /// Its word.
    pub fn word(self) -> &'static str {
        match self {
            Self::Solved => "solved",
            Self::Unsolved => "unsolved",
            Self::NoShow => "no-show",
            Self::Refused => "refused",
            Self::NotSaid => "not-said",
        }
    }

    /// The one of that word.
    pub fn from_word(word: &str) -> Option<Self> {
        Self::ALL.into_iter().find(|o| o.word() == word)
    }
}

/// What is known of the person's computer, as their browser and the program for a visit tell: nobody vouches for it.
#[derive(Debug, Clone, Default, PartialEq, Eq, Serialize, Deserialize)]
#[serde(default)]
pub struct Device {
    /// Operating system.
    pub system: String,
    /// Browser.
    pub browser: String,
    /// Width and height of the screen, as text.
    pub screen: String,
    /// Address from which it comes.
    pub address: String,
    /// What it calls itself; like what follows, known where the program for a visit runs.
    pub host: String,
    /// Who is logged in.
    pub people: Vec<String>,
    /// The machine of the directory that it is, where the person typed the PIN on the page of its agent: that it vouches for.
    pub machine: String,
    /// What is not in order there, in words: disk not encrypted, firewall off, updates pending.
    pub disorder: Vec<String>,
}

/// What a remark is.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Serialize, Deserialize)]
#[serde(rename_all = "kebab-case")]
pub enum RemarkKind {
    /// What was said between the two.
    Chat,
    /// What whoever helps wrote down.
    Note,
    /// Who agreed to what, or did not.
    Consent,
    /// Who came, went, took over.
    Step,
}

/// Something that was said, noted or done.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
pub struct Remark {
    /// When.
    pub at: Timestamp,
    /// What it is.
    pub kind: RemarkKind,
    /// By whom; empty for the person who is helped.
    pub who: String,
    /// What.
    pub text: String,
}

/// A picture of the screen that was kept.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
pub struct KeptPicture {
    /// Identifier.
    pub id: String,
    /// When.
    pub at: Timestamp,
    /// By whom.
    pub by: String,
    /// Bytes of the PNG.
    pub bytes: u64,
    /// SHA-256 of it, hexadecimal.
    pub sha256: String,
}

/// How it was closed.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
pub struct Closing {
    /// When.
    pub at: Timestamp,
    /// By whom; empty where it closed itself.
    pub by: String,
    /// How it went.
    pub outcome: Outcome,
    /// What is to be said of it.
    pub notes: String,
}

/// What is known when a visit is made.
#[derive(Debug, Clone, Default, PartialEq, Eq, Serialize, Deserialize)]
pub struct VisitRequest {
    /// Queue: name of a machine with the label `visits`.
    pub queue: String,
    /// Name of the person who is helped.
    pub person: String,
    /// Their mail address; empty where it is not known.
    pub mail: String,
    /// What it is about.
    pub reason: String,
    /// Ticket; empty for none.
    pub ticket: String,
}

/// What must be done outside.
#[derive(Debug, Clone, PartialEq, Eq)]
pub enum VisitEffect {
    /// This technician is to be reminded to close it.
    Remind(String),
    /// Its record is to be sent.
    Report,
}

/// Times that visits keep.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub struct VisitTimes {
    /// How long a PIN is good.
    pub pin: SignedDuration,
    /// How long somebody waits in a queue.
    pub queue: SignedDuration,
    /// How long after its end an unclosed visit closes itself.
    pub close: SignedDuration,
}

/// Why something cannot be done with a visit.
#[derive(Debug, Clone, PartialEq, Eq, thiserror::Error)]
pub enum VisitFault {
    /// It is in another state.
    #[error("this visit is {}, and for that it would have to be {}", .is.word(), .needed)]
    State {
        /// In which it is.
        is: VisitState,
        /// In which it would have to be.
        needed: &'static str,
    },
    /// Nobody has it.
    #[error("nobody has picked this visit up")]
    NotPickedUp,
    /// The answer is to another question.
    #[error("that answers another question than the one that is asked now")]
    OtherQuestion,
    /// The person did not agree.
    #[error("the person did not agree to that")]
    NotAgreed,
    /// It is closed.
    #[error("this visit is closed")]
    Closed,
    /// It has as many pictures or remarks as it can have.
    #[error("this visit has as many pictures as it can have ({MOST_PICTURES})")]
    Full,
    /// It has as many files as it can have.
    #[error("this visit has as many files as it can have ({MOST_FILES})")]
    ManyFiles,
    /// There is no such file to be taken.
    #[error("there is no such file any more")]
    NoFile,
}

/// A visit. Call the methods with what happens; then take [`Visit::poll_effect`] until there is none, and call [`Visit::handle_timeout`] when
/// [`Visit::poll_timeout`] has come.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
pub struct Visit {
    /// Identifier.
    pub id: String,
    /// What was said when it was made.
    pub request: VisitRequest,
    /// Who made it; empty where the person asked for help themselves.
    pub by: String,
    /// Who helps.
    pub technician: Option<String>,
    /// How things stand.
    pub state: VisitState,
    /// When it was made.
    pub made: Timestamp,
    /// When the person came.
    pub arrived: Option<Timestamp>,
    /// When they were connected first.
    pub began: Option<Timestamp>,
    /// When it ended.
    pub ended: Option<Timestamp>,
    /// How it was closed.
    pub closed: Option<Closing>,
    /// What the person agreed to; none while they did not answer.
    pub agreed: Option<Vec<Capability>>,
    /// Counts the questions that were put to the person: an answer counts for its own question alone.
    #[serde(default)]
    pub question: u64,
    /// Their computer.
    pub device: Device,
    /// Sessions that belong to it.
    pub sessions: Vec<String>,
    /// Everybody who helped, in the order in which they came.
    pub helpers: Vec<String>,
    /// What was said, noted and done.
    pub remarks: Vec<Remark>,
    /// Pictures that were kept.
    pub pictures: Vec<KeptPicture>,
    /// Files that were given, each way.
    #[serde(default)]
    pub files: Vec<GivenFile>,
    waits_until: Timestamp,
    reminded: bool,
    #[serde(skip)]
    effects: Vec<VisitEffect>,
}

impl Visit {
    /// Makes a visit: by somebody who helps and reads a PIN out, or by the person themselves, who waits from then on.
    pub fn new(id: String, request: VisitRequest, by: &str, times: &VisitTimes, now: Timestamp) -> Self {
        let wait = if by.is_empty() { times.queue } else { times.pin };
        let mut visit = Self {
            id,
            request,
            by: by.into(),
            technician: Some(by.to_string()).filter(|b| !b.is_empty()),
            state: VisitState::Waiting,
            made: now,
            arrived: by.is_empty().then_some(now),
            began: None,
            ended: None,
            closed: None,
            agreed: None,
            question: 0,
            device: Device::default(),
            sessions: vec![],
            helpers: vec![],
            remarks: vec![],
            pictures: vec![],
            files: vec![],
            waits_until: now.saturating_add(wait).unwrap_or(now),
            reminded: false,
            effects: vec![],
        };
        visit.helpers.extend(visit.technician.clone());
        visit
    }

    fn must_be(&self, states: &[VisitState], needed: &'static str) -> Result<(), VisitFault> {
        if self.closed.is_some() {
            return Err(VisitFault::Closed);
        }
        if states.contains(&self.state) { Ok(()) } else { Err(VisitFault::State { is: self.state, needed }) }
    }

    /// The person came: they entered the PIN.
    ///
    /// # Errors
    /// When nobody waits for them any more.
    pub fn handle_arrival(&mut self, device: Device, times: &VisitTimes, now: Timestamp) -> Result<(), VisitFault> {
        self.must_be(&[VisitState::Waiting], "waiting")?;
        self.arrived.get_or_insert(now);
        self.device = device;
        self.waits_until = now.saturating_add(times.queue).unwrap_or(now);
        self.remark(now, RemarkKind::Step, "", "came");
        Ok(())
    }

    /// Somebody takes it, from the queue or from whoever had it.
    ///
    /// # Errors
    /// When it is over.
    pub fn pick_up(&mut self, who: &str, now: Timestamp) -> Result<(), VisitFault> {
        self.must_be(&[VisitState::Waiting, VisitState::Active, VisitState::Ended], "waiting, active or ended")?;
        if self.technician.as_deref() != Some(who) {
            self.technician = Some(who.into());
            // They ask in their own name.
            self.ask_again();
            if !self.helpers.iter().any(|h| h == who) {
                self.helpers.push(who.into());
            }
            self.remark(now, RemarkKind::Step, who, "took this visit");
        }
        Ok(())
    }

    /// It goes to another queue, or back into its own, for whoever is next.
    ///
    /// # Errors
    /// When it is not waiting.
    pub fn reassign(&mut self, queue: &str, who: &str, now: Timestamp) -> Result<(), VisitFault> {
        self.must_be(&[VisitState::Waiting], "waiting")?;
        self.request.queue = queue.into();
        self.technician = None;
        // Whoever comes next asks again, in their own name.
        self.ask_again();
        self.remark(now, RemarkKind::Step, who, &format!("passed it on to {queue}"));
        Ok(())
    }

    /// What was agreed to counts no longer, nor does an answer that is on its way.
    fn ask_again(&mut self) {
        self.agreed = None;
        self.question += 1;
    }

    /// Who had it cannot help any more: it waits for somebody else, with a new question. One that has ended is left to be closed.
    pub fn give_up(&mut self, times: &VisitTimes, now: Timestamp) {
        let Some(who) = self.technician.take() else { return };
        if matches!(self.state, VisitState::Waiting | VisitState::Active) {
            self.state = VisitState::Waiting;
            self.waits_until = now.saturating_add(times.queue).unwrap_or(now);
        }
        self.ask_again();
        self.remark(now, RemarkKind::Step, &who, "cannot help any more");
    }

    /// A session in which somebody looked is over: the next one is a question of its own. Of somebody who had the visit before, it
    /// concerns nobody.
    pub fn handle_session_over(&mut self, session: &str, who: &str) {
        let theirs = self.technician.as_deref() == Some(who) && self.sessions.iter().any(|s| s == session);
        if theirs && matches!(self.state, VisitState::Waiting | VisitState::Active) {
            self.ask_again();
        }
    }

    /// The person answers the question of this number: they agreed to these, of what can be asked; to none of them is a no, and ends
    /// it.
    ///
    /// # Errors
    /// When nothing is asked of them now, or something else is.
    pub fn handle_answer(&mut self, question: u64, agreed: Capabilities, now: Timestamp) -> Result<(), VisitFault> {
        self.must_be(&[VisitState::Waiting, VisitState::Active], "waiting or active")?;
        // A no is a no to whoever asks.
        if question != self.question && !agreed.is_empty() {
            return Err(VisitFault::OtherQuestion);
        }
        let who = self.technician.clone().ok_or(VisitFault::NotPickedUp)?;
        let agreed: Vec<Capability> = agreed.iter().collect();
        let words: Vec<&str> = agreed.iter().map(|c| c.word()).collect();
        if agreed.is_empty() {
            self.remark(now, RemarkKind::Consent, "", &format!("refused {who}"));
            self.agreed = Some(vec![]);
            self.handle_end(now);
        } else {
            self.remark(now, RemarkKind::Consent, "", &format!("allowed {who}: {}", words.join(", ")));
            self.agreed = Some(agreed);
        }
        Ok(())
    }

    /// The person was asked within the visit for one more, and agreed or not; or takes back what they agreed to.
    ///
    /// # Errors
    /// When nobody helps them, or they did not agree to be helped at all.
    pub fn handle_consent(&mut self, to: Capability, yes: bool, now: Timestamp) -> Result<(), VisitFault> {
        self.must_be(&[VisitState::Waiting, VisitState::Active], "waiting or active")?;
        let who = self.technician.clone().ok_or(VisitFault::NotPickedUp)?;
        let agreed = self.agreed.as_mut().filter(|a| !a.is_empty()).ok_or(VisitFault::NotAgreed)?;
        let had = agreed.contains(&to);
        agreed.retain(|c| *c != to);
        if yes {
            agreed.push(to);
        }
        let verb = match (yes, had) {
            (true, _) => "allowed",
            (false, true) => "took back from",
            (false, false) => "refused",
        };
        self.remark(now, RemarkKind::Consent, "", &format!("{verb} {who}: {}", to.word()));
        Ok(())
    }

    /// A session begins that belongs to it, for which the person agreed to this.
    ///
    /// # Errors
    /// When the person did not, or it is over.
    pub fn handle_began(&mut self, session: &str, needs: Capability, now: Timestamp) -> Result<(), VisitFault> {
        self.must_be(&[VisitState::Waiting, VisitState::Active], "waiting or active")?;
        if !self.agreed.as_ref().is_some_and(|a| a.contains(&needs)) {
            return Err(VisitFault::NotAgreed);
        }
        self.state = VisitState::Active;
        self.began.get_or_insert(now);
        self.sessions.push(session.into());
        Ok(())
    }

    /// Whoever helps began a session on the managed machine at which the person sits: what is done there is asked and answered on its own page.
    ///
    /// # Errors
    /// When it is over.
    pub fn handle_joined(&mut self, session: &str, now: Timestamp) -> Result<(), VisitFault> {
        self.must_be(&[VisitState::Waiting, VisitState::Active], "waiting or active")?;
        self.state = VisitState::Active;
        self.began.get_or_insert(now);
        self.sessions.push(session.into());
        Ok(())
    }

    /// It is over for whichever side: what is left is to close it.
    pub fn handle_end(&mut self, now: Timestamp) {
        if matches!(self.state, VisitState::Waiting | VisitState::Active) {
            self.state = VisitState::Ended;
            self.ended = Some(now);
            self.lose_files(FileWay::ToPerson, now);
        }
    }

    /// Something was said or noted. Beyond the most it is in the recording alone.
    pub fn remark(&mut self, at: Timestamp, kind: RemarkKind, who: &str, text: &str) {
        if self.remarks.len() < MOST_REMARKS {
            let text = text.chars().take(LONGEST_REMARK).collect();
            self.remarks.push(Remark { at, kind, who: who.into(), text });
        }
    }

    /// A picture was kept.
    ///
    /// # Errors
    /// When it has as many as it can have, or is closed.
    pub fn keep_picture(&mut self, picture: KeptPicture) -> Result<(), VisitFault> {
        self.must_be(&[VisitState::Active, VisitState::Ended], "active or ended")?;
        if self.pictures.len() >= MOST_PICTURES {
            return Err(VisitFault::Full);
        }
        self.pictures.push(picture);
        Ok(())
    }

    /// Somebody closes it; what goes on ends.
    ///
    /// # Errors
    /// When it is closed already.
    pub fn close(&mut self, by: &str, outcome: Outcome, notes: &str, now: Timestamp) -> Result<(), VisitFault> {
        if self.closed.is_some() {
            return Err(VisitFault::Closed);
        }
        self.handle_end(now);
        self.shut(Closing { at: now, by: by.into(), outcome, notes: notes.into() });
        Ok(())
    }

    fn shut(&mut self, how: Closing) {
        self.lose_files(FileWay::ToPerson, how.at);
        self.lose_files(FileWay::FromPerson, how.at);
        self.closed = Some(how);
        self.effects.push(VisitEffect::Report);
    }

    /// Looks at the time.
    pub fn handle_timeout(&mut self, times: &VisitTimes, now: Timestamp) {
        if self.closed.is_some() {
            return;
        }
        match self.state {
            VisitState::Waiting if now >= self.waits_until => {
                self.state = VisitState::Expired;
                self.ended = Some(now);
                let outcome = if self.arrived.is_some() { Outcome::NotSaid } else { Outcome::NoShow };
                self.shut(Closing { at: now, by: String::new(), outcome, notes: String::new() });
            }
            VisitState::Waiting | VisitState::Active | VisitState::Expired => {}
            VisitState::Ended => {
                let ended = self.ended.unwrap_or(now);
                if !self.reminded && now >= reminder(ended, times) {
                    self.reminded = true;
                    self.effects.extend(self.technician.clone().map(VisitEffect::Remind));
                }
                if now >= ended.saturating_add(times.close).unwrap_or(now) {
                    let refused = self.agreed.as_ref().is_some_and(Vec::is_empty);
                    let outcome = if refused { Outcome::Refused } else { Outcome::NotSaid };
                    self.shut(Closing { at: now, by: String::new(), outcome, notes: String::new() });
                }
            }
        }
    }

    /// The next instant at which [`Visit::handle_timeout`] has something to do.
    pub fn poll_timeout(&self, times: &VisitTimes) -> Option<Timestamp> {
        if self.closed.is_some() {
            return None;
        }
        match self.state {
            VisitState::Waiting => Some(self.waits_until),
            VisitState::Active | VisitState::Expired => None,
            VisitState::Ended => {
                let ended = self.ended?;
                if self.reminded { ended.saturating_add(times.close).ok() } else { Some(reminder(ended, times)) }
            }
        }
    }

    /// What must be done next.
    pub fn poll_effect(&mut self) -> Option<VisitEffect> {
        if self.effects.is_empty() { None } else { Some(self.effects.remove(0)) }
    }

    /// How things stand, in a sentence.
    pub fn sentence(&self) -> String {
        let person = if self.request.person.is_empty() { "Somebody" } else { &self.request.person };
        let queue = &self.request.queue;
        match (self.state, &self.technician, &self.closed) {
            (_, _, Some(c)) => format!("The visit of {person} is closed: {}.", c.outcome.word()),
            (VisitState::Waiting, Some(t), _) if self.arrived.is_none() => format!("{t} waits for {person} to enter the PIN."),
            (VisitState::Waiting, Some(t), _) => format!("{person} is there; {t} helps."),
            (VisitState::Waiting, None, _) => format!("{person} waits for help in {queue}."),
            (VisitState::Active, t, _) => format!("{} helps {person}.", t.as_deref().unwrap_or("Somebody")),
            (VisitState::Ended, _, _) => format!("The visit of {person} is over and not closed yet."),
            (VisitState::Expired, _, _) => format!("The visit of {person} expired."),
        }
    }
}

fn reminder(ended: Timestamp, times: &VisitTimes) -> Timestamp {
    ended.saturating_add(REMINDER.min(times.close / 2)).unwrap_or(ended)
}

#[cfg(test)]
mod tests {
    use super::*;

    pub(super) const TIMES: VisitTimes =
        VisitTimes { pin: SignedDuration::from_mins(10), queue: SignedDuration::from_hours(4), close: SignedDuration::from_hours(1) };

    pub(super) fn t(s: i64) -> Timestamp {
        Timestamp::from_second(1_780_000_000 + s).unwrap()
    }

    pub(super) fn request() -> VisitRequest {
        VisitRequest { queue: "workstations".into(), person: "Rhea Calder".into(), ticket: "OBS-2101".into(), ..VisitRequest::default() }
    }

    fn view() -> Capabilities {
        Capabilities::of([Capability::View])
    }

    fn run(visit: &mut Visit, until: i64) -> Vec<(i64, VisitEffect)> {
        let mut seen = vec![];
        while let Some(at) = visit.poll_timeout(&TIMES).filter(|at| *at <= t(until)) {
            visit.handle_timeout(&TIMES, at);
            while let Some(e) = visit.poll_effect() {
                seen.push((at.as_second() - t(0).as_second(), e));
            }
        }
        seen
    }

    #[test]
    fn a_visit_goes_from_its_pin_to_its_report() {
        let mut v = Visit::new("v1".into(), request(), "mira", &TIMES, t(0));
        assert_eq!(v.sentence(), "mira waits for Rhea Calder to enter the PIN.");
        assert_eq!(v.handle_began("s", Capability::View, t(5)), Err(VisitFault::NotAgreed));
        v.handle_arrival(Device::default(), &TIMES, t(30)).unwrap();
        v.handle_answer(v.question, view(), t(40)).unwrap();
        assert_eq!(v.handle_began("s", Capability::Control, t(41)), Err(VisitFault::NotAgreed));
        v.handle_began("s", Capability::View, t(42)).unwrap();
        assert_eq!((v.state, v.sentence().as_str()), (VisitState::Active, "mira helps Rhea Calder."));
        assert!(run(&mut v, 90_000).is_empty(), "what is active does not end by itself");
        // Control is asked for within it, and can be taken back.
        v.handle_consent(Capability::Control, true, t(43)).unwrap();
        v.handle_consent(Capability::Control, true, t(44)).unwrap();
        assert_eq!(v.agreed, Some(vec![Capability::View, Capability::Control]));
        v.handle_consent(Capability::Control, false, t(45)).unwrap();
        assert_eq!(v.agreed, Some(vec![Capability::View]));
        assert_eq!(v.remarks.last().map(|r| r.text.as_str()), Some("took back from mira: control"));
        v.handle_joined("at-the-machine", t(46)).unwrap();
        assert_eq!(v.sessions, ["s", "at-the-machine"]);
        v.pick_up("ines", t(50)).unwrap();
        assert_eq!(v.helpers, ["mira", "ines"]);
        v.handle_end(t(100));
        v.close("ines", Outcome::Solved, "a cable", t(160)).unwrap();
        assert_eq!(v.poll_effect(), Some(VisitEffect::Report));
        assert_eq!(v.close("ines", Outcome::Solved, "", t(161)), Err(VisitFault::Closed));
        assert_eq!(v.pick_up("mira", t(162)), Err(VisitFault::Closed));
        let again: Visit = serde_json::from_str(&serde_json::to_string(&v).unwrap()).unwrap();
        assert_eq!(again, v);
    }

    #[test]
    fn who_does_not_come_lets_it_expire_and_that_is_reported() {
        let mut v = Visit::new("v1".into(), request(), "mira", &TIMES, t(0));
        assert_eq!(run(&mut v, 100_000), [(600, VisitEffect::Report)]);
        assert_eq!((v.state, v.closed.as_ref().map(|c| c.outcome)), (VisitState::Expired, Some(Outcome::NoShow)));
        assert!(v.handle_arrival(Device::default(), &TIMES, t(601)).is_err());
    }

    #[test]
    fn an_unclosed_visit_is_reminded_of_and_closes_itself() {
        let mut v = Visit::new("v1".into(), request(), "mira", &TIMES, t(0));
        v.handle_arrival(Device::default(), &TIMES, t(1)).unwrap();
        v.handle_answer(v.question, view(), t(2)).unwrap();
        v.handle_began("s", Capability::View, t(3)).unwrap();
        v.handle_end(t(10));
        assert_eq!(run(&mut v, 100_000), [(310, VisitEffect::Remind("mira".into())), (3610, VisitEffect::Report)]);
        assert_eq!(v.closed.as_ref().map(|c| (c.by.as_str(), c.outcome)), Some(("", Outcome::NotSaid)));
    }

    #[test]
    fn whoever_asks_for_help_waits_in_the_queue_until_somebody_takes_it() {
        let mut v = Visit::new("v1".into(), request(), "", &TIMES, t(0));
        assert_eq!(v.sentence(), "Rhea Calder waits for help in workstations.");
        assert_eq!(v.handle_answer(v.question, view(), t(1)), Err(VisitFault::NotPickedUp));
        v.pick_up("mira", t(5)).unwrap();
        v.reassign("instruments", "mira", t(6)).unwrap();
        assert_eq!((v.technician.clone(), v.request.queue.as_str()), (None, "instruments"));
        v.pick_up("sunniva", t(7)).unwrap();
        assert_eq!(v.handle_consent(Capability::Control, true, t(7)), Err(VisitFault::NotAgreed));
        v.handle_answer(v.question, Capabilities::NONE, t(8)).unwrap();
        assert_eq!(v.state, VisitState::Ended);
        assert_eq!(run(&mut v, 100_000).last(), Some(&(3608, VisitEffect::Report)));
        assert_eq!(v.closed.as_ref().map(|c| c.outcome), Some(Outcome::Refused));
        let mut late = Visit::new("v2".into(), request(), "", &TIMES, t(0));
        assert_eq!(run(&mut late, 100_000), [(4 * 3600, VisitEffect::Report)]);
    }

    #[test]
    fn remarks_and_pictures_are_bounded() {
        let mut v = Visit::new("v1".into(), request(), "mira", &TIMES, t(0));
        (0..600).for_each(|n| v.remark(t(n), RemarkKind::Chat, "", &"x".repeat(2000)));
        assert_eq!((v.remarks.len(), v.remarks[0].text.len()), (MOST_REMARKS, LONGEST_REMARK));
        let picture = || KeptPicture { id: "p".into(), at: t(0), by: "mira".into(), bytes: 1, sha256: String::new() };
        assert!(v.keep_picture(picture()).is_err(), "nothing is seen yet");
        v.handle_end(t(1));
        (0..MOST_PICTURES).for_each(|_| v.keep_picture(picture()).unwrap());
        assert_eq!(v.keep_picture(picture()), Err(VisitFault::Full));
    }
}
