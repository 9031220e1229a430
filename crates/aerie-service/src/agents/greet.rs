//! The greeting: both sides prove themselves, within this TLS connection alone.

use crate::service::App;
use aerie_core::evidence::hex;
use aerie_core::tunnel::PROTOCOL;
use aerie_core::tunnel::greeting::{
    AgentHello, AgentProof, Answer, MAX_GREETING, NONCE, Purpose, Role, ServiceHello, SignedBy, is_signed, sign, transcript,
};
use aerie_tunnel::websocket::WebSocketStream;
use aerie_tunnel::websocket::tungstenite::Message;
use futures_util::{SinkExt as _, StreamExt as _};
use jiff::{SignedDuration, Timestamp};
use serde::Serialize;
use serde::de::DeserializeOwned;
use std::time::Duration;
use tokio::io::{AsyncRead, AsyncWrite};

/// Strangers that are in the middle of greeting, at most: each costs some tens of kilobytes for some seconds.
pub(crate) const MOST_GREETING: u32 = 512;
/// Of one address: a site behind one address has many agents that come back together, a moment each.
pub(crate) const MOST_GREETING_FROM_ONE: u32 = 128;
/// How long the greeting may take.
const PATIENCE: Duration = Duration::from_secs(10);

/// The value that TLS derives from a connection (RFC 9266).
#[derive(Debug, Clone, Copy)]
pub(crate) struct Exporter(pub(crate) [u8; NONCE]);

/// A connection of an agent.
pub(super) type Socket<S> = WebSocketStream<S>;

/// An agent that proved that it has its key.
pub(super) struct Proved {
    pub(super) key: String,
    pub(super) version: String,
    pub(super) ahead: SignedDuration,
    pub(super) purpose: Purpose,
}

pub(super) fn refused(code: &str, why: impl Into<String>, wait: u32) -> Answer {
    Answer::Refused { code: code.into(), why: why.into(), wait }
}

pub(super) async fn say<S: AsyncRead + AsyncWrite + Unpin>(socket: &mut Socket<S>, what: &impl Serialize) -> Option<()> {
    let text = serde_json::to_string(what).ok()?;
    tokio::time::timeout(PATIENCE, socket.send(Message::Text(text.into()))).await.ok()?.ok()
}

async fn hear<S: AsyncRead + AsyncWrite + Unpin, T: DeserializeOwned>(socket: &mut Socket<S>) -> Option<T> {
    match tokio::time::timeout(PATIENCE, socket.next()).await.ok()?? {
        Ok(Message::Text(text)) if text.len() <= MAX_GREETING => serde_json::from_str(&text).ok(),
        _ => None,
    }
}

/// Greets whoever came; none where they did not prove themselves.
pub(super) async fn greet<S: AsyncRead + AsyncWrite + Unpin>(app: &App, socket: &mut Socket<S>, exporter: &Exporter) -> Option<Proved> {
    let hello: AgentHello = hear(socket).await?;
    if hello.protocol != PROTOCOL {
        let why = format!(
            "This agent speaks version {} of the protocol, the service {PROTOCOL}: put the program of version {} on the machine.",
            hello.protocol,
            env!("CARGO_PKG_VERSION")
        );
        say(socket, &refused("protocol", why, 3600)).await;
        return None;
    }
    let nonce = hex(&crate::keys::random::<NONCE>().ok()?);
    let text = transcript(Role::Service, &hello, &nonce, &exporter.0);
    let signed =
        app.keys.agent_keys().iter().map(|k| SignedBy { key: hex(k.verifying_key().as_bytes()), signature: sign(k, &text) }).collect();
    let now = Timestamp::now();
    say(socket, &ServiceHello { nonce: nonce.clone(), keys: signed, time: now }).await?;
    let proof: AgentProof = hear(socket).await?;
    if !is_signed(&hello.key, &transcript(Role::Agent, &hello, &nonce, &exporter.0), &proof.signature) {
        say(socket, &refused("proof", "The agent did not prove that it has its key.", 60)).await;
        return None;
    }
    let version = aerie_core::diagnostic::printable(&hello.version).chars().take(40).collect();
    Some(Proved { key: hello.key, version, ahead: proof.time.duration_since(now), purpose: proof.purpose })
}
