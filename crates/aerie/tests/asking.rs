//! Those who are asked: approvers, the person at the machine, and everybody whom an emergency concerns. Against a service of the
//! test's own, with the real agent and its page.

#![allow(clippy::unwrap_used, clippy::expect_used, clippy::panic, unreachable_pub, reason = "a test that cannot go on fails")]

mod common;

use aerie_agent::consent::{Answering, Asking, Item, State};
use aerie_agent::{RunOptions, StateDir};
use aerie_api::{CheckOutNote, DeputyView, Extension, ForwardQuery, Invited, NewAnswer, NewRequest, RequestView, StopOrder};
use aerie_client::{Client, ClientError, ListQuery, SessionQuery};
use aerie_core::factor::message::{Message, content_digest};
use common::own::{Own, Running, echo, enrolled};
use common::{http, until};
use jiff::{SignedDuration, Timestamp};
use std::net::SocketAddr;
use std::sync::{Arc, Mutex};
use tokio::io::{AsyncReadExt as _, AsyncWriteExt as _, BufReader};
use tokio::net::{TcpListener, TcpStream};
use tokio::task::JoinHandle;

const PEOPLE: &[(&str, &str, &str)] = &[
    ("lena", "administrator", ""),
    ("tove", "administrator", ""),
    ("sunniva", "technician", "scientists"),
    ("arlo", "technician", "keepers"),
    ("noor", "technician", "keepers"),
    ("piet", "technician", ""),
];

const RULES: &str = r#"
[[allow]]
name = "with-approval"
people = "group:scientists | group:keepers"
machines = "name:vault-door"
capabilities = ["forward"]
accounts = ["operator"]
approval = { from = "group:keepers", count = 1 }
limits = { session = "4h" }

[[allow]]
name = "two-keepers"
people = "group:scientists"
machines = "name:plate-store"
capabilities = ["forward"]
accounts = ["operator"]
approval = { from = "group:keepers", count = 2 }

[[allow]]
name = "with-consent"
people = "*"
machines = "name:dome"
capabilities = ["forward"]
accounts = ["operator"]
consent = "ask"

[[allow]]
name = "if-somebody-is-there"
people = "*"
machines = "name:mast"
capabilities = ["forward"]
accounts = ["operator"]
consent = "if-present"

[[allow]]
name = "free"
people = "*"
machines = "name:pier"
capabilities = ["forward"]
accounts = ["operator"]
limits = { session = "1h" }

[[allow]]
name = "in-need"
people = "person:sunniva"
machines = "name:pier"
capabilities = ["check-out"]
accounts = ["operator"]

[[allow]]
name = "help"
people = "person:arlo | person:piet"
machines = "name:workstations"
capabilities = ["view"]
accounts = ["visited"]

[[allow]]
name = "over-the-shoulder"
people = "group:keepers"
machines = "name:pier"
capabilities = ["watch"]
accounts = ["*"]
consent = "ask"
"#;

async fn service() -> Own {
    Own::with(RULES, PEOPLE).await
}

/// An agent for a machine that has an echo, and the page on which questions are answered.
struct Machine {
    _agent: Running,
    _dir: tempfile::TempDir,
    page: u16,
    /// Port of what is reached there.
    echo: u16,
}

async fn machine(own: &Own, name: &str, answered_by: &[&str]) -> Machine {
    asking(own, name, Asking { port: 0, people: answered_by.iter().map(ToString::to_string).collect(), ..Asking::default() }).await
}

async fn asking(own: &Own, name: &str, asking: Asking) -> Machine {
    let echo = echo().await;
    let state = enrolled(own, name, &[echo.to_string()], &[("echo", echo.to_string())]).await;
    let directory = tempfile::tempdir().unwrap();
    let dir = StateDir::at(Some(directory.path().join("agent")));
    dir.save(&state).unwrap();
    let (told, mut page) = tokio::sync::mpsc::unbounded_channel();
    let options = RunOptions { asking: Some(asking), page: Some(told), ..RunOptions::default() };
    let agent = tokio::spawn(aerie_agent::run(Some(dir), state, options));
    own.online(name).await;
    Machine { _agent: agent, _dir: directory, page: page.recv().await.unwrap(), echo: echo.port() }
}

impl Machine {
    fn url(&self, path: &str) -> String {
        format!("http://127.0.0.1:{}{path}", self.page)
    }

    /// The one thing that is asked or shown, once it stands so.
    async fn shows(&self, standing: &str) -> Item {
        until(&format!("a question that is {standing}"), async || {
            let state: State = http().get(self.url("/state")).send().await.ok()?.json().await.ok()?;
            state.items.into_iter().find(|i| i.standing == standing)
        })
        .await
    }

    async fn says(&self, item: &Item, act: &str) -> u16 {
        let given = Answering { id: item.id.clone(), act: act.into() };
        http().post(self.url("/answer")).json(&given).send().await.unwrap().status().as_u16()
    }
}

