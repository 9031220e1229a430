//! What the person at the machine was asked in one connection, and what they agreed to: a yes counts for the use that they were asked
//! about.

use super::connection::{Intent, lock};
use aerie_core::policy::{Capability, Consent, ForwardTarget};
use std::ops::Deref;
use std::sync::{Arc, Mutex, MutexGuard, Weak};
use tokio::sync::watch;
use tokio_util::sync::CancellationToken;

/// Forwarded ports of one connection about which the person is asked, or that are shown to them, at a time: each holds a stream to
/// the agent and a place on its page, of which there are 64 for everybody.
pub(super) const MOST_TARGETS: usize = 16;

/// The answers of a connection's session.
#[derive(Debug, Default)]
pub(super) struct Consents(Mutex<State>);

#[derive(Debug, Default)]
struct State {
    entries: Vec<Entry>,
    /// Where streams lead, or are about to.
    held: Vec<Weak<ForwardTarget>>,
}

/// One use about which the person was asked.
#[derive(Debug)]
struct Entry {
    intent: Intent,
    consent: Option<Consent>,
    /// While the person is asked: what comes of it.
    asking: Option<watch::Receiver<Option<Answer>>>,
    /// While the person sees it, and can take it back: cancelled where its place is needed.
    shown: Option<CancellationToken>,
}

/// What came of a question: the sentence for the person who asked, where it was a no.
pub(super) type Answer = Result<(), String>;

/// Whose turn it is to ask.
#[derive(Debug)]
pub(super) enum Turn<'a> {
    /// The caller asks.
    Ours(Asking<'a>),
    /// Another channel asks the same.
    Another(Other),
    /// Too many ports are asked about, or in use.
    Full,
}

/// A question that is being asked. Dropped without an answer it is withdrawn.
#[derive(Debug)]
pub(super) struct Asking<'a> {
    consents: &'a Consents,
    intent: Intent,
    answer: watch::Sender<Option<Answer>>,
}

/// The same question, asked by another channel of the connection.
#[derive(Debug)]
pub(super) struct Other(watch::Receiver<Option<Answer>>);

impl Other {
    /// What came of it.
    pub(super) async fn answer(&mut self) -> Answer {
        match self.0.wait_for(Option::is_some).await.as_deref() {
            Ok(Some(answer)) => answer.clone(),
            Ok(None) | Err(_) => Err("The question was withdrawn.".into()),
        }
    }
}

/// Where a port leads that is used, or about to be: what was agreed to about it is kept as long as this is there.
#[derive(Debug, Clone)]
pub(super) struct Held(Arc<ForwardTarget>);

impl Deref for Held {
    type Target = ForwardTarget;

    fn deref(&self) -> &ForwardTarget {
        &self.0
    }
}

impl State {
    fn of(&mut self, intent: &Intent) -> Option<&mut Entry> {
        self.entries.iter_mut().find(|e| e.intent.is_same(intent))
    }

    fn change(&mut self, intent: &Intent, change: impl FnOnce(&mut Entry)) {
        if let Some(entry) = self.of(intent) {
            return change(entry);
        }
        let mut entry = Entry { intent: intent.clone(), consent: None, asking: None, shown: None };
        change(&mut entry);
        self.entries.push(entry);
    }

    /// Forgets what says nothing any more.
    fn tidy(&mut self) {
        self.entries.retain(|e| e.consent.is_some() || e.asking.is_some() || e.shown.is_some());
    }

    fn is_used(&self, intent: &Intent) -> bool {
        intent.target.as_ref().is_none_or(|target| self.held.iter().filter_map(Weak::upgrade).any(|t| t.is_same(target)))
    }

    /// A place for one more port, where need be that of one that nothing leads to now; whether there is one.
    fn make_room(&mut self) -> bool {
        if self.entries.iter().filter(|e| e.intent.target.is_some()).count() < MOST_TARGETS {
            return true;
        }
        let idle = |e: &Entry| e.asking.is_none() && !self.is_used(&e.intent);
        // What was switched off is missed less than a yes, and of these the oldest.
        let off = self.entries.iter().position(|e| e.consent.is_none() && idle(e));
        let Some(at) = off.or_else(|| self.entries.iter().position(idle)) else { return false };
        if let Some(shown) = self.entries.remove(at).shown {
            shown.cancel();
        }
        true
    }
}

