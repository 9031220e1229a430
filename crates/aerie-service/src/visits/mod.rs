//! Visits: changed one at a time, tended while they are open, and reported when they are closed.

mod arrive;
mod meeting;
mod record;

pub(crate) use arrive::{Arrived, arrive, arrive_at, joined};
pub(crate) use meeting::{Meeting, Program};
pub(crate) use record::record;

use crate::asking::{OutboxError, Told, tell_desk, tell_people};
use crate::keys::random;
use crate::places::Places;
use crate::service::App;
use aerie_core::directory::Machine;
use aerie_core::evidence::{EventKind, NewEvent};
use aerie_core::policy::{Capability, Consent, Facts, Outcome, Proofs, Request, Tracks};
use aerie_core::session::EndReason;
use aerie_core::settings::Setting;
use aerie_core::visit::{QUEUE_LABEL, Visit, VisitEffect, VisitFault, VisitTimes};
use aerie_store::StoreError;
use base64::Engine as _;
use base64::engine::general_purpose::URL_SAFE_NO_PAD;
use jiff::{SignedDuration, Timestamp};
use std::collections::HashMap;
use std::sync::{Arc, Mutex, PoisonError};
use std::time::Duration;
use subtle::ConstantTimeEq as _;
use tokio::sync::Notify;

/// Pages of people without an account that are open at most: in all, and from one address.
const MOST_PAGES: u32 = 1000;
const MOST_PAGES_FROM_ONE: u32 = 100;
/// Who fetches the program for a visit at a time: in all, and from one address.
const MOST_FETCHING: u32 = 16;
const MOST_FETCHING_FROM_ONE: u32 = 4;
/// Files that people without an account give or take at a time: in all, and from one address. Each is held in memory meanwhile.
const MOST_PASSING: u32 = 16;
const MOST_PASSING_FROM_ONE: u32 = 4;

/// What of visits is held in memory.
pub(crate) struct Visits {
    /// Pages of people without an account.
    pub(crate) pages: Arc<Places>,
    /// Whoever fetches the program for a visit.
    pub(crate) fetching: Arc<Places>,
    /// Files that people without an account give or take.
    pub(crate) passing: Arc<Places>,
    /// Whoever changes one does it in their turn.
    turn: tokio::sync::Mutex<()>,
    meetings: Mutex<HashMap<String, Arc<Meeting>>>,
    /// Visits whose person sits at a managed machine, by its name.
    seats: Mutex<HashMap<String, String>>,
    /// Something changed: time may change something sooner.
    changed: Notify,
}

impl Default for Visits {
    fn default() -> Self {
        let pages = Places::new(MOST_PAGES, MOST_PAGES_FROM_ONE);
        let fetching = Places::new(MOST_FETCHING, MOST_FETCHING_FROM_ONE);
        Self {
            pages,
            fetching,
            passing: Places::new(MOST_PASSING, MOST_PASSING_FROM_ONE),
            turn: tokio::sync::Mutex::default(),
            meetings: Mutex::default(),
            seats: Mutex::default(),
            changed: Notify::new(),
        }
    }
}

impl Visits {
    /// Where those of a visit meet; made for the first.
    pub(crate) fn meeting(&self, id: &str) -> Arc<Meeting> {
        self.lock().entry(id.into()).or_insert_with(|| Arc::new(Meeting::new(id))).clone()
    }

    /// The same, where somebody is there.
    pub(crate) fn met(&self, id: &str) -> Option<Arc<Meeting>> {
        self.lock().get(id).cloned()
    }

    /// Where the line was given that has one of these secrets, shown by the holder of this key.
    pub(crate) fn of_line(&self, hashes: &[[u8; 32]], key: &str) -> Option<Arc<Meeting>> {
        self.lock().values().find(|m| m.takes_line(hashes, key)).cloned()
    }

    /// The person of a visit sits at this machine.
    fn sit(&self, machine: &str, id: &str) {
        self.seats.lock().unwrap_or_else(PoisonError::into_inner).insert(machine.into(), id.into());
    }

    /// The visit whose person sits at this machine.
    fn at(&self, machine: &str) -> Option<String> {
        self.seats.lock().unwrap_or_else(PoisonError::into_inner).get(machine).cloned()
    }

    /// Nobody of a visit is there any more.
    pub(crate) fn forget(&self, id: &str) {
        self.lock().remove(id);
    }

