//! The one cipher for what is kept: XChaCha20-Poly1305 (draft-irtf-cfrg-xchacha-03, RFC 8439). Keys, nonces and what is bound to what are the
//! business of those who use it.
//!
//! It is a crate of its own since the cipher's code is made where it is used: here it is optimised in builds for development, too, where
//! it would be a hundred times slower else.
#![forbid(unsafe_code)]

use chacha20poly1305::aead::{Aead as _, KeyInit as _, Payload};
use chacha20poly1305::{XChaCha20Poly1305, XNonce};

/// Bytes of a key.
pub const KEY: usize = 32;
/// Bytes of a nonce. Under one key none may come twice; random ones do not.
pub const NONCE: usize = 24;

/// A key that is ready for use. Wiped when dropped.
pub struct Cipher(XChaCha20Poly1305);

impl std::fmt::Debug for Cipher {
    fn fmt(&self, f: &mut std::fmt::Formatter<'_>) -> std::fmt::Result {
        f.write_str("Cipher(redacted)")
    }
}

impl Cipher {
    /// For this key.
    pub fn new(key: &[u8; KEY]) -> Self {
        Self(XChaCha20Poly1305::new(key.into()))
    }

    /// Encrypts a text, bound to `bound`, which is not kept with it. The result is 16 bytes longer. None only for texts of 256 GiB.
    pub fn encrypt(&self, nonce: &[u8; NONCE], text: &[u8], bound: &[u8]) -> Option<Vec<u8>> {
        self.0.encrypt(&XNonce::from(*nonce), Payload { msg: text, aad: bound }).ok()
    }

    /// Decrypts what [`Cipher::encrypt`] made; none where key, nonce, `bound` or any byte are not those.
    pub fn decrypt(&self, nonce: &[u8; NONCE], sealed: &[u8], bound: &[u8]) -> Option<Vec<u8>> {
        self.0.decrypt(&XNonce::from(*nonce), Payload { msg: sealed, aad: bound }).ok()
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    fn bytes(hex: &str) -> Vec<u8> {
        hex.as_bytes().chunks(2).map(|two| u8::from_str_radix(std::str::from_utf8(two).unwrap(), 16).unwrap()).collect()
    }

    /// The vector of draft-irtf-cfrg-xchacha-03, appendix A.3.1.
    #[test]
    fn it_is_the_cipher_of_the_draft() {
        let text = b"Ladies and Gentlemen of the class of '99: If I could offer you only one tip for the future, sunscreen would be it.";
        let key: [u8; KEY] = bytes("808182838485868788898a8b8c8d8e8f909192939495969798999a9b9c9d9e9f").try_into().unwrap();
        let nonce: [u8; NONCE] = bytes("404142434445464748494a4b4c4d4e4f5051525354555657").try_into().unwrap();
        let bound = bytes("50515253c0c1c2c3c4c5c6c7");
        let sealed = Cipher::new(&key).encrypt(&nonce, text, &bound).unwrap();
        assert_eq!(sealed[..16], bytes("bd6d179d3e83d43b9576579493c0e939")[..]);
        assert_eq!(sealed[text.len()..], bytes("c0875924c1c7987947deafd8780acf49")[..]);
        assert_eq!(Cipher::new(&key).decrypt(&nonce, &sealed, &bound).unwrap(), text);
    }

    #[test]
    fn nothing_of_it_may_be_another() {
        let (key, nonce, text, bound) = ([1; KEY], [2; NONCE], b"dome", b"east");
        let sealed = Cipher::new(&key).encrypt(&nonce, text, bound).unwrap();
        assert_eq!(sealed.len(), text.len() + 16);
        assert!(Cipher::new(&[9; KEY]).decrypt(&nonce, &sealed, bound).is_none());
        assert!(Cipher::new(&key).decrypt(&[9; NONCE], &sealed, bound).is_none());
        assert!(Cipher::new(&key).decrypt(&nonce, &sealed, b"west").is_none());
        assert!(Cipher::new(&key).decrypt(&nonce, &sealed[..10], bound).is_none());
        for at in 0..sealed.len() {
            let mut altered = sealed.clone();
            altered[at] ^= 1;
            assert!(Cipher::new(&key).decrypt(&nonce, &altered, bound).is_none(), "byte {at}");
        }
        assert_eq!(format!("{:?}", Cipher::new(&key)), "Cipher(redacted)");
    }
}
