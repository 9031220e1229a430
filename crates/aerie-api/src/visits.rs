//! Visits: help for a person who was read a PIN, or asked for it.

use jiff::Timestamp;
use serde::{Deserialize, Serialize};
use utoipa::{IntoParams, ToSchema};

/// A visit that is to be made.
#[derive(Debug, Clone, Default, Serialize, Deserialize, ToSchema)]
pub struct NewVisit {
    /// Queue; may be left out where there is one alone that the caller helps in.
    #[serde(default)]
    pub queue: String,
    /// Name of the person who is helped.
    #[serde(default)]
    pub person: String,
    /// Their mail address.
    #[serde(default)]
    pub mail: String,
    /// What it is about.
    #[serde(default)]
    pub reason: String,
    /// Ticket.
    #[serde(default)]
    pub ticket: String,
    /// Whether the link is mailed to them. The PIN never is: it is read out.
    #[serde(default)]
    pub send_link: bool,
}

/// A visit that was made: its PIN is shown once.
#[derive(Debug, Clone, Serialize, Deserialize, ToSchema)]
pub struct IssuedVisit {
    /// The PIN, to be read out.
    pub pin: String,
    /// The page on which it is entered.
    pub link: String,
    /// The visit.
    pub visit: VisitView,
}

/// A queue.
#[derive(Debug, Clone, Serialize, Deserialize, ToSchema)]
pub struct QueueView {
    /// Name.
    pub name: String,
    /// For what.
    pub note: String,
    /// Visits that wait in it.
    pub waiting: u32,
    /// Who helps in it, as the rules have it.
    pub helpers: Vec<String>,
    /// The standing page on which people ask for help.
    pub link: String,
}

/// Something that was said, noted or done.
#[derive(Debug, Clone, Serialize, Deserialize, ToSchema)]
pub struct RemarkView {
    /// When.
    #[schema(value_type = String, format = DateTime)]
    pub at: Timestamp,
    /// `chat`, `note`, `consent` or `step`.
    pub kind: String,
    /// By whom; empty for the person who is helped.
    pub who: String,
    /// What.
    pub text: String,
}

/// A picture that was kept.
#[derive(Debug, Clone, Serialize, Deserialize, ToSchema)]
pub struct VisitPictureView {
    /// Identifier.
    pub id: String,
    /// When.
    #[schema(value_type = String, format = DateTime)]
    pub at: Timestamp,
    /// By whom.
    pub by: String,
    /// Bytes.
    pub bytes: u64,
    /// SHA-256, hexadecimal.
    pub sha256: String,
}

/// A file that was given in a visit.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize, ToSchema)]
pub struct VisitFileView {
    /// Identifier.
    pub id: String,
    /// Its name.
    pub name: String,
    /// Bytes.
    pub bytes: u64,
    /// SHA-256, hexadecimal.
    pub sha256: String,
    /// `to-person` or `from-person`.
    pub way: String,
    /// `offered`, `taken`, `refused` or `lost`: nobody took it before the visit was over.
    pub state: String,
    /// When it was given.
    #[schema(value_type = String, format = DateTime)]
    pub at: Timestamp,
    /// When it was taken, refused or lost.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    #[schema(value_type = Option<String>, format = DateTime)]
    pub settled: Option<Timestamp>,
}

/// A shell that began in a visit.
#[derive(Debug, Clone, Serialize, Deserialize, ToSchema)]
pub struct VisitShell {
    /// Its session: watched and typed into as every live one.
    pub session: String,
}

/// What a file is called.
#[derive(Debug, Clone, Serialize, Deserialize, IntoParams)]
pub struct FileName {
    /// Its name; folders in it are left out.
    pub name: String,
}

