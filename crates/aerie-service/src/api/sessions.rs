use super::caller::Caller;
use super::problem::Problem;
use crate::service::App;
use aerie_api::{Page, SessionView};
use aerie_core::directory::Act;
use aerie_core::evidence::{EventKind, NewEvent};
use aerie_core::session::EndReason;
use aerie_store::{FindingFilter, SessionFilter, SessionRow};
use axum::Json;
use axum::extract::{Path, Query, State};
use axum::http::StatusCode;
use jiff::Timestamp;
use serde::Deserialize;
use std::sync::Arc;
use std::sync::atomic::Ordering;
use utoipa::IntoParams;

/// Rows of a page unless asked otherwise, and at most.
pub(super) const PAGE: u32 = 50;
pub(super) const MOST: u32 = 500;

/// Which sessions to list.
#[derive(Deserialize, IntoParams)]
#[into_params(parameter_in = Query)]
pub(super) struct ListQuery {
    /// `live` or `ended`.
    state: Option<String>,
    /// Name of the person.
    person: Option<String>,
    /// Name of the machine.
    machine: Option<String>,
    /// Text in person, machine, account, address or identifier.
    q: Option<String>,
    /// `next` of the page before.
    after: Option<String>,
    /// Rows, 1 to 500.
    limit: Option<u32>,
}

/// Reads a cursor of instant and identifier.
pub(super) fn cursor(text: &str) -> Result<(Timestamp, String), Problem> {
    let (ms, id) = text.split_once('.').ok_or_else(|| Problem::bad_request("`after` is not the `next` of a page."))?;
    let at = ms.parse().ok().and_then(|ms| Timestamp::from_millisecond(ms).ok());
    Ok((at.ok_or_else(|| Problem::bad_request("`after` is not the `next` of a page."))?, id.into()))
}

pub(super) fn make_cursor(at: Timestamp, id: &str) -> String {
    format!("{}.{id}", at.as_millisecond())
}

pub(super) async fn view(app: &App, row: SessionRow) -> Result<SessionView, Problem> {
    let rules = app.rules.now();
    let live = app.live.get(&row.id);
    let now = Timestamp::now();
    let (bytes_out, bytes_in) = match &live {
        Some(s) => s.bytes(),
        None => (u64::try_from(row.bytes_out).unwrap_or(0), u64::try_from(row.bytes_in).unwrap_or(0)),
    };
    let instant = |ms: i64| Timestamp::from_millisecond(ms).ok();
    let ends_by = live.as_ref().map(|s| s.ends_ms.load(Ordering::Relaxed)).filter(|ms| *ms > 0).and_then(instant);
    let idle = live.as_ref().map(|s| (s.active_ms.load(Ordering::Relaxed), s.idle_ms.load(Ordering::Relaxed)));
    let idle_until = idle.filter(|(_, limit)| *limit > 0).and_then(|(active, limit)| instant(active.saturating_add(limit)));
    let reason = row.end_reason.as_deref().and_then(EndReason::from_word);
    let seconds = row.ended.unwrap_or(now).duration_since(row.began).as_secs();
    let person_name = rules.policy.directory().person(&row.person).map_or(row.person.clone(), |p| p.shown().to_string());
    let uses: Vec<&str> = row.uses.split_whitespace().collect();
    let findings =
        app.store.findings(&FindingFilter { session: Some(row.id.clone()), limit: 100, ..FindingFilter::default() }).await?.len() as u64;
    Ok(SessionView {
        sentence: SessionView::tell(&person_name, &row.machine, &uses, seconds, reason),
        uses: uses.into_iter().map(Into::into).collect(),
        factors: row.factors.split_whitespace().map(Into::into).collect(),
        end_reason: reason.map(|r| r.phrase().to_string()),
        recorded: row.recording.is_some(),
        id: row.id,
        person: row.person,
        person_name,
        machine: row.machine,
        account: row.account,
        source: row.source,
        began: row.began,
        ended: row.ended,
        ends_by,
        idle_until,
        seconds,
        rule: row.rule,
        rule_line: row.rule_line,
        policy_version: row.policy_version,
        digest: row.digest,
        length_ms: row.length_ms,
        bytes_out,
        bytes_in,
        findings,
    })
}

