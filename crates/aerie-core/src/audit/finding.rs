use super::log::LogLine;
use super::reference::references;
use crate::evidence::hex;
use jiff::Timestamp;
use serde::{Deserialize, Serialize};
use sha2::{Digest as _, Sha256};
use std::collections::HashMap;
use std::sync::Arc;

/// Lines of evidence that a finding keeps: the first of them; the rest are counted.
pub const MOST_LINES: usize = 20;
/// Findings of one audit; a log with more causes than this is one finding: that it is hopeless.
const MOST_FINDINGS: usize = 10_000;

/// How much a finding matters.
#[derive(Debug, Clone, Copy, PartialEq, Eq, PartialOrd, Ord, Serialize, Deserialize)]
#[serde(rename_all = "lowercase")]
pub enum Importance {
    /// Unusual, and most of the time harmless.
    Low = -1,
    /// To be looked at.
    Medium = 0,
    /// A rule was broken.
    High = 1,
    /// Somebody is in who must not be.
    Critical = 2,
}

impl Importance {
    /// Every one, the least first.
    pub const ALL: [Self; 4] = [Self::Low, Self::Medium, Self::High, Self::Critical];

    /// Why something is of that importance, to follow its word.
    pub fn reason(self) -> &'static str {
        match self {
            Self::Low => "it is unusual, and most of the time harmless",
            Self::Medium => "it may be the beginning of something, and somebody should look at it",
            Self::High => "a rule was broken, or what keeps it was weakened",
            Self::Critical => "somebody may be in who must not be",
        }
    }

    /// The word for it.
    pub fn word(self) -> &'static str {
        match self {
            Self::Low => "low",
            Self::Medium => "medium",
            Self::High => "high",
            Self::Critical => "critical",
        }
    }
}

