//! How an agent stands, in words for whoever looks after its machine.

use jiff::Timestamp;
use serde::{Deserialize, Serialize};

/// How it stands with the service.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
#[serde(rename_all = "snake_case", tag = "state")]
pub enum Link {
    /// Connected since.
    Connected {
        /// When.
        since: Timestamp,
    },
    /// Not connected, and why.
    Trying {
        /// What went wrong the last time.
        why: String,
        /// When it tries again.
        next: Timestamp,
    },
    /// It gave up: trying again would not help.
    Stopped {
        /// Why.
        why: String,
    },
}

/// How an agent stands.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
pub struct Status {
    /// Machine that it serves.
    pub machine: String,
    /// Its site.
    pub site: String,
    /// Host and port of the service.
    pub server: String,
    /// What the computer calls itself.
    pub host: String,
    /// With the service.
    pub link: Link,
    /// How far the service's clock is ahead of this computer's, in seconds.
    pub clock_behind_s: i64,
    /// What it connects to.
    pub allow: Vec<String>,
    /// Connections that were asked for and are not on the list, since it runs.
    pub turned_away: u64,
    /// When it said so.
    pub at: Timestamp,
}

impl Status {
    /// How it stands, in sentences; `runs` where the agent is running.
    pub fn sentence(&self, runs: bool) -> String {
        let place = if self.site.is_empty() { String::new() } else { format!(" at {}", self.site) };
        let mut text = format!("This computer ({}) is the machine {}{place} for {}.", self.host, self.machine, self.server);
        text += &match (&self.link, runs) {
            (Link::Stopped { why }, _) => format!("\nThe agent gave up: {why}"),
            (_, false) => {
                format!("\nThe agent does not run: start it with `{} run`, or `systemctl start aerie-agent`.", crate::called())
            }
            (Link::Connected { since }, true) => format!("\nConnected since {since}."),
            (Link::Trying { why, next }, true) => format!("\nNot connected: {why}\nNext try at {next}."),
        };
        if self.clock_behind_s.abs() > 10 {
            let side = if self.clock_behind_s > 0 { "behind" } else { "ahead" };
            text += &format!(
                "\nThis computer's clock is {} s {side}: certificates may be refused; let it set its clock over the network.",
                self.clock_behind_s.abs()
            );
        }
        if self.turned_away > 0 {
            text += &format!(
                "\nThe service asked for {} that the list of this agent does not allow.",
                aerie_core::wording::count(self.turned_away, "connection")
            );
        }
        text + &format!("\nIt connects to: {}", self.allow.join(", "))
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn it_says_which_machine_this_is_and_what_is_wrong() {
        let at = Timestamp::UNIX_EPOCH;
        let mut s = Status {
            machine: "dome-east".into(),
            site: "ridge".into(),
            server: "aerie.example:7443".into(),
            host: "pc-17".into(),
            link: Link::Connected { since: at },
            clock_behind_s: 0,
            allow: vec!["127.0.0.1:22".into()],
            turned_away: 0,
            at,
        };
        assert_eq!(
            s.sentence(true),
            "This computer (pc-17) is the machine dome-east at ridge for aerie.example:7443.\nConnected since 1970-01-01T00:00:00Z.\nIt connects to: 127.0.0.1:22"
        );
        assert!(s.sentence(false).contains("does not run"));
        s.link = Link::Trying { why: "nobody answers at aerie.example:7443.".into(), next: at };
        (s.clock_behind_s, s.turned_away) = (3600, 2);
        let text = s.sentence(true);
        assert!(
            text.contains("Not connected: nobody answers") && text.contains("3600 s behind") && text.contains("2 connections"),
            "{text}"
        );
        s.link = Link::Stopped { why: "it was revoked.".into() };
        assert!(s.sentence(true).contains("gave up: it was revoked.") && s.sentence(false).contains("gave up"));
    }
}
