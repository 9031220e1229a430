//! The command line: one declaration for parser, help, man page and completions.

mod asking;
mod audit;
mod machines;
mod people;

pub use asking::{Answer, AnswerHere, Ask, AskingFields, Lockdown, Passes, Requests, Stop, Which};
pub use audit::{AgainFields, Audit, CoverageFields, Detections, FindingFields, Findings, NewSuppressionFields, Reports, Suppressions};
pub use machines::{Agent, AgentPlace, EnrolFields, Forward, MachineFields, Machines, Vault};
pub use people::{Devices, Factors, Keys, People, PersonFields, Pins, ServiceKeys, Settings, Tokens, Visits};

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

/// The agent on this computer: dials out to the service, and connects to what its own list allows.
#[derive(Debug, Parser)]
#[command(name = "aerie-agent", version, disable_help_subcommand = true, propagate_version = true)]
pub struct AgentCli {
    /// Print JSON instead of text
    #[arg(long, global = true)]
    pub json: bool,
    /// Say more on standard error
    #[arg(long, short, global = true)]
    pub verbose: bool,
    #[command(subcommand)]
    pub command: Agent,
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
        /// Fingerprint of the service's own authority, as `aerie serve` prints it
        #[arg(long, value_name = "SHA256:…")]
        authority: Option<String>,
    },
    /// Take an invitation: asks for its link and a password, and signs in
    Join {
        /// Fingerprint of the service's own authority, as `aerie serve` prints it
        #[arg(long, value_name = "SHA256:…")]
        authority: Option<String>,
    },
    /// Prove yourself again with a code, for what needs a recent proof
    StepUp,
    /// Sign out
    SignOut,
    /// Show how things stand
    Now,
    /// Machines: find, register, enrol, check, retire
    #[command(subcommand)]
    Machines(Machines),
    /// Credentials that are kept for machines
    #[command(subcommand)]
    Vault(Vault),
    /// Open a local port to a TCP service of a machine, over HTTPS alone
    Forward(Forward),
    /// The agent on this computer
    #[command(subcommand)]
    Agent(Agent),
    /// Ask for access to machines
    Ask(Ask),
    /// Requests for access: yours, and those that wait for your answer
    #[command(subcommand)]
    Requests(Requests),
    /// Passes: access that was asked for and approved
    #[command(subcommand)]
    Passes(Passes),
    /// End sessions at once: one, a person's, a machine's, a rule's, or all
    Stop(Stop),
    /// Keep new sessions out, and open again
    #[command(subcommand)]
    Lockdown(Lockdown),
    /// Notices that were sent, or are to be
    Notices,
    /// People: find, add, change, invite, suspend, remove
    #[command(subcommand)]
    People(People),
    /// How you sign in: password, codes, recovery codes, passkeys
    #[command(subcommand)]
    Factors(Factors),
    /// Your SSH keys
    #[command(subcommand)]
    Keys(Keys),
    /// Your API tokens
    #[command(subcommand)]
    Tokens(Tokens),
    /// Where you are signed in
    #[command(subcommand)]
    Devices(Devices),
    /// Visits: help for people, with a PIN and their consent
    #[command(subcommand)]
    Visits(Visits),
    /// PINs for visits and machines
    #[command(subcommand)]
    Pins(Pins),
    /// Settings of the service
    #[command(subcommand)]
    Settings(Settings),
    /// Keys of the service
    #[command(subcommand)]
    ServiceKeys(ServiceKeys),
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
    /// Who got into which machine, when and from where
    #[command(subcommand)]
    Accesses(Accesses),
    /// Reports: printed, or mailed now and then
    #[command(subcommand)]
    Reports(Reports),
    /// For which machines and days there is evidence at all
    Coverage(CoverageFields),
    /// Findings of audits: what broke the rules, and what is done about it
    #[command(subcommand)]
    Findings(Findings),
    /// Findings that are not to come up
    #[command(subcommand)]
    Suppressions(Suppressions),
    /// What deserves a finding though no rule was broken
    #[command(subcommand)]
    Detections(Detections),
    /// The rules
    #[command(subcommand)]
    Policy(Policy),
    /// Why may somebody do something, or why not
    Why(Why),
    /// Who can reach what, exactly: by machine, by person, or all of it
    Reach(Reach),
    /// People, machines and groups as files
    #[command(subcommand)]
    Directory(DirectoryCommand),
    /// Reviews of who has access
    #[command(subcommand)]
    Reviews(Reviews),
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
    /// Address of console and API, with TLS
    #[arg(long, default_value = aerie_service::DEFAULT_HTTPS)]
    pub https: SocketAddr,
    /// Address of console and API without TLS, on this machine alone: for a proxy, in place of --https
    #[arg(long)]
    pub http: Option<SocketAddr>,
    /// Address of the SSH gateway
    #[arg(long, default_value = aerie_service::DEFAULT_SSH)]
    pub ssh: SocketAddr,
    /// Take logs that machines and collectors send here with TLS (RFC 5425), and audit them as they come
    #[arg(long, value_name = "ADDRESS")]
    pub syslog_tls: Option<SocketAddr>,
    /// The same without TLS (RFC 6587)
    #[arg(long, value_name = "ADDRESS")]
    pub syslog: Option<SocketAddr>,
    /// Who may send logs, besides this machine itself: an address or range; may be given again
    #[arg(long, value_name = "RANGE")]
    pub syslog_from: Vec<String>,
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
