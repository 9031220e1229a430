use crate::directory::next_version;
use crate::{Result, Store, at, ms};
use aerie_core::directory::Machine;
use aerie_core::inventory::CheckResult;
use jiff::Timestamp;
use serde::{Deserialize, Serialize};
use std::collections::HashMap;

/// A machine that left the list.
#[derive(Debug, Clone)]
pub struct RetiredMachine {
    /// As it was.
    pub machine: Machine,
    /// When it left.
    pub at: Timestamp,
    /// Who took it off.
    pub by: String,
    /// Why.
    pub why: String,
}

/// A host key that a machine showed instead of the pinned one.
#[derive(Debug, Clone)]
pub struct OtherHostKey {
    /// OpenSSH's public key format.
    pub line: String,
    /// When it was first shown.
    pub first: Timestamp,
    /// When it was last shown.
    pub last: Timestamp,
}

/// An account that was found on a machine.
#[derive(Debug, Clone)]
pub struct FoundAccount {
    /// Name.
    pub account: String,
    /// User number.
    pub number: u32,
    /// Shell.
    pub shell: String,
    /// Keys that let somebody in.
    pub keys: Vec<FoundKey>,
    /// When it was seen.
    pub seen: Timestamp,
}

/// An authorised key that was found.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
pub struct FoundKey {
    /// `SHA256:…`.
    pub fingerprint: String,
    /// `ssh-ed25519`.
    pub kind: String,
    /// What is written behind it.
    pub comment: String,
}

impl Store {
    /// Every machine.
    ///
    /// # Errors
    /// When the database refuses or holds what this version does not write.
    pub async fn machines(&self) -> Result<Vec<Machine>> {
        let bodies: Vec<String> = sqlx::query_scalar("SELECT body FROM machines ORDER BY name").fetch_all(&self.read).await?;
        bodies.iter().map(|b| Ok(serde_json::from_str(b)?)).collect()
    }

    /// Adds or changes a machine, without counting the directory on: for setting a service up.
    ///
    /// # Errors
    /// When the database refuses.
    pub async fn put_machine(&self, machine: &Machine) -> Result<()> {
        let mut work = self.write.begin().await?;
        put(&mut work, machine).await?;
        work.commit().await?;
        Ok(())
    }

    /// Adds or changes machines in the directory of that version; false where it was changed in between.
    ///
    /// # Errors
    /// When the database refuses.
    pub async fn change_machines(&self, machines: &[Machine], version: u64) -> Result<bool> {
        let mut work = self.write.begin().await?;
        if !next_version(&mut work, version).await? {
            return Ok(false);
        }
        for machine in machines {
            put(&mut work, machine).await?;
            sqlx::query("DELETE FROM retired_machines WHERE name = ?1").bind(&machine.name).execute(&mut *work).await?;
        }
        work.commit().await?;
        Ok(true)
    }

    /// Takes machines off the list, with their agents and codes; false where the directory was changed in between. What is kept
    /// of their credentials, sessions and findings stays.
    ///
    /// # Errors
    /// When the database refuses.
    pub async fn retire_machines(&self, machines: &[Machine], version: u64, by: &str, why: &str, now: Timestamp) -> Result<bool> {
        let mut work = self.write.begin().await?;
        if !next_version(&mut work, version).await? {
            return Ok(false);
        }
        for machine in machines {
            sqlx::query("INSERT OR REPLACE INTO retired_machines (name, body, retired, retired_by, why) VALUES (?1, ?2, ?3, ?4, ?5)")
                .bind(&machine.name)
                .bind(serde_json::to_string(machine)?)
                .bind(ms(now))
                .bind(by)
                .bind(why)
                .execute(&mut *work)
                .await?;
            sqlx::query(
                "INSERT OR IGNORE INTO revoked_agents (key, machine, at, by) SELECT key, machine, ?2, ?3 FROM agents WHERE machine = ?1",
            )
            .bind(&machine.name)
            .bind(ms(now))
            .bind(by)
            .execute(&mut *work)
            .await?;
            for also in [
                "DELETE FROM machines WHERE name = ?1",
                "DELETE FROM agents WHERE machine = ?1",
                "DELETE FROM enrolment_codes WHERE machine = ?1",
                "DELETE FROM machine_heard WHERE machine = ?1",
                "DELETE FROM pins WHERE machine = ?1",
            ] {
                sqlx::query(also).bind(&machine.name).execute(&mut *work).await?;
            }
        }
        work.commit().await?;
        Ok(true)
    }

