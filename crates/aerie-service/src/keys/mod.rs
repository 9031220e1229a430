//! The keys of a service: all sealed under one master key, so that one secret is to be guarded. Each can be rotated while the
//! service runs; what earlier ones signed or sealed still verifies.

mod ring;
mod tls;

pub(crate) use tls::fingerprint as certificate_fingerprint;

pub use ring::Purpose;

use aerie_core::evidence::{LogKey, SigningKey, VerifyingKey};
use aerie_core::recording::MasterKey;
use jiff::{SignedDuration, Timestamp};
use p256::elliptic_curve::sec1::ToSec1Point as _;
use ring::{Key, Ring};
use russh::keys::ssh_key::certificate::{Builder, CertType, Certificate};
use russh::keys::ssh_key::private::{EcdsaKeypair, Ed25519Keypair, KeypairData};
use russh::keys::ssh_key::public::EcdsaPublicKey;
use russh::keys::ssh_key::{HashAlg, PrivateKey, PublicKey};
use std::net::IpAddr;
use std::path::Path;
use std::sync::RwLock;
use zeroize::Zeroizing;

/// How long a certificate for a machine is good. Only the setting up of the connection needs it.
const VALIDITY: SignedDuration = SignedDuration::from_mins(2);
/// How far the machine's clock may be behind.
const SKEW: SignedDuration = SignedDuration::from_mins(1);

/// What can be wrong with the keys.
#[derive(Debug, thiserror::Error)]
pub enum KeyError {
    /// The file cannot be read or written.
    #[error("the file of keys {path}: {source}")]
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
    /// The file of keys is not one, or of a later version.
    #[error("keys.json in the data directory cannot be read: it is damaged, or of a later version")]
    Ring,
    /// It was sealed under another master key.
    #[error("keys.json in the data directory was sealed under another master key: bring back the one that belongs to it")]
    OtherMaster,
    /// The master key is not in a file.
    #[error("the master key was handed in with AERIE_MASTER_KEY: the service cannot change it there")]
    HandedIn,
    /// The system has no randomness.
    #[error("the system gives no random numbers")]
    Random,
    /// A key or certificate could not be made.
    #[error("a key could not be made: {0}")]
    Ssh(#[from] russh::keys::ssh_key::Error),
    /// A certificate for TLS could not be made.
    #[error("a certificate could not be made: {0}")]
    Tls(String),
}

/// A key as it is listed: never the key itself.
#[derive(Debug, Clone)]
pub struct KeyAge {
    /// What it is for; none for the master key.
    pub purpose: Option<Purpose>,
    /// Counts from 1.
    pub generation: u32,
    /// Since when.
    pub made: Timestamp,
    /// Whether it is the one in use.
    pub in_use: bool,
    /// What others must know of it: an SSH public key, hexadecimal bytes, a fingerprint. Empty where nothing is to be known.
    pub public: String,
}

/// The keys of a service.
pub struct Keys {
    ring: RwLock<Ring>,
}

fn ed25519(seed: &[u8; 32], comment: &str) -> Result<PrivateKey, KeyError> {
    Ok(PrivateKey::new(KeypairData::Ed25519(Ed25519Keypair::from_seed(seed)), comment)?)
}

/// An ECDSA key on P-256 (RFC 5656). A seed is a scalar but for one of 2^32; that one is hashed until it is.
fn ecdsa(seed: &[u8; 32], comment: &str) -> Result<PrivateKey, KeyError> {
    let (mut bytes, mut tries) = (Zeroizing::new(*seed), 0u8);
    let secret = loop {
        match p256::SecretKey::from_slice(&*bytes) {
            Ok(secret) => break secret,
            Err(_) if tries < u8::MAX => {
                tries += 1;
                bytes = Zeroizing::new(MasterKey::new(*bytes).derive("another scalar"));
            }
            Err(_) => return Err(KeyError::Ring),
        }
    };
    let point = secret.public_key().to_sec1_point(false);
    let EcdsaPublicKey::NistP256(public) = EcdsaPublicKey::from_sec1_bytes(point.as_bytes())? else { return Err(KeyError::Ring) };
    Ok(PrivateKey::new(KeypairData::Ecdsa(EcdsaKeypair::NistP256 { public, private: secret.into() }), comment)?)
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
    /// Loads the keys of a data directory, and makes those that are missing.
    ///
    /// # Errors
    /// When they cannot be read or made, or are open to others.
    pub fn load(data: &Path) -> Result<Self, KeyError> {
        Ok(Self { ring: RwLock::new(Ring::open(data, Timestamp::now())?) })
    }

    fn ring(&self) -> std::sync::RwLockReadGuard<'_, Ring> {
        self.ring.read().unwrap_or_else(std::sync::PoisonError::into_inner)
    }

