//! People: finding, adding, changing, inviting, suspending and removing them.

use super::account::{check_new_password, devices_and_tokens, passkey_view};
use super::caller::{Caller, DirectoryReader, Seen};
use super::problem::Problem;
use super::proposals::{self, Act as Proposed};
use super::signing::{Attempt, admit};
use super::ssh_keys::key_views;
use super::version_of;
use crate::asking::Told;
use crate::identity::new_secret;
use crate::second;
use crate::service::App;
use aerie_api::{
    InvitationFacts, InvitationSecret, InvitationTaken, InvitationView, NewPerson, Page, PeopleQuery, PersonChange, PersonDetail,
    PersonView, ScopeView, ShownCodes,
};
use aerie_core::directory::{Act, Directory, DirectoryFile, Person, Role, Scope, Standing, keeps_administrator, raised, validate};
use aerie_core::evidence::EventKind;
use aerie_core::policy::{Factor, Factors};
use aerie_core::settings::Setting;
use aerie_store::{Invitation, Touch};
use axum::Json;
use axum::extract::{ConnectInfo, Path, Query, State};
use axum::http::{HeaderMap, StatusCode, header};
use axum::response::{IntoResponse, Response};
use jiff::civil::Date;
use jiff::{SignedDuration, Timestamp};
use std::collections::{BTreeMap, BTreeSet};
use std::net::SocketAddr;
use std::sync::Arc;

/// Rows of a page unless said otherwise, and at most.
const ROWS: u32 = 50;
const MOST_ROWS: u32 = 500;
/// Longest name or organisation.
const LONGEST_TEXT: usize = 120;

pub(super) fn person_view(p: &Person, day: Date) -> PersonView {
    PersonView {
        name: p.name.clone(),
        full_name: p.full_name.clone(),
        organisation: p.organisation.clone(),
        groups: p.groups.iter().cloned().collect(),
        roles: p.roles.iter().map(|r| r.word().into()).collect(),
        standing: match p.standing(day) {
            Standing::Good => "good".into(),
            Standing::Suspended => "suspended".into(),
            Standing::NotYet(first) => format!("not before {first}"),
            Standing::Expired(last) => format!("ended {last}"),
        },
        factors: p.enrolled.iter().map(|f| f.word().into()).collect(),
        keys: u32::try_from(p.keys.len()).unwrap_or(u32::MAX),
    }
}

/// Whether any of what one knows of somebody contains the letters. Names of people are compared in small letters.
fn matches(p: &Person, letters: &str) -> bool {
    let has = |text: &str| memmem(text, letters);
    has(&p.name) || has(&p.full_name) || has(&p.organisation) || p.groups.iter().any(|g| has(g))
}

fn memmem(text: &str, letters: &str) -> bool {
    if text.is_ascii() && letters.is_ascii() {
        let (text, letters) = (text.as_bytes(), letters.as_bytes());
        return text.windows(letters.len().max(1)).any(|w| w.eq_ignore_ascii_case(letters)) || letters.is_empty();
    }
    text.to_lowercase().contains(letters)
}

