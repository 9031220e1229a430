//! Holds a rule document against a directory: names that nobody has, rules that can never match.

use super::document::{Document, Effect, Rule};
use crate::diagnostic::{Diagnostic, nearest};
use crate::directory::selector::Atom;
use crate::directory::{Directory, Role};
use std::collections::BTreeSet;
use std::ops::Range;

/// Everything about the document that the directory makes doubtful. A document with errors cannot be published.
pub fn check(document: &Document, directory: &Directory) -> Vec<Diagnostic> {
    let names = Names::of(directory);
    let mut found = vec![];
    for rule in &document.rules {
        let at = |atom: &Atom, whole: &Range<usize>| {
            let from = (whole.start + 1 + atom.span.start).min(whole.end);
            from..(whole.start + 1 + atom.span.end).min(whole.end).max(from)
        };
        for atom in rule.people.0.atoms() {
            found.extend(names.person_atom(atom, at(atom, &rule.people.1)));
        }
        for atom in rule.machines.0.atoms() {
            found.extend(names.machine_atom(atom, at(atom, &rule.machines.1)));
        }
        found.extend(never_matches(rule, directory));
    }
    found.sort_by_key(|d| d.span.start);
    found
}

fn never_matches(rule: &Rule, directory: &Directory) -> Option<Diagnostic> {
    let nobody = !directory.people().iter().any(|p| rule.people.0.selects_person(p));
    let nowhere = !directory.machines().iter().any(|m| rule.machines.0.selects_machine(m));
    let what = match (nobody, nowhere, rule.capabilities.is_empty()) {
        (true, _, _) => "nobody is selected",
        (_, true, _) => "no machine is selected",
        (_, _, true) => "no capability is named",
        (false, false, false) => {
            let backwards = rule.first_day.zip(rule.last_day).is_some_and(|(a, b)| a > b);
            if !backwards {
                return None;
            }
            "its last day is before its first"
        }
    };
    let effect = match rule.effect {
        Effect::Allow => "it allows nothing",
        Effect::Forbid => "it forbids nothing",
        Effect::Require => "it demands nothing",
    };
    Some(Diagnostic::warning("policy/never-matches", rule.span.clone(), format!("`{}` matches nothing: {what}, so {effect}", rule.name)))
}

struct Names<'a> {
    people: BTreeSet<&'a str>,
    groups: BTreeSet<&'a str>,
    organisations: BTreeSet<&'a str>,
    machines: BTreeSet<&'a str>,
    labels: BTreeSet<&'a str>,
    sites: BTreeSet<&'a str>,
    owners: BTreeSet<&'a str>,
}

impl<'a> Names<'a> {
    fn of(d: &'a Directory) -> Self {
        let labels = d.machines().iter().flat_map(|m| &m.labels);
        Self {
            people: d.people().iter().map(|p| p.name.as_str()).collect(),
            groups: d.groups(),
            organisations: d.people().iter().map(|p| p.organisation.as_str()).collect(),
            machines: d.machines().iter().map(|m| m.name.as_str()).collect(),
            labels: labels.flat_map(|l| [l.as_str(), l.split('=').next().unwrap_or(l)]).collect(),
            sites: d.machines().iter().map(|m| m.site.as_str()).collect(),
            owners: d.machines().iter().map(|m| m.owner.as_str()).collect(),
        }
    }

    fn person_atom(&self, atom: &Atom, span: Range<usize>) -> Option<Diagnostic> {
        const ROLES: [Role; 3] = [Role::Administrator, Role::Auditor, Role::Technician];
        match atom.key.as_str() {
            "person" => unknown("person", &self.people, atom, span),
            "group" => unknown("group", &self.groups, atom, span),
            "role" => unknown("role", &ROLES.map(Role::word).into(), atom, span),
            _ => unknown("organisation", &self.organisations, atom, span),
        }
    }

    fn machine_atom(&self, atom: &Atom, span: Range<usize>) -> Option<Diagnostic> {
        match atom.key.as_str() {
            "name" => unknown("machine", &self.machines, atom, span),
            "label" => unknown("label", &self.labels, atom, span),
            "site" => unknown("site", &self.sites, atom, span),
            "owner" => unknown("owner", &self.owners, atom, span),
            _ => unknown("label", &self.labels, &Atom { value: atom.key.clone(), ..atom.clone() }, span),
        }
    }
}

/// An unknown name is an error: a slip of the pen in a `forbid` would otherwise silently allow.
fn unknown(kind: &str, known: &BTreeSet<&str>, atom: &Atom, span: Range<usize>) -> Option<Diagnostic> {
    if atom.value.contains('*') || known.contains(atom.value.as_str()) {
        return None;
    }
    let error = Diagnostic::error(&format!("policy/unknown-{kind}"), span, format!("there is no {kind} `{}`", atom.value));
    let meant = nearest(&atom.value, known.iter().copied().filter(|k| !k.is_empty()));
    Some(match meant {
        Some(k) => error.help(format!("did you mean `{k}`?")),
        None => error.help(format!("register the {kind} first, or remove the condition")),
    })
}
