//! Sentences for rules, changes and permissions: written once, used in console, terminal and report.

use super::capability::Capabilities;
use super::compare::{Change, Turn};
use super::compile::Policy;
use super::document::{Effect, Guard, Rule};
use super::reach::Permission;
use crate::directory::Index;
use crate::directory::selector::Selector;
use crate::wording;

/// So many names are written out; of more the first ones and how many others.
const MOST_NAMES: usize = 3;

impl Policy {
    /// People or machines in words: a few by name, more as the group that holds just them, or how many there are.
    fn set(&self, names: &[String], index: &Index, at: impl Fn(&str) -> Option<usize>, shown: impl Fn(&str) -> String) -> String {
        if names.len() > 1
            && let Some(members) = names.iter().map(|n| at(n)).collect::<Option<Vec<usize>>>()
        {
            if members.len() == index.len() {
                return format!("all {}", members.len());
            }
            for property in ["group", "site", "organisation", "label", "role"] {
                for value in index.values(property) {
                    let holds = index.members(property, value);
                    if holds.len() == members.len()
                        && members.iter().all(|m| holds.binary_search(&u32::try_from(*m).unwrap_or(u32::MAX)).is_ok())
                    {
                        return format!("all {} of {property} {value}", members.len());
                    }
                }
            }
        }
        let first: Vec<String> = names.iter().take(MOST_NAMES).map(|n| shown(n)).collect();
        match names.len().saturating_sub(MOST_NAMES) {
            0 => wording::list(&first),
            1 if names.len() == MOST_NAMES + 1 => wording::list(&names.iter().map(|n| shown(n)).collect::<Vec<_>>()),
            more => format!("{} and {more} others", first.join(", ")),
        }
    }

    /// People in words.
    pub fn people_words(&self, names: &[String]) -> String {
        let d = &self.directory;
        self.set(names, d.person_properties(), |n| d.person_index(n), |n| d.person(n).map_or(n, |p| p.shown()).to_string())
    }

    /// Machines in words.
    pub fn machine_words(&self, names: &[String]) -> String {
        let d = &self.directory;
        self.set(names, d.machine_properties(), |n| d.machine_index(n), str::to_string)
    }

    /// What a rule says, in a sentence.
    pub fn rule_sentence(&self, rule: &Rule) -> String {
        let people = selected(&rule.people.0, "Everybody", "people of");
        let machines = selected(&rule.machines.0, "any machine", "machines of");
        let what = capability_words(rule.capabilities);
        let account = match rule.accounts.as_slice() {
            [] => String::new(),
            [any] if &**any == "*" => " under any account".into(),
            accounts => format!(" as {}", accounts.iter().map(|a| &**a).collect::<Vec<_>>().join(" or ")),
        };
        let mut bounds = vec![];
        bounds.extend((!rule.targets.is_unsaid()).then(|| format!("ports to {}", rule.targets)));
        bounds.extend(rule.hours.and_then(|h| self.document.hours.get(h)).map(|h| format!("in the hours {}", h.name)));
        bounds.extend((!rule.from.is_anywhere()).then(|| format!("from {}", rule.from)));
        bounds.extend(rule.first_day.map(|d| format!("from {d} on")));
        bounds.extend(rule.last_day.map(|d| format!("to {d}")));
        let bounds = if bounds.is_empty() { String::new() } else { format!(", {}", bounds.join(", ")) };
        let demands = self.demanded(&rule.demands);
        let with = if demands.is_empty() { String::new() } else { format!(", with {}", wording::list(&demands)) };
        match rule.effect {
            Effect::Allow if rule.emergency => {
                let people = if people == "Everybody" { "everybody".into() } else { people };
                format!("In an emergency {people} may use {what} on {machines}{account}{bounds}{with}.")
            }
            Effect::Allow => format!("{people} may use {what} on {machines}{account}{bounds}{with}."),
            Effect::Forbid => format!("{people} may not use {what} on {machines}{account}{bounds}."),
            Effect::Require => format!(
                "{people} {} {} for {what} on {machines}{account}{bounds}.",
                if people.starts_with("People") { "need" } else { "needs" },
                wording::list(&demands)
            ),
            Effect::Never => format!("{people} can never come to use {what} on {machines}{account}{bounds}."),
        }
    }

