//! How the program ends.

use aerie_client::ClientError;
use std::process::ExitCode;

/// Exit codes, as docs/cli.md lists them.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum Exit {
    /// It worked.
    Done = 0,
    /// It worked, and the answer is no: findings, a log that does not hold, an access that is refused.
    No = 1,
    /// The command line is wrong (clap ends with this by itself).
    Usage = 2,
    /// Signing in is needed, or was refused.
    SignIn = 3,
    /// The service cannot be reached.
    Unreachable = 4,
    /// The service refused.
    Refused = 5,
    /// A file cannot be read or written, or nothing in a log was understood.
    File = 6,
    /// Something failed that should not have.
    Internal = 7,
}

impl Exit {
    /// Every code with what it means.
    pub const ALL: [(Exit, &str); 8] = [
        (Exit::Done, "it worked"),
        (
            Exit::No,
            "it worked, and the answer is no: findings, a log that does not hold, an access that is refused, rules that cannot be published, documents that differ in effect, nobody who can reach it",
        ),
        (Exit::Usage, "the command line is wrong"),
        (Exit::SignIn, "signing in is needed, or was refused"),
        (Exit::Unreachable, "the service cannot be reached"),
        (Exit::Refused, "the service refused"),
        (Exit::File, "a file cannot be read or written, or nothing in a log was understood"),
        (Exit::Internal, "something failed that should not have"),
    ];
}

impl From<Exit> for ExitCode {
    fn from(e: Exit) -> Self {
        ExitCode::from(e as u8)
    }
}

/// Why a command failed.
#[derive(Debug)]
pub struct Failure {
    /// The exit code.
    pub exit: Exit,
    /// What is wrong, and what to do.
    pub message: String,
}

impl Failure {
    /// A failure that should not have been.
    pub fn internal(message: impl Into<String>) -> Self {
        Self { exit: Exit::Internal, message: message.into() }
    }

    /// A file that cannot be read or written.
    pub fn file(path: impl std::fmt::Display, e: &std::io::Error) -> Self {
        Self { exit: Exit::File, message: format!("{path}: {e}") }
    }

    /// A wrong command line that clap cannot know of.
    pub fn usage(message: impl Into<String>) -> Self {
        Self { exit: Exit::Usage, message: message.into() }
    }
}

impl From<ClientError> for Failure {
    fn from(e: ClientError) -> Self {
        let exit = match e.status() {
            Some(401 | 429) => Exit::SignIn,
            Some(_) => Exit::Refused,
            None => Exit::Unreachable,
        };
        let mut message = e.to_string();
        if let ClientError::Problem(p) = &e {
            for d in &p.diagnostics {
                message += "\n\n";
                message += d.rendered.trim_end();
            }
        }
        Self { exit, message }
    }
}

impl From<aerie_service::ServiceError> for Failure {
    fn from(e: aerie_service::ServiceError) -> Self {
        Self::internal(e.to_string())
    }
}

impl From<aerie_store::StoreError> for Failure {
    fn from(e: aerie_store::StoreError) -> Self {
        Self::internal(e.to_string())
    }
}

/// Tells what failed, on standard error.
pub(crate) fn report(failure: &Failure) -> Exit {
    eprintln!("aerie: {}", failure.message);
    failure.exit
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn every_exit_code_is_documented() {
        let text = std::fs::read_to_string(concat!(env!("CARGO_MANIFEST_DIR"), "/../../docs/cli.md")).unwrap();
        for (exit, meaning) in Exit::ALL {
            assert!(text.contains(&format!("| {} | {meaning} |", exit as u8)), "{exit:?}");
        }
    }
}
