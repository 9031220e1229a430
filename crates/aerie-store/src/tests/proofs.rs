//! What people prove themselves with: used once, whoever comes at the same moment, and dead when its time is over.

use super::*;
use crate::{Invitation, Passkey, Pin, Token, TokenKind};
use aerie_core::factor::PinState;
use aerie_core::policy::{Factor, Proofs};
use aerie_core::session::Stage;
use jiff::SignedDuration;

/// How many of twenty that ask at the same moment get it.
async fn winners<F: Future<Output = Result<bool>> + Send + 'static>(ask: impl Fn(Store) -> F, store: &Store) -> usize {
    let tries: Vec<_> = (0..20).map(|_| tokio::spawn(ask(store.clone()))).collect();
    let mut won = 0;
    for t in tries {
        won += usize::from(t.await.unwrap().unwrap());
    }
    won
}

async fn with_ines() -> Fixture {
    let f = fixture().await;
    f.store.put_person(&serde_json::from_value(serde_json::json!({ "name": "ines" })).unwrap()).await.unwrap();
    f
}

fn pin(id: &str, hash: u8, machine: Option<&str>) -> Pin {
    Pin {
        id: id.into(),
        machine: machine.map(Into::into),
        note: String::new(),
        hash: [hash; 32],
        state: PinState { made: t(0), ends: machine.is_none().then(|| t(600)), tries_left: 3, used: None },
        issued_by: "mira".into(),
    }
}

#[tokio::test]
async fn a_pin_is_used_once_within_its_time_and_its_tries() {
    let f = fixture().await;
    assert!(f.store.add_pin(&pin("a", 1, None)).await.unwrap());
    assert!(!f.store.add_pin(&pin("b", 1, None)).await.unwrap(), "nobody reads out the same one");
    assert!(!f.store.use_pin("a", t(600)).await.unwrap(), "too late");
    assert_eq!(winners(|s| async move { s.use_pin("a", t(599)).await }, &f.store).await, 1);
    assert!(f.store.open_pins(t(1)).await.unwrap().is_empty());
    f.store.add_pin(&pin("c", 2, None)).await.unwrap();
    for left in [2, 1, 0, 0] {
        f.store.fail_pin("c").await.unwrap();
        assert_eq!(f.store.pin("c").await.unwrap().unwrap().state.tries_left, left);
    }
    assert!(!f.store.use_pin("c", t(1)).await.unwrap(), "guessed at too often");
    f.store.sweep_pins(t(601)).await.unwrap();
    assert!(f.store.pins(10).await.unwrap().is_empty());
}

#[tokio::test]
async fn the_standing_pin_of_a_machine_is_one_and_stays_when_another_cannot_take_its_place() {
    let f = fixture().await;
    f.store.add_pin(&pin("once", 7, None)).await.unwrap();
    assert!(f.store.add_pin(&pin("first", 1, Some("pier"))).await.unwrap());
    assert!(f.store.add_pin(&pin("second", 2, Some("pier"))).await.unwrap());
    let standing = async || f.store.standing_pin("pier").await.unwrap().map(|p| p.id);
    assert_eq!(standing().await.as_deref(), Some("second"));
    assert!(!f.store.add_pin(&pin("third", 7, Some("pier"))).await.unwrap());
    assert_eq!(standing().await.as_deref(), Some("second"));
    // It is neither used up nor guessed away nor swept.
    f.store.fail_pin("second").await.unwrap();
    f.store.sweep_pins(t(1_000_000)).await.unwrap();
    assert!(!f.store.use_pin("second", t(1)).await.unwrap());
    assert_eq!(f.store.standing_pin("pier").await.unwrap().unwrap().state.tries_left, 3);
    assert!(f.store.remove_pin("second").await.unwrap() && !f.store.remove_pin("second").await.unwrap());
}

#[tokio::test]
async fn recovery_and_temporary_codes_are_good_once_and_the_newest_set_alone() {
    let f = with_ines().await;
    f.store.set_recovery_codes("ines", &[[1; 32], [2; 32]], t(0)).await.unwrap();
    f.store.set_recovery_codes("ines", &[[3; 32], [4; 32], [5; 32]], t(1)).await.unwrap();
    assert_eq!(f.store.recovery_codes_left("ines").await.unwrap(), 3);
    assert!(!f.store.use_recovery_code("ines", &[[1; 32]], t(2)).await.unwrap());
    assert!(!f.store.use_recovery_code("arlo", &[[3; 32]], t(2)).await.unwrap(), "another's");
    // Hashed under keys of two generations: any of them may be it.
    assert_eq!(winners(|s| async move { s.use_recovery_code("ines", &[[9; 32], [3; 32]], t(2)).await }, &f.store).await, 1);
    assert_eq!(f.store.recovery_codes_left("ines").await.unwrap(), 2);

    f.store.set_temporary_code("ines", &[1; 32], "lena", t(0), t(100)).await.unwrap();
    f.store.set_temporary_code("ines", &[2; 32], "lena", t(0), t(100)).await.unwrap();
    for (hash, now) in [([1; 32], t(1)), ([2; 32], t(100)), ([2; 32], t(-61))] {
        assert!(!f.store.use_temporary_code("ines", &[hash], now).await.unwrap(), "{hash:?} {now}");
    }
    assert_eq!(winners(|s| async move { s.use_temporary_code("ines", &[[2; 32]], t(99)).await }, &f.store).await, 1);
}

