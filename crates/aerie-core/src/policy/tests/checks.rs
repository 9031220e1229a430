//! What the check says of documents that can be read: one row for each thing it finds. And why, why not, and what would change it.

use crate::directory::{Directory, DirectoryFile};
use crate::policy::*;
use jiff::Timestamp;
use std::sync::Arc;

const NOW: &str = "2026-11-23T12:00:00Z";

fn directory() -> Arc<Directory> {
    let file: DirectoryFile = serde_json::from_value(serde_json::json!({
        "people": [
            { "name": "ines", "full_name": "Ines Okafor", "organisation": "Ridge", "groups": ["night"], "keys": [{ "fingerprint": "SHA256:a" }] },
            { "name": "lena", "full_name": "Lena Voss", "organisation": "Ridge", "groups": ["owners"], "enrolled": ["password"], "keys": [{ "fingerprint": "SHA256:b" }] },
            { "name": "piet", "full_name": "Piet Hallsworth", "organisation": "Brightcoat", "groups": ["suppliers"] },
        ],
        "machines": [
            { "name": "dome-east", "site": "ridge", "labels": ["dome"], "accounts": ["operator"] },
            { "name": "archive-db", "site": "archive", "accounts": ["archivist"], "posture": ["managed"] },
        ],
    }))
    .unwrap();
    Arc::new(file.into())
}

fn policy(text: &str) -> Policy {
    Policy::compile(read(text).unwrap_or_else(|e| panic!("{e:?}")), directory(), NOW.parse().unwrap())
}

fn checked(text: &str) -> Vec<crate::diagnostic::Diagnostic> {
    check(&policy(text), NOW.parse().unwrap())
}

const DOME: &str = "[[allow]]\nname = \"dome\"\npeople = \"group:night\"\nmachines = \"label:dome\"\ncapabilities = [\"shell\", \"upload\"]\naccounts = [\"operator\"]\n";

/// A further rule, its head and name left out.
fn rule(kind: &str, body: &str) -> String {
    format!("[[{kind}]]\nname = \"x\"\n{body}\n")
}

#[test]
fn everything_doubtful_is_found() {
    let allow = |body: &str| rule("allow", &format!("{body}\ncapabilities = [\"shell\"]\naccounts = [\"operator\"]"));
    let table = [
        (DOME.to_string(), None),
        (allow("people = \"person:ines & group:night\"\nmachines = \"name:dome-east\""), Some("policy/covered")),
        (allow("people = \"group:night\"\nmachines = \"label:dome\"\nfactors = [\"key\"]"), Some("policy/covered")),
        (rule("forbid", "machines = \"site=ridge\""), Some("policy/void")),
        (rule("forbid", "machines = \"site=ridge\"\nlast_day = 2026-12-31"), None),
        (rule("forbid", "machines = \"site=ridge\"\ncapabilities = [\"upload\"]"), Some("policy/copies-by-command")),
        (rule("require", "machines = \"*\"\nfactors = [\"passkey\"]"), Some("policy/nobody-enrolled")),
        (rule("require", "people = \"group:night\"\nassurance = 2"), Some("policy/nobody-enrolled")),
        (rule("require", "people = \"group:owners\"\nassurance = 2"), None),
        (rule("require", "machines = \"*\"\nposture = [\"disk-encrypted\"]"), Some("policy/no-machine")),
        (rule("require", "machines = \"*\"\nposture = [\"managed\"]"), None),
        (rule("require", "machines = \"*\"\napproval = { from = \"group:owners\", count = 2 }"), Some("policy/no-approver")),
        (rule("require", "machines = \"*\"\napproval = \"group:owners\""), None),
        (format!("home = [\"Ridge\"]\n{}", allow("people = \"group:suppliers\"\nmachines = \"name:archive-db\"")), Some("policy/no-end")),
        (rule("forbid", "people = \"group:nigth\""), Some("policy/unknown-group")),
        (rule("forbid", "machines = \"posture:tidy\""), Some("policy/unknown-posture")),
        (rule("forbid", "people = \"ends:soon\""), Some("policy/date")),
        (rule("never", "people = \"group:suppliers\"\nmachines = \"site=ridge\""), None),
        (rule("never", "people = \"group:night\"\nmachines = \"site=ridge\"\ncapabilities = [\"upload\"]"), Some("policy/guardrail")),
        (rule("never", "machines = \"site=ridge\"\nunless = { recording = true }"), Some("policy/guardrail")),
    ];
    for (more, code) in table {
        let text = if more == DOME {
            more
        } else if let Some(rest) = more.strip_prefix("home") {
            format!("home{rest}{DOME}")
        } else {
            format!("{DOME}{more}")
        };
        let found = checked(&text);
        let codes: Vec<&str> = found.iter().map(|d| d.code.as_str()).filter(|c| *c != "policy/never-matches").collect();
        assert_eq!(codes.first().copied(), code, "{text}\n{found:#?}");
        assert!(found.iter().all(|d| !d.render("rules.toml", &text).is_empty()));
    }
}

