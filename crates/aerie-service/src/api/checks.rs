//! Whether machines are ready, what is on them, and what they must be told.

use super::caller::Caller;
use super::machines::{managed, why};
use super::problem::Problem;
use super::proposals::Act as Proposed;
use crate::machines::{LinkError, accept as accept_key, check, discover, print_of, shown_key};
use crate::second;
use crate::service::App;
use aerie_api::{AcceptHostKey, CheckLine, CheckMany, CheckView, HostKeyView, MachineCheckView, TrustView};
use aerie_core::directory::selector::{Selector, Subject};
use aerie_core::directory::{Act, Machine};
use aerie_core::evidence::EventKind;
use aerie_core::inventory::{CheckOutcome, CheckResult, sentence_of};
use axum::Json;
use axum::body::Body;
use axum::extract::{Path, State};
use axum::http::{StatusCode, header};
use axum::response::{IntoResponse as _, Response};
use jiff::Timestamp;
use std::convert::Infallible;
use std::sync::Arc;
use tokio::sync::{Semaphore, mpsc};
use tokio_stream::StreamExt as _;
use tokio_stream::wrappers::ReceiverStream;

/// Machines that are checked at a time.
const AT_ONCE: usize = 32;
/// Machines of one call.
const MOST: usize = 5_000;

pub(super) fn view(machine: &str, at: Timestamp, results: &[CheckResult]) -> MachineCheckView {
    MachineCheckView {
        machine: machine.into(),
        sentence: sentence_of(machine, results),
        ready: results.iter().all(|r| r.outcome != CheckOutcome::Fail),
        at,
        results: results.iter().map(CheckView::from).collect(),
    }
}

/// Checks machines beside each other, and tells each result as it comes, a line of JSON each.
fn checking(app: Arc<App>, machines: Vec<Machine>) -> Response {
    let (send, receive) = mpsc::channel::<CheckLine>(1024);
    tokio::spawn(async move {
        let places = Arc::new(Semaphore::new(AT_ONCE));
        let mut running = tokio::task::JoinSet::new();
        for machine in machines {
            let Ok(place) = places.clone().acquire_owned().await else { return };
            // Whoever asked has gone.
            if send.is_closed() {
                return;
            }
            let (app, send) = (app.clone(), send.clone());
            running.spawn(async move {
                let name = machine.name.clone();
                let each = |r: &CheckResult| {
                    // Whoever reads too slowly misses steps, and gets the whole at the end.
                    let _ = send.try_send(CheckLine::Step { machine: name.clone(), result: r.into() });
                };
                let line = match check(&app, &machine, each).await {
                    Ok(results) => CheckLine::Done(view(&machine.name, Timestamp::now(), &results)),
                    Err(e) => {
                        tracing::error!(error = %e, "a check could not be kept");
                        CheckLine::Failed { machine: machine.name.clone(), why: "What came of it could not be kept.".into() }
                    }
                };
                let _ = send.send(line).await;
                drop(place);
            });
        }
        while running.join_next().await.is_some() {}
    });
    let lines = ReceiverStream::new(receive).map(|line| Ok::<_, Infallible>(serde_json::to_string(&line).unwrap_or_default() + "\n"));
    ([(header::CONTENT_TYPE, "application/x-ndjson")], Body::from_stream(lines)).into_response()
}

/// Check whether a machine is ready: each step as it comes, then the whole (NDJSON).
#[utoipa::path(post, path = "/machines/{name}/check", operation_id = "checkMachine", params(("name" = String, Path)), responses((status = 200, body = CheckLine, content_type = "application/x-ndjson"), (status = 403), (status = 404)))]
pub(super) async fn one(State(app): State<Arc<App>>, caller: Caller, Path(name): Path<String>) -> Result<Response, Problem> {
    let machine = managed(&app, &caller, &name)?;
    let event = caller.event(EventKind::MachineChecked).machine(&name);
    app.log.append(event.says(format!("{} checked {name}.", caller.person.name))).await?;
    Ok(checking(app, vec![machine]))
}

/// Check many machines beside each other (NDJSON).
#[utoipa::path(post, path = "/machine-checks", operation_id = "checkMachines", request_body = CheckMany, responses((status = 200, body = CheckLine, content_type = "application/x-ndjson"), (status = 403), (status = 422)))]
pub(super) async fn many(State(app): State<Arc<App>>, caller: Caller, Json(given): Json<CheckMany>) -> Result<Response, Problem> {
    let seen = caller.within(Act::ManageMachines).ok_or_else(|| Problem::not_allowed("Only administrators check machines."))?;
    let text = given.machines.as_deref().unwrap_or("*");
    let selector = Selector::parse(text, Subject::Machines).map_err(|e| Problem::not_good(format!("{}.", e.message)))?;
    let rules = app.rules.now();
    let directory = rules.policy.directory();
    let chosen = directory.select_machines(&selector);
    let machines: Vec<Machine> = directory
        .machines()
        .iter()
        .enumerate()
        .filter(|(i, m)| chosen.contains(*i) && seen.machine(directory, &m.name))
        .map(|(_, m)| m.clone())
        .collect();
    if machines.is_empty() || machines.len() > MOST {
        return Err(Problem::not_good(format!("This selects {} machines: 1 to {MOST} can be checked at once.", machines.len())));
    }
    let event = caller.event(EventKind::MachineChecked);
    let what = aerie_core::wording::count(machines.len() as u64, "machine");
    app.log.append(event.says(format!("{} checked {what}.", caller.person.name))).await?;
    Ok(checking(app.clone(), machines))
}

