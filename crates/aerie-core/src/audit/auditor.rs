//! Judges accesses.

use super::detect::{DetectionSet, Detector, Signal, Stage, What};
use super::finding::{Cause, Finding, FindingKind, Findings, Raised};
use super::judge::{Case, Violation};
use super::log::{Access, Failure, LogLine, Ran};
use super::record::{AccessRecord, SeenCertificate, Service, Skew, access_id};
use crate::policy::{Capabilities, Factors, Policy};
use jiff::tz::TimeZone;
use jiff::{SignedDuration, Timestamp};
use std::collections::{HashMap, HashSet};
use std::sync::Arc;

/// How far the clocks of a machine and of Aerie may differ for a certificate's session to be believed.
const SKEW: SignedDuration = SignedDuration::from_mins(10);
/// Machines whose clocks are followed.
const MOST_CLOCKS: usize = 10_000;
/// A clock that is off by more is a finding: certificates are good for two minutes.
const CLOCK_OFF: SignedDuration = SignedDuration::from_secs(60);
/// Accesses that must show it.
const CLOCK_SEEN: usize = 3;

/// A session of Aerie's own.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct KnownSession {
    /// Its identifier.
    pub id: String,
    /// The person.
    pub person: String,
    /// The machine.
    pub machine: String,
    /// The account on it.
    pub account: String,
    /// When it began.
    pub begin: Timestamp,
    /// When it ended; none while it is live.
    pub end: Option<Timestamp>,
    /// Whether it was recorded.
    pub recorded: bool,
    /// What it was used for.
    pub uses: Capabilities,
    /// What was proved when it began.
    pub factors: Factors,
    /// Where the person came from.
    pub source: Option<std::net::IpAddr>,
}

/// Aerie's own sessions by their identifier.
pub type SessionIndex = HashMap<String, KnownSession>;

/// The rules over time.
#[derive(Debug, Clone, Default)]
pub struct History {
    versions: Vec<(Timestamp, Arc<Policy>)>,
}

impl History {
    /// From the versions and when each was published, in any order.
    pub fn new(mut versions: Vec<(Timestamp, Arc<Policy>)>) -> Self {
        versions.sort_by_key(|(t, _)| *t);
        Self { versions }
    }

    /// The rules of an instant: before the first version, the first.
    pub fn at(&self, at: Timestamp) -> Option<&Arc<Policy>> {
        let after = self.versions.partition_point(|(t, _)| *t <= at);
        self.versions.get(after.saturating_sub(1)).map(|(_, p)| p)
    }

    /// The newest rules.
    pub fn newest(&self) -> Option<&Arc<Policy>> {
        self.versions.last().map(|(_, p)| p)
    }

    /// The zone in which hours are told: that of the newest rules.
    pub fn zone(&self) -> TimeZone {
        self.newest().map_or(TimeZone::UTC, |p| p.zone().clone())
    }
}

/// What logs are held against.
#[derive(Debug, Clone)]
pub struct World {
    /// The rules over time.
    pub history: History,
    /// Aerie's own sessions; none when there is no service to ask, and then certificates of its authority are believed.
    pub sessions: Option<SessionIndex>,
    /// When the service itself signed in to machines, by machine and word.
    pub own: HashMap<(String, String), Vec<Timestamp>>,
    /// Fingerprints of Aerie's authorities, earlier ones included; where they are not known, any is taken for one.
    pub authorities: Option<Vec<String>>,
    /// What else deserves a finding.
    pub detections: Arc<DetectionSet>,
}

/// Judges what logs show, with the rules of their moment.
///
/// Call [`Auditor::handle_failure`] and [`Auditor::handle_access`] in the order of the log; end with [`Auditor::finish`].
pub struct Auditor {
    world: Arc<World>,
    detector: Detector,
    /// Name of the machine that a host of a log is, as it was last asked for.
    machine: Option<(Arc<str>, Arc<str>)>,
    findings: Findings,
    accesses: u64,
    explained: u64,
    /// By machine; at most [`MOST_CLOCKS`].
    clocks: HashMap<String, Skew>,
    /// Those of them of which more was seen since they were last looked at.
    moved_clocks: HashSet<String>,
    /// Machines of which it was told that their clocks are off.
    told_clocks: HashSet<String>,
}

