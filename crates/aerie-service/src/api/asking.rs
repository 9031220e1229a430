//! Requests, passes, and those who answer in another's place.

use super::caller::Caller;
use super::problem::Problem;
use crate::asking::{self, AskError};
use crate::service::App;
use aerie_api::{AnswerView, DeputyView, NewAnswer, NewRequest, NoticeView, PassView, RequestView, WhyNote};
use aerie_core::approval::{Answer, Changes, Wish, uses};
use aerie_core::directory::Act;
use aerie_core::directory::selector::{Selector, Subject};
use aerie_core::policy::{Capability, ForwardTarget};
use aerie_core::settings::Setting;
use aerie_core::wording;
use aerie_store::{Deputy, PassRow, RequestRow, RequestState};
use axum::Json;
use axum::extract::{Path, Query, State};
use axum::http::StatusCode;
use jiff::{SignedDuration, Timestamp};
use serde::Deserialize;
use std::collections::BTreeSet;
use std::sync::Arc;
use utoipa::IntoParams;

/// Requests that are listed at most.
const MOST: u32 = 500;
/// Longest reason, ticket or answer.
const LONGEST: usize = 500;
/// Longest time for which somebody else answers.
const LONGEST_DEPUTY: SignedDuration = SignedDuration::from_hours(24 * 62);

impl From<AskError> for Problem {
    fn from(e: AskError) -> Self {
        let detail = format!("{}.", capital(&e.to_string()));
        match e {
            AskError::Fault(aerie_core::approval::ApprovalFault::Own | aerie_core::approval::ApprovalFault::NotYours) => {
                Self::not_allowed(detail)
            }
            AskError::Fault(aerie_core::approval::ApprovalFault::Answered) => Self::exists(detail),
            AskError::Fault(_) | AskError::TooMany | AskError::TooOften(_) => Self::not_good(detail),
            AskError::Tied => Self::own_rights(super::TIED),
            AskError::NotOpen => Self::not_found(detail),
            AskError::Store(e) => e.into(),
        }
    }
}

fn capital(text: &str) -> String {
    let mut chars = text.chars();
    chars.next().map(|c| c.to_uppercase().chain(chars).collect()).unwrap_or_default()
}

/// Plain text of a person, in one line.
pub(super) fn plain(text: &str) -> String {
    aerie_core::diagnostic::printable(text.trim()).chars().take(LONGEST).collect()
}

/// The same, which must be there.
pub(super) fn stated(text: &str) -> Result<String, Problem> {
    let text = plain(text);
    if text.is_empty() { Err(Problem::not_good("Say why.")) } else { Ok(text) }
}

fn capabilities(words: &[String]) -> Result<Vec<Capability>, Problem> {
    let one = |w: &String| Capability::from_word(w).ok_or_else(|| Problem::not_good(format!("There is no capability `{}`.", plain(w))));
    let all: BTreeSet<Capability> = words.iter().map(one).collect::<Result<_, _>>()?;
    Ok(all.into_iter().collect())
}

/// In whose place somebody may answer this: their own first. None where they may not, or have answered.
fn voice(app: &App, row: &RequestRow, deputies: &[Deputy], by: &str, now: Timestamp) -> Option<String> {
    let rules = app.rules.now();
    let others = deputies.iter().filter(|d| d.deputy == by).map(|d| d.person.as_str());
    let all = std::iter::once(by).chain(others);
    let answer =
        |whom: &str| Answer { by: by.into(), instead_of: whom.into(), yes: true, why: String::new(), at: now, changes: Changes::default() };
    all.into_iter().find(|whom| rules.policy.may_answer(&row.wish, &row.answers, &answer(whom), now).is_ok()).map(Into::into)
}

fn view(app: &App, row: &RequestRow, deputies: &[Deputy], caller: &Caller) -> RequestView {
    let rules = app.rules.now();
    let w = &row.wish;
    let name = rules.policy.directory().person(&w.person).map_or(w.person.clone(), |p| p.shown().to_string());
    let open = row.state == RequestState::Open && w.expires > caller.now;
    let reason = if w.reason.is_empty() { "no reason is given".into() } else { w.reason.trim_end_matches('.').to_string() };
    RequestView {
        id: w.id.clone(),
        sentence: format!("{name} asks for {}: {reason}.", asking::told(app, w)),
        person: w.person.clone(),
        person_name: name,
        machines: w.machines.clone(),
        capabilities: w.capabilities.iter().map(|c| c.word().into()).collect(),
        target: w.target.as_ref().map(ToString::to_string),
        from: w.from,
        until: w.until,
        reason: w.reason.clone(),
        ticket: w.ticket.clone(),
        asked: w.asked,
        expires: w.expires,
        waiting: w.waiting && open,
        state: if open || row.state != RequestState::Open { row.state } else { RequestState::Expired }.word().into(),
        approvers: rules.policy.approvers_of(w, caller.now).unwrap_or_default().into_iter().collect(),
        answers: row
            .answers
            .iter()
            .map(|a| AnswerView { by: a.by.clone(), instead_of: a.instead_of.clone(), yes: a.yes, why: a.why.clone(), at: a.at })
            .collect(),
        yours: open && voice(app, row, deputies, &caller.person.name, caller.now).is_some(),
    }
}

