use crate::{Result, Store, at, like, ms};
use aerie_core::audit::{AccessRecord, LogLine, Recorded, Service, TOGETHER};
use jiff::Timestamp;
use sqlx::sqlite::SqliteRow;
use sqlx::{Row as _, Sqlite, Transaction};

/// Which accesses to list. Newest first.
#[derive(Debug, Clone, Default)]
pub struct AccessFilter {
    /// Began no earlier than this.
    pub since: Option<Timestamp>,
    /// Began before this.
    pub until: Option<Timestamp>,
    /// Of this person.
    pub person: Option<String>,
    /// On this machine.
    pub machine: Option<String>,
    /// Through Aerie (true), or seen by a log alone (false).
    pub through: Option<bool>,
    /// With this text in person, machine, account or address.
    pub text: Option<String>,
    /// Began before this instant and identifier (the last of the page before).
    pub before: Option<(Timestamp, String)>,
    /// At most so many.
    pub limit: u32,
}

/// Totals of one person or machine.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct AccessTotal {
    /// Name; empty where the person is not known.
    pub name: String,
    /// Accesses.
    pub count: u64,
    /// Those of them that no session of Aerie explains.
    pub around: u64,
    /// Seconds together, as far as ends are known.
    pub seconds: u64,
    /// The longest, in seconds.
    pub longest: u64,
    /// First.
    pub first: Timestamp,
    /// Last.
    pub last: Timestamp,
}

/// What totals are of.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum TotalOf {
    /// Each person.
    Person,
    /// Each machine.
    Machine,
    /// Each address.
    Source,
    /// Each account of a machine.
    Account,
}

impl TotalOf {
    fn column(self) -> &'static str {
        match self {
            Self::Person => "coalesce(person, '')",
            Self::Machine => "machine",
            Self::Source => "source",
            Self::Account => "account || ' on ' || machine",
        }
    }
}

fn record(r: &SqliteRow) -> Result<AccessRecord> {
    let (service, lines): (String, String) = (r.try_get("service")?, r.try_get("lines")?);
    let session: Option<String> = r.try_get("session")?;
    Ok(AccessRecord {
        id: r.try_get("id")?,
        service: Service::from_word(&service).unwrap_or_default(),
        machine: r.try_get("machine")?,
        account: r.try_get("account")?,
        person: r.try_get("person")?,
        source: r.try_get("source")?,
        port: u16::try_from(r.try_get::<i64, _>("port")?).unwrap_or(0),
        method: r.try_get("method")?,
        key: r.try_get("key")?,
        begin: at(r.try_get("began")?),
        end: r.try_get::<Option<i64>, _>("ended")?.map(at),
        explained: session.is_some(),
        session,
        lines: serde_json::from_str(&lines)?,
    })
}

/// The conditions of a filter; their values are bound in this order: 1 to 8.
const WHERE: &str = "(?1 IS NULL OR began >= ?1) AND (?2 IS NULL OR began < ?2) AND (?3 IS NULL OR person = ?3) AND (?4 IS NULL OR machine = ?4)
    AND (?5 IS NULL OR (session IS NOT NULL) = ?5)
    AND (?6 IS NULL OR person LIKE ?6 ESCAPE '\\' OR machine LIKE ?6 ESCAPE '\\' OR account LIKE ?6 ESCAPE '\\' OR source LIKE ?6 ESCAPE '\\')
    AND (?7 IS NULL OR (began, id) < (?7, ?8))";

macro_rules! filtered {
    ($query:expr, $f:expr) => {
        $query
            .bind($f.since.map(ms))
            .bind($f.until.map(ms))
            .bind(&$f.person)
            .bind(&$f.machine)
            .bind($f.through)
            .bind($f.text.as_deref().map(like))
            .bind($f.before.as_ref().map(|(t, _)| ms(*t)))
            .bind($f.before.as_ref().map(|(_, id)| id.as_str()))
    };
}

