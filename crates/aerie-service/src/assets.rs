//! The console, built into the binary.

use axum::body::Body;
use axum::http::{HeaderValue, StatusCode, Uri, header};
use axum::response::{IntoResponse as _, Response};

#[derive(rust_embed::RustEmbed)]
#[folder = "../../console/dist"]
#[allow_missing = true]
struct Assets;

const NOT_BUILT: &str = "The console was not built into this binary: run `make console`, then build again.\n";

/// First parts of the addresses of the console's pages (console/src/router.ts).
const PAGES: [&str; 26] = [
    "",
    "sign-in",
    "welcome",
    "confirm",
    "visit",
    "help",
    "visits",
    "account",
    "people",
    "machines",
    "sessions",
    "pins",
    "settings",
    "requests",
    "coverage",
    "detections",
    "suppressions",
    "reports",
    "accesses",
    "watch",
    "rules",
    "reach",
    "reviews",
    "findings",
    "log",
    "index.html",
];

/// A file of the console, or the console itself, which finds the page. What is neither is not found: whoever asks for `/metrics` or a page
/// that is no more is told so by the status, too.
pub(crate) async fn serve(uri: Uri) -> Response {
    let path = uri.path().trim_start_matches('/');
    let known = PAGES.contains(&path.split('/').next().unwrap_or_default());
    let (name, file) = match Assets::get(path) {
        Some(file) => (path, file),
        None if path.starts_with("assets/") => return StatusCode::NOT_FOUND.into_response(),
        None => match Assets::get("index.html") {
            Some(index) => ("index.html", index),
            None => return (StatusCode::NOT_FOUND, NOT_BUILT).into_response(),
        },
    };
    let kind = match name.rsplit('.').next() {
        Some("html") => "text/html; charset=utf-8",
        Some("js") => "text/javascript; charset=utf-8",
        Some("css") => "text/css; charset=utf-8",
        Some("svg") => "image/svg+xml",
        Some("woff2") => "font/woff2",
        _ => "application/octet-stream",
    };
    // Names of assets carry a hash of their content.
    let cache = if name.starts_with("assets/") { "public, max-age=31536000, immutable" } else { "no-cache" };
    let mut response = Response::new(Body::from(file.data.into_owned()));
    if name == "index.html" && !known {
        *response.status_mut() = StatusCode::NOT_FOUND;
    }
    response.headers_mut().insert(header::CONTENT_TYPE, HeaderValue::from_static(kind));
    response.headers_mut().insert(header::CACHE_CONTROL, HeaderValue::from_static(cache));
    response
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn every_page_of_the_console_is_known_and_nothing_else_is() {
        let router = include_str!("../../../console/src/router.ts");
        let paths: Vec<&str> = router.split("path: \"/").skip(1).filter_map(|p| p.split('"').next()).collect();
        assert!(paths.len() > 30);
        for path in paths.iter().filter(|p| !p.starts_with(":rest")) {
            assert!(PAGES.contains(&path.split('/').next().unwrap()), "{path}");
        }
        for page in PAGES.iter().filter(|p| **p != "index.html") {
            assert!(paths.iter().any(|p| p.split('/').next() == Some(page)), "{page}");
        }
    }

    #[tokio::test]
    async fn what_is_no_page_is_not_found() {
        for (path, found) in [("/", true), ("/machines/dome-east", true), ("/metrics", false), ("/health", false), ("/robots.txt", false)] {
            let status = serve(path.parse().unwrap()).await.status();
            assert_eq!(status == StatusCode::OK, found && Assets::get("index.html").is_some(), "{path}");
        }
    }
}
