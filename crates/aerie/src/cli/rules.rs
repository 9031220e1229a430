//! Commands about the rules, whom they let reach what, the directory, and reviews.

use clap::{Args, Subcommand};
use std::path::PathBuf;

/// Rules.
#[derive(Debug, Subcommand)]
pub enum Policy {
    /// Print the rules in force, or an earlier version
    Show {
        /// Version; the one in force where it is not given
        #[arg(value_name = "VERSION")]
        number: Option<i64>,
    },
    /// Check a rule document: names, rules that do nothing, guardrails, tests
    Check {
        /// The document (TOML)
        file: PathBuf,
        /// People and machines, to check without a service (JSON)
        #[arg(long)]
        directory: Option<PathBuf>,
    },
    /// Show what a rule document would change: who gains and loses what, which past sessions it would have refused
    Effect {
        /// The document (TOML)
        file: PathBuf,
        /// Compare with this version instead of the one in force
        #[arg(long, value_name = "VERSION")]
        against: Option<i64>,
        /// Days of the past to hold against it
        #[arg(long, default_value_t = 30, value_parser = clap::value_parser!(u32).range(1..=366))]
        days: u32,
    },
    /// Compare two rule documents without a service: exactly who gains and loses what
    Compare {
        /// The document before (TOML)
        before: PathBuf,
        /// The document after (TOML)
        after: PathBuf,
        /// People and machines (JSON)
        #[arg(long)]
        directory: PathBuf,
        /// People and machines after, where they change too (JSON)
        #[arg(long)]
        directory_after: Option<PathBuf>,
    },
    /// Publish a rule document
    Publish {
        /// The document (TOML)
        file: PathBuf,
        /// Only if this version is still in force
        #[arg(long, value_name = "VERSION")]
        after: Option<i64>,
    },
    /// List the versions of the rules
    Versions,
    /// Put an earlier version in force again, as a new one
    Restore {
        /// Version
        #[arg(value_name = "VERSION")]
        number: i64,
        /// What for
        #[arg(long, default_value = "")]
        note: String,
    },
    /// List rules that nobody used, and rules wider than what was used
    Unused {
        /// Days to look back
        #[arg(long, default_value_t = 90, value_parser = clap::value_parser!(u32).range(1..=366))]
        days: u32,
    },
    /// Change one rule of a document on disk; comments and layout stay
    #[command(subcommand)]
    Rule(RuleCommand),
    /// Drafts: rules that are being written
    #[command(subcommand)]
    Draft(DraftCommand),
}

/// One rule of a document on disk.
#[derive(Debug, Subcommand)]
pub enum RuleCommand {
    /// Add a rule at the end of its kind
    Add {
        /// The document (TOML)
        file: PathBuf,
        /// allow, forbid, require or never
        effect: String,
        /// Name of the rule
        name: String,
        /// Fields, as in the document: people="group:x", capabilities=["shell"]
        #[arg(required = true, value_name = "KEY=VALUE")]
        fields: Vec<String>,
    },
    /// Change fields of a rule; an empty value removes one
    Change {
        /// The document (TOML)
        file: PathBuf,
        /// Name of the rule
        name: String,
        /// Fields, as in the document: people="group:x", hours=
        #[arg(required = true, value_name = "KEY=VALUE")]
        fields: Vec<String>,
    },
    /// Remove a rule
    Remove {
        /// The document (TOML)
        file: PathBuf,
        /// Name of the rule
        name: String,
    },
}

/// Drafts.
#[derive(Debug, Subcommand)]
pub enum DraftCommand {
    /// List drafts
    List,
    /// Print a draft
    Show {
        /// Identifier
        id: String,
    },
    /// Begin a draft, from a document or from the rules in force
    Begin {
        /// What it is about
        title: String,
        /// The document (TOML)
        #[arg(long)]
        file: Option<PathBuf>,
    },
    /// Put a document into a draft
    Change {
        /// Identifier
        id: String,
        /// The document (TOML)
        file: PathBuf,
        /// Revision that was changed, as `aerie policy draft list` shows it
        #[arg(long)]
        revision: i64,
        /// Version of the rules that it is written against from now on
        #[arg(long, value_name = "VERSION")]
        base: Option<i64>,
    },
    /// Agree to a draft as the second person
    Agree {
        /// Identifier
        id: String,
        /// Revision that was read
        #[arg(long)]
        revision: i64,
    },
    /// Publish a draft
    Publish {
        /// Identifier
        id: String,
        /// Revision that was read
        #[arg(long)]
        revision: i64,
        /// What for
        #[arg(long, default_value = "")]
        note: String,
    },
    /// Drop a draft
    Drop {
        /// Identifier
        id: String,
    },
}

