//! Audits logs: by the service, or on files alone.

use super::{account, logs};
use crate::cli::Audit;
use crate::output::{Printer, hanging};
use crate::{Exit, Failure};
use aerie_api::{FindingView, ScanResult};
use aerie_client::{Client, ScanQuery};
use aerie_core::audit::detect::DetectionSet;
use aerie_core::audit::read::Format;
use aerie_core::audit::read::table::Mapping;
use aerie_core::audit::read::unpack::Unpacker;
use aerie_core::audit::{AccessRecord, Auditor, Behaviour, Finding, Happened, History, LogClock, Recorded, Scan, TOGETHER, World};
use aerie_core::directory::{Directory, DirectoryFile};
use aerie_core::evidence::hex;
use aerie_core::policy::{Policy, read};
use aerie_core::wording::count;
use jiff::Timestamp;
use jiff::tz::TimeZone;
use sha2::{Digest as _, Sha256};
use std::collections::HashMap;
use std::io::Read as _;
use std::path::{Path, PathBuf};
use std::sync::Arc;
use tokio::io::{AsyncReadExt as _, AsyncSeekExt as _};

pub(super) async fn run(server: Option<&str>, what: Audit, printer: Printer) -> Result<Exit, Failure> {
    let (files, policy, directory, detections, year, zone, format, mapping, host, again) = match what {
        Audit::Scan { files, policy, directory, detections, year, zone, format, mapping, host, again } => {
            (files, policy, directory, detections, year, zone, format, mapping, host, again)
        }
        Audit::Again(fields) => return super::again::run(&account::client(server)?, fields, printer).await,
    };
    let mapping = match mapping {
        Some(path) => Some(std::fs::read_to_string(&path).map_err(|e| Failure::file(path.display(), &e))?),
        None => None,
    };
    let reading = Reading { format: format_of(format.as_deref(), mapping.as_deref())?, host: host.clone() };
    let alone = match policy.zip(directory) {
        Some((policy, directory)) => {
            Some(Arc::new(Alone::load(&policy, &directory, year, zone.as_deref())?.with_detections(detections.as_deref())?))
        }
        None => None,
    };
    let way = match &alone {
        Some(alone) => Way::Alone(alone.clone(), reading),
        None => {
            let query = ScanQuery { year, zone, format, mapping, host, ..ScanQuery::default() };
            Way::Service { client: account::client(server)?, query: Box::new(query), again }
        }
    };
    let files = logs::expand(&files)?;
    let Audited { results, broken, records } = all(&files, &way, printer).await?;
    let behaviour: Vec<FindingView> = alone.map_or(vec![], |alone| alone.behaviour(records).into_iter().map(FindingView::from).collect());
    let found = !behaviour.is_empty() || results.iter().any(|(_, r)| !r.findings.is_empty());
    let shown: Vec<_> = results.iter().map(|(file, r)| serde_json::json!({ "file": file, "result": r })).collect();
    let unread: Vec<_> = broken.iter().map(|(file, why)| serde_json::json!({ "file": file, "why": why })).collect();
    let all = serde_json::json!({ "read": shown, "unread": unread, "together": behaviour });
    printer.value(&all, |_| {
        let mut told: Vec<String> = results.iter().map(|(file, r)| told(file, r)).collect();
        told.extend(broken.iter().map(|(_, why)| format!("not read: {why}")));
        if !behaviour.is_empty() {
            let shown: Vec<String> = behaviour.iter().map(finding).collect();
            told.push(format!("All logs together: {}.{}", count(shown.len() as u64, "finding"), shown.concat()));
        }
        if files.len() > 1 {
            told.push(summary(&results, broken.len()));
        }
        told.join("\n\n")
    })?;
    let unread = results.iter().any(|(_, r)| r.is_nothing_understood());
    Ok(match (broken.is_empty() && !unread, found) {
        (false, _) => Exit::File,
        (true, true) => Exit::No,
        (true, false) => Exit::Done,
    })
}