impl Consents {
    fn lock(&self) -> MutexGuard<'_, State> {
        lock(&self.0)
    }

    /// The place of a question that is to be asked.
    pub(super) fn ask(&self, intent: &Intent) -> Turn<'_> {
        let mut state = self.lock();
        let (known, asked) = state.of(intent).map_or((false, None), |e| (true, e.asking.clone()));
        if let Some(asked) = asked {
            return Turn::Another(Other(asked));
        }
        if !known && intent.target.is_some() && !state.make_room() {
            return Turn::Full;
        }
        let (answer, asking) = watch::channel(None);
        state.change(intent, |e| e.asking = Some(asking));
        Turn::Ours(Asking { consents: self, intent: intent.clone(), answer })
    }

    /// The person sees it from now on. The token is cancelled when its place is needed; an earlier token for the same use is cancelled now.
    pub(super) fn show(&self, intent: &Intent) -> CancellationToken {
        let token = CancellationToken::new();
        self.lock().change(intent, |e| {
            if let Some(before) = e.shown.replace(token.clone()) {
                before.cancel();
            }
        });
        token
    }

    /// The person no longer sees it.
    pub(super) fn hide(&self, intent: &Intent, token: &CancellationToken) {
        token.cancel();
        let mut state = self.lock();
        if let Some(entry) = state.of(intent) {
            entry.shown.take_if(|shown| shown.is_cancelled());
        }
        state.tidy();
    }

    /// Keeps what is agreed to about this port.
    pub(super) fn hold(&self, target: ForwardTarget) -> Held {
        let held = Arc::new(target);
        let mut state = self.lock();
        state.held.retain(|h| h.strong_count() > 0);
        state.held.push(Arc::downgrade(&held));
        Held(held)
    }

    /// Records a yes.
    pub(super) fn give(&self, intent: impl Into<Intent>, consent: Consent) {
        self.lock().change(&intent.into(), |e| e.consent = Some(consent));
    }

    /// Removes a yes.
    pub(super) fn take_back(&self, intent: &Intent) {
        let mut state = self.lock();
        if let Some(entry) = state.of(intent) {
            entry.consent = None;
        }
        state.tidy();
    }

    /// What was agreed to for this use. Of forwarded ports in general, where none is named, one that was agreed to is enough.
    pub(super) fn of(&self, capability: Capability, target: Option<&ForwardTarget>) -> Option<Consent> {
        let state = self.lock();
        let mut agreed = state.entries.iter().filter(|e| e.intent.capability == capability).filter_map(|e| Some((&e.intent, e.consent?)));
        match target {
            None => agreed.next(),
            Some(target) => agreed.find(|(i, _)| i.target.as_ref().is_some_and(|t| t.is_same(target))),
        }
        .map(|(_, consent)| consent)
    }
}

impl Asking<'_> {
    /// Tells the others who wait for the same.
    pub(super) fn finish(self, answer: Answer) {
        self.answer.send_replace(Some(answer));
    }
}

