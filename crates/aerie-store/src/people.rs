use crate::{Result, Store, ms};
use aerie_core::directory::Person;
use jiff::Timestamp;

/// What somebody signs in with, as it is kept.
#[derive(Debug, Clone, Default)]
pub struct Credentials {
    /// Argon2id, in PHC string form.
    pub password_hash: Option<String>,
    /// TOTP secret, sealed under the master key.
    pub totp: Option<Vec<u8>>,
    /// Step of the last code that was accepted.
    pub totp_step: u64,
    /// Failures since the last success.
    pub failures: u32,
    /// Nothing is tried before this instant (milliseconds since the epoch).
    pub retry_at: i64,
}

impl Store {
    /// Everybody.
    ///
    /// # Errors
    /// When the database refuses or holds what this version does not write.
    pub async fn people(&self) -> Result<Vec<Person>> {
        let bodies: Vec<String> = sqlx::query_scalar("SELECT body FROM people ORDER BY name").fetch_all(&self.read).await?;
        bodies.iter().map(|b| Ok(serde_json::from_str(b)?)).collect()
    }

    /// Adds or changes somebody; credentials stay.
    ///
    /// # Errors
    /// When the database refuses.
    pub async fn put_person(&self, person: &Person) -> Result<()> {
        sqlx::query("INSERT INTO people (name, body) VALUES (?1, ?2) ON CONFLICT (name) DO UPDATE SET body = excluded.body")
            .bind(&person.name)
            .bind(serde_json::to_string(person)?)
            .execute(&self.write)
            .await?;
        Ok(())
    }

    /// What somebody signs in with.
    ///
    /// # Errors
    /// When the database refuses.
    pub async fn credentials(&self, name: &str) -> Result<Option<Credentials>> {
        type Row = (Option<String>, Option<Vec<u8>>, i64, i64, i64);
        let row: Option<Row> = sqlx::query_as("SELECT password_hash, totp, totp_step, failures, retry_at FROM people WHERE name = ?1")
            .bind(name)
            .fetch_optional(&self.read)
            .await?;
        Ok(row.map(|(password_hash, totp, step, failures, retry_at)| Credentials {
            password_hash,
            totp,
            totp_step: step.try_into().unwrap_or(0),
            failures: failures.try_into().unwrap_or(u32::MAX),
            retry_at,
        }))
    }

    /// Sets the password hash.
    ///
    /// # Errors
    /// When the database refuses.
    pub async fn set_password(&self, name: &str, hash: &str) -> Result<()> {
        sqlx::query("UPDATE people SET password_hash = ?2 WHERE name = ?1").bind(name).bind(hash).execute(&self.write).await?;
        Ok(())
    }

    /// Sets the sealed TOTP secret.
    ///
    /// # Errors
    /// When the database refuses.
    pub async fn set_totp(&self, name: &str, sealed: &[u8]) -> Result<()> {
        sqlx::query("UPDATE people SET totp = ?2, totp_step = 0 WHERE name = ?1").bind(name).bind(sealed).execute(&self.write).await?;
        Ok(())
    }

    /// Uses up a code: true for the first that asks with this step or a later one, in one statement, so that a code is good
    /// once even when it is tried twice at the same moment.
    ///
    /// # Errors
    /// When the database refuses.
    pub async fn use_totp_step(&self, name: &str, step: u64) -> Result<bool> {
        let done = sqlx::query("UPDATE people SET totp_step = ?2 WHERE name = ?1 AND totp_step < ?2")
            .bind(name)
            .bind(i64::try_from(step).unwrap_or(i64::MAX))
            .execute(&self.write)
            .await?;
        Ok(done.rows_affected() == 1)
    }

    /// Notes a failure, and until when nothing more is tried.
    ///
    /// # Errors
    /// When the database refuses.
    pub async fn note_failure(&self, name: &str, retry_at: Timestamp) -> Result<()> {
        sqlx::query("UPDATE people SET failures = failures + 1, retry_at = ?2 WHERE name = ?1")
            .bind(name)
            .bind(ms(retry_at))
            .execute(&self.write)
            .await?;
        Ok(())
    }

    /// Forgets the failures.
    ///
    /// # Errors
    /// When the database refuses.
    pub async fn clear_failures(&self, name: &str) -> Result<()> {
        sqlx::query("UPDATE people SET failures = 0, retry_at = 0 WHERE name = ?1 AND failures > 0")
            .bind(name)
            .execute(&self.write)
            .await?;
        Ok(())
    }
}
