//! Files that pass between the two of a visit. The rules say whether whoever helps may give (`upload`) and take (`download`); whoever is helped
//! takes and gives by hand, on their page. What was given is gone when the visit is closed.

use super::caller::Caller;
use super::kept::{keep, kept};
use super::problem::Problem;
use super::visits::{theirs, view};
use crate::known::Wanted;
use crate::service::App;
use crate::visits::{self, change};
use aerie_api::{FileName, VisitView};
use aerie_core::evidence::{EventKind, NewEvent, hex};
use aerie_core::policy::{Capability, Consent, Facts};
use aerie_core::recording::Transfer;
use aerie_core::visit::{FileState, FileWay, GivenFile, LARGEST_FILE, VISITED_ACCOUNT, Visit, file_name};
use aerie_core::wording;
use aerie_store::KeptOf;
use axum::Json;
use axum::body::Bytes;
use axum::extract::{ConnectInfo, Path, Query, Request, State};
use axum::http::{HeaderMap, StatusCode, header};
use axum::response::{IntoResponse as _, Response};
use jiff::Timestamp;
use sha2::{Digest as _, Sha256};
use std::net::SocketAddr;
use std::sync::Arc;

/// Where whoever is helped shows their token.
const PASS: &str = "visit-pass";

fn missing() -> Problem {
    Problem::not_found("There is no such file any more.")
}

/// Whether the caller, who helps, may do this in the visit's queue, with what they proved. What the person must agree to is theirs to do by hand.
fn must_be_allowed(app: &App, caller: &Caller, visit: &Visit, capability: Capability) -> Result<(), Problem> {
    caller.must_be_full()?;
    if visit.technician.as_deref() != Some(&caller.person.name) {
        return Err(Problem::not_allowed("This visit is not yours: pick it up first."));
    }
    let stated =
        Facts { ticket: Some(visit.request.ticket.as_str()).filter(|t| !t.is_empty()), consent: Some(Consent::Ask), ..Facts::default() };
    let wanted = Wanted { capability, machine: &visit.request.queue, account: VISITED_ACCOUNT };
    // What a recording keeps of a file (name, size, hash, way, what became of it) is in the log, with a session or without one.
    caller.asker().may(app, wanted, stated).or_why().map(drop).map_err(Problem::not_allowed)
}

/// The visit whose person shows their token.
async fn of_guest(app: &App, id: &str, headers: &HeaderMap) -> Result<Visit, Problem> {
    let token = headers.get(PASS).and_then(|t| t.to_str().ok()).unwrap_or_default();
    let visit = app.store.visit(id).await?;
    match visit {
        Some(visit) if visits::is_theirs(app, id, token).await? => Ok(visit),
        _ => Err(Problem::not_found("There is no such visit, or it is not yours.")),
    }
}

async fn give(app: &Arc<App>, visit: &Visit, way: FileWay, name: &str, content: &[u8]) -> Result<Visit, Problem> {
    let name = file_name(name).ok_or_else(|| Problem::not_good("A file has a name."))?;
    let now = Timestamp::now();
    let file = GivenFile {
        id: super::new_id(now),
        name,
        bytes: content.len() as u64,
        sha256: hex(&Sha256::digest(content)),
        way,
        helper: visit.technician.clone().unwrap_or_default(),
        at: now,
        state: FileState::Offered,
        settled: None,
    };
    let id = file.id.clone();
    // Its content is there before anybody can ask for it; one that the visit does not take is not kept.
    keep(app, KeptOf::File, &visit.id, &id, content.to_vec()).await?;
    match change(app, &visit.id, |v, _, now| v.give_file(file, now)).await {
        Ok((visit, ())) => Ok(visit),
        Err(e) => {
            app.store.remove_visit_files(&visit.id, Some(&id)).await?;
            Err(e.into())
        }
    }
}

/// It was taken, or not; gives its content where it was.
async fn settle(app: &Arc<App>, visit: &str, id: &str, way: FileWay, taken: bool) -> Result<(GivenFile, Vec<u8>), Problem> {
    let content = kept(app, KeptOf::File, visit, id).await?.ok_or_else(missing)?;
    let settled = change(app, visit, |v, _, now| {
        let file = v.settle_file(id, way, taken, now)?;
        // One that is taken again was settled before.
        let first = file.settled == Some(now);
        Ok((file, first))
    });
    let (visit, (file, first)) = settled.await?;
    if first {
        note(app, &visit, &file).await;
    }
    if !taken {
        app.store.remove_visit_files(&visit.id, Some(id)).await?;
    }
    Ok((file, content))
}

async fn note(app: &App, visit: &Visit, file: &GivenFile) {
    let (person, helper) = (&visit.request.person, &file.helper);
    let (actor, direction, from, to) = match file.way {
        FileWay::ToPerson => (helper, "upload", helper, person),
        FileWay::FromPerson => (helper, "download", person, helper),
    };
    let (done, size) = (file.state == FileState::Taken, wording::size(file.bytes));
    let says = match done {
        true => format!("{to} took {} ({size}), which {from} gave.", file.name),
        false => format!("{to} did not want {} ({size}), which {from} gave.", file.name),
    };
    let result = if done { "done" } else { "refused" };
    let event = NewEvent::new(Timestamp::now(), EventKind::FileTransferred, actor)
        .machine(&visit.request.queue)
        .says(says)
        .with("visit", visit.id.clone())
        .with("path", file.name.clone())
        .with("direction", direction)
        .with("bytes", file.bytes)
        .with("sha256", file.sha256.clone())
        .with("result", result);
    let desktop = app.visits.met(&visit.id).and_then(|m| m.session()).and_then(|id| app.desktops.get(&id));
    app.note(match &desktop {
        Some(desktop) => event.session(desktop.id()),
        None => event,
    })
    .await;
    if let Some(desktop) = desktop {
        let (path, sha256) = (file.name.clone(), Some(file.sha256.clone()));
        desktop.note_file(Transfer { direction: direction.into(), path, bytes: file.bytes, sha256, result: result.into() }).await;
    }
}

