//! Dials the service: TCP, TLS, WebSocket, and the greeting in which both sides prove themselves.

use aerie_core::evidence::hex;
use aerie_core::tunnel::PROTOCOL;
use aerie_core::tunnel::greeting::{
    AgentHello, AgentProof, Answer, EXPORTER_LABEL, NONCE, Purpose, Role, ServiceHello, service_proved, sign, transcript,
};
use aerie_tunnel::Unvouched;
use aerie_tunnel::websocket::WebSocketStream;
use aerie_tunnel::websocket::tungstenite::{self, Message};
use ed25519_dalek::SigningKey;
use futures_util::{SinkExt as _, StreamExt as _};
use jiff::{SignedDuration, Timestamp};
use rustls::ClientConfig;
use rustls::pki_types::ServerName;
use serde::de::DeserializeOwned;
use std::sync::Arc;
use std::time::Duration;
use tokio::net::TcpStream;
use tokio_rustls::TlsConnector;
use tokio_rustls::client::TlsStream;

/// How long each step may take.
const PATIENCE: Duration = Duration::from_secs(15);
/// Bytes of TLS that wait for the socket: what a keystroke finds ahead of it.
const TLS_BUFFER: usize = 32 << 10;

/// Why the service could not be reached, or turned the agent away.
#[derive(Debug, thiserror::Error)]
pub enum ConnectError {
    /// The address cannot be read.
    #[error("`{0}` is not an address of a service: it is HOST:PORT")]
    Address(String),
    /// No answer.
    #[error("{0} cannot be reached: {1}. Does this computer have a network, and does its firewall let it out to that port?")]
    Unreachable(String, std::io::Error),
    /// Too slow.
    #[error("{0} does not answer within {seconds} seconds", seconds = PATIENCE.as_secs())]
    Silent(String),
    /// TLS failed.
    #[error("{0} does not speak TLS 1.3 as the service does: {1}")]
    Tls(String, std::io::Error),
    /// Something else listens there.
    #[error("{0} is not the service: {1}")]
    NotTheService(String, String),
    /// It is not the service that the agent was enrolled with.
    #[error("{0} is not the service of the code: its key is another one, or somebody stands between. Nothing was told to it")]
    OtherService(String),
    /// The service says no.
    #[error("{why}")]
    Refused {
        /// A stable word.
        code: String,
        /// Why.
        why: String,
        /// How long to wait.
        wait: Duration,
    },
    /// The system gives no random numbers.
    #[error("the system gives no random numbers")]
    Random,
}

/// A connection whose two sides are proved.
pub struct Proved {
    /// What carries the tunnel from here on.
    pub socket: WebSocketStream<TlsStream<TcpStream>>,
    /// The service's newest key.
    pub service_key: String,
    /// The service's answer.
    pub answer: Answer,
    /// How far the service's clock is ahead.
    pub behind: SignedDuration,
}

/// TLS 1.3 as agents speak it. It gives secrecy, and who is at the other end is proved within it, bound to this very connection by the
/// exporter, which hangs on the server's signature over the handshake. Sessions are not resumed: the exporter is to be of a full handshake.
///
/// # Errors
/// When the provider lacks TLS 1.3, which it does not.
pub fn tls_config() -> Result<Arc<ClientConfig>, rustls::Error> {
    let provider = Arc::new(rustls::crypto::ring::default_provider());
    let mut config = ClientConfig::builder_with_provider(provider.clone())
        .with_protocol_versions(&[&rustls::version::TLS13])?
        .dangerous()
        .with_custom_certificate_verifier(Arc::new(Unvouched(provider)))
        .with_no_client_auth();
    config.resumption = rustls::client::Resumption::disabled();
    config.alpn_protocols = vec![b"http/1.1".to_vec()];
    Ok(Arc::new(config))
}

async fn patient<T>(server: &str, step: impl Future<Output = T>) -> Result<T, ConnectError> {
    tokio::time::timeout(PATIENCE, step).await.map_err(|_| ConnectError::Silent(server.into()))
}

