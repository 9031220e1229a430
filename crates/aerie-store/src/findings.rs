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

/// A finding as it is kept.
#[derive(Debug, Clone)]
pub struct KeptFinding {
    /// What was found.
    pub finding: Finding,
    /// How it was settled; none while it is open.
    pub settled: Option<Settled>,
}

/// How a finding was settled.
#[derive(Debug, Clone)]
pub struct Settled {
    /// When.
    pub at: Timestamp,
    /// By whom.
    pub by: String,
    /// Why.
    pub why: String,
}

type Row = (String, Option<i64>, Option<String>, Option<String>);

fn kept((body, at, by, why): Row) -> Result<KeptFinding> {
    let settled = at.map(|t| Settled { at: crate::at(t), by: by.unwrap_or_default(), why: why.unwrap_or_default() });
    Ok(KeptFinding { finding: serde_json::from_str(&body)?, settled })
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
             ON CONFLICT (id) DO UPDATE SET last = excluded.last, body = excluded.body, settled = NULL WHERE excluded.last > findings.last",
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
    pub async fn finding(&self, id: &str) -> Result<Option<KeptFinding>> {
        let row: Option<Row> = sqlx::query_as("SELECT body, settled, settled_by, settled_why FROM findings WHERE id = ?1")
            .bind(id)
            .fetch_optional(&self.read)
            .await?;
        row.map(kept).transpose()
    }

    /// Findings, newest first.
    ///
    /// # Errors
    /// When the database refuses.
    pub async fn findings(&self, f: &FindingFilter) -> Result<Vec<KeptFinding>> {
        let (before_at, before_id) = f.before.as_ref().map_or((i64::MAX, ""), |(t, id)| (ms(*t), id.as_str()));
        let rows: Vec<Row> = sqlx::query_as(
            "SELECT body, settled, settled_by, settled_why FROM findings
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
        rows.into_iter().map(kept).collect()
    }

    /// Settles a finding, so that it is no longer open; false where there is none that is.
    ///
    /// # Errors
    /// When the database refuses.
    pub async fn settle_finding(&self, id: &str, by: &str, why: &str, now: Timestamp) -> Result<bool> {
        let done = sqlx::query("UPDATE findings SET settled = ?2, settled_by = ?3, settled_why = ?4 WHERE id = ?1 AND settled IS NULL")
            .bind(id)
            .bind(ms(now))
            .bind(by)
            .bind(why)
            .execute(&self.write)
            .await?;
        Ok(done.rows_affected() == 1)
    }

    /// How many findings are open, and how many of them were last seen since an instant.
    ///
    /// # Errors
    /// When the database refuses.
    pub async fn count_findings(&self, since: Timestamp) -> Result<(u64, u64)> {
        let (all, new): (i64, i64) =
            sqlx::query_as("SELECT count(*), count(*) FILTER (WHERE last >= ?1) FROM findings WHERE settled IS NULL")
                .bind(ms(since))
                .fetch_one(&self.read)
                .await?;
        Ok((all.try_into().unwrap_or(0), new.try_into().unwrap_or(0)))
    }
}
