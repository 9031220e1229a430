use super::caller::{Administrator, Caller};
use super::problem::Problem;
use super::{drafts, new_id};
use crate::service::App;
use aerie_api::{NewReview, ReviewClosed, ReviewDecision, ReviewEntryView, ReviewView};
use aerie_core::directory::Act;
use aerie_core::directory::selector::{Selector, Subject};
use aerie_core::evidence::{EventKind, NewEvent};
use aerie_core::policy::{Effect, change_rule};
use aerie_core::wording;
use aerie_store::{Review, ReviewEntry, StoreError};
use axum::Json;
use axum::extract::{Path, State};
use jiff::{SignedDuration, Timestamp};
use serde_json::Value;
use std::collections::{BTreeMap, BTreeSet};
use std::sync::Arc;

/// Most entries of one review: more is nothing that people read.
const MOST_ENTRIES: usize = 20_000;
/// Longest title or note.
const LONGEST: usize = 500;
/// Owners are reminded this long before the deadline, and once a day from then on.
const REMINDED_BEFORE: SignedDuration = SignedDuration::from_hours(72);
const REMINDED_AGAIN: SignedDuration = SignedDuration::from_hours(24);

fn entry_view(app: &App, e: ReviewEntry) -> ReviewEntryView {
    let rules = app.rules.now();
    let person_name = rules.policy.directory().person(&e.person).map_or(e.person.clone(), |p| p.shown().to_string());
    ReviewEntryView {
        n: e.n,
        person: e.person,
        person_name,
        rule: e.rule,
        machines: e.machines,
        capabilities: e.capabilities.split_whitespace().map(Into::into).collect(),
        owners: e.owners,
        decision: e.decision,
        decided_by: e.decided_by,
        decided_at: e.decided_at,
        note: e.note,
    }
}

fn view(app: &App, r: &Review, all: Vec<ReviewEntry>, whole: bool) -> ReviewView {
    let count = |decision: &str| all.iter().filter(|e| e.decision.as_deref() == Some(decision)).count() as u64;
    let (keep, withdraw, total) = (count("keep"), count("withdraw"), all.len() as u64);
    let decided = keep + withdraw;
    let due = r.deadline.to_zoned(app.rules.now().policy.zone().clone()).date();
    let sentence = match (&r.closed, r.deadline < Timestamp::now()) {
        (Some((_, by)), _) => {
            format!("{by} closed it with {keep} kept and {withdraw} withdrawn of {}.", wording::count(total, "permission"))
        }
        (None, late) => {
            let due = if late { format!("it was due on {due}") } else { format!("due on {due}") };
            format!("{decided} of {} are decided; {due}.", wording::count(total, "permission"))
        }
    };
    ReviewView {
        id: r.id.clone(),
        title: r.title.clone(),
        sentence,
        people: r.people.clone(),
        machines: r.machines.clone(),
        deadline: r.deadline,
        created: r.created,
        created_by: r.created_by.clone(),
        closed: r.closed.as_ref().map(|c| c.0),
        counts: [total, decided, keep, withdraw],
        entries: if whole { all.into_iter().map(|e| entry_view(app, e)).collect() } else { vec![] },
    }
}

/// Whether this person may decide on an entry: the owners of its machines, administrators and approvers within their scope, but
/// nobody on their own access.
fn may_decide(app: &App, caller: &Caller, e: &ReviewEntry) -> bool {
    let rules = app.rules.now();
    let directory = rules.policy.directory();
    let covers = |seen: super::caller::Seen| seen.person(directory, &e.person) && e.machines.iter().all(|m| seen.machine(directory, m));
    e.person != caller.person.name && (e.owners.contains(&caller.person.name) || caller.within(Act::DecideReviews).is_some_and(covers))
}

async fn entries(app: &App, caller: &Caller, id: &str) -> Result<Vec<ReviewEntry>, StoreError> {
    let mut all = app.store.review_entries(id).await?;
    if !caller.reads_all() {
        all.retain(|e| may_decide(app, caller, e));
    }
    Ok(all)
}

