use super::problem::Problem;
use crate::service::App;
use aerie_core::directory::{Person, Role, Standing};
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

/// Whoever makes a call, and may read everything.
pub(crate) struct Reader;

/// Whoever makes a call, and may change things.
pub(crate) struct Administrator(pub(crate) Caller);

impl Caller {
    /// Administrators and auditors read everything; others what concerns themselves.
    pub(super) fn reads_all(&self) -> bool {
        self.person.roles.contains(&Role::Administrator) || self.person.roles.contains(&Role::Auditor)
    }

    fn administers(&self) -> bool {
        self.person.roles.contains(&Role::Administrator)
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
        if caller.reads_all() { Ok(Self) } else { Err(Problem::not_allowed("Only administrators and auditors may read this.")) }
    }
}

impl FromRequestParts<Arc<App>> for Administrator {
    type Rejection = Problem;

    async fn from_request_parts(parts: &mut Parts, app: &Arc<App>) -> Result<Self, Problem> {
        let caller = Caller::from_request_parts(parts, app).await?;
        if caller.administers() { Ok(Self(caller)) } else { Err(Problem::not_allowed("Only administrators may do this.")) }
    }
}
