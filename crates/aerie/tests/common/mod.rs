//! A running demo for the tests of one file: the real program, started once and ended with the tests.

#![allow(dead_code, reason = "not every file uses everything")]

pub mod own;
pub mod screen;
pub mod viewer;

use aerie::demo::Description;
use aerie::demo::people::People;
use aerie_client::{Client, SessionQuery};
use std::io::{BufRead as _, BufReader};
use std::process::{Child, ChildStdin, Command, Stdio};
use std::sync::{Once, OnceLock};
use std::time::Duration;

/// The program.
pub const AERIE: &str = env!("CARGO_BIN_EXE_aerie");

pub struct World {
    pub people: People,
    /// The demo ends when this is closed, and that is when the tests end.
    _life: ChildStdin,
    _demo: Child,
}

/// How long the tests of one file may take together; the longest take four minutes.
const LONGEST: Duration = Duration::from_secs(15 * 60);

/// Ends the tests of this file where one of them hangs: the runner has said by then which one goes on.
pub fn bounded() {
    static WATCH: Once = Once::new();
    WATCH.call_once(|| {
        std::thread::spawn(|| {
            std::thread::sleep(LONGEST);
            eprintln!("The tests of this file did not end within {LONGEST:?}: one of those that run \"for over 60 seconds\" hangs.");
            std::process::exit(101);
        });
    });
}

/// The demo of this file.
pub fn world() -> &'static World {
    bounded();
    static WORLD: OnceLock<World> = OnceLock::new();
    WORLD.get_or_init(|| {
        aerie_client::provide_tls();
        let directory = tempfile::tempdir().unwrap();
        let file = directory.path().join("demo.json");
        let mut demo = Command::new(AERIE)
            .args(["demo", "--end-with-stdin", "--http", "127.0.0.1:0", "--ssh", "127.0.0.1:0", "--describe"])
            .arg(&file)
            .stdin(Stdio::piped())
            .stdout(Stdio::piped())
            .spawn()
            .unwrap();
        let life = demo.stdin.take().unwrap();
        let mut out = BufReader::new(demo.stdout.take().unwrap()).lines();
        assert!(out.any(|l| l.unwrap().contains("Ctrl-C ends everything")), "the demo did not come up");
        let description: Description = serde_json::from_slice(&std::fs::read(&file).unwrap()).unwrap();
        World { people: People::new(description).unwrap(), _life: life, _demo: demo }
    })
}

/// An HTTP client that knows nothing of the API.
pub fn http() -> reqwest::Client {
    aerie_client::provide_tls();
    reqwest::Client::new()
}

/// A client of the administrator.
pub fn client() -> Client {
    let demo = &world().people.demo;
    Client::new(&demo.api, Some(demo.token.clone()))
}

/// Waits until something holds; the test fails when it does not within half a minute.
pub async fn until<T>(what: &str, mut look: impl AsyncFnMut() -> Option<T>) -> T {
    for _ in 0..600 {
        if let Some(found) = look().await {
            return found;
        }
        tokio::time::sleep(Duration::from_millis(50)).await;
    }
    panic!("{what} did not come about");
}

/// The newest session of somebody once it is closed.
pub async fn closed_session(person: &str, machine: &str) -> aerie_api::SessionView {
    let query = SessionQuery { person: Some(person.into()), machine: Some(machine.into()), limit: Some(1), ..SessionQuery::default() };
    until("a closed session", async || {
        client().sessions(&query).await.unwrap().items.into_iter().next().filter(|s| s.ended.is_some() && s.digest.is_some())
    })
    .await
}

/// Everything about whether a machine is ready.
pub async fn checked(machine: &str) -> aerie_api::MachineCheckView {
    let mut done = None;
    client()
        .check_machine(machine, |l| {
            if let aerie_api::CheckLine::Done(d) = l {
                done = Some(d)
            }
        })
        .await
        .unwrap();
    done.unwrap()
}

/// What came of one check.
pub fn outcome(check: &aerie_api::MachineCheckView, name: &str) -> String {
    check.results.iter().find(|r| r.check == name).map_or_else(|| "none".into(), |r| r.outcome.clone())
}
