//! One channel of a connection: reads what is asked, decides, and carries it to the machine.

use super::admission::attend;
use super::carry::{self, Carrier, Content, Files};
use super::connection::{Admitted, Connection, Forwarded, NotBegun, OpenSession, lock};
use super::{FIRST_WINDOW, WINDOW};
use crate::machines::{Steps, neighbours};
use aerie_core::diagnostic::printable;
use aerie_core::evidence::{EventKind, NewEvent};
use aerie_core::policy::{Capability, Decision, ForwardTarget, Outcome, Refusal, Request};
use aerie_core::recording::{Frame, Opened};
use aerie_core::session::{Asked, SftpRefusal, classify};
use jiff::Timestamp;
use russh::server::{ChannelOpenHandle, Msg};
use russh::{Channel, ChannelMsg, ChannelOpenFailure, ChannelReadHalf, ChannelWriteHalf, Pty};
use std::sync::Arc;
use std::sync::atomic::Ordering;
use std::time::Duration;
use tokio::sync::{OwnedSemaphorePermit, Semaphore};
use tokio_util::sync::CancellationToken;

/// Environment variables of one channel at most, and their bytes in all.
const MOST_VARIABLES: usize = 64;
const MAX_ENVIRONMENT: usize = 16 << 10;
/// How long a client of a refused file transfer gets to read the refusal.
const REFUSING: Duration = Duration::from_secs(10);
/// Longest command that is passed on.
const MAX_COMMAND: usize = 128 << 10;

/// A terminal as the client asked for it.
struct Terminal {
    term: String,
    columns: u32,
    rows: u32,
    pixels: (u32, u32),
    modes: Vec<(Pty, u32)>,
}

/// What was asked before the channel is put to use.
#[derive(Default)]
struct Setup {
    terminal: Option<Terminal>,
    environment: Vec<(String, String)>,
    bytes: usize,
    /// The client offers its authentication agent.
    agent: bool,
    /// It offers its display.
    x11: bool,
}

/// What the channel is used for.
pub(super) enum Use {
    Shell,
    Command(Vec<u8>),
    Files,
}

/// How a use that was allowed is carried.
enum Way {
    /// As it is.
    Stream,
    /// A copy over `exec`, by this command line in place of the client's.
    Copy(Vec<u8>),
    /// Through the filter, with what each capability allows.
    Files,
}

/// What was allowed.
struct Allowed {
    uses: Vec<Admitted>,
    way: Way,
}

/// Serves a session channel to its end.
pub(super) async fn serve(connection: Arc<Connection>, channel: Channel<Msg>) {
    let (mut read, write) = channel.split();
    let mut setup = Setup::default();
    let using = loop {
        let Some(message) = read.wait().await else { return };
        match message {
            ChannelMsg::RequestPty { term, col_width, row_height, pix_width, pix_height, terminal_modes, .. } => {
                let modes = terminal_modes.into_iter().take(256).collect();
                setup.terminal = Some(Terminal { term, columns: col_width, rows: row_height, pixels: (pix_width, pix_height), modes });
            }
            ChannelMsg::WindowChange { col_width, row_height, .. } => {
                if let Some(t) = &mut setup.terminal {
                    (t.columns, t.rows) = (col_width, row_height);
                }
            }
            ChannelMsg::SetEnv { variable_name, variable_value, .. } => setup.add_variable(variable_name, variable_value),
            ChannelMsg::AgentForward { .. } => setup.agent = true,
            ChannelMsg::RequestX11 { .. } => setup.x11 = true,
            ChannelMsg::RequestShell { .. } => break Use::Shell,
            ChannelMsg::Exec { command, .. } => break Use::Command(command),
            ChannelMsg::RequestSubsystem { name, .. } if name == "sftp" => break Use::Files,
            ChannelMsg::RequestSubsystem { .. } => {
                return refuse(&write, &NotBegun::Refused("Of subsystems only sftp is carried.".into())).await;
            }
            ChannelMsg::Close => {
                let _ = write.close().await;
                return;
            }
            _ => {}
        }
    };
    let not_carried = [
        (setup.agent, "Agent forwarding (-A)"),
        (setup.x11, "X11 forwarding (-X)"),
        (connection.refuses_remote.swap(false, Ordering::Relaxed), "Remote port forwarding (-R)"),
    ];
    for (_, what) in not_carried.iter().filter(|(asked, _)| *asked) {
        let _ = write.extended_data_bytes(1, format!("aerie: {what} is not carried.\r\n")).await;
    }
    let files = matches!(using, Use::Files);
    let (read, result) = begin(&connection, read, &write, setup, using).await;
    match (result, read) {
        (Err(not), Some(read)) if files => refuse_files(read, &write, &not).await,
        (Err(not), _) => refuse(&write, &not).await,
        (Ok(()), _) => {}
    }
}

