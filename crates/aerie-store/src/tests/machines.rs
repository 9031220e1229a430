//! Machines, their agents and codes, and what is kept for them.

use super::*;
use crate::{AgentRow, CodeRow, VaultRow};
use aerie_core::directory::Machine;
use aerie_core::vault::{Phase, Schedule, SecretKind};

fn machine(name: &str) -> Machine {
    serde_json::from_value(serde_json::json!({ "name": name })).unwrap()
}

fn agent(machine: &str, key: &str) -> AgentRow {
    AgentRow {
        machine: machine.into(),
        key: key.into(),
        enrolled: t(0),
        enrolled_by: "lena".into(),
        ticket: [1; 32],
        next_ticket: None,
        temporary: false,
        relay: vec![],
        last_seen: None,
        last_from: String::new(),
        facts: None,
    }
}

fn code(id: &str, hash: u8, machine: Option<&str>, uses_left: u32) -> CodeRow {
    CodeRow {
        id: id.into(),
        hash: [hash; 32],
        machine: machine.map(Into::into),
        site: "ridge".into(),
        labels: vec!["dome".into()],
        uses_left,
        made: t(0),
        made_by: "lena".into(),
        expires: t(600),
    }
}

#[tokio::test]
async fn a_code_enrols_as_often_as_it_says_whoever_comes_at_the_same_moment() {
    let f = fixture().await;
    f.store.add_code(&code("site", 1, None, 3)).await.unwrap();
    let tries: Vec<_> = (0..10)
        .map(|n| (f.store.clone(), agent(&format!("m{n}"), &format!("k{n}"))))
        .map(|(s, a)| tokio::spawn(async move { s.enrol_agent("site", &a, t(1)).await.unwrap() }))
        .collect();
    let mut enrolled = 0;
    for done in tries {
        enrolled += usize::from(done.await.unwrap());
    }
    assert_eq!((enrolled, f.store.agents().await.unwrap().len()), (3, 3));
    assert!(f.store.code(&[[1; 32]], t(1)).await.unwrap().is_none() && f.store.codes(t(1)).await.unwrap().is_empty());
    f.store.add_code(&code("late", 2, None, 1)).await.unwrap();
    assert!(!f.store.enrol_agent("late", &agent("m99", "k99"), t(600)).await.unwrap());
    assert_eq!(f.store.agents().await.unwrap().len(), 3, "nothing of it stays");
}

#[tokio::test]
async fn a_machine_has_one_code_and_one_agent_and_the_one_before_never_comes_again() {
    let f = fixture().await;
    f.store.add_code(&code("first", 1, Some("dome"), 1)).await.unwrap();
    f.store.add_code(&code("second", 2, Some("dome"), 1)).await.unwrap();
    f.store.add_code(&code("site", 3, None, 5)).await.unwrap();
    f.store.add_code(&code("other site", 4, None, 5)).await.unwrap();
    assert!(f.store.code(&[[1; 32]], t(1)).await.unwrap().is_none());
    let kept = f.store.code(&[[9; 32], [2; 32]], t(1)).await.unwrap().unwrap();
    assert_eq!((kept.id.as_str(), kept.labels.as_slice()), ("second", &["dome".to_string()][..]));
    assert!(f.store.enrol_agent("second", &agent("dome", "old"), t(1)).await.unwrap());
    assert!(f.store.enrol_agent("site", &agent("dome", "new"), t(2)).await.unwrap());
    assert!(f.store.is_agent_revoked("old").await.unwrap() && !f.store.is_agent_revoked("new").await.unwrap());
    assert!(f.store.revoke_agent("dome", "lena", t(3)).await.unwrap() && !f.store.revoke_agent("dome", "lena", t(3)).await.unwrap());
    assert!(f.store.is_agent_revoked("new").await.unwrap());
    assert!(f.store.remove_code("site").await.unwrap() && !f.store.remove_code("site").await.unwrap());
    f.store.sweep_codes(t(600)).await.unwrap();
    assert!(f.store.codes(t(0)).await.unwrap().is_empty());
}

