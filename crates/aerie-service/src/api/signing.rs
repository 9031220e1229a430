//! Signing in and out, and proving oneself again.

use super::caller::{COOKIE, Caller, Proving, cookie};
use super::problem::Problem;
use crate::identity::{Checked, Entry, NewToken, PasskeyProved, new_secret};
use crate::service::App;
use aerie_api::{AuthenticatorAnswer, AuthenticatorKind, AuthenticatorQuestion, GivenCode, Me, SignIn, Welcome};
use aerie_core::directory::{Act, Authority, Person, Standing};
use aerie_core::evidence::{EventKind, NewEvent};
use aerie_core::policy::{Factor, Factors, Proofs};
use aerie_core::session::{SignedInLimits, Stage};
use aerie_core::settings::Setting;
use aerie_store::TokenKind;
use axum::Json;
use axum::extract::{ConnectInfo, State};
use axum::http::header::{SET_COOKIE, USER_AGENT};
use axum::http::{HeaderMap, HeaderName, StatusCode};
use axum::response::{AppendHeaders, IntoResponse, Response};
use jiff::Timestamp;
use std::net::{IpAddr, SocketAddr};
use std::sync::Arc;

/// Name of the cookie by which a browser is known again. It opens nothing: it keeps strangers from using up the tries of
/// whoever signed in with this browser before.
pub(super) const BROWSER: &str = "__Host-aerie-browser";
/// How long a browser is known.
const BROWSER_DAYS: u32 = 180;
/// Longest name that is noted of somebody who is not there.
const LONGEST_NAME: usize = 100;

/// What is told of somebody who is signed in.
fn me_of(app: &App, person: &Person, entry: &Entry, limits: &SignedInLimits, token: Option<String>) -> Me {
    let signed_in = entry.signed_in();
    let second = [Factor::Passkey, Factor::SecurityKey, Factor::Code];
    let full = signed_in.stage == Stage::Full;
    Me {
        person: person.name.clone(),
        full_name: person.shown().into(),
        roles: person.roles.iter().map(|r| r.word().to_string()).collect(),
        stage: signed_in.stage.word().into(),
        factors: signed_in.proofs.factors().words().iter().map(ToString::to_string).collect(),
        wanted: second.into_iter().filter(|f| person.enrolled.contains(f)).map(|f| f.word().into()).collect(),
        may: Act::ALL.iter().filter(|a| full && person.authority(**a) != Authority::None).map(|a| a.word().into()).collect(),
        message: if full { app.settings().text(Setting::Message).into() } else { String::new() },
        until: if entry.token.kind == TokenKind::Api { entry.token.expires } else { signed_in.until(limits) },
        token,
    }
}

/// Somebody who tries to sign in, from a browser or the client.
pub(super) struct Attempt {
    pub(super) from: IpAddr,
    pub(super) browser: Option<String>,
    pub(super) agent: String,
    pub(super) token: bool,
    pub(super) now: Timestamp,
}

impl Attempt {
    /// Reads what the request says. A form of another site cannot sign somebody in: a browser that says where it comes from
    /// must come from here.
    pub(super) fn of(headers: &HeaderMap, from: IpAddr, token: bool) -> Result<Self, Problem> {
        if headers.get("sec-fetch-site").is_some_and(|v| v != "same-origin" && v != "none") {
            return Err(Problem::not_allowed("This call must come from the console's own pages."));
        }
        let agent = headers.get(USER_AGENT).and_then(|h| h.to_str().ok()).map(agent_name).unwrap_or_default();
        let browser = cookie(headers, BROWSER).filter(|b| b.len() <= 64).map(Into::into);
        Ok(Self { from, browser, agent, token, now: Timestamp::now() })
    }
}

