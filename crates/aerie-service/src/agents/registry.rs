use aerie_core::inventory::{Heard, MachineFacts};
use aerie_core::tunnel::{AllowList, FromService};
use aerie_store::{AgentRow, Store, StoreError};
use aerie_tunnel::Tunnel;
use jiff::Timestamp;
use std::collections::{HashMap, HashSet};
use std::sync::atomic::{AtomicU64, Ordering};
use std::sync::{Arc, Mutex, PoisonError, RwLock};
use std::time::{Duration, Instant};
use tokio::sync::Notify;
use tokio_util::sync::CancellationToken;

/// How long the tunnel of an agent that is gone is kept, so that it can go on: longer than the agent tries.
pub(super) const HOLD: Duration = Duration::from_secs(130);
/// A relay that failed is asked last for so long.
const SHY: Duration = Duration::from_secs(30);
/// How often an agent may tell its facts, over some time, and how often at once.
const TELLS: Duration = Duration::from_secs(5);
const MOST_TELLS: u32 = 6;

/// An agent that is known.
#[derive(Debug)]
pub(crate) struct Known {
    row: RwLock<AgentRow>,
    link: Mutex<Link>,
    /// One connection of an agent is taken at a time.
    pub(super) turn: tokio::sync::Mutex<()>,
    /// Cancelled when it is revoked.
    pub(super) revoked: CancellationToken,
    /// Told when it connected anew while its log was to be taken.
    pub(super) again: Notify,
    /// Told when it kept its ticket.
    acknowledged: Notify,
}

#[derive(Debug, Default)]
struct Link {
    tunnel: Option<(String, Tunnel)>,
    connection: Option<CancellationToken>,
    /// It kept the ticket that it was handed on this connection: before, it counts for nothing.
    kept: bool,
    since: Option<Timestamp>,
    broke: Option<Instant>,
    version: String,
    clock_ahead_s: i64,
    /// How long it took to open streams, as a moving average.
    opens_in: Option<Duration>,
    failed: Option<Instant>,
    told: Vec<Instant>,
    copied: Option<Instant>,
    noted: Option<Instant>,
    flaps: u64,
    /// Its log is being taken.
    log: bool,
}

impl Known {
    pub(super) fn new(row: AgentRow) -> Arc<Self> {
        Arc::new(Self {
            row: RwLock::new(row),
            link: Mutex::default(),
            turn: tokio::sync::Mutex::default(),
            revoked: CancellationToken::new(),
            again: Notify::new(),
            acknowledged: Notify::new(),
        })
    }

