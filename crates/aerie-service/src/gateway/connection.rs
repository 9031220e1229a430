//! What one signed-in connection may do, and the session that it becomes.

use super::channel::Channels;
use super::consents::{Consents, Held};
use super::life;
use crate::asking::{self, Consenting};
use crate::known::Known;
use crate::machines::{LinkError, MachineLink, Purpose, Steps};
use crate::recorder::{About, Recording};
use crate::rulebook::InForce;
use crate::service::App;
use crate::sessions::{LiveSession, Own, Reserved};
use aerie_core::audit::KnownSession;
use aerie_core::evidence::{EventKind, NewEvent};
use aerie_core::policy::{
    AccessGranted, Capabilities, Capability, Consent, Decision, Facts, ForwardTarget, Outcome, Request, Speech, Track, Tracks,
};
use aerie_core::recording::Armed;
use aerie_core::session::consent::does;
use aerie_core::session::{EndReason, Live, LoginName, NotArmed, PersonProved};
use aerie_store::SessionRow;
use jiff::Timestamp;
use russh::ChannelId;
use russh::server::Handle;
use std::net::IpAddr;
use std::sync::atomic::{AtomicBool, AtomicU16, Ordering};
use std::sync::{Arc, Mutex, OnceLock};
use tokio::sync::Notify;
use tokio_util::sync::CancellationToken;

/// A connection whose person is proved.
pub(super) struct Connection {
    pub(super) app: Arc<App>,
    pub(super) person: PersonProved,
    pub(super) login: LoginName,
    pub(super) from: IpAddr,
    /// What the person said when they were asked.
    pub(super) stated: Stated,
    /// Cancelled when the connection is over.
    pub(super) closed: CancellationToken,
    /// Cancelled when the sign-in on which it rests is over.
    pub(super) signed_out: CancellationToken,
    has_session: Arc<AtomicBool>,
    /// It asked for ports of the machine to lead back to it (`ssh -R`), and was not told yet that they do not.
    pub(super) refuses_remote: AtomicBool,
    /// Its channels are counted.
    pub(super) channels: Channels,
    /// What the person at the machine said, for each use.
    pub(super) consents: Consents,
    /// It came over HTTPS, and reaches services of the machine one by one.
    over_https: bool,
    handle: OnceLock<Handle>,
    session: tokio::sync::Mutex<Slot>,
}

/// A sign-in, as a connection needs it.
#[derive(Clone)]
pub(crate) struct SignedInBy {
    /// Who signed in.
    pub(crate) person: PersonProved,
    /// From where.
    pub(crate) from: IpAddr,
    /// Cancelled when it is over.
    pub(crate) ended: CancellationToken,
    /// Set when a session begins by it.
    pub(crate) session: Arc<AtomicBool>,
    /// At the console or with a client, and not at the gateway.
    pub(crate) over_https: bool,
}

/// What a user wants to do on a machine.
#[derive(Debug, Clone)]
pub(super) struct Intent {
    pub(super) capability: Capability,
    /// Where a port leads that is to be forwarded.
    pub(super) target: Option<ForwardTarget>,
}

impl Intent {
    /// The capability, and where it leads.
    pub(super) fn what(&self) -> (Capability, Option<&ForwardTarget>) {
        (self.capability, self.target.as_ref())
    }

    /// Whether both are the same use.
    pub(super) fn is_same(&self, other: &Self) -> bool {
        self.capability == other.capability
            && match (&self.target, &other.target) {
                (Some(a), Some(b)) => a.is_same(b),
                (None, None) => true,
                (Some(_), None) | (None, Some(_)) => false,
            }
    }

    /// What it is, as it follows "may" and is followed by the machine.
    pub(super) fn does(&self) -> String {
        does(self.capability, self.target.as_ref().map(ToString::to_string).as_deref())
    }
}

impl From<Capability> for Intent {
    fn from(capability: Capability) -> Self {
        Self { capability, target: None }
    }
}

impl From<ForwardTarget> for Intent {
    fn from(target: ForwardTarget) -> Self {
        Self { capability: Capability::Forward, target: Some(target) }
    }
}

/// A port that is being forwarded.
#[derive(Debug, Clone)]
pub(super) struct Forwarded {
    /// Where it leads, as it is decided about.
    pub(super) target: Held,
    /// Where the machine is asked to connect to.
    pub(super) real: ForwardTarget,
    /// Other machines that are reached there.
    pub(super) beyond: Vec<String>,
    /// Cancelled when it is over.
    pub(super) over: CancellationToken,
}

