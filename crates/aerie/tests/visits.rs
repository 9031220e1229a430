//! Visits: a person with a PIN and no account, whoever helps, and the ticket desk.

#![allow(clippy::unwrap_used, clippy::expect_used, clippy::panic, unreachable_pub, dead_code, reason = "a test that cannot go on fails")]

mod common;

use aerie::demo::desk::{Desk, Incident, Started};
use aerie_api::{
    CloseVisit, FromViewer, FromVisited, GivenPin, HelpAsked, NewMachine, NewVisit, ProgramState, ToViewer, ToVisited, VisitPass,
    VisitQuery,
};
use aerie_client::{Client, ClientError, FromService, VisitedLink};
use aerie_core::desktop::Message;
use aerie_service::Keys;
use base64::Engine as _;
use base64::engine::general_purpose::STANDARD;
use common::own::Own;
use common::screen::{Screen, Way};
use common::until;
use common::viewer::{Viewer, keeps_a_line, line_in};

const RULES: &str = r#"
[[allow]]
name = "desk"
people = "group:desk"
machines = "label:visits & !name:optics"
capabilities = ["view", "control", "clipboard-in", "clipboard-out", "upload", "download", "shell"]
accounts = ["visited"]
consent = "ask"
recording = true

[[allow]]
name = "opticians"
people = "group:opticians"
machines = "name:optics"
capabilities = ["view"]
accounts = ["visited"]
consent = "ask"
"#;

const PEOPLE: [(&str, &str, &str); 4] =
    [("lena", "administrator", ""), ("mira", "technician", "desk"), ("nils", "technician", "desk opticians"), ("jun", "technician", "")];

async fn service() -> Own {
    let own = Own::with(RULES, &PEOPLE).await;
    for queue in ["workstations", "optics"] {
        let about = aerie_api::MachineChange {
            accounts: Some(vec!["visited".into()]),
            labels: Some(vec!["visits".into()]),
            note: Some(format!("Help with {queue}")),
            ..aerie_api::MachineChange::default()
        };
        own.admin().add_machine(&NewMachine { name: queue.into(), about }).await.unwrap();
    }
    own
}

fn new_visit() -> NewVisit {
    NewVisit { person: "Rhea Calder".into(), reason: "Stripes".into(), ticket: "OBS-2101".into(), ..NewVisit::default() }
}

async fn enter(own: &Own, visit: &str, pin: &str) -> Result<VisitPass, ClientError> {
    let given = GivenPin { pin: pin.into(), visit: Some(visit.into()) };
    own.client("").enter_pin(&given).await.map(|taken| taken.pass.unwrap())
}

/// Whoever is helped.
struct Person {
    link: VisitedLink,
    told: Vec<ToVisited>,
}

impl Person {
    async fn open(own: &Own, pass: &VisitPass) -> Self {
        Self { link: own.client("").visit_page(pass).await.unwrap(), told: vec![] }
    }

    async fn until(&mut self, what: &str, good: impl Fn(&ToVisited) -> bool) -> ToVisited {
        let waiting = async {
            loop {
                let told = self.link.next().await.unwrap_or_else(|| panic!("gone before: {what}; {:?}", self.told));
                self.told.push(told.clone());
                if good(&told) {
                    return told;
                }
            }
        };
        tokio::time::timeout(std::time::Duration::from_secs(20), waiting).await.unwrap_or_else(|_| panic!("never came: {what}"))
    }

    /// Answers the question that they saw last.
    async fn agree(&mut self, words: &[&str]) {
        let question =
            self.told.iter().rev().find_map(|t| if let ToVisited::Standing { question, .. } = t { Some(*question) } else { None });
        let allow = words.iter().map(|w| (*w).to_string()).collect();
        assert!(self.link.say(&FromVisited::Answer { question: question.unwrap_or(0), allow }).await);
    }

    async fn consent(&mut self, capability: &str, allow: bool) {
        let seen = |t: &ToVisited| if let ToVisited::Standing { wants_question, .. } = t { Some(*wants_question) } else { None };
        let question = self.told.iter().rev().find_map(seen).unwrap_or(0);
        self.link.say(&FromVisited::Consent { question, capability: capability.into(), allow }).await;
    }

    async fn share(&mut self) {
        assert!(self.link.say(&FromVisited::Film { codec: "vp8".into(), width: 64, height: 64 }).await);
    }
}

fn stands(state: &'static str) -> impl Fn(&ToVisited) -> bool {
    move |t| matches!(t, ToVisited::Standing { state: s, .. } if s == state)
}

fn is_refused(result: Result<impl std::fmt::Debug, ClientError>, text: &str) {
    let e = result.expect_err(text).to_string();
    assert!(e.contains(text), "{e}");
}

/// Looks at what is shared.
async fn look(client: &Client, visit: &str) -> (aerie_client::DesktopLink, String) {
    let mut link = client.visit_screen(visit).await.unwrap();
    link.say(&FromViewer::Begin { reason: String::new(), ticket: String::new() }).await;
    loop {
        match link.next().await.expect("the service went away") {
            FromService::Told(ToViewer::Began { session, own, .. }) => {
                assert!(own);
                return (link, session);
            }
            FromService::Told(ToViewer::Refused { text, .. }) => panic!("{text}"),
            _ => {}
        }
    }
}

