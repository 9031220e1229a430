use crate::{Result, Store, at, ms};
use jiff::Timestamp;
use sqlx::Row as _;

/// What somebody did to another's account.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum Touch {
    /// Made it.
    Made,
    /// Invited its owner: whoever has the link sets the password.
    Invited,
    /// Gave a temporary code, or took a second factor away: whoever has the password brings their own.
    SecondFactor,
    /// Changed where its mail goes.
    Mail,
}

impl Touch {
    /// Its word.
    pub fn word(self) -> &'static str {
        match self {
            Self::Made => "made",
            Self::Invited => "invited",
            Self::SecondFactor => "second-factor",
            Self::Mail => "mail",
        }
    }
}

/// Something that waits for a second administrator.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Proposal {
    /// Identifier.
    pub id: String,
    /// What kind of thing.
    pub kind: String,
    /// The setting, person or machine.
    pub subject: String,
    /// What is proposed, in one sentence.
    pub sentence: String,
    /// What is done once another agreed, as JSON of the kind.
    pub payload: String,
    /// Who proposed it.
    pub by: String,
    /// When.
    pub at: Timestamp,
    /// Until when it can be agreed to.
    pub expires: Timestamp,
}

impl Store {
    /// Notes that somebody had a hand in another's account. Of one kind the last time counts.
    ///
    /// # Errors
    /// When the database refuses.
    pub async fn touch_account(&self, person: &str, by: &str, touch: Touch, now: Timestamp) -> Result<()> {
        sqlx::query(
            "INSERT INTO account_touches (person, by, kind, at) VALUES (?1, ?2, ?3, ?4)
             ON CONFLICT (person, by, kind) DO UPDATE SET at = max(at, excluded.at)",
        )
        .bind(person)
        .bind(by)
        .bind(touch.word())
        .bind(ms(now))
        .execute(&self.write)
        .await?;
        Ok(())
    }

    /// Whether somebody had a hand of one of these kinds in another's account since then; `by` nobody in particular: anybody but the
    /// person themselves.
    ///
    /// # Errors
    /// When the database refuses.
    pub async fn touched(&self, person: &str, by: Option<&str>, kinds: &[Touch], since: Timestamp) -> Result<bool> {
        let found: Vec<String> = sqlx::query_scalar(
            "SELECT kind FROM account_touches WHERE person = ?1 AND (by = ?2 OR ?2 IS NULL) AND by <> person AND at >= ?3",
        )
        .bind(person)
        .bind(by)
        .bind(ms(since))
        .fetch_all(&self.read)
        .await?;
        Ok(found.iter().any(|k| kinds.iter().any(|kind| kind.word() == k)))
    }

    /// Keeps a proposal, in place of an earlier one of the same kind about the same thing.
    ///
    /// # Errors
    /// When the database refuses.
    pub async fn propose(&self, p: &Proposal) -> Result<()> {
        let mut transaction = self.write.begin().await?;
        sqlx::query("DELETE FROM proposals WHERE kind = ?1 AND subject = ?2")
            .bind(&p.kind)
            .bind(&p.subject)
            .execute(&mut *transaction)
            .await?;
        sqlx::query(
            "INSERT INTO proposals (id, kind, subject, sentence, payload, by, at, expires) VALUES (?1, ?2, ?3, ?4, ?5, ?6, ?7, ?8)",
        )
        .bind(&p.id)
        .bind(&p.kind)
        .bind(&p.subject)
        .bind(&p.sentence)
        .bind(&p.payload)
        .bind(&p.by)
        .bind(ms(p.at))
        .bind(ms(p.expires))
        .execute(&mut *transaction)
        .await?;
        transaction.commit().await?;
        Ok(())
    }

    /// Proposals that can be agreed to, newest first.
    ///
    /// # Errors
    /// When the database refuses.
    pub async fn proposals(&self, now: Timestamp) -> Result<Vec<Proposal>> {
        let rows =
            sqlx::query("SELECT * FROM proposals WHERE expires > ?1 ORDER BY at DESC, id").bind(ms(now)).fetch_all(&self.read).await?;
        rows.iter()
            .map(|r| {
                Ok(Proposal {
                    id: r.try_get("id")?,
                    kind: r.try_get("kind")?,
                    subject: r.try_get("subject")?,
                    sentence: r.try_get("sentence")?,
                    payload: r.try_get("payload")?,
                    by: r.try_get("by")?,
                    at: at(r.try_get("at")?),
                    expires: at(r.try_get("expires")?),
                })
            })
            .collect()
    }

    /// Takes a proposal away; false where it is gone already: of two who agree at a time, one is too late.
    ///
    /// # Errors
    /// When the database refuses.
    pub async fn take_proposal(&self, id: &str) -> Result<bool> {
        let done = sqlx::query("DELETE FROM proposals WHERE id = ?1").bind(id).execute(&self.write).await?;
        Ok(done.rows_affected() == 1)
    }
}
