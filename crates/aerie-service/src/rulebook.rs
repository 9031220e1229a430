//! The rules and the directory in force, as one value that is replaced whole.

use aerie_core::audit::History;
use aerie_core::diagnostic::{Diagnostic, Severity};
use aerie_core::directory::Directory;
use aerie_core::policy::{Document, Policy, check, read};
use aerie_store::{Publication, Store, StoreError};
use jiff::Timestamp;
use std::collections::HashMap;
use std::sync::{Arc, Mutex, RwLock};
use tokio::sync::watch;

/// Compiled earlier versions that are kept at hand.
const MOST_KEPT: usize = 32;

/// Long computations that run at once; others wait, so that the gateway keeps a processor.
const MOST_THINKING: usize = 2;

/// The rules in force.
#[derive(Debug, Clone)]
pub struct InForce {
    /// Version of the document; 0 while none was published.
    pub version: i64,
    /// The document.
    pub text: Arc<str>,
    /// Compiled for the directory.
    pub policy: Arc<Policy>,
    /// Counts the changes of the directory.
    pub directory_version: u64,
}

/// Holds the rules in force and tells when they change.
#[derive(Debug)]
pub struct Rulebook {
    store: Store,
    now: RwLock<InForce>,
    /// Whoever reads everything anew does it in their turn.
    reading: tokio::sync::Mutex<()>,
    changes: watch::Sender<u64>,
    /// Checks, comparisons and maps that run at once: each may take a processor for seconds.
    thinking: tokio::sync::Semaphore,
    /// Earlier versions, compiled for the directory in force.
    earlier: Mutex<HashMap<i64, Arc<Policy>>>,
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
    /// The rules in force want a second person to agree.
    #[error("a second person must agree")]
    SecondPerson,
    /// The store refused.
    #[error(transparent)]
    Store(#[from] StoreError),
    /// The check did not come to an end.
    #[error("the check broke off")]
    Broken,
}

/// A document that was held against a directory.
#[derive(Debug, Clone)]
pub struct Checked {
    /// Compiled, where it can be read.
    pub policy: Option<Arc<Policy>>,
    /// Errors and warnings, in the order of the text.
    pub diagnostics: Vec<Diagnostic>,
}

impl Checked {
    /// Whether it can be published.
    pub fn ok(&self) -> bool {
        self.policy.is_some() && self.diagnostics.iter().all(|d| d.severity != Severity::Error)
    }
}

/// Reads, compiles and checks a document. Guardrails are proved: with a large directory this takes a while.
fn checked(text: &str, directory: Arc<Directory>, now: Timestamp) -> Checked {
    match read(text) {
        Ok(document) => {
            let policy = Arc::new(Policy::compile(document, directory, now));
            let diagnostics = check(&policy, now);
            Checked { policy: Some(policy), diagnostics }
        }
        Err(diagnostics) => Checked { policy: None, diagnostics },
    }
}

fn compile(text: &str, directory: Arc<Directory>, around: Timestamp) -> Policy {
    // What was published can be read; the empty document refuses everything.
    let empty = || -> Document { read("").unwrap_or_else(|_| unreachable!("the empty document can be read")) };
    Policy::compile(read(text).unwrap_or_else(|_| empty()), directory, around)
}

impl Rulebook {
    /// Loads the newest version.
    ///
    /// # Errors
    /// When the store refuses.
    pub async fn load(store: Store) -> Result<Self, StoreError> {
        let now = Self::in_force(&store).await?;
        Ok(Self {
            store,
            now: RwLock::new(now),
            changes: watch::channel(0).0,
            reading: tokio::sync::Mutex::default(),
            thinking: tokio::sync::Semaphore::new(MOST_THINKING),
            earlier: Mutex::default(),
        })
    }

