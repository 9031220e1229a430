//! Takes logs as machines and collectors send them (RFC 5424 over TCP and TLS) and as agents do, and audits them as they come.
//!
//! Whoever may send syslog can write any line, of any host: a collector does. So senders are named in the configuration, and everybody
//! else is cut off before a byte is read. An agent speaks for its own machine alone.

use super::{Known, keep, look_again, own_links, world};
use crate::places::Places;
use crate::service::App;
use aerie_core::audit::read::Format;
use aerie_core::audit::read::frames::SyslogFrames;
use aerie_core::audit::ship::Sending;
use aerie_core::audit::{Auditor, Covered, Finding, LogClock, Recorded, Source, Unread};
use aerie_core::evidence::{EventKind, NewEvent};
use aerie_store::{SessionFilter, StoreError};
use jiff::{SignedDuration, Timestamp};
use std::collections::{BTreeMap, BTreeSet, HashMap};
use std::net::IpAddr;
use std::sync::Arc;
use std::time::{Duration, Instant};
use tokio::io::{AsyncRead, AsyncReadExt as _};
use tokio::net::TcpListener;
use tokio::sync::mpsc;
use tokio::task::JoinHandle;
use tokio_rustls::TlsAcceptor;

/// Connections at a time, and from one address.
const MOST_SENDERS: u32 = 1000;
const MOST_FROM_ONE: u32 = 20;
/// Groups of lines that wait to be read: when it is full, senders are held back.
const MOST_WAITING: usize = 64;
/// How long the greeting of TLS may take.
const PATIENCE: Duration = Duration::from_secs(10);
/// What comes in is kept, and found, at least this often. A finding is to be there within two seconds of its line.
const EVERY: Duration = Duration::from_millis(500);
/// So many times as long as it took, everything is not held against the detections again.
const PAUSES: u32 = 5;
/// Records that are kept in memory while the store cannot take them; beyond, the oldest are given up.
const MOST_UNKEPT: usize = 100_000;
/// Senders of whom nothing is understood that are counted at a time.
const MOST_UNREAD: usize = 10_000;
/// How far back sessions are known to which a line may belong.
const SESSIONS_KNOWN: SignedDuration = SignedDuration::from_hours(24 * 7);
/// Times that the service itself signed in somewhere, which are known: some hours of a large installation.
const RECENT_OWN: u32 = 2000;
/// Sessions that are known.
const MOST_SESSIONS: u32 = 100_000;

/// Lines that came in.
pub(crate) struct Arrived {
    pub(crate) lines: Vec<Vec<u8>>,
    pub(crate) sender: Sender,
}

/// Who sent them.
pub(crate) enum Sender {
    Agent(AgentLog),
    Syslog(IpAddr),
}

/// What an agent sends, and how far it is with these lines.
#[derive(Clone)]
pub(crate) struct AgentLog {
    pub(crate) machine: String,
    pub(crate) sending: Sending,
    pub(crate) place: String,
}

impl AgentLog {
    fn name(&self) -> String {
        format!("{} of {}", aerie_core::diagnostic::printable(&self.sending.what), self.machine)
    }
}

/// Where lines go to. The first that comes starts the reader, which ends with the service.
pub(crate) async fn arriving(app: &Arc<App>) -> Result<mpsc::Sender<Arrived>, StoreError> {
    let begin = async || {
        let (send, lines) = mpsc::channel(MOST_WAITING);
        let reader = Reader::new(app.clone()).await?;
        app.tasks.spawn(reader.run(lines));
        Ok(send)
    };
    app.arriving.get_or_try_init(begin).await.cloned()
}

/// Begins to take logs. Ends with the service.
pub(crate) async fn start(app: &Arc<App>, listeners: Vec<(TcpListener, bool)>) -> Result<(), StoreError> {
    let send = arriving(app).await?;
    for (listener, tls) in listeners {
        tokio::spawn(accept(app.clone(), listener, tls, send.clone()));
    }
    Ok(())
}