impl Auditor {
    /// An auditor that holds logs against this world.
    pub fn new(world: Arc<World>) -> Self {
        Self {
            detector: Detector::new(world.detections.clone(), world.history.zone(), Stage::Lines),
            world,
            machine: None,
            findings: Findings::default(),
            accesses: 0,
            explained: 0,
            clocks: HashMap::new(),
            moved_clocks: HashSet::new(),
            told_clocks: HashSet::new(),
        }
    }

    /// How many accesses were judged, and how many of them a session of Aerie explains.
    pub fn judged(&self) -> (u64, u64) {
        (self.accesses, self.explained)
    }

    /// Takes a login that failed.
    pub fn handle_failure(&mut self, failure: Failure<'_>) {
        if self.detector.is_deaf_to(What::Failure) {
            return;
        }
        // The common case, a known host, must not allocate: logs of exposed servers have millions of these.
        let machine = self.machine_named(failure.host);
        let line = || vec![(failure.line)()];
        let signal = Signal {
            account: failure.account,
            account_exists: failure.account_exists,
            source: failure.source,
            service: failure.service.word(),
            lines: &line,
            ..Signal::new(What::Failure, failure.at, &machine)
        };
        self.detector.handle_signal(&signal, &mut self.findings);
    }

    /// Takes a command that a log shows: what `sudo` was told to run.
    pub fn handle_command(&mut self, command: &Ran) {
        let machine = self.machine_named(&command.host);
        let lines = || vec![command.line.clone()];
        let signal = Signal {
            account: &command.account,
            service: "sudo",
            command: &command.command,
            lines: &lines,
            ..Signal::new(What::Command, command.at, &machine)
        };
        self.detector.handle_signal(&signal, &mut self.findings);
    }

    fn machine_named(&mut self, host: &Arc<str>) -> Arc<str> {
        if let Some((known, machine)) = &self.machine
            && Arc::ptr_eq(known, host)
        {
            return machine.clone();
        }
        let machine: Arc<str> = self.machine_of_host(host).into();
        self.machine = Some((host.clone(), machine.clone()));
        machine
    }

    /// By how much a machine's clock is ahead of Aerie's, where accesses show it; of several machines, the one that is off most.
    pub fn ahead(&self) -> Option<SignedDuration> {
        self.clocks.values().filter_map(Skew::estimate).max_by_key(|ahead| ahead.abs())
    }

    /// Machines whose clocks are off, each once.
    fn poll_clocks(&mut self) -> Vec<Finding> {
        let mut found = vec![];
        for machine in std::mem::take(&mut self.moved_clocks) {
            let Some(skew) = self.clocks.get(&machine) else { continue };
            let Some(ahead) = skew.estimate().filter(|a| a.abs() > CLOCK_OFF && skew.count() >= CLOCK_SEEN) else { continue };
            if !self.told_clocks.insert(machine.clone()) {
                continue;
            }
            let way = if ahead.is_positive() { "ahead of" } else { "behind" };
            let by = crate::wording::duration(ahead.abs());
            let sentence = format!("The clock of {machine} is {by} {way} Aerie's, as {} accesses show.", skew.count());
            let at = skew.last();
            found.push(Finding::seen(FindingKind::ClockOff, &machine, &machine, "", sentence, at));
        }
        found
    }

    fn machine_of(&self, access: &Access) -> String {
        let known = self.world.history.at(access.begin).and_then(|p| p.directory().machine_by_host(&access.host));
        known.map_or_else(|| access.host.to_string(), |m| m.name.clone())
    }

    /// Name of the machine that calls itself so.
    pub(super) fn machine_of_host(&self, host: &str) -> String {
        let known = self.world.history.newest().and_then(|p| p.directory().machine_by_host(host));
        known.map_or_else(|| host.to_string(), |m| m.name.clone())
    }

    /// The identifier of an access's record.
    pub fn id_of(&self, access: &Access) -> String {
        access_id(&self.machine_of(access), access)
    }

