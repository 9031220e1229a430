//! The event log: one writer, groups, full sync.

use crate::{Result, Store, StoreError, like, ms};
use aerie_core::evidence::{
    Checkpoint, EventKind, Hash, LogKey, NewEvent, Report, Row, SigningKey, Tree, Verifier, VerifyingKey, leaf_hash,
};
use jiff::Timestamp;
use sqlx::Row as _;
use sqlx::sqlite::{SqlitePool, SqliteRow};
use std::sync::atomic::{AtomicBool, Ordering};
use std::sync::{Arc, PoisonError, RwLock};
use tokio::sync::{mpsc, oneshot, watch};
use tokio::task::JoinHandle;

/// Events that wait to be written at most; beyond, those who log wait.
const QUEUE: usize = 4096;
/// Events of one transaction at most.
const GROUP: usize = 512;
/// A checkpoint is written after so many events, besides those at intervals.
const CHECKPOINT_EVERY: u64 = 1000;
/// Name under which the size of the log is kept, signed.
const HEAD: &str = "log-head";

enum Order {
    Append(Box<NewEvent>, oneshot::Sender<Result<u64>>),
    Checkpoint(Timestamp, oneshot::Sender<Result<Checkpoint>>),
    Rotate(Box<SigningKey>, LogKey, Timestamp, oneshot::Sender<Result<Checkpoint>>),
    Stop(Timestamp, oneshot::Sender<Result<Checkpoint>>),
}

/// The event log. Clones write to the same log.
#[derive(Clone)]
pub struct EventLog {
    orders: mpsc::Sender<Order>,
    store: Store,
    public: Arc<RwLock<Vec<VerifyingKey>>>,
    seals: Arc<RwLock<LogKey>>,
    size: watch::Receiver<u64>,
    /// The last group that was to be written was not.
    failing: Arc<AtomicBool>,
}

/// An event as it is kept.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct StoredEvent {
    /// Its place.
    pub seq: u64,
    /// Canonical JSON.
    pub body: String,
    /// Leaf hash.
    pub leaf: Hash,
}

/// Which events to list. Newest first.
#[derive(Debug, Clone, Default)]
pub struct EventFilter {
    /// Of this kind.
    pub kind: Option<String>,
    /// Of this session.
    pub session: Option<String>,
    /// With this text anywhere in it.
    pub text: Option<String>,
    /// Before this place.
    pub before: Option<u64>,
    /// At most so many.
    pub limit: u32,
}

struct Writer {
    pool: SqlitePool,
    tree: Tree,
    key: SigningKey,
    seals: Arc<RwLock<LogKey>>,
    last_checkpoint: u64,
    size: watch::Sender<u64>,
    failing: Arc<AtomicBool>,
}

impl EventLog {
    /// Opens the log: reads its hashes, and starts the writer.
    ///
    /// # Errors
    /// When the database refuses.
    pub async fn open(store: Store, key: SigningKey, public: Vec<VerifyingKey>, seals: LogKey) -> Result<(Self, JoinHandle<()>)> {
        let mut tree = Tree::default();
        let mut next = 0i64;
        loop {
            let leaves: Vec<(i64, Vec<u8>)> = sqlx::query_as("SELECT seq, leaf FROM events WHERE seq >= ?1 ORDER BY seq LIMIT 10000")
                .bind(next)
                .fetch_all(&store.read)
                .await?;
            let Some((last, _)) = leaves.last() else { break };
            next = last + 1;
            leaves.iter().for_each(|(_, leaf)| tree.push(hash_of(leaf)));
        }
        let public = Arc::new(RwLock::new(public));
        let seals = Arc::new(RwLock::new(seals));
        let (orders, inbox) = mpsc::channel(QUEUE);
        let last_checkpoint = tree.size();
        let (tell_size, size) = watch::channel(tree.size());
        let failing = Arc::new(AtomicBool::new(false));
        let writer = Writer {
            pool: store.write.clone(),
            tree,
            key,
            seals: seals.clone(),
            last_checkpoint,
            size: tell_size,
            failing: failing.clone(),
        };
        let task = tokio::spawn(writer.run(inbox));
        Ok((Self { orders, store, public, seals, size, failing }, task))
    }

    /// Appends an event, and returns its place once it is on the disk.
    ///
    /// # Errors
    /// When the database refuses: then nothing was logged, and what was to be done must not be.
    pub async fn append(&self, event: NewEvent) -> Result<u64> {
        self.order(|reply| Order::Append(Box::new(event), reply)).await
    }

    /// Signs the log as it stands.
    ///
    /// # Errors
    /// When the database refuses.
    pub async fn checkpoint(&self, now: Timestamp) -> Result<Checkpoint> {
        self.order(|reply| Order::Checkpoint(now, reply)).await
    }

