//! Commands of the audit.

use clap::{Args, Subcommand};
use std::path::PathBuf;

/// Audit.
#[derive(Debug, Subcommand)]
pub enum Audit {
    /// Hold logs of remote accesses against the rules: syslog, journal, login records, desktops, Windows events, tables
    Scan {
        /// Log files, and directories of them; packed with gzip or zstd or not; `-` for standard input
        #[arg(required = true)]
        files: Vec<PathBuf>,
        /// Rules to hold them against, without a service (TOML)
        #[arg(long, requires = "directory")]
        policy: Option<PathBuf>,
        /// People and machines, without a service (JSON)
        #[arg(long, requires = "policy")]
        directory: Option<PathBuf>,
        /// Detections in the place of those that come along, without a service (TOML)
        #[arg(long, requires = "policy")]
        detections: Option<PathBuf>,
        /// Year of the first line; found out where it is not given
        #[arg(long)]
        year: Option<i16>,
        /// Zone in which the logs were written; that of the rules where it is not given
        #[arg(long)]
        zone: Option<String>,
        /// What they hold (lines, login-records, bad-logins, windows-events), where that is not to be found out
        #[arg(long, value_parser = ["lines", "login-records", "bad-logins", "windows-events"], conflicts_with = "mapping")]
        format: Option<String>,
        /// They are tables, and this says which column is what (TOML)
        #[arg(long, value_name = "FILE")]
        mapping: Option<PathBuf>,
        /// The machine whose logs they are, for logs that do not say so
        #[arg(long, value_name = "MACHINE")]
        host: Option<String>,
        /// Read all of each log, and not only what came since it was read; detections see it from its beginning
        #[arg(long, conflicts_with = "policy")]
        again: bool,
    },
    /// Judge the past again by other rules or detections, and list what differs; nothing that was found is changed
    Again(AgainFields),
}

/// By what the past is judged again.
#[derive(Debug, Args)]
pub struct AgainFields {
    /// Accesses that began no earlier: 2026-11-01, an instant, 30d or 12h
    #[arg(long, default_value = "30d", value_name = "TIME")]
    pub from: String,
    /// Accesses that began before
    #[arg(long, value_name = "TIME")]
    pub until: Option<String>,
    /// A version of the rules; those in force where nothing is said
    #[arg(long, conflicts_with = "draft", value_name = "VERSION")]
    pub rules: Option<i64>,
    /// Rules that are not published (TOML)
    #[arg(long, value_name = "FILE")]
    pub draft: Option<PathBuf>,
    /// Detections that are not published (TOML)
    #[arg(long, value_name = "FILE")]
    pub detections: Option<PathBuf>,
}

/// Reports of who got into which machine, and of what was found.
#[derive(Debug, Subcommand)]
pub enum Reports {
    /// List the reports that are mailed now and then
    List,
    /// Have one mailed to people who may read everything
    Add {
        /// Names of the people
        #[arg(required = true)]
        to: Vec<String>,
        /// How often: about the day, week or month before
        #[arg(long, default_value = "week", value_parser = ["day", "week", "month"])]
        every: String,
        /// At which full hour, in the zone of the rules
        #[arg(long, default_value_t = 7, value_parser = clap::value_parser!(i8).range(0..=23))]
        hour: i8,
        /// What is counted
        #[arg(long, default_value = "person", value_parser = ["person", "machine", "source", "account", "rule", "system"])]
        by: String,
    },
    /// Have one mailed no longer
    Remove {
        /// Identifier
        id: String,
    },
    /// Print one as it would be mailed
    Show {
        /// From when: 2026-11-01, an instant, 30d or 12h; the last whole week where neither is given
        #[arg(long, value_name = "TIME")]
        from: Option<String>,
        /// Until when, not included; now where only the beginning is given
        #[arg(long, value_name = "TIME")]
        until: Option<String>,
        /// What is counted
        #[arg(long, default_value = "person", value_parser = ["person", "machine", "source", "account", "rule", "system"])]
        by: String,
    },
}

