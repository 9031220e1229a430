use super::calendar::Calendar;
use super::capability::Capability;
use super::document::{Document, Effect, Rule};
use crate::directory::Directory;
use jiff::Timestamp;
use jiff::tz::TimeZone;
use std::sync::Arc;

/// A rule document prepared for one directory: which rules concern which person, machine and capability is kept as rows
/// of bits, so that a decision looks only at the few rules that all three have in common.
#[derive(Debug, Clone)]
pub struct Policy {
    pub(super) document: Document,
    pub(super) directory: Arc<Directory>,
    pub(super) calendars: Vec<Calendar>,
    person_rules: Rows,
    machine_rules: Rows,
    capability_rules: Rows,
}

/// One row of bits per thing, one column per rule.
#[derive(Debug, Clone)]
struct Rows {
    words: usize,
    bits: Vec<u64>,
}

impl Rows {
    fn new<T>(things: &[T], rules: &[Rule], concerns: impl Fn(&Rule, &T) -> bool) -> Self {
        let words = rules.len().div_ceil(64);
        let mut bits = vec![0u64; words * things.len()];
        for (thing, row) in things.iter().zip(bits.chunks_mut(words.max(1))) {
            for (word, chunk) in row.iter_mut().zip(rules.chunks(64)) {
                *word = chunk.iter().enumerate().filter(|(_, r)| concerns(r, thing)).fold(0, |w, (i, _)| w | 1 << i);
            }
        }
        Self { words, bits }
    }

    fn row(&self, thing: usize) -> &[u64] {
        self.bits.get(thing * self.words..(thing + 1) * self.words).unwrap_or(&[])
    }
}

impl Policy {
    /// Prepares a document for a directory, with calendars around an instant (any instant can be asked about; those within a
    /// year are answered fastest).
    pub fn compile(document: Document, directory: Arc<Directory>, around: Timestamp) -> Self {
        let rules = &document.rules;
        let person_rules = Rows::new(directory.people(), rules, |r, p| r.people.0.selects_person(p));
        let machine_rules = Rows::new(directory.machines(), rules, |r, m| r.machines.0.selects_machine(m));
        let capability_rules = Rows::new(&Capability::ALL, rules, |r, c| r.capabilities.contains(*c));
        let calendars = document.hours.iter().map(|h| Calendar::new(h, around)).collect();
        Self { document, directory, calendars, person_rules, machine_rules, capability_rules }
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
        for (i, rule) in self.document.rules.iter().enumerate() {
            let concerns = self.machine_rules.row(machine).get(i / 64).is_some_and(|w| w & (1 << (i % 64)) != 0);
            if concerns && rule.effect == Effect::Allow {
                found.push(self.calendars.get(rule.hours?)?);
            }
        }
        Some(found)
    }

    /// The rules that person, machine and capability have in common, in the order of the document.
    pub(super) fn rules_for(&self, person: usize, machine: usize, capability: Capability) -> impl Iterator<Item = &Rule> {
        let rows =
            self.person_rules.row(person).iter().zip(self.machine_rules.row(machine)).zip(self.capability_rules.row(capability as usize));
        rows.enumerate().flat_map(move |(at, ((p, m), c))| {
            let mut word = p & m & c;
            std::iter::from_fn(move || {
                let bit = word.trailing_zeros();
                word &= word.checked_sub(1)?;
                Some(at * 64 + bit as usize)
            })
            .filter_map(|i| self.document.rules.get(i))
        })
    }
}
