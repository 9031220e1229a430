//! Argon2id: what it costs here, and checking at most a few at a time.

use crate::keys::random;
use aerie_core::factor::{LONGEST_PASSWORD, Place};
use argon2::password_hash::phc::PasswordHash;
use argon2::password_hash::{PasswordHasher as _, PasswordVerifier as _};
use argon2::{Algorithm, Argon2, Params, Version};
use std::collections::HashMap;
use std::sync::atomic::{AtomicUsize, Ordering};
use std::sync::{Mutex, PoisonError};
use std::time::{Duration, Instant};
use tokio::sync::Semaphore;

/// Least cost: OWASP's recommendation of 19 MiB and two passes.
const LEAST: (u32, u32) = (19 * 1024, 2);
/// Costs that are tried on the first start, each some half dearer than the one before; KiB and passes.
const COSTS: [(u32, u32); 7] = [LEAST, (32 * 1024, 2), (46 * 1024, 2), (64 * 1024, 2), (64 * 1024, 3), (96 * 1024, 3), (128 * 1024, 3)];
/// What one check may take: long for a guesser, short for a person.
const AIM: Duration = Duration::from_millis(200);
/// Checks at a time of each kind, strangers and known: each takes a processor, and the memory of its cost.
const CHECKS_AT_A_TIME: usize = 1;
/// Checks that may wait for their turn: of strangers, and of people from a browser or place that their account knows. More are told to
/// come back: a flood must take neither memory nor everybody's time.
const MOST_WAITING: usize = 64;
/// Of strangers from one place at a time: nobody types more.
const FROM_ONE_PLACE: usize = 2;

/// The cost of a hash as it is kept: KiB and passes.
pub(super) type Cost = (u32, u32);

/// Measures the dearest cost that stays below [`AIM`] on this machine; takes a second or two.
pub(super) fn measure() -> Cost {
    let mut found = LEAST;
    for cost in COSTS {
        let began = Instant::now();
        if hash("a password to measure with", cost).is_err() || began.elapsed() > AIM {
            break;
        }
        found = cost;
    }
    found
}

/// The cost in a text of [`cost_text`]; none where it is not one, or is below the least.
pub(super) fn read_cost(text: &str) -> Option<Cost> {
    let (memory, passes) = text.split_once(' ')?;
    let cost = (memory.parse().ok()?, passes.parse().ok()?);
    (cost >= LEAST && cost.1 >= 1 && cost.0 <= 1 << 20).then_some(cost)
}

pub(super) fn cost_text((memory, passes): Cost) -> String {
    format!("{memory} {passes}")
}

fn argon2(cost: Cost) -> Result<Argon2<'static>, String> {
    let params = Params::new(cost.0, cost.1, 1, None).map_err(|e| e.to_string())?;
    Ok(Argon2::new(Algorithm::Argon2id, Version::V0x13, params))
}

fn hash(password: &str, cost: Cost) -> Result<String, String> {
    let salt = random::<16>().map_err(|e| e.to_string())?;
    argon2(cost)?.hash_password_with_salt(password.as_bytes(), &salt).map(|h| h.to_string()).map_err(|e| e.to_string())
}

/// Hashes a password at the least cost; it is hashed anew at the machine's own when its owner signs in.
///
/// # Errors
/// When the system has no randomness.
pub fn hash_password(password: &str) -> Result<String, String> {
    hash(password, LEAST)
}

/// The result of comparing.
#[derive(Debug, Clone, PartialEq, Eq)]
pub(super) enum Compared {
    /// It is right; with the hash at today's cost, where the kept one has another.
    Right(Option<String>),
    /// It is wrong.
    Wrong,
    /// Too many wait; nothing was compared.
    Busy,
}

/// Compares and hashes passwords, a few at a time.
pub(super) struct Passwords {
    cost: Cost,
    strangers: Lane,
    known: Lane,
    /// How many strangers of each place wait or are checked.
    places: Mutex<HashMap<Place, usize>>,
    /// Compared with when there is no such person, so that the answer takes as long.
    decoy: String,
}

/// A queue of its own.
struct Lane {
    checks: Semaphore,
    waiting: AtomicUsize,
}

impl Lane {
    fn new() -> Self {
        Self { checks: Semaphore::new(CHECKS_AT_A_TIME), waiting: AtomicUsize::new(0) }
    }

    /// Does something dear in its turn; none where too many wait.
    async fn in_turn<T: Send + 'static>(&self, work: impl FnOnce() -> T + Send + 'static) -> Option<T> {
        if self.waiting.fetch_add(1, Ordering::Relaxed) >= MOST_WAITING {
            self.waiting.fetch_sub(1, Ordering::Relaxed);
            return None;
        }
        let permit = self.checks.acquire().await;
        self.waiting.fetch_sub(1, Ordering::Relaxed);
        let _permit = permit.ok()?;
        tokio::task::spawn_blocking(work).await.ok()
    }
}

/// A stranger of a place, while theirs is checked.
struct FromPlace<'a>(&'a Passwords, Place);

impl Drop for FromPlace<'_> {
    fn drop(&mut self) {
        let mut places = self.0.places.lock().unwrap_or_else(PoisonError::into_inner);
        if let Some(n) = places.get_mut(&self.1) {
            *n -= 1;
            if *n == 0 {
                places.remove(&self.1);
            }
        }
    }
}

