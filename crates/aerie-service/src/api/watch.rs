//! Live sessions as others see them: watching, taking part, and who has the keyboard.

use super::caller::{Caller, Seen};
use super::problem::Problem;
use crate::known::{Asker, Wanted};
use crate::service::App;
use crate::sessions::LiveSession;
use crate::watch::{Screen, Shown};
use aerie_api::{GuestView, Invited, Keyboard, LiveLine, LiveQuery, PeopleThere, TerminalSize, Typed};
use aerie_core::directory::Act;
use aerie_core::evidence::{EventKind, NewEvent};
use aerie_core::policy::{Capability, Consent, Facts};
use aerie_core::visit::LONGEST_TYPED;
use axum::Json;
use axum::body::Body;
use axum::extract::{Path, Query, State};
use axum::http::{HeaderMap, StatusCode, header};
use axum::response::Response;
use base64::Engine as _;
use base64::engine::general_purpose::STANDARD;
use bytes::Bytes;
use jiff::Timestamp;
use std::sync::Arc;
use tokio::sync::broadcast::error::RecvError;
use tokio::sync::mpsc;

/// Sessions in one stream at most.
const MOST_SESSIONS: usize = 16;
/// Guests of a session at most.
const MOST_GUESTS: usize = 20;
/// Lines that wait for a slow watcher.
const LINES: usize = 64;

/// Somebody who watches.
#[derive(Clone)]
pub(super) struct Watcher(Asker);

impl Watcher {
    pub(super) fn of(caller: &Caller) -> Self {
        Self(caller.asker())
    }

    pub(super) fn person(&self) -> &str {
        &self.0.person
    }

    /// Whether they may use this capability on the session's machine; gives whether whoever sits there must be told, or agree.
    pub(super) fn may(&self, app: &App, live: &LiveSession, capability: Capability) -> Result<Option<Consent>, String> {
        let invited = live.stage.guest(self.person()).is_some();
        // The one who is watched is told as soon as it begins; and has agreed where they invited this watcher themselves.
        let consent = if invited { Consent::Ask } else { Consent::Notice };
        let wanted = Wanted { capability, machine: &live.machine, account: &live.account };
        let granted = self.0.may(app, wanted, Facts { consent: Some(consent), ..Facts::default() }).or_why()?;
        Ok(granted.grant().demands.consent)
    }

    /// Whether they may watch, and whether the one who is watched is told.
    pub(super) fn may_watch(&self, app: &App, live: &LiveSession) -> Result<bool, String> {
        if live.person == self.person() {
            return Ok(false);
        }
        let told = self.may(app, live, Capability::Watch)?.is_some();
        Ok(told || live.stage.guest(self.person()).is_some())
    }
}

pub(super) fn people(live: &LiveSession) -> PeopleThere {
    let (guests, watchers, keyboard) = live.stage.people();
    let guests = guests.into_iter().map(|g| GuestView { person: g.person, control: g.control, by: g.by }).collect();
    PeopleThere { guests, watchers, keyboard }
}

fn line(live: &LiveSession, kind: &str) -> LiveLine {
    LiveLine { session: live.id.clone(), kind: kind.into(), ..LiveLine::default() }
}

fn screen(live: &LiveSession, s: Screen) -> LiveLine {
    LiveLine { channel: Some(s.channel), size: Some((s.columns, s.rows)), data: Some(STANDARD.encode(s.drawn)), ..line(live, "screen") }
}

fn shown(live: &LiveSession, s: Shown) -> LiveLine {
    match s {
        Shown::Output(c, bytes) => LiveLine { channel: Some(c), data: Some(STANDARD.encode(bytes)), ..line(live, "output") },
        Shown::Size(c, columns, rows) => LiveLine { channel: Some(c), size: Some((columns, rows)), ..line(live, "size") },
        Shown::Closed(c) => LiveLine { channel: Some(c), ..line(live, "closed") },
        Shown::People => LiveLine { people: Some(people(live)), ..line(live, "people") },
    }
}

async fn say(to: &mpsc::Sender<Bytes>, line: &LiveLine) -> bool {
    let mut text = serde_json::to_vec(line).unwrap_or_default();
    text.push(b'\n');
    to.send(text.into()).await.is_ok()
}

