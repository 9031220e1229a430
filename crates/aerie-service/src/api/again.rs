//! Judges the past again, by other rules and detections, and tells what would be found otherwise.

use super::caller::{Caller, EverythingReader};
use super::problem::Problem;
use crate::audit::again::{Judging, judged_again};
use crate::service::App;
use aerie_api::{AgainQuery, AgainView};
use aerie_core::audit::detect::DetectionSet;
use aerie_core::evidence::EventKind;
use axum::Json;
use axum::extract::State;
use jiff::SignedDuration;
use std::sync::Arc;

/// How far back is looked where it is not said.
const USUAL: SignedDuration = SignedDuration::from_hours(24 * 30);
/// How far at most: no more is kept at hand.
const MOST: SignedDuration = SignedDuration::from_hours(24 * 400);

/// Judge the past again by other rules, or by detections that are not published, and tell what differs. What was found stays as it is.
#[utoipa::path(post, path = "/audit/again", operation_id = "judgeAgain", request_body = AgainQuery, responses((status = 200, body = AgainView), (status = 400), (status = 404), (status = 422)))]
pub(super) async fn again(
    State(app): State<Arc<App>>,
    _: EverythingReader,
    caller: Caller,
    Json(q): Json<AgainQuery>,
) -> Result<Json<AgainView>, Problem> {
    let until = q.until.unwrap_or(caller.now);
    let from = q.from.unwrap_or(until - USUAL);
    if until <= from || until.duration_since(from) > MOST {
        return Err(Problem::bad_request("`from` lies before `until`, and at most 400 days before."));
    }
    let (policy, called) = match (q.version, &q.rules) {
        (Some(_), Some(_)) => return Err(Problem::bad_request("Name a version of the rules or give a text, not both.")),
        (Some(v), None) => {
            let found = app.rules.version(v).await?;
            (found.ok_or_else(|| Problem::not_found("There is no such version of the rules."))?, format!("version {v} of the rules"))
        }
        (None, Some(text)) => {
            let checked = app.rules.check(text).await.map_err(|e| super::rules::refused(text, e))?;
            let Some(policy) = checked.policy else { return Err(Problem::invalid(text, &checked.diagnostics)) };
            (policy, "this text of the rules".to_string())
        }
        (None, None) => {
            let now = app.rules.now();
            (now.policy, format!("version {} of the rules", now.version))
        }
    };
    let set = match &q.detections {
        Some(text) => Some(DetectionSet::parse(text).map_err(|e| Problem::bad_request(format!("The detections: {e}")))?),
        None => None,
    };
    let view = judged_again(&app, Judging { span: (from, until), policy, called, set }).await?;
    let says = format!("{} judged the past again. {}", caller.person.name, view.sentence);
    app.log.append(caller.event(EventKind::AuditScanned).says(says)).await?;
    Ok(Json(view))
}
