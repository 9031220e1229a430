//! The whole finite space of people × machines × capabilities × accounts × addresses × time, cut into classes within which
//! the answer is everywhere the same. Nothing is sampled: a class is a set of people (machines) whom the same rules concern,
//! an atom of addresses lies on the same side of every range, a moment is a set of instants at which the same hours and
//! days are open. Each is asked about once, through [`Counting::way`], which the gate asks too.

use super::calendar::merged;
use super::capability::{Capabilities, Capability, Postures, Tracks};
use super::compile::{Gate, Policy};
use super::decide::Counting;
use super::demand::Demands;
use super::document::{Effect, Network, Rule, Sources};
use super::target::{Destination, ForwardTarget, Targets, destinations_of};
use crate::directory::{Bits, ones};
use std::collections::HashMap;
use std::net::IpAddr;
use std::sync::Arc;

/// Seconds since the epoch, the second exclusive.
pub(super) type Interval = (i64, i64);

/// People or machines whom the same rules concern.
#[derive(Debug, Clone)]
pub(super) struct Class {
    /// Number of the row of rules, in each policy that is looked at; none where they are not in its directory.
    pub(super) rows: Vec<Option<u32>>,
    /// For people when the account is good, in each policy.
    pub(super) windows: Vec<Interval>,
    /// For machines what is known of their good order, in each policy.
    pub(super) postures: Vec<Postures>,
    /// Who is in it, as indices into the first list of names that the space was made of.
    pub(super) members: Vec<u32>,
}

/// An account as far as rules tell accounts apart.
#[derive(Debug, Clone, PartialEq, Eq, Hash, PartialOrd, Ord)]
pub(super) enum Account {
    /// One that a rule names.
    Named(Arc<str>),
    /// Any that no rule names.
    Other,
}

impl Account {
    /// As it is looked up in rules: `*` fits those alone that take any account.
    pub(super) fn asked(&self) -> &str {
        match self {
            Self::Named(name) => name,
            Self::Other => "*",
        }
    }
}

impl Account {
    /// Its name; none for any that no rule names.
    pub(super) fn name(&self) -> Option<Arc<str>> {
        match self {
            Self::Named(name) => Some(name.clone()),
            Self::Other => None,
        }
    }
}

/// Addresses that lie on the same side of every range that matters, with one of them.
#[derive(Debug, Clone, PartialEq, Eq, Hash, PartialOrd, Ord)]
pub(super) struct Origin {
    /// One of them; none where no address is known.
    pub(super) example: Option<IpAddr>,
    /// In words: `anywhere`, `10.20.0.0/16`, `elsewhere`.
    pub(super) text: Arc<str>,
}

impl Origin {
    /// Several of `all` origins as one.
    pub(super) fn joined(origins: &[Arc<Origin>], all: usize) -> Origin {
        match origins {
            [one] if all > 1 => (**one).clone(),
            some if some.len() == all => Origin { example: None, text: "anywhere".into() },
            some => {
                let texts: Vec<&str> = some.iter().map(|o| &*o.text).collect();
                Origin { example: some.first().and_then(|o| o.example), text: crate::wording::list(&texts).into() }
            }
        }
    }
}

/// Instants at which the same gates are open.
#[derive(Debug, Clone)]
pub(super) struct Moment {
    /// Which of the gates are open, in their order.
    pub(super) open: Box<[bool]>,
    /// When, sorted and disjoint.
    pub(super) spans: Vec<Interval>,
}

/// The moments that a set of gates cuts a span of time into.
#[derive(Debug)]
pub(super) struct Timeline {
    pub(super) gates: Box<[u32]>,
    pub(super) moments: Vec<Moment>,
}

/// What rules in common make of every capability, account, origin and moment.
#[derive(Debug)]
pub(super) struct Profile {
    pub(super) timeline: Arc<Timeline>,
    /// The accounts that the rules tell apart, those without access included.
    pub(super) accounts: Vec<Account>,
    pub(super) lines: Vec<Line>,
    /// How many origins there are.
    pub(super) origins: usize,
}

