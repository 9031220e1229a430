use super::caller::Administrator;
use super::problem::Problem;
use crate::audit::{self, From, Incoming};
use crate::service::App;
use aerie_api::{LogPositionView, ScanResult};
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
    /// SHA-256 of its first 512 bytes, in hexadecimal: how far it was read is remembered under it.
    head: Option<String>,
    /// The body begins at this byte of it, which begins a line; 0 where it is not said. Needs `head`.
    offset: Option<u64>,
}

/// Which log.
#[derive(Deserialize, IntoParams)]
#[into_params(parameter_in = Query)]
pub(super) struct PositionQuery {
    /// SHA-256 of its first 512 bytes, in hexadecimal.
    head: String,
    /// What it is called now.
    name: String,
    /// How many bytes it has now.
    size: u64,
}

/// How far a log was read that begins so. One that is shorter than what was read of it was cut, which becomes a finding.
#[utoipa::path(get, path = "/audit/position", operation_id = "logPosition", params(PositionQuery), responses((status = 200, body = LogPositionView)))]
pub(super) async fn position(
    State(app): State<Arc<App>>,
    _: Administrator,
    Query(q): Query<PositionQuery>,
) -> Result<Json<LogPositionView>, Problem> {
    let known = app.store.log_position(&q.head).await?;
    if let Some(position) = known.as_ref().filter(|p| p.offset > q.size) {
        audit::cut(&app, position, &q.name.chars().take(200).collect::<String>(), q.size).await?;
        return Ok(Json(LogPositionView { offset: 0, read_at: None }));
    }
    Ok(Json(LogPositionView { offset: known.as_ref().map_or(0, |p| p.offset), read_at: known.map(|p| p.read_at) }))
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
    let from = match q.head {
        Some(head) => Some(from(&app, head, q.offset.unwrap_or(0)).await?),
        None if q.offset.is_some() => return Err(Problem::bad_request("`offset` needs `head`.")),
        None => None,
    };
    let incoming = Incoming { name, clock, format, host: q.host.map(cut), from, pieces };
    let judged = audit::scan(&app, &caller.person.name, incoming);
    let (fed, result) = tokio::join!(feed, judged);
    fed?;
    let mut result = result?;
    result.new += audit::look_again(&app).await?;
    Ok(Json(result))
}

/// Where a log is read on: at its beginning, or where it was read to.
async fn from(app: &App, head: String, offset: u64) -> Result<From, Problem> {
    if head.len() != 64 || !head.bytes().all(|b| b.is_ascii_hexdigit()) {
        return Err(Problem::bad_request("`head` is a SHA-256 in hexadecimal."));
    }
    if offset == 0 {
        return Ok(From { head, offset, lines: 0 });
    }
    let known = app.store.log_position(&head).await?.filter(|p| p.offset == offset);
    let position = known.ok_or_else(|| Problem::conflict("That log was read to another place in between."))?;
    Ok(From { head, offset, lines: position.lines })
}