/// A visit.
#[derive(Debug, Clone, Serialize, Deserialize, ToSchema)]
pub struct VisitView {
    /// Identifier.
    pub id: String,
    /// How things stand, in a sentence.
    pub sentence: String,
    /// `waiting`, `active`, `ended` or `expired`.
    pub state: String,
    /// Queue.
    pub queue: String,
    /// Name of the person who is helped.
    pub person: String,
    /// Their mail address.
    pub mail: String,
    /// What it is about.
    pub reason: String,
    /// Ticket.
    pub ticket: String,
    /// Who made it; empty where the person asked themselves.
    pub by: String,
    /// Who helps.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub technician: Option<String>,
    /// Everybody who helped.
    pub helpers: Vec<String>,
    /// When it was made.
    #[schema(value_type = String, format = DateTime)]
    pub made: Timestamp,
    /// When the person came.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    #[schema(value_type = Option<String>, format = DateTime)]
    pub arrived: Option<Timestamp>,
    /// When they were connected first.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    #[schema(value_type = Option<String>, format = DateTime)]
    pub began: Option<Timestamp>,
    /// When it ended.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    #[schema(value_type = Option<String>, format = DateTime)]
    pub ended: Option<Timestamp>,
    /// When it was closed.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    #[schema(value_type = Option<String>, format = DateTime)]
    pub closed: Option<Timestamp>,
    /// How it went: `solved`, `unsolved`, `no-show`, `refused` or `not-said`.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub outcome: Option<String>,
    /// What is to be said of it.
    pub notes: String,
    /// What the person agreed to, as words of capabilities; absent while they did not answer.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub agreed: Option<Vec<String>>,
    /// Whether the person has the page open now.
    pub here: bool,
    /// Whether they share their screen now.
    pub shares: bool,
    /// Whether the program for a visit runs there now.
    #[serde(default)]
    pub program: bool,
    /// The session of whoever helps that works in a shell there now.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub shell: Option<String>,
    /// What their computer is, as their browser tells: `system`, `browser`, `screen`, `address`.
    pub device: std::collections::BTreeMap<String, String>,
    /// Sessions that belong to it.
    pub sessions: Vec<String>,
    /// What was said, noted and done.
    pub remarks: Vec<RemarkView>,
    /// Pictures.
    pub pictures: Vec<VisitPictureView>,
    /// Files that were given, each way.
    #[serde(default)]
    pub files: Vec<VisitFileView>,
}

/// Which visits.
#[derive(Debug, Clone, Default, Serialize, Deserialize, IntoParams)]
pub struct VisitQuery {
    /// Those that are not closed alone.
    #[serde(default)]
    pub open: bool,
}

/// Where a visit goes.
#[derive(Debug, Clone, Serialize, Deserialize, ToSchema)]
pub struct Reassign {
    /// Queue.
    pub queue: String,
}

/// A note on a visit.
#[derive(Debug, Clone, Serialize, Deserialize, ToSchema)]
pub struct VisitNote {
    /// What.
    pub text: String,
}

/// How a visit is closed.
#[derive(Debug, Clone, Serialize, Deserialize, ToSchema)]
pub struct CloseVisit {
    /// `solved`, `unsolved`, `no-show` or `refused`.
    pub outcome: String,
    /// What is to be said of it.
    #[serde(default)]
    pub notes: String,
}

/// What somebody says who asks for help.
#[derive(Debug, Clone, Serialize, Deserialize, ToSchema)]
pub struct HelpAsked {
    /// Their name.
    pub person: String,
    /// Their mail address.
    #[serde(default)]
    pub mail: String,
    /// What it is about.
    pub reason: String,
}

/// The way into one's own visit, for whoever is helped.
#[derive(Debug, Clone, Serialize, Deserialize, ToSchema)]
pub struct VisitPass {
    /// The visit.
    pub visit: String,
    /// Proves that it is theirs: the first thing to say on the WebSocket.
    pub token: String,
}

