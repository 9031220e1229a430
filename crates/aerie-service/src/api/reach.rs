use super::caller::{Caller, Seen};
use super::problem::Problem;
use super::rules::capability_of;
use crate::service::App;
use aerie_api::{MatrixCell, MatrixHead, MatrixView, PermissionView, ReachEntry, ReachQuery, ReachView};
use aerie_core::directory::selector::{Selector, Subject};
use aerie_core::directory::{Act, Bits, Directory, Index};
use aerie_core::policy::{Access, Capability, Permission, Policy, Reach};
use aerie_core::wording;
use axum::Json;
use axum::extract::{Query, State};
use axum::http::header;
use axum::response::{IntoResponse, Response};
use jiff::{SignedDuration, Timestamp};
use serde::Deserialize;
use std::sync::Arc;
use utoipa::IntoParams;

/// Days that are looked at unless asked otherwise, and at most.
const DAYS: u32 = 7;
const MOST_DAYS: u32 = 366;
/// Rows or columns of the matrix at most: the largest groups.
const MOST_HEADS: usize = 60;
/// Groups that are told at most; the rest is counted, and is in the CSV.
const MOST_ENTRIES: usize = 2_000;

fn bits(text: Option<&str>, subject: Subject, directory: &Directory) -> Result<Bits, Problem> {
    let selector = match text.filter(|t| !t.trim().is_empty()) {
        None => Selector::All,
        Some(t) => Selector::parse(t, subject).map_err(|e| Problem::bad_request(format!("The selector `{t}` cannot be read: {e}.")))?,
    };
    Ok(match subject {
        Subject::People => directory.select_people(&selector),
        Subject::Machines => directory.select_machines(&selector),
    })
}

fn one(index: Option<usize>, length: usize, what: &str) -> Result<Bits, Problem> {
    let at = index.ok_or_else(|| Problem::not_found(format!("There is no such {what}.")))?;
    let mut bits = Bits::none(length);
    bits.insert(at);
    Ok(bits)
}

/// Whom and what a question speaks of, cut to what the caller may see.
fn chosen(q: &ReachQuery, policy: &Policy, seen: &Seen) -> Result<(Bits, Bits), Problem> {
    let directory = policy.directory();
    let mut people = match &q.person {
        Some(name) => one(directory.person_index(name), directory.people().len(), "person")?,
        None => bits(q.people.as_deref(), Subject::People, directory)?,
    };
    let mut machines = match &q.machine {
        Some(name) => one(directory.machine_index(name), directory.machines().len(), "machine")?,
        None => bits(q.machines.as_deref(), Subject::Machines, directory)?,
    };
    people.keep(&seen.people(directory));
    machines.keep(&seen.machines(directory));
    Ok((people, machines))
}

async fn map(app: &App, q: &ReachQuery) -> Result<(Arc<Reach>, i64), Problem> {
    let days = q.days.unwrap_or(DAYS).clamp(1, MOST_DAYS);
    let rules = app.rules.now();
    let (version, policy) = match q.version {
        None => (rules.version, rules.policy),
        Some(v) => (v, app.rules.version(v).await?.ok_or_else(|| Problem::not_found("There is no such version of the rules."))?),
    };
    // From the beginning of this day on, so that strips of a day are whole.
    let zone = policy.zone().clone();
    let today = Timestamp::now().to_zoned(zone).start_of_day().map_or_else(|_| Timestamp::now(), |z| z.timestamp());
    if let Some(known) = app.reach.get(&policy, today, days) {
        return Ok((known, version));
    }
    let to = today.saturating_add(SignedDuration::from_hours(24 * i64::from(days))).unwrap_or(Timestamp::MAX);
    let made = policy.clone();
    let reach = Arc::new(app.rules.think(move || Reach::of(made, today, to)).await?);
    app.reach.keep(reach.clone(), today, days);
    Ok((reach, version))
}