/// The same answer for some capabilities.
#[derive(Debug, Clone, PartialEq, Eq)]
pub(super) struct Line {
    pub(super) capabilities: Capabilities,
    pub(super) account: Account,
    /// Where forwarded ports lead; none for other capabilities, and where rules tell no targets apart.
    pub(super) destination: Option<Arc<Destination>>,
    pub(super) origin: Arc<Origin>,
    /// For each moment the number of the alternatives; 0 for no access.
    pub(super) by_moment: Vec<u32>,
}

/// Different demands of which one must be met: none is stricter than another.
pub(super) type Alternatives = Vec<Demands>;

/// Which rules two things have in common, and in what order the machine is.
pub(super) type Situation = (Box<[u32]>, Postures);

/// Answers about one policy, each worked out once.
pub(super) struct Space<'p> {
    pub(super) policy: &'p Policy,
    pub(super) horizon: Interval,
    gate_spans: Vec<Option<Arc<Vec<Interval>>>>,
    timelines: HashMap<Box<[u32]>, Arc<Timeline>>,
    origins: HashMap<Box<[u32]>, Arc<[Arc<Origin>]>>,
    alternatives: HashMap<Alternatives, u32>,
    listed: Vec<Arc<Alternatives>>,
}

impl<'p> Space<'p> {
    pub(super) fn new(policy: &'p Policy, horizon: Interval) -> Self {
        Self {
            policy,
            horizon,
            gate_spans: vec![None; policy.gates.len()],
            timelines: HashMap::new(),
            origins: HashMap::new(),
            alternatives: HashMap::from([(vec![], 0)]),
            listed: vec![Arc::new(vec![])],
        }
    }

    fn spans_of(&mut self, gate: u32) -> Arc<Vec<Interval>> {
        let at = gate as usize;
        if let Some(Some(known)) = self.gate_spans.get(at) {
            return known.clone();
        }
        let spans = Arc::new(self.policy.gates.get(at).map_or(vec![], |g| spans_of_gate(self.policy, g, self.horizon)));
        if let Some(slot) = self.gate_spans.get_mut(at) {
            *slot = Some(spans.clone());
        }
        spans
    }

    /// The moments of these gates (sorted).
    pub(super) fn timeline(&mut self, gates: &[u32]) -> Arc<Timeline> {
        if let Some(known) = self.timelines.get(gates) {
            return known.clone();
        }
        let lists: Vec<Arc<Vec<Interval>>> = gates.iter().map(|g| self.spans_of(*g)).collect();
        let moments = moments(&lists, self.horizon);
        let timeline = Arc::new(Timeline { gates: gates.into(), moments });
        self.timelines.insert(gates.into(), timeline.clone());
        timeline
    }

    /// The atoms of addresses that these conditions (sorted) tell apart.
    pub(super) fn origins(&mut self, sources: &[u32]) -> Arc<[Arc<Origin>]> {
        if let Some(known) = self.origins.get(sources) {
            return known.clone();
        }
        let lists: Vec<&Sources> = sources.iter().filter_map(|s| self.policy.sources.get(*s as usize)).collect();
        let found: Arc<[Arc<Origin>]> = origins_of(&lists).into_iter().map(Arc::new).collect();
        self.origins.insert(sources.into(), found.clone());
        found
    }

    fn alternatives_id(&mut self, alternatives: Alternatives) -> u32 {
        if let Some(known) = self.alternatives.get(&alternatives) {
            return *known;
        }
        let id = u32::try_from(self.listed.len()).unwrap_or(u32::MAX);
        self.listed.push(Arc::new(alternatives.clone()));
        self.alternatives.insert(alternatives, id);
        id
    }

    /// The alternatives of a number.
    pub(super) fn alternatives(&self, id: u32) -> Arc<Alternatives> {
        self.listed.get(id as usize).cloned().unwrap_or_default()
    }

    /// Every list of alternatives, by number.
    pub(super) fn all_alternatives(&self) -> Vec<Arc<Alternatives>> {
        self.listed.clone()
    }

    /// The gates and sources that rules have, each sorted.
    pub(super) fn conditions(&self, rules: &[u32]) -> (Vec<u32>, Vec<u32>) {
        let conditions = || rules.iter().filter_map(|r| self.policy.conditions.get(*r as usize));
        let sorted = |mut ids: Vec<u32>| {
            ids.sort_unstable();
            ids.dedup();
            ids
        };
        (sorted(conditions().filter_map(|c| c.gate).collect()), sorted(conditions().filter_map(|c| c.source).collect()))
    }

