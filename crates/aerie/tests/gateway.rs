//! The gateway, driven by the real `ssh`, `scp` and `sftp` against real machines.

#![allow(clippy::unwrap_used, clippy::expect_used, clippy::panic, unreachable_pub, reason = "a test that cannot go on fails")]

mod common;

use aerie_client::ListQuery;
use base64::Engine as _;
use base64::engine::general_purpose::STANDARD;
use common::{client, closed_session, until, world};
use std::process::Stdio;
use std::time::Duration;
use tokio::io::{AsyncReadExt as _, AsyncWriteExt as _};

async fn newest_event(kind: &str, text: &str) -> aerie_api::EventView {
    until(&format!("an event {kind} with {text:?}"), async || {
        let query = ListQuery { kind: Some(kind.into()), q: Some(text.into()), limit: Some(1), ..ListQuery::default() };
        client().log(&query).await.unwrap().items.into_iter().next()
    })
    .await
}

#[tokio::test]
async fn exit_status_signals_streams_and_environment_pass() {
    let p = &world().people;
    let command = "echo out; echo err >&2; echo $LC_AERIE; exit 42";
    let e = p.run_with("ssh", "", &["-o", "SetEnv=LC_AERIE=passed", "backup-runner+archive-db@aerie", command], "").await.unwrap();
    assert_eq!((e.status, e.out.as_str(), e.err.as_str()), (Some(42), "out\npassed\n", "err\n"));
    let e = p.run_with("ssh", "", &["backup-runner+archive-db@aerie", "kill -TERM $$"], "").await.unwrap();
    // What ssh itself says of a remote signal.
    assert_eq!(e.status, Some(255));
    let e = p.run_with("ssh", "", &["backup-runner+archive-db@aerie", "cat | wc -c"], &"x".repeat(300_000)).await.unwrap();
    assert_eq!(e.out.trim(), "300000");
}

#[tokio::test]
async fn a_window_that_changes_reaches_the_machine() {
    let p = &world().people;
    let out = p.directory().join("sizes");
    // The terminal is made larger as soon as the machine has told its first size.
    let script = format!(
        "stty rows 20 cols 60; touch {0}; (until grep -q '20 60' {0}; do sleep 0.05; done; stty rows 30 cols 70 < /dev/tty) & \
         ssh -tt -F {1} backup-runner+archive-db@aerie 'stty size; until [ \"$(stty size)\" = \"30 70\" ]; do sleep 0.05; done; stty size' > {0}",
        out.display(),
        p.demo.ssh.config
    );
    // `script` gives ssh a terminal of its own.
    let run = tokio::process::Command::new("script")
        .args(["-qec", &script, "/dev/null"])
        .stdin(Stdio::null())
        .stdout(Stdio::null())
        .kill_on_drop(true)
        .status();
    tokio::time::timeout(Duration::from_secs(30), run).await.expect("the new size did not arrive").unwrap();
    // `script` passes the end of its own input on as a control character, at some moment.
    let sizes = std::fs::read_to_string(out).unwrap().replace("^@", "");
    assert_eq!(sizes, "20 60\r\n30 70\r\n");
}

#[tokio::test]
async fn strangers_and_wrong_proofs_are_refused_alike_and_logged() {
    let p = &world().people;
    let wrong_key = p.demo.key_file("arlo").to_string();
    let mut said = vec![];
    for login in ["nobody+archive-db", "mira+archive-db", "noor+spectro-1"] {
        let to = format!("{login}@127.0.0.1");
        let port = p.demo.ssh.port.to_string();
        let e = p.run_with("ssh", "", &["-p", &port, "-i", &wrong_key, &to, "id"], "").await.unwrap();
        assert_eq!(e.status, Some(255), "{login}");
        said.push(e.err.replace(login, "X"));
    }
    assert_eq!(said[0], said[1]);
    assert_eq!(said[0], said[2]);
    newest_event("sign-in-failed", "nobody+archive-db").await;
    // An account whose last day is over does not get in with its own key either.
    let own = p.run("ssh", "noor", &["noor+spectro-1@aerie", "id"], "").await.unwrap();
    assert_eq!(own.status, Some(255));
    newest_event("sign-in-failed", "Expired").await;
}