/// What somebody states because the rules ask for it.
#[derive(Debug, Clone, Default)]
pub(super) struct Stated {
    pub(super) ticket: Option<String>,
    pub(super) reason: Option<String>,
}

impl Stated {
    /// What the decision is told of it.
    pub(super) fn facts(&self, proofs: aerie_core::policy::Proofs, sessions: u32) -> Facts<'_> {
        Facts { proofs, ticket: self.ticket.as_deref(), reason: self.reason.is_some(), sessions, ..Facts::default() }
    }

    /// Notes it with an event.
    pub(super) fn with(&self, event: NewEvent) -> NewEvent {
        let event = match &self.ticket {
            Some(ticket) => event.with("ticket", ticket.clone()),
            None => event,
        };
        match &self.reason {
            Some(reason) => event.with("reason", reason.clone()),
            None => event,
        }
    }
}

/// What leads to the machine.
enum Link {
    /// An SSH connection.
    Ssh(MachineLink),
    /// A TCP connection for each service that is used: none for the session itself.
    Services { how: String, closed: CancellationToken },
}

impl Link {
    fn how(&self) -> &str {
        match self {
            Self::Ssh(link) => &link.how,
            Self::Services { how, .. } => how,
        }
    }

    async fn close(&self) {
        match self {
            Self::Ssh(link) => link.close().await,
            Self::Services { .. } => {}
        }
    }
}

/// Why something did not begin, in a sentence for the person.
#[derive(Debug, Clone, PartialEq, Eq)]
pub(super) enum NotBegun {
    /// It is not allowed.
    Refused(String),
    /// It is allowed, and the machine, its agent, or what Aerie needs for it is not there.
    Unavailable(String),
}

impl NotBegun {
    /// Exit status of sysexits(3): EX_NOPERM or EX_UNAVAILABLE.
    pub(super) fn status(&self) -> u32 {
        match self {
            Self::Refused(_) => 77,
            Self::Unavailable(_) => 69,
        }
    }

    pub(super) fn why(&self) -> &str {
        match self {
            Self::Refused(why) | Self::Unavailable(why) => why,
        }
    }
}

impl From<String> for NotBegun {
    fn from(why: String) -> Self {
        Self::Refused(why)
    }
}

impl From<NotBegun> for String {
    fn from(not: NotBegun) -> Self {
        match not {
            NotBegun::Refused(why) | NotBegun::Unavailable(why) => why,
        }
    }
}

/// A use that was granted, and the person at the machine who agreed to it.
pub(super) struct Admitted {
    pub(super) granted: AccessGranted,
    pub(super) consenting: Option<Consenting>,
}

enum Slot {
    None,
    Open(Arc<OpenSession>),
}

/// A session: this connection, carried to a machine.
pub(super) struct OpenSession {
    pub(super) live: Arc<LiveSession>,
    pub(super) life: Mutex<Live>,
    pub(super) wake: Notify,
    pub(super) recording: Option<Recording>,
    pub(super) recording_failed: CancellationToken,
    link: Link,
    pub(super) machine: String,
    pub(super) account: String,
    pub(super) granted: Mutex<Capabilities>,
    /// What it was used for, as the log says.
    used: Mutex<Capabilities>,
    /// Tracks that the rules demand of what runs here, by their bits: a stream is recorded whole where its track is among them.
    demanded: AtomicU16,
    /// What carries each use, so that one can be ended without the others.
    pub(super) uses: Mutex<Vec<(Capability, CancellationToken)>>,
    /// Ports that are forwarded.
    pub(super) forwards: Mutex<Vec<Forwarded>>,
    /// Channels whose person can read a notice.
    pub(super) readers: Mutex<Vec<ChannelId>>,
    /// The person was told that it is over, and why: their channels may be closed.
    told: CancellationToken,
    /// Tasks that carry bytes; the recording is closed when they are done.
    pub(super) carriers: tokio_util::task::TaskTracker,
}