    /// Signs the log and ends the writer.
    ///
    /// # Errors
    /// When the database refuses.
    pub async fn stop(&self, now: Timestamp) -> Result<Checkpoint> {
        self.order(|reply| Order::Stop(now, reply)).await
    }

    async fn order<T>(&self, make: impl FnOnce(oneshot::Sender<Result<T>>) -> Order) -> Result<T> {
        let (reply, answer) = oneshot::channel();
        self.orders.send(make(reply)).await.map_err(|_| StoreError::LogClosed)?;
        answer.await.map_err(|_| StoreError::LogClosed)?
    }

    /// Signs the log with the key so far, and goes on with the next ones.
    ///
    /// # Errors
    /// When the database refuses.
    pub async fn rotate(&self, key: SigningKey, public: Vec<VerifyingKey>, seals: LogKey, now: Timestamp) -> Result<Checkpoint> {
        let signed = self.order(|reply| Order::Rotate(Box::new(key), seals, now, reply)).await?;
        *self.public.write().unwrap_or_else(PoisonError::into_inner) = public;
        Ok(signed)
    }

    /// Whether it takes events, and wrote the last ones.
    pub fn is_writable(&self) -> bool {
        !self.orders.is_closed() && !self.failing.load(Ordering::Relaxed)
    }

    /// How many events there are, for whoever waits for more.
    pub fn size(&self) -> watch::Receiver<u64> {
        self.size.clone()
    }

    /// The keys with which checkpoints are verified, oldest first.
    pub fn public_keys(&self) -> Vec<VerifyingKey> {
        self.public.read().unwrap_or_else(PoisonError::into_inner).clone()
    }

    /// Verifies the whole log.
    ///
    /// # Errors
    /// When the database refuses.
    pub async fn verify(&self) -> Result<Report> {
        // The seals are copied: verifying takes a while, and the writer must not wait for it.
        let seals = self.seals.read().unwrap_or_else(PoisonError::into_inner).clone();
        verify(&self.store, self.public_keys(), Some(&seals)).await
    }

    /// The first event of this kind about a session that is as it was sealed: its text.
    ///
    /// # Errors
    /// When the database refuses.
    pub async fn sealed_event(&self, kind: EventKind, session: &str) -> Result<Option<String>> {
        let rows = sqlx::query("SELECT seq, body, leaf, seal FROM events WHERE kind = ?1 AND session = ?2 ORDER BY seq LIMIT 100")
            .bind(kind.word())
            .bind(session)
            .fetch_all(&self.store.read)
            .await?;
        let seals = self.seals.read().unwrap_or_else(PoisonError::into_inner).clone();
        let is_of = |body: &str, key: &str, word: &str| {
            let value = serde_json::from_str::<serde_json::Value>(body).ok();
            value.as_ref().and_then(|v| v.get(key)?.as_str()) == Some(word)
        };
        for row in &rows {
            let row = row_of(row)?;
            // The columns beside the text are sealed by nothing.
            let good = seals.sealed_body(&row).filter(|b| is_of(b, "kind", kind.word()) && is_of(b, "session", session));
            if let Some(body) = good {
                return Ok(Some(body.into()));
            }
        }
        Ok(None)
    }

    /// The signed checkpoints, newest first.
    ///
    /// # Errors
    /// When the database refuses.
    pub async fn checkpoints(&self, limit: u32) -> Result<Vec<Checkpoint>> {
        let mut all = self.store.checkpoints().await?;
        all.reverse();
        all.truncate(limit as usize);
        Ok(all)
    }
}

/// Verifies the log in a store, with the public key alone or with the seals too.
///
/// # Errors
/// When the database refuses.
pub(crate) async fn verify(store: &Store, public: Vec<VerifyingKey>, seals: Option<&LogKey>) -> Result<Report> {
    let head = store.meta(HEAD).await?.and_then(|h| serde_json::from_slice::<Checkpoint>(&h).ok());
    let mut checkpoints = store.checkpoints().await?;
    let size = head.as_ref().map_or(0, |h| h.size);
    checkpoints.extend(head.filter(|h| h.size > 0));
    let mut verifier = Verifier::new(public, seals, checkpoints);
    let mut next = 0i64;
    loop {
        let rows = sqlx::query("SELECT seq, body, leaf, seal FROM events WHERE seq >= ?1 ORDER BY seq LIMIT 5000")
            .bind(next)
            .fetch_all(&store.read)
            .await?;
        let Some(last) = rows.last() else { break };
        next = last.try_get::<i64, _>("seq")? + 1;
        for r in &rows {
            verifier.handle_row(&row_of(r)?);
        }
    }
    Ok(verifier.finish(size))
}

