//! The keys as they are kept: one file, each key sealed under the master key, with every generation that is still needed.

use super::KeyError;
use aerie_core::evidence::{hex, unhex};
use aerie_core::recording::MasterKey;
use aerie_core::vault::{KeyFile, SealedKey};
use jiff::Timestamp;
use std::io::Write as _;
use std::os::unix::fs::{OpenOptionsExt as _, PermissionsExt as _};
use std::path::{Path, PathBuf};
use zeroize::Zeroizing;

/// Environment variable that may hold the master key (64 hexadecimal digits) instead of the file.
const KEY_VARIABLE: &str = "AERIE_MASTER_KEY";

macro_rules! purposes {
    ($($(#[$doc:meta])* $name:ident $word:literal $from:literal $about:literal;)*) => {
        /// What a key of the service is for.
        #[derive(Debug, Clone, Copy, PartialEq, Eq, PartialOrd, Ord, Hash)]
        pub enum Purpose { $($(#[$doc])* $name,)* }

        impl Purpose {
            /// Every purpose.
            pub const ALL: &[Purpose] = &[$(Self::$name,)*];

            /// Its stable word.
            pub fn word(self) -> &'static str {
                match self { $(Self::$name => $word,)* }
            }

            /// What it does, and what becomes of earlier ones.
            pub fn about(self) -> &'static str {
                match self { $(Self::$name => $about,)* }
            }

            /// What it was derived for from the master key in data directories that have no file of keys yet.
            fn derived(self) -> &'static str {
                match self { $(Self::$name => $from,)* }
            }
        }
    };
}

purposes! {
    /// Secrets at rest.
    Secrets "secrets" "" "Encrypts secrets and recordings at rest; earlier ones still decrypt.";
    /// Host key of the gateway.
    SshHost "ssh-host" "ssh host key" "The gateway's host key; clients need its line in known_hosts.";
    /// Host key of the gateway for old clients.
    SshHostEcdsa "ssh-host-ecdsa" "ssh host key ecdsa" "The gateway's host key for old clients, offered while the setting `older-clients` is on; they need its line in known_hosts.";
    /// User authority.
    SshUser "ssh-user-authority" "ssh user authority" "Signs the certificates with which the gateway signs in to machines; machines that trust only an earlier one are still reached.";
    /// Host authority.
    SshMachines "ssh-host-authority" "ssh host authority" "Signs the host certificates of machines behind `ssh -J`; clients need its line in known_hosts.";
    /// Checkpoints.
    LogSigning "log-signing" "checkpoint key" "Signs checkpoints of the log; what earlier ones signed still verifies.";
    /// Rows of the log.
    LogSeal "log-seal" "log seal" "Seals each row of the log; what earlier ones sealed still verifies.";
    /// Hashes.
    Tokens "tokens" "token hash" "Hashes tokens, PINs and recovery codes; what an earlier one hashed still counts.";
    /// Towards agents.
    Agents "agents" "" "Proves the service to its agents; those that know an earlier one learn of the next by themselves.";
    /// Certificate authority for TLS.
    TlsAuthority "tls-authority" "" "Signs the certificate of the console and API; browsers and clients trust it once.";
    /// TLS.
    Tls "tls" "" "The certificate of the console and API; connections that are open go on with the earlier one.";
}

impl Purpose {
    /// The purpose of that word.
    pub fn from_word(word: &str) -> Option<Self> {
        Self::ALL.iter().copied().find(|p| p.word() == word)
    }
}

/// One key.
pub(super) struct Key {
    pub(super) purpose: Purpose,
    pub(super) generation: u32,
    pub(super) made: Timestamp,
    pub(super) seed: Zeroizing<[u8; 32]>,
    /// Certificate in PEM behind a few lines of text, of the two for TLS; and its private key, sealed under the seed.
    pub(super) certificate: Option<(String, String)>,
}

/// Every key of the service, and where they are kept.
pub(super) struct Ring {
    path: PathBuf,
    master_path: Option<PathBuf>,
    pub(super) master: MasterKey,
    pub(super) master_made: Timestamp,
    /// Newest last within each purpose.
    pub(super) keys: Vec<Key>,
}

impl Ring {
    /// Reads the file, or begins one.
    pub(super) fn open(data: &Path, now: Timestamp) -> Result<Self, KeyError> {
        let master_path = data.join("master.key");
        let (master, from_file) = match std::env::var(KEY_VARIABLE) {
            Ok(text) => (parse(&text)?, false),
            Err(_) => (master_from(&master_path)?, true),
        };
        let path = data.join("keys.json");
        let mut ring =
            Self { path, master_path: from_file.then_some(master_path), master: MasterKey::new(master), master_made: now, keys: vec![] };
        match std::fs::read(&ring.path) {
            Ok(bytes) => ring.read(&bytes)?,
            Err(e) if e.kind() == std::io::ErrorKind::NotFound => {}
            Err(e) => return Err(ring.failed(e)),
        }
        // What an earlier version derived from the master key goes on; a new directory gets keys of their own.
        let derived = ring.keys.is_empty() && data.join("aerie.db").exists();
        let missing: Vec<Purpose> = Purpose::ALL.iter().copied().filter(|p| !ring.keys.iter().any(|k| k.purpose == *p)).collect();
        for purpose in &missing {
            let seed = match purpose {
                Purpose::Secrets if derived => master,
                Purpose::TlsAuthority | Purpose::Tls => super::random()?,
                other if derived => ring.master.derive(other.derived()),
                _ => super::random()?,
            };
            ring.keys.push(Key { purpose: *purpose, generation: 1, made: now, seed: Zeroizing::new(seed), certificate: None });
        }
        if !missing.is_empty() {
            ring.write(&[&ring.master])?;
        }
        Ok(ring)
    }

    fn failed(&self, source: std::io::Error) -> KeyError {
        KeyError::File { path: self.path.display().to_string(), source }
    }

    fn read(&mut self, bytes: &[u8]) -> Result<(), KeyError> {
        let file = KeyFile::read(bytes).map_err(|_| KeyError::Ring)?;
        self.master_made = file.master_made;
        for kept in file.keys {
            // A purpose that this version does not know is a later version's file.
            let purpose = Purpose::from_word(&kept.purpose).ok_or(KeyError::Ring)?;
            let seed = kept.open(&self.master).ok_or(KeyError::OtherMaster)?;
            let SealedKey { generation, made, certificate, .. } = kept;
            self.keys.push(Key { purpose, generation, made, seed, certificate });
        }
        Ok(())
    }

    /// Writes the file, each key sealed under each of these.
    pub(super) fn write(&self, under: &[&MasterKey]) -> Result<(), KeyError> {
        let mut keys = vec![];
        for k in &self.keys {
            let mut sealed = vec![];
            let word = k.purpose.word();
            for master in under {
                sealed.push(SealedKey::seal(master, word, k.generation, &k.seed, super::random()?).ok_or(KeyError::Ring)?);
            }
            let certificate = k.certificate.clone();
            keys.push(SealedKey { purpose: word.into(), generation: k.generation, made: k.made, sealed, certificate });
        }
        replace(&self.path, &KeyFile::new(self.master_made, keys).text().map_err(|_| KeyError::Ring)?)
    }

    /// Makes the next generation of a key. The earlier ones stay.
    pub(super) fn rotate(&mut self, purpose: Purpose, now: Timestamp) -> Result<u32, KeyError> {
        let generation = self.of(purpose).last().map_or(1, |k| k.generation + 1);
        self.keys.push(Key { purpose, generation, made: now, seed: Zeroizing::new(super::random()?), certificate: None });
        if let Err(e) = self.write(&[&self.master]) {
            self.keys.pop();
            return Err(e);
        }
        Ok(generation)
    }

    /// Changes the master key. After a crash at any point one of the two opens the file.
    pub(super) fn rotate_master(&mut self, now: Timestamp) -> Result<(), KeyError> {
        let Some(path) = self.master_path.clone() else { return Err(KeyError::HandedIn) };
        let bytes = Zeroizing::new(super::random::<32>()?);
        let next = MasterKey::new(*bytes);
        self.write(&[&self.master, &next])?;
        replace(&path, format!("{}\n", hex(&*bytes)).as_bytes())?;
        (self.master, self.master_made) = (next, now);
        self.write(&[&self.master])
    }

    /// The generations of one purpose, oldest first.
    pub(super) fn of(&self, purpose: Purpose) -> impl DoubleEndedIterator<Item = &Key> {
        self.keys.iter().filter(move |k| k.purpose == purpose)
    }

    /// The key in use.
    pub(super) fn newest(&self, purpose: Purpose) -> Result<&Key, KeyError> {
        self.of(purpose).next_back().ok_or(KeyError::Ring)
    }

    pub(super) fn set_certificate(&mut self, purpose: Purpose, pem: (String, String)) -> Result<(), KeyError> {
        if let Some(key) = self.keys.iter_mut().rfind(|k| k.purpose == purpose) {
            key.certificate = Some(pem);
        }
        self.write(&[&self.master])
    }
}

fn parse(text: &str) -> Result<[u8; 32], KeyError> {
    unhex(text.trim()).and_then(|b| b.try_into().ok()).ok_or(KeyError::Form)
}

/// Writes a file whole or not at all, readable by its owner alone.
fn replace(path: &Path, bytes: &[u8]) -> Result<(), KeyError> {
    let wrap = |source| KeyError::File { path: path.display().to_string(), source };
    let next = path.with_extension("next");
    let _ = std::fs::remove_file(&next);
    let mut file = std::fs::OpenOptions::new().write(true).create_new(true).mode(0o600).open(&next).map_err(wrap)?;
    file.write_all(bytes).and_then(|()| file.sync_all()).map_err(wrap)?;
    std::fs::rename(&next, path).map_err(wrap)
}

fn master_from(path: &Path) -> Result<[u8; 32], KeyError> {
    let wrap = |source| KeyError::File { path: path.display().to_string(), source };
    match std::fs::read_to_string(path) {
        Ok(text) => {
            let mode = std::fs::metadata(path).map_err(wrap)?.permissions().mode();
            if mode & 0o077 != 0 {
                return Err(KeyError::Open(path.display().to_string()));
            }
            parse(&text)
        }
        Err(e) if e.kind() == std::io::ErrorKind::NotFound => {
            let bytes = super::random::<32>()?;
            replace(path, format!("{}\n", hex(&bytes)).as_bytes())?;
            Ok(bytes)
        }
        Err(e) => Err(wrap(e)),
    }
}
