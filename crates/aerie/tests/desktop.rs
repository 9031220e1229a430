//! Desktops of machines: real X servers, a service of the test's own, and clients of it.

#![allow(clippy::unwrap_used, clippy::expect_used, clippy::panic, unreachable_pub, dead_code, reason = "a test that cannot go on fails")]

mod common;

use aerie_agent::consent::{Asking, Item, State};
use aerie_agent::{RunOptions, StateDir};
use aerie_api::{FromViewer, Invited, MachineChange, NewCredential, NewMachine, PictureQuery, ToViewer, WayView};
use aerie_core::desktop::{Coding, Event, Options, RfbClient, Saying};
use aerie_core::evidence::hex;
use common::own::{Own, Running, enrolled, run};
use common::screen::{Screen, Way, two_screens};
use common::viewer::{Viewer, keeps_a_line, line_in};
use common::{http, until};
use sha2::{Digest as _, Sha256};
use std::io::{Read as _, Write as _};
use std::net::SocketAddr;
use tokio::io::{AsyncReadExt as _, AsyncWriteExt as _};
use tokio::net::TcpListener;

const RULES: &str = r#"
[[allow]]
name = "screens"
people = "group:scientists"
machines = "*"
capabilities = ["view", "control", "clipboard-in", "clipboard-out"]
accounts = ["operator"]
recording = true

[[allow]]
name = "lookers"
people = "group:visitors"
machines = "*"
capabilities = ["view"]
accounts = ["operator"]
recording = true

[[allow]]
name = "watchers"
people = "group:desk"
machines = "*"
capabilities = ["watch", "control"]
accounts = ["operator"]
"#;

const PEOPLE: [(&str, &str, &str); 4] = [
    ("lena", "administrator", ""),
    ("sunniva", "technician", "scientists"),
    ("jun", "technician", "visitors"),
    ("mira", "technician", "desk"),
];

async fn own_with(machine: &str, at: SocketAddr) -> Own {
    let own = Own::with(RULES, &PEOPLE).await;
    add(&own, machine, at).await;
    own
}

async fn add(own: &Own, machine: &str, at: SocketAddr) {
    let ways = vec![WayView { name: "screen".into(), kind: "desktop".into(), address: at.to_string() }];
    let about = MachineChange { accounts: Some(vec!["operator".into()]), ways: Some(ways), ..MachineChange::default() };
    own.admin().add_machine(&NewMachine { name: machine.into(), about }).await.unwrap();
}

#[tokio::test(flavor = "multi_thread")]
async fn a_desktop_is_seen_controlled_recorded_and_seen_again() {
    let dir = tempfile::tempdir().unwrap();
    let mut screen = Screen::tiger(dir.path(), Way::Open);
    let own = own_with("scope", screen.at).await;
    let client = own.as_client("sunniva");
    let file = dir.path().join("line");
    screen.terminal(&keeps_a_line(&file));
    let mut viewer = Viewer::open(&client, "scope").await;
    let id = viewer.began().await;
    assert!(viewer.told.iter().any(|t| matches!(t, ToViewer::Step { text } if text.contains("greeting"))), "{:?}", viewer.told);
    assert_eq!(viewer.state("control"), Some("at-once"));
    viewer.say(FromViewer::Key(0x78, true)).await;
    viewer.take("control").await;
    viewer.types("Order 96\n").await;
    assert_eq!(line_in(&file).await, "Order 96\n", "the key before control was given did nothing");
    viewer.say(FromViewer::Note("the shutter sticks".into())).await;
    viewer.until("the note", |v| v.said.contains(&(Saying::Note, "sunniva".into(), "the shutter sticks".into()))).await;
    // In few colours, and back: all that is sent meanwhile adds up to the very pixels.
    viewer.say(FromViewer::Quality("few".into())).await;
    viewer.say(FromViewer::Quality("exact".into())).await;
    viewer.same_as(&screen).await;
    let last = viewer.rgb();
    viewer.say(FromViewer::Leave).await;
    assert_eq!(viewer.ended().await, "The session ended because the person left.");

    own.event("recording-closed", "scope").await;
    let session = own.admin().session(&id).await.unwrap();
    assert_eq!(session.uses, ["view", "control"]);
    let query = PictureQuery { at: u64::try_from(session.length_ms).unwrap(), width: None };
    assert_eq!(png(&client.recorded_picture(&id, &query).await.unwrap()), (800, 600, last));
    let small = png(&client.recorded_picture(&id, &PictureQuery { width: Some(80), ..query }).await.unwrap());
    assert_eq!((small.0, small.1), (80, 60));
    assert!(!client.stretches(&id).await.unwrap().is_empty());
    assert!(own.admin().verify_recording(&id).await.unwrap().holds);
    own.event("session-joined", "the shutter sticks").await;
    // What was typed is counted and not kept.
    let frames = serde_json::to_string(&own.admin().frames(&id).await.unwrap()).unwrap();
    assert!(frames.contains("\"hidden\"") && frames.contains("shutter") && !frames.contains("Order"), "{frames}");
}