    fn ring_mut(&self) -> std::sync::RwLockWriteGuard<'_, Ring> {
        self.ring.write().unwrap_or_else(std::sync::PoisonError::into_inner)
    }

    fn ssh(&self, purpose: Purpose, comment: &str) -> Result<PrivateKey, KeyError> {
        ed25519(&self.ring().newest(purpose)?.seed, comment)
    }

    /// Encrypts a small secret, bound to what it is for.
    ///
    /// # Errors
    /// When the system has no randomness.
    pub fn seal(&self, secret: &[u8], purpose: &str) -> Result<Vec<u8>, KeyError> {
        let key = MasterKey::new(*self.ring().newest(Purpose::Secrets)?.seed);
        key.seal(secret, purpose, random()?).ok_or(KeyError::Ring)
    }

    /// Decrypts what [`Keys::seal`] made, with whichever generation; none where it is not that.
    pub fn open(&self, sealed: &[u8], purpose: &str) -> Option<Zeroizing<Vec<u8>>> {
        self.try_secrets(|key| key.open(sealed, purpose))
    }

    /// What the first key of secrets gives with which something can be opened, newest first.
    pub fn try_secrets<T>(&self, open: impl Fn(&MasterKey) -> Option<T>) -> Option<T> {
        self.ring().of(Purpose::Secrets).rev().find_map(|k| open(&MasterKey::new(*k.seed)))
    }

    /// The gateway's host key.
    ///
    /// # Errors
    /// When it cannot be made.
    pub fn host(&self) -> Result<PrivateKey, KeyError> {
        self.ssh(Purpose::SshHost, "aerie gateway")
    }

    /// The gateway's host key for clients that know no Ed25519.
    ///
    /// # Errors
    /// When it cannot be made.
    pub fn host_for_old_clients(&self) -> Result<PrivateKey, KeyError> {
        ecdsa(&self.ring().newest(Purpose::SshHostEcdsa)?.seed, "aerie gateway")
    }

    /// Signs certificates with which the gateway signs in to machines: newest first.
    pub fn user_authorities(&self) -> Vec<PrivateKey> {
        self.ring().of(Purpose::SshUser).rev().filter_map(|k| ed25519(&k.seed, "aerie user authority").ok()).collect()
    }

    /// The lines that a machine must trust (`TrustedUserCAKeys`), newest first.
    pub fn user_authority_lines(&self) -> Vec<String> {
        self.user_authorities().iter().filter_map(|k| k.public_key().to_openssh().ok()).collect()
    }

    /// Signs the host certificates with which the gateway, and machines behind `ssh -J`, are known.
    ///
    /// # Errors
    /// When it cannot be made.
    pub fn host_authority(&self) -> Result<PrivateKey, KeyError> {
        self.ssh(Purpose::SshMachines, "aerie host authority")
    }

    /// The key that signs checkpoints.
    ///
    /// # Errors
    /// When there is none.
    pub fn checkpoint_key(&self) -> Result<SigningKey, KeyError> {
        Ok(SigningKey::from_bytes(&self.ring().newest(Purpose::LogSigning)?.seed))
    }

    /// The keys with which checkpoints verify, oldest first.
    pub fn checkpoint_keys(&self) -> Vec<VerifyingKey> {
        self.ring().of(Purpose::LogSigning).map(|k| SigningKey::from_bytes(&k.seed).verifying_key()).collect()
    }

    /// The keys that prove the service to agents, newest first.
    pub(crate) fn agent_keys(&self) -> Vec<SigningKey> {
        self.ring().of(Purpose::Agents).rev().take(8).map(|k| SigningKey::from_bytes(&k.seed)).collect()
    }

    /// The key that seals events, with the earlier ones.
    pub fn log_key(&self) -> LogKey {
        LogKey::new(self.ring().of(Purpose::LogSeal).map(|k| *k.seed).collect())
    }

    /// Keyed hash of a token, as it is stored.
    pub fn token_hash(&self, token: &str) -> [u8; 32] {
        self.token_hashes(token).into_iter().next().unwrap_or_default()
    }

    /// Keyed hashes of a token under every generation of the key, newest first.
    pub fn token_hashes(&self, token: &str) -> Vec<[u8; 32]> {
        self.ring().of(Purpose::Tokens).rev().map(|k| MasterKey::new(*k.seed).derive(token)).collect()
    }

    /// A key and a certificate for one sign-in to a machine, by an authority of [`Keys::user_authorities`], good from
    /// these addresses alone.
    ///
    /// # Errors
    /// When the system has no randomness.
    pub fn certify(
        authority: &PrivateKey,
        session: &str,
        account: &str,
        sources: &[IpAddr],
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
        let sources: Vec<String> = sources.iter().take(32).map(ToString::to_string).collect();
        builder.critical_option("source-address", sources.join(","))?;
        builder.extension("permit-pty", "")?;
        if forward {
            builder.extension("permit-port-forwarding", "")?;
        }
        Ok((key, builder.sign(authority)?))
    }

    /// A certificate that says that the gateway's host key speaks for these names.
    ///
    /// # Errors
    /// When the system has no randomness.
    pub fn certify_host(&self, names: &[&str], now: Timestamp) -> Result<Certificate, KeyError> {
        let mut builder = validity(&self.host()?, now)?;
        builder.cert_type(CertType::Host)?.key_id(format!("aerie {}", names.join(" ")))?;
        for name in names {
            builder.valid_principal(*name)?;
        }
        Ok(builder.sign(&self.host_authority()?)?)
    }

    /// Makes the next generation of a key; it is in use at once, and earlier ones still verify. Returns its number.
    ///
    /// # Errors
    /// When it cannot be made or kept: then nothing changed.
    pub fn rotate(&self, purpose: Purpose, now: Timestamp) -> Result<u32, KeyError> {
        self.ring_mut().rotate(purpose, now)
    }

    /// Changes the master key: every key is sealed anew.
    ///
    /// # Errors
    /// When it was handed in from outside, or cannot be kept.
    pub fn rotate_master(&self, now: Timestamp) -> Result<(), KeyError> {
        self.ring_mut().rotate_master(now)
    }

    /// Every key with its age.
    pub fn list(&self) -> Vec<KeyAge> {
        let ring = self.ring();
        let master = KeyAge { purpose: None, generation: 1, made: ring.master_made, in_use: true, public: String::new() };
        let newest = |k: &Key| ring.newest(k.purpose).is_ok_and(|n| n.generation == k.generation);
        let mut all: Vec<KeyAge> = ring
            .keys
            .iter()
            .map(|k| KeyAge { purpose: Some(k.purpose), generation: k.generation, made: k.made, in_use: newest(k), public: public(k) })
            .collect();
        all.sort_by_key(|k| (k.purpose, std::cmp::Reverse(k.generation)));
        std::iter::once(master).chain(all).collect()
    }
}