macro_rules! kinds {
    ($($(#[$doc:meta])* $variant:ident = $word:literal, $importance:ident, $mend:literal;)*) => {
        /// What kind of violation.
        #[derive(Debug, Clone, Copy, PartialEq, Eq, PartialOrd, Ord, Hash, Serialize)]
        pub enum FindingKind {
            $($(#[$doc])* #[serde(rename = $word)] $variant,)*
        }

        impl FindingKind {
            /// Every kind.
            pub const ALL: &[FindingKind] = &[$(Self::$variant),*];

            /// Its stable word.
            pub fn word(self) -> &'static str {
                match self { $(Self::$variant => $word,)* }
            }

            /// How much it matters.
            pub fn importance(self) -> Importance {
                match self { $(Self::$variant => Importance::$importance,)* }
            }

            /// The way to mend it.
            pub fn mend(self) -> &'static str {
                match self { $(Self::$variant => $mend,)* }
            }
        }
    };
}

kinds! {
    /// Somebody signed in to a machine, and no session of Aerie explains it.
    AroundGateway = "around-gateway", High,
        "Find out who it was; then let the machine's SSH server trust Aerie's authority alone, and accept connections from the gateway only.";
    /// An access at an hour at which the rules do not allow it.
    OutsideHours = "outside-hours", High,
        "Ask why it was needed; extend the hours if it was right, and close the way around the gateway if it was not.";
    /// An access that no rule allows, at any hour.
    NotAllowed = "not-allowed", High,
        "If it was right, write the rule that allows it; if not, remove the key or account by which it was possible.";
    /// A session that the rules allow, without something that they demand.
    UnmetDemand = "unmet-demand", High,
        "Find out how it began without: by rules that were published later, or by a fault of the gate; both are in the log.";
    /// A login to an account that no machine or rule knows.
    UnownedAccount = "unowned-account", High,
        "Remove the account from the machine, or register it with an owner.";
    /// A certificate of Aerie's authority names a session that Aerie does not know.
    UnknownSession = "unknown-session", Critical,
        "Somebody signs certificates with Aerie's authority, or the log of sessions is incomplete: verify the log and replace the authority.";
    /// Two people have the same SSH key.
    SharedKey = "shared-key", High,
        "Ask both where the key came from; each makes one of their own, and the shared one is removed: until then it is nobody's.";
    /// A machine shows another host key than the pinned one.
    HostKeyChanged = "host-key-changed", Critical,
        "Nothing is sent to it until then: compare the fingerprint at the machine itself, and accept it if it is the machine's own; if it is not, somebody stands between.";
    /// Two copies of one agent.
    AgentCloned = "agent-cloned", Critical,
        "Find out which computer is the right one and who copied its agent's key; then revoke the agent and enrol the right one anew.";
    /// An authorised key on a machine that belongs to nobody.
    UnownedKey = "unowned-key", High,
        "Find out whose it is: have them register it, or remove it from the account.";
    /// A credential could not be changed, and neither the one before nor the next lets Aerie in.
    CredentialStuck = "credential-stuck", High,
        "Sign in to the machine by another way, set the password or key by hand, and put it into the vault.";
    /// A machine's log has nothing of several days.
    LogGap = "log-gap", Medium,
        "Look for the log of those days (a rotated file, a backup, the collector) and audit it; if there is none, find out who stopped it.";
    /// A log was cut, or another took its place, since it was read.
    LogCut = "log-cut", High,
        "Find out who changed the file: what was read before is kept, and what came between is lost.";
    /// A recording that the log names is not there.
    RecordingMissing = "recording-missing", High,
        "Look for the file (another disk, a backup) and put it back; if somebody removed it, the log of the host says who was there.";
    /// A recording is not the one whose digest is in the log, or does not read to its end.
    RecordingDamaged = "recording-damaged", Critical,
        "Keep the file as it is, compare it with a backup, and find out who could write to it.";
    /// The log of events does not hold.
    LogAltered = "log-altered", Critical,
        "Keep a copy of the database, compare it with a backup and with the events that were forwarded, and find out who could write to it.";
    /// The clock of a machine is off.
    ClockOff = "clock-off", Medium,
        "Set the machine's clock by the network (NTP): certificates are good for minutes, and the order of what happened depends on it.";
    /// A log that came in by itself does no longer.
    SourceSilent = "source-silent", Medium,
        "Find out whether the machine is off, its agent or collector stopped, or somebody silenced it.";
    /// Nothing of what a sender of logs sends is understood.
    LogNotUnderstood = "log-not-understood", Medium,
        "Let the sender use the form of RFC 5424 or RFC 3164; what it sent until then is not audited.";
    /// So many wrong PINs were tried that nobody may try one for a while.
    PinSpraying = "pin-spraying", High,
        "See in the log where they came from, close that way, and make visits again for those who were kept waiting.";
    /// A session that the rules of its moment allow, by a rule that was withdrawn since.
    RuleWithdrawn = "rule-withdrawn", Low,
        "Nothing, if the rule was withdrawn because it was no longer needed; if because it was wrong, look at what was done under it.";
    /// A detection found it; its name is the kind that people see.
    Detected = "detected", Medium,
        "Look at the evidence, and ask the person.";
    /// Somebody reached a machine by declaring an emergency.
    EmergencyUsed = "emergency-used", High,
        "Somebody else than the person looks at the recording and the reason, and closes this with what they found.";
}

impl<'de> Deserialize<'de> for FindingKind {
    /// A word of a kind that is now a detection's is [`FindingKind::Detected`].
    fn deserialize<D: serde::Deserializer<'de>>(from: D) -> Result<Self, D::Error> {
        let word = String::deserialize(from)?;
        Ok(Self::ALL.iter().copied().find(|k| k.word() == word).unwrap_or(Self::Detected))
    }
}

/// The detection by which something was found, as it was then.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
pub struct Detected {
    /// Its name.
    pub name: String,
    /// How much it matters.
    pub importance: Importance,
    /// The way to mend it.
    pub mend: String,
    /// Technique ids of MITRE ATT&CK.
    pub techniques: Vec<String>,
    /// Controls that it helps to keep.
    pub controls: Vec<String>,
    /// Digest of the text of the detections.
    pub version: String,
}

/// One violation, with its evidence.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
pub struct Finding {
    /// Stable: the same cause has the same identifier in every audit.
    pub id: String,
    /// What kind.
    pub kind: FindingKind,
    /// How much it matters.
    pub importance: Importance,
    /// What happened, in one sentence.
    pub sentence: String,
    /// The way to mend it.
    pub mend: String,
    /// Machine, as the directory names it, or the host as the log does.
    pub machine: String,
    /// Account on it.
    pub account: String,
    /// The person, where the key or session tells.
    pub person: Option<String>,
    /// Address it came from.
    pub source: Option<String>,
    /// First time.
    pub first: Timestamp,
    /// Last time.
    pub last: Timestamp,
    /// How often.
    pub count: u64,
    /// The lines that show it; at most [`MOST_LINES`].
    pub lines: Vec<LogLine>,
    /// The session concerned.
    pub session: Option<String>,
    /// The moment in its recording, in milliseconds.
    pub moment_ms: Option<u64>,
    /// The detection that found it.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub detection: Option<Arc<Detected>>,
}

impl Finding {
    /// Two or more people have the same SSH key.
    pub fn shared_key(print: &str, people: &[&str], at: Timestamp) -> Self {
        let sentence = format!("One SSH key is used by {}: {print}.", crate::wording::list(people));
        Self::seen(FindingKind::SharedKey, print, "gateway", "", sentence, at)
    }

    /// The identifier of what [`Finding::seen`] makes of a cause.
    pub fn id_of(kind: FindingKind, cause: &str) -> String {
        hex(Sha256::digest(format!("{} {cause}", kind.word())).get(..8).unwrap_or_default())
    }

    /// What the service itself saw on a machine. `cause` makes it one finding however often it is seen.
    pub fn seen(kind: FindingKind, cause: &str, machine: &str, account: &str, sentence: String, at: Timestamp) -> Self {
        Self {
            id: Self::id_of(kind, cause),
            kind,
            importance: kind.importance(),
            sentence,
            mend: kind.mend().into(),
            machine: machine.into(),
            account: account.into(),
            person: None,
            source: None,
            first: at,
            last: at,
            count: 1,
            lines: vec![],
            session: None,
            moment_ms: None,
            detection: None,
        }
    }

    /// The kind that people see: the name of the detection, where one found it.
    pub fn word(&self) -> &str {
        self.detection.as_ref().map_or(self.kind.word(), |d| &d.name)
    }

    /// Technique ids of MITRE ATT&CK.
    pub fn techniques(&self) -> Vec<String> {
        match &self.detection {
            Some(d) => d.techniques.clone(),
            None => references(self.kind).0.iter().map(|t| (*t).into()).collect(),
        }
    }

    /// Controls of NIST SP 800-53, ISO/IEC 27001 and PCI DSS that it is about.
    pub fn controls(&self) -> Vec<String> {
        match &self.detection {
            Some(d) => d.controls.clone(),
            None => references(self.kind).1.iter().map(|c| (*c).into()).collect(),
        }
    }
}

/// What was seen once; [`Findings`] makes a finding of it or counts it to one.
#[derive(Debug, Clone)]
pub struct Raised {
    /// What kind.
    pub kind: FindingKind,
    /// The first part of the sentence, up to the time: `Somebody signed in to dome-east directly as operator from 10.20.9.44`.
    pub what: String,
    /// The rest of the sentence: `no session of Aerie explains it`.
    pub why: String,
    /// Machine.
    pub machine: String,
    /// Account.
    pub account: String,
    /// Person.
    pub person: Option<String>,
    /// Address.
    pub source: Option<String>,
    /// When; of several occurrences, the last.
    pub at: Timestamp,
    /// The first of them.
    pub first: Timestamp,
    /// How many.
    pub count: u64,
    /// The lines that show it.
    pub lines: Vec<LogLine>,
    /// The session concerned.
    pub session: Option<String>,
    /// The moment in its recording.
    pub moment_ms: Option<u64>,
    /// The detection that found it.
    pub about: Option<Arc<Detected>>,
}

/// Gathers findings: one for one cause.
#[derive(Debug, Default)]
pub struct Findings {
    found: HashMap<String, Kept>,
    /// Room for the key of a cause, so that counting what is known allocates nothing.
    key: String,
    beyond: u64,
}

/// A finding with both halves of its sentence.
#[derive(Debug)]
struct Kept {
    finding: Finding,
    what: String,
    why: String,
    /// Whether it is new, or was counted since it was last told.
    changed: bool,
}

impl Kept {
    /// The finding with its sentence, which tells times in a zone.
    fn told(&self, zone: &jiff::tz::TimeZone) -> Finding {
        Finding { sentence: self.sentence(zone), ..self.finding.clone() }
    }

    fn into_told(self, zone: &jiff::tz::TimeZone) -> Finding {
        Finding { sentence: self.sentence(zone), ..self.finding }
    }

    fn sentence(&self, zone: &jiff::tz::TimeZone) -> String {
        format!("{} {}; {}.", self.what, times(&self.finding, zone), self.why)
    }
}

/// What makes occurrences one finding.
#[derive(Debug, Clone, Copy)]
pub struct Cause<'a> {
    /// Word of the kind, or name of the detection.
    pub kind: &'a str,
    /// Machine.
    pub machine: &'a str,
    /// Account on it.
    pub account: &'a str,
    /// Person, where the key or session tells.
    pub person: Option<&'a str>,
    /// Address.
    pub source: Option<&'a str>,
    /// For what happened within a session, the session.
    pub session: Option<&'a str>,
}

