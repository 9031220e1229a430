use super::caller::{EverythingReader, FreshAdministrator};
use super::problem::Problem;
use crate::service::App;
use aerie_api::{DirectoryChanges, DirectoryExport, DirectoryImport};
use aerie_core::directory::{
    Directory, DirectoryFile, Members, Person, RegisteredKey, differences, from_csv, keeps_administrator, raised, validate,
};
use aerie_core::evidence::{EventKind, NewEvent, hex};
use aerie_core::policy::{PROVED_AHEAD, Policy, compare, read};
use aerie_store::Touch;
use axum::Json;
use axum::extract::State;
use axum::http::{HeaderMap, header};
use axum::response::{AppendHeaders, IntoResponse, Response};
use jiff::Timestamp;
use std::collections::HashMap;
use std::sync::Arc;

/// People, machines, groups and keys as a file, for auditing logs elsewhere and for bringing them back changed. The ETag counts
/// the changes.
#[utoipa::path(get, path = "/directory", operation_id = "directory", responses((status = 200, body = DirectoryExport)))]
pub(super) async fn export(State(app): State<Arc<App>>, _: EverythingReader) -> Result<Response, Problem> {
    let rules = app.rules.now();
    let tag = AppendHeaders([(header::ETAG, format!("\"{}\"", rules.directory_version))]);
    let file = Json(DirectoryExport {
        people: rules.policy.directory().people().to_vec(),
        machines: rules.policy.directory().machines().to_vec(),
        groups: rules.policy.directory().group_definitions().to_vec(),
        authorities: app.keys.user_authorities().iter().map(|k| crate::keys::fingerprint(k.public_key())).collect(),
        checkpoint_keys: app.log.public_keys().iter().map(|k| hex(k.as_bytes())).collect(),
    });
    Ok((tag, file).into_response())
}

/// Take people, machines and groups in, or say what would change.
///
/// Whoever stays keeps their password and code. Live sessions are decided again at once.
#[utoipa::path(post, path = "/directory", operation_id = "importDirectory", request_body = DirectoryImport,
    params(("if-match" = Option<String>, Header, description = "ETag of the directory that was changed")),
    responses((status = 200, body = DirectoryChanges), (status = 412, description = "Somebody else changed it in between")))]
pub(super) async fn import(
    State(app): State<Arc<App>>,
    FreshAdministrator(caller): FreshAdministrator,
    headers: HeaderMap,
    Json(given): Json<DirectoryImport>,
) -> Result<Json<DirectoryChanges>, Problem> {
    let _turn = app.directory_turn.lock().await;
    let rules = app.rules.now();
    let known = DirectoryFile::from(&**rules.policy.directory());
    let version = match super::version_of(&headers)? {
        Some(v) => u64::try_from(v).unwrap_or(0),
        None => rules.directory_version,
    };
    if version != rules.directory_version {
        return Err(Problem::conflict("Somebody else changed the directory since you read it. Read it again and repeat your change."));
    }
    let wrong = |why: String| Problem::bad_request(format!("The file cannot be taken in: {why}."));
    let mut file = match given.format.as_str() {
        "json" => serde_json::from_str(&given.text).map_err(|e| wrong(e.to_string()))?,
        "csv-people" => from_csv(&given.text, Members::People, &known).map_err(|e| wrong(e.to_string()))?,
        "csv-machines" => from_csv(&given.text, Members::Machines, &known).map_err(|e| wrong(e.to_string()))?,
        _ => return Err(Problem::bad_request("`format` is json, csv-people or csv-machines.")),
    };
    validate(&file).map_err(|e| wrong(e.to_string()))?;
    keep_enrolment(&mut file, &known);
    let touched = touched(&file, &known, &caller.person.name);
    let from = Timestamp::now();
    let today = from.to_zoned(rules.policy.zone().clone()).date();
    keeps_administrator(&file, today).map_err(|e| wrong(e.to_string()))?;
    let found: Vec<String> = differences(&known, &file).iter().map(aerie_core::directory::Difference::sentence).collect();
    raised(rules.policy.directory(), &file.clone().into(), &caller.person.name).map_err(|e| Problem::own_rights(format!("{e}.")))?;
    let (before, text, after) = (rules.policy.clone(), rules.text.clone(), Arc::new(Directory::from(file.clone())));
    let changes = app
        .rules
        .think(move || {
            let document = read(&text).or_else(|_| read("")).ok()?;
            let after = Policy::compile(document, after, from);
            let told = compare(&before, &after, from, from.saturating_add(PROVED_AHEAD).unwrap_or(Timestamp::MAX));
            Some((told.sentence(), told.changes.iter().map(|c| super::effect::change_view(c, &before, &after)).collect::<Vec<_>>()))
        })
        .await?;
    let (effect, changes) = changes.unwrap_or_default();
    let difference = aerie_core::wording::count(found.len() as u64, "difference");
    let mut shown = DirectoryChanges { sentence: format!("{difference}. {effect}"), done: false, differences: found, changes };
    if given.dry_run || shown.differences.is_empty() {
        return Ok(Json(shown));
    }
    let event = NewEvent::new(from, EventKind::DirectoryChanged, &caller.person.name)
        .says(format!("{} changed the directory: {difference}.", caller.person.name))
        .with("differences", shown.differences.iter().take(200).cloned().collect::<Vec<_>>());
    app.log.append(event).await?;
    if !app.store.replace_directory(&file, version, &caller.person.name, from).await? {
        return Err(Problem::conflict("Somebody else changed the directory since you read it. Read it again and repeat your change."));
    }
    for (person, touch) in touched {
        app.store.touch_account(&person, &caller.person.name, touch, from).await?;
    }
    app.directory_changed().await?;
    app.tell("rules");
    shown.done = true;
    Ok(Json(shown))
}

/// What is enrolled is no part of a file: whoever stays keeps it. A file takes keys away and adds none: a key is registered by a signature
/// that it made for its owner, and nobody registers one for somebody else.
fn keep_enrolment(file: &mut DirectoryFile, known: &DirectoryFile) {
    let before: HashMap<&str, &Person> = known.people.iter().map(|p| (p.name.as_str(), p)).collect();
    for person in &mut file.people {
        let was = before.get(person.name.as_str());
        person.enrolled = was.map(|p| p.enrolled.clone()).unwrap_or_default();
        let kept = |key: &RegisteredKey| was.and_then(|p| p.keys.iter().find(|k| k.fingerprint == key.fingerprint)).cloned();
        person.keys = person.keys.iter().filter_map(kept).collect();
    }
}

/// Whom a file makes, and whose mail it sends elsewhere.
fn touched(file: &DirectoryFile, known: &DirectoryFile, by: &str) -> Vec<(String, Touch)> {
    let before: HashMap<&str, &Person> = known.people.iter().map(|p| (p.name.as_str(), p)).collect();
    let touch = |p: &Person| match before.get(p.name.as_str()) {
        None => Some((p.name.clone(), Touch::Made)),
        Some(was) => (was.mail != p.mail && p.name != by).then(|| (p.name.clone(), Touch::Mail)),
    };
    file.people.iter().filter_map(touch).collect()
}