fn row_of(r: &SqliteRow) -> Result<Row> {
    let (leaf, seal): (Vec<u8>, Vec<u8>) = (r.try_get("leaf")?, r.try_get("seal")?);
    let seq = r.try_get::<i64, _>("seq")?.try_into().unwrap_or(0);
    Ok(Row { seq, body: r.try_get("body")?, leaf: hash_of(&leaf), seal: seal.try_into().unwrap_or_default() })
}

impl Store {
    /// Events, newest first.
    ///
    /// # Errors
    /// When the database refuses.
    pub async fn events(&self, f: &EventFilter) -> Result<Vec<StoredEvent>> {
        let before = f.before.map_or(i64::MAX, |b| i64::try_from(b).unwrap_or(i64::MAX));
        let rows: Vec<(i64, String, Vec<u8>)> = sqlx::query_as(
            "SELECT seq, body, leaf FROM events
             WHERE seq < ?1 AND body IS NOT NULL
               AND (?2 IS NULL OR kind = ?2)
               AND (?3 IS NULL OR session = ?3)
               AND (?4 IS NULL OR body LIKE ?4 ESCAPE '\\')
             ORDER BY seq DESC LIMIT ?5",
        )
        .bind(before)
        .bind(&f.kind)
        .bind(&f.session)
        .bind(f.text.as_deref().map(like))
        .bind(i64::from(f.limit))
        .fetch_all(&self.read)
        .await?;
        Ok(rows.into_iter().map(stored).collect())
    }

    /// Events from a place on, oldest first. Those whose text retention removed are not among them.
    ///
    /// # Errors
    /// When the database refuses.
    pub async fn events_from(&self, first: u64, limit: u32) -> Result<Vec<StoredEvent>> {
        let rows: Vec<(i64, String, Vec<u8>)> =
            sqlx::query_as("SELECT seq, body, leaf FROM events WHERE seq >= ?1 AND body IS NOT NULL ORDER BY seq LIMIT ?2")
                .bind(i64::try_from(first).unwrap_or(i64::MAX))
                .bind(i64::from(limit))
                .fetch_all(&self.read)
                .await?;
        Ok(rows.into_iter().map(stored).collect())
    }

    /// The leaves of the first `size` events.
    ///
    /// # Errors
    /// When the database refuses.
    pub async fn leaves(&self, size: u64) -> Result<Vec<Hash>> {
        let rows: Vec<Vec<u8>> = sqlx::query_scalar("SELECT leaf FROM events WHERE seq < ?1 ORDER BY seq")
            .bind(i64::try_from(size).unwrap_or(i64::MAX))
            .fetch_all(&self.read)
            .await?;
        Ok(rows.iter().map(|l| hash_of(l)).collect())
    }

    /// Events of a time, oldest first; of one machine, or of one person, where they are named. Those whose text retention removed are
    /// not among them.
    ///
    /// # Errors
    /// When the database refuses.
    pub async fn events_between(
        &self,
        (from, until): (Timestamp, Timestamp),
        machine: Option<&str>,
        person: Option<&str>,
        limit: u32,
    ) -> Result<Vec<StoredEvent>> {
        let rows: Vec<(i64, String, Vec<u8>)> = sqlx::query_as(
            "SELECT seq, body, leaf FROM events
             WHERE at >= ?1 AND at < ?2 AND body IS NOT NULL AND (?3 IS NULL OR machine = ?3) AND (?4 IS NULL OR actor = ?4)
             ORDER BY seq LIMIT ?5",
        )
        .bind(ms(from))
        .bind(ms(until))
        .bind(machine)
        .bind(person)
        .bind(i64::from(limit))
        .fetch_all(&self.read)
        .await?;
        Ok(rows.into_iter().map(stored).collect())
    }

    /// Every checkpoint, oldest first.
    pub(crate) async fn checkpoints(&self) -> Result<Vec<Checkpoint>> {
        let rows: Vec<(i64, String, String, String)> =
            sqlx::query_as("SELECT size, root, at, signature FROM checkpoints ORDER BY size").fetch_all(&self.read).await?;
        Ok(rows
            .into_iter()
            .map(|(size, root, at, signature)| Checkpoint {
                size: size.try_into().unwrap_or(0),
                root,
                at: at.parse().unwrap_or_default(),
                signature,
            })
            .collect())
    }
}

fn stored((seq, body, leaf): (i64, String, Vec<u8>)) -> StoredEvent {
    StoredEvent { seq: seq.try_into().unwrap_or(0), body, leaf: hash_of(&leaf) }
}

fn hash_of(bytes: &[u8]) -> Hash {
    bytes.try_into().unwrap_or_default()
}