    /// Machines that left the list, newest first.
    ///
    /// # Errors
    /// When the database refuses or holds what this version does not write.
    pub async fn retired_machines(&self, limit: u32) -> Result<Vec<RetiredMachine>> {
        let rows: Vec<(String, i64, String, String)> =
            sqlx::query_as("SELECT body, retired, retired_by, why FROM retired_machines ORDER BY retired DESC LIMIT ?1")
                .bind(limit)
                .fetch_all(&self.read)
                .await?;
        let read = |(body, when, by, why): (String, i64, String, String)| {
            Ok(RetiredMachine { machine: serde_json::from_str(&body)?, at: at(when), by, why })
        };
        rows.into_iter().map(read).collect()
    }

    /// Notes that something was heard of a machine.
    ///
    /// # Errors
    /// When the database refuses.
    pub async fn heard_of(&self, machine: &str, now: Timestamp) -> Result<()> {
        sqlx::query("INSERT INTO machine_heard (machine, at) VALUES (?1, ?2) ON CONFLICT (machine) DO UPDATE SET at = excluded.at")
            .bind(machine)
            .bind(ms(now))
            .execute(&self.write)
            .await?;
        Ok(())
    }

    /// When something was last heard of each machine.
    ///
    /// # Errors
    /// When the database refuses.
    pub async fn heard(&self) -> Result<HashMap<String, Timestamp>> {
        let rows: Vec<(String, i64)> = sqlx::query_as("SELECT machine, at FROM machine_heard").fetch_all(&self.read).await?;
        Ok(rows.into_iter().map(|(m, t)| (m, at(t))).collect())
    }

    /// Names of somebody's favourites, and of machines that they were on lately, newest first.
    ///
    /// # Errors
    /// When the database refuses.
    pub async fn favourites(&self, person: &str) -> Result<(Vec<String>, Vec<String>)> {
        let favourites = sqlx::query_scalar("SELECT machine FROM favourites WHERE person = ?1 ORDER BY machine")
            .bind(person)
            .fetch_all(&self.read)
            .await?;
        let recent = sqlx::query_scalar(
            "SELECT machine FROM (SELECT machine, began FROM sessions WHERE person = ?1 ORDER BY began DESC LIMIT 100) \
             GROUP BY machine ORDER BY max(began) DESC LIMIT 10",
        )
        .bind(person)
        .fetch_all(&self.read)
        .await?;
        Ok((favourites, recent))
    }

    /// Makes a machine one of somebody's favourites, or not.
    ///
    /// # Errors
    /// When the database refuses.
    pub async fn set_favourite(&self, person: &str, machine: &str, yes: bool) -> Result<()> {
        let sql = if yes {
            "INSERT OR IGNORE INTO favourites (person, machine) VALUES (?1, ?2)"
        } else {
            "DELETE FROM favourites WHERE person = ?1 AND machine = ?2"
        };
        sqlx::query(sql).bind(person).bind(machine).execute(&self.write).await?;
        Ok(())
    }

    /// Keeps a host key that was shown instead of the pinned one, or forgets it.
    ///
    /// # Errors
    /// When the database refuses.
    pub async fn set_other_host_key(&self, machine: &str, line: Option<&str>, now: Timestamp) -> Result<()> {
        match line {
            Some(line) => {
                sqlx::query(
                    "INSERT INTO other_host_keys (machine, line, first, last) VALUES (?1, ?2, ?3, ?3) \
                     ON CONFLICT (machine) DO UPDATE SET last = ?3, first = iif(line = excluded.line, first, ?3), line = excluded.line",
                )
                .bind(machine)
                .bind(line)
                .bind(ms(now))
                .execute(&self.write)
                .await?
            }
            None => sqlx::query("DELETE FROM other_host_keys WHERE machine = ?1").bind(machine).execute(&self.write).await?,
        };
        Ok(())
    }

