//! Whether what is kept is what was kept, and whether what should come in does.

use super::keep;
use crate::recorder::{ReadFault, header_of, read_recording};
use crate::service::App;
use aerie_api::RecordingReport;
use aerie_core::audit::{Finding, FindingKind};
use aerie_core::evidence::EventKind;
use aerie_core::recording::Summary;
use aerie_core::wording::{duration, instant};
use aerie_store::{SessionRow, StoreError};
use jiff::{SignedDuration, Timestamp};
use std::path::PathBuf;

/// Recordings that are held against the log at a time: those whose last time is longest ago.
const AT_A_TIME: u32 = 100;
/// Longest that a recording takes to be closed after its session ended.
const CLOSING: SignedDuration = SignedDuration::from_mins(1);

/// Looks, and keeps what is found; says how much of it is new.
pub(crate) async fn look_at_integrity(app: &App, now: Timestamp) -> Result<u64, StoreError> {
    let mut found: Vec<Finding> = altered(app, now).await?.into_iter().collect();
    found.extend(recordings(app, now).await?);
    found.extend(silent(app, now).await?);
    let new = keep(app, found).await?;
    if new > 0 {
        app.tell("findings");
    }
    Ok(new)
}

/// That the log of events does not hold: events changed, removed or added, or checkpoints that do not extend each other.
async fn altered(app: &App, now: Timestamp) -> Result<Option<Finding>, StoreError> {
    let report = app.log.verify().await?;
    let finding = |first: &aerie_core::evidence::Problem| {
        let machine = "the event log";
        Finding::seen(FindingKind::LogAltered, &first.sentence, machine, "", report.sentence(), now)
    };
    Ok(report.problems.first().map(finding))
}

/// Recordings that are missing, or are not what was written.
async fn recordings(app: &App, now: Timestamp) -> Result<Vec<Finding>, StoreError> {
    let mut found = vec![];
    for row in app.store.recordings_to_check(now - CLOSING, AT_A_TIME).await? {
        let Some(path) = file_of(app, &row) else { continue };
        let report = verify_recording(app, path.clone(), &row).await;
        app.store.recording_checked(&row.id, now).await?;
        if report.holds {
            continue;
        }
        let kind = if path.exists() { FindingKind::RecordingDamaged } else { FindingKind::RecordingMissing };
        let person = super::report::shown(app.rules.now().policy.directory(), &row.person);
        let sentence = format!("Of the session of {person} on {}: {}", row.machine, lower(&report.sentence));
        let finding = Finding::seen(kind, &row.id, &row.machine, &row.account, sentence, now);
        found.push(Finding { person: Some(row.person), session: Some(row.id), ..finding });
    }
    Ok(found)
}

fn lower(sentence: &str) -> String {
    let mut chars = sentence.chars();
    chars.next().map(|first| first.to_lowercase().chain(chars).collect()).unwrap_or_default()
}

fn file_of(app: &App, row: &SessionRow) -> Option<PathBuf> {
    row.recording.as_ref().map(|file| app.config.recordings().join(file))
}

/// What the log says of a recording that was closed.
struct Closed {
    /// Digest of the chain, hexadecimal.
    digest: String,
    /// Whether it was closed by the session's end, and not after the service broke off.
    whole: bool,
}

/// The first closing of a recording that the log has, as it was sealed: whatever comes later is not it.
async fn closed(app: &App, session: &str) -> Result<Option<Closed>, StoreError> {
    let Some(body) = app.log.sealed_event(EventKind::RecordingClosed, session).await? else { return Ok(None) };
    let data = serde_json::from_str::<serde_json::Value>(&body).ok().and_then(|b| b.get("data").cloned()).unwrap_or_default();
    let whole = data.get("complete") != Some(&serde_json::Value::Bool(false));
    Ok(data.get("digest").and_then(|d| d.as_str()).map(|digest| Closed { digest: digest.into(), whole }))
}

/// Holds a recording against the log: that it is what was written, whole, of that session, and the one whose digest is there.
///
/// The digest is that of the sealed event, never the one beside the session: what can be changed together proves nothing.
pub(crate) async fn verify_recording(app: &App, path: PathBuf, row: &SessionRow) -> RecordingReport {
    let report = |holds, sentence: String, s: Summary, in_log| RecordingReport {
        session: row.id.clone(),
        holds,
        sentence,
        complete: s.complete,
        frames: s.frames,
        length_ms: s.length_ms,
        digest: s.digest,
        in_log,
    };
    let broken = |fault: String| {
        let nothing = Summary { chunks: 0, frames: 0, length_ms: 0, complete: false, left_over: 0, digest: String::new() };
        report(false, format!("The recording does not hold: {fault}."), nothing, None)
    };
    let Ok(closed) = closed(app, &row.id).await else { return broken("the log cannot be read".into()) };
    let keys = app.keys.clone();
    let read = tokio::task::spawn_blocking(move || Ok::<_, ReadFault>((header_of(&path)?, read_recording(&path, &keys, |_| true)?))).await;
    let (header, s) = match read {
        Ok(Ok(read)) => read,
        Ok(Err(ReadFault::File(f))) if f.kind() == std::io::ErrorKind::NotFound => return broken("its file is missing".into()),
        Ok(Err(ReadFault::File(_))) => return broken("its file cannot be read".into()),
        Ok(Err(ReadFault::Content(c))) => return broken(c.to_string()),
        Err(_) => return broken("reading it broke off".into()),
    };
    let said = s.sentence();
    if header.session != row.id {
        return report(false, "The recording is that of another session.".into(), s, None);
    }
    if (&header.person, &header.machine, &header.account) != (&row.person, &row.machine, &row.account) {
        let (h, other) = (&header, "The session is not as its recording says it was");
        return report(false, format!("{other}: {} on {} as {}.", h.person, h.machine, h.account), s, None);
    }
    // While the session is live there is no end yet, nor in the moment in which it is closed.
    let closing = row.ended.is_none_or(|e| Timestamp::now().duration_since(e) < CLOSING);
    match closed {
        Some(c) if c.digest != s.digest => report(false, "The recording is not the one whose digest is in the log.".into(), s, Some(false)),
        Some(c) => report(s.complete || !c.whole, said, s, Some(true)),
        None if closing => report(true, said, s, None),
        None => report(
            false,
            "The log has no digest of the recording that holds: it was never closed, or its event was changed.".into(),
            s,
            None,
        ),
    }
}

/// Machines whose logs came in by themselves and do no longer.
async fn silent(app: &App, now: Timestamp) -> Result<Vec<Finding>, StoreError> {
    let rules = app.rules.now();
    let (directory, zone) = (rules.policy.directory(), rules.policy.zone());
    let mut found = vec![];
    for (machine, pulse) in app.store.pulses().await? {
        let Some(since) = pulse.silent_since(now).filter(|_| directory.machine(&machine).is_some()) else { continue };
        let (when, pause) = (instant(since, now, zone), duration(pulse.longest));
        let sentence = format!("Nothing came of the log of {machine} since {when}; its longest pause before was {pause}.");
        let cause = format!("{machine} {}", since.as_second());
        found.push(Finding::seen(FindingKind::SourceSilent, &cause, &machine, "", sentence, since));
    }
    Ok(found)
}