    /// The targets of forwarded ports that these rules tell apart.
    pub(super) fn destinations(&self, rules: &[u32]) -> Vec<Arc<Destination>> {
        destinations_of(&targets_of(self.policy, rules)).into_iter().map(Arc::new).collect()
    }

    /// What the rules of a situation make of everything, over these origins and targets.
    pub(super) fn profile(&mut self, situation: &Situation, origins: &[Arc<Origin>], destinations: &[Arc<Destination>]) -> Profile {
        let policy = self.policy;
        let (gates, _) = self.conditions(&situation.0);
        let timeline = self.timeline(&gates);
        let rules: Vec<Active<'p>> = situation.0.iter().filter_map(|at| Active::new(policy, *at, &gates)).collect();
        let accounts = accounts_of(rules.iter().map(|a| a.rule), &[]);
        let mut lines: Vec<Line> = vec![];
        type Known = (Vec<u32>, Tracks, Option<ForwardTarget>, Vec<u32>);
        let mut known: Vec<Known> = vec![];
        for Group { mask, tracks, capabilities, destination } in groups(&rules, destinations) {
            let forwards = capabilities == Capabilities::of([Capability::Forward]);
            let target = forwards.then(|| target_of(destination.as_deref()));
            for origin in origins {
                let mut by_account: Vec<Vec<u32>> = vec![Vec::with_capacity(timeline.moments.len()); accounts.len()];
                for moment in &timeline.moments {
                    let active = |i: &&u32| rules.get(**i as usize).is_some_and(|r| r.counts(&moment.open, origin.example));
                    let counted: Vec<u32> = mask.iter().filter(active).copied().collect();
                    let ids = match known.iter().find(|(c, t, to, _)| *t == tracks && *c == counted && *to == target) {
                        Some((_, _, _, ids)) => ids.clone(),
                        None => {
                            let counting = counting(counted.iter().filter_map(|i| rules.get(*i as usize)), capabilities);
                            let answer = |a: &Account| alternatives(&counting, a, situation.1, tracks, target.as_ref());
                            let ids: Vec<u32> = accounts.iter().map(answer).map(|a| self.alternatives_id(a)).collect();
                            known.push((counted, tracks, target.clone(), ids.clone()));
                            ids
                        }
                    };
                    by_account.iter_mut().zip(ids).for_each(|(list, id)| list.push(id));
                }
                for (account, by_moment) in accounts.iter().zip(by_account) {
                    if by_moment.iter().any(|id| *id != 0) {
                        let (account, origin, destination) = (account.clone(), origin.clone(), destination.clone());
                        push_line(&mut lines, Line { capabilities, account, destination, origin, by_moment });
                    }
                }
            }
        }
        Profile { timeline, accounts, lines, origins: origins.len() }
    }
}

/// What these rules say of capabilities that all of them speak of alike.
pub(super) fn counting<'a, 'p: 'a>(rules: impl Iterator<Item = &'a Active<'p>>, capabilities: Capabilities) -> Counting<'p> {
    let mut counting = Counting::default();
    let one = capabilities.iter().next();
    rules.for_each(|a| one.into_iter().for_each(|c| counting.add(a.rule, c)));
    counting
}

/// The targets that rules name, one list for each rule that speaks of forwarded ports.
pub(super) fn targets_of<'p>(policy: &'p Policy, rules: &[u32]) -> Vec<&'p Targets> {
    let rules = rules.iter().filter_map(|r| policy.rule(*r as usize));
    rules.filter(|r| r.capabilities.contains(Capability::Forward)).map(|r| &r.targets).collect()
}

/// One of the targets; where rules tell none apart, the machine itself, at a port that no rule names.
pub(super) fn target_of(destination: Option<&Destination>) -> ForwardTarget {
    destination.and_then(Destination::example).unwrap_or_else(|| ForwardTarget::itself(1))
}

/// A rule of a situation, with the place of its gate in the timeline.
pub(super) struct Active<'p> {
    pub(super) rule: &'p Rule,
    gate: Option<usize>,
    source: Option<&'p Sources>,
}

