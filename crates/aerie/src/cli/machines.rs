//! Commands about machines, agents and credentials.

use super::asking::{AnswerHere, AskingFields};
use clap::{Args, Subcommand};
use std::path::PathBuf;

/// Machines.
#[derive(Debug, Subcommand)]
pub enum Machines {
    /// List machines, favourites and recent ones first; a few letters of anything find one
    List {
        /// Letters of name, address, site, owner, label, note, host name, system, or who is logged in
        #[arg(value_name = "LETTERS")]
        letters: Vec<String>,
        /// Only these: online, offline, "code issued", "no agent", incomplete
        #[arg(long)]
        state: Option<String>,
        /// Only those of this site
        #[arg(long)]
        site: Option<String>,
        /// Rows
        #[arg(long, default_value_t = 50)]
        limit: u32,
    },
    /// Show everything that is known of a machine
    Show {
        /// Name
        machine: String,
    },
    /// Register a machine
    Add {
        /// Name
        machine: String,
        #[command(flatten)]
        about: Box<MachineFields>,
    },
    /// Change what is known of a machine
    Change {
        /// Name
        machine: String,
        #[command(flatten)]
        about: Box<MachineFields>,
    },
    /// Make a machine one of your favourites, or no more
    Favourite {
        /// Name
        machine: String,
        /// No more
        #[arg(long)]
        no: bool,
    },
    /// Take a machine off the list, with its agent; what was logged stays
    Retire {
        /// Name
        machine: String,
        /// Why, for the log
        #[arg(long)]
        why: String,
    },
    /// List machines that left the list
    Retired,
    /// Bring a machine back
    Restore {
        /// Name
        machine: String,
    },
    /// Issue an enrolment code, for one machine or for any of a site; it is printed once
    Code {
        /// The machine
        #[arg(required_unless_present = "site")]
        machine: Option<String>,
        /// For any machine of this site
        #[arg(long, conflicts_with = "machine")]
        site: Option<String>,
        /// For so many machines of the site
        #[arg(long, requires = "site")]
        uses: Option<u32>,
        /// Good for so many hours
        #[arg(long)]
        hours: Option<u32>,
        /// Labels for machines that come with it, separated by commas
        #[arg(long, value_delimiter = ',', requires = "site")]
        labels: Vec<String>,
    },
    /// List codes that are good
    Codes,
    /// Withdraw a code
    WithdrawCode {
        /// Its identifier
        id: String,
    },
    /// Revoke the agent of a machine: it is cut off at once
    RevokeAgent {
        /// Name
        machine: String,
        /// Why, for the log
        #[arg(long)]
        why: String,
    },
    /// After a backup was put back: take each agent back once, though the service does not know its ticket
    AcceptAgents {
        /// For how many minutes, 1 to 60; 0 ends it
        #[arg(long, default_value_t = 30)]
        minutes: u32,
        /// Why, for the log
        #[arg(long)]
        why: String,
    },
    /// Show or set what the agent of a machine may reach for other machines of its site
    Relay {
        /// Name
        machine: String,
        /// HOST:PORT or RANGE:PORT, as 10.20.0.0/16:22, in place of those so far; without any, shows them
        entries: Vec<String>,
        /// Let it reach nothing for others
        #[arg(long, conflicts_with = "entries")]
        none: bool,
    },
    /// Check whether machines are ready, step by step
    Check {
        /// The machine
        #[arg(required_unless_present = "all")]
        machine: Option<String>,
        /// Every machine that this selector selects (`*` for all)
        #[arg(long, value_name = "SELECTOR", conflicts_with = "machine")]
        all: Option<String>,
    },
    /// Print what the SSH server of a machine must be told, so that Aerie's certificates let in
    Trust {
        /// Name
        machine: String,
    },
    /// Show the host key of a machine beside the pinned one, or pin it
    HostKey {
        /// Name
        machine: String,
        /// Pin the key of this fingerprint, which you compared at the machine itself
        #[arg(long, value_name = "SHA256:…", requires = "why")]
        accept: Option<String>,
        /// Why it is right, for the log
        #[arg(long)]
        why: Option<String>,
    },
    /// Look for accounts and authorised keys on a machine; keys that nobody owns become findings
    Discover {
        /// Name
        machine: String,
    },
}

/// What is known of a machine.
#[derive(Debug, Args)]
pub struct MachineFields {
    /// HOST:PORT of its SSH server
    #[arg(long)]
    pub address: Option<String>,
    /// How the service gets there: direct, agent, relay
    #[arg(long)]
    pub via: Option<String>,
    /// Site
    #[arg(long)]
    pub site: Option<String>,
    /// Who looks after it
    #[arg(long)]
    pub owner: Option<String>,
    /// Labels, separated by commas; all of them
    #[arg(long, value_delimiter = ',', value_name = "LABELS")]
    pub labels: Option<Vec<String>>,
    /// Groups, separated by commas; all of them
    #[arg(long, value_delimiter = ',', value_name = "GROUPS")]
    pub groups: Option<Vec<String>>,
    /// Accounts that may be used, separated by commas; all of them
    #[arg(long, value_delimiter = ',', value_name = "ACCOUNTS")]
    pub accounts: Option<Vec<String>>,
    /// Ways in besides SSH, as NAME=KIND@HOST:PORT with KIND desktop, web or tcp; all of them
    #[arg(long, value_delimiter = ',', value_name = "WAYS")]
    pub ways: Option<Vec<String>>,
    /// What it is for
    #[arg(long)]
    pub note: Option<String>,
}

