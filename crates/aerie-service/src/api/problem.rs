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

impl From<tokio::task::JoinError> for Problem {
    fn from(e: tokio::task::JoinError) -> Self {
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
