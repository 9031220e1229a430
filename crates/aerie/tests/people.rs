//! How people are proved, as they and their attackers meet it: over the API, with the client, with real keys and at the gateway.

#![allow(clippy::unwrap_used, clippy::expect_used, clippy::panic, unreachable_pub, reason = "a test that cannot go on fails")]

mod common;

use aerie_api::{GivenPin, InvitationTaken, NewApiToken, NewPerson, NewPin, PeopleQuery, PersonChange, Rotation, ScopeView, SettingValue};
use aerie_client::{Client, RequestKey};
use aerie_core::factor::TotpSecret;
use common::{AERIE, client, http, until, world};
use jiff::Timestamp;
use reqwest::{Method, Response, StatusCode};
use serde_json::{Value, json};
use std::collections::{BTreeMap, BTreeSet};
use std::io::{Read as _, Write as _};
use std::process::{Command, Stdio};
use std::time::Duration;

const PASSWORD: &str = "seven grey herons at dawn";

fn url(path: &str) -> String {
    format!("{}{path}", world().people.demo.api)
}

async fn call(method: Method, path: &str, headers: &[(&str, &str)], body: Option<Value>) -> Response {
    let mut request = http().request(method, url(path));
    for (name, value) in headers {
        request = request.header(*name, *value);
    }
    if let Some(body) = body {
        request = request.json(&body);
    }
    request.send().await.unwrap()
}

async fn code_of(answer: Response) -> (u16, String) {
    let status = answer.status().as_u16();
    let problem: Value = answer.json().await.unwrap_or_default();
    (status, problem["type"].as_str().unwrap_or_default().rsplit('#').next().unwrap_or_default().to_string())
}

/// What the API says of a refused call.
fn refused<T>(answer: Result<T, aerie_client::ClientError>) -> String {
    match answer.err().expect("it was allowed") {
        aerie_client::ClientError::Problem(p) => p.kind.rsplit('#').next().unwrap_or_default().to_string(),
        other => panic!("{other}"),
    }
}

fn anonymous() -> Client {
    Client::new(&world().people.demo.api, None)
}

fn as_who(token: &str) -> Client {
    anonymous().with_token(token)
}

/// Somebody new, with roles and groups, who took an invitation and enrolled for codes: their client and their secret.
/// Tove, who agrees to what Lena proposes.
async fn another_administrator() -> Client {
    let code = world().people.codes.next("tove").await;
    as_who(anonymous().sign_in("tove", "tove watches the sky", &code).await.unwrap().token.as_deref().unwrap())
}

/// Changes a setting to which a second administrator must agree.
async fn change_guarded(setting: &str, value: &str) {
    let value = SettingValue { value: value.into(), why: "the consortium signs for its people".into() };
    let waits = client().change_setting(setting, &value).await.unwrap().proposal.unwrap();
    another_administrator().await.agree_to_proposal(&waits.id).await.unwrap();
}

async fn newcomer(name: &str, change: PersonChange) -> (Client, TotpSecret) {
    let admin = client();
    admin.add_person(&NewPerson { name: name.into(), with: change, invite: false }).await.unwrap();
    let link = admin.invite(name).await.unwrap().link;
    let secret = link.split_once('#').unwrap().1.to_string();
    let taken = InvitationTaken { secret: secret.clone(), password: PASSWORD.into(), person: None, full_name: None, token: true };
    let me = anonymous().take_invitation(&taken).await.unwrap();
    assert_eq!(me.stage, "enrolling");
    // The link is used up, and until a second factor is enrolled nothing else is possible.
    assert_eq!(refused(anonymous().take_invitation(&taken).await), "not-found");
    let client = as_who(me.token.as_deref().unwrap());
    assert_eq!(refused(client.machines(&Default::default()).await), "enrol-first");
    assert_eq!(refused(client.make_recovery_codes().await), "enrol-first");
    let question = client.key_question().await.unwrap();
    let key =
        aerie_api::NewSshKey { public: String::new(), label: "x".into(), expires: None, text: question.text, signature: String::new() };
    assert_eq!(refused(client.register_key(&key).await), "enrol-first");
    assert_eq!(
        refused(client.make_token(&NewApiToken { name: "x".into(), scopes: vec!["read".into()], days: 1, key: None }).await),
        "enrol-first"
    );
    let offer = client.offer_code().await.unwrap();
    let totp = TotpSecret::from_base32(&offer.secret).unwrap();
    // Nobody brings a secret of their own, which others may know.
    let own = TotpSecret::from_bytes([7; 20]);
    let brought = aerie_api::CodeProof { secret: own.to_base32(), code: own.code_at(Timestamp::now()) };
    assert_eq!(refused(client.enrol_code(&brought).await), "not-good");
    let me = client.enrol_code(&aerie_api::CodeProof { secret: offer.secret, code: totp.code_at(Timestamp::now()) }).await.unwrap();
    assert_eq!(me.stage, "full");
    // The token from before the proof is worth nothing after it.
    assert_eq!(refused(client.me().await), "sign-in-first");
    (as_who(me.token.as_deref().unwrap()), totp)
}

fn with_roles(roles: &[&str]) -> PersonChange {
    PersonChange { roles: Some(roles.iter().map(ToString::to_string).collect()), ..PersonChange::default() }
}

/// A technician who helps with visits.
fn helper() -> PersonChange {
    PersonChange { groups: Some(vec!["service-desk".into()]), ..with_roles(&["technician"]) }
}

/// Every call of the API with whether it changes something, with arguments that name nothing.
fn calls() -> Vec<(Method, String, String)> {
    let document: Value = serde_json::from_str(&aerie_service::api::openapi()).unwrap();
    let mut found = vec![];
    for (path, calls) in document["paths"].as_object().unwrap() {
        for (method, call) in calls.as_object().unwrap() {
            let filled = ["id", "name", "factor", "fingerprint", "code", "n"]
                .into_iter()
                .fold(path.clone(), |p, part| p.replace(&format!("{{{part}}}"), if part == "n" { "1" } else { "nothing" }));
            found.push((method.to_uppercase().parse().unwrap(), filled, call["operationId"].as_str().unwrap().to_string()));
        }
    }
    found
}

