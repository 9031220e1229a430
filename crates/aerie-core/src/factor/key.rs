/// What kind of SSH key, as far as its strength goes.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum KeyKind {
    /// Ed25519, also on a security key.
    Ed25519,
    /// ECDSA over a NIST curve, also on a security key.
    Ecdsa,
    /// RSA with this many bits.
    Rsa(u32),
    /// DSA.
    Dsa,
    /// Anything else.
    Other,
}

/// Why a key is refused.
#[derive(Debug, Clone, Copy, PartialEq, Eq, thiserror::Error)]
pub enum KeyFault {
    /// DSA keys have 1,024 bits.
    #[error("DSA keys are too weak: use Ed25519")]
    Dsa,
    /// RSA under 3,072 bits (NIST SP 800-57 part 1, 128-bit strength).
    #[error("an RSA key of {0} bits is too short: use Ed25519, or RSA with 3,072 bits")]
    ShortRsa(u32),
    /// A kind that is not known.
    #[error("this kind of key is not known: use Ed25519")]
    Unknown,
}

/// Whether a key is strong enough to be registered.
///
/// # Errors
/// Says why not, and what to use instead.
pub fn check_key(kind: KeyKind) -> Result<(), KeyFault> {
    match kind {
        KeyKind::Ed25519 | KeyKind::Ecdsa => Ok(()),
        KeyKind::Rsa(bits) if bits >= 3072 => Ok(()),
        KeyKind::Rsa(bits) => Err(KeyFault::ShortRsa(bits)),
        KeyKind::Dsa => Err(KeyFault::Dsa),
        KeyKind::Other => Err(KeyFault::Unknown),
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn weak_keys_are_refused_at_the_limit() {
        assert_eq!(check_key(KeyKind::Rsa(3072)), Ok(()));
        assert_eq!(check_key(KeyKind::Rsa(3071)), Err(KeyFault::ShortRsa(3071)));
        assert_eq!(check_key(KeyKind::Dsa), Err(KeyFault::Dsa));
        assert_eq!(check_key(KeyKind::Ed25519), Ok(()));
    }
}
