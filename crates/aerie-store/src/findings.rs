use crate::{Result, Store, like, ms};
use aerie_core::audit::{Case, CaseState, Finding};
use jiff::Timestamp;
use sqlx::sqlite::SqliteRow;
use sqlx::{QueryBuilder, Row as _, Sqlite, Transaction};

/// Which findings to list. Newest first.
#[derive(Debug, Clone, Default)]
pub struct FindingFilter {
    /// Of this kind.
    pub kind: Option<String>,
    /// In this session.
    pub session: Option<String>,
    /// On this machine.
    pub machine: Option<String>,
    /// In this state, or `settled` or `unsettled`.
    pub state: Option<String>,
    /// At least of this rank ([`aerie_core::audit::Importance`] as a number).
    pub rank: Option<i64>,
    /// Of this owner.
    pub owner: Option<String>,
    /// With this text anywhere in it.
    pub text: Option<String>,
    /// Last seen before this instant and identifier (the last of the page before).
    pub before: Option<(Timestamp, String)>,
    /// At most so many.
    pub limit: u32,
}

/// A finding as it is kept.
#[derive(Debug, Clone)]
pub struct KeptFinding {
    /// What was found.
    pub finding: Finding,
    /// How far it is with it.
    pub case: Case,
    /// How it was settled; none while it is open.
    pub settled: Option<Settled>,
}

/// How a finding was settled.
#[derive(Debug, Clone)]
pub struct Settled {
    /// When.
    pub at: Timestamp,
    /// By whom.
    pub by: String,
    /// Why.
    pub why: String,
}

/// Something that was done with a finding.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct HistoryEntry {
    /// When.
    pub at: Timestamp,
    /// By whom; `service` for what happened by itself.
    pub by: String,
    /// What, in a sentence.
    pub sentence: String,
}

/// What became of a finding that was raised.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum Put {
    /// It is new.
    New,
    /// It was settled, and is open again.
    Again,
    /// It is known.
    Known,
}

const COLUMNS: &str = "SELECT body, state, owner, due, until, settled, settled_by, settled_why FROM findings ";

const ONE: &str = "SELECT body, state, owner, due, until, settled, settled_by, settled_why FROM findings WHERE id = ?1";

fn kept(r: &SqliteRow) -> Result<KeptFinding> {
    let (body, state): (String, String) = (r.try_get("body")?, r.try_get("state")?);
    let time = |column: &str| r.try_get::<Option<i64>, _>(column).map(|t| t.map(crate::at));
    let text = |column: &str| r.try_get::<Option<String>, _>(column).map(Option::unwrap_or_default);
    let (by, why) = (text("settled_by")?, text("settled_why")?);
    Ok(KeptFinding {
        finding: serde_json::from_str(&body)?,
        case: Case {
            state: CaseState::from_word(&state).unwrap_or_default(),
            owner: r.try_get("owner")?,
            due: time("due")?,
            until: time("until")?,
        },
        settled: time("settled")?.map(|at| Settled { at, by, why }),
    })
}

async fn note(t: &mut Transaction<'_, Sqlite>, finding: &str, by: &str, sentence: &str, now: Timestamp) -> Result<()> {
    sqlx::query("INSERT INTO finding_history (finding, at, by, sentence) VALUES (?1, ?2, ?3, ?4)")
        .bind(finding)
        .bind(ms(now))
        .bind(by)
        .bind(sentence)
        .execute(&mut **t)
        .await?;
    Ok(())
}

async fn set_case(t: &mut Transaction<'_, Sqlite>, finding: &str, case: &Case) -> Result<()> {
    sqlx::query("UPDATE findings SET state = ?2, owner = ?3, due = ?4, until = ?5 WHERE id = ?1")
        .bind(finding)
        .bind(case.state.word())
        .bind(&case.owner)
        .bind(case.due.map(ms))
        .bind(case.until.map(ms))
        .execute(&mut **t)
        .await?;
    Ok(())
}

