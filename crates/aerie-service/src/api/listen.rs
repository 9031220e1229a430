//! The listener of console and API: with TLS or, on loopback, without; with limits on what a slow or silent peer can hold.

use super::router;
use crate::agents::Exporter;
use crate::places::Places;
use crate::service::App;
use aerie_core::tunnel::greeting::{EXPORTER_LABEL, NONCE};
use axum::Router;
use axum::extract::ConnectInfo;
use hyper_util::rt::{TokioExecutor, TokioIo, TokioTimer};
use hyper_util::server::conn::auto::Builder;
use hyper_util::service::TowerToHyperService;
use std::net::SocketAddr;
use std::sync::Arc;
use std::time::Duration;
use tokio::io::{AsyncRead, AsyncWrite};
use tokio::net::{TcpListener, TcpStream};
use tokio_rustls::TlsAcceptor;
use tower::ServiceExt as _;

/// Connections at a time. Each costs some tens of kilobytes; a proxy or a load test has a thousand.
const MOST_CONNECTIONS: u32 = 4096;
/// Connections from one address that is not this machine: a browser opens six for each of its windows.
const MOST_FROM_ONE: u32 = 256;
/// How long the greeting of TLS may take, and the head of a request: who sends a byte a second is cut off.
const PATIENCE: Duration = Duration::from_secs(10);
/// Bytes of TLS that wait for the socket: what a keystroke in a tunnel finds ahead of it.
const TLS_BUFFER: usize = 32 << 10;
/// How long requests under way get when the service stops; live views never end by themselves.
const FAREWELL: Duration = Duration::from_secs(2);

/// Serves until the service stops. `tls` speaks for the certificate that is in use when a connection begins.
pub(crate) async fn listen(app: Arc<App>, listener: TcpListener, tls: bool) {
    let router = router(app.clone());
    let places = Places::new(MOST_CONNECTIONS, MOST_FROM_ONE);
    // This machine itself, and a proxy on it, speak for many.
    let own = Places::new(MOST_CONNECTIONS, MOST_CONNECTIONS);
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
        let from = peer.ip().to_canonical();
        let Some(place) = (if from.is_loopback() { &own } else { &places }).enter(from) else { continue };
        let (app, router) = (app.clone(), router.clone());
        tokio::spawn(async move {
            let _ = aerie_tunnel::prepare(&stream);
            greet(&app, router, stream, peer, tls).await;
            drop(place);
        });
    }
}

async fn greet(app: &App, router: Router, stream: TcpStream, peer: SocketAddr, tls: bool) {
    if !tls {
        return serve(app, router, stream, peer, None).await;
    }
    let Some(config) = app.tls() else { return };
    let accepting = TlsAcceptor::from(config).accept_with(stream, |c| c.set_buffer_limit(Some(TLS_BUFFER)));
    if let Ok(Ok(stream)) = tokio::time::timeout(PATIENCE, accepting).await {
        // TLS 1.3 alone has one that is unique (RFC 9266 section 4.2).
        let connection = stream.get_ref().1;
        let modern = connection.protocol_version() == Some(rustls::ProtocolVersion::TLSv1_3);
        let exporter = connection.export_keying_material([0; NONCE], EXPORTER_LABEL, None).ok().filter(|_| modern).map(Exporter);
        serve(app, router, stream, peer, exporter).await;
    }
}

async fn serve(
    app: &App,
    router: Router,
    stream: impl AsyncRead + AsyncWrite + Unpin + Send + 'static,
    peer: SocketAddr,
    exporter: Option<Exporter>,
) {
    let service = router.map_request(move |mut request: axum::http::Request<hyper::body::Incoming>| {
        request.extensions_mut().insert(ConnectInfo(peer));
        if let Some(exporter) = exporter {
            request.extensions_mut().insert(exporter);
        }
        request.map(axum::body::Body::new)
    });
    let mut builder = Builder::new(TokioExecutor::new());
    builder.http1().timer(TokioTimer::new()).header_read_timeout(PATIENCE).max_buf_size(64 << 10).pipeline_flush(true);
    builder.http2().timer(TokioTimer::new()).max_concurrent_streams(64).keep_alive_interval(Some(Duration::from_secs(30)));
    let connection = builder.serve_connection_with_upgrades(TokioIo::new(stream), TowerToHyperService::new(service));
    tokio::pin!(connection);
    tokio::select! {
        _ = &mut connection => return,
        () = app.stopping.cancelled() => connection.as_mut().graceful_shutdown(),
    }
    let _ = tokio::time::timeout(FAREWELL, connection).await;
}
