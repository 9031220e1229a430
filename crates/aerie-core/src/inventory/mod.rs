//! What is known of machines beyond what somebody wrote down: facts that agents report, how machines are found by a few
//! letters, and whether a machine is ready to be reached.

mod facts;
mod readiness;
mod search;
mod standing;

pub use facts::{Hardware, Listening, LoggedIn, MachineFacts, Orderliness, System};
pub use readiness::{CheckName, CheckOutcome, CheckResult, agent_version, clock, host_key, loopback_only, sentence_of};
pub use search::{Entry, Finder};
pub use standing::{Heard, MachineStanding, is_stale};
