//! The screen of a computer whose agent shows it itself, over a stream of the tunnel (docs/formats/desktop.md): what the agent sends, and what it
//! is told. Pictures are the messages that browsers get, compressed one by one; the other way go keys, movements, and the wish for more.

use super::client::{Damage, Event, Remote, several};
use super::framebuffer::{Framebuffer, Rect};
use super::message::Message;
use super::pack::{pack_encoded, unpack};
use super::painter::{MOST_BYTES, Painter};
use super::wire::{Bytes, Fault, Stop};
use std::collections::VecDeque;

/// What an agent is asked to open for its screen.
pub const SCREEN_TARGET: &str = "screen-of-the-machine";
/// Bytes of one message, uncompressed: one that is just full, and the part that overflowed it, or the picture of a pointer.
const MOST_PLAIN: usize = 2 * MOST_BYTES;
/// Bytes of one message on its way: its head, and never longer than it is uncompressed.
const MOST_CARRIED: usize = MOST_PLAIN + 9;

/// Bytes of text that is cut or pasted.
const MOST_TEXT: usize = 400_000;
/// Text of the clipboard there: of no viewer's messages.
const CLIPBOARD: u8 = 200;

/// What an agent is told to do.
#[derive(Debug, Clone, PartialEq, Eq)]
pub enum ScreenOrder {
    /// Send what changed, as soon as something did; with `true` the whole picture, at once.
    Next(bool),
    /// A key, by its keysym, is pressed or released.
    Key(u32, bool),
    /// The pointer is there, with these buttons (bits, RFC 6143 section 7.5.5).
    At(u16, u16, u8),
    /// From here on text that is cut or copied there is wanted, beginning with what is in the clipboard now; or it is no longer.
    Copied(bool),
    /// Text for the clipboard.
    Paste(String),
}

mod tag {
    pub(super) const NEXT: u8 = 1;
    pub(super) const WHOLE: u8 = 2;
    pub(super) const KEY: u8 = 3;
    pub(super) const AT: u8 = 4;
    pub(super) const COPIED: u8 = 5;
    pub(super) const PASTE: u8 = 6;
}

impl ScreenOrder {
    fn encode(&self) -> Vec<u8> {
        match *self {
            Self::Next(false) => vec![tag::NEXT],
            Self::Next(true) => vec![tag::WHOLE],
            Self::Key(keysym, down) => [&[tag::KEY, u8::from(down)][..], &keysym.to_be_bytes()].concat(),
            Self::At(x, y, buttons) => [&[tag::AT, buttons][..], &x.to_be_bytes(), &y.to_be_bytes()].concat(),
            Self::Copied(wanted) => vec![tag::COPIED, u8::from(wanted)],
            Self::Paste(ref text) => {
                let text = bounded(text).as_bytes();
                [&[tag::PASTE][..], &u32::try_from(text.len()).unwrap_or_default().to_be_bytes(), text].concat()
            }
        }
    }
}

/// As much of a text as there can be.
fn bounded(text: &str) -> &str {
    text.get(..text.floor_char_boundary(MOST_TEXT)).unwrap_or_default()
}

/// Reads what an agent is told, as it comes.
#[derive(Debug, Default)]
pub struct OrderReader(Vec<u8>);

impl OrderReader {
    /// Takes bytes; gives what they say.
    ///
    /// # Errors
    /// For what is none of the orders: nothing is to be read from then on.
    pub fn handle_bytes(&mut self, bytes: &[u8]) -> Result<Vec<ScreenOrder>, Fault> {
        self.0.extend_from_slice(bytes);
        let (mut orders, mut done) = (vec![], 0);
        loop {
            let mut rest = Bytes::new(self.0.get(done..).unwrap_or_default());
            match order(&mut rest) {
                Ok(order) => orders.push(order),
                Err(Stop::More) => break,
                Err(Stop::Fault(fault)) => return Err(fault),
            }
            done += rest.at;
        }
        self.0.drain(..done);
        Ok(orders)
    }
}