async fn find(app: &App, id: &str) -> Result<Review, Problem> {
    app.store.review(id).await?.ok_or_else(|| Problem::not_found("There is no such review."))
}

/// Reviews of who has access, newest first. Those who may not read everything see what they have to decide.
#[utoipa::path(get, path = "/reviews", operation_id = "reviews", responses((status = 200, body = Vec<ReviewView>)))]
pub(super) async fn list(State(app): State<Arc<App>>, caller: Caller) -> Result<Json<Vec<ReviewView>>, Problem> {
    let mut shown = vec![];
    for review in app.store.reviews().await? {
        let all = entries(&app, &caller, &review.id).await?;
        if caller.reads_all() || !all.is_empty() {
            shown.push(view(&app, &review, all, false));
        }
    }
    Ok(Json(shown))
}

/// A review with its entries.
#[utoipa::path(get, path = "/reviews/{id}", operation_id = "review", params(("id" = String, Path)), responses((status = 200, body = ReviewView), (status = 404)))]
pub(super) async fn show(State(app): State<Arc<App>>, caller: Caller, Path(id): Path<String>) -> Result<Json<ReviewView>, Problem> {
    let review = find(&app, &id).await?;
    let all = entries(&app, &caller, &id).await?;
    if all.is_empty() && !caller.reads_all() {
        return Err(Problem::not_found("There is no such review."));
    }
    Ok(Json(view(&app, &review, all, true)))
}

/// Begin a review: one entry for each person and rule that gives them anything in scope.
///
/// Who looks after a machine decides on it: the people whose name or group is its owner, and administrators.
#[utoipa::path(post, path = "/reviews", operation_id = "beginReview", request_body = NewReview, responses((status = 200, body = ReviewView)))]
pub(super) async fn begin(
    State(app): State<Arc<App>>,
    Administrator(caller): Administrator,
    Json(given): Json<NewReview>,
) -> Result<Json<ReviewView>, Problem> {
    let title = aerie_core::diagnostic::printable(given.title.trim());
    if title.is_empty() || title.chars().count() > LONGEST || !(1..=366).contains(&given.days) {
        return Err(Problem::bad_request(format!("Give a title of at most {LONGEST} characters, and 1 to 366 days.")));
    }
    let (people, machines) = (given.people.unwrap_or("*".into()), given.machines.unwrap_or("*".into()));
    let read = |text: &str, subject| {
        Selector::parse(text, subject).map_err(|e| Problem::bad_request(format!("The selector `{text}` cannot be read: {e}.")))
    };
    let scope = (read(&people, Subject::People)?, read(&machines, Subject::Machines)?);
    let (rules, now) = (app.rules.now(), Timestamp::now());
    let policy = rules.policy.clone();
    let entries = app.rules.think(move || entries_of(&policy, &scope)).await?;
    if entries.is_empty() {
        return Err(Problem::bad_request("No rule gives anybody anything in this scope."));
    }
    if entries.len() > MOST_ENTRIES {
        return Err(Problem::bad_request(format!("This scope has {} permissions: narrow it to at most {MOST_ENTRIES}.", entries.len())));
    }
    let review = Review {
        id: new_id(now),
        title,
        people,
        machines,
        deadline: now + SignedDuration::from_hours(24 * i64::from(given.days)),
        created: now,
        created_by: caller.person.name.clone(),
        policy_version: rules.version,
        reminded: None,
        closed: None,
    };
    app.store.add_review(&review, &entries).await?;
    let event = NewEvent::new(now, EventKind::ReviewChanged, &caller.person.name)
        .says(format!(
            "{} began the review \u{201c}{}\u{201d} of {}.",
            caller.person.name,
            review.title,
            wording::count(entries.len() as u64, "permission")
        ))
        .with("review", review.id.clone());
    app.log.append(event).await?;
    app.tell("reviews");
    Ok(Json(view(&app, &review, entries, true)))
}

