use crate::{Result, Store, at, ms};
use jiff::Timestamp;

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
}

impl Store {
    /// Every version, oldest first.
    ///
    /// # Errors
    /// When the database refuses.
    pub async fn policies(&self) -> Result<Vec<PolicyVersion>> {
        let rows: Vec<(i64, String, i64, String)> =
            sqlx::query_as("SELECT version, text, published_at, published_by FROM policies ORDER BY version").fetch_all(&self.read).await?;
        Ok(rows
            .into_iter()
            .map(|(version, text, published, published_by)| PolicyVersion { version, text, published_at: at(published), published_by })
            .collect())
    }

    /// Publishes a document and returns its version. `after` is the version that it was written against: none comes back
    /// where another was published since.
    ///
    /// # Errors
    /// When the database refuses.
    pub async fn publish_policy(&self, text: &str, by: &str, now: Timestamp, after: Option<i64>) -> Result<Option<i64>> {
        let version: Option<i64> = sqlx::query_scalar(
            "INSERT INTO policies (version, text, published_at, published_by)
             SELECT coalesce(max(version), 0) + 1, ?1, ?2, ?3 FROM policies
             HAVING ?4 IS NULL OR coalesce(max(version), 0) = ?4
             RETURNING version",
        )
        .bind(text)
        .bind(ms(now))
        .bind(by)
        .bind(after)
        .fetch_optional(&self.write)
        .await?;
        Ok(version)
    }
}
