//! One connection to the gateway: proves who is there, and hands channels on.

use super::channel::{self, ChannelPlace};
use super::connection::{Connection, SignedInBy, Stated};
use super::{FIRST_WINDOW, WINDOW, server_config};
use crate::ending::{Basis, SignedInBySsh};
use crate::identity::Pending;
use crate::service::App;
use aerie_core::diagnostic::printable;
use aerie_core::evidence::{EventKind, NewEvent};
use aerie_core::policy::{Capability, Factor, Factors, Facts, Outcome, Refusal};
use aerie_core::session::{LoginName, PersonProved, SignIn};
use aerie_core::settings::Setting;
use jiff::Timestamp;
use russh::keys::Certificate;
use russh::server::{Auth, ChannelOpenHandle, Handler, Msg, PublicKeyOffer, Response, Session, VerifiedPublicKey};
use russh::{Channel, ChannelId, ChannelOpenFailure, MethodKind, MethodSet, Pty, Sig};
use std::net::IpAddr;
use std::sync::atomic::Ordering;
use std::sync::{Arc, OnceLock};
use tokio_util::sync::CancellationToken;

/// The handler of one connection.
pub(super) struct Visitor {
    pub(super) app: Arc<App>,
    pub(super) from: IpAddr,
    /// Within `ssh -J`: who was proved outside, and the machine that was named.
    inside: Option<(PersonProved, String)>,
    pub(super) user: Option<String>,
    pub(super) login: Option<LoginName>,
    pub(super) sign_in: SignIn,
    pub(super) tries: u32,
    failures: Vec<String>,
    pub(super) key: Option<String>,
    /// It was shown with a certificate, and is registered nowhere.
    by_certificate: bool,
    pub(super) stated: Stated,
    /// A passkey that is awaited in the browser.
    pub(super) pending: Option<Pending>,
    connection: Option<Arc<Connection>>,
    /// The sign-in, once there is one.
    basis: Arc<OnceLock<SignedInBySsh>>,
    signed_in: CancellationToken,
    /// Cancelled when the connection is over.
    closed: CancellationToken,
}

impl Drop for Visitor {
    fn drop(&mut self) {
        self.closed.cancel();
        if !self.signed_in.is_cancelled() && !self.failures.is_empty() {
            let user = printable(self.user.as_deref().unwrap_or("")).chars().take(200).collect::<String>();
            let event = NewEvent::new(Timestamp::now(), EventKind::SignInFailed, "stranger")
                .from(self.from)
                .says(format!("Somebody failed to sign in at the gateway as {user}: {}.", self.failures.join("; ")))
                .with("login", user);
            let app = self.app.clone();
            app.tasks.clone().spawn(async move { app.note(event).await });
        }
    }
}

pub(super) fn reject() -> Auth {
    Auth::reject()
}

pub(super) fn only(method: MethodKind, partial_success: bool) -> Auth {
    Auth::Reject { proceed_with_methods: Some(MethodSet::from(&[method][..])), partial_success }
}

impl Visitor {
    pub(super) fn new(app: Arc<App>, from: IpAddr) -> Self {
        Self {
            app,
            from,
            inside: None,
            user: None,
            login: None,
            sign_in: SignIn::default(),
            tries: 0,
            failures: vec![],
            key: None,
            by_certificate: false,
            stated: Stated::default(),
            pending: None,
            connection: None,
            basis: Arc::default(),
            signed_in: CancellationToken::new(),
            closed: CancellationToken::new(),
        }
    }

    /// The sign-in, once there is one.
    pub(super) fn basis(&self) -> Arc<OnceLock<SignedInBySsh>> {
        self.basis.clone()
    }

    /// Cancelled when somebody signed in.
    pub(super) fn signed_in(&self) -> CancellationToken {
        self.signed_in.clone()
    }

    pub(super) fn fail(&mut self, why: impl Into<String>) {
        let why = why.into();
        if self.failures.len() < 20 && self.failures.last() != Some(&why) {
            self.failures.push(why);
        }
    }

    /// One user name for the whole dialogue: the first.
    pub(super) fn same_user(&mut self, user: &str) -> bool {
        if self.user.is_none() {
            self.user = Some(user.into());
            self.login = match &self.inside {
                // Within `ssh -J` the inner user name is the account on the machine.
                Some((person, machine)) => LoginName::parse(&format!("{}+{user}@{machine}", person.person())).ok(),
                None => LoginName::parse(user).ok(),
            };
            if self.login.is_none() {
                self.fail("the login name has no form that is known");
            }
        }
        self.user.as_deref() == Some(user) && self.login.is_some()
    }

