//! Argon2id: what it costs here, and checking at most a few at a time.

use crate::keys::random;
use aerie_core::factor::LONGEST_PASSWORD;
use argon2::password_hash::phc::PasswordHash;
use argon2::password_hash::{PasswordHasher as _, PasswordVerifier as _};
use argon2::{Algorithm, Argon2, Params, Version};
use std::sync::atomic::{AtomicUsize, Ordering};
use std::time::{Duration, Instant};
use tokio::sync::Semaphore;

/// Least cost: OWASP's recommendation of 19 MiB and two passes.
const LEAST: (u32, u32) = (19 * 1024, 2);
/// Costs that are tried on the first start, each some half dearer than the one before; KiB and passes.
const COSTS: [(u32, u32); 7] = [LEAST, (32 * 1024, 2), (46 * 1024, 2), (64 * 1024, 2), (64 * 1024, 3), (96 * 1024, 3), (128 * 1024, 3)];
/// What one check may take: long for a guesser, short for a person.
const AIM: Duration = Duration::from_millis(200);
/// Checks at a time: each takes a processor, and the memory of its cost.
const CHECKS_AT_A_TIME: usize = 2;
/// Checks that may wait for their turn. More are told to come back: a flood must take neither memory nor everybody's time.
const MOST_WAITING: usize = 64;

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
    checks: Semaphore,
    waiting: AtomicUsize,
    /// Compared with when there is no such person, so that the answer takes as long.
    decoy: String,
}

impl Passwords {
    pub(super) fn new(cost: Cost) -> Self {
        let decoy = hash("decoy", cost).unwrap_or_default();
        Self { cost, checks: Semaphore::new(CHECKS_AT_A_TIME), waiting: AtomicUsize::new(0), decoy }
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

    /// Compares a password with a kept hash, or with the decoy where there is none: both take as long.
    pub(super) async fn compare(&self, given: &str, kept: Option<&str>) -> Compared {
        let exists = kept.is_some() && given.len() <= LONGEST_PASSWORD;
        let text = kept.unwrap_or(&self.decoy).to_string();
        let given: String = if given.len() <= LONGEST_PASSWORD { given.into() } else { String::new() };
        let cost = self.cost;
        let compared = self.in_turn(move || {
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
        self.in_turn(move || hash(&password, cost).ok()).await.flatten()
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
        let Compared::Right(Some(renewed)) = passwords.compare("seven grey herons", Some(&old)).await else { panic!("not renewed") };
        assert!(renewed.contains("m=20480,t=2,p=1"), "{renewed}");
        assert_eq!(passwords.compare("seven grey herons", Some(&renewed)).await, Compared::Right(None));
        assert_eq!(passwords.compare("seven grey heron", Some(&renewed)).await, Compared::Wrong);
        assert_eq!(passwords.compare("decoy", None).await, Compared::Wrong);
    }

    #[tokio::test]
    async fn a_flood_is_turned_away_and_what_waited_is_done() {
        let passwords = Arc::new(Passwords::new(LEAST));
        let kept: Arc<str> = hash("seven grey herons", LEAST).unwrap().into();
        // Nobody gets a turn until all have come.
        let held = passwords.checks.acquire_many(u32::try_from(CHECKS_AT_A_TIME).unwrap()).await.unwrap();
        let tasks: Vec<_> = (0..MOST_WAITING + 10)
            .map(|_| {
                let (passwords, kept) = (passwords.clone(), kept.clone());
                tokio::spawn(async move { passwords.compare("wrong", Some(&kept)).await })
            })
            .collect();
        while passwords.waiting.load(Ordering::Relaxed) < MOST_WAITING {
            tokio::task::yield_now().await;
        }
        let mut finished = vec![];
        let mut waiting = vec![];
        for task in tasks {
            if finished.len() < 10 && {
                tokio::task::yield_now().await;
                task.is_finished()
            } {
                finished.push(task)
            } else {
                waiting.push(task)
            }
        }
        drop(held);
        let mut busy = 0;
        for task in finished.into_iter().chain(waiting) {
            busy += usize::from(task.await.unwrap() == Compared::Busy);
        }
        assert_eq!(busy, 10);
        assert_eq!(passwords.waiting.load(Ordering::Relaxed), 0);
    }

    #[test]
    fn costs_are_kept_as_text_and_never_below_the_least() {
        assert_eq!(read_cost(&cost_text((65_536, 3))), Some((65_536, 3)));
        for odd in ["", "65536", "1024 1", "x 2", "19456 0", "99999999 2"] {
            assert_eq!(read_cost(odd), None, "{odd}");
        }
    }
}