impl Store {
    /// Keeps a finding; one that is known is replaced when it was seen again, and then is open again where it was resolved.
    ///
    /// # Errors
    /// When the database refuses.
    pub async fn put_finding(&self, f: &Finding, now: Timestamp) -> Result<Put> {
        let mut t = self.write.begin().await?;
        let known = sqlx::query(ONE).bind(&f.id).fetch_optional(&mut *t).await?;
        let known = known.as_ref().map(kept).transpose()?;
        // A part of what is known changes nothing: the same log again, or one that ends earlier.
        if known.as_ref().is_some_and(|k| k.finding.last >= f.last && k.finding.count >= f.count) {
            return Ok(Put::Known);
        }
        sqlx::query(
            "INSERT INTO findings (id, kind, rank, machine, person, session, first, last, body, raised)
             VALUES (?1, ?2, ?3, ?4, ?5, ?6, ?7, ?8, ?9, ?10)
             ON CONFLICT (id) DO UPDATE SET rank = excluded.rank, last = max(last, excluded.last), body = excluded.body WHERE excluded.last >= findings.last",
        )
        .bind(&f.id)
        .bind(f.word())
        .bind(f.importance as i64)
        .bind(&f.machine)
        .bind(&f.person)
        .bind(&f.session)
        .bind(ms(f.first))
        .bind(ms(f.last))
        .bind(serde_json::to_string(f)?)
        .bind(ms(now))
        .execute(&mut *t)
        .await?;
        let mut put = if known.is_some() { Put::Known } else { Put::New };
        if let Some(KeptFinding { finding, mut case, .. }) = known
            && f.last > finding.last
            && let Some(sentence) = case.handle_again(now)
        {
            set_case(&mut t, &f.id, &case).await?;
            sqlx::query("UPDATE findings SET settled = NULL, settled_by = NULL, settled_why = NULL WHERE id = ?1")
                .bind(&f.id)
                .execute(&mut *t)
                .await?;
            note(&mut t, &f.id, "service", sentence, now).await?;
            put = Put::Again;
        }
        t.commit().await?;
        Ok(put)
    }

    /// One finding.
    ///
    /// # Errors
    /// When the database refuses.
    pub async fn finding(&self, id: &str) -> Result<Option<KeptFinding>> {
        let row = sqlx::query(ONE).bind(id).fetch_optional(&self.read).await?;
        row.as_ref().map(kept).transpose()
    }

    /// Findings, newest first.
    ///
    /// # Errors
    /// When the database refuses.
    pub async fn findings(&self, f: &FindingFilter) -> Result<Vec<KeptFinding>> {
        let mut query = QueryBuilder::new(COLUMNS);
        let (before_at, before_id) = f.before.as_ref().map_or((i64::MAX, ""), |(t, id)| (ms(*t), id.as_str()));
        query.push("WHERE (last, id) < (").push_bind(before_at).push(", ").push_bind(before_id.to_string()).push(")");
        for (column, value) in [("kind", &f.kind), ("session", &f.session), ("machine", &f.machine), ("owner", &f.owner)] {
            if let Some(value) = value {
                query.push(" AND ").push(column).push(" = ").push_bind(value.clone());
            }
        }
        match f.state.as_deref() {
            Some("settled") => drop(query.push(" AND state IN ('resolved', 'accepted')")),
            Some("unsettled") => drop(query.push(" AND state NOT IN ('resolved', 'accepted')")),
            Some(state) => drop(query.push(" AND state = ").push_bind(state.to_string())),
            None => {}
        }
        if let Some(rank) = f.rank {
            query.push(" AND rank >= ").push_bind(rank);
        }
        if let Some(text) = f.text.as_deref().map(like) {
            query.push(" AND body LIKE ").push_bind(text).push(" ESCAPE '\\'");
        }
        query.push(" ORDER BY last DESC, id DESC LIMIT ").push_bind(i64::from(f.limit));
        query.build().fetch_all(&self.read).await?.iter().map(kept).collect()
    }

