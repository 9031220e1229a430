use super::decode::{Decoders, Hextile, hextile, raw_row};
use super::framebuffer::{Framebuffer, PIXEL, Rect};
use super::wire::{Bytes, Fault, Stop};
use crate::diagnostic::printable;
use des::Des;
use des::cipher::{BlockCipherEncrypt as _, KeyInit as _};
use std::collections::VecDeque;
use zeroize::Zeroizing;

/// Bytes of text in a clipboard at most; a longer one is passed over.
pub const MOST_CLIPBOARD: usize = 1 << 20;
/// Parts of one update that are told apart; with more, the whole screen changed.
const MOST_DAMAGE: usize = 4096;
/// So many rectangles of an update stand for as many as come until the last says so (LastRect).
const MOST_RECTANGLES: u16 = u16::MAX;
/// Bytes of a name or reason.
const LONGEST_TEXT: usize = 4096;
/// Side of a pointer's picture.
const LARGEST_POINTER: u16 = 256;
/// Single screens that are told apart; more are one.
pub(super) const MOST_SCREENS: usize = 16;

/// Encodings that are asked for, the dearest to the line first: Tight without losses, ZRLE, Hextile, CopyRect, Raw; the pointer's picture, another
/// size of the screen, where the single screens are on it (ExtendedDesktopSize of the registry), and updates of an unknown number of rectangles.
const ENCODINGS: [i32; 9] = [TIGHT, ZRLE, HEXTILE, COPY, RAW, POINTER, SIZE, SCREENS, LAST];
const RAW: i32 = 0;
const COPY: i32 = 1;
const HEXTILE: i32 = 5;
const TIGHT: i32 = 7;
const ZRLE: i32 = 16;
const SIZE: i32 = -223;
const LAST: i32 = -224;
const POINTER: i32 = -239;
const SCREENS: i32 = -308;

/// Security types (RFC 6143 section 7.1.2, and VeNCrypt of the registry).
const NONE: u8 = 1;
const CHALLENGE: u8 = 2;
const VENCRYPT: u8 = 19;
/// Kinds of VeNCrypt in which the server has a certificate: without a further proof, and with the challenge.
const CERTIFIED: u32 = 260;
const CERTIFIED_CHALLENGE: u32 = 261;

/// How to connect.
#[derive(Default)]
pub struct Options {
    /// Password of the server; its first eight bytes count.
    pub password: Option<Zeroizing<String>>,
    /// Whether others that are connected stay.
    pub shared: bool,
    /// The one way of coding pixels that is asked for, to measure it; otherwise all, the dearest to the line first.
    pub only: Option<Coding>,
}

/// A way of coding pixels (RFC 6143 section 7.7, and Tight of the registry).
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum Coding {
    /// As they are.
    Raw,
    /// In squares of 16, with two colours or more.
    Hextile,
    /// In squares of 64, by lists of colours and runs, compressed.
    Zrle,
    /// By lists of colours, compressed; without losses.
    Tight,
}

impl Coding {
    fn number(self) -> i32 {
        match self {
            Self::Raw => RAW,
            Self::Hextile => HEXTILE,
            Self::Zrle => ZRLE,
            Self::Tight => TIGHT,
        }
    }
}

/// What changed on the screen.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum Damage {
    /// Pixels are others.
    Pixels(Rect),
    /// A part was copied from elsewhere on the screen.
    Copied {
        /// Where from.
        from: (u16, u16),
        /// Where to.
        to: Rect,
    },
}

/// What came of the server's bytes.
#[derive(Debug, Clone, PartialEq, Eq)]
pub enum Event {
    /// TLS begins here: nothing is read or written before it stands, then [`RfbClient::handle_tls`].
    StartTls,
    /// Aerie is in; the desktop is called so.
    Began {
        /// Its name, printable.
        name: String,
    },
    /// The screen changed. The next update is asked for with [`RfbClient::ask`].
    Updated(Vec<Damage>),
    /// The screen has another size.
    Resized(u16, u16),
    /// Where the single screens are, of which there are several; none where there is one. Counts from the next [`Event::Updated`] on.
    Screens(Vec<Rect>),
    /// The pointer looks otherwise.
    Pointer {
        /// Width and height.
        size: (u16, u16),
        /// The point of it that points.
        hot: (u16, u16),
        /// Red, green, blue, and how opaque, of each pixel.
        pixels: Vec<u8>,
    },
    /// A sound.
    Bell,
    /// Text that was cut or copied there.
    Clipboard(String),
}

