//! One channel of a connection: reads what is asked, decides, and carries it to the machine.

use super::admission::attend;
use super::carry::{self, Carrier};
use super::connection::{Admitted, Connection, OpenSession, lock};
use crate::machines::Steps;
use aerie_core::diagnostic::printable;
use aerie_core::evidence::{EventKind, NewEvent};
use aerie_core::policy::{AccessGranted, Capabilities, Capability};
use aerie_core::recording::{Frame, Opened};
use aerie_core::session::{Asked, SftpFilter, SftpRights, classify};
use jiff::Timestamp;
use russh::server::{ChannelOpenHandle, Msg};
use russh::{Channel, ChannelMsg, ChannelOpenFailure, ChannelReadHalf, ChannelWriteHalf, Pty};
use std::sync::Arc;
use tokio_util::sync::CancellationToken;

/// Environment variables of one channel at most, and their bytes in all.
const MOST_VARIABLES: usize = 64;
const MAX_ENVIRONMENT: usize = 16 << 10;
/// Exit status of what was refused: EX_NOPERM of sysexits(3).
const NO_PERMISSION: u32 = 77;
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
}

/// What the channel is used for.
pub(super) enum Use {
    Shell,
    Command(Vec<u8>),
    Files,
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
            ChannelMsg::RequestShell { .. } => break Use::Shell,
            ChannelMsg::Exec { command, .. } => break Use::Command(command),
            ChannelMsg::RequestSubsystem { name, .. } if name == "sftp" => break Use::Files,
            ChannelMsg::RequestSubsystem { .. } => return refuse(&write, "Of subsystems only sftp is carried.").await,
            ChannelMsg::Close => return,
            _ => {}
        }
    };
    if let Err(why) = begin(&connection, read, &write, setup, using).await {
        refuse(&write, &why).await;
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
async fn refuse(write: &ChannelWriteHalf<Msg>, why: &str) {
    let _ = write.extended_data_bytes(1, format!("aerie: {why}\r\n")).await;
    let _ = write.exit_status(NO_PERMISSION).await;
    let _ = write.eof().await;
    let _ = write.close().await;
}

/// The proof of access for a use, and what a file transfer may do. Whoever must be asked first is asked, where nothing else would do.
async fn authorise(connection: &Arc<Connection>, using: &Use, steps: &Steps) -> Result<(Admitted, Option<SftpRights>), String> {
    let at_once = |granted: AccessGranted| Admitted { granted, consenting: None };
    match using {
        Use::Shell => Ok((connection.admit(Capability::Shell, steps).await?, None)),
        Use::Command(command) if command.len() > MAX_COMMAND => Err(format!("The command is longer than {MAX_COMMAND} bytes.")),
        Use::Command(command) => match classify(command) {
            Asked::Command => Ok((connection.admit(Capability::Exec, steps).await?, None)),
            // Whoever may run commands may run this one; else the transfer itself must be granted.
            Asked::Copy(direction) => match connection.authorise(Capability::Exec).await {
                Ok(granted) => Ok((at_once(granted), None)),
                Err(_) => Ok((connection.admit(direction, steps).await?, None)),
            },
        },
        Use::Files => {
            let (down, up) = (connection.authorise(Capability::Download).await, connection.authorise(Capability::Upload).await);
            let rights = Capabilities::of([&down, &up].into_iter().flatten().map(AccessGranted::capability));
            match down.or(up) {
                Ok(granted) => Ok((at_once(granted), Some(SftpRights::of(rights)))),
                // Whoever may copy sees names anyway; to see names alone is a right of its own.
                Err(_) => match connection.authorise(Capability::Browse).await {
                    Ok(granted) => Ok((at_once(granted), Some(SftpRights::of(rights)))),
                    Err(_) => {
                        let admitted = connection.admit(Capability::Download, steps).await?;
                        let rights = Capabilities::of([Capability::Download]);
                        Ok((admitted, Some(SftpRights::of(rights))))
                    }
                },
            }
        }
    }
}

async fn begin(
    connection: &Arc<Connection>,
    read: ChannelReadHalf,
    write: &ChannelWriteHalf<Msg>,
    setup: Setup,
    using: Use,
) -> Result<(), String> {
    let (session, rights, over) = begun(connection, &using, write, setup.terminal.is_some()).await?;
    let started = start(connection, &session, (read, write), setup, using, (rights, over)).await;
    // Whoever was shown out in the middle of this is told so, and not what failed because of it.
    started.map_err(|why| super::life::ended_saying(&session).unwrap_or(why))
}

async fn start(
    connection: &Arc<Connection>,
    session: &Arc<OpenSession>,
    (read, write): (ChannelReadHalf, &ChannelWriteHalf<Msg>),
    setup: Setup,
    using: Use,
    (rights, over): (Option<SftpRights>, CancellationToken),
) -> Result<(), String> {
    let target = session.ssh()?.handle.channel_open_session().await.map_err(|_| "The machine opens no further channel.".to_string())?;
    let failed = |_| "The machine broke off.".to_string();
    for (name, value) in &setup.environment {
        target.set_env(false, name, value).await.map_err(failed)?;
    }
    if let Some(t) = &setup.terminal {
        target.request_pty(false, &t.term, t.columns, t.rows, t.pixels.0, t.pixels.1, &t.modes).await.map_err(failed)?;
    }
    match &using {
        Use::Shell => target.request_shell(true).await,
        Use::Command(command) => target.exec(true, command.as_slice()).await,
        Use::Files => target.request_subsystem(true, "sftp").await,
    }
    .map_err(failed)?;
    let terminal = setup.terminal.is_some() && rights.is_none();
    let number = u32::from(write.id());
    let opened = opened(&using, terminal);
    note_opened(connection, session, &opened).await;
    if let Some(recording) = &session.recording {
        recording.frame(number, Frame::Opened(opened)).await;
        if let Some(t) = setup.terminal.as_ref().filter(|_| terminal) {
            let (columns, rows) = measured(t.columns, t.rows);
            recording.frame(number, Frame::Size(columns, rows)).await;
        }
    }
    if rights.is_none() {
        lock(&session.readers).push(write.id());
        // One that was ended before this channel could be told anything says why here.
        if let Some(why) = super::life::ended_saying(session) {
            lock(&session.readers).retain(|id| *id != write.id());
            return Err(why);
        }
    }
    if terminal {
        greet(connection, write).await;
    }
    let terminal = setup.terminal.as_ref().filter(|_| terminal).map(|t| measured(t.columns, t.rows));
    let carrier =
        Carrier { connection: connection.clone(), session: session.clone(), number, terminal, files: rights.map(SftpFilter::new), over };
    session.carriers.track_future(carry::carry(carrier, read, write, target)).await;
    lock(&session.readers).retain(|id| *id != write.id());
    Ok(())
}

/// The session, begun if need be. Whoever waits at a terminal sees each step, in one line that is gone when it is done.
async fn begun(
    connection: &Arc<Connection>,
    using: &Use,
    write: &ChannelWriteHalf<Msg>,
    terminal: bool,
) -> Result<(Arc<OpenSession>, Option<SftpRights>, CancellationToken), String> {
    let (steps, mut said) = Steps::new();
    let setting_up = async {
        let (admitted, rights) = authorise(connection, using, &steps).await?;
        let capability = admitted.granted.capability();
        let session = connection.session(&admitted.granted, &steps).await?;
        let over = session.live.ended.child_token();
        lock(&session.uses).push((capability, over.clone()));
        attend(connection, &session, admitted.consenting).await;
        Ok((session, rights, over))
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

fn opened(using: &Use, terminal: bool) -> Opened {
    let (kind, command) = match using {
        Use::Shell => ("shell", None),
        Use::Command(c) => ("exec", Some(printable(&String::from_utf8_lossy(c)).chars().take(2000).collect())),
        Use::Files => ("sftp", None),
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

/// Serves a forwarded port (`ssh -L`): the machine opens the connection.
pub(super) async fn forward(
    connection: Arc<Connection>,
    channel: Channel<Msg>,
    to: (String, u32),
    origin: (String, u32),
    reply: ChannelOpenHandle,
) {
    let opened = async {
        let steps = Steps::default();
        let admitted = connection.admit(Capability::Forward, &steps).await.map_err(|_| ChannelOpenFailure::AdministrativelyProhibited)?;
        let session = connection.session(&admitted.granted, &steps).await.map_err(|_| ChannelOpenFailure::ConnectFailed)?;
        let over = session.live.ended.child_token();
        lock(&session.uses).push((Capability::Forward, over.clone()));
        attend(&connection, &session, admitted.consenting).await;
        let link = session.ssh().map_err(|_| ChannelOpenFailure::ConnectFailed)?;
        let target = link.handle.channel_open_direct_tcpip(&to.0, to.1, &origin.0, origin.1).await;
        Ok((session, target.map_err(|_| ChannelOpenFailure::ConnectFailed)?, over))
    };
    let (session, target, over) = match opened.await {
        Ok(all) => all,
        Err(failure) => return reply.reject(failure).await,
    };
    reply.accept().await;
    let (read, write) = channel.split();
    let number = u32::from(write.id());
    let opened = Opened { kind: "forward".into(), command: Some(printable(&format!("{}:{}", to.0, to.1))), terminal: false };
    note_opened(&connection, &session, &opened).await;
    if let Some(recording) = &session.recording {
        recording.frame(number, Frame::Opened(opened)).await;
    }
    let carrier = Carrier { connection, session: session.clone(), number, terminal: None, files: None, over };
    session.carriers.track_future(carry::carry_started(carrier, read, &write, target)).await;
}
