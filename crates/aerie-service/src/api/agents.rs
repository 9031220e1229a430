//! Agents: their codes, what they may reach for others, and the call that they make.

use super::caller::{Caller, address};
use super::machines::{managed, why};
use super::problem::Problem;
use crate::agents::{Exporter, attend};
use crate::keys::random;
use crate::service::App;
use aerie_api::{AcceptAgents, CodeView, IssuedCode, NewCode, Reason, RelayEntries};
use aerie_core::audit::{Finding, FindingKind};
use aerie_core::directory::Act;
use aerie_core::evidence::{EventKind, hex};
use aerie_core::settings::Setting;
use aerie_core::tunnel::AllowList;
use aerie_core::tunnel::greeting::EnrolmentCode;
use aerie_core::wording::count;
use aerie_store::CodeRow;
use aerie_tunnel::websocket::WebSocketStream;
use aerie_tunnel::websocket::tungstenite::handshake::derive_accept_key;
use aerie_tunnel::websocket::tungstenite::protocol::Role;
use axum::Json;
use axum::extract::{Path, Request, State};
use axum::http::{HeaderMap, StatusCode, header};
use axum::response::{IntoResponse as _, Response};
use hyper::upgrade::{OnUpgrade, Upgraded};
use hyper_util::rt::TokioIo;
use jiff::SignedDuration;
use std::sync::Arc;
use std::time::Duration;

/// Machines that may come with one code of a site.
const MOST_USES: u32 = 10_000;
/// Longest life of a code.
const MOST_HOURS: u32 = 720;
/// Codes that are good at a time.
const MOST_CODES: usize = 10_000;
/// Longest that agents are taken back without their tickets, in minutes.
const MOST_MINUTES: u32 = 60;

fn view(c: &CodeRow) -> CodeView {
    CodeView {
        id: c.id.clone(),
        machine: c.machine.clone(),
        site: c.site.clone(),
        labels: c.labels.clone(),
        uses_left: c.uses_left,
        made: c.made,
        made_by: c.made_by.clone(),
        expires: c.expires,
    }
}

/// Issue an enrolment code: for one machine, or for any machine of a site. It is shown once.
#[utoipa::path(post, path = "/enrolment-codes", operation_id = "issueCode", request_body = NewCode, responses((status = 200, body = IssuedCode), (status = 403), (status = 404), (status = 422)))]
pub(super) async fn issue(State(app): State<Arc<App>>, caller: Caller, Json(given): Json<NewCode>) -> Result<Json<IssuedCode>, Problem> {
    let seen = caller.within(Act::ManageMachines).ok_or_else(|| Problem::not_allowed("Only administrators issue enrolment codes."))?;
    caller.must_be_fresh()?;
    let (machine, site, uses) = match (&given.machine, &given.site) {
        (Some(name), None) => {
            let machine = managed(&app, &caller, name)?;
            (Some(machine.name), machine.site, 1)
        }
        (None, Some(site)) if seen.is_everything() => (None, why(site)?, given.uses.unwrap_or(1)),
        (None, Some(_)) => return Err(Problem::not_allowed("Only administrators without a scope issue codes for a site.")),
        _ => return Err(Problem::not_good("A code is for a machine or for a site.")),
    };
    let hours = given.hours.unwrap_or(u32::try_from(app.settings().number(Setting::CodeHours)).unwrap_or(24));
    let plain =
        |l: &String| !l.is_empty() && l.len() <= 64 && !l.contains(char::is_whitespace) && aerie_core::diagnostic::printable(l) == *l;
    if !(1..=MOST_USES).contains(&uses) || !(1..=MOST_HOURS).contains(&hours) || given.labels.len() > 50 || !given.labels.iter().all(plain)
    {
        return Err(Problem::not_good(format!(
            "A code is good for 1 to {MOST_USES} machines and 1 to {MOST_HOURS} hours; labels are words."
        )));
    }
    if app.store.codes(caller.now).await?.len() >= MOST_CODES {
        return Err(Problem::not_good("Too many codes are out: withdraw some."));
    }
    let server = app.agent_address();
    if server.is_empty() {
        return Err(Problem::not_good("Agents come over TLS: start the service with --https, or set `agent-address`."));
    }
    let key = app.keys.agent_keys().first().map(|k| hex(k.verifying_key().as_bytes())).unwrap_or_default();
    let whom = machine.clone().unwrap_or_else(|| format!("site={site}"));
    let code =
        EnrolmentCode::new(&whom, &server, random()?, &key).ok_or_else(|| Problem::not_good("The service has no key for agents."))?;
    let row = CodeRow {
        id: super::new_id(caller.now),
        hash: app.keys.token_hash(&format!("enrol {}", code.secret)),
        machine,
        site,
        labels: given.labels,
        uses_left: uses,
        made: caller.now,
        made_by: caller.person.name.clone(),
        expires: caller.now + SignedDuration::from_hours(i64::from(hours)),
    };
    let whom = row.machine.clone().unwrap_or_else(|| format!("{} of the site {}", count(uses.into(), "machine"), row.site));
    let mut event = caller.event(EventKind::CodeIssued).says(format!("{} issued an enrolment code for {whom}.", caller.person.name));
    if let Some(machine) = &row.machine {
        event = event.machine(machine);
    }
    app.log.append(event.with("code", row.id.clone()).with("hours", hours)).await?;
    app.store.add_code(&row).await?;
    app.tell("machines");
    let steps = vec![
        format!("On {whom}, put the program `aerie` where programs are, and run:"),
        "aerie agent enrol".into(),
        "Paste the code when it is asked for; it says for which machine it is before anything is done.".into(),
        "aerie agent run".into(),
    ];
    Ok(Json(IssuedCode { code: code.text(), about: view(&row), steps }))
}

