//! Who got into which machine, counted, and the reports that are mailed of it.

use crate::asking::{Told, tell_people};
use crate::service::App;
use aerie_api::{AccessReport, SpanCount, TotalView};
use aerie_core::audit::{By, CaseState, Importance, MOST_ROWS, Report, ReportFinding, ReportRow};
use aerie_core::directory::{Act, Directory, Standing};
use aerie_core::evidence::{EventKind, NewEvent};
use aerie_store::{AccessFilter, AccessTotal, FindingFilter, KeptSchedule, StoreError, TotalOf};
use jiff::tz::TimeZone;
use jiff::{SignedDuration, Timestamp};
use std::collections::BTreeMap;

/// Totals at most.
pub(crate) const MOST_TOTALS: u32 = 500;
/// Machines whose totals are put together by their operating systems.
const MOST_MACHINES: u32 = 100_000;
/// Findings that a report looks at.
const MOST_FINDINGS: u32 = 10_000;
/// Up to so long a report counts by the hour.
const BY_THE_HOUR: SignedDuration = SignedDuration::from_hours(72);
const HOUR_MS: i64 = 3_600_000;

/// How a person is called.
pub(crate) fn shown(directory: &Directory, person: &str) -> String {
    directory.person(person).map_or(person.to_string(), |p| p.shown().to_string())
}

/// Counts the accesses of a filter.
pub(crate) async fn access_report(app: &App, filter: &AccessFilter, by: By) -> Result<AccessReport, StoreError> {
    let (totals, hours) = tokio::try_join!(totals(app, filter, by), app.store.accesses_over_time(filter, HOUR_MS))?;
    let rules = app.rules.now();
    let (directory, zone) = (rules.policy.directory(), rules.policy.zone().clone());
    let (all, around) = hours.iter().fold((0, 0), |(a, r), (_, n, around)| (a + n, r + around));
    let people = if by == By::Person { totals.iter().filter(|t| !t.name.is_empty()).count() as u64 } else { 0 };
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
    let view = |t: AccessTotal| TotalView {
        shown: match by {
            _ if t.name.is_empty() => by.nameless().into(),
            By::Person => shown(directory, &t.name),
            By::Machine | By::Source | By::Account | By::Rule | By::System => aerie_core::diagnostic::printable(&t.name),
        },
        name: t.name,
        count: t.count,
        around: t.around,
        seconds: t.seconds,
        longest: t.longest,
        first: t.first,
        last: t.last,
    };
    Ok(AccessReport {
        sentence,
        count: all,
        around,
        totals: totals.into_iter().map(view).collect(),
        spans: spans(&hours, (filter.since, filter.until), &zone),
        zone: zone.iana_name().unwrap_or("UTC").into(),
    })
}

async fn totals(app: &App, filter: &AccessFilter, by: By) -> Result<Vec<AccessTotal>, StoreError> {
    let of = match by {
        By::Person => TotalOf::Person,
        By::Machine => TotalOf::Machine,
        By::Source => TotalOf::Source,
        By::Account => TotalOf::Account,
        By::Rule => TotalOf::Rule,
        By::System => {
            let all = AccessFilter { limit: MOST_MACHINES, ..filter.clone() };
            return Ok(by_system(app, app.store.access_totals(&all, TotalOf::Machine).await?));
        }
    };
    app.store.access_totals(filter, of).await
}

/// Totals of machines, put together by what their agents say that they run, or their label `os=…`.
fn by_system(app: &App, machines: Vec<AccessTotal>) -> Vec<AccessTotal> {
    let rules = app.rules.now();
    let directory = rules.policy.directory();
    let mut all: BTreeMap<String, AccessTotal> = BTreeMap::new();
    for one in machines {
        let facts = app.agents.of(&one.name).and_then(|known| known.facts());
        let told = facts.map(|f| format!("{} {}", f.system.name, f.system.version).trim().to_string()).filter(|t| !t.is_empty());
        let labelled = || directory.machine(&one.name)?.labels.iter().find_map(|l| l.strip_prefix("os=").map(String::from));
        let system = told.or_else(labelled).unwrap_or_default();
        let begin = || AccessTotal { name: system.clone(), count: 0, around: 0, seconds: 0, longest: 0, ..one.clone() };
        let total = all.entry(system.clone()).or_insert_with(begin);
        (total.count, total.around, total.seconds) = (total.count + one.count, total.around + one.around, total.seconds + one.seconds);
        (total.longest, total.first, total.last) = (total.longest.max(one.longest), total.first.min(one.first), total.last.max(one.last));
    }
    let mut all: Vec<AccessTotal> = all.into_values().collect();
    all.sort_by(|a, b| b.count.cmp(&a.count).then_with(|| a.name.cmp(&b.name)));
    all
}