impl Connection {
    /// A connection of this sign-in; where it came over HTTPS, it reaches the machine's services one by one.
    pub(super) fn new(app: Arc<App>, by: SignedInBy, login: LoginName, stated: Stated, closed: CancellationToken) -> Arc<Self> {
        let SignedInBy { person, from, ended: signed_out, session: has_session, over_https } = by;
        let session = tokio::sync::Mutex::new(Slot::None);
        let (channels, consents) = (Channels::default(), Consents::default());
        Arc::new(Self {
            app,
            person,
            login,
            from,
            stated,
            closed,
            signed_out,
            has_session,
            refuses_remote: false.into(),
            channels,
            consents,
            over_https,
            handle: OnceLock::new(),
            session,
        })
    }

    pub(super) fn set_handle(&self, handle: Handle) {
        let _ = self.handle.set(handle);
    }

    pub(super) fn handle(&self) -> Option<&Handle> {
        self.handle.get()
    }

    /// The question that the gateway asks about something that is to begin. A recording is promised: without one the session
    /// does not begin.
    pub(super) fn request<'a>(
        person: &'a str,
        machine: &'a str,
        account: Option<&'a str>,
        capability: Capability,
        from: IpAddr,
        facts: Facts<'a>,
    ) -> Request<'a> {
        let facts = Facts { recorded: Tracks::all(), ..facts };
        Request { person, capability, machine, account, at: Timestamp::now(), from: Some(from), facts }
    }

    /// What is known at this moment besides the person.
    pub(super) fn known(&self) -> Known {
        Known::of(&self.app, self.person.person())
    }

    /// What is known of the person for a use that begins now; `own` is the session that it would belong to.
    pub(super) fn facts<'a>(
        &'a self,
        known: &'a Known,
        (capability, target): (Capability, Option<&'a ForwardTarget>),
        own: Own<'_>,
    ) -> Facts<'a> {
        let stated = self.stated.facts(self.person.proofs(), self.app.live.beside(self.person.person(), own));
        let consent = self.consents.of(capability, target);
        known.facts(Facts { emergency: self.login.emergency, consent, target, ..stated })
    }

    /// The session of this connection, while it is live.
    async fn open(&self) -> Option<Arc<LiveSession>> {
        match &*self.session.lock().await {
            Slot::Open(session) => Some(session.live.clone()),
            Slot::None => None,
        }
    }

    /// Decides, logs the decision, and gives the proof of access or the sentence that refuses it.
    pub(super) async fn authorise(&self, intent: impl Into<Intent>) -> Result<AccessGranted, String> {
        let Some(machine) = self.login.machine.as_deref() else {
            return Err(format!("Name the machine: ssh -p PORT {}+MACHINE@HOST.", self.person.person()));
        };
        let mut granted = None;
        let why = self.decide(machine, &intent.into(), |decision, request, _| granted = decision.granted(request)).await?;
        granted.ok_or(why)
    }

    /// Decides, logs the decision, and hands it on. Gives its sentence for the person.
    pub(super) async fn decide(
        &self,
        machine: &str,
        intent: &Intent,
        take: impl FnOnce(&Decision, &Request<'_>, &str),
    ) -> Result<String, String> {
        let account = self.login.account.as_deref();
        self.decide_as(machine, account, intent, take).await
    }

    /// Decides what is reached beyond the machine, at the machine that is known to be there: its rules count as well.
    pub(super) async fn authorise_beyond(&self, other: &str, target: &ForwardTarget) -> Result<AccessGranted, String> {
        let (mut granted, mut refused) = (None, true);
        let intent = ForwardTarget::itself(target.port()).into();
        let take = |decision: &Decision, request: &Request<'_>, _: &str| {
            granted = decision.granted(request);
            refused = matches!(decision.outcome, Outcome::Refused(_));
        };
        let why = self.decide_as(other, None, &intent, take).await?;
        granted.ok_or_else(|| {
            let through = self.login.machine.as_deref().unwrap_or_default();
            // A user without a right there does not learn that the machine exists.
            if refused {
                format!("No rule lets you forward ports through {through} to {target}.")
            } else {
                format!("This port leads to {other}. {why}")
            }
        })
    }

    /// What was said at the machine of this connection is said of no other.
    pub(super) fn consent_at(&self, machine: &str, said: Option<Consent>) -> Option<Consent> {
        said.filter(|_| self.login.machine.as_deref() == Some(machine))
    }

    async fn decide_as(
        &self,
        machine: &str,
        account: Option<&str>,
        intent: &Intent,
        take: impl FnOnce(&Decision, &Request<'_>, &str),
    ) -> Result<String, String> {
        let capability = intent.capability;
        if self.signed_out.is_cancelled() {
            return Err("You were signed out.".into());
        }
        let rules = self.app.rules.now();
        let (open, known) = (self.open().await, self.known());
        let facts = self.facts(&known, intent.what(), open.as_deref().map_or(Own::None, Own::Live));
        let facts = Facts { consent: self.consent_at(machine, facts.consent), ..facts };
        let request = Self::request(self.person.person(), machine, account, capability, self.from, facts);
        let decision = rules.policy.decide(&request);
        self.log_decision(&rules, &request, &decision).await?;
        let why = rules.policy.sentence(&request, &decision, Speech::Person);
        take(&decision, &request, &why);
        Ok(why)
    }

    async fn log_decision(&self, rules: &InForce, request: &Request<'_>, decision: &Decision) -> Result<(), String> {
        let outcome = match &decision.outcome {
            Outcome::Granted(_) => "granted",
            Outcome::Unmet { .. } => "unmet",
            Outcome::Refused(_) => "refused",
        };
        let event = NewEvent::new(request.at, EventKind::Decision, self.person.person())
            .machine(request.machine)
            .from(self.from)
            .says(rules.policy.sentence(request, decision, Speech::Insider))
            .with("outcome", outcome)
            .with("capability", request.capability.word())
            .with("policy_version", rules.version)
            .with("emergency", self.login.emergency)
            .with("rules", decision.because.iter().map(|r| format!("{}:{}", r.name, r.line)).collect::<Vec<_>>());
        let event = match request.target() {
            Some(target) => event.with("target", target.to_string()),
            None => event,
        };
        if self.app.log.append(event).await.is_err() {
            return Err("The decision could not be logged, so that nothing is allowed.".into());
        }
        self.app.tell("log");
        Ok(())
    }

    /// Whether any capability that the person has here must be recorded: one recording serves the whole session.
    fn must_record(&self, machine: &str, account: &str) -> bool {
        let (rules, known) = (self.app.rules.now(), self.known());
        Capability::ALL.into_iter().filter(|c| c.is_of_sessions()).any(|c| {
            let request =
                Self::request(self.person.person(), machine, Some(account), c, self.from, self.facts(&known, (c, None), Own::None));
            matches!(rules.policy.decide(&request).outcome, Outcome::Granted(g) if !g.demands.recording.is_empty())
        })
    }

    /// The session of this connection; begins it for the first that asks, and notes the use.
    pub(super) async fn session(self: &Arc<Self>, granted: &AccessGranted, steps: &Steps) -> Result<Arc<OpenSession>, NotBegun> {
        let session = self.hold(granted, steps).await?;
        self.note_use(&session, Capabilities::of([granted.capability()])).await;
        Ok(session)
    }

    /// The session of this connection, in which something may now be done; begins it for the first that asks.
    pub(super) async fn hold(self: &Arc<Self>, granted: &AccessGranted, steps: &Steps) -> Result<Arc<OpenSession>, NotBegun> {
        let mut slot = self.session.lock().await;
        let session = match &*slot {
            Slot::Open(session) if session.live.ended.is_cancelled() => return Err(NotBegun::Refused("This session is over.".into())),
            Slot::Open(session) => {
                session.take_grant(granted).map_err(|e| format!("{e}: sign in again."))?;
                session.clone()
            }
            Slot::None => {
                let session = self.begin(granted, steps).await?;
                session.take_grant(granted).map_err(|e| format!("{e}."))?;
                *slot = Slot::Open(session.clone());
                self.has_session.store(true, Ordering::Relaxed);
                crate::visits::joined(&self.app, self.person.person(), &session.machine, &session.live.id).await;
                session
            }
        };
        drop(slot);
        session.wake.notify_one();
        Ok(session)
    }

    /// Notes what the session was used for.
    pub(super) async fn note_use(&self, session: &OpenSession, uses: Capabilities) {
        let uses = {
            let mut used = lock(&session.used);
            let more = used.union(uses);
            if more == *used {
                return;
            }
            *used = more;
            more.words().join(" ")
        };
        if let Err(e) = self.app.store.set_session_uses(&session.live.id, &uses).await {
            tracing::warn!(error = %e, "the use of a session could not be noted");
        }
        self.app.tell("sessions");
    }

    async fn begin(self: &Arc<Self>, granted: &AccessGranted, steps: &Steps) -> Result<Arc<OpenSession>, NotBegun> {
        let (machine, account) = (self.login.machine.clone().unwrap_or_default(), granted.grant().account.to_string());
        let now = Timestamp::now();
        let id = crate::api::new_id(now);
        let place = self.app.live.reserve(&id, self.person.person());
        self.decide_beginning(&machine, granted, &place).await?;
        let recording_failed = CancellationToken::new();
        let recorder = if self.must_record(&machine, &account) || !granted.grant().demands.recording.is_empty() {
            let about = About { session: &id, person: self.person.person(), machine: &machine, account: &account };
            match self.app.recorder.begin(about, now, recording_failed.clone()).await {
                Ok(begun) => Some(begun),
                Err(e) => return Err(NotBegun::Unavailable(self.cannot_record(&machine, &e).await)),
            }
        } else {
            None
        };
        let (recording, armed, file) = recorder.map_or((None, None, None), |(r, a, f)| (Some(r), Some(a), Some(f)));
        let link = match self.over_https {
            true => Ok(Link::Services { how: "service by service".into(), closed: CancellationToken::new() }),
            false => {
                let session = KnownSession {
                    id: id.clone(),
                    person: self.person.person().into(),
                    machine: machine.clone(),
                    account: account.clone(),
                    begin: now,
                    end: None,
                    recorded: recording.is_some(),
                    uses: Capabilities::NONE,
                    factors: self.person.factors(),
                    source: Some(self.from),
                };
                self.link(&session, granted, steps).await.map(Link::Ssh)
            }
        };
        let link = match link {
            Ok(link) => link,
            Err(e) => {
                self.abandon(recording, file).await;
                return Err(e);
            }
        };
        let parts = Begun { place, id, now, recording, armed, file, recording_failed, link, machine, account };
        self.go_live(granted, parts).await
    }

    async fn cannot_record(&self, machine: &str, error: &std::io::Error) -> String {
        tracing::error!(error = %error, "a recording could not be begun");
        let event = NewEvent::new(Timestamp::now(), EventKind::RecordingFailed, self.person.person())
            .machine(machine)
            .from(self.from)
            .says(format!("The session on {machine} did not begin, because it could not be recorded: {error}."));
        self.app.note(event).await;
        "The rules demand a recording, and it cannot be written now; nothing was begun.".into()
    }

    /// A session that never went live leaves no recording.
    async fn abandon(&self, recording: Option<Recording>, file: Option<String>) {
        if let Some(recording) = recording {
            recording.finish().await;
        }
        if let Some(file) = file {
            let _ = tokio::fs::remove_file(self.app.config.recordings().join(file)).await;
        }
    }

    async fn link(&self, session: &KnownSession, granted: &AccessGranted, steps: &Steps) -> Result<MachineLink, NotBegun> {
        let (machine, account) = (&*session.machine, &*session.account);
        let rules = self.app.rules.now();
        let Some(known) = rules.policy.directory().machine(machine) else {
            return Err(NotBegun::Unavailable(LinkError::NotReady.to_string()));
        };
        let forward = granted.capability() == Capability::Forward || self.allows(machine, Some(account), Capability::Forward);
        match MachineLink::open(&self.app, known, account, Purpose::Session(session, forward), steps).await {
            Ok(link) => Ok(link),
            Err(e) => {
                let event = NewEvent::new(Timestamp::now(), EventKind::MachineFailed, self.person.person())
                    .machine(machine)
                    .from(self.from)
                    .says(format!("{} could not be taken to {machine}: {e}.", self.person.person()))
                    .with("error", e.code());
                self.app.note(event).await;
                let why = format!("{machine}: {e}.");
                // It is there, and Aerie takes nobody to it.
                Err(if matches!(e, LinkError::OtherKey) { NotBegun::Refused(why) } else { NotBegun::Unavailable(why) })
            }
        }
    }

    /// Decides once more with a place reserved: what was granted counted only the sessions that were there then.
    async fn decide_beginning(&self, machine: &str, granted: &AccessGranted, place: &Reserved) -> Result<(), String> {
        let (rules, known, capability) = (self.app.rules.now(), self.known(), granted.capability());
        let facts = self.facts(&known, (capability, granted.target()), Own::Beginning(place));
        let account = Some(&*granted.grant().account);
        let request = Self::request(self.person.person(), machine, account, capability, self.from, facts);
        let decision = rules.policy.decide(&request);
        if matches!(decision.outcome, Outcome::Granted(_)) {
            return Ok(());
        }
        self.log_decision(&rules, &request, &decision).await?;
        Err(rules.policy.sentence(&request, &decision, Speech::Person))
    }

    /// Whether the rules allow this on the machine of the login now, without asking anybody.
    pub(super) fn may(&self, capability: Capability) -> bool {
        self.login.machine.as_deref().is_some_and(|machine| self.allows(machine, self.login.account.as_deref(), capability))
    }

    /// Whether the rules allow this here and now, without asking anybody.
    pub(super) fn allows(&self, machine: &str, account: Option<&str>, capability: Capability) -> bool {
        let known = self.known();
        let facts = self.facts(&known, (capability, None), Own::None);
        let request = Self::request(self.person.person(), machine, account, capability, self.from, facts);
        matches!(self.app.rules.now().policy.decide(&request).outcome, Outcome::Granted(_))
    }

    async fn go_live(self: &Arc<Self>, granted: &AccessGranted, begun: Begun) -> Result<Arc<OpenSession>, NotBegun> {
        let Begun { place, id, now, recording, armed, file, recording_failed, link, machine, account } = begun;
        let live = Live::begin(self.person.clone(), granted, armed.as_ref(), now).map_err(|e| format!("{e}."))?;
        let (rules, known) = (self.app.rules.now(), self.known());
        let capability = granted.capability();
        let facts = self.facts(&known, (capability, granted.target()), Own::Beginning(&place));
        let request = Self::request(self.person.person(), &machine, Some(&account), capability, self.from, facts);
        let basis = rules.policy.decide(&request).because.into_iter().next();
        let row = SessionRow {
            id: id.clone(),
            person: self.person.person().into(),
            machine: machine.clone(),
            account: account.clone(),
            source: self.from.to_string(),
            began: now,
            ended: None,
            end_reason: None,
            uses: String::new(),
            factors: self.person.factors().words().join(" "),
            rule: basis.as_ref().map(|b| b.name.to_string()).unwrap_or_default(),
            rule_line: basis.map_or(0, |b| i64::try_from(b.line).unwrap_or(0)),
            policy_version: rules.version,
            recording: file,
            digest: None,
            length_ms: 0,
            bytes_out: 0,
            bytes_in: 0,
        };
        let event = NewEvent::new(now, EventKind::SessionBegan, self.person.person())
            .machine(&machine)
            .session(&id)
            .from(self.from)
            .says(format!("{} began a session on {machine} as {account}.", self.person.person()))
            .with("account", account.clone())
            .with("recorded", recording.is_some())
            .with("way", link.how());
        let event = match &granted.grant().pass {
            Some(pass) => event.with("pass", pass.to_string()),
            None => event,
        };
        let event = self.stated.with(event);
        let logged = match self.app.store.add_session(&row).await {
            Ok(()) => self.app.log.append(event).await.map(drop),
            Err(e) => Err(e),
        };
        if let Err(e) = logged {
            tracing::error!(error = %e, "a session could not be logged");
            link.close().await;
            return Err(NotBegun::Unavailable("The session could not be logged, so that it did not begin.".into()));
        }
        let session = Arc::new(OpenSession {
            live: Arc::new(LiveSession::new(&place, (&machine, &account), &row.rule, now.as_millisecond())),
            life: Mutex::new(live),
            wake: Notify::new(),
            recording,
            recording_failed,
            link,
            machine,
            account,
            granted: Mutex::new(Capabilities::NONE),
            used: Mutex::new(Capabilities::NONE),
            demanded: AtomicU16::new(0),
            uses: Mutex::default(),
            forwards: Mutex::default(),
            readers: Mutex::new(vec![]),
            told: CancellationToken::new(),
            carriers: tokio_util::task::TaskTracker::new(),
        });
        self.app.live.add(session.live.clone());
        self.app.tell("sessions");
        if granted.grant().emergency {
            let reason = self.stated.reason.as_deref().unwrap_or_default();
            asking::emergency(&self.app, (&id, self.person.person(), &session.machine, &session.account), reason, self.from).await;
        }
        self.app.tasks.spawn(life::tend(self.clone(), session.clone()));
        Ok(session)
    }
}

