use super::problem::Problem;
use crate::gateway::SignedInBy;
use crate::identity::Entry;
use crate::known::Asker;
use crate::service::App;
use aerie_core::directory::selector::{Selector, Subject};
use aerie_core::directory::{Act, Authority, Bits, Directory, Person, Scope, Standing};
use aerie_core::evidence::{EventKind, NewEvent};
use aerie_core::factor::message::{Message, MessageFault};
use aerie_core::policy::Factor;
use aerie_core::session::{PersonProved, SignIn, SignedInLimits, Stage};
use aerie_core::settings::Setting;
use aerie_store::TokenKind;
use axum::extract::{ConnectInfo, FromRequestParts};
use axum::http::request::Parts;
use axum::http::{HeaderMap, Method, header};
use jiff::Timestamp;
use std::net::{IpAddr, SocketAddr};
use std::sync::Arc;

/// Name of the cookie. The prefix binds it to this host, encrypted or loopback (RFC 6265bis section 4.1.3.2).
pub(super) const COOKIE: &str = "__Host-aerie";

/// Whoever makes a call, signed in.
pub(crate) struct Caller {
    pub(crate) person: Person,
    pub(super) entry: Arc<Entry>,
    pub(super) limits: SignedInLimits,
    /// Whether API tokens that are bound to a key may change what people may do.
    key_bound_programs: bool,
    pub(super) now: Timestamp,
    pub(super) from: IpAddr,
}

/// Whoever makes a call, however far signing in came.
pub(crate) struct Proving(pub(crate) Caller);

/// Whoever makes a call, for their own account: also while they must enrol a second factor, and never with an API token.
pub(crate) struct Own(pub(crate) Caller);

/// Whoever makes a call, and may read everything within their scope.
pub(crate) struct Reader(pub(crate) Seen);

/// Whoever makes a call, and may read people, machines and who reaches what within their scope.
pub(crate) struct DirectoryReader(pub(crate) Seen);

/// Whoever makes a call, and may read everything everywhere.
pub(crate) struct EverythingReader;

/// Whoever makes a call, and may read rules.
pub(crate) struct RuleReader;

/// Whoever makes a call, and may write drafts.
pub(crate) struct RuleWriter(pub(crate) Caller);

/// Whoever makes a call, and may change things everywhere.
pub(crate) struct Administrator(pub(crate) Caller);

/// The same, who proved a factor lately: for what changes what people may do, and how the service is protected.
pub(crate) struct FreshAdministrator(pub(crate) Caller);

/// For whom and what somebody's roles count.
#[derive(Debug, Clone, Default)]
pub(crate) struct Seen(Option<(Selector, Selector)>);

/// A selector that selects nothing.
fn no_one() -> Selector {
    Selector::Not(Box::new(Selector::All))
}

impl Seen {
    /// Whether everything is.
    pub(crate) fn is_everything(&self) -> bool {
        self.0.is_none()
    }

    /// Nobody and nothing.
    fn nothing() -> Self {
        Self(Some((no_one(), no_one())))
    }

    /// What a scope selects. One that cannot be read shows nothing.
    fn of(scope: &Scope) -> Self {
        let read = |text: &str, subject| Selector::parse(text, subject).unwrap_or_else(|_| no_one());
        Self(Some((read(&scope.people, Subject::People), read(&scope.machines, Subject::Machines))))
    }

    /// People.
    pub(crate) fn people(&self, d: &Directory) -> Bits {
        d.select_people(self.0.as_ref().map_or(&Selector::All, |s| &s.0))
    }

    /// Machines.
    pub(crate) fn machines(&self, d: &Directory) -> Bits {
        d.select_machines(self.0.as_ref().map_or(&Selector::All, |s| &s.1))
    }

    pub(crate) fn person(&self, d: &Directory, name: &str) -> bool {
        self.is_everything() || d.person_index(name).is_some_and(|i| self.people(d).contains(i))
    }

    pub(crate) fn machine(&self, d: &Directory, name: &str) -> bool {
        self.is_everything() || d.machine_index(name).is_some_and(|i| self.machines(d).contains(i))
    }
}