fn png(bytes: &[u8]) -> (u32, u32, Vec<u8>) {
    let mut reader = png::Decoder::new(std::io::Cursor::new(bytes)).read_info().unwrap();
    let mut pixels = vec![0; reader.output_buffer_size().unwrap()];
    let info = reader.next_frame(&mut pixels).unwrap();
    (info.width, info.height, pixels)
}

#[tokio::test(flavor = "multi_thread")]
async fn seeing_is_not_controlling_and_nobody_gets_in_without_a_rule() {
    let dir = tempfile::tempdir().unwrap();
    let mut screen = Screen::tiger(dir.path(), Way::Open);
    let own = own_with("scope", screen.at).await;
    let file = dir.path().join("line");
    screen.terminal(&keeps_a_line(&file));
    let mut jun = Viewer::open(&own.as_client("jun"), "scope").await;
    let id = jun.began().await;
    assert_eq!(jun.state("control"), Some("refused"));
    jun.say(FromViewer::Ask("control".into())).await;
    jun.until("a refusal", |v| v.told.iter().any(|t| matches!(t, ToViewer::Refused { capability: Some(c), .. } if c == "control"))).await;
    jun.types("sneaked\n").await;
    jun.say(FromViewer::Paste("sneaked".into())).await;
    jun.until("the paste refused", |v| {
        v.told.iter().any(|t| matches!(t, ToViewer::Refused { capability: Some(c), .. } if c == "clipboard-in"))
    })
    .await;
    assert!(!file.exists());
    // Somebody without a rule sees nothing, of a new session or of this one.
    let mut mira = Viewer::open(&own.as_client("mira"), "scope").await;
    assert!(mira.ended().await.contains("No rule lets you see the screen"), "{:?}", mira.told);
    let mut sunniva = Viewer::of(match own.as_client("sunniva").join_desktop(&id).await {
        Err(e) => return assert!(e.to_string().contains("watch"), "{e}"),
        Ok(link) => link,
    });
    panic!("she may not watch: {:?}", sunniva.step().await);
}

#[tokio::test(flavor = "multi_thread")]
async fn a_session_goes_on_in_another_window_and_after_a_break() {
    let dir = tempfile::tempdir().unwrap();
    let mut screen = Screen::tiger(dir.path(), Way::Open);
    let own = own_with("scope", screen.at).await;
    let client = own.as_client("sunniva");
    let file = dir.path().join("line");
    screen.terminal(&keeps_a_line(&file));
    let mut first = Viewer::open(&client, "scope").await;
    let id = first.began().await;
    first.take("control").await;
    first.types("begun ").await;
    let mut second = Viewer::of(client.join_desktop(&id).await.unwrap());
    second.began().await;
    assert_eq!(first.ended().await, "elsewhere");
    drop(second);
    let mut third = Viewer::of(client.join_desktop(&id).await.unwrap());
    third.began().await;
    assert_eq!(third.state("control"), Some("on"), "what was given is kept");
    third.types("and ended\n").await;
    assert_eq!(line_in(&file).await, "begun and ended\n");
    third.same_as(&screen).await;
    // Giving control back is at once.
    third.say(FromViewer::GiveBack("control".into())).await;
    third.until("no control", |v| v.state("control") == Some("at-once")).await;
    own.admin().end_session(&id).await.unwrap();
    assert!(third.ended().await.contains("an administrator ended it"));
}

