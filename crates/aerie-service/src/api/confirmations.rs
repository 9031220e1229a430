//! Sign-ins at the gateway that wait for a passkey in the browser. Whoever opens the link needs no sign-in: the passkey is it.

use super::problem::Problem;
use super::signing::Attempt;
use crate::identity::{Confirmed, Pending};
use crate::service::App;
use aerie_api::{AuthenticatorQuestion, Confirmation, ConfirmationFacts};
use aerie_core::evidence::{EventKind, NewEvent};
use axum::Json;
use axum::extract::{ConnectInfo, Path, State};
use axum::http::{HeaderMap, StatusCode};
use jiff::{SignedDuration, Timestamp};
use std::net::{IpAddr, SocketAddr};
use std::sync::Arc;

fn find(app: &App, code: &str, from: IpAddr, now: Timestamp) -> Result<Pending, Problem> {
    app.identity.stranger("a confirmation", from, now).map_err(Problem::wait)?;
    let found = app.identity.confirmations.find(code, now).ok_or_else(|| {
        Problem::not_found("Nobody waits here: the link was used, or the two minutes are over. Sign in again in the terminal.")
    })?;
    app.identity.stranger_was_right("a confirmation", from);
    Ok(found)
}

/// What waits behind a link that a terminal shows.
#[utoipa::path(get, path = "/confirmations/{code}", operation_id = "confirmation", params(("code" = String, Path)), responses((status = 200, body = ConfirmationFacts), (status = 404), (status = 429)))]
pub(super) async fn show(
    State(app): State<Arc<App>>,
    ConnectInfo(from): ConnectInfo<SocketAddr>,
    Path(code): Path<String>,
) -> Result<Json<ConfirmationFacts>, Problem> {
    let now = Timestamp::now();
    let pending = find(&app, &code, from.ip().to_canonical(), now)?;
    let rules = app.rules.now();
    let person = rules.policy.directory().person(&pending.person).map_or_else(String::new, |p| p.shown().into());
    Ok(Json(ConfirmationFacts {
        person,
        machine: pending.machine.clone(),
        from: pending.from.to_string(),
        kind: if pending.passkey { "passkey" } else { "security-key" }.into(),
        until: pending.made + SignedDuration::from_mins(2),
    }))
}

/// Ask for the passkey that a terminal waits for.
#[utoipa::path(post, path = "/confirmations/{code}/question", operation_id = "confirmationQuestion", params(("code" = String, Path)), responses((status = 200, body = AuthenticatorQuestion), (status = 404), (status = 429)))]
pub(super) async fn question(
    State(app): State<Arc<App>>,
    ConnectInfo(from): ConnectInfo<SocketAddr>,
    Path(code): Path<String>,
) -> Result<Json<AuthenticatorQuestion>, Problem> {
    let now = Timestamp::now();
    let pending = find(&app, &code, from.ip().to_canonical(), now)?;
    let (challenge, options) = app.identity.begin_proof(&app.address(), &pending.person, pending.passkey, now).await?;
    Ok(Json(AuthenticatorQuestion { challenge, options }))
}

/// Confirm a sign-in with the number that the terminal shows, and the passkey.
#[utoipa::path(post, path = "/confirmations/{code}/answer", operation_id = "confirm", params(("code" = String, Path)), request_body = Confirmation, responses((status = 204), (status = 401), (status = 404), (status = 429)))]
pub(super) async fn answer(
    State(app): State<Arc<App>>,
    ConnectInfo(from): ConnectInfo<SocketAddr>,
    headers: HeaderMap,
    Path(code): Path<String>,
    Json(given): Json<Confirmation>,
) -> Result<StatusCode, Problem> {
    let attempt = Attempt::of(&headers, from.ip().to_canonical(), false)?;
    let pending = find(&app, &code, attempt.from, attempt.now)?;
    let credential =
        serde_json::from_value(given.credential).map_err(|_| Problem::bad_request("This is no answer of an authenticator."))?;
    // The passkey first: a wrong number by whoever only has the link must not end the sign-in of its owner.
    let proved = app.identity.finish_proof(&app.address(), &given.challenge, &credential, &attempt.from.to_string(), attempt.now).await?;
    if proved.person != pending.person {
        return Err(Problem::sign_in_failed());
    }
    if !app.identity.confirmations.number(&code, given.number) {
        return Err(Problem::not_good(
            "This is not the number that the terminal shows. If you see no terminal that waits, somebody else signs in as you: refuse.",
        ));
    }
    let says = format!("{} confirmed a sign-in at the gateway in the browser.", pending.person);
    let event = NewEvent::new(attempt.now, EventKind::SteppedUp, &pending.person).machine(&pending.machine).from(attempt.from).says(says);
    app.log.append(event.with("factors", proved.factors.words().join(" "))).await?;
    app.identity.confirmations.answer(&code, Confirmed::Proved(proved.factors));
    Ok(StatusCode::NO_CONTENT)
}

/// Refuse a sign-in that one did not begin.
#[utoipa::path(post, path = "/confirmations/{code}/refuse", operation_id = "refuseConfirmation", params(("code" = String, Path)), responses((status = 204), (status = 404), (status = 429)))]
pub(super) async fn refuse(
    State(app): State<Arc<App>>,
    ConnectInfo(from): ConnectInfo<SocketAddr>,
    headers: HeaderMap,
    Path(code): Path<String>,
) -> Result<StatusCode, Problem> {
    let attempt = Attempt::of(&headers, from.ip().to_canonical(), false)?;
    let pending = find(&app, &code, attempt.from, attempt.now)?;
    app.identity.confirmations.answer(&code, Confirmed::Refused);
    let says = format!("A sign-in at the gateway as {} was refused in the browser.", pending.person);
    let event = NewEvent::new(attempt.now, EventKind::SignInFailed, "stranger").machine(&pending.machine).from(attempt.from).says(says);
    app.note(event.with("login", pending.person.clone())).await;
    Ok(StatusCode::NO_CONTENT)
}
