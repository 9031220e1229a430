//! What is under way in the demo when it starts: a draft of the rules and a review of who has access.

use super::scenario;
use crate::Failure;
use aerie_api::{DraftText, NewReview, ReviewDecision};
use aerie_client::Client;
use aerie_core::approval::Wish;
use aerie_core::policy::{Capability, change_rule};
use aerie_store::{RequestRow, RequestState};
use jiff::{SignedDuration, Timestamp};
use serde_json::json;
use std::collections::BTreeMap;

/// The rules with the service desk on the guide camera, and the instruments by day only.
pub(super) fn draft() -> Result<String, Failure> {
    let change = |text: &str, rule: &str, field: &str, value: serde_json::Value| {
        change_rule(text, rule, &BTreeMap::from([(field.to_string(), value)])).map_err(|e| Failure::internal(e.to_string()))
    };
    let text = change(scenario::RULES, "service-desk", "machines", json!("label:weather | name:guide-cam"))?;
    let text = change(&text, "instruments", "hours", json!("supplier"))?;
    change(&text, "archive", "capabilities", json!(["shell", "download"]))
}

/// What Mira asked for and nobody has answered.
pub(super) fn request(now: Timestamp) -> RequestRow {
    let wish = Wish {
        id: "fb00spectro1".into(),
        person: "mira".into(),
        machines: vec!["spectro-1".into()],
        capabilities: vec![Capability::Shell, Capability::Upload],
        target: None,
        from: now,
        until: now + SignedDuration::from_hours(8),
        reason: "The slit wheel stalls since the thunderstorm; new firmware is here".into(),
        ticket: "OBS-2291".into(),
        asked: now,
        expires: now + SignedDuration::from_hours(8),
        waiting: false,
    };
    RequestRow { wish, answers: vec![], state: RequestState::Open, reminded: None, over: None }
}

/// Begins both.
pub(super) async fn begin(client: &Client) -> Result<(), Failure> {
    let title = "Service desk on the guide camera, instruments by day".to_string();
    client.begin_draft(&DraftText { title, text: Some(draft()?), base: None }).await?;
    let review = NewReview { title: "Who works on the ridge".into(), people: None, machines: Some("site=ridge".into()), days: 10 };
    let review = client.begin_review(&review).await?;
    for entry in review.entries.iter().take(3) {
        client.decide_entry(&review.id, entry.n, &ReviewDecision { decision: "keep".into(), note: String::new() }).await?;
    }
    Ok(())
}
