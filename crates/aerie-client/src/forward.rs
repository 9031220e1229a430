//! Ports of machines, over the same HTTPS as everything else.

use crate::{Client, ClientError, Result, trust};
use aerie_api::{ForwardQuery, ProblemView};
use aerie_core::tunnel::Side;
use aerie_tunnel::websocket::tungstenite::http::Request;
use aerie_tunnel::websocket::tungstenite::{Error, handshake::client::generate_key};
use aerie_tunnel::websocket::{WebSocketStream, client_async_with_config};
use aerie_tunnel::{Broken, Tunnel};
use rustls::pki_types::ServerName;
use std::io;
use std::sync::Arc;
use std::time::Duration;
use tokio::io::{AsyncRead, AsyncWrite, copy_bidirectional};
use tokio::net::{TcpListener, TcpStream};
use tokio_rustls::TlsConnector;

/// How long the service may say nothing.
const QUIET: Duration = Duration::from_secs(75);

trait Stream: AsyncRead + AsyncWrite + Unpin + Send {}
impl<T: AsyncRead + AsyncWrite + Unpin + Send> Stream for T {}

/// A port that is being forwarded.
pub struct Forwarding {
    tunnel: Tunnel,
    socket: WebSocketStream<Box<dyn Stream>>,
}

impl Client {
    /// Begins to forward a way of a machine.
    ///
    /// # Errors
    /// See [`Client::sign_in`].
    pub async fn forward(&self, machine: &str, query: &ForwardQuery) -> Result<Forwarding> {
        let unreachable = |e: &dyn std::fmt::Display| ClientError::Unreachable(self.base.clone(), e.to_string());
        let mut url = url::Url::parse(&self.base).map_err(|e| unreachable(&e))?;
        let (host, port) = (url.host_str().unwrap_or_default().to_string(), url.port_or_known_default().unwrap_or(443));
        url.set_path(&format!("/api/v1/machines/{}/forward", crate::people::name(machine)));
        url.query_pairs_mut().append_pair("way", &query.way);
        for (key, value) in [("reason", &query.reason), ("ticket", &query.ticket)] {
            if let Some(value) = value {
                url.query_pairs_mut().append_pair(key, value);
            }
        }
        let tcp = TcpStream::connect((host.trim_matches(['[', ']']), port)).await.map_err(|e| unreachable(&e))?;
        aerie_tunnel::prepare(&tcp).map_err(|e| unreachable(&e))?;
        let stream: Box<dyn Stream> = if url.scheme() == "https" {
            let mut config = trust::config(self.authority.as_deref());
            config.alpn_protocols = vec![b"http/1.1".to_vec()];
            let name = ServerName::try_from(host.trim_matches(['[', ']']).to_string()).map_err(|e| unreachable(&e))?;
            Box::new(TlsConnector::from(Arc::new(config)).connect(name, tcp).await.map_err(|e| unreachable(&e))?)
        } else {
            Box::new(tcp)
        };
        let address = url.as_str().replacen("http", "ws", 1);
        let request = Request::builder()
            .uri(&address)
            .header("host", format!("{host}:{port}"))
            .header("authorization", format!("Bearer {}", self.token.as_deref().unwrap_or_default()))
            .header("connection", "Upgrade")
            .header("upgrade", "websocket")
            .header("sec-websocket-version", "13")
            .header("sec-websocket-key", generate_key())
            .body(())
            .map_err(|e| unreachable(&e))?;
        match client_async_with_config(request, stream, Some(aerie_tunnel::socket_config())).await {
            Ok((socket, _)) => Ok(Forwarding { tunnel: Tunnel::new(Side::Opener).0, socket }),
            Err(Error::Http(answer)) => {
                let problem: Option<ProblemView> = answer.body().as_deref().and_then(|b| serde_json::from_slice(b).ok());
                Err(problem.map_or_else(|| ClientError::Foreign(self.base.clone()), |p| ClientError::Problem(Box::new(p))))
            }
            Err(e) => Err(unreachable(&e)),
        }
    }
}

impl Forwarding {
    /// Takes connections and carries each, until the service ends it; says why. `each` hears of every connection that could
    /// not be opened.
    pub async fn serve(self, listener: TcpListener, each: impl Fn(io::Error) + Send + Sync + 'static) -> Broken {
        let Self { tunnel, socket } = self;
        let (here, each) = (tunnel.clone(), Arc::new(each));
        let taking = async move {
            loop {
                let Ok((mut local, _)) = listener.accept().await else { continue };
                let (tunnel, each) = (here.clone(), each.clone());
                tokio::spawn(async move {
                    let _ = local.set_nodelay(true);
                    // The machine's own service is the one that the way names; what is asked for here is not looked at.
                    match tunnel.open("way:1").await {
                        Ok(mut stream) => drop(copy_bidirectional(&mut local, &mut stream).await),
                        Err(e) => each(e),
                    }
                });
            }
        };
        let broken = tokio::select! {
            broken = tunnel.run(socket, QUIET) => broken,
            () = taking => Broken::Closed,
        };
        // Nothing goes on: whoever is connected here must not wait for what never comes.
        tunnel.end();
        broken
    }
}
