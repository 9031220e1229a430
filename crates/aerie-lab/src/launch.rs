//! Starts machines and watches over them.

use crate::server::SshServer;
use crate::{MACHINE, MachineSpec, Network, Uplink, sys};
use nix::unistd::{Gid, Uid};
use std::fs;
use std::io::{BufRead as _, BufReader, Write as _};
use std::net::{SocketAddr, TcpListener};
use std::os::unix::fs::{PermissionsExt as _, chown};
use std::path::{Path, PathBuf};
use std::process::{Child, ChildStdin, Command, Stdio};

/// First user number of the range that a machine's own users are mapped to, when root starts it.
const FIRST_UID: u32 = 300_000;
/// Users of one machine.
const RANGE: u32 = 65_536;

/// What can go wrong.
#[derive(Debug, thiserror::Error)]
pub enum LabError {
    /// A file or process.
    #[error("{what}: {source}")]
    Io {
        /// What was tried.
        what: String,
        /// What is wrong.
        source: std::io::Error,
    },
    /// There is no SSH server.
    #[error("there is no OpenSSH server for the machines: {0}")]
    NoServer(String),
    /// The machine did not come up.
    #[error("the machine {name} did not come up: {why}")]
    NotUp {
        /// Its name.
        name: String,
        /// What it said last.
        why: String,
    },
}

/// How machines are kept apart from the host.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum Mode {
    /// Namespaces with users of their own, started by root.
    RootRange,
    /// Namespaces without users of their own, started by root where user namespaces are refused.
    RootPlain,
    /// Namespaces started by an ordinary user; all accounts share one user of the host.
    UserSingle,
    /// No namespaces: a plain SSH server on a loopback port, under the user who starts it.
    Plain,
}

impl Mode {
    /// The word for it on the command line.
    pub(crate) fn word(self) -> &'static str {
        match self {
            Self::RootRange => "root-range",
            Self::RootPlain => "root-plain",
            Self::UserSingle => "user-single",
            Self::Plain => "plain",
        }
    }

    /// What a person should know of it; none where nothing is lost.
    pub fn remark(self) -> Option<&'static str> {
        match self {
            Self::RootRange | Self::RootPlain => None,
            Self::UserSingle => Some("You are not root: the accounts of each machine share your user."),
            Self::Plain => Some(
                "Namespaces are refused here: the machines are plain SSH servers on loopback ports. They have your host name, your account and your files, and one log each.",
            ),
        }
    }
}

/// Starts machines.
#[derive(Debug)]
pub struct Lab {
    program: PathBuf,
    state: PathBuf,
    server: SshServer,
    mode: Mode,
    started: u32,
}

/// A machine that runs. Dropping it ends it.
#[derive(Debug)]
pub struct RunningMachine {
    /// Its name.
    pub name: String,
    /// Where its SSH server listens.
    pub address: SocketAddr,
    /// Its host key, in OpenSSH's public key format.
    pub host_key: String,
    /// Its log.
    pub log: PathBuf,
    /// Accounts that can be used.
    pub accounts: Vec<String>,
    /// Whether it stands in a network that nobody gets into, as its [`Network`] asked.
    pub closed: bool,
    /// Its one way out, where it stands in such a network.
    pub uplink: Uplink,
    child: Child,
    /// The machine ends when this is closed.
    life: Option<ChildStdin>,
}

impl RunningMachine {
    /// Process number, for [`Network::Beside`].
    pub fn pid(&self) -> u32 {
        self.child.id()
    }

    /// Runs a shell command inside, as root, with this input; its output goes to /var/log/run.log there, which is
    /// `log/run.log` beside [`RunningMachine::log`].
    ///
    /// # Errors
    /// When the machine is gone.
    pub fn run(&mut self, command: &str, input: &str) -> std::io::Result<()> {
        let life = self.life.as_mut().ok_or(std::io::ErrorKind::NotConnected)?;
        let line = format!("{}\x1f{}\n", command.replace('\n', "; "), input.replace('\n', "\x1e"));
        life.write_all(line.as_bytes())?;
        life.flush()
    }
}

