//! Carries the bytes of one channel between person and machine, and notes them.

use super::channel::measured;
use super::connection::{Connection, OpenSession};
use aerie_core::diagnostic::printable;
use aerie_core::evidence::{EventKind, NewEvent};
use aerie_core::policy::{Capabilities, Capability, Track};
use aerie_core::recording::{Frame, Transfer};
use aerie_core::session::{FileChange, SftpFilter, SftpOut, SftpRights};
use aerie_core::visit::ToShell;
use aerie_core::wording;
use bytes::Bytes;
use jiff::Timestamp;
use russh::client::Msg as ClientMsg;
use russh::server::Msg as ServerMsg;
use russh::{Channel, ChannelMsg, ChannelReadHalf, ChannelWriteHalf, Sig};
use std::sync::Arc;
use std::sync::atomic::{AtomicU64, Ordering};
use std::time::Duration;
use tokio::sync::{Mutex, mpsc};
use tokio_util::sync::CancellationToken;

/// How much output of a stream without a terminal is recorded where the rules do not demand it; of what follows only the length. A
/// terminal is recorded whole, and so is a stream whose track is demanded.
const STREAM_KEPT: u64 = 256 << 10;
/// How long the machine's end of output is held back for the exit status behind it: a client that shares a connection closes its
/// channel at the end of output, and would not wait.
const STATUS_FOLLOWS: Duration = Duration::from_millis(250);
/// How long the machine gets to say how it ended when the client closed the channel.
const LAST_WORDS: Duration = Duration::from_secs(2);

/// What is needed to carry a channel.
pub(super) struct Carrier {
    pub(super) connection: Arc<Connection>,
    pub(super) session: Arc<OpenSession>,
    pub(super) number: u32,
    /// Columns and rows, where it is a terminal.
    pub(super) terminal: Option<(u16, u16)>,
    pub(super) files: Option<Files>,
    pub(super) content: Content,
    /// Each is cancelled when one of the things that it is used for may go on no longer; with the last of them it is over.
    pub(super) uses: Vec<CancellationToken>,
}

/// What goes by.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub(super) enum Content {
    /// A terminal, or what a command reads and writes.
    Stream,
    /// Files, in a form that can do nothing else.
    Copy,
    /// A connection to a port.
    Port,
}

/// A file transfer: its filter, and what ends each right.
pub(super) struct Files {
    filter: SftpFilter,
    uses: Vec<(Capability, CancellationToken)>,
}

impl Files {
    pub(super) fn new(uses: &[(Capability, CancellationToken)]) -> Self {
        let rights = SftpRights::of(Capabilities::of(uses.iter().map(|(c, _)| *c)));
        Self { filter: SftpFilter::new(rights), uses: uses.to_vec() }
    }

    /// The filter, with the rights of this moment.
    fn filter(&mut self) -> &mut SftpFilter {
        let now = self.uses.iter().filter(|(_, over)| !over.is_cancelled()).map(|(c, _)| *c);
        self.filter.handle_rights(SftpRights::of(Capabilities::of(now)));
        &mut self.filter
    }
}

/// What is heard of the machine.
enum Heard {
    Message(ChannelMsg),
    /// Nothing followed the end of its output yet.
    Late,
    End,
}

/// Both directions share this.
struct Shared<'a> {
    connection: &'a Connection,
    session: &'a OpenSession,
    number: u32,
    terminal: bool,
    content: Content,
    files: Option<Mutex<Files>>,
    /// Packets to the person are written whole: refusals come from the other direction.
    turn: Mutex<()>,
    passed_out: AtomicU64,
    passed_in: AtomicU64,
    /// The client closed the channel.
    left: CancellationToken,
    /// It is over: both sides are done, or it may go on no longer.
    over: CancellationToken,
}

/// Carries a channel whose start was asked of the machine: waits for its answer first.
pub(super) async fn carry(carrier: Carrier, read: ChannelReadHalf, write: &ChannelWriteHalf<ServerMsg>, mut target: Channel<ClientMsg>) {
    let (ended, closed) = (carrier.session.live.ended.clone(), carrier.connection.closed.clone());
    loop {
        let message = tokio::select! { m = target.wait() => m, () = ended.cancelled() => None, () = closed.cancelled() => None };
        match message {
            Some(ChannelMsg::Success) => break,
            Some(ChannelMsg::WindowAdjusted { .. }) => {}
            _ => {
                carrier.session.parting().await;
                if !ended.is_cancelled() {
                    let _ = write.extended_data_bytes(1, "aerie: The machine refused it.\r\n").await;
                    let _ = write.exit_status(1).await;
                }
                let _ = write.close().await;
                return;
            }
        }
    }
    carry_started(carrier, read, write, target).await;
}

