use crate::{Result, Store, at, ms};
use aerie_core::approval::{Answer, Wish};
use aerie_core::policy::Pass;
use jiff::Timestamp;
use sqlx::Row as _;
use sqlx::sqlite::SqliteRow;

/// What has become of a request.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum RequestState {
    /// It waits for its approvers.
    Open,
    /// There is a pass.
    Approved,
    /// An approver refused it.
    Refused,
    /// Whoever asked does so no longer.
    Withdrawn,
    /// Nobody answered in time.
    Expired,
}

impl RequestState {
    const ALL: [Self; 5] = [Self::Open, Self::Approved, Self::Refused, Self::Withdrawn, Self::Expired];

    /// Its stable word.
    pub fn word(self) -> &'static str {
        match self {
            Self::Open => "open",
            Self::Approved => "approved",
            Self::Refused => "refused",
            Self::Withdrawn => "withdrawn",
            Self::Expired => "expired",
        }
    }

    /// The one of that word.
    pub fn from_word(word: &str) -> Option<Self> {
        Self::ALL.into_iter().find(|s| s.word() == word)
    }
}

/// A request as it is kept.
#[derive(Debug, Clone)]
pub struct RequestRow {
    /// What is asked for.
    pub wish: Wish,
    /// The answers so far.
    pub answers: Vec<Answer>,
    /// What has become of it.
    pub state: RequestState,
    /// When its approvers were reminded.
    pub reminded: Option<Timestamp>,
    /// When it was decided or ended.
    pub over: Option<Timestamp>,
}

/// A pass as it is kept.
#[derive(Debug, Clone)]
pub struct PassRow {
    /// The pass.
    pub pass: Pass,
    /// When it was made.
    pub made: Timestamp,
    /// When it was withdrawn.
    pub withdrawn: Option<Timestamp>,
    /// By whom.
    pub withdrawn_by: String,
    /// Why.
    pub why: String,
}

/// Who may answer in whose place.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Deputy {
    /// The approver.
    pub person: String,
    /// Whoever answers in their place.
    pub deputy: String,
    /// Until when.
    pub until: Timestamp,
}

/// A use that waits.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct WaitRow {
    /// Identifier of the attempt.
    pub id: String,
    /// Who waits.
    pub person: String,
    /// For which machine.
    pub machine: String,
    /// For whom, in words.
    pub whom: String,
    /// Since when.
    pub since: Timestamp,
}

/// Why and since when the service is locked down.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Lockdown {
    /// Since when.
    pub since: Timestamp,
    /// By whom.
    pub by: String,
    /// Why.
    pub why: String,
}

fn request(row: &SqliteRow) -> Result<RequestRow> {
    Ok(RequestRow {
        wish: serde_json::from_str(row.try_get("wish")?)?,
        answers: serde_json::from_str(row.try_get("answers")?)?,
        state: RequestState::from_word(row.try_get("state")?).ok_or_else(|| sqlx::Error::Decode("a state of a request".into()))?,
        reminded: row.try_get::<Option<i64>, _>("reminded")?.map(at),
        over: row.try_get::<Option<i64>, _>("over")?.map(at),
    })
}

fn pass(row: &SqliteRow) -> Result<PassRow> {
    Ok(PassRow {
        pass: serde_json::from_str(row.try_get("pass")?)?,
        made: at(row.try_get("made")?),
        withdrawn: row.try_get::<Option<i64>, _>("withdrawn")?.map(at),
        withdrawn_by: row.try_get("withdrawn_by")?,
        why: row.try_get("why")?,
    })
}

impl Store {
    /// Keeps a request, new or changed.
    ///
    /// # Errors
    /// When the database refuses.
    pub async fn put_request(&self, r: &RequestRow) -> Result<()> {
        sqlx::query(
            "INSERT OR REPLACE INTO requests (id, person, wish, answers, asked, expires, reminded, state, over) \
             VALUES (?1, ?2, ?3, ?4, ?5, ?6, ?7, ?8, ?9)",
        )
        .bind(&r.wish.id)
        .bind(&r.wish.person)
        .bind(serde_json::to_string(&r.wish)?)
        .bind(serde_json::to_string(&r.answers)?)
        .bind(ms(r.wish.asked))
        .bind(ms(r.wish.expires))
        .bind(r.reminded.map(ms))
        .bind(r.state.word())
        .bind(r.over.map(ms))
        .execute(&self.write)
        .await?;
        Ok(())
    }

    /// One request.
    ///
    /// # Errors
    /// When the database refuses or holds what this version does not write.
    pub async fn request(&self, id: &str) -> Result<Option<RequestRow>> {
        let row = sqlx::query("SELECT * FROM requests WHERE id = ?1").bind(id).fetch_optional(&self.read).await?;
        row.as_ref().map(request).transpose()
    }

    /// Requests, newest first: all, or those in one state.
    ///
    /// # Errors
    /// When the database refuses or holds what this version does not write.
    pub async fn requests(&self, state: Option<RequestState>, limit: u32) -> Result<Vec<RequestRow>> {
        let rows = sqlx::query("SELECT * FROM requests WHERE ?1 IS NULL OR state = ?1 ORDER BY asked DESC, id DESC LIMIT ?2")
            .bind(state.map(RequestState::word))
            .bind(i64::from(limit))
            .fetch_all(&self.read)
            .await?;
        rows.iter().map(request).collect()
    }

