//! Programs prove less than people: a token that is stolen changes nobody's rights.

use crate::common::own::Own;
use aerie_api::{AcceptHostKey, DraftText, NewApiToken, NewPerson, PersonChange, SettingValue};
use aerie_client::Client;
use reqwest::Method;

const RULES: &str =
    "[[allow]]\nname = \"own\"\npeople = \"group:workers\"\nmachines = \"*\"\ncapabilities = [\"shell\"]\naccounts = [\"operator\"]\n";

#[tokio::test]
async fn a_stolen_token_changes_no_rules_people_settings_or_keys() {
    let own = Own::with(RULES, &[("lena", "administrator", ""), ("tove", "administrator", ""), ("sunniva", "technician", "workers")]).await;
    let lena = own.as_client("lena");
    let all = ["read", "rules", "people", "sessions", "audit", "pins", "visits", "machines", "service"];
    let made =
        lena.make_token(&NewApiToken { name: "all".into(), scopes: all.map(Into::into).to_vec(), days: 1, key: None }).await.unwrap();
    let stolen: Client = own.client(&made.secret);
    // It reads.
    stolen.people(&Default::default()).await.unwrap();
    let draft = lena.begin_draft(&DraftText { title: "x".into(), text: Some(format!("{RULES}# x\n")), base: None }).await.unwrap();
    let mallory = NewPerson {
        name: "mallory".into(),
        with: PersonChange { roles: Some(vec!["administrator".into()]), ..PersonChange::default() },
        invite: false,
    };
    let value = SettingValue { value: "no".into(), why: "x".into() };
    let rotation = aerie_api::Rotation { purpose: "tokens".into(), why: "x".into() };
    let tries: Vec<(&str, Result<(), aerie_client::ClientError>)> = vec![
        ("publish", stolen.publish_policy(RULES, None).await.map(drop)),
        ("draft", stolen.begin_draft(&DraftText { title: "y".into(), text: None, base: None }).await.map(drop)),
        ("agree", stolen.agree_to_draft(&draft.id, draft.revision).await.map(drop)),
        ("add a person", stolen.add_person(&mallory).await.map(drop)),
        ("invite", stolen.invite("sunniva").await.map(drop)),
        ("temporary code", stolen.give_temporary_code("sunniva").await.map(drop)),
        ("take a factor", stolen.take_factor("sunniva", "code").await),
        ("setting", stolen.change_setting("second-factor", &value).await.map(drop)),
        ("rotate", stolen.rotate_key(&rotation).await.map(drop)),
        ("token", stolen.make_token(&NewApiToken { name: "z".into(), scopes: vec!["read".into()], days: 1, key: None }).await.map(drop)),
        ("offer of a code", stolen.offer_code().await.map(drop)),
        ("sign out", stolen.sign_out_person("sunniva").await),
    ];
    for (what, result) in tries {
        let e = result.expect_err(what);
        assert_eq!(e.status(), Some(403), "{what}: {e}");
    }
    // A token without a scope does nothing at all.
    assert!(lena.make_token(&NewApiToken { name: "none".into(), scopes: vec![], days: 1, key: None }).await.is_err());
    // Nothing came of any of it.
    assert!(own.admin().person("mallory").await.is_err());
    assert_eq!(own.admin().policy().await.unwrap().version, 1);
}

/// Every call of the API that changes something, with `x` in place of names.
fn changing() -> Vec<(Method, String)> {
    let text = include_str!("../../../../docs/openapi.json");
    let document: serde_json::Value = serde_json::from_str(text).unwrap();
    let mut all = vec![];
    for (path, calls) in document["paths"].as_object().unwrap() {
        let path = path.split('/').map(|part| if part.starts_with('{') { "x" } else { part }).collect::<Vec<_>>().join("/");
        let methods = calls.as_object().unwrap().keys().filter_map(|m| m.to_uppercase().parse::<Method>().ok());
        all.extend(methods.filter(|m| *m != Method::GET).map(|m| (m, path.clone())));
    }
    all
}

#[tokio::test]
async fn a_token_does_what_its_scopes_name_and_nothing_else() {
    let own = Own::with(RULES, &[("lena", "administrator", ""), ("tove", "administrator", "")]).await;
    let lena = own.as_client("lena");
    // What anybody may call proves by something else than a token.
    let public = ["sign-in", "step-up", "invitations", "confirmations", "help", "pins/enter", "agents/connect", "visits/x/page"];
    let calls: Vec<(Method, String)> =
        changing().into_iter().filter(|(_, p)| !public.iter().any(|open| p.starts_with(&format!("/api/v1/{open}")))).collect();
    assert!(calls.len() > 100);
    let http = Own::http();
    for (scope, may) in [("read", &[][..]), ("pins", &["/api/v1/pins", "/pin"]), ("visits", &["/api/v1/visits"])] {
        let new = NewApiToken { name: scope.into(), scopes: vec![scope.into()], days: 1, key: None };
        let token = lena.make_token(&new).await.unwrap().secret;
        for (method, path) in calls.iter().filter(|(_, p)| !may.iter().any(|m| p.starts_with(m) || p.ends_with(m))) {
            let answer = http.request(method.clone(), own.url(path)).bearer_auth(&token).json(&serde_json::json!({})).send().await.unwrap();
            assert_eq!(answer.status(), 403, "{scope}: {method} {path}");
        }
    }
}

#[tokio::test]
async fn a_program_proves_nothing_lately_whatever_its_scopes() {
    let own = Own::with(RULES, &[("lena", "administrator", ""), ("tove", "administrator", "")]).await;
    let lena = own.as_client("lena");
    let about = aerie_api::MachineChange { accounts: Some(vec!["operator".into()]), ..Default::default() };
    lena.add_machine(&aerie_api::NewMachine { name: "dome-east".into(), about }).await.unwrap();
    let scopes = ["machines", "sessions", "pins", "audit"].map(Into::into).to_vec();
    let made = lena.make_token(&NewApiToken { name: "all".into(), scopes, days: 1, key: None }).await.unwrap();
    let stolen = own.client(&made.secret);
    let key = AcceptHostKey { fingerprint: "SHA256:x".into(), why: "x".into() };
    let credential = aerie_api::NewCredential { kind: "password".into(), secret: None, changer: "root".into(), after_use: false, days: 0 };
    for (what, result) in [
        ("host key", stolen.accept_host_key("dome-east", &key).await),
        ("credential", stolen.put_credential("dome-east", "operator", &credential).await.map(drop)),
        ("agent", stolen.revoke_agent("dome-east", "x").await),
    ] {
        let e = result.expect_err(what);
        assert!(e.status() == Some(403) && e.to_string().contains("Programs change no"), "{what}: {e}");
    }
}
