//! What happened, as one append-only log whose every entry can be proved.
//!
//! An [`Event`] becomes canonical JSON; its hash is a leaf of a Merkle tree as in RFC 9162 section 2.1; signed
//! [`Checkpoint`]s fix the tree at a size. [`Verifier`] needs the rows, the checkpoints and the public key alone.
//! The format is described in docs/formats/evidence.md.

mod canonical;
mod checkpoint;
mod event;
mod merkle;
mod pack;
mod syslog;
mod verify;

pub use canonical::canonical_json;
pub use checkpoint::{Checkpoint, CheckpointError, SigningKey, VerifyingKey};
pub use event::{Event, EventKind, NewEvent};
pub use merkle::{Hash, Proofs, Tree, inclusion_proof, leaf_hash, verify_inclusion};
pub use pack::{MOST_PACK, PackReport, ProvedEvent, RecordingDigest, contents, contents_digest, explanation, verify_pack};
pub use syslog::{severity, syslog_frame};
pub use verify::{LogKey, Problem, ProblemKind, Report, Row, Verifier};

/// Lower-case hexadecimal.
pub fn hex(bytes: &[u8]) -> String {
    const DIGITS: &[u8; 16] = b"0123456789abcdef";
    let digit = |n: u8| DIGITS.get(usize::from(n)).map_or('?', |d| char::from(*d));
    bytes.iter().flat_map(|b| [digit(b >> 4), digit(b & 15)]).collect()
}

/// The bytes of a hexadecimal text.
pub fn unhex(text: &str) -> Option<Vec<u8>> {
    let digits: Option<Vec<u8>> = text.chars().map(|c| c.to_digit(16).and_then(|d| u8::try_from(d).ok())).collect();
    let digits = digits?;
    (digits.len() % 2 == 0).then(|| digits.chunks(2).map(|p| p.iter().fold(0, |n, d| n << 4 | d)).collect())
}
