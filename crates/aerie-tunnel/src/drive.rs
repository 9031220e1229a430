use crate::stream::{Place, TunnelStream};
use aerie_core::tunnel::{Event, Mux, Side, Violation};
use bytes::Bytes;
use futures_util::{Sink, SinkExt as _, Stream, StreamExt as _};
use std::collections::HashMap;
use std::io;
use std::sync::{Arc, Mutex, MutexGuard, PoisonError};
use std::time::{Duration, Instant};
use tokio::sync::{Notify, mpsc, oneshot};
use tokio_tungstenite::tungstenite::{Error, Message};

/// Streams that were asked for and not answered, and messages that were not read, at a time.
const WAITING: usize = 256;
/// Bytes that are written before the socket is flushed.
const FLUSH: usize = 32 << 10;

/// Why a connection ended.
#[derive(Debug, thiserror::Error)]
pub enum Broken {
    /// The connection is gone; the tunnel may go on over another.
    #[error("the connection broke: {0}")]
    Lost(String),
    /// Nothing came for too long; the tunnel may go on over another connection.
    #[error("nothing was heard for {} seconds", .0.as_secs())]
    Silent(Duration),
    /// The other side left in good order.
    #[error("the other side closed the connection")]
    Closed,
    /// The other side broke the protocol.
    #[error("the other side broke the protocol: {0}")]
    Violation(#[from] Violation),
}

/// A stream that the other side asks for.
#[derive(Debug)]
pub struct Asked {
    /// Where to.
    pub target: String,
    tunnel: Tunnel,
    id: u32,
    answered: bool,
}

impl Asked {
    /// Opens it.
    #[must_use]
    pub fn accept(mut self) -> TunnelStream {
        self.answered = true;
        let mut state = self.tunnel.lock();
        state.mux.accept(self.id);
        // Its place is there since it was asked for.
        drop(state);
        self.tunnel.0.wake.notify_one();
        TunnelStream::new(self.tunnel.clone(), self.id)
    }

    /// Does not open it.
    pub fn refuse(mut self, why: &str) {
        self.answered = true;
        self.tunnel.give_up(self.id, Some(why));
    }
}

impl Drop for Asked {
    fn drop(&mut self) {
        if !self.answered {
            self.tunnel.give_up(self.id, Some("it was not answered"));
        }
    }
}

/// One end of a tunnel. Clones are the same end.
#[derive(Debug, Clone)]
pub struct Tunnel(pub(crate) Arc<Shared>);

#[derive(Debug)]
pub(crate) struct Shared {
    state: Mutex<State>,
    /// Something is to be sent.
    pub(crate) wake: Notify,
    /// Held by whoever carries the tunnel: one connection at a time.
    turn: Arc<tokio::sync::Mutex<()>>,
}

/// The right to carry a tunnel over a connection. While it is held nobody else does, so that what was received stays what it is
/// until the other side was told.
#[derive(Debug)]
pub struct Turn {
    tunnel: Tunnel,
    _held: tokio::sync::OwnedMutexGuard<()>,
}

#[derive(Debug)]
pub(crate) struct State {
    pub(crate) mux: Mux,
    pub(crate) places: HashMap<u32, Place>,
    opening: HashMap<u32, oneshot::Sender<Result<(), String>>>,
    inbox: Option<mpsc::Sender<Arrived>>,
    heard: Instant,
    pings: u64,
    pub(crate) over: bool,
}

/// What comes in on a tunnel besides the bytes of its streams.
#[derive(Debug)]
pub struct Inbox {
    tunnel: Tunnel,
    arrived: mpsc::Receiver<Arrived>,
}

#[derive(Debug)]
enum Arrived {
    Asked(u32, String),
    Message(Bytes),
}

/// One of them.
#[derive(Debug)]
pub enum Incoming {
    /// A stream that is asked for.
    Asked(Asked),
    /// A message.
    Message(Bytes),
}

impl Inbox {
    /// The next; none when the tunnel was ended.
    pub async fn next(&mut self) -> Option<Incoming> {
        Some(match self.arrived.recv().await? {
            Arrived::Asked(id, target) => Incoming::Asked(Asked { target, tunnel: self.tunnel.clone(), id, answered: false }),
            Arrived::Message(bytes) => Incoming::Message(bytes),
        })
    }
}

impl Tunnel {
    /// A tunnel that is not connected yet.
    pub fn new(side: Side) -> (Self, Inbox) {
        let (inbox, arrived) = mpsc::channel(WAITING);
        let state = State {
            mux: Mux::new(side),
            places: HashMap::new(),
            opening: HashMap::new(),
            inbox: Some(inbox),
            heard: Instant::now(),
            pings: 0,
            over: false,
        };
        let tunnel = Self(Arc::new(Shared { state: Mutex::new(state), wake: Notify::new(), turn: Arc::default() }));
        (tunnel.clone(), Inbox { tunnel, arrived })
    }