    /// Keeps a pass.
    ///
    /// # Errors
    /// When the database refuses.
    pub async fn add_pass(&self, p: &Pass, now: Timestamp) -> Result<()> {
        sqlx::query("INSERT INTO passes (id, person, pass, until, made) VALUES (?1, ?2, ?3, ?4, ?5)")
            .bind(&p.id)
            .bind(&p.person)
            .bind(serde_json::to_string(p)?)
            .bind(ms(p.until))
            .bind(ms(now))
            .execute(&self.write)
            .await?;
        Ok(())
    }

    /// Withdraws a pass; false where there is none that is good.
    ///
    /// # Errors
    /// When the database refuses.
    pub async fn withdraw_pass(&self, id: &str, by: &str, why: &str, now: Timestamp) -> Result<bool> {
        let done =
            sqlx::query("UPDATE passes SET withdrawn = ?2, withdrawn_by = ?3, why = ?4 WHERE id = ?1 AND withdrawn IS NULL AND until > ?2")
                .bind(id)
                .bind(ms(now))
                .bind(by)
                .bind(why)
                .execute(&self.write)
                .await?;
        Ok(done.rows_affected() == 1)
    }

    /// Passes, newest first: those that end after an instant.
    ///
    /// # Errors
    /// When the database refuses or holds what this version does not write.
    pub async fn passes(&self, ending_after: Timestamp) -> Result<Vec<PassRow>> {
        let rows = sqlx::query("SELECT * FROM passes WHERE until > ?1 ORDER BY made DESC, id DESC LIMIT 10000")
            .bind(ms(ending_after))
            .fetch_all(&self.read)
            .await?;
        rows.iter().map(pass).collect()
    }

    /// Lets somebody answer in another's place; none to end it.
    ///
    /// # Errors
    /// When the database refuses.
    pub async fn set_deputy(&self, person: &str, deputy: Option<(&str, Timestamp)>, now: Timestamp) -> Result<()> {
        match deputy {
            Some((deputy, until)) => {
                sqlx::query("INSERT OR REPLACE INTO deputies (person, deputy, until, made) VALUES (?1, ?2, ?3, ?4)")
                    .bind(person)
                    .bind(deputy)
                    .bind(ms(until))
                    .bind(ms(now))
                    .execute(&self.write)
                    .await?
            }
            None => sqlx::query("DELETE FROM deputies WHERE person = ?1").bind(person).execute(&self.write).await?,
        };
        Ok(())
    }

    /// Those who answer in another's place at this instant.
    ///
    /// # Errors
    /// When the database refuses.
    pub async fn deputies(&self, now: Timestamp) -> Result<Vec<Deputy>> {
        let rows: Vec<(String, String, i64)> =
            sqlx::query_as("SELECT person, deputy, until FROM deputies WHERE until > ?1 ORDER BY person")
                .bind(ms(now))
                .fetch_all(&self.read)
                .await?;
        Ok(rows.into_iter().map(|(person, deputy, until)| Deputy { person, deputy, until: at(until) }).collect())
    }

    /// Notes that a use waits.
    ///
    /// # Errors
    /// When the database refuses.
    pub async fn add_wait(&self, w: &WaitRow) -> Result<()> {
        sqlx::query("INSERT OR REPLACE INTO waits (id, person, machine, whom, since) VALUES (?1, ?2, ?3, ?4, ?5)")
            .bind(&w.id)
            .bind(&w.person)
            .bind(&w.machine)
            .bind(&w.whom)
            .bind(ms(w.since))
            .execute(&self.write)
            .await?;
        Ok(())
    }

    /// Notes that it waits no longer.
    ///
    /// # Errors
    /// When the database refuses.
    pub async fn remove_wait(&self, id: &str) -> Result<()> {
        sqlx::query("DELETE FROM waits WHERE id = ?1").bind(id).execute(&self.write).await?;
        Ok(())
    }

    /// Uses that wait, the longest wait first.
    ///
    /// # Errors
    /// When the database refuses.
    pub async fn waits(&self) -> Result<Vec<WaitRow>> {
        let rows: Vec<(String, String, String, String, i64)> =
            sqlx::query_as("SELECT id, person, machine, whom, since FROM waits ORDER BY since, id").fetch_all(&self.read).await?;
        Ok(rows.into_iter().map(|(id, person, machine, whom, since)| WaitRow { id, person, machine, whom, since: at(since) }).collect())
    }

    /// Locks down, or opens again.
    ///
    /// # Errors
    /// When the database refuses.
    pub async fn set_lockdown(&self, lockdown: Option<&Lockdown>) -> Result<()> {
        match lockdown {
            Some(l) => {
                sqlx::query("INSERT OR REPLACE INTO lockdown (one, since, by, why) VALUES (1, ?1, ?2, ?3)")
                    .bind(ms(l.since))
                    .bind(&l.by)
                    .bind(&l.why)
                    .execute(&self.write)
                    .await?
            }
            None => sqlx::query("DELETE FROM lockdown").execute(&self.write).await?,
        };
        Ok(())
    }

    /// Whether it is locked down.
    ///
    /// # Errors
    /// When the database refuses.
    pub async fn lockdown(&self) -> Result<Option<Lockdown>> {
        let row: Option<(i64, String, String)> = sqlx::query_as("SELECT since, by, why FROM lockdown").fetch_optional(&self.read).await?;
        Ok(row.map(|(since, by, why)| Lockdown { since: at(since), by, why }))
    }
}