#[tokio::test(flavor = "multi_thread")]
async fn others_watch_talk_and_take_the_keyboard_when_they_are_invited() {
    let dir = tempfile::tempdir().unwrap();
    let mut screen = Screen::tiger(dir.path(), Way::Open);
    let own = own_with("scope", screen.at).await;
    let (client, desk) = (own.as_client("sunniva"), own.as_client("mira"));
    let file = dir.path().join("line");
    screen.terminal(&keeps_a_line(&file));
    let mut host = Viewer::open(&client, "scope").await;
    let id = host.began().await;
    host.take("control").await;
    let mut guest = Viewer::of(desk.join_desktop(&id).await.unwrap());
    guest.began().await;
    host.until("the watcher", |v| v.told.iter().any(|t| matches!(t, ToViewer::People { people } if people.watchers == ["mira"]))).await;
    own.event("session-joined", "mira watches").await;
    host.ready(&screen).await;
    guest.same_as(&screen).await;
    guest.types("uninvited").await;
    guest.say(FromViewer::Say("shall I?".into())).await;
    host.until("what she said", |v| v.said.contains(&(Saying::Chat, "mira".into(), "shall I?".into()))).await;
    client.invite_into(&id, &Invited { person: "mira".into(), control: true }).await.unwrap();
    own.admin().lock_down("Lightning on the ridge.").await.unwrap();
    is_refused(desk.keyboard(&id, Some("mira")).await, "locked down");
    own.admin().lift("It is over.").await.unwrap();
    desk.keyboard(&id, Some("mira")).await.unwrap();
    guest
        .until("the keyboard", |v| {
            v.told.iter().any(|t| matches!(t, ToViewer::People { people } if people.keyboard.as_deref() == Some("mira")))
        })
        .await;
    guest.types("by the guest").await;
    // The pointer in her hands is seen by the host: then all of it has arrived.
    guest.say(FromViewer::At(7, 9, 0)).await;
    host.until("her pointer", |v| v.at == Some((7, 9))).await;
    // What the session is not used for, its guests cannot do either.
    host.say(FromViewer::GiveBack("control".into())).await;
    host.until("no control", |v| v.state("control") != Some("on")).await;
    guest.types(", not now").await;
    guest.say(FromViewer::Say("typed".into())).await;
    host.until("that she typed", |v| v.said.contains(&(Saying::Chat, "mira".into(), "typed".into()))).await;
    host.take("control").await;
    // The first key of whose session it is takes it back and does nothing else.
    host.types(" x, the host\n").await;
    let line = line_in(&file).await;
    assert!(line.starts_with("by the guest") && !line.contains("not now") && line.ends_with("x, the host\n"), "{line:?}");
    host.say(FromViewer::Line(vec![(10, 10), (20, 20)])).await;
    host.say(FromViewer::Leave).await;
    assert!(guest.ended().await.contains("the person left"));
}

#[tokio::test(flavor = "multi_thread")]
async fn the_password_of_a_desktop_comes_out_of_the_vault_and_another_server_is_noticed() {
    let dir = tempfile::tempdir().unwrap();
    let screen = Screen::tiger(dir.path(), Way::Password("plates88"));
    let own = own_with("scanner", screen.at).await;
    let client = own.as_client("sunniva");
    let mut without = Viewer::open(&client, "scanner").await;
    assert!(without.ended().await.contains("offers no way to sign in"), "{:?}", without.told);
    let kept = |secret: &str| NewCredential {
        kind: "password".into(),
        secret: Some(secret.into()),
        changer: String::new(),
        after_use: false,
        days: 0,
    };
    let lena = own.as_client("lena");
    lena.put_credential("scanner", "screen", &kept("wrong")).await.unwrap();
    let mut wrong = Viewer::open(&client, "scanner").await;
    let why = wrong.ended().await;
    assert!(why.contains("does not let Aerie in") && !why.contains("wrong"), "{why}");
    own.event("machine-failed", "scanner").await;
    lena.put_credential("scanner", "screen", &kept("plates88")).await.unwrap();
    let mut right = Viewer::open(&client, "scanner").await;
    right.began().await;
    right.same_as(&screen).await;

    let certified = Screen::tiger(dir.path(), Way::Certificate);
    add(&own, "vault-cam", certified.at).await;
    let mut first = Viewer::open(&client, "vault-cam").await;
    first.began().await;
    first.same_as(&certified).await;
    // Another server in its place, with another certificate.
    let at = certified.at;
    drop(certified);
    let other = tempfile::tempdir().unwrap();
    let impostor = Screen::tiger(other.path(), Way::Certificate);
    let relay = TcpListener::bind(at).await.unwrap();
    let to = impostor.at;
    tokio::spawn(async move {
        while let Ok((mut near, _)) = relay.accept().await {
            let mut far = tokio::net::TcpStream::connect(to).await.unwrap();
            tokio::spawn(async move { tokio::io::copy_bidirectional(&mut near, &mut far).await });
        }
    });
    let mut second = Viewer::open(&client, "vault-cam").await;
    assert!(second.ended().await.contains("another certificate"), "{:?}", second.told);
}

