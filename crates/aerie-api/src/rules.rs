//! Rules: drafts, their effect, versions, who reaches what, and reviews of it.

use crate::DiagnosticView;
use jiff::Timestamp;
use serde::{Deserialize, Serialize};
use serde_json::Value;
use std::collections::BTreeMap;
use utoipa::{IntoParams, ToSchema};

/// A document as its rules, for reading and for forms.
#[derive(Debug, Clone, Serialize, Deserialize, ToSchema)]
pub struct PolicyRead {
    /// Whether it can be published.
    pub ok: bool,
    /// Errors and warnings.
    pub diagnostics: Vec<DiagnosticView>,
    /// The rules and guardrails, in the order of the text; empty where it cannot be read.
    pub rules: Vec<RuleCard>,
    /// Names of its hours.
    pub hours: Vec<String>,
    /// How many tests stand in it.
    pub tests: u64,
    /// Whether the next version takes the agreement of a second person.
    pub second_person: bool,
}

/// One rule, for reading and for forms.
#[derive(Debug, Clone, Serialize, Deserialize, ToSchema)]
pub struct RuleCard {
    /// Its name.
    pub name: String,
    /// `allow`, `forbid`, `require` or `never`.
    pub effect: String,
    /// Line on which it begins.
    pub line: u64,
    /// What it says, in a sentence.
    pub sentence: String,
    /// What it is for, in the author's words.
    pub note: Option<String>,
    /// How many people it speaks of.
    pub people: u64,
    /// How many machines it speaks of.
    pub machines: u64,
    /// Its fields as they are written: key and value.
    #[schema(value_type = Object)]
    pub fields: BTreeMap<String, Value>,
}

/// A change of one rule within a document.
#[derive(Debug, Clone, Serialize, Deserialize, ToSchema)]
pub struct RuleEdit {
    /// The document.
    pub text: String,
    /// Name of the rule to change or remove; none adds one.
    pub name: Option<String>,
    /// What the new rule does; not for a change.
    pub effect: Option<String>,
    /// Fields to be set; null removes one. None removes the rule.
    #[schema(value_type = Option<Object>)]
    pub fields: Option<BTreeMap<String, Value>>,
}

/// What is to be compared with the rules in force.
#[derive(Debug, Clone, Serialize, Deserialize, ToSchema)]
pub struct EffectQuery {
    /// The document.
    pub text: String,
    /// The version to compare with; the one in force where it is not said.
    pub against: Option<i64>,
    /// Days of the past to hold against it.
    pub days: Option<u32>,
}

/// The effect that a document would have.
#[derive(Debug, Clone, Serialize, Deserialize, ToSchema)]
pub struct EffectView {
    /// In a sentence.
    pub sentence: String,
    /// Whether it could be published.
    pub ok: bool,
    /// Errors and warnings.
    pub diagnostics: Vec<DiagnosticView>,
    /// Everything that changes, the largest effect first.
    pub changes: Vec<ChangeView>,
    /// The past under it.
    pub past: PastView,
    /// How many guardrails hold.
    pub guardrails: u64,
    /// How many tests of the document have the answer they must have.
    pub tests: u64,
    /// Live sessions that would end, by identifier, with the sentence that says why.
    pub ending: Vec<EndingView>,
    /// From when on changes were looked for.
    #[schema(value_type = String, format = DateTime)]
    pub from: Timestamp,
    /// To when.
    #[schema(value_type = String, format = DateTime)]
    pub to: Timestamp,
}

/// A live session that would end.
#[derive(Debug, Clone, Serialize, Deserialize, ToSchema)]
pub struct EndingView {
    /// Identifier of the session.
    pub session: String,
    /// Why.
    pub sentence: String,
}

/// One change of who may reach what.
#[derive(Debug, Clone, Serialize, Deserialize, ToSchema)]
pub struct ChangeView {
    /// `gains`, `easier`, `loses`, `harder` or `different`.
    pub turn: String,
    /// In a sentence.
    pub sentence: String,
    /// Who.
    pub people: Vec<String>,
    /// Where.
    pub machines: Vec<String>,
    /// What.
    pub capabilities: Vec<String>,
    /// Under which account; none for any that no rule names.
    pub account: Option<String>,
    /// Where forwarded ports lead; none where that is the machine itself, and for other capabilities.
    pub to: Option<String>,
    /// From where.
    pub from: String,
    /// When.
    pub when: String,
    /// What was demanded, each alternative.
    pub before: Vec<Vec<String>>,
    /// What is demanded, each alternative.
    pub after: Vec<Vec<String>>,
    /// People × machines × capabilities.
    pub size: u64,
}

/// The past under a draft.
#[derive(Debug, Clone, Serialize, Deserialize, ToSchema)]
pub struct PastView {
    /// In a sentence.
    pub sentence: String,
    /// Sessions looked at.
    pub sessions: u64,
    /// Of people and machines that are no longer there.
    pub unknown: u64,
    /// Sessions that would have been refused.
    pub refused: u64,
    /// Sessions that would have been asked more.
    pub asked: u64,
    /// In groups.
    pub judged: Vec<JudgedView>,
}