/// The other end of a desktop, whatever it speaks: feed [`Remote::handle_bytes`]; then take [`Remote::poll_event`] and
/// [`Remote::poll_transmit`] until they have nothing.
pub trait Remote: Send + Sync {
    /// Takes bytes of the other side.
    ///
    /// # Errors
    /// When it does what it may not. Nothing is to be fed from then on.
    fn handle_bytes(&mut self, bytes: &[u8]) -> Result<(), Fault>;
    /// What came of it.
    fn poll_event(&mut self) -> Option<Event>;
    /// Bytes for the other side.
    fn poll_transmit(&mut self) -> Option<Vec<u8>>;
    /// The picture; none before [`Event::Began`].
    fn screen(&self) -> Option<&Framebuffer>;
    /// Asks for what changed, or for everything.
    fn ask(&mut self, everything: bool);
    /// Presses or releases a key, by its keysym.
    fn key(&mut self, keysym: u32, down: bool);
    /// Moves the pointer, with the buttons that are pressed as bits (RFC 6143 section 7.5.5).
    fn pointer(&mut self, at: (u16, u16), buttons: u8);
    /// Puts text into the clipboard there, where there is a way to do so.
    fn clipboard(&mut self, _text: &str) {}
    /// Text that is cut or copied there is wanted from here on, or no longer. Servers that send it in any case are not told.
    fn want_clipboard(&mut self, _wanted: bool) {}
    /// TLS stands, after [`Event::StartTls`].
    fn handle_tls(&mut self) {}
}

/// Where the dialogue is.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
enum Phase {
    Version,
    Security,
    Vencrypt(Vencrypt),
    Tls {
        challenge: bool,
    },
    Challenge,
    Result,
    Screen,
    Message,
    Rectangles {
        left: u16,
    },
    Rectangle {
        left: u16,
        rect: Rect,
        part: Part,
    },
    /// So many bytes say nothing that is needed.
    Skip(usize),
}

#[derive(Debug, Clone, Copy, PartialEq, Eq)]
enum Vencrypt {
    Version,
    Accepted,
    Kinds,
    Agreed { challenge: bool },
}

/// A rectangle that is drawn as it comes.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
enum Part {
    /// Rows that are done.
    Raw(u16),
    Hextile(Hextile),
}

/// A client of a desktop's server, RFB 3.8 (RFC 6143).
///
/// Feed [`RfbClient::handle_bytes`]; then take [`RfbClient::poll_event`] and [`RfbClient::poll_transmit`] until they have nothing. After an error
/// the connection is to be closed.
pub struct RfbClient {
    options: Options,
    phase: Phase,
    /// Bytes that are not read yet.
    input: Vec<u8>,
    decoders: Decoders,
    screen: Option<Framebuffer>,
    damage: Vec<Damage>,
    events: VecDeque<Event>,
    output: VecDeque<Vec<u8>>,
}

impl RfbClient {
    /// Begins; the server speaks first.
    pub fn new(options: Options) -> Self {
        Self {
            options,
            phase: Phase::Version,
            input: vec![],
            decoders: Decoders::default(),
            screen: None,
            damage: vec![],
            events: VecDeque::new(),
            output: VecDeque::new(),
        }
    }

    /// The picture; none before [`Event::Began`].
    pub fn screen(&self) -> Option<&Framebuffer> {
        self.screen.as_ref()
    }

    /// Takes bytes of the server.
    ///
    /// # Errors
    /// When it does what it may not, or does not let Aerie in. Nothing is to be fed from then on.
    pub fn handle_bytes(&mut self, bytes: &[u8]) -> Result<(), Fault> {
        self.input.extend_from_slice(bytes);
        let mut input = std::mem::take(&mut self.input);
        let mut done = 0;
        let result = loop {
            let mut rest = Bytes::new(input.get(done..).unwrap_or_default());
            match self.step(&mut rest) {
                Ok(()) => done += rest.at,
                Err(Stop::More) => break Ok(()),
                Err(Stop::Fault(fault)) => break Err(fault),
            }
        };
        input.drain(..done);
        self.input = input;
        result
    }

    /// TLS stands.
    pub fn handle_tls(&mut self) {
        if let Phase::Tls { challenge } = self.phase {
            self.phase = if challenge { Phase::Challenge } else { Phase::Result };
        }
    }

