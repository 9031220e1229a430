//! Agents: who they are, which are connected, and how the service gets through them to machines.

mod attend;
mod enrol;
mod greet;
mod help;
mod logs;
mod registry;

pub(crate) use attend::{attend, follow};
pub(crate) use greet::{Exporter, MOST_GREETING, MOST_GREETING_FROM_ONE};

pub(crate) use help::helper;
pub(crate) use registry::{Agents, Known};