async fn next_message(link: &mut aerie_client::DesktopLink, good: impl Fn(&Message) -> bool) -> Message {
    loop {
        match link.next().await.expect("the service went away") {
            FromService::Picture(_, message, _) if good(&message) => return message,
            _ => {}
        }
    }
}

#[tokio::test(flavor = "multi_thread")]
async fn a_visit_goes_from_an_incident_to_its_record_there() {
    let own = service().await;
    let keys = Keys::load(own.directory.path()).unwrap();
    let desk = Desk::start(keys.checkpoint_key().unwrap().verifying_key().to_bytes()).await.unwrap();
    own.set("ticket-desk", &desk.records()).await;
    desk.connect(own.as_client("mira"));
    let http = reqwest::Client::new();
    let started: Started =
        http.post(format!("http://{}/incidents/OBS-2101/visit", desk.address)).send().await.unwrap().json().await.unwrap();
    assert!(started.link.ends_with(&format!("/visit/{}", started.visit)) && !started.link.contains(&started.pin));
    let mira = own.as_client("mira");
    assert_eq!(mira.visit(&started.visit).await.unwrap().person, "Rhea Calder");

    is_refused(enter(&own, &started.visit, "00000000").await, "PIN");
    let pass = enter(&own, &started.visit, &started.pin).await.unwrap();
    is_refused(enter(&own, &started.visit, &started.pin).await, "PIN");
    let mut rhea = Person::open(&own, &pass).await;
    let standing = rhea.until("who asks", stands("waiting")).await;
    let ToVisited::Standing { helper, reason, asks, recorded, agreed, .. } = standing else { panic!("{standing:?}") };
    assert_eq!(
        (helper.as_str(), reason.as_str(), asks, recorded, agreed),
        ("mira", "The plotter prints stripes", vec!["view".to_string()], true, None)
    );
    is_refused(mira.visit_screen(&started.visit).await.map(drop), "did not agree yet");

    rhea.agree(&["view", "control"]).await;
    rhea.until("what she agreed to", |t| matches!(t, ToVisited::Standing { agreed: Some(a), .. } if *a == ["view"])).await;
    rhea.share().await;
    let (mut link, session) = look(&mira, &started.visit).await;
    rhea.until("a wish for a whole picture", |t| *t == ToVisited::Key).await;
    link.say(&FromViewer::Refresh).await;
    rhea.until("the wish again, of whoever sees nothing", |t| *t == ToVisited::Key).await;
    rhea.link.film(false, 1, b"not a whole one").await;
    rhea.link.film(true, 2, b"a whole picture").await;
    next_message(&mut link, |m| matches!(m, Message::Film { width: 64, .. })).await;
    let piece = next_message(&mut link, |m| matches!(m, Message::Piece { key: true, .. })).await;
    assert_eq!(piece, Message::Piece { key: true, at_us: 2, data: b"a whole picture".to_vec() });
    rhea.until("that she is watched", |t| matches!(t, ToVisited::Standing { watched: true, .. })).await;
    link.say(&FromViewer::Say("hello".into())).await;
    rhea.until("what Mira says", |t| matches!(t, ToVisited::Said { text, .. } if text == "hello")).await;
    rhea.link.say(&FromVisited::Say("my password is 1234".into())).await;
    next_message(&mut link, |m| matches!(m, Message::Said { text, .. } if text.contains("1234"))).await;
    link.say(&FromViewer::Line(vec![(1, 1), (9, 9)])).await;
    rhea.until("where Mira points", |t| matches!(t, ToVisited::Line { points } if points.len() == 2)).await;
    // What can be done with film is to look at it.
    link.say(&FromViewer::Ask("control".into())).await;
    mira.note_visit(&started.visit, "ribbon").await.unwrap();
    let png = [&b"\x89PNG\r\n\x1a\n"[..], &[0; 40]].concat();
    let kept = mira.keep_visit_picture(&started.visit, png.clone()).await.unwrap();
    assert_eq!(mira.visit_picture(&started.visit, &kept.pictures[0].id).await.unwrap(), png);
    is_refused(mira.keep_visit_picture(&started.visit, b"<svg>".to_vec()).await, "PNG");
    assert_eq!(own.admin().session(&session).await.unwrap().uses, ["view"]);

    mira.close_visit(&started.visit, &CloseVisit { outcome: "solved".into(), notes: "Seat the ribbon.".into() }).await.unwrap();
    rhea.until("the end", |t| matches!(t, ToVisited::Over { .. })).await;
    let ended = own.event("session-ended", "workstations").await;
    assert!(ended.sentence.contains("mira"), "{ended:?}");
    let record = until("the record on the incident", async || {
        let all: Vec<Incident> = http.get(format!("http://{}/incidents", desk.address)).send().await.ok()?.json().await.ok()?;
        let notes = all.into_iter().find(|i| i.number == "OBS-2101")?.work_notes;
        notes.iter().find_map(|n| serde_json::from_str::<serde_json::Value>(n).ok())
    })
    .await;
    assert_eq!((record["outcome"].as_str(), record["sessions"][0].as_str()), (Some("solved"), Some(session.as_str())));
    assert_eq!((record["notes"][0]["text"].as_str(), record["pictures"].as_array().map(Vec::len)), (Some("ribbon"), Some(1)));
    assert!(!record.to_string().contains("1234"), "what was said stays: {record}");
    assert_eq!(mira.visit_record(&started.visit).await.unwrap(), record, "the same can be fetched");
    is_refused(mira.close_visit(&started.visit, &CloseVisit { outcome: "solved".into(), notes: String::new() }).await, "closed");
    assert!(own.admin().verify_recording(&session).await.unwrap().holds);
    // The PIN is nowhere: not in the log, not in the list.
    let log =
        serde_json::to_string(&own.admin().log(&aerie_client::ListQuery { limit: Some(500), ..Default::default() }).await.unwrap().items)
            .unwrap();
    assert!(!log.contains(&started.pin) && !log.contains(&pass.token));
}

