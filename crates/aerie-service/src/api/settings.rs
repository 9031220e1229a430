//! Settings and keys of the service.

use super::caller::{Caller, EverythingReader, FreshAdministrator};
use super::problem::Problem;
use super::proposals::{self, Act};
use crate::gateway::UserAuthority;
use crate::keys::Purpose;
use crate::second;
use crate::service::App;
use aerie_api::{Rotation, ServiceKeyView, SettingChangeView, SettingValue, SettingView};
use aerie_core::evidence::EventKind;
use aerie_core::settings::{Kind, Setting};
use axum::Json;
use axum::extract::{Path, State};
use std::sync::Arc;

/// Changes that are listed.
const LISTED: u32 = 200;
/// Longest reason.
const LONGEST_WHY: usize = 500;

fn view(setting: Setting, value: &str) -> SettingView {
    let (kind, bounds) = match setting.kind() {
        Kind::Number { least, most, unit } => ("number", Some(format!("{least} to {most} {unit}"))),
        Kind::Flag => ("flag", None),
        Kind::Text(most) => ("text", Some(format!("at most {most} characters"))),
        Kind::Lines(most) => ("lines", Some(format!("at most {most} lines"))),
    };
    SettingView {
        name: setting.word().into(),
        about: setting.about().into(),
        kind: kind.into(),
        bounds,
        value: value.into(),
        proposal: None,
        default: setting.default().into(),
    }
}

/// Settings.
#[utoipa::path(get, path = "/settings", operation_id = "settings", responses((status = 200, body = Vec<SettingView>)))]
pub(super) async fn list(State(app): State<Arc<App>>, _: EverythingReader) -> Json<Vec<SettingView>> {
    let values = app.settings();
    Json(Setting::ALL.iter().map(|s| view(*s, values.text(*s))).collect())
}

/// Who changed which setting, when and why, newest first.
#[utoipa::path(get, path = "/settings/changes", operation_id = "settingChanges", responses((status = 200, body = Vec<SettingChangeView>)))]
pub(super) async fn changes(State(app): State<Arc<App>>, _: EverythingReader) -> Result<Json<Vec<SettingChangeView>>, Problem> {
    let all = app.store.setting_changes(LISTED).await?.into_iter();
    Ok(Json(all.map(|c| SettingChangeView { name: c.name, before: c.before, after: c.after, at: c.at, by: c.by, why: c.why }).collect()))
}

/// A reason as it is kept.
fn why_of(text: &str) -> Result<String, Problem> {
    let why = aerie_core::diagnostic::printable(text.trim()).to_string();
    if why.is_empty() || why.chars().count() > LONGEST_WHY {
        return Err(Problem::not_good(format!("Say why, in at most {LONGEST_WHY} characters.")));
    }
    Ok(why)
}

/// Change a setting. It counts at once.
#[utoipa::path(put, path = "/settings/{name}", operation_id = "changeSetting", params(("name" = String, Path)), request_body = SettingValue, responses((status = 200, body = SettingView), (status = 403), (status = 404), (status = 422)))]
pub(super) async fn change(
    State(app): State<Arc<App>>,
    FreshAdministrator(caller): FreshAdministrator,
    Path(name): Path<String>,
    Json(given): Json<SettingValue>,
) -> Result<Json<SettingView>, Problem> {
    let setting = Setting::from_word(&name).map_err(|e| Problem::not_found(format!("{e}.")))?;
    let value = setting.read(&given.value).map_err(|e| Problem::not_good(format!("{e}.")))?;
    if setting == Setting::UserAuthorities
        && let Some(bad) = value.lines().find(|l| UserAuthority::parse(l).is_none())
    {
        return Err(Problem::not_good(format!(
            "`{bad}` names no groups and public key: write GROUP[,GROUP] and the key as OpenSSH writes it. It vouches for members of these groups."
        )));
    }
    if setting == Setting::ForwardAuthority {
        crate::forwarding::authorities(&value).map_err(|e| Problem::not_good(format!("{e}.")))?;
    }
    let why = why_of(&given.why)?;
    let guarded = second::GUARDED.contains(&setting);
    if guarded && value != app.settings().text(setting) && second::is_needed(&app, caller.now) {
        let shown: String =
            if value.is_empty() { "nothing".into() } else { value.lines().collect::<Vec<_>>().join(" | ").chars().take(300).collect() };
        let sentence = format!("{} wants to change the setting `{}` to {shown}: {why}", caller.person.name, setting.word());
        let act = Act::Setting { name: setting.word().into(), value, why };
        let proposal = act.propose(&app, &caller.person.name, sentence, caller.now).await?;
        let settings = app.settings();
        return Ok(Json(SettingView { proposal: Some(proposals::view(&proposal)), ..view(setting, settings.text(setting)) }));
    }
    put_setting(&app, &caller, setting, &value, &why).await?;
    Ok(Json(view(setting, &value)))
}

