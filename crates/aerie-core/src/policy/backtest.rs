//! The recorded past under a draft: what would have been refused, or asked more. And what of the rules was used at all.

use super::capability::{Capabilities, Capability, Factors, Tracks};
use super::compile::Policy;
use super::decide::{Outcome, Refusal, Request};
use super::demand::{Facts, Proofs};
use super::document::Effect;
use super::sentence::Speech;
use crate::directory::Index;
use crate::wording;
use jiff::Timestamp;
use std::collections::{BTreeMap, BTreeSet, HashMap};
use std::net::IpAddr;

/// An access that took place.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct PastAccess {
    /// Identifier of the session.
    pub session: String,
    /// Who.
    pub person: String,
    /// Where.
    pub machine: String,
    /// Under which account.
    pub account: String,
    /// What was done.
    pub capabilities: Capabilities,
    /// When it began.
    pub at: Timestamp,
    /// From where.
    pub from: Option<IpAddr>,
    /// What had been proved.
    pub factors: Factors,
    /// Whether it was recorded.
    pub recorded: bool,
}

impl PastAccess {
    /// The question whether it may be, at an instant since it began.
    fn request(&self, capability: Capability, at: Timestamp) -> Request<'_> {
        Request {
            person: &self.person,
            capability,
            machine: &self.machine,
            account: Some(&self.account),
            at,
            from: self.from,
            facts: Facts {
                proofs: Proofs::at(self.factors, self.at),
                begun: Some(self.at),
                recorded: if self.recorded { Tracks::all() } else { Tracks::NONE },
                ..Facts::default()
            },
        }
    }
}

/// What a draft would have made of past accesses of one person on one machine.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Judged {
    /// `refused` or `asked`.
    pub verdict: &'static str,
    /// Who.
    pub person: String,
    /// Where.
    pub machine: String,
    /// Which capabilities.
    pub capabilities: Capabilities,
    /// What the draft says of the last of them, as a sentence.
    pub sentence: String,
    /// The sessions, oldest first.
    pub sessions: Vec<String>,
    /// When the last of them began.
    pub last: Timestamp,
}

/// The past under a draft.
#[derive(Debug, Clone, PartialEq, Eq, Default)]
pub struct Backtest {
    /// How many sessions were looked at.
    pub sessions: usize,
    /// Those of people and machines that are no longer there: nothing can be said of them.
    pub unknown: usize,
    /// What would have been otherwise, most sessions first.
    pub judged: Vec<Judged>,
}

impl Backtest {
    /// How many sessions would have been judged so.
    pub fn count(&self, verdict: &str) -> usize {
        let all: BTreeSet<&String> = self.judged.iter().filter(|j| j.verdict == verdict).flat_map(|j| &j.sessions).collect();
        all.len()
    }

    /// How things stand, in one sentence.
    pub fn sentence(&self) -> String {
        let of = wording::count(self.sessions as u64, "past session");
        let (refused, asked) = (self.count("refused"), self.count("asked"));
        match (refused, asked) {
            (0, 0) => format!("Of {of} none would have been refused or asked more."),
            (r, 0) => format!("Of {of} {r} would have been refused."),
            (0, a) => format!("Of {of} {a} would have been asked more."),
            (r, a) => format!("Of {of} {r} would have been refused, and {a} asked more."),
        }
    }
}