/// A port that is being opened to a machine's echo; whoever opens it waits where the rules want somebody to be asked.
fn opening(own: &Own, person: &str, machine: &str) -> JoinHandle<Result<SocketAddr, ClientError>> {
    let (client, machine) = (own.as_client(person), machine.to_string());
    tokio::spawn(async move {
        let query = ForwardQuery { way: "echo".into(), reason: Some("The shutter sticks.".into()), ..ForwardQuery::default() };
        let forwarding = client.forward(&machine, &query).await?;
        let listener = TcpListener::bind("127.0.0.1:0").await.unwrap();
        let at = listener.local_addr().unwrap();
        tokio::spawn(forwarding.serve(listener, |_| {}));
        Ok(at)
    })
}

async fn works(at: SocketAddr) -> TcpStream {
    works_on(TcpStream::connect(at).await.unwrap()).await
}

async fn works_on(mut stream: TcpStream) -> TcpStream {
    stream.write_all(b"here").await.unwrap();
    stream.read_exact(&mut [0; 4]).await.unwrap();
    stream
}

async fn is_over(mut stream: TcpStream) {
    let ended = tokio::time::timeout(std::time::Duration::from_secs(20), stream.read(&mut [0; 8])).await.expect("it goes on");
    assert!(matches!(ended, Ok(0) | Err(_)));
}

async fn open_request(client: &Client) -> RequestView {
    until("an open request", async || client.requests(Some("open")).await.ok()?.into_iter().find(|r| r.yours)).await
}

fn yes() -> NewAnswer {
    NewAnswer { yes: true, ..NewAnswer::default() }
}

fn wish(machine: &str) -> NewRequest {
    NewRequest {
        machines: vec![machine.into()],
        capabilities: vec!["forward".into()],
        until: Timestamp::now() + SignedDuration::from_hours(2),
        reason: "The shutter sticks.".into(),
        ..NewRequest::default()
    }
}

fn refused<T>(result: Result<T, ClientError>) -> (u16, String) {
    match result {
        Err(ClientError::Problem(p)) => (p.status, p.detail),
        Err(e) => panic!("{e}"),
        Ok(_) => panic!("it was not refused"),
    }
}

async fn last_end(own: &Own, machine: &str) -> String {
    let query = SessionQuery { machine: Some(machine.into()), limit: Some(1), ..SessionQuery::default() };
    until("an ended session", async || own.admin().sessions(&query).await.unwrap().items.into_iter().next()?.end_reason).await
}

#[tokio::test]
async fn a_session_waits_for_its_approver_and_goes_on_by_itself() {
    let own = service().await;
    let _machine = machine(&own, "vault-door", &[]).await;
    let waiting = opening(&own, "sunniva", "vault-door");
    let request = open_request(&own.as_client("arlo")).await;
    assert_eq!((request.person.as_str(), request.waiting, request.reason.as_str()), ("sunniva", true, "The shutter sticks."));
    assert_eq!(request.approvers, ["arlo", "noor"]);
    let now = own.admin().now().await.unwrap();
    assert_eq!((now.waiting.len(), now.waiting[0].request.as_deref()), (1, Some(request.id.as_str())));
    assert!(now.sentence.contains("1 waits to begin"), "{}", now.sentence);
    // With a shorter window than was asked for.
    let until_then = Timestamp::now() + SignedDuration::from_secs(3600);
    let answer = NewAnswer { until: Some(until_then), session_minutes: Some(10), ..yes() };
    assert_eq!(own.as_client("arlo").answer(&request.id, &answer).await.unwrap().state, "approved");
    let stream = works(waiting.await.unwrap().unwrap()).await;
    assert!(own.admin().now().await.unwrap().waiting.is_empty());
    let session =
        own.admin().sessions(&SessionQuery { state: Some("live".into()), ..SessionQuery::default() }).await.unwrap().items.remove(0);
    let ends = session.ends_by.unwrap().duration_since(session.began);
    assert!(ends <= SignedDuration::from_mins(10), "the approver's limit counts: {ends}");
    // The pass is good for another one without asking, until it is withdrawn: then both are over.
    let second = works(opening(&own, "sunniva", "vault-door").await.unwrap().unwrap()).await;
    let pass = own.as_client("sunniva").passes().await.unwrap().remove(0);
    assert_eq!((pass.approved_by, pass.state.as_str()), (vec!["arlo".to_string()], "good"));
    // An administrator of others has no say in it.
    let scope = aerie_api::ScopeView { people: "person:piet".into(), machines: "*".into() };
    let scoped = aerie_api::PersonChange {
        roles: Some(vec!["administrator".into()]),
        scopes: Some([("administrator".to_string(), scope)].into()),
        ..Default::default()
    };
    own.admin().change_person("piet", &scoped).await.unwrap();
    assert_eq!(refused(own.as_client("piet").withdraw_pass(&pass.id, "I say so.").await).0, 404);
    own.as_client("arlo").withdraw_pass(&pass.id, "It is done.").await.unwrap();
    is_over(stream).await;
    is_over(second).await;
    assert!(last_end(&own, "vault-door").await.contains("rules no longer allow"));
    for (kind, text) in [
        ("session-waits", "waits for"),
        ("request-changed", "approved what"),
        ("pass-changed", "has a pass"),
        ("pass-changed", "withdrew the pass"),
    ] {
        own.event(kind, text).await;
    }
}

