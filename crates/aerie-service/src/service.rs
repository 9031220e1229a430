//! Brings everything up and down.

use crate::api;
use crate::config::Config;
use crate::gateway;
use crate::identity::Identity;
use crate::keys::{KeyError, Keys};
use crate::reach::ReachCache;
use crate::recorder::Recorder;
use crate::rulebook::Rulebook;
use crate::sessions::LiveSessions;
use aerie_core::evidence::{EventKind, NewEvent};
use aerie_core::session::EndReason;
use aerie_store::{EventLog, SessionFilter, Store, StoreError};
use jiff::Timestamp;
use std::net::SocketAddr;
use std::sync::Arc;
use std::time::Duration;
use tokio::net::TcpListener;
use tokio::sync::broadcast;
use tokio::task::JoinHandle;
use tokio_util::sync::CancellationToken;
use tokio_util::task::TaskTracker;

/// How often the log is signed.
const CHECKPOINT_INTERVAL: Duration = Duration::from_secs(300);
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
    /// The console would be open to the network without encryption.
    #[error("the console speaks plain HTTP and listens on loopback only: put a TLS proxy in front, and keep --http on 127.0.0.1 or [::1]")]
    NotLoopback,
}

/// Everything that the parts of the service share.
pub(crate) struct App {
    pub(crate) config: Config,
    pub(crate) store: Store,
    pub(crate) log: EventLog,
    pub(crate) keys: Arc<Keys>,
    pub(crate) rules: Rulebook,
    pub(crate) identity: Identity,
    pub(crate) recorder: Recorder,
    pub(crate) live: LiveSessions,
    pub(crate) reach: ReachCache,
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
}

/// A running service.
pub struct Service {
    app: Arc<App>,
    http: SocketAddr,
    ssh: SocketAddr,
    writer: JoinHandle<()>,
}

impl Service {
    /// Starts the service: when this returns, gateway and console accept connections.
    ///
    /// # Errors
    /// When keys, store or sockets refuse.
    pub async fn start(config: Config) -> Result<Self, ServiceError> {
        if !config.http.ip().is_loopback() {
            return Err(ServiceError::NotLoopback);
        }
        let io = |what: &str| {
            let what = what.to_string();
            move |source| ServiceError::Io { what, source }
        };
        std::fs::create_dir_all(&config.data).map_err(io("the data directory"))?;
        let keys = Arc::new(Keys::load(&config.data)?);
        let store = Store::open(&config.data.join("aerie.db")).await?;
        let (log, writer) = EventLog::open(store.clone(), keys.checkpoint_key(), keys.log_key()).await?;
        let app = Arc::new(App {
            rules: Rulebook::load(store.clone()).await?,
            identity: Identity::new(store.clone(), keys.clone()),
            recorder: Recorder::start(config.recordings(), keys.clone()).map_err(io("the recordings"))?,
            live: LiveSessions::default(),
            reach: ReachCache::default(),
            updates: broadcast::channel(64).0,
            stopping: CancellationToken::new(),
            tasks: TaskTracker::new(),
            config,
            store,
            log,
            keys,
        });
        close_crashed(&app).await?;
        let bind = async |at: SocketAddr, what: &str| TcpListener::bind(at).await.map_err(io(&format!("{what} cannot listen on {at}")));
        let (ssh_listener, http_listener) = (bind(app.config.ssh, "the SSH gateway").await?, bind(app.config.http, "the console").await?);
        let ssh = ssh_listener.local_addr().map_err(io("the SSH gateway"))?;
        let http = http_listener.local_addr().map_err(io("the console"))?;
        app.log.append(NewEvent::new(Timestamp::now(), EventKind::ServiceStarted, "service").says("The service started.")).await?;
        tokio::spawn(gateway::listen(app.clone(), ssh_listener));
        tokio::spawn(api::listen(app.clone(), http_listener));
        tokio::spawn(sign_now_and_then(app.clone()));
        Ok(Self { app, http, ssh, writer })
    }

    /// Where the console listens.
    pub fn http(&self) -> SocketAddr {
        self.http
    }

    /// Where the gateway listens.
    pub fn ssh(&self) -> SocketAddr {
        self.ssh
    }

    /// The gateway's host key and the host authority, each as a line of OpenSSH's public key format.
    pub fn host_keys(&self) -> (String, String) {
        let line = |k: &russh::keys::PrivateKey| k.public_key().to_openssh().unwrap_or_default();
        (line(&self.app.keys.host), line(&self.app.keys.host_authority))
    }

    /// Looks at what was typed in sessions that ended elsewhere, as is done at the end of each session here.
    pub async fn look_at_recordings(&self, sessions: &[String]) {
        for id in sessions {
            crate::audit::look_at_recording(&self.app, id).await;
        }
    }

    /// The authority whose certificates machines must trust (`TrustedUserCAKeys`), in OpenSSH's public key format.
    pub fn user_authority(&self) -> String {
        self.app.keys.user_authority.public_key().to_openssh().unwrap_or_default()
    }

    /// Ends every session, signs the log and closes the store.
    ///
    /// # Errors
    /// When the store refuses.
    pub async fn stop(self) -> Result<(), ServiceError> {
        let app = self.app;
        app.live.all().iter().for_each(|s| s.end(EndReason::ServiceStopping));
        app.stopping.cancel();
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

/// Sessions that a crash left open are closed with what is known.
async fn close_crashed(app: &App) -> Result<(), ServiceError> {
    let filter = SessionFilter { live: Some(true), limit: 100_000, ..SessionFilter::default() };
    for session in app.store.sessions(&filter).await? {
        let mut length_ms = 0;
        if let Some(file) = &session.recording
            && let Ok(summary) = crate::read_recording(&app.config.recordings().join(file), &app.keys, |_| true)
        {
            length_ms = summary.length_ms;
        }
        let ended = session.began + jiff::SignedDuration::from_millis(i64::try_from(length_ms).unwrap_or(0));
        let reason = EndReason::ServiceCrashed;
        app.store.end_session(&session.id, ended, reason.word(), (0, 0)).await?;
        let event = NewEvent::new(Timestamp::now(), EventKind::SessionEnded, &session.person)
            .machine(&session.machine)
            .session(&session.id)
            .says(format!("The session ended {}; its recording reads up to {ended}.", reason.phrase()))
            .with("reason", reason.word());
        app.log.append(event).await?;
    }
    Ok(())
}

async fn sign_now_and_then(app: Arc<App>) {
    let mut tick = tokio::time::interval(CHECKPOINT_INTERVAL);
    tick.tick().await;
    loop {
        tokio::select! {
            _ = tick.tick() => {}
            () = app.stopping.cancelled() => return,
        }
        if let Err(e) = app.log.checkpoint(Timestamp::now()).await {
            tracing::error!(error = %e, "the log could not be signed");
        }
        if let Err(e) = api::remind(&app, Timestamp::now()).await {
            tracing::error!(error = %e, "a review could not be reminded of");
        }
    }
}