/// What a session is made of when it goes live.
struct Begun {
    place: Reserved,
    id: String,
    now: Timestamp,
    recording: Option<Recording>,
    armed: Option<Armed>,
    file: Option<String>,
    recording_failed: CancellationToken,
    link: Link,
    machine: String,
    account: String,
}

impl std::fmt::Display for Forwarded {
    fn fmt(&self, f: &mut std::fmt::Formatter<'_>) -> std::fmt::Result {
        match self.beyond.as_slice() {
            [] => write!(f, "{}", self.real),
            beyond => write!(f, "{} ({})", self.real, beyond.join(", ")),
        }
    }
}

impl OpenSession {
    /// The SSH connection to the machine.
    pub(super) fn ssh(&self) -> Result<&MachineLink, String> {
        match &self.link {
            Link::Ssh(link) => Ok(link),
            Link::Services { .. } => Err("This session has no SSH connection.".into()),
        }
    }

    /// Cancelled when the machine closed the connection.
    pub(super) fn link_closed(&self) -> &CancellationToken {
        match &self.link {
            Link::Ssh(link) => &link.closed,
            Link::Services { closed, .. } => closed,
        }
    }

    pub(super) async fn close_link(&self) {
        self.link.close().await;
    }

    /// Takes what a grant brings: something may be done, within limits, and is recorded so.
    ///
    /// # Errors
    /// When it demands a recording and the session has none.
    pub(super) fn take_grant(&self, granted: &AccessGranted) -> Result<(), NotArmed> {
        let capability = granted.capability();
        lock(&self.life).handle_grant(granted)?;
        {
            let mut all = lock(&self.granted);
            *all = all.union(Capabilities::of([capability]));
        }
        if capability.acts() {
            self.live.acts.store(true, Ordering::Relaxed);
        }
        if capability == Capability::Control {
            self.live.hands.store(true, Ordering::Relaxed);
        }
        // What a copy carries is files, and demands for other tracks do not concern it.
        if matches!(capability, Capability::Shell | Capability::Exec) {
            let tracks = granted.grant().demands.recording;
            let bits = tracks.iter().fold(0, |bits, t| bits | 1 << t as u16);
            self.demanded.fetch_or(bits, Ordering::Relaxed);
        }
        self.weigh();
        Ok(())
    }

