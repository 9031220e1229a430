use super::caller::{Caller, FreshAdministrator, RuleReader};
use super::problem::{Problem, view};
use super::version_of;
use crate::machines::neighbours;
use crate::rulebook::{Checked, PublishError};
use crate::second;
use crate::service::App;
use aerie_api::{PolicyChecked, PolicyRead, PolicyText, PolicyView, PublishNote, RuleCard, RuleEdit, RuleView, VersionView, Why, WhyQuery};
use aerie_core::directory::Act;
use aerie_core::evidence::{EventKind, NewEvent};
use aerie_core::policy::{
    Capability, Change, Effect, Factor, Factors, Facts, ForwardTarget, Outcome, PROVED_AHEAD, Policy, Proofs, Request, Rule, Speech,
    Tracks, Turn, add_rule, change_rule, compare, remove_rule, rule_fields,
};
use aerie_store::{PolicyVersion, Publication};
use axum::Json;
use axum::extract::{Path, Query, State};
use axum::http::{HeaderMap, header};
use axum::response::{AppendHeaders, IntoResponse, Response};
use jiff::Timestamp;
use std::sync::Arc;

/// The rules in force.
///
/// The ETag is their version, to be sent as If-Match when others are published.
#[utoipa::path(get, path = "/policy", operation_id = "policy", responses((status = 200, body = PolicyView)))]
pub(super) async fn policy(State(app): State<Arc<App>>, _: RuleReader) -> Result<Response, Problem> {
    let shown = match app.store.newest_policy().await? {
        Some(p) => PolicyView { version: p.version, text: p.text, published_at: Some(p.published_at), published_by: Some(p.published_by) },
        None => PolicyView { version: 0, text: String::new(), published_at: None, published_by: None },
    };
    Ok((AppendHeaders([(header::ETAG, format!("\"{}\"", shown.version))]), Json(shown)).into_response())
}

/// Check a rule document without publishing it. Guardrails are proved and its tests are run.
#[utoipa::path(post, path = "/policy/check", operation_id = "checkPolicy", request_body = PolicyText, responses((status = 200, body = PolicyChecked)))]
pub(super) async fn check(
    State(app): State<Arc<App>>,
    _: RuleReader,
    Json(given): Json<PolicyText>,
) -> Result<Json<PolicyChecked>, Problem> {
    let found = app.rules.check(&given.text).await.map_err(|e| refused(&given.text, e))?;
    Ok(Json(PolicyChecked { ok: found.ok(), version: None, diagnostics: views(&given.text, &found) }))
}

fn views(text: &str, found: &Checked) -> Vec<aerie_api::DiagnosticView> {
    found.diagnostics.iter().map(|d| view(text, d)).collect()
}

/// Read a rule document as its rules, with what is wrong in it.
#[utoipa::path(post, path = "/policy/read", operation_id = "readPolicy", request_body = PolicyText, responses((status = 200, body = PolicyRead)))]
pub(super) async fn read(State(app): State<Arc<App>>, _: RuleReader, Json(given): Json<PolicyText>) -> Result<Json<PolicyRead>, Problem> {
    let found = app.rules.check(&given.text).await.map_err(|e| refused(&given.text, e))?;
    let mut shown = PolicyRead {
        ok: found.ok(),
        diagnostics: views(&given.text, &found),
        rules: vec![],
        hours: vec![],
        tests: 0,
        second_person: false,
    };
    if let Some(policy) = &found.policy {
        let document = policy.document();
        shown.rules = cards(policy, &given.text);
        shown.hours = document.hours.iter().map(|h| h.name.to_string()).collect();
        shown.tests = document.cases.len() as u64;
        shown.second_person = document.second_person;
    }
    Ok(Json(shown))
}

/// The rules as cards, in the order of the text.
fn cards(policy: &Policy, text: &str) -> Vec<RuleCard> {
    let mut fields = rule_fields(text).unwrap_or_default();
    let mut card = |rule: &Rule, sentence: String| RuleCard {
        name: rule.name.to_string(),
        effect: rule.effect.word().into(),
        line: rule.line as u64,
        sentence,
        note: rule.note.as_ref().map(ToString::to_string),
        people: policy.directory().select_people(&rule.people.0).len() as u64,
        machines: policy.directory().select_machines(&rule.machines.0).len() as u64,
        fields: fields.remove(&*rule.name).unwrap_or_default(),
    };
    let document = policy.document();
    let mut all: Vec<RuleCard> = document.rules.iter().map(|r| card(r, policy.rule_sentence(r))).collect();
    all.extend(document.guards.iter().map(|g| card(&g.rule, policy.guard_sentence(g))));
    all.sort_by_key(|c| c.line);
    all
}

