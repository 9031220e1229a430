use crate::{Result, Store, at, ms};
use aerie_core::vault::{Phase, Schedule, SecretKind};
use jiff::Timestamp;
use sqlx::Row as _;
use sqlx::sqlite::SqliteRow;

/// A credential for an account of a machine, as it is kept.
#[derive(Debug, Clone)]
pub struct VaultRow {
    /// Machine.
    pub machine: String,
    /// Account on it.
    pub account: String,
    /// Password or key.
    pub kind: SecretKind,
    /// For which host key and address it was entered: what it is sealed for, too.
    pub bound: String,
    /// Sealed.
    pub current: Vec<u8>,
    /// Sealed: the next one, or the one before that is still to be taken from the machine.
    pub other: Option<Vec<u8>>,
    /// How far a change has come.
    pub phase: Phase,
    /// Account that changes a password; empty for the account itself.
    pub changer: String,
    /// When it is changed.
    pub schedule: Schedule,
    /// When it was last changed, or put in.
    pub changed: Timestamp,
    /// When it was last used or seen.
    pub used: Option<Timestamp>,
    /// When changing it last failed.
    pub failed: Option<Timestamp>,
    /// Why.
    pub failure: String,
}

/// A line of the history of a credential.
#[derive(Debug, Clone)]
pub struct VaultEntry {
    /// When.
    pub at: Timestamp,
    /// Who.
    pub by: String,
    /// What was done.
    pub what: String,
}

fn read(row: &SqliteRow) -> Result<VaultRow> {
    let odd = |what: &str| sqlx::Error::Decode(what.to_string().into());
    Ok(VaultRow {
        machine: row.try_get("machine")?,
        account: row.try_get("account")?,
        kind: SecretKind::from_word(row.try_get("kind")?).ok_or_else(|| odd("kind"))?,
        bound: row.try_get("bound")?,
        current: row.try_get("current")?,
        other: row.try_get("other")?,
        phase: Phase::from_word(row.try_get("phase")?).ok_or_else(|| odd("phase"))?,
        changer: row.try_get("changer")?,
        schedule: serde_json::from_str(row.try_get("schedule")?)?,
        changed: at(row.try_get("changed")?),
        used: row.try_get::<Option<i64>, _>("used")?.map(at),
        failed: row.try_get::<Option<i64>, _>("failed")?.map(at),
        failure: row.try_get("failure")?,
    })
}

async fn note(
    work: &mut sqlx::Transaction<'static, sqlx::Sqlite>,
    (machine, account): (&str, &str),
    by: &str,
    what: &str,
    now: Timestamp,
) -> Result<()> {
    sqlx::query("INSERT INTO vault_history (machine, account, at, by, what) VALUES (?1, ?2, ?3, ?4, ?5)")
        .bind(machine)
        .bind(account)
        .bind(ms(now))
        .bind(by)
        .bind(what)
        .execute(&mut **work)
        .await?;
    Ok(())
}

impl Store {
    /// Every credential.
    ///
    /// # Errors
    /// When the database refuses or holds what this version does not write.
    pub async fn vault(&self) -> Result<Vec<VaultRow>> {
        let rows = sqlx::query("SELECT * FROM vault ORDER BY machine, account").fetch_all(&self.read).await?;
        rows.iter().map(read).collect()
    }

    /// The credential of an account.
    ///
    /// # Errors
    /// When the database refuses or holds what this version does not write.
    pub async fn vault_entry(&self, machine: &str, account: &str) -> Result<Option<VaultRow>> {
        let row = sqlx::query("SELECT * FROM vault WHERE machine = ?1 AND account = ?2")
            .bind(machine)
            .bind(account)
            .fetch_optional(&self.read)
            .await?;
        row.as_ref().map(read).transpose()
    }

    /// Puts a credential in, in place of the one before, and notes it.
    ///
    /// # Errors
    /// When the database refuses.
    pub async fn put_vault(&self, row: &VaultRow, by: &str, what: &str, now: Timestamp) -> Result<()> {
        let mut work = self.write.begin().await?;
        sqlx::query(
            "INSERT OR REPLACE INTO vault (machine, account, kind, current, other, phase, changer, schedule, changed, used, failed, failure, bound) \
             VALUES (?1, ?2, ?3, ?4, ?5, ?6, ?7, ?8, ?9, ?10, ?11, ?12, ?13)",
        )
        .bind(&row.machine)
        .bind(&row.account)
        .bind(row.kind.word())
        .bind(&row.current)
        .bind(&row.other)
        .bind(row.phase.word())
        .bind(&row.changer)
        .bind(serde_json::to_string(&row.schedule)?)
        .bind(ms(row.changed))
        .bind(row.used.map(ms))
        .bind(row.failed.map(ms))
        .bind(&row.failure)
        .bind(&row.bound)
        .execute(&mut *work)
        .await?;
        if !what.is_empty() {
            note(&mut work, (&row.machine, &row.account), by, what, now).await?;
        }
        work.commit().await?;
        Ok(())
    }

    /// Notes what was done with a credential that stays as it is.
    ///
    /// # Errors
    /// When the database refuses.
    pub async fn note_vault(&self, machine: &str, account: &str, by: &str, what: &str, now: Timestamp) -> Result<()> {
        let mut work = self.write.begin().await?;
        note(&mut work, (machine, account), by, what, now).await?;
        work.commit().await?;
        Ok(())
    }

    /// Notes that a credential was used or seen.
    ///
    /// # Errors
    /// When the database refuses.
    pub async fn vault_used(&self, machine: &str, account: &str, now: Timestamp) -> Result<()> {
        sqlx::query("UPDATE vault SET used = ?3 WHERE machine = ?1 AND account = ?2")
            .bind(machine)
            .bind(account)
            .bind(ms(now))
            .execute(&self.write)
            .await?;
        Ok(())
    }

    /// Takes a credential out for good; false where there is none. Its history stays.
    ///
    /// # Errors
    /// When the database refuses.
    pub async fn remove_vault(&self, machine: &str, account: &str) -> Result<bool> {
        let done =
            sqlx::query("DELETE FROM vault WHERE machine = ?1 AND account = ?2").bind(machine).bind(account).execute(&self.write).await?;
        Ok(done.rows_affected() == 1)
    }

    /// What was done with a credential, newest first.
    ///
    /// # Errors
    /// When the database refuses.
    pub async fn vault_history(&self, machine: &str, account: &str) -> Result<Vec<VaultEntry>> {
        let rows: Vec<(i64, String, String)> =
            sqlx::query_as("SELECT at, by, what FROM vault_history WHERE machine = ?1 AND account = ?2 ORDER BY n DESC LIMIT 100")
                .bind(machine)
                .bind(account)
                .fetch_all(&self.read)
                .await?;
        Ok(rows.into_iter().map(|(t, by, what)| VaultEntry { at: at(t), by, what }).collect())
    }
}
