//! How an agent and the service prove themselves to each other, within TLS whose certificate nobody vouches for.
//!
//! Both sign the same transcript: their nonces, the agent's key, and a value that TLS derives from this very connection
//! (RFC 9266, `tls-exporter`). Somebody in the middle has two connections with two values, so that what either side signed is
//! worth nothing on the other. The agent knows the fingerprint of the service's key from its enrolment code; the service
//! knows the agent's key from its enrolment.

use crate::evidence::{hex, unhex};
use ed25519_dalek::{Signature, Signer as _, SigningKey, VerifyingKey};
use jiff::Timestamp;
use serde::{Deserialize, Serialize};
use sha2::{Digest as _, Sha256};

/// The exporter's label and length, from RFC 9266 section 2.
pub const EXPORTER_LABEL: &[u8] = b"EXPORTER-Channel-Binding";
/// Bytes of a nonce, of the exporter's value and of a fingerprint in full.
pub const NONCE: usize = 32;
/// Longest message of the greeting.
pub const MAX_GREETING: usize = 8 << 10;
/// Bytes of a fingerprint that an enrolment code carries: 128 bits, of which no second key can be made.
const FINGERPRINT: usize = 16;
/// Bytes of the secret of an enrolment code.
const SECRET: usize = 16;

/// First message: from the agent.
#[derive(Debug, Clone, Serialize, Deserialize)]
#[serde(deny_unknown_fields)]
pub struct AgentHello {
    /// Version of the protocol.
    pub protocol: u32,
    /// Version of the agent.
    pub version: String,
    /// Its Ed25519 public key, in hexadecimal.
    pub key: String,
    /// 32 random bytes in hexadecimal.
    pub nonce: String,
}

/// Second message: from the service.
#[derive(Debug, Clone, Serialize, Deserialize)]
#[serde(deny_unknown_fields)]
pub struct ServiceHello {
    /// 32 random bytes in hexadecimal.
    pub nonce: String,
    /// Its keys, newest first; each signs the transcript, so that whoever knows any of them learns of the newest.
    pub keys: Vec<SignedBy>,
    /// Its clock.
    pub time: Timestamp,
}

/// A key, and what it signed.
#[derive(Debug, Clone, Serialize, Deserialize)]
#[serde(deny_unknown_fields)]
pub struct SignedBy {
    /// Ed25519 public key in hexadecimal.
    pub key: String,
    /// Signature in hexadecimal.
    pub signature: String,
}

/// Third message: from the agent.
#[derive(Debug, Clone, Serialize, Deserialize)]
#[serde(deny_unknown_fields)]
pub struct AgentProof {
    /// Signature over the transcript, in hexadecimal.
    pub signature: String,
    /// Its clock.
    pub time: Timestamp,
    /// What it comes for.
    pub purpose: Purpose,
}

/// What an agent comes for.
#[derive(Debug, Clone, Serialize, Deserialize)]
#[serde(rename_all = "snake_case", deny_unknown_fields)]
pub enum Purpose {
    /// To be enrolled with a code.
    Enrol {
        /// The secret of the code, in hexadecimal.
        secret: String,
        /// What the computer calls itself.
        host: String,
        /// The name that the machine shall have, where the code is for any machine of a site.
        name: Option<String>,
        /// Only say which machine it would be.
        look: bool,
        /// It goes away with its terminal.
        temporary: bool,
    },
    /// To let somebody help on this computer, in one visit: it keeps nothing, and becomes no machine.
    Help {
        /// The secret of the code, in hexadecimal.
        secret: String,
        /// What the computer calls itself.
        host: String,
    },
    /// To serve.
    Serve {
        /// The ticket of the last time; none if it never served.
        ticket: Option<String>,
        /// The tunnel that broke, where there was one, and what arrived of it.
        resume: Option<(String, u64)>,
    },
}

/// Last message: the service's answer.
#[derive(Debug, Clone, Serialize, Deserialize)]
#[serde(rename_all = "snake_case", deny_unknown_fields)]
pub enum Answer {
    /// The code is good for this machine; nothing was enrolled yet.
    GoodFor {
        /// Name of the machine.
        machine: String,
        /// Its site.
        site: String,
        /// What is noted about it.
        note: String,
    },
    /// It is enrolled.
    Enrolled {
        /// Name of the machine.
        machine: String,
        /// Its site.
        site: String,
        /// The first ticket.
        ticket: String,
    },
    /// It may serve.
    Serving {
        /// Name of the machine.
        machine: String,
        /// Its site.
        site: String,
        /// The ticket for the next time: the agent keeps it, says so, and then the one before is void. A copy of the agent has
        /// the ticket of the day when it was made.
        ticket: String,
        /// The tunnel: named when it is resumed.
        tunnel: String,
        /// Where a broken tunnel goes on: what the service received of it.
        resumed: Option<u64>,
    },
    /// It may serve the visit of the code.
    Helping {
        /// Who helps, as people write it; empty while nobody does.
        helper: String,
        /// Their organisation.
        organisation: String,
    },
    /// No.
    Refused {
        /// A stable word.
        code: String,
        /// Why, and what to do, for whoever looks after the agent.
        why: String,
        /// Seconds to wait before it is worth while to try again.
        wait: u32,
    },
}

