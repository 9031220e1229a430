//! What each command does.

mod accesses;
mod account;
mod again;
pub(crate) mod agent;
mod asking;
pub mod audit;
mod coverage;
mod detections;
mod directory;
mod drafts;
mod findings;
pub(crate) mod log;
mod logs;
mod machines;
mod own;
mod people;
mod reach;
mod recordings;
mod reports;
mod reviews;
mod rules;
pub(crate) mod serve;
mod service;
mod sessions;
mod visits;

use crate::cli::{Cli, Command};
use crate::output::Printer;
use crate::{Exit, Failure, demo};
use clap::CommandFactory as _;

pub(crate) async fn run(cli: Cli) -> Result<Exit, Failure> {
    let printer = Printer { json: cli.json };
    let server = cli.server;
    let client = || account::client(server.as_deref());
    match cli.command {
        Command::Serve(options) => serve::serve(&options).await,
        Command::Setup(options) => serve::setup(&options, printer).await,
        Command::Demo(options) => demo::run(options, printer).await,
        Command::SignIn { person, authority } => account::sign_in(server.as_deref(), authority, &person, printer).await,
        Command::Join { authority } => account::join(server.as_deref(), authority, printer).await,
        Command::Trust(what) => service::trust(&client()?, &what, printer).await,
        Command::StepUp => account::step_up(server.as_deref(), printer).await,
        Command::SignOut => account::sign_out(server.as_deref(), printer).await,
        Command::Now => {
            printer.value(&client()?.now().await?, |n| n.sentence.clone())?;
            Ok(Exit::Done)
        }
        Command::Machines(what) => machines::run(&client()?, what, printer).await,
        Command::Vault(what) => machines::vault(&client()?, what, printer).await,
        Command::Forward(what) => machines::forward(&client()?, what, printer).await,
        Command::Agent(what) => agent::run(what, printer).await,
        Command::Ask(what) => asking::ask(&client()?, what, printer).await,
        Command::Requests(what) => asking::requests(&client()?, what, printer).await,
        Command::Passes(what) => asking::passes(&client()?, what, printer).await,
        Command::Stop(what) => asking::stop(&client()?, what, printer).await,
        Command::Lockdown(what) => asking::lockdown(&client()?, what, printer).await,
        Command::Notices => asking::notices(&client()?, printer).await,
        Command::People(what) => people::run(&client()?, what, printer).await,
        Command::Factors(what) => own::factors(server.as_deref(), what, printer).await,
        Command::Keys(what) => own::keys(&client()?, what, printer).await,
        Command::Tokens(what) => own::tokens(&client()?, what, printer).await,
        Command::Devices(what) => own::devices(&client()?, what, printer).await,
        Command::Visits(what) => visits::run(&client()?, what, printer).await,
        Command::Pins(what) => service::pins(&client()?, what, printer).await,
        Command::Proposals(what) => service::proposals(&client()?, what, printer).await,
        Command::Settings(what) => service::settings(&client()?, what, printer).await,
        Command::ServiceKeys(what) => service::keys(&client()?, what, printer).await,
        Command::Sessions(what) => sessions::run(&client()?, what, printer).await,
        Command::Recordings(what) => recordings::run(&client()?, what, printer).await,
        Command::Log(what) => log::run(server.as_deref(), what, printer).await,
        Command::Audit(what) => audit::run(server.as_deref(), what, printer).await,
        Command::Accesses(what) => accesses::run(&client()?, what, printer).await,
        Command::Findings(what) => findings::run(&client()?, what, printer).await,
        Command::Suppressions(what) => findings::suppressions(&client()?, what, printer).await,
        Command::Detections(what) => detections::run(server.as_deref(), what, printer).await,
        Command::Reports(what) => reports::run(&client()?, what, printer).await,
        Command::Coverage(which) => coverage::run(&client()?, which, printer).await,
        Command::Policy(what) => rules::run(server.as_deref(), what, printer).await,
        Command::Why(question) => rules::why(&client()?, question, printer).await,
        Command::Reach(question) => reach::run(&client()?, question, printer).await,
        Command::Directory(what) => directory::run(&client()?, what, printer).await,
        Command::Reviews(what) => reviews::run(&client()?, what, printer).await,
        Command::Completions { shell } => {
            clap_complete::generate(shell, &mut Cli::command(), "aerie", &mut std::io::stdout());
            Ok(Exit::Done)
        }
        Command::ManPage => {
            clap_mangen::Man::new(Cli::command()).render(&mut std::io::stdout()).map_err(|e| Failure::file("standard output", &e))?;
            Ok(Exit::Done)
        }
    }
}