impl Cause<'_> {
    /// Its parts in one text, each ended by a zero byte.
    fn write(&self, key: &mut String) {
        key.clear();
        let optional = [self.person, self.source, self.session].map(Option::unwrap_or_default);
        for part in [self.kind, self.machine, self.account].into_iter().chain(optional) {
            key.push_str(part);
            key.push('\0');
        }
    }
}

impl Findings {
    /// Counts occurrences of a cause that is known; false where it is not, and then [`Findings::handle_raised`] is to be
    /// called. `lines` makes the lines that show them, and is asked only while there is room for more.
    pub fn handle_known(&mut self, cause: Cause<'_>, at: Timestamp, count: u64, lines: impl FnOnce() -> Vec<LogLine>) -> bool {
        cause.write(&mut self.key);
        let Some(Kept { finding, changed, .. }) = self.found.get_mut(&self.key) else { return false };
        *changed = true;
        finding.count += count;
        finding.first = finding.first.min(at);
        finding.last = finding.last.max(at);
        let room = MOST_LINES.saturating_sub(finding.lines.len());
        if room > 0 {
            finding.lines.extend(lines().into_iter().take(room));
        }
        true
    }

    /// Takes what was seen.
    pub fn handle_raised(&mut self, raised: Raised) {
        if self.handle_known(raised.cause(), raised.at, raised.count, || raised.lines.clone()) {
            return;
        }
        let (id, key) = (identify(&self.key), self.key.clone());
        if self.found.len() >= MOST_FINDINGS {
            self.beyond += 1;
            return;
        }
        let Raised { kind, what, why, machine, account, person, source, at, first, count, mut lines, session, moment_ms, about } = raised;
        lines.truncate(MOST_LINES);
        let finding = Finding {
            id,
            kind,
            importance: about.as_ref().map_or(kind.importance(), |d| d.importance),
            sentence: String::new(),
            mend: about.as_ref().map_or(kind.mend(), |d| &d.mend).into(),
            machine,
            account,
            person,
            source,
            first,
            last: at,
            count,
            lines,
            session,
            moment_ms,
            detection: about,
        };
        self.found.insert(key, Kept { finding, what, why, changed: true });
    }

