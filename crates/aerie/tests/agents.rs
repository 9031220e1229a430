//! Agents against a service of their own: enrolment, broken connections, restarts, copies, and agents that lie.

#![allow(clippy::unwrap_used, clippy::expect_used, clippy::panic, unreachable_pub, reason = "a test that cannot go on fails")]

mod common;

use aerie_agent::{AgentState, ConnectError, EnrolOptions, Proved, RunOptions, StateDir, connect, tls_config};
use aerie_api::{ForwardQuery, MachineChange, MachineQuery, NewApiToken, NewCode, WayView};
use aerie_client::ClientError;
use aerie_core::evidence::hex;
use aerie_core::inventory::MachineFacts;
use aerie_core::tunnel::greeting::{Answer, EnrolmentCode, Purpose};
use aerie_core::tunnel::{FromAgent, FromService, Side};
use aerie_store::Store;
use aerie_tunnel::{Broken, Incoming, Tunnel};
use common::own::{Own, Running, echo, enrolled, forwarded, run};
use common::{AERIE, until};
use ed25519_dalek::SigningKey;
use futures_util::{FutureExt as _, SinkExt as _, StreamExt as _};
use jiff::{SignedDuration, Timestamp};
use std::net::SocketAddr;
use std::process::{Command, Stdio};
use std::sync::Arc;
use std::time::Duration;
use tokio::io::{AsyncReadExt as _, AsyncWriteExt as _};
use tokio::net::{TcpListener, TcpStream};
use tokio::sync::watch;

/// How a network is.
#[derive(Debug, Clone, Copy, Default)]
struct Line {
    /// It carries nothing, and says nothing of it.
    dropping: bool,
    /// How often everything that was open was cut.
    cuts: u32,
}

fn drop_everything(line: &watch::Sender<Line>, yes: bool) {
    line.send_modify(|l| l.dropping = yes);
}

fn cut(line: &watch::Sender<Line>) {
    line.send_modify(|l| l.cuts += 1);
}

/// A network between an agent and the service, which fails when it is told to.
async fn network(to: SocketAddr) -> (SocketAddr, watch::Sender<Line>) {
    let listener = TcpListener::bind("127.0.0.1:0").await.unwrap();
    let at = listener.local_addr().unwrap();
    let (tell, line) = watch::channel(Line::default());
    tokio::spawn(async move {
        loop {
            let (near, _) = listener.accept().await.unwrap();
            let mut line = line.clone();
            tokio::spawn(async move {
                line.wait_for(|l| !l.dropping).await.unwrap();
                let before = line.borrow().cuts;
                let Ok(far) = TcpStream::connect(to).await else { return };
                let ((mut near_in, mut near_out), (mut far_in, mut far_out)) = (near.into_split(), far.into_split());
                let mut cut = line.clone();
                tokio::select! {
                    () = carry(&mut near_in, &mut far_out, line.clone()) => {}
                    () = carry(&mut far_in, &mut near_out, line.clone()) => {}
                    _ = cut.wait_for(|l| l.cuts > before) => {}
                }
            });
        }
    });
    (at, tell)
}

async fn carry(
    from: &mut (impl tokio::io::AsyncRead + Unpin),
    to: &mut (impl tokio::io::AsyncWrite + Unpin),
    mut line: watch::Receiver<Line>,
) {
    let mut piece = vec![0; 16 << 10];
    while let Ok(n @ 1..) = from.read(&mut piece).await {
        line.wait_for(|l| !l.dropping).await.unwrap();
        if to.write_all(&piece[..n]).await.is_err() {
            return;
        }
    }
}

#[tokio::test]
async fn a_transfer_goes_on_over_a_broken_connection_without_a_byte_lost() {
    let own = Own::start().await;
    let echo = echo().await;
    let (at, line) = network(own.https).await;
    let mut state = enrolled(&own, "scope", &[echo.to_string()], &[("echo", echo.to_string())]).await;
    state.server = at.to_string();
    let dir = tempfile::tempdir().unwrap();
    let _agent = run(&dir, &state);
    own.online("scope").await;
    let port = forwarded(&own, "scope", "echo").await;
    let (mut read, mut write) = TcpStream::connect(port).await.unwrap().into_split();
    let sent: Vec<u8> = (0..6_000_000u32).map(|n| (n.wrapping_mul(2_654_435_761) >> 24) as u8).collect();
    let expected = sent.clone();
    let writing = tokio::spawn(async move {
        write.write_all(&sent).await.unwrap();
        write.shutdown().await.unwrap();
    });
    let mut got = vec![0; 1_000_000];
    read.read_exact(&mut got).await.unwrap();
    for _ in 0..2 {
        cut(&line);
        let before = got.len();
        got.resize(before + 2_000_000, 0);
        read.read_exact(&mut got[before..]).await.unwrap();
    }
    read.read_to_end(&mut got).await.unwrap();
    writing.await.unwrap();
    assert!(got == expected, "{} of {} bytes", got.len(), expected.len());
    assert!(std::fs::read_to_string(dir.path().join("agent/agent.log")).unwrap().contains("what was open goes on"));
}

