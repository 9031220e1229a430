mod asking;
mod findings;
mod full;
mod machines;
mod proofs;
mod visits;

use super::*;
use aerie_core::evidence::{EventKind, LogKey, NewEvent, ProblemKind, SigningKey};

pub(super) struct Fixture {
    _dir: tempfile::TempDir,
    path: std::path::PathBuf,
    store: Store,
    log: EventLog,
}

pub(super) async fn fixture() -> Fixture {
    let dir = tempfile::tempdir().unwrap();
    let path = dir.path().join("aerie.db");
    let store = Store::open(&path).await.unwrap();
    let (log, _) = EventLog::open(
        store.clone(),
        SigningKey::from_bytes(&[1; 32]),
        vec![SigningKey::from_bytes(&[1; 32]).verifying_key()],
        LogKey::new(vec![[2; 32]]),
    )
    .await
    .unwrap();
    Fixture { _dir: dir, path, store, log }
}

pub(super) fn t(s: i64) -> Timestamp {
    Timestamp::from_second(1_780_000_000 + s).unwrap()
}

fn event(n: i64) -> NewEvent {
    NewEvent::new(t(n), EventKind::SignIn, "ines").session("s-1")
}

#[tokio::test]
async fn events_of_many_writers_form_one_log_that_holds_after_reopening() {
    let f = fixture().await;
    let tasks: Vec<_> =
        (0..200).map(|n| (f.log.clone(), n)).map(|(log, n)| tokio::spawn(async move { log.append(event(n)).await.unwrap() })).collect();
    let mut places = vec![];
    for task in tasks {
        places.push(task.await.unwrap());
    }
    places.sort_unstable();
    assert_eq!(places, (0..200).collect::<Vec<u64>>());
    f.log.stop(t(0)).await.unwrap();
    assert!(matches!(f.log.append(event(0)).await, Err(StoreError::LogClosed)));
    f.store.close().await;

    let store = Store::open(&f.path).await.unwrap();
    let (log, _) = EventLog::open(
        store,
        SigningKey::from_bytes(&[1; 32]),
        vec![SigningKey::from_bytes(&[1; 32]).verifying_key()],
        LogKey::new(vec![[2; 32]]),
    )
    .await
    .unwrap();
    assert_eq!(log.append(event(1)).await.unwrap(), 200);
    let report = log.verify().await.unwrap();
    assert!(report.holds(), "{report:?}");
    assert_eq!(report.events, 201);
}

#[tokio::test]
async fn tampering_in_the_database_is_found() {
    let f = fixture().await;
    for n in 0..20 {
        f.log.append(event(n)).await.unwrap();
    }
    f.log.checkpoint(t(30)).await.unwrap();
    let table = [
        ("UPDATE events SET body = replace(body, 'ines', 'noa') WHERE seq = 7", ProblemKind::Changed, 7),
        ("DELETE FROM events WHERE seq = 19", ProblemKind::Removed, 19),
    ];
    for (sql, kind, seq) in table {
        sqlx::query(sql).execute(&f.store.write).await.unwrap();
        let report = f.log.verify().await.unwrap();
        assert!(report.problems.iter().any(|p| p.kind == kind && p.first == seq), "{sql}: {report:?}");
    }
}

#[tokio::test]
async fn a_code_is_used_once_even_at_the_same_moment() {
    let f = fixture().await;
    let person = serde_json::from_value(serde_json::json!({ "name": "ines" })).unwrap();
    f.store.put_person(&person).await.unwrap();
    let tries: Vec<_> =
        (0..20).map(|_| f.store.clone()).map(|s| tokio::spawn(async move { s.use_totp_step("ines", 5).await.unwrap() })).collect();
    let mut wins = 0;
    for t in tries {
        wins += u32::from(t.await.unwrap());
    }
    assert_eq!(wins, 1);
    assert!(!f.store.use_totp_step("ines", 4).await.unwrap());
    assert!(f.store.use_totp_step("ines", 6).await.unwrap());
}