#[tokio::test]
async fn an_invitation_is_taken_once_and_the_last_one_counts() {
    let f = with_ines().await;
    let invitation = |expires| Invitation { person: "ines".into(), created_by: "lena".into(), expires };
    f.store.invite(&[1; 32], &invitation(t(100)), t(0)).await.unwrap();
    f.store.invite(&[2; 32], &invitation(t(200)), t(0)).await.unwrap();
    assert!(f.store.invitation(&[[1; 32]], t(1)).await.unwrap().is_none(), "void by the next");
    assert_eq!(f.store.invitation(&[[8; 32], [2; 32]], t(199)).await.unwrap(), Some(invitation(t(200))));
    assert!(f.store.invitation(&[[2; 32]], t(200)).await.unwrap().is_none());
    assert_eq!(f.store.invited_until("ines", t(1)).await.unwrap(), Some(t(200)));
    assert_eq!(winners(|s| async move { s.use_invitation(&[[2; 32]]).await }, &f.store).await, 1);
    f.store.invite(&[3; 32], &invitation(t(300)), t(0)).await.unwrap();
    f.store.sweep_credentials(t(299)).await.unwrap();
    assert!(f.store.invited_until("ines", t(1)).await.unwrap().is_some());
    f.store.sweep_credentials(t(300)).await.unwrap();
    assert!(f.store.invited_until("ines", t(1)).await.unwrap().is_none());
}

#[tokio::test]
async fn a_passkey_is_its_owners_to_name_and_to_remove() {
    let f = with_ines().await;
    let key = Passkey {
        id: vec![1, 2],
        person: "ines".into(),
        verifies: true,
        label: "laptop".into(),
        bound: false,
        body: "{}".into(),
        created: t(0),
        last_used: None,
        last_from: None,
    };
    assert!(f.store.add_passkey(&key).await.unwrap());
    let thief = Passkey { person: "ines".into(), label: "mine".into(), ..key.clone() };
    assert!(!f.store.add_passkey(&thief).await.unwrap(), "an identifier is one credential");
    assert!(!f.store.name_passkey("arlo", &[1, 2], "mine").await.unwrap());
    assert!(f.store.name_passkey("ines", &[1, 2], "tablet").await.unwrap());
    f.store.use_passkey(&[1, 2], "{\"counter\":5}", t(9), "10.20.4.7").await.unwrap();
    let kept = f.store.passkeys("ines").await.unwrap().remove(0);
    let after = Passkey {
        label: "tablet".into(),
        body: "{\"counter\":5}".into(),
        last_used: Some(t(9)),
        last_from: Some("10.20.4.7".into()),
        ..key
    };
    assert_eq!(kept, after);
    assert!(!f.store.remove_passkey("arlo", &[1, 2]).await.unwrap());
    assert!(f.store.remove_passkey("ines", &[1, 2]).await.unwrap());
    assert!(f.store.passkey(&[1, 2]).await.unwrap().is_none());
}

#[tokio::test]
async fn a_token_comes_back_as_it_was_and_is_gone_with_its_time() {
    let f = fixture().await;
    let mut proofs = Proofs::default();
    proofs.prove(Factor::Password, t(0));
    proofs.prove(Factor::Passkey, t(5));
    let long = Token {
        id: "program".into(),
        scopes: vec!["read".into(), "sessions".into()],
        key: Some([7; 32]),
        stage: Stage::Full,
        ..Token::signed_in(TokenKind::Api, "ines", [1; 32], proofs, t(0), SignedDuration::from_hours(24))
    };
    let short =
        Token { hash: [2; 32], ..Token::signed_in(TokenKind::Console, "ines", [2; 32], proofs, t(1), SignedDuration::from_secs(60)) };
    for token in [&long, &short] {
        f.store.add_token(token).await.unwrap();
    }
    assert!(f.store.add_token(&Token { id: "other".into(), ..long.clone() }).await.is_err(), "no two of one secret");
    f.store.touch_tokens(&[("program".into(), t(30), "10.20.4.7".into()), ("nobody's".into(), t(30), String::new())]).await.unwrap();
    let used = Token { last_used: t(30), last_from: "10.20.4.7".into(), ..long };
    assert_eq!(f.store.tokens(t(60)).await.unwrap(), [used.clone(), short.clone()]);
    assert_eq!(f.store.tokens(t(61)).await.unwrap(), [used]);
    f.store.remove_tokens(&["program".into()]).await.unwrap();
    assert_eq!(f.store.tokens(t(2)).await.unwrap(), [short]);
}

#[tokio::test]
async fn of_each_person_twenty_places_are_known_and_no_others() {
    let f = with_ines().await;
    for n in 0..25 {
        f.store.know_source("ines", &[n; 16], t(i64::from(n))).await.unwrap();
    }
    f.store.know_source("ines", &[7; 16], t(100)).await.unwrap();
    let known = async |n: u8, since| f.store.knows_source("ines", &[n; 16], since).await.unwrap();
    assert!(known(24, t(0)).await && known(7, t(0)).await && !known(4, t(0)).await);
    assert!(!known(24, t(25)).await, "too long ago");
    assert!(!f.store.knows_source("arlo", &[24; 16], t(0)).await.unwrap());
}
