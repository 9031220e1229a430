//! Typed client of the API, shared by the command line and the tests.

mod accesses;
mod asking;
mod desktop;
mod findings;
mod forward;
mod machines;
mod people;
mod signed;
mod socket;
mod trust;
mod visits;

pub use desktop::{DesktopLink, FromService};
pub use findings::FindingQuery;
pub use forward::Forwarding;
pub use signed::RequestKey;
pub use visits::VisitedLink;

use aerie_api::{
    CheckpointView, DirectoryChanges, DirectoryExport, DirectoryImport, DraftText, DraftView, EffectQuery, EffectView, EventView,
    FrameView, LogReport, MatrixView, Me, NewReview, Now, Page, PolicyChecked, PolicyRead, PolicyText, PolicyView, ProblemView,
    PublishNote, ReachQuery, ReachView, RecordingReport, ReviewClosed, ReviewDecision, ReviewEntryView, ReviewView, RuleEdit, RuleUseView,
    ScanResult, ServiceTrust, SessionView, SignIn, VersionView, Why, WhyQuery,
};
use reqwest::{Method, RequestBuilder, StatusCode};
use serde::Serialize;
use serde::de::DeserializeOwned;
use std::sync::Arc;
use std::time::Duration;

/// Why a call did not succeed.
#[derive(Debug, thiserror::Error)]
pub enum ClientError {
    /// The service cannot be reached.
    #[error("the service at {0} cannot be reached ({1}); is it running, and is --server right?")]
    Unreachable(String, String),
    /// The service refused.
    #[error("{}: {}", .0.title, .0.detail)]
    Problem(Box<ProblemView>),
    /// The answer is not one of this API.
    #[error("the answer of {0} is not one of Aerie's API: is --server right?")]
    Foreign(String),
}

impl ClientError {
    /// The HTTP status, where the service answered.
    pub fn status(&self) -> Option<u16> {
        match self {
            Self::Problem(p) => Some(p.status),
            Self::Unreachable(..) | Self::Foreign(_) => None,
        }
    }
}

type Result<T> = std::result::Result<T, ClientError>;

/// Names the cryptography that every TLS connection of this process uses, where nobody did before. For programs that make HTTP
/// clients of their own.
pub fn provide_tls() {
    // It fails where it was done already, which is as good.
    let _ = rustls::crypto::ring::default_provider().install_default();
}

/// A client of one service.
#[derive(Clone)]
pub struct Client {
    base: String,
    authority: Option<String>,
    token: Option<String>,
    /// Signs each request, for a token that is bound to a key.
    key: Option<Arc<RequestKey>>,
    http: reqwest::Client,
}

/// Which sessions to list.
#[derive(Debug, Clone, Default, Serialize)]
pub struct SessionQuery {
    /// `live` or `ended`.
    pub state: Option<String>,
    /// Name of the person.
    pub person: Option<String>,
    /// Name of the machine.
    pub machine: Option<String>,
    /// Any text.
    pub q: Option<String>,
    /// `next` of the page before.
    pub after: Option<String>,
    /// Rows.
    pub limit: Option<u32>,
}

/// Which events to list.
#[derive(Debug, Clone, Default, Serialize)]
pub struct ListQuery {
    /// Word of the kind.
    pub kind: Option<String>,
    /// Session.
    pub session: Option<String>,
    /// Any text.
    pub q: Option<String>,
    /// `next` of the page before.
    pub after: Option<String>,
    /// Rows.
    pub limit: Option<u32>,
}

/// How to read a log.
#[derive(Debug, Clone, Default, Serialize)]
pub struct ScanQuery {
    /// Name of the file.
    pub name: Option<String>,
    /// Year of the first line.
    pub year: Option<i16>,
    /// Zone of its clock.
    pub zone: Option<String>,
    /// What it holds, where that is not to be found out.
    pub format: Option<String>,
    /// Which column of a table is what (TOML).
    pub mapping: Option<String>,
    /// The machine whose log it is.
    pub host: Option<String>,
    /// SHA-256 of its first 512 bytes, in hexadecimal.
    pub head: Option<String>,
    /// Where it is read on.
    pub offset: Option<u64>,
}

impl Client {
    /// A client of the service at `base` (`https://aerie.example`), whose certificate a public authority must have signed.
    pub fn new(base: &str, token: Option<String>) -> Self {
        Self::trusting(base, token, None)
    }