/// Notes that somebody came or went, and tells the watched where the rules say so.
pub(super) async fn note(app: &App, live: &LiveSession, watcher: &Watcher, came: bool, told: bool) {
    let verb = if came { "watches" } else { "watches no longer" };
    let secret = if told { "" } else { ", who is not told" };
    let says = format!("{} {verb} the session of {} on {}{secret}.", watcher.person(), live.person, live.machine);
    let event = NewEvent::new(Timestamp::now(), EventKind::SessionJoined, watcher.person())
        .session(&live.id)
        .machine(&live.machine)
        .from(watcher.0.from)
        .says(says)
        .with("told", told);
    app.note(event).await;
    if told {
        live.say(&format!("{} {verb} this session.", watcher.person()));
    }
}

/// Follows one session until it ends, the watcher leaves, or may watch no longer.
async fn follow(app: Arc<App>, live: Arc<LiveSession>, watcher: Watcher, to: mpsc::Sender<Bytes>) {
    let told = match watcher.may_watch(&app, &live) {
        Ok(told) => told,
        Err(why) => {
            say(&to, &LiveLine { sentence: Some(why), ..line(&live, "refused") }).await;
            return;
        }
    };
    let own = live.person == watcher.person();
    if live.stage.come(watcher.person()) && !own {
        note(&app, &live, &watcher, true, told).await;
    }
    let end = watch(&app, &live, &watcher, &to).await;
    if live.stage.go(watcher.person()) && !own {
        note(&app, &live, &watcher, false, told).await;
    }
    if let Some(end) = end {
        say(&to, &end).await;
    }
}

async fn watch(app: &App, live: &LiveSession, watcher: &Watcher, to: &mpsc::Sender<Bytes>) -> Option<LiveLine> {
    let (mut rules, mut asked) = (app.rules.changes(), app.asking.changes());
    let mut next = draw(live, to).await?;
    loop {
        tokio::select! {
            biased;
            () = to.closed() => return None,
            () = live.ended.cancelled() => {
                let phrase = live.end_reason().map_or("", aerie_core::session::EndReason::phrase);
                return Some(LiveLine { sentence: Some(format!("The session ended {phrase}.")), ..line(live, "ended") });
            }
            _ = rules.changed() => {}
            _ = asked.changed() => {}
            piece = next.recv() => {
                match piece {
                    Ok(piece) => { if !say(to, &shown(live, piece)).await { return None } }
                    // Too slow: the screen as it is now, instead of everything that went by.
                    Err(RecvError::Lagged(_)) => next = draw(live, to).await?,
                    Err(RecvError::Closed) => return None,
                }
                continue;
            }
        }
        if let Err(why) = watcher.may_watch(app, live) {
            return Some(LiveLine { sentence: Some(why), ..line(live, "refused") });
        }
    }
}

/// Sends the screens as they are now, and gives what comes next.
async fn draw(live: &LiveSession, to: &mpsc::Sender<Bytes>) -> Option<tokio::sync::broadcast::Receiver<Shown>> {
    let (screens, next) = live.stage.watch();
    say(to, &LiveLine { people: Some(people(live)), ..line(live, "people") }).await.then_some(())?;
    for s in screens {
        say(to, &screen(live, s)).await.then_some(())?;
    }
    Some(next)
}

