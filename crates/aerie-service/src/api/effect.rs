use super::caller::RuleReader;
use super::problem::{Problem, view};
use super::rules::refused;
use crate::service::App;
use aerie_api::{ChangeView, EffectQuery, EffectView, EndingView, JudgedView, PastView, RuleUseView};
use aerie_core::diagnostic::Severity;
use aerie_core::policy::{
    Backtest, Capabilities, Capability, Change, Factor, Factors, Narrower, PROVED_AHEAD, PastAccess, Policy, backtest, change_rule,
    compare, ended_by, rule_text, usage,
};
use aerie_store::{SessionFilter, SessionRow};
use axum::Json;
use axum::extract::{Query, State};
use jiff::{SignedDuration, Timestamp};
use serde::Deserialize;
use serde_json::Value;
use std::collections::BTreeMap;
use std::sync::Arc;
use utoipa::IntoParams;

/// Days of the past that are held against a draft unless asked otherwise, and at most.
const DAYS: u32 = 30;
const MOST_DAYS: u32 = 366;
/// Past sessions that are held against a draft at most, newest first.
const MOST_SESSIONS: u32 = 100_000;

fn words<T: Copy>(text: &str, known: fn(&str) -> Option<T>) -> Vec<T> {
    text.split_whitespace().filter_map(known).collect()
}

fn past_access(s: &SessionRow) -> PastAccess {
    PastAccess {
        session: s.id.clone(),
        person: s.person.clone(),
        machine: s.machine.clone(),
        account: s.account.clone(),
        capabilities: Capabilities::of(words(&s.uses, Capability::from_word)),
        at: s.began,
        from: s.source.parse().ok(),
        factors: Factors::of(words(&s.factors, Factor::from_word)),
        recorded: s.recording.is_some(),
    }
}

async fn past(app: &App, days: u32) -> Result<Vec<PastAccess>, Problem> {
    let since = Timestamp::now() - SignedDuration::from_hours(24 * i64::from(days));
    let filter = SessionFilter { since: Some(since), limit: MOST_SESSIONS, ..SessionFilter::default() };
    let mut all: Vec<PastAccess> = app.store.sessions(&filter).await?.iter().map(past_access).collect();
    all.reverse();
    Ok(all)
}

pub(super) fn change_view(c: &Change, before: &Policy, after: &Policy) -> ChangeView {
    ChangeView {
        turn: c.turn.word().into(),
        sentence: c.sentence(before, after),
        people: c.people.clone(),
        machines: c.machines.clone(),
        capabilities: c.capabilities.words().into_iter().map(Into::into).collect(),
        account: c.account.as_ref().map(ToString::to_string),
        to: c.to.as_ref().map(ToString::to_string),
        from: c.from.to_string(),
        when: c.when.clone(),
        before: c.before.clone(),
        after: c.after.clone(),
        size: c.size(),
    }
}

fn past_view(b: &Backtest) -> PastView {
    let judged = b.judged.iter().map(|j| JudgedView {
        verdict: j.verdict.into(),
        sentence: j.sentence.clone(),
        person: j.person.clone(),
        machine: j.machine.clone(),
        sessions: j.sessions.clone(),
        last: j.last,
    });
    PastView {
        sentence: b.sentence(),
        sessions: b.sessions as u64,
        unknown: b.unknown as u64,
        refused: b.count("refused") as u64,
        asked: b.count("asked") as u64,
        judged: judged.collect(),
    }
}

/// Live sessions that would no longer be allowed.
async fn ending(app: &App, draft: &Policy) -> Result<Vec<EndingView>, Problem> {
    let filter = SessionFilter { live: Some(true), limit: MOST_SESSIONS, ..SessionFilter::default() };
    let (rules, now) = (app.rules.now(), Timestamp::now());
    let live = app.store.sessions(&filter).await?;
    let ended = |row: &SessionRow| {
        let sentence = ended_by(&rules.policy, draft, &past_access(row), now)?;
        Some(EndingView { session: row.id.clone(), sentence })
    };
    Ok(live.iter().filter_map(ended).collect())
}