impl Passwords {
    pub(super) fn new(cost: Cost) -> Self {
        let decoy = hash("decoy", cost).unwrap_or_default();
        Self { cost, strangers: Lane::new(), known: Lane::new(), places: Mutex::default(), decoy }
    }

    /// A place in the queue for a stranger; none where others of their place are in it already.
    fn enter(&self, place: Place) -> Option<FromPlace<'_>> {
        let mut places = self.places.lock().unwrap_or_else(PoisonError::into_inner);
        let n = places.entry(place).or_insert(0);
        if *n >= FROM_ONE_PLACE {
            return None;
        }
        *n += 1;
        Some(FromPlace(self, place))
    }

    /// Compares a password with a kept hash, or with the decoy where there is none: both take as long. People whom their account knows wait
    /// behind no stranger.
    pub(super) async fn compare(&self, given: &str, kept: Option<&str>, place: Place, known: bool) -> Compared {
        let (lane, entered) = if known { (&self.known, None) } else { (&self.strangers, self.enter(place)) };
        if !known && entered.is_none() {
            return Compared::Busy;
        }
        let exists = kept.is_some() && given.len() <= LONGEST_PASSWORD;
        let text = kept.unwrap_or(&self.decoy).to_string();
        let given: String = if given.len() <= LONGEST_PASSWORD { given.into() } else { String::new() };
        let cost = self.cost;
        let compared = lane.in_turn(move || {
            let Ok(parsed) = PasswordHash::new(&text) else { return Compared::Wrong };
            if Argon2::default().verify_password(given.as_bytes(), &parsed).is_err() {
                return Compared::Wrong;
            }
            let today = Params::try_from(&parsed).is_ok_and(|p| (p.m_cost(), p.t_cost()) == cost);
            Compared::Right(if today { None } else { hash(&given, cost).ok() })
        });
        match compared.await {
            Some(Compared::Right(_)) if !exists => Compared::Wrong,
            Some(compared) => compared,
            None => Compared::Busy,
        }
    }

    /// Hashes a new password; none where too many wait.
    pub(super) async fn hash(&self, password: &str) -> Option<String> {
        let (password, cost) = (password.to_string(), self.cost);
        self.known.in_turn(move || hash(&password, cost).ok()).await.flatten()
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use std::sync::Arc;

    #[tokio::test]
    async fn a_hash_of_another_cost_is_renewed() {
        let passwords = Passwords::new((20 * 1024, 2));
        let old = hash("seven grey herons", LEAST).unwrap();
        let Compared::Right(Some(renewed)) = passwords.compare("seven grey herons", Some(&old), place(1), true).await else {
            panic!("not renewed")
        };
        assert!(renewed.contains("m=20480,t=2,p=1"), "{renewed}");
        assert_eq!(passwords.compare("seven grey herons", Some(&renewed), place(1), true).await, Compared::Right(None));
        assert_eq!(passwords.compare("seven grey heron", Some(&renewed), place(1), true).await, Compared::Wrong);
        assert_eq!(passwords.compare("decoy", None, place(1), true).await, Compared::Wrong);
    }

    fn place(n: u32) -> Place {
        std::net::IpAddr::V4(std::net::Ipv4Addr::from(0x0a00_0000 + n)).into()
    }

    #[tokio::test]
    async fn a_flood_is_turned_away_and_keeps_nobody_out_who_is_known() {
        let passwords = Arc::new(Passwords::new(LEAST));
        let kept: Arc<str> = hash("seven grey herons", LEAST).unwrap().into();
        // Nobody of the strangers gets a turn until all have come.
        let held = passwords.strangers.checks.acquire().await.unwrap();
        let flood: Vec<_> = (0..500u32)
            .map(|n| {
                let (passwords, kept) = (passwords.clone(), kept.clone());
                tokio::spawn(async move { passwords.compare("wrong", Some(&kept), place(n / 5), false).await })
            })
            .collect();
        while passwords.strangers.waiting.load(Ordering::Relaxed) < MOST_WAITING {
            tokio::task::yield_now().await;
        }
        assert_eq!(passwords.compare("seven grey herons", Some(&kept), place(1), true).await, Compared::Right(None));
        drop(held);
        let mut busy = 0;
        for task in flood {
            busy += usize::from(task.await.unwrap() == Compared::Busy);
        }
        assert!(busy >= 500 - MOST_WAITING - 1, "{busy}");
        assert_eq!((passwords.strangers.waiting.load(Ordering::Relaxed), passwords.places.lock().unwrap().len()), (0, 0));
    }

    #[tokio::test]
    async fn one_place_has_two_turns_at_a_time() {
        let passwords = Passwords::new(LEAST);
        let held = (passwords.enter(place(1)), passwords.enter(place(1)));
        assert!(held.0.is_some() && held.1.is_some() && passwords.enter(place(1)).is_none());
        assert_eq!(passwords.compare("x", None, place(1), false).await, Compared::Busy);
        assert_eq!(passwords.compare("x", None, place(2), false).await, Compared::Wrong);
        drop(held);
        assert!(passwords.enter(place(1)).is_some());
    }

    #[test]
    fn costs_are_kept_as_text_and_never_below_the_least() {
        assert_eq!(read_cost(&cost_text((65_536, 3))), Some((65_536, 3)));
        for odd in ["", "65536", "1024 1", "x 2", "19456 0", "99999999 2"] {
            assert_eq!(read_cost(odd), None, "{odd}");
        }
    }
}