impl Caller {
    /// Whether they read sessions, recordings and findings of others; others read what concerns themselves.
    pub(super) fn reads_all(&self) -> bool {
        self.person.authority(Act::ReadEverything) != Authority::None
    }

    /// Whether they may change things everywhere.
    pub(super) fn administers(&self) -> bool {
        self.person.may_everywhere(Act::ManageService)
    }

    /// For whom and what something that they may do counts; none where they may not.
    pub(super) fn within(&self, act: Act) -> Option<Seen> {
        match self.person.authority(act) {
            Authority::None => None,
            Authority::Everywhere => Some(Seen::default()),
            Authority::Within(scope) => Some(Seen::of(scope)),
        }
    }

    /// For whom and what their reading counts.
    pub(super) fn seen(&self) -> Seen {
        self.within(Act::ReadEverything).unwrap_or_else(Seen::nothing)
    }

    pub(super) fn sees_person(&self, app: &App, name: &str) -> bool {
        name == self.person.name || (self.reads_all() && self.seen().person(app.rules.now().policy.directory(), name))
    }

    pub(super) fn sees_machine(&self, app: &App, name: &str) -> bool {
        self.reads_all() && self.seen().machine(app.rules.now().policy.directory(), name)
    }

    /// Whether they may read what this person did on this machine.
    pub(super) fn sees(&self, app: &App, person: &str, machine: &str) -> bool {
        person == self.person.name || (self.sees_person(app, person) && self.sees_machine(app, machine))
    }

    /// Words of the second factors that they have.
    pub(super) fn second_factors(&self) -> Vec<String> {
        let second = [Factor::Passkey, Factor::SecurityKey, Factor::Code];
        let has = self.person.enrolled.iter().copied().collect::<Vec<_>>();
        second.into_iter().filter(|f| has.contains(f)).map(|f| f.word().into()).collect()
    }

    /// Whether a factor that cannot be guessed was proved lately; for somebody who has none, whether they signed in lately.
    pub(super) fn is_fresh(&self) -> bool {
        let signed_in = self.entry.signed_in();
        let lately = self.now.duration_since(signed_in.began) < self.limits.fresh;
        match self.entry.token.kind {
            // A program proves nothing: what needs a recent proof, it does not do.
            TokenKind::Api => self.is_trusted_program(),
            TokenKind::Console | TokenKind::Client => {
                signed_in.is_fresh(&self.limits, self.now) || (self.second_factors().is_empty() && lately)
            }
        }
    }

    /// Whether it is a program that proves by a key that it is the one to which the token was given, and programs may do such things here.
    pub(super) fn is_trusted_program(&self) -> bool {
        self.entry.token.kind == TokenKind::Api && self.entry.token.key.is_some() && self.key_bound_programs
    }

    /// The caller as the rules are asked about them.
    pub(super) fn asker(&self) -> Asker {
        Asker { person: self.person.name.clone(), proofs: self.entry.signed_in().proofs, from: self.from }
    }

    /// Refuses whoever must first enrol or change something: what they had so far may be in other hands.
    pub(super) fn must_be_full(&self) -> Result<(), Problem> {
        if self.entry.token.stage == Stage::Full { Ok(()) } else { Err(Problem::enrol_first()) }
    }

    /// Asks for a recent proof.
    pub(super) fn must_be_fresh(&self) -> Result<(), Problem> {
        match self.entry.token.kind {
            _ if self.is_fresh() => Ok(()),
            TokenKind::Api => Err(Problem::not_allowed(NO_PROGRAM)),
            TokenKind::Console | TokenKind::Client => Err(Problem::prove_again(&self.second_factors())),
        }
    }

    /// Whoever calls, as the gateway proves people: what was proved when they signed in counts from then on.
    pub(super) fn proved(&self) -> Option<PersonProved> {
        let (mut dialogue, proofs) = (SignIn::default(), self.entry.signed_in().proofs);
        for factor in Factor::ALL {
            if let Some(at) = proofs.when(factor) {
                let _ = dialogue.handle_factor(&self.person.name, factor, at);
            }
        }
        dialogue.proved()
    }

    /// The sign-in as a session at a machine rests on it.
    pub(super) fn signed_in_by(&self) -> Option<SignedInBy> {
        Some(SignedInBy {
            person: self.proved()?,
            from: self.from,
            ended: self.entry.ended.clone(),
            session: Arc::default(),
            over_https: true,
        })
    }

