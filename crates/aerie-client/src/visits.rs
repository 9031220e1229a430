//! Visits.

use crate::desktop::DesktopLink;
use crate::people::name;
use crate::{Client, Result};
use aerie_api::{
    CloseVisit, FileName, FromVisited, HelpAsked, IssuedVisit, NewVisit, QueueView, Reassign, ToVisited, VisitNote, VisitPass, VisitQuery,
    VisitShell, VisitView,
};
use aerie_tunnel::websocket::tungstenite::Message as Frame;
use aerie_tunnel::websocket::tungstenite::protocol::WebSocketConfig;
use futures_util::{SinkExt as _, StreamExt as _};
use reqwest::Method;

/// The page of whoever is helped, for programs.
pub struct VisitedLink(crate::socket::Socket);

impl Client {
    /// Visits, the newest first.
    ///
    /// # Errors
    /// See [`Client::sign_in`].
    pub async fn visits(&self, query: &VisitQuery) -> Result<Vec<VisitView>> {
        self.ask(self.call(Method::GET, "visits").query(query)).await
    }

    /// One visit.
    ///
    /// # Errors
    /// See [`Client::sign_in`].
    pub async fn visit(&self, id: &str) -> Result<VisitView> {
        self.ask(self.call(Method::GET, &format!("visits/{}", name(id)))).await
    }

    /// The queues.
    ///
    /// # Errors
    /// See [`Client::sign_in`].
    pub async fn queues(&self) -> Result<Vec<QueueView>> {
        self.ask(self.call(Method::GET, "queues")).await
    }

    /// Makes a visit.
    ///
    /// # Errors
    /// See [`Client::sign_in`].
    pub async fn make_visit(&self, new: &NewVisit) -> Result<IssuedVisit> {
        self.ask(self.call(Method::POST, "visits").json(new)).await
    }

    /// Picks a visit up.
    ///
    /// # Errors
    /// See [`Client::sign_in`].
    pub async fn pick_up_visit(&self, id: &str) -> Result<VisitView> {
        self.ask(self.call(Method::POST, &format!("visits/{}/pick-up", name(id)))).await
    }

    /// Passes a visit on to a queue.
    ///
    /// # Errors
    /// See [`Client::sign_in`].
    pub async fn reassign_visit(&self, id: &str, queue: &str) -> Result<VisitView> {
        self.ask(self.call(Method::POST, &format!("visits/{}/reassign", name(id))).json(&Reassign { queue: queue.into() })).await
    }

    /// Writes a note on a visit.
    ///
    /// # Errors
    /// See [`Client::sign_in`].
    pub async fn note_visit(&self, id: &str, text: &str) -> Result<VisitView> {
        self.ask(self.call(Method::POST, &format!("visits/{}/notes", name(id))).json(&VisitNote { text: text.into() })).await
    }

    /// Keeps a picture of the screen that is seen in a visit.
    ///
    /// # Errors
    /// See [`Client::sign_in`].
    pub async fn keep_visit_picture(&self, id: &str, png: Vec<u8>) -> Result<VisitView> {
        let call = self.call(Method::POST, &format!("visits/{}/pictures", name(id)));
        self.ask(call.header("content-type", "image/png").body(png)).await
    }

    /// A picture of a visit, as PNG.
    ///
    /// # Errors
    /// See [`Client::sign_in`].
    pub async fn visit_picture(&self, id: &str, picture: &str) -> Result<Vec<u8>> {
        self.bytes(self.call(Method::GET, &format!("visits/{}/pictures/{}", name(id), name(picture)))).await
    }

    /// Gives whoever is helped a file.
    ///
    /// # Errors
    /// When the service refuses or cannot be reached.
    pub async fn give_visit_file(&self, id: &str, file: &str, content: Vec<u8>) -> Result<VisitView> {
        let call = self.call(Method::POST, &format!("visits/{}/files", name(id))).query(&FileName { name: file.into() });
        self.ask(call.header("content-type", "application/octet-stream").body(content)).await
    }

    /// Takes a file that whoever is helped gave.
    ///
    /// # Errors
    /// When the service refuses or cannot be reached.
    pub async fn take_visit_file(&self, id: &str, file: &str) -> Result<Vec<u8>> {
        self.bytes(self.call(Method::GET, &format!("visits/{}/files/{}", name(id), name(file)))).await
    }

