//! Desktops in the browser: WebSockets that carry the picture one way and keys the other (docs/formats/desktop.md).

use super::agents::{switching, upgrade_of};
use super::caller::Caller;
use super::problem::Problem;
use super::watch::{Watcher, note, people};
use crate::desktop::{MOST_COPIED, Order, Shown};
use crate::gateway::{Beginning, Desktop};
use crate::machines::Steps;
use crate::pace::Pace;
use crate::service::App;
use aerie_api::{DesktopQuery, FromViewer, ToViewer};
use aerie_core::desktop::{MOST_PIECE, MOST_POINTS, Message as Told, Quality, Saying};
use aerie_core::directory::WayKind;
use aerie_core::policy::Capability;
use aerie_core::session::EndReason;
use aerie_store::TokenKind;
use aerie_tunnel::websocket::WebSocketStream;
use aerie_tunnel::websocket::tungstenite::protocol::{Role, WebSocketConfig};
use aerie_tunnel::websocket::tungstenite::{Bytes, Message};
use axum::extract::{Path, Query, Request, State};
use axum::http::{HeaderMap, header};
use axum::response::Response;
use futures_util::stream::{SplitSink, SplitStream};
use futures_util::{SinkExt as _, StreamExt as _};
use hyper::upgrade::{OnUpgrade, Upgraded};
use hyper_util::rt::TokioIo;
use std::sync::Arc;
use std::time::Duration;
use tokio::sync::broadcast;
use tokio::sync::broadcast::error::RecvError;
use tokio_util::sync::CancellationToken;

/// Longest message of a page: a piece of film, or text for a clipboard, four bytes a character.
const LONGEST: usize = {
    let text = 4 * MOST_COPIED;
    (if text > MOST_PIECE { text } else { MOST_PIECE }) + 1024
};
/// Longest reason or ticket.
const LONGEST_STATED: usize = 500;
/// Longest chat line or note, in characters.
const LONGEST_SAID: usize = 1000;
/// Chat lines, notes and drawn lines of one window in a second.
const MOST_REMARKS: usize = 20;
/// How long a viewer may take to say why it is here.
const PATIENCE: Duration = Duration::from_secs(10);

pub(super) type Socket = WebSocketStream<TokioIo<Upgraded>>;
pub(super) type Sending = SplitSink<Socket, Message>;
pub(super) type Receiving = SplitStream<Socket>;

pub(super) async fn open_socket(upgrade: OnUpgrade) -> Option<Socket> {
    let upgraded = tokio::time::timeout(PATIENCE, upgrade).await.ok()?.ok()?;
    let config = WebSocketConfig::default()
        .read_buffer_size(4096)
        .write_buffer_size(0)
        .max_write_buffer_size(4 << 20)
        .max_message_size(Some(LONGEST))
        .max_frame_size(Some(LONGEST));
    Some(WebSocketStream::from_raw_socket(TokioIo::new(upgraded), Role::Server, Some(config)).await)
}

/// A page of another site could make a browser open this, with the cookie of whoever looks at it (RFC 6455 section 10.2).
pub(super) fn must_be_ours(caller: &Caller, headers: &HeaderMap) -> Result<(), Problem> {
    match caller.entry.token.kind {
        TokenKind::Client => Ok(()),
        TokenKind::Console => must_be_same_site(headers),
        TokenKind::Api => Err(Problem::not_allowed("Programs look at no desktop.")),
    }
}

fn must_be_same_site(headers: &HeaderMap) -> Result<(), Problem> {
    let text = |name: header::HeaderName| headers.get(name).and_then(|h| h.to_str().ok());
    let host = text(header::HOST);
    let origin = text(header::ORIGIN).and_then(|o| o.split_once("://")).map(|(_, host)| host);
    if origin.is_some() && origin == host { Ok(()) } else { Err(Problem::not_allowed("Desktops are opened by the console's own pages.")) }
}

pub(super) async fn say_as<T: serde::Serialize>(to: &mut Sending, what: &T) -> bool {
    let text = serde_json::to_string(what).unwrap_or_default();
    to.send(Message::text(text)).await.is_ok()
}

async fn say(to: &mut Sending, what: &ToViewer) -> bool {
    say_as(to, what).await
}

/// The next thing that a page says in words; none when it is gone, or says what cannot be read.
pub(super) async fn hear_as<T: serde::de::DeserializeOwned>(from: &mut Receiving) -> Option<T> {
    loop {
        match from.next().await?.ok()? {
            Message::Text(text) => return serde_json::from_str(&text).ok(),
            Message::Ping(_) | Message::Pong(_) => {}
            Message::Binary(_) | Message::Close(_) | Message::Frame(_) => return None,
        }
    }
}

