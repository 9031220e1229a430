//! The laws that the decision must keep, against a naive evaluator that shares none of its shortcuts.

use super::*;
use crate::directory::{Directory, Machine, Person};
use jiff::{SignedDuration, Timestamp};
use proptest::prelude::*;
use std::sync::Arc;

const OBSERVATORY: &str = r#"
zone = "Atlantic/Canary"

[hours]
night = ["daily 18:00-07:30"]

[[allow]]
name = "night-dome"
people = "group:night-operators"
machines = "label:dome"
capabilities = ["shell", "exec"]
accounts = ["operator"]
hours = "night"
limits = { session = "8h" }

[[allow]]
name = "archive"
people = "group:archivists"
machines = "site=archive"
capabilities = ["shell", "download"]
accounts = ["archivist", "operator"]
from = ["10.20.0.0/16"]

[[require]]
name = "code-on-domes"
machines = "label:dome"
factors = ["key", "code"]
recording = true
limits = { session = "4h", idle = "20min" }

[[forbid]]
name = "nothing-retired"
machines = "label:retired"
"#;

fn person(name: &str, groups: &[&str]) -> Person {
    serde_json::from_value(serde_json::json!({ "name": name, "full_name": name.to_uppercase(), "groups": groups })).unwrap()
}

fn machine(name: &str, site: &str, labels: &[&str]) -> Machine {
    serde_json::from_value(serde_json::json!({
        "name": name, "site": site, "labels": labels, "accounts": ["operator", "archivist"]
    }))
    .unwrap()
}

fn directory() -> Arc<Directory> {
    let mut gone = person("noa", &["night-operators"]);
    gone.valid_until = Some("2026-10-31".parse().unwrap());
    Arc::new(Directory::new(
        vec![person("ines", &["night-operators"]), person("arlo", &["archivists"]), gone],
        vec![
            machine("dome-east", "ridge", &["dome"]),
            machine("dome-old", "ridge", &["dome", "retired"]),
            machine("archive-db", "archive", &[]),
        ],
    ))
}

fn t(text: &str) -> Timestamp {
    text.parse().unwrap()
}

fn policy(text: &str) -> Policy {
    Policy::compile(read(text).unwrap(), directory(), t("2026-11-01T00:00:00Z"))
}

fn ask<'a>(person: &'a str, capability: Capability, machine: &'a str, at: &str, facts: Facts) -> Request<'a> {
    Request { person, capability, machine, account: None, at: t(at), from: None, facts }
}

const PROVED: Facts = Facts { factors: Factors::NONE, recorded: true };

fn both() -> Facts {
    Facts { factors: Factors::of([Factor::Key, Factor::Code]), recorded: true }
}

#[test]
fn every_outcome_has_its_sentence() {
    let p = policy(OBSERVATORY);
    let night = "2026-11-23T03:00:00Z";
    let from_site = |r: Request<'static>| Request { from: Some("10.20.4.7".parse().unwrap()), ..r };
    let table = [
        (
            ask("ines", Capability::Shell, "dome-east", night, both()),
            "INES may open a shell on dome-east as operator until 07:30 (night-dome, line 7; code-on-domes, line 24).",
        ),
        (
            ask("ines", Capability::Shell, "dome-east", night, PROVED),
            "INES needs a registered key and a code to open a shell on dome-east (night-dome, line 7; code-on-domes, line 24).",
        ),
        (
            ask("ines", Capability::Shell, "dome-east", "2026-11-23T12:00:00Z", both()),
            "INES may not open a shell on dome-east at this hour; the hours begin at 18:00 (night-dome, line 7).",
        ),
        (ask("ines", Capability::Upload, "dome-east", night, both()), "No rule lets INES copy files to dome-east."),
        (
            ask("ines", Capability::Shell, "dome-old", night, both()),
            "A rule forbids INES to open a shell on dome-old (nothing-retired, line 31).",
        ),
        (ask("ines", Capability::Shell, "dome-north", night, both()), "There is no machine called dome-north."),
        (ask("noa", Capability::Shell, "dome-east", night, both()), "The account of NOA ended on 2026-10-31."),
        (
            ask("arlo", Capability::Shell, "archive-db", night, PROVED),
            "ARLO may open a shell on archive-db from other addresses only (archive, line 16).",
        ),
        (
            from_site(ask("arlo", Capability::Shell, "archive-db", night, PROVED)),
            "ARLO may open a shell on archive-db as archivist (archive, line 16).",
        ),
        (
            Request { account: Some("root"), ..from_site(ask("arlo", Capability::Shell, "archive-db", night, PROVED)) },
            "No rule lets ARLO open a shell on archive-db as root (archive, line 16).",
        ),
    ];
    for (request, sentence) in table {
        assert_eq!(p.sentence(&request, &p.decide(&request), Speech::Insider), sentence);
    }
}