#[tokio::test]
async fn a_network_that_drops_everything_for_a_minute_loses_no_session() {
    let own = Own::start().await;
    let echo = echo().await;
    let (at, line) = network(own.https).await;
    let mut state = enrolled(&own, "mast", &[echo.to_string()], &[("echo", echo.to_string())]).await;
    state.server = at.to_string();
    let dir = tempfile::tempdir().unwrap();
    let _agent = run(&dir, &state);
    own.online("mast").await;
    let mut stream = TcpStream::connect(forwarded(&own, "mast", "echo").await).await.unwrap();
    let mut got = [0; 4];
    stream.write_all(b"here").await.unwrap();
    stream.read_exact(&mut got).await.unwrap();
    drop_everything(&line, true);
    stream.write_all(b"lost").await.unwrap();
    tokio::time::sleep(Duration::from_secs(60)).await;
    drop_everything(&line, false);
    tokio::time::timeout(Duration::from_secs(60), stream.read_exact(&mut got)).await.expect("the session did not go on").unwrap();
    assert_eq!(&got, b"lost");
}

#[tokio::test]
async fn two_hundred_agents_come_back_after_the_service_was_killed() {
    const AGENTS: usize = 200;
    let mut own = Own::start().await;
    let echo = echo().await;
    let code = own
        .issue(NewCode { site: Some("array".into()), uses: Some(AGENTS as u32), labels: vec!["antenna".into()], ..NewCode::default() })
        .await;
    let dir = tempfile::tempdir().unwrap();
    for n in 0..AGENTS {
        let options = EnrolOptions { name: Some(format!("antenna-{n}")), allow: vec![echo.to_string()], ..EnrolOptions::default() };
        let state = aerie_agent::enrol(&code, &options).await.unwrap();
        let dir = StateDir::at(Some(dir.path().join(n.to_string())));
        dir.save(&state).unwrap();
        tokio::spawn(aerie_agent::run(Some(dir), state, RunOptions::default()));
    }
    let online = async |own: &Own| {
        let query = MachineQuery { state: Some("online".into()), site: Some("array".into()), limit: Some(1), ..MachineQuery::default() };
        own.admin().machines(&query).await.map_or(0, |p| p.total)
    };
    until("all online", async || (online(&own).await == AGENTS as u64).then_some(())).await;
    // A session through one of them, which the crash ends.
    let ways = vec![WayView { name: "echo".into(), kind: "tcp".into(), address: echo.to_string() }];
    let change = MachineChange { ways: Some(ways), accounts: Some(vec!["operator".into()]), ..MachineChange::default() };
    own.admin().change_machine("antenna-7", &change).await.unwrap();
    let mut stream = TcpStream::connect(forwarded(&own, "antenna-7", "echo").await).await.unwrap();
    stream.write_all(b"x").await.unwrap();
    stream.read_exact(&mut [0]).await.unwrap();
    own.kill().await;
    own.child = Own::run(own.directory.path(), own.https);
    own.up().await;
    // Half a minute is what they have.
    until("all back", async || (online(&own).await == AGENTS as u64).then_some(())).await;
    let ended = own.event("session-ended", "antenna-7").await;
    assert!(ended.sentence.contains("crash") || ended.sentence.contains("service"), "{}", ended.sentence);
}

