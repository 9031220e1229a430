use aerie_cipher::Cipher;
use hmac::{Hmac, Mac as _};
use jiff::Timestamp;
use serde::{Deserialize, Serialize};
use sha2::Sha256;
use zeroize::Zeroizing;

/// The key under which everything secret at rest is encrypted. Prints redacted; wiped when dropped.
pub struct MasterKey(Zeroizing<[u8; 32]>);

/// The key of one recording. Prints redacted; wiped when dropped.
pub struct DataKey(pub(super) Zeroizing<[u8; 32]>);

impl std::fmt::Debug for MasterKey {
    fn fmt(&self, f: &mut std::fmt::Formatter<'_>) -> std::fmt::Result {
        f.write_str("MasterKey(redacted)")
    }
}

impl std::fmt::Debug for DataKey {
    fn fmt(&self, f: &mut std::fmt::Formatter<'_>) -> std::fmt::Result {
        f.write_str("DataKey(redacted)")
    }
}

impl DataKey {
    /// From 32 random bytes.
    pub fn new(bytes: [u8; 32]) -> Self {
        Self(Zeroizing::new(bytes))
    }
}

impl MasterKey {
    /// From 32 random bytes.
    pub fn new(bytes: [u8; 32]) -> Self {
        Self(Zeroizing::new(bytes))
    }

    /// A key for one purpose: HMAC-SHA-256 of the purpose under the master key (a KDF in the sense of NIST SP 800-108).
    pub fn derive(&self, purpose: &str) -> [u8; 32] {
        let mut key = [0; 32];
        // HMAC takes keys of any length: this cannot fail.
        if let Ok(mac) = <Hmac<Sha256> as hmac::KeyInit>::new_from_slice(&*self.0) {
            let full = mac.chain_update(purpose.as_bytes()).finalize().into_bytes();
            full.iter().zip(key.iter_mut()).for_each(|(from, to)| *to = *from);
        }
        key
    }

    /// Encrypts a small secret, bound to what it is for. The result is nonce and ciphertext. None only where the cipher
    /// refuses, which it does for texts of 256 GiB.
    pub fn seal(&self, secret: &[u8], purpose: &str, nonce: [u8; 24]) -> Option<Vec<u8>> {
        let text = Cipher::new(&self.derive("seal")).encrypt(&nonce, secret, purpose.as_bytes())?;
        Some([&nonce[..], &text].concat())
    }

    /// Decrypts what [`MasterKey::seal`] made; none where key, purpose or text are not those.
    pub fn open(&self, sealed: &[u8], purpose: &str) -> Option<Zeroizing<Vec<u8>>> {
        let (nonce, text) = sealed.split_at_checked(24)?;
        Cipher::new(&self.derive("seal")).decrypt(nonce.try_into().ok()?, text, purpose.as_bytes()).map(Zeroizing::new)
    }
}

/// What stands in front of a recording, readable without any key.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
pub struct Header {
    /// The session.
    pub session: String,
    /// Name of the person.
    pub person: String,
    /// Name of the machine.
    pub machine: String,
    /// Account on the machine.
    pub account: String,
    /// Instant zero of the recording.
    pub started: Timestamp,
    /// The recording's key, sealed under the master key for `recording SESSION`; hexadecimal.
    pub key: String,
}

impl Header {
    /// Purpose for which the key of a recording is sealed.
    pub fn purpose(session: &str) -> String {
        format!("recording {session}")
    }

    /// The recording's key.
    pub fn data_key(&self, master: &MasterKey) -> Option<DataKey> {
        let sealed = crate::evidence::unhex(&self.key)?;
        let key = master.open(&sealed, &Self::purpose(&self.session))?;
        Some(DataKey::new(key.as_slice().try_into().ok()?))
    }
}
