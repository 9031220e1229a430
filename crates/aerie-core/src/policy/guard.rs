//! Guardrails, proved over the whole finite space: every class of people and machines, every capability, account and address,
//! and every moment of the coming year.

use super::capability::Capability;
use super::compile::Policy;
use super::decide::{Counting, Request, RuleRef};
use super::demand::Facts;
use super::document::{Effect, Guard, Place, Sources};
use super::space::{
    Account, Active, Class, Interval, Origin, Reachable, Space, accounts_of, alternatives, common, machine_classes, origins_of,
    people_classes, shared,
};
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
    /// The first instant at which it is possible.
    pub at: Timestamp,
    /// From which address; none where any will do.
    pub from: Option<std::net::IpAddr>,
    /// The rules that make it possible, as the gate would cite them.
    pub because: Vec<RuleRef>,
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
        let without = if self.lacking { ", without what the guardrail asks for" } else { "" };
        format!(
            "{person} could {} {} as {account} on {}{from}{without} ({})",
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
                let hit = self.broken(guard, &counts, &accounts, posture);
                if let Some((capability, account)) = hit
                    && earliest.as_ref().is_none_or(|e| first < e.at)
                {
                    earliest = Some(Broken { at: first, capability, account, origin: origin.clone() });
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
        posture: super::Postures,
    ) -> Option<(Capability, Account)> {
        let mut done: Vec<Vec<bool>> = vec![];
        for capability in guard.rule.capabilities.iter() {
            let speak: Vec<bool> = counts.iter().map(|a| a.rule.capabilities.contains(capability)).collect();
            // Capabilities that the same rules speak of have the same answer, but for what a recording of them holds.
            if guard.unless.is_none() && done.contains(&speak) {
                continue;
            }
            let mut counting = Counting::default();
            counts.iter().zip(&speak).filter(|(_, s)| **s).for_each(|(a, _)| counting.add(a.rule));
            done.push(speak);
            for account in accounts.iter().filter(|a| guard.rule.concerns_account(a.asked())) {
                let ways = alternatives(&counting, account, posture, capability.tracks());
                let harmless = |d: &super::Demands| {
                    guard.unless.as_ref().is_some_and(|u| {
                        let mut wanted = u.clone();
                        wanted.recording = wanted.recording.both(capability.tracks());
                        wanted.within(d)
                    })
                };
                if ways.iter().any(|d| !harmless(d)) {
                    return Some((capability, account.clone()));
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
        let request = Request {
            person: &person,
            capability: self.capability,
            machine: &machine,
            account: Some(self.account.asked()),
            at,
            from: self.origin.example,
            facts: Facts { emergency: true, ..Facts::default() },
        };
        let because = policy.decide(&request).because;
        Breach {
            guard: guard.rule.name.clone(),
            span: guard.rule.span.clone(),
            person,
            machine,
            capability: self.capability,
            account,
            at,
            from: self.origin.example,
            because,
            lacking: guard.unless.is_some(),
        }
    }
}
