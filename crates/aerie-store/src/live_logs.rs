use crate::{Result, Store, at, ms};
use aerie_core::audit::Pulse;
use jiff::{SignedDuration, Timestamp};

/// Machines whose logs come in, which are remembered.
const MOST: i64 = 100_000;

impl Store {
    /// How the logs of machines come in.
    ///
    /// # Errors
    /// When the database refuses.
    pub async fn pulses(&self) -> Result<Vec<(String, Pulse)>> {
        let rows: Vec<(String, i64, i64, i64)> =
            sqlx::query_as("SELECT machine, first, last, longest FROM live_logs ORDER BY machine").fetch_all(&self.read).await?;
        let pulse = |first, last, longest| Pulse { first: at(first), last: at(last), longest: SignedDuration::from_millis(longest) };
        Ok(rows.into_iter().map(|(machine, first, last, longest)| (machine, pulse(first, last, longest))).collect())
    }

    /// Keeps that lines of these machines came in.
    ///
    /// # Errors
    /// When the database refuses.
    pub async fn put_pulses(&self, machines: &[String], now: Timestamp) -> Result<()> {
        let mut t = self.write.begin().await?;
        for machine in machines {
            let known: Option<(i64, i64, i64)> = sqlx::query_as("SELECT first, last, longest FROM live_logs WHERE machine = ?1")
                .bind(machine)
                .fetch_optional(&mut *t)
                .await?;
            let mut pulse = match known {
                Some((first, last, longest)) => Pulse { first: at(first), last: at(last), longest: SignedDuration::from_millis(longest) },
                None => Pulse::begin(now),
            };
            pulse.handle(now);
            sqlx::query(
                "INSERT INTO live_logs (machine, first, last, longest) SELECT ?1, ?2, ?3, ?4 WHERE (SELECT count(*) FROM live_logs) < ?5
                 OR EXISTS (SELECT 1 FROM live_logs WHERE machine = ?1)
                 ON CONFLICT (machine) DO UPDATE SET last = excluded.last, longest = excluded.longest",
            )
            .bind(machine)
            .bind(ms(pulse.first))
            .bind(ms(pulse.last))
            .bind(i64::try_from(pulse.longest.as_millis()).unwrap_or(i64::MAX))
            .bind(MOST)
            .execute(&mut *t)
            .await?;
        }
        Ok(t.commit().await?)
    }

    /// How far the log that a machine's agent sends was taken; empty where nothing was.
    ///
    /// # Errors
    /// When the database refuses.
    pub async fn log_cursor(&self, machine: &str) -> Result<String> {
        let cursor: Option<String> =
            sqlx::query_scalar("SELECT cursor FROM live_logs WHERE machine = ?1").bind(machine).fetch_optional(&self.read).await?;
        Ok(cursor.unwrap_or_default())
    }

    /// Keeps how far it was taken.
    ///
    /// # Errors
    /// When the database refuses.
    pub async fn put_log_cursor(&self, machine: &str, cursor: &str, now: Timestamp) -> Result<()> {
        sqlx::query(
            "INSERT INTO live_logs (machine, first, last, longest, cursor) VALUES (?1, ?2, ?2, 0, ?3)
             ON CONFLICT (machine) DO UPDATE SET cursor = excluded.cursor",
        )
        .bind(machine)
        .bind(ms(now))
        .bind(cursor)
        .execute(&self.write)
        .await?;
        Ok(())
    }
}
