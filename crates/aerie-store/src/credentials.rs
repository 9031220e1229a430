//! What people sign in with, besides what is in their own row.

use crate::{Result, Store, at, ms};
use jiff::Timestamp;
use sqlx::Row as _;
use sqlx::sqlite::SqliteRow;

/// A passkey or security key.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Passkey {
    /// Identifier that the authenticator chose.
    pub id: Vec<u8>,
    /// Whose.
    pub person: String,
    /// Whether it verifies its user (a passkey) or is touched only (a security key).
    pub verifies: bool,
    /// What its owner calls it.
    pub label: String,
    /// Whether it cannot leave its device.
    pub bound: bool,
    /// What checking it needs, as JSON.
    pub body: String,
    /// When it was enrolled.
    pub created: Timestamp,
    /// When it was last used.
    pub last_used: Option<Timestamp>,
    /// From where.
    pub last_from: Option<String>,
}

fn passkey(row: &SqliteRow) -> Result<Passkey, sqlx::Error> {
    Ok(Passkey {
        id: row.try_get("id")?,
        person: row.try_get("person")?,
        verifies: row.try_get::<String, _>("kind")? == "passkey",
        label: row.try_get("label")?,
        bound: row.try_get("bound")?,
        body: row.try_get("body")?,
        created: at(row.try_get("created")?),
        last_used: row.try_get::<Option<i64>, _>("last_used")?.map(at),
        last_from: row.try_get("last_from")?,
    })
}

/// A link that is good once.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Invitation {
    /// For whom; empty for the one that makes the first administrator.
    pub person: String,
    /// Who made it.
    pub created_by: String,
    /// When it ends.
    pub expires: Timestamp,
}

impl Store {
    /// Somebody's passkeys and security keys.
    ///
    /// # Errors
    /// When the database refuses.
    pub async fn passkeys(&self, person: &str) -> Result<Vec<Passkey>> {
        let rows = sqlx::query("SELECT * FROM passkeys WHERE person = ?1 ORDER BY created, id").bind(person).fetch_all(&self.read).await?;
        rows.iter().map(|r| Ok(passkey(r)?)).collect()
    }

    /// The passkey of that identifier.
    ///
    /// # Errors
    /// When the database refuses.
    pub async fn passkey(&self, id: &[u8]) -> Result<Option<Passkey>> {
        let row = sqlx::query("SELECT * FROM passkeys WHERE id = ?1").bind(id).fetch_optional(&self.read).await?;
        Ok(row.as_ref().map(passkey).transpose()?)
    }

    /// Adds a passkey; false where one of that identifier is there.
    ///
    /// # Errors
    /// When the database refuses.
    pub async fn add_passkey(&self, p: &Passkey) -> Result<bool> {
        let done = sqlx::query(
            "INSERT INTO passkeys (id, person, kind, label, bound, body, created) VALUES (?1, ?2, ?3, ?4, ?5, ?6, ?7) ON CONFLICT (id) DO NOTHING",
        )
        .bind(&p.id)
        .bind(&p.person)
        .bind(if p.verifies { "passkey" } else { "security-key" })
        .bind(&p.label)
        .bind(p.bound)
        .bind(&p.body)
        .bind(ms(p.created))
        .execute(&self.write)
        .await?;
        Ok(done.rows_affected() == 1)
    }

    /// Notes a use of a passkey, with what checking it changed.
    ///
    /// # Errors
    /// When the database refuses.
    pub async fn use_passkey(&self, id: &[u8], body: &str, now: Timestamp, from: &str) -> Result<()> {
        sqlx::query("UPDATE passkeys SET body = ?2, last_used = ?3, last_from = ?4 WHERE id = ?1")
            .bind(id)
            .bind(body)
            .bind(ms(now))
            .bind(from)
            .execute(&self.write)
            .await?;
        Ok(())
    }

    /// Gives a passkey another name; false where it is not that person's.
    ///
    /// # Errors
    /// When the database refuses.
    pub async fn name_passkey(&self, person: &str, id: &[u8], label: &str) -> Result<bool> {
        let done = sqlx::query("UPDATE passkeys SET label = ?3 WHERE id = ?2 AND person = ?1")
            .bind(person)
            .bind(id)
            .bind(label)
            .execute(&self.write)
            .await?;
        Ok(done.rows_affected() == 1)
    }

