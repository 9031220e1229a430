//! The rule document: read, check, compile, decide, explain.
//!
//! [`read`] turns text into a [`Document`] and diagnostics, [`check`] holds it against a directory, [`Policy::compile`]
//! prepares it for one directory, and [`Policy::decide`] is the one place in which anybody is let in or kept out: the
//! gateway, the re-check of live sessions, the audit of logs and the question "why?" all call it.

mod backtest;
mod calendar;
mod capability;
mod case;
mod check;
mod compare;
mod compile;
mod decide;
mod demand;
mod document;
mod edit;
mod explain;
mod guard;
mod reach;
mod reader;
mod sentence;
mod space;
mod speak;
mod target;

pub use backtest::{Backtest, Judged, Narrower, PastAccess, RuleUse, backtest, ended_by, usage};
pub use calendar::{Calendar, Opening};
pub use capability::{Capabilities, Capability, Consent, Factor, Factors, Posture, Postures, Track, Tracks};
pub use check::{PROVED_AHEAD, check};
pub use compare::{Change, Comparison, Turn, compare};
pub use compile::Policy;
pub use decide::{AccessGranted, Decision, Grant, Outcome, Refusal, Request, RuleRef};
pub use demand::{Demands, Facts, Limits, Missing, Pass, Proofs};
pub use document::{Approval, Case, CaseTime, DatedSpan, Document, Effect, Expectation, Guard, Hours, Network, Place, Rule, Sources, Span};
pub use edit::{EditError, Fields, add_rule, change_rule, remove_rule, rule_fields, rule_text};
pub use explain::Explanation;
pub use guard::{Breach, breaches};
pub use reach::{Access, Cell, Permission, Reach, ReachSize};
pub(crate) use reader::value::parse_duration;
pub use reader::{MAX_DOCUMENT, MAX_GATES, MAX_RANGES, MAX_RULES, read};
pub use sentence::Speech;
pub use target::{ForwardTarget, ForwardTargetError, Targets};

#[cfg(test)]
mod tests;
