//! A shell for whoever helps, over a stream of the tunnel: what is typed and the size of the terminal one way, what it shows the other. It is the person's own, with the person's rights.

use aerie_core::visit::{SHELL_SIZE, ShellReader, ToShell};
use aerie_tunnel::Asked;
use nix::sys::signal::{Signal, kill};
use nix::sys::wait::{WaitPidFlag, waitpid};
use nix::unistd::Pid;
use pty_process::{Command, Pty, Size};
use std::sync::atomic::{AtomicBool, Ordering};
use std::time::Duration;
use tokio::io::{AsyncReadExt as _, AsyncWriteExt as _};
use tokio::process::Child;

/// Bytes that are read at a time.
const PIECE: usize = 16 << 10;
/// How long what a shell wrote last may take.
const LAST: Duration = Duration::from_millis(300);
/// How often what was started in a shell is looked for and ended, and the wait between.
const ROUNDS: usize = 100;
const BETWEEN: Duration = Duration::from_millis(20);
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

/// While this is held, whatever a shell started stays a descendant of this process, also what left its terminal and its parent: this
/// process takes the place of init(8) for it (PR_SET_CHILD_SUBREAPER). It is the program for a visit, which starts nothing else.
pub(crate) struct Gathering(());

static GATHERS: AtomicBool = AtomicBool::new(false);

impl Gathering {
    pub(crate) fn begin() -> Self {
        GATHERS.store(nix::sys::prctl::set_child_subreaper(true).is_ok(), Ordering::Relaxed);
        Self(())
    }
}

impl Drop for Gathering {
    fn drop(&mut self) {
        end_all(None);
    }
}

/// A process, as proc(5) tells.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
struct Process {
    id: u32,
    parent: u32,
    session: u32,
}

fn processes() -> Vec<Process> {
    let Ok(all) = std::fs::read_dir("/proc") else { return vec![] };
    let ids = all.filter_map(|e| e.ok()?.file_name().to_str()?.parse::<u32>().ok());
    ids.filter_map(|id| {
        let stat = std::fs::read_to_string(format!("/proc/{id}/stat")).ok()?;
        // The name is in brackets and may hold anything; parent and session are the second and fourth field after it.
        let mut fields = stat.rsplit_once(')')?.1.split_whitespace().skip(1);
        let (parent, session) = (fields.next()?.parse().ok()?, fields.nth(1)?.parse().ok()?);
        Some(Process { id, parent, session })
    })
    .collect()
}

/// What belongs to a shell: its session, its descendants, and where this process (`me`) gathers what lost its parent, every other
/// descendant of this one.
fn belonging(all: &[Process], leader: Option<u32>, me: u32, gathers: bool) -> Vec<u32> {
    let parent = |id: u32| all.iter().find(|p| p.id == id).map(|p| p.parent).filter(|p| *p != id && *p != 0);
    let descends = |p: &Process, from: u32| std::iter::successors(Some(p.parent), |at| parent(*at)).take(all.len()).any(|at| at == from);
    let own = |p: &&Process| {
        let of_shell = leader.is_some_and(|l| p.session == l || p.id == l || descends(p, l));
        p.id != me && (of_shell || (gathers && descends(p, me)))
    };
    all.iter().filter(own).map(|p| p.id).collect()
}

/// Ends everything that was started in a shell, again and again, since it may start more meanwhile. Whether nothing is left.
fn end_all(leader: Option<u32>) -> bool {
    for _ in 0..ROUNDS {
        let left = belonging(&processes(), leader, std::process::id(), GATHERS.load(Ordering::Relaxed));
        if left.is_empty() {
            return true;
        }
        for id in left.iter().filter_map(|id| i32::try_from(*id).ok()) {
            let _ = kill(Pid::from_raw(id), Signal::SIGKILL);
            // This process must reap orphans itself. The shell is reaped by its own handle.
            if leader != u32::try_from(id).ok() {
                let _ = waitpid(Pid::from_raw(id), Some(WaitPidFlag::WNOHANG));
            }
        }
        if leader.is_some_and(|l| left == [l]) {
            return true;
        }
        std::thread::sleep(BETWEEN);
    }
    false
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
    let ended = tokio::task::spawn_blocking(move || end_all(leader)).await.unwrap_or(false);
    let _ = child.kill().await;
    note(match ended {
        true => "The shell is closed. Nothing that was started in it runs any more; files that were changed stay as they are.",
        false => "The shell is closed. Something that was started in it still runs: log out, or restart this computer, to end it.",
    });
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn what_a_shell_started_is_found_wherever_it_went() {
        let p = |id, parent, session| Process { id, parent, session };
        // The program is 10, its shell 20; 21 left the terminal, 22 and its child 23 lost their parent too, 40 belongs to another program.
        let all = [p(1, 0, 1), p(10, 1, 5), p(20, 10, 20), p(21, 20, 21), p(22, 10, 22), p(23, 22, 22), p(24, 1, 20), p(40, 1, 40)];
        assert_eq!(belonging(&all, Some(20), 10, true), [20, 21, 22, 23, 24]);
        assert_eq!(belonging(&all, Some(20), 10, false), [20, 21, 24]);
        assert_eq!(belonging(&all, None, 10, true), [20, 21, 22, 23]);
        // A table that was read while it changed may hold circles.
        assert_eq!(belonging(&[p(30, 31, 1), p(31, 30, 1)], Some(20), 10, true), [] as [u32; 0]);
    }

    #[test]
    fn processes_are_read_with_parent_and_session() {
        let me = std::process::id();
        let own = processes().into_iter().find(|p| p.id == me).unwrap();
        assert_eq!(i32::try_from(own.parent).unwrap(), nix::unistd::getppid().as_raw());
        assert_eq!(i32::try_from(own.session).unwrap(), nix::unistd::getsid(None).unwrap().as_raw());
    }
}
