//! The thinking part of Aerie: who may reach which machine, the life of a session, the recording container, the
//! evidence log, and the audit of any log of remote accesses.
//!
//! Nothing here does I/O. Time, bytes, randomness and events come in as arguments; effects go out as values. Sockets,
//! files, the database and HTTP live in the crates that depend on this one.

#![forbid(unsafe_code)]
#![warn(missing_docs)]
#![cfg_attr(test, allow(clippy::indexing_slicing, reason = "a test that indexes wrongly fails, as it should"))]

pub mod approval;
pub mod audit;
pub mod desktop;
pub mod diagnostic;
pub mod directory;
pub mod evidence;
pub mod factor;
pub mod inventory;
pub mod policy;
pub mod recording;
pub mod session;
pub mod settings;
pub mod tunnel;
pub mod vault;
pub mod visit;
pub mod wording;
