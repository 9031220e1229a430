//! The tunnel: many streams over one connection that was dialled outwards, each with its own credit, so that a reader that
//! stalls holds up nobody else, with keystrokes passing bulk data, and with resumption after a broken connection.
//!
//! [`Mux`] is the state machine, [`Frame`] the wire form, [`greeting`] how the two sides prove themselves. Sockets and TLS are
//! elsewhere. The format is described in `docs/formats/agent.md`.

mod frame;
pub mod greeting;
mod message;
mod mux;
mod schedule;
mod target;

pub use frame::{Frame, FrameError, MAX_CONTROL, MAX_DATA};
pub use message::{FromAgent, FromService};
pub use mux::{Event, Mux, PIECE, Side, Violation, WINDOW};
pub use target::{AllowList, LOCK_TARGET, Target, TargetError};

/// Version of the protocol that this code speaks. A side that speaks another says so in its greeting and is refused with a
/// sentence that names both.
pub const PROTOCOL: u32 = 1;
