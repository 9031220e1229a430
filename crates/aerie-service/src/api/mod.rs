//! The HTTP API under `/api/v1`, and the console beside it.

mod caller;
mod directory;
mod drafts;
mod effect;
mod findings;
mod live;
mod log;
mod now;
mod problem;
mod reach;
mod recordings;
mod reviews;
mod rules;
mod scan;
mod sessions;
mod signing;

pub(crate) use reviews::remind;

use crate::assets;
use crate::service::App;
use axum::extract::DefaultBodyLimit;
use axum::http::{HeaderName, HeaderValue, header};
use axum::{Json, Router};
use jiff::Timestamp;
use std::sync::Arc;
use tokio::net::TcpListener;
use tower_http::compression::CompressionLayer;
use tower_http::set_header::SetResponseHeaderLayer;
use utoipa::OpenApi;
use utoipa_axum::router::OpenApiRouter;
use utoipa_axum::routes;

/// Longest body of a request, but for logs to be audited: a rule document may have 4 MiB.
const MAX_BODY: usize = 5 << 20;

/// Longest directory that is taken in: 10,000 people and 50,000 machines are about 20 MiB.
const MAX_DIRECTORY: usize = 64 << 20;

#[derive(OpenApi)]
#[openapi(
    info(
        title = "Aerie",
        description = "Decides who may reach which machines remotely, carries and records the session, and audits the logs."
    ),
    components(schemas(aerie_api::ProblemView, aerie_api::FrameView))
)]
struct Document;

/// The number in If-Match, where the header is there.
fn version_of(headers: &axum::http::HeaderMap) -> Result<Option<i64>, problem::Problem> {
    let Some(tag) = headers.get(header::IF_MATCH) else { return Ok(None) };
    let number = tag.to_str().ok().and_then(|t| t.trim_matches('"').parse().ok());
    number.map(Some).ok_or_else(|| problem::Problem::bad_request("If-Match is not an ETag of this service."))
}

/// A new identifier: seconds since the epoch and chance, in lower-case base 32, so that identifiers sort by time.
pub(crate) fn new_id(now: Timestamp) -> String {
    const DIGITS: &[u8; 32] = b"0123456789abcdefghjkmnpqrstvwxyz";
    let chance = crate::keys::random::<8>().map(u64::from_le_bytes).unwrap_or_default();
    let seconds = u64::try_from(now.as_second()).unwrap_or(0);
    // 35 bits of time last until the year 3058; 25 bits of chance.
    let mut n = (seconds & ((1 << 35) - 1)) << 25 | (chance & ((1 << 25) - 1));
    let mut text = [b'0'; 12];
    for place in text.iter_mut().rev() {
        *place = DIGITS.get((n & 31) as usize).copied().unwrap_or(b'0');
        n >>= 5;
    }
    String::from_utf8_lossy(&text).into_owned()
}

fn routes() -> OpenApiRouter<Arc<App>> {
    OpenApiRouter::with_openapi(Document::openapi())
        .routes(routes!(signing::sign_in))
        .routes(routes!(signing::sign_out))
        .routes(routes!(signing::me))
        .routes(routes!(now::now))
        .routes(routes!(now::strips))
        .routes(routes!(sessions::list))
        .routes(routes!(sessions::show))
        .routes(routes!(sessions::end))
        .routes(routes!(recordings::frames))
        .routes(routes!(recordings::verify))
        .routes(routes!(recordings::text))
        .routes(routes!(findings::list))
        .routes(routes!(findings::show))
        .routes(routes!(log::list))
        .routes(routes!(log::verify))
        .routes(routes!(log::checkpoints, log::checkpoint))
        .routes(routes!(rules::policy, rules::publish))
        .routes(routes!(rules::check))
        .routes(routes!(rules::read))
        .routes(routes!(rules::edit))
        .routes(routes!(rules::versions))
        .routes(routes!(rules::version))
        .routes(routes!(rules::restore))
        .routes(routes!(effect::effect))
        .routes(routes!(effect::rule_use))
        .routes(routes!(drafts::list, drafts::begin))
        .routes(routes!(drafts::show, drafts::change, drafts::drop_draft))
        .routes(routes!(drafts::agree))
        .routes(routes!(drafts::publish))
        .routes(routes!(reach::reach))
        .routes(routes!(reach::csv))
        .routes(routes!(reach::matrix))
        .routes(routes!(reviews::list, reviews::begin))
        .routes(routes!(reviews::show))
        .routes(routes!(reviews::decide))
        .routes(routes!(reviews::close))
        .routes(routes!(rules::why))
        .routes(routes!(directory::machines))
        .routes(routes!(directory::people))
        .routes(routes!(directory::export))
        .routes(routes!(live::updates))
}