#[tokio::test]
async fn codes_are_good_once_for_whom_they_say_and_from_the_right_service() {
    let own = Own::start().await;
    let none = EnrolOptions::default();
    let code = own.code_for("dome", &[]).await;
    assert_eq!(own.state("dome").await, "code issued");
    // To look uses nothing up.
    let found = aerie_agent::look(&code, &none).await.unwrap();
    assert_eq!(found.machine, "dome");
    let other_name = EnrolOptions { name: Some("another".into()), ..none.clone() };
    assert!(aerie_agent::enrol(&code, &other_name).await.unwrap_err().to_string().contains("for dome alone"));
    aerie_agent::enrol(&code, &none).await.unwrap();
    assert!(aerie_agent::enrol(&code, &none).await.unwrap_err().to_string().contains("not good"));
    assert_eq!(own.state("dome").await, "offline");
    // Withdrawn.
    let code = own.issue(NewCode { machine: Some("dome".into()), ..NewCode::default() }).await;
    let listed = own.admin().codes().await.unwrap();
    assert_eq!(listed.len(), 1);
    own.admin().withdraw_code(&listed[0].id).await.unwrap();
    assert!(aerie_agent::enrol(&code, &none).await.is_err());
    // Whoever stands between has another key: nothing is told to it.
    let key = SigningKey::from_bytes(&[9; 32]);
    let wrong = EnrolmentCode::new("dome", &code.server, [1; 16], &hex(key.verifying_key().as_bytes())).unwrap();
    assert!(aerie_agent::look(&wrong, &none).await.unwrap_err().to_string().contains("is not the service of the code"));
    // A code for a site makes new machines, and never one that is there.
    let many = own.issue(NewCode { site: Some("ridge".into()), uses: Some(1), ..NewCode::default() }).await;
    let named = |n: &str| EnrolOptions { name: Some(n.into()), ..EnrolOptions::default() };
    assert!(aerie_agent::enrol(&many, &named("dome")).await.unwrap_err().to_string().contains("already"));
    assert!(aerie_agent::enrol(&many, &named("Not A Name")).await.is_err());
    assert_eq!(aerie_agent::enrol(&many, &named("fresh")).await.unwrap().site, "ridge");
    assert!(aerie_agent::enrol(&many, &named("second")).await.unwrap_err().to_string().contains("not good"));
    // What is over.
    let store = Store::open(&own.directory.path().join("aerie.db")).await.unwrap();
    let late = own.issue(NewCode { machine: Some("dome".into()), hours: Some(1), ..NewCode::default() }).await;
    store.sweep_codes(Timestamp::now() + SignedDuration::from_hours(2)).await.unwrap();
    store.close().await;
    assert!(aerie_agent::enrol(&late, &none).await.unwrap_err().to_string().contains("not good"));
}

#[tokio::test]
async fn a_copy_of_an_agent_is_turned_away_and_found_and_a_revoked_one_is_cut_off() {
    let own = Own::start().await;
    let echo = echo().await;
    let state = enrolled(&own, "comb", &[echo.to_string()], &[("echo", echo.to_string())]).await;
    let (dir, copied) = (tempfile::tempdir().unwrap(), tempfile::tempdir().unwrap());
    // Copied before it ran: with the ticket that it was enrolled with.
    let copy_state = state.clone();
    let agent = run(&dir, &state);
    own.online("comb").await;
    until("a ticket that was kept", async || {
        let kept = StateDir::at(Some(dir.path().join("agent"))).load().ok()?;
        (kept.ticket != copy_state.ticket).then_some(())
    })
    .await;
    own.event("agent-connected", "comb").await;
    let copy = run(&copied, &copy_state);
    own.event("agent-refused", "copy of the agent of comb").await;
    let findings =
        own.admin().findings(&aerie_client::FindingQuery { kind: Some("agent-cloned".into()), ..Default::default() }).await.unwrap();
    assert_eq!((findings.items.len(), findings.items[0].machine.as_str()), (1, "comb"));
    // The right one goes on; its sessions too.
    let mut stream = TcpStream::connect(forwarded(&own, "comb", "echo").await).await.unwrap();
    stream.write_all(b"x").await.unwrap();
    stream.read_exact(&mut [0]).await.unwrap();
    copy.abort();
    own.admin().revoke_agent("comb", "one of them was copied").await.unwrap();
    assert_eq!(stream.read(&mut [0]).await.unwrap_or(0), 0);
    let left = tokio::time::timeout(Duration::from_secs(30), agent).await.expect("it goes on").unwrap().unwrap_err();
    assert!(left.to_string().contains("revoked"), "{left}");
    let status = StateDir::at(Some(dir.path().join("agent"))).status().unwrap();
    assert!(status.sentence(false).contains("gave up"));
}