#[tokio::test(flavor = "multi_thread")]
async fn the_desktop_that_another_program_shares_is_seen_as_it_is() {
    let dir = tempfile::tempdir().unwrap();
    let mut screen = Screen::shared();
    screen.terminal(&keeps_a_line(&dir.path().join("line")));
    let own = own_with("scope", screen.at).await;
    until("x11vnc", async || tokio::net::TcpStream::connect(screen.at).await.ok()).await;
    let mut viewer = Viewer::open(&own.as_client("sunniva"), "scope").await;
    viewer.began().await;
    viewer.same_as(&screen).await;
    viewer.take("control").await;
    viewer.types("shared\n").await;
    assert_eq!(line_in(&dir.path().join("line")).await, "shared\n");
}

#[tokio::test(flavor = "multi_thread")]
async fn of_several_screens_it_is_told_where_each_is() {
    let dir = tempfile::tempdir().unwrap();
    let screen = Screen::tiger(dir.path(), Way::Open);
    let own = own_with("scope", screen.at).await;
    let mut viewer = Viewer::open(&own.as_client("sunniva"), "scope").await;
    viewer.began().await;
    assert!(viewer.screens.is_empty());
    let split = screen.split();
    viewer.two_screens().await;
    viewer.same_as(&screen).await;
    // Whoever comes later is told, too.
    let mut watching = Viewer::of(own.as_client("mira").join_desktop(&viewer.session().unwrap()).await.unwrap());
    watching.two_screens().await;
    drop(split);
}

#[tokio::test(flavor = "multi_thread")]
async fn text_goes_through_the_clipboard_each_way_by_a_right_of_its_own() {
    let dir = tempfile::tempdir().unwrap();
    let mut screen = Screen::tiger(dir.path(), Way::Open);
    let own = own_with("scope", screen.at).await;
    let file = dir.path().join("line");
    screen.terminal(&keeps_a_line(&file).replace("stty -echo; ", ""));
    let mut viewer = Viewer::open(&own.as_client("sunniva"), "scope").await;
    viewer.began().await;
    viewer.take("control").await;
    viewer.take("clipboard-in").await;
    viewer.say(FromViewer::Paste("from here".into())).await;
    own.event("clipboard-used", "put text of 9 B into").await;
    viewer.pastes(&screen).await;
    assert_eq!(line_in(&file).await, "from here\n");
    // Without the right nothing comes out of it; with it, what is selected there: `ready`, by two clicks.
    viewer.take("clipboard-out").await;
    for buttons in [0, 1, 0, 1, 0] {
        viewer.say(FromViewer::At(8, 8, buttons)).await;
    }
    viewer.until("what was selected", |v| v.told.contains(&ToViewer::Clipboard { text: "ready".into() })).await;
    own.event("clipboard-used", "took text of 5 B out of").await;
}

/// Somebody who sits at a machine with a screen and is asked before anybody sees it.
struct Seat {
    own: Own,
    page: String,
    _agent: Running,
}

impl Seat {
    async fn at(screen: &Screen, dir: &std::path::Path) -> Self {
        let own = Own::with(&RULES.replace("recording = true", "recording = true\nconsent = \"ask\""), &PEOPLE).await;
        let state = enrolled(&own, "coude", &[screen.at.to_string()], &[]).await;
        let place = StateDir::at(Some(dir.join("agent")));
        place.save(&state).unwrap();
        let (told, mut page) = tokio::sync::mpsc::unbounded_channel();
        let asking = Asking { port: 0, people: vec!["root".into()], ..Asking::default() };
        let options = RunOptions { asking: Some(asking), page: Some(told), ..RunOptions::default() };
        let _agent = tokio::spawn(aerie_agent::run(Some(place), state, options));
        own.online("coude").await;
        let ways = vec![WayView { name: "screen".into(), kind: "desktop".into(), address: screen.at.to_string() }];
        let about = MachineChange { accounts: Some(vec!["operator".into()]), ways: Some(ways), ..MachineChange::default() };
        own.admin().change_machine("coude", &about).await.unwrap();
        let page = format!("http://127.0.0.1:{}", page.recv().await.unwrap());
        Self { own, page, _agent }
    }

