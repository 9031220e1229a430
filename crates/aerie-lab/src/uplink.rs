//! The one way out of a closed machine: a line to the service, and to nothing else. Inside it looks like a TCP port; outside it
//! can be cut, so that tests see what happens when a network drops everything.

use std::io::{self, Read, Write};
use std::net::{Shutdown, SocketAddr, TcpListener, TcpStream};
use std::os::unix::fs::PermissionsExt as _;
use std::os::unix::net::{UnixListener, UnixStream};
use std::path::Path;
use std::sync::{Arc, Condvar, Mutex, PoisonError};

/// Bytes that are carried at a time.
const PIECE: usize = 64 << 10;

/// Where an uplink leads, and whether it is cut.
#[derive(Debug, Clone)]
pub struct Uplink(Arc<(Mutex<State>, Condvar)>);

#[derive(Debug, Default)]
struct State {
    to: Option<SocketAddr>,
    cut: bool,
}

impl Uplink {
    /// Listens on a socket in this directory, which the machine sees.
    pub(crate) fn open(dir: &Path) -> io::Result<Self> {
        let uplink = Self(Arc::default());
        std::fs::create_dir_all(dir)?;
        std::fs::set_permissions(dir, std::fs::Permissions::from_mode(0o755))?;
        let path = dir.join("socket");
        let _ = std::fs::remove_file(&path);
        let listener = UnixListener::bind(&path)?;
        std::fs::set_permissions(&path, std::fs::Permissions::from_mode(0o666))?;
        let here = uplink.clone();
        std::thread::spawn(move || {
            for inside in listener.incoming().flatten() {
                let uplink = here.clone();
                std::thread::spawn(move || uplink.carry(inside));
            }
        });
        Ok(uplink)
    }

    fn state(&self) -> std::sync::MutexGuard<'_, State> {
        self.0.0.lock().unwrap_or_else(PoisonError::into_inner)
    }

    /// Leads to this address from now on.
    pub fn lead_to(&self, to: SocketAddr) {
        self.state().to = Some(to);
        self.0.1.notify_all();
    }

    /// Drops everything, without a word to either side, until it is mended.
    pub fn cut(&self) {
        self.state().cut = true;
    }

    /// Carries again.
    pub fn mend(&self) {
        self.state().cut = false;
        self.0.1.notify_all();
    }

    /// Where it leads, once it carries.
    fn wait(&self) -> Option<SocketAddr> {
        let waiting = self.0.1.wait_while(self.state(), |s| s.cut || s.to.is_none()).unwrap_or_else(PoisonError::into_inner);
        waiting.to
    }

    fn carry(&self, inside: UnixStream) {
        let Some(outside) = self.wait().and_then(|to| TcpStream::connect(to).ok()) else { return };
        let _ = outside.set_nodelay(true);
        let (Ok(inside_again), Ok(outside_again)) = (inside.try_clone(), outside.try_clone()) else { return };
        let here = self.clone();
        std::thread::spawn(move || {
            copy(outside_again, &inside_again, || {
                let _ = here.wait();
            });
            let _ = inside_again.shutdown(Shutdown::Write);
        });
        copy(inside, &outside, || {
            let _ = self.wait();
        });
        let _ = outside.shutdown(Shutdown::Write);
    }
}

fn copy(mut from: impl Read, mut to: impl Write, before: impl Fn()) {
    let mut piece = vec![0; PIECE];
    while let Ok(n @ 1..) = from.read(&mut piece) {
        before();
        if piece.get(..n).is_none_or(|bytes| to.write_all(bytes).is_err()) {
            return;
        }
    }
}

/// Inside: a TCP port that leads to the socket.
pub(crate) fn offer(at: &str, socket: &Path) -> io::Result<()> {
    let listener = TcpListener::bind(at)?;
    let socket = socket.to_path_buf();
    std::thread::spawn(move || {
        for near in listener.incoming().flatten() {
            let _ = near.set_nodelay(true);
            let Ok(far) = UnixStream::connect(&socket) else { continue };
            let (Ok(near_again), Ok(far_again)) = (near.try_clone(), far.try_clone()) else { continue };
            std::thread::spawn(move || {
                copy(far_again, &near_again, || {});
                let _ = near_again.shutdown(Shutdown::Write);
            });
            std::thread::spawn(move || {
                copy(near, &far, || {});
                let _ = far.shutdown(Shutdown::Write);
            });
        }
    });
    Ok(())
}
