//! Asking others: requests and their answers, passes, lockdown, and the uses that wait at this moment.

mod consent;
mod outbox;

pub(crate) use consent::{Consenting, ask_person};
pub(crate) use outbox::{OutboxError, Told, deliver, mail_to, tell_desk, tell_people};

use crate::api::new_id;
use crate::service::App;
use aerie_core::approval::{Answer, ApprovalFault, Verdict, Wish, uses};
use aerie_core::audit::{Finding, FindingKind};
use aerie_core::evidence::{EventKind, NewEvent};
use aerie_core::policy::Pass;
use aerie_core::settings::Setting;
use aerie_core::wording;
use aerie_store::{Deputy, Lockdown, RequestRow, RequestState, Store, StoreError, WaitRow};
use jiff::{SignedDuration, Timestamp};
use std::collections::{BTreeMap, BTreeSet, HashMap};
use std::net::IpAddr;
use std::sync::{Arc, Mutex, PoisonError, RwLock};
use std::time::Duration;
use tokio::sync::watch;

/// Requests of one person that are open at most.
const MOST_OPEN: usize = 20;
/// Requests that are open at most.
const MOST_OF_ALL: u32 = 5000;
/// How often what has expired is looked for.
const LOOK: Duration = Duration::from_secs(5);
/// How long delivered notices are kept.
const NOTICES_KEPT: SignedDuration = SignedDuration::from_hours(24 * 7);

