//! Whether what is kept is what was kept, and whether what should come in does.

use super::keep;
use crate::recorder::{ReadFault, read_recording};
use crate::service::App;
use aerie_api::RecordingReport;
use aerie_core::audit::{Finding, FindingKind};
use aerie_core::wording::{duration, instant};
use aerie_store::{SessionRow, StoreError};
use jiff::Timestamp;
use std::path::PathBuf;

/// Recordings that are held against the log at a time: those whose last time is longest ago.
const AT_A_TIME: u32 = 100;

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
    for row in app.store.recordings_to_check(AT_A_TIME).await? {
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

/// Holds a recording against the log: that it is what was written, whole, and the one whose digest is there.
pub(crate) async fn verify_recording(app: &App, path: PathBuf, row: &SessionRow) -> RecordingReport {
    let keys = app.keys.clone();
    let read = tokio::task::spawn_blocking(move || read_recording(&path, &keys, |_| true)).await;
    let fault = match read {
        Ok(Ok(s)) => {
            let in_log = row.digest.as_ref().map(|d| *d == s.digest);
            // While the session is live there is no end yet.
            let holds = in_log != Some(false) && (s.complete || row.digest.is_none());
            let sentence =
                if in_log == Some(false) { "The recording is not the one whose digest is in the log.".into() } else { s.sentence() };
            return RecordingReport {
                session: row.id.clone(),
                holds,
                sentence,
                complete: s.complete,
                frames: s.frames,
                length_ms: s.length_ms,
                digest: s.digest,
                in_log,
            };
        }
        Ok(Err(ReadFault::File(f))) if f.kind() == std::io::ErrorKind::NotFound => "its file is missing".into(),
        Ok(Err(ReadFault::File(_))) => "its file cannot be read".into(),
        Ok(Err(ReadFault::Content(c))) => c.to_string(),
        Err(_) => "reading it broke off".into(),
    };
    RecordingReport {
        session: row.id.clone(),
        holds: false,
        sentence: format!("The recording does not hold: {fault}."),
        complete: false,
        frames: 0,
        length_ms: 0,
        digest: String::new(),
        in_log: None,
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
