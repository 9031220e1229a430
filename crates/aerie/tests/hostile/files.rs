//! File transfers by right and by handle, with packets that no client sends.

use super::{event, run, small_rights};
use crate::common::world;
use std::process::Stdio;
use tokio::io::{AsyncReadExt as _, AsyncWriteExt as _};
use tokio::process::{Child, ChildStdin, ChildStdout};

/// A file transfer whose packets are written by hand.
struct Raw {
    _child: Child,
    to: ChildStdin,
    from: ChildStdout,
}

fn text(t: &str) -> Vec<u8> {
    [&(t.len() as u32).to_be_bytes()[..], t.as_bytes()].concat()
}

fn packet(kind: u8, id: u32, body: &[Vec<u8>]) -> Vec<u8> {
    let body = body.concat();
    [&(5 + body.len() as u32).to_be_bytes()[..], &[kind], &id.to_be_bytes(), &body].concat()
}

fn n(v: u32) -> Vec<u8> {
    v.to_be_bytes().to_vec()
}

impl Raw {
    async fn open(login: &str) -> Self {
        let mut child = world().people.command("ssh", "", &["-s", login, "sftp"]).stdin(Stdio::piped()).spawn().unwrap();
        let (to, from) = (child.stdin.take().unwrap(), child.stdout.take().unwrap());
        let mut raw = Self { _child: child, to, from };
        raw.send(&packet(1, 3, &[])).await;
        assert_eq!(raw.answer().await.0, 2);
        raw
    }

    async fn send(&mut self, bytes: &[u8]) {
        self.to.write_all(bytes).await.unwrap();
    }

    /// Kind, and what stands behind the identifier.
    async fn answer(&mut self) -> (u8, Vec<u8>) {
        let length = self.from.read_u32().await.unwrap();
        let mut body = vec![0; length as usize];
        self.from.read_exact(&mut body).await.unwrap();
        (body[0], body[5..].to_vec())
    }

    async fn ask(&mut self, bytes: &[u8]) -> (u8, Vec<u8>) {
        self.send(bytes).await;
        self.answer().await
    }

    /// Whether the channel is closed without a further answer.
    async fn is_closed(&mut self) -> bool {
        self.from.read_u8().await.is_err()
    }
}

const OPEN: u8 = 3;
const READ: u8 = 5;
const WRITE: u8 = 6;
const HANDLE: u8 = 102;
const STATUS: u8 = 101;

#[tokio::test]
async fn no_flags_open_a_file_for_more_than_the_right() {
    small_rights().await;
    // Uploads alone, names alone: OpenSSH's server reads where neither reading nor writing is asked for.
    for (login, flags) in [("greta", [0, 8, 4, 1, 3, 16 | 1, 0x40]), ("tove", [0, 8, 4, 1, 2, 3, 26])] {
        let mut raw = Raw::open(&format!("{login}+archive-db@aerie")).await;
        for flags in flags {
            let (kind, _) = raw.ask(&packet(OPEN, 1, &[text("/etc/passwd"), n(flags), n(0)])).await;
            assert_eq!(kind, STATUS, "{login}: {flags}");
        }
    }
    // What was opened for writing is not read, and a handle of nobody's is none.
    let mut raw = Raw::open("greta+archive-db@aerie").await;
    let (kind, handle) = raw.ask(&packet(OPEN, 1, &[text("by-greta"), n(2 | 8 | 16), n(0)])).await;
    assert_eq!(kind, HANDLE);
    assert_eq!(raw.ask(&packet(READ, 2, &[handle.clone(), n(0), n(0), n(100)])).await.0, STATUS);
    assert_eq!(raw.ask(&packet(READ, 3, &[text("\0\0\0\0"), n(0), n(0), n(100)])).await.0, STATUS);
    assert_eq!(
        raw.ask(&packet(WRITE, 4, &[handle, n(0), n(0), text("hello")])).await,
        (STATUS, [n(0), text("Success"), text("")].concat())
    );
}

#[tokio::test]
async fn the_log_names_what_was_read_under_any_name() {
    small_rights().await;
    // Two files under one identifier: which of them was opened, nobody could tell.
    let mut raw = Raw::open("sunniva+archive-db@aerie").await;
    let two = [packet(OPEN, 7, &[text("/etc/passwd"), n(1), n(0)]), packet(OPEN, 7, &[text("/etc/innocent"), n(1), n(0)])].concat();
    raw.send(&two).await;
    assert!(raw.is_closed().await);
    // A link that leads elsewhere.
    let e = run(
        "sftp",
        &["-b", "-", "arlo+archive-db@aerie"],
        "symlink /etc/hostname innocent-link\nget innocent-link /dev/null\nrm innocent-link",
    )
    .await;
    assert_eq!(e.status, Some(0), "{}", e.err);
    let copied = event("file-transferred", "/etc/hostname").await;
    assert!(copied.sentence.contains("arlo copied /etc/hostname from archive-db"), "{}", copied.sentence);
    let linked = event("file-changed", "innocent-link").await;
    assert!(linked.sentence.contains("archive-db"), "{}", linked.sentence);
    // What was tried and refused is there, too.
    let e = run("sftp", &["-b", "-", "sunniva+archive-db@aerie"], "rm /etc/hostname").await;
    assert_ne!(e.status, Some(0));
    event("file-changed", "sunniva was refused a change on archive-db: removed /etc/hostname").await;
}

#[tokio::test]
async fn a_refused_transfer_says_why_where_clients_look() {
    small_rights().await;
    let e = run("sftp", &["-b", "-", "arlo+dome-east@aerie"], "ls").await;
    assert_eq!(e.status, Some(255), "{}", e.err);
    assert!(e.err.contains("No rule lets you list or copy files on dome-east"), "{}", e.err);
    let mut raw = Raw::open("arlo+dome-east@aerie").await;
    let (kind, body) = raw.ask(&packet(16, 9, &[text(".")])).await;
    assert_eq!((kind, &body[..4]), (STATUS, &n(3)[..]));
    assert!(String::from_utf8_lossy(&body).contains("No rule lets you list or copy files on dome-east"));
}