/// Speaks as an agent, as far as the tunnel.
async fn as_agent(own: &Own, key: &SigningKey, ticket: Option<String>) -> Result<Proved, ConnectError> {
    let purpose = || Purpose::Serve { ticket, resume: None };
    connect(&format!("localhost:{}", own.https.port()), &tls_config().unwrap(), key, |_| true, purpose).await
}

#[tokio::test]
async fn an_agent_that_a_restored_backup_does_not_know_comes_back_once_when_an_administrator_says_so() {
    let own = Own::start().await;
    let state = enrolled(&own, "comb", &[], &[]).await;
    let key = state.signing_key().unwrap();
    let void = || Some("0".repeat(64));
    let code = |r: Result<Proved, ConnectError>| match r {
        Ok(_) => "taken".to_string(),
        Err(ConnectError::Refused { code, .. }) => code,
        Err(e) => panic!("{e}"),
    };
    assert_eq!(code(as_agent(&own, &key, void()).await), "cloned");
    let is_refused = |r: Result<(), ClientError>, status: u16| matches!(r, Err(ClientError::Problem(p)) if p.status == status);
    assert!(is_refused(own.admin().accept_agents(61, "for long").await, 422));
    assert!(is_refused(own.admin().accept_agents(5, "").await, 422));
    assert!(is_refused(own.client(&own.worker).accept_agents(5, "mine").await, 403));
    own.admin().accept_agents(5, "the disk of the service was replaced").await.unwrap();
    assert_eq!(code(as_agent(&own, &key, void()).await), "taken");
    let other = || Some("1".repeat(64));
    assert_eq!(code(as_agent(&own, &key, other()).await), "cloned", "a second one is a copy");
    own.event("agent-changed", "the disk of the service was replaced").await;
    own.admin().accept_agents(5, "again").await.unwrap();
    own.admin().accept_agents(0, "all are back").await.unwrap();
    assert_eq!(code(as_agent(&own, &key, other()).await), "cloned");
}

#[tokio::test]
async fn an_agent_that_lies_or_breaks_the_protocol_gains_nothing() {
    let own = Own::start().await;
    let state = enrolled(&own, "liar", &[], &[("echo", "127.0.0.1:7".into())]).await;
    enrolled(&own, "honest", &[], &[]).await;
    let key = state.signing_key().unwrap();
    // A key that nobody enrolled.
    let Err(ConnectError::Refused { code, .. }) = as_agent(&own, &SigningKey::from_bytes(&[3; 32]), None).await else {
        panic!("it was let in")
    };
    assert_eq!(code, "unknown");
    // It is who its key says, and no other machine.
    let proved = as_agent(&own, &key, state.ticket.clone()).await.unwrap();
    let Answer::Serving { machine, ticket, .. } = proved.answer else { panic!("not served") };
    assert_eq!(machine, "liar");
    // Garbage, and a stream that nobody asked for, cut it off.
    let mut socket = proved.socket;
    socket
        .send(aerie_tunnel::websocket::tungstenite::Message::Binary(bytes::Bytes::from_static(b"\xff\xff\xff\xff\xff\xff")))
        .await
        .unwrap();
    while let Some(Ok(_)) = socket.next().await {}
    own.event("agent-refused", "liar was cut off").await;
    let mut ticket = ticket;
    for frame in [&b"\x01\0\0\0\x0110.0.0.1:22"[..], b"\x04\0\0\0\x07flood", b"\x09\0\0\0\0\0\0\0\0\0\0\0\xff"] {
        let proved = as_agent(&own, &key, Some(ticket)).await.unwrap();
        let Answer::Serving { ticket: next, .. } = proved.answer else { panic!("not served") };
        ticket = next;
        let mut socket = proved.socket;
        socket.send(aerie_tunnel::websocket::tungstenite::Message::Binary(bytes::Bytes::from_static(frame))).await.unwrap();
        while let Some(Ok(_)) = socket.next().await {}
    }
    // What it says of itself is cut, and gives it no say over other machines.
    let proved = as_agent(&own, &key, Some(ticket)).await.unwrap();
    let (tunnel, mut inbox) = Tunnel::new(Side::Acceptor);
    let there = tunnel.clone();
    let running = tokio::spawn(async move { there.run(proved.socket, Duration::from_secs(30)).await });
    let facts = MachineFacts {
        host: format!("honest\u{1b}[31m{}", "x".repeat(5000)),
        addresses: vec!["10.0.0.1".into(); 3000],
        ..MachineFacts::default()
    };
    // Until it has kept its next ticket, nothing is taken from it, and nothing is carried by it: it may be a copy.
    assert_eq!(own.state("liar").await, "offline");
    let taken = |incoming: &Incoming| match incoming {
        Incoming::Asked(_) => false,
        Incoming::Message(m) => matches!(FromService::decode(m), Some(FromService::VisitTaken { .. })),
    };
    tunnel.message(FromAgent::VisitPin("000-000".into()).encode());
    let way = || ForwardQuery { way: "echo".into(), ..ForwardQuery::default() };
    if let Ok(forwarding) = own.client(&own.worker).forward("liar", &way()).await {
        let listener = TcpListener::bind("127.0.0.1:0").await.unwrap();
        let mut stream = TcpStream::connect(listener.local_addr().unwrap()).await.unwrap();
        tokio::spawn(forwarding.serve(listener, |_| {}));
        assert_eq!(stream.read(&mut [0]).await.unwrap_or(0), 0);
    }
    while let Some(Some(incoming)) = inbox.next().now_or_never() {
        assert!(!matches!(incoming, Incoming::Asked(_)) && !taken(&incoming), "{incoming:?}");
    }
    tunnel.message(FromAgent::TicketKept.encode());
    tunnel.message(FromAgent::VisitPin("111-111".into()).encode());
    tunnel.message(FromAgent::Facts(Box::new(facts)).encode());
    let told = until("facts", async || own.admin().machine("liar").await.unwrap().facts).await;
    assert!(told.host.chars().count() <= 200 && !told.host.contains('\u{1b}') && told.addresses.len() <= 200);
    assert!(own.admin().machine("honest").await.unwrap().facts.is_none());
    // From then on it is asked, and of the two PINs the one that came after has an answer.
    let _stream = TcpStream::connect(forwarded(&own, "liar", "echo").await).await.unwrap();
    let mut answers = 0;
    while let Some(incoming @ Incoming::Message(_)) = inbox.next().await {
        answers += u32::from(taken(&incoming));
    }
    assert_eq!(answers, 1);
    tunnel.end();
    assert!(matches!(running.await.unwrap(), Broken::Closed));
    assert!(own.admin().me().await.is_ok());
}

