//! The life of a session, and what goes on within it.
//!
//! [`SignIn`] proves who somebody is, [`SignedIn`] says how long that counts at the console, [`Admission`] waits for those who
//! approve and for the person at the machine, whom [`consent`] asks, [`Live`] carries the time limits of a session that was granted,
//! [`classify`] says which capability a command needs, and [`SftpFilter`] holds a file transfer to the capabilities that were granted.

mod admission;
mod command;
pub mod consent;
mod console;
mod life;
mod login;
mod proof;
mod sftp;

pub use admission::{Admission, Awaited, Patience, Phase, Said, Step};
pub use command::{Asked, CopyCommand, classify};
pub use console::{PROVING, SignedIn, SignedInLimits, Stage};
pub use life::{Effect, EndReason, Live, NotArmed};
pub use login::{LoginError, LoginName};
pub use proof::{PersonProved, SignIn};
pub use sftp::{FileChange, SftpError, SftpFilter, SftpOut, SftpRefusal, SftpRights};