    /// Ends every use of that kind, of forwarded ports those that lead there; whether no use is left.
    pub(super) fn stop_uses(&self, intent: &Intent) -> bool {
        if let Some(target) = &intent.target {
            let stopped: Vec<_> = lock(&self.forwards).iter().filter(|f| f.target.is_same(target)).cloned().collect();
            stopped.iter().for_each(|f| self.forget_forward(f));
        } else {
            lock(&self.uses).retain(|(c, over)| {
                // Without `view` nothing else may be done with a screen.
                let stays = *c != intent.capability && intent.capability != Capability::View;
                if !stays {
                    over.cancel();
                }
                stays
            });
        }
        lock(&self.uses).is_empty()
    }

    /// A port is no longer forwarded.
    pub(super) fn forget_forward(&self, forwarded: &Forwarded) {
        forwarded.over.cancel();
        lock(&self.forwards).retain(|f| !f.over.is_cancelled());
        lock(&self.uses).retain(|(c, over)| *c != Capability::Forward || !over.is_cancelled());
    }

    /// Whether the rules demand this track of what runs here.
    pub(super) fn demands(&self, track: Track) -> bool {
        self.demanded.load(Ordering::Relaxed) & (1 << track as u16) != 0
    }

    /// Takes the limit on what it carries from the rules.
    fn weigh(&self) {
        let limit = lock(&self.life).volume_limit().unwrap_or(u64::MAX);
        self.live.volume_limit.store(limit, Ordering::Relaxed);
    }

    /// Ends it, once the person was told.
    pub(super) fn end(&self, reason: EndReason) {
        self.live.end(reason);
        self.told.cancel();
    }

    /// Waits, where the session was ended, until the person was told: a channel that is closed first says nothing any more.
    pub(super) async fn parting(&self) {
        if self.live.ended.is_cancelled() {
            self.told.cancelled().await;
        }
    }
}

pub(super) fn lock<T>(mutex: &Mutex<T>) -> std::sync::MutexGuard<'_, T> {
    mutex.lock().unwrap_or_else(std::sync::PoisonError::into_inner)
}