/// Who audits.
#[derive(Clone)]
enum Way {
    /// This program, on files alone.
    Alone(Arc<Alone>, Reading),
    /// The service.
    Service { client: Client, query: Box<ScanQuery>, again: bool },
}

/// What came of all files, in their order.
#[derive(Default)]
struct Audited {
    results: Vec<(PathBuf, ScanResult)>,
    /// Those that could not be read, and why.
    broken: Vec<(PathBuf, String)>,
    /// What the files show of accesses, where this program audits.
    records: Vec<AccessRecord>,
}

/// What came of one file.
struct Done {
    /// Its number among all.
    n: usize,
    file: PathBuf,
    result: Result<ScanResult, Failure>,
    records: Vec<AccessRecord>,
}

/// Rotated sets that are audited at a time, at most; the service has other things to do.
const MOST_AT_A_TIME: usize = 4;

/// Audits all files, several sets of them at a time where there are several processors.
async fn all(files: &[PathBuf], way: &Way, printer: Printer) -> Result<Audited, Failure> {
    let mut lanes = std::thread::available_parallelism().map_or(1, usize::from).min(MOST_AT_A_TIME);
    let mut sets = logs::sets(files).into_iter();
    let mut running = tokio::task::JoinSet::new();
    let mut done: Vec<Done> = vec![];
    loop {
        while lanes > 0
            && let Some(set) = sets.next()
        {
            lanes -= 1;
            let (way, of) = (way.clone(), files.len());
            running.spawn(async move {
                let mut told = vec![];
                for (n, file) in set {
                    if of > 1 {
                        printer.remark(&format!("{} of {of}: {}", n + 1, file.display()));
                    }
                    let (result, records) = way.audit(&file).await;
                    told.push(Done { n, file, result, records });
                }
                told
            });
        }
        let Some(ended) = running.join_next().await else { break };
        lanes += 1;
        done.extend(ended.map_err(|e| Failure::internal(e.to_string()))?);
    }
    done.sort_by_key(|d| d.n);
    let mut all = Audited::default();
    for Done { file, result, records, .. } in done {
        all.records.extend(records);
        match result {
            Ok(result) => all.results.push((file, result)),
            // One file that cannot be read must not hide what is in the others.
            Err(e) if matches!(e.exit, Exit::File) && files.len() > 1 => all.broken.push((file, e.message)),
            Err(e) => return Err(e),
        }
    }
    Ok(all)
}

impl Way {
    async fn audit(&self, file: &Path) -> (Result<ScanResult, Failure>, Vec<AccessRecord>) {
        match self.clone() {
            Self::Alone(alone, reading) => {
                let file = file.to_path_buf();
                let scanning = tokio::task::spawn_blocking(move || {
                    let mut records = vec![];
                    let result = alone.scan(&file, &reading, |told| take(&mut records, told));
                    (result, records)
                });
                scanning.await.unwrap_or_else(|e| (Err(Failure::internal(e.to_string())), vec![]))
            }
            Self::Service { client, query, again } => {
                let query = ScanQuery { name: Some(file.display().to_string()), ..*query };
                (by_service(&client, query, file, again).await, vec![])
            }
        }
    }
}

/// What the files hold, as whoever calls says.
fn format_of(format: Option<&str>, mapping: Option<&str>) -> Result<Option<Format>, Failure> {
    match mapping {
        Some(text) => {
            let mapping = Mapping::parse(text).map_err(|e| Failure::usage(format!("the mapping: {e}")))?;
            Ok(Some(Format::Table(Arc::new(mapping))))
        }
        None => Ok(format.and_then(Format::from_word)),
    }
}

/// Bytes at the beginning of a log that tell it from others.
const HEAD: usize = 512;
/// A log that is being written to is read to the end of its last line; this far back that is looked for.
const LAST_LINE: u64 = 64 << 10;

