//! Ports of a machine, forwarded over HTTPS: a session like any other, whose streams lead to one service of the machine.

use super::channel::forwarding;
use super::connection::{Connection, Forwarded, OpenSession, SignedInBy, Stated};
use crate::machines::reach;
use crate::service::App;
use aerie_core::directory::{Machine, Way};
use aerie_core::evidence::{EventKind, NewEvent};
use aerie_core::policy::ForwardTarget;
use aerie_core::recording::{Frame, Opened};
use aerie_core::session::LoginName;
use aerie_core::tunnel::{Side, Target};
use aerie_core::wording;
use aerie_tunnel::websocket::WebSocketStream;
use aerie_tunnel::{Asked, Broken, Incoming, Tunnel};
use jiff::Timestamp;
use std::sync::Arc;
use std::sync::atomic::{AtomicU64, Ordering};
use std::time::Duration;
use tokio::io::{AsyncRead, AsyncReadExt as _, AsyncWrite, AsyncWriteExt as _};
use tokio_util::sync::CancellationToken;

/// How long a client may say nothing.
const QUIET: Duration = Duration::from_secs(75);
/// Bytes that are read at a time.
const PIECE: usize = 32 << 10;

/// A session that forwards one way of a machine.
pub(crate) struct Ports {
    connection: Arc<Connection>,
    session: Arc<OpenSession>,
    machine: Machine,
    way: Way,
    target: Target,
    forwarded: Forwarded,
}

impl Ports {
    /// Begins the session, if the rules allow it; where others must be asked first, waits for them. `closed` is cancelled when the
    /// client leaves.
    ///
    /// # Errors
    /// The sentence that refuses it.
    pub(crate) async fn begin(
        app: &Arc<App>,
        by: SignedInBy,
        machine: Machine,
        way: Way,
        (reason, ticket): (Option<String>, Option<String>),
        closed: CancellationToken,
    ) -> Result<Self, String> {
        let target: Target = way.address.parse().map_err(|e| format!("{e}."))?;
        let login = LoginName { person: by.person.person().into(), machine: Some(machine.name.clone()), account: None, emergency: false };
        let connection = Connection::new(app.clone(), by, login, Stated { ticket, reason }, closed);
        // A service that is registered with a machine counts as one of its own, by whatever address it is reached.
        let real = ForwardTarget::new(&target.host, target.port.into()).map_err(|e| format!("{e}."))?;
        let (session, forwarded) = forwarding(&connection, real, Some(ForwardTarget::service(target.port))).await?;
        Ok(Self { connection, session, machine, way, target, forwarded })
    }

    /// Identifier of the session.
    pub(crate) fn id(&self) -> &str {
        &self.session.live.id
    }

    /// Ends it, where the client did not come.
    pub(crate) fn give_up(&self) {
        self.connection.closed.cancel();
    }

    /// Carries whatever the client opens, until it leaves or the session ends.
    pub(crate) async fn serve<S: AsyncRead + AsyncWrite + Unpin>(self, socket: WebSocketStream<S>) {
        let this = Arc::new(self);
        let (tunnel, mut inbox) = Tunnel::new(Side::Acceptor);
        let ended = this.session.live.ended.clone();
        let taking = async {
            let mut number = 0;
            while let Some(incoming) = inbox.next().await {
                if let Incoming::Asked(asked) = incoming {
                    number += 1;
                    this.session.carriers.spawn(this.clone().carry(asked, number));
                }
            }
        };
        let ended_by = tokio::select! {
            broken = tunnel.run(socket, QUIET) => Some(broken),
            () = taking => None,
            () = ended.cancelled() => None,
        };
        if let Some(Broken::Violation(v)) = ended_by {
            tracing::info!(session = this.id(), error = %v, "a client that forwards a port broke the protocol");
        }
        tunnel.end();
        this.connection.closed.cancel();
    }

    async fn carry(self: Arc<Self>, asked: Asked, number: u32) {
        let machine = match reach(&self.connection.app, &self.machine, &self.target).await {
            Ok(reached) => reached,
            Err(e) => return asked.refuse(&format!("{}: {e}", self.machine.name)),
        };
        let opened = Opened { kind: "forward".into(), command: Some(format!("{} ({})", self.way.name, self.forwarded)), terminal: false };
        let event = self.event(&format!("forwarded {} to {}", self.way.name, self.forwarded)).with("way", machine.how);
        self.connection.app.note(event).await;
        if let Some(recording) = &self.session.recording {
            recording.frame(number, Frame::Opened(opened)).await;
        }
        let (person_read, person_write) = tokio::io::split(asked.accept());
        let (machine_read, machine_write) = tokio::io::split(machine.stream);
        let over = self.session.live.ended.child_token();
        // Counted as they pass: what ends the session ends the copying in the middle.
        let (out, input) = (AtomicU64::new(0), AtomicU64::new(0));
        tokio::select! {
            _ = async { tokio::join!(self.copy(machine_read, person_write, &out, false), self.copy(person_read, machine_write, &input, true)) } => {}
            () = over.cancelled() => {}
        };
        let (out, input) = (out.into_inner(), input.into_inner());
        if let Some(recording) = &self.session.recording {
            recording.frame(number, Frame::Passed(out, input)).await;
            recording.frame(number, Frame::Closed(None)).await;
        }
        let says =
            format!("closed a connection to {} after {} to it and {} from it", self.way.name, wording::size(input), wording::size(out));
        self.connection.app.note(self.event(&says)).await;
    }

    /// Copies one direction to its end, and counts.
    async fn copy(&self, mut from: impl AsyncRead + Unpin, mut to: impl AsyncWrite + Unpin, all: &AtomicU64, inward: bool) {
        let mut piece = vec![0; PIECE];
        while let Ok(n @ 1..) = from.read(&mut piece).await {
            let now = Timestamp::now().as_millisecond();
            if inward {
                self.session.live.note_in(n, now)
            } else {
                self.session.live.note_out(n, now, false)
            }
            let Some(bytes) = piece.get(..n) else { break };
            if to.write_all(bytes).await.is_err() {
                break;
            }
            all.fetch_add(n as u64, Ordering::Relaxed);
        }
        let _ = to.shutdown().await;
    }

    fn event(&self, what: &str) -> NewEvent {
        let person = self.connection.person.person();
        let event = NewEvent::new(Timestamp::now(), EventKind::ChannelOpened, person).machine(&self.machine.name).session(self.id());
        event.says(format!("{person} {what} on {}.", self.machine.name)).with("kind", "forward")
    }
}
