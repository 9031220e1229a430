//! Requests, passes, stopping, and what is said at a machine.

use clap::{Args, Subcommand};

/// Asking for access.
#[derive(Debug, Args)]
pub struct Ask {
    /// Machines, or group:NAME
    #[arg(required = true, value_name = "MACHINE")]
    pub machines: Vec<String>,
    /// What for, separated by commas: shell, exec, upload …
    #[arg(long = "for", value_delimiter = ',', required = true, value_name = "CAPABILITIES")]
    pub capabilities: Vec<String>,
    /// Where ports lead that are to be forwarded; to any that the rules allow where it is not given
    #[arg(long, value_name = "HOST:PORT")]
    pub target: Option<String>,
    /// How long, as 4h, or until when, as 2026-11-24T18:00:00Z
    #[arg(long, value_name = "TIME")]
    pub until: String,
    /// From when, as 2026-11-24T08:00:00Z; at once where it is not given
    #[arg(long, value_name = "TIME")]
    pub from: Option<jiff::Timestamp>,
    /// Why
    #[arg(long)]
    pub reason: String,
    /// Ticket
    #[arg(long)]
    pub ticket: Option<String>,
}

/// Requests for access.
#[derive(Debug, Subcommand)]
pub enum Requests {
    /// List them: your own, and those that wait for your answer
    List {
        /// Only open, approved, refused, withdrawn or expired ones
        #[arg(long)]
        state: Option<String>,
    },
    /// Show one
    Show {
        /// Identifier
        id: String,
    },
    /// Answer one: yes, yes with less, or no
    Answer(Answer),
    /// Withdraw your own
    Withdraw {
        /// Identifier
        id: String,
    },
    /// Let somebody answer in your place while you are away, or show who does
    Deputy {
        /// Whoever answers
        deputy: Option<String>,
        /// Until when, as 2026-12-01T00:00:00Z, or how long, as 72h
        #[arg(long, value_name = "TIME", requires = "deputy")]
        until: Option<String>,
        /// Answer yourself again
        #[arg(long, conflicts_with = "deputy")]
        end: bool,
    },
}

/// An answer.
#[derive(Debug, Args)]
pub struct Answer {
    /// Identifier of the request
    pub id: String,
    /// Approve it
    #[arg(long, required_unless_present = "no")]
    pub yes: bool,
    /// Refuse it
    #[arg(long, conflicts_with = "yes", requires = "why")]
    pub no: bool,
    /// Why; whoever asked reads it
    #[arg(long)]
    pub why: Option<String>,
    /// Only so long, as 2h, or until then, as 2026-11-24T12:00:00Z
    #[arg(long, value_name = "TIME")]
    pub until: Option<String>,
    /// Only this, separated by commas
    #[arg(long, value_delimiter = ',', value_name = "CAPABILITIES")]
    pub only: Option<Vec<String>>,
    /// Sessions of at most so many minutes
    #[arg(long, value_name = "MINUTES", value_parser = clap::value_parser!(u32).range(1..=100_000))]
    pub session: Option<u32>,
}

/// Passes.
#[derive(Debug, Subcommand)]
pub enum Passes {
    /// List those that are good or will be
    List,
    /// Withdraw one: sessions that rest on it end
    Withdraw {
        /// Identifier
        id: String,
        /// Why
        #[arg(long)]
        why: String,
    },
}

/// Ending sessions.
#[derive(Debug, Args)]
pub struct Stop {
    #[command(flatten)]
    pub which: Which,
    /// Why: those concerned read it
    #[arg(long)]
    pub why: String,
}

/// Which sessions.
#[derive(Debug, Args)]
#[group(required = true, multiple = false)]
pub struct Which {
    /// This one
    #[arg(long, value_name = "ID")]
    pub session: Option<String>,
    /// Those of a person
    #[arg(long)]
    pub person: Option<String>,
    /// Those on a machine
    #[arg(long)]
    pub machine: Option<String>,
    /// Those that a rule allowed
    #[arg(long)]
    pub rule: Option<String>,
    /// All of them
    #[arg(long)]
    pub all: bool,
}

/// Keeping new sessions out.
#[derive(Debug, Subcommand)]
pub enum Lockdown {
    /// Let nobody new in, but in an emergency
    Begin {
        /// Why
        #[arg(long)]
        why: String,
    },
    /// Open the service again
    Lift {
        /// Why
        #[arg(long)]
        why: String,
    },
}

/// How an agent asks the person at the machine.
#[derive(Debug, Args)]
pub struct AskingFields {
    /// TCP port of the page on this machine's loopback, on which the person here is asked and sees who is connected
    #[arg(long, value_name = "PORT", default_value_t = aerie_agent::consent::PORT)]
    pub page: u16,
    /// Ask nobody: what needs a consent is refused
    #[arg(long, conflicts_with = "page")]
    pub no_page: bool,
    /// Accounts that may answer, separated by commas; those who are logged in where none are given
    #[arg(long, value_delimiter = ',', value_name = "ACCOUNTS")]
    pub answered_by: Vec<String>,
    /// A program that answers instead: a question in JSON on its standard input, {"answer":"agree"} or {"answer":"refuse"} on its standard output
    #[arg(long, value_name = "FILE")]
    pub answer_program: Option<std::path::PathBuf>,
    /// Minutes without a key after which nobody is held to be here
    #[arg(long, value_name = "MINUTES", default_value_t = 10, value_parser = clap::value_parser!(i64).range(1..=1440))]
    pub away_after: i64,
}

/// Answering at the machine.
#[derive(Debug, Args)]
pub struct AnswerHere {
    /// Port of the agent's page
    #[arg(long, value_name = "PORT", default_value_t = aerie_agent::consent::PORT)]
    pub page: u16,
    /// Say this to every question, and ask nothing: agree, refuse or stop
    #[arg(long, value_parser = ["agree", "refuse", "stop"])]
    pub say: Option<String>,
    /// Wait for the next question where there is none
    #[arg(long)]
    pub wait: bool,
}
