//! What the audit remembers besides accesses and findings: suppressions, detections, days with evidence, and how far logs were read.

use crate::{Result, Store, at, ms};
use aerie_core::audit::{Covered, Suppression};
use jiff::Timestamp;
use std::collections::{BTreeMap, BTreeSet};

/// A suppression as it is kept.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct KeptSuppression {
    /// Identifier.
    pub id: String,
    /// What is not to come up.
    pub suppression: Suppression,
    /// Who made it.
    pub by: String,
    /// When.
    pub made: Timestamp,
    /// When it was withdrawn, and by whom.
    pub withdrawn: Option<(Timestamp, String)>,
    /// How often a finding was held back.
    pub hits: u64,
    /// The last time.
    pub last_hit: Option<Timestamp>,
}

/// Detections that were published.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct PublishedDetections {
    /// From 1.
    pub version: i64,
    /// The document.
    pub text: String,
    /// Who.
    pub by: String,
    /// When.
    pub at: Timestamp,
    /// Why.
    pub why: String,
}

/// How far a log was read.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct LogPosition {
    /// SHA-256 of its first bytes, in hexadecimal: what tells it from others.
    pub head: String,
    /// Name, as findings cite it.
    pub name: String,
    /// Bytes read.
    pub offset: u64,
    /// Lines in them.
    pub lines: u64,
    /// When.
    pub read_at: Timestamp,
}

type SuppressionRow = (String, String, String, i64, Option<i64>, Option<String>, i64, Option<i64>);

fn whole(n: u64) -> i64 {
    i64::try_from(n).unwrap_or(i64::MAX)
}

fn counted(n: i64) -> u64 {
    u64::try_from(n).unwrap_or(0)
}

impl Store {
    /// Keeps a suppression.
    ///
    /// # Errors
    /// When the database refuses.
    pub async fn put_suppression(&self, id: &str, s: &Suppression, by: &str, now: Timestamp) -> Result<()> {
        sqlx::query("INSERT INTO suppressions (id, body, by, made, until) VALUES (?1, ?2, ?3, ?4, ?5)")
            .bind(id)
            .bind(serde_json::to_string(s)?)
            .bind(by)
            .bind(ms(now))
            .bind(ms(s.until))
            .execute(&self.write)
            .await?;
        Ok(())
    }

    /// Suppressions, newest first; those in force alone where `now` is given.
    ///
    /// # Errors
    /// When the database refuses.
    pub async fn suppressions(&self, now: Option<Timestamp>) -> Result<Vec<KeptSuppression>> {
        let rows: Vec<SuppressionRow> = sqlx::query_as(
            "SELECT id, body, by, made, withdrawn, withdrawn_by, hits, last_hit FROM suppressions
             WHERE ?1 IS NULL OR (until > ?1 AND withdrawn IS NULL) ORDER BY made DESC, id LIMIT 1000",
        )
        .bind(now.map(ms))
        .fetch_all(&self.read)
        .await?;
        rows.into_iter()
            .map(|(id, body, by, made, withdrawn, withdrawn_by, hits, last_hit)| {
                Ok(KeptSuppression {
                    id,
                    suppression: serde_json::from_str(&body)?,
                    by,
                    made: at(made),
                    withdrawn: withdrawn.map(|t| (at(t), withdrawn_by.unwrap_or_default())),
                    hits: counted(hits),
                    last_hit: last_hit.map(at),
                })
            })
            .collect()
    }

    /// Withdraws a suppression; false where none of that identifier is in force.
    ///
    /// # Errors
    /// When the database refuses.
    pub async fn withdraw_suppression(&self, id: &str, by: &str, now: Timestamp) -> Result<bool> {
        let done =
            sqlx::query("UPDATE suppressions SET withdrawn = ?2, withdrawn_by = ?3 WHERE id = ?1 AND withdrawn IS NULL AND until > ?2")
                .bind(id)
                .bind(ms(now))
                .bind(by)
                .execute(&self.write)
                .await?;
        Ok(done.rows_affected() == 1)
    }

    /// Counts that a finding was held back.
    ///
    /// # Errors
    /// When the database refuses.
    pub async fn count_suppressed(&self, id: &str, now: Timestamp) -> Result<()> {
        sqlx::query("UPDATE suppressions SET hits = hits + 1, last_hit = ?2 WHERE id = ?1")
            .bind(id)
            .bind(ms(now))
            .execute(&self.write)
            .await?;
        Ok(())
    }

    /// The detections in force; none where the shipped ones are.
    ///
    /// # Errors
    /// When the database refuses.
    pub async fn detections(&self) -> Result<Option<PublishedDetections>> {
        let row: Option<(i64, String, String, i64, String)> =
            sqlx::query_as("SELECT version, text, by, at, why FROM detections ORDER BY version DESC LIMIT 1")
                .fetch_optional(&self.read)
                .await?;
        Ok(row.map(|(version, text, by, when, why)| PublishedDetections { version, text, by, at: at(when), why }))
    }

