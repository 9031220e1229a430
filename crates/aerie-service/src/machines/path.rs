//! The way to a machine: by itself, through its agent, or through a relay of its site.

use crate::agents::Known;
use crate::service::App;
use aerie_core::directory::{Machine, Via};
use aerie_core::tunnel::Target;
use aerie_tunnel::TunnelStream;
use std::io;
use std::net::{IpAddr, Ipv4Addr, Ipv6Addr, SocketAddr};
use std::pin::Pin;
use std::sync::Arc;
use std::task::{Context, Poll};
use std::time::{Duration, Instant};
use tokio::io::{AsyncRead, AsyncWrite, ReadBuf};
use tokio::net::TcpStream;

/// How long each step may take.
const PATIENCE: Duration = Duration::from_secs(10);
/// Where others are there, a relay gets less.
const PATIENCE_WITH_ONE_OF_SEVERAL: Duration = Duration::from_secs(4);

/// Why a machine could not be reached.
#[derive(Debug, thiserror::Error)]
pub(crate) enum PathError {
    #[error("its name does not resolve ({0})")]
    Unresolved(io::Error),
    #[error("it cannot be reached ({0})")]
    Unreachable(io::Error),
    #[error("it does not answer within {} seconds", PATIENCE.as_secs())]
    Silent,
    #[error("its agent is not connected")]
    AgentGone,
    #[error("it has no agent yet: enrol one")]
    NoAgent,
    #[error("its agent does not get there ({0})")]
    AgentRefused(io::Error),
    #[error("no agent of its site that may reach it is connected")]
    NoRelay,
    #[error("no relay gets there ({0})")]
    RelaysRefused(String),
}

impl PathError {
    /// A stable word.
    pub(crate) fn code(&self) -> &'static str {
        match self {
            Self::Unresolved(_) => "unresolved",
            Self::Unreachable(_) => "unreachable",
            Self::Silent => "silent",
            Self::AgentGone => "agent-gone",
            Self::NoAgent => "no-agent",
            Self::AgentRefused(_) => "agent-refused",
            Self::NoRelay => "no-relay",
            Self::RelaysRefused(_) => "relays-refused",
        }
    }
}

/// A connection to a machine.
pub(crate) struct Reached {
    pub(crate) stream: PathStream,
    /// Addresses that the machine may see it come from.
    pub(crate) sources: Vec<IpAddr>,
    /// How, in words: `through its agent`.
    pub(crate) how: String,
}

/// Bytes to and from a machine, over whatever leads there.
pub(crate) enum PathStream {
    Direct(TcpStream),
    Tunnel(TunnelStream),
}

async fn patient<T>(time: Duration, step: impl Future<Output = T>) -> Result<T, PathError> {
    tokio::time::timeout(time, step).await.map_err(|_| PathError::Silent)
}

/// Resolves a target, as the service sees it.
pub(crate) async fn resolve(target: &Target) -> Result<Vec<SocketAddr>, PathError> {
    let found = patient(PATIENCE, tokio::net::lookup_host((target.host.as_str(), target.port))).await?.map_err(PathError::Unresolved)?;
    Ok(found.collect())
}

/// Connects to a target at or beside a machine, by the machine's way.
pub(crate) async fn reach(app: &App, machine: &Machine, target: &Target) -> Result<Reached, PathError> {
    match machine.via {
        Via::Direct => {
            let (reached, peer) = direct(target).await?;
            if target.to_string() == machine.address.to_ascii_lowercase() {
                app.neighbours.note(&machine.name, peer);
            }
            Ok(reached)
        }
        Via::Agent => through_agent(app, machine, target).await,
        Via::Relay => through_relay(app, machine, target).await,
    }
}

async fn direct(target: &Target) -> Result<(Reached, IpAddr), PathError> {
    let addresses = resolve(target).await?;
    let stream = patient(PATIENCE, TcpStream::connect(addresses.as_slice())).await?.map_err(PathError::Unreachable)?;
    let _ = stream.set_nodelay(true);
    let source = stream.local_addr().map_err(PathError::Unreachable)?.ip();
    let peer = stream.peer_addr().map_err(PathError::Unreachable)?.ip();
    Ok((Reached { stream: PathStream::Direct(stream), sources: vec![source], how: "directly".into() }, peer))
}

