//! Visits, for those who help.

use super::caller::Caller;
use super::kept::{keep, kept};
use super::pins::{LONGEST_NOTE, MOST_OPEN};
use super::problem::Problem;
use crate::asking::{Told, mail_to};
use crate::service::App;
use crate::visits::{self, VisitError, change, may_help};
use aerie_api::{
    CloseVisit, IssuedVisit, NewVisit, QueueView, Reassign, RemarkView, VisitFileView, VisitNote, VisitPictureView, VisitQuery, VisitView,
};
use aerie_core::directory::Act;
use aerie_core::evidence::hex;
use aerie_core::visit::{GivenFile, KeptPicture, Outcome, RemarkKind, Visit, VisitRequest, VisitState};
use aerie_store::{KeptOf, VisitFilter};
use axum::Json;
use axum::body::Bytes;
use axum::extract::{Path, Query, State};
use axum::http::{StatusCode, header};
use axum::response::{IntoResponse as _, Response};
use sha2::{Digest as _, Sha256};
use std::sync::Arc;

/// Visits that are listed.
const LISTED: u32 = 500;
/// Longest note, and longest closing note, in characters.
const LONGEST_TEXT: usize = 2000;
/// Largest picture.
const MAX_PICTURE: usize = 4 << 20;
/// What a picture begins with (ISO/IEC 15948 section 5.2).
const PNG: &[u8] = b"\x89PNG\r\n\x1a\n";

impl From<VisitError> for Problem {
    fn from(e: VisitError) -> Self {
        match e {
            VisitError::Missing => missing(),
            VisitError::Fault(fault) => Self::not_good(format!("{fault}.")),
            VisitError::Store(e) => e.into(),
            VisitError::Outbox(e) => e.into(),
        }
    }
}

fn missing() -> Problem {
    Problem::not_found("There is no such visit, or it is not yours.")
}

pub(super) fn view(app: &App, visit: &Visit) -> VisitView {
    let meeting = app.visits.met(&visit.id);
    let device = [
        ("system", &visit.device.system),
        ("browser", &visit.device.browser),
        ("screen", &visit.device.screen),
        ("address", &visit.device.address),
        ("host", &visit.device.host),
        ("machine", &visit.device.machine),
        ("people", &visit.device.people.join(", ")),
        ("disorder", &visit.device.disorder.join(", ")),
    ];
    let kind = |k: RemarkKind| match k {
        RemarkKind::Chat => "chat",
        RemarkKind::Note => "note",
        RemarkKind::Consent => "consent",
        RemarkKind::Step => "step",
    };
    let r = &visit.request;
    VisitView {
        id: visit.id.clone(),
        sentence: visit.sentence(),
        state: visit.state.word().into(),
        queue: r.queue.clone(),
        person: r.person.clone(),
        mail: r.mail.clone(),
        reason: r.reason.clone(),
        ticket: r.ticket.clone(),
        by: visit.by.clone(),
        technician: visit.technician.clone(),
        helpers: visit.helpers.clone(),
        made: visit.made,
        arrived: visit.arrived,
        began: visit.began,
        ended: visit.ended,
        closed: visit.closed.as_ref().map(|c| c.at),
        outcome: visit.closed.as_ref().map(|c| c.outcome.word().into()),
        notes: visit.closed.as_ref().map(|c| c.notes.clone()).unwrap_or_default(),
        agreed: visit.agreed.as_ref().map(|a| a.iter().map(|c| c.word().into()).collect()),
        here: meeting.as_ref().is_some_and(|m| m.is_here()),
        shares: meeting.as_ref().is_some_and(|m| m.shares()),
        program: meeting.as_ref().is_some_and(|m| m.program().is_some()),
        shell: meeting.as_ref().and_then(|m| m.shell()),
        device: device.into_iter().filter(|(_, v)| !v.is_empty()).map(|(k, v)| (k.into(), v.clone())).collect(),
        sessions: visit.sessions.clone(),
        remarks: visit
            .remarks
            .iter()
            .map(|m| RemarkView { at: m.at, kind: kind(m.kind).into(), who: m.who.clone(), text: m.text.clone() })
            .collect(),
        pictures: visit
            .pictures
            .iter()
            .map(|p| VisitPictureView { id: p.id.clone(), at: p.at, by: p.by.clone(), bytes: p.bytes, sha256: p.sha256.clone() })
            .collect(),
        files: files(visit),
    }
}