/// Watch live sessions as they go on: a line of JSON (`LiveLine`) for each thing that happens.
#[utoipa::path(get, path = "/live", operation_id = "watchLive", params(LiveQuery), responses((status = 200, body = LiveLine, content_type = "application/x-ndjson"), (status = 403)))]
pub(super) async fn live(
    State(app): State<Arc<App>>,
    caller: Caller,
    headers: HeaderMap,
    Query(q): Query<LiveQuery>,
) -> Result<Response, Problem> {
    // It is noted and told that somebody watches: another site's page must not bring that about.
    if headers.get("sec-fetch-site").is_some_and(|s| s != "same-origin") {
        return Err(Problem::not_allowed("This call must come from the console's own pages."));
    }
    let ids: Vec<&str> = q.sessions.split(',').filter(|s| !s.is_empty()).collect();
    if !(1..=MOST_SESSIONS).contains(&ids.len()) {
        return Err(Problem::bad_request(format!("`sessions` names 1 to {MOST_SESSIONS} sessions.")));
    }
    let watcher = Watcher::of(&caller);
    let (send, receive) = mpsc::channel(LINES);
    for id in ids {
        let Some(live) = app.live.get(id) else {
            let gone =
                LiveLine { session: id.into(), kind: "ended".into(), sentence: Some("It is not live.".into()), ..LiveLine::default() };
            say(&send, &gone).await;
            continue;
        };
        app.tasks.spawn(follow(app.clone(), live, watcher.clone(), send.clone()));
    }
    let stream = tokio_stream::StreamExt::map(tokio_stream::wrappers::ReceiverStream::new(receive), Ok::<_, std::convert::Infallible>);
    let mut response = Response::new(Body::from_stream(stream));
    response.headers_mut().insert(header::CONTENT_TYPE, axum::http::HeaderValue::from_static("application/x-ndjson"));
    // Compressing would hold lines back.
    response.headers_mut().insert(header::CONTENT_ENCODING, axum::http::HeaderValue::from_static("identity"));
    Ok(response)
}

/// The live session, for those who may invite into it: whose it is, and administrators.
fn hosted(app: &App, caller: &Caller, id: &str) -> Result<Arc<LiveSession>, Problem> {
    let missing = || Problem::not_found("There is no live session of that identifier that is yours.");
    let live = app.live.get(id).ok_or_else(missing)?;
    let rules = app.rules.now();
    let within = |s: &Seen| s.person(rules.policy.directory(), &live.person) && s.machine(rules.policy.directory(), &live.machine);
    let hosts = live.person == caller.person.name || caller.within(Act::EndSessions).as_ref().is_some_and(within);
    if hosts { Ok(live) } else { Err(missing()) }
}

async fn joined(app: &App, caller: &Caller, live: &LiveSession, says: String) -> Result<(), Problem> {
    let event = caller.event(EventKind::SessionJoined).session(&live.id).machine(&live.machine).says(says.clone());
    app.log.append(event).await?;
    app.tell("log");
    live.say(&says);
    Ok(())
}

/// Invite somebody into a live session, to watch or with the keyboard. They need a right of their own, with their own factors.
#[utoipa::path(post, path = "/sessions/{id}/guests", operation_id = "inviteGuest", params(("id" = String, Path)), request_body = Invited, responses((status = 200, body = PeopleThere), (status = 404), (status = 422)))]
pub(super) async fn invite(
    State(app): State<Arc<App>>,
    caller: Caller,
    Path(id): Path<String>,
    Json(who): Json<Invited>,
) -> Result<Json<PeopleThere>, Problem> {
    let live = hosted(&app, &caller, &id)?;
    let known = app.rules.now().policy.directory().person(&who.person).is_some();
    if !known || who.person == live.person || live.stage.people().0.len() >= MOST_GUESTS {
        return Err(Problem::not_good(format!("Name somebody else who is here; a session has at most {MOST_GUESTS} guests.")));
    }
    live.stage.invite(&who.person, who.control, &caller.person.name);
    let what = if who.control { "take part in" } else { "watch" };
    joined(&app, &caller, &live, format!("{} invited {} to {what} this session.", caller.person.name, who.person)).await?;
    let subject = format!("{} invites you to {what} a session on {}", caller.person.shown(), live.machine);
    let text = format!("{subject}.\n\n{}/sessions/{}", app.address(), live.id);
    let told = crate::asking::Told { kind: "invited", about: &live.id, subject: &subject, text: &text };
    crate::asking::tell_people(&app, &[who.person.clone()].into(), told).await;
    Ok(Json(people(&live)))
}

/// Take an invitation back.
#[utoipa::path(delete, path = "/sessions/{id}/guests/{person}", operation_id = "dismissGuest", params(("id" = String, Path), ("person" = String, Path)), responses((status = 200, body = PeopleThere), (status = 404)))]
pub(super) async fn dismiss(
    State(app): State<Arc<App>>,
    caller: Caller,
    Path((id, person)): Path<(String, String)>,
) -> Result<Json<PeopleThere>, Problem> {
    let live = hosted(&app, &caller, &id)?;
    if !live.stage.dismiss(&person) {
        return Err(Problem::not_found("They were not invited."));
    }
    joined(&app, &caller, &live, format!("{} takes part no longer.", person)).await?;
    // Whoever may watch by a right of their own goes on; the others are shown out.
    app.asking.look_again();
    Ok(Json(people(&live)))
}

