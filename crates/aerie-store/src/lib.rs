//! What Aerie remembers: one SQLite file, reached through SQLx. All SQL of the project is here, a file for each noun.
//!
//! Events are written by one task alone ([`EventLog`]), in groups, each group with a full sync.

mod accesses;
mod agents;
mod approvals;
mod auditing;
mod credentials;
mod directory;
mod drafts;
mod events;
mod films;
mod findings;
mod live_logs;
mod machines;
mod outbox;
mod people;
mod pins;
mod policies;
mod reviews;
mod schedules;
mod second;
mod sessions;
mod settings;
mod tokens;
mod vault;
mod visits;

pub use accesses::{AccessFilter, AccessTotal, TotalOf};
pub use agents::{AgentRow, CodeRow};
pub use approvals::{Deputy, Lockdown, PassRow, RequestRow, RequestState, WaitRow};
pub use auditing::{KeptSuppression, LogPosition, PublishedDetections};
pub use credentials::{Invitation, Passkey};
pub use drafts::Draft;
pub use events::{EventFilter, EventLog, StoredEvent};
pub use films::FilmRow;
pub use findings::{FindingFilter, HistoryEntry, KeptFinding, Put, Settled};
pub use machines::{FoundAccount, FoundKey, OtherHostKey, RetiredMachine};
pub use outbox::Notice;
pub use people::Credentials;
pub use pins::Pin;
pub use policies::{PolicyVersion, Publication};
pub use reviews::{Review, ReviewEntry};
pub use schedules::KeptSchedule;
pub use second::{Proposal, Touch};
pub use sessions::{SessionFilter, SessionRow};
pub use settings::SettingChange;
pub use tokens::{Token, TokenKind};
pub use vault::{VaultEntry, VaultRow};
pub use visits::{KeptContent, KeptOf, VisitFilter};

use jiff::Timestamp;
use sqlx::Connection as _;
use sqlx::sqlite::{SqliteConnectOptions, SqliteConnection, SqliteJournalMode, SqlitePool, SqlitePoolOptions, SqliteSynchronous};
use std::path::Path;
use std::time::Duration;

/// What can go wrong with the store.
#[derive(Debug, thiserror::Error)]
pub enum StoreError {
    /// The database refused.
    #[error("the database: {0}")]
    Database(#[from] sqlx::Error),
    /// The database has a form that this version does not know.
    #[error("the database could not be brought to this version: {0}")]
    Migration(#[from] sqlx::migrate::MigrateError),
    /// A stored value is not what this version writes.
    #[error("a stored value cannot be read: {0}")]
    Value(#[from] serde_json::Error),
    /// The writer of the event log is gone.
    #[error("the event log is closed")]
    LogClosed,
}

/// Shorthand.
pub type Result<T, E = StoreError> = std::result::Result<T, E>;

/// The database.
#[derive(Debug, Clone)]
pub struct Store {
    read: SqlitePool,
    /// One connection: SQLite has one writer, and waiting here is fairer than waiting for its lock.
    write: SqlitePool,
}

impl Store {
    /// Opens the database, and makes or upgrades it.
    ///
    /// # Errors
    /// When the file cannot be opened or is from a later version.
    pub async fn open(path: &Path) -> Result<Self> {
        let options = SqliteConnectOptions::new()
            .filename(path)
            .create_if_missing(true)
            .journal_mode(SqliteJournalMode::Wal)
            .synchronous(SqliteSynchronous::Full)
            .busy_timeout(Duration::from_secs(10))
            .foreign_keys(true);
        let write = SqlitePoolOptions::new()
            .max_connections(1)
            .before_acquire(|connection, _| Box::pin(is_between_transactions(connection)))
            .connect_with(options.clone())
            .await?;
        sqlx::migrate!().run(&write).await?;
        let read = SqlitePoolOptions::new().max_connections(4).connect_with(options.read_only(true)).await?;
        Ok(Self { read, write })
    }

    /// A small value kept under a name.
    ///
    /// # Errors
    /// When the database refuses.
    pub async fn meta(&self, key: &str) -> Result<Option<Vec<u8>>> {
        Ok(sqlx::query_scalar("SELECT value FROM meta WHERE key = ?1").bind(key).fetch_optional(&self.read).await?)
    }

    /// Keeps a small value under a name.
    ///
    /// # Errors
    /// When the database refuses.
    pub async fn set_meta(&self, key: &str, value: &[u8]) -> Result<()> {
        sqlx::query("INSERT INTO meta (key, value) VALUES (?1, ?2) ON CONFLICT (key) DO UPDATE SET value = excluded.value")
            .bind(key)
            .bind(value)
            .execute(&self.write)
            .await?;
        Ok(())
    }

    /// Forgets a small value.
    ///
    /// # Errors
    /// When the database refuses.
    pub async fn remove_meta(&self, key: &str) -> Result<()> {
        sqlx::query("DELETE FROM meta WHERE key = ?1").bind(key).execute(&self.write).await?;
        Ok(())
    }

    /// Writes something of no consequence, to see whether writing works.
    ///
    /// # Errors
    /// When the database refuses.
    pub async fn probe(&self, now: Timestamp) -> Result<()> {
        self.set_meta("probe", &ms(now).to_le_bytes()).await
    }

    /// Closes every connection, so that the file is whole.
    pub async fn close(&self) {
        self.read.close().await;
        self.write.close().await;
    }
}

/// Whether a connection is in no transaction, by its own count and by that of the database: one that is, is closed, and another opened
/// in its place.
///
/// SQLite rolls a transaction back by itself when the disk is full or fails (lang_transaction.html, "Response To Errors Within A
/// Transaction"), and the two counts part: what is written next would be a savepoint in a transaction that nobody ever commits.
async fn is_between_transactions(connection: &mut SqliteConnection) -> Result<bool, sqlx::Error> {
    if connection.is_in_transaction() {
        return Ok(false);
    }
    // Begins and ends at once; it fails where a transaction is open, and takes no lock.
    let open = sqlx::query("BEGIN").execute(&mut *connection).await.is_err();
    let ended = sqlx::query("ROLLBACK").execute(&mut *connection).await.is_ok();
    if open || !ended {
        tracing::warn!("the connection that writes to the database was left in a transaction by an error: it is replaced");
    }
    Ok(!open && ended)
}

pub(crate) fn ms(at: Timestamp) -> i64 {
    at.as_millisecond()
}

pub(crate) fn at(ms: i64) -> Timestamp {
    Timestamp::from_millisecond(ms).unwrap_or_default()
}

/// A text to look for, as a LIKE pattern with its own signs escaped by a backslash.
pub(crate) fn like(text: &str) -> String {
    format!("%{}%", text.replace('\\', "\\\\").replace('%', "\\%").replace('_', "\\_"))
}

#[cfg(test)]
mod tests;
