//! Who signs in: passwords, codes, tokens, and the brake on guessing.

use crate::keys::{Keys, random};
use aerie_core::factor::{CodeChecked, TotpSecret};
use aerie_store::{Store, StoreError};
use argon2::Argon2;
use argon2::password_hash::phc::PasswordHash;
use argon2::password_hash::{PasswordHasher as _, PasswordVerifier as _};
use base64::Engine as _;
use base64::engine::general_purpose::URL_SAFE_NO_PAD;
use jiff::{SignedDuration, Timestamp};
use std::sync::Arc;
use tokio::sync::Semaphore;

/// Passwords and codes of one person that may fail before each further try has to wait.
const FREE_FAILURES: u32 = 5;
/// The longest wait: guessing is hopeless, and nobody is locked out for long by somebody else's tries.
const LONGEST_WAIT: SignedDuration = SignedDuration::from_secs(60);
/// Longest password that is hashed: hashing is costly, and a stranger chooses the length.
const MAX_PASSWORD: usize = 256;
/// Password checks at a time: each takes some 20 MB and a tenth of a second.
const CHECKS_AT_A_TIME: usize = 2;

/// Purpose for which a TOTP secret is sealed.
pub fn totp_purpose(person: &str) -> String {
    format!("totp {person}")
}

/// The result of checking a proof.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub(crate) enum Checked {
    /// It is right.
    Right,
    /// It is wrong, or there is none to compare with.
    Wrong,
    /// The code was used before.
    Used,
    /// Too many tries failed; nothing was compared. So many seconds are to be waited.
    Wait(i64),
}

/// Checks proofs.
pub(crate) struct Identity {
    store: Store,
    keys: Arc<Keys>,
    checks: Semaphore,
    /// Compared with when there is no such person, so that the answer takes as long.
    decoy: String,
}

/// Hashes a password (Argon2id, OWASP's recommendation of 19 MiB and two passes).
///
/// # Errors
/// When the system has no randomness.
pub fn hash_password(password: &str) -> Result<String, String> {
    let salt = random::<16>().map_err(|e| e.to_string())?;
    Argon2::default().hash_password_with_salt(password.as_bytes(), &salt).map(|h| h.to_string()).map_err(|e| e.to_string())
}

/// A new token: 32 random bytes.
///
/// # Errors
/// When the system has no randomness.
pub fn new_token() -> Result<String, crate::KeyError> {
    Ok(URL_SAFE_NO_PAD.encode(random::<32>()?))
}

impl Identity {
    pub(crate) fn new(store: Store, keys: Arc<Keys>) -> Self {
        let decoy = hash_password("decoy").unwrap_or_default();
        Self { store, keys, checks: Semaphore::new(CHECKS_AT_A_TIME), decoy }
    }

    /// Checks a password.
    pub(crate) async fn password(&self, person: &str, password: &str, now: Timestamp) -> Result<Checked, StoreError> {
        let known = self.store.credentials(person).await?;
        let wait = known.as_ref().and_then(|c| waiting(c.retry_at, now));
        if let Some(seconds) = wait {
            return Ok(Checked::Wait(seconds));
        }
        let hash = known.as_ref().and_then(|c| c.password_hash.clone());
        let exists = hash.is_some() && password.len() <= MAX_PASSWORD;
        let hash = hash.unwrap_or_else(|| self.decoy.clone());
        let given: String = if password.len() <= MAX_PASSWORD { password.into() } else { String::new() };
        let right = {
            let Ok(_permit) = self.checks.acquire().await else { return Ok(Checked::Wrong) };
            tokio::task::spawn_blocking(move || {
                PasswordHash::new(&hash).is_ok_and(|h| Argon2::default().verify_password(given.as_bytes(), &h).is_ok())
            })
            .await
            .unwrap_or(false)
        };
        if right && exists {
            return Ok(Checked::Right);
        }
        self.failed(person, known.map_or(0, |c| c.failures), now).await?;
        Ok(Checked::Wrong)
    }

    /// Whether somebody has enrolled for codes.
    pub(crate) async fn has_code(&self, person: &str) -> Result<bool, StoreError> {
        Ok(self.store.credentials(person).await?.is_some_and(|c| c.totp.is_some()))
    }

