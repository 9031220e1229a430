use crate::{Result, Store};
use aerie_core::directory::Machine;

impl Store {
    /// Every machine.
    ///
    /// # Errors
    /// When the database refuses or holds what this version does not write.
    pub async fn machines(&self) -> Result<Vec<Machine>> {
        let bodies: Vec<String> = sqlx::query_scalar("SELECT body FROM machines ORDER BY name").fetch_all(&self.read).await?;
        bodies.iter().map(|b| Ok(serde_json::from_str(b)?)).collect()
    }

    /// Adds or changes a machine.
    ///
    /// # Errors
    /// When the database refuses.
    pub async fn put_machine(&self, machine: &Machine) -> Result<()> {
        sqlx::query("INSERT INTO machines (name, body) VALUES (?1, ?2) ON CONFLICT (name) DO UPDATE SET body = excluded.body")
            .bind(&machine.name)
            .bind(serde_json::to_string(machine)?)
            .execute(&self.write)
            .await?;
        Ok(())
    }
}