    /// Takes an access, and gives it in the shape of all.
    pub fn handle_access(&mut self, access: &Access) -> AccessRecord {
        self.accesses += 1;
        let machine = self.machine_of(access);
        let mut record = AccessRecord {
            id: access_id(&machine, access),
            service: access.service,
            machine: machine.clone(),
            account: access.account.clone(),
            person: None,
            source: access.source.clone(),
            port: access.port,
            method: access.method.clone(),
            key: access.key.clone(),
            algorithm: access.algorithm.clone(),
            certificate: access.certificate.clone(),
            uses: words(access.uses),
            begin: access.begin,
            end: access.end,
            session: None,
            explained: false,
            lines: access.lines.clone(),
        };
        let world = self.world.clone();
        let Some(policy) = world.history.at(access.begin) else { return record };
        let key = access.key.as_deref();
        let case = Case { policy, machine: &machine, account: &access.account, source: &access.source, key, begin: access.begin };
        record.person = case.owner().map(|p| p.name.clone());
        self.detect(&case, access);
        match self.explanation(&machine, access) {
            Explained::By(session) => {
                self.explained += 1;
                self.handle_clock(&machine, session.begin, access.begin);
                self.conformance(&case, access, &session);
                (record.person, record.session, record.explained) = (Some(session.person), Some(session.id), true);
            }
            // The service's own looking is no use of the machine by anybody.
            Explained::Own(word) => {
                self.explained += 1;
                (record.person, record.session, record.explained) = (None, Some(format!("own {word}")), true);
            }
            Explained::Believed => {
                self.explained += 1;
                record.explained = true;
            }
            Explained::NoSuchSession(id) => {
                let why = format!("its certificate names the session {id}, which Aerie does not know for this machine and time");
                self.raise(&case, access, None, (FindingKind::UnknownSession, why));
            }
            // Login records name no key: what the SSH server says of the same login explains it, or does not.
            Explained::No if access.service == Service::Login => {}
            Explained::No => case.around().into_iter().for_each(|violation| self.raise(&case, access, None, violation)),
        }
        record
    }

    /// Takes a command of a session's recording. `shown` is how the person is called.
    pub fn handle_typed(&mut self, session: &KnownSession, shown: &str, at: Timestamp, moment_ms: u64, command: &str, line: &LogLine) {
        let lines = || vec![line.clone()];
        let signal = Signal {
            account: &session.account,
            person: Some(&session.person),
            shown: Some(shown),
            service: "ssh",
            through: true,
            session: Some(&session.id),
            moment_ms: Some(moment_ms),
            command,
            lines: &lines,
            ..Signal::new(What::Command, at, &session.machine)
        };
        self.detector.handle_signal(&signal, &mut self.findings);
    }

    /// The rules, sessions and people that logs are compared with.
    pub fn world(&self) -> &World {
        &self.world
    }

    /// The same, mutable: rules, sessions and people as they are from now on. Detections stay as they were.
    pub fn world_mut(&mut self) -> &mut World {
        self.machine = None;
        Arc::make_mut(&mut self.world)
    }

    /// What was found, or found again, since it was last asked for. For logs that never end.
    pub fn poll_findings(&mut self, zone: &TimeZone) -> Vec<Finding> {
        let mut all = self.findings.poll_changed(zone);
        all.extend(self.poll_clocks());
        all
    }

    /// Ends the audit.
    pub fn finish(mut self, zone: &TimeZone) -> Vec<Finding> {
        let clocks = self.poll_clocks();
        let mut all = self.findings.finish(zone);
        all.extend(clocks);
        all
    }

    fn explanation(&self, machine: &str, access: &Access) -> Explained {
        let Some(SeenCertificate { id, authority, .. }) = &access.certificate else { return Explained::No };
        let believed = self.world.authorities.as_ref().is_none_or(|all| all.contains(authority));
        let (Some(session), true) = (id.strip_prefix("aerie "), believed) else {
            return Explained::No;
        };
        let Some(sessions) = &self.world.sessions else { return Explained::Believed };
        let begin = access.begin;
        let own = self.world.own.get(&(machine.to_string(), session.to_string()));
        if own.is_some_and(|all| all.iter().any(|at| at.duration_since(begin).abs() < SKEW)) {
            return Explained::Own(session.into());
        }
        let fits = |s: &&KnownSession| {
            s.machine == machine
                && s.account == access.account
                && begin.duration_since(s.begin) > -SKEW
                && s.end.is_none_or(|e| begin.duration_since(e) < SKEW)
        };
        match sessions.get(session).filter(fits) {
            Some(s) => Explained::By(s.clone()),
            None => Explained::NoSuchSession(session.chars().take(40).collect()),
        }
    }