/// Codes that are good: for whom, until when, never the codes themselves.
#[utoipa::path(get, path = "/enrolment-codes", operation_id = "codes", responses((status = 200, body = Vec<CodeView>), (status = 403)))]
pub(super) async fn codes(State(app): State<Arc<App>>, caller: Caller) -> Result<Json<Vec<CodeView>>, Problem> {
    let seen = caller.within(Act::ManageMachines).ok_or_else(|| Problem::not_allowed("Only administrators see enrolment codes."))?;
    let rules = app.rules.now();
    let sees = |c: &&CodeRow| c.machine.as_ref().map_or(seen.is_everything(), |m| seen.machine(rules.policy.directory(), m));
    Ok(Json(app.store.codes(caller.now).await?.iter().filter(sees).map(view).collect()))
}

/// Withdraw a code.
#[utoipa::path(delete, path = "/enrolment-codes/{id}", operation_id = "withdrawCode", params(("id" = String, Path)), responses((status = 204), (status = 403), (status = 404)))]
pub(super) async fn withdraw(State(app): State<Arc<App>>, caller: Caller, Path(id): Path<String>) -> Result<StatusCode, Problem> {
    let seen = caller.within(Act::ManageMachines).ok_or_else(|| Problem::not_allowed("Only administrators withdraw enrolment codes."))?;
    let rules = app.rules.now();
    let known = app.store.codes(caller.now).await?.into_iter().find(|c| c.id == id);
    let known = known.filter(|c| c.machine.as_ref().map_or(seen.is_everything(), |m| seen.machine(rules.policy.directory(), m)));
    let code = known.ok_or_else(|| Problem::not_found("There is no such code, or it is over."))?;
    app.store.remove_code(&code.id).await?;
    app.log
        .append(caller.event(EventKind::CodeIssued).says(format!("{} withdrew an enrolment code.", caller.person.name)).with("code", id))
        .await?;
    app.tell("machines");
    Ok(StatusCode::NO_CONTENT)
}

/// Revoke the agent of a machine: it is cut off at once, with every session through it, and its key never comes again.
#[utoipa::path(post, path = "/machines/{name}/agent/revoke", operation_id = "revokeAgent", params(("name" = String, Path)), request_body = Reason, responses((status = 204), (status = 403), (status = 404)))]
pub(super) async fn revoke(
    State(app): State<Arc<App>>,
    caller: Caller,
    Path(name): Path<String>,
    Json(given): Json<Reason>,
) -> Result<StatusCode, Problem> {
    caller.must_be_fresh()?;
    let machine = managed(&app, &caller, &name)?;
    let why = why(&given.why)?;
    let known = app.agents.of(&machine.name).ok_or_else(|| Problem::not_found("It has no agent."))?;
    let event = caller.event(EventKind::AgentChanged).machine(&name);
    app.log.append(event.says(format!("{} revoked the agent of {name}: {why}", caller.person.name)).with("key", known.row().key)).await?;
    app.store.revoke_agent(&name, &caller.person.name, caller.now).await?;
    app.agents.remove(&name);
    let copies = Finding::id_of(FindingKind::AgentCloned, &name);
    if app.store.settle_finding(&copies, &caller.person.name, &why, caller.now).await? {
        let event = caller.event(EventKind::FindingSettled).machine(&name);
        app.note(event.says(format!("{} settled the finding about copies of the agent of {name}: it was revoked.", caller.person.name)))
            .await;
    }
    app.tell("machines");
    Ok(StatusCode::NO_CONTENT)
}

