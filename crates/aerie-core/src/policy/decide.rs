//! The one decision.

use super::capability::{Capability, Factor, Factors, Postures};
use super::compile::Policy;
use super::demand::{Demands, Facts, Missing};
use super::document::{Effect, Rule, WORK, are_of_sight};
use super::target::ForwardTarget;
use jiff::{SignedDuration, Timestamp};
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
    pub facts: Facts<'a>,
}

impl<'a> Request<'a> {
    /// Where the port leads that is to be forwarded; none for other capabilities, and where it is not said.
    pub fn target(&self) -> Option<&'a ForwardTarget> {
        self.facts.target.filter(|_| self.capability == Capability::Forward)
    }
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
    /// What is demanded of it, before and while it lasts.
    pub demands: Demands,
    /// What the machine should be and is not: the person is warned.
    pub warnings: Postures,
    /// It is granted because the person declared an emergency.
    pub emergency: bool,
    /// The pass that stands for an approval; none where none was needed.
    pub pass: Option<Arc<str>>,
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
    /// The rule gives ports that lead elsewhere only.
    Target,
    /// Sessions there are recorded, and no rule names the port.
    UnnamedPort,
    /// The rule gives it from other addresses only.
    Address,
    /// The rule gives it at other hours only.
    Hours,
    /// The machine is not in the good order that the rules demand.
    Posture,
    /// Nobody new is let in.
    LockedDown,
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
/// let forged = aerie_core::policy::AccessGranted { grant: todo!(), capability: todo!(), target: None, holds_until: None };
/// ```
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct AccessGranted {
    grant: Grant,
    capability: Capability,
    target: Option<ForwardTarget>,
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

    /// Where the port leads that may be forwarded; none for other capabilities.
    pub fn target(&self) -> Option<&ForwardTarget> {
        self.target.as_ref()
    }

    /// The grant, with what another one demands besides: what is reached through a machine obeys the rules of both.
    #[must_use]
    pub fn and(mut self, other: &AccessGranted) -> Self {
        self.grant.demands.add(&other.grant.demands);
        self.holds_until = [self.holds_until, other.holds_until].into_iter().flatten().min();
        self
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
                let target = request.target().cloned();
                Some(AccessGranted { grant: grant.clone(), capability: request.capability, target, holds_until: self.holds_until })
            }
            Outcome::Unmet { .. } | Outcome::Refused(_) => None,
        }
    }

    fn refused(refusal: Refusal) -> Self {
        Self { outcome: Outcome::Refused(refusal), because: vec![], holds_until: None }
    }
}

/// What becomes of an `allow` under one account: everything that is demanded together, or what stands against it.
pub(super) struct Way<'p> {
    pub(super) demands: Demands,
    pub(super) added: Vec<&'p Rule>,
}

/// The rules that count here and now, by what they do.
#[derive(Default)]
pub(super) struct Counting<'p> {
    pub(super) allows: Vec<&'p Rule>,
    pub(super) forbids: Vec<&'p Rule>,
    pub(super) requires: Vec<&'p Rule>,
    /// Rules demand that what is done there is recorded: a port behind which a shell may listen is no way around it.
    pub(super) in_sight: bool,
}

impl<'p> Counting<'p> {
    /// Takes a rule for a question about this capability.
    pub(super) fn add(&mut self, rule: &'p Rule, capability: Capability) {
        self.in_sight |= capability == Capability::Forward && rule.demands_sight();
        if !rule.capabilities.contains(capability) {
            return;
        }
        match rule.effect {
            Effect::Allow => self.allows.push(rule),
            Effect::Forbid => self.forbids.push(rule),
            Effect::Require => self.requires.push(rule),
            Effect::Never => {}
        }
    }

    /// What the rules make of one `allow` under one account. Every question of Aerie comes here: the gate, the map of who
    /// reaches what, the comparison, the guardrails.
    pub(super) fn way(
        &self,
        allow: &'p Rule,
        account: &str,
        machine: Postures,
        target: Option<&ForwardTarget>,
    ) -> Result<Way<'p>, (Refusal, Option<&'p Rule>)> {
        if !allow.concerns_target(target) {
            return Err((Refusal::Target, Some(allow)));
        }
        let concerned = |r: &&&Rule| r.concerns_account(account) && r.concerns_target(target);
        if let Some(forbid) = self.forbids.iter().filter(concerned).min_by_key(|r| &r.name) {
            return Err((Refusal::Forbidden, Some(forbid)));
        }
        let added: Vec<&Rule> = self.requires.iter().filter(concerned).copied().collect();
        let mut demands = allow.demands.clone();
        added.iter().for_each(|r| demands.add(&r.demands));
        if allow.emergency {
            demands.in_emergency();
        }
        if let Some(target) = target
            && (self.in_sight || are_of_sight(demands.recording))
            && !target.is_registered()
            && !allow.targets.name_port_of(target)
        {
            return Err((Refusal::UnnamedPort, Some(allow)));
        }
        if !demands.posture.within(machine) {
            let cause = std::iter::once(allow).chain(added).filter(|r| !r.demands.posture.within(machine)).min_by_key(|r| &r.name);
            return Err((Refusal::Posture, cause));
        }
        Ok(Way { demands, added })
    }
}

