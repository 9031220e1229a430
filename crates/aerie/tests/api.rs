//! The API as a stranger, another site and each role meet it.

#![allow(clippy::unwrap_used, clippy::expect_used, clippy::panic, unreachable_pub, reason = "a test that cannot go on fails")]

mod common;

use aerie_client::{Client, ListQuery, SessionQuery};
use common::{client, until, world};
use reqwest::{Method, Response, StatusCode};
use serde_json::{Value, json};
use std::process::Stdio;

fn url(path: &str) -> String {
    format!("{}{path}", world().people.demo.api)
}

async fn call(method: Method, path: &str, headers: &[(&str, &str)], body: Option<Value>) -> Response {
    let mut request = common::http().request(method, url(path));
    for (name, value) in headers {
        request = request.header(*name, *value);
    }
    if let Some(body) = body {
        request = request.json(&body);
    }
    request.send().await.unwrap()
}

async fn sign_in(person: &str) -> Value {
    let code = world().people.codes.next(person).await;
    json!({ "person": person, "password": format!("{person} watches the sky"), "code": code })
}

async fn signed_in(person: &str) -> Client {
    let api = &world().people.demo.api;
    let code = world().people.codes.next(person).await;
    let me = Client::new(api, None).sign_in(person, &format!("{person} watches the sky"), &code).await.unwrap();
    Client::new(api, me.token)
}

/// The cookie of a browser that signed in.
async fn cookie(person: &str) -> String {
    let answer = call(Method::POST, "/api/v1/sign-in", &[("sec-fetch-site", "same-origin")], Some(sign_in(person).await)).await;
    assert_eq!(answer.status(), StatusCode::OK);
    answer.headers()["set-cookie"].to_str().unwrap().to_string()
}

fn paths() -> Vec<(Method, String)> {
    let document: Value = serde_json::from_str(&aerie_service::api::openapi()).unwrap();
    let mut found = vec![];
    for (path, calls) in document["paths"].as_object().unwrap() {
        for method in calls.as_object().unwrap().keys() {
            found.push((
                method.to_uppercase().parse().unwrap(),
                path.replace("{id}", "nothing")
                    .replace("{name}", "nobody")
                    .replace("{factor}", "code")
                    .replace("{fingerprint}", "none")
                    .replace("{code}", "none"),
            ));
        }
    }
    found
}

/// What answers strangers: how one comes in.
const OPEN: [&str; 11] = [
    // Whether it works, and with what clients recognise it: nothing secret.
    "/api/v1/health",
    "/api/v1/trust",
    "/api/v1/welcome",
    "/api/v1/sign-in",
    "/api/v1/invitations/",
    "/api/v1/confirmations/",
    "/api/v1/pins/enter",
    // People who want help have no account; whose visit it is is proved within.
    "/api/v1/help/",
    "/api/v1/visits/nothing/page",
    // The program that they start: it holds no secret, and can do nothing without the code of a visit.
    "/api/v1/visit-program",
    // Agents prove themselves within.
    "/api/v1/agents/connect",
];

#[tokio::test]
async fn without_signing_in_nothing_answers() {
    for (method, path) in paths() {
        if OPEN.iter().any(|open| path.starts_with(open)) {
            continue;
        }
        for token in [None, Some("Bearer wrong")] {
            let headers: Vec<_> = token.map(|t| ("authorization", t)).into_iter().collect();
            let answer = call(method.clone(), &path, &headers, Some(json!({}))).await;
            assert_eq!(answer.status(), StatusCode::UNAUTHORIZED, "{method} {path}");
            let problem: Value = answer.json().await.unwrap();
            assert_eq!(problem["type"], "/docs/errors#sign-in-first");
        }
    }
}

#[tokio::test]
async fn every_error_has_its_place_in_the_documentation() {
    let documented = std::fs::read_to_string(concat!(env!("CARGO_MANIFEST_DIR"), "/../../docs/errors.md")).unwrap();
    let token = format!("Bearer {}", world().people.demo.token);
    let table = [
        ("/api/v1/sessions?state=odd", 400),
        ("/api/v1/sessions?after=odd", 400),
        ("/api/v1/sessions/nothing", 404),
        ("/api/v1/recordings/nothing/frames", 404),
        ("/api/v1/findings/nothing", 404),
        ("/api/v1/why?person=ines&capability=fly&machine=m", 400),
        ("/api/v1/why?person=ines&capability=shell&machine=m&from=odd", 400),
        ("/api/v1/nothing", 404),
    ];
    for (path, status) in table {
        let answer = call(Method::GET, path, &[("authorization", &token)], None).await;
        assert_eq!(answer.status().as_u16(), status, "{path}");
        assert_eq!(answer.headers()["content-type"], "application/problem+json", "{path}");
        let problem: Value = answer.json().await.unwrap();
        let code = problem["type"].as_str().unwrap().rsplit('#').next().unwrap().to_string();
        assert!(documented.contains(&format!("| `{code}` | {status} |")), "{code}");
    }
}

