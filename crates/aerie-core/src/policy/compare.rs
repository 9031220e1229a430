//! What changes between two policies (or the same rules over two directories): exactly who gains and loses what, where and
//! when, and which demands become weaker or stronger.

use super::capability::{Capabilities, Capability};
use super::compile::Policy;
use super::demand::Demands;
use super::reach::spans_of;
use super::space::{
    Account, Class, Interval, Line, Moment, Origin, Profile, Reachable, Situation, Space, Timeline, common, machine_classes, moments,
    origins_of, people_classes, situation, targets_of, together,
};
use super::target::{Destination, destinations_of};
use crate::wording;
use jiff::{SignedDuration, Timestamp};
use std::collections::{BTreeMap, BTreeSet, HashMap};
use std::sync::Arc;

/// What becomes of an access.
#[derive(Debug, Clone, Copy, PartialEq, Eq, PartialOrd, Ord, Hash, serde::Serialize)]
#[serde(rename_all = "lowercase")]
pub enum Turn {
    /// There was none, and now there is.
    Gains,
    /// There was one, and now there is none.
    Loses,
    /// Less is demanded than before.
    Easier,
    /// More is demanded than before.
    Harder,
    /// Something else is demanded than before: less of one thing, more of another.
    Different,
}

impl Turn {
    /// Every turn, the one that matters most first.
    pub const ALL: [Turn; 5] = [Self::Gains, Self::Easier, Self::Loses, Self::Harder, Self::Different];

    /// Its stable word.
    pub fn word(self) -> &'static str {
        match self {
            Self::Gains => "gains",
            Self::Loses => "loses",
            Self::Easier => "easier",
            Self::Harder => "harder",
            Self::Different => "different",
        }
    }
}

/// One change, of some people on some machines.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Change {
    /// What becomes of the access.
    pub turn: Turn,
    /// Names of the people, sorted.
    pub people: Vec<String>,
    /// Names of the machines, sorted.
    pub machines: Vec<String>,
    /// Which capabilities.
    pub capabilities: Capabilities,
    /// Account on the machine; none for any that no rule names.
    pub account: Option<Arc<str>>,
    /// Where forwarded ports may lead, in words; none where that is the machine itself, and for other capabilities.
    pub to: Option<Arc<str>>,
    /// From where, in words.
    pub from: Arc<str>,
    /// When, in words.
    pub when: String,
    /// When, within the span of time that was looked at: seconds since the epoch, sorted and disjoint.
    pub spans: Vec<(i64, i64)>,
    /// The first instant at which it is so.
    pub first: Timestamp,
    /// How long it is so within the span of time that was looked at.
    pub lasts: SignedDuration,
    /// What was demanded before, each alternative in words.
    pub before: Vec<Vec<String>>,
    /// What is demanded after, each alternative in words.
    pub after: Vec<Vec<String>>,
}

impl Change {
    /// How many people × machines × capabilities it concerns.
    pub fn size(&self) -> u64 {
        self.people.len() as u64 * self.machines.len() as u64 * u64::from(self.capabilities.len())
    }
}

/// Everything that changes. The largest effect comes first; nothing is left out.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Comparison {
    /// The changes.
    pub changes: Vec<Change>,
    /// The span of time that was looked at.
    pub horizon: (Timestamp, Timestamp),
}

impl Comparison {
    /// How many people × machines × capabilities turn this way.
    pub fn count(&self, turn: Turn) -> u64 {
        self.changes.iter().filter(|c| c.turn == turn).map(Change::size).sum()
    }