/// The OpenAPI 3.1 document of the API.
pub fn openapi() -> String {
    let all = routes().routes(routes!(scan::scan)).routes(routes!(directory::import));
    let (_, api) = OpenApiRouter::new().nest("/api/v1", all).split_for_parts();
    api.to_pretty_json().unwrap_or_default() + "\n"
}

/// Only the console's own files; no framing, no foreign script, no inline anything.
const POLICY: &str = "default-src 'none'; script-src 'self'; style-src 'self'; img-src 'self' data:; font-src 'self'; connect-src 'self'; \
                      base-uri 'none'; form-action 'none'; frame-ancestors 'none'";

fn router(app: Arc<App>) -> Router {
    // Logs are streamed and never held whole: they alone may be of any length.
    let logs = OpenApiRouter::new().routes(routes!(scan::scan)).layer(DefaultBodyLimit::disable());
    let directory = OpenApiRouter::new().routes(routes!(directory::import)).layer(DefaultBodyLimit::max(MAX_DIRECTORY));
    let calls = routes().layer(DefaultBodyLimit::max(MAX_BODY)).merge(logs).merge(directory);
    let (api, document) = OpenApiRouter::new().nest("/api/v1", calls).split_for_parts();
    let fixed = |name: HeaderName, value: &'static str| SetResponseHeaderLayer::overriding(name, HeaderValue::from_static(value));
    api.route("/api/v1/openapi.json", axum::routing::get(|| async { Json(document) }))
        .route("/api/v1/health", axum::routing::get(|| async { "ok\n" }))
        .route(
            "/api/{*rest}",
            axum::routing::any(|| async { problem::Problem::not_found("There is no such call; /api/v1/openapi.json lists them.") }),
        )
        .fallback(assets::serve)
        .layer(CompressionLayer::new())
        .layer(fixed(header::CONTENT_SECURITY_POLICY, POLICY))
        .layer(fixed(header::X_CONTENT_TYPE_OPTIONS, "nosniff"))
        .layer(fixed(header::REFERRER_POLICY, "no-referrer"))
        .layer(fixed(HeaderName::from_static("cross-origin-opener-policy"), "same-origin"))
        .layer(SetResponseHeaderLayer::if_not_present(header::CACHE_CONTROL, HeaderValue::from_static("no-store")))
        .with_state(app)
}

/// Serves until the service stops.
pub(crate) async fn listen(app: Arc<App>, listener: TcpListener) {
    let stopping = app.stopping.clone();
    let served = axum::serve(listener, router(app).into_make_service_with_connect_info::<std::net::SocketAddr>());
    if let Err(e) = served.with_graceful_shutdown(async move { stopping.cancelled().await }).await {
        tracing::error!(error = %e, "the console stopped");
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn identifiers_sort_by_time() {
        let at = |s| Timestamp::from_second(s).unwrap();
        let (a, b) = (new_id(at(1_780_000_000)), new_id(at(1_780_000_001)));
        assert!(a < b);
        assert_eq!(a.len(), 12);
        assert_ne!(new_id(at(5)), new_id(at(5)));
    }

    #[test]
    fn the_committed_description_of_the_api_is_current() {
        let path = std::path::Path::new(env!("CARGO_MANIFEST_DIR")).join("../../docs/openapi.json");
        if std::env::var_os("AERIE_WRITE_OPENAPI").is_some() {
            std::fs::write(&path, openapi()).unwrap();
        }
        assert!(std::fs::read_to_string(path).unwrap() == openapi(), "run `make api`");
    }

    #[test]
    fn every_call_says_what_it_does() {
        let document: serde_json::Value = serde_json::from_str(&openapi()).unwrap();
        let mut ids = std::collections::BTreeSet::new();
        for (path, calls) in document["paths"].as_object().unwrap() {
            for (method, call) in calls.as_object().unwrap() {
                assert!(call["summary"].as_str().is_some_and(|s| !s.is_empty()), "{method} {path}");
                assert!(ids.insert(call["operationId"].as_str().unwrap().to_string()), "{method} {path}");
            }
        }
        assert!(ids.len() > 20);
    }
}
