use aerie_core::audit::{Counts, Finding};
use jiff::Timestamp;
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
}

impl From<Finding> for FindingView {
    fn from(f: Finding) -> Self {
        let line =
            |l: aerie_core::audit::LogLine| LogLineView { file: l.file.to_string(), number: l.number, offset: l.offset, text: l.text };
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
            lines: f.lines.into_iter().map(line).collect(),
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
    /// Lines read.
    pub lines: u64,
    /// Lines of SSH servers.
    pub server_lines: u64,
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
    /// Puts together what an audit gave.
    pub fn new(counts: Counts, judged: (u64, u64), findings: Vec<Finding>, unclear: &[aerie_core::audit::LogLine], new: u64) -> Self {
        use aerie_core::wording::count;
        let (accesses, explained) = judged;
        let what = if findings.is_empty() { "nothing to complain of".to_string() } else { count(findings.len() as u64, "finding") };
        let accesses_word = if accesses == 1 { "access" } else { "accesses" };
        let unclear_lines =
            unclear.iter().map(|l| LogLineView { file: l.file.to_string(), number: l.number, offset: l.offset, text: l.text.clone() });
        Self {
            sentence: format!(
                "{} read, {accesses} {accesses_word} ({explained} through Aerie), {}: {what}.",
                count(counts.lines, "line"),
                count(counts.failed, "failed login")
            ),
            lines: counts.lines,
            server_lines: counts.server_lines,
            accesses,
            explained,
            failed: counts.failed,
            unclear: counts.unclear + counts.overlong,
            unclear_lines: unclear_lines.collect(),
            findings: findings.into_iter().map(FindingView::from).collect(),
            new,
        }
    }
}
