//! What is asked and shown at this machine, and the answers on their way to it.

use aerie_core::policy::Capability;
use aerie_core::session::consent::{FromMachine, MOST_POINTS, Question, Talk, Witness};
use base64::Engine as _;
use base64::engine::general_purpose::STANDARD;
use jiff::Timestamp;
use std::collections::BTreeMap;
use std::sync::atomic::{AtomicU16, Ordering};
use std::sync::{Arc, Mutex, MutexGuard, PoisonError};
use tokio::sync::{mpsc, watch};

/// Things said, and lines, that are shown at a time.
const MOST_SAID: usize = 50;
const MOST_LINES: usize = 50;
/// Characters of a picture in base64: of a screen full of photographs.
const MOST_PICTURE: usize = 2 << 20;

/// Where a question stands.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub(super) enum Standing {
    /// It waits for an answer.
    Asked,
    /// It was answered, and is not live yet.
    Answered,
    /// Somebody is connected, since then.
    Live(Timestamp),
    /// The person switched it off for the time being.
    Off(Timestamp),
}

#[derive(Debug)]
struct Entry {
    question: Question,
    standing: Standing,
    talk: Shared,
    acts: mpsc::Sender<FromMachine>,
}

/// What was said and drawn.
#[derive(Debug, Default, Clone)]
pub(super) struct Shared {
    /// Who said what.
    pub(super) said: Vec<(String, String)>,
    /// Lines over the picture.
    pub(super) lines: Vec<Vec<(u16, u16)>>,
    /// The picture that is drawn on: width, height, PNG, and its number.
    pub(super) picture: Option<(u16, u16, Arc<[u8]>, u32)>,
    /// What came of the next one.
    pieces: String,
}

impl Shared {
    /// Takes something; the service is trusted to say it, and not to fill memory. Whether there is anything new to be seen.
    fn take(&mut self, talk: Talk) -> bool {
        match talk {
            Talk::Said { who, text } => {
                if self.said.len() >= MOST_SAID {
                    self.said.remove(0);
                }
                self.said.push((who, text));
            }
            Talk::Line(points) if points.is_empty() => self.lines.clear(),
            Talk::Line(points) if self.lines.len() < MOST_LINES && points.len() <= MOST_POINTS => self.lines.push(points),
            Talk::Line(_) => {}
            Talk::Picture { width, height, piece, last } => {
                if self.pieces.len() + piece.len() > MOST_PICTURE {
                    self.pieces.clear();
                    return false;
                }
                self.pieces += &piece;
                if last && let Ok(png) = STANDARD.decode(std::mem::take(&mut self.pieces)) {
                    let number = self.picture.as_ref().map_or(1, |p| p.3.wrapping_add(1));
                    self.picture = Some((width, height, png.into(), number));
                }
                // The line over it, which follows, is the news.
                return false;
            }
        }
        true
    }
}

#[derive(Debug)]
pub(super) struct Desk {
    most: usize,
    most_of_one: usize,
    entries: Mutex<BTreeMap<String, Entry>>,
    version: watch::Sender<u64>,
    pub(super) port: AtomicU16,
}

/// One question that is shown; it goes away with this.
pub(super) struct Shown {
    desk: Arc<Desk>,
    id: String,
    acts: mpsc::Receiver<FromMachine>,
}

/// What somebody at the machine wants.
#[derive(Debug, Clone, Copy, PartialEq, Eq, serde::Serialize, serde::Deserialize)]
#[serde(rename_all = "kebab-case")]
pub(super) enum Act {
    Agree,
    Refuse,
    Stop,
    Off,
    On,
}

/// What became of it.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub(super) enum Taken {
    Yes,
    /// It was answered before, or is over.
    Late,
    /// It came from the account in which whoever asks works here: it may have come from themselves.
    OwnAccount,
}

impl Desk {
    /// With a maximum number of questions, and a maximum per person.
    pub(super) fn new(most: usize, most_of_one: usize) -> Self {
        Self { most, most_of_one, entries: Mutex::default(), version: watch::channel(1).0, port: AtomicU16::new(0) }
    }

