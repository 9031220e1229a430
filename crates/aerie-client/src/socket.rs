//! Calls that become a WebSocket.

use crate::{Client, ClientError, Result, trust};
use aerie_api::ProblemView;
use aerie_tunnel::websocket::tungstenite::Error;
use aerie_tunnel::websocket::tungstenite::handshake::client::{Request, generate_key};
use aerie_tunnel::websocket::tungstenite::protocol::WebSocketConfig;
use aerie_tunnel::websocket::{WebSocketStream, client_async_with_config};
use rustls::pki_types::ServerName;
use std::sync::Arc;
use tokio::io::{AsyncRead, AsyncWrite};
use tokio::net::TcpStream;
use tokio_rustls::TlsConnector;

/// A connection to the service, encrypted or on this computer.
pub(crate) trait Stream: AsyncRead + AsyncWrite + Unpin + Send {}
impl<T: AsyncRead + AsyncWrite + Unpin + Send> Stream for T {}

pub(crate) type Socket = WebSocketStream<Box<dyn Stream>>;

impl Client {
    /// Makes a call that becomes a WebSocket.
    pub(crate) async fn socket(&self, path: &str, query: &[(&str, &str)], config: WebSocketConfig) -> Result<Socket> {
        let unreachable = |e: &dyn std::fmt::Display| ClientError::Unreachable(self.base.clone(), e.to_string());
        let mut url = url::Url::parse(&self.base).map_err(|e| unreachable(&e))?;
        let (host, port) = (url.host_str().unwrap_or_default().to_string(), url.port_or_known_default().unwrap_or(443));
        url.set_path(path);
        if !query.is_empty() {
            url.query_pairs_mut().extend_pairs(query);
        }
        let tcp = TcpStream::connect((host.trim_matches(['[', ']']), port)).await.map_err(|e| unreachable(&e))?;
        aerie_tunnel::prepare(&tcp).map_err(|e| unreachable(&e))?;
        let stream: Box<dyn Stream> = if url.scheme() == "https" {
            let mut tls = trust::config(self.authority.as_deref());
            tls.alpn_protocols = vec![b"http/1.1".to_vec()];
            let name = ServerName::try_from(host.trim_matches(['[', ']']).to_string()).map_err(|e| unreachable(&e))?;
            Box::new(TlsConnector::from(Arc::new(tls)).connect(name, tcp).await.map_err(|e| unreachable(&e))?)
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
        match client_async_with_config(request, stream, Some(config)).await {
            Ok((socket, _)) => Ok(socket),
            Err(Error::Http(answer)) => {
                let problem: Option<ProblemView> = answer.body().as_deref().and_then(|b| serde_json::from_slice(b).ok());
                Err(problem.map_or_else(|| ClientError::Foreign(self.base.clone()), |p| ClientError::Problem(Box::new(p))))
            }
            Err(e) => Err(unreachable(&e)),
        }
    }
}