/// How many requests wait for the caller's answer.
pub(super) async fn yours(app: &App, caller: &Caller) -> Result<u64, Problem> {
    let deputies = app.store.deputies(caller.now).await?;
    let rows = app.store.requests(Some(RequestState::Open), MOST).await?;
    let waits = |r: &&RequestRow| r.wish.expires > caller.now && voice(app, r, &deputies, &caller.person.name, caller.now).is_some();
    Ok(rows.iter().filter(waits).count() as u64)
}

/// Whether the caller may see a request: their own, one to answer or answered, or as one who reads everything.
fn sees(app: &App, caller: &Caller, v: &RequestView) -> bool {
    let me = &caller.person.name;
    v.yours || v.person == *me || v.approvers.contains(me) || v.answers.iter().any(|a| a.by == *me) || caller.sees_person(app, &v.person)
}

/// Which requests to list.
#[derive(Deserialize, IntoParams)]
#[into_params(parameter_in = Query)]
pub(super) struct ListQuery {
    /// `open`, `approved`, `refused`, `withdrawn` or `expired`; all where it is missing.
    state: Option<String>,
}

/// Requests for access, newest first: one's own, those that one may answer, and for auditors all.
#[utoipa::path(get, path = "/requests", operation_id = "requests", params(ListQuery), responses((status = 200, body = Vec<RequestView>)))]
pub(super) async fn list(
    State(app): State<Arc<App>>,
    caller: Caller,
    Query(q): Query<ListQuery>,
) -> Result<Json<Vec<RequestView>>, Problem> {
    let state = match q.state.as_deref() {
        None | Some("") => None,
        Some(word) => Some(RequestState::from_word(word).ok_or_else(|| Problem::bad_request("There is no such state of a request."))?),
    };
    let deputies = app.store.deputies(caller.now).await?;
    let rows = app.store.requests(state, MOST).await?;
    let all = rows.iter().map(|r| view(&app, r, &deputies, &caller)).filter(|v| sees(&app, &caller, v));
    Ok(Json(all.filter(|v| q.state.as_deref().is_none_or(|s| s.is_empty() || v.state == s)).collect()))
}

/// Ask for access to machines: those who may approve it are told.
#[utoipa::path(post, path = "/requests", operation_id = "ask", request_body = NewRequest, responses((status = 200, body = RequestView), (status = 422)))]
pub(super) async fn ask(State(app): State<Arc<App>>, caller: Caller, Json(new): Json<NewRequest>) -> Result<Json<RequestView>, Problem> {
    let rules = app.rules.now();
    let directory = rules.policy.directory();
    let mut machines = BTreeSet::new();
    for name in &new.machines {
        match name.strip_prefix("group:") {
            // Names of machines are not told to whoever may not have them: what no rule gives is refused below.
            Some(_) => {
                let selector = Selector::parse(name, Subject::Machines).map_err(|e| Problem::not_good(format!("{}.", e.message)))?;
                let found = directory.select_machines(&selector);
                machines.extend(found.iter().filter_map(|i| directory.machines().get(i)).map(|m| m.name.clone()));
            }
            None => drop(machines.insert(plain(name))),
        }
    }
    let hours = app.settings().number(Setting::RequestHours);
    let wish = Wish {
        id: String::new(),
        person: caller.person.name.clone(),
        machines: machines.into_iter().collect(),
        capabilities: capabilities(&new.capabilities)?,
        target: target(new.target.as_deref())?,
        from: new.from.unwrap_or(caller.now),
        until: new.until,
        reason: stated(&new.reason)?,
        ticket: new.ticket.as_deref().map(plain).unwrap_or_default(),
        asked: caller.now,
        expires: (caller.now + SignedDuration::from_hours(hours)).min(new.until),
        waiting: false,
    };
    let row = asking::ask(&app, wish, caller.from).await?;
    Ok(Json(view(&app, &row, &[], &caller)))
}