/// Which side signed.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum Role {
    /// The agent.
    Agent,
    /// The service.
    Service,
}

/// What both sign. `exporter` is the value of RFC 9266.
pub fn transcript(role: Role, agent: &AgentHello, service_nonce: &str, exporter: &[u8; NONCE]) -> Vec<u8> {
    let mut hash = Sha256::new();
    for part in [agent.key.as_bytes(), agent.nonce.as_bytes(), agent.version.as_bytes(), service_nonce.as_bytes(), exporter] {
        hash.update((part.len() as u64).to_be_bytes());
        hash.update(part);
    }
    let role = match role {
        Role::Agent => "agent",
        Role::Service => "service",
    };
    let mut text = format!("aerie tunnel {} {role}\0", agent.protocol).into_bytes();
    text.extend_from_slice(&hash.finalize());
    text
}

/// Signs; the signature is in hexadecimal.
pub fn sign(key: &SigningKey, transcript: &[u8]) -> String {
    hex(&key.sign(transcript).to_bytes())
}

/// Whether a key, in hexadecimal, signed.
///
/// Uses strict verification: keys of small order are refused, and a signature has one form.
pub fn is_signed(key: &str, transcript: &[u8], signature: &str) -> bool {
    let read = || {
        let key = VerifyingKey::from_bytes(&unhex(key)?.try_into().ok()?).ok()?;
        let signature = Signature::from_bytes(&unhex(signature)?.try_into().ok()?);
        key.verify_strict(transcript, &signature).ok()
    };
    read().is_some()
}

/// The fingerprint of a service's key, as codes carry it: 16 bytes.
fn print_of(key: &str) -> Option<[u8; FINGERPRINT]> {
    let bytes: [u8; 32] = unhex(key)?.try_into().ok()?;
    Sha256::digest(bytes).first_chunk::<FINGERPRINT>().copied()
}

/// Takes the service's greeting: returns its newest key where `known` says that one of those that signed is known.
pub fn service_proved(hello: &ServiceHello, transcript: &[u8], known: impl Fn(&str) -> bool) -> Option<String> {
    let newest = hello.keys.first()?;
    let signed = |k: &&SignedBy| is_signed(&k.key, transcript, &k.signature);
    // The newest must have signed as well: it is the one that is kept.
    if !signed(&newest) || !hello.keys.iter().take(16).filter(signed).any(|k| known(&k.key)) {
        return None;
    }
    Some(newest.key.clone())
}

/// What an administrator hands to whoever sets an agent up.
///
/// `dome-east@aerie.example:7443#…` for a machine, `site=ridge@aerie.example:7443#…` for any machine of a site: it says for
/// whom it is, where the service is, and, behind the `#`, a secret that is good once and the fingerprint of the service's key.
#[derive(Clone, PartialEq, Eq)]
pub struct EnrolmentCode {
    /// Machine, or `site=` and a site.
    pub whom: String,
    /// Host and port of the service.
    pub server: String,
    /// The secret, in hexadecimal.
    pub secret: String,
    fingerprint: [u8; FINGERPRINT],
}

impl std::fmt::Debug for EnrolmentCode {
    fn fmt(&self, f: &mut std::fmt::Formatter<'_>) -> std::fmt::Result {
        write!(f, "EnrolmentCode({}@{})", self.whom, self.server)
    }
}

impl EnrolmentCode {
    /// A code with a secret of 16 random bytes; none where `key` is no key.
    pub fn new(whom: &str, server: &str, secret: [u8; SECRET], key: &str) -> Option<Self> {
        Some(Self { whom: whom.into(), server: server.into(), secret: hex(&secret), fingerprint: print_of(key)? })
    }

    /// Whether a key of the service is the one of the code.
    pub fn knows(&self, key: &str) -> bool {
        print_of(key) == Some(self.fingerprint)
    }

    /// The text that is handed over.
    pub fn text(&self) -> String {
        let secret = unhex(&self.secret).unwrap_or_default();
        let all: Vec<u8> = secret.iter().chain(&self.fingerprint).copied().collect();
        let check = Sha256::digest(&all);
        let all: Vec<u8> = all.iter().chain(check.iter().take(2)).copied().collect();
        format!("{}@{}#{}", self.whom, self.server, base32::encode(base32::Alphabet::Crockford, &all).to_ascii_lowercase())
    }