    /// What came of it.
    pub fn poll_event(&mut self) -> Option<Event> {
        self.events.pop_front()
    }

    /// Bytes for the server.
    pub fn poll_transmit(&mut self) -> Option<Vec<u8>> {
        self.output.pop_front()
    }

    #[cfg(test)]
    pub(super) fn input_kept(&self) -> usize {
        self.input.len()
    }

    /// Asks for what changed, or for everything (section 7.5.3).
    pub fn ask(&mut self, everything: bool) {
        let Some((w, h)) = self.screen.as_ref().map(Framebuffer::size) else { return };
        let mut message = vec![3, u8::from(!everything), 0, 0, 0, 0];
        message.extend([w, h].iter().flat_map(|n| n.to_be_bytes()));
        self.output.push_back(message);
    }

    /// Presses or releases a key, by its keysym (section 7.5.4).
    pub fn key(&mut self, keysym: u32, down: bool) {
        let mut message = vec![4, u8::from(down), 0, 0];
        message.extend(keysym.to_be_bytes());
        self.tell(message);
    }

    /// Moves the pointer, with the buttons that are pressed as bits (section 7.5.5).
    pub fn pointer(&mut self, (x, y): (u16, u16), buttons: u8) {
        let Some((w, h)) = self.screen.as_ref().map(Framebuffer::size) else { return };
        let mut message = vec![5, buttons];
        message.extend([x.min(w - 1), y.min(h - 1)].iter().flat_map(|n| n.to_be_bytes()));
        self.tell(message);
    }

    /// Puts text into the clipboard there (section 7.5.6): Latin-1, with `?` for what it has not.
    pub fn clipboard(&mut self, text: &str) {
        let latin: Vec<u8> = text.chars().take(MOST_CLIPBOARD).map(|c| u8::try_from(u32::from(c)).unwrap_or(b'?')).collect();
        let mut message = vec![6, 0, 0, 0];
        message.extend(u32::try_from(latin.len()).unwrap_or(0).to_be_bytes());
        message.extend(latin);
        self.tell(message);
    }

    /// Before Aerie is in, nothing is said.
    fn tell(&mut self, message: Vec<u8>) {
        if self.screen.is_some() {
            self.output.push_back(message);
        }
    }

    fn step(&mut self, bytes: &mut Bytes<'_>) -> Result<(), Stop> {
        match self.phase {
            Phase::Version => self.version(bytes),
            Phase::Security => self.security(bytes),
            Phase::Vencrypt(at) => self.vencrypt(bytes, at),
            // Whatever came before TLS was not the server's.
            Phase::Tls { .. } if !bytes.is_empty() => Err(Fault::Unasked("bytes before TLS").into()),
            Phase::Tls { .. } => Err(Stop::More),
            Phase::Challenge => self.challenge(bytes),
            Phase::Result => self.result(bytes),
            Phase::Screen => self.begin(bytes),
            Phase::Message => self.message(bytes),
            Phase::Rectangles { left: 0 } => {
                self.updated();
                Ok(())
            }
            Phase::Rectangles { left } => self.rectangle(bytes, left),
            Phase::Rectangle { left, rect, part } => self.part(bytes, left, rect, part),
            Phase::Skip(0) => {
                self.phase = Phase::Message;
                Ok(())
            }
            Phase::Skip(left) => {
                self.phase = Phase::Skip(left - bytes.skip(left)?);
                Ok(())
            }
        }
    }

    /// Section 7.1.1.
    fn version(&mut self, bytes: &mut Bytes<'_>) -> Result<(), Stop> {
        let said = bytes.take(12)?;
        if said != b"RFB 003.008\n" {
            return Err(Fault::Version.into());
        }
        self.output.push_back(said.to_vec());
        self.phase = Phase::Security;
        Ok(())
    }

    /// Section 7.1.2: the best that both have.
    fn security(&mut self, bytes: &mut Bytes<'_>) -> Result<(), Stop> {
        let count = bytes.u8()?;
        if count == 0 {
            return Err(Fault::Refused(reason(bytes)?).into());
        }
        let offered = bytes.take(count.into())?;
        let has = |kind: u8| offered.contains(&kind);
        let (kind, next) = if has(VENCRYPT) {
            (VENCRYPT, Phase::Vencrypt(Vencrypt::Version))
        } else if has(CHALLENGE) && self.options.password.is_some() {
            (CHALLENGE, Phase::Challenge)
        } else if has(NONE) {
            (NONE, Phase::Result)
        } else {
            return Err(Fault::Security(format!("{offered:?}")).into());
        };
        self.output.push_back(vec![kind]);
        self.phase = next;
        Ok(())
    }

