//! What the audit looks after by itself: logs that agents send, events that go to a collector, reports by mail, and whether what is kept is
//! what was kept.

#![allow(clippy::unwrap_used, clippy::expect_used, clippy::panic, unreachable_pub, reason = "a test that cannot go on fails")]

mod common;

use aerie::demo::sink::Sink;
use aerie_agent::EnrolOptions;
use aerie_api::{AgainQuery, FindingView, NewReport, ReportQuery, SettingValue};
use aerie_client::{Client, FindingQuery, ListQuery, ScanQuery};
use aerie_core::audit::read::frames::SyslogFrames;
use aerie_core::audit::read::header::header;
use aerie_core::evidence::leaf_hash;
use aerie_service::{Config, Service, Syslog};
use aerie_store::{SessionRow, Store};
use common::own::{ADMIN, Own, RULES, run};
use common::until;
use jiff::{SignedDuration, Timestamp};
use std::io::Write as _;
use std::net::SocketAddr;
use std::path::Path;
use std::sync::Arc;
use tokio::io::{AsyncReadExt as _, AsyncWriteExt as _};
use tokio::net::TcpListener;
use tokio::sync::mpsc;
use tokio_rustls::TlsAcceptor;
use tokio_rustls::rustls::pki_types::PrivateKeyDer;

const PEOPLE: &[(&str, &str, &str)] = &[("lena", "administrator", ""), ("greta", "auditor", ""), ("sunniva", "technician", "")];

/// A service within the test, whose clock the test may turn on.
struct Here {
    directory: tempfile::TempDir,
    service: Service,
}

impl Here {
    async fn start(rules: &str, before: impl AsyncFnOnce(&Store)) -> Self {
        let directory = Own::prepared(rules, PEOPLE).await;
        let store = Store::open(&directory.path().join("aerie.db")).await.unwrap();
        before(&store).await;
        store.close().await;
        let any = "127.0.0.1:0".parse().unwrap();
        let syslog = Syslog { tls: Some(any), from: vec![aerie_core::policy::Network::parse("127.0.0.1").unwrap()], ..Syslog::default() };
        let config = Config { data: directory.path().into(), address: None, https: None, http: Some(any), ssh: any, syslog };
        Self { service: Service::start(config).await.unwrap(), directory }
    }

    fn client(&self, token: &str) -> Client {
        Client::new(&format!("http://localhost:{}", self.service.http().port()), Some(token.into()))
    }

    fn admin(&self) -> Client {
        self.client(ADMIN)
    }

    async fn set(&self, setting: &str, value: &str) {
        let value = SettingValue { value: value.into(), why: "for the test".into() };
        self.admin().change_setting(setting, &value).await.unwrap();
    }
}

async fn found(client: &Client, kind: &str) -> Vec<FindingView> {
    client.findings(&FindingQuery { kind: Some(kind.into()), ..FindingQuery::default() }).await.unwrap().items
}

/// A collector with a certificate of its own authority: gives where it is, the authority, and what comes in. Ends when it is dropped.
struct Collector {
    at: SocketAddr,
    serving: tokio::task::JoinHandle<()>,
}

impl Collector {
    async fn start(at: SocketAddr, acceptor: TlsAcceptor) -> (Self, mpsc::UnboundedReceiver<String>) {
        let listener = TcpListener::bind(at).await.unwrap();
        let at = listener.local_addr().unwrap();
        let (tell, messages) = mpsc::unbounded_channel();
        let serving = tokio::spawn(async move {
            let mut open = tokio::task::JoinSet::new();
            loop {
                let (stream, _) = listener.accept().await.unwrap();
                let (acceptor, tell) = (acceptor.clone(), tell.clone());
                open.spawn(async move {
                    let Ok(mut stream) = acceptor.accept(stream).await else { return };
                    let (mut frames, mut piece) = (SyslogFrames::default(), vec![0; 4096]);
                    while let Ok(n @ 1..) = stream.read(&mut piece).await {
                        let each = &mut |m: &[u8]| drop(tell.send(String::from_utf8(m.to_vec()).unwrap()));
                        frames.handle_bytes(&piece[..n], each).unwrap();
                    }
                });
            }
        });
        (Self { at, serving }, messages)
    }
}

