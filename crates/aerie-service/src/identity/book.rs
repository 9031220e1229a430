//! Who is signed in: every token in memory, so that a request costs no query, and in the store, so that a restart forgets
//! nobody.

use crate::keys::{Keys, random};
use aerie_core::policy::Proofs;
use aerie_core::session::{SignedIn, SignedInLimits, Stage};
use aerie_store::{Store, StoreError, Token, TokenKind};
use base64::Engine as _;
use base64::engine::general_purpose::URL_SAFE_NO_PAD;
use jiff::Timestamp;
use std::collections::HashMap;
use std::net::IpAddr;
use std::sync::atomic::{AtomicI64, Ordering};
use std::sync::{Arc, Mutex, PoisonError, RwLock};
use tokio_util::sync::CancellationToken;
use zeroize::Zeroizing;

/// Tokens of one person at most; of more, those longest unused end.
pub(crate) const MOST_OF_ONE: usize = 50;

/// A token that is in use.
pub(crate) struct Entry {
    pub(crate) token: Token,
    last: AtomicI64,
    from: Mutex<String>,
    touched: std::sync::atomic::AtomicBool,
    /// Cancelled when the sign-in is over: whatever goes on by it waits on this.
    pub(crate) ended: CancellationToken,
}

impl Entry {
    fn new(token: Token, ended: CancellationToken) -> Arc<Self> {
        let (last, from) = (AtomicI64::new(token.last_used.as_millisecond()), Mutex::new(token.last_from.clone()));
        Arc::new(Self { token, last, from, touched: false.into(), ended })
    }

    /// When it was last used.
    pub(crate) fn last_used(&self) -> Timestamp {
        Timestamp::from_millisecond(self.last.load(Ordering::Relaxed)).unwrap_or_default()
    }

    /// From where it was last used.
    pub(crate) fn last_from(&self) -> String {
        self.from.lock().unwrap_or_else(PoisonError::into_inner).clone()
    }

    /// How it counts at the console.
    pub(crate) fn signed_in(&self) -> SignedIn {
        let t = &self.token;
        SignedIn { stage: t.stage, proofs: t.proofs, began: t.created, last: self.last_used(), ends: t.expires }
    }

    /// Whether it still counts.
    pub(crate) fn is_good(&self, limits: &SignedInLimits, now: Timestamp) -> bool {
        match self.token.kind {
            TokenKind::Console | TokenKind::Client => self.signed_in().is_good(limits, now),
            TokenKind::Api => now < self.token.expires,
        }
    }

    fn touch(&self, now: Timestamp, from: IpAddr) {
        // A clock that went back does not make it older.
        self.last.fetch_max(now.as_millisecond(), Ordering::Relaxed);
        let from = from.to_string();
        let mut known = self.from.lock().unwrap_or_else(PoisonError::into_inner);
        if *known != from {
            *known = from;
        }
        self.touched.store(true, Ordering::Relaxed);
    }
}

/// Everybody who is signed in.
pub(crate) struct Book {
    store: Store,
    keys: Arc<Keys>,
    entries: RwLock<HashMap<[u8; 32], Arc<Entry>>>,
}

/// What a new token is to be.
pub(crate) struct NewToken {
    pub(crate) person: String,
    pub(crate) kind: TokenKind,
    pub(crate) name: String,
    pub(crate) scopes: Vec<String>,
    pub(crate) key: Option<[u8; 32]>,
    pub(crate) stage: Stage,
    pub(crate) proofs: Proofs,
    pub(crate) created: Timestamp,
    /// The request that makes it, which is its first use.
    pub(crate) now: Timestamp,
    pub(crate) expires: Timestamp,
    pub(crate) from: IpAddr,
}

/// A new secret: 32 random bytes in base64.
///
/// # Errors
/// When the system has no randomness.
pub(crate) fn new_secret() -> Result<Zeroizing<String>, crate::KeyError> {
    Ok(Zeroizing::new(URL_SAFE_NO_PAD.encode(random::<32>()?)))
}

impl Book {
    /// Reads what the store knows.
    pub(crate) async fn open(store: Store, keys: Arc<Keys>, now: Timestamp) -> Result<Self, StoreError> {
        let entries = store.tokens(now).await?.into_iter().map(|t| (t.hash, Entry::new(t, CancellationToken::new()))).collect();
        Ok(Self { store, keys, entries: RwLock::new(entries) })
    }

