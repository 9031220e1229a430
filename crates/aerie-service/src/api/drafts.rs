use super::caller::{RuleReader, RuleWriter};
use super::problem::Problem;
use super::rules::put_in_force;
use super::{new_id, version_of};
use crate::second;
use crate::service::App;
use aerie_api::{DraftText, DraftView, PolicyChecked, PublishNote};
use aerie_core::directory::Act;
use aerie_core::evidence::{EventKind, NewEvent};
use aerie_core::policy::MAX_DOCUMENT;
use aerie_store::{Draft, Publication};
use axum::Json;
use axum::extract::{Path, State};
use axum::http::{HeaderMap, StatusCode, header};
use axum::response::{AppendHeaders, IntoResponse, Response};
use jiff::Timestamp;
use std::sync::Arc;

/// Most drafts that may lie about unpublished.
const MOST_DRAFTS: usize = 200;
/// Longest title.
const LONGEST_TITLE: usize = 200;

fn view(app: &App, d: &Draft, whole: bool) -> DraftView {
    let rules = app.rules.now();
    DraftView {
        id: d.id.clone(),
        title: d.title.clone(),
        base: d.base,
        current: d.base == rules.version,
        revision: d.revision,
        author: d.author.clone(),
        changed: d.changed,
        changed_by: d.changed_by.clone(),
        agreed_by: d.agreed.as_ref().filter(|(_, r)| *r == d.revision).map(|(by, _)| by.clone()),
        second_person: rules.policy.document().second_person,
        text: whole.then(|| d.text.clone()),
    }
}

fn tagged(app: &App, d: &Draft) -> Response {
    (AppendHeaders([(header::ETAG, format!("\"{}\"", d.revision))]), Json(view(app, d, true))).into_response()
}

async fn find(app: &App, id: &str) -> Result<Draft, Problem> {
    let found = app.store.draft(id).await?.filter(|d| d.published.is_none());
    found.ok_or_else(|| Problem::not_found("There is no such draft; it may have been published or dropped."))
}

fn title_of(given: &str) -> Result<String, Problem> {
    let title = aerie_core::diagnostic::printable(given.trim());
    if title.is_empty() || title.chars().count() > LONGEST_TITLE {
        return Err(Problem::bad_request(format!("Give the draft a title of at most {LONGEST_TITLE} characters.")));
    }
    Ok(title)
}

async fn note(app: &App, by: &str, kind: EventKind, d: &Draft, what: &str) -> Result<(), Problem> {
    let event = NewEvent::new(Timestamp::now(), kind, by)
        .says(format!("{by} {what} the draft \u{201c}{}\u{201d}.", d.title))
        .with("draft", d.id.clone())
        .with("revision", d.revision);
    app.log.append(event).await?;
    app.tell("rules");
    Ok(())
}

/// Drafts of rules that are not published, last changed first.
#[utoipa::path(get, path = "/drafts", operation_id = "drafts", responses((status = 200, body = Vec<DraftView>)))]
pub(super) async fn list(State(app): State<Arc<App>>, _: RuleReader) -> Result<Json<Vec<DraftView>>, Problem> {
    Ok(Json(app.store.drafts().await?.iter().map(|d| view(&app, d, false)).collect()))
}

/// Begin a draft, from the rules in force where it has no text of its own.
#[utoipa::path(post, path = "/drafts", operation_id = "beginDraft", request_body = DraftText, responses((status = 200, body = DraftView)))]
pub(super) async fn begin(
    State(app): State<Arc<App>>,
    RuleWriter(caller): RuleWriter,
    Json(given): Json<DraftText>,
) -> Result<Response, Problem> {
    if app.store.drafts().await?.len() >= MOST_DRAFTS {
        return Err(Problem::bad_request(format!("There are {MOST_DRAFTS} drafts already: publish or drop some.")));
    }
    let rules = app.rules.now();
    let text = text_of(given.text.unwrap_or_else(|| rules.text.to_string()))?;
    let draft = add(&app, &caller.person.name, &title_of(&given.title)?, text, given.base.unwrap_or(rules.version)).await?;
    Ok(tagged(&app, &draft))
}

