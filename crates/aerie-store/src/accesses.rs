use crate::{Result, Store, at, like, ms};
use aerie_core::audit::{AccessRecord, LogLine, Recorded, Service, TOGETHER};
use jiff::Timestamp;
use sqlx::sqlite::SqliteRow;
use sqlx::{QueryBuilder, Row as _, Sqlite, Transaction};

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
    /// Each rule that let somebody in; what no session explains is under none.
    Rule,
}

impl TotalOf {
    fn column(self) -> &'static str {
        match self {
            Self::Person => "coalesce(person, '')",
            Self::Machine => "machine",
            Self::Source => "source",
            Self::Account => "account || ' on ' || machine",
            Self::Rule => "rule",
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
        algorithm: r.try_get("algorithm")?,
        certificate: r.try_get::<Option<String>, _>("certificate")?.map(|c| serde_json::from_str(&c)).transpose()?,
        uses: r.try_get("uses")?,
        begin: at(r.try_get("began")?),
        end: r.try_get::<Option<i64>, _>("ended")?.map(at),
        explained: session.is_some(),
        session,
        lines: serde_json::from_str(&lines)?,
    })
}

/// Aerie's own sessions, and what no session explains: a session that logs show too is one access.
#[derive(Clone, Copy, PartialEq, Eq)]
enum Part {
    Sessions,
    Logged,
}

impl Part {
    /// Those that a filter asks for.
    fn of(f: &AccessFilter) -> &'static [Self] {
        match f.through {
            Some(true) => &[Self::Sessions],
            Some(false) => &[Self::Logged],
            None => &[Self::Sessions, Self::Logged],
        }
    }

    fn select(self) -> &'static str {
        match self {
            Self::Sessions => {
                "SELECT id, 'ssh' AS service, machine, account, person, source, 0 AS port, factors AS method, NULL AS key, '' AS algorithm, \
                 NULL AS certificate, began, ended, id AS session, '[]' AS lines, rule, uses FROM sessions WHERE TRUE"
            }
            Self::Logged => {
                "SELECT id, service, machine, account, person, source, port, method, key, algorithm, certificate, began, ended, session, \
                 lines, '' AS rule, uses FROM accesses WHERE session IS NULL"
            }
        }
    }

    /// Selects what a filter asks for. Only conditions that are there are written, so that indexes serve them.
    fn write(self, query: &mut QueryBuilder<Sqlite>, f: &AccessFilter) {
        query.push(self.select());
        if let Some(since) = f.since {
            query.push(" AND began >= ").push_bind(ms(since));
        }
        if let Some(until) = f.until {
            query.push(" AND began < ").push_bind(ms(until));
        }
        if let Some(person) = &f.person {
            query.push(" AND person = ").push_bind(person.clone());
        }
        if let Some(machine) = &f.machine {
            query.push(" AND machine = ").push_bind(machine.clone());
        }
        if let Some(text) = f.text.as_deref().map(like) {
            for (n, column) in ["person", "machine", "account", "source"].into_iter().enumerate() {
                query.push(if n == 0 { " AND (" } else { " OR " }).push(column).push(" LIKE ").push_bind(text.clone()).push(" ESCAPE '\\'");
            }
            query.push(")");
        }
        if let Some((at, id)) = &f.before {
            query.push(" AND (began, id) < (").push_bind(ms(*at)).push(", ").push_bind(id.clone()).push(")");
        }
    }

    /// All that a filter asks for, as a table within a query.
    fn write_all(query: &mut QueryBuilder<Sqlite>, f: &AccessFilter) {
        for (n, part) in Self::of(f).iter().enumerate() {
            query.push(if n == 0 { " FROM (" } else { " UNION ALL " });
            part.write(query, f);
        }
        query.push(") ");
    }
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
                Recorded::Ended { id, at, line } => more(&mut t, id, Told { end: Some(*at), uses: "", line: line.as_ref() }).await?,
                Recorded::Used { id, uses, line } => more(&mut t, id, Told { end: None, uses, line: Some(line) }).await?,
                Recorded::Closed { machine, source, port, at, line } => closed(&mut t, (machine, source, *port), *at, line).await?,
            }
        }
        Ok(t.commit().await?)
    }

    /// Who got into which machine, and when: Aerie's own sessions, and what no session explains.
    ///
    /// # Errors
    /// When the database refuses.
    pub async fn accesses(&self, f: &AccessFilter) -> Result<Vec<AccessRecord>> {
        let mut all = vec![];
        for part in Part::of(f) {
            let mut query = QueryBuilder::new("");
            part.write(&mut query, f);
            query.push(" ORDER BY began DESC, id DESC LIMIT ").push_bind(i64::from(f.limit));
            for row in query.build().fetch_all(&self.read).await? {
                all.push(record(&row)?);
            }
        }
        // Each part is sorted; together they are as long as a page of each.
        all.sort_by(|a, b| (b.begin, &b.id).cmp(&(a.begin, &a.id)));
        all.truncate(f.limit as usize);
        Ok(all)
    }

    /// One access, or session.
    ///
    /// # Errors
    /// When the database refuses.
    pub async fn access(&self, id: &str) -> Result<Option<AccessRecord>> {
        for part in [Part::Sessions, Part::Logged] {
            let mut query = QueryBuilder::new(part.select());
            query.push(" AND id = ").push_bind(id);
            if let Some(row) = query.build().fetch_optional(&self.read).await? {
                return record(&row).map(Some);
            }
        }
        Ok(None)
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
        let mut query = QueryBuilder::new("SELECT ");
        query.push(of.column()).push(
            " AS name, count(*) AS n, count(*) FILTER (WHERE session IS NULL) AS around, coalesce(sum(max(ended - began, 0)), 0) AS ms, \
             coalesce(max(ended - began), 0) AS longest, min(began) AS first, max(began) AS last",
        );
        Part::write_all(&mut query, f);
        query.push("GROUP BY 1 ORDER BY n DESC, name LIMIT ").push_bind(i64::from(f.limit));
        let rows = query.build().fetch_all(&self.read).await?;
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
        let mut query = QueryBuilder::new("SELECT began / ");
        query.push_bind(step_ms.max(1)).push(" AS step, count(*), count(*) FILTER (WHERE session IS NULL)");
        Part::write_all(&mut query, f);
        query.push("GROUP BY 1 ORDER BY 1");
        let rows: Vec<(i64, i64, i64)> = query.build_query_as().fetch_all(&self.read).await?;
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
        "INSERT INTO accesses (id, service, machine, account, person, source, port, method, key, began, ended, session, lines, algorithm,
           certificate, uses)
         VALUES (?1, ?2, ?3, ?4, ?5, ?6, ?7, ?8, ?9, ?10, ?11, ?12, ?13, ?14, ?15, ?16)
         ON CONFLICT (id) DO UPDATE SET service = excluded.service, person = excluded.person, port = excluded.port, method = excluded.method,
           key = excluded.key, ended = excluded.ended, algorithm = excluded.algorithm, session = excluded.session, lines = excluded.lines,
           certificate = excluded.certificate, uses = excluded.uses",
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
    .bind(&r.algorithm)
    .bind(r.certificate.as_ref().map(serde_json::to_string).transpose()?)
    .bind(&r.uses)
    .execute(&mut **t)
    .await?;
    Ok(())
}