    fn lock(&self) -> std::sync::MutexGuard<'_, HashMap<String, Arc<Meeting>>> {
        self.meetings.lock().unwrap_or_else(PoisonError::into_inner)
    }
}

/// Why a visit was not changed.
#[derive(Debug, thiserror::Error)]
pub(crate) enum VisitError {
    #[error("there is no such visit")]
    Missing,
    #[error(transparent)]
    Fault(#[from] VisitFault),
    #[error("the store: {0}")]
    Store(#[from] StoreError),
    #[error(transparent)]
    Outbox(#[from] OutboxError),
}

/// The times of the settings.
pub(crate) fn times(app: &App) -> VisitTimes {
    let settings = app.settings();
    VisitTimes {
        pin: settings.pins().lifetime,
        queue: SignedDuration::from_hours(settings.number(Setting::VisitHours)),
        close: SignedDuration::from_mins(settings.number(Setting::VisitCloseMinutes)),
    }
}

/// The machine that is a queue.
pub(crate) fn queue(app: &App, name: &str) -> Option<Machine> {
    app.rules.now().policy.directory().machine(name).filter(|m| m.labels.contains(QUEUE_LABEL)).cloned()
}

/// All queues, by name.
pub(crate) fn queues(app: &App) -> Vec<Machine> {
    let rules = app.rules.now();
    let mut all: Vec<Machine> = rules.policy.directory().machines().iter().filter(|m| m.labels.contains(QUEUE_LABEL)).cloned().collect();
    all.sort_by(|a, b| a.name.cmp(&b.name));
    all
}

/// Whether somebody may help in a queue now, as far as the rules look at who they are: what they prove is looked at when they begin.
pub(crate) fn may_help(app: &App, person: &str, queue: &str) -> bool {
    may(app, person, Capability::View, queue)
}

/// Whether somebody may do this in a queue now, as far as the rules look at who they are.
pub(crate) fn may(app: &App, person: &str, capability: Capability, queue: &str) -> bool {
    let (rules, passes) = (app.rules.now(), app.asking.passes_of(person));
    let facts = Facts {
        proofs: Proofs::default(),
        recorded: Tracks::all(),
        passes: &passes,
        reason: true,
        consent: Some(Consent::Ask),
        ..Facts::default()
    };
    let request = Request { person, capability, machine: queue, account: None, at: Timestamp::now(), from: None, facts };
    !matches!(rules.policy.decide(&request).outcome, Outcome::Refused(_))
}

/// Keeps a new visit.
pub(crate) async fn add(app: &App, visit: &Visit, says: String) -> Result<(), StoreError> {
    app.store.put_visit(visit, &times(app)).await?;
    note(app, visit, if visit.by.is_empty() { "stranger" } else { &visit.by }, says).await;
    app.visits.changed.notify_one();
    app.tell("visits");
    Ok(())
}

/// Changes a visit, in its turn, and does what follows from it.
pub(crate) async fn change<T>(
    app: &App,
    id: &str,
    change: impl FnOnce(&mut Visit, &VisitTimes, Timestamp) -> Result<T, VisitFault>,
) -> Result<(Visit, T), VisitError> {
    let turn = app.visits.turn.lock().await;
    let mut visit = app.store.visit(id).await?.ok_or(VisitError::Missing)?;
    let times = times(app);
    let place = |v: &Visit| (v.state, v.technician.clone(), v.request.queue.clone());
    let before = place(&visit);
    let done = change(&mut visit, &times, Timestamp::now())?;
    let mut effects = vec![];
    while let Some(effect) = visit.poll_effect() {
        effects.push(effect);
    }
    app.store.put_visit(&visit, &times).await?;
    if visit.closed.is_some() && !visit.files.is_empty() {
        app.store.remove_visit_files(id, None).await?;
    }
    drop(turn);
    for effect in effects {
        carry_out(app, &visit, effect).await?;
    }
    // Whoever waits behind it has another place in the queue.
    if place(&visit) != before {
        app.visits.lock().values().for_each(|m| m.handle_change());
    }
    if visit.ended.is_some() && !visit.device.machine.is_empty() {
        app.visits.seats.lock().unwrap_or_else(PoisonError::into_inner).retain(|_, v| v != id);
        end_there(app, &visit, "the visit is over");
    } else if visit.technician != before.1 && !visit.device.machine.is_empty() {
        end_there(app, &visit, "somebody else has the visit now");
    }
    if let Some(meeting) = app.visits.met(id) {
        meeting.handle_change();
        if visit.technician != before.1 {
            meeting.ask_no_more();
            meeting.end_looking(app, "somebody else has the visit now");
        }
        if visit.closed.is_some() || visit.ended.is_some() {
            meeting.end_sessions(app);
        }
    }
    app.visits.changed.notify_one();
    app.tell("visits");
    Ok((visit, done))
}

/// Ends what belongs to a visit on the managed machine at which its person sits.
fn end_there(app: &App, visit: &Visit, why: &str) {
    for live in visit.sessions.iter().filter_map(|s| app.live.get(s)) {
        live.end_saying(EndReason::Left, why);
    }
}

/// Logs something of a visit.
pub(crate) async fn note(app: &App, visit: &Visit, actor: &str, says: String) {
    let event = NewEvent::new(Timestamp::now(), EventKind::VisitChanged, actor)
        .machine(&visit.request.queue)
        .says(aerie_core::diagnostic::printable(&says))
        .with("visit", visit.id.clone());
    let event = if visit.request.ticket.is_empty() { event } else { event.with("ticket", visit.request.ticket.clone()) };
    app.note(event).await;
}

async fn carry_out(app: &App, visit: &Visit, effect: VisitEffect) -> Result<(), OutboxError> {
    match effect {
        VisitEffect::Remind(technician) => {
            let subject = format!("The visit of {} is not closed yet", visit.request.person);
            let text = format!("{subject}. Say how it went, or it closes itself.\n\n{}/visits/{}", app.address(), visit.id);
            let told = Told { kind: "visit-open", about: &visit.id, subject: &subject, text: &text };
            tell_people(app, &[technician].into(), told).await;
        }
        VisitEffect::Report => {
            let by = visit.closed.as_ref().map(|c| c.by.as_str()).unwrap_or_default();
            let who = if by.is_empty() { "time" } else { by };
            note(app, visit, if by.is_empty() { "service" } else { by }, format!("{} Closed by {who}.", visit.sentence())).await;
            if app.settings().text(Setting::TicketDesk).is_empty() {
                return Ok(());
            }
            tell_desk(app, &visit.sentence(), &record(app, visit).to_string()).await?;
        }
    }
    Ok(())
}

/// Gives whoever is helped a token of their own; shown once.
pub(crate) async fn give_pass(app: &App, id: &str) -> Result<String, VisitError> {
    let token = URL_SAFE_NO_PAD.encode(random::<32>().map_err(|_| StoreError::LogClosed)?);
    app.store.set_visit_guest(id, &app.keys.token_hash(&format!("visit {id} {token}"))).await?;
    Ok(token)
}

/// Whether this is the token of whoever is helped.
pub(crate) async fn is_theirs(app: &App, id: &str, token: &str) -> Result<bool, StoreError> {
    let Some(kept) = app.store.visit_guest(id).await? else { return Ok(false) };
    let hashes = app.keys.token_hashes(&format!("visit {id} {token}"));
    Ok(hashes.iter().fold(subtle::Choice::from(0), |any, h| any | h[..].ct_eq(&kept[..])).into())
}

/// Waits for what time changes.
pub(crate) async fn tend(app: Arc<App>) {
    if let Err(e) = arrive::seat(&app).await {
        tracing::error!(error = %e, "it is not known who sits where");
    }
    loop {
        let now = Timestamp::now();
        match app.store.visits_due(now).await {
            Ok(due) => {
                for visit in due {
                    let timed = change(&app, &visit.id, |v, times, now| {
                        v.handle_timeout(times, now);
                        Ok(())
                    });
                    if let Err(e) = timed.await {
                        tracing::error!(error = %e, "a visit could not be looked at");
                    }
                }
            }
            Err(e) => tracing::error!(error = %e, "visits could not be looked at"),
        }
        let next = app.store.next_visit_due().await.ok().flatten();
        let wait = next.map_or(Duration::from_secs(3600), |n| {
            Duration::try_from(n.duration_since(Timestamp::now())).unwrap_or(Duration::ZERO).max(Duration::from_millis(200))
        });
        tokio::select! {
            () = app.visits.changed.notified() => {}
            () = tokio::time::sleep(wait) => {}
            () = app.stopping.cancelled() => return,
        }
    }
}