fn order(bytes: &mut Bytes<'_>) -> Result<ScreenOrder, Stop> {
    Ok(match bytes.u8()? {
        tag::NEXT => ScreenOrder::Next(false),
        tag::WHOLE => ScreenOrder::Next(true),
        tag::KEY => {
            let down = bytes.u8()? != 0;
            ScreenOrder::Key(bytes.u32()?, down)
        }
        tag::AT => {
            let buttons = bytes.u8()?;
            ScreenOrder::At(bytes.u16()?, bytes.u16()?, buttons)
        }
        tag::COPIED => ScreenOrder::Copied(bytes.u8()? != 0),
        tag::PASTE => {
            let length = bytes.length(MOST_TEXT, "a text")?;
            ScreenOrder::Paste(String::from_utf8_lossy(bytes.take(length)?).into_owned())
        }
        _ => return Err(Fault::Unreadable("an order").into()),
    })
}

/// The agent's side: writes what changed on its screen. An update is asked for before each; see [`ScreenOrder::Next`].
#[derive(Debug)]
pub struct ScreenWriter {
    painter: Option<Painter>,
}

impl Default for ScreenWriter {
    fn default() -> Self {
        Self::new()
    }
}

impl ScreenWriter {
    /// Begins: the first update has the whole picture.
    pub fn new() -> Self {
        Self { painter: None }
    }

    /// The next update is to have the whole picture again.
    pub fn begin_anew(&mut self) {
        self.painter = None;
    }

    /// Bytes of an update, after these parts of the screen changed.
    pub fn update(&mut self, screen: &Framebuffer, damage: &[Damage]) -> Vec<u8> {
        let (w, h) = screen.size();
        let whole = [Damage::Pixels(Rect { x: 0, y: 0, w, h })];
        let (mut messages, damage) = match &self.painter {
            Some(_) => (vec![], damage),
            None => match Painter::new(w, h) {
                Ok((painter, first)) => {
                    self.painter = Some(painter);
                    (vec![first], &whole[..])
                }
                // The screen is of a size that was let in before.
                Err(_) => (vec![], &[][..]),
            },
        };
        if let Some(painter) = &mut self.painter {
            messages.extend(painter.update(screen, damage));
        }
        let mut out = vec![];
        messages.iter().for_each(|m| carry(m, &mut out));
        // Nothing follows of this update.
        out.extend([0; 4]);
        out
    }

    /// Bytes of something beside the picture: the pointer's look, a sound.
    pub fn beside(&self, message: &Message) -> Vec<u8> {
        let mut out = vec![];
        carry(message, &mut out);
        out
    }

    /// Bytes of text that was cut or copied; of a long one the beginning.
    pub fn copied(text: &str) -> Vec<u8> {
        let mut out = vec![];
        carry_encoded(&[&[CLIPBOARD], bounded(text).as_bytes()].concat(), &mut out);
        out
    }
}

fn carry(message: &Message, out: &mut Vec<u8>) {
    carry_encoded(&message.encode(), out);
}

fn carry_encoded(message: &[u8], out: &mut Vec<u8>) {
    let packed = pack_encoded(0, message);
    out.extend(u32::try_from(packed.len()).unwrap_or(u32::MAX).to_be_bytes());
    out.extend(packed);
}

/// The service's side: keeps the picture of an agent's screen, to be used as every [`Remote`] is.
pub struct ScreenClient {
    name: String,
    input: Vec<u8>,
    screen: Option<Framebuffer>,
    events: VecDeque<Event>,
    output: VecDeque<Vec<u8>>,
}

impl ScreenClient {
    /// Begins, and asks for the picture. The screen is called `name`.
    pub fn new(name: &str) -> Self {
        let first = ScreenOrder::Next(true).encode();
        Self { name: name.into(), input: vec![], screen: None, events: VecDeque::new(), output: [first].into() }
    }