#[tokio::test]
async fn pages_carry_a_strict_policy_and_nothing_is_cached() {
    let page = call(Method::GET, "/", &[], None).await;
    let policy = page.headers()["content-security-policy"].to_str().unwrap().to_string();
    for part in ["default-src 'none'", "script-src 'self'", "style-src 'self'", "frame-ancestors 'none'"] {
        assert!(policy.contains(part), "{policy}");
    }
    assert!(!policy.contains("unsafe"));
    assert_eq!(page.headers()["x-content-type-options"], "nosniff");
    let answer = call(Method::GET, "/api/v1/me", &[], None).await;
    assert_eq!(answer.headers()["cache-control"], "no-store");
    assert_eq!(call(Method::GET, "/assets/nothing.js", &[], None).await.status(), StatusCode::NOT_FOUND);
    assert_eq!(call(Method::GET, "/../../etc/passwd", &[], None).await.headers()["content-type"], "text/html; charset=utf-8");
}

#[tokio::test]
async fn a_cookie_is_no_use_to_another_site() {
    let set = cookie("lena").await;
    for part in ["__Host-aerie=", "Secure", "HttpOnly", "SameSite=Strict", "Path=/"] {
        assert!(set.contains(part), "{set}");
    }
    let cookie = set.split(';').next().unwrap();
    let reading = call(Method::GET, "/api/v1/me", &[("cookie", cookie)], None).await;
    assert_eq!(reading.status(), StatusCode::OK);
    for site in [None, Some("cross-site"), Some("same-site"), Some("none")] {
        let mut headers = vec![("cookie", cookie)];
        headers.extend(site.map(|s| ("sec-fetch-site", s)));
        let changing = call(Method::POST, "/api/v1/log/checkpoints", &headers, None).await;
        assert_eq!(changing.status(), StatusCode::FORBIDDEN, "{site:?}");
    }
    let own = [("cookie", cookie), ("sec-fetch-site", "same-origin")];
    assert_eq!(call(Method::POST, "/api/v1/log/checkpoints", &own, None).await.status(), StatusCode::OK);
    // The secret of a cookie is no token, and a token no cookie.
    let bearer = format!("Bearer {}", cookie.split_once('=').unwrap().1);
    assert_eq!(call(Method::GET, "/api/v1/me", &[("authorization", &bearer)], None).await.status(), StatusCode::UNAUTHORIZED);
    let token = format!("__Host-aerie={}", world().people.demo.token);
    assert_eq!(call(Method::GET, "/api/v1/me", &[("cookie", &token)], None).await.status(), StatusCode::UNAUTHORIZED);
    assert_eq!(call(Method::POST, "/api/v1/sign-out", &own, None).await.status(), StatusCode::NO_CONTENT);
    assert_eq!(call(Method::GET, "/api/v1/me", &[("cookie", cookie)], None).await.status(), StatusCode::UNAUTHORIZED);
}

#[tokio::test]
async fn another_site_cannot_sign_anybody_in() {
    let body = json!({ "person": "lena", "password": "x", "code": "x" });
    let answer = call(Method::POST, "/api/v1/sign-in", &[("sec-fetch-site", "cross-site")], Some(body)).await;
    assert_eq!(answer.status(), StatusCode::FORBIDDEN);
}

#[tokio::test]
async fn wrong_names_passwords_and_codes_get_one_answer() {
    let mut said = vec![];
    for (person, password, code) in [("nobody", "x", "1"), ("piet", "x", "1"), ("piet", "piet watches the sky", "000000")] {
        let body = json!({ "person": person, "password": password, "code": code });
        let answer = call(Method::POST, "/api/v1/sign-in", &[], Some(body)).await;
        said.push((answer.status(), answer.text().await.unwrap()));
    }
    assert!(said.iter().all(|s| *s == said[0]), "{said:?}");
    // Somebody whose account has ended is told the same, even with everything right.
    let ended = call(Method::POST, "/api/v1/sign-in", &[], Some(sign_in("noor").await)).await;
    assert_eq!((ended.status(), ended.text().await.unwrap()), said[0]);
}