impl Setup {
    fn add_variable(&mut self, name: String, value: String) {
        self.bytes += name.len() + value.len();
        if self.environment.len() < MOST_VARIABLES && self.bytes <= MAX_ENVIRONMENT {
            self.environment.push((name, value));
        }
    }
}

/// Refuses in a sentence that the client shows to its user.
async fn refuse(write: &ChannelWriteHalf<Msg>, not: &NotBegun) {
    let _ = write.extended_data_bytes(1, format!("aerie: {}\r\n", not.why())).await;
    let _ = write.exit_status(not.status()).await;
    let _ = write.eof().await;
    let _ = write.close().await;
}

/// Refuses a file transfer: libraries and graphical clients never show what comes beside it, so that the answers say why.
async fn refuse_files(mut read: ChannelReadHalf, write: &ChannelWriteHalf<Msg>, not: &NotBegun) {
    let _ = write.extended_data_bytes(1, format!("aerie: {}\r\n", not.why())).await;
    let mut refusal = SftpRefusal::default();
    let answering = async {
        while let Some(message) = read.wait().await {
            match message {
                ChannelMsg::Data { data } => {
                    let Ok(back) = refusal.handle_client(&data, not.why()) else { return };
                    if write.data_bytes(back).await.is_err() {
                        return;
                    }
                }
                ChannelMsg::Eof | ChannelMsg::Close => return,
                _ => {}
            }
        }
    };
    let _ = tokio::time::timeout(REFUSING, answering).await;
    let _ = write.exit_status(not.status()).await;
    let _ = write.eof().await;
    let _ = write.close().await;
}

/// The proof of access for a use, and how it is carried. Whoever must be asked first is asked, where nothing else would do.
async fn authorise(connection: &Arc<Connection>, using: &Use, steps: &Steps) -> Result<Allowed, String> {
    let one = |admitted, way| Allowed { uses: vec![admitted], way };
    match using {
        Use::Shell => Ok(one(connection.admit(Capability::Shell, steps).await?, Way::Stream)),
        Use::Command(command) if command.len() > MAX_COMMAND => Err(format!("The command is longer than {MAX_COMMAND} bytes.")),
        Use::Command(command) => match classify(command) {
            Asked::Command => Ok(one(connection.admit(Capability::Exec, steps).await?, Way::Stream)),
            Asked::Copy(copy) => {
                let (exec, down) = (connection.may(Capability::Exec), connection.may(Capability::Download));
                let line = copy.command_line(exec || down);
                // Who may run commands may run this one; the right to copy is the smaller, and comes first.
                match line {
                    Some(line) if !exec || connection.may(copy.direction()) => {
                        Ok(one(connection.admit(copy.direction(), steps).await?, Way::Copy(line)))
                    }
                    Some(_) | None => Ok(one(connection.admit(Capability::Exec, steps).await?, Way::Stream)),
                }
            }
        },
        Use::Files => files(connection, steps).await,
    }
}