async fn hear(from: &mut Receiving) -> Option<FromViewer> {
    hear_as(from).await
}

/// A reason or ticket as it is passed on; none where nothing is said.
pub(super) fn stated(text: String) -> Option<String> {
    let plain: String = aerie_core::diagnostic::printable(text.trim()).chars().take(LONGEST_STATED).collect();
    Some(plain).filter(|t| !t.is_empty())
}

/// Open the desktop of a machine: a WebSocket that begins a session of its own (docs/formats/desktop.md).
#[utoipa::path(get, path = "/machines/{name}/desktop", operation_id = "desktop", params(("name" = String, Path), DesktopQuery), responses((status = 101, description = "The dialogue of docs/formats/desktop.md begins", body = ToViewer), (status = 403), (status = 404)))]
pub(super) async fn open(
    State(app): State<Arc<App>>,
    caller: Caller,
    Path(name): Path<String>,
    Query(query): Query<DesktopQuery>,
    mut request: Request,
) -> Result<Response, Problem> {
    caller.must_be_full()?;
    must_be_ours(&caller, request.headers())?;
    let refused = || Problem::not_allowed(format!("No rule lets you see the screen of {name}, or it has no such desktop."));
    let machine = app.rules.now().policy.directory().machine(&name).cloned().ok_or_else(refused)?;
    let wanted = |w: &&aerie_core::directory::Way| w.kind == WayKind::Desktop && query.way.as_ref().is_none_or(|n| *n == w.name);
    let way = machine.ways.iter().find(wanted).cloned().ok_or_else(refused)?;
    let by = caller.signed_in_by().ok_or_else(Problem::sign_in_first)?;
    let (upgrade, key) = upgrade_of(&mut request)?;
    let tasks = app.clone();
    tasks.tasks.spawn(async move {
        let Some(socket) = open_socket(upgrade).await else { return };
        let (to, mut from) = socket.split();
        let Ok(Some(FromViewer::Begin { reason, ticket })) = tokio::time::timeout(PATIENCE, hear(&mut from)).await else { return };
        let who = Beginning { by, reason: stated(reason), ticket: stated(ticket) };
        let beginning = app.clone();
        let begin = async move |steps: Steps, closed| Desktop::begin(&beginning, machine, way, who, &steps, closed).await;
        begin_and_view(app, &caller, (to, from), begin).await;
    });
    Ok(switching(&key))
}

/// Begins a session, says meanwhile what is done and waited for, and shows it. Whoever leaves meanwhile is waited for no longer.
pub(super) async fn begin_and_view<F>(
    app: Arc<App>,
    caller: &Caller,
    (mut to, mut from): (Sending, Receiving),
    begin: impl FnOnce(Steps, CancellationToken) -> F,
) where
    F: Future<Output = Result<Arc<Desktop>, String>> + Send + 'static,
{
    let left = CancellationToken::new();
    let (steps, mut said) = Steps::new();
    let mut begun = app.tasks.spawn(begin(steps, left.clone()));
    let begun = loop {
        tokio::select! {
            biased;
            Some(text) = said.recv() => {
                say(&mut to, &ToViewer::Step { text }).await;
            }
            begun = &mut begun => break begun,
            () = caller.entry.ended.cancelled() => {
                left.cancel();
                break begun.await;
            }
            heard = hear(&mut from) => if !matches!(heard, Some(FromViewer::Refresh | FromViewer::Ping(_))) {
                left.cancel();
                break begun.await;
            }
        }
    };
    match begun {
        Ok(Ok(desktop)) => view(app, desktop, caller, to, from).await,
        Ok(Err(text)) => {
            say(&mut to, &ToViewer::Refused { capability: None, text }).await;
        }
        Err(_) => {}
    }
}