#[tokio::test]
async fn guessing_is_braked_for_the_one_who_is_guessed_only() {
    let guess = json!({ "person": "jun", "password": "wrong", "code": "1" });
    let mut statuses = vec![];
    for _ in 0..7 {
        statuses.push(call(Method::POST, "/api/v1/sign-in", &[], Some(guess.clone())).await.status().as_u16());
    }
    assert_eq!(statuses[0], 401);
    assert_eq!(statuses[6], 429);
    let other = call(Method::POST, "/api/v1/sign-in", &[], Some(json!({ "person": "tomasz", "password": "x", "code": "1" }))).await;
    assert_eq!(other.status().as_u16(), 401);
}

#[tokio::test]
async fn bodies_have_limits() {
    let token = format!("Bearer {}", world().people.demo.token);
    let body = |n: usize| Some(json!({ "text": "#".repeat(n) }));
    let fits = call(Method::POST, "/api/v1/policy/check", &[("authorization", &token)], body(4 << 20)).await;
    assert_eq!(fits.status(), StatusCode::OK);
    let longer = call(Method::POST, "/api/v1/policy/check", &[("authorization", &token)], body((4 << 20) + 1)).await;
    assert_eq!(longer.json::<Value>().await.unwrap()["diagnostics"][0]["code"], "policy/too-long");
    let refused = call(Method::POST, "/api/v1/policy/check", &[("authorization", &token)], body(5 << 20)).await;
    assert_eq!(refused.status(), StatusCode::PAYLOAD_TOO_LARGE);
}

#[tokio::test]
async fn lists_are_paged_without_loss() {
    let all = client().sessions(&SessionQuery { limit: Some(500), ..SessionQuery::default() }).await.unwrap().items;
    let mut query = SessionQuery { limit: Some(17), ..SessionQuery::default() };
    let mut seen = vec![];
    loop {
        let page = client().sessions(&query).await.unwrap();
        seen.extend(page.items.into_iter().map(|s| s.id));
        query.after = page.next;
        if query.after.is_none() {
            break;
        }
    }
    assert!(all.len() > 50);
    assert_eq!(seen, all.into_iter().map(|s| s.id).collect::<Vec<_>>());
    let events = client().log(&ListQuery { limit: Some(3), ..ListQuery::default() }).await.unwrap();
    let older = client().log(&ListQuery { limit: Some(3), after: events.next, ..ListQuery::default() }).await.unwrap();
    assert_eq!(older.items[0].seq + 1, events.items[2].seq);
}

#[tokio::test]
async fn each_role_may_do_its_own_and_no_more() {
    let (auditor, technician) = (signed_in("greta").await, signed_in("sunniva").await);
    assert!(auditor.verify_log().await.unwrap().holds);
    assert!(!auditor.people(&Default::default()).await.unwrap().items.is_empty());
    assert_eq!(auditor.publish_policy("", None).await.unwrap_err().status(), Some(403));
    assert_eq!(auditor.end_session("x").await.unwrap_err().status(), Some(403));
    assert_eq!(auditor.checkpoint().await.unwrap_err().status(), Some(403));
    // A technician sees what is theirs: sessions, and the machines that the rules give them.
    let own = technician.sessions(&SessionQuery { person: Some("arlo".into()), ..SessionQuery::default() }).await.unwrap().items;
    assert!(!own.is_empty() && own.iter().all(|s| s.person == "sunniva"));
    let machines: Vec<String> = technician.machines(&Default::default()).await.unwrap().machines.into_iter().map(|m| m.name).collect();
    // Recent ones come first: she was there in the month before.
    let sorted: std::collections::BTreeSet<&str> = machines.iter().map(String::as_str).collect();
    assert_eq!(sorted, std::collections::BTreeSet::from(["archive-db", "comb-1", "coude-1", "guide-cam", "spectro-1"]));
    let others = client()
        .sessions(&SessionQuery { person: Some("arlo".into()), limit: Some(1), ..SessionQuery::default() })
        .await
        .unwrap()
        .items
        .remove(0);
    assert_eq!(technician.session(&others.id).await.unwrap_err().status(), Some(404));
    assert_eq!(technician.frames(&others.id).await.unwrap_err().status(), Some(404));
    assert_eq!(
        technician.log(&ListQuery { session: Some(others.id.clone()), ..ListQuery::default() }).await.unwrap_err().status(),
        Some(404)
    );
    assert!(!technician.frames(&own[0].id).await.unwrap().is_empty());
    // Reading is an event.
    let read = client()
        .log(&ListQuery { kind: Some("recording-read".into()), session: Some(own[0].id.clone()), ..ListQuery::default() })
        .await
        .unwrap();
    assert_eq!(read.items[0].actor, "sunniva");
}

