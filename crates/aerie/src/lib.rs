//! The one program: `serve`, `demo` and the client's commands. The library is there for the tests and the benchmarks.

pub mod cli;
pub mod commands;
pub mod demo;
mod exit;
mod output;

pub use exit::{Exit, Failure};

use clap::Parser as _;

/// Runs the command line and returns how it ended.
pub fn run() -> Exit {
    let cli = cli::Cli::parse();
    let level = if cli.verbose { "info,russh=warn" } else { "warn,russh=error,sqlx=error" };
    let filter = tracing_subscriber::EnvFilter::try_from_env("AERIE_LOG").unwrap_or_else(|_| level.into());
    tracing_subscriber::fmt().with_env_filter(filter).with_writer(std::io::stderr).init();
    // An agent is to be small: one thread does.
    let mut builder = match cli.command {
        cli::Command::Agent(_) => tokio::runtime::Builder::new_current_thread(),
        _ => tokio::runtime::Builder::new_multi_thread(),
    };
    let runtime = match builder.enable_all().build() {
        Ok(runtime) => runtime,
        Err(e) => return exit::report(&Failure::internal(e.to_string())),
    };
    let result = runtime.block_on(commands::run(cli));
    // Whoever still waits for standard input would keep the program from ending.
    runtime.shutdown_background();
    match result {
        Ok(exit) => exit,
        Err(failure) => exit::report(&failure),
    }
}
