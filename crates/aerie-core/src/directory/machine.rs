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
    /// Whether it can be reached at all.
    pub fn state(&self) -> MachineState {
        if self.address.is_empty() || self.host_key.is_none() { MachineState::Incomplete } else { MachineState::Ready }
    }
}
