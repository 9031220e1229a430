//! Desktops of machines, for programs.

use crate::socket::Socket;
use crate::{Client, Result, safe};
use aerie_api::{DesktopQuery, FilmView, FromViewer, PictureQuery, StretchView, ToViewer};
use aerie_core::desktop::Message;
use aerie_tunnel::websocket::tungstenite::Message as Frame;
use aerie_tunnel::websocket::tungstenite::protocol::WebSocketConfig;
use futures_util::{SinkExt as _, StreamExt as _};
use reqwest::Method;
use std::io::Read as _;

/// Largest message of the service.
const LARGEST: usize = 4 << 20;

/// What the service says.
#[derive(Debug, Clone, PartialEq)]
pub enum FromService {
    /// Something in words.
    Told(ToViewer),
    /// A message of the picture, with its number and the bytes it had on the way.
    Picture(u64, Message, usize),
}

/// A desktop that is looked at.
pub struct DesktopLink {
    socket: Socket,
    /// A picture that was handed out, and counts as drawn once the next is asked for.
    drawn: Option<u64>,
}

impl Client {
    /// Opens the desktop of a machine. The first thing to send is [`FromViewer::Begin`].
    ///
    /// # Errors
    /// See [`Client::sign_in`].
    pub async fn desktop(&self, machine: &str, query: &DesktopQuery) -> Result<DesktopLink> {
        let pairs: Vec<(&str, &str)> = query.way.iter().map(|w| ("way", w.as_str())).collect();
        self.desktop_at(&format!("/api/v1/machines/{}/desktop", crate::people::name(machine)), &pairs).await
    }

    /// Goes on with a live desktop session of one's own, or watches one of somebody else.
    ///
    /// # Errors
    /// See [`Client::sign_in`].
    pub async fn join_desktop(&self, session: &str) -> Result<DesktopLink> {
        self.desktop_at(&format!("/api/v1/sessions/{}/desktop", safe(session)), &[]).await
    }

    pub(crate) async fn desktop_at(&self, path: &str, query: &[(&str, &str)]) -> Result<DesktopLink> {
        let config = WebSocketConfig::default().max_message_size(Some(LARGEST)).max_frame_size(Some(LARGEST)).write_buffer_size(0);
        Ok(DesktopLink { socket: self.socket(path, query, config).await?, drawn: None })
    }

    /// The stretches of a recorded desktop.
    ///
    /// # Errors
    /// See [`Client::sign_in`].
    pub async fn stretches(&self, session: &str) -> Result<Vec<StretchView>> {
        self.ask(self.call(Method::GET, &format!("recordings/{}/stretches", safe(session)))).await
    }

    /// Has a film made of a recorded desktop.
    ///
    /// # Errors
    /// See [`Client::sign_in`].
    pub async fn make_film(&self, session: &str) -> Result<FilmView> {
        self.ask(self.call(Method::POST, &format!("recordings/{}/film", safe(session)))).await
    }

    /// How far a film is.
    ///
    /// # Errors
    /// See [`Client::sign_in`].
    pub async fn film(&self, session: &str) -> Result<FilmView> {
        self.ask(self.call(Method::GET, &format!("recordings/{}/film", safe(session)))).await
    }

    /// A film that was made (WebM).
    ///
    /// # Errors
    /// See [`Client::sign_in`].
    pub async fn fetch_film(&self, session: &str) -> Result<Vec<u8>> {
        self.bytes(self.call(Method::GET, &format!("recordings/{}/film.webm", safe(session)))).await
    }

    /// A picture of a recorded desktop, as PNG.
    ///
    /// # Errors
    /// See [`Client::sign_in`].
    pub async fn recorded_picture(&self, session: &str, query: &PictureQuery) -> Result<Vec<u8>> {
        self.bytes(self.call(Method::GET, &format!("recordings/{}/picture", safe(session))).query(query)).await
    }
}

impl DesktopLink {
    /// Says something. False when the service is gone.
    pub async fn say(&mut self, what: &FromViewer) -> bool {
        let text = serde_json::to_string(what).unwrap_or_default();
        self.socket.send(Frame::text(text)).await.is_ok()
    }

    /// What the service says next; none when it is gone, or says what cannot be read. A picture counts as drawn when the next is asked
    /// for. Cancel safe.
    pub async fn next(&mut self) -> Option<FromService> {
        if let Some(number) = self.drawn {
            self.say(&FromViewer::Drawn(number)).await;
            self.drawn = None;
        }
        loop {
            match self.socket.next().await?.ok()? {
                Frame::Text(text) => return serde_json::from_str(&text).ok().map(FromService::Told),
                Frame::Binary(packed) => {
                    let (number, message) = unpack(&packed)?;
                    self.drawn = Some(number);
                    return Some(FromService::Picture(number, message, packed.len()));
                }
                Frame::Ping(_) | Frame::Pong(_) => {}
                Frame::Close(_) | Frame::Frame(_) => return None,
            }
        }
    }
}

/// Undoes what [`aerie_core::desktop::pack`] did.
fn unpack(packed: &[u8]) -> Option<(u64, Message)> {
    let (number, rest) = packed.split_first_chunk::<8>()?;
    let (compressed, content) = rest.split_first()?;
    let plain = if *compressed == 0 {
        content.to_vec()
    } else {
        let mut plain = vec![];
        flate2::read::DeflateDecoder::new(content).take(LARGEST as u64).read_to_end(&mut plain).ok()?;
        plain
    };
    Some((u64::from_be_bytes(*number), Message::decode(&plain)?))
}
