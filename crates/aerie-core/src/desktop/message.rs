//! What goes from a desktop to those who look at it, and into its recording: Aerie's own messages, see docs/formats/desktop.md.

use super::client::MOST_SCREENS;
use super::framebuffer::{Framebuffer, PIXEL, Rect};
use super::wire::Fault;

/// Pixels of a pointer's picture at most.
const MOST_POINTER: usize = 256 * 256;
/// Bytes of something that was said.
const LONGEST_SAID: usize = 4000;
/// Points of a line that was drawn.
pub const MOST_POINTS: usize = 2000;

/// Bytes of one piece of film.
pub const MOST_PIECE: usize = 1 << 20;
/// Characters of the name of a way to code film.
const LONGEST_CODEC: usize = 40;

/// Numbers of the messages.
mod tag {
    pub(super) const SIZE: u8 = 1;
    pub(super) const PARTS: u8 = 2;
    pub(super) const SHAPE: u8 = 3;
    pub(super) const AT: u8 = 4;
    pub(super) const BELL: u8 = 5;
    pub(super) const SAID: u8 = 6;
    pub(super) const DRAWN: u8 = 7;
    pub(super) const FILM: u8 = 8;
    pub(super) const PIECE: u8 = 9;
    pub(super) const SCREENS: u8 = 10;
}

/// How a part of the picture is written.
pub(super) mod coding {
    /// From elsewhere on the screen.
    pub(crate) const COPY: u8 = 0;
    /// By a list of at most 256 colours.
    pub(crate) const COLOURS: u8 = 1;
    /// Three bytes a pixel.
    pub(crate) const PLAIN: u8 = 2;
    /// Three bytes a pixel, each as its difference to what is expected of it ([`super::expected`]): photographs and gradients.
    pub(crate) const DIFFERENCES: u8 = 3;
}

/// What is said beside the picture.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum Saying {
    /// To the others who take part.
    Chat,
    /// For whoever reads it later.
    Note,
}

/// One message.
#[derive(Debug, Clone, PartialEq, Eq)]
pub enum Message {
    /// The screen has this width and height, and is black.
    Size(u16, u16),
    /// Parts of the picture.
    Parts(Parts),
    /// The pointer looks so: width and height, the point that points, and red, green, blue, and how opaque, of each pixel.
    Shape {
        /// Width and height.
        size: (u16, u16),
        /// The point of it that points.
        hot: (u16, u16),
        /// Its pixels.
        pixels: Vec<u8>,
    },
    /// Whoever controls it has the pointer here, with these buttons pressed (bits, RFC 6143 section 7.5.5).
    At {
        /// From the left.
        x: u16,
        /// From the top.
        y: u16,
        /// Buttons.
        buttons: u8,
    },
    /// A sound.
    Bell,
    /// Somebody said something.
    Said {
        /// To whom.
        saying: Saying,
        /// Name of the person.
        who: String,
        /// What.
        text: String,
    },
    /// Somebody drew a line over the screen; without points, what they drew is wiped.
    Drawn {
        /// Name of the person.
        who: String,
        /// Its points.
        points: Vec<(u16, u16)>,
    },
    /// From here on the screen comes as film, as a browser coded it that shares its screen.
    Film {
        /// How it is coded, in the words of the WebCodecs codec registry: `vp8`, `vp09.00.10.08`.
        codec: String,
        /// Width.
        width: u16,
        /// Height.
        height: u16,
    },
    /// A piece of the film.
    Piece {
        /// Whether a whole picture begins here.
        key: bool,
        /// Its time, in microseconds since the film began.
        at_us: u64,
        /// What the encoder made.
        data: Vec<u8>,
    },
    /// Where on the picture the single screens are, from the left; none where there is one. Another size forgets them.
    Screens(Vec<Rect>),
}

/// Parts of the picture, as they are written.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Parts {
    /// Whether a whole picture begins here: nothing before it is needed.
    pub whole: bool,
    /// Whether more of the same moment follows.
    pub more: bool,
    pub(super) bytes: Vec<u8>,
}

fn put(out: &mut Vec<u8>, numbers: &[u16]) {
    out.extend(numbers.iter().flat_map(|n| n.to_be_bytes()));
}

/// Takes what stands at the beginning.
struct Reader<'a>(&'a [u8]);

impl<'a> Reader<'a> {
    fn take(&mut self, n: usize) -> Option<&'a [u8]> {
        let (taken, rest) = self.0.split_at_checked(n)?;
        self.0 = rest;
        Some(taken)
    }

    fn u8(&mut self) -> Option<u8> {
        self.take(1)?.first().copied()
    }

    fn u16(&mut self) -> Option<u16> {
        self.take(2)?.try_into().ok().map(u16::from_be_bytes)
    }

    fn pair(&mut self) -> Option<(u16, u16)> {
        Some((self.u16()?, self.u16()?))
    }

    /// A name that ends with a zero byte.
    fn name(&mut self) -> Option<String> {
        let end = self.0.iter().position(|b| *b == 0)?;
        let name = self.take(end)?;
        self.u8()?;
        String::from_utf8(name.to_vec()).ok()
    }
}

