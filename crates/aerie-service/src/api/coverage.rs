//! For which machines and days there is evidence at all.

use super::caller::{Reader, Seen};
use super::problem::Problem;
use crate::service::App;
use aerie_api::{CoverageView, MachineCoverage};
use aerie_core::wording::count;
use aerie_store::SessionFilter;
use axum::Json;
use axum::extract::{Query, State};
use jiff::civil::Date;
use jiff::{Timestamp, ToSpan as _};
use serde::Deserialize;
use std::collections::{BTreeMap, BTreeSet};
use std::sync::Arc;
use utoipa::IntoParams;

/// Days that are shown where nothing else is asked for.
const USUAL_DAYS: u16 = 30;
/// Days at most.
pub(super) const MOST_DAYS: u16 = 400;
/// Sessions that are counted at most.
const MOST_SESSIONS: u32 = 500_000;

/// Which days.
#[derive(Deserialize, IntoParams)]
#[into_params(parameter_in = Query)]
pub(super) struct CoverageQuery {
    /// The last day; today where it is not said.
    #[param(value_type = Option<String>, format = Date)]
    until: Option<Date>,
    /// So many days, 1 to 400; 30 where it is not said.
    days: Option<u16>,
}

const EPOCH: Date = Date::constant(1970, 1, 1);

fn number(date: Date) -> i64 {
    i64::from((date - EPOCH).get_days())
}

/// Show on which days which machines' logs have something, and how many sessions Aerie carried there.
#[utoipa::path(get, path = "/coverage", operation_id = "coverage", params(CoverageQuery), responses((status = 200, body = CoverageView)))]
pub(super) async fn coverage(
    State(app): State<Arc<App>>,
    Reader(seen): Reader,
    Query(q): Query<CoverageQuery>,
) -> Result<Json<CoverageView>, Problem> {
    let today = Timestamp::now().to_zoned(jiff::tz::TimeZone::UTC).date();
    let days = q.days.unwrap_or(USUAL_DAYS).clamp(1, MOST_DAYS);
    Ok(Json(covered(&app, &seen, q.until.unwrap_or(today), days).await?))
}

/// The coverage of so many days up to one, of the machines that one may see.
pub(super) async fn covered(app: &App, seen: &Seen, last: Date, days: u16) -> Result<CoverageView, Problem> {
    let first = last.saturating_sub(i64::from(days - 1).days());
    let covered = app.store.coverage(number(first), number(last)).await?;
    let sessions = sessions(app, number(first), number(last)).await?;
    let rules = app.rules.now();
    let directory = rules.policy.directory();
    let names: BTreeSet<&str> = directory.machines().iter().map(|m| m.name.as_str()).chain(covered.keys().map(String::as_str)).collect();
    let of = |from: &BTreeMap<String, BTreeMap<i64, u64>>, machine: &str| -> Vec<u64> {
        let of_machine = from.get(machine);
        (number(first)..=number(last)).map(|day| of_machine.and_then(|m| m.get(&day)).copied().unwrap_or(0)).collect()
    };
    let machines: Vec<MachineCoverage> = names
        .into_iter()
        .filter(|name| seen.machine(directory, name))
        .map(|name| {
            let lines = of(&covered, name);
            MachineCoverage {
                machine: name.into(),
                registered: directory.machine(name).is_some(),
                covered: lines.iter().filter(|n| **n > 0).count() as u64,
                sessions: of(&sessions, name),
                lines,
            }
        })
        .collect();
    let blind = machines.iter().filter(|m| m.registered && m.covered == 0).count() as u64;
    let registered = machines.iter().filter(|m| m.registered).count() as u64;
    let sentence = match blind {
        0 => format!("In these {days} days there is a log of each of {}.", count(registered, "machine")),
        n => format!(
            "In these {days} days there is no log of {n} of {}: what went around Aerie there nobody can tell.",
            count(registered, "machine")
        ),
    };
    Ok(CoverageView { sentence, days: first.series(1.day()).take(days.into()).collect(), machines })
}

/// Sessions for machine and day of their beginning.
async fn sessions(app: &App, first: i64, last: i64) -> Result<BTreeMap<String, BTreeMap<i64, u64>>, Problem> {
    let since = Timestamp::from_second(first * 86_400).ok();
    let filter = SessionFilter { since, limit: MOST_SESSIONS, ..SessionFilter::default() };
    let mut all: BTreeMap<String, BTreeMap<i64, u64>> = BTreeMap::new();
    for s in app.store.sessions(&filter).await? {
        let day = s.began.as_second().div_euclid(86_400);
        if day <= last {
            *all.entry(s.machine).or_default().entry(day).or_default() += 1;
        }
    }
    Ok(all)
}
