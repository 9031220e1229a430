//! Calls about who got into which machine.

use crate::people::name;
use crate::{Client, Result};
use aerie_api::{AccessQuery, AccessReport, AccessView, Page, TotalQuery};
use reqwest::Method;

impl Client {
    /// Who got into which machine, newest first.
    ///
    /// # Errors
    /// See [`Client::sign_in`].
    pub async fn accesses(&self, query: &AccessQuery) -> Result<Page<AccessView>> {
        self.ask(self.call(Method::GET, "accesses").query(query)).await
    }

    /// One access, with the lines that show it.
    ///
    /// # Errors
    /// See [`Client::sign_in`].
    pub async fn access(&self, id: &str) -> Result<AccessView> {
        self.ask(self.call(Method::GET, &format!("accesses/{}", name(id)))).await
    }

    /// Counts them.
    ///
    /// # Errors
    /// See [`Client::sign_in`].
    pub async fn access_report(&self, query: &AccessQuery, by: &str) -> Result<AccessReport> {
        self.ask(self.call(Method::GET, "access-report").query(query).query(&TotalQuery { by: Some(by.into()) })).await
    }

    /// All of them as CSV.
    ///
    /// # Errors
    /// See [`Client::sign_in`].
    pub async fn accesses_csv(&self, query: &AccessQuery) -> Result<String> {
        self.text(self.call(Method::GET, "accesses.csv").query(query)).await
    }

    /// All of them, a JSON object a line; `ocsf` for events of the Open Cybersecurity Schema Framework.
    ///
    /// # Errors
    /// See [`Client::sign_in`].
    pub async fn accesses_ndjson(&self, query: &AccessQuery, ocsf: bool) -> Result<String> {
        self.text(self.call(Method::GET, "accesses.ndjson").query(query).query(&form(ocsf))).await
    }
}

/// In which words an export is.
pub(crate) fn form(ocsf: bool) -> [(&'static str, &'static str); 1] {
    [("form", if ocsf { "ocsf" } else { "plain" })]
}