/// The rights of a file transfer: those to copy that there are at once; where there is none, to list; where not that either, what is
/// to be had by asking.
async fn files(connection: &Arc<Connection>, steps: &Steps) -> Result<Allowed, String> {
    const COPIES: [Capability; 2] = [Capability::Download, Capability::Upload];
    let mut uses = vec![];
    for capability in COPIES.into_iter().filter(|c| connection.may(*c)) {
        uses.push(Admitted { granted: connection.authorise(capability).await?, consenting: None });
    }
    if uses.is_empty() {
        let mut nothing = vec![];
        for capability in [Capability::Browse].into_iter().chain(COPIES) {
            let Some(machine) = connection.login.machine.as_deref() else { break };
            let (mut unmet, mut no_rule) = (false, false);
            let look = |d: &Decision, _: &Request<'_>, _: &str| {
                unmet = !matches!(d.outcome, Outcome::Refused(_));
                no_rule = matches!(d.outcome, Outcome::Refused(Refusal::NoRule));
            };
            let why = connection.decide(machine, &capability.into(), look).await?;
            if unmet {
                return Ok(Allowed { uses: vec![connection.admit(capability, steps).await?], way: Way::Files });
            }
            nothing.push((no_rule, why));
        }
        return Err(match nothing.iter().rfind(|(no_rule, _)| !no_rule) {
            Some((_, why)) => why.clone(),
            None => format!("No rule lets you list or copy files on {}.", connection.login.machine.as_deref().unwrap_or("a machine")),
        });
    }
    Ok(Allowed { uses, way: Way::Files })
}

/// Begins and carries it to its end. Gives the reading half back where it did not begin.
async fn begin(
    connection: &Arc<Connection>,
    read: ChannelReadHalf,
    write: &ChannelWriteHalf<Msg>,
    setup: Setup,
    using: Use,
) -> (Option<ChannelReadHalf>, Result<(), NotBegun>) {
    let setting_up = async {
        let _turn = connection.channels.set_up_session().await;
        begun(connection, &using, write, setup.terminal.is_some()).await
    };
    let begun = tokio::select! {
        begun = setting_up => begun,
        () = connection.closed.cancelled() => return (None, Ok(())),
    };
    let begun = match begun {
        Ok(begun) => begun,
        Err(not) => return (Some(read), Err(not)),
    };
    // What the client may send before anybody takes it is little.
    let _ = write.widen(WINDOW - FIRST_WINDOW).await;
    let session = begun.session.clone();
    let started = start(connection, begun, (read, write), setup, using).await;
    // Whoever was shown out in the middle of this is told so, and not what failed because of it.
    (None, started.map_err(|not| super::life::ended_saying(&session).map_or(not, NotBegun::Refused)))
}

/// A use that began.
struct Begun {
    session: Arc<OpenSession>,
    way: Way,
    /// What ends each of its capabilities.
    uses: Vec<(Capability, CancellationToken)>,
}

