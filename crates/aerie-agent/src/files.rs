//! What an agent keeps: its key and ticket, how it stands, and its log. All in one directory that only its user reads.

use crate::status::Status;
use ed25519_dalek::SigningKey;
use serde::{Deserialize, Serialize};
use std::fs::{self, OpenOptions};
use std::io::{self, Write as _};
use std::os::unix::fs::{DirBuilderExt as _, OpenOptionsExt as _};
use std::path::{Path, PathBuf};

/// Bytes of the log, after which it is put aside; one earlier piece is kept.
const LOG_SIZE: u64 = 1 << 20;

/// What an agent must not forget.
#[derive(Clone, Serialize, Deserialize)]
#[serde(deny_unknown_fields)]
pub struct AgentState {
    /// Host and port of the service.
    pub server: String,
    /// Machine that it serves.
    pub machine: String,
    /// Its site.
    pub site: String,
    /// Seed of its Ed25519 key, in hexadecimal.
    pub key: String,
    /// The service's key, in hexadecimal.
    pub service_key: String,
    /// The ticket for the next connection.
    pub ticket: Option<String>,
    /// What it connects to.
    pub allow: Vec<String>,
    /// File that it keeps the SSH authorities of the service in; none where it keeps them nowhere.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub trust_file: Option<PathBuf>,
    /// The log that it sends: `journal`, or the path of a file.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub log: Option<String>,
    /// The command that locks the screen of this computer; none where nothing does.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub lock_with: Option<String>,
}

impl std::fmt::Debug for AgentState {
    fn fmt(&self, f: &mut std::fmt::Formatter<'_>) -> std::fmt::Result {
        f.debug_struct("AgentState").field("machine", &self.machine).field("server", &self.server).finish_non_exhaustive()
    }
}

/// Why the files of an agent cannot be used.
#[derive(Debug, thiserror::Error)]
pub enum StateError {
    /// A file.
    #[error("{path}: {source}")]
    File {
        /// Which.
        path: String,
        /// What is wrong.
        source: io::Error,
    },
    /// It has not been enrolled.
    #[error("no agent is enrolled in {0}: run `{called} enrol` first", called = crate::called())]
    NotEnrolled(String),
    /// It is enrolled already.
    #[error("an agent is enrolled in {0} already: remove that directory if it is to become another machine's")]
    Enrolled(String),
    /// Its file is damaged.
    #[error("{0} is damaged: enrol the agent anew")]
    Damaged(String),
    /// Its key can be read by others.
    #[error("{0} can be read by others: run `chmod 600` on it, and ask who has read it")]
    Open(String),
    /// Another one runs.
    #[error("an agent runs from {0} already")]
    Running(String),
}

impl AgentState {
    /// Its key.
    ///
    /// # Errors
    /// When it is none.
    pub fn signing_key(&self) -> Result<SigningKey, StateError> {
        let seed = aerie_core::evidence::unhex(&self.key).and_then(|b| <[u8; 32]>::try_from(b).ok());
        seed.map(|s| SigningKey::from_bytes(&s)).ok_or_else(|| StateError::Damaged("the key of the agent".into()))
    }
}

/// The directory of an agent.
#[derive(Debug, Clone)]
pub struct StateDir(PathBuf);

fn failed(path: &Path) -> impl FnOnce(io::Error) -> StateError {
    move |source| StateError::File { path: path.display().to_string(), source }
}

impl StateDir {
    /// A directory that is given, or where agents are kept: `/var/lib/aerie-agent` for root, below the home of others.
    pub fn at(given: Option<PathBuf>) -> Self {
        let usual = || {
            if nix::unistd::Uid::effective().is_root() {
                return PathBuf::from("/var/lib/aerie-agent");
            }
            let home = std::env::var_os("HOME").map(PathBuf::from).unwrap_or_default();
            std::env::var_os("XDG_STATE_HOME").map(PathBuf::from).unwrap_or_else(|| home.join(".local/state")).join("aerie-agent")
        };
        Self(given.unwrap_or_else(usual))
    }

    /// Where it is.
    pub fn path(&self) -> &Path {
        &self.0
    }

    fn file(&self) -> PathBuf {
        self.0.join("agent.json")
    }

    /// Reads what it must not forget.
    ///
    /// # Errors
    /// When there is nothing, or it is damaged or open to others.
    pub fn load(&self) -> Result<AgentState, StateError> {
        use std::os::unix::fs::MetadataExt as _;
        let path = self.file();
        let text = match fs::read(&path) {
            Ok(t) => t,
            Err(e) if e.kind() == io::ErrorKind::NotFound => return Err(StateError::NotEnrolled(self.0.display().to_string())),
            Err(e) => return Err(failed(&path)(e)),
        };
        if fs::metadata(&path).map_err(failed(&path))?.mode() & 0o077 != 0 {
            return Err(StateError::Open(path.display().to_string()));
        }
        serde_json::from_slice(&text).map_err(|_| StateError::Damaged(path.display().to_string()))
    }

    /// Whether an agent is enrolled here.
    pub fn is_enrolled(&self) -> bool {
        self.file().exists()
    }

