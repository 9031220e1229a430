//! A vault credential is offered only to the server it was entered for.

use crate::common::{checked, client, outcome, world};
use crate::{run, signed_in};
use aerie_api::{AcceptHostKey, MachineChange, NewCredential};
use aerie_client::ListQuery;

/// How often a credential was offered to a server.
async fn offered(machine: &str) -> usize {
    let query =
        ListQuery { kind: Some("credential-used".into()), q: Some(format!("on {machine} ")), limit: Some(500), ..ListQuery::default() };
    client().log(&query).await.unwrap().items.len()
}

async fn signs_in(machine: &str) -> bool {
    outcome(&checked(machine).await, "sign-in") == "pass"
}

#[tokio::test]
async fn a_credential_is_offered_to_no_other_address() {
    let to = |address: &str| MachineChange { address: Some(address.into()), ..MachineChange::default() };
    let before = client().machine("chiller-2").await.unwrap().machine.address;
    assert!(signs_in("chiller-2").await);
    let count = offered("chiller-2").await;
    assert!(count > 0);
    // The same server, by another name for its address: an administrator who changes it may mean a server of their own.
    let (host, port) = before.rsplit_once(':').unwrap();
    let elsewhere = format!("[::ffff:{host}]:{port}");
    client().change_machine("chiller-2", &to(&elsewhere)).await.unwrap();
    signs_in("chiller-2").await;
    let mira = signed_in("mira").await;
    let rotated = client().rotate_credential("chiller-2", "operator").await.unwrap();
    assert!(rotated.ended == "stuck" && rotated.sentence.contains("enter it again"), "{rotated:?}");
    let key = world().people.demo.key_file("mira").to_string();
    run("ssh", &["-i", &key, "mira+chiller-2@aerie", "id"], "").await;
    assert_eq!(offered("chiller-2").await, count, "it was offered to another server");
    drop(mira);
    client().change_machine("chiller-2", &to(&before)).await.unwrap();
    assert!(signs_in("chiller-2").await);
    assert!(offered("chiller-2").await > count);
}

#[tokio::test]
async fn a_new_host_key_for_a_machine_with_a_kept_credential_needs_a_second_administrator() {
    let lena = signed_in("lena").await;
    let new = NewCredential {
        kind: "password".into(),
        secret: Some("flat lamp watches".into()),
        changer: "root".into(),
        after_use: false,
        days: 0,
    };
    lena.put_credential("flat-lamp", "operator", &new).await.unwrap();
    let shown = lena.host_key("flat-lamp").await.unwrap();
    let given = AcceptHostKey { fingerprint: shown.shown.clone(), why: "it was installed again".into() };
    let e = lena.accept_host_key("flat-lamp", &given).await.expect_err("it was accepted by one administrator");
    assert!(e.status() == Some(403) && e.to_string().contains("second administrator"), "{e}");
    assert_eq!(lena.host_key("flat-lamp").await.unwrap().pinned, shown.pinned);
}
