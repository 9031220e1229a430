//! Reports that are mailed now and then, and one that is asked for.

use super::accesses::by_word;
use super::caller::{Caller, EverythingReader};
use super::new_id;
use super::problem::Problem;
use crate::audit::report::{reads_everything, report, shown};
use crate::service::App;
use aerie_api::{NewReport, ReportQuery, ReportText, ReportView};
use aerie_core::audit::{By, Every, MOST_RECIPIENTS, Schedule};
use aerie_core::evidence::EventKind;
use aerie_store::KeptSchedule;
use axum::Json;
use axum::extract::{Path, Query, State};
use axum::http::StatusCode;
use jiff::Timestamp;
use std::sync::Arc;

/// Reports at most.
const MOST_REPORTS: usize = 100;

/// List the reports that are mailed now and then.
#[utoipa::path(get, path = "/reports", operation_id = "reports", responses((status = 200, body = Vec<ReportView>)))]
pub(super) async fn list(State(app): State<Arc<App>>, _: EverythingReader) -> Result<Json<Vec<ReportView>>, Problem> {
    Ok(Json(app.store.schedules().await?.into_iter().map(|k| view(&app, k)).collect()))
}

fn view(app: &App, kept: KeptSchedule) -> ReportView {
    let rules = app.rules.now();
    let directory = rules.policy.directory();
    let KeptSchedule { id, schedule, by, next, last, .. } = kept;
    ReportView {
        id,
        sentence: schedule.sentence(),
        every: schedule.every.word().into(),
        hour: schedule.hour,
        by: schedule.by.word().into(),
        shown: schedule.to.iter().map(|p| shown(directory, p)).collect(),
        to: schedule.to,
        made_by: by,
        next,
        last,
    }
}

/// Have a report mailed now and then, to people who may read everything.
#[utoipa::path(post, path = "/reports", operation_id = "addReport", request_body = NewReport, responses((status = 200, body = ReportView), (status = 400)))]
pub(super) async fn add(
    State(app): State<Arc<App>>,
    _: EverythingReader,
    caller: Caller,
    Json(new): Json<NewReport>,
) -> Result<Json<ReportView>, Problem> {
    let every = Every::from_word(&new.every).ok_or_else(|| Problem::bad_request("`every` is `day`, `week` or `month`."))?;
    let by: By = by_word(Some(&new.by))?;
    if !(0..=23).contains(&new.hour) {
        return Err(Problem::bad_request("`hour` is a full hour from 0 to 23."));
    }
    if new.to.is_empty() || new.to.len() > MOST_RECIPIENTS {
        return Err(Problem::bad_request(format!("`to` names 1 to {MOST_RECIPIENTS} people.")));
    }
    if let Some(other) = new.to.iter().find(|p| !reads_everything(&app, p)) {
        let other = aerie_core::diagnostic::printable(other);
        return Err(Problem::bad_request(format!(
            "{other} may not read everything: only administrators and auditors without a scope may."
        )));
    }
    let rules = app.rules.now();
    if let Some(silent) = new.to.iter().find(|p| rules.policy.directory().person(p).is_none_or(|p| p.mail.is_empty())) {
        return Err(Problem::bad_request(format!("{silent} has no mail address.")));
    }
    if app.store.schedules().await?.len() >= MOST_REPORTS {
        return Err(Problem::bad_request(format!("At most {MOST_REPORTS} reports are mailed: remove one first.")));
    }
    let schedule = Schedule { every, hour: new.hour, by, to: new.to };
    let next = schedule.next(caller.now, rules.policy.zone());
    let kept = KeptSchedule { id: new_id(caller.now), schedule, by: caller.person.name.clone(), made: caller.now, next, last: None };
    app.store.put_schedule(&kept).await?;
    let says = format!("{} has a report mailed to {}. {}", kept.by, kept.schedule.to.join(", "), kept.schedule.sentence());
    app.log.append(caller.event(EventKind::ReportChanged).says(says).with("report", kept.id.clone())).await?;
    Ok(Json(view(&app, kept)))
}

/// Have a report mailed no longer.
#[utoipa::path(delete, path = "/reports/{id}", operation_id = "removeReport", params(("id" = String, Path)), responses((status = 204), (status = 404)))]
pub(super) async fn remove(
    State(app): State<Arc<App>>,
    _: EverythingReader,
    caller: Caller,
    Path(id): Path<String>,
) -> Result<StatusCode, Problem> {
    if !app.store.remove_schedule(&id).await? {
        return Err(Problem::not_found("There is no such report."));
    }
    let says = format!("{} ended the report {id}.", caller.person.name);
    app.log.append(caller.event(EventKind::ReportChanged).says(says).with("report", id)).await?;
    Ok(StatusCode::NO_CONTENT)
}

/// Show a report as it would be mailed.
#[utoipa::path(get, path = "/report", operation_id = "report", params(ReportQuery), responses((status = 200, body = ReportText), (status = 400)))]
pub(super) async fn show(
    State(app): State<Arc<App>>,
    _: EverythingReader,
    Query(q): Query<ReportQuery>,
) -> Result<Json<ReportText>, Problem> {
    let by = by_word(q.by.as_deref())?;
    let now = Timestamp::now();
    let week = Schedule { every: Every::Week, hour: 0, by, to: vec![] };
    let (monday, sunday) = week.span(now, app.rules.now().policy.zone());
    let span = match (q.from, q.until) {
        (None, None) => (monday, sunday),
        (from, until) => (from.unwrap_or(monday), until.unwrap_or(now)),
    };
    if span.1 <= span.0 {
        return Err(Problem::bad_request("`from` lies before `until`."));
    }
    let report = report(&app, span, by).await?;
    Ok(Json(ReportText { subject: report.subject(), text: report.text() }))
}
