//! Holds logs and recordings against the rules and the detections, and keeps what comes out.

pub(crate) mod again;
mod behaviour;
pub(crate) mod integrity;
pub(crate) mod live;
mod recordings;
pub(crate) mod report;

use crate::service::App;
use aerie_api::ScanResult;
use aerie_core::audit::detect::DetectionSet;
use aerie_core::audit::read::Format;
use aerie_core::audit::read::unpack::Unpacker;
use aerie_core::audit::{Auditor, Finding, FindingKind, KnownSession, LogClock, Recorded, Scan, Scanned, SessionIndex, World, gaps};
use aerie_core::evidence::{EventKind, NewEvent};
use aerie_core::policy::{Capabilities, Capability, Factor, Factors};
use aerie_store::{LogPosition, Put, SessionFilter, SessionRow, StoreError};
pub(crate) use behaviour::look_again;
use jiff::Timestamp;
pub(crate) use recordings::look_at_recording;
use std::collections::{BTreeSet, HashMap};
use std::sync::Arc;
use tokio::sync::mpsc;

/// Times that the service itself signed in somewhere, which a scan knows at most, newest first.
const MOST_OWN: u32 = 200_000;
/// Sessions that a scan knows at most, newest first.
const MOST_SESSIONS: u32 = 200_000;

impl std::convert::From<&SessionRow> for Known {
    fn from(s: &SessionRow) -> Self {
        Self(KnownSession {
            id: s.id.clone(),
            person: s.person.clone(),
            machine: s.machine.clone(),
            account: s.account.clone(),
            begin: s.began,
            end: s.ended,
            recorded: s.recording.is_some(),
            uses: Capabilities::of(s.uses.split_whitespace().filter_map(Capability::from_word)),
            factors: Factors::of(s.factors.split_whitespace().filter_map(Factor::from_word)),
            source: s.source.parse().ok(),
        })
    }
}

struct Known(KnownSession);

/// Where a log is read on.
#[derive(Debug, Clone)]
pub(crate) struct From {
    /// SHA-256 of its first bytes: what tells it from others.
    pub(crate) head: String,
    /// Bytes that were read before.
    pub(crate) offset: u64,
    /// Lines in them.
    pub(crate) lines: u64,
}

/// A log that comes in pieces.
pub(crate) struct Incoming {
    pub(crate) name: String,
    pub(crate) clock: LogClock,
    /// What it holds, where that is not to be found out.
    pub(crate) format: Option<Format>,
    /// The machine whose log it is, where the log does not say so.
    pub(crate) host: Option<String>,
    /// Where it is read on, where it was read before.
    pub(crate) from: Option<From>,
    pub(crate) pieces: mpsc::Receiver<Vec<u8>>,
}

/// The detections in force.
pub(crate) async fn detections(app: &App) -> Result<Arc<DetectionSet>, StoreError> {
    let published = app.store.detections().await?;
    // What was published could be read.
    Ok(Arc::new(published.and_then(|p| DetectionSet::parse(&p.text).ok()).unwrap_or_else(DetectionSet::shipped)))
}

/// When the service itself signed in to machines, by machine and word; the newest so many times.
pub(crate) async fn own_links(app: &App, most: u32) -> Result<HashMap<(String, String), Vec<Timestamp>>, StoreError> {
    let mut all: HashMap<_, Vec<Timestamp>> = HashMap::new();
    for (machine, word, at) in app.store.own_links(most).await? {
        all.entry((machine, word)).or_default().push(at);
    }
    Ok(all)
}

/// What logs are held against now.
pub(crate) async fn world(app: &App) -> Result<World, StoreError> {
    let filter = SessionFilter { limit: MOST_SESSIONS, ..SessionFilter::default() };
    let sessions: SessionIndex = app.store.sessions(&filter).await?.iter().map(|s| (s.id.clone(), Known::from(s).0)).collect();
    let mut world = World {
        history: app.rules.history().await?,
        sessions: Some(sessions),
        own: own_links(app, MOST_OWN).await?,
        authorities: Some(app.keys.user_authorities().iter().map(|k| crate::keys::fingerprint(k.public_key())).collect()),
        detections: detections(app).await?,
    };
    app.sign_ins.tell(&mut world, 0);
    Ok(world)
}

/// Scans a log as it comes in, keeps the findings, and logs that it was done.
pub(crate) async fn scan(app: &App, by: &str, incoming: Incoming) -> Result<ScanResult, StoreError> {
    let world = Arc::new(world(app).await?);
    let zone = app.rules.now().policy.zone().clone();
    let (name, from) = (incoming.name.clone(), incoming.from.clone());
    // What is found of accesses is kept in groups, while the log is still read; a slow disk holds the reader back.
    let (found, mut finding) = mpsc::channel::<Vec<Recorded>>(4);
    let judging = tokio::task::spawn_blocking(move || judge(incoming, world, &zone, &found));
    while let Some(group) = finding.recv().await {
        app.store.put_accesses(&group).await?;
    }
    let (scanned, broken, bytes) = judging.await.map_err(|_| StoreError::LogClosed)?;
    if let Some(from) = from.filter(|_| broken.is_none()) {
        let (offset, lines) = (from.offset + bytes, from.lines + scanned.counts.lines);
        let position = LogPosition { head: from.head, name: name.clone(), offset, lines, read_at: Timestamp::now() };
        app.store.put_log_position(&position).await?;
    }
    app.store.put_coverage(&name, &scanned.covered).await?;
    let mut new = keep(app, scanned.findings.clone()).await?;
    let machines: BTreeSet<&str> = scanned.covered.iter().map(|c| c.machine.as_str()).collect();
    new += keep(app, silences(app, &machines).await?).await?;
    let mut result = ScanResult::new(scanned, new);
    if let Some(why) = broken {
        result.sentence = format!("{} The log broke off: {why}.", result.sentence);
    }
    let event = NewEvent::new(Timestamp::now(), EventKind::AuditScanned, by)
        .says(format!("{by} audited {}: {}", aerie_core::diagnostic::printable(&name), result.sentence))
        .with("findings", result.findings.len())
        .with("new", result.new);
    app.log.append(event).await?;
    app.tell("findings");
    Ok(result)
}