/// A report on a time.
pub(crate) async fn report(app: &App, (from, until): (Timestamp, Timestamp), by: By) -> Result<Report, StoreError> {
    let filter = AccessFilter { since: Some(from), until: Some(until), limit: MOST_TOTALS, ..AccessFilter::default() };
    let counted = access_report(app, &filter, by).await?;
    let filter = FindingFilter {
        state: Some("unsettled".into()),
        before: Some((until, String::new())),
        limit: MOST_FINDINGS,
        ..FindingFilter::default()
    };
    let found = app.store.findings(&filter).await?.into_iter();
    let mut found: Vec<_> = found.filter(|k| k.finding.last >= from && k.finding.importance > Importance::Low).collect();
    found.sort_by_key(|k| (std::cmp::Reverse(k.finding.importance), std::cmp::Reverse(k.finding.last)));
    let finding = |k: aerie_store::KeptFinding| ReportFinding {
        id: k.finding.id,
        importance: k.finding.importance,
        state: if k.case.state == CaseState::Open { "open".into() } else { k.case.state.word().into() },
        sentence: k.finding.sentence,
    };
    let row = |t: TotalView| ReportRow { name: t.shown, count: t.count, around: t.around, seconds: t.seconds, longest: t.longest };
    Ok(Report {
        from,
        until,
        zone: app.rules.now().policy.zone().clone(),
        sentence: counted.sentence,
        by,
        totals: counted.totals.into_iter().map(row).collect(),
        findings: found.into_iter().map(finding).collect(),
        coverage: coverage(app, from, until).await?,
        address: app.address(),
    })
}

/// Of how many machines there is a log of that time, in a sentence.
async fn coverage(app: &App, from: Timestamp, until: Timestamp) -> Result<String, StoreError> {
    let day = |t: Timestamp| t.as_second().div_euclid(86_400);
    let covered = app.store.coverage(day(from), day(until.saturating_sub(SignedDuration::from_secs(1)).unwrap_or(until))).await?;
    let rules = app.rules.now();
    let blind: Vec<String> =
        rules.policy.directory().machines().iter().filter(|m| !covered.contains_key(&m.name)).map(|m| m.name.clone()).collect();
    let all = rules.policy.directory().machines().len();
    let some = blind.get(..blind.len().min(MOST_ROWS)).unwrap_or_default();
    Ok(match blind.len() {
        0 => format!("There is a log of each of the {all} machines."),
        n if n == some.len() => format!("No log tells of {n} of the {all} machines: {}.", aerie_core::wording::list(some)),
        n => format!("No log tells of {n} of the {all} machines, among them {}.", aerie_core::wording::list(some)),
    })
}

/// Whether somebody may read everything everywhere, now.
pub(crate) fn reads_everything(app: &App, name: &str) -> bool {
    let rules = app.rules.now();
    let day = Timestamp::now().to_zoned(rules.policy.zone().clone()).date();
    let good = |p: &aerie_core::directory::Person| p.standing(day) == Standing::Good && p.may_everywhere(Act::ReadEverything);
    rules.policy.directory().person(name).is_some_and(good)
}

/// Mails what is due.
pub(crate) async fn mail_due(app: &App, now: Timestamp) -> Result<(), StoreError> {
    let zone = app.rules.now().policy.zone().clone();
    for kept in app.store.schedules().await?.into_iter().filter(|k| k.next <= now) {
        // Whoever made it may be gone or no longer allowed: their report ends with that.
        if !reads_everything(app, &kept.by) {
            app.store.remove_schedule(&kept.id).await?;
            let says = format!("The report that {} had mailed is ended: they may not read everything any more.", kept.by);
            app.log.append(NewEvent::new(now, EventKind::ReportChanged, "service").says(says).with("report", kept.id)).await?;
            continue;
        }
        // The hour may have passed while the service was down: it is about the time that was due.
        let report = report(app, kept.schedule.span(kept.next, &zone), kept.schedule.by).await?;
        if app.store.reported(&kept, now, kept.schedule.next(now, &zone)).await? {
            send(app, &kept, &report, now).await?;
        }
    }
    Ok(())
}

async fn send(app: &App, kept: &KeptSchedule, report: &Report, now: Timestamp) -> Result<(), StoreError> {
    let people = kept.schedule.to.iter().filter(|p| reads_everything(app, p)).cloned().collect();
    let (subject, text) = (report.subject(), report.text());
    tell_people(app, &people, Told { kind: "report", about: &kept.id, subject: &subject, text: &text }).await;
    let says = format!("A report was mailed to {}: {subject}.", aerie_core::wording::list(&people.into_iter().collect::<Vec<_>>()));
    app.note(NewEvent::new(now, EventKind::ReportChanged, "service").says(says).with("report", kept.id.clone())).await;
    Ok(())
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
