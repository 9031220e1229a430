//! A small ticket desk for the demo and the tests: incidents with work notes and comments, from which visits are started and to which their
//! records come back. It stands in for whatever an organisation has; it keeps nothing.

use aerie_api::NewVisit;
use aerie_client::Client;
use aerie_core::factor::message::{Message, content_digest};
use axum::body::Bytes;
use axum::extract::{Path, State};
use axum::http::{HeaderMap, StatusCode};
use axum::response::Html;
use axum::routing::{get, post};
use axum::{Json, Router};
use jiff::Timestamp;
use serde::{Deserialize, Serialize};
use std::net::{Ipv4Addr, SocketAddr};
use std::sync::{Arc, Mutex, MutexGuard, PoisonError};
use tokio::net::TcpListener;

/// An incident.
#[derive(Debug, Clone, Serialize, Deserialize)]
pub struct Incident {
    /// Number.
    pub number: String,
    /// Who has it.
    pub person: String,
    /// Their mail address.
    pub mail: String,
    /// What it is.
    pub about: String,
    /// What those who work on it wrote, or was written for them.
    pub work_notes: Vec<String>,
    /// What the person sees.
    pub comments: Vec<String>,
}

/// A visit that was started.
#[derive(Debug, Clone, Serialize, Deserialize)]
pub struct Started {
    /// To be read out.
    pub pin: String,
    /// Where it is entered.
    pub link: String,
    /// The visit.
    pub visit: String,
}

struct Inner {
    incidents: Mutex<Vec<Incident>>,
    taken: Mutex<std::collections::HashSet<String>>,
    address: SocketAddr,
    /// The key of the service: what it did not sign is not taken.
    key: [u8; 32],
    service: Mutex<Option<Client>>,
}

/// The desk. Dropping it ends it.
pub struct Desk {
    /// Where it listens.
    pub address: SocketAddr,
    inner: Arc<Inner>,
    serving: tokio::task::JoinHandle<()>,
}

fn lock<T>(mutex: &Mutex<T>) -> MutexGuard<'_, T> {
    mutex.lock().unwrap_or_else(PoisonError::into_inner)
}

fn incidents() -> Vec<Incident> {
    let one = |number: &str, person: &str, mail: &str, about: &str| Incident {
        number: number.into(),
        person: person.into(),
        mail: mail.into(),
        about: about.into(),
        work_notes: vec![],
        comments: vec![],
    };
    vec![
        one("OBS-2101", "Rhea Calder", "rhea@corvid-ridge.example", "The plotter prints stripes"),
        one("OBS-2102", "Tobin Ash", "tobin@corvid-ridge.example", "Spectra do not open after the update"),
    ]
}

impl Desk {
    /// Listens on loopback. Records must be signed with this key of the service.
    ///
    /// # Errors
    /// When a port cannot be had.
    pub async fn start(key: [u8; 32]) -> std::io::Result<Self> {
        let listener = TcpListener::bind((Ipv4Addr::LOCALHOST, 0)).await?;
        let address = listener.local_addr()?;
        let inner =
            Arc::new(Inner { incidents: Mutex::new(incidents()), taken: Mutex::default(), address, key, service: Mutex::new(None) });
        let routes = Router::new()
            .route("/", get(page))
            .route("/incidents", get(list))
            .route("/incidents/{number}/visit", post(start))
            .route("/records", post(take))
            .route("/plotter", get(async || Html(PLOTTER)))
            .with_state(inner.clone());
        let serving = tokio::spawn(async move { drop(axum::serve(listener, routes).await) });
        Ok(Self { address, inner, serving })
    }

    /// From here on visits can be started: with a client of somebody who may make them.
    pub fn connect(&self, service: Client) {
        *lock(&self.inner.service) = Some(service);
    }

    /// Where the service posts records.
    pub fn records(&self) -> String {
        format!("http://{}/records", self.address)
    }
}

impl Drop for Desk {
    fn drop(&mut self) {
        self.serving.abort();
    }
}

async fn list(State(desk): State<Arc<Inner>>) -> Json<Vec<Incident>> {
    Json(lock(&desk.incidents).clone())
}

