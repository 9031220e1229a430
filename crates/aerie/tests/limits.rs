//! What changes under a live session: rules, limits, the machine, the disk, the service. Each test has the demo to itself
//! for the time it changes the rules.

#![allow(clippy::unwrap_used, clippy::expect_used, clippy::panic, unreachable_pub, reason = "a test that cannot go on fails")]

mod common;

use common::{AERIE, client, closed_session, until, world};
use std::process::Stdio;
use std::time::Duration;
use tokio::io::AsyncReadExt as _;
use tokio::sync::{Mutex, MutexGuard};

/// Rules are changed by one test at a time, and put back.
async fn rules() -> MutexGuard<'static, ()> {
    static TURN: Mutex<()> = Mutex::const_new(());
    TURN.lock().await
}

async fn publish(change: impl FnOnce(String) -> String) -> String {
    let before = client().policy().await.unwrap().text;
    client().publish_policy(&change(before.clone()), None).await.unwrap();
    before
}

/// A shell of Arlo's, and what it shows until it ends.
async fn shell_until_its_end() -> (tokio::process::Child, tokio::task::JoinHandle<String>) {
    let mut child = world().people.command("ssh", "", &["-tt", "arlo+archive-db@aerie"]).stdin(Stdio::piped()).spawn().unwrap();
    let (mut out, mut err) = (child.stdout.take().unwrap(), child.stderr.take().unwrap());
    let mut first = vec![0; 1];
    tokio::time::timeout(Duration::from_secs(20), out.read_exact(&mut first)).await.unwrap().unwrap();
    let seen = tokio::spawn(async move {
        let (mut a, mut b) = (vec![], vec![]);
        let _ = tokio::join!(out.read_to_end(&mut a), err.read_to_end(&mut b));
        String::from_utf8_lossy(&[a, b].concat()).into_owned()
    });
    (child, seen)
}

async fn ended(mut child: tokio::process::Child, seen: tokio::task::JoinHandle<String>) -> String {
    // The pipe stays open: only the gateway can end it.
    let _stdin = child.stdin.take();
    tokio::time::timeout(Duration::from_secs(40), child.wait()).await.expect("the session did not end").unwrap();
    seen.await.unwrap()
}

#[tokio::test]
async fn limits_end_a_session_with_a_notice() {
    let _turn = rules().await;
    for (limit, notice, reason) in [
        ("session = \"3s\"", "This session ends in ", "because its time was up"),
        ("idle = \"3s\"", "Nothing happens here", "because it was idle for too long"),
    ] {
        let before = publish(|t| {
            t + &format!(
                "\n[[require]]\nname = \"short\"\npeople = \"person:arlo\"\nmachines = \"name:archive-db\"\nlimits = {{ {limit} }}\n"
            )
        })
        .await;
        let (child, seen) = shell_until_its_end().await;
        let screen = ended(child, seen).await;
        assert!(screen.contains(notice) && screen.contains(reason), "{screen}");
        assert_eq!(closed_session("arlo", "archive-db").await.end_reason.as_deref(), Some(reason));
        publish(|_| before).await;
    }
}

#[tokio::test]
async fn a_right_that_is_withdrawn_ends_the_session_at_once() {
    let _turn = rules().await;
    let (child, seen) = shell_until_its_end().await;
    let before = publish(|t| t + "\n[[forbid]]\nname = \"closed\"\nmachines = \"name:archive-db\"\ncapabilities = [\"shell\"]\n").await;
    let screen = ended(child, seen).await;
    publish(|_| before).await;
    assert!(screen.contains("A rule forbids you to open a shell on archive-db."), "{screen}");
    assert_eq!(closed_session("arlo", "archive-db").await.end_reason.as_deref(), Some("because the rules no longer allow it"));
}

#[tokio::test]
async fn rules_with_a_mistake_are_refused_with_its_place() {
    let _turn = rules().await;
    let error = client().publish_policy("[[forbid]]\nname = \"x\"\npeople = \"group:nigth-operators\"\n", None).await.unwrap_err();
    let aerie_client::ClientError::Problem(p) = error else { panic!("{error}") };
    assert_eq!((p.status, p.diagnostics.last().unwrap().line, p.diagnostics.last().unwrap().column), (422, 3, 11));
    assert!(p.diagnostics.last().unwrap().rendered.contains("did you mean `night-operators`?"));
    let version = client().policy().await.unwrap().version;
    assert_eq!(client().publish_policy("", Some(version - 1)).await.unwrap_err().status(), Some(412));
}

