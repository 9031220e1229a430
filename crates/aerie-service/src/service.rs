//! Brings everything up and down.

use crate::agents::{Agents, MOST_GREETING, MOST_GREETING_FROM_ONE};
use crate::api;
use crate::asking::{self, Asking};
use crate::config::Config;
use crate::data::{DataDirectory, DataError};
use crate::forwarding::{self, Forwarding};
use crate::gateway::{self, Desktops};
use crate::identity::Identity;
use crate::keys::{KeyError, Keys};
use crate::machines::Inventory;
use crate::machines::neighbours::Neighbours;
use crate::mailing::Mailing;
use crate::places::Places;
use crate::reach::ReachCache;
use crate::recorder::RecentReads;
use crate::recorder::Recorder;
use crate::rounds;
use crate::rulebook::Rulebook;
use crate::sessions::LiveSessions;
use crate::vault::Vault;
use crate::visits::{self, Visits};
use aerie_core::directory::{Machine, Standing};
use aerie_core::evidence::{EventKind, NewEvent};
use aerie_core::session::EndReason;
use aerie_core::settings::{Setting, Settings};
use aerie_store::{EventLog, Invitation, SessionFilter, Store, StoreError};
use jiff::Timestamp;
use std::net::SocketAddr;
use std::sync::{Arc, OnceLock, PoisonError, RwLock};
use std::time::Duration;
use tokio::net::TcpListener;
use tokio::sync::broadcast;
use tokio::task::JoinHandle;
use tokio_util::sync::CancellationToken;
use tokio_util::task::TaskTracker;

/// How long PINs that are over are listed.
const PINS_KEPT: jiff::SignedDuration = jiff::SignedDuration::from_hours(24 * 7);
/// How long the link for the first administrator is good; another comes with the next start.
const FIRST_LINK: jiff::SignedDuration = jiff::SignedDuration::from_hours(24);
/// How long sessions get to end when the service stops.
const FAREWELL: Duration = Duration::from_secs(10);

