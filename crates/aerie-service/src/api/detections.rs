//! The detections in force, and how they are changed.

use super::caller::{Administrator, EverythingReader};
use super::problem::Problem;
use crate::service::App;
use aerie_api::{DetectionView, DetectionsView, NewDetections};
use aerie_core::audit::detect::DetectionSet;
use aerie_core::evidence::EventKind;
use axum::Json;
use axum::extract::State;
use std::sync::Arc;

/// Longest reason, in characters.
const LONGEST_REASON: usize = 500;

/// The detections in force, with their text.
#[utoipa::path(get, path = "/detections", operation_id = "detections", responses((status = 200, body = DetectionsView)))]
pub(super) async fn show(State(app): State<Arc<App>>, _: EverythingReader) -> Result<Json<DetectionsView>, Problem> {
    in_force(&app).await.map(Json)
}

async fn in_force(app: &App) -> Result<DetectionsView, Problem> {
    let published = app.store.detections().await?;
    let text = published.as_ref().map_or(DetectionSet::shipped_text(), |p| &p.text).to_string();
    let set = DetectionSet::parse(&text).unwrap_or_else(|_| DetectionSet::shipped());
    Ok(DetectionsView {
        version: published.as_ref().map_or(0, |p| p.version),
        by: published.as_ref().map_or(String::new(), |p| p.by.clone()),
        at: published.as_ref().map(|p| p.at),
        text,
        detections: set.all().iter().map(DetectionView::of).collect(),
    })
}

/// Publish detections: from now on they count. What was found before stays as it is.
#[utoipa::path(post, path = "/detections", operation_id = "publishDetections", request_body = NewDetections, responses((status = 200, body = DetectionsView), (status = 400), (status = 412)))]
pub(super) async fn publish(
    State(app): State<Arc<App>>,
    Administrator(caller): Administrator,
    Json(new): Json<NewDetections>,
) -> Result<Json<DetectionsView>, Problem> {
    let why = new.why.trim();
    if why.is_empty() || why.chars().count() > LONGEST_REASON {
        return Err(Problem::bad_request(format!("Say why, in 1 to {LONGEST_REASON} characters.")));
    }
    let set = DetectionSet::parse(&new.text).map_err(|e| Problem::bad_request(format!("The detections: {e}")))?;
    let tried = set.clone();
    let failures = tokio::task::spawn_blocking(move || tried.failures()).await.map_err(|e| Problem::internal(&e))?;
    if let Some(f) = failures.first() {
        return Err(Problem::bad_request(format!("The test \u{201c}{}\u{201d} of `{}` does not hold: {}", f.case, f.detection, f.why)));
    }
    let published = app.store.publish_detections(&new.text, &caller.person.name, why, new.after, caller.now).await?;
    let version = published.ok_or_else(|| Problem::conflict("Somebody else published detections in between."))?;
    let says = format!("{} published version {version} of the detections ({} of them): {why}", caller.person.name, set.all().len());
    let event = caller.event(EventKind::DetectionsPublished).says(aerie_core::diagnostic::printable(&says));
    app.log.append(event.with("version", version).with("digest", set.version())).await?;
    in_force(&app).await.map(Json)
}
