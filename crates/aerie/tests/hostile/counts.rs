//! Counts and bounds are taken before the work.

use super::{small_rights, turn};
use crate::common::{client, until, world};
use aerie_client::SessionQuery;

#[tokio::test]
async fn no_more_sessions_begin_at_once_than_the_rules_allow() {
    small_rights().await;
    let _turn = turn().await;
    let before = client().policy().await.unwrap();
    let text = before.text.clone()
        + "\n[[require]]\nname = \"one-at-a-time\"\npeople = \"person:backup-runner\"\nmachines = \"name:archive-db\"\nlimits = { sessions = 1 }\n";
    client().publish_policy(&text, None).await.unwrap();
    let p = &world().people;
    let mut all = vec![];
    for _ in 0..8 {
        all.push(p.command("ssh", "", &["backup-runner+archive-db@aerie", "sleep 60"]).spawn().unwrap());
    }
    let query = SessionQuery { state: Some("live".into()), person: Some("backup-runner".into()), ..SessionQuery::default() };
    // Seven end by themselves, refused; one goes on.
    until("seven that were refused", async || {
        let ended = all.iter_mut().filter_map(|c| c.try_wait().unwrap()).count();
        (ended >= 7).then_some(())
    })
    .await;
    until("the one", async || (client().sessions(&query).await.unwrap().items.len() == 1).then_some(())).await;
    assert_eq!(all.iter_mut().filter_map(|c| c.try_wait().unwrap()).count(), 7);
    for child in &mut all {
        let _ = child.kill().await;
    }
    client().publish_policy(&before.text, None).await.unwrap();
}

#[tokio::test]
async fn a_connection_has_so_many_channels_and_no_more() {
    small_rights().await;
    let p = &world().people;
    let control = p.directory().join("many");
    let option = format!("ControlPath={}", control.display());
    let mut master = p.command("ssh", "", &["-M", "-o", &option, "-N", "arlo+archive-db@aerie"]).spawn().unwrap();
    until("the control socket", async || control.exists().then_some(())).await;
    let mut held = vec![];
    for _ in 0..70 {
        held.push(p.command("ssh", "", &["-o", &option, "arlo+archive-db@aerie", "sleep 60"]).spawn().unwrap());
    }
    until("six that found no place", async || {
        let refused = held.iter_mut().filter_map(|c| c.try_wait().unwrap()).count();
        (refused >= 6).then_some(())
    })
    .await;
    for child in &mut held {
        let _ = child.kill().await;
    }
    let _ = master.kill().await;
}
