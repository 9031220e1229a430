use crate::{Result, Store, ms};
use aerie_core::visit::{Visit, VisitTimes};
use jiff::Timestamp;

/// Which visits are listed.
#[derive(Debug, Clone, Default)]
pub struct VisitFilter {
    /// Those that are not closed.
    pub open: bool,
    /// At most so many.
    pub limit: u32,
}

/// What is kept of a visit besides itself.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum KeptOf {
    /// Pictures of the screen, for as long as the visit.
    Picture,
    /// Files that were given, until it is closed.
    File,
}

/// A picture or a file as it lies in the database.
#[derive(Debug)]
pub struct KeptContent {
    /// Its bytes.
    pub content: Vec<u8>,
    /// They are encrypted: what was kept by early versions is not.
    pub sealed: bool,
}

fn visits(bodies: Vec<String>) -> Result<Vec<Visit>> {
    bodies.iter().map(|b| Ok(serde_json::from_str(b)?)).collect()
}

impl Store {
    /// Keeps a visit as it is now. Whoever changes one does it in their turn.
    ///
    /// # Errors
    /// When the database refuses.
    pub async fn put_visit(&self, visit: &Visit, times: &VisitTimes) -> Result<()> {
        sqlx::query(
            "INSERT INTO visits (id, queue, state, technician, made, next, closed, body) VALUES (?1, ?2, ?3, ?4, ?5, ?6, ?7, ?8) \
             ON CONFLICT (id) DO UPDATE SET queue = ?2, state = ?3, technician = ?4, next = ?6, closed = ?7, body = ?8",
        )
        .bind(&visit.id)
        .bind(&visit.request.queue)
        .bind(visit.state.word())
        .bind(&visit.technician)
        .bind(ms(visit.made))
        .bind(visit.poll_timeout(times).map(ms))
        .bind(visit.closed.as_ref().map(|c| ms(c.at)))
        .bind(serde_json::to_string(visit)?)
        .execute(&self.write)
        .await?;
        Ok(())
    }

    /// The visit of that identifier.
    ///
    /// # Errors
    /// When the database refuses.
    pub async fn visit(&self, id: &str) -> Result<Option<Visit>> {
        let body: Option<String> = sqlx::query_scalar("SELECT body FROM visits WHERE id = ?1").bind(id).fetch_optional(&self.read).await?;
        Ok(visits(body.into_iter().collect())?.pop())
    }

    /// Visits, the newest first.
    ///
    /// # Errors
    /// When the database refuses.
    pub async fn visits(&self, filter: &VisitFilter) -> Result<Vec<Visit>> {
        let bodies = sqlx::query_scalar("SELECT body FROM visits WHERE ?1 = 0 OR closed IS NULL ORDER BY made DESC, id DESC LIMIT ?2")
            .bind(filter.open)
            .bind(filter.limit)
            .fetch_all(&self.read)
            .await?;
        visits(bodies)
    }

    /// Visits that time changes until then.
    ///
    /// # Errors
    /// When the database refuses.
    pub async fn visits_due(&self, now: Timestamp) -> Result<Vec<Visit>> {
        let bodies = sqlx::query_scalar("SELECT body FROM visits WHERE next <= ?1 ORDER BY next LIMIT 200")
            .bind(ms(now))
            .fetch_all(&self.read)
            .await?;
        visits(bodies)
    }

    /// When time changes the next of them.
    ///
    /// # Errors
    /// When the database refuses.
    pub async fn next_visit_due(&self) -> Result<Option<Timestamp>> {
        let next: Option<i64> = sqlx::query_scalar("SELECT MIN(next) FROM visits WHERE next IS NOT NULL").fetch_one(&self.read).await?;
        Ok(next.map(crate::at))
    }

    /// Gives whoever is helped a token, by its keyed hash; one before is void.
    ///
    /// # Errors
    /// When the database refuses.
    pub async fn set_visit_guest(&self, id: &str, hash: &[u8; 32]) -> Result<()> {
        sqlx::query("UPDATE visits SET guest = ?2 WHERE id = ?1").bind(id).bind(&hash[..]).execute(&self.write).await?;
        Ok(())
    }

    /// The keyed hash of the token of whoever is helped.
    ///
    /// # Errors
    /// When the database refuses.
    pub async fn visit_guest(&self, id: &str) -> Result<Option<Vec<u8>>> {
        let found: Option<Option<Vec<u8>>> =
            sqlx::query_scalar("SELECT guest FROM visits WHERE id = ?1").bind(id).fetch_optional(&self.read).await?;
        Ok(found.flatten())
    }

    /// Keeps a picture or a file of a visit, which is encrypted already.
    ///
    /// # Errors
    /// When the database refuses.
    pub async fn keep_of_visit(&self, of: KeptOf, visit: &str, id: &str, sealed: &[u8]) -> Result<()> {
        let row = match of {
            KeptOf::Picture => sqlx::query("INSERT INTO visit_pictures (id, visit, png, sealed) VALUES (?1, ?2, ?3, 1)"),
            KeptOf::File => sqlx::query("INSERT INTO visit_files (id, visit, content, sealed) VALUES (?1, ?2, ?3, 1)"),
        };
        row.bind(id).bind(visit).bind(sealed).execute(&self.write).await?;
        Ok(())
    }

    /// A picture or a file of a visit.
    ///
    /// # Errors
    /// When the database refuses.
    pub async fn kept_of_visit(&self, of: KeptOf, visit: &str, id: &str) -> Result<Option<KeptContent>> {
        let found = match of {
            KeptOf::Picture => sqlx::query_as("SELECT png, sealed FROM visit_pictures WHERE id = ?1 AND visit = ?2"),
            KeptOf::File => sqlx::query_as("SELECT content, sealed FROM visit_files WHERE id = ?1 AND visit = ?2"),
        };
        let found: Option<(Vec<u8>, bool)> = found.bind(id).bind(visit).fetch_optional(&self.read).await?;
        Ok(found.map(|(content, sealed)| KeptContent { content, sealed }))
    }

    /// Removes what was given in a visit; with `one`, that alone.
    ///
    /// # Errors
    /// When the database refuses.
    pub async fn remove_visit_files(&self, visit: &str, one: Option<&str>) -> Result<()> {
        let gone = sqlx::query("DELETE FROM visit_files WHERE visit = ?1 AND (?2 IS NULL OR id = ?2)").bind(visit).bind(one);
        gone.execute(&self.write).await?;
        Ok(())
    }
}
