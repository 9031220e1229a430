//! Any headers are a signature (RFC 9421) or none; and a signature is good for the request alone that was signed.
#![no_main]

use aerie_core::factor::message::{Message, content_digest};
use aerie_core::evidence::SigningKey;
use jiff::Timestamp;
use libfuzzer_sys::fuzz_target;

/// What can stand in a request line or a header: visible letters and blanks (RFC 9110 section 5.5).
fn text(bytes: Option<&[u8]>) -> String {
    bytes.unwrap_or_default().iter().map(|b| char::from(b' ' + b % 95)).collect()
}

fuzz_target!(|data: &[u8]| {
    let key = SigningKey::from_bytes(&[5; 32]);
    let public = key.verifying_key().to_bytes();
    let now: Timestamp = "2026-11-23T20:00:00Z".parse().expect("a time");
    let mut parts = data.split(|b| *b == 0);
    let mut next = || text(parts.next());
    let (method, authority, path, query, authorization, body) = (next(), next(), next(), next(), next(), next());
    let digest = (!body.is_empty()).then(|| content_digest(body.as_bytes()));
    let message = Message {
        method: &method,
        authority: &authority,
        path: &path,
        query: &query,
        authorization: &authorization,
        content_digest: digest.as_deref(),
    };
    let (input, signature) = message.sign(&key, "nonce-1", now);
    assert_eq!(message.verify(&input, &signature, &public, now).as_deref(), Ok("nonce-1"));
    // Headers of one's own, alone and with the good signature.
    let (other_input, other_signature) = (next(), next());
    assert!(message.verify(&other_input, &other_signature, &public, now).is_err());
    if other_input != input
        && let Ok(nonce) = message.verify(&other_input, &signature, &public, now)
    {
        // Blanks around it are no part of it.
        assert_eq!((nonce.as_str(), other_input.trim()), ("nonce-1", input.as_str()));
    }
    // Another request under the same signature.
    let (method2, authority2, path2, query2, authorization2, body2) = (next(), next(), next(), next(), next(), next());
    let digest2 = (!body2.is_empty()).then(|| content_digest(body2.as_bytes()));
    let pick = |new: &str, old: &str| if new.is_empty() { old.to_string() } else { new.to_string() };
    let (m, a, p, q, z) = (
        pick(&method2, &method),
        pick(&authority2, &authority),
        pick(&path2, &path),
        pick(&query2, &query),
        pick(&authorization2, &authorization),
    );
    let d = digest2.or_else(|| digest.clone());
    let other = Message { method: &m, authority: &a, path: &p, query: &q, authorization: &z, content_digest: d.as_deref() };
    if other.verify(&input, &signature, &public, now).is_ok() {
        assert_eq!((&m, &p, &q, &d), (&method, &path, &query, &digest));
        assert_eq!(a.to_ascii_lowercase(), authority.to_ascii_lowercase());
        assert_eq!(z.trim(), authorization.trim());
    }
});