    /// Removes a passkey; false where it is not that person's.
    ///
    /// # Errors
    /// When the database refuses.
    pub async fn remove_passkey(&self, person: &str, id: &[u8]) -> Result<bool> {
        let done = sqlx::query("DELETE FROM passkeys WHERE id = ?2 AND person = ?1").bind(person).bind(id).execute(&self.write).await?;
        Ok(done.rows_affected() == 1)
    }

    /// Puts new recovery codes in place of all earlier ones.
    ///
    /// # Errors
    /// When the database refuses.
    pub async fn set_recovery_codes(&self, person: &str, hashes: &[[u8; 32]], now: Timestamp) -> Result<()> {
        let mut work = self.write.begin().await?;
        sqlx::query("DELETE FROM recovery_codes WHERE person = ?1").bind(person).execute(&mut *work).await?;
        for hash in hashes {
            sqlx::query("INSERT INTO recovery_codes (hash, person, created) VALUES (?1, ?2, ?3)")
                .bind(&hash[..])
                .bind(person)
                .bind(ms(now))
                .execute(&mut *work)
                .await?;
        }
        Ok(work.commit().await?)
    }

    /// Recovery codes that are left.
    ///
    /// # Errors
    /// When the database refuses.
    pub async fn recovery_codes_left(&self, person: &str) -> Result<u32> {
        let n: i64 = sqlx::query_scalar("SELECT count(*) FROM recovery_codes WHERE person = ?1 AND used IS NULL")
            .bind(person)
            .fetch_one(&self.read)
            .await?;
        Ok(n.try_into().unwrap_or(0))
    }

    /// Uses up a recovery code, in one statement; true for the first that asks.
    ///
    /// # Errors
    /// When the database refuses.
    pub async fn use_recovery_code(&self, person: &str, hashes: &[[u8; 32]], now: Timestamp) -> Result<bool> {
        for hash in hashes {
            let done = sqlx::query("UPDATE recovery_codes SET used = ?3 WHERE hash = ?2 AND person = ?1 AND used IS NULL")
                .bind(person)
                .bind(&hash[..])
                .bind(ms(now))
                .execute(&self.write)
                .await?;
            if done.rows_affected() == 1 {
                return Ok(true);
            }
        }
        Ok(false)
    }

    /// Sets somebody's temporary code; an earlier one is dead.
    ///
    /// # Errors
    /// When the database refuses.
    pub async fn set_temporary_code(&self, person: &str, hash: &[u8; 32], by: &str, now: Timestamp, expires: Timestamp) -> Result<()> {
        sqlx::query("INSERT OR REPLACE INTO temporary_codes (person, hash, issued, issued_by, expires) VALUES (?1, ?2, ?3, ?4, ?5)")
            .bind(person)
            .bind(&hash[..])
            .bind(ms(now))
            .bind(by)
            .bind(ms(expires))
            .execute(&self.write)
            .await?;
        Ok(())
    }

    /// Uses up somebody's temporary code, in one statement. One that seems to be issued in the future is dead: the clock went
    /// back.
    ///
    /// # Errors
    /// When the database refuses.
    pub async fn use_temporary_code(&self, person: &str, hashes: &[[u8; 32]], now: Timestamp) -> Result<bool> {
        for hash in hashes {
            let done = sqlx::query("DELETE FROM temporary_codes WHERE person = ?1 AND hash = ?2 AND expires > ?3 AND issued <= ?3 + 60000")
                .bind(person)
                .bind(&hash[..])
                .bind(ms(now))
                .execute(&self.write)
                .await?;
            if done.rows_affected() == 1 {
                return Ok(true);
            }
        }
        Ok(false)
    }

    /// Adds an invitation; an earlier one of the same person is dead.
    ///
    /// # Errors
    /// When the database refuses.
    pub async fn invite(&self, hash: &[u8; 32], invitation: &Invitation, now: Timestamp) -> Result<()> {
        let mut work = self.write.begin().await?;
        sqlx::query("DELETE FROM invitations WHERE person = ?1").bind(&invitation.person).execute(&mut *work).await?;
        sqlx::query("INSERT INTO invitations (hash, person, created, created_by, expires) VALUES (?1, ?2, ?3, ?4, ?5)")
            .bind(&hash[..])
            .bind(&invitation.person)
            .bind(ms(now))
            .bind(&invitation.created_by)
            .bind(ms(invitation.expires))
            .execute(&mut *work)
            .await?;
        Ok(work.commit().await?)
    }

