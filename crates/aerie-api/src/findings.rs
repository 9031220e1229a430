use aerie_core::audit::{Finding, LogLine, Scanned};
use jiff::{SignedDuration, Timestamp};
use serde::{Deserialize, Serialize};
use utoipa::ToSchema;

/// A violation, with its evidence.
#[derive(Debug, Clone, Serialize, Deserialize, ToSchema)]
pub struct FindingView {
    /// Stable identifier of the cause.
    pub id: String,
    /// What kind.
    pub kind: String,
    /// `medium`, `high` or `critical`.
    pub importance: String,
    /// What happened.
    pub sentence: String,
    /// The way to mend it.
    pub mend: String,
    /// Machine.
    pub machine: String,
    /// Account on it.
    pub account: String,
    /// Name of the person, where it is known.
    pub person: Option<String>,
    /// Address.
    pub source: Option<String>,
    /// First time.
    #[schema(value_type = String, format = DateTime)]
    pub first: Timestamp,
    /// Last time.
    #[schema(value_type = String, format = DateTime)]
    pub last: Timestamp,
    /// How often.
    pub count: u64,
    /// The lines that show it.
    pub lines: Vec<LogLineView>,
    /// The session concerned.
    pub session: Option<String>,
    /// The moment in its recording.
    pub moment_ms: Option<u64>,
    /// How it was settled; none while it is open.
    pub settled: Option<SettledView>,
}

/// How a finding was settled.
#[derive(Debug, Clone, Serialize, Deserialize, ToSchema)]
pub struct SettledView {
    /// When.
    #[schema(value_type = String, format = DateTime)]
    pub at: Timestamp,
    /// By whom.
    pub by: String,
    /// Why.
    pub why: String,
}

/// A line of a log.
#[derive(Debug, Clone, Serialize, Deserialize, ToSchema)]
pub struct LogLineView {
    /// File.
    pub file: String,
    /// Number of the line, from 1.
    pub number: u64,
    /// Byte offset.
    pub offset: u64,
    /// The line, harmless to show.
    pub text: String,
    /// SHA-256 of the line as it stands in the file, in hexadecimal; empty where it is none of a file.
    #[serde(default)]
    pub digest: String,
}

impl From<LogLine> for LogLineView {
    fn from(l: LogLine) -> Self {
        Self { file: l.file.to_string(), number: l.number, offset: l.offset, text: l.text, digest: l.digest }
    }
}

impl From<Finding> for FindingView {
    fn from(f: Finding) -> Self {
        Self {
            id: f.id,
            kind: f.kind.word().into(),
            importance: f.importance.word().into(),
            sentence: f.sentence,
            mend: f.mend,
            machine: f.machine,
            account: f.account,
            person: f.person,
            source: f.source,
            first: f.first,
            last: f.last,
            count: f.count,
            lines: f.lines.into_iter().map(Into::into).collect(),
            session: f.session,
            moment_ms: f.moment_ms,
            settled: None,
        }
    }
}

/// The result of auditing a log.
#[derive(Debug, Clone, Serialize, Deserialize, ToSchema)]
pub struct ScanResult {
    /// The result in a sentence.
    pub sentence: String,
    /// What the log holds: `lines`, `login-records`, `bad-logins`, `windows-events` or `table`.
    pub format: String,
    /// Lines, records or events read.
    pub lines: u64,
    /// Those of servers that let people in.
    pub server_lines: u64,
    /// By how many milliseconds the clock of the machine is ahead of Aerie's, where accesses through Aerie show it.
    pub ahead_ms: Option<i64>,
    /// Accesses.
    pub accesses: u64,
    /// Accesses that sessions of Aerie explain.
    pub explained: u64,
    /// Logins that failed.
    pub failed: u64,
    /// Lines that look like an access and were not understood, or were too long.
    pub unclear: u64,
    /// The first of them.
    pub unclear_lines: Vec<LogLineView>,
    /// Findings, most important first.
    pub findings: Vec<FindingView>,
    /// How many of them were not known before.
    pub new: u64,
}

impl ScanResult {
    /// Puts together what an audit gave. `new` is how many of its findings were not known before.
    pub fn new(scanned: Scanned, new: u64) -> Self {
        use aerie_core::wording::{count, duration};
        let Scanned { format, counts, judged: (accesses, explained), ahead_ms, unclear, findings } = scanned;
        let what = if findings.is_empty() { "nothing to complain of".to_string() } else { count(findings.len() as u64, "finding") };
        let accesses_word = if accesses == 1 { "access" } else { "accesses" };
        let unit = match format {
            "windows-events" => "event",
            "login-records" | "bad-logins" => "record",
            _ => "line",
        };
        let clock = match ahead_ms {
            Some(ms) if ms.abs() >= 2000 => {
                let off = duration(SignedDuration::from_secs((ms.abs() + 500) / 1000));
                format!(" The machine's clock is {off} {}.", if ms > 0 { "ahead" } else { "behind" })
            }
            _ => String::new(),
        };
        Self {
            sentence: format!(
                "{} read, {accesses} {accesses_word} ({explained} through Aerie), {}: {what}.{clock}",
                count(counts.lines, unit),
                count(counts.failed, "failed login")
            ),
            format: format.into(),
            lines: counts.lines,
            server_lines: counts.server_lines,
            ahead_ms,
            accesses,
            explained,
            failed: counts.failed,
            unclear: counts.unclear + counts.overlong,
            unclear_lines: unclear.into_iter().map(Into::into).collect(),
            findings: findings.into_iter().map(FindingView::from).collect(),
            new,
        }
    }
}
