//! What one administrator proposed and a second must agree to.

use super::caller::{EverythingReader, FreshAdministrator};
use super::people::issue_invitation;
use super::problem::Problem;
use super::settings::put_setting;
use crate::second;
use crate::service::App;
use aerie_api::{AgreedView, ProposalView};
use aerie_core::evidence::EventKind;
use aerie_core::settings::Setting;
use aerie_store::Proposal;
use axum::Json;
use axum::extract::{Path, State};
use axum::http::StatusCode;
use jiff::Timestamp;
use serde::{Deserialize, Serialize};
use std::sync::Arc;

/// What is done once a second administrator agreed.
#[derive(Debug, Clone, Serialize, Deserialize)]
#[serde(tag = "do", rename_all = "kebab-case")]
pub(super) enum Act {
    /// A setting gets this value.
    Setting { name: String, value: String, why: String },
    /// Somebody is invited anew, without mail.
    Invitation { person: String },
    /// A host key is accepted for a machine for which a credential is kept.
    HostKey { machine: String, fingerprint: String, why: String },
}

impl Act {
    fn kind(&self) -> (&'static str, &str) {
        match self {
            Self::Setting { name, .. } => ("setting", name),
            Self::Invitation { person } => ("invitation", person),
            Self::HostKey { machine, .. } => ("host-key", machine),
        }
    }

    /// Keeps it until somebody else agreed.
    pub(super) async fn propose(&self, app: &App, by: &str, sentence: String, now: Timestamp) -> Result<Proposal, Problem> {
        let payload = serde_json::to_string(self).map_err(|e| Problem::internal(&e))?;
        Ok(second::propose(app, by, self.kind(), sentence, payload, now).await?)
    }
}

pub(super) fn view(p: &Proposal) -> ProposalView {
    ProposalView {
        id: p.id.clone(),
        kind: p.kind.clone(),
        subject: p.subject.clone(),
        sentence: p.sentence.clone(),
        by: p.by.clone(),
        at: p.at,
        expires: p.expires,
    }
}

/// Proposals that wait for a second administrator, newest first.
#[utoipa::path(get, path = "/proposals", operation_id = "proposals", responses((status = 200, body = Vec<ProposalView>)))]
pub(super) async fn list(State(app): State<Arc<App>>, _: EverythingReader) -> Result<Json<Vec<ProposalView>>, Problem> {
    Ok(Json(app.store.proposals(Timestamp::now()).await?.iter().map(view).collect()))
}

async fn find(app: &App, id: &str, now: Timestamp) -> Result<Proposal, Problem> {
    let all = app.store.proposals(now).await?;
    all.into_iter().find(|p| p.id == id).ok_or_else(|| Problem::not_found("There is no such proposal, or it was decided."))
}

/// Agree to a proposal as the second administrator: it is done at once.
///
/// Who proposed it cannot, nor can somebody who had a hand in the other's account lately.
#[utoipa::path(post, path = "/proposals/{id}/agree", operation_id = "agreeToProposal", params(("id" = String, Path)), responses((status = 200, body = AgreedView), (status = 403), (status = 404), (status = 422)))]
pub(super) async fn agree(
    State(app): State<Arc<App>>,
    FreshAdministrator(caller): FreshAdministrator,
    Path(id): Path<String>,
) -> Result<Json<AgreedView>, Problem> {
    let proposal = find(&app, &id, caller.now).await?;
    let by = &caller.person.name;
    if *by == proposal.by {
        return Err(Problem::not_allowed("You proposed this: another administrator must agree."));
    }
    if second::are_tied(&app, by, &proposal.by, caller.now).await? {
        return Err(Problem::not_allowed(super::TIED));
    }
    let act: Act = serde_json::from_str(&proposal.payload).map_err(|e| Problem::internal(&e))?;
    if !app.store.take_proposal(&id).await? {
        return Err(Problem::not_found("There is no such proposal, or it was decided."));
    }
    let says = format!("{by} agreed to a proposal of {}: {}", proposal.by, proposal.sentence);
    app.log
        .append(caller.event(EventKind::ProposalChanged).says(says).with("proposal", id.clone()).with("by", proposal.by.clone()))
        .await?;
    let link = match act {
        Act::Setting { name, value, why } => {
            let setting = Setting::from_word(&name).map_err(|e| Problem::not_found(format!("{e}.")))?;
            put_setting(&app, &caller, setting, &value, &format!("{why} (proposed by {})", proposal.by)).await?;
            None
        }
        Act::Invitation { person } => {
            // Either may come to see the link.
            for one in [by, &proposal.by] {
                app.store.touch_account(&person, one, aerie_store::Touch::Invited, caller.now).await?;
            }
            Some(issue_invitation(&app, &caller, &person).await?)
        }
        Act::HostKey { machine, fingerprint, why } => {
            super::checks::accept(&app, &caller, &machine, &fingerprint, &format!("{why} (proposed by {})", proposal.by)).await?;
            None
        }
    };
    app.tell("proposals");
    Ok(Json(AgreedView { proposal: view(&proposal), link }))
}

/// Withdraw or refuse a proposal.
#[utoipa::path(delete, path = "/proposals/{id}", operation_id = "dropProposal", params(("id" = String, Path)), responses((status = 204), (status = 403), (status = 404)))]
pub(super) async fn drop_proposal(
    State(app): State<Arc<App>>,
    FreshAdministrator(caller): FreshAdministrator,
    Path(id): Path<String>,
) -> Result<StatusCode, Problem> {
    let proposal = find(&app, &id, caller.now).await?;
    if !app.store.take_proposal(&id).await? {
        return Err(Problem::not_found("There is no such proposal, or it was decided."));
    }
    let says = format!("{} discarded a proposal of {}: {}", caller.person.name, proposal.by, proposal.sentence);
    app.log.append(caller.event(EventKind::ProposalChanged).says(says).with("proposal", id).with("by", proposal.by)).await?;
    app.tell("proposals");
    Ok(StatusCode::NO_CONTENT)
}