/// Where ports lead that are asked for; nothing where none is named.
fn target(text: Option<&str>) -> Result<Option<ForwardTarget>, Problem> {
    let text = text.map(str::trim).filter(|t| !t.is_empty());
    text.map(|t| t.parse().map_err(|e| Problem::not_good(format!("{e}.")))).transpose()
}

async fn find(app: &App, caller: &Caller, id: &str) -> Result<(RequestRow, RequestView, Vec<Deputy>), Problem> {
    let missing = || Problem::not_found("There is no such request, or it is not yours.");
    let row = app.store.request(id).await?.ok_or_else(missing)?;
    let deputies = app.store.deputies(caller.now).await?;
    let v = view(app, &row, &deputies, caller);
    if sees(app, caller, &v) { Ok((row, v, deputies)) } else { Err(missing()) }
}

/// A request.
#[utoipa::path(get, path = "/requests/{id}", operation_id = "request", params(("id" = String, Path)), responses((status = 200, body = RequestView), (status = 404)))]
pub(super) async fn show(State(app): State<Arc<App>>, caller: Caller, Path(id): Path<String>) -> Result<Json<RequestView>, Problem> {
    Ok(Json(find(&app, &caller, &id).await?.1))
}

/// Answer a request: yes, yes with less, or no.
#[utoipa::path(post, path = "/requests/{id}/answer", operation_id = "answer", params(("id" = String, Path)), request_body = NewAnswer, responses((status = 200, body = RequestView), (status = 403), (status = 404), (status = 409), (status = 422)))]
pub(super) async fn answer(
    State(app): State<Arc<App>>,
    caller: Caller,
    Path(id): Path<String>,
    Json(new): Json<NewAnswer>,
) -> Result<Json<RequestView>, Problem> {
    caller.must_be_fresh()?;
    let (row, _, deputies) = find(&app, &caller, &id).await?;
    let me = caller.person.name.as_str();
    let why = new.why.as_deref().map(plain).unwrap_or_default();
    if !new.yes && why.is_empty() {
        return Err(Problem::not_good("Say why: whoever asked reads it."));
    }
    let given = Answer {
        by: me.into(),
        instead_of: voice(&app, &row, &deputies, me, caller.now).unwrap_or_else(|| me.into()),
        yes: new.yes,
        why,
        at: caller.now,
        changes: Changes {
            until: new.until,
            capabilities: new.capabilities.as_deref().map(capabilities).transpose()?,
            session_s: new.session_minutes.map(|m| m.saturating_mul(60)),
        },
    };
    let row = asking::answer(&app, &id, given, caller.from).await?;
    Ok(Json(view(&app, &row, &deputies, &caller)))
}

/// Withdraw one's own request.
#[utoipa::path(post, path = "/requests/{id}/withdraw", operation_id = "withdrawRequest", params(("id" = String, Path)), responses((status = 204), (status = 404)))]
pub(super) async fn withdraw(State(app): State<Arc<App>>, caller: Caller, Path(id): Path<String>) -> Result<StatusCode, Problem> {
    asking::withdraw(&app, &id, &caller.person.name, caller.now).await?;
    Ok(StatusCode::NO_CONTENT)
}

fn pass_view(app: &App, row: &PassRow, now: Timestamp) -> PassView {
    let (p, rules) = (&row.pass, app.rules.now());
    let uses = uses(&p.capabilities, p.target.as_ref());
    let machines: Vec<&str> = p.machines.iter().map(String::as_str).collect();
    let name = rules.policy.directory().person(&p.person).map_or(p.person.clone(), |x| x.shown().to_string());
    let state = match row.withdrawn {
        Some(_) => "withdrawn",
        None if p.from > now => "later",
        None => "good",
    };
    let zone = rules.policy.zone();
    let from = if p.from > now { format!(" from {}", wording::instant(p.from, now, zone)) } else { String::new() };
    let until = wording::instant(p.until, now, zone);
    PassView {
        id: p.id.clone(),
        sentence: format!("{name} may use {} on {}{from} until {until}.", wording::list(&uses), wording::list(&machines)),
        person: p.person.clone(),
        machines: p.machines.clone(),
        capabilities: p.capabilities.iter().map(|c| c.word().into()).collect(),
        target: p.target.as_ref().map(ToString::to_string),
        from: p.from,
        until: p.until,
        approved_by: p.approved_by.clone(),
        session_minutes: p.session_s.map(|s| s.div_ceil(60)),
        state: state.into(),
    }
}

