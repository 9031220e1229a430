//! Puts evidence together for somebody outside.

use super::caller::{Caller, EverythingReader};
use super::coverage::{MOST_DAYS, covered};
use super::problem::Problem;
use crate::service::App;
use aerie_api::{AccessView, EvidenceQuery};
use aerie_core::evidence::{EventKind, Proofs, ProvedEvent, RecordingDigest, contents, contents_digest, explanation, hex};
use aerie_store::{AccessFilter, EventFilter, FindingFilter, SessionFilter, SessionRow, StoredEvent};
use axum::Json;
use axum::extract::State;
use axum::http::header;
use axum::response::{IntoResponse as _, Response};
use jiff::Timestamp;
use serde::Serialize;
use std::collections::BTreeMap;
use std::io::Write as _;
use std::sync::Arc;

/// Rows of each kind in one pack: what is more is asked for in parts.
const MOST_ROWS: u32 = 50_000;

type Files = BTreeMap<String, Vec<u8>>;

/// Put evidence of a time together: findings, access records, sessions, digests of recordings, and events with their proofs, as one
/// archive (tar, gzip) that `aerie log verify` holds against the public key. Logged, with the digest of what is in it.
#[utoipa::path(post, path = "/evidence", operation_id = "exportEvidence", request_body = EvidenceQuery, responses((status = 200, content_type = "application/gzip", body = Vec<u8>), (status = 400)))]
pub(super) async fn export(
    State(app): State<Arc<App>>,
    _: EverythingReader,
    caller: Caller,
    Json(q): Json<EvidenceQuery>,
) -> Result<Response, Problem> {
    let days = q.until.duration_since(q.from).as_hours().div_euclid(24);
    if q.until <= q.from || days >= i64::from(MOST_DAYS) {
        return Err(Problem::bad_request(format!("`from` lies before `until`, and less than {MOST_DAYS} days before.")));
    }
    let sessions = sessions(&app, &q).await?;
    let mut files = gathered(&app, &q, &sessions).await?;
    let last = q.until.to_zoned(jiff::tz::TimeZone::UTC).date();
    let days = u16::try_from(days + 1).unwrap_or(MOST_DAYS);
    files.insert("coverage.json".into(), json(&covered(&app, &caller.seen(), last, days).await?)?);
    let what = described(&q);
    let made = format!("on {} for {}", caller.now.strftime("%Y-%m-%d %H:%M UTC"), caller.person.shown());
    files.insert("README.txt".into(), explanation(&what, &made).into_bytes());
    let contents = contents(&files);
    let event = caller
        .event(EventKind::EvidenceExported)
        .says(format!("{} put evidence together. {what}", caller.person.name))
        .with("contents", contents_digest(&contents));
    let bound = app.log.append(event).await?;
    let checkpoint = app.log.checkpoint(Timestamp::now()).await?;
    let mut events = events(&app, &q, &sessions, bound).await?;
    events.sort_by_key(|e| e.seq);
    events.dedup_by_key(|e| e.seq);
    let leaves = app.store.leaves(checkpoint.size).await?;
    let keys: Vec<String> = app.log.public_keys().iter().rev().map(|k| hex(k.as_bytes())).collect();
    files.insert("contents.json".into(), contents.into_bytes());
    files.insert("keys.json".into(), json(&keys)?);
    files.insert("checkpoint.json".into(), json(&checkpoint)?);
    // Hashing a long log and packing take a processor for a while.
    let packed = tokio::task::spawn_blocking(move || {
        files.insert("events.ndjson".into(), proved(&events, leaves));
        pack(&files, checkpoint.at)
    });
    let packed = packed.await.map_err(|e| Problem::internal(&e))?.map_err(|e| Problem::internal(&e))?;
    let name = format!("attachment; filename=\"aerie-evidence-{}.tar.gz\"", caller.now.strftime("%Y%m%d-%H%M%S"));
    Ok(([(header::CONTENT_TYPE, "application/gzip".to_string()), (header::CONTENT_DISPOSITION, name)], packed).into_response())
}

fn described(q: &EvidenceQuery) -> String {
    let of = match (&q.machine, &q.person) {
        (Some(m), Some(p)) => format!(" of {p} on {m}"),
        (Some(m), None) => format!(" of {m}"),
        (None, Some(p)) => format!(" of {p}"),
        (None, None) => String::new(),
    };
    let of = aerie_core::diagnostic::printable(&of);
    format!("It is about the time from {} to {}{of}.", q.from.strftime("%Y-%m-%d %H:%M UTC"), q.until.strftime("%Y-%m-%d %H:%M UTC"))
}

fn json(value: &impl Serialize) -> Result<Vec<u8>, Problem> {
    serde_json::to_vec(value).map_err(|e| Problem::internal(&e))
}

/// A JSON object a line.
fn lines<T: Serialize>(rows: impl Iterator<Item = T>) -> Result<Vec<u8>, Problem> {
    let mut all = vec![];
    for row in rows {
        all.extend(json(&row)?);
        all.push(b'\n');
    }
    Ok(all)
}

fn few(what: &str, n: usize) -> Result<(), Problem> {
    if n > MOST_ROWS as usize {
        return Err(Problem::bad_request(format!(
            "There are more than {MOST_ROWS} {what}: ask for a shorter time, one machine or one person."
        )));
    }
    Ok(())
}

