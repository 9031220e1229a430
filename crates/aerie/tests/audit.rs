//! The audit against a running demo: logs, what is found in them, what becomes of it, and evidence for outsiders.

#![allow(clippy::unwrap_used, clippy::expect_used, clippy::panic, unreachable_pub, reason = "a test that cannot go on fails")]

mod common;

use aerie_client::{Client, FindingQuery, ListQuery, ScanQuery, SessionQuery};
use common::{AERIE, client, until, world};
use jiff::{SignedDuration, Timestamp};
use std::process::Command;
use tokio::io::AsyncWriteExt as _;

async fn signed_in(person: &str) -> Client {
    let api = &world().people.demo.api;
    let code = world().people.codes.next(person).await;
    let me = Client::new(api, None).sign_in(person, &format!("{person} watches the sky"), &code).await.unwrap();
    Client::new(api, me.token)
}

#[tokio::test]
async fn who_was_where_is_listed_counted_and_exported_whoever_says_so() {
    use aerie_api::AccessQuery;
    let admin = client();
    let planted = AccessQuery { through: Some("around".into()), person: Some("amara".into()), ..AccessQuery::default() };
    let around = admin.accesses(&planted).await.unwrap().items;
    assert_eq!(around.len(), 3, "{around:#?}");
    assert!(around.iter().all(|a| a.session.is_none() && a.machine == "spectro-1" && a.sentence.ends_with("around Aerie.")));
    let shown = admin.access(&around[0].id).await.unwrap();
    // Where it begins and where it ends, with what proves that the line is the one of the file.
    assert_eq!(shown.lines.len(), 2);
    assert!(shown.lines[0].text.contains("Accepted publickey") && shown.lines[0].digest.len() == 64);
    let report = admin.access_report(&AccessQuery::default(), "person").await.unwrap();
    let amara = report.totals.iter().find(|t| t.name == "amara").unwrap();
    assert_eq!((amara.around, amara.shown.as_str()), (3, "Amara Lindqvist"));
    assert_eq!(report.count, report.totals.iter().map(|t| t.count).sum::<u64>());
    assert_eq!(report.count, report.spans.iter().map(|s| s.count).sum::<u64>());
    // A session is one access, however many logs show it, and the machine's lines are its evidence.
    let through =
        AccessQuery { through: Some("aerie".into()), machine: Some("dome-east".into()), limit: Some(1), ..AccessQuery::default() };
    let session = admin.accesses(&through).await.unwrap().items.remove(0);
    assert_eq!(session.session.as_deref(), Some(session.id.as_str()));
    assert!(admin.access(&session.id).await.unwrap().lines[0].text.contains(&session.id));
    let csv = admin.accesses_csv(&planted).await.unwrap();
    assert_eq!(csv.lines().count(), 4);
    assert!(csv.starts_with("began,ended,seconds,person") && csv.contains(",amara,Amara Lindqvist,spectro-1,operator,10.20.9.60,"));
    // Pages go on without gap or repetition.
    let (mut seen, mut after) = (std::collections::BTreeSet::new(), None);
    loop {
        let page = admin.accesses(&AccessQuery { after: after.clone(), limit: Some(40), ..AccessQuery::default() }).await.unwrap();
        assert!(page.items.iter().all(|a| seen.insert(a.id.clone())));
        after = page.next;
        if after.is_none() {
            break;
        }
    }
    assert!(seen.len() as u64 >= report.count);
}

