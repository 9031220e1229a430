//! The pages of whoever is helped: they have no account.

use super::agents::{switching, upgrade_of};
use super::caller::Caller;
use super::desktop::{begin_and_view, hear_as, must_be_ours, open_socket, say_as, stated};
use super::problem::Problem;
use super::visits::request_of;
use crate::gateway::{Beginning, Desktop};
use crate::machines::Steps;
use crate::service::App;
use crate::visits::{self, Meeting, change};
use aerie_api::{FromViewer, FromVisited, HelpAsked, ProgramState, ToViewer, ToVisited, VisitPass, VisitShell};
use aerie_core::desktop::{Message as Film, Saying};
use aerie_core::directory::Machine;
use aerie_core::policy::{Capabilities, Capability, Outcome};
use aerie_core::session::EndReason;
use aerie_core::visit::{RemarkKind, SHARED, Visit, VisitState, WITH_PROGRAM};
use aerie_store::VisitFilter;
use aerie_tunnel::websocket::tungstenite::Message;
use axum::Json;
use axum::extract::{ConnectInfo, Path, Request, State};
use axum::response::Response;
use futures_util::StreamExt as _;
use jiff::Timestamp;
use std::net::{IpAddr, SocketAddr};
use std::sync::Arc;
use std::time::Duration;
use tokio::sync::broadcast::error::RecvError;

/// Visits that strangers asked for and that wait, at most.
const MOST_WAITING: usize = 200;
/// How long a page may take to say whose it is.
const PATIENCE: Duration = Duration::from_secs(10);
/// How long a person may be gone before their visit is over: a page that is loaded again.
const GONE: Duration = Duration::from_secs(60);
/// What a person says takes so long at least: nobody fills the log.
const SAYING: Duration = Duration::from_millis(300);
/// Longest chat line, in characters.
const LONGEST_SAID: usize = 1000;

/// Ask for help, in a queue's standing page.
///
/// For people without an account. Braked as PINs are.
#[utoipa::path(post, path = "/help/{queue}", operation_id = "askForHelp", params(("queue" = String, Path)), request_body = HelpAsked, responses((status = 200, body = VisitPass), (status = 404), (status = 422), (status = 429)))]
pub(super) async fn help(
    State(app): State<Arc<App>>,
    Path(queue): Path<String>,
    ConnectInfo(from): ConnectInfo<SocketAddr>,
    Json(asked): Json<HelpAsked>,
) -> Result<Json<VisitPass>, Problem> {
    let (now, from) = (Timestamp::now(), from.ip().to_canonical());
    let queue = visits::queue(&app, &queue).ok_or_else(|| Problem::not_found("There is no such queue."))?;
    // Each counts as a wrong try: nobody fills a queue from one place.
    app.identity.stranger("help", from, now).map_err(Problem::wait)?;
    let open = app.store.visits(&VisitFilter { open: true, limit: 1000 }).await?;
    if open.iter().filter(|v| v.by.is_empty() && v.state == VisitState::Waiting).count() >= MOST_WAITING {
        return Err(Problem::busy());
    }
    let request = request_of(&queue.name, &asked.person, &asked.mail, &asked.reason, "")?;
    if request.person.is_empty() || request.reason.is_empty() {
        return Err(Problem::not_good("Say who you are, and what it is about."));
    }
    let mut visit = Visit::new(crate::api::new_id(now), request, "", &visits::times(&app), now);
    visit.device.address = from.to_string();
    visits::add(&app, &visit, format!("{} asked for help in {}.", visit.request.person, queue.name)).await?;
    Ok(Json(VisitPass { token: visits::give_pass(&app, &visit.id).await?, visit: visit.id }))
}

/// What is said of a queue to whoever wants help.
#[utoipa::path(get, path = "/help/{queue}", operation_id = "helpQueue", params(("queue" = String, Path)), responses((status = 200, body = aerie_api::QueueView), (status = 404)))]
pub(super) async fn help_queue(State(app): State<Arc<App>>, Path(queue): Path<String>) -> Result<Json<aerie_api::QueueView>, Problem> {
    let queue = visits::queue(&app, &queue).ok_or_else(|| Problem::not_found("There is no such queue."))?;
    let open = app.store.visits(&VisitFilter { open: true, limit: 1000 }).await?;
    let waits = |v: &&Visit| v.request.queue == queue.name && v.state == VisitState::Waiting && v.arrived.is_some();
    let waiting = u32::try_from(open.iter().filter(waits).count()).unwrap_or(u32::MAX);
    Ok(Json(aerie_api::QueueView { name: queue.name, note: queue.note, waiting, helpers: vec![], link: String::new() }))
}