/// What a later line tells of an access.
struct Told<'a> {
    end: Option<Timestamp>,
    uses: &'a str,
    line: Option<&'a LogLine>,
}

async fn more(t: &mut Transaction<'_, Sqlite>, id: &str, told: Told<'_>) -> Result<()> {
    let row = sqlx::query("SELECT * FROM accesses WHERE id = coalesce((SELECT access FROM access_aliases WHERE id = ?1), ?1)")
        .bind(id)
        .fetch_optional(&mut **t)
        .await?;
    let Some(kept) = row.as_ref().map(record).transpose()? else { return Ok(()) };
    let mut more = kept.clone();
    let lines = told.line.cloned().into_iter().collect();
    more.merge(AccessRecord { end: told.end, uses: told.uses.into(), lines, ..kept.clone() });
    if more == kept { Ok(()) } else { put(t, &more).await }
}

/// Ends the last access from there that has no end.
async fn closed(
    t: &mut Transaction<'_, Sqlite>,
    (machine, source, port): (&str, &str, u16),
    when: Timestamp,
    line: &LogLine,
) -> Result<()> {
    let id: Option<String> = sqlx::query_scalar(
        "SELECT id FROM accesses WHERE machine = ?1 AND began <= ?4 AND source = ?2 AND port = ?3 AND ended IS NULL ORDER BY began DESC LIMIT 1",
    )
    .bind(machine)
    .bind(source)
    .bind(i64::from(port))
    .bind(ms(when))
    .fetch_optional(&mut **t)
    .await?;
    match id {
        Some(id) => more(t, &id, Told { end: Some(when), uses: "", line: Some(line) }).await,
        None => Ok(()),
    }
}