    fn step(&mut self, bytes: &mut Bytes<'_>) -> Result<(), Stop> {
        let length = bytes.length(MOST_CARRIED, "a message")?;
        if length == 0 {
            let Some((w, h)) = self.screen.as_ref().map(Framebuffer::size) else {
                return Err(Fault::Unasked("an update without a screen").into());
            };
            self.events.push_back(Event::Updated(vec![Damage::Pixels(Rect { x: 0, y: 0, w, h })]));
            return Ok(());
        }
        let carried = bytes.take(length)?;
        let unreadable = Fault::Unreadable("a message");
        let plain = unpack(carried, MOST_PLAIN).ok_or(unreadable.clone())?;
        if let Some((&CLIPBOARD, text)) = plain.split_first() {
            if text.len() > MOST_TEXT {
                return Err(Fault::Long("a text").into());
            }
            self.events.push_back(Event::Clipboard(String::from_utf8_lossy(text).into_owned()));
            return Ok(());
        }
        let message = Message::decode(&plain).ok_or(unreadable)?;
        match (message, &mut self.screen) {
            (Message::Size(w, h), Some(screen)) => {
                let other = screen.size() != (w, h);
                *screen = Framebuffer::new(w, h)?;
                self.events.extend(other.then_some(Event::Resized(w, h)));
            }
            (Message::Size(w, h), none) => {
                *none = Some(Framebuffer::new(w, h)?);
                self.events.push_back(Event::Began { name: self.name.clone() });
            }
            (parts @ Message::Parts(_), Some(screen)) => screen.show(&parts)?,
            (Message::Shape { size, hot, pixels }, _) => self.events.push_back(Event::Pointer { size, hot, pixels }),
            (Message::Screens(found), Some(screen)) => {
                let found = several(found, screen.size());
                self.events.push_back(Event::Screens(found));
            }
            (Message::Bell, _) => self.events.push_back(Event::Bell),
            _ => return Err(Fault::Unasked("a message").into()),
        }
        Ok(())
    }

    /// Tells the agent something; before its screen is there, nothing is told.
    pub fn order(&mut self, order: ScreenOrder) {
        if self.screen.is_some() {
            self.output.push_back(order.encode());
        }
    }
}

impl Remote for ScreenClient {
    fn handle_bytes(&mut self, bytes: &[u8]) -> Result<(), Fault> {
        self.input.extend_from_slice(bytes);
        let input = std::mem::take(&mut self.input);
        let mut rest = Bytes::new(&input);
        let mut done = 0;
        let result = loop {
            match self.step(&mut rest) {
                Ok(()) => done = rest.at,
                Err(Stop::More) => break Ok(()),
                Err(Stop::Fault(fault)) => break Err(fault),
            }
        };
        self.input = input.get(done..).unwrap_or_default().to_vec();
        result
    }

    fn poll_event(&mut self) -> Option<Event> {
        self.events.pop_front()
    }

    fn poll_transmit(&mut self) -> Option<Vec<u8>> {
        self.output.pop_front()
    }

    fn screen(&self) -> Option<&Framebuffer> {
        self.screen.as_ref()
    }

    fn ask(&mut self, everything: bool) {
        self.order(ScreenOrder::Next(everything));
    }

    fn key(&mut self, keysym: u32, down: bool) {
        self.order(ScreenOrder::Key(keysym, down));
    }

    fn pointer(&mut self, (x, y): (u16, u16), buttons: u8) {
        self.order(ScreenOrder::At(x, y, buttons));
    }

    fn clipboard(&mut self, text: &str) {
        self.order(ScreenOrder::Paste(text.into()));
    }

