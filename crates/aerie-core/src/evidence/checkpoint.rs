use super::merkle::Hash;
use super::{hex, unhex};
use ed25519_dalek::{Signature, Signer as _};
pub use ed25519_dalek::{SigningKey, VerifyingKey};
use jiff::Timestamp;
use serde::{Deserialize, Serialize};

/// The log at one size, signed.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
pub struct Checkpoint {
    /// Number of events.
    pub size: u64,
    /// Root of the tree over them, hexadecimal.
    pub root: String,
    /// When it was written.
    pub at: Timestamp,
    /// Ed25519 signature over [`Checkpoint::text`], hexadecimal.
    pub signature: String,
}

/// Why a checkpoint is not to be trusted.
#[derive(Debug, Clone, Copy, PartialEq, Eq, thiserror::Error)]
pub enum CheckpointError {
    /// It is not written as a checkpoint.
    #[error("the checkpoint is malformed")]
    Malformed,
    /// Its signature is not that of the key.
    #[error("the signature of the checkpoint is wrong")]
    Signature,
}

impl Checkpoint {
    /// Signs the tree at a size.
    pub fn sign(key: &SigningKey, size: u64, root: &Hash, at: Timestamp) -> Self {
        let root = hex(root);
        let signature = hex(&key.sign(Self::text(size, &root, at).as_bytes()).to_bytes());
        Self { size, root, at, signature }
    }

    /// Checks the signature and returns the root.
    ///
    /// # Errors
    /// When it is malformed or was not signed by this key.
    pub fn verify(&self, key: &VerifyingKey) -> Result<Hash, CheckpointError> {
        let bytes = unhex(&self.signature).ok_or(CheckpointError::Malformed)?;
        let signature = Signature::from_slice(&bytes).map_err(|_| CheckpointError::Malformed)?;
        key.verify_strict(Self::text(self.size, &self.root, self.at).as_bytes(), &signature).map_err(|_| CheckpointError::Signature)?;
        unhex(&self.root).and_then(|r| r.try_into().ok()).ok_or(CheckpointError::Malformed)
    }

    /// Checks the signature by any of these keys, newest last, and returns the root.
    ///
    /// # Errors
    /// When it is malformed or none of them signed it.
    pub fn verify_by_any(&self, keys: &[VerifyingKey]) -> Result<Hash, CheckpointError> {
        let mut last = Err(CheckpointError::Signature);
        for key in keys.iter().rev() {
            last = self.verify(key);
            if last.is_ok() {
                break;
            }
        }
        last
    }

    /// What is signed: four lines.
    fn text(size: u64, root: &str, at: Timestamp) -> String {
        format!("aerie checkpoint 1\n{size}\n{root}\n{at}\n")
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn only_the_signed_text_verifies() {
        let key = SigningKey::from_bytes(&[7; 32]);
        let good = Checkpoint::sign(&key, 5, &[1; 32], "2026-11-23T00:00:00Z".parse().unwrap());
        assert_eq!(good.verify(&key.verifying_key()), Ok([1; 32]));
        let other = SigningKey::from_bytes(&[8; 32]).verifying_key();
        assert_eq!(good.verify(&other), Err(CheckpointError::Signature));
        assert_eq!(Checkpoint { size: 6, ..good.clone() }.verify(&key.verifying_key()), Err(CheckpointError::Signature));
        assert_eq!(Checkpoint { signature: "zz".into(), ..good }.verify(&key.verifying_key()), Err(CheckpointError::Malformed));
    }
}