/// What others must know of a key.
fn public(key: &Key) -> String {
    match key.purpose {
        Purpose::SshHost | Purpose::SshUser | Purpose::SshMachines => {
            ed25519(&key.seed, "").and_then(|k| Ok(k.public_key().to_openssh()?)).unwrap_or_default()
        }
        Purpose::SshHostEcdsa => ecdsa(&key.seed, "").and_then(|k| Ok(k.public_key().to_openssh()?)).unwrap_or_default(),
        Purpose::LogSigning | Purpose::Agents => aerie_core::evidence::hex(SigningKey::from_bytes(&key.seed).verifying_key().as_bytes()),
        Purpose::TlsAuthority | Purpose::Tls => key.certificate.as_ref().and_then(|(pem, _)| tls::fingerprint(pem)).unwrap_or_default(),
        Purpose::Secrets | Purpose::LogSeal | Purpose::Tokens => String::new(),
    }
}

fn validity(key: &PrivateKey, now: Timestamp) -> Result<Builder, KeyError> {
    let second = |t: Timestamp| u64::try_from(t.as_second()).unwrap_or(0);
    let (from, to) = (second(now - SKEW), second(now + VALIDITY));
    Ok(Builder::new(random::<16>()?.to_vec(), key.public_key().key_data().clone(), from, to)?)
}

#[cfg(test)]
mod tests {
    use super::*;
    use std::os::unix::fs::PermissionsExt as _;

    #[test]
    fn every_seed_gives_one_key_for_old_clients() {
        let [first, again] = [ecdsa(&[7; 32], "").unwrap(), ecdsa(&[7; 32], "").unwrap()];
        assert_eq!(first.public_key(), again.public_key());
        assert_eq!(first.algorithm().as_str(), "ecdsa-sha2-nistp256");
        // Neither zero nor more than the order of the curve is a scalar.
        for seed in [[0; 32], [0xff; 32]] {
            assert_ne!(ecdsa(&seed, "").unwrap().public_key(), first.public_key());
        }
        let signature = first.sign("aerie", HashAlg::Sha256, b"text").unwrap();
        assert!(first.public_key().verify("aerie", b"text", &signature).is_ok());
    }

