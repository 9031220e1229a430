//! The sessions that are live now.

use crate::watch::Stage;
use aerie_core::session::EndReason;
use aerie_core::session::consent::Talk;
use std::collections::HashMap;
use std::sync::atomic::{AtomicI64, AtomicU64, Ordering};
use std::sync::{Arc, Mutex};
use tokio::sync::mpsc;
use tokio_util::sync::CancellationToken;

/// What waits to be shown to the person at the machine: a picture in its pieces, and some lines.
const TALK: usize = 64;

/// What everybody may know of a live session, and the handle to end it.
#[derive(Debug)]
pub(crate) struct LiveSession {
    pub(crate) id: String,
    pub(crate) person: String,
    pub(crate) machine: String,
    pub(crate) account: String,
    /// The rule that allowed it.
    pub(crate) rule: String,
    /// Whether its person may act on the machine, and not look alone.
    pub(crate) acts: std::sync::atomic::AtomicBool,
    /// The person may use keyboard and pointer of the screen.
    pub(crate) hands: std::sync::atomic::AtomicBool,
    /// Seconds by which somebody extended its limit.
    pub(crate) extended_s: AtomicI64,
    /// Its terminals, for those who watch or take part.
    pub(crate) stage: Stage,
    /// Bytes that the machine sent.
    pub(crate) bytes_out: AtomicU64,
    /// Bytes that the person sent.
    pub(crate) bytes_in: AtomicU64,
    /// Last instant at which bytes flowed, in milliseconds since the epoch.
    pub(crate) active_ms: AtomicI64,
    /// When the session ends at the latest, as far as is known; 0 for never.
    pub(crate) ends_ms: AtomicI64,
    /// How long nothing may be typed, in milliseconds; 0 for ever.
    pub(crate) idle_ms: AtomicI64,
    /// When it began, in milliseconds since the epoch.
    pub(crate) began_ms: i64,
    /// Its place among all sessions since the service started: which of several that begin at once comes first.
    order: u64,
    /// Bytes it may carry, both directions together.
    pub(crate) volume_limit: AtomicU64,
    /// What is to be said in its terminals (true) or marked in its recording (false).
    said: tokio::sync::mpsc::UnboundedSender<(bool, String)>,
    to_say: tokio::sync::Mutex<tokio::sync::mpsc::UnboundedReceiver<(bool, String)>>,
    /// What is said and drawn for the person at the machine.
    pub(crate) talk: ForPerson,
    end: Mutex<Option<(EndReason, String)>>,
    pub(crate) ended: CancellationToken,
}

impl LiveSession {
    /// The session for which this place was reserved.
    pub(crate) fn new(place: &Reserved, (machine, account): (&str, &str), rule: &str, now_ms: i64) -> Self {
        let Beginner { id, person, order } = &place.beginner;
        // A line for each thing that somebody does at the console.
        let (said, to_say) = tokio::sync::mpsc::unbounded_channel();
        Self {
            said,
            to_say: to_say.into(),
            id: id.clone(),
            person: person.clone(),
            machine: machine.into(),
            account: account.into(),
            rule: rule.into(),
            acts: false.into(),
            hands: false.into(),
            extended_s: 0.into(),
            stage: Stage::default(),
            bytes_out: 0.into(),
            bytes_in: 0.into(),
            active_ms: now_ms.into(),
            ends_ms: 0.into(),
            idle_ms: 0.into(),
            began_ms: now_ms,
            order: *order,
            volume_limit: u64::MAX.into(),
            talk: ForPerson::default(),
            end: Mutex::new(None),
            ended: CancellationToken::new(),
        }
    }

    /// Says something to the person in the session's terminals.
    pub(crate) fn say(&self, text: &str) {
        let _ = self.said.send((true, text.into()));
    }

    /// The next thing that is to be said or marked; only the one task that tends the session calls this.
    pub(crate) async fn heard(&self) -> (bool, String) {
        match self.to_say.lock().await.recv().await {
            Some(said) => said,
            None => std::future::pending().await,
        }
    }

    /// Marks something in the recording.
    pub(crate) fn mark(&self, text: &str) {
        let _ = self.said.send((false, text.into()));
    }

