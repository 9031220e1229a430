//! The desktop of a live session, for all who look at it: what it shows now, and what comes next.

use aerie_api::ToViewer;
use aerie_core::desktop::{Damage, Framebuffer, Message, Painter, Quality, Rect, pack_encoded};
use aerie_core::policy::Capability;
use bytes::Bytes;
use std::sync::{Mutex, MutexGuard, PoisonError};
use tokio::sync::{Notify, broadcast};

/// Messages that somebody may be behind; who is further behind gets the whole picture anew. What a hostile machine or person can make them hold: as
/// many times the largest message, 48 MiB.
const BEHIND: usize = 48;
/// Pictures that may be on their way to whose session it is before the next is asked of the machine: two, so that the line is never idle.
const ON_THE_WAY: u64 = 2;
/// Pieces of film since the last whole picture that are kept for somebody who comes later: ten seconds of them.
const MOST_PIECES: usize = 150;
/// Their bytes.
const MOST_KEPT: usize = 8 << 20;
/// Lines that are drawn over a screen, for somebody who comes later.
const MOST_LINES: usize = 200;

/// Something for whoever looks.
#[derive(Debug, Clone)]
pub(crate) enum Shown {
    /// A packed message of the picture.
    Picture(Bytes),
    /// Something said.
    Told(ToViewer),
    /// Text of the machine's clipboard: for those who may take it.
    Clipboard(String),
}

#[derive(Debug)]
struct Inner {
    painter: Option<Painter>,
    title: String,
    pointer: Option<Message>,
    /// Where the single screens are, of several.
    screens: Option<Message>,
    /// How film is coded, and its pieces since the last whole picture, encoded.
    film: Option<Message>,
    pieces: Vec<Vec<u8>>,
    lines: Vec<Message>,
    number: u64,
    /// What whose session it is has drawn; none while they have no window open.
    drawn: Option<u64>,
    told: broadcast::Sender<Shown>,
}

/// What all share who look at a desktop.
#[derive(Debug)]
pub(crate) struct Screen {
    inner: Mutex<Inner>,
    /// The pace may have changed.
    pub(crate) drawn: Notify,
}

/// A picture made small.
pub(crate) struct Small {
    /// Width and height of what it is of.
    pub(crate) of: (u16, u16),
    /// Its own.
    pub(crate) size: (u16, u16),
    /// Red, green and blue of each pixel.
    pub(crate) rgb: Vec<u8>,
}

/// What the recording takes: encoded messages.
pub(crate) type Encoded = Vec<Vec<u8>>;

impl Screen {
    pub(crate) fn new() -> Self {
        let inner = Inner {
            painter: None,
            title: String::new(),
            pointer: None,
            screens: None,
            film: None,
            pieces: vec![],
            lines: vec![],
            number: 0,
            drawn: None,
            told: broadcast::channel(BEHIND).0,
        };
        Self { inner: Mutex::new(inner), drawn: Notify::new() }
    }

    fn lock(&self) -> MutexGuard<'_, Inner> {
        self.inner.lock().unwrap_or_else(PoisonError::into_inner)
    }

    pub(crate) fn set_title(&self, title: &str) {
        self.lock().title = title.into();
    }

    pub(crate) fn title(&self) -> String {
        self.lock().title.clone()
    }

    /// Takes what changed; gives what the recording keeps of it, and how many bytes went out.
    pub(crate) fn update(&self, screen: &Framebuffer, damage: &[Damage]) -> (Encoded, usize) {
        let mut inner = self.lock();
        let messages = match &mut inner.painter {
            Some(painter) => painter.update(screen, damage),
            None => {
                let (w, h) = screen.size();
                let Ok((mut painter, first)) = Painter::new(w, h) else { return (vec![], 0) };
                let mut all = vec![first];
                let whole = Rect { x: 0, y: 0, w, h };
                all.extend(painter.update(screen, &[Damage::Pixels(whole)]));
                inner.painter = Some(painter);
                all
            }
        };
        if messages.iter().any(|m| matches!(m, Message::Size(..))) {
            inner.lines.clear();
            inner.screens = None;
        }
        let encoded: Encoded = messages.iter().map(Message::encode).collect();
        let bytes = encoded.iter().map(|e| inner.send(e)).sum();
        (encoded, bytes)
    }

    /// From the next update on colours are sent so.
    pub(crate) fn set_quality(&self, quality: Quality) {
        if let Some(painter) = &mut self.lock().painter {
            painter.set_quality(quality);
        }
    }

    /// Width and height of what is shown; none before there is anything, and of film.
    pub(crate) fn size(&self) -> Option<(u16, u16)> {
        self.lock().painter.as_ref().map(|p| p.shown().size())
    }

    /// The picture as it is seen now, made small. None for film.
    pub(crate) fn small(&self, most: u16) -> Option<Small> {
        let inner = self.lock();
        let shown = inner.painter.as_ref()?.shown();
        let (width, height, rgb) = shown.small(most);
        Some(Small { of: shown.size(), size: (width, height), rgb })
    }

    /// Tells all of something beside the picture; gives it as the recording keeps it.
    pub(crate) fn tell(&self, message: Message) -> Vec<u8> {
        let mut inner = self.lock();
        let encoded = message.encode();
        inner.send(&encoded);
        match message {
            Message::Shape { .. } => inner.pointer = Some(message),
            Message::Screens(_) => inner.screens = Some(message),
            Message::Film { .. } => {
                inner.film = Some(message);
                inner.pieces.clear();
            }
            Message::Piece { key, .. } => {
                if key {
                    inner.pieces.clear();
                }
                // Without the one before it a piece is of no use: who comes later waits for the next whole picture.
                let kept: usize = inner.pieces.iter().map(Vec::len).sum();
                if inner.pieces.len() < MOST_PIECES && kept + encoded.len() <= MOST_KEPT {
                    inner.pieces.push(encoded.clone());
                }
            }
            Message::Drawn { who, points } if points.is_empty() => {
                inner.lines.retain(|l| !matches!(l, Message::Drawn { who: by, .. } if *by == who));
            }
            Message::Drawn { .. } if inner.lines.len() < MOST_LINES => inner.lines.push(message),
            _ => {}
        }
        encoded
    }

    pub(crate) fn say(&self, what: ToViewer) {
        let _ = self.lock().told.send(Shown::Told(what));
    }

    /// Text of the machine's clipboard, for those who may take it.
    pub(crate) fn copied(&self, text: String) {
        let _ = self.lock().told.send(Shown::Clipboard(text));
    }

    /// The whole picture as it is now, packed, and what comes next.
    pub(crate) fn look(&self) -> (Vec<Bytes>, broadcast::Receiver<Shown>) {
        let inner = self.lock();
        let whole = inner.whole();
        (whole.iter().map(|e| pack_encoded(inner.number, e).into()).collect(), inner.told.subscribe())
    }

    /// The whole picture for the recording, with what is drawn over it.
    pub(crate) fn whole(&self) -> Encoded {
        self.lock().whole()
    }

    /// Whose session it is has drawn this; or, with none, has no window open.
    pub(crate) fn handle_drawn(&self, number: Option<u64>) {
        self.lock().drawn = number;
        self.drawn.notify_one();
    }

    /// They have a window again: what was sent so far counts as drawn.
    pub(crate) fn begin_pace(&self) {
        let mut inner = self.lock();
        inner.drawn = Some(inner.number);
        drop(inner);
        self.drawn.notify_one();
    }

    /// Whether the machine may be asked for more now; `None` while nobody sets the pace.
    pub(crate) fn has_room(&self) -> Option<bool> {
        let inner = self.lock();
        inner.drawn.map(|d| inner.number.saturating_sub(d) < ON_THE_WAY)
    }
}

