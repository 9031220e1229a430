//! The reach map: who can reach what, when, from where and under which demands. Exact, and grouped into classes.

use super::capability::Capabilities;
use super::compile::Policy;
use super::demand::Demands;
use super::space::{
    Class, Interval, Line, Origin, Profile, Reachable, Situation, Space, Timeline, common, machine_classes, people_classes, situation,
    together,
};
use super::target::ForwardTarget;
use crate::directory::Bits;
use crate::wording;
use jiff::{SignedDuration, Timestamp};
use std::collections::{BTreeMap, HashMap};
use std::sync::Arc;

/// Who can reach what within a span of time.
#[derive(Debug)]
pub struct Reach {
    policy: Arc<Policy>,
    horizon: Interval,
    people: Vec<Class>,
    machines: Vec<Class>,
    person_class: Vec<u32>,
    machine_class: Vec<u32>,
    /// For each class of people: class of machines and number of the profile, ascending. Pairs without access are left out.
    cells: Vec<Vec<(u32, u32)>>,
    profiles: Vec<Profile>,
    alternatives: Vec<Arc<Vec<Demands>>>,
}

/// How large a map is.
#[derive(Debug, Clone, Copy, PartialEq, Eq, serde::Serialize)]
pub struct ReachSize {
    /// Classes of people.
    pub people: usize,
    /// Classes of machines.
    pub machines: usize,
    /// Pairs of classes that have access.
    pub cells: usize,
    /// Different answers.
    pub profiles: usize,
}

/// The same permissions of some people on some machines.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Access {
    /// Who, as indices into the directory.
    pub people: Vec<u32>,
    /// Where, as indices into the directory.
    pub machines: Vec<u32>,
    /// What.
    pub permissions: Vec<Permission>,
}

/// What is permitted under one account, from some addresses, at some hours.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Permission {
    /// What.
    pub capabilities: Capabilities,
    /// Account on the machine; none for any that no rule names.
    pub account: Option<Arc<str>>,
    /// Where forwarded ports may lead, in words; none where that is the machine itself, and for other capabilities.
    pub to: Option<Arc<str>>,
    /// One of the targets.
    pub to_example: Option<ForwardTarget>,
    /// From where, in words; an example stands beside it where it matters.
    pub from: Arc<str>,
    /// An address of each kind that will do; none where any will.
    pub from_examples: Vec<std::net::IpAddr>,
    /// When, in words.
    pub when: String,
    /// When, within the span of time that was looked at: seconds since the epoch, sorted and disjoint.
    pub spans: Vec<Interval>,
    /// Different demands of which one must be met.
    pub demands: Vec<Demands>,
}

/// How many pairs of a group of people and a group of machines have access.
#[derive(Debug, Clone, Copy, Default, PartialEq, Eq)]
pub struct Cell {
    /// Pairs with any access.
    pub pairs: u64,
    /// All pairs.
    pub of: u64,
    /// Every capability that any of them has.
    pub capabilities: Capabilities,
}

