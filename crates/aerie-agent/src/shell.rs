//! A shell for whoever helps, over a stream of the tunnel: what is typed and the size of the terminal one way, what it shows the other. It is the person's own, with the person's rights.

use aerie_core::visit::{SHELL_SIZE, ShellReader, ToShell};
use aerie_tunnel::Asked;
use nix::sys::signal::{Signal, kill};
use nix::unistd::Pid;
use pty_process::{Command, Pty, Size};
use std::time::Duration;
use tokio::io::{AsyncReadExt as _, AsyncWriteExt as _};
use tokio::process::Child;

/// Bytes that are read at a time.
const PIECE: usize = 16 << 10;
/// How long what a shell wrote last may take.
const LAST: Duration = Duration::from_millis(300);
/// The shell where the environment names none.
const PLAIN: &str = "/bin/sh";

fn open() -> Result<(Pty, Child), pty_process::Error> {
    let (pty, pts) = pty_process::open()?;
    pty.resize(Size::new(SHELL_SIZE.1, SHELL_SIZE.0))?;
    let shell = std::env::var_os("SHELL").filter(|s| !s.is_empty()).unwrap_or_else(|| PLAIN.into());
    let mut command = Command::new(shell).env("TERM", "xterm-256color").kill_on_drop(true);
    if let Some(home) = std::env::var_os("HOME").filter(|h| std::path::Path::new(h).is_dir()) {
        command = command.current_dir(home);
    }
    Ok((pty, command.spawn(pts)?))
}

/// Ends every process of the terminal, also those that would outlive it: nothing is left on the computer.
fn end_all(leader: u32) {
    let Ok(all) = std::fs::read_dir("/proc") else { return };
    for process in all.filter_map(|e| e.ok()?.file_name().to_str()?.parse::<i32>().ok()) {
        // proc(5): the name is in brackets and may hold anything; the session is the fourth field after it.
        let stat = std::fs::read_to_string(format!("/proc/{process}/stat")).unwrap_or_default();
        let session = stat.rsplit_once(')').and_then(|(_, rest)| rest.split_whitespace().nth(3)?.parse::<u32>().ok());
        if session == Some(leader) {
            let _ = kill(Pid::from_raw(process), Signal::SIGKILL);
        }
    }
}

/// Opens a shell and carries it until it or the stream ends. With the terminal everything ends that runs in it.
pub(crate) async fn serve(asked: Asked, note: &crate::serve::Note) {
    let (pty, mut child) = match open() {
        Ok(opened) => opened,
        Err(e) => return asked.refuse(&format!("no shell can be opened here ({e})")),
    };
    let leader = child.id();
    note("A shell is open now, in which whoever helps you works.");
    let (mut hearing, mut saying) = tokio::io::split(asked.accept());
    let (mut shown, mut typed) = pty.into_split();
    let outward = async {
        let mut piece = vec![0; PIECE];
        // A terminal whose last program is gone gives an error, and no end.
        while let Ok(n) = shown.read(&mut piece).await
            && n > 0
        {
            if saying.write_all(piece.get(..n).unwrap_or_default()).await.is_err() || saying.flush().await.is_err() {
                return;
            }
        }
    };
    let inward = async {
        let (mut reader, mut piece) = (ShellReader::default(), vec![0; PIECE]);
        while let Ok(n) = hearing.read(&mut piece).await
            && n > 0
        {
            reader.handle(piece.get(..n).unwrap_or_default());
            // What cannot be read ends it, as the end of the stream does.
            while let Some(piece) = reader.poll().ok()? {
                match piece {
                    ToShell::Typed(bytes) => typed.write_all(&bytes).await.ok()?,
                    ToShell::Size(columns, rows) => typed.resize(Size::new(rows, columns)).ok()?,
                }
            }
        }
        Some(())
    };
    let gone = async {
        let _ = child.wait().await;
        // What it wrote last is on its way; what it left running in the background holds nothing open.
        tokio::time::sleep(LAST).await;
    };
    tokio::select! {
        () = outward => {}
        _ = inward => {}
        () = gone => {}
    }
    let _ = saying.shutdown().await;
    if let Some(leader) = leader {
        end_all(leader);
    }
    let _ = child.kill().await;
    note("The shell is closed.");
}