#[tokio::test]
async fn a_wrong_code_is_refused_and_a_used_one_told_so() {
    let p = &world().people;
    let e = p.run_with("ssh", "000000", &["jun+spectro-1@aerie"], "").await.unwrap();
    assert_eq!(e.status, Some(255));
    newest_event("sign-in-failed", "jun+spectro-1").await;
    let code = p.codes.next("jun").await;
    let arguments = ["jun+spectro-1@aerie", "-tt"];
    let first = p.run_with("ssh", &code, &arguments, "exit\n").await.unwrap();
    assert_eq!(first.status, Some(0), "{}", first.err);
    let again = p.run_with("ssh", &code, &arguments, "exit\n").await.unwrap();
    assert_eq!(again.status, Some(255));
    assert!(newest_event("sign-in-failed", "used already").await.sentence.contains("jun"));
}

#[tokio::test]
async fn a_login_name_that_names_nothing_is_answered_with_what_to_write() {
    let p = &world().people;
    let e = p.run_with("ssh", "", &["arlo@aerie", "id"], "").await.unwrap();
    assert_eq!(e.status, Some(77));
    assert!(e.err.contains("ssh -p PORT arlo+MACHINE@HOST"), "{}", e.err);
    let e = p.run_with("ssh", "", &["arlo+root@archive-db@aerie", "id"], "").await.unwrap();
    assert!(e.err.contains("No rule lets you"), "{}", e.err);
}

#[tokio::test]
async fn the_jump_form_shows_no_machine_that_is_not_for_the_person() {
    let p = &world().people;
    let key = p.demo.key_file("arlo").to_string();
    let mut said = vec![];
    for machine in ["dome-east", "dome-north"] {
        let to = format!("operator@{machine}");
        let e = p.run_with("ssh", "", &["-i", &key, "-J", "arlo@aerie", &to, "id"], "").await.unwrap();
        assert_eq!(e.status, Some(255));
        said.push(e.err.replace(machine, "M"));
    }
    assert_eq!(said[0], said[1]);
}

#[tokio::test]
async fn what_is_not_granted_is_not_carried() {
    let p = &world().people;
    // Only downloads are granted to the backup: the file transfer refuses the rest, and says so.
    let e = p.run("sftp", "backup-runner", &["-b", "-", "backup-runner+archive-db@aerie"], "put /etc/hostname /tmp/planted").await.unwrap();
    assert_ne!(e.status, Some(0));
    assert!(e.err.contains("Permission denied"), "{}", e.err);
    newest_event("file-transferred", "/tmp/planted").await;
    // No port is forwarded, in either direction, and no agent.
    let e = p
        .run("ssh", "backup-runner", &["-o", "ExitOnForwardFailure=yes", "-R", "0:127.0.0.1:1", "backup-runner+archive-db@aerie", "id"], "")
        .await
        .unwrap();
    assert_ne!(e.status, Some(0));
    let e = p.run("ssh", "backup-runner", &["-W", "127.0.0.1:22", "backup-runner+archive-db@aerie"], "").await.unwrap();
    assert_ne!(e.status, Some(0));
}

