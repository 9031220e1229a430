use crate::{Result, Store, at, ms};
use jiff::Timestamp;
use sqlx::Row as _;
use sqlx::sqlite::SqliteRow;

/// A notice that is to be delivered.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Notice {
    /// Identifier; a receiver that honours it takes a notice once.
    pub id: String,
    /// `mail` or `webhook`.
    pub channel: String,
    /// Mail address, or name of the person for whom the webhook is told.
    pub recipient: String,
    /// What it is about: a stable word.
    pub kind: String,
    /// Subject.
    pub subject: String,
    /// Text, or JSON, encrypted; empty once it was delivered.
    pub sealed: Vec<u8>,
    /// When it was made.
    pub made: Timestamp,
    /// How often delivery was tried.
    pub tries: u32,
    /// When it is tried next.
    pub next: Timestamp,
    /// Why the last try failed; empty where none did.
    pub failure: String,
    /// When it was delivered.
    pub sent: Option<Timestamp>,
}

impl Notice {
    /// One that is due at once.
    pub fn new(id: String, made: Timestamp, (channel, recipient): (&str, &str), kind: &str, subject: &str, sealed: Vec<u8>) -> Self {
        Self {
            id,
            channel: channel.into(),
            recipient: recipient.into(),
            kind: kind.into(),
            subject: subject.into(),
            sealed,
            made,
            tries: 0,
            next: made,
            failure: String::new(),
            sent: None,
        }
    }
}

fn notice(row: &SqliteRow) -> Result<Notice> {
    Ok(Notice {
        id: row.try_get("id")?,
        channel: row.try_get("channel")?,
        recipient: row.try_get("recipient")?,
        kind: row.try_get("kind")?,
        subject: row.try_get("subject")?,
        sealed: row.try_get("sealed")?,
        made: at(row.try_get("made")?),
        tries: row.try_get::<i64, _>("tries")?.try_into().unwrap_or(u32::MAX),
        next: at(row.try_get("next")?),
        failure: row.try_get("failure")?,
        sent: row.try_get::<Option<i64>, _>("sent")?.map(at),
    })
}

impl Store {
    /// Puts notices into the outbox, all or none. One whose identifier is there already stays as it is.
    ///
    /// # Errors
    /// When the database refuses.
    pub async fn post(&self, notices: &[Notice]) -> Result<()> {
        let mut work = self.write.begin().await?;
        for n in notices {
            sqlx::query(
                "INSERT OR IGNORE INTO outbox (id, channel, recipient, kind, subject, sealed, made, next) VALUES (?1, ?2, ?3, ?4, ?5, ?6, ?7, ?8)",
            )
            .bind(&n.id)
            .bind(&n.channel)
            .bind(&n.recipient)
            .bind(&n.kind)
            .bind(&n.subject)
            .bind(&n.sealed)
            .bind(ms(n.made))
            .bind(ms(n.next))
            .execute(&mut *work)
            .await?;
        }
        Ok(work.commit().await?)
    }

    /// Notices that are due, the longest wait first.
    ///
    /// # Errors
    /// When the database refuses.
    pub async fn due(&self, now: Timestamp, limit: u32) -> Result<Vec<Notice>> {
        let rows = sqlx::query("SELECT * FROM outbox WHERE sent IS NULL AND next <= ?1 ORDER BY next, id LIMIT ?2")
            .bind(ms(now))
            .bind(i64::from(limit))
            .fetch_all(&self.read)
            .await?;
        rows.iter().map(notice).collect()
    }

    /// When the next notice is due.
    ///
    /// # Errors
    /// When the database refuses.
    pub async fn next_due(&self) -> Result<Option<Timestamp>> {
        let next: Option<i64> = sqlx::query_scalar("SELECT min(next) FROM outbox WHERE sent IS NULL").fetch_one(&self.read).await?;
        Ok(next.map(at))
    }

    /// Notes that a notice was delivered, and forgets what it said.
    ///
    /// # Errors
    /// When the database refuses.
    pub async fn delivered(&self, id: &str, now: Timestamp) -> Result<()> {
        sqlx::query("UPDATE outbox SET sent = ?2, tries = tries + 1, failure = '', sealed = x'' WHERE id = ?1")
            .bind(id)
            .bind(ms(now))
            .execute(&self.write)
            .await?;
        Ok(())
    }

    /// Notes that a notice could not be delivered, and when it is tried again.
    ///
    /// # Errors
    /// When the database refuses.
    pub async fn undelivered(&self, id: &str, why: &str, next: Timestamp) -> Result<()> {
        sqlx::query("UPDATE outbox SET next = ?2, tries = tries + 1, failure = ?3 WHERE id = ?1")
            .bind(id)
            .bind(ms(next))
            .bind(why)
            .execute(&self.write)
            .await?;
        Ok(())
    }

    /// Notices, newest first.
    ///
    /// # Errors
    /// When the database refuses.
    pub async fn notices(&self, limit: u32) -> Result<Vec<Notice>> {
        let rows =
            sqlx::query("SELECT * FROM outbox ORDER BY made DESC, id DESC LIMIT ?1").bind(i64::from(limit)).fetch_all(&self.read).await?;
        rows.iter().map(notice).collect()
    }

    /// How many notices wait, and how many of them failed at least once.
    ///
    /// # Errors
    /// When the database refuses.
    pub async fn count_notices(&self) -> Result<(u64, u64)> {
        let (all, failed): (i64, i64) = sqlx::query_as("SELECT count(*), count(*) FILTER (WHERE tries > 0) FROM outbox WHERE sent IS NULL")
            .fetch_one(&self.read)
            .await?;
        Ok((all.try_into().unwrap_or(0), failed.try_into().unwrap_or(0)))
    }

    /// Forgets notices that were delivered before an instant.
    ///
    /// # Errors
    /// When the database refuses.
    pub async fn sweep_outbox(&self, before: Timestamp) -> Result<()> {
        sqlx::query("DELETE FROM outbox WHERE sent < ?1").bind(ms(before)).execute(&self.write).await?;
        Ok(())
    }
}
