//! Signed HTTP requests (RFC 9421, Ed25519), as far as a token that is bound to a key needs them: one signature that covers
//! the method, the whole target, the token and the digest of the body.

use base64::Engine as _;
use base64::engine::general_purpose::STANDARD;
use ed25519_dalek::{Signature, SigningKey, VerifyingKey};
use jiff::{SignedDuration, Timestamp};
use sha2::{Digest as _, Sha256};
use std::collections::HashMap;

/// How far the clocks of the two sides may differ, and how long a request may be on its way.
pub const SIGNATURE_LIFE: SignedDuration = SignedDuration::from_secs(60);
/// Longest `Signature-Input` that is read.
const LONGEST_INPUT: usize = 1024;
/// Longest nonce.
const LONGEST_NONCE: usize = 64;
/// What must be covered, beside `content-digest` where there is a body.
const MUST_COVER: [&str; 5] = ["@method", "@authority", "@path", "@query", "authorization"];

/// The parts of a request that a signature speaks of.
#[derive(Debug, Clone, Copy)]
pub struct Message<'a> {
    /// `POST`.
    pub method: &'a str,
    /// Host and port as in the `Host` header, in small letters.
    pub authority: &'a str,
    /// Path, beginning with a slash, as it was sent.
    pub path: &'a str,
    /// Query without the question mark; empty where there is none.
    pub query: &'a str,
    /// The whole `Authorization` header; empty where there is none, as in what the service itself sends.
    pub authorization: &'a str,
    /// The `Content-Digest` header, where there is a body.
    pub content_digest: Option<&'a str>,
}

impl Message<'_> {
    /// The value of a component (RFC 9421 section 2).
    fn component(&self, name: &str) -> Option<String> {
        Some(match name {
            "@method" => self.method.into(),
            "@authority" => self.authority.to_ascii_lowercase(),
            "@path" => self.path.into(),
            "@query" => format!("?{}", self.query),
            "authorization" if self.authorization.is_empty() => return None,
            "authorization" => self.authorization.trim().into(),
            "content-digest" => self.content_digest?.trim().into(),
            _ => return None,
        })
    }

    fn covered(&self) -> impl Iterator<Item = &'static str> {
        let there = |n: &&str| *n != "authorization" || !self.authorization.is_empty();
        MUST_COVER.into_iter().filter(there).chain(self.content_digest.map(|_| "content-digest"))
    }

    /// The signature base (RFC 9421 section 2.5) for these components and parameters.
    fn base<'n>(&self, names: impl Iterator<Item = &'n str>, params: &str) -> Option<String> {
        let mut base = String::new();
        for name in names {
            base.push_str(&format!("\"{name}\": {}\n", self.component(name)?));
        }
        Some(base + "\"@signature-params\": " + params)
    }

    /// Signs: the values of `Signature-Input` and `Signature`.
    pub fn sign(&self, key: &SigningKey, nonce: &str, now: Timestamp) -> (String, String) {
        use ed25519_dalek::Signer as _;
        let names: Vec<String> = self.covered().map(|n| format!("\"{n}\"")).collect();
        let params = format!(
            "({});created={};nonce=\"{nonce}\";keyid=\"{}\";alg=\"ed25519\"",
            names.join(" "),
            now.as_second(),
            key_id(&key.verifying_key().to_bytes())
        );
        let base = self.base(self.covered(), &params).unwrap_or_default();
        let signature = STANDARD.encode(key.sign(base.as_bytes()).to_bytes());
        (format!("aerie={params}"), format!("aerie=:{signature}:"))
    }

    /// Checks a signature by this key. Returns the nonce, which must not have been used within [`SIGNATURE_LIFE`] either way.
    ///
    /// # Errors
    /// Says what is wrong; to the caller it is all the same.
    pub fn verify(&self, input: &str, signature: &str, key: &[u8; 32], now: Timestamp) -> Result<String, MessageFault> {
        let read = Input::read(input)?;
        if !self.covered().all(|n| read.components.contains(&n)) {
            return Err(MessageFault::NotCovered);
        }
        if read.keyid.is_some_and(|id| id != key_id(key)) || read.alg.is_some_and(|a| a != "ed25519") {
            return Err(MessageFault::Key);
        }
        let created = Timestamp::from_second(read.created).map_err(|_| MessageFault::Form)?;
        if now.duration_since(created).abs() > SIGNATURE_LIFE {
            return Err(MessageFault::Time);
        }
        let bytes = signature.trim().strip_prefix(read.label).and_then(|s| s.strip_prefix("=:")).and_then(|s| s.strip_suffix(':'));
        let bytes = bytes.and_then(|b| STANDARD.decode(b).ok()).ok_or(MessageFault::Form)?;
        let signature = Signature::from_slice(&bytes).map_err(|_| MessageFault::Form)?;
        let base = self.base(read.components.iter().copied(), read.params).ok_or(MessageFault::Form)?;
        let key = VerifyingKey::from_bytes(key).map_err(|_| MessageFault::Key)?;
        key.verify_strict(base.as_bytes(), &signature).map_err(|_| MessageFault::Signature)?;
        Ok(read.nonce.into())
    }
}

