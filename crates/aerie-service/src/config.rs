use aerie_core::policy::Network;
use std::net::SocketAddr;
use std::path::PathBuf;

/// Where the console and the API listen with TLS unless told otherwise.
pub const DEFAULT_HTTPS: &str = "127.0.0.1:7443";
/// Where the demo's console and API listen, on this machine alone and without TLS.
pub const DEFAULT_HTTP: &str = "127.0.0.1:7080";
/// Where the SSH gateway listens unless told otherwise.
pub const DEFAULT_SSH: &str = "127.0.0.1:7022";

/// What the service needs to know to start.
#[derive(Debug, Clone)]
pub struct Config {
    /// Data directory: database, recordings, keys.
    pub data: PathBuf,
    /// Address of console and API with TLS; port 0 takes a free one.
    pub https: Option<SocketAddr>,
    /// Address of console and API without TLS: loopback only.
    pub http: Option<SocketAddr>,
    /// Address at which browsers, agents and clients reach the console, as the setting `address`; taken where that is not set.
    pub address: Option<String>,
    /// Address of the SSH gateway; port 0 takes a free one.
    pub ssh: SocketAddr,
    /// Where machines and collectors send their logs.
    pub syslog: Syslog,
}

/// The listener of logs (RFC 5424 over TCP and, per RFC 5425, TLS). Nowhere unless told otherwise.
#[derive(Debug, Clone, Default)]
pub struct Syslog {
    /// Address with TLS; port 0 takes a free one.
    pub tls: Option<SocketAddr>,
    /// Address without TLS.
    pub plain: Option<SocketAddr>,
    /// Who may send. This machine itself is one of them only where it is named.
    pub from: Vec<Network>,
}

impl Config {
    /// Directory of the recordings.
    pub fn recordings(&self) -> PathBuf {
        self.data.join("recordings")
    }
}