    /// Does something with a finding: `step` gets how it is, and gives the sentence for the history. None where there is no such finding.
    ///
    /// # Errors
    /// When the database refuses; what `step` refuses is the inner result.
    pub async fn work_on_finding<E>(
        &self,
        id: &str,
        by: &str,
        now: Timestamp,
        step: impl FnOnce(&KeptFinding, &mut Case) -> std::result::Result<(String, Option<String>), E> + Send,
    ) -> Result<Option<std::result::Result<String, E>>> {
        let mut t = self.write.begin().await?;
        let row = sqlx::query(ONE).bind(id).fetch_optional(&mut *t).await?;
        let Some(kept) = row.as_ref().map(kept).transpose()? else { return Ok(None) };
        let mut case = kept.case.clone();
        let (sentence, why) = match step(&kept, &mut case) {
            Ok(done) => done,
            Err(e) => return Ok(Some(Err(e))),
        };
        set_case(&mut t, id, &case).await?;
        if case.state.is_settled() != kept.case.state.is_settled() {
            let settled = case.state.is_settled();
            sqlx::query("UPDATE findings SET settled = ?2, settled_by = ?3, settled_why = ?4 WHERE id = ?1")
                .bind(id)
                .bind(settled.then_some(ms(now)))
                .bind(settled.then_some(by))
                .bind(why.filter(|_| settled))
                .execute(&mut *t)
                .await?;
        }
        note(&mut t, id, by, &sentence, now).await?;
        t.commit().await?;
        Ok(Some(Ok(sentence)))
    }

    /// What was done with a finding, in its order; the newest 500.
    ///
    /// # Errors
    /// When the database refuses.
    pub async fn finding_history(&self, id: &str) -> Result<Vec<HistoryEntry>> {
        let rows: Vec<(i64, String, String)> = sqlx::query_as(
            "SELECT at, by, sentence FROM (SELECT * FROM finding_history WHERE finding = ?1 ORDER BY id DESC LIMIT 500) ORDER BY id",
        )
        .bind(id)
        .fetch_all(&self.read)
        .await?;
        Ok(rows.into_iter().map(|(at, by, sentence)| HistoryEntry { at: crate::at(at), by, sentence }).collect())
    }

    /// Opens what was accepted until a day that is over; gives the identifiers.
    ///
    /// # Errors
    /// When the database refuses.
    pub async fn end_acceptances(&self, now: Timestamp) -> Result<Vec<String>> {
        let over: Vec<String> = sqlx::query_scalar("SELECT id FROM findings WHERE state = 'accepted' AND until <= ?1 LIMIT 1000")
            .bind(ms(now))
            .fetch_all(&self.read)
            .await?;
        let mut opened = vec![];
        for id in over {
            let step = |_: &KeptFinding, case: &mut Case| case.handle_time(now).map(|s| (s.to_string(), None)).ok_or(());
            if let Some(Ok(_)) = self.work_on_finding(&id, "service", now, step).await? {
                opened.push(id);
            }
        }
        Ok(opened)
    }

    /// Settles a finding, so that it is no longer open; false where there is none that is.
    ///
    /// # Errors
    /// When the database refuses.
    pub async fn settle_finding(&self, id: &str, by: &str, why: &str, now: Timestamp) -> Result<bool> {
        let mut t = self.write.begin().await?;
        let done = sqlx::query(
            "UPDATE findings SET state = 'resolved', settled = ?2, settled_by = ?3, settled_why = ?4 WHERE id = ?1 AND settled IS NULL",
        )
        .bind(id)
        .bind(ms(now))
        .bind(by)
        .bind(why)
        .execute(&mut *t)
        .await?;
        let settled = done.rows_affected() == 1;
        if settled {
            note(&mut t, id, by, &format!("{by} settled it: {why}"), now).await?;
        }
        t.commit().await?;
        Ok(settled)
    }

    /// How many findings above low are open, and how many of them were last seen since an instant.
    ///
    /// # Errors
    /// When the database refuses.
    pub async fn count_findings(&self, since: Timestamp) -> Result<(u64, u64)> {
        let (all, new): (i64, i64) = sqlx::query_as(
            "SELECT count(*), count(*) FILTER (WHERE last >= ?1) FROM findings WHERE state NOT IN ('resolved', 'accepted') AND rank >= 0",
        )
        .bind(ms(since))
        .fetch_one(&self.read)
        .await?;
        Ok((all.try_into().unwrap_or(0), new.try_into().unwrap_or(0)))
    }
}