/// Why the service could not start or stop.
#[derive(Debug, thiserror::Error)]
pub enum ServiceError {
    /// The keys.
    #[error(transparent)]
    Keys(#[from] KeyError),
    /// The store.
    #[error(transparent)]
    Store(#[from] StoreError),
    /// A file or socket.
    #[error("{what}: {source}")]
    Io {
        /// What was tried.
        what: String,
        /// What is wrong.
        source: std::io::Error,
    },
    /// The address that was given.
    #[error("--address: {0}")]
    Address(String),
    /// The data directory.
    #[error(transparent)]
    Data(#[from] DataError),
    /// The console would be open to the network without encryption.
    #[error("without TLS the console listens on this machine alone: keep --http on 127.0.0.1 or [::1], or use --https")]
    NotLoopback,
    /// There is no console to listen.
    #[error("say where the console listens: --https, or --http on this machine alone")]
    NoConsole,
}

/// Everything that the parts of the service share.
pub(crate) struct App {
    /// Held while anything writes there.
    _data: DataDirectory,
    pub(crate) config: Config,
    pub(crate) store: Store,
    pub(crate) log: EventLog,
    pub(crate) keys: Arc<Keys>,
    pub(crate) rules: Rulebook,
    pub(crate) identity: Identity,
    pub(crate) recorder: Recorder,
    pub(crate) health: api::Health,
    pub(crate) live: Arc<LiveSessions>,
    /// What machines are about to tell of in their logs.
    pub(crate) sign_ins: crate::machines::SignIns,
    /// SSH connections that signed in.
    pub(crate) connections: Arc<crate::ending::Connections>,
    pub(crate) desktops: Desktops,
    pub(crate) visits: Visits,
    pub(crate) reads: RecentReads,
    /// A film is wanted.
    pub(crate) films: tokio::sync::Notify,
    pub(crate) reach: ReachCache,
    pub(crate) agents: Agents,
    pub(crate) inventory: Inventory,
    pub(crate) vault: Vault,
    pub(crate) asking: Asking,
    pub(crate) neighbours: Neighbours,
    pub(crate) mailing: Mailing,
    pub(crate) forwarding: Forwarding,
    /// Where lines of logs go to that come in by themselves.
    pub(crate) arriving: tokio::sync::OnceCell<tokio::sync::mpsc::Sender<crate::audit::live::Arrived>>,
    /// Agents that are in the middle of greeting.
    pub(crate) greeting: Arc<Places>,
    settings: RwLock<Arc<Settings>>,
    /// Whoever changes the directory does it in their turn, so that of two changes at a time none is lost.
    pub(crate) directory_turn: tokio::sync::Mutex<()>,
    /// Whoever holds everything against the detections.
    pub(crate) looking: tokio::sync::Mutex<()>,
    /// Where the console listens, once it does.
    listening: OnceLock<String>,
    /// Where it listens with TLS.
    listening_tls: OnceLock<SocketAddr>,
    /// The certificate in use.
    tls: RwLock<Option<(Arc<rustls::ServerConfig>, String)>>,
    /// Tells live views which kind of thing changed.
    pub(crate) updates: broadcast::Sender<&'static str>,
    pub(crate) stopping: CancellationToken,
    /// Tasks that must end before the service does.
    pub(crate) tasks: TaskTracker,
}

impl App {
    /// Appends an event and tells the live views. An error is logged; those who must not go on without evidence use
    /// [`EventLog::append`].
    pub(crate) async fn note(&self, event: NewEvent) {
        if let Err(e) = self.log.append(event).await {
            tracing::error!(error = %e, "an event could not be logged");
        }
        self.tell("log");
    }

    pub(crate) fn tell(&self, what: &'static str) {
        let _ = self.updates.send(what);
    }

    /// The settings in force.
    pub(crate) fn settings(&self) -> Arc<Settings> {
        self.settings.read().unwrap_or_else(PoisonError::into_inner).clone()
    }

    /// Reads the settings again.
    pub(crate) async fn load_settings(&self) -> Result<(), StoreError> {
        let fresh = Arc::new(self.store.settings().await?);
        *self.settings.write().unwrap_or_else(PoisonError::into_inner) = fresh;
        Ok(())
    }

    /// Where browsers reach the console: as it is set, or where it listens.
    pub(crate) fn address(&self) -> String {
        let settings = self.settings();
        let set = settings.text(Setting::Address);
        if set.is_empty() { self.listening.get().cloned().unwrap_or_default() } else { set.trim_end_matches('/').into() }
    }

    /// Whether the address of the console is one that passkeys work for: a name, not a number.
    pub(crate) fn passkeys_work(&self) -> bool {
        url::Url::parse(&self.address()).is_ok_and(|u| u.domain().is_some())
    }

    /// Takes a changed directory into force, ends the tokens of those who are gone, and looks for keys that two people have.
    pub(crate) async fn directory_changed(&self) -> Result<(), StoreError> {
        self.rules.reload().await?;
        self.sweep(Timestamp::now()).await?;
        crate::ending::look(self).await?;
        let rules = self.rules.now();
        let now = Timestamp::now();
        for (print, people) in rules.policy.directory().shared_keys() {
            crate::audit::shared_key(self, print, &people, now).await?;
        }
        Ok(())
    }

    /// Keeps machines, and takes them into force. The caller has the directory's turn, so that its version stays what it is.
    pub(crate) async fn put_machines(&self, machines: &[Machine]) -> Result<(), StoreError> {
        self.store.change_machines(machines, self.store.directory_version().await?).await?;
        self.rules.reload().await
    }

    /// Host and port at which agents reach the service.
    pub(crate) fn agent_address(&self) -> String {
        let settings = self.settings();
        let set = settings.text(Setting::AgentAddress);
        if set.is_empty() { self.tls_address().unwrap_or_default() } else { set.into() }
    }

    /// Host and port at which people find the service with TLS; none where it does not listen so.
    pub(crate) fn tls_address(&self) -> Option<String> {
        let url = url::Url::parse(&self.address()).ok().filter(|u| u.scheme() == "https");
        match url {
            Some(u) => Some(format!("{}:{}", u.host_str().unwrap_or("localhost"), u.port_or_known_default().unwrap_or(443))),
            None => self.listening_tls.get().map(ToString::to_string),
        }
    }

    /// Ends what is over, and writes down when tokens were used.
    pub(crate) async fn sweep(&self, now: Timestamp) -> Result<(), StoreError> {
        let (rules, limits) = (self.rules.now(), self.settings().signed_in());
        let day = now.to_zoned(rules.policy.zone().clone()).date();
        let good = |name: &str| rules.policy.directory().person(name).is_some_and(|p| p.standing(day) == Standing::Good);
        self.identity.book.sweep(good, &limits, now).await?;
        self.store.sweep_credentials(now).await?;
        self.store.sweep_codes(now).await?;
        self.store.sweep_pins(now - PINS_KEPT).await
    }

    /// What speaks for the console on new connections.
    pub(crate) fn tls(&self) -> Option<Arc<rustls::ServerConfig>> {
        self.tls.read().unwrap_or_else(PoisonError::into_inner).as_ref().map(|t| t.0.clone())
    }

    /// The pin of the key with which it does so (RFC 7469).
    pub(crate) fn tls_pin(&self) -> Option<String> {
        self.tls.read().unwrap_or_else(PoisonError::into_inner).as_ref().map(|t| t.1.clone())
    }

    /// Makes or renews the certificate; connections that are open go on with the one before.
    pub(crate) fn renew_tls(&self, now: Timestamp) -> Result<(), KeyError> {
        if self.config.https.is_none() && self.config.syslog.tls.is_none() {
            return Ok(());
        }
        let failed = |e: rustls::Error| KeyError::Tls(e.to_string());
        let mut names = vec!["localhost".to_string(), "127.0.0.1".into(), "::1".into()];
        let host = url::Url::parse(&self.address()).ok().and_then(|u| u.host_str().map(|h| h.trim_matches(['[', ']']).to_string()));
        // By the address too at which it listens: agents and clients of the first hour know no other.
        let bound = self.listening_tls.get().map(|a| a.ip()).filter(|ip| !ip.is_unspecified()).map(|ip| ip.to_string());
        for name in [host, bound].into_iter().flatten() {
            if !names.contains(&name) {
                names.push(name);
            }
        }
        let identity = self.keys.tls(&names, now)?;
        let chain = identity.chain.into_iter().map(Into::into).collect();
        let key = rustls::pki_types::PrivateKeyDer::try_from(identity.key.to_vec()).map_err(|e| KeyError::Tls(e.into()))?;
        let provider = Arc::new(rustls::crypto::ring::default_provider());
        let builder = rustls::ServerConfig::builder_with_provider(provider).with_safe_default_protocol_versions().map_err(failed)?;
        let mut config = builder.with_no_client_auth().with_single_cert(chain, key).map_err(failed)?;
        config.alpn_protocols = vec![b"h2".to_vec(), b"http/1.1".to_vec()];
        *self.tls.write().unwrap_or_else(PoisonError::into_inner) = Some((Arc::new(config), identity.pin));
        Ok(())
    }
}

/// What this machine calls itself, where that is a name that others could know.
fn host_name() -> Option<String> {
    let name = nix::unistd::gethostname().ok()?.into_string().ok()?;
    let plain = |c: char| c.is_ascii_alphanumeric() || "-.".contains(c);
    (!name.is_empty() && name != "localhost" && name.chars().all(plain)).then_some(name)
}

/// Takes the address that was given at the start into the settings, where none stands there.
async fn set_address(app: &App) -> Result<(), ServiceError> {
    let Some(given) = &app.config.address else { return Ok(()) };
    let value = Setting::Address.read(given).map_err(|e| ServiceError::Address(e.to_string()))?;
    let settings = app.settings();
    match settings.text(Setting::Address) {
        "" => {
            app.store.set_setting(Setting::Address, &value, "service", "given at the start", Timestamp::now()).await?;
            app.load_settings().await?;
        }
        set if set == value => {}
        set => {
            tracing::warn!(setting = set, given = value, "the setting `address` counts, and not the address that was given at the start")
        }
    }
    Ok(())
}

/// A running service.
pub struct Service {
    app: Arc<App>,
    http: SocketAddr,
    ssh: SocketAddr,
    writer: JoinHandle<()>,
    first_link: Option<String>,
    syslog: Vec<SocketAddr>,
}

impl Service {
    /// Starts the service: when this returns, gateway and console accept connections.
    ///
    /// # Errors
    /// When keys, store or sockets refuse.
    pub async fn start(config: Config) -> Result<Self, ServiceError> {
        if config.http.is_some_and(|a| !a.ip().is_loopback()) {
            return Err(ServiceError::NotLoopback);
        }
        let io = |what: &str| {
            let what = what.to_string();
            move |source| ServiceError::Io { what, source }
        };
        let data = DataDirectory::take(&config.data)?;
        let keys = Arc::new(Keys::load(&config.data)?);
        let store = Store::open(&config.data.join("aerie.db")).await?;
        let (log, writer) = EventLog::open(store.clone(), keys.checkpoint_key()?, keys.checkpoint_keys(), keys.log_key()).await?;
        let app = Arc::new(App {
            _data: data,
            rules: Rulebook::load(store.clone()).await?,
            identity: Identity::open(store.clone(), keys.clone(), Timestamp::now()).await?,
            settings: RwLock::new(Arc::new(store.settings().await?)),
            directory_turn: tokio::sync::Mutex::default(),
            looking: tokio::sync::Mutex::default(),
            arriving: tokio::sync::OnceCell::new(),
            listening: OnceLock::new(),
            listening_tls: OnceLock::new(),
            tls: RwLock::default(),
            recorder: Recorder::start(config.recordings(), keys.clone()).map_err(io("the recordings"))?,
            health: api::Health::default(),
            live: Arc::default(),
            sign_ins: crate::machines::SignIns::default(),
            connections: Arc::default(),
            desktops: Desktops::default(),
            visits: Visits::default(),
            reads: RecentReads::default(),
            films: tokio::sync::Notify::new(),
            reach: ReachCache::default(),
            agents: Agents::load(&store).await?,
            inventory: Inventory::default(),
            vault: Vault::default(),
            asking: Asking::load(&store, Timestamp::now()).await?,
            neighbours: Neighbours::default(),
            mailing: Mailing::default(),
            forwarding: Forwarding::default(),
            greeting: Places::new(MOST_GREETING, MOST_GREETING_FROM_ONE),
            updates: broadcast::channel(64).0,
            stopping: CancellationToken::new(),
            tasks: TaskTracker::new(),
            config,
            store,
            log,
            keys,
        });
        set_address(&app).await?;
        crate::vault::bind_earlier(&app).await?;
        close_crashed(&app).await?;
        asking::close_crashed(&app).await?;
        let bind = async |at: SocketAddr, what: &str| TcpListener::bind(at).await.map_err(io(&format!("{what} cannot listen on {at}")));
        let ssh_listener = bind(app.config.ssh, "the SSH gateway").await?;
        let ssh = ssh_listener.local_addr().map_err(io("the SSH gateway"))?;
        let mut consoles = vec![];
        for (at, tls) in [(app.config.http, false), (app.config.https, true)] {
            let Some(at) = at else { continue };
            let listener = bind(at, "the console").await?;
            let http = listener.local_addr().map_err(io("the console"))?;
            if tls {
                let _ = app.listening_tls.set(http);
            }
            let scheme = if tls { "https" } else { "http" };
            // By name where it is this machine: passkeys need one.
            let host = match http.ip() {
                ip if ip.is_loopback() => "localhost".into(),
                ip if ip.is_unspecified() => host_name().unwrap_or_else(|| ip.to_string()),
                ip => SocketAddr::new(ip, 0).to_string().trim_end_matches(":0").into(),
            };
            let _ = app.listening.set(format!("{scheme}://{host}:{}", http.port()));
            consoles.push((listener, tls, http));
        }
        let http = consoles.first().map(|c| c.2).ok_or(ServiceError::NoConsole)?;
        app.renew_tls(Timestamp::now())?;
        let first_link = first_link(&app).await?;
        let syslog = take_logs(&app).await?;
        app.log.append(NewEvent::new(Timestamp::now(), EventKind::ServiceStarted, "service").says("The service started.")).await?;
        tokio::spawn(gateway::listen(app.clone(), ssh_listener));
        for (listener, tls, _) in consoles {
            tokio::spawn(api::listen(app.clone(), listener, tls));
        }
        tokio::spawn(crate::agents::follow(app.clone()));
        tokio::spawn(crate::machines::tend(app.clone()));
        tokio::spawn(crate::vault::tend(app.clone()));
        tokio::spawn(asking::tend(app.clone()));
        tokio::spawn(asking::deliver(app.clone()));
        tokio::spawn(visits::tend(app.clone()));
        tokio::spawn(crate::films::make(app.clone()));
        tokio::spawn(forwarding::run(app.clone()));
        tokio::spawn(rounds::sweep(app.clone()));
        tokio::spawn(rounds::look(app.clone()));
        tokio::spawn(rounds::sign(app.clone()));
        Ok(Self { app, http, ssh, writer, first_link, syslog })
    }

    /// The link with which the first administrator is made; none once somebody is there. It is made anew at each start, and
    /// kept only as a keyed hash.
    pub fn first_link(&self) -> Option<&str> {
        self.first_link.as_deref()
    }

    /// Address of the console, for browsers.
    pub fn address(&self) -> String {
        self.app.address()
    }

    /// Fingerprint of the authority that signs the console's certificate; none where it speaks without TLS alone.
    pub fn tls_authority(&self) -> Option<String> {
        self.app.tls()?;
        self.app.keys.list().into_iter().find(|k| k.purpose == Some(crate::Purpose::TlsAuthority) && k.in_use).map(|k| k.public)
    }

    /// Where the console listens.
    pub fn http(&self) -> SocketAddr {
        self.http
    }

    /// Where the console listens with TLS, if it does.
    pub fn https(&self) -> Option<SocketAddr> {
        self.app.listening_tls.get().copied()
    }

    /// Where logs are taken: first without TLS, then with it.
    pub fn syslog(&self) -> &[SocketAddr] {
        &self.syslog
    }

    /// Where the gateway listens.
    pub fn ssh(&self) -> SocketAddr {
        self.ssh
    }

    /// The gateway's host key and the host authority, each as a line of OpenSSH's public key format.
    pub fn host_keys(&self) -> (String, String) {
        let line = |k: Result<russh::keys::PrivateKey, KeyError>| k.ok().and_then(|k| k.public_key().to_openssh().ok()).unwrap_or_default();
        (line(self.app.keys.host()), line(self.app.keys.host_authority()))
    }

    /// Looks at what was typed in sessions that ended elsewhere, as is done at the end of each session here.
    pub async fn look_at_recordings(&self, sessions: &[String]) {
        for id in sessions {
            crate::audit::look_at_recording(&self.app, id).await;
        }
    }

    /// Holds all that is known of accesses against the detections, as is done when a log was read and once an hour.
    ///
    /// # Errors
    /// When the store refuses.
    pub async fn look_at_behaviour(&self) -> Result<u64, ServiceError> {
        Ok(crate::audit::look_again(&self.app).await?)
    }

    /// Holds log and recordings against what was signed, and looks for logs that no longer come in, as is done once an hour.
    ///
    /// # Errors
    /// When the store refuses.
    pub async fn look_at_integrity(&self, now: Timestamp) -> Result<u64, ServiceError> {
        Ok(crate::audit::integrity::look_at_integrity(&self.app, now).await?)
    }

    /// Mails the reports that are due, as is done each minute.
    ///
    /// # Errors
    /// When the store refuses.
    pub async fn mail_reports(&self, now: Timestamp) -> Result<(), ServiceError> {
        Ok(crate::audit::report::mail_due(&self.app, now).await?)
    }

    /// The authorities whose certificates machines must trust (`TrustedUserCAKeys`), a line each in OpenSSH's public key format.
    pub fn user_authority(&self) -> String {
        self.app.keys.user_authority_lines().join("\n")
    }

    /// Ends every session, signs the log and closes the store.
    ///
    /// # Errors
    /// When the store refuses.
    pub async fn stop(self) -> Result<(), ServiceError> {
        let app = self.app;
        app.live.all().iter().for_each(|s| s.end(EndReason::ServiceStopping));
        app.stopping.cancel();
        app.sweep(Timestamp::now()).await?;
        app.tasks.close();
        if tokio::time::timeout(FAREWELL, app.tasks.wait()).await.is_err() {
            tracing::warn!("some sessions did not end in time");
        }
        let now = Timestamp::now();
        app.log.append(NewEvent::new(now, EventKind::ServiceStopped, "service").says("The service stopped.")).await?;
        app.log.stop(now).await?;
        let _ = self.writer.await;
        app.store.close().await;
        Ok(())
    }
}

/// Begins to take logs where the configuration says so; gives the addresses, first without TLS, then with it.
async fn take_logs(app: &Arc<App>) -> Result<Vec<SocketAddr>, ServiceError> {
    let (mut listeners, mut addresses) = (vec![], vec![]);
    for (at, tls) in [(app.config.syslog.plain, false), (app.config.syslog.tls, true)] {
        let Some(at) = at else { continue };
        let failed = |source| ServiceError::Io { what: format!("the listener of logs cannot listen on {at}"), source };
        let listener = TcpListener::bind(at).await.map_err(failed)?;
        addresses.push(listener.local_addr().map_err(failed)?);
        listeners.push((listener, tls));
    }
    if !listeners.is_empty() {
        crate::audit::live::start(app, listeners).await?;
    }
    Ok(addresses)
}

/// Makes the link with which the first administrator comes, while nobody is there.
async fn first_link(app: &App) -> Result<Option<String>, ServiceError> {
    if !app.rules.now().policy.directory().people().is_empty() {
        return Ok(None);
    }
    let (secret, now) = (crate::identity::new_secret()?, Timestamp::now());
    let invitation = Invitation { person: String::new(), created_by: String::new(), expires: now + FIRST_LINK };
    app.store.invite(&app.keys.token_hash(&secret), &invitation, now).await?;
    Ok(Some(format!("{}/welcome#{}", app.address(), &*secret)))
}

/// Sessions that a crash left open are closed with what is known.
async fn close_crashed(app: &App) -> Result<(), ServiceError> {
    let filter = SessionFilter { live: Some(true), limit: 100_000, ..SessionFilter::default() };
    for session in app.store.sessions(&filter).await? {
        let path = session.recording.as_ref().map(|file| app.config.recordings().join(file));
        let read = path.map(|path| crate::read_recording(&path, &app.keys, |_| true).ok());
        let length_ms = read.as_ref().and_then(|r| r.as_ref()).map_or(0, |s| s.length_ms);
        let ended = session.began + jiff::SignedDuration::from_millis(i64::try_from(length_ms).unwrap_or(0));
        let reason = EndReason::ServiceCrashed;
        app.store.end_session(&session.id, ended, reason.word(), (0, 0)).await?;
        let event = NewEvent::new(Timestamp::now(), EventKind::SessionEnded, &session.person)
            .machine(&session.machine)
            .session(&session.id)
            .says(format!("The session ended {}; its recording reads up to {ended}.", reason.phrase()))
            .with("reason", reason.word());
        app.log.append(event).await?;
        let event = |kind| NewEvent::new(Timestamp::now(), kind, &session.person).machine(&session.machine).session(&session.id);
        match read {
            None => {}
            // What was written is bound to the log as it is found, and looked at like any other.
            Some(Some(s)) => {
                let said = format!("The recording of the session on {} was closed as the service left it.", session.machine);
                let closed = event(EventKind::RecordingClosed).says(said).with("complete", s.complete).with("length_ms", s.length_ms);
                app.log.append(closed.with("digest", s.digest.clone())).await?;
                app.store.set_session_recording(&session.id, &s.digest, s.length_ms).await?;
                crate::audit::look_at_recording(app, &session.id).await;
            }
            Some(None) => {
                let said = format!("The recording of the session on {} cannot be read.", session.machine);
                app.log.append(event(EventKind::RecordingFailed).says(said)).await?;
            }
        }
    }
    Ok(())
}
