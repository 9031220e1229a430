//! What is done with findings, and which are not to come up.

use super::caller::{Administrator, Reader};
use super::findings::view;
use super::new_id;
use super::problem::Problem;
use crate::service::App;
use aerie_api::{FindingStep, FindingView, NewSuppression, SuppressionView};
use aerie_core::audit::{Step, Suppression};
use aerie_core::evidence::EventKind;
use aerie_core::wording::list as listed;
use aerie_store::KeptSuppression;
use axum::Json;
use axum::extract::{Path, State};
use axum::http::StatusCode;
use jiff::Timestamp;
use std::sync::Arc;

/// Do something with a finding: take it on, settle it, accept it for a while, give it to somebody, comment on it.
#[utoipa::path(post, path = "/findings/{id}/steps", operation_id = "workOnFinding", params(("id" = String, Path)), request_body = FindingStep, responses((status = 200, body = FindingView), (status = 400), (status = 404)))]
pub(super) async fn step(
    State(app): State<Arc<App>>,
    Administrator(caller): Administrator,
    Path(id): Path<String>,
    Json(asked): Json<FindingStep>,
) -> Result<Json<FindingView>, Problem> {
    let step = asked.read().ok_or_else(|| {
        Problem::bad_request("A step is acknowledge, begin, resolve, accept (with a day), reopen, assign, due or comment.")
    })?;
    if let Step::Assign(Some(owner)) = &step
        && app.rules.now().policy.directory().person(owner).is_none()
    {
        return Err(Problem::bad_request(format!("There is nobody called {owner}.")));
    }
    let (me, now, why) = (caller.person.name.clone(), caller.now, asked.why.clone());
    let done = app
        .store
        .work_on_finding(&id, &me, now, |kept, case| case.handle(&step, kept.finding.kind, &me, now).map(|sentence| (sentence, why)))
        .await?
        .ok_or_else(missing)?;
    let sentence = done.map_err(|refused| Problem::bad_request(refused.to_string()))?;
    let shown = shown(&app, &id).await?;
    let event = caller
        .event(EventKind::FindingChanged)
        .machine(&shown.machine)
        .says(format!("Of the finding {id}: {}", aerie_core::diagnostic::printable(&sentence)))
        .with("finding", id)
        .with("state", shown.state.clone());
    app.log.append(event).await?;
    app.tell("findings");
    Ok(Json(shown))
}

fn missing() -> Problem {
    Problem::not_found("There is no such finding.")
}

/// A finding with what was done with it.
pub(super) async fn shown(app: &App, id: &str) -> Result<FindingView, Problem> {
    let kept = app.store.finding(id).await?.ok_or_else(missing)?;
    let history = app.store.finding_history(id).await?;
    let history = history.into_iter().map(|h| aerie_api::HistoryView { at: h.at, by: h.by, sentence: h.sentence }).collect();
    Ok(FindingView { history, ..view(kept) })
}

/// What it holds back, in a sentence.
fn sentence(s: &Suppression) -> String {
    let parts = [("machine ", &s.machine), ("account ", &s.account), ("person ", &s.person), ("address ", &s.source)];
    let told: Vec<String> = parts.into_iter().filter_map(|(word, part)| part.as_ref().map(|p| format!("{word}{p}"))).collect();
    format!("{} of {} does not come up until {}.", s.kind, listed(&told), s.until.strftime("%Y-%m-%d"))
}

fn suppression_view(k: KeptSuppression, now: Timestamp) -> SuppressionView {
    SuppressionView {
        sentence: sentence(&k.suppression),
        kind: k.suppression.kind,
        why: k.suppression.why,
        by: k.by,
        made: k.made,
        until: k.suppression.until,
        in_force: k.withdrawn.is_none() && k.suppression.until > now,
        hits: k.hits,
        id: k.id,
    }
}

/// List what is not to come up, newest first; what is over among it.
#[utoipa::path(get, path = "/suppressions", operation_id = "suppressions", responses((status = 200, body = Vec<SuppressionView>)))]
pub(super) async fn suppressions(State(app): State<Arc<App>>, _: Reader) -> Result<Json<Vec<SuppressionView>>, Problem> {
    let now = Timestamp::now();
    Ok(Json(app.store.suppressions(None).await?.into_iter().map(|k| suppression_view(k, now)).collect()))
}

/// Keep findings from coming up: of one kind, with something else in common, until a day, and with a reason.
#[utoipa::path(post, path = "/suppressions", operation_id = "suppress", request_body = NewSuppression, responses((status = 200, body = SuppressionView), (status = 400)))]
pub(super) async fn suppress(
    State(app): State<Arc<App>>,
    Administrator(caller): Administrator,
    Json(new): Json<NewSuppression>,
) -> Result<Json<SuppressionView>, Problem> {
    let suppression = Suppression::from(new);
    suppression.check(caller.now).map_err(Problem::bad_request)?;
    let id = new_id(caller.now);
    let says = format!("{}: {} {}", caller.person.name, sentence(&suppression), suppression.why);
    let event = caller.event(EventKind::SuppressionChanged).says(aerie_core::diagnostic::printable(&says)).with("suppression", id.clone());
    app.log.append(event).await?;
    app.store.put_suppression(&id, &suppression, &caller.person.name, caller.now).await?;
    let kept = KeptSuppression { id, suppression, by: caller.person.name, made: caller.now, withdrawn: None, hits: 0, last_hit: None };
    Ok(Json(suppression_view(kept, caller.now)))
}

/// Let them come up again.
#[utoipa::path(delete, path = "/suppressions/{id}", operation_id = "withdrawSuppression", params(("id" = String, Path)), responses((status = 204), (status = 404)))]
pub(super) async fn withdraw(
    State(app): State<Arc<App>>,
    Administrator(caller): Administrator,
    Path(id): Path<String>,
) -> Result<StatusCode, Problem> {
    if !app.store.withdraw_suppression(&id, &caller.person.name, caller.now).await? {
        return Err(Problem::not_found("There is no suppression of that identifier in force."));
    }
    let says = format!("{} withdrew the suppression {id}.", caller.person.name);
    app.log.append(caller.event(EventKind::SuppressionChanged).says(says).with("suppression", id)).await?;
    Ok(StatusCode::NO_CONTENT)
}
