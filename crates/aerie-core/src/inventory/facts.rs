use crate::diagnostic::printable;
use crate::policy::Posture;
use jiff::Timestamp;
use serde::{Deserialize, Serialize};
use std::collections::BTreeSet;

/// Longest text of a fact, in characters.
const MAX_TEXT: usize = 200;
/// Entries of a list.
const MOST: usize = 200;

/// What an agent says of its machine. An agent can lie: facts never decide who may do what, but for the posture, which says
/// so in the rules' documentation.
#[derive(Debug, Clone, Default, PartialEq, Eq, Serialize, Deserialize)]
#[serde(default)]
pub struct MachineFacts {
    /// Version of the agent.
    pub version: String,
    /// What the computer calls itself.
    pub host: String,
    /// Its addresses, those of loopback left out.
    pub addresses: Vec<String>,
    /// Operating system.
    pub system: System,
    /// What it is made of.
    pub hardware: Hardware,
    /// When it was started.
    pub booted: Option<Timestamp>,
    /// Who is logged in.
    pub users: Vec<LoggedIn>,
    /// TCP ports that something listens on.
    pub listening: Vec<Listening>,
    /// Its good order.
    pub order: Orderliness,
    /// Host keys of its SSH server, as lines of OpenSSH's public key format.
    pub host_keys: Vec<String>,
    /// What the agent connects to.
    pub allow: Vec<String>,
    /// User whom the agent runs as.
    pub runs_as: String,
    /// Whether it goes away with its terminal.
    pub temporary: bool,
    /// Its clock when it said so.
    pub clock: Option<Timestamp>,
    /// The log that it sends: `journal`, or the path of a file; empty where it sends none.
    #[serde(skip_serializing_if = "String::is_empty")]
    pub log: String,
}

/// Operating system.
#[derive(Debug, Clone, Default, PartialEq, Eq, Serialize, Deserialize)]
#[serde(default)]
pub struct System {
    /// `Debian GNU/Linux`.
    pub name: String,
    /// `12`.
    pub version: String,
    /// Version of the kernel.
    pub kernel: String,
}

/// What a computer is made of.
#[derive(Debug, Clone, Default, PartialEq, Eq, Serialize, Deserialize)]
#[serde(default)]
pub struct Hardware {
    /// Maker and model.
    pub model: String,
    /// Processor.
    pub processor: String,
    /// Its cores.
    pub cores: u32,
    /// Memory, in MiB.
    pub memory_mib: u64,
}

/// Somebody who is logged in at a machine.
#[derive(Debug, Clone, Default, PartialEq, Eq, Serialize, Deserialize)]
#[serde(default)]
pub struct LoggedIn {
    /// Account.
    pub account: String,
    /// Terminal or display.
    pub terminal: String,
    /// Where from; empty for its own keyboard.
    pub from: String,
    /// Since when.
    pub since: Option<Timestamp>,
}

/// A TCP port that something listens on.
#[derive(Debug, Clone, Default, PartialEq, Eq, Serialize, Deserialize)]
#[serde(default)]
pub struct Listening {
    /// Address: `0.0.0.0`, `127.0.0.1`, `::`.
    pub address: String,
    /// Port.
    pub port: u16,
}

impl Listening {
    /// Whether only the machine itself gets there.
    pub fn is_loopback(&self) -> bool {
        self.address.parse::<std::net::IpAddr>().is_ok_and(|a| a.to_canonical().is_loopback())
    }
}

/// What is known of a machine's good order; none where the agent cannot tell.
#[derive(Debug, Clone, Copy, Default, PartialEq, Eq, Serialize, Deserialize)]
#[serde(default)]
pub struct Orderliness {
    /// Its disks are encrypted.
    pub encrypted: Option<bool>,
    /// Its firewall is on.
    pub firewall: Option<bool>,
    /// Updates that are pending.
    pub updates: Option<u32>,
}

fn cut(text: &str) -> String {
    printable(text).chars().take(MAX_TEXT).collect()
}

impl MachineFacts {
    /// The same with every text and list within bounds, and nothing in it that a terminal or page could stumble over.
    #[must_use]
    pub fn bounded(self) -> Self {
        let texts = |list: Vec<String>| list.iter().take(MOST).map(|t| cut(t)).collect();
        let lines = |list: Vec<String>| list.into_iter().take(8).filter(|l| l.len() <= 1200 && printable(l) == *l).collect();
        Self {
            version: cut(&self.version),
            host: cut(&self.host),
            addresses: texts(self.addresses),
            system: System { name: cut(&self.system.name), version: cut(&self.system.version), kernel: cut(&self.system.kernel) },
            hardware: Hardware { model: cut(&self.hardware.model), processor: cut(&self.hardware.processor), ..self.hardware },
            booted: self.booted,
            users: self
                .users
                .iter()
                .take(MOST)
                .map(|u| LoggedIn { account: cut(&u.account), terminal: cut(&u.terminal), from: cut(&u.from), since: u.since })
                .collect(),
            listening: self.listening.iter().take(MOST).map(|l| Listening { address: cut(&l.address), port: l.port }).collect(),
            order: self.order,
            host_keys: lines(self.host_keys),
            allow: texts(self.allow),
            runs_as: cut(&self.runs_as),
            temporary: self.temporary,
            clock: self.clock,
            log: cut(&self.log),
        }
    }

    /// Its good order as rules speak of it. A machine with an agent that stays is managed.
    pub fn postures(&self) -> BTreeSet<Posture> {
        let holds = [
            (Posture::Managed, !self.temporary),
            (Posture::Encrypted, self.order.encrypted == Some(true)),
            (Posture::Firewall, self.order.firewall == Some(true)),
            (Posture::Updated, self.order.updates == Some(0)),
        ];
        holds.into_iter().filter(|(_, h)| *h).map(|(p, _)| p).collect()
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn facts_are_kept_within_bounds() {
        let facts = MachineFacts {
            host: format!("dome\u{1b}[2J{}", "x".repeat(1000)),
            addresses: vec!["10.0.0.1".into(); 1000],
            host_keys: vec!["ssh-ed25519 AAAA\nevil".into(), "ssh-ed25519 AAAA".into()],
            listening: vec![Listening::default(); 1000],
            ..MachineFacts::default()
        }
        .bounded();
        assert_eq!(facts.host.chars().count(), MAX_TEXT);
        assert!(!facts.host.contains('\u{1b}'));
        assert_eq!((facts.addresses.len(), facts.listening.len()), (MOST, MOST));
        assert_eq!(facts.host_keys, ["ssh-ed25519 AAAA"]);
    }

    #[test]
    fn only_what_is_known_to_hold_counts_as_good_order() {
        let mut facts = MachineFacts::default();
        assert_eq!(facts.postures(), BTreeSet::from([Posture::Managed]));
        facts.order = Orderliness { encrypted: Some(true), firewall: Some(false), updates: Some(3) };
        assert_eq!(facts.postures(), BTreeSet::from([Posture::Managed, Posture::Encrypted]));
        facts.order = Orderliness { encrypted: None, firewall: Some(true), updates: Some(0) };
        facts.temporary = true;
        assert_eq!(facts.postures(), BTreeSet::from([Posture::Firewall, Posture::Updated]));
    }
}
