//! What rectangles are made of: Raw, CopyRect, Hextile and ZRLE (RFC 6143 section 7.7), and Tight as its servers send it without losses
//! (the registry of RFB gives it number 7).

use super::framebuffer::{Framebuffer, PIXEL, Rect};
use super::wire::{Bytes, Fault, Stop};
use flate2::{Decompress, FlushDecompress, Status};

/// Side of a tile of ZRLE.
const ZRLE_TILE: u16 = 64;
/// Bytes that a tile of ZRLE can have at most: a palette, and a colour with a length for each pixel.
const ZRLE_TILE_BYTES: usize = 1 + 127 * 3 + 64 * 64 * 4;
/// Side of a tile of Hextile.
const HEXTILE: u16 = 16;
/// Data of Tight shorter than this is not compressed.
const TIGHT_PLAIN: usize = 12;
/// Bytes of a compact length of Tight: three at most.
const TIGHT_LONGEST: usize = 1 << 22;

/// A colour.
type Colour = [u8; 3];

/// What is remembered between rectangles.
pub(super) struct Decoders {
    zrle: Decompress,
    tight: [Decompress; 4],
    plain: Vec<u8>,
}

/// Colours of a tile of Hextile that the next one may use again.
#[derive(Debug, Clone, Copy, Default, PartialEq, Eq)]
pub(super) struct Hextile {
    /// Tiles that are done.
    tile: u32,
    background: Colour,
    foreground: Colour,
}

impl Default for Decoders {
    fn default() -> Self {
        let stream = || Decompress::new(true);
        Self { zrle: stream(), tight: [stream(), stream(), stream(), stream()], plain: vec![] }
    }
}

fn colour(bytes: &mut Bytes<'_>) -> Result<Colour, Stop> {
    bytes.array()
}

/// A colour with the byte behind it that says nothing.
fn pixel(bytes: &mut Bytes<'_>) -> Result<Colour, Stop> {
    let [r, g, b, _] = bytes.array()?;
    Ok([r, g, b])
}

/// One row of pixels as they are.
pub(super) fn raw_row(bytes: &mut Bytes<'_>, to: &mut Framebuffer, r: Rect, row: u16) -> Result<(), Stop> {
    let from = bytes.take(usize::from(r.w) * PIXEL)?;
    if let Some(pixels) = to.row_mut(r.x, r.y + row, r.w) {
        pixels.copy_from_slice(from);
        pixels.chunks_exact_mut(PIXEL).for_each(|p| {
            if let [.., last] = p {
                *last = 255;
            }
        });
    }
    Ok(())
}

/// The tile of that number, counted in rows; none beyond the last.
fn tile(r: Rect, side: u16, number: u32) -> Option<Rect> {
    let across = u32::from(r.w.div_ceil(side));
    let (column, row) = (u16::try_from(number % across.max(1)).ok()?, u16::try_from(number / across.max(1)).ok()?);
    let (x, y) = (column.checked_mul(side)?, row.checked_mul(side)?);
    (x < r.w && y < r.h).then(|| Rect { x: r.x + x, y: r.y + y, w: side.min(r.w - x), h: side.min(r.h - y) })
}

