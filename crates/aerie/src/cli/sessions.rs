//! Commands about sessions, recordings, the log, and who was where.

use clap::{Args, Subcommand};
use std::path::PathBuf;

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
    /// Watch a live session in this terminal
    Watch {
        /// Identifier
        id: String,
    },
    /// Give a live session more time
    Extend {
        /// Identifier
        id: String,
        /// Minutes on top of its limit, in all
        #[arg(long, value_parser = clap::value_parser!(u32).range(1..=720))]
        minutes: u32,
        /// Why
        #[arg(long)]
        why: String,
    },
    /// Invite somebody into a live session of yours, or take the invitation back
    Invite {
        /// Identifier
        id: String,
        /// Whom
        person: String,
        /// They may type, too
        #[arg(long)]
        control: bool,
        /// Take the invitation back
        #[arg(long, conflicts_with = "control")]
        no: bool,
    },
    /// Take the keyboard of a live session to which you were invited, or give it back
    Keyboard {
        /// Identifier
        id: String,
        /// Whom to give it to; back to whose session it is where nobody is named
        to: Option<String>,
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
    /// Print a recording as text with times; of a desktop, write it as a film
    Export {
        /// Identifier of the session
        id: String,
        /// Write a film (WebM) of a desktop to this file; it must not be there
        #[arg(long, value_name = "FILE")]
        film: Option<PathBuf>,
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
    /// Verify the whole log; or an evidence pack, without a service
    Verify {
        /// The pack
        pack: Option<PathBuf>,
        /// Public key of the checkpoints as you got it by another way than the pack, hexadecimal; may be given again
        #[arg(long, requires = "pack", value_name = "KEY")]
        key: Vec<String>,
    },
    /// Put evidence of a time together, for somebody outside: one file that verifies by itself
    Export {
        /// The file to write; it must not be there
        file: PathBuf,
        /// From then on: 2026-11-01, an instant, or 30d before now
        #[arg(long, default_value = "30d")]
        from: String,
        /// Before then; now where it is not given
        #[arg(long)]
        until: Option<String>,
        /// Of this machine alone
        #[arg(long)]
        machine: Option<String>,
        /// Of this person alone
        #[arg(long)]
        person: Option<String>,
    },
    /// Sign the log as it stands, and print the checkpoint
    Checkpoint,
}

/// Who got into which machine.
#[derive(Debug, Subcommand)]
pub enum Accesses {
    /// List accesses, newest first: sessions, and what the machines' logs show beside them
    List {
        #[command(flatten)]
        which: AccessFields,
        /// At most so many
        #[arg(long, default_value_t = 20, value_parser = clap::value_parser!(u32).range(1..=500))]
        limit: u32,
    },
    /// Show one access, with the lines that show it
    Show {
        /// Identifier of the access or session
        id: String,
    },
    /// Count them: totals and times of each person, machine, address or account
    Report {
        #[command(flatten)]
        which: AccessFields,
        /// What totals are of
        #[arg(long, default_value = "person", value_parser = ["person", "machine", "source", "account", "rule", "system"])]
        by: String,
    },
    /// Print all of them as CSV
    Export {
        #[command(flatten)]
        which: AccessFields,
        /// In which form
        #[arg(long, default_value = "csv", value_parser = ["csv", "ndjson", "ocsf"])]
        form: String,
    },
}

/// Which accesses.
#[derive(Debug, Args)]
pub struct AccessFields {
    /// From this day or instant on (2026-11-01, 2026-11-01T08:00:00Z, or 30d for the last thirty days)
    #[arg(long)]
    pub from: Option<String>,
    /// Until before this day or instant
    #[arg(long)]
    pub until: Option<String>,
    /// Of this person
    #[arg(long)]
    pub person: Option<String>,
    /// On this machine
    #[arg(long)]
    pub machine: Option<String>,
    /// Those around Aerie alone
    #[arg(long)]
    pub around: bool,
    /// With this text in person, machine, account or address
    #[arg(long, short)]
    pub search: Option<String>,
}