    /// What a guardrail says, in a sentence.
    pub fn guard_sentence(&self, guard: &Guard) -> String {
        let sentence = self.rule_sentence(&guard.rule);
        match &guard.unless {
            Some(demands) => format!("{}, unless with {}.", sentence.trim_end_matches('.'), wording::list(&self.demanded(demands))),
            None => sentence,
        }
    }

    /// A permission in words, to follow a person and a machine: `shell and exec as operator, in the hours night, with a code`.
    pub fn permission_words(&self, permission: &Permission) -> String {
        let account = permission.account.as_deref().map_or(" as any other account".to_string(), |a| format!(" as {a}"));
        let from = if &*permission.from == "anywhere" { String::new() } else { format!(", from {}", permission.from) };
        let alternatives: Vec<String> =
            permission.demands.iter().map(|d| wording::list(&self.demanded(d))).filter(|d| !d.is_empty()).collect();
        let with = match permission.demands.len() {
            n if alternatives.is_empty() || n > alternatives.len() => String::new(),
            _ => format!(", with {}", alternatives.join("; or with ")),
        };
        let to = permission.to.as_deref().map(|t| format!(" to {t}")).unwrap_or_default();
        format!("{}{to}{account}, {}{from}{with}", wording::list(&permission.capabilities.words()), permission.when)
    }
}

/// A selector in words: what stands alone is told as such, the rest is quoted as it is written.
fn selected(selector: &Selector, everything: &str, of: &str) -> String {
    match selector {
        Selector::All => everything.into(),
        Selector::Atom(a) if (a.key == "person" || a.key == "name") && !a.value.contains('*') => a.value.clone(),
        Selector::Atom(_) | Selector::Not(_) | Selector::And(_) | Selector::Or(_) => {
            let mut words = of.to_string();
            if everything.starts_with(char::is_uppercase) {
                words.get_mut(..1).map(str::make_ascii_uppercase).unwrap_or_default();
            }
            format!("{words} {selector}")
        }
    }
}

/// Capabilities in words: `everything`, or the list.
pub(super) fn capability_words(capabilities: Capabilities) -> String {
    if capabilities == Capabilities::all() { "everything".into() } else { wording::list(&capabilities.words()) }
}

impl Change {
    /// The change in a sentence. Names are looked up in the policy that still knows them.
    pub fn sentence(&self, before: &Policy, after: &Policy) -> String {
        let knows = |p: &Policy| {
            self.people.iter().all(|n| p.directory().person(n).is_some())
                && self.machines.iter().all(|n| p.directory().machine(n).is_some())
        };
        let known = if self.turn == Turn::Loses || !knows(after) { before } else { after };
        let who = known.people_words(&self.people);
        let mut who = who.strip_prefix("all ").map_or(who.clone(), |rest| format!("All {rest}"));
        let to = self.to.as_deref().map(|t| format!(" to {t}")).unwrap_or_default();
        let (machines, what) = (known.machine_words(&self.machines), format!("{}{to}", capability_words(self.capabilities)));
        let many = self.people.len() > 1;
        let verb = |one: &str, several: &str| if many { several.to_string() } else { one.to_string() };
        let account = self.account.as_deref().map_or(" under any other account".to_string(), |a| format!(" as {a}"));
        let from = if &*self.from == "anywhere" { String::new() } else { format!(", from {}", self.from) };
        let when = if self.when == "at any time" { String::new() } else { format!(", {}", self.when) };
        let either = |list: &[Vec<String>]| -> String {
            let all: Vec<String> = list.iter().map(|d| if d.is_empty() { "nothing".into() } else { wording::list(d) }).collect();
            all.join("; or ")
        };
        let rest = match self.turn {
            Turn::Gains => {
                let with = if self.after.iter().any(Vec::is_empty) { String::new() } else { format!(", with {}", either(&self.after)) };
                format!("{} {what} on {machines}{account}{when}{from}{with}", verb("gains", "gain"))
            }
            Turn::Loses => format!("{} {what} on {machines}{account}{when}{from}", verb("loses", "lose")),
            Turn::Easier | Turn::Harder | Turn::Different => {
                let how = match self.turn {
                    Turn::Easier => "less",
                    Turn::Harder => "more",
                    Turn::Gains | Turn::Loses | Turn::Different => "something else",
                };
                let (was, is) = changed(&self.before, &self.after);
                format!(
                    "{} {how} for {what} on {machines}{account}{when}{from}: {} instead of {}",
                    verb("needs", "need"),
                    either(&is),
                    either(&was)
                )
            }
        };
        who.push(' ');
        format!("{who}{rest}.")
    }
}

