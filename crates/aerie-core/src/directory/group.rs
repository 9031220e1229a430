//! Groups that hold other groups, or fill themselves by a selector.

use super::selector::{Selector, Subject};
use serde::{Deserialize, Serialize};
use std::collections::{BTreeMap, BTreeSet};

/// Most groups that may hold each other in a row.
const MAX_NESTING: usize = 16;

/// What a group holds.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Hash, PartialOrd, Ord, Serialize, Deserialize)]
#[serde(rename_all = "lowercase")]
pub enum Members {
    /// People.
    People,
    /// Machines.
    Machines,
}

impl Members {
    /// What a selector for such a group selects from.
    pub fn subject(self) -> Subject {
        match self {
            Self::People => Subject::People,
            Self::Machines => Subject::Machines,
        }
    }
}

/// A group that is more than a name that people and machines carry.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
#[serde(deny_unknown_fields)]
pub struct Group {
    /// Name: `[a-z0-9][a-z0-9._-]*`, at most 64 characters.
    pub name: String,
    /// What it holds.
    pub of: Members,
    /// Groups whose members are members of this one too.
    #[serde(default, skip_serializing_if = "BTreeSet::is_empty")]
    pub groups: BTreeSet<String>,
    /// Whoever or whatever this selects is a member: `site=ridge & label:instrument`, `address:10.20.0.0/16`. It speaks of
    /// no groups.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub select: Option<String>,
    /// What it is for.
    #[serde(default, skip_serializing_if = "String::is_empty")]
    pub note: String,
}

/// Why groups cannot be taken.
#[derive(Debug, Clone, PartialEq, Eq, thiserror::Error)]
pub enum GroupError {
    /// Two of one name hold the same.
    #[error("the group `{0}` is given twice")]
    Twice(String),
    /// It holds itself, by this way.
    #[error("groups hold each other in a circle: {}", .0.join(" holds "))]
    Cycle(Vec<String>),
    /// Too many hold each other in a row.
    #[error("groups hold each other more than {MAX_NESTING} deep, from `{0}` on")]
    TooDeep(String),
    /// A selector cannot be read.
    #[error("the selector of the group `{group}` cannot be read: {why}")]
    Selector {
        /// The group.
        group: String,
        /// What is wrong.
        why: String,
    },
}

/// Checks that no group holds itself and every selector can be read.
///
/// # Errors
/// The first that cannot be taken.
pub fn check_groups(groups: &[Group]) -> Result<(), GroupError> {
    let mut by_name = BTreeMap::new();
    for group in groups {
        if by_name.insert((group.of, group.name.as_str()), group).is_some() {
            return Err(GroupError::Twice(group.name.clone()));
        }
        if let Some(text) = &group.select {
            let wrong = |why: String| GroupError::Selector { group: group.name.clone(), why };
            let selector = Selector::parse(text, group.of.subject()).map_err(|e| wrong(e.message))?;
            if selector.atoms().iter().any(|a| a.key == "group") {
                return Err(wrong("it may not speak of groups: name them under `groups`".into()));
            }
        }
    }
    let mut done = BTreeSet::new();
    for group in groups {
        visit(group, &by_name, &mut vec![], &mut done)?;
    }
    Ok(())
}

type ByName<'a> = BTreeMap<(Members, &'a str), &'a Group>;

fn visit<'a>(
    group: &'a Group,
    all: &ByName<'a>,
    way: &mut Vec<&'a str>,
    done: &mut BTreeSet<(Members, &'a str)>,
) -> Result<(), GroupError> {
    if let Some(from) = way.iter().position(|g| *g == group.name) {
        let circle = way.iter().skip(from).chain([&group.name.as_str()]).map(ToString::to_string).collect();
        return Err(GroupError::Cycle(circle));
    }
    if way.len() == MAX_NESTING {
        return Err(GroupError::TooDeep(way.first().unwrap_or(&"").to_string()));
    }
    if done.contains(&(group.of, group.name.as_str())) && way.is_empty() {
        return Ok(());
    }
    way.push(&group.name);
    for inner in &group.groups {
        if let Some(inner) = all.get(&(group.of, inner.as_str())) {
            visit(inner, all, way, done)?;
        }
    }
    way.pop();
    done.insert((group.of, &group.name));
    Ok(())
}

/// For each group its holders, itself included: whoever is in the first is in all of them. Circles are cut.
pub(super) fn holders(groups: &[Group], of: Members) -> BTreeMap<&str, BTreeSet<&str>> {
    let mut direct: BTreeMap<&str, Vec<&str>> = BTreeMap::new();
    for group in groups.iter().filter(|g| g.of == of) {
        group.groups.iter().for_each(|inner| direct.entry(inner).or_default().push(&group.name));
    }
    let mut all = BTreeMap::new();
    for start in direct.keys() {
        let (mut found, mut todo) = (BTreeSet::from([*start]), vec![*start]);
        while let Some(name) = todo.pop() {
            for holder in direct.get(name).into_iter().flatten() {
                if found.insert(holder) {
                    todo.push(holder);
                }
            }
        }
        all.insert(*start, found);
    }
    all
}

#[cfg(test)]
mod tests {
    use super::*;

    fn group(name: &str, groups: &[&str], select: Option<&str>) -> Group {
        Group {
            name: name.into(),
            of: Members::People,
            groups: groups.iter().map(ToString::to_string).collect(),
            select: select.map(Into::into),
            note: String::new(),
        }
    }

    #[test]
    fn circles_are_refused_and_named() {
        let circle = [group("a", &["b"], None), group("b", &["c"], None), group("c", &["b"], None)];
        assert_eq!(check_groups(&circle).unwrap_err().to_string(), "groups hold each other in a circle: b holds c holds b");
        let diamond = [group("a", &["b", "c"], None), group("b", &["d"], None), group("c", &["d"], None), group("d", &[], None)];
        assert_eq!(check_groups(&diamond), Ok(()));
    }

    #[test]
    fn nesting_has_a_limit() {
        let row =
            |n: usize| -> Vec<Group> {
                (0..n)
                    .map(|i| {
                        if i + 1 < n {
                            group(&format!("g{i}"), &[&format!("g{}", i + 1)], None)
                        } else {
                            group(&format!("g{i}"), &[], None)
                        }
                    })
                    .collect()
            };
        assert_eq!(check_groups(&row(MAX_NESTING)), Ok(()));
        assert_eq!(check_groups(&row(MAX_NESTING + 1)), Err(GroupError::TooDeep("g0".into())));
    }

    #[test]
    fn selectors_must_read_and_speak_of_no_groups() {
        for (text, fine) in [("organisation:Bright*", true), ("group:x", false), ("site=ridge", false), ("(", false)] {
            assert_eq!(check_groups(&[group("a", &[], Some(text))]).is_ok(), fine, "{text}");
        }
    }

    #[test]
    fn a_member_of_an_inner_group_is_in_every_holder() {
        let groups = [group("staff", &["night", "day"], None), group("everybody", &["staff"], None), group("loop", &["loop"], None)];
        let all = holders(&groups, Members::People);
        assert_eq!(all["night"], BTreeSet::from(["night", "staff", "everybody"]));
        assert_eq!(all["loop"], BTreeSet::from(["loop"]));
    }
}