#[tokio::test]
async fn any_log_is_taken_packed_or_not_and_read_twice_changes_nothing() {
    use aerie_api::AccessQuery;
    let admin = client();
    let log = "[20261020-22:00:05] [INFO ] ++ created session (access granted): username tomasz, ip ::ffff:198.51.100.7:5004 - socket: 12\n\
               [20261020-22:30:05] [INFO ] ++ terminated session:  username tomasz, display :10.0, session_pid 1234, ip ::ffff:198.51.100.7:5004\n";
    let packed = zstd::encode_all(log.as_bytes(), 3).unwrap();
    let query =
        ScanQuery { name: Some("sesman.log.zst".into()), zone: Some("UTC".into()), host: Some("dome-west".into()), ..ScanQuery::default() };
    for _ in 0..2 {
        let result = admin.scan(&query, std::io::Cursor::new(packed.clone())).await.unwrap();
        assert_eq!((result.accesses, result.format.as_str()), (1, "lines"));
    }
    let find = AccessQuery { q: Some("198.51.100.7".into()), ..AccessQuery::default() };
    let found = admin.accesses(&find).await.unwrap().items;
    assert_eq!(found.len(), 1);
    assert_eq!((found[0].service.as_str(), found[0].person.as_deref(), found[0].seconds), ("rdp", Some("tomasz"), Some(1800)));
    // One that breaks off keeps what was read, and says so.
    let text: String = (0..4000)
        .map(|n| format!("Nov 23 08:20:50 dome-west sshd[{n}]: Failed password for root from 198.51.100.9 port 7 ssh2\n"))
        .collect();
    let packed = zstd::encode_all(text.as_bytes(), 1).unwrap();
    let broken = packed[..packed.len() - 10].to_vec();
    let result = admin.scan(&ScanQuery { name: Some("broken.zst".into()), ..query.clone() }, std::io::Cursor::new(broken)).await.unwrap();
    assert!(result.sentence.contains("broke off"), "{}", result.sentence);
    let mapping = "format = \"csv\"\nservice = \"vnc\"\n[columns]\ntime = \"t\"\naccount = \"who\"\n";
    let table = ScanQuery { mapping: Some(mapping.into()), ..query.clone() };
    let result = admin.scan(&table, std::io::Cursor::new("t,who\n2026-10-20T01:00:00Z,jun\nrubbish,\n")).await.unwrap();
    assert_eq!((result.accesses, result.unclear, result.format.as_str()), (1, 1, "table"));
    let wrong = ScanQuery { mapping: Some("format = 7".into()), ..query };
    assert!(admin.scan(&wrong, std::io::Cursor::new("")).await.is_err());
}

#[tokio::test]
async fn a_finding_is_taken_on_settled_and_comes_back_when_it_happens_again() {
    use aerie_api::FindingStep;
    let (admin, auditor) = (client(), signed_in("greta").await);
    let line = |minute: u32| {
        format!("Oct 20 03:{minute:02}:00 dome-west sshd[9]: Accepted password for operator from 198.51.100.80 port 5{minute:03} ssh2\n")
    };
    let scan = async |log: String| {
        let query = ScanQuery { name: Some("case.log".into()), zone: Some("UTC".into()), year: Some(2026), ..ScanQuery::default() };
        admin.scan(&query, std::io::Cursor::new(log)).await.unwrap()
    };
    let id = scan(line(1)).await.findings.iter().find(|f| f.kind == "around-gateway").unwrap().id.clone();
    let step = |word: &str| FindingStep { step: word.into(), ..FindingStep::default() };
    let because = |word: &str, why: &str| FindingStep { why: Some(why.into()), ..step(word) };
    assert_eq!(auditor.work_on_finding(&id, &step("acknowledge")).await.unwrap_err().status(), Some(403));
    admin.work_on_finding(&id, &step("acknowledge")).await.unwrap();
    let given = admin.work_on_finding(&id, &FindingStep { owner: Some("tove".into()), ..step("assign") }).await.unwrap();
    assert_eq!((given.state.as_str(), given.owner.as_deref(), given.history.len()), ("acknowledged", Some("tove"), 2));
    for refused in
        [step("resolve"), because("accept", "x"), step("dance"), FindingStep { owner: Some("nobody-here".into()), ..step("assign") }]
    {
        assert_eq!(admin.work_on_finding(&id, &refused).await.unwrap_err().status(), Some(400), "{refused:?}");
    }
    let resolved = admin.work_on_finding(&id, &because("resolve", "the password is gone")).await.unwrap();
    assert_eq!((resolved.state.as_str(), resolved.settled.unwrap().why.as_str()), ("resolved", "the password is gone"));
    let mine = |state: &str| FindingQuery { state: Some(state.into()), owner: Some("tove".into()), ..FindingQuery::default() };
    assert!(auditor.findings(&mine("settled")).await.unwrap().items.iter().any(|f| f.id == id));
    assert!(auditor.findings(&FindingQuery { state: Some("strange".into()), ..FindingQuery::default() }).await.is_err());
    // The same log again is nothing new; a later line is.
    scan(line(1)).await;
    assert_eq!(auditor.finding(&id).await.unwrap().state, "resolved");
    scan(line(1) + &line(2)).await;
    let again = auditor.finding(&id).await.unwrap();
    assert_eq!((again.state.as_str(), again.count, again.owner.as_deref()), ("open", 2, Some("tove")));
    assert_eq!(again.history.last().unwrap().sentence, "It happened again and is open.");
    let accepted = FindingStep { until: Some(Timestamp::now() + SignedDuration::from_hours(48)), ..because("accept", "until Monday") };
    assert_eq!(admin.work_on_finding(&id, &accepted).await.unwrap().state, "accepted");
    scan(line(1) + &line(2) + &line(3)).await;
    let still = auditor.finding(&id).await.unwrap();
    assert_eq!((still.state.as_str(), still.count), ("accepted", 3));
    // Every step is in the log.
    let logged = admin.log(&ListQuery { kind: Some("finding-changed".into()), q: Some(id.clone()), ..ListQuery::default() }).await.unwrap();
    assert_eq!(logged.items.len(), 4);
}