impl<'p> Active<'p> {
    pub(super) fn new(policy: &'p Policy, at: u32, gates: &[u32]) -> Option<Self> {
        let rule = policy.rule(at as usize)?;
        let condition = policy.conditions.get(at as usize)?;
        let gate = condition.gate.and_then(|g| gates.binary_search(&g).ok());
        Some(Self { rule, gate, source: condition.source.and_then(|s| policy.sources.get(s as usize)) })
    }

    pub(super) fn counts(&self, open: &[bool], from: Option<IpAddr>) -> bool {
        let in_time = self.gate.is_none_or(|g| open.get(g).copied().unwrap_or(false));
        in_time && self.source.is_none_or(|s| from.map_or(self.rule.effect != Effect::Allow, |f| s.contain(f)))
    }
}

/// The ways under an account, without those that another makes needless.
pub(super) fn alternatives(
    counting: &Counting<'_>,
    account: &Account,
    posture: Postures,
    tracks: Tracks,
    target: Option<&ForwardTarget>,
) -> Alternatives {
    let asked = account.asked();
    let fits = |r: &&&Rule| r.accounts.iter().any(|a| &**a == "*" || &**a == asked);
    let mut found: Alternatives = vec![];
    for allow in counting.allows.iter().filter(fits) {
        let Ok(way) = counting.way(allow, asked, posture, target) else { continue };
        let mut demands = way.demands;
        demands.recording = demands.recording.both(tracks);
        if !found.iter().any(|other| other.within(&demands)) {
            found.retain(|other| !demands.within(other));
            found.push(demands);
        }
    }
    found.sort_unstable();
    found
}

/// Capabilities that the same of these rules speak of.
struct Group {
    /// Positions of the rules.
    mask: Vec<u32>,
    tracks: Tracks,
    capabilities: Capabilities,
    /// Where forwarded ports lead, where rules tell that apart.
    destination: Option<Arc<Destination>>,
}

fn groups(rules: &[Active<'_>], destinations: &[Arc<Destination>]) -> Vec<Group> {
    let mut groups: Vec<Group> = vec![];
    for capability in Capability::ALL {
        let forwards = capability == Capability::Forward;
        let counts = |r: &Rule| r.capabilities.contains(capability) || (forwards && r.demands_sight());
        let speaks = rules.iter().enumerate().filter(|(_, a)| counts(a.rule));
        let mask: Vec<u32> = speaks.filter_map(|(i, _)| u32::try_from(i).ok()).collect();
        let gives = |r: &Rule| r.effect == Effect::Allow && r.capabilities.contains(capability);
        let allowed = mask.iter().any(|i| rules.get(*i as usize).is_some_and(|a| gives(a.rule)));
        if !allowed {
            continue;
        }
        let (tracks, capabilities) = (capability.tracks(), Capabilities::of([capability]));
        if forwards {
            let apart = destinations.iter().map(|d| Some(d.clone())).chain(destinations.is_empty().then_some(None));
            groups.extend(apart.map(|destination| Group { mask: mask.clone(), tracks, capabilities, destination }));
            continue;
        }
        match groups.iter_mut().find(|g| g.tracks == tracks && g.mask == mask && !g.capabilities.contains(Capability::Forward)) {
            Some(group) => group.capabilities = group.capabilities.union(capabilities),
            None => groups.push(Group { mask, tracks, capabilities, destination: None }),
        }
    }
    groups
}

fn push_line(lines: &mut Vec<Line>, line: Line) {
    let same = |l: &&mut Line| {
        (&l.account, &l.destination, &l.origin, &l.by_moment) == (&line.account, &line.destination, &line.origin, &line.by_moment)
    };
    match lines.iter_mut().find(same) {
        Some(known) => known.capabilities = known.capabilities.union(line.capabilities),
        None => lines.push(line),
    }
}

/// The accounts that rules tell apart, and these.
pub(super) fn accounts_of<'r>(rules: impl Iterator<Item = &'r Rule> + Clone, more: &[Arc<str>]) -> Vec<Account> {
    let any = rules.clone().any(|r| r.effect == Effect::Allow && r.accounts.iter().any(|a| &**a == "*"));
    let names = rules.flat_map(|r| r.accounts.iter()).chain(more).filter(|a| &***a != "*");
    let mut accounts: Vec<Account> = names.map(|a| Account::Named(a.clone())).collect();
    accounts.sort_unstable();
    accounts.dedup();
    accounts.extend(any.then_some(Account::Other));
    accounts
}