/// List people, found by a few letters.
///
/// In the order of their names; those whose own name begins with the letters come first.
#[utoipa::path(get, path = "/people", operation_id = "people", params(PeopleQuery), responses((status = 200, body = Page<PersonView>)))]
pub(super) async fn people(
    State(app): State<Arc<App>>,
    DirectoryReader(seen): DirectoryReader,
    Query(q): Query<PeopleQuery>,
) -> Result<Json<Page<PersonView>>, Problem> {
    let rules = app.rules.now();
    let day = Timestamp::now().to_zoned(rules.policy.zone().clone()).date();
    let role = q.role.as_deref().map(|r| Role::from_word(r).ok_or_else(|| Problem::bad_request("There is no such role."))).transpose()?;
    let good = match q.standing.as_deref() {
        None | Some("") => None,
        Some("good") => Some(true),
        Some("not-good") => Some(false),
        Some(_) => return Err(Problem::bad_request("The standing is `good` or `not-good`.")),
    };
    let letters = q.q.as_deref().unwrap_or_default().trim().to_lowercase();
    let directory = rules.policy.directory();
    let within = seen.people(directory);
    let wanted = |i: usize, p: &Person| {
        within.contains(i)
            && role.is_none_or(|r| p.roles.contains(&r))
            && q.group.as_deref().is_none_or(|g| p.groups.contains(g))
            && good.is_none_or(|g| g == (p.standing(day) == Standing::Good))
            && (letters.is_empty() || matches(p, &letters))
    };
    let found = directory.people().iter().enumerate().filter(|(i, p)| wanted(*i, p)).map(|(_, p)| p);
    // A page ends with the place of its last row: whether it begins with the letters, and its name.
    let place = |p: &&Person| (!letters.is_empty() && !p.name.starts_with(&letters), p.name.clone());
    let after = q.after.as_deref().map(|a| a.split_once(' ').map(|(late, name)| (late == "1", name.to_string())));
    let after = match after {
        Some(None) => return Err(Problem::bad_request("`after` is not one of this list.")),
        Some(Some(place)) => Some(place),
        None => None,
    };
    let mut rows: Vec<((bool, String), &Person)> =
        found.map(|p| (place(&p), p)).filter(|(at, _)| after.as_ref().is_none_or(|a| at > a)).collect();
    let limit = q.limit.unwrap_or(ROWS).clamp(1, MOST_ROWS) as usize;
    if rows.len() > limit {
        rows.select_nth_unstable_by(limit, |a, b| a.0.cmp(&b.0));
    }
    let more = rows.len() > limit;
    rows.truncate(limit);
    rows.sort_unstable_by(|a, b| a.0.cmp(&b.0));
    let next = rows.last().filter(|_| more).map(|((late, name), _)| format!("{} {name}", u8::from(*late)));
    Ok(Json(Page { items: rows.into_iter().map(|(_, p)| person_view(p, day)).collect(), next }))
}

/// Everything that is known of somebody.
pub(super) async fn detail(app: &App, person: &Person, this: Option<&str>, now: Timestamp) -> Result<PersonDetail, Problem> {
    let rules = app.rules.now();
    let day = now.to_zoned(rules.policy.zone().clone()).date();
    let view = person_view(person, day);
    let passkeys: Vec<_> = app.store.passkeys(&person.name).await?.iter().map(passkey_view).collect();
    let (devices, tokens) = devices_and_tokens(app, &person.name, this, now);
    let invited_until = app.store.invited_until(&person.name, now).await?;
    let recovery_codes = app.store.recovery_codes_left(&person.name).await?;
    let reach = super::reach::machines_of(app, &person.name).await?;
    let scopes =
        person.scopes.iter().map(|(r, s)| (r.word().to_string(), ScopeView { people: s.people.clone(), machines: s.machines.clone() }));
    Ok(PersonDetail {
        sentence: sentence(person, &view, reach, invited_until.is_some(), this.is_some()),
        scopes: scopes.collect(),
        all_groups: rules.policy.directory().groups_of(&person.name).into_iter().map(Into::into).collect(),
        valid_from: person.valid_from,
        valid_until: person.valid_until,
        suspended: person.suspended,
        invited_until,
        ssh_keys: key_views(app, person, day).await?,
        passkeys,
        recovery_codes,
        devices,
        tokens,
        reach,
        version: rules.directory_version,
        person: view,
    })
}

/// How things stand with somebody; to themselves in the second person.
fn sentence(p: &Person, view: &PersonView, reach: u32, invited: bool, own: bool) -> String {
    let name = if own { "You" } else { p.shown() };
    let proves: Vec<&str> = p.factors().iter().map(|f| f.phrase()).collect();
    let standing = match view.standing.as_str() {
        "good" if proves.is_empty() && invited => format!("{name} is invited and has not come yet"),
        "good" if proves.is_empty() => format!("{name} {} nothing to sign in with", if own { "have" } else { "has" }),
        "good" => format!("{name} can sign in with {}", aerie_core::wording::list(&proves)),
        "suspended" => format!("{name} is suspended"),
        other => format!("The account of {name} is not good: {other}"),
    };
    let machines = if reach == 0 { "no machine".into() } else { aerie_core::wording::count(u64::from(reach), "machine") };
    format!("{standing}, and the rules let {} reach {machines}.", if own { "you" } else { "them" })
}

