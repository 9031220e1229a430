//! Proofs of who somebody is: one-time codes, key hygiene, and what is made of them.

mod code;
mod key;

pub use code::{CodeChecked, TotpSecret};
pub use key::{KeyFault, KeyKind, check_key};
