//! Where whoever is helped and whoever helps meet, while either has a page open.

use crate::service::App;
use aerie_api::ToVisited;
use aerie_core::desktop::Message;
use aerie_core::session::EndReason;
use std::sync::{Mutex, MutexGuard, PoisonError};
use tokio::sync::{broadcast, mpsc};

/// Messages that the person's page may be behind; beyond, it is told how things stand anew.
const BEHIND: usize = 64;
/// Pieces of film that wait for the session; beyond, the film waits, and the browser that makes it leaves pictures out.
const PIECES: usize = 8;

#[derive(Debug, Default)]
struct Inner {
    /// How many pages the person has open.
    pages: u32,
    film: Option<Message>,
    session: Option<(String, mpsc::Sender<Message>)>,
}

/// A meeting.
#[derive(Debug)]
pub(crate) struct Meeting {
    /// The visit.
    pub(crate) visit: String,
    inner: Mutex<Inner>,
    to_person: broadcast::Sender<ToVisited>,
    /// How things stand changed.
    pub(crate) changed: broadcast::Sender<()>,
}

impl Meeting {
    pub(super) fn new(visit: &str) -> Self {
        Self { visit: visit.into(), inner: Mutex::default(), to_person: broadcast::channel(BEHIND).0, changed: broadcast::channel(4).0 }
    }

    fn lock(&self) -> MutexGuard<'_, Inner> {
        self.inner.lock().unwrap_or_else(PoisonError::into_inner)
    }

    pub(crate) fn handle_change(&self) {
        let _ = self.changed.send(());
    }

    /// A page of the person is there.
    pub(crate) fn come(&self) -> broadcast::Receiver<ToVisited> {
        self.lock().pages += 1;
        self.handle_change();
        self.to_person.subscribe()
    }

    /// It is gone; whether it was the last.
    pub(crate) fn go(&self) -> bool {
        let mut inner = self.lock();
        inner.pages = inner.pages.saturating_sub(1);
        let last = inner.pages == 0;
        if last {
            inner.film = None;
        }
        drop(inner);
        self.handle_change();
        last
    }

    pub(crate) fn is_here(&self) -> bool {
        self.lock().pages > 0
    }

    pub(crate) fn shares(&self) -> bool {
        self.lock().film.is_some()
    }

    /// The session in which whoever helps looks at it.
    pub(crate) fn session(&self) -> Option<String> {
        self.lock().session.as_ref().map(|s| s.0.clone())
    }

    /// Says something to the person's page.
    pub(crate) fn tell(&self, what: ToVisited) {
        let _ = self.to_person.send(what);
    }

    /// The person shares their screen from here on, or no longer.
    pub(crate) async fn handle_film(&self, film: Option<Message>) {
        let to = {
            let mut inner = self.lock();
            inner.film = film.clone();
            inner.session.as_ref().map(|s| s.1.clone())
        };
        if let (Some(to), Some(film)) = (to, film) {
            let _ = to.send(film).await;
        }
        self.handle_change();
    }

    /// A piece of film; nobody looks without a session, and then it is not kept either.
    pub(crate) async fn handle_piece(&self, piece: Message) {
        let to = self.lock().session.as_ref().map(|s| s.1.clone());
        if let Some(to) = to {
            let _ = to.send(piece).await;
        }
    }

    /// A session looks from here on: gives what it takes. One before it gets nothing more.
    pub(crate) fn begin_session(&self, id: &str) -> mpsc::Receiver<Message> {
        let (send, receive) = mpsc::channel(PIECES);
        let mut inner = self.lock();
        if let Some(film) = &inner.film {
            let _ = send.try_send(film.clone());
        }
        inner.session = Some((id.into(), send));
        drop(inner);
        self.tell(ToVisited::Key);
        self.handle_change();
        receive
    }

    /// It looks no longer.
    pub(crate) fn end_session(&self, id: &str) {
        let mut inner = self.lock();
        if inner.session.as_ref().is_some_and(|s| s.0 == id) {
            inner.session = None;
        }
        drop(inner);
        self.handle_change();
    }

    /// The visit is over: so is what looks.
    pub(super) fn end_sessions(&self, app: &App) {
        if let Some(live) = self.session().and_then(|id| app.live.get(&id)) {
            live.end_saying(EndReason::Left, "the visit is over");
        }
    }
}
