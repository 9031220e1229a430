//! The one decision.

use super::capability::{Capability, Factors};
use super::compile::Policy;
use super::document::{Effect, Rule};
use crate::directory::Standing;
use jiff::civil::Date;
use jiff::{SignedDuration, Timestamp, ToSpan as _};
use std::net::IpAddr;
use std::sync::Arc;

/// The question: may this person use this capability on this machine, now, from there, with these proofs?
#[derive(Debug, Clone, Copy)]
pub struct Request<'a> {
    /// Name of the person.
    pub person: &'a str,
    /// What they want to do.
    pub capability: Capability,
    /// Name of the machine.
    pub machine: &'a str,
    /// The account on the machine; none leaves the choice to the rules.
    pub account: Option<&'a str>,
    /// When.
    pub at: Timestamp,
    /// From which address; none where it is not known, and then rules that ask for one do not match.
    pub from: Option<IpAddr>,
    /// What else is known.
    pub facts: Facts,
}

/// What is known besides who, what, where and when.
#[derive(Debug, Clone, Copy, Default, PartialEq, Eq)]
pub struct Facts {
    /// Factors that were proved.
    pub factors: Factors,
    /// The access is (or was) recorded.
    pub recorded: bool,
}

/// The answer.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Decision {
    /// What was decided.
    pub outcome: Outcome,
    /// The rules that led to it: the `allow` first, then what was added to it, or the `forbid`.
    pub because: Vec<RuleRef>,
    /// The next instant at which the answer could change by the passing of time alone.
    pub holds_until: Option<Timestamp>,
}

/// What was decided.
#[must_use]
#[derive(Debug, Clone, PartialEq, Eq)]
pub enum Outcome {
    /// Yes, within these bounds.
    Granted(Grant),
    /// Yes, once what is missing is there.
    Unmet {
        /// What is missing.
        missing: Missing,
        /// What would then be granted.
        grant: Grant,
    },
    /// No.
    Refused(Refusal),
}

/// What is granted, and within which bounds.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Grant {
    /// Account on the machine.
    pub account: Arc<str>,
    /// Factors that are demanded.
    pub factors: Factors,
    /// Whether the session must be recorded.
    pub recording: bool,
    /// How long the session may last.
    pub session_limit: Option<SignedDuration>,
    /// How long it may be idle.
    pub idle_limit: Option<SignedDuration>,
}

/// What is still missing.
#[derive(Debug, Clone, Copy, Default, PartialEq, Eq)]
pub struct Missing {
    /// Factors that were not proved.
    pub factors: Factors,
    /// A recording.
    pub recording: bool,
}

impl Missing {
    /// Whether nothing is missing.
    pub fn is_nothing(self) -> bool {
        self.factors.is_empty() && !self.recording
    }

    fn count(self) -> u32 {
        self.factors.len() + u32::from(self.recording)
    }
}

/// Why not. The variants are in the order of nearness: of several reasons the last that applies is told.
#[derive(Debug, Clone, Copy, PartialEq, Eq, PartialOrd, Ord)]
pub enum Refusal {
    /// There is no such person.
    UnknownPerson,
    /// There is no such machine.
    UnknownMachine,
    /// The account is suspended, expired, or not yet good.
    Standing,
    /// No rule gives this capability there.
    NoRule,
    /// The rule gives it under other accounts only.
    Account,
    /// The rule's days are over or have not come.
    Days,
    /// The rule gives it from other addresses only.
    Address,
    /// The rule gives it at other hours only.
    Hours,
    /// A rule forbids it.
    Forbidden,
}

/// A rule that is cited.
#[derive(Debug, Clone, PartialEq, Eq, serde::Serialize, serde::Deserialize)]
pub struct RuleRef {
    /// Its name.
    pub name: Arc<str>,
    /// What it does.
    pub effect: Effect,
    /// Its line in that version of the document.
    pub line: usize,
}

impl From<&Rule> for RuleRef {
    fn from(r: &Rule) -> Self {
        Self { name: r.name.clone(), effect: r.effect, line: r.line }
    }
}

/// Proof that a decision granted an access. Only [`Decision::granted`] makes one, and a session cannot go live without it.
///
/// ```compile_fail
/// // There is no other way to come by one.
/// let forged = aerie_core::policy::AccessGranted { grant: todo!(), capability: todo!(), holds_until: None };
/// ```
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct AccessGranted {
    grant: Grant,
    capability: Capability,
    holds_until: Option<Timestamp>,
}