#[test]
fn a_broken_guardrail_names_who_where_when_and_why() {
    let text = format!(
        "zone = \"Atlantic/Canary\"\n[hours]\nnight = [\"daily 18:00-07:30\"]\n{DOME}hours = \"night\"\n{}",
        rule("never", "people = \"group:night\"\nmachines = \"site=ridge\"\ncapabilities = [\"upload\"]")
    );
    let found = checked(&text);
    assert_eq!(
        found[0].message,
        "the guardrail `x` does not hold: Ines Okafor could copy files to dome-east as operator on Monday 2026-11-23 18:00 (dome, line 4)"
    );
}

#[test]
fn a_guardrail_looks_a_year_ahead() {
    let dated = format!("{DOME}first_day = 2027-09-01\n{}", rule("never", "machines = \"site=ridge\""));
    assert!(checked(&dated)[0].message.contains("on Wednesday 2027-09-01 00:00"), "{:?}", checked(&dated));
    let beyond = format!("{DOME}first_day = 2028-09-01\n{}", rule("never", "machines = \"site=ridge\""));
    assert!(checked(&beyond).is_empty());
}

#[test]
fn tests_in_the_document_are_run() {
    let case = |body: &str| format!("{DOME}[[test]]\nname = \"t\"\nperson = \"ines\"\nmachine = \"dome-east\"\nat = 12:00:00\n{body}\n");
    let table = [
        ("capabilities = [\"shell\"]\nexpect = \"granted\"", None),
        (
            "capabilities = [\"shell\", \"control\"]\nexpect = \"granted\"",
            Some(
                "the test `t` fails: expected granted, and it is refused on Monday 2026-11-23 12:00: No rule lets Ines Okafor control dome-east",
            ),
        ),
        ("capabilities = [\"control\"]\nexpect = \"refused\"", None),
        ("capabilities = [\"shell\"]\nexpect = \"granted\"\nbecause = \"dome\"", None),
        (
            "capabilities = [\"shell\"]\nexpect = \"granted\"\nbecause = \"other\"",
            Some(
                "the test `t` fails: it is granted on Monday 2026-11-23 12:00, and not because of `other`: Ines Okafor may open a shell on dome-east as operator (dome, line 1)",
            ),
        ),
    ];
    for (body, message) in table {
        let found = checked(&case(body));
        assert_eq!(found.first().map(|d| d.message.as_str()), message, "{body}");
    }
    let unknown = checked(&case("capabilities = [\"shell\"]\nexpect = \"granted\"").replace("person = \"ines\"", "person = \"inez\""));
    assert_eq!((unknown[0].code.as_str(), unknown[0].help.as_deref()), ("policy/unknown-person", Some("did you mean `ines`?")));
}

