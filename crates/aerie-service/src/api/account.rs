//! One's own account: how one signs in, and where.

use super::caller::{Own, SCOPES};
use super::people::detail;
use super::problem::Problem;
use super::signing::{is_passkey, password_expired, step_up};
use crate::identity::{Checked, NewToken};
use crate::service::App;
use aerie_api::{
    AccountView, AuthenticatorEnrolment, AuthenticatorKind, AuthenticatorQuestion, CodeOffer, CodeProof, DeviceView, IssuedToken, Label,
    NewApiToken, PasskeyView, PasswordChange, ShownCodes, TokenView,
};
use aerie_core::directory::Person;
use aerie_core::evidence::{EventKind, unhex};
use aerie_core::factor::{RECOVERY_CODES, check_password};
use aerie_core::policy::{Factor, Factors};
use aerie_core::session::Stage;
use aerie_core::settings::Setting;
use aerie_store::{Passkey, TokenKind};
use axum::Json;
use axum::extract::{Path, State};
use axum::http::{HeaderMap, StatusCode};
use axum::response::Response;
use jiff::{SignedDuration, Timestamp};
use std::sync::Arc;

/// API tokens of one person at most.
const MOST_TOKENS: usize = 30;
/// Longest label.
const LONGEST_LABEL: usize = 60;

/// A label as it is kept.
pub(super) fn label_of(text: &str) -> Result<String, Problem> {
    let label: String = aerie_core::diagnostic::printable(text.trim()).chars().collect();
    if label.is_empty() || label.chars().count() > LONGEST_LABEL {
        return Err(Problem::not_good(format!("A name has 1 to {LONGEST_LABEL} characters.")));
    }
    Ok(label)
}

pub(super) fn passkey_view(p: &Passkey) -> PasskeyView {
    PasskeyView {
        id: aerie_core::evidence::hex(&p.id),
        kind: if p.verifies { "passkey" } else { "security-key" }.into(),
        label: p.label.clone(),
        bound: p.bound,
        created: p.created,
        last_used: p.last_used,
        last_from: p.last_from.clone(),
    }
}

/// Where somebody is signed in, and their tokens.
pub(super) fn devices_and_tokens(app: &App, person: &str, this: Option<&str>, now: Timestamp) -> (Vec<DeviceView>, Vec<TokenView>) {
    let limits = app.settings().signed_in();
    let all = app.identity.book.of(person);
    let good = all.iter().filter(|e| e.is_good(&limits, now) && e.token.stage != Stage::Proving);
    let (tokens, devices): (Vec<_>, Vec<_>) = good.partition(|e| e.token.kind == TokenKind::Api);
    let device = |e: &&Arc<crate::identity::Entry>| DeviceView {
        id: e.token.id.clone(),
        kind: e.token.kind.word().into(),
        name: e.token.name.clone(),
        this: this == Some(e.token.id.as_str()),
        factors: e.token.proofs.factors().words().iter().map(ToString::to_string).collect(),
        began: e.token.created,
        last_used: e.last_used(),
        last_from: e.last_from(),
        until: e.signed_in().until(&limits),
    };
    (devices.iter().map(device).collect(), tokens.iter().map(|e| token_view(e)).collect())
}

fn token_view(e: &crate::identity::Entry) -> TokenView {
    let t = &e.token;
    TokenView {
        id: t.id.clone(),
        name: t.name.clone(),
        scopes: t.scopes.clone(),
        key: t.key.as_ref().map(aerie_core::factor::message::key_id),
        created: t.created,
        expires: t.expires,
        last_used: e.last_used(),
        last_from: e.last_from(),
    }
}