pub(super) fn files(visit: &Visit) -> Vec<VisitFileView> {
    let view = |f: &GivenFile| VisitFileView {
        id: f.id.clone(),
        name: f.name.clone(),
        bytes: f.bytes,
        sha256: f.sha256.clone(),
        way: f.way.word().into(),
        state: f.state.word().into(),
        at: f.at,
        settled: f.settled,
    };
    visit.files.iter().map(view).collect()
}

/// Whether the caller has to do with a visit: they made it, help or helped, may help in its queue, or read everything.
fn sees(app: &App, caller: &Caller, visit: &Visit) -> bool {
    let me = &caller.person.name;
    visit.by == *me
        || visit.helpers.contains(me)
        || may_help(app, me, &visit.request.queue)
        || caller.sees_machine(app, &visit.request.queue)
}

/// A visit that the caller may change: who helps in it, or may.
pub(super) async fn theirs(app: &App, caller: &Caller, id: &str) -> Result<Visit, Problem> {
    let visit = app.store.visit(id).await?.ok_or_else(missing)?;
    let me = &caller.person.name;
    let helps = visit.by == *me || visit.technician.as_ref() == Some(me) || may_help(app, me, &visit.request.queue);
    if helps || caller.administers() { Ok(visit) } else { Err(missing()) }
}

fn plain(text: &str, most: usize, what: &str) -> Result<String, Problem> {
    let text = aerie_core::diagnostic::printable(text.trim());
    if text.chars().count() > most {
        return Err(Problem::not_good(format!("{what} has at most {most} characters.")));
    }
    Ok(text)
}

/// What a stranger or a technician says of a visit that is to be made, held to its bounds.
pub(super) fn request_of(queue: &str, person: &str, mail: &str, reason: &str, ticket: &str) -> Result<VisitRequest, Problem> {
    let mail = plain(mail, 200, "An address")?;
    if !mail.is_empty() && (mail.matches('@').count() != 1 || mail.contains(char::is_whitespace)) {
        return Err(Problem::not_good("That is no mail address."));
    }
    Ok(VisitRequest {
        queue: queue.into(),
        person: plain(person, 100, "A name")?,
        mail,
        reason: plain(reason, LONGEST_NOTE, "A reason")?,
        ticket: plain(ticket, 100, "A ticket")?,
    })
}

/// The queues, with who helps in them.
#[utoipa::path(get, path = "/queues", operation_id = "queues", responses((status = 200, body = Vec<QueueView>)))]
pub(super) async fn queues(State(app): State<Arc<App>>, caller: Caller) -> Result<Json<Vec<QueueView>>, Problem> {
    let open = app.store.visits(&VisitFilter { open: true, limit: LISTED }).await?;
    let rules = app.rules.now();
    let people: Vec<String> = rules.policy.directory().people().iter().map(|p| p.name.clone()).collect();
    let mut all = vec![];
    for queue in visits::queues(&app) {
        if !may_help(&app, &caller.person.name, &queue.name) && !caller.sees_machine(&app, &queue.name) {
            continue;
        }
        let waits = |v: &&Visit| v.request.queue == queue.name && v.state == VisitState::Waiting && v.arrived.is_some();
        all.push(QueueView {
            waiting: u32::try_from(open.iter().filter(waits).count()).unwrap_or(u32::MAX),
            helpers: people.iter().filter(|p| may_help(&app, p, &queue.name)).cloned().collect(),
            link: format!("{}/help/{}", app.address(), queue.name),
            name: queue.name,
            note: queue.note,
        });
    }
    Ok(Json(all))
}