/// What each role may be told that it is not allowed, by the words of the calls: a call that is on none of the lists of a role
/// must be refused to it, and one that is must not.
fn allowed(role: &str) -> BTreeSet<&'static str> {
    const ALL: &[&str] = &[
        "me",
        "account",
        "changePassword",
        "offerCode",
        "enrolCode",
        "removeCode",
        "makeRecoveryCodes",
        "enrolmentQuestion",
        "enrolPasskey",
        "namePasskey",
        "removePasskey",
        "endDevice",
        "signOutElsewhere",
        "makeToken",
        "keyQuestion",
        "registerKey",
        "removeKey",
        "signOut",
        "stepUpWithCode",
        "stepUpQuestion",
        "stepUpAnswer",
        "machines",
        "machine",
        "favourMachine",
        "unfavourMachine",
        "connectAgent",
        "sessions",
        "session",
        "reviews",
        "review",
        "decideEntry",
        "reach",
        "reachCsv",
        "why",
        "pins",
        "withdrawPin",
        "updates",
        "recordingFrames",
        "verifyRecording",
        "recordingText",
        "person",
        "health",
        "trust",
        "welcome",
        "signIn",
        "signInQuestion",
        "signInAnswer",
        "openInvitation",
        "takeInvitation",
        "confirmation",
        "confirmationQuestion",
        "confirm",
        "refuseConfirmation",
        "enterPin",
        "requests",
        "ask",
        "request",
        "answer",
        "withdrawRequest",
        "passes",
        "withdrawPass",
        "deputies",
        "setDeputy",
        "endDeputy",
        "lockdown",
        "watchLive",
        "inviteGuest",
        "dismissGuest",
        "keyboard",
        "type",
        "extendSession",
        "reviewFinding",
        "watchDesktop",
        "recordedScreen",
        "recordedPicture",
        "recordedStretches",
        "makeFilm",
        "film",
        "fetchFilm",
        "queues",
        "visits",
        "visit",
        "withdrawVisit",
        "pickUpVisit",
        "reassignVisit",
        "noteVisit",
        "keepVisitPicture",
        "visitPicture",
        "closeVisit",
        "visitRecord",
        "askForHelp",
        "helpQueue",
        "visitPage",
        "visitProgram",
        "visitScreen",
    ];
    const DIRECTORY: &[&str] = &["people", "reachMatrix"];
    const RULES: &[&str] = &[
        "policy",
        "checkPolicy",
        "readPolicy",
        "editPolicy",
        "policyVersions",
        "policyVersion",
        "policyEffect",
        "policyUse",
        "drafts",
        "draft",
    ];
    const DRAFTS: &[&str] = &["beginDraft", "changeDraft", "dropDraft", "agreeToDraft", "publishDraft"];
    const EVERYTHING: &[&str] = &[
        "now",
        "strips",
        "findings",
        "accesses",
        "access",
        "accessReport",
        "accessesCsv",
        "accessesNdjson",
        "findingsCsv",
        "findingsNdjson",
        "finding",
        "suppressions",
        "detections",
        "coverage",
        "exportEvidence",
        "judgeAgain",
        "reports",
        "addReport",
        "removeReport",
        "report",
        "log",
        "verifyLog",
        "checkpoints",
        "directory",
        "settings",
        "settingChanges",
        "serviceKeys",
        "vault",
        "credentialHistory",
        "notices",
        "proposals",
    ];
    let lists: &[&[&str]] = match role {
        // Where no rule lets them help, they issue no PINs either.
        "technician" | "none" => &[ALL],
        "approver" => &[ALL, DIRECTORY],
        "policy-author" => &[ALL, DIRECTORY, RULES, DRAFTS],
        "auditor" => &[ALL, DIRECTORY, RULES, EVERYTHING],
        _ => panic!("{role}"),
    };
    lists.iter().flat_map(|l| l.iter().copied()).collect()
}

#[tokio::test]
async fn each_role_is_refused_every_call_that_is_not_its_own() {
    let administrators_only: BTreeSet<String> = calls()
        .into_iter()
        .map(|(_, _, id)| id)
        .filter(|id| !["technician", "approver", "policy-author", "auditor"].iter().any(|r| allowed(r).contains(id.as_str())))
        .collect();
    for id in [
        "addPerson",
        "changePerson",
        "removePerson",
        "invite",
        "giveTemporaryCode",
        "takeFactor",
        "removeKeyOf",
        "signOutPerson",
        "changeSetting",
        "rotateServiceKey",
        "setMachinePin",
        "addMachine",
        "changeMachine",
        "retireMachine",
        "restoreMachine",
        "issueCode",
        "codes",
        "withdrawCode",
        "revokeAgent",
        "setRelay",
        "checkMachine",
        "checkMachines",
        "hostKey",
        "acceptHostKey",
        "discover",
        "putCredential",
        "removeCredential",
        "rotateCredential",
        "importDirectory",
        "publishPolicy",
        "makeCheckpoint",
        "scanLog",
        "logPosition",
        "workOnFinding",
        "suppress",
        "withdrawSuppression",
        "publishDetections",
        "agreeToProposal",
        "dropProposal",
        "acceptAgents",
    ] {
        assert!(administrators_only.contains(id), "{id}: {administrators_only:?}");
    }
    for role in ["technician", "approver", "policy-author", "auditor", "none"] {
        let roles: Vec<&str> = [role].into_iter().filter(|r| *r != "none").collect();
        let (client, _) = newcomer(&format!("walk-{role}"), with_roles(&roles)).await;
        let made = NewApiToken { name: "walk".into(), scopes: vec!["read".into()], days: 1, key: None };
        let reading = client.make_token(&made).await.unwrap().secret;
        let allowed = allowed(role);
        for (method, path, id) in calls() {
            // These would sign the walker out.
            if ["signOut", "signOutElsewhere"].contains(&id.as_str()) {
                continue;
            }
            let mut request = http().request(method.clone(), url(&path)).bearer_auth(client.token().unwrap());
            if method != Method::GET {
                request = request.header("if-match", "\"0\"").json(&json!({}));
            }
            let answer = request.send().await.unwrap();
            let (status, code) = if id == "updates" { (answer.status().as_u16(), String::new()) } else { code_of(answer).await };
            if allowed.contains(id.as_str()) {
                assert!(code != "not-allowed" || ["confirm"].contains(&id.as_str()), "{role} may {id} ({status})");
            } else {
                // What cannot be read is refused before anybody asks who it is from: nothing is done either way.
                assert!([403, 404, 412, 415, 422, 400].contains(&status), "{role} {id}: {status} {code}");
                let body = status == 422 || status == 400;
                assert!(
                    code == "not-allowed" || code == "not-found" || (body && method != Method::GET),
                    "{role} {method} {path}: {status} {code}"
                );
            }
            // A token for reading changes nothing, whatever its owner may.
            if method != Method::GET
                && !["welcome", "signIn", "signInQuestion", "signInAnswer", "openInvitation", "takeInvitation", "enterPin"]
                    .contains(&id.as_str())
                && !path.contains("/confirmations/")
            {
                let answer = http()
                    .request(method.clone(), url(&path))
                    .bearer_auth(&reading)
                    .header("if-match", "\"0\"")
                    .json(&json!({}))
                    .send()
                    .await
                    .unwrap();
                assert!(!answer.status().is_success(), "{role} {method} {path} with a token for reading: {}", answer.status());
            }
        }
    }
}

#[tokio::test]
async fn nobody_raises_their_own_rights_and_the_last_administrator_stays() {
    let (second, _) = newcomer("rights-admin", with_roles(&["administrator"])).await;
    let change = async |c: PersonChange| refused(second.change_person("rights-admin", &c).await);
    assert_eq!(change(with_roles(&["administrator", "approver"])).await, "own-rights");
    assert_eq!(change(PersonChange { groups: Some(vec!["archivists".into()]), ..PersonChange::default() }).await, "own-rights");
    assert_eq!(change(PersonChange { organisation: Some("Elsewhere".into()), ..PersonChange::default() }).await, "own-rights");
    assert_eq!(refused(second.remove_person("rights-admin").await), "own-rights");
    assert_eq!(refused(second.invite("rights-admin").await), "own-rights");
    // Nor by way of a file with the whole directory.
    let mut file = serde_json::to_value(second.directory().await.unwrap()).unwrap();
    let own = file["people"].as_array_mut().unwrap().iter_mut().find(|p| p["name"] == "rights-admin").unwrap();
    own["groups"] = json!(["archivists"]);
    let import = aerie_api::DirectoryImport { format: "json".into(), text: file.to_string(), dry_run: true };
    assert_eq!(refused(second.import_directory(&import).await), "own-rights");
    // What is no gain may be done, and others may be given what they need.
    second.change_person("rights-admin", &PersonChange { full_name: Some("Rhea Aldous".into()), ..PersonChange::default() }).await.unwrap();
    // One with a scope stays in it, and gives no roles.
    let scope = BTreeMap::from([("administrator".to_string(), ScopeView { people: "organisation:Bright*".into(), machines: "*".into() })]);
    let (scoped, _) = newcomer("rights-scoped", PersonChange { scopes: Some(scope), ..with_roles(&["administrator"]) }).await;
    assert_eq!(refused(scoped.person("ines").await), "not-found");
    assert_eq!(refused(scoped.change_person("piet", &with_roles(&["technician", "auditor"])).await), "not-allowed");
    assert_eq!(
        refused(scoped.change_person("rights-scoped", &PersonChange { scopes: Some(BTreeMap::new()), ..PersonChange::default() }).await),
        "not-found"
    );
    assert_eq!(refused(scoped.settings().await), "not-allowed");
    scoped.change_person("piet", &PersonChange { full_name: Some("Piet Hallsworth".into()), ..PersonChange::default() }).await.unwrap();
    // All administrators but one can be suspended.
    second.change_person("tove", &PersonChange { suspended: Some(true), ..PersonChange::default() }).await.unwrap();
    second.change_person("lena", &with_roles(&[])).await.unwrap();
    assert_eq!(refused(second.change_person("rights-admin", &with_roles(&[])).await), "not-good");
    second.change_person("lena", &with_roles(&["administrator"])).await.unwrap();
    second.change_person("tove", &PersonChange { suspended: Some(false), ..PersonChange::default() }).await.unwrap();
}

