//! What is asked and shown at this machine, and the answers on their way to it.

use aerie_core::session::consent::{FromMachine, Question, Witness};
use jiff::Timestamp;
use std::collections::BTreeMap;
use std::sync::atomic::{AtomicU16, Ordering};
use std::sync::{Arc, Mutex, MutexGuard, PoisonError};
use tokio::sync::{mpsc, watch};

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
    acts: mpsc::Sender<FromMachine>,
}

#[derive(Debug)]
pub(super) struct Desk {
    most: usize,
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

impl Desk {
    pub(super) fn new(most: usize) -> Self {
        Self { most, entries: Mutex::default(), version: watch::channel(1).0, port: AtomicU16::new(0) }
    }

    fn lock(&self) -> MutexGuard<'_, BTreeMap<String, Entry>> {
        self.entries.lock().unwrap_or_else(PoisonError::into_inner)
    }

    /// Shows a question; none where there are too many, or one of that identifier for the same.
    pub(super) fn show(self: &Arc<Self>, question: Question) -> Option<Shown> {
        let (acts, receive) = mpsc::channel(8);
        let id = format!("{}-{}", question.id, question.capability.word());
        {
            let mut entries = self.lock();
            if entries.len() >= self.most || entries.contains_key(&id) {
                return None;
            }
            entries.insert(id.clone(), Entry { question, standing: Standing::Asked, acts });
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
    pub(super) fn all(&self) -> Vec<(String, Question, Standing)> {
        self.lock().iter().map(|(id, e)| (id.clone(), e.question.clone(), e.standing)).collect()
    }

    /// Takes what somebody wants; false where it has no meaning now.
    pub(super) fn act(&self, id: &str, act: Act, witness: Witness) -> bool {
        let mut entries = self.lock();
        let Some(entry) = entries.get_mut(id) else { return false };
        let late = entry.standing == Standing::Asked && Timestamp::now() >= entry.question.until;
        let (said, next) = match (act, entry.standing) {
            (Act::Agree, Standing::Asked) if !late => (FromMachine::Agreed(witness), Standing::Answered),
            (Act::Refuse, Standing::Asked) => (FromMachine::Refused(witness), Standing::Answered),
            (Act::Stop, Standing::Answered | Standing::Live(_) | Standing::Off(_)) => (FromMachine::Refused(witness), Standing::Answered),
            (Act::Off, Standing::Live(since)) => (FromMachine::SwitchedOff(true, witness), Standing::Off(since)),
            (Act::On, Standing::Off(since)) => (FromMachine::SwitchedOff(false, witness), Standing::Live(since)),
            _ => return false,
        };
        let taken = entry.acts.try_send(said).is_ok();
        if taken {
            entry.standing = next;
        }
        drop(entries);
        self.changed();
        taken
    }
}

impl Shown {
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
    use aerie_core::policy::{Capability, Consent};
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
            reason: String::new(),
            at_most_s: None,
            recorded: true,
            mode: Consent::Ask,
            until: Timestamp::now() + SignedDuration::from_secs(seconds),
        }
    }

    #[tokio::test]
    async fn a_question_is_answered_once_and_taken_back_once() {
        let desk = Arc::new(Desk::new(2));
        let mut shown = desk.show(question("a", 60)).unwrap();
        let act = |act| desk.act("a-shell", act, Witness::default());
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
    fn too_late_and_too_many() {
        let desk = Arc::new(Desk::new(2));
        let _late = desk.show(question("late", -1)).unwrap();
        assert!(!desk.act("late-shell", Act::Agree, Witness::default()));
        assert!(desk.act("late-shell", Act::Refuse, Witness::default()), "a no is never too late");
        assert!(desk.show(question("late", 60)).is_none(), "one question of a kind");
        let _second = desk.show(question("b", 60)).unwrap();
        assert!(desk.show(question("c", 60)).is_none());
    }
}