fn tagged(detail: PersonDetail) -> Response {
    let tag = [(header::ETAG, format!("\"{}\"", detail.version))];
    (tag, Json(detail)).into_response()
}

/// The person of that name, where the caller may know of them.
fn find(app: &App, seen: Option<&Seen>, name: &str) -> Result<Person, Problem> {
    let rules = app.rules.now();
    let directory = rules.policy.directory();
    let visible = seen.is_some_and(|s| s.person(directory, name));
    directory
        .person(name)
        .filter(|_| visible)
        .cloned()
        .ok_or_else(|| Problem::not_found("There is no such person, or they are not yours to see."))
}

/// A person, with everything that is known. The ETag counts the changes of the directory.
#[utoipa::path(get, path = "/people/{name}", operation_id = "person", params(("name" = String, Path)), responses((status = 200, body = PersonDetail), (status = 404)))]
pub(super) async fn person(State(app): State<Arc<App>>, caller: Caller, Path(name): Path<String>) -> Result<Response, Problem> {
    let seen = caller.within(Act::ReadDirectory);
    let own = name == caller.person.name;
    let person = if own { caller.person.clone() } else { find(&app, seen.as_ref(), &name)? };
    let mut detail = detail(&app, &person, None, caller.now).await?;
    // Where somebody is signed in and with what is for those who look after people.
    if !own && caller.within(Act::ManagePeople).is_none() && !caller.reads_all() {
        (detail.devices, detail.tokens, detail.passkeys) = (vec![], vec![], vec![]);
    }
    Ok(tagged(detail))
}

/// Lays a change over a person.
fn apply(person: &mut Person, change: &PersonChange) -> Result<(), Problem> {
    let text = |t: &str| -> Result<String, Problem> {
        let text: String = aerie_core::diagnostic::printable(t.trim()).chars().collect();
        let fits = text.chars().count() <= LONGEST_TEXT;
        if fits { Ok(text) } else { Err(Problem::not_good(format!("A name has at most {LONGEST_TEXT} characters."))) }
    };
    let day = |t: &str| -> Result<Option<Date>, Problem> {
        let parsed = || {
            t.parse().map_err(|_| Problem::not_good(format!("`{}` is not a day: write 2026-11-23.", aerie_core::diagnostic::printable(t))))
        };
        if t.is_empty() { Ok(None) } else { parsed().map(Some) }
    };
    let role = |word: &String| {
        Role::from_word(word).ok_or_else(|| Problem::not_good(format!("Roles are {}.", Role::ALL.map(Role::word).join(", "))))
    };
    if let Some(name) = &change.full_name {
        person.full_name = text(name)?;
    }
    if let Some(mail) = &change.mail {
        let mail = text(mail)?;
        let good = mail.is_empty() || mail.parse::<lettre::Address>().is_ok();
        person.mail = if good { mail } else { return Err(Problem::not_good("That is not a mail address.")) };
    }
    if let Some(organisation) = &change.organisation {
        person.organisation = text(organisation)?;
    }
    if let Some(groups) = &change.groups {
        person.groups = groups.iter().cloned().collect();
    }
    if let Some(roles) = &change.roles {
        person.roles = roles.iter().map(role).collect::<Result<BTreeSet<_>, _>>()?;
    }
    if let Some(scopes) = &change.scopes {
        let scope = |(word, s): (&String, &ScopeView)| Ok((role(word)?, Scope { people: s.people.clone(), machines: s.machines.clone() }));
        person.scopes = scopes.iter().map(scope).collect::<Result<BTreeMap<_, _>, Problem>>()?;
    }
    if let Some(suspended) = change.suspended {
        person.suspended = suspended;
    }
    if let Some(first) = &change.valid_from {
        person.valid_from = day(first)?;
    }
    if let Some(last) = &change.valid_until {
        person.valid_until = day(last)?;
    }
    Ok(())
}