/// Why something was not asked or answered.
#[derive(Debug, thiserror::Error)]
pub(crate) enum AskError {
    /// It may not be.
    #[error(transparent)]
    Fault(#[from] ApprovalFault),
    /// There is none.
    #[error("there is no such request, or it is not open any more")]
    NotOpen,
    /// The two do not count as two people.
    #[error("you and whoever asks count as one person for some days: one of you made, invited or reset the other's account")]
    Tied,
    /// Too often.
    #[error("you asked too often within the last hour; wait {} min", (.0 + 59) / 60)]
    TooOften(i64),
    /// Too many.
    #[error("you have {MOST_OPEN} requests open already, or the service has too many")]
    TooMany,
    /// The store refused.
    #[error(transparent)]
    Store(#[from] StoreError),
}

/// A use that waits at this moment.
#[derive(Debug, Clone)]
pub(crate) struct Waiting {
    pub(crate) row: WaitRow,
    pub(crate) until: Timestamp,
    pub(crate) request: Option<String>,
}

/// What is known of those who were asked.
pub(crate) struct Asking {
    passes: RwLock<Arc<HashMap<String, Arc<[Pass]>>>>,
    lockdown: RwLock<Option<Lockdown>>,
    waits: Mutex<BTreeMap<String, Waiting>>,
    changes: watch::Sender<u64>,
    /// Requests are answered one after the other.
    turn: tokio::sync::Mutex<()>,
    /// There is something to deliver.
    pub(crate) posted: tokio::sync::Notify,
}

fn grouped(all: Vec<Pass>) -> Arc<HashMap<String, Arc<[Pass]>>> {
    let mut by_person: HashMap<String, Vec<Pass>> = HashMap::new();
    for pass in all {
        by_person.entry(pass.person.clone()).or_default().push(pass);
    }
    Arc::new(by_person.into_iter().map(|(p, all)| (p, all.into())).collect())
}

async fn good_passes(store: &Store, now: Timestamp) -> Result<Vec<Pass>, StoreError> {
    Ok(store.passes(now).await?.into_iter().filter(|p| p.withdrawn.is_none()).map(|p| p.pass).collect())
}

impl Asking {
    /// Reads what is kept.
    pub(crate) async fn load(store: &Store, now: Timestamp) -> Result<Self, StoreError> {
        Ok(Self {
            passes: RwLock::new(grouped(good_passes(store, now).await?)),
            lockdown: RwLock::new(store.lockdown().await?),
            waits: Mutex::default(),
            changes: watch::channel(0).0,
            turn: tokio::sync::Mutex::default(),
            posted: tokio::sync::Notify::new(),
        })
    }

    /// The passes of somebody that are good, or will be.
    pub(crate) fn passes_of(&self, person: &str) -> Arc<[Pass]> {
        let all = self.passes.read().unwrap_or_else(PoisonError::into_inner);
        all.get(person).cloned().unwrap_or_else(|| Arc::from([]))
    }

    /// Whether nobody new is let in.
    pub(crate) fn locked_down(&self) -> Option<Lockdown> {
        self.lockdown.read().unwrap_or_else(PoisonError::into_inner).clone()
    }

    /// Tells when requests, passes or the lockdown change.
    pub(crate) fn changes(&self) -> watch::Receiver<u64> {
        self.changes.subscribe()
    }

    /// Lets whoever waits look once more.
    pub(crate) fn look_again(&self) {
        self.changes.send_modify(|n| *n += 1);
    }

    fn changed(&self, app: &App) {
        self.changes.send_modify(|n| *n += 1);
        app.tell("asking");
    }

    async fn reload_passes(&self, app: &App) -> Result<(), StoreError> {
        let fresh = grouped(good_passes(&app.store, Timestamp::now()).await?);
        *self.passes.write().unwrap_or_else(PoisonError::into_inner) = fresh;
        self.changed(app);
        Ok(())
    }

    /// The uses that wait at this moment, the longest wait first.
    pub(crate) fn waiting(&self) -> Vec<Waiting> {
        let mut all: Vec<Waiting> = self.waits.lock().unwrap_or_else(PoisonError::into_inner).values().cloned().collect();
        all.sort_by_key(|w| w.row.since);
        all
    }
}

/// Notes that a use waits for somebody, here and in the log.
pub(crate) async fn begin_wait(app: &App, waiting: Waiting, from: IpAddr) {
    let row = &waiting.row;
    if let Err(e) = app.store.add_wait(row).await {
        tracing::warn!(error = %e, "a wait could not be kept");
    }
    let event = NewEvent::new(row.since, EventKind::SessionWaits, &row.person)
        .machine(&row.machine)
        .session(&row.id)
        .from(from)
        .says(format!("{} waits for {} to reach {}.", row.person, row.whom, row.machine));
    app.asking.waits.lock().unwrap_or_else(PoisonError::into_inner).insert(row.id.clone(), waiting);
    app.note(event).await;
    app.tell("asking");
}

/// It waits no longer.
pub(crate) async fn end_wait(app: &App, id: &str) {
    let known = app.asking.waits.lock().unwrap_or_else(PoisonError::into_inner).remove(id);
    if known.is_some() {
        if let Err(e) = app.store.remove_wait(id).await {
            tracing::warn!(error = %e, "a wait could not be taken out");
        }
        app.tell("asking");
    }
}

/// Tells of the uses that waited when the service went away without being able to say so.
pub(crate) async fn close_crashed(app: &App) -> Result<(), StoreError> {
    for wait in app.store.waits().await? {
        let event = NewEvent::new(Timestamp::now(), EventKind::SessionNotBegun, &wait.person)
            .machine(&wait.machine)
            .session(&wait.id)
            .says(format!(
                "{} waited for {} to reach {}; that ended when the service stopped unexpectedly.",
                wait.person, wait.whom, wait.machine
            ))
            .with("reason", aerie_core::session::EndReason::ServiceCrashed.word());
        app.log.append(event).await?;
        app.store.remove_wait(&wait.id).await?;
    }
    Ok(())
}

fn shown(app: &App, person: &str) -> String {
    app.rules.now().policy.directory().person(person).map_or(person.to_string(), |p| p.shown().to_string())
}

/// What somebody asks for, in a clause: `open a shell on dome-east until 14:05`.
pub(crate) fn told(app: &App, wish: &Wish) -> String {
    let what = uses(&wish.capabilities, wish.target.as_ref());
    let machines: Vec<&str> = wish.machines.iter().map(String::as_str).collect();
    let rules = app.rules.now();
    let zone = rules.policy.zone();
    let now = Timestamp::now();
    let from = if wish.from > now { format!(" from {}", wording::instant(wish.from, now, zone)) } else { String::new() };
    format!("{} on {}{from} until {}", wording::list(&what), wording::list(&machines), wording::instant(wish.until, now, zone))
}

/// Those who may answer, and those who may in their place.
pub(crate) async fn voices(app: &App, wish: &Wish, now: Timestamp) -> Result<(BTreeSet<String>, Vec<Deputy>), AskError> {
    let approvers = app.rules.now().policy.approvers_of(wish, now)?;
    let deputies = app.store.deputies(now).await?;
    Ok((approvers, deputies))
}

/// Asks for access. A request of the same person for the same that is open is that one.
pub(crate) async fn ask(app: &App, mut wish: Wish, from: IpAddr) -> Result<RequestRow, AskError> {
    let now = wish.asked;
    wish.check(now)?;
    let _turn = app.asking.turn.lock().await;
    let open = app.store.requests(Some(RequestState::Open), MOST_OF_ALL).await?;
    let same = |r: &&RequestRow| {
        r.wish.person == wish.person
            && r.wish.machines == wish.machines
            && r.wish.is_for_same_port(&wish)
            && wish.capabilities.iter().all(|c| r.wish.capabilities.contains(c))
            && r.wish.from <= wish.from
            && r.wish.expires > now
    };
    if wish.waiting
        && let Some(known) = open.iter().find(same)
    {
        return Ok(known.clone());
    }
    if open.len() >= MOST_OF_ALL as usize || open.iter().filter(|r| r.wish.person == wish.person).count() >= MOST_OPEN {
        return Err(AskError::TooMany);
    }
    let (approvers, deputies) = voices(app, &wish, now).await?;
    app.mailing.take(&wish.person, now).map_err(AskError::TooOften)?;
    wish.id = new_id(now);
    let row = RequestRow { wish, answers: vec![], state: RequestState::Open, reminded: None, over: None };
    app.store.put_request(&row).await?;
    let what = told(app, &row.wish);
    let event = NewEvent::new(now, EventKind::RequestChanged, &row.wish.person)
        .from(from)
        .says(format!("{} asks for {what}: {}", shown(app, &row.wish.person), reason(&row.wish)))
        .with("request", row.wish.id.clone())
        .with("approvers", approvers.iter().cloned().collect::<Vec<_>>());
    app.log.append(event).await?;
    tell_voices(app, &row.wish, &approvers, &deputies, "asked", format!("{} asks for {what}", shown(app, &row.wish.person))).await;
    app.asking.changed(app);
    Ok(row)
}

/// The reason and ticket of a request, as a sentence ends.
fn reason(wish: &Wish) -> String {
    let ticket = if wish.ticket.is_empty() { String::new() } else { format!(" ({})", wish.ticket) };
    if wish.reason.is_empty() { format!("no reason is given{ticket}.") } else { format!("{}{ticket}.", wish.reason.trim_end_matches('.')) }
}

async fn tell_voices(app: &App, wish: &Wish, approvers: &BTreeSet<String>, deputies: &[Deputy], kind: &str, subject: String) {
    let mut people = approvers.clone();
    people.extend(deputies.iter().filter(|d| approvers.contains(&d.person) && d.deputy != wish.person).map(|d| d.deputy.clone()));
    let text = format!("{subject}: {}\n\nAnswer at {}/requests/{}", reason(wish), app.address(), wish.id);
    tell_people(app, &people, Told { kind, about: &wish.id, subject: &subject, text: &text }).await;
}

/// Takes an answer.
pub(crate) async fn answer(app: &App, id: &str, answer: Answer, from: IpAddr) -> Result<RequestRow, AskError> {
    let now = answer.at;
    let _turn = app.asking.turn.lock().await;
    let mut row = open(app, id, now).await?;
    let rules = app.rules.now();
    rules.policy.may_answer(&row.wish, &row.answers, &answer, now)?;
    for answerer in [&answer.by, &answer.instead_of] {
        if answer.yes && crate::second::are_tied(app, answerer, &row.wish.person, now).await? {
            return Err(AskError::Tied);
        }
    }
    let deputies = app.store.deputies(now).await?;
    if answer.by != answer.instead_of && !deputies.iter().any(|d| d.person == answer.instead_of && d.deputy == answer.by) {
        return Err(ApprovalFault::NotYours.into());
    }
    row.answers.push(answer.clone());
    let verdict = rules.policy.weigh(&row.wish, &row.answers, now);
    let what = told(app, &row.wish);
    let (person, by) = (shown(app, &row.wish.person), shown(app, &answer.by));
    let for_whom = if answer.by == answer.instead_of { String::new() } else { format!(" in place of {}", shown(app, &answer.instead_of)) };
    let why = if answer.why.is_empty() { String::new() } else { format!(" “{}”", answer.why) };
    let verb = if answer.yes { "approved" } else { "refused" };
    let says = format!("{by} {verb} what {person} asks for{for_whom}: {what}.{why}");
    let event = NewEvent::new(now, EventKind::RequestChanged, &answer.by)
        .from(from)
        .says(says.clone())
        .with("request", row.wish.id.clone())
        .with("answer", verb)
        .with("instead_of", answer.instead_of.clone());
    app.log.append(event).await?;
    let told = match verdict {
        Verdict::Open(_) => None,
        Verdict::Refused(_) => {
            (row.state, row.over) = (RequestState::Refused, Some(now));
            Some(format!("{by} refused what you asked for"))
        }
        Verdict::Approved(pass) => {
            (row.state, row.over) = (RequestState::Approved, Some(now));
            app.store.add_pass(&pass, now).await?;
            let until = wording::instant(pass.until, now, rules.policy.zone());
            let event = NewEvent::new(now, EventKind::PassChanged, &answer.by)
                .says(format!("{person} has a pass for {} on {} until {until}.", words(&pass), list(&pass.machines)))
                .with("pass", pass.id.clone())
                .with("person", pass.person.clone());
            app.log.append(event).await?;
            Some(format!("You may use {} on {} until {until}", words(&pass), list(&pass.machines)))
        }
    };
    app.store.put_request(&row).await?;
    app.asking.reload_passes(app).await?;
    if let Some(subject) = told {
        let text = format!("{subject}.\n\n{says}\n{}/requests/{}", app.address(), row.wish.id);
        tell_people(app, &[row.wish.person.clone()].into(), Told { kind: "answered", about: &row.wish.id, subject: &subject, text: &text })
            .await;
    }
    Ok(row)
}

fn words(pass: &Pass) -> String {
    wording::list(&pass.capabilities.iter().map(|c| c.word()).collect::<Vec<_>>())
}

fn list(names: &[String]) -> String {
    wording::list(&names.iter().map(String::as_str).collect::<Vec<_>>())
}

async fn open(app: &App, id: &str, now: Timestamp) -> Result<RequestRow, AskError> {
    let row = app.store.request(id).await?;
    row.filter(|r| r.state == RequestState::Open && r.wish.expires > now).ok_or(AskError::NotOpen)
}

/// Whoever asked does so no longer.
pub(crate) async fn withdraw(app: &App, id: &str, by: &str, now: Timestamp) -> Result<(), AskError> {
    let _turn = app.asking.turn.lock().await;
    let row = open(app, id, now).await?;
    if row.wish.person != by {
        return Err(AskError::NotOpen);
    }
    end(app, row, RequestState::Withdrawn, format!("{} withdrew a request", shown(app, by)), by, now).await?;
    Ok(())
}

async fn end(app: &App, mut row: RequestRow, state: RequestState, says: String, by: &str, now: Timestamp) -> Result<(), StoreError> {
    (row.state, row.over) = (state, Some(now));
    app.store.put_request(&row).await?;
    let what = told(app, &row.wish);
    let event = NewEvent::new(now, EventKind::RequestChanged, by).says(format!("{says}: {what}.")).with("request", row.wish.id.clone());
    app.log.append(event).await?;
    app.asking.changed(app);
    Ok(())
}

/// Withdraws a pass. Sessions that rest on it are decided again, and end.
pub(crate) async fn withdraw_pass(app: &App, id: &str, by: &str, why: &str, now: Timestamp) -> Result<(), AskError> {
    let _turn = app.asking.turn.lock().await;
    let kept = app.store.passes(now).await?.into_iter().find(|p| p.pass.id == id).ok_or(AskError::NotOpen)?;
    if !app.store.withdraw_pass(id, by, why, now).await? {
        return Err(AskError::NotOpen);
    }
    let event = NewEvent::new(now, EventKind::PassChanged, by)
        .says(format!("{} withdrew the pass of {}: {why}", shown(app, by), shown(app, &kept.pass.person)))
        .with("pass", id);
    app.log.append(event).await?;
    app.asking.reload_passes(app).await?;
    let subject = format!("{} withdrew your pass for {}", shown(app, by), list(&kept.pass.machines));
    let text = format!("{subject}: {why}");
    tell_people(app, &[kept.pass.person].into(), Told { kind: "withdrawn", about: id, subject: &subject, text: &text }).await;
    Ok(())
}

/// Lets somebody answer in another's place until then; none to end it.
pub(crate) async fn set_deputy(app: &App, person: &str, deputy: Option<(&str, Timestamp)>, now: Timestamp) -> Result<(), StoreError> {
    app.store.set_deputy(person, deputy, now).await?;
    let says = match deputy {
        Some((d, until)) => {
            let until = wording::instant(until, now, app.rules.now().policy.zone());
            format!("{} lets {} answer requests in their place until {until}.", shown(app, person), shown(app, d))
        }
        None => format!("{} answers requests themselves again.", shown(app, person)),
    };
    app.log.append(NewEvent::new(now, EventKind::DeputyChanged, person).says(says)).await?;
    app.asking.changed(app);
    Ok(())
}

/// Locks the service down, or opens it again.
pub(crate) async fn set_lockdown(app: &App, lockdown: Option<Lockdown>, by: &str, why: &str, now: Timestamp) -> Result<(), StoreError> {
    let says = match &lockdown {
        Some(_) => format!("{} locked the service down: {why}", shown(app, by)),
        None => format!("{} opened the service again: {why}", shown(app, by)),
    };
    // In this order: what cannot be kept is not said, and whoever is refused finds the reason in the log.
    app.store.set_lockdown(lockdown.as_ref()).await?;
    app.log.append(NewEvent::new(now, EventKind::Stopped, by).says(says)).await?;
    *app.asking.lockdown.write().unwrap_or_else(PoisonError::into_inner) = lockdown;
    app.asking.changed(app);
    Ok(())
}

/// Somebody reached a machine by declaring an emergency: everybody who could have approved is told at once, and a finding stays open
/// until somebody else has looked at it.
pub(crate) async fn emergency(app: &App, (session, person, machine, account): (&str, &str, &str, &str), reason: &str, from: IpAddr) {
    let now = Timestamp::now();
    let who = shown(app, person);
    let sentence = format!("{who} reached {machine} in an emergency that they declared themselves: {}", reason_or_none(reason));
    let event = NewEvent::new(now, EventKind::EmergencyDeclared, person)
        .machine(machine)
        .session(session)
        .from(from)
        .says(sentence.clone())
        .with("reason", reason);
    app.note(event).await;
    let seen = Finding::seen(FindingKind::EmergencyUsed, session, machine, account, sentence.clone(), now);
    let finding =
        Finding { person: Some(person.into()), source: Some(from.to_string()), session: Some(session.into()), moment_ms: Some(0), ..seen };
    let id = finding.id.clone();
    if let Err(e) = crate::audit::keep(app, vec![finding]).await {
        tracing::error!(error = %e, "the finding of an emergency could not be kept");
    }
    app.tell("findings");
    let rules = app.rules.now();
    let mut people = rules.policy.approvers_for(person, machine, now);
    if people.is_empty() {
        people = rules
            .policy
            .directory()
            .people()
            .iter()
            .filter(|p| p.may_everywhere(aerie_core::directory::Act::EndSessions))
            .map(|p| p.name.clone())
            .collect();
        people.remove(person);
    }
    let text = format!("{sentence}\n\nWatch or end it: {}/sessions/{session}\nReview it: {}/findings/{}", app.address(), app.address(), id);
    let subject = format!("Emergency: {who} is on {machine}");
    tell_people(app, &people, Told { kind: "emergency", about: session, subject: &subject, text: &text }).await;
}

fn reason_or_none(reason: &str) -> String {
    if reason.is_empty() { "no reason is given.".into() } else { format!("{}.", reason.trim_end_matches('.')) }
}

/// Reminds approvers, ends what nobody answered, and forgets what is over.
pub(crate) async fn tend(app: Arc<App>) {
    let mut rounds = crate::rounds::Rounds::new(&app, LOOK);
    while let Some(now) = rounds.next().await {
        if let Err(e) = look(&app, now).await {
            tracing::error!(error = %e, "requests could not be looked after");
        }
    }
}

async fn look(app: &App, now: Timestamp) -> Result<(), StoreError> {
    let _turn = app.asking.turn.lock().await;
    for mut row in app.store.requests(Some(RequestState::Open), MOST_OF_ALL).await? {
        if row.wish.expires <= now {
            let says = format!("Nobody answered what {} asked for", shown(app, &row.wish.person));
            let (person, id) = (row.wish.person.clone(), row.wish.id.clone());
            end(app, row, RequestState::Expired, says, "service", now).await?;
            let text = "Nobody answered in time, and no answer is a no.";
            tell_people(app, &[person].into(), Told { kind: "expired", about: &id, subject: "Nobody answered your request", text }).await;
            continue;
        }
        let half = row.wish.asked + row.wish.expires.duration_since(row.wish.asked) / 2;
        if row.reminded.is_none() && now >= half {
            row.reminded = Some(now);
            app.store.put_request(&row).await?;
            if let Ok((approvers, deputies)) = voices(app, &row.wish, now).await {
                let subject = format!("Still waiting: {} asks for {}", shown(app, &row.wish.person), told(app, &row.wish));
                tell_voices(app, &row.wish, &approvers, &deputies, "reminder", subject).await;
            }
        }
    }
    app.store.sweep_outbox(now - NOTICES_KEPT).await
}

/// How long a session waits for those who approve, and for the person at the machine.
pub(crate) fn patience(app: &App) -> aerie_core::session::Patience {
    let settings = app.settings();
    aerie_core::session::Patience {
        approval: SignedDuration::from_mins(settings.number(Setting::ApprovalMinutes)),
        consent: SignedDuration::from_secs(settings.number(Setting::ConsentSeconds)),
    }
}