/// What a client calls itself, in a few words.
fn agent_name(text: &str) -> String {
    let first = |of: &[(&str, &'static str)]| of.iter().find(|(sign, _)| text.contains(sign)).map(|(_, name)| *name);
    let browsers =
        [("aerie/", "aerie"), ("Edg/", "Edge"), ("Firefox/", "Firefox"), ("Chrome/", "Chrome or Chromium"), ("Safari/", "Safari")];
    let systems =
        [("Android", "Android"), ("iPhone", "iPhone"), ("iPad", "iPad"), ("Windows", "Windows"), ("Mac OS", "macOS"), ("Linux", "Linux")];
    match (first(&browsers), first(&systems)) {
        (Some(browser), Some(system)) => format!("{browser} on {system}"),
        (Some(browser), None) => browser.into(),
        (None, _) => aerie_core::diagnostic::printable(text).chars().take(40).collect(),
    }
}

/// The person of that name, while their account is good.
fn good_person(app: &App, name: &str, now: Timestamp) -> Option<Person> {
    let rules = app.rules.now();
    let day = now.to_zoned(rules.policy.zone().clone()).date();
    rules.policy.directory().person(name).filter(|p| p.standing(day) == Standing::Good).cloned()
}

async fn failed(app: &App, name: &str, attempt: &Attempt, with: &str) {
    let name: String = aerie_core::diagnostic::printable(name).chars().take(LONGEST_NAME).collect();
    let event = NewEvent::new(attempt.now, EventKind::SignInFailed, "stranger")
        .from(attempt.from)
        .says(format!("Somebody failed to sign in at the console as {name}."))
        .with("login", name)
        .with("with", with);
    app.note(event).await;
}

/// Signs somebody in as far as what they proved goes, and answers.
pub(super) async fn admit(app: &App, person: &Person, proved: Factors, attempt: &Attempt) -> Result<Response, Problem> {
    let now = attempt.now;
    let stage = stage_of(app, person, proved, now).await?;
    let limits = app.settings().signed_in();
    let new = NewToken {
        person: person.name.clone(),
        kind: if attempt.token { TokenKind::Client } else { TokenKind::Console },
        name: attempt.agent.clone(),
        scopes: vec![],
        key: None,
        stage,
        proofs: Proofs::at(proved, now),
        created: now,
        now,
        expires: now + if stage == Stage::Proving { aerie_core::session::PROVING } else { limits.lifetime },
        from: attempt.from,
    };
    let (secret, entry) = app.identity.book.add(new).await?;
    note_sign_in(app, person, proved, stage, attempt).await?;
    answer(app, person, &entry, &limits, &secret, attempt).await
}

/// How far somebody came: an expired password must be changed before anything else.
async fn stage_of(app: &App, person: &Person, proved: Factors, now: Timestamp) -> Result<Stage, Problem> {
    let stage = Stage::after(proved, Factors::of(person.enrolled.iter().copied()), app.settings().flag(Setting::SecondFactor));
    let expired = stage == Stage::Full && proved.contains(Factor::Password) && password_expired(app, &person.name, now).await?;
    Ok(if expired { Stage::Enrolling } else { stage })
}

/// Whether somebody's password is older than the settings allow.
pub(super) async fn password_expired(app: &App, person: &str, now: Timestamp) -> Result<bool, Problem> {
    let days = app.settings().number(Setting::PasswordDays);
    let set = app.store.credentials(person).await?.filter(|c| c.password_hash.is_some()).map(|c| c.password_set);
    Ok(days > 0 && set.is_some_and(|s| now.duration_since(s) >= jiff::SignedDuration::from_hours(24 * days)))
}

async fn note_sign_in(app: &App, person: &Person, proved: Factors, stage: Stage, attempt: &Attempt) -> Result<(), Problem> {
    let place = if attempt.token { "with the client" } else { "at the console" };
    let with = aerie_core::wording::list(&proved.words());
    let says = match stage {
        Stage::Full => format!("{} signed in {place} with {with}.", person.name),
        Stage::Proving => format!("{} gave the right password {place}; a second factor is awaited.", person.name),
        Stage::Enrolling => {
            format!("{} signed in {place} with {with}, and must enrol or change something before anything else.", person.name)
        }
    };
    let event = NewEvent::new(attempt.now, EventKind::SignIn, &person.name).from(attempt.from).says(says).with("stage", stage.word());
    app.log.append(event.with("factors", proved.words().join(" "))).await?;
    app.tell("log");
    Ok(())
}

/// The answer with a token or cookies. A browser that came all the way is known from now on.
async fn answer(
    app: &App,
    person: &Person,
    entry: &Entry,
    limits: &SignedInLimits,
    secret: &str,
    attempt: &Attempt,
) -> Result<Response, Problem> {
    let signed_in = entry.token.stage != Stage::Proving;
    let fresh_browser = (signed_in && !attempt.token && attempt.browser.is_none()).then(new_secret).transpose()?;
    if signed_in {
        let browser = attempt.browser.as_deref().or(fresh_browser.as_ref().map(|b| b.as_str()));
        let tryer = app.identity.tryer(&person.name, attempt.from, browser, attempt.now).await?;
        app.identity.signed_in(&person.name, &tryer, attempt.from, browser, attempt.now).await?;
    }
    if entry.token.kind == TokenKind::Client {
        return Ok(Json(me_of(app, person, entry, limits, Some(secret.to_string()))).into_response());
    }
    let age = entry.token.expires.duration_since(attempt.now).as_secs().max(0);
    let mut cookies = vec![(SET_COOKIE, format!("{COOKIE}={secret}; Path=/; Secure; HttpOnly; SameSite=Strict; Max-Age={age}"))];
    cookies.extend(fresh_browser.map(|b| {
        let age = BROWSER_DAYS * 86_400;
        (SET_COOKIE, format!("{BROWSER}={}; Path=/; Secure; HttpOnly; SameSite=Strict; Max-Age={age}", &*b))
    }));
    Ok(with_cookies(cookies, Json(me_of(app, person, entry, limits, None))))
}

fn with_cookies(cookies: Vec<(HeaderName, String)>, body: impl IntoResponse) -> Response {
    let mut response = body.into_response();
    for (name, value) in cookies {
        if let Ok(value) = value.parse() {
            response.headers_mut().append(name, value);
        }
    }
    response
}

/// What strangers see.
///
/// The banner, and how one can sign in.
#[utoipa::path(get, path = "/welcome", operation_id = "welcome", responses((status = 200, body = Welcome)))]
pub(super) async fn welcome(State(app): State<Arc<App>>) -> Json<Welcome> {
    let empty = app.rules.now().policy.directory().people().is_empty();
    Json(Welcome { banner: app.settings().text(Setting::Banner).into(), passkeys: app.passkeys_work(), empty })
}

/// Sign in.
///
/// With name, password and code; gives a cookie, or a token where one is asked for. Without a code, somebody who has a second
/// factor comes half the way (`proving`) and proves it with the calls under `/step-up` within five minutes.
#[utoipa::path(post, path = "/sign-in", operation_id = "signIn", request_body = SignIn, responses((status = 200, body = Me), (status = 401, description = "Name, password or code is not right"), (status = 429), (status = 503)))]
pub(super) async fn sign_in(
    State(app): State<Arc<App>>,
    ConnectInfo(from): ConnectInfo<SocketAddr>,
    headers: HeaderMap,
    Json(given): Json<SignIn>,
) -> Result<Response, Problem> {
    let attempt = Attempt::of(&headers, from.ip().to_canonical(), given.token)?;
    let tryer = app.identity.tryer(&given.person, attempt.from, attempt.browser.as_deref(), attempt.now).await?;
    // The password first: a stranger must not be able to use up somebody's codes.
    let mut checked = app.identity.password(&given.person, &given.password, &tryer, attempt.now).await?;
    let mut proved = Factors::of([Factor::Password]);
    if checked == Checked::Right && !given.code.trim().is_empty() {
        checked = app.identity.code(&given.person, &given.code, &tryer, attempt.now).await?;
        proved = Factors::of([Factor::Password, Factor::Code]);
    }
    if let Some(problem) = Problem::of_check(checked) {
        // What was not even compared is not noted: a flood must not fill the log.
        if !matches!(checked, Checked::Wait(_) | Checked::Busy) {
            failed(&app, &given.person, &attempt, "password").await;
        }
        return Err(problem);
    }
    let Some(person) = good_person(&app, &given.person, attempt.now) else {
        failed(&app, &given.person, &attempt, "password").await;
        return Err(Problem::sign_in_failed());
    };
    admit(&app, &person, proved, &attempt).await
}

/// Ask to sign in with a passkey.
///
/// Gives a question for whatever passkey the browser has for this service.
#[utoipa::path(post, path = "/sign-in/question", operation_id = "signInQuestion", responses((status = 200, body = AuthenticatorQuestion), (status = 422)))]
pub(super) async fn question(State(app): State<Arc<App>>, headers: HeaderMap) -> Result<Json<AuthenticatorQuestion>, Problem> {
    let attempt = Attempt::of(&headers, IpAddr::V4(std::net::Ipv4Addr::UNSPECIFIED), false)?;
    let (challenge, options) = app.identity.begin_discovery(&app.address(), attempt.now)?;
    Ok(Json(AuthenticatorQuestion { challenge, options }))
}

/// Sign in with a passkey.
#[utoipa::path(post, path = "/sign-in/answer", operation_id = "signInAnswer", request_body = AuthenticatorAnswer, responses((status = 200, body = Me), (status = 401)))]
pub(super) async fn by_passkey(
    State(app): State<Arc<App>>,
    ConnectInfo(from): ConnectInfo<SocketAddr>,
    headers: HeaderMap,
    Json(given): Json<AuthenticatorAnswer>,
) -> Result<Response, Problem> {
    let attempt = Attempt::of(&headers, from.ip().to_canonical(), given.token)?;
    app.identity.stranger("a passkey", attempt.from, attempt.now).map_err(Problem::wait)?;
    let proved = match prove(&app, &given, &attempt).await {
        Ok(proved) => {
            app.identity.stranger_was_right("a passkey", attempt.from);
            proved
        }
        Err(problem) => {
            failed(&app, "somebody with a passkey", &attempt, "passkey").await;
            return Err(problem);
        }
    };
    let person = good_person(&app, &proved.person, attempt.now).ok_or_else(Problem::sign_in_failed)?;
    admit(&app, &person, proved.factors, &attempt).await
}

async fn prove(app: &App, given: &AuthenticatorAnswer, attempt: &Attempt) -> Result<PasskeyProved, Problem> {
    let answer =
        serde_json::from_value(given.credential.clone()).map_err(|_| Problem::bad_request("This is no answer of an authenticator."))?;
    let from = attempt.from.to_string();
    Ok(app.identity.finish_proof(&app.address(), &given.challenge, &answer, &from, attempt.now).await?)
}

/// Puts what was proved just now beside what was before, and answers with a new token.
pub(super) async fn step_up(app: &App, caller: &Caller, more: Factors, headers: &HeaderMap) -> Result<Response, Problem> {
    let was = caller.entry.signed_in();
    let mut proofs = was.proofs;
    more.iter().for_each(|f| proofs.prove(f, caller.now));
    let person = good_person(app, &caller.person.name, caller.now).ok_or_else(Problem::sign_in_first)?;
    let stage = stage_of(app, &person, proofs.factors(), caller.now).await?;
    let (secret, entry) = app.identity.book.step_up(&caller.entry, stage, proofs, &caller.limits, caller.now, caller.from).await?;
    let attempt = Attempt { now: caller.now, ..Attempt::of(headers, caller.from, entry.token.kind == TokenKind::Client)? };
    if was.stage == Stage::Proving {
        note_sign_in(app, &person, proofs.factors(), stage, &attempt).await?;
    } else {
        let says = format!("{} proved {} again.", person.name, aerie_core::wording::list(&more.words()));
        app.log.append(caller.event(EventKind::SteppedUp).says(says).with("factors", more.words().join(" "))).await?;
    }
    answer(app, &person, &entry, &caller.limits, &secret, &attempt).await
}

fn not_a_program(caller: &Caller) -> Result<(), Problem> {
    let program = caller.entry.token.kind == TokenKind::Api;
    if program { Err(Problem::not_allowed("No API token may do this.")) } else { Ok(()) }
}

/// Prove a code: the second step of signing in, or again later. A recovery or temporary code does too.
#[utoipa::path(post, path = "/step-up/code", operation_id = "stepUpWithCode", request_body = GivenCode, responses((status = 200, body = Me), (status = 401), (status = 429)))]
pub(super) async fn step_up_code(
    State(app): State<Arc<App>>,
    Proving(caller): Proving,
    headers: HeaderMap,
    Json(given): Json<GivenCode>,
) -> Result<Response, Problem> {
    not_a_program(&caller)?;
    let attempt = Attempt::of(&headers, caller.from, false)?;
    let name = &caller.person.name;
    let tryer = app.identity.tryer(name, caller.from, attempt.browser.as_deref(), caller.now).await?;
    let checked = app.identity.code(name, &given.code, &tryer, caller.now).await?;
    if let Some(problem) = Problem::of_check(checked) {
        failed(&app, name, &attempt, "code").await;
        return Err(problem);
    }
    step_up(&app, &caller, Factors::of([Factor::Code]), &headers).await
}

/// Ask to prove one's passkey or security key.
#[utoipa::path(post, path = "/step-up/question", operation_id = "stepUpQuestion", request_body = AuthenticatorKind, responses((status = 200, body = AuthenticatorQuestion), (status = 404)))]
pub(super) async fn step_up_question(
    State(app): State<Arc<App>>,
    Proving(caller): Proving,
    Json(given): Json<AuthenticatorKind>,
) -> Result<Json<AuthenticatorQuestion>, Problem> {
    not_a_program(&caller)?;
    let begun = app.identity.begin_proof(&app.address(), &caller.person.name, is_passkey(&given.kind)?, caller.now).await?;
    Ok(Json(AuthenticatorQuestion { challenge: begun.0, options: begun.1 }))
}

/// Whether it is a passkey that is spoken of, and not a security key.
pub(super) fn is_passkey(kind: &str) -> Result<bool, Problem> {
    match kind {
        "passkey" => Ok(true),
        "security-key" => Ok(false),
        _ => Err(Problem::bad_request("The kind is `passkey` or `security-key`.")),
    }
}

/// Prove one's passkey or security key: the second step of signing in, or again later.
#[utoipa::path(post, path = "/step-up/answer", operation_id = "stepUpAnswer", request_body = AuthenticatorAnswer, responses((status = 200, body = Me), (status = 401)))]
pub(super) async fn step_up_answer(
    State(app): State<Arc<App>>,
    Proving(caller): Proving,
    headers: HeaderMap,
    Json(given): Json<AuthenticatorAnswer>,
) -> Result<Response, Problem> {
    not_a_program(&caller)?;
    let attempt = Attempt { now: caller.now, ..Attempt::of(&headers, caller.from, false)? };
    let proved = prove(&app, &given, &attempt).await;
    match proved {
        Ok(proved) if proved.person == caller.person.name => step_up(&app, &caller, proved.factors, &headers).await,
        Ok(_) | Err(_) => {
            failed(&app, &caller.person.name, &attempt, "passkey").await;
            Err(proved.err().unwrap_or_else(Problem::sign_in_failed))
        }
    }
}

/// Sign out.
#[utoipa::path(post, path = "/sign-out", operation_id = "signOut", responses((status = 204)))]
pub(super) async fn sign_out(State(app): State<Arc<App>>, Proving(caller): Proving) -> Result<Response, Problem> {
    not_a_program(&caller)?;
    app.identity.book.end(std::slice::from_ref(&caller.entry.token.id)).await?;
    app.note(caller.event(EventKind::SignOut)).await;
    let cookie = format!("{COOKIE}=; Path=/; Secure; HttpOnly; SameSite=Strict; Max-Age=0");
    // Whatever the pages kept goes as well.
    let clear = (HeaderName::from_static("clear-site-data"), "\"cache\", \"storage\"".to_string());
    Ok((StatusCode::NO_CONTENT, AppendHeaders([(SET_COOKIE, cookie), clear])).into_response())
}

/// Who is signed in, and how far.
#[utoipa::path(get, path = "/me", operation_id = "me", responses((status = 200, body = Me)))]
pub(super) async fn me(State(app): State<Arc<App>>, Proving(caller): Proving) -> Json<Me> {
    Json(me_of(&app, &caller.person, &caller.entry, &caller.limits, None))
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn what_signs_in_is_named_in_a_few_words() {
        let table = [
            (
                "Mozilla/5.0 (X11; Linux x86_64) AppleWebKit/537.36 (KHTML, like Gecko) Chrome/140.0 Safari/537.36",
                "Chrome or Chromium on Linux",
            ),
            ("Mozilla/5.0 (Windows NT 10.0; rv:130.0) Gecko/20100101 Firefox/130.0", "Firefox on Windows"),
            ("aerie/0.1.0", "aerie"),
            ("\u{1b}[31mcurl/8", "\u{241b}[31mcurl/8"),
        ];
        for (text, name) in table {
            assert_eq!(agent_name(text), name);
        }
        assert_eq!(agent_name(&"x".repeat(500)).len(), 40);
    }
}
