//! What ends with a sign-in, a key, a factor or an account: everything that rests on it.
//!
//! Each holder of a sign-in (a stream, a WebSocket, a session, an SSH connection) waits on one cancellation token: that of the
//! console's or client's token ([`crate::identity::Entry::ended`]), or that of the SSH connection, kept here. What has no holder (PINs,
//! passes, requests, visits) is ended by [`account_over`].

use crate::service::App;
use aerie_core::directory::{Directory, Standing};
use aerie_core::policy::{Factor, Factors};
use aerie_store::{RequestState, StoreError, VisitFilter};
use jiff::Timestamp;
use jiff::civil::Date;
use std::collections::HashMap;
use std::sync::atomic::AtomicBool;
use std::sync::{Arc, Mutex, PoisonError};
use tokio_util::sync::CancellationToken;

/// Requests and visits of one person that are looked at when their account is over.
const MOST_OF_ONE: u32 = 10_000;

/// What an SSH connection rests on.
#[derive(Debug, Clone)]
pub(crate) struct Basis {
    /// Who signed in.
    pub(crate) person: String,
    /// Fingerprint of the registered key; none where a certificate was shown.
    pub(crate) key: Option<String>,
    /// What was proved.
    pub(crate) factors: Factors,
}

impl Basis {
    /// Whether it holds now.
    pub(crate) fn holds_now(&self, app: &App) -> bool {
        let rules = app.rules.now();
        let day = Timestamp::now().to_zoned(rules.policy.zone().clone()).date();
        self.holds(rules.policy.directory(), day)
    }

    fn holds(&self, directory: &Directory, day: Date) -> bool {
        directory.person(&self.person).is_some_and(|p| {
            let key = self.key.as_ref().is_none_or(|print| p.keys.iter().any(|k| k.fingerprint == *print && k.is_good(day)));
            p.standing(day) == Standing::Good && key
        })
    }
}

/// Every SSH connection that signed in.
#[derive(Debug, Default)]
pub(crate) struct Connections(Mutex<Inner>);

#[derive(Debug, Default)]
struct Inner {
    next: u64,
    all: HashMap<u64, (Basis, CancellationToken)>,
}

/// A connection that signed in, until it is dropped.
#[derive(Debug)]
pub(crate) struct SignedInBySsh {
    id: u64,
    all: Arc<Connections>,
    /// Cancelled when it may go on no longer.
    pub(crate) ended: CancellationToken,
    /// Whether a session began in it, whose end is told to its person.
    pub(crate) session: Arc<AtomicBool>,
}

impl Drop for SignedInBySsh {
    fn drop(&mut self) {
        self.all.inner().all.remove(&self.id);
    }
}

impl Connections {
    fn inner(&self) -> std::sync::MutexGuard<'_, Inner> {
        self.0.lock().unwrap_or_else(PoisonError::into_inner)
    }

    /// Notes a connection.
    pub(crate) fn add(self: &Arc<Self>, basis: Basis) -> SignedInBySsh {
        let ended = CancellationToken::new();
        let mut inner = self.inner();
        inner.next += 1;
        let id = inner.next;
        inner.all.insert(id, (basis, ended.clone()));
        SignedInBySsh { id, all: self.clone(), ended, session: Arc::default() }
    }

    fn end(&self, which: impl Fn(&Basis) -> bool) {
        self.inner().all.values().filter(|(basis, _)| which(basis)).for_each(|(_, ended)| ended.cancel());
    }
}

/// The directory changed: what rested on an account or a key that is no longer good is over.
pub(crate) async fn look(app: &App) -> Result<(), StoreError> {
    let rules = app.rules.now();
    let directory = rules.policy.directory();
    let now = Timestamp::now();
    let day = now.to_zoned(rules.policy.zone().clone()).date();
    app.connections.end(|basis| !basis.holds(directory, day));
    let good = |name: &str| directory.person(name).is_some_and(|p| p.standing(day) == Standing::Good);
    for name in owners(app, now).await?.into_iter().filter(|name| !good(name)) {
        account_over(app, &name, now).await?;
    }
    Ok(())
}

/// Everybody in whose name something waits or is open.
async fn owners(app: &App, now: Timestamp) -> Result<Vec<String>, StoreError> {
    let mut all: Vec<String> = app.store.open_pins(now).await?.into_iter().map(|p| p.issued_by).collect();
    all.extend(app.store.passes(now).await?.into_iter().filter(|p| p.withdrawn.is_none()).map(|p| p.pass.person));
    all.extend(app.store.requests(Some(RequestState::Open), MOST_OF_ONE).await?.into_iter().map(|r| r.wish.person));
    all.extend(app.store.visits(&VisitFilter { open: true, limit: MOST_OF_ONE }).await?.into_iter().filter_map(|v| v.technician));
    all.sort();
    all.dedup();
    Ok(all)
}

/// Somebody's account is no longer good: what waits or is open in their name is withdrawn.
async fn account_over(app: &App, person: &str, now: Timestamp) -> Result<(), StoreError> {
    const WHY: &str = "the account is no longer active";
    let failed = |e: &dyn std::fmt::Display| tracing::warn!(person, error = %e, "something of an account that is over could not be ended");
    for pin in app.store.open_pins(now).await?.into_iter().filter(|p| p.issued_by == person && p.machine.is_none()) {
        app.store.remove_pin(&pin.id).await?;
    }
    for pass in app.store.passes(now).await?.into_iter().filter(|p| p.withdrawn.is_none() && p.pass.person == person) {
        if let Err(e) = crate::asking::withdraw_pass(app, &pass.pass.id, "service", WHY, now).await {
            failed(&e);
        }
    }
    for request in app.store.requests(Some(RequestState::Open), MOST_OF_ONE).await?.into_iter().filter(|r| r.wish.person == person) {
        if let Err(e) = crate::asking::withdraw(app, &request.wish.id, person, now).await {
            failed(&e);
        }
    }
    let open = app.store.visits(&VisitFilter { open: true, limit: MOST_OF_ONE }).await?;
    for visit in open.into_iter().filter(|v| v.technician.as_deref() == Some(person)) {
        let given_up = crate::visits::change(app, &visit.id, |v, times, now| {
            v.give_up(times, now);
            Ok(())
        });
        if let Err(e) = given_up.await {
            failed(&e);
        }
    }
    Ok(())
}

/// Somebody is signed out of everything.
pub(crate) async fn everywhere(app: &App, person: &str, but: Option<&str>) -> Result<(), StoreError> {
    let all = app.identity.book.of(person);
    let ids: Vec<String> = all.iter().map(|e| e.token.id.clone()).filter(|id| Some(id.as_str()) != but).collect();
    app.identity.book.end(&ids).await?;
    ssh(app, person);
    Ok(())
}

/// Somebody is signed out at the gateway.
pub(crate) fn ssh(app: &App, person: &str) {
    app.connections.end(|basis| basis.person == person);
}

/// A factor of somebody is gone: what was proved with it is over, but for the sign-in `but` in which it was taken away.
pub(crate) async fn factor_gone(app: &App, person: &str, factor: Factor, but: Option<&str>) -> Result<(), StoreError> {
    let rests = |e: &&Arc<crate::identity::Entry>| e.token.proofs.factors().contains(factor) && Some(e.token.id.as_str()) != but;
    let ids: Vec<String> = app.identity.book.of(person).iter().filter(rests).map(|e| e.token.id.clone()).collect();
    app.identity.book.end(&ids).await?;
    app.connections.end(|basis| basis.person == person && basis.factors.contains(factor));
    Ok(())
}