    /// The same, where `authority` is the fingerprint of the service's own authority (`SHA256:` and hexadecimal digits): its
    /// certificates alone are taken.
    pub fn trusting(base: &str, token: Option<String>, authority: Option<&str>) -> Self {
        let builder = reqwest::Client::builder().connect_timeout(Duration::from_secs(10)).no_proxy();
        let builder = builder.user_agent(concat!("aerie/", env!("CARGO_PKG_VERSION"))).tls_backend_preconfigured(trust::config(authority));
        let (base, authority) = (base.trim_end_matches('/').into(), authority.map(Into::into));
        Self { base, authority, token, key: None, http: builder.build().unwrap_or_default() }
    }

    /// The token that it uses, if any.
    pub fn token(&self) -> Option<&str> {
        self.token.as_deref()
    }

    /// The same with a key that signs each request (RFC 9421).
    #[must_use]
    pub fn with_key(mut self, key: RequestKey) -> Self {
        self.key = Some(Arc::new(key));
        self
    }

    /// The same with a token.
    #[must_use]
    pub fn with_token(mut self, token: &str) -> Self {
        self.token = Some(token.into());
        self
    }

    /// Signs in and returns who is signed in, with a token.
    ///
    /// # Errors
    /// When the service cannot be reached or refuses; so for every call below.
    pub async fn sign_in(&self, person: &str, password: &str, code: &str) -> Result<Me> {
        let given = SignIn { person: person.into(), password: password.into(), code: code.into(), token: true };
        self.ask(self.call(Method::POST, "sign-in").json(&given)).await
    }

    /// Signs out.
    ///
    /// # Errors
    /// See [`Client::sign_in`].
    pub async fn sign_out(&self) -> Result<()> {
        self.send(self.call(Method::POST, "sign-out")).await.map(drop)
    }

    /// Who is signed in.
    ///
    /// # Errors
    /// See [`Client::sign_in`].
    pub async fn me(&self) -> Result<Me> {
        self.ask(self.call(Method::GET, "me")).await
    }

    /// How things stand.
    ///
    /// # Errors
    /// See [`Client::sign_in`].
    pub async fn now(&self) -> Result<Now> {
        self.ask(self.call(Method::GET, "now")).await
    }

    /// People, machines and keys as a file.
    ///
    /// # Errors
    /// See [`Client::sign_in`].
    pub async fn directory(&self) -> Result<DirectoryExport> {
        self.ask(self.call(Method::GET, "directory")).await
    }

    /// Sessions, newest first.
    ///
    /// # Errors
    /// See [`Client::sign_in`].
    pub async fn sessions(&self, query: &SessionQuery) -> Result<Page<SessionView>> {
        self.ask(self.call(Method::GET, "sessions").query(query)).await
    }

    /// One session.
    ///
    /// # Errors
    /// See [`Client::sign_in`].
    pub async fn session(&self, id: &str) -> Result<SessionView> {
        self.ask(self.call(Method::GET, &format!("sessions/{}", safe(id)))).await
    }

    /// Ends a session.
    ///
    /// # Errors
    /// See [`Client::sign_in`].
    pub async fn end_session(&self, id: &str) -> Result<()> {
        self.send(self.call(Method::POST, &format!("sessions/{}/end", safe(id)))).await.map(drop)
    }

    /// The frames of a recording.
    ///
    /// # Errors
    /// See [`Client::sign_in`].
    pub async fn frames(&self, id: &str) -> Result<Vec<FrameView>> {
        let text = self.text(self.call(Method::GET, &format!("recordings/{}/frames", safe(id)))).await?;
        text.lines().map(|l| serde_json::from_str(l).map_err(|_| ClientError::Foreign(self.base.clone()))).collect()
    }

    /// A recording as plain text.
    ///
    /// # Errors
    /// See [`Client::sign_in`].
    pub async fn recording_text(&self, id: &str) -> Result<String> {
        self.text(self.call(Method::GET, &format!("recordings/{}/text", safe(id)))).await
    }

    /// Verifies a recording.
    ///
    /// # Errors
    /// See [`Client::sign_in`].
    pub async fn verify_recording(&self, id: &str) -> Result<RecordingReport> {
        self.ask(self.call(Method::POST, &format!("recordings/{}/verify", safe(id)))).await
    }

