use super::frame::{Frame, FrameError, MAX_CONTROL, MAX_DATA};
use super::schedule::{Schedule, Turn};
use bytes::Bytes;
use std::collections::{HashMap, VecDeque};

/// Bytes that the other side may send on a stream before its reader took any: what a stalled reader costs at most.
pub const WINDOW: u32 = 1 << 20;
/// Credit is given back in pieces of this size, so that small reads cost no frame each.
const CREDIT_PIECE: u32 = WINDOW / 4;
/// Streams at a time on one connection.
const MOST_STREAMS: usize = 256;
/// Bytes of one stream that wait for their turn; its writer waits beyond.
const OUT_ROOM: usize = 128 << 10;
/// Bytes that were sent and not acknowledged; nothing more is sent beyond. They are kept to be sent again after a break.
const MOST_UNACKED: usize = 4 << 20;
/// What arrived is acknowledged after so many bytes.
const ACK_PIECE: usize = 128 << 10;
/// Messages that wait to be sent: a side that lets more pile up is stuck.
const MOST_WAITING: usize = 4096;

/// Bytes of a stream in one frame that is sent: with what goes around it, it fits into one record of TLS (16 KiB, RFC 8446 section 5.1),
/// where a full frame would take two.
pub const PIECE: usize = MAX_DATA - 64;

/// Who may open streams. The other side never does.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum Side {
    /// Opens streams: the service towards an agent, a client towards the service.
    Opener,
    /// Accepts them.
    Acceptor,
}

/// What the peer did that it may not; the connection is closed.
#[derive(Debug, Clone, Copy, PartialEq, Eq, thiserror::Error)]
pub enum Violation {
    /// Bytes that are no frame.
    #[error(transparent)]
    Frame(#[from] FrameError),
    /// It opened a stream although it may not, or one that was there before.
    #[error("it opened a stream that nobody asked for")]
    Unasked,
    /// More than the credit that it was given.
    #[error("it sent more than it was given credit for")]
    Flooded,
    /// More credit than there can be.
    #[error("it gave more credit than there can be")]
    Credit,
    /// More streams than there may be.
    #[error("it opened more than {MOST_STREAMS} streams")]
    Streams,
    /// Bytes after the end, or an answer that is none.
    #[error("it sent a frame that does not belong there")]
    Order,
    /// It acknowledged what was never sent.
    #[error("it acknowledged what was never sent")]
    Ack,
    /// It asks for much and takes nothing.
    #[error("it does not take its answers")]
    Stuck,
}

/// What came in.
#[derive(Debug, Clone, PartialEq, Eq)]
pub enum Event {
    /// The other side asks for a stream; answer with [`Mux::accept`] or [`Mux::refuse`].
    Asked(u32, String),
    /// A stream that was asked for is open.
    Opened(u32),
    /// It is not opened, and why.
    Refused(u32, String),
    /// Bytes; call [`Mux::consumed`] when they were taken.
    Data(u32, Bytes),
    /// There is room for more, or the stream is over: its writer may look again.
    Writable(u32),
    /// No more bytes come.
    Finished(u32),
    /// The stream is over in both directions.
    Reset(u32),
    /// A message.
    Message(Bytes),
    /// The answer to a ping.
    Pong(u64),
}

#[derive(Debug, Clone, Copy, PartialEq, Eq)]
enum Phase {
    /// Asked for, and not answered.
    Asked,
    Open,
}

#[derive(Debug)]
struct Stream {
    phase: Phase,
    out: VecDeque<Bytes>,
    out_bytes: usize,
    /// What the other side takes.
    credit: u32,
    /// What the other side may still send.
    given: u32,
    /// Taken by the reader, and not given back yet.
    taken: u32,
    finish: bool,
    finish_sent: bool,
    finished: bool,
    blocked: bool,
    turn: Turn,
}

impl Stream {
    fn new(phase: Phase) -> Self {
        Self {
            phase,
            out: VecDeque::new(),
            out_bytes: 0,
            credit: WINDOW,
            given: WINDOW,
            taken: 0,
            finish: false,
            finish_sent: false,
            finished: false,
            blocked: false,
            turn: Turn::default(),
        }
    }

