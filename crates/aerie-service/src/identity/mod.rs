//! Who signs in: passwords, codes, passkeys, PINs and tokens, and the brake on guessing.

mod book;
mod confirm;
mod passkeys;
mod password;
mod pins;

pub(crate) use book::{Book, Entry, NewToken, new_secret};
pub(crate) use confirm::{Confirmations, Outcome as Confirmed, Pending};
pub(crate) use passkeys::{CeremonyError, PasskeyProved};
pub use password::hash_password;
pub(crate) use pins::PinTried;

use crate::keys::{Keys, random};
use aerie_core::factor::{
    CodeChecked, Place, RECOVERY_CODES, Source, SprayBrake, Target, Throttle, TotpSecret, message, recovery_code, recovery_form,
};

use aerie_store::{Store, StoreError};
use jiff::{SignedDuration, Timestamp};
use password::{Compared, Passwords};
use sha2::{Digest as _, Sha256};
use std::collections::HashMap;
use std::net::IpAddr;
use std::sync::{Arc, Mutex, PoisonError};
use subtle::ConstantTimeEq as _;
use zeroize::Zeroizing;

/// Name of the measured cost of a password in the store.
pub const PASSWORD_COST: &str = "password cost";
/// How long somebody may take to scan a secret and type its first code.
const OFFER_LIFE: SignedDuration = SignedDuration::from_mins(30);
/// For how long a browser or address that somebody signed in from is known.
const KNOWN_FOR: SignedDuration = SignedDuration::from_hours(24 * 90);

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
    /// It is a code of so many seconds ago: the clock of the phone is behind.
    Drifted(i64),
    /// Too many tries failed; nothing was compared. So many seconds are to be waited.
    Wait(i64),
    /// Too many sign in at this moment; nothing was compared.
    Busy,
}

/// Who tries, from where.
#[derive(Debug, Clone)]
pub(crate) struct Tryer {
    place: Place,
    source: Source,
}

/// Checks proofs.
pub(crate) struct Identity {
    store: Store,
    keys: Arc<Keys>,
    passwords: Passwords,
    throttle: Mutex<Throttle>,
    brake: Mutex<SprayBrake>,
    challenges: Mutex<passkeys::Challenges>,
    nonces: Mutex<message::Nonces>,
    /// Secrets that were offered and not enrolled yet: the newest of each person.
    offers: Mutex<HashMap<String, (Timestamp, Zeroizing<String>)>>,
    pub(crate) book: Book,
    pub(crate) confirmations: Confirmations,
}

fn lock<T>(of: &Mutex<T>) -> std::sync::MutexGuard<'_, T> {
    of.lock().unwrap_or_else(PoisonError::into_inner)
}

/// A browser or address as it is kept: a hash, since it is only compared.
fn source_id(kind: &str, text: &str) -> [u8; 16] {
    let digest: [u8; 32] = Sha256::digest(format!("aerie {kind} {text}")).into();
    let mut id = [0; 16];
    id.iter_mut().zip(digest).for_each(|(to, from)| *to = from);
    id
}

fn whole_seconds(wait: SignedDuration) -> i64 {
    wait.as_secs() + i64::from(wait.subsec_nanos() > 0)
}

impl Identity {
    /// Opens what the store knows. On the first start it measures what a password may cost here.
    pub(crate) async fn open(store: Store, keys: Arc<Keys>, now: Timestamp) -> Result<Self, StoreError> {
        let known = store.meta(PASSWORD_COST).await?.and_then(|b| password::read_cost(&String::from_utf8(b).ok()?));
        let cost = match known {
            Some(cost) => cost,
            None => {
                let cost = tokio::task::spawn_blocking(password::measure).await.map_err(|_| StoreError::LogClosed)?;
                store.set_meta(PASSWORD_COST, password::cost_text(cost).as_bytes()).await?;
                tracing::info!(kib = cost.0, passes = cost.1, "measured what a password may cost here");
                cost
            }
        };
        Ok(Self {
            book: Book::open(store.clone(), keys.clone(), now).await?,
            store,
            keys,
            passwords: Passwords::new(cost),
            throttle: Mutex::default(),
            brake: Mutex::default(),
            challenges: Mutex::default(),
            nonces: Mutex::default(),
            offers: Mutex::default(),
            confirmations: Confirmations::default(),
        })
    }