    fn lock(&self) -> MutexGuard<'_, BTreeMap<String, Entry>> {
        self.entries.lock().unwrap_or_else(PoisonError::into_inner)
    }

    /// Shows a question; none where there are too many, of all or of this person, or one of that identifier for the same.
    pub(super) fn show(self: &Arc<Self>, question: Question) -> Option<Shown> {
        let (acts, receive) = mpsc::channel(8);
        // Each port that is asked for is a question of its own.
        let mut id = format!("{}-{}", question.id, question.capability.word());
        if let Some(target) = &question.target {
            id.push('-');
            id.extend(target.chars().map(|c| if c.is_alphanumeric() { c } else { '-' }));
        }
        {
            let mut entries = self.lock();
            let theirs = entries.values().filter(|e| e.question.person == question.person).count();
            if entries.len() >= self.most || theirs >= self.most_of_one || entries.contains_key(&id) {
                return None;
            }
            entries.insert(id.clone(), Entry { question, standing: Standing::Asked, talk: Shared::default(), acts });
        }
        self.changed();
        Some(Shown { desk: self.clone(), id, acts: receive })
    }

    fn changed(&self) {
        self.version.send_modify(|v| *v += 1);
    }

    pub(super) fn changes(&self) -> watch::Receiver<u64> {
        self.version.subscribe()
    }

    /// Everything that is shown.
    pub(super) fn all(&self) -> Vec<(String, Question, Standing, Shared)> {
        self.lock().iter().map(|(id, e)| (id.clone(), e.question.clone(), e.standing, e.talk.clone())).collect()
    }

    /// The picture that is drawn on.
    pub(super) fn picture(&self, id: &str) -> Option<Arc<[u8]>> {
        self.lock().get(id)?.talk.picture.as_ref().map(|p| p.2.clone())
    }

    /// Somebody at the machine says something; false where nobody hears it.
    pub(super) fn say(&self, id: &str, text: String) -> bool {
        let entries = self.lock();
        let live = entries.get(id).filter(|e| matches!(e.standing, Standing::Live(_)) && is_seen(e.question.capability));
        live.is_some_and(|e| e.acts.try_send(FromMachine::Said(text)).is_ok())
    }

    /// Takes what somebody wants.
    pub(super) fn act(&self, id: &str, act: Act, witness: Witness) -> Taken {
        let mut entries = self.lock();
        let works_here = |e: &Entry, person: &str| {
            e.question.person == person
                && e.question.account == witness.account
                && e.question.capability.acts()
                && matches!(e.standing, Standing::Live(_) | Standing::Off(_))
        };
        let asker = entries.get(id).map(|e| e.question.person.clone()).unwrap_or_default();
        let own = matches!(act, Act::Agree | Act::On) && entries.values().any(|e| works_here(e, &asker));
        let Some(entry) = entries.get_mut(id) else { return Taken::Late };
        if own {
            return Taken::OwnAccount;
        }
        let late = entry.standing == Standing::Asked && Timestamp::now() >= entry.question.until;
        let (said, next) = match (act, entry.standing) {
            (Act::Agree, Standing::Asked) if !late => (FromMachine::Agreed(witness), Standing::Answered),
            (Act::Refuse, Standing::Asked) => (FromMachine::Refused(witness), Standing::Answered),
            (Act::Stop, Standing::Answered | Standing::Live(_) | Standing::Off(_)) => (FromMachine::Refused(witness), Standing::Answered),
            (Act::Off, Standing::Live(since)) => (FromMachine::SwitchedOff(true, witness), Standing::Off(since)),
            (Act::On, Standing::Off(since)) => (FromMachine::SwitchedOff(false, witness), Standing::Live(since)),
            _ => return Taken::Late,
        };
        let taken = entry.acts.try_send(said).is_ok();
        if taken {
            entry.standing = next;
        }
        drop(entries);
        self.changed();
        if taken { Taken::Yes } else { Taken::Late }
    }
}

