use aerie_core::audit::detect::Detection;
use aerie_core::audit::{CaseState, Finding, LogLine, Scanned, Step, Suppression};
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
    /// `low`, `medium`, `high` or `critical`.
    pub importance: String,
    /// Why it is of that importance.
    pub reason: String,
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
    /// `open`, `acknowledged`, `in-work`, `resolved` or `accepted`.
    pub state: String,
    /// Name of the person whose it is.
    pub owner: Option<String>,
    /// When it is due.
    #[schema(value_type = Option<String>, format = DateTime)]
    pub due: Option<Timestamp>,
    /// Until when it is accepted.
    #[schema(value_type = Option<String>, format = DateTime)]
    pub until: Option<Timestamp>,
    /// How it was settled; none while it is open.
    pub settled: Option<SettledView>,
    /// Version of the detections that found it, where one did.
    pub detections: Option<String>,
    /// Technique ids of MITRE ATT&CK.
    pub techniques: Vec<String>,
    /// Controls of NIST SP 800-53, ISO/IEC 27001 and PCI DSS that it is about.
    pub controls: Vec<String>,
    /// What was done with it, in order; only where one finding is shown.
    pub history: Vec<HistoryView>,
}

fn open() -> String {
    CaseState::Open.word().into()
}

/// Something that was done with a finding.
#[derive(Debug, Clone, Serialize, Deserialize, ToSchema)]
pub struct HistoryView {
    /// When.
    #[schema(value_type = String, format = DateTime)]
    pub at: Timestamp,
    /// By whom.
    pub by: String,
    /// What, in a sentence.
    pub sentence: String,
}

/// What somebody does with a finding.
#[derive(Debug, Clone, Default, Serialize, Deserialize, ToSchema)]
#[serde(deny_unknown_fields)]
pub struct FindingStep {
    /// `acknowledge`, `begin`, `resolve`, `accept`, `reopen`, `assign`, `due` or `comment`.
    pub step: String,
    /// Why (`resolve`, `accept`, `reopen`), or the comment.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub why: Option<String>,
    /// Name of the owner (`assign`); nobody where it is missing.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub owner: Option<String>,
    /// Until when it is accepted, or when it is due; no longer due where it is missing.
    #[schema(value_type = Option<String>, format = DateTime)]
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub until: Option<Timestamp>,
}

impl FindingStep {
    /// The step; none where there is none of that word, or `accept` has no day.
    pub fn read(&self) -> Option<Step> {
        let why = || self.why.clone().unwrap_or_default();
        Some(match self.step.as_str() {
            "acknowledge" => Step::Acknowledge,
            "begin" => Step::Begin,
            "resolve" => Step::Resolve(why()),
            "accept" => Step::Accept(why(), self.until?),
            "reopen" => Step::Reopen(why()),
            "assign" => Step::Assign(self.owner.clone()),
            "due" => Step::Due(self.until),
            "comment" => Step::Comment(why()),
            _ => return None,
        })
    }
}

/// Findings that are not to come up.
#[derive(Debug, Clone, Default, Serialize, Deserialize, ToSchema)]
#[serde(deny_unknown_fields)]
pub struct NewSuppression {
    /// Kind, or name of the detection.
    pub kind: String,
    /// On this machine.
    #[serde(default)]
    pub machine: Option<String>,
    /// Of this account.
    #[serde(default)]
    pub account: Option<String>,
    /// Of this person.
    #[serde(default)]
    pub person: Option<String>,
    /// From this address.
    #[serde(default)]
    pub source: Option<String>,
    /// Until then; at most a year from now.
    #[schema(value_type = String, format = DateTime)]
    pub until: Timestamp,
    /// Why.
    pub why: String,
}

impl From<NewSuppression> for Suppression {
    fn from(n: NewSuppression) -> Self {
        // An empty text is no condition.
        let some = |t: Option<String>| t.filter(|t| !t.is_empty());
        Self {
            kind: n.kind,
            machine: some(n.machine),
            account: some(n.account),
            person: some(n.person),
            source: some(n.source),
            until: n.until,
            why: n.why,
        }
    }
}

/// A suppression.
#[derive(Debug, Clone, Serialize, Deserialize, ToSchema)]
pub struct SuppressionView {
    /// Identifier.
    pub id: String,
    /// What it holds back, in a sentence.
    pub sentence: String,
    /// Kind, or name of the detection.
    pub kind: String,
    /// Why.
    pub why: String,
    /// Who made it.
    pub by: String,
    /// When.
    #[schema(value_type = String, format = DateTime)]
    pub made: Timestamp,
    /// Until when.
    #[schema(value_type = String, format = DateTime)]
    pub until: Timestamp,
    /// Whether it is in force.
    pub in_force: bool,
    /// How often a finding was held back.
    pub hits: u64,
}

/// A detection.
#[derive(Debug, Clone, Serialize, Deserialize, ToSchema)]
pub struct DetectionView {
    /// Its name, which its findings have as their kind.
    pub name: String,
    /// What it is good for.
    pub title: String,
    /// `match`, `count`, `sequence`, `absence`, `first`, `baseline` or `overlap`.
    pub form: String,
    /// `low`, `medium`, `high` or `critical`.
    pub importance: String,
    /// Whether it is looked at.
    pub enabled: bool,
    /// Technique ids of MITRE ATT&CK.
    pub techniques: Vec<String>,
    /// Controls that it helps to keep.
    pub controls: Vec<String>,
    /// The way to mend what it finds.
    pub mend: String,
}

