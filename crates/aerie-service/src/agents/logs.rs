//! Takes the logs that agents send of their machines.

use super::registry::Known;
use crate::audit::keep;
use crate::audit::live::{AgentLog, Arrived, Sender, arriving};
use crate::service::App;
use aerie_core::audit::ship::{MAX_LINE, MAX_PLACE, Piece, Sending, TARGET, Wanted};
use aerie_core::audit::{Finding, FindingKind};
use aerie_tunnel::TunnelStream;
use jiff::Timestamp;
use std::io;
use std::sync::Arc;
use std::time::Duration;
use tokio::io::{AsyncBufReadExt as _, AsyncReadExt as _, AsyncWriteExt as _, BufReader};

/// How long an agent has to say what it sends.
const PATIENCE: Duration = Duration::from_secs(10);
/// After how long one that ended is asked again.
const AGAIN: Duration = Duration::from_secs(30);
/// Bytes of lines that are handed on at a time.
const GROUP: usize = 64 << 10;
/// Longest line of the stream: place, tab, line, line feed.
const MOST: usize = MAX_PLACE + MAX_LINE + 2;

/// Takes the log of one agent as long as it is connected.
pub(super) async fn take(app: Arc<App>, known: Arc<Known>) {
    while let Some(tunnel) = known.tunnel() {
        let machine = known.machine();
        let ended = async {
            let stream = tokio::time::timeout(PATIENCE, tunnel.open(TARGET)).await.map_err(|_| io::ErrorKind::TimedOut)??;
            read(&app, &machine, stream).await
        };
        tokio::select! {
            result = ended => match result {
                Ok(()) => {}
                // With its tunnel: that it is gone is told anyway.
                Err(e) if e.kind() == io::ErrorKind::ConnectionReset => tracing::debug!(machine, "the log of an agent ended with its tunnel"),
                Err(e) => tracing::warn!(machine, error = %e, "the log that an agent sends broke off"),
            },
            () = app.stopping.cancelled() => return,
        }
        // At once when it connects anew; otherwise its file may be there again after a while.
        tokio::select! {
            () = known.again.notified() => {}
            () = tokio::time::sleep(AGAIN) => {}
            () = app.stopping.cancelled() => return,
            () = known.revoked.cancelled() => return,
        }
    }
}

async fn read(app: &Arc<App>, machine: &str, mut stream: TunnelStream) -> io::Result<()> {
    let store = |e: aerie_store::StoreError| io::Error::other(e);
    let after = app.store.log_cursor(machine).await.map_err(store)?;
    let mut wanted = serde_json::to_vec(&Wanted { after })?;
    wanted.push(b'\n');
    stream.write_all(&wanted).await?;
    stream.flush().await?;
    let mut stream = BufReader::with_capacity(GROUP, stream);
    let mut line = vec![];
    tokio::time::timeout(PATIENCE, next(&mut stream, &mut line)).await.map_err(|_| io::ErrorKind::TimedOut)??;
    let sending: Sending = serde_json::from_slice(&line)?;
    let lines = arriving(app).await.map_err(store)?;
    let mut log = AgentLog { machine: machine.into(), sending, place: String::new() };
    let (mut group, mut bytes, mut was_cut) = (vec![], 0, false);
    while next(&mut stream, &mut line).await? {
        match Piece::read(&line).ok_or(io::ErrorKind::InvalidData)? {
            Piece::Line { place, line } => {
                bytes += line.len();
                group.push(line.to_vec());
                log.place = place.into();
            }
            // Once a stream: whoever says it again and again must not fill the log.
            Piece::Cut { before, now } if !std::mem::replace(&mut was_cut, true) => cut(app, &log, before, now).await.map_err(store)?,
            Piece::Cut { .. } => {}
        }
        // What came together is handed on together.
        if bytes >= GROUP || stream.buffer().is_empty() {
            bytes = 0;
            let arrived = Arrived { lines: std::mem::take(&mut group), sender: Sender::Agent(log.clone()) };
            if !arrived.lines.is_empty() && lines.send(arrived).await.is_err() {
                return Ok(());
            }
        }
    }
    Ok(())
}

/// Reads the next line, without its line feed; false at the end.
async fn next(stream: &mut BufReader<TunnelStream>, line: &mut Vec<u8>) -> io::Result<bool> {
    line.clear();
    let read = stream.take(MOST as u64).read_until(b'\n', line).await?;
    match line.pop() {
        Some(b'\n') => Ok(true),
        _ if read == 0 => Ok(false),
        _ => Err(io::ErrorKind::InvalidData.into()),
    }
}

async fn cut(app: &App, log: &AgentLog, before: u64, now: u64) -> Result<(), aerie_store::StoreError> {
    let what = aerie_core::diagnostic::printable(&log.sending.what);
    let machine = &log.machine;
    let sentence = format!("The log {what} of {machine} was cut: {before} bytes of it were read before, and it has {now} now.");
    let cause = format!("{machine} {what}");
    keep(app, vec![Finding::seen(FindingKind::LogCut, &cause, machine, "", sentence, Timestamp::now())]).await?;
    app.tell("findings");
    Ok(())
}