#[test]
fn a_stranger_cannot_tell_an_unknown_machine_from_a_closed_one() {
    let p = policy(OBSERVATORY);
    let say = |machine| {
        let r = ask("arlo", Capability::Shell, machine, "2026-11-23T03:00:00Z", both());
        p.sentence(&r, &p.decide(&r), Speech::Person).replace(machine, "M")
    };
    assert_eq!(say("dome-east"), say("dome-nowhere"));
    assert_eq!(say("dome-east"), "No rule lets you open a shell on M.");
}

#[test]
fn the_strictest_demand_counts() {
    let p = policy(OBSERVATORY);
    let r = ask("ines", Capability::Shell, "dome-east", "2026-11-23T03:00:00Z", both());
    let granted = p.decide(&r).granted(&r).unwrap();
    assert_eq!(granted.grant().session_limit, Some(SignedDuration::from_hours(4)));
    assert_eq!(granted.grant().idle_limit, Some(SignedDuration::from_mins(20)));
    assert!(granted.grant().recording);
}

#[test]
fn an_account_ends_at_midnight_in_the_zone_of_the_rules() {
    let p = policy(OBSERVATORY);
    let r = ask("noa", Capability::Shell, "dome-east", "2026-10-31T23:30:00Z", both());
    let d = p.decide(&r);
    assert!(matches!(d.outcome, Outcome::Granted(_)));
    assert_eq!(d.holds_until, Some(t("2026-11-01T00:00:00Z")));
}

#[test]
fn mistakes_in_the_document_are_placed() {
    let table = [
        ("zone = \"Atlantic/Canari\"", "policy/unknown-zone", "1:8", Some("did you mean `Atlantic/Canary`?")),
        ("[[alow]]\nname=\"x\"", "policy/unknown-key", "1:3", Some("did you mean `allow`?")),
        ("[[forbid]]\nname = \"x\"\npeople = \"grp:a\"", "policy/selector", "3:11", None),
        ("[[forbid]]\nname = \"x\"\ncapabilities = [\"shel\"]", "policy/unknown-word", "3:17", Some("did you mean `shell`?")),
        ("[[forbid]]\nname = \"x\"\nhours = \"nigth\"", "policy/unknown-hours", "3:9", None),
        ("[hours]\nn = [\"mon 9:00-10:00\"]", "policy/hours", "2:6", None),
        ("[[forbid]]\nname = \"x\"\n[[forbid]]\nname = \"x\"", "policy/name-twice", "3:1", None),
        ("[[allow]]\nname = \"x\"\npeople=\"*\"\nmachines=\"*\"\naccounts=[\"a\"]", "policy/missing", "1:1", None),
        ("[[forbid]]\nname = \"x\"\nfactors = [\"key\"]", "policy/misplaced", "3:1", None),
        ("[[forbid]]\nname = \"x\"\nlast_day = \"soon\"", "policy/date", "3:12", None),
        ("[[require]]\nname = \"x\"\nlimits = { session = \"4\" }", "policy/duration", "3:22", None),
        ("[[require]\n", "policy/syntax", "1:11", None),
        ("[[forbid]]\nname = \"x\"\nfrom = [\"ridge\"]", "policy/address", "3:9", None),
    ];
    for (text, code, place, help) in table {
        let errors = read(text).unwrap_err();
        let e = &errors[0];
        let (line, column) = crate::diagnostic::position(text, e.span.start);
        assert_eq!((e.code.as_str(), format!("{line}:{column}").as_str()), (code, place), "{text}: {e:?}");
        if help.is_some() {
            assert_eq!(e.help.as_deref(), help, "{text}");
        }
    }
}

#[test]
fn an_unknown_name_is_an_error_and_a_void_rule_a_warning() {
    let text = "[[forbid]]\nname = \"x\"\npeople = \"group:nigth-operators\"\nmachines = \"label:dome\"";
    let found = check(&read(text).unwrap(), &directory());
    let codes: Vec<_> = found.iter().map(|d| (d.code.as_str(), d.help.as_deref())).collect();
    assert_eq!(codes, [("policy/never-matches", None), ("policy/unknown-group", Some("did you mean `night-operators`?"))]);
    assert_eq!(&text[found[1].span.clone()], "group:nigth-operators");
    assert!(check(&read(OBSERVATORY).unwrap(), &directory()).is_empty());
}