impl Writer {
    async fn run(mut self, mut inbox: mpsc::Receiver<Order>) {
        let mut orders = Vec::with_capacity(GROUP);
        while inbox.recv_many(&mut orders, GROUP).await > 0 {
            let mut events = vec![];
            let mut stop = false;
            for order in orders.drain(..) {
                match order {
                    Order::Append(event, reply) => events.push((event, reply)),
                    Order::Checkpoint(now, reply) => {
                        self.append(std::mem::take(&mut events)).await;
                        let _ = reply.send(self.checkpoint(now).await);
                    }
                    Order::Rotate(key, seals, now, reply) => {
                        self.append(std::mem::take(&mut events)).await;
                        let signed = self.checkpoint(now).await;
                        if signed.is_ok() {
                            self.key = *key;
                            *self.seals.write().unwrap_or_else(PoisonError::into_inner) = seals;
                        }
                        let _ = reply.send(signed);
                    }
                    Order::Stop(now, reply) => {
                        self.append(std::mem::take(&mut events)).await;
                        let _ = reply.send(self.checkpoint(now).await);
                        stop = true;
                    }
                }
            }
            self.append(events).await;
            if stop {
                break;
            }
        }
    }

    async fn append(&mut self, events: Vec<(Box<NewEvent>, oneshot::Sender<Result<u64>>)>) {
        if events.is_empty() {
            return;
        }
        let (events, replies): (Vec<_>, Vec<_>) = events.into_iter().unzip();
        let first = self.tree.size();
        match self.write(events).await {
            Ok(()) => {
                self.failing.store(false, Ordering::Relaxed);
                replies.into_iter().zip(first..).for_each(|(reply, seq)| drop(reply.send(Ok(seq))));
            }
            Err(e) => {
                self.failing.store(true, Ordering::Relaxed);
                tracing::error!(error = %e, "the event log could not be written");
                let why = e.to_string();
                replies.into_iter().for_each(|reply| drop(reply.send(Err(StoreError::Database(sqlx::Error::Protocol(why.clone()))))));
            }
        }
    }

    /// Writes a group in one transaction. The tree in memory grows only once the group is on the disk.
    #[expect(clippy::vec_box, reason = "they come boxed, so that an order is small")]
    async fn write(&mut self, events: Vec<Box<NewEvent>>) -> Result<()> {
        let mut tree = self.tree.clone();
        let mut transaction = self.pool.begin().await?;
        let mut newest = Timestamp::UNIX_EPOCH;
        for event in events {
            let seq = tree.size();
            let event = event.at_place(seq);
            let body = event.body();
            let leaf = leaf_hash(body.as_bytes());
            tree.push(leaf);
            newest = event.event.at;
            let seal = self.seals.read().unwrap_or_else(PoisonError::into_inner).seal(seq, &leaf);
            sqlx::query(
                "INSERT INTO events (seq, at, kind, actor, machine, session, body, leaf, seal) VALUES (?1, ?2, ?3, ?4, ?5, ?6, ?7, ?8, ?9)",
            )
            .bind(i64::try_from(seq).unwrap_or(i64::MAX))
            .bind(ms(event.event.at))
            .bind(event.event.kind.word())
            .bind(&event.event.actor)
            .bind(&event.event.machine)
            .bind(&event.event.session)
            .bind(&body)
            .bind(&leaf[..])
            .bind(&seal[..])
            .execute(&mut *transaction)
            .await?;
        }
        let head = Checkpoint::sign(&self.key, tree.size(), &tree.root(), newest);
        sqlx::query("INSERT INTO meta (key, value) VALUES (?1, ?2) ON CONFLICT (key) DO UPDATE SET value = excluded.value")
            .bind(HEAD)
            .bind(serde_json::to_vec(&head)?)
            .execute(&mut *transaction)
            .await?;
        if tree.size() - self.last_checkpoint >= CHECKPOINT_EVERY {
            keep(&mut transaction, &head).await?;
            self.last_checkpoint = tree.size();
        }
        transaction.commit().await?;
        self.size.send_replace(tree.size());
        self.tree = tree;
        Ok(())
    }

    async fn checkpoint(&mut self, now: Timestamp) -> Result<Checkpoint> {
        let checkpoint = Checkpoint::sign(&self.key, self.tree.size(), &self.tree.root(), now);
        let mut connection = self.pool.acquire().await?;
        keep(&mut connection, &checkpoint).await?;
        self.last_checkpoint = self.tree.size();
        Ok(checkpoint)
    }
}

/// Keeps a checkpoint; of two at one size the first stays.
async fn keep(connection: &mut sqlx::SqliteConnection, c: &Checkpoint) -> Result<()> {
    sqlx::query("INSERT INTO checkpoints (size, root, at, signature) VALUES (?1, ?2, ?3, ?4) ON CONFLICT (size) DO NOTHING")
        .bind(i64::try_from(c.size).unwrap_or(i64::MAX))
        .bind(&c.root)
        .bind(c.at.to_string())
        .bind(&c.signature)
        .execute(connection)
        .await?;
    Ok(())
}