impl Drop for Collector {
    fn drop(&mut self) {
        self.serving.abort();
    }
}

/// An authority, and what speaks for `localhost` by it.
fn authority() -> (String, TlsAcceptor) {
    let key = rcgen::KeyPair::generate().unwrap();
    let mut about = rcgen::CertificateParams::new(vec![]).unwrap();
    about.is_ca = rcgen::IsCa::Ca(rcgen::BasicConstraints::Unconstrained);
    let root = about.self_signed(&key).unwrap();
    let issuer = rcgen::Issuer::new(about, key);
    let leaf_key = rcgen::KeyPair::generate().unwrap();
    let leaf = rcgen::CertificateParams::new(vec!["localhost".into()]).unwrap().signed_by(&leaf_key, &issuer).unwrap();
    let chain = vec![leaf.der().clone()];
    let secret = PrivateKeyDer::try_from(leaf_key.serialize_der()).unwrap();
    let config = tokio_rustls::rustls::ServerConfig::builder().with_no_client_auth().with_single_cert(chain, secret).unwrap();
    (root.pem(), TlsAcceptor::from(Arc::new(config)))
}

/// The event in a message: its place and its leaf.
fn event_of(message: &str) -> (u64, String) {
    let entry = header(message.as_bytes()).unwrap();
    assert_eq!(entry.program, "aerie");
    let event: serde_json::Value = serde_json::from_slice(entry.text).unwrap();
    (event["seq"].as_u64().unwrap(), aerie_core::evidence::hex(&leaf_hash(entry.text)))
}

/// Takes the events that came; true where there was one.
fn take_all(messages: &mut mpsc::UnboundedReceiver<String>, seen: &mut Vec<(u64, String)>) -> bool {
    let before = seen.len();
    seen.extend(std::iter::from_fn(|| messages.try_recv().ok()).map(|m| event_of(&m)));
    seen.len() > before
}

#[tokio::test]
async fn every_event_reaches_the_collector_in_order_also_those_of_the_time_when_it_was_away() {
    let here = Here::start(RULES, async |_| ()).await;
    let (pem, acceptor) = authority();
    let (collector, mut messages) = Collector::start("127.0.0.1:0".parse().unwrap(), acceptor.clone()).await;
    let at = collector.at;
    for bad in ["no certificate", "-----BEGIN CERTIFICATE-----\nAAAA\n-----END CERTIFICATE-----"] {
        let value = SettingValue { value: bad.into(), why: "x".into() };
        assert_eq!(here.admin().change_setting("forward-authority", &value).await.unwrap_err().status(), Some(422), "{bad}");
    }
    // By an authority that nobody knows nothing is forwarded, and that is told.
    here.set("forward-to", &format!("tls://localhost:{}", at.port())).await;
    until("a failure", async || (!here.admin().now().await.unwrap().backlog.forwarding_failure.is_empty()).then_some(())).await;
    here.set("forward-authority", &pem).await;
    let mut seen = vec![];
    until("all that waits", async || {
        take_all(&mut messages, &mut seen);
        // What is counted as sent may come after it was received.
        let nothing_waits = here.admin().now().await.unwrap().backlog.forwarding == Some(0);
        (nothing_waits && !take_all(&mut messages, &mut seen) && !seen.is_empty()).then_some(())
    })
    .await;
    assert_eq!(here.admin().now().await.unwrap().backlog.forwarding_failure, "");
    // Away: what happens meanwhile waits on the disk, and the service may stop.
    drop(collector);
    drop(messages);
    for n in 0..5 {
        here.set("banner", &format!("away {n}")).await;
    }
    let Here { directory, service } = here;
    service.stop().await.unwrap();
    let any = "127.0.0.1:0".parse().unwrap();
    let config = Config { data: directory.path().into(), address: None, https: None, http: Some(any), ssh: any, syslog: Syslog::default() };
    let here = Here { service: Service::start(config).await.unwrap(), directory };
    let (_collector, mut messages) = Collector::start(at, acceptor).await;
    let last = here.admin().log(&ListQuery { limit: Some(1), ..ListQuery::default() }).await.unwrap().items[0].seq;
    until("the last event", async || {
        take_all(&mut messages, &mut seen);
        seen.last().is_some_and(|(seq, _)| *seq >= last).then_some(())
    })
    .await;
    let first = seen[0].0;
    // Some come twice; taken once each, none is missing, and each is the very leaf of the log.
    seen.sort();
    seen.dedup();
    assert!(seen.iter().zip(first..).all(|((seq, _), n)| *seq == n), "{seen:?}");
    let here_log = here.admin().log(&ListQuery { limit: Some(200), ..ListQuery::default() }).await.unwrap().items;
    for (seq, leaf) in &seen {
        assert_eq!(&here_log.iter().find(|e| e.seq == *seq).unwrap().leaf, leaf);
    }
    // What is turned off forgets where it was.
    here.set("forward-to", "").await;
    until("no forwarding", async || here.admin().now().await.unwrap().backlog.forwarding.is_none().then_some(())).await;
    here.service.stop().await.unwrap();
}

