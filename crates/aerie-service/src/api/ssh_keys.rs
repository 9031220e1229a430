//! SSH keys of people: registered with proof of possession, refused where they are weak, proposed for removal when a newer one
//! took their place.

use super::account::label_of;
use super::caller::{Caller, Own};
use super::problem::Problem;
use crate::keys::fingerprint;
use crate::service::App;
use aerie_api::{KeyQuestion, NewSshKey, SshKeyView};
use aerie_core::directory::{Person, RegisteredKey};
use aerie_core::evidence::{EventKind, hex};
use aerie_core::factor::{KeyFault, KeyKind, check_key};
use aerie_core::settings::Setting;
use axum::Json;
use axum::extract::{Path, State};
use axum::http::StatusCode;
use jiff::civil::Date;
use jiff::{SignedDuration, Timestamp};
use russh::keys::PublicKey;
use russh::keys::ssh_key::SshSig;
use russh::keys::ssh_key::public::KeyData;
use std::sync::Arc;
use subtle::ConstantTimeEq as _;

/// Keys of one person at most.
const MOST_KEYS: usize = 20;
/// How long a question may be answered.
const QUESTION_LIFE: SignedDuration = SignedDuration::from_mins(10);
/// Namespace of the signatures (OpenSSH's PROTOCOL.sshsig).
const NAMESPACE: &str = "key-registration@aerie";
/// After so long without use, while another is used, a key is proposed for removal.
const UNUSED: SignedDuration = SignedDuration::from_hours(24 * 90);
/// Longest public key or signature that is read.
const LONGEST: usize = 16_384;

/// What kind of key it is, as far as its strength goes.
fn kind(data: &KeyData) -> KeyKind<'_> {
    match data {
        KeyData::Ed25519(point) => KeyKind::Ed25519(&point.0),
        KeyData::Ecdsa(_) => KeyKind::Ecdsa,
        KeyData::SkEd25519(_) | KeyData::SkEcdsaSha2NistP256(_) => KeyKind::Hardware,
        KeyData::Rsa(rsa) => KeyKind::Rsa {
            modulus: rsa.n().as_positive_bytes().unwrap_or_default(),
            exponent: rsa.e().as_positive_bytes().unwrap_or_default(),
        },
        KeyData::Dsa(_) => KeyKind::Dsa,
        _ => KeyKind::Other,
    }
}

/// Whether a key may be used here; for registering it and at each sign-in.
///
/// # Errors
/// Says why not.
pub(crate) fn examine(app: &App, key: &PublicKey) -> Result<(), KeyFault> {
    let print = fingerprint(key);
    if app.settings().lines(Setting::KnownKeys).any(|l| l == print) {
        return Err(KeyFault::Listed);
    }
    check_key(kind(key.key_data()))
}

/// The keys of somebody as they are shown, with when each was used and which should go.
pub(super) async fn key_views(app: &App, person: &Person, day: Date) -> Result<Vec<SshKeyView>, Problem> {
    let mut views = vec![];
    for k in &person.keys {
        let used = app.store.key_use(&k.fingerprint).await?;
        views.push(SshKeyView {
            fingerprint: k.fingerprint.clone(),
            label: k.label.clone(),
            kind: k.public.split(' ').next().unwrap_or_default().into(),
            hardware: k.is_hardware(),
            added: k.added,
            expires: k.expires,
            last_used: used.as_ref().map(|(at, _)| *at),
            last_from: used.map(|(_, from)| from),
            remove_because: None,
        });
    }
    let shared = app.rules.now().policy.directory().shared_keys().into_iter().map(|(p, _)| p.to_string()).collect::<Vec<_>>();
    let because: Vec<Option<String>> = views.iter().map(|k| remove_because(k, &views, day, &shared)).collect();
    views.iter_mut().zip(because).for_each(|(k, why)| k.remove_because = why);
    Ok(views)
}

/// Why a key should be removed: it is over, somebody else has it, or a newer one of the same name is in use.
fn remove_because(key: &SshKeyView, all: &[SshKeyView], day: Date, shared: &[String]) -> Option<String> {
    if shared.contains(&key.fingerprint) {
        return Some("somebody else has the same key, so that it is nobody's: both must make a new one".into());
    }
    if key.expires.is_some_and(|last| day > last) {
        return Some("its last day is over".into());
    }
    let newer = |k: &&SshKeyView| k.fingerprint != key.fingerprint && k.added > key.added && k.last_used > k.added.max(key.last_used);
    if let Some(newer) = all.iter().filter(newer).find(|k| k.label == key.label) {
        return Some(format!("the newer key `{}` is used in its place", newer.label));
    }
    let idle = all.iter().filter(newer).find(|k| {
        let since = key.last_used.or(key.added).unwrap_or_default();
        k.last_used.is_some_and(|used| used.duration_since(since) > UNUSED)
    });
    idle.map(|newer| format!("it was not used for three months, while `{}` was", newer.label))
}