/// Passes that are good or will be, newest first: one's own, those that one approved, and for auditors all.
#[utoipa::path(get, path = "/passes", operation_id = "passes", responses((status = 200, body = Vec<PassView>)))]
pub(super) async fn passes(State(app): State<Arc<App>>, caller: Caller) -> Result<Json<Vec<PassView>>, Problem> {
    let me = &caller.person.name;
    let rows = app.store.passes(caller.now).await?;
    let seen = rows.iter().filter(|r| r.pass.person == *me || r.pass.approved_by.contains(me) || caller.sees_person(&app, &r.pass.person));
    Ok(Json(seen.map(|r| pass_view(&app, r, caller.now)).collect()))
}

/// Withdraw a pass: sessions that rest on it end. Its approvers, whoever has it, and administrators may.
#[utoipa::path(post, path = "/passes/{id}/withdraw", operation_id = "withdrawPass", params(("id" = String, Path)), request_body = WhyNote, responses((status = 204), (status = 403), (status = 404)))]
pub(super) async fn withdraw_pass(
    State(app): State<Arc<App>>,
    caller: Caller,
    Path(id): Path<String>,
    Json(note): Json<WhyNote>,
) -> Result<StatusCode, Problem> {
    let why = stated(&note.why)?;
    let me = &caller.person.name;
    let row = app.store.passes(caller.now).await?.into_iter().find(|r| r.pass.id == id);
    let (rules, seen) = (app.rules.now(), caller.within(Act::EndSessions));
    let looked_after = |r: &PassRow| seen.as_ref().is_some_and(|s| s.person(rules.policy.directory(), &r.pass.person));
    let may = |r: &PassRow| r.pass.person == *me || r.pass.approved_by.contains(me) || looked_after(r);
    if !row.as_ref().is_some_and(may) {
        return Err(Problem::not_found("There is no such pass, or it is not yours to withdraw."));
    }
    asking::withdraw_pass(&app, &id, me, &why, caller.now).await?;
    Ok(StatusCode::NO_CONTENT)
}

/// Who answers in whose place.
#[utoipa::path(get, path = "/deputies", operation_id = "deputies", responses((status = 200, body = Vec<DeputyView>)))]
pub(super) async fn deputies(State(app): State<Arc<App>>, caller: Caller) -> Result<Json<Vec<DeputyView>>, Problem> {
    let me = &caller.person.name;
    let all = app.store.deputies(caller.now).await?.into_iter();
    let seen = all.filter(|d| d.person == *me || d.deputy == *me || caller.sees_person(&app, &d.person));
    Ok(Json(seen.map(|d| DeputyView { person: d.person, deputy: d.deputy, until: d.until }).collect()))
}

/// Let somebody answer requests in one's own place, while one is away.
#[utoipa::path(put, path = "/deputies", operation_id = "setDeputy", request_body = DeputyView, responses((status = 204), (status = 403), (status = 422)))]
pub(super) async fn set_deputy(State(app): State<Arc<App>>, caller: Caller, Json(d): Json<DeputyView>) -> Result<StatusCode, Problem> {
    caller.must_be_fresh()?;
    let me = &caller.person.name;
    let known = app.rules.now().policy.directory().person(&d.deputy).is_some();
    if !known || d.deputy == *me {
        return Err(Problem::not_good("Name somebody else who is here."));
    }
    if d.until <= caller.now || d.until.duration_since(caller.now) > LONGEST_DEPUTY {
        return Err(Problem::not_good("Say until when: at most 62 days."));
    }
    asking::set_deputy(&app, me, Some((&d.deputy, d.until)), caller.now).await?;
    Ok(StatusCode::NO_CONTENT)
}

/// Answer requests oneself again.
#[utoipa::path(delete, path = "/deputies", operation_id = "endDeputy", responses((status = 204)))]
pub(super) async fn end_deputy(State(app): State<Arc<App>>, caller: Caller) -> Result<StatusCode, Problem> {
    asking::set_deputy(&app, &caller.person.name, None, caller.now).await?;
    Ok(StatusCode::NO_CONTENT)
}

/// Notices that were sent, or are to be.
#[utoipa::path(get, path = "/notices", operation_id = "notices", responses((status = 200, body = Vec<NoticeView>)))]
pub(super) async fn notices(State(app): State<Arc<App>>, _: super::caller::EverythingReader) -> Result<Json<Vec<NoticeView>>, Problem> {
    let all = app.store.notices(MOST).await?.into_iter();
    let view = |n: aerie_store::Notice| NoticeView {
        id: n.id,
        channel: n.channel,
        recipient: n.recipient,
        subject: n.subject,
        made: n.made,
        tries: n.tries,
        failure: n.failure,
        sent: n.sent,
    };
    Ok(Json(all.map(view).collect()))
}
