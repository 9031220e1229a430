//! The SSH server's log as observations: accesses with begin and end, and failures.

use super::clock::LogClock;
use super::line::{Login, Message, Proof, parse_line};
use crate::diagnostic::printable;
use jiff::Timestamp;
use std::collections::{HashMap, VecDeque};
use std::sync::Arc;

/// Connections that are followed at a time. A server has some hundreds; beyond, the oldest is given up (its end stays
/// unknown), so that a log in which nothing ends costs bounded memory.
const MOST_OPEN: usize = 20_000;
/// Longest line that is looked at; OpenSSH writes at most 1 KiB.
const MAX_LINE: usize = 16 << 10;
/// How much of a line is kept as evidence.
const KEPT_LINE: usize = 600;

/// A line of a log, as evidence.
#[derive(Debug, Clone, PartialEq, Eq, serde::Serialize, serde::Deserialize)]
pub struct LogLine {
    /// Name of the file.
    pub file: Arc<str>,
    /// Number of the line, from 1.
    pub number: u64,
    /// Byte offset of its beginning.
    pub offset: u64,
    /// The line, with control characters made visible, cut after 600 bytes.
    pub text: String,
}

/// One access to a machine.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Access {
    /// Host name as the log has it.
    pub host: Arc<str>,
    /// Account on the machine.
    pub account: String,
    /// Address it came from.
    pub source: String,
    /// Port there.
    pub port: u16,
    /// `publickey`, `password`, …
    pub method: String,
    /// Fingerprint of the key.
    pub key: Option<String>,
    /// Key id and authority of the certificate.
    pub certificate: Option<(String, String)>,
    /// When it began.
    pub begin: Timestamp,
    /// When it ended, where the log says so.
    pub end: Option<Timestamp>,
    /// The lines that say so.
    pub lines: Vec<LogLine>,
}

/// One login that failed.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Failure<'a> {
    /// Host name as the log has it.
    pub host: &'a Arc<str>,
    /// The name that was tried.
    pub account: &'a str,
    /// Address it came from.
    pub source: &'a str,
    /// When.
    pub at: Timestamp,
}

/// What the log shows.
#[derive(Debug, Clone, PartialEq, Eq)]
pub enum Observation {
    /// Somebody got in. Told when it happened, so that it stands in order with the failures.
    Began(Access),
    /// The access with this source and port is over.
    Ended {
        /// The whole access.
        access: Access,
    },
}

/// How much was read.
#[derive(Debug, Clone, Copy, Default, PartialEq, Eq, serde::Serialize, serde::Deserialize)]
pub struct Counts {
    /// Lines.
    pub lines: u64,
    /// Lines of the SSH server.
    pub server_lines: u64,
    /// Lines that say that somebody got in.
    pub accepted: u64,
    /// Lines that say that somebody did not.
    pub failed: u64,
    /// Lines of the SSH server that look like an access and could not be understood.
    pub unclear: u64,
    /// Lines longer than any real one, which were passed over.
    pub overlong: u64,
}

struct Open {
    access: Access,
    pid: u32,
    serial: u64,
}

/// Host, address and port: what tells one connection from another.
type ConnectionKey = (Arc<str>, String, u16);

/// Reads a log line by line. Feed [`SshdLog::handle_line`], which calls back for each failure, and take
/// [`SshdLog::poll_observation`] after each line; end with [`SshdLog::finish`].
pub struct SshdLog {
    file: Arc<str>,
    clock: LogClock,
    hosts: HashMap<String, Arc<str>>,
    open: HashMap<ConnectionKey, Open>,
    by_pid: HashMap<(Arc<str>, u32), (String, u16)>,
    order: VecDeque<(ConnectionKey, u64)>,
    serial: u64,
    counts: Counts,
    unclear: Vec<LogLine>,
    out: VecDeque<Observation>,
}

impl SshdLog {
    /// How many lines that could not be understood are kept, to be shown.
    pub const MOST_UNCLEAR: usize = 100;

    /// Begins to read the file of that name.
    pub fn new(file: &str, clock: LogClock) -> Self {
        Self {
            file: file.into(),
            clock,
            hosts: HashMap::new(),
            open: HashMap::new(),
            by_pid: HashMap::new(),
            order: VecDeque::new(),
            serial: 0,
            counts: Counts::default(),
            unclear: vec![],
            out: VecDeque::new(),
        }
    }

