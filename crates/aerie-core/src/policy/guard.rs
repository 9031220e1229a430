//! Guardrails, proved over the whole finite space: every class of people and machines, every capability, account and address,
//! and every moment of the coming year.

use super::capability::Capability;
use super::compile::Policy;
use super::decide::{Request, RuleRef};
use super::demand::Facts;
use super::document::{Effect, Guard, Place, Sources};
use super::space::{
    Account, Active, Class, Interval, Origin, Reachable, Space, accounts_of, alternatives, common, counting, machine_classes, origins_of,
    people_classes, shared, target_of, targets_of,
};
use super::target::{Destination, ForwardTarget, destinations_of};
use jiff::Timestamp;
use std::collections::{HashMap, HashSet};
use std::sync::Arc;

/// A way in which a guardrail can be broken.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Breach {
    /// Name of the guardrail.
    pub guard: Arc<str>,
    /// Its place in the text.
    pub span: Place,
    /// Who could do it.
    pub person: String,
    /// Where.
    pub machine: String,
    /// What.
    pub capability: Capability,
    /// Under which account; none where any other account will do.
    pub account: Option<Arc<str>>,
    /// Where a forwarded port would lead; none for other capabilities.
    pub to: Option<ForwardTarget>,
    /// The first instant at which it is possible.
    pub at: Timestamp,
    /// From which address; none where any will do.
    pub from: Option<std::net::IpAddr>,
    /// The rules that make it possible, as the gate would cite them.
    pub because: Vec<RuleRef>,
    /// Rules tell targets apart: it matters where the port leads.
    told_apart: bool,
    /// What is demanded and is not there, where the guardrail asks for it.
    pub lacking: bool,
}

impl Breach {
    /// The breach as a sentence.
    pub fn sentence(&self, policy: &Policy) -> String {
        let person = policy.directory().person(&self.person).map_or(self.person.as_str(), |p| p.shown());
        let at = self.at.to_zoned(policy.zone().clone());
        let account = self.account.as_deref().map_or("any account".to_string(), |a| a.to_string());
        let from = self.from.map(|f| format!(", from {f}")).unwrap_or_default();
        let rules: Vec<String> = self.because.iter().map(|r| format!("{}, line {}", r.name, r.line)).collect();
        let to = self.to.as_ref().filter(|_| self.told_apart).map(|t| format!(" to {t}")).unwrap_or_default();
        let without = if self.lacking { ", without what the guardrail asks for" } else { "" };
        format!(
            "{person} could {} {}{to} as {account} on {}{from}{without} ({})",
            self.capability.phrase(),
            self.machine,
            at.strftime("%A %Y-%m-%d %H:%M"),
            rules.join("; ")
        )
    }
}

/// The first breach of each guardrail that does not hold, in the order of the document. None means that all of them hold at every
/// instant of the span of time.
pub fn breaches(policy: &Policy, from: Timestamp, to: Timestamp) -> Vec<Breach> {
    let guards = &policy.document().guards;
    if guards.is_empty() {
        return vec![];
    }
    let directory = policy.directory();
    let people_names: Vec<&str> = directory.people().iter().map(|p| p.name.as_str()).collect();
    let machine_names: Vec<&str> = directory.machines().iter().map(|m| m.name.as_str()).collect();
    let horizon = (from.as_second(), to.as_second());
    let (people, machines) = (people_classes(&[policy], &people_names), machine_classes(&[policy], &machine_names));
    let reachable = Reachable::new(policy, 0, &machines);
    let first_guard = u32::try_from(policy.document().rules.len()).unwrap_or(u32::MAX);
    let mut prover = Prover { policy, space: Space::new(policy, horizon), horizon };
    let mut held: HashSet<(Box<[u32]>, super::Postures, Interval)> = HashSet::new();
    let mut found: HashMap<u32, Breach> = HashMap::new();
    for person in &people {
        let window = person.windows.first().copied().unwrap_or((0, 0));
        for machine in reachable.from(person).iter().filter_map(|m| machines.get(m)) {
            let rules = shared(policy, 0, person, machine);
            if rules.last().is_none_or(|r| *r < first_guard) {
                continue;
            }
            let posture = machine.postures.first().copied().unwrap_or_default();
            if !held.insert((rules.clone().into(), posture, window)) {
                continue;
            }
            for at in rules.iter().filter(|r| **r >= first_guard) {
                let Some(guard) = guards.get((*at - first_guard) as usize) else { continue };
                let worst = prover.earliest(guard, *at, &rules, posture, window).map(|b| b.named(policy, guard, person, machine));
                if let Some(breach) = worst {
                    match found.get(at) {
                        Some(known) if (known.at, &known.person, &known.machine) <= (breach.at, &breach.person, &breach.machine) => {}
                        Some(_) | None => drop(found.insert(*at, breach)),
                    }
                }
            }
        }
    }
    let mut all: Vec<Breach> = found.into_values().collect();
    all.sort_by_key(|b| b.span.start);
    all
}

struct Prover<'p> {
    policy: &'p Policy,
    space: Space<'p>,
    horizon: Interval,
}

/// Where a guardrail breaks within a situation.
struct Broken {
    at: i64,
    capability: Capability,
    account: Account,
    destination: Option<Arc<Destination>>,
    origin: Arc<Origin>,
}