    /// Who tries to be this person: somebody that the account knows by the browser or the address, or a stranger.
    pub(crate) async fn tryer(&self, person: &str, from: IpAddr, device: Option<&str>, now: Timestamp) -> Result<Tryer, StoreError> {
        let since = now - KNOWN_FOR;
        let ids = device.map(|d| source_id("browser", d)).into_iter().chain([source_id("address", &from.to_string())]);
        for id in ids {
            if self.store.knows_source(person, &id, since).await? {
                return Ok(Tryer { place: from.into(), source: Source::Known(id) });
            }
        }
        Ok(Tryer { place: from.into(), source: Source::Stranger(from.into()) })
    }

    /// Notes that somebody signed in: their wrong tries from there are forgotten, and the place is known.
    pub(crate) async fn signed_in(
        &self,
        person: &str,
        tryer: &Tryer,
        from: IpAddr,
        device: Option<&str>,
        now: Timestamp,
    ) -> Result<(), StoreError> {
        lock(&self.throttle).forget(person, &tryer.source);
        // An address on this machine is everybody's.
        if !from.is_loopback() {
            self.store.know_source(person, &source_id("address", &from.to_string()), now).await?;
        }
        match device {
            Some(device) => self.store.know_source(person, &source_id("browser", device), now).await,
            None => Ok(()),
        }
    }

    /// Takes a try before anything is compared; none where it has to wait.
    fn reserve(&self, target: Target<'_>, tryer: &Tryer, now: Timestamp) -> Result<(), Checked> {
        lock(&self.throttle).reserve(target, &tryer.source, tryer.place, now).map_err(|w| Checked::Wait(whole_seconds(w)))
    }

    /// What was taken was no wrong try.
    fn give_back(&self, target: Target<'_>, tryer: &Tryer) {
        lock(&self.throttle).give_back(target, &tryer.source, tryer.place);
    }

    /// What became of a try that was reserved: a wrong one stays counted.
    fn tried(&self, target: Target<'_>, tryer: &Tryer, checked: Checked) -> Checked {
        if checked != Checked::Wrong {
            self.give_back(target, tryer);
        }
        checked
    }

    /// Checks a password.
    pub(crate) async fn password(&self, person: &str, given: &str, tryer: &Tryer, now: Timestamp) -> Result<Checked, StoreError> {
        let target = Target::Account(person);
        if let Err(wait) = self.reserve(target, tryer, now) {
            return Ok(wait);
        }
        let kept = self.store.credentials(person).await?.and_then(|c| c.password_hash);
        let known = matches!(tryer.source, Source::Known(_));
        let checked = match self.passwords.compare(given, kept.as_deref(), tryer.place, known).await {
            Compared::Right(renewed) => {
                if let Some((before, after)) = kept.zip(renewed) {
                    self.store.renew_password_hash(person, &before, &after).await?;
                }
                Checked::Right
            }
            Compared::Wrong => Checked::Wrong,
            Compared::Busy => Checked::Busy,
        };
        Ok(self.tried(target, tryer, checked))
    }

    /// Sets a password; false where too many wait to be hashed.
    pub(crate) async fn set_password(&self, person: &str, password: &str, now: Timestamp) -> Result<bool, StoreError> {
        let Some(hash) = self.passwords.hash(password).await else { return Ok(false) };
        self.store.set_password(person, Some(&hash), now).await?;
        Ok(true)
    }

    /// Whether somebody has enrolled for codes.
    pub(crate) async fn has_code(&self, person: &str) -> Result<bool, StoreError> {
        Ok(self.store.credentials(person).await?.is_some_and(|c| c.totp.is_some()))
    }

    /// Checks a code and uses it up: a time-based one, a recovery code, or the temporary one that an administrator gave.
    pub(crate) async fn code(&self, person: &str, given: &str, tryer: &Tryer, now: Timestamp) -> Result<Checked, StoreError> {
        let target = Target::Account(person);
        if let Err(wait) = self.reserve(target, tryer, now) {
            return Ok(wait);
        }
        let result = match recovery_form(given) {
            Some(form) => {
                let hashes = self.keys.token_hashes(&form);
                let used = self.store.use_recovery_code(person, &hashes, now).await?
                    || self.store.use_temporary_code(person, &hashes, now).await?;
                if used { Checked::Right } else { Checked::Wrong }
            }
            None => self.time_code(person, given, now).await?,
        };
        Ok(self.tried(target, tryer, result))
    }