/// Puts a setting in force. It counts at once, and administrators are told of those that decide who is who.
pub(super) async fn put_setting(app: &Arc<App>, caller: &Caller, setting: Setting, value: &str, why: &str) -> Result<(), Problem> {
    app.store.set_setting(setting, value, &caller.person.name, why, caller.now).await?;
    app.load_settings().await?;
    if setting == Setting::Address {
        // The certificate carries the name.
        app.renew_tls(caller.now)?;
    }
    let says = format!("{} changed the setting `{}`: {why}", caller.person.name, setting.word());
    app.log.append(caller.event(EventKind::SettingChanged).says(says).with("setting", setting.word()).with("value", value)).await?;
    if second::GUARDED.contains(&setting) {
        let told = format!("{} changed the setting `{}`: {why}", caller.person.name, setting.word());
        second::tell_administrators(app, setting.word(), &told, caller.now).await;
    }
    app.tell("settings");
    app.tell("log");
    Ok(())
}

/// Keys of the service, with their age.
#[utoipa::path(get, path = "/keys", operation_id = "serviceKeys", responses((status = 200, body = Vec<ServiceKeyView>)))]
pub(super) async fn keys(State(app): State<Arc<App>>, _: EverythingReader) -> Json<Vec<ServiceKeyView>> {
    Json(key_views(&app))
}

fn key_views(app: &App) -> Vec<ServiceKeyView> {
    let about = "Seals every other key where they are kept; change it when its file may have been read by others.";
    let views = app.keys.list().into_iter().map(|k| ServiceKeyView {
        purpose: k.purpose.map_or("master", Purpose::word).into(),
        about: k.purpose.map_or(about, Purpose::about).into(),
        generation: k.generation,
        made: k.made,
        in_use: k.in_use,
        public: k.public,
    });
    views.collect()
}

/// Rotate a key of the service, while it runs. What earlier ones signed or sealed still verifies.
#[utoipa::path(post, path = "/keys", operation_id = "rotateServiceKey", request_body = Rotation, responses((status = 200, body = Vec<ServiceKeyView>), (status = 403), (status = 404), (status = 422)))]
pub(super) async fn rotate(
    State(app): State<Arc<App>>,
    FreshAdministrator(caller): FreshAdministrator,
    Json(given): Json<Rotation>,
) -> Result<Json<Vec<ServiceKeyView>>, Problem> {
    let why = why_of(&given.why)?;
    let purpose = match given.purpose.as_str() {
        "master" => None,
        word => Some(
            Purpose::from_word(word).ok_or_else(|| Problem::not_found("There is no key for that; list the keys to see what there is."))?,
        ),
    };
    let generation = match purpose {
        None => match app.keys.rotate_master(caller.now) {
            Err(e @ crate::KeyError::HandedIn) => return Err(Problem::not_good(format!("{e}."))),
            other => other.map(|()| 0)?,
        },
        Some(purpose) => app.keys.rotate(purpose, caller.now)?,
    };
    match purpose {
        // The log is signed with the key so far first: whoever trusts that one can follow to the next.
        Some(Purpose::LogSigning | Purpose::LogSeal) => {
            app.log.rotate(app.keys.checkpoint_key()?, app.keys.checkpoint_keys(), app.keys.log_key(), caller.now).await?;
        }
        Some(Purpose::Secrets) => app.identity.reseal().await?,
        Some(Purpose::Tls | Purpose::TlsAuthority) => app.renew_tls(caller.now)?,
        Some(Purpose::SshUser) => app.agents.trust(&app.keys.user_authority_lines()),
        Some(Purpose::SshHost | Purpose::SshHostEcdsa | Purpose::SshMachines | Purpose::Tokens | Purpose::Agents) | None => {}
    }
    let public = app.keys.list().into_iter().find(|k| k.purpose == purpose && k.in_use).map(|k| k.public).unwrap_or_default();
    let word = given.purpose;
    let says = format!("{} rotated the key `{word}`: {why}", caller.person.name);
    let event = caller.event(EventKind::ServiceKeyRotated).says(says).with("key", word).with("generation", generation);
    app.log.append(if public.is_empty() { event } else { event.with("public", public) }).await?;
    app.tell("settings");
    app.tell("log");
    Ok(Json(key_views(&app)))
}
