//! The HTTP API under `/api/v1`, and the console beside it.

mod accesses;
mod account;
mod again;
mod agents;
mod asking;
mod caller;
mod cases;
mod checks;
mod confirmations;
mod coverage;
mod desktop;
mod detections;
mod directory;
mod drafts;
mod effect;
mod evidence;
mod exports;
mod findings;
mod forward;
mod health;
mod kept;
mod listen;
mod live;
mod log;
mod machines;
mod now;
mod people;
mod pins;
mod problem;
mod program;
mod proposals;
mod reach;
mod recordings;
mod reports;
mod reviews;
mod rules;
mod scan;
mod sessions;
mod settings;
mod signing;
mod ssh_keys;
mod stop;
mod vault;
mod visit_files;
mod visited;
mod visits;
mod watch;

pub(crate) use health::Health;
pub(crate) use listen::listen;
pub(crate) use reviews::remind;
pub(crate) use ssh_keys::examine;

use crate::assets;
use crate::service::App;
use axum::extract::DefaultBodyLimit;
use axum::extract::Request;
use axum::http::{HeaderName, HeaderValue, header};
use axum::middleware::Next;
use axum::response::{IntoResponse as _, Response};
use axum::{Json, Router};
use futures_util::StreamExt as _;
use jiff::Timestamp;
use std::sync::Arc;
use tower_http::compression::CompressionLayer;
use tower_http::set_header::SetResponseHeaderLayer;
use tower_http::timeout::RequestBodyTimeoutLayer;
use utoipa::OpenApi;
use utoipa_axum::router::OpenApiRouter;
use utoipa_axum::routes;

/// Why somebody does not count as another person.
const TIED: &str = "You and the other count as one person for some days, since one of you made, invited or reset the other's account (setting `separation-days`): somebody else must do this.";

/// Longest body of a request, but for logs to be audited: a rule document may have 4 MiB.
const MAX_BODY: usize = 5 << 20;

/// Longest directory that is taken in: 10,000 people and 50,000 machines are about 20 MiB.
const MAX_DIRECTORY: usize = 64 << 20;

#[derive(OpenApi)]
#[openapi(
    info(
        title = "Aerie",
        version = env!("CARGO_PKG_VERSION"),
        license(name = "Apache-2.0", identifier = "Apache-2.0"),
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
    OpenApiRouter::new()
        .routes(routes!(health::health))
        .routes(routes!(proposals::list))
        .routes(routes!(proposals::agree))
        .routes(routes!(proposals::drop_proposal))
        .routes(routes!(health::trust))
        .routes(routes!(signing::welcome))
        .routes(routes!(signing::sign_in))
        .routes(routes!(signing::question))
        .routes(routes!(signing::by_passkey))
        .routes(routes!(signing::step_up_code))
        .routes(routes!(signing::step_up_question))
        .routes(routes!(signing::step_up_answer))
        .routes(routes!(signing::sign_out))
        .routes(routes!(signing::me))
        .routes(routes!(account::account))
        .routes(routes!(account::password))
        .routes(routes!(account::offer_code))
        .routes(routes!(account::enrol_code, account::remove_code))
        .routes(routes!(account::recovery_codes))
        .routes(routes!(account::passkey_question))
        .routes(routes!(account::enrol_passkey))
        .routes(routes!(account::name_passkey, account::remove_passkey))
        .routes(routes!(account::end_device))
        .routes(routes!(account::sign_out_elsewhere))
        .routes(routes!(account::make_token))
        .routes(routes!(ssh_keys::question))
        .routes(routes!(ssh_keys::register))
        .routes(routes!(ssh_keys::remove))
        .routes(routes!(people::open_invitation))
        .routes(routes!(people::take_invitation))
        .routes(routes!(confirmations::show))
        .routes(routes!(confirmations::question))
        .routes(routes!(confirmations::answer))
        .routes(routes!(confirmations::refuse))
        .routes(routes!(now::now))
        .routes(routes!(now::strips))
        .routes(routes!(sessions::list))
        .routes(routes!(sessions::show))
        .routes(routes!(sessions::end))
        .routes(routes!(recordings::frames))
        .routes(routes!(recordings::verify))
        .routes(routes!(recordings::text))
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
        .routes(routes!(people::people, people::add))
        .routes(routes!(people::person, people::change, people::remove))
        .routes(routes!(people::invite))
        .routes(routes!(people::temporary_code))
        .routes(routes!(people::take_factor))
        .routes(routes!(people::sign_out))
        .routes(routes!(ssh_keys::remove_of))
        .routes(routes!(pins::list, pins::issue))
        .routes(routes!(pins::withdraw))
        .routes(routes!(pins::enter))
        .routes(routes!(pins::set_standing, pins::remove_standing))
        .routes(routes!(settings::list))
        .routes(routes!(settings::changes))
        .routes(routes!(settings::change))
        .routes(routes!(settings::keys, settings::rotate))
        .routes(routes!(directory::export))
        .routes(routes!(live::updates))
        .merge(audit_routes())
        .merge(desktop_routes())
        .merge(machine_routes())
        .merge(asking_routes())
}