/// What whoever is helped says.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize, ToSchema)]
#[serde(rename_all = "kebab-case")]
pub enum FromVisited {
    /// First of all: the token, and what their computer is.
    Begin {
        /// The token.
        token: String,
        /// Operating system.
        #[serde(default)]
        system: String,
        /// Browser.
        #[serde(default)]
        browser: String,
        /// Width and height of the screen.
        #[serde(default)]
        screen: String,
    },
    /// What they agree to.
    Answer {
        /// Number of the question that they saw: a yes to another one counts for nothing.
        #[serde(default)]
        question: u64,
        /// Words of capabilities; none is a no.
        allow: Vec<String>,
    },
    /// Whether whoever helps may do this as well: their answer, or that they take it back.
    Consent {
        /// Number of the question that they saw, as `wants_question` gave it: a yes to another one counts for nothing.
        #[serde(default)]
        question: u64,
        /// Word of the capability.
        capability: String,
        /// Whether they allow it.
        allow: bool,
    },
    /// They want the line that starts the program for a visit.
    Program,
    /// They do not want the file of this identifier.
    RefuseFile(String),
    /// Their screen comes as film from here on.
    Film {
        /// Codec, in the words of the WebCodecs registry.
        codec: String,
        /// Width.
        width: u16,
        /// Height.
        height: u16,
    },
    /// They share it no longer.
    Stop,
    /// They say something.
    Say(String),
    /// They end the visit.
    Leave,
}

/// How it stands with the program for a visit.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Serialize, Deserialize, ToSchema)]
#[serde(rename_all = "kebab-case")]
pub enum ProgramState {
    /// The service has none to hand out.
    None,
    /// It can be started.
    Offered,
    /// It runs.
    Runs,
}

/// What the service says to whoever is helped.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize, ToSchema)]
#[serde(rename_all = "kebab-case", tag = "kind")]
#[expect(clippy::large_enum_variant, reason = "it is made once a change, and sent at once")]
pub enum ToVisited {
    /// How things stand.
    Standing {
        /// `waiting`, `active`, `ended` or `expired`.
        state: String,
        /// Who helps, as people write it; empty while nobody does.
        helper: String,
        /// Their organisation.
        organisation: String,
        /// What it is about.
        reason: String,
        /// What is asked for, as words of capabilities.
        asks: Vec<String>,
        /// What they agreed to; absent while they did not answer.
        #[serde(default, skip_serializing_if = "Option::is_none")]
        agreed: Option<Vec<String>>,
        /// Whether what is seen is recorded.
        recorded: bool,
        /// Whether whoever helps looks now.
        watched: bool,
        /// Whether the program for a visit can be started on computers with Linux, and whether it runs.
        program: ProgramState,
        /// Number of the question whose answer `agreed` is, or that is asked now.
        #[serde(default)]
        question: u64,
        /// Number of the question of `wants`.
        #[serde(default)]
        wants_question: u64,
        /// What whoever helps asks for besides, as the word of a capability.
        #[serde(default, skip_serializing_if = "Option::is_none")]
        wants: Option<String>,
        /// What whoever helps may do now besides looking, as words of capabilities.
        uses: Vec<String>,
        /// Files that wait to be taken, and those that they gave.
        files: Vec<VisitFileView>,
        /// Whether whoever helps may take files.
        takes_files: bool,
        /// How many wait before them.
        before: u32,
        /// Since when they wait.
        #[serde(default, skip_serializing_if = "Option::is_none")]
        #[schema(value_type = Option<String>, format = DateTime)]
        since: Option<Timestamp>,
    },
    /// Somebody said something.
    Said {
        /// Who.
        who: String,
        /// What.
        text: String,
    },
    /// Whoever helps points at something: points of a line on the screen; none wipes what they drew.
    Line {
        /// Points.
        points: Vec<(u16, u16)>,
    },
    /// A whole picture is wanted.
    Key,
    /// The line to be typed in a terminal, which starts the program for a visit; good for ten minutes, once.
    Program {
        /// The line.
        line: String,
    },
    /// It is over.
    Over {
        /// A sentence.
        text: String,
    },
}
