//! The command line against a running service, and on files alone.

#![allow(clippy::unwrap_used, clippy::expect_used, clippy::panic, unreachable_pub, reason = "a test that cannot go on fails")]

mod common;

use common::{AERIE, world};
use std::process::{Command, Output, Stdio};

fn aerie(arguments: &[&str]) -> Output {
    let demo = &world().people.demo;
    Command::new(AERIE)
        .args(arguments)
        .env("AERIE_SERVER", &demo.api)
        .env("AERIE_TOKEN", &demo.token)
        .stdin(Stdio::null())
        .output()
        .unwrap()
}

fn text(o: &Output) -> String {
    String::from_utf8_lossy(&o.stdout).into_owned()
}

fn json(arguments: &[&str]) -> serde_json::Value {
    let o = aerie(&[&["--json"], arguments].concat());
    serde_json::from_slice(&o.stdout).unwrap_or_else(|e| panic!("{arguments:?}: {e}: {}{}", text(&o), String::from_utf8_lossy(&o.stderr)))
}

#[test]
fn every_command_answers_in_text_and_json() {
    for arguments in [
        &["now"][..],
        &["machines", "list"],
        &["machines", "show", "coude-1"],
        &["machines", "retired"],
        &["machines", "codes"],
        &["machines", "trust", "coude-1"],
        &["vault", "list"],
        &["vault", "history", "chiller-2", "operator"],
        &["people", "list"],
        &["people", "show", "ines"],
        &["pins", "list"],
        &["settings", "list"],
        &["settings", "changes"],
        &["service-keys", "list"],
        &["sessions", "list"],
        &["recordings", "list"],
        &["log", "list"],
        &["log", "verify"],
        &["log", "checkpoint"],
        &["findings", "list"],
    ] {
        let o = aerie(arguments);
        assert_eq!(o.status.code(), Some(0), "{arguments:?}: {}", String::from_utf8_lossy(&o.stderr));
        assert!(!o.stdout.is_empty(), "{arguments:?}");
        json(arguments);
    }
    assert!(text(&aerie(&["policy", "show"])).contains("night-dome"));
    assert!(text(&aerie(&["completions", "bash"])).contains("_aerie"));
    assert!(text(&aerie(&["man-page"])).contains(".TH aerie"));
}

#[test]
fn a_recording_is_shown_verified_played_and_exported() {
    let newest = json(&["recordings", "list"])["items"].as_array().unwrap().iter().find(|s| s["person"] == "tomasz").unwrap()["id"]
        .as_str()
        .unwrap()
        .to_string();
    assert!(text(&aerie(&["sessions", "show", &newest])).contains("Tomasz Brandt had a shell on dome-west"));
    assert_eq!(json(&["recordings", "verify", &newest])["in_log"], true);
    assert!(text(&aerie(&["recordings", "export", &newest])).contains("operator@dome-west:~$"));
    let played = aerie(&["recordings", "play", &newest, "--speed", "100000", "--skip-idle", "0"]);
    assert!(text(&played).contains("logout"));
    assert_eq!(aerie(&["recordings", "play", &newest, "--speed", "0"]).status.code(), Some(2));
}

#[test]
fn why_answers_at_any_hour_and_the_exit_code_tells() {
    let why = |at: &str| {
        let o = aerie(&["why", "ines", "shell", "dome-east", "--at", at]);
        (o.status.code(), text(&o))
    };
    assert_eq!(
        why("2026-11-23 12:00"),
        (Some(1), "Ines Okafor may not open a shell on dome-east at this hour; the hours begin at 18:00 (night-dome, line 13).\nWhat would change it:\n  opens at 18:00\n".into())
    );
    assert_eq!(why("2026-11-23T23:00:00Z").0, Some(0));
    assert_eq!(why("noon").0, Some(2));
    assert_eq!(aerie(&["why", "ines", "fly", "dome-east"]).status.code(), Some(5));
}

#[test]
fn what_fails_says_what_to_do_next() {
    let demo = &world().people.demo;
    let run = |envs: &[(&str, &str)], arguments: &[&str]| {
        let home = tempfile::tempdir().unwrap();
        let o = Command::new(AERIE)
            .args(arguments)
            .env("XDG_CONFIG_HOME", home.path())
            .envs(envs.iter().copied())
            .stdin(Stdio::null())
            .output()
            .unwrap();
        (o.status.code(), String::from_utf8_lossy(&o.stderr).into_owned())
    };
    let (code, said) = run(&[], &["now"]);
    assert!(code == Some(3) && said.contains("aerie sign-in NAME"), "{said}");
    let (code, said) = run(&[("AERIE_SERVER", &demo.api), ("AERIE_TOKEN", "wrong")], &["now"]);
    assert!(code == Some(3) && said.contains("aerie sign-in"), "{said}");
    let (code, said) = run(&[("AERIE_SERVER", "http://127.0.0.1:1"), ("AERIE_TOKEN", "x")], &["now"]);
    assert!(code == Some(4) && said.contains("cannot be reached"), "{said}");
    assert_eq!(aerie(&["sessions", "show", "nothing"]).status.code(), Some(5));
    assert_eq!(aerie(&["audit", "scan", "/does/not/exist"]).status.code(), Some(6));
    // What nobody understands is no clean log.
    let kept = tempfile::tempdir().unwrap();
    let odd = kept.path().join("odd.log");
    std::fs::write(&odd, "__CURSOR=s=1\nMESSAGE=Accepted password for root from 203.0.113.9 port 22 ssh2\n").unwrap();
    let o = aerie(&["audit", "scan", odd.to_str().unwrap()]);
    let said = String::from_utf8_lossy(&o.stdout).into_owned();
    assert_eq!(o.status.code(), Some(6), "{said}");
    assert!(said.contains("nothing in it was understood") && !said.contains("nothing to complain of"), "{said}");
}