    /// Ends the session; the first reason counts.
    pub(crate) fn end(&self, reason: EndReason) {
        self.end_saying(reason, "");
    }

    /// Ends it with a word to those concerned; the first reason counts.
    pub(crate) fn end_saying(&self, reason: EndReason, note: &str) {
        let mut end = self.end.lock().unwrap_or_else(std::sync::PoisonError::into_inner);
        end.get_or_insert_with(|| (reason, note.into()));
        self.ended.cancel();
    }

    pub(crate) fn end_reason(&self) -> Option<EndReason> {
        self.end.lock().unwrap_or_else(std::sync::PoisonError::into_inner).as_ref().map(|e| e.0)
    }

    /// What whoever ended it said.
    pub(crate) fn end_note(&self) -> Option<String> {
        let end = self.end.lock().unwrap_or_else(std::sync::PoisonError::into_inner);
        end.as_ref().map(|e| e.1.clone()).filter(|n| !n.is_empty())
    }

    /// The machine sent something. At a terminal this is no sign that anybody is there.
    pub(crate) fn note_out(&self, n: usize, now_ms: i64, terminal: bool) {
        let before = self.bytes_out.fetch_add(n as u64, Ordering::Relaxed);
        self.weigh(before + n as u64 + self.bytes_in.load(Ordering::Relaxed));
        if !terminal {
            self.active_ms.store(now_ms, Ordering::Relaxed);
        }
    }

    pub(crate) fn note_in(&self, n: usize, now_ms: i64) {
        let before = self.bytes_in.fetch_add(n as u64, Ordering::Relaxed);
        self.weigh(before + n as u64 + self.bytes_out.load(Ordering::Relaxed));
        self.active_ms.store(now_ms, Ordering::Relaxed);
    }

    fn weigh(&self, carried: u64) {
        if carried > self.volume_limit.load(Ordering::Relaxed) {
            self.end(EndReason::VolumeUp);
        }
    }

    pub(crate) fn bytes(&self) -> (u64, u64) {
        (self.bytes_out.load(Ordering::Relaxed), self.bytes_in.load(Ordering::Relaxed))
    }
}

/// What is said and drawn in a session for the person at the machine, on its way to whoever shows it there.
#[derive(Debug)]
pub(crate) struct ForPerson {
    to: mpsc::Sender<Talk>,
    from: Mutex<Option<mpsc::Receiver<Talk>>>,
}

impl Default for ForPerson {
    fn default() -> Self {
        let (to, from) = mpsc::channel(TALK);
        Self { to, from: Mutex::new(Some(from)) }
    }
}

impl ForPerson {
    /// Whether somebody shows it: then it is worth a picture.
    pub(crate) fn is_shown(&self) -> bool {
        self.from.lock().unwrap_or_else(std::sync::PoisonError::into_inner).is_none()
    }

    /// Something is to be shown; nothing where nobody does, or is too slow.
    pub(crate) fn say(&self, what: Talk) {
        if self.is_shown() {
            let _ = self.to.try_send(what);
        }
    }

    /// Whoever takes it shows it; none where somebody else does.
    pub(crate) fn take(&self) -> Option<mpsc::Receiver<Talk>> {
        self.from.lock().unwrap_or_else(std::sync::PoisonError::into_inner).take()
    }

    /// They show it no longer.
    pub(crate) fn put(&self, from: Option<mpsc::Receiver<Talk>>) {
        if from.is_some() {
            *self.from.lock().unwrap_or_else(std::sync::PoisonError::into_inner) = from;
        }
    }
}

/// A session that is being begun: it counts as one, so that of several at once no more begin than the rules allow.
#[derive(Debug, Clone)]
struct Beginner {
    id: String,
    person: String,
    order: u64,
}

/// A place for a session that is being begun; given back when dropped.
#[derive(Debug)]
pub(crate) struct Reserved {
    beginner: Beginner,
    sessions: Arc<LiveSessions>,
}

impl Drop for Reserved {
    fn drop(&mut self) {
        self.sessions.inner().beginning.retain(|b| b.order != self.beginner.order);
    }
}

/// All live sessions by their identifier, and those that are being begun.
#[derive(Debug, Default)]
pub(crate) struct LiveSessions(Mutex<Inner>);

