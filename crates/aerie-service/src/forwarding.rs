//! Forwards every event to the organisation's collector (RFC 5424 over TLS, RFC 5425), in their order. The log itself is the queue: what
//! could not be forwarded yet is on the disk, however long the collector is away and whatever becomes of the service in between.
//!
//! Syslog acknowledges nothing. What was written to a connection shortly before it broke may be lost, so that some of it is sent again; a
//! collector knows an event by its `seq`.

use crate::service::App;
use aerie_core::evidence::{EventKind, NewEvent, syslog_frame};
use aerie_core::settings::{Setting, collector};
use jiff::Timestamp;
use rustls::pki_types::pem::PemObject as _;
use rustls::pki_types::{CertificateDer, ServerName};
use std::io;
use std::sync::atomic::{AtomicU64, Ordering};
use std::sync::{Arc, Mutex, PoisonError};
use std::time::Duration;
use tokio::io::{AsyncRead, AsyncReadExt as _, AsyncWrite, AsyncWriteExt as _};
use tokio::net::TcpStream;

/// Under this name it is kept with which event the forwarding began, and which is next.
const POSITION: &str = "forwarded";
/// Events that are read at a time.
const AT_A_TIME: u32 = 500;
/// Events that are sent again after a break.
const AGAIN: u64 = 200;
/// How long the collector has to answer, and to take what is sent.
const PATIENCE: Duration = Duration::from_secs(20);
/// First and longest wait between tries.
const FIRST_WAIT: Duration = Duration::from_secs(1);
const LONGEST_WAIT: Duration = Duration::from_secs(60);

/// How the forwarding stands.
#[derive(Debug, Default)]
pub(crate) struct Forwarding {
    /// The place of the next event to be forwarded.
    next: AtomicU64,
    /// Why it does not go on; empty where it does.
    failure: Mutex<String>,
}

impl Forwarding {
    /// Events that wait, and why they do; none where nothing is forwarded.
    pub(crate) fn waiting(&self, app: &App) -> Option<(u64, String)> {
        let on = !app.settings().text(Setting::ForwardTo).is_empty();
        let failure = self.failure.lock().unwrap_or_else(PoisonError::into_inner).clone();
        on.then(|| (app.log.size().borrow().saturating_sub(self.next.load(Ordering::Relaxed)), failure))
    }

    /// Notes why it does not go on, or that it does; true where that is new.
    fn failed(&self, why: &str) -> bool {
        let mut failure = self.failure.lock().unwrap_or_else(PoisonError::into_inner);
        let new = failure.is_empty() != why.is_empty();
        *failure = why.into();
        new
    }
}

/// Reads authorities' certificates.
///
/// # Errors
/// Says what is wrong.
pub(crate) fn authorities(pem: &str) -> Result<rustls::RootCertStore, String> {
    let mut roots = rustls::RootCertStore::empty();
    if pem.trim().is_empty() {
        let found = rustls_native_certs::load_native_certs();
        roots.add_parsable_certificates(found.certs);
        return Ok(roots);
    }
    for certificate in CertificateDer::pem_slice_iter(pem.as_bytes()) {
        let certificate = certificate.map_err(|e| format!("the certificates of the authority cannot be read: {e}"))?;
        roots.add(certificate).map_err(|e| format!("a certificate of the authority cannot be used: {e}"))?;
    }
    if roots.is_empty() { Err("there is no certificate in what should be the authority's".into()) } else { Ok(roots) }
}

/// Forwards as long as the service runs.
pub(crate) async fn run(app: Arc<App>) {
    let mut wait = FIRST_WAIT;
    let mut updates = app.updates.subscribe();
    loop {
        let to = app.settings().text(Setting::ForwardTo).to_string();
        if to.is_empty() {
            // Whoever turns it off wants nothing of this time forwarded later.
            app.forwarding.failed("");
            if let Err(e) = app.store.remove_meta(POSITION).await {
                tracing::error!(error = %e, "it could not be kept that nothing is forwarded");
            }
            tokio::select! {
                () = changed(&mut updates) => continue,
                () = app.stopping.cancelled() => return,
            }
        }
        let result = tokio::select! {
            result = forward(&app, &to) => result,
            () = changed(&mut updates) => Ok(()),
            () = app.stopping.cancelled() => return,
        };
        let Err(e) = result else {
            wait = FIRST_WAIT;
            continue;
        };
        let why = aerie_core::diagnostic::printable(&e.to_string());
        tracing::warn!(to, why, "events cannot be forwarded; they wait");
        if app.forwarding.failed(&why) {
            wait = FIRST_WAIT;
            tell(&app, format!("Events cannot be forwarded to {to}: {why}. They wait.")).await;
        }
        tokio::select! {
            () = tokio::time::sleep(wait) => {}
            () = changed(&mut updates) => {}
            () = app.stopping.cancelled() => return,
        }
        wait = (wait * 2).min(LONGEST_WAIT);
    }
}