#[tokio::test]
async fn the_log_of_a_machine_comes_by_its_agent_and_nothing_twice() {
    let own = Own::start().await;
    let directory = tempfile::tempdir().unwrap();
    let log = directory.path().join("auth.log");
    let line = |port: u32, host: &str| {
        let now = Timestamp::now().to_zoned(jiff::tz::TimeZone::UTC);
        let stamp = now.strftime("%Y-%m-%dT%H:%M:%SZ");
        format!("{stamp} {host} sshd[{port}]: Accepted password for operator from 198.51.100.7 port {port} ssh2\n")
    };
    let append = |text: &str| {
        let mut file = std::fs::OpenOptions::new().append(true).create(true).open(&log).unwrap();
        file.write_all(text.as_bytes()).unwrap();
    };
    append(&line(5001, "dome"));
    let code = own.code_for("dome", &[]).await;
    let options = EnrolOptions { log: Some(log.display().to_string()), ..EnrolOptions::default() };
    let state = aerie_agent::enrol(&code, &options).await.unwrap();
    let home = tempfile::tempdir().unwrap();
    let agent = run(&home, &state);
    own.online("dome").await;
    let accesses = async || {
        let query = aerie_api::AccessQuery { q: Some("198.51.100.7".into()), ..Default::default() };
        own.admin().accesses(&query).await.unwrap().items
    };
    until("the access of before", async || (accesses().await.len() == 1).then_some(())).await;
    // Whoever is on the machine may write any host into its log; it stays that machine's.
    append(&line(5002, "another-machine"));
    until("the access of now", async || (accesses().await.len() == 2).then_some(())).await;
    let all = accesses().await;
    assert!(all.iter().all(|a| a.machine == "dome" && a.session.is_none()), "{all:#?}");
    let shown = own.admin().access(&all[0].id).await.unwrap();
    assert!(shown.lines[0].file.ends_with("auth.log of dome"), "{shown:#?}");
    let finding = until("the finding", async || found(&own.admin(), "around-gateway").await.into_iter().next()).await;
    assert_eq!((finding.machine.as_str(), finding.count), ("dome", 2));
    // The agent stops; what is written meanwhile comes afterwards, and the file was put aside in between.
    agent.abort();
    until("offline", async || (own.state("dome").await == "offline").then_some(())).await;
    append(&line(5003, "dome"));
    std::fs::rename(&log, directory.path().join("auth.log.1")).unwrap();
    append(&line(5004, "dome"));
    let state = aerie_agent::StateDir::at(Some(home.path().join("agent"))).load().unwrap();
    let again = run(&home, &state);
    until("both", async || (accesses().await.len() == 4).then_some(())).await;
    let finding = until("all counted", async || found(&own.admin(), "around-gateway").await.into_iter().find(|f| f.count == 4)).await;
    assert_eq!(finding.machine, "dome");
    // Somebody empties it.
    std::fs::write(&log, "").unwrap();
    let cut = until("the cut", async || found(&own.admin(), "log-cut").await.into_iter().next()).await;
    assert!(cut.sentence.contains("auth.log of dome was cut"), "{}", cut.sentence);
    again.abort();
}

