use crate::{Result, Store, at, like, ms};
use jiff::Timestamp;
use sqlx::Row as _;
use sqlx::sqlite::SqliteRow;

/// A session as it is kept.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct SessionRow {
    /// Identifier.
    pub id: String,
    /// Name of the person.
    pub person: String,
    /// Name of the machine.
    pub machine: String,
    /// Account on it.
    pub account: String,
    /// Address the person came from.
    pub source: String,
    /// When it went live.
    pub began: Timestamp,
    /// When it ended; none while it is live.
    pub ended: Option<Timestamp>,
    /// Word of the reason.
    pub end_reason: Option<String>,
    /// Words of the capabilities used, separated by blanks.
    pub uses: String,
    /// Words of the factors proved, separated by blanks.
    pub factors: String,
    /// The `allow` that gave it.
    pub rule: String,
    /// Its line.
    pub rule_line: i64,
    /// Version of the rules.
    pub policy_version: i64,
    /// File of the recording.
    pub recording: Option<String>,
    /// Digest of the closed recording, hexadecimal.
    pub digest: Option<String>,
    /// Length of the recording in milliseconds.
    pub length_ms: i64,
    /// Bytes that the machine sent.
    pub bytes_out: i64,
    /// Bytes that the person sent.
    pub bytes_in: i64,
}

/// Which sessions to list. Newest first.
#[derive(Debug, Clone, Default)]
pub struct SessionFilter {
    /// Live (true) or ended (false).
    pub live: Option<bool>,
    /// Of this person.
    pub person: Option<String>,
    /// On this machine.
    pub machine: Option<String>,
    /// With this text in person, machine, account, address or identifier.
    pub text: Option<String>,
    /// Began before this instant and identifier (the last of the page before).
    pub before: Option<(Timestamp, String)>,
    /// Began no earlier than this.
    pub since: Option<Timestamp>,
    /// At most so many.
    pub limit: u32,
}

fn row(r: &SqliteRow) -> Result<SessionRow, sqlx::Error> {
    Ok(SessionRow {
        id: r.try_get("id")?,
        person: r.try_get("person")?,
        machine: r.try_get("machine")?,
        account: r.try_get("account")?,
        source: r.try_get("source")?,
        began: at(r.try_get("began")?),
        ended: r.try_get::<Option<i64>, _>("ended")?.map(at),
        end_reason: r.try_get("end_reason")?,
        uses: r.try_get("uses")?,
        factors: r.try_get("factors")?,
        rule: r.try_get("rule")?,
        rule_line: r.try_get("rule_line")?,
        policy_version: r.try_get("policy_version")?,
        recording: r.try_get("recording")?,
        digest: r.try_get("digest")?,
        length_ms: r.try_get("length_ms")?,
        bytes_out: r.try_get("bytes_out")?,
        bytes_in: r.try_get("bytes_in")?,
    })
}