/// See a live desktop session: whose session it is goes on with it, others watch it, if they may.
#[utoipa::path(get, path = "/sessions/{id}/desktop", operation_id = "watchDesktop", params(("id" = String, Path)), responses((status = 101, description = "The dialogue of docs/formats/desktop.md begins", body = ToViewer), (status = 403), (status = 404)))]
pub(super) async fn join(
    State(app): State<Arc<App>>,
    caller: Caller,
    Path(id): Path<String>,
    mut request: Request,
) -> Result<Response, Problem> {
    caller.must_be_full()?;
    must_be_ours(&caller, request.headers())?;
    let desktop = app.desktops.get(&id).ok_or_else(|| Problem::not_found("There is no live desktop session of that identifier."))?;
    let watcher = Watcher::of(&caller);
    let own = desktop.person() == caller.person.name;
    let told = watcher.may_watch(&app, desktop.live()).map_err(Problem::not_allowed)?;
    let (upgrade, key) = upgrade_of(&mut request)?;
    let tasks = app.clone();
    tasks.tasks.spawn(async move {
        let Some(socket) = open_socket(upgrade).await else { return };
        let (to, from) = socket.split();
        if own {
            return view(app, desktop, &caller, to, from).await;
        }
        let live = desktop.live().clone();
        if live.stage.come(watcher.person()) {
            note(&app, &live, &watcher, true, told).await;
        }
        tell_people(&desktop);
        tokio::select! {
            () = watch(&app, &desktop, &watcher, to, from) => {}
            () = caller.entry.ended.cancelled() => {}
        }
        if live.stage.go(watcher.person()) {
            note(&app, &live, &watcher, false, told).await;
        }
        tell_people(&desktop);
    });
    Ok(switching(&key))
}

/// Tells everybody who looks at a desktop who takes part.
pub(super) fn tell_people(desktop: &Desktop) {
    desktop.screen.say(ToViewer::People { people: people(desktop.live()) });
}

fn parting(desktop: &Desktop) -> ToViewer {
    let live = desktop.live();
    let reason = live.end_reason().unwrap_or(EndReason::Left);
    let note = live.end_note().map(|n| format!(": {}", n.trim_end_matches('.'))).unwrap_or_default();
    ToViewer::Ended { text: format!("The session ended {}{note}.", reason.phrase()) }
}

/// The window of whose session it is.
async fn view(app: Arc<App>, desktop: Arc<Desktop>, caller: &Caller, mut to: Sending, mut from: Receiving) {
    let window = desktop.open_window();
    let ended = desktop.live().ended.clone();
    let end = tokio::select! {
        biased;
        () = ended.cancelled() => Some(parting(&desktop)),
        () = desktop.replaced(window) => Some(ToViewer::Elsewhere),
        () = caller.entry.ended.cancelled() => Some(ToViewer::Ended { text: format!("This window is closed {}.", EndReason::SignedOut.phrase()) }),
        () = obey(&app, &desktop, &caller.person.name, &mut from) => None,
        () = show(&app, &desktop, None, &mut to) => None,
    };
    if let Some(end) = end {
        let _ = tokio::time::timeout(PATIENCE, say(&mut to, &end)).await;
        let _ = tokio::time::timeout(PATIENCE, to.close()).await;
    }
    desktop.close_window(window).await;
}

/// Does what whose session it is wants, until their window is gone.
async fn obey(app: &App, desktop: &Arc<Desktop>, person: &str, from: &mut Receiving) {
    let mut pace = remarks();
    while let Some(said) = hear(from).await {
        match said {
            FromViewer::Drawn(number) => desktop.screen.handle_drawn(Some(number)),
            FromViewer::Key(keysym, down) => drop(desktop.act(Order::Key(keysym, down), None).await),
            FromViewer::At(x, y, buttons) => drop(desktop.act(Order::At(x, y, buttons), None).await),
            FromViewer::Ask(word) => desktop.ask(&word),
            FromViewer::GiveBack(word) => {
                desktop.give_back(&word);
                desktop.tell_uses();
            }
            FromViewer::Paste(text) => {
                let text: String = text.chars().take(MOST_COPIED).collect();
                if !desktop.paste(text).await {
                    let text = "You may not paste into this machine's clipboard.".into();
                    desktop.screen.say(ToViewer::Refused { capability: Some(Capability::ClipboardIn.word().into()), text });
                }
            }
            FromViewer::Refresh => desktop.refresh().await,
            FromViewer::Ping(number) => desktop.screen.say(ToViewer::Pong { number }),
            FromViewer::Quality(word) => desktop.set_quality(if word == "few" { Quality::Few } else { Quality::Exact }).await,
            FromViewer::Leave => desktop.leave(),
            FromViewer::Say(_) | FromViewer::Note(_) | FromViewer::Line(_) => {
                pace.spend(1).await;
                take_part(app, desktop, person, said).await;
            }
            FromViewer::Begin { .. } => {}
        }
    }
}

/// How fast one window talks, notes and draws: each goes to everybody who looks, to the recording, and to whoever is helped.
fn remarks() -> Pace {
    Pace::new(MOST_REMARKS, tokio::time::Instant::now())
}

