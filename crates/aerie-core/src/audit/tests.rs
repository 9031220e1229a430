use super::*;
use crate::directory::Directory;
use crate::policy::{Policy, read};
use jiff::Timestamp;
use jiff::tz::TimeZone;
use proptest::prelude::*;
use std::sync::Arc;

const RULES: &str = r#"
[hours]
night = ["daily 18:00-07:30"]
[[allow]]
name = "night-dome"
people = "group:night-operators"
machines = "name:dome-east"
capabilities = ["shell"]
accounts = ["operator"]
hours = "night"
[[allow]]
name = "archive"
people = "*"
machines = "name:archive-db"
capabilities = ["shell"]
accounts = ["archivist"]
"#;

fn history() -> History {
    let person = serde_json::json!({ "name": "ines", "full_name": "Ines Okafor", "groups": ["night-operators"], "keys": [{ "fingerprint": "SHA256:ines" }] });
    let machine = |n: &str, a: &str| serde_json::from_value(serde_json::json!({ "name": n, "accounts": [a] })).unwrap();
    let directory = Directory::new(
        vec![serde_json::from_value(person).unwrap()],
        vec![machine("dome-east", "operator"), machine("archive-db", "archivist")],
    );
    let policy = Policy::compile(read(RULES).unwrap(), Arc::new(directory), t("2026-11-01T00:00:00Z"));
    History::new(vec![(t("2026-01-01T00:00:00Z"), Arc::new(policy))])
}

fn t(text: &str) -> Timestamp {
    text.parse().unwrap()
}

fn session(id: &str) -> KnownSession {
    KnownSession {
        id: id.into(),
        person: "ines".into(),
        machine: "dome-east".into(),
        account: "operator".into(),
        begin: t("2026-11-22T22:00:00Z"),
        end: Some(t("2026-11-22T23:00:00Z")),
        recorded: true,
        source: None,
    }
}

/// Audits a log and returns kind and sentence of each finding.
fn audit(log: &[u8], sessions: Option<&SessionIndex>) -> (Vec<Finding>, Counts) {
    let history = history();
    let authorities = ["SHA256:authority".to_string()];
    let mut auditor = Auditor::new(&history, sessions, Some(&authorities));
    let mut reader = SshdLog::new("auth.log", LogClock::of_year(TimeZone::UTC, 2026));
    let mut offset = 0;
    for line in log.split(|b| *b == b'\n') {
        reader.handle_line(line, offset, |f| auditor.handle_failure(f));
        offset += line.len() as u64 + 1;
        while let Some(o) = reader.poll_observation() {
            if let Observation::Began(access) = o {
                auditor.handle_access(&access);
            }
        }
    }
    let counts = reader.counts();
    (auditor.finish(&TimeZone::UTC), counts)
}

fn kinds(log: &str, sessions: Option<&SessionIndex>) -> Vec<&'static str> {
    let mut kinds: Vec<_> = audit(log.as_bytes(), sessions).0.iter().map(|f| f.kind.word()).collect();
    kinds.sort_unstable();
    kinds
}

const CERTIFICATE: &str = "Nov 22 22:00:01 dome-east sshd[9]: Accepted publickey for operator from 10.20.0.2 port 5000 ssh2: ED25519-CERT SHA256:k ID aerie s-1 (serial 5) CA ED25519 SHA256:authority";

#[test]
fn a_session_of_aerie_explains_its_own_certificate_only() {
    let known: SessionIndex = [("s-1".to_string(), session("s-1"))].into();
    assert!(kinds(CERTIFICATE, Some(&known)).is_empty());
    assert!(kinds(CERTIFICATE, None).is_empty());
    assert_eq!(kinds(CERTIFICATE, Some(&SessionIndex::new())), ["unknown-session"]);
    assert_eq!(kinds(&CERTIFICATE.replace("SHA256:authority", "SHA256:other"), Some(&known)), ["around-gateway"]);
    assert_eq!(kinds(&CERTIFICATE.replace("Nov 22 22:00", "Nov 23 02:00"), Some(&known)), ["unknown-session"]);
    assert_eq!(kinds(&CERTIFICATE.replace("dome-east sshd", "archive-db sshd"), Some(&known)), ["unknown-session"]);
}

#[test]
fn direct_logins_are_told_with_person_hour_and_account() {
    let direct = "Nov 23 12:06:00 dome-east sshd[7]: Accepted publickey for operator from 10.20.9.44 port 4000 ssh2: ED25519 SHA256:ines";
    let (found, _) = audit(direct.as_bytes(), None);
    let sentences: Vec<_> = found.iter().map(|f| f.sentence.as_str()).collect();
    assert_eq!(
        sentences,
        [
            "Ines Okafor signed in to dome-east directly as operator from 10.20.9.44 on 23 November 2026 at 12:06; no session of Aerie explains it.",
            "Ines Okafor signed in to dome-east directly as operator from 10.20.9.44 on 23 November 2026 at 12:06; at that hour the rules do not let Ines Okafor in.",
        ]
        .map(String::from)
    );
    assert_eq!(kinds(&direct.replace("SHA256:ines", "SHA256:nobody"), None), ["around-gateway", "outside-hours"]);
    assert_eq!(kinds(&direct.replace("12:06", "22:06"), None), ["around-gateway"]);
    assert_eq!(
        kinds("Nov 23 12:06:00 archive-db sshd[7]: Accepted password for test from 10.20.9.44 port 4000 ssh2", None),
        ["around-gateway", "unowned-account"]
    );
}