/// One's own account.
///
/// Factors, keys, devices and tokens, and what is to be done next.
#[utoipa::path(get, path = "/me/account", operation_id = "account", responses((status = 200, body = AccountView)))]
pub(super) async fn account(State(app): State<Arc<App>>, Own(caller): Own) -> Result<Json<AccountView>, Problem> {
    let detail = detail(&app, &caller.person, Some(&caller.entry.token.id), caller.now).await?;
    let known = app.store.credentials(&caller.person.name).await?.unwrap_or_default();
    let second = !caller.second_factors().is_empty();
    let must_enrol = !second && app.settings().flag(Setting::SecondFactor);
    let expired = password_expired(&app, &caller.person.name, caller.now).await?;
    let advice = match () {
        () if must_enrol => "Enrol a passkey, a security key or a code: nothing else is possible before.",
        () if expired => "Your password is older than it may be: set a new one.",
        () if !second => "Enrol a passkey: a password alone can be guessed, tricked out of you or read off.",
        () if detail.recovery_codes == 0 => "Print recovery codes: without them a lost device means asking an administrator.",
        () if detail.recovery_codes < 3 => "Few recovery codes are left: make new ones.",
        () if detail.ssh_keys.iter().any(|k| k.remove_because.is_some()) => "An SSH key is no longer used: remove it.",
        () => "",
    };
    Ok(Json(AccountView {
        password: known.password_hash.is_some(),
        password_set: known.password_hash.is_some().then_some(known.password_set).filter(|t| *t > Timestamp::UNIX_EPOCH),
        code: known.totp.is_some(),
        advice: advice.into(),
        must_enrol,
        fresh: caller.is_fresh(),
        detail,
    }))
}

/// Whether a password may be set for somebody; says why not.
pub(super) fn check_new_password(app: &App, person: &Person, password: &str) -> Result<(), Problem> {
    let least = u16::try_from(app.settings().number(Setting::PasswordLength)).unwrap_or(u16::MAX);
    check_password(password, &[&person.name, &person.full_name, &person.organisation], least)
        .map_err(|e| Problem::not_good(format!("This password is not taken: {e}.")))
}

/// Set a new password. Everywhere else one is signed out.
#[utoipa::path(put, path = "/me/password", operation_id = "changePassword", request_body = PasswordChange, responses((status = 204), (status = 401), (status = 403), (status = 422)))]
pub(super) async fn password(
    State(app): State<Arc<App>>,
    Own(caller): Own,
    headers: HeaderMap,
    Json(given): Json<PasswordChange>,
) -> Result<Response, Problem> {
    let name = &caller.person.name;
    let known = app.store.credentials(name).await?.unwrap_or_default();
    // The current one, or a proof that is better.
    if known.password_hash.is_some() {
        match &given.current {
            Some(current) => {
                let tryer =
                    app.identity.tryer(name, caller.from, super::caller::cookie(&headers, super::signing::BROWSER), caller.now).await?;
                let checked = app.identity.password(name, current, &tryer, caller.now).await?;
                Problem::of_check(checked).map_or(Ok(()), Err)?;
            }
            None => caller.must_be_fresh()?,
        }
        if given.current.as_deref() == Some(given.new.as_str()) {
            return Err(Problem::not_good("This password is not taken: it is the password you have now."));
        }
    } else {
        caller.must_be_fresh()?;
    }
    check_new_password(&app, &caller.person, &given.new)?;
    if !app.identity.set_password(name, &given.new, caller.now).await? {
        return Err(Problem::busy());
    }
    note(&app, &caller, "set a new password", "password").await?;
    let others: Vec<String> =
        devices_and_tokens(&app, name, None, caller.now).0.into_iter().map(|d| d.id).filter(|id| *id != caller.entry.token.id).collect();
    app.identity.book.end(&others).await?;
    crate::ending::factor_gone(&app, name, Factor::Password, Some(&caller.entry.token.id)).await?;
    app.rules.reload().await?;
    step_up(&app, &caller, Factors::of([Factor::Password]), &headers).await
}

async fn note(app: &App, caller: &super::caller::Caller, did: &str, factor: &str) -> Result<(), Problem> {
    let says = format!("{} {did}.", caller.person.name);
    app.log.append(caller.event(EventKind::FactorChanged).says(says).with("factor", factor)).await?;
    app.tell("log");
    app.tell("people");
    Ok(())
}

/// Ask for a secret for an authenticator app. It counts once its first code is given back.
#[utoipa::path(post, path = "/me/code/offer", operation_id = "offerCode", responses((status = 200, body = CodeOffer), (status = 403)))]
pub(super) async fn offer_code(State(app): State<Arc<App>>, Own(caller): Own) -> Result<Json<CodeOffer>, Problem> {
    caller.must_be_fresh()?;
    let secret = app.identity.offer_code(&caller.person.name, caller.now)?.to_string();
    let host = url::Url::parse(&app.address()).ok().and_then(|u| u.host_str().map(str::to_string)).unwrap_or_default();
    let uri = format!("otpauth://totp/Aerie%20{host}:{}?secret={secret}&issuer=Aerie%20{host}", caller.person.name);
    Ok(Json(CodeOffer { qr: qr(&uri), secret, uri }))
}