impl Store {
    /// Adds a session.
    ///
    /// # Errors
    /// When the database refuses.
    pub async fn add_session(&self, s: &SessionRow) -> Result<()> {
        sqlx::query(
            "INSERT INTO sessions (id, person, machine, account, source, began, ended, end_reason, uses, factors, rule, rule_line,
             policy_version, recording, digest, length_ms, bytes_out, bytes_in)
             VALUES (?1, ?2, ?3, ?4, ?5, ?6, ?7, ?8, ?9, ?10, ?11, ?12, ?13, ?14, ?15, ?16, ?17, ?18)",
        )
        .bind(&s.id)
        .bind(&s.person)
        .bind(&s.machine)
        .bind(&s.account)
        .bind(&s.source)
        .bind(ms(s.began))
        .bind(s.ended.map(ms))
        .bind(&s.end_reason)
        .bind(&s.uses)
        .bind(&s.factors)
        .bind(&s.rule)
        .bind(s.rule_line)
        .bind(s.policy_version)
        .bind(&s.recording)
        .bind(&s.digest)
        .bind(s.length_ms)
        .bind(s.bytes_out)
        .bind(s.bytes_in)
        .execute(&self.write)
        .await?;
        Ok(())
    }

    /// Notes what a live session is used for.
    ///
    /// # Errors
    /// When the database refuses.
    pub async fn set_session_uses(&self, id: &str, uses: &str) -> Result<()> {
        sqlx::query("UPDATE sessions SET uses = ?2 WHERE id = ?1").bind(id).bind(uses).execute(&self.write).await?;
        Ok(())
    }

    /// Closes a session. The first reason stays.
    ///
    /// # Errors
    /// When the database refuses.
    pub async fn end_session(&self, id: &str, ended: Timestamp, reason: &str, bytes: (u64, u64)) -> Result<()> {
        sqlx::query("UPDATE sessions SET ended = ?2, end_reason = ?3, bytes_out = ?4, bytes_in = ?5 WHERE id = ?1 AND ended IS NULL")
            .bind(id)
            .bind(ms(ended))
            .bind(reason)
            .bind(i64::try_from(bytes.0).unwrap_or(i64::MAX))
            .bind(i64::try_from(bytes.1).unwrap_or(i64::MAX))
            .execute(&self.write)
            .await?;
        Ok(())
    }

    /// Notes the digest of a closed recording.
    ///
    /// # Errors
    /// When the database refuses.
    pub async fn set_session_recording(&self, id: &str, digest: &str, length_ms: u64) -> Result<()> {
        sqlx::query("UPDATE sessions SET digest = ?2, length_ms = ?3 WHERE id = ?1")
            .bind(id)
            .bind(digest)
            .bind(i64::try_from(length_ms).unwrap_or(i64::MAX))
            .execute(&self.write)
            .await?;
        Ok(())
    }

    /// One session.
    ///
    /// # Errors
    /// When the database refuses.
    pub async fn session(&self, id: &str) -> Result<Option<SessionRow>> {
        let found = sqlx::query("SELECT * FROM sessions WHERE id = ?1").bind(id).fetch_optional(&self.read).await?;
        Ok(found.as_ref().map(row).transpose()?)
    }

    /// Sessions, newest first.
    ///
    /// # Errors
    /// When the database refuses.
    pub async fn sessions(&self, f: &SessionFilter) -> Result<Vec<SessionRow>> {
        let (before_at, before_id) = f.before.as_ref().map_or((i64::MAX, ""), |(t, id)| (ms(*t), id.as_str()));
        let rows = sqlx::query(
            "SELECT * FROM sessions
             WHERE (began, id) < (?1, ?2)
               AND (?3 IS NULL OR (ended IS NULL) = ?3)
               AND (?4 IS NULL OR person = ?4)
               AND (?5 IS NULL OR machine = ?5)
               AND (?6 IS NULL OR began >= ?6)
               AND (?7 IS NULL OR person LIKE ?7 ESCAPE '\\' OR machine LIKE ?7 ESCAPE '\\' OR account LIKE ?7 ESCAPE '\\'
                    OR source LIKE ?7 ESCAPE '\\' OR id LIKE ?7 ESCAPE '\\')
             ORDER BY began DESC, id DESC LIMIT ?8",
        )
        .bind(before_at)
        .bind(before_id)
        .bind(f.live)
        .bind(&f.person)
        .bind(&f.machine)
        .bind(f.since.map(ms))
        .bind(f.text.as_deref().map(like))
        .bind(i64::from(f.limit))
        .fetch_all(&self.read)
        .await?;
        rows.iter().map(|r| Ok(row(r)?)).collect()
    }

    /// Whether this person had a session in this account of the machine in which they did more than these uses.
    ///
    /// # Errors
    /// When the database refuses.
    pub async fn acted_as(&self, person: &str, machine: &str, account: &str, looking: &[&str]) -> Result<bool> {
        let uses: Vec<String> =
            sqlx::query_scalar("SELECT DISTINCT uses FROM sessions WHERE person = ?1 AND machine = ?2 AND account = ?3")
                .bind(person)
                .bind(machine)
                .bind(account)
                .fetch_all(&self.read)
                .await?;
        Ok(uses.iter().flat_map(|u| u.split_whitespace()).any(|u| !looking.contains(&u)))
    }

    /// Sessions whose closed recordings were held against the log longest ago, or never.
    ///
    /// # Errors
    /// When the database refuses.
    pub async fn recordings_to_check(&self, ended: Timestamp, limit: u32) -> Result<Vec<SessionRow>> {
        let rows = sqlx::query(
            "SELECT * FROM sessions WHERE recording IS NOT NULL AND ended < ?1 ORDER BY checked NULLS FIRST, began DESC LIMIT ?2",
        )
        .bind(ms(ended))
        .bind(i64::from(limit))
        .fetch_all(&self.read)
        .await?;
        Ok(rows.iter().map(row).collect::<Result<_, _>>()?)
    }

    /// Notes that a recording was held against the log.
    ///
    /// # Errors
    /// When the database refuses.
    pub async fn recording_checked(&self, id: &str, now: Timestamp) -> Result<()> {
        sqlx::query("UPDATE sessions SET checked = ?2 WHERE id = ?1").bind(id).bind(ms(now)).execute(&self.write).await?;
        Ok(())
    }
}
