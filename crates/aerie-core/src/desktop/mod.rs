//! The desktop of a machine: Aerie is the RFB client (RFC 6143) of its server, and the protocol ends here.
//!
//! [`RfbClient`] is the state machine: bytes in, events and bytes out; [`Framebuffer`] is the picture as it stands. Whatever a server sends
//! costs bounded memory: the picture has a largest size, compressed pieces and what comes of them have one, and what was not asked for ends
//! the session.

mod carried;
mod client;
mod decode;
mod framebuffer;
mod message;
mod pack;
mod painter;
mod wire;

pub use carried::{OrderReader, SCREEN_TARGET, ScreenClient, ScreenOrder, ScreenWriter};
pub use client::{Coding, Damage, Event, MOST_CLIPBOARD, Options, Remote, RfbClient};
pub use framebuffer::{Framebuffer, MOST_PIXELS, Rect};
pub use message::{MOST_PIECE, MOST_POINTS, Message, Parts, Saying};
pub use pack::{pack, pack_encoded};
pub use painter::{Painter, Quality};
pub use wire::Fault;

#[cfg(test)]
mod tests;
