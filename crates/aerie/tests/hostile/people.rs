//! One person is one person: nobody brings about both halves of somebody else's sign-in, and no second person is made by the first.

use super::{event, signed_in, small_rights, turn};
use crate::common::client;
use crate::common::own::Own;
use aerie_api::{DirectoryImport, DraftText, NewPerson, PersonChange, SettingValue};
use aerie_client::{Client, ClientError};

/// Refused with 403, in words that say so.
fn refused<T>(result: Result<T, ClientError>, says: &str) {
    match result {
        Ok(_) => panic!("was done, and should say {says:?}"),
        Err(e) => assert!(e.status() == Some(403) && e.to_string().contains(says), "{e}"),
    }
}

const RULES: &str =
    "[[allow]]\nname = \"own\"\npeople = \"group:workers\"\nmachines = \"*\"\ncapabilities = [\"shell\"]\naccounts = [\"operator\"]\n";

/// A service without mail, with two administrators.
async fn two() -> (Own, Client, Client) {
    let people =
        [("lena", "administrator", ""), ("tove", "administrator", ""), ("sunniva", "technician", "workers"), ("greta", "technician", "")];
    let own = Own::with(RULES, &people).await;
    let (lena, tove) = (own.as_client("lena"), own.as_client("tove"));
    let about = aerie_api::MachineChange { accounts: Some(vec!["operator".into()]), ..Default::default() };
    lena.add_machine(&aerie_api::NewMachine { name: "dome-east".into(), about }).await.unwrap();
    (own, lena, tove)
}

fn new(name: &str, roles: &[&str]) -> NewPerson {
    let with = PersonChange { roles: Some(roles.iter().map(|r| (*r).to_string()).collect()), ..PersonChange::default() };
    NewPerson { name: name.into(), with, invite: false }
}

#[tokio::test]
async fn nobody_brings_about_both_halves_of_a_sign_in() {
    let (own, lena, tove) = two().await;
    // A new account: whoever made it may hand the link over, and is kept from the second factor.
    lena.add_person(&new("nils", &["technician"])).await.unwrap();
    assert!(!lena.invite("nils").await.unwrap().link.is_empty());
    refused(lena.give_temporary_code("nils").await, "another administrator");
    refused(lena.take_factor("nils", "code").await, "another administrator");
    tove.give_temporary_code("nils").await.unwrap();
    // And the other way round.
    refused(tove.invite("nils").await.map(drop), "another administrator");
    own.event("person-changed", "lena invited nils").await;
}

#[tokio::test]
async fn a_recovery_needs_the_persons_own_mail_or_two_administrators() {
    small_rights().await;
    let _turn = turn().await;
    // The demo has mail: the link goes to the person alone.
    let mailed = client().invite("arlo").await.unwrap();
    assert!(mailed.mailed && mailed.link.is_empty());
    // An address that somebody else changed a moment ago is nobody's own: two must agree, and the link is shown to the second.
    let (before, tove) = (client().person("sunniva").await.unwrap(), signed_in("tove").await);
    let _ = before;
    let mail = |m: &str| PersonChange { mail: Some(m.into()), ..PersonChange::default() };
    client().change_person("sunniva", &mail("lena@corvid-ridge.example")).await.unwrap();
    let asked = client().invite("sunniva").await.unwrap();
    assert!(asked.link.is_empty() && !asked.mailed);
    let proposal = asked.proposal.unwrap().id;
    refused(client().agree_to_proposal(&proposal).await.map(drop), "You proposed this");
    let agreed = tove.agree_to_proposal(&proposal).await.unwrap();
    assert!(!agreed.link.unwrap().link.is_empty());
    // Neither of the two may have her code as well.
    refused(client().give_temporary_code("sunniva").await, "another administrator");
    refused(tove.give_temporary_code("sunniva").await, "another administrator");
}

#[tokio::test]
async fn an_account_is_no_second_person_for_whoever_made_it() {
    let (own, lena, tove) = two().await;
    // An administrator of lena's own making. (Its sign-in is prepared here; that lena could have made it is what counts.)
    lena.add_person(&new("mallory", &["administrator"])).await.unwrap();
    let link = lena.invite("mallory").await.unwrap().link;
    let secret = link.rsplit('#').next().unwrap().to_string();
    let taken =
        aerie_api::InvitationTaken { secret, password: "seven grey herons wade".into(), person: None, full_name: None, token: true };
    let mallory = own.client("").take_invitation(&taken).await.unwrap();
    let mallory = own.client(&mallory.token.unwrap());
    let offer = mallory.offer_code().await.unwrap();
    let now = aerie_core::factor::TotpSecret::from_base32(&offer.secret).unwrap().code_at(jiff::Timestamp::now());
    let me = mallory.enrol_code(&aerie_api::CodeProof { secret: offer.secret, code: now }).await.unwrap();
    let mallory = own.client(&me.token.unwrap());
    // It agrees to nothing of hers: not to a draft, not to a setting.
    let text = format!("{RULES}# more\n");
    let draft = lena.begin_draft(&DraftText { title: "more".into(), text: Some(text), base: None }).await.unwrap();
    refused(mallory.agree_to_draft(&draft.id, draft.revision).await.map(drop), "count as one person");
    let value = SettingValue { value: "collector.example:6514".into(), why: "moved".into() };
    let waits = lena.change_setting("agent-address", &value).await.unwrap();
    assert_eq!(waits.value, "");
    refused(mallory.agree_to_proposal(&waits.proposal.unwrap().id).await.map(drop), "count as one person");
    tove.agree_to_draft(&draft.id, draft.revision).await.unwrap();
}