    /// How many causes were found so far.
    pub fn count(&self) -> usize {
        self.found.len()
    }

    /// Occurrences that were only counted because there were too many causes.
    pub fn beyond(&self) -> u64 {
        self.beyond
    }

    /// The findings, most important first, then the newest; times in sentences are told in `zone`.
    pub fn finish(self, zone: &jiff::tz::TimeZone) -> Vec<Finding> {
        sorted(self.found.into_values().map(|k| k.into_told(zone)).collect())
    }

    /// Those that are new, or were counted since they were last asked for, in the same order. For logs that never end.
    pub fn poll_changed(&mut self, zone: &jiff::tz::TimeZone) -> Vec<Finding> {
        let changed = self.found.values_mut().filter_map(|k| std::mem::take(&mut k.changed).then(|| k.told(zone)));
        let told = sorted(changed.collect());
        // A log that never ends has more causes than there is room for: those that were told, and are the longest over, make room.
        if self.found.len() >= MOST_FINDINGS / 10 * 9 {
            let mut lasts: Vec<Timestamp> = self.found.values().map(|k| k.finding.last).collect();
            lasts.sort_unstable();
            let middle = lasts.get(lasts.len() / 2).copied();
            self.found.retain(|_, k| middle.is_none_or(|m| k.finding.last >= m));
        }
        told
    }
}