/// One entry for each person and `allow` that speaks of them and of any machine in scope.
fn entries_of(policy: &aerie_core::policy::Policy, scope: &(Selector, Selector)) -> Vec<ReviewEntry> {
    let directory = policy.directory();
    let (people, machines) = (directory.select_people(&scope.0), directory.select_machines(&scope.1));
    let owners_of = |names: &[&aerie_core::directory::Machine]| -> Vec<String> {
        let owners: BTreeSet<&str> = names.iter().map(|m| m.owner.as_str()).filter(|o| !o.is_empty()).collect();
        let owns = |p: &&aerie_core::directory::Person| {
            owners.iter().any(|o| *o == p.name || p.groups.contains(*o) || p.groups.contains(&o.replace(' ', "-")))
        };
        directory.people().iter().filter(owns).map(|p| p.name.clone()).collect()
    };
    let mut found = vec![];
    for rule in policy.document().rules.iter().filter(|r| r.effect == Effect::Allow) {
        let (mut who, mut place) = (directory.select_people(&rule.people.0), directory.select_machines(&rule.machines.0));
        who.keep(&people);
        place.keep(&machines);
        let there: Vec<_> = place.iter().filter_map(|i| directory.machines().get(i)).collect();
        if there.is_empty() {
            continue;
        }
        let owners = owners_of(&there);
        for person in who.iter().filter_map(|i| directory.people().get(i)).filter(|p| !p.suspended) {
            found.push(ReviewEntry {
                n: i64::try_from(found.len() + 1).unwrap_or(i64::MAX),
                person: person.name.clone(),
                rule: rule.name.to_string(),
                machines: there.iter().map(|m| m.name.clone()).collect(),
                capabilities: rule.capabilities.words().join(" "),
                owners: owners.clone(),
                decision: None,
                decided_by: None,
                decided_at: None,
                note: String::new(),
            });
            if found.len() > MOST_ENTRIES {
                return found;
            }
        }
    }
    found
}

/// Keep or withdraw a permission under review.
#[utoipa::path(put, path = "/reviews/{id}/entries/{n}", operation_id = "decideEntry", params(("id" = String, Path), ("n" = i64, Path)), request_body = ReviewDecision,
    responses((status = 200, body = ReviewEntryView), (status = 403), (status = 404)))]
pub(super) async fn decide(
    State(app): State<Arc<App>>,
    caller: Caller,
    Path((id, n)): Path<(String, i64)>,
    Json(given): Json<ReviewDecision>,
) -> Result<Json<ReviewEntryView>, Problem> {
    if !["keep", "withdraw"].contains(&given.decision.as_str()) || given.note.chars().count() > LONGEST {
        return Err(Problem::bad_request(format!("`decision` is keep or withdraw; a note has at most {LONGEST} characters.")));
    }
    let review = find(&app, &id).await?;
    let all = entries(&app, &caller, &id).await?;
    let mut entry = all.into_iter().find(|e| e.n == n).ok_or_else(|| Problem::not_found("There is no such entry."))?;
    if !may_decide(&app, &caller, &entry) {
        return Err(Problem::not_allowed(
            "The owners of the machines, administrators and approvers decide within their scope, and nobody on their own access.",
        ));
    }
    let now = Timestamp::now();
    if crate::second::are_tied(&app, &caller.person.name, &entry.person, now).await? {
        return Err(Problem::own_rights(super::TIED));
    }
    entry.decision = Some(given.decision);
    entry.decided_by = Some(caller.person.name.clone());
    entry.decided_at = Some(now);
    entry.note = aerie_core::diagnostic::printable(&given.note);
    if !app.store.decide_entry(&id, &entry).await? {
        return Err(Problem::conflict("This review is closed."));
    }
    let word = if entry.decision.as_deref() == Some("keep") { "kept" } else { "withdrew" };
    let event = NewEvent::new(now, EventKind::ReviewDecided, &caller.person.name)
        .says(format!(
            "{} {word} what the rule {} gives {}, in the review \u{201c}{}\u{201d}.",
            caller.person.name, entry.rule, entry.person, review.title
        ))
        .with("review", id)
        .with("person", entry.person.clone())
        .with("rule", entry.rule.clone())
        .with("decision", entry.decision.clone().unwrap_or_default());
    app.log.append(event).await?;
    app.tell("reviews");
    Ok(Json(entry_view(&app, entry)))
}