fn visit_routes() -> OpenApiRouter<Arc<App>> {
    OpenApiRouter::new()
        .routes(routes!(visits::queues))
        .routes(routes!(visits::list, visits::make))
        .routes(routes!(visits::show, visits::withdraw))
        .routes(routes!(visits::pick_up))
        .routes(routes!(visits::reassign))
        .routes(routes!(visits::add_note))
        .routes(routes!(visits::keep_picture))
        .routes(routes!(visits::picture))
        .routes(routes!(visits::close))
        .routes(routes!(visits::record))
        .routes(routes!(visited::help, visited::help_queue))
        .routes(routes!(visited::page))
        .routes(routes!(visited::screen))
        .routes(routes!(visited::shell))
        .routes(routes!(program::fetch))
}

fn desktop_routes() -> OpenApiRouter<Arc<App>> {
    OpenApiRouter::new()
        .routes(routes!(desktop::open))
        .routes(routes!(desktop::join))
        .routes(routes!(recordings::screen))
        .routes(routes!(recordings::picture))
        .routes(routes!(recordings::stretches))
        .routes(routes!(recordings::make_film, recordings::film))
        .routes(routes!(recordings::fetch_film))
        .merge(visit_routes())
}

fn audit_routes() -> OpenApiRouter<Arc<App>> {
    OpenApiRouter::new()
        .routes(routes!(accesses::list))
        .routes(routes!(accesses::show))
        .routes(routes!(accesses::report))
        .routes(routes!(exports::accesses_csv))
        .routes(routes!(exports::accesses_ndjson))
        .routes(routes!(exports::findings_csv))
        .routes(routes!(exports::findings_ndjson))
        .routes(routes!(findings::list))
        .routes(routes!(findings::show))
        .routes(routes!(cases::step))
        .routes(routes!(cases::suppressions, cases::suppress))
        .routes(routes!(cases::withdraw))
        .routes(routes!(detections::show, detections::publish))
        .routes(routes!(coverage::coverage))
        .routes(routes!(scan::position))
        .routes(routes!(evidence::export))
        .routes(routes!(again::again))
        .routes(routes!(reports::list, reports::add))
        .routes(routes!(reports::remove))
        .routes(routes!(reports::show))
}