#[tokio::test(flavor = "multi_thread")]
async fn whoever_asks_for_help_waits_is_picked_up_and_may_refuse() {
    let own = service().await;
    let (mira, nils) = (own.as_client("mira"), own.as_client("nils"));
    let asked = |person: &str| HelpAsked { person: person.into(), mail: String::new(), reason: "Spectra".into() };
    is_refused(own.client("").ask_for_help("nowhere", &asked("Tobin Ash")).await, "no such queue");
    let pass = own.client("").ask_for_help("workstations", &asked("Tobin Ash")).await.unwrap();
    let other = own.client("").ask_for_help("workstations", &asked("Orla Finn")).await.unwrap();
    let mut tobin = Person::open(&own, &pass).await;
    let mut orla = Person::open(&own, &other).await;
    tobin.until("a place in the queue", |t| matches!(t, ToVisited::Standing { before: 0, helper, .. } if helper.is_empty())).await;
    orla.until("one before her", |t| matches!(t, ToVisited::Standing { before: 1, .. })).await;
    // A token opens its own visit alone.
    let mut stranger = Person::open(&own, &VisitPass { visit: other.visit.clone(), token: pass.token.clone() }).await;
    stranger.until("that it is not hers", |t| matches!(t, ToVisited::Over { .. })).await;

    // Only those see it whom the rules let help there.
    is_refused(own.as_client("jun").visit(&pass.visit).await, "no such visit");
    assert!(own.as_client("jun").visits(&VisitQuery::default()).await.unwrap().is_empty());
    is_refused(own.as_client("jun").pick_up_visit(&pass.visit).await, "no such visit");
    assert_eq!(mira.queues().await.unwrap().iter().map(|q| (q.name.as_str(), q.waiting)).collect::<Vec<_>>(), [("workstations", 2)]);
    mira.pick_up_visit(&pass.visit).await.unwrap();
    orla.until("nobody before her", |t| matches!(t, ToVisited::Standing { before: 0, .. })).await;
    tobin.until("who helps", |t| matches!(t, ToVisited::Standing { helper, .. } if helper == "mira")).await;
    mira.reassign_visit(&pass.visit, "optics").await.unwrap();
    is_refused(mira.pick_up_visit(&pass.visit).await, "no such visit");
    nils.pick_up_visit(&pass.visit).await.unwrap();
    tobin.until("who helps now", |t| matches!(t, ToVisited::Standing { helper, .. } if helper == "nils")).await;
    tobin.agree(&[]).await;
    tobin.until("the end", |t| matches!(t, ToVisited::Over { .. })).await;
    let refused = nils.visit(&pass.visit).await.unwrap();
    assert_eq!((refused.state.as_str(), refused.agreed.as_deref(), refused.closed), ("ended", Some(&[][..]), None));
    is_refused(nils.visit_screen(&pass.visit).await.map(drop), "did not agree");
    own.event("visit-changed", "Tobin Ash refused nils").await;
    let closed = nils.close_visit(&pass.visit, &CloseVisit { outcome: "refused".into(), notes: String::new() }).await.unwrap();
    assert_eq!(closed.sentence, "The visit of Tobin Ash is closed: refused.");
}

#[tokio::test(flavor = "multi_thread")]
async fn a_visit_is_handed_over_and_ends_when_the_person_leaves() {
    let own = service().await;
    let (mira, nils) = (own.as_client("mira"), own.as_client("nils"));
    let made = mira.make_visit(&new_visit()).await.unwrap();
    let pass = enter(&own, &made.visit.id, &made.pin).await.unwrap();
    let mut rhea = Person::open(&own, &pass).await;
    rhea.agree(&["view"]).await;
    rhea.until("what she agreed to", |t| matches!(t, ToVisited::Standing { agreed: Some(_), .. })).await;
    rhea.share().await;
    let (mut first, begun) = look(&mira, &made.visit.id).await;
    rhea.link.film(true, 1, b"one").await;
    next_message(&mut first, |m| matches!(m, Message::Piece { .. })).await;
    // Nils takes it over: the session before ends, and she is asked anew.
    nils.pick_up_visit(&made.visit.id).await.unwrap();
    rhea.until("another who asks", |t| matches!(t, ToVisited::Standing { helper, agreed: None, .. } if helper == "nils")).await;
    rhea.agree(&["view"]).await;
    rhea.until("that she agreed", |t| matches!(t, ToVisited::Standing { agreed: Some(_), .. })).await;
    let (mut second, next) = look(&nils, &made.visit.id).await;
    assert_ne!(begun, next);
    rhea.link.film(true, 2, b"two").await;
    next_message(&mut second, |m| matches!(m, Message::Piece { data, .. } if data == b"two")).await;
    while first.next().await.is_some() {}
    let visit = nils.visit(&made.visit.id).await.unwrap();
    assert_eq!((visit.helpers, visit.sessions), (vec!["mira".to_string(), "nils".into()], vec![begun, next]));
    // A page that is loaded again goes on.
    drop(rhea);
    let mut rhea = Person::open(&own, &pass).await;
    rhea.until("how it stands", stands("active")).await;
    rhea.link.say(&FromVisited::Leave).await;
    while second.next().await.is_some() {}
    let left = nils.visit(&made.visit.id).await.unwrap();
    assert_eq!((left.state.as_str(), left.closed), ("ended", None));
    own.event("visit-changed", "Rhea Calder ended the visit").await;
}