fn question_text(app: &App, person: &str, at: Timestamp) -> String {
    let facts = format!("register an SSH key of {person} at {}, {at}", app.address());
    let mac = app.keys.token_hash(&format!("key question {facts}"));
    format!("{facts} [{}]", hex(mac.get(..16).unwrap_or_default()))
}

/// Whether a text is a question that was put to this person a short while ago.
fn is_question(app: &App, person: &str, text: &str, now: Timestamp) -> bool {
    let at = text.rsplit_once(" [").and_then(|(facts, _)| facts.rsplit_once(", ")).and_then(|(_, at)| at.parse::<Timestamp>().ok());
    at.is_some_and(|at| {
        let same = question_text(app, person, at).as_bytes().ct_eq(text.as_bytes());
        bool::from(same) && now.duration_since(at).abs() <= QUESTION_LIFE
    })
}

/// Ask what an SSH key must sign to be registered.
#[utoipa::path(post, path = "/me/keys/question", operation_id = "keyQuestion", responses((status = 200, body = KeyQuestion)))]
pub(super) async fn question(State(app): State<Arc<App>>, Own(caller): Own) -> Json<KeyQuestion> {
    let text = question_text(&app, &caller.person.name, caller.now);
    let command = format!("printf %s '{text}' | ssh-keygen -Y sign -f ~/.ssh/id_ed25519 -n {NAMESPACE}");
    Json(KeyQuestion { text, namespace: NAMESPACE.into(), command })
}

/// Register an SSH key, with a signature that proves that one has it.
#[utoipa::path(post, path = "/me/keys", operation_id = "registerKey", request_body = NewSshKey, responses((status = 200, body = Vec<SshKeyView>), (status = 403), (status = 409), (status = 422)))]
pub(super) async fn register(
    State(app): State<Arc<App>>,
    Own(caller): Own,
    Json(given): Json<NewSshKey>,
) -> Result<Json<Vec<SshKeyView>>, Problem> {
    caller.must_be_full()?;
    caller.must_be_fresh()?;
    if given.public.len() > LONGEST || given.signature.len() > LONGEST {
        return Err(Problem::not_good("This is longer than any key or signature."));
    }
    let key = PublicKey::from_openssh(given.public.trim()).map_err(|_| Problem::not_good("This is no public key as OpenSSH writes it."))?;
    examine(&app, &key).map_err(|e| Problem::not_good(format!("This key is not taken: {e}.")))?;
    if !is_question(&app, &caller.person.name, &given.text, caller.now) {
        return Err(Problem::not_good("The signature is not over a question of the last ten minutes: ask again."));
    }
    let signed = SshSig::from_pem(given.signature.trim()).is_ok_and(|s| key.verify(NAMESPACE, given.text.as_bytes(), &s).is_ok());
    if !signed {
        return Err(Problem::not_good("The signature is not one of this key over the question."));
    }
    let print = fingerprint(&key);
    let _turn = app.directory_turn.lock().await;
    let rules = app.rules.now();
    let mut person = rules.policy.directory().person(&caller.person.name).cloned().ok_or_else(Problem::sign_in_first)?;
    if person.keys.iter().any(|k| k.fingerprint == print) {
        return Err(Problem::exists("You have registered this key already."));
    }
    if let Some(other) = rules.policy.directory().people().iter().find(|p| p.keys.iter().any(|k| k.fingerprint == print)) {
        // Whose it is, is for those who look after people; the one who asks learns that it is taken.
        crate::audit::shared_key(&app, &print, &[&other.name, &person.name], caller.now).await?;
        return Err(Problem::exists("Somebody else has registered this key. One key is one person's: make a new one."));
    }
    if person.keys.len() >= MOST_KEYS {
        return Err(Problem::not_good(format!("You have {MOST_KEYS} keys: remove one first.")));
    }
    let day = caller.now.to_zoned(rules.policy.zone().clone()).date();
    let expires = expiry(&app, given.expires.as_deref(), day)?;
    let label = label_of(&given.label)?;
    let public = key.to_openssh().map_err(crate::KeyError::from)?.split(' ').take(2).collect::<Vec<_>>().join(" ");
    person.keys.push(RegisteredKey { fingerprint: print.clone(), label: label.clone(), public, added: Some(caller.now), expires });
    keep(&app, &caller, &person, rules.directory_version, format!("registered the SSH key `{label}`"), &print).await?;
    Ok(Json(key_views(&app, &person, day).await?))
}

/// The last day of a new key: as asked for, and no later than the settings allow.
fn expiry(app: &App, asked: Option<&str>, day: Date) -> Result<Option<Date>, Problem> {
    let days = app.settings().number(Setting::KeyDays);
    let longest = (days > 0).then(|| day.saturating_add(jiff::Span::new().days(days)));
    let asked: Option<Date> = asked
        .filter(|t| !t.is_empty())
        .map(|t| t.parse().map_err(|_| Problem::not_good("The last day is not one: write 2026-11-23.")))
        .transpose()?;
    if asked.is_some_and(|a| a < day) {
        return Err(Problem::not_good("The last day is over already."));
    }
    Ok(asked.into_iter().chain(longest).min())
}