/// Close a review. What was withdrawn is written into a draft of the rules; what nobody decided on is told.
#[utoipa::path(post, path = "/reviews/{id}/close", operation_id = "closeReview", params(("id" = String, Path)), responses((status = 200, body = ReviewClosed), (status = 404), (status = 412)))]
pub(super) async fn close(
    State(app): State<Arc<App>>,
    Administrator(caller): Administrator,
    Path(id): Path<String>,
) -> Result<Json<ReviewClosed>, Problem> {
    let review = find(&app, &id).await?;
    let (by, now) = (caller.person.name.as_str(), Timestamp::now());
    let all = app.store.review_entries(&id).await?;
    if !app.store.close_review(&id, by, now).await? {
        return Err(Problem::conflict("This review is closed already."));
    }
    let rules = app.rules.now();
    let mut withdrawn: BTreeMap<&str, Vec<&str>> = BTreeMap::new();
    for e in all.iter().filter(|e| e.decision.as_deref() == Some("withdraw")) {
        withdrawn.entry(&e.rule).or_default().push(&e.person);
    }
    let mut text = rules.text.to_string();
    for (rule, people) in &withdrawn {
        let Some(known) = rules.policy.document().rules.iter().find(|r| *r.name == **rule) else { continue };
        let mut kept = match &known.people.0 {
            Selector::Or(_) => format!("({})", known.people.0),
            other => other.to_string(),
        };
        people.iter().for_each(|p| kept += &format!(" & !person:{p}"));
        let fields = BTreeMap::from([("people".to_string(), Value::from(kept))]);
        text = change_rule(&text, rule, &fields).unwrap_or(text);
    }
    let draft = if withdrawn.is_empty() {
        None
    } else {
        Some(drafts::add(&app, by, &format!("What the review \u{201c}{}\u{201d} withdraws", review.title), text, rules.version).await?.id)
    };
    let count = |decision: Option<&str>| all.iter().filter(|e| e.decision.as_deref() == decision).count() as u64;
    let (kept, gone, open) = (count(Some("keep")), count(Some("withdraw")), count(None));
    let undecided = if open > 0 { format!("; {open} were not decided and stay as they are") } else { String::new() };
    let sentence = format!("The review \u{201c}{}\u{201d} is closed: {kept} kept, {gone} withdrawn{undecided}.", review.title);
    let event = NewEvent::new(now, EventKind::ReviewChanged, by)
        .says(sentence.clone())
        .with("review", id)
        .with("kept", kept)
        .with("withdrawn", gone)
        .with("undecided", open);
    app.log.append(event).await?;
    app.log.checkpoint(now).await?;
    app.tell("reviews");
    Ok(Json(ReviewClosed { sentence, draft }))
}

/// Reminds of reviews that are due soon and not decided: an event each, which live views show.
pub(crate) async fn remind(app: &App, now: Timestamp) -> Result<(), StoreError> {
    for review in app.store.reviews().await?.into_iter().filter(|r| r.closed.is_none()) {
        let due = review.deadline - REMINDED_BEFORE <= now && review.reminded.is_none_or(|t| t + REMINDED_AGAIN <= now);
        if !due {
            continue;
        }
        let open: Vec<ReviewEntry> = app.store.review_entries(&review.id).await?.into_iter().filter(|e| e.decision.is_none()).collect();
        if open.is_empty() {
            continue;
        }
        let owners: BTreeSet<&String> = open.iter().flat_map(|e| &e.owners).collect();
        let event = NewEvent::new(now, EventKind::ReviewChanged, "service")
            .says(format!(
                "The review \u{201c}{}\u{201d} is due on {}, and {} are not decided.",
                review.title,
                review.deadline.to_zoned(app.rules.now().policy.zone().clone()).date(),
                wording::count(open.len() as u64, "permission")
            ))
            .with("review", review.id.clone())
            .with("owners", owners.into_iter().cloned().collect::<Vec<_>>());
        app.log.append(event).await?;
        app.store.remind_review(&review.id, now).await?;
        app.tell("reviews");
    }
    Ok(())
}