fn sorted(mut all: Vec<Finding>) -> Vec<Finding> {
    all.sort_by(|a, b| b.importance.cmp(&a.importance).then(b.last.cmp(&a.last)).then(a.id.cmp(&b.id)));
    all
}

fn times(f: &Finding, zone: &jiff::tz::TimeZone) -> String {
    let show = |t: Timestamp| t.to_zoned(zone.clone()).strftime("%-d %B %Y at %H:%M").to_string();
    match f.count {
        1 => format!("on {}", show(f.first)),
        n => format!("{n} times, first on {} and last on {}", show(f.first), show(f.last)),
    }
}

/// The identifier of a cause.
fn identify(key: &str) -> String {
    hex(Sha256::digest(key.as_bytes()).get(..6).unwrap_or(&[]))
}

impl Raised {
    fn cause(&self) -> Cause<'_> {
        Cause {
            kind: self.about.as_ref().map_or(self.kind.word(), |d| &d.name),
            machine: &self.machine,
            account: &self.account,
            person: self.person.as_deref(),
            source: self.source.as_deref(),
            session: self.session.as_deref(),
        }
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use std::collections::BTreeSet;

    #[test]
    fn every_kind_has_a_word_of_its_own_and_a_way_to_mend() {
        let words: BTreeSet<_> = FindingKind::ALL.iter().map(|k| k.word()).collect();
        assert_eq!(words.len(), FindingKind::ALL.len());
        for k in FindingKind::ALL {
            assert_eq!(serde_json::to_value(k).unwrap(), k.word());
            assert!(k.mend().ends_with('.'));
        }
    }

    fn raised(source: &str, minute: i64) -> Raised {
        let at = Timestamp::from_second(1_780_000_000 + minute * 60).unwrap();
        Raised {
            kind: FindingKind::AroundGateway,
            what: "Somebody signed in to dome-east directly".into(),
            why: "no session of Aerie explains it".into(),
            machine: "dome-east".into(),
            account: "operator".into(),
            person: None,
            source: Some(source.into()),
            at,
            first: at,
            count: 1,
            lines: vec![LogLine { file: "auth.log".into(), number: 1, offset: 0, text: "x".into(), digest: String::new() }],
            session: None,
            moment_ms: None,
            about: None,
        }
    }

    #[test]
    fn a_log_that_never_ends_has_room_for_what_comes_late() {
        let (mut findings, utc) = (Findings::default(), jiff::tz::TimeZone::UTC);
        let most = i64::try_from(MOST_FINDINGS).unwrap();
        for n in 0..3 * most {
            findings.handle_raised(raised(&format!("source-{n}"), n));
            if n % 1000 == 0 {
                findings.poll_changed(&utc);
            }
        }
        let last = findings.poll_changed(&utc);
        assert_eq!(last[0].source.as_deref(), Some(format!("source-{}", 3 * most - 1).as_str()));
        assert!(findings.count() <= MOST_FINDINGS);
    }

    #[test]
    fn one_cause_is_one_finding_with_bounded_evidence() {
        let mut findings = Findings::default();
        (0..50).for_each(|minute| findings.handle_raised(raised("10.0.0.1", minute)));
        let utc = jiff::tz::TimeZone::UTC;
        assert_eq!((findings.poll_changed(&utc).len(), findings.poll_changed(&utc).len()), (1, 0));
        let all = findings.finish(&utc);
        assert_eq!((all.len(), all[0].count, all[0].lines.len()), (1, 50, MOST_LINES));
        assert_eq!(
            all[0].sentence,
            "Somebody signed in to dome-east directly 50 times, first on 28 May 2026 at 20:26 and last on 28 May 2026 at 21:15; no session of Aerie explains it."
        );
    }
}