async fn start(
    connection: &Arc<Connection>,
    begun: Begun,
    (read, write): (ChannelReadHalf, &ChannelWriteHalf<Msg>),
    setup: Setup,
    using: Use,
) -> Result<(), NotBegun> {
    let Begun { session, way, uses } = begun;
    let failed = |_| NotBegun::Unavailable("The machine broke off.".to_string());
    let target = session.ssh()?.handle.channel_open_session().await;
    let target = target.map_err(|_| NotBegun::Unavailable("The machine opens no further channel.".to_string()))?;
    for (name, value) in &setup.environment {
        target.set_env(false, name, value).await.map_err(failed)?;
    }
    // A copy speaks its own protocol: a terminal would spoil it.
    let terminal = setup.terminal.as_ref().filter(|_| matches!(way, Way::Stream));
    if let Some(t) = terminal {
        target.request_pty(false, &t.term, t.columns, t.rows, t.pixels.0, t.pixels.1, &t.modes).await.map_err(failed)?;
    }
    match (&using, &way) {
        (_, Way::Files) => target.request_subsystem(true, "sftp").await,
        (_, Way::Copy(line)) => target.exec(true, line.as_slice()).await,
        (Use::Command(command), Way::Stream) => target.exec(true, command.as_slice()).await,
        (Use::Shell | Use::Files, Way::Stream) => target.request_shell(true).await,
    }
    .map_err(failed)?;
    let number = u32::from(write.id());
    let opened = opened(&using, &way, terminal.is_some());
    note_opened(connection, &session, &opened).await;
    let size = terminal.map(|t| measured(t.columns, t.rows));
    if let Some(recording) = &session.recording {
        recording.frame(number, Frame::Opened(opened)).await;
        if let Some((columns, rows)) = size {
            recording.frame(number, Frame::Size(columns, rows)).await;
        }
    }
    let files = matches!(way, Way::Files).then(|| Files::new(&uses));
    if files.is_none() {
        lock(&session.readers).push(write.id());
        // One that was ended before this channel could be told anything says why here.
        if let Some(why) = super::life::ended_saying(&session) {
            lock(&session.readers).retain(|id| *id != write.id());
            return Err(NotBegun::Refused(why));
        }
    }
    if size.is_some() {
        greet(connection, write).await;
    }
    let content = match way {
        Way::Stream => Content::Stream,
        Way::Copy(_) | Way::Files => Content::Copy,
    };
    let uses = uses.into_iter().map(|(_, over)| over).collect();
    let carrier = Carrier { connection: connection.clone(), session: session.clone(), number, terminal: size, files, content, uses };
    session.carriers.track_future(carry::carry(carrier, read, write, target)).await;
    lock(&session.readers).retain(|id| *id != write.id());
    Ok(())
}

/// The session, begun if need be. Whoever waits at a terminal sees each step, in one line that is gone when it is done.
async fn begun(connection: &Arc<Connection>, using: &Use, write: &ChannelWriteHalf<Msg>, terminal: bool) -> Result<Begun, NotBegun> {
    let (steps, mut said) = Steps::new();
    let setting_up = async {
        let Allowed { uses: admitted, way } = authorise(connection, using, &steps).await?;
        let mut begun: Option<Begun> = None;
        for Admitted { granted, consenting } in admitted {
            let capability = granted.capability();
            // What files are used for, the transfer itself tells.
            let session = match way {
                Way::Files => connection.hold(&granted, &steps).await?,
                Way::Stream | Way::Copy(_) => connection.session(&granted, &steps).await?,
            };
            let over = session.live.ended.child_token();
            lock(&session.uses).push((capability, over.clone()));
            attend(connection, &session, consenting).await;
            match &mut begun {
                Some(begun) => begun.uses.push((capability, over)),
                None => begun = Some(Begun { session, way: Way::Stream, uses: vec![(capability, over)] }),
            }
        }
        let begun = begun.ok_or_else(|| NotBegun::Refused("Nothing of it is allowed.".into()))?;
        Ok(Begun { way, ..begun })
    };
    tokio::pin!(setting_up);
    let mut shown = false;
    let session = loop {
        tokio::select! {
            biased;
            session = &mut setting_up => break session,
            // A program that reads standard error is told of waits alone.
            Some(step) = said.recv() => if !terminal {
                if step.starts_with("waiting") {
                    let _ = write.extended_data_bytes(1, format!("aerie: {step}\r\n")).await;
                }
            } else {
                shown = true;
                let _ = write.extended_data_bytes(1, format!("\r\x1b[Kaerie: {step} …")).await;
            }
        }
    };
    if shown {
        let _ = write.extended_data_bytes(1, "\r\x1b[K").await;
    }
    session
}