#[tokio::test]
async fn rules_are_published_against_the_version_they_were_written_for() {
    let f = fixture().await;
    assert_eq!(f.store.publish_policy(Publication { text: "a", by: "lena", ..Publication::default() }, t(0)).await.unwrap(), Some(1));
    assert_eq!(
        f.store.publish_policy(Publication { text: "b", by: "lena", after: Some(1), ..Publication::default() }, t(1)).await.unwrap(),
        Some(2)
    );
    assert_eq!(
        f.store.publish_policy(Publication { text: "c", by: "lena", after: Some(1), ..Publication::default() }, t(2)).await.unwrap(),
        None
    );
    assert_eq!(f.store.policies().await.unwrap().len(), 2);
}

fn session(n: i64) -> SessionRow {
    SessionRow {
        id: format!("s-{n:03}"),
        person: if n % 2 == 0 { "ines" } else { "arlo_b" }.into(),
        machine: "dome-east".into(),
        account: "operator".into(),
        source: "10.20.4.7".into(),
        began: t(n / 3),
        ended: None,
        end_reason: None,
        uses: "shell".into(),
        factors: "key".into(),
        rule: "night".into(),
        rule_line: 1,
        policy_version: 1,
        recording: None,
        digest: None,
        length_ms: 0,
        bytes_out: 0,
        bytes_in: 0,
    }
}

#[tokio::test]
async fn whoever_acted_in_an_account_is_told_from_whoever_looked() {
    let f = fixture().await;
    for (n, uses) in [(0, "shell"), (1, "view"), (2, "")] {
        let account = if n == 2 { "archivist" } else { "operator" };
        let row = SessionRow { uses: uses.into(), account: account.into(), ..session(n) };
        f.store.add_session(&row).await.unwrap();
    }
    let acted = async |person, machine, account| f.store.acted_as(person, machine, account, &["view", "watch"]).await.unwrap();
    assert!(acted("ines", "dome-east", "operator").await);
    assert!(!acted("arlo_b", "dome-east", "operator").await, "they looked alone");
    assert!(!acted("ines", "dome-east", "archivist").await, "nothing was done there");
    assert!(!acted("ines", "dome-west", "operator").await);
    f.store.set_session_uses("s-001", "view control").await.unwrap();
    assert!(acted("arlo_b", "dome-east", "operator").await);
}

#[tokio::test]
async fn sessions_are_paged_without_loss_and_searched_literally() {
    let f = fixture().await;
    for n in 0..30 {
        f.store.add_session(&session(n)).await.unwrap();
    }
    let mut seen = vec![];
    let mut filter = SessionFilter { limit: 7, ..SessionFilter::default() };
    loop {
        let page = f.store.sessions(&filter).await.unwrap();
        let Some(last) = page.last() else { break };
        filter.before = Some((last.began, last.id.clone()));
        seen.extend(page.into_iter().map(|s| s.id));
    }
    let mut expected: Vec<_> = (0..30).map(|n| format!("s-{n:03}")).collect();
    expected.reverse();
    assert_eq!(seen, expected);
    let found = |text: &str| SessionFilter { text: Some(text.into()), limit: 100, ..SessionFilter::default() };
    assert_eq!(f.store.sessions(&found("arlo_b")).await.unwrap().len(), 15);
    assert_eq!(f.store.sessions(&found("arlo%b")).await.unwrap().len(), 0);
    f.store.end_session("s-001", t(9), "left", (3, 4)).await.unwrap();
    f.store.end_session("s-001", t(10), "idle", (0, 0)).await.unwrap();
    assert_eq!(f.store.session("s-001").await.unwrap().unwrap().end_reason.as_deref(), Some("left"));
    let live = SessionFilter { live: Some(true), limit: 100, ..SessionFilter::default() };
    assert_eq!(f.store.sessions(&live).await.unwrap().len(), 29);
}