/// Has a log audited by the service: from where it was read to, unless all of it is to be read `again`.
async fn by_service(client: &Client, mut query: ScanQuery, file: &Path, again: bool) -> Result<ScanResult, Failure> {
    if file == Path::new("-") {
        query.name = Some("standard input".into());
        return Ok(client.scan(&query, tokio::io::stdin()).await?);
    }
    let failed = |e: std::io::Error| Failure::file(file.display(), &e);
    let mut log = tokio::fs::File::open(file).await.map_err(failed)?;
    let plain = query.format.is_none() && query.mapping.is_none();
    let Some((head, end)) = (if plain { lines_of(&mut log, file).await.map_err(failed)? } else { None }) else {
        return Ok(client.scan(&query, log).await?);
    };
    let name = query.name.clone().unwrap_or_default();
    let known = client.log_position(&head, &name, end).await?;
    let offset = if again { 0 } else { known.offset };
    log.seek(std::io::SeekFrom::Start(offset)).await.map_err(failed)?;
    (query.head, query.offset) = (Some(head), Some(offset));
    let mut result = client.scan(&query, log.take(end - offset)).await?;
    if offset > 0 {
        let when = known.read_at.map_or(String::new(), |t| format!(" on {}", t.strftime("%Y-%m-%d %H:%M UTC")));
        result.sentence = match end - offset {
            0 => format!("nothing new since it was read{when}; --again reads it anew."),
            _ => format!("since it was read{when}, {}", result.sentence),
        };
    }
    Ok(result)
}

/// The digest of a log's first bytes, and where its last whole line ends; none where it is short, or holds no lines.
async fn lines_of(log: &mut tokio::fs::File, file: &Path) -> std::io::Result<Option<(String, u64)>> {
    let about = log.metadata().await?;
    let mut head = vec![];
    let mut beginning = (&mut *log).take(HEAD as u64);
    if !about.is_file() || beginning.read_to_end(&mut head).await? < HEAD {
        log.rewind().await.or_else(|e| if about.is_file() { Err(e) } else { Ok(0) })?;
        return Ok(None);
    }
    let packed = head.starts_with(&[0x1f, 0x8b]) || head.starts_with(&[0x28, 0xb5, 0x2f, 0xfd]);
    if packed || Format::of(&file.to_string_lossy(), &head) != Format::Lines {
        log.rewind().await?;
        return Ok(None);
    }
    let size = about.len();
    let back = size.saturating_sub(LAST_LINE);
    let mut tail = vec![];
    log.seek(std::io::SeekFrom::Start(back)).await?;
    log.take(size - back).read_to_end(&mut tail).await?;
    // A log whose last line is longer than any real one is read to where it is.
    let end = tail.iter().rposition(|b| *b == b'\n').map_or(size, |at| back + at as u64 + 1);
    Ok(Some((hex(&Sha256::digest(&head)), end)))
}

fn summary(results: &[(PathBuf, ScanResult)], broken: usize) -> String {
    let sum = |of: fn(&ScanResult) -> u64| results.iter().map(|(_, r)| of(r)).sum::<u64>();
    let unknown = results.iter().filter(|(_, r)| r.is_nothing_understood()).count() as u64;
    let empty = results.iter().filter(|(_, r)| r.server_lines == 0).count() as u64 - unknown;
    let mut text = format!(
        "{} read, {} accesses ({} through Aerie), {}, {}.",
        count(results.len() as u64, "file"),
        sum(|r| r.accesses),
        sum(|r| r.explained),
        count(sum(|r| r.failed), "failed login"),
        count(sum(|r| r.findings.len() as u64), "finding"),
    );
    if empty > 0 {
        text += &format!(" {empty} of them hold nothing of remote accesses.");
    }
    if unknown > 0 {
        text += &format!(" In {} nothing was understood.", count(unknown, "file"));
    }
    if broken > 0 {
        text += &format!(" {} could not be read.", count(broken as u64, "file"));
    }
    text
}