    fn read(&self) -> std::sync::RwLockReadGuard<'_, HashMap<[u8; 32], Arc<Entry>>> {
        self.entries.read().unwrap_or_else(PoisonError::into_inner)
    }

    fn write(&self) -> std::sync::RwLockWriteGuard<'_, HashMap<[u8; 32], Arc<Entry>>> {
        self.entries.write().unwrap_or_else(PoisonError::into_inner)
    }

    /// The token with this secret, while it is good; notes its use.
    pub(crate) fn find(&self, secret: &str, limits: &SignedInLimits, now: Timestamp, from: IpAddr) -> Option<Arc<Entry>> {
        let hashes = self.keys.token_hashes(secret);
        let entry = {
            let entries = self.read();
            hashes.iter().find_map(|h| entries.get(h).cloned())
        }?;
        if !entry.is_good(limits, now) {
            return None;
        }
        entry.touch(now, from);
        Some(entry)
    }

    /// Adds a token and gives its secret.
    pub(crate) async fn add(&self, new: NewToken) -> Result<(Zeroizing<String>, Arc<Entry>), StoreError> {
        self.put(new, CancellationToken::new()).await
    }

    async fn put(&self, new: NewToken, ended: CancellationToken) -> Result<(Zeroizing<String>, Arc<Entry>), StoreError> {
        let secret = new_secret().map_err(|_| StoreError::LogClosed)?;
        let token = Token {
            id: crate::api::new_id(new.now),
            hash: self.keys.token_hash(&secret),
            person: new.person,
            kind: new.kind,
            name: new.name,
            scopes: new.scopes,
            key: new.key,
            stage: new.stage,
            proofs: new.proofs,
            created: new.created,
            expires: new.expires,
            last_used: new.now,
            last_from: new.from.to_string(),
        };
        let mut of_one = self.of(&token.person);
        if of_one.len() >= MOST_OF_ONE {
            of_one.sort_by_key(|e| e.last_used());
            let oldest: Vec<String> = of_one.iter().take(of_one.len() + 1 - MOST_OF_ONE).map(|e| e.token.id.clone()).collect();
            self.end(&oldest).await?;
        }
        self.store.add_token(&token).await?;
        let entry = Entry::new(token, ended);
        self.write().insert(entry.token.hash, entry.clone());
        Ok((secret, entry))
    }

    /// Puts a new token in place of one, with other proofs: what was known before the step up is worth nothing after it.
    pub(crate) async fn step_up(
        &self,
        entry: &Entry,
        stage: Stage,
        proofs: Proofs,
        limits: &SignedInLimits,
        now: Timestamp,
        from: IpAddr,
    ) -> Result<(Zeroizing<String>, Arc<Entry>), StoreError> {
        let t = &entry.token;
        // Only who was still proving begins anew; a step up does not lengthen what was begun.
        let (created, expires) = match t.stage {
            Stage::Proving => (now, now + limits.lifetime),
            Stage::Enrolling | Stage::Full => (t.created, t.expires),
        };
        let next = NewToken {
            person: t.person.clone(),
            kind: t.kind,
            name: t.name.clone(),
            scopes: t.scopes.clone(),
            key: t.key,
            stage,
            proofs,
            created,
            now,
            expires,
            from,
        };
        // The same sign-in goes on: what is open by it stays open.
        self.write().remove(&t.hash);
        self.store.remove_tokens(std::slice::from_ref(&t.id)).await?;
        self.put(next, entry.ended.clone()).await
    }

    /// The tokens of one person, newest first.
    pub(crate) fn of(&self, person: &str) -> Vec<Arc<Entry>> {
        let mut found: Vec<Arc<Entry>> = self.read().values().filter(|e| e.token.person == person).cloned().collect();
        found.sort_by(|a, b| (b.token.created, &b.token.id).cmp(&(a.token.created, &a.token.id)));
        found
    }

    /// Ends tokens, and whatever goes on by them.
    pub(crate) async fn end(&self, ids: &[String]) -> Result<(), StoreError> {
        self.write().retain(|_, e| {
            let over = ids.contains(&e.token.id);
            if over {
                e.ended.cancel();
            }
            !over
        });
        self.store.remove_tokens(ids).await
    }

    /// Ends tokens of people who are no longer there, and those that are over; writes down when the others were used.
    pub(crate) async fn sweep(&self, exists: impl Fn(&str) -> bool, limits: &SignedInLimits, now: Timestamp) -> Result<(), StoreError> {
        let entries: Vec<Arc<Entry>> = self.read().values().cloned().collect();
        let (good, over): (Vec<_>, Vec<_>) = entries.into_iter().partition(|e| e.is_good(limits, now) && exists(&e.token.person));
        if !over.is_empty() {
            self.end(&over.iter().map(|e| e.token.id.clone()).collect::<Vec<_>>()).await?;
        }
        let used = good.iter().filter(|e| e.touched.swap(false, Ordering::Relaxed));
        let used: Vec<(String, Timestamp, String)> = used.map(|e| (e.token.id.clone(), e.last_used(), e.last_from())).collect();
        if used.is_empty() { Ok(()) } else { self.store.touch_tokens(&used).await }
    }
}