#[tokio::test]
async fn whoever_is_suspended_or_removed_is_out_at_once_and_a_name_is_not_given_again() {
    let admin = client();
    let (them, totp) = newcomer("leaver", with_roles(&["technician"])).await;
    let token = them.make_token(&NewApiToken { name: "t".into(), scopes: vec!["read".into()], days: 1, key: None }).await.unwrap().secret;
    assert!(as_who(&token).machines(&Default::default()).await.is_ok());
    admin.change_person("leaver", &PersonChange { suspended: Some(true), ..PersonChange::default() }).await.unwrap();
    assert_eq!(refused(them.me().await), "sign-in-first");
    assert_eq!(refused(as_who(&token).machines(&Default::default()).await), "sign-in-first");
    let next = totp.code_at(Timestamp::now() + jiff::SignedDuration::from_secs(30));
    assert_eq!(refused(anonymous().sign_in("leaver", PASSWORD, &next).await), "sign-in-failed");
    admin.remove_person("leaver").await.unwrap();
    assert_eq!(refused(admin.person("leaver").await), "not-found");
    let again = NewPerson { name: "leaver".into(), ..NewPerson::default() };
    assert_eq!(refused(admin.add_person(&again).await), "exists");
    // What they did stays in the log.
    let query = aerie_client::ListQuery { q: Some("leaver".into()), ..Default::default() };
    assert!(!admin.log(&query).await.unwrap().items.is_empty());
}

#[tokio::test]
async fn whether_somebody_exists_is_told_by_neither_words_nor_time() {
    let body = |person: &str| json!({ "person": person, "password": "not it, surely", "code": "000000" });
    let mut took: BTreeMap<bool, Vec<Duration>> = BTreeMap::new();
    for round in 0..4 {
        for (exists, name) in [(true, "amara".to_string()), (false, format!("nobody-{round}"))] {
            let began = std::time::Instant::now();
            let answer = call(Method::POST, "/api/v1/sign-in", &[], Some(body(&name))).await;
            took.entry(exists).or_default().push(began.elapsed());
            assert_eq!(code_of(answer).await, (401, "sign-in-failed".into()));
        }
    }
    // Both were hashed: a name that is not there is not answered in a fraction of the time. Medians, so that one pause is nothing.
    let median = |exists: bool| {
        let mut all = took[&exists].clone();
        all.sort();
        all[all.len() / 2]
    };
    assert!(median(false) * 3 > median(true), "{took:?}");
}

#[tokio::test]
async fn tokens_in_cookies_are_replaced_and_die_with_signing_out() {
    let set = |answer: &Response| -> Vec<String> {
        answer.headers().get_all("set-cookie").iter().map(|c| c.to_str().unwrap().split(';').next().unwrap().to_string()).collect()
    };
    let own = |cookies: &[String]| cookies.iter().find(|c| c.starts_with("__Host-aerie=")).unwrap().clone();
    let site = ("sec-fetch-site", "same-origin");
    // A cookie that somebody planted beforehand is not taken over.
    let body = json!({ "person": "sunniva", "password": "sunniva watches the sky" });
    let half = call(Method::POST, "/api/v1/sign-in", &[site, ("cookie", "__Host-aerie=planted-by-somebody")], Some(body)).await;
    assert_eq!(half.status(), StatusCode::OK);
    let first = own(&set(&half));
    assert_ne!(first, "__Host-aerie=planted-by-somebody");
    assert_eq!(half.json::<Value>().await.unwrap()["stage"], "proving");
    // With the password alone nothing can be read.
    assert_eq!(code_of(call(Method::GET, "/api/v1/sessions", &[("cookie", &first)], None).await).await, (401, "sign-in-first".into()));
    let code = world().people.codes.next("sunniva").await;
    let full = call(Method::POST, "/api/v1/step-up/code", &[site, ("cookie", &first)], Some(json!({ "code": code }))).await;
    assert_eq!(full.status(), StatusCode::OK);
    let second = own(&set(&full));
    assert_ne!(first, second);
    assert_eq!(call(Method::GET, "/api/v1/me", &[("cookie", &first)], None).await.status(), StatusCode::UNAUTHORIZED);
    assert_eq!(call(Method::GET, "/api/v1/sessions", &[("cookie", &second)], None).await.status(), StatusCode::OK);
    // As a bearer token a cookie is worth nothing.
    let bearer = second.replace("__Host-aerie=", "Bearer ");
    assert_eq!(call(Method::GET, "/api/v1/me", &[("authorization", &bearer)], None).await.status(), StatusCode::UNAUTHORIZED);
    let out = call(Method::POST, "/api/v1/sign-out", &[site, ("cookie", &second)], None).await;
    assert_eq!(out.status(), StatusCode::NO_CONTENT);
    assert_eq!(call(Method::GET, "/api/v1/me", &[("cookie", &second)], None).await.status(), StatusCode::UNAUTHORIZED);
}

#[tokio::test]
async fn one_stolen_list_of_passwords_is_stopped_at_its_place() {
    // A service of its own: its brake would keep the other tests waiting.
    let service = Small::start();
    let mut waits = 0;
    for i in 0..75 {
        let body = json!({ "person": format!("p{i}"), "password": "autumn rain 2026" });
        let answer = http().post(format!("{}/api/v1/sign-in", service.address)).json(&body).send().await.unwrap();
        waits += usize::from(code_of(answer).await == (429, "too-many-tries".into()));
    }
    assert_eq!(waits, 15);
}

