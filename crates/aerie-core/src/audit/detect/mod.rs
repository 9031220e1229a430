//! Detections: what deserves a finding though no rule was broken, or before one is. They are written in TOML, so that an organisation can
//! read, tune, test and add to them; [`DetectionSet::shipped`] has those that Aerie brings along (docs/detections.md).
//!
//! [`Detector`] takes [`Signal`]s in the order of time and raises findings. What is remembered of each detection is bounded, whatever a
//! stranger writes into a log.

mod case;
mod detector;
mod document;
mod form;
mod hashing;
mod pattern;
mod signal;
mod state;

pub use case::CaseFailure;
pub use detector::Detector;
pub use document::{Detection, DetectionSet, LONGEST_DOCUMENT, Stage};
pub use form::Form;
pub use pattern::Pattern;
pub use signal::{Field, Signal, What};
pub use state::MOST_KEYS;

#[cfg(test)]
mod tests;