/// An `allow` with everything that is demanded on top of it.
struct Candidate<'p> {
    rule: &'p Rule,
    missing: Missing,
    grant: Grant,
    added: Vec<&'p Rule>,
    /// When the pass that was used begins or ends.
    edge: Option<Timestamp>,
}

impl Candidate<'_> {
    /// Smaller is better: least missing, longest limits, and the name, so that the order of rules never matters.
    fn rank(&self) -> (u32, std::cmp::Reverse<(SignedDuration, SignedDuration)>, &str) {
        let long = |d: Option<SignedDuration>| d.unwrap_or(SignedDuration::MAX);
        let limits = (long(self.grant.demands.limits.session), long(self.grant.demands.limits.idle));
        (self.missing.count(), std::cmp::Reverse(limits), &self.rule.name)
    }
}

impl super::Pass {
    /// Whether it is good for this use now.
    fn holds(&self, request: &Request<'_>) -> bool {
        self.concerns(request) && self.from <= request.at && request.at < self.until
    }
}

/// Seconds by which a proof may lie ahead of the question, as clocks that are set a little do to it.
const CLOCK_SLACK: i64 = 60;

impl Policy {
    /// Decides. Pure: the same policy and request give the same answer.
    ///
    /// Cost: docs/benchmarks.md has what was measured; it grows with the rules that concern this person, machine and
    /// capability, hardly with those that do not.
    pub fn decide(&self, request: &Request<'_>) -> Decision {
        let Some(person_at) = self.directory.person_index(request.person) else {
            return Decision::refused(Refusal::UnknownPerson);
        };
        let Some(machine_at) = self.directory.machine_index(request.machine) else {
            return Decision::refused(Refusal::UnknownMachine);
        };
        let mut clock = Clock { policy: self, at: request.at, next: None };
        let (begins, ends) = self.standing.get(person_at).copied().unwrap_or((0, 0));
        if !clock.within(begins, ends) {
            return Decision { holds_until: clock.next, ..Decision::refused(Refusal::Standing) };
        }
        let mut counting = Counting::default();
        let mut nearest = (Refusal::NoRule, None);
        for at in self.common(person_at, machine_at, request.capability, true) {
            let Some(rule) = self.document.rules.get(at) else { continue };
            match clock.misses(at, request.from) {
                None => counting.add(rule, request.capability),
                Some(miss) => nearer(&mut nearest, (miss, Some(rule))),
            }
        }
        if counting.allows.is_empty() {
            // What forbids and requires has nothing to act on, and only an `allow` can change that.
            return clock.conclude(None, nearest, &request.facts);
        }
        for at in self.common(person_at, machine_at, request.capability, false) {
            let Some(rule) = self.document.rules.get(at) else { continue };
            if clock.misses(at, request.from).is_none() {
                counting.add(rule, request.capability);
            }
        }
        if request.target().is_some() {
            for at in WORK.iter().flat_map(|c| [true, false].map(|allows| self.common(person_at, machine_at, *c, allows))).flatten() {
                let Some(rule) = self.document.rules.get(at).filter(|r| !r.capabilities.contains(Capability::Forward)) else { continue };
                if clock.misses(at, request.from).is_none() {
                    counting.add(rule, request.capability);
                }
            }
        }
        let mut best: Option<Candidate<'_>> = None;
        for rule in counting.allows.iter().filter(|r| !r.emergency || request.facts.emergency) {
            match self.candidate(rule, machine_at, &counting, request) {
                Ok(candidate) if best.as_ref().is_none_or(|b| candidate.rank() < b.rank()) => best = Some(candidate),
                Ok(_) => {}
                Err(against) => nearer(&mut nearest, against),
            }
        }
        clock.conclude(best, nearest, &request.facts)
    }