#[tokio::test]
async fn syslog_comes_over_tls() {
    let here = Here::start(RULES, async |_| ()).await;
    let at = here.service.syslog()[0];
    // The service's certificate is its own authority's; what matters here is that it is spoken to with TLS alone.
    let now = Timestamp::now().strftime("%Y-%m-%dT%H:%M:%SZ");
    let message = format!("<86>1 {now} dome sshd 4711 - - Accepted password for operator from 198.51.100.90 port 6000 ssh2");
    let mut plain = tokio::net::TcpStream::connect(at).await.unwrap();
    plain.write_all(format!("{} {message}", message.len()).as_bytes()).await.unwrap();
    let mut answer = vec![];
    let _ = plain.read_to_end(&mut answer).await;
    assert!(found(&here.admin(), "around-gateway").await.is_empty());
    let mut command = tokio::process::Command::new("openssl");
    command.args(["s_client", "-quiet", "-no_ign_eof", "-connect", &at.to_string()]).stdin(std::process::Stdio::piped());
    let mut sender = command.stdout(std::process::Stdio::null()).stderr(std::process::Stdio::null()).kill_on_drop(true).spawn().unwrap();
    let mut input = sender.stdin.take().unwrap();
    input.write_all(format!("{} {message}", message.len()).as_bytes()).await.unwrap();
    input.flush().await.unwrap();
    until("the finding", async || found(&here.admin(), "around-gateway").await.into_iter().next()).await;
    drop(input);
    here.service.stop().await.unwrap();
}

/// A session with a recording that was closed with this digest.
async fn recorded(store: &Store, id: &str, file: &str, digest: &str) {
    let began = Timestamp::now() - SignedDuration::from_hours(2);
    let session = serde_json::json!({ "person": "sunniva", "machine": "dome", "account": "operator" });
    let text = |key: &str| session[key].as_str().unwrap().to_string();
    let row = SessionRow {
        id: id.into(),
        person: text("person"),
        machine: text("machine"),
        account: text("account"),
        source: "10.0.0.9".into(),
        began,
        ended: Some(began + SignedDuration::from_mins(5)),
        end_reason: Some("left".into()),
        uses: "shell".into(),
        factors: "key".into(),
        rule: "all".into(),
        rule_line: 1,
        policy_version: 1,
        recording: Some(file.into()),
        digest: Some(digest.into()),
        length_ms: 1000,
        bytes_out: 0,
        bytes_in: 0,
    };
    store.add_session(&row).await.unwrap();
    store.set_session_recording(id, digest, 1000).await.unwrap();
}

fn spoil(data: &Path, file: &str) {
    std::fs::create_dir_all(data.join("recordings")).unwrap();
    std::fs::write(data.join("recordings").join(file), b"these are no frames").unwrap();
}

