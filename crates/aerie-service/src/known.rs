//! What is known of somebody, besides what they prove themselves, at the moment of a decision.

use crate::service::App;
use aerie_core::policy::{AccessGranted, Capability, Facts, Pass, Proofs, Request, Speech, Tracks};
use jiff::Timestamp;
use std::net::IpAddr;
use std::sync::Arc;

/// Their passes, and whether nobody new is let in.
pub(crate) struct Known {
    passes: Arc<[Pass]>,
    locked_down: bool,
}

impl Known {
    /// What is known of this person now.
    pub(crate) fn of(app: &App, person: &str) -> Self {
        Self { passes: app.asking.passes_of(person), locked_down: app.asking.locked_down().is_some() }
    }

    /// What is known, with what was stated.
    pub(crate) fn facts<'a>(&'a self, stated: Facts<'a>) -> Facts<'a> {
        Facts { passes: &self.passes, locked_down: self.locked_down, ..stated }
    }
}

/// Somebody at the console or the API, as far as a decision needs them.
#[derive(Clone)]
pub(crate) struct Asker {
    /// Their name.
    pub(crate) person: String,
    /// What they proved.
    pub(crate) proofs: Proofs,
    /// Where they are.
    pub(crate) from: IpAddr,
}

/// What an asker wants to use.
#[derive(Clone, Copy)]
pub(crate) struct Wanted<'a> {
    /// For what.
    pub(crate) capability: Capability,
    /// Where.
    pub(crate) machine: &'a str,
    /// As whom, there.
    pub(crate) account: &'a str,
}

/// What the rules in force say to an asker.
pub(crate) struct Answer {
    /// Proof that they may; none where they may not.
    pub(crate) granted: Option<AccessGranted>,
    /// For the log.
    pub(crate) insider: String,
    /// For the person.
    pub(crate) sentence: String,
    /// Version of the rules that say so.
    pub(crate) version: i64,
}

impl Answer {
    /// The proof, or why not.
    pub(crate) fn or_why(self) -> Result<AccessGranted, String> {
        self.granted.ok_or(self.sentence)
    }
}

impl Asker {
    /// Asks the rules in force, now.
    ///
    /// What is written at the console says why by itself: a reason is there; and what is watched or handed over is recorded where its session is.
    pub(crate) fn may(&self, app: &App, wanted: Wanted<'_>, stated: Facts<'_>) -> Answer {
        let (rules, known) = (app.rules.now(), Known::of(app, &self.person));
        let facts = Facts { proofs: self.proofs, reason: true, recorded: Tracks::all(), ..known.facts(stated) };
        let Wanted { capability, machine, account } = wanted;
        let (person, from) = (self.person.as_str(), Some(self.from));
        let request = Request { person, capability, machine, account: Some(account), at: Timestamp::now(), from, facts };
        let decision = rules.policy.decide(&request);
        Answer {
            granted: decision.granted(&request),
            insider: rules.policy.sentence(&request, &decision, Speech::Insider),
            sentence: rules.policy.sentence(&request, &decision, Speech::Person),
            version: rules.version,
        }
    }
}
