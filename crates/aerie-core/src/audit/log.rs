//! Logs of servers as observations: accesses with begin and end, and failures, whoever wrote them.

use super::clock::LogClock;
use super::coverage::Coverage;
use super::line::{Login, Message, message, parse_line};
use super::read::desktop::{Peer, Shown, VncLog, xrdp_line, xrdp_text};
use super::read::header::{Entry, Stamp, header};
use super::read::journal::JournalEntry;
use super::read::login_records::{Kind as LoginKind, LoginRecord};
use super::read::system::{System, read_system};
use super::read::table::Row;
use super::read::windows::{Kind as WindowsKind, WindowsEvent};
use super::record::{SeenCertificate, Service};
use crate::diagnostic::printable;
use crate::evidence::hex;
use crate::policy::Capabilities;
use jiff::Timestamp;
use sha2::{Digest as _, Sha256};
use std::collections::{HashMap, VecDeque};
use std::sync::Arc;

/// Connections that are followed at a time. A server has some hundreds; beyond, the oldest is given up (its end stays
/// unknown), so that a log in which nothing ends costs bounded memory.
const MOST_OPEN: usize = 20_000;
/// Of these, the newest so many are looked at for what a line is about that names an account alone.
const MOST_LOOKED: usize = 1000;
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
    /// SHA-256 of the line as it stands in the file, without its line feed, in hexadecimal; empty where it is none of a file.
    #[serde(default, skip_serializing_if = "String::is_empty")]
    pub digest: String,
}

impl LogLine {
    /// The line `raw`, shown as `shown`.
    pub(super) fn cut(file: Arc<str>, number: u64, offset: u64, shown: &[u8], raw: &[u8]) -> Self {
        let kept = shown.get(..KEPT_LINE.min(shown.len())).unwrap_or(shown);
        let text = printable(&String::from_utf8_lossy(kept));
        Self { file, number, offset, text, digest: hex(&Sha256::digest(raw)) }
    }
}

/// One access to a machine.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Access {
    /// Host name as the log has it.
    pub host: Arc<str>,
    /// What was reached.
    pub service: Service,
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
    /// Its kind: `ED25519`, `RSA`, …
    pub algorithm: String,
    /// The certificate.
    pub certificate: Option<SeenCertificate>,
    /// What it was used for, as far as the log says.
    pub uses: Capabilities,
    /// When it began.
    pub begin: Timestamp,
    /// When it ended, where the log says so.
    pub end: Option<Timestamp>,
    /// The lines that say so.
    pub lines: Vec<LogLine>,
}

/// One login that failed.
#[derive(Clone, Copy)]
pub struct Failure<'a> {
    /// Host name as the log has it.
    pub host: &'a Arc<str>,
    /// What was to be reached.
    pub service: Service,
    /// The name that was tried.
    pub account: &'a str,
    /// Whether there is such an account, where the log says so.
    pub account_exists: Option<bool>,
    /// Address it came from.
    pub source: &'a str,
    /// When.
    pub at: Timestamp,
    /// Makes the line that says so.
    pub line: &'a dyn Fn() -> LogLine,
}

/// A command that one account ran as another.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Ran {
    /// Host name as the log has it.
    pub host: Arc<str>,
    /// Account that asked for it.
    pub account: String,
    /// Account as which it ran.
    pub target: String,
    /// The command, with its path.
    pub command: String,
    /// When.
    pub at: Timestamp,
    /// The line that says so.
    pub line: LogLine,
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
    /// A connection is over whose beginning stood before the place from which the log is read on.
    Closed {
        /// Host name as the log has it.
        host: Arc<str>,
        /// Address.
        source: String,
        /// Port there.
        port: u16,
        /// When.
        at: Timestamp,
        /// The line that says so.
        line: LogLine,
    },
    /// A command was run as another account.
    Ran(Ran),
    /// An access was used for something that was not known of it before.
    Used {
        /// The access, with all that it was used for.
        access: Access,
        /// The line that says so.
        line: LogLine,
    },
}

