//! Drives the real `ssh`, `scp`, `sftp` and `rsync` as one of the demo's people: for the tour, the tests and the benchmarks.

use super::{Description, code_for};
use crate::Failure;
use jiff::Timestamp;
use std::collections::HashMap;
use std::io::Write as _;
use std::os::unix::fs::OpenOptionsExt as _;
use std::path::PathBuf;
use std::process::Stdio;
use std::sync::Mutex;
use std::sync::atomic::{AtomicU64, Ordering};
use std::time::Duration;
use tokio::process::{Child, Command};

/// Seconds of a code's step.
const STEP: i64 = 30;
/// Seconds that a code may take to where it is checked.
const LEEWAY: i64 = 10;

/// Hands out codes that were not used yet. The gateway takes the code of the step before and behind too, so that three
/// sign-ins of one person need not wait.
#[derive(Debug, Default)]
pub struct Codes {
    used: Mutex<HashMap<String, i64>>,
}

impl Codes {
    /// A code that the person has not used; waits until there is one.
    pub async fn next(&self, person: &str) -> String {
        loop {
            let second = Timestamp::now().as_second();
            let now = second / STEP;
            // The code of the step before is good for as long as this step lasts: near its end, one on its way would come too late.
            let earliest = if second % STEP < STEP - LEEWAY { now - 1 } else { now };
            let step = {
                let mut used = self.used.lock().unwrap_or_else(std::sync::PoisonError::into_inner);
                let last = used.entry(person.into()).or_insert(now - 2);
                let step = (*last + 1).max(earliest);
                if step <= now + 1 {
                    *last = step;
                }
                step
            };
            if step <= now + 1 {
                return code_for(person, Timestamp::from_second(step * STEP).unwrap_or_default());
            }
            let begins = (step - 1) * STEP;
            let wait = begins - Timestamp::now().as_second();
            tokio::time::sleep(Duration::from_secs(u64::try_from(wait).unwrap_or(0).max(1))).await;
        }
    }
}

/// What a program printed and how it ended.
#[derive(Debug, Clone)]
pub struct Ended {
    /// Exit status; none after a signal.
    pub status: Option<i32>,
    /// Standard output.
    pub out: String,
    /// Standard error.
    pub err: String,
}

/// The people of a demo at their terminals.
pub struct People {
    /// The demo.
    pub demo: Description,
    /// Their codes.
    pub codes: Codes,
    askpass: PathBuf,
    directory: tempfile::TempDir,
    next: AtomicU64,
}

impl People {
    /// For a running demo.
    ///
    /// # Errors
    /// When a temporary file cannot be written.
    pub fn new(demo: Description) -> Result<Self, Failure> {
        let failed = |e: std::io::Error| Failure::file("a temporary file", &e);
        let directory = tempfile::Builder::new().prefix("aerie-people-").tempdir().map_err(failed)?;
        let askpass = directory.path().join("askpass");
        let mut file = std::fs::OpenOptions::new().write(true).create_new(true).mode(0o700).open(&askpass).map_err(failed)?;
        file.write_all(b"#!/bin/sh\ncase \"$1\" in *Reason*) [ -z \"$AERIE_REASON\" ] || exec echo \"$AERIE_REASON\";; esac\nexec cat \"$AERIE_ANSWER\"\n").map_err(failed)?;
        drop(file);
        Ok(Self { demo, codes: Codes::default(), askpass, directory, next: AtomicU64::new(0) })
    }

    /// A directory for files of one's own.
    pub fn directory(&self) -> &std::path::Path {
        self.directory.path()
    }

    /// The newest link to a page of this path that the demo's mail server was given, once it has come; at most for half a minute.
    pub async fn mailed_link(&self, page: &str) -> Option<String> {
        super::sink::mailed_link(std::path::Path::new(&self.demo.directory), page).await
    }

    /// A program with the demo's configuration, which answers a question for a code with `answer`.
    pub fn command(&self, program: &str, answer: &str, arguments: &[&str]) -> Command {
        let file = self.directory.path().join(format!("answer-{}", self.next.fetch_add(1, Ordering::Relaxed)));
        let _ = std::fs::write(&file, answer);
        let mut command = Command::new(program);
        if program == "rsync" {
            command.arg("-e").arg(format!("ssh -F {}", self.demo.ssh.config));
        } else {
            command.arg("-F").arg(&self.demo.ssh.config);
        }
        command.args(arguments).env("SSH_ASKPASS", &self.askpass).env("SSH_ASKPASS_REQUIRE", "force").env("AERIE_ANSWER", file);
        command.stdin(Stdio::null()).stdout(Stdio::piped()).stderr(Stdio::piped()).kill_on_drop(true);
        command
    }

    /// Runs a program as a person, with a fresh code, to its end.
    ///
    /// # Errors
    /// When the program is not there, or does not end within a minute.
    pub async fn run(&self, program: &str, person: &str, arguments: &[&str], input: &str) -> Result<Ended, Failure> {
        let code = self.codes.next(person).await;
        self.run_with(program, &code, arguments, input).await
    }

    /// Runs a program as a person, with a fresh code, who gives this reason where one is asked for.
    ///
    /// # Errors
    /// When the program is not there, or does not end within a minute.
    pub async fn run_because(&self, program: &str, person: &str, reason: &str, arguments: &[&str]) -> Result<Ended, Failure> {
        let code = self.codes.next(person).await;
        let mut command = self.command(program, &code, arguments);
        command.env("AERIE_REASON", reason);
        Self::ended(command, program, arguments, "").await
    }

    /// Runs a program that answers a question for a code with `answer`.
    ///
    /// # Errors
    /// When the program is not there, or does not end within a minute.
    pub async fn run_with(&self, program: &str, answer: &str, arguments: &[&str], input: &str) -> Result<Ended, Failure> {
        Self::ended(self.command(program, answer, arguments), program, arguments, input).await
    }

    async fn ended(mut command: Command, program: &str, arguments: &[&str], input: &str) -> Result<Ended, Failure> {
        let failed = |e: std::io::Error| Failure { exit: crate::Exit::File, message: format!("{program}: {e}; is it installed?") };
        let mut child: Child = command.stdin(Stdio::piped()).spawn().map_err(failed)?;
        if let Some(mut stdin) = child.stdin.take() {
            let input = input.as_bytes().to_vec();
            tokio::spawn(async move {
                let _ = tokio::io::AsyncWriteExt::write_all(&mut stdin, &input).await;
            });
        }
        let done = tokio::time::timeout(Duration::from_secs(60), child.wait_with_output()).await;
        let output = done.map_err(|_| Failure::internal(format!("{program} {} did not end", arguments.join(" "))))?.map_err(failed)?;
        let text = |b: Vec<u8>| String::from_utf8_lossy(&b).into_owned();
        Ok(Ended { status: output.status.code(), out: text(output.stdout), err: text(output.stderr) })
    }
}
