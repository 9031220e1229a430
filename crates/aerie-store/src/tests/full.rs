//! A disk that is full for a moment.

use super::*;

/// Lets the database grow no more, on the connection that writes.
async fn fill(store: &Store) {
    let pages: i64 = sqlx::query_scalar("PRAGMA page_count").fetch_one(&store.write).await.unwrap();
    sqlx::query(sqlx::AssertSqlSafe(format!("PRAGMA max_page_count = {pages}"))).execute(&store.write).await.unwrap();
}

#[tokio::test]
async fn what_is_acknowledged_after_a_full_disk_is_kept() {
    let f = fixture().await;
    let long = "# long\n".repeat(100_000);
    // Twice: after the first failure alone, later commits would still arrive.
    for n in 0..2 {
        fill(&f.store).await;
        let refused = f.store.publish_policy(Publication { text: &long, by: "lena", ..Publication::default() }, t(n)).await;
        assert!(refused.is_err(), "{n}: {refused:?}");
        fill(&f.store).await;
        let refused = f.log.append(NewEvent { sentence: long.clone(), ..event(n) }).await;
        assert!(refused.is_err(), "{n}: {refused:?}");
    }
    let published = f.store.publish_policy(Publication { text: "# kept\n", by: "lena", ..Publication::default() }, t(9)).await.unwrap();
    f.log.append(event(9)).await.unwrap();
    f.store.set_meta("kept", b"yes").await.unwrap();
    f.log.stop(t(10)).await.unwrap();
    f.store.close().await;

    let store = Store::open(&f.path).await.unwrap();
    assert_eq!(store.policies().await.unwrap().len(), 1, "{published:?}");
    assert_eq!(store.meta("kept").await.unwrap().as_deref(), Some(&b"yes"[..]));
    let report = events::verify(&store, vec![SigningKey::from_bytes(&[1; 32]).verifying_key()], None).await.unwrap();
    assert!(report.holds() && report.events == 1, "{report:?}");
}
