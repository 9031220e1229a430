use super::caller::{Administrator, Caller, Reader};
use super::problem::{Problem, view};
use crate::rulebook::{PublishError, diagnose};
use crate::service::App;
use aerie_api::{PolicyChecked, PolicyText, PolicyView, RuleView, Why, WhyQuery};
use aerie_core::diagnostic::Severity;
use aerie_core::evidence::{EventKind, NewEvent};
use aerie_core::policy::{Capability, Facts, Outcome, Request, Speech, Tracks};
use axum::Json;
use axum::extract::{Query, State};
use axum::http::{HeaderMap, header};
use axum::response::{AppendHeaders, IntoResponse, Response};
use jiff::Timestamp;
use std::sync::Arc;

/// The rules in force.
///
/// The ETag is their version, to be sent as If-Match when others are published.
#[utoipa::path(get, path = "/policy", operation_id = "policy", responses((status = 200, body = PolicyView)))]
pub(super) async fn policy(State(app): State<Arc<App>>, _: Reader) -> Result<Response, Problem> {
    let newest = app.store.policies().await?.pop();
    let shown = match newest {
        Some(p) => PolicyView { version: p.version, text: p.text, published_at: Some(p.published_at), published_by: Some(p.published_by) },
        None => PolicyView { version: 0, text: String::new(), published_at: None, published_by: None },
    };
    Ok((AppendHeaders([(header::ETAG, format!("\"{}\"", shown.version))]), Json(shown)).into_response())
}

/// Check a rule document without publishing it.
#[utoipa::path(post, path = "/policy/check", operation_id = "checkPolicy", request_body = PolicyText, responses((status = 200, body = PolicyChecked)))]
pub(super) async fn check(State(app): State<Arc<App>>, _: Reader, Json(given): Json<PolicyText>) -> Json<PolicyChecked> {
    let found = diagnose(&given.text, app.rules.now().policy.directory(), Timestamp::now());
    let ok = found.iter().all(|d| d.severity != Severity::Error);
    Json(PolicyChecked { ok, version: None, diagnostics: found.iter().map(|d| view(&given.text, d)).collect() })
}

/// Publish a rule document. Live sessions are decided again at once.
#[utoipa::path(put, path = "/policy", operation_id = "publishPolicy", request_body = PolicyText,
    params(("if-match" = Option<String>, Header, description = "ETag of the rules it was written against")),
    responses((status = 200, body = PolicyChecked), (status = 412, description = "Others were published in between"), (status = 422, description = "The document has errors")))]
pub(super) async fn publish(
    State(app): State<Arc<App>>,
    Administrator(caller): Administrator,
    headers: HeaderMap,
    Json(given): Json<PolicyText>,
) -> Result<Json<PolicyChecked>, Problem> {
    let after = match headers.get(header::IF_MATCH) {
        None => None,
        Some(tag) => Some(
            tag.to_str()
                .ok()
                .and_then(|t| t.trim_matches('"').parse().ok())
                .ok_or_else(|| Problem::bad_request("If-Match is not the ETag of rules."))?,
        ),
    };
    let now = Timestamp::now();
    let (version, found) = app.rules.publish(&given.text, &caller.person.name, now, after).await.map_err(|e| match e {
        PublishError::Invalid(found) => Problem::invalid(&given.text, &found),
        PublishError::Conflict => {
            Problem::conflict("Others were published since you read the rules. Read them again and repeat your change.")
        }
        PublishError::Store(e) => e.into(),
    })?;
    let event = NewEvent::new(now, EventKind::PolicyPublished, &caller.person.name)
        .says(format!("{} published version {version} of the rules.", caller.person.name))
        .with("version", version);
    app.log.append(event).await?;
    app.tell("rules");
    Ok(Json(PolicyChecked { ok: true, version: Some(version), diagnostics: found.iter().map(|d| view(&given.text, d)).collect() }))
}

/// Why may somebody, or why not?
///
/// Every factor is taken as proved, so that the answer is about the rules: what they demand is listed.
#[utoipa::path(get, path = "/why", operation_id = "why", params(WhyQuery), responses((status = 200, body = Why)))]
pub(super) async fn why(State(app): State<Arc<App>>, caller: Caller, Query(q): Query<WhyQuery>) -> Result<Json<Why>, Problem> {
    if !caller.reads_all() && q.person != caller.person.name {
        return Err(Problem::not_allowed("Ask about yourself: only administrators and auditors ask about others."));
    }
    let capability = Capability::from_word(&q.capability).ok_or_else(|| {
        Problem::bad_request(format!(
            "There is no capability `{}`: known are {}.",
            q.capability,
            Capability::ALL.map(Capability::word).join(", ")
        ))
    })?;
    let from = q.from.as_deref().map(str::parse).transpose().map_err(|_| Problem::bad_request("`from` is not an address."))?;
    let rules = app.rules.now();
    let facts = Facts { recorded: Tracks::all(), ..Facts::default() };
    let request = Request {
        person: &q.person,
        capability,
        machine: &q.machine,
        account: q.account.as_deref(),
        at: q.at.unwrap_or_else(Timestamp::now),
        from,
        facts,
    };
    let speech = if caller.reads_all() { Speech::Insider } else { Speech::Person };
    let decision = rules.policy.decide(&request);
    let (outcome, missing) = match &decision.outcome {
        Outcome::Granted(_) => ("granted", vec![]),
        Outcome::Unmet { missing, .. } => ("unmet", missing.factors.words().into_iter().map(Into::into).collect()),
        Outcome::Refused(_) => ("refused", vec![]),
    };
    let shown = caller.reads_all();
    Ok(Json(Why {
        outcome: outcome.into(),
        sentence: rules.policy.sentence(&request, &decision, speech),
        missing,
        rules: decision
            .because
            .iter()
            .filter(|_| shown)
            .map(|r| RuleView { name: r.name.to_string(), effect: r.effect.word().into(), line: r.line as u64 })
            .collect(),
        holds_until: decision.holds_until,
        policy_version: rules.version,
    }))
}