impl Reach {
    /// Works the map out for a span of time.
    pub fn of(policy: Arc<Policy>, from: Timestamp, to: Timestamp) -> Self {
        let horizon = (from.as_second(), to.as_second());
        let directory = policy.directory().clone();
        let people_names: Vec<&str> = directory.people().iter().map(|p| p.name.as_str()).collect();
        let machine_names: Vec<&str> = directory.machines().iter().map(|m| m.name.as_str()).collect();
        let people = people_classes(&[&policy], &people_names);
        let machines = machine_classes(&[&policy], &machine_names);
        let mut space = Space::new(&policy, horizon);
        let reachable = Reachable::new(&policy, 0, &machines);
        let mut known: HashMap<Situation, u32> = HashMap::new();
        let mut profiles: Vec<Profile> = vec![];
        let mut cells = vec![];
        for person in &people {
            let mut row = vec![];
            let awake = person.windows.first().is_some_and(|w| w.0 < horizon.1 && horizon.0 < w.1);
            for m in reachable.from(person).iter().filter(|_| awake) {
                let Some(machine) = machines.get(m) else { continue };
                let situation = situation(&policy, 0, person, machine);
                let id = match known.get(&situation) {
                    Some(id) => *id,
                    None => {
                        let sources = space.conditions(&situation.0).1;
                        let origins = space.origins(&sources);
                        let destinations = space.destinations(&situation.0);
                        profiles.push(space.profile(&situation, &origins, &destinations));
                        let id = u32::try_from(profiles.len() - 1).unwrap_or(u32::MAX);
                        known.insert(situation, id);
                        id
                    }
                };
                if let (Some(p), Ok(m)) = (profiles.get(id as usize), u32::try_from(m))
                    && !p.lines.is_empty()
                {
                    row.push((m, id));
                }
            }
            cells.push(row);
        }
        let alternatives = space.all_alternatives();
        let class_of = |classes: &[Class], length: usize| {
            let mut of = vec![0; length];
            for (i, class) in classes.iter().enumerate() {
                for m in &class.members {
                    if let (Some(slot), Ok(i)) = (of.get_mut(*m as usize), u32::try_from(i)) {
                        *slot = i;
                    }
                }
            }
            of
        };
        let (person_class, machine_class) = (class_of(&people, people_names.len()), class_of(&machines, machine_names.len()));
        drop(space);
        Self { policy, horizon, people, machines, person_class, machine_class, cells, profiles, alternatives }
    }

    /// How large it is.
    pub fn size(&self) -> ReachSize {
        ReachSize {
            people: self.people.len(),
            machines: self.machines.len(),
            cells: self.cells.iter().map(Vec::len).sum(),
            profiles: self.profiles.len(),
        }
    }

    /// The rules that it was worked out for.
    pub fn policy(&self) -> &Arc<Policy> {
        &self.policy
    }

    /// The span of time that it was worked out for.
    pub fn horizon(&self) -> (Timestamp, Timestamp) {
        let at = |s| Timestamp::from_second(s).unwrap_or(Timestamp::MAX);
        (at(self.horizon.0), at(self.horizon.1))
    }

    /// What this person may on this machine.
    pub fn between(&self, person: usize, machine: usize) -> Vec<Permission> {
        let (Some(p), Some(m)) = (self.person_class.get(person), self.machine_class.get(machine)) else { return vec![] };
        let row = self.cells.get(*p as usize).map_or(&[][..], Vec::as_slice);
        let profile = row.binary_search_by_key(m, |c| c.0).ok().and_then(|i| row.get(i)).map(|c| c.1);
        profile.map_or(vec![], |id| self.permissions(*p, id))
    }

    /// Everybody of these people who has access to any of these machines, grouped by what they have; largest group first.
    pub fn among(&self, people: &Bits, machines: &Bits) -> Vec<Access> {
        let kept =
            |class: &Class, which: &Bits| -> Vec<u32> { class.members.iter().copied().filter(|m| which.contains(*m as usize)).collect() };
        let columns: Vec<Vec<u32>> = self.machines.iter().map(|c| kept(c, machines)).collect();
        type Key = (Interval, Vec<(u32, Vec<u32>)>);
        let mut rows: HashMap<Key, (u32, Vec<u32>)> = HashMap::new();
        for (p, class) in self.people.iter().enumerate() {
            let members = kept(class, people);
            let (Some(cells), false) = (self.cells.get(p), members.is_empty()) else { continue };
            let mut by_profile: BTreeMap<u32, Vec<u32>> = BTreeMap::new();
            for (m, profile) in cells {
                if columns.get(*m as usize).is_some_and(|c| !c.is_empty()) {
                    by_profile.entry(*profile).or_default().push(*m);
                }
            }
            if !by_profile.is_empty() {
                let window = class.windows.first().copied().unwrap_or((0, 0));
                let entry = rows.entry((window, by_profile.into_iter().collect())).or_insert((u32::try_from(p).unwrap_or(0), vec![]));
                entry.1.extend(members);
            }
        }
        let mut found: Vec<Access> = vec![];
        for ((_, by_profile), (class, mut people)) in rows {
            people.sort_unstable();
            // Of different rows the people differ: only what one row gives can be the same.
            let mut own: Vec<Access> = vec![];
            for (profile, classes) in by_profile {
                let mut machines: Vec<u32> = classes.iter().filter_map(|m| columns.get(*m as usize)).flatten().copied().collect();
                machines.sort_unstable();
                let permissions = self.permissions(class, profile);
                if permissions.is_empty() {
                    continue;
                }
                match own.iter_mut().find(|a| a.permissions == permissions) {
                    Some(known) => known.machines.extend(machines),
                    None => own.push(Access { people: people.clone(), machines, permissions }),
                }
            }
            found.append(&mut own);
        }
        found.iter_mut().for_each(|a| a.machines.sort_unstable());
        found.sort_by(|a, b| {
            let size = |a: &Access| a.people.len() * a.machines.len();
            size(b).cmp(&size(a)).then_with(|| (&a.people, &a.machines).cmp(&(&b.people, &b.machines)))
        });
        found
    }

