//! The keys of a service: all derived from one master key, so that one file is to be guarded.

use aerie_core::evidence::{LogKey, SigningKey};
use aerie_core::recording::MasterKey;
use jiff::{SignedDuration, Timestamp};
use russh::keys::ssh_key::certificate::{Builder, CertType, Certificate};
use russh::keys::ssh_key::private::{Ed25519Keypair, KeypairData};
use russh::keys::ssh_key::{HashAlg, PrivateKey, PublicKey};
use std::io::Write as _;
use std::net::IpAddr;
use std::os::unix::fs::{OpenOptionsExt as _, PermissionsExt as _};
use std::path::Path;

/// How long a certificate for a machine is good. Only the setting up of the connection needs it.
const VALIDITY: SignedDuration = SignedDuration::from_mins(2);
/// How far the machine's clock may be behind.
const SKEW: SignedDuration = SignedDuration::from_mins(1);
/// Environment variable that may hold the master key (64 hexadecimal digits) instead of the file.
const KEY_VARIABLE: &str = "AERIE_MASTER_KEY";

/// What can be wrong with the keys.
#[derive(Debug, thiserror::Error)]
pub enum KeyError {
    /// The file cannot be read or written.
    #[error("the master key {path}: {source}")]
    File {
        /// Where it is.
        path: String,
        /// What is wrong.
        source: std::io::Error,
    },
    /// Others can read it.
    #[error("the master key {0} can be read by others: run `chmod 600` on it, and ask who has read it")]
    Open(String),
    /// It is not a key.
    #[error("the master key is not 64 hexadecimal digits")]
    Form,
    /// The system has no randomness.
    #[error("the system gives no random numbers")]
    Random,
    /// A key or certificate could not be made.
    #[error("a key could not be made: {0}")]
    Ssh(#[from] russh::keys::ssh_key::Error),
}

/// The keys of a service.
pub struct Keys {
    /// Encrypts secrets at rest.
    pub master: MasterKey,
    /// The gateway's host key.
    pub host: PrivateKey,
    /// Signs certificates with which the gateway signs in to machines.
    pub user_authority: PrivateKey,
    /// Signs the certificates with which machines are known behind `ssh -J`.
    pub host_authority: PrivateKey,
    token: [u8; 32],
}

fn ed25519(seed: &[u8; 32], comment: &str) -> Result<PrivateKey, KeyError> {
    Ok(PrivateKey::new(KeypairData::Ed25519(Ed25519Keypair::from_seed(seed)), comment)?)
}

/// Random bytes.
///
/// # Errors
/// When the system has none.
pub(crate) fn random<const N: usize>() -> Result<[u8; N], KeyError> {
    let mut bytes = [0; N];
    getrandom::fill(&mut bytes).map_err(|_| KeyError::Random)?;
    Ok(bytes)
}

/// The fingerprint of a key as OpenSSH prints it: `SHA256:…`.
pub fn fingerprint(key: &PublicKey) -> String {
    key.fingerprint(HashAlg::Sha256).to_string()
}

impl Keys {
    /// Loads the master key from the environment or the data directory, or makes one there.
    ///
    /// # Errors
    /// When it cannot be read or made, or is open to others.
    pub fn load(data: &Path) -> Result<Self, KeyError> {
        let bytes = match std::env::var(KEY_VARIABLE) {
            Ok(text) => parse(&text)?,
            Err(_) => from_file(&data.join("master.key"))?,
        };
        let master = MasterKey::new(bytes);
        Ok(Self {
            host: ed25519(&master.derive("ssh host key"), "aerie gateway")?,
            user_authority: ed25519(&master.derive("ssh user authority"), "aerie user authority")?,
            host_authority: ed25519(&master.derive("ssh host authority"), "aerie host authority")?,
            token: master.derive("token hash"),
            master,
        })
    }

    /// The key that signs checkpoints.
    pub fn checkpoint_key(&self) -> SigningKey {
        SigningKey::from_bytes(&self.master.derive("checkpoint key"))
    }

    /// The key that seals events.
    pub fn log_key(&self) -> LogKey {
        LogKey::new(self.master.derive("log seal"))
    }