    /// Events, newest first.
    ///
    /// # Errors
    /// See [`Client::sign_in`].
    pub async fn log(&self, query: &ListQuery) -> Result<Page<EventView>> {
        self.ask(self.call(Method::GET, "log").query(query)).await
    }

    /// Verifies the log.
    ///
    /// # Errors
    /// See [`Client::sign_in`].
    pub async fn verify_log(&self) -> Result<LogReport> {
        self.ask(self.call(Method::POST, "log/verify")).await
    }

    /// Signs the log as it stands.
    ///
    /// # Errors
    /// See [`Client::sign_in`].
    pub async fn checkpoint(&self) -> Result<CheckpointView> {
        self.ask(self.call(Method::POST, "log/checkpoints")).await
    }

    /// The rules in force.
    ///
    /// # Errors
    /// See [`Client::sign_in`].
    pub async fn policy(&self) -> Result<PolicyView> {
        self.ask(self.call(Method::GET, "policy")).await
    }

    /// Checks rules.
    ///
    /// # Errors
    /// See [`Client::sign_in`].
    pub async fn check_policy(&self, text: &str) -> Result<PolicyChecked> {
        self.ask(self.call(Method::POST, "policy/check").json(&PolicyText { text: text.into() })).await
    }

    /// With what clients recognise the service.
    ///
    /// # Errors
    /// See [`Client::sign_in`].
    pub async fn trust(&self) -> Result<ServiceTrust> {
        self.ask(self.call(Method::GET, "trust")).await
    }

    /// Publishes rules that were written against the version `after`.
    ///
    /// # Errors
    /// See [`Client::sign_in`].
    pub async fn publish_policy(&self, text: &str, after: Option<i64>) -> Result<PolicyChecked> {
        let mut call = self.call(Method::PUT, "policy").json(&PolicyText { text: text.into() });
        if let Some(version) = after {
            call = call.header("if-match", tag(version));
        }
        self.ask(call).await
    }

    /// Reads rules as cards.
    ///
    /// # Errors
    /// See [`Client::sign_in`].
    pub async fn read_policy(&self, text: &str) -> Result<PolicyRead> {
        self.ask(self.call(Method::POST, "policy/read").json(&PolicyText { text: text.into() })).await
    }

    /// Adds, changes or removes one rule of a document.
    ///
    /// # Errors
    /// See [`Client::sign_in`].
    pub async fn edit_policy(&self, edit: &RuleEdit) -> Result<PolicyText> {
        self.ask(self.call(Method::POST, "policy/edit").json(edit)).await
    }

    /// The effect that a document would have.
    ///
    /// # Errors
    /// See [`Client::sign_in`].
    pub async fn policy_effect(&self, query: &EffectQuery) -> Result<EffectView> {
        self.ask(self.call(Method::POST, "policy/effect").json(query)).await
    }

    /// What became of each rule in so many days.
    ///
    /// # Errors
    /// See [`Client::sign_in`].
    pub async fn policy_use(&self, days: u32) -> Result<Vec<RuleUseView>> {
        self.ask(self.call(Method::GET, "policy/use").query(&[("days", days)])).await
    }

    /// Every version of the rules, newest first.
    ///
    /// # Errors
    /// See [`Client::sign_in`].
    pub async fn policy_versions(&self) -> Result<Vec<VersionView>> {
        self.ask(self.call(Method::GET, "policy/versions")).await
    }

    /// One version of the rules.
    ///
    /// # Errors
    /// See [`Client::sign_in`].
    pub async fn policy_version(&self, version: i64) -> Result<VersionView> {
        self.ask(self.call(Method::GET, &format!("policy/versions/{version}"))).await
    }

    /// Puts an earlier version in force again.
    ///
    /// # Errors
    /// See [`Client::sign_in`].
    pub async fn restore_policy(&self, version: i64, note: &str) -> Result<PolicyChecked> {
        self.ask(self.call(Method::POST, &format!("policy/versions/{version}/restore")).json(&PublishNote { note: note.into() })).await
    }

    /// Drafts that are not published.
    ///
    /// # Errors
    /// See [`Client::sign_in`].
    pub async fn drafts(&self) -> Result<Vec<DraftView>> {
        self.ask(self.call(Method::GET, "drafts")).await
    }