impl Message {
    /// The message as bytes.
    pub fn encode(&self) -> Vec<u8> {
        let mut out = vec![];
        match self {
            Self::Size(w, h) => {
                out.push(tag::SIZE);
                put(&mut out, &[*w, *h]);
            }
            Self::Parts(parts) => {
                out.reserve(parts.bytes.len() + 2);
                out.extend([tag::PARTS, u8::from(parts.whole) | u8::from(parts.more) << 1]);
                out.extend_from_slice(&parts.bytes);
            }
            Self::Shape { size, hot, pixels } => {
                out.push(tag::SHAPE);
                put(&mut out, &[size.0, size.1, hot.0, hot.1]);
                out.extend_from_slice(pixels);
            }
            Self::At { x, y, buttons } => {
                out.push(tag::AT);
                put(&mut out, &[*x, *y]);
                out.push(*buttons);
            }
            Self::Bell => out.push(tag::BELL),
            Self::Said { saying, who, text } => {
                out.extend([tag::SAID, u8::from(*saying == Saying::Note)]);
                out.extend_from_slice(who.as_bytes());
                out.push(0);
                out.extend(text.chars().take(LONGEST_SAID / 4).collect::<String>().as_bytes());
            }
            Self::Drawn { who, points } => {
                out.push(tag::DRAWN);
                out.extend_from_slice(who.as_bytes());
                out.push(0);
                points.iter().take(MOST_POINTS).for_each(|(x, y)| put(&mut out, &[*x, *y]));
            }
            Self::Film { codec, width, height } => {
                out.push(tag::FILM);
                put(&mut out, &[*width, *height]);
                out.extend_from_slice(codec.as_bytes());
                out.push(0);
            }
            Self::Piece { key, at_us, data } => {
                out.extend([tag::PIECE, u8::from(*key)]);
                out.extend(at_us.to_be_bytes());
                out.extend_from_slice(data);
            }
            Self::Screens(screens) => {
                out.push(tag::SCREENS);
                screens.iter().take(MOST_SCREENS).for_each(|s| put(&mut out, &[s.x, s.y, s.w, s.h]));
            }
        }
        out
    }

    /// Reads a message. None where the bytes are no message, or one of a later version.
    pub fn decode(bytes: &[u8]) -> Option<Self> {
        let mut r = Reader(bytes);
        Some(match r.u8()? {
            tag::SIZE => Self::Size(r.u16()?, r.u16()?),
            tag::PARTS => {
                let flags = r.u8()?;
                Self::Parts(Parts { whole: flags & 1 != 0, more: flags & 2 != 0, bytes: r.0.to_vec() })
            }
            tag::SHAPE => {
                let (size, hot) = (r.pair()?, r.pair()?);
                let area = usize::from(size.0) * usize::from(size.1);
                if area > MOST_POINTER {
                    return None;
                }
                Self::Shape { size, hot, pixels: r.take(area * PIXEL)?.to_vec() }
            }
            tag::AT => Self::At { x: r.u16()?, y: r.u16()?, buttons: r.u8()? },
            tag::BELL => Self::Bell,
            tag::SAID => {
                let saying = if r.u8()? == 1 { Saying::Note } else { Saying::Chat };
                let who = r.name()?;
                let text = r.0.get(..r.0.len().min(LONGEST_SAID))?;
                Self::Said { saying, who, text: String::from_utf8(text.to_vec()).ok()? }
            }
            tag::DRAWN => {
                let who = r.name()?;
                let mut points = vec![];
                while let Some(p) = r.pair() {
                    if points.len() == MOST_POINTS {
                        return None;
                    }
                    points.push(p);
                }
                Self::Drawn { who, points }
            }
            tag::FILM => {
                let (width, height) = r.pair()?;
                let codec = r.name()?;
                let plain = codec.chars().all(|c| c.is_ascii_alphanumeric() || ".-".contains(c));
                if codec.is_empty() || codec.len() > LONGEST_CODEC || !plain || width == 0 || height == 0 {
                    return None;
                }
                Self::Film { codec, width, height }
            }
            tag::PIECE => {
                let key = r.u8()? & 1 != 0;
                let at_us = u64::from_be_bytes(r.take(8)?.try_into().ok()?);
                if r.0.len() > MOST_PIECE {
                    return None;
                }
                Self::Piece { key, at_us, data: r.0.to_vec() }
            }
            tag::SCREENS => {
                let mut screens = vec![];
                while let Some((x, y)) = r.pair() {
                    let (w, h) = r.pair()?;
                    if screens.len() == MOST_SCREENS {
                        return None;
                    }
                    screens.push(Rect { x, y, w, h });
                }
                Self::Screens(screens)
            }
            _ => return None,
        })
    }
}

