//! The page on the machine's own loopback: what is asked, who is connected, and the answers.

use super::desk::{Act, Desk, Shared, Standing, Taken, is_seen};
use super::peer::user_of;
use super::{Asking, Typed};
use aerie_core::session::consent::{LONGEST_SAID, Witness};
use axum::extract::{ConnectInfo, Query, Request, State as Own};
use axum::http::{HeaderMap, HeaderValue, StatusCode, header};
use axum::middleware::Next;
use axum::response::{IntoResponse as _, Response};
use axum::routing::{get, post};
use axum::{Json, Router};
use jiff::Timestamp;
use serde::{Deserialize, Serialize};
use std::net::{Ipv4Addr, SocketAddr};
use std::sync::Arc;
use std::sync::atomic::Ordering;
use std::time::Duration;
use tokio::net::TcpListener;
use tokio::sync::{mpsc, oneshot};

/// How long a page waits for news at a time.
const PATIENCE: Duration = Duration::from_secs(25);
/// Longest answer.
const MAX_ANSWER: usize = 4096;
/// Longest PIN that is passed on, blanks and all.
const LONGEST_PIN: usize = 40;
/// How long the service may take to say whether a PIN is right.
const SAYS: Duration = Duration::from_secs(15);

/// What the page shows.
#[derive(Debug, Clone, Serialize, Deserialize)]
pub struct State {
    /// Counts the changes.
    pub version: u64,
    /// The machine, as the service names it.
    pub machine: String,
    /// The user who looks.
    pub you: String,
    /// Whether they may answer.
    pub may: bool,
    /// What is asked and shown.
    pub items: Vec<Item>,
}

/// One question, or one who is connected.
#[derive(Debug, Clone, Serialize, Deserialize)]
pub struct Item {
    /// Identifier.
    pub id: String,
    /// Name of whoever asks.
    pub who: String,
    /// Their organisation.
    pub organisation: String,
    /// What they would do, to follow "asks to".
    pub does: String,
    /// As which account.
    pub account: String,
    /// Why.
    pub reason: String,
    /// How long at most, in words; empty where nothing limits it.
    pub at_most: String,
    /// Whether it is recorded.
    pub recorded: bool,
    /// `asked`, `answered`, `live` or `off`.
    pub standing: String,
    /// Whether somebody here talks with them on this page: where a screen is seen.
    pub talks: bool,
    /// What was said: who, and what; like what follows, for those alone who may answer.
    pub said: Vec<(String, String)>,
    /// Lines that they drew over the picture.
    pub lines: Vec<Vec<(u16, u16)>>,
    /// Width, height and number of the picture, which is at `/picture`; absent where there is none.
    pub picture: Option<(u16, u16, u32)>,
    /// Since when they are connected, or until when an answer counts.
    pub at: Timestamp,
}

/// An answer.
#[derive(Debug, Clone, Serialize, Deserialize)]
pub struct Answering {
    /// Identifier of the question.
    pub id: String,
    /// `agree`, `refuse`, `stop`, `off` or `on`.
    pub act: String,
}

/// Something that is said to whoever is connected.
#[derive(Debug, Deserialize)]
struct Saying {
    id: String,
    text: String,
}

/// Which picture.
#[derive(Debug, Deserialize)]
struct Of {
    id: String,
}

/// A PIN that was typed.
#[derive(Debug, Deserialize)]
struct Pin {
    pin: String,
}

struct Page {
    desk: Arc<Desk>,
    pins: mpsc::Sender<Typed>,
    people: Vec<String>,
    machine: String,
    at: SocketAddr,
}