    /// Whether any rule lets this person act on the machine in this account, at whatever hour and under whatever demands: what such an
    /// account says there may come from them, or from a process that they left.
    pub fn may_ever_act_as(&self, person: &str, machine: &str, account: &str) -> bool {
        let Some((person, machine)) = self.directory.person_index(person).zip(self.directory.machine_index(machine)) else {
            return false;
        };
        let acting = Capability::ALL.into_iter().filter(|c| c.is_of_sessions() && c.acts());
        let rules = acting.flat_map(|c| self.common(person, machine, c, true)).filter_map(|at| self.document.rules.get(at));
        rules.into_iter().any(|r| r.concerns_account(account))
    }

    /// The `allow` with every demand, under the first account that nothing forbids.
    fn candidate<'p>(
        &self,
        rule: &'p Rule,
        machine_at: usize,
        counting: &Counting<'p>,
        request: &Request<'_>,
    ) -> Result<Candidate<'p>, (Refusal, Option<&'p Rule>)> {
        let machine = self.directory.machines().get(machine_at);
        let posture = machine.map_or(Postures::NONE, |m| m.postures());
        let mut why = (Refusal::Account, Some(rule));
        for account in offered(rule, machine.map_or(&[][..], |m| &m.accounts), request.account) {
            match counting.way(rule, &account, posture, request.target()) {
                Err(against) => why = against,
                // Whoever is in already stays in; and what they do there may be overseen.
                Ok(_)
                    if request.facts.locked_down
                        && request.facts.begun.is_none()
                        && request.capability != Capability::Watch
                        && !rule.emergency =>
                {
                    why = (Refusal::LockedDown, None);
                }
                Ok(Way { mut demands, added }) => {
                    let missing = self.missing(&demands, request);
                    let warnings = demands.warn.without(posture);
                    let (pass, edge) = self.pass_used(&mut demands, request);
                    let grant = Grant { account, demands, warnings, emergency: rule.emergency, pass };
                    return Ok(Candidate { rule, missing, grant, added, edge });
                }
            }
        }
        Err(why)
    }

    /// What is demanded and not there.
    fn missing(&self, demands: &Demands, request: &Request<'_>) -> Missing {
        let facts = &request.facts;
        let proved = facts.proofs.factors();
        let since = facts.begun.unwrap_or(request.at);
        let stale = |f: &Factor| {
            let limit = demands.fresh.get(*f as usize).copied().unwrap_or(0);
            let age = facts.proofs.when(*f).map_or(0, |t| since.duration_since(t).as_secs());
            // A proof that lies ahead is from before the clock went back: nobody knows how old it is.
            let ahead = facts.begun.is_none() && age < -CLOCK_SLACK;
            limit > 0 && (age >= i64::from(limit) || ahead)
        };
        let ticket = |id: &&u16| {
            let pattern = self.document.tickets.get(usize::from(**id));
            !facts.ticket.is_some_and(|t| !t.is_empty() && pattern.is_some_and(|p| crate::directory::selector::glob(p, t)))
        };
        Missing {
            factors: demands.factors.without(proved),
            stale: Factors::of(demands.factors.both(proved).iter().filter(stale)),
            assurance: (proved.assurance() < demands.assurance).then_some(demands.assurance),
            consent: demands.consent.filter(|c| facts.consent < Some(*c)),
            approvals: demands.approvals.iter().copied().filter(|id| !self.approved(*id, request)).collect(),
            tickets: demands.tickets.iter().filter(ticket).copied().collect(),
            reason: demands.reason && !facts.reason,
            device: demands.device && !facts.managed_device,
            recording: demands.recording.both(request.capability.tracks()).without(facts.recorded),
            sessions: demands.limits.sessions.filter(|most| facts.sessions >= *most),
        }
    }

    /// Whether enough different people approved who may, the person themselves left out.
    fn approved(&self, id: u16, request: &Request<'_>) -> bool {
        let (Some(approval), Some(may)) = (self.document.approvals.get(usize::from(id)), self.approvers.get(usize::from(id))) else {
            return false;
        };
        let counts = |name: &&&str| **name != request.person && self.directory.person_index(name).is_some_and(|p| may.contains(p));
        let passes = request.facts.passes.iter().filter(|p| p.holds(request));
        let on_passes: Vec<&str> = passes.flat_map(|p| p.approved_by.iter().map(String::as_str)).collect();
        let names: std::collections::BTreeSet<&&str> = request.facts.approved_by.iter().chain(&on_passes).filter(counts).collect();
        names.len() >= usize::from(approval.count)
    }

    /// Names of those who may give an approval.
    pub(crate) fn approver_names(&self, id: u16) -> impl Iterator<Item = &str> {
        let may = self.approvers.get(usize::from(id));
        may.into_iter().flat_map(|m| m.iter()).filter_map(|i| self.directory.people().get(i)).map(|p| p.name.as_str())
    }

    /// The pass on which an approval that is demanded rests, whose limit then counts; and when a pass next begins or ends.
    fn pass_used(&self, demands: &mut Demands, request: &Request<'_>) -> (Option<Arc<str>>, Option<Timestamp>) {
        if demands.approvals.is_empty() {
            return (None, None);
        }
        let concern = || request.facts.passes.iter().filter(|p| p.concerns(request));
        let edge = concern().flat_map(|p| [p.from, p.until]).filter(|t| *t > request.at).min();
        // Of several the one that lasts longest, so that one more never narrows.
        let used = concern().filter(|p| p.holds(request)).max_by_key(|p| (p.session_s.unwrap_or(u32::MAX), p.until, &p.id));
        if let Some(limit) = used.and_then(|p| p.session_s) {
            let limit = SignedDuration::from_secs(limit.into());
            demands.limits.session = Some(demands.limits.session.map_or(limit, |l| l.min(limit)));
        }
        (used.map(|p| p.id.as_str().into()), edge)
    }
}

