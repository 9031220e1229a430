//! The certificate of the console and API: a small authority of the service's own, made once, signs a certificate that is
//! renewed by itself. Whoever trusts the authority (its fingerprint is printed) notices nothing of it.

use super::ring::{Key, Ring};
use super::{KeyError, Keys, Purpose};
use aerie_core::evidence::{hex, unhex};
use aerie_core::recording::MasterKey;
use base64::Engine as _;
use base64::engine::general_purpose::STANDARD;
use jiff::{SignedDuration, Timestamp};
use rcgen::{
    BasicConstraints, CertificateParams, DnType, ExtendedKeyUsagePurpose, IsCa, Issuer, KeyPair, KeyUsagePurpose, PublicKeyData as _,
};
use sha2::{Digest as _, Sha256};
use zeroize::Zeroizing;

/// Life of the authority: as long as a service may live.
const AUTHORITY_DAYS: i64 = 20 * 365;
/// Life of the certificate; browsers take none that lives longer than 398 days.
const LIFE_DAYS: i64 = 90;
/// It is renewed when less than this is left.
const RENEW_DAYS: i64 = 30;

/// A certificate and its private key, as a TLS server wants them.
pub(crate) struct TlsIdentity {
    /// The certificate and the authority's, DER.
    pub(crate) chain: Vec<Vec<u8>>,
    /// PKCS #8, DER.
    pub(crate) key: Zeroizing<Vec<u8>>,
    /// SHA-256 of its public key, in base64, as RFC 7469 section 2.4 pins it.
    pub(crate) pin: String,
}

fn failed(e: impl std::fmt::Display) -> KeyError {
    KeyError::Tls(e.to_string())
}

impl Keys {
    /// The certificate for these names, made or renewed where that is needed.
    ///
    /// # Errors
    /// When it cannot be made or kept.
    pub(crate) fn tls(&self, names: &[String], now: Timestamp) -> Result<TlsIdentity, KeyError> {
        let mut ring = self.ring_mut();
        let other_authority = ring.newest(Purpose::TlsAuthority)?.certificate.is_none();
        if other_authority {
            let key = KeyPair::generate().map_err(failed)?;
            let certificate = authority_params(now)?.self_signed(&key).map_err(failed)?;
            keep(&mut ring, Purpose::TlsAuthority, &head(&[], now), &certificate.pem(), &key)?;
        }
        let wanted = head(names, now);
        let old = ring.newest(Purpose::Tls)?.certificate.clone();
        let good = |(pem, _): &(String, String)| {
            let line = |name: &str| pem.lines().find_map(|l| l.strip_prefix(name)).map(str::trim);
            let renew = line("renew:").and_then(|t| t.parse::<Timestamp>().ok());
            line("names:") == wanted.lines().next().and_then(|l| l.strip_prefix("names:")).map(str::trim) && renew.is_some_and(|t| now < t)
        };
        if other_authority || !old.as_ref().is_some_and(good) {
            if old.is_some() {
                ring.rotate(Purpose::Tls, now)?;
            }
            let authority = private(ring.newest(Purpose::TlsAuthority)?)?;
            let issuer = Issuer::new(authority_params(now)?, KeyPair::try_from(authority.as_slice()).map_err(failed)?);
            let mut params = CertificateParams::new(names.to_vec()).map_err(failed)?;
            params.distinguished_name.push(DnType::CommonName, names.first().cloned().unwrap_or_default());
            params.extended_key_usages = vec![ExtendedKeyUsagePurpose::ServerAuth];
            params.key_usages = vec![KeyUsagePurpose::DigitalSignature];
            params.use_authority_key_identifier_extension = true;
            (params.not_before, params.not_after) = (date(now, -1)?, date(now, LIFE_DAYS)?);
            let key = KeyPair::generate().map_err(failed)?;
            let certificate = params.signed_by(&key, &issuer).map_err(failed)?;
            keep(&mut ring, Purpose::Tls, &wanted, &certificate.pem(), &key)?;
        }
        let leaf = ring.newest(Purpose::Tls)?;
        let chain = [leaf, ring.newest(Purpose::TlsAuthority)?].into_iter();
        let chain = chain.filter_map(|k| der(&k.certificate.as_ref()?.0)).collect();
        let key = private(leaf)?;
        let public = KeyPair::try_from(key.as_slice()).map_err(failed)?.subject_public_key_info();
        Ok(TlsIdentity { chain, key, pin: STANDARD.encode(Sha256::digest(public)) })
    }
}

