use crate::{Result, Store, at, ms};
use jiff::Timestamp;

/// A film of a recording: being made, or made.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct FilmRow {
    /// The session.
    pub session: String,
    /// `waiting`, `done` or `failed`.
    pub state: String,
    /// Who wanted it.
    pub by: String,
    /// When.
    pub made: Timestamp,
    /// Milliseconds of the recording that are in it.
    pub reached: i64,
    /// Why it failed.
    pub failure: String,
}

type Row = (String, String, String, i64, i64, String);

fn film((session, state, by, made, reached, failure): Row) -> FilmRow {
    FilmRow { session, state, by, made: at(made), reached, failure }
}

impl Store {
    /// Wants a film. One that is there is made anew.
    ///
    /// # Errors
    /// When the database refuses.
    pub async fn want_film(&self, session: &str, by: &str, now: Timestamp) -> Result<()> {
        sqlx::query(
            "INSERT INTO films (session, state, by, made) VALUES (?1, 'waiting', ?2, ?3) \
             ON CONFLICT (session) DO UPDATE SET state = 'waiting', by = ?2, made = ?3, reached = 0, failure = ''",
        )
        .bind(session)
        .bind(by)
        .bind(ms(now))
        .execute(&self.write)
        .await?;
        Ok(())
    }

    /// The film of a session.
    ///
    /// # Errors
    /// When the database refuses.
    pub async fn film(&self, session: &str) -> Result<Option<FilmRow>> {
        let row = sqlx::query_as("SELECT session, state, by, made, reached, failure FROM films WHERE session = ?1").bind(session);
        Ok(row.fetch_optional(&self.read).await?.map(film))
    }

    /// The film that is to be made next.
    ///
    /// # Errors
    /// When the database refuses.
    pub async fn next_film(&self) -> Result<Option<FilmRow>> {
        let row = sqlx::query_as(
            "SELECT session, state, by, made, reached, failure FROM films WHERE state = 'waiting' ORDER BY made, session LIMIT 1",
        );
        Ok(row.fetch_optional(&self.read).await?.map(film))
    }

    /// How far it is.
    ///
    /// # Errors
    /// When the database refuses.
    pub async fn film_reached(&self, session: &str, reached: i64) -> Result<()> {
        sqlx::query("UPDATE films SET reached = ?2 WHERE session = ?1").bind(session).bind(reached).execute(&self.write).await?;
        Ok(())
    }

    /// It is made, or failed.
    ///
    /// # Errors
    /// When the database refuses.
    pub async fn film_ended(&self, session: &str, failure: Option<&str>) -> Result<()> {
        sqlx::query("UPDATE films SET state = ?2, failure = ?3 WHERE session = ?1")
            .bind(session)
            .bind(if failure.is_some() { "failed" } else { "done" })
            .bind(failure.unwrap_or_default())
            .execute(&self.write)
            .await?;
        Ok(())
    }

    /// Sessions whose film was made or failed before then.
    ///
    /// # Errors
    /// When the database refuses.
    pub async fn films_before(&self, then: Timestamp) -> Result<Vec<String>> {
        let found = sqlx::query_scalar("SELECT session FROM films WHERE state <> 'waiting' AND made < ?1").bind(ms(then));
        Ok(found.fetch_all(&self.read).await?)
    }

    /// There is no film of it any more.
    ///
    /// # Errors
    /// When the database refuses.
    pub async fn forget_film(&self, session: &str) -> Result<()> {
        sqlx::query("DELETE FROM films WHERE session = ?1").bind(session).execute(&self.write).await?;
        Ok(())
    }
}