/// The page of whoever is helped: a WebSocket on which they answer, talk, and share their screen (docs/formats/desktop.md).
#[utoipa::path(get, path = "/visits/{id}/page", operation_id = "visitPage", params(("id" = String, Path)), responses((status = 101, description = "The dialogue of docs/formats/desktop.md begins", body = ToVisited), (status = 403)))]
pub(super) async fn page(
    State(app): State<Arc<App>>,
    Path(id): Path<String>,
    ConnectInfo(from): ConnectInfo<SocketAddr>,
    mut request: Request,
) -> Result<Response, Problem> {
    let (upgrade, key) = upgrade_of(&mut request)?;
    let from = from.ip().to_canonical();
    let place = app.visits.pages.enter(from).ok_or_else(Problem::busy)?;
    let tasks = app.clone();
    tasks.tasks.spawn(async move {
        let Some(socket) = open_socket(upgrade).await else { return };
        attend(app, id, from, socket).await;
        drop(place);
    });
    Ok(switching(&key))
}

async fn attend(app: Arc<App>, id: String, from: IpAddr, socket: super::desktop::Socket) {
    let (mut to, mut hearing) = socket.split();
    let first = tokio::time::timeout(PATIENCE, hear_as::<FromVisited>(&mut hearing)).await;
    let Ok(Some(FromVisited::Begin { token, system, browser, screen })) = first else { return };
    if !matches!(visits::is_theirs(&app, &id, &token).await, Ok(true)) {
        let text = "This page is not one of a visit that is open. Enter the PIN again.".into();
        say_as(&mut to, &ToVisited::Over { text }).await;
        return;
    }
    let short = |t: String| aerie_core::diagnostic::printable(&t).chars().take(100).collect::<String>();
    let noted = change(&app, &id, |v, _, _| {
        let device = &mut v.device;
        (device.browser, device.screen, device.address) = (short(browser), short(screen), from.to_string());
        // The program for a visit knows it better.
        if device.host.is_empty() {
            device.system = short(system);
        }
        Ok(())
    });
    if noted.await.is_err() {
        return;
    }
    let meeting = app.visits.meeting(&id);
    let mut told = meeting.come();
    app.tell("visits");
    let mut changed = meeting.changed.subscribe();
    let showing = async {
        loop {
            let Some(standing) = standing(&app, &meeting).await else { break };
            let over = matches!(standing, ToVisited::Over { .. });
            if !say_as(&mut to, &standing).await || over {
                break;
            }
            let next = tokio::select! {
                told = told.recv() => match told {
                    Ok(what) => what,
                    Err(RecvError::Lagged(_)) => continue,
                    Err(RecvError::Closed) => break,
                },
                _ = changed.recv() => continue,
                () = app.stopping.cancelled() => break,
            };
            if !say_as(&mut to, &next).await {
                break;
            }
        }
    };
    tokio::select! {
        () = showing => {}
        () = obey(&app, &meeting, &mut hearing) => {}
    }
    let last = meeting.go();
    app.tell("visits");
    if last {
        app.tasks.spawn(gone(app.clone(), meeting));
    }
}

/// A person whose page is gone for too long has left.
async fn gone(app: Arc<App>, meeting: Arc<Meeting>) {
    let mut changed = meeting.changed.subscribe();
    let back = async { while !meeting.is_here() && changed.recv().await.is_ok() {} };
    tokio::select! {
        () = back => return,
        () = app.stopping.cancelled() => return,
        () = tokio::time::sleep(GONE) => {}
    }
    if !meeting.is_here() {
        left(&app, &meeting, "left").await;
        app.visits.forget(&meeting.visit);
    }
}

async fn left(app: &App, meeting: &Meeting, how: &str) {
    let ended = change(app, &meeting.visit, |v, _, now| {
        if v.state == VisitState::Active || v.arrived.is_some() && v.state == VisitState::Waiting {
            v.remark(now, RemarkKind::Step, "", how);
            v.handle_end(now);
        }
        Ok(())
    });
    if let Ok((visit, ())) = ended.await {
        visits::note(app, &visit, "stranger", format!("{} {how}.", visit.request.person)).await;
    }
}

