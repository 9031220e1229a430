//! People, groups, machines and labels, and the selectors that rules name them with.

mod machine;
mod person;
pub mod selector;

pub use machine::{Machine, MachineState};
pub use person::{Person, RegisteredKey, Role, Standing};

use std::collections::{BTreeSet, HashMap};

/// Everybody and everything that rules can speak of, at one moment.
#[derive(Debug, Clone, Default)]
pub struct Directory {
    people: Vec<Person>,
    machines: Vec<Machine>,
    person_at: HashMap<String, usize>,
    machine_at: HashMap<String, usize>,
    key_at: HashMap<String, usize>,
}

/// The directory as a file: what `aerie directory export` writes and `--directory` reads (JSON).
#[derive(Debug, Clone, Default, serde::Serialize, serde::Deserialize)]
pub struct DirectoryFile {
    /// Everybody.
    pub people: Vec<Person>,
    /// Every machine.
    pub machines: Vec<Machine>,
}

impl Directory {
    /// Builds the look-up tables. Of two entries with one name the later wins.
    pub fn new(people: Vec<Person>, machines: Vec<Machine>) -> Self {
        let person_at = people.iter().enumerate().map(|(i, p)| (p.name.clone(), i)).collect();
        let machine_at = machines.iter().enumerate().map(|(i, m)| (m.name.clone(), i)).collect();
        let key_at = people.iter().enumerate().flat_map(|(i, p)| p.keys.iter().map(move |k| (k.fingerprint.clone(), i))).collect();
        Self { people, machines, person_at, machine_at, key_at }
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

    /// Whose key this is, by its fingerprint (`SHA256:…`).
    pub fn owner_of_key(&self, fingerprint: &str) -> Option<&Person> {
        self.people.get(*self.key_at.get(fingerprint)?)
    }

    /// Every group that anybody is in.
    pub fn groups(&self) -> BTreeSet<&str> {
        self.people.iter().flat_map(|p| p.groups.iter().map(String::as_str)).collect()
    }

    /// The machine that calls itself by this host name, or is reached at this address.
    pub fn machine_by_host(&self, host: &str) -> Option<&Machine> {
        self.machine(host).or_else(|| {
            let short = host.split('.').next().unwrap_or(host);
            self.machine(short)
        })
    }
}

impl From<DirectoryFile> for Directory {
    fn from(file: DirectoryFile) -> Self {
        Self::new(file.people, file.machines)
    }
}