#[tokio::test]
async fn what_is_suppressed_does_not_come_up_until_it_is_withdrawn() {
    use aerie_api::NewSuppression;
    let admin = client();
    let until = Timestamp::now() + SignedDuration::from_hours(24);
    let whole = NewSuppression { kind: "around-gateway".into(), until, why: "noise".into(), ..NewSuppression::default() };
    assert_eq!(admin.suppress(&whole).await.unwrap_err().status(), Some(400));
    let narrow = NewSuppression { source: Some("198.51.100.81".into()), ..whole };
    let made = admin.suppress(&narrow).await.unwrap();
    assert!(made.sentence.starts_with("around-gateway of address 198.51.100.81 does not come up until "), "{}", made.sentence);
    let log = "Oct 21 03:00:00 dome-west sshd[9]: Accepted password for operator from 198.51.100.81 port 5001 ssh2\n";
    let query = ScanQuery { name: Some("quiet.log".into()), zone: Some("UTC".into()), year: Some(2026), ..ScanQuery::default() };
    let found = async || {
        admin.scan(&query, std::io::Cursor::new(log)).await.unwrap();
        let kept = FindingQuery { q: Some("198.51.100.81".into()), kind: Some("around-gateway".into()), ..FindingQuery::default() };
        admin.findings(&kept).await.unwrap().items.len()
    };
    assert_eq!(found().await, 0);
    let hits = admin.suppressions().await.unwrap().into_iter().find(|s| s.id == made.id).unwrap();
    assert_eq!((hits.hits, hits.in_force), (1, true));
    admin.withdraw_suppression(&made.id).await.unwrap();
    assert_eq!(admin.withdraw_suppression(&made.id).await.unwrap_err().status(), Some(404));
    assert_eq!(found().await, 1);
}

#[tokio::test]
async fn detections_are_published_only_when_their_tests_hold() {
    use aerie_api::NewDetections;
    let admin = client();
    let before = admin.detections().await.unwrap();
    let new = |text: String, after| NewDetections { text, why: "a test".into(), after };
    let broken = before.text.replace("finds = 0", "finds = 3");
    for bad in [broken, "[[detection]]\nname = 7".into(), "x".repeat(300_000)] {
        assert_eq!(admin.publish_detections(&new(bad, before.version)).await.unwrap_err().status(), Some(400));
    }
    let after = admin.publish_detections(&new(before.text.clone(), before.version)).await.unwrap();
    assert_eq!((after.version, after.by.as_str()), (before.version + 1, "lena"));
    assert_eq!(admin.publish_detections(&new(before.text.clone(), before.version)).await.unwrap_err().status(), Some(412));
    assert!(after.detections.iter().any(|d| d.name == "guessed" && d.importance == "critical" && d.form == "sequence"));
}

#[tokio::test]
async fn coverage_says_for_which_days_there_is_evidence() {
    let admin = client();
    let c = admin.coverage(20, None).await.unwrap();
    assert_eq!(c.days.len(), 20);
    let of = |name: &str| c.machines.iter().find(|m| m.machine == name).unwrap();
    // The demo's logs of these two have lines on every day; nobody ever read a log of the chiller.
    assert!(of("archive-db").covered >= 18 && of("archive-db").sessions.iter().sum::<u64>() >= 15, "{:?}", of("archive-db"));
    assert_eq!((of("chiller-2").covered, of("chiller-2").registered), (0, true));
    assert!(c.sentence.contains("no log of"), "{}", c.sentence);
    assert_eq!(admin.coverage(401, None).await.unwrap().days.len(), 400);
}