#[test]
fn why_not_and_what_would_change_it() {
    let text = format!(
        "zone = \"UTC\"\n[hours]\nnight = [\"daily 18:00-07:30\"]\n{DOME}hours = \"night\"\nfrom = [\"10.20.0.0/16\"]\n\
         [[require]]\nname = \"code\"\nmachines = \"*\"\nfactors = [\"code\"]\n\
         [[forbid]]\nname = \"closed\"\nmachines = \"name:archive-db\"\n\
         [[allow]]\nname = \"archive\"\npeople = \"group:owners\"\nmachines = \"name:archive-db\"\ncapabilities = [\"shell\"]\naccounts = [\"archivist\"]\n"
    );
    let p = policy(&text);
    let inside = Some("10.20.0.7");
    type Row<'a> = (&'a str, Capability, &'a str, Option<&'a str>, &'a str, Option<&'a str>, &'a [&'a str]);
    let table: [Row<'_>; 8] = [
        ("ines", Capability::Shell, "dome-east", None, "03:00", inside, &["needs a code"]),
        ("ines", Capability::Shell, "dome-east", None, "12:00", inside, &["opens at 18:00"]),
        ("ines", Capability::Shell, "dome-east", None, "03:00", Some("192.0.2.1"), &["from 10.20.0.0/16"]),
        ("ines", Capability::Shell, "dome-east", Some("root"), "03:00", inside, &["as operator"]),
        ("lena", Capability::Shell, "dome-east", None, "03:00", inside, &["as a member of night"]),
        ("lena", Capability::Shell, "archive-db", None, "03:00", inside, &["without the rule closed"]),
        ("ines", Capability::Control, "dome-east", None, "03:00", inside, &["no rule gives control; ines has shell and upload there"]),
        ("piet", Capability::Control, "dome-east", None, "03:00", inside, &["no rule gives control on dome-east to anybody"]),
    ];
    for (person, capability, machine, account, hour, from, changes) in table {
        let at: Timestamp = format!("2026-11-24T{hour}:00Z").parse().unwrap();
        let request = Request {
            person,
            capability,
            machine,
            account,
            at,
            from: from.map(|f| f.parse().unwrap()),
            facts: Facts { recorded: Tracks::all(), ..Facts::default() },
        };
        assert_eq!(p.explain(&request).changes, changes, "{person} {capability:?} {machine} {hour} {from:?}");
    }
    let granted = Request {
        person: "ines",
        capability: Capability::Shell,
        machine: "dome-east",
        account: None,
        at: "2026-11-24T03:00:00Z".parse().unwrap(),
        from: inside.map(|f| f.parse().unwrap()),
        facts: Facts::proved(Factors::all(), "2026-11-24T02:59:00Z".parse().unwrap()),
    };
    assert_eq!(p.explain(&granted).changes, ["ends at 07:30"]);
}

#[test]
fn every_demand_has_words() {
    let text = format!(
        "{DOME}{}",
        rule(
            "require",
            "machines = \"*\"\nfactors = [\"key\", \"code within 15min\"]\nassurance = 2\nconsent = \"ask\"\n\
              approval = { from = \"group:owners\", count = 2 }\nticket = \"OBS-*\"\nreason = true\ndevice = \"managed\"\n\
              recording = [\"terminal\"]\nlock = true\nlimits = { session = \"4h\", idle = \"20min\", sessions = 2, bytes = \"2GB\" }"
        )
    );
    let p = policy(&text);
    let request = Request {
        person: "ines",
        capability: Capability::Shell,
        machine: "dome-east",
        account: None,
        at: NOW.parse().unwrap(),
        from: None,
        facts: Facts { sessions: 2, ..Facts::default() },
    };
    let decision = p.decide(&request);
    assert_eq!(
        p.sentence(&request, &decision, Speech::Insider),
        "Ines Okafor needs a registered key, a code, assurance level 2, the approval of 2 of group:owners, the consent of the person at the machine, \
         a ticket of the form OBS-*, a reason, a managed device, a recording of the terminal and fewer than 2 sessions open to open a shell on dome-east \
         (dome, line 1; x, line 7)."
    );
    let Outcome::Unmet { grant, .. } = decision.outcome else { panic!() };
    assert_eq!(p.demanded(&grant.demands).len(), 14);
}

