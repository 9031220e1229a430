use super::selector::MACHINE_KEYS;
use crate::policy::{Posture, Postures};
use crate::tunnel::Target;
use serde::{Deserialize, Serialize};
use std::collections::BTreeSet;

/// How the service gets to a machine.
#[derive(Debug, Clone, Copy, Default, PartialEq, Eq, Hash, Serialize, Deserialize)]
#[serde(rename_all = "lowercase")]
pub enum Via {
    /// By itself, over the network.
    #[default]
    Direct,
    /// Through the agent that runs on it.
    Agent,
    /// Through an agent of its site that may reach it.
    Relay,
}

impl Via {
    /// Its word.
    pub fn word(self) -> &'static str {
        match self {
            Self::Direct => "direct",
            Self::Agent => "agent",
            Self::Relay => "relay",
        }
    }

    fn is_direct(&self) -> bool {
        *self == Self::Direct
    }
}

/// What is spoken at the end of a way that is not SSH.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Hash, PartialOrd, Ord, Serialize, Deserialize)]
#[serde(rename_all = "lowercase")]
pub enum WayKind {
    /// A desktop (RFB).
    Desktop,
    /// A web page.
    Web,
    /// Any other service over TCP.
    Tcp,
}

impl WayKind {
    /// Its word.
    pub fn word(self) -> &'static str {
        match self {
            Self::Desktop => "desktop",
            Self::Web => "web",
            Self::Tcp => "tcp",
        }
    }
}

/// A way into a machine besides SSH.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
#[serde(deny_unknown_fields)]
pub struct Way {
    /// Name, as people call it: `postgres`.
    pub name: String,
    /// What is spoken.
    pub kind: WayKind,
    /// `host:port` as it is seen from where the connection is made: from the machine itself where it has an agent.
    pub address: String,
}

/// A machine that can be reached.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
pub struct Machine {
    /// Name: `[a-z0-9][a-z0-9.-]*`, at most 64 characters.
    pub name: String,
    /// Where its SSH server listens: `host:port`.
    #[serde(default)]
    pub address: String,
    /// How the service gets there.
    #[serde(default, skip_serializing_if = "Via::is_direct")]
    pub via: Via,
    /// Ways in besides SSH.
    #[serde(default, skip_serializing_if = "Vec::is_empty")]
    pub ways: Vec<Way>,
    /// Site it stands at.
    #[serde(default)]
    pub site: String,
    /// Who looks after it.
    #[serde(default)]
    pub owner: String,
    /// Labels: `dome`, or with a value `tier=1`.
    #[serde(default)]
    pub labels: BTreeSet<String>,
    /// Groups it was put into by hand.
    #[serde(default, skip_serializing_if = "BTreeSet::is_empty")]
    pub groups: BTreeSet<String>,
    /// What is known of its good order.
    #[serde(default, skip_serializing_if = "BTreeSet::is_empty")]
    pub posture: BTreeSet<Posture>,
    /// Accounts on it that may be used.
    #[serde(default)]
    pub accounts: Vec<String>,
    /// Pinned host key, one line of OpenSSH's public key format; none means that nobody can reach it through Aerie.
    #[serde(default)]
    pub host_key: Option<String>,
    /// What it is for.
    #[serde(default)]
    pub note: String,
}

/// Whether a machine can be reached at all.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Serialize, Deserialize)]
#[serde(rename_all = "kebab-case")]
pub enum MachineState {
    /// It has an address and a pinned host key.
    Ready,
    /// Something that must hold is missing.
    Incomplete,
}

impl Machine {
    /// What is known of its good order, as a set.
    pub fn postures(&self) -> Postures {
        Postures::of(self.posture.iter().copied())
    }

    /// The address without the port.
    pub fn host(&self) -> &str {
        let host = self.address.rsplit_once(':').map_or(self.address.as_str(), |(host, _)| host);
        host.trim_start_matches('[').trim_end_matches(']')
    }

    /// Where its SSH server listens, as it is seen from where the connection is made; none where nobody knows.
    pub fn ssh_target(&self) -> Option<Target> {
        match (self.address.as_str(), self.via) {
            ("", Via::Agent) => "127.0.0.1:22".parse().ok(),
            (address, _) => address.parse().ok(),
        }
    }

    /// The way of that name.
    pub fn way(&self, name: &str) -> Option<&Way> {
        self.ways.iter().find(|w| w.name == name)
    }

    /// What selectors see: key and value of each property. Groups are added by the directory.
    pub(super) fn properties(&self) -> Vec<(&str, String)> {
        let mut all = vec![("name", self.name.clone())];
        let known = [("site", self.site.as_str()), ("owner", self.owner.as_str()), ("address", self.host())];
        all.extend(known.into_iter().filter(|(_, v)| !v.is_empty()).map(|(k, v)| (k, v.to_string())));
        all.extend(self.posture.iter().map(|p| ("posture", p.word().to_string())));
        for label in &self.labels {
            all.push(("label", label.clone()));
            if let Some((key, value)) = label.split_once('=') {
                all.push(("label", key.to_string()));
                if !MACHINE_KEYS.contains(&key) {
                    all.push((key, value.to_string()));
                }
            }
        }
        all
    }

    /// Whether it can be reached at all.
    pub fn state(&self) -> MachineState {
        if self.ssh_target().is_none() || self.host_key.is_none() { MachineState::Incomplete } else { MachineState::Ready }
    }
}