#[tokio::test(flavor = "multi_thread")]
async fn visits_are_made_by_those_whom_the_rules_let_help() {
    let own = service().await;
    is_refused(own.as_client("jun").make_visit(&new_visit()).await, "Name the queue");
    is_refused(
        own.as_client("mira").make_visit(&NewVisit { queue: "optics".into(), ..new_visit() }).await,
        "No rule lets you help in optics",
    );
    is_refused(own.as_client("nils").make_visit(&new_visit()).await, "optics, workstations");
    is_refused(own.as_client("mira").make_visit(&NewVisit { mail: "two words@x".into(), ..new_visit() }).await, "no mail address");
    let made = own.as_client("mira").make_visit(&new_visit()).await.unwrap();
    own.as_client("mira").withdraw_visit(&made.visit.id).await.unwrap();
    is_refused(enter(&own, &made.visit.id, &made.pin).await, "PIN");
    // A queue is a machine of the directory, and nobody reaches it in any other way.
    is_refused(own.as_client("mira").desktop("workstations", &Default::default()).await.map(drop), "No rule lets you see the screen");
}

#[tokio::test(flavor = "multi_thread")]
async fn spraying_pins_is_braked_and_a_finding() {
    let own = service().await;
    own.set("pin-everywhere", "10").await;
    let made = own.as_client("mira").make_visit(&new_visit()).await.unwrap();
    // Each from another place, so that no place is braked by itself.
    for n in 2..=12u8 {
        let from = std::net::IpAddr::from([127, 0, 0, n]);
        let client = reqwest::Client::builder().local_address(from).tls_danger_accept_invalid_certs(true).build().unwrap();
        let given = GivenPin { pin: "00000000".into(), visit: None };
        let answer = client.post(format!("https://127.0.0.1:{}/api/v1/pins/enter", own.https.port())).json(&given).send().await.unwrap();
        assert_eq!(answer.status().as_u16(), if n < 12 { 401 } else { 429 }, "try {}", n - 1);
    }
    let query = aerie_client::FindingQuery { kind: Some("pin-spraying".into()), ..Default::default() };
    let finding = until("a finding", async || own.admin().findings(&query).await.ok()?.items.pop()).await;
    assert!(finding.sentence.starts_with("10 wrong PINs"), "{}", finding.sentence);
    // Without a link the right one is not looked at meanwhile; whoever has the link gets in.
    let given = GivenPin { pin: made.pin.clone(), visit: None };
    let client = reqwest::Client::builder().tls_danger_accept_invalid_certs(true).build().unwrap();
    let answer = client.post(format!("https://127.0.0.1:{}/api/v1/pins/enter", own.https.port())).json(&given).send().await.unwrap();
    assert_eq!(answer.status().as_u16(), 429);
    enter(&own, &made.visit.id, &made.pin).await.unwrap();
}

fn left_in(temporary: &std::path::Path) -> usize {
    std::fs::read_dir(temporary).unwrap().count()
}

/// A visit whose person started the program for it: whoever helps looks, and the person's page.
async fn with_program(own: &Own, screen: &Screen, temporary: &std::path::Path) -> (String, Person, Viewer, std::process::Child, String) {
    let mira = own.as_client("mira");
    let made = mira.make_visit(&new_visit()).await.unwrap();
    let pass = enter(own, &made.visit.id, &made.pin).await.unwrap();
    let mut rhea = Person::open(own, &pass).await;
    rhea.agree(&["view"]).await;
    rhea.until("the program", |t| matches!(t, ToVisited::Standing { program: ProgramState::Offered, agreed: Some(_), .. })).await;
    rhea.link.say(&FromVisited::Program).await;
    let ToVisited::Program { line } = rhea.until("the line", |t| matches!(t, ToVisited::Program { .. })).await else { panic!() };
    let program = screen.starts(&line, temporary);
    rhea.until("that it runs", |t| matches!(t, ToVisited::Standing { program: ProgramState::Runs, .. })).await;
    until("what the computer is", async || mira.visit(&made.visit.id).await.ok()?.device.get("host").cloned()).await;
    let mut viewer = Viewer::of(mira.visit_screen(&made.visit.id).await.unwrap());
    viewer.say(FromViewer::Begin { reason: String::new(), ticket: String::new() }).await;
    (made.visit.id, rhea, viewer, program, line)
}

