//! Pictures of a recorded terminal, for its film.

use ab_glyph::{Font as _, FontVec, PxScale, ScaleFont as _};
use aerie_core::desktop::{Framebuffer, Rect};
use aerie_core::recording::Frame;
use std::collections::{BTreeMap, HashMap};
use std::num::NonZeroU16;

/// A font that tells 0 and O, 1 and l apart, and has the boxes that programs draw; of Debian's package `fonts-dejavu-core`.
const FONT: &str = "/usr/share/fonts/truetype/dejavu/DejaVuSansMono.ttf";
const PACKAGE: &str = "fonts-dejavu-core";
/// Width and height of a character, and how high its letters reach from the lowest to the highest.
const CELL: (u16, u16) = (10, 20);
const SIZE: f32 = 19.2;
/// Columns and rows at most: a film of 2,000 × 2,000 points.
const MOST: (u16, u16) = (200, 100);
/// Size before the first is told.
const USUAL: (u16, u16) = (80, 24);
/// Different characters that are kept as they are drawn.
const MOST_GLYPHS: usize = 4096;
/// Paper and ink of a terminal, as the console shows it.
const PAPER: [u8; 3] = [0x10, 0x14, 0x18];
const INK: [u8; 3] = [0xd8, 0xe2, 0xdc];
/// The sixteen colours that programs name by number.
const NAMED: [[u8; 3]; 16] = [
    [0x1d, 0x21, 0x26],
    [0xd9, 0x5f, 0x57],
    [0x6f, 0xb3, 0x72],
    [0xd0, 0xa8, 0x4a],
    [0x6a, 0x9f, 0xd8],
    [0xb4, 0x86, 0xc9],
    [0x5f, 0xb8, 0xb3],
    [0xd8, 0xe2, 0xdc],
    [0x6a, 0x73, 0x7b],
    [0xf0, 0x84, 0x7c],
    [0x93, 0xd1, 0x96],
    [0xec, 0xc8, 0x72],
    [0x92, 0xbf, 0xee],
    [0xd0, 0xa8, 0xe2],
    [0x86, 0xd6, 0xd1],
    [0xff, 0xff, 0xff],
];

/// The terminals of a session, of which the one is seen that wrote last.
pub(super) struct Terminals {
    font: FontVec,
    glyphs: HashMap<char, Vec<u8>>,
    all: BTreeMap<u32, vt100::Parser>,
    shown: u32,
    changed: bool,
}

fn cells(n: u16, most: u16) -> NonZeroU16 {
    // The parser's lines hold two columns at least: a wide character.
    NonZeroU16::new(n.clamp(2, most)).unwrap_or(NonZeroU16::MIN)
}

impl Terminals {
    pub(super) fn new() -> Result<Self, String> {
        let bytes =
            std::fs::read(FONT).map_err(|e| format!("the font {FONT} cannot be read ({e}): it comes with Debian's package {PACKAGE}"))?;
        let font = FontVec::try_from_vec(bytes).map_err(|_| format!("{FONT} is no font"))?;
        Ok(Self { font, glyphs: HashMap::new(), all: BTreeMap::new(), shown: 0, changed: false })
    }

    /// Takes what was recorded; whether it is of a terminal.
    pub(super) fn handle(&mut self, channel: u32, frame: &Frame) -> bool {
        match frame {
            Frame::Opened(o) if o.terminal => {
                self.all.insert(channel, vt100::Parser::new(cells(USUAL.1, MOST.1), cells(USUAL.0, MOST.0), 0));
                (self.shown, self.changed) = (channel, true);
                true
            }
            // A client without a window of its own says nothing by that.
            Frame::Size(0, _) | Frame::Size(_, 0) => false,
            Frame::Size(columns, rows) => {
                let Some(parser) = self.all.get_mut(&channel) else { return false };
                parser.screen_mut().set_size(cells(*rows, MOST.1), cells(*columns, MOST.0));
                self.changed = true;
                true
            }
            Frame::Output(bytes) => {
                let Some(parser) = self.all.get_mut(&channel) else { return false };
                parser.process(bytes);
                (self.shown, self.changed) = (channel, true);
                true
            }
            _ => false,
        }
    }

    /// The picture as it is now, where it changed since the last.
    pub(super) fn draw(&mut self) -> Option<Framebuffer> {
        if !std::mem::take(&mut self.changed) {
            return None;
        }
        let screen = self.all.get(&self.shown)?.screen();
        let (rows, columns) = screen.size();
        let mut picture = Framebuffer::new(columns.get() * CELL.0, rows.get() * CELL.1).ok()?;
        for row in 0..rows.get() {
            for column in 0..columns.get() {
                let Some(cell) = screen.cell(row, column) else { continue };
                if cell.is_wide_continuation() {
                    continue;
                }
                let here = !screen.hide_cursor() && screen.cursor_position() == (row, column);
                let (mut ink, mut paper) = (colour(cell.fgcolor(), INK, cell.bold()), colour(cell.bgcolor(), PAPER, false));
                if cell.inverse() != here {
                    std::mem::swap(&mut ink, &mut paper);
                }
                let letter = cell.contents().chars().next().unwrap_or(' ');
                if self.glyphs.len() >= MOST_GLYPHS {
                    self.glyphs.clear();
                }
                let glyph = self.glyphs.entry(letter).or_insert_with(|| glyph(&self.font, letter));
                let pixels = painted(glyph, ink, paper, cell.underline());
                picture.put_bgrx(Rect { x: column * CELL.0, y: row * CELL.1, w: CELL.0, h: CELL.1 }, &pixels);
            }
        }
        Some(picture)
    }
}