/// Connects, and proves both sides. `known` says whether a key of the service is known; the secret of an enrolment code is
/// sent only to a service that has proved itself.
///
/// # Errors
/// When the service cannot be reached, does not prove itself, or turns the agent away.
pub async fn connect(
    server: &str,
    tls: &Arc<ClientConfig>,
    key: &SigningKey,
    known: impl Fn(&str) -> bool,
    purpose: impl FnOnce() -> Purpose,
) -> Result<Proved, ConnectError> {
    let host = server.rsplit_once(':').map_or(server, |(h, _)| h).trim_matches(['[', ']']);
    let name = ServerName::try_from(host.to_string()).map_err(|_| ConnectError::Address(server.into()))?;
    let tcp = patient(server, TcpStream::connect(server)).await?.map_err(|e| ConnectError::Unreachable(server.into(), e))?;
    aerie_tunnel::prepare(&tcp).map_err(|e| ConnectError::Unreachable(server.into(), e))?;
    let connector = TlsConnector::from(tls.clone());
    let dial = connector.connect_with(name, tcp, |c| c.set_buffer_limit(Some(TLS_BUFFER)));
    let stream = patient(server, dial).await?.map_err(|e| ConnectError::Tls(server.into(), e))?;
    let exporter = stream
        .get_ref()
        .1
        .export_keying_material([0; NONCE], EXPORTER_LABEL, None)
        .map_err(|e| ConnectError::Tls(server.into(), std::io::Error::other(e)))?;
    let odd = |e: tungstenite::Error| ConnectError::NotTheService(server.into(), e.to_string());
    let address = format!("wss://{server}/api/v1/agents/connect");
    let shake = aerie_tunnel::websocket::client_async_with_config(address, stream, Some(aerie_tunnel::socket_config()));
    let (mut socket, _) = patient(server, shake).await?.map_err(odd)?;
    let mut nonce = [0; NONCE];
    getrandom::fill(&mut nonce).map_err(|_| ConnectError::Random)?;
    let hello =
        AgentHello { protocol: PROTOCOL, version: crate::VERSION.into(), key: hex(key.verifying_key().as_bytes()), nonce: hex(&nonce) };
    say(&mut socket, &hello).await.map_err(odd)?;
    let service: ServiceHello = patient(server, hear(server, &mut socket)).await??;
    let theirs = transcript(Role::Service, &hello, &service.nonce, &exporter);
    let service_key = service_proved(&service, &theirs, known).ok_or_else(|| ConnectError::OtherService(server.into()))?;
    let now = Timestamp::now();
    let ours = transcript(Role::Agent, &hello, &service.nonce, &exporter);
    let proof = AgentProof { signature: sign(key, &ours), time: now, purpose: purpose() };
    say(&mut socket, &proof).await.map_err(odd)?;
    match patient(server, hear(server, &mut socket)).await?? {
        Answer::Refused { code, why, wait } => Err(ConnectError::Refused { code, why, wait: Duration::from_secs(wait.into()) }),
        answer => Ok(Proved { socket, service_key, answer, behind: service.time.duration_since(now) }),
    }
}

async fn say<T: serde::Serialize>(socket: &mut WebSocketStream<TlsStream<TcpStream>>, what: &T) -> Result<(), tungstenite::Error> {
    socket.send(Message::Text(serde_json::to_string(what).unwrap_or_default().into())).await
}

async fn hear<T: DeserializeOwned>(server: &str, socket: &mut WebSocketStream<TlsStream<TcpStream>>) -> Result<T, ConnectError> {
    let odd = |why: String| ConnectError::NotTheService(server.into(), why);
    loop {
        match socket.next().await {
            Some(Ok(Message::Text(text))) => {
                // A service that turns somebody away may do so at any point of the greeting.
                if let Ok(Answer::Refused { code, why, wait }) = serde_json::from_str(&text) {
                    return Err(ConnectError::Refused { code, why, wait: Duration::from_secs(wait.into()) });
                }
                return serde_json::from_str(&text).map_err(|e| odd(e.to_string()));
            }
            Some(Ok(Message::Ping(_) | Message::Pong(_))) => {}
            Some(Ok(_)) | None => return Err(odd("it broke off".into())),
            Some(Err(e)) => return Err(odd(e.to_string())),
        }
    }
}