impl Store {
    /// Keeps what a log shows of accesses. What several logs tell of one access becomes one record with all its lines; what is known
    /// already changes nothing.
    ///
    /// # Errors
    /// When the database refuses.
    pub async fn put_accesses(&self, told: &[Recorded]) -> Result<()> {
        let mut t = self.write.begin().await?;
        for one in told {
            match one {
                Recorded::Began(record) => began(&mut t, record).await?,
                Recorded::Ended { id, at, line } => ended(&mut t, id, *at, line.as_ref()).await?,
            }
        }
        Ok(t.commit().await?)
    }

    /// Who got into which machine, and when: Aerie's own sessions, and what no session explains.
    ///
    /// # Errors
    /// When the database refuses.
    pub async fn accesses(&self, f: &AccessFilter) -> Result<Vec<AccessRecord>> {
        let sql = format!("SELECT * FROM who_when_where WHERE {WHERE} ORDER BY began DESC, id DESC LIMIT ?9");
        let rows = filtered!(sqlx::query(sqlx::AssertSqlSafe(sql)), f).bind(i64::from(f.limit)).fetch_all(&self.read).await?;
        rows.iter().map(record).collect()
    }

    /// One access, or session.
    ///
    /// # Errors
    /// When the database refuses.
    pub async fn access(&self, id: &str) -> Result<Option<AccessRecord>> {
        let row = sqlx::query("SELECT * FROM who_when_where WHERE id = ?1").bind(id).fetch_optional(&self.read).await?;
        row.as_ref().map(record).transpose()
    }

    /// Lines of machines' logs that show a session.
    ///
    /// # Errors
    /// When the database refuses.
    pub async fn lines_of_session(&self, session: &str) -> Result<Vec<LogLine>> {
        let all: Vec<String> = sqlx::query_scalar("SELECT lines FROM accesses WHERE session = ?1 ORDER BY began LIMIT 100")
            .bind(session)
            .fetch_all(&self.read)
            .await?;
        let lines: Vec<Vec<LogLine>> = all.iter().map(|l| serde_json::from_str(l)).collect::<Result<_, _>>()?;
        Ok(lines.into_iter().flatten().collect())
    }

    /// Totals, most accesses first.
    ///
    /// # Errors
    /// When the database refuses.
    pub async fn access_totals(&self, f: &AccessFilter, of: TotalOf) -> Result<Vec<AccessTotal>> {
        let column = of.column();
        let sql = format!(
            "SELECT {column} AS name, count(*) AS n, count(*) FILTER (WHERE session IS NULL) AS around,
             coalesce(sum(max(ended - began, 0)), 0) AS ms, coalesce(max(ended - began), 0) AS longest, min(began) AS first, max(began) AS last
             FROM who_when_where WHERE {WHERE} GROUP BY 1 ORDER BY n DESC, name LIMIT ?9"
        );
        let rows = filtered!(sqlx::query(sqlx::AssertSqlSafe(sql)), f).bind(i64::from(f.limit)).fetch_all(&self.read).await?;
        let number = |r: &SqliteRow, c: &str| Ok::<u64, sqlx::Error>(u64::try_from(r.try_get::<i64, _>(c)?).unwrap_or(0));
        rows.iter()
            .map(|r| {
                Ok(AccessTotal {
                    name: r.try_get("name")?,
                    count: number(r, "n")?,
                    around: number(r, "around")?,
                    seconds: number(r, "ms")? / 1000,
                    longest: number(r, "longest")? / 1000,
                    first: at(r.try_get("first")?),
                    last: at(r.try_get("last")?),
                })
            })
            .collect()
    }

