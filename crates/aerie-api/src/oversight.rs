//! Judging the past again, and reports.

use jiff::Timestamp;
use serde::{Deserialize, Serialize};
use utoipa::{IntoParams, ToSchema};

/// By what the past is judged again. Without rules those in force, without detections those in force.
#[derive(Debug, Clone, Default, Serialize, Deserialize, ToSchema)]
#[serde(default)]
pub struct AgainQuery {
    /// Accesses that began no earlier than this; the last 30 days where it is not said.
    #[schema(value_type = Option<String>, format = DateTime)]
    pub from: Option<Timestamp>,
    /// Began before this.
    #[schema(value_type = Option<String>, format = DateTime)]
    pub until: Option<Timestamp>,
    /// A version of the rules.
    pub version: Option<i64>,
    /// Rules that are not published.
    pub rules: Option<String>,
    /// Detections that are not published.
    pub detections: Option<String>,
}

/// An access that is judged otherwise.
#[derive(Debug, Clone, Serialize, Deserialize, ToSchema)]
pub struct DifferenceView {
    /// Identifier of the session or access.
    pub id: String,
    /// What differs, in a sentence.
    pub sentence: String,
    /// Whether it is a session of Aerie's own.
    pub through: bool,
    /// Machine.
    pub machine: String,
    /// Person, where known.
    pub person: Option<String>,
    /// When it began.
    #[schema(value_type = String, format = DateTime)]
    pub began: Timestamp,
    /// What the rules of its moment find: words of kinds.
    pub before: Vec<String>,
    /// What the other rules find.
    pub after: Vec<String>,
}

/// A finding that other detections would raise, or no longer.
#[derive(Debug, Clone, Serialize, Deserialize, ToSchema)]
pub struct DetectionDifference {
    /// `more` or `fewer`.
    pub way: String,
    /// Name of the detection.
    pub kind: String,
    /// How much it matters.
    pub importance: String,
    /// What happened, in a sentence.
    pub sentence: String,
}

/// The past, judged again. Nothing of what was found is changed.
#[derive(Debug, Clone, Serialize, Deserialize, ToSchema)]
pub struct AgainView {
    /// How things stand, in a sentence.
    pub sentence: String,
    /// Accesses that were judged.
    pub judged: u64,
    /// Those of them that break more rules than at their moment.
    pub stricter: u64,
    /// Those that break fewer.
    pub milder: u64,
    /// What differs; at most 1,000.
    pub differences: Vec<DifferenceView>,
    /// What other detections make of accesses and sessions; those that look at lines of logs are not among them.
    pub detections: Vec<DetectionDifference>,
}

/// A report that is mailed now and then.
#[derive(Debug, Clone, Serialize, Deserialize, ToSchema)]
pub struct NewReport {
    /// `day`, `week` or `month`.
    pub every: String,
    /// Full hour, 0 to 23, in the zone of the rules.
    pub hour: i8,
    /// `person`, `machine`, `source`, `account`, `rule` or `system`.
    pub by: String,
    /// Names of the people; each must be allowed to read everything.
    pub to: Vec<String>,
}

/// A report that is mailed now and then, as it stands.
#[derive(Debug, Clone, Serialize, Deserialize, ToSchema)]
pub struct ReportView {
    /// Identifier.
    pub id: String,
    /// What and when, in a sentence.
    pub sentence: String,
    /// `day`, `week` or `month`.
    pub every: String,
    /// Full hour.
    pub hour: i8,
    /// What is counted.
    pub by: String,
    /// Names of the people.
    pub to: Vec<String>,
    /// The people as they are called.
    pub shown: Vec<String>,
    /// Who made it.
    pub made_by: String,
    /// When it is mailed next.
    #[schema(value_type = String, format = DateTime)]
    pub next: Timestamp,
    /// When it was mailed last.
    #[schema(value_type = Option<String>, format = DateTime)]
    pub last: Option<Timestamp>,
}

/// Which report.
#[derive(Debug, Clone, Default, Serialize, Deserialize, IntoParams)]
#[into_params(parameter_in = Query)]
#[serde(default)]
pub struct ReportQuery {
    /// From when; the last whole week where it is not said.
    #[param(value_type = Option<String>, format = DateTime)]
    pub from: Option<Timestamp>,
    /// Until when, not included; now where it is not said.
    #[param(value_type = Option<String>, format = DateTime)]
    pub until: Option<Timestamp>,
    /// What is counted; `person` where it is not said.
    pub by: Option<String>,
}

/// A report as it would be mailed.
#[derive(Debug, Clone, Serialize, Deserialize, ToSchema)]
pub struct ReportText {
    /// Subject.
    pub subject: String,
    /// Plain text.
    pub text: String,
}