/// Findings.
#[derive(Debug, Subcommand)]
pub enum Findings {
    /// List findings, newest first
    List {
        #[command(flatten)]
        which: FindingFields,
        /// At most so many
        #[arg(long, default_value_t = 20, value_parser = clap::value_parser!(u32).range(1..=500))]
        limit: u32,
    },
    /// Print all of them for other programs
    Export {
        #[command(flatten)]
        which: FindingFields,
        /// In which form
        #[arg(long, default_value = "csv", value_parser = ["csv", "ndjson", "ocsf"])]
        form: String,
    },
    /// Show a finding with its evidence
    Show {
        /// Identifier
        id: String,
    },
    /// Say that you have seen a finding
    Acknowledge {
        /// Identifier
        id: String,
    },
    /// Say that you work on a finding
    Begin {
        /// Identifier
        id: String,
    },
    /// Say that a finding is mended
    Resolve {
        /// Identifier
        id: String,
        /// How
        #[arg(long)]
        why: String,
    },
    /// Leave a finding as it is, until a day
    Accept {
        /// Identifier
        id: String,
        /// Until when: 2026-12-24, or an instant
        #[arg(long)]
        until: String,
        /// Why
        #[arg(long)]
        why: String,
    },
    /// Open a finding again that was settled
    Reopen {
        /// Identifier
        id: String,
        /// Why
        #[arg(long)]
        why: String,
    },
    /// Give a finding to somebody, or to nobody
    Assign {
        /// Identifier
        id: String,
        /// Name of the person; nobody where it is not given
        person: Option<String>,
    },
    /// Say when a finding is due, or that it is not
    Due {
        /// Identifier
        id: String,
        /// The day: 2026-12-24, or an instant; none where it is not given
        day: Option<String>,
    },
    /// Comment on a finding
    Comment {
        /// Identifier
        id: String,
        /// The comment
        text: String,
    },
    /// Close the finding of somebody else's emergency, after having looked at it
    Review {
        /// Identifier
        id: String,
        /// What you found
        #[arg(long)]
        why: String,
    },
}

/// Which findings.
#[derive(Debug, Args)]
pub struct FindingFields {
    /// Of this kind, or of this detection
    #[arg(long)]
    pub kind: Option<String>,
    /// In this state: open, acknowledged, in-work, resolved or accepted; unsettled for the first three
    #[arg(long, value_parser = ["open", "acknowledged", "in-work", "resolved", "accepted", "settled", "unsettled"])]
    pub state: Option<String>,
    /// At least of this importance
    #[arg(long, value_parser = ["low", "medium", "high", "critical"])]
    pub importance: Option<String>,
    /// On this machine
    #[arg(long)]
    pub machine: Option<String>,
    /// Of this owner
    #[arg(long)]
    pub owner: Option<String>,
    /// With this text anywhere in it
    #[arg(long, value_name = "TEXT")]
    pub search: Option<String>,
}

/// Findings that are not to come up.
#[derive(Debug, Subcommand)]
pub enum Suppressions {
    /// List them, newest first; those that are over among them
    List,
    /// Keep findings from coming up: of one kind, with at least one more thing in common, until a day
    Add(NewSuppressionFields),
    /// Let them come up again
    Withdraw {
        /// Identifier
        id: String,
    },
}

/// What is not to come up.
#[derive(Debug, Args)]
pub struct NewSuppressionFields {
    /// Kind of the findings, or name of the detection
    #[arg(long)]
    pub kind: String,
    /// On this machine
    #[arg(long)]
    pub machine: Option<String>,
    /// Of this account
    #[arg(long)]
    pub account: Option<String>,
    /// Of this person
    #[arg(long)]
    pub person: Option<String>,
    /// From this address
    #[arg(long, value_name = "ADDRESS")]
    pub source: Option<String>,
    /// Until when: 2026-12-24, or an instant; at most a year from now
    #[arg(long)]
    pub until: String,
    /// Why
    #[arg(long)]
    pub why: String,
}

/// Detections.
#[derive(Debug, Subcommand)]
pub enum Detections {
    /// List the detections in force
    List,
    /// Print the text of the detections in force, or of those that come along
    Text {
        /// Those that come along, without a service
        #[arg(long)]
        shipped: bool,
    },
    /// Read a file of detections and run its tests, without a service
    Check {
        /// The file (TOML)
        file: PathBuf,
    },
    /// Put the detections of a file into force
    Publish {
        /// The file (TOML)
        file: PathBuf,
        /// Why
        #[arg(long)]
        why: String,
    },
}

/// Which days.
#[derive(Debug, Args)]
pub struct CoverageFields {
    /// So many days
    #[arg(long, default_value_t = 30, value_parser = clap::value_parser!(u16).range(1..=400))]
    pub days: u16,
    /// The last of them; today where it is not given
    #[arg(long)]
    pub until: Option<jiff::civil::Date>,
}
