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
const OPEN: [&str; 6] = [
    "/api/v1/welcome",
    "/api/v1/sign-in",
    "/api/v1/invitations/",
    "/api/v1/confirmations/",
    "/api/v1/pins/enter",
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

#[tokio::test]
async fn who_was_where_is_listed_counted_and_exported_whoever_says_so() {
    use aerie_api::AccessQuery;
    let admin = client();
    let planted = AccessQuery { through: Some("around".into()), person: Some("amara".into()), ..AccessQuery::default() };
    let around = admin.accesses(&planted).await.unwrap().items;
    assert_eq!(around.len(), 3, "{around:#?}");
    assert!(around.iter().all(|a| a.session.is_none() && a.machine == "spectro-1" && a.sentence.ends_with("around Aerie.")));
    let shown = admin.access(&around[0].id).await.unwrap();
    // Where it begins and where it ends, with what proves that the line is the one of the file.
    assert_eq!(shown.lines.len(), 2);
    assert!(shown.lines[0].text.contains("Accepted publickey") && shown.lines[0].digest.len() == 64);
    let report = admin.access_report(&AccessQuery::default(), "person").await.unwrap();
    let amara = report.totals.iter().find(|t| t.name == "amara").unwrap();
    assert_eq!((amara.around, amara.shown.as_str()), (3, "Amara Lindqvist"));
    assert_eq!(report.count, report.totals.iter().map(|t| t.count).sum::<u64>());
    assert_eq!(report.count, report.spans.iter().map(|s| s.count).sum::<u64>());
    // A session is one access, however many logs show it, and the machine's lines are its evidence.
    let through =
        AccessQuery { through: Some("aerie".into()), machine: Some("dome-east".into()), limit: Some(1), ..AccessQuery::default() };
    let session = admin.accesses(&through).await.unwrap().items.remove(0);
    assert_eq!(session.session.as_deref(), Some(session.id.as_str()));
    assert!(admin.access(&session.id).await.unwrap().lines[0].text.contains(&session.id));
    let csv = admin.accesses_csv(&planted).await.unwrap();
    assert_eq!(csv.lines().count(), 4);
    assert!(csv.starts_with("began,ended,seconds,person") && csv.contains(",amara,Amara Lindqvist,spectro-1,operator,10.20.9.60,"));
    // Pages go on without gap or repetition.
    let (mut seen, mut after) = (std::collections::BTreeSet::new(), None);
    loop {
        let page = admin.accesses(&AccessQuery { after: after.clone(), limit: Some(40), ..AccessQuery::default() }).await.unwrap();
        assert!(page.items.iter().all(|a| seen.insert(a.id.clone())));
        after = page.next;
        if after.is_none() {
            break;
        }
    }
    assert!(seen.len() as u64 >= report.count);
}

#[tokio::test]
async fn any_log_is_taken_packed_or_not_and_read_twice_changes_nothing() {
    use aerie_api::AccessQuery;
    use aerie_client::ScanQuery;
    let admin = client();
    let log = "[20261020-22:00:05] [INFO ] ++ created session (access granted): username tomasz, ip ::ffff:198.51.100.7:5004 - socket: 12\n\
               [20261020-22:30:05] [INFO ] ++ terminated session:  username tomasz, display :10.0, session_pid 1234, ip ::ffff:198.51.100.7:5004\n";
    let packed = zstd::encode_all(log.as_bytes(), 3).unwrap();
    let query =
        ScanQuery { name: Some("sesman.log.zst".into()), zone: Some("UTC".into()), host: Some("dome-west".into()), ..ScanQuery::default() };
    for _ in 0..2 {
        let result = admin.scan(&query, std::io::Cursor::new(packed.clone())).await.unwrap();
        assert_eq!((result.accesses, result.format.as_str()), (1, "lines"));
    }
    let find = AccessQuery { q: Some("198.51.100.7".into()), ..AccessQuery::default() };
    let found = admin.accesses(&find).await.unwrap().items;
    assert_eq!(found.len(), 1);
    assert_eq!((found[0].service.as_str(), found[0].person.as_deref(), found[0].seconds), ("rdp", Some("tomasz"), Some(1800)));
    // One that breaks off keeps what was read, and says so.
    let text: String = (0..4000)
        .map(|n| format!("Nov 23 08:20:50 dome-west sshd[{n}]: Failed password for root from 198.51.100.9 port 7 ssh2\n"))
        .collect();
    let packed = zstd::encode_all(text.as_bytes(), 1).unwrap();
    let broken = packed[..packed.len() - 10].to_vec();
    let result = admin.scan(&ScanQuery { name: Some("broken.zst".into()), ..query.clone() }, std::io::Cursor::new(broken)).await.unwrap();
    assert!(result.sentence.contains("broke off"), "{}", result.sentence);
    let mapping = "format = \"csv\"\nservice = \"vnc\"\n[columns]\ntime = \"t\"\naccount = \"who\"\n";
    let table = ScanQuery { mapping: Some(mapping.into()), ..query.clone() };
    let result = admin.scan(&table, std::io::Cursor::new("t,who\n2026-10-20T01:00:00Z,jun\nrubbish,\n")).await.unwrap();
    assert_eq!((result.accesses, result.unclear, result.format.as_str()), (1, 1, "table"));
    let wrong = ScanQuery { mapping: Some("format = 7".into()), ..query };
    assert!(admin.scan(&wrong, std::io::Cursor::new("")).await.is_err());
}

#[tokio::test]
async fn a_finding_is_taken_on_settled_and_comes_back_when_it_happens_again() {
    use aerie_api::FindingStep;
    use aerie_client::{FindingQuery, ScanQuery};
    let (admin, auditor) = (client(), signed_in("greta").await);
    let line = |minute: u32| {
        format!("Oct 20 03:{minute:02}:00 dome-west sshd[9]: Accepted password for operator from 198.51.100.80 port 5{minute:03} ssh2\n")
    };
    let scan = async |log: String| {
        let query = ScanQuery { name: Some("case.log".into()), zone: Some("UTC".into()), year: Some(2026), ..ScanQuery::default() };
        admin.scan(&query, std::io::Cursor::new(log)).await.unwrap()
    };
    let id = scan(line(1)).await.findings.iter().find(|f| f.kind == "around-gateway").unwrap().id.clone();
    let step = |word: &str| FindingStep { step: word.into(), ..FindingStep::default() };
    let because = |word: &str, why: &str| FindingStep { why: Some(why.into()), ..step(word) };
    assert_eq!(auditor.work_on_finding(&id, &step("acknowledge")).await.unwrap_err().status(), Some(403));
    admin.work_on_finding(&id, &step("acknowledge")).await.unwrap();
    let given = admin.work_on_finding(&id, &FindingStep { owner: Some("tove".into()), ..step("assign") }).await.unwrap();
    assert_eq!((given.state.as_str(), given.owner.as_deref(), given.history.len()), ("acknowledged", Some("tove"), 2));
    for refused in
        [step("resolve"), because("accept", "x"), step("dance"), FindingStep { owner: Some("nobody-here".into()), ..step("assign") }]
    {
        assert_eq!(admin.work_on_finding(&id, &refused).await.unwrap_err().status(), Some(400), "{refused:?}");
    }
    let resolved = admin.work_on_finding(&id, &because("resolve", "the password is gone")).await.unwrap();
    assert_eq!((resolved.state.as_str(), resolved.settled.unwrap().why.as_str()), ("resolved", "the password is gone"));
    let mine = |state: &str| FindingQuery { state: Some(state.into()), owner: Some("tove".into()), ..FindingQuery::default() };
    assert!(auditor.findings(&mine("settled")).await.unwrap().items.iter().any(|f| f.id == id));
    assert!(auditor.findings(&FindingQuery { state: Some("strange".into()), ..FindingQuery::default() }).await.is_err());
    // The same log again is nothing new; a later line is.
    scan(line(1)).await;
    assert_eq!(auditor.finding(&id).await.unwrap().state, "resolved");
    scan(line(1) + &line(2)).await;
    let again = auditor.finding(&id).await.unwrap();
    assert_eq!((again.state.as_str(), again.count, again.owner.as_deref()), ("open", 2, Some("tove")));
    assert_eq!(again.history.last().unwrap().sentence, "It happened again and is open.");
    let accepted =
        FindingStep { until: Some(jiff::Timestamp::now() + jiff::SignedDuration::from_hours(48)), ..because("accept", "until Monday") };
    assert_eq!(admin.work_on_finding(&id, &accepted).await.unwrap().state, "accepted");
    scan(line(1) + &line(2) + &line(3)).await;
    let still = auditor.finding(&id).await.unwrap();
    assert_eq!((still.state.as_str(), still.count), ("accepted", 3));
    // Every step is in the log.
    let logged = admin.log(&ListQuery { kind: Some("finding-changed".into()), q: Some(id.clone()), ..ListQuery::default() }).await.unwrap();
    assert_eq!(logged.items.len(), 4);
}

#[tokio::test]
async fn what_is_suppressed_does_not_come_up_until_it_is_withdrawn() {
    use aerie_api::NewSuppression;
    use aerie_client::{FindingQuery, ScanQuery};
    let admin = client();
    let until = jiff::Timestamp::now() + jiff::SignedDuration::from_hours(24);
    let whole = NewSuppression { kind: "around-gateway".into(), until, why: "noise".into(), ..NewSuppression::default() };
    assert_eq!(admin.suppress(&whole).await.unwrap_err().status(), Some(400));
    let narrow = NewSuppression { source: Some("198.51.100.81".into()), ..whole };
    let made = admin.suppress(&narrow).await.unwrap();
    assert!(made.sentence.starts_with("around-gateway of address 198.51.100.81 does not come up until "), "{}", made.sentence);
    let log = "Oct 21 03:00:00 dome-west sshd[9]: Accepted password for operator from 198.51.100.81 port 5001 ssh2\n";
    let query = ScanQuery { name: Some("quiet.log".into()), zone: Some("UTC".into()), year: Some(2026), ..ScanQuery::default() };
    let found = async || {
        admin.scan(&query, std::io::Cursor::new(log)).await.unwrap();
        let kept = FindingQuery { q: Some("198.51.100.81".into()), kind: Some("around-gateway".into()), ..FindingQuery::default() };
        admin.findings(&kept).await.unwrap().items.len()
    };
    assert_eq!(found().await, 0);
    let hits = admin.suppressions().await.unwrap().into_iter().find(|s| s.id == made.id).unwrap();
    assert_eq!((hits.hits, hits.in_force), (1, true));
    admin.withdraw_suppression(&made.id).await.unwrap();
    assert_eq!(admin.withdraw_suppression(&made.id).await.unwrap_err().status(), Some(404));
    assert_eq!(found().await, 1);
}

#[tokio::test]
async fn detections_are_published_only_when_their_tests_hold() {
    use aerie_api::NewDetections;
    let admin = client();
    let before = admin.detections().await.unwrap();
    let new = |text: String, after| NewDetections { text, why: "a test".into(), after };
    let broken = before.text.replace("finds = 0", "finds = 3");
    for bad in [broken, "[[detection]]\nname = 7".into(), "x".repeat(300_000)] {
        assert_eq!(admin.publish_detections(&new(bad, before.version)).await.unwrap_err().status(), Some(400));
    }
    let after = admin.publish_detections(&new(before.text.clone(), before.version)).await.unwrap();
    assert_eq!((after.version, after.by.as_str()), (before.version + 1, "lena"));
    assert_eq!(admin.publish_detections(&new(before.text.clone(), before.version)).await.unwrap_err().status(), Some(412));
    assert!(after.detections.iter().any(|d| d.name == "guessed" && d.importance == "critical" && d.form == "sequence"));
}

#[tokio::test]
async fn coverage_says_for_which_days_there_is_evidence() {
    let admin = client();
    let c = admin.coverage(20, None).await.unwrap();
    assert_eq!(c.days.len(), 20);
    let of = |name: &str| c.machines.iter().find(|m| m.machine == name).unwrap();
    // The demo's logs of these two have lines on every day; nobody ever read a log of the chiller.
    assert!(of("archive-db").covered >= 18 && of("archive-db").sessions.iter().sum::<u64>() >= 15, "{:?}", of("archive-db"));
    assert_eq!((of("chiller-2").covered, of("chiller-2").registered), (0, true));
    assert!(c.sentence.contains("no log of"), "{}", c.sentence);
    assert_eq!(admin.coverage(401, None).await.unwrap().days.len(), 400);
}