#[tokio::test]
async fn a_relay_that_hangs_or_may_not_is_passed_over() {
    let own = Own::start().await;
    let echo = echo().await;
    let at_site = |via: &str, ways: Vec<WayView>| MachineChange {
        via: Some(via.into()),
        site: Some("basement".into()),
        accounts: Some(vec!["operator".into()]),
        ways: Some(ways),
        ..MachineChange::default()
    };
    let dirs: Vec<_> = (0..3).map(|_| tempfile::tempdir().unwrap()).collect();
    let (near, line) = network(own.https).await;
    let mut agents = vec![];
    // The first answers slowest in the end, the second has no leave of whoever enrolled it, the third does its work.
    for (n, allow) in [echo.to_string(), "127.0.0.1:9".into(), echo.to_string()].into_iter().enumerate() {
        let name = format!("relay-{n}");
        own.admin().add_machine(&aerie_api::NewMachine { name: name.clone(), about: at_site("agent", vec![]) }).await.unwrap();
        let code = own.issue(NewCode { machine: Some(name.clone()), ..NewCode::default() }).await;
        let mut state = aerie_agent::enrol(&code, &EnrolOptions { allow: vec![allow], ..EnrolOptions::default() }).await.unwrap();
        if n == 0 {
            state.server = near.to_string();
        }
        agents.push(run(&dirs[n], &state));
        own.online(&name).await;
        own.admin().set_relay(&name, vec![echo.to_string()]).await.unwrap();
    }
    let way = WayView { name: "echo".into(), kind: "tcp".into(), address: echo.to_string() };
    own.admin().add_machine(&aerie_api::NewMachine { name: "comb".into(), about: at_site("relay", vec![way]) }).await.unwrap();
    let works = async |expect: &[&str]| {
        let mut stream = TcpStream::connect(forwarded(&own, "comb", "echo").await).await.unwrap();
        let mut got = [0; 4];
        stream.write_all(b"here").await.unwrap();
        tokio::time::timeout(Duration::from_secs(30), stream.read_exact(&mut got)).await.expect("no relay took over").unwrap();
        let way = own.event("channel-opened", "forwarded echo").await.data["way"].as_str().unwrap().to_string();
        assert!(expect.iter().any(|e| way == format!("through {e}")), "{way}");
    };
    works(&["relay-0", "relay-2"]).await;
    // The connection of the first still stands, and carries nothing.
    drop_everything(&line, true);
    works(&["relay-2"]).await;
    // With nobody left the reason says what each of them said.
    agents.remove(2).abort();
    until("relay-2 offline", async || (own.state("relay-2").await == "offline").then_some(())).await;
    let query = ForwardQuery { way: "echo".into(), ..ForwardQuery::default() };
    let mut stream = match own.client(&own.worker).forward("comb", &query).await {
        Err(ClientError::Problem(p)) => return assert!(p.detail.contains("relay-1: "), "{}", p.detail),
        Err(e) => panic!("{e}"),
        Ok(forwarding) => {
            let listener = TcpListener::bind("127.0.0.1:0").await.unwrap();
            let at = listener.local_addr().unwrap();
            tokio::spawn(forwarding.serve(listener, |_| {}));
            TcpStream::connect(at).await.unwrap()
        }
    };
    let ended = tokio::time::timeout(Duration::from_secs(30), stream.read(&mut [0; 4])).await.expect("it is not refused");
    assert!(matches!(ended, Ok(0) | Err(_)));
}

