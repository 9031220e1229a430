use super::caller::{Caller, Reader, Seen};
use super::problem::Problem;
use crate::service::App;
use aerie_api::{Backlog, LockdownView, Now, Strip, StripFinding, StripSession, Strips, WaitView};
use aerie_core::policy::{Calendar, Policy};
use aerie_core::wording::count;
use aerie_store::{FindingFilter, SessionFilter};
use axum::Json;
use axum::extract::{Query, State};
use jiff::civil::Date;
use jiff::{SignedDuration, Timestamp, ToSpan as _};
use serde::Deserialize;
use std::collections::{BTreeMap, BTreeSet};
use std::sync::Arc;
use utoipa::IntoParams;

/// Sessions and findings on the strips of a day at most.
const MOST_MARKS: u32 = 5000;
/// Machines at most.
const MOST_STRIPS: usize = 200;

/// How things stand, in a sentence.
#[utoipa::path(get, path = "/now", operation_id = "now", responses((status = 200, body = Now)))]
pub(super) async fn now(State(app): State<Arc<App>>, caller: Caller) -> Result<Json<Now>, Problem> {
    // One look at the caller alone: a signed request is good once.
    let Reader(seen) = Reader::of(&caller)?;
    let rules = app.rules.now();
    let directory = rules.policy.directory();
    let yesterday = Timestamp::now() - SignedDuration::from_hours(24);
    let live = app.live.all().iter().filter(|s| seen.person(directory, &s.person)).count() as u64;
    let (findings, findings_new) = if seen.is_everything() {
        app.store.count_findings(yesterday).await?
    } else {
        let all = app.store.findings(&FindingFilter { limit: MOST_MARKS, ..FindingFilter::default() }).await?;
        let own = all.iter().filter(|k| k.settled.is_none()).map(|k| &k.finding).filter(|f| seen.machine(directory, &f.machine));
        let own: Vec<_> = own.collect();
        (own.len() as u64, own.iter().filter(|f| f.last >= yesterday).count() as u64)
    };
    let verb = if live == 1 { "is" } else { "are" };
    let sessions = if live == 0 { "Nobody is connected".to_string() } else { format!("{} {verb} live", count(live, "session")) };
    let new = if findings_new == 1 { "is" } else { "are" };
    let (waiting, yours) = (waits(&app, &seen), super::asking::yours(&app, &caller).await?);
    let sessions = match waiting.len() as u64 {
        0 => sessions,
        1 => format!("{sessions}, 1 waits to begin"),
        n => format!("{sessions}, {n} wait to begin"),
    };
    let sessions = match yours {
        0 => sessions,
        1 => format!("{sessions}, 1 request waits for your answer"),
        n => format!("{sessions}, {n} requests wait for your answer"),
    };
    let sentence = match (findings_new, findings) {
        (0, 0) => format!("{sessions}, and there are no findings."),
        (0, all) => format!("{sessions}, and none of the {} is new since yesterday.", count(all, "finding")),
        (n, _) => format!("{sessions}, and {} {new} new since yesterday.", count(n, "finding")),
    };
    let zone = rules.policy.zone().iana_name().unwrap_or("UTC").to_string();
    let lockdown = app.asking.locked_down().map(|l| LockdownView { since: l.since, by: l.by, why: l.why });
    let sentence = if lockdown.is_some() { format!("The service is locked down. {sentence}") } else { sentence };
    let backlog = backlog(&app).await?;
    Ok(Json(Now { live, findings_new, findings, sentence, waiting, yours, lockdown, backlog, zone }))
}

/// The uses that wait, as far as the caller may see them.
fn waits(app: &App, seen: &Seen) -> Vec<WaitView> {
    let rules = app.rules.now();
    let directory = rules.policy.directory();
    let view = |w: crate::asking::Waiting| {
        let name = directory.person(&w.row.person).map_or(w.row.person.clone(), |p| p.shown().to_string());
        WaitView {
            sentence: format!("{name} waits for {} to reach {}.", w.row.whom, w.row.machine),
            id: w.row.id,
            person: w.row.person,
            machine: w.row.machine,
            since: w.row.since,
            until: w.until,
            request: w.request,
        }
    };
    app.asking
        .waiting()
        .into_iter()
        .filter(|w| seen.person(directory, &w.row.person) && seen.machine(directory, &w.row.machine))
        .map(view)
        .collect()
}

async fn backlog(app: &App) -> Result<Backlog, Problem> {
    let (notices, notices_failing) = app.store.count_notices().await?;
    let agents = app.agents.all();
    let (online, offline): (Vec<_>, Vec<_>) = agents.iter().partition(|a| a.connected_since().is_some());
    let (forwarding, forwarding_failure) = app.forwarding.waiting(app).unzip();
    Ok(Backlog {
        forwarding,
        forwarding_failure: forwarding_failure.unwrap_or_default(),
        notices,
        notices_failing,
        recordings: app.recorder.open(),
        agents_online: online.len() as u64,
        agents_offline: offline.len() as u64,
        relays_online: online.iter().filter(|a| !a.row().relay.is_empty()).count() as u64,
    })
}