    pub(crate) fn lock(&self) -> MutexGuard<'_, State> {
        self.0.state.lock().unwrap_or_else(PoisonError::into_inner)
    }

    /// Waits until no connection carries the tunnel, and takes the right to do so.
    pub async fn take(&self) -> Turn {
        let held = self.0.turn.clone().lock_owned().await;
        Turn { tunnel: self.clone(), _held: held }
    }

    /// Carries the tunnel over its first connection, until it breaks.
    pub async fn run<S>(&self, socket: S, quiet: Duration) -> Broken
    where
        S: Stream<Item = Result<Message, Error>> + Sink<Message, Error = Error> + Unpin,
    {
        self.take().await.run(socket, quiet).await
    }

    /// Opens a stream.
    ///
    /// # Errors
    /// The other side's reason, or ours.
    pub async fn open(&self, target: &str) -> io::Result<TunnelStream> {
        let (answer, answered) = oneshot::channel();
        let id = {
            let mut state = self.lock();
            if state.over {
                return Err(io::Error::new(io::ErrorKind::NotConnected, "the tunnel is over"));
            }
            let id = state.mux.open(target).ok_or_else(|| io::Error::new(io::ErrorKind::QuotaExceeded, "too many streams are open"))?;
            state.places.insert(id, Place::default());
            state.opening.insert(id, answer);
            id
        };
        self.0.wake.notify_one();
        // Whoever stops waiting gives the stream up.
        let stream = TunnelStream::new(self.clone(), id);
        match answered.await {
            Ok(Ok(())) => Ok(stream),
            Ok(Err(why)) => Err(io::Error::new(io::ErrorKind::ConnectionRefused, why)),
            Err(_) => Err(io::Error::new(io::ErrorKind::ConnectionReset, "the tunnel is over")),
        }
    }

    /// Sends a message; false where the other side takes none.
    pub fn message(&self, bytes: Bytes) -> bool {
        let sent = self.lock().mux.message(bytes);
        self.0.wake.notify_one();
        sent
    }

    /// Ends the tunnel and every stream of it.
    pub fn end(&self) {
        let mut state = self.lock();
        state.over = true;
        state.inbox = None;
        state.opening.clear();
        state.places.values_mut().for_each(Place::reset);
        drop(state);
        self.0.wake.notify_one();
    }

    /// Whether it was ended.
    pub fn is_over(&self) -> bool {
        self.lock().over
    }

    pub(crate) fn give_up(&self, id: u32, refused: Option<&str>) {
        let mut state = self.lock();
        state.places.remove(&id);
        state.opening.remove(&id);
        match refused {
            Some(why) => state.mux.refuse(id, why),
            None => state.mux.release(id),
        }
        drop(state);
        self.0.wake.notify_one();
    }

    fn poll_frame(&self) -> Option<Bytes> {
        let mut state = self.lock();
        let frame = state.mux.poll_frame();
        state.settle();
        frame
    }

    fn handle(&self, frame: &Bytes) -> Result<(), Violation> {
        let mut state = self.lock();
        state.heard = Instant::now();
        state.mux.handle_frame(frame)?;
        let refused = state.settle();
        for id in refused {
            state.mux.refuse(id, "too many streams wait to be opened");
        }
        drop(state);
        self.0.wake.notify_one();
        Ok(())
    }
}

impl Turn {
    /// What arrived so far, counted: what the other side is told when the tunnel goes on over another connection.
    pub fn received(&self) -> u64 {
        self.tunnel.lock().mux.received()
    }

