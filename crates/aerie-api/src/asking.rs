use jiff::Timestamp;
use serde::{Deserialize, Serialize};
use utoipa::{IntoParams, ToSchema};

/// Access that is asked for.
#[derive(Debug, Clone, Default, Serialize, Deserialize, ToSchema)]
pub struct NewRequest {
    /// Machines, or `group:NAME` for those of a group: 1 to 50.
    pub machines: Vec<String>,
    /// Words of the capabilities.
    pub capabilities: Vec<String>,
    /// Where ports lead that are to be forwarded, as `HOST:PORT`; to any that the rules allow where it is missing.
    #[serde(default)]
    pub target: Option<String>,
    /// From when; at once where it is missing.
    #[serde(default)]
    #[schema(value_type = Option<String>, format = DateTime)]
    pub from: Option<Timestamp>,
    /// Until when.
    #[schema(value_type = String, format = DateTime)]
    pub until: Timestamp,
    /// Why.
    pub reason: String,
    /// Ticket.
    #[serde(default)]
    pub ticket: Option<String>,
}

/// An approver's answer. What is changed only ever becomes less.
#[derive(Debug, Clone, Default, Serialize, Deserialize, ToSchema)]
pub struct NewAnswer {
    /// Yes or no.
    pub yes: bool,
    /// Why; a no needs one.
    #[serde(default)]
    pub why: Option<String>,
    /// Until when, instead.
    #[serde(default)]
    #[schema(value_type = Option<String>, format = DateTime)]
    pub until: Option<Timestamp>,
    /// Words of the capabilities, instead.
    #[serde(default)]
    pub capabilities: Option<Vec<String>>,
    /// How long a session under it may last, in minutes.
    #[serde(default)]
    pub session_minutes: Option<u32>,
}

/// An answer that was given.
#[derive(Debug, Clone, Serialize, Deserialize, ToSchema)]
pub struct AnswerView {
    /// Who answered.
    pub by: String,
    /// In whose place; the same person where they are an approver themselves.
    pub instead_of: String,
    /// Yes or no.
    pub yes: bool,
    /// Why.
    pub why: String,
    /// When.
    #[schema(value_type = String, format = DateTime)]
    pub at: Timestamp,
}

/// A request and what has become of it.
#[derive(Debug, Clone, Serialize, Deserialize, ToSchema)]
pub struct RequestView {
    /// Identifier.
    pub id: String,
    /// What is asked for, in a sentence.
    pub sentence: String,
    /// Who asks.
    pub person: String,
    /// Their name as people write it.
    pub person_name: String,
    /// Machines.
    pub machines: Vec<String>,
    /// Words of the capabilities.
    pub capabilities: Vec<String>,
    /// Where ports lead that are forwarded; to any that the rules allow where it is missing.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub target: Option<String>,
    /// From when.
    #[schema(value_type = String, format = DateTime)]
    pub from: Timestamp,
    /// Until when.
    #[schema(value_type = String, format = DateTime)]
    pub until: Timestamp,
    /// Why.
    pub reason: String,
    /// Ticket; empty for none.
    pub ticket: String,
    /// When it was asked.
    #[schema(value_type = String, format = DateTime)]
    pub asked: Timestamp,
    /// No answer is a no from then on.
    #[schema(value_type = String, format = DateTime)]
    pub expires: Timestamp,
    /// Whether somebody sits at a terminal and waits for it.
    pub waiting: bool,
    /// `open`, `approved`, `refused`, `withdrawn` or `expired`.
    pub state: String,
    /// Those who may approve.
    pub approvers: Vec<String>,
    /// Answers so far.
    pub answers: Vec<AnswerView>,
    /// Whether the caller may answer it now.
    pub yours: bool,
}

/// Access that was approved.
#[derive(Debug, Clone, Serialize, Deserialize, ToSchema)]
pub struct PassView {
    /// Identifier; that of its request.
    pub id: String,
    /// In a sentence.
    pub sentence: String,
    /// Whose.
    pub person: String,
    /// Machines.
    pub machines: Vec<String>,
    /// Words of the capabilities.
    pub capabilities: Vec<String>,
    /// Where ports lead that are forwarded; to any that the rules allow where it is missing.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub target: Option<String>,
    /// From when.
    #[schema(value_type = String, format = DateTime)]
    pub from: Timestamp,
    /// Until when.
    #[schema(value_type = String, format = DateTime)]
    pub until: Timestamp,
    /// Who approved.
    pub approved_by: Vec<String>,
    /// How long a session may last, in minutes.
    pub session_minutes: Option<u32>,
    /// `good`, `later` or `withdrawn`.
    pub state: String,
}

/// Why something is done.
#[derive(Debug, Clone, Default, Serialize, Deserialize, ToSchema)]
pub struct WhyNote {
    /// Why, in a few words.
    pub why: String,
}

/// Who answers in somebody's place.
#[derive(Debug, Clone, Serialize, Deserialize, ToSchema)]
pub struct DeputyView {
    /// The approver; the caller where it is set.
    #[serde(default)]
    pub person: String,
    /// Whoever answers.
    pub deputy: String,
    /// Until when.
    #[schema(value_type = String, format = DateTime)]
    pub until: Timestamp,
}

/// Which sessions to end: exactly one of these.
#[derive(Debug, Clone, Default, Serialize, Deserialize, ToSchema)]
pub struct StopOrder {
    /// This one.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub session: Option<String>,
    /// Those of a person.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub person: Option<String>,
    /// Those on a machine.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub machine: Option<String>,
    /// Those that a rule allowed.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub rule: Option<String>,
    /// All.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub all: Option<bool>,
    /// Why: those concerned read it.
    pub why: String,
}