/// Records that are handed on at a time.
const GROUP: usize = 1000;

/// Reads the log to its end, or to where it is damaged; gives what was found, and why it broke off.
fn judge(
    mut incoming: Incoming,
    world: Arc<World>,
    zone: &jiff::tz::TimeZone,
    found: &mpsc::Sender<Vec<Recorded>>,
) -> (Scanned, Option<String>, u64) {
    let auditor = Auditor::new(world);
    let (offset, lines) = incoming.from.as_ref().map_or((0, 0), |f| (f.offset, f.lines));
    let mut scan = Scan::new(auditor, &incoming.name, incoming.clock, incoming.format, incoming.host.as_deref()).from(offset, lines);
    let (mut unpacker, mut broken, mut group, mut taken) = (Unpacker::default(), None, vec![], 0u64);
    let mut each = |recorded: Recorded| {
        group.push(recorded);
        if group.len() >= GROUP {
            let _ = found.blocking_send(std::mem::take(&mut group));
        }
    };
    while let Some(piece) = incoming.pieces.blocking_recv() {
        taken += piece.len() as u64;
        if let Err(e) = unpacker.handle_bytes(&piece, &mut |bytes| scan.handle_bytes(bytes, &mut each)) {
            broken = Some(e.to_string());
            break;
        }
    }
    if broken.is_none() {
        broken = unpacker.finish(&mut |bytes| scan.handle_bytes(bytes, &mut each)).err().map(|e| e.to_string());
    }
    let scanned = scan.finish(zone, &mut each);
    let _ = found.blocking_send(group);
    (scanned, broken, taken)
}

/// Raises that a log became shorter since it was read.
pub(crate) async fn cut(app: &App, position: &LogPosition, name: &str, size: u64) -> Result<(), StoreError> {
    let name = aerie_core::diagnostic::printable(name);
    let sentence = format!("The log {name} was cut: {} bytes of it were read before, and it has {size} now.", position.offset);
    keep(app, vec![Finding::seen(FindingKind::LogCut, &position.head, "", "", sentence, Timestamp::now())]).await.map(drop)
}

/// Gaps in the logs of machines that write daily.
async fn silences(app: &App, machines: &BTreeSet<&str>) -> Result<Vec<Finding>, StoreError> {
    let mut found = vec![];
    for machine in machines {
        for (first, last) in gaps(&app.store.days_covered(machine).await?) {
            let date = |day: i64| Timestamp::from_second(day * 86_400).map(|t| t.strftime("%-d %B %Y").to_string()).unwrap_or_default();
            let sentence = format!(
                "The log of {machine} has nothing from {} to {}; it writes daily, and what happened in between nobody can tell.",
                date(first),
                date(last)
            );
            let at = Timestamp::from_second(first * 86_400).unwrap_or_default();
            let end = Timestamp::from_second(last * 86_400 + 86_399).unwrap_or_default();
            let cause = format!("{machine} {first}");
            found.push(Finding { last: end, ..Finding::seen(FindingKind::LogGap, &cause, machine, "", sentence, at) });
        }
    }
    Ok(found)
}

/// Keeps findings; says how many were not known. Those that are suppressed are counted and do not come up.
pub(crate) async fn keep(app: &App, findings: Vec<Finding>) -> Result<u64, StoreError> {
    let now = Timestamp::now();
    let suppressed = if findings.is_empty() { vec![] } else { app.store.suppressions(Some(now)).await? };
    let mut new = 0;
    for finding in findings {
        if let Some(s) = suppressed.iter().find(|s| s.suppression.covers(&finding, now)) {
            app.store.count_suppressed(&s.id, now).await?;
            continue;
        }
        let put = app.store.put_finding(&finding, now).await?;
        new += u64::from(put == Put::New);
        let says = match put {
            Put::Known => continue,
            Put::New => finding.sentence.clone(),
            Put::Again => format!("It happened again: {}", finding.sentence),
        };
        let mut event = NewEvent::new(now, EventKind::FindingRaised, "service")
            .machine(&finding.machine)
            .says(says)
            .with("finding", finding.id.clone());
        if let Some(session) = &finding.session {
            event = event.session(session);
        }
        app.log.append(event).await?;
    }
    Ok(new)
}

/// Raises a finding that a key is somebody else's as well.
pub(crate) async fn shared_key(app: &App, print: &str, people: &[&str], now: Timestamp) -> Result<(), StoreError> {
    keep(app, vec![Finding::shared_key(print, people, now)]).await?;
    app.tell("findings");
    Ok(())
}