fn permission(policy: &Policy, p: &Permission) -> PermissionView {
    PermissionView {
        capabilities: p.capabilities.words().into_iter().map(Into::into).collect(),
        account: p.account.as_ref().map(ToString::to_string),
        to: p.to.as_ref().map(ToString::to_string),
        from: p.from.to_string(),
        when: p.when.clone(),
        spans: p.spans.iter().map(|(b, e)| [b * 1000, e * 1000]).collect(),
        demands: p.demands.iter().map(|d| policy.demanded(d)).collect(),
    }
}

fn names(of: &[u32], name: impl Fn(usize) -> Option<String>) -> Vec<String> {
    let mut all: Vec<String> = of.iter().filter_map(|i| name(*i as usize)).collect();
    all.sort_unstable();
    all
}

fn people_names(d: &Directory, of: &[u32]) -> Vec<String> {
    names(of, |i| d.people().get(i).map(|p| p.name.clone()))
}

fn machine_names(d: &Directory, of: &[u32]) -> Vec<String> {
    names(of, |i| d.machines().get(i).map(|m| m.name.clone()))
}

fn entry(policy: &Policy, a: &Access) -> ReachEntry {
    let d = policy.directory();
    ReachEntry {
        people: people_names(d, &a.people),
        machines: machine_names(d, &a.machines),
        permissions: a.permissions.iter().map(|p| permission(policy, p)).collect(),
    }
}

/// Keeps one capability where one is asked for.
fn only(accesses: Vec<Access>, capability: Option<Capability>) -> Vec<Access> {
    let Some(wanted) = capability else { return accesses };
    let keep = |mut a: Access| {
        a.permissions.retain(|p| p.capabilities.contains(wanted));
        (!a.permissions.is_empty()).then_some(a)
    };
    accesses.into_iter().filter_map(keep).collect()
}

fn sentence(q: &ReachQuery, policy: &Policy, found: &[Access], days: u32) -> String {
    let count = |of: fn(&Access) -> &Vec<u32>| -> usize {
        let all: std::collections::HashSet<u32> = found.iter().flat_map(of).copied().collect();
        all.len()
    };
    let (people, machines) = (count(|a| &a.people), count(|a| &a.machines));
    let who = if people == 1 { "1 person".to_string() } else { format!("{people} people") };
    let span = if days == 1 { "today".to_string() } else { format!("in the {days} days from today on") };
    let can = q.capability.as_ref().map_or("reach".to_string(), |c| format!("use {c} on"));
    let person = q.person.as_ref().map(|n| policy.directory().person(n).map_or(n.clone(), |p| p.shown().to_string()));
    match (person, &q.machine) {
        (Some(person), Some(machine)) if found.is_empty() => format!("{person} cannot {can} {machine} {span}."),
        (Some(person), Some(machine)) => format!("{person} can {can} {machine} {span}."),
        (Some(person), None) if machines == 0 => format!("{person} can {can} no machine {span}."),
        (Some(person), None) => format!("{person} can {can} {} {span}.", wording::count(machines as u64, "machine")),
        (None, Some(machine)) if people == 0 => format!("Nobody can {can} {machine} {span}."),
        (None, Some(machine)) => format!("{who} can {can} {machine} {span}."),
        (None, None) if people == 0 => format!("Nobody can {can} any of these machines {span}."),
        (None, None) => format!("{who} can {can} {} {span}.", wording::count(machines as u64, "machine")),
    }
}

/// How many machines somebody can reach in the time that the map looks ahead.
pub(super) async fn machines_of(app: &App, person: &str) -> Result<u32, Problem> {
    let (reach, _) = map(app, &ReachQuery::default()).await?;
    let directory = reach.policy().directory();
    let Some(at) = directory.person_index(person) else { return Ok(0) };
    let mut one = Bits::none(directory.people().len());
    one.insert(at);
    let machines = directory.select_machines(&Selector::All);
    let all: std::collections::HashSet<u32> = reach.among(&one, &machines).iter().flat_map(|a| &a.machines).copied().collect();
    Ok(u32::try_from(all.len()).unwrap_or(u32::MAX))
}