/// Why a signed request is refused.
#[derive(Debug, Clone, Copy, PartialEq, Eq, thiserror::Error)]
pub enum MessageFault {
    /// The headers cannot be read.
    #[error("the signature headers cannot be read")]
    Form,
    /// Something that matters is not signed.
    #[error("the signature does not cover method, authority, path, query, token and body")]
    NotCovered,
    /// Another key or algorithm.
    #[error("the signature is by another key")]
    Key,
    /// Too old, or ahead.
    #[error("the signature is not of this minute: compare the clocks")]
    Time,
    /// It is wrong.
    #[error("the signature is wrong")]
    Signature,
    /// The nonce was used.
    #[error("the request was sent before")]
    Replayed,
}

/// `Signature-Input` with one signature.
struct Input<'a> {
    label: &'a str,
    /// Everything behind `label=`, as it goes into the base.
    params: &'a str,
    components: Vec<&'a str>,
    created: i64,
    nonce: &'a str,
    keyid: Option<&'a str>,
    alg: Option<&'a str>,
}

impl<'a> Input<'a> {
    fn read(text: &'a str) -> Result<Self, MessageFault> {
        let form = MessageFault::Form;
        if text.len() > LONGEST_INPUT || !text.is_ascii() {
            return Err(form);
        }
        let (label, params) = text.trim().split_once('=').ok_or(form)?;
        let (list, rest) = params.strip_prefix('(').and_then(|p| p.split_once(')')).ok_or(form)?;
        let components: Vec<&str> = list.split_ascii_whitespace().map(|c| quoted(c).ok_or(form)).collect::<Result<_, _>>()?;
        let twice = components.iter().enumerate().any(|(i, c)| components.iter().skip(i + 1).any(|d| c == d));
        let label_reads = !label.is_empty() && label.bytes().all(|b| b.is_ascii_lowercase() || b.is_ascii_digit() || b"_-.*".contains(&b));
        if twice || !label_reads {
            return Err(form);
        }
        let mut known: HashMap<&str, &str> = HashMap::new();
        for part in rest.split(';').skip(1) {
            let (name, value) = part.trim_start().split_once('=').ok_or(form)?;
            if known.insert(name, value).is_some() {
                return Err(form);
            }
        }
        let text_of = |name: &str| known.get(name).map(|v| quoted(v).ok_or(form)).transpose();
        let created = known.get("created").and_then(|c| c.parse().ok()).ok_or(form)?;
        let nonce = text_of("nonce")?.filter(|n| !n.is_empty() && n.len() <= LONGEST_NONCE).ok_or(form)?;
        Ok(Self { label, params, components, created, nonce, keyid: text_of("keyid")?, alg: text_of("alg")? })
    }
}

fn quoted(text: &str) -> Option<&str> {
    text.strip_prefix('"')?.strip_suffix('"').filter(|t| !t.contains(['"', '\\', ';', ',']))
}

/// How a key is named in `keyid`: base64 of its SHA-256.
pub fn key_id(key: &[u8; 32]) -> String {
    STANDARD.encode(Sha256::digest(key))
}

/// The `Content-Digest` of a body (RFC 9530).
pub fn content_digest(body: &[u8]) -> String {
    format!("sha-256=:{}:", STANDARD.encode(Sha256::digest(body)))
}

/// Nonces that were used, for as long as a signature with them would be taken.
#[derive(Debug, Default)]
pub struct Nonces {
    used: HashMap<String, Timestamp>,
    swept: Timestamp,
}

impl Nonces {
    /// Most that are kept; beyond it nothing is taken, which is 400 requests a second.
    const MOST: usize = 50_000;

    /// Uses a nonce up; false where it was used, or no more can be kept.
    #[must_use]
    pub fn use_up(&mut self, owner: &str, nonce: &str, now: Timestamp) -> bool {
        if now.duration_since(self.swept).abs() > SignedDuration::from_secs(10) {
            self.used.retain(|_, at| now.duration_since(*at) <= SIGNATURE_LIFE * 2);
            self.swept = now;
        }
        self.used.len() < Self::MOST && self.used.insert(format!("{owner} {nonce}"), now).is_none()
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    fn t(s: i64) -> Timestamp {
        Timestamp::from_second(s).unwrap()
    }

    fn message() -> Message<'static> {
        Message {
            method: "POST",
            authority: "aerie.example",
            path: "/api/v1/log/checkpoints",
            query: "",
            authorization: "Bearer abc",
            content_digest: Some("sha-256=:X48E9qOokqqrvdts8nOJRJN3OWDUoyWxBf7kbu9DBPE=:"),
        }
    }