    /// The host key that a machine showed instead of the pinned one.
    ///
    /// # Errors
    /// When the database refuses.
    pub async fn other_host_key(&self, machine: &str) -> Result<Option<OtherHostKey>> {
        let row: Option<(String, i64, i64)> = sqlx::query_as("SELECT line, first, last FROM other_host_keys WHERE machine = ?1")
            .bind(machine)
            .fetch_optional(&self.read)
            .await?;
        Ok(row.map(|(line, first, last)| OtherHostKey { line, first: at(first), last: at(last) }))
    }

    /// Machines that showed another host key than the pinned one.
    ///
    /// # Errors
    /// When the database refuses.
    pub async fn machines_with_other_keys(&self) -> Result<Vec<String>> {
        Ok(sqlx::query_scalar("SELECT machine FROM other_host_keys").fetch_all(&self.read).await?)
    }

    /// Keeps what came of the checks of a machine.
    ///
    /// # Errors
    /// When the database refuses.
    pub async fn put_check(&self, machine: &str, results: &[CheckResult], now: Timestamp) -> Result<()> {
        sqlx::query("INSERT OR REPLACE INTO machine_checks (machine, at, results) VALUES (?1, ?2, ?3)")
            .bind(machine)
            .bind(ms(now))
            .bind(serde_json::to_string(results)?)
            .execute(&self.write)
            .await?;
        Ok(())
    }

    /// What came of the last checks of a machine.
    ///
    /// # Errors
    /// When the database refuses or holds what this version does not write.
    pub async fn check_of(&self, machine: &str) -> Result<Option<(Timestamp, Vec<CheckResult>)>> {
        let row: Option<(i64, String)> =
            sqlx::query_as("SELECT at, results FROM machine_checks WHERE machine = ?1").bind(machine).fetch_optional(&self.read).await?;
        row.map(|(t, r)| Ok((at(t), serde_json::from_str(&r)?))).transpose()
    }

    /// Puts the accounts that were found on a machine in place of those found before.
    ///
    /// # Errors
    /// When the database refuses.
    pub async fn put_accounts(&self, machine: &str, accounts: &[FoundAccount]) -> Result<()> {
        let mut work = self.write.begin().await?;
        sqlx::query("DELETE FROM machine_accounts WHERE machine = ?1").bind(machine).execute(&mut *work).await?;
        for a in accounts {
            sqlx::query("INSERT INTO machine_accounts (machine, account, number, shell, keys, seen) VALUES (?1, ?2, ?3, ?4, ?5, ?6)")
                .bind(machine)
                .bind(&a.account)
                .bind(i64::from(a.number))
                .bind(&a.shell)
                .bind(serde_json::to_string(&a.keys)?)
                .bind(ms(a.seen))
                .execute(&mut *work)
                .await?;
        }
        work.commit().await?;
        Ok(())
    }

    /// The accounts that were found on a machine.
    ///
    /// # Errors
    /// When the database refuses or holds what this version does not write.
    pub async fn accounts_of(&self, machine: &str) -> Result<Vec<FoundAccount>> {
        let rows: Vec<(String, i64, String, String, i64)> =
            sqlx::query_as("SELECT account, number, shell, keys, seen FROM machine_accounts WHERE machine = ?1 ORDER BY number")
                .bind(machine)
                .fetch_all(&self.read)
                .await?;
        let read = |(account, number, shell, keys, seen): (String, i64, String, String, i64)| {
            Ok(FoundAccount { account, number: number.try_into().unwrap_or(0), shell, keys: serde_json::from_str(&keys)?, seen: at(seen) })
        };
        rows.into_iter().map(read).collect()
    }
}

async fn put(work: &mut sqlx::Transaction<'static, sqlx::Sqlite>, machine: &Machine) -> Result<()> {
    sqlx::query("INSERT INTO machines (name, body) VALUES (?1, ?2) ON CONFLICT (name) DO UPDATE SET body = excluded.body")
        .bind(&machine.name)
        .bind(serde_json::to_string(machine)?)
        .execute(&mut **work)
        .await?;
    Ok(())
}
