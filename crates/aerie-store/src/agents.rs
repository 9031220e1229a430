use crate::{Result, Store, at, ms};
use aerie_core::inventory::MachineFacts;
use jiff::Timestamp;
use sqlx::Row as _;
use sqlx::sqlite::SqliteRow;

/// An agent as it is kept.
#[derive(Debug, Clone)]
pub struct AgentRow {
    /// Machine that it serves.
    pub machine: String,
    /// Ed25519 public key in hexadecimal.
    pub key: String,
    /// When it was enrolled.
    pub enrolled: Timestamp,
    /// Who issued the code.
    pub enrolled_by: String,
    /// Keyed hash of the ticket that is good.
    pub ticket: [u8; 32],
    /// Keyed hash of one that was handed out, and that the agent has not said to have kept.
    pub next_ticket: Option<[u8; 32]>,
    /// It goes away with its terminal.
    pub temporary: bool,
    /// What it may reach for others.
    pub relay: Vec<String>,
    /// When something was heard of it.
    pub last_seen: Option<Timestamp>,
    /// Address that it came from.
    pub last_from: String,
    /// What it said of its machine.
    pub facts: Option<MachineFacts>,
}

/// An enrolment code as it is kept.
#[derive(Debug, Clone)]
pub struct CodeRow {
    /// Identifier.
    pub id: String,
    /// Keyed hash of its secret.
    pub hash: [u8; 32],
    /// For this machine; none for any of the site.
    pub machine: Option<String>,
    /// Site.
    pub site: String,
    /// Labels for machines that come with it.
    pub labels: Vec<String>,
    /// How often it is still good.
    pub uses_left: u32,
    /// When it was made.
    pub made: Timestamp,
    /// By whom.
    pub made_by: String,
    /// When it ends.
    pub expires: Timestamp,
}

fn hash(bytes: Vec<u8>) -> Result<[u8; 32], sqlx::Error> {
    bytes.try_into().map_err(|_| sqlx::Error::Decode("32 bytes".into()))
}

fn agent(row: &SqliteRow) -> Result<AgentRow> {
    let facts: Option<String> = row.try_get("facts")?;
    Ok(AgentRow {
        machine: row.try_get("machine")?,
        key: row.try_get("key")?,
        enrolled: at(row.try_get("enrolled")?),
        enrolled_by: row.try_get("enrolled_by")?,
        ticket: hash(row.try_get("ticket")?)?,
        next_ticket: row.try_get::<Option<Vec<u8>>, _>("next_ticket")?.map(hash).transpose()?,
        temporary: row.try_get("temporary")?,
        relay: serde_json::from_str(row.try_get("relay")?)?,
        last_seen: row.try_get::<Option<i64>, _>("last_seen")?.map(at),
        last_from: row.try_get("last_from")?,
        facts: facts.and_then(|f| serde_json::from_str(&f).ok()),
    })
}

fn code(row: &SqliteRow) -> Result<CodeRow> {
    Ok(CodeRow {
        id: row.try_get("id")?,
        hash: hash(row.try_get("hash")?)?,
        machine: row.try_get("machine")?,
        site: row.try_get("site")?,
        labels: serde_json::from_str(row.try_get("labels")?)?,
        uses_left: row.try_get::<i64, _>("uses_left")?.try_into().unwrap_or(0),
        made: at(row.try_get("made")?),
        made_by: row.try_get("made_by")?,
        expires: at(row.try_get("expires")?),
    })
}

impl Store {
    /// Every agent.
    ///
    /// # Errors
    /// When the database refuses.
    pub async fn agents(&self) -> Result<Vec<AgentRow>> {
        let rows = sqlx::query("SELECT * FROM agents ORDER BY machine").fetch_all(&self.read).await?;
        rows.iter().map(agent).collect()
    }