/// The detections in force.
#[derive(Debug, Clone, Serialize, Deserialize, ToSchema)]
pub struct DetectionsView {
    /// Version; 0 for those that come along.
    pub version: i64,
    /// Who published them; nobody did where it is empty.
    pub by: String,
    /// When.
    #[schema(value_type = Option<String>, format = DateTime)]
    pub at: Option<Timestamp>,
    /// The document (TOML).
    pub text: String,
    /// Each of them.
    pub detections: Vec<DetectionView>,
}

impl DetectionView {
    /// Of a detection.
    pub fn of(d: &Detection) -> Self {
        Self {
            name: d.name.clone(),
            title: d.title.clone(),
            form: d.form.word().into(),
            importance: d.importance.word().into(),
            enabled: d.enabled,
            techniques: d.techniques.clone(),
            controls: d.controls.clone(),
            mend: d.mend.clone(),
        }
    }
}

/// Detections to be published.
#[derive(Debug, Clone, Default, Serialize, Deserialize, ToSchema)]
#[serde(deny_unknown_fields)]
pub struct NewDetections {
    /// The document.
    pub text: String,
    /// Why it is changed.
    pub why: String,
    /// The version that it follows.
    pub after: i64,
}

/// How far a log was read.
#[derive(Debug, Clone, Serialize, Deserialize, ToSchema)]
pub struct LogPositionView {
    /// Bytes that were read; 0 where it was not, or was cut since.
    pub offset: u64,
    /// When.
    #[schema(value_type = Option<String>, format = DateTime)]
    pub read_at: Option<Timestamp>,
}

/// Of what evidence is put together.
#[derive(Debug, Clone, Serialize, Deserialize, ToSchema)]
#[serde(deny_unknown_fields)]
pub struct EvidenceQuery {
    /// From then on.
    #[schema(value_type = String, format = DateTime)]
    pub from: Timestamp,
    /// Before then.
    #[schema(value_type = String, format = DateTime)]
    pub until: Timestamp,
    /// Of this machine alone.
    #[serde(default)]
    pub machine: Option<String>,
    /// Of this person alone.
    #[serde(default)]
    pub person: Option<String>,
}

/// For which machines and days there is evidence.
#[derive(Debug, Clone, Serialize, Deserialize, ToSchema)]
pub struct CoverageView {
    /// How it stands, in a sentence.
    pub sentence: String,
    /// The days, oldest first (of UTC).
    #[schema(value_type = Vec<String>, format = Date)]
    pub days: Vec<jiff::civil::Date>,
    /// Each machine that is registered, or that a log names.
    pub machines: Vec<MachineCoverage>,
}

/// Evidence of one machine.
#[derive(Debug, Clone, Serialize, Deserialize, ToSchema)]
pub struct MachineCoverage {
    /// Name.
    pub machine: String,
    /// Whether it is registered.
    pub registered: bool,
    /// Lines of its own logs for each day.
    pub lines: Vec<u64>,
    /// Sessions through Aerie for each day.
    pub sessions: Vec<u64>,
    /// Days with lines of its own logs.
    pub covered: u64,
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
        let (kind, techniques, controls) = (f.word().to_string(), f.techniques(), f.controls());
        Self {
            id: f.id,
            kind,
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
            reason: f.importance.reason().into(),
            state: open(),
            owner: None,
            due: None,
            until: None,
            settled: None,
            detections: f.detection.as_ref().map(|d| d.version.clone()),
            techniques,
            controls,
            history: vec![],
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
    /// Those whose form was understood, whatever they say. Where it is none, nothing is known of this log.
    pub understood: u64,
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
    /// Whether nothing at all was understood of something that was there: that is no answer.
    pub fn is_nothing_understood(&self) -> bool {
        self.lines > 0 && self.understood == 0
    }

    /// Puts together what an audit gave. `new` is how many of its findings were not known before.
    pub fn new(scanned: Scanned, new: u64) -> Self {
        use aerie_core::wording::{count, duration};
        let Scanned { format, counts, judged: (accesses, explained), ahead_ms, unclear, findings, covered: _, skipped } = scanned;
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
        // A head and line feeds are no news.
        let passed = match skipped {
            0..1024 => String::new(),
            n => format!(" {} that belong to no event, or to one too long, were passed over.", aerie_core::wording::size(n)),
        };
        let sentence = if counts.lines > 0 && counts.understood == 0 {
            format!("{} read, and nothing in it was understood: it says nothing about who got in.", count(counts.lines, unit))
        } else {
            format!(
                "{} read, {accesses} {accesses_word} ({explained} through Aerie), {}: {what}.{clock}{passed}",
                count(counts.lines, unit),
                count(counts.failed, "failed login")
            )
        };
        Self {
            sentence,
            format: format.into(),
            lines: counts.lines,
            understood: counts.understood,
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