    /// How things stand, in one sentence.
    pub fn sentence(&self) -> String {
        if self.changes.is_empty() {
            return "Nobody gains or loses anything.".into();
        }
        let people = |turn: Turn| -> BTreeSet<&String> { self.changes.iter().filter(|c| c.turn == turn).flat_map(|c| &c.people).collect() };
        let part = |turn: Turn, one: &str, many: &str| {
            let n = people(turn).len();
            let who = if n == 1 { "1 person".to_string() } else { format!("{n} people") };
            (n > 0).then(|| format!("{who} {}", if n == 1 { one } else { many }))
        };
        let parts: Vec<String> = [
            part(Turn::Gains, "gains access", "gain access"),
            part(Turn::Easier, "needs less", "need less"),
            part(Turn::Loses, "loses access", "lose access"),
            part(Turn::Harder, "needs more", "need more"),
            part(Turn::Different, "needs something else", "need something else"),
        ]
        .into_iter()
        .flatten()
        .collect();
        format!("{}.", wording::list(&parts))
    }
}

/// A change of one pair of classes.
#[derive(Debug, Clone, PartialEq, Eq, Hash)]
struct Delta {
    turn: Turn,
    account: Account,
    destination: Option<Arc<Destination>>,
    origin: Arc<Origin>,
    when: u32,
    before: u32,
    after: u32,
    capabilities: Capabilities,
}

/// Demands as words, sorted: what can be compared across two documents, whose numbers for approvals and tickets differ.
type Spoken = Vec<Vec<String>>;

type Origins = Arc<[Arc<Origin>]>;
type Destinations = Arc<[Arc<Destination>]>;
type Profiles = HashMap<(Situation, Origins, Destinations), Arc<Profile>>;

