//! Visits, and what is kept of them.

use super::*;
use crate::{KeptOf, VisitFilter};
use aerie_core::visit::{Visit, VisitRequest, VisitTimes};
use jiff::SignedDuration;

const TIMES: VisitTimes =
    VisitTimes { pin: SignedDuration::from_secs(600), queue: SignedDuration::from_secs(3600), close: SignedDuration::from_secs(7200) };

fn visit(id: &str, by: &str, made: i64) -> Visit {
    let request = VisitRequest { queue: "workstations".into(), person: "Rhea Calder".into(), ..VisitRequest::default() };
    Visit::new(id.into(), request, by, &TIMES, t(made))
}

#[tokio::test]
async fn visits_are_found_when_time_changes_them() {
    let f = fixture().await;
    for (id, by, made) in [("pin", "mira", 0), ("queue", "", 0), ("later", "mira", 60)] {
        f.store.put_visit(&visit(id, by, made), &TIMES).await.unwrap();
    }
    assert_eq!(f.store.next_visit_due().await.unwrap(), Some(t(600)));
    let due = async |now| f.store.visits_due(now).await.unwrap().into_iter().map(|v| v.id).collect::<Vec<_>>();
    assert!(due(t(599)).await.is_empty());
    assert_eq!(due(t(3600)).await, ["pin", "later", "queue"]);
    let listed = f.store.visits(&VisitFilter { open: true, limit: 2 }).await.unwrap();
    assert_eq!(listed.iter().map(|v| v.id.as_str()).collect::<Vec<_>>(), ["later", "queue"]);
    // What is changed is found anew, and what is over no longer.
    let mut expired = f.store.visit("pin").await.unwrap().unwrap();
    expired.handle_timeout(&TIMES, t(600));
    f.store.put_visit(&expired, &TIMES).await.unwrap();
    assert_eq!(due(t(700)).await, ["later"]);
    assert!(f.store.visit("nobody").await.unwrap().is_none());
}

#[tokio::test]
async fn a_visit_has_one_token_and_what_is_kept_of_it_is_its_own() {
    let f = fixture().await;
    for id in ["a", "b"] {
        f.store.put_visit(&visit(id, "mira", 0), &TIMES).await.unwrap();
    }
    assert_eq!(f.store.visit_guest("a").await.unwrap(), None);
    f.store.set_visit_guest("a", &[1; 32]).await.unwrap();
    f.store.set_visit_guest("a", &[2; 32]).await.unwrap();
    assert_eq!(f.store.visit_guest("a").await.unwrap(), Some(vec![2; 32]));
    assert_eq!(f.store.visit_guest("b").await.unwrap(), None);
    // Changing a visit leaves the token as it is.
    f.store.put_visit(&visit("a", "nils", 0), &TIMES).await.unwrap();
    assert_eq!(f.store.visit_guest("a").await.unwrap(), Some(vec![2; 32]));

    let kept = async |of, visit: &str, id: &str| f.store.kept_of_visit(of, visit, id).await.unwrap().map(|k| (k.content, k.sealed));
    for (of, byte) in [(KeptOf::File, 1), (KeptOf::Picture, 2)] {
        f.store.keep_of_visit(of, "a", "one", &[byte]).await.unwrap();
        assert_eq!(kept(of, "a", "one").await, Some((vec![byte], true)));
        assert_eq!(kept(of, "b", "one").await, None, "of another visit");
    }
    f.store.keep_of_visit(KeptOf::File, "a", "two", b"x").await.unwrap();
    f.store.remove_visit_files("a", Some("one")).await.unwrap();
    assert!(kept(KeptOf::File, "a", "one").await.is_none() && kept(KeptOf::File, "a", "two").await.is_some());
    f.store.remove_visit_files("a", None).await.unwrap();
    assert!(kept(KeptOf::File, "a", "two").await.is_none() && kept(KeptOf::Picture, "a", "one").await.is_some());
    assert!(f.store.keep_of_visit(KeptOf::File, "nobody", "x", b"x").await.is_err(), "there is no such visit");
    // What an early version kept reads as it is.
    sqlx::query("INSERT INTO visit_pictures (id, visit, png) VALUES ('old', 'a', x'89')").execute(&f.store.write).await.unwrap();
    assert_eq!(kept(KeptOf::Picture, "a", "old").await, Some((vec![0x89], false)));
}
