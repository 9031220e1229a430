use crate::{Result, Store};
use aerie_core::directory::{DirectoryFile, Group, Members};
use aerie_core::policy::Factor;
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
        let rows: Vec<(String, bool, bool)> =
            sqlx::query_as("SELECT name, password_hash IS NOT NULL, totp IS NOT NULL FROM people").fetch_all(&self.read).await?;
        let enrolled: std::collections::HashMap<String, (bool, bool)> = rows.into_iter().map(|(n, p, t)| (n, (p, t))).collect();
        for person in &mut file.people {
            let (password, code) = enrolled.get(&person.name).copied().unwrap_or_default();
            let known = [(Factor::Password, password), (Factor::Code, code)].into_iter().filter(|(_, has)| *has).map(|(f, _)| f);
            person.enrolled = known.collect::<BTreeSet<_>>();
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
    pub async fn replace_directory(&self, file: &DirectoryFile, version: u64) -> Result<bool> {
        let mut work = self.write.begin().await?;
        let known: Option<Vec<u8>> =
            sqlx::query_scalar("SELECT value FROM meta WHERE key = ?1").bind(VERSION).fetch_optional(&mut *work).await?;
        if known.and_then(|v| v.try_into().ok()).map_or(0, u64::from_le_bytes) != version {
            return Ok(false);
        }
        let names: Vec<String> = sqlx::query_scalar("SELECT name FROM people").fetch_all(&mut *work).await?;
        let stay: HashSet<&str> = file.people.iter().map(|p| p.name.as_str()).collect();
        for gone in names.iter().filter(|n| !stay.contains(n.as_str())) {
            sqlx::query("DELETE FROM people WHERE name = ?1").bind(gone).execute(&mut *work).await?;
        }
        for person in &file.people {
            let mut kept = person.clone();
            kept.enrolled.clear();
            sqlx::query("INSERT INTO people (name, body) VALUES (?1, ?2) ON CONFLICT (name) DO UPDATE SET body = excluded.body")
                .bind(&kept.name)
                .bind(serde_json::to_string(&kept)?)
                .execute(&mut *work)
                .await?;
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
        sqlx::query("INSERT INTO meta (key, value) VALUES (?1, ?2) ON CONFLICT (key) DO UPDATE SET value = excluded.value")
            .bind(VERSION)
            .bind((version + 1).to_le_bytes().to_vec())
            .execute(&mut *work)
            .await?;
        work.commit().await?;
        Ok(true)
    }
}