    fn link(&self) -> std::sync::MutexGuard<'_, Link> {
        self.link.lock().unwrap_or_else(PoisonError::into_inner)
    }

    pub(crate) fn row(&self) -> AgentRow {
        self.row.read().unwrap_or_else(PoisonError::into_inner).clone()
    }

    pub(crate) fn machine(&self) -> String {
        self.row.read().unwrap_or_else(PoisonError::into_inner).machine.clone()
    }

    pub(crate) fn facts(&self) -> Option<MachineFacts> {
        self.row.read().unwrap_or_else(PoisonError::into_inner).facts.clone()
    }

    pub(super) fn change(&self, with: impl FnOnce(&mut AgentRow)) {
        with(&mut self.row.write().unwrap_or_else(PoisonError::into_inner));
    }

    /// Since when it is connected.
    pub(crate) fn connected_since(&self) -> Option<Timestamp> {
        let link = self.link();
        link.since.filter(|_| link.connection.is_some() && link.kept)
    }

    pub(crate) fn set_relay(&self, entries: Vec<String>) {
        self.change(|r| r.relay = entries);
    }

    pub(crate) fn seen(&self, now: Timestamp) {
        self.change(|r| r.last_seen = Some(now));
    }

    /// How far its clock is ahead, in seconds.
    pub(crate) fn clock_ahead_s(&self) -> i64 {
        self.link().clock_ahead_s
    }

    /// Version of its program.
    pub(crate) fn version(&self) -> String {
        self.link().version.clone()
    }

    /// Its tunnel: while it is connected, and for a while after its connection broke.
    pub(crate) fn tunnel(&self) -> Option<Tunnel> {
        let link = self.link();
        let held = link.kept && (link.connection.is_some() || link.broke.is_some_and(|b| b.elapsed() < HOLD));
        link.tunnel.as_ref().filter(|(_, t)| held && !t.is_over()).map(|(_, t)| t.clone())
    }

    /// The tunnel that goes on under this name.
    pub(super) fn tunnel_named(&self, name: &str) -> Option<Tunnel> {
        let known = self.link().tunnel.as_ref().is_some_and(|(n, _)| n == name);
        if known { self.tunnel() } else { None }
    }

    /// Takes a new connection; the one before is cut off. Returns what cancels it.
    pub(super) fn connected(&self, name: &str, tunnel: &Tunnel, version: &str, ahead: i64, now: Timestamp) -> CancellationToken {
        let token = self.revoked.child_token();
        let mut link = self.link();
        if let Some(before) = link.connection.replace(token.clone()) {
            before.cancel();
        }
        if let Some((other, old)) = link.tunnel.replace((name.into(), tunnel.clone()))
            && other != name
        {
            old.end();
        }
        (link.since, link.broke, link.version, link.clock_ahead_s) = (Some(now), None, version.into(), ahead);
        link.kept = false;
        token
    }

    /// It kept the ticket that it was handed.
    pub(super) fn acknowledge(&self) {
        self.link().kept = true;
        self.acknowledged.notify_waiters();
    }

    /// Whether it kept the ticket that it was handed on its last connection.
    pub(super) fn has_acknowledged(&self) -> bool {
        self.link().kept
    }

    /// Waits until it does.
    pub(super) async fn acknowledged(&self) {
        loop {
            let told = self.acknowledged.notified();
            tokio::pin!(told);
            // Before looking, so that nothing is missed.
            told.as_mut().enable();
            if self.has_acknowledged() {
                return;
            }
            told.await;
        }
    }

    /// Its connection broke, if it is still that one.
    pub(super) fn broke(&self, connection: &CancellationToken) -> bool {
        let mut link = self.link();
        // Whoever took its place cancelled it.
        let same = !connection.is_cancelled() || self.revoked.is_cancelled();
        if same {
            (link.connection, link.broke) = (None, Some(Instant::now()));
        }
        same
    }

    /// Ends its tunnel, where it was not taken up again.
    pub(super) fn let_go(&self) -> bool {
        let mut link = self.link();
        let gone = link.connection.is_none() && link.broke.is_none_or(|b| b.elapsed() >= HOLD);
        if gone && let Some((_, tunnel)) = link.tunnel.take() {
            tunnel.end();
        }
        gone
    }

    /// Cuts it off at once and for good.
    pub(super) fn cut(&self) {
        self.revoked.cancel();
        let mut link = self.link();
        link.connection = None;
        if let Some((_, tunnel)) = link.tunnel.take() {
            tunnel.end();
        }
    }

    /// Whether its log is to be taken from now on; false where it is already.
    pub(super) fn begin_log(&self) -> bool {
        !std::mem::replace(&mut self.link().log, true)
    }

    /// Its log is taken no longer.
    pub(super) fn end_log(&self) {
        self.link().log = false;
    }

    pub(crate) fn opened(&self, took: Result<Duration, ()>) {
        let mut link = self.link();
        match took {
            Ok(took) => {
                link.opens_in = Some(link.opens_in.map_or(took, |before| (before * 3 + took) / 4));
                link.failed = None;
            }
            Err(()) => link.failed = Some(Instant::now()),
        }
    }

    /// By what relays are ordered: those that failed lately last, then the nearest first.
    pub(super) fn distance(&self) -> (bool, Duration) {
        let link = self.link();
        (link.failed.is_some_and(|f| f.elapsed() < SHY), link.opens_in.unwrap_or_default())
    }

    /// Whether it may tell its facts now: a few times at once, and then every [`TELLS`].
    pub(super) fn may_tell(&self) -> bool {
        let mut link = self.link();
        let now = Instant::now();
        link.told.retain(|t| now.duration_since(*t) < TELLS * MOST_TELLS);
        let may = link.told.len() < MOST_TELLS as usize;
        if may {
            link.told.push(now);
        }
        may
    }

    /// Whether a copy of it is to be logged now.
    pub(super) fn is_new_copy(&self) -> bool {
        let mut link = self.link();
        let new = link.copied.is_none_or(|c| c.elapsed() >= SHY);
        if new {
            link.copied = Some(Instant::now());
        }
        new
    }

    /// Whether its coming and going is to be logged; one that flaps is logged now and then, with how often it did.
    pub(super) fn is_news(&self) -> Option<u64> {
        let mut link = self.link();
        if link.noted.is_some_and(|n| n.elapsed() < SHY) {
            link.flaps += 1;
            return None;
        }
        link.noted = Some(Instant::now());
        Some(std::mem::take(&mut link.flaps))
    }
}

/// Every agent.
#[derive(Debug, Default)]
pub(crate) struct Agents {
    by_machine: RwLock<HashMap<String, Arc<Known>>>,
    by_key: RwLock<HashMap<String, Arc<Known>>>,
    /// Counts what agents said of their machines.
    changes: AtomicU64,
    /// Machines of which something was said that is not taken over yet.
    said: Mutex<HashSet<String>>,
    news: Notify,
    /// Until when agents are taken back whose tickets a restored backup does not know, and those that were.
    amnesty: Mutex<Option<(Instant, HashSet<String>)>>,
}

