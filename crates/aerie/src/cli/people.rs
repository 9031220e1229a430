//! Commands about people, how they sign in, tokens, PINs, settings and keys of the service.

use clap::{Args, Subcommand};
use std::path::PathBuf;

/// People.
#[derive(Debug, Subcommand)]
pub enum People {
    /// List people, found by a few letters
    List {
        /// Letters of name, organisation or group
        #[arg(long, short = 'q')]
        search: Option<String>,
        /// With this role
        #[arg(long)]
        role: Option<String>,
        /// In this group
        #[arg(long)]
        group: Option<String>,
        /// Only accounts that are suspended, ended or not begun
        #[arg(long)]
        not_good: bool,
        /// At most so many
        #[arg(long, default_value_t = 50, value_parser = clap::value_parser!(u32).range(1..=500))]
        limit: u32,
    },
    /// Show somebody: how they sign in, their keys, where they are signed in
    Show {
        /// Name
        person: String,
    },
    /// Add somebody
    Add {
        /// Name: small letters, digits, `-`, `_`, `.`
        person: String,
        #[command(flatten)]
        with: PersonFields,
        /// Print an invitation at once
        #[arg(long)]
        invite: bool,
    },
    /// Change somebody; what is not given stays
    Change {
        /// Name
        person: String,
        #[command(flatten)]
        with: PersonFields,
    },
    /// Suspend somebody: they are out of everything at once
    Suspend {
        /// Name
        person: String,
    },
    /// Give a suspended account back
    Restore {
        /// Name
        person: String,
    },
    /// Remove somebody with everything that they sign in with; the history stays
    Remove {
        /// Name
        person: String,
    },
    /// Print a link with which somebody sets a password; good once
    Invite {
        /// Name
        person: String,
    },
    /// Print a code that does once in place of somebody's second factor
    TemporaryCode {
        /// Name
        person: String,
    },
    /// Take a factor away from somebody: `password`, `code`, `recovery-codes`, or the identifier of a passkey
    TakeFactor {
        /// Name
        person: String,
        /// The factor
        factor: String,
    },
    /// Remove an SSH key of somebody
    TakeKey {
        /// Name
        person: String,
        /// `SHA256:…`
        fingerprint: String,
    },
    /// Sign somebody out everywhere, and withdraw their tokens
    SignOut {
        /// Name
        person: String,
    },
}

/// What is known of somebody.
#[derive(Debug, Args)]
pub struct PersonFields {
    /// Name as people write it
    #[arg(long)]
    pub full_name: Option<String>,
    /// Mail address for notices; empty for none
    #[arg(long)]
    pub mail: Option<String>,
    /// Home organisation
    #[arg(long)]
    pub organisation: Option<String>,
    /// Groups, separated by commas; all of them
    #[arg(long, value_delimiter = ',', value_name = "GROUPS")]
    pub groups: Option<Vec<String>>,
    /// Roles, separated by commas; all of them
    #[arg(long, value_delimiter = ',', value_name = "ROLES")]
    pub roles: Option<Vec<String>>,
    /// First day of the account (2026-11-23); empty for none
    #[arg(long, value_name = "DAY")]
    pub valid_from: Option<String>,
    /// Last day of the account; empty for none
    #[arg(long, value_name = "DAY")]
    pub valid_until: Option<String>,
}

/// How one signs in.
#[derive(Debug, Subcommand)]
pub enum Factors {
    /// Show how one signs in, and what is to be done next
    List,
    /// Set a new password (asked for, or read from standard input)
    Password,
    /// Enrol for codes: shows a QR code, and asks for the first code
    Code,
    /// Make recovery codes; they are shown once, and earlier ones are dead
    RecoveryCodes,
    /// Give up `code`, or the passkey of this identifier
    Remove {
        /// `code`, or the identifier of a passkey
        factor: String,
    },
}

/// One's own SSH keys.
#[derive(Debug, Subcommand)]
pub enum Keys {
    /// List one's SSH keys: when each was used, and which should go
    List,
    /// Register a key; ssh-keygen signs with it, so that its passphrase, agent or touch may be asked for
    Add {
        /// File of the private key, or of the public one where an agent has the other
        file: PathBuf,
        /// What to call it; the comment of the key where it is not given
        #[arg(long)]
        label: Option<String>,
        /// Last day on which it is good (2026-11-23)
        #[arg(long, value_name = "DAY")]
        expires: Option<String>,
    },
    /// Remove a key
    Remove {
        /// `SHA256:…`
        fingerprint: String,
    },
}