    /// Takes a line, without its line feed. `offset` is where it begins in the file.
    pub fn handle_line(&mut self, line: &[u8], offset: u64, mut failed: impl FnMut(Failure<'_>)) {
        self.counts.lines += 1;
        if line.len() > MAX_LINE {
            self.counts.overlong += 1;
            return;
        }
        let line = line.strip_suffix(b"\r").unwrap_or(line);
        let Some(parsed) = parse_line(line) else { return };
        self.counts.server_lines += 1;
        if parsed.message == Message::Other {
            return;
        }
        let Some(at) = self.clock.read(parsed.stamp) else { return self.note_unclear(line, offset) };
        let host = self.host(parsed.host);
        match parsed.message {
            Message::Failed(Login { account, source, .. }) => {
                self.counts.failed += 1;
                failed(Failure { host: &host, account, source, at });
            }
            Message::Accepted(login, proof) => {
                self.counts.accepted += 1;
                let evidence = self.evidence(line, offset);
                self.begin(host, parsed.pid, login, proof, at, evidence);
            }
            Message::Closed { source, port } => {
                let evidence = self.evidence(line, offset);
                self.end(&(host, source.to_string(), port), at, evidence);
            }
            Message::SessionClosed => {
                if let Some((source, port)) = self.by_pid.get(&(host.clone(), parsed.pid)).cloned() {
                    let evidence = self.evidence(line, offset);
                    self.end(&(host, source, port), at, evidence);
                }
            }
            Message::Unclear => self.note_unclear(line, offset),
            Message::Other => {}
        }
    }

    /// What the log showed since.
    pub fn poll_observation(&mut self) -> Option<Observation> {
        self.out.pop_front()
    }

    /// How much was read so far.
    pub fn counts(&self) -> Counts {
        self.counts
    }

    /// The lines that could not be understood; at most [`SshdLog::MOST_UNCLEAR`].
    pub fn unclear(&self) -> &[LogLine] {
        &self.unclear
    }

    /// Ends: accesses whose end the log does not show.
    pub fn finish(self) -> Vec<Access> {
        let mut rest: Vec<Open> = self.open.into_values().collect();
        rest.sort_by_key(|o| o.serial);
        rest.into_iter().map(|o| o.access).collect()
    }

    fn host(&mut self, name: &str) -> Arc<str> {
        if let Some(host) = self.hosts.get(name) {
            return host.clone();
        }
        // A log has a handful of hosts; one with thousands has names made up.
        if self.hosts.len() >= 10_000 {
            self.hosts.clear();
        }
        let host: Arc<str> = name.into();
        self.hosts.insert(name.into(), host.clone());
        host
    }

    fn evidence(&self, line: &[u8], offset: u64) -> LogLine {
        let kept = line.get(..KEPT_LINE.min(line.len())).unwrap_or(line);
        LogLine { file: self.file.clone(), number: self.counts.lines, offset, text: printable(&String::from_utf8_lossy(kept)) }
    }

    fn note_unclear(&mut self, line: &[u8], offset: u64) {
        self.counts.unclear += 1;
        if self.unclear.len() < Self::MOST_UNCLEAR {
            self.unclear.push(self.evidence(line, offset));
        }
    }

    fn begin(&mut self, host: Arc<str>, pid: u32, login: Login<'_>, proof: Proof<'_>, at: Timestamp, evidence: LogLine) {
        let access = Access {
            host: host.clone(),
            account: login.account.into(),
            source: login.source.into(),
            port: login.port,
            method: proof.method.into(),
            key: proof.key.map(Into::into),
            certificate: proof.certificate.map(|c| (c.id.into(), c.authority.into())),
            begin: at,
            end: None,
            lines: vec![evidence],
        };
        self.out.push_back(Observation::Began(access.clone()));
        let key = (host.clone(), access.source.clone(), access.port);
        self.serial += 1;
        self.by_pid.insert((host, pid), (access.source.clone(), access.port));
        self.order.push_back((key.clone(), self.serial));
        // A connection from the same address and port means that the earlier one is over.
        if let Some(earlier) = self.open.insert(key, Open { access, pid, serial: self.serial }) {
            self.by_pid.remove(&(earlier.access.host.clone(), earlier.pid));
            self.out.push_back(Observation::Ended { access: earlier.access });
        }
        while self.order.len() > MOST_OPEN {
            if let Some((key, serial)) = self.order.pop_front()
                && self.open.get(&key).is_some_and(|o| o.serial == serial)
                && let Some(open) = self.open.remove(&key)
            {
                self.by_pid.remove(&(open.access.host.clone(), open.pid));
                self.out.push_back(Observation::Ended { access: open.access });
            }
        }
    }

    fn end(&mut self, key: &ConnectionKey, at: Timestamp, evidence: LogLine) {
        let Some(mut open) = self.open.remove(key) else { return };
        self.by_pid.remove(&(key.0.clone(), open.pid));
        open.access.end = Some(at);
        open.access.lines.push(evidence);
        self.out.push_back(Observation::Ended { access: open.access });
    }
}