/// Keeps a certificate, with the private key sealed under the seed of its generation.
fn keep(ring: &mut Ring, purpose: Purpose, head: &str, pem: &str, key: &KeyPair) -> Result<(), KeyError> {
    let under = MasterKey::new(*ring.newest(purpose)?.seed);
    let secret = Zeroizing::new(key.serialize_der());
    let sealed = under.seal(&secret, purpose.word(), super::random()?).ok_or(KeyError::Ring)?;
    ring.set_certificate(purpose, (format!("{head}{pem}"), hex(&sealed)))
}

fn private(key: &Key) -> Result<Zeroizing<Vec<u8>>, KeyError> {
    let (_, sealed) = key.certificate.as_ref().ok_or(KeyError::Ring)?;
    let sealed = unhex(sealed).ok_or(KeyError::Ring)?;
    MasterKey::new(*key.seed).open(&sealed, key.purpose.word()).ok_or(KeyError::Ring)
}

/// What stands before the certificate in the file, so that nothing has to read X.509 to know when it is to be renewed.
fn head(names: &[String], now: Timestamp) -> String {
    let renew = now + SignedDuration::from_hours(24 * (LIFE_DAYS - RENEW_DAYS));
    format!("names: {}\nrenew: {renew}\n", names.join(" "))
}

fn authority_params(now: Timestamp) -> Result<CertificateParams, KeyError> {
    let mut params = CertificateParams::default();
    params.distinguished_name.push(DnType::CommonName, "Aerie, this service's own authority");
    params.is_ca = IsCa::Ca(BasicConstraints::Constrained(0));
    params.key_usages = vec![KeyUsagePurpose::KeyCertSign, KeyUsagePurpose::CrlSign];
    (params.not_before, params.not_after) = (date(now, -1)?, date(now, AUTHORITY_DAYS)?);
    Ok(params)
}

fn date(now: Timestamp, days: i64) -> Result<time::OffsetDateTime, KeyError> {
    time::OffsetDateTime::from_unix_timestamp(now.as_second() + days * 86_400).map_err(failed)
}

impl Keys {
    /// The certificate of the authority, in PEM; none while none was made.
    pub(crate) fn tls_authority_pem(&self) -> Option<String> {
        let ring = self.ring();
        let (kept, _) = ring.newest(Purpose::TlsAuthority).ok()?.certificate.clone()?;
        // Lines of ours stand before it.
        kept.find("-----BEGIN CERTIFICATE-----").and_then(|at| kept.get(at..)).map(Into::into)
    }
}

/// SHA-256 over the DER form of a certificate, as browsers show it: `SHA256:` and hexadecimal digits.
pub(crate) fn fingerprint(pem: &str) -> Option<String> {
    Some(format!("SHA256:{}", hex(&Sha256::digest(der(pem)?))))
}

/// The first certificate in a PEM text.
fn der(pem: &str) -> Option<Vec<u8>> {
    let body = pem.split("-----BEGIN CERTIFICATE-----").nth(1)?.split("-----END").next()?;
    STANDARD.decode(body.split_whitespace().collect::<String>()).ok()
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn a_certificate_is_kept_and_renewed_in_time_and_for_other_names() {
        let dir = tempfile::tempdir().unwrap();
        let keys = Keys::load(dir.path()).unwrap();
        let (now, names) = (Timestamp::now(), ["localhost".to_string(), "127.0.0.1".to_string()]);
        let first = keys.tls(&names, now).unwrap();
        assert_eq!(first.chain.len(), 2);
        let again =
            Keys::load(dir.path()).unwrap().tls(&names, now + SignedDuration::from_hours(24 * (LIFE_DAYS - RENEW_DAYS) - 1)).unwrap();
        assert_eq!((&again.chain, &*again.key), (&first.chain, &*first.key));
        let renewed = keys.tls(&names, now + SignedDuration::from_hours(24 * (LIFE_DAYS - RENEW_DAYS))).unwrap();
        assert_ne!(renewed.chain[0], first.chain[0]);
        assert_eq!(renewed.chain[1], first.chain[1]);
        let other = keys.tls(&["aerie.example".to_string()], now).unwrap();
        assert_ne!(other.chain[0], renewed.chain[0]);
        // Another authority signs another certificate at once.
        keys.rotate(Purpose::TlsAuthority, now).unwrap();
        let anew = keys.tls(&["aerie.example".to_string()], now).unwrap();
        assert!(anew.chain[0] != other.chain[0] && anew.chain[1] != first.chain[1]);
        assert_eq!(keys.tls(&["aerie.example".to_string()], now).unwrap().chain, anew.chain);
        let listed = keys.list();
        let print = |p| listed.iter().find(|k| k.purpose == Some(p) && k.in_use).map(|k| k.public.clone()).unwrap();
        assert_eq!(print(Purpose::TlsAuthority), format!("SHA256:{}", hex(&Sha256::digest(&anew.chain[1]))));
    }
}
