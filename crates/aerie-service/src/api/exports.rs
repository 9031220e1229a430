//! Lists as files: CSV for spreadsheets, a JSON object a line for programs, as they are or in the words of the Open Cybersecurity Schema
//! Framework. Written a page at a time, as the reader takes them: a million rows cost no memory.

use super::accesses;
use super::caller::EverythingReader;
use super::findings;
use super::problem::Problem;
use crate::service::App;
use aerie_api::{AccessQuery, AccessView, FindingView};
use aerie_core::audit::ocsf;
use aerie_store::{AccessFilter, FindingFilter, StoreError};
use axum::body::Body;
use axum::extract::{Query, State};
use axum::http::header;
use axum::response::{IntoResponse as _, Response};
use bytes::Bytes;
use jiff::Timestamp;
use serde::{Deserialize, Serialize};
use std::sync::Arc;
use tokio::sync::mpsc;
use utoipa::IntoParams;

/// Rows that are read at a time.
const EXPORT_PAGE: u32 = 5000;

/// In which words.
#[derive(Deserialize, IntoParams)]
#[into_params(parameter_in = Query)]
pub(super) struct FormQuery {
    /// `ocsf` for events of the Open Cybersecurity Schema Framework; the objects of this API where it is not said.
    form: Option<String>,
}

impl FormQuery {
    fn is_ocsf(&self) -> Result<bool, Problem> {
        match self.form.as_deref() {
            None | Some("" | "plain") => Ok(false),
            Some("ocsf") => Ok(true),
            Some(_) => Err(Problem::bad_request("`form` is `plain` or `ocsf`.")),
        }
    }
}

const COLUMNS: [&str; 15] = [
    "began",
    "ended",
    "seconds",
    "person",
    "name",
    "machine",
    "account",
    "source",
    "service",
    "method",
    "key",
    "through_aerie",
    "session",
    "certificate",
    "uses",
];

/// A cell that no spreadsheet takes for a formula: texts that strangers chose are in it.
fn cell(text: &str) -> String {
    if text.starts_with(['=', '+', '-', '@', '\t', '\r']) { format!("'{text}") } else { text.into() }
}

fn line(v: &AccessView) -> Vec<u8> {
    let told = |t: Option<Timestamp>| t.map(|t| t.to_string()).unwrap_or_default();
    let row = [
        v.began.to_string(),
        told(v.ended),
        v.seconds.map(|s| s.to_string()).unwrap_or_default(),
        cell(v.person.as_deref().unwrap_or_default()),
        cell(v.person_name.as_deref().unwrap_or_default()),
        cell(&v.machine),
        cell(&v.account),
        cell(&v.source),
        v.service.clone(),
        cell(&v.method),
        v.key.clone().unwrap_or_default(),
        if v.session.is_some() { "yes" } else { "no" }.into(),
        v.session.clone().unwrap_or_default(),
        cell(v.certificate.as_deref().unwrap_or_default()),
        v.uses.join(" "),
    ];
    written(&row)
}

/// A line of CSV (RFC 4180).
fn written(row: &[impl AsRef<[u8]>]) -> Vec<u8> {
    let mut writer = csv::WriterBuilder::new().terminator(csv::Terminator::CRLF).from_writer(vec![]);
    let _ = writer.write_record(row);
    writer.into_inner().unwrap_or_default()
}

/// A line of JSON.
fn object(value: &impl Serialize) -> Vec<u8> {
    let mut line = serde_json::to_vec(value).unwrap_or_default();
    line.push(b'\n');
    line
}

/// How rows are written.
#[derive(Clone, Copy)]
enum Form {
    Csv,
    Plain,
    Ocsf,
}

/// What is listed, from where on.
enum Pages {
    Accesses(AccessFilter),
    Findings(FindingFilter),
}

impl Pages {
    /// The next page, and whether it is the last.
    async fn next(&mut self, app: &App, form: Form) -> Result<(Vec<u8>, bool), StoreError> {
        let mut piece = vec![];
        let last = match self {
            Self::Accesses(filter) => {
                let rows = app.store.accesses(filter).await?;
                let rules = app.rules.now();
                filter.before = rows.last().map(|r| (r.begin, r.id.clone()));
                let last = rows.len() < EXPORT_PAGE as usize;
                for r in rows {
                    match form {
                        Form::Csv => piece.extend(line(&accesses::view(rules.policy.directory(), r))),
                        Form::Plain => piece.extend(object(&accesses::view(rules.policy.directory(), r))),
                        Form::Ocsf => ocsf::authentication(&r).iter().for_each(|e| piece.extend(object(e))),
                    }
                }
                last
            }
            Self::Findings(filter) => {
                let rows = app.store.findings(filter).await?;
                filter.before = rows.last().map(|f| (f.finding.last, f.finding.id.clone()));
                let last = rows.len() < EXPORT_PAGE as usize;
                for kept in rows {
                    match form {
                        Form::Csv => piece.extend(finding_line(&findings::view(kept))),
                        Form::Plain => piece.extend(object(&findings::view(kept))),
                        Form::Ocsf => piece.extend(object(&ocsf::detection_finding(&kept.finding, &kept.case))),
                    }
                }
                last
            }
        };
        Ok((piece, last))
    }
}