    /// What the page shows, once something on it is so.
    async fn shown(&self, what: &str, good: impl Fn(&Item) -> bool) -> Item {
        until(what, async || {
            let state: State = http().get(format!("{}/state", self.page)).send().await.ok()?.json().await.ok()?;
            state.items.into_iter().find(|i| good(i))
        })
        .await
    }

    async fn sends(&self, path: &str, body: serde_json::Value) -> u16 {
        http().post(format!("{}{path}", self.page)).json(&body).send().await.unwrap().status().as_u16()
    }

    /// Agrees to what is asked.
    async fn agrees(&self) -> Item {
        let asked = self.shown("a question", |i| i.standing == "asked").await;
        assert_eq!(self.sends("/answer", serde_json::json!({ "id": asked.id, "act": "agree" })).await, 200);
        asked
    }
}

#[tokio::test(flavor = "multi_thread")]
async fn whoever_sits_at_the_machine_sees_where_somebody_points_and_talks_with_them() {
    let dir = tempfile::tempdir().unwrap();
    let mut screen = Screen::tiger(dir.path(), Way::Open);
    screen.terminal(&keeps_a_line(&dir.path().join("line")));
    let seat = Seat::at(&screen, dir.path()).await;
    let (own, page) = (&seat.own, &seat.page);
    let mut viewer = Viewer::open(&own.as_client("sunniva"), "coude").await;
    let asked = seat.shown("a question", |i| i.standing == "asked").await;
    assert_eq!(seat.sends("/say", serde_json::json!({ "id": asked.id, "text": "who is it?" })).await, 409, "nobody is there yet");
    assert_eq!(seat.sends("/answer", serde_json::json!({ "id": asked.id, "act": "agree" })).await, 200);
    viewer.began().await;
    viewer.until("the terminal", |v| v.rgb().iter().filter(|p| **p > 200).count() > 50_000).await;
    viewer.say(FromViewer::Say("do you see the terminal?".into())).await;
    let line: Vec<(u16, u16)> = (0..800).map(|x| (x, 300)).collect();
    viewer.say(FromViewer::Line(line)).await;
    let live = seat.shown("a line", |i| i.lines.len() == 1).await;
    assert_eq!(live.said, [("sunniva".to_string(), "do you see the terminal?".to_string())]);
    assert_eq!((live.lines[0].first(), live.picture.map(|p| (p.0, p.1))), (Some(&(0, 240)), Some((640, 480))));
    let picture = http().get(format!("{page}/picture?id={}", live.id)).send().await.unwrap();
    assert_eq!(picture.headers()["content-type"], "image/png");
    let (w, h, pixels) = png(&picture.bytes().await.unwrap());
    assert_eq!((w, h), (640, 480));
    assert!(pixels.iter().any(|p| *p > 200) && pixels.iter().any(|p| *p < 30), "the terminal on the screen");
    assert_eq!(http().get(format!("{page}/picture?id=x")).send().await.unwrap().status(), 404);
    assert_eq!(seat.sends("/say", serde_json::json!({ "id": live.id, "text": "yes, the white one" })).await, 200);
    viewer
        .until("what they say", |v| v.said.iter().any(|(_, who, text)| who == "the person at coude" && text == "yes, the white one"))
        .await;
    seat.shown("their own words", |i| i.said.len() == 2).await;
    // Seeing and controlling are two consents, and talk is shown once.
    viewer.say(FromViewer::Ask("control".into())).await;
    seat.agrees().await;
    viewer.until("control", |v| v.state("control") == Some("on")).await;
    viewer.say(FromViewer::Line(vec![])).await;
    viewer.say(FromViewer::Say("thank you".into())).await;
    let live = seat.shown("the last words", |i| i.said.len() == 3).await;
    assert!(live.lines.is_empty() && live.does.contains("see"), "{live:?}");
    let session = viewer.session().unwrap();
    viewer.say(FromViewer::Leave).await;
    viewer.ended().await;
    let text = until("the recording", async || own.admin().recording_text(&session).await.ok().filter(|t| t.contains("thank you"))).await;
    assert!(text.contains("yes, the white one"), "{text}");
}