/// A text as a QR code: rows of modules, `1` for a dark one.
fn qr(text: &str) -> Vec<String> {
    let Ok(code) = qrcodegen::QrCode::encode_text(text, qrcodegen::QrCodeEcc::Medium) else { return vec![] };
    (0..code.size()).map(|y| (0..code.size()).map(|x| if code.get_module(x, y) { '1' } else { '0' }).collect()).collect()
}

/// Enrol for codes, with the first code of an offered secret. An earlier secret is replaced.
#[utoipa::path(put, path = "/me/code", operation_id = "enrolCode", request_body = CodeProof, responses((status = 200, body = aerie_api::Me), (status = 401), (status = 403)))]
pub(super) async fn enrol_code(
    State(app): State<Arc<App>>,
    Own(caller): Own,
    headers: HeaderMap,
    Json(given): Json<CodeProof>,
) -> Result<Response, Problem> {
    caller.must_be_fresh()?;
    let offered = app.identity.offered(&caller.person.name, &given.secret, caller.now);
    let secret = offered
        .ok_or_else(|| Problem::not_good("This is not the secret that was offered to you, or it was offered too long ago: ask again."))?;
    match app.identity.set_code(&caller.person.name, &secret, &given.code, caller.now).await? {
        Checked::Right => {}
        Checked::Wrong => {
            return Err(Problem::not_good("This is not the code of that secret: scan it again, and give the code that is shown now."));
        }
        other => return Err(Problem::of_check(other).unwrap_or_else(Problem::sign_in_failed)),
    }
    note(&app, &caller, "enrolled for codes", "code").await?;
    app.rules.reload().await?;
    step_up(&app, &caller, Factors::of([Factor::Code]), &headers).await
}

/// The last second factor stays while one is demanded.
async fn may_lose(app: &App, caller: &super::caller::Caller, left: usize) -> Result<(), Problem> {
    caller.must_be_fresh()?;
    if left == 0 && app.settings().flag(Setting::SecondFactor) {
        return Err(Problem::not_good("It is your last second factor, and one is demanded: enrol another first."));
    }
    Ok(())
}

/// How many second factors somebody has.
async fn second_factors(app: &App, person: &str) -> Result<usize, Problem> {
    let code = usize::from(app.identity.has_code(person).await?);
    Ok(code + app.store.passkeys(person).await?.len())
}

/// Give up codes.
#[utoipa::path(delete, path = "/me/code", operation_id = "removeCode", responses((status = 204), (status = 403), (status = 422)))]
pub(super) async fn remove_code(State(app): State<Arc<App>>, Own(caller): Own) -> Result<StatusCode, Problem> {
    let name = &caller.person.name;
    let has = app.identity.has_code(name).await?;
    may_lose(&app, &caller, second_factors(&app, name).await? - usize::from(has)).await?;
    app.store.set_totp(name, None, 0).await?;
    crate::ending::factor_gone(&app, name, Factor::Code, Some(&caller.entry.token.id)).await?;
    note(&app, &caller, "gave up codes", "code").await?;
    app.rules.reload().await?;
    Ok(StatusCode::NO_CONTENT)
}

/// Make recovery codes. They are shown once, each is good once, and earlier ones are dead.
#[utoipa::path(post, path = "/me/recovery-codes", operation_id = "makeRecoveryCodes", responses((status = 200, body = ShownCodes), (status = 403)))]
pub(super) async fn recovery_codes(State(app): State<Arc<App>>, Own(caller): Own) -> Result<Json<ShownCodes>, Problem> {
    caller.must_be_full()?;
    caller.must_be_fresh()?;
    let codes = app.identity.new_recovery_codes(&caller.person.name, caller.now).await?;
    note(&app, &caller, &format!("made {RECOVERY_CODES} recovery codes"), "recovery-codes").await?;
    Ok(Json(ShownCodes { codes: codes.iter().map(|c| c.to_string()).collect(), expires: None }))
}

/// Ask to enrol a passkey or security key.
#[utoipa::path(post, path = "/me/passkeys/question", operation_id = "enrolmentQuestion", request_body = AuthenticatorKind, responses((status = 200, body = AuthenticatorQuestion), (status = 403), (status = 422)))]
pub(super) async fn passkey_question(
    State(app): State<Arc<App>>,
    Own(caller): Own,
    Json(given): Json<AuthenticatorKind>,
) -> Result<Json<AuthenticatorQuestion>, Problem> {
    caller.must_be_fresh()?;
    let p = &caller.person;
    let begun = app.identity.begin_enrolment(&app.address(), &p.name, p.shown(), is_passkey(&given.kind)?, caller.now).await?;
    Ok(Json(AuthenticatorQuestion { challenge: begun.0, options: begun.1 }))
}