/// The next tile of Hextile; true once all are done.
pub(super) fn hextile(bytes: &mut Bytes<'_>, to: &mut Framebuffer, r: Rect, state: &mut Hextile) -> Result<bool, Stop> {
    let Some(tile) = tile(r, HEXTILE, state.tile) else { return Ok(true) };
    // Only once all of the tile is there it is drawn, and remembered.
    let mut next = *state;
    next.tile += 1;
    let mask = bytes.u8()?;
    if mask & 1 != 0 {
        let mut area = Bytes::new(bytes.take(tile.area() * PIXEL)?);
        for row in 0..tile.h {
            raw_row(&mut area, to, tile, row)?;
        }
        *state = next;
        return Ok(false);
    }
    if mask & 2 != 0 {
        next.background = pixel(bytes)?;
    }
    if mask & 4 != 0 {
        next.foreground = pixel(bytes)?;
    }
    let coloured = mask & 16 != 0;
    let count = if mask & 8 != 0 { bytes.u8()? } else { 0 };
    let mut parts = Bytes::new(bytes.take(usize::from(count) * if coloured { PIXEL + 2 } else { 2 })?);
    to.fill(tile, next.background);
    for _ in 0..count {
        let fill = if coloured { pixel(&mut parts)? } else { next.foreground };
        let ([place, size], nibble) = (parts.array()?, |b: u8| (u16::from(b >> 4), u16::from(b & 15)));
        let ((x, y), (w, h)) = (nibble(place), nibble(size));
        if x + w + 1 > tile.w || y + h + 1 > tile.h {
            return Err(Fault::Outside.into());
        }
        to.fill(Rect { x: tile.x + x, y: tile.y + y, w: w + 1, h: h + 1 }, fill);
    }
    *state = next;
    Ok(false)
}

/// Inflates a piece of a stream; more than `most` bytes are no picture.
fn inflate(stream: &mut Decompress, mut piece: &[u8], plain: &mut Vec<u8>, most: usize) -> Result<(), Fault> {
    plain.clear();
    loop {
        if plain.capacity() - plain.len() < 4096 {
            plain.reserve((most + 1 - plain.len().min(most)).clamp(1, 64 << 10));
        }
        let before = stream.total_in();
        let length = plain.len();
        let status = stream.decompress_vec(piece, plain, FlushDecompress::Sync).map_err(|_| Fault::Unreadable("a compressed piece"))?;
        piece = piece.get(usize::try_from(stream.total_in() - before).unwrap_or(usize::MAX)..).unwrap_or_default();
        if plain.len() > most {
            return Err(Fault::Long("a compressed piece"));
        }
        let stuck = stream.total_in() == before && plain.len() == length;
        // All was taken in, and there is room that was not needed.
        if status == Status::StreamEnd || stuck || (piece.is_empty() && plain.len() < plain.capacity()) {
            return if piece.is_empty() { Ok(()) } else { Err(Fault::Unreadable("a compressed piece")) };
        }
    }
}

impl Decoders {
    /// A rectangle of ZRLE (section 7.7.6).
    pub(super) fn zrle(&mut self, bytes: &mut Bytes<'_>, to: &mut Framebuffer, r: Rect) -> Result<(), Stop> {
        let tiles = usize::from(r.w.div_ceil(ZRLE_TILE)) * usize::from(r.h.div_ceil(ZRLE_TILE));
        let most = tiles.saturating_mul(ZRLE_TILE_BYTES);
        // What does not get smaller grows by a little.
        let length = bytes.length(most + most / 100 + 1024, "a rectangle")?;
        let piece = bytes.take(length)?;
        inflate(&mut self.zrle, piece, &mut self.plain, most)?;
        let mut plain = Bytes::new(&self.plain);
        let read = (0..).map_while(|n| tile(r, ZRLE_TILE, n)).try_for_each(|t| zrle_tile(&mut plain, to, t));
        whole(read, &plain)
    }

