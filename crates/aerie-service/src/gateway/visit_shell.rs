//! A shell on the computer of whoever is helped, through the program for a visit: a session of its own, recorded as every terminal, typed into
//! from the console.

use super::admission::attend;
use super::connection::{Connection, OpenSession, Stated, lock};
use super::desktop::Beginning;
use crate::machines::Steps;
use crate::service::App;
use crate::sessions::LiveSession;
use crate::visits::{self, Meeting};
use aerie_core::directory::Machine;
use aerie_core::evidence::{EventKind, NewEvent};
use aerie_core::policy::{Capability, Consent};
use aerie_core::recording::{Frame, Opened};
use aerie_core::session::{EndReason, LoginName};
use aerie_core::visit::{SHELL_SIZE, SHELL_TARGET, ToShell};
use bytes::Bytes;
use jiff::Timestamp;
use std::sync::Arc;
use tokio::io::{AsyncRead, AsyncReadExt as _, AsyncWrite, AsyncWriteExt as _};
use tokio::sync::mpsc;
use tokio_util::sync::CancellationToken;

/// The one terminal of the session.
const CHANNEL: u32 = 1;
/// Bytes that are read at a time.
const PIECE: usize = 16 << 10;

/// Begins it: the person is asked on their page first, each time, and then the rules, as at the begin of every session.
///
/// # Errors
/// The sentence that refuses it.
pub(crate) async fn begin(app: &Arc<App>, queue: Machine, meeting: Arc<Meeting>, who: Beginning) -> Result<Arc<LiveSession>, String> {
    let Beginning { by, reason, ticket } = who;
    let program = meeting.program().ok_or("The program for a visit does not run there: without it there is no shell.")?;
    if meeting.shell().is_some_and(|id| app.live.get(&id).is_some()) {
        return Err("There is a shell already.".into());
    }
    let login = LoginName { person: by.person.person().into(), machine: Some(queue.name.clone()), account: None, emergency: false };
    let closed = CancellationToken::new();
    let connection = Connection::new(app.clone(), by, login, Stated { ticket, reason }, closed);
    // Nobody is asked for what the rules give in no case.
    if !visits::may(app, connection.person.person(), Capability::Shell, &queue.name) {
        return Err(format!("No rule lets you work in a shell in {}.", queue.name));
    }
    if !meeting.ask(Capability::Shell).await {
        return Err("The person did not agree that you work in a shell on their computer.".into());
    }
    connection.consents.give(Capability::Shell, Consent::Ask);
    let (steps, _said) = Steps::new();
    let admitted = connection.admit(Capability::Shell, &steps).await?;
    let stream = program.tunnel.open(SHELL_TARGET).await.map_err(|e| format!("The program for a visit opens no shell: {e}."))?;
    let session = connection.session(&admitted.granted, &steps).await?;
    let live = session.live.clone();
    lock(&session.uses).push((Capability::Shell, live.ended.child_token()));
    attend(&connection, &session, admitted.consenting).await;
    let begun = visits::change(app, &meeting.visit, |v, _, now| v.handle_began(&live.id, Capability::Shell, now)).await;
    if let Err(e) = begun {
        live.end_saying(EndReason::ConsentRefused, &e.to_string());
        connection.closed.cancel();
        return Err(format!("{e}."));
    }
    let opened = Opened { kind: "shell".into(), command: Some("the visit".into()), terminal: true };
    if let Some(recording) = &session.recording {
        recording.frame(CHANNEL, Frame::Opened(opened)).await;
        recording.frame(CHANNEL, Frame::Size(SHELL_SIZE.0, SHELL_SIZE.1)).await;
    }
    let person = connection.person.person();
    let says = format!("{person} began a shell on the computer of whoever is helped in {}.", queue.name);
    let event = NewEvent::new(Timestamp::now(), EventKind::ChannelOpened, person).machine(&queue.name).session(&live.id).says(says);
    app.note(event.with("kind", "shell").with("visit", meeting.visit.clone())).await;
    meeting.begin_shell(&live.id);
    let typed = live.stage.open_own(CHANNEL, SHELL_SIZE, person);
    session.carriers.spawn(carry(connection.clone(), session.clone(), meeting, stream, typed));
    Ok(live)
}

async fn carry(
    connection: Arc<Connection>,
    session: Arc<OpenSession>,
    meeting: Arc<Meeting>,
    stream: impl AsyncRead + AsyncWrite + Unpin,
    mut typed: mpsc::Receiver<ToShell>,
) {
    let live = &session.live;
    let (mut read, mut write) = tokio::io::split(stream);
    let outward = async {
        let mut piece = vec![0; PIECE];
        while let Ok(n) = read.read(&mut piece).await
            && n > 0
        {
            let bytes = Bytes::copy_from_slice(piece.get(..n).unwrap_or_default());
            live.note_out(n, Timestamp::now().as_millisecond(), true);
            live.stage.handle_output(CHANNEL, &bytes);
            if let Some(recording) = &session.recording {
                recording.output(CHANNEL, bytes).await;
            }
        }
    };
    let inward = async {
        while let Some(piece) = typed.recv().await {
            let sent = piece.encode();
            match piece {
                ToShell::Typed(bytes) => {
                    live.note_in(bytes.len(), Timestamp::now().as_millisecond());
                    if let Some(recording) = &session.recording {
                        recording.typed(CHANNEL, bytes.into()).await;
                    }
                }
                ToShell::Size(columns, rows) => {
                    live.stage.resize(CHANNEL, columns, rows);
                    if let Some(recording) = &session.recording {
                        recording.frame(CHANNEL, Frame::Size(columns, rows)).await;
                    }
                }
            }
            if write.write_all(&sent).await.is_err() || write.flush().await.is_err() {
                return;
            }
        }
    };
    tokio::select! {
        biased;
        () = live.ended.cancelled() => {}
        () = outward => live.end_saying(EndReason::MachineClosed, "the shell ended"),
        () = inward => live.end(EndReason::PathLost),
    }
    live.stage.close(CHANNEL);
    if let Some(recording) = &session.recording {
        recording.frame(CHANNEL, Frame::Closed(None)).await;
    }
    meeting.end_shell(&live.id);
    // The tending of the session waits for the person to be gone.
    connection.closed.cancel();
}