/// Enrol a passkey or security key.
#[utoipa::path(post, path = "/me/passkeys", operation_id = "enrolPasskey", request_body = AuthenticatorEnrolment, responses((status = 200, body = aerie_api::Me), (status = 403), (status = 409), (status = 422)))]
pub(super) async fn enrol_passkey(
    State(app): State<Arc<App>>,
    Own(caller): Own,
    headers: HeaderMap,
    Json(given): Json<AuthenticatorEnrolment>,
) -> Result<Response, Problem> {
    caller.must_be_fresh()?;
    let label = label_of(&given.label)?;
    let answer = serde_json::from_value(given.credential).map_err(|_| Problem::bad_request("This is no answer of an authenticator."))?;
    let made = app.identity.finish_enrolment(&app.address(), &caller.person.name, &given.challenge, &answer, &label, caller.now).await?;
    let kind = if made.verifies { "passkey" } else { "security key" };
    note(&app, &caller, &format!("enrolled the {kind} `{label}`"), kind).await?;
    app.rules.reload().await?;
    let passkey = made.verifies.then_some(Factor::Passkey);
    let bound = made.bound.then_some(Factor::SecurityKey);
    step_up(&app, &caller, Factors::of(passkey.into_iter().chain(bound)), &headers).await
}

fn passkey_id(id: &str) -> Result<Vec<u8>, Problem> {
    unhex(id).ok_or_else(|| Problem::not_found("You have no such passkey."))
}

/// Give a passkey another name.
#[utoipa::path(put, path = "/me/passkeys/{id}", operation_id = "namePasskey", params(("id" = String, Path)), request_body = Label, responses((status = 204), (status = 404)))]
pub(super) async fn name_passkey(
    State(app): State<Arc<App>>,
    Own(caller): Own,
    Path(id): Path<String>,
    Json(given): Json<Label>,
) -> Result<StatusCode, Problem> {
    let named = app.store.name_passkey(&caller.person.name, &passkey_id(&id)?, &label_of(&given.label)?).await?;
    if named { Ok(StatusCode::NO_CONTENT) } else { Err(Problem::not_found("You have no such passkey.")) }
}

/// Remove a passkey or security key.
#[utoipa::path(delete, path = "/me/passkeys/{id}", operation_id = "removePasskey", params(("id" = String, Path)), responses((status = 204), (status = 403), (status = 404), (status = 422)))]
pub(super) async fn remove_passkey(State(app): State<Arc<App>>, Own(caller): Own, Path(id): Path<String>) -> Result<StatusCode, Problem> {
    let (name, id) = (&caller.person.name, passkey_id(&id)?);
    may_lose(&app, &caller, second_factors(&app, name).await?.saturating_sub(1)).await?;
    if !app.store.remove_passkey(name, &id).await? {
        return Err(Problem::not_found("You have no such passkey."));
    }
    for factor in [Factor::Passkey, Factor::SecurityKey] {
        crate::ending::factor_gone(&app, name, factor, Some(&caller.entry.token.id)).await?;
    }
    note(&app, &caller, "removed a passkey", "passkey").await?;
    app.rules.reload().await?;
    Ok(StatusCode::NO_CONTENT)
}

/// End one of the places where one is signed in, or one of one's tokens.
#[utoipa::path(delete, path = "/me/devices/{id}", operation_id = "endDevice", params(("id" = String, Path)), responses((status = 204), (status = 404)))]
pub(super) async fn end_device(State(app): State<Arc<App>>, Own(caller): Own, Path(id): Path<String>) -> Result<StatusCode, Problem> {
    let known = app.identity.book.of(&caller.person.name);
    let entry = known.iter().find(|e| e.token.id == id).ok_or_else(|| Problem::not_found("You have no such token or device."))?;
    app.identity.book.end(&[id]).await?;
    let what = if entry.token.kind == TokenKind::Api {
        format!("withdrew the token `{}`", entry.token.name)
    } else {
        "signed out another place".into()
    };
    let says = format!("{} {what}.", caller.person.name);
    app.log.append(caller.event(EventKind::TokenChanged).says(says)).await?;
    Ok(StatusCode::NO_CONTENT)
}