    /// Checks a code and uses it up.
    pub(crate) async fn code(&self, person: &str, code: &str, now: Timestamp) -> Result<Checked, StoreError> {
        let Some(known) = self.store.credentials(person).await? else { return Ok(Checked::Wrong) };
        if let Some(seconds) = waiting(known.retry_at, now) {
            return Ok(Checked::Wait(seconds));
        }
        let secret = known.totp.and_then(|sealed| self.keys.master.open(&sealed, &totp_purpose(person)));
        let secret = secret.and_then(|s| s.as_slice().try_into().ok()).map(TotpSecret::from_bytes);
        let checked = secret.map_or(CodeChecked::Wrong, |s| s.check(code, now, Some(known.totp_step)));
        let result = match checked {
            CodeChecked::Right { step } if self.store.use_totp_step(person, step).await? => Checked::Right,
            CodeChecked::Right { .. } | CodeChecked::Used => Checked::Used,
            CodeChecked::Wrong => Checked::Wrong,
        };
        match result {
            Checked::Right => self.store.clear_failures(person).await?,
            Checked::Wrong => self.failed(person, known.failures, now).await?,
            Checked::Used | Checked::Wait(_) => {}
        }
        Ok(result)
    }

    async fn failed(&self, person: &str, before: u32, now: Timestamp) -> Result<(), StoreError> {
        let beyond = (before + 1).saturating_sub(FREE_FAILURES).min(6);
        let wait = if beyond == 0 { SignedDuration::ZERO } else { SignedDuration::from_secs(1 << beyond).min(LONGEST_WAIT) };
        self.store.note_failure(person, now + wait).await
    }
}

fn waiting(retry_at: i64, now: Timestamp) -> Option<i64> {
    let left = retry_at - now.as_millisecond();
    (left > 0).then_some((left + 999) / 1000)
}

#[cfg(test)]
mod tests {
    use super::*;

    async fn identity() -> (tempfile::TempDir, Identity, TotpSecret) {
        let dir = tempfile::tempdir().unwrap();
        let keys = Arc::new(Keys::load(dir.path()).unwrap());
        let store = Store::open(&dir.path().join("aerie.db")).await.unwrap();
        store.put_person(&serde_json::from_value(serde_json::json!({ "name": "ines" })).unwrap()).await.unwrap();
        store.set_password("ines", &hash_password("correct horse").unwrap()).await.unwrap();
        let secret = TotpSecret::from_bytes([3; 20]);
        store.set_totp("ines", &keys.master.seal(secret.expose(), &totp_purpose("ines"), [0; 24]).unwrap()).await.unwrap();
        (dir, Identity::new(store, keys), secret)
    }

    #[tokio::test]
    async fn passwords_are_compared_and_guessing_is_braked() {
        let (_dir, id, _) = identity().await;
        let now = Timestamp::now();
        assert_eq!(id.password("ines", "correct horse", now).await.unwrap(), Checked::Right);
        assert_eq!(id.password("nobody", "correct horse", now).await.unwrap(), Checked::Wrong);
        assert_eq!(id.password("ines", &"x".repeat(MAX_PASSWORD + 1), now).await.unwrap(), Checked::Wrong);
        for _ in 1..FREE_FAILURES {
            assert_eq!(id.password("ines", "wrong", now).await.unwrap(), Checked::Wrong);
        }
        assert_eq!(id.password("ines", "wrong", now).await.unwrap(), Checked::Wrong);
        assert_eq!(id.password("ines", "correct horse", now).await.unwrap(), Checked::Wait(2));
        // Nobody is locked out for long.
        assert_eq!(id.password("ines", "correct horse", now + LONGEST_WAIT).await.unwrap(), Checked::Right);
    }

    #[tokio::test]
    async fn a_code_is_good_once() {
        let (_dir, id, secret) = identity().await;
        let now = Timestamp::now();
        let code = secret.code_at(now);
        assert_eq!(id.code("ines", "000000x", now).await.unwrap(), Checked::Wrong);
        assert_eq!(id.code("ines", &code, now).await.unwrap(), Checked::Right);
        assert_eq!(id.code("ines", &code, now).await.unwrap(), Checked::Used);
        assert_eq!(id.code("nobody", &code, now).await.unwrap(), Checked::Wrong);
    }
}