async fn keep(app: &App, caller: &Caller, person: &Person, version: u64, did: String, print: &str) -> Result<(), Problem> {
    if !app.store.change_person(person, version).await? {
        return Err(Problem::conflict("Somebody changed the directory at the same moment. Try again."));
    }
    app.directory_changed().await?;
    let says = format!("{} {did}.", caller.person.name);
    app.log.append(caller.event(EventKind::KeyChanged).says(says).with("key", print).with("person", person.name.clone())).await?;
    app.tell("people");
    app.tell("log");
    Ok(())
}

async fn take_away(app: &App, caller: &Caller, name: &str, print: &str) -> Result<StatusCode, Problem> {
    let _turn = app.directory_turn.lock().await;
    let rules = app.rules.now();
    let missing = || Problem::not_found("There is no such key.");
    let mut person = rules.policy.directory().person(name).cloned().ok_or_else(missing)?;
    let at = person.keys.iter().position(|k| k.fingerprint == print).ok_or_else(missing)?;
    let key = person.keys.remove(at);
    let whose = if name == caller.person.name { String::new() } else { format!(" of {name}") };
    keep(app, caller, &person, rules.directory_version, format!("removed the SSH key `{}`{whose}", key.label), print).await?;
    Ok(StatusCode::NO_CONTENT)
}

/// Remove one of one's SSH keys. The fingerprint is without `SHA256:`, in base64url.
#[utoipa::path(delete, path = "/me/keys/{fingerprint}", operation_id = "removeKey", params(("fingerprint" = String, Path)), responses((status = 204), (status = 403), (status = 404)))]
pub(super) async fn remove(State(app): State<Arc<App>>, Own(caller): Own, Path(print): Path<String>) -> Result<StatusCode, Problem> {
    caller.must_be_full()?;
    caller.must_be_fresh()?;
    take_away(&app, &caller, &caller.person.name, &full(&print)).await
}

/// Remove somebody's SSH key.
#[utoipa::path(delete, path = "/people/{name}/keys/{fingerprint}", operation_id = "removeKeyOf", params(("name" = String, Path), ("fingerprint" = String, Path)), responses((status = 204), (status = 403), (status = 404)))]
pub(super) async fn remove_of(
    State(app): State<Arc<App>>,
    caller: Caller,
    Path((name, print)): Path<(String, String)>,
) -> Result<StatusCode, Problem> {
    super::people::other(&app, &caller, &name)?;
    take_away(&app, &caller, &name, &full(&print)).await
}

/// A fingerprint as OpenSSH prints it, from its form in a path.
fn full(print: &str) -> String {
    format!("SHA256:{}", print.replace('-', "+").replace('_', "/"))
}

#[cfg(test)]
mod tests {
    use super::*;

    fn view(label: &str, added: i64, used: Option<i64>) -> SshKeyView {
        let day = |d: i64| Timestamp::from_second(1_780_000_000 + d * 86_400).unwrap();
        SshKeyView {
            fingerprint: format!("SHA256:{label}{added}"),
            label: label.into(),
            kind: "ssh-ed25519".into(),
            hardware: false,
            added: Some(day(added)),
            expires: None,
            last_used: used.map(day),
            last_from: None,
            remove_because: None,
        }
    }

    #[test]
    fn the_old_key_goes_once_the_new_one_works() {
        let day: Date = "2026-11-23".parse().unwrap();
        let because = |all: &[SshKeyView]| remove_because(&all[0], all, day, &[]);
        // Added and not used yet: both are needed.
        assert_eq!(because(&[view("desk", 0, Some(5)), view("desk", 6, None)]), None);
        assert!(because(&[view("desk", 0, Some(5)), view("desk", 6, Some(7))]).unwrap().contains("newer key"));
        // The old one was used after it: it is still in somebody's hands.
        assert_eq!(because(&[view("desk", 0, Some(9)), view("desk", 6, Some(7))]), None);
        // Another machine's key is not in its place, until this one is idle for long.
        assert_eq!(because(&[view("laptop", 0, Some(5)), view("desk", 6, Some(7))]), None);
        assert!(because(&[view("laptop", 0, Some(5)), view("desk", 6, Some(200))]).unwrap().contains("three months"));
        let mut over = view("desk", 0, None);
        over.expires = Some("2026-11-22".parse().unwrap());
        assert!(remove_because(&over, &[], day, &[]).unwrap().contains("last day"));
        over.expires = Some(day);
        assert_eq!(remove_because(&over, &[], day, &[]), None);
        assert!(remove_because(&over, &[], day, &[over.fingerprint.clone()]).unwrap().contains("somebody else"));
    }
}
