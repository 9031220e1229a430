//! The data directory: for the service's own user alone, and for one service at a time.

use std::fs::{DirBuilder, File, OpenOptions, Permissions, TryLockError};
use std::io::{Read as _, Write as _};
use std::os::unix::fs::{DirBuilderExt as _, MetadataExt as _, OpenOptionsExt as _, PermissionsExt as _};
use std::path::{Path, PathBuf};

/// What others may do with the directory and what is in it: nothing.
const FOR_OTHERS: u32 = 0o077;
/// Files that a backup, a copy or an earlier version may have left open to others.
const FILES: [&str; 6] = ["aerie.db", "aerie.db-wal", "aerie.db-shm", "keys.json", "master.key", "lock"];

/// A data directory that this process has to itself, until it is dropped.
#[derive(Debug)]
pub struct DataDirectory {
    path: PathBuf,
    /// Locked (flock) while it is open.
    _lock: File,
}

/// Why a data directory cannot be used.
#[derive(Debug, thiserror::Error)]
pub enum DataError {
    /// Another process has it.
    #[error("{path} is in use by another service (process {by}): stop that one first, or take another directory")]
    InUse {
        /// The directory.
        path: String,
        /// Its process.
        by: String,
    },
    /// It belongs to somebody else.
    #[error("{0} belongs to another user: the service must own its data directory")]
    NotOwn(String),
    /// The file system refused.
    #[error("the data directory {path}: {source}")]
    Io {
        /// The directory.
        path: String,
        /// Why.
        source: std::io::Error,
    },
}

impl DataDirectory {
    /// Makes the directory where it is missing, takes away what others may do there, and locks it before anything is written.
    ///
    /// # Errors
    /// When another process has it, it belongs to another user, or the file system refuses.
    ///
    /// # Security
    /// The database holds password hashes and the log: no other user of the machine may read it, whatever the umask.
    pub fn take(path: &Path) -> Result<Self, DataError> {
        let failed = |source| DataError::Io { path: path.display().to_string(), source };
        DirBuilder::new().recursive(true).mode(0o700).create(path).map_err(failed)?;
        let found = std::fs::metadata(path).map_err(failed)?;
        if found.uid() != nix::unistd::geteuid().as_raw() {
            return Err(DataError::NotOwn(path.display().to_string()));
        }
        close(path, 0o700).map_err(failed)?;
        let mut lock =
            OpenOptions::new().read(true).write(true).create(true).truncate(false).mode(0o600).open(path.join("lock")).map_err(failed)?;
        match lock.try_lock() {
            Ok(()) => {}
            Err(TryLockError::WouldBlock) => {
                let mut by = String::new();
                let _ = lock.take(20).read_to_string(&mut by);
                return Err(DataError::InUse { path: path.display().to_string(), by: by.trim().into() });
            }
            Err(TryLockError::Error(e)) => return Err(failed(e)),
        }
        lock.set_len(0).and_then(|()| writeln!(lock, "{}", std::process::id())).map_err(failed)?;
        // SQLite gives what it writes beside the database the database's own mode.
        OpenOptions::new().append(true).create(true).mode(0o600).open(path.join("aerie.db")).map_err(failed)?;
        let recordings = path.join("recordings");
        DirBuilder::new().recursive(true).mode(0o700).create(&recordings).map_err(failed)?;
        close(&recordings, 0o700).map_err(failed)?;
        for file in FILES.iter().map(|f| path.join(f)).filter(|f| f.exists()) {
            close(&file, 0o600).map_err(failed)?;
        }
        Ok(Self { path: path.into(), _lock: lock })
    }

    /// Where it is.
    pub fn path(&self) -> &Path {
        &self.path
    }
}

/// Takes away what others may do.
fn close(path: &Path, mode: u32) -> std::io::Result<()> {
    if std::fs::metadata(path)?.mode() & FOR_OTHERS == 0 {
        return Ok(());
    }
    tracing::warn!(path = %path.display(), "was open to other users of this machine, and is no longer");
    std::fs::set_permissions(path, Permissions::from_mode(mode))
}

#[cfg(test)]
mod tests {
    use super::*;

    fn mode(path: &Path) -> u32 {
        std::fs::metadata(path).unwrap().mode() & 0o777
    }

    #[test]
    fn a_directory_is_for_its_owner_alone_whatever_it_was() {
        let dir = tempfile::tempdir().unwrap();
        let path = dir.path().join("made/here");
        drop(DataDirectory::take(&path).unwrap());
        assert_eq!((mode(&path), mode(&path.join("recordings")), mode(&path.join("aerie.db"))), (0o700, 0o700, 0o600));
        for (file, open) in [("", 0o755), ("recordings", 0o750), ("aerie.db", 0o644)] {
            std::fs::set_permissions(path.join(file), Permissions::from_mode(open)).unwrap();
        }
        std::fs::write(path.join("keys.json"), "{}").unwrap();
        drop(DataDirectory::take(&path).unwrap());
        for (file, closed) in [("", 0o700), ("recordings", 0o700), ("aerie.db", 0o600), ("keys.json", 0o600)] {
            assert_eq!(mode(&path.join(file)), closed, "{file}");
        }
    }

    #[test]
    fn one_service_has_it_at_a_time() {
        let dir = tempfile::tempdir().unwrap();
        let first = DataDirectory::take(dir.path()).unwrap();
        let own = std::process::id().to_string();
        assert!(matches!(DataDirectory::take(dir.path()), Err(DataError::InUse { by, .. }) if by == own));
        drop(first);
        DataDirectory::take(dir.path()).unwrap();
    }
}