/// Whatever everybody who looks may do: talk, note, and draw.
async fn take_part(app: &App, desktop: &Desktop, person: &str, said: FromViewer) {
    let words = |text: &str| aerie_core::diagnostic::printable(text.trim()).chars().take(LONGEST_SAID).collect::<String>();
    let who = person.to_string();
    let message = match said {
        FromViewer::Say(text) => Told::Said { saying: Saying::Chat, who, text: words(&text) },
        FromViewer::Note(text) => Told::Said { saying: Saying::Note, who, text: words(&text) },
        FromViewer::Line(mut points) => {
            points.truncate(MOST_POINTS);
            Told::Drawn { who, points }
        }
        _ => return,
    };
    if !matches!(&message, Told::Said { text, .. } if text.is_empty()) {
        if let Some(meeting) = desktop.visit() {
            super::visited::heard(app, meeting, &message).await;
        }
        desktop.tell(message).await;
    }
}

/// Somebody else's window: they look, talk, and act while they have the keyboard.
async fn watch(app: &Arc<App>, desktop: &Arc<Desktop>, watcher: &Watcher, mut to: Sending, mut from: Receiving) {
    let ended = desktop.live().ended.clone();
    let listening = async {
        let mut pace = remarks();
        while let Some(said) = hear(&mut from).await {
            let order = match said {
                FromViewer::Key(keysym, down) => Order::Key(keysym, down),
                FromViewer::At(x, y, buttons) => Order::At(x, y, buttons),
                remark @ (FromViewer::Say(_) | FromViewer::Note(_) | FromViewer::Line(_)) => {
                    pace.spend(1).await;
                    take_part(app, desktop, watcher.person(), remark).await;
                    continue;
                }
                _ => continue,
            };
            // Whoever acts on the machine needs the right to, with what they proved themselves.
            let holds = desktop.live().stage.people().2.as_deref() == Some(watcher.person());
            if holds && watcher.may(app, desktop.live(), Capability::Control).is_ok() {
                desktop.act(order, Some(watcher.person())).await;
            }
        }
    };
    let end = tokio::select! {
        biased;
        () = ended.cancelled() => Some(parting(desktop)),
        text = no_longer(app, desktop, watcher) => Some(ToViewer::Refused { capability: None, text }),
        () = listening => None,
        () = show(app, desktop, Some(watcher), &mut to) => None,
    };
    if let Some(end) = end {
        let _ = tokio::time::timeout(PATIENCE, say(&mut to, &end)).await;
        let _ = tokio::time::timeout(PATIENCE, to.close()).await;
    }
}

/// Ends when the watcher may watch no longer, with the sentence that says why.
async fn no_longer(app: &App, desktop: &Desktop, watcher: &Watcher) -> String {
    let (mut rules, mut asked) = (app.rules.changes(), app.asking.changes());
    loop {
        tokio::select! {
            _ = rules.changed() => {}
            _ = asked.changed() => {}
        }
        if let Err(why) = watcher.may_watch(app, desktop.live()) {
            return why;
        }
    }
}

/// Shows a desktop until the window is gone.
async fn show(app: &App, desktop: &Desktop, watcher: Option<&Watcher>, to: &mut Sending) {
    let first = [desktop.told_first(watcher.is_none()), desktop.uses(), ToViewer::People { people: people(desktop.live()) }];
    for what in &first {
        if !say(to, what).await {
            return;
        }
    }
    let (mut rules, mut next) = (app.rules.changes(), None);
    loop {
        let receiver: &mut broadcast::Receiver<Shown> = match &mut next {
            Some(receiver) => receiver,
            none => {
                let (whole, receiver) = desktop.screen.look();
                for message in whole {
                    if to.send(Message::Binary(message)).await.is_err() {
                        return;
                    }
                }
                none.insert(receiver)
            }
        };
        let shown = tokio::select! {
            shown = receiver.recv() => shown,
            _ = rules.changed() => {
                if !say(to, &desktop.uses()).await {
                    return;
                }
                continue;
            }
        };
        let sent = match shown {
            Ok(Shown::Picture(bytes)) => to.send(Message::Binary(bytes as Bytes)).await.is_ok(),
            Ok(Shown::Told(what)) => say(to, &what).await,
            Ok(Shown::Clipboard(text)) if watcher.is_none() && desktop.may(Capability::ClipboardOut) => {
                desktop.note_copied(text.len()).await;
                say(to, &ToViewer::Clipboard { text }).await
            }
            Ok(Shown::Clipboard(_)) => true,
            Err(RecvError::Lagged(_)) => {
                next = None;
                true
            }
            Err(RecvError::Closed) => false,
        };
        if !sent {
            return;
        }
    }
}