/// When a gate is open within a span of time.
fn spans_of_gate(policy: &Policy, gate: &Gate, horizon: Interval) -> Vec<Interval> {
    let (from, to) = (horizon.0.max(gate.begins), horizon.1.min(gate.ends));
    if from >= to {
        return vec![];
    }
    match gate.hours.and_then(|h| policy.calendars.get(h)) {
        Some(calendar) => calendar.intervals(from, to),
        None => vec![(from, to)],
    }
}

/// Cuts a span of time where any of the lists begins or ends, and puts together what looks the same.
pub(super) fn moments(lists: &[Arc<Vec<Interval>>], horizon: Interval) -> Vec<Moment> {
    let mut edges: Vec<(i64, usize, bool)> = vec![];
    for (at, list) in lists.iter().enumerate() {
        edges.extend(list.iter().flat_map(|(begin, end)| [(*begin, at, true), (*end, at, false)]));
    }
    edges.sort_unstable();
    let mut known: HashMap<Box<[bool]>, usize> = HashMap::new();
    let mut found: Vec<Moment> = vec![];
    let mut open: Box<[bool]> = vec![false; lists.len()].into();
    let (mut from, mut next) = (horizon.0, 0);
    while from < horizon.1 {
        while let Some((_, at, opens)) = edges.get(next).filter(|e| e.0 <= from) {
            if let Some(slot) = open.get_mut(*at) {
                *slot = *opens;
            }
            next += 1;
        }
        let to = edges.get(next).map_or(horizon.1, |e| e.0.min(horizon.1));
        let at = *known.entry(open.clone()).or_insert_with(|| {
            found.push(Moment { open: open.clone(), spans: vec![] });
            found.len() - 1
        });
        if let Some(moment) = found.get_mut(at) {
            match moment.spans.last_mut() {
                Some(last) if last.1 == from => last.1 = to,
                _ => moment.spans.push((from, to)),
            }
        }
        from = to;
    }
    found
}

/// What is in both; both sorted and disjoint.
pub(super) fn common(a: &[Interval], window: Interval) -> Vec<Interval> {
    a.iter().map(|(b, e)| ((*b).max(window.0), (*e).min(window.1))).filter(|(b, e)| b < e).collect()
}

/// All of these spans together, sorted and disjoint.
pub(super) fn together<'a>(lists: impl Iterator<Item = &'a [Interval]>) -> Vec<Interval> {
    merged(lists.flatten().copied().collect())
}

/// The atoms of addresses that these conditions tell apart, each with an example; one atom where they are none.
pub(super) fn origins_of(sources: &[&Sources]) -> Vec<Origin> {
    if sources.is_empty() {
        // Any address will do, and is as good as none: only conditions tell them apart.
        return vec![Origin { example: None, text: "anywhere".into() }];
    }
    let mut networks: Vec<Network> = sources.iter().flat_map(|s| s.within.iter().chain(&s.except)).copied().collect();
    networks.sort_unstable();
    networks.dedup();
    let whole = |t: &str| Network::parse(t).ok();
    // The gate knows every address; an unknown one is a question of old logs alone.
    let mut candidates: Vec<(Option<IpAddr>, String)> = vec![];
    for network in &networks {
        candidates.extend(gap(network, &networks).map(|a| (Some(a), network.to_string())));
    }
    for rest in [whole("0.0.0.0/0"), whole("::/0")].into_iter().flatten() {
        candidates.extend(gap(&rest, &networks).map(|a| (Some(a), "elsewhere".into())));
    }
    // Atoms on which every condition agrees are one.
    type Atom = (Vec<Option<bool>>, Option<IpAddr>, Vec<String>);
    let mut found: Vec<Atom> = vec![];
    for (example, text) in candidates {
        let side: Vec<Option<bool>> = sources.iter().map(|s| example.map(|a| s.contain(a))).collect();
        match found.iter_mut().find(|(s, _, _)| *s == side) {
            Some((_, _, texts)) if !texts.contains(&text) => texts.push(text),
            Some(_) => {}
            None => found.push((side, example, vec![text])),
        }
    }
    found.into_iter().map(|(_, example, texts)| Origin { example, text: crate::wording::list(&texts).into() }).collect()
}

