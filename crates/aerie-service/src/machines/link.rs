//! The second connection: from the gateway to the machine, by its way, with a certificate signed a moment ago or with a
//! credential of the vault.

use super::host_key;
use super::path::{PathError, PathStream, reach};
use super::sign_ins::SignIn;
use crate::gateway::{CHANNEL_MESSAGES, WINDOW, algorithms};
use crate::keys::Keys;
use crate::service::App;
use crate::vault::Secret;
use aerie_core::audit::KnownSession;
use aerie_core::directory::Machine;
use aerie_core::evidence::{EventKind, NewEvent};
use jiff::Timestamp;
use russh::client::{self, AuthResult, ChannelOpenHandle, Handle, Msg, Session};
use russh::keys::{Algorithm, HashAlg, PrivateKeyWithHashAlg, PublicKey, PublicKeyOrCertificate};
use russh::{Channel, ChannelOpenFailure, Disconnect, SshId};
use std::borrow::Cow;
use std::net::IpAddr;
use std::sync::{Arc, Mutex, PoisonError};
use std::time::Duration;
use tokio::sync::mpsc;
use tokio_util::sync::CancellationToken;

/// How long each step towards a machine may take.
const PATIENCE: Duration = Duration::from_secs(10);

/// Why a machine could not be reached. The person has been granted access, so that they may know.
#[derive(Debug, thiserror::Error)]
pub(crate) enum LinkError {
    #[error("it has no address or no pinned host key yet; an administrator must add them")]
    NotReady,
    #[error("its pinned host key cannot be read; an administrator must replace it")]
    BadPin,
    #[error(transparent)]
    Path(#[from] PathError),
    #[error("it does not answer within {} seconds", PATIENCE.as_secs())]
    Silent,
    #[error(
        "it shows another host key than the pinned one; nothing was sent to it, and nobody is taken there until an administrator accepted the new key"
    )]
    OtherKey,
    #[error("its SSH server broke off ({0})")]
    Protocol(russh::Error),
    #[error("it does not accept the certificate for this account")]
    Refused,
    #[error("it does not accept the kept credential for this account")]
    CredentialRefused,
    #[error("no certificate could be made ({0})")]
    Certificate(crate::KeyError),
    #[error("what is kept of it could not be read ({0})")]
    Store(#[from] aerie_store::StoreError),
}

impl LinkError {
    /// A stable word.
    pub(crate) fn code(&self) -> &'static str {
        match self {
            Self::NotReady => "not-ready",
            Self::BadPin => "bad-pin",
            Self::Path(e) => e.code(),
            Self::Silent => "silent",
            Self::OtherKey => "other-host-key",
            Self::Protocol(_) => "protocol",
            Self::Refused => "refused",
            Self::CredentialRefused => "credential-refused",
            Self::Certificate(_) => "certificate",
            Self::Store(_) => "store",
        }
    }

    /// Whether the machine itself said no, rather than that it could not be asked.
    pub(crate) fn is_refusal(&self) -> bool {
        matches!(self, Self::Refused | Self::CredentialRefused)
    }
}

/// Tells whoever waits what is being done.
#[derive(Debug, Clone, Default)]
pub(crate) struct Steps(Option<mpsc::UnboundedSender<String>>);

impl Steps {
    pub(crate) fn new() -> (Self, mpsc::UnboundedReceiver<String>) {
        // A handful of lines for one connection.
        let (send, receive) = mpsc::unbounded_channel();
        (Self(Some(send)), receive)
    }

    pub(crate) fn say(&self, text: impl Into<String>) {
        if let Some(to) = &self.0 {
            let _ = to.send(text.into());
        }
    }
}

