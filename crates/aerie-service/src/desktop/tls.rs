//! TLS to the desktop's server of a machine. Such servers have certificates that nobody vouches for: the one that was seen first is the one that
//! is expected from then on, as with a host key.

use rustls::client::danger::{HandshakeSignatureValid, ServerCertVerified, ServerCertVerifier};
use rustls::crypto::{CryptoProvider, verify_tls12_signature, verify_tls13_signature};
use rustls::pki_types::{CertificateDer, ServerName, UnixTime};
use rustls::{ClientConfig, DigitallySignedStruct, Error, SignatureScheme};
use sha2::{Digest as _, Sha256};
use std::io;
use std::sync::Arc;
use tokio::io::{AsyncRead, AsyncWrite};
use tokio_rustls::TlsConnector;
use tokio_rustls::client::TlsStream;

/// Takes any certificate whose key signs the greeting: which one it may be is looked at afterwards.
#[derive(Debug)]
struct Unvouched(Arc<CryptoProvider>);

impl ServerCertVerifier for Unvouched {
    fn verify_server_cert(
        &self,
        _: &CertificateDer<'_>,
        _: &[CertificateDer<'_>],
        _: &ServerName<'_>,
        _: &[u8],
        _: UnixTime,
    ) -> Result<ServerCertVerified, Error> {
        Ok(ServerCertVerified::assertion())
    }

    fn verify_tls12_signature(
        &self,
        message: &[u8],
        cert: &CertificateDer<'_>,
        dss: &DigitallySignedStruct,
    ) -> Result<HandshakeSignatureValid, Error> {
        verify_tls12_signature(message, cert, dss, &self.0.signature_verification_algorithms)
    }

    fn verify_tls13_signature(
        &self,
        message: &[u8],
        cert: &CertificateDer<'_>,
        dss: &DigitallySignedStruct,
    ) -> Result<HandshakeSignatureValid, Error> {
        verify_tls13_signature(message, cert, dss, &self.0.signature_verification_algorithms)
    }

    fn supported_verify_schemes(&self) -> Vec<SignatureScheme> {
        self.0.signature_verification_algorithms.supported_schemes()
    }
}

/// Begins TLS on a stream; gives the SHA-256 digest of the certificate beside it.
pub(super) async fn begin<S: AsyncRead + AsyncWrite + Unpin>(stream: S) -> io::Result<(TlsStream<S>, [u8; 32])> {
    let provider = Arc::new(rustls::crypto::ring::default_provider());
    let config = ClientConfig::builder_with_provider(provider.clone())
        .with_safe_default_protocol_versions()
        .map_err(io::Error::other)?
        .dangerous()
        .with_custom_certificate_verifier(Arc::new(Unvouched(provider)))
        .with_no_client_auth();
    let name = ServerName::try_from("desktop.invalid").map_err(io::Error::other)?;
    let stream = TlsConnector::from(Arc::new(config)).connect(name, stream).await?;
    let shown = stream.get_ref().1.peer_certificates().and_then(|c| c.first()).map(|c| Sha256::digest(c).into());
    Ok((stream, shown.ok_or_else(|| io::Error::other("it has no certificate"))?))
}