#[tokio::test]
async fn a_token_is_for_what_it_says_and_a_bound_one_needs_its_key_each_time() {
    let (them, _) = newcomer("tokens", with_roles(&["auditor"])).await;
    let directory = tempfile::tempdir().unwrap();
    let file = directory.path().join("key");
    keygen(&["-t", "ed25519"], &file);
    let public = std::fs::read_to_string(file.with_extension("pub")).unwrap();
    let new = |scopes: &[&str], key: Option<String>| NewApiToken {
        name: "program".into(),
        scopes: scopes.iter().map(ToString::to_string).collect(),
        days: 1,
        key,
    };
    assert_eq!(refused(them.make_token(&new(&["everything"], None)).await), "not-good");
    assert_eq!(refused(them.make_token(&NewApiToken { days: 4000, ..new(&["read"], None) }).await), "not-good");
    let bound = them.make_token(&new(&["read"], Some(public))).await.unwrap();
    assert!(bound.token.key.is_some());
    // The token alone, as a log would have it.
    assert_eq!(refused(as_who(&bound.secret).now().await), "not-signed");
    let text = std::fs::read_to_string(&file).unwrap();
    let key =
        || RequestKey::from_seed(&russh::keys::decode_secret_key(&text, None).unwrap().key_data().ed25519().unwrap().private.to_bytes());
    let signing = as_who(&bound.secret).with_key(key());
    assert!(signing.now().await.is_ok());
    assert!(signing.people(&PeopleQuery { q: Some("ines".into()), ..PeopleQuery::default() }).await.is_ok());
    assert_eq!(refused(as_who(&bound.secret).with_key(RequestKey::from_seed(&[1; 32])).now().await), "not-signed");
    // A signature for reading is none for another call, and the scope holds as well.
    assert_eq!(refused(signing.end_session("x").await), "not-allowed");
    // The same request a second time is a replay, even with everything right.
    let mut request = http().get(url("/api/v1/now")).bearer_auth(&bound.secret).build().unwrap();
    key().sign(&mut request);
    let again = request.try_clone().unwrap();
    assert_eq!(http().execute(request).await.unwrap().status(), StatusCode::OK);
    assert_eq!(code_of(http().execute(again).await.unwrap()).await, (401, "not-signed".into()));
    // Another body under the same signature.
    let mut request = http().post(url("/api/v1/policy/check")).bearer_auth(&bound.secret).json(&json!({ "text": "" })).build().unwrap();
    key().sign(&mut request);
    *request.body_mut() = Some("{\"text\": \"x\"}".into());
    assert_eq!(code_of(http().execute(request).await.unwrap()).await, (401, "not-signed".into()));
    // Withdrawn, it is dead at once.
    them.end_device(&bound.token.id).await.unwrap();
    assert_eq!(refused(signing.now().await), "sign-in-first");
}

fn keygen(arguments: &[&str], file: &std::path::Path) {
    let made = Command::new("ssh-keygen").args(["-q", "-N", "", "-C", "desk"]).args(arguments).arg("-f").arg(file).status().unwrap();
    assert!(made.success(), "{arguments:?}");
}

/// The command line as somebody with a token.
fn run(client: &Client, arguments: &[&str]) -> (Option<i32>, String) {
    let o = Command::new(AERIE)
        .args(arguments)
        .env("AERIE_SERVER", &world().people.demo.api)
        .env("AERIE_TOKEN", client.token().unwrap())
        .stdin(Stdio::null())
        .output()
        .unwrap();
    (o.status.code(), String::from_utf8_lossy(&o.stdout).into_owned() + &String::from_utf8_lossy(&o.stderr))
}

fn ssh(key: &std::path::Path, login: &str, extra: &[&str]) -> (Option<i32>, String) {
    let d = &world().people.demo.ssh;
    let o = Command::new("ssh")
        .args(["-F", "/dev/null", "-o", "IdentitiesOnly=yes", "-o", "BatchMode=yes", "-o", "StrictHostKeyChecking=yes", "-o"])
        .arg(format!("UserKnownHostsFile={}", d.known_hosts))
        .arg("-i")
        .arg(key)
        .args(["-p", &d.port.to_string()])
        .args(extra)
        .arg(format!("{login}@127.0.0.1"))
        .arg("hostname")
        .stdin(Stdio::null())
        .output()
        .unwrap();
    (o.status.code(), String::from_utf8_lossy(&o.stdout).into_owned() + &String::from_utf8_lossy(&o.stderr))
}

#[tokio::test]
async fn ssh_keys_are_registered_with_proof_rotated_and_refused_where_they_are_weak() {
    let archivist = PersonChange { groups: Some(vec!["archivists".into()]), ..with_roles(&["technician"]) };
    let (them, _) = newcomer("keyholder", archivist).await;
    let directory = tempfile::tempdir().unwrap();
    let at = |name: &str| directory.path().join(name);
    for (name, kind, said) in
        [("short", &["-t", "rsa", "-b", "2048"][..], "2048 bits is too short"), ("dsa", &["-t", "dsa"][..], "DSA keys are too weak")]
    {
        keygen(kind, &at(name));
        let (status, text) = run(&them, &["keys", "add", at(name).to_str().unwrap()]);
        assert_eq!(status, Some(5), "{text}");
        assert!(text.contains(said), "{text}");
    }
    keygen(&["-t", "ed25519"], &at("old"));
    let (status, text) = run(&them, &["keys", "add", at("old").to_str().unwrap(), "--label", "desk"]);
    assert_eq!(status, Some(0), "{text}");
    assert_eq!(run(&them, &["keys", "add", at("old").to_str().unwrap()]).0, Some(5));
    let (status, text) = ssh(&at("old"), "keyholder+archive-db", &[]);
    assert_eq!((status, text.trim()), (Some(77), "aerie: No rule lets you run commands on archive-db."), "{text}");
    // Somebody else's key is theirs alone, and whoever tries to share it becomes a finding.
    let (other, _) = newcomer("key-borrower", with_roles(&["technician"])).await;
    assert_eq!(run(&other, &["keys", "add", at("old").to_str().unwrap()]).0, Some(5));
    let findings =
        client().findings(&aerie_client::FindingQuery { kind: Some("shared-key".into()), ..Default::default() }).await.unwrap().items;
    assert!(findings.iter().any(|f| f.sentence.contains("keyholder") && f.sentence.contains("key-borrower")));
    // A signature over something else, or by another key, registers nothing.
    let question = other.key_question().await.unwrap();
    keygen(&["-t", "ed25519"], &at("mine"));
    let signature = sign(&at("mine"), &question.namespace, "something else");
    let public = std::fs::read_to_string(at("mine.pub")).unwrap();
    let key = aerie_api::NewSshKey { public, label: "x".into(), expires: None, text: question.text.clone(), signature };
    assert_eq!(refused(other.register_key(&key).await), "not-good");
    let stolen = aerie_api::NewSshKey { text: them.key_question().await.unwrap().text, ..key };
    assert_eq!(refused(other.register_key(&stolen).await), "not-good");
    // Rotation: add the new one, use it, and the old one is to go.
    keygen(&["-t", "ecdsa", "-b", "256"], &at("new"));
    assert_eq!(run(&them, &["keys", "add", at("new").to_str().unwrap(), "--label", "desk"]).0, Some(0));
    assert!(!run(&them, &["keys", "list"]).1.contains("remove:"));
    ssh(&at("new"), "keyholder+archive-db", &[]);
    let (_, listed) = run(&them, &["keys", "list"]);
    assert!(listed.contains("remove: the newer key `desk` is used in its place"), "{listed}");
    let old = fingerprint(&at("old.pub"));
    assert_eq!(run(&them, &["keys", "remove", &old]).0, Some(0));
    let (status, text) = ssh(&at("old"), "keyholder+archive-db", &[]);
    assert_eq!(status, Some(255), "{text}");
    assert!(text.contains("Permission denied"), "{text}");
    // A key whose last day is over, and one that is known to others, open nothing.
    let (status, text) = run(&them, &["keys", "add", at("mine").to_str().unwrap(), "--expires", "2020-01-01"]);
    assert_eq!(status, Some(5), "{text}");
    let known = SettingValue { value: fingerprint(&at("new.pub")), why: "it was on a lost laptop".into() };
    client().change_setting("known-keys", &known).await.unwrap();
    assert_eq!(ssh(&at("new"), "keyholder+archive-db", &[]).0, Some(255));
    client().change_setting("known-keys", &SettingValue { value: String::new(), why: "it was found".into() }).await.unwrap();
    assert_eq!(ssh(&at("new"), "keyholder+archive-db", &[]).0, Some(77));
}

fn fingerprint(public: &std::path::Path) -> String {
    let o = Command::new("ssh-keygen").arg("-lf").arg(public).output().unwrap();
    String::from_utf8_lossy(&o.stdout).split_whitespace().nth(1).unwrap().to_string()
}