    /// Gives whoever helps a file, as whoever is helped.
    ///
    /// # Errors
    /// When the service refuses or cannot be reached.
    pub async fn give_helper_file(&self, pass: &VisitPass, file: &str, content: Vec<u8>) -> Result<()> {
        let call = self.call(Method::POST, &format!("visits/{}/page/files", name(&pass.visit))).query(&FileName { name: file.into() });
        self.send(call.header("visit-pass", &pass.token).body(content)).await.map(drop)
    }

    /// Takes a file that whoever helps gave, as whoever is helped.
    ///
    /// # Errors
    /// When the service refuses or cannot be reached.
    pub async fn take_helper_file(&self, pass: &VisitPass, file: &str) -> Result<Vec<u8>> {
        let call = self.call(Method::GET, &format!("visits/{}/page/files/{}", name(&pass.visit), name(file)));
        self.bytes(call.header("visit-pass", &pass.token)).await
    }

    /// Begins a shell on the computer of whoever is helped, when they agree.
    ///
    /// # Errors
    /// When the service or the person refuses, or the service cannot be reached.
    pub async fn visit_shell(&self, id: &str) -> Result<VisitShell> {
        self.ask(self.call(Method::POST, &format!("visits/{}/shell", name(id)))).await
    }

    /// Closes a visit.
    ///
    /// # Errors
    /// See [`Client::sign_in`].
    pub async fn close_visit(&self, id: &str, how: &CloseVisit) -> Result<VisitView> {
        self.ask(self.call(Method::POST, &format!("visits/{}/close", name(id))).json(how)).await
    }

    /// Takes a visit back.
    ///
    /// # Errors
    /// See [`Client::sign_in`].
    pub async fn withdraw_visit(&self, id: &str) -> Result<()> {
        self.send(self.call(Method::DELETE, &format!("visits/{}", name(id)))).await.map(drop)
    }

    /// The record of a visit, as the ticket desk gets it.
    ///
    /// # Errors
    /// See [`Client::sign_in`].
    pub async fn visit_record(&self, id: &str) -> Result<serde_json::Value> {
        self.ask(self.call(Method::GET, &format!("visits/{}/record", name(id)))).await
    }

    /// Asks for help in a queue; for somebody without an account.
    ///
    /// # Errors
    /// See [`Client::sign_in`].
    pub async fn ask_for_help(&self, queue: &str, asked: &HelpAsked) -> Result<VisitPass> {
        self.ask(self.call(Method::POST, &format!("help/{}", name(queue))).json(asked)).await
    }

    /// Opens the page of whoever is helped.
    ///
    /// # Errors
    /// See [`Client::sign_in`].
    pub async fn visit_page(&self, pass: &VisitPass) -> Result<VisitedLink> {
        let config = WebSocketConfig::default().write_buffer_size(0);
        let mut link = VisitedLink(self.socket(&format!("/api/v1/visits/{}/page", name(&pass.visit)), &[], config).await?);
        let (system, browser, screen) = ("Linux".into(), "a program".into(), "64 × 64".into());
        link.say(&FromVisited::Begin { token: pass.token.clone(), system, browser, screen }).await;
        Ok(link)
    }

    /// Looks at the screen that somebody shares in a visit. The first thing to send is [`aerie_api::FromViewer::Begin`].
    ///
    /// # Errors
    /// See [`Client::sign_in`].
    pub async fn visit_screen(&self, id: &str) -> Result<DesktopLink> {
        self.desktop_at(&format!("/api/v1/visits/{}/screen", name(id)), &[]).await
    }
}

impl VisitedLink {
    /// Says something. False when the service is gone.
    pub async fn say(&mut self, what: &FromVisited) -> bool {
        let text = serde_json::to_string(what).unwrap_or_default();
        self.0.send(Frame::text(text)).await.is_ok()
    }

    /// Sends a piece of film.
    pub async fn film(&mut self, key: bool, at_us: u64, data: &[u8]) -> bool {
        let piece = [&[u8::from(key)][..], &at_us.to_be_bytes(), data].concat();
        self.0.send(Frame::binary(piece)).await.is_ok()
    }

    /// What the service says next; none when it is gone.
    pub async fn next(&mut self) -> Option<ToVisited> {
        loop {
            match self.0.next().await?.ok()? {
                Frame::Text(text) => return serde_json::from_str(&text).ok(),
                Frame::Ping(_) | Frame::Pong(_) => {}
                Frame::Binary(_) | Frame::Close(_) | Frame::Frame(_) => return None,
            }
        }
    }
}
