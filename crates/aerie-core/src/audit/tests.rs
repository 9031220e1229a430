use super::*;
use crate::directory::Directory;
use crate::policy::{Policy, read};
use jiff::Timestamp;
use jiff::tz::TimeZone;
use proptest::prelude::*;
use std::sync::Arc;

pub(super) const RULES: &str = r#"
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
    History::new(vec![(t("2026-01-01T00:00:00Z"), policy(RULES))])
}

/// Rules for the people and machines of these tests.
pub(super) fn policy(rules: &str) -> Arc<Policy> {
    let person = serde_json::json!({ "name": "ines", "full_name": "Ines Okafor", "groups": ["night-operators"], "keys": [{ "fingerprint": "SHA256:ines" }] });
    let machine = |n: &str, a: &str| serde_json::from_value(serde_json::json!({ "name": n, "accounts": [a] })).unwrap();
    let directory = Directory::new(
        vec![serde_json::from_value(person).unwrap()],
        vec![machine("dome-east", "operator"), machine("archive-db", "archivist")],
    );
    Arc::new(Policy::compile(read(rules).unwrap(), Arc::new(directory), t("2026-11-01T00:00:00Z")))
}

fn world(sessions: Option<SessionIndex>) -> Arc<World> {
    Arc::new(World {
        history: history(),
        sessions,
        own: Default::default(),
        authorities: None,
        detections: Arc::new(detect::DetectionSet::shipped()),
    })
}

pub(super) fn t(text: &str) -> Timestamp {
    text.parse().unwrap()
}

pub(super) fn session(id: &str) -> KnownSession {
    KnownSession {
        id: id.into(),
        person: "ines".into(),
        machine: "dome-east".into(),
        account: "operator".into(),
        begin: t("2026-11-22T22:00:00Z"),
        end: Some(t("2026-11-22T23:00:00Z")),
        recorded: true,
        uses: crate::policy::Capabilities::of([crate::policy::Capability::Shell]),
        factors: crate::policy::Factors::of([crate::policy::Factor::Key]),
        source: None,
    }
}

/// Audits a log and returns kind and sentence of each finding.
fn audit(log: &[u8], sessions: Option<&SessionIndex>) -> (Vec<Finding>, Counts) {
    let history = history();
    let authorities = ["SHA256:authority".to_string()];
    let mut auditor = Auditor::new(Arc::new(World {
        history,
        sessions: sessions.cloned(),
        own: [(("dome-east".to_string(), "check".to_string()), vec![t("2026-11-22T22:00:03Z")])].into(),
        authorities: Some(authorities.to_vec()),
        detections: Arc::new(detect::DetectionSet::shipped()),
    }));
    let mut reader = AccessLog::new("auth.log", LogClock::of_year(TimeZone::UTC, 2026));
    let mut offset = 0;
    for line in log.split(|b| *b == b'\n') {
        reader.handle_line(line, offset, |f| auditor.handle_failure(f));
        offset += line.len() as u64 + 1;
        while let Some(o) = reader.poll_observation() {
            match o {
                Observation::Began(access) => drop(auditor.handle_access(&access)),
                Observation::Ran(ran) => auditor.handle_command(&ran),
                Observation::Ended { .. } | Observation::Closed { .. } | Observation::Used { .. } => {}
            }
        }
    }
    let counts = reader.counts();
    (auditor.finish(&TimeZone::UTC), counts)
}

/// Audits a log with one session known, under rules over time.
fn audit_under(history: History, log: &str, known: &[KnownSession]) -> Vec<Finding> {
    let sessions = known.iter().map(|s| (s.id.clone(), s.clone())).collect();
    let world = Arc::new(World { history, ..World::clone(&world(Some(sessions))) });
    let clock = LogClock::of_year(TimeZone::UTC, 2026);
    let mut scan = Scan::new(Auditor::new(world), "auth.log", clock, Some(read::Format::Lines), None);
    scan.handle_bytes(log.as_bytes(), &mut |_| ());
    scan.finish(&TimeZone::UTC, &mut |_| ()).findings
}

