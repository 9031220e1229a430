//! One command on a machine, for the service's own work.

use super::link::MachineLink;
use russh::ChannelMsg;
use std::time::Duration;

/// How long a command may take.
const PATIENCE: Duration = Duration::from_secs(20);
/// Bytes of its output that are read.
const MAX_OUTPUT: usize = 1 << 20;

/// What came of a command.
#[derive(Debug)]
pub(crate) struct Ran {
    /// Its exit status; none where it did not say.
    pub(crate) status: Option<u32>,
    /// What it wrote.
    pub(crate) output: String,
    /// What it wrote as errors, as one line.
    pub(crate) errors: String,
}

/// Runs a command with this input. None where its answer was lost: then nobody knows what became of it.
pub(crate) async fn run(link: &MachineLink, command: &str, input: &[u8]) -> Option<Ran> {
    tokio::time::timeout(PATIENCE, run_for_long(link, command, input)).await.ok()?
}

async fn run_for_long(link: &MachineLink, command: &str, input: &[u8]) -> Option<Ran> {
    let mut channel = link.handle.channel_open_session().await.ok()?;
    channel.exec(true, command).await.ok()?;
    channel.data_bytes(input.to_vec()).await.ok()?;
    channel.eof().await.ok()?;
    let (mut status, mut output, mut errors) = (None, vec![], vec![]);
    while let Some(message) = channel.wait().await {
        match message {
            ChannelMsg::Data { data } if output.len() + data.len() <= MAX_OUTPUT => output.extend_from_slice(&data),
            ChannelMsg::ExtendedData { data, .. } if errors.len() + data.len() <= MAX_OUTPUT => errors.extend_from_slice(&data),
            ChannelMsg::ExitStatus { exit_status } => status = Some(exit_status),
            ChannelMsg::Failure => return None,
            _ => {}
        }
    }
    // Without a status the connection broke before it ended.
    status?;
    let errors = String::from_utf8_lossy(&errors);
    Some(Ran {
        status,
        output: String::from_utf8_lossy(&output).into_owned(),
        errors: aerie_core::diagnostic::printable(&errors.lines().collect::<Vec<_>>().join("; ")).chars().take(300).collect(),
    })
}