/// The message of the day, for somebody who reads it.
async fn greet(connection: &Connection, write: &ChannelWriteHalf<Msg>) {
    let settings = connection.app.settings();
    let message = settings.text(aerie_core::settings::Setting::Message);
    if !message.is_empty() {
        let text = message.replace('\n', "\r\n") + "\r\n\r\n";
        // Whoever has gone reads nothing.
        let _ = write.extended_data_bytes(1, text.into_bytes()).await;
    }
}

/// What a terminal is held to measure: sizes of zero are none (RFC 4254 section 6.2).
pub(super) fn measured(columns: u32, rows: u32) -> (u16, u16) {
    let side = |n: u32, usual: u16| if n == 0 { usual } else { u16::try_from(n).unwrap_or(u16::MAX) };
    (side(columns, 80), side(rows, 24))
}

fn opened(using: &Use, way: &Way, terminal: bool) -> Opened {
    let shown = |line: &[u8]| Some(printable(&String::from_utf8_lossy(line)).chars().take(2000).collect());
    let (kind, command) = match (using, way) {
        (_, Way::Files) => ("sftp", None),
        // What is sent is what counts, and not what was asked for.
        (_, Way::Copy(line)) => ("exec", shown(line)),
        (Use::Command(command), Way::Stream) => ("exec", shown(command)),
        (Use::Shell | Use::Files, Way::Stream) => ("shell", None),
    };
    Opened { kind: kind.into(), command, terminal }
}

async fn note_opened(connection: &Connection, session: &OpenSession, opened: &Opened) {
    let person = connection.person.person();
    let what = match (opened.kind.as_str(), &opened.command) {
        ("exec", Some(command)) => format!("ran `{command}`"),
        ("sftp", _) => "began a file transfer".into(),
        ("forward", Some(to)) => format!("forwarded a port to {to}"),
        _ => "opened a shell".into(),
    };
    let mut event = NewEvent::new(Timestamp::now(), EventKind::ChannelOpened, person)
        .machine(&session.machine)
        .session(&session.live.id)
        .says(format!("{person} {what} on {}.", session.machine))
        .with("kind", opened.kind.clone());
    if let Some(command) = &opened.command {
        event = event.with("command", command.clone());
    }
    connection.app.note(event).await;
}

/// Serves a forwarded port (`ssh -L`): the machine opens the connection. `place` is held while the channel is there.
pub(super) async fn forward(
    connection: Arc<Connection>,
    channel: Channel<Msg>,
    to: (String, u32),
    origin: (String, u32),
    reply: ChannelOpenHandle,
    place: ChannelPlace,
) {
    let prohibited = |why: &str| {
        // Clients show this text; RFC 4254 section 5.1 numbers the reasons.
        let reason: String = printable(why).chars().take(400).collect();
        ChannelOpenFailure::Other { code: 1, reason }
    };
    let opened = async {
        let _turn = connection.channels.set_up_forward().await;
        let to = ForwardTarget::new(&to.0, to.1).map_err(|e| prohibited(&format!("This port cannot be forwarded: {e}.")))?;
        let (session, forwarded) = forwarding(&connection, to, None).await.map_err(|not| prohibited(not.why()))?;
        let link = session.ssh().map_err(|_| ChannelOpenFailure::ConnectFailed)?;
        // What was decided is what is sent, and not what was asked for.
        let (host, port) = (forwarded.real.host(), forwarded.real.port());
        match link.handle.channel_open_direct_tcpip(host, port.into(), &origin.0, origin.1).await {
            Ok(target) => Ok((session, target, forwarded)),
            Err(_) => {
                session.forget_forward(&forwarded);
                Err(ChannelOpenFailure::ConnectFailed)
            }
        }
    };
    let opened = tokio::select! {
        opened = opened => opened,
        () = connection.closed.cancelled() => return,
    };
    let (session, target, forwarded) = match opened {
        Ok(all) => all,
        Err(failure) => return reply.reject(failure).await,
    };
    reply.accept().await;
    let (read, write) = channel.split();
    let _ = write.widen(WINDOW - FIRST_WINDOW).await;
    let number = u32::from(write.id());
    let opened = Opened { kind: "forward".into(), command: Some(forwarded.to_string()), terminal: false };
    note_opened(&connection, &session, &opened).await;
    if let Some(recording) = &session.recording {
        recording.frame(number, Frame::Opened(opened)).await;
    }
    let carrier = Carrier {
        connection,
        session: session.clone(),
        number,
        terminal: None,
        files: None,
        content: Content::Port,
        uses: vec![forwarded.over.clone()],
    };
    session.carriers.track_future(carry::carry_started(carrier, read, &write, target)).await;
    session.forget_forward(&forwarded);
    drop(place);
}