#[tokio::test(flavor = "multi_thread")]
async fn nobody_controls_a_screen_that_they_may_not_see_any_more() {
    for act in ["stop", "off"] {
        let dir = tempfile::tempdir().unwrap();
        let screen = Screen::tiger(dir.path(), Way::Open);
        let seat = Seat::at(&screen, dir.path()).await;
        let mut viewer = Viewer::open(&seat.own.as_client("sunniva"), "coude").await;
        let asked = seat.agrees().await;
        viewer.began().await;
        viewer.say(FromViewer::Ask("control".into())).await;
        seat.agrees().await;
        viewer.until("control", |v| v.state("control") == Some("on")).await;
        seat.shown("both", |i| i.id != asked.id && i.standing == "live").await;
        // The picture is taken back; nobody said anything of the keyboard.
        assert_eq!(seat.sends("/answer", serde_json::json!({ "id": asked.id, "act": act })).await, 200);
        assert!(viewer.ended().await.contains("the person at the machine agrees no longer"), "{:?}", viewer.told);
    }
}

#[tokio::test(flavor = "multi_thread")]
async fn the_screen_of_a_machine_is_locked_at_the_end_where_the_rules_say_so() {
    let dir = tempfile::tempdir().unwrap();
    let screen = Screen::tiger(dir.path(), Way::Open);
    let rules = RULES.replace("recording = true", "recording = true\nlock = true");
    let own = Own::with(&rules, &PEOPLE).await;
    let locked = dir.path().join("locked");
    let mut state = enrolled(&own, "coude", &[screen.at.to_string()], &[]).await;
    // It locks once.
    state.lock_with = Some(format!("test ! -e {0} && echo locked > {0}", locked.display()));
    let _agent = run(&dir, &state);
    own.online("coude").await;
    let ways = vec![WayView { name: "screen".into(), kind: "desktop".into(), address: screen.at.to_string() }];
    let about = MachineChange { accounts: Some(vec!["operator".into()]), ways: Some(ways.clone()), ..MachineChange::default() };
    own.admin().change_machine("coude", &about).await.unwrap();
    let sunniva = own.as_client("sunniva");
    let mut viewer = Viewer::open(&sunniva, "coude").await;
    viewer.began().await;
    viewer.say(FromViewer::Leave).await;
    viewer.ended().await;
    own.event("machine-locked", "The screen of coude was locked at the end of the session of sunniva.").await;
    assert_eq!(std::fs::read_to_string(&locked).unwrap(), "locked\n");
    // A command that fails is not hidden, nor that there is no agent.
    let mut viewer = Viewer::open(&sunniva, "coude").await;
    viewer.began().await;
    viewer.say(FromViewer::Leave).await;
    viewer.ended().await;
    own.event("machine-locked", "could not be locked at the end of the session of sunniva: its command ended").await;
    add(&own, "scope", screen.at).await;
    let mut viewer = Viewer::open(&sunniva, "scope").await;
    let session = viewer.began().await;
    viewer.say(FromViewer::Leave).await;
    viewer.ended().await;
    own.event("machine-locked", "no agent of it is connected").await;
    let text = until("the recording", async || own.admin().recording_text(&session).await.ok()).await;
    assert!(text.contains("could not be locked"), "{text}");
}

/// Whether a player takes a film: how many seconds of pictures it has.
fn seconds_of(film: &[u8]) -> f64 {
    let file = tempfile::NamedTempFile::new().unwrap();
    std::fs::write(file.path(), film).unwrap();
    let probe = std::process::Command::new("ffprobe")
        .args(["-v", "error", "-count_packets", "-show_entries", "stream=nb_read_packets", "-of", "csv=p=0"])
        .arg(file.path())
        .output()
        .unwrap();
    String::from_utf8_lossy(&probe.stdout).trim().parse::<f64>().unwrap_or_else(|e| panic!("{e}: {probe:?}")) / 5.0
}

