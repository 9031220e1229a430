//! Running the service, filling its data directory, and the demo.

use clap::{Args, Subcommand};
use std::net::SocketAddr;
use std::path::PathBuf;

/// Run the service.
#[derive(Debug, Args)]
pub struct Serve {
    /// Data directory
    #[arg(long, env = "AERIE_DATA", default_value = "aerie-data")]
    pub data: PathBuf,
    /// Address of console and API, with TLS
    #[arg(long, default_value = aerie_service::DEFAULT_HTTPS)]
    pub https: SocketAddr,
    /// Address of console and API without TLS, on this machine alone: for a proxy, in place of --https
    #[arg(long)]
    pub http: Option<SocketAddr>,
    /// Address at which others reach the console, as https://aerie.example:7443: the first link and the certificate carry it
    #[arg(long, value_name = "URL")]
    pub address: Option<String>,
    /// Address of the SSH gateway
    #[arg(long, default_value = aerie_service::DEFAULT_SSH)]
    pub ssh: SocketAddr,
    /// Take logs that machines and collectors send here with TLS (RFC 5425), and audit them as they come
    #[arg(long, value_name = "ADDRESS")]
    pub syslog_tls: Option<SocketAddr>,
    /// The same without TLS (RFC 6587)
    #[arg(long, value_name = "ADDRESS")]
    pub syslog: Option<SocketAddr>,
    /// Who may send logs: an address or range; may be given again. Name 127.0.0.1 for a collector on this machine: each of its users can send then
    #[arg(long, value_name = "RANGE")]
    pub syslog_from: Vec<String>,
}

/// With what clients recognise the service.
#[derive(Debug, Args)]
pub struct Trust {
    /// Print the certificate of the authority that signs the console's certificate (PEM)
    #[arg(long)]
    pub tls: bool,
    /// Print lines for known_hosts: the gateway, and for `ssh -J` the machines of this pattern (as dome-*,spectro-1)
    #[arg(long, value_name = "PATTERN", conflicts_with = "tls")]
    pub known_hosts: Option<String>,
    /// Host and port of the gateway, as people write them
    #[arg(long, value_name = "HOST:PORT", requires = "known_hosts")]
    pub gateway: Option<String>,
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
