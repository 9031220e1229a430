//! The one program: `serve`, `demo` and the client's commands. The library is there for the tests and the benchmarks.

pub mod cli;
pub mod commands;
pub mod demo;
mod exit;
mod output;

pub use exit::{Exit, Failure};

use clap::Parser as _;

use tokio::runtime::Builder;

/// Runs the command line and returns how it ended.
pub fn run() -> Exit {
    let cli = cli::Cli::parse();
    log(cli.verbose);
    // An agent is to be small: one thread does.
    let builder = match cli.command {
        cli::Command::Agent(_) => Builder::new_current_thread(),
        _ => Builder::new_multi_thread(),
    };
    run_on(builder, commands::run(cli))
}

/// Runs the command line of the agent alone.
pub fn run_agent() -> Exit {
    let cli = cli::AgentCli::parse();
    // A filter that can be written in words brings regular expressions along: half a megabyte of an agent's memory.
    let level = if cli.verbose { tracing::Level::INFO } else { tracing::Level::WARN };
    tracing_subscriber::fmt().with_max_level(level).with_writer(std::io::stderr).init();
    run_on(Builder::new_current_thread(), commands::agent::run(cli.command, output::Printer { json: cli.json }))
}

fn log(verbose: bool) {
    let level = if verbose { "info,russh=warn" } else { "warn,russh=error,sqlx=error" };
    let filter = tracing_subscriber::EnvFilter::try_from_env("AERIE_LOG").unwrap_or_else(|_| level.into());
    tracing_subscriber::fmt().with_env_filter(filter).with_writer(std::io::stderr).init();
}

fn run_on(mut builder: Builder, command: impl Future<Output = Result<Exit, Failure>>) -> Exit {
    let runtime = match builder.enable_all().build() {
        Ok(runtime) => runtime,
        Err(e) => return exit::report(&Failure::internal(e.to_string())),
    };
    let result = runtime.block_on(command);
    // Whoever still waits for standard input would keep the program from ending.
    runtime.shutdown_background();
    match result {
        Ok(exit) => exit,
        Err(failure) => exit::report(&failure),
    }
}