/// Whether it is a screen that is used: there people talk and point.
pub(super) fn is_seen(capability: Capability) -> bool {
    matches!(capability, Capability::View | Capability::Control)
}

impl Shown {
    /// Something is said or drawn for the person.
    pub(super) fn take(&self, talk: Talk) {
        let news = self.desk.lock().get_mut(&self.id).is_some_and(|entry| entry.talk.take(talk));
        if news {
            self.desk.changed();
        }
    }

    /// What somebody at the machine says next.
    pub(super) async fn next(&mut self) -> FromMachine {
        match self.acts.recv().await {
            Some(said) => said,
            None => std::future::pending().await,
        }
    }

    fn stand(&self, standing: Standing) {
        if let Some(entry) = self.desk.lock().get_mut(&self.id) {
            entry.standing = standing;
        }
        self.desk.changed();
    }

    /// It was answered.
    pub(super) fn answered(&self) {
        self.stand(Standing::Answered);
    }

    /// It has begun.
    pub(super) fn began(&self, at: Timestamp) {
        self.stand(Standing::Live(at));
    }

    /// Port of the page.
    pub(super) fn port(&self) -> u16 {
        self.desk.port.load(Ordering::Relaxed)
    }
}

impl Drop for Shown {
    fn drop(&mut self) {
        self.desk.lock().remove(&self.id);
        self.desk.changed();
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use aerie_core::policy::Consent;
    use jiff::SignedDuration;

    fn question(id: &str, seconds: i64) -> Question {
        Question {
            id: id.into(),
            who: "Ines Okafor".into(),
            person: "ines".into(),
            organisation: String::new(),
            machine: "dome".into(),
            account: "operator".into(),
            capability: Capability::Shell,
            target: None,
            reason: String::new(),
            at_most_s: None,
            recorded: true,
            mode: Consent::Ask,
            until: Timestamp::now() + SignedDuration::from_secs(seconds),
        }
    }

    fn by(account: &str) -> Witness {
        Witness { account: account.into(), ..Witness::default() }
    }

    #[tokio::test]
    async fn a_question_is_answered_once_and_taken_back_once() {
        let desk = Arc::new(Desk::new(2, 2));
        let mut shown = desk.show(question("a", 60)).unwrap();
        let act = |act| desk.act("a-shell", act, by("ines")) == Taken::Yes;
        assert!(!act(Act::Stop) && !act(Act::Off), "nothing is live yet");
        assert!(act(Act::Agree));
        assert!(!act(Act::Agree) && !act(Act::Refuse), "an answer is given once");
        assert!(matches!(shown.next().await, FromMachine::Agreed(_)));
        shown.began(Timestamp::now());
        assert!(act(Act::Off) && !act(Act::Off) && act(Act::On) && act(Act::Stop));
        assert!(matches!(shown.next().await, FromMachine::SwitchedOff(true, _)));
        drop(shown);
        assert!(!act(Act::Agree) && desk.all().is_empty(), "what is over cannot be answered");
    }

    #[test]
    fn nobody_takes_the_places_of_others() {
        let desk = Arc::new(Desk::new(4, 3));
        let of = |id: &str, person: &str| desk.show(Question { person: person.into(), ..question(id, 60) });
        let mut first: Vec<_> = (0..3).map(|n| of(&format!("i{n}"), "ines").expect("a place")).collect();
        assert!(of("i3", "ines").is_none(), "their places are taken");
        let _other = of("a", "arlo").expect("others have a place");
        assert!(of("b", "bela").is_none(), "there are no more");
        first.pop();
        assert!(of("i4", "ines").is_some(), "a question that ended frees its place");
    }

    #[test]
    fn each_forwarded_port_is_a_question_of_its_own() {
        let desk = Arc::new(Desk::new(4, 4));
        let to = |target: &str| Question { capability: Capability::Forward, target: Some(target.into()), ..question("a", 60) };
        let _first = desk.show(to("localhost:5432")).unwrap();
        let _second = desk.show(to("db.corvid-ridge.example:22")).unwrap();
        assert!(desk.show(to("localhost:5432")).is_none(), "it is asked already");
        assert_eq!(desk.act("a-forward-localhost-5432", Act::Agree, by("desk")), Taken::Yes);
        let all: Vec<String> = desk.all().into_iter().map(|(id, ..)| id).collect();
        assert_eq!(all, ["a-forward-db-corvid-ridge-example-22", "a-forward-localhost-5432"]);
    }

    #[test]
    fn whoever_works_here_gives_themselves_nothing() {
        let desk = Arc::new(Desk::new(4, 4));
        let shell = desk.show(question("a", 60)).unwrap();
        let upload = Question { capability: Capability::Upload, ..question("a", 60) };
        let _upload = desk.show(upload).unwrap();
        let other = Question { person: "arlo".into(), ..question("b", 60) };
        let _other = desk.show(other).unwrap();
        shell.began(Timestamp::now());
        assert_eq!(desk.act("a-upload", Act::Agree, by("operator")), Taken::OwnAccount);
        assert_eq!(desk.act("a-shell", Act::Off, by("operator")), Taken::Yes, "less may be wanted from anywhere");
        assert_eq!(desk.act("a-shell", Act::On, by("operator")), Taken::OwnAccount);
        assert_eq!(desk.act("a-shell", Act::On, by("desk")), Taken::Yes);
        assert_eq!(desk.act("a-upload", Act::Agree, by("desk")), Taken::Yes);
        assert_eq!(desk.act("b-shell", Act::Agree, by("operator")), Taken::Yes, "somebody else asks");
    }

    #[tokio::test]
    async fn what_is_said_and_drawn_is_shown_within_bounds_and_answered_while_it_goes_on() {
        let desk = Arc::new(Desk::new(2, 2));
        let mut shown = desk.show(Question { capability: Capability::View, ..question("a", 60) }).unwrap();
        assert!(!desk.say("a-view", "early".into()), "nobody is connected yet");
        shown.began(Timestamp::now());
        assert!(desk.say("a-view", "the left one".into()) && !desk.say("b-view", "x".into()));
        assert_eq!(shown.next().await, FromMachine::Said("the left one".into()));
        let shared = || desk.all().pop().unwrap().3;
        for n in 0..MOST_SAID + 5 {
            shown.take(Talk::Said { who: "Ines".into(), text: n.to_string() });
            shown.take(Talk::Line(vec![(1, 2), (3, 4)]));
        }
        assert_eq!((shared().said.len(), shared().said[0].1.as_str(), shared().lines.len()), (MOST_SAID, "5", MOST_LINES));
        shown.take(Talk::Line(vec![]));
        assert!(shared().lines.is_empty());
        let pieces = Talk::picture((4, 2), &[7; 30_000]);
        assert!(pieces.len() > 1);
        pieces.into_iter().for_each(|p| shown.take(p));
        assert_eq!((desk.picture("a-view").unwrap().len(), shared().picture.unwrap().3), (30_000, 1));
        // One without an end is not kept.
        let piece = Talk::Picture { width: 1, height: 1, piece: "A".repeat(12_000), last: false };
        (0..1000).for_each(|_| shown.take(piece.clone()));
        assert!(shared().pieces.len() <= MOST_PICTURE);
        // In a shell nobody talks here.
        let shell = desk.show(question("b", 60)).unwrap();
        shell.began(Timestamp::now());
        assert!(!desk.say("b-shell", "x".into()));
    }

    #[test]
    fn too_late_and_too_many() {
        let desk = Arc::new(Desk::new(2, 2));
        let _late = desk.show(question("late", -1)).unwrap();
        assert_eq!(desk.act("late-shell", Act::Agree, by("")), Taken::Late);
        assert_eq!(desk.act("late-shell", Act::Refuse, by("")), Taken::Yes, "a no is never too late");
        assert!(desk.show(question("late", 60)).is_none(), "one question of a kind");
        let _second = desk.show(question("b", 60)).unwrap();
        assert!(desk.show(question("c", 60)).is_none());
    }
}
