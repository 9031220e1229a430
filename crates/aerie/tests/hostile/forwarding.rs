//! Forwarded ports lead where rules say, and are no way around a recording or to another machine.

use super::{event, run, small_rights, turn};
use crate::common::{client, until, world};
use aerie_client::SessionQuery;
use std::process::Stdio;
use tokio::io::AsyncReadExt as _;
use tokio::process::Child;

/// A program on mast-2 that sends its name to each client, and then echoes; it ends with the session that started it.
async fn program(name: &str, port: u16) -> Child {
    let script = format!(
        "perl -MIO::Socket::INET -e '$s=IO::Socket::INET->new(Listen=>5,LocalAddr=>\"127.0.0.1\",LocalPort=>{port},ReuseAddr=>1) or die; \
         $|=1; print \"ready\\n\"; while($c=$s->accept){{ if(fork){{close $c; next}} print $c \"{name}\\n\"; while(<$c>){{ print $c $_ }} exit }}'"
    );
    let mut child = world().people.command("ssh", "", &["greta+mast-2@aerie", &script]).spawn().unwrap();
    let mut said = [0; 6];
    child.stdout.as_mut().unwrap().read_exact(&mut said).await.unwrap();
    assert_eq!(&said, b"ready\n");
    child
}

/// The rules with these targets for greta and arlo on mast-2, where a key is enough and everything is recorded.
async fn with_targets(text: &str, targets: &[String], more: &str) {
    let rule = format!(
        "\n[[allow]]\nname = \"small-forward\"\npeople = \"person:greta | person:arlo\"\nmachines = \"name:mast-2\"\n\
         capabilities = [\"exec\", \"forward\"]\naccounts = [\"operator\"]\ntargets = {targets:?}\n{more}"
    );
    // A test that failed leaves its rule behind, which is no reason for others to fail.
    let text = text.split("\n[[allow]]\nname = \"small-forward\"").next().unwrap_or_default();
    let published = client().publish_policy(&(text.to_string() + &rule), None).await.unwrap();
    assert!(published.version.is_some(), "{:?}", published.diagnostics);
}

async fn reached(person: &str, target: &str) -> String {
    let e = run("ssh", &["-W", target, &format!("{person}+mast-2@aerie")], "hello\n").await;
    e.out + &e.err
}

#[tokio::test]
async fn a_port_leads_only_where_the_rules_say() {
    small_rights().await;
    let _turn = turn().await;
    let before = client().policy().await.unwrap().text;
    let (named, other) = (7101, 7102);
    with_targets(&before, &[format!("localhost:{named}"), "localhost:*".into(), "10.20.0.0/16:443".into()], "").await;
    let mut programs = [program("read-out", named).await, program("a shell that listens", other).await];
    for host in ["localhost", "127.0.0.1", "LOCALHOST.", "127.0.0.2", "[::ffff:127.0.0.1]"] {
        let said = reached("greta", &format!("{host}:{named}")).await;
        // All of it is the machine itself; the program listens at one of its addresses.
        assert!(host == "127.0.0.2" || said.contains("read-out\nhello"), "{host}: {said}");
        assert!(!said.contains("No rule"), "{host}: {said}");
    }
    // Sessions are recorded here: behind a port that no rule names a shell may listen.
    let said = reached("greta", &format!("localhost:{other}")).await;
    assert!(said.contains("no rule names this port") && !said.contains("a shell that listens"), "{said}");
    for host in ["127.1", "0x7f000001", "2130706433", "0177.0.0.1"] {
        let said = reached("greta", &format!("{host}:{other}")).await;
        assert!(said.contains("cannot be forwarded") && !said.contains("a shell that listens"), "{host}: {said}");
    }
    for target in [format!("10.21.0.1:{named}"), format!("db.example:{named}"), "10.20.0.1:22".into()] {
        let said = reached("greta", &target).await;
        assert!(said.contains("No rule lets you forward ports through mast-2 to"), "{target}: {said}");
    }
    let noted = event("decision", &format!("mast-2 to localhost:{other}")).await;
    assert_eq!(noted.data["outcome"], "refused");
    for child in &mut programs {
        let _ = child.kill().await;
    }
    client().publish_policy(&before, None).await.unwrap();
}

