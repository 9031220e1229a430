//! Reads logs of remote accesses, whoever wrote them, and holds what they show against the rules.
//!
//! [`SshdLog`] turns the lines of an OpenSSH server's log into [`Observation`]s, [`Auditor`] judges them with the policy of
//! their moment and Aerie's own sessions, and [`Findings`] gathers what it finds: one finding for one cause.

mod auditor;
mod clock;
mod commands;
mod finding;
mod line;
mod lines;
mod scan;
mod sshd;

pub use auditor::{Auditor, History, KnownSession, SessionIndex};
pub use clock::LogClock;
pub use commands::{Habit, habit_in};
pub use finding::{Cause, Finding, FindingKind, Findings, Importance, MOST_LINES, Raised};
pub use line::{Certificate, Login, Message, Proof, SshdLine, parse_line};
pub use lines::LineSplitter;
pub use scan::{Scan, Scanned};
pub use sshd::{Access, Counts, Failure, LogLine, Observation, SshdLog};

#[cfg(test)]
mod tests;