/// Asks for a capability, which the person gives on their page.
async fn agreed(rhea: &mut Person, viewer: &mut Viewer, capability: &str) {
    viewer.say(FromViewer::Ask(capability.into())).await;
    rhea.until("a question", |t| matches!(t, ToVisited::Standing { wants: Some(c), .. } if c == capability)).await;
    rhea.consent(capability, true).await;
    viewer.until("a yes", |v| v.state(capability) == Some("on")).await;
}

/// Types into a shell until the terminal shows something.
async fn shows(client: &Client, session: &str, typed: &str, shown: &str) {
    client.type_into(session, 1, typed).await.unwrap();
    let mut text = vec![];
    let watching = client.watch_live(session, |line| {
        text.extend(line.data.map(|d| STANDARD.decode(d).unwrap()).unwrap_or_default());
        !String::from_utf8_lossy(&text).contains(shown)
    });
    tokio::time::timeout(std::time::Duration::from_secs(20), watching).await.unwrap_or_else(|_| panic!("never shown: {shown}")).unwrap();
    assert!(String::from_utf8_lossy(&text).contains(shown), "{}", String::from_utf8_lossy(&text));
}

#[tokio::test(flavor = "multi_thread")]
async fn a_shell_on_the_computer_of_whoever_is_helped_is_theirs_to_give_and_to_take_back() {
    let (own, dir, temporary) = (service().await, tempfile::tempdir().unwrap(), tempfile::tempdir().unwrap());
    let screen = Screen::tiger(dir.path(), Way::Open);
    let (visit, mut rhea, _viewer, mut program, _) = with_program(&own, &screen, temporary.path()).await;
    let (mira, nils) = (own.as_client("mira"), own.as_client("nils"));
    is_refused(nils.visit_shell(&visit).await, "not yours");
    // She says no, and then yes.
    let answer = async |rhea: &mut Person, yes: bool| {
        rhea.until("a question", |t| matches!(t, ToVisited::Standing { wants: Some(c), .. } if c == "shell")).await;
        rhea.consent("shell", yes).await;
        rhea.until("no question", |t| matches!(t, ToVisited::Standing { wants: None, .. })).await;
    };
    let (begun, ()) = tokio::join!(mira.visit_shell(&visit), answer(&mut rhea, false));
    is_refused(begun, "did not agree");
    let (begun, ()) = tokio::join!(mira.visit_shell(&visit), answer(&mut rhea, true));
    let session = begun.unwrap().session;
    rhea.until("that there is a shell", |t| matches!(t, ToVisited::Standing { uses, .. } if *uses == ["shell"])).await;
    is_refused(mira.visit_shell(&visit).await, "a shell already");
    shows(&mira, &session, "stty size; echo $((6*7))-$TERM\r", "42-xterm-256color").await;
    shows(&mira, &session, "", "30 100").await;
    is_refused(nils.type_into(&session, 1, "x").await, "");
    is_refused(nils.resize_terminal(&session, 1, (90, 40)).await, "its own window");
    mira.resize_terminal(&session, 1, (90, 40)).await.unwrap();
    shows(&mira, &session, "clear; stty size\r", "40 90").await;
    assert_eq!(own.admin().session(&session).await.unwrap().uses, ["shell"]);
    // Taken back: whatever ran in it is over.
    let left = dir.path().join("left");
    shows(&mira, &session, &format!("(trap '' HUP; echo $$ > {}; echo begun-$((1+1)); exec sleep 1000)\r", left.display()), "begun-2")
        .await;
    rhea.consent("shell", false).await;
    let process = std::fs::read_to_string(&left).unwrap();
    until("nothing of it runs", async || (!std::path::Path::new(&format!("/proc/{}", process.trim())).exists()).then_some(())).await;
    let ended = own.event("session-ended", &session).await;
    assert!(ended.sentence.contains("took back") || ended.sentence.contains("agrees no longer"), "{ended:?}");
    rhea.until("that it is gone", |t| matches!(t, ToVisited::Standing { uses, .. } if uses.is_empty())).await;
    assert!(own.admin().recording_text(&session).await.unwrap().contains("42-xterm-256color"));
    assert!(own.admin().verify_recording(&session).await.unwrap().holds);
    // What left the terminal and its parent is over as well.
    let (begun, ()) = tokio::join!(mira.visit_shell(&visit), answer(&mut rhea, true));
    let away = begun.unwrap().session;
    let left = dir.path().join("away");
    let leaves = format!(
        "(env -i setsid nohup sh -c 'echo $$ > {0}; while :; do sleep 1000 & wait; done' >/dev/null 2>&1 &); until [ -s {0} ]; do sleep 0.1; done; echo gone-$((1+1))\r",
        left.display()
    );
    shows(&mira, &away, &leaves, "gone-2").await;
    let process = std::fs::read_to_string(&left).unwrap();
    let runs = || std::path::Path::new(&format!("/proc/{}", process.trim())).exists();
    assert!(runs());
    rhea.consent("shell", false).await;
    until("nothing of it runs", async || (!runs()).then_some(())).await;
    own.event("session-ended", &away).await;
    rhea.until("that it is gone", |t| matches!(t, ToVisited::Standing { uses, .. } if uses.is_empty())).await;
    // One that ends by itself; and the end of the visit ends what is left.
    let (begun, ()) = tokio::join!(mira.visit_shell(&visit), answer(&mut rhea, true));
    let second = begun.unwrap().session;
    mira.type_into(&second, 1, "exit\r").await.unwrap();
    own.event("session-ended", &second).await;
    let (begun, ()) = tokio::join!(mira.visit_shell(&visit), answer(&mut rhea, true));
    let third = begun.unwrap().session;
    let closed = mira.close_visit(&visit, &CloseVisit { outcome: "solved".into(), notes: String::new() }).await.unwrap();
    assert!([&session, &second, &third].iter().all(|s| closed.sessions.contains(s)), "{:?}", closed.sessions);
    own.event("session-ended", &third).await;
    assert!(tokio::task::spawn_blocking(move || program.wait()).await.unwrap().unwrap().success());
}

