use aerie_core::session::EndReason;
use aerie_core::wording;
use jiff::{SignedDuration, Timestamp};
use serde::{Deserialize, Serialize};
use utoipa::ToSchema;

/// A session.
#[derive(Debug, Clone, Serialize, Deserialize, ToSchema)]
pub struct SessionView {
    /// Identifier.
    pub id: String,
    /// What it is or was, in a sentence.
    pub sentence: String,
    /// Name of the person.
    pub person: String,
    /// Name as people write it.
    pub person_name: String,
    /// Name of the machine.
    pub machine: String,
    /// Account on it.
    pub account: String,
    /// Address the person came from.
    pub source: String,
    /// When it began.
    #[schema(value_type = String, format = DateTime)]
    pub began: Timestamp,
    /// When it ended; absent while it is live.
    #[schema(value_type = Option<String>, format = DateTime)]
    pub ended: Option<Timestamp>,
    /// Why it ended, as the rest of a sentence.
    pub end_reason: Option<String>,
    /// When it ends at the latest, while it is live.
    #[schema(value_type = Option<String>, format = DateTime)]
    pub ends_by: Option<Timestamp>,
    /// When it ends unless something is typed before, while it is live and the rules limit pauses.
    #[schema(value_type = Option<String>, format = DateTime)]
    pub idle_until: Option<Timestamp>,
    /// Seconds it lasted, or lasts so far.
    pub seconds: i64,
    /// Capabilities used.
    pub uses: Vec<String>,
    /// Factors proved.
    pub factors: Vec<String>,
    /// The rule that gave it.
    pub rule: String,
    /// Its line.
    pub rule_line: i64,
    /// Version of the rules.
    pub policy_version: i64,
    /// Whether it is recorded.
    pub recorded: bool,
    /// Digest of the recording, once it is closed.
    pub digest: Option<String>,
    /// Length of the recording.
    pub length_ms: i64,
    /// Bytes that the machine sent.
    pub bytes_out: u64,
    /// Bytes that the person sent.
    pub bytes_in: u64,
    /// Findings of this session.
    pub findings: u64,
}

impl SessionView {
    /// The sentence for a session: who had what where, for how long.
    pub fn tell(person: &str, machine: &str, uses: &[&str], seconds: i64, end: Option<EndReason>) -> String {
        let long = wording::duration(SignedDuration::from_secs(seconds));
        let live = end.is_none();
        let what = if uses.contains(&"shell") {
            if live { "has a shell on" } else { "had a shell on" }
        } else if uses.contains(&"exec") {
            if live { "runs commands on" } else { "ran commands on" }
        } else if uses.contains(&"upload") || uses.contains(&"download") {
            if live { "copies files with" } else { "copied files with" }
        } else if uses.contains(&"forward") {
            if live { "forwards ports through" } else { "forwarded ports through" }
        } else if live {
            "is connected to"
        } else {
            "was connected to"
        };
        if live { format!("{person} {what} {machine}, for {long} so far.") } else { format!("{person} {what} {machine} for {long}.") }
    }
}
