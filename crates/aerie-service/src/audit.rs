//! Holds logs and recordings against the rules, and keeps what comes out.

use crate::recorder::read_recording;
use crate::service::App;
use aerie_api::ScanResult;
use aerie_core::audit::read::Format;
use aerie_core::audit::read::unpack::Unpacker;
use aerie_core::audit::{Auditor, Finding, History, KnownSession, LogClock, LogLine, Recorded, Scan, Scanned, SessionIndex, habit_in};
use aerie_core::evidence::{EventKind, NewEvent};
use aerie_core::policy::{Capabilities, Capability, Factor, Factors};
use aerie_core::recording::{Frame, commands_in};
use aerie_store::{SessionFilter, SessionRow, StoreError};
use jiff::{SignedDuration, Timestamp};
use std::collections::HashMap;
use tokio::sync::mpsc;

/// Sessions that a scan knows at most, newest first.
const MOST_SESSIONS: u32 = 200_000;

impl From<&SessionRow> for Known {
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

/// A log that comes in pieces.
pub(crate) struct Incoming {
    pub(crate) name: String,
    pub(crate) clock: LogClock,
    /// What it holds, where that is not to be found out.
    pub(crate) format: Option<Format>,
    /// The machine whose log it is, where the log does not say so.
    pub(crate) host: Option<String>,
    pub(crate) pieces: mpsc::Receiver<Vec<u8>>,
}

/// Scans a log as it comes in, keeps the findings, and logs that it was done.
pub(crate) async fn scan(app: &App, by: &str, incoming: Incoming) -> Result<ScanResult, StoreError> {
    let history = app.rules.history().await?;
    let filter = SessionFilter { limit: MOST_SESSIONS, ..SessionFilter::default() };
    let sessions: SessionIndex = app.store.sessions(&filter).await?.iter().map(|s| (s.id.clone(), Known::from(s).0)).collect();
    let authorities: Vec<String> = app.keys.user_authorities().iter().map(|k| crate::keys::fingerprint(k.public_key())).collect();
    let zone = app.rules.now().policy.zone().clone();
    let name = incoming.name.clone();
    // What is found of accesses is kept in groups, while the log is still read; a slow disk holds the reader back.
    let (found, mut finding) = mpsc::channel::<Vec<Recorded>>(4);
    let judging = tokio::task::spawn_blocking(move || judge(incoming, &history, &sessions, &authorities, &zone, &found));
    while let Some(group) = finding.recv().await {
        app.store.put_accesses(&group).await?;
    }
    let (scanned, broken) = judging.await.map_err(|_| StoreError::LogClosed)?;
    let new = keep(app, scanned.findings.clone()).await?;
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
    history: &History,
    sessions: &SessionIndex,
    authorities: &[String],
    zone: &jiff::tz::TimeZone,
    found: &mpsc::Sender<Vec<Recorded>>,
) -> (Scanned, Option<String>) {
    let auditor = Auditor::new(history, Some(sessions), Some(authorities));
    let mut scan = Scan::new(auditor, &incoming.name, incoming.clock, incoming.format, incoming.host.as_deref());
    let (mut unpacker, mut broken, mut group) = (Unpacker::default(), None, vec![]);
    let mut each = |recorded: Recorded| {
        group.push(recorded);
        if group.len() >= GROUP {
            let _ = found.blocking_send(std::mem::take(&mut group));
        }
    };
    while let Some(piece) = incoming.pieces.blocking_recv() {
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
    (scanned, broken)
}

/// Keeps findings; says how many were not known.
pub(crate) async fn keep(app: &App, findings: Vec<Finding>) -> Result<u64, StoreError> {
    let now = Timestamp::now();
    let mut new = 0;
    for finding in findings {
        if app.store.put_finding(&finding, now).await? {
            new += 1;
            let mut event = NewEvent::new(now, EventKind::FindingRaised, "service")
                .machine(&finding.machine)
                .says(finding.sentence.clone())
                .with("finding", finding.id.clone());
            if let Some(session) = &finding.session {
                event = event.session(session);
            }
            app.log.append(event).await?;
        }
    }
    Ok(new)
}

/// Raises a finding that a key is somebody else's as well.
pub(crate) async fn shared_key(app: &App, print: &str, people: &[&str], now: Timestamp) -> Result<(), StoreError> {
    keep(app, vec![Finding::shared_key(print, people, now)]).await?;
    app.tell("findings");
    Ok(())
}

/// Looks at what was typed in a session that has ended.
pub(crate) async fn look_at_recording(app: &App, id: &str) {
    match look(app, id).await {
        Ok(found) if found.is_empty() => {}
        Ok(found) => {
            if let Err(e) = keep(app, found).await {
                tracing::error!(error = %e, "findings could not be kept");
            }
            app.tell("findings");
        }
        Err(e) => tracing::error!(error = %e, "a recording could not be looked at"),
    }
}

async fn look(app: &App, id: &str) -> Result<Vec<Finding>, StoreError> {
    let Some(session) = app.store.session(id).await? else { return Ok(vec![]) };
    let Some(file) = session.recording.clone() else { return Ok(vec![]) };
    let (path, keys) = (app.config.recordings().join(&file), app.keys.clone());
    let commands = tokio::task::spawn_blocking(move || commands(&path, &keys)).await.unwrap_or_default();
    let (rules, history) = (app.rules.now(), History::default());
    let mut auditor = Auditor::new(&history, None, None);
    let shown = rules.policy.directory().person(&session.person).map_or(session.person.clone(), |p| p.shown().to_string());
    for (number, (at_ms, command)) in commands.into_iter().enumerate() {
        if let Some(habit) = habit_in(&command) {
            let line = LogLine {
                file: file.as_str().into(),
                number: number as u64 + 1,
                offset: at_ms,
                text: aerie_core::diagnostic::printable(&command),
                digest: String::new(),
            };
            let at = session.began + SignedDuration::from_millis(i64::try_from(at_ms).unwrap_or(0));
            auditor.handle_habit(habit, &Known::from(&session).0, &shown, at, at_ms, line);
        }
    }
    Ok(auditor.finish(rules.policy.zone()))
}

/// Longest line of input that is looked at.
const MAX_TYPED: usize = 64 << 10;

/// The commands of a recording with their times: typed ones, and those given to `ssh`.
fn commands(path: &std::path::Path, keys: &crate::Keys) -> Vec<(u64, String)> {
    let mut found = vec![];
    let mut typed: HashMap<u32, Vec<u8>> = HashMap::new();
    let read = read_recording(path, keys, |f| {
        match f.frame {
            Frame::Input(bytes) => {
                let line = typed.entry(f.channel).or_default();
                line.extend_from_slice(&bytes);
                if let Some(end) = line.iter().rposition(|b| matches!(b, b'\r' | b'\n')) {
                    let rest = line.split_off(end + 1);
                    found.extend(commands_in(line).into_iter().map(|c| (f.at_ms, c)));
                    *line = rest;
                }
                if line.len() > MAX_TYPED {
                    line.clear();
                }
            }
            Frame::Opened(o) => found.extend(o.command.map(|c| (f.at_ms, c))),
            _ => {}
        }
        true
    });
    if let Err(e) = read {
        tracing::warn!(error = %e, "a recording does not read to its end");
    }
    found
}