#[tokio::test]
async fn typed_secrets_are_not_recorded_and_what_is_shown_is() {
    let p = &world().people;
    let mut child = p.command("ssh", "", &["-tt", "arlo+archive-db@aerie"]).stdin(Stdio::piped()).spawn().unwrap();
    let (mut stdin, mut stdout) = (child.stdin.take().unwrap(), child.stdout.take().unwrap());
    let mut screen = String::new();
    let mut piece = [0; 4096];
    // The prompt comes when nothing is echoed any more, and is not in what is typed for it.
    let asking = "stty -echo; printf Sec%s: ret; read -r s; stty echo; echo; echo done\r";
    for (waited, typed) in [(":~$ ", asking), ("Secret:", "hunter-two\r"), ("done\r\n", "exit\r")] {
        tokio::time::timeout(Duration::from_secs(20), async {
            while !screen.contains(waited) {
                let n = stdout.read(&mut piece).await.unwrap();
                screen.push_str(&String::from_utf8_lossy(&piece[..n]));
            }
        })
        .await
        .unwrap_or_else(|_| panic!("{waited:?} was not shown: {screen:?}"));
        screen.clear();
        stdin.write_all(typed.as_bytes()).await.unwrap();
    }
    assert_eq!(child.wait().await.unwrap().code(), Some(0));
    let session = closed_session("arlo", "archive-db").await;
    let frames = client().frames(&session.id).await.unwrap();
    let raw = serde_json::to_string(&frames).unwrap();
    let text = client().recording_text(&session.id).await.unwrap();
    assert!(text.contains("read -r s") && !text.contains("hunter-two"), "{text}");
    for f in &frames {
        let bytes = f.data.as_ref().map(|d| STANDARD.decode(d).unwrap()).unwrap_or_default();
        assert!(!String::from_utf8_lossy(&bytes).contains("hunter"), "{f:?}");
    }
    assert!(raw.contains("hidden"));
    let report = client().verify_recording(&session.id).await.unwrap();
    assert!(report.holds && report.in_log == Some(true));
}

#[tokio::test]
async fn a_client_that_leaves_at_any_stage_leaves_nothing_behind() {
    let p = &world().people;
    for wait in ["", "SSH-2.0-", "SSH-2.0-probe\r\n"] {
        let mut s = tokio::net::TcpStream::connect((p.demo.ssh.host.as_str(), p.demo.ssh.port)).await.unwrap();
        s.write_all(wait.as_bytes()).await.unwrap();
    }
    let mut child = p.command("ssh", "", &["-tt", "mira+mast-2@aerie"]).stdin(Stdio::piped()).spawn().unwrap();
    let query = aerie_client::SessionQuery { state: Some("live".into()), person: Some("mira".into()), ..Default::default() };
    let live = async || client().sessions(&query).await.unwrap().items.len();
    until("a live session", async || (live().await == 1).then_some(())).await;
    child.kill().await.unwrap();
    until("no live session", async || (live().await == 0).then_some(())).await;
    assert!(client().verify_log().await.unwrap().holds);
}

// ---- the SSH engine: each fault that our patch mends ----

#[tokio::test]
async fn bulk_data_flows_in_both_directions() {
    let p = &world().people;
    let code = p.codes.next("sunniva").await;
    let mut child = p.command("ssh", &code, &["sunniva+spectro-1@aerie", "cat"]).stdin(Stdio::piped()).spawn().unwrap();
    let (mut stdin, mut stdout) = (child.stdin.take().unwrap(), child.stdout.take().unwrap());
    let total: usize = 64 << 20;
    let feed = tokio::spawn(async move {
        let piece = vec![b'x'; 1 << 20];
        for _ in 0..total >> 20 {
            stdin.write_all(&piece).await.unwrap();
        }
    });
    let mut seen = 0;
    let mut piece = vec![0; 1 << 16];
    let all = async {
        loop {
            match stdout.read(&mut piece).await.unwrap() {
                0 => return seen,
                n => seen += n,
            }
        }
    };
    assert_eq!(tokio::time::timeout(Duration::from_secs(60), all).await.unwrap(), total);
    feed.await.unwrap();
    assert_eq!(child.wait().await.unwrap().code(), Some(0));
}

#[tokio::test]
async fn a_reader_that_stops_reading_ends_the_writer() {
    let p = &world().people;
    let code = p.codes.next("amara").await;
    let mut child = p.command("ssh", &code, &["amara+spectro-1@aerie", "yes"]).spawn().unwrap();
    let mut stdout = child.stdout.take().unwrap();
    let mut first = [0; 2];
    stdout.read_exact(&mut first).await.unwrap();
    drop(stdout);
    tokio::time::timeout(Duration::from_secs(20), child.wait()).await.expect("ssh hangs").unwrap();
}

