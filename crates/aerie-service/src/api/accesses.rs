//! Who got into which machine, and when: Aerie's own sessions, and what the machines' logs show beside them.

use super::caller::{EverythingReader, Reader};
use super::problem::Problem;
use super::sessions::{MOST, PAGE, cursor, make_cursor};
use crate::service::App;
use aerie_api::{AccessQuery, AccessReport, AccessView, Page, SessionView, SpanCount, TotalQuery, TotalView};
use aerie_core::audit::AccessRecord;
use aerie_core::directory::Directory;
use aerie_core::wording::duration;
use aerie_store::{AccessFilter, TotalOf};
use axum::Json;
use axum::extract::{Path, Query, State};
use jiff::tz::TimeZone;
use jiff::{SignedDuration, Timestamp};
use std::collections::BTreeMap;
use std::sync::Arc;

/// Totals at most.
const MOST_TOTALS: u32 = 500;
/// Up to so long a report counts by the hour.
const BY_THE_HOUR: SignedDuration = SignedDuration::from_hours(72);
const HOUR_MS: i64 = 3_600_000;

pub(super) fn filter(q: AccessQuery, limit: u32) -> Result<AccessFilter, Problem> {
    let through = match q.through.as_deref() {
        None | Some("") => None,
        Some("aerie") => Some(true),
        Some("around") => Some(false),
        Some(_) => return Err(Problem::bad_request("`through` is `aerie` or `around`.")),
    };
    let some = |t: Option<String>| t.filter(|t| !t.is_empty());
    Ok(AccessFilter {
        since: q.from,
        until: q.until,
        person: some(q.person),
        machine: some(q.machine),
        through,
        text: some(q.q),
        before: q.after.as_deref().map(cursor).transpose()?,
        limit,
    })
}

fn shown(directory: &Directory, person: &str) -> String {
    directory.person(person).map_or(person.to_string(), |p| p.shown().to_string())
}

pub(super) fn view(directory: &Directory, r: AccessRecord) -> AccessView {
    let person_name = r.person.as_deref().map(|p| shown(directory, p));
    let seconds = r.end.map(|e| e.duration_since(r.begin).as_secs().max(0));
    let sentence = match &r.session {
        Some(_) => {
            let who = person_name.as_deref().unwrap_or_default();
            match seconds {
                Some(s) => format!("{who} was on {} as {} for {}.", r.machine, r.account, duration(SignedDuration::from_secs(s))),
                None => SessionView::tell(who, &r.machine, &[], Timestamp::now().duration_since(r.begin).as_secs(), None),
            }
        }
        None => AccessView::tell(person_name.as_deref(), &aerie_core::diagnostic::printable(&r.account), &r.machine, &r.source, seconds),
    };
    AccessView {
        id: r.id,
        sentence,
        service: r.service.word().into(),
        machine: r.machine,
        account: aerie_core::diagnostic::printable(&r.account),
        person: r.person,
        person_name,
        source: aerie_core::diagnostic::printable(&r.source),
        method: r.method,
        key: r.key,
        began: r.begin,
        ended: r.end,
        seconds,
        session: r.session,
        lines: r.lines.into_iter().map(Into::into).collect(),
    }
}

/// List who got into which machine, newest first, whoever says so.
#[utoipa::path(get, path = "/accesses", operation_id = "accesses", params(AccessQuery), responses((status = 200, body = Page<AccessView>)))]
pub(super) async fn list(
    State(app): State<Arc<App>>,
    Reader(seen): Reader,
    Query(q): Query<AccessQuery>,
) -> Result<Json<Page<AccessView>>, Problem> {
    let limit = q.limit.unwrap_or(PAGE).clamp(1, MOST);
    let mut rows = app.store.accesses(&filter(q, limit + 1)?).await?;
    let more = rows.len() > limit as usize;
    rows.truncate(limit as usize);
    let next = rows.last().filter(|_| more).map(|r| make_cursor(r.begin, &r.id));
    // Whoever has a scope sees what concerns machines within it; a page may then be shorter.
    let rules = app.rules.now();
    let directory = rules.policy.directory();
    let items = rows.into_iter().filter(|r| seen.machine(directory, &r.machine)).map(|r| view(directory, r)).collect();
    Ok(Json(Page { items, next }))
}

/// Show one access with the lines that show it; for a session, the lines of machines' logs that show the same.
#[utoipa::path(get, path = "/accesses/{id}", operation_id = "access", params(("id" = String, Path)), responses((status = 200, body = AccessView), (status = 404)))]
pub(super) async fn show(State(app): State<Arc<App>>, Reader(seen): Reader, Path(id): Path<String>) -> Result<Json<AccessView>, Problem> {
    let rules = app.rules.now();
    let directory = rules.policy.directory();
    let found = app.store.access(&id).await?.filter(|r| seen.machine(directory, &r.machine));
    let mut record = found.ok_or_else(|| Problem::not_found("There is no such access."))?;
    if let Some(session) = &record.session {
        record.lines = app.store.lines_of_session(session).await?;
    }
    Ok(Json(view(directory, record)))
}