#[tokio::test]
async fn ports_are_forwarded_by_the_rules_and_logged() {
    let own = Own::start().await;
    let echo = echo().await;
    let state = enrolled(&own, "spectro", &[echo.to_string()], &[("echo", echo.to_string()), ("off", "127.0.0.1:9".into())]).await;
    let dir = tempfile::tempdir().unwrap();
    let _agent = run(&dir, &state);
    own.online("spectro").await;
    let refused = async |token: &str, machine: &str, way: &str| {
        let query = ForwardQuery { way: way.into(), ..ForwardQuery::default() };
        match own.client(token).forward(machine, &query).await {
            Err(ClientError::Problem(p)) => p.status,
            Ok(_) => 0,
            Err(e) => panic!("{e}"),
        }
    };
    // Programs forward nothing; what is not a way is not told from what is not there.
    let program = NewApiToken { name: "nightly".into(), scopes: vec!["sessions".into()], days: 1, key: None };
    let program = own.admin().make_token(&program).await.unwrap();
    assert_eq!(refused(&program.secret, "spectro", "echo").await, 403);
    assert_eq!(refused(&own.worker, "spectro", "127.0.0.1:22").await, 403);
    assert_eq!(refused(&own.worker, "nowhere", "echo").await, 403);
    assert_eq!(refused("nobody", "spectro", "echo").await, 401);
    let port = forwarded(&own, "spectro", "echo").await;
    let mut stream = TcpStream::connect(port).await.unwrap();
    stream.write_all(&[1; 100_000]).await.unwrap();
    stream.read_exact(&mut [0; 100_000]).await.unwrap();
    drop(stream);
    own.event("channel-opened", "closed a connection to echo").await;
    let live = own.admin().sessions(&aerie_client::SessionQuery { state: Some("live".into()), ..Default::default() }).await.unwrap().items;
    assert_eq!((live.len(), live[0].machine.as_str(), live[0].person.as_str()), (1, "spectro", "sunniva"));
    own.admin().end_session(&live[0].id).await.unwrap();
    let ended = until("the end", async || own.admin().session(&live[0].id).await.ok().filter(|s| s.ended.is_some())).await;
    assert!(ended.bytes_out >= 100_000 && ended.bytes_in >= 100_000, "{ended:?}");
    // A way that the agent's own list does not allow is not connected, whatever the rules say.
    let mut stream = TcpStream::connect(forwarded(&own, "spectro", "off").await).await.unwrap();
    assert_eq!(stream.read(&mut [0]).await.unwrap_or(0), 0);
    // A slow reader holds up nobody, and costs no memory: the writer is held back.
    let port = forwarded(&own, "spectro", "echo").await;
    let stalled = TcpStream::connect(port).await.unwrap();
    let (_read, mut write) = stalled.into_split();
    let piece = vec![7; 1 << 20];
    let mut taken = 0u64;
    while let Ok(Ok(())) = tokio::time::timeout(Duration::from_secs(2), write.write_all(&piece)).await {
        taken += 1;
        assert!(taken < 64, "nothing holds the writer back");
    }
    let mut other = TcpStream::connect(port).await.unwrap();
    other.write_all(b"past it").await.unwrap();
    other.read_exact(&mut [0; 7]).await.unwrap();
}