fn machine_routes() -> OpenApiRouter<Arc<App>> {
    OpenApiRouter::new()
        .routes(routes!(machines::list, machines::add))
        .routes(routes!(machines::show, machines::change))
        .routes(routes!(machines::leave))
        .routes(routes!(machines::retired))
        .routes(routes!(machines::restore))
        .routes(routes!(machines::favourite, machines::no_favourite))
        .routes(routes!(agents::issue, agents::codes))
        .routes(routes!(agents::withdraw))
        .routes(routes!(agents::revoke))
        .routes(routes!(agents::relay))
        .routes(routes!(agents::accept))
        .routes(routes!(agents::connect))
        .routes(routes!(checks::one))
        .routes(routes!(checks::many))
        .routes(routes!(checks::trust))
        .routes(routes!(checks::host_key, checks::accept_host_key))
        .routes(routes!(checks::look))
        .routes(routes!(vault::list))
        .routes(routes!(vault::put, vault::remove))
        .routes(routes!(vault::change))
        .routes(routes!(vault::check_out))
        .routes(routes!(vault::history))
        .routes(routes!(forward::forward))
}

fn asking_routes() -> OpenApiRouter<Arc<App>> {
    OpenApiRouter::new()
        .routes(routes!(asking::list, asking::ask))
        .routes(routes!(asking::show))
        .routes(routes!(asking::answer))
        .routes(routes!(asking::withdraw))
        .routes(routes!(asking::passes))
        .routes(routes!(asking::withdraw_pass))
        .routes(routes!(asking::deputies, asking::set_deputy, asking::end_deputy))
        .routes(routes!(asking::notices))
        .routes(routes!(stop::stop))
        .routes(routes!(stop::lockdown, stop::lock_down))
        .routes(routes!(stop::lift))
        .routes(routes!(stop::extend))
        .routes(routes!(stop::review))
        .routes(routes!(watch::live))
        .routes(routes!(watch::invite))
        .routes(routes!(watch::dismiss))
        .routes(routes!(watch::keyboard))
        .routes(routes!(watch::typed))
        .routes(routes!(watch::size))
}

fn visit_files() -> OpenApiRouter<Arc<App>> {
    OpenApiRouter::new()
        .routes(routes!(visit_files::give_person))
        .routes(routes!(visit_files::take_person))
        .routes(routes!(visit_files::give_helper))
        .routes(routes!(visit_files::take_helper))
}

/// The OpenAPI 3.1 document of the API.
pub fn openapi() -> String {
    let all = routes().routes(routes!(scan::scan)).routes(routes!(directory::import)).merge(visit_files());
    let (_, api) = OpenApiRouter::with_openapi(Document::openapi()).nest("/api/v1", all).split_for_parts();
    api.to_pretty_json().unwrap_or_default() + "\n"
}

/// Only the console's own files; no framing, no foreign script, no inline anything.
const POLICY: &str = "default-src 'none'; script-src 'self'; style-src 'self'; img-src 'self' data:; font-src 'self'; connect-src 'self'; \
                      base-uri 'none'; form-action 'none'; frame-ancestors 'none'";

/// What the pages may ask the browser for: passkeys, and nothing else.
const PERMISSIONS: &str = "publickey-credentials-get=(self), publickey-credentials-create=(self), camera=(), microphone=(), geolocation=()";

/// How long a body may pause.
const BODY_PATIENCE: std::time::Duration = std::time::Duration::from_secs(20);

