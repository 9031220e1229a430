//! Somebody with a small right who wants a larger one, and somebody who wants to leave no trace: one file a class of attack, through
//! the real interfaces of a running demo.

#![allow(clippy::unwrap_used, clippy::expect_used, clippy::panic, unreachable_pub, reason = "a test that cannot go on fails")]

#[path = "../common/mod.rs"]
mod common;

mod clients;
mod consents;
mod copies;
mod counts;
mod ending;
mod files;
mod forwarding;
mod people;
mod programs;
mod recording;
mod vault;

use aerie::demo::people::Ended;
use aerie_client::{Client, ListQuery};
use common::{client, until, world};
use tokio::sync::{Mutex, MutexGuard, OnceCell};

/// Rights for these tests, one by one, on a machine where a key is enough.
const SMALL_RIGHTS: &str = r#"
[[allow]]
name = "small-upload"
people = "person:greta"
machines = "name:archive-db"
capabilities = ["upload"]
accounts = ["archivist"]

[[allow]]
name = "small-browse"
people = "person:tove"
machines = "name:archive-db"
capabilities = ["browse"]
accounts = ["archivist"]

[[allow]]
name = "small-exec"
people = "person:piet"
machines = "name:mast-2"
capabilities = ["shell", "exec"]
accounts = ["operator"]

[[allow]]
name = "all-for-arlo"
people = "person:arlo"
machines = "name:archive-db"
capabilities = ["exec"]
accounts = ["archivist"]
"#;

/// The rules of the demo, with [`SMALL_RIGHTS`].
pub async fn small_rights() {
    static DONE: OnceCell<()> = OnceCell::const_new();
    DONE.get_or_init(async || {
        let text = client().policy().await.unwrap().text + SMALL_RIGHTS;
        assert!(client().publish_policy(&text, None).await.unwrap().version.is_some());
    })
    .await;
}

/// The rules for as long as a test changes them.
pub async fn turn() -> MutexGuard<'static, ()> {
    static TURN: Mutex<()> = Mutex::const_new(());
    TURN.lock().await
}

/// A connection of arlo to archive-db that others share: the option that does so, and its client.
pub async fn shared_connection(name: &str) -> (String, tokio::process::Child) {
    let p = &world().people;
    let control = p.directory().join(name);
    let option = format!("ControlPath={}", control.display());
    let master = p.command("ssh", "", &["-M", "-o", &option, "-N", "arlo+archive-db@aerie"]).spawn().unwrap();
    until("the control socket", async || control.exists().then_some(())).await;
    (option, master)
}

/// Runs something as a person, where a key is enough.
pub async fn run(program: &str, arguments: &[&str], input: &str) -> Ended {
    world().people.run_with(program, "", arguments, input).await.unwrap()
}

/// The newest event of a kind that says this.
pub async fn event(kind: &str, text: &str) -> aerie_api::EventView {
    until(&format!("an event {kind} with {text:?}"), async || {
        let query = ListQuery { kind: Some(kind.into()), q: Some(text.into()), limit: Some(1), ..ListQuery::default() };
        client().log(&query).await.unwrap().items.into_iter().next()
    })
    .await
}

/// One of the demo's people, signed in with password and code.
pub async fn signed_in(person: &str) -> Client {
    let demo = &world().people.demo;
    let code = world().people.codes.next(person).await;
    let me = Client::new(&demo.api, None).sign_in(person, &format!("{person} watches the sky"), &code).await.unwrap();
    Client::new(&demo.api, me.token)
}