/// How much was read.
#[derive(Debug, Clone, Copy, Default, PartialEq, Eq, serde::Serialize, serde::Deserialize)]
pub struct Counts {
    /// Lines.
    pub lines: u64,
    /// Lines whose form was understood, whatever they say.
    pub understood: u64,
    /// Lines of servers that let people in.
    pub server_lines: u64,
    /// Lines that say that somebody got in.
    pub accepted: u64,
    /// Lines that say that somebody did not.
    pub failed: u64,
    /// Lines of such servers that look like an access and could not be understood.
    pub unclear: u64,
    /// Lines longer than any real one, which were passed over.
    pub overlong: u64,
}

struct Open {
    access: Access,
    pid: u32,
    serial: u64,
}

/// Host, address and port: what tells one connection from another. Where a log has no ports, the address stands for a terminal or a
/// logon.
type ConnectionKey = (Arc<str>, String, u16);

/// Account of whoever reaches a desktop whose server knows no accounts.
pub(super) const NO_ACCOUNT: &str = "(desktop)";

/// Reads a log line by line. Feed [`AccessLog::handle_line`], which calls back for each failure, and take
/// [`AccessLog::poll_observation`] after each line; end with [`AccessLog::finish`].
pub struct AccessLog {
    file: Arc<str>,
    clock: LogClock,
    /// Host of logs that name none.
    own_host: Arc<str>,
    /// The host that every line is of, whatever it says.
    only_host: Option<Arc<str>>,
    vnc: VncLog,
    /// Time of the lines of a VNC server that follow.
    vnc_time: Option<Timestamp>,
    hosts: HashMap<String, Arc<str>>,
    /// Host of the line before: lines come in runs.
    last_host: Option<Arc<str>>,
    open: HashMap<ConnectionKey, Open>,
    by_pid: HashMap<(Arc<str>, u32), ConnectionKey>,
    order: VecDeque<(ConnectionKey, u64)>,
    serial: u64,
    counts: Counts,
    /// Lines before the first that is read here.
    skipped: u64,
    unclear: Vec<LogLine>,
    coverage: Coverage,
    out: VecDeque<Observation>,
}

impl AccessLog {
    /// How many lines that could not be understood are kept, to be shown.
    pub const MOST_UNCLEAR: usize = 100;

    /// Begins to read the file of that name.
    pub fn new(file: &str, clock: LogClock) -> Self {
        Self {
            file: file.into(),
            clock,
            own_host: file.into(),
            only_host: None,
            vnc: VncLog::default(),
            vnc_time: None,
            hosts: HashMap::new(),
            last_host: None,
            open: HashMap::new(),
            by_pid: HashMap::new(),
            order: VecDeque::new(),
            serial: 0,
            counts: Counts::default(),
            skipped: 0,
            unclear: vec![],
            coverage: Coverage::default(),
            out: VecDeque::new(),
        }
    }

    /// Names the host of a log that names none.
    #[must_use]
    pub fn of_host(mut self, host: &str) -> Self {
        self.own_host = host.into();
        self
    }

    /// Takes every line for one of this host, whatever host it names.
    #[must_use]
    pub fn only_of(mut self, host: &str) -> Self {
        self.only_host = Some(host.into());
        self
    }

    /// Goes on after so many lines of the same file.
    #[must_use]
    pub fn after_lines(mut self, lines: u64) -> Self {
        self.skipped = lines;
        self
    }