impl Drop for RunningMachine {
    fn drop(&mut self) {
        self.life.take();
        let _ = self.child.kill();
        let _ = self.child.wait();
    }
}

fn io(what: impl Into<String>) -> impl FnOnce(std::io::Error) -> LabError {
    let what = what.into();
    move |source| LabError::Io { what, source }
}

impl Lab {
    /// A lab that keeps the machines' files below `state`. `program` is one that calls [`crate::run_if_machine`].
    ///
    /// # Errors
    /// When there is no SSH server.
    pub fn new(program: &Path, state: &Path, server: SshServer) -> Result<Self, LabError> {
        fs::create_dir_all(state).map_err(io(state.display().to_string()))?;
        let mode = if Uid::effective().is_root() { Mode::RootRange } else { Mode::UserSingle };
        Ok(Self { program: program.into(), state: state.into(), server, mode, started: 0 })
    }

    /// How machines are kept apart; settled once the first runs.
    pub fn mode(&self) -> Mode {
        self.mode
    }

    /// Starts a machine on a free loopback port. Where the system refuses what is best, the next best is taken.
    ///
    /// # Errors
    /// When not even a plain server comes up.
    pub fn start(&mut self, spec: &MachineSpec) -> Result<RunningMachine, LabError> {
        loop {
            let next = match self.mode {
                Mode::RootRange => Mode::RootPlain,
                Mode::RootPlain | Mode::UserSingle | Mode::Plain => Mode::Plain,
            };
            match self.try_start(spec) {
                Err(e) if self.mode != Mode::Plain && self.started == 0 => {
                    tracing::debug!(error = %e, mode = ?self.mode, "machines cannot be kept apart so");
                    self.mode = next;
                }
                result => {
                    self.started += 1;
                    return result;
                }
            }
        }
    }

    fn try_start(&self, spec: &MachineSpec) -> Result<RunningMachine, LabError> {
        let dir = self.state.join(&spec.name);
        let base = FIRST_UID + RANGE * self.started;
        self.prepare(&dir, spec, base)?;
        let listener = TcpListener::bind("127.0.0.1:0").map_err(io("a port for a machine"))?;
        let mut address = listener.local_addr().map_err(io("a port for a machine"))?;
        // Only root gets into the network of another machine, and without namespaces there are none.
        let network = match spec.network {
            Network::Beside(_) if self.mode != Mode::RootRange && self.mode != Mode::RootPlain => Network::Reachable,
            Network::Closed if self.mode == Mode::Plain => Network::Reachable,
            other => other,
        };
        match network {
            Network::Reachable | Network::Host => {}
            Network::Closed => address = SocketAddr::from(([127, 0, 0, 1], 22)),
            Network::Beside(_) => address = SocketAddr::from(([127, 0, 0, 2], 22)),
        }
        let uplink = Uplink::open(&dir.join("uplink")).map_err(io("an uplink"))?;
        let server = self.server.root.as_ref().map(|p| p.display().to_string()).unwrap_or_default();
        let mut command = Command::new(&self.program);
        let word = match network {
            Network::Reachable => "own".to_string(),
            Network::Host => "host".into(),
            Network::Closed => "closed".into(),
            Network::Beside(pid) => format!("beside {pid}"),
        };
        let program = self.program.display().to_string();
        command.args([MACHINE, self.mode.word(), &spec.name, &server, &word, &program]).current_dir(&dir).env_clear();
        command.stdin(Stdio::piped()).stdout(Stdio::piped()).stderr(Stdio::piped());
        sys::pass_listener(&mut command, &listener);
        let mut child = command.spawn().map_err(io("a machine"))?;
        drop(listener);
        let mut life = child.stdin.take().ok_or_else(|| self.not_up(spec, &mut child))?;
        let mut out = BufReader::new(child.stdout.take().ok_or_else(|| self.not_up(spec, &mut child))?);
        let mut line = String::new();
        if self.mode != Mode::Plain {
            out.read_line(&mut line).map_err(io("a machine"))?;
            if line.trim() != "unshared" {
                return Err(self.not_up(spec, &mut child));
            }
            self.map_users(child.id(), base).map_err(io("the users of a machine"))?;
        }
        life.write_all(b"g").map_err(io("a machine"))?;
        line.clear();
        out.read_line(&mut line).map_err(io("a machine"))?;
        let Some(host_key) = line.trim().strip_prefix("ready ") else { return Err(self.not_up(spec, &mut child)) };
        let accounts = match self.mode {
            Mode::Plain => vec![nix::unistd::User::from_uid(Uid::current()).ok().flatten().map_or("root".into(), |u| u.name)],
            Mode::RootRange | Mode::RootPlain | Mode::UserSingle => crate::ACCOUNTS.iter().map(|(n, _, _)| (*n).to_string()).collect(),
        };
        Ok(RunningMachine {
            name: spec.name.clone(),
            address,
            host_key: host_key.into(),
            log: dir.join("log/auth.log"),
            accounts,
            closed: matches!(network, Network::Closed | Network::Beside(_)),
            uplink,
            child,
            life: Some(life),
        })
    }