fn sign(key: &std::path::Path, namespace: &str, text: &str) -> String {
    let mut child = Command::new("ssh-keygen")
        .args(["-q", "-Y", "sign", "-n", namespace, "-f"])
        .arg(key)
        .stdin(Stdio::piped())
        .stdout(Stdio::piped())
        .spawn()
        .unwrap();
    child.stdin.take().unwrap().write_all(text.as_bytes()).unwrap();
    String::from_utf8(child.wait_with_output().unwrap().stdout).unwrap()
}

#[tokio::test]
async fn certificates_of_a_trusted_authority_are_taken_for_their_person_and_nothing_else() {
    newcomer("certified", PersonChange { groups: Some(vec!["archivists".into()]), ..with_roles(&["technician"]) }).await;
    let directory = tempfile::tempdir().unwrap();
    let at = |name: &str| directory.path().join(name);
    for name in ["ca", "other-ca", "key"] {
        keygen(&["-t", "ed25519"], &at(name));
    }
    let certify = |ca: &str, options: &[&str]| {
        let _ = std::fs::remove_file(at("key-cert.pub"));
        let made = Command::new("ssh-keygen")
            .args(["-q", "-s"])
            .arg(at(ca))
            .args(["-I", "test"])
            .args(options)
            .arg(at("key.pub"))
            .status()
            .unwrap();
        assert!(made.success());
        ssh(&at("key"), "certified+archive-db", &[]).0
    };
    // Signed in, though no rule gives a command there.
    let (good, refused) = (Some(77), Some(255));
    // Nobody trusts it yet.
    assert_eq!(certify("ca", &["-n", "certified", "-V", "+5m"]), refused);
    let ca = std::fs::read_to_string(at("ca.pub")).unwrap();
    // For members of other groups it vouches for nobody here.
    change_guarded("user-authorities", &format!("night-operators {ca}")).await;
    assert_eq!(certify("ca", &["-n", "certified", "-V", "+5m"]), refused);
    change_guarded("user-authorities", &format!("night-operators,archivists {ca}")).await;
    assert_eq!(certify("ca", &["-n", "certified", "-V", "+5m"]), good);
    for (ca, options) in [
        ("other-ca", &["-n", "certified", "-V", "+5m"][..]),
        ("ca", &["-n", "somebody", "-V", "+5m"]),
        ("ca", &["-V", "+5m"]),
        ("ca", &["-n", "certified", "-V", "-2h:-1h"]),
        ("ca", &["-n", "certified", "-V", "+5m", "-O", "source-address=192.0.2.0/24"]),
        ("ca", &["-n", "certified", "-V", "+5m", "-O", "force-command=id"]),
        ("ca", &["-h", "-n", "certified", "-V", "+5m"]),
    ] {
        assert_eq!(certify(ca, options), refused, "{ca} {options:?}");
    }
    assert_eq!(certify("ca", &["-n", "certified", "-V", "+5m", "-O", "source-address=127.0.0.0/8"]), good);
    // Somebody who can change what others may do is vouched for by nobody.
    let roles = PersonChange { roles: Some(vec!["technician".into(), "auditor".into()]), ..PersonChange::default() };
    client().change_person("certified", &roles).await.unwrap();
    assert_eq!(certify("ca", &["-n", "certified", "-V", "+5m"]), refused);
    client().change_person("certified", &with_roles(&["technician"])).await.unwrap();
    change_guarded("user-authorities", "").await;
    assert_eq!(certify("ca", &["-n", "certified", "-V", "+5m"]), refused);
}

#[tokio::test]
async fn pins_are_shown_once_counted_down_and_used_up() {
    let (them, _) = newcomer("pin-giver", PersonChange { full_name: Some("Pia Giver".into()), ..helper() }).await;
    let issued = them.issue_pin(&NewPin { note: "the printer in the library".into() }).await.unwrap();
    assert_eq!(issued.pin.len(), 8);
    let enter = |pin: &str, visit: Option<&str>| {
        let given = GivenPin { pin: pin.into(), visit: visit.map(Into::into) };
        async move { anonymous().enter_pin(&given).await }
    };
    assert_eq!(refused(enter("0000", Some(&issued.about.id)).await), "wrong-pin");
    let listed = them.pins().await.unwrap();
    let own = listed.iter().find(|p| p.id == issued.about.id).unwrap();
    assert_eq!((own.tries_left, own.state.as_str()), (4, "open"));
    // A PIN of one visit is none of another.
    let second = them.issue_pin(&NewPin::default()).await.unwrap();
    assert_eq!(refused(enter(&issued.pin, Some(&second.about.id)).await), "wrong-pin");
    let taken = enter(&format!("{} {}", &issued.pin[..4], &issued.pin[4..]), None).await.unwrap();
    assert_eq!((taken.by.as_str(), taken.note.as_str()), ("Pia Giver", "the printer in the library"));
    assert_eq!(refused(enter(&issued.pin, None).await), "wrong-pin");
    them.withdraw_pin(&second.about.id).await.unwrap();
    assert_eq!(refused(enter(&second.pin, None).await), "wrong-pin");
    // Somebody else sees none of them, and withdraws none.
    let (other, _) = newcomer("pin-looker", with_roles(&["technician"])).await;
    assert!(other.pins().await.unwrap().is_empty());
    // Without a rule that lets them help, a technician issues no PIN.
    assert_eq!(refused(other.issue_pin(&NewPin::default()).await), "not-allowed");
    assert_eq!(refused(other.withdraw_pin(&issued.about.id).await), "not-found");
    assert_eq!(refused(other.set_machine_pin("archive-db", &NewPin::default()).await), "not-allowed");
}

#[tokio::test]
async fn keys_of_the_service_are_rotated_while_sessions_go_on() {
    let admin = client();
    let before = admin.service_keys().await.unwrap();
    assert!(before.iter().all(|k| k.in_use && k.generation == 1));
    let p = &world().people;
    for purpose in ["master", "secrets", "tokens", "log-signing", "log-seal", "ssh-user-authority"] {
        let rotation = Rotation { purpose: purpose.into(), why: "a drill".into() };
        admin.rotate_key(&rotation).await.unwrap();
        // Machines trust only the earlier authority, codes and tokens were sealed and hashed by earlier keys: all go on.
        let e = p.run_with("ssh", "", &["backup-runner+archive-db@aerie", "hostname"], "").await.unwrap();
        assert_eq!((e.status, e.out.trim()), (Some(0), "archive-db"), "{purpose}: {}", e.err);
    }
    let e = p.run("ssh", "amara", &["amara+spectro-1@aerie", "hostname"], "").await.unwrap();
    assert_eq!((e.status, e.out.trim()), (Some(0), "spectro-1"), "{}", e.err);
    admin.checkpoint().await.unwrap();
    let report = admin.verify_log().await.unwrap();
    assert!(report.holds, "{}", report.sentence);
    assert_eq!(report.public_keys.len(), 2);
    assert_eq!(refused(admin.rotate_key(&Rotation { purpose: "nothing".into(), why: "x".into() }).await), "not-found");
    assert_eq!(refused(admin.rotate_key(&Rotation { purpose: "tokens".into(), why: " ".into() }).await), "not-good");
}

