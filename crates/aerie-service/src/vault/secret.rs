use super::bound_to;
use crate::keys::{KeyError, Keys, random};
use aerie_core::vault::{SecretKind, password_of};
use aerie_store::VaultRow;
use russh::keys::ssh_key::private::{Ed25519Keypair, KeypairData};
use russh::keys::ssh_key::{LineEnding, PrivateKey};
use zeroize::Zeroizing;

/// Longest password, and longest key, that is taken.
const MAX_PASSWORD: usize = 256;
const MAX_KEY: usize = 16 << 10;

/// A credential in the clear. It has no `Clone` and prints nothing of itself.
pub(crate) enum Secret {
    Password(Zeroizing<String>),
    Key(Box<PrivateKey>),
}

impl std::fmt::Debug for Secret {
    fn fmt(&self, f: &mut std::fmt::Formatter<'_>) -> std::fmt::Result {
        f.write_str("Secret")
    }
}

/// Why a text is no credential.
#[derive(Debug, thiserror::Error)]
pub(crate) enum SecretError {
    #[error("a password has 1 to {MAX_PASSWORD} characters and no line break")]
    Password,
    #[error("this is no private key in OpenSSH's format without a passphrase")]
    Key,
    #[error(transparent)]
    Keys(#[from] KeyError),
}

impl Secret {
    /// Reads what somebody puts in.
    pub(crate) fn parse(kind: SecretKind, text: &str) -> Result<Self, SecretError> {
        match kind {
            SecretKind::Password => {
                let good = (1..=MAX_PASSWORD).contains(&text.chars().count()) && !text.contains(['\n', '\r', '\0']);
                if good { Ok(Self::Password(text.to_string().into())) } else { Err(SecretError::Password) }
            }
            SecretKind::Key => {
                let key = PrivateKey::from_openssh(text).ok().filter(|k| text.len() <= MAX_KEY && !k.is_encrypted());
                key.map(|k| Self::Key(Box::new(k))).ok_or(SecretError::Key)
            }
        }
    }

    /// The password, where it is one.
    pub(crate) fn password(self) -> Option<Zeroizing<String>> {
        match self {
            Self::Password(password) => Some(password),
            Self::Key(_) => None,
        }
    }

    /// Makes a new one.
    pub(crate) fn make(kind: SecretKind) -> Result<Self, KeyError> {
        match kind {
            SecretKind::Password => {
                let bytes = Zeroizing::new(random::<256>()?);
                password_of(&bytes[..]).map(Self::Password).ok_or(KeyError::Random)
            }
            SecretKind::Key => {
                let seed = Zeroizing::new(random::<32>()?);
                let pair = KeypairData::Ed25519(Ed25519Keypair::from_seed(&seed));
                Ok(Self::Key(Box::new(PrivateKey::new(pair, "aerie")?)))
            }
        }
    }

    /// The text of it.
    pub(crate) fn text(&self) -> Zeroizing<String> {
        match self {
            Self::Password(p) => p.clone(),
            Self::Key(k) => k.to_openssh(LineEnding::LF).unwrap_or_default(),
        }
    }

    pub(crate) fn seal(&self, keys: &Keys, row: &VaultRow) -> Result<Vec<u8>, KeyError> {
        keys.seal(self.text().as_bytes(), &bound_to(row))
    }

    pub(super) fn open(keys: &Keys, row: &VaultRow, sealed: &[u8]) -> Option<Self> {
        let bytes = keys.open(sealed, &bound_to(row))?;
        Self::parse(row.kind, std::str::from_utf8(&bytes).ok()?).ok()
    }

    /// The line of a key for authorized_keys; none of a password.
    pub(super) fn public_line(&self) -> Option<String> {
        match self {
            Self::Password(_) => None,
            Self::Key(k) => k.public_key().to_openssh().ok().map(|l| l.split(' ').take(2).collect::<Vec<_>>().join(" ")),
        }
    }

    pub(crate) fn fingerprint(&self) -> Option<String> {
        match self {
            Self::Password(_) => None,
            Self::Key(k) => Some(crate::keys::fingerprint(k.public_key())),
        }
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn credentials_are_read_and_show_nothing_of_themselves() {
        let key = Secret::make(SecretKind::Key).unwrap();
        let again = Secret::parse(SecretKind::Key, &key.text()).unwrap();
        assert_eq!(key.fingerprint(), again.fingerprint());
        assert!(key.public_line().unwrap().starts_with("ssh-ed25519 "));
        let password = Secret::make(SecretKind::Password).unwrap();
        assert!(!format!("{password:?}{key:?}").contains(password.text().as_str()));
        for bad in ["", "a\nb", &"x".repeat(257)] {
            assert!(Secret::parse(SecretKind::Password, bad).is_err());
            assert!(Secret::parse(SecretKind::Key, bad).is_err());
        }
    }
}