#[tokio::test]
async fn evidence_verifies_without_the_service_and_not_once_it_was_changed() {
    let directory = tempfile::tempdir().unwrap();
    let pack = directory.path().join("pack.tar.gz");
    let d = &world().people.demo;
    let run = |args: &[&str]| {
        let mut command = Command::new(AERIE);
        command.env("AERIE_SERVER", &d.api).env("AERIE_TOKEN", &d.token).args(args);
        let o = command.output().unwrap();
        (o.status.code(), String::from_utf8_lossy(&o.stdout).into_owned() + &String::from_utf8_lossy(&o.stderr))
    };
    let path = pack.to_str().unwrap();
    assert_eq!(run(&["log", "export", path, "--from", "20d", "--machine", "spectro-1"]).0, Some(0));
    // What is there is not written over.
    assert_eq!(run(&["log", "export", path]).0, Some(6));
    let key = client().verify_log().await.unwrap().public_keys.remove(0);
    // No service is asked.
    let alone = |args: &[&str]| {
        let o = Command::new(AERIE).env("AERIE_SERVER", "http://127.0.0.1:1").env_remove("AERIE_TOKEN").args(args).output().unwrap();
        (o.status.code(), String::from_utf8_lossy(&o.stdout).into_owned())
    };
    let (code, said) = alone(&["log", "verify", path, "--key", &key]);
    assert_eq!(code, Some(0), "{said}");
    assert!(said.starts_with("The pack holds: 6 files, ") && said.contains("which you gave"), "{said}");
    assert!(alone(&["log", "verify", path]).1.contains("compare it with the one"));
    assert_eq!(alone(&["log", "verify", path, "--key", &"11".repeat(32)]).0, Some(1));
    let exported =
        client().log(&ListQuery { kind: Some("evidence-exported".into()), limit: Some(1), ..ListQuery::default() }).await.unwrap();
    assert!(exported.items[0].sentence.contains("of spectro-1"), "{}", exported.items[0].sentence);
    // Its sessions and findings are of that machine alone.
    let unpacked = Command::new("tar").args(["xzf", path, "-C", directory.path().to_str().unwrap()]).status().unwrap();
    assert!(unpacked.success());
    let text = |name: &str| std::fs::read_to_string(directory.path().join(name)).unwrap();
    assert!(text("sessions.ndjson").lines().count() > 3 && text("sessions.ndjson").lines().all(|l| l.contains("\"spectro-1\"")));
    assert!(text("findings.ndjson").contains("around-gateway") && text("accesses.ndjson").contains("10.20.9.60"));
    assert!(text("README.txt").contains("aerie log verify"));
    // One letter less, and it no longer holds.
    std::fs::write(directory.path().join("findings.ndjson"), text("findings.ndjson").replacen("Amara", "Amar", 1)).unwrap();
    let changed = directory.path().join("changed.tar.gz");
    let made = Command::new("sh")
        .arg("-c")
        .arg(format!("cd {} && tar czf changed.tar.gz *.ndjson *.json README.txt", directory.path().display()))
        .status();
    assert!(made.unwrap().success());
    let (code, said) = alone(&["log", "verify", changed.to_str().unwrap()]);
    assert_eq!(code, Some(1));
    assert!(said.contains("findings.ndjson was changed"), "{said}");
    std::fs::write(&changed, b"no archive").unwrap();
    assert_eq!(alone(&["log", "verify", changed.to_str().unwrap()]).0, Some(6));
}

