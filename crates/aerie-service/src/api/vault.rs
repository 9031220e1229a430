//! Credentials that are kept for machines.

use super::caller::{Caller, Seen};
use super::machines::{managed, why};
use super::problem::Problem;
use crate::known::Wanted;
use crate::service::App;
use crate::vault::{Secret, binding, is_bound_here, rotate};
use aerie_api::{CheckOutNote, CheckedOut, CredentialEvent, CredentialView, NewCredential, RotatedView};
use aerie_core::directory::Act;
use aerie_core::evidence::EventKind;
use aerie_core::policy::{Capability, Facts};
use aerie_core::vault::{Ended, Phase, Schedule, SecretKind, is_account};
use aerie_store::VaultRow;
use axum::Json;
use axum::extract::{Path, State};
use axum::http::StatusCode;
use std::sync::Arc;

/// Longest time between changes, in days.
const MOST_DAYS: u32 = 3650;

fn view(r: &VaultRow) -> CredentialView {
    let when = match (r.schedule.after_use, r.schedule.days) {
        (true, 0) => "changed after each use".into(),
        (true, d) => format!("changed after each use and every {d} days"),
        (false, 0) => "not changed by itself".into(),
        (false, d) => format!("changed every {d} days"),
    };
    let state = match (r.phase, &r.failed) {
        (_, Some(_)) => format!(" The last change failed: {}.", r.failure),
        (Phase::Settled, None) => String::new(),
        (Phase::Prepared | Phase::Verified, None) => " It is being changed.".into(),
    };
    CredentialView {
        machine: r.machine.clone(),
        account: r.account.clone(),
        kind: r.kind.word().into(),
        phase: r.phase.word().into(),
        changer: r.changer.clone(),
        after_use: r.schedule.after_use,
        days: r.schedule.days,
        changed: r.changed,
        used: r.used,
        failed: r.failed,
        failure: r.failure.clone(),
        sentence: format!("The {} of {} is {when}.{state}", r.kind.word(), r.account),
    }
}

/// Those of a machine, or all.
pub(super) async fn of(app: &App, machine: Option<&str>) -> Result<Vec<CredentialView>, Problem> {
    Ok(app.store.vault().await?.iter().filter(|r| machine.is_none_or(|m| r.machine == m)).map(view).collect())
}

fn missing() -> Problem {
    Problem::not_found("Nothing is kept for that account.")
}

/// Credentials that are kept: for which accounts, when they are changed, never the credentials themselves.
#[utoipa::path(get, path = "/vault", operation_id = "vault", responses((status = 200, body = Vec<CredentialView>), (status = 403)))]
pub(super) async fn list(State(app): State<Arc<App>>, caller: Caller) -> Result<Json<Vec<CredentialView>>, Problem> {
    let seen = caller.within(Act::ManageMachines).or_else(|| caller.within(Act::ReadEverything));
    let seen: Seen = seen.ok_or_else(|| Problem::not_allowed("Only administrators and auditors see which credentials are kept."))?;
    let rules = app.rules.now();
    let all = of(&app, None).await?;
    Ok(Json(all.into_iter().filter(|c| seen.machine(rules.policy.directory(), &c.machine)).collect()))
}

