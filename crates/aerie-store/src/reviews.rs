use crate::{Result, Store, at, ms};
use jiff::Timestamp;
use sqlx::Row as _;
use sqlx::sqlite::SqliteRow;

/// A review of who has access.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Review {
    /// Identifier.
    pub id: String,
    /// What it is about.
    pub title: String,
    /// Selector of the people in scope.
    pub people: String,
    /// Selector of the machines in scope.
    pub machines: String,
    /// When it is due.
    pub deadline: Timestamp,
    /// When it was begun.
    pub created: Timestamp,
    /// By whom.
    pub created_by: String,
    /// Version of the rules that is reviewed.
    pub policy_version: i64,
    /// When the owners were last reminded.
    pub reminded: Option<Timestamp>,
    /// When it was closed, and by whom.
    pub closed: Option<(Timestamp, String)>,
}

/// One permission under review.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct ReviewEntry {
    /// Number within the review, from 1.
    pub n: i64,
    /// Whose.
    pub person: String,
    /// The rule that gives it.
    pub rule: String,
    /// Where.
    pub machines: Vec<String>,
    /// What, as words.
    pub capabilities: String,
    /// Who may decide besides administrators.
    pub owners: Vec<String>,
    /// `keep` or `withdraw`.
    pub decision: Option<String>,
    /// By whom.
    pub decided_by: Option<String>,
    /// When.
    pub decided_at: Option<Timestamp>,
    /// What was said of it.
    pub note: String,
}

fn review(r: &SqliteRow) -> Result<Review, sqlx::Error> {
    let closed: Option<i64> = r.try_get("closed")?;
    let closed_by: Option<String> = r.try_get("closed_by")?;
    Ok(Review {
        id: r.try_get("id")?,
        title: r.try_get("title")?,
        people: r.try_get("people")?,
        machines: r.try_get("machines")?,
        deadline: at(r.try_get("deadline")?),
        created: at(r.try_get("created")?),
        created_by: r.try_get("created_by")?,
        policy_version: r.try_get("policy_version")?,
        reminded: r.try_get::<Option<i64>, _>("reminded")?.map(at),
        closed: closed.map(at).zip(closed_by),
    })
}

fn entry(r: &SqliteRow) -> Result<ReviewEntry> {
    let list = |column: &str| -> Result<Vec<String>> { Ok(serde_json::from_str(&r.try_get::<String, _>(column)?)?) };
    Ok(ReviewEntry {
        n: r.try_get("n")?,
        person: r.try_get("person")?,
        rule: r.try_get("rule")?,
        machines: list("machines")?,
        capabilities: r.try_get("capabilities")?,
        owners: list("owners")?,
        decision: r.try_get("decision")?,
        decided_by: r.try_get("decided_by")?,
        decided_at: r.try_get::<Option<i64>, _>("decided_at")?.map(at),
        note: r.try_get("note")?,
    })
}

impl Store {
    /// Every review, newest first.
    ///
    /// # Errors
    /// When the database refuses.
    pub async fn reviews(&self) -> Result<Vec<Review>> {
        let rows = sqlx::query("SELECT * FROM reviews ORDER BY created DESC, id DESC").fetch_all(&self.read).await?;
        Ok(rows.iter().map(review).collect::<Result<_, _>>()?)
    }

    /// The review of that identifier.
    ///
    /// # Errors
    /// When the database refuses.
    pub async fn review(&self, id: &str) -> Result<Option<Review>> {
        let found = sqlx::query("SELECT * FROM reviews WHERE id = ?1").bind(id).fetch_optional(&self.read).await?;
        Ok(found.as_ref().map(review).transpose()?)
    }

    /// The entries of a review, in order.
    ///
    /// # Errors
    /// When the database refuses.
    pub async fn review_entries(&self, id: &str) -> Result<Vec<ReviewEntry>> {
        let rows = sqlx::query("SELECT * FROM review_entries WHERE review = ?1 ORDER BY n").bind(id).fetch_all(&self.read).await?;
        rows.iter().map(entry).collect()
    }

    /// Begins a review, in one step.
    ///
    /// # Errors
    /// When the database refuses.
    pub async fn add_review(&self, r: &Review, entries: &[ReviewEntry]) -> Result<()> {
        let mut work = self.write.begin().await?;
        sqlx::query(
            "INSERT INTO reviews (id, title, people, machines, deadline, created, created_by, policy_version) VALUES (?1, ?2, ?3, ?4, ?5, ?6, ?7, ?8)",
        )
        .bind(&r.id)
        .bind(&r.title)
        .bind(&r.people)
        .bind(&r.machines)
        .bind(ms(r.deadline))
        .bind(ms(r.created))
        .bind(&r.created_by)
        .bind(r.policy_version)
        .execute(&mut *work)
        .await?;
        for e in entries {
            sqlx::query(
                "INSERT INTO review_entries (review, n, person, rule, machines, capabilities, owners) VALUES (?1, ?2, ?3, ?4, ?5, ?6, ?7)",
            )
            .bind(&r.id)
            .bind(e.n)
            .bind(&e.person)
            .bind(&e.rule)
            .bind(serde_json::to_string(&e.machines)?)
            .bind(&e.capabilities)
            .bind(serde_json::to_string(&e.owners)?)
            .execute(&mut *work)
            .await?;
        }
        work.commit().await?;
        Ok(())
    }

    /// Keeps a decision on an entry of an open review; false where there is none.
    ///
    /// # Errors
    /// When the database refuses.
    pub async fn decide_entry(&self, id: &str, e: &ReviewEntry) -> Result<bool> {
        let done = sqlx::query(
            "UPDATE review_entries SET decision = ?3, decided_by = ?4, decided_at = ?5, note = ?6
             WHERE review = ?1 AND n = ?2 AND (SELECT closed FROM reviews WHERE id = ?1) IS NULL",
        )
        .bind(id)
        .bind(e.n)
        .bind(&e.decision)
        .bind(&e.decided_by)
        .bind(e.decided_at.map(ms))
        .bind(&e.note)
        .execute(&self.write)
        .await?;
        Ok(done.rows_affected() == 1)
    }

    /// Notes that the owners were reminded.
    ///
    /// # Errors
    /// When the database refuses.
    pub async fn remind_review(&self, id: &str, now: Timestamp) -> Result<()> {
        sqlx::query("UPDATE reviews SET reminded = ?2 WHERE id = ?1").bind(id).bind(ms(now)).execute(&self.write).await?;
        Ok(())
    }

    /// Closes a review; false where it is closed already.
    ///
    /// # Errors
    /// When the database refuses.
    pub async fn close_review(&self, id: &str, by: &str, now: Timestamp) -> Result<bool> {
        let done = sqlx::query("UPDATE reviews SET closed = ?3, closed_by = ?2 WHERE id = ?1 AND closed IS NULL")
            .bind(id)
            .bind(by)
            .bind(ms(now))
            .execute(&self.write)
            .await?;
        Ok(done.rows_affected() == 1)
    }
}