struct Joint<'p> {
    policies: [&'p Policy; 2],
    spaces: [Space<'p>; 2],
    horizon: Interval,
    origins: HashMap<(Vec<u32>, Vec<u32>), Origins>,
    profiles: [Profiles; 2],
    timelines: HashMap<(usize, usize, Interval, Interval), Arc<JointTimeline>>,
    /// Each different set of instants, with the words for it.
    times: Vec<(Vec<Interval>, String)>,
    time_at: HashMap<Vec<Interval>, u32>,
    turns: HashMap<(u32, u32), Option<Turn>>,
}

/// The moments of two timelines laid over each other.
struct JointTimeline {
    /// For each moment, which of the first and of the second it is; none outside of the account's days.
    pairs: Vec<(Option<usize>, Option<usize>)>,
    spans: Vec<Vec<Interval>>,
}

/// Compares two policies over a span of time: what `after` changes against `before`.
pub fn compare(before: &Policy, after: &Policy, from: Timestamp, to: Timestamp) -> Comparison {
    let policies = [before, after];
    let names = |of: fn(&Policy) -> Vec<&str>| -> Vec<&str> {
        let all: BTreeSet<&str> = of(before).into_iter().chain(of(after)).collect();
        all.into_iter().collect()
    };
    let people_names = names(|p| p.directory().people().iter().map(|p| p.name.as_str()).collect());
    let machine_names = names(|p| p.directory().machines().iter().map(|m| m.name.as_str()).collect());
    let (people, machines) = (people_classes(&policies, &people_names), machine_classes(&policies, &machine_names));
    let horizon = (from.as_second(), to.as_second());
    let mut joint = Joint {
        policies,
        spaces: [Space::new(before, horizon), Space::new(after, horizon)],
        horizon,
        origins: HashMap::new(),
        profiles: [HashMap::new(), HashMap::new()],
        timelines: HashMap::new(),
        times: vec![],
        time_at: HashMap::new(),
        turns: HashMap::new(),
    };
    let grouped = joint.walk(&people, &machines);
    let mut changes = vec![];
    for (delta, rectangles) in grouped {
        for (person_classes, machine_classes) in rectangles {
            let named = |classes: &[Class], which: &[u32], names: &[&str]| -> Vec<String> {
                let members = which.iter().filter_map(|c| classes.get(*c as usize)).flat_map(|c| &c.members);
                let mut all: Vec<String> = members.filter_map(|m| names.get(*m as usize)).map(ToString::to_string).collect();
                all.sort_unstable();
                all
            };
            let (people, machines) = (named(&people, &person_classes, &people_names), named(&machines, &machine_classes, &machine_names));
            changes.push(joint.change(&delta, people, machines));
        }
    }
    let weight = |c: &Change| (u128::from(c.size())) * u128::try_from(c.lasts.as_secs()).unwrap_or(0);
    changes.sort_by(|a, b| {
        weight(b).cmp(&weight(a)).then_with(|| (a.turn, &a.people, &a.machines, &a.when).cmp(&(b.turn, &b.people, &b.machines, &b.when)))
    });
    Comparison { changes, horizon: (from, to) }
}

type Rectangles = Vec<(Vec<u32>, Vec<u32>)>;

impl<'p> Joint<'p> {
    /// Every pair of classes whose answer differs, grouped by what differs.
    fn walk(&mut self, people: &[Class], machines: &[Class]) -> Vec<(Delta, Rectangles)> {
        let [before, after] = self.policies;
        let reachable = [Reachable::new(before, 0, machines), Reachable::new(after, 1, machines)];
        type Key = ([Situation; 2], [Interval; 2]);
        let mut known: HashMap<Key, Arc<[Delta]>> = HashMap::new();
        let mut pairs: HashMap<Delta, BTreeMap<u32, Vec<u32>>> = HashMap::new();
        for (p, person) in people.iter().enumerate() {
            let [mut either, other] = [reachable[0].from(person), reachable[1].from(person)];
            either.add(&other);
            for m in either.iter() {
                let Some(machine) = machines.get(m) else { continue };
                let window = |which: usize| person.windows.get(which).copied().unwrap_or((0, 0));
                let key: Key = ([situation(before, 0, person, machine), situation(after, 1, person, machine)], [window(0), window(1)]);
                let deltas = match known.get(&key) {
                    Some(deltas) => deltas.clone(),
                    None => {
                        let deltas: Arc<[Delta]> = self.deltas(&key.0, key.1).into();
                        known.insert(key, deltas.clone());
                        deltas
                    }
                };
                for delta in deltas.iter() {
                    let row = pairs.entry(delta.clone()).or_default();
                    if let (Ok(p), Ok(m)) = (u32::try_from(p), u32::try_from(m)) {
                        row.entry(p).or_default().push(m);
                    }
                }
            }
        }
        pairs.into_iter().map(|(delta, rows)| (delta, rectangles(rows))).collect()
    }

    fn deltas(&mut self, [a, b]: &[Situation; 2], windows: [Interval; 2]) -> Vec<Delta> {
        let origins = self.origins(a, b);
        let named = [targets_of(self.policies[0], &a.0), targets_of(self.policies[1], &b.0)].concat();
        let destinations: Destinations = destinations_of(&named).into_iter().map(Arc::new).collect();
        let (first, second) = (self.profile(0, a, &origins, &destinations), self.profile(1, b, &origins, &destinations));
        let joint = self.timeline(&first.timeline, &second.timeline, windows);
        let mut found: Vec<Delta> = vec![];
        for origin in origins.iter() {
            let here = |p: &'_ Profile| -> Vec<Line> { p.lines.iter().filter(|l| l.origin == *origin).cloned().collect() };
            let (old, new) = (here(&first), here(&second));
            for account in first.accounts.iter().chain(&second.accounts).collect::<BTreeSet<_>>() {
                for (capability, to) in uses(&destinations) {
                    let asked = (account, capability, to);
                    let (was, is) = (answering(&first, &old, asked), answering(&second, &new, asked));
                    if was.is_none() && is.is_none() {
                        continue;
                    }
                    let mut by_change: BTreeMap<(u32, u32), Vec<bool>> = BTreeMap::new();
                    for (at, (x, y)) in joint.pairs.iter().enumerate() {
                        let id = |line: &Option<Vec<u32>>, moment: &Option<usize>| {
                            moment.and_then(|m| line.as_ref()?.get(m).copied()).unwrap_or(0)
                        };
                        let change = (id(&was, x), id(&is, y));
                        let chosen = by_change.entry(change).or_insert_with(|| vec![false; joint.pairs.len()]);
                        if let Some(slot) = chosen.get_mut(at) {
                            *slot = true;
                        }
                    }
                    let mut by_turn: BTreeMap<(Turn, u32, u32), Vec<bool>> = BTreeMap::new();
                    for ((before, after), chosen) in by_change {
                        let Some(turn) = self.turn(before, after) else { continue };
                        // Of an access that is gone it no longer matters what it took.
                        let before = if turn == Turn::Loses { 0 } else { before };
                        let all = by_turn.entry((turn, before, after)).or_insert_with(|| vec![false; joint.pairs.len()]);
                        all.iter_mut().zip(chosen).for_each(|(a, c)| *a |= c);
                    }
                    for ((turn, before, after), chosen) in by_turn {
                        let when = self.time(&joint, &chosen, [&first.timeline, &second.timeline], windows);
                        let delta = Delta {
                            turn,
                            account: account.clone(),
                            destination: to.cloned(),
                            origin: origin.clone(),
                            when,
                            before,
                            after,
                            capabilities: Capabilities::of([capability]),
                        };
                        push(&mut found, delta);
                    }
                }
            }
        }
        join_origins(found, origins.len())
    }

    fn origins(&mut self, a: &Situation, b: &Situation) -> Origins {
        let key = (self.spaces[0].conditions(&a.0).1, self.spaces[1].conditions(&b.0).1);
        if let Some(known) = self.origins.get(&key) {
            return known.clone();
        }
        let of = |policy: &'p Policy, ids: &[u32]| ids.iter().filter_map(|i| policy.sources.get(*i as usize)).collect::<Vec<_>>();
        let lists: Vec<_> = of(self.policies[0], &key.0).into_iter().chain(of(self.policies[1], &key.1)).collect();
        let found: Origins = origins_of(&lists).into_iter().map(Arc::new).collect();
        self.origins.insert(key, found.clone());
        found
    }

    fn profile(&mut self, which: usize, situation: &Situation, origins: &Origins, destinations: &Destinations) -> Arc<Profile> {
        let (Some(known), Some(space)) = (self.profiles.get_mut(which), self.spaces.get_mut(which)) else {
            return Arc::new(Profile {
                timeline: Arc::new(Timeline { gates: Box::new([]), moments: vec![] }),
                accounts: vec![],
                lines: vec![],
                origins: 0,
            });
        };
        let key = (situation.clone(), origins.clone(), destinations.clone());
        if let Some(profile) = known.get(&key) {
            return profile.clone();
        }
        let profile = Arc::new(space.profile(situation, origins, destinations));
        known.insert(key, profile.clone());
        profile
    }

    /// The moments of both timelines, and the days of both accounts, laid over each other.
    fn timeline(&mut self, a: &Arc<Timeline>, b: &Arc<Timeline>, windows: [Interval; 2]) -> Arc<JointTimeline> {
        let key = (Arc::as_ptr(a) as usize, Arc::as_ptr(b) as usize, windows[0], windows[1]);
        if let Some(known) = self.timelines.get(&key) {
            return known.clone();
        }
        let list = |m: &Moment, window: Interval| Arc::new(common(&m.spans, window));
        let lists: Vec<Arc<Vec<Interval>>> =
            a.moments.iter().map(|m| list(m, windows[0])).chain(b.moments.iter().map(|m| list(m, windows[1]))).collect();
        let laid = moments(&lists, self.horizon);
        let pairs = laid
            .iter()
            .map(|m| {
                let (first, second) = m.open.split_at(a.moments.len());
                (first.iter().position(|o| *o), second.iter().position(|o| *o))
            })
            .collect();
        let joint = Arc::new(JointTimeline { pairs, spans: laid.into_iter().map(|m| m.spans).collect() });
        self.timelines.insert(key, joint.clone());
        joint
    }

    fn turn(&mut self, before: u32, after: u32) -> Option<Turn> {
        if let Some(known) = self.turns.get(&(before, after)) {
            return *known;
        }
        let (old, new) = (self.spaces[0].alternatives(before), self.spaces[1].alternatives(after));
        let spoken = |which: usize, list: &[Demands]| spoken(self.policies[which], list);
        let turn = match (old.is_empty(), new.is_empty()) {
            (true, true) => None,
            (true, false) => Some(Turn::Gains),
            (false, true) => Some(Turn::Loses),
            (false, false) if spoken(0, &old) == spoken(1, &new) => None,
            (false, false) => {
                // Numbers of approvals and tickets are those of each document: they are told apart by what they say.
                let translated: Vec<Demands> = new.iter().map(|d| translate(d, self.policies[1], self.policies[0])).collect();
                let easier = old.iter().all(|o| translated.iter().any(|n| n.within(o)));
                let harder = translated.iter().all(|n| old.iter().any(|o| o.within(n)));
                match (easier, harder) {
                    (true, true) => None,
                    (true, false) => Some(Turn::Easier),
                    (false, true) => Some(Turn::Harder),
                    (false, false) => Some(Turn::Different),
                }
            }
        };
        self.turns.insert((before, after), turn);
        turn
    }

    /// The number of a set of instants, with the words for it.
    fn time(&mut self, joint: &JointTimeline, chosen: &[bool], timelines: [&Timeline; 2], windows: [Interval; 2]) -> u32 {
        let spans = together(joint.spans.iter().zip(chosen).filter(|(_, c)| **c).map(|(s, _)| s.as_slice()));
        if let Some(known) = self.time_at.get(&spans) {
            return *known;
        }
        let words = self.words(&spans, timelines, windows);
        let id = u32::try_from(self.times.len()).unwrap_or(u32::MAX);
        self.times.push((spans.clone(), words));
        self.time_at.insert(spans, id);
        id
    }

    /// The instants as one side has words for them.
    fn words(&self, spans: &[Interval], timelines: [&Timeline; 2], windows: [Interval; 2]) -> String {
        let mut last = String::new();
        for ((policy, timeline), window) in self.policies.into_iter().zip(timelines).zip(windows).rev() {
            let chosen: Vec<bool> =
                timeline.moments.iter().map(|m| m.spans.iter().any(|s| spans.iter().any(|t| t.0 < s.1 && s.0 < t.1))).collect();
            for window in [window, (i64::MIN, i64::MAX)] {
                let exact = common(&spans_of(timeline, &chosen), window) == spans;
                let said = policy.when(timeline, &chosen, window, self.horizon);
                if exact && (!said.starts_with("in ") || said.starts_with("in the hours")) {
                    return said;
                }
            }
            last = policy.span_words(spans, self.horizon);
        }
        last
    }

    fn change(&self, delta: &Delta, people: Vec<String>, machines: Vec<String>) -> Change {
        let (spans, when) = self.times.get(delta.when as usize).cloned().unwrap_or_default();
        let [before, after] = self.policies;
        Change {
            turn: delta.turn,
            people,
            machines,
            capabilities: delta.capabilities,
            account: delta.account.name(),
            to: delta.destination.as_ref().map(|d| d.text.clone()),
            from: delta.origin.text.clone(),
            when,
            first: spans.first().and_then(|s| Timestamp::from_second(s.0).ok()).unwrap_or(Timestamp::MIN),
            lasts: SignedDuration::from_secs(spans.iter().map(|(b, e)| e - b).sum()),
            before: spoken(before, &self.spaces[0].alternatives(delta.before)),
            after: spoken(after, &self.spaces[1].alternatives(delta.after)),
            spans,
        }
    }
}

/// Adds a change, to one that is the same but for the capabilities where there is one.
fn push(found: &mut Vec<Delta>, delta: Delta) {
    let same = |d: &&mut Delta| {
        let mut other = delta.clone();
        other.capabilities = d.capabilities;
        **d == other
    };
    match found.iter_mut().find(same) {
        Some(known) => known.capabilities = known.capabilities.union(delta.capabilities),
        None => found.push(delta),
    }
}

/// Changes that are the same from several origins become one; from all of them, one from anywhere.
fn join_origins(deltas: Vec<Delta>, all: usize) -> Vec<Delta> {
    let mut joined: Vec<(Delta, Vec<Arc<Origin>>)> = vec![];
    for delta in deltas {
        let same = |(d, _): &&mut (Delta, Vec<Arc<Origin>>)| *d == Delta { origin: d.origin.clone(), ..delta.clone() };
        match joined.iter_mut().find(same) {
            Some((_, origins)) => origins.push(delta.origin),
            None => joined.push((delta.clone(), vec![delta.origin])),
        }
    }
    joined.into_iter().map(|(d, origins)| Delta { origin: Arc::new(Origin::joined(&origins, all)), ..d }).collect()
}

/// The answer for an account and capability by moment; an account that this side does not tell apart is any other.
fn answering(side: &Profile, lines: &[Line], (account, capability, to): Asked<'_>) -> Option<Vec<u32>> {
    let wanted = if side.accounts.contains(account) { account } else { &Account::Other };
    let fits = |l: &&Line| l.account == *wanted && l.capabilities.contains(capability) && l.destination.as_ref() == to;
    lines.iter().find(fits).map(|l| l.by_moment.clone())
}

type Asked<'a> = (&'a Account, Capability, Option<&'a Arc<Destination>>);

/// Every capability, and of forwarded ports every target that is told apart.
fn uses(destinations: &[Arc<Destination>]) -> impl Iterator<Item = (Capability, Option<&Arc<Destination>>)> {
    Capability::ALL.into_iter().flat_map(move |capability| {
        let apart = if capability == Capability::Forward { destinations } else { &[] };
        apart.iter().map(Some).chain(apart.is_empty().then_some(None)).map(move |to| (capability, to))
    })
}

/// Rows with the same columns are put together.
fn rectangles(rows: BTreeMap<u32, Vec<u32>>) -> Rectangles {
    let mut by_columns: BTreeMap<Vec<u32>, Vec<u32>> = BTreeMap::new();
    for (person, machines) in rows {
        by_columns.entry(machines).or_default().push(person);
    }
    by_columns.into_iter().map(|(machines, people)| (people, machines)).collect()
}

fn spoken(policy: &Policy, list: &[Demands]) -> Spoken {
    let mut all: Spoken = list.iter().map(|d| policy.demanded(d)).collect();
    all.sort_unstable();
    all
}

/// The demands with the numbers of approvals and tickets that the other document gives to the same ones; those that it does not
/// have get numbers of their own beyond.
fn translate(demands: &Demands, own: &Policy, other: &Policy) -> Demands {
    let beyond = |at: usize, known: usize| u16::try_from(known + at).unwrap_or(u16::MAX);
    let (mine, theirs) = (own.document(), other.document());
    let approval = |id: &u16| {
        let wanted = mine.approvals.get(usize::from(*id));
        let same = theirs.approvals.iter().position(|a| wanted.is_some_and(|w| w.text == a.text && w.count == a.count));
        same.and_then(|i| u16::try_from(i).ok()).unwrap_or_else(|| beyond(usize::from(*id), theirs.approvals.len()))
    };
    let ticket = |id: &u16| {
        let wanted = mine.tickets.get(usize::from(*id));
        let same = theirs.tickets.iter().position(|t| wanted == Some(t));
        same.and_then(|i| u16::try_from(i).ok()).unwrap_or_else(|| beyond(usize::from(*id), theirs.tickets.len()))
    };
    let sorted = |mut ids: Vec<u16>| {
        ids.sort_unstable();
        ids
    };
    Demands {
        approvals: sorted(demands.approvals.iter().map(approval).collect()),
        tickets: sorted(demands.tickets.iter().map(ticket).collect()),
        ..demands.clone()
    }
}