/// What a connection is for.
#[derive(Debug, Clone, Copy)]
pub(crate) enum Purpose<'a> {
    /// A session of somebody; may it forward ports?
    Session(&'a KnownSession, bool),
    /// The service's own work: the word for it stands in the certificate.
    Own(&'a str),
    /// To see whether this credential, and no other, is good.
    Try(&'a Secret),
}

/// The connection to a machine.
pub(crate) struct MachineLink {
    pub(crate) handle: Handle<Watch>,
    /// Cancelled when the machine closed the connection.
    pub(crate) closed: CancellationToken,
    /// By which way, in words.
    pub(crate) how: String,
    /// Whether a credential of the vault was used.
    pub(crate) by_vault: bool,
}

/// Checks the host key, and notices the end.
pub(crate) struct Watch {
    pinned: Option<PublicKey>,
    shown: Arc<Mutex<Option<PublicKey>>>,
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
        let PublicKeyOrCertificate::PublicKey { key, .. } = shown else { return Ok(false) };
        let same = self.pinned.as_ref().is_some_and(|p| p.key_data() == key.key_data());
        *self.shown.lock().unwrap_or_else(PoisonError::into_inner) = Some(key.clone());
        Ok(same)
    }

    // The machine is asked; it asks for nothing. The engine would accept what is not refused here.
    async fn server_channel_open_forwarded_tcpip(
        &mut self,
        _: Channel<Msg>,
        _: &str,
        _: u32,
        _: &str,
        _: u32,
        reply: ChannelOpenHandle,
        _: &mut Session,
    ) -> Result<(), Self::Error> {
        refuse(reply).await
    }

    async fn server_channel_open_forwarded_streamlocal(
        &mut self,
        _: Channel<Msg>,
        _: &str,
        reply: ChannelOpenHandle,
        _: &mut Session,
    ) -> Result<(), Self::Error> {
        refuse(reply).await
    }

    async fn server_channel_open_agent_forward(
        &mut self,
        _: Channel<Msg>,
        reply: ChannelOpenHandle,
        _: &mut Session,
    ) -> Result<(), Self::Error> {
        refuse(reply).await
    }

    async fn server_channel_open_session(&mut self, _: Channel<Msg>, reply: ChannelOpenHandle, _: &mut Session) -> Result<(), Self::Error> {
        refuse(reply).await
    }

    async fn server_channel_open_direct_tcpip(
        &mut self,
        _: Channel<Msg>,
        _: &str,
        _: u32,
        _: &str,
        _: u32,
        reply: ChannelOpenHandle,
        _: &mut Session,
    ) -> Result<(), Self::Error> {
        refuse(reply).await
    }

    async fn server_channel_open_direct_streamlocal(
        &mut self,
        _: Channel<Msg>,
        _: &str,
        reply: ChannelOpenHandle,
        _: &mut Session,
    ) -> Result<(), Self::Error> {
        refuse(reply).await
    }

    async fn server_channel_open_x11(
        &mut self,
        _: Channel<Msg>,
        _: &str,
        _: u32,
        reply: ChannelOpenHandle,
        _: &mut Session,
    ) -> Result<(), Self::Error> {
        refuse(reply).await
    }
}

/// Refuses a channel that a machine opens (RFC 4254 section 5.1).
async fn refuse(reply: ChannelOpenHandle) -> Result<(), russh::Error> {
    reply.reject(ChannelOpenFailure::AdministrativelyProhibited).await;
    Ok(())
}

fn config(pinned: Option<&PublicKey>) -> Arc<client::Config> {
    // Only the pinned kind of key is asked for: a machine with several would otherwise show another of its own.
    let kinds = match pinned.map(PublicKey::algorithm) {
        None => Cow::Borrowed(&[Algorithm::Ed25519][..]),
        Some(Algorithm::Rsa { .. }) => {
            Cow::Owned(vec![Algorithm::Rsa { hash: Some(HashAlg::Sha512) }, Algorithm::Rsa { hash: Some(HashAlg::Sha256) }])
        }
        Some(other) => Cow::Owned(vec![other]),
    };
    Arc::new(client::Config {
        client_id: SshId::Standard(Cow::Borrowed(concat!("SSH-2.0-Aerie_", env!("CARGO_PKG_VERSION")))),
        window_size: WINDOW,
        channel_buffer_size: CHANNEL_MESSAGES,
        maximum_packet_size: 32768,
        preferred: russh::Preferred { key: kinds, ..algorithms() },
        keepalive_interval: Some(Duration::from_secs(30)),
        keepalive_max: 4,
        nodelay: true,
        ..client::Config::default()
    })
}

/// Greets the SSH server at the end of a stream. Gives the key that it showed, where it is not the pinned one.
pub(super) async fn greet(
    stream: PathStream,
    pinned: Option<&PublicKey>,
) -> Result<Result<(Handle<Watch>, CancellationToken), PublicKey>, LinkError> {
    let (shown, closed) = (Arc::new(Mutex::new(None)), CancellationToken::new());
    let watch = Watch { pinned: pinned.cloned(), shown: shown.clone(), closed: closed.clone() };
    match patient(client::connect_stream(config(pinned), stream, watch)).await? {
        Ok(handle) => Ok(Ok((handle, closed))),
        Err(e) => {
            let key = shown.lock().unwrap_or_else(PoisonError::into_inner).take();
            match key.filter(|k| pinned.is_none_or(|p| p.key_data() != k.key_data())) {
                Some(key) => Ok(Err(key)),
                None => Err(LinkError::Protocol(e)),
            }
        }
    }
}

/// The pinned host key of a machine.
pub(super) fn pin_of(machine: &Machine) -> Result<PublicKey, LinkError> {
    let pin = machine.host_key.as_deref().ok_or(LinkError::NotReady)?;
    PublicKey::from_openssh(pin).map_err(|_| LinkError::BadPin)
}

impl MachineLink {
    pub(crate) async fn open(app: &App, machine: &Machine, account: &str, purpose: Purpose<'_>, steps: &Steps) -> Result<Self, LinkError> {
        let target = machine.ssh_target().ok_or(LinkError::NotReady)?;
        let pinned = pin_of(machine)?;
        steps.say(format!("looking for a way to {}", machine.name));
        let reached = reach(app, machine, &target).await?;
        steps.say(format!("greeting {} {}", machine.name, reached.how));
        let (mut handle, closed) = match greet(reached.stream, Some(&pinned)).await? {
            Ok(pair) => pair,
            Err(other) => {
                host_key::differs(app, machine, &other).await?;
                return Err(LinkError::OtherKey);
            }
        };
        steps.say(format!("signing in to {} as {account}", machine.name));
        let by_vault = sign_in(app, &mut handle, machine, account, purpose, &reached.sources).await?;
        app.store.heard_of(&machine.name, Timestamp::now()).await?;
        Ok(Self { handle, closed, how: reached.how, by_vault })
    }

    pub(crate) async fn close(&self) {
        let _ = self.handle.disconnect(Disconnect::ByApplication, "", "en").await;
    }
}

/// Signs in with what is kept for the account, where something is; otherwise with a certificate made for this once. Says whether
/// it was what is kept.
async fn sign_in(
    app: &App,
    handle: &mut Handle<Watch>,
    machine: &Machine,
    account: &str,
    purpose: Purpose<'_>,
    sources: &[IpAddr],
) -> Result<bool, LinkError> {
    let (id, forward) = match purpose {
        // The audit must know the session before the machine can log its sign-in.
        Purpose::Session(session, forward) => {
            app.sign_ins.note(SignIn::Session(session.clone()));
            (&*session.id, forward)
        }
        Purpose::Own(word) => {
            let at = jiff::Timestamp::now();
            app.store.put_own_link(&machine.name, word, at).await?;
            app.sign_ins.note(SignIn::Own { machine: machine.name.to_string(), word: word.into(), at });
            (word, false)
        }
        Purpose::Try(secret) => {
            return if offer(handle, account, secret).await? { Ok(true) } else { Err(LinkError::CredentialRefused) };
        }
    };
    // While a credential is being changed, either may be good.
    let kept = app.vault.secrets(app, &machine.name, account).await?;
    if !kept.is_empty() {
        // Evidence first: whoever answers at this address is shown it.
        let says = format!("The credential of {account} on {} was used to sign in there ({id}).", machine.name);
        let event = NewEvent::new(Timestamp::now(), EventKind::CredentialUsed, "service").machine(&machine.name).says(says);
        app.log.append(event.with("account", account).with("purpose", id)).await?;
    }
    for secret in &kept {
        if offer(handle, account, secret).await? {
            // The service's own looking is no use after which it would have to be changed.
            if matches!(purpose, Purpose::Session(..)) {
                app.vault.note_use(app, &machine.name, account).await?;
            }
            return Ok(true);
        }
    }
    // A machine that was not told of a new authority yet trusts an earlier one.
    for authority in app.keys.user_authorities() {
        let made = Keys::certify(&authority, id, account, sources, forward, Timestamp::now());
        let (key, certificate) = made.map_err(LinkError::Certificate)?;
        if accepted(patient(handle.authenticate_openssh_cert(account, Arc::new(key), certificate)).await?)? {
            return Ok(false);
        }
    }
    Err(if kept.is_empty() { LinkError::Refused } else { LinkError::CredentialRefused })
}

async fn offer(handle: &mut Handle<Watch>, account: &str, secret: &Secret) -> Result<bool, LinkError> {
    match secret {
        Secret::Password(password) => accepted(patient(handle.authenticate_password(account, password.as_str())).await?),
        Secret::Key(key) => {
            let offered = PrivateKeyWithHashAlg::new(Arc::new((**key).clone()), Some(HashAlg::Sha512));
            accepted(patient(handle.authenticate_publickey(account, offered)).await?)
        }
    }
}

fn accepted(result: Result<AuthResult, russh::Error>) -> Result<bool, LinkError> {
    result.map(|r| matches!(r, AuthResult::Success)).map_err(LinkError::Protocol)
}

async fn patient<T>(step: impl Future<Output = T>) -> Result<T, LinkError> {
    tokio::time::timeout(PATIENCE, step).await.map_err(|_| LinkError::Silent)
}