/// Keeps the reason that came nearest; of two alike the one whose rule has the smaller name, so that order never matters.
fn nearer<'p>(known: &mut (Refusal, Option<&'p Rule>), other: (Refusal, Option<&'p Rule>)) {
    let name = |r: &(Refusal, Option<&'p Rule>)| r.1.map(|r| r.name.clone());
    if other.0 > known.0 || (other.0 == known.0 && (known.1.is_none() || name(&other) < name(known))) {
        *known = other;
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

/// The instant of the decision, and the next one at which anything that was looked at changes.
struct Clock<'p> {
    policy: &'p Policy,
    at: Timestamp,
    next: Option<Timestamp>,
}

impl Clock<'_> {
    fn changes_at(&mut self, instant: Option<Timestamp>) {
        let later = instant.filter(|i| *i > self.at);
        self.next = match (self.next, later) {
            (Some(a), Some(b)) => Some(a.min(b)),
            (a, b) => a.or(b),
        };
    }

    /// Whether the instant lies between two (seconds since the epoch, the second exclusive).
    fn within(&mut self, begins: i64, ends: i64) -> bool {
        let edge = |t: i64| if t == i64::MIN || t == i64::MAX { None } else { Timestamp::from_second(t).ok() };
        self.changes_at(edge(begins));
        self.changes_at(edge(ends));
        let now = self.at.as_second();
        begins <= now && now < ends
    }

    /// The first reason for which the rule does not count now, from there.
    fn misses(&mut self, rule: usize, from: Option<IpAddr>) -> Option<Refusal> {
        let condition = self.policy.conditions.get(rule)?;
        let mut miss = None;
        if let Some(gate) = condition.gate.and_then(|g| self.policy.gates.get(g as usize)) {
            if let Some(calendar) = gate.hours.and_then(|h| self.policy.calendars.get(h)) {
                let opening = calendar.at(self.at);
                self.changes_at(opening.until);
                if !opening.open {
                    miss = Some(Refusal::Hours);
                }
            }
            if !self.within(gate.begins, gate.ends) {
                miss = Some(Refusal::Days);
            }
        }
        if let Some(sources) = condition.source.and_then(|s| self.policy.sources.get(s as usize)) {
            // What is not known must not widen access: an `allow` does not count then, a `forbid` or `require` does.
            let fits = from.map_or(condition.effect != Effect::Allow, |f| sources.contain(f));
            if !fits && miss != Some(Refusal::Days) {
                miss = Some(Refusal::Address);
            }
        }
        miss
    }

    fn conclude(mut self, best: Option<Candidate<'_>>, nearest: (Refusal, Option<&Rule>), facts: &Facts<'_>) -> Decision {
        let Some(Candidate { rule, missing, grant, added, edge }) = best else {
            let because = nearest.1.into_iter().map(RuleRef::from).collect();
            return Decision { outcome: Outcome::Refused(nearest.0), because, holds_until: self.next };
        };
        self.changes_at(edge);
        if facts.begun.is_none() {
            // A proof that is fresh now will be too old.
            for factor in grant.demands.factors.iter() {
                let limit = grant.demands.fresh.get(factor as usize).copied().unwrap_or(0);
                let proved = facts.proofs.when(factor).filter(|_| limit > 0);
                self.changes_at(proved.and_then(|t| t.checked_add(SignedDuration::from_secs(limit.into())).ok()));
            }
        }
        let holds_until = self.next;
        let because = std::iter::once(rule).chain(added).map(RuleRef::from).collect();
        let outcome = if missing.is_nothing() { Outcome::Granted(grant) } else { Outcome::Unmet { missing, grant } };
        Decision { outcome, because, holds_until }
    }
}