/// Streams all pages.
fn stream(app: Arc<App>, name: &str, form: Form, mut pages: Pages) -> Response {
    let mut piece = match (form, &pages) {
        (Form::Csv, Pages::Accesses(_)) => written(&COLUMNS),
        (Form::Csv, Pages::Findings(_)) => written(&FINDING_COLUMNS),
        (Form::Plain | Form::Ocsf, _) => vec![],
    };
    let (send, receive) = mpsc::channel::<Result<Bytes, std::io::Error>>(4);
    let exporting = app.clone();
    app.tasks.spawn(async move {
        loop {
            let last = match pages.next(&exporting, form).await {
                Ok((bytes, last)) => {
                    piece.extend(bytes);
                    last
                }
                Err(e) => return drop(send.send(Err(std::io::Error::other(e.to_string()))).await),
            };
            if send.send(Ok(std::mem::take(&mut piece).into())).await.is_err() || last {
                return;
            }
        }
    });
    let kind = match form {
        Form::Csv => "text/csv; charset=utf-8",
        Form::Plain | Form::Ocsf => "application/x-ndjson",
    };
    let headers = [(header::CONTENT_TYPE, kind.to_string()), (header::CONTENT_DISPOSITION, format!("attachment; filename=\"{name}\""))];
    (headers, Body::from_stream(tokio_stream::wrappers::ReceiverStream::new(receive))).into_response()
}

fn of(form: &FormQuery) -> Result<Form, Problem> {
    Ok(if form.is_ocsf()? { Form::Ocsf } else { Form::Plain })
}

fn all_accesses(q: AccessQuery) -> Result<Pages, Problem> {
    Ok(Pages::Accesses(accesses::filter(AccessQuery { after: None, ..q }, EXPORT_PAGE)?))
}

fn all_findings(q: findings::ListQuery) -> Result<Pages, Problem> {
    Ok(Pages::Findings(FindingFilter { before: None, limit: EXPORT_PAGE, ..findings::filter(q)? }))
}

/// The list of accesses as CSV, whole, for a spreadsheet.
#[utoipa::path(get, path = "/accesses.csv", operation_id = "accessesCsv", params(AccessQuery), responses((status = 200, body = String, content_type = "text/csv")))]
pub(super) async fn accesses_csv(
    State(app): State<Arc<App>>,
    _: EverythingReader,
    Query(q): Query<AccessQuery>,
) -> Result<Response, Problem> {
    Ok(stream(app, "accesses.csv", Form::Csv, all_accesses(q)?))
}

/// The list of accesses, whole, a JSON object a line: as it is, or as Authentication events (class 3002) of OCSF 1.3.
#[utoipa::path(get, path = "/accesses.ndjson", operation_id = "accessesNdjson", params(AccessQuery, FormQuery), responses((status = 200, body = String, content_type = "application/x-ndjson")))]
pub(super) async fn accesses_ndjson(
    State(app): State<Arc<App>>,
    _: EverythingReader,
    Query(q): Query<AccessQuery>,
    Query(form): Query<FormQuery>,
) -> Result<Response, Problem> {
    let form = of(&form)?;
    Ok(stream(app, "accesses.ndjson", form, all_accesses(q)?))
}

/// The list of findings as CSV, whole.
#[utoipa::path(get, path = "/findings.csv", operation_id = "findingsCsv", params(findings::ListQuery), responses((status = 200, body = String, content_type = "text/csv")))]
pub(super) async fn findings_csv(
    State(app): State<Arc<App>>,
    _: EverythingReader,
    Query(q): Query<findings::ListQuery>,
) -> Result<Response, Problem> {
    Ok(stream(app, "findings.csv", Form::Csv, all_findings(q)?))
}

/// The list of findings, whole, a JSON object a line: as it is, or as Detection Findings (class 2004) of OCSF 1.3.
#[utoipa::path(get, path = "/findings.ndjson", operation_id = "findingsNdjson", params(findings::ListQuery, FormQuery), responses((status = 200, body = String, content_type = "application/x-ndjson")))]
pub(super) async fn findings_ndjson(
    State(app): State<Arc<App>>,
    _: EverythingReader,
    Query(q): Query<findings::ListQuery>,
    Query(form): Query<FormQuery>,
) -> Result<Response, Problem> {
    let form = of(&form)?;
    Ok(stream(app, "findings.ndjson", form, all_findings(q)?))
}

const FINDING_COLUMNS: [&str; 14] = [
    "last",
    "first",
    "count",
    "importance",
    "kind",
    "state",
    "owner",
    "machine",
    "account",
    "person",
    "source",
    "session",
    "sentence",
    "id",
];

fn finding_line(f: &FindingView) -> Vec<u8> {
    let some = |t: &Option<String>| cell(t.as_deref().unwrap_or_default());
    let row = [
        f.last.to_string(),
        f.first.to_string(),
        f.count.to_string(),
        f.importance.clone(),
        f.kind.clone(),
        f.state.clone(),
        some(&f.owner),
        cell(&f.machine),
        cell(&f.account),
        some(&f.person),
        some(&f.source),
        some(&f.session),
        cell(&f.sentence),
        f.id.clone(),
    ];
    written(&row)
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn no_cell_is_a_formula_and_quotes_stay_inside() {
        let row = [cell("=HYPERLINK(\"x\")"), cell("@a"), cell("a,b\"c"), cell("10.0.0.1")];
        assert_eq!(String::from_utf8(written(&row)).unwrap(), "\"'=HYPERLINK(\"\"x\"\")\",'@a,\"a,b\"\"c\",10.0.0.1\r\n");
    }
}
