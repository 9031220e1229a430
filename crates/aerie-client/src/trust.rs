//! Whose certificates a client takes: those of public authorities, or of the one service authority whose fingerprint is known.

use aerie_tunnel::Unvouched;
use rustls::client::danger::{HandshakeSignatureValid, ServerCertVerified, ServerCertVerifier};
use rustls::client::{WebPkiServerVerifier, verify_server_cert_signed_by_trust_anchor};
use rustls::crypto::CryptoProvider;
use rustls::pki_types::{CertificateDer, ServerName, UnixTime};
use rustls::server::ParsedCertificate;
use rustls::{CertificateError, ClientConfig, DigitallySignedStruct, Error, RootCertStore, SignatureScheme};
use sha2::{Digest as _, Sha256};
use std::sync::Arc;

/// Takes a certificate that the pinned authority signed, for the name that was asked for.
#[derive(Debug)]
struct Pinned {
    fingerprint: String,
    provider: Arc<CryptoProvider>,
    /// Looks at the signatures of the handshake.
    signatures: Unvouched,
}

impl Pinned {
    fn new(fingerprint: String, provider: &Arc<CryptoProvider>) -> Self {
        Self { fingerprint, provider: provider.clone(), signatures: Unvouched(provider.clone()) }
    }
}

impl ServerCertVerifier for Pinned {
    fn verify_server_cert(
        &self,
        end_entity: &CertificateDer<'_>,
        intermediates: &[CertificateDer<'_>],
        name: &ServerName<'_>,
        _: &[u8],
        now: UnixTime,
    ) -> Result<ServerCertVerified, Error> {
        let print = |c: &CertificateDer<'_>| format!("SHA256:{}", aerie_core::evidence::hex(&Sha256::digest(c)));
        let authority = intermediates.iter().find(|c| print(c) == self.fingerprint);
        let authority = authority.ok_or(Error::InvalidCertificate(CertificateError::UnknownIssuer))?;
        let mut roots = RootCertStore::empty();
        roots.add(authority.clone().into_owned())?;
        let certificate = ParsedCertificate::try_from(end_entity)?;
        let algorithms = self.provider.signature_verification_algorithms.all;
        verify_server_cert_signed_by_trust_anchor(&certificate, &roots, &[], now, algorithms)?;
        rustls::client::verify_server_name(&certificate, name)?;
        Ok(ServerCertVerified::assertion())
    }

    fn verify_tls12_signature(
        &self,
        message: &[u8],
        cert: &CertificateDer<'_>,
        dss: &DigitallySignedStruct,
    ) -> Result<HandshakeSignatureValid, Error> {
        self.signatures.verify_tls12_signature(message, cert, dss)
    }

    fn verify_tls13_signature(
        &self,
        message: &[u8],
        cert: &CertificateDer<'_>,
        dss: &DigitallySignedStruct,
    ) -> Result<HandshakeSignatureValid, Error> {
        self.signatures.verify_tls13_signature(message, cert, dss)
    }

    fn supported_verify_schemes(&self) -> Vec<SignatureScheme> {
        self.signatures.supported_verify_schemes()
    }
}

/// Takes nothing: where the machine's own list of authorities cannot be read.
fn nothing(provider: &Arc<CryptoProvider>) -> Arc<dyn ServerCertVerifier> {
    Arc::new(Pinned::new(String::new(), provider))
}

/// The authorities that this machine trusts, from where Debian and its kin keep them.
fn system(provider: &Arc<CryptoProvider>) -> Arc<dyn ServerCertVerifier> {
    let mut roots = RootCertStore::empty();
    let bundle = std::fs::read_to_string("/etc/ssl/certs/ca-certificates.crt").unwrap_or_default();
    for block in bundle.split("-----BEGIN CERTIFICATE-----").skip(1) {
        use base64::Engine as _;
        let text: String = block.split("-----END").next().unwrap_or_default().split_whitespace().collect();
        if let Ok(der) = base64::engine::general_purpose::STANDARD.decode(text) {
            // One that cannot be read is one that is not trusted.
            let _ = roots.add(der.into());
        }
    }
    let built = WebPkiServerVerifier::builder_with_provider(Arc::new(roots), provider.clone()).build();
    built.map_or_else(|_| nothing(provider), |v| v as Arc<dyn ServerCertVerifier>)
}

/// The TLS side of a client.
pub(crate) fn config(authority: Option<&str>) -> ClientConfig {
    let provider = Arc::new(rustls::crypto::ring::default_provider());
    let verifier: Arc<dyn ServerCertVerifier> = match authority {
        Some(fingerprint) => Arc::new(Pinned::new(fingerprint.into(), &provider)),
        None => system(&provider),
    };
    #[expect(clippy::expect_used, reason = "ring has cipher suites for the default versions")]
    let builder = ClientConfig::builder_with_provider(provider).with_safe_default_protocol_versions().expect("default versions");
    builder.dangerous().with_custom_certificate_verifier(verifier).with_no_client_auth()
}
