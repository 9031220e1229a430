use super::caller::{Administrator, Caller, EverythingReader};
use super::problem::Problem;
use super::sessions::{MOST, PAGE, find};
use crate::service::App;
use aerie_api::{CheckpointView, EventView, LogProblem, LogReport, Page};
use aerie_core::evidence::{Checkpoint, hex};
use aerie_store::{EventFilter, StoredEvent};
use axum::Json;
use axum::extract::{Query, State};
use jiff::Timestamp;
use serde::Deserialize;
use std::sync::Arc;
use utoipa::IntoParams;

/// Which events to list.
#[derive(Deserialize, IntoParams)]
#[into_params(parameter_in = Query)]
pub(super) struct ListQuery {
    /// Word of the kind.
    kind: Option<String>,
    /// Of this session.
    session: Option<String>,
    /// Text anywhere in the event.
    q: Option<String>,
    /// `next` of the page before.
    after: Option<u64>,
    /// Rows, 1 to 500.
    limit: Option<u32>,
}

fn view(e: &StoredEvent) -> Option<EventView> {
    let mut view: EventView = serde_json::from_str(&e.body).ok()?;
    view.leaf = hex(&e.leaf);
    Some(view)
}

/// List events, newest first.
///
/// Those who may not read everything see the events of their own sessions, and must name one.
#[utoipa::path(get, path = "/log", operation_id = "log", params(ListQuery), responses((status = 200, body = Page<EventView>)))]
pub(super) async fn list(
    State(app): State<Arc<App>>,
    caller: Caller,
    Query(q): Query<ListQuery>,
) -> Result<Json<Page<EventView>>, Problem> {
    if !caller.reads_all() || !caller.seen().is_everything() {
        let session = q
            .session
            .as_deref()
            .ok_or_else(|| Problem::not_allowed("Name one of your own sessions: only administrators and auditors read the whole log."))?;
        find(&app, &caller, session).await?;
    }
    let limit = q.limit.unwrap_or(PAGE).clamp(1, MOST);
    let some = |t: Option<String>| t.filter(|t| !t.is_empty());
    let filter = EventFilter { kind: some(q.kind), session: some(q.session), text: some(q.q), before: q.after, limit: limit + 1 };
    let mut rows = app.store.events(&filter).await?;
    let more = rows.len() > limit as usize;
    rows.truncate(limit as usize);
    let next = rows.last().filter(|_| more).map(|r| r.seq.to_string());
    Ok(Json(Page { items: rows.iter().filter_map(view).collect(), next }))
}

/// Verify the whole log.
#[utoipa::path(post, path = "/log/verify", operation_id = "verifyLog", responses((status = 200, body = LogReport)))]
pub(super) async fn verify(State(app): State<Arc<App>>, _: EverythingReader) -> Result<Json<LogReport>, Problem> {
    let report = app.log.verify().await?;
    let word = |k| serde_json::to_value(k).ok().and_then(|v| v.as_str().map(Into::into)).unwrap_or_default();
    Ok(Json(LogReport {
        holds: report.holds(),
        sentence: report.sentence(),
        events: report.events,
        checkpoints: report.checkpoints,
        root: report.root,
        problems: report
            .problems
            .into_iter()
            .map(|p| LogProblem { first: p.first, last: p.last, kind: word(p.kind), sentence: p.sentence })
            .collect(),
        public_keys: app.log.public_keys().iter().rev().map(|k| hex(k.as_bytes())).collect(),
    }))
}

fn checkpoint_view(c: Checkpoint) -> CheckpointView {
    CheckpointView { size: c.size, root: c.root, at: c.at, signature: c.signature }
}

/// The newest checkpoints.
#[utoipa::path(get, path = "/log/checkpoints", operation_id = "checkpoints", responses((status = 200, body = Vec<CheckpointView>)))]
pub(super) async fn checkpoints(State(app): State<Arc<App>>, _: EverythingReader) -> Result<Json<Vec<CheckpointView>>, Problem> {
    Ok(Json(app.log.checkpoints(MOST).await?.into_iter().map(checkpoint_view).collect()))
}

/// Sign the log as it stands.
#[utoipa::path(post, path = "/log/checkpoints", operation_id = "makeCheckpoint", responses((status = 200, body = CheckpointView)))]
pub(super) async fn checkpoint(State(app): State<Arc<App>>, _: Administrator) -> Result<Json<CheckpointView>, Problem> {
    Ok(Json(checkpoint_view(app.log.checkpoint(Timestamp::now()).await?)))
}