impl Inner {
    fn send(&mut self, encoded: &[u8]) -> usize {
        self.number += 1;
        if self.told.receiver_count() == 0 {
            return 0;
        }
        let packed = pack_encoded(self.number, encoded);
        let bytes = packed.len();
        let _ = self.told.send(Shown::Picture(packed.into()));
        bytes
    }

    fn whole(&self) -> Encoded {
        let picture = self.painter.as_ref().map(Painter::whole).unwrap_or_default();
        let first: Encoded = picture.iter().chain(&self.screens).chain(&self.film).map(Message::encode).collect();
        let rest = self.pointer.iter().chain(&self.lines).map(Message::encode);
        first.into_iter().chain(self.pieces.iter().cloned()).chain(rest).collect()
    }
}

/// A capability that is asked for within a desktop session.
pub(crate) fn asked_here(word: &str) -> Option<Capability> {
    Capability::from_word(word).filter(|c| matches!(c, Capability::Control | Capability::ClipboardIn | Capability::ClipboardOut))
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn whoever_comes_later_sees_the_whole_and_then_what_comes() {
        let screen = Screen::new();
        let mut picture = Framebuffer::new(100, 80).unwrap();
        let (kept, sent) = screen.update(&picture, &[]);
        assert_eq!((kept.len(), sent), (1, 0), "the size alone, and nobody looks");
        screen.tell(Message::Drawn { who: "ines".into(), points: vec![(1, 2), (3, 4)] });
        let (whole, mut next) = screen.look();
        assert_eq!(whole.len(), 3, "size, picture, line");
        picture.show(&Message::Size(120, 80)).unwrap();
        screen.update(&picture, &[]);
        assert!(matches!(next.try_recv(), Ok(Shown::Picture(_))));
        assert_eq!(screen.look().0.len(), 2, "what was drawn over it is gone with the old size");
    }

    #[test]
    fn film_is_kept_from_its_last_whole_picture_on_and_within_bounds() {
        let screen = Screen::new();
        screen.tell(Message::Film { codec: "vp8".into(), width: 8, height: 8 });
        let piece = |key, n: usize| Message::Piece { key, at_us: 1, data: vec![1; n] };
        screen.tell(piece(true, 10));
        screen.tell(piece(false, 10));
        assert_eq!(screen.look().0.len(), 3);
        screen.tell(piece(true, 10));
        assert_eq!(screen.look().0.len(), 2, "what came before a whole picture is not needed");
        (0..40).for_each(|_| drop(screen.tell(piece(false, 1 << 20))));
        let kept: usize = screen.whole().iter().map(Vec::len).sum();
        assert!(kept <= MOST_KEPT + 100, "{kept}");
    }

    #[test]
    fn whose_session_it_is_sets_the_pace() {
        let screen = Screen::new();
        assert_eq!(screen.has_room(), None);
        screen.begin_pace();
        assert_eq!(screen.has_room(), Some(true));
        screen.tell(Message::Bell);
        screen.tell(Message::Bell);
        assert_eq!(screen.has_room(), Some(false));
        screen.handle_drawn(Some(1));
        assert_eq!(screen.has_room(), Some(true));
    }
}