#[tokio::test]
async fn a_ticket_is_good_until_the_next_one_is_kept() {
    let f = fixture().await;
    f.store.put_agents(&[agent("dome", "k")]).await.unwrap();
    let tickets = async || {
        let a = f.store.agents().await.unwrap().remove(0);
        (a.ticket[0], a.next_ticket.map(|n| n[0]))
    };
    f.store.hand_ticket("dome", &[1; 32], &[2; 32], "10.20.0.7", t(1)).await.unwrap();
    assert_eq!(tickets().await, (1, Some(2)));
    // What it did not say to have kept may be lost: it comes with the one before, and gets another.
    f.store.hand_ticket("dome", &[1; 32], &[3; 32], "10.20.0.7", t(2)).await.unwrap();
    f.store.ticket_kept("dome", &[2; 32]).await.unwrap();
    assert_eq!(tickets().await, (1, Some(3)));
    f.store.ticket_kept("dome", &[3; 32]).await.unwrap();
    assert_eq!(tickets().await, (3, None));
}

#[tokio::test]
async fn a_machine_that_leaves_takes_its_agent_and_codes_along_and_comes_back_alone() {
    let f = fixture().await;
    let version = async || f.store.directory_version().await.unwrap();
    assert!(f.store.change_machines(&[machine("dome"), machine("pier")], version().await).await.unwrap());
    f.store.put_agents(&[agent("dome", "k")]).await.unwrap();
    f.store.add_code(&code("c", 1, Some("dome"), 1)).await.unwrap();
    f.store.heard_of("dome", t(1)).await.unwrap();
    f.store.set_favourite("ines", "dome", true).await.unwrap();
    let before = version().await;
    assert!(!f.store.retire_machines(&[machine("dome")], before + 1, "lena", "sold", t(2)).await.unwrap(), "somebody else changed it");
    assert!(f.store.retire_machines(&[machine("dome")], before, "lena", "sold", t(2)).await.unwrap());
    assert!(version().await > before);
    assert_eq!(f.store.machines().await.unwrap(), [machine("pier")]);
    assert!(f.store.agents().await.unwrap().is_empty() && f.store.codes(t(1)).await.unwrap().is_empty());
    assert!(f.store.is_agent_revoked("k").await.unwrap());
    assert!(!f.store.heard().await.unwrap().contains_key("dome"));
    let gone = f.store.retired_machines(10).await.unwrap();
    assert_eq!((gone[0].machine.name.as_str(), gone[0].by.as_str(), gone[0].why.as_str(), gone[0].at), ("dome", "lena", "sold", t(2)));
    assert!(f.store.change_machines(&[machine("dome")], version().await).await.unwrap());
    assert!(f.store.retired_machines(10).await.unwrap().is_empty());
    assert!(f.store.is_agent_revoked("k").await.unwrap(), "its agent does not come back with it");
}

#[tokio::test]
async fn a_credential_takes_the_place_of_the_one_before_and_its_history_stays() {
    let f = fixture().await;
    let row = VaultRow {
        bound: "SHA256:x 10.0.0.1:22".into(),
        machine: "pier".into(),
        account: "operator".into(),
        kind: SecretKind::Password,
        current: vec![1],
        other: Some(vec![2]),
        phase: Phase::Settled,
        changer: String::new(),
        schedule: Schedule { after_use: true, days: 30 },
        changed: t(0),
        used: None,
        failed: None,
        failure: String::new(),
    };
    f.store.put_vault(&row, "lena", "put it in", t(0)).await.unwrap();
    f.store.vault_used("pier", "operator", t(5)).await.unwrap();
    f.store.note_vault("pier", "operator", "mira", "saw it", t(6)).await.unwrap();
    f.store.put_vault(&VaultRow { current: vec![3], other: None, changed: t(7), ..row }, "service", "", t(7)).await.unwrap();
    let kept = f.store.vault_entry("pier", "operator").await.unwrap().unwrap();
    assert_eq!((kept.current, kept.other, kept.used, kept.schedule.days), (vec![3], None, None, 30));
    assert_eq!(f.store.vault().await.unwrap().len(), 1);
    assert!(f.store.remove_vault("pier", "operator").await.unwrap() && !f.store.remove_vault("pier", "operator").await.unwrap());
    let history = f.store.vault_history("pier", "operator").await.unwrap();
    assert_eq!(history.iter().map(|h| (h.by.as_str(), h.what.as_str())).collect::<Vec<_>>(), [("mira", "saw it"), ("lena", "put it in")]);
}
