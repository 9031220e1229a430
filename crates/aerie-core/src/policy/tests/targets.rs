//! Where forwarded ports may lead: the same in the decision, the map, the comparison and the guardrails.

use super::{directory, policy, read, t};
use crate::policy::*;
use proptest::prelude::*;
use std::sync::Arc;

const RULES: &str = r#"
[[allow]]
name = "own-ports"
people = "person:ines"
machines = "name:dome-east"
capabilities = ["forward"]
accounts = ["operator"]

[[allow]]
name = "database"
people = "person:arlo"
machines = "name:dome-east | name:archive-db"
capabilities = ["shell", "forward"]
accounts = ["operator"]
targets = ["localhost:5432", "10.20.0.0/16:443"]

[[require]]
name = "recorded-in-the-archive"
machines = "site=archive"
recording = ["terminal", "input"]

[[forbid]]
name = "not-the-gatehouse"
targets = ["10.20.7.7:*"]
"#;

fn asked<'a>(person: &'a str, machine: &'a str, target: &'a ForwardTarget) -> Request<'a> {
    let facts = Facts { recorded: Tracks::all(), target: Some(target), ..Facts::default() };
    Request { person, capability: Capability::Forward, machine, account: None, at: t("2026-11-23T12:00:00Z"), from: None, facts }
}

#[test]
fn a_port_leads_where_the_rules_say_and_the_sentence_says_so() {
    let policy = policy(RULES);
    let table = [
        (
            "ines",
            "dome-east",
            "localhost:8080",
            "INES may forward ports through dome-east to localhost:8080 as operator (own-ports, line 2).",
        ),
        ("ines", "dome-east", "[::1]:8080", "INES may forward ports through dome-east to [::1]:8080 as operator (own-ports, line 2)."),
        (
            "ines",
            "dome-east",
            "10.20.1.1:443",
            "No rule lets INES forward ports through dome-east to 10.20.1.1:443: the rules give the machine itself (own-ports, line 2).",
        ),
        ("arlo", "dome-east", "10.20.1.1:443", "ARLO may forward ports through dome-east to 10.20.1.1:443 as operator (database, line 9)."),
        (
            "arlo",
            "dome-east",
            "10.20.7.7:443",
            "A rule forbids ARLO to forward ports through dome-east to 10.20.7.7:443 (not-the-gatehouse, line 22).",
        ),
        (
            "arlo",
            "dome-east",
            "localhost:22",
            "No rule lets ARLO forward ports through dome-east to localhost:22: the rules give localhost:5432 and 10.20.0.0/16:443 (database, line 9).",
        ),
        (
            "arlo",
            "archive-db",
            "localhost:5432",
            "ARLO may forward ports through archive-db to localhost:5432 as operator (database, line 9; recorded-in-the-archive, line 17).",
        ),
    ];
    for (person, machine, target, sentence) in table {
        let target = target.parse().unwrap();
        let request = asked(person, machine, &target);
        let decision = policy.decide(&request);
        assert_eq!(policy.sentence(&request, &decision, Speech::Insider), sentence);
        assert_eq!(decision.granted(&request).map(|g| g.target().cloned()), sentence.contains(" may ").then(|| Some(target.clone())));
    }
}

#[test]
fn where_sessions_are_recorded_a_port_must_be_named() {
    let wide = RULES.replace("\"localhost:5432\", ", "\"localhost:*\", \"localhost:5000-6000\", ");
    let (named, wide) = (policy(RULES), policy(&wide));
    let target = "localhost:5432".parse().unwrap();
    let open = |p: &Policy, machine| !matches!(p.decide(&asked("arlo", machine, &target)).outcome, Outcome::Refused(_));
    assert!(open(&named, "archive-db") && open(&named, "dome-east") && open(&wide, "dome-east"));
    let request = asked("arlo", "archive-db", &target);
    let decision = wide.decide(&request);
    assert_eq!(decision.outcome, Outcome::Refused(Refusal::UnnamedPort));
    assert_eq!(
        wide.sentence(&request, &decision, Speech::Person),
        "You may not forward ports through archive-db to localhost:5432: sessions there are recorded, and no rule names this port."
    );
    // A recording that a rule for shells demands counts as well, whichever rule gives the port.
    let shell = "[[allow]]\nname = \"shells\"\npeople = \"*\"\nmachines = \"name:dome-east\"\ncapabilities = [\"shell\"]\naccounts = [\"operator\"]\nrecording = [\"terminal\"]\n";
    let recorded = policy(&format!("{RULES}{shell}"));
    let other = "localhost:8080".parse().unwrap();
    assert_eq!(recorded.decide(&asked("ines", "dome-east", &other)).outcome, Outcome::Refused(Refusal::UnnamedPort));
    assert!(open(&recorded, "dome-east"));
}

