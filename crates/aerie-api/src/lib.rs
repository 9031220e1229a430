//! The shapes that go over the HTTP API: requests and answers, shared by service and client. Times are RFC 3339 in UTC.

mod accesses;
mod asking;
mod desktop;
mod findings;
mod frames;
mod machines;
mod oversight;
mod people;
mod rules;
mod sessions;
mod visits;

pub use accesses::*;
pub use asking::*;
pub use desktop::{DesktopQuery, FilmView, FromViewer, PictureQuery, ScreenQuery, StretchView, ToViewer};
pub use findings::{
    CoverageView, DetectionView, DetectionsView, EvidenceQuery, FindingStep, FindingView, HistoryView, LogLineView, LogPositionView,
    MachineCoverage, NewDetections, NewSuppression, ScanResult, SettledView, SuppressionView,
};
pub use frames::{FrameKind, FrameView};
pub use machines::*;
pub use oversight::*;
pub use people::*;
pub use rules::{
    ChangeView, DirectoryChanges, DirectoryImport, DraftText, DraftView, EffectQuery, EffectView, EndingView, JudgedView, MatrixCell,
    MatrixHead, MatrixView, NewReview, PastView, PermissionView, PolicyRead, PublishNote, ReachEntry, ReachQuery, ReachView, ReviewClosed,
    ReviewDecision, ReviewEntryView, ReviewView, RuleCard, RuleEdit, RuleUseView, VersionView,
};
pub use sessions::SessionView;
pub use visits::*;

use serde::{Deserialize, Serialize};
use utoipa::{IntoParams, ToSchema};

/// A page of a list.
#[derive(Debug, Clone, Serialize, Deserialize, ToSchema)]
pub struct Page<T> {
    /// What is on it.
    pub items: Vec<T>,
    /// To be given as `after` for the next page; absent on the last.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub next: Option<String>,
}

/// An error, as RFC 9457 has it.
#[derive(Debug, Clone, Serialize, Deserialize, ToSchema)]
pub struct ProblemView {
    /// Stable code with its place in the documentation: `/docs/errors#CODE`.
    #[serde(rename = "type")]
    pub kind: String,
    /// What is wrong, in a few words.
    pub title: String,
    /// HTTP status.
    pub status: u16,
    /// What is wrong this time, and what to do.
    pub detail: String,
    /// Errors and warnings in a document that was sent, rendered.
    #[serde(default, skip_serializing_if = "Vec::is_empty")]
    pub diagnostics: Vec<DiagnosticView>,
}

/// A mistake in a document.
#[derive(Debug, Clone, Serialize, Deserialize, ToSchema)]
pub struct DiagnosticView {
    /// `error` or `warning`.
    pub severity: String,
    /// Stable code.
    pub code: String,
    /// Line, from 1.
    pub line: u32,
    /// Column, from 1.
    pub column: u32,
    /// What is wrong.
    pub message: String,
    /// What to do.
    pub help: Option<String>,
    /// The same with the source line and a caret, for a terminal.
    pub rendered: String,
}

/// Who wants to sign in.
#[derive(Clone, Serialize, Deserialize, ToSchema)]
pub struct SignIn {
    /// Name.
    pub person: String,
    /// Password.
    pub password: String,
    /// Current code, or a recovery or temporary one; empty where a second step is to follow.
    #[serde(default)]
    pub code: String,
    /// Ask for a token in the answer instead of a cookie.
    #[serde(default)]
    pub token: bool,
}

/// Who is signed in.
#[derive(Clone, Serialize, Deserialize, ToSchema)]
pub struct Me {
    /// Name.
    pub person: String,
    /// Name as people write it.
    pub full_name: String,
    /// Roles.
    pub roles: Vec<String>,
    /// How far signing in came: `proving` while a second factor is awaited, `enrolling` while one must be enrolled, `full`.
    pub stage: String,
    /// Words of the factors that were proved.
    pub factors: Vec<String>,
    /// Words of the factors that would do, while one is awaited or one must be proved again.
    pub wanted: Vec<String>,
    /// Words of what the roles allow, everywhere or within a scope.
    pub may: Vec<String>,
    /// Message of the day; empty for none.
    pub message: String,
    /// Until when, if nothing is asked.
    #[schema(value_type = String, format = DateTime)]
    pub until: jiff::Timestamp,
    /// The token, where one was asked for.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub token: Option<String>,
}

/// How things stand.
#[derive(Debug, Clone, Serialize, Deserialize, ToSchema)]
pub struct Now {
    /// Sessions that are live.
    pub live: u64,
    /// Findings last seen in the last 24 hours.
    pub findings_new: u64,
    /// All findings.
    pub findings: u64,
    /// The same as a sentence.
    pub sentence: String,
    /// Uses that wait for somebody at this moment, the longest wait first.
    pub waiting: Vec<WaitView>,
    /// Requests that the caller may answer.
    pub yours: u64,
    /// Why and since when the service is locked down.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub lockdown: Option<LockdownView>,
    /// What the service has still to do.
    pub backlog: Backlog,
    /// Zone in which the rules tell the time.
    pub zone: String,
}