#[tokio::test]
async fn a_refusal_and_a_withdrawn_right_end_the_wait_with_the_reason() {
    let own = service().await;
    let _machine = machine(&own, "vault-door", &[]).await;
    let waiting = opening(&own, "sunniva", "vault-door");
    let request = open_request(&own.as_client("noor")).await;
    assert_eq!(refused(own.as_client("noor").answer(&request.id, &NewAnswer::default()).await).0, 422, "a no needs a reason");
    let no = NewAnswer { why: Some("Not while the mirror is out.".into()), ..NewAnswer::default() };
    own.as_client("noor").answer(&request.id, &no).await.unwrap();
    let (status, why) = refused(waiting.await.unwrap());
    assert_eq!((status, why.as_str()), (403, "noor did not approve it: Not while the mirror is out."));
    own.event("session-not-begun", "was not approved").await;
    // Whoever loses the right while they wait is not let in by a late yes.
    let waiting = opening(&own, "sunniva", "vault-door");
    let request = open_request(&own.as_client("noor")).await;
    let keepers =
        RULES[..RULES.find("[[allow]]\nname = \"two-keepers\"").unwrap()].replace("group:scientists | group:keepers", "group:keepers");
    own.admin().publish_policy(&keepers, None).await.unwrap();
    assert!(refused(waiting.await.unwrap()).1.starts_with("No rule lets you"));
    assert_eq!(own.as_client("sunniva").request(&request.id).await.unwrap().state, "withdrawn");
}

#[tokio::test]
async fn nobody_approves_their_own_by_any_way() {
    let own = service().await;
    let _machine = machine(&own, "vault-door", &[]).await;
    let (arlo, noor, sunniva) = (own.as_client("arlo"), own.as_client("noor"), own.as_client("sunniva"));
    let mine = arlo.ask_access(&wish("vault-door")).await.unwrap();
    assert!(!mine.yours);
    assert_eq!(refused(arlo.answer(&mine.id, &yes()).await).0, 403);
    // As the deputy of somebody who may.
    let until = Timestamp::now() + SignedDuration::from_hours(10);
    noor.set_deputy(&DeputyView { person: String::new(), deputy: "arlo".into(), until }).await.unwrap();
    assert_eq!(refused(arlo.answer(&mine.id, &yes()).await).0, 403);
    // Through a deputy of one's own.
    arlo.set_deputy(&DeputyView { person: String::new(), deputy: "sunniva".into(), until }).await.unwrap();
    assert_eq!(refused(sunniva.answer(&mine.id, &yes()).await).0, 404);
    // Who is not concerned does not see it, and a program answers nothing.
    assert_eq!(refused(own.as_client("piet").answer(&mine.id, &yes()).await).0, 404);
    assert_eq!(refused(own.admin().answer(&mine.id, &yes()).await).0, 403);
    // More than was asked for.
    let more = NewAnswer { until: Some(mine.until + SignedDuration::from_hours(1)), ..yes() };
    assert_eq!(refused(noor.answer(&mine.id, &more).await).0, 422);
    // A deputy answers for another's request, once, and is named.
    let theirs = sunniva.ask_access(&wish("vault-door")).await.unwrap();
    noor.answer(&theirs.id, &yes()).await.unwrap();
    assert_eq!(refused(noor.answer(&theirs.id, &yes()).await).0, 404, "it is not open any more");
    let two = sunniva.ask_access(&wish("plate-store")).await;
    assert_eq!(refused(two).0, 422, "a machine that is not there has nothing to approve");
}

#[tokio::test]
async fn two_of_two_must_be_different_people_and_a_deputy_is_one_of_them() {
    let own = service().await;
    let _machine = machine(&own, "plate-store", &[]).await;
    let (arlo, noor) = (own.as_client("arlo"), own.as_client("noor"));
    let request = own.as_client("sunniva").ask_access(&wish("plate-store")).await.unwrap();
    assert_eq!(arlo.answer(&request.id, &yes()).await.unwrap().state, "open");
    let until = Timestamp::now() + SignedDuration::from_hours(10);
    noor.set_deputy(&DeputyView { person: String::new(), deputy: "arlo".into(), until }).await.unwrap();
    assert_eq!(refused(arlo.answer(&request.id, &yes()).await), (409, "You have answered this already.".into()));
    noor.set_deputy(&DeputyView { person: String::new(), deputy: "piet".into(), until }).await.unwrap();
    let answered = own.as_client("piet").answer(&request.id, &yes()).await.unwrap();
    assert_eq!((answered.state.as_str(), answered.answers[1].instead_of.as_str()), ("approved", "noor"));
    assert_eq!(own.as_client("sunniva").passes().await.unwrap()[0].approved_by, ["arlo", "noor"]);
    // What a removed machine leaves behind opens nothing.
    own.admin().retire_machine("plate-store", "gone").await.unwrap();
    assert!(opening(&own, "sunniva", "plate-store").await.unwrap().is_err());
}