    /// An event of theirs.
    pub(super) fn event(&self, kind: EventKind) -> NewEvent {
        NewEvent::new(self.now, kind, &self.person.name).from(self.from)
    }
}

/// The value of a cookie.
pub(super) fn cookie<'a>(headers: &'a HeaderMap, name: &str) -> Option<&'a str> {
    let all = headers.get_all(header::COOKIE).iter().filter_map(|h| h.to_str().ok());
    all.flat_map(|h| h.split(';')).find_map(|c| c.trim().strip_prefix(name)?.strip_prefix('='))
}

fn bearer(headers: &HeaderMap) -> Option<&str> {
    headers.get(header::AUTHORIZATION)?.to_str().ok()?.strip_prefix("Bearer ")
}

/// A browser says where a request comes from; another site's may not change anything.
fn same_origin(parts: &Parts) -> bool {
    let reading = matches!(parts.method, Method::GET | Method::HEAD);
    reading || parts.headers.get("sec-fetch-site").and_then(|h| h.to_str().ok()) == Some("same-origin")
}

/// Where a request comes from.
pub(super) fn address(extensions: &axum::http::Extensions) -> IpAddr {
    let known = extensions.get::<ConnectInfo<SocketAddr>>();
    known.map_or(IpAddr::V4(std::net::Ipv4Addr::UNSPECIFIED), |c| c.0.ip().to_canonical())
}

/// The scope that an API token needs for a call; none where no API token may make it.
pub(crate) fn scope_of(method: &Method, path: &str) -> Option<&'static str> {
    let path = path.strip_prefix("/api/v1/").unwrap_or(path);
    let first = path.split('/').next().unwrap_or_default();
    let reading = matches!(*method, Method::GET | Method::HEAD);
    match first {
        "me" => (path == "me" && reading).then_some("read"),
        "sign-in" | "sign-out" | "step-up" | "invitations" | "confirmations" | "welcome" => None,
        // What seems to read and does more.
        "machines" if path.ends_with("/forward") || path.ends_with("/desktop") => None,
        "sessions" if path.ends_with("/desktop") => None,
        "visits" if path.ends_with("/screen") || path.ends_with("/page") => None,
        "agents" => None,
        // Programs approve nothing, and take part in nothing.
        "requests" if path.ends_with("/answer") => None,
        "drafts" if path.ends_with("/agree") => None,
        "reviews" if path.contains("/entries/") && !reading => None,
        "proposals" if !reading => None,
        "lockdown" if path.ends_with("/lift") => None,
        "sessions" if path.ends_with("/keyboard") || path.ends_with("/typed") => None,
        "findings" if path.ends_with("/review") => None,
        "deputies" if !reading => None,
        // To watch is more than to read what is over.
        "live" => Some("sessions"),
        _ if reading => Some("read"),
        "policy" | "drafts" | "reviews" => Some("rules"),
        "people" | "directory" => Some("people"),
        "sessions" | "recordings" | "requests" | "passes" | "stop" | "lockdown" => Some("sessions"),
        "audit" | "log" | "findings" | "suppressions" | "detections" | "evidence" | "reports" => Some("audit"),
        "pins" => Some("pins"),
        // Whoever is helped proves it by the token of the visit.
        "help" => None,
        "visits" => Some("visits"),
        "machines" if path.ends_with("/pin") => Some("pins"),
        "machines" | "machine-checks" | "retired-machines" | "enrolment-codes" => Some("machines"),
        // Programs see no credential.
        "vault" => (!path.ends_with("/check-out")).then_some("machines"),
        "settings" | "keys" => Some("service"),
        _ => None,
    }
}

/// Why a program may not do something.
const NO_PROGRAM: &str = "Programs change no rules, people, settings or keys. Sign in yourself, with `aerie sign-in`; or bind the token to a key and let such programs do it (setting `key-bound-programs`).";

/// Whether a call of this scope changes what people may do, who they are, or how the service is protected.
pub(crate) fn is_powerful(method: &Method, scope: &str) -> bool {
    !matches!(*method, Method::GET | Method::HEAD) && matches!(scope, "rules" | "people" | "service")
}

