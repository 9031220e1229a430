//! Ending ends: whatever goes on by a sign-in, a key, a factor or an account is over with it.

use super::{run, signed_in, small_rights, turn};
use crate::common::viewer::Viewer;
use crate::common::{client, until, world};
use aerie_api::{FromViewer, NewPin, NewVisit, PersonChange};
use aerie_client::{Client, DesktopLink, SessionQuery};
use std::process::Stdio;
use std::time::Duration;
use tokio::process::Child;
use tokio::task::JoinHandle;

/// What is allowed to take a while on a busy machine; it is over within a second on an idle one.
const SOON: Duration = Duration::from_secs(15);

/// A shell in which nothing happens.
async fn shell(login: &str, code: &str) -> Child {
    let p = &world().people;
    let person = login.split('+').next().unwrap().to_string();
    let child = p.command("ssh", code, &["-tt", &format!("{login}@aerie")]).stdin(Stdio::piped()).spawn().unwrap();
    let query = SessionQuery { state: Some("live".into()), person: Some(person), ..SessionQuery::default() };
    until("a live session", async || (!client().sessions(&query).await.unwrap().items.is_empty()).then_some(())).await;
    child
}

async fn ends(mut child: Child, why: &str) -> String {
    let stdin = child.stdin.take();
    tokio::time::timeout(SOON, child.wait()).await.unwrap_or_else(|_| panic!("goes on: {why}")).unwrap();
    drop(stdin);
    let mut said = String::new();
    for mut stream in [child.stdout.take().map(tokio_out), child.stderr.take().map(tokio_err)].into_iter().flatten() {
        let _ = tokio::io::AsyncReadExt::read_to_string(&mut stream, &mut said).await;
    }
    said
}

type Stream = std::pin::Pin<Box<dyn tokio::io::AsyncRead + Send>>;

fn tokio_out(s: tokio::process::ChildStdout) -> Stream {
    Box::pin(s)
}

fn tokio_err(s: tokio::process::ChildStderr) -> Stream {
    Box::pin(s)
}

/// Follows a live session until the stream breaks off.
fn watching(who: &Client, session: &str) -> JoinHandle<()> {
    let (who, session) = (who.clone(), session.to_string());
    tokio::spawn(async move {
        let _ = who.watch_live(&session, |_| true).await;
    })
}

async fn breaks_off(stream: JoinHandle<()>, why: &str) {
    tokio::time::timeout(SOON, stream).await.unwrap_or_else(|_| panic!("is still watched: {why}")).unwrap();
}

/// A desktop whose window is open.
async fn desktop(who: &Client) -> DesktopLink {
    let mut viewer = Viewer::of(who.desktop("coude-1", &aerie_api::DesktopQuery::default()).await.unwrap());
    viewer.say(FromViewer::Begin { reason: String::new(), ticket: String::new() }).await;
    viewer.until("a picture", |v| v.changes > 0).await;
    viewer.link
}

async fn is_gone(mut link: DesktopLink, why: &str) {
    let drained = async { while link.next().await.is_some() {} };
    tokio::time::timeout(SOON, drained).await.unwrap_or_else(|_| panic!("is still shown: {why}"));
}

async fn live(person: &str, machine: &str) -> usize {
    let query =
        SessionQuery { state: Some("live".into()), person: Some(person.into()), machine: Some(machine.into()), ..SessionQuery::default() };
    client().sessions(&query).await.unwrap().items.len()
}

fn suspended(yes: bool) -> PersonChange {
    PersonChange { suspended: Some(yes), ..PersonChange::default() }
}