async fn accept(app: Arc<App>, listener: TcpListener, tls: bool, send: mpsc::Sender<Arrived>) {
    let places = Places::new(MOST_SENDERS, MOST_FROM_ONE);
    loop {
        let (stream, peer) = tokio::select! {
            accepted = listener.accept() => match accepted {
                Ok(accepted) => accepted,
                Err(e) => {
                    tracing::warn!(error = %e, "a sender of logs could not be accepted");
                    // No file descriptors, most likely: connections must end before another can begin.
                    tokio::time::sleep(Duration::from_millis(100)).await;
                    continue;
                }
            },
            () = app.stopping.cancelled() => return,
        };
        let from = peer.ip().to_canonical();
        if !may_send(&app, from) {
            tracing::warn!(%from, "somebody who may not send logs was cut off");
            continue;
        }
        // One that says nothing gives way to one that comes.
        let Some(place) = places.enter_or_displace(from) else {
            tracing::warn!(%from, "a sender of logs has {MOST_FROM_ONE} connections already: another was closed");
            continue;
        };
        let (app, send) = (app.clone(), send.clone());
        tokio::spawn(async move {
            let given_up = place.given_up.clone();
            let taking = async {
                if !tls {
                    take(&app, stream, from, &send).await;
                } else if let Some(config) = app.tls()
                    && let Ok(Ok(stream)) = tokio::time::timeout(PATIENCE, TlsAcceptor::from(config).accept(stream)).await
                {
                    take(&app, stream, from, &send).await;
                }
            };
            tokio::select! {
                () = taking => {}
                () = given_up.cancelled() => {}
            }
            drop(place);
        });
    }
}

/// Whoever is named. This machine itself is not, unless it is named, too: each of its users could speak for every machine.
fn may_send(app: &App, from: IpAddr) -> bool {
    app.config.syslog.from.iter().any(|n| n.contains(from))
}

/// Takes what a sender sends until it ends, or cannot be read any further.
async fn take(app: &App, mut stream: impl AsyncRead + Unpin, from: IpAddr, send: &mpsc::Sender<Arrived>) {
    let mut frames = SyslogFrames::default();
    let mut piece = vec![0; 64 << 10];
    loop {
        let read = tokio::select! {
            read = stream.read(&mut piece) => read,
            () = app.stopping.cancelled() => return,
        };
        let Ok(n @ 1..) = read else { return };
        let mut group = vec![];
        let cut = frames.handle_bytes(piece.get(..n).unwrap_or(&[]), &mut |line| group.push(line.to_vec()));
        if !group.is_empty() && send.send(Arrived { lines: group, sender: Sender::Syslog(from) }).await.is_err() {
            return;
        }
        if cut.is_err() {
            let says = format!("A sender of logs at {from} was cut off: what it sent are no messages of syslog.");
            app.note(NewEvent::new(Timestamp::now(), EventKind::AuditScanned, "service").from(from).says(says)).await;
            return;
        }
    }
}

/// Reads what all senders of syslog send as one log, and what each agent sends as one of its own; what they show is seen together.
struct Reader {
    app: Arc<App>,
    name: String,
    file: Arc<str>,
    auditor: Auditor,
    senders: Source,
    /// By name.
    agents: HashMap<String, Source>,
    /// Of those of whom nothing was understood lately, by name; at most [`MOST_UNREAD`].
    unread: HashMap<String, Unread>,
    /// What agents sent since the last time that it was kept, by the name of the log.
    fresh: BTreeMap<String, AgentLog>,
    /// Lines of machines that came by syslog until then.
    counted: HashMap<String, u64>,
    recorded: Vec<Recorded>,
    /// Until when sessions are known.
    known: Timestamp,
    /// How many sign-ins to machines are known.
    signed_in: u64,
    rules: (i64, u64),
    /// Something came that is not kept yet.
    pending: bool,
    /// What was found and could not be kept yet.
    unkept: Vec<Finding>,
    look: Look,
}

/// When everything is held against the detections again: a large installation takes seconds for it, which must not hold up the reading.
#[derive(Default)]
struct Look {
    /// An access came in since.
    due: bool,
    running: Option<JoinHandle<Duration>>,
    not_before: Option<Instant>,
}

