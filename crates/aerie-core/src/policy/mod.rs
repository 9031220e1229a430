//! The rule document: read, check, compile, decide, explain.
//!
//! [`read`] turns text into a [`Document`] and diagnostics, [`check`] holds it against a directory, [`Policy::compile`]
//! prepares it for one directory, and [`Policy::decide`] is the one place in which anybody is let in or kept out: the
//! gateway, the re-check of live sessions, the audit of logs and the question "why?" all call it.

mod calendar;
mod capability;
mod check;
mod compile;
mod decide;
mod document;
mod reader;
mod sentence;

pub use calendar::{Calendar, Opening};
pub use capability::{Capabilities, Capability, Factor, Factors};
pub use check::check;
pub use compile::Policy;
pub use decide::{AccessGranted, Decision, Facts, Grant, Missing, Outcome, Refusal, Request, RuleRef};
pub use document::{Demands, Document, Effect, Hours, Network, Rule, Span};
pub use reader::{MAX_DOCUMENT, MAX_RULES, read};
pub use sentence::Speech;

#[cfg(test)]
mod tests;