    /// The invitation with one of these hashes, while it is good.
    ///
    /// # Errors
    /// When the database refuses.
    pub async fn invitation(&self, hashes: &[[u8; 32]], now: Timestamp) -> Result<Option<Invitation>> {
        for hash in hashes {
            let row: Option<(String, String, i64)> = sqlx::query_as(
                "SELECT person, created_by, expires FROM invitations WHERE hash = ?1 AND expires > ?2 AND created <= ?2 + 60000",
            )
            .bind(&hash[..])
            .bind(ms(now))
            .fetch_optional(&self.read)
            .await?;
            if let Some((person, created_by, expires)) = row {
                return Ok(Some(Invitation { person, created_by, expires: at(expires) }));
            }
        }
        Ok(None)
    }

    /// Until when somebody is invited; none where they are not.
    ///
    /// # Errors
    /// When the database refuses.
    pub async fn invited_until(&self, person: &str, now: Timestamp) -> Result<Option<Timestamp>> {
        let until: Option<i64> = sqlx::query_scalar("SELECT expires FROM invitations WHERE person = ?1 AND expires > ?2")
            .bind(person)
            .bind(ms(now))
            .fetch_optional(&self.read)
            .await?;
        Ok(until.map(at))
    }

    /// Uses up an invitation; true for the first that asks.
    ///
    /// # Errors
    /// When the database refuses.
    pub async fn use_invitation(&self, hashes: &[[u8; 32]]) -> Result<bool> {
        for hash in hashes {
            if sqlx::query("DELETE FROM invitations WHERE hash = ?1").bind(&hash[..]).execute(&self.write).await?.rows_affected() == 1 {
                return Ok(true);
            }
        }
        Ok(false)
    }

    /// Notes a use of an SSH key.
    ///
    /// # Errors
    /// When the database refuses.
    pub async fn use_key(&self, fingerprint: &str, now: Timestamp, from: &str) -> Result<()> {
        sqlx::query("INSERT OR REPLACE INTO key_use (fingerprint, last_used, last_from) VALUES (?1, ?2, ?3)")
            .bind(fingerprint)
            .bind(ms(now))
            .bind(from)
            .execute(&self.write)
            .await?;
        Ok(())
    }

    /// When and from where a key was last used.
    ///
    /// # Errors
    /// When the database refuses.
    pub async fn key_use(&self, fingerprint: &str) -> Result<Option<(Timestamp, String)>> {
        let row: Option<(i64, String)> = sqlx::query_as("SELECT last_used, last_from FROM key_use WHERE fingerprint = ?1")
            .bind(fingerprint)
            .fetch_optional(&self.read)
            .await?;
        Ok(row.map(|(when, from)| (at(when), from)))
    }

    /// Notes that somebody signed in from a browser or address; of each person the newest 20 are kept.
    ///
    /// # Errors
    /// When the database refuses.
    pub async fn know_source(&self, person: &str, source: &[u8; 16], now: Timestamp) -> Result<()> {
        let mut work = self.write.begin().await?;
        sqlx::query("INSERT OR REPLACE INTO known_sources (person, source, last) VALUES (?1, ?2, ?3)")
            .bind(person)
            .bind(&source[..])
            .bind(ms(now))
            .execute(&mut *work)
            .await?;
        sqlx::query(
            "DELETE FROM known_sources WHERE person = ?1 AND source NOT IN \
             (SELECT source FROM known_sources WHERE person = ?1 ORDER BY last DESC LIMIT 20)",
        )
        .bind(person)
        .execute(&mut *work)
        .await?;
        Ok(work.commit().await?)
    }

    /// Whether somebody signed in from there since `since`.
    ///
    /// # Errors
    /// When the database refuses.
    pub async fn knows_source(&self, person: &str, source: &[u8; 16], since: Timestamp) -> Result<bool> {
        let found: Option<i64> = sqlx::query_scalar("SELECT last FROM known_sources WHERE person = ?1 AND source = ?2 AND last >= ?3")
            .bind(person)
            .bind(&source[..])
            .bind(ms(since))
            .fetch_optional(&self.read)
            .await?;
        Ok(found.is_some())
    }

    /// Forgets invitations and temporary codes that are over.
    ///
    /// # Errors
    /// When the database refuses.
    pub async fn sweep_credentials(&self, now: Timestamp) -> Result<()> {
        for table in ["DELETE FROM invitations WHERE expires <= ?1", "DELETE FROM temporary_codes WHERE expires <= ?1"] {
            sqlx::query(table).bind(ms(now)).execute(&self.write).await?;
        }
        Ok(())
    }
}
