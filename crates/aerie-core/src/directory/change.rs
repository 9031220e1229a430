//! Taking a directory in: what must hold for it, what it changes, and its form as CSV.

use super::group::{GroupError, Members, check_groups};
use super::selector::{Selector, Subject};
use super::{DirectoryFile, Machine, Person, Role, Standing};
use jiff::civil::Date;
use serde::Serialize;
use serde::de::DeserializeOwned;
use serde_json::{Map, Value};
use std::collections::{BTreeMap, HashMap};

/// Most people, and most machines, that are taken in.
pub(super) const MAX_ENTRIES: usize = 200_000;
/// Longest name of a person, machine or group.
const MAX_NAME: usize = 64;

/// Why a directory cannot be taken in.
#[derive(Debug, Clone, PartialEq, Eq, thiserror::Error)]
pub enum DirectoryError {
    /// A name is not one.
    #[error("`{0}` is not a name: write small letters, digits, `-`, `_` and `.`, beginning with a letter or digit, at most {MAX_NAME}")]
    Name(String),
    /// A name is given twice.
    #[error("{0} `{1}` is given twice")]
    Twice(&'static str, String),
    /// There are too many.
    #[error("there are more than {MAX_ENTRIES} {0}")]
    TooMany(&'static str),
    /// A group.
    #[error(transparent)]
    Group(#[from] GroupError),
    /// The scope of a role.
    #[error("the scope of a role of `{person}` cannot be read: {why}")]
    Scope {
        /// Whose.
        person: String,
        /// What is wrong.
        why: String,
    },
    /// An address or way of a machine.
    #[error("the machine `{machine}`: {why}")]
    Machine {
        /// Which.
        machine: String,
        /// What is wrong.
        why: String,
    },
    /// Nobody would be left who can set this right.
    #[error("no administrator without scope would be left")]
    NoAdministrator,
    /// A line of CSV.
    #[error("line {line}: {why}")]
    Csv {
        /// Line, from 1.
        line: u64,
        /// What is wrong.
        why: String,
    },
}

fn is_name(name: &str) -> bool {
    let plain = |c: char| c.is_ascii_lowercase() || c.is_ascii_digit();
    name.len() <= MAX_NAME && name.starts_with(plain) && name.chars().all(|c| plain(c) || "-_.".contains(c))
}

/// Checks that a directory can be taken in.
///
/// # Errors
/// The first thing that cannot be taken.
pub fn validate(file: &DirectoryFile) -> Result<(), DirectoryError> {
    let people = file.people.iter().map(|p| p.name.as_str());
    let machines = file.machines.iter().map(|m| m.name.as_str());
    names("people", "the person", people)?;
    names("machines", "the machine", machines)?;
    if let Some(group) = file.groups.iter().find(|g| !is_name(&g.name)) {
        return Err(DirectoryError::Name(group.name.clone()));
    }
    check_groups(&file.groups)?;
    file.machines.iter().try_for_each(machine_is_good)?;
    for person in &file.people {
        for scope in person.scopes.values() {
            for (text, subject) in [(&scope.people, Subject::People), (&scope.machines, Subject::Machines)] {
                Selector::parse(text, subject).map_err(|e| DirectoryError::Scope { person: person.name.clone(), why: e.message })?;
            }
        }
    }
    Ok(())
}

/// Most ways, and most accounts, of a machine.
const MOST_WAYS: usize = 50;
/// Longest site, owner and note of a machine, in characters.
const LONGEST_TEXT: usize = 4_000;

/// Checks the parts of one machine that are given by hand.
///
/// # Errors
/// The first that cannot be taken.
pub fn machine_is_good(machine: &Machine) -> Result<(), DirectoryError> {
    let wrong = |why: String| DirectoryError::Machine { machine: machine.name.clone(), why };
    if !is_name(&machine.name) {
        return Err(DirectoryError::Name(machine.name.clone()));
    }
    let target = |address: &str| address.parse::<crate::tunnel::Target>().map(drop).map_err(|e| wrong(e.to_string()));
    if !machine.address.is_empty() {
        target(&machine.address)?;
    }
    if machine.ways.len() > MOST_WAYS || machine.accounts.len() > MOST_WAYS {
        return Err(wrong(format!("it has more than {MOST_WAYS} ways or accounts")));
    }
    let mut names = std::collections::HashSet::new();
    for way in &machine.ways {
        if !is_name(&way.name) || !names.insert(&way.name) {
            return Err(wrong(format!("`{}` is no name of a way, or is given twice", crate::diagnostic::printable(&way.name))));
        }
        target(&way.address)?;
    }
    let texts = [&machine.site, &machine.owner, &machine.note];
    if texts.iter().any(|t| {
        t.chars().count() > LONGEST_TEXT || {
            let line = t.replace('\n', " ");
            crate::diagnostic::printable(&line) != line
        }
    }) {
        return Err(wrong(format!("site, owner and note are plain text of at most {LONGEST_TEXT} characters")));
    }
    match machine.accounts.iter().find(|a| !crate::vault::is_account(a)) {
        Some(bad) => Err(wrong(format!("`{}` is no account name", crate::diagnostic::printable(bad)))),
        None => Ok(()),
    }
}

/// Checks that somebody is left who can set things right: an administrator without scope whose account is good on that day.
///
/// # Errors
/// When nobody is.
pub fn keeps_administrator(file: &DirectoryFile, day: Date) -> Result<(), DirectoryError> {
    let full = |p: &&Person| p.roles.contains(&Role::Administrator) && !p.scopes.contains_key(&Role::Administrator);
    let good = file.people.iter().filter(full).any(|p| p.standing(day) == Standing::Good);
    if good { Ok(()) } else { Err(DirectoryError::NoAdministrator) }
}

fn names<'a>(what: &'static str, one: &'static str, names: impl Iterator<Item = &'a str>) -> Result<(), DirectoryError> {
    let mut seen = std::collections::HashSet::new();
    for (count, name) in names.enumerate() {
        if count == MAX_ENTRIES {
            return Err(DirectoryError::TooMany(what));
        }
        if !is_name(name) {
            return Err(DirectoryError::Name(crate::diagnostic::printable(name).chars().take(80).collect()));
        }
        if !seen.insert(name) {
            return Err(DirectoryError::Twice(one, name.into()));
        }
    }
    Ok(())
}

/// One thing that is different between two directories.
#[derive(Debug, Clone, PartialEq, Eq, Serialize)]
pub struct Difference {
    /// `person`, `machine` or `group`.
    pub what: &'static str,
    /// Its name.
    pub name: String,
    /// `added`, `removed` or `changed`.
    pub change: &'static str,
    /// What changed of it: property, before, after. Of an added or removed one, nothing.
    pub properties: Vec<(String, String, String)>,
}

impl Difference {
    /// The difference as a sentence.
    pub fn sentence(&self) -> String {
        let parts: Vec<String> =
            self.properties.iter().map(|(key, before, after)| format!("{} from {before} to {after}", key.replace('_', " "))).collect();
        let ending = if parts.is_empty() { String::new() } else { format!(": {}", parts.join("; ")) };
        format!("The {} {} is {}{ending}.", self.what, self.name, self.change)
    }
}

/// Everything that is different between two directories, people first, then machines and groups, each by name.
pub fn differences(before: &DirectoryFile, after: &DirectoryFile) -> Vec<Difference> {
    let mut found = vec![];
    compare("person", &before.people, &after.people, |p| p.name.clone(), &mut found);
    compare("machine", &before.machines, &after.machines, |m| m.name.clone(), &mut found);
    compare("group", &before.groups, &after.groups, |g| g.name.clone(), &mut found);
    found
}

fn compare<T: Serialize>(what: &'static str, before: &[T], after: &[T], name: impl Fn(&T) -> String, found: &mut Vec<Difference>) {
    let fields = |items: &[T]| -> BTreeMap<String, Map<String, Value>> {
        let object = |i: &T| match serde_json::to_value(i) {
            Ok(Value::Object(o)) => o,
            _ => Map::new(),
        };
        items.iter().map(|i| (name(i), object(i))).collect()
    };
    let (old, new) = (fields(before), fields(after));
    let mut names: Vec<&String> = old.keys().chain(new.keys()).collect();
    names.sort_unstable();
    names.dedup();
    for name in names {
        let (change, properties) = match (old.get(name), new.get(name)) {
            (Some(a), Some(b)) if a == b => continue,
            (Some(a), Some(b)) => ("changed", changed(a, b)),
            (None, _) => ("added", vec![]),
            (_, None) => ("removed", vec![]),
        };
        found.push(Difference { what, name: name.clone(), change, properties });
    }
}

fn changed(a: &Map<String, Value>, b: &Map<String, Value>) -> Vec<(String, String, String)> {
    let mut keys: Vec<&String> = a.keys().chain(b.keys()).collect();
    keys.sort_unstable();
    keys.dedup();
    let differing = keys.into_iter().filter(|k| a.get(*k) != b.get(*k));
    differing.map(|k| (k.clone(), shown(a.get(k)), shown(b.get(k)))).collect()
}

fn shown(value: Option<&Value>) -> String {
    match value {
        None | Some(Value::Null) => "none".into(),
        Some(Value::String(s)) if s.is_empty() => "none".into(),
        Some(Value::String(s)) => s.clone(),
        Some(Value::Array(a)) if a.is_empty() => "none".into(),
        Some(Value::Array(a)) => a.iter().map(|v| shown(Some(v))).collect::<Vec<_>>().join(", "),
        Some(v) => v.to_string(),
    }
}

const PEOPLE: [&str; 8] = ["name", "full_name", "organisation", "groups", "roles", "suspended", "valid_from", "valid_until"];
const MACHINES: [&str; 9] = ["name", "address", "via", "site", "owner", "labels", "groups", "accounts", "note"];
/// Columns that hold several values, separated by semicolons.
const LISTS: [&str; 4] = ["groups", "roles", "labels", "accounts"];

fn columns(of: Members) -> &'static [&'static str] {
    match of {
        Members::People => &PEOPLE,
        Members::Machines => &MACHINES,
    }
}

/// People or machines as CSV (RFC 4180) with a head line; lists are separated by semicolons. A cell that a spreadsheet would
/// take for a formula begins with an apostrophe.
pub fn to_csv(file: &DirectoryFile, of: Members) -> String {
    let rows: Vec<Value> = match of {
        Members::People => file.people.iter().filter_map(|p| serde_json::to_value(p).ok()).collect(),
        Members::Machines => file.machines.iter().filter_map(|m| serde_json::to_value(m).ok()).collect(),
    };
    let mut out = csv::WriterBuilder::new().from_writer(vec![]);
    let cell = |row: &Value, column: &str| match row.get(column) {
        Some(Value::Array(a)) => a.iter().filter_map(Value::as_str).collect::<Vec<_>>().join(";"),
        Some(Value::String(s)) if s.starts_with(['=', '+', '-', '@', '\'']) => format!("'{s}"),
        Some(Value::String(s)) => s.clone(),
        Some(Value::Bool(b)) => b.to_string(),
        _ => String::new(),
    };
    // Writing into memory does not fail.
    let _ = out.write_record(columns(of));
    for row in &rows {
        let _ = out.write_record(columns(of).iter().map(|c| cell(row, c)));
    }
    out.into_inner().ok().and_then(|b| String::from_utf8(b).ok()).unwrap_or_default()
}

/// Reads people or machines from CSV into a directory: those named are added or changed, columns that are missing keep what
/// was known, and whoever is not named stays.
///
/// # Errors
/// At the first line that cannot be read.
pub fn from_csv(text: &str, of: Members, known: &DirectoryFile) -> Result<DirectoryFile, DirectoryError> {
    let mut reader = csv::ReaderBuilder::new().trim(csv::Trim::All).from_reader(text.as_bytes());
    let wrong = |line: u64, why: String| DirectoryError::Csv { line, why };
    let head = reader.headers().map_err(|e| wrong(1, e.to_string()))?.clone();
    if let Some(odd) = head.iter().find(|h| !columns(of).contains(h)) {
        let known = crate::wording::list(columns(of));
        return Err(wrong(1, format!("there is no column `{}`: known are {known}", crate::diagnostic::printable(odd))));
    }
    if !head.iter().any(|h| h == "name") {
        return Err(wrong(1, "there is no column `name`".into()));
    }
    let mut file = known.clone();
    let (mut people, mut machines) = (positions(&file.people, |p| &p.name), positions(&file.machines, |m| &m.name));
    for record in reader.records() {
        let record = record.map_err(|e| wrong(e.position().map_or(0, csv::Position::line), e.to_string()))?;
        let line = record.position().map_or(0, csv::Position::line);
        let fields: Vec<(&str, &str)> = head.iter().zip(record.iter()).collect();
        let done = match of {
            Members::People => put::<Person>(&mut file.people, &mut people, &fields),
            Members::Machines => put::<Machine>(&mut file.machines, &mut machines, &fields),
        };
        done.map_err(|why| wrong(line, why))?;
    }
    Ok(file)
}

fn positions<T>(all: &[T], name: impl Fn(&T) -> &String) -> HashMap<String, usize> {
    all.iter().enumerate().map(|(i, t)| (name(t).clone(), i)).collect()
}

/// Lays the cells over the entry of that name, or over an empty one.
fn put<T: Serialize + DeserializeOwned>(
    all: &mut Vec<T>,
    positions: &mut HashMap<String, usize>,
    fields: &[(&str, &str)],
) -> Result<(), String> {
    let name = fields.iter().find(|(k, _)| *k == "name").map_or("", |(_, v)| *v);
    let at = positions.get(name).copied();
    let known = at.and_then(|i| all.get(i)).and_then(|t| serde_json::to_value(t).ok());
    let mut entry = known.and_then(|v| if let Value::Object(o) = v { Some(o) } else { None }).unwrap_or_default();
    for (key, cell) in fields {
        let value = match *key {
            k if LISTS.contains(&k) => Value::Array(cell.split(';').map(str::trim).filter(|c| !c.is_empty()).map(Value::from).collect()),
            "suspended" => match *cell {
                "true" => true.into(),
                "false" | "" => false.into(),
                other => return Err(format!("`{other}` is neither `true` nor `false`")),
            },
            "valid_from" | "valid_until" if cell.is_empty() => Value::Null,
            "via" if cell.is_empty() => "direct".into(),
            _ => cell.strip_prefix('\'').unwrap_or(cell).into(),
        };
        entry.insert((*key).into(), value);
    }
    let read: T = serde_json::from_value(Value::Object(entry)).map_err(|e| e.to_string())?;
    match at.and_then(|i| all.get_mut(i)) {
        Some(slot) => *slot = read,
        None => {
            positions.insert(name.into(), all.len());
            all.push(read);
        }
    }
    Ok(())
}

#[cfg(test)]
mod tests {
    use super::*;