    async fn time_code(&self, person: &str, given: &str, now: Timestamp) -> Result<Checked, StoreError> {
        let Some(known) = self.store.credentials(person).await? else { return Ok(Checked::Wrong) };
        let Some(secret) = known.totp.and_then(|sealed| self.totp_secret(person, &sealed)) else { return Ok(Checked::Wrong) };
        Ok(match secret.check(given, now, Some(known.totp_step)) {
            CodeChecked::Right { step } if self.store.use_totp_step(person, step).await? => Checked::Right,
            CodeChecked::Right { .. } | CodeChecked::Used => Checked::Used,
            CodeChecked::Drifted { seconds } => Checked::Drifted(seconds),
            CodeChecked::Wrong => Checked::Wrong,
        })
    }

    fn totp_secret(&self, person: &str, sealed: &[u8]) -> Option<TotpSecret> {
        let bytes = self.keys.open(sealed, &totp_purpose(person))?;
        Some(TotpSecret::from_bytes(bytes.as_slice().try_into().ok()?))
    }

    /// A new secret for an authenticator app, in base32. An earlier offer to the same person is forgotten.
    pub(crate) fn offer_code(&self, person: &str, now: Timestamp) -> Result<Zeroizing<String>, crate::KeyError> {
        let secret = Zeroizing::new(TotpSecret::from_bytes(random()?).to_base32());
        let mut offers = lock(&self.offers);
        offers.retain(|_, (made, _)| now.duration_since(*made).abs() < OFFER_LIFE);
        offers.insert(person.into(), (now, secret.clone()));
        Ok(secret)
    }

    /// The secret that was offered, where this is it: nobody brings one of their own.
    pub(crate) fn offered(&self, person: &str, secret: &str, now: Timestamp) -> Option<TotpSecret> {
        let offers = lock(&self.offers);
        let (_, offered) = offers.get(person).filter(|(made, _)| now.duration_since(*made).abs() < OFFER_LIFE)?;
        let same = bool::from(offered.as_bytes().ct_eq(secret.trim().as_bytes()));
        same.then(|| TotpSecret::from_base32(offered)).flatten()
    }

    /// Sets a TOTP secret whose first code is right; the code is used up.
    pub(crate) async fn set_code(&self, person: &str, secret: &TotpSecret, first: &str, now: Timestamp) -> Result<Checked, StoreError> {
        match secret.check_first(first, now) {
            CodeChecked::Right { step } => {
                let sealed = self.keys.seal(secret.expose(), &totp_purpose(person)).map_err(|_| StoreError::LogClosed)?;
                self.store.set_totp(person, Some(&sealed), step).await?;
                lock(&self.offers).remove(person);
                Ok(Checked::Right)
            }
            CodeChecked::Drifted { seconds } => Ok(Checked::Drifted(seconds)),
            CodeChecked::Used | CodeChecked::Wrong => Ok(Checked::Wrong),
        }
    }

    /// Seals every TOTP secret under the newest key.
    pub(crate) async fn reseal(&self) -> Result<(), StoreError> {
        for (person, before) in self.store.totp_secrets().await? {
            let secret = self.keys.open(&before, &totp_purpose(&person));
            if let Some(after) = secret.and_then(|s| self.keys.seal(&s, &totp_purpose(&person)).ok()) {
                self.store.reseal_totp(&person, &before, &after).await?;
            }
        }
        Ok(())
    }

    /// New recovery codes, in place of all earlier ones; shown once.
    pub(crate) async fn new_recovery_codes(&self, person: &str, now: Timestamp) -> Result<Vec<Zeroizing<String>>, StoreError> {
        let mut codes = vec![];
        for _ in 0..RECOVERY_CODES {
            codes.push(new_code()?);
        }
        let hashes: Vec<[u8; 32]> = codes.iter().filter_map(|c| Some(self.keys.token_hash(&recovery_form(c)?))).collect();
        self.store.set_recovery_codes(person, &hashes, now).await?;
        Ok(codes)
    }

    /// A code with which somebody can sign in once in place of theirs; shown once, to the administrator who reads it out.
    pub(crate) async fn new_temporary_code(
        &self,
        person: &str,
        by: &str,
        life: SignedDuration,
        now: Timestamp,
    ) -> Result<Zeroizing<String>, StoreError> {
        let code = new_code()?;
        let hash = recovery_form(&code).map(|f| self.keys.token_hash(&f)).unwrap_or_default();
        self.store.set_temporary_code(person, &hash, by, now, now + life).await?;
        Ok(code)
    }