impl Agents {
    pub(crate) async fn load(store: &Store) -> Result<Self, StoreError> {
        let all = Self::default();
        for row in store.agents().await? {
            all.add(row);
        }
        Ok(all)
    }

    pub(super) fn add(&self, row: AgentRow) -> Arc<Known> {
        let (machine, key) = (row.machine.clone(), row.key.clone());
        let known = Known::new(row);
        if let Some(before) = self.by_machine.write().unwrap_or_else(PoisonError::into_inner).insert(machine, known.clone()) {
            self.forget_key(&before);
        }
        self.by_key.write().unwrap_or_else(PoisonError::into_inner).insert(key, known.clone());
        self.changed();
        known
    }

    /// For so long each agent is taken back once, though its ticket is not the one that is known here.
    pub(crate) fn take_back(&self, life: Duration) {
        *self.amnesty.lock().unwrap_or_else(PoisonError::into_inner) = Some((Instant::now() + life, HashSet::new()));
    }

    /// Whether this agent is taken back now: once.
    pub(super) fn is_taken_back(&self, machine: &str) -> bool {
        let mut amnesty = self.amnesty.lock().unwrap_or_else(PoisonError::into_inner);
        amnesty.as_mut().is_some_and(|(until, taken)| Instant::now() < *until && taken.insert(machine.into()))
    }

    fn forget_key(&self, known: &Known) {
        known.cut();
        self.by_key.write().unwrap_or_else(PoisonError::into_inner).remove(&known.row().key);
    }

    /// Forgets the agent of a machine, and cuts it off.
    pub(crate) fn remove(&self, machine: &str) {
        if let Some(known) = self.by_machine.write().unwrap_or_else(PoisonError::into_inner).remove(machine) {
            self.forget_key(&known);
            self.changed();
        }
    }

    /// Tells every agent that is connected which SSH authorities to trust.
    pub(crate) fn trust(&self, lines: &[String]) {
        for tunnel in self.all().iter().filter_map(|k| k.tunnel()) {
            tunnel.message(FromService::Trust(lines.to_vec()).encode());
        }
    }

    pub(super) fn look_again(&self, machine: &str) {
        self.said.lock().unwrap_or_else(PoisonError::into_inner).insert(machine.into());
        self.news.notify_one();
    }

    pub(super) async fn said(&self) {
        self.news.notified().await;
    }

    pub(super) fn take_said(&self) -> HashSet<String> {
        std::mem::take(&mut *self.said.lock().unwrap_or_else(PoisonError::into_inner))
    }

    pub(super) fn changed(&self) {
        self.changes.fetch_add(1, Ordering::Relaxed);
    }

    pub(crate) fn changes(&self) -> u64 {
        self.changes.load(Ordering::Relaxed)
    }

    pub(crate) fn of(&self, machine: &str) -> Option<Arc<Known>> {
        self.by_machine.read().unwrap_or_else(PoisonError::into_inner).get(machine).cloned()
    }

    pub(super) fn with_key(&self, key: &str) -> Option<Arc<Known>> {
        self.by_key.read().unwrap_or_else(PoisonError::into_inner).get(key).cloned()
    }

    pub(crate) fn all(&self) -> Vec<Arc<Known>> {
        self.by_machine.read().unwrap_or_else(PoisonError::into_inner).values().cloned().collect()
    }

    /// What was heard of a machine through its agent.
    pub(crate) fn heard(&self, machine: &str) -> Heard {
        let Some(known) = self.of(machine) else { return Heard::default() };
        let connected = known.connected_since().is_some();
        Heard { code_issued: false, agent: true, connected, last: known.row().last_seen }
    }

    /// Agents that may reach this target for another machine, nearest first: those for whom an administrator said so, and whose
    /// own list says so as well. `stands_there` says whether a machine stands at the right site.
    pub(crate) fn relays(&self, target: &aerie_core::tunnel::Target, stands_there: impl Fn(&str) -> bool) -> Vec<Arc<Known>> {
        let allows = |list: &[String]| AllowList::parse(list.iter().map(String::as_str)).is_ok_and(|l| l.allows(target));
        let fits = |k: &&Arc<Known>| {
            let row = k.row.read().unwrap_or_else(PoisonError::into_inner);
            !row.relay.is_empty() && stands_there(&row.machine) && allows(&row.relay) && row.facts.as_ref().is_none_or(|f| allows(&f.allow))
        };
        let all = self.all();
        let mut found: Vec<Arc<Known>> = all.iter().filter(fits).filter(|k| k.connected_since().is_some()).cloned().collect();
        found.sort_by_cached_key(|k| k.distance());
        found
    }
}