#[tokio::test(flavor = "multi_thread")]
async fn text_goes_through_the_clipboard_of_whoever_is_helped_when_they_say_so() {
    let (own, dir, temporary) = (service().await, tempfile::tempdir().unwrap(), tempfile::tempdir().unwrap());
    let mut screen = Screen::tiger(dir.path(), Way::Open);
    let file = dir.path().join("line");
    screen.terminal_with(&["-xrm", "XTerm*selectToClipboard: true"], &keeps_a_line(&file).replace("stty -echo; ", ""));
    let (_, mut rhea, mut viewer, _program, _) = with_program(&own, &screen, temporary.path()).await;
    viewer.began().await;
    agreed(&mut rhea, &mut viewer, "control").await;
    viewer.say(FromViewer::Paste("too early".into())).await;
    viewer
        .until("a refusal", |v| v.told.iter().any(|t| matches!(t, ToViewer::Refused { capability: Some(c), .. } if c == "clipboard-in")))
        .await;
    agreed(&mut rhea, &mut viewer, "clipboard-in").await;
    viewer.say(FromViewer::Paste("Größe 96 €".into())).await;
    own.event("clipboard-used", "put text of 14 B into").await;
    viewer.pastes(&screen).await;
    assert_eq!(line_in(&file).await, "Größe 96 €\n");
    // What was copied before the person agreed is there with their yes, and what is copied afterwards when it is.
    let twice = |x| [(x, 8, 0), (x, 8, 1), (x, 8, 0), (x, 8, 1), (x, 8, 0)].map(|(x, y, b)| FromViewer::At(x, y, b));
    for at in twice(8) {
        viewer.say(at).await;
    }
    agreed(&mut rhea, &mut viewer, "clipboard-out").await;
    viewer.until("what was selected", |v| v.told.contains(&ToViewer::Clipboard { text: "ready".into() })).await;
    own.event("clipboard-used", "took text of 5 B out of").await;
    rhea.until("what may be done", |t| matches!(t, ToVisited::Standing { uses, .. } if uses.len() == 3)).await;
    rhea.consent("clipboard-out", false).await;
    viewer.until("that it was taken back", |v| v.state("clipboard-out") == Some("ask")).await;
    rhea.until("what may be done yet", |t| matches!(t, ToVisited::Standing { uses, .. } if *uses == ["control", "clipboard-in"])).await;
}

