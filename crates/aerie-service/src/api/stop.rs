//! Ending sessions, locking the service down, and more time for a session.

use super::asking::stated;
use super::caller::{Administrator, Caller, FreshAdministrator};
use super::problem::Problem;
use crate::asking;
use crate::service::App;
use crate::sessions::LiveSession;
use aerie_api::{Extension, FindingView, LockdownView, StopOrder, Stopped, WhyNote};
use aerie_core::audit::FindingKind;
use aerie_core::directory::Act;
use aerie_core::evidence::{EventKind, NewEvent};
use aerie_core::session::EndReason;
use aerie_core::settings::Setting;
use aerie_core::wording::count;
use aerie_store::Lockdown;
use axum::Json;
use axum::extract::{Path, State};
use axum::http::StatusCode;
use std::sync::Arc;
use std::sync::atomic::Ordering;

/// Longest extension of a session, in minutes.
const LONGEST_EXTENSION: u32 = 720;

/// End sessions at once: one, those of a person, on a machine or by a rule, or all.
#[utoipa::path(post, path = "/stop", operation_id = "stop", request_body = StopOrder, responses((status = 200, body = Stopped), (status = 403), (status = 422)))]
pub(super) async fn stop(State(app): State<Arc<App>>, caller: Caller, Json(order): Json<StopOrder>) -> Result<Json<Stopped>, Problem> {
    let why = stated(&order.why)?;
    let seen =
        caller.within(Act::EndSessions).ok_or_else(|| Problem::not_allowed("Only administrators may do this, within their scope."))?;
    let named = [&order.session, &order.person, &order.machine, &order.rule].iter().filter(|o| o.is_some()).count();
    if named + usize::from(order.all == Some(true)) != 1 {
        return Err(Problem::not_good("Say which: a session, a person, a machine, a rule, or all."));
    }
    let what = match &order {
        StopOrder { session: Some(id), .. } => format!("the session {id}"),
        StopOrder { person: Some(p), .. } => format!("every session of {p}"),
        StopOrder { machine: Some(m), .. } => format!("every session on {m}"),
        StopOrder { rule: Some(r), .. } => format!("every session by the rule {r}"),
        StopOrder { .. } => "every session".into(),
    };
    // Only one of them is there.
    let is = |wanted: &Option<String>, has: &str| wanted.as_ref().is_none_or(|w| w == has);
    let concerned = |s: &LiveSession| {
        is(&order.session, &s.id) && is(&order.person, &s.person) && is(&order.machine, &s.machine) && is(&order.rule, &s.rule)
    };
    let rules = app.rules.now();
    let directory = rules.policy.directory();
    // Those who may act within a scope alone end what is within it.
    let mine = |s: &LiveSession| seen.person(directory, &s.person) && seen.machine(directory, &s.machine);
    let ending: Vec<Arc<LiveSession>> = app.live.all().into_iter().filter(|s| concerned(s) && mine(s)).collect();
    let what: String = aerie_core::diagnostic::printable(&what).chars().take(200).collect();
    let me = caller.person.shown().to_string();
    let says = format!("{me} ended {what} ({}): {why}", count(ending.len() as u64, "session"));
    // Nobody may be saved by a log that does not answer: they are ended first.
    ending.iter().for_each(|s| s.end_saying(EndReason::Ended, &why));
    app.log.append(caller.event(EventKind::Stopped).says(says).with("why", why).with("ended", ending.len() as u64)).await?;
    app.tell("sessions");
    let sentence = match ending.len() {
        0 => format!("Nothing was live of {what}."),
        n => format!("{} ended.", count(n as u64, "session")),
    };
    Ok(Json(Stopped { ended: ending.len() as u64, sentence }))
}

fn lockdown_view(l: Lockdown) -> LockdownView {
    LockdownView { since: l.since, by: l.by, why: l.why }
}

/// Whether the service is locked down, and why.
#[utoipa::path(get, path = "/lockdown", operation_id = "lockdown", responses((status = 200, body = LockdownView), (status = 204)))]
pub(super) async fn lockdown(State(app): State<Arc<App>>, _: Caller) -> Result<Json<LockdownView>, StatusCode> {
    app.asking.locked_down().map(|l| Json(lockdown_view(l))).ok_or(StatusCode::NO_CONTENT)
}

/// Lock the service down: nobody new comes in but in an emergency. Sessions that are live go on.
#[utoipa::path(put, path = "/lockdown", operation_id = "lockDown", request_body = WhyNote, responses((status = 200, body = LockdownView), (status = 403), (status = 409)))]
pub(super) async fn lock_down(
    State(app): State<Arc<App>>,
    Administrator(caller): Administrator,
    Json(note): Json<WhyNote>,
) -> Result<Json<LockdownView>, Problem> {
    let why = stated(&note.why)?;
    if app.asking.locked_down().is_some() {
        return Err(Problem::exists("The service is locked down already."));
    }
    let l = Lockdown { since: caller.now, by: caller.person.name.clone(), why: why.clone() };
    asking::set_lockdown(&app, Some(l.clone()), &caller.person.name, &why, caller.now).await?;
    Ok(Json(lockdown_view(l)))
}

