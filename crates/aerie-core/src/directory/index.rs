//! Which people or machines have which property, so that a selector is answered for all of them at once.

use super::group::{Group, Members, holders};
use super::selector::{Atom, Selector};
use std::collections::{BTreeMap, BTreeSet, HashMap};

/// A set of small numbers, a bit each.
#[derive(Debug, Clone, PartialEq, Eq, Hash)]
pub struct Bits {
    words: Vec<u64>,
    length: usize,
}

impl Bits {
    /// The empty set of numbers below `length`.
    pub fn none(length: usize) -> Self {
        Self { words: vec![0; length.div_ceil(64)], length }
    }

    /// All numbers below `length`.
    pub fn all(length: usize) -> Self {
        let mut bits = Self { words: vec![u64::MAX; length.div_ceil(64)], length };
        bits.trim();
        bits
    }

    /// Bits beyond the last number are zero.
    fn trim(&mut self) {
        if let (Some(last), rest @ 1..) = (self.words.last_mut(), self.length % 64) {
            *last &= (1 << rest) - 1;
        }
    }

    /// Adds a number; those that are too large are left out.
    pub fn insert(&mut self, n: usize) {
        if let (true, Some(word)) = (n < self.length, self.words.get_mut(n / 64)) {
            *word |= 1 << (n % 64);
        }
    }

    /// Whether it holds this number.
    pub fn contains(&self, n: usize) -> bool {
        self.words.get(n / 64).is_some_and(|w| w & (1 << (n % 64)) != 0)
    }

    /// Whether it holds nothing.
    pub fn is_empty(&self) -> bool {
        self.words.iter().all(|w| *w == 0)
    }

    /// How many there are.
    pub fn len(&self) -> usize {
        self.words.iter().map(|w| w.count_ones() as usize).sum()
    }

    /// Keeps what is in the other too.
    pub fn keep(&mut self, other: &Self) {
        self.words.iter_mut().zip(&other.words).for_each(|(a, b)| *a &= b);
    }

    /// Adds what is in the other.
    pub fn add(&mut self, other: &Self) {
        self.words.iter_mut().zip(&other.words).for_each(|(a, b)| *a |= b);
    }

    /// Removes what is in the other.
    pub fn remove(&mut self, other: &Self) {
        self.words.iter_mut().zip(&other.words).for_each(|(a, b)| *a &= !b);
    }

    /// Everything that is not in it.
    #[must_use]
    pub fn complement(mut self) -> Self {
        self.words.iter_mut().for_each(|w| *w = !*w);
        self.trim();
        self
    }

    /// Whether both have something in common.
    pub fn meets(&self, other: &Self) -> bool {
        self.words.iter().zip(&other.words).any(|(a, b)| a & b != 0)
    }

    /// Whether everything in it is in the other.
    pub fn within(&self, other: &Self) -> bool {
        self.words.iter().zip(&other.words).all(|(a, b)| a & !b == 0)
    }

    /// The numbers, ascending.
    pub fn iter(&self) -> impl Iterator<Item = usize> {
        self.words.iter().enumerate().flat_map(|(at, word)| ones(*word).map(move |bit| at * 64 + bit))
    }

    /// The words, lowest numbers first.
    pub fn words(&self) -> &[u64] {
        &self.words
    }
}

/// The set bits of a word, ascending.
pub(crate) fn ones(mut word: u64) -> impl Iterator<Item = usize> {
    std::iter::from_fn(move || {
        let bit = word.trailing_zeros() as usize;
        word &= word.checked_sub(1)?;
        Some(bit)
    })
}

/// Who or what has which property.
#[derive(Debug, Clone, Default)]
pub struct Index {
    length: usize,
    /// Property key, then value, then those that have it.
    keys: HashMap<String, BTreeMap<String, Vec<u32>>>,
}

