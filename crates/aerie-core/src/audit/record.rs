//! One access from any log, in one shape.

use super::log::{Access, LogLine};
use crate::evidence::hex;
use jiff::{SignedDuration, Timestamp};
use serde::{Deserialize, Serialize};
use sha2::{Digest as _, Sha256};

/// How far apart two logs may tell the beginning of one access: clocks differ by seconds, and a login is written by several programs.
pub const TOGETHER: SignedDuration = SignedDuration::from_secs(10);
/// Lines of evidence of one access at most.
pub const MOST_EVIDENCE: usize = 20;

/// What was reached.
#[derive(Debug, Clone, Copy, Default, PartialEq, Eq, Hash, Serialize, Deserialize)]
#[serde(rename_all = "lowercase")]
pub enum Service {
    /// An SSH server.
    Ssh,
    /// A desktop over RFB (VNC).
    Vnc,
    /// A desktop over RDP.
    Rdp,
    /// A logon of Windows over the network.
    Windows,
    /// The machine itself, or not told: login records name a terminal alone.
    Login,
    /// Anything else.
    #[default]
    Other,
}

impl Service {
    /// Every service.
    pub const ALL: [Self; 6] = [Self::Ssh, Self::Vnc, Self::Rdp, Self::Windows, Self::Login, Self::Other];

    /// Its word.
    pub fn word(self) -> &'static str {
        match self {
            Self::Ssh => "ssh",
            Self::Vnc => "vnc",
            Self::Rdp => "rdp",
            Self::Windows => "windows",
            Self::Login => "login",
            Self::Other => "other",
        }
    }

    /// The service of that word.
    pub fn from_word(word: &str) -> Option<Self> {
        Self::ALL.into_iter().find(|s| s.word() == word)
    }
}

/// A user certificate, as the server that took it says.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
pub struct SeenCertificate {
    /// Key id.
    pub id: String,
    /// Serial number.
    pub serial: u64,
    /// Fingerprint of the authority that signed it.
    pub authority: String,
}

/// One access to a machine.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
pub struct AccessRecord {
    /// Stable: the same lines give the same identifier in every audit.
    pub id: String,
    /// What was reached.
    pub service: Service,
    /// Machine, as the directory names it, or the host as the log does.
    pub machine: String,
    /// Account on it.
    pub account: String,
    /// The person, where session or key tell.
    pub person: Option<String>,
    /// Address it came from; empty where it is not told.
    pub source: String,
    /// Port there; 0 where it is not told.
    pub port: u16,
    /// `publickey`, `password`, …
    pub method: String,
    /// Fingerprint of the key.
    pub key: Option<String>,
    /// Kind of the key: `ED25519`, `RSA`, …; empty where it is not told.
    #[serde(default)]
    pub algorithm: String,
    /// The certificate, where one was used.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub certificate: Option<SeenCertificate>,
    /// Words of the capabilities that it was used for, as far as a log says, separated by blanks.
    #[serde(default)]
    pub uses: String,
    /// When it began, by the clock of whoever wrote it.
    pub begin: Timestamp,
    /// When it ended, where a log says so.
    pub end: Option<Timestamp>,
    /// The session of Aerie that explains it.
    pub session: Option<String>,
    /// Whether a session, or a certificate where nobody can be asked, explains it.
    pub explained: bool,
    /// The lines that show it, of every log; at most [`MOST_EVIDENCE`].
    pub lines: Vec<LogLine>,
}

/// What a scan tells of accesses as it goes on.
#[expect(clippy::large_enum_variant, reason = "nearly all of them are the large one")]
#[derive(Debug, Clone, PartialEq, Eq)]
pub enum Recorded {
    /// Somebody got in.
    Began(AccessRecord),
    /// It is over.
    Ended {
        /// Identifier of the access.
        id: String,
        /// When.
        at: Timestamp,
        /// The line that says so.
        line: Option<LogLine>,
    },
    /// It was used for something.
    Used {
        /// Identifier of the access.
        id: String,
        /// Words of all that it was used for, separated by blanks.
        uses: String,
        /// The line that says so.
        line: LogLine,
    },
    /// An access is over that was told when an earlier part of the log was read: the last one from there that has no end.
    Closed {
        /// Machine.
        machine: String,
        /// Address.
        source: String,
        /// Port there.
        port: u16,
        /// When.
        at: Timestamp,
        /// The line that says so.
        line: LogLine,
    },
}

/// The identifier of an access.
pub(super) fn access_id(machine: &str, access: &Access) -> String {
    let parts = format!(
        "{machine}\0{}\0{}\0{}\0{}\0{}",
        access.service.word(),
        access.account,
        access.source,
        access.port,
        access.begin.as_millisecond()
    );
    hex(Sha256::digest(parts).get(..12).unwrap_or_default())
}

impl AccessRecord {
    /// Whether two logs tell of one access: the same account of the same machine from the same place at about the same time. Login records
    /// name neither port nor service.
    pub fn is_same(&self, other: &Self) -> bool {
        let alike = |a: u16, b: u16| a == b || a == 0 || b == 0;
        let services = self.service == other.service || self.service == Service::Login || other.service == Service::Login;
        self.machine == other.machine
            && self.account == other.account
            && self.source == other.source
            && alike(self.port, other.port)
            && services
            && self.begin.duration_since(other.begin).abs() <= TOGETHER
            // One log does not tell the same access twice: its second line is a second access.
            && (self.id == other.id || !self.lines.iter().any(|a| other.lines.iter().any(|b| a.file == b.file && a.offset != b.offset)))
    }