/// Holds past accesses against a draft. What the rules in force refuse or ask as well is no effect of the draft and is left out.
pub fn backtest(in_force: &Policy, draft: &Policy, past: &[PastAccess]) -> Backtest {
    let mut result = Backtest { sessions: past.len(), ..Backtest::default() };
    let mut grouped: BTreeMap<(&'static str, &str, &str, u8), Judged> = BTreeMap::new();
    for access in past {
        let mut unknown = false;
        for capability in access.capabilities.iter() {
            let request = access.request(capability, access.at);
            let after = draft.decide(&request);
            let before = in_force.decide(&request);
            let (verdict, kind) = match (&before.outcome, &after.outcome) {
                (_, Outcome::Refused(Refusal::UnknownPerson | Refusal::UnknownMachine)) => {
                    unknown = true;
                    continue;
                }
                (_, Outcome::Granted(_)) | (Outcome::Refused(_), Outcome::Refused(_)) => continue,
                (Outcome::Unmet { missing: was, .. }, Outcome::Unmet { missing: is, .. }) if was.count() >= is.count() => continue,
                (Outcome::Refused(_), Outcome::Unmet { .. }) => continue,
                (_, Outcome::Unmet { .. }) => ("asked", 0),
                (_, Outcome::Refused(refusal)) => ("refused", *refusal as u8 + 1),
            };
            let sentence = draft.sentence(&request, &after, Speech::Insider);
            let entry = grouped.entry((verdict, &access.person, &access.machine, kind)).or_insert_with(|| Judged {
                verdict,
                person: access.person.clone(),
                machine: access.machine.clone(),
                capabilities: Capabilities::NONE,
                sentence: String::new(),
                sessions: vec![],
                last: Timestamp::MIN,
            });
            entry.capabilities = entry.capabilities.union(Capabilities::of([capability]));
            if entry.sessions.last() != Some(&access.session) {
                entry.sessions.push(access.session.clone());
            }
            if access.at >= entry.last {
                entry.last = access.at;
                entry.sentence = sentence;
            }
        }
        result.unknown += usize::from(unknown);
    }
    result.judged = grouped.into_values().collect();
    result.judged.sort_by_key(|j| std::cmp::Reverse((j.verdict, j.sessions.len())));
    result
}

/// Why a draft would end an access that is live now; none where it would not, or where the rules in force end it too as far as
/// is known of it.
pub fn ended_by(in_force: &Policy, draft: &Policy, live: &PastAccess, now: Timestamp) -> Option<String> {
    let granted = |policy: &Policy, request: &Request<'_>| matches!(policy.decide(request).outcome, Outcome::Granted(_));
    let requests = live.capabilities.iter().map(|c| live.request(c, now));
    let mut ended = requests.filter(|r| granted(in_force, r) && !granted(draft, r));
    ended.next().map(|r| draft.sentence(&r, &draft.decide(&r), Speech::Insider))
}

/// What became of a rule that allows something.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct RuleUse {
    /// Its name.
    pub name: String,
    /// Its line.
    pub line: usize,
    /// Sessions that it let in.
    pub sessions: usize,
    /// When it was last used.
    pub last: Option<Timestamp>,
    /// How many people, machines and capabilities it gives, and how many of them were used.
    pub given: [usize; 3],
    /// See [`RuleUse::given`].
    pub used: [usize; 3],
    /// Values that would make it no wider than what was used: key of the rule and new value. Empty where it is not too wide, or
    /// was never used.
    pub narrower: Vec<(&'static str, Narrower)>,
}

/// A narrower value of a rule.
#[derive(Debug, Clone, PartialEq, Eq)]
pub enum Narrower {
    /// A selector.
    Selector(String),
    /// Words.
    Words(Vec<String>),
}

impl RuleUse {
    /// How things stand, in one sentence.
    pub fn sentence(&self) -> String {
        let count = wording::count;
        if self.sessions == 0 {
            return format!("{} was never used.", self.name);
        }
        let part = |i: usize, noun: &str| {
            let (given, used) = (self.given.get(i).copied().unwrap_or(0), self.used.get(i).copied().unwrap_or(0));
            (used < given).then(|| format!("{used} of {}", count(given as u64, noun)))
        };
        let people = part(0, "person").map(|p| p.replace("persons", "people"));
        let parts: Vec<String> = [people, part(1, "machine"), part(2, "capability").map(|p| p.replace("capabilitys", "capabilities"))]
            .into_iter()
            .flatten()
            .collect();
        let sessions = count(self.sessions as u64, "session");
        match parts.is_empty() {
            true => format!("{} was used in {sessions}, for everything that it gives.", self.name),
            false => format!("{} was used in {sessions}, for {}.", self.name, wording::list(&parts)),
        }
    }
}

/// Names of at most so many people or machines are listed in a narrower selector; for more a group is looked for.
const MOST_NAMED: usize = 4;

/// What became of every `allow` in these past accesses, the never used first, then the widest.
pub fn usage(policy: &Policy, past: &[PastAccess]) -> Vec<RuleUse> {
    #[derive(Default)]
    struct Used {
        sessions: BTreeSet<String>,
        people: BTreeSet<String>,
        machines: BTreeSet<String>,
        capabilities: Capabilities,
        last: Option<Timestamp>,
    }
    let mut used: HashMap<String, Used> = HashMap::new();
    for access in past {
        for capability in access.capabilities.iter() {
            let because = policy.decide(&access.request(capability, access.at)).because;
            let Some(rule) = because.first().filter(|r| r.effect == Effect::Allow) else { continue };
            let entry = used.entry(rule.name.to_string()).or_default();
            entry.sessions.insert(access.session.clone());
            entry.people.insert(access.person.clone());
            entry.machines.insert(access.machine.clone());
            entry.capabilities = entry.capabilities.union(Capabilities::of([capability]));
            entry.last = entry.last.max(Some(access.at));
        }
    }
    let nothing = Used::default();
    let directory = policy.directory();
    let mut found: Vec<RuleUse> = vec![];
    for rule in policy.document().rules.iter().filter(|r| r.effect == Effect::Allow) {
        let used = used.get(&*rule.name).unwrap_or(&nothing);
        let (people, machines) = (directory.select_people(&rule.people.0), directory.select_machines(&rule.machines.0));
        let mut narrower = vec![];
        if !used.sessions.is_empty() {
            let who = narrowed(directory.person_properties(), "person", &used.people, people.len(), |n| directory.person_index(n));
            let place = narrowed(directory.machine_properties(), "name", &used.machines, machines.len(), |n| directory.machine_index(n));
            narrower.extend(who.map(|s| ("people", Narrower::Selector(s))));
            narrower.extend(place.map(|s| ("machines", Narrower::Selector(s))));
            if used.capabilities != rule.capabilities {
                narrower.push(("capabilities", Narrower::Words(used.capabilities.words().into_iter().map(Into::into).collect())));
            }
        }
        found.push(RuleUse {
            name: rule.name.to_string(),
            line: rule.line,
            sessions: used.sessions.len(),
            last: used.last,
            given: [people.len(), machines.len(), rule.capabilities.len() as usize],
            used: [used.people.len(), used.machines.len(), used.capabilities.len() as usize],
            narrower,
        });
    }
    let width = |u: &RuleUse| {
        let product = |n: [usize; 3]| n.iter().map(|n| *n as u64).product::<u64>();
        product(u.given).saturating_sub(product(u.used))
    };
    found.sort_by_key(|u| (u.sessions > 0, std::cmp::Reverse(width(u))));
    found
}

/// A selector that holds those used and fewer than the rule gives: by name where they are few, else the smallest group, site or
/// label that holds them all.
fn narrowed(index: &Index, key: &'static str, used: &BTreeSet<String>, given: usize, at: impl Fn(&str) -> Option<usize>) -> Option<String> {
    if used.len() >= given {
        return None;
    }
    if used.len() <= MOST_NAMED {
        let all: Vec<String> = used.iter().map(|n| format!("{key}:{n}")).collect();
        return Some(all.join(" | "));
    }
    let members: BTreeSet<usize> = used.iter().filter_map(|n| at(n)).collect();
    let mut best: Option<(usize, String)> = None;
    for property in ["group", "site", "label", "organisation"] {
        for value in index.values(property) {
            let holds = index.members(property, value);
            let fits = holds.len() < given && members.iter().all(|m| holds.iter().any(|h| *h as usize == *m));
            if fits && best.as_ref().is_none_or(|(n, _)| holds.len() < *n) && !value.contains(' ') {
                best = Some((holds.len(), format!("{property}:{value}")));
            }
        }
    }
    best.map(|(_, selector)| selector)
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::policy::read;
    use std::sync::Arc;

    const RULES: &str = "[[allow]]\nname = \"domes\"\npeople = \"group:night\"\nmachines = \"label:dome\"\ncapabilities = [\"shell\", \"upload\"]\naccounts = [\"operator\"]\n\
                         [[allow]]\nname = \"mast\"\npeople = \"*\"\nmachines = \"name:mast\"\ncapabilities = [\"shell\"]\naccounts = [\"operator\"]\n";

    fn policy(text: &str) -> Policy {
        let file: crate::directory::DirectoryFile = serde_json::from_value(serde_json::json!({
            "people": [{ "name": "ines", "groups": ["night"] }, { "name": "tomasz", "groups": ["night"] }, { "name": "noor" }],
            "machines": [{ "name": "east", "labels": ["dome"] }, { "name": "west", "labels": ["dome"] }, { "name": "mast" }],
        }))
        .unwrap();
        Policy::compile(read(text).unwrap(), Arc::new(file.into()), Timestamp::UNIX_EPOCH)
    }

    fn access(session: &str, person: &str, machine: &str) -> PastAccess {
        PastAccess {
            session: session.into(),
            person: person.into(),
            machine: machine.into(),
            account: "operator".into(),
            capabilities: Capabilities::of([Capability::Shell]),
            at: "2026-11-20T03:00:00Z".parse().unwrap(),
            from: None,
            factors: Factors::of([super::super::Factor::Key]),
            recorded: true,
        }
    }

    #[test]
    fn the_past_under_a_draft_is_told_in_groups() {
        let draft =
            RULES.replace("group:night", "person:ines") + "[[require]]\nname = \"code\"\nmachines = \"name:east\"\nfactors = [\"code\"]\n";
        let past =
            [access("s1", "ines", "east"), access("s2", "tomasz", "west"), access("s3", "tomasz", "west"), access("s4", "gone", "east")];
        let told = backtest(&policy(RULES), &policy(&draft), &past);
        assert_eq!(told.sentence(), "Of 4 past sessions 2 would have been refused, and 1 asked more.");
        assert_eq!(told.unknown, 1);
        let shown: Vec<_> = told.judged.iter().map(|j| (j.verdict, j.sessions.len(), j.sentence.as_str())).collect();
        assert_eq!(
            shown,
            [
                ("refused", 2, "No rule lets tomasz open a shell on west."),
                ("asked", 1, "ines needs a code to open a shell on east (domes, line 1; code, line 13)."),
            ]
        );
        assert_eq!(
            backtest(&policy(RULES), &policy(RULES), &past[..3]).sentence(),
            "Of 3 past sessions none would have been refused or asked more."
        );
    }

    #[test]
    fn unused_and_too_wide_rules_come_to_light_with_a_narrower_form() {
        let past = [access("s1", "ines", "east"), access("s2", "ines", "east")];
        let found = usage(&policy(RULES), &past);
        assert_eq!(
            found.iter().map(RuleUse::sentence).collect::<Vec<_>>(),
            ["mast was never used.", "domes was used in 2 sessions, for 1 of 2 people, 1 of 2 machines and 1 of 2 capabilities."]
        );
        let narrower: Vec<String> = found[1].narrower.iter().map(|(k, n)| format!("{k} {n:?}")).collect();
        assert_eq!(narrower, ["people Selector(\"person:ines\")", "machines Selector(\"name:east\")", "capabilities Words([\"shell\"])"]);
        assert!(found[0].narrower.is_empty());
    }
}
