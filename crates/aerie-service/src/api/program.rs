//! The program for a visit, for computers that nobody manages: handed out to whoever asks, and started by a line from the page of a visit.

use super::problem::Problem;
use crate::service::App;
use crate::visits::Meeting;
use aerie_core::evidence::hex;
use aerie_core::tunnel::greeting::EnrolmentCode;
use axum::body::Body;
use axum::extract::{ConnectInfo, State};
use axum::http::header;
use axum::response::{IntoResponse as _, Response};
use futures_util::StreamExt as _;
use std::net::SocketAddr;
use std::path::PathBuf;
use std::sync::{Arc, OnceLock};
use tokio_util::io::ReaderStream;

/// What it is called beside the service's own program.
const NAME: &str = "aerie-agent";

/// Where it lies: beside the service's own program.
fn place() -> Option<&'static PathBuf> {
    static PLACE: OnceLock<Option<PathBuf>> = OnceLock::new();
    PLACE
        .get_or_init(|| {
            let own = std::env::current_exe().ok()?;
            // Programs of tests lie in a folder below.
            own.ancestors().skip(1).take(2).map(|dir| dir.join(NAME)).find(|p| p.is_file())
        })
        .as_ref()
}

/// Whether it can be started: agents can come, and there is a program to hand out.
pub(super) fn is_offered(app: &App) -> bool {
    app.tls().is_some() && app.tls_address().is_some() && place().is_some()
}

/// The line for a terminal that fetches the program, runs it for this visit, and removes it. What it fetches comes from a service with the very
/// key of this one (`--pinnedpubkey`), and the code goes through a pipe: nobody reads it from the list of processes.
pub(super) fn line(app: &App, meeting: &Meeting) -> Option<String> {
    if !is_offered(app) {
        return None;
    }
    let (server, pin) = (app.tls_address()?, app.tls_pin()?);
    let key = app.keys.agent_keys().first().map(|k| hex(k.verifying_key().as_bytes()))?;
    let code = EnrolmentCode::new("visit", &server, crate::keys::random().ok()?, &key)?;
    meeting.give_line(app.keys.token_hash(&format!("program {}", code.secret)));
    Some(format!(
        "d=$(mktemp -d) && curl -fsSk --pinnedpubkey 'sha256//{pin}' https://{server}/api/v1/visit-program -o \"$d/{NAME}\" && \
         chmod 700 \"$d/{NAME}\" && echo '{}' | \"$d/{NAME}\" visit; rm -rf \"$d\"",
        code.text()
    ))
}

/// The program for a visit, for computers of the service's own kind (Linux, the same processor).
#[utoipa::path(get, path = "/visit-program", operation_id = "visitProgram", responses((status = 200, description = "The program", content_type = "application/octet-stream"), (status = 404), (status = 503)))]
pub(super) async fn fetch(State(app): State<Arc<App>>, ConnectInfo(from): ConnectInfo<SocketAddr>) -> Result<Response, Problem> {
    let missing = || Problem::not_found("This service hands out no program.");
    let file = tokio::fs::File::open(place().ok_or_else(missing)?).await.map_err(|_| missing())?;
    let length = file.metadata().await.map_err(|_| missing())?.len();
    // Given back when the last byte is out, or whoever fetches it is gone.
    let held = app.visits.fetching.enter(from.ip().to_canonical()).ok_or_else(Problem::busy)?;
    let pieces = ReaderStream::with_capacity(file, 64 << 10).map(move |piece| {
        let _ = &held;
        piece
    });
    let head = [(header::CONTENT_TYPE, "application/octet-stream".to_string()), (header::CONTENT_LENGTH, length.to_string())];
    Ok((head, Body::from_stream(pieces)).into_response())
}