impl Look {
    /// Begins, where it is due and none runs; after one that took long the next waits longer.
    async fn begin(&mut self, app: &Arc<App>) {
        if let Some(running) = self.running.take_if(|r| r.is_finished()) {
            let took = running.await.unwrap_or_default();
            self.not_before = Some(Instant::now() + took * PAUSES);
        }
        if !self.due || self.running.is_some() || self.not_before.is_some_and(|t| Instant::now() < t) {
            return;
        }
        self.due = false;
        let app = app.clone();
        self.running = Some(app.tasks.clone().spawn(async move {
            let began = Instant::now();
            if let Err(e) = look_again(&app).await {
                tracing::error!(error = %e, "accesses could not be held against the detections");
            }
            began.elapsed()
        }));
    }
}

impl Reader {
    async fn new(app: Arc<App>) -> Result<Self, StoreError> {
        let now = Timestamp::now();
        let name = format!("syslog since {}", now.strftime("%Y-%m-%dT%H:%M:%SZ"));
        let (_, signed_in) = app.sign_ins.since(u64::MAX);
        let mut world = world(&app).await?;
        world.sessions.iter_mut().for_each(|all| all.retain(|_, s| s.end.is_none_or(|e| now.duration_since(e) < SESSIONS_KNOWN)));
        let clock = LogClock::new(app.rules.now().policy.zone().clone(), now);
        let senders = Source::new(&name, clock, Some(Format::Lines), None);
        let rules = app.rules.now();
        let rules = (rules.version, rules.directory_version);
        Ok(Self {
            app,
            file: name.as_str().into(),
            name,
            auditor: Auditor::new(Arc::new(world)),
            senders,
            agents: HashMap::new(),
            unread: HashMap::new(),
            fresh: BTreeMap::new(),
            counted: HashMap::new(),
            recorded: vec![],
            known: now,
            signed_in,
            rules,
            pending: false,
            unkept: vec![],
            look: Look::default(),
        })
    }

    async fn run(mut self, mut lines: mpsc::Receiver<Arrived>) {
        let mut tick = tokio::time::interval(EVERY);
        tick.set_missed_tick_behavior(tokio::time::MissedTickBehavior::Delay);
        let stopping = self.app.stopping.clone();
        loop {
            tokio::select! {
                group = lines.recv() => match group {
                    Some(group) => self.take(group).await,
                    None => break,
                },
                _ = tick.tick(), if self.pending || self.look.due || !self.unkept.is_empty() => self.keep().await,
                () = stopping.cancelled() => break,
            }
        }
        self.keep().await;
    }

    async fn take(&mut self, arrived: Arrived) {
        if !self.pending
            && let Err(e) = self.refresh().await
        {
            tracing::error!(error = %e, "sessions could not be read to which lines may belong");
        }
        self.pending = true;
        // Of what began since, the first lines may be among these.
        if self.app.sign_ins.since(self.signed_in).1 != self.signed_in {
            self.signed_in = self.app.sign_ins.tell(self.auditor.world_mut(), self.signed_in);
        }
        let Self { auditor, senders, agents, fresh, recorded, unread, unkept, .. } = self;
        let (sender, machine, source) = match arrived.sender {
            Sender::Syslog(from) => (from.to_string(), "gateway".into(), senders),
            Sender::Agent(log) => {
                let (name, machine) = (log.name(), log.machine.clone());
                let begin = |name: &String| {
                    let zone = log.sending.zone_or(self.app.rules.now().policy.zone());
                    Source::new(name, LogClock::new(zone, Timestamp::now()), Some(Format::Lines), None).only_of(&log.machine)
                };
                let source = agents.entry(name.clone()).or_insert_with_key(begin);
                fresh.insert(name.clone(), log);
                (name, machine, source)
            }
        };
        let mut before = unread.remove(&sender).unwrap_or_default();
        for line in arrived.lines {
            let understood = source.counts().understood;
            source.handle_bytes(auditor, &line, &mut |r| recorded.push(r));
            source.handle_bytes(auditor, b"\n", &mut |r| recorded.push(r));
            before.handle_line(&self.file, &line, source.counts().understood > understood);
        }
        unkept.extend(before.poll_finding(&sender, &machine, Timestamp::now()));
        if !before.is_clear() && unread.len() < MOST_UNREAD {
            unread.insert(sender, before);
        }
    }