/// Of two single lists of demands only what differs; of several alternatives everything.
fn changed(before: &[Vec<String>], after: &[Vec<String>]) -> (Vec<Vec<String>>, Vec<Vec<String>>) {
    match (before, after) {
        ([was], [is]) => {
            let without = |a: &[String], b: &[String]| a.iter().filter(|x| !b.contains(x)).cloned().collect::<Vec<_>>();
            (vec![without(was, is)], vec![without(is, was)])
        }
        _ => (before.to_vec(), after.to_vec()),
    }
}

#[cfg(test)]
mod tests {
    use super::super::{compare, read};
    use super::*;
    use std::sync::Arc;

    const RULES: &str = "zone = \"UTC\"\n[hours]\nnight = [\"daily 18:00-07:30\"]\n\
        [[allow]]\nname = \"a\"\npeople = \"group:night\"\nmachines = \"label:dome\"\ncapabilities = [\"shell\", \"exec\"]\naccounts = [\"operator\"]\nhours = \"night\"\n\
        [[require]]\nname = \"b\"\nmachines = \"*\"\nfactors = [\"key\"]\nlimits = { session = \"8h\" }\n";

    fn policy(text: &str) -> Policy {
        let person = |n: &str, g: &str| serde_json::json!({ "name": n, "full_name": format!("{} X", n.to_uppercase()), "groups": [g] });
        let file: crate::directory::DirectoryFile = serde_json::from_value(serde_json::json!({
            "people": [person("a", "night"), person("b", "night"), person("c", "day"), person("d", "day"), person("e", "other"), person("f", "other2")],
            "machines": [{ "name": "east", "labels": ["dome"] }, { "name": "west", "labels": ["dome"] }, { "name": "mast" }],
        }))
        .unwrap();
        Policy::compile(read(text).unwrap(), Arc::new(file.into()), "2026-11-23T00:00:00Z".parse().unwrap())
    }

    fn sentences(after: &str) -> Vec<String> {
        let (old, new) = (policy(RULES), policy(after));
        let told = compare(&old, &new, "2026-11-23T00:00:00Z".parse().unwrap(), "2026-11-30T00:00:00Z".parse().unwrap());
        told.changes.iter().map(|c| c.sentence(&old, &new)).collect()
    }

    #[test]
    fn rules_read_as_sentences() {
        let p = policy(RULES);
        let said: Vec<String> = p.document().rules.iter().map(|r| p.rule_sentence(r)).collect();
        assert_eq!(
            said,
            [
                "People of group:night may use shell and exec on machines of label:dome as operator, in the hours night.",
                "Everybody needs a registered key and at most 8 h for everything on any machine.",
            ]
        );
    }

    #[test]
    fn changes_read_as_sentences() {
        assert_eq!(
            sentences(&RULES.replace("group:night", "group:night | group:day")),
            [
                "All 2 of group day gain shell and exec on all 2 of label dome as operator, in the hours night, with a registered key and at most 8 h."
            ]
        );
        assert_eq!(
            sentences(&RULES.replace("group:night", "person:b")),
            ["A X loses shell and exec on all 2 of label dome as operator, in the hours night."]
        );
        assert_eq!(
            sentences(&RULES.replace("\"8h\"", "\"4h\"")),
            [
                "All 2 of group night need more for shell and exec on all 2 of label dome as operator, in the hours night: at most 4 h instead of at most 8 h."
            ]
        );
        assert_eq!(
            sentences(&RULES.replace("hours = \"night\"\n", "")),
            [
                "All 2 of group night gain shell and exec on all 2 of label dome as operator, outside the hours night, with a registered key and at most 8 h."
            ]
        );
        assert_eq!(
            sentences(&RULES.replace("people = \"group:night\"", "people = \"*\"")),
            [
                "C X, D X, E X and F X gain shell and exec on all 2 of label dome as operator, in the hours night, with a registered key and at most 8 h."
            ]
        );
    }
}