    fn vencrypt(&mut self, bytes: &mut Bytes<'_>, at: Vencrypt) -> Result<(), Stop> {
        let unreadable = || Stop::Fault(Fault::Unreadable("a way to sign in"));
        let next = match at {
            Vencrypt::Version => {
                if bytes.array::<2>()? < [0, 2] {
                    return Err(unreadable());
                }
                self.output.push_back(vec![0, 2]);
                Vencrypt::Accepted
            }
            Vencrypt::Accepted if bytes.u8()? == 0 => Vencrypt::Kinds,
            Vencrypt::Accepted => return Err(unreadable()),
            Vencrypt::Kinds => {
                let count = bytes.u8()?;
                let kinds: Vec<u32> = (0..count).map(|_| bytes.u32()).collect::<Result<_, _>>()?;
                let challenge = self.options.password.is_some() && kinds.contains(&CERTIFIED_CHALLENGE);
                let kind = if challenge { CERTIFIED_CHALLENGE } else { CERTIFIED };
                if !kinds.contains(&kind) {
                    return Err(Fault::Security(format!("VeNCrypt {kinds:?}")).into());
                }
                self.output.push_back(kind.to_be_bytes().to_vec());
                Vencrypt::Agreed { challenge }
            }
            Vencrypt::Agreed { challenge } if bytes.u8()? == 1 => {
                self.events.push_back(Event::StartTls);
                self.phase = Phase::Tls { challenge };
                return Ok(());
            }
            Vencrypt::Agreed { .. } => return Err(unreadable()),
        };
        self.phase = Phase::Vencrypt(next);
        Ok(())
    }

    /// Section 7.2.2: DES with the password's bytes, the bits of each in the opposite order.
    fn challenge(&mut self, bytes: &mut Bytes<'_>) -> Result<(), Stop> {
        let mut blocks: [[u8; 8]; 2] = [bytes.array()?, bytes.array()?];
        let mut key = Zeroizing::new([0u8; 8]);
        let password = self.options.password.as_deref().map(|p| p.as_bytes()).unwrap_or_default();
        key.iter_mut().zip(password).for_each(|(k, p)| *k = p.reverse_bits());
        let cipher = Des::new((&*key).into());
        for block in &mut blocks {
            cipher.encrypt_block(block.into());
        }
        self.output.push_back(blocks.concat());
        self.phase = Phase::Result;
        Ok(())
    }

    /// Section 7.1.3.
    fn result(&mut self, bytes: &mut Bytes<'_>) -> Result<(), Stop> {
        if bytes.u32()? != 0 {
            return Err(Fault::Refused(reason(bytes)?).into());
        }
        self.output.push_back(vec![u8::from(self.options.shared)]);
        self.phase = Phase::Screen;
        Ok(())
    }

    /// Sections 7.3.2, 7.5.1 and 7.5.2: the screen as it is, and pixels as a canvas has them.
    fn begin(&mut self, bytes: &mut Bytes<'_>) -> Result<(), Stop> {
        let (width, height) = (bytes.u16()?, bytes.u16()?);
        bytes.take(16)?;
        let length = bytes.length(LONGEST_TEXT, "a name")?;
        let name = printable(&String::from_utf8_lossy(bytes.take(length)?));
        self.screen = Some(Framebuffer::new(width, height)?);
        // 32 bits, 24 of them used, the least significant byte first, red in it.
        self.output.push_back(vec![0, 0, 0, 0, 32, 24, 0, 1, 0, 255, 0, 255, 0, 255, 0, 8, 16, 0, 0, 0]);
        let wanted = self.options.only.map_or(ENCODINGS.to_vec(), |only| vec![only.number(), POINTER, SIZE, LAST]);
        let mut encodings = vec![2, 0];
        encodings.extend((wanted.len() as u16).to_be_bytes());
        encodings.extend(wanted.iter().flat_map(|e| e.to_be_bytes()));
        self.output.push_back(encodings);
        self.events.push_back(Event::Began { name });
        self.ask(true);
        self.phase = Phase::Message;
        Ok(())
    }

