//! Passkeys and security keys (WebAuthn level 3): the ceremonies, and the challenges that are under way.

use super::Identity;
use aerie_core::policy::{Factor, Factors};
use aerie_store::{Passkey as Kept, StoreError};
use jiff::{SignedDuration, Timestamp};
use serde_json::Value;
use sha2::{Digest as _, Sha256};
use std::collections::HashMap;
use webauthn_rs::prelude::{
    CreationChallengeResponse, CredentialID, DiscoverableAuthentication, Passkey, PasskeyAuthentication, PasskeyRegistration,
    PublicKeyCredential, RegisterPublicKeyCredential, RequestChallengeResponse, SecurityKey, SecurityKeyAuthentication,
    SecurityKeyRegistration, Url, Uuid, WebauthnError,
};
use webauthn_rs::{Webauthn, WebauthnBuilder};

/// How long somebody may take to find and touch their key.
const CHALLENGE_LIFE: SignedDuration = SignedDuration::from_mins(5);
/// Challenges under way at most. Strangers can ask for them: beyond it the oldest is forgotten.
const MOST_CHALLENGES: usize = 10_000;
/// Passkeys and security keys of one person at most.
pub(crate) const MOST_OF_ONE: usize = 20;

/// What a challenge is for.
enum Ceremony {
    NewPasskey(String, Box<PasskeyRegistration>),
    NewSecurityKey(String, Box<SecurityKeyRegistration>),
    /// Whoever it is.
    Discover(Box<DiscoverableAuthentication>),
    Passkey(String, Box<PasskeyAuthentication>),
    SecurityKey(String, Box<SecurityKeyAuthentication>),
}

/// Challenges under way.
#[derive(Default)]
pub(super) struct Challenges(HashMap<String, (Timestamp, Ceremony)>);

impl Challenges {
    fn keep(&mut self, id: String, ceremony: Ceremony, now: Timestamp) {
        self.0.retain(|_, (made, _)| now.duration_since(*made).abs() < CHALLENGE_LIFE);
        if self.0.len() >= MOST_CHALLENGES
            && let Some(oldest) = self.0.iter().min_by_key(|(_, (made, _))| *made).map(|(id, _)| id.clone())
        {
            self.0.remove(&oldest);
        }
        self.0.insert(id, (now, ceremony));
    }

    /// A challenge is answered once, rightly or not.
    fn take(&mut self, id: &str, now: Timestamp) -> Option<Ceremony> {
        self.0.remove(id).filter(|(made, _)| now.duration_since(*made).abs() < CHALLENGE_LIFE).map(|(_, c)| c)
    }
}

/// Why a ceremony did not succeed.
#[derive(Debug, thiserror::Error)]
pub(crate) enum CeremonyError {
    /// The challenge is not known, or too old.
    #[error("the question is too old: begin again")]
    Old,
    /// The answer is wrong.
    #[error("the answer of the authenticator does not count")]
    Wrong,
    /// Nothing of the kind is enrolled.
    #[error("nothing of the kind is enrolled")]
    None,
    /// It is enrolled already.
    #[error("this authenticator is enrolled already")]
    Twice,
    /// There are too many.
    #[error("at most {MOST_OF_ONE} can be enrolled: remove one first")]
    TooMany,
    /// The address of the console is not one that passkeys work for.
    #[error("passkeys need a console with a name: set `address`")]
    Address,
    /// The store.
    #[error(transparent)]
    Store(#[from] StoreError),
}

impl From<WebauthnError> for CeremonyError {
    fn from(e: WebauthnError) -> Self {
        tracing::info!(error = ?e, "a ceremony with an authenticator failed");
        Self::Wrong
    }
}

/// Whose passkey it was, and what it proves.
pub(crate) struct PasskeyProved {
    pub(crate) person: String,
    pub(crate) factors: Factors,
}

/// The user handle of a person: it tells nothing of the name to whoever holds the authenticator.
fn handle(person: &str) -> Uuid {
    let digest: [u8; 32] = Sha256::digest(format!("aerie person {person}")).into();
    let mut bytes = [0; 16];
    bytes.iter_mut().zip(digest).for_each(|(to, from)| *to = from);
    uuid::Builder::from_random_bytes(bytes).into_uuid()
}

/// What a use of a kept credential proves.
fn proves(kept: &Kept, verified: bool) -> Factors {
    let passkey = (kept.verifies && verified).then_some(Factor::Passkey);
    let bound = (kept.bound || !kept.verifies).then_some(Factor::SecurityKey);
    Factors::of(passkey.into_iter().chain(bound))
}

fn passkey_of(kept: &Kept) -> Option<Passkey> {
    serde_json::from_str(&kept.body).ok()
}

fn security_key_of(kept: &Kept) -> Option<SecurityKey> {
    serde_json::from_str(&kept.body).ok()
}

fn options(value: &impl serde::Serialize) -> Value {
    serde_json::to_value(value).ok().and_then(|v| v.get("publicKey").cloned()).unwrap_or_default()
}

impl Identity {
    fn webauthn(&self, address: &str) -> Result<Webauthn, CeremonyError> {
        let url = Url::parse(address).map_err(|_| CeremonyError::Address)?;
        let host = url.domain().ok_or(CeremonyError::Address)?.to_string();
        let builder = WebauthnBuilder::new(&host, &url).map_err(|_| CeremonyError::Address)?;
        let builder = builder.rp_name("Aerie").danger_set_user_presence_only_security_keys(true);
        builder.build().map_err(|_| CeremonyError::Address)
    }