#[tokio::test]
async fn a_log_that_comes_in_is_audited_as_it_comes() {
    let admin = client();
    let at = world().people.demo.syslog[0];
    let now = Timestamp::now();
    let line = |second: i64, text: &str| {
        let at = now + SignedDuration::from_secs(second);
        format!("<86>1 {} dome-west sshd 4711 - - {text}", at.strftime("%Y-%m-%dT%H:%M:%S.%3fZ"))
    };
    let counted = |line: String| format!("{} {line}", line.len());
    let mut sender = tokio::net::TcpStream::connect(at).await.unwrap();
    let fails: String =
        (0..7).map(|n| counted(line(n - 20, &format!("Failed password for operator from 198.51.100.90 port 600{n} ssh2")))).collect();
    let hit = counted(line(0, "Accepted password for operator from 198.51.100.90 port 6010 ssh2"));
    // In two pieces, cut within a message.
    let (first, second) = hit.split_at(30);
    sender.write_all((fails + first).as_bytes()).await.unwrap();
    sender.write_all(second.as_bytes()).await.unwrap();
    let of = async |kind: &str, text: &str| {
        let query = FindingQuery { kind: Some(kind.into()), q: Some(text.into()), ..FindingQuery::default() };
        let found = admin.findings(&query).await.unwrap().items;
        found.into_iter().next()
    };
    let guessed = until("the finding", async || of("guessed", "198.51.100.90").await).await;
    assert!(guessed.sentence.contains("7 failures") && guessed.lines[0].file.starts_with("syslog since "), "{guessed:?}");
    until("the access itself", async || of("around-gateway", "198.51.100.90").await).await;
    // The other framing, on another connection.
    let mut lines = tokio::net::TcpStream::connect(at).await.unwrap();
    let direct = line(1, "Accepted password for operator from 198.51.100.91 port 6011 ssh2") + "\n";
    lines.write_all(direct.as_bytes()).await.unwrap();
    until("the other", async || of("around-gateway", "198.51.100.91").await).await;
    // A session's own line is explained, though it began a moment ago.
    let done = world().people.run_with("ssh", "", &["backup-runner+archive-db@aerie", "hostname"], "").await.unwrap();
    assert_eq!(done.status, Some(0), "{}", done.err);
    let session =
        admin.sessions(&SessionQuery { person: Some("backup-runner".into()), limit: Some(1), ..SessionQuery::default() }).await.unwrap();
    let machine = world().people.demo.machines.iter().find(|m| m.name == "archive-db").unwrap();
    let own = std::fs::read_to_string(&machine.log).unwrap();
    let own = own.lines().rev().find(|l| l.contains(&session.items[0].id)).unwrap().to_string() + "\n";
    lines.write_all(own.as_bytes()).await.unwrap();
    let shown = until("its line", async || {
        let access = admin.access(&session.items[0].id).await.unwrap();
        (!access.lines.is_empty()).then_some(access)
    })
    .await;
    assert!(shown.lines[0].file.starts_with("syslog since "));
    assert!(of("unknown-session", &session.items[0].id).await.is_none());
    // What is no syslog is cut off, and told.
    let mut stranger = tokio::net::TcpStream::connect(at).await.unwrap();
    stranger.write_all(b"12 is not the length of this, and this is no number ").await.unwrap();
    until("the cut", async || {
        let query = ListQuery { q: Some("no messages of syslog".into()), limit: Some(1), ..ListQuery::default() };
        admin.log(&query).await.unwrap().items.into_iter().next()
    })
    .await;
}

#[tokio::test]
async fn a_sender_of_whom_nothing_is_understood_is_a_finding_and_no_quiet_log() {
    let admin = client();
    let syslog = world().people.demo.syslog[0];
    // A template of one's own, as collectors let one write it.
    // In one piece: other tests send what is understood from the same address.
    let odd: String = (0..20).map(|n| format!("dome-west|sshd|{n}|Accepted password for operator from 198.51.100.77\n")).collect();
    let mut sender = tokio::net::TcpStream::connect(syslog).await.unwrap();
    sender.write_all(odd.as_bytes()).await.unwrap();
    let query = FindingQuery { kind: Some("log-not-understood".into()), ..FindingQuery::default() };
    let found = until("the finding", async || admin.findings(&query).await.unwrap().items.into_iter().next()).await;
    assert!(found.sentence.contains("from 127.0.0.1 was understood") && found.lines[0].text.starts_with("dome-west|sshd|"), "{found:?}");
}

#[tokio::test]
async fn logs_are_taken_from_those_who_are_named_and_from_no_local_user_beside() {
    let mut own = common::own::Own::start().await;
    let syslog = common::own::free_port();
    let at = syslog.to_string();
    for (named, taken) in [(&["--syslog-from", "192.0.2.0/24"][..], false), (&[], false), (&["--syslog-from", "127.0.0.1"], true)] {
        own.kill().await;
        own.child = common::own::Own::run_with(own.directory.path(), own.https, &[&["--syslog", &at], named].concat());
        own.up().await;
        let mut sender = tokio::net::TcpStream::connect(syslog).await.unwrap();
        let now = Timestamp::now().strftime("%Y-%m-%dT%H:%M:%S.%3fZ").to_string();
        let line = format!("<86>1 {now} dome-west sshd 4711 - - Accepted password for operator from 198.51.100.78 port 6011 ssh2\n");
        // The connection may be closed before everything is sent.
        let sent = sender.write_all(line.as_bytes()).await;
        let query = FindingQuery { q: Some("198.51.100.78".into()), ..FindingQuery::default() };
        if taken {
            sent.unwrap();
            until("the finding", async || own.admin().findings(&query).await.unwrap().items.into_iter().next()).await;
        } else {
            let mut rest = [0];
            let end = tokio::io::AsyncReadExt::read(&mut sender, &mut rest);
            let end = tokio::time::timeout(std::time::Duration::from_secs(20), end).await.expect("it is not cut off");
            assert!(matches!(end, Ok(0) | Err(_)), "{named:?}");
            assert!(own.admin().findings(&query).await.unwrap().items.is_empty(), "{named:?}");
        }
    }
}

