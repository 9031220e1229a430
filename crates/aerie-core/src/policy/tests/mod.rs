//! What policies do: outcomes and their sentences, mistakes and their places; the laws are in `laws.rs`.

mod checks;
mod hostile;
mod laws;
mod targets;
mod world;

use super::*;
use crate::directory::{Directory, Machine, Person};
use jiff::{SignedDuration, Timestamp};
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

fn ask<'a>(person: &'a str, capability: Capability, machine: &'a str, at: &str, facts: Facts<'a>) -> Request<'a> {
    Request { person, capability, machine, account: None, at: t(at), from: None, facts }
}

/// Nothing proved, everything recorded.
fn recorded() -> Facts<'static> {
    Facts { recorded: Tracks::all(), ..Facts::default() }
}

fn both() -> Facts<'static> {
    Facts::proved(Factors::of([Factor::Key, Factor::Code]), t("2026-10-01T00:00:00Z"))
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
            ask("ines", Capability::Shell, "dome-east", night, recorded()),
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
            ask("arlo", Capability::Shell, "archive-db", night, recorded()),
            "ARLO may open a shell on archive-db from other addresses only (archive, line 16).",
        ),
        (
            from_site(ask("arlo", Capability::Shell, "archive-db", night, recorded())),
            "ARLO may open a shell on archive-db as archivist (archive, line 16).",
        ),
        (
            Request { account: Some("root"), ..from_site(ask("arlo", Capability::Shell, "archive-db", night, recorded())) },
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
    assert_eq!(granted.grant().demands.limits.session, Some(SignedDuration::from_hours(4)));
    assert_eq!(granted.grant().demands.limits.idle, Some(SignedDuration::from_mins(20)));
    assert_eq!(granted.grant().demands.recording, Tracks::all());
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
    let found = check(&policy(text), t("2026-11-01T00:00:00Z"));
    let codes: Vec<_> = found.iter().map(|d| (d.code.as_str(), d.help.as_deref())).collect();
    assert_eq!(
        codes,
        [
            ("policy/never-matches", Some("`group:nigth-operators` holds nobody")),
            ("policy/unknown-group", Some("did you mean `night-operators`?"))
        ]
    );
    assert_eq!(&text[found[1].span.clone()], "group:nigth-operators");
}

#[test]
fn too_long_a_document_is_refused_and_the_longest_is_not() {
    let pad = |n: usize| "#".repeat(n);
    assert!(read(&pad(MAX_DOCUMENT)).is_ok());
    assert_eq!(read(&pad(MAX_DOCUMENT + 1)).unwrap_err()[0].code, "policy/too-long");
}