/// What was ended.
#[derive(Debug, Clone, Serialize, Deserialize, ToSchema)]
pub struct Stopped {
    /// How many sessions.
    pub ended: u64,
    /// In a sentence.
    pub sentence: String,
}

/// Whether the service is locked down.
#[derive(Debug, Clone, Serialize, Deserialize, ToSchema)]
pub struct LockdownView {
    /// Since when.
    #[schema(value_type = String, format = DateTime)]
    pub since: Timestamp,
    /// By whom.
    pub by: String,
    /// Why.
    pub why: String,
}

/// More time for a session.
#[derive(Debug, Clone, Serialize, Deserialize, ToSchema)]
pub struct Extension {
    /// Minutes on top of its limit, in all: 1 to 720.
    pub minutes: u32,
    /// Why.
    pub why: String,
}

/// Whom to invite into a session.
#[derive(Debug, Clone, Serialize, Deserialize, ToSchema)]
pub struct Invited {
    /// Who.
    pub person: String,
    /// Whether they may type.
    #[serde(default)]
    pub control: bool,
}

/// Who is to have the keyboard.
#[derive(Debug, Clone, Serialize, Deserialize, ToSchema)]
pub struct Keyboard {
    /// A guest who may type; none gives it back to the person whose session it is.
    #[serde(default)]
    pub to: Option<String>,
}

/// What a guest types.
#[derive(Debug, Clone, Serialize, Deserialize, ToSchema)]
pub struct Typed {
    /// The terminal.
    pub channel: u32,
    /// Text, at most 4,096 bytes.
    pub text: String,
}

/// The size of a window in which somebody works.
#[derive(Debug, Clone, Serialize, Deserialize, ToSchema)]
pub struct TerminalSize {
    /// The terminal.
    pub channel: u32,
    /// Columns: from 2 to 500, what is beyond becomes that.
    pub columns: u16,
    /// Rows, the same.
    pub rows: u16,
}

/// Which sessions to watch.
#[derive(Debug, Clone, Default, Serialize, Deserialize, IntoParams)]
#[into_params(parameter_in = Query)]
pub struct LiveQuery {
    /// Identifiers, separated by commas: 1 to 16.
    pub sessions: String,
}

/// One line of what is watched.
#[derive(Debug, Clone, Default, Serialize, Deserialize, ToSchema)]
pub struct LiveLine {
    /// The session.
    pub session: String,
    /// `screen`, `output`, `size`, `closed`, `people`, `refused` or `ended`.
    pub kind: String,
    /// The terminal.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub channel: Option<u32>,
    /// Columns and rows.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub size: Option<(u16, u16)>,
    /// What is drawn or shown, in base64 (RFC 4648).
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub data: Option<String>,
    /// A sentence: why it is refused, or how it ended.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub sentence: Option<String>,
    /// Those who take part.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub people: Option<PeopleThere>,
}

/// Those who take part in a session.
#[derive(Debug, Clone, Default, PartialEq, Eq, Serialize, Deserialize, ToSchema)]
pub struct PeopleThere {
    /// Who was invited.
    pub guests: Vec<GuestView>,
    /// Who watches now.
    pub watchers: Vec<String>,
    /// Who types; absent for the person whose session it is.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub keyboard: Option<String>,
}

/// Somebody who was invited.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize, ToSchema)]
pub struct GuestView {
    /// Who.
    pub person: String,
    /// Whether they may type.
    pub control: bool,
    /// By whom.
    pub by: String,
}

/// A use that waits for somebody.
#[derive(Debug, Clone, Serialize, Deserialize, ToSchema)]
pub struct WaitView {
    /// Identifier of the attempt.
    pub id: String,
    /// In a sentence.
    pub sentence: String,
    /// Who waits.
    pub person: String,
    /// For which machine.
    pub machine: String,
    /// Since when.
    #[schema(value_type = String, format = DateTime)]
    pub since: Timestamp,
    /// Until when.
    #[schema(value_type = String, format = DateTime)]
    pub until: Timestamp,
    /// The request that is to be answered.
    pub request: Option<String>,
}

/// What the service has still to do.
#[derive(Debug, Clone, Default, Serialize, Deserialize, ToSchema)]
pub struct Backlog {
    /// Notices that are not delivered yet.
    pub notices: u64,
    /// Of them, those that failed at least once.
    pub notices_failing: u64,
    /// Recordings that are being written.
    pub recordings: u64,
    /// Agents that are connected.
    pub agents_online: u64,
    /// Agents that are not.
    pub agents_offline: u64,
    /// Of those connected, those that reach machines for others.
    pub relays_online: u64,
    /// Events that wait to be forwarded; none where nothing is.
    pub forwarding: Option<u64>,
    /// Why they are not forwarded; empty where they are.
    pub forwarding_failure: String,
}

/// A notice in the outbox.
#[derive(Debug, Clone, Serialize, Deserialize, ToSchema)]
pub struct NoticeView {
    /// Identifier.
    pub id: String,
    /// `mail` or `webhook`.
    pub channel: String,
    /// Mail address; empty for a webhook.
    pub recipient: String,
    /// Subject.
    pub subject: String,
    /// When it was made.
    #[schema(value_type = String, format = DateTime)]
    pub made: Timestamp,
    /// How often delivery was tried.
    pub tries: u32,
    /// Why the last try failed; empty where none did.
    pub failure: String,
    /// When it was delivered.
    #[schema(value_type = Option<String>, format = DateTime)]
    pub sent: Option<Timestamp>,
}
