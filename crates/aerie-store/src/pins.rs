use crate::{Result, Store, at, ms};
use aerie_core::factor::PinState;
use jiff::Timestamp;
use sqlx::Row as _;
use sqlx::sqlite::SqliteRow;

/// A PIN as it is kept: its keyed hash, never the PIN.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Pin {
    /// Names it, in the link of its visit and in lists.
    pub id: String,
    /// The machine that it stands for; none for a one-time one.
    pub machine: Option<String>,
    /// For what or whom.
    pub note: String,
    /// Keyed hash.
    pub hash: [u8; 32],
    /// Times and tries.
    pub state: PinState,
    /// Who issued it.
    pub issued_by: String,
}

fn pin(row: &SqliteRow) -> Result<Pin, sqlx::Error> {
    let hash: Vec<u8> = row.try_get("hash")?;
    Ok(Pin {
        id: row.try_get("id")?,
        machine: row.try_get("machine")?,
        note: row.try_get("note")?,
        hash: hash.try_into().map_err(|_| sqlx::Error::Decode("32 bytes".into()))?,
        state: PinState {
            made: at(row.try_get("made")?),
            ends: row.try_get::<Option<i64>, _>("ends")?.map(at),
            tries_left: row.try_get::<i64, _>("tries_left")?.try_into().unwrap_or(0),
            used: row.try_get::<Option<i64>, _>("used")?.map(at),
        },
        issued_by: row.try_get("issued_by")?,
    })
}

impl Store {
    /// Adds a PIN; the standing one of a machine takes the place of the one before. False where the hash is that of a PIN that
    /// is kept, so that no two people read out the same.
    ///
    /// # Errors
    /// When the database refuses.
    pub async fn add_pin(&self, pin: &Pin) -> Result<bool> {
        let mut work = self.write.begin().await?;
        if let Some(machine) = &pin.machine {
            sqlx::query("DELETE FROM pins WHERE machine = ?1").bind(machine).execute(&mut *work).await?;
        }
        let done = sqlx::query(
            "INSERT INTO pins (id, machine, note, hash, made, ends, tries_left, issued_by) SELECT ?1, ?2, ?3, ?4, ?5, ?6, ?7, ?8 \
             WHERE NOT EXISTS (SELECT 1 FROM pins WHERE hash = ?4)",
        )
        .bind(&pin.id)
        .bind(&pin.machine)
        .bind(&pin.note)
        .bind(&pin.hash[..])
        .bind(ms(pin.state.made))
        .bind(pin.state.ends.map(ms))
        .bind(i64::from(pin.state.tries_left))
        .bind(&pin.issued_by)
        .execute(&mut *work)
        .await?;
        // Where it is not kept, the one before stays.
        if done.rows_affected() == 0 {
            return Ok(false);
        }
        work.commit().await?;
        Ok(true)
    }

    /// One-time PINs, newest first, and those that stand for machines.
    ///
    /// # Errors
    /// When the database refuses.
    pub async fn pins(&self, limit: u32) -> Result<Vec<Pin>> {
        let rows = sqlx::query("SELECT * FROM pins ORDER BY made DESC LIMIT ?1").bind(limit).fetch_all(&self.read).await?;
        rows.iter().map(|r| Ok(pin(r)?)).collect()
    }

    /// The PIN of that identifier.
    ///
    /// # Errors
    /// When the database refuses.
    pub async fn pin(&self, id: &str) -> Result<Option<Pin>> {
        let row = sqlx::query("SELECT * FROM pins WHERE id = ?1").bind(id).fetch_optional(&self.read).await?;
        Ok(row.as_ref().map(pin).transpose()?)
    }

    /// The standing PIN of a machine.
    ///
    /// # Errors
    /// When the database refuses.
    pub async fn standing_pin(&self, machine: &str) -> Result<Option<Pin>> {
        let row = sqlx::query("SELECT * FROM pins WHERE machine = ?1").bind(machine).fetch_optional(&self.read).await?;
        Ok(row.as_ref().map(pin).transpose()?)
    }

    /// One-time PINs that may still be good.
    ///
    /// # Errors
    /// When the database refuses.
    pub async fn open_pins(&self, now: Timestamp) -> Result<Vec<Pin>> {
        let rows = sqlx::query("SELECT * FROM pins WHERE machine IS NULL AND used IS NULL AND ends > ?1 AND tries_left > 0")
            .bind(ms(now))
            .fetch_all(&self.read)
            .await?;
        rows.iter().map(|r| Ok(pin(r)?)).collect()
    }

    /// Uses up a one-time PIN, in one statement; true for the first that asks.
    ///
    /// # Errors
    /// When the database refuses.
    pub async fn use_pin(&self, id: &str, now: Timestamp) -> Result<bool> {
        let done =
            sqlx::query("UPDATE pins SET used = ?2 WHERE id = ?1 AND machine IS NULL AND used IS NULL AND ends > ?2 AND tries_left > 0")
                .bind(id)
                .bind(ms(now))
                .execute(&self.write)
                .await?;
        Ok(done.rows_affected() == 1)
    }

    /// Notes a wrong try at a one-time PIN.
    ///
    /// # Errors
    /// When the database refuses.
    pub async fn fail_pin(&self, id: &str) -> Result<()> {
        sqlx::query("UPDATE pins SET tries_left = max(tries_left - 1, 0) WHERE id = ?1 AND machine IS NULL")
            .bind(id)
            .execute(&self.write)
            .await?;
        Ok(())
    }

    /// Removes a PIN; false where there is none.
    ///
    /// # Errors
    /// When the database refuses.
    pub async fn remove_pin(&self, id: &str) -> Result<bool> {
        Ok(sqlx::query("DELETE FROM pins WHERE id = ?1").bind(id).execute(&self.write).await?.rows_affected() == 1)
    }

    /// Forgets one-time PINs that ended before `before`.
    ///
    /// # Errors
    /// When the database refuses.
    pub async fn sweep_pins(&self, before: Timestamp) -> Result<()> {
        sqlx::query("DELETE FROM pins WHERE machine IS NULL AND ends < ?1").bind(ms(before)).execute(&self.write).await?;
        Ok(())
    }
}
