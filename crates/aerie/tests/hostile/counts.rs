//! Counts and bounds are taken before the work.

use super::{shared_connection, small_rights, turn};
use crate::common::{client, until, world};
use aerie_client::SessionQuery;
use std::sync::Arc;
use std::sync::atomic::{AtomicUsize, Ordering};
use tokio::io::{AsyncBufReadExt as _, AsyncRead, BufReader};

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

/// Counts the lines that say this.
async fn counted(from: impl AsyncRead + Unpin, text: &str, count: Arc<AtomicUsize>) {
    let mut lines = BufReader::new(from).lines();
    while let Ok(Some(line)) = lines.next_line().await {
        if line.contains(text) {
            count.fetch_add(1, Ordering::Relaxed);
        }
    }
}

#[tokio::test]
async fn a_connection_has_so_many_channels_and_no_more() {
    small_rights().await;
    let p = &world().people;
    let (option, mut master) = shared_connection("many").await;
    let (begun, refused) = (Arc::new(AtomicUsize::new(0)), Arc::new(AtomicUsize::new(0)));
    let mut held = vec![];
    for _ in 0..70 {
        let mut child = p.command("ssh", "", &["-o", &option, "arlo+archive-db@aerie", "echo begun; exec sleep 60"]).spawn().unwrap();
        tokio::spawn(counted(child.stdout.take().unwrap(), "begun", begun.clone()));
        tokio::spawn(counted(child.stderr.take().unwrap(), "Session open refused by peer", refused.clone()));
        held.push(child);
    }
    // The client gives those that find no place a connection of their own.
    until("all of them", async || (begun.load(Ordering::Relaxed) == 70).then_some(())).await;
    assert_eq!(refused.load(Ordering::Relaxed), 6);
    for child in &mut held {
        let _ = child.kill().await;
    }
    let _ = master.kill().await;
}