fn access(id: &str, machine: &str, source: &str, at: i64, file: &str) -> aerie_core::audit::AccessRecord {
    serde_json::from_value(serde_json::json!({
        "id": id, "service": "ssh", "machine": machine, "account": "operator", "person": "ines", "source": source, "port": 0, "method": "password",
        "key": null, "begin": t(at), "end": null, "session": null, "explained": false,
        "lines": [{ "file": file, "number": 1, "offset": at, "text": "x" }],
    }))
    .unwrap()
}

#[tokio::test]
async fn what_several_logs_tell_of_one_access_is_kept_once_and_counted_once() {
    use aerie_core::audit::Recorded::{Began, Ended};
    let f = fixture().await;
    let told = [
        Began(access("a", "dome-east", "10.0.0.1", 0, "auth.log")),
        Began(access("b", "dome-east", "10.0.0.1", 4, "central.log")),
        Began(access("c", "dome-east", "10.0.0.2", 0, "auth.log")),
        Began(access("d", "mast-2", "10.0.0.1", 7200, "auth.log")),
        // The end is told by the log whose record was taken into the other.
        Ended { id: "b".into(), at: t(100), line: None },
        Ended { id: "nobody".into(), at: t(100), line: None },
    ];
    f.store.put_accesses(&told).await.unwrap();
    // Read again, nothing changes.
    f.store.put_accesses(&told).await.unwrap();
    let all = AccessFilter { limit: 10, ..AccessFilter::default() };
    let found = f.store.accesses(&all).await.unwrap();
    let ids: Vec<_> = found.iter().map(|r| (r.id.as_str(), r.lines.len(), r.end)).collect();
    assert_eq!(ids, [("d", 1, None), ("c", 1, None), ("a", 2, Some(t(100)))]);
    let totals = f.store.access_totals(&all, TotalOf::Machine).await.unwrap();
    assert_eq!((totals[0].name.as_str(), totals[0].count, totals[0].around, totals[0].seconds), ("dome-east", 2, 2, 100));
    assert_eq!(totals[1].name, "mast-2");
    let hours = f.store.accesses_over_time(&all, 3_600_000).await.unwrap();
    assert_eq!(hours.iter().map(|h| h.1).collect::<Vec<_>>(), [2, 1]);
    // A session of Aerie's own is one as well, and what a log shows of it is its evidence.
    let session = SessionRow {
        id: "s-1".into(),
        person: "ines".into(),
        machine: "dome-east".into(),
        account: "operator".into(),
        source: "10.0.0.9".into(),
        began: t(50),
        ended: Some(t(80)),
        end_reason: None,
        uses: "shell".into(),
        factors: "key".into(),
        rule: String::new(),
        rule_line: 0,
        policy_version: 1,
        recording: None,
        digest: None,
        length_ms: 0,
        bytes_out: 0,
        bytes_in: 0,
    };
    f.store.add_session(&session).await.unwrap();
    let shown = aerie_core::audit::AccessRecord { session: Some("s-1".into()), ..access("e", "dome-east", "10.0.0.7", 51, "auth.log") };
    f.store.put_accesses(&[Began(shown)]).await.unwrap();
    let through = AccessFilter { through: Some(true), ..all.clone() };
    let found = f.store.accesses(&through).await.unwrap();
    assert_eq!(found.iter().map(|r| (r.id.as_str(), r.session.as_deref())).collect::<Vec<_>>(), [("s-1", Some("s-1"))]);
    assert_eq!(f.store.lines_of_session("s-1").await.unwrap().len(), 1);
    // Filters add up, and a page goes on where the one before ended.
    let narrow = AccessFilter {
        machine: Some("dome-east".into()),
        since: Some(t(0)),
        until: Some(t(50)),
        text: Some("10.0.0.2".into()),
        ..all.clone()
    };
    assert_eq!(f.store.accesses(&narrow).await.unwrap().len(), 1);
    let next = AccessFilter { before: Some((t(0), "c".into())), ..all };
    assert_eq!(f.store.accesses(&next).await.unwrap().iter().map(|r| r.id.as_str()).collect::<Vec<_>>(), ["a"]);
}