    /// How much access there is between groups of people (rows) and groups of machines (columns).
    pub fn table(&self, rows: &[Bits], columns: &[Bits]) -> Vec<Vec<Cell>> {
        let count = |class: &Class, which: &Bits| class.members.iter().filter(|m| which.contains(**m as usize)).count() as u64;
        let in_column: Vec<Vec<u64>> = columns.iter().map(|c| self.machines.iter().map(|m| count(m, c)).collect()).collect();
        let sizes: Vec<u64> = columns.iter().map(|c| c.len() as u64).collect();
        let mut table: Vec<Vec<Cell>> =
            rows.iter().map(|r| sizes.iter().map(|s| Cell { of: r.len() as u64 * s, ..Cell::default() }).collect()).collect();
        for (class, cells) in self.people.iter().zip(&self.cells) {
            if cells.is_empty() {
                continue;
            }
            let along: Vec<(u64, Capabilities)> = in_column
                .iter()
                .map(|counts| {
                    let mut sum = (0, Capabilities::NONE);
                    for (m, profile) in cells {
                        let n = counts.get(*m as usize).copied().unwrap_or(0);
                        if n > 0 {
                            let can = self.profiles.get(*profile as usize).map_or(Capabilities::NONE, Profile::capabilities);
                            sum = (sum.0 + n, sum.1.union(can));
                        }
                    }
                    sum
                })
                .collect();
            for (row, which) in table.iter_mut().zip(rows) {
                let members = count(class, which);
                if members > 0 {
                    for (cell, (machines, can)) in row.iter_mut().zip(&along) {
                        cell.pairs += members * machines;
                        cell.capabilities = cell.capabilities.union(*can);
                    }
                }
            }
        }
        table
    }

    fn permissions(&self, person: u32, profile: u32) -> Vec<Permission> {
        let window = self.people.get(person as usize).and_then(|c| c.windows.first()).copied().unwrap_or((0, 0));
        let Some(profile) = self.profiles.get(profile as usize) else { return vec![] };
        let mut found = vec![];
        for (line, origin, examples) in profile.joined() {
            let mut ids: Vec<u32> = line.by_moment.iter().copied().filter(|id| *id != 0).collect();
            ids.sort_unstable();
            ids.dedup();
            for id in ids {
                let chosen: Vec<bool> = line.by_moment.iter().map(|i| *i == id).collect();
                let spans = common(&spans_of(&profile.timeline, &chosen), window);
                if spans.is_empty() {
                    continue;
                }
                found.push(Permission {
                    capabilities: line.capabilities,
                    account: line.account.name(),
                    to: line.destination.as_ref().map(|d| d.text.clone()),
                    to_example: line.destination.as_ref().and_then(|d| d.example()),
                    from: origin.text.clone(),
                    from_examples: examples.clone(),
                    when: self.policy.when(&profile.timeline, &chosen, window, self.horizon),
                    spans,
                    demands: self.alternatives.get(id as usize).map(|a| a.to_vec()).unwrap_or_default(),
                });
            }
        }
        found
    }
}