/// Opens the page, and serves it in the background. Gives its port.
pub(super) async fn serve(desk: Arc<Desk>, asking: &Asking, machine: String, pins: mpsc::Sender<Typed>) -> std::io::Result<u16> {
    let listener = TcpListener::bind((Ipv4Addr::LOCALHOST, asking.port)).await?;
    let at = listener.local_addr()?;
    desk.port.store(at.port(), Ordering::Relaxed);
    let page = Arc::new(Page { desk, pins, people: asking.people.clone(), machine, at });
    let router = Router::new()
        .route("/", get(|| async { asset(include_str!("page.html"), "text/html; charset=utf-8") }))
        .route("/page.js", get(|| async { asset(include_str!("page.js"), "text/javascript; charset=utf-8") }))
        .route("/page.css", get(|| async { asset(include_str!("page.css"), "text/css; charset=utf-8") }))
        .route("/state", get(state))
        .route("/answer", post(answer))
        .route("/pin", post(pin))
        .route("/say", post(say))
        .route("/picture", get(picture))
        .layer(axum::extract::DefaultBodyLimit::max(MAX_ANSWER))
        .layer(axum::middleware::from_fn_with_state(page.clone(), own_name))
        .with_state(page);
    tokio::spawn(async move { axum::serve(listener, router.into_make_service_with_connect_info::<SocketAddr>()).await });
    Ok(at.port())
}

fn asset(text: &'static str, kind: &'static str) -> Response {
    let policy = "default-src 'none'; script-src 'self'; style-src 'self'; connect-src 'self'; img-src 'self'; base-uri 'none'; form-action 'none'; frame-ancestors 'none'";
    let headers = [
        (header::CONTENT_TYPE, kind),
        (header::CONTENT_SECURITY_POLICY, policy),
        (header::X_CONTENT_TYPE_OPTIONS, "nosniff"),
        (header::REFERRER_POLICY, "no-referrer"),
        (header::CACHE_CONTROL, "no-store"),
    ];
    (headers, text).into_response()
}

/// A name server must not be able to make another site's page this one; and only this page may send anything.
async fn own_name(Own(page): Own<Arc<Page>>, request: Request, next: Next) -> Response {
    let port = page.at.port();
    let names = [format!("127.0.0.1:{port}"), format!("localhost:{port}")];
    let is_own = |v: Option<&HeaderValue>, prefix: &str| {
        v.and_then(|v| v.to_str().ok()).is_some_and(|v| names.iter().any(|n| v == format!("{prefix}{n}")))
    };
    let headers: &HeaderMap = request.headers();
    let reading = request.method() == axum::http::Method::GET;
    let origin = headers.get(header::ORIGIN);
    if !is_own(headers.get(header::HOST), "") || (!reading && origin.is_some() && !is_own(origin, "http://")) {
        return StatusCode::FORBIDDEN.into_response();
    }
    next.run(request).await
}

impl Page {
    /// The user at the other end, and whether they may answer.
    fn who(&self, from: SocketAddr) -> (String, bool) {
        let Some(user) = user_of(from, self.at) else { return (String::new(), false) };
        let may = if self.people.is_empty() {
            crate::facts::logins().is_some_and(|all| all.iter().any(|l| l.account == user))
        } else {
            self.people.contains(&user)
        };
        (user, may)
    }

    fn state(&self, version: u64, from: SocketAddr) -> State {
        let (you, may) = self.who(from);
        let items = self.desk.all().into_iter().map(|(id, q, standing, talk)| {
            // What is on the screen is nothing for others who work on this computer.
            let talk = if may { talk } else { Shared::default() };
            let (word, at) = match standing {
                Standing::Asked => ("asked", q.until),
                Standing::Answered => ("answered", q.until),
                Standing::Live(since) => ("live", since),
                Standing::Off(since) => ("off", since),
            };
            let limit = |s: u64| aerie_core::wording::duration(jiff::SignedDuration::from_secs(i64::try_from(s).unwrap_or(i64::MAX)));
            Item {
                id,
                does: format!("{} this computer", q.does()),
                who: q.who,
                organisation: q.organisation,
                account: q.account,
                reason: q.reason,
                at_most: q.at_most_s.map(limit).unwrap_or_default(),
                recorded: q.recorded,
                standing: word.into(),
                talks: is_seen(q.capability) && word == "live",
                said: talk.said,
                lines: talk.lines,
                picture: talk.picture.map(|(w, h, _, number)| (w, h, number)),
                at,
            }
        });
        State { version, machine: self.machine.clone(), you, may, items: items.collect() }
    }
}

#[derive(Deserialize)]
struct After {
    #[serde(default)]
    after: u64,
}