#[test]
fn why_not_says_what_is_open_instead() {
    let policy = policy(RULES);
    let changes = |person, target: &str| policy.explain(&asked(person, "dome-east", &target.parse().unwrap())).changes;
    assert_eq!(changes("ines", "db.example:1"), ["to the machine itself"]);
    assert_eq!(changes("arlo", "localhost:22")[0], "to 10.20.0.0/16:443 and localhost:5432");
}

#[test]
fn map_comparison_and_guardrails_tell_targets_apart() {
    let (from, to) = (t("2026-11-23T00:00:00Z"), t("2026-11-30T00:00:00Z"));
    let after = policy(RULES);
    let at = |p: &Policy, person: &str, machine: &str| {
        (p.directory().person_index(person).unwrap(), p.directory().machine_index(machine).unwrap())
    };
    let reach = Reach::of(Arc::new(after.clone()), from, to);
    let words = |person, machine| {
        let (p, m) = at(&after, person, machine);
        reach.between(p, m).iter().map(|x| after.permission_words(x)).collect::<Vec<_>>()
    };
    assert_eq!(words("ines", "dome-east"), ["forward to localhost:* as operator, at any time"]);
    assert_eq!(words("arlo", "archive-db").len(), 3, "{:?}", words("arlo", "archive-db"));
    let before = policy(&RULES.replace("targets = [\"localhost:5432\", \"10.20.0.0/16:443\"]", "targets = [\"localhost:5432\"]"));
    let told: Vec<String> = compare(&before, &after, from, to).changes.iter().map(|c| c.sentence(&before, &after)).collect();
    assert_eq!(told, ["ARLO gains forward to 10.20.0.0/16:443 on archive-db and dome-east as operator."]);
    let guard = "[[never]]\nname = \"nothing-on-443\"\ncapabilities = [\"forward\"]\ntargets = [\"*:443\"]\n";
    let guarded = policy(&format!("{RULES}{guard}"));
    let breaches = breaches(&guarded, from, to);
    let sentences: Vec<String> = breaches.iter().map(|b| b.sentence(&guarded)).collect();
    assert_eq!(sentences.len(), 1);
    assert!(sentences[0].contains("could forward ports through"), "{sentences:?}");
    assert!(policy(&format!("{RULES}{}", guard.replace("*:443", "*.example:443"))).document().guards.len() == 1);
}

#[test]
fn targets_stand_where_ports_are_forwarded() {
    let wrong = |from: &str, to: &str| read(&RULES.replacen(from, to, 1)).unwrap_err().iter().map(|d| d.code.clone()).collect::<Vec<_>>();
    assert_eq!(wrong("[\"localhost:5432\", \"10.20.0.0/16:443\"]", "[]"), ["policy/target"]);
    assert_eq!(wrong("\"localhost:5432\"", "\"localhost\""), ["policy/target"]);
    assert_eq!(wrong("[\"shell\", \"forward\"]", "[\"shell\"]"), ["policy/misplaced"]);
    let many = |n: usize| format!("targets = {:?}", (0..n).map(|i| format!("h{i}.example:1")).collect::<Vec<_>>());
    assert_eq!(wrong("targets = [\"localhost:5432\", \"10.20.0.0/16:443\"]", &many(65)), ["policy/too-many"]);
    assert!(read(&RULES.replace("targets = [\"localhost:5432\", \"10.20.0.0/16:443\"]", &many(64))).is_ok());
    let rules = |n: usize| {
        (0..n).fold(String::new(), |all, i| {
            let targets: Vec<String> = (0..50).map(|k| format!("h{i}-{k}.example:1")).collect();
            format!("{all}[[forbid]]\nname = \"r{i}\"\ntargets = {targets:?}\n")
        })
    };
    assert!(read(&rules(10)).is_ok() && read(&rules(11)).is_err());
}