/// The reach map.
#[derive(Debug, Args)]
pub struct Reach {
    /// Who can reach this machine
    #[arg(long)]
    pub machine: Option<String>,
    /// What this person can reach
    #[arg(long)]
    pub person: Option<String>,
    /// Only people whom this selects
    #[arg(long, value_name = "SELECTOR")]
    pub people: Option<String>,
    /// Only machines that this selects
    #[arg(long, value_name = "SELECTOR")]
    pub machines: Option<String>,
    /// Only this capability
    #[arg(long)]
    pub capability: Option<String>,
    /// Days from today on
    #[arg(long, default_value_t = 7, value_parser = clap::value_parser!(u32).range(1..=366))]
    pub days: u32,
    /// With the rules of this version
    #[arg(long = "rules", value_name = "VERSION")]
    pub rules: Option<i64>,
    /// As CSV for a spreadsheet
    #[arg(long)]
    pub csv: bool,
    /// As a matrix of groups: rows by group, organisation or person, columns by site, group, label, owner or name
    #[arg(long, value_name = "ROWS:COLUMNS", num_args = 0..=1, default_missing_value = "group:site")]
    pub matrix: Option<String>,
}

/// Why.
#[derive(Debug, Args)]
pub struct Why {
    /// Name of the person
    pub person: String,
    /// view, control, shell, exec, browse, upload, download, clipboard-in, clipboard-out, forward, processes or services
    pub capability: String,
    /// Name of the machine
    pub machine: String,
    /// When: `2026-11-23T12:00:00Z`, `2026-11-23 12:00` or `12:00` (in the zone of the rules); now where it is not given
    #[arg(long)]
    pub at: Option<String>,
    /// Account on the machine
    #[arg(long)]
    pub account: Option<String>,
    /// Where a forwarded port leads: HOST:PORT
    #[arg(long)]
    pub target: Option<String>,
    /// Address the person comes from
    #[arg(long)]
    pub from: Option<String>,
    /// Factors taken as proved just then, separated by commas
    #[arg(long)]
    pub factors: Option<String>,
    /// With the rules of this version
    #[arg(long = "rules", value_name = "VERSION")]
    pub rules: Option<i64>,
}

/// The directory.
#[derive(Debug, Subcommand)]
pub enum DirectoryCommand {
    /// Write people, machines and groups as a file
    Export {
        /// json (everything), csv-people or csv-machines
        #[arg(long, default_value = "json")]
        format: String,
    },
    /// Take people, machines and groups in from a file, or say what would change
    Import {
        /// The file
        file: PathBuf,
        /// json (everything), csv-people or csv-machines; told by the file's name where it is not given
        #[arg(long)]
        format: Option<String>,
        /// Only say what would change
        #[arg(long)]
        dry_run: bool,
    },
}

/// Reviews.
#[derive(Debug, Subcommand)]
pub enum Reviews {
    /// List reviews
    List,
    /// Show a review and its entries
    Show {
        /// Identifier
        id: String,
    },
    /// Begin a review
    Begin {
        /// What it is about
        title: String,
        /// People in scope
        #[arg(long, value_name = "SELECTOR")]
        people: Option<String>,
        /// Machines in scope
        #[arg(long, value_name = "SELECTOR")]
        machines: Option<String>,
        /// Days until it is due
        #[arg(long, default_value_t = 14, value_parser = clap::value_parser!(u32).range(1..=366))]
        days: u32,
    },
    /// Keep a permission
    Keep {
        /// Identifier of the review
        id: String,
        /// Number of the entry
        entry: i64,
        /// What is said of it
        #[arg(long, default_value = "")]
        note: String,
    },
    /// Withdraw a permission
    Withdraw {
        /// Identifier of the review
        id: String,
        /// Number of the entry
        entry: i64,
        /// What is said of it
        #[arg(long, default_value = "")]
        note: String,
    },
    /// Close a review; what was withdrawn becomes a draft of the rules
    Close {
        /// Identifier
        id: String,
    },
}