/// Holds a change against what the caller may do: those with a scope look after the plain accounts within it, and give neither
/// roles nor groups.
fn may_manage(app: &App, caller: &Caller, before: Option<&Person>, after: &Person) -> Result<(), Problem> {
    let seen = caller.within(Act::ManagePeople).ok_or_else(|| Problem::not_allowed("Only administrators may do this."))?;
    caller.must_be_fresh()?;
    if seen.is_everything() {
        return Ok(());
    }
    let rules = app.rules.now();
    let directory = rules.policy.directory();
    let outside = || Problem::not_allowed("This person is outside of the scope of your role.");
    let plain = |p: &Person| p.roles.iter().all(|r| *r == Role::Technician);
    let (known_roles, known_groups) = before.map_or((BTreeSet::new(), BTreeSet::new()), |p| (p.roles.clone(), p.groups.clone()));
    if before.is_some_and(|p| !seen.person(directory, &p.name) || !plain(p)) {
        return Err(outside());
    }
    if after.roles != known_roles || after.groups != known_groups || before.is_some_and(|p| p.scopes != after.scopes) {
        return Err(Problem::not_allowed("Your role has a scope: roles, scopes and groups are given by administrators without one."));
    }
    let with = Directory::with_groups(vec![after.clone()], vec![], directory.group_definitions().to_vec());
    if seen.person(&with, &after.name) { Ok(()) } else { Err(outside()) }
}

/// The directory in force as a file, at the version that the caller read.
fn known(app: &App, headers: &HeaderMap) -> Result<(DirectoryFile, u64), Problem> {
    let rules = app.rules.now();
    let version = match version_of(headers)? {
        Some(v) => u64::try_from(v).unwrap_or(0),
        None => rules.directory_version,
    };
    if version != rules.directory_version {
        return Err(changed());
    }
    Ok((DirectoryFile::from(&**rules.policy.directory()), version))
}

fn changed() -> Problem {
    Problem::conflict("Somebody else changed the directory since you read it. Read it again and repeat your change.")
}

/// Checks and keeps a changed person.
async fn keep(app: &App, caller: &Caller, before: Option<&Person>, after: Person, headers: &HeaderMap) -> Result<(), Problem> {
    may_manage(app, caller, before, &after)?;
    let _turn = app.directory_turn.lock().await;
    let (mut file, version) = known(app, headers)?;
    match file.people.iter_mut().find(|p| p.name == after.name) {
        Some(slot) => *slot = after.clone(),
        None => file.people.push(after.clone()),
    }
    validate(&file).map_err(|e| Problem::not_good(format!("{e}.")))?;
    let rules = app.rules.now();
    let day = caller.now.to_zoned(rules.policy.zone().clone()).date();
    keeps_administrator(&file, day).map_err(|e| Problem::not_good(format!("{e}.")))?;
    raised(rules.policy.directory(), &file.into(), &caller.person.name).map_err(|e| Problem::own_rights(format!("{e}.")))?;
    if !app.store.change_person(&after, version).await? {
        return Err(changed());
    }
    if before.is_none() {
        app.store.touch_account(&after.name, &caller.person.name, Touch::Made, caller.now).await?;
    } else if before.is_some_and(|b| b.mail != after.mail) {
        app.store.touch_account(&after.name, &caller.person.name, Touch::Mail, caller.now).await?;
    }
    app.directory_changed().await?;
    Ok(())
}

async fn note(app: &App, caller: &Caller, says: String, person: &str) -> Result<(), Problem> {
    app.log.append(caller.event(EventKind::PersonChanged).says(says).with("person", person)).await?;
    app.tell("people");
    app.tell("log");
    Ok(())
}

/// Add somebody.
#[utoipa::path(post, path = "/people", operation_id = "addPerson", request_body = NewPerson, responses((status = 200, body = PersonDetail), (status = 403), (status = 409), (status = 422)))]
pub(super) async fn add(
    State(app): State<Arc<App>>,
    caller: Caller,
    headers: HeaderMap,
    Json(given): Json<NewPerson>,
) -> Result<Response, Problem> {
    let rules = app.rules.now();
    if caller.within(Act::ManagePeople).is_none() {
        return Err(Problem::not_allowed("Only administrators may do this."));
    }
    if rules.policy.directory().person(&given.name).is_some() {
        return Err(Problem::exists("There is a person of that name."));
    }
    if app.store.was_removed(&given.name).await? {
        return Err(Problem::exists("Somebody had that name who was removed: old records would speak of both. Take another."));
    }
    let mut person: Person = serde_json::from_value(serde_json::json!({ "name": given.name })).map_err(|e| Problem::internal(&e))?;
    apply(&mut person, &given.with)?;
    keep(&app, &caller, None, person, &headers).await?;
    note(&app, &caller, format!("{} added {}.", caller.person.name, given.name), &given.name).await?;
    let person = find(&app, Some(&Seen::default()), &given.name)?;
    Ok(tagged(detail(&app, &person, None, caller.now).await?))
}