fn download(file: &GivenFile, content: Vec<u8>) -> Response {
    // RFC 6266 with RFC 8187: whatever the name is written in.
    let name = format!("attachment; filename*=UTF-8''{}", percent(&file.name));
    ([(header::CONTENT_TYPE, "application/octet-stream".to_string()), (header::CONTENT_DISPOSITION, name)], content).into_response()
}

fn percent(name: &str) -> String {
    name.bytes()
        .map(|b| if b.is_ascii_alphanumeric() || b"-._".contains(&b) { char::from(b).to_string() } else { format!("%{b:02X}") })
        .collect()
}

/// Give whoever is helped a file: at most 16 MiB. They take it on their page.
#[utoipa::path(post, path = "/visits/{id}/files", operation_id = "giveVisitFile", params(("id" = String, Path), FileName), request_body(content = String, content_type = "application/octet-stream"), responses((status = 200, body = VisitView), (status = 403), (status = 404), (status = 422)))]
pub(super) async fn give_person(
    State(app): State<Arc<App>>,
    caller: Caller,
    Path(id): Path<String>,
    Query(named): Query<FileName>,
    content: Bytes,
) -> Result<Json<VisitView>, Problem> {
    let visit = theirs(&app, &caller, &id).await?;
    must_be_allowed(&app, &caller, &visit, Capability::Upload)?;
    let visit = give(&app, &visit, FileWay::ToPerson, &named.name, &content).await?;
    Ok(Json(view(&app, &visit)))
}

/// Take a file that whoever is helped gave, until the visit is closed.
#[utoipa::path(get, path = "/visits/{id}/files/{file}", operation_id = "takeVisitFile", params(("id" = String, Path), ("file" = String, Path)), responses((status = 200, body = String, content_type = "application/octet-stream"), (status = 403), (status = 404)))]
pub(super) async fn take_person(
    State(app): State<Arc<App>>,
    caller: Caller,
    Path((id, file)): Path<(String, String)>,
) -> Result<Response, Problem> {
    let visit = theirs(&app, &caller, &id).await?;
    must_be_allowed(&app, &caller, &visit, Capability::Download)?;
    let (file, content) = settle(&app, &id, &file, FileWay::FromPerson, true).await?;
    Ok(download(&file, content))
}

/// Give whoever helps a file: at most 16 MiB. For whoever is helped, with the token of their visit in the field `visit-pass`.
#[utoipa::path(post, path = "/visits/{id}/page/files", operation_id = "giveHelperFile", params(("id" = String, Path), FileName, ("visit-pass" = String, Header)), request_body(content = String, content_type = "application/octet-stream"), responses((status = 204), (status = 403), (status = 404), (status = 422)))]
pub(super) async fn give_helper(
    State(app): State<Arc<App>>,
    Path(id): Path<String>,
    Query(named): Query<FileName>,
    ConnectInfo(from): ConnectInfo<SocketAddr>,
    request: Request,
) -> Result<StatusCode, Problem> {
    let _place = app.visits.passing.enter(from.ip().to_canonical()).ok_or_else(Problem::busy)?;
    // Whose visit it is is known before anything of the file is held.
    let visit = of_guest(&app, &id, request.headers()).await?;
    if !takes_files(&app, &visit) {
        return Err(Problem::not_allowed("Whoever helps you may take no files."));
    }
    let content = axum::body::to_bytes(request.into_body(), LARGEST_FILE).await;
    let content = content.map_err(|_| Problem::bad_request("A file has at most 16 MiB, and comes whole."))?;
    give(&app, &visit, FileWay::FromPerson, &named.name, &content).await?;
    Ok(StatusCode::NO_CONTENT)
}

/// Take a file that whoever helps gave. For whoever is helped, with the token of their visit in the field `visit-pass`.
#[utoipa::path(get, path = "/visits/{id}/page/files/{file}", operation_id = "takeHelperFile", params(("id" = String, Path), ("file" = String, Path), ("visit-pass" = String, Header)), responses((status = 200, body = String, content_type = "application/octet-stream"), (status = 404)))]
pub(super) async fn take_helper(
    State(app): State<Arc<App>>,
    Path((id, file)): Path<(String, String)>,
    ConnectInfo(from): ConnectInfo<SocketAddr>,
    headers: HeaderMap,
) -> Result<Response, Problem> {
    let _place = app.visits.passing.enter(from.ip().to_canonical()).ok_or_else(Problem::busy)?;
    of_guest(&app, &id, &headers).await?;
    let (file, content) = settle(&app, &id, &file, FileWay::ToPerson, true).await?;
    Ok(download(&file, content))
}

/// Whoever is helped does not want a file.
pub(super) async fn refuse(app: &Arc<App>, visit: &str, file: &str) {
    let _ = settle(app, visit, file, FileWay::ToPerson, false).await;
}

/// Whether whoever helps may take files from whoever is helped, as far as the rules look at who they are.
pub(super) fn takes_files(app: &App, visit: &Visit) -> bool {
    visit.technician.as_ref().is_some_and(|t| visits::may(app, t, Capability::Download, &visit.request.queue))
}

/// Bytes of a body: the largest file.
pub(super) const MAX_BODY: usize = LARGEST_FILE;