/// The words of the scopes.
pub(super) const SCOPES: [&str; 9] = ["read", "rules", "people", "sessions", "audit", "pins", "visits", "machines", "service"];

/// Holds a signed request against the key of its token (RFC 9421).
fn check_signature(app: &App, parts: &Parts, entry: &Entry, key: &[u8; 32], now: Timestamp) -> Result<(), MessageFault> {
    let text = |name: &str| parts.headers.get(name).and_then(|h| h.to_str().ok());
    let (input, signature) = text("signature-input").zip(text("signature")).ok_or(MessageFault::Form)?;
    // What the body really was, as the middleware read it.
    let digest = parts.extensions.get::<super::BodyDigest>().map(|d| d.0.clone());
    let sent = text("content-digest");
    if digest.as_deref() != sent {
        return Err(MessageFault::Signature);
    }
    let message = Message {
        method: parts.method.as_str(),
        authority: text("host").or(parts.uri.authority().map(|a| a.as_str())).unwrap_or_default(),
        path: parts.extensions.get::<axum::extract::OriginalUri>().map_or(parts.uri.path(), |u| u.0.path()),
        query: parts.uri.query().unwrap_or_default(),
        authorization: text("authorization").unwrap_or_default(),
        content_digest: sent,
    };
    let nonce = message.verify(input, signature, key, now)?;
    if app.identity.use_nonce(&entry.token.id, &nonce, now) { Ok(()) } else { Err(MessageFault::Replayed) }
}

/// Who makes a call, however far they came.
fn identify(parts: &Parts, app: &App) -> Result<Caller, Problem> {
    let (secret, by_cookie) = match (bearer(&parts.headers), cookie(&parts.headers, COOKIE)) {
        (Some(token), _) => (token, false),
        (None, Some(token)) => (token, true),
        (None, None) => return Err(Problem::sign_in_first()),
    };
    if by_cookie && !same_origin(parts) {
        return Err(Problem::not_allowed("This call must come from the console's own pages."));
    }
    let (now, from) = (Timestamp::now(), address(&parts.extensions));
    let settings = app.settings();
    let (limits, key_bound_programs) = (settings.signed_in(), settings.flag(Setting::KeyBoundPrograms));
    let found = app.identity.book.find(secret, &limits, now, from);
    let entry = found.filter(|e| (e.token.kind == TokenKind::Console) == by_cookie).ok_or_else(Problem::sign_in_first)?;
    if let Some(key) = &entry.token.key {
        check_signature(app, parts, &entry, key, now).map_err(|e| {
            tracing::info!(token = entry.token.id, error = %e, "a request without the signature that its token needs");
            Problem::signature(e)
        })?;
    }
    if let Some(made_by) = parts.extensions.get::<super::MadeBy>() {
        let _ = made_by.0.set(entry.ended.clone());
    }
    let rules = app.rules.now();
    let person = rules.policy.directory().person(&entry.token.person).ok_or_else(Problem::sign_in_first)?.clone();
    // Suspending somebody counts at once, whatever token they hold.
    let day = now.to_zoned(rules.policy.zone().clone()).date();
    if person.standing(day) != Standing::Good {
        return Err(Problem::sign_in_first());
    }
    Ok(Caller { person, entry, limits, key_bound_programs, now, from })
}

impl FromRequestParts<Arc<App>> for Proving {
    type Rejection = Problem;

    async fn from_request_parts(parts: &mut Parts, app: &Arc<App>) -> Result<Self, Problem> {
        identify(parts, app).map(Self)
    }
}

impl FromRequestParts<Arc<App>> for Own {
    type Rejection = Problem;

    async fn from_request_parts(parts: &mut Parts, app: &Arc<App>) -> Result<Self, Problem> {
        let caller = identify(parts, app)?;
        match (caller.entry.token.stage, caller.entry.token.kind) {
            (Stage::Proving, _) => Err(Problem::sign_in_first()),
            (_, TokenKind::Api) => Err(Problem::not_allowed(
                "API tokens neither show nor change how their owner signs in: sign in yourself, with `aerie sign-in`.",
            )),
            (Stage::Enrolling | Stage::Full, TokenKind::Console | TokenKind::Client) => Ok(Self(caller)),
        }
    }
}

