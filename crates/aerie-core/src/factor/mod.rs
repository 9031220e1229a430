//! Proofs of who somebody is: passwords, one-time and recovery codes, PINs, key hygiene, signed requests, and the brake on
//! guessing. Hashing and randomness are the caller's.

mod code;
mod key;
pub mod message;
mod password;
mod pin;
mod recovery;
mod throttle;

pub use code::{CodeChecked, TotpSecret};
pub use key::{KeyFault, KeyKind, check_key};
pub use password::{LEAST_PASSWORD, LONGEST_PASSWORD, PasswordFault, check_password};
pub use pin::{PinRules, PinState, SprayBrake, chance_of_a_hit, pin_form, pin_of};
pub use recovery::{RECOVERY_CODES, recovery_code, recovery_form};
pub use throttle::{Place, Source, Target, Throttle};