/// A finding with the way to mend it and its first lines.
fn finding(f: &FindingView) -> String {
    let indent = " ".repeat(10);
    let mut text = format!("\n\n{}\n{}", hanging(&format!("{:<10}", f.importance), &f.sentence), hanging(&indent, &f.mend));
    for l in f.lines.iter().take(3) {
        text += &format!("\n{}", hanging(&indent, &format!("{}:{}  {}", l.file, l.number, l.text)));
    }
    if f.lines.len() > 3 {
        text += &format!("\n          … and {} more lines: `aerie findings show {}`, or --json", f.lines.len() - 3, f.id);
    }
    text
}

fn told(file: &Path, r: &ScanResult) -> String {
    let mut text = format!("{}: {}", file.display(), r.sentence);
    r.findings.iter().for_each(|f| text += &finding(f));
    if r.is_nothing_understood() {
        text += " `--format` says what it holds; a form of its own is read by a `--mapping`.";
    }
    if r.unclear > 0 {
        text += &format!("\n\n{} lines look like an access and could not be understood; --json lists the first.", r.unclear);
    }
    text
}

/// How files are read.
#[derive(Debug, Clone, Default)]
pub struct Reading {
    /// What they hold; found out for each where it is not said.
    pub format: Option<Format>,
    /// The machine whose logs they are.
    pub host: Option<String>,
}

/// What is needed to audit without a service.
pub struct Alone {
    world: Arc<World>,
    rules_zone: TimeZone,
    log_zone: TimeZone,
    year: Option<i16>,
}

#[derive(serde::Deserialize)]
struct ExportedDirectory {
    #[serde(flatten)]
    file: DirectoryFile,
    authorities: Option<Vec<String>>,
}

impl Alone {
    /// Reads rules and directory.
    ///
    /// # Errors
    /// When they cannot be read, or the rules have errors.
    pub fn load(policy: &Path, directory: &Path, year: Option<i16>, zone: Option<&str>) -> Result<Self, Failure> {
        let text = |path: &Path| std::fs::read_to_string(path).map_err(|e| Failure::file(path.display(), &e));
        let exported: ExportedDirectory =
            serde_json::from_str(&text(directory)?).map_err(|e| Failure::usage(format!("{}: {e}", directory.display())))?;
        let rules = text(policy)?;
        let document = read(&rules).map_err(|errors| {
            let shown: Vec<String> = errors.iter().map(|d| d.render(&policy.display().to_string(), &rules)).collect();
            Failure { exit: Exit::No, message: format!("the rules have errors\n\n{}", shown.join("\n")) }
        })?;
        let rules_zone = document.zone.clone();
        let log_zone = match zone {
            Some(name) => TimeZone::get(name).map_err(|_| Failure::usage(format!("there is no time zone `{name}`")))?,
            None => rules_zone.clone(),
        };
        let policy = Policy::compile(document, Arc::new(Directory::from(exported.file)), Timestamp::now());
        let history = History::new(vec![(Timestamp::UNIX_EPOCH, Arc::new(policy))]);
        let detections = Arc::new(DetectionSet::shipped());
        let world = Arc::new(World { history, sessions: None, own: HashMap::new(), authorities: exported.authorities, detections });
        Ok(Self { world, rules_zone, log_zone, year })
    }

    /// With detections of a file in the place of those that come along.
    ///
    /// # Errors
    /// When the file cannot be read, or has mistakes.
    pub fn with_detections(self, file: Option<&Path>) -> Result<Self, Failure> {
        let Some(file) = file else { return Ok(self) };
        let detections = Arc::new(super::detections::read(file)?);
        Ok(Self { world: Arc::new(World { detections, ..World::clone(&self.world) }), ..self })
    }