impl FromRequestParts<Arc<App>> for Caller {
    type Rejection = Problem;

    async fn from_request_parts(parts: &mut Parts, app: &Arc<App>) -> Result<Self, Problem> {
        let caller = identify(parts, app)?;
        if caller.entry.token.stage == Stage::Proving {
            return Err(Problem::sign_in_first());
        }
        caller.must_be_full()?;
        let token = &caller.entry.token;
        if token.kind == TokenKind::Api {
            let path = parts.extensions.get::<axum::extract::OriginalUri>().map_or(parts.uri.path(), |u| u.0.path());
            let needed = scope_of(&parts.method, path);
            let held = |n: &str| token.scopes.iter().any(|s| s == n);
            match needed {
                Some(scope) if held(scope) && (!is_powerful(&parts.method, scope) || caller.is_trusted_program()) => {}
                Some(scope) if held(scope) => return Err(Problem::not_allowed(NO_PROGRAM)),
                Some(scope) => return Err(Problem::not_allowed(format!("This token has not the scope `{scope}`."))),
                None => return Err(Problem::not_allowed("No API token may do this.")),
            }
        }
        Ok(caller)
    }
}

const NOT_A_READER: &str = "Only administrators and auditors may read this.";

impl Reader {
    /// What a caller who was identified already may read.
    pub(super) fn of(caller: &Caller) -> Result<Self, Problem> {
        if caller.reads_all() { Ok(Self(caller.seen())) } else { Err(Problem::not_allowed(NOT_A_READER)) }
    }
}

/// Extractors that are a caller who may do something.
macro_rules! who_may {
    ($($name:ident: |$caller:ident| $check:expr, $refusal:expr => $made:expr;)*) => {
        $(impl FromRequestParts<Arc<App>> for $name {
            type Rejection = Problem;

            async fn from_request_parts(parts: &mut Parts, app: &Arc<App>) -> Result<Self, Problem> {
                let $caller = Caller::from_request_parts(parts, app).await?;
                if $check { Ok($made) } else { Err(Problem::not_allowed($refusal)) }
            }
        })*
    };
}

who_may! {
    Reader: |caller| caller.reads_all(), NOT_A_READER => Self(caller.seen());
    EverythingReader: |caller| caller.person.may_everywhere(Act::ReadEverything),
        "This speaks of everything: only administrators and auditors without a scope may read it." => Self;
    RuleReader: |caller| caller.person.may_everywhere(Act::ReadRules),
        "Only administrators, auditors and policy authors without a scope may read this." => Self;
    RuleWriter: |caller| caller.person.may_everywhere(Act::WriteRules),
        "Only administrators and policy authors without a scope may do this." => Self(caller);
    DirectoryReader: |caller| caller.within(Act::ReadDirectory).is_some(),
        "Only those who look after people, rules or machines may read this." => Self(caller.within(Act::ReadDirectory).unwrap_or_default());
    Administrator: |caller| caller.administers(), "Only administrators without a scope may do this." => Self(caller);
}

impl FromRequestParts<Arc<App>> for FreshAdministrator {
    type Rejection = Problem;

    async fn from_request_parts(parts: &mut Parts, app: &Arc<App>) -> Result<Self, Problem> {
        let Administrator(caller) = Administrator::from_request_parts(parts, app).await?;
        caller.must_be_fresh()?;
        Ok(Self(caller))
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn every_call_needs_a_scope_or_is_none_for_programs() {
        let document: serde_json::Value = serde_json::from_str(&super::super::openapi()).unwrap();
        for (path, calls) in document["paths"].as_object().unwrap() {
            for method in calls.as_object().unwrap().keys() {
                let method: Method = method.to_uppercase().parse().unwrap();
                let scope = scope_of(&method, path);
                assert!(scope.is_none_or(|s| SCOPES.contains(&s)), "{method} {path}");
                // Nothing that changes how somebody signs in.
                let personal = path.starts_with("/api/v1/me/") || path.contains("/sign-in") || path.contains("/step-up");
                assert!(!personal || scope.is_none(), "{method} {path}");
                assert!(method == Method::GET || scope != Some("read"), "{method} {path}");
            }
        }
    }
}