    /// Uses a code once and keeps the agent that came with it, in one step; false where the code is used up or over. An agent
    /// that the machine had is revoked.
    ///
    /// # Errors
    /// When the database refuses.
    pub async fn enrol_agent(&self, code: &str, new: &AgentRow, now: Timestamp) -> Result<bool> {
        let mut work = self.write.begin().await?;
        let used = sqlx::query("UPDATE enrolment_codes SET uses_left = uses_left - 1 WHERE id = ?1 AND uses_left > 0 AND expires > ?2")
            .bind(code)
            .bind(ms(now))
            .execute(&mut *work)
            .await?;
        if used.rows_affected() != 1 {
            return Ok(false);
        }
        revoke(&mut work, &new.machine, &new.enrolled_by, now).await?;
        insert(&mut work, new).await?;
        // One that serves a single machine has done its work.
        sqlx::query("DELETE FROM enrolment_codes WHERE uses_left = 0").execute(&mut *work).await?;
        work.commit().await?;
        Ok(true)
    }

    /// Keeps agents that were enrolled elsewhere: for setting a service up.
    ///
    /// # Errors
    /// When the database refuses.
    pub async fn put_agents(&self, agents: &[AgentRow]) -> Result<()> {
        let mut work = self.write.begin().await?;
        for agent in agents {
            insert(&mut work, agent).await?;
        }
        work.commit().await?;
        Ok(())
    }

    /// Takes an agent away for good; false where the machine has none.
    ///
    /// # Errors
    /// When the database refuses.
    pub async fn revoke_agent(&self, machine: &str, by: &str, now: Timestamp) -> Result<bool> {
        let mut work = self.write.begin().await?;
        let done = revoke(&mut work, machine, by, now).await?;
        work.commit().await?;
        Ok(done)
    }

    /// Whether an agent with this key was revoked.
    ///
    /// # Errors
    /// When the database refuses.
    pub async fn is_agent_revoked(&self, key: &str) -> Result<bool> {
        let found: Option<i64> =
            sqlx::query_scalar("SELECT 1 FROM revoked_agents WHERE key = ?1").bind(key).fetch_optional(&self.read).await?;
        Ok(found.is_some())
    }

    /// Notes that an agent came, and the ticket that it is handed; the one that it came with is the good one now.
    ///
    /// # Errors
    /// When the database refuses.
    pub async fn hand_ticket(&self, machine: &str, came_with: &[u8; 32], next: &[u8; 32], from: &str, now: Timestamp) -> Result<()> {
        sqlx::query("UPDATE agents SET ticket = ?2, next_ticket = ?3, last_from = ?4, last_seen = ?5 WHERE machine = ?1")
            .bind(machine)
            .bind(&came_with[..])
            .bind(&next[..])
            .bind(from)
            .bind(ms(now))
            .execute(&self.write)
            .await?;
        Ok(())
    }

    /// The agent kept the ticket that it was handed: the one before is void.
    ///
    /// # Errors
    /// When the database refuses.
    pub async fn ticket_kept(&self, machine: &str, next: &[u8; 32]) -> Result<()> {
        sqlx::query("UPDATE agents SET ticket = next_ticket, next_ticket = NULL WHERE machine = ?1 AND next_ticket = ?2")
            .bind(machine)
            .bind(&next[..])
            .execute(&self.write)
            .await?;
        Ok(())
    }

    /// Keeps what an agent said of its machine.
    ///
    /// # Errors
    /// When the database refuses.
    pub async fn set_facts(&self, machine: &str, facts: &MachineFacts, now: Timestamp) -> Result<()> {
        sqlx::query("UPDATE agents SET facts = ?2, last_seen = ?3 WHERE machine = ?1")
            .bind(machine)
            .bind(serde_json::to_string(facts)?)
            .bind(ms(now))
            .execute(&self.write)
            .await?;
        Ok(())
    }

    /// Notes when these agents were last heard of.
    ///
    /// # Errors
    /// When the database refuses.
    pub async fn agents_seen(&self, machines: &[String], now: Timestamp) -> Result<()> {
        let mut work = self.write.begin().await?;
        for machine in machines {
            sqlx::query("UPDATE agents SET last_seen = ?2 WHERE machine = ?1").bind(machine).bind(ms(now)).execute(&mut *work).await?;
        }
        work.commit().await?;
        Ok(())
    }

    /// Says what an agent may reach for others; false where the machine has no agent.
    ///
    /// # Errors
    /// When the database refuses.
    pub async fn set_relay(&self, machine: &str, entries: &[String]) -> Result<bool> {
        let done = sqlx::query("UPDATE agents SET relay = ?2 WHERE machine = ?1")
            .bind(machine)
            .bind(serde_json::to_string(entries)?)
            .execute(&self.write)
            .await?;
        Ok(done.rows_affected() == 1)
    }