    /// Audits one file, or standard input for `-`, and calls back for each access. Memory does not grow with it.
    ///
    /// # Errors
    /// When the file cannot be read.
    pub fn scan(&self, path: &Path, reading: &Reading, mut each: impl FnMut(Recorded)) -> Result<ScanResult, Failure> {
        let failed = |e: std::io::Error| Failure::file(path.display(), &e);
        let (mut file, newest): (Box<dyn std::io::Read>, Timestamp) = if path == Path::new("-") {
            (Box::new(std::io::stdin().lock()), Timestamp::now())
        } else {
            let file = std::fs::File::open(path).map_err(failed)?;
            let changed = file.metadata().and_then(|m| m.modified()).ok().and_then(|t| Timestamp::try_from(t).ok());
            (Box::new(file), changed.unwrap_or_else(Timestamp::now))
        };
        let clock = match self.year {
            Some(year) => LogClock::of_year(self.log_zone.clone(), year),
            None => LogClock::new(self.log_zone.clone(), newest),
        };
        let auditor = Auditor::new(self.world.clone());
        let mut scan = Scan::new(auditor, &path.display().to_string(), clock, reading.format.clone(), reading.host.as_deref());
        let mut unpacker = Unpacker::default();
        let mut piece = vec![0; 1 << 20];
        // What was read before it broke off counts.
        let read = || -> std::io::Result<()> {
            loop {
                let n = file.read(&mut piece)?;
                if n == 0 {
                    return unpacker.finish(&mut |bytes| scan.handle_bytes(bytes, &mut each));
                }
                unpacker.handle_bytes(piece.get(..n).unwrap_or(&[]), &mut |bytes| scan.handle_bytes(bytes, &mut each))?;
            }
        };
        let broken = read().err();
        let scanned = scan.finish(&self.rules_zone, &mut each);
        if let Some(e) = broken.as_ref().filter(|_| scanned.counts.lines == 0) {
            return Err(failed(std::io::Error::new(e.kind(), e.to_string())));
        }
        let new = scanned.findings.len() as u64;
        let result = ScanResult::new(scanned, new);
        Ok(match broken {
            Some(why) => ScanResult { sentence: format!("{} The log broke off: {why}.", result.sentence), ..result },
            None => result,
        })
    }

    /// Holds what all logs together show against the detections.
    fn behaviour(&self, records: Vec<AccessRecord>) -> Vec<Finding> {
        let mut behaviour = Behaviour::new(&self.world.history, self.world.detections.clone());
        let mut records = together(records);
        records.sort_by_key(|r| r.begin);
        records.iter().for_each(|r| behaviour.handle(Happened::from(r)));
        behaviour.finish(Timestamp::now())
    }
}

/// Accesses that are kept while logs are read without a service.
const MOST_RECORDS: usize = 1_000_000;

/// Takes an access, or its end, as a log tells it.
fn take(records: &mut Vec<AccessRecord>, told: Recorded) {
    match told {
        Recorded::Began(r) if records.len() < MOST_RECORDS => records.push(r),
        Recorded::Began(_) | Recorded::Closed { .. } => {}
        Recorded::Used { id, uses, .. } => {
            if let Some(r) = records.iter_mut().rev().take(20_000).find(|r| r.id == id) {
                r.uses = uses;
            }
        }
        Recorded::Ended { id, at, .. } => {
            if let Some(r) = records.iter_mut().rev().take(20_000).find(|r| r.id == id) {
                r.end = Some(at);
            }
        }
    }
}

/// Puts together what several logs tell of one access.
fn together(mut records: Vec<AccessRecord>) -> Vec<AccessRecord> {
    records.sort_by_key(|r| r.begin);
    let mut all: Vec<AccessRecord> = Vec::with_capacity(records.len());
    for r in records {
        let near = all.iter_mut().rev().take_while(|k| r.begin.duration_since(k.begin) <= TOGETHER);
        match near.into_iter().find(|k| k.is_same(&r)) {
            Some(kept) => kept.merge(r),
            None => all.push(r),
        }
    }
    all
}
