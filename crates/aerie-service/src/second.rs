//! The second person: who counts as one, and what waits for one.
//!
//! Somebody who made, invited or reset an account may hold what opens it. For some days the two count as one person: neither agrees to
//! what the other wants.

use crate::asking::{Told, tell_people};
use crate::service::App;
use aerie_core::directory::{Person, Role, Standing};
use aerie_core::evidence::{EventKind, NewEvent};
use aerie_core::settings::Setting;
use aerie_store::{Proposal, StoreError, Touch};
use jiff::{SignedDuration, Timestamp};
use std::collections::BTreeSet;

/// Every way in which somebody can have a hand in an account.
const ALL: [Touch; 4] = [Touch::Made, Touch::Invited, Touch::SecondFactor, Touch::Mail];
/// Those that can give the first factor away, and those that can give the second.
const FIRST_HALF: [Touch; 2] = [Touch::Made, Touch::Invited];
const SECOND_HALF: [Touch; 1] = [Touch::SecondFactor];
/// How long a proposal waits.
const WAITS: SignedDuration = SignedDuration::from_hours(7 * 24);

/// Settings that decide who is who, and where evidence goes.
pub(crate) const GUARDED: [Setting; 9] = [
    Setting::UserAuthorities,
    Setting::SecondFactor,
    Setting::ProvedMinutes,
    Setting::AgentAddress,
    Setting::ForwardTo,
    Setting::ForwardAuthority,
    Setting::SeparationDays,
    Setting::SecondAdministrator,
    Setting::KeyBoundPrograms,
];

/// Since when a hand in an account counts.
fn since(app: &App, now: Timestamp) -> Timestamp {
    now - SignedDuration::from_hours(24 * app.settings().number(Setting::SeparationDays))
}

/// Whether two people do not count as two: one of them had a hand in the other's account lately.
pub(crate) async fn are_tied(app: &App, a: &str, b: &str, now: Timestamp) -> Result<bool, StoreError> {
    let since = since(app, now);
    Ok(app.store.touched(a, Some(b), &ALL, since).await? || app.store.touched(b, Some(a), &ALL, since).await?)
}

/// Whether `by` brought about the first factor of somebody lately, or could have.
pub(crate) async fn gave_first_half(app: &App, person: &str, by: &str, now: Timestamp) -> Result<bool, StoreError> {
    app.store.touched(person, Some(by), &FIRST_HALF, since(app, now)).await
}

/// Whether `by` brought about the second factor of somebody lately, or could have.
pub(crate) async fn gave_second_half(app: &App, person: &str, by: &str, now: Timestamp) -> Result<bool, StoreError> {
    app.store.touched(person, Some(by), &SECOND_HALF, since(app, now)).await
}

/// Whether somebody else changed where the mail of this person goes lately.
pub(crate) async fn mail_is_fresh(app: &App, person: &str, now: Timestamp) -> Result<bool, StoreError> {
    app.store.touched(person, None, &[Touch::Mail, Touch::Made], since(app, now)).await
}

/// Administrators without a scope whose account is good.
fn administrators(app: &App, now: Timestamp) -> BTreeSet<String> {
    let rules = app.rules.now();
    let day = now.to_zoned(rules.policy.zone().clone()).date();
    let full = |p: &&Person| p.roles.contains(&Role::Administrator) && !p.scopes.contains_key(&Role::Administrator);
    let good = rules.policy.directory().people().iter().filter(full).filter(|p| p.standing(day) == Standing::Good);
    good.map(|p| p.name.clone()).collect()
}

/// Whether a second administrator must agree: where there is one, and the setting says so.
pub(crate) fn is_needed(app: &App, now: Timestamp) -> bool {
    app.settings().flag(Setting::SecondAdministrator) && administrators(app, now).len() > 1
}

/// Keeps something that waits for a second administrator, and tells the others.
pub(crate) async fn propose(
    app: &App,
    by: &str,
    (kind, subject): (&str, &str),
    sentence: String,
    payload: String,
    now: Timestamp,
) -> Result<Proposal, StoreError> {
    let proposal = Proposal {
        id: crate::api::new_id(now),
        kind: kind.into(),
        subject: subject.into(),
        sentence: sentence.clone(),
        payload,
        by: by.into(),
        at: now,
        expires: now + WAITS,
    };
    let event = NewEvent::new(now, EventKind::ProposalChanged, by).says(format!("{sentence} A second administrator must agree."));
    app.log.append(event.with("proposal", proposal.id.clone()).with("subject", subject)).await?;
    app.store.propose(&proposal).await?;
    let mut others = administrators(app, now);
    others.remove(by);
    let text = format!("{sentence}\n\nA second administrator must agree until {}: {}/requests", proposal.expires, app.address());
    tell_people(app, &others, Told { kind: "proposal", about: &proposal.id, subject: &sentence, text: &text }).await;
    app.tell("proposals");
    Ok(proposal)
}

/// Tells every administrator of something that decides who is who.
pub(crate) async fn tell_administrators(app: &App, about: &str, subject: &str, now: Timestamp) {
    let told = Told { kind: "guarded-change", about, subject, text: subject };
    tell_people(app, &administrators(app, now), told).await;
}