    /// One draft.
    ///
    /// # Errors
    /// See [`Client::sign_in`].
    pub async fn draft(&self, id: &str) -> Result<DraftView> {
        self.ask(self.call(Method::GET, &format!("drafts/{}", safe(id)))).await
    }

    /// Begins a draft.
    ///
    /// # Errors
    /// See [`Client::sign_in`].
    pub async fn begin_draft(&self, draft: &DraftText) -> Result<DraftView> {
        self.ask(self.call(Method::POST, "drafts").json(draft)).await
    }

    /// Changes a draft of that revision.
    ///
    /// # Errors
    /// See [`Client::sign_in`].
    pub async fn change_draft(&self, id: &str, revision: i64, draft: &DraftText) -> Result<DraftView> {
        self.ask(self.call(Method::PUT, &format!("drafts/{}", safe(id))).header("if-match", tag(revision)).json(draft)).await
    }

    /// Drops a draft.
    ///
    /// # Errors
    /// See [`Client::sign_in`].
    pub async fn drop_draft(&self, id: &str) -> Result<()> {
        self.send(self.call(Method::DELETE, &format!("drafts/{}", safe(id)))).await.map(drop)
    }

    /// Agrees to that revision of a draft.
    ///
    /// # Errors
    /// See [`Client::sign_in`].
    pub async fn agree_to_draft(&self, id: &str, revision: i64) -> Result<DraftView> {
        self.ask(self.call(Method::POST, &format!("drafts/{}/agree", safe(id))).header("if-match", tag(revision))).await
    }

    /// Publishes that revision of a draft.
    ///
    /// # Errors
    /// See [`Client::sign_in`].
    pub async fn publish_draft(&self, id: &str, revision: i64, note: &str) -> Result<PolicyChecked> {
        let call = self.call(Method::POST, &format!("drafts/{}/publish", safe(id))).header("if-match", tag(revision));
        self.ask(call.json(&PublishNote { note: note.into() })).await
    }

    /// Who can reach what.
    ///
    /// # Errors
    /// See [`Client::sign_in`].
    pub async fn reach(&self, query: &ReachQuery) -> Result<ReachView> {
        self.ask(self.call(Method::GET, "reach").query(query)).await
    }

    /// Who can reach what, as CSV.
    ///
    /// # Errors
    /// See [`Client::sign_in`].
    pub async fn reach_csv(&self, query: &ReachQuery) -> Result<String> {
        self.text(self.call(Method::GET, "reach.csv").query(query)).await
    }

    /// How much access there is between groups of people and groups of machines.
    ///
    /// # Errors
    /// See [`Client::sign_in`].
    pub async fn reach_matrix(&self, rows: &str, columns: &str) -> Result<MatrixView> {
        self.ask(self.call(Method::GET, "reach/matrix").query(&[("rows", rows), ("columns", columns)])).await
    }

    /// Reviews of who has access, newest first.
    ///
    /// # Errors
    /// See [`Client::sign_in`].
    pub async fn reviews(&self) -> Result<Vec<ReviewView>> {
        self.ask(self.call(Method::GET, "reviews")).await
    }

    /// A review with its entries.
    ///
    /// # Errors
    /// See [`Client::sign_in`].
    pub async fn review(&self, id: &str) -> Result<ReviewView> {
        self.ask(self.call(Method::GET, &format!("reviews/{}", safe(id)))).await
    }

    /// Begins a review.
    ///
    /// # Errors
    /// See [`Client::sign_in`].
    pub async fn begin_review(&self, review: &NewReview) -> Result<ReviewView> {
        self.ask(self.call(Method::POST, "reviews").json(review)).await
    }

    /// Keeps or withdraws a permission under review.
    ///
    /// # Errors
    /// See [`Client::sign_in`].
    pub async fn decide_entry(&self, id: &str, n: i64, decision: &ReviewDecision) -> Result<ReviewEntryView> {
        self.ask(self.call(Method::PUT, &format!("reviews/{}/entries/{n}", safe(id))).json(decision)).await
    }

    /// Closes a review.
    ///
    /// # Errors
    /// See [`Client::sign_in`].
    pub async fn close_review(&self, id: &str) -> Result<ReviewClosed> {
        self.ask(self.call(Method::POST, &format!("reviews/{}/close", safe(id)))).await
    }

