use crate::identity::{CeremonyError, Checked};
use aerie_api::{DiagnosticView, ProblemView};
use aerie_core::diagnostic::{Diagnostic, Severity, position};
use aerie_store::StoreError;
use axum::Json;
use axum::http::{HeaderValue, StatusCode, header};
use axum::response::{IntoResponse, Response};

/// An error as the API tells it (RFC 9457). Nothing internal gets in: the text of an error of ours stays in the service's log.
#[derive(Debug)]
pub(crate) struct Problem {
    status: StatusCode,
    code: &'static str,
    title: &'static str,
    detail: String,
    diagnostics: Vec<DiagnosticView>,
}

impl Problem {
    fn new(status: StatusCode, code: &'static str, title: &'static str, detail: impl Into<String>) -> Self {
        Self { status, code, title, detail: detail.into(), diagnostics: vec![] }
    }

    pub(crate) fn not_found(detail: impl Into<String>) -> Self {
        Self::new(StatusCode::NOT_FOUND, "not-found", "Not found", detail)
    }

    pub(crate) fn bad_request(detail: impl Into<String>) -> Self {
        Self::new(StatusCode::BAD_REQUEST, "bad-request", "The request cannot be read", detail)
    }

    pub(crate) fn sign_in_first() -> Self {
        Self::new(StatusCode::UNAUTHORIZED, "sign-in-first", "Sign in first", "Sign in at the console, or with `aerie sign-in`.")
    }

    pub(crate) fn sign_in_failed() -> Self {
        Self::new(StatusCode::UNAUTHORIZED, "sign-in-failed", "Signing in failed", "Name, password or code is not right.")
    }

    pub(crate) fn code_used() -> Self {
        Self::new(StatusCode::UNAUTHORIZED, "code-used", "The code was used already", "Wait for the next code and sign in with it.")
    }

    pub(crate) fn wait(seconds: i64) -> Self {
        Self::new(StatusCode::TOO_MANY_REQUESTS, "too-many-tries", "Too many tries", format!("Wait {seconds} seconds, then sign in again."))
    }

    pub(crate) fn not_allowed(detail: impl Into<String>) -> Self {
        Self::new(StatusCode::FORBIDDEN, "not-allowed", "Not allowed", detail)
    }

    pub(crate) fn wrong_pin() -> Self {
        let detail = "The PIN is not right, was used, or is over. Ask for a new one.";
        Self::new(StatusCode::UNAUTHORIZED, "wrong-pin", "The PIN is not right", detail)
    }

    /// A factor must be proved again; the words of those that would do are told.
    pub(crate) fn prove_again(wanted: &[String]) -> Self {
        let with = if wanted.is_empty() { "your password".into() } else { aerie_core::wording::list(wanted) };
        Self::new(StatusCode::FORBIDDEN, "prove-again", "Prove yourself again", format!("This needs a recent proof of {with}."))
    }

    /// A machine does not do what it is asked.
    pub(crate) fn unready(detail: impl Into<String>) -> Self {
        Self::new(StatusCode::BAD_GATEWAY, "unready", "The machine cannot be reached", detail)
    }

    pub(crate) fn enrol_first() -> Self {
        let detail = "Your own account's page says what is missing, a second factor or a new password; nothing else is possible before.";
        Self::new(StatusCode::FORBIDDEN, "enrol-first", "Finish your account first", detail)
    }

    pub(crate) fn own_rights(detail: impl Into<String>) -> Self {
        Self::new(StatusCode::FORBIDDEN, "own-rights", "Somebody else must do this", detail)
    }

    pub(crate) fn code_drifted(seconds: i64) -> Self {
        let off = aerie_core::wording::duration(jiff::SignedDuration::from_secs(seconds.abs()));
        let way = if seconds < 0 { "behind" } else { "ahead" };
        let detail = format!("The code is of another time: the clock of your phone is about {off} {way}. Set it, and take the next code.");
        Self::new(StatusCode::UNAUTHORIZED, "code-drifted", "The clock of your phone is wrong", detail)
    }

    /// The token must be used with signed requests; what is wrong with this one is told, since only its owner gets so far.
    pub(crate) fn signature(fault: aerie_core::factor::message::MessageFault) -> Self {
        let detail = format!("The token is bound to a key, and {fault}.");
        Self::new(StatusCode::UNAUTHORIZED, "not-signed", "The request is not signed as its token needs", detail)
    }

