//! Why, why not, and the smallest thing that would change it. Every change that is proposed was decided again with the change
//! made.

use super::Capability;
use super::compile::Policy;
use super::decide::{Decision, Outcome, Refusal, Request};
use super::document::{Effect, Rule};
use super::sentence::Speech;
use crate::directory::{Directory, Person};
use crate::wording;
use jiff::{SignedDuration, Timestamp};
use std::sync::Arc;

/// How far ahead an opening is looked for.
const AHEAD: SignedDuration = SignedDuration::from_hours(24 * 366);
/// Most changes of the answer that are followed through time.
const MOST_STEPS: usize = 5_000;
/// Most changes that are proposed.
const MOST_PROPOSALS: usize = 6;

/// An answer, with what would change it.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Explanation {
    /// The decision.
    pub decision: Decision,
    /// It in a sentence.
    pub sentence: String,
    /// The smallest things that would change it, each a phrase such as `needs a code` or `from 18:00 on`.
    pub changes: Vec<String>,
}

impl Policy {
    /// Explains a decision to somebody who may read the rules.
    pub fn explain(&self, request: &Request<'_>) -> Explanation {
        let decision = self.decide(request);
        let sentence = self.sentence(request, &decision, Speech::Insider);
        let mut changes = match &decision.outcome {
            Outcome::Granted(_) => self.ending(request).into_iter().collect(),
            Outcome::Unmet { missing, .. } => {
                vec![format!("needs {}", wording::list(&self.needs(missing, Speech::Insider)))]
            }
            Outcome::Refused(refusal) => self.openings(request, *refusal),
        };
        changes.dedup();
        changes.truncate(MOST_PROPOSALS);
        Explanation { decision, sentence, changes }
    }

    fn is_open(&self, request: &Request<'_>) -> bool {
        !matches!(self.decide(request).outcome, Outcome::Refused(_))
    }

    /// When a granted access ends by the passing of time.
    fn ending(&self, request: &Request<'_>) -> Option<String> {
        let at = self.next(request, |p, r| !p.is_open(r))?;
        Some(format!("ends {}", self.on(at, request.at)))
    }

    fn on(&self, at: Timestamp, now: Timestamp) -> String {
        let said = wording::instant(at, now, self.zone());
        if said.starts_with(|c: char| c.is_ascii_digit()) && said.len() == 5 { format!("at {said}") } else { format!("on {said}") }
    }