#[tokio::test(flavor = "multi_thread")]
async fn files_pass_each_way_by_hand_and_are_gone_when_the_visit_is_closed() {
    let own = service().await;
    let mira = own.as_client("mira");
    let made = mira.make_visit(&new_visit()).await.unwrap();
    let id = made.visit.id.as_str();
    let pass = enter(&own, id, &made.pin).await.unwrap();
    let mut rhea = Person::open(&own, &pass).await;
    is_refused(mira.give_visit_file(id, "early.txt", b"x".to_vec()).await, "did not agree");
    is_refused(own.client("").give_helper_file(&pass, "early.txt", b"x".to_vec()).await, "did not agree");
    rhea.agree(&["view"]).await;
    rhea.until("what she agreed to", |t| matches!(t, ToVisited::Standing { agreed: Some(_), takes_files: true, .. })).await;
    rhea.share().await;
    let (mut link, session) = look(&mira, id).await;

    let given = mira.give_visit_file(id, "../scripts/mend driver.sh", b"#!/bin/sh\n".to_vec()).await.unwrap();
    assert_eq!((given.files[0].name.as_str(), given.files[0].state.as_str()), ("mend driver.sh", "offered"));
    let offered = rhea.until("an offer", |t| matches!(t, ToVisited::Standing { files, .. } if files.len() == 1)).await;
    let ToVisited::Standing { files, .. } = offered else { panic!() };
    let wrong = VisitPass { token: "wrong".into(), ..pass.clone() };
    is_refused(own.client("").take_helper_file(&wrong, &files[0].id).await, "not yours");
    is_refused(mira.take_visit_file(id, &files[0].id).await, "no such file");
    assert_eq!(own.client("").take_helper_file(&pass, &files[0].id).await.unwrap(), b"#!/bin/sh\n");
    let event = own.event("file-transferred", "Rhea Calder took mend driver.sh (10 B), which mira gave.").await;
    assert_eq!(event.session.as_deref(), Some(session.as_str()));
    mira.give_visit_file(id, "other.bin", vec![7; 100]).await.unwrap();
    let second = mira.visit(id).await.unwrap().files[1].id.clone();
    rhea.link.say(&FromVisited::RefuseFile(second.clone())).await;
    own.event("file-transferred", "did not want other.bin").await;
    is_refused(own.client("").take_helper_file(&pass, &second).await, "no such file");

    // The other way, at the bound and beyond.
    let large = vec![3; aerie_core::visit::LARGEST_FILE];
    own.client("").give_helper_file(&pass, "error.log", large.clone()).await.unwrap();
    is_refused(own.client("").give_helper_file(&pass, "error.log", vec![3; large.len() + 1]).await, "at most 16 MiB");
    is_refused(own.client("").give_helper_file(&pass, "..", vec![3]).await, "has a name");
    let third = mira.visit(id).await.unwrap().files[2].clone();
    assert_eq!(third.way, "from-person");
    is_refused(own.as_client("nils").take_visit_file(id, &third.id).await, "not yours");
    is_refused(own.as_client("jun").take_visit_file(id, &third.id).await, "not yours");
    own.as_client("lena").lock_down("Lightning on the ridge.").await.unwrap();
    is_refused(mira.give_visit_file(id, "late.txt", b"x".to_vec()).await, "locked down");
    is_refused(mira.take_visit_file(id, &third.id).await, "locked down");
    own.as_client("lena").lift("It is over.").await.unwrap();
    assert!(mira.take_visit_file(id, &third.id).await.unwrap() == large && mira.take_visit_file(id, &third.id).await.unwrap() == large);
    mira.give_visit_file(id, "late.txt", b"x".to_vec()).await.unwrap();
    rhea.link.say(&FromVisited::Leave).await;
    let left = until("her leaving", async || mira.visit(id).await.ok().filter(|v| v.ended.is_some())).await;
    assert_eq!(left.files.iter().map(|f| f.state.as_str()).collect::<Vec<_>>(), ["taken", "refused", "taken", "lost"]);
    is_refused(own.client("").take_helper_file(&pass, &left.files[3].id).await, "no such file");
    assert!(mira.take_visit_file(id, &third.id).await.is_ok(), "until it is closed");
    mira.close_visit(id, &CloseVisit { outcome: "solved".into(), notes: String::new() }).await.unwrap();
    is_refused(mira.take_visit_file(id, &third.id).await, "no such file");
    // While it was kept it was encrypted.
    let kept = std::fs::read_dir(own.directory.path()).unwrap().map(|f| f.unwrap().path()).filter(|p| p.is_file());
    let kept: Vec<String> = kept.map(|p| String::from_utf8_lossy(&std::fs::read(p).unwrap()).into_owned()).collect();
    let has = |text: &str| kept.iter().any(|k| k.contains(text));
    assert!(has("mend driver.sh") && !has("#!/bin/sh\n") && !has(&"\u{3}".repeat(64)));
    let record = mira.visit_record(id).await.unwrap();
    assert_eq!(
        (record["files"][0]["name"].as_str(), record["files"][0]["sha256"].as_str().map(str::len)),
        (Some("mend driver.sh"), Some(64))
    );
    while link.next().await.is_some() {}
    own.event("session-ended", "workstations").await;
    let text = own.admin().recording_text(&session).await.unwrap();
    assert!(text.contains("upload mend driver.sh (10 B, done)") && text.contains("download error.log"), "{text}");

    // In a queue in which the rules let nobody give or take files, nobody does.
    let nils = own.as_client("nils");
    let made = nils.make_visit(&NewVisit { queue: "optics".into(), ..new_visit() }).await.unwrap();
    let pass = enter(&own, &made.visit.id, &made.pin).await.unwrap();
    let mut rhea = Person::open(&own, &pass).await;
    rhea.agree(&["view"]).await;
    rhea.until("what she agreed to", |t| matches!(t, ToVisited::Standing { agreed: Some(_), takes_files: false, .. })).await;
    is_refused(nils.give_visit_file(&made.visit.id, "x", vec![1]).await, "copy files to");
    is_refused(own.client("").give_helper_file(&pass, "x", vec![1]).await, "no files");
}