/// One's API tokens.
#[derive(Debug, Subcommand)]
pub enum Tokens {
    /// List tokens: for what, until when, last used
    List,
    /// Make a token; its secret is printed once
    Add {
        /// What to call it
        name: String,
        /// For what: read, rules, people, sessions, audit, pins, service; separated by commas
        #[arg(long, value_delimiter = ',', default_value = "read")]
        scopes: Vec<String>,
        /// Days that it is good
        #[arg(long, default_value_t = 90)]
        days: u32,
        /// Bind it to the Ed25519 key in this file: each request is signed with it
        #[arg(long, value_name = "FILE")]
        key: Option<PathBuf>,
    },
    /// Withdraw a token
    Withdraw {
        /// Identifier
        id: String,
    },
}

/// Where one is signed in.
#[derive(Debug, Subcommand)]
pub enum Devices {
    /// List where one is signed in
    List,
    /// Sign out one place
    End {
        /// Identifier
        id: String,
    },
    /// Sign out everywhere else
    EndOthers,
}

/// PINs.
#[derive(Debug, Subcommand)]
pub enum Pins {
    /// List PINs: remaining tries and time
    List,
    /// Issue a one-time PIN for a visit
    Issue {
        /// For what or whom
        #[arg(long, default_value = "")]
        note: String,
    },
    /// Withdraw a PIN
    Withdraw {
        /// Identifier
        id: String,
    },
    /// Give a machine a standing PIN, for access when nobody is there
    SetMachine {
        /// The machine
        machine: String,
        /// For what
        #[arg(long, default_value = "")]
        note: String,
    },
    /// Take a machine's standing PIN away
    RemoveMachine {
        /// The machine
        machine: String,
    },
}

/// Visits: help for people.
#[derive(Debug, Subcommand)]
pub enum Visits {
    /// List visits that are open, of the queues in which you help
    List {
        /// Also those that are closed
        #[arg(long)]
        all: bool,
    },
    /// The queues: who waits, who helps, and the page on which people ask
    Queues,
    /// Make a visit: shows a PIN to be read out, once
    New {
        /// Whom you help
        person: String,
        /// Queue, where you help in several
        #[arg(long, default_value = "")]
        queue: String,
        /// What it is about; they see this
        #[arg(long, default_value = "")]
        reason: String,
        /// Ticket
        #[arg(long, default_value = "")]
        ticket: String,
        /// Their mail address: the link is mailed to them, and the PIN never is
        #[arg(long, default_value = "")]
        mail: String,
    },
    /// One visit, and what happened in it
    Show {
        /// Identifier
        id: String,
    },
    /// Pick a visit up, from its queue or from whoever has it
    PickUp {
        /// Identifier
        id: String,
    },
    /// Pass a waiting visit on to a queue
    Reassign {
        /// Identifier
        id: String,
        /// Queue
        queue: String,
    },
    /// Write a note on a visit
    Note {
        /// Identifier
        id: String,
        /// What
        text: String,
    },
    /// Give whoever is helped a file, which they take on their page
    Give {
        /// Visit
        id: String,
        /// File, of at most 16 MiB
        file: std::path::PathBuf,
    },
    /// Take a file that whoever is helped gave: `aerie visits show` names it
    Take {
        /// Visit
        id: String,
        /// Identifier of the file
        file: String,
        /// Where to put it; its own name in this folder otherwise. A file that is there already is not touched
        #[arg(long)]
        to: Option<std::path::PathBuf>,
    },
    /// Close a visit; its record goes to the ticket desk
    Close {
        /// Identifier
        id: String,
        /// How it went: solved, unsolved, no-show, refused
        #[arg(long)]
        outcome: String,
        /// What is to be said of it
        #[arg(long, default_value = "")]
        notes: String,
    },
    /// Take a visit back before anybody came
    Withdraw {
        /// Identifier
        id: String,
    },
}

/// Settings.
#[derive(Debug, Subcommand)]
pub enum Settings {
    /// List settings with their values
    List,
    /// Change a setting; the value `-` is read from standard input
    Set {
        /// Its word
        setting: String,
        /// The value
        value: String,
        /// Why
        #[arg(long)]
        why: String,
    },
    /// Who changed which setting, when and why
    Changes,
}

/// What one administrator proposed and a second must agree to.
#[derive(Debug, Subcommand)]
pub enum Proposals {
    /// List proposals that wait
    List,
    /// Agree to a proposal as the second administrator: it is done at once
    Agree {
        /// Identifier
        id: String,
    },
    /// Discard a proposal
    Discard {
        /// Identifier
        id: String,
    },
}

/// Keys of the service.
#[derive(Debug, Subcommand)]
pub enum ServiceKeys {
    /// List the keys of the service with their age
    List,
    /// Rotate a key while the service runs; earlier ones still verify
    Rotate {
        /// `master`, or what the key is for
        purpose: String,
        /// Why
        #[arg(long)]
        why: String,
    },
}