impl Index {
    pub(super) fn of<'a>(things: impl Iterator<Item = (Vec<(&'a str, String)>, &'a BTreeSet<String>)>) -> Self {
        let mut index = Self::default();
        for (at, (properties, groups)) in things.enumerate() {
            index.length = at + 1;
            let groups = groups.iter().map(|g| ("group", g.clone()));
            for (key, value) in properties.into_iter().chain(groups) {
                index.insert(key, value, at);
            }
        }
        index
    }

    fn insert(&mut self, key: &str, value: String, at: usize) {
        if !self.keys.contains_key(key) {
            self.keys.insert(key.into(), BTreeMap::new());
        }
        if let (Some(values), Ok(at)) = (self.keys.get_mut(key), u32::try_from(at)) {
            values.entry(value).or_default().push(at);
        }
    }

    /// Adds the members that groups have by selectors and by other groups.
    pub(super) fn join(&mut self, groups: &[Group], of: Members) {
        let mut direct: BTreeMap<String, Bits> = BTreeMap::new();
        for (name, members) in self.keys.get("group").into_iter().flatten() {
            direct.insert(name.clone(), self.bits(members));
        }
        for group in groups.iter().filter(|g| g.of == of) {
            let Some(selector) = group.select.as_ref().and_then(|s| Selector::parse(s, of.subject()).ok()) else { continue };
            let selected = self.select(&selector);
            direct.entry(group.name.clone()).or_insert_with(|| Bits::none(self.length)).add(&selected);
        }
        let mut full = direct.clone();
        for (inner, all) in holders(groups, of) {
            let Some(members) = direct.get(inner) else { continue };
            for holder in all {
                full.entry(holder.into()).or_insert_with(|| Bits::none(self.length)).add(members);
            }
        }
        let listed = full.into_iter().map(|(name, bits)| (name, bits.iter().filter_map(|i| u32::try_from(i).ok()).collect())).collect();
        self.keys.insert("group".into(), listed);
    }

    /// How many people or machines there are.
    pub fn len(&self) -> usize {
        self.length
    }

    /// Whether there is nobody and nothing.
    pub fn is_empty(&self) -> bool {
        self.length == 0
    }

    /// The values that a property has anywhere.
    pub fn values(&self, key: &str) -> impl Iterator<Item = &str> {
        self.keys.get(key).into_iter().flat_map(|v| v.keys().map(String::as_str))
    }

    /// Those that have this property with this value.
    pub fn members(&self, key: &str, value: &str) -> &[u32] {
        self.keys.get(key).and_then(|v| v.get(value)).map_or(&[], Vec::as_slice)
    }

    fn bits(&self, members: &[u32]) -> Bits {
        let mut bits = Bits::none(self.length);
        members.iter().for_each(|m| bits.insert(*m as usize));
        bits
    }

    /// Those that meet one condition.
    pub fn meeting(&self, atom: &Atom) -> Bits {
        let mut bits = Bits::none(self.length);
        let Some(values) = self.keys.get(&atom.key) else { return bits };
        if atom.key != "address" && !atom.value.contains('*') {
            values.get(&atom.value).into_iter().flatten().for_each(|m| bits.insert(*m as usize));
            return bits;
        }
        for (value, members) in values {
            if atom.meets(&atom.key, value) {
                members.iter().for_each(|m| bits.insert(*m as usize));
            }
        }
        bits
    }

    /// Those that a selector selects.
    pub fn select(&self, selector: &Selector) -> Bits {
        match selector {
            Selector::All => Bits::all(self.length),
            Selector::Atom(a) => self.meeting(a),
            Selector::Not(x) => self.select(x).complement(),
            Selector::And(xs) => xs.iter().fold(Bits::all(self.length), |mut bits, x| {
                if !bits.is_empty() {
                    bits.keep(&self.select(x));
                }
                bits
            }),
            Selector::Or(xs) => xs.iter().fold(Bits::none(self.length), |mut bits, x| {
                bits.add(&self.select(x));
                bits
            }),
        }
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::directory::selector::Subject;
    use crate::directory::{Directory, Machine, Person};
    use proptest::prelude::*;

    #[test]
    fn bits_beyond_the_last_number_stay_zero() {
        for length in [0, 1, 63, 64, 65, 130] {
            assert_eq!(Bits::all(length).len(), length);
            assert!(Bits::all(length).complement().is_empty());
            assert_eq!(Bits::none(length).complement().iter().collect::<Vec<_>>(), (0..length).collect::<Vec<_>>());
        }
    }

    #[test]
    fn groups_hold_members_by_hand_by_selector_and_by_other_groups() {
        let machine = |name: &str, groups: &[&str], site: &str, address: &str| -> Machine {
            serde_json::from_value(serde_json::json!({ "name": name, "groups": groups, "site": site, "address": address })).unwrap()
        };
        let groups: Vec<Group> = serde_json::from_value(serde_json::json!([
            { "name": "ridge-lan", "of": "machines", "select": "address:10.20.0.0/16" },
            { "name": "all-instruments", "of": "machines", "groups": ["ridge-lan", "by-hand"] },
        ]))
        .unwrap();
        let machines = vec![
            machine("a", &["by-hand"], "valley", "10.30.0.1:22"),
            machine("b", &[], "ridge", "10.20.0.1:22"),
            machine("c", &[], "ridge", "c.example:22"),
        ];
        let d = Directory::with_groups(vec![], machines, groups);
        let of = |t: &str| d.select_machines(&Selector::parse(t, Subject::Machines).unwrap()).iter().collect::<Vec<_>>();
        assert_eq!(of("group:ridge-lan"), [1]);
        assert_eq!(of("group:all-*"), [0, 1]);
        assert_eq!(of("!group:all-instruments"), [2]);
        assert_eq!(d.machine_groups(), BTreeSet::from(["all-instruments", "by-hand", "ridge-lan"]));
    }

    fn person() -> impl Strategy<Value = Person> {
        let set = |words: &'static [&'static str]| prop::collection::btree_set(prop::sample::select(words.to_vec()), 0..3);
        (set(&["night", "day", "x"]), prop::sample::select(vec!["", "A", "B"]), any::<bool>()).prop_map(|(groups, organisation, ends)| {
            let until = ends.then_some("2026-12-31");
            serde_json::from_value(serde_json::json!({ "name": "p", "groups": groups, "organisation": organisation, "valid_until": until }))
                .unwrap()
        })
    }

    fn condition() -> impl Strategy<Value = String> {
        let atom = prop::sample::select(vec!["group:night", "group:*", "organisation:A", "ends:never", "ends:2026-*", "role:auditor", "*"]);
        atom.prop_map(String::from).prop_recursive(3, 12, 3, |inner| {
            prop_oneof![
                inner.clone().prop_map(|x| format!("!({x})")),
                prop::collection::vec(inner.clone(), 2..4).prop_map(|xs| format!("({})", xs.join(" & "))),
                prop::collection::vec(inner, 2..4).prop_map(|xs| format!("({})", xs.join(" | "))),
            ]
        })
    }

    proptest! {
        #[test]
        fn the_index_agrees_with_asking_one_by_one(people in prop::collection::vec(person(), 0..6), text in condition()) {
            let selector = Selector::parse(&text, Subject::People).unwrap();
            let naive: Vec<usize> = people.iter().enumerate().filter(|(_, p)| {
                let mut properties = p.properties();
                properties.extend(p.groups.iter().map(|g| ("group", g.clone())));
                selector.holds(&|a| properties.iter().any(|(k, v)| a.meets(k, v)))
            }).map(|(i, _)| i).collect();
            let d = Directory::new(people.clone(), vec![]);
            prop_assert_eq!(d.select_people(&selector).iter().collect::<Vec<_>>(), naive);
        }
    }
}