async fn start(State(desk): State<Arc<Inner>>, Path(number): Path<String>) -> Result<Json<Started>, (StatusCode, String)> {
    let incident = lock(&desk.incidents).iter().find(|i| i.number == number).cloned();
    let incident = incident.ok_or((StatusCode::NOT_FOUND, "There is no such incident.".into()))?;
    let service = lock(&desk.service).clone().ok_or((StatusCode::SERVICE_UNAVAILABLE, "Nobody is connected.".into()))?;
    let new = NewVisit {
        person: incident.person,
        mail: incident.mail,
        reason: incident.about,
        ticket: number.clone(),
        send_link: true,
        ..NewVisit::default()
    };
    let made = service.make_visit(&new).await.map_err(|e| (StatusCode::BAD_GATEWAY, e.to_string()))?;
    if let Some(i) = lock(&desk.incidents).iter_mut().find(|i| i.number == number) {
        i.work_notes.push(format!("Visit {} was started.", made.visit.id));
    }
    Ok(Json(Started { pin: made.pin, link: made.link, visit: made.visit.id }))
}

/// Takes a record, if the service signed it (RFC 9421); the same one twice is taken once.
async fn take(State(desk): State<Arc<Inner>>, headers: HeaderMap, body: Bytes) -> StatusCode {
    let header = |name: &str| headers.get(name).and_then(|h| h.to_str().ok()).unwrap_or_default();
    let (authority, digest) = (desk.address.to_string(), content_digest(&body));
    let message =
        Message { method: "POST", authority: &authority, path: "/records", query: "", authorization: "", content_digest: Some(&digest) };
    let signed = message.verify(header("signature-input"), header("signature"), &desk.key, Timestamp::now());
    let (Ok(nonce), true) = (signed, header("content-digest") == digest) else { return StatusCode::UNAUTHORIZED };
    if !lock(&desk.taken).insert(nonce) {
        return StatusCode::NO_CONTENT;
    }
    let Ok(record) = serde_json::from_slice::<serde_json::Value>(&body) else { return StatusCode::BAD_REQUEST };
    let text = |key: &str| record.get(key).and_then(|v| v.as_str()).unwrap_or_default().to_string();
    let ticket = text("ticket");
    let mut incidents = lock(&desk.incidents);
    let Some(incident) = incidents.iter_mut().find(|i| i.number == ticket) else { return StatusCode::NOT_FOUND };
    incident.work_notes.push(record.to_string());
    let closing = text("closing_notes");
    if !closing.is_empty() {
        incident.comments.push(closing);
    }
    StatusCode::NO_CONTENT
}

fn escaped(text: &str) -> String {
    text.replace('&', "&amp;").replace('<', "&lt;").replace('"', "&quot;")
}

async fn page(State(desk): State<Arc<Inner>>) -> Html<String> {
    let items: String = lock(&desk.incidents)
        .iter()
        .map(|i| {
            let lines = |all: &[String]| all.iter().map(|n| format!("<li>{}</li>", escaped(n))).collect::<String>();
            format!(
                "<section><h2>{} {}</h2><p>{} &lt;{}&gt;</p><form method=post action=\"/incidents/{}/visit\"><button>Start a visit</button></form>\
                 <h3>Comments</h3><ul>{}</ul><h3>Work notes</h3><ul class=notes>{}</ul></section>",
                escaped(&i.number),
                escaped(&i.about),
                escaped(&i.person),
                escaped(&i.mail),
                escaped(&i.number),
                lines(&i.comments),
                lines(&i.work_notes)
            )
        })
        .collect();
    Html(format!(
        "<!doctype html><meta charset=utf-8><title>Incidents</title><style>body{{font:15px sans-serif;max-width:60rem;margin:2rem auto}}\
         section{{border-top:1px solid #999;padding:.5rem 0}}.notes{{font:12px monospace;overflow-wrap:anywhere}}</style><h1>Incidents</h1>{items}"
    ))
}

/// What somebody who needs help has on their screen.
const PLOTTER: &str = "<!doctype html><meta charset=utf-8><title>What the plotter says</title>\
    <body style='font:22px sans-serif;background:#dfe8e6;padding:3rem'><h1>Plotter 3</h1><p>Queue: 4 sheets. State: <b>printing</b></p>\
    <p style='background:repeating-linear-gradient(90deg,#244 0 6px,#dfe8e6 6px 14px);height:220px'></p><p>Ribbon: not seated</p>";
