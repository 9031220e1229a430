//! The command line: one declaration for parser, help, man page and completions.

mod asking;
mod audit;
mod machines;
mod people;
mod rules;
mod service;
mod sessions;

pub use asking::{Answer, AnswerHere, Ask, AskingFields, Lockdown, Passes, Requests, Stop, Which};
pub use audit::{AgainFields, Audit, CoverageFields, Detections, FindingFields, Findings, NewSuppressionFields, Reports, Suppressions};
pub use machines::{Agent, AgentPlace, EnrolFields, Forward, MachineFields, Machines, Vault};
pub use people::{Devices, Factors, Keys, People, PersonFields, Pins, Proposals, ServiceKeys, Settings, Tokens, Visits};
pub use rules::{DirectoryCommand, DraftCommand, Policy, Reach, Reviews, RuleCommand, Why};
pub use service::{Demo, DemoCommand, Serve, Setup, Trust};
pub use sessions::{AccessFields, Accesses, Log, Recordings, Sessions};

use clap::{Parser, Subcommand};

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
    /// Print the service's fingerprints, its TLS authority, or lines for known_hosts
    Trust(Trust),
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
    /// Changes that wait for a second administrator
    #[command(subcommand)]
    Proposals(Proposals),
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