#[tokio::test]
async fn what_is_missing_damaged_altered_or_silent_is_found() {
    let long_ago = Timestamp::now() - SignedDuration::from_hours(100);
    let here = Here::start(RULES, async |store| {
        recorded(store, "s-gone", "gone.rec", &"ab".repeat(32)).await;
        recorded(store, "s-spoiled", "spoiled.rec", &"cd".repeat(32)).await;
        let machine = serde_json::json!({ "name": "dome", "accounts": ["operator"] });
        store.change_machines(&[serde_json::from_value(machine).unwrap()], store.directory_version().await.unwrap()).await.unwrap();
        for hour in 0..60 {
            let now = long_ago + SignedDuration::from_hours(hour);
            store.put_pulses(&["dome".into(), "nobodys-machine".into()], now).await.unwrap();
        }
    })
    .await;
    spoil(here.directory.path(), "spoiled.rec");
    let look = async || here.service.look_at_integrity(Timestamp::now()).await.unwrap();
    assert_eq!(look().await, 3);
    let one = async |kind: &str| {
        let mut all = found(&here.admin(), kind).await;
        assert_eq!(all.len(), 1, "{kind}: {all:#?}");
        all.remove(0)
    };
    let missing = one("recording-missing").await;
    assert_eq!(missing.sentence, "Of the session of sunniva on dome: the recording does not hold: its file is missing.");
    assert_eq!((missing.session.as_deref(), missing.importance.as_str()), (Some("s-gone"), "high"));
    assert_eq!(one("recording-damaged").await.session.as_deref(), Some("s-spoiled"));
    let silent = one("source-silent").await;
    assert!(
        silent.sentence.starts_with("Nothing came of the log of dome since ") && silent.sentence.ends_with("before was 1 h."),
        "{silent:?}"
    );
    // The same again is nothing new.
    assert_eq!(look().await, 0);
    // Somebody rewrites the log in the database.
    here.set("banner", "one").await;
    let database = here.directory.path().join("aerie.db");
    let done = std::process::Command::new("python3")
        .args(["-c", "import sqlite3,sys; c=sqlite3.connect(sys.argv[1]); c.execute(\"UPDATE events SET body = replace(body, 'banner', 'nothing')\"); c.commit()"])
        .arg(&database)
        .status()
        .unwrap();
    assert!(done.success());
    assert_eq!(look().await, 1);
    let altered = one("log-altered").await;
    assert!(altered.sentence.starts_with("The log does not hold: ") && altered.importance == "critical", "{altered:?}");
    here.service.stop().await.unwrap();
}

const NIGHT: &str = "[hours]\nnight = [\"daily 20:00-06:00\"]\n[[allow]]\nname = \"nights\"\npeople = \"*\"\nmachines = \"*\"\n\
                     capabilities = [\"shell\"]\naccounts = [\"operator\"]\nhours = \"night\"\n";

#[tokio::test]
async fn the_past_is_judged_again_and_stays_as_it_was() {
    let noon = "2026-11-20T12:00:00Z".parse::<Timestamp>().unwrap();
    let here = Here::start(RULES, async |store| {
        recorded(store, "s-one", "one.rec", &"ab".repeat(32)).await;
        let machine = serde_json::json!({ "name": "dome", "accounts": ["operator"] });
        store.change_machines(&[serde_json::from_value(machine).unwrap()], store.directory_version().await.unwrap()).await.unwrap();
    })
    .await;
    let admin = here.admin();
    let log = format!("{} dome sshd[1]: Accepted password for operator from 198.51.100.7 port 5001 ssh2\n", noon);
    let query = ScanQuery { name: Some("auth.log".into()), ..ScanQuery::default() };
    admin.scan(&query, std::io::Cursor::new(log)).await.unwrap();
    let before = found(&admin, "around-gateway").await;
    let again = async |rules: Option<&str>, detections: Option<&str>| {
        let query = AgainQuery {
            from: Some(noon - SignedDuration::from_hours(1)),
            rules: rules.map(Into::into),
            detections: detections.map(Into::into),
            ..AgainQuery::default()
        };
        admin.judge_again(&query).await
    };
    let same = again(None, None).await.unwrap();
    assert_eq!((same.judged, same.differences.len()), (2, 0));
    assert_eq!(same.sentence, "Of 2 accesses version 1 of the rules judges none otherwise than the rules of their moment.");
    let night = again(Some(NIGHT), None).await.unwrap();
    let around = night.differences.iter().find(|d| !d.through).unwrap();
    assert_eq!(
        around.sentence,
        "Somebody on dome as operator: around-gateway and outside-hours instead of around-gateway: at that hour the rules let nobody in."
    );
    assert_eq!(again(None, Some("[[detection]]\nname = 7")).await.unwrap_err().status(), Some(400));
    let fewer = again(None, Some("")).await.unwrap();
    assert!(fewer.detections.iter().all(|d| d.way == "fewer"), "{fewer:#?}");
    assert_eq!(again(Some("[[allow]]"), None).await.unwrap_err().status(), Some(422));
    let both = AgainQuery { version: Some(1), rules: Some(String::new()), ..AgainQuery::default() };
    assert_eq!(admin.judge_again(&both).await.unwrap_err().status(), Some(400));
    let after = found(&admin, "around-gateway").await;
    assert_eq!((after.len(), &after[0].sentence), (before.len(), &before[0].sentence));
    assert!(found(&admin, "outside-hours").await.is_empty());
    assert_eq!(here.client(&Own::secret("sunniva")).judge_again(&AgainQuery::default()).await.unwrap_err().status(), Some(403));
    here.service.stop().await.unwrap();
}