#[tokio::test]
async fn settings_say_who_changed_what_and_why_and_count_at_once() {
    let admin = client();
    let set = |value: &str, why: &str| SettingValue { value: value.into(), why: why.into() };
    assert_eq!(refused(admin.change_setting("pin-digits", &set("3", "x")).await), "not-good");
    assert_eq!(refused(admin.change_setting("pin-digits", &set("10", "")).await), "not-good");
    assert_eq!(refused(admin.change_setting("nothing", &set("10", "x")).await), "not-found");
    admin.change_setting("banner", &set("Only for those allowed.\nAll is recorded.", "the data protection officer asked")).await.unwrap();
    let changes = admin.setting_changes().await.unwrap();
    let last = changes.iter().find(|c| c.name == "banner").unwrap();
    assert_eq!((last.by.as_str(), last.why.as_str()), ("lena", "the data protection officer asked"));
    // Before anybody signs in, at the console and at the gateway.
    let welcome: Value = call(Method::GET, "/api/v1/welcome", &[], None).await.json().await.unwrap();
    assert_eq!(welcome["banner"], "Only for those allowed.\nAll is recorded.");
    let (_, text) = ssh(std::path::Path::new("/dev/null"), "nobody", &["-o", "LogLevel=INFO"]);
    assert!(text.contains("All is recorded."), "{text}");
    admin.change_setting("banner", &set("", "the test is over")).await.unwrap();
    // And to whoever opens a terminal.
    admin.change_setting("message", &set("The east dome is closed\nuntil Thursday.", "work on the shutter")).await.unwrap();
    let e = world().people.run_with("ssh", "", &["-tt", "arlo+archive-db@aerie"], "exit\n").await.unwrap();
    assert!(e.err.contains("The east dome is closed\r\nuntil Thursday."), "{} {}", e.out, e.err);
    let e = world().people.run_with("ssh", "", &["backup-runner+archive-db@aerie", "hostname"], "").await.unwrap();
    assert_eq!((e.out.trim(), e.err.trim()), ("archive-db", ""));
    admin.change_setting("message", &set("", "the test is over")).await.unwrap();
}

#[tokio::test]
async fn an_expired_password_must_be_changed_before_anything_else() {
    let admin = client();
    let set = |value: &str| SettingValue { value: value.into(), why: "a test".into() };
    let (them, totp) = newcomer("old-password", with_roles(&["technician"])).await;
    for (new, current) in [("short", None), ("old-password old-password", None), (PASSWORD, Some(PASSWORD)), ("qwertyuiopasdfgh", None)] {
        let change = aerie_api::PasswordChange { current: current.map(Into::into), new: new.into() };
        assert_eq!(refused(them.change_password(&change).await), "not-good", "{new}");
    }
    let wrong = aerie_api::PasswordChange { current: Some("not it".into()), new: "nine red lanterns by the lake".into() };
    assert_eq!(refused(them.change_password(&wrong).await), "sign-in-failed");
    admin.change_setting("password-days", &set("1")).await.unwrap();
    // It is of today, and still good.
    let code = totp.code_at(Timestamp::now() + jiff::SignedDuration::from_secs(30));
    assert_eq!(anonymous().sign_in("old-password", PASSWORD, &code).await.unwrap().stage, "full");
    admin.change_setting("password-days", &set("0")).await.unwrap();
}

#[tokio::test]
async fn slow_senders_deep_documents_and_odd_headers_are_cut_off() {
    let address = world().people.demo.api.strip_prefix("http://").unwrap().to_string();
    // A document that nests without end, and one that is large by its many parts.
    for body in
        ["[".repeat(200_000), format!("{{\"person\":{}1{}}}", "[".repeat(200), "]".repeat(200)), format!("[{}]", "0,".repeat(100_000))]
    {
        let answer = http().post(url("/api/v1/sign-in")).header("content-type", "application/json").body(body).send().await.unwrap();
        assert!(answer.status().is_client_error(), "{}", answer.status());
    }
    // A line feed in a header does not become a header of the answer.
    let mut raw = std::net::TcpStream::connect(&address).unwrap();
    raw.write_all(b"GET /api/v1/welcome HTTP/1.1\r\nHost: localhost\r\nCookie: a=b\nSet-Cookie: planted=1\r\nConnection: close\r\n\r\n")
        .unwrap();
    let mut answer = String::new();
    let _ = raw.read_to_string(&mut answer);
    assert!(!answer.to_lowercase().contains("planted"), "{answer}");
    // What is asked for by a path stays within the console's own files.
    for path in
        ["/..%2f..%2fetc/passwd", "/assets/..%2f..%2f..%2fetc%2fpasswd", "/assets/%00", "//etc/passwd", "/assets/../../../../etc/passwd"]
    {
        let mut raw = std::net::TcpStream::connect(&address).unwrap();
        raw.write_all(format!("GET {path} HTTP/1.1\r\nHost: localhost\r\nConnection: close\r\n\r\n").as_bytes()).unwrap();
        let mut answer = String::new();
        let _ = raw.read_to_string(&mut answer);
        assert!(!answer.contains("root:"), "{path}");
    }
    // A head that never ends: the connection is closed by the service, and not by us.
    let mut raw = std::net::TcpStream::connect(&address).unwrap();
    raw.write_all(b"GET / HTTP/1.1\r\nHost: localhost\r\n").unwrap();
    raw.set_read_timeout(Some(Duration::from_secs(40))).unwrap();
    let closed = tokio::task::spawn_blocking(move || matches!(raw.read(&mut [0; 1024]), Ok(0) | Ok(_)));
    assert!(closed.await.unwrap(), "a slow head was waited for without end");
}

/// A service of its own, without configuration.
struct Small {
    child: std::process::Child,
    address: String,
    printed: Vec<String>,
    directory: tempfile::TempDir,
}

impl Small {
    fn start() -> Self {
        Self::in_directory(tempfile::tempdir().unwrap(), &["--http", "127.0.0.1:0"])
    }

    fn in_directory(directory: tempfile::TempDir, options: &[&str]) -> Self {
        let mut child = Command::new("setpriv")
            .args(["--pdeathsig", "KILL", AERIE, "serve", "--ssh", "127.0.0.1:0"])
            .args(options)
            .arg("--data")
            .arg(directory.path())
            .stderr(Stdio::piped())
            .spawn()
            .unwrap();
        let mut lines = std::io::BufRead::lines(std::io::BufReader::new(child.stderr.take().unwrap()));
        let mut printed = vec![];
        loop {
            let line = lines.next().unwrap().unwrap();
            let last = line.contains("TrustedUserCAKeys");
            printed.push(line);
            if last {
                break;
            }
        }
        std::thread::spawn(move || lines.for_each(drop));
        let first = printed.iter().find(|l| l.contains("The console is at ")).unwrap();
        let address = first.split("console is at ").nth(1).unwrap().split(',').next().unwrap().to_string();
        Self { child, address, printed, directory }
    }

    fn line(&self, with: &str) -> Option<&str> {
        self.printed.iter().find(|l| l.contains(with)).map(String::as_str)
    }

    fn stop(mut self) -> tempfile::TempDir {
        let _ = Command::new("kill").arg(self.child.id().to_string()).status();
        let _ = self.child.wait();
        std::mem::replace(&mut self.directory, tempfile::tempdir().unwrap())
    }
}

impl Drop for Small {
    fn drop(&mut self) {
        let _ = self.child.kill();
        let _ = self.child.wait();
    }
}