    /// Keeps an enrolment code; one for the same machine takes the place of the one before.
    ///
    /// # Errors
    /// When the database refuses.
    pub async fn add_code(&self, new: &CodeRow) -> Result<()> {
        let mut work = self.write.begin().await?;
        sqlx::query("DELETE FROM enrolment_codes WHERE machine = ?1").bind(&new.machine).execute(&mut *work).await?;
        sqlx::query("INSERT INTO enrolment_codes (id, hash, machine, site, labels, uses_left, made, made_by, expires) VALUES (?1, ?2, ?3, ?4, ?5, ?6, ?7, ?8, ?9)")
            .bind(&new.id)
            .bind(&new.hash[..])
            .bind(&new.machine)
            .bind(&new.site)
            .bind(serde_json::to_string(&new.labels)?)
            .bind(i64::from(new.uses_left))
            .bind(ms(new.made))
            .bind(&new.made_by)
            .bind(ms(new.expires))
            .execute(&mut *work)
            .await?;
        work.commit().await?;
        Ok(())
    }

    /// The code of one of these hashes, where it is still good.
    ///
    /// # Errors
    /// When the database refuses.
    pub async fn code(&self, hashes: &[[u8; 32]], now: Timestamp) -> Result<Option<CodeRow>> {
        for hash in hashes {
            let row = sqlx::query("SELECT * FROM enrolment_codes WHERE hash = ?1 AND uses_left > 0 AND expires > ?2")
                .bind(&hash[..])
                .bind(ms(now))
                .fetch_optional(&self.read)
                .await?;
            if let Some(row) = row {
                return Ok(Some(code(&row)?));
            }
        }
        Ok(None)
    }

    /// Codes that are good, newest first.
    ///
    /// # Errors
    /// When the database refuses.
    pub async fn codes(&self, now: Timestamp) -> Result<Vec<CodeRow>> {
        let rows = sqlx::query("SELECT * FROM enrolment_codes WHERE uses_left > 0 AND expires > ?1 ORDER BY made DESC")
            .bind(ms(now))
            .fetch_all(&self.read)
            .await?;
        rows.iter().map(code).collect()
    }

    /// Withdraws a code; false where there is none.
    ///
    /// # Errors
    /// When the database refuses.
    pub async fn remove_code(&self, id: &str) -> Result<bool> {
        Ok(sqlx::query("DELETE FROM enrolment_codes WHERE id = ?1").bind(id).execute(&self.write).await?.rows_affected() == 1)
    }

    /// Forgets codes that are over.
    ///
    /// # Errors
    /// When the database refuses.
    pub async fn sweep_codes(&self, now: Timestamp) -> Result<()> {
        sqlx::query("DELETE FROM enrolment_codes WHERE expires <= ?1").bind(ms(now)).execute(&self.write).await?;
        Ok(())
    }
}

async fn revoke(work: &mut sqlx::Transaction<'static, sqlx::Sqlite>, machine: &str, by: &str, now: Timestamp) -> Result<bool> {
    sqlx::query("INSERT OR IGNORE INTO revoked_agents (key, machine, at, by) SELECT key, machine, ?2, ?3 FROM agents WHERE machine = ?1")
        .bind(machine)
        .bind(ms(now))
        .bind(by)
        .execute(&mut **work)
        .await?;
    let gone = sqlx::query("DELETE FROM agents WHERE machine = ?1").bind(machine).execute(&mut **work).await?;
    Ok(gone.rows_affected() == 1)
}

async fn insert(work: &mut sqlx::Transaction<'static, sqlx::Sqlite>, new: &AgentRow) -> Result<()> {
    sqlx::query(
        "INSERT INTO agents (machine, key, enrolled, enrolled_by, ticket, temporary, last_from) VALUES (?1, ?2, ?3, ?4, ?5, ?6, ?7)",
    )
    .bind(&new.machine)
    .bind(&new.key)
    .bind(ms(new.enrolled))
    .bind(&new.enrolled_by)
    .bind(&new.ticket[..])
    .bind(new.temporary)
    .bind(&new.last_from)
    .execute(&mut **work)
    .await?;
    Ok(())
}
