//! PINs for visits and for machines.

use super::caller::Caller;
use super::problem::Problem;
use crate::service::App;
use crate::visits::{self, Arrived};
use aerie_api::{GivenPin, IssuedPin, NewPin, PinTaken, PinView, VisitPass};
use aerie_core::directory::Act;
use aerie_core::evidence::EventKind;
use aerie_core::visit::Device;
use aerie_store::Pin;
use axum::Json;
use axum::extract::{ConnectInfo, Path, State};
use axum::http::StatusCode;
use jiff::Timestamp;
use std::net::SocketAddr;
use std::sync::Arc;

/// PINs that are listed.
const LISTED: u32 = 500;
/// PINs of one person that are open at a time.
pub(super) const MOST_OPEN: usize = 20;
/// Longest note.
pub(super) const LONGEST_NOTE: usize = 200;

fn view(pin: &Pin, now: Timestamp) -> PinView {
    let state = match () {
        () if pin.state.used.is_some() => "used",
        () if pin.state.is_live(now) => "open",
        () if pin.state.tries_left == 0 => "tried out",
        () => "over",
    };
    PinView {
        id: pin.id.clone(),
        machine: pin.machine.clone(),
        note: pin.note.clone(),
        issued_by: pin.issued_by.clone(),
        state: state.into(),
        tries_left: u32::from(pin.state.tries_left),
        made: pin.state.made,
        ends: pin.state.ends,
    }
}

/// Whether the caller may see a PIN: their own, and those of machines in their scope.
fn sees(app: &App, caller: &Caller, pin: &Pin) -> bool {
    pin.issued_by == caller.person.name || pin.machine.as_deref().is_some_and(|m| caller.sees_machine(app, m)) || caller.administers()
}

/// PINs, newest first: remaining tries and time, never the digits.
#[utoipa::path(get, path = "/pins", operation_id = "pins", responses((status = 200, body = Vec<PinView>)))]
pub(super) async fn list(State(app): State<Arc<App>>, caller: Caller) -> Result<Json<Vec<PinView>>, Problem> {
    let all = app.store.pins(LISTED).await?;
    Ok(Json(all.iter().filter(|p| sees(&app, &caller, p)).map(|p| view(p, caller.now)).collect()))
}

fn note_of(text: &str) -> Result<String, Problem> {
    let note = aerie_core::diagnostic::printable(text.trim());
    if note.chars().count() > LONGEST_NOTE {
        Err(Problem::not_good(format!("A note has at most {LONGEST_NOTE} characters.")))
    } else {
        Ok(note.to_string())
    }
}

/// Issue a one-time PIN for a visit. Its digits are shown once.
#[utoipa::path(post, path = "/pins", operation_id = "issuePin", request_body = NewPin, responses((status = 200, body = IssuedPin), (status = 403), (status = 422)))]
pub(super) async fn issue(State(app): State<Arc<App>>, caller: Caller, Json(given): Json<NewPin>) -> Result<Json<IssuedPin>, Problem> {
    if caller.within(Act::IssuePins).is_none() {
        return Err(Problem::not_allowed("Only technicians and administrators issue PINs."));
    }
    let helps = || visits::queues(&app).iter().any(|q| visits::may_help(&app, &caller.person.name, &q.name));
    if !caller.administers() && !helps() {
        return Err(Problem::not_allowed("No rule lets you help in a queue, so you cannot issue PINs."));
    }
    let open = app.store.open_pins(caller.now).await?;
    if open.iter().filter(|p| p.issued_by == caller.person.name).count() >= MOST_OPEN {
        return Err(Problem::not_good(format!("You have {MOST_OPEN} open PINs: withdraw one, or wait.")));
    }
    let (digits, pin) =
        app.identity.issue_pin(None, &note_of(&given.note)?, &caller.person.name, &app.settings().pins(), caller.now).await?;
    app.log
        .append(caller.event(EventKind::PinIssued).says(format!("{} issued a PIN.", caller.person.name)).with("pin", pin.id.clone()))
        .await?;
    app.tell("pins");
    let link = format!("{}/visit/{}", app.address(), pin.id);
    Ok(Json(IssuedPin { pin: digits.to_string(), link: Some(link), about: view(&pin, caller.now) }))
}