/// Past sessions of one person on one machine that would have been otherwise.
#[derive(Debug, Clone, Serialize, Deserialize, ToSchema)]
pub struct JudgedView {
    /// `refused` or `asked`.
    pub verdict: String,
    /// In a sentence.
    pub sentence: String,
    /// Who.
    pub person: String,
    /// Where.
    pub machine: String,
    /// The sessions, oldest first.
    pub sessions: Vec<String>,
    /// When the last of them began.
    #[schema(value_type = String, format = DateTime)]
    pub last: Timestamp,
}

/// A version of the rules.
#[derive(Debug, Clone, Serialize, Deserialize, ToSchema)]
pub struct VersionView {
    /// Its number.
    pub version: i64,
    /// When it was published.
    #[schema(value_type = String, format = DateTime)]
    pub published_at: Timestamp,
    /// By whom.
    pub published_by: String,
    /// The second person who agreed.
    pub agreed_by: Option<String>,
    /// What was said of it.
    pub note: String,
    /// The earlier version that it brought back.
    pub restored: Option<i64>,
    /// Lines added and removed against the version before.
    pub added: u64,
    /// See `added`.
    pub removed: u64,
    /// The document; left out in lists.
    pub text: Option<String>,
}

/// Rules that are being written.
#[derive(Debug, Clone, Serialize, Deserialize, ToSchema)]
pub struct DraftView {
    /// Identifier.
    pub id: String,
    /// What it is about.
    pub title: String,
    /// The version that it was written against.
    pub base: i64,
    /// Whether that version is still in force.
    pub current: bool,
    /// Counts every change; it is the ETag.
    pub revision: i64,
    /// Who began it.
    pub author: String,
    /// When it was last changed.
    #[schema(value_type = String, format = DateTime)]
    pub changed: Timestamp,
    /// By whom.
    pub changed_by: String,
    /// Who agreed to it as it is.
    pub agreed_by: Option<String>,
    /// Whether it takes a second person to publish it.
    pub second_person: bool,
    /// The document; left out in lists.
    pub text: Option<String>,
}

/// A draft that is begun or changed.
#[derive(Debug, Clone, Serialize, Deserialize, ToSchema)]
pub struct DraftText {
    /// What it is about.
    pub title: String,
    /// The document; the rules in force where a new draft says none.
    pub text: Option<String>,
    /// The version that it is written against from now on; as before where it is not said.
    pub base: Option<i64>,
}

/// What is said of a publication.
#[derive(Debug, Clone, Default, Serialize, Deserialize, ToSchema)]
pub struct PublishNote {
    /// What it is for.
    #[serde(default)]
    pub note: String,
}

/// Whom and what to look at in the reach map.
#[derive(Debug, Clone, Default, Serialize, Deserialize, ToSchema, IntoParams)]
pub struct ReachQuery {
    /// One person by name.
    pub person: Option<String>,
    /// One machine by name.
    pub machine: Option<String>,
    /// Selector of people.
    pub people: Option<String>,
    /// Selector of machines.
    pub machines: Option<String>,
    /// Only this capability.
    pub capability: Option<String>,
    /// Days from now on, 1 to 366; a week where it is not said.
    pub days: Option<u32>,
    /// The rules of this version; those in force where it is not said.
    pub version: Option<i64>,
}

/// Who can reach what.
#[derive(Debug, Clone, Serialize, Deserialize, ToSchema)]
pub struct ReachView {
    /// In a sentence.
    pub sentence: String,
    /// Version of the rules.
    pub policy_version: i64,
    /// From when on.
    #[schema(value_type = String, format = DateTime)]
    pub from: Timestamp,
    /// To when.
    #[schema(value_type = String, format = DateTime)]
    pub to: Timestamp,
    /// Groups of people and machines with the same permissions, the largest first.
    pub entries: Vec<ReachEntry>,
    /// Classes of people, classes of machines, pairs of them with access.
    pub classes: [u64; 3],
}

/// The same permissions of some people on some machines.
#[derive(Debug, Clone, Serialize, Deserialize, ToSchema)]
pub struct ReachEntry {
    /// Who.
    pub people: Vec<String>,
    /// Where.
    pub machines: Vec<String>,
    /// What.
    pub permissions: Vec<PermissionView>,
}

/// A permission.
#[derive(Debug, Clone, Serialize, Deserialize, ToSchema)]
pub struct PermissionView {
    /// What.
    pub capabilities: Vec<String>,
    /// Under which account; none for any that no rule names.
    pub account: Option<String>,
    /// Where forwarded ports lead, in words; none where that is the machine itself, and for other capabilities.
    pub to: Option<String>,
    /// From where, in words.
    pub from: String,
    /// When, in words.
    pub when: String,
    /// When, within the span of time looked at: begin and end, in milliseconds since the epoch.
    pub spans: Vec<[i64; 2]>,
    /// What is demanded, each alternative.
    pub demands: Vec<Vec<String>>,
}