impl Profile {
    /// The lines, those that are the same from several origins as one.
    fn joined(&self) -> Vec<(&Line, Origin, Vec<std::net::IpAddr>)> {
        let mut joined: Vec<(&Line, Vec<Arc<Origin>>)> = vec![];
        for line in &self.lines {
            let same = |(l, _): &&mut (&Line, Vec<Arc<Origin>>)| {
                (l.capabilities, &l.account, &l.destination, &l.by_moment)
                    == (line.capabilities, &line.account, &line.destination, &line.by_moment)
            };
            match joined.iter_mut().find(same) {
                Some((_, origins)) => origins.push(line.origin.clone()),
                None => joined.push((line, vec![line.origin.clone()])),
            }
        }
        let told = |(line, origins): (_, Vec<Arc<Origin>>)| {
            let examples = if origins.len() == self.origins { vec![] } else { origins.iter().filter_map(|o| o.example).collect() };
            (line, Origin::joined(&origins, self.origins), examples)
        };
        joined.into_iter().map(told).collect()
    }

    fn capabilities(&self) -> Capabilities {
        self.lines.iter().fold(Capabilities::NONE, |all, l| all.union(l.capabilities))
    }
}

/// The instants of the chosen moments.
pub(super) fn spans_of(timeline: &Timeline, chosen: &[bool]) -> Vec<Interval> {
    together(timeline.moments.iter().zip(chosen).filter(|(_, c)| **c).map(|(m, _)| m.spans.as_slice()))
}

impl Policy {
    /// The chosen moments in words: `at any time`, `in the hours night`, or how much time it is and when it begins.
    pub(super) fn when(&self, timeline: &Timeline, chosen: &[bool], window: Interval, horizon: Interval) -> String {
        let mut parts = vec![];
        if chosen.iter().any(|c| !c) {
            parts.push(self.gate_words(timeline, chosen).unwrap_or_else(|| self.span_words(&spans_of(timeline, chosen), horizon)));
        }
        if window.0 > horizon.0 {
            parts.push(format!("from {} on, when the account begins", self.day(window.0)));
        }
        if window.1 < horizon.1 {
            parts.push(format!("to {}, when the account ends", self.day(window.1 - 1)));
        }
        if parts.is_empty() { "at any time".into() } else { parts.join(", ") }
    }

    /// Where the chosen moments are just those at which one gate is open (or closed), its name.
    fn gate_words(&self, timeline: &Timeline, chosen: &[bool]) -> Option<String> {
        timeline.gates.iter().enumerate().find_map(|(at, gate)| {
            let gate = self.gates.get(*gate as usize)?;
            let matches = |wanted: bool| timeline.moments.iter().zip(chosen).all(|(m, c)| (m.open.get(at).copied() == Some(wanted)) == *c);
            let hours = gate.hours.and_then(|h| self.document().hours.get(h)).map(|h| h.name.clone());
            let mut words: Vec<String> = vec![];
            if matches(true) {
                words.extend(hours.map(|h| format!("in the hours {h}")));
                words.extend((gate.begins != i64::MIN).then(|| format!("from {}", self.day(gate.begins))));
                words.extend((gate.ends != i64::MAX).then(|| format!("to {}", self.day(gate.ends - 1))));
            } else if matches(false) {
                words.push(match hours {
                    Some(h) => format!("outside the hours {h}"),
                    None => format!("not from {} to {}", self.edge(gate.begins, "the beginning"), self.edge(gate.ends - 1, "the end")),
                });
            }
            (!words.is_empty()).then(|| words.join(" "))
        })
    }

    fn edge(&self, t: i64, none: &str) -> String {
        if t == i64::MIN || t == i64::MAX - 1 { none.into() } else { self.day(t) }
    }

    pub(super) fn span_words(&self, spans: &[Interval], horizon: Interval) -> String {
        let seconds: i64 = spans.iter().map(|(b, e)| e - b).sum();
        let first = spans.first().map_or(horizon.0, |s| s.0);
        let at = Timestamp::from_second(first).unwrap_or(Timestamp::MIN).to_zoned(self.zone().clone());
        let total = wording::duration(SignedDuration::from_secs(seconds));
        let whole = wording::duration(SignedDuration::from_secs(horizon.1 - horizon.0));
        format!("in {total} of {whole}, first on {}", at.strftime("%A %Y-%m-%d %H:%M"))
    }

    fn day(&self, t: i64) -> String {
        Timestamp::from_second(t).unwrap_or(Timestamp::MAX).to_zoned(self.zone().clone()).date().to_string()
    }
}
