//! The listener of console and API: with TLS or, on loopback, without; with limits on what a slow or silent peer can hold.

use super::router;
use crate::service::App;
use axum::Router;
use axum::extract::ConnectInfo;
use hyper_util::rt::{TokioExecutor, TokioIo, TokioTimer};
use hyper_util::server::conn::auto::Builder;
use hyper_util::service::TowerToHyperService;
use std::net::{IpAddr, SocketAddr};
use std::sync::Arc;
use std::time::Duration;
use tokio::io::{AsyncRead, AsyncWrite};
use tokio::net::{TcpListener, TcpStream};
use tokio::sync::Semaphore;
use tokio_rustls::TlsAcceptor;
use tower::ServiceExt as _;

/// Connections at a time. Each costs some tens of kilobytes; a proxy or a load test has a thousand.
const MOST_CONNECTIONS: usize = 4096;
/// Connections from one address that is not this machine: a browser opens six for each of its windows.
const MOST_FROM_ONE: u32 = 256;
/// How long the greeting of TLS may take, and the head of a request: who sends a byte a second is cut off.
const PATIENCE: Duration = Duration::from_secs(10);
/// How long requests under way get when the service stops; live views never end by themselves.
const FAREWELL: Duration = Duration::from_secs(2);

/// Connections from each address.
type Counts = Arc<std::sync::Mutex<std::collections::HashMap<IpAddr, u32>>>;

/// A place among the connections of an address; given back when dropped.
struct Place(Counts, IpAddr);

fn enter(counts: &Counts, from: IpAddr) -> Option<Place> {
    let mut all = counts.lock().unwrap_or_else(std::sync::PoisonError::into_inner);
    let here = all.entry(from).or_default();
    if *here >= MOST_FROM_ONE && !from.is_loopback() {
        return None;
    }
    *here += 1;
    Some(Place(counts.clone(), from))
}

impl Drop for Place {
    fn drop(&mut self) {
        let mut all = self.0.lock().unwrap_or_else(std::sync::PoisonError::into_inner);
        if let Some(n) = all.get_mut(&self.1) {
            *n -= 1;
            if *n == 0 {
                all.remove(&self.1);
            }
        }
    }
}

/// Serves until the service stops. `tls` speaks for the certificate that is in use when a connection begins.
pub(crate) async fn listen(app: Arc<App>, listener: TcpListener, tls: bool) {
    let router = router(app.clone());
    let (places, counts) = (Arc::new(Semaphore::new(MOST_CONNECTIONS)), Counts::default());
    loop {
        let accepted = tokio::select! {
            accepted = listener.accept() => accepted,
            () = app.stopping.cancelled() => return,
        };
        let (stream, peer) = match accepted {
            Ok(accepted) => accepted,
            Err(e) => {
                // No file descriptors, most likely: connections must end before another can begin.
                tracing::warn!(error = %e, "a connection could not be accepted");
                tokio::time::sleep(Duration::from_millis(100)).await;
                continue;
            }
        };
        let Some(place) = enter(&counts, peer.ip().to_canonical()) else { continue };
        let Ok(permit) = places.clone().try_acquire_owned() else { continue };
        let (app, router) = (app.clone(), router.clone());
        tokio::spawn(async move {
            let _ = stream.set_nodelay(true);
            greet(&app, router, stream, peer, tls).await;
            drop((permit, place));
        });
    }
}

async fn greet(app: &App, router: Router, stream: TcpStream, peer: SocketAddr, tls: bool) {
    if !tls {
        return serve(app, router, stream, peer).await;
    }
    let Some(config) = app.tls() else { return };
    if let Ok(Ok(stream)) = tokio::time::timeout(PATIENCE, TlsAcceptor::from(config).accept(stream)).await {
        serve(app, router, stream, peer).await;
    }
}

async fn serve(app: &App, router: Router, stream: impl AsyncRead + AsyncWrite + Unpin + Send + 'static, peer: SocketAddr) {
    let service = router.map_request(move |mut request: axum::http::Request<hyper::body::Incoming>| {
        request.extensions_mut().insert(ConnectInfo(peer));
        request.map(axum::body::Body::new)
    });
    let mut builder = Builder::new(TokioExecutor::new());
    builder.http1().timer(TokioTimer::new()).header_read_timeout(PATIENCE).max_buf_size(64 << 10).pipeline_flush(true);
    builder.http2().timer(TokioTimer::new()).max_concurrent_streams(64).keep_alive_interval(Some(Duration::from_secs(30)));
    let connection = builder.serve_connection(TokioIo::new(stream), TowerToHyperService::new(service));
    tokio::pin!(connection);
    tokio::select! {
        _ = &mut connection => return,
        () = app.stopping.cancelled() => connection.as_mut().graceful_shutdown(),
    }
    let _ = tokio::time::timeout(FAREWELL, connection).await;
}
