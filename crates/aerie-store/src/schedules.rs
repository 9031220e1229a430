use crate::{Result, Store, at, ms};
use aerie_core::audit::Schedule;
use jiff::Timestamp;

/// A report that is mailed now and then, as it is kept.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct KeptSchedule {
    /// Identifier.
    pub id: String,
    /// What, when and to whom.
    pub schedule: Schedule,
    /// Who made it.
    pub by: String,
    /// When.
    pub made: Timestamp,
    /// When it is mailed next.
    pub next: Timestamp,
    /// When it was mailed last.
    pub last: Option<Timestamp>,
}

impl Store {
    /// Keeps a schedule.
    ///
    /// # Errors
    /// When the database refuses.
    pub async fn put_schedule(&self, kept: &KeptSchedule) -> Result<()> {
        sqlx::query("INSERT INTO report_schedules (id, body, by, made, next) VALUES (?1, ?2, ?3, ?4, ?5)")
            .bind(&kept.id)
            .bind(serde_json::to_string(&kept.schedule)?)
            .bind(&kept.by)
            .bind(ms(kept.made))
            .bind(ms(kept.next))
            .execute(&self.write)
            .await?;
        Ok(())
    }

    /// Every schedule, the next to come first.
    ///
    /// # Errors
    /// When the database refuses.
    pub async fn schedules(&self) -> Result<Vec<KeptSchedule>> {
        let rows: Vec<(String, String, String, i64, i64, Option<i64>)> =
            sqlx::query_as("SELECT id, body, by, made, next, last FROM report_schedules ORDER BY next, id").fetch_all(&self.read).await?;
        rows.into_iter()
            .map(|(id, body, by, made, next, last)| {
                Ok(KeptSchedule { id, schedule: serde_json::from_str(&body)?, by, made: at(made), next: at(next), last: last.map(at) })
            })
            .collect()
    }

    /// Notes that a report was mailed, and when it is next. False where it was done in between, or is gone.
    ///
    /// # Errors
    /// When the database refuses.
    pub async fn reported(&self, kept: &KeptSchedule, now: Timestamp, next: Timestamp) -> Result<bool> {
        let done = sqlx::query("UPDATE report_schedules SET last = ?3, next = ?4 WHERE id = ?1 AND next = ?2")
            .bind(&kept.id)
            .bind(ms(kept.next))
            .bind(ms(now))
            .bind(ms(next))
            .execute(&self.write)
            .await?;
        Ok(done.rows_affected() == 1)
    }

    /// Ends a schedule; false where there is none.
    ///
    /// # Errors
    /// When the database refuses.
    pub async fn remove_schedule(&self, id: &str) -> Result<bool> {
        let done = sqlx::query("DELETE FROM report_schedules WHERE id = ?1").bind(id).execute(&self.write).await?;
        Ok(done.rows_affected() == 1)
    }
}
