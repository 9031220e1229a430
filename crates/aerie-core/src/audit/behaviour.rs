//! Holds what all logs and sessions show together against the detections that need no lines: who was where, when, and for how long.

use super::auditor::{History, KnownSession};
use super::detect::{DetectionSet, Detector, Signal, Stage, What};
use super::finding::{Finding, Findings};
use super::log::LogLine;
use super::record::AccessRecord;
use crate::directory::Standing;
use jiff::Timestamp;
use jiff::tz::TimeZone;
use std::collections::{BTreeMap, HashMap};
use std::sync::Arc;

/// Ends that are waited for at a time; beyond, the next ones count as if they had come.
const MOST_ENDS: usize = 100_000;

/// Something that happened, whoever says so.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Happened {
    /// What: [`What::Access`], or something that an event tells.
    pub what: What,
    /// When it began.
    pub at: Timestamp,
    /// When it ended; none where that is not known, and while it goes on.
    pub end: Option<Timestamp>,
    /// Machine.
    pub machine: String,
    /// Account on it.
    pub account: String,
    /// Person.
    pub person: Option<String>,
    /// Address.
    pub source: String,
    /// How they proved who they are.
    pub method: String,
    /// Fingerprint of the key.
    pub key: String,
    /// Its kind.
    pub algorithm: String,
    /// Word of the service.
    pub service: &'static str,
    /// Whether Aerie carried it.
    pub through: bool,
    /// Words of the capabilities used, separated by spaces.
    pub uses: String,
    /// The session.
    pub session: Option<String>,
    /// Bytes carried.
    pub bytes: Option<u64>,
    /// What shows it.
    pub lines: Vec<LogLine>,
}

impl From<&AccessRecord> for Happened {
    fn from(r: &AccessRecord) -> Self {
        Self {
            what: What::Access,
            at: r.begin,
            end: r.end,
            machine: r.machine.clone(),
            account: r.account.clone(),
            person: r.person.clone(),
            source: r.source.clone(),
            method: r.method.clone(),
            key: r.key.clone().unwrap_or_default(),
            algorithm: r.algorithm.clone(),
            service: r.service.word(),
            through: r.session.is_some(),
            uses: r.uses.clone(),
            session: r.session.clone(),
            bytes: None,
            lines: r.lines.clone(),
        }
    }
}

impl Happened {
    /// A session of Aerie's own, which carried so many bytes.
    pub fn session(s: &KnownSession, bytes: u64) -> Self {
        Self {
            end: s.end,
            account: s.account.clone(),
            source: s.source.map_or(String::new(), |a| a.to_string()),
            service: "ssh",
            through: true,
            uses: super::auditor::words(s.uses),
            bytes: Some(bytes),
            ..Self::event(What::Access, s.begin, &s.person, &s.machine, Some(&s.id))
        }
    }

    /// Something that an event of the log tells.
    pub fn event(what: What, at: Timestamp, person: &str, machine: &str, session: Option<&str>) -> Self {
        Self {
            what,
            at,
            end: None,
            machine: machine.into(),
            account: String::new(),
            person: Some(person.into()),
            source: String::new(),
            method: String::new(),
            key: String::new(),
            algorithm: String::new(),
            service: "aerie",
            through: true,
            uses: String::new(),
            session: session.map(Into::into),
            bytes: None,
            lines: vec![],
        }
    }
}

/// Holds what happened against the detections. Feed [`Behaviour::handle`] in the order of beginnings; end with [`Behaviour::finish`].
pub struct Behaviour<'a> {
    history: &'a History,
    detector: Detector,
    findings: Findings,
    zone: TimeZone,
    /// Ends to come, in their order.
    ends: BTreeMap<(Timestamp, u64), Happened>,
    count: u64,
    /// Groups of people, as the newest rules have them: to find them out takes a while.
    groups: HashMap<String, Vec<String>>,
}

impl<'a> Behaviour<'a> {
    /// With the people and the zone of these rules.
    pub fn new(history: &'a History, detections: Arc<DetectionSet>) -> Self {
        let zone = history.zone();
        let detector = Detector::new(detections, zone.clone(), Stage::Records);
        Self { history, detector, findings: Findings::default(), zone, ends: BTreeMap::new(), count: 0, groups: HashMap::new() }
    }

    /// Takes what happened next.
    pub fn handle(&mut self, happened: Happened) {
        self.ends_until(happened.at);
        self.show(&happened, happened.what, happened.at);
        if happened.what != What::Access {
            return;
        }
        let used = |word: &str| happened.uses.split_whitespace().any(|u| u == word);
        if used("forward") {
            self.show(&happened, What::Forward, happened.at);
        }
        // Of what goes around Aerie it is known that files were within reach, and not what was done with them.
        if used("upload") || used("download") || (!happened.through && used("browse")) {
            self.show(&happened, What::Transfer, happened.at);
        }
        self.count += 1;
        match happened.end {
            Some(end) if end > happened.at && self.ends.len() < MOST_ENDS => {
                self.ends.insert((end, self.count), happened);
            }
            // A session that is live is open; of what a log leaves open nobody knows how long it was.
            None if happened.through => {}
            _ => self.show(&happened, What::End, happened.at),
        }
    }

    fn ends_until(&mut self, now: Timestamp) {
        while let Some(first) = self.ends.first_entry().filter(|e| e.key().0 <= now) {
            let ((at, _), happened) = first.remove_entry();
            self.show(&happened, What::End, at);
        }
    }

    fn show(&mut self, h: &Happened, what: What, at: Timestamp) {
        if self.detector.is_deaf_to(what) {
            return;
        }
        if let Some(name) = &h.person
            && !self.groups.contains_key(name)
        {
            let newest = self.history.newest().map(|p| p.directory().groups_of(name).into_iter().map(Into::into).collect());
            self.groups.insert(name.clone(), newest.unwrap_or_default());
        }
        let groups = h.person.as_ref().and_then(|p| self.groups.get(p)).map_or(&[][..], Vec::as_slice);
        let directory = self.history.at(h.at).map(|p| p.directory());
        let person = h.person.as_deref().and_then(|p| directory?.person(p));
        let standing = person.map_or("", |p| match p.standing(h.at.to_zoned(self.zone.clone()).date()) {
            // Since when somebody is suspended is not known here: what they did before was right.
            Standing::Good | Standing::Suspended => "",
            Standing::NotYet(_) => "early",
            Standing::Expired(_) => "expired",
        });
        let lines = || h.lines.clone();
        let seconds = h.end.filter(|_| what == What::End).map(|end| end.duration_since(h.at).as_secs());
        let signal = Signal {
            account: &h.account,
            person: h.person.as_deref(),
            shown: person.map(crate::directory::Person::shown),
            groups,
            standing,
            source: &h.source,
            method: &h.method,
            key: &h.key,
            algorithm: &h.algorithm,
            service: h.service,
            through: h.through,
            uses: &h.uses,
            session: h.session.as_deref(),
            seconds,
            bytes: h.bytes.filter(|_| what == What::End),
            lines: &lines,
            ..Signal::new(what, at, &h.machine)
        };
        self.detector.handle_signal(&signal, &mut self.findings);
    }

    /// Ends: what is over by `now`, and what should have followed by then.
    pub fn finish(mut self, now: Timestamp) -> Vec<Finding> {
        self.ends_until(now);
        self.detector.handle_time(now, &mut self.findings);
        self.findings.finish(&self.zone)
    }
}