    /// A rectangle of Tight.
    pub(super) fn tight(&mut self, bytes: &mut Bytes<'_>, to: &mut Framebuffer, r: Rect) -> Result<(), Stop> {
        let control = bytes.u8()?;
        match control >> 4 {
            8 => {
                let fill = colour(bytes)?;
                self.reset(control);
                to.fill(r, fill);
                return Ok(());
            }
            0..=7 => {}
            9 => return Err(Fault::Unasked("a picture with losses").into()),
            _ => return Err(Fault::Unreadable("a rectangle").into()),
        }
        let filter = if control & 0x40 != 0 { bytes.u8()? } else { 0 };
        let mut palette: Vec<Colour> = vec![];
        let size = match filter {
            0 | 2 => r.area() * 3,
            1 => {
                let colours = usize::from(bytes.u8()?) + 1;
                palette = (0..colours).map(|_| colour(bytes)).collect::<Result<_, _>>()?;
                if colours <= 2 { usize::from(r.w.div_ceil(8)) * usize::from(r.h) } else { r.area() }
            }
            _ => return Err(Fault::Unreadable("a rectangle").into()),
        };
        let read = if size < TIGHT_PLAIN {
            let plain = bytes.take(size)?;
            self.reset(control);
            tight_pixels(plain, filter, &palette, to, r)
        } else {
            let piece = compact(bytes)?;
            self.reset(control);
            let stream = self.tight.get_mut(usize::from(control >> 4 & 3)).ok_or(Fault::Unreadable("a rectangle"))?;
            inflate(stream, piece, &mut self.plain, size)?;
            if self.plain.len() != size {
                return Err(Fault::Unreadable("a compressed piece").into());
            }
            tight_pixels(&self.plain, filter, &palette, to, r)
        };
        // All that it can need is there.
        read.map_err(|_| Fault::Unreadable("a rectangle").into())
    }

    /// Begins those streams anew that the lower bits of a control byte name. Called once all of the rectangle is there.
    fn reset(&mut self, control: u8) {
        for (n, stream) in self.tight.iter_mut().enumerate() {
            if control >> n & 1 != 0 {
                stream.reset(true);
            }
        }
    }
}

/// What was read from a piece that is whole: that more is needed means that it is none.
fn whole(read: Result<(), Stop>, plain: &Bytes<'_>) -> Result<(), Stop> {
    match read {
        Ok(()) if plain.is_empty() => Ok(()),
        Ok(()) | Err(Stop::More) => Err(Fault::Unreadable("a compressed piece").into()),
        Err(fault) => Err(fault),
    }
}

/// A length of Tight: seven bits a byte, the least first, and eight in the third.
fn compact<'a>(bytes: &mut Bytes<'a>) -> Result<&'a [u8], Stop> {
    let mut length = 0usize;
    for n in 0..3 {
        let byte = bytes.u8()?;
        length |= usize::from(if n < 2 { byte & 0x7f } else { byte }) << (7 * n);
        if n == 2 || byte & 0x80 == 0 {
            break;
        }
    }
    if length > TIGHT_LONGEST {
        return Err(Fault::Long("a rectangle").into());
    }
    bytes.take(length)
}

fn zrle_tile(plain: &mut Bytes<'_>, to: &mut Framebuffer, t: Rect) -> Result<(), Stop> {
    let kind = plain.u8()?;
    match kind {
        0 => each(to, t, |_| colour(plain)),
        1 => {
            let fill = colour(plain)?;
            to.fill(t, fill);
            Ok(())
        }
        2..=16 => {
            let palette: Vec<Colour> = (0..kind).map(|_| colour(plain)).collect::<Result<_, _>>()?;
            let bits = if kind == 2 {
                1
            } else if kind <= 4 {
                2
            } else {
                4
            };
            let mut packed = Packed { bits, byte: 0, left: 0 };
            each(to, t, |begins| {
                if begins {
                    packed.left = 0;
                }
                let index = packed.next(plain)?;
                palette.get(index).copied().ok_or(Fault::Unreadable("a compressed piece").into())
            })
        }
        128 | 130..=255 => {
            let palette: Vec<Colour> = (0..kind - 128).map(|_| colour(plain)).collect::<Result<_, _>>()?;
            let (mut run, mut fill) = (0usize, [0; 3]);
            each(to, t, |_| {
                if run == 0 {
                    (fill, run) = if palette.is_empty() { (colour(plain)?, length_of_run(plain)?) } else { indexed(plain, &palette)? };
                }
                run -= 1;
                Ok(fill)
            })?;
            if run == 0 { Ok(()) } else { Err(Fault::Unreadable("a compressed piece").into()) }
        }
        _ => Err(Fault::Unreadable("a compressed piece").into()),
    }
}