#[tokio::test]
async fn live_views_are_told_of_changes_and_sessions_end_on_request() {
    let token = format!("Bearer {}", world().people.demo.token);
    let mut updates = call(Method::GET, "/api/v1/updates", &[("authorization", &token)], None).await;
    let mut ssh = world().people.command("ssh", "", &["-tt", "arlo+archive-db@aerie"]).stdin(Stdio::piped()).spawn().unwrap();
    let mut told = String::new();
    while !told.contains("data: sessions") {
        told += &String::from_utf8_lossy(&updates.chunk().await.unwrap().unwrap());
    }
    let query = SessionQuery { state: Some("live".into()), person: Some("arlo".into()), ..SessionQuery::default() };
    let live = until("a live session", async || client().sessions(&query).await.unwrap().items.into_iter().next()).await;
    assert!(live.sentence.starts_with("Arlo Whitfield"));
    assert!(live.ends_by.is_some());
    // What was shown so far can be watched while the session is live.
    until("frames of a live session", async || client().frames(&live.id).await.unwrap().iter().any(|f| f.data.is_some()).then_some(()))
        .await;
    client().end_session(&live.id).await.unwrap();
    let _ = ssh.wait().await;
    let ended = common::closed_session("arlo", "archive-db").await;
    assert_eq!(ended.end_reason.as_deref(), Some("because an administrator ended it"));
    assert_eq!(client().end_session(&live.id).await.unwrap_err().status(), Some(404));
}

#[test]
fn the_core_knows_no_runtime_database_or_socket() {
    let tree = std::process::Command::new(env!("CARGO"))
        .args(["tree", "--offline", "-e", "normal", "-p", "aerie-core", "--prefix", "none", "-f", "{p}"])
        .current_dir(concat!(env!("CARGO_MANIFEST_DIR"), "/../.."))
        .output()
        .unwrap();
    let text = String::from_utf8(tree.stdout).unwrap();
    assert!(text.contains("aerie-core"), "{}", String::from_utf8_lossy(&tree.stderr));
    for crate_name in ["tokio", "sqlx", "axum", "hyper", "russh", "mio", "reqwest", "aerie-store", "aerie-service"] {
        assert!(!text.lines().any(|l| l.starts_with(&format!("{crate_name} "))), "{crate_name}");
    }
}

/// Names of the test functions in a folder's Rust files.
fn functions(folder: &std::path::Path, into: &mut std::collections::HashSet<String>) {
    for entry in std::fs::read_dir(folder).unwrap() {
        let path = entry.unwrap().path();
        if path.is_dir() {
            functions(&path, into);
        } else if path.extension().is_some_and(|e| e == "rs") {
            let text = std::fs::read_to_string(&path).unwrap();
            into.extend(text.split("fn ").skip(1).filter_map(|t| t.split_once(['(', '<'])).map(|(name, _)| name.to_string()));
        }
    }
}

#[test]
fn every_test_that_a_security_claim_names_is_there() {
    let root = std::path::Path::new(concat!(env!("CARGO_MANIFEST_DIR"), "/../.."));
    let mut known = std::collections::HashSet::new();
    functions(&root.join("crates"), &mut known);
    for (document, least) in [("SECURITY.md", 30), ("docs/security/asvs.md", 40)] {
        let text = std::fs::read_to_string(root.join(document)).unwrap();
        // Between backticks; with several words, and an ellipsis where the rest is left out.
        let named: Vec<&str> = text
            .split('`')
            .skip(1)
            .step_by(2)
            .filter(|n| n.starts_with(|c: char| c.is_ascii_lowercase()) && n.matches('_').count() > 1)
            .collect();
        assert!(named.len() >= least, "{document} names {}", named.len());
        for name in named {
            let begin = name.rsplit("::").next().unwrap().trim_end_matches('…');
            assert!(known.iter().any(|f| if name.ends_with('…') { f.starts_with(begin) } else { f == begin }), "{document}: {name}");
        }
    }
}