    pub(super) async fn accept(&mut self) -> Auth {
        let Some((proved, login)) = self.sign_in.proved().zip(self.login.clone()) else { return reject() };
        let words = self.sign_in.factors().words().join(" ");
        let mut event = NewEvent::new(Timestamp::now(), EventKind::SignIn, proved.person())
            .from(self.from)
            .says(format!("{} signed in at the gateway with {}.", proved.person(), self.sign_in.factors().words().join(" and ")))
            .with("factors", words);
        event = self.stated.with(event);
        if let Some(key) = &self.key {
            event = event.with("key", key.clone());
        }
        if self.app.log.append(event).await.is_err() {
            return reject();
        }
        self.app.tell("log");
        let key = self.key.clone().filter(|_| !self.by_certificate);
        let basis = Basis { person: proved.person().into(), key, factors: proved.factors() };
        let kept = self.app.connections.add(basis.clone());
        // What was withdrawn since the proof and before this line found nothing to end.
        if !basis.holds_now(&self.app) {
            return reject();
        }
        let by =
            SignedInBy { person: proved, from: self.from, ended: kept.ended.clone(), session: kept.session.clone(), over_https: false };
        let _ = self.basis.set(kept);
        self.connection = Some(Connection::new(self.app.clone(), by, login, self.stated.clone(), self.closed.clone()));
        self.signed_in.cancel();
        Auth::Accept
    }

    /// Takes a key that signed, and what was proved outside of `ssh -J`.
    async fn key_proved(&mut self, print: String, factors: Factors) -> Auth {
        let person = self.login.as_ref().map(|l| l.person.clone()).unwrap_or_default();
        let now = Timestamp::now();
        if !factors.iter().all(|f| self.sign_in.handle_factor(&person, f, now)) {
            return reject();
        }
        self.key = Some(print);
        // What was proved outside counts inside, for the same person.
        if let Some((outer, _)) = &self.inside {
            for factor in outer.factors().iter() {
                let at = outer.proofs().when(factor).unwrap_or(now);
                if !self.sign_in.handle_factor(outer.person(), factor, at) {
                    return reject();
                }
            }
        }
        self.next_step(false).await
    }

    /// The inner connection of `ssh -J`: another sign-in, at the machine that was named.
    fn jump(&self, channel: Channel<Msg>, machine: &str, reply: ChannelOpenHandle, place: ChannelPlace) {
        let (app, from) = (self.app.clone(), self.from);
        let proved = self.sign_in.proved().filter(|_| self.login.as_ref().is_some_and(|l| l.machine.is_none()));
        let Some(proved) = proved.filter(|p| may_ever_reach(&app, p.person(), machine, from)) else {
            tokio::spawn(reply.reject(ChannelOpenFailure::AdministrativelyProhibited));
            return;
        };
        let machine = machine.to_string();
        tokio::spawn(async move {
            let Ok(certificate) = app.keys.certify_host(&[&machine], Timestamp::now()) else { return };
            let config = server_config(&app, vec![certificate]);
            reply.accept().await;
            let _ = channel.widen(WINDOW - FIRST_WINDOW).await;
            let mut visitor = Visitor::new(app, from);
            visitor.inside = Some((proved, machine));
            if let Ok(running) = russh::server::run_stream(config, channel.into_stream(), visitor).await {
                let _ = running.await;
            }
            drop(place);
        });
    }
}

/// Whether any rule gives this person anything on this machine. A machine that is not there and one that is not for them
/// look the same.
fn may_ever_reach(app: &App, person: &str, machine: &str, from: IpAddr) -> bool {
    let rules = app.rules.now();
    Capability::ALL.into_iter().any(|c| {
        let request = Connection::request(person, machine, None, c, from, Facts::default());
        !matches!(
            rules.policy.decide(&request).outcome,
            Outcome::Refused(Refusal::UnknownMachine | Refusal::UnknownPerson | Refusal::NoRule)
        )
    })
}

impl Handler for Visitor {
    type Error = russh::Error;

    async fn authentication_banner(&mut self) -> Result<Option<String>, Self::Error> {
        let settings = self.app.settings();
        let text = settings.text(Setting::Banner);
        Ok((!text.is_empty() && self.inside.is_none()).then(|| text.replace('\n', "\r\n") + "\r\n"))
    }

    async fn auth_publickey_offered(&mut self, user: &str, offer: PublicKeyOffer<'_>) -> Result<Auth, Self::Error> {
        // A certificate is offered by its key, which nobody has registered: what counts is looked at when it signs.
        let known = self.knows(user, offer.public_key).is_some() || (self.same_user(user) && self.takes_certificates());
        Ok(if known { Auth::Accept } else { reject() })
    }

