//! Drives the tunnel of the core ([`aerie_core::tunnel`]) over a WebSocket: the service towards agents, agents towards the
//! service, and clients that forward a port. What may be opened, and by whom, is decided by those who use it.

mod certificate;
mod drive;
mod stream;

pub use certificate::Unvouched;
pub use drive::{Asked, Broken, Inbox, Incoming, Tunnel, Turn};
pub use stream::TunnelStream;
pub use tokio_tungstenite as websocket;

use aerie_core::tunnel::MAX_CONTROL;
use std::io;
use tokio::net::TcpStream;
use tokio_tungstenite::tungstenite::protocol::WebSocketConfig;

/// Bytes that the kernel takes before it has sent those before: what a keystroke finds ahead of it. Without a limit it would
/// be some megabytes, and seconds on a slow line.
const UNSENT: u32 = 16 << 10;

/// How WebSockets are set up on both sides. The read buffer is small: most agents are silent, and there are thousands.
pub fn socket_config() -> WebSocketConfig {
    WebSocketConfig::default()
        .read_buffer_size(4096)
        .write_buffer_size(0)
        .max_write_buffer_size(256 << 10)
        .max_message_size(Some(MAX_CONTROL + 64))
        .max_frame_size(Some(MAX_CONTROL + 64))
}

/// Prepares a TCP connection for keystrokes.
///
/// # Errors
/// When the system refuses.
pub fn prepare(stream: &TcpStream) -> io::Result<()> {
    stream.set_nodelay(true)?;
    #[cfg(any(target_os = "linux", target_os = "android"))]
    socket2::SockRef::from(stream).set_tcp_notsent_lowat(UNSENT)?;
    Ok(())
}