#[tokio::test]
async fn nobody_who_wrote_in_a_draft_agrees_to_it() {
    let (_own, lena, tove) = two().await;
    let draft = |text: &str| DraftText { title: "typo".into(), text: Some(text.into()), base: None };
    let begun = tove.begin_draft(&draft(&format!("{RULES}# a typo\n"))).await.unwrap();
    let second = lena.change_draft(&begun.id, begun.revision, &draft(&format!("{RULES}# lena's\n"))).await.unwrap();
    let third = tove.change_draft(&begun.id, second.revision, &draft(&format!("{RULES}# lena's, mended\n"))).await.unwrap();
    refused(lena.agree_to_draft(&begun.id, third.revision).await.map(drop), "wrote in this draft");
    refused(tove.agree_to_draft(&begun.id, third.revision).await.map(drop), "wrote in this draft");
}

#[tokio::test]
async fn rules_that_give_their_author_more_need_somebody_else() {
    let (_own, lena, tove) = two().await;
    let more = RULES.replace("group:workers", "group:workers | person:lena");
    refused(lena.publish_policy(&more, None).await.map(drop), "give their author more");
    let begun = lena.begin_draft(&DraftText { title: "more".into(), text: Some(more), base: None }).await.unwrap();
    refused(lena.publish_draft(&begun.id, begun.revision, "").await.map(drop), "give their author more");
    tove.agree_to_draft(&begun.id, begun.revision).await.unwrap();
    lena.publish_draft(&begun.id, begun.revision, "").await.unwrap();
    // What gives others more, or oneself less, is published as ever.
    lena.publish_policy(&RULES.replace("group:workers", "group:workers | person:greta"), None).await.unwrap();
}

#[tokio::test]
async fn settings_that_decide_who_is_who_need_two_and_a_file_brings_no_key() {
    let (own, lena, tove) = two().await;
    for (setting, value) in [
        ("user-authorities", "workers ssh-ed25519 AAAAC3NzaC1lZDI1NTE5AAAAIJzbJv0vfxS6YwxvkSZyJ9qYtDvVQBzcNBEj0g0zxJ3R"),
        ("second-factor", "no"),
        ("proved-minutes", "240"),
        ("forward-to", "tls://collector.example:6514"),
        ("separation-days", "0"),
        ("second-administrator", "no"),
        ("key-bound-programs", "yes"),
    ] {
        let before = lena.settings().await.unwrap().into_iter().find(|s| s.name == setting).unwrap().value;
        let waits = lena.change_setting(setting, &SettingValue { value: value.into(), why: "for the test".into() }).await.unwrap();
        assert_eq!((waits.value, waits.proposal.is_some()), (before.clone(), true), "{setting}");
        refused(lena.agree_to_proposal(&waits.proposal.unwrap().id).await.map(drop), "You proposed this");
        assert_eq!(lena.settings().await.unwrap().into_iter().find(|s| s.name == setting).unwrap().value, before);
    }
    let waiting = tove.proposals().await.unwrap();
    assert_eq!(waiting.len(), 7);
    let second_factor = waiting.iter().find(|p| p.subject == "second-factor").unwrap();
    tove.agree_to_proposal(&second_factor.id).await.unwrap();
    assert!(tove.agree_to_proposal(&second_factor.id).await.is_err(), "once");
    // An authority vouches for groups, and an entry without groups for nobody.
    let bare =
        SettingValue { value: "ssh-ed25519 AAAAC3NzaC1lZDI1NTE5AAAAIJzbJv0vfxS6YwxvkSZyJ9qYtDvVQBzcNBEj0g0zxJ3R".into(), why: "x".into() };
    assert_eq!(lena.change_setting("user-authorities", &bare).await.unwrap_err().status(), Some(422));
    // A directory file with somebody else's account and a key for it.
    let mut file = serde_json::to_value(lena.directory().await.unwrap()).unwrap();
    let key = serde_json::json!({ "fingerprint": "SHA256:planted", "label": "planted", "public": "ssh-ed25519 AAAAC3NzaC1lZDI1NTE5AAAAIJzbJv0vfxS6YwxvkSZyJ9qYtDvVQBzcNBEj0g0zxJ3R" });
    for person in file["people"].as_array_mut().unwrap() {
        person["keys"] = serde_json::json!([key]);
        person["full_name"] = "Somebody".into();
    }
    let import = DirectoryImport { format: "json".into(), text: file.to_string(), dry_run: false };
    lena.import_directory(&import).await.unwrap();
    assert!(own.admin().person("sunniva").await.unwrap().ssh_keys.is_empty());
}

#[tokio::test]
async fn the_administrator_with_a_scope_recovers_nobody_alone() {
    small_rights().await;
    let _turn = turn().await;
    let scoped = PersonChange {
        roles: Some(vec!["administrator".into()]),
        scopes: Some(
            [(
                "administrator".to_string(),
                aerie_api::ScopeView { people: "group:instrument-scientists".into(), machines: "label:weather".into() },
            )]
            .into(),
        ),
        ..PersonChange::default()
    };
    client().change_person("tomasz", &scoped).await.unwrap();
    let tomasz = signed_in("tomasz").await;
    // amara's mail address is her own, so that the link goes there.
    let asked = tomasz.invite("amara").await.unwrap();
    assert!(asked.link.is_empty() && asked.mailed);
    tomasz.give_temporary_code("amara").await.unwrap();
    let back = PersonChange { roles: Some(vec!["technician".into()]), scopes: Some(Default::default()), ..PersonChange::default() };
    client().change_person("tomasz", &back).await.unwrap();
    event("factor-changed", "tomasz gave amara a temporary code").await;
}