    fn file() -> DirectoryFile {
        serde_json::from_value(serde_json::json!({
            "people": [
                { "name": "ines", "full_name": "Ines Okafor", "groups": ["night-operators"], "roles": ["technician"] },
                { "name": "noor", "full_name": "Noor El-Amin", "valid_until": "2026-03-31" },
            ],
            "machines": [{ "name": "dome-east", "site": "ridge", "labels": ["dome", "tier=1"], "note": "=2+2, \"quoted\"" }],
        }))
        .unwrap()
    }

    #[test]
    fn what_is_written_as_csv_reads_back_unchanged() {
        let known = file();
        for of in [Members::People, Members::Machines] {
            let text = to_csv(&known, of);
            assert!(!text.contains(",=2"), "{text}");
            assert_eq!(differences(&known, &from_csv(&text, of, &known).unwrap()), []);
        }
    }

    #[test]
    fn csv_changes_what_it_names_and_keeps_the_rest() {
        let known = file();
        let read =
            from_csv("name,groups,valid_until\nines,night-operators;archivists,2027-01-31\njun,,\n", Members::People, &known).unwrap();
        let said: Vec<String> = differences(&known, &read).iter().map(Difference::sentence).collect();
        assert_eq!(
            said,
            [
                "The person ines is changed: groups from night-operators to archivists, night-operators; valid until from none to 2027-01-31.",
                "The person jun is added."
            ]
        );
        assert_eq!(read.people.len(), 3);
    }

