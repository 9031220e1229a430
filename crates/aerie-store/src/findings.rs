use crate::{Result, Store, like, ms};
use aerie_core::audit::Finding;
use jiff::Timestamp;

/// Which findings to list. Newest first.
#[derive(Debug, Clone, Default)]
pub struct FindingFilter {
    /// Of this kind.
    pub kind: Option<String>,
    /// In this session.
    pub session: Option<String>,
    /// On this machine.
    pub machine: Option<String>,
    /// With this text anywhere in it.
    pub text: Option<String>,
    /// Last seen before this instant and identifier (the last of the page before).
    pub before: Option<(Timestamp, String)>,
    /// At most so many.
    pub limit: u32,
}

impl Store {
    /// Keeps a finding; one that is known is replaced when it was seen again. Returns whether it is new.
    ///
    /// # Errors
    /// When the database refuses.
    pub async fn put_finding(&self, f: &Finding, now: Timestamp) -> Result<bool> {
        let mut t = self.write.begin().await?;
        let known: Option<i64> = sqlx::query_scalar("SELECT 1 FROM findings WHERE id = ?1").bind(&f.id).fetch_optional(&mut *t).await?;
        sqlx::query(
            "INSERT INTO findings (id, kind, rank, machine, person, session, first, last, body, raised)
             VALUES (?1, ?2, ?3, ?4, ?5, ?6, ?7, ?8, ?9, ?10)
             ON CONFLICT (id) DO UPDATE SET last = excluded.last, body = excluded.body WHERE excluded.last > findings.last",
        )
        .bind(&f.id)
        .bind(f.kind.word())
        .bind(f.importance as i64)
        .bind(&f.machine)
        .bind(&f.person)
        .bind(&f.session)
        .bind(ms(f.first))
        .bind(ms(f.last))
        .bind(serde_json::to_string(f)?)
        .bind(ms(now))
        .execute(&mut *t)
        .await?;
        t.commit().await?;
        Ok(known.is_none())
    }

    /// One finding.
    ///
    /// # Errors
    /// When the database refuses.
    pub async fn finding(&self, id: &str) -> Result<Option<Finding>> {
        let body: Option<String> =
            sqlx::query_scalar("SELECT body FROM findings WHERE id = ?1").bind(id).fetch_optional(&self.read).await?;
        Ok(body.map(|b| serde_json::from_str(&b)).transpose()?)
    }

    /// Findings, newest first.
    ///
    /// # Errors
    /// When the database refuses.
    pub async fn findings(&self, f: &FindingFilter) -> Result<Vec<Finding>> {
        let (before_at, before_id) = f.before.as_ref().map_or((i64::MAX, ""), |(t, id)| (ms(*t), id.as_str()));
        let bodies: Vec<String> = sqlx::query_scalar(
            "SELECT body FROM findings
             WHERE (last, id) < (?1, ?2)
               AND (?3 IS NULL OR kind = ?3)
               AND (?4 IS NULL OR session = ?4)
               AND (?5 IS NULL OR machine = ?5)
               AND (?6 IS NULL OR body LIKE ?6 ESCAPE '\\')
             ORDER BY last DESC, id DESC LIMIT ?7",
        )
        .bind(before_at)
        .bind(before_id)
        .bind(&f.kind)
        .bind(&f.session)
        .bind(&f.machine)
        .bind(f.text.as_deref().map(like))
        .bind(i64::from(f.limit))
        .fetch_all(&self.read)
        .await?;
        bodies.iter().map(|b| Ok(serde_json::from_str(b)?)).collect()
    }

    /// How many findings there are, and how many were last seen since an instant.
    ///
    /// # Errors
    /// When the database refuses.
    pub async fn count_findings(&self, since: Timestamp) -> Result<(u64, u64)> {
        let (all, new): (i64, i64) = sqlx::query_as("SELECT count(*), count(*) FILTER (WHERE last >= ?1) FROM findings")
            .bind(ms(since))
            .fetch_one(&self.read)
            .await?;
        Ok((all.try_into().unwrap_or(0), new.try_into().unwrap_or(0)))
    }
}