#[tokio::test]
async fn where_a_recording_cannot_be_written_there_is_no_session() {
    let _turn = rules().await;
    let recordings = std::path::Path::new(&world().people.demo.data).join("recordings");
    let aside = recordings.with_extension("aside");
    std::fs::rename(&recordings, &aside).unwrap();
    // A file where the directory was: nothing can be written there, not even by root.
    std::fs::write(&recordings, "").unwrap();
    let e = world().people.run_with("ssh", "", &["backup-runner+archive-db@aerie", "hostname"], "").await.unwrap();
    std::fs::remove_file(&recordings).unwrap();
    std::fs::rename(&aside, &recordings).unwrap();
    assert_eq!((e.status, e.out.as_str()), (Some(69), ""));
    assert!(e.err.contains("The rules demand a recording"), "{}", e.err);
}

/// A service of its own with one machine at an address of our choice.
struct Small {
    directory: tempfile::TempDir,
    child: std::process::Child,
    port: u16,
    key: String,
}

impl Drop for Small {
    fn drop(&mut self) {
        let _ = self.child.kill();
        let _ = self.child.wait();
    }
}

fn small(address: &str, host_key: &str) -> Small {
    let demo = &world().people.demo;
    let directory = tempfile::tempdir().unwrap();
    let key = demo.key_file("arlo").to_string();
    let public = std::process::Command::new("ssh-keygen").args(["-lf", &key]).output().unwrap();
    let print = String::from_utf8_lossy(&public.stdout).split(' ').nth(1).unwrap().to_string();
    let people = serde_json::json!([{ "name": "arlo", "roles": ["administrator"], "keys": [{ "fingerprint": print }] }]);
    let machines = serde_json::json!([{ "name": "archive-db", "address": address, "host_key": host_key, "accounts": ["archivist"] }]);
    let file = |name: &str, text: String| {
        let path = directory.path().join(name);
        std::fs::write(&path, text).unwrap();
        path
    };
    let known = file("directory.json", serde_json::json!({ "people": people, "machines": machines }).to_string());
    let rules = file("rules.toml", "[[allow]]\nname = \"a\"\npeople = \"*\"\nmachines = \"*\"\ncapabilities = [\"exec\"]\naccounts = [\"archivist\"]\nrecording = true\n".into());
    let data = directory.path().join("data");
    let setup = std::process::Command::new(AERIE)
        .arg("setup")
        .arg("--data")
        .arg(&data)
        .arg("--directory")
        .arg(known)
        .arg("--policy")
        .arg(rules)
        .output()
        .unwrap();
    assert!(setup.status.success(), "{}", String::from_utf8_lossy(&setup.stderr));
    let (child, port) = serve(&data);
    Small { directory, child, port, key }
}

fn serve(data: &std::path::Path) -> (std::process::Child, u16) {
    let mut child = std::process::Command::new("setpriv")
        .args(["--pdeathsig", "KILL", AERIE, "serve", "--http", "127.0.0.1:0", "--ssh", "127.0.0.1:0", "--data"])
        .arg(data)
        .stderr(Stdio::piped())
        .spawn()
        .unwrap();
    let mut lines = std::io::BufRead::lines(std::io::BufReader::new(child.stderr.take().unwrap()));
    let line = lines.find(|l| l.as_ref().unwrap().contains("the SSH gateway at")).unwrap().unwrap();
    std::thread::spawn(move || lines.for_each(drop));
    let port = line.split("gateway at ").nth(1).unwrap().split(". ").next().unwrap().rsplit(':').next().unwrap().parse().unwrap();
    (child, port)
}

impl Small {
    async fn ssh(&self, command: &str) -> aerie::demo::people::Ended {
        let port = self.port.to_string();
        let options = [
            "-o",
            "StrictHostKeyChecking=no",
            "-o",
            "UserKnownHostsFile=/dev/null",
            "-i",
            &self.key,
            "-p",
            &port,
            "arlo+archive-db@127.0.0.1",
            command,
        ];
        world().people.run_with("ssh", "", &options, "").await.unwrap()
    }
}

const SOME_KEY: &str = "ssh-ed25519 AAAAC3NzaC1lZDI1NTE5AAAAIJzbJv0vfxS6YwxvkSZyJ9qYtDvVQBzcNBEj0g0zxJ3R";

