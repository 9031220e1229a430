//! Prepares a document for one directory.

use super::calendar::Calendar;
use super::capability::Capability;
use super::document::{Document, Effect, Rule, Sources};
use crate::directory::{Bits, Directory};
use jiff::civil::Date;
use jiff::tz::TimeZone;
use jiff::{Timestamp, ToSpan as _};
use std::collections::HashMap;
use std::sync::Arc;

/// A rule document prepared for one directory: which rules concern which person, machine and capability is kept as rows
/// of bits, so that a decision looks only at the few rules that all three have in common. People whom the same rules concern
/// share a row, and so do machines.
#[derive(Debug, Clone)]
pub struct Policy {
    pub(super) document: Document,
    pub(super) directory: Arc<Directory>,
    pub(super) calendars: Vec<Calendar>,
    pub(super) people: Rows,
    pub(super) machines: Rows,
    capabilities: Rows,
    /// Which rules are an `allow`.
    allows: Vec<u64>,
    /// What each rule waits for, in the order of the document's rules.
    pub(super) conditions: Vec<Condition>,
    /// Each different condition of time once.
    pub(super) gates: Vec<Gate>,
    /// Each different condition of addresses once.
    pub(super) sources: Vec<Sources>,
    /// For each person the instants within which the account is good (seconds since the epoch).
    pub(super) standing: Vec<(i64, i64)>,
    /// For each approval of the document who may give it.
    pub(super) approvers: Vec<Bits>,
}

/// What a rule waits for, besides person, machine and capability.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub(super) struct Condition {
    pub(super) effect: Effect,
    /// Index into [`Policy::gates`]; none means always.
    pub(super) gate: Option<u32>,
    /// Index into [`Policy::sources`]; none means anywhere.
    pub(super) source: Option<u32>,
}

/// A condition of time: within the hours, from the first day to the last.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Hash)]
pub(super) struct Gate {
    /// Index into [`Policy::calendars`].
    pub(super) hours: Option<usize>,
    /// Seconds since the epoch.
    pub(super) begins: i64,
    /// Seconds since the epoch, exclusive.
    pub(super) ends: i64,
}

/// Rows of bits, one column a rule; things with the same row share it.
#[derive(Debug, Clone)]
pub(super) struct Rows {
    words: usize,
    /// For each thing the number of its row.
    class: Vec<u32>,
    rows: Vec<u64>,
}

impl Rows {
    /// From one set of things for each rule.
    fn new(length: usize, rules: &[Arc<Bits>]) -> Self {
        let words = rules.len().div_ceil(64);
        let blocks = length.div_ceil(64);
        let mut table = vec![0u64; words * blocks * 64];
        for (at, chunk) in rules.chunks(64).enumerate() {
            for block in 0..blocks {
                let mut square = [0u64; 64];
                let mut any = false;
                for (row, rule) in square.iter_mut().zip(chunk) {
                    *row = rule.words().get(block).copied().unwrap_or(0);
                    any |= *row != 0;
                }
                if any {
                    transpose(&mut square);
                    for (i, word) in square.iter().enumerate() {
                        if let Some(slot) = table.get_mut((block * 64 + i) * words + at) {
                            *slot = *word;
                        }
                    }
                }
            }
        }
        let mut rows: Vec<u64> = vec![];
        let mut known: HashMap<&[u64], u32> = HashMap::new();
        let class = (0..length)
            .map(|i| {
                let row = table.get(i * words..(i + 1) * words).unwrap_or(&[]);
                let next = u32::try_from(known.len()).unwrap_or(u32::MAX);
                *known.entry(row).or_insert_with(|| {
                    rows.extend_from_slice(row);
                    next
                })
            })
            .collect();
        Self { words, class, rows }
    }

    pub(super) fn class(&self, thing: usize) -> Option<u32> {
        self.class.get(thing).copied()
    }

    /// The row of a class.
    pub(super) fn row(&self, class: u32) -> &[u64] {
        let at = class as usize * self.words;
        self.rows.get(at..at + self.words).unwrap_or(&[])
    }

    pub(super) fn of_thing(&self, thing: usize) -> &[u64] {
        self.class(thing).map_or(&[], |c| self.row(c))
    }
}

