use crate::{Result, Store, ms};
use aerie_core::directory::{DirectoryFile, Group, Members, Person};
use aerie_core::policy::Factor;
use jiff::Timestamp;
use std::collections::{BTreeSet, HashSet};

/// Name of the counter of changes in `meta`.
const VERSION: &str = "directory";

fn kind(of: Members) -> &'static str {
    match of {
        Members::People => "people",
        Members::Machines => "machines",
    }
}

impl Store {
    /// Groups that hold others or fill themselves.
    ///
    /// # Errors
    /// When the database refuses or holds what this version does not write.
    pub async fn groups(&self) -> Result<Vec<Group>> {
        let bodies: Vec<String> = sqlx::query_scalar("SELECT body FROM groups ORDER BY kind, name").fetch_all(&self.read).await?;
        bodies.iter().map(|b| Ok(serde_json::from_str(b)?)).collect()
    }

    /// People, machines and groups, with what is enrolled for signing in.
    ///
    /// # Errors
    /// When the database refuses or holds what this version does not write.
    pub async fn directory(&self) -> Result<DirectoryFile> {
        let mut file = DirectoryFile { people: self.people().await?, machines: self.machines().await?, groups: self.groups().await? };
        let rows: Vec<(String, bool, bool, bool, bool)> = sqlx::query_as(
            "SELECT name, password_hash IS NOT NULL, totp IS NOT NULL, \
             EXISTS (SELECT 1 FROM passkeys WHERE person = name AND kind = 'passkey'), \
             EXISTS (SELECT 1 FROM passkeys WHERE person = name AND (kind = 'security-key' OR bound = 1)) FROM people",
        )
        .fetch_all(&self.read)
        .await?;
        let enrolled = |(name, password, code, passkey, security_key): (String, bool, bool, bool, bool)| {
            let has = [(Factor::Password, password), (Factor::Code, code), (Factor::Passkey, passkey), (Factor::SecurityKey, security_key)];
            (name, has.into_iter().filter(|(_, has)| *has).map(|(f, _)| f).collect::<BTreeSet<_>>())
        };
        let mut enrolled: std::collections::HashMap<String, BTreeSet<Factor>> = rows.into_iter().map(enrolled).collect();
        for person in &mut file.people {
            person.enrolled = enrolled.remove(&person.name).unwrap_or_default();
        }
        Ok(file)
    }

    /// Counts the changes of the directory.
    ///
    /// # Errors
    /// When the database refuses.
    pub async fn directory_version(&self) -> Result<u64> {
        let kept = self.meta(VERSION).await?;
        Ok(kept.and_then(|v| v.try_into().ok()).map_or(0, u64::from_le_bytes))
    }

    /// Puts a whole directory in place of the one of that version, in one step; false where it was changed in between. Who stays
    /// keeps what they sign in with; what is enrolled is not taken from the file.
    ///
    /// # Errors
    /// When the database refuses.
    pub async fn replace_directory(&self, file: &DirectoryFile, version: u64, by: &str, now: Timestamp) -> Result<bool> {
        let mut work = self.write.begin().await?;
        if !next_version(&mut work, version).await? {
            return Ok(false);
        }
        let names: Vec<String> = sqlx::query_scalar("SELECT name FROM people").fetch_all(&mut *work).await?;
        let stay: HashSet<&str> = file.people.iter().map(|p| p.name.as_str()).collect();
        for gone in names.iter().filter(|n| !stay.contains(n.as_str())) {
            remove(&mut work, gone, by, now).await?;
        }
        for person in &file.people {
            put(&mut work, person).await?;
        }
        sqlx::query("DELETE FROM machines").execute(&mut *work).await?;
        for machine in &file.machines {
            sqlx::query("INSERT INTO machines (name, body) VALUES (?1, ?2)")
                .bind(&machine.name)
                .bind(serde_json::to_string(machine)?)
                .execute(&mut *work)
                .await?;
        }
        sqlx::query("DELETE FROM groups").execute(&mut *work).await?;
        for group in &file.groups {
            sqlx::query("INSERT INTO groups (kind, name, body) VALUES (?1, ?2, ?3)")
                .bind(kind(group.of))
                .bind(&group.name)
                .bind(serde_json::to_string(group)?)
                .execute(&mut *work)
                .await?;
        }
        work.commit().await?;
        Ok(true)
    }

    /// Adds or changes one person in the directory of that version; false where it was changed in between.
    ///
    /// # Errors
    /// When the database refuses.
    pub async fn change_person(&self, person: &Person, version: u64) -> Result<bool> {
        let mut work = self.write.begin().await?;
        if !next_version(&mut work, version).await? {
            return Ok(false);
        }
        put(&mut work, person).await?;
        work.commit().await?;
        Ok(true)
    }

    /// Removes one person, with everything that they sign in with; false where the directory was changed in between. Sessions,
    /// events and findings stay.
    ///
    /// # Errors
    /// When the database refuses.
    pub async fn remove_person(&self, name: &str, version: u64, by: &str, now: Timestamp) -> Result<bool> {
        let mut work = self.write.begin().await?;
        if !next_version(&mut work, version).await? {
            return Ok(false);
        }
        remove(&mut work, name, by, now).await?;
        work.commit().await?;
        Ok(true)
    }
}

type Work = sqlx::Transaction<'static, sqlx::Sqlite>;

/// Counts the directory on from that version; false where it is another.
pub(crate) async fn next_version(work: &mut Work, version: u64) -> Result<bool> {
    let known: Option<Vec<u8>> =
        sqlx::query_scalar("SELECT value FROM meta WHERE key = ?1").bind(VERSION).fetch_optional(&mut **work).await?;
    if known.and_then(|v| v.try_into().ok()).map_or(0, u64::from_le_bytes) != version {
        return Ok(false);
    }
    sqlx::query("INSERT INTO meta (key, value) VALUES (?1, ?2) ON CONFLICT (key) DO UPDATE SET value = excluded.value")
        .bind(VERSION)
        .bind((version + 1).to_le_bytes().to_vec())
        .execute(&mut **work)
        .await?;
    Ok(true)
}

async fn put(work: &mut Work, person: &Person) -> Result<()> {
    let mut kept = person.clone();
    kept.enrolled.clear();
    sqlx::query("INSERT INTO people (name, body) VALUES (?1, ?2) ON CONFLICT (name) DO UPDATE SET body = excluded.body")
        .bind(&kept.name)
        .bind(serde_json::to_string(&kept)?)
        .execute(&mut **work)
        .await?;
    Ok(())
}

async fn remove(work: &mut Work, name: &str, by: &str, now: Timestamp) -> Result<()> {
    for also in ["DELETE FROM people WHERE name = ?1", "DELETE FROM tokens WHERE person = ?1", "DELETE FROM invitations WHERE person = ?1"]
    {
        sqlx::query(also).bind(name).execute(&mut **work).await?;
    }
    sqlx::query("INSERT OR REPLACE INTO removed_people (name, removed, removed_by) VALUES (?1, ?2, ?3)")
        .bind(name)
        .bind(ms(now))
        .bind(by)
        .execute(&mut **work)
        .await?;
    Ok(())
}