/// Waits until a setting was changed.
async fn changed(updates: &mut tokio::sync::broadcast::Receiver<&'static str>) {
    use tokio::sync::broadcast::error::RecvError;
    loop {
        match updates.recv().await {
            Ok("settings") | Err(RecvError::Lagged(_)) => return,
            Ok(_) => {}
            Err(RecvError::Closed) => std::future::pending().await,
        }
    }
}

async fn tell(app: &App, says: String) {
    app.note(NewEvent::new(Timestamp::now(), EventKind::ForwardingChanged, "service").says(says)).await;
    app.tell("outbox");
}

/// Connects, and forwards until the connection breaks.
async fn forward(app: &App, to: &str) -> io::Result<()> {
    let (host, port, tls) = collector(to).ok_or_else(|| io::Error::other("the setting `forward-to` cannot be read"))?;
    let late = |_| io::Error::from(io::ErrorKind::TimedOut);
    let stream = tokio::time::timeout(PATIENCE, TcpStream::connect((host, port))).await.map_err(late)??;
    if !tls {
        return send(app, to, stream).await;
    }
    let roots = authorities(app.settings().text(Setting::ForwardAuthority)).map_err(io::Error::other)?;
    let provider = Arc::new(rustls::crypto::ring::default_provider());
    let builder = rustls::ClientConfig::builder_with_provider(provider).with_safe_default_protocol_versions().map_err(io::Error::other)?;
    let config = Arc::new(builder.with_root_certificates(roots).with_no_client_auth());
    let name = ServerName::try_from(host.to_string()).map_err(io::Error::other)?;
    let connecting = tokio_rustls::TlsConnector::from(config).connect(name, stream);
    send(app, to, tokio::time::timeout(PATIENCE, connecting).await.map_err(late)??).await
}

async fn send(app: &App, to: &str, stream: impl AsyncRead + AsyncWrite) -> io::Result<()> {
    let store = |e: aerie_store::StoreError| io::Error::other(e);
    let mut size = app.log.size();
    let kept: Option<(u64, u64)> = app.store.meta(POSITION).await.map_err(store)?.and_then(|k| serde_json::from_slice(&k).ok());
    let (first, mut next) = match kept {
        Some((first, kept)) => (first, kept.saturating_sub(AGAIN).max(first)),
        // From now on; what was before is in the log.
        None => (*size.borrow(), *size.borrow()),
    };
    app.forwarding.next.store(next, Ordering::Relaxed);
    let host = gethost();
    let (mut read, mut write) = tokio::io::split(stream);
    let mut said = [0; 256];
    loop {
        size.borrow_and_update();
        let events = app.store.events_from(next, AT_A_TIME).await.map_err(store)?;
        let Some(last) = events.last().map(|e| e.seq) else {
            if app.forwarding.failed("") {
                tell(app, format!("Events are forwarded to {to} again.")).await;
                continue;
            }
            tokio::select! {
                more = size.changed() => more.map_err(io::Error::other)?,
                // A collector says nothing; it may close.
                n = read.read(&mut said) => if n? == 0 { return Err(io::ErrorKind::ConnectionReset.into()) },
            }
            continue;
        };
        let frames: Vec<u8> = events.iter().filter_map(|e| syslog_frame(e.seq, &e.body, &host, std::process::id())).flatten().collect();
        let writing = async {
            write.write_all(&frames).await?;
            write.flush().await
        };
        tokio::time::timeout(PATIENCE, writing).await.map_err(|_| io::Error::from(io::ErrorKind::TimedOut))??;
        next = last + 1;
        app.store.set_meta(POSITION, &serde_json::to_vec(&(first, next))?).await.map_err(store)?;
        app.forwarding.next.store(next, Ordering::Relaxed);
    }
}

/// What this machine calls itself.
fn gethost() -> String {
    let name = std::fs::read_to_string("/proc/sys/kernel/hostname").unwrap_or_default();
    name.trim().to_string()
}