async fn found(app: &App, caller: &Caller, q: &ReachQuery) -> Result<(Arc<Reach>, i64, Vec<Access>), Problem> {
    // Those who may not read everything ask about themselves.
    let own = ReachQuery { person: Some(caller.person.name.clone()), version: None, ..q.clone() };
    let reads = caller.within(Act::ReadDirectory);
    let q = if reads.is_some() { q } else { &own };
    let capability = q.capability.as_deref().filter(|c| !c.is_empty()).map(capability_of).transpose()?;
    let (reach, version) = map(app, q).await?;
    let (people, machines) = chosen(q, reach.policy(), &reads.unwrap_or_default())?;
    let asked = reach.clone();
    let accesses = app.rules.think(move || only(asked.among(&people, &machines), capability)).await?;
    Ok((reach, version, accesses))
}

/// Who can reach this machine, what this person can reach, or all of it: exact, grouped by what they have.
#[utoipa::path(get, path = "/reach", operation_id = "reach", params(ReachQuery), responses((status = 200, body = ReachView)))]
pub(super) async fn reach(State(app): State<Arc<App>>, caller: Caller, Query(q): Query<ReachQuery>) -> Result<Json<ReachView>, Problem> {
    let (reach, version, accesses) = found(&app, &caller, &q).await?;
    let policy = reach.policy();
    let (from, to) = reach.horizon();
    let size = reach.size();
    let mut said = sentence(&q, policy, &accesses, q.days.unwrap_or(DAYS).clamp(1, MOST_DAYS));
    if accesses.len() > MOST_ENTRIES {
        said += &format!(" The {MOST_ENTRIES} largest of {} groups are listed; the CSV holds all.", accesses.len());
    }
    Ok(Json(ReachView {
        sentence: said,
        policy_version: version,
        from,
        to,
        entries: accesses.iter().take(MOST_ENTRIES).map(|a| entry(policy, a)).collect(),
        classes: [size.people as u64, size.machines as u64, size.cells as u64],
    }))
}

/// The same as CSV (RFC 4180): one line for each group of people and machines and each of its permissions.
#[utoipa::path(get, path = "/reach.csv", operation_id = "reachCsv", params(ReachQuery), responses((status = 200, body = String, content_type = "text/csv")))]
pub(super) async fn csv(State(app): State<Arc<App>>, caller: Caller, Query(q): Query<ReachQuery>) -> Result<Response, Problem> {
    let (reach, _, accesses) = found(&app, &caller, &q).await?;
    let text = app
        .rules
        .think(move || {
            let policy = reach.policy();
            let d = policy.directory();
            let cell = |t: &str| format!("\"{}\"", t.replace('"', "\"\""));
            let mut out = String::from("people,machines,capabilities,account,to,when,from,demands\r\n");
            for a in &accesses {
                let (people, machines) = (cell(&people_names(d, &a.people).join(" ")), cell(&machine_names(d, &a.machines).join(" ")));
                for p in &a.permissions {
                    let demands: Vec<String> = p.demands.iter().map(|d| policy.demanded(d).join(", ")).collect();
                    let row = [
                        people.clone(),
                        machines.clone(),
                        cell(&p.capabilities.words().join(" ")),
                        cell(p.account.as_deref().unwrap_or("any other")),
                        cell(p.to.as_deref().unwrap_or_default()),
                        cell(&p.when),
                        cell(&p.from),
                        cell(&demands.join(" or ")),
                    ];
                    out += &row.join(",");
                    out += "\r\n";
                }
            }
            out
        })
        .await?;
    Ok(([(header::CONTENT_TYPE, "text/csv; charset=utf-8"), (header::CONTENT_DISPOSITION, "attachment; filename=\"reach.csv\"")], text)
        .into_response())
}

/// How the matrix is cut.
#[derive(Deserialize, IntoParams)]
#[into_params(parameter_in = Query)]
pub(super) struct MatrixQuery {
    /// `group`, `organisation` or `person`.
    rows: Option<String>,
    /// `site`, `group`, `label`, `owner` or `name`.
    columns: Option<String>,
    /// Selector of people.
    people: Option<String>,
    /// Selector of machines.
    machines: Option<String>,
    /// The rules of this version; those in force where it is not said.
    version: Option<i64>,
}