impl AccessGranted {
    /// What was granted.
    pub fn grant(&self) -> &Grant {
        &self.grant
    }

    /// For which capability.
    pub fn capability(&self) -> Capability {
        self.capability
    }

    /// When the decision must be made again.
    pub fn holds_until(&self) -> Option<Timestamp> {
        self.holds_until
    }
}

impl Decision {
    /// The proof of access, if access was granted.
    pub fn granted(&self, request: &Request<'_>) -> Option<AccessGranted> {
        match &self.outcome {
            Outcome::Granted(grant) => {
                Some(AccessGranted { grant: grant.clone(), capability: request.capability, holds_until: self.holds_until })
            }
            Outcome::Unmet { .. } | Outcome::Refused(_) => None,
        }
    }

    fn refused(refusal: Refusal) -> Self {
        Self { outcome: Outcome::Refused(refusal), because: vec![], holds_until: None }
    }
}

/// An `allow` with everything that is demanded on top of it.
struct Candidate<'p> {
    rule: &'p Rule,
    missing: Missing,
    grant: Grant,
    added: Vec<&'p Rule>,
}

impl Candidate<'_> {
    /// Smaller is better: least missing, longest limits, and the name, so that the order of rules never matters.
    fn rank(&self) -> (u32, std::cmp::Reverse<(SignedDuration, SignedDuration)>, &str) {
        let long = |d: Option<SignedDuration>| d.unwrap_or(SignedDuration::MAX);
        let limits = (long(self.grant.session_limit), long(self.grant.idle_limit));
        (self.missing.count(), std::cmp::Reverse(limits), &self.rule.name)
    }
}

impl Policy {
    /// Decides. Pure: the same policy and request give the same answer.
    ///
    /// Cost: about a microsecond with a thousand rules; it grows with the rules that concern this person, machine and
    /// capability, hardly with those that do not.
    pub fn decide(&self, request: &Request<'_>) -> Decision {
        let Some(person_at) = self.directory.person_index(request.person) else {
            return Decision::refused(Refusal::UnknownPerson);
        };
        let Some(machine_at) = self.directory.machine_index(request.machine) else {
            return Decision::refused(Refusal::UnknownMachine);
        };
        let mut clock = Clock { policy: self, at: request.at, today: None, next: None };
        if let Some(person) = self.directory.people().get(person_at)
            && (person.suspended || person.valid_from.is_some() || person.valid_until.is_some())
        {
            let standing = person.standing(clock.today());
            [person.valid_from, person.valid_until.map(|d| d.saturating_add(1.day()))]
                .into_iter()
                .flatten()
                .for_each(|d| clock.at_start_of(d));
            if standing != Standing::Good {
                return Decision { holds_until: clock.next, ..Decision::refused(Refusal::Standing) };
            }
        }
        let (mut allows, mut forbids, mut requires) = (vec![], vec![], vec![]);
        let mut nearest = (Refusal::NoRule, None);
        for rule in self.rules_for(person_at, machine_at, request.capability) {
            match (clock.misses(rule, request.from), rule.effect) {
                (None, Effect::Allow) => allows.push(rule),
                (None, Effect::Forbid) => forbids.push(rule),
                (None, Effect::Require) => requires.push(rule),
                (Some(miss), Effect::Allow) if miss > nearest.0 => nearest = (miss, Some(rule)),
                (Some(_), _) => {}
            }
        }
        let mut best: Option<Candidate<'_>> = None;
        for rule in allows {
            match self.candidate(rule, machine_at, &forbids, &requires, request) {
                Ok(candidate) if best.as_ref().is_none_or(|b| candidate.rank() < b.rank()) => best = Some(candidate),
                Ok(_) => {}
                Err((refusal, cause)) if refusal > nearest.0 => nearest = (refusal, cause),
                Err(_) => {}
            }
        }
        clock.conclude(best, nearest)
    }

