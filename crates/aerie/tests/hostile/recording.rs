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

/// Changes the database of the service, as whoever holds its file can.
fn change(sql: &str) {
    let database = std::path::Path::new(&world().people.demo.directory).join("data/aerie.db");
    let program = "import sqlite3,sys; c=sqlite3.connect(sys.argv[1], timeout=30); c.execute(sys.argv[2]); c.commit()";
    let done = std::process::Command::new("python3").args(["-c", program]).arg(database).arg(sql).status().unwrap();
    assert!(done.success(), "{sql}");
}

/// A recorded session of Arlo's that is over, other than this one.
async fn another(than: &str) -> (String, std::path::PathBuf) {
    let e = run("ssh", &["arlo+archive-db@aerie", "true"], "").await;
    assert_eq!(e.status, Some(0), "{}", e.err);
    let id = until("a closed session", async || Some(closed_session("arlo", "archive-db").await.id).filter(|id| id != than)).await;
    let recordings = std::path::Path::new(&world().people.demo.directory).join("data/recordings");
    let file = std::fs::read_dir(recordings).unwrap().map(|f| f.unwrap().path());
    let file = file.filter(|f| f.extension().is_none_or(|e| e != "places")).find(|f| f.to_string_lossy().contains(&id)).unwrap();
    (id, file)
}

#[tokio::test]
async fn a_recording_is_held_against_the_sealed_log_and_not_against_what_lies_beside_it() {
    small_rights().await;
    let _turn = turn().await;
    let (one, file) = another("").await;
    let (other, of_other) = another(&one).await;
    let holds = async || client().verify_recording(&one).await.unwrap();
    assert!(holds().await.holds, "{}", holds().await.sentence);
    // The recording of another session in its place, with its digest.
    let kept = std::fs::read(&file).unwrap();
    std::fs::copy(&of_other, &file).unwrap();
    change(&format!("UPDATE sessions SET digest = (SELECT digest FROM sessions WHERE id = '{other}') WHERE id = '{one}'"));
    let report = holds().await;
    assert!(!report.holds && report.sentence.contains("another session"), "{report:?}");
    // A shorter one of its own, with no digest at all: as if it had never been closed.
    std::fs::write(&file, &kept[..kept.len() - 60]).unwrap();
    change(&format!("UPDATE sessions SET digest = NULL WHERE id = '{one}'"));
    let report = holds().await;
    assert!(!report.holds && report.in_log == Some(false), "{report:?}");
    std::fs::write(&file, &kept).unwrap();
    assert!(holds().await.holds);
    // Somebody else was it.
    change(&format!("UPDATE sessions SET person = 'greta' WHERE id = '{one}'"));
    let report = holds().await;
    assert!(!report.holds && report.sentence.contains("arlo on archive-db as archivist"), "{report:?}");
    change(&format!("UPDATE sessions SET person = 'arlo' WHERE id = '{one}'"));
    assert!(holds().await.holds);
    // Its event says the digest of the other, and so does its file.
    let digest = async |id: &str| client().session(id).await.unwrap().digest.unwrap();
    change(&format!("UPDATE sessions SET digest = '{}' WHERE id = '{one}'", holds().await.digest));
    let (mine, theirs) = (digest(&one).await, digest(&other).await);
    let exchange = |from: &str, to: &str| {
        change(&format!("UPDATE events SET body = replace(body, '{from}', '{to}') WHERE kind = 'recording-closed' AND session = '{one}'"));
    };
    exchange(&mine, &theirs);
    change(&format!("UPDATE sessions SET ended = ended - 600000 WHERE id = '{one}'"));
    let report = holds().await;
    assert!(!report.holds && report.sentence.contains("its event was changed"), "{report:?}");
    exchange(&theirs, &mine);
    assert!(holds().await.holds);
}