#[test]
fn an_emergency_waits_for_nobody_and_must_be_declared() {
    let text = format!(
        "{DOME}approval = \"group:owners\"\n{}{}",
        rule(
            "allow",
            "people = \"group:night\"\nmachines = \"label:dome\"\ncapabilities = [\"shell\"]\naccounts = [\"operator\"]\nemergency = true\nfactors = [\"key\", \"code\"]"
        ),
        "[[require]]\nname = \"asked\"\nmachines = \"label:dome\"\nconsent = \"ask\"\n"
    );
    let p = policy(&text);
    assert!(
        check(&p, NOW.parse().unwrap()).iter().all(|d| d.code != "policy/covered"),
        "an `allow` for emergencies makes no other needless, nor another it"
    );
    let at = NOW.parse().unwrap();
    let decide = |facts: Facts<'_>| {
        let facts = Facts { recorded: Tracks::all(), ..facts };
        p.decide(&Request { person: "ines", capability: Capability::Shell, machine: "dome-east", account: None, at, from: None, facts })
    };
    let proofs = Proofs::at(Factors::of([Factor::Key, Factor::Code]), at);
    let declared = Facts { emergency: true, reason: true, proofs, ..Facts::default() };
    let Outcome::Unmet { missing, .. } = decide(Facts { emergency: false, ..declared }).outcome else { panic!() };
    assert_eq!((missing.approvals.len(), missing.consent), (1, Some(Consent::Ask)), "nobody declared one");
    let told = Some(Consent::Notice);
    let Outcome::Granted(grant) = decide(Facts { consent: told, ..declared }).outcome else { panic!() };
    assert!(grant.emergency && grant.demands.recording == Tracks::all() && grant.demands.consent == told);
    for lacking in
        [Facts { reason: false, consent: told, ..declared }, Facts { proofs: Proofs::default(), consent: told, ..declared }, declared]
    {
        assert!(matches!(decide(lacking).outcome, Outcome::Unmet { .. }), "the reason, the factors and the notice are demanded still");
    }
}

#[test]
fn locked_down_nobody_new_comes_in_but_in_an_emergency() {
    let emergency =
        "people = \"group:night\"\nmachines = \"label:dome\"\ncapabilities = [\"shell\"]\naccounts = [\"operator\"]\nemergency = true";
    let oversight = "people = \"group:night\"\nmachines = \"label:dome\"\ncapabilities = [\"watch\"]\naccounts = [\"operator\"]";
    let p = policy(&format!("{DOME}{}{}", rule("allow", emergency), rule("allow", oversight).replace("\"x\"", "\"oversight\"")));
    let at: Timestamp = NOW.parse().unwrap();
    let outcome_of = |capability: Capability, facts: Facts<'_>| {
        let facts = Facts { recorded: Tracks::all(), locked_down: true, ..facts };
        let request = Request { person: "ines", capability, machine: "dome-east", account: None, at, from: None, facts };
        let decision = p.decide(&request);
        (p.sentence(&request, &decision, Speech::Person), decision.outcome)
    };
    let outcome = |facts: Facts<'_>| outcome_of(Capability::Shell, facts);
    let (sentence, out) = outcome(Facts::default());
    assert_eq!(
        (sentence.as_str(), out),
        ("You may not open a shell on dome-east now: the service is locked down.", Outcome::Refused(Refusal::LockedDown))
    );
    assert!(matches!(outcome(Facts { begun: Some(at), ..Facts::default() }).1, Outcome::Granted(_)), "whoever is in stays in");
    assert!(matches!(outcome(Facts { emergency: true, reason: true, ..Facts::default() }).1, Outcome::Granted(_)));
    assert!(matches!(outcome_of(Capability::Watch, Facts::default()).1, Outcome::Granted(_)), "what an emergency does can be watched");
}