    /// The `allow` with every demand, under the first account that nothing forbids.
    fn candidate<'p>(
        &self,
        rule: &'p Rule,
        machine_at: usize,
        forbids: &[&'p Rule],
        requires: &[&'p Rule],
        request: &Request<'_>,
    ) -> Result<Candidate<'p>, (Refusal, Option<&'p Rule>)> {
        let there = self.directory.machines().get(machine_at).map_or(&[][..], |m| &m.accounts);
        let mut why = (Refusal::Account, Some(rule));
        for account in offered(rule, there, request.account) {
            let concerns = |r: &&&Rule| r.accounts.is_empty() || r.accounts.iter().any(|a| &**a == "*" || *a == account);
            if let Some(forbid) = forbids.iter().find(concerns) {
                why = (Refusal::Forbidden, Some(forbid));
                continue;
            }
            let added: Vec<&Rule> = requires.iter().filter(concerns).copied().collect();
            let mut demands = rule.demands;
            for r in &added {
                demands.factors = demands.factors.union(r.demands.factors);
                demands.recording |= r.demands.recording;
                demands.session_limit = smaller(demands.session_limit, r.demands.session_limit);
                demands.idle_limit = smaller(demands.idle_limit, r.demands.idle_limit);
            }
            let missing = Missing {
                factors: demands.factors.without(request.facts.factors),
                recording: demands.recording && !request.facts.recorded,
            };
            let grant = Grant {
                account,
                factors: demands.factors,
                recording: demands.recording,
                session_limit: demands.session_limit,
                idle_limit: demands.idle_limit,
            };
            return Ok(Candidate { rule, missing, grant, added });
        }
        Err(why)
    }
}

/// The accounts that an `allow` offers on a machine, the asked one alone where one is asked for.
fn offered(rule: &Rule, there: &[String], asked: Option<&str>) -> Vec<Arc<str>> {
    let any = rule.accounts.iter().any(|a| &**a == "*");
    match asked {
        Some(asked) => {
            if any {
                return vec![asked.into()];
            }
            rule.accounts.iter().filter(|a| &***a == asked).cloned().collect()
        }
        None if any => there.iter().map(|a| Arc::from(a.as_str())).collect(),
        None => {
            let known = |a: &&Arc<str>| there.is_empty() || there.iter().any(|t| **t == ***a);
            rule.accounts.iter().filter(known).cloned().collect()
        }
    }
}

fn smaller(a: Option<SignedDuration>, b: Option<SignedDuration>) -> Option<SignedDuration> {
    match (a, b) {
        (Some(a), Some(b)) => Some(a.min(b)),
        (a, b) => a.or(b),
    }
}

/// The instant of the decision, and the next one at which anything that was looked at changes.
struct Clock<'p> {
    policy: &'p Policy,
    at: Timestamp,
    today: Option<Date>,
    next: Option<Timestamp>,
}

impl Clock<'_> {
    fn today(&mut self) -> Date {
        let (at, zone) = (self.at, self.policy.zone());
        *self.today.get_or_insert_with(|| at.to_zoned(zone.clone()).date())
    }

    fn changes_at(&mut self, instant: Option<Timestamp>) {
        let later = instant.filter(|i| *i > self.at);
        self.next = match (self.next, later) {
            (Some(a), Some(b)) => Some(a.min(b)),
            (a, b) => a.or(b),
        };
    }

    fn at_start_of(&mut self, date: Date) {
        self.changes_at(date.to_zoned(self.policy.zone().clone()).ok().map(|z| z.timestamp()));
    }

    /// The first reason for which the rule does not count now, from there.
    fn misses(&mut self, rule: &Rule, from: Option<IpAddr>) -> Option<Refusal> {
        let mut miss = None;
        if let Some(calendar) = rule.hours.and_then(|h| self.policy.calendars.get(h)) {
            let opening = calendar.at(self.at);
            self.changes_at(opening.until);
            if !opening.open {
                miss = Some(Refusal::Hours);
            }
        }
        if !rule.from.is_empty() && !from.is_some_and(|f| rule.from.iter().any(|n| n.contains(f))) {
            miss = Some(Refusal::Address);
        }
        if rule.first_day.is_some() || rule.last_day.is_some() {
            let today = self.today();
            [rule.first_day, rule.last_day.map(|d| d.saturating_add(1.day()))].into_iter().flatten().for_each(|d| self.at_start_of(d));
            if rule.first_day.is_some_and(|d| today < d) || rule.last_day.is_some_and(|d| today > d) {
                miss = Some(Refusal::Days);
            }
        }
        miss
    }

    fn conclude(self, best: Option<Candidate<'_>>, nearest: (Refusal, Option<&Rule>)) -> Decision {
        let holds_until = self.next;
        let Some(Candidate { rule, missing, grant, added }) = best else {
            let because = nearest.1.into_iter().map(RuleRef::from).collect();
            return Decision { outcome: Outcome::Refused(nearest.0), because, holds_until };
        };
        let because = std::iter::once(rule).chain(added).map(RuleRef::from).collect();
        let outcome = if missing.is_nothing() { Outcome::Granted(grant) } else { Outcome::Unmet { missing, grant } };
        Decision { outcome, because, holds_until }
    }
}