    /// Learns of sessions that ended and of rules that are new.
    async fn refresh(&mut self) -> Result<(), StoreError> {
        let now = Timestamp::now();
        let rules = self.app.rules.now();
        let rules = (rules.version, rules.directory_version);
        let since = self.known.checked_sub(SignedDuration::from_hours(1)).unwrap_or(self.known);
        let filter = SessionFilter { since: Some(since), limit: MOST_SESSIONS, ..SessionFilter::default() };
        let fresh = self.app.store.sessions(&filter).await?;
        let sessions = self.auditor.world().sessions.as_ref();
        let known = |s: &aerie_store::SessionRow| sessions.is_some_and(|all| all.get(&s.id).is_some_and(|k| k.end == s.ended));
        let own = own_links(&self.app, RECENT_OWN).await?;
        if rules == self.rules && own == self.auditor.world().own && fresh.iter().all(known) {
            return Ok(());
        }
        let history = if rules == self.rules { None } else { Some(self.app.rules.history().await?) };
        let world = self.auditor.world_mut();
        world.own = own;
        if let Some(history) = history {
            world.history = history;
        }
        if let Some(sessions) = &mut world.sessions {
            sessions.extend(fresh.iter().map(|s| (s.id.clone(), Known::from(s).0)));
        }
        (self.known, self.rules) = (now, rules);
        Ok(())
    }

    async fn keep(&mut self) {
        self.pending = false;
        if let Err(e) = self.put().await {
            tracing::error!(error = %e, "what a log that comes in shows could not be kept");
        }
    }

    async fn put(&mut self) -> Result<(), StoreError> {
        let zone = self.app.rules.now().policy.zone().clone();
        self.unkept.extend(self.auditor.poll_findings(&zone));
        // What cannot be kept now is kept later.
        self.app.store.put_accesses(&self.recorded).await.inspect_err(|_| {
            let beyond = self.recorded.len().saturating_sub(MOST_UNKEPT);
            self.recorded.drain(..beyond);
            self.unkept.truncate(MOST_UNKEPT);
        })?;
        // What all logs show together changes with accesses alone.
        self.look.due |= self.recorded.iter().any(|r| matches!(r, Recorded::Began(_)));
        self.recorded.clear();
        self.put_sources().await?;
        if keep(&self.app, self.unkept.clone()).await? > 0 {
            self.app.tell("findings");
        }
        self.unkept.clear();
        self.look.begin(&self.app).await;
        Ok(())
    }

    /// Keeps which machines wrote, and how far the logs of agents were taken. Whatever they show is kept by now.
    async fn put_sources(&mut self) -> Result<(), StoreError> {
        let (store, now) = (&self.app.store, Timestamp::now());
        let by_syslog = self.senders.covered(&self.auditor);
        store.put_coverage(&self.name, &by_syslog).await?;
        for name in self.fresh.keys() {
            if let Some(source) = self.agents.get(name) {
                store.put_coverage(name, &source.covered(&self.auditor)).await?;
            }
        }
        let mut heard: BTreeSet<String> = self.fresh.values().map(|log| log.machine.clone()).collect();
        heard.extend(grown(&mut self.counted, &by_syslog));
        store.put_pulses(&heard.into_iter().collect::<Vec<_>>(), now).await?;
        for (_, log) in std::mem::take(&mut self.fresh) {
            store.put_log_cursor(&log.machine, &log.place, now).await?;
        }
        Ok(())
    }
}

/// Machines of which more lines are there than before.
fn grown(counted: &mut HashMap<String, u64>, covered: &[Covered]) -> Vec<String> {
    let mut totals: BTreeMap<&str, u64> = BTreeMap::new();
    covered.iter().for_each(|c| *totals.entry(&c.machine).or_default() += c.lines);
    let more = totals.into_iter().filter(|(machine, lines)| counted.insert((*machine).into(), *lines) != Some(*lines));
    more.map(|(machine, _)| machine.to_string()).collect()
}