/// Give the keyboard of a live session to a guest, or back. A guest who may type takes it themselves; whose session it is takes it
/// back by typing.
#[utoipa::path(post, path = "/sessions/{id}/keyboard", operation_id = "keyboard", params(("id" = String, Path)), request_body = Keyboard, responses((status = 200, body = PeopleThere), (status = 403), (status = 404)))]
pub(super) async fn keyboard(
    State(app): State<Arc<App>>,
    caller: Caller,
    Path(id): Path<String>,
    Json(to): Json<Keyboard>,
) -> Result<Json<PeopleThere>, Problem> {
    let me = &caller.person.name;
    let live = match hosted(&app, &caller, &id) {
        Ok(live) => live,
        Err(missing) => app.live.get(&id).filter(|l| l.stage.guest(me).is_some()).ok_or(missing)?,
    };
    if let Some(guest) = &to.to {
        // Whoever types on the machine needs the right to, with what they proved themselves.
        if guest != me && live.person != *me {
            return Err(Problem::not_allowed("The keyboard is taken by oneself, or given by whose session it is."));
        }
        if guest == me {
            let needed = if app.desktops.get(&id).is_some() { Capability::Control } else { Capability::Shell };
            Watcher::of(&caller).may(&app, &live, needed).map_err(Problem::not_allowed)?;
        }
    }
    if !live.stage.give_keyboard(to.to.as_deref()) {
        return Err(Problem::not_allowed("They were not invited to type, or it is so already."));
    }
    if let Some(desktop) = app.desktops.get(&id) {
        desktop.let_go().await;
        super::desktop::tell_people(&desktop);
    }
    let who = to.to.as_deref().unwrap_or(&live.person);
    live.mark(&format!("{who} types now."));
    joined(&app, &caller, &live, format!("{who} types now.")).await?;
    Ok(Json(people(&live)))
}

/// Type into a live session, as a guest who has the keyboard, or in one's own that began at the console.
#[utoipa::path(post, path = "/sessions/{id}/typed", operation_id = "type", params(("id" = String, Path)), request_body = Typed, responses((status = 204), (status = 403), (status = 404)))]
pub(super) async fn typed(
    State(app): State<Arc<App>>,
    caller: Caller,
    Path(id): Path<String>,
    Json(typed): Json<Typed>,
) -> Result<StatusCode, Problem> {
    let live = app.live.get(&id).ok_or_else(|| Problem::not_found("There is no live session of that identifier."))?;
    if typed.text.len() > LONGEST_TYPED {
        return Err(Problem::not_good(format!("At most {LONGEST_TYPED} bytes are typed at a time.")));
    }
    // Whose session it is types by what the session itself holds to.
    if live.person != caller.person.name {
        Watcher::of(&caller).may(&app, &live, Capability::Shell).map_err(Problem::not_allowed)?;
    }
    if live.stage.handle_typed(&caller.person.name, typed.channel, typed.text.into()) {
        Ok(StatusCode::NO_CONTENT)
    } else {
        Err(Problem::not_allowed("Take the keyboard first."))
    }
}

/// How large the window is in which whose session it is works at the console: the terminal becomes so.
#[utoipa::path(post, path = "/sessions/{id}/size", operation_id = "resizeTerminal", params(("id" = String, Path)), request_body = TerminalSize, responses((status = 204), (status = 403), (status = 404)))]
pub(super) async fn size(
    State(app): State<Arc<App>>,
    caller: Caller,
    Path(id): Path<String>,
    Json(wanted): Json<TerminalSize>,
) -> Result<StatusCode, Problem> {
    let live = app.live.get(&id).ok_or_else(|| Problem::not_found("There is no live session of that identifier."))?;
    if live.stage.handle_size(&caller.person.name, wanted.channel, wanted.columns, wanted.rows) {
        Ok(StatusCode::NO_CONTENT)
    } else {
        Err(Problem::not_allowed("That terminal has the size that its own window has."))
    }
}