/// Turns a square of 64 × 64 bits around its diagonal (Hacker's Delight, second edition, section 7-3).
fn transpose(square: &mut [u64; 64]) {
    let (mut width, mut mask) = (32, 0x0000_0000_ffff_ffff_u64);
    while width != 0 {
        let mut k = 0;
        while k < 64 {
            let (low, high) = (square.get(k).copied().unwrap_or(0), square.get(k + width).copied().unwrap_or(0));
            let swap = ((low >> width) ^ high) & mask;
            if let Some(slot) = square.get_mut(k) {
                *slot ^= swap << width;
            }
            if let Some(slot) = square.get_mut(k + width) {
                *slot ^= swap;
            }
            k = (k + width + 1) & !width;
        }
        width >>= 1;
        mask ^= mask << width;
    }
}

/// The instant at which a date begins in the zone.
pub(super) fn begin_of_date(date: Date, zone: &TimeZone) -> Option<i64> {
    date.to_zoned(zone.clone()).ok().map(|z| z.timestamp().as_second())
}

/// From the beginning of the first day to the end of the last, in seconds since the epoch.
pub(super) fn days(first: Option<Date>, last: Option<Date>, zone: &TimeZone) -> (i64, i64) {
    let begins = first.map_or(Some(i64::MIN), |d| begin_of_date(d, zone)).unwrap_or(i64::MIN);
    let ends = last.map_or(Some(i64::MAX), |d| begin_of_date(d.saturating_add(1.day()), zone)).unwrap_or(i64::MAX);
    (begins, ends)
}

/// Interns what equals: the number of each different value.
struct Intern<T>(HashMap<T, u32>, Vec<T>);

impl<T: Clone + Eq + std::hash::Hash> Intern<T> {
    fn id(&mut self, value: T) -> u32 {
        let next = u32::try_from(self.1.len()).unwrap_or(u32::MAX);
        *self.0.entry(value.clone()).or_insert_with(|| {
            self.1.push(value);
            next
        })
    }
}

impl Policy {
    /// Prepares a document for a directory, with calendars around an instant (any instant can be asked about; those within a
    /// year are answered fastest).
    pub fn compile(document: Document, directory: Arc<Directory>, around: Timestamp) -> Self {
        // Guardrails have columns too: they decide nothing, and are looked up in the same way.
        let rules: Vec<&Rule> = document.rules.iter().chain(document.guards.iter().map(|g| &g.rule)).collect();
        let mut selected: HashMap<String, Arc<Bits>> = HashMap::new();
        let mut people = vec![];
        let mut machines = vec![];
        for rule in &rules {
            let (who, what) = (rule.people.0.to_string(), rule.machines.0.to_string());
            people
                .push(selected.entry(format!("people {who}")).or_insert_with(|| Arc::new(directory.select_people(&rule.people.0))).clone());
            machines.push(
                selected.entry(format!("machines {what}")).or_insert_with(|| Arc::new(directory.select_machines(&rule.machines.0))).clone(),
            );
        }
        let capability = |rule: &Rule| {
            let mut bits = Bits::none(Capability::ALL.len());
            rule.capabilities.iter().for_each(|c| bits.insert(c as usize));
            Arc::new(bits)
        };
        let capabilities: Vec<Arc<Bits>> = rules.iter().map(|r| capability(r)).collect();
        let (mut gates, mut sources) = (Intern(HashMap::new(), vec![]), Intern(HashMap::new(), vec![]));
        let conditions = rules
            .iter()
            .map(|r| Condition {
                effect: r.effect,
                gate: gate_of(r, &document.zone).map(|g| gates.id(g)),
                source: (!r.from.is_anywhere()).then(|| sources.id(r.from.clone())),
            })
            .collect();
        let mut allows = Bits::none(rules.len());
        rules.iter().enumerate().filter(|(_, r)| r.effect == Effect::Allow).for_each(|(i, _)| allows.insert(i));
        let standing = directory
            .people()
            .iter()
            .map(|p| if p.suspended { (0, 0) } else { days(p.valid_from, p.valid_until, &document.zone) })
            .collect();
        Self {
            calendars: document.hours.iter().map(|h| Calendar::new(h, around)).collect(),
            people: Rows::new(directory.people().len(), &people),
            machines: Rows::new(directory.machines().len(), &machines),
            capabilities: Rows::new(Capability::ALL.len(), &capabilities),
            allows: allows.words().to_vec(),
            conditions,
            gates: gates.1,
            sources: sources.1,
            standing,
            approvers: document.approvals.iter().map(|a| directory.select_people(&a.from)).collect(),
            document,
            directory,
        }
    }