/// What is not proved by itself.
async fn gathered(app: &App, q: &EvidenceQuery, sessions: &[SessionRow]) -> Result<Files, Problem> {
    let (machine, person) = (q.machine.clone(), q.person.clone());
    let filter = FindingFilter {
        machine: machine.clone(),
        before: Some((q.until, String::new())),
        limit: MOST_ROWS + 1,
        ..FindingFilter::default()
    };
    let findings = app.store.findings(&filter).await?;
    few("findings", findings.len())?;
    let of = |wanted: &Option<String>, is: Option<&str>| wanted.as_deref().is_none_or(|w| is == Some(w));
    let findings = findings.into_iter().filter(|f| f.finding.last >= q.from && of(&q.person, f.finding.person.as_deref()));
    let filter =
        AccessFilter { since: Some(q.from), until: Some(q.until), machine, person, limit: MOST_ROWS + 1, ..AccessFilter::default() };
    let accesses = app.store.accesses(&filter).await?;
    few("accesses", accesses.len())?;
    let rules = app.rules.now();
    let mut views: Vec<AccessView> = vec![];
    for record in accesses {
        // A session's own lines are kept apart from it.
        let session = record.session.clone();
        let mut view = super::accesses::view(rules.policy.directory(), record);
        if let Some(session) = session {
            view.lines = app.store.lines_of_session(&session).await?.into_iter().map(Into::into).collect();
        }
        views.push(view);
    }
    let recordings = sessions.iter().filter_map(|s| Some(RecordingDigest { session: s.id.clone(), digest: s.digest.clone()? }));
    Ok(Files::from([
        ("findings.ndjson".to_string(), lines(findings.map(super::findings::view))?),
        ("accesses.ndjson".to_string(), lines(views.iter())?),
        ("recordings.ndjson".to_string(), lines(recordings)?),
        ("sessions.ndjson".to_string(), lines(sessions.iter().map(Carried::of))?),
    ]))
}

/// A session that the service carried.
#[derive(Serialize)]
struct Carried<'a> {
    id: &'a str,
    person: &'a str,
    machine: &'a str,
    account: &'a str,
    source: &'a str,
    began: Timestamp,
    ended: Option<Timestamp>,
    uses: &'a str,
    factors: &'a str,
    rule: &'a str,
    policy_version: i64,
    recorded: bool,
}

impl<'a> Carried<'a> {
    fn of(s: &'a SessionRow) -> Self {
        Self {
            id: &s.id,
            person: &s.person,
            machine: &s.machine,
            account: &s.account,
            source: &s.source,
            began: s.began,
            ended: s.ended,
            uses: &s.uses,
            factors: &s.factors,
            rule: &s.rule,
            policy_version: s.policy_version,
            recorded: s.recording.is_some(),
        }
    }
}

async fn sessions(app: &App, q: &EvidenceQuery) -> Result<Vec<SessionRow>, Problem> {
    let (machine, person) = (q.machine.clone(), q.person.clone());
    let filter = SessionFilter {
        since: Some(q.from),
        before: Some((q.until, String::new())),
        machine,
        person,
        limit: MOST_ROWS + 1,
        ..SessionFilter::default()
    };
    let sessions = app.store.sessions(&filter).await?;
    few("sessions", sessions.len())?;
    Ok(sessions)
}

/// The events of the time, those that close the recordings of its sessions, and the one that binds the pack.
async fn events(app: &App, q: &EvidenceQuery, sessions: &[SessionRow], bound: u64) -> Result<Vec<StoredEvent>, Problem> {
    let mut all = app.store.events_between((q.from, q.until), q.machine.as_deref(), q.person.as_deref(), MOST_ROWS + 1).await?;
    few("events", all.len())?;
    for session in sessions.iter().filter(|s| s.digest.is_some()) {
        let kind = Some(EventKind::RecordingClosed.word().into());
        all.extend(app.store.events(&EventFilter { kind, session: Some(session.id.clone()), limit: 10, ..EventFilter::default() }).await?);
    }
    all.extend(app.store.events(&EventFilter { before: Some(bound + 1), limit: 1, ..EventFilter::default() }).await?);
    Ok(all)
}

fn proved(events: &[StoredEvent], leaves: Vec<aerie_core::evidence::Hash>) -> Vec<u8> {
    let proofs = Proofs::new(leaves);
    let one = |e: &StoredEvent| {
        let proof = proofs.proof(usize::try_from(e.seq).ok()?)?.iter().map(|h| hex(h)).collect();
        serde_json::to_string(&ProvedEvent { seq: e.seq, body: e.body.clone(), proof }).ok()
    };
    events.iter().filter_map(one).flat_map(|line| (line + "\n").into_bytes()).collect()
}

fn pack(files: &Files, at: Timestamp) -> std::io::Result<Vec<u8>> {
    let mut archive = tar::Builder::new(flate2::write::GzEncoder::new(vec![], flate2::Compression::default()));
    for (name, bytes) in files {
        let mut head = tar::Header::new_ustar();
        head.set_size(bytes.len() as u64);
        head.set_mode(0o644);
        head.set_mtime(u64::try_from(at.as_second()).unwrap_or(0));
        archive.append_data(&mut head, name, bytes.as_slice())?;
    }
    let mut packer = archive.into_inner()?;
    packer.flush()?;
    packer.finish()
}
