//! The command line: one declaration for parser, help, man page and completions.

use clap::{Args, Parser, Subcommand};
use std::net::SocketAddr;
use std::path::PathBuf;

/// Decide who may reach which machines remotely, carry and record the session, audit the logs.
#[derive(Debug, Parser)]
#[command(name = "aerie", version, disable_help_subcommand = true, propagate_version = true)]
pub struct Cli {
    /// Print JSON instead of text
    #[arg(long, global = true)]
    pub json: bool,
    /// Say more on standard error
    #[arg(long, short, global = true)]
    pub verbose: bool,
    /// Address of the service
    #[arg(long, global = true, env = "AERIE_SERVER", value_name = "URL")]
    pub server: Option<String>,
    #[command(subcommand)]
    pub command: Command,
}

/// What to do.
#[derive(Debug, Subcommand)]
pub enum Command {
    /// Run the service
    Serve(Serve),
    /// Put a first directory, rules and administrator into an empty data directory
    Setup(Setup),
    /// Run the demo: the observatory with real machines, and a month of history
    Demo(Demo),
    /// Sign in to a service; the token is kept in the configuration directory
    SignIn {
        /// Your name
        person: String,
    },
    /// Sign out
    SignOut,
    /// Show how things stand
    Now,
    /// List machines
    Machines,
    /// List people
    People,
    /// Sessions, live and past
    #[command(subcommand)]
    Sessions(Sessions),
    /// Recordings
    #[command(subcommand)]
    Recordings(Recordings),
    /// The event log
    #[command(subcommand)]
    Log(Log),
    /// Hold logs against the rules
    #[command(subcommand)]
    Audit(Audit),
    /// Findings of audits
    #[command(subcommand)]
    Findings(Findings),
    /// The rules
    #[command(subcommand)]
    Policy(Policy),
    /// Why may somebody do something, or why not
    Why(Why),
    /// Write people and machines as a file for `aerie audit scan --directory`
    DirectoryExport,
    /// Print completions for a shell
    Completions {
        /// The shell
        shell: clap_complete::Shell,
    },
    /// Print the manual page
    ManPage,
}

/// Run the service.
#[derive(Debug, Args)]
pub struct Serve {
    /// Data directory
    #[arg(long, env = "AERIE_DATA", default_value = "aerie-data")]
    pub data: PathBuf,
    /// Address of console and API (loopback)
    #[arg(long, default_value = aerie_service::DEFAULT_HTTP)]
    pub http: SocketAddr,
    /// Address of the SSH gateway
    #[arg(long, default_value = aerie_service::DEFAULT_SSH)]
    pub ssh: SocketAddr,
}

/// Fill an empty data directory.
#[derive(Debug, Args)]
pub struct Setup {
    /// Data directory
    #[arg(long, env = "AERIE_DATA", default_value = "aerie-data")]
    pub data: PathBuf,
    /// People and machines (JSON, as `aerie directory-export` writes it)
    #[arg(long)]
    pub directory: PathBuf,
    /// Rules (TOML)
    #[arg(long)]
    pub policy: PathBuf,
    /// Who gets a password (asked for, or read from standard input) and a code
    #[arg(long, value_name = "PERSON")]
    pub credentials_for: Vec<String>,
}

/// Run the demo.
#[derive(Debug, Args)]
#[command(args_conflicts_with_subcommands = true)]
pub struct Demo {
    /// Keep the data in this directory, and use what is there
    #[arg(long, value_name = "DIR")]
    pub keep: Option<PathBuf>,
    /// Write a description of the running demo to this file (JSON)
    #[arg(long, value_name = "FILE")]
    pub describe: Option<PathBuf>,
    /// Run the whole example without a person, and report each step
    #[arg(long)]
    pub tour: bool,
    /// End when standard input is closed, for scripts that start it
    #[arg(long)]
    pub end_with_stdin: bool,
    /// Address of console and API; a free port where this one is taken
    #[arg(long, default_value = aerie_service::DEFAULT_HTTP)]
    pub http: SocketAddr,
    /// Address of the SSH gateway; a free port where this one is taken
    #[arg(long, default_value = aerie_service::DEFAULT_SSH)]
    pub ssh: SocketAddr,
    #[command(subcommand)]
    pub command: Option<DemoCommand>,
}

/// Helpers beside a running demo.
#[derive(Debug, Subcommand)]
pub enum DemoCommand {
    /// Print the current code of one of the demo's people
    Code {
        /// Name of the person
        person: String,
    },
}

/// Sessions.
#[derive(Debug, Subcommand)]
pub enum Sessions {
    /// List sessions, newest first
    List {
        /// Only live ones
        #[arg(long)]
        live: bool,
        /// Of this person
        #[arg(long)]
        person: Option<String>,
        /// On this machine
        #[arg(long)]
        machine: Option<String>,
        /// With this text in person, machine, account, address or identifier
        #[arg(long, short = 'q')]
        search: Option<String>,
        /// At most so many
        #[arg(long, default_value_t = 20, value_parser = clap::value_parser!(u32).range(1..=500))]
        limit: u32,
    },
    /// Show a session and what happened in it
    Show {
        /// Identifier
        id: String,
    },
    /// End a live session at once
    End {
        /// Identifier
        id: String,
    },
}