fn text_of(text: String) -> Result<String, Problem> {
    if text.len() > MAX_DOCUMENT {
        return Err(Problem::bad_request(format!("The document is longer than {MAX_DOCUMENT} bytes.")));
    }
    Ok(text)
}

/// A draft with its text. The ETag is its revision.
#[utoipa::path(get, path = "/drafts/{id}", operation_id = "draft", params(("id" = String, Path)), responses((status = 200, body = DraftView), (status = 404)))]
pub(super) async fn show(State(app): State<Arc<App>>, _: RuleReader, Path(id): Path<String>) -> Result<Response, Problem> {
    Ok(tagged(&app, &find(&app, &id).await?))
}

/// Change a draft. An agreement to it is lost.
#[utoipa::path(put, path = "/drafts/{id}", operation_id = "changeDraft", params(("id" = String, Path), ("if-match" = String, Header, description = "Revision that was changed")),
    request_body = DraftText, responses((status = 200, body = DraftView), (status = 404), (status = 412, description = "Somebody else changed it in between")))]
pub(super) async fn change(
    State(app): State<Arc<App>>,
    RuleWriter(caller): RuleWriter,
    Path(id): Path<String>,
    headers: HeaderMap,
    Json(given): Json<DraftText>,
) -> Result<Response, Problem> {
    let revision = version_of(&headers)?.ok_or_else(|| Problem::bad_request("Send the revision that you changed as If-Match."))?;
    let mut draft = find(&app, &id).await?;
    draft.title = title_of(&given.title)?;
    draft.text = text_of(given.text.unwrap_or(draft.text))?;
    draft.base = given.base.unwrap_or(draft.base);
    draft.changed = Timestamp::now();
    draft.changed_by = caller.person.name.clone();
    draft.writers.push(caller.person.name.clone());
    if !app.store.change_draft(&draft, revision).await? {
        return Err(Problem::conflict("Somebody else changed this draft since you read it. Read it again and repeat your change."));
    }
    draft.revision = revision + 1;
    draft.agreed = None;
    note(&app, &caller.person.name, EventKind::DraftChanged, &draft, "changed").await?;
    Ok(tagged(&app, &draft))
}

/// Drop a draft.
#[utoipa::path(delete, path = "/drafts/{id}", operation_id = "dropDraft", params(("id" = String, Path)), responses((status = 204), (status = 404)))]
pub(super) async fn drop_draft(
    State(app): State<Arc<App>>,
    RuleWriter(caller): RuleWriter,
    Path(id): Path<String>,
) -> Result<StatusCode, Problem> {
    let draft = find(&app, &id).await?;
    app.store.drop_draft(&id).await?;
    note(&app, &caller.person.name, EventKind::DraftChanged, &draft, "dropped").await?;
    Ok(StatusCode::NO_CONTENT)
}

/// Agree to a draft as the second person. Nobody who wrote in it can, nor somebody who had a hand in a writer's account lately.
#[utoipa::path(post, path = "/drafts/{id}/agree", operation_id = "agreeToDraft", params(("id" = String, Path), ("if-match" = String, Header, description = "Revision that is agreed to")),
    responses((status = 200, body = DraftView), (status = 403), (status = 404), (status = 412)))]