/// How much access there is between groups of people and groups of machines.
#[derive(Debug, Clone, Serialize, Deserialize, ToSchema)]
pub struct MatrixView {
    /// In a sentence.
    pub sentence: String,
    /// Groups of people.
    pub rows: Vec<MatrixHead>,
    /// Groups of machines.
    pub columns: Vec<MatrixHead>,
    /// For each row its cells.
    pub cells: Vec<Vec<MatrixCell>>,
}

/// A row or column of the matrix.
#[derive(Debug, Clone, Serialize, Deserialize, ToSchema)]
pub struct MatrixHead {
    /// Its name.
    pub name: String,
    /// Selector that holds just these.
    pub selector: String,
    /// How many.
    pub count: u64,
}

/// A cell of the matrix.
#[derive(Debug, Clone, Serialize, Deserialize, ToSchema)]
pub struct MatrixCell {
    /// Pairs with any access.
    pub pairs: u64,
    /// All pairs.
    pub of: u64,
    /// Capabilities that any of them has.
    pub capabilities: Vec<String>,
}

/// What became of a rule.
#[derive(Debug, Clone, Serialize, Deserialize, ToSchema)]
pub struct RuleUseView {
    /// Its name.
    pub name: String,
    /// Its line.
    pub line: u64,
    /// In a sentence.
    pub sentence: String,
    /// Sessions that it let in.
    pub sessions: u64,
    /// When it was last used.
    #[schema(value_type = Option<String>, format = DateTime)]
    pub last: Option<Timestamp>,
    /// Fields of a narrower rule that would have let in all of them.
    #[schema(value_type = Object)]
    pub narrower: BTreeMap<String, Value>,
    /// The narrower rule as text.
    pub proposal: Option<String>,
}

/// A review of who has access.
#[derive(Debug, Clone, Serialize, Deserialize, ToSchema)]
pub struct ReviewView {
    /// Identifier.
    pub id: String,
    /// What it is about.
    pub title: String,
    /// How it stands, in a sentence.
    pub sentence: String,
    /// Selector of the people in scope.
    pub people: String,
    /// Selector of the machines in scope.
    pub machines: String,
    /// When it is due.
    #[schema(value_type = String, format = DateTime)]
    pub deadline: Timestamp,
    /// When it was begun.
    #[schema(value_type = String, format = DateTime)]
    pub created: Timestamp,
    /// By whom.
    pub created_by: String,
    /// When it was closed.
    #[schema(value_type = Option<String>, format = DateTime)]
    pub closed: Option<Timestamp>,
    /// Entries, decided, kept, withdrawn.
    pub counts: [u64; 4],
    /// Its entries; left out in lists. Those who may not read everything see their own.
    pub entries: Vec<ReviewEntryView>,
}

/// One permission under review.
#[derive(Debug, Clone, Serialize, Deserialize, ToSchema)]
pub struct ReviewEntryView {
    /// Number within the review.
    pub n: i64,
    /// Whose.
    pub person: String,
    /// Their full name.
    pub person_name: String,
    /// The rule that gives it.
    pub rule: String,
    /// Where.
    pub machines: Vec<String>,
    /// What.
    pub capabilities: Vec<String>,
    /// Who may decide besides administrators.
    pub owners: Vec<String>,
    /// `keep` or `withdraw`.
    pub decision: Option<String>,
    /// By whom.
    pub decided_by: Option<String>,
    /// When.
    #[schema(value_type = Option<String>, format = DateTime)]
    pub decided_at: Option<Timestamp>,
    /// What was said of it.
    pub note: String,
}

/// A review that is begun.
#[derive(Debug, Clone, Serialize, Deserialize, ToSchema)]
pub struct NewReview {
    /// What it is about.
    pub title: String,
    /// Selector of the people in scope; all where it is not said.
    pub people: Option<String>,
    /// Selector of the machines in scope; all where it is not said.
    pub machines: Option<String>,
    /// Days until it is due, 1 to 366.
    pub days: u32,
}

/// A decision on an entry.
#[derive(Debug, Clone, Serialize, Deserialize, ToSchema)]
pub struct ReviewDecision {
    /// `keep` or `withdraw`.
    pub decision: String,
    /// What is said of it.
    #[serde(default)]
    pub note: String,
}

/// The result of closing a review.
#[derive(Debug, Clone, Serialize, Deserialize, ToSchema)]
pub struct ReviewClosed {
    /// In a sentence.
    pub sentence: String,
    /// The draft in which the withdrawals are written, where there are any.
    pub draft: Option<String>,
}

/// People, machines or groups to be taken in.
#[derive(Debug, Clone, Serialize, Deserialize, ToSchema)]
pub struct DirectoryImport {
    /// `json` (a whole directory, as the export writes it), `csv-people` or `csv-machines` (added to what is known).
    pub format: String,
    /// The file.
    pub text: String,
    /// Only say what would change.
    #[serde(default)]
    pub dry_run: bool,
}

/// What an import changes.
#[derive(Debug, Clone, Serialize, Deserialize, ToSchema)]
pub struct DirectoryChanges {
    /// In a sentence.
    pub sentence: String,
    /// Whether it was done.
    pub done: bool,
    /// Each difference in a sentence.
    pub differences: Vec<String>,
    /// What it changes in who may reach what.
    pub changes: Vec<ChangeView>,
}