    async fn auth_publickey(&mut self, user: &str, key: VerifiedPublicKey<'_>) -> Result<Auth, Self::Error> {
        let Some(print) = self.knows(user, key.public_key) else { return Ok(reject()) };
        let Some(factors) = self.proved_by(key.sk_flags) else { return Ok(reject()) };
        if let Err(e) = self.app.store.use_key(&print, Timestamp::now(), &self.from.to_string()).await {
            tracing::warn!(error = %e, "the use of a key could not be noted");
        }
        Ok(self.key_proved(print, factors).await)
    }

    async fn auth_openssh_certificate(&mut self, user: &str, certificate: &Certificate) -> Result<Auth, Self::Error> {
        let Some(print) = self.accepts(user, certificate) else { return Ok(reject()) };
        self.by_certificate = true;
        Ok(self.key_proved(print, Factors::of([Factor::Key])).await)
    }

    async fn auth_keyboard_interactive<'a>(&'a mut self, user: &str, _: &str, response: Option<Response<'a>>) -> Result<Auth, Self::Error> {
        if !self.same_user(user) || !self.sign_in.factors().contains(Factor::Key) {
            return Ok(only(MethodKind::PublicKey, false));
        }
        let Some(mut answers) = response else { return Ok(self.ask("").await) };
        let given = answers.next().and_then(|a| String::from_utf8(a.to_vec()).ok()).unwrap_or_default();
        match self.wanted().await {
            Some(wanted) => Ok(self.check(wanted, &given).await),
            None => Ok(reject()),
        }
    }

    async fn channel_open_session(
        &mut self,
        channel: Channel<Msg>,
        reply: ChannelOpenHandle,
        session: &mut Session,
    ) -> Result<(), Self::Error> {
        let Some(connection) = self.connection.clone() else { return Ok(()) };
        connection.set_handle(session.handle());
        let Some(place) = connection.channels.session() else {
            reply.reject(ChannelOpenFailure::ResourceShortage).await;
            return Ok(());
        };
        tokio::spawn(async move {
            reply.accept().await;
            channel::serve(connection, channel).await;
            drop(place);
        });
        Ok(())
    }

    async fn channel_open_direct_tcpip(
        &mut self,
        channel: Channel<Msg>,
        host: &str,
        port: u32,
        origin: &str,
        origin_port: u32,
        reply: ChannelOpenHandle,
        session: &mut Session,
    ) -> Result<(), Self::Error> {
        let Some(connection) = self.connection.clone() else { return Ok(()) };
        let Some(place) = connection.channels.forward() else {
            reply.reject(ChannelOpenFailure::ResourceShortage).await;
            return Ok(());
        };
        if self.login.as_ref().is_some_and(|l| l.machine.is_none()) {
            self.jump(channel, host, reply, place);
            return Ok(());
        }
        connection.set_handle(session.handle());
        let (to, origin) = ((host.to_string(), port), (origin.to_string(), origin_port));
        tokio::spawn(channel::forward(connection, channel, to, origin, reply, place));
        Ok(())
    }

    // Answers come at once, since a client waits for them; what was asked is read by the channel's own task.

    async fn pty_request(
        &mut self,
        id: ChannelId,
        _: &str,
        _: u32,
        _: u32,
        _: u32,
        _: u32,
        _: &[(Pty, u32)],
        session: &mut Session,
    ) -> Result<(), Self::Error> {
        session.channel_success(id)
    }

    async fn env_request(&mut self, id: ChannelId, _: &str, _: &str, session: &mut Session) -> Result<(), Self::Error> {
        session.channel_success(id)
    }

    async fn shell_request(&mut self, id: ChannelId, session: &mut Session) -> Result<(), Self::Error> {
        session.channel_success(id)
    }

    async fn exec_request(&mut self, id: ChannelId, _: &[u8], session: &mut Session) -> Result<(), Self::Error> {
        session.channel_success(id)
    }

    async fn subsystem_request(&mut self, id: ChannelId, _: &str, session: &mut Session) -> Result<(), Self::Error> {
        session.channel_success(id)
    }

    async fn window_change_request(&mut self, _: ChannelId, _: u32, _: u32, _: u32, _: u32, _: &mut Session) -> Result<(), Self::Error> {
        Ok(())
    }

    async fn signal(&mut self, _: ChannelId, _: Sig, _: &mut Session) -> Result<(), Self::Error> {
        Ok(())
    }

    /// `ssh -R`: said at the next channel, since the answer to this request has no place for a reason.
    async fn tcpip_forward(&mut self, _: &str, _: &mut u32, _: &mut Session) -> Result<bool, Self::Error> {
        if let Some(connection) = &self.connection {
            connection.refuses_remote.store(true, Ordering::Relaxed);
        }
        Ok(false)
    }

    async fn x11_request(&mut self, id: ChannelId, _: bool, _: &str, _: &str, _: u32, session: &mut Session) -> Result<(), Self::Error> {
        session.channel_failure(id)
    }
}