/// Say what the agent of a machine may reach for other machines of its site. Its own list must allow it as well.
#[utoipa::path(put, path = "/machines/{name}/agent/relay", operation_id = "setRelay", params(("name" = String, Path)), request_body = RelayEntries, responses((status = 204), (status = 403), (status = 404), (status = 422)))]
pub(super) async fn relay(
    State(app): State<Arc<App>>,
    caller: Caller,
    Path(name): Path<String>,
    Json(given): Json<RelayEntries>,
) -> Result<StatusCode, Problem> {
    caller.must_be_fresh()?;
    let machine = managed(&app, &caller, &name)?;
    AllowList::parse(given.entries.iter().map(String::as_str)).map_err(|e| Problem::not_good(format!("{e}.")))?;
    let known = app.agents.of(&machine.name).ok_or_else(|| Problem::not_found("It has no agent."))?;
    let what = if given.entries.is_empty() { "nothing".into() } else { given.entries.join(", ") };
    let event = caller.event(EventKind::AgentChanged).machine(&name);
    app.log.append(event.says(format!("{} lets the agent of {name} reach {what} for others.", caller.person.name))).await?;
    app.store.set_relay(&name, &given.entries).await?;
    known.set_relay(given.entries);
    app.tell("machines");
    Ok(StatusCode::NO_CONTENT)
}

/// Take each agent back once, for some minutes, though the service does not know its ticket: after a backup was put back.
#[utoipa::path(post, path = "/agents/accept", operation_id = "acceptAgents", request_body = AcceptAgents, responses((status = 204), (status = 403), (status = 422)))]
pub(super) async fn accept(State(app): State<Arc<App>>, caller: Caller, Json(given): Json<AcceptAgents>) -> Result<StatusCode, Problem> {
    let seen = caller.within(Act::ManageMachines).filter(|s| s.is_everything());
    seen.ok_or_else(|| Problem::not_allowed("Only administrators without a scope take agents back."))?;
    caller.must_be_fresh()?;
    let why = why(&given.why)?;
    if given.minutes > MOST_MINUTES {
        return Err(Problem::not_good(format!("Agents are taken back for at most {MOST_MINUTES} minutes.")));
    }
    let said = match given.minutes {
        0 => format!("{} ended the taking back of agents: {why}", caller.person.name),
        n => format!("{} lets each agent come back once without its ticket, for {}: {why}", caller.person.name, count(n.into(), "minute")),
    };
    app.log.append(caller.event(EventKind::AgentChanged).says(said)).await?;
    app.agents.take_back(Duration::from_secs(u64::from(given.minutes) * 60));
    Ok(StatusCode::NO_CONTENT)
}

/// What a browser or agent must send to become a WebSocket (RFC 6455 section 4.2.1), and the key of its answer.
pub(super) fn upgrade_of(request: &mut Request) -> Result<(OnUpgrade, String), Problem> {
    let headers = request.headers();
    let has = |name: header::HeaderName, word: &str| {
        let text = headers.get(name).and_then(|h| h.to_str().ok()).unwrap_or_default().to_ascii_lowercase();
        text.split(',').any(|t| t.trim() == word)
    };
    let good = has(header::CONNECTION, "upgrade") && has(header::UPGRADE, "websocket") && has(header::SEC_WEBSOCKET_VERSION, "13");
    let key = headers.get(header::SEC_WEBSOCKET_KEY).map(|k| derive_accept_key(k.as_bytes())).filter(|_| good);
    let key = key.ok_or_else(|| Problem::bad_request("This call becomes a WebSocket."))?;
    let upgrade = request.extensions_mut().remove::<OnUpgrade>();
    Ok((upgrade.ok_or_else(|| Problem::bad_request("This call becomes a WebSocket, over HTTP/1.1."))?, key))
}

/// The answer with which a connection becomes a WebSocket.
pub(super) fn switching(key: &str) -> Response {
    let mut headers = HeaderMap::new();
    for (name, value) in [(header::CONNECTION, "upgrade"), (header::UPGRADE, "websocket"), (header::SEC_WEBSOCKET_ACCEPT, key)] {
        if let Ok(value) = value.parse() {
            headers.insert(name, value);
        }
    }
    (StatusCode::SWITCHING_PROTOCOLS, headers).into_response()
}

/// The WebSocket, once the answer went out.
pub(super) async fn socket(upgrade: OnUpgrade) -> Option<WebSocketStream<TokioIo<Upgraded>>> {
    let upgraded = tokio::time::timeout(std::time::Duration::from_secs(10), upgrade).await.ok()?.ok()?;
    Some(WebSocketStream::from_raw_socket(TokioIo::new(upgraded), Role::Server, Some(aerie_tunnel::socket_config())).await)
}

/// The connection of an agent: a WebSocket, over TLS 1.3 alone. See docs/formats/agent.md.
#[utoipa::path(get, path = "/agents/connect", operation_id = "connectAgent", responses((status = 101, description = "The tunnel's protocol begins"), (status = 400)))]
pub(super) async fn connect(State(app): State<Arc<App>>, mut request: Request) -> Result<Response, Problem> {
    let exporter = request.extensions().get::<Exporter>().copied();
    let exporter = exporter
        .ok_or_else(|| Problem::bad_request("Agents come over TLS 1.3, to the service itself: a proxy between must pass TLS on."))?;
    let from = address(request.extensions());
    let (upgrade, key) = upgrade_of(&mut request)?;
    tokio::spawn(async move {
        if let Some(socket) = socket(upgrade).await {
            attend(app, socket, exporter, from).await;
        }
    });
    Ok(switching(&key))
}
