//! The vault: passwords and keys for accounts of machines where certificates cannot be. They are injected, changed on the
//! machine, and shown to nobody but by an explicit check-out.

mod rotate;
mod secret;

pub(crate) use rotate::{rotate, tend};
pub(crate) use secret::Secret;

use crate::service::App;
use aerie_core::directory::{Machine, WayKind};
use aerie_core::vault::SecretKind;
use aerie_store::{StoreError, VaultRow};
use jiff::Timestamp;
use std::collections::HashSet;
use std::sync::{Mutex, PoisonError};
use std::time::Duration;
use tokio::sync::Notify;

/// How long somebody waits for a change that is under way.
const PATIENCE: Duration = Duration::from_secs(30);

/// What of the vault is held in memory: which credentials are being changed.
#[derive(Debug, Default)]
pub(crate) struct Vault {
    changing: Mutex<HashSet<(String, String)>>,
    /// One of them is changed no more.
    freed: Notify,
    /// A session ended, or somebody saw a credential: it may be time to change one.
    due: Notify,
}

/// One credential is changed by one task at a time.
pub(crate) struct Changing<'a>(&'a Vault, (String, String));

impl Drop for Changing<'_> {
    fn drop(&mut self) {
        self.0.changing.lock().unwrap_or_else(PoisonError::into_inner).remove(&self.1);
        self.0.freed.notify_waiters();
    }
}

impl Vault {
    /// Takes the right to change a credential, once nobody else has it; none where that takes too long.
    pub(crate) async fn begin_in_turn(&self, machine: &str, account: &str) -> Option<Changing<'_>> {
        let turn = async {
            loop {
                let freed = self.freed.notified();
                tokio::pin!(freed);
                // Before looking, so that no end is missed.
                freed.as_mut().enable();
                if let Some(changing) = self.begin(machine, account) {
                    return changing;
                }
                freed.await;
            }
        };
        tokio::time::timeout(PATIENCE, turn).await.ok()
    }

    /// Takes the right to change a credential; none while somebody else has it.
    fn begin(&self, machine: &str, account: &str) -> Option<Changing<'_>> {
        let key = (machine.to_string(), account.to_string());
        let new = self.changing.lock().unwrap_or_else(PoisonError::into_inner).insert(key.clone());
        new.then(|| Changing(self, key))
    }

    /// What may be good for an account now: one, or two while it is being changed.
    pub(crate) async fn secrets(&self, app: &App, machine: &str, account: &str) -> Result<Vec<Secret>, StoreError> {
        let Some(row) = app.store.vault_entry(machine, account).await? else { return Ok(vec![]) };
        if !is_bound_here(app, &row) {
            return Ok(vec![]);
        }
        let sealed = std::iter::once(&row.current).chain(&row.other);
        Ok(sealed.filter_map(|s| Secret::open(&app.keys, &row, s)).collect())
    }

    /// Notes that a credential was used.
    pub(crate) async fn note_use(&self, app: &App, machine: &str, account: &str) -> Result<(), StoreError> {
        app.store.vault_used(machine, account, Timestamp::now()).await
    }

    /// It may be time to change a credential.
    pub(crate) fn look(&self) {
        self.due.notify_one();
    }

    /// Fingerprints of the keys that are kept for a machine.
    pub(crate) async fn public_keys(&self, app: &App, machine: &str) -> Result<HashSet<String>, StoreError> {
        let mut found = HashSet::new();
        for row in app.store.vault().await?.iter().filter(|r| r.machine == machine && r.kind == SecretKind::Key) {
            let sealed = std::iter::once(&row.current).chain(&row.other);
            found.extend(sealed.filter_map(|s| Secret::open(&app.keys, row, s)?.fingerprint()));
        }
        Ok(found)
    }
}

/// What a sealed credential is bound to: it opens for its account alone, and for the server that it was entered for.
fn bound_to(row: &VaultRow) -> String {
    let account = format!("vault {} {} {}", row.machine, row.account, row.kind.word());
    if row.bound.is_empty() { account } else { format!("{account} at {}", row.bound) }
}

/// The server that is meant by an account of a machine: its pinned host key and its address, or the address of the desktop of that name.
pub(crate) fn binding(machine: &Machine, account: &str) -> String {
    let key = machine.host_key.as_deref().map_or("no key".into(), crate::machines::print_of);
    match machine.ways.iter().find(|w| w.kind == WayKind::Desktop && w.name == account) {
        Some(way) => format!("{key} {} {}", machine.address, way.address),
        None => format!("{key} {}", machine.address),
    }
}

/// Whether a credential was entered for the server that the directory names now. Somebody who gives a machine another address or host key
/// would be shown it otherwise.
pub(crate) fn is_bound_here(app: &App, row: &VaultRow) -> bool {
    app.rules.now().policy.directory().machine(&row.machine).is_some_and(|m| binding(m, &row.account) == row.bound)
}

/// Seals what is kept for a machine for the server that the directory names now: two administrators agreed that it is the same machine.
pub(crate) async fn bind_anew(app: &App, machine: &str, by: &str) -> Result<(), StoreError> {
    for row in app.store.vault().await?.into_iter().filter(|r| r.machine == machine) {
        bind(app, row, by).await?;
    }
    Ok(())
}

/// Seals what an earlier version kept, which it bound to no server.
pub(crate) async fn bind_earlier(app: &App) -> Result<(), StoreError> {
    for row in app.store.vault().await?.into_iter().filter(|r| r.bound.is_empty()) {
        bind(app, row, "service").await?;
    }
    Ok(())
}

async fn bind(app: &App, row: VaultRow, by: &str) -> Result<(), StoreError> {
    let rules = app.rules.now();
    let Some(machine) = rules.policy.directory().machine(&row.machine) else { return Ok(()) };
    let mut bound = VaultRow { bound: binding(machine, &row.account), ..row.clone() };
    let again = |sealed: &Vec<u8>| Secret::open(&app.keys, &row, sealed).and_then(|s| s.seal(&app.keys, &bound).ok());
    let (Some(current), other) = (again(&row.current), row.other.as_ref().and_then(again)) else { return Ok(()) };
    (bound.current, bound.other) = (current, other);
    let what = format!("It counts for {}.", bound.bound);
    app.store.put_vault(&bound, by, &what, Timestamp::now()).await
}
