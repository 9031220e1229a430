//! Calls about findings, what is done with them, detections and coverage.

use crate::people::name;
use crate::{Client, Result};
use aerie_api::{
    AgainQuery, AgainView, CoverageView, DetectionsView, EvidenceQuery, FindingStep, FindingView, NewDetections, NewReport, NewSuppression,
    Page, ReportQuery, ReportText, ReportView, SuppressionView,
};
use reqwest::Method;
use serde::Serialize;

/// Which findings to list.
#[derive(Debug, Clone, Default, Serialize)]
pub struct FindingQuery {
    /// Kind, or name of the detection.
    pub kind: Option<String>,
    /// Session.
    pub session: Option<String>,
    /// Machine.
    pub machine: Option<String>,
    /// State, or `settled` or `unsettled`.
    pub state: Option<String>,
    /// At least of this importance.
    pub importance: Option<String>,
    /// Owner.
    pub owner: Option<String>,
    /// Any text.
    pub q: Option<String>,
    /// `next` of the page before.
    pub after: Option<String>,
    /// Rows.
    pub limit: Option<u32>,
}

impl Client {
    /// Findings, newest first.
    ///
    /// # Errors
    /// See [`Client::sign_in`].
    pub async fn findings(&self, query: &FindingQuery) -> Result<Page<FindingView>> {
        self.ask(self.call(Method::GET, "findings").query(query)).await
    }

    /// One finding, with what was done with it.
    ///
    /// # Errors
    /// See [`Client::sign_in`].
    pub async fn finding(&self, id: &str) -> Result<FindingView> {
        self.ask(self.call(Method::GET, &format!("findings/{}", name(id)))).await
    }

    /// Does something with a finding.
    ///
    /// # Errors
    /// See [`Client::sign_in`].
    pub async fn work_on_finding(&self, id: &str, step: &FindingStep) -> Result<FindingView> {
        self.ask(self.call(Method::POST, &format!("findings/{}/steps", name(id))).json(step)).await
    }

    /// What is not to come up.
    ///
    /// # Errors
    /// See [`Client::sign_in`].
    pub async fn suppressions(&self) -> Result<Vec<SuppressionView>> {
        self.ask(self.call(Method::GET, "suppressions")).await
    }

    /// Keeps findings from coming up.
    ///
    /// # Errors
    /// See [`Client::sign_in`].
    pub async fn suppress(&self, new: &NewSuppression) -> Result<SuppressionView> {
        self.ask(self.call(Method::POST, "suppressions").json(new)).await
    }

    /// Lets them come up again.
    ///
    /// # Errors
    /// See [`Client::sign_in`].
    pub async fn withdraw_suppression(&self, id: &str) -> Result<()> {
        self.send(self.call(Method::DELETE, &format!("suppressions/{}", name(id)))).await.map(drop)
    }

    /// The detections in force.
    ///
    /// # Errors
    /// See [`Client::sign_in`].
    pub async fn detections(&self) -> Result<DetectionsView> {
        self.ask(self.call(Method::GET, "detections")).await
    }

    /// Puts detections into force.
    ///
    /// # Errors
    /// See [`Client::sign_in`].
    pub async fn publish_detections(&self, new: &NewDetections) -> Result<DetectionsView> {
        self.ask(self.call(Method::POST, "detections").json(new)).await
    }

    /// For which machines and days there is evidence.
    ///
    /// # Errors
    /// See [`Client::sign_in`].
    pub async fn coverage(&self, days: u16, until: Option<jiff::civil::Date>) -> Result<CoverageView> {
        let until = until.map(|d| ("until", d.to_string()));
        self.ask(self.call(Method::GET, "coverage").query(&[("days", days)]).query(&until.into_iter().collect::<Vec<_>>())).await
    }

    /// Puts evidence together: the bytes of a pack.
    ///
    /// # Errors
    /// See [`Client::sign_in`].
    pub async fn evidence(&self, query: &EvidenceQuery) -> Result<Vec<u8>> {
        self.bytes(self.call(Method::POST, "evidence").json(query)).await
    }

    /// Judges the past again, and says what differs.
    ///
    /// # Errors
    /// See [`Client::sign_in`].
    pub async fn judge_again(&self, query: &AgainQuery) -> Result<AgainView> {
        self.ask(self.call(Method::POST, "audit/again").json(query)).await
    }

    /// The reports that are mailed now and then.
    ///
    /// # Errors
    /// See [`Client::sign_in`].
    pub async fn reports(&self) -> Result<Vec<ReportView>> {
        self.ask(self.call(Method::GET, "reports")).await
    }

    /// Has a report mailed now and then.
    ///
    /// # Errors
    /// See [`Client::sign_in`].
    pub async fn add_report(&self, new: &NewReport) -> Result<ReportView> {
        self.ask(self.call(Method::POST, "reports").json(new)).await
    }

    /// Has one mailed no longer.
    ///
    /// # Errors
    /// See [`Client::sign_in`].
    pub async fn remove_report(&self, id: &str) -> Result<()> {
        self.send(self.call(Method::DELETE, &format!("reports/{}", name(id)))).await.map(drop)
    }

    /// A report as it would be mailed.
    ///
    /// # Errors
    /// See [`Client::sign_in`].
    pub async fn report(&self, query: &ReportQuery) -> Result<ReportText> {
        self.ask(self.call(Method::GET, "report").query(query)).await
    }

    /// All findings that a query asks for, as CSV.
    ///
    /// # Errors
    /// See [`Client::sign_in`].
    pub async fn findings_csv(&self, query: &FindingQuery) -> Result<String> {
        self.text(self.call(Method::GET, "findings.csv").query(query)).await
    }

    /// All of them, a JSON object a line; `ocsf` for events of the Open Cybersecurity Schema Framework.
    ///
    /// # Errors
    /// See [`Client::sign_in`].
    pub async fn findings_ndjson(&self, query: &FindingQuery, ocsf: bool) -> Result<String> {
        self.text(self.call(Method::GET, "findings.ndjson").query(query).query(&crate::accesses::form(ocsf))).await
    }
}
