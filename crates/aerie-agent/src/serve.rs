//! Connects the streams that the service asks for, if the agent's own list allows it.

use crate::consent::Asker;
use aerie_core::audit::ship;
use aerie_core::session::consent::TARGET;
use aerie_core::tunnel::{AllowList, LOCK_TARGET, Target};
use aerie_tunnel::Asked;
use std::io;
use std::net::SocketAddr;
use std::process::Stdio;
use std::sync::Arc;
use std::sync::atomic::{AtomicU64, Ordering};
use std::time::Duration;
use tokio::io::copy_bidirectional_with_sizes;
use tokio::net::TcpStream;

/// How long a neighbour has to take a connection.
const PATIENCE: Duration = Duration::from_secs(10);
/// Bytes that are read at a time: two frames.
const PIECE: usize = 2 * aerie_core::tunnel::PIECE;

/// Where lines of the log go.
pub(crate) type Note = Arc<dyn Fn(&str) + Send + Sync>;

/// What is shared by all streams.
pub(crate) struct Serving {
    pub(crate) allow: AllowList,
    pub(crate) turned_away: AtomicU64,
    pub(crate) note: Note,
    /// The log that it sends; none where it sends none.
    pub(crate) log: Option<String>,
    /// The command that locks the screen; none where nothing does.
    pub(crate) lock_with: Option<String>,
    /// Asks the person at the machine; none where nobody is to be asked.
    pub(crate) asker: Option<Arc<Asker>>,
}

impl Serving {
    /// Serves one stream to its end.
    pub(crate) async fn serve(self: Arc<Self>, asked: Asked) {
        let to = asked.target.clone();
        if to == TARGET {
            return match &self.asker {
                Some(asker) => asker.serve(asked.accept()).await,
                None => asked.refuse("it runs without asking anybody"),
            };
        }
        if to == ship::TARGET {
            return match &self.log {
                Some(what) => crate::log::serve(what, asked.accept(), &self.note).await,
                None => asked.refuse("it was enrolled without --log"),
            };
        }
        if to == LOCK_TARGET {
            return match lock(self.lock_with.as_deref()).await {
                Ok(()) => {
                    (self.note)("locked the screen");
                    drop(asked.accept());
                }
                Err(why) => {
                    (self.note)(&format!("could not lock the screen: {why}"));
                    asked.refuse(&why);
                }
            };
        }
        match self.dial(&to).await {
            Err(Refusal(why)) => {
                (self.note)(&format!("refused {to}: {why}"));
                asked.refuse(&why);
            }
            Ok(neighbour) => {
                (self.note)(&format!("opened {to}"));
                let (inward, outward) = carry(asked, neighbour).await;
                (self.note)(&format!("closed {to} ({inward} bytes to it, {outward} from it)"));
            }
        }
    }

    async fn dial(&self, text: &str) -> Result<TcpStream, Refusal> {
        let target: Target = text.parse().map_err(|_| Refusal("that is no target".into()))?;
        let not_allowed = || {
            self.turned_away.fetch_add(1, Ordering::Relaxed);
            Refusal(format!("{text} is not on the list of this agent"))
        };
        let addresses: Vec<SocketAddr> = match target.host.parse() {
            Ok(ip) => vec![SocketAddr::new(ip, target.port)],
            Err(_) if !self.allow.allows(&target) => return Err(not_allowed()),
            Err(_) => {
                let found = tokio::net::lookup_host((target.host.as_str(), target.port)).await;
                // A name that is on the list may lead where the list's own ranges go, or outside of loopback: a name server
                // must not be able to lead to services that listen for the machine itself.
                found
                    .map_err(|e| Refusal(format!("{} does not resolve ({e})", target.host)))?
                    .filter(|a| self.allow.allows_address(*a) || !a.ip().to_canonical().is_loopback())
                    .collect()
            }
        };
        let allowed = |a: &&SocketAddr| self.allow.allows(&target) || self.allow.allows_address(**a);
        let Some(address) = addresses.iter().find(allowed) else { return Err(not_allowed()) };
        dial_one(*address).await.map_err(|e| Refusal(format!("{text} does not take connections ({e})")))
    }
}

/// Locks the screen with the command that whoever enrolled the agent gave.
async fn lock(command: Option<&str>) -> Result<(), String> {
    let command = command.ok_or("it was enrolled without --lock-with")?;
    let mut shell = tokio::process::Command::new("sh");
    shell.args(["-c", command]).stdin(Stdio::null()).stdout(Stdio::null()).stderr(Stdio::null()).kill_on_drop(true);
    let ended = tokio::time::timeout(PATIENCE, shell.status()).await.map_err(|_| "its command does not end")?;
    match ended {
        Ok(status) if status.success() => Ok(()),
        Ok(status) => Err(format!("its command ended with {status}")),
        Err(e) => Err(format!("its command could not be run ({e})")),
    }
}