/// Change somebody. Live sessions are decided again at once; whoever is suspended is out of everything.
#[utoipa::path(patch, path = "/people/{name}", operation_id = "changePerson", params(("name" = String, Path), ("if-match" = Option<String>, Header, description = "ETag of the directory that was changed")),
    request_body = PersonChange, responses((status = 200, body = PersonDetail), (status = 403), (status = 404), (status = 412), (status = 422)))]
pub(super) async fn change(
    State(app): State<Arc<App>>,
    caller: Caller,
    Path(name): Path<String>,
    headers: HeaderMap,
    Json(given): Json<PersonChange>,
) -> Result<Response, Problem> {
    let before = find(&app, caller.within(Act::ManagePeople).as_ref(), &name)?;
    let mut after = before.clone();
    apply(&mut after, &given)?;
    keep(&app, &caller, Some(&before), after.clone(), &headers).await?;
    let as_file = |p: &Person| DirectoryFile { people: vec![p.clone()], ..DirectoryFile::default() };
    let said = aerie_core::directory::differences(&as_file(&before), &as_file(&after));
    let what = said.first().map_or_else(|| "nothing".into(), aerie_core::directory::Difference::sentence);
    note(&app, &caller, format!("{} changed {name}. {what}", caller.person.name), &name).await?;
    let person = find(&app, Some(&Seen::default()), &name)?;
    Ok(tagged(detail(&app, &person, None, caller.now).await?))
}

/// Remove somebody, with everything that they sign in with. Sessions, events and findings keep their name.
#[utoipa::path(delete, path = "/people/{name}", operation_id = "removePerson", params(("name" = String, Path)), responses((status = 204), (status = 403), (status = 404), (status = 422)))]
pub(super) async fn remove(
    State(app): State<Arc<App>>,
    caller: Caller,
    Path(name): Path<String>,
    headers: HeaderMap,
) -> Result<StatusCode, Problem> {
    let before = find(&app, caller.within(Act::ManagePeople).as_ref(), &name)?;
    may_manage(&app, &caller, Some(&before), &before)?;
    if name == caller.person.name {
        return Err(Problem::own_rights("Nobody removes themselves: another administrator must do it."));
    }
    let _turn = app.directory_turn.lock().await;
    let (mut file, version) = known(&app, &headers)?;
    file.people.retain(|p| p.name != name);
    let day = caller.now.to_zoned(app.rules.now().policy.zone().clone()).date();
    keeps_administrator(&file, day).map_err(|e| Problem::not_good(format!("{e}.")))?;
    if !app.store.remove_person(&name, version, &caller.person.name, caller.now).await? {
        return Err(changed());
    }
    app.directory_changed().await?;
    note(&app, &caller, format!("{} removed {name}.", caller.person.name), &name).await?;
    Ok(StatusCode::NO_CONTENT)
}

/// Somebody else whom the caller may look after.
pub(super) fn other(app: &App, caller: &Caller, name: &str) -> Result<Person, Problem> {
    let person = find(app, caller.within(Act::ManagePeople).as_ref(), name)?;
    may_manage(app, caller, Some(&person), &person)?;
    if name == caller.person.name {
        return Err(Problem::own_rights("This is for others; your own account has a page of its own."));
    }
    Ok(person)
}