#[tokio::test]
async fn an_agent_that_is_killed_in_the_middle_of_a_transfer_ends_it_and_serves_again() {
    let own = Own::start().await;
    let echo = echo().await;
    let state = enrolled(&own, "guide", &[echo.to_string()], &[("echo", echo.to_string())]).await;
    let place = tempfile::tempdir().unwrap();
    let place = place.path().join("agent");
    StateDir::at(Some(place.clone())).save(&state).unwrap();
    // The program itself: what it held is gone with it.
    let run = || Command::new(AERIE).args(["agent", "run", "--state"]).arg(&place).stderr(Stdio::null()).spawn().unwrap();
    let mut agent = run();
    own.online("guide").await;
    let port = forwarded(&own, "guide", "echo").await;
    let (mut read, mut write) = TcpStream::connect(port).await.unwrap().into_split();
    let writing = tokio::spawn(async move { while write.write_all(&[3; 100_000]).await.is_ok() {} });
    read.read_exact(&mut vec![0; 2_000_000]).await.unwrap();
    agent.kill().unwrap();
    agent.wait().unwrap();
    let mut again = run();
    // The next one knows nothing of the tunnel: what went through it ends, and the session takes other connections.
    let mut rest = vec![];
    let _ = tokio::time::timeout(Duration::from_secs(60), read.read_to_end(&mut rest)).await.expect("it did not end");
    writing.await.unwrap();
    own.online("guide").await;
    let mut stream = TcpStream::connect(port).await.unwrap();
    stream.write_all(b"again").await.unwrap();
    stream.read_exact(&mut [0; 5]).await.unwrap();
    own.event("channel-opened", "closed a connection to echo").await;
    again.kill().unwrap();
    again.wait().unwrap();
}

#[tokio::test]
async fn a_temporary_agent_leaves_nothing_behind() {
    let own = Own::start().await;
    let code = own.code_for("guest", &[]).await;
    let state = aerie_agent::enrol(&code, &EnrolOptions { temporary: true, ..EnrolOptions::default() }).await.unwrap();
    let agent: Running = tokio::spawn(aerie_agent::run(None, state, RunOptions { temporary: true, ..RunOptions::default() }));
    own.online("guest").await;
    let detail = until("facts", async || own.admin().machine("guest").await.ok().filter(|d| d.facts.is_some())).await;
    assert!(detail.agent.unwrap().temporary);
    assert!(!detail.posture.contains(&"managed".to_string()));
    agent.abort();
    until("offline", async || (own.state("guest").await == "offline").then_some(())).await;
}

#[tokio::test]
async fn the_service_proves_itself_anew_after_its_key_was_rotated() {
    let own = Own::start().await;
    let (at, line) = network(own.https).await;
    let mut state = enrolled(&own, "dome", &[], &[]).await;
    state.server = at.to_string();
    let dir = tempfile::tempdir().unwrap();
    let _agent = run(&dir, &state);
    own.online("dome").await;
    own.admin().rotate_key(&aerie_api::Rotation { purpose: "agents".into(), why: "a drill".into() }).await.unwrap();
    cut(&line);
    until("another key", async || {
        let kept = StateDir::at(Some(dir.path().join("agent"))).load().ok()?;
        (kept.service_key != state.service_key).then_some(())
    })
    .await;
    own.online("dome").await;
    // TLS is another matter: agents do not care who signed the certificate.
    own.admin().rotate_key(&aerie_api::Rotation { purpose: "tls-authority".into(), why: "a drill".into() }).await.unwrap();
    cut(&line);
    own.online("dome").await;
}

#[test]
fn an_arc_of_the_state_prints_no_secret() {
    let state = Arc::new(AgentState {
        server: "aerie.example:7443".into(),
        machine: "dome".into(),
        site: String::new(),
        key: "5e".repeat(32),
        service_key: String::new(),
        ticket: Some("secret-ticket".into()),
        allow: vec![],
        trust_file: None,
        log: None,
        lock_with: None,
    });
    let shown = format!("{state:?}");
    assert!(!shown.contains("5e5e") && !shown.contains("secret-ticket"));
}
