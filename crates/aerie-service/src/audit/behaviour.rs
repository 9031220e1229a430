//! Holds what all logs and sessions show together against the detections, when something came in and now and then.

use super::{Known, detections, keep};
use crate::service::App;
use aerie_core::audit::detect::What;
use aerie_core::audit::{AccessRecord, Behaviour, Finding, FindingKind, Happened};
use aerie_store::{AccessFilter, EventFilter, FindingFilter, SessionFilter, StoreError};
use jiff::{SignedDuration, Timestamp};

/// How far back is looked: no detection remembers longer.
const BACK: SignedDuration = SignedDuration::from_hours(24 * 120);
/// Sessions, and accesses around Aerie, that are looked at, newest first.
const MOST: u32 = 500_000;
/// Events of one kind that are looked at.
const MOST_EVENTS: u32 = 10_000;

/// Holds everything of the last months against the detections, and keeps what is found; says how much of it is new.
pub(crate) async fn look_again(app: &App) -> Result<u64, StoreError> {
    // One at a time: whoever comes while one runs would see the same.
    let _turn = app.looking.lock().await;
    let now = Timestamp::now();
    let (history, set) = (app.rules.history().await?, detections(app).await?);
    let happened = happened(app, now - BACK).await?;
    let found: Vec<Finding> = tokio::task::spawn_blocking(move || {
        let mut behaviour = Behaviour::new(&history, set);
        happened.into_iter().for_each(|h| behaviour.handle(h));
        behaviour.finish(now)
    })
    .await
    .map_err(|_| StoreError::LogClosed)?;
    let new = keep(app, found).await?;
    if new > 0 {
        app.tell("findings");
    }
    Ok(new)
}

/// What happened since, in the order of beginnings.
pub(super) async fn happened(app: &App, since: Timestamp) -> Result<Vec<Happened>, StoreError> {
    let sessions = SessionFilter { since: Some(since), limit: MOST, ..SessionFilter::default() };
    let mut all: Vec<Happened> = app
        .store
        .sessions(&sessions)
        .await?
        .iter()
        .map(|s| Happened::session(&Known::from(s).0, u64::try_from(s.bytes_in.saturating_add(s.bytes_out)).unwrap_or(0)))
        .collect();
    all.extend(around(app, since).await?.iter().map(Happened::from));
    all.extend(refusals(app, since).await?);
    all.extend(emergencies(app, since).await?);
    all.sort_by(|a, b| a.at.cmp(&b.at).then_with(|| a.machine.cmp(&b.machine)));
    Ok(all)
}

/// What no session explains.
pub(super) async fn around(app: &App, since: Timestamp) -> Result<Vec<AccessRecord>, StoreError> {
    let around = AccessFilter { since: Some(since), through: Some(false), limit: MOST, ..AccessFilter::default() };
    app.store.accesses(&around).await
}

async fn refusals(app: &App, since: Timestamp) -> Result<Vec<Happened>, StoreError> {
    let filter = EventFilter { kind: Some("consent".into()), limit: MOST_EVENTS, ..EventFilter::default() };
    let events = app.store.events(&filter).await?;
    let read = |body: &str| {
        let v: serde_json::Value = serde_json::from_str(body).ok()?;
        let text = |key: &str| v.get(key).and_then(|t| t.as_str());
        let refused = v.pointer("/data/answer").and_then(|a| a.as_str()) == Some("refused");
        let at: Timestamp = text("at")?.parse().ok().filter(|at| *at >= since)?;
        let (person, machine) = (text("actor")?, text("machine")?);
        refused.then(|| Happened::event(What::ConsentRefused, at, person, machine, text("session")))
    };
    Ok(events.iter().filter_map(|e| read(&e.body)).collect())
}

async fn emergencies(app: &App, since: Timestamp) -> Result<Vec<Happened>, StoreError> {
    let filter = FindingFilter { kind: Some(FindingKind::EmergencyUsed.word().into()), limit: 1000, ..FindingFilter::default() };
    let mut all = vec![];
    for kept in app.store.findings(&filter).await?.into_iter().filter(|k| k.finding.first >= since) {
        let f = &kept.finding;
        let event = |what, at, person: &str| Happened::event(what, at, person, &f.machine, f.session.as_deref());
        all.push(event(What::Emergency, f.first, f.person.as_deref().unwrap_or_default()));
        all.extend(kept.settled.as_ref().map(|s| event(What::Review, s.at, &s.by)));
    }
    Ok(all)
}