/// A day as strips: one for each machine.
#[derive(Debug, Clone, Serialize, Deserialize, ToSchema)]
pub struct Strips {
    /// Begin of the day.
    #[schema(value_type = String, format = DateTime)]
    pub begin: jiff::Timestamp,
    /// End of the day.
    #[schema(value_type = String, format = DateTime)]
    pub end: jiff::Timestamp,
    /// Zone of the day.
    pub zone: String,
    /// Machines on which anything happened, then the others.
    pub machines: Vec<Strip>,
}

/// One machine over a day. Instants are milliseconds since the epoch.
#[derive(Debug, Clone, Serialize, Deserialize, ToSchema)]
pub struct Strip {
    /// Name of the machine.
    pub machine: String,
    /// Hours in which the rules let anybody in; begin and end.
    pub open: Vec<[i64; 2]>,
    /// Sessions.
    pub sessions: Vec<StripSession>,
    /// Findings: identifier and instant.
    pub findings: Vec<StripFinding>,
}

/// A session on a strip.
#[derive(Debug, Clone, Serialize, Deserialize, ToSchema)]
pub struct StripSession {
    /// Identifier.
    pub id: String,
    /// Name of the person as people write it.
    pub person: String,
    /// When it began.
    pub begin: i64,
    /// When it ended; absent while it is live.
    pub end: Option<i64>,
}

/// A finding on a strip.
#[derive(Debug, Clone, Serialize, Deserialize, ToSchema)]
pub struct StripFinding {
    /// Identifier.
    pub id: String,
    /// When.
    pub at: i64,
    /// What happened.
    pub sentence: String,
}

/// An event of the log.
#[derive(Debug, Clone, Serialize, Deserialize, ToSchema)]
pub struct EventView {
    /// Its place.
    pub seq: u64,
    /// When.
    #[schema(value_type = String, format = DateTime)]
    pub at: jiff::Timestamp,
    /// What kind.
    pub kind: String,
    /// Who.
    pub actor: String,
    /// On which machine.
    #[serde(default)]
    pub machine: Option<String>,
    /// In which session.
    #[serde(default)]
    pub session: Option<String>,
    /// From which address.
    #[serde(default)]
    pub from: Option<String>,
    /// What happened.
    pub sentence: String,
    /// What else is known.
    #[serde(default)]
    #[schema(value_type = Object)]
    pub data: serde_json::Map<String, serde_json::Value>,
    /// Leaf hash, hexadecimal.
    #[serde(default)]
    pub leaf: String,
}

/// A signed checkpoint.
#[derive(Debug, Clone, Serialize, Deserialize, ToSchema)]
pub struct CheckpointView {
    /// Events.
    pub size: u64,
    /// Root, hexadecimal.
    pub root: String,
    /// When.
    #[schema(value_type = String, format = DateTime)]
    pub at: jiff::Timestamp,
    /// Ed25519 signature, hexadecimal.
    pub signature: String,
}

/// The result of verifying the log.
#[derive(Debug, Clone, Serialize, Deserialize, ToSchema)]
pub struct LogReport {
    /// Whether nothing is wrong.
    pub holds: bool,
    /// The result in a sentence.
    pub sentence: String,
    /// Events.
    pub events: u64,
    /// Checkpoints that held.
    pub checkpoints: u64,
    /// Root, hexadecimal.
    pub root: String,
    /// What is wrong.
    pub problems: Vec<LogProblem>,
    /// Public key of the checkpoints, hexadecimal.
    pub public_keys: Vec<String>,
}

/// Something wrong with the log.
#[derive(Debug, Clone, Serialize, Deserialize, ToSchema)]
pub struct LogProblem {
    /// First event concerned.
    pub first: u64,
    /// Last event concerned.
    pub last: u64,
    /// What kind.
    pub kind: String,
    /// In a sentence.
    pub sentence: String,
}

/// The result of verifying a recording.
#[derive(Debug, Clone, Serialize, Deserialize, ToSchema)]
pub struct RecordingReport {
    /// The session.
    pub session: String,
    /// Whether it is what was written, and complete if it was closed.
    pub holds: bool,
    /// The result in a sentence.
    pub sentence: String,
    /// Whether its end is there.
    pub complete: bool,
    /// Frames.
    pub frames: u64,
    /// Milliseconds to the last frame.
    pub length_ms: u64,
    /// Digest of the chain.
    pub digest: String,
    /// Whether the digest is the one in the log; absent while there is none.
    pub in_log: Option<bool>,
}

