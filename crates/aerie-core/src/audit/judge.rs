//! What the rules of a moment make of one access: the one place for the audit of today and for judging the past again.

use super::auditor::KnownSession;
use super::finding::FindingKind;
use super::log::NO_ACCOUNT;
use crate::directory::Person;
use crate::policy::{Capability, Facts, Missing, Outcome, Policy, Proofs, Refusal, Request, Tracks};
use jiff::Timestamp;

/// A violation, and why it is one.
pub(super) type Violation = (FindingKind, String);

/// An access with the rules by which it is judged.
#[derive(Clone, Copy)]
pub(super) struct Case<'a> {
    pub(super) policy: &'a Policy,
    pub(super) machine: &'a str,
    pub(super) account: &'a str,
    pub(super) source: &'a str,
    /// Fingerprint of the key.
    pub(super) key: Option<&'a str>,
    pub(super) begin: Timestamp,
}

/// What the rules make of a use within a session.
enum Judged {
    /// They let it, by this rule.
    Fits(Option<String>),
    Refused,
    /// They let it, and demand what it had not.
    Unmet(String),
}

impl<'a> Case<'a> {
    /// A session of Aerie's own, under these rules.
    pub(super) fn of_session(policy: &'a Policy, s: &'a KnownSession) -> Self {
        Self { policy, machine: &s.machine, account: &s.account, source: "", key: None, begin: s.begin }
    }

    /// Whose key it was; without a key, who is called as the account is.
    pub(super) fn owner(&self) -> Option<&'a Person> {
        let directory = self.policy.directory();
        match self.key {
            Some(key) => directory.owner_of_key(key),
            None => directory.person(self.account),
        }
    }

    /// What a session of Aerie's own broke: the gate and the audit may not disagree.
    pub(super) fn within(&self, session: &KnownSession) -> Vec<Violation> {
        let (mut refused, mut unmet) = (None, None);
        for capability in session.uses.iter() {
            match self.decided(session, capability) {
                Judged::Fits(_) => {}
                Judged::Refused => refused = refused.or(Some(capability)),
                Judged::Unmet(what) => unmet = unmet.or(Some(what)),
            }
        }
        let refused = refused
            .map(|capability| (FindingKind::NotAllowed, format!("the rules of that moment do not let them {} it", capability.phrase())));
        let unmet = unmet.map(|what| (FindingKind::UnmetDemand, format!("the rules of that moment demand {what}")));
        refused.into_iter().chain(unmet).collect()
    }

    /// That a session was let in by a rule which was withdrawn since, and by no other of today.
    pub(super) fn withdrawn(&self, session: &KnownSession, newest: &'a Policy) -> Option<Violation> {
        let today = Case { policy: newest, ..*self };
        let gone = session.uses.iter().find_map(|capability| {
            let Judged::Fits(Some(rule)) = self.decided(session, capability) else { return None };
            let lost = matches!(today.decided(session, capability), Judged::Refused);
            let there = newest.document().rules.iter().any(|r| *r.name == *rule);
            (lost && !there).then_some(rule)
        })?;
        Some((FindingKind::RuleWithdrawn, format!("it was allowed by {gone} alone, which was withdrawn since")))
    }

    /// What an access broke that no session explains.
    pub(super) fn around(&self) -> Vec<Violation> {
        let mut all = vec![];
        let owned = self.policy.directory().machine(self.machine).is_some_and(|m| m.accounts.iter().any(|a| a == self.account));
        if !owned && self.account != NO_ACCOUNT {
            all.push((FindingKind::UnownedAccount, format!("nobody owns the account {} there", self.account)));
        }
        all.push((FindingKind::AroundGateway, "no session of Aerie explains it".into()));
        all.extend(self.outside_hours().map(|why| (FindingKind::OutsideHours, why)));
        all
    }

    /// What is known of a session is what it proved and whether it was recorded; who agreed or approved is in the log, and not asked here.
    fn decided(&self, session: &KnownSession, capability: Capability) -> Judged {
        let facts = Facts {
            proofs: Proofs::at(session.factors, session.begin),
            recorded: if session.recorded { Tracks::all() } else { Tracks::NONE },
            reason: true,
            ..Facts::default()
        };
        // The machine's log knows the gateway's address; the person's is in the session.
        let request = Request { from: session.source, at: session.begin, facts, ..self.request(&session.person, capability) };
        let decision = self.policy.decide(&request);
        let rule = decision.because.first().map(|r| r.name.to_string());
        match decision.outcome {
            Outcome::Granted(_) => Judged::Fits(rule),
            Outcome::Unmet { missing, .. } => lacking(&missing).map_or(Judged::Fits(rule), Judged::Unmet),
            Outcome::Refused(_) => {
                // An emergency has rules of its own.
                let declared = Request { facts: Facts { emergency: true, ..request.facts }, ..request };
                let refused = matches!(self.policy.decide(&declared).outcome, Outcome::Refused(_));
                if refused { Judged::Refused } else { Judged::Fits(None) }
            }
        }
    }

    /// Nothing is known of what was proved: whether something is missing is not asked here, only what is refused.
    fn request<'r>(&'r self, person: &'r str, capability: Capability) -> Request<'r> {
        Request {
            person,
            capability,
            machine: self.machine,
            account: Some(self.account),
            at: self.begin,
            from: self.source.parse().ok(),
            facts: Facts::default(),
        }
    }

    /// Why the hour was wrong: for a known person by the decision, else by the hours in which anybody may reach the machine.
    fn outside_hours(&self) -> Option<String> {
        if let Some(person) = self.owner() {
            let mut hour = false;
            for capability in Capability::ALL {
                match self.policy.decide(&self.request(&person.name, capability)).outcome {
                    Outcome::Refused(refusal) => hour |= refusal == Refusal::Hours,
                    Outcome::Granted(_) | Outcome::Unmet { .. } => return None,
                }
            }
            return hour.then(|| format!("at that hour the rules do not let {} in", person.shown()));
        }
        let machine = self.policy.directory().machine_index(self.machine)?;
        let hours = self.policy.hours_of_machine(machine)?;
        let closed = !hours.is_empty() && hours.iter().all(|c| !c.at(self.begin).open);
        closed.then(|| "at that hour the rules let nobody in".into())
    }
}

fn lacking(missing: &Missing) -> Option<String> {
    let factors: Vec<&str> = missing.factors.iter().map(|f| f.phrase()).collect();
    if !factors.is_empty() {
        return Some(crate::wording::list(&factors));
    }
    if let Some(level) = missing.assurance {
        return Some(format!("assurance level {level}"));
    }
    (!missing.recording.is_empty()).then(|| "a recording".to_string())
}