#[test]
fn too_long_a_document_is_refused_and_the_longest_is_not() {
    let pad = |n: usize| "#".repeat(n);
    assert!(read(&pad(MAX_DOCUMENT)).is_ok());
    assert_eq!(read(&pad(MAX_DOCUMENT + 1)).unwrap_err()[0].code, "policy/too-long");
}

// ---- laws ----

/// A generated rule: text pieces, so that the reader is on the tested path too.
fn rule() -> impl Strategy<Value = String> {
    let effect = prop::sample::select(vec!["allow", "forbid", "require"]);
    let people = prop::sample::select(vec!["*", "group:a", "group:b & !person:p1", "person:p2 | group:b"]);
    let machines = prop::sample::select(vec!["*", "label:x", "site=s1", "!label:x & site=s2"]);
    let capabilities = prop::sample::select(vec!["[\"shell\"]", "[\"shell\", \"exec\"]", "[\"upload\"]"]);
    let accounts = prop::sample::select(vec!["[\"one\"]", "[\"two\"]", "[\"one\", \"two\"]", "[\"*\"]"]);
    let hours = prop::option::of(prop::sample::select(vec!["day", "night"]));
    let from = prop::option::weighted(0.2, Just("from = [\"10.0.0.0/8\"]"));
    let demand = prop::option::of(prop::sample::select(vec![
        "factors = [\"code\"]",
        "factors = [\"key\"]\nrecording = true",
        "limits = { session = \"1h\" }",
        "limits = { session = \"3h\", idle = \"5min\" }",
    ]));
    (effect, people, machines, capabilities, accounts, hours, from, demand).prop_map(|(e, p, m, c, a, h, f, d)| {
        let mut text = format!("[[{e}]]\nname = \"NAME\"\npeople = \"{p}\"\nmachines = \"{m}\"\ncapabilities = {c}\naccounts = {a}\n");
        if let Some(h) = h {
            text += &format!("hours = \"{h}\"\n");
        }
        text += f.unwrap_or("");
        if let Some(d) = d.filter(|_| e != "forbid") {
            text += &format!("\n{d}\n");
        }
        text + "\n"
    })
}

fn written(rules: &[(usize, String)]) -> String {
    let head = "zone = \"Europe/Berlin\"\n[hours]\nday = [\"mon-fri 08:00-18:00\"]\nnight = [\"daily 18:00-07:30\"]\n";
    rules.iter().fold(head.to_string(), |text, (n, rule)| text + &rule.replace("NAME", &format!("r{n}")))
}

fn small_world() -> Arc<Directory> {
    Arc::new(Directory::new(
        vec![person("p1", &["a"]), person("p2", &[]), person("p3", &["a", "b"])],
        ["m1", "m2", "m3"]
            .iter()
            .zip([("s1", &["x"][..]), ("s2", &[][..]), ("s2", &["x"][..])])
            .map(|(n, (site, labels))| Machine { accounts: vec!["one".into(), "two".into()], ..machine(n, site, labels) })
            .collect(),
    ))
}

fn made(rules: &[(usize, String)]) -> Policy {
    Policy::compile(read(&written(rules)).unwrap(), small_world(), t("2026-06-01T00:00:00Z"))
}

fn question() -> impl Strategy<Value = Request<'static>> {
    let person = prop::sample::select(vec!["p1", "p2", "p3"]);
    let machine = prop::sample::select(vec!["m1", "m2", "m3"]);
    let capability = prop::sample::select(vec![Capability::Shell, Capability::Exec, Capability::Upload]);
    let account = prop::sample::select(vec![None, Some("one"), Some("two")]);
    let from = prop::sample::select(vec![None, Some("10.1.2.3"), Some("192.0.2.1")]);
    let factors = prop::sample::select(vec![Factors::NONE, Factors::of([Factor::Key]), Factors::of([Factor::Key, Factor::Code])]);
    (person, machine, capability, account, from, factors, any::<bool>(), 1_780_000_000i64..1_795_000_000).prop_map(
        |(person, machine, capability, account, from, factors, recorded, s)| Request {
            person,
            machine,
            capability,
            account,
            at: Timestamp::from_second(s).unwrap(),
            from: from.map(|f: &str| f.parse().unwrap()),
            facts: Facts { factors, recorded },
        },
    )
}

/// 0 refused, 1 something missing, 2 granted.
fn width(d: &Decision) -> u8 {
    match d.outcome {
        Outcome::Refused(_) => 0,
        Outcome::Unmet { .. } => 1,
        Outcome::Granted(_) => 2,
    }
}