    /// Takes a line, without its line feed. `offset` is where it begins in the file.
    pub fn handle_line(&mut self, line: &[u8], offset: u64, failed: impl FnMut(Failure<'_>)) {
        self.counts.lines += 1;
        if line.len() > MAX_LINE {
            self.counts.overlong += 1;
            return;
        }
        let line = line.strip_suffix(b"\r").unwrap_or(line);
        // What some editors and shells put before a text.
        let line = line.strip_prefix(b"\xef\xbb\xbf").filter(|_| offset == 0).unwrap_or(line);
        // The traditional form of an SSH server is by far the most frequent.
        let only = self.only_host.clone();
        if let Some(parsed) = parse_line(line) {
            let host = only.as_deref().unwrap_or(parsed.host);
            self.counts.understood += 1;
            return self.handle_message(Stamp::Plain(parsed.stamp), host, parsed.pid, parsed.message, (line, offset), failed);
        }
        match line.first() {
            Some(b'{') => {
                let read = JournalEntry::read(line);
                // Counted here and not with its entry: it may have none that counts.
                self.counts.understood += u64::from(read.is_some());
                if let Some(entry) = read.as_ref().and_then(JournalEntry::entry) {
                    self.handle_entry(entry, (line, offset), failed);
                }
            }
            Some(b'[') => self.handle_xrdp(line, offset, failed),
            Some(b' ') => self.handle_vnc(line, offset, failed),
            // `Fri Nov 27 …` of a VNC server, where others have `Nov 27 …`.
            Some(b'A'..=b'Z')
                if line.get(3) == Some(&b' ') && !line.get(4).is_some_and(u8::is_ascii_digit) && line.get(4) != Some(&b' ') =>
            {
                self.vnc_time = std::str::from_utf8(line).ok().and_then(VncLog::time).and_then(|t| self.clock.civil(t));
                self.counts.understood += u64::from(self.vnc_time.is_some());
            }
            Some(_) => {
                if let Some(entry) = header(line) {
                    self.counts.understood += 1;
                    self.handle_entry(entry, (line, offset), failed);
                }
            }
            None => self.counts.understood += 1,
        }
    }

    fn handle_entry(&mut self, entry: Entry<'_>, line: (&[u8], u64), failed: impl FnMut(Failure<'_>)) {
        let Entry { stamp, host, program, pid, text } = entry;
        let only = self.only_host.clone();
        let host = only.as_deref().unwrap_or(host);
        match program {
            "sshd" | "sshd-session" | "sshd-auth" => {
                let said = std::str::from_utf8(text).map_or(Message::Unclear, message);
                self.handle_message(stamp, host, pid.unwrap_or(0), said, line, failed);
            }
            "sudo" | "su" | "systemd-logind" => self.handle_system(stamp, host, program, text, line),
            "xrdp-sesman" => {
                let shown = std::str::from_utf8(text).ok().and_then(xrdp_text);
                let Some(at) = self.instant(stamp) else { return self.note_unclear(line.0, line.1) };
                let host = self.host(host);
                self.handle_shown(&host, Service::Rdp, shown, at, line, failed);
            }
            // Of other programs it counts that they wrote at all.
            _ => {
                if let Some(at) = self.instant(stamp) {
                    self.coverage.handle(host, at);
                }
            }
        }
    }

    /// What became another account, and for what.
    fn handle_system(&mut self, stamp: Stamp<'_>, host: &str, program: &str, text: &[u8], (line, offset): (&[u8], u64)) {
        let Some(read) = read_system(program, text) else { return };
        self.counts.server_lines += 1;
        match read {
            System::Other => {}
            System::Unclear => self.note_unclear(line, offset),
            System::Became { account, target, command } => {
                let Some(at) = self.instant(stamp) else { return self.note_unclear(line, offset) };
                let evidence = self.evidence(line, offset);
                let host = self.host(host);
                self.out.push_back(Observation::Ran(Ran { host, account, target, command, at, line: evidence }));
            }
        }
    }

    fn instant(&mut self, stamp: Stamp<'_>) -> Option<Timestamp> {
        match stamp {
            Stamp::Plain(bytes) => self.clock.read(bytes),
            Stamp::Instant(at) => Some(at),
        }
    }