#[derive(Debug, Default)]
struct Inner {
    live: HashMap<String, Arc<LiveSession>>,
    beginning: Vec<Beginner>,
    next: u64,
}

/// Which session a decision is about.
#[derive(Debug, Clone, Copy)]
pub(crate) enum Own<'a> {
    /// One that was not begun.
    None,
    /// One that is being begun.
    Beginning(&'a Reserved),
    /// One that is live.
    Live(&'a LiveSession),
}

impl LiveSessions {
    fn inner(&self) -> std::sync::MutexGuard<'_, Inner> {
        self.0.lock().unwrap_or_else(std::sync::PoisonError::into_inner)
    }

    /// Takes a place for a session that is to begin: decide with it, and drop it where that is a no.
    pub(crate) fn reserve(self: &Arc<Self>, id: &str, person: &str) -> Reserved {
        let mut inner = self.inner();
        inner.next += 1;
        let beginner = Beginner { id: id.into(), person: person.into(), order: inner.next };
        inner.beginning.push(beginner.clone());
        Reserved { beginner, sessions: self.clone() }
    }

    /// The session for which a place was reserved is live.
    pub(crate) fn add(&self, session: Arc<LiveSession>) {
        let mut inner = self.inner();
        inner.beginning.retain(|b| b.order != session.order);
        inner.live.insert(session.id.clone(), session);
    }

    pub(crate) fn remove(&self, id: &str) {
        self.inner().live.remove(id);
    }

    pub(crate) fn get(&self, id: &str) -> Option<Arc<LiveSession>> {
        self.inner().live.get(id).cloned()
    }

    /// How many sessions this person has open or begins besides `own`; of those that come after it, none.
    pub(crate) fn beside(&self, person: &str, own: Own<'_>) -> u32 {
        let before = match own {
            Own::None => u64::MAX,
            Own::Beginning(place) => place.beginner.order,
            Own::Live(session) => session.order,
        };
        let inner = self.inner();
        let live = inner.live.values().filter(|s| s.person == person && !s.ended.is_cancelled() && s.order < before).count();
        let beginning = inner.beginning.iter().filter(|b| b.person == person && b.order < before).count();
        u32::try_from(live + beginning).unwrap_or(u32::MAX)
    }

    /// Whether somebody is on this account now.
    pub(crate) fn is_used(&self, machine: &str, account: &str) -> bool {
        self.inner().live.values().any(|s| s.machine == machine && s.account == account)
    }

    /// Whether this person controls the machine's screen now, and could answer there in place of the user who sits at it.
    pub(crate) fn controls(&self, person: &str, machine: &str) -> bool {
        let controls = |s: &Arc<LiveSession>| s.person == person && s.machine == machine && s.hands.load(Ordering::Relaxed);
        self.inner().live.values().any(controls)
    }

    /// Whether this person works in this account now: does something there, and does not look alone.
    pub(crate) fn works_as(&self, person: &str, machine: &str, account: &str) -> bool {
        let works =
            |s: &Arc<LiveSession>| s.person == person && s.machine == machine && s.account == account && s.acts.load(Ordering::Relaxed);
        self.inner().live.values().any(works)
    }

    pub(crate) fn all(&self) -> Vec<Arc<LiveSession>> {
        self.inner().live.values().cloned().collect()
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn of_several_that_begin_at_once_each_counts_those_before_it() {
        let sessions = Arc::new(LiveSessions::default());
        let (first, second, other) = (sessions.reserve("a", "mira"), sessions.reserve("b", "mira"), sessions.reserve("c", "jun"));
        let counts = |own: &Reserved| sessions.beside(&own.beginner.person, Own::Beginning(own));
        assert_eq!((counts(&first), counts(&second), counts(&other)), (0, 1, 0));
        // The second goes live first: the first comes before it all the same.
        let live = Arc::new(LiveSession::new(&second, ("mast-2", "operator"), "rule", 0));
        sessions.add(live.clone());
        drop(second);
        assert_eq!((counts(&first), sessions.beside("mira", Own::Live(&live)), sessions.beside("mira", Own::None)), (0, 1, 2));
        drop(first);
        assert_eq!((sessions.beside("mira", Own::Live(&live)), sessions.beside("mira", Own::None)), (0, 1));
    }
}