    async fn in_force(store: &Store) -> Result<InForce, StoreError> {
        let directory_version = store.directory_version().await?;
        let file = store.directory().await?;
        let newest = store.newest_policy().await?;
        let (version, text) = newest.map_or((0, String::new()), |p| (p.version, p.text));
        let text: Arc<str> = text.into();
        let source = text.clone();
        let policy = tokio::task::spawn_blocking(move || Arc::new(compile(&source, Arc::new(file.into()), Timestamp::now())))
            .await
            .map_err(|_| StoreError::LogClosed)?;
        Ok(InForce { version, text, policy, directory_version })
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
        // Of two that read at a time the one that read earlier must not put its picture over the later one's: somebody who was suspended in
        // between would be back.
        let _turn = self.reading.lock().await;
        let fresh = Self::in_force(&self.store).await?;
        self.kept().clear();
        *self.now.write().unwrap_or_else(std::sync::PoisonError::into_inner) = fresh;
        self.changes.send_modify(|n| *n += 1);
        Ok(())
    }

    fn kept(&self) -> std::sync::MutexGuard<'_, HashMap<i64, Arc<Policy>>> {
        self.earlier.lock().unwrap_or_else(std::sync::PoisonError::into_inner)
    }

    /// Holds a document against the directory in force.
    ///
    /// # Errors
    /// When the check breaks off.
    pub async fn check(&self, text: &str) -> Result<Checked, PublishError> {
        let (text, directory) = (text.to_string(), self.now().policy.directory().clone());
        self.think(move || checked(&text, directory, Timestamp::now())).await.map_err(|_| PublishError::Broken)
    }

    /// Runs a long computation beside the others, a few at a time.
    ///
    /// # Errors
    /// When it breaks off.
    pub async fn think<T: Send + 'static>(&self, work: impl FnOnce() -> T + Send + 'static) -> Result<T, tokio::task::JoinError> {
        // The semaphore is never closed; without a permit the work is done all the same.
        let _turn = self.thinking.acquire().await;
        tokio::task::spawn_blocking(work).await
    }

    /// The rules of a version, compiled for the directory of today; none where there is no such version.
    ///
    /// # Errors
    /// When the store refuses.
    pub async fn version(&self, version: i64) -> Result<Option<Arc<Policy>>, StoreError> {
        let now = self.now();
        if version == now.version {
            return Ok(Some(now.policy));
        }
        if let Some(known) = self.kept().get(&version) {
            return Ok(Some(known.clone()));
        }
        let Some(found) = self.store.policy_version(version).await? else { return Ok(None) };
        let policy = Arc::new(compile(&found.text, now.policy.directory().clone(), Timestamp::now()));
        let mut kept = self.kept();
        if kept.len() >= MOST_KEPT {
            kept.clear();
        }
        kept.insert(version, policy.clone());
        Ok(Some(policy))
    }

    /// Checks and publishes a document; returns its version and the warnings.
    ///
    /// # Errors
    /// When it has errors, was written against another version, lacks the agreement of a second person, or the store refuses.
    pub async fn publish(&self, wanted: Publication<'_>, now: Timestamp) -> Result<(i64, Vec<Diagnostic>), PublishError> {
        let second = self.now().policy.document().second_person;
        if second && wanted.agreed_by.is_none_or(|agreed| agreed == wanted.by) {
            return Err(PublishError::SecondPerson);
        }
        let found = self.check(wanted.text).await?;
        if !found.ok() {
            return Err(PublishError::Invalid(found.diagnostics));
        }
        let version = self.store.publish_policy(wanted, now).await?.ok_or(PublishError::Conflict)?;
        self.reload().await?;
        Ok((version, found.diagnostics))
    }

    /// Every version, for judging what happened under it. Each is compiled for the directory of today.
    ///
    /// # Errors
    /// When the store refuses.
    pub async fn history(&self) -> Result<History, StoreError> {
        let mut all = vec![];
        for v in self.store.policies().await? {
            if let Some(policy) = self.version(v.version).await? {
                all.push((v.published_at, policy));
            }
        }
        Ok(History::new(all))
    }
}