impl Framebuffer {
    /// Draws what a message shows of the picture; other messages change nothing.
    ///
    /// # Errors
    /// When it does not fit on the screen, or cannot be read.
    pub fn show(&mut self, message: &Message) -> Result<(), Fault> {
        match message {
            Message::Size(w, h) => *self = Self::new(*w, *h)?,
            Message::Parts(parts) => {
                let mut r = Reader(&parts.bytes);
                while !r.0.is_empty() {
                    self.part(&mut r).ok_or(Fault::Unreadable("a part of the picture"))??;
                }
            }
            Message::Shape { .. } | Message::At { .. } | Message::Bell | Message::Said { .. } | Message::Drawn { .. } => {}
            // Film is drawn by a browser alone.
            Message::Film { .. } | Message::Piece { .. } => {}
            Message::Screens(_) => {}
        }
        Ok(())
    }

    fn part(&mut self, r: &mut Reader<'_>) -> Option<Result<(), Fault>> {
        let rect = Rect { x: r.u16()?, y: r.u16()?, w: r.u16()?, h: r.u16()? };
        let kind = r.u8()?;
        if !self.holds(rect) {
            return Some(Err(Fault::Outside));
        }
        match kind {
            coding::COPY => {
                let from = r.pair()?;
                if !self.holds(Rect { x: from.0, y: from.1, ..rect }) {
                    return Some(Err(Fault::Outside));
                }
                self.copy(from, rect);
            }
            coding::COLOURS => {
                let count = usize::from(r.u8()?) + 1;
                let colours = r.take(count * 3)?;
                let bits = bits_of(count);
                for row in 0..rect.h {
                    let indices = r.take((usize::from(rect.w) * bits).div_ceil(8))?;
                    let pixels = self.row_mut(rect.x, rect.y + row, rect.w)?;
                    for (n, pixel) in pixels.chunks_exact_mut(PIXEL).enumerate() {
                        let index = match bits {
                            0 => 0,
                            _ => usize::from(*indices.get(n * bits / 8)?) >> (8 - bits - n * bits % 8) & ((1 << bits) - 1),
                        };
                        pixel.get_mut(..3)?.copy_from_slice(colours.get(index * 3..index * 3 + 3)?);
                    }
                }
            }
            coding::PLAIN => {
                for row in 0..rect.h {
                    let from = r.take(usize::from(rect.w) * 3)?;
                    let pixels = self.row_mut(rect.x, rect.y + row, rect.w)?;
                    for (pixel, p) in pixels.chunks_exact_mut(PIXEL).zip(from.chunks_exact(3)) {
                        pixel.get_mut(..3)?.copy_from_slice(p);
                    }
                }
            }
            coding::DIFFERENCES => {
                for row in 0..rect.h {
                    let from = r.take(usize::from(rect.w) * 3)?;
                    let above = match row {
                        0 => None,
                        _ => Some(self.row(rect.x, rect.y + row - 1, rect.w)?.to_vec()),
                    };
                    let pixels = self.row_mut(rect.x, rect.y + row, rect.w)?;
                    let mut left: Option<[u8; 3]> = None;
                    for (n, (pixel, p)) in pixels.chunks_exact_mut(PIXEL).zip(from.chunks_exact(3)).enumerate() {
                        let above = above.as_ref().and_then(|a| a.get(n * PIXEL..n * PIXEL + 3));
                        let guess = expected(left, above);
                        let mut is = [0; 3];
                        is.iter_mut().zip(p).zip(guess).for_each(|((i, p), g)| *i = p.wrapping_add(g));
                        pixel.get_mut(..3)?.copy_from_slice(&is);
                        left = Some(is);
                    }
                }
            }
            _ => return None,
        }
        Some(Ok(()))
    }
}

/// What is expected of a pixel: the mean of the one to its left and the one above it within the part, rounded down; of one alone, that; black at
/// the upper left corner.
pub(super) fn expected(left: Option<[u8; 3]>, above: Option<&[u8]>) -> [u8; 3] {
    match (left, above) {
        (Some(l), Some(&[r, g, b, ..])) => [l[0].midpoint(r), l[1].midpoint(g), l[2].midpoint(b)],
        (Some(l), _) => l,
        (None, Some(&[r, g, b, ..])) => [r, g, b],
        (None, _) => [0; 3],
    }
}

/// Bits that tell so many colours apart, as they are packed: 0, 1, 2, 4 or 8.
pub(super) fn bits_of(colours: usize) -> usize {
    match colours {
        0..=1 => 0,
        2 => 1,
        3..=4 => 2,
        5..=16 => 4,
        _ => 8,
    }
}