/// Visits, the newest first: of the queues in which the caller helps, and their own.
#[utoipa::path(get, path = "/visits", operation_id = "visits", params(VisitQuery), responses((status = 200, body = Vec<VisitView>)))]
pub(super) async fn list(
    State(app): State<Arc<App>>,
    caller: Caller,
    Query(q): Query<VisitQuery>,
) -> Result<Json<Vec<VisitView>>, Problem> {
    let all = app.store.visits(&VisitFilter { open: q.open, limit: LISTED }).await?;
    Ok(Json(all.iter().filter(|v| sees(&app, &caller, v)).map(|v| view(&app, v)).collect()))
}

/// One visit.
#[utoipa::path(get, path = "/visits/{id}", operation_id = "visit", params(("id" = String, Path)), responses((status = 200, body = VisitView), (status = 404)))]
pub(super) async fn show(State(app): State<Arc<App>>, caller: Caller, Path(id): Path<String>) -> Result<Json<VisitView>, Problem> {
    let visit = app.store.visit(&id).await?.filter(|v| sees(&app, &caller, v)).ok_or_else(missing)?;
    Ok(Json(view(&app, &visit)))
}

/// Make a visit: gives a PIN to be read out, once, and the page on which it is entered.
#[utoipa::path(post, path = "/visits", operation_id = "makeVisit", request_body = NewVisit, responses((status = 200, body = IssuedVisit), (status = 403), (status = 422)))]
pub(super) async fn make(State(app): State<Arc<App>>, caller: Caller, Json(given): Json<NewVisit>) -> Result<Json<IssuedVisit>, Problem> {
    if caller.within(Act::IssuePins).is_none() {
        return Err(Problem::not_allowed("Only technicians and administrators make visits."));
    }
    let me = caller.person.name.clone();
    let mine: Vec<String> = visits::queues(&app).into_iter().map(|q| q.name).filter(|q| may_help(&app, &me, q)).collect();
    let queue = match (given.queue.as_str(), mine.as_slice()) {
        ("", [only]) => only.clone(),
        ("", _) => return Err(Problem::not_good(format!("Name the queue: {}.", mine.join(", ")))),
        (named, all) => all
            .iter()
            .find(|q| *q == named)
            .cloned()
            .ok_or_else(|| Problem::not_allowed(format!("No rule lets you help in {named}, or there is no such queue.")))?,
    };
    let open = app.store.open_pins(caller.now).await?;
    if open.iter().filter(|p| p.issued_by == me).count() >= MOST_OPEN {
        return Err(Problem::not_good(format!("You have {MOST_OPEN} open PINs: withdraw one, or wait.")));
    }
    let request = request_of(&queue, &given.person, &given.mail, &given.reason, &given.ticket)?;
    if given.send_link && !request.mail.is_empty() {
        let often = |seconds| {
            Problem::not_good(format!(
                "You had too many links mailed within the last hour. Wait {} min, or read the link out.",
                (seconds + 59) / 60
            ))
        };
        app.mailing.take(&me, caller.now).map_err(often)?;
    }
    let note = if request.person.is_empty() { request.reason.clone() } else { request.person.clone() };
    let (digits, pin) = app.identity.issue_pin(None, &note, &me, &app.settings().pins(), caller.now).await?;
    let visit = Visit::new(pin.id.clone(), request, &me, &visits::times(&app), caller.now);
    let whom = if visit.request.person.is_empty() { "somebody" } else { &visit.request.person };
    visits::add(&app, &visit, format!("{me} made a visit for {whom}.")).await?;
    let link = format!("{}/visit/{}", app.address(), visit.id);
    if given.send_link && !visit.request.mail.is_empty() {
        let by = caller.person.shown();
        let subject = format!("{by} would like to help you");
        let text = format!(
            "{subject}. Open this page, and enter the PIN that you are read out:\n\n{link}\n\nIf nobody reads you a PIN, do nothing."
        );
        mail_to(&app, &visit.request.mail, Told { kind: "visit", about: &visit.id, subject: &subject, text: &text }).await?;
    }
    app.tell("pins");
    Ok(Json(IssuedVisit { pin: digits.to_string(), link, visit: view(&app, &visit) }))
}