/// Lines that come one upon the other leave no pause in which the audit would learn of sessions; and a machine tells of a sign-in
/// before the session is live.
#[tokio::test]
async fn a_session_is_explained_by_a_line_that_comes_at_once_however_many_come_beside() {
    let admin = client();
    let began = Timestamp::now();
    let syslog = world().people.demo.syslog[0];
    let machine = world().people.demo.machines.iter().find(|m| m.name == "archive-db").unwrap();
    let noise = async {
        let mut sender = tokio::net::TcpStream::connect(syslog).await.unwrap();
        let mut tick = tokio::time::interval(std::time::Duration::from_millis(20));
        loop {
            tick.tick().await;
            let at = Timestamp::now().strftime("%Y-%m-%dT%H:%M:%S.%3fZ").to_string();
            let line = format!("<86>1 {at} dome-west sshd 4711 - - Connection closed by 198.51.100.99 port 6000 [preauth]\n");
            sender.write_all(line.as_bytes()).await.unwrap();
        }
    };
    // What the machine writes is sent on as a collector beside it would: within milliseconds.
    let follows = async {
        let mut sender = tokio::net::TcpStream::connect(syslog).await.unwrap();
        let mut sent = std::fs::read(&machine.log).unwrap().len();
        let mut tick = tokio::time::interval(std::time::Duration::from_millis(2));
        loop {
            tick.tick().await;
            let all = std::fs::read(&machine.log).unwrap();
            if let Some(end) = all[sent..].iter().rposition(|b| *b == b'\n') {
                sender.write_all(&all[sent..=sent + end]).await.unwrap();
                sent += end + 1;
            }
        }
    };
    let works = async {
        for _ in 0..6 {
            let done = world().people.run_with("ssh", "", &["backup-runner+archive-db@aerie", "hostname"], "").await.unwrap();
            assert_eq!(done.status, Some(0), "{}", done.err);
        }
        let query = SessionQuery {
            person: Some("backup-runner".into()),
            machine: Some("archive-db".into()),
            limit: Some(6),
            ..SessionQuery::default()
        };
        let sessions = admin.sessions(&query).await.unwrap().items;
        for session in &sessions {
            let access = until("its line", async || Some(admin.access(&session.id).await.unwrap()).filter(|a| !a.lines.is_empty())).await;
            assert!(access.lines[0].file.starts_with("syslog since "), "{access:?}");
        }
        let unknown = FindingQuery { kind: Some("unknown-session".into()), ..FindingQuery::default() };
        let unknown = admin.findings(&unknown).await.unwrap().items;
        assert!(unknown.iter().all(|f| f.machine != "archive-db" || f.first < began), "{unknown:#?}");
    };
    tokio::select! {
        () = noise => {}
        () = follows => {}
        () = works => {}
    }
}

