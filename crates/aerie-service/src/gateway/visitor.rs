//! One connection to the gateway: proves who is there, and hands channels on.

use super::channel;
use super::connection::{Connection, Stated};
use super::server_config;
use crate::identity::Checked;
use crate::keys::fingerprint;
use crate::service::App;
use aerie_core::diagnostic::printable;
use aerie_core::directory::Standing;
use aerie_core::evidence::{EventKind, NewEvent};
use aerie_core::policy::{Capability, Factor, Factors, Facts, Missing, Outcome, Refusal};
use aerie_core::session::{LoginName, PersonProved, SignIn};
use jiff::Timestamp;
use russh::server::{Auth, ChannelOpenHandle, Handler, Msg, PublicKeyOffer, Response, Session, VerifiedPublicKey};
use russh::{Channel, ChannelId, ChannelOpenFailure, MethodKind, MethodSet, Pty, Sig};
use std::borrow::Cow;
use std::net::IpAddr;
use std::sync::Arc;
use std::time::Duration;
use tokio_util::sync::CancellationToken;

/// Codes and passwords that may be wrong in one connection.
const MOST_TRIES: u32 = 3;
/// How long a wrong code or password waits for its answer.
const PENALTY: Duration = Duration::from_secs(1);

/// Longest ticket or reason that is kept.
const LONGEST_STATEMENT: usize = 300;