/// A colour of a palette, alone or with how often it comes.
fn indexed(plain: &mut Bytes<'_>, palette: &[Colour]) -> Result<(Colour, usize), Stop> {
    let index = plain.u8()?;
    let fill = palette.get(usize::from(index & 127)).copied().ok_or(Fault::Unreadable("a compressed piece"))?;
    Ok((fill, if index & 128 != 0 { length_of_run(plain)? } else { 1 }))
}

fn length_of_run(plain: &mut Bytes<'_>) -> Result<usize, Stop> {
    let mut length = 1;
    loop {
        let byte = plain.u8()?;
        length += usize::from(byte);
        if byte < 255 {
            return Ok(length);
        }
    }
}

/// Numbers of a few bits, the highest first; each row begins with a byte of its own.
struct Packed {
    bits: u8,
    byte: u8,
    left: u8,
}

impl Packed {
    fn next(&mut self, plain: &mut Bytes<'_>) -> Result<usize, Stop> {
        if self.left == 0 {
            (self.byte, self.left) = (plain.u8()?, 8);
        }
        self.left -= self.bits;
        Ok(usize::from(self.byte >> self.left & ((1 << self.bits) - 1)))
    }
}

/// Draws a part pixel by pixel, row after row; told whether a row begins.
fn each(to: &mut Framebuffer, r: Rect, mut next: impl FnMut(bool) -> Result<Colour, Stop>) -> Result<(), Stop> {
    for row in 0..r.h {
        let Some(pixels) = to.row_mut(r.x, r.y + row, r.w) else { return Err(Fault::Outside.into()) };
        for (column, p) in pixels.chunks_exact_mut(PIXEL).enumerate() {
            let [red, green, blue] = next(column == 0)?;
            p.copy_from_slice(&[red, green, blue, 255]);
        }
    }
    Ok(())
}

fn tight_pixels(plain: &[u8], filter: u8, palette: &[Colour], to: &mut Framebuffer, r: Rect) -> Result<(), Stop> {
    let mut bytes = Bytes::new(plain);
    let of = |index: usize| palette.get(index).copied().ok_or(Stop::Fault(Fault::Unreadable("a rectangle")));
    match (filter, palette.len()) {
        (1, 0..=2) => {
            let mut packed = Packed { bits: 1, byte: 0, left: 0 };
            each(to, r, |begins| {
                if begins {
                    packed.left = 0;
                }
                of(packed.next(&mut bytes)?)
            })
        }
        (1, _) => each(to, r, |_| of(usize::from(bytes.u8()?))),
        (2, _) => gradient(&mut bytes, to, r),
        _ => each(to, r, |_| colour(&mut bytes)),
    }
}

/// Each colour as the difference from what its neighbours to the left and above suggest.
fn gradient(bytes: &mut Bytes<'_>, to: &mut Framebuffer, r: Rect) -> Result<(), Stop> {
    let mut above: Vec<Colour> = vec![[0; 3]; usize::from(r.w) + 1];
    let (mut left, mut corner, mut column) = ([0u8; 3], [0u8; 3], 0usize);
    each(to, r, |begins| {
        if begins {
            (left, corner, column) = ([0; 3], [0; 3], 0);
        }
        let up = above.get(column).copied().unwrap_or_default();
        let differences = colour(bytes)?;
        let mut here = [0; 3];
        for (((out, d), l), (u, c)) in here.iter_mut().zip(differences).zip(left).zip(up.into_iter().zip(corner)) {
            let guess = (i16::from(l) + i16::from(u) - i16::from(c)).clamp(0, 255);
            *out = d.wrapping_add(u8::try_from(guess).unwrap_or(0));
        }
        if let Some(kept) = above.get_mut(column) {
            *kept = here;
        }
        (left, corner, column) = (here, up, column + 1);
        Ok(here)
    })
}