#[tokio::test]
async fn a_log_is_read_on_where_it_was_read_to_and_one_that_was_cut_is_found() {
    let admin = client();
    let d = &world().people.demo;
    let directory = tempfile::tempdir().unwrap();
    let file = directory.path().join("grown.log");
    let scan = |more: &[&str]| {
        let mut command = Command::new(AERIE);
        command.env("AERIE_SERVER", &d.api).env("AERIE_TOKEN", &d.token).args(["--json", "audit", "scan"]).arg(&file).args(more);
        let o = command.args(["--zone", "UTC", "--year", "2026"]).output().unwrap();
        let told: serde_json::Value = serde_json::from_slice(&o.stdout).unwrap();
        told["read"][0]["result"].clone()
    };
    let noise: String = (10..30).map(|n| format!("Oct 22 03:00:{n} dome-west cron[1]: tick tock, all is well\n")).collect();
    let began = "Oct 22 03:01:00 dome-west sshd[9]: Accepted password for operator from 198.51.101.20 port 7070 ssh2\n";
    // Somebody is in the middle of writing a line.
    std::fs::write(&file, format!("{noise}{began}Oct 22 03:31:00 dome-west sshd[9]: Disconn")).unwrap();
    let first = scan(&[]);
    assert_eq!((first["lines"].as_u64(), first["accesses"].as_u64()), (Some(21), Some(1)), "{first}");
    let ended = "ected from user operator 198.51.101.20 port 7070\n";
    std::fs::OpenOptions::new().append(true).open(&file).and_then(|mut f| std::io::Write::write_all(&mut f, ended.as_bytes())).unwrap();
    // A log that was rotated is known by its beginning.
    let rotated = directory.path().join("grown.log.1");
    std::fs::rename(&file, &rotated).unwrap();
    std::fs::rename(&rotated, &file).unwrap();
    let second = scan(&[]);
    assert_eq!((second["lines"].as_u64(), second["accesses"].as_u64()), (Some(1), Some(0)), "{second}");
    assert!(second["sentence"].as_str().unwrap().starts_with("since it was read on "), "{second}");
    let query = aerie_api::AccessQuery { q: Some("198.51.101.20".into()), ..Default::default() };
    let access = admin.accesses(&query).await.unwrap().items.remove(0);
    let shown = admin.access(&access.id).await.unwrap();
    assert_eq!((access.seconds, shown.lines.len(), shown.lines[1].number), (Some(1800), 2, 22), "{shown:#?}");
    assert!(scan(&[])["sentence"].as_str().unwrap().starts_with("nothing new since "));
    assert_eq!(scan(&["--again"])["lines"].as_u64(), Some(22));
    // It is cut, in place.
    std::fs::write(&file, &noise).unwrap();
    assert_eq!(scan(&[])["lines"].as_u64(), Some(20));
    let cut = FindingQuery { kind: Some("log-cut".into()), ..FindingQuery::default() };
    let found = admin.findings(&cut).await.unwrap().items;
    assert!(found.len() == 1 && found[0].sentence.contains("grown.log was cut"), "{found:#?}");
}

#[tokio::test]
async fn findings_and_accesses_go_out_in_open_forms() {
    let admin = client();
    let planted = FindingQuery { kind: Some("guessed".into()), machine: Some("guide-cam".into()), ..FindingQuery::default() };
    let csv = admin.findings_csv(&planted).await.unwrap();
    assert!(csv.starts_with("last,first,count,importance,kind,state") && csv.lines().count() == 2, "{csv}");
    let ocsf: Vec<serde_json::Value> =
        admin.findings_ndjson(&planted, true).await.unwrap().lines().map(|l| serde_json::from_str(l).unwrap()).collect();
    assert_eq!((ocsf.len(), ocsf[0]["class_uid"].as_u64(), ocsf[0]["severity_id"].as_u64()), (1, Some(2004), Some(5)));
    assert!(ocsf[0]["evidences"][0]["data"]["text"].as_str().unwrap().contains("203.0.113.77"));
    let plain = admin.findings_ndjson(&planted, false).await.unwrap();
    assert_eq!(serde_json::from_str::<aerie_api::FindingView>(plain.trim()).unwrap().kind, "guessed");
    let around = aerie_api::AccessQuery { person: Some("amara".into()), through: Some("around".into()), ..Default::default() };
    let logons = admin.accesses_ndjson(&around, true).await.unwrap();
    let types: Vec<u64> =
        logons.lines().map(|l| serde_json::from_str::<serde_json::Value>(l).unwrap()["type_uid"].as_u64().unwrap()).collect();
    assert_eq!(types, [300_201, 300_202, 300_201, 300_202, 300_201, 300_202]);
    // Whoever reads everything does; others do not.
    assert_eq!(signed_in("sunniva").await.findings_csv(&planted).await.unwrap_err().status(), Some(403));
    let o = Command::new(AERIE)
        .env("AERIE_SERVER", &world().people.demo.api)
        .env("AERIE_TOKEN", &world().people.demo.token)
        .args(["findings", "export", "--form", "ocsf", "--importance", "critical"])
        .output()
        .unwrap();
    let told = String::from_utf8(o.stdout).unwrap();
    assert!(o.status.success() && told.lines().count() >= 2 && told.lines().all(|l| l.contains("\"severity_id\":5")), "{told}");
}