#[tokio::test]
async fn signing_in_keeps_a_token_and_signing_out_forgets_it() {
    let demo = &world().people.demo;
    let home = tempfile::tempdir().unwrap();
    let code = world().people.codes.next("mira").await;
    let run = |arguments: &[&str], input: String| {
        let mut child = Command::new(AERIE)
            .args(arguments)
            .env("XDG_CONFIG_HOME", home.path())
            .env_remove("AERIE_TOKEN")
            .stdin(Stdio::piped())
            .stdout(Stdio::piped())
            .stderr(Stdio::piped())
            .spawn()
            .unwrap();
        std::io::Write::write_all(&mut child.stdin.take().unwrap(), input.as_bytes()).unwrap();
        child.wait_with_output().unwrap()
    };
    let o = run(&["--server", &demo.api, "sign-in", "mira"], format!("mira watches the sky\n{code}\n"));
    assert_eq!(o.status.code(), Some(0), "{}", String::from_utf8_lossy(&o.stderr));
    let file = home.path().join("aerie/client.json");
    assert_eq!(std::os::unix::fs::PermissionsExt::mode(&std::fs::metadata(&file).unwrap().permissions()) & 0o777, 0o600);
    // A technician sees their own sessions, and nothing else.
    let own = run(&["sessions", "list", "--json"], String::new());
    let listed: serde_json::Value = serde_json::from_slice(&own.stdout).unwrap();
    assert!(listed["items"].as_array().unwrap().iter().all(|s| s["person"] == "mira"));
    for forbidden in [
        &["people", "list"][..],
        &["people", "show", "ines"],
        &["settings", "list"],
        &["findings", "list"],
        &["log", "list"],
        &["log", "verify"],
        &["policy", "show"],
        &["directory", "export"],
        &["why", "ines", "shell", "dome-east"],
        &["sessions", "end", "x"],
    ] {
        assert_eq!(run(forbidden, String::new()).status.code(), Some(5), "{forbidden:?}");
    }
    let out = run(&["sign-out"], String::new());
    assert_eq!(out.status.code(), Some(0));
    assert!(!file.exists());
}

#[test]
fn logs_are_audited_by_the_service_and_on_files_alone_alike() {
    let demo = &world().people.demo;
    let log = &demo.machines.iter().find(|m| m.name == "dome-east").unwrap().log;
    let directory = tempfile::tempdir().unwrap();
    let file = |name: &str, bytes: Vec<u8>| {
        let path = directory.path().join(name);
        std::fs::write(&path, bytes).unwrap();
        path.display().to_string()
    };
    let (rules, people) =
        (file("rules.toml", aerie(&["policy", "show"]).stdout), file("directory.json", aerie(&["directory", "export"]).stdout));
    let ids = |v: &serde_json::Value| {
        let mut ids: Vec<_> = v["read"][0]["result"]["findings"]
            .as_array()
            .unwrap()
            .iter()
            .map(|f| (f["id"].to_string(), f["sentence"].to_string()))
            .collect();
        ids.sort();
        ids
    };
    let service = json(&["audit", "scan", log, "--zone", "UTC"]);
    let alone = Command::new(AERIE)
        .args(["--json", "audit", "scan", log, "--zone", "UTC", "--policy", &rules, "--directory", &people])
        .env_remove("AERIE_TOKEN")
        .output()
        .unwrap();
    assert_eq!(alone.status.code(), Some(1));
    let alone: serde_json::Value = serde_json::from_slice(&alone.stdout).unwrap();
    assert_eq!(ids(&service), ids(&alone));
    assert_eq!(ids(&service).len(), 2);

    let broken = file("broken.toml", b"[[forbid]]\nname = \"x\"\nhours = \"nigth\"\n".to_vec());
    let o = Command::new(AERIE).args(["audit", "scan", log, "--policy", &broken, "--directory", &people]).output().unwrap();
    assert_eq!(o.status.code(), Some(1));
    let said = String::from_utf8_lossy(&o.stderr).into_owned();
    assert!(said.contains("broken.toml:3:9") && said.contains("^^^^^^^"), "{said}");
    let checked = aerie(&["policy", "check", &broken, "--directory", &people]);
    assert_eq!(checked.status.code(), Some(1));
}

#[test]
fn the_tour_holds() {
    let o = Command::new(AERIE).args(["--json", "demo", "--tour"]).stdin(Stdio::null()).output().unwrap();
    let report: serde_json::Value = serde_json::from_slice(&o.stdout).unwrap();
    assert_eq!((o.status.code(), &report["held"]), (Some(0), &true.into()), "{report:#}");
}