/// Connects, and not for ever.
pub(crate) async fn dial_one(address: SocketAddr) -> io::Result<TcpStream> {
    let stream = tokio::time::timeout(PATIENCE, TcpStream::connect(address)).await;
    let stream = stream.unwrap_or_else(|_| Err(io::ErrorKind::TimedOut.into()))?;
    let _ = stream.set_nodelay(true);
    Ok(stream)
}

/// Carries a stream until both sides are done; gives the bytes to the neighbour and from it.
pub(crate) async fn carry(asked: Asked, mut neighbour: TcpStream) -> (u64, u64) {
    let mut stream = asked.accept();
    copy_bidirectional_with_sizes(&mut stream, &mut neighbour, PIECE, PIECE).await.unwrap_or_default()
}

struct Refusal(String);

#[cfg(test)]
mod tests {
    use super::*;
    use aerie_core::tunnel::Side;
    use aerie_tunnel::websocket::WebSocketStream;
    use aerie_tunnel::websocket::tungstenite::protocol::Role;
    use aerie_tunnel::{Incoming, Tunnel, socket_config};
    use tokio::io::{AsyncReadExt as _, AsyncWriteExt as _};
    use tokio::net::TcpListener;

    /// A service at the other end of a tunnel whose agent has this list.
    async fn service_with(allow: &[&str]) -> (Tunnel, Arc<Serving>) {
        let serving = Arc::new(Serving {
            allow: AllowList::parse(allow.iter().copied()).unwrap(),
            turned_away: AtomicU64::new(0),
            note: Arc::new(|_| {}),
            log: None,
            lock_with: None,
            asker: None,
        });
        let (near, far) = tokio::io::duplex(1 << 16);
        let (service, _inbox) = Tunnel::new(Side::Opener);
        let (agent, mut inbox) = Tunnel::new(Side::Acceptor);
        let there = service.clone();
        tokio::spawn(async move {
            let socket = WebSocketStream::from_raw_socket(near, Role::Server, Some(socket_config())).await;
            there.run(socket, Duration::from_secs(60)).await
        });
        tokio::spawn(async move {
            let socket = WebSocketStream::from_raw_socket(far, Role::Client, Some(socket_config())).await;
            agent.run(socket, Duration::from_secs(60)).await
        });
        let here = serving.clone();
        tokio::spawn(async move {
            while let Some(Incoming::Asked(asked)) = inbox.next().await {
                tokio::spawn(here.clone().serve(asked));
            }
        });
        (service, serving)
    }

    #[tokio::test]
    async fn a_service_that_asks_for_more_than_the_list_gets_nothing() {
        let listener = TcpListener::bind("127.0.0.1:0").await.unwrap();
        let open = listener.local_addr().unwrap();
        let secret = TcpListener::bind("127.0.0.1:0").await.unwrap();
        let (service, serving) = service_with(&[&open.to_string(), "localhost:*"]).await;
        let mut stream = service.open(&open.to_string()).await.unwrap();
        let (mut taken, _) = listener.accept().await.unwrap();
        stream.write_all(b"hello").await.unwrap();
        let mut got = [0; 5];
        taken.read_exact(&mut got).await.unwrap();
        assert_eq!(&got, b"hello");
        let off = secret.local_addr().unwrap();
        // Another port, another address, what is no target, and a name on the list that leads to loopback.
        for target in [off.to_string(), "10.0.0.1:22".into(), "nonsense".into(), format!("localhost:{}", off.port()), "[::1]:22".into()] {
            let refused = service.open(&target).await.unwrap_err();
            assert_eq!(refused.kind(), io::ErrorKind::ConnectionRefused, "{target}: {refused}");
        }
        assert_eq!(serving.turned_away.load(Ordering::Relaxed), 4);
        // Whoever connected would stand in its queue by now: the refusals came after.
        secret.into_std().unwrap().accept().unwrap_err();
    }

    #[tokio::test]
    async fn what_is_closed_on_one_side_is_closed_on_the_other() {
        let listener = TcpListener::bind("127.0.0.1:0").await.unwrap();
        let at = listener.local_addr().unwrap().to_string();
        let (service, _) = service_with(&[&at]).await;
        let mut stream = service.open(&at).await.unwrap();
        let (mut taken, _) = listener.accept().await.unwrap();
        let reading = tokio::spawn(async move {
            let mut all = vec![];
            taken.read_to_end(&mut all).await.unwrap();
            taken.write_all(b"done").await.unwrap();
            all.len()
        });
        stream.write_all(&vec![7; 3_000_000]).await.unwrap();
        stream.shutdown().await.unwrap();
        assert_eq!(reading.await.unwrap(), 3_000_000);
        let mut answer = String::new();
        stream.read_to_string(&mut answer).await.unwrap();
        assert_eq!(answer, "done");
        // A service that nobody answers at says so.
        drop(listener);
        assert!(service.open(&at).await.unwrap_err().to_string().contains("does not take connections"));
    }
}
