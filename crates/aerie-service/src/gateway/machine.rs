//! The second connection: from the gateway to the machine, with a certificate signed a moment ago.

use super::{CHANNEL_MESSAGES, WINDOW, algorithms};
use crate::keys::Keys;
use aerie_core::directory::Machine;
use jiff::Timestamp;
use russh::client::{self, AuthResult, Handle};
use russh::keys::{Algorithm, HashAlg, PublicKey, PublicKeyOrCertificate};
use russh::{Disconnect, SshId};
use std::borrow::Cow;
use std::sync::Arc;
use std::time::Duration;
use tokio::net::TcpStream;
use tokio_util::sync::CancellationToken;

/// How long each step towards a machine may take.
const PATIENCE: Duration = Duration::from_secs(10);

/// Why a machine could not be reached. The person has been granted access, so that they may know.
#[derive(Debug, thiserror::Error)]
pub(super) enum MachineError {
    #[error("it has no address or no pinned host key yet; an administrator must add them")]
    NotReady,
    #[error("its pinned host key cannot be read; an administrator must replace it")]
    BadPin,
    #[error("it cannot be reached ({0})")]
    Unreachable(std::io::Error),
    #[error("it does not answer within {} seconds", PATIENCE.as_secs())]
    Silent,
    #[error("it shows another host key than the pinned one; nothing was sent to it")]
    OtherKey,
    #[error("its SSH server broke off ({0})")]
    Protocol(russh::Error),
    #[error("it does not accept the certificate for this account")]
    Refused,
    #[error("no certificate could be made ({0})")]
    Certificate(crate::KeyError),
}

impl MachineError {
    /// A stable word.
    pub(super) fn code(&self) -> &'static str {
        match self {
            Self::NotReady => "not-ready",
            Self::BadPin => "bad-pin",
            Self::Unreachable(_) => "unreachable",
            Self::Silent => "silent",
            Self::OtherKey => "other-host-key",
            Self::Protocol(_) => "protocol",
            Self::Refused => "refused",
            Self::Certificate(_) => "certificate",
        }
    }
}

/// The connection to a machine.
pub(super) struct MachineLink {
    pub(super) handle: Handle<Watch>,
    /// Cancelled when the machine closed the connection.
    pub(super) closed: CancellationToken,
}

/// Checks the host key, and notices the end.
pub(super) struct Watch {
    pinned: PublicKey,
    other: Arc<std::sync::atomic::AtomicBool>,
    closed: CancellationToken,
}

impl Drop for Watch {
    fn drop(&mut self) {
        self.closed.cancel();
    }
}

impl client::Handler for Watch {
    type Error = russh::Error;

    async fn check_server_key(&mut self, shown: &PublicKeyOrCertificate) -> Result<bool, Self::Error> {
        let same = match shown {
            PublicKeyOrCertificate::PublicKey { key, .. } => key.key_data() == self.pinned.key_data(),
            PublicKeyOrCertificate::Certificate(_) => false,
        };
        self.other.store(!same, std::sync::atomic::Ordering::Relaxed);
        Ok(same)
    }
}

fn config(pinned: &PublicKey) -> Arc<client::Config> {
    // Only the pinned kind of key is asked for: a machine with several would otherwise show another of its own.
    let kinds = match pinned.algorithm() {
        Algorithm::Rsa { .. } => vec![Algorithm::Rsa { hash: Some(HashAlg::Sha512) }, Algorithm::Rsa { hash: Some(HashAlg::Sha256) }],
        other => vec![other],
    };
    Arc::new(client::Config {
        client_id: SshId::Standard(Cow::Borrowed(concat!("SSH-2.0-Aerie_", env!("CARGO_PKG_VERSION")))),
        window_size: WINDOW,
        channel_buffer_size: CHANNEL_MESSAGES,
        maximum_packet_size: 32768,
        preferred: russh::Preferred { key: Cow::Owned(kinds), ..algorithms() },
        keepalive_interval: Some(Duration::from_secs(30)),
        keepalive_max: 4,
        nodelay: true,
        ..client::Config::default()
    })
}

impl MachineLink {
    pub(super) async fn open(keys: &Keys, machine: &Machine, session: &str, account: &str, forward: bool) -> Result<Self, MachineError> {
        let pin = machine.host_key.as_deref().filter(|_| !machine.address.is_empty()).ok_or(MachineError::NotReady)?;
        let pinned = PublicKey::from_openssh(pin).map_err(|_| MachineError::BadPin)?;
        let stream = patient(TcpStream::connect(&machine.address)).await?.map_err(MachineError::Unreachable)?;
        let _ = stream.set_nodelay(true);
        // The certificate is good from this address only: the one that the machine sees.
        let source = stream.local_addr().map_err(MachineError::Unreachable)?.ip();
        let other = Arc::new(std::sync::atomic::AtomicBool::new(false));
        let closed = CancellationToken::new();
        let watch = Watch { pinned: pinned.clone(), other: other.clone(), closed: closed.clone() };
        let connected = patient(client::connect_stream(config(&pinned), stream, watch)).await?;
        let mut handle = connected.map_err(|e| {
            if other.load(std::sync::atomic::Ordering::Relaxed) { MachineError::OtherKey } else { MachineError::Protocol(e) }
        })?;
        // A machine that was not told of a new authority yet trusts an earlier one.
        for authority in keys.user_authorities() {
            let made = Keys::certify(&authority, session, account, source, forward, Timestamp::now());
            let (key, certificate) = made.map_err(MachineError::Certificate)?;
            let accepted = patient(handle.authenticate_openssh_cert(account, Arc::new(key), certificate)).await?;
            match accepted.map_err(MachineError::Protocol)? {
                AuthResult::Success => return Ok(Self { handle, closed }),
                AuthResult::Failure { .. } => {}
            }
        }
        Err(MachineError::Refused)
    }

    pub(super) async fn close(&self) {
        let _ = self.handle.disconnect(Disconnect::ByApplication, "", "en").await;
    }
}

async fn patient<T>(step: impl Future<Output = T>) -> Result<T, MachineError> {
    tokio::time::timeout(PATIENCE, step).await.map_err(|_| MachineError::Silent)
}