    fn handle_xrdp(&mut self, line: &[u8], offset: u64, failed: impl FnMut(Failure<'_>)) {
        let Some((time, shown)) = std::str::from_utf8(line).ok().and_then(xrdp_line) else { return };
        self.counts.understood += 1;
        let Some(at) = self.clock.civil(time) else { return self.note_unclear(line, offset) };
        let host = self.own_host.clone();
        self.handle_shown(&host, Service::Rdp, shown, at, (line, offset), failed);
    }

    fn handle_vnc(&mut self, line: &[u8], offset: u64, failed: impl FnMut(Failure<'_>)) {
        let shown = std::str::from_utf8(line).ok().and_then(|l| self.vnc.handle_line(l));
        let Some(at) = self.vnc_time else {
            return if shown.is_some() {
                self.note_unclear(line, offset)
            };
        };
        let host = self.own_host.clone();
        self.handle_shown(&host, Service::Vnc, shown, at, (line, offset), failed);
    }

    fn handle_shown(
        &mut self,
        host: &Arc<str>,
        service: Service,
        shown: Option<Shown>,
        at: Timestamp,
        (line, offset): (&[u8], u64),
        mut failed: impl FnMut(Failure<'_>),
    ) {
        self.counts.server_lines += 1;
        self.coverage.handle(host, at);
        let named = |p: Peer| if p.account.is_empty() { Peer { account: NO_ACCOUNT.into(), ..p } } else { p };
        match shown {
            None => {}
            Some(Shown::Unclear) => self.note_unclear(line, offset),
            Some(Shown::Failed(peer)) => {
                self.counts.failed += 1;
                let peer = named(peer);
                let line = || self.evidence(line, offset);
                failed(Failure { host, service, account: &peer.account, account_exists: None, source: &peer.source, at, line: &line });
            }
            Some(Shown::Accepted(peer, method)) => {
                let Peer { account, source, port } = named(peer);
                let evidence = self.evidence(line, offset);
                let access = Access { service, method: method.into(), ..Access::new(host.clone(), account, source, port, at, evidence) };
                self.accepted(access, 0);
            }
            Some(Shown::Closed(peer)) => {
                let evidence = self.evidence(line, offset);
                self.end(&(host.clone(), peer.source, peer.port), at, Some(evidence));
            }
        }
    }

    /// Takes a record of utmp, wtmp or, where `bad`, btmp.
    pub fn handle_login_record(&mut self, bytes: &[u8], offset: u64, bad: bool, mut failed: impl FnMut(Failure<'_>)) {
        self.counts.lines += 1;
        let Some(record) = LoginRecord::read(bytes) else { return self.note_unclear(bytes, offset) };
        self.counts.understood += 1;
        self.counts.server_lines += 1;
        let (host, at) = (self.own_host.clone(), record.at);
        self.coverage.handle(&host, at);
        // A terminal stands for the connection: it has one login at a time.
        let key = (host.clone(), format!("terminal {}", record.line), 0);
        if bad {
            self.counts.failed += 1;
            let shown = format!("{} at {} from {}, refused", record.account, record.line, record.source);
            let line = || self.evidence_of(shown.as_bytes(), bytes, offset);
            let (account, source) = (&record.account, &record.source);
            return failed(Failure { host: &host, service: Service::Login, account, account_exists: None, source, at, line: &line });
        }
        match record.kind {
            LoginKind::Login if record.source.is_empty() || record.source.starts_with(':') => {}
            LoginKind::Login => {
                let shown = format!("{} at {} from {}", record.account, record.line, record.source);
                let evidence = self.evidence_of(shown.as_bytes(), bytes, offset);
                let access = Access {
                    service: Service::Login,
                    method: "login".into(),
                    ..Access::new(host, record.account, record.source, 0, at, evidence)
                };
                self.counts.accepted += 1;
                self.begin(access, record.pid, key);
            }
            LoginKind::Logout => self.end(&key, at, None),
            LoginKind::Boot => self.end_all(&host, at),
            LoginKind::Other => {}
        }
    }

    /// Takes an event of Windows.
    pub fn handle_windows_event(&mut self, xml: &[u8], offset: u64, mut failed: impl FnMut(Failure<'_>)) {
        self.counts.lines += 1;
        let Some(event) = WindowsEvent::read(xml) else { return self.note_unclear(xml, offset) };
        self.counts.understood += 1;
        let host = self.host(&event.host);
        self.coverage.handle(&host, event.at);
        let key = (host.clone(), format!("logon {}", event.logon_id), 0);
        match event.kind {
            WindowsKind::Logon if event.is_remote() => {
                self.counts.server_lines += 1;
                let desktop = event.logon_type != 3;
                let shown =
                    format!("event 4624: {} logged on to {} from {} (type {})", event.account, event.host, event.source, event.logon_type);
                let evidence = self.evidence_of(shown.as_bytes(), xml, offset);
                let access = Access {
                    service: if desktop { Service::Rdp } else { Service::Windows },
                    method: "password".into(),
                    ..Access::new(host, event.account, event.source, event.port, event.at, evidence)
                };
                self.counts.accepted += 1;
                self.begin(access, 0, key);
            }
            WindowsKind::Failure => {
                self.counts.server_lines += 1;
                self.counts.failed += 1;
                let shown = || format!("event 4625: {} was refused on {} from {}", event.account, event.host, event.source);
                let line = || self.evidence_of(shown().as_bytes(), xml, offset);
                let (account, source, at) = (&event.account, &event.source, event.at);
                failed(Failure { host: &host, service: Service::Windows, account, account_exists: None, source, at, line: &line });
            }
            WindowsKind::Logoff => self.end(&key, event.at, None),
            WindowsKind::Logon | WindowsKind::ExplicitCredentials | WindowsKind::LockedOut | WindowsKind::Other => {}
        }
    }

    /// Takes a row of a table; none where the mapping could not read it.
    pub fn handle_row(&mut self, row: Option<Row>, service: Service, raw: &[u8], offset: u64, mut failed: impl FnMut(Failure<'_>)) {
        self.counts.lines += 1;
        let Some(row) = row else { return self.note_unclear(raw, offset) };
        self.counts.understood += 1;
        self.counts.server_lines += 1;
        let host = if row.host.is_empty() { self.own_host.clone() } else { self.host(&row.host) };
        self.coverage.handle(&host, row.begin);
        if !row.accepted {
            self.counts.failed += 1;
            let line = || self.evidence(raw, offset);
            let (account, source, at) = (&row.account, &row.source, row.begin);
            return failed(Failure { host: &host, service, account, account_exists: None, source, at, line: &line });
        }
        let evidence = self.evidence(raw, offset);
        let access = Access {
            service,
            method: row.method,
            ..Access::new(host.clone(), row.account, row.source.clone(), row.port, row.begin, evidence)
        };
        let key = (host, row.source, row.port);
        self.accepted(access, 0);
        if let Some(end) = row.end {
            self.end(&key, end, None);
        }
    }

    fn handle_message(
        &mut self,
        stamp: Stamp<'_>,
        host: &str,
        pid: u32,
        said: Message<'_>,
        (line, offset): (&[u8], u64),
        mut failed: impl FnMut(Failure<'_>),
    ) {
        self.counts.server_lines += 1;
        let Some(at) = self.instant(stamp) else {
            return if said != Message::Other {
                self.note_unclear(line, offset)
            };
        };
        self.coverage.handle(host, at);
        if said == Message::Other {
            return;
        }
        let host = self.host(host);
        match said {
            Message::Failed(Login { account, source, .. }, exists) => {
                self.counts.failed += 1;
                let line = || self.evidence(line, offset);
                failed(Failure { host: &host, service: Service::Ssh, account, account_exists: Some(exists), source, at, line: &line });
            }
            Message::Accepted(login, proof) => {
                let evidence = self.evidence(line, offset);
                let Login { account, source, port } = login;
                let access = Access {
                    service: Service::Ssh,
                    method: proof.method.into(),
                    key: proof.key.map(Into::into),
                    algorithm: proof.algorithm.into(),
                    certificate: proof.certificate.map(|c| SeenCertificate {
                        id: c.id.into(),
                        serial: c.serial,
                        authority: c.authority.into(),
                    }),
                    ..Access::new(host, account.into(), source.into(), port, at, evidence)
                };
                self.accepted(access, pid);
            }
            Message::Closed { source, port } => {
                let evidence = self.evidence(line, offset);
                let key = (host, source.to_string(), port);
                if self.skipped > 0 && !self.open.contains_key(&key) {
                    let (host, source, port) = key;
                    return self.out.push_back(Observation::Closed { host, source, port, at, line: evidence });
                }
                self.end(&key, at, Some(evidence));
            }
            Message::SessionClosed => {
                if let Some(key) = self.by_pid.get(&(host.clone(), pid)).cloned() {
                    let evidence = self.evidence(line, offset);
                    self.end(&key, at, Some(evidence));
                }
            }
            Message::Used { capability, from, account } => {
                let key = match from {
                    Some((source, port)) => Some((host, source.to_string(), port)),
                    // The process that says so is a child of the one that let them in: of several accesses of one account the newest.
                    None => self.newest_of(&host, account),
                };
                let evidence = self.evidence(line, offset);
                if let Some(open) = key.and_then(|key| self.open.get_mut(&key))
                    && !open.access.uses.contains(capability)
                {
                    open.access.uses = open.access.uses.union(Capabilities::of([capability]));
                    self.out.push_back(Observation::Used { access: open.access.clone(), line: evidence });
                }
            }
            Message::Unclear => self.note_unclear(line, offset),
            Message::Other => {}
        }
    }

    fn newest_of(&self, host: &Arc<str>, account: &str) -> Option<ConnectionKey> {
        let of = |key: &ConnectionKey, serial: u64| {
            let open = self.open.get(key)?;
            (open.serial == serial && open.access.account == account && key.0 == *host && open.access.service == Service::Ssh).then_some(())
        };
        let newest = self.order.iter().rev().take(MOST_LOOKED).find(|(key, serial)| of(key, *serial).is_some())?;
        Some(newest.0.clone())
    }

    /// What the log showed since.
    pub fn poll_observation(&mut self) -> Option<Observation> {
        self.out.pop_front()
    }

    /// How much was read so far.
    pub fn counts(&self) -> Counts {
        self.counts
    }

    /// On which days which hosts wrote something.
    pub fn coverage(&self) -> &Coverage {
        &self.coverage
    }

    /// The lines that could not be understood; at most [`AccessLog::MOST_UNCLEAR`].
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
        if let Some(last) = self.last_host.as_ref().filter(|l| ***l == *name) {
            return last.clone();
        }
        let host = self.known_host(name);
        self.last_host = Some(host.clone());
        host
    }

    fn known_host(&mut self, name: &str) -> Arc<str> {
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
        self.evidence_of(line, line, offset)
    }

    /// Evidence that is shown in other words than it stands in the file.
    fn evidence_of(&self, shown: &[u8], raw: &[u8], offset: u64) -> LogLine {
        LogLine::cut(self.file.clone(), self.skipped + self.counts.lines, offset, shown, raw)
    }

    fn note_unclear(&mut self, line: &[u8], offset: u64) {
        self.counts.unclear += 1;
        if self.unclear.len() < Self::MOST_UNCLEAR {
            self.unclear.push(self.evidence(line, offset));
        }
    }

    fn accepted(&mut self, access: Access, pid: u32) {
        self.counts.accepted += 1;
        let key = (access.host.clone(), access.source.clone(), access.port);
        self.begin(access, pid, key);
    }

    fn begin(&mut self, access: Access, pid: u32, key: ConnectionKey) {
        self.out.push_back(Observation::Began(access.clone()));
        self.serial += 1;
        if pid > 0 {
            self.by_pid.insert((key.0.clone(), pid), key.clone());
        }
        self.order.push_back((key.clone(), self.serial));
        // A connection from the same address and port means that the earlier one is over.
        if let Some(earlier) = self.open.insert(key, Open { access, pid, serial: self.serial }) {
            if earlier.pid != pid {
                self.by_pid.remove(&(earlier.access.host.clone(), earlier.pid));
            }
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

    fn end(&mut self, key: &ConnectionKey, at: Timestamp, evidence: Option<LogLine>) {
        let Some(mut open) = self.open.remove(key) else { return };
        self.by_pid.remove(&(key.0.clone(), open.pid));
        open.access.end = Some(at);
        open.access.lines.extend(evidence);
        self.out.push_back(Observation::Ended { access: open.access });
    }

    /// The machine was started anew: nobody is in any more.
    fn end_all(&mut self, host: &Arc<str>, at: Timestamp) {
        let keys: Vec<ConnectionKey> = self.open.keys().filter(|k| k.0 == *host).cloned().collect();
        keys.iter().for_each(|k| self.end(k, at, None));
    }
}

impl Access {
    /// An access of which no more is known.
    fn new(host: Arc<str>, account: String, source: String, port: u16, begin: Timestamp, evidence: LogLine) -> Self {
        Self {
            host,
            service: Service::Other,
            account,
            source,
            port,
            method: String::new(),
            key: None,
            algorithm: String::new(),
            certificate: None,
            uses: Capabilities::NONE,
            begin,
            end: None,
            lines: vec![evidence],
        }
    }
}
