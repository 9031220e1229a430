use crate::LogLineView;
use aerie_core::wording;
use jiff::{SignedDuration, Timestamp};
use serde::{Deserialize, Serialize};
use utoipa::{IntoParams, ToSchema};

/// Which accesses to list or to count.
#[derive(Debug, Clone, Default, Serialize, Deserialize, IntoParams)]
#[into_params(parameter_in = Query)]
#[serde(default)]
pub struct AccessQuery {
    /// Began no earlier than this.
    #[param(value_type = Option<String>, format = DateTime)]
    pub from: Option<Timestamp>,
    /// Began before this.
    #[param(value_type = Option<String>, format = DateTime)]
    pub until: Option<Timestamp>,
    /// Name of the person.
    pub person: Option<String>,
    /// Name of the machine.
    pub machine: Option<String>,
    /// `aerie` for those through Aerie, `around` for those that a machine's log alone shows.
    pub through: Option<String>,
    /// Text in person, machine, account or address.
    pub q: Option<String>,
    /// `next` of the page before.
    pub after: Option<String>,
    /// Rows, 1 to 500.
    pub limit: Option<u32>,
}

/// What totals are of.
#[derive(Debug, Clone, Default, Serialize, Deserialize, IntoParams)]
#[into_params(parameter_in = Query)]
#[serde(default)]
pub struct TotalQuery {
    /// `person`, `machine`, `source` or `account`; `person` where it is not said.
    pub by: Option<String>,
}

/// One access to a machine, whoever says so.
#[derive(Debug, Clone, Serialize, Deserialize, ToSchema)]
pub struct AccessView {
    /// Identifier: of the session, or of the access.
    pub id: String,
    /// Who had what where, in a sentence.
    pub sentence: String,
    /// `ssh`, `vnc`, `rdp`, `windows`, `login` or `other`.
    pub service: String,
    /// Machine.
    pub machine: String,
    /// Account on it.
    pub account: String,
    /// Name of the person, where session or key tell.
    pub person: Option<String>,
    /// Name as people write it.
    pub person_name: Option<String>,
    /// Address; empty where no log tells it.
    pub source: String,
    /// How they proved who they are, as far as it is known.
    pub method: String,
    /// Fingerprint of the key.
    pub key: Option<String>,
    /// Key id of the certificate, with its serial number, where one was used.
    pub certificate: Option<String>,
    /// Words of the capabilities that it was used for, as far as it is known.
    pub uses: Vec<String>,
    /// When it began.
    #[schema(value_type = String, format = DateTime)]
    pub began: Timestamp,
    /// When it ended; absent where no log says so, and while it goes on.
    #[schema(value_type = Option<String>, format = DateTime)]
    pub ended: Option<Timestamp>,
    /// Seconds it lasted, where its end is known.
    pub seconds: Option<i64>,
    /// The session of Aerie that it is.
    pub session: Option<String>,
    /// The lines of machines' logs that show it.
    pub lines: Vec<LogLineView>,
}

impl AccessView {
    /// The sentence for an access that no session explains.
    pub fn tell(who: Option<&str>, account: &str, machine: &str, source: &str, seconds: Option<i64>) -> String {
        let long = seconds.map(|s| format!(" for {}", wording::duration(SignedDuration::from_secs(s)))).unwrap_or_default();
        let from = if source.is_empty() { String::new() } else { format!(" from {source}") };
        format!("{} was on {machine} as {account}{from}{long}, around Aerie.", who.unwrap_or("Somebody"))
    }
}

/// Totals of one person, machine, address or account.
#[derive(Debug, Clone, Serialize, Deserialize, ToSchema)]
pub struct TotalView {
    /// Name; empty for those whose person is not known.
    pub name: String,
    /// Name as people write it.
    pub shown: String,
    /// Accesses.
    pub count: u64,
    /// Those of them that no session of Aerie explains.
    pub around: u64,
    /// Seconds together, as far as ends are known.
    pub seconds: u64,
    /// The longest, in seconds.
    pub longest: u64,
    /// First.
    #[schema(value_type = String, format = DateTime)]
    pub first: Timestamp,
    /// Last.
    #[schema(value_type = String, format = DateTime)]
    pub last: Timestamp,
}

/// Accesses that began within one span of time.
#[derive(Debug, Clone, Serialize, Deserialize, ToSchema)]
pub struct SpanCount {
    /// Its beginning.
    #[schema(value_type = String, format = DateTime)]
    pub begin: Timestamp,
    /// All.
    pub count: u64,
    /// Those of them that no session explains.
    pub around: u64,
}

/// Who got into which machine, counted.
#[derive(Debug, Clone, Serialize, Deserialize, ToSchema)]
pub struct AccessReport {
    /// The report in a sentence.
    pub sentence: String,
    /// Accesses.
    pub count: u64,
    /// Those of them that no session explains.
    pub around: u64,
    /// Totals, most accesses first; at most 500.
    pub totals: Vec<TotalView>,
    /// Over time, in spans of a day or, for less than three days, of an hour, in the zone of the rules' first instant.
    pub spans: Vec<SpanCount>,
    /// Zone in which times are to be told.
    pub zone: String,
}