    /// Section 7.6.
    fn message(&mut self, bytes: &mut Bytes<'_>) -> Result<(), Stop> {
        match bytes.u8()? {
            0 => {
                bytes.take(1)?;
                self.phase = Phase::Rectangles { left: bytes.u16()? };
            }
            1 => return Err(Fault::Unasked("a palette").into()),
            2 => self.events.push_back(Event::Bell),
            3 => {
                bytes.take(3)?;
                let length = bytes.u32()? as usize;
                if length > MOST_CLIPBOARD {
                    self.phase = Phase::Skip(length);
                    return Ok(());
                }
                let text = bytes.take(length)?.iter().map(|b| char::from(*b)).collect();
                self.events.push_back(Event::Clipboard(text));
            }
            _ => return Err(Fault::Unreadable("a message").into()),
        }
        Ok(())
    }

    fn updated(&mut self) {
        self.events.push_back(Event::Updated(std::mem::take(&mut self.damage)));
        self.phase = Phase::Message;
    }

    /// Section 7.7.
    fn rectangle(&mut self, bytes: &mut Bytes<'_>, left: u16) -> Result<(), Stop> {
        let rect = Rect { x: bytes.u16()?, y: bytes.u16()?, w: bytes.u16()?, h: bytes.u16()? };
        let encoding = i32::from_be_bytes(bytes.array()?);
        let after = if left == MOST_RECTANGLES { left } else { left - 1 };
        let Some(screen) = self.screen.as_mut() else { return Err(Fault::Unasked("an update").into()) };
        match encoding {
            LAST => {
                self.updated();
                return Ok(());
            }
            SIZE => {
                self.resized(rect.w, rect.h)?;
                self.phase = Phase::Rectangles { left: after };
                return Ok(());
            }
            SCREENS => {
                let screens = screens(bytes, rect)?;
                // Above it says what was asked for, of which Aerie asks nothing; the size is the one there is (status 0) or no news.
                if rect.y == 0 && screen.size() != (rect.w, rect.h) {
                    self.resized(rect.w, rect.h)?;
                }
                self.events.push_back(Event::Screens(screens));
                self.phase = Phase::Rectangles { left: after };
                return Ok(());
            }
            POINTER => {
                self.events.push_back(pointer(bytes, rect)?);
                self.phase = Phase::Rectangles { left: after };
                return Ok(());
            }
            _ if !screen.holds(rect) => return Err(Fault::Outside.into()),
            RAW => self.phase = Phase::Rectangle { left: after, rect, part: Part::Raw(0) },
            HEXTILE => self.phase = Phase::Rectangle { left: after, rect, part: Part::Hextile(Hextile::default()) },
            COPY => {
                let from = (bytes.u16()?, bytes.u16()?);
                if !screen.holds(Rect { x: from.0, y: from.1, ..rect }) {
                    return Err(Fault::Outside.into());
                }
                screen.copy(from, rect);
                self.note(Damage::Copied { from, to: rect });
                self.phase = Phase::Rectangles { left: after };
                return Ok(());
            }
            ZRLE => self.decoders.zrle(bytes, screen, rect)?,
            TIGHT => self.decoders.tight(bytes, screen, rect)?,
            _ => return Err(Fault::Unasked("an encoding").into()),
        }
        if matches!(encoding, ZRLE | TIGHT) {
            self.drawn(rect, after);
        }
        Ok(())
    }

    fn resized(&mut self, w: u16, h: u16) -> Result<(), Stop> {
        let Some(screen) = self.screen.as_mut() else { return Err(Fault::Unasked("an update").into()) };
        screen.resize(w, h)?;
        self.events.push_back(Event::Resized(w, h));
        // What was drawn before is on a screen of another size.
        self.damage.clear();
        self.damage.push(Damage::Pixels(Rect { x: 0, y: 0, w, h }));
        Ok(())
    }

    fn drawn(&mut self, rect: Rect, left: u16) {
        self.note(Damage::Pixels(rect));
        self.phase = Phase::Rectangles { left };
    }

    /// Notes what changed. Of an update without end the whole screen did.
    fn note(&mut self, damage: Damage) {
        if self.damage.len() >= MOST_DAMAGE {
            let (w, h) = self.screen.as_ref().map_or((0, 0), Framebuffer::size);
            self.damage.clear();
            self.damage.push(Damage::Pixels(Rect { x: 0, y: 0, w, h }));
        } else {
            self.damage.push(damage);
        }
    }