    #[test]
    fn mistakes_in_csv_are_placed() {
        let table = [
            ("person\nines\n", "line 1: there is no column `person`"),
            ("full_name\nines\n", "line 1: there is no column `name`"),
            ("name,suspended\nines,false\nnoor,perhaps\n", "line 3: `perhaps` is neither `true` nor `false`"),
            ("name,valid_until\nines,soon\n", "line 2: "),
            ("name,roles\nines,king\n", "line 2: "),
            ("name,groups\nines\n", "line 2: "),
        ];
        for (text, why) in table {
            let said = from_csv(text, Members::People, &file()).unwrap_err().to_string();
            assert!(said.starts_with(why), "{text}: {said}");
        }
    }

    #[test]
    fn names_are_plain_and_unique() {
        let with = |names: &[&str]| DirectoryFile {
            people: names.iter().map(|n| serde_json::from_value(serde_json::json!({ "name": n })).unwrap()).collect(),
            ..DirectoryFile::default()
        };
        assert_eq!(validate(&with(&["ines", "noor.2"])), Ok(()));
        assert_eq!(validate(&with(&["ines", "ines"])), Err(DirectoryError::Twice("the person", "ines".into())));
        for bad in ["", "Ines", "\u{456}nes", "a b", "-a", "a+b", &"a".repeat(65)] {
            assert!(matches!(validate(&with(&[bad])), Err(DirectoryError::Name(_))), "{bad}");
        }
    }