/// Pick a visit up: from its queue, or from whoever has it.
#[utoipa::path(post, path = "/visits/{id}/pick-up", operation_id = "pickUpVisit", params(("id" = String, Path)), responses((status = 200, body = VisitView), (status = 404), (status = 422)))]
pub(super) async fn pick_up(State(app): State<Arc<App>>, caller: Caller, Path(id): Path<String>) -> Result<Json<VisitView>, Problem> {
    let before = theirs(&app, &caller, &id).await?;
    let me = caller.person.name.clone();
    if !may_help(&app, &me, &before.request.queue) {
        return Err(Problem::not_allowed(format!("No rule lets you help in {}.", before.request.queue)));
    }
    let (visit, ()) = change(&app, &id, |v, _, now| v.pick_up(&me, now)).await?;
    visits::note(&app, &visit, &me, format!("{me} took the visit of {}.", visit.request.person)).await;
    Ok(Json(view(&app, &visit)))
}

/// Pass a waiting visit on: to another queue, or back into its own.
#[utoipa::path(post, path = "/visits/{id}/reassign", operation_id = "reassignVisit", params(("id" = String, Path)), request_body = Reassign, responses((status = 200, body = VisitView), (status = 404), (status = 422)))]
pub(super) async fn reassign(
    State(app): State<Arc<App>>,
    caller: Caller,
    Path(id): Path<String>,
    Json(to): Json<Reassign>,
) -> Result<Json<VisitView>, Problem> {
    theirs(&app, &caller, &id).await?;
    let queue = visits::queue(&app, &to.queue).ok_or_else(|| Problem::not_good("There is no such queue."))?;
    let me = caller.person.name.clone();
    let (visit, ()) = change(&app, &id, |v, _, now| v.reassign(&queue.name, &me, now)).await?;
    visits::note(&app, &visit, &me, format!("{me} passed the visit of {} on to {}.", visit.request.person, queue.name)).await;
    Ok(Json(view(&app, &visit)))
}

/// Write a note on a visit.
#[utoipa::path(post, path = "/visits/{id}/notes", operation_id = "noteVisit", params(("id" = String, Path)), request_body = VisitNote, responses((status = 200, body = VisitView), (status = 404), (status = 422)))]
pub(super) async fn add_note(
    State(app): State<Arc<App>>,
    caller: Caller,
    Path(id): Path<String>,
    Json(note): Json<VisitNote>,
) -> Result<Json<VisitView>, Problem> {
    theirs(&app, &caller, &id).await?;
    let text = plain(&note.text, 1000, "A note")?;
    let me = caller.person.name.clone();
    let noted = change(&app, &id, |v, _, now| {
        v.remark(now, RemarkKind::Note, &me, &text);
        Ok(())
    });
    Ok(Json(view(&app, &noted.await?.0)))
}

/// Keep a picture of the screen that is seen: PNG, at most 4 MiB.
#[utoipa::path(post, path = "/visits/{id}/pictures", operation_id = "keepVisitPicture", params(("id" = String, Path)), request_body(content = String, content_type = "image/png"), responses((status = 200, body = VisitView), (status = 404), (status = 422)))]
pub(super) async fn keep_picture(
    State(app): State<Arc<App>>,
    caller: Caller,
    Path(id): Path<String>,
    png: Bytes,
) -> Result<Json<VisitView>, Problem> {
    theirs(&app, &caller, &id).await?;
    if !png.starts_with(PNG) || png.len() > MAX_PICTURE {
        return Err(Problem::not_good("A picture is a PNG of at most 4 MiB."));
    }
    let me = caller.person.name.clone();
    let kept = KeptPicture {
        id: crate::api::new_id(caller.now),
        at: caller.now,
        by: me.clone(),
        bytes: png.len() as u64,
        sha256: hex(&Sha256::digest(&png)),
    };
    let picture = kept.id.clone();
    let (visit, ()) = change(&app, &id, |v, _, _| v.keep_picture(kept)).await?;
    keep(&app, KeptOf::Picture, &id, &picture, png.to_vec()).await?;
    visits::note(&app, &visit, &me, format!("{me} kept a picture of the screen of {}.", visit.request.person)).await;
    Ok(Json(view(&app, &visit)))
}