/// Keep a credential for an account of a machine, or change how it is kept.
#[utoipa::path(put, path = "/vault/{machine}/{account}", operation_id = "putCredential", params(("machine" = String, Path), ("account" = String, Path)), request_body = NewCredential, responses((status = 200, body = CredentialView), (status = 403), (status = 404), (status = 422)))]
pub(super) async fn put(
    State(app): State<Arc<App>>,
    caller: Caller,
    Path((machine, account)): Path<(String, String)>,
    Json(given): Json<NewCredential>,
) -> Result<Json<CredentialView>, Problem> {
    caller.must_be_fresh()?;
    let known = managed(&app, &caller, &machine)?;
    if !is_account(&account) || !(given.changer.is_empty() || is_account(&given.changer)) || given.days > MOST_DAYS {
        return Err(Problem::not_good(format!(
            "Accounts are names as POSIX has them, and a credential is changed at least every {MOST_DAYS} days or never."
        )));
    }
    let kind = SecretKind::from_word(&given.kind).ok_or_else(|| Problem::not_good("A credential is a password or a key."))?;
    let schedule = Schedule { after_use: given.after_use, days: given.days };
    let changing = app.vault.begin_in_turn(&known.name, &account).await;
    let _changing = changing.ok_or_else(|| Problem::conflict("It is being changed right now: try again in a moment."))?;
    let before = app.store.vault_entry(&known.name, &account).await?;
    let mut row = before.clone().filter(|b| b.kind == kind).unwrap_or(VaultRow {
        machine: known.name.clone(),
        account: account.clone(),
        kind,
        bound: String::new(),
        current: vec![],
        other: None,
        phase: Phase::Settled,
        changer: String::new(),
        schedule,
        changed: caller.now,
        used: None,
        failed: None,
        failure: String::new(),
    });
    (row.changer, row.schedule) = (given.changer, schedule);
    let what = match given.secret.map(zeroize::Zeroizing::new) {
        Some(text) => {
            let secret = Secret::parse(kind, &text).map_err(|e| Problem::not_good(format!("{e}.")))?;
            row.bound = binding(&known, &account);
            (row.current, row.other, row.phase) = (secret.seal(&app.keys, &row)?, None, Phase::Settled);
            (row.changed, row.failed, row.failure) = (caller.now, None, String::new());
            format!("{} put the {} of {account} on {machine} into the vault.", caller.person.name, kind.word())
        }
        None if row.current.is_empty() => return Err(Problem::not_good("Nothing is kept for that account yet: give the credential.")),
        None => format!("{} changed how the {} of {account} on {machine} is kept.", caller.person.name, kind.word()),
    };
    app.log.append(caller.event(EventKind::CredentialChanged).machine(&machine).says(&*what).with("account", account)).await?;
    app.store.put_vault(&row, &caller.person.name, &what, caller.now).await?;
    app.tell("vault");
    Ok(Json(view(&row)))
}

/// Take a credential out for good. The account keeps it.
#[utoipa::path(delete, path = "/vault/{machine}/{account}", operation_id = "removeCredential", params(("machine" = String, Path), ("account" = String, Path)), responses((status = 204), (status = 403), (status = 404)))]
pub(super) async fn remove(
    State(app): State<Arc<App>>,
    caller: Caller,
    Path((machine, account)): Path<(String, String)>,
) -> Result<StatusCode, Problem> {
    caller.must_be_fresh()?;
    let known = managed(&app, &caller, &machine)?;
    app.store.vault_entry(&known.name, &account).await?.ok_or_else(missing)?;
    let says = format!("{} took the credential of {account} on {machine} out of the vault for good.", caller.person.name);
    app.log.append(caller.event(EventKind::CredentialChanged).machine(&machine).says(says).with("account", account.clone())).await?;
    app.store.remove_vault(&known.name, &account).await?;
    app.tell("vault");
    Ok(StatusCode::NO_CONTENT)
}

/// Change a credential on its machine now.
#[utoipa::path(post, path = "/vault/{machine}/{account}/rotate", operation_id = "rotateCredential", params(("machine" = String, Path), ("account" = String, Path)), responses((status = 200, body = RotatedView), (status = 403), (status = 404), (status = 409)))]
pub(super) async fn change(
    State(app): State<Arc<App>>,
    caller: Caller,
    Path((machine, account)): Path<(String, String)>,
) -> Result<Json<RotatedView>, Problem> {
    caller.must_be_fresh()?;
    let known = managed(&app, &caller, &machine)?;
    app.store.vault_entry(&known.name, &account).await?.ok_or_else(missing)?;
    let (app_there, by, name, of) = (app.clone(), caller.person.name.clone(), known.name.clone(), account.clone());
    // Whoever hangs up must not stop it halfway.
    let done = tokio::spawn(async move { rotate(&app_there, &name, &of, &by).await }).await;
    let done = done.map_err(|_| Problem::unready("The change broke off; it is taken up again by itself."))??;
    let rotated = done.ok_or_else(|| Problem::conflict("It is being changed right now."))?;
    let ended = match rotated.ended {
        Ended::Changed => "changed",
        Ended::Unchanged => "unchanged",
        Ended::Later => "later",
        Ended::Stuck => "stuck",
    };
    Ok(Json(RotatedView { ended: ended.into(), sentence: rotated.sentence(&machine, &account) }))
}