/// Which day.
#[derive(Deserialize, IntoParams)]
#[into_params(parameter_in = Query)]
pub(super) struct StripQuery {
    /// The day, in the zone of the rules; today where it is not said.
    #[param(value_type = Option<String>)]
    day: Option<Date>,
}

/// A day as strips: sessions, findings and the hours of the rules, for each machine.
#[utoipa::path(get, path = "/strips", operation_id = "strips", params(StripQuery), responses((status = 200, body = Strips)))]
pub(super) async fn strips(
    State(app): State<Arc<App>>,
    Reader(seen): Reader,
    Query(q): Query<StripQuery>,
) -> Result<Json<Strips>, Problem> {
    let rules = app.rules.now();
    let zone = rules.policy.zone().clone();
    let day = q.day.unwrap_or_else(|| Timestamp::now().to_zoned(zone.clone()).date());
    let start = |d: Date| d.to_zoned(zone.clone()).map(|z| z.timestamp()).map_err(|_| Problem::bad_request("The day is out of range."));
    let (begin, end) = (start(day)?, start(day.saturating_add(1.day()))?);
    let mut strips: BTreeMap<String, Strip> = BTreeMap::new();
    let blank = |machine: &str| Strip {
        machine: machine.into(),
        open: open_hours(&rules.policy, machine, begin, end),
        sessions: vec![],
        findings: vec![],
    };
    for machine in rules.policy.directory().machines().iter().take(MOST_STRIPS) {
        strips.insert(machine.name.clone(), blank(&machine.name));
    }
    // A session may reach in from the day before.
    let since = Some(begin - SignedDuration::from_hours(24));
    let sessions = SessionFilter { since, before: Some((end, String::new())), limit: MOST_MARKS, ..SessionFilter::default() };
    for s in app.store.sessions(&sessions).await?.into_iter().filter(|s| s.ended.is_none_or(|e| e > begin)) {
        let person = rules.policy.directory().person(&s.person).map_or(s.person.clone(), |p| p.shown().to_string());
        let mark = StripSession { id: s.id, person, begin: s.began.as_millisecond(), end: s.ended.map(|e| e.as_millisecond()) };
        strips.entry(s.machine.clone()).or_insert_with(|| blank(&s.machine)).sessions.push(mark);
    }
    let findings = FindingFilter { before: Some((end, String::new())), limit: MOST_MARKS, ..FindingFilter::default() };
    for f in app.store.findings(&findings).await?.into_iter().map(|k| k.finding).filter(|f| f.last >= begin) {
        let mark = StripFinding { id: f.id, at: f.last.as_millisecond(), sentence: f.sentence };
        strips.entry(f.machine.clone()).or_insert_with(|| blank(&f.machine)).findings.push(mark);
    }
    let mut machines: Vec<Strip> = strips.into_values().filter(|s| seen.machine(rules.policy.directory(), &s.machine)).collect();
    machines.sort_by_key(|s| (s.sessions.is_empty() && s.findings.is_empty(), s.machine.clone()));
    Ok(Json(Strips { begin, end, zone: zone.iana_name().unwrap_or("UTC").into(), machines }))
}

/// The hours of a day in which any rule lets anybody in.
fn open_hours(policy: &Policy, machine: &str, begin: Timestamp, end: Timestamp) -> Vec<[i64; 2]> {
    let Some(at) = policy.directory().machine_index(machine) else { return vec![] };
    let whole = vec![[begin.as_millisecond(), end.as_millisecond()]];
    let Some(calendars) = policy.hours_of_machine(at) else { return whole };
    let mut edges: BTreeSet<Timestamp> = [begin, end].into();
    for c in &calendars {
        let mut t = begin;
        while let Some(next) = c.at(t).until.filter(|n| *n < end) {
            edges.insert(next);
            t = next;
        }
    }
    let edges: Vec<Timestamp> = edges.into_iter().collect();
    let open = |t: Timestamp| calendars.iter().any(|c: &&Calendar| c.at(t).open);
    let mut found: Vec<[i64; 2]> = vec![];
    for pair in edges.windows(2) {
        let [from, to] = [pair[0], pair[1]];
        if open(from) {
            match found.last_mut() {
                Some(last) if last[1] == from.as_millisecond() => last[1] = to.as_millisecond(),
                _ => found.push([from.as_millisecond(), to.as_millisecond()]),
            }
        }
    }
    found
}