/// Withdraw a PIN.
#[utoipa::path(delete, path = "/pins/{id}", operation_id = "withdrawPin", params(("id" = String, Path)), responses((status = 204), (status = 404)))]
pub(super) async fn withdraw(State(app): State<Arc<App>>, caller: Caller, Path(id): Path<String>) -> Result<StatusCode, Problem> {
    let missing = || Problem::not_found("There is no such PIN, or it is not yours.");
    let pin = app.store.pin(&id).await?.filter(|p| p.issued_by == caller.person.name || caller.administers()).ok_or_else(missing)?;
    if pin.issued_by != caller.person.name {
        caller.must_be_fresh()?;
    }
    app.store.remove_pin(&pin.id).await?;
    app.log.append(caller.event(EventKind::PinIssued).says(format!("{} withdrew a PIN.", caller.person.name)).with("pin", id)).await?;
    app.tell("pins");
    Ok(StatusCode::NO_CONTENT)
}

/// Give a machine a standing PIN, for access when nobody is there. Its digits are shown once; an earlier one is dead.
#[utoipa::path(put, path = "/machines/{name}/pin", operation_id = "setMachinePin", params(("name" = String, Path)), request_body = NewPin, responses((status = 200, body = IssuedPin), (status = 403), (status = 404)))]
pub(super) async fn set_standing(
    State(app): State<Arc<App>>,
    caller: Caller,
    Path(name): Path<String>,
    Json(given): Json<NewPin>,
) -> Result<Json<IssuedPin>, Problem> {
    let rules = app.rules.now();
    let seen = caller.within(Act::ManageMachines).ok_or_else(|| Problem::not_allowed("Only administrators give machines a PIN."))?;
    caller.must_be_fresh()?;
    let machine = rules.policy.directory().machine(&name).filter(|_| seen.machine(rules.policy.directory(), &name));
    let machine = machine.ok_or_else(|| Problem::not_found("There is no such machine, or it is not yours to look after."))?;
    let note = note_of(&given.note)?;
    let (digits, pin) = app.identity.issue_pin(Some(&machine.name), &note, &caller.person.name, &app.settings().pins(), caller.now).await?;
    let says = format!("{} gave {name} a standing PIN.", caller.person.name);
    app.log.append(caller.event(EventKind::PinIssued).machine(&name).says(says).with("pin", pin.id.clone())).await?;
    app.tell("pins");
    Ok(Json(IssuedPin { pin: digits.to_string(), link: None, about: view(&pin, caller.now) }))
}

/// Take a machine's standing PIN away.
#[utoipa::path(delete, path = "/machines/{name}/pin", operation_id = "removeMachinePin", params(("name" = String, Path)), responses((status = 204), (status = 403), (status = 404)))]
pub(super) async fn remove_standing(State(app): State<Arc<App>>, caller: Caller, Path(name): Path<String>) -> Result<StatusCode, Problem> {
    let seen = caller.within(Act::ManageMachines).ok_or_else(|| Problem::not_allowed("Only administrators take a machine's PIN away."))?;
    caller.must_be_fresh()?;
    let within = seen.machine(app.rules.now().policy.directory(), &name);
    let pin = app.store.standing_pin(&name).await?.filter(|_| within).ok_or_else(|| Problem::not_found("It has no PIN."))?;
    app.store.remove_pin(&pin.id).await?;
    let says = format!("{} took the standing PIN of {name} away.", caller.person.name);
    app.log.append(caller.event(EventKind::PinIssued).machine(&name).says(says).with("pin", pin.id)).await?;
    app.tell("pins");
    Ok(StatusCode::NO_CONTENT)
}

/// Type a PIN.
///
/// For the person who was read one; they have no account. A right one is used up.
#[utoipa::path(post, path = "/pins/enter", operation_id = "enterPin", request_body = GivenPin, responses((status = 200, body = PinTaken), (status = 401), (status = 429)))]
pub(super) async fn enter(
    State(app): State<Arc<App>>,
    ConnectInfo(from): ConnectInfo<SocketAddr>,
    Json(given): Json<GivenPin>,
) -> Result<Json<PinTaken>, Problem> {
    let from = from.ip().to_canonical();
    let device = Device { address: from.to_string(), ..Device::default() };
    match visits::arrive(&app, given.visit.as_deref(), &given.pin, from, device).await? {
        Arrived::Right(pin, visit) => {
            let rules = app.rules.now();
            let by = rules.policy.directory().person(&pin.issued_by);
            let (name, organisation) = by.map_or((String::new(), String::new()), |p| (p.shown().into(), p.organisation.clone()));
            let pass = match visit {
                Some(visit) => Some(VisitPass { token: visits::give_pass(&app, &visit.id).await?, visit: visit.id }),
                None => None,
            };
            Ok(Json(PinTaken { by: name, organisation, note: pin.note, pass }))
        }
        Arrived::Wrong => Err(Problem::wrong_pin()),
        Arrived::Wait(seconds) => Err(Problem::wait(seconds)),
    }
}