    /// The directory it was prepared for.
    pub fn directory(&self) -> &Arc<Directory> {
        &self.directory
    }

    /// The document it was made from.
    pub fn document(&self) -> &Document {
        &self.document
    }

    /// The zone in which its dates are read and its sentences tell the time.
    pub fn zone(&self) -> &TimeZone {
        &self.document.zone
    }

    /// The calendar of the hours of that name.
    pub fn calendar(&self, name: &str) -> Option<&Calendar> {
        let at = self.document.hours.iter().position(|h| &*h.name == name)?;
        self.calendars.get(at)
    }

    /// The hours in which any `allow` concerns this machine: `None` where one of them has no hours.
    pub fn hours_of_machine(&self, machine: usize) -> Option<Vec<&Calendar>> {
        let mut found = vec![];
        let row = self.machines.of_thing(machine);
        for (i, rule) in self.document.rules.iter().enumerate() {
            let concerns = row.get(i / 64).is_some_and(|w| w & (1 << (i % 64)) != 0);
            let of_sessions = rule.capabilities.iter().any(Capability::is_of_sessions) && !rule.emergency;
            if concerns && rule.effect == Effect::Allow && of_sessions {
                found.push(self.calendars.get(rule.hours?)?);
            }
        }
        Some(found)
    }

    /// The rule of a number: those that decide come first, then the guardrails.
    pub(super) fn rule(&self, at: usize) -> Option<&Rule> {
        let guards = || self.document.guards.get(at.checked_sub(self.document.rules.len())?).map(|g| &g.rule);
        self.document.rules.get(at).or_else(guards)
    }

    /// The numbers of the rules that person, machine and capability have in common, ascending.
    #[cfg(test)]
    pub(super) fn rules_for(&self, person: usize, machine: usize, capability: Capability) -> impl Iterator<Item = usize> {
        let mut all: Vec<usize> =
            self.common(person, machine, capability, true).chain(self.common(person, machine, capability, false)).collect();
        all.sort_unstable();
        all.into_iter()
    }

    /// The numbers of the rules that person, machine and capability have in common, ascending: each `allow`, or all others.
    pub(super) fn common(&self, person: usize, machine: usize, capability: Capability, allows: bool) -> Common<'_> {
        Common {
            rows: [self.people.of_thing(person), self.machines.of_thing(machine), self.capabilities.row_of(capability), &self.allows],
            flip: if allows { 0 } else { u64::MAX },
            at: 0,
            word: 0,
        }
    }
}

/// Walks over the bits that rows have in common.
pub(super) struct Common<'p> {
    rows: [&'p [u64]; 4],
    /// Turns the last row around.
    flip: u64,
    at: usize,
    word: u64,
}

impl Iterator for Common<'_> {
    type Item = usize;

    #[inline]
    fn next(&mut self) -> Option<usize> {
        while self.word == 0 {
            let [p, m, c, a] = self.rows;
            let at = self.at;
            self.word = p.get(at)? & m.get(at)? & c.get(at)? & (a.get(at)? ^ self.flip);
            self.at += 1;
        }
        let bit = self.word.trailing_zeros() as usize;
        self.word &= self.word - 1;
        Some((self.at - 1) * 64 + bit)
    }
}

impl Rows {
    fn row_of(&self, capability: Capability) -> &[u64] {
        self.of_thing(capability as usize)
    }
}

/// The condition of time of a rule.
pub(super) fn gate_of(rule: &Rule, zone: &TimeZone) -> Option<Gate> {
    if rule.hours.is_none() && rule.first_day.is_none() && rule.last_day.is_none() {
        return None;
    }
    let (begins, ends) = days(rule.first_day, rule.last_day, zone);
    Some(Gate { hours: rule.hours, begins, ends })
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn a_square_turned_twice_is_itself() {
        let mut square = [0u64; 64];
        for (i, row) in square.iter_mut().enumerate() {
            *row = (i as u64 + 1).wrapping_mul(0x9e37_79b9_7f4a_7c15);
        }
        let before = square;
        transpose(&mut square);
        for (i, row) in square.iter().enumerate() {
            for (j, old) in before.iter().enumerate() {
                assert_eq!(row >> j & 1, old >> i & 1, "{i} {j}");
            }
        }
        transpose(&mut square);
        assert_eq!(square, before);
    }
}