/// A picture of a visit.
#[utoipa::path(get, path = "/visits/{id}/pictures/{picture}", operation_id = "visitPicture", params(("id" = String, Path), ("picture" = String, Path)), responses((status = 200, body = String, content_type = "image/png"), (status = 404)))]
pub(super) async fn picture(
    State(app): State<Arc<App>>,
    caller: Caller,
    Path((id, picture)): Path<(String, String)>,
) -> Result<Response, Problem> {
    app.store.visit(&id).await?.filter(|v| sees(&app, &caller, v)).ok_or_else(missing)?;
    let png = kept(&app, KeptOf::Picture, &id, &picture).await?.ok_or_else(missing)?;
    Ok(([(header::CONTENT_TYPE, "image/png")], png).into_response())
}

/// Close a visit: what goes on ends, and its record goes to the ticket desk.
#[utoipa::path(post, path = "/visits/{id}/close", operation_id = "closeVisit", params(("id" = String, Path)), request_body = CloseVisit, responses((status = 200, body = VisitView), (status = 404), (status = 422)))]
pub(super) async fn close(
    State(app): State<Arc<App>>,
    caller: Caller,
    Path(id): Path<String>,
    Json(how): Json<CloseVisit>,
) -> Result<Json<VisitView>, Problem> {
    theirs(&app, &caller, &id).await?;
    let outcome = Outcome::from_word(&how.outcome).filter(|o| *o != Outcome::NotSaid);
    let outcome = outcome.ok_or_else(|| Problem::not_good("`outcome` is solved, unsolved, no-show or refused."))?;
    let notes = plain(&how.notes, LONGEST_TEXT, "What is to be said")?;
    let me = caller.person.name.clone();
    let (visit, ()) = change(&app, &id, |v, _, now| v.close(&me, outcome, &notes, now)).await?;
    // A PIN that nobody entered is of no more use.
    app.store.remove_pin(&id).await?;
    Ok(Json(view(&app, &visit)))
}

/// Take a visit back before anybody came.
#[utoipa::path(delete, path = "/visits/{id}", operation_id = "withdrawVisit", params(("id" = String, Path)), responses((status = 204), (status = 404), (status = 422)))]
pub(super) async fn withdraw(State(app): State<Arc<App>>, caller: Caller, Path(id): Path<String>) -> Result<StatusCode, Problem> {
    theirs(&app, &caller, &id).await?;
    let me = caller.person.name.clone();
    change(&app, &id, |v, _, now| v.close(&me, Outcome::NoShow, "", now)).await?;
    app.store.remove_pin(&id).await?;
    Ok(StatusCode::NO_CONTENT)
}

/// The record of a visit as the ticket desk gets it, to be fetched instead.
#[utoipa::path(get, path = "/visits/{id}/record", operation_id = "visitRecord", params(("id" = String, Path)), responses((status = 200, body = serde_json::Value), (status = 404)))]
pub(super) async fn record(
    State(app): State<Arc<App>>,
    caller: Caller,
    Path(id): Path<String>,
) -> Result<Json<serde_json::Value>, Problem> {
    let visit = app.store.visit(&id).await?.filter(|v| sees(&app, &caller, v)).ok_or_else(missing)?;
    Ok(Json(visits::record(&app, &visit)))
}
