//! The system calls that nobody wraps.

use nix::libc;
use std::io;
use std::net::TcpListener;
use std::os::fd::{AsRawFd as _, FromRawFd as _};
use std::os::unix::process::CommandExt as _;
use std::process::Command;

/// Number under which a machine finds its listening socket.
const LISTENER: i32 = 100;

/// Ends this process when its parent ends.
pub(crate) fn die_with_parent() {
    // SAFETY: PR_SET_PDEATHSIG takes a signal number and touches no memory.
    unsafe { libc::prctl(libc::PR_SET_PDEATHSIG, libc::SIGKILL) };
}

/// Hands a listening socket to a child under [`LISTENER`].
pub(crate) fn pass_listener(command: &mut Command, listener: &TcpListener) {
    let fd = listener.as_raw_fd();
    // SAFETY: the closure runs between fork and exec and calls only dup2, which is async-signal-safe (signal-safety(7)); the
    // parent keeps the listener open until the child was spawned.
    unsafe {
        command.pre_exec(move || if libc::dup2(fd, LISTENER) < 0 { Err(io::Error::last_os_error()) } else { Ok(()) });
    }
}

/// Takes the listening socket that the parent passed. To be called once.
pub(crate) fn take_listener() -> TcpListener {
    // SAFETY: the parent put a listening socket under this number, nothing else uses it, and this is called once.
    let listener = unsafe { TcpListener::from_raw_fd(LISTENER) };
    // SAFETY: F_SETFD changes a flag of a descriptor that is open.
    unsafe { libc::fcntl(LISTENER, libc::F_SETFD, libc::FD_CLOEXEC) };
    listener
}

/// Runs `setup` in a child between fork and exec.
pub(crate) fn in_child(command: &mut Command, setup: impl FnMut() -> io::Result<()> + Send + Sync + 'static) {
    // SAFETY: the machine's first process is small and the closure makes system calls and writes three short files; no lock
    // is held by another thread that it could need, since it does not allocate on the success path.
    unsafe {
        command.pre_exec(setup);
    }
}

/// Forks. Returns true in the child.
pub(crate) fn fork() -> nix::Result<Option<nix::unistd::Pid>> {
    // SAFETY: the process has a single thread here, so that the child may do anything.
    match unsafe { nix::unistd::fork()? } {
        nix::unistd::ForkResult::Parent { child } => Ok(Some(child)),
        nix::unistd::ForkResult::Child => Ok(None),
    }
}

/// Brings the loopback interface of this network namespace up.
pub(crate) fn loopback_up() -> io::Result<()> {
    // SAFETY: the socket is closed on every path; the request is zeroed, its name is two bytes and a terminating zero, and the
    // kernel reads no further than the structure.
    unsafe {
        let socket = libc::socket(libc::AF_INET, libc::SOCK_DGRAM, 0);
        if socket < 0 {
            return Err(io::Error::last_os_error());
        }
        let mut request: libc::ifreq = std::mem::zeroed();
        request.ifr_name[0] = b'l' as libc::c_char;
        request.ifr_name[1] = b'o' as libc::c_char;
        request.ifr_ifru.ifru_flags = (libc::IFF_UP | libc::IFF_RUNNING) as libc::c_short;
        let done = libc::ioctl(socket, libc::SIOCSIFFLAGS as _, &request);
        let error = io::Error::last_os_error();
        libc::close(socket);
        if done < 0 { Err(error) } else { Ok(()) }
    }
}

/// Sets an environment variable of this process.
pub(crate) fn set_env(name: &str, value: &str) {
    // SAFETY: called by the machine's first process before it starts any thread.
    unsafe { std::env::set_var(name, value) };
}

/// Collects children that ended, for ever: the machine's first process inherits orphans.
pub(crate) fn reap() -> ! {
    loop {
        // SAFETY: a null status is allowed; waitpid touches no memory then.
        let ended = unsafe { libc::waitpid(-1, std::ptr::null_mut(), 0) };
        if ended < 0 {
            // No children now.
            std::thread::sleep(std::time::Duration::from_millis(50));
        }
    }
}