#[tokio::test]
async fn an_approval_of_one_port_opens_no_other() {
    let own = service().await;
    let door = machine(&own, "vault-door", &[]).await;
    let (sunniva, arlo) = (own.as_client("sunniva"), own.as_client("arlo"));
    // A port that is named before, and not the one that is opened.
    let other = NewRequest { target: Some("localhost:1".into()), ..wish("vault-door") };
    let request = sunniva.ask_access(&other).await.unwrap();
    assert!(request.sentence.contains("forward to localhost:1 on vault-door"), "{}", request.sentence);
    arlo.answer(&request.id, &yes()).await.unwrap();
    let waiting = opening(&own, "sunniva", "vault-door");
    let request = open_request(&arlo).await;
    assert_eq!(request.target, Some(format!("localhost:{}", door.echo)), "{}", request.sentence);
    arlo.answer(&request.id, &yes()).await.unwrap();
    works(waiting.await.unwrap().unwrap()).await;
    // Its pass stands for it from now on, however the port is written.
    works(opening(&own, "sunniva", "vault-door").await.unwrap().unwrap()).await;
    let passes = sunniva.passes().await.unwrap();
    let sentences: Vec<&str> = passes.iter().map(|p| p.sentence.split(" until").next().unwrap()).collect();
    let told = |port: u16| format!("sunniva may use forward to localhost:{port} on vault-door");
    assert_eq!(sentences, [told(door.echo), told(1)]);
    // What is no port of any machine, or no port at all, is not asked for.
    for target in ["localhost", "localhost:0", "0x7f000001:22"] {
        let wrong = NewRequest { target: Some(target.into()), ..wish("vault-door") };
        assert_eq!(refused(sunniva.ask_access(&wrong).await).0, 422, "{target}");
    }
    let unused = NewRequest { target: Some("localhost:1".into()), capabilities: vec!["shell".into()], ..wish("vault-door") };
    assert_eq!(refused(sunniva.ask_access(&unused).await).0, 422);
}

#[tokio::test]
async fn the_person_at_the_machine_agrees_and_takes_it_back() {
    let own = service().await;
    let me = whoami();
    let dome = machine(&own, "dome", &[&me]).await;
    let waiting = opening(&own, "sunniva", "dome");
    let question = dome.shows("asked").await;
    assert_eq!(
        (question.who.as_str(), question.reason.as_str(), question.does.as_str()),
        ("sunniva", "The shutter sticks.", format!("forward a port to localhost:{} through this computer", dome.echo).as_str())
    );
    // A page of another site, by name and by origin.
    let given = Answering { id: question.id.clone(), act: "agree".into() };
    let foreign = http().post(dome.url("/answer")).header("origin", "https://evil.example").json(&given).send().await.unwrap();
    let rebound = http().post(dome.url("/answer")).header("host", "evil.example").json(&given).send().await.unwrap();
    assert_eq!((foreign.status().as_u16(), rebound.status().as_u16()), (403, 403));
    assert_eq!(dome.says(&question, "agree").await, 200);
    assert_eq!(dome.says(&question, "agree").await, 409, "an answer is given once");
    let stream = works(waiting.await.unwrap().unwrap()).await;
    let agreed = own.event("consent", &format!("agreed that sunniva may forward a port to localhost:{} through dome", dome.echo)).await;
    assert_eq!((agreed.data["account"].as_str(), agreed.data["answer"].as_str()), (Some(me.as_str()), Some("agreed")));
    let live = dome.shows("live").await;
    let began = std::time::Instant::now();
    assert_eq!(dome.says(&live, "stop").await, 200);
    is_over(stream).await;
    println!("taken back after {:?}", began.elapsed());
    assert_eq!(last_end(&own, "dome").await, "because the person at the machine agrees no longer");
    // No is no.
    let waiting = opening(&own, "sunniva", "dome");
    let question = dome.shows("asked").await;
    dome.says(&question, "refuse").await;
    assert_eq!(refused(waiting.await.unwrap()).1, "The person at dome did not agree.");
    own.event("session-not-begun", "did not agree").await;
}

fn whoami() -> String {
    let out = std::process::Command::new("id").arg("-un").output().unwrap();
    String::from_utf8(out.stdout).unwrap().trim().into()
}

#[tokio::test]
async fn no_answer_is_a_no_and_somebody_else_cannot_give_one() {
    let own = service().await;
    own.set("consent-seconds", "10").await;
    // Only `nobody` may answer here, and that is not whom this test runs as.
    let dome = machine(&own, "dome", &["nobody"]).await;
    let waiting = opening(&own, "sunniva", "dome");
    let question = dome.shows("asked").await;
    assert_eq!(dome.says(&question, "agree").await, 403);
    assert!(refused(waiting.await.unwrap()).1.contains("no answer is a no"));
    own.event("session-not-begun", "nobody answered in time").await;
    // Too late: it is not even shown any more.
    until("no question", async || {
        let state: State = http().get(dome.url("/state")).send().await.ok()?.json().await.ok()?;
        state.items.is_empty().then_some(())
    })
    .await;
    // Where nobody can be asked at all, nobody agreed.
    let dark = opening(&own, "sunniva", "mast");
    assert!(dark.await.unwrap().is_err());
}