/// How things stand for the person; none where that cannot be read.
async fn standing(app: &App, meeting: &Meeting) -> Option<ToVisited> {
    let visit = app.store.visit(&meeting.visit).await.ok()??;
    if visit.closed.is_some() || visit.ended.is_some() {
        return Some(ToVisited::Over { text: "The visit is over. Nobody sees your screen.".into() });
    }
    let (helper, organisation) = crate::agents::helper(app, &visit);
    let desktop = meeting.session().and_then(|id| app.desktops.get(&id));
    let may = |c: Capability| match c {
        Capability::Shell => meeting.shell().is_some(),
        _ => desktop.as_ref().is_some_and(|d| d.may(c)),
    };
    let uses = WITH_PROGRAM.iter().filter(|c| may(**c)).map(|c| c.word().into()).collect();
    let program = match meeting.program() {
        Some(_) => ProgramState::Runs,
        None if super::program::is_offered(app) => ProgramState::Offered,
        None => ProgramState::None,
    };
    let open = app.store.visits(&VisitFilter { open: true, limit: 1000 }).await.ok()?;
    let earlier = |v: &&Visit| {
        v.request.queue == visit.request.queue && v.state == VisitState::Waiting && v.technician.is_none() && v.arrived < visit.arrived
    };
    let before = if visit.technician.is_some() { 0 } else { open.iter().filter(earlier).count() };
    Some(ToVisited::Standing {
        state: visit.state.word().into(),
        helper,
        organisation,
        reason: visit.request.reason.clone(),
        asks: SHARED.iter().map(|c| c.word().to_string()).collect(),
        agreed: visit.agreed.as_ref().map(|a| a.iter().map(|c| c.word().into()).collect()),
        recorded: is_recorded(app, &visit),
        watched: meeting.session().is_some(),
        program,
        question: visit.question,
        wants: meeting.asked().map(|(_, c)| c.word().into()),
        wants_question: meeting.asked().map_or(0, |(question, _)| question),
        uses,
        files: super::visits::files(&visit),
        takes_files: super::visit_files::takes_files(app, &visit),
        before: u32::try_from(before).unwrap_or(u32::MAX),
        since: visit.arrived,
    })
}

/// Whether the rules demand a recording of whoever helps here.
fn is_recorded(app: &App, visit: &Visit) -> bool {
    let Some(person) = &visit.technician else { return true };
    let (rules, passes) = (app.rules.now(), app.asking.passes_of(person));
    let facts = aerie_core::policy::Facts { passes: &passes, reason: true, ..Default::default() };
    let request = aerie_core::policy::Request {
        person,
        capability: Capability::View,
        machine: &visit.request.queue,
        account: None,
        at: Timestamp::now(),
        from: None,
        facts,
    };
    match rules.policy.decide(&request).outcome {
        Outcome::Granted(grant) | Outcome::Unmet { grant, .. } => !grant.demands.recording.is_empty(),
        Outcome::Refused(_) => true,
    }
}