    /// Takes what another log tells of the same access.
    pub fn merge(&mut self, other: Self) {
        if self.service == Service::Login {
            self.service = other.service;
        }
        if self.port == 0 {
            self.port = other.port;
        }
        if self.method.is_empty() || self.method == "login" {
            self.method = other.method;
        }
        if self.algorithm.is_empty() {
            self.algorithm = other.algorithm;
        }
        self.end = self.end.or(other.end);
        self.key = self.key.take().or(other.key);
        self.person = self.person.take().or(other.person);
        self.certificate = self.certificate.take().or(other.certificate);
        self.uses = both(&self.uses, &other.uses);
        self.session = self.session.take().or(other.session);
        self.explained |= other.explained;
        for line in other.lines {
            if self.lines.len() < MOST_EVIDENCE && !self.lines.iter().any(|l| l.file == line.file && l.offset == line.offset) {
                self.lines.push(line);
            }
        }
    }
}

/// Words of both texts, each once, in the order of the alphabet.
fn both(a: &str, b: &str) -> String {
    let all: std::collections::BTreeSet<&str> = a.split_whitespace().chain(b.split_whitespace()).collect();
    all.into_iter().collect::<Vec<_>>().join(" ")
}

/// Estimates how far the clock of a machine is ahead of Aerie's, from accesses that sessions explain: the median of what was seen.
#[derive(Debug, Clone, Default)]
pub struct Skew {
    /// Milliseconds, as they were seen.
    seen: Vec<i64>,
    last: Timestamp,
}

impl Skew {
    /// Samples that are kept.
    const MOST: usize = 1000;

    /// Takes when the session began by Aerie's clock, and the access by the machine's.
    pub fn handle(&mut self, ours: Timestamp, theirs: Timestamp) {
        self.last = self.last.max(theirs);
        if self.seen.len() < Self::MOST {
            self.seen.push(theirs.duration_since(ours).as_millis().try_into().unwrap_or(i64::MAX));
        }
    }

    /// How many accesses showed it.
    pub fn count(&self) -> usize {
        self.seen.len()
    }

    /// When it was last seen.
    pub fn last(&self) -> Timestamp {
        self.last
    }

    /// How far it is ahead; none where nothing was seen.
    pub fn estimate(&self) -> Option<SignedDuration> {
        let mut all = self.seen.clone();
        all.sort_unstable();
        all.get(all.len() / 2).map(|ms| SignedDuration::from_millis(*ms))
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    fn record(service: Service, port: u16, at: i64, file: &str, offset: u64) -> AccessRecord {
        AccessRecord {
            id: format!("{service:?}{port}{at}"),
            service,
            machine: "dome-east".into(),
            account: "operator".into(),
            person: None,
            source: "10.20.9.4".into(),
            port,
            method: "login".into(),
            key: None,
            algorithm: String::new(),
            certificate: None,
            uses: String::new(),
            begin: Timestamp::from_second(1_780_000_000 + at).unwrap(),
            end: None,
            session: None,
            explained: false,
            lines: vec![LogLine { file: file.into(), number: 1, offset, text: "x".into(), digest: String::new() }],
        }
    }

    #[test]
    fn several_logs_tell_one_access_and_one_log_tells_two() {
        let ssh = record(Service::Ssh, 5000, 0, "auth.log", 0);
        let table = [
            (record(Service::Ssh, 5000, 3, "central.log", 900), true),
            (record(Service::Login, 0, 1, "wtmp", 0), true),
            (record(Service::Ssh, 5001, 0, "central.log", 0), false),
            (record(Service::Vnc, 5000, 0, "vnc.log", 0), false),
            (record(Service::Ssh, 5000, 11, "central.log", 0), false),
            (record(Service::Ssh, 5000, 2, "auth.log", 400), false),
        ];
        for (other, same) in table {
            assert_eq!((ssh.is_same(&other), other.is_same(&ssh)), (same, same), "{other:?}");
        }
        let mut merged = record(Service::Login, 0, 1, "wtmp", 0);
        merged.merge(AccessRecord { method: "publickey".into(), key: Some("SHA256:a".into()), ..ssh.clone() });
        merged.merge(ssh);
        assert_eq!((merged.service, merged.port, merged.method.as_str(), merged.lines.len()), (Service::Ssh, 5000, "publickey", 2));
    }

    #[test]
    fn the_median_tells_how_far_a_clock_is_off() {
        let t = |s: i64| Timestamp::from_second(1_780_000_000 + s).unwrap();
        let mut skew = Skew::default();
        assert_eq!(skew.estimate(), None);
        for ahead in [61, 60, 60, 3600, 59] {
            skew.handle(t(0), t(ahead));
        }
        assert_eq!(skew.estimate(), Some(SignedDuration::from_secs(60)));
    }

    #[test]
    fn every_service_has_a_word_of_its_own() {
        for s in Service::ALL {
            assert_eq!(Service::from_word(s.word()), Some(s));
            assert_eq!(serde_json::to_value(s).unwrap(), s.word());
        }
    }
}