#[tokio::test]
async fn a_machine_that_is_down_hangs_or_shows_another_key_is_told_clearly() {
    let closed = std::net::TcpListener::bind("127.0.0.1:0").unwrap().local_addr().unwrap().to_string();
    let silent = std::net::TcpListener::bind("127.0.0.1:0").unwrap();
    let other = world().people.demo.machines.iter().find(|m| m.name == "archive-db").unwrap().address.to_string();
    // EX_UNAVAILABLE where it is not there, EX_NOPERM where it is refused.
    let silent_at = silent.local_addr().unwrap().to_string();
    let table = [(closed, "cannot be reached", 69), (silent_at, "does not answer", 69), (other, "another host key", 77)];
    for (address, said, status) in table {
        let service = small(&address, SOME_KEY);
        let e = service.ssh("hostname").await;
        assert_eq!(e.status, Some(status), "{address}: {}", e.err);
        assert!(e.err.contains(said), "{said}: {}", e.err);
    }
}

#[tokio::test]
async fn after_a_crash_the_recording_reads_and_the_log_says_where_it_stops() {
    let demo = &world().people.demo;
    // The demo's own machine trusts the demo's authority only; a second service gets the demo's keys.
    let machine = demo.machines.iter().find(|m| m.name == "archive-db").unwrap();
    let scanned = std::process::Command::new("ssh-keyscan")
        .args(["-t", "ed25519", "-p", &machine.address.port().to_string(), "127.0.0.1"])
        .output()
        .unwrap();
    let text = String::from_utf8_lossy(&scanned.stdout).into_owned();
    let host_key = text.lines().find(|l| !l.starts_with('#')).unwrap().split_once(' ').unwrap().1.to_string();
    let mut service = small(&machine.address.to_string(), &host_key);
    let data = service.directory.path().join("data");
    let _ = service.child.kill();
    let _ = service.child.wait();
    let fresh = service.directory.path().join("fresh");
    std::fs::rename(&data, &fresh).unwrap();
    std::fs::create_dir(&data).unwrap();
    for file in ["master.key", "keys.json"] {
        let mut options = std::fs::OpenOptions::new();
        std::os::unix::fs::OpenOptionsExt::mode(options.write(true).create_new(true), 0o600);
        let bytes = std::fs::read(std::path::Path::new(&demo.data).join(file)).unwrap();
        std::io::Write::write_all(&mut options.open(data.join(file)).unwrap(), &bytes).unwrap();
    }
    for part in ["directory.json", "rules.toml"] {
        assert!(service.directory.path().join(part).exists());
    }
    let again = std::process::Command::new(AERIE)
        .arg("setup")
        .arg("--data")
        .arg(&data)
        .arg("--directory")
        .arg(service.directory.path().join("directory.json"))
        .arg("--policy")
        .arg(service.directory.path().join("rules.toml"))
        .output()
        .unwrap();
    assert!(again.status.success(), "{}", String::from_utf8_lossy(&again.stderr));
    (service.child, service.port) = serve(&data);

    let port = service.port.to_string();
    let options = [
        "-o",
        "StrictHostKeyChecking=no",
        "-o",
        "UserKnownHostsFile=/dev/null",
        "-i",
        &service.key,
        "-p",
        &port,
        "-tt",
        "arlo+archive-db@127.0.0.1",
        "echo before the crash; cat",
    ];
    let mut child = world().people.command("ssh", "", &options).stdin(Stdio::piped()).spawn().unwrap();
    let recordings = data.join("recordings");
    let keys = aerie_service::Keys::load(&data).unwrap();
    let written = until("a second of the recording", async || {
        let file = std::fs::read_dir(&recordings).ok()?.flatten().next()?.path();
        let mut frames = 0;
        aerie_service::read_recording(&file, &keys, |_| {
            frames += 1;
            true
        })
        .ok()?;
        (frames > 2).then_some(file)
    })
    .await;
    service.child.kill().unwrap();
    service.child.wait().unwrap();
    let _ = child.kill().await;
    (service.child, service.port) = serve(&data);

    let mut shown = vec![];
    let summary = aerie_service::read_recording(&written, &keys, |f| {
        if let aerie_core::recording::Frame::Output(b) = f.frame {
            shown.extend(b);
        }
        true
    })
    .unwrap();
    assert!(!summary.complete);
    assert!(String::from_utf8_lossy(&shown).contains("before the crash"));
    let store = aerie_store::Store::open(&data.join("aerie.db")).await.unwrap();
    let sessions = store.sessions(&aerie_store::SessionFilter { limit: 5, ..Default::default() }).await.unwrap();
    assert_eq!(sessions[0].end_reason.as_deref(), Some("service-crashed"));
    let events =
        store.events(&aerie_store::EventFilter { kind: Some("session-ended".into()), limit: 5, ..Default::default() }).await.unwrap();
    assert!(events[0].body.contains("its recording reads up to"));
    // What was written is bound to the log, as what it is.
    let closed =
        store.events(&aerie_store::EventFilter { kind: Some("recording-closed".into()), limit: 5, ..Default::default() }).await.unwrap();
    assert_eq!(closed.len(), 1);
    assert!(closed[0].body.contains(&summary.digest) && closed[0].body.contains("\"complete\":false"), "{}", closed[0].body);
    assert_eq!(sessions[0].digest.as_deref(), Some(summary.digest.as_str()));

    // A recording that was cut or altered is told from this one.
    let bytes = std::fs::read(&written).unwrap();
    let mut altered = bytes.clone();
    let last = altered.len() - 5;
    altered[last] ^= 1;
    std::fs::write(&written, altered).unwrap();
    assert!(aerie_service::read_recording(&written, &keys, |_| true).is_err());
}