/// The handler of one connection.
pub(super) struct Visitor {
    app: Arc<App>,
    from: IpAddr,
    /// Within `ssh -J`: who was proved outside, and the machine that was named.
    inside: Option<(PersonProved, String)>,
    user: Option<String>,
    login: Option<LoginName>,
    sign_in: SignIn,
    tries: u32,
    failures: Vec<String>,
    key: Option<String>,
    stated: Stated,
    connection: Option<Arc<Connection>>,
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

fn reject() -> Auth {
    Auth::reject()
}

fn only(method: MethodKind, partial_success: bool) -> Auth {
    Auth::Reject { proceed_with_methods: Some(MethodSet::from(&[method][..])), partial_success }
}

/// Something that the rules ask of the person, and that this dialogue can take.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
enum Wanted {
    Code,
    Password,
    Ticket,
    Reason,
}

impl Wanted {
    /// What is shown, and whether what is typed is.
    fn prompt(self) -> (&'static str, bool) {
        match self {
            Self::Code => ("Code: ", false),
            Self::Password => ("Password at Aerie: ", false),
            Self::Ticket => ("Ticket: ", true),
            Self::Reason => ("Reason: ", true),
        }
    }
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
            stated: Stated::default(),
            connection: None,
            signed_in: CancellationToken::new(),
            closed: CancellationToken::new(),
        }
    }

    /// Cancelled when somebody signed in.
    pub(super) fn signed_in(&self) -> CancellationToken {
        self.signed_in.clone()
    }

    fn fail(&mut self, why: impl Into<String>) {
        let why = why.into();
        if self.failures.len() < 20 && self.failures.last() != Some(&why) {
            self.failures.push(why);
        }
    }

    /// One user name for the whole dialogue: the first.
    fn same_user(&mut self, user: &str) -> bool {
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

    /// Whether the key belongs to the person named, and their account is good.
    fn knows(&mut self, user: &str, key: &russh::keys::PublicKey) -> Option<String> {
        if !self.same_user(user) {
            self.fail("the login name was changed");
            return None;
        }
        let login = self.login.as_ref()?;
        let rules = self.app.rules.now();
        let print = fingerprint(key);
        let owner = rules.policy.directory().owner_of_key(&print).filter(|p| p.name == login.person);
        let day = Timestamp::now().to_zoned(rules.policy.zone().clone()).date();
        match owner.map(|p| p.standing(day)) {
            Some(Standing::Good) => Some(print),
            Some(standing) => {
                self.fail(format!("the account is not good ({standing:?})"));
                None
            }
            None => {
                self.fail(format!("the key {print} is not registered for that person"));
                None
            }
        }
    }

    /// What the rules demand here and is not there yet, over every capability that could be granted.
    fn missing(&self) -> Vec<Missing> {
        let Some((login, machine)) = self.login.as_ref().and_then(|l| Some((l, l.machine.as_deref()?))) else { return vec![] };
        let rules = self.app.rules.now();
        let facts = self.stated.facts(self.sign_in.proofs(), self.app.live.beside(&login.person, None));
        let outcomes = Capability::ALL.into_iter().map(|capability| {
            let request = Connection::request(&login.person, machine, login.account.as_deref(), capability, self.from, facts);
            rules.policy.decide(&request).outcome
        });
        outcomes
            .filter_map(|o| match o {
                Outcome::Unmet { missing, .. } => Some(missing),
                Outcome::Granted(_) | Outcome::Refused(_) => None,
            })
            .collect()
    }

    /// The next thing to ask for; none where nothing is missing that could be asked for.
    async fn wanted(&self) -> Option<Wanted> {
        let missing = self.missing();
        let person = self.login.as_ref().map(|l| l.person.clone()).unwrap_or_default();
        let lacks = |f: Factor| missing.iter().any(|m| m.factors.contains(f) || m.stale.contains(f));
        if lacks(Factor::Code) && self.app.identity.has_code(&person).await.unwrap_or(false) {
            return Some(Wanted::Code);
        }
        // A password is asked for where it is demanded, and where it makes up the assurance level.
        let with_password = self.sign_in.factors().union(Factors::of([Factor::Password])).assurance();
        let level = |m: &Missing| m.assurance.is_some_and(|level| with_password >= level);
        if lacks(Factor::Password) || missing.iter().any(level) {
            return Some(Wanted::Password);
        }
        if missing.iter().any(|m| !m.tickets.is_empty()) && self.stated.ticket.is_none() {
            return Some(Wanted::Ticket);
        }
        missing.iter().any(|m| m.reason).then_some(Wanted::Reason)
    }

    /// What comes after something was given: the next question, or the end of the dialogue. What cannot be asked for here is
    /// told when a channel asks.
    async fn next_step(&mut self, asked_now: bool) -> Auth {
        match self.wanted().await {
            None => self.accept().await,
            Some(_) if asked_now => self.ask("").await,
            Some(_) => only(MethodKind::KeyboardInteractive, true),
        }
    }

    async fn ask(&self, remark: &str) -> Auth {
        match self.wanted().await {
            None => reject(),
            Some(wanted) => {
                let (text, shown) = wanted.prompt();
                let prompts = vec![(Cow::Borrowed(text), shown)];
                Auth::Partial { name: "Aerie".into(), instructions: remark.to_string().into(), prompts: prompts.into() }
            }
        }
    }

    async fn accept(&mut self) -> Auth {
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
        self.connection = Some(Connection::new(self.app.clone(), proved, login, self.from, self.stated.clone(), self.closed.clone()));
        self.signed_in.cancel();
        Auth::Accept
    }

    async fn check(&mut self, wanted: Wanted, given: &str) -> Auth {
        match wanted {
            Wanted::Code => self.check_factor(Factor::Code, given).await,
            Wanted::Password => self.check_factor(Factor::Password, given).await,
            Wanted::Ticket | Wanted::Reason => self.take_statement(wanted, given).await,
        }
    }

    async fn take_statement(&mut self, wanted: Wanted, given: &str) -> Auth {
        let text: String = printable(given.trim()).chars().take(LONGEST_STATEMENT).collect();
        if text.is_empty() {
            self.tries += 1;
            return if self.tries >= MOST_TRIES { reject() } else { self.ask("The rules ask for it.").await };
        }
        if wanted == Wanted::Ticket {
            self.stated.ticket = Some(text);
            if self.missing().iter().any(|m| !m.tickets.is_empty()) {
                self.stated.ticket = None;
                self.tries += 1;
                self.fail("the ticket has not the form that the rules ask for");
                return if self.tries >= MOST_TRIES { reject() } else { self.ask("This has not the form of a ticket here.").await };
            }
        } else {
            self.stated.reason = Some(text);
        }
        self.next_step(true).await
    }

    async fn check_factor(&mut self, factor: Factor, given: &str) -> Auth {
        let person = self.login.as_ref().map(|l| l.person.clone()).unwrap_or_default();
        let now = Timestamp::now();
        let checked = match factor {
            Factor::Code => self.app.identity.code(&person, given, now).await,
            Factor::Password => self.app.identity.password(&person, given, now).await,
            Factor::Key | Factor::Passkey | Factor::SecurityKey => return reject(),
        };
        let remark = match checked {
            Ok(Checked::Right) if self.sign_in.handle_factor(&person, factor, now) => return self.next_step(true).await,
            Ok(Checked::Right) => return reject(),
            Ok(Checked::Used) => "This code was used already; wait for the next one.".to_string(),
            Ok(Checked::Wait(seconds)) => format!("Too many tries; wait {seconds} s."),
            Ok(Checked::Wrong) => "That is not right.".into(),
            Err(e) => {
                tracing::error!(error = %e, "a proof could not be checked");
                "The service cannot check it now.".into()
            }
        };
        self.fail(format!("the {} was refused ({})", factor.word(), remark.trim_end_matches('.')));
        self.tries += 1;
        tokio::time::sleep(PENALTY).await;
        if self.tries >= MOST_TRIES { reject() } else { self.ask(&remark).await }
    }

    /// The inner connection of `ssh -J`: another sign-in, at the machine that was named.
    fn jump(&self, channel: Channel<Msg>, machine: &str, reply: ChannelOpenHandle) {
        let (app, from) = (self.app.clone(), self.from);
        let proved = self.sign_in.proved().filter(|_| self.login.as_ref().is_some_and(|l| l.machine.is_none()));
        let Some(proved) = proved.filter(|p| may_ever_reach(&app, p.person(), machine, from)) else {
            tokio::spawn(reply.reject(ChannelOpenFailure::AdministrativelyProhibited));
            return;
        };
        let machine = machine.to_string();
        tokio::spawn(async move {
            let Ok(certificate) = app.keys.certify_host(&machine, Timestamp::now()) else { return };
            let config = server_config(&app, vec![certificate]);
            reply.accept().await;
            let mut visitor = Visitor::new(app, from);
            visitor.inside = Some((proved, machine));
            if let Ok(running) = russh::server::run_stream(config, channel.into_stream(), visitor).await {
                let _ = running.await;
            }
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

    async fn auth_publickey_offered(&mut self, user: &str, offer: PublicKeyOffer<'_>) -> Result<Auth, Self::Error> {
        Ok(if self.knows(user, offer.public_key).is_some() { Auth::Accept } else { reject() })
    }

    async fn auth_publickey(&mut self, user: &str, key: VerifiedPublicKey<'_>) -> Result<Auth, Self::Error> {
        let Some(print) = self.knows(user, key.public_key) else { return Ok(reject()) };
        let person = self.login.as_ref().map(|l| l.person.clone()).unwrap_or_default();
        if !self.sign_in.handle_factor(&person, Factor::Key, Timestamp::now()) {
            return Ok(reject());
        }
        self.key = Some(print);
        // What was proved outside counts inside, for the same person.
        if let Some((outer, _)) = &self.inside {
            for factor in outer.factors().iter() {
                let at = outer.proofs().when(factor).unwrap_or_else(Timestamp::now);
                if !self.sign_in.handle_factor(outer.person(), factor, at) {
                    return Ok(reject());
                }
            }
        }
        Ok(self.next_step(false).await)
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
        tokio::spawn(async move {
            reply.accept().await;
            channel::serve(connection, channel).await;
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
        if self.login.as_ref().is_some_and(|l| l.machine.is_none()) {
            self.jump(channel, host, reply);
            return Ok(());
        }
        connection.set_handle(session.handle());
        let (to, origin) = ((host.to_string(), port), (origin.to_string(), origin_port));
        tokio::spawn(channel::forward(connection, channel, to, origin, reply));
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

    async fn x11_request(&mut self, id: ChannelId, _: bool, _: &str, _: &str, _: u32, session: &mut Session) -> Result<(), Self::Error> {
        session.channel_failure(id)
    }
}
