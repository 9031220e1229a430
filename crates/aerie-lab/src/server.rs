//! Where the SSH server's programs are: installed, or unpacked into a cache of ours.

use crate::LabError;
use std::path::{Path, PathBuf};
use std::process::{Command, Stdio};

/// Packages that hold the server and what it needs besides a plain Debian.
const PACKAGES: [&str; 3] = ["openssh-server", "openssh-sftp-server", "libwrap0"];

/// The programs of an OpenSSH server.
#[derive(Debug, Clone)]
pub struct SshServer {
    /// Root below which `usr/sbin/sshd` is; none where it is installed.
    pub root: Option<PathBuf>,
}

impl SshServer {
    /// Finds the server; where it is not installed, unpacks Debian's package into `cache` (nothing is installed, no service
    /// is started).
    ///
    /// # Errors
    /// When neither works; says what to run.
    pub fn find(cache: &Path) -> Result<Self, LabError> {
        let installed = Path::new("/usr/sbin/sshd").exists() && Path::new("/usr/lib/openssh/sftp-server").exists();
        if installed {
            return Ok(Self { root: None });
        }
        let root = cache.join("openssh");
        if root.join("usr/sbin/sshd").exists() {
            return Ok(Self { root: Some(root) });
        }
        unpack(cache, &root).map_err(|why| {
            LabError::NoServer(format!("{why}; run `apt-get update` and try again, or install the package openssh-server yourself"))
        })?;
        Ok(Self { root: Some(root) })
    }
}

fn unpack(cache: &Path, root: &Path) -> Result<(), String> {
    // Two demos may begin at once: each works in a directory of its own, and the first to finish gives the result its name.
    std::fs::create_dir_all(cache).map_err(|e| format!("{}: {e}", cache.display()))?;
    let own = tempfile::Builder::new().prefix("openssh-").tempdir_in(cache).map_err(|e| format!("{}: {e}", cache.display()))?;
    let packages = own.path().join("packages");
    std::fs::create_dir_all(&packages).map_err(|e| format!("{}: {e}", packages.display()))?;
    let run = |command: &mut Command, what: &str| -> Result<(), String> {
        let status = command.stdin(Stdio::null()).stdout(Stdio::null()).stderr(Stdio::null()).status();
        if status.is_ok_and(|s| s.success()) { Ok(()) } else { Err(format!("{what} failed")) }
    };
    let mut download = Command::new("apt-get");
    let fetched = run(download.arg("download").args(PACKAGES).current_dir(&packages), "`apt-get download openssh-server`");
    if let Err(why) = fetched {
        // A fresh machine has no lists of packages yet; only root may fetch them.
        run(Command::new("apt-get").arg("update"), "`apt-get update`").map_err(|_| why)?;
        run(Command::new("apt-get").arg("download").args(PACKAGES).current_dir(&packages), "`apt-get download openssh-server`")?;
    }
    // Unpacked beside and then renamed, so that a broken attempt is not taken for a whole one.
    let partial = own.path().join("root");
    for entry in std::fs::read_dir(&packages).map_err(|e| e.to_string())?.flatten() {
        if entry.path().extension().is_some_and(|e| e == "deb") {
            run(Command::new("dpkg-deb").arg("-x").arg(entry.path()).arg(&partial), "`dpkg-deb -x`")?;
        }
    }
    match std::fs::rename(&partial, root) {
        // Somebody else was faster, and theirs is whole.
        Err(_) if root.join("usr/sbin/sshd").exists() => Ok(()),
        done => done.map_err(|e| e.to_string()),
    }
}