    /// Accesses in each span of time: how often each beginning, in whole steps of so many milliseconds since the epoch, occurs; all, and
    /// those that no session explains.
    ///
    /// # Errors
    /// When the database refuses.
    pub async fn accesses_over_time(&self, f: &AccessFilter, step_ms: i64) -> Result<Vec<(Timestamp, u64, u64)>> {
        let sql = format!(
            "SELECT began / ?9 AS step, count(*), count(*) FILTER (WHERE session IS NULL) FROM who_when_where WHERE {WHERE} GROUP BY 1 ORDER BY 1"
        );
        let rows =
            filtered!(sqlx::query_as::<_, (i64, i64, i64)>(sqlx::AssertSqlSafe(sql)), f).bind(step_ms.max(1)).fetch_all(&self.read).await?;
        let counted = |n: i64| u64::try_from(n).unwrap_or(0);
        Ok(rows.into_iter().map(|(step, all, around)| (at(step.saturating_mul(step_ms)), counted(all), counted(around))).collect())
    }
}

async fn began(t: &mut Transaction<'_, Sqlite>, new: &AccessRecord) -> Result<()> {
    let known: Option<i64> =
        sqlx::query_scalar("SELECT 1 FROM accesses WHERE id = ?1 UNION ALL SELECT 1 FROM access_aliases WHERE id = ?1")
            .bind(&new.id)
            .fetch_optional(&mut **t)
            .await?;
    if known.is_some() {
        return Ok(());
    }
    let (from, to) = (new.begin.saturating_sub(TOGETHER), new.begin.saturating_add(TOGETHER));
    let near = sqlx::query("SELECT * FROM accesses WHERE machine = ?1 AND began BETWEEN ?2 AND ?3 AND account = ?4 AND source = ?5")
        .bind(&new.machine)
        .bind(from.map_or(i64::MIN, ms))
        .bind(to.map_or(i64::MAX, ms))
        .bind(&new.account)
        .bind(&new.source)
        .fetch_all(&mut **t)
        .await?;
    let near: Vec<AccessRecord> = near.iter().map(record).collect::<Result<_>>()?;
    let Some(mut kept) = near.into_iter().find(|r| r.is_same(new)) else { return put(t, new).await };
    let id = kept.id.clone();
    kept.merge(new.clone());
    put(t, &AccessRecord { id: id.clone(), ..kept }).await?;
    sqlx::query("INSERT INTO access_aliases (id, access) VALUES (?1, ?2)").bind(&new.id).bind(&id).execute(&mut **t).await?;
    Ok(())
}

async fn put(t: &mut Transaction<'_, Sqlite>, r: &AccessRecord) -> Result<()> {
    sqlx::query(
        "INSERT INTO accesses (id, service, machine, account, person, source, port, method, key, began, ended, session, lines)
         VALUES (?1, ?2, ?3, ?4, ?5, ?6, ?7, ?8, ?9, ?10, ?11, ?12, ?13)
         ON CONFLICT (id) DO UPDATE SET service = excluded.service, person = excluded.person, port = excluded.port, method = excluded.method,
           key = excluded.key, ended = excluded.ended, session = excluded.session, lines = excluded.lines",
    )
    .bind(&r.id)
    .bind(r.service.word())
    .bind(&r.machine)
    .bind(&r.account)
    .bind(&r.person)
    .bind(&r.source)
    .bind(i64::from(r.port))
    .bind(&r.method)
    .bind(&r.key)
    .bind(ms(r.begin))
    .bind(r.end.map(ms))
    .bind(&r.session)
    .bind(serde_json::to_string(&r.lines)?)
    .execute(&mut **t)
    .await?;
    Ok(())
}

async fn ended(t: &mut Transaction<'_, Sqlite>, id: &str, when: Timestamp, line: Option<&LogLine>) -> Result<()> {
    let row = sqlx::query("SELECT * FROM accesses WHERE id = coalesce((SELECT access FROM access_aliases WHERE id = ?1), ?1)")
        .bind(id)
        .fetch_optional(&mut **t)
        .await?;
    let Some(kept) = row.as_ref().map(record).transpose()? else { return Ok(()) };
    let mut more = kept.clone();
    more.merge(AccessRecord { end: Some(when), lines: line.cloned().into_iter().collect(), ..kept.clone() });
    if more == kept { Ok(()) } else { put(t, &more).await }
}