/// Add, change or remove one rule of a document. Comments and everything else stay as they are written.
#[utoipa::path(post, path = "/policy/edit", operation_id = "editPolicy", request_body = RuleEdit, responses((status = 200, body = PolicyText)))]
pub(super) async fn edit(_: RuleReader, Json(given): Json<RuleEdit>) -> Result<Json<PolicyText>, Problem> {
    let done = match (&given.name, &given.fields) {
        (Some(name), Some(fields)) => change_rule(&given.text, name, fields),
        (Some(name), None) => remove_rule(&given.text, name),
        (None, Some(fields)) => {
            let word = given.effect.as_deref().unwrap_or("");
            let effect = Effect::ALL.into_iter().find(|e| e.word() == word);
            let effect = effect.ok_or_else(|| Problem::bad_request("`effect` is `allow`, `forbid`, `require` or `never`."))?;
            add_rule(&given.text, effect, fields)
        }
        (None, None) => return Err(Problem::bad_request("Name the rule, or give the fields of a new one.")),
    };
    done.map(|text| Json(PolicyText { text })).map_err(|e| Problem::bad_request(format!("{e}.")))
}

/// Why rules were not published, as the API tells it.
pub(super) fn refused(text: &str, e: PublishError) -> Problem {
    match e {
        PublishError::Invalid(found) => Problem::invalid(text, &found),
        PublishError::Conflict => {
            Problem::conflict("Others were published since you read the rules. Read them again and repeat your change.")
        }
        PublishError::SecondPerson => Problem::not_allowed(
            "The rules in force want a second person: make a draft, let another administrator agree to it, and publish it then.",
        ),
        PublishError::Store(e) => e.into(),
        PublishError::Broken => Problem::internal(&"a check broke off"),
    }
}

/// Publishes, logs that it was done, and signs the log.
pub(super) async fn put_in_force(app: &App, wanted: Publication<'_>) -> Result<PolicyChecked, Problem> {
    let now = Timestamp::now();
    let (version, found) = app.rules.publish(wanted, now).await.map_err(|e| refused(wanted.text, e))?;
    let how = match (wanted.restored, wanted.agreed_by) {
        (Some(earlier), _) => format!(", which is version {earlier} again"),
        (None, Some(second)) => format!(", to which {second} agreed"),
        (None, None) => String::new(),
    };
    let mut event = NewEvent::new(now, EventKind::PolicyPublished, wanted.by)
        .says(format!("{} published version {version} of the rules{how}.", wanted.by))
        .with("version", version)
        .with("note", wanted.note.to_string());
    if let Some(second) = wanted.agreed_by {
        event = event.with("agreed_by", second.to_string());
    }
    app.log.append(event).await?;
    app.log.checkpoint(now).await?;
    app.tell("rules");
    Ok(PolicyChecked { ok: true, version: Some(version), diagnostics: found.iter().map(|d| view(wanted.text, d)).collect() })
}

/// Refuses rules by which their author could do more than before, where a second administrator could agree to them instead. What cannot be
/// read is refused elsewhere.
pub(super) async fn must_not_gain(app: &App, author: &str, text: &str, now: Timestamp) -> Result<(), Problem> {
    if !second::is_needed(app, now) {
        return Ok(());
    }
    let (before, author, text) = (app.rules.now().policy.clone(), author.to_string(), text.to_string());
    let gained = app.rules.think(move || {
        let after = Policy::compile(aerie_core::policy::read(&text).ok()?, before.directory().clone(), now);
        let told = compare(&before, &after, now, now.saturating_add(PROVED_AHEAD).unwrap_or(Timestamp::MAX));
        let more = |c: &&Change| matches!(c.turn, Turn::Gains | Turn::Easier | Turn::Different) && c.people.contains(&author);
        told.changes
            .iter()
            .find(more)
            .map(|c| (c.capabilities.words().join(" "), c.machines.iter().take(3).cloned().collect::<Vec<_>>().join(", ")))
    });
    match gained.await? {
        None => Ok(()),
        Some((capabilities, machines)) => Err(Problem::own_rights(format!(
            "These rules give their author more ({capabilities} on {machines}): begin a draft, and let a second administrator agree to it."
        ))),
    }
}

/// Publish a rule document. Live sessions are decided again at once.
#[utoipa::path(put, path = "/policy", operation_id = "publishPolicy", request_body = PolicyText,
    params(("if-match" = Option<String>, Header, description = "ETag of the rules it was written against")),
    responses((status = 200, body = PolicyChecked), (status = 403, description = "A second person must agree: use a draft"), (status = 412, description = "Others were published in between"), (status = 422, description = "The document has errors")))]