    fn want_clipboard(&mut self, wanted: bool) {
        self.order(ScreenOrder::Copied(wanted));
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    /// Tells the writer's side what the client wants; gives the orders.
    fn told(client: &mut ScreenClient, orders: &mut OrderReader) -> Vec<ScreenOrder> {
        let mut all = vec![];
        while let Some(bytes) = client.poll_transmit() {
            // However they are cut.
            for byte in bytes {
                all.extend(orders.handle_bytes(&[byte]).unwrap());
            }
        }
        all
    }

    #[test]
    fn what_is_on_the_screen_of_an_agent_is_seen_and_acted_on() {
        let (mut client, mut orders, mut writer) = (ScreenClient::new("desk"), OrderReader::default(), ScreenWriter::new());
        client.order(ScreenOrder::Key(97, true));
        assert_eq!(told(&mut client, &mut orders), [ScreenOrder::Next(true)], "before the screen is there nothing is pressed");
        let mut screen = Framebuffer::new(300, 200).unwrap();
        screen.fill(Rect { x: 20, y: 30, w: 100, h: 90 }, [200, 10, 10]);
        for piece in writer.update(&screen, &[]).chunks(7) {
            client.handle_bytes(piece).unwrap();
        }
        assert_eq!(client.poll_event(), Some(Event::Began { name: "desk".into() }));
        assert!(matches!(client.poll_event(), Some(Event::Updated(_))));
        assert!(client.screen() == Some(&screen));
        let paste = ScreenOrder::Paste("Größe".into());
        let all = [ScreenOrder::Key(0xff0d, false), ScreenOrder::At(299, 7, 5), ScreenOrder::Copied(true), paste, ScreenOrder::Next(false)];
        all.iter().for_each(|o| client.order(o.clone()));
        assert_eq!(told(&mut client, &mut orders), all);
        client.handle_bytes(&ScreenWriter::copied("Länge")).unwrap();
        assert_eq!(client.poll_event(), Some(Event::Clipboard("Länge".into())));
        let screens = vec![Rect { x: 0, y: 0, w: 100, h: 200 }, Rect { x: 100, y: 0, w: 200, h: 200 }];
        client.handle_bytes(&writer.beside(&Message::Screens(screens.clone()))).unwrap();
        client.handle_bytes(&writer.beside(&Message::Screens(vec![Rect { x: 299, y: 0, w: 2, h: 1 }; 2]))).unwrap();
        assert_eq!(client.poll_event(), Some(Event::Screens(screens)));
        assert_eq!(client.poll_event(), Some(Event::Screens(vec![])), "beyond the screen there is none");
        // Another size, and another look of the pointer.
        let larger = Framebuffer::new(320, 200).unwrap();
        client.handle_bytes(&writer.beside(&Message::Shape { size: (1, 1), hot: (0, 0), pixels: vec![1, 2, 3, 255] })).unwrap();
        client.handle_bytes(&writer.update(&larger, &[])).unwrap();
        assert!(matches!(client.poll_event(), Some(Event::Pointer { .. })));
        assert_eq!(client.poll_event(), Some(Event::Resized(320, 200)));
        assert!(client.screen() == Some(&larger));
        writer.begin_anew();
        client.handle_bytes(&writer.update(&screen, &[])).unwrap();
        assert!(client.screen() == Some(&screen));
    }

    #[test]
    fn an_agent_that_does_what_it_may_not_is_told_apart() {
        let carried = |m: &Message| ScreenWriter::new().beside(m);
        let film = Message::Film { codec: "vp8".into(), width: 9, height: 9 };
        let bad = [
            (vec![0xff; 4], Fault::Long("a message")),
            (vec![0; 4], Fault::Unasked("an update without a screen")),
            (vec![0, 0, 0, 3, 1, 2, 3], Fault::Unreadable("a message")),
            (carried(&film), Fault::Unasked("a message")),
            (carried(&Message::Size(0, 4)), Fault::TooLarge(0, 4)),
            (carried(&Message::Size(u16::MAX, u16::MAX)), Fault::TooLarge(u16::MAX, u16::MAX)),
        ];
        for (bytes, fault) in bad {
            assert_eq!(ScreenClient::new("x").handle_bytes(&bytes), Err(fault));
        }
        // Text at its bound, and beyond.
        let long = "ü".repeat(MOST_TEXT);
        let mut client = ScreenClient::new("x");
        client.handle_bytes(&ScreenWriter::copied(&long)).unwrap();
        assert_eq!(client.poll_event(), Some(Event::Clipboard(long.chars().take(MOST_TEXT / 2).collect())));
        let mut beyond = vec![];
        carry_encoded(&[&[CLIPBOARD][..], &vec![b'x'; MOST_TEXT + 1]].concat(), &mut beyond);
        assert_eq!(client.handle_bytes(&beyond), Err(Fault::Long("a text")));
        assert_eq!(OrderReader::default().handle_bytes(&ScreenOrder::Paste(long).encode()).map(|o| o.len()), Ok(1));
        let beyond = [&[tag::PASTE][..], &(MOST_TEXT as u32 + 1).to_be_bytes()].concat();
        assert_eq!(OrderReader::default().handle_bytes(&beyond), Err(Fault::Long("a text")));
        assert_eq!(OrderReader::default().handle_bytes(&[9]), Err(Fault::Unreadable("an order")));
        // What unpacks to more than there can be.
        let bomb = pack_encoded(0, &vec![0; MOST_PLAIN + 1]);
        let mut bytes = u32::try_from(bomb.len()).unwrap().to_be_bytes().to_vec();
        bytes.extend(bomb);
        assert_eq!(ScreenClient::new("x").handle_bytes(&bytes), Err(Fault::Unreadable("a message")));
    }
}