/// An address of the network that lies in none of the smaller ones within it.
pub(super) fn gap(network: &Network, all: &[Network]) -> Option<IpAddr> {
    let bits = |a: IpAddr| match a {
        IpAddr::V4(a) => u128::from(a.to_bits()),
        IpAddr::V6(a) => a.to_bits(),
    };
    let (first, last) = network.ends();
    let ends = |n: &Network| (bits(n.ends().0), bits(n.ends().1));
    let inner = |n: &&Network| {
        let ((a, b), (c, d)) = (ends(n), (bits(first), bits(last)));
        n.ends().0.is_ipv4() == first.is_ipv4() && c <= a && b <= d && (a, b) != (c, d)
    };
    let mut within: Vec<(u128, u128)> = all.iter().filter(inner).map(ends).collect();
    within.sort_unstable();
    let mut at = bits(first);
    for (begin, end) in within {
        if at < begin {
            break;
        }
        at = at.max(end.checked_add(1)?);
    }
    (at <= bits(last)).then(|| match first {
        IpAddr::V4(_) => IpAddr::V4(u32::try_from(at).unwrap_or(0).into()),
        IpAddr::V6(_) => IpAddr::V6(at.into()),
    })
}

/// People of these policies by name, put together where no rule of any of them tells them apart.
pub(super) fn people_classes(policies: &[&Policy], names: &[&str]) -> Vec<Class> {
    classes(names, |name| {
        let at = |p: &Policy| p.directory().person_index(name);
        Class {
            rows: policies.iter().map(|p| p.people.class(at(p)?)).collect(),
            windows: policies.iter().map(|p| at(p).and_then(|i| p.standing.get(i)).copied().unwrap_or((0, 0))).collect(),
            postures: vec![],
            members: vec![],
        }
    })
}

/// Machines of these policies by name, put together where no rule of any of them tells them apart.
pub(super) fn machine_classes(policies: &[&Policy], names: &[&str]) -> Vec<Class> {
    let cares: Vec<bool> = policies.iter().map(|p| p.document().rules.iter().any(|r| !r.demands.posture.is_empty())).collect();
    classes(names, |name| {
        let posture =
            |(p, cares): (&&Policy, &bool)| p.directory().machine(name).filter(|_| *cares).map(|m| m.postures()).unwrap_or_default();
        Class {
            rows: policies.iter().map(|p| p.machines.class(p.directory().machine_index(name)?)).collect(),
            windows: vec![],
            postures: policies.iter().zip(&cares).map(posture).collect(),
            members: vec![],
        }
    })
}

fn classes(names: &[&str], class_of: impl Fn(&str) -> Class) -> Vec<Class> {
    type Key = (Vec<Option<u32>>, Vec<Interval>, Vec<Postures>);
    let mut known: HashMap<Key, usize> = HashMap::new();
    let mut found: Vec<Class> = vec![];
    for (i, name) in names.iter().enumerate() {
        let class = class_of(name);
        let at = *known.entry((class.rows.clone(), class.windows.clone(), class.postures.clone())).or_insert_with(|| {
            found.push(class);
            found.len() - 1
        });
        if let (Some(class), Ok(i)) = (found.get_mut(at), u32::try_from(i)) {
            class.members.push(i);
        }
    }
    found
}

/// For each machine class the allows that concern it, turned around: which machine classes an `allow` can matter on.
pub(super) struct Reachable<'p> {
    policy: &'p Policy,
    which: usize,
    by_rule: HashMap<u32, Bits>,
    count: usize,
}