/// See a credential, in an emergency. The rules must give `check-out`; the reason is logged, and it is changed afterwards.
#[utoipa::path(post, path = "/vault/{machine}/{account}/check-out", operation_id = "checkOut", params(("machine" = String, Path), ("account" = String, Path)), request_body = CheckOutNote, responses((status = 200, body = CheckedOut), (status = 403), (status = 404)))]
pub(super) async fn check_out(
    State(app): State<Arc<App>>,
    caller: Caller,
    Path((machine, account)): Path<(String, String)>,
    Json(given): Json<CheckOutNote>,
) -> Result<Json<CheckedOut>, Problem> {
    caller.must_be_full()?;
    caller.must_be_fresh()?;
    let reason = why(&given.reason)?;
    let wanted = Wanted { capability: Capability::CheckOut, machine: &machine, account: &account };
    let answer = caller.asker().may(&app, wanted, Facts { ticket: given.ticket.as_deref(), ..Facts::default() });
    let event = caller.event(EventKind::Decision).machine(&machine).says(&*answer.insider);
    app.log.append(event.with("capability", "check-out").with("policy_version", answer.version)).await?;
    answer.or_why().map_err(Problem::not_allowed)?;
    let row = app.store.vault_entry(&machine, &account).await?.ok_or_else(missing)?;
    if !is_bound_here(&app, &row) {
        return Err(Problem::not_good("The machine has another host key or address than when this was entered: it must be entered again."));
    }
    let secret = app.vault.secrets(&app, &machine, &account).await?.into_iter().next().ok_or_else(missing)?;
    let says = format!("{} saw the {} of {account} on {machine}: {reason}", caller.person.name, row.kind.word());
    let event = caller.event(EventKind::CredentialSeen).machine(&machine).says(&*says).with("account", account.clone());
    // Nobody sees it before it is in the log.
    app.log.append(event.with("reason", reason).with("ticket", given.ticket.unwrap_or_default())).await?;
    app.store.vault_used(&machine, &account, caller.now).await?;
    app.store.note_vault(&machine, &account, &caller.person.name, &says, caller.now).await?;
    app.vault.look();
    app.tell("vault");
    let sentence = match row.schedule.after_use {
        true => "It is changed within minutes, when nobody is on the account: use it now.",
        false => "It is not changed by itself: change it when you are done (`aerie vault rotate`).",
    };
    Ok(Json(CheckedOut { kind: row.kind.word().into(), secret: secret.text().to_string(), sentence: sentence.into() }))
}

/// What was done with a credential, newest first.
#[utoipa::path(get, path = "/vault/{machine}/{account}/history", operation_id = "credentialHistory", params(("machine" = String, Path), ("account" = String, Path)), responses((status = 200, body = Vec<CredentialEvent>), (status = 403), (status = 404)))]
pub(super) async fn history(
    State(app): State<Arc<App>>,
    caller: Caller,
    Path((machine, account)): Path<(String, String)>,
) -> Result<Json<Vec<CredentialEvent>>, Problem> {
    if !caller.sees_machine(&app, &machine) {
        return Err(missing());
    }
    let all = app.store.vault_history(&machine, &account).await?;
    Ok(Json(all.into_iter().map(|e| CredentialEvent { at: e.at, by: e.by, what: e.what }).collect()))
}