/// What there is; waits until it is another than the one that is known.
async fn state(Own(page): Own<Arc<Page>>, ConnectInfo(from): ConnectInfo<SocketAddr>, Query(q): Query<After>) -> Json<State> {
    let mut changes = page.desk.changes();
    let news = changes.wait_for(|v| *v != q.after);
    let _ = tokio::time::timeout(PATIENCE, news).await;
    let version = *page.desk.changes().borrow();
    Json(page.state(version, from))
}

async fn answer(
    Own(page): Own<Arc<Page>>,
    ConnectInfo(from): ConnectInfo<SocketAddr>,
    Json(given): Json<Answering>,
) -> (StatusCode, &'static str) {
    let (account, may) = page.who(from);
    if !may {
        return (StatusCode::FORBIDDEN, "Only whoever is at this computer answers.\n");
    }
    let Ok(act) = serde_json::from_value::<Act>(given.act.into()) else { return (StatusCode::BAD_REQUEST, "That is no answer.\n") };
    // Less may be wanted from anywhere.
    if matches!(act, Act::Agree | Act::On) {
        let at = page.at;
        let afar = tokio::task::spawn_blocking(move || super::seat::is_from_afar(from, at)).await.unwrap_or(true);
        if afar {
            return (StatusCode::FORBIDDEN, "Only a user at this computer can agree. This login came from another computer.\n");
        }
    }
    let terminal = crate::facts::logins().unwrap_or_default().into_iter().find(|l| l.account == account).map(|l| l.terminal);
    let console = terminal.filter(|t| !t.is_empty()).map_or("page".into(), |t| format!("{t} (page)"));
    match page.desk.act(&given.id, act, Witness { account, console }) {
        Taken::Yes => (StatusCode::OK, "Taken.\n"),
        Taken::Late => (StatusCode::CONFLICT, "That was answered already, or is over.\n"),
        Taken::OwnAccount => {
            (StatusCode::FORBIDDEN, "Whoever asks works in this account now: answer it as another user of this computer.\n")
        }
    }
}

/// Something is said to whoever is connected.
async fn say(
    Own(page): Own<Arc<Page>>,
    ConnectInfo(from): ConnectInfo<SocketAddr>,
    Json(given): Json<Saying>,
) -> (StatusCode, &'static str) {
    if !page.who(from).1 {
        return (StatusCode::FORBIDDEN, "Only whoever is at this computer may do that.\n");
    }
    let text: String = given.text.trim().chars().take(LONGEST_SAID).collect();
    if text.is_empty() || page.desk.say(&given.id, text) {
        (StatusCode::OK, "Said.\n")
    } else {
        (StatusCode::CONFLICT, "Nobody hears it any more.\n")
    }
}

/// The picture that somebody draws on: for those alone who may answer.
async fn picture(Own(page): Own<Arc<Page>>, ConnectInfo(from): ConnectInfo<SocketAddr>, Query(of): Query<Of>) -> Response {
    let png = page.desk.picture(&of.id).filter(|_| page.who(from).1);
    match png {
        Some(png) => ([(header::CONTENT_TYPE, "image/png"), (header::CACHE_CONTROL, "no-store")], png.to_vec()).into_response(),
        None => StatusCode::NOT_FOUND.into_response(),
    }
}

/// The PIN of a visit, typed by whoever sits here: the service says whether it is right.
async fn pin(Own(page): Own<Arc<Page>>, ConnectInfo(from): ConnectInfo<SocketAddr>, Json(given): Json<Pin>) -> (StatusCode, String) {
    let (_, may) = page.who(from);
    if !may {
        return (StatusCode::FORBIDDEN, "Only whoever is at this computer may do that.\n".into());
    }
    if given.pin.len() > LONGEST_PIN {
        return (StatusCode::BAD_REQUEST, "That is no PIN.\n".into());
    }
    let (answer, answered) = oneshot::channel();
    let silent = || (StatusCode::SERVICE_UNAVAILABLE, "The service cannot be reached from this computer now. Try again.\n".into());
    if page.pins.try_send(Typed { pin: given.pin, answer }).is_err() {
        return silent();
    }
    match tokio::time::timeout(SAYS, answered).await {
        Ok(Ok((right, text))) => (if right { StatusCode::OK } else { StatusCode::UNAUTHORIZED }, text + "\n"),
        _ => silent(),
    }
}
