use super::caller::{COOKIE, Caller};
use super::problem::Problem;
use crate::identity::{Checked, new_token};
use crate::service::App;
use aerie_api::{Me, SignIn};
use aerie_core::directory::{Person, Standing};
use aerie_core::evidence::{EventKind, NewEvent};
use aerie_store::{Token, TokenKind};
use axum::Json;
use axum::extract::{ConnectInfo, State};
use axum::http::header::SET_COOKIE;
use axum::http::{HeaderMap, StatusCode};
use axum::response::{AppendHeaders, IntoResponse, Response};
use jiff::{SignedDuration, Timestamp};
use std::net::SocketAddr;
use std::sync::Arc;

/// How long one stays signed in: a shift.
const SIGNED_IN: SignedDuration = SignedDuration::from_hours(12);

fn me_of(person: &Person, until: Timestamp, token: Option<String>) -> Me {
    Me {
        person: person.name.clone(),
        full_name: person.shown().into(),
        roles: person.roles.iter().map(|r| r.word().to_string()).collect(),
        until,
        token,
    }
}

/// Sign in.
///
/// With name, password and code; gives a cookie, or a token where one is asked for.
#[utoipa::path(post, path = "/sign-in", request_body = SignIn, responses((status = 200, body = Me), (status = 401, description = "Name, password or code is not right")))]
pub(super) async fn sign_in(
    State(app): State<Arc<App>>,
    ConnectInfo(from): ConnectInfo<SocketAddr>,
    headers: HeaderMap,
    Json(given): Json<SignIn>,
) -> Result<Response, Problem> {
    // A form of another site cannot sign somebody in: a browser that says where it comes from must come from here.
    if headers.get("sec-fetch-site").is_some_and(|v| v != "same-origin" && v != "none") {
        return Err(Problem::not_allowed("This call must come from the console's own pages."));
    }
    let now = Timestamp::now();
    let checked = check(&app, &given, now).await?;
    let rules = app.rules.now();
    let day = now.to_zoned(rules.policy.zone().clone()).date();
    let person = rules.policy.directory().person(&given.person).filter(|p| p.standing(day) == Standing::Good);
    let (Checked::Right, Some(person)) = (checked, person) else {
        let name: String = aerie_core::diagnostic::printable(&given.person).chars().take(100).collect();
        let event = NewEvent::new(now, EventKind::SignInFailed, "stranger")
            .from(from.ip())
            .says(format!("Somebody failed to sign in at the console as {name}."))
            .with("login", name);
        app.note(event).await;
        return Err(match checked {
            Checked::Wait(seconds) => Problem::wait(seconds),
            Checked::Used => Problem::code_used(),
            Checked::Right | Checked::Wrong => Problem::sign_in_failed(),
        });
    };
    let token = new_token()?;
    let kind = if given.token { TokenKind::Client } else { TokenKind::Console };
    let until = now + SIGNED_IN;
    app.store.add_token(&Token { hash: app.keys.token_hash(&token), person: person.name.clone(), kind, expires: until }, now).await?;
    let place = if given.token { "with the client" } else { "at the console" };
    let event = NewEvent::new(now, EventKind::SignIn, &person.name)
        .from(from.ip())
        .says(format!("{} signed in {place} with password and code.", person.name));
    app.log.append(event.with("factors", "password code")).await?;
    app.tell("log");
    if given.token {
        return Ok(Json(me_of(person, until, Some(token))).into_response());
    }
    let cookie = format!("{COOKIE}={token}; Path=/; Secure; HttpOnly; SameSite=Strict; Max-Age={}", SIGNED_IN.as_secs());
    Ok((AppendHeaders([(SET_COOKIE, cookie)]), Json(me_of(person, until, None))).into_response())
}

/// The password first: a stranger must not be able to use up or lock somebody's codes.
async fn check(app: &App, given: &SignIn, now: Timestamp) -> Result<Checked, Problem> {
    match app.identity.password(&given.person, &given.password, now).await? {
        Checked::Right => Ok(app.identity.code(&given.person, &given.code, now).await?),
        other => Ok(other),
    }
}

/// Sign out.
#[utoipa::path(post, path = "/sign-out", responses((status = 204)))]
pub(super) async fn sign_out(State(app): State<Arc<App>>, caller: Caller) -> Result<Response, Problem> {
    app.store.remove_token(&caller.token_hash).await?;
    app.note(NewEvent::new(Timestamp::now(), EventKind::SignOut, &caller.person.name)).await;
    let cookie = format!("{COOKIE}=; Path=/; Secure; HttpOnly; SameSite=Strict; Max-Age=0");
    Ok((StatusCode::NO_CONTENT, AppendHeaders([(SET_COOKIE, cookie)])).into_response())
}

/// Who is signed in.
#[utoipa::path(get, path = "/me", responses((status = 200, body = Me)))]
pub(super) async fn me(caller: Caller) -> Json<Me> {
    Json(me_of(&caller.person, caller.until, None))
}