    fn part(&mut self, bytes: &mut Bytes<'_>, left: u16, rect: Rect, part: Part) -> Result<(), Stop> {
        let Some(screen) = self.screen.as_mut() else { return Err(Fault::Unasked("an update").into()) };
        let done = match part {
            Part::Raw(row) if row >= rect.h || rect.w == 0 => true,
            Part::Raw(row) => {
                raw_row(bytes, screen, rect, row)?;
                self.phase = Phase::Rectangle { left, rect, part: Part::Raw(row + 1) };
                false
            }
            Part::Hextile(mut state) => {
                let done = hextile(bytes, screen, rect, &mut state)?;
                self.phase = Phase::Rectangle { left, rect, part: Part::Hextile(state) };
                done
            }
        };
        if done {
            self.drawn(rect, left);
        }
        Ok(())
    }
}

fn reason(bytes: &mut Bytes<'_>) -> Result<String, Stop> {
    let length = bytes.length(LONGEST_TEXT, "a reason")?;
    Ok(printable(&String::from_utf8_lossy(bytes.take(length)?)))
}

/// The picture of the pointer (section 7.8.1): colours, then a bit for each pixel that is to be seen.
fn pointer(bytes: &mut Bytes<'_>, r: Rect) -> Result<Event, Stop> {
    if r.w > LARGEST_POINTER || r.h > LARGEST_POINTER {
        return Err(Fault::Long("a pointer").into());
    }
    let mut pixels = bytes.take(r.area() * PIXEL)?.to_vec();
    let across = usize::from(r.w.div_ceil(8));
    let mask = bytes.take(across * usize::from(r.h))?;
    for (n, p) in pixels.chunks_exact_mut(PIXEL).enumerate() {
        let (row, column) = (n / usize::from(r.w.max(1)), n % usize::from(r.w.max(1)));
        let seen = mask.get(row * across + column / 8).is_some_and(|b| b >> (7 - column % 8) & 1 != 0);
        if let [.., opaque] = p {
            *opaque = if seen { 255 } else { 0 };
        }
    }
    Ok(Event::Pointer { size: (r.w, r.h), hot: (r.x, r.y), pixels })
}

/// The single screens of a size that is told (ExtendedDesktopSize): a number, and of each an identifier, where it is, and flags.
fn screens(bytes: &mut Bytes<'_>, all: Rect) -> Result<Vec<Rect>, Stop> {
    let count = bytes.u8()?;
    bytes.take(3)?;
    let mut found = vec![];
    for _ in 0..count {
        bytes.take(4)?;
        found.push(Rect { x: bytes.u16()?, y: bytes.u16()?, w: bytes.u16()?, h: bytes.u16()? });
        bytes.take(4)?;
    }
    Ok(several(found, (all.w, all.h)))
}

/// The single screens of a picture of this size; none where they are no more than one, or make no sense.
pub(super) fn several(screens: Vec<Rect>, (w, h): (u16, u16)) -> Vec<Rect> {
    let within = |r: &Rect| r.area() > 0 && r.x.checked_add(r.w).is_some_and(|x| x <= w) && r.y.checked_add(r.h).is_some_and(|y| y <= h);
    if (2..=MOST_SCREENS).contains(&screens.len()) && screens.iter().all(within) { screens } else { vec![] }
}

impl Remote for RfbClient {
    fn handle_bytes(&mut self, bytes: &[u8]) -> Result<(), Fault> {
        self.handle_bytes(bytes)
    }

    fn poll_event(&mut self) -> Option<Event> {
        self.poll_event()
    }

    fn poll_transmit(&mut self) -> Option<Vec<u8>> {
        self.poll_transmit()
    }

    fn screen(&self) -> Option<&Framebuffer> {
        self.screen()
    }

    fn ask(&mut self, everything: bool) {
        self.ask(everything);
    }

    fn key(&mut self, keysym: u32, down: bool) {
        self.key(keysym, down);
    }

    fn pointer(&mut self, at: (u16, u16), buttons: u8) {
        self.pointer(at, buttons);
    }

    fn clipboard(&mut self, text: &str) {
        self.clipboard(text);
    }

    fn handle_tls(&mut self) {
        self.handle_tls();
    }
}