pub(super) async fn publish(
    State(app): State<Arc<App>>,
    FreshAdministrator(caller): FreshAdministrator,
    headers: HeaderMap,
    Json(given): Json<PolicyText>,
) -> Result<Json<PolicyChecked>, Problem> {
    let after = version_of(&headers)?;
    must_not_gain(&app, &caller.person.name, &given.text, caller.now).await?;
    let wanted = Publication { text: &given.text, by: &caller.person.name, after, ..Publication::default() };
    Ok(Json(put_in_force(&app, wanted).await?))
}

/// Every version of the rules, newest first.
#[utoipa::path(get, path = "/policy/versions", operation_id = "policyVersions", responses((status = 200, body = Vec<VersionView>)))]
pub(super) async fn versions(State(app): State<Arc<App>>, _: RuleReader) -> Result<Json<Vec<VersionView>>, Problem> {
    let all = app.store.policies().await?;
    let before = std::iter::once("").chain(all.iter().map(|p| p.text.as_str()));
    let mut shown: Vec<VersionView> = all.iter().zip(before).map(|(p, before)| version_view(p, before, false)).collect();
    shown.reverse();
    Ok(Json(shown))
}

fn version_view(p: &PolicyVersion, before: &str, whole: bool) -> VersionView {
    let (added, removed) = changed_lines(before, &p.text);
    VersionView {
        version: p.version,
        published_at: p.published_at,
        published_by: p.published_by.clone(),
        agreed_by: p.agreed_by.clone(),
        note: p.note.clone(),
        restored: p.restored,
        added,
        removed,
        text: whole.then(|| p.text.clone()),
    }
}

/// How many lines are in one text and not in the other, each line counted as often as it stands there.
fn changed_lines(before: &str, after: &str) -> (u64, u64) {
    let mut balance: std::collections::HashMap<&str, i64> = std::collections::HashMap::new();
    after.lines().for_each(|l| *balance.entry(l).or_default() += 1);
    before.lines().for_each(|l| *balance.entry(l).or_default() -= 1);
    let sum = |wanted: fn(i64) -> i64| balance.values().map(|n| u64::try_from(wanted(*n)).unwrap_or(0)).sum();
    (sum(|n| n.max(0)), sum(|n| (-n).max(0)))
}

/// One version of the rules.
#[utoipa::path(get, path = "/policy/versions/{version}", operation_id = "policyVersion", params(("version" = i64, Path)), responses((status = 200, body = VersionView), (status = 404)))]
pub(super) async fn version(State(app): State<Arc<App>>, _: RuleReader, Path(version): Path<i64>) -> Result<Json<VersionView>, Problem> {
    let found = find_version(&app, version).await?;
    let before = app.store.policy_version(version - 1).await?.map(|p| p.text).unwrap_or_default();
    Ok(Json(version_view(&found, &before, true)))
}

async fn find_version(app: &App, version: i64) -> Result<PolicyVersion, Problem> {
    app.store.policy_version(version).await?.ok_or_else(|| Problem::not_found("There is no such version of the rules."))
}

/// Put an earlier version in force again, as a new one.
///
/// It is checked like any other: names that are gone since then keep it out.
#[utoipa::path(post, path = "/policy/versions/{version}/restore", operation_id = "restorePolicy", params(("version" = i64, Path)), request_body = PublishNote,
    responses((status = 200, body = PolicyChecked), (status = 403, description = "A second person must agree: use a draft"), (status = 404), (status = 422)))]
pub(super) async fn restore(
    State(app): State<Arc<App>>,
    FreshAdministrator(caller): FreshAdministrator,
    Path(version): Path<i64>,
    Json(said): Json<PublishNote>,
) -> Result<Json<PolicyChecked>, Problem> {
    let found = find_version(&app, version).await?;
    let wanted =
        Publication { text: &found.text, by: &caller.person.name, note: &said.note, restored: Some(version), ..Publication::default() };
    must_not_gain(&app, &caller.person.name, wanted.text, caller.now).await?;
    Ok(Json(put_in_force(&app, wanted).await?))
}

/// The capability of a word.
pub(super) fn capability_of(word: &str) -> Result<Capability, Problem> {
    Capability::from_word(word).ok_or_else(|| {
        let known = Capability::ALL.map(Capability::word).join(", ");
        Problem::bad_request(format!("There is no capability `{word}`: known are {known}."))
    })
}