/// Invite somebody: a link that is good once, with which they set a password. An earlier one is dead.
///
/// It is mailed to the person where mail works and their address was not changed lately. Otherwise it is shown, to be handed to them; for
/// somebody who signs in already, or has a role, a second administrator must agree first.
#[utoipa::path(post, path = "/people/{name}/invitation", operation_id = "invite", params(("name" = String, Path)), responses((status = 200, body = InvitationView), (status = 403), (status = 404)))]
pub(super) async fn invite(State(app): State<Arc<App>>, caller: Caller, Path(name): Path<String>) -> Result<Json<InvitationView>, Problem> {
    let person = other(&app, &caller, &name)?;
    let mails = !app.settings().text(Setting::MailServer).is_empty() && !person.mail.is_empty();
    if mails && !second::mail_is_fresh(&app, &name, caller.now).await? {
        let (secret, invitation) = make_invitation(&app, &caller, &name).await?;
        let link = link_of(&app, &secret);
        let subject = format!("Your invitation to {}", app.address());
        let text = format!("{} invites you to set a password, until {}:\n\n{link}", caller.person.shown(), invitation.expires);
        let told = Told { kind: "invitation", about: &name, subject: &subject, text: &text };
        crate::asking::mail_to(&app, &person.mail, told).await?;
        note(&app, &caller, format!("{} mailed {name} an invitation.", caller.person.name), &name).await?;
        return Ok(Json(InvitationView { person: name, link: String::new(), mailed: true, proposal: None, expires: invitation.expires }));
    }
    // Whoever gave somebody's second factor away must not set their password, too.
    if second::is_needed(&app, caller.now) {
        if second::gave_second_half(&app, &name, &caller.person.name, caller.now).await? {
            return Err(Problem::own_rights(format!(
                "You gave {name} a temporary code or took a factor away lately: another administrator must invite them."
            )));
        }
        if !person.factors().is_empty() {
            let sentence = format!("{} wants to invite {name} anew: whoever has the link sets their password.", caller.person.name);
            let act = Proposed::Invitation { person: name.clone() };
            let proposal = act.propose(&app, &caller.person.name, sentence, caller.now).await?;
            let expires = proposal.expires;
            return Ok(Json(InvitationView {
                person: name,
                link: String::new(),
                mailed: false,
                proposal: Some(proposals::view(&proposal)),
                expires,
            }));
        }
    }
    app.store.touch_account(&name, &caller.person.name, Touch::Invited, caller.now).await?;
    Ok(Json(issue_invitation(&app, &caller, &name).await?))
}

async fn make_invitation(app: &App, caller: &Caller, name: &str) -> Result<(zeroize::Zeroizing<String>, Invitation), Problem> {
    let secret = new_secret()?;
    let expires = caller.now + SignedDuration::from_hours(app.settings().number(Setting::InvitationHours));
    let invitation = Invitation { person: name.into(), created_by: caller.person.name.clone(), expires };
    app.store.invite(&app.keys.token_hash(&secret), &invitation, caller.now).await?;
    Ok((secret, invitation))
}

/// Behind the hash, which no browser sends to a server or names as where it came from.
fn link_of(app: &App, secret: &str) -> String {
    format!("{}/welcome#{secret}", app.address())
}

/// Makes an invitation whose link is shown.
pub(super) async fn issue_invitation(app: &App, caller: &Caller, name: &str) -> Result<InvitationView, Problem> {
    let (secret, invitation) = make_invitation(app, caller, name).await?;
    note(app, caller, format!("{} invited {name}.", caller.person.name), name).await?;
    Ok(InvitationView { person: name.into(), link: link_of(app, &secret), mailed: false, proposal: None, expires: invitation.expires })
}

/// Refuses whoever could have set somebody's password lately: they must not give their second factor away, too.
async fn must_not_hold_the_first_half(app: &App, caller: &Caller, name: &str) -> Result<(), Problem> {
    if second::is_needed(app, caller.now) && second::gave_first_half(app, name, &caller.person.name, caller.now).await? {
        return Err(Problem::own_rights(format!(
            "You made or invited {name} lately: another administrator must help with their second factor."
        )));
    }
    Ok(app.store.touch_account(name, &caller.person.name, Touch::SecondFactor, caller.now).await?)
}