    /// The next instant at which the answer is such.
    fn next(&self, request: &Request<'_>, wanted: impl Fn(&Self, &Request<'_>) -> bool) -> Option<Timestamp> {
        let end = request.at.saturating_add(AHEAD).ok()?;
        let mut at = request.at;
        for _ in 0..MOST_STEPS {
            at = self.decide(&Request { at, ..*request }).holds_until.filter(|t| *t < end)?;
            if wanted(self, &Request { at, ..*request }) {
                return Some(at);
            }
        }
        None
    }

    fn openings(&self, request: &Request<'_>, refusal: Refusal) -> Vec<String> {
        let mut found = vec![];
        if matches!(refusal, Refusal::UnknownPerson | Refusal::UnknownMachine) {
            return found;
        }
        if let Some(at) = self.next(request, |p, r| p.is_open(r)) {
            found.push(format!("opens {}", self.on(at, request.at)));
        }
        found.extend(self.other_addresses(request));
        found.extend(self.other_accounts(request));
        found.extend(self.other_targets(request));
        found.extend(self.other_groups(request));
        found.extend(self.without_rule(request));
        // A rule gives it there, and to another target.
        if matches!(refusal, Refusal::Target | Refusal::UnnamedPort) {
            return found;
        }
        if let Some(other) = self.other_capabilities(request) {
            found.push(other);
        } else if refusal == Refusal::NoRule && found.is_empty() {
            found.push(format!("no rule gives {} on {} to anybody", request.capability.word(), request.machine));
        }
        found
    }

    fn allows(&self, request: &Request<'_>) -> impl Iterator<Item = &Rule> {
        let at = self.directory.person_index(request.person).zip(self.directory.machine_index(request.machine));
        let numbers: Vec<usize> = at.map_or(vec![], |(p, m)| self.common(p, m, request.capability, true).collect());
        numbers.into_iter().filter_map(|n| self.document.rules.get(n))
    }

    fn other_addresses(&self, request: &Request<'_>) -> Option<String> {
        let sources: Vec<&super::Sources> = self.allows(request).map(|r| &r.from).filter(|s| !s.is_anywhere()).collect();
        super::space::origins_of(&sources)
            .into_iter()
            .find(|o| o.example.is_some() && o.example != request.from && self.is_open(&Request { from: o.example, ..*request }))
            .map(|o| format!("from {}", o.text))
    }

    fn other_accounts(&self, request: &Request<'_>) -> Option<String> {
        request.account?;
        let accounts: Vec<Arc<str>> = self.allows(request).flat_map(|r| r.accounts.clone()).filter(|a| &**a != "*").collect();
        let open = accounts.into_iter().find(|a| Some(&**a) != request.account && self.is_open(&Request { account: Some(a), ..*request }));
        open.map(|a| format!("as {a}"))
    }

    fn other_targets(&self, request: &Request<'_>) -> Option<String> {
        request.target()?;
        let targets: Vec<&super::Targets> = self.allows(request).map(|r| &r.targets).collect();
        let itself = super::ForwardTarget::itself(1);
        let told = super::target::destinations_of(&targets);
        let open = |target: &super::ForwardTarget| {
            self.is_open(&Request { facts: super::Facts { target: Some(target), ..request.facts }, ..*request })
        };
        let named: Vec<&str> = told.iter().filter(|d| d.example().is_some_and(|e| open(&e))).map(|d| &*d.text).take(3).collect();
        match (told.is_empty(), named.is_empty()) {
            (false, false) => Some(format!("to {}", wording::list(&named))),
            (true, _) if open(&itself) => Some("to the machine itself".into()),
            (true | false, _) => None,
        }
    }

    fn other_capabilities(&self, request: &Request<'_>) -> Option<String> {
        let open = |c: &Capability| *c != request.capability && self.is_open(&Request { capability: *c, ..*request });
        let others: Vec<&str> = Capability::ALL.into_iter().filter(open).map(Capability::word).collect();
        (!others.is_empty())
            .then(|| format!("no rule gives {}; {} has {} there", request.capability.word(), request.person, wording::list(&others)))
    }

    /// Groups that would open it if the person were in them.
    fn other_groups(&self, request: &Request<'_>) -> Vec<String> {
        let (Some(person), Some(machine)) = (self.directory.person(request.person), self.directory.machine_index(request.machine)) else {
            return vec![];
        };
        let gives = |r: &&Rule| {
            r.effect == Effect::Allow
                && r.capabilities.contains(request.capability)
                && self.directory.select_machines(&r.machines.0).contains(machine)
        };
        let mut groups: Vec<String> = self
            .document
            .rules
            .iter()
            .filter(gives)
            .flat_map(|r| r.people.0.atoms())
            .filter(|a| a.key == "group" && !a.value.contains('*') && !person.groups.contains(&a.value))
            .map(|a| a.value.clone())
            .collect();
        groups.sort_unstable();
        groups.dedup();
        groups.truncate(20);
        groups.retain(|g| self.with_group(person, g, request));
        groups.into_iter().map(|g| format!("as a member of {g}")).collect()
    }

    fn with_group(&self, person: &Person, group: &str, request: &Request<'_>) -> bool {
        let mut changed = person.clone();
        changed.groups.insert(group.into());
        let machine = self.directory.machine(request.machine).cloned();
        let directory = Directory::with_groups(vec![changed], machine.into_iter().collect(), self.directory.group_definitions().to_vec());
        Policy::compile(self.document.clone(), Arc::new(directory), request.at).is_open(request)
    }

    /// The `forbid` without which it would be open.
    fn without_rule(&self, request: &Request<'_>) -> Option<String> {
        let name = self.decide(request).because.first().filter(|r| r.effect == Effect::Forbid)?.name.clone();
        let mut document = self.document.clone();
        document.rules.retain(|r| r.name != name);
        let directory = Directory::with_groups(
            self.directory.person(request.person).cloned().into_iter().collect(),
            self.directory.machine(request.machine).cloned().into_iter().collect(),
            self.directory.group_definitions().to_vec(),
        );
        let open = Policy::compile(document, Arc::new(directory), request.at).is_open(request);
        open.then(|| format!("without the rule {name}"))
    }
}