/// Why may somebody, or why not, and what would change it?
///
/// Nothing is taken as proved unless `factors` says so; a recording is. What the rules demand is listed.
#[utoipa::path(get, path = "/why", operation_id = "why", params(WhyQuery), responses((status = 200, body = Why)))]
pub(super) async fn why(State(app): State<Arc<App>>, caller: Caller, Query(q): Query<WhyQuery>) -> Result<Json<Why>, Problem> {
    let (own, seen) = (q.person == caller.person.name, caller.within(Act::ReadDirectory));
    let directory = app.rules.now().policy.directory().clone();
    if !own && !seen.as_ref().is_some_and(|s| s.person(&directory, &q.person)) {
        return Err(Problem::not_allowed("Ask about yourself: only those who look after people or rules ask about others."));
    }
    if !own && !seen.as_ref().is_some_and(|s| s.machine(&directory, &q.machine)) {
        return Err(Problem::not_allowed("This machine is outside of what you look after."));
    }
    let capability = capability_of(&q.capability)?;
    let from = q.from.as_deref().map(str::parse).transpose().map_err(|_| Problem::bad_request("`from` is not an address."))?;
    let rules = app.rules.now();
    let shown = seen.is_some();
    let (version, policy) = match q.version.filter(|_| shown) {
        None => (rules.version, rules.policy),
        Some(v) => (v, app.rules.version(v).await?.ok_or_else(|| Problem::not_found("There is no such version of the rules."))?),
    };
    let at = q.at.unwrap_or_else(Timestamp::now);
    let words = q.factors.as_deref().unwrap_or("");
    let factors: Option<Vec<Factor>> = words.split(',').map(str::trim).filter(|w| !w.is_empty()).map(Factor::from_word).collect();
    let factors =
        factors.ok_or_else(|| Problem::bad_request(format!("Known factors are {}.", Factor::ALL.map(Factor::word).join(", "))))?;
    let asked: Option<ForwardTarget> = match q.target.as_deref().map(str::trim).filter(|t| !t.is_empty()) {
        Some(_) if capability != Capability::Forward => return Err(Problem::bad_request("A target is of `forward` alone.")),
        Some(text) => Some(text.parse().map_err(|e| Problem::bad_request(format!("`target` is not host:port: {e}.")))?),
        None => None,
    };
    let decided = asked.as_ref().map(|t| neighbours::decided(&app, &q.machine, t));
    let target = decided.as_ref();
    let facts = Facts { proofs: Proofs::at(Factors::of(factors), at), recorded: Tracks::all(), target, ..Facts::default() };
    let request = Request { person: &q.person, capability, machine: &q.machine, account: q.account.as_deref(), at, from, facts };
    let mut why = answer(&policy, &request, version, shown);
    // A target behind the machine obeys the rules of both. Users do not learn of machines that are not for them.
    let beyond = match &asked {
        Some(target) if why.outcome != "refused" => neighbours::beyond(&app, &q.machine, target).await,
        Some(_) | None => vec![],
    };
    for other in &beyond {
        if why.outcome == "refused" {
            break;
        }
        let itself = ForwardTarget::itself(target.map_or(1, ForwardTarget::port));
        let request = Request { machine: other, account: None, facts: Facts { target: Some(&itself), ..facts }, ..request };
        let there = answer(&policy, &request, version, shown);
        why = match there.outcome.as_str() {
            "granted" => why,
            "refused" if !shown => Why { sentence: no_rule(&q.machine, target), changes: vec![], ..there },
            _ => Why { sentence: format!("{} This port leads to {other}. {}", why.sentence, there.sentence), ..there },
        };
    }
    Ok(Json(why))
}

/// The refusal for a user who must not learn that the machine exists.
fn no_rule(machine: &str, target: Option<&ForwardTarget>) -> String {
    let to = target.map(|t| format!(" to {t}")).unwrap_or_default();
    format!("No rule lets you {} {machine}{to}.", Capability::Forward.phrase())
}

fn answer(policy: &Policy, request: &Request<'_>, version: i64, insider: bool) -> Why {
    let explained = policy.explain(request);
    let decision = &explained.decision;
    let speech = if insider { Speech::Insider } else { Speech::Person };
    let (outcome, missing, demands) = match &decision.outcome {
        Outcome::Granted(grant) => ("granted", vec![], policy.demanded(&grant.demands)),
        Outcome::Unmet { missing, grant } => ("unmet", policy.needs(missing, speech), policy.demanded(&grant.demands)),
        Outcome::Refused(_) => ("refused", vec![], vec![]),
    };
    let cited = decision.because.iter().filter(|_| insider);
    Why {
        outcome: outcome.into(),
        sentence: policy.sentence(request, decision, speech),
        missing,
        rules: cited.map(|r| RuleView { name: r.name.to_string(), effect: r.effect.word().into(), line: r.line as u64 }).collect(),
        changes: if insider { explained.changes } else { vec![] },
        demands: if insider { demands } else { vec![] },
        holds_until: decision.holds_until,
        policy_version: version,
    }
}