/// Sign out everywhere else, at the gateway too. API tokens stay.
#[utoipa::path(post, path = "/me/sign-out-elsewhere", operation_id = "signOutElsewhere", responses((status = 204)))]
pub(super) async fn sign_out_elsewhere(State(app): State<Arc<App>>, Own(caller): Own) -> Result<StatusCode, Problem> {
    let all = app.identity.book.of(&caller.person.name);
    let others = all.iter().filter(|e| e.token.kind != TokenKind::Api && e.token.id != caller.entry.token.id);
    let ids: Vec<String> = others.map(|e| e.token.id.clone()).collect();
    app.identity.book.end(&ids).await?;
    crate::ending::ssh(&app, &caller.person.name);
    let says = format!("{} signed out everywhere else ({}).", caller.person.name, aerie_core::wording::count(ids.len() as u64, "place"));
    app.log.append(caller.event(EventKind::TokenChanged).says(says)).await?;
    Ok(StatusCode::NO_CONTENT)
}

/// Make an API token. Its secret is shown once.
#[utoipa::path(post, path = "/me/tokens", operation_id = "makeToken", request_body = NewApiToken, responses((status = 200, body = IssuedToken), (status = 403), (status = 422)))]
pub(super) async fn make_token(
    State(app): State<Arc<App>>,
    Own(caller): Own,
    Json(given): Json<NewApiToken>,
) -> Result<Json<IssuedToken>, Problem> {
    caller.must_be_full()?;
    caller.must_be_fresh()?;
    let longest = app.settings().number(Setting::TokenDays);
    if given.days == 0 || i64::from(given.days) > longest {
        return Err(Problem::not_good(format!("A token is good for 1 to {longest} days.")));
    }
    let mut scopes = given.scopes.clone();
    scopes.sort();
    scopes.dedup();
    if scopes.is_empty() || scopes.iter().any(|s| !SCOPES.contains(&s.as_str())) {
        return Err(Problem::not_good(format!("Say what the token is for: {}.", SCOPES.join(", "))));
    }
    let (_, tokens) = devices_and_tokens(&app, &caller.person.name, None, caller.now);
    if tokens.len() >= MOST_TOKENS {
        return Err(Problem::not_good(format!("You have {MOST_TOKENS} tokens: withdraw one first.")));
    }
    let key = given.key.as_deref().map(ed25519_of).transpose()?;
    let new = NewToken {
        person: caller.person.name.clone(),
        kind: TokenKind::Api,
        name: label_of(&given.name)?,
        scopes,
        key,
        stage: Stage::Full,
        proofs: Default::default(),
        created: caller.now,
        now: caller.now,
        expires: caller.now + SignedDuration::from_hours(24 * i64::from(given.days)),
        from: caller.from,
    };
    let (secret, entry) = app.identity.book.add(new).await?;
    let bound = if key.is_some() { ", bound to a key" } else { "" };
    let says = format!(
        "{} made the token `{}` for {}{bound}.",
        caller.person.name,
        entry.token.name,
        aerie_core::wording::list(&entry.token.scopes)
    );
    app.log.append(caller.event(EventKind::TokenChanged).says(says)).await?;
    Ok(Json(IssuedToken { secret: secret.to_string(), token: token_view(&entry) }))
}

/// The 32 bytes of an Ed25519 public key in OpenSSH's format.
fn ed25519_of(text: &str) -> Result<[u8; 32], Problem> {
    let fault = || Problem::not_good("Requests are signed with an Ed25519 key: give its public key as OpenSSH writes it.");
    let key = russh::keys::PublicKey::from_openssh(text.trim()).map_err(|_| fault())?;
    key.key_data().ed25519().map(|k| k.0).ok_or_else(fault)
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn a_qr_code_is_a_square_of_modules() {
        let rows = qr("otpauth://totp/Aerie:ines?secret=AAAA");
        assert!(rows.len() >= 21 && rows.iter().all(|r| r.len() == rows.len()));
        // The finder pattern in the corner (ISO/IEC 18004 section 6.3.3).
        assert!(rows[0].starts_with("11111110") && rows[1].starts_with("10000010"));
    }

    #[test]
    fn labels_are_plain_and_not_endless() {
        assert_eq!(label_of(" desk key ").unwrap(), "desk key");
        assert!(label_of("  ").is_err() && label_of(&"x".repeat(61)).is_err());
    }
}