impl Prover<'_> {
    /// The earliest instant at which the guardrail does not hold among people and machines with these rules in common.
    fn earliest(&mut self, guard: &Guard, at: u32, rules: &[u32], posture: super::Postures, window: Interval) -> Option<Broken> {
        let policy = self.policy;
        // Of all guardrails only this one cuts the space.
        let first_guard = u32::try_from(policy.document().rules.len()).unwrap_or(u32::MAX);
        let concerned: Vec<u32> = rules.iter().copied().filter(|r| *r < first_guard || *r == at).collect();
        let (gates, sources) = self.space.conditions(&concerned);
        let timeline = self.space.timeline(&gates);
        let lists: Vec<&Sources> = sources.iter().filter_map(|s| policy.sources.get(*s as usize)).collect();
        let origins: Vec<Arc<Origin>> = origins_of(&lists).into_iter().map(Arc::new).collect();
        let active: Vec<Active<'_>> = concerned.iter().filter_map(|r| Active::new(policy, *r, &gates)).collect();
        let accounts = accounts_of(active.iter().map(|a| a.rule), &guard.rule.accounts);
        let destinations: Vec<Arc<Destination>> = destinations_of(&targets_of(policy, &concerned)).into_iter().map(Arc::new).collect();
        let mut earliest: Option<Broken> = None;
        for moment in &timeline.moments {
            let Some(first) = common(&moment.spans, window).first().map(|s| s.0.max(self.horizon.0)) else { continue };
            if earliest.as_ref().is_some_and(|e| e.at <= first) {
                continue;
            }
            for origin in &origins {
                let counts: Vec<&Active<'_>> = active.iter().filter(|a| a.counts(&moment.open, origin.example)).collect();
                if !counts.iter().any(|a| a.rule.effect == Effect::Never) {
                    continue;
                }
                let hit = self.broken(guard, &counts, &accounts, &destinations, posture);
                if let Some((capability, account, destination)) = hit
                    && earliest.as_ref().is_none_or(|e| first < e.at)
                {
                    earliest = Some(Broken { at: first, capability, account, destination, origin: origin.clone() });
                }
            }
        }
        earliest
    }

    fn broken(
        &self,
        guard: &Guard,
        counts: &[&Active<'_>],
        accounts: &[Account],
        destinations: &[Arc<Destination>],
        posture: super::Postures,
    ) -> Option<(Capability, Account, Option<Arc<Destination>>)> {
        let mut done: Vec<Vec<bool>> = vec![];
        for capability in guard.rule.capabilities.iter() {
            let speak: Vec<bool> = counts.iter().map(|a| a.rule.capabilities.contains(capability)).collect();
            // Capabilities that the same rules speak of have the same answer, but for what a recording of them holds.
            let forwards = capability == Capability::Forward;
            if guard.unless.is_none() && !forwards && done.contains(&speak) {
                continue;
            }
            let counting = counting(counts.iter().copied(), super::Capabilities::of([capability]));
            if !forwards {
                done.push(speak);
            }
            let apart = if forwards { destinations } else { &[] };
            let apart = || apart.iter().map(Some).chain(apart.is_empty().then_some(None));
            let accounts = accounts.iter().filter(|a| guard.rule.concerns_account(a.asked()));
            for (account, destination) in accounts.flat_map(|a| apart().map(move |d| (a, d))) {
                let target = forwards.then(|| target_of(destination.map(|d| &**d)));
                if target.as_ref().is_some_and(|t| !guard.rule.concerns_target(Some(t))) {
                    continue;
                }
                let ways = alternatives(&counting, account, posture, capability.tracks(), target.as_ref());
                let harmless = |d: &super::Demands| {
                    guard.unless.as_ref().is_some_and(|u| {
                        let mut wanted = u.clone();
                        wanted.recording = wanted.recording.both(capability.tracks());
                        wanted.within(d)
                    })
                };
                if ways.iter().any(|d| !harmless(d)) {
                    return Some((capability, account.clone(), destination.cloned()));
                }
            }
        }
        None
    }
}

impl Broken {
    /// The breach with names, decided once more by the gate's own question so that it can be believed.
    fn named(self, policy: &Policy, guard: &Guard, people: &Class, machines: &Class) -> Breach {
        let directory = policy.directory();
        let least = |names: Vec<&str>| names.into_iter().min().unwrap_or_default().to_string();
        let person = least(people.members.iter().filter_map(|m| directory.people().get(*m as usize)).map(|p| p.name.as_str()).collect());
        let machine =
            least(machines.members.iter().filter_map(|m| directory.machines().get(*m as usize)).map(|m| m.name.as_str()).collect());
        let at = Timestamp::from_second(self.at).unwrap_or(Timestamp::MIN);
        let account = self.account.name();
        let target = (self.capability == Capability::Forward).then(|| target_of(self.destination.as_deref()));
        let request = Request {
            person: &person,
            capability: self.capability,
            machine: &machine,
            account: Some(self.account.asked()),
            at,
            from: self.origin.example,
            facts: Facts { emergency: true, target: target.as_ref(), ..Facts::default() },
        };
        let because = policy.decide(&request).because;
        Breach {
            guard: guard.rule.name.clone(),
            span: guard.rule.span.clone(),
            person,
            machine,
            capability: self.capability,
            account,
            to: target,
            told_apart: self.destination.is_some(),
            at,
            from: self.origin.example,
            because,
            lacking: guard.unless.is_some(),
        }
    }
}