#[tokio::test]
async fn a_first_start_gives_a_closed_service_and_one_link() {
    let service = Small::in_directory(tempfile::tempdir().unwrap(), &["--https", "127.0.0.1:0"]);
    assert!(service.address.starts_with("https://localhost:"), "{}", service.address);
    let authority = service.line("own authority").unwrap().rsplit(' ').next().unwrap().to_string();
    let link = service.line("/welcome#").unwrap().trim().to_string();
    let secret = link.split_once('#').unwrap().1.to_string();
    // Whoever does not know the authority is not talked to, and another authority is not this one.
    assert!(matches!(Client::new(&service.address, None).open_invitation(&secret).await, Err(aerie_client::ClientError::Unreachable(..))));
    let wrong = authority.replace(char::is_numeric, "0");
    assert!(Client::trusting(&service.address, None, Some(&wrong)).open_invitation(&secret).await.is_err());
    let client = Client::trusting(&service.address, None, Some(&authority));
    // There is nothing to sign in with, no default password, and no rule.
    for name in ["admin", "administrator", "root", "aerie"] {
        assert_eq!(refused(client.sign_in(name, name, "").await), "sign-in-failed");
    }
    assert_eq!(refused(client.open_invitation("guessed").await), "not-found");
    let facts = client.open_invitation(&secret).await.unwrap();
    assert_eq!((facts.person.as_str(), facts.password_length), ("", 12));
    let mut taken = InvitationTaken {
        secret,
        password: "password1234".into(),
        person: Some("rhea".into()),
        full_name: Some("Rhea Aldous".into()),
        token: true,
    };
    assert_eq!(refused(client.take_invitation(&taken).await), "not-good");
    taken.password = PASSWORD.into();
    let me = client.take_invitation(&taken).await.unwrap();
    assert_eq!((me.stage.as_str(), &me.roles[..]), ("enrolling", &["administrator".to_string()][..]));
    assert_eq!(refused(client.take_invitation(&taken).await), "not-found");
    let own = client.clone().with_token(me.token.as_deref().unwrap());
    assert_eq!(refused(own.settings().await), "enrol-first");
    let offer = own.offer_code().await.unwrap();
    let totp = TotpSecret::from_base32(&offer.secret).unwrap();
    let me = own.enrol_code(&aerie_api::CodeProof { secret: offer.secret, code: totp.code_at(Timestamp::now()) }).await.unwrap();
    let own = client.with_token(me.token.as_deref().unwrap());
    assert!(own.settings().await.is_ok());
    assert_eq!(own.now().await.unwrap().live, 0);
    // TLS is renewed without a word to those who are connected, under the same authority.
    own.rotate_key(&Rotation { purpose: "tls".into(), why: "a drill".into() }).await.unwrap();
    let anew = Client::trusting(&service.address, me.token.clone(), Some(&authority));
    assert!(anew.me().await.is_ok() && own.me().await.is_ok());
    // So is another host key of the gateway, for whoever comes next.
    let port = service
        .line("SSH gateway at")
        .unwrap()
        .split("gateway at ")
        .nth(1)
        .unwrap()
        .split(". ")
        .next()
        .unwrap()
        .rsplit(':')
        .next()
        .unwrap()
        .to_string();
    let host_key = || {
        let o = Command::new("ssh-keyscan").args(["-t", "ed25519", "-p", &port, "127.0.0.1"]).output().unwrap();
        String::from_utf8_lossy(&o.stdout).lines().find(|l| !l.starts_with('#')).unwrap().split_once(' ').unwrap().1.to_string()
    };
    let before = host_key();
    let listed = own.rotate_key(&Rotation { purpose: "ssh-host".into(), why: "a drill".into() }).await.unwrap();
    let after = host_key();
    assert_ne!(before, after);
    assert!(listed.iter().any(|k| k.purpose == "ssh-host" && k.in_use && k.public.starts_with(&after)));
    // At the next start nobody is offered a link.
    let directory = service.stop();
    let again = Small::in_directory(directory, &["--https", "127.0.0.1:0"]);
    assert!(again.line("/welcome#").is_none(), "{:?}", again.printed);
    assert_eq!(again.line("own authority").unwrap().rsplit(' ').next().unwrap(), authority);
}

#[tokio::test]
async fn what_changes_rights_needs_a_recent_proof_and_asks_for_nothing_else() {
    let service = Small::start();
    let secret = service.line("/welcome#").unwrap().trim().split_once('#').unwrap().1.to_string();
    let client = Client::new(&service.address, None);
    let taken = InvitationTaken { secret, password: PASSWORD.into(), person: Some("rhea".into()), full_name: None, token: true };
    let me = client.take_invitation(&taken).await.unwrap();
    let own = client.with_token(me.token.as_deref().unwrap());
    let offer = own.offer_code().await.unwrap();
    let totp = TotpSecret::from_base32(&offer.secret).unwrap();
    own.enrol_code(&aerie_api::CodeProof { secret: offer.secret, code: totp.code_at(Timestamp::now()) }).await.unwrap();
    // Somebody who signed in an hour ago, and worked all the while.
    let directory = service.stop();
    let keys = aerie_service::Keys::load(directory.path()).unwrap();
    let store = aerie_store::Store::open(&directory.path().join("aerie.db")).await.unwrap();
    let now = Timestamp::now();
    let hour_ago = now - jiff::SignedDuration::from_hours(1);
    let proved = aerie_core::policy::Factors::of([aerie_core::policy::Factor::Password, aerie_core::policy::Factor::Code]);
    let token = aerie_store::Token {
        id: "old".into(),
        hash: keys.token_hash("an old token"),
        person: "rhea".into(),
        kind: aerie_store::TokenKind::Client,
        name: String::new(),
        scopes: vec![],
        key: None,
        stage: aerie_core::session::Stage::Full,
        proofs: aerie_core::policy::Proofs::at(proved, hour_ago),
        created: hour_ago,
        expires: now + jiff::SignedDuration::from_hours(1),
        last_used: now,
        last_from: "127.0.0.1".into(),
    };
    store.add_token(&token).await.unwrap();
    store.close().await;
    let service = Small::in_directory(directory, &["--http", "127.0.0.1:0"]);
    let own = Client::new(&service.address, Some("an old token".into()));
    // Reading goes on.
    assert!(own.settings().await.is_ok() && own.pins().await.is_ok());
    let new = NewPerson { name: "ines".into(), ..NewPerson::default() };
    let set = SettingValue { value: "10".into(), why: "x".into() };
    assert_eq!(refused(own.add_person(&new).await), "prove-again");
    assert_eq!(refused(own.change_setting("pin-digits", &set).await), "prove-again");
    assert_eq!(refused(own.rotate_key(&Rotation { purpose: "tokens".into(), why: "x".into() }).await), "prove-again");
    assert_eq!(refused(own.publish_policy("", None).await), "prove-again");
    assert_eq!(refused(own.set_machine_pin("dome-east", &NewPin::default()).await), "prove-again");
    assert_eq!(refused(own.remove_machine_pin("dome-east").await), "prove-again");
    assert_eq!(refused(own.offer_code().await), "prove-again");
    assert_eq!(refused(own.make_recovery_codes().await), "prove-again");
    assert_eq!(
        refused(own.make_token(&NewApiToken { name: "t".into(), scopes: vec!["read".into()], days: 1, key: None }).await),
        "prove-again"
    );
    assert_eq!(refused(own.step_up("000000").await), "sign-in-failed");
    let me = own.step_up(&totp.code_at(now + jiff::SignedDuration::from_secs(30))).await.unwrap();
    // It lasts no longer than it would have.
    assert!(me.until <= token.expires);
    assert_eq!(refused(own.me().await), "sign-in-first");
    let own = Client::new(&service.address, me.token);
    own.change_setting("pin-digits", &set).await.unwrap();
    own.add_person(&new).await.unwrap();
}

#[tokio::test]
async fn a_temporary_code_and_recovery_codes_do_once() {
    let admin = client();
    let (them, _) = newcomer("forgetful", with_roles(&["technician"])).await;
    let codes = them.make_recovery_codes().await.unwrap().codes;
    assert_eq!(codes.len(), 10);
    assert_eq!(anonymous().sign_in("forgetful", PASSWORD, &codes[4]).await.unwrap().stage, "full");
    assert_eq!(refused(anonymous().sign_in("forgetful", PASSWORD, &codes[4]).await), "sign-in-failed");
    // Whoever invited them could have set their password, and does not give their second factor away as well.
    assert_eq!(refused(admin.give_temporary_code("forgetful").await), "own-rights");
    let admin = another_administrator().await;
    let given = admin.give_temporary_code("forgetful").await.unwrap().codes.remove(0);
    assert_eq!(anonymous().sign_in("forgetful", PASSWORD, &given).await.unwrap().stage, "full");
    assert_eq!(refused(anonymous().sign_in("forgetful", PASSWORD, &given).await), "sign-in-failed");
    // Whoever lost everything is let in to enrol, and to nothing else.
    admin.take_factor("forgetful", "code").await.unwrap();
    let given = admin.give_temporary_code("forgetful").await.unwrap().codes.remove(0);
    let me = anonymous().sign_in("forgetful", PASSWORD, &given).await.unwrap();
    assert_eq!(me.stage, "enrolling");
    assert_eq!(refused(as_who(me.token.as_deref().unwrap()).machines(&Default::default()).await), "enrol-first");
}