#[tokio::test]
async fn reports_are_mailed_when_they_are_due_to_those_who_may_read_them() {
    let here = Here::start(RULES, async |_| ()).await;
    let kept = tempfile::tempdir().unwrap();
    let sink = Sink::start(kept.path()).await.unwrap();
    here.set("mail-server", &format!("smtp://{}", sink.mail)).await;
    here.set("mail-from", "Aerie <aerie@corvid.example>").await;
    let (admin, auditor) = (here.admin(), here.client(&Own::secret("greta")));
    let new = |to: &[&str], every: &str, by: &str, hour| NewReport {
        every: every.into(),
        hour,
        by: by.into(),
        to: to.iter().map(|t| (*t).into()).collect(),
    };
    for bad in [
        new(&["sunniva"], "week", "person", 7),
        new(&["nobody-here"], "week", "person", 7),
        new(&[], "week", "person", 7),
        new(&["greta"], "year", "person", 7),
        new(&["greta"], "week", "colour", 7),
        new(&["greta"], "week", "person", 24),
        new(&["greta"; 51], "week", "person", 7),
    ] {
        assert_eq!(admin.add_report(&bad).await.unwrap_err().status(), Some(400), "{bad:?}");
    }
    let made = auditor.add_report(&new(&["greta", "lena"], "day", "rule", 7)).await.unwrap();
    assert_eq!(made.sentence, "Each day at 07:00 about the day before, by rule.");
    // Not before its hour, and once.
    here.service.mail_reports(made.next - SignedDuration::from_secs(1)).await.unwrap();
    assert_eq!(admin.reports().await.unwrap()[0].last, None);
    for _ in 0..2 {
        here.service.mail_reports(made.next).await.unwrap();
    }
    let mails = until("both mails", async || {
        let all: Vec<String> =
            std::fs::read_dir(kept.path().join("mail")).unwrap().map(|e| std::fs::read_to_string(e.unwrap().path()).unwrap()).collect();
        (all.len() == 2).then_some(all)
    })
    .await;
    assert!(mails.iter().all(|m| m.contains("Subject: Remote access, ") && m.contains("Nobody got into any machine")), "{mails:#?}");
    let after = admin.reports().await.unwrap().remove(0);
    assert_eq!((after.last, after.next), (Some(made.next), made.next + SignedDuration::from_hours(24)));
    let shown = auditor.report(&ReportQuery::default()).await.unwrap();
    assert!(
        shown.subject.starts_with("Remote access, ") && shown.text.contains("No log tells of")
            || shown.text.contains("each of the 0 machines")
    );
    let sunniva = here.client(&Own::secret("sunniva"));
    assert_eq!(sunniva.report(&ReportQuery::default()).await.unwrap_err().status(), Some(403));
    assert_eq!(sunniva.reports().await.unwrap_err().status(), Some(403));
    admin.remove_report(&made.id).await.unwrap();
    assert_eq!(admin.remove_report(&made.id).await.unwrap_err().status(), Some(404));
    here.service.stop().await.unwrap();
}
