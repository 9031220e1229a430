use super::auditor::{Auditor, words};
use super::clock::LogClock;
use super::coverage::Covered;
use super::finding::Finding;
use super::lines::LineSplitter;
use super::log::{AccessLog, Counts, LogLine, Observation};
use super::read::login_records::RECORD;
use super::read::table::{Form, Mapping};
use super::read::windows::EventSplitter;
use super::read::{BEGINNING, Format};
use super::record::Recorded;
use jiff::tz::TimeZone;
use std::sync::Arc;

/// One log, held against the rules as its bytes come in. Feed [`Scan::handle_bytes`], then call [`Scan::finish`]. Both call back for
/// each access that began or ended.
pub struct Scan {
    auditor: Auditor,
    source: Source,
}

/// One of several logs that are held against the rules together: each is cut and read by itself, and all show what they hold to one
/// [`Auditor`].
pub struct Source {
    log: AccessLog,
    name: String,
    cutter: Cutter,
}

/// What a scan gave.
#[derive(Debug, Clone)]
pub struct Scanned {
    /// What the log holds.
    pub format: &'static str,
    /// How much was read.
    pub counts: Counts,
    /// Accesses that were judged, and those of them that sessions of Aerie explain.
    pub judged: (u64, u64),
    /// By how many milliseconds the machine's clock is ahead of Aerie's, where accesses show it.
    pub ahead_ms: Option<i64>,
    /// The first lines that could not be understood.
    pub unclear: Vec<LogLine>,
    /// What was found, most important first.
    pub findings: Vec<Finding>,
    /// On which days (of UTC) which machines wrote something, and how much.
    pub covered: Vec<Covered>,
    /// Bytes that belong to no event, or to one that was too long; a head and line feeds are among them.
    pub skipped: u64,
}

/// Cuts bytes into what the log consists of.
enum Cutter {
    /// Too little came to tell.
    Undecided(Vec<u8>),
    Lines(LineSplitter),
    Records {
        rest: Vec<u8>,
        offset: u64,
        bad: bool,
    },
    Events(EventSplitter),
    Table {
        lines: LineSplitter,
        mapping: Arc<Mapping>,
        columns: Option<Vec<String>>,
    },
}

impl Cutter {
    fn of(format: Format) -> Self {
        match format {
            Format::Lines => Self::Lines(LineSplitter::default()),
            Format::LoginRecords => Self::Records { rest: vec![], offset: 0, bad: false },
            Format::BadLogins => Self::Records { rest: vec![], offset: 0, bad: true },
            Format::WindowsEvents => Self::Events(EventSplitter::default()),
            Format::Table(mapping) => Self::Table { lines: LineSplitter::default(), mapping, columns: None },
        }
    }

    fn word(&self) -> &'static str {
        match self {
            Self::Undecided(_) | Self::Lines(_) => "lines",
            Self::Records { bad: false, .. } => "login-records",
            Self::Records { bad: true, .. } => "bad-logins",
            Self::Events(_) => "windows-events",
            Self::Table { .. } => "table",
        }
    }
}

impl Scan {
    /// Begins to scan the log of that name. `format` is found out where it is not said; `host` is the machine whose log it is, for logs
    /// that do not say so.
    pub fn new(auditor: Auditor, name: &str, clock: LogClock, format: Option<Format>, host: Option<&str>) -> Self {
        Self { auditor, source: Source::new(name, clock, format, host) }
    }

    /// Goes on with a log of lines where it was read before: at this offset, after so many lines.
    #[must_use]
    pub fn from(mut self, offset: u64, lines: u64) -> Self {
        if offset > 0 {
            self.source.cutter = Cutter::Lines(LineSplitter::at(offset));
            self.source.log = self.source.log.after_lines(lines);
        }
        self
    }

    /// Takes the next bytes of the log, in pieces of any size.
    pub fn handle_bytes(&mut self, bytes: &[u8], each: &mut impl FnMut(Recorded)) {
        self.source.handle_bytes(&mut self.auditor, bytes, each);
    }

    /// Ends the scan; sentences tell times in `zone`.
    pub fn finish(self, zone: &TimeZone, each: &mut impl FnMut(Recorded)) -> Scanned {
        let Self { mut auditor, source } = self;
        let scanned = source.finish(&mut auditor, each);
        let ahead_ms = auditor.ahead().map(|d| i64::try_from(d.as_millis()).unwrap_or(i64::MAX));
        Scanned { ahead_ms, judged: auditor.judged(), findings: auditor.finish(zone), ..scanned }
    }
}

impl Source {
    /// The log of that name, as [`Scan::new`].
    pub fn new(name: &str, clock: LogClock, format: Option<Format>, host: Option<&str>) -> Self {
        let log = AccessLog::new(name, clock);
        let log = match host {
            Some(host) => log.of_host(host),
            None => log,
        };
        let cutter = format.map_or(Cutter::Undecided(vec![]), Cutter::of);
        Self { log, name: name.into(), cutter }
    }

    /// Takes every line for one of this machine's, whatever host it names: whoever sends it may speak for that machine alone.
    #[must_use]
    pub fn only_of(mut self, machine: &str) -> Self {
        self.log = self.log.of_host(machine).only_of(machine);
        self
    }

    /// Takes the next bytes of the log, in pieces of any size.
    pub fn handle_bytes(&mut self, auditor: &mut Auditor, bytes: &[u8], each: &mut impl FnMut(Recorded)) {
        if let Cutter::Undecided(kept) = &mut self.cutter {
            kept.extend_from_slice(bytes);
            if kept.len() >= BEGINNING {
                self.decide(auditor, each);
            }
            return;
        }
        self.cut(auditor, bytes, each);
    }

