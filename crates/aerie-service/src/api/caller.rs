use super::problem::Problem;
use crate::service::App;
use aerie_core::directory::selector::{Selector, Subject};
use aerie_core::directory::{Bits, Directory, Person, Role, Scope, Standing};
use aerie_store::TokenKind;
use axum::extract::FromRequestParts;
use axum::http::request::Parts;
use axum::http::{Method, header};
use jiff::Timestamp;
use std::sync::Arc;

/// Name of the cookie. The prefix binds it to this host, encrypted or loopback (RFC 6265bis section 4.1.3.2).
pub(super) const COOKIE: &str = "__Host-aerie";

/// Whoever makes a call, signed in.
pub(crate) struct Caller {
    pub(crate) person: Person,
    pub(super) until: Timestamp,
    pub(super) token_hash: [u8; 32],
}

/// Whoever makes a call, and may read everything within their scope.
pub(crate) struct Reader(pub(crate) Seen);

/// Whoever makes a call, and may read everything everywhere.
pub(crate) struct EverythingReader;

/// Whoever makes a call, and may change things everywhere.
pub(crate) struct Administrator(pub(crate) Caller);

/// For whom and what somebody's roles count.
#[derive(Debug, Clone, Default)]
pub(crate) struct Seen(Option<(Selector, Selector)>);

impl Seen {
    /// Whether everything is.
    pub(crate) fn is_everything(&self) -> bool {
        self.0.is_none()
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
    /// Administrators and auditors read everything within their scope; others what concerns themselves.
    pub(super) fn reads_all(&self) -> bool {
        self.person.roles.contains(&Role::Administrator) || self.person.roles.contains(&Role::Auditor)
    }

    /// Whether they may change things everywhere.
    pub(super) fn administers(&self) -> bool {
        self.person.roles.contains(&Role::Administrator) && !self.person.scopes.contains_key(&Role::Administrator)
    }

    /// For whom and what their reading counts. A role without scope counts for all; of two with a scope the stronger one's counts.
    pub(super) fn seen(&self) -> Seen {
        let reading = [Role::Administrator, Role::Auditor].into_iter().filter(|r| self.person.roles.contains(r));
        let scopes: Vec<Option<&Scope>> = reading.map(|r| self.person.scopes.get(&r)).collect();
        let Some(Some(scope)) = scopes.iter().find(|_| scopes.iter().all(Option::is_some)).copied() else { return Seen::default() };
        // A scope that cannot be read shows nothing.
        let nothing = || Selector::Not(Box::new(Selector::All));
        let read = |text: &str, subject| Selector::parse(text, subject).unwrap_or_else(|_| nothing());
        Seen(Some((read(&scope.people, Subject::People), read(&scope.machines, Subject::Machines))))
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
}

fn cookie(parts: &Parts) -> Option<&str> {
    let all = parts.headers.get_all(header::COOKIE).iter().filter_map(|h| h.to_str().ok());
    all.flat_map(|h| h.split(';')).find_map(|c| c.trim().strip_prefix(COOKIE)?.strip_prefix('='))
}

fn bearer(parts: &Parts) -> Option<&str> {
    parts.headers.get(header::AUTHORIZATION)?.to_str().ok()?.strip_prefix("Bearer ")
}

/// A browser says where a request comes from; another site's may not change anything.
fn same_origin(parts: &Parts) -> bool {
    let reading = matches!(parts.method, Method::GET | Method::HEAD);
    reading || parts.headers.get("sec-fetch-site").and_then(|h| h.to_str().ok()) == Some("same-origin")
}

impl FromRequestParts<Arc<App>> for Caller {
    type Rejection = Problem;

    async fn from_request_parts(parts: &mut Parts, app: &Arc<App>) -> Result<Self, Problem> {
        let (token, kind) = match (bearer(parts), cookie(parts)) {
            (Some(token), _) => (token, TokenKind::Client),
            (None, Some(token)) => (token, TokenKind::Console),
            (None, None) => return Err(Problem::sign_in_first()),
        };
        if kind == TokenKind::Console && !same_origin(parts) {
            return Err(Problem::not_allowed("This call must come from the console's own pages."));
        }
        let (hash, now) = (app.keys.token_hash(token), Timestamp::now());
        let known = app.store.token(&hash, now).await?.filter(|t| t.kind == kind).ok_or_else(Problem::sign_in_first)?;
        let rules = app.rules.now();
        let person = rules.policy.directory().person(&known.person).ok_or_else(Problem::sign_in_first)?.clone();
        // Suspending somebody counts at once, whatever token they hold.
        let day = now.to_zoned(rules.policy.zone().clone()).date();
        if person.standing(day) != Standing::Good {
            return Err(Problem::sign_in_first());
        }
        Ok(Self { person, until: known.expires, token_hash: hash })
    }
}

impl FromRequestParts<Arc<App>> for Reader {
    type Rejection = Problem;

    async fn from_request_parts(parts: &mut Parts, app: &Arc<App>) -> Result<Self, Problem> {
        let caller = Caller::from_request_parts(parts, app).await?;
        if caller.reads_all() {
            Ok(Self(caller.seen()))
        } else {
            Err(Problem::not_allowed("Only administrators and auditors may read this."))
        }
    }
}

impl FromRequestParts<Arc<App>> for EverythingReader {
    type Rejection = Problem;

    async fn from_request_parts(parts: &mut Parts, app: &Arc<App>) -> Result<Self, Problem> {
        let Reader(seen) = Reader::from_request_parts(parts, app).await?;
        if seen.is_everything() { Ok(Self) } else { Err(Problem::not_allowed("This speaks of everything, and your role has a scope.")) }
    }
}

impl FromRequestParts<Arc<App>> for Administrator {
    type Rejection = Problem;

    async fn from_request_parts(parts: &mut Parts, app: &Arc<App>) -> Result<Self, Problem> {
        let caller = Caller::from_request_parts(parts, app).await?;
        if caller.administers() { Ok(Self(caller)) } else { Err(Problem::not_allowed("Only administrators without a scope may do this.")) }
    }
}
