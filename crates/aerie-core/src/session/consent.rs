//! What service and agent say to each other about the consent of the person at the machine: one JSON value a line, on a stream of the
//! tunnel that lives as long as what was asked for.

use crate::inventory::LoggedIn;
use crate::policy::{Capability, Consent};
use jiff::{SignedDuration, Timestamp};
use serde::{Deserialize, Serialize};

/// What the service asks the agent to connect to when it wants to ask the person at the machine.
pub const TARGET: &str = "person-at-the-machine";
/// Longest line, in bytes.
pub const MAX_LINE: usize = 16 << 10;

/// Who asks whom for what.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
pub struct Question {
    /// Identifier of the attempt, and later of the session.
    pub id: String,
    /// Whom the person is asked by: a name for people.
    pub who: String,
    /// Their login name.
    pub person: String,
    /// Their organisation; empty where it is not known.
    pub organisation: String,
    /// The machine.
    pub machine: String,
    /// The account that is used there.
    pub account: String,
    /// What they would do.
    pub capability: Capability,
    /// Why, in their words; empty where nobody asked.
    pub reason: String,
    /// How long it may last, in seconds; none where nothing limits it.
    pub at_most_s: Option<u64>,
    /// Whether it is recorded.
    pub recorded: bool,
    /// How the person is asked.
    pub mode: Consent,
    /// No answer is a no from then on.
    pub until: Timestamp,
}

/// What the service says.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
#[serde(rename_all = "kebab-case")]
pub enum ToMachine {
    /// First.
    Question(Question),
    /// It has begun: the sign is to be shown.
    Began(Timestamp),
    /// The answer came too late, or the use is over: nothing is to be shown any more.
    Over(String),
}

/// What the agent says.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
#[serde(rename_all = "kebab-case")]
pub enum FromMachine {
    /// Somebody was told; nobody was asked.
    Told(Witness),
    /// Nobody is there, and this is why that is believed.
    Nobody(String),
    /// Somebody agreed.
    Agreed(Witness),
    /// Somebody did not agree, or no longer does.
    Refused(Witness),
    /// Somebody switched this off for the time being (true) or on again (false).
    SwitchedOff(bool, Witness),
}

/// Who answered, and where.
#[derive(Debug, Clone, Default, PartialEq, Eq, Serialize, Deserialize)]
pub struct Witness {
    /// Account on the machine; empty where nobody in particular was reached.
    pub account: String,
    /// Terminal or seat, and how: `pts/3`, `page`, `program /etc/…`.
    pub console: String,
}

impl std::fmt::Display for Witness {
    fn fmt(&self, f: &mut std::fmt::Formatter<'_>) -> std::fmt::Result {
        match (self.account.as_str(), self.console.as_str()) {
            ("", "") => f.write_str("somebody at the machine"),
            ("", console) => write!(f, "somebody at {console}"),
            (account, "") => f.write_str(account),
            (account, console) => write!(f, "{account} at {console}"),
        }
    }
}

impl FromMachine {
    /// The strength of consent that it is worth for a question asked in this mode; none for a no.
    pub fn worth(&self, mode: Consent) -> Option<Consent> {
        match (self, mode) {
            (Self::Agreed(_), _) => Some(Consent::Ask),
            (Self::Nobody(_), Consent::IfPresent | Consent::Notice) => Some(mode),
            (Self::Told(_), Consent::Notice) => Some(Consent::Notice),
            (Self::SwitchedOff(false, _), _) => Some(mode),
            (Self::Told(_) | Self::Nobody(_) | Self::Refused(_) | Self::SwitchedOff(true, _), _) => None,
        }
    }
}

/// What is known of one who is logged in at a machine.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Presence {
    /// The login.
    pub login: LoggedIn,
    /// How long nothing was typed there; none where that is not known.
    pub idle: Option<SignedDuration>,
}

/// Why nobody is held to be there; none where somebody is. Logins from elsewhere are of people who are not at the machine, but may be
/// asked: they count.
pub fn nobody_there(logins: &[Presence], most_idle: SignedDuration) -> Option<String> {
    if logins.is_empty() {
        return Some("nobody is logged in".into());
    }
    // One whose idle time is not known may be there.
    let shortest = logins.iter().map(|p| p.idle).min_by_key(|i| i.unwrap_or(SignedDuration::ZERO))??;
    (shortest > most_idle)
        .then(|| format!("nothing was typed for {}", crate::wording::duration(SignedDuration::from_secs(shortest.as_secs()))))
}

/// One line of the stream.
pub fn line<T: Serialize>(value: &T) -> Vec<u8> {
    let mut line = serde_json::to_vec(value).unwrap_or_default();
    line.push(b'\n');
    line
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn a_no_is_worth_nothing_and_nobody_counts_only_where_the_rules_say_so() {
        let w = Witness::default();
        let table = [
            (FromMachine::Agreed(w.clone()), [Some(Consent::Ask); 3]),
            (FromMachine::Refused(w.clone()), [None; 3]),
            (FromMachine::Nobody("x".into()), [Some(Consent::Notice), Some(Consent::IfPresent), None]),
            (FromMachine::Told(w.clone()), [Some(Consent::Notice), None, None]),
            (FromMachine::SwitchedOff(true, w), [None; 3]),
        ];
        for (said, worth) in table {
            assert_eq!([Consent::Notice, Consent::IfPresent, Consent::Ask].map(|m| said.worth(m)), worth, "{said:?}");
            assert_eq!(serde_json::from_slice::<FromMachine>(&line(&said)).unwrap(), said);
        }
    }

    #[test]
    fn nobody_there_is_decided_from_facts() {
        let at = |idle: Option<i64>| Presence {
            login: LoggedIn { account: "ines".into(), terminal: "tty1".into(), from: String::new(), since: None },
            idle: idle.map(SignedDuration::from_secs),
        };
        let ten = SignedDuration::from_mins(10);
        assert_eq!(nobody_there(&[], ten).as_deref(), Some("nobody is logged in"));
        assert_eq!(nobody_there(&[at(Some(1200)), at(Some(601))], ten).as_deref(), Some("nothing was typed for 10 min"));
        assert_eq!(nobody_there(&[at(Some(1200)), at(Some(600))], ten), None);
        assert_eq!(nobody_there(&[at(Some(1200)), at(None)], ten), None);
    }
}