    fn handle_clock(&mut self, machine: &str, ours: Timestamp, theirs: Timestamp) {
        if let Some(skew) = self.clocks.get_mut(machine) {
            skew.handle(ours, theirs);
        } else if self.clocks.len() < MOST_CLOCKS {
            self.clocks.entry(machine.into()).or_default().handle(ours, theirs);
        }
        if self.clocks.contains_key(machine) && !self.moved_clocks.contains(machine) {
            self.moved_clocks.insert(machine.into());
        }
    }

    /// A session of Aerie's own is held against the rules of its moment too: the gate and the audit may not disagree.
    fn conformance(&mut self, case: &Case<'_>, access: &Access, session: &KnownSession) {
        let broken = case.within(session);
        let world = self.world.clone();
        let newest = world.history.newest().filter(|newest| broken.is_empty() && !std::ptr::eq(&***newest, case.policy));
        let withdrawn = newest.and_then(|newest| case.withdrawn(session, newest));
        broken.into_iter().chain(withdrawn).for_each(|violation| self.raise(case, access, Some(session), violation));
    }

    /// Shows an access to the detections that look at lines: guessing that succeeded is a sequence of failures and an access.
    fn detect(&mut self, case: &Case<'_>, access: &Access) {
        let owner = case.owner();
        let lines = || access.lines.clone();
        let signal = Signal {
            account: &access.account,
            person: owner.map(|p| p.name.as_str()),
            shown: owner.map(crate::directory::Person::shown),
            source: &access.source,
            method: &access.method,
            key: access.key.as_deref().unwrap_or_default(),
            algorithm: &access.algorithm,
            service: access.service.word(),
            lines: &lines,
            ..Signal::new(What::Access, access.begin, case.machine)
        };
        self.detector.handle_signal(&signal, &mut self.findings);
    }

    fn raise(&mut self, case: &Case<'_>, access: &Access, session: Option<&KnownSession>, (kind, why): Violation) {
        let person = session.map(|s| s.person.as_str()).or_else(|| case.owner().map(|p| p.name.as_str()));
        let cause = Cause {
            kind: kind.word(),
            machine: case.machine,
            account: &access.account,
            person,
            source: Some(&access.source),
            session: session.map(|s| s.id.as_str()),
        };
        if self.findings.handle_known(cause, access.begin, 1, || access.lines.clone()) {
            return;
        }
        let who = person.and_then(|p| case.policy.directory().person(p)).map_or("Somebody".to_string(), |p| p.shown().to_string());
        let directly = if session.is_some() { "" } else { " directly" };
        self.findings.handle_raised(Raised {
            kind,
            what: format!(
                "{who} signed in to {}{directly} as {} from {}",
                case.machine,
                crate::diagnostic::printable(&access.account),
                access.source
            ),
            why,
            machine: case.machine.into(),
            account: access.account.clone(),
            person: person.map(Into::into),
            source: Some(access.source.clone()),
            at: access.begin,
            first: access.begin,
            count: 1,
            lines: access.lines.clone(),
            session: session.map(|s| s.id.clone()),
            moment_ms: None,
            about: None,
        });
    }
}

/// Words of capabilities, separated by blanks.
pub(super) fn words(uses: Capabilities) -> String {
    uses.iter().map(|c| c.word()).collect::<Vec<_>>().join(" ")
}

enum Explained {
    /// This session explains it.
    By(KnownSession),
    /// The service itself, for this.
    Own(String),
    /// A certificate of the authority, and no service to ask.
    Believed,
    /// A certificate of the authority that names no session that fits.
    NoSuchSession(String),
    /// Nothing does.
    No,
}