    #[test]
    fn the_base_and_signature_are_those_of_the_rfc() {
        // RFC 9421 appendix B.2.6: the test key of B.1.4, and a base that it prints in full.
        let seed = STANDARD.decode("n4Ni+HpISpVObnQMW0wOhCKROaIKqKtW/2ZYb2p9KcU=").unwrap();
        let key = SigningKey::from_bytes(&seed.try_into().unwrap());
        let base = "\"date\": Tue, 20 Apr 2021 02:07:55 GMT\n\"@method\": POST\n\"@path\": /foo\n\"@authority\": example.com\n\
                    \"content-type\": application/json\n\"content-length\": 18\n\
                    \"@signature-params\": (\"date\" \"@method\" \"@path\" \"@authority\" \"content-type\" \"content-length\")\
                    ;created=1618884473;keyid=\"test-key-ed25519\"";
        let signed = "wqcAqbmYJ2ji2glfAMaRy4gruYYnx2nEFN2HN6jrnDnQCK1u02Gb04v9EDgwUPiu4A0w6vuQv5lIp5WPpBKRCw==";
        use ed25519_dalek::Signer as _;
        assert_eq!(STANDARD.encode(key.sign(base.as_bytes()).to_bytes()), signed);
        let m = Message { authority: "example.com", path: "/foo", ..message() };
        assert_eq!(
            m.base(["@method", "@path", "@authority"].into_iter(), "(\"@method\" \"@path\" \"@authority\")").unwrap(),
            "\"@method\": POST\n\"@path\": /foo\n\"@authority\": example.com\n\"@signature-params\": (\"@method\" \"@path\" \"@authority\")"
        );
    }

    #[test]
    fn a_signature_covers_everything_that_matters() {
        let key = SigningKey::from_bytes(&[5; 32]);
        let public = key.verifying_key().to_bytes();
        let m = message();
        let (input, signature) = m.sign(&key, "n1", t(1_780_000_000));
        let verify = |m: &Message<'_>, now| m.verify(&input, &signature, &public, t(now));
        assert_eq!(verify(&m, 1_780_000_030).as_deref(), Ok("n1"));
        assert_eq!(verify(&m, 1_780_000_060).as_deref(), Ok("n1"));
        assert_eq!(verify(&m, 1_780_000_061), Err(MessageFault::Time));
        assert_eq!(verify(&m, 1_779_999_939), Err(MessageFault::Time));
        for other in [
            Message { method: "DELETE", ..m },
            Message { authority: "elsewhere.example", ..m },
            Message { path: "/api/v1/people", ..m },
            Message { query: "all=1", ..m },
            Message { authorization: "Bearer abd", ..m },
            Message { content_digest: Some("sha-256=:47DEQpj8HBSa+/TImW+5JCeuQeRkm5NMpJWZG3hSuFU=:"), ..m },
        ] {
            assert_eq!(verify(&other, 1_780_000_000), Err(MessageFault::Signature), "{other:?}");
        }
        assert_eq!(
            m.verify(&input, &signature, &SigningKey::from_bytes(&[6; 32]).verifying_key().to_bytes(), t(1_780_000_000)),
            Err(MessageFault::Key)
        );
        // What was signed without its body does not speak for one.
        let bare = Message { content_digest: None, ..m };
        let (input, signature) = bare.sign(&key, "n2", t(1_780_000_000));
        assert_eq!(m.verify(&input, &signature, &public, t(1_780_000_000)), Err(MessageFault::NotCovered));
    }

    #[test]
    fn odd_headers_are_refused() {
        let key = SigningKey::from_bytes(&[5; 32]);
        let (input, signature) = message().sign(&key, "n", t(1_780_000_000));
        let long = format!("{input};x=\"{}\"", "y".repeat(LONGEST_INPUT));
        for odd in [
            "",
            "aerie",
            "aerie=()",
            "=(\"@method\");created=1",
            &input.replace("nonce", "once"),
            &input.replace(";alg", ";alg;alg"),
            &long,
        ] {
            assert_eq!(
                message().verify(odd, &signature, &key.verifying_key().to_bytes(), t(1_780_000_000)),
                Err(MessageFault::Form),
                "{odd}"
            );
        }
        for odd in ["", "aerie=", "aerie=::", "other=:AA==:", &signature.replace("=:", "=:!")] {
            assert_eq!(message().verify(&input, odd, &key.verifying_key().to_bytes(), t(1_780_000_000)), Err(MessageFault::Form), "{odd}");
        }
    }

    #[test]
    fn a_nonce_is_good_once_and_memory_has_a_limit() {
        let mut n = Nonces::default();
        assert!(n.use_up("a", "1", t(0)));
        assert!(!n.use_up("a", "1", t(60)));
        assert!(n.use_up("b", "1", t(60)));
        for i in 0..Nonces::MOST {
            let _ = n.use_up("c", &i.to_string(), t(60));
        }
        assert!(!n.use_up("d", "new", t(60)));
        assert!(n.use_up("d", "new", t(200)));
    }
}