#[tokio::test]
async fn nobody_agrees_from_an_account_that_whoever_asks_may_use() {
    // Piet may work in the account that answers here: under any demand, at any hour, on any day.
    let rule = format!(
        "\n[[allow]]\nname = \"works-there\"\npeople = \"person:piet\"\nmachines = \"name:dome\"\ncapabilities = [\"exec\"]\n\
         accounts = [\"{}\"]\nlast_day = 2026-01-01\n",
        whoami()
    );
    let own = Own::with(&(RULES.to_string() + &rule), PEOPLE).await;
    let dome = machine(&own, "dome", &[&whoami()]).await;
    let waiting = opening(&own, "piet", "dome");
    dome.says(&dome.shows("asked").await, "agree").await;
    let why = refused(waiting.await.unwrap()).1;
    assert_eq!(
        why,
        format!(
            "An answer from {} does not count: you use this account on dome, may use it, or control its screen. Another user of dome must answer.",
            whoami()
        )
    );
    let waiting = opening(&own, "sunniva", "dome");
    dome.says(&dome.shows("asked").await, "agree").await;
    works(waiting.await.unwrap().unwrap()).await;
}

#[tokio::test]
async fn a_program_answers_where_the_administrator_wants_it_so() {
    let own = service().await;
    let directory = tempfile::tempdir().unwrap();
    let program = directory.path().join("answer");
    let script = "#!/bin/sh\nread -r question\ncase $question in *'\"person\":\"sunniva\"'*) echo '{\"answer\":\"agree\",\"account\":\"desk\"}';; *) echo '{\"answer\":\"no\"}';; esac\n";
    std::fs::write(&program, script).unwrap();
    std::fs::set_permissions(&program, std::os::unix::fs::PermissionsExt::from_mode(0o755)).unwrap();
    let _dome = asking(&own, "dome", Asking { port: 0, program: Some(program), ..Asking::default() }).await;
    works(opening(&own, "sunniva", "dome").await.unwrap().unwrap()).await;
    let event = own.event("consent", "agreed that sunniva").await;
    assert!(event.data["console"].as_str().unwrap().starts_with("program "));
    assert_eq!(refused(opening(&own, "piet", "dome").await.unwrap()).1, "The person at dome did not agree.");
}

#[tokio::test]
async fn stopping_everything_ends_it_with_the_reason_and_a_lockdown_keeps_others_out() {
    let own = service().await;
    let _pier = machine(&own, "pier", &[]).await;
    let mut streams = vec![];
    for person in ["sunniva", "piet", "noor"] {
        streams.push(works(opening(&own, person, "pier").await.unwrap().unwrap()).await);
    }
    let admin = own.as_client("lena");
    let why = || "Lightning on the ridge.".to_string();
    let order = |person: &str| StopOrder { person: Some(person.into()), why: why(), ..StopOrder::default() };
    assert_eq!(refused(own.as_client("piet").stop(&order("noor")).await).0, 403);
    assert_eq!(refused(admin.stop(&StopOrder { why: why(), ..StopOrder::default() }).await).0, 422);
    assert_eq!(admin.stop(&order("sunniva")).await.unwrap().ended, 1);
    is_over(streams.remove(0)).await;
    let note = CheckOutNote { reason: "the gateway is down".into(), ticket: None };
    let check_out = async || refused(own.as_client("sunniva").check_out("pier", "operator", &note).await);
    assert_eq!(check_out().await.0, 404, "the rules let her, and nothing is kept");
    admin.lock_down("Lightning on the ridge.").await.unwrap();
    let (status, said) = check_out().await;
    assert!(status == 403 && said.ends_with("the service is locked down."), "{status} {said}");
    let said = refused(opening(&own, "sunniva", "pier").await.unwrap()).1;
    assert!(said.starts_with("You may not forward ports through pier to localhost:"), "{said}");
    assert!(said.ends_with(" now: the service is locked down."), "{said}");
    works_still(&mut streams[0]).await;
    assert!(own.admin().now().await.unwrap().sentence.starts_with("The service is locked down."));
    assert_eq!(admin.stop(&StopOrder { all: Some(true), why: why(), ..StopOrder::default() }).await.unwrap().ended, 2);
    for stream in streams {
        is_over(stream).await;
    }
    // A second person must open it, where it is set so.
    own.set("lift-alone", "no").await;
    assert_eq!(refused(admin.lift("It is over.").await).0, 403);
    own.as_client("tove").lift("It is over.").await.unwrap();
    works(opening(&own, "sunniva", "pier").await.unwrap().unwrap()).await;
    own.event("stopped", "ended every session (2 sessions): Lightning").await;
}

async fn works_still(stream: &mut TcpStream) {
    stream.write_all(b"more").await.unwrap();
    stream.read_exact(&mut [0; 4]).await.unwrap();
}