    fn can_send(&self) -> bool {
        self.phase == Phase::Open && ((self.out_bytes > 0 && self.credit > 0) || (self.out_bytes == 0 && self.finish && !self.finish_sent))
    }
}

/// One side of the tunnel, without sockets.
///
/// Give it what arrives ([`Mux::handle_frame`]), take what came of it ([`Mux::poll_event`]) and what is to be sent
/// ([`Mux::poll_frame`]) until there is none. After a break both sides call [`Mux::resume`] with what the other side says
/// it received, and go on over the next connection as if nothing had happened.
#[derive(Debug)]
pub struct Mux {
    side: Side,
    streams: HashMap<u32, Stream>,
    next: u32,
    schedule: Schedule,
    /// Frames that go before any data.
    first: VecDeque<Frame>,
    events: VecDeque<Event>,
    sent: u64,
    acked: u64,
    unacked: VecDeque<Bytes>,
    unacked_bytes: usize,
    /// Of the unacknowledged frames, those that are still to be sent again.
    again: usize,
    received: u64,
    since_ack: usize,
    frames_since_ack: u32,
    ack_due: bool,
    messages: usize,
}

impl Mux {
    /// A tunnel without streams.
    pub fn new(side: Side) -> Self {
        Self {
            side,
            streams: HashMap::new(),
            next: 1,
            schedule: Schedule::default(),
            first: VecDeque::new(),
            events: VecDeque::new(),
            sent: 0,
            acked: 0,
            unacked: VecDeque::new(),
            unacked_bytes: 0,
            again: 0,
            received: 0,
            since_ack: 0,
            frames_since_ack: 0,
            ack_due: false,
            messages: 0,
        }
    }

    /// Counted frames that arrived: what the other side is told when it resumes.
    pub fn received(&self) -> u64 {
        self.received
    }

    /// Streams that are open or asked for.
    pub fn streams(&self) -> usize {
        self.streams.len()
    }

    /// Bytes that are kept for the peer: waiting for their turn, or sent and not acknowledged.
    pub fn kept(&self) -> usize {
        self.unacked_bytes + self.streams.values().map(|s| s.out_bytes).sum::<usize>()
    }

    /// Takes one frame.
    ///
    /// # Errors
    /// When the peer broke the protocol: the connection must be closed, and may not be resumed.
    pub fn handle_frame(&mut self, bytes: &Bytes) -> Result<(), Violation> {
        let frame = Frame::decode(bytes)?;
        if frame.counts() {
            self.received += 1;
            self.since_ack += bytes.len();
            self.frames_since_ack += 1;
        }
        match frame {
            Frame::Open(id, to) => self.handle_open(id, to)?,
            Frame::Opened(id) => self.handle_answer(id, Event::Opened(id))?,
            Frame::Refused(id, why) => {
                self.handle_answer(id, Event::Refused(id, why))?;
                self.streams.remove(&id);
            }
            Frame::Data(id, data) => self.handle_data(id, data)?,
            Frame::Credit(id, more) => self.handle_credit(id, more)?,
            Frame::Finish(id) => self.handle_finish(id)?,
            Frame::Reset(id) => {
                self.known(id)?;
                if self.streams.remove(&id).is_some() {
                    self.events.push_back(Event::Reset(id));
                }
            }
            Frame::Message(bytes) => self.events.push_back(Event::Message(bytes)),
            Frame::Ack(n) => self.handle_ack(n)?,
            Frame::Ping(n) => {
                if self.first.len() >= MOST_WAITING {
                    return Err(Violation::Stuck);
                }
                self.first.push_back(Frame::Pong(n));
            }
            Frame::Pong(n) => self.events.push_back(Event::Pong(n)),
        }
        if self.since_ack >= ACK_PIECE {
            self.acknowledge();
        }
        Ok(())
    }

    /// Tells the other side what arrived, so that it need not keep it any longer.
    pub fn acknowledge(&mut self) {
        self.ack_due |= self.frames_since_ack > 0;
        self.since_ack = 0;
    }

    fn handle_open(&mut self, id: u32, to: String) -> Result<(), Violation> {
        if self.side == Side::Opener || id != self.next {
            return Err(Violation::Unasked);
        }
        if self.streams.len() >= MOST_STREAMS {
            return Err(Violation::Streams);
        }
        self.next += 1;
        self.streams.insert(id, Stream::new(Phase::Asked));
        self.events.push_back(Event::Asked(id, to));
        Ok(())
    }

    fn handle_answer(&mut self, id: u32, event: Event) -> Result<(), Violation> {
        if self.side == Side::Acceptor {
            return Err(Violation::Order);
        }
        self.known(id)?;
        match self.streams.get_mut(&id) {
            Some(stream) if stream.phase == Phase::Asked => {
                stream.phase = Phase::Open;
                if stream.can_send() {
                    self.schedule.wake(id, &mut stream.turn);
                }
                self.events.push_back(event);
                Ok(())
            }
            Some(_) => Err(Violation::Order),
            // It was given up in between.
            None => Ok(()),
        }
    }