/// Does what the person says, until their page is gone.
async fn obey(app: &Arc<App>, meeting: &Arc<Meeting>, hearing: &mut super::desktop::Receiving) {
    let id = &meeting.visit;
    while let Some(Ok(message)) = hearing.next().await {
        let said = match message {
            Message::Text(text) => serde_json::from_str::<FromVisited>(&text).ok(),
            Message::Binary(bytes) => {
                // A flag, eight bytes of time, and what the encoder made.
                if let Some((head, data)) = bytes.split_at_checked(9)
                    && let [flag, time @ ..] = head
                    && let Ok(time) = time.try_into()
                {
                    let piece = Film::Piece { key: *flag == 1, at_us: u64::from_be_bytes(time), data: data.to_vec() };
                    meeting.handle_piece(piece).await;
                    continue;
                }
                None
            }
            Message::Ping(_) | Message::Pong(_) => continue,
            Message::Close(_) | Message::Frame(_) => None,
        };
        match said {
            Some(FromVisited::Answer { question, allow }) => {
                let agreed = Capabilities::of(allow.iter().filter_map(|w| Capability::from_word(w)).filter(|c| SHARED.contains(c)));
                if let Ok((visit, ())) = change(app, id, |v, _, now| v.handle_answer(question, agreed, now)).await {
                    let (person, helper) = (&visit.request.person, visit.technician.clone().unwrap_or_default());
                    let words = agreed.words().join(", ");
                    let says = if agreed.is_empty() {
                        format!("{person} refused {helper}.")
                    } else {
                        format!("{person} allowed {helper}: {words}.")
                    };
                    visits::note(app, &visit, "stranger", says).await;
                }
            }
            Some(FromVisited::Consent { question, capability, allow }) => {
                if let Some(capability) = Capability::from_word(&capability).filter(|c| WITH_PROGRAM.contains(c)) {
                    consent(app, meeting, question, capability, allow).await;
                }
            }
            Some(FromVisited::Program) => {
                if let Some(line) = super::program::line(app, meeting) {
                    meeting.tell(ToVisited::Program { line });
                }
            }
            Some(FromVisited::RefuseFile(file)) => super::visit_files::refuse(app, id, &file).await,
            Some(FromVisited::Film { codec, width, height }) => {
                let film = Film::Film { codec, width, height };
                // What reads as one is one.
                if Film::decode(&film.encode()).is_some() {
                    meeting.handle_film(Some(film)).await;
                    app.tell("visits");
                }
            }
            Some(FromVisited::Stop) => {
                meeting.handle_film(None).await;
                app.tell("visits");
            }
            Some(FromVisited::Say(text)) => {
                say(app, meeting, &text).await;
                tokio::time::sleep(SAYING).await;
            }
            Some(FromVisited::Leave) => return left(app, meeting, "ended the visit").await,
            Some(FromVisited::Begin { .. }) => {}
            None => return,
        }
    }
}

/// The person answers whether whoever helps may do more, or takes it back.
async fn consent(app: &App, meeting: &Meeting, question: u64, capability: Capability, yes: bool) {
    let desktop = meeting.session().and_then(|id| app.desktops.get(&id));
    let shell = meeting.shell().filter(|_| capability == Capability::Shell).and_then(|id| app.live.get(&id));
    let has = shell.is_some() || desktop.as_ref().is_some_and(|d| d.may(capability));
    // A yes answers what is asked now; a no is a no whatever it answers, and takes back what was given.
    let asked = meeting.asked();
    if yes && asked != Some((question, capability)) || !yes && !has && asked.is_none_or(|(_, what)| what != capability) {
        return;
    }
    let Ok((visit, ())) = change(app, &meeting.visit, |v, _, now| v.handle_consent(capability, yes, now)).await else { return };
    let (person, helper) = (&visit.request.person, visit.technician.clone().unwrap_or_default());
    let verb = match (yes, has) {
        (true, _) => "allowed",
        (false, true) => "took back from",
        (false, false) => "refused",
    };
    visits::note(app, &visit, "stranger", format!("{person} {verb} {helper}: {}.", capability.word())).await;
    meeting.answer(question, capability, yes);
    if let Some(shell) = shell.filter(|_| !yes) {
        shell.end(EndReason::ConsentTakenBack);
    }
    if let Some(desktop) = desktop.filter(|_| !yes) {
        desktop.give_back(capability.word());
        desktop.tell_uses();
    }
}

/// Says something for the person.
async fn say(app: &App, meeting: &Meeting, text: &str) {
    let text: String = aerie_core::diagnostic::printable(text.trim()).chars().take(LONGEST_SAID).collect();
    if text.is_empty() {
        return;
    }
    let said = change(app, &meeting.visit, |v, _, now| {
        v.remark(now, RemarkKind::Chat, "", &text);
        Ok(())
    });
    let Ok((visit, ())) = said.await else { return };
    meeting.tell(ToVisited::Said { who: visit.request.person.clone(), text: text.clone() });
    if let Some(desktop) = meeting.session().and_then(|id| app.desktops.get(&id)) {
        desktop.tell(Film::Said { saying: Saying::Chat, who: visit.request.person, text }).await;
    }
}