#[tokio::test]
async fn a_stalled_channel_does_not_hold_up_the_others() {
    let p = &world().people;
    let code = p.codes.next("sunniva").await;
    let control = p.directory().join("master");
    let path = control.display().to_string();
    let option = format!("ControlPath={path}");
    let mut master = p.command("ssh", &code, &["-M", "-o", &option, "-N", "sunniva+guide-cam@aerie"]).spawn().unwrap();
    until("the control socket", async || control.exists().then_some(())).await;
    let mut stalled = p.command("ssh", "", &["-o", &option, "sunniva+guide-cam@aerie", "cat /dev/zero"]).spawn().unwrap();
    let mut stdout = stalled.stdout.take().unwrap();
    let mut first = [0; 1];
    stdout.read_exact(&mut first).await.unwrap();
    // Nobody reads the zeros any more; twenty others go on.
    for n in 0..20 {
        let e = p
            .run_with("ssh", "", &["-o", &option, "sunniva+guide-cam@aerie", &format!("echo {n}; head -c 3000000 /dev/zero | wc -c")], "")
            .await
            .unwrap();
        assert_eq!(e.out, format!("{n}\n3000000\n"));
    }
    let _ = stalled.kill().await;
    let _ = master.kill().await;
}

/// The last picture of a film, as grey levels of 800 × 480 points.
fn last_picture(film: &[u8]) -> Vec<u8> {
    let file = tempfile::NamedTempFile::new().unwrap();
    std::fs::write(file.path(), film).unwrap();
    let mut player = std::process::Command::new("ffmpeg");
    player.args(["-v", "error", "-i"]).arg(file.path()).args(["-f", "rawvideo", "-pix_fmt", "gray", "-"]);
    let pictures = player.output().unwrap().stdout;
    pictures[pictures.len() - 800 * 480..].to_vec()
}

#[tokio::test]
async fn a_recorded_terminal_becomes_a_film_that_plays_anywhere() {
    let p = &world().people;
    // Of this account nobody else has a terminal here; a wide block is easily told from an empty screen.
    let drawn = "printf '\\033[?25l\\033[5;1H\\033[47m%80s\\033[0m' ''; sleep 1";
    let shown = p.run_with("ssh", "", &["-tt", "backup-runner+archive-db@aerie", drawn], "").await.unwrap();
    assert_eq!(shown.status, Some(0), "{}", shown.err);
    let id = until("the recording", async || {
        let query = aerie_client::SessionQuery { person: Some("backup-runner".into()), limit: Some(20), ..Default::default() };
        let all = client().sessions(&query).await.ok()?.items;
        let mut found = None;
        for s in all.into_iter().filter(|s| s.ended.is_some() && s.recorded) {
            let frames = client().frames(&s.id).await.ok()?;
            let shown: Vec<u8> = frames.iter().filter_map(|f| STANDARD.decode(f.data.as_ref()?).ok()).flatten().collect();
            if String::from_utf8_lossy(&shown).contains("\x1b[5;1H") {
                found = found.or(Some(s.id));
            }
        }
        found
    })
    .await;
    client().make_film(&id).await.unwrap();
    let made = until("the film", async || client().film(&id).await.ok().filter(|f| f.state != "waiting")).await;
    assert_eq!(made.state, "done", "{made:?}");
    let picture = last_picture(&client().fetch_film(&id).await.unwrap());
    let bright = |row: usize| picture[row * 800..(row + 1) * 800].iter().filter(|p| **p > 180).count();
    // The fifth line is white, the tenth is not.
    assert!(bright(4 * 20 + 10) > 700 && bright(9 * 20 + 10) < 50, "{} {}", bright(90), bright(190));
}