    /// A frame may be of a stream that ended here a moment ago, and never of one that there has not been.
    fn known(&self, id: u32) -> Result<(), Violation> {
        if id < self.next { Ok(()) } else { Err(Violation::Unasked) }
    }

    fn handle_data(&mut self, id: u32, data: Bytes) -> Result<(), Violation> {
        self.known(id)?;
        let Some(stream) = self.streams.get_mut(&id) else { return Ok(()) };
        if stream.finished || stream.phase == Phase::Asked {
            return Err(Violation::Order);
        }
        let length = u32::try_from(data.len()).map_err(|_| Violation::Flooded)?;
        stream.given = stream.given.checked_sub(length).ok_or(Violation::Flooded)?;
        self.events.push_back(Event::Data(id, data));
        Ok(())
    }

    fn handle_credit(&mut self, id: u32, more: u32) -> Result<(), Violation> {
        self.known(id)?;
        let Some(stream) = self.streams.get_mut(&id) else { return Ok(()) };
        let credit = stream.credit.checked_add(more).filter(|c| *c <= WINDOW && more > 0);
        stream.credit = credit.ok_or(Violation::Credit)?;
        if stream.can_send() {
            self.schedule.wake(id, &mut stream.turn);
        }
        Ok(())
    }

    fn handle_finish(&mut self, id: u32) -> Result<(), Violation> {
        self.known(id)?;
        let Some(stream) = self.streams.get_mut(&id) else { return Ok(()) };
        if stream.finished || stream.phase == Phase::Asked {
            return Err(Violation::Order);
        }
        stream.finished = true;
        self.events.push_back(Event::Finished(id));
        if stream.finish_sent {
            self.streams.remove(&id);
        }
        Ok(())
    }

    fn handle_ack(&mut self, n: u64) -> Result<(), Violation> {
        let newly = n.checked_sub(self.acked).filter(|_| n <= self.sent).ok_or(Violation::Ack)?;
        for _ in 0..newly {
            if let Some(frame) = self.unacked.pop_front() {
                self.unacked_bytes -= frame.len();
            }
        }
        self.again = self.again.min(self.unacked.len());
        self.acked = n;
        Ok(())
    }

    /// Asks for a stream; none where there are too many.
    pub fn open(&mut self, to: &str) -> Option<u32> {
        if self.side == Side::Acceptor || self.streams.len() >= MOST_STREAMS {
            return None;
        }
        let id = self.next;
        self.next += 1;
        self.streams.insert(id, Stream::new(Phase::Asked));
        self.first.push_back(Frame::Open(id, to.into()));
        Some(id)
    }

    /// Accepts a stream that was asked for.
    pub fn accept(&mut self, id: u32) {
        if let Some(stream) = self.streams.get_mut(&id)
            && stream.phase == Phase::Asked
        {
            stream.phase = Phase::Open;
            self.first.push_back(Frame::Opened(id));
            if stream.can_send() {
                self.schedule.wake(id, &mut stream.turn);
            }
        }
    }

    /// Does not open a stream that was asked for.
    pub fn refuse(&mut self, id: u32, why: &str) {
        if self.streams.remove(&id).is_some() {
            let why: String = why.chars().take(300).collect();
            self.first.push_back(Frame::Refused(id, why));
        }
    }

    /// Takes bytes for a stream; says how many it took, 0 while there is no room. None once the stream is over.
    pub fn send(&mut self, id: u32, data: &[u8]) -> Option<usize> {
        let stream = self.streams.get_mut(&id)?;
        if stream.finish {
            return None;
        }
        let room = OUT_ROOM.saturating_sub(stream.out_bytes);
        let Some(taken) = data.get(..room.min(data.len())).filter(|t| !t.is_empty()) else {
            stream.blocked = true;
            return Some(0);
        };
        for piece in taken.chunks(PIECE) {
            stream.out.push_back(Bytes::copy_from_slice(piece));
        }
        stream.out_bytes += taken.len();
        if stream.can_send() {
            self.schedule.wake(id, &mut stream.turn);
        }
        Some(taken.len())
    }

    /// Says that no more bytes come in this direction.
    pub fn finish(&mut self, id: u32) {
        if let Some(stream) = self.streams.get_mut(&id) {
            stream.finish = true;
            if stream.can_send() {
                self.schedule.wake(id, &mut stream.turn);
            }
        }
    }

    /// Nobody reads or writes a stream any more: what was written and finished is still sent where the other side has finished
    /// too; otherwise the stream is given up.
    pub fn release(&mut self, id: u32) {
        let drains = self.streams.get(&id).is_some_and(|s| s.finish && s.finished);
        if !drains {
            self.reset(id);
        }
    }

