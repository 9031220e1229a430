//! What the rules ask of a person, asked in the terminal one after the other.

use super::connection::Connection;
use super::visitor::{Visitor, only, reject};
use crate::identity::{Checked, Confirmed};
use crate::known::Known;
use crate::sessions::Own;
use aerie_core::diagnostic::printable;
use aerie_core::policy::{Capability, Factor, Factors, Facts, Missing, Outcome};
use jiff::Timestamp;
use russh::MethodKind;
use russh::server::Auth;
use std::borrow::Cow;
use std::time::Duration;

/// Codes and passwords that may be wrong in one connection.
const MOST_TRIES: u32 = 3;
/// How long a wrong code or password waits for its answer.
const PENALTY: Duration = Duration::from_secs(1);
/// Longest ticket or reason that is kept.
const LONGEST_STATEMENT: usize = 300;
/// While the browser is awaited the terminal hears something so often: a client that counts missed signs of life hangs up else.
const SIGN_OF_LIFE: Duration = Duration::from_secs(4);

/// Something that the rules ask of the person, and that this dialogue can take.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub(super) enum Wanted {
    Code,
    Password,
    /// A passkey, or a security key that is touched, in the browser.
    Browser(bool),
    Pin,
    Ticket,
    Reason,
}

impl Visitor {
    /// What the rules demand here and is not there yet, over every capability that could be granted and used by SSH.
    fn missing(&self) -> Vec<Missing> {
        let Some((login, machine)) = self.login.as_ref().and_then(|l| Some((l, l.machine.as_deref()?))) else { return vec![] };
        let rules = self.app.rules.now();
        let known = Known::of(&self.app, &login.person);
        let stated = self.stated.facts(self.sign_in.proofs(), self.app.live.beside(&login.person, Own::None));
        let facts = known.facts(Facts { emergency: login.emergency, ..stated });
        let outcomes = Capability::ALL.into_iter().filter(|c| c.is_over_ssh()).map(|capability| {
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
    pub(super) async fn wanted(&self) -> Option<Wanted> {
        let missing = self.missing();
        let login = self.login.as_ref()?;
        let rules = self.app.rules.now();
        let enrolled = rules.policy.directory().person(&login.person).map(|p| p.enrolled.clone()).unwrap_or_default();
        let has = |f: Factor| enrolled.contains(&f);
        let lacks = |f: Factor| missing.iter().any(|m| m.factors.contains(f) || m.stale.contains(f));
        let level = |f: Factor| {
            let with = self.sign_in.factors().union(Factors::of([f])).assurance();
            missing.iter().any(|m| m.assurance.is_some_and(|level| with >= level))
        };
        let browser = self.app.passkeys_work();
        if lacks(Factor::Code) && has(Factor::Code) {
            return Some(Wanted::Code);
        }
        if lacks(Factor::Passkey) && has(Factor::Passkey) && browser {
            return Some(Wanted::Browser(true));
        }
        if lacks(Factor::SecurityKey) && has(Factor::SecurityKey) && browser {
            // One that cannot leave its device and verifies its user does as well.
            return Some(Wanted::Browser(has(Factor::Passkey) && !self.has_plain_security_key().await));
        }
        // A password, or a passkey, is asked for where it is demanded, and where it makes up the assurance level.
        if lacks(Factor::Password) || (level(Factor::Password) && has(Factor::Password)) {
            return Some(Wanted::Password);
        }
        if level(Factor::Passkey) && has(Factor::Passkey) && browser {
            return Some(Wanted::Browser(true));
        }
        if lacks(Factor::Pin) && self.machine_has_pin().await {
            return Some(Wanted::Pin);
        }
        if missing.iter().any(|m| !m.tickets.is_empty()) && self.stated.ticket.is_none() {
            return Some(Wanted::Ticket);
        }
        // Those who approve want to know why.
        let waits = !missing.is_empty() && missing.iter().all(|m| !m.approvals.is_empty()) && self.stated.reason.is_none();
        (waits || missing.iter().any(|m| m.reason)).then_some(Wanted::Reason)
    }

    async fn has_plain_security_key(&self) -> bool {
        let Some(login) = &self.login else { return false };
        self.app.store.passkeys(&login.person).await.is_ok_and(|all| all.iter().any(|k| !k.verifies))
    }

    async fn machine_has_pin(&self) -> bool {
        let Some(machine) = self.login.as_ref().and_then(|l| l.machine.as_deref()) else { return false };
        self.app.store.standing_pin(machine).await.is_ok_and(|p| p.is_some())
    }

    /// What comes after something was given: the next question, or the end of the dialogue. What cannot be asked for here is
    /// told when a channel asks.
    pub(super) async fn next_step(&mut self, asked_now: bool) -> Auth {
        match self.wanted().await {
            None => self.accept().await,
            Some(_) if asked_now => self.ask("").await,
            Some(_) => only(MethodKind::KeyboardInteractive, true),
        }
    }

    /// Asks for the next thing.
    pub(super) async fn ask(&mut self, remark: &str) -> Auth {
        let machine = self.login.as_ref().and_then(|l| l.machine.clone()).unwrap_or_default();
        let (text, shown): (Cow<'static, str>, bool) = match self.wanted().await {
            None => return reject(),
            Some(Wanted::Browser(passkey)) => return self.ask_browser(passkey),
            Some(Wanted::Code) => ("Code: ".into(), false),
            Some(Wanted::Password) => ("Password at Aerie: ".into(), false),
            Some(Wanted::Pin) => (format!("PIN of {machine}: ").into(), false),
            Some(Wanted::Ticket) => ("Ticket: ".into(), true),
            Some(Wanted::Reason) => ("Reason: ".into(), true),
        };
        Auth::Partial { name: "Aerie".into(), instructions: remark.to_string().into(), prompts: vec![(text, shown)].into() }
    }

    /// Shows a link and a number, and waits for the browser.
    fn ask_browser(&mut self, passkey: bool) -> Auth {
        let Some(login) = self.login.clone() else { return reject() };
        let machine = login.machine.as_deref().unwrap_or_default();
        let begun = self.app.identity.confirmations.begin(&login.person, machine, self.from, passkey, Timestamp::now());
        let Some(pending) = begun else {
            self.fail("too many sign-ins wait for a passkey");
            return reject();
        };
        let what = if passkey { "passkey" } else { "security key" };
        let text = format!(
            "{machine} needs your {what}. Open {}/confirm/{} in a browser\r\nand confirm the number {}. This waits two minutes.\r\n",
            self.app.address(),
            pending.code,
            pending.number
        );
        self.pending = Some(pending);
        Auth::Partial { name: "".into(), instructions: text.into(), prompts: vec![].into() }
    }

    /// Looks what became of it in the browser.
    async fn check_browser(&mut self) -> Auth {
        let Some(pending) = self.pending.clone() else { return self.ask("").await };
        match pending.wait(SIGN_OF_LIFE).await {
            Confirmed::Waiting if !pending.is_over(Timestamp::now()) => {
                Auth::Partial { name: "".into(), instructions: "".into(), prompts: vec![].into() }
            }
            Confirmed::Waiting => {
                self.fail("nobody confirmed in the browser within two minutes");
                reject()
            }
            Confirmed::Refused => {
                self.fail("it was refused in the browser");
                reject()
            }
            Confirmed::Proved(factors) => {
                self.pending = None;
                let now = Timestamp::now();
                if factors.iter().all(|f| self.sign_in.handle_factor(&pending.person, f, now)) {
                    self.next_step(true).await
                } else {
                    reject()
                }
            }
        }
    }

    /// Takes an answer.
    pub(super) async fn check(&mut self, wanted: Wanted, given: &str) -> Auth {
        match wanted {
            Wanted::Code => self.check_secret(Factor::Code, given).await,
            Wanted::Password => self.check_secret(Factor::Password, given).await,
            Wanted::Pin => self.check_secret(Factor::Pin, given).await,
            Wanted::Browser(_) => self.check_browser().await,
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

    async fn secret(&self, factor: Factor, given: &str, now: Timestamp) -> Result<Checked, aerie_store::StoreError> {
        let Some(login) = &self.login else { return Ok(Checked::Wrong) };
        let identity = &self.app.identity;
        let tryer = identity.tryer(&login.person, self.from, None, now).await?;
        match factor {
            Factor::Code => identity.code(&login.person, given, &tryer, now).await,
            Factor::Password => identity.password(&login.person, given, &tryer, now).await,
            Factor::Pin => identity.standing_pin(login.machine.as_deref().unwrap_or_default(), given, &tryer, now).await,
            Factor::Key | Factor::Passkey | Factor::SecurityKey => Ok(Checked::Wrong),
        }
    }

    async fn check_secret(&mut self, factor: Factor, given: &str) -> Auth {
        let person = self.login.as_ref().map(|l| l.person.clone()).unwrap_or_default();
        let now = Timestamp::now();
        let remark = match self.secret(factor, given, now).await {
            Ok(Checked::Right) if self.sign_in.handle_factor(&person, factor, now) => return self.next_step(true).await,
            Ok(Checked::Right) => return reject(),
            Ok(Checked::Used) => "This code was used already; wait for the next one.".to_string(),
            Ok(Checked::Drifted(_)) => "This code is of another time; set the clock of your phone.".to_string(),
            Ok(Checked::Wait(seconds)) => format!("Too many tries; wait {seconds} s."),
            Ok(Checked::Busy) => "Too many sign in at this moment; try again.".to_string(),
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
}
