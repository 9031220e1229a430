use super::canonical_json;
use jiff::Timestamp;
use serde::{Deserialize, Serialize};
use serde_json::{Map, Value, json};

macro_rules! kinds {
    ($($(#[$doc:meta])* $variant:ident = $word:literal: $verb:literal;)*) => {
        /// What kind of thing happened.
        #[derive(Debug, Clone, Copy, PartialEq, Eq, Hash, Serialize, Deserialize)]
        pub enum EventKind {
            $($(#[$doc])* #[serde(rename = $word)] $variant,)*
        }

        impl EventKind {
            /// Every kind.
            pub const ALL: &[EventKind] = &[$(Self::$variant),*];

            /// Its stable word.
            pub fn word(self) -> &'static str {
                match self { $(Self::$variant => $word,)* }
            }

            /// What its sentence says of the actor.
            fn verb(self) -> &'static str {
                match self { $(Self::$variant => $verb,)* }
            }
        }
    };
}

kinds! {
    /// A user proved who they are, at the console or the gateway.
    SignIn = "sign-in": "signed in";
    /// A sign-in failed.
    SignInFailed = "sign-in-failed": "failed to sign in";
    /// A user signed out.
    SignOut = "sign-out": "signed out";
    /// A decision at the gateway.
    Decision = "decision": "asked for access";
    /// A session went live.
    SessionBegan = "session-began": "began a session";
    /// A session is over.
    SessionEnded = "session-ended": "ended the session";
    /// A shell, command, transfer or forwarded port within a session.
    ChannelOpened = "channel-opened": "used the session";
    /// A file was copied.
    FileTransferred = "file-transferred": "copied a file";
    /// A file or folder was removed, renamed, linked, created, or its attributes changed, by a file transfer.
    FileChanged = "file-changed": "changed a file";
    /// Text went through the clipboard of a machine.
    ClipboardUsed = "clipboard-used": "used the clipboard";
    /// A recording was closed; carries its final digest.
    RecordingClosed = "recording-closed": "closed the recording";
    /// A recording could not be written.
    RecordingFailed = "recording-failed": "lost the recorder";
    /// A user watched or exported a recording.
    RecordingRead = "recording-read": "read a recording";
    /// New rules were published.
    PolicyPublished = "policy-published": "published rules";
    /// Rules were drafted, changed or dropped before publication.
    DraftChanged = "draft-changed": "changed a draft";
    /// A second person agreed to a draft.
    DraftAgreed = "draft-agreed": "agreed to a draft";
    /// A review of access was begun, reminded of or closed.
    ReviewChanged = "review-changed": "changed a review";
    /// A permission under review was kept or withdrawn.
    ReviewDecided = "review-decided": "decided on a permission";
    /// A machine or person was registered or changed.
    DirectoryChanged = "directory-changed": "changed the directory";
    /// Somebody was added, changed, suspended, removed or invited.
    PersonChanged = "person-changed": "changed a person";
    /// A password, code, passkey or recovery code was enrolled, changed or taken away.
    FactorChanged = "factor-changed": "changed how somebody signs in";
    /// An SSH key was registered or removed.
    KeyChanged = "key-changed": "changed an SSH key";
    /// A token was made, or ended before its time.
    TokenChanged = "token-changed": "changed a token";
    /// Somebody who was signed in proved a further factor.
    SteppedUp = "stepped-up": "proved themselves again";
    /// A PIN was issued or withdrawn.
    PinIssued = "pin-issued": "issued a PIN";
    /// A visit was made, picked up, passed on, answered, ended or closed.
    VisitChanged = "visit-changed": "changed a visit";
    /// The screen of a machine was locked at the end of a session, or could not be.
    MachineLocked = "machine-locked": "locked the screen of a machine";
    /// A PIN was tried.
    PinTried = "pin-tried": "tried a PIN";
    /// A setting was changed.
    SettingChanged = "setting-changed": "changed a setting";
    /// Something was proposed to a second administrator, agreed to, or discarded.
    ProposalChanged = "proposal-changed": "changed a proposal";
    /// A kept credential was shown to a machine, to sign in there.
    CredentialUsed = "credential-used": "used a credential";
    /// A key of the service was rotated.
    ServiceKeyRotated = "service-key-rotated": "rotated a key of the service";
    /// A log was held against the rules.
    AuditScanned = "audit-scanned": "audited a log";
    /// A finding came up.
    FindingRaised = "finding-raised": "raised a finding";
    /// A machine could not be reached, or showed another host key.
    MachineFailed = "machine-failed": "could not reach the machine";
    /// A machine was registered, changed, retired or brought back, or its host key accepted.
    MachineChanged = "machine-changed": "changed a machine";
    /// An enrolment code was issued or withdrawn.
    CodeIssued = "code-issued": "issued an enrolment code";
    /// An agent was enrolled or revoked.
    AgentChanged = "agent-changed": "changed an agent";
    /// An agent connected.
    AgentConnected = "agent-connected": "connected";
    /// The connection of an agent is gone.
    AgentGone = "agent-gone": "went away";
    /// An agent was turned away, or broke the protocol.
    AgentRefused = "agent-refused": "was turned away";
    /// A credential was put into the vault, or taken out for good.
    CredentialChanged = "credential-changed": "changed a credential";
    /// A credential on a machine was changed by the service, or could not be.
    CredentialRotated = "credential-rotated": "rotated a credential";
    /// A user saw a credential.
    CredentialSeen = "credential-seen": "saw a credential";
    /// A machine was checked.
    MachineChecked = "machine-checked": "checked a machine";
    /// A use of a machine waits for somebody.
    SessionWaits = "session-waits": "waits";
    /// A use that waited is over, and no session came of it.
    SessionNotBegun = "session-not-begun": "waits no longer";
    /// Access was asked for, answered, withdrawn, or not answered in time.
    RequestChanged = "request-changed": "changed a request";
    /// A pass was made, withdrawn, or is over.
    PassChanged = "pass-changed": "changed a pass";
    /// Somebody lets another answer in their place, or no longer.
    DeputyChanged = "deputy-changed": "changed a deputy";
    /// The person at a machine was told, agreed, refused, or took it back.
    ConsentGiven = "consent": "was asked";
    /// A user declared an emergency.
    EmergencyDeclared = "emergency-declared": "declared an emergency";
    /// Sessions were ended together, or the service was locked down or opened again.
    Stopped = "stopped": "stopped sessions";
    /// Somebody watches a live session, or takes part in it, or no longer.
    SessionJoined = "session-joined": "joined a session";
    /// The limits of a live session were extended.
    SessionExtended = "session-extended": "extended a session";
    /// A notice was delivered, or could not be.
    NoticeSent = "notice-sent": "was notified";
    /// A finding is settled.
    FindingSettled = "finding-settled": "settled a finding";
    /// Somebody took on, settled, accepted or commented on a finding.
    FindingChanged = "finding-changed": "worked on a finding";
    /// Findings were kept from coming up, or no longer.
    SuppressionChanged = "suppression-changed": "changed a suppression";
    /// New detections count.
    DetectionsPublished = "detections-published": "published detections";
    /// A report is mailed now and then, was mailed, or no longer is.
    ReportChanged = "report-changed": "changed a report";
    /// The collector takes events, or no longer does.
    ForwardingChanged = "forwarding-changed": "changed the forwarding";
    /// Evidence was put together for somebody outside.
    EvidenceExported = "evidence-exported": "exported evidence";
    /// The service started.
    ServiceStarted = "service-started": "started";
    /// The service stopped.
    ServiceStopped = "service-stopped": "stopped";
}

/// Something that happened, not yet in the log.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct NewEvent {
    /// When.
    pub at: Timestamp,
    /// What.
    pub kind: EventKind,
    /// Who did it: the name of a person, or `service`.
    pub actor: String,
    /// On which machine.
    pub machine: Option<String>,
    /// In which session.
    pub session: Option<String>,
    /// From which address.
    pub from: Option<String>,
    /// One sentence for people.
    pub sentence: String,
    /// What else is known; integers, texts and lists of them.
    pub data: Map<String, Value>,
}

impl NewEvent {
    /// An event with a sentence made of the actor and the kind.
    pub fn new(at: Timestamp, kind: EventKind, actor: &str) -> Self {
        let sentence = format!("{actor} {}.", kind.verb());
        Self { at, kind, actor: actor.into(), machine: None, session: None, from: None, sentence, data: Map::new() }
    }

    /// On this machine.
    #[must_use]
    pub fn machine(mut self, machine: &str) -> Self {
        self.machine = Some(machine.into());
        self
    }

    /// In this session.
    #[must_use]
    pub fn session(mut self, session: &str) -> Self {
        self.session = Some(session.into());
        self
    }

    /// From this address.
    #[must_use]
    pub fn from(mut self, from: impl ToString) -> Self {
        self.from = Some(from.to_string());
        self
    }

    /// With this sentence.
    #[must_use]
    pub fn says(mut self, sentence: impl Into<String>) -> Self {
        self.sentence = sentence.into();
        self
    }

    /// With a further fact.
    #[must_use]
    pub fn with(mut self, key: &str, value: impl Into<Value>) -> Self {
        self.data.insert(key.into(), value.into());
        self
    }

    /// Gives it its place in the log.
    pub fn at_place(self, seq: u64) -> Event {
        Event { seq, event: self }
    }
}

/// An event in the log.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Event {
    /// Its place, from 0.
    pub seq: u64,
    /// What happened.
    pub event: NewEvent,
}