/// A machine that was taken over. It accepts every sign-in and opens channels of every kind towards the client.
struct TakenOver(tokio::sync::mpsc::UnboundedSender<(&'static str, bool)>);

impl russh::server::Handler for TakenOver {
    type Error = russh::Error;

    async fn auth_openssh_certificate(&mut self, _: &str, _: &russh::keys::Certificate) -> Result<russh::server::Auth, Self::Error> {
        Ok(russh::server::Auth::Accept)
    }

    async fn channel_open_session(
        &mut self,
        _: russh::Channel<russh::server::Msg>,
        reply: russh::server::ChannelOpenHandle,
        _: &mut russh::server::Session,
    ) -> Result<(), Self::Error> {
        reply.accept().await;
        Ok(())
    }

    async fn exec_request(&mut self, id: russh::ChannelId, _: &[u8], session: &mut russh::server::Session) -> Result<(), Self::Error> {
        session.channel_success(id)?;
        let (handle, tell) = (session.handle(), self.0.clone());
        tokio::spawn(async move {
            let (here, port) = ("127.0.0.1", 22);
            let tell = |kind, opened: Result<_, russh::Error>| tell.send((kind, opened.is_ok())).unwrap();
            tell("forwarded-tcpip", handle.channel_open_forwarded_tcpip(here, port, here, port).await);
            tell("forwarded-streamlocal", handle.channel_open_forwarded_streamlocal("/run/socket").await);
            tell("direct-tcpip", handle.channel_open_direct_tcpip(here, port, here, port).await);
            tell("direct-streamlocal", handle.channel_open_direct_streamlocal("/run/socket").await);
            tell("session", handle.channel_open_session().await);
            tell("agent", handle.channel_open_agent().await);
            tell("x11", handle.channel_open_x11(here, port).await);
            let _ = handle.exit_status_request(id, 0).await;
            let _ = handle.close(id).await;
        });
        Ok(())
    }
}

#[tokio::test]
async fn a_machine_opens_no_channel_towards_the_gateway() {
    let key = russh::keys::PrivateKey::from(russh::keys::ssh_key::private::Ed25519Keypair::from_seed(&[7; 32]));
    let public = key.public_key().to_openssh().unwrap();
    let listener = tokio::net::TcpListener::bind("127.0.0.1:0").await.unwrap();
    let at = listener.local_addr().unwrap().to_string();
    let (tell, mut told) = tokio::sync::mpsc::unbounded_channel();
    let config = std::sync::Arc::new(russh::server::Config { keys: vec![key], ..Default::default() });
    let machine = tokio::spawn(async move {
        loop {
            let (stream, _) = listener.accept().await.unwrap();
            let (config, taken_over) = (config.clone(), TakenOver(tell.clone()));
            tokio::spawn(async move {
                if let Ok(running) = russh::server::run_stream(config, stream, taken_over).await {
                    let _ = running.await;
                }
            });
        }
    });
    let service = small(&at, &public);
    let e = service.ssh("hostname").await;
    assert_eq!(e.status, Some(0), "{}", e.err);
    let mut opened = vec![];
    while let Ok(one) = told.try_recv() {
        opened.push(one);
    }
    let kinds = ["forwarded-tcpip", "forwarded-streamlocal", "direct-tcpip", "direct-streamlocal", "session", "agent", "x11"];
    assert_eq!(opened, kinds.map(|kind| (kind, false)));
    machine.abort();
}