    /// Takes people, machines and groups in, or says what would change.
    ///
    /// # Errors
    /// See [`Client::sign_in`].
    pub async fn import_directory(&self, import: &DirectoryImport) -> Result<DirectoryChanges> {
        self.ask(self.call(Method::POST, "directory").json(import)).await
    }

    /// Asks why somebody may or may not.
    ///
    /// # Errors
    /// See [`Client::sign_in`].
    pub async fn why(&self, query: &WhyQuery) -> Result<Why> {
        self.ask(self.call(Method::GET, "why").query(query)).await
    }

    /// How far a log was read that begins so. One that is shorter than what was read of it becomes a finding.
    ///
    /// # Errors
    /// See [`Client::sign_in`].
    pub async fn log_position(&self, head: &str, log: &str, size: u64) -> Result<aerie_api::LogPositionView> {
        let query = [("head", head.to_string()), ("name", log.to_string()), ("size", size.to_string())];
        self.ask(self.call(Method::GET, "audit/position").query(&query)).await
    }

    /// Audits a log, which is streamed.
    ///
    /// # Errors
    /// See [`Client::sign_in`].
    pub async fn scan(&self, query: &ScanQuery, log: impl tokio::io::AsyncRead + Send + Sync + 'static) -> Result<ScanResult> {
        let body = reqwest::Body::wrap_stream(tokio_util::io::ReaderStream::with_capacity(log, 256 << 10));
        self.ask(self.call(Method::POST, "audit/scan").query(query).body(body)).await
    }

    fn call(&self, method: Method, path: &str) -> RequestBuilder {
        let call = self.http.request(method, format!("{}/api/v1/{path}", self.base));
        match &self.token {
            Some(token) => call.bearer_auth(token),
            None => call,
        }
    }

    async fn send(&self, call: RequestBuilder) -> Result<reqwest::Response> {
        let mut request = call.build().map_err(|e| ClientError::Unreachable(self.base.clone(), e.to_string()))?;
        if let Some(key) = &self.key {
            key.sign(&mut request);
        }
        let answer = self.http.execute(request).await.map_err(|e| {
            // The innermost cause says most: a refused connection, a certificate that is not trusted.
            let mut cause: &dyn std::error::Error = &e;
            while let Some(source) = cause.source() {
                cause = source;
            }
            let cause = cause.to_string();
            ClientError::Unreachable(self.base.clone(), cause)
        })?;
        if answer.status().is_success() {
            return Ok(answer);
        }
        let status: StatusCode = answer.status();
        let body = answer.bytes().await.unwrap_or_default();
        Err(match serde_json::from_slice::<ProblemView>(&body) {
            Ok(problem) => ClientError::Problem(Box::new(problem)),
            // What the framework refuses before a handler sees it is told in plain text.
            Err(_)
                if status == StatusCode::UNPROCESSABLE_ENTITY
                    || status == StatusCode::BAD_REQUEST
                    || status == StatusCode::PAYLOAD_TOO_LARGE =>
            {
                ClientError::Problem(Box::new(ProblemView {
                    kind: "/docs/errors#bad-request".into(),
                    title: "The request cannot be read".into(),
                    status: status.as_u16(),
                    detail: String::from_utf8_lossy(&body).chars().take(500).collect(),
                    diagnostics: vec![],
                }))
            }
            Err(_) => ClientError::Foreign(self.base.clone()),
        })
    }

    async fn ask<T: DeserializeOwned>(&self, call: RequestBuilder) -> Result<T> {
        self.send(call).await?.json().await.map_err(|_| ClientError::Foreign(self.base.clone()))
    }

    async fn bytes(&self, call: RequestBuilder) -> Result<Vec<u8>> {
        Ok(self.send(call).await?.bytes().await.map_err(|_| ClientError::Foreign(self.base.clone()))?.to_vec())
    }

    async fn text(&self, call: RequestBuilder) -> Result<String> {
        self.send(call).await?.text().await.map_err(|_| ClientError::Foreign(self.base.clone()))
    }
}

/// A number as an ETag.
fn tag(number: i64) -> String {
    format!("\"{number}\"")
}

/// An identifier within a path: anything that is not part of one is left out, so that it names nothing else.
fn safe(id: &str) -> String {
    id.chars().filter(|c| c.is_ascii_alphanumeric() || "-_".contains(*c)).take(64).collect()
}
