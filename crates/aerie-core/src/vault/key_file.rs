//! The file of the service's keys (`keys.json`): each key sealed under the master key, with every generation that is still needed.

use crate::evidence::{hex, unhex};
use crate::recording::MasterKey;
use jiff::Timestamp;
use serde::{Deserialize, Serialize};
use zeroize::Zeroizing;

/// The version that is written, and the only one that is read.
const VERSION: u32 = 1;

/// A key as it is in the file.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
#[serde(deny_unknown_fields)]
pub struct SealedKey {
    /// What it is for.
    pub purpose: String,
    /// Which of the keys for that, counted from 1.
    pub generation: u32,
    /// When it was made.
    pub made: Timestamp,
    /// Sealed under the master key, hexadecimal; while the master key is changed, under the next one as well.
    pub sealed: Vec<String>,
    /// Certificate in PEM, and its private key sealed under this key, of those for TLS.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub certificate: Option<(String, String)>,
}

/// The file.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
#[serde(deny_unknown_fields)]
pub struct KeyFile {
    version: u32,
    /// When the master key was made.
    pub master_made: Timestamp,
    /// By generation within each purpose.
    pub keys: Vec<SealedKey>,
}

/// What is wrong with a file of keys.
#[derive(Debug, Clone, Copy, PartialEq, Eq, thiserror::Error)]
pub enum KeyFileFault {
    /// It is none, or one of another version.
    #[error("the file of keys cannot be read, or is of a later version")]
    Form,
    /// It has two keys where there is one.
    #[error("the file of keys has one key twice")]
    Twice,
}

impl KeyFile {
    /// A file of these keys.
    pub fn new(master_made: Timestamp, keys: Vec<SealedKey>) -> Self {
        Self { version: VERSION, master_made, keys }
    }

    /// Reads the file.
    ///
    /// # Errors
    /// When it is none, of another version, or has a key twice.
    ///
    /// # Security
    /// A seal covers purpose and generation, not the place in the file. Keys are sorted by generation, so that an attacker who can write
    /// the file without the master key cannot make an earlier key the newest.
    pub fn read(bytes: &[u8]) -> Result<Self, KeyFileFault> {
        let mut file: Self = serde_json::from_slice(bytes).map_err(|_| KeyFileFault::Form)?;
        if file.version != VERSION {
            return Err(KeyFileFault::Form);
        }
        file.keys.sort_by(|a, b| (&a.purpose, a.generation).cmp(&(&b.purpose, b.generation)));
        let same = |a: &SealedKey, b: &SealedKey| (&a.purpose, a.generation) == (&b.purpose, b.generation);
        if file.keys.windows(2).any(|pair| matches!(pair, [a, b] if same(a, b))) {
            return Err(KeyFileFault::Twice);
        }
        Ok(file)
    }

    /// The file as it is written.
    ///
    /// # Errors
    /// When it cannot be put into words: nothing must be written in the place of the keys then.
    pub fn text(&self) -> Result<Vec<u8>, KeyFileFault> {
        serde_json::to_vec_pretty(self).map_err(|_| KeyFileFault::Form)
    }
}

impl SealedKey {
    /// What a seal is bound to.
    fn bound(purpose: &str, generation: u32) -> String {
        format!("service key {purpose} {generation}")
    }

    /// Seals a seed for its purpose and generation, hexadecimal. `nonce` is 24 random bytes.
    pub fn seal(master: &MasterKey, purpose: &str, generation: u32, seed: &[u8; 32], nonce: [u8; 24]) -> Option<String> {
        Some(hex(&master.seal(seed, &Self::bound(purpose, generation), nonce)?))
    }

    /// Opens it; none where this is another master key, or it was sealed for something else.
    pub fn open(&self, master: &MasterKey) -> Option<Zeroizing<[u8; 32]>> {
        let bound = Self::bound(&self.purpose, self.generation);
        let opened = self.sealed.iter().find_map(|s| master.open(&unhex(s)?, &bound))?;
        Some(Zeroizing::new(opened.as_slice().try_into().ok()?))
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    fn key(purpose: &str, generation: u32, seed: u8) -> SealedKey {
        let sealed = SealedKey::seal(&MasterKey::new([1; 32]), purpose, generation, &[seed; 32], [9; 24]).unwrap();
        let made = "2026-11-23T00:00:00Z".parse().unwrap();
        SealedKey { purpose: purpose.into(), generation, made, sealed: vec![sealed], certificate: None }
    }

    fn file(keys: Vec<SealedKey>) -> KeyFile {
        KeyFile::new("2026-11-23T00:00:00Z".parse().unwrap(), keys)
    }

    #[test]
    fn what_was_written_reads_and_opens_with_its_master_key_alone() {
        let written = file(vec![key("tokens", 1, 4), key("tokens", 2, 5)]);
        let read = KeyFile::read(&written.text().unwrap()).unwrap();
        assert_eq!(read, written);
        assert_eq!(*read.keys[1].open(&MasterKey::new([1; 32])).unwrap(), [5; 32]);
        assert!(read.keys[1].open(&MasterKey::new([2; 32])).is_none());
    }

    #[test]
    fn a_key_is_good_for_its_purpose_and_generation_alone() {
        let good = key("tokens", 2, 5);
        for other in [SealedKey { generation: 1, ..good.clone() }, SealedKey { purpose: "secrets".into(), ..good.clone() }] {
            assert!(other.open(&MasterKey::new([1; 32])).is_none());
        }
        let cut = SealedKey { sealed: good.sealed.iter().map(|s| s[..s.len() - 2].into()).collect(), ..good };
        assert!(cut.open(&MasterKey::new([1; 32])).is_none());
    }

    #[test]
    fn the_newest_is_the_newest_wherever_it_stands() {
        let read = KeyFile::read(&file(vec![key("tokens", 2, 5), key("secrets", 1, 3), key("tokens", 1, 4)]).text().unwrap()).unwrap();
        let order: Vec<_> = read.keys.iter().map(|k| (k.purpose.as_str(), k.generation)).collect();
        assert_eq!(order, [("secrets", 1), ("tokens", 1), ("tokens", 2)]);
        assert_eq!(KeyFile::read(&file(vec![key("tokens", 1, 5), key("tokens", 1, 4)]).text().unwrap()), Err(KeyFileFault::Twice));
    }

    #[test]
    fn another_version_and_what_is_no_file_of_keys_are_refused() {
        let text = String::from_utf8(file(vec![]).text().unwrap()).unwrap();
        assert!(KeyFile::read(text.as_bytes()).is_ok());
        for other in
            [text.replace("\"version\": 1", "\"version\": 2"), text.replace("\"keys\"", "\"key\""), text[..9].into(), String::new()]
        {
            assert_eq!(KeyFile::read(other.as_bytes()), Err(KeyFileFault::Form), "{other}");
        }
    }
}