    fn challenges(&self) -> std::sync::MutexGuard<'_, Challenges> {
        self.challenges.lock().unwrap_or_else(std::sync::PoisonError::into_inner)
    }

    fn keep(&self, ceremony: Ceremony, now: Timestamp) -> String {
        let id = super::new_secret().map(|s| s.to_string()).unwrap_or_default();
        self.challenges().keep(id.clone(), ceremony, now);
        id
    }

    /// Begins enrolling a passkey, or a security key that is only touched. Gives the challenge's name and the options for the
    /// browser.
    pub(crate) async fn begin_enrolment(
        &self,
        address: &str,
        person: &str,
        shown: &str,
        passkey: bool,
        now: Timestamp,
    ) -> Result<(String, Value), CeremonyError> {
        let webauthn = self.webauthn(address)?;
        let known = self.store.passkeys(person).await?;
        if known.len() >= MOST_OF_ONE {
            return Err(CeremonyError::TooMany);
        }
        let known: Vec<CredentialID> = known.into_iter().map(|k| k.id).collect();
        let (challenge, ceremony): (CreationChallengeResponse, Ceremony) = if passkey {
            let (challenge, state) = webauthn.start_passkey_registration(handle(person), person, shown, Some(known))?;
            (challenge, Ceremony::NewPasskey(person.into(), Box::new(state)))
        } else {
            let (challenge, state) = webauthn.start_securitykey_registration(handle(person), person, shown, Some(known), None, None)?;
            (challenge, Ceremony::NewSecurityKey(person.into(), Box::new(state)))
        };
        let mut options = options(&challenge);
        if let Some(Value::Object(wanted)) = options.get_mut("authenticatorSelection").filter(|_| passkey) {
            // Kept on the authenticator, so that one can sign in without saying who one is.
            wanted.insert("residentKey".into(), "required".into());
            wanted.insert("requireResidentKey".into(), true.into());
        }
        Ok((self.keep(ceremony, now), options))
    }

    /// Ends enrolling: keeps the key under a name.
    pub(crate) async fn finish_enrolment(
        &self,
        address: &str,
        person: &str,
        challenge: &str,
        answer: &RegisterPublicKeyCredential,
        label: &str,
        now: Timestamp,
    ) -> Result<Kept, CeremonyError> {
        let webauthn = self.webauthn(address)?;
        let ceremony = self.challenges().take(challenge, now).ok_or(CeremonyError::Old)?;
        let (id, verifies, bound, body) = match ceremony {
            Ceremony::NewPasskey(whose, state) if whose == person => {
                let made = webauthn.finish_passkey_registration(answer, &state)?;
                let credential = webauthn_rs::prelude::Credential::from(made.clone());
                (made.cred_id().to_vec(), true, !credential.backup_eligible, serde_json::to_string(&made))
            }
            Ceremony::NewSecurityKey(whose, state) if whose == person => {
                let made = webauthn.finish_securitykey_registration(answer, &state)?;
                (made.cred_id().to_vec(), false, true, serde_json::to_string(&made))
            }
            _ => return Err(CeremonyError::Old),
        };
        let body = body.map_err(|_| CeremonyError::Wrong)?;
        let kept =
            Kept { id, person: person.into(), verifies, label: label.into(), bound, body, created: now, last_used: None, last_from: None };
        if self.store.add_passkey(&kept).await? { Ok(kept) } else { Err(CeremonyError::Twice) }
    }

