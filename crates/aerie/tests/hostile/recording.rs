//! What must be recorded is recorded.

use super::{run, small_rights, turn};
use crate::common::{client, closed_session, until, world};
use aerie_api::FrameKind;
use aerie_client::SessionQuery;
use base64::Engine as _;
use base64::engine::general_purpose::STANDARD;
use std::process::Stdio;

/// Everything that a recording holds of this kind.
async fn recorded(session: &str, kind: FrameKind) -> String {
    let frames = client().frames(session).await.unwrap();
    let of_kind = frames.iter().filter(|f| f.kind == kind).filter_map(|f| STANDARD.decode(f.data.as_ref()?).ok());
    String::from_utf8_lossy(&of_kind.flatten().collect::<Vec<u8>>()).into_owned()
}

#[tokio::test]
async fn commands_without_a_terminal_are_recorded_whole() {
    small_rights().await;
    let _turn = turn().await;
    let commands = format!("head -c 400000 /dev/zero | tr '\\0' x\necho AFTER-THE-JUNK\n# {}\necho LAST-COMMAND\n", "y".repeat(300_000));
    for arguments in [&["arlo+archive-db@aerie", "sh"][..], &["-T", "arlo+archive-db@aerie"]] {
        let e = run("ssh", arguments, &commands).await;
        assert!(e.out.contains("LAST-COMMAND"), "{}", e.err);
        let session = closed_session("arlo", "archive-db").await;
        let (input, output) = (recorded(&session.id, FrameKind::Input).await, recorded(&session.id, FrameKind::Output).await);
        assert!(input.contains("echo AFTER-THE-JUNK") && input.ends_with("echo LAST-COMMAND\n"), "{}", input.len());
        assert!(output.contains("AFTER-THE-JUNK") && output.contains("LAST-COMMAND"), "{}", output.len());
    }
}

#[tokio::test]
async fn turning_the_echo_off_hides_no_commands() {
    small_rights().await;
    let _turn = turn().await;
    let e =
        run("ssh", &["-tt", "arlo+archive-db@aerie"], "stty -echo\nexec 3>&1 >/dev/null\ntouch unseen-by-nobody\nexec >&3\nexit\n").await;
    assert_eq!(e.status, Some(0), "{}", e.err);
    let session = closed_session("arlo", "archive-db").await;
    assert!(recorded(&session.id, FrameKind::Input).await.contains("touch unseen-by-nobody"));
}

#[tokio::test]
async fn rules_that_begin_to_demand_count_for_what_is_live() {
    small_rights().await;
    let _turn = turn().await;
    let before = client().policy().await.unwrap();
    // Somebody whom no rule has recorded so far.
    let unrecorded =
        before.text.replace("machines = \"!label:closed & !label:visits\"", "machines = \"!label:closed & !label:visits & !name:mast-2\"");
    assert_ne!(unrecorded, before.text);
    let table = [
        ("recording = true", "need a recording"),
        ("limits = { session = \"1s\" }", "its time was up"),
        ("ticket = \"OBS-*\"", "a ticket"),
        ("factors = [\"passkey\"]", "passkey"),
    ];
    for (demand, said) in table {
        client().publish_policy(&unrecorded, None).await.unwrap();
        let mut child = world().people.command("ssh", "", &["-tt", "mira+mast-2@aerie"]).stdin(Stdio::piped()).spawn().unwrap();
        let query = SessionQuery {
            state: Some("live".into()),
            person: Some("mira".into()),
            machine: Some("mast-2".into()),
            ..SessionQuery::default()
        };
        let live = until("a live session", async || client().sessions(&query).await.unwrap().items.into_iter().next()).await;
        assert!(!live.recorded, "{demand}");
        let text = format!(
            "{unrecorded}\n[[require]]\nname = \"from-now-on\"\nmachines = \"name:mast-2\"\ncapabilities = [\"shell\"]\n{demand}\n"
        );
        let published = client().publish_policy(&text, None).await.unwrap();
        assert!(published.version.is_some(), "{demand}: {published:?}");
        // The pipe stays open: only the gateway can end it.
        let stdin = child.stdin.take();
        let ended = tokio::time::timeout(std::time::Duration::from_secs(30), child.wait()).await;
        assert!(ended.is_ok(), "{demand}: it goes on");
        let mut out = String::new();
        let _ = tokio::io::AsyncReadExt::read_to_string(&mut child.stderr.take().unwrap(), &mut out).await;
        let _ = tokio::io::AsyncReadExt::read_to_string(&mut child.stdout.take().unwrap(), &mut out).await;
        assert!(out.contains(said), "{demand}: {out}");
        drop(stdin);
    }
    client().publish_policy(&before.text, None).await.unwrap();
}