/// Give somebody a temporary code, to be read out: it does once in place of their second factor. An earlier one is dead.
#[utoipa::path(post, path = "/people/{name}/temporary-code", operation_id = "giveTemporaryCode", params(("name" = String, Path)), responses((status = 200, body = ShownCodes), (status = 403), (status = 404)))]
pub(super) async fn temporary_code(
    State(app): State<Arc<App>>,
    caller: Caller,
    Path(name): Path<String>,
) -> Result<Json<ShownCodes>, Problem> {
    let person = other(&app, &caller, &name)?;
    must_not_hold_the_first_half(&app, &caller, &name).await?;
    let life = SignedDuration::from_mins(app.settings().number(Setting::TemporaryCodeMinutes));
    let code = app.identity.new_temporary_code(&person.name, &caller.person.name, life, caller.now).await?;
    let says = format!("{} gave {name} a temporary code.", caller.person.name);
    app.log.append(caller.event(EventKind::FactorChanged).says(says).with("person", name).with("factor", "temporary-code")).await?;
    Ok(Json(ShownCodes { codes: vec![code.to_string()], expires: Some(caller.now + life) }))
}

/// Take away how somebody signs in: `password`, `code`, `recovery-codes`, or the identifier of a passkey.
#[utoipa::path(delete, path = "/people/{name}/factors/{factor}", operation_id = "takeFactor", params(("name" = String, Path), ("factor" = String, Path)), responses((status = 204), (status = 403), (status = 404)))]
pub(super) async fn take_factor(
    State(app): State<Arc<App>>,
    caller: Caller,
    Path((name, factor)): Path<(String, String)>,
) -> Result<StatusCode, Problem> {
    let person = other(&app, &caller, &name)?;
    if factor != "password" {
        must_not_hold_the_first_half(&app, &caller, &name).await?;
    }
    let gone: &[Factor] = match factor.as_str() {
        "password" => {
            app.store.set_password(&person.name, None, caller.now).await?;
            &[Factor::Password]
        }
        "code" => {
            app.store.set_totp(&person.name, None, 0).await?;
            &[Factor::Code]
        }
        // They stand for a code.
        "recovery-codes" => {
            app.store.set_recovery_codes(&person.name, &[], caller.now).await?;
            &[]
        }
        id => {
            let id = aerie_core::evidence::unhex(id).ok_or_else(|| Problem::not_found("They have no such factor."))?;
            if !app.store.remove_passkey(&person.name, &id).await? {
                return Err(Problem::not_found("They have no such factor."));
            }
            &[Factor::Passkey, Factor::SecurityKey]
        }
    };
    app.rules.reload().await?;
    for factor in gone {
        crate::ending::factor_gone(&app, &person.name, *factor, None).await?;
    }
    let says = format!("{} took a factor away from {name}.", caller.person.name);
    app.log.append(caller.event(EventKind::FactorChanged).says(says).with("person", name).with("factor", factor)).await?;
    app.tell("people");
    Ok(StatusCode::NO_CONTENT)
}

/// Sign somebody out everywhere, and withdraw their tokens.
#[utoipa::path(post, path = "/people/{name}/sign-out", operation_id = "signOutPerson", params(("name" = String, Path)), responses((status = 204), (status = 403), (status = 404)))]
pub(super) async fn sign_out(State(app): State<Arc<App>>, caller: Caller, Path(name): Path<String>) -> Result<StatusCode, Problem> {
    let person = other(&app, &caller, &name)?;
    crate::ending::everywhere(&app, &person.name, None).await?;
    let says = format!("{} signed {name} out everywhere.", caller.person.name);
    app.log.append(caller.event(EventKind::TokenChanged).says(says).with("person", name)).await?;
    Ok(StatusCode::NO_CONTENT)
}

fn dead_link() -> Problem {
    Problem::not_found("This link is not good: it was used, replaced, or is too old. Ask for another.")
}

/// The invitation of a secret. It has 256 bits: there is nothing to guess, and no brake that could keep others out.
async fn opened(app: &App, secret: &str, now: Timestamp) -> Result<(Vec<[u8; 32]>, Invitation), Problem> {
    let hashes = app.keys.token_hashes(secret);
    let invitation = app.store.invitation(&hashes, now).await?.ok_or_else(dead_link)?;
    Ok((hashes, invitation))
}