    /// Gives a stream up, in both directions.
    pub fn reset(&mut self, id: u32) {
        if self.streams.remove(&id).is_some() {
            self.first.push_back(Frame::Reset(id));
        }
    }

    /// The reader of a stream took so many bytes. Says whether there is something to be sent because of it.
    pub fn consumed(&mut self, id: u32, bytes: usize) -> bool {
        let Some(stream) = self.streams.get_mut(&id) else { return false };
        stream.taken = stream.taken.saturating_add(u32::try_from(bytes).unwrap_or(u32::MAX));
        let due = stream.taken >= CREDIT_PIECE && !stream.finished;
        if due {
            stream.given += stream.taken;
            self.first.push_back(Frame::Credit(id, stream.taken));
            stream.taken = 0;
        }
        due
    }

    /// Sends a message; false where it is too long, or too many wait.
    pub fn message(&mut self, bytes: Bytes) -> bool {
        let fits = bytes.len() <= MAX_CONTROL && self.messages < MOST_WAITING;
        if fits {
            self.messages += 1;
            self.first.push_back(Frame::Message(bytes));
        }
        fits
    }

    /// Asks for an answer, so that a dead connection is noticed.
    pub fn ping(&mut self, number: u64) {
        self.acknowledge();
        self.first.push_back(Frame::Ping(number));
    }

    /// What came in, oldest first.
    pub fn poll_event(&mut self) -> Option<Event> {
        self.events.pop_front()
    }

    /// The next frame to send.
    pub fn poll_frame(&mut self) -> Option<Bytes> {
        if std::mem::take(&mut self.ack_due) {
            self.frames_since_ack = 0;
            return Some(Frame::Ack(self.received).encode());
        }
        if self.again > 0 {
            let frame = self.unacked.get(self.unacked.len() - self.again).cloned();
            self.again -= 1;
            return frame;
        }
        if self.unacked_bytes >= MOST_UNACKED {
            // What is not counted goes all the same, or neither side would ever hear that there is room.
            let at = self.first.iter().position(|f| !f.counts())?;
            return self.first.remove(at).map(|f| f.encode());
        }
        if let Some(frame) = self.first.pop_front() {
            self.messages -= usize::from(matches!(frame, Frame::Message(_)));
            return Some(self.note_sent(&frame));
        }
        let frame = self.next_data()?;
        Some(self.note_sent(&frame))
    }

    fn note_sent(&mut self, frame: &Frame) -> Bytes {
        let bytes = frame.encode();
        if frame.counts() {
            self.sent += 1;
            self.unacked_bytes += bytes.len();
            self.unacked.push_back(bytes.clone());
        }
        bytes
    }

    fn next_data(&mut self) -> Option<Frame> {
        loop {
            let (id, fresh) = self.schedule.next()?;
            let Some(stream) = self.streams.get_mut(&id) else {
                self.schedule.skip(fresh);
                continue;
            };
            if stream.out_bytes == 0 || stream.credit == 0 {
                let last = stream.can_send();
                self.schedule.sent(fresh, &mut stream.turn, 0, false);
                if !last {
                    continue;
                }
                stream.finish_sent = true;
                if stream.finished {
                    self.streams.remove(&id);
                }
                return Some(Frame::Finish(id));
            }
            let data = stream.take_out()?;
            let more = stream.can_send();
            if stream.blocked && stream.out_bytes <= OUT_ROOM / 2 {
                stream.blocked = false;
                self.events.push_back(Event::Writable(id));
            }
            self.schedule.sent(fresh, &mut stream.turn, data.len(), more);
            return Some(Frame::Data(id, data));
        }
    }

    /// Goes on over another connection. `received` is what the other side says that it received.
    ///
    /// # Errors
    /// When that cannot be: the tunnel must begin anew.
    pub fn resume(&mut self, received: u64) -> Result<(), Violation> {
        self.handle_ack(received)?;
        self.again = self.unacked.len();
        // They belong to the connection that broke.
        self.first.retain(Frame::counts);
        self.ack_due = false;
        Ok(())
    }
}

impl Stream {
    fn take_out(&mut self) -> Option<Bytes> {
        let front = self.out.front_mut()?;
        let most = (self.credit as usize).min(front.len());
        let piece = if most == front.len() { self.out.pop_front()? } else { front.split_to(most) };
        self.out_bytes -= piece.len();
        self.credit -= u32::try_from(piece.len()).unwrap_or(0);
        Some(piece)
    }
}

#[cfg(test)]
mod tests;