#[tokio::test]
async fn another_machine_is_reached_through_one_only_with_its_own_right() {
    small_rights().await;
    let _turn = turn().await;
    let before = client().policy().await.unwrap().text;
    let archive = world().people.demo.machines.iter().find(|m| m.name == "archive-db").unwrap().address.port();
    with_targets(&before, &[format!("*:{archive}")], "").await;
    let target = format!("127.0.0.1:{archive}");
    let said = reached("arlo", &target).await;
    // A user without a right there does not learn that it exists.
    assert!(said.contains("No rule lets you forward ports through mast-2 to") && !said.contains("archive-db"), "{said}");
    assert!(!said.contains("SSH-2.0"), "{said}");
    // Those who may read the rules are told why.
    let asked = aerie_api::WhyQuery {
        person: "arlo".into(),
        capability: "forward".into(),
        machine: "mast-2".into(),
        at: None,
        account: None,
        target: Some(target.clone()),
        from: None,
        factors: Some("key".into()),
        version: None,
    };
    let why = client().why(&asked).await.unwrap();
    assert_eq!(why.outcome, "refused", "{}", why.sentence);
    assert!(why.sentence.contains("This port leads to archive-db. No rule lets"), "{}", why.sentence);
    let right = format!(
        "\n[[allow]]\nname = \"through-to-the-archive\"\npeople = \"person:arlo\"\nmachines = \"name:archive-db\"\n\
         capabilities = [\"forward\"]\naccounts = [\"archivist\"]\ntargets = [\"localhost:{archive}\"]\n"
    );
    with_targets(&before, &[format!("*:{archive}")], &right).await;
    // Nothing refuses it now; here each machine has its own loopback interface, with no listener.
    let said = reached("arlo", &target).await;
    assert!(said.contains("connect failed"), "{said}");
    let noted = event("decision", &format!("through archive-db to localhost:{archive}")).await;
    assert_eq!((noted.machine.as_deref(), &noted.data["outcome"]), (Some("archive-db"), &"granted".into()));
    client().publish_policy(&before, None).await.unwrap();
}

#[tokio::test]
async fn a_port_that_is_no_longer_allowed_is_closed() {
    small_rights().await;
    let _turn = turn().await;
    let before = client().policy().await.unwrap().text;
    let (first, second) = (7103, 7104);
    with_targets(&before, &[format!("localhost:{first}")], "").await;
    let mut listening = program("first", first).await;
    let mut ssh = world().people.command("ssh", "", &["-W", &format!("localhost:{first}"), "greta+mast-2@aerie"]);
    // Nothing is sent, and the end is not said.
    let mut child = ssh.stdin(Stdio::piped()).spawn().unwrap();
    let mut out = child.stdout.take().unwrap();
    let mut said = [0; 6];
    out.read_exact(&mut said).await.unwrap();
    assert_eq!(&said, b"first\n");
    // The right to forward is still there, and leads elsewhere.
    with_targets(&before, &[format!("localhost:{second}")], "").await;
    let mut rest = vec![];
    tokio::time::timeout(std::time::Duration::from_secs(20), out.read_to_end(&mut rest)).await.expect("it goes on").unwrap();
    let query = SessionQuery { person: Some("greta".into()), machine: Some("mast-2".into()), limit: Some(1), ..SessionQuery::default() };
    let reason = until("the end", async || client().sessions(&query).await.unwrap().items.into_iter().next()?.end_reason).await;
    assert_eq!(reason, "because the rules no longer allow it");
    let _ = listening.kill().await;
    client().publish_policy(&before, None).await.unwrap();
}
