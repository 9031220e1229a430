use jiff::civil::Date;
use serde::{Deserialize, Serialize};
use std::collections::BTreeSet;

/// What somebody may do in Aerie itself (not on machines).
#[derive(Debug, Clone, Copy, PartialEq, Eq, Hash, PartialOrd, Ord, Serialize, Deserialize)]
#[serde(rename_all = "kebab-case")]
pub enum Role {
    /// Sets the rules, people and machines.
    Administrator,
    /// Reads everything, changes nothing.
    Auditor,
    /// Reaches machines; sees their own sessions.
    Technician,
}

impl Role {
    /// The word for it, as stored and shown.
    pub fn word(self) -> &'static str {
        match self {
            Role::Administrator => "administrator",
            Role::Auditor => "auditor",
            Role::Technician => "technician",
        }
    }
}

/// Somebody who reaches machines or looks after them.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
pub struct Person {
    /// Short name used to sign in: `[a-z][a-z0-9._-]*`, at most 64 characters.
    pub name: String,
    /// The name as people write it.
    #[serde(default)]
    pub full_name: String,
    /// Home organisation.
    #[serde(default)]
    pub organisation: String,
    /// Groups that rules speak of.
    #[serde(default)]
    pub groups: BTreeSet<String>,
    /// What they may do in Aerie itself.
    #[serde(default)]
    pub roles: BTreeSet<Role>,
    /// Suspended people can do nothing.
    #[serde(default)]
    pub suspended: bool,
    /// First day on which the account is good.
    #[serde(default)]
    pub valid_from: Option<Date>,
    /// Last day on which the account is good.
    #[serde(default)]
    pub valid_until: Option<Date>,
    /// Registered SSH keys.
    #[serde(default)]
    pub keys: Vec<RegisteredKey>,
}

/// A registered SSH public key.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
pub struct RegisteredKey {
    /// `SHA256:…` as OpenSSH prints it.
    pub fingerprint: String,
    /// What the owner calls it.
    #[serde(default)]
    pub label: String,
}

/// Whether an account is good on a day.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum Standing {
    /// It is.
    Good,
    /// It was suspended.
    Suspended,
    /// Its first day has not come.
    NotYet(Date),
    /// Its last day is over.
    Expired(Date),
}

impl Person {
    /// Whether the account is good on `day`.
    pub fn standing(&self, day: Date) -> Standing {
        match (self.suspended, self.valid_from, self.valid_until) {
            (true, _, _) => Standing::Suspended,
            (_, Some(first), _) if day < first => Standing::NotYet(first),
            (_, _, Some(last)) if day > last => Standing::Expired(last),
            _ => Standing::Good,
        }
    }

    /// The full name, or the short one where there is none.
    pub fn shown(&self) -> &str {
        if self.full_name.is_empty() { &self.name } else { &self.full_name }
    }
}