    /// Publishes detections after those of version `after` (0 where none were published); none where others came in between.
    ///
    /// # Errors
    /// When the database refuses.
    pub async fn publish_detections(&self, text: &str, by: &str, why: &str, after: i64, now: Timestamp) -> Result<Option<i64>> {
        let done = sqlx::query(
            "INSERT INTO detections (version, text, by, at, why)
             SELECT ?1 + 1, ?2, ?3, ?4, ?5 WHERE (SELECT coalesce(max(version), 0) FROM detections) = ?1",
        )
        .bind(after)
        .bind(text)
        .bind(by)
        .bind(ms(now))
        .bind(why)
        .execute(&self.write)
        .await?;
        Ok((done.rows_affected() == 1).then_some(after + 1))
    }

    /// Keeps that a log has something of machines on days.
    ///
    /// # Errors
    /// When the database refuses.
    pub async fn put_coverage(&self, source: &str, covered: &[Covered]) -> Result<()> {
        let mut t = self.write.begin().await?;
        for c in covered {
            sqlx::query(
                "INSERT INTO evidence_days (machine, day, source, lines) VALUES (?1, ?2, ?3, ?4)
                 ON CONFLICT DO UPDATE SET lines = max(lines, excluded.lines)",
            )
            .bind(&c.machine)
            .bind(c.day)
            .bind(source)
            .bind(whole(c.lines))
            .execute(&mut *t)
            .await?;
        }
        Ok(t.commit().await?)
    }

    /// Lines for machine and day, of days from `first` to `last`.
    ///
    /// # Errors
    /// When the database refuses.
    pub async fn coverage(&self, first: i64, last: i64) -> Result<BTreeMap<String, BTreeMap<i64, u64>>> {
        let rows: Vec<(String, i64, i64)> = sqlx::query_as(
            "SELECT machine, day, sum(lines) FROM evidence_days WHERE day BETWEEN ?1 AND ?2 GROUP BY machine, day ORDER BY machine, day",
        )
        .bind(first)
        .bind(last)
        .fetch_all(&self.read)
        .await?;
        let mut all: BTreeMap<String, BTreeMap<i64, u64>> = BTreeMap::new();
        for (machine, day, lines) in rows {
            all.entry(machine).or_default().insert(day, counted(lines));
        }
        Ok(all)
    }

    /// The days on which there is something of a machine.
    ///
    /// # Errors
    /// When the database refuses.
    pub async fn days_covered(&self, machine: &str) -> Result<BTreeSet<i64>> {
        let days: Vec<i64> =
            sqlx::query_scalar("SELECT DISTINCT day FROM evidence_days WHERE machine = ?1").bind(machine).fetch_all(&self.read).await?;
        Ok(days.into_iter().collect())
    }

    /// How far the log that begins so was read.
    ///
    /// # Errors
    /// When the database refuses.
    pub async fn log_position(&self, head: &str) -> Result<Option<LogPosition>> {
        let row: Option<(String, i64, i64, i64)> = sqlx::query_as("SELECT name, offset, lines, read_at FROM log_positions WHERE head = ?1")
            .bind(head)
            .fetch_optional(&self.read)
            .await?;
        Ok(row.map(|(name, offset, lines, read_at)| LogPosition {
            head: head.into(),
            name,
            offset: counted(offset),
            lines: counted(lines),
            read_at: at(read_at),
        }))
    }

    /// Keeps how far a log was read.
    ///
    /// # Errors
    /// When the database refuses.
    pub async fn put_log_position(&self, p: &LogPosition) -> Result<()> {
        sqlx::query("INSERT OR REPLACE INTO log_positions (head, name, offset, lines, read_at) VALUES (?1, ?2, ?3, ?4, ?5)")
            .bind(&p.head)
            .bind(&p.name)
            .bind(whole(p.offset))
            .bind(whole(p.lines))
            .bind(ms(p.read_at))
            .execute(&self.write)
            .await?;
        Ok(())
    }

    /// Keeps that the service itself signs in to a machine, and the word for what.
    ///
    /// # Errors
    /// When the database refuses.
    pub async fn put_own_link(&self, machine: &str, word: &str, now: Timestamp) -> Result<()> {
        sqlx::query("INSERT INTO own_links (machine, word, at) VALUES (?1, ?2, ?3)")
            .bind(machine)
            .bind(word)
            .bind(ms(now))
            .execute(&self.write)
            .await?;
        Ok(())
    }

    /// When the service itself signed in to machines, the newest so many: machine, word, when.
    ///
    /// # Errors
    /// When the database refuses.
    pub async fn own_links(&self, limit: u32) -> Result<Vec<(String, String, Timestamp)>> {
        let rows: Vec<(String, String, i64)> = sqlx::query_as("SELECT machine, word, at FROM own_links ORDER BY at DESC LIMIT ?1")
            .bind(i64::from(limit))
            .fetch_all(&self.read)
            .await?;
        Ok(rows.into_iter().map(|(machine, word, when)| (machine, word, at(when))).collect())
    }
}