/// Open the service again. A second person must, where the settings say so.
#[utoipa::path(post, path = "/lockdown/lift", operation_id = "lift", request_body = WhyNote, responses((status = 204), (status = 403), (status = 404)))]
pub(super) async fn lift(
    State(app): State<Arc<App>>,
    FreshAdministrator(caller): FreshAdministrator,
    Json(note): Json<WhyNote>,
) -> Result<StatusCode, Problem> {
    let why = stated(&note.why)?;
    let l = app.asking.locked_down().ok_or_else(|| Problem::not_found("The service is not locked down."))?;
    if l.by == caller.person.name && !app.settings().flag(Setting::LiftAlone) {
        return Err(Problem::own_rights("You locked the service down: the settings want somebody else to open it again."));
    }
    if !app.settings().flag(Setting::LiftAlone) && crate::second::are_tied(&app, &l.by, &caller.person.name, caller.now).await? {
        return Err(Problem::own_rights(super::TIED));
    }
    asking::set_lockdown(&app, None, &caller.person.name, &why, caller.now).await?;
    Ok(StatusCode::NO_CONTENT)
}

/// Give a live session more time. Those who could approve it may, and administrators; never for oneself.
#[utoipa::path(post, path = "/sessions/{id}/extend", operation_id = "extendSession", params(("id" = String, Path)), request_body = Extension, responses((status = 204), (status = 403), (status = 404), (status = 422)))]
pub(super) async fn extend(
    State(app): State<Arc<App>>,
    caller: Caller,
    Path(id): Path<String>,
    Json(more): Json<Extension>,
) -> Result<StatusCode, Problem> {
    let why = stated(&more.why)?;
    if !(1..=LONGEST_EXTENSION).contains(&more.minutes) {
        return Err(Problem::not_good(format!("A session is extended by 1 to {LONGEST_EXTENSION} minutes.")));
    }
    let missing = || Problem::not_found("There is no live session of that identifier that you may extend.");
    let live = app.live.get(&id).ok_or_else(missing)?;
    let (rules, me) = (app.rules.now(), &caller.person.name);
    let administers = caller.within(Act::EndSessions).is_some_and(|s| {
        let d = rules.policy.directory();
        s.person(d, &live.person) && s.machine(d, &live.machine)
    });
    if live.person == *me {
        return Err(Problem::own_rights("Nobody extends their own session: ask an approver."));
    }
    if !administers && !rules.policy.approvers_for(&live.person, &live.machine, caller.now).contains(me) {
        return Err(missing());
    }
    caller.must_be_fresh()?;
    let says = format!(
        "{} gave the session of {} on {} {} more: {why}",
        caller.person.shown(),
        live.person,
        live.machine,
        count(more.minutes.into(), "minute")
    );
    let event =
        caller.event(EventKind::SessionExtended).session(&id).machine(&live.machine).says(says).with("minutes", u64::from(more.minutes));
    app.log.append(event).await?;
    live.extended_s.store(i64::from(more.minutes) * 60, Ordering::Relaxed);
    app.asking.look_again();
    app.tell("sessions");
    Ok(StatusCode::NO_CONTENT)
}

/// Close the finding of an emergency, after having looked at it: never one's own.
#[utoipa::path(post, path = "/findings/{id}/review", operation_id = "reviewFinding", params(("id" = String, Path)), request_body = WhyNote, responses((status = 200, body = FindingView), (status = 403), (status = 404)))]
pub(super) async fn review(
    State(app): State<Arc<App>>,
    caller: Caller,
    Path(id): Path<String>,
    Json(note): Json<WhyNote>,
) -> Result<Json<FindingView>, Problem> {
    let why = stated(&note.why)?;
    let missing = || Problem::not_found("There is no open finding of an emergency of that identifier that you may review.");
    let kept = app
        .store
        .finding(&id)
        .await?
        .filter(|f| f.settled.is_none() && f.finding.kind == FindingKind::EmergencyUsed)
        .ok_or_else(missing)?;
    let person = kept.finding.person.as_deref().unwrap_or_default();
    if person == caller.person.name {
        return Err(Problem::own_rights("Somebody else must look at your emergency."));
    }
    let approver = app.rules.now().policy.approvers_for(person, &kept.finding.machine, caller.now).contains(&caller.person.name);
    if !approver && !caller.sees(&app, person, &kept.finding.machine) {
        return Err(missing());
    }
    app.store.settle_finding(&id, &caller.person.name, &why, caller.now).await?;
    let says = format!("{} looked at an emergency of {person}: {why}", caller.person.shown());
    let event = NewEvent::new(caller.now, EventKind::FindingSettled, &caller.person.name)
        .machine(&kept.finding.machine)
        .says(says)
        .with("finding", id.clone());
    app.log.append(event).await?;
    app.tell("findings");
    let kept = app.store.finding(&id).await?.ok_or_else(missing)?;
    Ok(Json(super::findings::view(kept)))
}