#[tokio::test(flavor = "multi_thread")]
async fn a_computer_that_nobody_manages_is_helped_by_a_program_that_leaves_nothing() {
    let (own, dir, temporary) = (service().await, tempfile::tempdir().unwrap(), tempfile::tempdir().unwrap());
    let mut screen = Screen::tiger(dir.path(), Way::Open);
    let file = dir.path().join("line");
    screen.terminal(&keeps_a_line(&file));
    let mira = own.as_client("mira");
    let (visit, mut rhea, mut viewer, mut program, line) = with_program(&own, &screen, temporary.path()).await;
    let session = viewer.began().await;
    viewer.same_as(&screen).await;
    assert_eq!((viewer.state("control"), viewer.state("clipboard-in")), (Some("ask"), Some("ask")));
    viewer.types("nothing\n").await;
    // A yes that nobody asked for is none. Rhea says no, and then yes.
    let wants = |t: &ToVisited| matches!(t, ToVisited::Standing { wants: Some(c), .. } if c == "control");
    rhea.consent("control", true).await;
    rhea.link.say(&FromVisited::Say("yes".into())).await;
    rhea.until("what she said", |t| matches!(t, ToVisited::Said { .. })).await;
    viewer.say(FromViewer::Ask("control".into())).await;
    rhea.until("a question", wants).await;
    rhea.consent("control", false).await;
    viewer.until("her no", |v| v.told.iter().any(|t| matches!(t, ToViewer::Refused { text, .. } if text.contains("did not agree")))).await;
    rhea.until("no question", |t| matches!(t, ToVisited::Standing { wants: None, .. })).await;
    viewer.say(FromViewer::Ask("control".into())).await;
    rhea.until("the question again", wants).await;
    rhea.consent("control", true).await;
    viewer.until("control", |v| v.state("control") == Some("on")).await;
    rhea.until("that she is controlled", |t| matches!(t, ToVisited::Standing { uses, .. } if *uses == ["control"])).await;
    // What the keyboard of that computer has, with and without Shift, and what it has not.
    viewer.types("It's #1 / Über @ 96 €\n").await;
    assert_eq!(line_in(&file).await, "It's #1 / Über @ 96 €\n");
    viewer.same_as(&screen).await;
    let split = screen.split();
    viewer.two_screens().await;
    drop(split);
    rhea.consent("control", false).await;
    viewer.until("that it was taken back", |v| v.state("control") == Some("ask")).await;

    // The line is used up, and another computer gets nowhere with it.
    let again = screen.starts(&line, temporary.path());
    let said = tokio::task::spawn_blocking(|| again.wait_with_output().unwrap().stderr).await.unwrap();
    assert!(String::from_utf8_lossy(&said).contains("good no longer"), "{}", String::from_utf8_lossy(&said));
    let closed = mira.close_visit(&visit, &CloseVisit { outcome: "solved".into(), notes: String::new() }).await.unwrap();
    assert_eq!(closed.sessions, [session.as_str()]);
    viewer.ended().await;
    let said = tokio::task::spawn_blocking(move || {
        let mut said = String::new();
        std::io::Read::read_to_string(program.stderr.as_mut().unwrap(), &mut said).unwrap();
        assert!(program.wait().unwrap().success(), "{said}");
        said
    });
    let said = said.await.unwrap();
    assert!(said.contains("mira can see this screen") && said.contains("The visit is over."), "{said}");
    assert_eq!(left_in(temporary.path()), 0, "nothing is left");
    let consents = mira.visit_record(&visit).await.unwrap()["consents"].to_string();
    for text in ["allowed mira: view", "refused mira: control", "allowed mira: control", "took back from mira: control"] {
        assert!(consents.contains(text), "{text}: {consents}");
    }
    assert!(own.admin().verify_recording(&session).await.unwrap().holds);
    own.event("visit-changed", "started the program for a visit").await;
}

#[tokio::test(flavor = "multi_thread")]
async fn a_yes_is_for_one_helper_and_one_question() {
    let own = service().await;
    let (mira, nils) = (own.as_client("mira"), own.as_client("nils"));
    let made = mira.make_visit(&NewVisit { queue: "workstations".into(), ..new_visit() }).await.unwrap();
    let pass = enter(&own, &made.visit.id, &made.pin).await.unwrap();
    let mut rhea = Person::open(&own, &pass).await;
    rhea.until("who asks", stands("waiting")).await;
    rhea.agree(&["view"]).await;
    rhea.until("that she agreed", |t| matches!(t, ToVisited::Standing { agreed: Some(_), .. })).await;
    rhea.share().await;
    let (mut link, session) = look(&mira, &made.visit.id).await;
    // Somebody else takes it, while Mira looks: nothing that was said to her counts for them.
    nils.pick_up_visit(&made.visit.id).await.unwrap();
    is_refused(nils.visit_screen(&made.visit.id).await.map(drop), "did not agree yet");
    is_refused(mira.visit_screen(&made.visit.id).await.map(drop), "pick it up first");
    while link.next().await.is_some() {}
    until("no session of Mira's", async || own.admin().session(&session).await.ok()?.ended.map(drop)).await;
    // An answer to the question before, which was on its way, is none to this one.
    let seen = rhea.until("another who asks", |t| matches!(t, ToVisited::Standing { helper, agreed: None, .. } if helper == "nils")).await;
    let ToVisited::Standing { question, .. } = seen else { panic!() };
    rhea.link.say(&FromVisited::Answer { question: question - 1, allow: vec!["view".into()] }).await;
    rhea.link.say(&FromVisited::Say("is it still Mira?".into())).await;
    rhea.until("her own words", |t| matches!(t, ToVisited::Said { .. })).await;
    is_refused(nils.visit_screen(&made.visit.id).await.map(drop), "did not agree yet");
    rhea.link.say(&FromVisited::Answer { question, allow: vec!["view".into()] }).await;
    rhea.until("that she agreed", |t| matches!(t, ToVisited::Standing { agreed: Some(_), .. })).await;
    let (link, session) = look(&nils, &made.visit.id).await;
    // A later session is another question.
    own.admin().stop(&aerie_api::StopOrder { session: Some(session), why: "for the test".into(), ..Default::default() }).await.unwrap();
    drop(link);
    rhea.until("that she is asked again", |t| matches!(t, ToVisited::Standing { agreed: None, .. })).await;
    is_refused(nils.visit_screen(&made.visit.id).await.map(drop), "did not agree yet");
}
