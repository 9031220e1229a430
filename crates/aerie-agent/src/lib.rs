//! The agent: runs on a machine, dials out to the service, and connects to what its own list allows. It opens no port, needs
//! no rights beyond those of the user it runs as, and keeps a log of its own.
//!
//! It trusts the service as far as the tunnel's protocol goes and no further: whatever the service asks for is held against
//! the list of the agent, which nobody changes from outside.

mod connect;
pub mod consent;
mod enrol;
mod facts;
mod files;
mod log;
mod run;
mod screen;
mod serve;
mod shell;
mod status;
mod visit;

pub use connect::{ConnectError, Proved, connect, tls_config};
pub use enrol::{EnrolOptions, Enrolled, Found, enrol, look};
pub use facts::gather;
pub use files::{AgentState, StateDir, StateError};
pub use log::JOURNAL;
pub use run::{Leaving, RunOptions, run};
pub use status::{Link, Status};
pub use visit::visit;

/// How this program is called: it comes by itself for machines, and as a part of `aerie`.
pub fn called() -> &'static str {
    let alone = std::env::current_exe().is_ok_and(|p| p.file_name().is_some_and(|n| n == "aerie-agent"));
    if alone { "aerie-agent" } else { "aerie agent" }
}

/// Version of this agent.
pub const VERSION: &str = env!("CARGO_PKG_VERSION");
