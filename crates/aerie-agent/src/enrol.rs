//! Enrolment: makes a key, shows the code to the service that the code names, and keeps what comes back.

use crate::connect::{ConnectError, connect, tls_config};
use crate::files::{AgentState, StateError};
use aerie_core::evidence::hex;
use aerie_core::tunnel::greeting::{Answer, EnrolmentCode, Purpose};
use aerie_core::tunnel::{AllowList, TargetError};
use ed25519_dalek::SigningKey;
use std::path::PathBuf;

/// What an agent connects to unless told otherwise: the SSH server of its own machine.
const DEFAULT_ALLOW: [&str; 2] = ["127.0.0.1:22", "[::1]:22"];

/// What whoever enrols an agent may say.
#[derive(Debug, Clone, Default)]
pub struct EnrolOptions {
    /// Name of the machine, where the code is for any of a site.
    pub name: Option<String>,
    /// What it may connect to; the SSH server of its own machine where nothing is said.
    pub allow: Vec<String>,
    /// File to keep the service's SSH authorities in.
    pub trust_file: Option<PathBuf>,
    /// The command that locks the screen of this computer, for its shell; none where nothing does.
    pub lock_with: Option<String>,
    /// The log to send: `journal`, or the path of a file.
    pub log: Option<String>,
    /// It goes away with its terminal.
    pub temporary: bool,
}

/// Which machine a code is for.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Found {
    /// Name of the machine.
    pub machine: String,
    /// Its site.
    pub site: String,
    /// What is noted about it.
    pub note: String,
    /// What this computer calls itself.
    pub host: String,
}

/// Why an agent could not be enrolled.
#[derive(Debug, thiserror::Error)]
pub enum Enrolled {
    /// The service.
    #[error(transparent)]
    Connect(#[from] ConnectError),
    /// The files.
    #[error(transparent)]
    State(#[from] StateError),
    /// The list.
    #[error(transparent)]
    Allow(#[from] TargetError),
    /// TLS.
    #[error(transparent)]
    Tls(#[from] rustls::Error),
    /// The service answered something else.
    #[error("the service answered what was not asked")]
    Odd,
}

fn purpose(code: &EnrolmentCode, options: &EnrolOptions, look: bool) -> Purpose {
    Purpose::Enrol {
        secret: code.secret.clone(),
        host: crate::facts::host(),
        name: options.name.clone(),
        look,
        temporary: options.temporary,
    }
}

pub(crate) fn new_key() -> Result<SigningKey, ConnectError> {
    let mut seed = [0; 32];
    getrandom::fill(&mut seed).map_err(|_| ConnectError::Random)?;
    Ok(SigningKey::from_bytes(&seed))
}

/// Says which machine a code is for; the code stays good.
///
/// # Errors
/// When the service cannot be reached or the code is not good.
pub async fn look(code: &EnrolmentCode, options: &EnrolOptions) -> Result<Found, Enrolled> {
    let proved = connect(&code.server, &tls_config()?, &new_key()?, |k| code.knows(k), || purpose(code, options, true)).await?;
    match proved.answer {
        Answer::GoodFor { machine, site, note } => Ok(Found { machine, site, note, host: crate::facts::host() }),
        _ => Err(Enrolled::Odd),
    }
}

/// Enrols, and gives what is to be kept.
///
/// # Errors
/// When the service cannot be reached, the code is not good, or the list cannot be read.
pub async fn enrol(code: &EnrolmentCode, options: &EnrolOptions) -> Result<AgentState, Enrolled> {
    let allow = if options.allow.is_empty() { DEFAULT_ALLOW.map(String::from).to_vec() } else { options.allow.clone() };
    AllowList::parse(allow.iter().map(String::as_str))?;
    let key = new_key()?;
    let proved = connect(&code.server, &tls_config()?, &key, |k| code.knows(k), || purpose(code, options, false)).await?;
    match proved.answer {
        Answer::Enrolled { machine, site, ticket } => Ok(AgentState {
            server: code.server.clone(),
            machine,
            site,
            key: hex(key.as_bytes()),
            service_key: proved.service_key,
            ticket: Some(ticket),
            allow,
            trust_file: options.trust_file.clone(),
            log: options.log.clone(),
            lock_with: options.lock_with.clone(),
        }),
        _ => Err(Enrolled::Odd),
    }
}