impl Event {
    /// The canonical JSON whose hash is the leaf.
    pub fn body(&self) -> String {
        let e = &self.event;
        let mut map = Map::new();
        let mut put = |key: &str, value: Value| {
            if !value.is_null() {
                map.insert(key.into(), value);
            }
        };
        put("seq", json!(self.seq));
        put("at", json!(e.at));
        put("kind", json!(e.kind));
        put("actor", json!(e.actor));
        put("machine", json!(e.machine));
        put("session", json!(e.session));
        put("from", json!(e.from));
        put("sentence", json!(e.sentence));
        if !e.data.is_empty() {
            put("data", Value::Object(e.data.clone()));
        }
        canonical_json(&Value::Object(map))
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use std::collections::BTreeSet;

    #[test]
    fn every_kind_has_a_word_of_its_own() {
        let words: BTreeSet<_> = EventKind::ALL.iter().map(|k| k.word()).collect();
        assert_eq!(words.len(), EventKind::ALL.len());
        for kind in EventKind::ALL {
            assert_eq!(serde_json::to_value(kind).unwrap(), kind.word());
        }
    }

    #[test]
    fn every_kind_is_documented() {
        let text = std::fs::read_to_string(concat!(env!("CARGO_MANIFEST_DIR"), "/../../docs/formats/evidence.md")).unwrap();
        for kind in EventKind::ALL {
            let word = kind.word();
            assert_eq!(text.matches(&format!("\n| `{word}` | ")).count(), 1, "{word}");
        }
    }

    #[test]
    fn the_body_is_canonical_and_leaves_out_what_is_not_known() {
        let event =
            NewEvent::new("2026-11-23T00:00:00Z".parse().unwrap(), EventKind::SignIn, "ines").from("10.0.0.1").with("b", 2).with("a", "x");
        assert_eq!(
            event.at_place(3).body(),
            r#"{"actor":"ines","at":"2026-11-23T00:00:00Z","data":{"a":"x","b":2},"from":"10.0.0.1","kind":"sign-in","sentence":"ines signed in.","seq":3}"#
        );
    }
}