/// List sessions, newest first.
///
/// Those who may not read everything see their own.
#[utoipa::path(get, path = "/sessions", operation_id = "sessions", params(ListQuery), responses((status = 200, body = Page<SessionView>)))]
pub(super) async fn list(
    State(app): State<Arc<App>>,
    caller: Caller,
    Query(q): Query<ListQuery>,
) -> Result<Json<Page<SessionView>>, Problem> {
    let live = match q.state.as_deref() {
        None | Some("") => None,
        Some("live") => Some(true),
        Some("ended") => Some(false),
        Some(_) => return Err(Problem::bad_request("`state` is `live` or `ended`.")),
    };
    let limit = q.limit.unwrap_or(PAGE).clamp(1, MOST);
    let person = if caller.reads_all() { q.person } else { Some(caller.person.name.clone()) };
    let before = q.after.as_deref().map(cursor).transpose()?;
    let filter =
        SessionFilter { live, person, machine: q.machine, text: q.q.filter(|t| !t.is_empty()), before, since: None, limit: limit + 1 };
    let mut rows = app.store.sessions(&filter).await?;
    if caller.reads_all() && !caller.seen().is_everything() {
        rows = within_scope(&app, &caller, filter, rows).await?;
    }
    let more = rows.len() > limit as usize;
    rows.truncate(limit as usize);
    let next = rows.last().filter(|_| more).map(|r| make_cursor(r.began, &r.id));
    let mut items = Vec::with_capacity(rows.len());
    for row in rows {
        items.push(view(&app, row).await?);
    }
    Ok(Json(Page { items, next }))
}

/// Rows that the caller may see, read on until a page is full.
async fn within_scope(
    app: &App,
    caller: &Caller,
    mut filter: SessionFilter,
    mut rows: Vec<SessionRow>,
) -> Result<Vec<SessionRow>, Problem> {
    let (rules, seen) = (app.rules.now(), caller.seen());
    let directory = rules.policy.directory();
    let (people, machines) = (seen.people(directory), seen.machines(directory));
    let inside = |s: &SessionRow| {
        directory.person_index(&s.person).is_some_and(|i| people.contains(i))
            && directory.machine_index(&s.machine).is_some_and(|i| machines.contains(i))
    };
    let wanted = filter.limit as usize;
    let mut kept = vec![];
    while let Some(last) = rows.last() {
        filter.before = Some((last.began, last.id.clone()));
        let full = rows.len() == wanted;
        kept.extend(rows.into_iter().filter(|s| s.person == caller.person.name || inside(s)));
        if kept.len() >= wanted || !full {
            break;
        }
        rows = app.store.sessions(&filter).await?;
    }
    kept.truncate(wanted);
    Ok(kept)
}

/// The session of that identifier, if the caller may read it.
pub(super) async fn find(app: &App, caller: &Caller, id: &str) -> Result<SessionRow, Problem> {
    let row = app.store.session(id).await?.filter(|s| caller.sees(app, &s.person, &s.machine));
    row.ok_or_else(|| Problem::not_found("There is no such session, or it is not yours."))
}

/// Show a session.
#[utoipa::path(get, path = "/sessions/{id}", operation_id = "session", params(("id" = String, Path)), responses((status = 200, body = SessionView)))]
pub(super) async fn show(State(app): State<Arc<App>>, caller: Caller, Path(id): Path<String>) -> Result<Json<SessionView>, Problem> {
    let row = find(&app, &caller, &id).await?;
    Ok(Json(view(&app, row).await?))
}

/// End a live session at once.
#[utoipa::path(post, path = "/sessions/{id}/end", operation_id = "endSession", params(("id" = String, Path)), responses((status = 204), (status = 404)))]
pub(super) async fn end(State(app): State<Arc<App>>, caller: Caller, Path(id): Path<String>) -> Result<StatusCode, Problem> {
    // Whose it is leaves it, which needs no right.
    if let Some(own) = app.live.get(&id).filter(|l| l.person == caller.person.name) {
        own.end(EndReason::Left);
        app.tell("sessions");
        return Ok(StatusCode::NO_CONTENT);
    }
    // An administrator with a scope ends what is within it.
    let row = app.store.session(&id).await?.filter(|s| caller.sees(&app, &s.person, &s.machine));
    if caller.within(Act::EndSessions).is_none() || row.is_none_or(|s| s.person == caller.person.name && !caller.administers()) {
        return Err(Problem::not_allowed("Only administrators may do this, within their scope."));
    }
    let live = app.live.get(&id).ok_or_else(|| Problem::not_found("There is no live session of that identifier."))?;
    let event = NewEvent::new(Timestamp::now(), EventKind::SessionEnded, &caller.person.name)
        .session(&id)
        .says(format!("{} ended the session of {}.", caller.person.name, live.person));
    app.log.append(event).await?;
    live.end(EndReason::Ended);
    app.tell("sessions");
    Ok(StatusCode::NO_CONTENT)
}
