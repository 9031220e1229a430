//! Ordinary clients: how a command ended is never lost.

use super::{run, shared_connection, small_rights};
use crate::common::{client, until, world};
use tokio::io::{AsyncReadExt as _, AsyncWriteExt as _};

#[tokio::test]
async fn the_exit_status_survives_a_shared_connection() {
    small_rights().await;
    let (option, mut master) = shared_connection("shared").await;
    for n in 0..100 {
        // Nothing to read, something to read, and input: each closes in an order of its own.
        let e = run("ssh", &["-o", &option, "arlo+archive-db@aerie", "exit 7"], "").await;
        assert_eq!((e.status, e.err.as_str()), (Some(7), ""), "{n}");
        let e = run("ssh", &["-o", &option, "arlo+archive-db@aerie", "echo last; exit 3"], "").await;
        assert_eq!((e.status, e.out.as_str()), (Some(3), "last\n"), "{n}");
        let e = run("ssh", &["-o", &option, "arlo+archive-db@aerie", "wc -c; exit 4"], &"x".repeat(100_000)).await;
        assert_eq!((e.status, e.out.trim()), (Some(4), "100000"), "{n}");
    }
    let _ = master.kill().await;
}

#[tokio::test]
async fn as_many_channels_at_once_as_there_are_places_are_all_served() {
    small_rights().await;
    let p = &world().people;
    let (option, mut master) = shared_connection("at-once").await;
    // As a tool does that works on many files; what is set up at a time is fewer, and the others wait for their turn.
    let commands: Vec<String> = (0..40).map(|n| format!("echo {n}; exit {n}")).collect();
    let all: Vec<_> =
        commands.iter().map(|c| p.command("ssh", "", &["-o", &option, "arlo+archive-db@aerie", c]).spawn().unwrap()).collect();
    for (n, child) in all.into_iter().enumerate() {
        let e = child.wait_with_output().await.unwrap();
        let (out, err) = (String::from_utf8_lossy(&e.stdout), String::from_utf8_lossy(&e.stderr));
        assert_eq!((e.status.code(), &*out), (i32::try_from(n).ok(), &*format!("{n}\n")), "{err}");
    }
    let _ = master.kill().await;
}

#[tokio::test]
async fn what_is_not_carried_is_said_in_one_line() {
    small_rights().await;
    let e = run("ssh", &["-A", "-o", "ForwardAgent=yes", "arlo+archive-db@aerie", "true"], "").await;
    // Without an agent here the client does not offer one.
    assert_eq!(e.status, Some(0), "{}", e.err);
    let e = run("ssh", &["-R", "0:127.0.0.1:1", "arlo+archive-db@aerie", "true"], "").await;
    assert!(e.err.contains("aerie: Remote port forwarding (-R) is not carried."), "{}", e.err);
    let e = run("ssh", &["-N", "-o", "ExitOnForwardFailure=yes", "-W", "127.0.0.1:22", "arlo+archive-db@aerie"], "").await;
    assert!(e.err.contains("No rule lets you forward ports through archive-db"), "{}", e.err);
    // 69: nothing refused it, it is not there.
    let p = &world().people;
    let e = p.run("ssh", "sunniva", &["sunniva+comb-1@aerie", "true"], "").await.unwrap();
    assert!(matches!(e.status, Some(0 | 69)), "{:?} {}", e.status, e.err);
}

#[tokio::test]
async fn old_clients_are_let_in_when_the_setting_says_so() {
    small_rights().await;
    let set = async |value: &str| {
        let change = aerie_api::SettingValue { value: value.into(), why: "An old instrument".into() };
        client().change_setting("older-clients", &change).await.unwrap();
    };
    let old = [
        "-oCiphers=aes128-ctr",
        "-oMACs=hmac-sha2-256",
        "-oKexAlgorithms=ecdh-sha2-nistp256",
        "-oHostKeyAlgorithms=ecdsa-sha2-nistp256",
        "-oStrictHostKeyChecking=no",
        "-oUserKnownHostsFile=/dev/null",
        "-oGlobalKnownHostsFile=/dev/null",
        "arlo+archive-db@aerie",
        "echo old",
    ];
    let e = run("ssh", &old, "").await;
    assert!(e.err.contains("no matching") && e.out.is_empty(), "{}", e.err);
    set("yes").await;
    let e = run("ssh", &old, "").await;
    assert_eq!((e.status, e.out.as_str()), (Some(0), "old\n"), "{}", e.err);
    let trust = client().trust().await.unwrap();
    assert!(trust.gateway_older_host_key.is_some_and(|k| k.starts_with("ecdsa-sha2-nistp256 ")));
    // Nothing with SHA-1 or CBC even so.
    for broken in ["-oCiphers=aes128-cbc", "-oMACs=hmac-sha1", "-oKexAlgorithms=diffie-hellman-group14-sha1"] {
        // Of options that are given twice the first counts; with this cipher the MAC matters.
        let e = run("ssh", &[broken, "-oCiphers=aes128-ctr", "arlo+archive-db@aerie", "echo broken"], "").await;
        assert!(e.err.contains("no matching") && e.out.is_empty(), "{broken} {}", e.err);
    }
    set("no").await;
    assert!(run("ssh", &old, "").await.err.contains("no matching"));
}

#[tokio::test]
async fn a_channel_of_an_unknown_kind_is_refused_once() {
    small_rights().await;
    let p = &world().people;
    // A stream to a socket of the machine: a kind of channel that is not carried. The connection goes on.
    let control = p.directory().join("unknown");
    let option = format!("ControlPath={}", control.display());
    let socket = p.directory().join("there.sock");
    let forward = format!("{}:/run/nothing.sock", socket.display());
    let mut master = p.command("ssh", "", &["-M", "-o", &option, "-L", &forward, "-N", "arlo+archive-db@aerie"]).spawn().unwrap();
    until("the sockets", async || (control.exists() && socket.exists()).then_some(())).await;
    let mut stream = tokio::net::UnixStream::connect(&socket).await.unwrap();
    let _ = stream.write_all(b"hello").await;
    let mut got = vec![];
    let _ = stream.read_to_end(&mut got).await;
    assert!(got.is_empty());
    let e = run("ssh", &["-o", &option, "arlo+archive-db@aerie", "echo on"], "").await;
    assert_eq!(e.out, "on\n", "{}", e.err);
    let _ = master.kill().await;
}