    fn decide(&mut self, auditor: &mut Auditor, each: &mut impl FnMut(Recorded)) {
        let Cutter::Undecided(kept) = &mut self.cutter else { return };
        let kept = std::mem::take(kept);
        self.cutter = Cutter::of(Format::of(&self.name, &kept));
        self.cut(auditor, &kept, each);
    }

    fn cut(&mut self, auditor: &mut Auditor, bytes: &[u8], each: &mut impl FnMut(Recorded)) {
        let Self { log, cutter, .. } = self;
        match cutter {
            Cutter::Undecided(_) => {}
            Cutter::Lines(lines) => lines.handle_bytes(bytes, &mut |line, offset| {
                log.handle_line(line, offset, |f| auditor.handle_failure(f));
                judge(auditor, log, each);
            }),
            Cutter::Records { rest, offset, bad } => {
                rest.extend_from_slice(bytes);
                let whole = rest.len() / RECORD * RECORD;
                for record in rest.get(..whole).unwrap_or_default().chunks_exact(RECORD) {
                    log.handle_login_record(record, *offset, *bad, |f| auditor.handle_failure(f));
                    *offset += RECORD as u64;
                    judge(auditor, log, each);
                }
                rest.drain(..whole);
            }
            Cutter::Events(events) => events.handle_bytes(bytes, &mut |xml, offset| {
                log.handle_windows_event(xml, offset, |f| auditor.handle_failure(f));
                judge(auditor, log, each);
            }),
            Cutter::Table { lines, mapping, columns } => lines.handle_bytes(bytes, &mut |line, offset| {
                row(auditor, log, mapping, columns, line, offset);
                judge(auditor, log, each);
            }),
        }
    }

    /// How much was read so far.
    pub fn counts(&self) -> Counts {
        self.log.counts()
    }

    /// On which days which machines wrote something so far.
    pub fn covered(&self, auditor: &Auditor) -> Vec<Covered> {
        self.log.coverage().covered(|host| auditor.machine_of_host(host))
    }

    /// Ends the log; what was judged and found is the auditor's to tell.
    fn finish(mut self, auditor: &mut Auditor, each: &mut impl FnMut(Recorded)) -> Scanned {
        self.decide(auditor, each);
        let format = self.cutter.word();
        let Self { mut log, cutter, .. } = self;
        let skipped = if let Cutter::Events(events) = &cutter { events.skipped } else { 0 };
        match cutter {
            Cutter::Undecided(_) | Cutter::Events(_) => {}
            Cutter::Lines(lines) => lines.finish(&mut |line, offset| log.handle_line(line, offset, |f| auditor.handle_failure(f))),
            // A record that is not whole is a file that broke off.
            Cutter::Records { rest, offset, bad } if !rest.is_empty() => {
                log.handle_login_record(&rest, offset, bad, |f| auditor.handle_failure(f));
            }
            Cutter::Records { .. } => {}
            Cutter::Table { lines, mapping, mut columns } => {
                lines.finish(&mut |line, offset| row(auditor, &mut log, &mapping, &mut columns, line, offset));
            }
        }
        judge(auditor, &mut log, each);
        let (counts, unclear) = (log.counts(), log.unclear().to_vec());
        let covered = log.coverage().covered(|host| auditor.machine_of_host(host));
        Scanned { format, counts, judged: (0, 0), ahead_ms: None, unclear, findings: vec![], covered, skipped }
    }
}

fn judge(auditor: &mut Auditor, log: &mut AccessLog, each: &mut impl FnMut(Recorded)) {
    while let Some(observation) = log.poll_observation() {
        match observation {
            Observation::Began(access) => {
                let record = auditor.handle_access(&access);
                each(Recorded::Began(record));
            }
            Observation::Ran(ran) => auditor.handle_command(&ran),
            Observation::Used { access, line } => each(Recorded::Used { id: auditor.id_of(&access), uses: words(access.uses), line }),
            Observation::Closed { host, source, port, at, line } => {
                each(Recorded::Closed { machine: auditor.machine_of_host(&host), source, port, at, line });
            }
            Observation::Ended { mut access } => {
                if let Some(at) = access.end {
                    let line = access.lines.pop().filter(|_| !access.lines.is_empty());
                    each(Recorded::Ended { id: auditor.id_of(&access), at, line });
                }
            }
        }
    }
}

/// Takes a line of a table: the first of comma-separated ones names the columns.
fn row(auditor: &mut Auditor, log: &mut AccessLog, mapping: &Mapping, columns: &mut Option<Vec<String>>, line: &[u8], offset: u64) {
    if line.trim_ascii().is_empty() {
        return;
    }
    let read = match mapping.format {
        Form::Ndjson => mapping.object(line),
        Form::Csv => {
            let mut reader = csv::ReaderBuilder::new().has_headers(false).flexible(true).from_reader(line);
            let fields: Vec<String> = reader.records().next().and_then(Result::ok).map_or(vec![], |r| r.iter().map(Into::into).collect());
            let Some(columns) = columns else {
                *columns = Some(fields);
                return;
            };
            mapping.row(|name| fields.get(columns.iter().position(|c| c == name)?).cloned())
        }
    };
    log.handle_row(read, mapping.service, line, offset, |f| auditor.handle_failure(f));
}