/// Recordings.
#[derive(Debug, Subcommand)]
pub enum Recordings {
    /// List recorded sessions, newest first
    List {
        /// At most so many
        #[arg(long, default_value_t = 20, value_parser = clap::value_parser!(u32).range(1..=500))]
        limit: u32,
    },
    /// Play a recording in this terminal
    Play {
        /// Identifier of the session
        id: String,
        /// How much faster than it was
        #[arg(long, default_value_t = 1.0)]
        speed: f64,
        /// Pauses are cut to this many seconds
        #[arg(long, default_value_t = 2.0, value_name = "SECONDS")]
        skip_idle: f64,
    },
    /// Verify a recording: unaltered, whole, and the one in the log
    Verify {
        /// Identifier of the session
        id: String,
    },
    /// Print a recording as text with times
    Export {
        /// Identifier of the session
        id: String,
    },
}

/// The event log.
#[derive(Debug, Subcommand)]
pub enum Log {
    /// List events, newest first
    List {
        /// Of this kind
        #[arg(long)]
        kind: Option<String>,
        /// Of this session
        #[arg(long)]
        session: Option<String>,
        /// With this text anywhere
        #[arg(long, short = 'q')]
        search: Option<String>,
        /// At most so many
        #[arg(long, default_value_t = 20, value_parser = clap::value_parser!(u32).range(1..=500))]
        limit: u32,
    },
    /// Verify the whole log
    Verify,
    /// Sign the log as it stands, and print the checkpoint
    Checkpoint,
}

/// Audit.
#[derive(Debug, Subcommand)]
pub enum Audit {
    /// Hold logs of OpenSSH servers against the rules
    Scan {
        /// Log files
        #[arg(required = true)]
        files: Vec<PathBuf>,
        /// Rules to hold them against, without a service (TOML)
        #[arg(long, requires = "directory")]
        policy: Option<PathBuf>,
        /// People and machines, without a service (JSON)
        #[arg(long, requires = "policy")]
        directory: Option<PathBuf>,
        /// Year of the first line; found out where it is not given
        #[arg(long)]
        year: Option<i16>,
        /// Zone in which the logs were written; that of the rules where it is not given
        #[arg(long)]
        zone: Option<String>,
    },
}

/// Findings.
#[derive(Debug, Subcommand)]
pub enum Findings {
    /// List findings, newest first
    List {
        /// Of this kind
        #[arg(long)]
        kind: Option<String>,
        /// At most so many
        #[arg(long, default_value_t = 20, value_parser = clap::value_parser!(u32).range(1..=500))]
        limit: u32,
    },
    /// Show a finding with its evidence
    Show {
        /// Identifier
        id: String,
    },
}

/// Rules.
#[derive(Debug, Subcommand)]
pub enum Policy {
    /// Print the rules in force
    Show,
    /// Check a rule document
    Check {
        /// The document (TOML)
        file: PathBuf,
        /// People and machines, to check without a service (JSON)
        #[arg(long)]
        directory: Option<PathBuf>,
    },
    /// Publish a rule document
    Publish {
        /// The document (TOML)
        file: PathBuf,
        /// Only if this version is still in force
        #[arg(long, value_name = "VERSION")]
        after: Option<i64>,
    },
}

/// Why.
#[derive(Debug, Args)]
pub struct Why {
    /// Name of the person
    pub person: String,
    /// shell, exec, upload, download or forward
    pub capability: String,
    /// Name of the machine
    pub machine: String,
    /// When: `2026-11-23T12:00:00Z`, `2026-11-23 12:00` or `12:00` (in the zone of the rules); now where it is not given
    #[arg(long)]
    pub at: Option<String>,
    /// Account on the machine
    #[arg(long)]
    pub account: Option<String>,
    /// Address the person comes from
    #[arg(long)]
    pub from: Option<String>,
}

#[cfg(test)]
mod tests {
    use super::*;
    use clap::CommandFactory as _;

    #[test]
    fn the_command_line_is_sound_and_every_command_and_option_is_described() {
        let command = Cli::command();
        command.clone().debug_assert();
        let docs = std::fs::read_to_string(concat!(env!("CARGO_MANIFEST_DIR"), "/../../docs/cli.md")).unwrap();
        check(&command, "aerie", &docs);
    }

    fn check(command: &clap::Command, path: &str, docs: &str) {
        for sub in command.get_subcommands() {
            let path = format!("{path} {}", sub.get_name());
            assert!(sub.get_about().is_some(), "{path}");
            assert!(docs.contains(&format!("`{path}")), "docs/cli.md does not name `{path}`");
            for argument in sub.get_arguments() {
                assert!(argument.get_help().is_some() || argument.is_hide_set(), "{path} {}", argument.get_id());
            }
            check(sub, &path, docs);
        }
    }
}