#[test]
fn a_session_by_a_rule_that_was_withdrawn_since_is_told_as_unimportant() {
    let without = policy(&RULES.replace("night-dome", "another").replace("name:dome-east", "name:archive-db"));
    let later = t("2026-11-25T00:00:00Z");
    let begin = t("2026-01-01T00:00:00Z");
    let log = format!("{CERTIFICATE}\n");
    let found = audit_under(History::new(vec![(begin, policy(RULES)), (later, without)]), &log, &[session("s-1")]);
    let told: Vec<_> = found.iter().map(|f| (f.kind, f.importance, f.sentence.as_str())).collect();
    let sentence = "Ines Okafor signed in to dome-east as operator from 10.20.0.2 on 22 November 2026 at 22:00; it was allowed by night-dome alone, which was withdrawn since.";
    assert_eq!(told, [(FindingKind::RuleWithdrawn, Importance::Low, sentence)]);
    // A rule that stays and gives less, or another that gives the same, is none that was withdrawn.
    let narrower = policy(&RULES.replace("daily 18:00-07:30", "daily 03:00-07:30"));
    let renamed = policy(&RULES.replace("night-dome", "another"));
    for newest in [policy(RULES), narrower, renamed] {
        let found = audit_under(History::new(vec![(begin, policy(RULES)), (later, newest)]), &log, &[session("s-1")]);
        assert!(found.is_empty(), "{found:?}");
    }
}

#[test]
fn a_clock_that_is_off_is_a_finding_once_three_accesses_show_it() {
    let known: Vec<_> = ["s-1", "s-2", "s-3"].map(session).into();
    let line = |id: &str, at: &str| {
        CERTIFICATE.replace("s-1", id).replace("22:00:01", at).replace("port 5000", &format!("port {}", at.len())) + "\n"
    };
    let late = |at: &str, ids: &[&str]| -> Vec<(FindingKind, String)> {
        let log: String = ids.iter().map(|id| line(id, at)).collect();
        audit_under(history(), &log, &known).into_iter().map(|f| (f.kind, f.sentence)).collect()
    };
    let three = ["s-1", "s-2", "s-3"];
    let said = "The clock of dome-east is 3 min ahead of Aerie's, as 3 accesses show.";
    assert_eq!(late("22:03:00", &three), [(FindingKind::ClockOff, said.into())]);
    assert!(late("22:01:00", &three).is_empty());
    assert!(late("22:03:00", &["s-1", "s-2"]).is_empty());
    assert!(late("21:57:00", &three)[0].1.contains("3 min behind Aerie's"));
}

fn kinds(log: &str, sessions: Option<&SessionIndex>) -> Vec<String> {
    let mut kinds: Vec<_> = audit(log.as_bytes(), sessions).0.iter().map(|f| f.word().to_string()).collect();
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
    // The service itself, where it was and when; the same word elsewhere and at another time is no excuse.
    let own = CERTIFICATE.replace("aerie s-1", "aerie check");
    assert!(kinds(&own, Some(&known)).is_empty());
    for other in [
        own.replace("22:00:01", "22:20:01"),
        own.replace("dome-east sshd", "archive-db sshd"),
        own.replace("aerie check", "aerie rotation"),
    ] {
        assert_eq!(kinds(&other, Some(&known)), ["unknown-session"], "{other}");
    }
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
    let mut reader = AccessLog::new("x", LogClock::of_year(TimeZone::UTC, 2026));
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
    let mut reader = AccessLog::new("x", LogClock::of_year(TimeZone::UTC, 2026));
    log.split(|b| *b == b'\n').for_each(|l| reader.handle_line(l, 0, |_| ()));
    let c = reader.counts();
    assert_eq!((c.lines, c.unclear, c.overlong, c.accepted, c.failed), (5, 3, 1, 0, 0));
    assert!(reader.unclear().iter().all(|l| !l.text.contains('\u{1b}')));
}