/// Carries a channel to its end.
pub(super) async fn carry_started(
    carrier: Carrier,
    read: ChannelReadHalf,
    write: &ChannelWriteHalf<ServerMsg>,
    target: Channel<ClientMsg>,
) {
    let Carrier { connection, session, number, terminal, files, content, uses } = carrier;
    let (target_read, target_write) = target.split();
    let shared = Shared {
        connection: &connection,
        session: &session,
        number,
        terminal: terminal.is_some(),
        content,
        files: files.map(Mutex::new),
        turn: Mutex::new(()),
        passed_out: AtomicU64::new(0),
        passed_in: AtomicU64::new(0),
        left: CancellationToken::new(),
        over: session.live.ended.child_token(),
    };
    let typed = terminal.map(|size| session.live.stage.open(number, size));
    // The two directions end by themselves: a client that closes has said all that it will say, and may still be told how it ended.
    let inward = async {
        shared.inward(read, write, &target_write, typed).await;
        let _ = target_write.close().await;
        shared.left.cancel();
    };
    let outward = async {
        let status = shared.outward(target_read, write).await;
        session.parting().await;
        let _ = write.close().await;
        shared.over.cancel();
        status
    };
    let unused = async {
        for over in &uses {
            over.cancelled().await;
        }
        shared.over.cancel();
    };
    let status = {
        let carried = async { tokio::join!(inward, outward).1 };
        tokio::pin!(carried);
        tokio::select! {
            status = &mut carried => status,
            () = unused => carried.await,
        }
    };
    session.live.stage.close(number);
    shared.finish(status).await;
}

