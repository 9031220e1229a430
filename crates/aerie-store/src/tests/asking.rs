//! Requests, passes, notices, deputies, waits and the lockdown.

use super::*;
use crate::{Deputy, Lockdown, Notice, RequestRow, RequestState, WaitRow};
use aerie_core::approval::Wish;
use aerie_core::policy::{Capability, Pass};

fn request(id: &str, asked: i64) -> RequestRow {
    let wish = Wish {
        id: id.into(),
        person: "piet".into(),
        machines: vec!["spectro-1".into()],
        capabilities: vec![Capability::Shell],
        target: None,
        from: t(asked),
        until: t(asked + 3600),
        reason: "A grating slipped.".into(),
        ticket: String::new(),
        asked: t(asked),
        expires: t(asked + 600),
        waiting: false,
    };
    RequestRow { wish, answers: vec![], state: RequestState::Open, reminded: None, over: None }
}

fn pass(id: &str, until: i64) -> Pass {
    Pass {
        id: id.into(),
        person: "piet".into(),
        machines: vec!["spectro-1".into()],
        capabilities: vec![Capability::Shell],
        from: t(0),
        until: t(until),
        approved_by: vec!["tove".into()],
        session_s: Some(600),
        target: None,
    }
}

#[tokio::test]
async fn requests_are_listed_by_state_newest_first_and_each_word_is_read_back() {
    let f = fixture().await;
    let states = [RequestState::Open, RequestState::Approved, RequestState::Refused, RequestState::Withdrawn, RequestState::Expired];
    for (n, state) in states.into_iter().enumerate() {
        let row = RequestRow { state, over: Some(t(50)), ..request(&format!("r{n}"), n as i64) };
        f.store.put_request(&row).await.unwrap();
        assert_eq!(f.store.request(&row.wish.id).await.unwrap().unwrap().state, state);
    }
    let ids = async |state, limit| f.store.requests(state, limit).await.unwrap().into_iter().map(|r| r.wish.id).collect::<Vec<_>>();
    assert_eq!(ids(None, 3).await, ["r4", "r3", "r2"]);
    assert_eq!(ids(Some(RequestState::Open), 10).await, ["r0"]);
    f.store.put_request(&RequestRow { state: RequestState::Expired, reminded: Some(t(9)), ..request("r0", 0) }).await.unwrap();
    assert!(ids(Some(RequestState::Open), 10).await.is_empty());
    assert_eq!(f.store.request("r0").await.unwrap().unwrap().reminded, Some(t(9)));
}

#[tokio::test]
async fn a_pass_is_withdrawn_once_and_only_while_it_is_good() {
    let f = fixture().await;
    f.store.add_pass(&pass("a", 100), t(0)).await.unwrap();
    f.store.add_pass(&pass("b", 200), t(1)).await.unwrap();
    assert!(!f.store.withdraw_pass("a", "tove", "late", t(100)).await.unwrap());
    assert!(f.store.withdraw_pass("a", "tove", "enough", t(99)).await.unwrap());
    assert!(!f.store.withdraw_pass("a", "lena", "again", t(99)).await.unwrap());
    let all = f.store.passes(t(99)).await.unwrap();
    let shown: Vec<_> = all.iter().map(|p| (p.pass.id.as_str(), p.withdrawn, p.withdrawn_by.as_str(), p.why.as_str())).collect();
    assert_eq!(shown, [("b", None, "", ""), ("a", Some(t(99)), "tove", "enough")]);
    assert_eq!(f.store.passes(t(100)).await.unwrap().len(), 1);
    assert_eq!(all[0].pass, pass("b", 200));
}

#[tokio::test]
async fn a_notice_waits_until_it_is_taken_and_comes_once() {
    let f = fixture().await;
    let notice =
        |id: &str, made: i64| Notice::new(id.into(), t(made), ("mail", "tove@corvid.example"), "request", "A request", b"Please.".to_vec());
    f.store.post(&[notice("a", 0), notice("b", 10)]).await.unwrap();
    // Posted again, as after a restart: it stays as it is.
    f.store.post(&[Notice { subject: "Another".into(), ..notice("a", 0) }]).await.unwrap();
    assert_eq!(f.store.due(t(0), 10).await.unwrap(), [notice("a", 0)]);
    f.store.undelivered("a", "nobody answers", t(30)).await.unwrap();
    assert_eq!((f.store.next_due().await.unwrap(), f.store.count_notices().await.unwrap()), (Some(t(10)), (2, 1)));
    assert_eq!(f.store.due(t(40), 10).await.unwrap().iter().map(|n| (n.id.as_str(), n.tries)).collect::<Vec<_>>(), [("b", 0), ("a", 1)]);
    f.store.delivered("a", t(41)).await.unwrap();
    f.store.delivered("b", t(50)).await.unwrap();
    assert_eq!((f.store.next_due().await.unwrap(), f.store.count_notices().await.unwrap()), (None, (0, 0)));
    let kept = f.store.notices(10).await.unwrap();
    assert!(kept.iter().all(|n| n.sealed.is_empty()));
    assert_eq!(
        kept.iter().map(|n| (n.id.as_str(), n.sent, n.failure.as_str())).collect::<Vec<_>>(),
        [("b", Some(t(50)), ""), ("a", Some(t(41)), "")]
    );
    f.store.sweep_outbox(t(50)).await.unwrap();
    assert_eq!(f.store.notices(10).await.unwrap().len(), 1);
}

#[tokio::test]
async fn deputies_end_waits_are_in_their_order_and_the_lockdown_outlives_a_restart() {
    let f = fixture().await;
    f.store.set_deputy("tove", Some(("aud", t(100))), t(0)).await.unwrap();
    f.store.set_deputy("tove", Some(("lena", t(200))), t(1)).await.unwrap();
    let deputy = Deputy { person: "tove".into(), deputy: "lena".into(), until: t(200) };
    assert_eq!(f.store.deputies(t(199)).await.unwrap(), [deputy]);
    assert!(f.store.deputies(t(200)).await.unwrap().is_empty());
    f.store.set_deputy("tove", None, t(2)).await.unwrap();
    assert!(f.store.deputies(t(3)).await.unwrap().is_empty());

    let wait =
        |id: &str, since| WaitRow { id: id.into(), person: "piet".into(), machine: "dome".into(), whom: "tove".into(), since: t(since) };
    for (id, since) in [("late", 9), ("early", 1)] {
        f.store.add_wait(&wait(id, since)).await.unwrap();
    }
    assert_eq!(f.store.waits().await.unwrap(), [wait("early", 1), wait("late", 9)]);
    f.store.remove_wait("early").await.unwrap();
    assert_eq!(f.store.waits().await.unwrap().len(), 1);

    let lockdown = |by: &str| Lockdown { since: t(1), by: by.into(), why: "Lightning.".into() };
    f.store.set_lockdown(Some(&lockdown("lena"))).await.unwrap();
    f.store.set_lockdown(Some(&lockdown("aud"))).await.unwrap();
    f.log.stop(t(0)).await.unwrap();
    f.store.close().await;
    let store = Store::open(&f.path).await.unwrap();
    assert_eq!(store.lockdown().await.unwrap(), Some(lockdown("aud")));
    store.set_lockdown(None).await.unwrap();
    assert_eq!(store.lockdown().await.unwrap(), None);
}