    /// Reads the text. Blanks and line breaks within it do not matter; digits that are easily confused are taken for each other.
    pub fn parse(text: &str) -> Option<Self> {
        let text: String = text.chars().filter(|c| !c.is_whitespace()).take(600).collect();
        let (head, secret) = text.rsplit_once('#')?;
        let (whom, server) = head.split_once('@')?;
        let bytes = base32::decode(base32::Alphabet::Crockford, secret)?;
        let (all, check) = bytes.split_at_checked(SECRET + FINGERPRINT)?;
        if Sha256::digest(all).get(..2) != check.get(..2) || check.len() < 2 || server.is_empty() || whom.is_empty() {
            return None;
        }
        let (secret, print) = all.split_at_checked(SECRET)?;
        Some(Self { whom: whom.into(), server: server.into(), secret: hex(secret), fingerprint: print.try_into().ok()? })
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    fn hello(key: &SigningKey) -> AgentHello {
        let public = hex(key.verifying_key().as_bytes());
        AgentHello { protocol: 1, version: "0.1.0".into(), key: public, nonce: "aa".repeat(32) }
    }

    #[test]
    fn either_side_is_proved_on_this_connection_alone() {
        let agent = SigningKey::from_bytes(&[1; 32]);
        let hello = hello(&agent);
        let here = transcript(Role::Agent, &hello, "bb", &[5; 32]);
        let signature = sign(&agent, &here);
        assert!(is_signed(&hello.key, &here, &signature));
        // Another connection, another nonce, the other side's signature, another key.
        for other in [
            transcript(Role::Agent, &hello, "bb", &[6; 32]),
            transcript(Role::Agent, &hello, "bc", &[5; 32]),
            transcript(Role::Service, &hello, "bb", &[5; 32]),
            transcript(Role::Agent, &AgentHello { nonce: "ab".repeat(32), ..hello.clone() }, "bb", &[5; 32]),
        ] {
            assert!(!is_signed(&hello.key, &other, &signature));
        }
        assert!(!is_signed(&hex(SigningKey::from_bytes(&[2; 32]).verifying_key().as_bytes()), &here, &signature));
        for bad in ["", "zz", &signature[2..]] {
            assert!(!is_signed(&hello.key, &here, bad));
        }
    }

    #[test]
    fn the_newest_key_is_learnt_from_one_that_is_known() {
        let (old, new, stranger) = (SigningKey::from_bytes(&[1; 32]), SigningKey::from_bytes(&[2; 32]), SigningKey::from_bytes(&[3; 32]));
        let public = |k: &SigningKey| hex(k.verifying_key().as_bytes());
        let text = b"transcript";
        let by = |k: &SigningKey| SignedBy { key: public(k), signature: sign(k, text) };
        let said = |keys| ServiceHello { nonce: String::new(), keys, time: Timestamp::UNIX_EPOCH };
        let knows_old = |k: &str| k == public(&old);
        assert_eq!(service_proved(&said(vec![by(&new), by(&old)]), text, knows_old), Some(public(&new)));
        assert_eq!(service_proved(&said(vec![by(&old)]), text, knows_old), Some(public(&old)));
        assert_eq!(service_proved(&said(vec![by(&new), by(&stranger)]), text, knows_old), None);
        // A key that did not sign is not learnt, and a known one that did not sign proves nothing.
        let forged = |k: &SigningKey| SignedBy { key: public(k), signature: sign(&stranger, text) };
        assert_eq!(service_proved(&said(vec![forged(&new), by(&old)]), text, knows_old), None);
        assert_eq!(service_proved(&said(vec![by(&new), forged(&old)]), text, knows_old), None);
        assert_eq!(service_proved(&said(vec![]), text, |_| true), None);
    }

    #[test]
    fn codes_say_for_whom_they_are_and_survive_being_copied() {
        let key = hex(SigningKey::from_bytes(&[1; 32]).verifying_key().as_bytes());
        let code = EnrolmentCode::new("dome-east", "aerie.example:7443", [7; 16], &key).unwrap();
        let text = code.text();
        assert!(text.starts_with("dome-east@aerie.example:7443#"), "{text}");
        assert_eq!(EnrolmentCode::parse(&text), Some(code.clone()));
        let broken = format!("  {}\n{}", &text[..40], text[40..].to_ascii_uppercase().replace('0', "O"));
        assert_eq!(EnrolmentCode::parse(&broken), Some(code.clone()));
        assert!(code.knows(&key) && !code.knows(&"00".repeat(32)) && !code.knows("x"));
        let last = if text.ends_with('a') { 'b' } else { 'a' };
        for bad in ["", "dome-east", "dome-east@x#", &text[..text.len() - 2], &format!("{}{last}{last}", &text[..text.len() - 4])] {
            assert_eq!(EnrolmentCode::parse(bad), None, "{bad}");
        }
        assert!(!format!("{code:?}").contains(&code.secret));
    }
}
