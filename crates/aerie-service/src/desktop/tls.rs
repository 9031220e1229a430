//! TLS to the desktop's server of a machine. Such servers have certificates that nobody vouches for: the one that was seen first is the one that
//! is expected from then on, as with a host key.

use aerie_tunnel::Unvouched;
use rustls::ClientConfig;
use rustls::pki_types::ServerName;
use sha2::{Digest as _, Sha256};
use std::io;
use std::sync::Arc;
use tokio::io::{AsyncRead, AsyncWrite};
use tokio_rustls::TlsConnector;
use tokio_rustls::client::TlsStream;

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