impl<'p> Reachable<'p> {
    pub(super) fn new(policy: &'p Policy, which: usize, machines: &[Class]) -> Self {
        let mut by_rule: HashMap<u32, Bits> = HashMap::new();
        let allow = |at: u32| policy.conditions.get(at as usize).is_some_and(|c| c.effect == Effect::Allow);
        for (i, class) in machines.iter().enumerate() {
            for at in bits_of(class.rows.get(which).copied().flatten().map_or(&[], |r| policy.machines.row(r))).filter(|at| allow(*at)) {
                by_rule.entry(at).or_insert_with(|| Bits::none(machines.len())).insert(i);
            }
        }
        Self { policy, which, by_rule, count: machines.len() }
    }

    /// The machine classes on which any `allow` concerns people of this class.
    pub(super) fn from(&self, person: &Class) -> Bits {
        let mut found = Bits::none(self.count);
        let row = person.rows.get(self.which).copied().flatten().map_or(&[][..], |r| self.policy.people.row(r));
        bits_of(row).filter_map(|at| self.by_rule.get(&at)).for_each(|b| found.add(b));
        found
    }
}

fn bits_of(row: &[u64]) -> impl Iterator<Item = u32> {
    row.iter().enumerate().flat_map(|(at, word)| ones(*word).filter_map(move |bit| u32::try_from(at * 64 + bit).ok()))
}

/// The rules that two classes have in common.
pub(super) fn shared(policy: &Policy, which: usize, person: &Class, machine: &Class) -> Vec<u32> {
    let (Some(p), Some(m)) = (person.rows.get(which).copied().flatten(), machine.rows.get(which).copied().flatten()) else {
        return vec![];
    };
    let words = policy.people.row(p).iter().zip(policy.machines.row(m)).map(|(a, b)| a & b);
    words.enumerate().flat_map(|(at, word)| ones(word).filter_map(move |bit| u32::try_from(at * 64 + bit).ok())).collect()
}

/// What two classes have in common, guardrails left out: they decide nothing.
pub(super) fn situation(policy: &Policy, which: usize, person: &Class, machine: &Class) -> Situation {
    let rules = policy.document().rules.len();
    let mut both = shared(policy, which, person, machine);
    both.retain(|r| (*r as usize) < rules);
    (both.into(), machine.postures.get(which).copied().unwrap_or_default())
}

#[cfg(test)]
mod tests {
    use super::*;

    fn sources(within: &[&str], except: &[&str]) -> Sources {
        let read = |list: &[&str]| list.iter().map(|t| Network::parse(t).unwrap()).collect();
        Sources { within: read(within), except: read(except) }
    }

    #[test]
    fn every_side_of_every_range_has_an_example() {
        let a = sources(&["10.20.0.0/16"], &["10.20.9.0/24"]);
        let b = sources(&["10.20.0.0/15", "2001:db8::/32"], &[]);
        let shown: Vec<String> = origins_of(&[&a, &b]).iter().map(|o| o.text.to_string()).collect();
        assert_eq!(shown, ["10.20.0.0/15, 10.20.9.0/24 and 2001:db8::/32", "10.20.0.0/16", "elsewhere"]);
    }

    #[test]
    fn a_network_filled_by_smaller_ones_has_no_address_of_its_own() {
        let read = |t: &str| Network::parse(t).unwrap();
        let all = [read("10.0.0.0/8"), read("10.0.0.0/9"), read("10.128.0.0/9")];
        assert_eq!(gap(&all[0], &all), None);
        assert_eq!(gap(&read("0.0.0.0/0"), &all).map(|a| a.to_string()), Some("0.0.0.0".into()));
        assert_eq!(gap(&read("10.0.0.0/7"), &all).map(|a| a.to_string()), Some("11.0.0.0".into()));
    }

    #[test]
    fn moments_cover_the_span_of_time_once() {
        let lists = [Arc::new(vec![(10, 20), (30, 40)]), Arc::new(vec![(15, 35)])];
        let found = moments(&lists, (0, 50));
        let all: Vec<_> = found.iter().map(|m| (m.open.to_vec(), m.spans.clone())).collect();
        assert_eq!(
            all,
            [
                (vec![false, false], vec![(0, 10), (40, 50)]),
                (vec![true, false], vec![(10, 15), (35, 40)]),
                (vec![true, true], vec![(15, 20), (30, 35)]),
                (vec![false, true], vec![(20, 30)]),
            ]
        );
    }
}