#[tokio::test(flavor = "multi_thread")]
async fn a_film_of_a_recording_is_made_and_goes_on_after_a_restart() {
    let dir = tempfile::tempdir().unwrap();
    let mut screen = Screen::tiger(dir.path(), Way::Open);
    let mut own = own_with("scope", screen.at).await;
    screen.terminal("n=0; while :; do echo $n; n=$((n+1)); sleep 0.2; done");
    let mut viewer = Viewer::open(&own.as_client("sunniva"), "scope").await;
    let id = viewer.began().await;
    is_refused(own.as_client("sunniva").make_film(&id).await, "that are over");
    viewer.until("twelve changes", |v| v.changes > 12).await;
    viewer.say(FromViewer::Leave).await;
    viewer.ended().await;
    own.event("recording-closed", "scope").await;
    let length = own.admin().session(&id).await.unwrap().length_ms as f64 / 1000.0;
    is_refused(own.as_client("jun").make_film(&id).await, "no");
    let wanted = own.as_client("sunniva").make_film(&id).await.unwrap();
    assert_ne!(wanted.state, "failed");
    // At once gone: whatever was begun is begun again.
    own.kill().await;
    own.child = Own::run(own.directory.path(), own.https);
    own.up().await;
    let client = own.as_client("sunniva");
    let made = until("the film", async || client.film(&id).await.ok().filter(|f| f.state != "waiting")).await;
    assert_eq!(made.state, "done", "{made:?}");
    let file = own.directory.path().join("recordings").join(format!("{id}.webm"));
    assert_eq!(std::os::unix::fs::PermissionsExt::mode(&std::fs::metadata(file).unwrap().permissions()) & 0o777, 0o600);
    let seconds = seconds_of(&client.fetch_film(&id).await.unwrap());
    assert!((seconds - length).abs() < 1.0, "{seconds} of {length}");
    own.event("recording-read", "fetched the film").await;
}

fn is_refused(result: Result<impl std::fmt::Debug, aerie_client::ClientError>, text: &str) {
    let e = result.expect_err(text).to_string();
    assert!(e.contains(text), "{e}");
}

/// Answers as a desktop's server would until its screen is there, and then says this.
async fn hostile(says: Vec<u8>) -> SocketAddr {
    let listener = TcpListener::bind("127.0.0.1:0").await.unwrap();
    let at = listener.local_addr().unwrap();
    tokio::spawn(async move {
        while let Ok((mut stream, _)) = listener.accept().await {
            let says = says.clone();
            tokio::spawn(async move {
                let mut piece = [0; 64];
                stream.write_all(b"RFB 003.008\n").await.unwrap();
                stream.read_exact(&mut piece[..12]).await.unwrap();
                stream.write_all(&[1, 1]).await.unwrap();
                stream.read_exact(&mut piece[..1]).await.unwrap();
                stream.write_all(&[0; 4]).await.unwrap();
                stream.read_exact(&mut piece[..1]).await.unwrap();
                let mut screen = vec![0, 64, 0, 64];
                screen.extend([0; 16]);
                screen.extend([0, 0, 0, 1, b'x']);
                stream.write_all(&screen).await.unwrap();
                let _ = stream.write_all(&says).await;
                while matches!(stream.read(&mut piece).await, Ok(1..)) {}
            });
        }
    });
    at
}

#[tokio::test(flavor = "multi_thread")]
async fn a_hostile_server_ends_its_session_with_an_event_and_nothing_else() {
    let outside = [0, 0, 0, 1, 0, 60, 0, 60, 0, 60, 0, 60, 0, 0, 0, 0].to_vec();
    let nonsense = vec![77; 4000];
    let huge = [&[0, 0, 0, 1, 0, 0, 0, 0, 255, 255, 255, 255][..], &(-223i32).to_be_bytes()].concat();
    let own = Own::with(RULES, &PEOPLE).await;
    for (name, says, why) in
        [("outside", outside, "outside of its screen"), ("nonsense", nonsense, "cannot be read"), ("huge", huge, "larger than")]
    {
        add(&own, name, hostile(says).await).await;
        let mut viewer = Viewer::open(&own.as_client("sunniva"), name).await;
        let end = viewer.ended().await;
        assert!(end.contains(why), "{name}: {end}");
        own.event("machine-failed", name).await;
        own.event("recording-closed", name).await;
    }
}