#[tokio::test]
async fn a_sign_in_takes_everything_with_it_that_goes_on_by_it() {
    small_rights().await;
    let _turn = turn().await;
    // Something to watch, of somebody whom none of this concerns.
    let watched = shell("mira+mast-2", "").await;
    let query = SessionQuery { state: Some("live".into()), person: Some("mira".into()), ..SessionQuery::default() };
    let session = client().sessions(&query).await.unwrap().items[0].id.clone();
    for why in ["signed out", "signed out by an administrator", "suspended"] {
        let (tove, amara) = (signed_in("tove").await, signed_in("amara").await);
        let (stream, window) = (watching(&tove, &session), desktop(&amara).await);
        match why {
            "signed out" => {
                tove.sign_out().await.unwrap();
                amara.sign_out().await.unwrap();
            }
            "suspended" => {
                client().change_person("tove", &suspended(true)).await.unwrap();
                client().change_person("amara", &suspended(true)).await.unwrap();
            }
            _ => {
                client().sign_out_person("tove").await.unwrap();
                client().sign_out_person("amara").await.unwrap();
            }
        }
        breaks_off(stream, why).await;
        is_gone(window, why).await;
        until("no desktop session", async || (live("amara", "coude-1").await == 0).then_some(())).await;
        for person in ["tove", "amara"] {
            client().change_person(person, &suspended(false)).await.unwrap();
        }
    }
    assert_eq!(client().session(&session).await.unwrap().ended, None, "what was watched concerns none of them");
    drop(watched);
}

#[tokio::test]
async fn an_ssh_connection_rests_on_its_key_its_factors_and_its_person() {
    small_rights().await;
    let _turn = turn().await;
    let lena = client();
    // Signed out by an administrator: the shell says so.
    let child = shell("mira+mast-2", "").await;
    lena.sign_out_person("mira").await.unwrap();
    let said = ends(child, "signed out").await;
    assert!(said.contains("because the sign-in on which it rested is over"), "{said}");
    // A connection without a session is closed, too.
    let p = &world().people;
    let control = p.directory().join("rests");
    let option = format!("ControlPath={}", control.display());
    let master = p.command("ssh", "", &["-M", "-o", &option, "-N", "mira+mast-2@aerie"]).spawn().unwrap();
    until("the control socket", async || control.exists().then_some(())).await;
    lena.sign_out_person("mira").await.unwrap();
    ends(master, "signed out without a session").await;
    // A factor on which it rests.
    let code = p.codes.next("jun").await;
    let child = shell("jun+spectro-1", &code).await;
    lena.take_factor("jun", "code").await.unwrap();
    ends(child, "the code was taken away").await;
    // Its key.
    let child = shell("piet+mast-2", "").await;
    let key = lena.person("piet").await.unwrap().ssh_keys[0].fingerprint.clone();
    lena.remove_key_of("piet", &key).await.unwrap();
    ends(child, "the key was removed").await;
    let again = run("ssh", &["piet+mast-2@aerie", "true"], "").await;
    assert_eq!(again.status, Some(255), "{}", again.err);
    // Its person.
    let child = shell("mira+mast-2", "").await;
    lena.change_person("mira", &suspended(true)).await.unwrap();
    ends(child, "suspended").await;
    lena.change_person("mira", &suspended(false)).await.unwrap();
}

#[tokio::test]
async fn pins_and_visits_end_with_the_account_that_made_them() {
    small_rights().await;
    let _turn = turn().await;
    let mira = signed_in("mira").await;
    let pin = mira.issue_pin(&NewPin { note: "a visit".into() }).await.unwrap();
    let made =
        mira.make_visit(&NewVisit { queue: "help-workstations".into(), person: "Rhea".into(), ..NewVisit::default() }).await.unwrap();
    client().change_person("mira", &suspended(true)).await.unwrap();
    let given = |pin: &str, visit: Option<String>| aerie_api::GivenPin { pin: pin.into(), visit };
    let nobody = Client::new(&world().people.demo.api, None);
    assert!(nobody.enter_pin(&given(&pin.pin, None)).await.is_err());
    assert!(nobody.enter_pin(&given(&made.pin, Some(made.visit.id.clone()))).await.is_err());
    let visit = client().visit(&made.visit.id).await.unwrap();
    assert!(visit.technician.as_deref().unwrap_or_default().is_empty(), "{visit:?}");
    client().change_person("mira", &suspended(false)).await.unwrap();
}