    /// Begins signing in with a passkey, whoever it is.
    pub(crate) fn begin_discovery(&self, address: &str, now: Timestamp) -> Result<(String, Value), CeremonyError> {
        let (challenge, state): (RequestChallengeResponse, _) = self.webauthn(address)?.start_discoverable_authentication()?;
        Ok((self.keep(Ceremony::Discover(Box::new(state)), now), options(&challenge)))
    }

    /// Begins proving one's passkey or security key.
    pub(crate) async fn begin_proof(
        &self,
        address: &str,
        person: &str,
        passkey: bool,
        now: Timestamp,
    ) -> Result<(String, Value), CeremonyError> {
        let webauthn = self.webauthn(address)?;
        let known = self.store.passkeys(person).await?;
        let of_kind = known.iter().filter(|k| k.verifies == passkey);
        let (challenge, ceremony) = if passkey {
            let keys: Vec<Passkey> = of_kind.filter_map(passkey_of).collect();
            let keys = if keys.is_empty() { return Err(CeremonyError::None) } else { keys };
            let (challenge, state) = webauthn.start_passkey_authentication(&keys)?;
            (challenge, Ceremony::Passkey(person.into(), Box::new(state)))
        } else {
            let keys: Vec<SecurityKey> = of_kind.filter_map(security_key_of).collect();
            let keys = if keys.is_empty() { return Err(CeremonyError::None) } else { keys };
            let (challenge, state) = webauthn.start_securitykey_authentication(&keys)?;
            (challenge, Ceremony::SecurityKey(person.into(), Box::new(state)))
        };
        Ok((self.keep(ceremony, now), options(&challenge)))
    }

    /// Ends either: says whose key answered, and what that proves. A counter that went back is a copy, and counts for nothing.
    pub(crate) async fn finish_proof(
        &self,
        address: &str,
        challenge: &str,
        answer: &PublicKeyCredential,
        from: &str,
        now: Timestamp,
    ) -> Result<PasskeyProved, CeremonyError> {
        let webauthn = self.webauthn(address)?;
        let ceremony = self.challenges().take(challenge, now).ok_or(CeremonyError::Old)?;
        let kept = self.store.passkey(answer.get_credential_id()).await?.ok_or(CeremonyError::Wrong)?;
        let (result, body) = match ceremony {
            Ceremony::Discover(state) => {
                let mut key = passkey_of(&kept).ok_or(CeremonyError::Wrong)?;
                let (whose, _) = webauthn.identify_discoverable_authentication(answer)?;
                if whose != handle(&kept.person) || !kept.verifies {
                    return Err(CeremonyError::Wrong);
                }
                let result = webauthn.finish_discoverable_authentication_v2(answer, *state, &key)?;
                key.update_credential(&result);
                (result, serde_json::to_string(&key))
            }
            Ceremony::Passkey(whose, state) if whose == kept.person => {
                let mut key = passkey_of(&kept).ok_or(CeremonyError::Wrong)?;
                let result = webauthn.finish_passkey_authentication(answer, &state)?;
                key.update_credential(&result);
                (result, serde_json::to_string(&key))
            }
            Ceremony::SecurityKey(whose, state) if whose == kept.person => {
                let mut key = security_key_of(&kept).ok_or(CeremonyError::Wrong)?;
                let result = webauthn.finish_securitykey_authentication(answer, &state)?;
                key.update_credential(&result);
                (result, serde_json::to_string(&key))
            }
            _ => return Err(CeremonyError::Wrong),
        };
        let factors = proves(&kept, result.user_verified());
        if factors.is_empty() {
            return Err(CeremonyError::Wrong);
        }
        self.store.use_passkey(&kept.id, &body.map_err(|_| CeremonyError::Wrong)?, now, from).await?;
        Ok(PasskeyProved { person: kept.person, factors })
    }
}
