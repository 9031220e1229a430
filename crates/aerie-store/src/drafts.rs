use crate::{Result, Store, at, ms};
use jiff::Timestamp;
use sqlx::Row as _;
use sqlx::sqlite::SqliteRow;

/// Rules that are being written.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Draft {
    /// Identifier.
    pub id: String,
    /// What it is about.
    pub title: String,
    /// The document.
    pub text: String,
    /// Version of the rules that it was written against.
    pub base: i64,
    /// Counts every change.
    pub revision: i64,
    /// Who began it.
    pub author: String,
    /// When it was begun.
    pub created: Timestamp,
    /// When it was last changed.
    pub changed: Timestamp,
    /// By whom.
    pub changed_by: String,
    /// Everybody who wrote in it.
    pub writers: Vec<String>,
    /// Who agreed to it, and to which revision.
    pub agreed: Option<(String, i64)>,
    /// The version that it became.
    pub published: Option<i64>,
}

fn row(r: &SqliteRow) -> Result<Draft, sqlx::Error> {
    let agreed_by: Option<String> = r.try_get("agreed_by")?;
    let agreed_revision: Option<i64> = r.try_get("agreed_revision")?;
    let (author, changed_by): (String, String) = (r.try_get("author")?, r.try_get("changed_by")?);
    // Drafts of an earlier version name the two alone.
    let writers: String = r.try_get("writers")?;
    let mut writers: Vec<String> = writers.split_whitespace().map(Into::into).chain([author.clone(), changed_by.clone()]).collect();
    writers.sort();
    writers.dedup();
    Ok(Draft {
        id: r.try_get("id")?,
        title: r.try_get("title")?,
        text: r.try_get("text")?,
        base: r.try_get("base")?,
        revision: r.try_get("revision")?,
        author,
        created: at(r.try_get("created")?),
        changed: at(r.try_get("changed")?),
        changed_by,
        writers,
        agreed: agreed_by.zip(agreed_revision),
        published: r.try_get("published")?,
    })
}

impl Store {
    /// Drafts that were not published, last changed first.
    ///
    /// # Errors
    /// When the database refuses.
    pub async fn drafts(&self) -> Result<Vec<Draft>> {
        let rows = sqlx::query("SELECT * FROM drafts WHERE published IS NULL ORDER BY changed DESC, id").fetch_all(&self.read).await?;
        Ok(rows.iter().map(row).collect::<Result<_, _>>()?)
    }

    /// The draft of that identifier.
    ///
    /// # Errors
    /// When the database refuses.
    pub async fn draft(&self, id: &str) -> Result<Option<Draft>> {
        let found = sqlx::query("SELECT * FROM drafts WHERE id = ?1").bind(id).fetch_optional(&self.read).await?;
        Ok(found.as_ref().map(row).transpose()?)
    }

    /// Adds a draft.
    ///
    /// # Errors
    /// When the database refuses.
    pub async fn add_draft(&self, d: &Draft) -> Result<()> {
        sqlx::query(
            "INSERT INTO drafts (id, title, text, base, revision, author, created, changed, changed_by, writers) VALUES (?1, ?2, ?3, ?4, ?5, ?6, ?7, ?8, ?9, ?6)",
        )
        .bind(&d.id)
        .bind(&d.title)
        .bind(&d.text)
        .bind(d.base)
        .bind(d.revision)
        .bind(&d.author)
        .bind(ms(d.created))
        .bind(ms(d.changed))
        .bind(&d.changed_by)
        .execute(&self.write)
        .await?;
        Ok(())
    }

    /// Changes a draft that still has that revision; false where somebody changed it in between. An agreement is lost.
    ///
    /// # Errors
    /// When the database refuses.
    pub async fn change_draft(&self, d: &Draft, revision: i64) -> Result<bool> {
        let done = sqlx::query(
            "UPDATE drafts SET title = ?3, text = ?4, base = ?5, revision = revision + 1, changed = ?6, changed_by = ?7, agreed_by = NULL,
             agreed_revision = NULL, writers = writers || ' ' || ?7 WHERE id = ?1 AND revision = ?2 AND published IS NULL",
        )
        .bind(&d.id)
        .bind(revision)
        .bind(&d.title)
        .bind(&d.text)
        .bind(d.base)
        .bind(ms(d.changed))
        .bind(&d.changed_by)
        .execute(&self.write)
        .await?;
        Ok(done.rows_affected() == 1)
    }

    /// Notes that somebody agreed to that revision; false where it was changed in between.
    ///
    /// # Errors
    /// When the database refuses.
    pub async fn agree_to_draft(&self, id: &str, by: &str, revision: i64) -> Result<bool> {
        let done =
            sqlx::query("UPDATE drafts SET agreed_by = ?2, agreed_revision = ?3 WHERE id = ?1 AND revision = ?3 AND published IS NULL")
                .bind(id)
                .bind(by)
                .bind(revision)
                .execute(&self.write)
                .await?;
        Ok(done.rows_affected() == 1)
    }

    /// Notes which version a draft became.
    ///
    /// # Errors
    /// When the database refuses.
    pub async fn close_draft(&self, id: &str, version: i64) -> Result<()> {
        sqlx::query("UPDATE drafts SET published = ?2 WHERE id = ?1").bind(id).bind(version).execute(&self.write).await?;
        Ok(())
    }

    /// Drops a draft that was not published; false where there is none.
    ///
    /// # Errors
    /// When the database refuses.
    pub async fn drop_draft(&self, id: &str) -> Result<bool> {
        let done = sqlx::query("DELETE FROM drafts WHERE id = ?1 AND published IS NULL").bind(id).execute(&self.write).await?;
        Ok(done.rows_affected() == 1)
    }
}