    /// Keyed hash of a token, as it is stored.
    pub fn token_hash(&self, token: &str) -> [u8; 32] {
        MasterKey::new(self.token).derive(token)
    }

    /// A key and a certificate for one sign-in to a machine.
    ///
    /// # Errors
    /// When the system has no randomness.
    pub fn certify(
        &self,
        session: &str,
        account: &str,
        source: IpAddr,
        forward: bool,
        now: Timestamp,
    ) -> Result<(PrivateKey, Certificate), KeyError> {
        let key = ed25519(&random()?, "")?;
        let mut builder = validity(&key, now)?;
        builder
            .cert_type(CertType::User)?
            .key_id(format!("aerie {session}"))?
            .serial(u64::from_be_bytes(random()?))?
            .valid_principal(account)?;
        builder.critical_option("source-address", source.to_string())?;
        builder.extension("permit-pty", "")?;
        if forward {
            builder.extension("permit-port-forwarding", "")?;
        }
        Ok((key, builder.sign(&self.user_authority)?))
    }

    /// A certificate that says that the gateway's host key speaks for a machine.
    ///
    /// # Errors
    /// When the system has no randomness.
    pub fn certify_host(&self, machine: &str, now: Timestamp) -> Result<Certificate, KeyError> {
        let mut builder = validity(&self.host, now)?;
        builder.cert_type(CertType::Host)?.key_id(format!("aerie {machine}"))?.valid_principal(machine)?;
        Ok(builder.sign(&self.host_authority)?)
    }
}

fn validity(key: &PrivateKey, now: Timestamp) -> Result<Builder, KeyError> {
    let second = |t: Timestamp| u64::try_from(t.as_second()).unwrap_or(0);
    let (from, to) = (second(now - SKEW), second(now + VALIDITY));
    Ok(Builder::new(random::<16>()?.to_vec(), key.public_key().key_data().clone(), from, to)?)
}

fn parse(text: &str) -> Result<[u8; 32], KeyError> {
    aerie_core::evidence::unhex(text.trim()).and_then(|b| b.try_into().ok()).ok_or(KeyError::Form)
}

fn from_file(path: &Path) -> Result<[u8; 32], KeyError> {
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
            let bytes = random::<32>()?;
            let mut file = std::fs::OpenOptions::new().write(true).create_new(true).mode(0o600).open(path).map_err(wrap)?;
            writeln!(file, "{}", aerie_core::evidence::hex(&bytes)).and_then(|()| file.sync_all()).map_err(wrap)?;
            Ok(bytes)
        }
        Err(e) => Err(wrap(e)),
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn the_master_key_is_made_once_and_must_be_private() {
        let dir = tempfile::tempdir().unwrap();
        let first = Keys::load(dir.path()).unwrap();
        let second = Keys::load(dir.path()).unwrap();
        assert_eq!(first.host.public_key(), second.host.public_key());
        assert_eq!(first.token_hash("x"), second.token_hash("x"));
        assert_ne!(first.token_hash("x"), first.token_hash("y"));
        let path = dir.path().join("master.key");
        std::fs::set_permissions(&path, std::fs::Permissions::from_mode(0o644)).unwrap();
        assert!(matches!(Keys::load(dir.path()), Err(KeyError::Open(_))));
        std::fs::set_permissions(&path, std::fs::Permissions::from_mode(0o600)).unwrap();
        std::fs::write(&path, "short").unwrap();
        assert!(matches!(Keys::load(dir.path()), Err(KeyError::Form)));
    }

    #[test]
    fn a_certificate_is_narrow() {
        let dir = tempfile::tempdir().unwrap();
        let keys = Keys::load(dir.path()).unwrap();
        let now = Timestamp::now();
        let (_, cert) = keys.certify("s-1", "operator", "10.0.0.1".parse().unwrap(), false, now).unwrap();
        assert_eq!(cert.valid_principals(), ["operator"]);
        assert_eq!(cert.key_id(), "aerie s-1");
        assert!(cert.valid_before() - cert.valid_after() <= 180);
        assert!(!cert.extensions().contains_key("permit-port-forwarding"));
    }
}
