//! People, groups, machines and labels, and the selectors that rules name them with.

mod authority;
mod change;
mod group;
mod index;
mod machine;
mod person;
pub mod selector;

pub use authority::{Act, Authority, Raised, raised};
pub use change::{Difference, DirectoryError, differences, from_csv, keeps_administrator, machine_is_good, to_csv, validate};
pub use group::{Group, GroupError, Members, check_groups};
pub(crate) use index::ones;
pub use index::{Bits, Index};
pub use machine::{Machine, MachineState, Via, Way, WayKind};
pub use person::{Person, RegisteredKey, Role, Scope, Standing};

use selector::{Selector, Subject};
use std::collections::{BTreeSet, HashMap};

/// Everybody and everything that rules can speak of, at one moment.
#[derive(Debug, Clone, Default)]
pub struct Directory {
    people: Vec<Person>,
    machines: Vec<Machine>,
    person_at: HashMap<String, usize>,
    machine_at: HashMap<String, usize>,
    /// Fingerprint to person; none where several have it.
    key_at: HashMap<String, Option<usize>>,
    groups: Vec<Group>,
    person_index: Index,
    machine_index: Index,
}

/// The directory as a file: what `aerie directory export` writes and `--directory` reads (JSON).
#[derive(Debug, Clone, Default, serde::Serialize, serde::Deserialize)]
pub struct DirectoryFile {
    /// Everybody.
    pub people: Vec<Person>,
    /// Every machine.
    pub machines: Vec<Machine>,
    /// Groups that hold others or fill themselves.
    #[serde(default)]
    pub groups: Vec<Group>,
}

impl Directory {
    /// Builds the look-up tables. Of two entries with one name the later wins.
    pub fn new(people: Vec<Person>, machines: Vec<Machine>) -> Self {
        Self::with_groups(people, machines, vec![])
    }

    /// Builds the look-up tables, with groups that hold others or fill themselves. Circles among them are cut; those who take
    /// groups in refuse them with [`check_groups`].
    pub fn with_groups(people: Vec<Person>, machines: Vec<Machine>, groups: Vec<Group>) -> Self {
        let person_at = people.iter().enumerate().map(|(i, p)| (p.name.clone(), i)).collect();
        let machine_at = machines.iter().enumerate().map(|(i, m)| (m.name.clone(), i)).collect();
        let mut key_at: HashMap<String, Option<usize>> = HashMap::new();
        for (i, person) in people.iter().enumerate() {
            for key in &person.keys {
                let owner = key_at.entry(key.fingerprint.clone()).or_insert(Some(i));
                *owner = owner.filter(|o| *o == i);
            }
        }
        let mut person_index = Index::of(people.iter().map(|p| (p.properties(), &p.groups)));
        person_index.join(&groups, Members::People);
        let mut machine_index = Index::of(machines.iter().map(|m| (m.properties(), &m.groups)));
        machine_index.join(&groups, Members::Machines);
        Self { people, machines, person_at, machine_at, key_at, groups, person_index, machine_index }
    }

    /// Groups that hold others or fill themselves.
    pub fn group_definitions(&self) -> &[Group] {
        &self.groups
    }

    /// The properties by which people are selected.
    pub fn person_properties(&self) -> &Index {
        &self.person_index
    }

    /// The properties by which machines are selected.
    pub fn machine_properties(&self) -> &Index {
        &self.machine_index
    }

    /// The people that a selector selects, as indices into [`Directory::people`].
    pub fn select_people(&self, selector: &Selector) -> Bits {
        self.person_index.select(selector)
    }

    /// The machines that a selector selects, as indices into [`Directory::machines`].
    pub fn select_machines(&self, selector: &Selector) -> Bits {
        self.machine_index.select(selector)
    }

    /// Everybody, in the order given.
    pub fn people(&self) -> &[Person] {
        &self.people
    }

    /// Every machine, in the order given.
    pub fn machines(&self) -> &[Machine] {
        &self.machines
    }

    /// The person of that name.
    pub fn person(&self, name: &str) -> Option<&Person> {
        self.people.get(*self.person_at.get(name)?)
    }

    /// The machine of that name.
    pub fn machine(&self, name: &str) -> Option<&Machine> {
        self.machines.get(*self.machine_at.get(name)?)
    }

    /// Index of a person in [`Directory::people`].
    pub fn person_index(&self, name: &str) -> Option<usize> {
        self.person_at.get(name).copied()
    }

    /// Index of a machine in [`Directory::machines`].
    pub fn machine_index(&self, name: &str) -> Option<usize> {
        self.machine_at.get(name).copied()
    }

    /// Whose key this is, by its fingerprint (`SHA256:…`). A key that two people have is nobody's: see
    /// [`Directory::shared_keys`].
    pub fn owner_of_key(&self, fingerprint: &str) -> Option<&Person> {
        self.people.get((*self.key_at.get(fingerprint)?)?)
    }

    /// Keys that more than one person has: fingerprint and names.
    pub fn shared_keys(&self) -> Vec<(&str, Vec<&str>)> {
        let mut shared: Vec<(&str, Vec<&str>)> = self
            .key_at
            .iter()
            .filter(|(_, owner)| owner.is_none())
            .map(|(print, _)| {
                let has = |p: &&Person| p.keys.iter().any(|k| k.fingerprint == *print);
                (print.as_str(), self.people.iter().filter(has).map(|p| p.name.as_str()).collect())
            })
            .collect();
        shared.sort_unstable();
        shared
    }

    /// The groups of people that somebody belongs to, those that fill themselves or hold others included.
    pub fn groups_of(&self, person: &str) -> BTreeSet<&str> {
        let Some(at) = self.person_index(person) else { return BTreeSet::new() };
        let inside =
            |group: &&str| Selector::parse(&format!("group:{group}"), Subject::People).is_ok_and(|s| self.select_people(&s).contains(at));
        self.groups().into_iter().filter(inside).collect()
    }

    /// Every group of people.
    pub fn groups(&self) -> BTreeSet<&str> {
        self.person_index.values("group").chain(self.named(Members::People)).collect()
    }

    /// Every group of machines.
    pub fn machine_groups(&self) -> BTreeSet<&str> {
        self.machine_index.values("group").chain(self.named(Members::Machines)).collect()
    }

    fn named(&self, of: Members) -> impl Iterator<Item = &str> {
        self.groups.iter().filter(move |g| g.of == of).map(|g| g.name.as_str())
    }

    /// The machine that calls itself by this host name, or is reached at this address.
    pub fn machine_by_host(&self, host: &str) -> Option<&Machine> {
        self.machine(host).or_else(|| {
            let short = host.split('.').next().unwrap_or(host);
            self.machine(short)
        })
    }
}

impl From<&Directory> for DirectoryFile {
    fn from(d: &Directory) -> Self {
        Self { people: d.people.clone(), machines: d.machines.clone(), groups: d.groups.clone() }
    }
}

impl From<DirectoryFile> for Directory {
    fn from(file: DirectoryFile) -> Self {
        Self::with_groups(file.people, file.machines, file.groups)
    }
}