proptest! {
    #[test]
    fn any_line_is_read_without_a_panic(line in prop::collection::vec(any::<u8>(), 0..200), lead in prop::sample::select(vec!["", "Nov 23 22:00:00 h sshd[7]: ", "Nov 23 22:00:00 h sshd[7]: Accepted publickey for "])) {
        let whole = [lead.as_bytes(), &line].concat();
        let mut reader = AccessLog::new("x", LogClock::of_year(TimeZone::UTC, 2026));
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

/// Scans a file as it comes in pieces of a size; gives its records, with ends, and what was counted.
fn scanned(name: &str, bytes: &[u8], size: usize, format: Option<read::Format>) -> (Vec<AccessRecord>, Scanned) {
    let clock = LogClock::of_year(TimeZone::UTC, 2026);
    let mut scan = Scan::new(Auditor::new(world(None)), name, clock, format, Some("dome-east"));
    let mut records: Vec<AccessRecord> = vec![];
    let mut each = |r: Recorded| match r {
        Recorded::Began(r) => records.push(r),
        Recorded::Closed { .. } => panic!("the log was read from its beginning"),
        Recorded::Used { id, uses, .. } => records.iter_mut().rev().find(|r| r.id == id).unwrap().uses = uses,
        Recorded::Ended { id, at, line } => {
            let one = records.iter_mut().rev().find(|r| r.id == id).unwrap();
            one.end = Some(at);
            one.lines.extend(line);
        }
    };
    for piece in bytes.chunks(size.max(1)) {
        scan.handle_bytes(piece, &mut each);
    }
    let result = scan.finish(&TimeZone::UTC, &mut each);
    (records, result)
}

fn told(records: &[AccessRecord]) -> Vec<String> {
    records
        .iter()
        .map(|r| {
            let end = r.end.map_or("-".into(), |e| e.to_string());
            format!("{} {} {} from {}:{} by {}, {} to {end}", r.service.word(), r.account, r.machine, r.source, r.port, r.method, r.begin)
        })
        .collect()
}

const EACH_FORM: &str = r#"Nov 22 22:00:01 dome-east sshd[9]: Accepted publickey for operator from 10.20.0.2 port 5000 ssh2: ED25519 SHA256:ines
<86>1 2026-11-22T22:00:02Z dome-east sshd-session 10 - - Accepted password for operator from 10.20.0.2 port 5001 ssh2
2026-11-22T23:00:03+01:00 dome-east sshd[11]: Accepted password for operator from fe80::1%eth0 port 5002 ssh2
{"__REALTIME_TIMESTAMP":"1795384804000000","_HOSTNAME":"dome-east","SYSLOG_IDENTIFIER":"sshd","_PID":"12","MESSAGE":"Accepted password for operator from 10.20.0.2 port 5003 ssh2"}
[20261122-22:00:05] [INFO ] ++ created session (access granted): username ines, ip ::ffff:10.20.0.2:5004 - socket: 12
Sun Nov 22 22:00:06 2026
 Connections: accepted: 10.20.0.2::5005
 SConnection: Client requests security type VncAuth(2)
 VNCSConnST:  Server default pixel format depth 24 (32bpp) little-endian rgb888
 Connections: closed: 10.20.0.2::5005
Nov 22 22:30:00 dome-east sshd[9]: Disconnected from user operator 10.20.0.2 port 5000
2026-11-22T22:31:00Z dome-east sshd[10]: pam_unix(sshd:session): session closed for user operator
[20261122-22:40:05] [INFO ] ++ terminated session:  username ines, display :10.0, session_pid 1234, ip ::ffff:10.20.0.2:5004
"#;

#[test]
fn one_file_may_hold_every_form_of_line() {
    let (records, scanned) = scanned("mixed.log", EACH_FORM.as_bytes(), usize::MAX >> 1, None);
    assert_eq!(
        told(&records),
        [
            "ssh operator dome-east from 10.20.0.2:5000 by publickey, 2026-11-22T22:00:01Z to 2026-11-22T22:30:00Z",
            "ssh operator dome-east from 10.20.0.2:5001 by password, 2026-11-22T22:00:02Z to 2026-11-22T22:31:00Z",
            "ssh operator dome-east from fe80::1%eth0:5002 by password, 2026-11-22T22:00:03Z to -",
            "ssh operator dome-east from 10.20.0.2:5003 by password, 2026-11-22T22:00:04Z to -",
            "rdp ines dome-east from 10.20.0.2:5004 by password, 2026-11-22T22:00:05Z to 2026-11-22T22:40:05Z",
            "vnc (desktop) dome-east from 10.20.0.2:5005 by password, 2026-11-22T22:00:06Z to 2026-11-22T22:00:06Z",
        ]
    );
    assert_eq!((scanned.format, scanned.counts.accepted, scanned.counts.unclear), ("lines", 6, 0));
    assert_eq!(records[0].person.as_deref(), Some("ines"));
    assert!(records.iter().all(|r| r.lines[0].digest.len() == 64 && !r.explained));
}

#[test]
fn login_records_events_of_windows_and_tables_are_accesses_too() {
    let record = |kind, account, at| read::login_records::made(kind, "pts/3", account, [10, 20, 0, 2], at);
    let wtmp = [
        record(7, "operator", 1_795_384_800),
        record(8, "", 1_795_385_000),
        record(7, "ines", 1_795_386_000),
        record(2, "", 1_795_387_000),
    ]
    .concat();
    let (records, result) = scanned("wtmp", &wtmp, 100, None);
    assert_eq!(
        told(&records),
        [
            "login operator dome-east from 10.20.0.2:0 by login, 2026-11-22T22:00:00Z to 2026-11-22T22:03:20Z",
            "login ines dome-east from 10.20.0.2:0 by login, 2026-11-22T22:20:00Z to 2026-11-22T22:36:40Z",
        ]
    );
    // The SSH server's log judges such logins: here nothing is raised twice.
    assert!(result.findings.is_empty() && result.format == "login-records");
    let (none, bad) = scanned("btmp", &wtmp, 384, None);
    assert_eq!((none.len(), bad.counts.failed, bad.format), (0, 4, "bad-logins"));

    let event = |id: u32, kind: u32| {
        format!(
            "<Event xmlns='x'><System><EventID>{id}</EventID><TimeCreated SystemTime='2026-11-22T22:0{kind}:00Z'/><Computer>dome-east.lan</Computer></System><EventData><Data Name='TargetUserName'>ines</Data><Data Name='TargetLogonId'>0x{kind}</Data><Data Name='LogonType'>10</Data><Data Name='IpAddress'>10.20.0.2</Data></EventData></Event>"
        )
    };
    let xml = format!("<Events>{}{}{}</Events>", event(4624, 1), event(4625, 2), event(4634, 1).replace("22:01", "22:09"));
    let (records, result) = scanned("security.xml", xml.as_bytes(), 50, None);
    assert_eq!(told(&records), ["rdp ines dome-east from 10.20.0.2:0 by password, 2026-11-22T22:01:00Z to 2026-11-22T22:09:00Z"]);
    assert_eq!(result.counts.failed, 1);

    let mapping = "format = \"csv\"\nservice = \"rdp\"\naccepted = [\"ok\"]\n[columns]\ntime = \"when\"\nend = \"until\"\naccount = \"who\"\nsource = \"ip\"\noutcome = \"result\"\n";
    let mapping = Arc::new(read::table::Mapping::parse(mapping).unwrap());
    let csv = "when,who,ip,until,result\n2026-11-22T22:00:00Z,\"ines\",10.20.0.2,2026-11-22T23:00:00Z,OK\n2026-11-22T22:00:00Z,mira,10.20.0.3,,denied\nrubbish\n";
    let (records, result) = scanned("export.csv", csv.as_bytes(), 10, Some(read::Format::Table(mapping)));
    assert_eq!(told(&records), ["rdp ines dome-east from 10.20.0.2:0 by , 2026-11-22T22:00:00Z to 2026-11-22T23:00:00Z"]);
    assert_eq!((result.counts.failed, result.counts.unclear), (1, 1));
}

#[test]
fn names_that_imitate_the_newer_forms_stay_names() {
    let tricks = [
        // A name with a whole journal entry, or a line of another form, in it.
        r#"{"__REALTIME_TIMESTAMP":"1795384804000000","_HOSTNAME":"dome-east","SYSLOG_IDENTIFIER":"sshd","MESSAGE":"Failed password for invalid user x from 1.1.1.1 port 1 ssh2\nAccepted password for root from 10.0.0.1 port 22 ssh2 from 203.0.113.9 port 5 ssh2"}"#,
        "<86>1 2026-11-22T22:00:02Z dome-east sshd 10 - - Invalid user ] Accepted password for root from 10.0.0.1 port 22 ssh2 from 203.0.113.9 port 5",
        "[20261122-22:00:05] [INFO ] AUTHFAIL: user=++ created session (access granted): username ines, ip 10.0.0.1:5 - socket: 1 ip=203.0.113.9 time=1",
        " Connections: accepted: ; VNCSConnST:  Server default pixel format",
    ];
    let (records, _) = scanned("auth.log", tricks.join("\n").as_bytes(), 4096, None);
    assert_eq!(told(&records), Vec::<String>::new());
}

proptest! {
    #[test]
    fn pieces_of_any_size_give_the_same_records(size in 1usize..700) {
        let whole = scanned("mixed.log", EACH_FORM.as_bytes(), usize::MAX >> 1, None);
        let pieces = scanned("mixed.log", EACH_FORM.as_bytes(), size, None);
        prop_assert_eq!(whole.0, pieces.0);
        prop_assert_eq!(whole.1.counts, pieces.1.counts);
    }

    #[test]
    fn no_bytes_make_a_reader_fail(bytes in prop::collection::vec(any::<u8>(), 0..1200), start in 0usize..6) {
        let starts: [&[u8]; 6] = [b"", b"<?xml ", b"{\"__REALTIME_TIMESTAMP\":", b"[20261122-22:00:05] [INFO ] ++ ", b"<86>1 2026-11-22T22:00:02Z ", b"Sun Nov 22 22:00:06 2026\n Connections: "];
        let all = [starts[start], &bytes].concat();
        let (records, _) = scanned("any", &all, 64, None);
        prop_assert!(records.len() <= 3);
    }
}

#[test]
fn a_session_without_what_the_rules_demand_is_found_and_one_with_it_is_not() {
    const STRICT: &str = "\n[[require]]\nname = \"strict\"\nmachines = \"*\"\nfactors = [\"code\"]\nrecording = true\n";
    let base = history();
    let directory = base.at(t("2026-11-22T22:00:00Z")).unwrap().directory().clone();
    let compiled = |text: &str| Arc::new(Policy::compile(read(text).unwrap(), directory.clone(), t("2026-11-01T00:00:00Z")));
    let found = |rules: &str, session: KnownSession| {
        let history = History::new(vec![(t("2026-01-01T00:00:00Z"), compiled(rules))]);
        let known: SessionIndex = [("s-1".to_string(), session)].into();
        let held = World { history, sessions: Some(known), ..World::clone(&world(None)) };
        let mut scan = Scan::new(Auditor::new(Arc::new(held)), "auth.log", LogClock::of_year(TimeZone::UTC, 2026), None, None);
        scan.handle_bytes(CERTIFICATE.as_bytes(), &mut |_| {});
        let scanned = scan.finish(&TimeZone::UTC, &mut |_| {});
        scanned.findings.iter().map(|f| format!("{} {}", f.kind.word(), f.sentence.rsplit("; ").next().unwrap())).collect::<Vec<_>>()
    };
    use crate::policy::{Capabilities, Capability, Factor, Factors};
    let strict = format!("{RULES}{STRICT}");
    let with = |factors: &[Factor], recorded| KnownSession { factors: Factors::of(factors.iter().copied()), recorded, ..session("s-1") };
    assert_eq!(found(RULES, with(&[Factor::Key], false)), Vec::<String>::new());
    assert_eq!(found(&strict, with(&[Factor::Key, Factor::Code], true)), Vec::<String>::new());
    assert_eq!(found(&strict, with(&[Factor::Key], true)), ["unmet-demand the rules of that moment demand a code."]);
    assert_eq!(found(&strict, with(&[Factor::Key, Factor::Code], false)), ["unmet-demand the rules of that moment demand a recording."]);
    let uploaded = KnownSession { uses: Capabilities::of([Capability::Shell, Capability::Upload]), ..session("s-1") };
    assert_eq!(found(RULES, uploaded), ["not-allowed the rules of that moment do not let them copy files to it."]);
}

#[test]
fn what_was_not_understood_is_told_from_what_says_nothing() {
    let counted = |log: &[u8]| {
        let (found, counts) = audit(log, None);
        (found.len(), counts.lines, counts.understood)
    };
    assert_eq!(counted(b"Nov 23 22:00:00 dome-east kernel: eth0 up\n\nno line of a log"), (0, 3, 2));
    assert_eq!(counted(b"__CURSOR=s=1\n__REALTIME_TIMESTAMP=1700000000\nMESSAGE=Accepted password for root"), (0, 3, 0));
    assert_eq!(counted(&[0, 159, 1, 2, b'\n', 7, 255]), (0, 2, 0));
    // What an editor puts before the first line takes nothing from it.
    assert_eq!(counted("\u{feff}Nov 23 22:00:00 dome-east kernel: eth0 up".as_bytes()), (0, 1, 1));
}

#[test]
fn what_sudo_ran_is_a_command_of_the_account() {
    let log = "Nov 23 22:00:00 dome-east sudo: operator : TTY=pts/0 ; PWD=/home ; USER=root ; COMMAND=/usr/bin/rm -f /var/log/auth.log\n\
               Nov 23 22:00:01 dome-east sudo[4]: operator : TTY=pts/0 ; PWD=/home ; USER=root ; COMMAND=/usr/bin/systemctl stop rsyslog\n\
               Nov 23 22:00:02 dome-east sudo[4]: operator : TTY=pts/0 ; PWD=/home ; USER=root ; COMMAND=/usr/bin/systemctl status rsyslog\n";
    let (found, counts) = audit(log.as_bytes(), None);
    let mut kinds: Vec<_> = found.iter().map(Finding::word).collect();
    kinds.sort_unstable();
    assert_eq!(kinds, ["logging-stopped", "tracks-hidden-by-sudo"]);
    assert_eq!((counts.server_lines, counts.unclear), (3, 0));
    let stopped = found.iter().find(|f| f.word() == "logging-stopped").unwrap();
    assert_eq!(
        stopped.sentence,
        "The log of dome-east was switched off by the account operator on 23 November 2026 at 22:00; the command shows it."
    );
    assert_eq!((stopped.lines.len(), stopped.techniques()[0].as_str()), (1, "T1562.001"));
}

#[test]
fn what_all_logs_show_together_is_held_against_the_detections_too() {
    let history = history();
    let mut behaviour = Behaviour::new(&history, Arc::new(detect::DetectionSet::shipped()));
    let begin = t("2026-11-02T10:00:00Z");
    let access = |at: Timestamp, minutes: i64, source: &str| Happened {
        end: Some(at + jiff::SignedDuration::from_mins(minutes)),
        account: "operator".into(),
        source: source.into(),
        ..Happened::event(detect::What::Access, at, "ines", "dome-east", None)
    };
    for day in 0..20 {
        behaviour.handle(access(begin + jiff::SignedDuration::from_hours(24 * day), 30, "10.20.4.7"));
    }
    // While she is in from the observatory, somebody is in as her from elsewhere; an hour later nobody is.
    behaviour.handle(access(t("2026-11-22T10:00:00Z"), 60, "10.20.4.7"));
    behaviour.handle(access(t("2026-11-22T10:20:00Z"), 10, "198.51.100.7"));
    behaviour.handle(access(t("2026-11-22T11:00:00Z"), 10, "198.51.100.8"));
    behaviour.handle(Happened::event(detect::What::Emergency, t("2026-11-22T12:00:00Z"), "ines", "dome-east", Some("s-7")));
    let found = behaviour.finish(t("2026-11-26T00:00:00Z"));
    let told: Vec<_> = found.iter().map(|f| (f.word(), f.count, f.person.as_deref(), f.session.as_deref())).collect();
    assert_eq!(told, [("emergency-not-reviewed", 1, None, Some("s-7")), ("two-places", 1, Some("ines"), None)]);
    assert!(
        found[1].sentence.starts_with("Ines Okafor was in from two networks at once, 10.20.4.0/24 and 198.51.100.0/24, on"),
        "{}",
        found[1].sentence
    );
}

#[test]
fn a_log_that_is_read_on_ends_what_began_before() {
    let whole = "Nov 22 22:00:01 dome-east sshd[9]: Accepted password for operator from 10.20.0.2 port 5000 ssh2\n";
    let rest = "Nov 22 23:00:01 dome-east sshd[9]: Disconnected from user operator 10.20.0.2 port 5000\n\
                Nov 22 23:10:01 dome-east sshd[9]: Accepted password for operator from 10.20.0.2 port 5001 ssh2\n";
    let clock = LogClock::of_year(TimeZone::UTC, 2026);
    let mut scan = Scan::new(Auditor::new(world(None)), "auth.log", clock, None, None).from(whole.len() as u64, 1);
    let mut told = vec![];
    scan.handle_bytes(rest.as_bytes(), &mut |r| told.push(r));
    scan.finish(&TimeZone::UTC, &mut |r| told.push(r));
    let [Recorded::Closed { machine, source, port, at, line }, Recorded::Began(began)] = told.as_slice() else { panic!("{told:#?}") };
    assert_eq!((machine.as_str(), source.as_str(), *port, *at), ("dome-east", "10.20.0.2", 5000, t("2026-11-22T23:00:01Z")));
    assert_eq!((line.number, line.offset), (2, whole.len() as u64));
    assert_eq!((began.lines[0].number, began.lines[0].offset), (3, (whole.len() + rest.find('\n').unwrap() + 1) as u64));
}

#[test]
fn what_is_no_event_is_counted() {
    let event = "<Event xmlns='x'><System><EventID>4634</EventID></System></Event>";
    let text = format!("{event}\n{}\n{event}", "rubbish ".repeat(2000));
    let (_, scanned) = scanned("security.xml", text.as_bytes(), 777, None);
    assert!(scanned.format == "windows-events" && scanned.skipped >= 16_000, "{} {}", scanned.format, scanned.skipped);
}

#[test]
fn whoever_sends_the_log_of_one_machine_speaks_for_no_other() {
    let mut auditor = Auditor::new(world(None));
    let clock = LogClock::of_year(TimeZone::UTC, 2026);
    let mut source = Source::new("agent", clock, Some(read::Format::Lines), None).only_of("dome-east");
    let mut machines = vec![];
    let log = "Nov 23 12:06:00 archive-db sshd[7]: Accepted password for archivist from 10.20.9.44 port 4000 ssh2\n\
               2026-11-23T12:07:00Z archive-db sshd[8]: Accepted password for archivist from 10.20.9.44 port 4001 ssh2\n\
               {\"__REALTIME_TIMESTAMP\":\"1795508450123456\",\"_HOSTNAME\":\"archive-db\",\"SYSLOG_IDENTIFIER\":\"sshd\",\"_PID\":\"42\",\
               \"MESSAGE\":\"Accepted password for archivist from 10.20.9.44 port 4002 ssh2\"}\n";
    source.handle_bytes(&mut auditor, log.as_bytes(), &mut |r| {
        if let Recorded::Began(record) = r {
            machines.push(record.machine);
        }
    });
    assert_eq!(machines, ["dome-east"; 3]);
    assert_eq!(
        source.covered(&auditor).iter().map(|c| c.machine.as_str()).collect::<std::collections::BTreeSet<_>>(),
        ["dome-east"].into()
    );
}

#[test]
fn what_an_access_was_used_for_and_how_it_broke_off_is_read_and_preauth_lines_end_nothing() {
    let line = |pid: u32, text: &str| format!("Nov 23 22:00:{:02} dome-east sshd[{pid}]: {text}\n", pid % 60);
    let log = [
        line(1, "Accepted password for operator from 10.0.0.1 port 5000 ssh2"),
        line(2, "Accepted password for operator from 10.0.0.2 port 5001 ssh2"),
        line(3, "Starting session: shell on pts/0 for operator from 10.0.0.1 port 5000 id 0"),
        line(3, "Starting session: shell on pts/1 for operator from 10.0.0.1 port 5000 id 1"),
        line(4, "Starting session: forced-command (config) 'echo from 10.0.0.2 port 5001 id 9' for operator from 10.0.0.1 port 5000 id 2"),
        line(5, "subsystem request for sftp by user operator"),
        line(6, "subsystem request for sftp by user operator failed, subsystem not found"),
        line(7, "subsystem request for sftp by user nobody-here"),
        line(8, "Connection closed by authenticating user root 10.0.0.1 port 5000 [preauth]"),
        line(9, "Connection closed by 10.0.0.1 port 5000 [preauth]"),
        line(10, "Connection reset by 10.0.0.1 port 5000"),
        line(11, "Timeout, client not responding from user operator 10.0.0.2 port 5001"),
    ]
    .concat();
    let mut told = vec![];
    let mut source = Source::new("x", LogClock::of_year(TimeZone::UTC, 2026), Some(read::Format::Lines), None);
    source.handle_bytes(&mut Auditor::new(world(None)), log.as_bytes(), &mut |r| told.push(r));
    let short: Vec<String> = told
        .iter()
        .map(|r| match r {
            Recorded::Began(r) => format!("began {}", r.source),
            Recorded::Used { uses, line, .. } => format!("used {uses} {}", line.number),
            Recorded::Ended { at, .. } => format!("ended {}", at.strftime("%S")),
            Recorded::Closed { .. } => "closed".into(),
        })
        .collect();
    assert_eq!(short, ["began 10.0.0.1", "began 10.0.0.2", "used shell 3", "used shell exec 5", "used browse 6", "ended 10", "ended 11"]);
    let ids: Vec<_> = told.iter().filter_map(|r| if let Recorded::Used { id, .. } = r { Some(id.clone()) } else { None }).collect();
    let Recorded::Began(first) = &told[0] else { panic!() };
    assert!(ids[0] == first.id && ids[1] == first.id && ids[2] != first.id);
}
