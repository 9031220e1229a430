use crate::{Result, Store, at, ms};
use jiff::Timestamp;
use sqlx::Row as _;
use sqlx::sqlite::SqliteRow;

/// A published rule document.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct PolicyVersion {
    /// Number, from 1.
    pub version: i64,
    /// The document.
    pub text: String,
    /// When it was published.
    pub published_at: Timestamp,
    /// By whom.
    pub published_by: String,
    /// The second person who agreed to it.
    pub agreed_by: Option<String>,
    /// What was said of it.
    pub note: String,
    /// The earlier version that it brought back.
    pub restored: Option<i64>,
}

/// A document that is to be published.
#[derive(Debug, Clone, Copy, Default)]
pub struct Publication<'a> {
    /// The document.
    pub text: &'a str,
    /// By whom.
    pub by: &'a str,
    /// The version that it was written against; none where it does not matter.
    pub after: Option<i64>,
    /// The second person who agreed to it.
    pub agreed_by: Option<&'a str>,
    /// What is said of it.
    pub note: &'a str,
    /// The earlier version that it brings back.
    pub restored: Option<i64>,
}

fn row(r: &SqliteRow) -> Result<PolicyVersion, sqlx::Error> {
    Ok(PolicyVersion {
        version: r.try_get("version")?,
        text: r.try_get("text")?,
        published_at: at(r.try_get("published_at")?),
        published_by: r.try_get("published_by")?,
        agreed_by: r.try_get("agreed_by")?,
        note: r.try_get("note")?,
        restored: r.try_get("restored")?,
    })
}

impl Store {
    /// Every version, oldest first.
    ///
    /// # Errors
    /// When the database refuses.
    pub async fn policies(&self) -> Result<Vec<PolicyVersion>> {
        let rows = sqlx::query("SELECT * FROM policies ORDER BY version").fetch_all(&self.read).await?;
        Ok(rows.iter().map(row).collect::<Result<_, _>>()?)
    }

    /// The newest version.
    ///
    /// # Errors
    /// When the database refuses.
    pub async fn newest_policy(&self) -> Result<Option<PolicyVersion>> {
        let found = sqlx::query("SELECT * FROM policies ORDER BY version DESC LIMIT 1").fetch_optional(&self.read).await?;
        Ok(found.as_ref().map(row).transpose()?)
    }

    /// One version.
    ///
    /// # Errors
    /// When the database refuses.
    pub async fn policy_version(&self, version: i64) -> Result<Option<PolicyVersion>> {
        let found = sqlx::query("SELECT * FROM policies WHERE version = ?1").bind(version).fetch_optional(&self.read).await?;
        Ok(found.as_ref().map(row).transpose()?)
    }

    /// Publishes a document and returns its version; none where another was published since the one it was written against.
    ///
    /// # Errors
    /// When the database refuses.
    pub async fn publish_policy(&self, p: Publication<'_>, now: Timestamp) -> Result<Option<i64>> {
        let version: Option<i64> = sqlx::query_scalar(
            "INSERT INTO policies (version, text, published_at, published_by, agreed_by, note, restored)
             SELECT coalesce(max(version), 0) + 1, ?1, ?2, ?3, ?5, ?6, ?7 FROM policies
             HAVING ?4 IS NULL OR coalesce(max(version), 0) = ?4
             RETURNING version",
        )
        .bind(p.text)
        .bind(ms(now))
        .bind(p.by)
        .bind(p.after)
        .bind(p.agreed_by)
        .bind(p.note)
        .bind(p.restored)
        .fetch_optional(&self.write)
        .await?;
        Ok(version)
    }
}
