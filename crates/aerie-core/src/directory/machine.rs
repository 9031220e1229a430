use super::selector::MACHINE_KEYS;
use crate::policy::{Posture, Postures};
use serde::{Deserialize, Serialize};
use std::collections::BTreeSet;

/// A machine that can be reached.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
pub struct Machine {
    /// Name: `[a-z0-9][a-z0-9.-]*`, at most 64 characters.
    pub name: String,
    /// Where its SSH server listens: `host:port`.
    #[serde(default)]
    pub address: String,
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
        if self.address.is_empty() || self.host_key.is_none() { MachineState::Incomplete } else { MachineState::Ready }
    }
}