    /// Uses up the nonce of a signed request; false where it was sent before.
    pub(crate) fn use_nonce(&self, token: &str, nonce: &str, now: Timestamp) -> bool {
        lock(&self.nonces).use_up(token, nonce, now)
    }

    /// Takes a try of a stranger at something that is nobody's: a PIN, a passkey, a queue. What one place does concerns no other.
    ///
    /// # Errors
    /// The seconds that this place has to wait.
    pub(crate) fn stranger(&self, what: &str, from: IpAddr, now: Timestamp) -> Result<(), i64> {
        let stranger = Tryer { place: from.into(), source: Source::Stranger(from.into()) };
        self.reserve(Target::Nobody(what), &stranger, now).map_err(|checked| if let Checked::Wait(seconds) = checked { seconds } else { 1 })
    }

    /// The try was right.
    pub(crate) fn stranger_was_right(&self, what: &str, from: IpAddr) {
        self.give_back(Target::Nobody(what), &Tryer { place: from.into(), source: Source::Stranger(from.into()) });
    }
}

fn new_code() -> Result<Zeroizing<String>, StoreError> {
    Ok(recovery_code(u64::from_le_bytes(random().map_err(|_| StoreError::LogClosed)?)))
}

#[cfg(test)]
mod tests_support {
    use super::*;