/// Decides by walking over every rule and reading the wall clock, as one would by hand.
fn naive(p: &Policy, q: &Request<'_>) -> u8 {
    let (person, machine) = (p.directory().person(q.person).unwrap(), p.directory().machine(q.machine).unwrap());
    let doc = p.document();
    let matches = |r: &Rule, account: &str| {
        let wall = q.at.to_zoned(doc.zone.clone());
        let minute = wall.hour() as u16 * 60 + wall.minute() as u16;
        let open = r.hours.is_none_or(|h| match &*doc.hours[h].name {
            "day" => wall.weekday().to_monday_zero_offset() < 5 && (480..1080).contains(&minute),
            _ => !(450..1080).contains(&minute),
        });
        r.people.0.selects_person(person)
            && r.machines.0.selects_machine(machine)
            && r.capabilities.contains(q.capability)
            && r.accounts.iter().any(|a| &**a == "*" || &**a == account)
            && open
            && (r.from.is_empty() || q.from.is_some_and(|f| r.from[0].contains(f)))
    };
    let of = |e: Effect, account: &str| doc.rules.iter().filter(|r| r.effect == e && matches(r, account)).collect::<Vec<_>>();
    let accounts = q.account.map_or(vec!["one", "two"], |a| vec![a]);
    // Without a wish, the account is the first of each rule's own list that nothing forbids.
    let mut best = 0;
    for allow in doc.rules.iter().filter(|r| r.effect == Effect::Allow) {
        let own: Vec<&str> = if &*allow.accounts[0] == "*" {
            accounts.clone()
        } else {
            allow.accounts.iter().map(|a| &**a).filter(|a| accounts.contains(a)).collect()
        };
        let Some(account) = own.into_iter().find(|a| matches(allow, a) && of(Effect::Forbid, a).is_empty()) else { continue };
        let met = std::iter::once(allow)
            .chain(of(Effect::Require, account))
            .all(|r| r.demands.factors.without(q.facts.factors).is_empty() && (!r.demands.recording || q.facts.recorded));
        best = best.max(if met { 2 } else { 1 });
    }
    best
}

proptest! {
    #[test]
    fn the_engine_agrees_with_the_naive_evaluator(rules in prop::collection::vec(rule(), 0..8), q in question()) {
        let p = made(&rules.into_iter().enumerate().collect::<Vec<_>>());
        prop_assert_eq!(width(&p.decide(&q)), naive(&p, &q));
    }

    #[test]
    fn adding_a_rule_moves_access_only_its_own_way(rules in prop::collection::vec(rule(), 0..8), more in rule(), q in question()) {
        let mut numbered: Vec<_> = rules.into_iter().enumerate().collect();
        // A stated account keeps the choice of account out of the law.
        let q = Request { account: q.account.or(Some("one")), ..q };
        let before = width(&made(&numbered).decide(&q));
        let allow = more.starts_with("[[allow]]");
        numbered.push((99, more));
        let after = width(&made(&numbered).decide(&q));
        let kept = if allow { after >= before } else { after <= before };
        prop_assert!(kept, "from {} to {}", before, after);
    }

    #[test]
    fn the_order_of_rules_never_matters(rules in prop::collection::vec(rule(), 0..8), turn in 0usize..8, q in question()) {
        let mut numbered: Vec<_> = rules.into_iter().enumerate().collect();
        let before = made(&numbered).decide(&q);
        let turn = turn % numbered.len().max(1);
        numbered.rotate_left(turn);
        let after = made(&numbered).decide(&q);
        prop_assert_eq!(before.outcome, after.outcome);
        prop_assert_eq!(before.holds_until, after.holds_until);
    }

    #[test]
    fn a_decision_holds_as_long_as_it_says(rules in prop::collection::vec(rule(), 0..8), q in question(), part in 0.0f64..1.0) {
        let p = made(&rules.into_iter().enumerate().collect::<Vec<_>>());
        let d = p.decide(&q);
        let span = d.holds_until.map_or(30.0 * 86_400.0, |u| u.duration_since(q.at).as_secs_f64());
        let later = Timestamp::from_second(q.at.as_second() + (span * part) as i64).unwrap();
        prop_assume!(d.holds_until.is_none_or(|u| later < u));
        prop_assert_eq!(p.decide(&Request { at: later, ..q }).outcome, d.outcome);
    }

    #[test]
    fn any_text_is_read_or_refused_without_a_panic(text in "(\\[\\[allow\\]\\]|name|hours|=|\"|\\[|\\]|\\{|\\}|[a-z0-9 :*&|!\\n-]){0,80}") {
        if let Err(errors) = read(&text) {
            for e in errors {
                prop_assert!(!e.render("rules.toml", &text).is_empty());
            }
        }
    }
}