/// The session in which a port may be forwarded, begun if need be. Where another machine is known to be reached there, the rules for
/// that one count as well. `own` is decided about in place of the target.
pub(super) async fn forwarding(
    connection: &Arc<Connection>,
    real: ForwardTarget,
    own: Option<ForwardTarget>,
) -> Result<(Arc<OpenSession>, Forwarded), NotBegun> {
    let steps = Steps::default();
    let machine = connection.login.machine.clone().unwrap_or_default();
    let target = connection.consents.hold(own.unwrap_or_else(|| neighbours::decided(&connection.app, &machine, &real)));
    let Admitted { mut granted, consenting } = connection.admit(ForwardTarget::clone(&target), &steps).await?;
    let beyond = neighbours::beyond(&connection.app, &machine, &real).await;
    for other in &beyond {
        granted = granted.and(&connection.authorise_beyond(other, &real).await?);
    }
    let session = connection.session(&granted, &steps).await?;
    let forwarded = Forwarded { target, real, beyond, over: session.live.ended.child_token() };
    lock(&session.uses).push((Capability::Forward, forwarded.over.clone()));
    lock(&session.forwards).push(forwarded.clone());
    attend(connection, &session, consenting).await;
    Ok((session, forwarded))
}

/// Channels of one connection at most (OpenSSH's MaxSessions is 10, and a browser opens some tens of connections at a time).
const MOST_SESSIONS: usize = 64;
const MOST_FORWARDS: usize = 256;
/// Those of each kind that wait for a decision, a person or the machine at a time; the others wait for their turn. A client
/// may open as many at once as there are places (a tool that works on many files, a browser).
const MOST_SET_UP: usize = 16;

/// Counts the channels of a connection, before anything is done for one.
#[derive(Debug)]
pub(super) struct Channels {
    sessions: Arc<Semaphore>,
    forwards: Arc<Semaphore>,
    set_up_sessions: Arc<Semaphore>,
    set_up_forwards: Arc<Semaphore>,
}

/// A channel that is there.
pub(super) type ChannelPlace = OwnedSemaphorePermit;

impl Default for Channels {
    fn default() -> Self {
        let of = |n| Arc::new(Semaphore::new(n));
        Self {
            sessions: of(MOST_SESSIONS),
            forwards: of(MOST_FORWARDS),
            set_up_sessions: of(MOST_SET_UP),
            set_up_forwards: of(MOST_SET_UP),
        }
    }
}

impl Channels {
    /// A place for a session channel; none where there are too many.
    pub(super) fn session(&self) -> Option<ChannelPlace> {
        self.sessions.clone().try_acquire_owned().ok()
    }

    /// A place for a forwarded port.
    pub(super) fn forward(&self) -> Option<ChannelPlace> {
        self.forwards.clone().try_acquire_owned().ok()
    }

    /// The turn of a session channel to be set up. None never: the places are not closed.
    async fn set_up_session(&self) -> Option<ChannelPlace> {
        self.set_up_sessions.clone().acquire_owned().await.ok()
    }

    /// The turn of a forwarded port.
    async fn set_up_forward(&self) -> Option<ChannelPlace> {
        self.set_up_forwards.clone().acquire_owned().await.ok()
    }
}