/// What somebody who looks at a visit said or drew, for the person and for the record.
pub(super) async fn heard(app: &App, meeting: &Meeting, message: &Film) {
    match message {
        Film::Said { saying, who, text } => {
            let kind = if *saying == Saying::Note { RemarkKind::Note } else { RemarkKind::Chat };
            let noted = change(app, &meeting.visit, |v, _, now| {
                v.remark(now, kind, who, text);
                Ok(())
            });
            drop(noted.await);
            if *saying == Saying::Chat {
                let rules = app.rules.now();
                let who = rules.policy.directory().person(who).map_or(who.clone(), |p| p.shown().to_string());
                meeting.tell(ToVisited::Said { who, text: text.clone() });
            }
        }
        Film::Drawn { points, .. } => meeting.tell(ToVisited::Line { points: points.clone() }),
        _ => {}
    }
}

/// The visit of a caller who helps in it, its queue, and who begins something there.
async fn helped(app: &App, caller: &Caller, id: &str) -> Result<(Visit, Machine, Beginning), Problem> {
    caller.must_be_full()?;
    let visit = app.store.visit(id).await?.filter(|v| v.technician.as_ref() == Some(&caller.person.name));
    let visit = visit.ok_or_else(|| Problem::not_found("There is no such visit, or it is not yours: pick it up first."))?;
    if !visit.agreed.as_ref().is_some_and(|a| a.contains(&Capability::View)) {
        return Err(Problem::not_good("The person did not agree yet."));
    }
    let queue = visits::queue(app, &visit.request.queue).ok_or_else(|| Problem::not_found("Its queue is gone."))?;
    let by = caller.signed_in_by().ok_or_else(Problem::sign_in_first)?;
    let (ticket, reason) = (stated(visit.request.ticket.clone()), stated(visit.request.reason.clone()));
    let who = Beginning { by, reason, ticket };
    Ok((visit, queue, who))
}

/// Work in a shell on the computer of whoever is helped, where the program for a visit runs: answers when they agreed, or did not.
#[utoipa::path(post, path = "/visits/{id}/shell", operation_id = "visitShell", params(("id" = String, Path)), responses((status = 200, body = VisitShell), (status = 403), (status = 404), (status = 422)))]
pub(super) async fn shell(State(app): State<Arc<App>>, caller: Caller, Path(id): Path<String>) -> Result<Json<VisitShell>, Problem> {
    let (_, queue, who) = helped(&app, &caller, &id).await?;
    let meeting = app.visits.meeting(&id);
    let beginning = app.clone();
    // Whoever hangs up meanwhile leaves nothing half begun.
    let begun = app.tasks.spawn(async move { crate::gateway::begin_visit_shell(&beginning, queue, meeting, who).await });
    let live = begun.await.map_err(|_| Problem::unready("It broke off."))?.map_err(Problem::not_allowed)?;
    Ok(Json(VisitShell { session: live.id.clone() }))
}

/// Look at the screen that somebody shares in a visit: begins a session (docs/formats/desktop.md).
#[utoipa::path(get, path = "/visits/{id}/screen", operation_id = "visitScreen", params(("id" = String, Path)), responses((status = 101, description = "The dialogue of docs/formats/desktop.md begins", body = ToViewer), (status = 403), (status = 404), (status = 422)))]
pub(super) async fn screen(
    State(app): State<Arc<App>>,
    caller: Caller,
    Path(id): Path<String>,
    mut request: Request,
) -> Result<Response, Problem> {
    must_be_ours(&caller, request.headers())?;
    let (_, queue, known) = helped(&app, &caller, &id).await?;
    let meeting = app.visits.meeting(&id);
    let (upgrade, key) = upgrade_of(&mut request)?;
    let tasks = app.clone();
    tasks.tasks.spawn(async move {
        let Some(socket) = open_socket(upgrade).await else { return };
        let (to, mut from) = socket.split();
        let Ok(Some(FromViewer::Begin { reason, ticket })) = tokio::time::timeout(PATIENCE, hear_as(&mut from)).await else { return };
        let who = Beginning { reason: stated(reason).or(known.reason), ticket: stated(ticket).or(known.ticket), ..known };
        let beginning = app.clone();
        let begin = async move |steps: Steps, closed| Desktop::begin_shared(&beginning, queue, meeting, who, &steps, closed).await;
        begin_and_view(app, &caller, (to, from), begin).await;
    });
    Ok(switching(&key))
}