pub(super) async fn agree(
    State(app): State<Arc<App>>,
    RuleWriter(caller): RuleWriter,
    Path(id): Path<String>,
    headers: HeaderMap,
) -> Result<Response, Problem> {
    let revision = version_of(&headers)?.ok_or_else(|| Problem::bad_request("Send the revision that you agree to as If-Match."))?;
    let mut draft = find(&app, &id).await?;
    let by = &caller.person.name;
    caller.must_be_fresh()?;
    if draft.writers.contains(by) {
        return Err(Problem::not_allowed("You wrote in this draft: somebody who did not must agree to it."));
    }
    for writer in &draft.writers {
        if second::are_tied(&app, by, writer, caller.now).await? {
            return Err(Problem::not_allowed(super::TIED));
        }
    }
    if !app.store.agree_to_draft(&id, by, revision).await? {
        return Err(Problem::conflict("Somebody changed this draft since you read it. Read it again."));
    }
    draft.agreed = Some((by.clone(), revision));
    note(&app, by, EventKind::DraftAgreed, &draft, "agreed to").await?;
    Ok(tagged(&app, &draft))
}

/// Publish a draft. Live sessions are decided again at once.
#[utoipa::path(post, path = "/drafts/{id}/publish", operation_id = "publishDraft", params(("id" = String, Path), ("if-match" = String, Header, description = "Revision that is published")),
    request_body = PublishNote, responses((status = 200, body = PolicyChecked), (status = 403), (status = 404), (status = 412, description = "The draft or the rules changed in between"), (status = 422)))]
pub(super) async fn publish(
    State(app): State<Arc<App>>,
    RuleWriter(caller): RuleWriter,
    Path(id): Path<String>,
    headers: HeaderMap,
    Json(said): Json<PublishNote>,
) -> Result<Json<PolicyChecked>, Problem> {
    let revision = version_of(&headers)?.ok_or_else(|| Problem::bad_request("Send the revision that you publish as If-Match."))?;
    let draft = find(&app, &id).await?;
    if draft.revision != revision {
        return Err(Problem::conflict("Somebody changed this draft since you read it. Read it again."));
    }
    // The author may publish once another agreed; whoever agreed may publish what the author wrote.
    let agreed = draft.agreed.as_ref().filter(|(_, r)| *r == revision).map(|(by, _)| by.as_str());
    let by = &caller.person.name;
    caller.must_be_fresh()?;
    // A policy author alone could write themselves any access: somebody else must have agreed.
    if !caller.person.may_everywhere(Act::PublishRules) && agreed.is_none() {
        return Err(Problem::not_allowed("Policy authors publish what somebody else has agreed to: ask for agreement first."));
    }
    let other = if agreed == Some(by) { Some(draft.author.as_str()) } else { agreed };
    let other = other.filter(|_| agreed.is_some());
    if agreed.is_none() {
        for writer in draft.writers.iter().chain([by]) {
            super::rules::must_not_gain(&app, writer, &draft.text, caller.now).await?;
        }
    }
    let wanted =
        Publication { text: &draft.text, by, after: Some(draft.base), agreed_by: other, note: &said.note, ..Publication::default() };
    let done = match put_in_force(&app, wanted).await {
        Ok(done) => done,
        Err(e) if e.is_conflict() => {
            return Err(Problem::conflict(
                "The rules in force are no longer those that this draft was written against. Look at what changed, put it into the draft, and set its base to the version in force.",
            ));
        }
        Err(e) => return Err(e),
    };
    if let Some(version) = done.version {
        app.store.close_draft(&id, version).await?;
    }
    Ok(Json(done))
}

/// Keeps a new draft, and logs that it was begun.
pub(super) async fn add(app: &App, by: &str, title: &str, text: String, base: i64) -> Result<Draft, Problem> {
    let now = Timestamp::now();
    let draft = Draft {
        id: new_id(now),
        title: title.chars().take(LONGEST_TITLE).collect(),
        text,
        base,
        revision: 1,
        author: by.into(),
        created: now,
        changed: now,
        changed_by: by.into(),
        writers: vec![by.into()],
        agreed: None,
        published: None,
    };
    app.store.add_draft(&draft).await?;
    note(app, by, EventKind::DraftChanged, &draft, "began").await?;
    Ok(draft)
}