    /// Goes on over another connection; `received` is what the other side says it received.
    ///
    /// # Errors
    /// When that cannot be.
    pub fn resume(&self, received: u64) -> Result<(), Violation> {
        self.tunnel.lock().mux.resume(received)?;
        self.tunnel.0.wake.notify_one();
        Ok(())
    }

    /// Carries the tunnel over a connection until it breaks. `quiet` is how long the other side may say nothing; it is asked
    /// twice within that time.
    pub async fn run<S>(self, socket: S, quiet: Duration) -> Broken
    where
        S: Stream<Item = Result<Message, Error>> + Sink<Message, Error = Error> + Unpin,
    {
        let (mut sink, mut source) = socket.split();
        let lost = |e: Error| match e {
            Error::ConnectionClosed | Error::AlreadyClosed => Broken::Closed,
            other => Broken::Lost(other.to_string()),
        };
        let reading = async {
            loop {
                match source.next().await {
                    Some(Ok(Message::Binary(bytes))) => {
                        if let Err(v) = self.tunnel.handle(&bytes) {
                            return Broken::Violation(v);
                        }
                    }
                    Some(Ok(Message::Close(_))) | None => return Broken::Closed,
                    Some(Ok(_)) => {}
                    Some(Err(e)) => return lost(e),
                }
            }
        };
        let writing = async {
            loop {
                let mut unflushed = 0;
                while let Some(frame) = self.tunnel.poll_frame() {
                    unflushed += frame.len();
                    if let Err(e) = sink.feed(Message::Binary(frame)).await {
                        return lost(e);
                    }
                    if unflushed >= FLUSH {
                        unflushed = 0;
                        if let Err(e) = sink.flush().await {
                            return lost(e);
                        }
                    }
                }
                if let Err(e) = sink.flush().await {
                    return lost(e);
                }
                if self.tunnel.is_over() {
                    let _ = sink.close().await;
                    return Broken::Closed;
                }
                self.tunnel.0.wake.notified().await;
            }
        };
        let listening = async {
            loop {
                tokio::time::sleep(quiet / 2 - quiet / 10).await;
                let mut state = self.tunnel.lock();
                let silent = state.heard.elapsed();
                if silent >= quiet {
                    return Broken::Silent(silent);
                }
                if silent >= quiet / 3 {
                    state.pings += 1;
                    let number = state.pings;
                    state.mux.ping(number);
                    drop(state);
                    self.tunnel.0.wake.notify_one();
                }
            }
        };
        self.tunnel.lock().heard = Instant::now();
        self.tunnel.0.wake.notify_one();
        tokio::select! {
            broken = reading => broken,
            broken = writing => broken,
            broken = listening => broken,
        }
    }
}

impl State {
    /// Hands what came in to those who wait for it; gives the streams that nobody has room to be asked about.
    fn settle(&mut self) -> Vec<u32> {
        let mut refused = vec![];
        while let Some(event) = self.mux.poll_event() {
            match event {
                Event::Asked(id, target) => {
                    self.places.insert(id, Place::default());
                    let full = !self.put(Arrived::Asked(id, target));
                    if full {
                        self.places.remove(&id);
                        refused.push(id);
                    }
                }
                Event::Opened(id) => self.answer(id, Ok(())),
                Event::Refused(id, why) => {
                    self.answer(id, Err(why));
                    self.places.remove(&id);
                }
                Event::Data(id, bytes) => self.place(id, |p| p.take(bytes)),
                Event::Writable(id) => self.place(id, Place::writable),
                Event::Finished(id) => self.place(id, Place::finish),
                Event::Reset(id) => self.place(id, Place::reset),
                // Whoever sends messages faster than they are read loses them.
                Event::Message(bytes) => drop(self.put(Arrived::Message(bytes))),
                Event::Pong(_) => {}
            }
        }
        refused
    }

    fn put(&self, arrived: Arrived) -> bool {
        self.inbox.as_ref().is_some_and(|i| i.try_send(arrived).is_ok())
    }

    fn answer(&mut self, id: u32, answer: Result<(), String>) {
        if let Some(opening) = self.opening.remove(&id) {
            let _ = opening.send(answer);
        }
    }

    fn place(&mut self, id: u32, with: impl FnOnce(&mut Place)) {
        if let Some(place) = self.places.get_mut(&id) {
            with(place);
        }
    }
}