/// Count who got into which machine: totals of people, machines, addresses or accounts, and over time.
#[utoipa::path(get, path = "/access-report", operation_id = "accessReport", params(AccessQuery, TotalQuery), responses((status = 200, body = AccessReport)))]
pub(super) async fn report(
    State(app): State<Arc<App>>,
    _: EverythingReader,
    Query(q): Query<AccessQuery>,
    Query(by): Query<TotalQuery>,
) -> Result<Json<AccessReport>, Problem> {
    let of = match by.by.as_deref() {
        None | Some("" | "person") => TotalOf::Person,
        Some("machine") => TotalOf::Machine,
        Some("source") => TotalOf::Source,
        Some("account") => TotalOf::Account,
        Some(_) => return Err(Problem::bad_request("`by` is `person`, `machine`, `source` or `account`.")),
    };
    let span = (q.from, q.until);
    let filter = filter(AccessQuery { after: None, ..q }, MOST_TOTALS)?;
    let (totals, hours) = tokio::try_join!(app.store.access_totals(&filter, of), app.store.accesses_over_time(&filter, HOUR_MS))?;
    let rules = app.rules.now();
    let (directory, zone) = (rules.policy.directory(), rules.policy.zone().clone());
    let (all, around) = hours.iter().fold((0, 0), |(a, r), (_, n, around)| (a + n, r + around));
    let people = match of {
        TotalOf::Person => totals.iter().filter(|t| !t.name.is_empty()).count() as u64,
        TotalOf::Machine | TotalOf::Source | TotalOf::Account => 0,
    };
    let by_whom = if people > 0 { format!(" by {}", people_counted(people)) } else { String::new() };
    let rest = match around {
        0 => "all of them through Aerie".to_string(),
        1 => "1 of them around Aerie".to_string(),
        n => format!("{n} of them around Aerie"),
    };
    let sentence = if all == 0 {
        "Nobody got into any machine in that time, as far as is known.".to_string()
    } else {
        format!("{}{by_whom}, {rest}.", accesses_counted(all))
    };
    let view = |t: aerie_store::AccessTotal| TotalView {
        shown: match of {
            TotalOf::Person if t.name.is_empty() => "Somebody".into(),
            TotalOf::Person => shown(directory, &t.name),
            TotalOf::Machine | TotalOf::Source | TotalOf::Account => aerie_core::diagnostic::printable(&t.name),
        },
        name: t.name,
        count: t.count,
        around: t.around,
        seconds: t.seconds,
        longest: t.longest,
        first: t.first,
        last: t.last,
    };
    Ok(Json(AccessReport {
        sentence,
        count: all,
        around,
        totals: totals.into_iter().map(view).collect(),
        spans: spans(&hours, span, &zone),
        zone: zone.iana_name().unwrap_or("UTC").into(),
    }))
}

fn people_counted(n: u64) -> String {
    if n == 1 { "1 person".into() } else { format!("{n} people") }
}

fn accesses_counted(n: u64) -> String {
    if n == 1 { "1 access".into() } else { format!("{n} accesses") }
}

/// Hours as they were counted, or the days of the zone that they belong to.
fn spans(hours: &[(Timestamp, u64, u64)], (from, until): (Option<Timestamp>, Option<Timestamp>), zone: &TimeZone) -> Vec<SpanCount> {
    let short = from.is_some_and(|f| until.unwrap_or_else(Timestamp::now).duration_since(f) <= BY_THE_HOUR);
    let mut found: BTreeMap<Timestamp, (u64, u64)> = BTreeMap::new();
    for (at, all, around) in hours {
        let day = || at.to_zoned(zone.clone()).date().to_zoned(zone.clone()).map(|z| z.timestamp()).unwrap_or(*at);
        let begin = if short { *at } else { day() };
        let entry = found.entry(begin).or_default();
        (entry.0, entry.1) = (entry.0 + all, entry.1 + around);
    }
    found.into_iter().map(|(begin, (count, around))| SpanCount { begin, count, around }).collect()
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn days_are_those_of_the_zone() {
        let t = |s: &str| s.parse::<Timestamp>().unwrap();
        let zone = TimeZone::get("Asia/Tokyo").unwrap();
        let hours = [(t("2026-11-22T14:00:00Z"), 2, 1), (t("2026-11-22T15:00:00Z"), 3, 0)];
        let told = |from: &str| {
            spans(&hours, (Some(t(from)), Some(t("2026-11-23T00:00:00Z"))), &zone)
                .into_iter()
                .map(|s| (s.begin.to_string(), s.count, s.around))
                .collect::<Vec<_>>()
        };
        assert_eq!(told("2026-11-01T00:00:00Z"), [("2026-11-21T15:00:00Z".into(), 2, 1), ("2026-11-22T15:00:00Z".into(), 3, 0)]);
        assert_eq!(told("2026-11-22T00:00:00Z").len(), 2);
    }
}