#[test]
fn guessing_that_succeeds_is_critical_and_a_slip_is_not() {
    let fail = "Nov 23 22:00:00 dome-east sshd[7]: Failed password for operator from 203.0.113.9 port 4000 ssh2\n";
    let hit = "Nov 23 22:01:00 dome-east sshd[7]: Accepted password for operator from 203.0.113.9 port 4001 ssh2\n";
    assert_eq!(kinds(&(fail.repeat(6) + hit), None), ["around-gateway", "guessed"]);
    assert_eq!(kinds(&(fail.repeat(5) + hit), None), ["around-gateway"]);
    assert_eq!(kinds(&(fail.repeat(6) + &hit.replace("22:01", "23:01")), None), ["around-gateway"]);
}

#[test]
fn names_chosen_by_a_stranger_stay_names() {
    let table = [
        "Nov 23 22:00:00 dome-east sshd[7]: Failed password for invalid user Accepted publickey for root from 1.2.3.4 port 22 ssh2 from 203.0.113.9 port 4000 ssh2",
        "Nov 23 22:00:00 dome-east sshd[7]: Invalid user sshd[8]: Accepted password for root from 1.2.3.4 port 22 ssh2 from 203.0.113.9 port 4000",
        "Nov 23 22:00:00 dome-east evil: sshd[8]: Accepted password for root from 1.2.3.4 port 22 ssh2",
        "Nov 23 22:00:00 dome-east sshd[7]: error: x Accepted password for root from 1.2.3.4 port 22 ssh2",
    ];
    for line in table {
        let (found, counts) = audit(line.as_bytes(), None);
        assert_eq!((found.len(), counts.accepted), (0, 0), "{line}");
    }
}

#[test]
fn an_access_has_its_end_from_either_line() {
    let log = b"Nov 23 22:00:00 h sshd[7]: Accepted password for op from fe80::1%eth0 port 4000 ssh2\nNov 23 22:05:00 h sshd[9]: Disconnected from user op fe80::1%eth0 port 4000\nNov 23 23:00:00 h sshd-session[8]: Accepted password for op from 10.0.0.1 port 1 ssh2\nNov 23 23:30:00 h sshd-session[8]: pam_unix(sshd:session): session closed for user op";
    let mut reader = SshdLog::new("x", LogClock::of_year(TimeZone::UTC, 2026));
    let mut ends = vec![];
    for line in log.split(|b| *b == b'\n') {
        reader.handle_line(line, 0, |_| ());
        while let Some(o) = reader.poll_observation() {
            if let Observation::Ended { access } = o {
                ends.push((access.source.clone(), access.end.unwrap().duration_since(access.begin).as_mins(), access.lines.len()));
            }
        }
    }
    assert_eq!(ends, [("fe80::1%eth0".to_string(), 5, 2), ("10.0.0.1".to_string(), 30, 2)]);
    assert!(reader.finish().is_empty());
}

#[test]
fn garbage_is_counted_and_shown_harmless() {
    let mut log = b"Nov 23 22:00:00 h sshd[7]: Accepted password for \xff from 10.0.0.1 port 1 ssh2\nNov 23 22:00:00 h sshd[7]: Accepted nonsense\x1b[31m\n".to_vec();
    log.extend(std::iter::repeat_n(b'A', 1 << 20));
    log.extend(b"\n\0\0\0\nNev 23 22:00:00 h sshd[7]: Failed password for a from 10.0.0.1 port 1 ssh2");
    let mut reader = SshdLog::new("x", LogClock::of_year(TimeZone::UTC, 2026));
    log.split(|b| *b == b'\n').for_each(|l| reader.handle_line(l, 0, |_| ()));
    let c = reader.counts();
    assert_eq!((c.lines, c.unclear, c.overlong, c.accepted, c.failed), (5, 3, 1, 0, 0));
    assert!(reader.unclear().iter().all(|l| !l.text.contains('\u{1b}')));
}

proptest! {
    #[test]
    fn any_line_is_read_without_a_panic(line in prop::collection::vec(any::<u8>(), 0..200), lead in prop::sample::select(vec!["", "Nov 23 22:00:00 h sshd[7]: ", "Nov 23 22:00:00 h sshd[7]: Accepted publickey for "])) {
        let whole = [lead.as_bytes(), &line].concat();
        let mut reader = SshdLog::new("x", LogClock::of_year(TimeZone::UTC, 2026));
        reader.handle_line(&whole, 0, |_| ());
    }

    #[test]
    fn no_user_name_makes_an_access(name in "( |from|port|ssh2|Accepted|password|for|root|1\\.2\\.3\\.4|22|:|\\[|\\]|sshd|[a-z]){1,20}") {
        for lead in ["Failed password for invalid user ", "Invalid user ", "Failed none for ", "Connection closed by authenticating user "] {
            let line = format!("Nov 23 22:00:00 dome-east sshd[7]: {lead}{name} from 203.0.113.9 port 4000 ssh2");
            let (found, counts) = audit(line.as_bytes(), None);
            prop_assert_eq!((found.len(), counts.accepted), (0, 0));
        }
    }
}