const ENTRIES: [&str; 6] = ["localhost:22", "localhost:*", "10.0.0.0/8:22", "db.example:5432", "*.example:1-6000", "*:22"];
const TARGETS: [&str; 7] =
    ["localhost:22", "localhost:5432", "10.1.1.1:22", "db.example:5432", "x.example:22", "x.test:22", "192.0.2.1:5432"];
/// Whether each entry holds each target: yes, no, or who knows.
const FITS: [&str; 6] = ["yn?n??n", "yy?????", "nnyn??n", "nnnynn?", "nn?yyn?", "ynynyyn"];
/// Whether each entry names one port.
const NAMES_A_PORT: [bool; 6] = [true, false, true, true, false, true];

#[derive(Debug, Clone)]
struct Rule {
    effect: Effect,
    shell: bool,
    forward: bool,
    entries: Vec<usize>,
    recorded: bool,
}

impl Rule {
    fn text(&self, at: usize) -> String {
        let capabilities: Vec<&str> = [("shell", self.shell), ("forward", self.forward)].iter().filter(|c| c.1).map(|c| c.0).collect();
        let mut text = format!(
            "[[{}]]\nname = \"r{at}\"\npeople = \"person:ines\"\nmachines = \"name:dome-east\"\naccounts = [\"operator\"]\n",
            self.effect.word()
        );
        text += &format!("capabilities = {capabilities:?}\n");
        if self.forward && !self.entries.is_empty() {
            text += &format!("targets = {:?}\n", self.entries.iter().map(|e| ENTRIES[*e]).collect::<Vec<_>>());
        }
        if self.recorded && !matches!(self.effect, Effect::Forbid | Effect::Never) {
            text += "recording = [\"terminal\"]\n";
        }
        text
    }

    fn fit(&self, target: usize, unknown: bool) -> bool {
        self.entries.iter().any(|e| {
            let fit = FITS[*e].as_bytes()[target];
            fit == b'y' || (unknown && fit == b'?')
        })
    }

    /// Whether one that forbids or demands concerns the target.
    fn matters(&self, target: usize) -> bool {
        self.entries.is_empty() || self.fit(target, true)
    }
}

/// Whether the port may be forwarded, by walking over every rule.
fn naive(rules: &[Rule], target: usize) -> bool {
    let forbidden = rules.iter().any(|r| r.effect == Effect::Forbid && r.forward && r.matters(target));
    let gives = |r: &&Rule| r.effect == Effect::Allow && r.forward && if r.entries.is_empty() { target < 2 } else { r.fit(target, false) };
    let demands = |r: &&Rule| r.recorded && matches!(r.effect, Effect::Allow | Effect::Require);
    let shells = rules.iter().filter(demands).any(|r| r.shell);
    let ports = rules.iter().filter(demands).any(|r| r.effect == Effect::Require && r.forward && r.matters(target));
    let named = |r: &Rule| r.entries.iter().any(|e| NAMES_A_PORT[*e] && FITS[*e].as_bytes()[target] == b'y');
    !forbidden && rules.iter().filter(gives).any(|r| !(shells || ports || r.recorded) || named(r))
}

fn rules() -> impl Strategy<Value = Vec<Rule>> {
    let effect = prop::sample::select(vec![Effect::Allow, Effect::Allow, Effect::Allow, Effect::Forbid, Effect::Require]);
    let uses = prop::sample::select(vec![(false, true), (false, true), (true, true), (true, false)]);
    let entries = prop::sample::subsequence((0..ENTRIES.len()).collect::<Vec<_>>(), 0..4);
    let rule = (effect, uses, entries, prop::bool::weighted(0.3)).prop_map(|(effect, (shell, forward), entries, recorded)| Rule {
        effect,
        shell,
        forward,
        entries,
        recorded,
    });
    prop::collection::vec(rule, 0..6)
}

fn compiled(rules: &[Rule], more: &str) -> Policy {
    let text: String = rules.iter().enumerate().map(|(i, r)| r.text(i)).collect();
    Policy::compile(read(&(text + more)).unwrap(), directory(), t("2026-11-01T00:00:00Z"))
}

