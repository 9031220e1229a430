use super::caller::Reader;
use super::problem::Problem;
use super::sessions::{MOST, PAGE, cursor, make_cursor};
use crate::service::App;
use aerie_api::{FindingView, Page, SettledView};
use aerie_core::audit::{CaseState, Importance};
use aerie_store::{FindingFilter, KeptFinding};
use axum::Json;
use axum::extract::{Path, Query, State};
use serde::Deserialize;
use std::sync::Arc;
use utoipa::IntoParams;

/// Which findings to list.
#[derive(Deserialize, IntoParams)]
#[into_params(parameter_in = Query)]
pub(super) struct ListQuery {
    /// Word of the kind.
    kind: Option<String>,
    /// Session concerned.
    session: Option<String>,
    /// Name of the machine.
    machine: Option<String>,
    /// `open`, `acknowledged`, `in-work`, `resolved` or `accepted`; `unsettled` for the first three, `settled` for the others.
    state: Option<String>,
    /// At least of this importance: `low`, `medium`, `high` or `critical`.
    importance: Option<String>,
    /// Name of the owner.
    owner: Option<String>,
    /// Text anywhere in the finding.
    q: Option<String>,
    /// `next` of the page before.
    after: Option<String>,
    /// Rows, 1 to 500.
    limit: Option<u32>,
}

pub(super) fn view(kept: KeptFinding) -> FindingView {
    let settled = kept.settled.map(|s| SettledView { at: s.at, by: s.by, why: s.why });
    let case = kept.case;
    let state = case.state.word().into();
    FindingView { settled, state, owner: case.owner, due: case.due, until: case.until, ..kept.finding.into() }
}

fn unknown(what: &str, word: &str) -> Problem {
    Problem::bad_request(format!("There is no {what} `{}`.", aerie_core::diagnostic::printable(word)))
}

/// What a query asks for, up to a full page.
pub(super) fn filter(q: ListQuery) -> Result<FindingFilter, Problem> {
    let before = q.after.as_deref().map(cursor).transpose()?;
    let some = |t: Option<String>| t.filter(|t| !t.is_empty());
    let rank = match some(q.importance) {
        Some(word) => Some(Importance::ALL.into_iter().find(|i| i.word() == word).ok_or_else(|| unknown("importance", &word))? as i64),
        None => None,
    };
    let state = some(q.state);
    if let Some(word) = state.as_deref().filter(|w| !["settled", "unsettled"].contains(w) && CaseState::from_word(w).is_none()) {
        return Err(unknown("state", word));
    }
    Ok(FindingFilter {
        kind: some(q.kind),
        session: some(q.session),
        machine: some(q.machine),
        state,
        rank,
        owner: some(q.owner),
        text: some(q.q),
        before,
        limit: MOST,
    })
}

/// List findings, newest first; those that are settled among them.
#[utoipa::path(get, path = "/findings", operation_id = "findings", params(ListQuery), responses((status = 200, body = Page<FindingView>)))]
pub(super) async fn list(
    State(app): State<Arc<App>>,
    Reader(seen): Reader,
    Query(q): Query<ListQuery>,
) -> Result<Json<Page<FindingView>>, Problem> {
    let limit = q.limit.unwrap_or(PAGE).clamp(1, MOST);
    let filter = FindingFilter { limit: limit + 1, ..filter(q)? };
    let mut found = app.store.findings(&filter).await?;
    let more = found.len() > limit as usize;
    found.truncate(limit as usize);
    let next = found.last().filter(|_| more).map(|f| make_cursor(f.finding.last, &f.finding.id));
    // Whoever has a scope sees what concerns machines within it; a page may then be shorter.
    let rules = app.rules.now();
    found.retain(|f| seen.machine(rules.policy.directory(), &f.finding.machine));
    Ok(Json(Page { items: found.into_iter().map(view).collect(), next }))
}

/// Show a finding.
#[utoipa::path(get, path = "/findings/{id}", operation_id = "finding", params(("id" = String, Path)), responses((status = 200, body = FindingView)))]
pub(super) async fn show(State(app): State<Arc<App>>, Reader(seen): Reader, Path(id): Path<String>) -> Result<Json<FindingView>, Problem> {
    let rules = app.rules.now();
    let found = app
        .store
        .finding(&id)
        .await?
        .filter(|f| seen.machine(rules.policy.directory(), &f.finding.machine))
        .ok_or_else(|| Problem::not_found("There is no such finding."))?;
    Ok(Json(super::cases::shown(&app, &found.finding.id).await?))
}