#[tokio::test]
async fn more_time_is_given_by_others_alone() {
    let own = service().await;
    let _pier = machine(&own, "pier", &[]).await;
    let _stream = works(opening(&own, "piet", "pier").await.unwrap().unwrap()).await;
    let live = SessionQuery { state: Some("live".into()), ..SessionQuery::default() };
    let session = own.admin().sessions(&live).await.unwrap().items.remove(0);
    let more = Extension { minutes: 30, why: "The exposure runs.".into() };
    assert_eq!(refused(own.as_client("piet").extend_session(&session.id, &more).await).0, 403);
    assert_eq!(refused(own.as_client("noor").extend_session(&session.id, &more).await).0, 404);
    own.as_client("lena").extend_session(&session.id, &more).await.unwrap();
    until("a later end", async || {
        let now = own.admin().session(&session.id).await.unwrap();
        (now.ends_by?.duration_since(now.began) > SignedDuration::from_mins(89)).then_some(())
    })
    .await;
    assert_eq!(refused(own.as_client("piet").invite_into(&session.id, &Invited { person: "piet".into(), control: true }).await).0, 422);
    assert_eq!(refused(own.as_client("noor").invite_into(&session.id, &Invited { person: "arlo".into(), control: true }).await).0, 404);
}

#[tokio::test]
async fn a_guest_who_loses_the_right_sees_no_more() {
    let own = service().await;
    let _pier = machine(&own, "pier", &[]).await;
    let mut stream = works(opening(&own, "piet", "pier").await.unwrap().unwrap()).await;
    let live = SessionQuery { state: Some("live".into()), ..SessionQuery::default() };
    let session = own.admin().sessions(&live).await.unwrap().items.remove(0);
    let (lines, mut seen) = tokio::sync::mpsc::unbounded_channel();
    let watching = |person: &str| {
        let (client, id, lines) = (own.as_client(person), session.id.clone(), lines.clone());
        tokio::spawn(async move { client.watch_live(&id, |line| lines.send((line.kind, line.sentence.unwrap_or_default())).is_ok()).await })
    };
    // Whom nobody invited may not look: the rule wants the consent of whoever is watched.
    watching("arlo").await.unwrap().unwrap();
    assert_eq!(seen.recv().await.unwrap().0, "refused");
    let there = own.as_client("piet").invite_into(&session.id, &Invited { person: "arlo".into(), control: false }).await.unwrap();
    assert_eq!(there.guests.len(), 1);
    let guest = watching("arlo");
    assert_eq!(seen.recv().await.unwrap().0, "people");
    own.event("session-joined", "arlo watches the session of piet").await;
    // What they were not given they cannot take, whoever asks for it.
    assert_eq!(refused(own.as_client("arlo").keyboard(&session.id, Some("arlo")).await).0, 403);
    assert_eq!(refused(own.as_client("arlo").type_into(&session.id, 1, "rm").await).0, 403);
    let free = RULES.split("[[allow]]").find(|r| r.contains("\"free\"")).unwrap();
    own.admin().publish_policy(&format!("[[allow]]{free}"), None).await.unwrap();
    guest.await.unwrap().unwrap();
    let mut last = seen.recv().await.unwrap();
    while last.0 == "people" {
        last = seen.recv().await.unwrap();
    }
    assert_eq!(last.0, "refused");
    own.event("session-joined", "arlo watches no longer").await;
    works_still(&mut stream).await;
}

#[tokio::test]
async fn five_hundred_wait_at_once_and_one_answer_lets_them_all_in() {
    let own = service().await;
    let _machine = machine(&own, "vault-door", &[]).await;
    let waiting: Vec<_> = (0..500).map(|_| opening(&own, "sunniva", "vault-door")).collect();
    until("five hundred that wait", async || (own.admin().now().await.ok()?.waiting.len() == 500).then_some(())).await;
    let request = open_request(&own.as_client("noor")).await;
    own.as_client("noor").answer(&request.id, &yes()).await.unwrap();
    for one in waiting {
        one.await.unwrap().unwrap();
    }
    assert!(own.admin().now().await.unwrap().waiting.is_empty());
}

#[tokio::test]
async fn a_machine_that_is_retired_is_waited_for_no_longer() {
    let own = service().await;
    let _machine = machine(&own, "vault-door", &[]).await;
    let waiting = opening(&own, "sunniva", "vault-door");
    let request = open_request(&own.as_client("noor")).await;
    own.admin().retire_machine("vault-door", "taken away").await.unwrap();
    assert!(waiting.await.unwrap().is_err());
    assert_ne!(own.as_client("sunniva").request(&request.id).await.unwrap().state, "open");
    assert!(refused(own.as_client("noor").answer(&request.id, &yes()).await).0 >= 400);
}