    #[test]
    fn an_administrator_whose_account_is_good_must_be_left() {
        let with = |more: serde_json::Value| {
            let mut lena = serde_json::json!({ "name": "lena", "roles": ["administrator"] });
            lena.as_object_mut().unwrap().extend(more.as_object().unwrap().clone());
            serde_json::from_value(serde_json::json!({ "people": [lena], "machines": [] })).unwrap()
        };
        let day = "2026-11-23".parse().unwrap();
        for (more, left) in [
            (serde_json::json!({}), true),
            (serde_json::json!({ "valid_until": "2026-11-23" }), true),
            (serde_json::json!({ "valid_until": "2026-11-22" }), false),
            (serde_json::json!({ "suspended": true }), false),
            (serde_json::json!({ "roles": ["auditor"] }), false),
            (serde_json::json!({ "scopes": { "administrator": { "machines": "site=ridge" } } }), false),
        ] {
            assert_eq!(keeps_administrator(&with(more.clone()), day).is_ok(), left, "{more}");
        }
    }

    #[test]
    fn scopes_must_read() {
        let mut f = file();
        let scope = |machines: &str| super::super::Scope { people: "*".into(), machines: machines.into() };
        f.people[0].scopes.insert(super::super::Role::Technician, scope("site=ridge"));
        assert_eq!(validate(&f), Ok(()));
        f.people[0].scopes.insert(super::super::Role::Technician, scope("sight:ridge"));
        assert!(matches!(validate(&f), Err(DirectoryError::Scope { .. })));
    }
}