/// The values of a property among those chosen, the largest first, and what is left without one.
fn heads(index: &Index, key: &str, chosen: &Bits) -> Vec<(MatrixHead, Bits)> {
    let mut all = vec![];
    let mut left = chosen.clone();
    for value in index.values(key) {
        let mut members = Bits::none(index.len());
        index.members(key, value).iter().for_each(|m| members.insert(*m as usize));
        members.keep(chosen);
        if !members.is_empty() {
            left.remove(&members);
            let selector = if value.contains(char::is_whitespace) { value.replace(char::is_whitespace, "*") } else { value.into() };
            all.push((MatrixHead { name: value.into(), selector: format!("{key}:{selector}"), count: members.len() as u64 }, members));
        }
    }
    all.sort_by(|a, b| b.0.count.cmp(&a.0.count).then_with(|| a.0.name.cmp(&b.0.name)));
    all.truncate(MOST_HEADS);
    if !left.is_empty() && key != "person" && key != "name" {
        let head = MatrixHead { name: format!("without {key}"), selector: format!("!{key}:*"), count: left.len() as u64 };
        all.push((head, left));
    }
    all
}

/// How much access there is between groups of people and groups of machines.
#[utoipa::path(get, path = "/reach/matrix", operation_id = "reachMatrix", params(MatrixQuery), responses((status = 200, body = MatrixView)))]
pub(super) async fn matrix(State(app): State<Arc<App>>, caller: Caller, Query(q): Query<MatrixQuery>) -> Result<Json<MatrixView>, Problem> {
    let seen = caller.within(Act::ReadDirectory);
    let seen = seen.ok_or_else(|| Problem::not_allowed("Only those who look after people, rules or machines may read this."))?;
    let (rows, columns) = (q.rows.as_deref().unwrap_or("group"), q.columns.as_deref().unwrap_or("site"));
    if !["group", "organisation", "person"].contains(&rows) || !["site", "group", "label", "owner", "name"].contains(&columns) {
        return Err(Problem::bad_request("`rows` is group, organisation or person; `columns` is site, group, label, owner or name."));
    }
    let asked = ReachQuery { people: q.people, machines: q.machines, version: q.version, ..ReachQuery::default() };
    let (reach, _) = map(&app, &asked).await?;
    let (people, machines) = chosen(&asked, reach.policy(), &seen)?;
    let (rows, columns) = (rows.to_string(), columns.to_string());
    let shown = app
        .rules
        .think(move || {
            let d = reach.policy().directory();
            let (rows, columns) = (heads(d.person_properties(), &rows, &people), heads(d.machine_properties(), &columns, &machines));
            let (row_bits, column_bits): (Vec<Bits>, Vec<Bits>) =
                (rows.iter().map(|r| r.1.clone()).collect(), columns.iter().map(|c| c.1.clone()).collect());
            let cell = |c: &aerie_core::policy::Cell| MatrixCell {
                pairs: c.pairs,
                of: c.of,
                capabilities: c.capabilities.words().into_iter().map(Into::into).collect(),
            };
            let cells: Vec<Vec<MatrixCell>> = reach.table(&row_bits, &column_bits).iter().map(|r| r.iter().map(cell).collect()).collect();
            let whole = reach.table(std::slice::from_ref(&people), std::slice::from_ref(&machines));
            let all = whole.first().and_then(|r| r.first()).copied().unwrap_or_default();
            let sentence = format!(
                "Of {} pairs of {} and {} there is access for {}.",
                all.of,
                if people.len() == 1 { "1 person".into() } else { format!("{} people", people.len()) },
                wording::count(machines.len() as u64, "machine"),
                all.pairs
            );
            let head = |h: Vec<(MatrixHead, Bits)>| h.into_iter().map(|(h, _)| h).collect();
            MatrixView { sentence, rows: head(rows), columns: head(columns), cells }
        })
        .await?;
    Ok(Json(shown))
}