fn is_open(policy: &Policy, target: usize) -> bool {
    let target = TARGETS[target].parse().unwrap();
    !matches!(policy.decide(&asked("ines", "dome-east", &target)).outcome, Outcome::Refused(_))
}

/// Whether the targets lie on the same side of every rule.
fn alike(rules: &[&[Rule]], example: &ForwardTarget, target: usize) -> bool {
    let target: ForwardTarget = TARGETS[target].parse().unwrap();
    let lists = rules.iter().flat_map(|r| r.iter()).filter(|r| r.forward);
    lists.map(|r| Targets::read(r.entries.iter().map(|e| ENTRIES[*e])).unwrap()).all(|t| {
        (t.give(&target), t.name_port_of(&target), t.concern(&target)) == (t.give(example), t.name_port_of(example), t.concern(example))
    })
}

proptest! {
    #![proptest_config(ProptestConfig::with_cases(400))]

    #[test]
    fn the_decision_agrees_with_walking_over_every_rule(rules in rules()) {
        let policy = compiled(&rules, "");
        for (target, name) in TARGETS.iter().enumerate() {
            prop_assert_eq!(is_open(&policy, target), naive(&rules, target), "{} {:#?}", name, rules);
        }
    }

    #[test]
    fn the_map_agrees_with_the_decision(rules in rules()) {
        let policy = compiled(&rules, "");
        let reach = Reach::of(Arc::new(policy.clone()), t("2026-11-23T00:00:00Z"), t("2026-11-24T00:00:00Z"));
        let (p, m) = (policy.directory().person_index("ines").unwrap(), policy.directory().machine_index("dome-east").unwrap());
        let permissions = reach.between(p, m);
        for (target, name) in TARGETS.iter().enumerate() {
            let told = permissions.iter().filter(|x| x.capabilities.contains(Capability::Forward)).any(|x| {
                x.to_example.as_ref().map_or(target < 2, |e| alike(&[&rules], e, target))
            });
            prop_assert_eq!(told, is_open(&policy, target), "{} {:#?} {:#?}", name, rules, permissions);
        }
    }

    #[test]
    fn a_comparison_finds_every_target_that_is_gained_or_lost(before in rules(), after in rules()) {
        let (old, new) = (compiled(&before, ""), compiled(&after, ""));
        let comparison = compare(&old, &new, t("2026-11-23T00:00:00Z"), t("2026-11-24T00:00:00Z"));
        let turns = |turn: Turn| comparison.changes.iter().any(|c| c.turn == turn && c.capabilities.contains(Capability::Forward));
        let (mut gains, mut loses) = (false, false);
        for target in 0..TARGETS.len() {
            let (was, is) = (is_open(&old, target), is_open(&new, target));
            gains |= !was && is;
            loses |= was && !is;
        }
        // Places that are not among these may turn, too.
        prop_assert!((!gains || turns(Turn::Gains)) && (!loses || turns(Turn::Loses)), "{:#?}", comparison);
        prop_assert!(compare(&old, &old, t("2026-11-23T00:00:00Z"), t("2026-11-24T00:00:00Z")).changes.is_empty());
    }

    #[test]
    fn a_guardrail_over_targets_holds_exactly_where_no_decision_breaks_it(rules in rules(), guarded in prop::sample::subsequence((0..ENTRIES.len()).collect::<Vec<_>>(), 1..3)) {
        let guard = Rule { effect: Effect::Never, shell: false, forward: true, entries: guarded, recorded: false };
        let policy = compiled(&rules, &guard.text(99));
        let found = breaches(&policy, t("2026-11-23T00:00:00Z"), t("2026-11-24T00:00:00Z"));
        for (target, name) in TARGETS.iter().enumerate() {
            let broken = guard.fit(target, true) && is_open(&policy, target);
            prop_assert!(!broken || !found.is_empty(), "{}", name);
        }
        for breach in &found {
            let to = breach.to.clone().unwrap();
            let request = asked(&breach.person, &breach.machine, &to);
            prop_assert!(!matches!(policy.decide(&request).outcome, Outcome::Refused(_)), "{:?}", breach);
        }
    }
}