    /// Keeps what it must not forget, whole or not at all, on the disk when this returns.
    ///
    /// # Errors
    /// When it cannot be written.
    pub fn save(&self, state: &AgentState) -> Result<(), StateError> {
        let json = serde_json::to_vec_pretty(state).map_err(|_| StateError::Damaged("the state".into()))?;
        self.put(&self.file(), &json)
    }

    /// Says how it stands.
    pub fn say(&self, status: &Status) {
        if let Ok(json) = serde_json::to_vec_pretty(status)
            && let Err(e) = self.put(&self.0.join("status.json"), &json)
        {
            tracing::warn!(error = %e, "the status could not be written");
        }
    }

    /// How it stood when it last said so.
    pub fn status(&self) -> Option<Status> {
        serde_json::from_slice(&fs::read(self.0.join("status.json")).ok()?).ok()
    }

    fn put(&self, path: &Path, bytes: &[u8]) -> Result<(), StateError> {
        fs::DirBuilder::new().recursive(true).mode(0o700).create(&self.0).map_err(failed(&self.0))?;
        let partial = path.with_extension("partial");
        let _ = fs::remove_file(&partial);
        let mut file = OpenOptions::new().write(true).create_new(true).mode(0o600).open(&partial).map_err(failed(&partial))?;
        file.write_all(bytes).and_then(|()| file.sync_all()).map_err(failed(&partial))?;
        fs::rename(&partial, path).map_err(failed(path))?;
        fs::File::open(&self.0).and_then(|d| d.sync_all()).map_err(failed(&self.0))
    }

    /// Makes sure that one agent alone runs from here, as long as what is returned lives.
    ///
    /// # Errors
    /// When another does.
    pub fn alone(&self) -> Result<nix::fcntl::Flock<fs::File>, StateError> {
        let path = self.0.join("running");
        let file = OpenOptions::new().create(true).truncate(false).write(true).mode(0o600).open(&path).map_err(failed(&path))?;
        nix::fcntl::Flock::lock(file, nix::fcntl::FlockArg::LockExclusiveNonblock)
            .map_err(|_| StateError::Running(self.0.display().to_string()))
    }

    /// Whether an agent runs from here.
    pub fn runs(&self) -> bool {
        self.is_enrolled() && self.alone().is_err()
    }

    /// Adds a line to the log of the agent.
    pub fn note(&self, line: &str) {
        tracing::info!("{line}");
        let path = self.0.join("agent.log");
        let _ = fs::metadata(&path).is_ok_and(|m| m.len() > LOG_SIZE) && fs::rename(&path, path.with_extension("log.1")).is_ok();
        let file = OpenOptions::new().create(true).append(true).mode(0o600).open(&path);
        let text = format!("{} {}\n", jiff::Timestamp::now(), aerie_core::diagnostic::printable(line));
        if let Err(e) = file.and_then(|mut f| f.write_all(text.as_bytes())) {
            tracing::warn!(error = %e, "the log of the agent could not be written");
        }
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use std::os::unix::fs::PermissionsExt as _;

    fn state() -> AgentState {
        AgentState {
            server: "aerie.example:7443".into(),
            machine: "dome-east".into(),
            site: "ridge".into(),
            key: "07".repeat(32),
            service_key: "08".repeat(32),
            ticket: Some("one".into()),
            allow: vec!["127.0.0.1:22".into()],
            trust_file: None,
            log: None,
            lock_with: None,
        }
    }

    #[test]
    fn what_is_kept_reads_back_and_is_for_its_user_alone() {
        let temporary = tempfile::tempdir().unwrap();
        let dir = StateDir::at(Some(temporary.path().join("agent")));
        assert!(matches!(dir.load(), Err(StateError::NotEnrolled(_))));
        dir.save(&state()).unwrap();
        assert_eq!(dir.load().unwrap().machine, "dome-east");
        let mode = |p: &Path| fs::metadata(p).unwrap().permissions().mode() & 0o777;
        assert_eq!((mode(dir.path()), mode(&dir.file())), (0o700, 0o600));
        assert!(!format!("{:?}", state()).contains("0707"));
        fs::set_permissions(dir.file(), fs::Permissions::from_mode(0o640)).unwrap();
        assert!(matches!(dir.load(), Err(StateError::Open(_))));
        fs::write(dir.file(), "{").unwrap();
        fs::set_permissions(dir.file(), fs::Permissions::from_mode(0o600)).unwrap();
        assert!(matches!(dir.load(), Err(StateError::Damaged(_))));
    }

    #[test]
    fn one_agent_alone_runs_from_a_directory() {
        let temporary = tempfile::tempdir().unwrap();
        let dir = StateDir::at(Some(temporary.path().to_path_buf()));
        dir.save(&state()).unwrap();
        let alone = dir.alone().unwrap();
        assert!(matches!(dir.alone(), Err(StateError::Running(_))) && dir.runs());
        drop(alone);
        assert!(!dir.runs());
    }

    #[test]
    fn the_log_is_bounded() {
        let temporary = tempfile::tempdir().unwrap();
        let dir = StateDir::at(Some(temporary.path().to_path_buf()));
        let line = "x".repeat(400_000);
        for _ in 0..12 {
            dir.note(&line);
        }
        let size: u64 = fs::read_dir(temporary.path()).unwrap().map(|e| e.unwrap().metadata().unwrap().len()).sum();
        assert!(size < 4 * LOG_SIZE);
    }
}