    /// An identity service of its own, with one person and no measured cost.
    pub(super) async fn identity() -> (tempfile::TempDir, Identity) {
        let dir = tempfile::tempdir().unwrap();
        let keys = Arc::new(Keys::load(dir.path()).unwrap());
        let store = Store::open(&dir.path().join("aerie.db")).await.unwrap();
        store.set_meta(PASSWORD_COST, b"19456 2").await.unwrap();
        store.put_person(&serde_json::from_value(serde_json::json!({ "name": "ines" })).unwrap()).await.unwrap();
        let identity = Identity::open(store, keys, Timestamp::now()).await.unwrap();
        (dir, identity)
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    const HERE: IpAddr = IpAddr::V4(std::net::Ipv4Addr::new(192, 0, 2, 7));

    async fn identity() -> (tempfile::TempDir, Identity, TotpSecret) {
        let (dir, id) = tests_support::identity().await;
        assert!(id.set_password("ines", "seven grey herons", Timestamp::now()).await.unwrap());
        (dir, id, TotpSecret::from_bytes([3; 20]))
    }

    async fn here(id: &Identity, now: Timestamp) -> Tryer {
        id.tryer("ines", HERE, None, now).await.unwrap()
    }

    #[tokio::test]
    async fn passwords_are_compared_and_guessing_is_braked() {
        let (_dir, id, _) = identity().await;
        let now = Timestamp::now();
        let who = here(&id, now).await;
        assert_eq!(id.password("ines", "seven grey herons", &who, now).await.unwrap(), Checked::Right);
        assert_eq!(id.password("nobody", "seven grey herons", &who, now).await.unwrap(), Checked::Wrong);
        for given in ["wrong", "wrong", "wrong", "wrong", &"x".repeat(257)] {
            assert_eq!(id.password("ines", given, &who, now).await.unwrap(), Checked::Wrong);
        }
        assert_eq!(id.password("ines", "seven grey herons", &who, now).await.unwrap(), Checked::Wait(2));
        let later = now + SignedDuration::from_secs(2);
        assert_eq!(id.password("ines", "seven grey herons", &who, later).await.unwrap(), Checked::Right);
    }

    #[tokio::test]
    async fn a_known_browser_is_not_locked_out_by_strangers() {
        let (_dir, id, _) = identity().await;
        let now = Timestamp::now();
        let first = id.tryer("ines", HERE, Some("browser"), now).await.unwrap();
        id.signed_in("ines", &first, HERE, Some("browser"), now).await.unwrap();
        for i in 0..120u8 {
            let from = IpAddr::V4(std::net::Ipv4Addr::new(198, 51, 100, i));
            let stranger = id.tryer("ines", from, None, now).await.unwrap();
            let _ = id.reserve(Target::Account("ines"), &stranger, now);
        }
        let elsewhere = IpAddr::V4(std::net::Ipv4Addr::new(203, 0, 113, 1));
        let stranger = id.tryer("ines", elsewhere, None, now).await.unwrap();
        assert!(matches!(id.password("ines", "seven grey herons", &stranger, now).await.unwrap(), Checked::Wait(_)));
        for (from, device) in [(elsewhere, Some("browser")), (HERE, None)] {
            let known = id.tryer("ines", from, device, now).await.unwrap();
            assert_eq!(id.password("ines", "seven grey herons", &known, now).await.unwrap(), Checked::Right);
        }
        let forgotten = id.tryer("ines", HERE, Some("browser"), now + KNOWN_FOR + SignedDuration::from_hours(1)).await.unwrap();
        assert!(matches!(forgotten.source, Source::Stranger(_)));
    }

    #[tokio::test]
    async fn a_code_is_good_once_and_the_one_that_enrolled_is_used_up() {
        let (_dir, id, secret) = identity().await;
        let now = Timestamp::now();
        let who = here(&id, now).await;
        assert_eq!(id.set_code("ines", &secret, "000000x", now).await.unwrap(), Checked::Wrong);
        let behind = secret.code_at(now - SignedDuration::from_mins(5));
        assert!(matches!(id.set_code("ines", &secret, &behind, now).await.unwrap(), Checked::Drifted(s) if s < -200));
        let code = secret.code_at(now);
        assert_eq!(id.set_code("ines", &secret, &code, now).await.unwrap(), Checked::Right);
        assert_eq!(id.code("ines", &code, &who, now).await.unwrap(), Checked::Used);
        let next = secret.code_at(now + SignedDuration::from_secs(30));
        assert_eq!(id.code("ines", &next, &who, now).await.unwrap(), Checked::Right);
        assert_eq!(id.code("ines", &next, &who, now).await.unwrap(), Checked::Used);
        assert_eq!(id.code("nobody", &code, &who, now).await.unwrap(), Checked::Wrong);
        // The clock goes back an hour: the codes of that hour come again on the service's side, and are dead.
        let back = now - SignedDuration::from_hours(1);
        assert_eq!(id.code("ines", &secret.code_at(back), &who, back).await.unwrap(), Checked::Used);
    }

    #[tokio::test]
    async fn recovery_and_temporary_codes_are_good_once() {
        let (_dir, id, _) = identity().await;
        let now = Timestamp::now();
        let who = here(&id, now).await;
        let old = id.new_recovery_codes("ines", now).await.unwrap();
        let codes = id.new_recovery_codes("ines", now).await.unwrap();
        assert_eq!(id.code("ines", &old[0], &who, now).await.unwrap(), Checked::Wrong);
        assert_eq!(id.code("ines", &codes[3].to_uppercase(), &who, now).await.unwrap(), Checked::Right);
        assert_eq!(id.code("ines", &codes[3], &who, now).await.unwrap(), Checked::Wrong);
        assert_eq!(id.store.recovery_codes_left("ines").await.unwrap(), 9);
        let hour = SignedDuration::from_hours(1);
        let temporary = id.new_temporary_code("ines", "lena", hour, now).await.unwrap();
        assert_eq!(id.code("ines", &temporary, &who, now + hour).await.unwrap(), Checked::Wrong);
        // Nor does a clock that went back keep it alive.
        assert_eq!(id.code("ines", &temporary, &who, now - hour).await.unwrap(), Checked::Wrong);
        assert_eq!(id.code("ines", &temporary, &who, now).await.unwrap(), Checked::Right);
        assert_eq!(id.code("ines", &temporary, &here(&id, now + hour).await, now + hour).await.unwrap(), Checked::Wrong);
    }

    #[tokio::test]
    async fn codes_outlive_a_rotation_of_the_keys() {
        let (_dir, id, secret) = identity().await;
        let now = Timestamp::now();
        let who = here(&id, now).await;
        let codes = id.new_recovery_codes("ines", now).await.unwrap();
        assert_eq!(id.set_code("ines", &secret, &secret.code_at(now), now).await.unwrap(), Checked::Right);
        id.keys.rotate(crate::Purpose::Secrets, now).unwrap();
        id.keys.rotate(crate::Purpose::Tokens, now).unwrap();
        id.reseal().await.unwrap();
        let next = secret.code_at(now + SignedDuration::from_secs(30));
        assert_eq!(id.code("ines", &next, &who, now).await.unwrap(), Checked::Right);
        assert_eq!(id.code("ines", &codes[0], &who, now).await.unwrap(), Checked::Right);
    }
}
