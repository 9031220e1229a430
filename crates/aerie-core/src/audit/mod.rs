//! Reads logs of remote accesses, whoever wrote them, and holds what they show against the rules.
//!
//! [`AccessLog`] turns the lines of an OpenSSH server's log into [`Observation`]s, [`Auditor`] judges them with the policy of
//! their moment and Aerie's own sessions, and [`Findings`] gathers what it finds: one finding for one cause.

mod again;
mod auditor;
mod behaviour;
mod case;
mod clock;
mod coverage;
pub mod detect;
mod finding;
mod judge;
mod line;
mod lines;
mod log;
pub mod ocsf;
mod pulse;
pub mod read;
mod record;
mod reference;
mod report;
mod scan;
pub mod ship;
mod unread;

pub use again::{Again, Difference, MOST_DIFFERENCES, judge_again};
pub use auditor::{Auditor, History, KnownSession, SessionIndex, World};
pub use behaviour::{Behaviour, Happened};
pub use case::{Case, CaseState, LONGEST_ACCEPTANCE, LONGEST_NOTE, Step, StepRefused, Suppression};
pub use clock::LogClock;
pub use coverage::{Coverage, Covered, gaps};
pub use finding::{Cause, Detected, Finding, FindingKind, Findings, Importance, MOST_LINES, Raised};
pub use line::{Certificate, Login, Message, Proof, SshdLine, parse_line};
pub use lines::LineSplitter;
pub use log::{Access, AccessLog, Counts, Failure, LogLine, Observation, Ran};
pub use pulse::Pulse;
pub use record::{AccessRecord, MOST_EVIDENCE, Recorded, SeenCertificate, Service, Skew, TOGETHER};
pub use report::{By, Every, MOST_RECIPIENTS, MOST_ROWS, Report, ReportFinding, ReportRow, Schedule};
pub use scan::{Scan, Scanned, Source};
pub use unread::Unread;

#[cfg(test)]
mod tests;
