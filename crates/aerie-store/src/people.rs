use crate::{Result, Store, at, ms};
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
    /// When the password was set; the epoch where that is not known.
    pub password_set: Timestamp,
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
        type Row = (Option<String>, Option<Vec<u8>>, i64, i64);
        let row: Option<Row> = sqlx::query_as("SELECT password_hash, totp, totp_step, password_set FROM people WHERE name = ?1")
            .bind(name)
            .fetch_optional(&self.read)
            .await?;
        Ok(row.map(|(password_hash, totp, step, set)| Credentials {
            password_hash,
            totp,
            totp_step: step.try_into().unwrap_or(0),
            password_set: at(set),
        }))
    }

    /// Sets the password hash, or takes the password away.
    ///
    /// # Errors
    /// When the database refuses.
    pub async fn set_password(&self, name: &str, hash: Option<&str>, now: Timestamp) -> Result<()> {
        sqlx::query("UPDATE people SET password_hash = ?2, password_set = ?3 WHERE name = ?1")
            .bind(name)
            .bind(hash)
            .bind(ms(now))
            .execute(&self.write)
            .await?;
        Ok(())
    }

    /// Puts a hash of the same password with other parameters in place of the one that it was checked against.
    ///
    /// # Errors
    /// When the database refuses.
    pub async fn renew_password_hash(&self, name: &str, before: &str, after: &str) -> Result<()> {
        sqlx::query("UPDATE people SET password_hash = ?3 WHERE name = ?1 AND password_hash = ?2")
            .bind(name)
            .bind(before)
            .bind(after)
            .execute(&self.write)
            .await?;
        Ok(())
    }

    /// Sets the sealed TOTP secret, or takes it away. The step of the code that proved it is used up.
    ///
    /// # Errors
    /// When the database refuses.
    pub async fn set_totp(&self, name: &str, sealed: Option<&[u8]>, step: u64) -> Result<()> {
        sqlx::query("UPDATE people SET totp = ?2, totp_step = ?3 WHERE name = ?1")
            .bind(name)
            .bind(sealed)
            .bind(i64::try_from(step).unwrap_or(i64::MAX))
            .execute(&self.write)
            .await?;
        Ok(())
    }

    /// Every sealed TOTP secret, to be sealed anew.
    ///
    /// # Errors
    /// When the database refuses.
    pub async fn totp_secrets(&self) -> Result<Vec<(String, Vec<u8>)>> {
        Ok(sqlx::query_as("SELECT name, totp FROM people WHERE totp IS NOT NULL").fetch_all(&self.read).await?)
    }

    /// Puts the same secret, sealed anew, in place of the one that it was.
    ///
    /// # Errors
    /// When the database refuses.
    pub async fn reseal_totp(&self, name: &str, before: &[u8], after: &[u8]) -> Result<()> {
        sqlx::query("UPDATE people SET totp = ?3 WHERE name = ?1 AND totp = ?2")
            .bind(name)
            .bind(before)
            .bind(after)
            .execute(&self.write)
            .await?;
        Ok(())
    }

    /// Whether somebody had that name who was removed.
    ///
    /// # Errors
    /// When the database refuses.
    pub async fn was_removed(&self, name: &str) -> Result<bool> {
        let found: Option<i64> =
            sqlx::query_scalar("SELECT removed FROM removed_people WHERE name = ?1").bind(name).fetch_optional(&self.read).await?;
        Ok(found.is_some())
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
}