#[tokio::test]
async fn people_are_found_by_a_few_letters_page_by_page() {
    let admin = client();
    let find = |q: &str, after: Option<String>| {
        let query = PeopleQuery { q: Some(q.into()), after, limit: Some(2), ..PeopleQuery::default() };
        async move { client().people(&query).await.unwrap() }
    };
    let first = find("a", None).await;
    // Those whose own name begins so come first.
    assert_eq!(first.items.iter().map(|p| p.name.as_str()).collect::<Vec<_>>(), ["amara", "arlo"]);
    let second = find("a", first.next).await;
    assert!(second.items.iter().all(|p| !p.name.starts_with('a')) && second.next.is_some());
    assert_eq!(find("BRIGHTCOAT", None).await.items.iter().map(|p| p.name.as_str()).collect::<Vec<_>>(), ["piet"]);
    let query = PeopleQuery { role: Some("auditor".into()), standing: Some("good".into()), ..PeopleQuery::default() };
    assert!(admin.people(&query).await.unwrap().items.iter().any(|p| p.name == "greta"));
    let bad =
        call(Method::GET, "/api/v1/people?after=odd", &[("authorization", &format!("Bearer {}", admin.token().unwrap()))], None).await;
    assert_eq!(bad.status(), StatusCode::BAD_REQUEST);
    until("the note of last use", async || admin.person("lena").await.unwrap().devices.iter().any(|d| d.name == "demo").then_some(()))
        .await;
}

/// A FIDO authenticator in software: what it signs is what a real one would (OpenSSH's PROTOCOL.u2f).
struct Fido {
    key: ed25519_dalek::SigningKey,
    /// 1 for a touch, 4 for a PIN or finger.
    flags: u8,
}

impl Fido {
    fn public(&self) -> russh::keys::PublicKey {
        use russh::keys::ssh_key::public::{Ed25519PublicKey, KeyData, SkEd25519};
        let point = Ed25519PublicKey(self.key.verifying_key().to_bytes());
        russh::keys::PublicKey::new(KeyData::SkEd25519(SkEd25519::new(point, "ssh:")), "fido")
    }

    fn sign(&self, message: &[u8]) -> russh::keys::ssh_key::Signature {
        use ed25519_dalek::Signer as _;
        use sha2::{Digest as _, Sha256};
        let trailer = [self.flags, 0, 0, 0, 7];
        let signed = [&Sha256::digest("ssh:")[..], &trailer, &Sha256::digest(message)].concat();
        let data = [&self.key.sign(&signed).to_bytes()[..], &trailer].concat();
        russh::keys::ssh_key::Signature::new(russh::keys::Algorithm::SkEd25519, data).unwrap()
    }

    /// Signs in to a machine with it alone.
    async fn signs_in(&mut self, login: &str) -> bool {
        let address = ("127.0.0.1", world().people.demo.ssh.port);
        let mut handle = russh::client::connect(Default::default(), address, AnyHost).await.unwrap();
        let public = self.public();
        handle.authenticate_publickey_with(login, public, None, self).await.unwrap().success()
    }
}

struct AnyHost;

impl russh::client::Handler for AnyHost {
    type Error = russh::Error;

    async fn check_server_key(&mut self, _: &russh::keys::PublicKeyOrCertificate) -> Result<bool, Self::Error> {
        Ok(true)
    }
}

impl russh::Signer for Fido {
    type Error = russh::AgentAuthError;

    async fn auth_sign(
        &mut self,
        _: &russh::keys::agent::AgentIdentity,
        _: Option<russh::keys::HashAlg>,
        mut to_sign: Vec<u8>,
    ) -> Result<Vec<u8>, Self::Error> {
        let signature: Vec<u8> = self.sign(&to_sign).try_into().unwrap();
        to_sign.extend_from_slice(&u32::try_from(signature.len()).unwrap().to_be_bytes());
        to_sign.extend_from_slice(&signature);
        Ok(to_sign)
    }
}

/// RFC 4252 section 5: a key that was proved counts for the name under which it was.
#[tokio::test]
async fn a_key_of_one_is_not_followed_by_a_code_of_another() {
    use russh::client::KeyboardInteractiveAuthResponse as Answer;
    let demo = &world().people.demo;
    let key = russh::keys::load_secret_key(demo.key_file("sunniva"), None).unwrap();
    for (next, asked) in [("sunniva+spectro-1", true), ("lena+spectro-1", false), ("sunniva+dome-east", false)] {
        let mut handle = russh::client::connect(Default::default(), ("127.0.0.1", demo.ssh.port), AnyHost).await.unwrap();
        let key = russh::keys::PrivateKeyWithHashAlg::new(std::sync::Arc::new(key.clone()), None);
        assert!(!handle.authenticate_publickey("sunniva+spectro-1", key).await.unwrap().success(), "a code is wanted, too");
        let answer = handle.authenticate_keyboard_interactive_start(next, None).await;
        assert_eq!(matches!(answer, Ok(Answer::InfoRequest { .. })), asked, "{next}: {answer:?}");
    }
}

#[tokio::test]
async fn a_fido_key_that_was_unlocked_proves_more() {
    let archivist = PersonChange { groups: Some(vec!["archivists".into()]), ..with_roles(&["technician"]) };
    let (them, _) = newcomer("fido-holder", archivist).await;
    let mut fido = Fido { key: ed25519_dalek::SigningKey::from_bytes(&[42; 32]), flags: 5 };
    let question = them.key_question().await.unwrap();
    let signed =
        russh::keys::ssh_key::SshSig::signed_data(&question.namespace, russh::keys::HashAlg::Sha512, question.text.as_bytes()).unwrap();
    let hash = russh::keys::HashAlg::Sha512;
    let data = fido.public().key_data().clone();
    let signature = russh::keys::ssh_key::SshSig::new(data, question.namespace.as_str(), hash, fido.sign(&signed)).unwrap();
    let key = aerie_api::NewSshKey {
        public: fido.public().to_openssh().unwrap(),
        label: "blue key".into(),
        expires: None,
        text: question.text,
        signature: signature.to_pem(Default::default()).unwrap(),
    };
    let listed = them.register_key(&key).await.unwrap();
    assert!(listed[0].hardware && listed[0].kind.starts_with("sk-ssh-ed25519"));
    // It is enrolled as a security key from now on, and rules can demand it.
    for (flags, factors) in [(0, None), (1, Some("key security-key")), (5, Some("key passkey security-key"))] {
        fido.flags = flags;
        assert_eq!(fido.signs_in("fido-holder+archive-db").await, factors.is_some(), "{flags}");
        let Some(factors) = factors else { continue };
        until("the sign-in in the log", async || {
            let query = aerie_client::ListQuery { kind: Some("sign-in".into()), q: Some("fido-holder".into()), ..Default::default() };
            let events = client().log(&query).await.unwrap().items;
            events.iter().any(|e| serde_json::to_value(e).unwrap().to_string().contains(factors)).then_some(())
        })
        .await;
    }
}