    /// What the machine reads when it comes up; its own users must be able to write its log.
    fn prepare(&self, dir: &Path, spec: &MachineSpec, base: u32) -> Result<(), LabError> {
        let write = |name: &str, text: &str| fs::write(dir.join(name), text).map_err(io(name));
        for d in ["root", "log", "files", "keys"] {
            let path = dir.join(d);
            fs::create_dir_all(&path).map_err(io(d))?;
            fs::set_permissions(&path, fs::Permissions::from_mode(0o755)).map_err(io(d))?;
            if self.mode == Mode::RootRange && matches!(d, "root" | "log") {
                chown(&path, Some(base), Some(base)).map_err(io(d))?;
                for entry in fs::read_dir(&path).map_err(io(d))?.flatten() {
                    chown(entry.path(), Some(base), Some(base)).map_err(io(d))?;
                }
            }
        }
        write("authority.pub", &spec.authority)?;
        let passwords: String = spec.passwords.iter().map(|(a, p)| format!("{a}:{p}\n")).collect();
        write("passwords", &passwords)?;
        for (account, key) in &spec.direct_keys {
            write(&format!("keys/{account}"), &format!("{key}\n"))?;
        }
        for (path, text) in &spec.files {
            write(&format!("files/{}", path.replace('/', "%")), text)?;
        }
        Ok(())
    }

    fn map_users(&self, pid: u32, base: u32) -> std::io::Result<()> {
        let put = |file: &str, text: String| fs::write(format!("/proc/{pid}/{file}"), text);
        match self.mode {
            Mode::RootRange => {
                put("uid_map", format!("0 {base} {RANGE}\n"))?;
                put("gid_map", format!("0 {base} {RANGE}\n"))
            }
            Mode::UserSingle => {
                put("setgroups", "deny".into())?;
                put("uid_map", format!("0 {} 1\n", Uid::current()))?;
                put("gid_map", format!("0 {} 1\n", Gid::current()))
            }
            Mode::RootPlain | Mode::Plain => Ok(()),
        }
    }

    fn not_up(&self, spec: &MachineSpec, child: &mut Child) -> LabError {
        let _ = child.kill();
        let mut why = String::new();
        if let Some(mut e) = child.stderr.take() {
            let _ = std::io::Read::read_to_string(&mut e, &mut why);
        }
        let _ = child.wait();
        LabError::NotUp { name: spec.name.clone(), why: why.trim().to_string() }
    }
}