async fn open(known: &Arc<Known>, target: &Target, time: Duration) -> Result<TunnelStream, PathError> {
    let tunnel = known.tunnel().ok_or(PathError::AgentGone)?;
    let began = Instant::now();
    let opened = match patient(time, tunnel.open(&target.to_string())).await {
        Ok(opened) => opened.map_err(PathError::AgentRefused),
        Err(silent) => Err(silent),
    };
    known.opened(if opened.is_ok() { Ok(began.elapsed()) } else { Err(()) });
    opened
}

async fn through_agent(app: &App, machine: &Machine, target: &Target) -> Result<Reached, PathError> {
    let known = app.agents.of(&machine.name).ok_or(PathError::NoAgent)?;
    let stream = open(&known, target, PATIENCE).await?;
    // The agent connects to its own machine, over loopback or over one of its addresses.
    let sources = [Ipv4Addr::LOCALHOST.into(), Ipv6Addr::LOCALHOST.into()].into_iter().chain(addresses_of(&known)).collect();
    Ok(Reached { stream: PathStream::Tunnel(stream), sources, how: "through its agent".into() })
}

fn addresses_of(known: &Known) -> Vec<IpAddr> {
    known.facts().map(|f| f.addresses.iter().filter_map(|a| a.parse().ok()).collect()).unwrap_or_default()
}

async fn through_relay(app: &App, machine: &Machine, target: &Target) -> Result<Reached, PathError> {
    let rules = app.rules.now();
    let directory = rules.policy.directory();
    let stands_there = |other: &str| other != machine.name && directory.machine(other).is_some_and(|m| m.site == machine.site);
    let relays = app.agents.relays(target, stands_there);
    let mut failed = vec![];
    for (n, relay) in relays.iter().enumerate() {
        let name = relay.machine();
        let time = if n + 1 < relays.len() { PATIENCE_WITH_ONE_OF_SEVERAL } else { PATIENCE };
        match open(relay, target, time).await {
            Ok(stream) => {
                let sources = addresses_of(relay).into_iter().chain([Ipv4Addr::LOCALHOST.into(), Ipv6Addr::LOCALHOST.into()]).collect();
                return Ok(Reached { stream: PathStream::Tunnel(stream), sources, how: format!("through {name}") });
            }
            Err(e) => failed.push(format!("{name}: {e}")),
        }
    }
    if failed.is_empty() { Err(PathError::NoRelay) } else { Err(PathError::RelaysRefused(failed.join("; "))) }
}

impl AsyncRead for PathStream {
    fn poll_read(self: Pin<&mut Self>, cx: &mut Context<'_>, buf: &mut ReadBuf<'_>) -> Poll<io::Result<()>> {
        match self.get_mut() {
            Self::Direct(s) => Pin::new(s).poll_read(cx, buf),
            Self::Tunnel(s) => Pin::new(s).poll_read(cx, buf),
        }
    }
}

impl AsyncWrite for PathStream {
    fn poll_write(self: Pin<&mut Self>, cx: &mut Context<'_>, data: &[u8]) -> Poll<io::Result<usize>> {
        match self.get_mut() {
            Self::Direct(s) => Pin::new(s).poll_write(cx, data),
            Self::Tunnel(s) => Pin::new(s).poll_write(cx, data),
        }
    }

    fn poll_flush(self: Pin<&mut Self>, cx: &mut Context<'_>) -> Poll<io::Result<()>> {
        match self.get_mut() {
            Self::Direct(s) => Pin::new(s).poll_flush(cx),
            Self::Tunnel(s) => Pin::new(s).poll_flush(cx),
        }
    }

    fn poll_shutdown(self: Pin<&mut Self>, cx: &mut Context<'_>) -> Poll<io::Result<()>> {
        match self.get_mut() {
            Self::Direct(s) => Pin::new(s).poll_shutdown(cx),
            Self::Tunnel(s) => Pin::new(s).poll_shutdown(cx),
        }
    }
}