fn router(app: Arc<App>) -> Router {
    // Logs are streamed and never held whole: they alone may be of any length.
    let logs = OpenApiRouter::new().routes(routes!(scan::scan)).layer(DefaultBodyLimit::disable());
    let directory = OpenApiRouter::new().routes(routes!(directory::import)).layer(DefaultBodyLimit::max(MAX_DIRECTORY));
    let files = visit_files().layer(DefaultBodyLimit::max(visit_files::MAX_BODY));
    let calls = routes().layer(DefaultBodyLimit::max(MAX_BODY)).merge(logs).merge(directory).merge(files);
    let (api, document) = OpenApiRouter::with_openapi(Document::openapi()).nest("/api/v1", calls).split_for_parts();
    let fixed = |name: HeaderName, value: &'static str| SetResponseHeaderLayer::overriding(name, HeaderValue::from_static(value));
    api.route("/api/v1/openapi.json", axum::routing::get(|| async { Json(document) }))
        .route(
            "/api/{*rest}",
            axum::routing::any(|| async { problem::Problem::not_found("There is no such call; /api/v1/openapi.json lists them.") }),
        )
        .fallback(assets::serve)
        .layer(axum::middleware::from_fn(digest_signed))
        .layer(axum::middleware::from_fn(end_with_sign_in))
        // Somebody who sends a byte now and then must not hold a place for ever; answers that take long are not concerned.
        .layer(RequestBodyTimeoutLayer::new(BODY_PATIENCE))
        .layer(CompressionLayer::new())
        .layer(fixed(header::CONTENT_SECURITY_POLICY, POLICY))
        .layer(axum::middleware::map_response_with_state(app.clone(), insist_on_tls))
        .layer(fixed(HeaderName::from_static("permissions-policy"), PERMISSIONS))
        .layer(fixed(header::X_CONTENT_TYPE_OPTIONS, "nosniff"))
        .layer(fixed(header::REFERRER_POLICY, "no-referrer"))
        .layer(fixed(HeaderName::from_static("cross-origin-opener-policy"), "same-origin"))
        .layer(SetResponseHeaderLayer::if_not_present(header::CACHE_CONTROL, HeaderValue::from_static("no-store")))
        .with_state(app)
}

/// Tells browsers to come with TLS alone, where the console has a name of its own: on `localhost` this would concern every
/// other service of the machine.
async fn insist_on_tls(axum::extract::State(app): axum::extract::State<Arc<App>>, mut response: Response) -> Response {
    let settings = app.settings();
    let address = settings.text(aerie_core::settings::Setting::Address);
    if address.starts_with("https://") && !address.starts_with("https://localhost") {
        response.headers_mut().insert(header::STRICT_TRANSPORT_SECURITY, HeaderValue::from_static("max-age=63072000"));
    }
    response
}

/// The sign-in by which a call is made, once it was identified.
#[derive(Debug, Clone, Default)]
struct MadeBy(Arc<std::sync::OnceLock<tokio_util::sync::CancellationToken>>);

/// Ends what an answer goes on to carry (live views, downloads) with the sign-in by which it was asked for.
async fn end_with_sign_in(mut request: Request, next: Next) -> Response {
    use axum::body::HttpBody as _;
    let made_by = MadeBy::default();
    request.extensions_mut().insert(made_by.clone());
    let response = next.run(request).await;
    let Some(over) = made_by.0.get().cloned().filter(|_| response.body().size_hint().exact().is_none()) else { return response };
    let (parts, body) = response.into_parts();
    // An error and no end: half of a download must not look whole.
    let broken = over.clone();
    let rest = futures_util::stream::once(async move {
        broken.is_cancelled().then(|| Err(axum::Error::new(std::io::Error::other("the sign-in by which this was asked for is over"))))
    });
    let body = body.into_data_stream().take_until(over.cancelled_owned()).chain(rest.filter_map(std::future::ready));
    Response::from_parts(parts, axum::body::Body::from_stream(body))
}

/// The digest of a body, as it was read.
#[derive(Debug, Clone)]
struct BodyDigest(String);

/// Reads the body of a signed request, so that its digest can be held against what was signed. Others pass untouched.
async fn digest_signed(request: Request, next: Next) -> Response {
    let has_body = request.headers().contains_key(header::CONTENT_LENGTH) || request.headers().contains_key(header::TRANSFER_ENCODING);
    if !request.headers().contains_key("signature-input") || !has_body {
        return next.run(request).await;
    }
    let (mut parts, body) = request.into_parts();
    match axum::body::to_bytes(body, MAX_BODY).await {
        Ok(bytes) => {
            parts.extensions.insert(BodyDigest(aerie_core::factor::message::content_digest(&bytes)));
            next.run(Request::from_parts(parts, bytes.into())).await
        }
        Err(_) => problem::Problem::bad_request(format!("The body of a signed request has at most {MAX_BODY} bytes.")).into_response(),
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
