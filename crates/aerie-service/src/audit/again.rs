//! The past under other rules and detections.

use super::behaviour::{around, happened};
use super::report::shown;
use super::{Known, detections};
use crate::service::App;
use aerie_api::{AgainView, DetectionDifference, DifferenceView};
use aerie_core::audit::detect::DetectionSet;
use aerie_core::audit::{Behaviour, Difference, Finding, judge_again};
use aerie_core::directory::Directory;
use aerie_core::policy::Policy;
use aerie_core::wording::{count, list};
use aerie_store::{SessionFilter, StoreError};
use jiff::{SignedDuration, Timestamp};
use std::collections::HashSet;
use std::sync::Arc;

/// Sessions that are judged at most, newest first.
const MOST: u32 = 500_000;
/// What went before a time counts for what detections make of it: no detection remembers longer.
const BEFORE: SignedDuration = SignedDuration::from_hours(24 * 120);
/// Findings that are listed.
const MOST_LISTED: usize = 500;

/// By what the past is judged.
pub(crate) struct Judging {
    pub(crate) span: (Timestamp, Timestamp),
    pub(crate) policy: Arc<Policy>,
    /// How these rules are called.
    pub(crate) called: String,
    /// Other detections than those in force.
    pub(crate) set: Option<DetectionSet>,
}

/// Judges it, and changes nothing.
pub(crate) async fn judged_again(app: &App, judging: Judging) -> Result<AgainView, StoreError> {
    let Judging { span: (from, until), policy, called, set } = judging;
    let filter = SessionFilter { since: Some(from), limit: MOST, ..SessionFilter::default() };
    let sessions: Vec<_> = app.store.sessions(&filter).await?.iter().filter(|s| s.began < until).map(|s| Known::from(s).0).collect();
    let mut accesses = around(app, from).await?;
    accesses.retain(|r| r.begin < until);
    let history = app.rules.history().await?;
    let judged = app.rules.think(move || judge_again(&history, &policy, &sessions, &accesses)).await;
    let judged = judged.map_err(|_| StoreError::LogClosed)?;
    let rules = app.rules.now();
    let directory = rules.policy.directory();
    let found = match set {
        Some(set) => other_findings(app, (from, until), set).await?,
        None => vec![],
    };
    let mut sentence = judged.sentence(&called);
    let ways = [("more", "more"), ("fewer", "fewer")].map(|(way, word)| (found.iter().filter(|d| d.way == way).count() as u64, word));
    let told: Vec<String> = ways.iter().filter(|(n, _)| *n > 0).map(|(n, word)| format!("{} {word}", count(*n, "finding"))).collect();
    if !told.is_empty() {
        sentence = format!("{sentence} The detections would raise {}.", list(&told));
    }
    Ok(AgainView {
        sentence,
        judged: judged.judged,
        stricter: judged.stricter,
        milder: judged.milder,
        differences: judged.differences.into_iter().map(|d| view(directory, d)).collect(),
        detections: found.into_iter().take(MOST_LISTED).collect(),
    })
}

fn view(directory: &Directory, d: Difference) -> DifferenceView {
    let who = d.person.as_deref().map_or("Somebody".to_string(), |p| shown(directory, p));
    let account = aerie_core::diagnostic::printable(&d.account);
    let words = |all: &[&'static str]| if all.is_empty() { "nothing".to_string() } else { list(all) };
    let why = if d.why.is_empty() { String::new() } else { format!(": {}", aerie_core::diagnostic::printable(&d.why)) };
    let (before, after) = (words(&d.before), words(&d.after));
    DifferenceView {
        sentence: format!("{who} on {} as {account}: {after} instead of {before}{why}.", d.machine),
        id: d.id,
        through: d.through,
        machine: d.machine,
        person: d.person,
        began: d.begin,
        before: d.before.into_iter().map(Into::into).collect(),
        after: d.after.into_iter().map(Into::into).collect(),
    }
}

/// What other detections would raise of that time, and what they would not.
async fn other_findings(
    app: &App,
    (from, until): (Timestamp, Timestamp),
    other: DetectionSet,
) -> Result<Vec<DetectionDifference>, StoreError> {
    let (history, now) = (app.rules.history().await?, detections(app).await?);
    let mut happened = happened(app, from.saturating_sub(BEFORE).unwrap_or(from)).await?;
    happened.retain(|h| h.at < until);
    let judged = app.rules.think(move || {
        let found = |set: Arc<DetectionSet>| -> Vec<Finding> {
            let mut behaviour = Behaviour::new(&history, set);
            happened.iter().cloned().for_each(|h| behaviour.handle(h));
            behaviour.finish(until).into_iter().filter(|f| f.last >= from).collect()
        };
        (found(now), found(Arc::new(other)))
    });
    let (before, after) = judged.await.map_err(|_| StoreError::LogClosed)?;
    let ids = |all: &[Finding]| all.iter().map(|f| f.id.clone()).collect::<HashSet<_>>();
    let (had, has) = (ids(&before), ids(&after));
    let view = |way: &str, f: Finding| DetectionDifference {
        way: way.into(),
        kind: f.word().into(),
        importance: f.importance.word().into(),
        sentence: f.sentence,
    };
    let more = after.into_iter().filter(|f| !had.contains(&f.id)).map(|f| view("more", f));
    let fewer = before.into_iter().filter(|f| !has.contains(&f.id)).map(|f| view("fewer", f));
    Ok(more.chain(fewer).collect())
}