/// Rules.
#[derive(Debug, Clone, Serialize, Deserialize, ToSchema)]
pub struct PolicyView {
    /// Version; 0 while none was published.
    pub version: i64,
    /// The document.
    pub text: String,
    /// When it was published.
    #[schema(value_type = Option<String>, format = DateTime)]
    pub published_at: Option<jiff::Timestamp>,
    /// By whom.
    pub published_by: Option<String>,
}

/// A rule document to be checked or published.
#[derive(Debug, Clone, Serialize, Deserialize, ToSchema)]
pub struct PolicyText {
    /// The document.
    pub text: String,
}

/// The result of checking a rule document.
#[derive(Debug, Clone, Serialize, Deserialize, ToSchema)]
pub struct PolicyChecked {
    /// Whether it can be published.
    pub ok: bool,
    /// The version, where it was published.
    pub version: Option<i64>,
    /// Errors and warnings.
    pub diagnostics: Vec<DiagnosticView>,
}

/// A question about the rules.
#[derive(Debug, Clone, Serialize, Deserialize, ToSchema, IntoParams)]
pub struct WhyQuery {
    /// Name of the person.
    pub person: String,
    /// Word of the capability.
    pub capability: String,
    /// Name of the machine.
    pub machine: String,
    /// When (RFC 3339); now where it is not said.
    #[param(value_type = Option<String>)]
    #[schema(value_type = Option<String>)]
    pub at: Option<jiff::Timestamp>,
    /// Account on the machine.
    pub account: Option<String>,
    /// Where a forwarded port leads, `host:port`; for `forward` alone.
    pub target: Option<String>,
    /// From which address.
    pub from: Option<String>,
    /// Factors taken as proved just then: words, separated by commas.
    pub factors: Option<String>,
    /// The rules of this version; those in force where it is not said.
    pub version: Option<i64>,
}

/// The answer.
#[derive(Debug, Clone, Serialize, Deserialize, ToSchema)]
pub struct Why {
    /// `granted`, `unmet` or `refused`.
    pub outcome: String,
    /// In a sentence.
    pub sentence: String,
    /// What is missing: words of factors, `recording`.
    pub missing: Vec<String>,
    /// The rules that led to it.
    pub rules: Vec<RuleView>,
    /// The smallest things that would change it, each a phrase.
    pub changes: Vec<String>,
    /// What is demanded in the end, each as a phrase.
    pub demands: Vec<String>,
    /// Until when it holds.
    #[schema(value_type = Option<String>, format = DateTime)]
    pub holds_until: Option<jiff::Timestamp>,
    /// Version of the rules.
    pub policy_version: i64,
}

/// A rule that is cited.
#[derive(Debug, Clone, Serialize, Deserialize, ToSchema)]
pub struct RuleView {
    /// Name.
    pub name: String,
    /// What it does.
    pub effect: String,
    /// Line.
    pub line: u64,
}

/// People, machines and the authority, for auditing files elsewhere.
#[derive(Debug, Clone, Serialize, Deserialize, ToSchema)]
pub struct DirectoryExport {
    /// Everybody, as `--directory` reads it.
    #[schema(value_type = Vec<Object>)]
    pub people: Vec<aerie_core::directory::Person>,
    /// Every machine.
    #[schema(value_type = Vec<Object>)]
    pub machines: Vec<aerie_core::directory::Machine>,
    /// Groups that hold others or fill themselves.
    #[schema(value_type = Vec<Object>)]
    #[serde(default)]
    pub groups: Vec<aerie_core::directory::Group>,
    /// Fingerprints of the authorities that signed in to machines, newest first.
    pub authorities: Vec<String>,
    /// Public key of the checkpoints, hexadecimal.
    pub checkpoint_keys: Vec<String>,
}

/// Whether the service can do its work.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize, ToSchema)]
pub struct HealthView {
    /// `ready` or `not-ready`.
    pub status: String,
    /// What was checked.
    pub checks: Vec<HealthCheck>,
}

/// One thing that the service needs.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize, ToSchema)]
pub struct HealthCheck {
    /// `database`, `event-log`, `disk-space` or `recorder`.
    pub name: String,
    /// Whether it works.
    pub ok: bool,
}

/// With what clients recognise the service.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize, ToSchema)]
pub struct ServiceTrust {
    /// Certificate (PEM) of the authority that signs the certificate of console and API; empty where it speaks without TLS.
    pub tls_authority: String,
    /// Its SHA-256 fingerprint.
    pub tls_authority_fingerprint: String,
    /// Host key of the SSH gateway, as OpenSSH writes it.
    pub gateway_host_key: String,
    /// Its SHA-256 fingerprint.
    pub gateway_fingerprint: String,
    /// Host key of the SSH gateway for old clients; none while the setting `older-clients` is off.
    pub gateway_older_host_key: Option<String>,
    /// Authority that signs the host certificates of machines for `ssh -J`, as OpenSSH writes it.
    pub machines_authority: String,
    /// Its SHA-256 fingerprint.
    pub machines_authority_fingerprint: String,
}