/// The agent on this computer.
#[derive(Debug, Subcommand)]
pub enum Agent {
    /// Enrol this computer with a code (asked for, or read from standard input)
    Enrol {
        #[command(flatten)]
        options: EnrolFields,
        /// Do not ask whether it is the right computer
        #[arg(long, short)]
        yes: bool,
        #[command(flatten)]
        place: AgentPlace,
    },
    /// Run the agent in the foreground
    Run {
        #[command(flatten)]
        asking: AskingFields,
        #[command(flatten)]
        place: AgentPlace,
    },
    /// Answer what is asked of the person at this computer: agree, refuse, or stop whoever is connected
    Answer(AnswerHere),
    /// Enrol and run for this once: nothing is kept, and nothing is left when it ends
    Once {
        #[command(flatten)]
        options: EnrolFields,
        #[command(flatten)]
        asking: AskingFields,
    },
    /// Let whoever helps you see this computer's screen, for one visit: the page of the visit shows the whole line
    Visit,
    /// Say which machine this computer is, and what is wrong
    Status {
        #[command(flatten)]
        place: AgentPlace,
    },
    /// Print a unit for systemd
    Unit {
        #[command(flatten)]
        place: AgentPlace,
    },
}

/// What whoever enrols an agent may say.
#[derive(Debug, Args)]
pub struct EnrolFields {
    /// Name of the machine, where the code is for any of a site
    #[arg(long)]
    pub name: Option<String>,
    /// What it may connect to (repeat, or separate by commas): HOST:PORT or RANGE:PORT, as 10.20.0.0/16:22; the SSH server of this computer where it is not given
    #[arg(long, value_delimiter = ',', value_name = "TARGETS")]
    pub allow: Vec<String>,
    /// Keep the service's SSH authorities in this file, for TrustedUserCAKeys
    #[arg(long, value_name = "FILE")]
    pub trust_file: Option<PathBuf>,
    /// Send the log of this computer's accesses to the service: `journal`, or a file, as /var/log/auth.log
    #[arg(long, value_name = "LOG")]
    pub log: Option<String>,
    /// Lock the screen of this computer with this command where a rule says `lock`, as 'loginctl lock-sessions'
    #[arg(long, value_name = "COMMAND")]
    pub lock_with: Option<String>,
    /// Read the code from this file
    #[arg(long, value_name = "FILE")]
    pub code_file: Option<PathBuf>,
}

/// Where an agent keeps what it must not forget.
#[derive(Debug, Clone, Args)]
pub struct AgentPlace {
    /// Directory of the agent
    #[arg(long, value_name = "DIR", env = "AERIE_AGENT_STATE")]
    pub state: Option<PathBuf>,
}

/// Credentials that are kept for machines.
#[derive(Debug, Subcommand)]
pub enum Vault {
    /// List what is kept, never the credentials themselves
    List,
    /// Keep a password or key for an account (asked for, or read from standard input)
    Put {
        /// Machine
        machine: String,
        /// Account on it
        account: String,
        /// `password` or `key`
        #[arg(long, default_value = "password")]
        kind: String,
        /// Account that changes a password with chpasswd, as root; the account itself where it is not given
        #[arg(long, default_value = "")]
        changer: String,
        /// Change it after each use
        #[arg(long)]
        after_use: bool,
        /// Change it every so many days
        #[arg(long, default_value_t = 0)]
        days: u32,
        /// Change only how it is kept, not the credential
        #[arg(long)]
        keep: bool,
    },
    /// Change a credential on its machine now
    Rotate {
        /// Machine
        machine: String,
        /// Account on it
        account: String,
    },
    /// See a credential, in an emergency: rules, log and reason apply
    CheckOut {
        /// Machine
        machine: String,
        /// Account on it
        account: String,
        /// Why
        #[arg(long)]
        reason: String,
        /// Ticket, where the rules ask for one
        #[arg(long)]
        ticket: Option<String>,
    },
    /// What was done with a credential
    History {
        /// Machine
        machine: String,
        /// Account on it
        account: String,
    },
    /// Take a credential out for good; the account keeps it
    Remove {
        /// Machine
        machine: String,
        /// Account on it
        account: String,
    },
}

/// Forward a port.
#[derive(Debug, Args)]
pub struct Forward {
    /// Machine
    pub machine: String,
    /// Name of the way: `aerie machines show` lists them
    pub way: String,
    /// Port on this computer; a free one where it is not given
    #[arg(long, default_value_t = 0)]
    pub port: u16,
    /// Reason, where the rules ask for one
    #[arg(long)]
    pub reason: Option<String>,
    /// Ticket, where the rules ask for one
    #[arg(long)]
    pub ticket: Option<String>,
}