#[tokio::test]
async fn what_waits_when_the_service_is_killed_is_told_and_can_be_answered_afterwards() {
    let mut own = service().await;
    let _machine = machine(&own, "vault-door", &[]).await;
    let waiting: Vec<_> = (0..10).map(|_| opening(&own, "sunniva", "vault-door")).collect();
    until("ten that wait", async || (own.admin().now().await.ok()?.waiting.len() == 10).then_some(())).await;
    // Ten sessions of one person for one thing are one request.
    assert_eq!(own.as_client("arlo").requests(Some("open")).await.unwrap().len(), 1);
    own.kill().await;
    for one in waiting {
        assert!(one.await.unwrap().is_err());
    }
    own.child = Own::run(own.directory.path(), own.https);
    own.up().await;
    assert!(own.admin().now().await.unwrap().waiting.is_empty());
    let query = ListQuery { kind: Some("session-not-begun".into()), limit: Some(50), ..ListQuery::default() };
    let told = own.admin().log(&query).await.unwrap().items;
    assert_eq!(told.iter().filter(|e| e.sentence.contains("stopped unexpectedly")).count(), 10);
    // The request itself waits on: the pass is there when the person comes again.
    let request = open_request(&own.as_client("arlo")).await;
    own.as_client("arlo").answer(&request.id, &yes()).await.unwrap();
    own.online("vault-door").await;
    works(opening(&own, "sunniva", "vault-door").await.unwrap().unwrap()).await;
}

/// A mail server that takes everything (RFC 5321), and refuses while it is told to.
async fn mail_sink() -> (SocketAddr, Arc<Mutex<Vec<String>>>, tokio::sync::watch::Sender<bool>) {
    let listener = TcpListener::bind("127.0.0.1:0").await.unwrap();
    let at = listener.local_addr().unwrap();
    let mails = Arc::new(Mutex::new(vec![]));
    let (down, is_down) = tokio::sync::watch::channel(false);
    let kept = mails.clone();
    tokio::spawn(async move {
        loop {
            let (stream, _) = listener.accept().await.unwrap();
            if *is_down.borrow() {
                continue;
            }
            let kept = kept.clone();
            tokio::spawn(async move { aerie::demo::sink::take_mail(BufReader::new(stream), |mail| kept.lock().unwrap().push(mail)).await });
        }
    });
    (at, mails, down)
}

#[tokio::test]
async fn notices_wait_for_a_mail_server_that_is_down_and_come_once() {
    let own = service().await;
    let (at, mails, down) = mail_sink().await;
    own.set("mail-server", &format!("smtp://{at}")).await;
    own.set("mail-from", "Aerie <aerie@corvid.example>").await;
    let _machine = machine(&own, "vault-door", &[]).await;
    down.send_replace(true);
    let request = own.as_client("sunniva").ask_access(&wish("vault-door")).await.unwrap();
    until("a notice that failed", async || own.admin().notices().await.ok()?.iter().any(|n| n.tries > 0).then_some(())).await;
    assert!(own.admin().now().await.unwrap().backlog.notices_failing > 0);
    assert!(mails.lock().unwrap().is_empty());
    down.send_replace(false);
    until("no notice that waits", async || own.admin().notices().await.ok()?.iter().all(|n| n.sent.is_some()).then_some(())).await;
    let mails = mails.lock().unwrap().clone();
    assert_eq!(mails.len(), 2, "one for each approver, and each once: {mails:#?}");
    assert!(mails.iter().all(|m| m.contains("sunniva asks for forward to any port that the rules allow on vault-door")
        && m.contains(&request.id)
        && m.contains("Message-ID: <")));
}

#[tokio::test]
async fn what_waits_to_be_sent_is_encrypted_and_forgotten_when_it_was_sent() {
    let own = service().await;
    let (at, mails, down) = mail_sink().await;
    own.set("mail-server", &format!("smtp://{at}")).await;
    own.set("mail-from", "Aerie <aerie@corvid.example>").await;
    down.send_replace(true);
    assert!(own.admin().invite("piet").await.unwrap().mailed);
    until("a notice that failed", async || own.admin().notices().await.ok()?.iter().any(|n| n.tries > 0).then_some(())).await;
    // The log that SQLite writes first is one of the files.
    let files = || std::fs::read_dir(own.directory.path()).unwrap().map(|f| f.unwrap().path()).filter(|p| p.is_file());
    let found = |text: &str| files().any(|p| String::from_utf8_lossy(&std::fs::read(p).unwrap()).contains(text));
    assert!(found("Your invitation to") && !found("/welcome#"));
    down.send_replace(false);
    until("no notice that waits", async || own.admin().notices().await.ok()?.iter().all(|n| n.sent.is_some()).then_some(())).await;
    assert!(mails.lock().unwrap()[0].contains("/welcome#"));
    let store = aerie_store::Store::open(&own.directory.path().join("aerie.db")).await.unwrap();
    assert!(store.notices(10).await.unwrap().iter().all(|n| n.sealed.is_empty()));
    store.close().await;
}

