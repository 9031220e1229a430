//! Machines for the demo and the tests: real OpenSSH servers, each with a host name, accounts, files and a log of its own,
//! in Linux namespaces. Nothing of the host is changed, and everything ends with the process that started it.
//!
//! This is the one crate with `unsafe` code. It needs it for what the standard library and nix do not wrap: passing a
//! listening socket across `fork` and `exec`, and asking the kernel to end a machine with its parent. Each use says why it
//! is sound. Nothing here runs in the service.
//!
//! A program that starts machines calls [`run_if_machine`] first in `main`: the machine is the same program again.

mod inside;
mod launch;
mod screen;
mod server;
mod sys;
mod uplink;

pub use launch::{Lab, LabError, Mode, RunningMachine};
pub use screen::XScreen;
pub use server::SshServer;
pub use uplink::Uplink;

/// Argument that makes the program a machine.
pub(crate) const MACHINE: &str = "--lab-machine";

/// What a machine is like.
#[derive(Debug, Clone, Default)]
pub struct MachineSpec {
    /// Host name.
    pub name: String,
    /// Public key of the authority whose certificates its SSH server trusts, in OpenSSH's format.
    pub authority: String,
    /// Keys that let somebody in around the gateway: account and public key line.
    pub direct_keys: Vec<(String, String)>,
    /// Which network it stands in.
    pub network: Network,
    /// Passwords of accounts; where there are some, its SSH server takes passwords.
    pub passwords: Vec<(String, String)>,
    /// Text files in the home of `operator`: path below it, and content.
    pub files: Vec<(String, String)>,
}

/// Which network a machine stands in.
#[derive(Debug, Clone, Copy, Default, PartialEq, Eq)]
pub enum Network {
    /// One of its own; its SSH server is reached on a loopback port of the host.
    #[default]
    Reachable,
    /// The host's, so that its SSH server reaches the host's loopback: for a jump host in benchmarks.
    Host,
    /// One of its own that nobody gets into: its SSH server listens on port 22 of its own loopback. The one way out is its
    /// uplink, at [`UPLINK`] inside, which leads where [`RunningMachine::uplink`] says.
    Closed,
    /// That of the closed machine with this process number: its SSH server listens on 127.0.0.2, port 22.
    Beside(u32),
}

/// Where the uplink of a closed machine listens, inside.
pub const UPLINK: &str = "127.0.0.1:7443";

/// The program that started the machine, as it is found inside.
pub const PROGRAM: &str = "/opt/aerie/aerie";

/// Accounts of every machine, with their user numbers.
pub(crate) const ACCOUNTS: [(&str, u32, &str); 3] =
    [("operator", 1000, "Night operator"), ("archivist", 1001, "Plate archivist"), ("observer", 1002, "Observer at the desk")];

/// Becomes a machine when the program was started as one; returns otherwise.
pub fn run_if_machine() {
    let arguments: Vec<String> = std::env::args().collect();
    if arguments.get(1).map(String::as_str) == Some(MACHINE) {
        let code = match inside::main(arguments.get(2..).unwrap_or(&[])) {
            Ok(()) => 0,
            Err(e) => {
                eprintln!("machine: {e}");
                1
            }
        };
        std::process::exit(code);
    }
}
