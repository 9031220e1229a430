use crate::policy::{Factor, Factors};
use jiff::Timestamp;
use jiff::civil::Date;
use serde::{Deserialize, Serialize};
use std::collections::{BTreeMap, BTreeSet};

/// What somebody may do in Aerie itself (not on machines).
#[derive(Debug, Clone, Copy, PartialEq, Eq, Hash, PartialOrd, Ord, Serialize, Deserialize)]
#[serde(rename_all = "kebab-case")]
pub enum Role {
    /// Sets the rules, people and machines.
    Administrator,
    /// Drafts rules, and publishes those that somebody else agreed to.
    PolicyAuthor,
    /// Says yes or no to the access of others.
    Approver,
    /// Reads everything, changes nothing.
    Auditor,
    /// Reaches machines; sees their own sessions.
    Technician,
}

impl Role {
    /// Every role.
    pub const ALL: [Role; 5] = [Self::Administrator, Self::PolicyAuthor, Self::Approver, Self::Auditor, Self::Technician];

    /// The role of that word.
    pub fn from_word(word: &str) -> Option<Self> {
        Self::ALL.into_iter().find(|r| r.word() == word)
    }

    /// The word for it, as stored and shown.
    pub fn word(self) -> &'static str {
        match self {
            Role::Administrator => "administrator",
            Role::PolicyAuthor => "policy-author",
            Role::Approver => "approver",
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
    /// Mail address for notices; empty for none.
    #[serde(default, skip_serializing_if = "String::is_empty")]
    pub mail: String,
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
    /// Factors enrolled besides keys.
    #[serde(default, skip_serializing_if = "BTreeSet::is_empty")]
    pub enrolled: BTreeSet<Factor>,
    /// Roles that count only for some people and machines; a role that is not here counts for all.
    #[serde(default, skip_serializing_if = "BTreeMap::is_empty")]
    pub scopes: BTreeMap<Role, Scope>,
}

/// For which people and machines a role counts.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
#[serde(deny_unknown_fields)]
pub struct Scope {
    /// Selector of people; all where it is missing.
    #[serde(default = "all")]
    pub people: String,
    /// Selector of machines; all where it is missing.
    #[serde(default = "all")]
    pub machines: String,
}

fn all() -> String {
    "*".into()
}

/// A registered SSH public key.
#[derive(Debug, Clone, Default, PartialEq, Eq, Serialize, Deserialize)]
pub struct RegisteredKey {
    /// `SHA256:…` as OpenSSH prints it.
    pub fingerprint: String,
    /// What the owner calls it.
    #[serde(default)]
    pub label: String,
    /// The public key as a line of OpenSSH's format without comment; empty where only the fingerprint is known.
    #[serde(default, skip_serializing_if = "String::is_empty")]
    pub public: String,
    /// When it was registered.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub added: Option<Timestamp>,
    /// Last day on which it is good; none for as long as the account is.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub expires: Option<Date>,
}

impl RegisteredKey {
    /// Whether it sits on a FIDO authenticator.
    pub fn is_hardware(&self) -> bool {
        self.public.starts_with("sk-")
    }

    /// Whether it is good on a day.
    pub fn is_good(&self, day: Date) -> bool {
        self.expires.is_none_or(|last| day <= last)
    }
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

    /// The factors they can prove.
    pub fn factors(&self) -> Factors {
        let key = (!self.keys.is_empty()).then_some(Factor::Key);
        let hardware = self.keys.iter().any(RegisteredKey::is_hardware).then_some(Factor::SecurityKey);
        Factors::of(self.enrolled.iter().copied().chain(key).chain(hardware))
    }

    /// What selectors see: key and value of each property. Groups are added by the directory.
    pub(super) fn properties(&self) -> Vec<(&str, String)> {
        let mut all = vec![("person", self.name.clone())];
        if !self.organisation.is_empty() {
            all.push(("organisation", self.organisation.clone()));
        }
        all.extend(self.roles.iter().map(|r| ("role", r.word().to_string())));
        all.extend(self.factors().iter().map(|f| ("factor", f.word().to_string())));
        let day = |d: Option<Date>| d.map_or("never".into(), |d| d.to_string());
        all.extend([("begins", day(self.valid_from)), ("ends", day(self.valid_until))]);
        all
    }

    /// The full name, or the short one where there is none.
    pub fn shown(&self) -> &str {
        if self.full_name.is_empty() { &self.name } else { &self.full_name }
    }
}
