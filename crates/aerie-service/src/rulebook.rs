//! The rules and the directory in force, as one value that is replaced whole.

use aerie_core::audit::History;
use aerie_core::diagnostic::{Diagnostic, Severity};
use aerie_core::directory::Directory;
use aerie_core::policy::{Policy, check, read};
use aerie_store::{Store, StoreError};
use jiff::Timestamp;
use std::sync::{Arc, RwLock};
use tokio::sync::watch;

/// The rules in force.
#[derive(Debug, Clone)]
pub struct InForce {
    /// Version of the document; 0 while none was published.
    pub version: i64,
    /// The document.
    pub text: Arc<str>,
    /// Compiled for the directory.
    pub policy: Arc<Policy>,
}

/// Holds the rules in force and tells when they change.
#[derive(Debug)]
pub struct Rulebook {
    store: Store,
    now: RwLock<InForce>,
    changes: watch::Sender<u64>,
}

/// Why rules were not published.
#[derive(Debug, thiserror::Error)]
pub enum PublishError {
    /// They have errors.
    #[error("the rules have errors")]
    Invalid(Vec<Diagnostic>),
    /// Somebody else published in between.
    #[error("somebody else published rules in between")]
    Conflict,
    /// The store refused.
    #[error(transparent)]
    Store(#[from] StoreError),
}

/// Errors and warnings of a document, in the order of the text.
pub(crate) fn diagnose(text: &str, directory: &Arc<Directory>, now: Timestamp) -> Vec<Diagnostic> {
    match read(text) {
        Ok(document) => check(&Policy::compile(document, directory.clone(), now), now),
        Err(errors) => errors,
    }
}

fn compile(text: &str, directory: Arc<Directory>, around: Timestamp) -> Policy {
    // What was published can be read; the empty document refuses everything.
    let document = read(text).or_else(|_| read("")).unwrap_or_else(|_| unreachable!("the empty document can be read"));
    Policy::compile(document, directory, around)
}

impl Rulebook {
    /// Loads the newest version.
    ///
    /// # Errors
    /// When the store refuses.
    pub async fn load(store: Store) -> Result<Self, StoreError> {
        let now = Self::in_force(&store).await?;
        Ok(Self { store, now: RwLock::new(now), changes: watch::channel(0).0 })
    }

    async fn in_force(store: &Store) -> Result<InForce, StoreError> {
        let directory = Arc::new(Directory::new(store.people().await?, store.machines().await?));
        let newest = store.policies().await?.pop();
        let (version, text) = newest.map_or((0, String::new()), |p| (p.version, p.text));
        let policy = Arc::new(compile(&text, directory, Timestamp::now()));
        Ok(InForce { version, text: text.into(), policy })
    }

    /// The rules in force.
    pub fn now(&self) -> InForce {
        self.now.read().unwrap_or_else(std::sync::PoisonError::into_inner).clone()
    }

    /// Tells of each change of rules or directory.
    pub fn changes(&self) -> watch::Receiver<u64> {
        self.changes.subscribe()
    }

    /// Reads people, machines and rules again, and tells everybody who holds a session.
    ///
    /// # Errors
    /// When the store refuses.
    pub async fn reload(&self) -> Result<(), StoreError> {
        let fresh = Self::in_force(&self.store).await?;
        *self.now.write().unwrap_or_else(std::sync::PoisonError::into_inner) = fresh;
        self.changes.send_modify(|n| *n += 1);
        Ok(())
    }

    /// Checks and publishes a document; returns its version and the warnings.
    ///
    /// # Errors
    /// When it has errors, was written against another version than `after`, or the store refuses.
    pub async fn publish(&self, text: &str, by: &str, now: Timestamp, after: Option<i64>) -> Result<(i64, Vec<Diagnostic>), PublishError> {
        let found = diagnose(text, self.now().policy.directory(), now);
        if found.iter().any(|d| d.severity == Severity::Error) {
            return Err(PublishError::Invalid(found));
        }
        let version = self.store.publish_policy(text, by, now, after).await?.ok_or(PublishError::Conflict)?;
        self.reload().await?;
        Ok((version, found))
    }

    /// Every version, for judging what happened under it. Each is compiled for the directory of today.
    ///
    /// # Errors
    /// When the store refuses.
    pub async fn history(&self) -> Result<History, StoreError> {
        let directory = self.now().policy.directory().clone();
        let versions = self.store.policies().await?;
        Ok(History::new(
            versions.into_iter().map(|v| (v.published_at, Arc::new(compile(&v.text, directory.clone(), v.published_at)))).collect(),
        ))
    }
}