impl Drop for Asking<'_> {
    fn drop(&mut self) {
        let mut state = self.consents.lock();
        if let Some(entry) = state.of(&self.intent) {
            entry.asking = None;
        }
        state.tidy();
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    fn to(text: &str) -> ForwardTarget {
        text.parse().unwrap()
    }

    /// Asks about a port, and gets a yes that the person can take back.
    fn agreed(consents: &Consents, port: usize) -> Option<CancellationToken> {
        let intent = to(&format!("localhost:{port}")).into();
        match consents.ask(&intent) {
            Turn::Ours(asking) => {
                consents.give(intent.clone(), Consent::Ask);
                asking.finish(Ok(()));
                Some(consents.show(&intent))
            }
            Turn::Another(_) | Turn::Full => None,
        }
    }

    #[test]
    fn a_yes_to_one_port_is_none_to_another() {
        let consents = Consents::default();
        let of = |text: &str| consents.of(Capability::Forward, Some(&to(text)));
        consents.give(to("localhost:5432"), Consent::Ask);
        consents.give(to("db.corvid-ridge.example:22"), Consent::Notice);
        assert_eq!(
            (of("127.0.0.1:5432"), of("localhost:22"), of("DB.corvid-ridge.example:22")),
            (Some(Consent::Ask), None, Some(Consent::Notice))
        );
        assert_eq!(consents.of(Capability::Forward, None), Some(Consent::Ask));
        assert_eq!(consents.of(Capability::Shell, None), None);
        consents.take_back(&to("localhost:5432").into());
        assert_eq!((of("localhost:5432"), consents.of(Capability::Forward, None)), (None, Some(Consent::Notice)));
        consents.give(Capability::View, Consent::Ask);
        consents.give(Capability::View, Consent::Notice);
        assert_eq!(consents.of(Capability::View, None), Some(Consent::Notice));
    }

    #[tokio::test]
    async fn channels_that_want_the_same_ask_once() {
        let consents = Consents::default();
        let intent: Intent = to("localhost:80").into();
        let Turn::Ours(asking) = consents.ask(&intent) else { panic!("nobody asks yet") };
        let Turn::Another(mut other) = consents.ask(&to("127.0.0.1:80").into()) else { panic!("it is asked") };
        assert!(matches!(consents.ask(&to("localhost:81").into()), Turn::Ours(_)), "another port is another question");
        asking.finish(Err("The person did not agree.".into()));
        assert_eq!(other.answer().await, Err("The person did not agree.".into()));
        let Turn::Ours(asking) = consents.ask(&intent) else { panic!("it can be asked again") };
        let Turn::Another(mut other) = consents.ask(&intent) else { panic!("it is asked") };
        drop(asking);
        assert_eq!(other.answer().await, Err("The question was withdrawn.".into()));
        assert!(consents.lock().entries.is_empty(), "no answer leaves nothing behind");
    }

    #[test]
    fn the_oldest_port_that_nothing_leads_to_makes_room() {
        let consents = Consents::default();
        let held: Vec<_> = (0..2).map(|port| consents.hold(to(&format!("localhost:{}", port + 1)))).collect();
        let tokens: Vec<_> = (1..=MOST_TARGETS).map(|port| agreed(&consents, port).unwrap()).collect();
        assert!(tokens.iter().all(|t| !t.is_cancelled()), "as many as there are places");
        let next = agreed(&consents, 100).unwrap();
        let over: Vec<usize> = (0..tokens.len()).filter(|i| tokens[*i].is_cancelled()).collect();
        assert_eq!(over, [2], "the first two are in use");
        let of = |port: usize| consents.of(Capability::Forward, Some(&to(&format!("localhost:{port}"))));
        assert_eq!((of(1), of(2), of(3), of(100)), (Some(Consent::Ask), Some(Consent::Ask), None, Some(Consent::Ask)));
        // What was switched off goes first.
        consents.take_back(&to("localhost:9").into());
        agreed(&consents, 101).unwrap();
        assert!(tokens[8].is_cancelled() && !tokens[3].is_cancelled() && !next.is_cancelled());
        drop(held);
        agreed(&consents, 102).unwrap();
        assert!(tokens[0].is_cancelled(), "nothing leads there any more");
    }

    #[test]
    fn one_port_more_than_there_are_places_is_refused() {
        let consents = Consents::default();
        let hold = |port: usize| consents.hold(to(&format!("localhost:{port}")));
        let _held: Vec<_> = (1..=MOST_TARGETS).map(hold).collect();
        let tokens: Vec<_> = (1..=MOST_TARGETS).map(|port| agreed(&consents, port).unwrap()).collect();
        assert!(matches!(consents.ask(&to("localhost:100").into()), Turn::Full));
        assert!(matches!(consents.ask(&Capability::Shell.into()), Turn::Ours(_)), "other uses are few");
        assert!(matches!(consents.ask(&to("localhost:1").into()), Turn::Ours(_)), "this has its place");
        // One that ends frees its place, whether or not it is still held.
        consents.take_back(&to("localhost:1").into());
        consents.hide(&to("localhost:1").into(), &tokens[0]);
        assert!(matches!(consents.ask(&to("localhost:100").into()), Turn::Ours(_)));
    }

    #[test]
    fn what_is_shown_anew_is_shown_once() {
        let consents = Consents::default();
        let first = agreed(&consents, 1).unwrap();
        let second = agreed(&consents, 1).unwrap();
        assert!(first.is_cancelled() && !second.is_cancelled());
        consents.hide(&to("localhost:1").into(), &first);
        assert!(!second.is_cancelled() && consents.lock().entries.iter().all(|e| e.shown.is_some()));
    }
}