#[tokio::test]
async fn a_webhook_is_signed_with_the_key_that_signs_the_log() {
    let own = service().await;
    let listener = TcpListener::bind("127.0.0.1:0").await.unwrap();
    let at = listener.local_addr().unwrap();
    own.set("webhook", &format!("http://{at}/hook?from=aerie")).await;
    let _machine = machine(&own, "vault-door", &[]).await;
    own.as_client("sunniva").ask_access(&wish("vault-door")).await.unwrap();
    let (stream, _) = listener.accept().await.unwrap();
    let aerie::demo::sink::Hook { line, headers, body } = aerie::demo::sink::take_hook(&mut BufReader::new(stream)).await.unwrap();
    assert_eq!(line, "POST /hook?from=aerie HTTP/1.1");
    assert_eq!(headers["content-digest"], content_digest(body.as_bytes()));
    let key = own.admin().verify_log().await.unwrap().public_keys.remove(0);
    let key: [u8; 32] = aerie_core::evidence::unhex(&key).unwrap().try_into().unwrap();
    let authority = at.to_string();
    let message = Message {
        method: "POST",
        authority: &authority,
        path: "/hook",
        query: "from=aerie",
        authorization: "",
        content_digest: Some(&headers["content-digest"]),
    };
    let nonce = message.verify(&headers["signature-input"], &headers["signature"], &key, Timestamp::now()).unwrap();
    assert_eq!(nonce, headers["idempotency-key"]);
    let body: serde_json::Value = serde_json::from_str(&body).unwrap();
    assert_eq!((body["kind"].as_str(), body["people"].as_array().map(Vec::len)), (Some("asked"), Some(2)));
}

#[tokio::test]
async fn whoever_sits_at_a_managed_machine_is_helped_there_after_typing_the_pin_on_its_own_page() {
    let own = service().await;
    let dome = machine(&own, "dome", &["root"]).await;
    let labels = aerie_api::MachineChange {
        accounts: Some(vec!["visited".into()]),
        labels: Some(vec!["visits".into()]),
        ..aerie_api::MachineChange::default()
    };
    own.admin().add_machine(&aerie_api::NewMachine { name: "workstations".into(), about: labels }).await.unwrap();
    let arlo = own.as_client("arlo");
    let asked = aerie_api::NewVisit { person: "Rhea Calder".into(), reason: "The slit".into(), ..aerie_api::NewVisit::default() };
    let made = arlo.make_visit(&asked).await.unwrap();
    let typed = async |pin: &str| {
        let sent = http().post(dome.url("/pin")).json(&serde_json::json!({ "pin": pin })).send().await.unwrap();
        (sent.status().as_u16(), sent.text().await.unwrap())
    };
    assert_eq!(typed("12345678").await, (401, "That PIN is not right, was used, or is over. Ask for another.\n".into()));
    assert_eq!(typed(&"1".repeat(50)).await.0, 400);
    let (status, text) = typed(&made.pin).await;
    assert_eq!((status, text.starts_with("arlo knows that you are here.")), (200, true), "{text}");
    assert_eq!(typed(&made.pin).await.0, 401, "it is used up");
    let visit = arlo.visit(&made.visit.id).await.unwrap();
    assert_eq!((visit.device.get("machine").map(String::as_str), visit.arrived.is_some()), (Some("dome"), true));

    // What Arlo does there is asked there, and belongs to the visit; what others do does not.
    let other = opening(&own, "piet", "dome");
    dome.says(&dome.shows("asked").await, "agree").await;
    let theirs = works(other.await.unwrap().unwrap()).await;
    let waiting = opening(&own, "arlo", "dome");
    dome.says(&dome.shows("asked").await, "agree").await;
    let stream = works(waiting.await.unwrap().unwrap()).await;
    let visit =
        until("the session of the visit", async || Some(arlo.visit(&made.visit.id).await.ok()?).filter(|v| v.state == "active")).await;
    assert_eq!(visit.sessions.len(), 1);
    assert_eq!(own.admin().session(&visit.sessions[0]).await.unwrap().person, "arlo");
    // Whoever takes it over has it alone: what Arlo began for it is over, what Piet did besides goes on.
    let piet = own.as_client("piet");
    piet.pick_up_visit(&visit.id).await.unwrap();
    is_over(stream).await;
    let theirs = works_on(theirs).await;
    let waiting = opening(&own, "piet", "dome");
    dome.says(&dome.shows("asked").await, "agree").await;
    let stream = works(waiting.await.unwrap().unwrap()).await;
    piet.close_visit(&visit.id, &aerie_api::CloseVisit { outcome: "solved".into(), notes: String::new() }).await.unwrap();
    is_over(stream).await;
    drop(works_on(theirs).await);
    let record = arlo.visit_record(&visit.id).await.unwrap();
    assert_eq!((record["device"]["machine"].as_str(), record["sessions"].as_array().map(Vec::len)), (Some("dome"), Some(2)));
    own.event("visit-changed", "Rhea Calder is at dome").await;
    let log =
        serde_json::to_string(&own.admin().log(&ListQuery { limit: Some(500), ..ListQuery::default() }).await.unwrap().items).unwrap();
    assert!(!log.contains(&made.pin));
    let kept = std::fs::read_to_string(dome._dir.path().join("agent/agent.log")).unwrap();
    assert!(!kept.contains(&made.pin), "nor does the agent's own log have it");
}