/// Open an invitation, without taking it.
#[utoipa::path(post, path = "/invitations/open", operation_id = "openInvitation", request_body = InvitationSecret, responses((status = 200, body = InvitationFacts), (status = 404), (status = 429)))]
pub(super) async fn open_invitation(
    State(app): State<Arc<App>>,
    Json(given): Json<InvitationSecret>,
) -> Result<Json<InvitationFacts>, Problem> {
    let (_, invitation) = opened(&app, &given.secret, Timestamp::now()).await?;
    let rules = app.rules.now();
    let shown = |name: &str| rules.policy.directory().person(name).map_or_else(String::new, |p| p.shown().into());
    Ok(Json(InvitationFacts {
        full_name: shown(&invitation.person),
        by: shown(&invitation.created_by),
        expires: invitation.expires,
        password_length: u32::try_from(app.settings().number(Setting::PasswordLength)).unwrap_or(0),
        person: invitation.person,
    }))
}

/// Take an invitation: sets a password and signs in. The first one of a service makes its administrator.
#[utoipa::path(post, path = "/invitations/take", operation_id = "takeInvitation", request_body = InvitationTaken, responses((status = 200, body = aerie_api::Me), (status = 404), (status = 422), (status = 429)))]
pub(super) async fn take_invitation(
    State(app): State<Arc<App>>,
    ConnectInfo(from): ConnectInfo<SocketAddr>,
    headers: HeaderMap,
    Json(given): Json<InvitationTaken>,
) -> Result<Response, Problem> {
    let attempt = Attempt::of(&headers, from.ip().to_canonical(), given.token)?;
    let (hashes, invitation) = opened(&app, &given.secret, attempt.now).await?;
    let first = invitation.person.is_empty();
    let person = if first { first_administrator(&app, &given)? } else { find(&app, Some(&Seen::default()), &invitation.person)? };
    check_new_password(&app, &person, &given.password)?;
    // Used up before anything is made of it: of two who come at a time one is too late.
    if !app.store.use_invitation(&hashes).await? {
        return Err(dead_link());
    }
    let _turn = app.directory_turn.lock().await;
    if first && !app.store.change_person(&person, app.rules.now().directory_version).await? {
        return Err(changed());
    }
    if !app.identity.set_password(&person.name, &given.password, attempt.now).await? {
        return Err(Problem::busy());
    }
    // Whoever signed in with what was there before is out: an invitation is how a lost account is given back.
    crate::ending::everywhere(&app, &person.name, None).await?;
    app.directory_changed().await?;
    let says = match first {
        true => format!("{} took the first link, and is the first administrator.", person.name),
        false => format!("{} took the invitation of {}.", person.name, invitation.created_by),
    };
    let event = aerie_core::evidence::NewEvent::new(attempt.now, EventKind::PersonChanged, &person.name).from(attempt.from).says(says);
    app.log.append(event.with("person", person.name.clone())).await?;
    app.tell("people");
    let person = find(&app, Some(&Seen::default()), &person.name)?;
    admit(&app, &person, Factors::of([Factor::Password]), &attempt).await
}

/// The first administrator, with the name that they chose. Only while nobody is there.
fn first_administrator(app: &App, given: &InvitationTaken) -> Result<Person, Problem> {
    if !app.rules.now().policy.directory().people().is_empty() {
        return Err(dead_link());
    }
    let name = given.person.as_deref().unwrap_or_default().trim();
    let mut person: Person =
        serde_json::from_value(serde_json::json!({ "name": name, "roles": ["administrator"] })).map_err(|e| Problem::internal(&e))?;
    apply(&mut person, &PersonChange { full_name: given.full_name.clone(), ..PersonChange::default() })?;
    let file = DirectoryFile { people: vec![person.clone()], ..DirectoryFile::default() };
    validate(&file).map_err(|e| Problem::not_good(format!("{e}.")))?;
    Ok(person)
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn letters_are_found_in_any_case_and_script() {
        let person: Person =
            serde_json::from_value(serde_json::json!({ "name": "ines", "full_name": "In\u{ea}s Okafor", "groups": ["night-operators"] }))
                .unwrap();
        for letters in ["ine", "OKAF".to_lowercase().as_str(), "in\u{ea}s", "night"] {
            assert!(matches(&person, letters), "{letters}");
        }
        assert!(!matches(&person, "noor"));
    }
}