/// How much of each point of its cell a character covers, 0 to 255.
fn glyph(font: &FontVec, letter: char) -> Vec<u8> {
    let (width, height) = (usize::from(CELL.0), usize::from(CELL.1));
    let mut out = vec![0; width * height];
    let scaled = font.as_scaled(PxScale::from(SIZE));
    let base = (f32::from(CELL.1) + scaled.ascent() + scaled.descent()) / 2.0;
    let placed = font.glyph_id(letter).with_scale_and_position(PxScale::from(SIZE), ab_glyph::point(0.0, base));
    if let Some(outline) = font.outline_glyph(placed) {
        let bounds = outline.px_bounds();
        outline.draw(|x, y, covered| {
            let (x, y) = (bounds.min.x as i32 + x as i32, bounds.min.y as i32 + y as i32);
            if let (Ok(x), Ok(y)) = (usize::try_from(x), usize::try_from(y))
                && x < width
                && let Some(point) = out.get_mut(y * width + x)
            {
                *point = (covered.clamp(0.0, 1.0) * 255.0) as u8;
            }
        });
    }
    out
}

/// A cell: blue, green, red and nothing of each point.
fn painted(glyph: &[u8], ink: [u8; 3], paper: [u8; 3], underlined: bool) -> Vec<u8> {
    let width = usize::from(CELL.0);
    let line = width * usize::from(CELL.1 - 2);
    let mut out = Vec::with_capacity(glyph.len() * 4);
    for (n, covered) in glyph.iter().enumerate() {
        let covered = if underlined && (line..line + width).contains(&n) { 255 } else { u32::from(*covered) };
        let mixed = |i: u8, p: u8| ((u32::from(i) * covered + u32::from(p) * (255 - covered)) / 255) as u8;
        let ([r, g, b], [pr, pg, pb]) = (ink, paper);
        out.extend([mixed(b, pb), mixed(g, pg), mixed(r, pr), 0]);
    }
    out
}

/// Red, green and blue of a colour of a terminal (256 colours: the named, a cube of six steps, 24 greys).
fn colour(of: vt100::Color, usual: [u8; 3], bright: bool) -> [u8; 3] {
    match of {
        vt100::Color::Default => usual,
        vt100::Color::Rgb(r, g, b) => [r, g, b],
        vt100::Color::Idx(n @ 0..16) => {
            let n = if bright && n < 8 { n + 8 } else { n };
            NAMED.get(usize::from(n)).copied().unwrap_or(usual)
        }
        vt100::Color::Idx(n @ 16..232) => {
            let step = |s: u8| if s == 0 { 0 } else { 55 + 40 * s };
            let n = n - 16;
            [step(n / 36), step(n / 6 % 6), step(n % 6)]
        }
        vt100::Color::Idx(n) => [8 + 10 * (n - 232); 3],
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use aerie_core::recording::Opened;

    #[test]
    fn colours_are_those_of_their_numbers() {
        let of = |n| colour(vt100::Color::Idx(n), INK, false);
        assert_eq!((of(1), of(16), of(231), of(196)), (NAMED[1], [0; 3], [255; 3], [255, 0, 0]));
        assert_eq!((of(232), of(255)), ([8; 3], [238; 3]));
        assert_eq!(colour(vt100::Color::Idx(1), INK, true), NAMED[9]);
    }

    #[test]
    fn what_was_written_last_is_seen() {
        let mut t = Terminals::new().unwrap();
        let opened = |terminal| Frame::Opened(Opened { kind: "shell".into(), command: None, terminal });
        assert!(!t.handle(1, &Frame::Output(b"x".to_vec())), "a channel without a terminal");
        assert!(!t.handle(1, &opened(false)) && t.handle(2, &opened(true)));
        t.handle(2, &Frame::Size(10, 3));
        assert!(!t.handle(2, &Frame::Size(0, 0)));
        t.handle(2, &Frame::Output(b"\x1b[?25l\x1b[41m \x1b[0m\x1b[31mM".to_vec()));
        let picture = t.draw().unwrap();
        assert_eq!(picture.size(), (100, 60));
        let at = |p: &Framebuffer, x: u16, y: u16| p.row(x, y, 1).unwrap()[..3].to_vec();
        assert_eq!((at(&picture, 5, 10), at(&picture, 95, 55)), (NAMED[1].to_vec(), PAPER.to_vec()));
        let inked = |p: &Framebuffer| {
            (0..20).flat_map(|y| p.row(10, y, 10).unwrap().chunks(4).map(|p| p[0]).collect::<Vec<_>>()).filter(|r| *r > 100).count()
        };
        assert!(inked(&picture) > 10, "the M is there, in its colour");
        assert!(t.draw().is_none(), "nothing changed since");
        // A second terminal, of the largest size and one over.
        t.handle(3, &opened(true));
        t.handle(3, &Frame::Size(MOST.0 + 1, u16::MAX));
        assert_eq!(t.draw().unwrap().size(), (MOST.0 * CELL.0, MOST.1 * CELL.1));
    }
}