    #[test]
    fn the_master_key_is_made_once_and_must_be_private() {
        let dir = tempfile::tempdir().unwrap();
        let first = Keys::load(dir.path()).unwrap();
        let second = Keys::load(dir.path()).unwrap();
        assert_eq!(first.host().unwrap().public_key(), second.host().unwrap().public_key());
        assert_eq!(first.token_hash("x"), second.token_hash("x"));
        assert_ne!(first.token_hash("x"), first.token_hash("y"));
        for file in ["master.key", "keys.json"] {
            assert_eq!(std::fs::metadata(dir.path().join(file)).unwrap().permissions().mode() & 0o777, 0o600, "{file}");
        }
        let path = dir.path().join("master.key");
        std::fs::set_permissions(&path, std::fs::Permissions::from_mode(0o644)).unwrap();
        assert!(matches!(Keys::load(dir.path()), Err(KeyError::Open(_))));
        std::fs::set_permissions(&path, std::fs::Permissions::from_mode(0o600)).unwrap();
        std::fs::write(&path, "short").unwrap();
        assert!(matches!(Keys::load(dir.path()), Err(KeyError::Form)));
        std::fs::write(&path, "ab".repeat(32)).unwrap();
        assert!(matches!(Keys::load(dir.path()), Err(KeyError::OtherMaster)));
    }

    #[test]
    fn what_an_earlier_version_derived_goes_on() {
        let dir = tempfile::tempdir().unwrap();
        std::fs::write(dir.path().join("aerie.db"), "").unwrap();
        let keys = Keys::load(dir.path()).unwrap();
        let text = std::fs::read_to_string(dir.path().join("master.key")).unwrap();
        let master = MasterKey::new(aerie_core::evidence::unhex(text.trim()).unwrap().try_into().unwrap());
        assert_eq!(keys.checkpoint_key().unwrap().to_bytes(), master.derive("checkpoint key"));
        assert_eq!(keys.token_hash("x"), MasterKey::new(master.derive("token hash")).derive("x"));
        assert_eq!(keys.open(&master.seal(b"s", "p", [0; 24]).unwrap(), "p").unwrap().as_slice(), b"s");
    }

    #[test]
    fn rotation_keeps_what_earlier_keys_made() {
        let dir = tempfile::tempdir().unwrap();
        let keys = Keys::load(dir.path()).unwrap();
        let (sealed, hash, signer) =
            (keys.seal(b"secret", "p").unwrap(), keys.token_hash("t"), keys.checkpoint_key().unwrap().verifying_key());
        let authority = keys.user_authority_lines();
        for purpose in Purpose::ALL {
            assert_eq!(keys.rotate(*purpose, Timestamp::now()).unwrap(), 2, "{purpose:?}");
        }
        keys.rotate_master(Timestamp::now()).unwrap();
        for keys in [keys, Keys::load(dir.path()).unwrap()] {
            assert_eq!(keys.open(&sealed, "p").unwrap().as_slice(), b"secret");
            assert!(keys.open(&sealed, "q").is_none());
            assert_eq!(keys.token_hashes("t").get(1), Some(&hash));
            assert_eq!(keys.checkpoint_keys()[0], signer);
            assert_eq!(keys.user_authority_lines()[1..], authority);
            assert_eq!(keys.list().iter().filter(|k| k.in_use).count(), Purpose::ALL.len() + 1);
        }
    }

    #[test]
    fn a_crash_while_the_master_key_changes_loses_nothing() {
        let dir = tempfile::tempdir().unwrap();
        let keys = Keys::load(dir.path()).unwrap();
        let (master, sealed) = (std::fs::read(dir.path().join("master.key")).unwrap(), keys.seal(b"s", "p").unwrap());
        // The moment in which the file is sealed under both: either master key opens it.
        let (old, next) = (
            MasterKey::new(aerie_core::evidence::unhex(String::from_utf8_lossy(&master).trim()).unwrap().try_into().unwrap()),
            MasterKey::new([9; 32]),
        );
        keys.ring().write(&[&old, &next]).unwrap();
        for text in [master, "09".repeat(32).into_bytes()] {
            std::fs::write(dir.path().join("master.key"), text).unwrap();
            assert_eq!(Keys::load(dir.path()).unwrap().open(&sealed, "p").unwrap().as_slice(), b"s");
        }
    }

    #[test]
    fn a_certificate_is_narrow() {
        let dir = tempfile::tempdir().unwrap();
        let keys = Keys::load(dir.path()).unwrap();
        let (now, authorities) = (Timestamp::now(), keys.user_authorities());
        let (_, cert) = Keys::certify(&authorities[0], "s-1", "operator", &["10.0.0.1".parse().unwrap()], false, now).unwrap();
        assert_eq!(cert.valid_principals(), ["operator"]);
        assert_eq!(cert.key_id(), "aerie s-1");
        assert!(cert.valid_before() - cert.valid_after() <= 180);
        assert!(!cert.extensions().contains_key("permit-port-forwarding"));
    }
}