/// What the SSH server of a machine must be told, so that Aerie's certificates let in.
#[utoipa::path(get, path = "/machines/{name}/trust", operation_id = "machineTrust", params(("name" = String, Path)), responses((status = 200, body = TrustView), (status = 403), (status = 404)))]
pub(super) async fn trust(State(app): State<Arc<App>>, caller: Caller, Path(name): Path<String>) -> Result<Json<TrustView>, Problem> {
    let machine = managed(&app, &caller, &name)?;
    let authorities = app.keys.user_authority_lines();
    let lines = authorities.join("\n");
    let script = format!(
        "# On {}, as root:\ncat > /etc/ssh/aerie_authorities <<'END'\n{lines}\nEND\nchmod 644 /etc/ssh/aerie_authorities\n\
         grep -q '^TrustedUserCAKeys /etc/ssh/aerie_authorities' /etc/ssh/sshd_config || \\\n  echo 'TrustedUserCAKeys /etc/ssh/aerie_authorities' >> /etc/ssh/sshd_config\n\
         sshd -t && systemctl reload ssh\n",
        machine.name
    );
    Ok(Json(TrustView { authorities, script }))
}

fn unreachable(machine: &str, e: &LinkError) -> Problem {
    Problem::unready(format!("{machine}: {e}."))
}

/// The host key that a machine shows now, beside the pinned one.
#[utoipa::path(get, path = "/machines/{name}/host-key", operation_id = "hostKey", params(("name" = String, Path)), responses((status = 200, body = HostKeyView), (status = 403), (status = 404), (status = 502)))]
pub(super) async fn host_key(State(app): State<Arc<App>>, caller: Caller, Path(name): Path<String>) -> Result<Json<HostKeyView>, Problem> {
    let machine = managed(&app, &caller, &name)?;
    let shown = print_of(&shown_key(&app, &machine).await.map_err(|e| unreachable(&name, &e))?);
    let pinned = machine.host_key.as_deref().map(print_of);
    let sentence = match &pinned {
        Some(p) if *p == shown => format!("{name} shows the pinned key."),
        Some(p) => format!("{name} shows {shown}; pinned is {p}. Compare it at the machine itself before you accept it."),
        None => format!("{name} shows {shown}; none is pinned yet. Compare it at the machine itself before you accept it."),
    };
    Ok(Json(HostKeyView { pinned, shown, sentence }))
}

/// Pin the host key that a machine shows now, in place of the one so far. Whoever accepts it has compared it at the machine.
#[utoipa::path(post, path = "/machines/{name}/host-key", operation_id = "acceptHostKey", params(("name" = String, Path)), request_body = AcceptHostKey, responses((status = 204), (status = 403), (status = 404), (status = 409), (status = 502)))]
pub(super) async fn accept_host_key(
    State(app): State<Arc<App>>,
    caller: Caller,
    Path(name): Path<String>,
    Json(given): Json<AcceptHostKey>,
) -> Result<StatusCode, Problem> {
    caller.must_be_fresh()?;
    let machine = managed(&app, &caller, &name)?;
    let why = why(&given.why)?;
    let shown = shown_key(&app, &machine).await.map_err(|e| unreachable(&name, &e))?;
    if print_of(&shown) != given.fingerprint {
        return Err(Problem::conflict(format!("{name} shows {} now, and not the key that you compared.", print_of(&shown))));
    }
    // What is kept for it would be shown to whoever holds the new key.
    let kept = app.store.vault().await?.iter().any(|r| r.machine == name);
    if kept && second::is_needed(&app, caller.now) {
        let print = given.fingerprint;
        let sentence =
            format!("{} wants to accept {print} as the host key of {name}, for which credentials are kept: {why}", caller.person.name);
        let act = Proposed::HostKey { machine: name, fingerprint: print, why };
        let proposal = act.propose(&app, &caller.person.name, sentence, caller.now).await?;
        return Err(Problem::own_rights(format!(
            "Credentials are kept for this machine: a second administrator must agree (proposal {}).",
            proposal.id
        )));
    }
    accept_key(&app, &machine, &shown, &caller.person.name, &why).await?;
    Ok(StatusCode::NO_CONTENT)
}

/// Accepts a host key to which two administrators agreed, if the machine still shows it; what is kept for it counts on.
pub(super) async fn accept(app: &Arc<App>, caller: &Caller, name: &str, fingerprint: &str, why: &str) -> Result<(), Problem> {
    let machine = managed(app, caller, name)?;
    let shown = shown_key(app, &machine).await.map_err(|e| unreachable(name, &e))?;
    if print_of(&shown) != fingerprint {
        return Err(Problem::conflict(format!("{name} shows {} now, and not the key that was proposed.", print_of(&shown))));
    }
    accept_key(app, &machine, &shown, &caller.person.name, why).await?;
    Ok(crate::vault::bind_anew(app, name, &caller.person.name).await?)
}

/// Look for accounts and authorised keys on a machine. Keys that nobody owns become findings.
#[utoipa::path(post, path = "/machines/{name}/discover", operation_id = "discover", params(("name" = String, Path)), responses((status = 204), (status = 403), (status = 404), (status = 502)))]
pub(super) async fn look(State(app): State<Arc<App>>, caller: Caller, Path(name): Path<String>) -> Result<StatusCode, Problem> {
    let machine = managed(&app, &caller, &name)?;
    // Root sees the keys of all accounts.
    let account = machine.accounts.iter().find(|a| *a == "root").or(machine.accounts.first());
    let account = account.ok_or_else(|| Problem::unready(format!("{name} has no account that may be used.")))?;
    discover(&app, &machine, account).await.map_err(|e| unreachable(&name, &e))?;
    let event = caller.event(EventKind::MachineChecked).machine(&name);
    app.log.append(event.says(format!("{} looked for accounts and keys on {name}.", caller.person.name))).await?;
    Ok(StatusCode::NO_CONTENT)
}
