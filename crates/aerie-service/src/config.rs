use std::net::SocketAddr;
use std::path::PathBuf;

/// Where the console and the API listen unless told otherwise.
pub const DEFAULT_HTTP: &str = "127.0.0.1:7080";
/// Where the SSH gateway listens unless told otherwise.
pub const DEFAULT_SSH: &str = "127.0.0.1:7022";

/// What the service needs to know to start.
#[derive(Debug, Clone)]
pub struct Config {
    /// Data directory: database, recordings, master key.
    pub data: PathBuf,
    /// Address of console and API; port 0 takes a free one.
    pub http: SocketAddr,
    /// Address of the SSH gateway; port 0 takes a free one.
    pub ssh: SocketAddr,
}

impl Config {
    /// Directory of the recordings.
    pub fn recordings(&self) -> PathBuf {
        self.data.join("recordings")
    }
}
