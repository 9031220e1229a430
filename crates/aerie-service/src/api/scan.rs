use super::caller::Administrator;
use super::problem::Problem;
use crate::audit::{self, Incoming};
use crate::service::App;
use aerie_api::ScanResult;
use aerie_core::audit::LogClock;
use aerie_core::audit::read::Format;
use aerie_core::audit::read::table::Mapping;
use axum::Json;
use axum::body::Body;
use axum::extract::{Query, State};
use jiff::Timestamp;
use jiff::tz::TimeZone;
use serde::Deserialize;
use std::sync::Arc;
use tokio::sync::mpsc;
use tokio_stream::StreamExt as _;
use utoipa::IntoParams;

/// Pieces of a log that wait to be read at most.
const PIECES: usize = 16;

/// How to read the log.
#[derive(Deserialize, IntoParams)]
#[into_params(parameter_in = Query)]
pub(super) struct ScanQuery {
    /// Name of the file, as findings cite it.
    name: Option<String>,
    /// Year of the first line; found out where it is not said.
    year: Option<i16>,
    /// Zone in which the log was written; that of the rules where it is not said.
    zone: Option<String>,
    /// `lines`, `login-records`, `bad-logins` or `windows-events`; found out where it is not said.
    format: Option<String>,
    /// Which column of a table is what (TOML, docs/formats/logs.md).
    mapping: Option<String>,
    /// The machine whose log it is, for logs that do not say so.
    host: Option<String>,
}

/// Audit a log: the body is the file, packed with gzip or zstd or not.
#[utoipa::path(post, path = "/audit/scan", operation_id = "scanLog", params(ScanQuery), request_body(content = String, content_type = "text/plain"), responses((status = 200, body = ScanResult)))]
pub(super) async fn scan(
    State(app): State<Arc<App>>,
    Administrator(caller): Administrator,
    Query(q): Query<ScanQuery>,
    body: Body,
) -> Result<Json<ScanResult>, Problem> {
    let zone = match &q.zone {
        Some(name) => TimeZone::get(name).map_err(|_| Problem::bad_request(format!("There is no time zone `{name}`.")))?,
        None => app.rules.now().policy.zone().clone(),
    };
    let clock = match q.year {
        Some(year) => LogClock::of_year(zone, year),
        None => LogClock::new(zone, Timestamp::now()),
    };
    let format = match (&q.mapping, &q.format) {
        (Some(text), _) => {
            let mapping = Mapping::parse(text).map_err(|e| Problem::bad_request(format!("The mapping: {e}")))?;
            Some(Format::Table(Arc::new(mapping)))
        }
        (None, Some(word)) => Some(Format::from_word(word).ok_or_else(|| Problem::bad_request(format!("There is no format `{word}`.")))?),
        (None, None) => None,
    };
    let (send, pieces) = mpsc::channel(PIECES);
    let mut stream = body.into_data_stream();
    let feed = async move {
        while let Some(piece) = stream.next().await {
            let bytes = piece.map_err(|_| Problem::bad_request("The log broke off while it was sent."))?;
            if send.send(bytes.to_vec()).await.is_err() {
                break;
            }
        }
        Ok::<(), Problem>(())
    };
    let cut = |text: String| text.chars().take(200).collect::<String>();
    let name = cut(q.name.unwrap_or_else(|| "log".into()));
    let incoming = Incoming { name, clock, format, host: q.host.map(cut), pieces };
    let judged = audit::scan(&app, &caller.person.name, incoming);
    let (fed, result) = tokio::join!(feed, judged);
    fed?;
    let mut result = result?;
    result.new += audit::look_again(&app).await?;
    Ok(Json(result))
}