/// Takes down what a server says while a terminal on it is written to, until Aerie sees what the X server says is there.
fn recorded(screen: &mut Screen, options: Options, first: &[u8]) -> Vec<u8> {
    let dir = tempfile::tempdir().unwrap();
    let (go, done) = (dir.path().join("go"), dir.path().join("done"));
    let made = std::process::Command::new("mkfifo").args([&go, &done]).status().unwrap();
    assert!(made.success());
    screen.terminal(&format!(
        "read x < {}; seq 1 90; for c in 1 2 3 4 5 6; do printf '\\033[4%smthe mast \\033[3%smthe dome\\033[0m\\n' $c $c; done; echo > {}; read x < {0}",
        go.display(),
        done.display()
    ));
    let mut stream = std::net::TcpStream::connect(screen.at).unwrap();
    stream.set_read_timeout(Some(std::time::Duration::from_millis(300))).unwrap();
    let (mut client, mut kept, mut piece) = (RfbClient::new(options), vec![], vec![0; 1 << 16]);
    let write = move || {
        std::fs::write(&go, "\n").unwrap();
        std::fs::read(&done).unwrap();
    };
    let (mut write, mut wrote) = (Some(write), None);
    let (began, mut begun) = (std::time::Instant::now(), false);
    loop {
        while let Some(bytes) = client.poll_transmit() {
            stream.write_all(&bytes).unwrap();
        }
        if std::mem::take(&mut begun) {
            stream.write_all(first).unwrap();
        }
        let n = stream.read(&mut piece).unwrap_or(0);
        kept.extend_from_slice(&piece[..n]);
        client.handle_bytes(&piece[..n]).unwrap();
        while let Some(event) = client.poll_event() {
            match event {
                Event::Began { .. } => {
                    // A pointer that is not where Aerie put it is drawn into the picture by some servers.
                    client.pointer((600, 100), 0);
                    begun = true;
                }
                Event::Updated(_) => {
                    wrote = wrote.or_else(|| write.take().map(std::thread::spawn));
                    client.ask(false);
                }
                _ => {}
            }
        }
        assert!(began.elapsed().as_secs() < 30, "it never showed what is there");
        if n == 0
            && wrote.as_ref().is_some_and(|w| w.is_finished())
            && client.screen().is_some_and(|s| s.small(u16::MAX).2 == screen.dump().2)
        {
            return kept;
        }
    }
}

/// Writes the vectors of `crates/aerie-core/src/desktop/vectors` anew.
#[test]
#[ignore = "writes into the repository: cargo test -p aerie --test desktop -- --ignored records"]
fn records_what_real_servers_say() {
    let folder = std::path::Path::new(env!("CARGO_MANIFEST_DIR")).join("../aerie-core/src/desktop/vectors");
    std::fs::create_dir_all(&folder).unwrap();
    let dir = tempfile::tempdir().unwrap();
    let options = |only| Options { password: Some("observer".to_string().into()), shared: true, only };
    let keep = |name: &str, mut screen: Screen, only, first: &[u8]| {
        let said = recorded(&mut screen, options(only), first);
        let (_, _, pixels) = screen.dump();
        std::fs::write(folder.join(format!("{name}.rfb")), zstd::encode_all(&said[..], 19).unwrap()).unwrap();
        std::fs::write(folder.join(format!("{name}.sha256")), format!("{}\n", hex(&Sha256::digest(&pixels)))).unwrap();
    };
    for (name, coding) in [("raw", Coding::Raw), ("hextile", Coding::Hextile), ("zrle", Coding::Zrle), ("tight", Coding::Tight)] {
        keep(name, Screen::tiger(dir.path(), Way::Open), Some(coding), &[]);
    }
    keep("all-codings", Screen::tiger(dir.path(), Way::Open), None, &[]);
    keep("password", Screen::tiger(dir.path(), Way::Password("observer")), None, &[]);
    keep("two-screens", Screen::tiger(dir.path(), Way::Open), None, &two_screens());
    let shared = Screen::shared();
    while std::net::TcpStream::connect(shared.at).is_err() {
        std::thread::yield_now();
    }
    keep("another-program", shared, None, &[]);
}