    pub(crate) fn busy() -> Self {
        let detail = "Too many people sign in at this moment. Try again in a few seconds.";
        Self::new(StatusCode::SERVICE_UNAVAILABLE, "busy", "Too many at once", detail)
    }

    /// A password, key or value that is not taken.
    pub(crate) fn not_good(detail: impl Into<String>) -> Self {
        Self::new(StatusCode::UNPROCESSABLE_ENTITY, "not-good", "This is not taken", detail)
    }

    pub(crate) fn exists(detail: impl Into<String>) -> Self {
        Self::new(StatusCode::CONFLICT, "exists", "It is there already", detail)
    }

    /// What a checked proof is to its owner; none where it is right.
    pub(crate) fn of_check(checked: Checked) -> Option<Self> {
        Some(match checked {
            Checked::Right => return None,
            Checked::Wrong => Self::sign_in_failed(),
            Checked::Used => Self::code_used(),
            Checked::Drifted(seconds) => Self::code_drifted(seconds),
            Checked::Wait(seconds) => Self::wait(seconds),
            Checked::Busy => Self::busy(),
        })
    }

    pub(crate) fn conflict(detail: impl Into<String>) -> Self {
        Self::new(StatusCode::PRECONDITION_FAILED, "conflict", "Changed in between", detail)
    }

    pub(crate) fn invalid(text: &str, found: &[Diagnostic]) -> Self {
        let mut problem = Self::new(
            StatusCode::UNPROCESSABLE_ENTITY,
            "invalid-rules",
            "The rules have errors",
            "Nothing was published. Mend what is listed and try again.",
        );
        problem.diagnostics = found.iter().map(|d| view(text, d)).collect();
        problem
    }

    /// Whether somebody else was faster.
    pub(crate) fn is_conflict(&self) -> bool {
        self.status == StatusCode::PRECONDITION_FAILED
    }

    pub(crate) fn internal(error: &dyn std::fmt::Display) -> Self {
        tracing::error!(%error, "a call failed");
        Self::new(StatusCode::INTERNAL_SERVER_ERROR, "internal", "The service failed", "The service's own log says why.")
    }
}

/// A diagnostic as the API tells it.
pub(super) fn view(text: &str, d: &Diagnostic) -> DiagnosticView {
    let (line, column) = position(text, d.span.start);
    let small = |n: usize| u32::try_from(n).unwrap_or(u32::MAX);
    DiagnosticView {
        severity: if d.severity == Severity::Error { "error" } else { "warning" }.into(),
        code: d.code.clone(),
        line: small(line),
        column: small(column),
        message: d.message.clone(),
        help: d.help.clone(),
        rendered: d.render("rules.toml", text),
    }
}

impl From<StoreError> for Problem {
    fn from(e: StoreError) -> Self {
        Self::internal(&e)
    }
}

impl From<CeremonyError> for Problem {
    fn from(e: CeremonyError) -> Self {
        match e {
            CeremonyError::Old | CeremonyError::Wrong => Self::sign_in_failed(),
            CeremonyError::None => Self::not_found("Nothing of the kind is enrolled."),
            CeremonyError::Twice => Self::exists("This authenticator is enrolled already."),
            CeremonyError::TooMany | CeremonyError::Address => Self::not_good(format!("{e}.")),
            CeremonyError::Store(e) => Self::internal(&e),
        }
    }
}

impl From<tokio::task::JoinError> for Problem {
    fn from(e: tokio::task::JoinError) -> Self {
        Self::internal(&e)
    }
}

impl From<crate::asking::OutboxError> for Problem {
    fn from(e: crate::asking::OutboxError) -> Self {
        Self::internal(&e)
    }
}

impl From<crate::KeyError> for Problem {
    fn from(e: crate::KeyError) -> Self {
        Self::internal(&e)
    }
}

impl IntoResponse for Problem {
    fn into_response(self) -> Response {
        let body = ProblemView {
            kind: format!("/docs/errors#{}", self.code),
            title: self.title.into(),
            status: self.status.as_u16(),
            detail: self.detail,
            diagnostics: self.diagnostics,
        };
        let mut response = (self.status, Json(body)).into_response();
        response.headers_mut().insert(header::CONTENT_TYPE, HeaderValue::from_static("application/problem+json"));
        response
    }
}