impl Shared<'_> {
    /// The next message, or none when the channel is over.
    async fn next(&self, read: &mut ChannelReadHalf) -> Option<ChannelMsg> {
        tokio::select! {
            biased;
            message = read.wait() => message,
            () = self.over.cancelled() => None,
        }
    }

    /// The next message of the machine. Where the client left, it gets a moment for its last words; where the end of its output is
    /// held back, [`Heard::Late`] comes when nothing followed it soon.
    async fn hear(&self, read: &mut ChannelReadHalf, holding: bool) -> Heard {
        let last_words = async {
            self.left.cancelled().await;
            tokio::time::sleep(LAST_WORDS).await;
        };
        tokio::select! {
            biased;
            message = read.wait() => message.map_or(Heard::End, Heard::Message),
            () = self.over.cancelled() => Heard::End,
            () = self.connection.closed.cancelled() => Heard::End,
            () = last_words => Heard::End,
            () = tokio::time::sleep(STATUS_FOLLOWS), if holding => Heard::Late,
        }
    }

    /// Writes, unless the channel is over first: a peer that does not read must not hold its end.
    async fn unless_over<T>(&self, write: impl Future<Output = T>) -> bool {
        tokio::select! {
            biased;
            _ = write => true,
            () = self.over.cancelled() => false,
        }
    }

    /// From the person to the machine.
    async fn inward(
        &self,
        mut read: ChannelReadHalf,
        back: &ChannelWriteHalf<ServerMsg>,
        target: &ChannelWriteHalf<ClientMsg>,
        mut typed: Option<mpsc::Receiver<ToShell>>,
    ) {
        loop {
            let message = tokio::select! {
                biased;
                message = self.next(&mut read) => message,
                Some(data) = guests_type(&mut typed) => {
                    if !self.data_inward(data, back, target).await {
                        return;
                    }
                    continue;
                }
            };
            let Some(message) = message else { return };
            let go_on = match message {
                // While somebody else has the keyboard, a key of the person takes it back, and does nothing else.
                ChannelMsg::Data { .. } if self.terminal && self.session.live.stage.give_keyboard(None) => {
                    super::life::notice(self.connection, self.session, "You type again.").await;
                    true
                }
                ChannelMsg::Data { data } => self.data_inward(data, back, target).await,
                ChannelMsg::WindowChange { col_width, row_height, pix_width, pix_height } => {
                    let (columns, rows) = measured(col_width, row_height);
                    if self.terminal {
                        self.session.live.stage.resize(self.number, columns, rows);
                    }
                    if let Some(recording) = self.session.recording.as_ref().filter(|_| self.terminal) {
                        recording.frame(self.number, Frame::Size(columns, rows)).await;
                    }
                    target.window_change(col_width, row_height, pix_width, pix_height).await.is_ok()
                }
                ChannelMsg::Signal { signal } => target.signal(signal).await.is_ok(),
                ChannelMsg::Eof => target.eof().await.is_ok(),
                ChannelMsg::Eow => target.eow().await.is_ok(),
                ChannelMsg::Close => false,
                _ => true,
            };
            if !go_on {
                return;
            }
        }
    }

    async fn data_inward(&self, data: Bytes, back: &ChannelWriteHalf<ServerMsg>, target: &ChannelWriteHalf<ClientMsg>) -> bool {
        self.session.live.note_in(data.len(), Timestamp::now().as_millisecond());
        if let Some(files) = &self.files {
            let Ok(out) = files.lock().await.filter().handle_client(&data) else { return false };
            return self.deliver(out, Some(back), |pass| target.data_bytes(pass)).await;
        }
        match &self.session.recording {
            Some(recording) if self.terminal => recording.typed(self.number, data.clone()).await,
            Some(recording) if self.content == Content::Stream && self.session.demands(Track::Input) => {
                recording.frame(self.number, Frame::Input(data.to_vec())).await;
                self.passed_in.fetch_add(data.len() as u64, Ordering::Relaxed);
            }
            Some(_) | None => drop(self.passed_in.fetch_add(data.len() as u64, Ordering::Relaxed)),
        }
        self.unless_over(target.data_bytes(data)).await
    }

    /// From the machine to the person. Returns the exit status.
    async fn outward(&self, mut read: ChannelReadHalf, write: &ChannelWriteHalf<ServerMsg>) -> Option<u32> {
        let (mut status, mut holding) = (None, false);
        loop {
            let message = match self.hear(&mut read, holding).await {
                Heard::Message(message) => message,
                Heard::End => break,
                Heard::Late => {
                    holding = false;
                    if write.eof().await.is_err() {
                        break;
                    }
                    continue;
                }
            };
            let go_on = match message {
                ChannelMsg::Data { data } => self.data_outward(data, write).await,
                ChannelMsg::ExtendedData { data, ext } => {
                    self.note_output(&data, true).await;
                    self.unless_over(write.extended_data_bytes(ext, data)).await
                }
                ChannelMsg::ExitStatus { exit_status } => {
                    status = Some(exit_status);
                    write.exit_status(exit_status).await.is_ok()
                }
                ChannelMsg::ExitSignal { signal_name, core_dumped, error_message, lang_tag } => {
                    status = Some(128 + number_of(&signal_name));
                    match self.connection.handle() {
                        Some(h) => h.exit_signal_request(write.id(), signal_name, core_dumped, error_message, lang_tag).await.is_ok(),
                        None => false,
                    }
                }
                // The exit status goes first.
                ChannelMsg::Eof => {
                    holding = status.is_none() && self.content != Content::Port;
                    holding || write.eof().await.is_ok()
                }
                ChannelMsg::Close => false,
                _ => true,
            };
            if !go_on {
                break;
            }
            if holding && status.is_some() {
                holding = false;
                if write.eof().await.is_err() {
                    break;
                }
            }
        }
        if holding {
            let _ = write.eof().await;
        }
        status
    }

    async fn data_outward(&self, data: Bytes, write: &ChannelWriteHalf<ServerMsg>) -> bool {
        if let Some(files) = &self.files {
            self.session.live.note_out(data.len(), Timestamp::now().as_millisecond(), false);
            let Ok(out) = files.lock().await.filter().handle_server(&data) else { return false };
            let turn = self.turn.lock().await;
            let done = self.deliver(out, None, |pass| write.data_bytes(pass)).await;
            drop(turn);
            return done;
        }
        self.note_output(&data, false).await;
        self.unless_over(write.data_bytes(data)).await
    }

    async fn note_output(&self, data: &Bytes, error: bool) {
        self.session.live.note_out(data.len(), Timestamp::now().as_millisecond(), self.terminal);
        if self.terminal {
            self.session.live.stage.handle_output(self.number, data);
        }
        let Some(recording) = &self.session.recording else { return };
        if !self.terminal {
            let before = self.passed_out.fetch_add(data.len() as u64, Ordering::Relaxed);
            let whole = self.content == Content::Stream && self.session.demands(Track::Terminal);
            if before >= STREAM_KEPT && !whole {
                return;
            }
        }
        if error {
            recording.frame(self.number, Frame::ErrorOutput(data.to_vec())).await;
        } else {
            recording.output(self.number, data.clone()).await;
        }
    }

    /// Passes on what the filter let through, answers what it refused, and notes what was copied.
    async fn deliver<F: Future>(&self, out: SftpOut, back: Option<&ChannelWriteHalf<ServerMsg>>, pass: impl FnOnce(Vec<u8>) -> F) -> bool {
        let SftpOut { pass: packets, back: answers, transfers, changes, used } = out;
        // Evidence first: what is passed on below is in the log.
        self.connection.note_use(self.session, used).await;
        for transfer in transfers {
            self.note_transfer(transfer).await;
        }
        for change in changes {
            self.note_change(change).await;
        }
        if let Some(write) = back.filter(|_| !answers.is_empty()) {
            let _turn = self.turn.lock().await;
            if !self.unless_over(write.data_bytes(answers)).await {
                return false;
            }
        }
        packets.is_empty() || self.unless_over(pass(packets)).await
    }

    async fn note_transfer(&self, transfer: Transfer) {
        let (person, machine) = (self.connection.person.person(), &self.session.machine);
        let path = printable(&transfer.path);
        let (verb, to) = if transfer.direction == "upload" { ("copied", "to") } else { ("copied", "from") };
        let size = wording::size(transfer.bytes);
        let sentence = match transfer.result.as_str() {
            "done" => format!("{person} {verb} {path} {to} {machine} ({size})."),
            "refused" => format!("The rules kept {person} from the {} of {path} on {machine}.", transfer.direction),
            result => format!("{person} began to copy {path} {to} {machine}; it was {result} after {size}."),
        };
        let event = NewEvent::new(Timestamp::now(), EventKind::FileTransferred, person)
            .machine(machine)
            .session(&self.session.live.id)
            .says(sentence)
            .with("path", path)
            .with("direction", transfer.direction.clone())
            .with("bytes", transfer.bytes)
            .with("result", transfer.result.clone());
        self.connection.app.note(event).await;
        if let Some(recording) = &self.session.recording {
            recording.frame(self.number, Frame::File(transfer)).await;
        }
    }

    async fn note_change(&self, change: FileChange) {
        let (person, machine) = (self.connection.person.person(), &self.session.machine);
        let FileChange { act, path, to, result } = change;
        let (path, to) = (printable(&path), to.map(|to| printable(&to)));
        let what = match &to {
            Some(to) => format!("{act} {path} to {to}"),
            None => format!("{act} {path}"),
        };
        let sentence = match result {
            "refused" => format!("{person} was refused a change on {machine}: {what}."),
            "failed" => format!("{person} tried a change on {machine} that failed: {what}."),
            _ => format!("{person} {what} on {machine}."),
        };
        let mut event = NewEvent::new(Timestamp::now(), EventKind::FileChanged, person)
            .machine(machine)
            .session(&self.session.live.id)
            .says(sentence.clone())
            .with("act", act)
            .with("path", path)
            .with("result", result);
        if let Some(to) = to {
            event = event.with("to", to);
        }
        self.connection.app.note(event).await;
        if let Some(recording) = &self.session.recording {
            recording.frame(self.number, Frame::Mark(sentence)).await;
        }
    }

    async fn finish(self, status: Option<u32>) {
        let (out, input) = (self.passed_out.load(Ordering::Relaxed), self.passed_in.load(Ordering::Relaxed));
        if let Some(recording) = &self.session.recording {
            if !self.terminal && self.files.is_none() {
                recording.frame(self.number, Frame::Passed(out, input)).await;
            }
            recording.frame(self.number, Frame::Closed(status)).await;
        }
        let left = self.files.map(|f| f.into_inner().filter.finish()).unwrap_or_default();
        let rest = Shared { files: None, ..self };
        for transfer in left {
            rest.note_transfer(transfer).await;
        }
    }
}

/// What a guest types; never where nobody can. The size of the terminal is that of the person's own.
async fn guests_type(typed: &mut Option<mpsc::Receiver<ToShell>>) -> Option<Bytes> {
    let Some(typed) = typed else { return std::future::pending().await };
    loop {
        match typed.recv().await? {
            ToShell::Typed(bytes) => return Some(bytes.into()),
            ToShell::Size(..) => {}
        }
    }
}

/// The number of a signal on Linux, as a shell adds it to 128.
fn number_of(signal: &Sig) -> u32 {
    match signal {
        Sig::HUP => 1,
        Sig::INT => 2,
        Sig::QUIT => 3,
        Sig::ILL => 4,
        Sig::ABRT => 6,
        Sig::FPE => 8,
        Sig::KILL => 9,
        Sig::SEGV => 11,
        Sig::PIPE => 13,
        Sig::ALRM => 14,
        Sig::TERM => 15,
        Sig::USR1 => 10,
        Sig::Custom(_) => 0,
    }
}
