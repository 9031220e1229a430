//! Findings as cases.

use super::*;
use crate::{FindingFilter, Put};
use aerie_core::audit::{CaseState, Finding, FindingKind, Importance};

fn finding(cause: &str, at: i64) -> Finding {
    Finding::seen(FindingKind::SharedKey, cause, "gateway", "", format!("One key of {cause}."), t(at))
}

async fn open(f: &Fixture) -> Vec<String> {
    let filter = FindingFilter { state: Some("unsettled".into()), limit: 100, ..FindingFilter::default() };
    f.store.findings(&filter).await.unwrap().into_iter().map(|k| k.finding.id).collect()
}

#[tokio::test]
async fn the_same_cause_is_one_case_that_comes_back_when_it_happens_again() {
    let f = fixture().await;
    let first = finding("a", 10);
    assert_eq!(f.store.put_finding(&first, t(11)).await.unwrap(), Put::New);
    assert_eq!(f.store.put_finding(&first, t(12)).await.unwrap(), Put::Known, "the same log again");
    assert!(f.store.settle_finding(&first.id, "aud", "it was a test", t(20)).await.unwrap());
    assert!(!f.store.settle_finding(&first.id, "lena", "again", t(21)).await.unwrap());
    assert!(open(&f).await.is_empty());
    // What is known already opens nothing; what happened since does.
    assert_eq!(f.store.put_finding(&first, t(22)).await.unwrap(), Put::Known);
    let again = Finding { last: t(30), count: 2, ..first.clone() };
    assert_eq!(f.store.put_finding(&again, t(31)).await.unwrap(), Put::Again);
    let kept = f.store.finding(&first.id).await.unwrap().unwrap();
    assert_eq!((kept.finding.count, kept.case.state, kept.settled.is_none()), (2, CaseState::Open, true));
    let history = f.store.finding_history(&first.id).await.unwrap();
    assert_eq!(history.iter().map(|h| (h.by.as_str(), h.at)).collect::<Vec<_>>(), [("aud", t(20)), ("service", t(31))]);
}

#[tokio::test]
async fn what_turns_out_to_matter_more_is_found_by_what_it_matters() {
    let f = fixture().await;
    let low = Finding { importance: Importance::Low, ..finding("a", 10) };
    f.store.put_finding(&low, t(10)).await.unwrap();
    let high = FindingFilter { rank: Some(Importance::High as i64), limit: 10, ..FindingFilter::default() };
    assert!(f.store.findings(&high).await.unwrap().is_empty());
    let grown = Finding { importance: Importance::High, last: t(20), count: 9, ..low };
    f.store.put_finding(&grown, t(20)).await.unwrap();
    assert_eq!(f.store.findings(&high).await.unwrap().len(), 1);
}

#[tokio::test]
async fn findings_are_paged_without_loss_and_narrowed() {
    let f = fixture().await;
    for n in 0..20 {
        let machine = if n % 2 == 0 { "dome-east" } else { "pier" };
        let it = Finding { machine: machine.into(), ..finding(&format!("cause {n}"), n / 3) };
        f.store.put_finding(&it, t(n)).await.unwrap();
    }
    let mut filter = FindingFilter { limit: 7, ..FindingFilter::default() };
    let mut seen = std::collections::BTreeSet::new();
    loop {
        let page = f.store.findings(&filter).await.unwrap();
        let Some(last) = page.last() else { break };
        filter.before = Some((last.finding.last, last.finding.id.clone()));
        assert!(page.iter().all(|k| seen.insert(k.finding.id.clone())), "none comes twice");
    }
    assert_eq!(seen.len(), 20);
    let count = async |filter: FindingFilter| f.store.findings(&FindingFilter { limit: 100, ..filter }).await.unwrap().len();
    assert_eq!(count(FindingFilter { machine: Some("pier".into()), ..FindingFilter::default() }).await, 10);
    assert_eq!(count(FindingFilter { text: Some("cause 1".into()), ..FindingFilter::default() }).await, 11);
    assert_eq!(count(FindingFilter { text: Some("cause_1".into()), ..FindingFilter::default() }).await, 0);
    assert_eq!(count(FindingFilter { kind: Some("guessing".into()), ..FindingFilter::default() }).await, 0);
    assert_eq!(f.store.count_findings(t(3)).await.unwrap().1, 11);
}

#[tokio::test]
async fn a_step_that_is_refused_changes_nothing_and_what_was_accepted_comes_back_in_its_time() {
    let f = fixture().await;
    let it = finding("a", 10);
    f.store.put_finding(&it, t(10)).await.unwrap();
    let refused = f.store.work_on_finding(&it.id, "aud", t(11), |_, case| {
        case.state = CaseState::Resolved;
        Err::<(String, Option<String>), _>("no")
    });
    assert_eq!(refused.await.unwrap(), Some(Err("no")));
    assert_eq!(open(&f).await, [it.id.as_str()]);
    let nobody = f.store.work_on_finding("nobody", "aud", t(11), |_, _| Ok::<_, ()>((String::new(), None)));
    assert_eq!(nobody.await.unwrap(), None);
    let accepted = f.store.work_on_finding(&it.id, "aud", t(12), |_, case| {
        (case.state, case.until) = (CaseState::Accepted, Some(t(100)));
        Ok::<_, ()>(("aud accepted it.".into(), Some("known".into())))
    });
    assert_eq!(accepted.await.unwrap(), Some(Ok("aud accepted it.".into())));
    let kept = f.store.finding(&it.id).await.unwrap().unwrap();
    assert_eq!(kept.settled.map(|s| (s.by, s.why, s.at)), Some(("aud".into(), "known".into(), t(12))));
    assert!(f.store.end_acceptances(t(99)).await.unwrap().is_empty());
    assert_eq!(f.store.end_acceptances(t(100)).await.unwrap(), [it.id.as_str()]);
    assert_eq!(open(&f).await, [it.id.as_str()]);
    assert!(f.store.finding(&it.id).await.unwrap().unwrap().settled.is_none());
}