/// The effect that a document would have: who gains and loses what, which past sessions would have been refused, which live ones
/// would end.
#[utoipa::path(post, path = "/policy/effect", operation_id = "policyEffect", request_body = EffectQuery, responses((status = 200, body = EffectView)))]
pub(super) async fn effect(State(app): State<Arc<App>>, _: RuleReader, Json(q): Json<EffectQuery>) -> Result<Json<EffectView>, Problem> {
    let days = q.days.unwrap_or(DAYS).clamp(1, MOST_DAYS);
    let rules = app.rules.now();
    let before = match q.against {
        None => rules.policy,
        Some(v) => app.rules.version(v).await?.ok_or_else(|| Problem::not_found("There is no such version of the rules."))?,
    };
    let checked = app.rules.check(&q.text).await.map_err(|e| refused(&q.text, e))?;
    let Some(after) = checked.policy.clone() else { return Err(Problem::invalid(&q.text, &checked.diagnostics)) };
    let past = past(&app, days).await?;
    let ending = ending(&app, &after).await?;
    let from = Timestamp::now();
    let to = from.saturating_add(PROVED_AHEAD).unwrap_or(Timestamp::MAX);
    let (old, new) = (before.clone(), after.clone());
    let (comparison, told) = app.rules.think(move || (compare(&old, &new, from, to), backtest(&old, &new, &past))).await?;
    let broken = |code: &str| checked.diagnostics.iter().filter(|d| d.severity == Severity::Error && d.code == code).count() as u64;
    let document = after.document();
    Ok(Json(EffectView {
        sentence: comparison.sentence(),
        ok: checked.ok(),
        diagnostics: checked.diagnostics.iter().map(|d| view(&q.text, d)).collect(),
        changes: comparison.changes.iter().map(|c| change_view(c, &before, &after)).collect(),
        past: past_view(&told),
        guardrails: document.guards.len() as u64 - broken("policy/guardrail"),
        tests: document.cases.len() as u64 - broken("policy/test-failed"),
        ending,
        from,
        to,
    }))
}

/// How far back to look.
#[derive(Deserialize, IntoParams)]
#[into_params(parameter_in = Query)]
pub(super) struct UseQuery {
    /// Days, 1 to 366; 90 where it is not said.
    days: Option<u32>,
}

/// What became of each rule that allows something: never used, or wider than what was used.
#[utoipa::path(get, path = "/policy/use", operation_id = "policyUse", params(UseQuery), responses((status = 200, body = Vec<RuleUseView>)))]
pub(super) async fn rule_use(
    State(app): State<Arc<App>>,
    _: RuleReader,
    Query(q): Query<UseQuery>,
) -> Result<Json<Vec<RuleUseView>>, Problem> {
    let past = past(&app, q.days.unwrap_or(90).clamp(1, MOST_DAYS)).await?;
    let rules = app.rules.now();
    let (policy, text) = (rules.policy, rules.text);
    let found = app.rules.think(move || usage(&policy, &past)).await?;
    let shown = found.into_iter().map(|u| {
        let value = |n: &Narrower| match n {
            Narrower::Selector(s) => Value::from(s.as_str()),
            Narrower::Words(w) => Value::from(w.clone()),
        };
        let narrower: BTreeMap<String, Value> = u.narrower.iter().map(|(k, n)| ((*k).to_string(), value(n))).collect();
        let proposal = || rule_text(&change_rule(&text, &u.name, &narrower).ok()?, &u.name);
        RuleUseView {
            sentence: u.sentence(),
            line: u.line as u64,
            sessions: u.sessions as u64,
            last: u.last,
            proposal: if narrower.is_empty() { None } else { proposal() },
            narrower,
            name: u.name,
        }
    });
    Ok(Json(shown.collect()))
}
