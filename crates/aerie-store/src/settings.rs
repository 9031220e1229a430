use crate::{Result, Store, at, ms};
use aerie_core::settings::{Setting, Settings};
use jiff::Timestamp;

/// One change of a setting.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct SettingChange {
    /// Word of the setting.
    pub name: String,
    /// Value before.
    pub before: String,
    /// Value after.
    pub after: String,
    /// When.
    pub at: Timestamp,
    /// Who.
    pub by: String,
    /// Why.
    pub why: String,
}

impl Store {
    /// The settings in force.
    ///
    /// # Errors
    /// When the database refuses.
    pub async fn settings(&self) -> Result<Settings> {
        let rows: Vec<(String, String)> = sqlx::query_as("SELECT name, value FROM settings").fetch_all(&self.read).await?;
        Ok(Settings::of(rows.iter().map(|(n, v)| (n.as_str(), v.as_str()))))
    }

    /// Changes a setting, and keeps who did it and why. The value is one that [`Setting::read`] gave.
    ///
    /// # Errors
    /// When the database refuses.
    pub async fn set_setting(&self, setting: Setting, value: &str, by: &str, why: &str, now: Timestamp) -> Result<()> {
        let mut work = self.write.begin().await?;
        let before: Option<String> =
            sqlx::query_scalar("SELECT value FROM settings WHERE name = ?1").bind(setting.word()).fetch_optional(&mut *work).await?;
        sqlx::query("INSERT OR REPLACE INTO settings (name, value) VALUES (?1, ?2)")
            .bind(setting.word())
            .bind(value)
            .execute(&mut *work)
            .await?;
        sqlx::query("INSERT INTO setting_changes (name, before, after, at, by, why) VALUES (?1, ?2, ?3, ?4, ?5, ?6)")
            .bind(setting.word())
            .bind(before.unwrap_or_else(|| setting.default().into()))
            .bind(value)
            .bind(ms(now))
            .bind(by)
            .bind(why)
            .execute(&mut *work)
            .await?;
        Ok(work.commit().await?)
    }

    /// Changes of settings, newest first.
    ///
    /// # Errors
    /// When the database refuses.
    pub async fn setting_changes(&self, limit: u32) -> Result<Vec<SettingChange>> {
        type Row = (String, String, String, i64, String, String);
        let rows: Vec<Row> = sqlx::query_as("SELECT name, before, after, at, by, why FROM setting_changes ORDER BY n DESC LIMIT ?1")
            .bind(limit)
            .fetch_all(&self.read)
            .await?;
        Ok(rows
            .into_iter()
            .map(|(name, before, after, when, by, why)| SettingChange { name, before, after, at: at(when), by, why })
            .collect())
    }
}
