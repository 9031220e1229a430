//! Programs prove less than people: a token that is stolen changes nobody's rights.

use crate::common::own::Own;
use aerie_api::{DraftText, NewApiToken, NewPerson, PersonChange, SettingValue};
use aerie_client::Client;

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
