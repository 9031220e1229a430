//! Signs requests for tokens that are bound to a key.

use aerie_core::factor::message::{Message, content_digest};
use base64::Engine as _;
use base64::engine::general_purpose::URL_SAFE_NO_PAD;
use ed25519_dalek::SigningKey;
use reqwest::header::{AUTHORIZATION, HeaderMap, HeaderValue};

/// The key that a token is bound to. Prints redacted.
pub struct RequestKey(SigningKey);

impl std::fmt::Debug for RequestKey {
    fn fmt(&self, f: &mut std::fmt::Formatter<'_>) -> std::fmt::Result {
        f.write_str("RequestKey(redacted)")
    }
}

impl RequestKey {
    /// From the 32 bytes of an Ed25519 key.
    pub fn from_seed(seed: &[u8; 32]) -> Self {
        Self(SigningKey::from_bytes(seed))
    }

    /// Puts `Content-Digest`, `Signature-Input` and `Signature` on a request. A body that is streamed cannot be signed, and is
    /// refused by the service.
    pub fn sign(&self, request: &mut reqwest::Request) {
        let digest = request.body().and_then(reqwest::Body::as_bytes).map(content_digest);
        let url = request.url().clone();
        let authority = match url.port() {
            Some(port) => format!("{}:{port}", url.host_str().unwrap_or_default()),
            None => url.host_str().unwrap_or_default().to_string(),
        };
        let mut nonce = [0; 16];
        if getrandom::fill(&mut nonce).is_err() {
            return;
        }
        let authorization = request.headers().get(AUTHORIZATION).and_then(|h| h.to_str().ok()).unwrap_or_default().to_string();
        let message = Message {
            method: request.method().as_str(),
            authority: &authority,
            path: url.path(),
            query: url.query().unwrap_or_default(),
            authorization: &authorization,
            content_digest: digest.as_deref(),
        };
        let (input, signature) = message.sign(&self.0, &URL_SAFE_NO_PAD.encode(nonce), jiff::Timestamp::now());
        let headers: &mut HeaderMap = request.headers_mut();
        let mut put = |name: &'static str, value: &str| {
            if let Ok(value) = HeaderValue::from_str(value) {
                headers.insert(name, value);
            }
        };
        if let Some(digest) = &digest {
            put("content-digest", digest);
        }
        put("signature-input", &input);
        put("signature", &signature);
    }
}
