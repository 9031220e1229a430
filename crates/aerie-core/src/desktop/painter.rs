//! Finds what changed on a screen, and writes it down once for everybody who looks at it and for the recording.

use super::client::Damage;
use super::framebuffer::{Framebuffer, PIXEL, Rect};
use super::message::{Message, Parts, bits_of, coding, expected};
use super::wire::Fault;

/// Side of the squares in which a screen is compared.
const TILE: u16 = 64;
/// Squares side by side that are written as one part: colours of one of them spread over all.
const TILES_OF_A_PART: usize = 4;
/// Bytes of one message: what a reader must hold at a time.
pub(super) const MOST_BYTES: usize = 256 << 10;
/// A part of many colours is written by differences where its bytes have more bits than this, and differences so many times fewer: elsewhere, what
/// is alike (letters with soft edges) is found by the compression, and differences would hide it.
const NOISY: f64 = 4.5;
const GAIN: f64 = 0.9;
/// Colours of a list.
const MOST_COLOURS: usize = 256;

/// Keeps what everybody who looks has on their screen, and says what must be sent so that they see what is on the machine's.
///
/// Call [`Painter::update`] with the picture and what the server says changed, in turn with the server's updates; [`Painter::whole`] gives the
/// picture for somebody who comes later, or for a recording to begin anew with.
#[derive(Debug)]
pub struct Painter {
    shown: Framebuffer,
    /// The picture in few colours, where that is wanted.
    rough: Option<Framebuffer>,
    /// Everything is to be compared with the next update.
    anew: bool,
}

/// How exactly colours are sent.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum Quality {
    /// As they are.
    Exact,
    /// In 16 steps of red, green and blue each: text stays as sharp as it was, photographs and gradients cost a fraction.
    Few,
}

impl Painter {
    /// Begins with a black screen, of which the message tells.
    ///
    /// # Errors
    /// As [`Framebuffer::new`].
    pub fn new(width: u16, height: u16) -> Result<(Self, Message), Fault> {
        Ok((Self { shown: Framebuffer::new(width, height)?, rough: None, anew: false }, Message::Size(width, height)))
    }

    /// What everybody sees now.
    pub fn shown(&self) -> &Framebuffer {
        &self.shown
    }

    /// From the next update on colours are sent so.
    pub fn set_quality(&mut self, quality: Quality) {
        let (few, was) = (quality == Quality::Few, self.rough.is_some());
        if few != was {
            self.rough = few.then(|| self.shown.clone());
            self.anew = true;
        }
    }

    /// What must be sent after the server changed these parts of its screen.
    pub fn update(&mut self, screen: &Framebuffer, damage: &[Damage]) -> Vec<Message> {
        let mut messages = vec![];
        let (w, h) = screen.size();
        let whole = [Damage::Pixels(Rect { x: 0, y: 0, w, h })];
        let other = screen.size() != self.shown.size();
        if other {
            // Both are of a size that was let in before.
            let Ok(black) = Framebuffer::new(w, h) else { return messages };
            self.rough = self.rough.is_some().then(|| black.clone());
            self.shown = black;
            messages.push(Message::Size(w, h));
        }
        let damage = if other || std::mem::take(&mut self.anew) { &whole } else { damage };
        match self.rough.take() {
            None => self.write(screen, damage, &mut messages),
            Some(mut rough) => {
                damage.iter().for_each(|d| roughen(&mut rough, screen, d));
                self.write(&rough, damage, &mut messages);
                self.rough = Some(rough);
            }
        }
        messages
    }

    /// The whole picture as it is seen now, with its size.
    pub fn whole(&self) -> Vec<Message> {
        let (w, h) = self.shown.size();
        let mut messages = vec![Message::Size(w, h)];
        let mut writer = Writer::new(true);
        for y in (0..h).step_by(TILE.into()) {
            for x in (0..w).step_by(usize::from(TILE) * TILES_OF_A_PART) {
                let rect = Rect { x, y, w: (TILE * TILES_OF_A_PART as u16).min(w - x), h: TILE.min(h - y) };
                writer.pixels(&self.shown, rect);
            }
        }
        writer.finish(&mut messages);
        messages
    }

    fn write(&mut self, screen: &Framebuffer, damage: &[Damage], messages: &mut Vec<Message>) {
        let (w, h) = self.shown.size();
        let across = usize::from(w.div_ceil(TILE));
        let mut dirty = vec![false; across * usize::from(h.div_ceil(TILE))];
        let mut writer = Writer::new(false);
        for d in damage {
            let to = match *d {
                Damage::Pixels(rect) => rect,
                Damage::Copied { from, to } => {
                    // What is shown there may be older than what the server copied: the difference is found below.
                    writer.copied(from, to);
                    self.shown.copy(from, to);
                    to
                }
            };
            if to.w == 0 || to.h == 0 {
                continue;
            }
            for row in to.y / TILE..=(to.y + (to.h - 1)).min(h - 1) / TILE {
                for column in to.x / TILE..=(to.x + (to.w - 1)).min(w - 1) / TILE {
                    if let Some(d) = dirty.get_mut(usize::from(row) * across + usize::from(column)) {
                        *d = true;
                    }
                }
            }
        }
        for (row, tiles) in dirty.chunks(across.max(1)).enumerate() {
            // What is written as one, of how many squares, and the last of them.
            let mut run: Option<(Rect, usize, usize)> = None;
            for column in tiles.iter().enumerate().filter(|(_, d)| **d).map(|(c, _)| c) {
                let changed = self.changed(screen, column, row);
                run = match (run, changed) {
                    (Some((a, n, last)), Some(b)) if last + 1 == column && n < TILES_OF_A_PART && fit(a, b) => {
                        Some((around(a, b), n + 1, column))
                    }
                    (before, Some(b)) => {
                        before.iter().for_each(|(a, ..)| writer.pixels(screen, *a));
                        Some((b, 1, column))
                    }
                    (before, None) => before,
                };
            }
            run.iter().for_each(|(a, ..)| writer.pixels(screen, *a));
        }
        self.take(screen, &writer.drawn);
        writer.finish(messages);
    }

    /// The part of a square in which the screen is another than what is shown.
    fn changed(&self, screen: &Framebuffer, column: usize, row: usize) -> Option<Rect> {
        let (w, h) = self.shown.size();
        let (x, y) = (column as u16 * TILE, row as u16 * TILE);
        let width = TILE.min(w.checked_sub(x)?);
        let differs = |y: &u16| self.shown.row(x, *y, width) != screen.row(x, *y, width);
        let rows = y..y.saturating_add(TILE).min(h);
        let first = rows.clone().find(differs)?;
        let last = rows.rev().find(differs)?;
        // At the edges of what was moved these are a few columns.
        let (mut left, mut right) = (width, 0);
        for y in first..=last {
            let (Some(was), Some(is)) = (self.shown.row(x, y, width), screen.row(x, y, width)) else { continue };
            let mut others =
                was.chunks_exact(PIXEL).zip(is.chunks_exact(PIXEL)).enumerate().filter(|(_, (a, b))| a != b).map(|(n, _)| n as u16);
            if let Some(n) = others.next() {
                left = left.min(n);
                right = right.max(others.next_back().unwrap_or(n));
            }
        }
        let left = left.min(right);
        Some(Rect { x: x + left, y: first, w: right - left + 1, h: last - first + 1 })
    }

    fn take(&mut self, screen: &Framebuffer, parts: &[Rect]) {
        for r in parts {
            for y in r.y..r.y + r.h {
                if let (Some(from), Some(to)) = (screen.row(r.x, y, r.w), self.shown.row_mut(r.x, y, r.w)) {
                    to.copy_from_slice(from);
                }
            }
        }
    }
}

/// Takes a part of the screen in few colours: the upper four bits of each, and the same again below, so that white stays white.
fn roughen(rough: &mut Framebuffer, screen: &Framebuffer, damage: &Damage) {
    let (Damage::Pixels(r) | Damage::Copied { to: r, .. }) = *damage;
    for y in r.y..r.y.saturating_add(r.h) {
        if let (Some(from), Some(to)) = (screen.row(r.x, y, r.w), rough.row_mut(r.x, y, r.w)) {
            to.iter_mut().zip(from).for_each(|(t, f)| *t = f & 0xf0 | f >> 4);
        }
    }
}

/// Whether two parts are written as one without much that did not change.
fn fit(a: Rect, b: Rect) -> bool {
    around(a, b).area() * 2 <= (a.area() + b.area()) * 3
}

/// The smallest part that has both in it.
fn around(a: Rect, b: Rect) -> Rect {
    let (x, y) = (a.x.min(b.x), a.y.min(b.y));
    Rect { x, y, w: (a.x + a.w).max(b.x + b.w) - x, h: (a.y + a.h).max(b.y + b.h) - y }
}

/// Writes parts, a new message whenever one is full.
struct Writer {
    whole: bool,
    full: Vec<Vec<u8>>,
    bytes: Vec<u8>,
    drawn: Vec<Rect>,
    colours: Colours,
}

impl Writer {
    fn new(whole: bool) -> Self {
        Self { whole, full: vec![], bytes: vec![], drawn: vec![], colours: Colours::default() }
    }

    fn head(&mut self, r: Rect, coding: u8) {
        if self.bytes.len() >= MOST_BYTES {
            self.full.push(std::mem::take(&mut self.bytes));
        }
        self.bytes.extend([r.x, r.y, r.w, r.h].iter().flat_map(|n| n.to_be_bytes()));
        self.bytes.push(coding);
    }

    fn copied(&mut self, from: (u16, u16), to: Rect) {
        self.head(to, coding::COPY);
        self.bytes.extend([from.0, from.1].iter().flat_map(|n| n.to_be_bytes()));
    }

    fn pixels(&mut self, screen: &Framebuffer, r: Rect) {
        self.drawn.push(r);
        let listed = self.colours.list(screen, r);
        let rows = (r.y..r.y + r.h).filter_map(|y| screen.row(r.x, y, r.w));
        if !listed {
            let plain: Vec<u8> = rows.flat_map(|row| row.chunks_exact(PIXEL)).flat_map(|p| p.iter().take(3)).copied().collect();
            let differences = differences(&plain, r.w.into());
            let bits = entropy(&plain);
            let smooth = bits > NOISY && entropy(&differences) < bits * GAIN;
            let (coding, bytes) = if smooth { (coding::DIFFERENCES, differences) } else { (coding::PLAIN, plain) };
            self.head(r, coding);
            self.bytes.extend(bytes);
            return;
        }
        self.head(r, coding::COLOURS);
        let count = self.colours.found.len().max(1);
        self.bytes.push((count - 1) as u8);
        self.bytes.extend(self.colours.found.iter().flatten());
        let bits = bits_of(count);
        if bits == 0 {
            return;
        }
        for row in rows {
            let (mut byte, mut filled) = (0u16, 0);
            for p in row.chunks_exact(PIXEL) {
                byte = byte << bits | u16::from(self.colours.index(p));
                filled += bits;
                if filled == 8 {
                    self.bytes.push(byte as u8);
                    (byte, filled) = (0, 0);
                }
            }
            if filled > 0 {
                self.bytes.push((byte << (8 - filled)) as u8);
            }
        }
    }

    fn finish(mut self, messages: &mut Vec<Message>) {
        if !self.bytes.is_empty() {
            self.full.push(self.bytes);
        }
        let count = self.full.len();
        let parts = self.full.into_iter().enumerate();
        messages.extend(parts.map(|(n, bytes)| Message::Parts(Parts { whole: self.whole && n == 0, more: n + 1 < count, bytes })));
    }
}

/// Pixels of three bytes as their differences to what is expected of each.
fn differences(plain: &[u8], width: usize) -> Vec<u8> {
    let mut out = Vec::with_capacity(plain.len());
    let mut above: Option<&[u8]> = None;
    for row in plain.chunks_exact(width * 3) {
        let mut left = None;
        for (n, p) in row.chunks_exact(3).enumerate() {
            let guess = expected(left, above.and_then(|a| a.get(n * 3..n * 3 + 3)));
            out.extend(p.iter().zip(guess).map(|(p, g)| p.wrapping_sub(g)));
            left = p.try_into().ok();
        }
        above = Some(row);
    }
    out
}

/// Bits that a byte of these costs at least where each is written for itself.
fn entropy(bytes: &[u8]) -> f64 {
    let mut counts = [0u32; 256];
    for b in bytes {
        if let Some(c) = counts.get_mut(usize::from(*b)) {
            *c += 1;
        }
    }
    let all = bytes.len().max(1) as f64;
    counts.iter().filter(|c| **c > 0).map(|c| f64::from(*c) / all).map(|p| -p * p.log2()).sum()
}

/// A list of the colours of a part, in the order in which they come.
struct Colours {
    found: Vec<[u8; 3]>,
    /// Open addressing: the colour with a mark that it is there, and its place in the list.
    slots: Vec<(u32, u8)>,
    last: (u32, u8),
}

const SLOTS: usize = 1024;
const THERE: u32 = 1 << 24;

impl Default for Colours {
    fn default() -> Self {
        Self { found: vec![], slots: vec![(0, 0); SLOTS], last: (0, 0) }
    }
}

fn key(p: &[u8]) -> u32 {
    match p {
        [r, g, b, ..] => THERE | u32::from(*r) << 16 | u32::from(*g) << 8 | u32::from(*b),
        _ => THERE,
    }
}

impl Colours {
    /// Lists the colours of a part; false where they are too many.
    fn list(&mut self, screen: &Framebuffer, r: Rect) -> bool {
        self.found.clear();
        self.slots.fill((0, 0));
        self.last = (0, 0);
        for row in (r.y..r.y + r.h).filter_map(|y| screen.row(r.x, y, r.w)) {
            for p in row.chunks_exact(PIXEL) {
                let key = key(p);
                if key == self.last.0 {
                    continue;
                }
                let at = self.slot(key);
                let Some(slot) = self.slots.get_mut(at) else { return false };
                if slot.0 == 0 {
                    if self.found.len() == MOST_COLOURS {
                        return false;
                    }
                    *slot = (key, self.found.len() as u8);
                    self.found.push([(key >> 16) as u8, (key >> 8) as u8, key as u8]);
                }
                self.last = *slot;
            }
        }
        true
    }

    /// Where a colour is, or would be put. There are always free slots: four times as many as colours.
    fn slot(&self, key: u32) -> usize {
        let mut at = (key.wrapping_mul(0x9e37_79b1) >> 22) as usize;
        while self.slots.get(at).is_some_and(|(k, _)| *k != 0 && *k != key) {
            at = (at + 1) % SLOTS;
        }
        at
    }

    fn index(&mut self, p: &[u8]) -> u8 {
        let key = key(p);
        if key != self.last.0 {
            self.last = self.slots.get(self.slot(key)).copied().unwrap_or_default();
        }
        self.last.1
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use proptest::prelude::*;

    /// What somebody sees who was sent this.
    fn seen(messages: &[Message], on: &mut Framebuffer) {
        for m in messages {
            let again = Message::decode(&m.encode()).unwrap();
            assert_eq!(&again, m);
            on.show(&again).unwrap();
        }
    }

    /// Draws something on the server's screen: a block of noise of so many colours, a flat one, a soft one as of a photograph, or a copy.
    fn draw(screen: &mut Framebuffer, what: (u8, u16, u16, u16, u16, u32)) -> Damage {
        let (kind, x, y, w, h, seed) = what;
        let (width, height) = screen.size();
        let (x, y) = (x % width, y % height);
        let rect = Rect { x, y, w: w.min(width - x), h: h.min(height - y) };
        if kind == 0 {
            let from = (seed as u16 % (width - rect.w + 1), (seed >> 16) as u16 % (height - rect.h + 1));
            screen.copy(from, rect);
            return Damage::Copied { from, to: rect };
        }
        let colours: u32 = [1, 2, 3, 5, 16, 17, 256, 257, 100_000][usize::from(kind - 1) % 9];
        let mut n = seed | 1;
        for row in 0..rect.h {
            for p in screen.row_mut(rect.x, rect.y + row, rect.w).unwrap().chunks_exact_mut(4) {
                n = n.wrapping_mul(747_796_405).wrapping_add(2_891_336_453);
                let c = (n >> 8) % colours * 40_503;
                let soft = |by: u16| (row * by + (n >> 24) as u16 % 8) as u8;
                let plain = [(c >> 16) as u8, (c >> 8) as u8, c as u8];
                p[..3].copy_from_slice(&if kind == 10 { [soft(1), soft(2), soft(3)] } else { plain });
            }
        }
        Damage::Pixels(rect)
    }

    fn drawing() -> impl Strategy<Value = (u8, u16, u16, u16, u16, u32)> {
        (0u8..11, 0u16..300, 0u16..300, 1u16..200, 1u16..200, any::<u32>())
    }

    proptest! {
        #![proptest_config(ProptestConfig::with_cases(64))]
        #[test]
        fn whoever_was_sent_everything_sees_the_very_pixels(updates in prop::collection::vec(prop::collection::vec(drawing(), 1..5), 1..6), w in 1u16..280, h in 1u16..200) {
            let mut screen = Framebuffer::new(w, h).unwrap();
            let (mut painter, first) = Painter::new(w, h).unwrap();
            let mut near = Framebuffer::new(1, 1).unwrap();
            seen(&[first], &mut near);
            for update in updates {
                let damage: Vec<_> = update.into_iter().map(|d| draw(&mut screen, d)).collect();
                seen(&painter.update(&screen, &damage), &mut near);
                prop_assert!(near == screen);
            }
            let mut late = Framebuffer::new(1, 1).unwrap();
            seen(&painter.whole(), &mut late);
            prop_assert!(late == screen);
        }

        #[test]
        fn whatever_is_read_is_a_message_or_none(bytes in prop::collection::vec(any::<u8>(), 0..300), head in 0u8..11) {
            let mut on = Framebuffer::new(20, 20).unwrap();
            let message = Message::decode(&[&[head][..], &bytes].concat()).filter(|m| !matches!(m, Message::Size(..)));
            if let Some(m) = message {
                let _ = on.show(&m);
                prop_assert_eq!(on.size(), (20, 20));
            }
        }
    }

    #[test]
    fn a_small_picture_has_the_means_of_the_large_one() {
        let mut screen = Framebuffer::new(40, 20).unwrap();
        screen.fill(Rect { x: 0, y: 0, w: 20, h: 20 }, [200, 100, 50]);
        assert_eq!(screen.small(2), (2, 1, vec![200, 100, 50, 0, 0, 0]));
        let (w, h, pixels) = screen.small(3);
        assert_eq!((w, h), (3, 1));
        assert!(pixels[3] > 90 && pixels[3] < 110, "half of the middle is black: {pixels:?}");
        assert_eq!(screen.small(u16::MAX).0, 40, "never larger");
        assert_eq!(Framebuffer::new(1, 300).unwrap().small(0).0, 1);
    }

    #[test]
    fn what_is_said_drawn_and_filmed_reads_as_it_was_written() {
        use crate::desktop::Saying;
        let all = [
            Message::Shape { size: (1, 2), hot: (0, 1), pixels: vec![1, 2, 3, 4, 5, 6, 7, 8] },
            Message::At { x: 1, y: 700, buttons: 5 },
            Message::Bell,
            Message::Said { saying: Saying::Note, who: "mira".into(), text: "ünd so".into() },
            Message::Drawn { who: "mira".into(), points: vec![(1, 2), (3, 4)] },
            Message::Film { codec: "vp8".into(), width: 1280, height: 800 },
            Message::Piece { key: true, at_us: 1 << 40, data: vec![7; 100] },
            Message::Screens(vec![Rect { x: 0, y: 0, w: 3, h: 4 }, Rect { x: 3, y: 1, w: 5, h: 3 }]),
            Message::Screens(vec![]),
        ];
        for m in all {
            assert_eq!(Message::decode(&m.encode()), Some(m));
        }
        for codec in ["", "a b", "vp8\n", &"x".repeat(41)] {
            assert_eq!(Message::decode(&Message::Film { codec: codec.into(), width: 1, height: 1 }.encode()), None, "{codec:?}");
        }
        let most = Message::Piece { key: false, at_us: 0, data: vec![0; crate::desktop::MOST_PIECE] }.encode();
        assert!(Message::decode(&most).is_some() && Message::decode(&[&most[..], &[0]].concat()).is_none());
    }

    #[test]
    fn what_did_not_change_is_not_sent() {
        let screen = Framebuffer::new(200, 100).unwrap();
        let (mut painter, _) = Painter::new(200, 100).unwrap();
        assert!(painter.update(&screen, &[Damage::Pixels(Rect { x: 0, y: 0, w: 200, h: 100 })]).is_empty());
    }

    #[test]
    fn photographs_are_written_by_differences_and_letters_are_not() {
        let mut screen = Framebuffer::new(256, 64).unwrap();
        let coding_of = |screen: &Framebuffer| {
            let mut writer = Writer::new(true);
            writer.pixels(screen, Rect { x: 0, y: 0, w: 256, h: 64 });
            (writer.bytes[8], super::super::pack::pack_encoded(0, &writer.bytes).len())
        };
        draw(&mut screen, (10, 0, 0, 256, 64, 5));
        let (coding, bytes) = coding_of(&screen);
        assert!(coding == coding::DIFFERENCES && bytes < 256 * 64 * 3 * 6 / 10, "{coding} {bytes}");
        // Pure noise gains nothing by it, and neither do soft letters, which come again and again.
        draw(&mut screen, (9, 0, 0, 256, 64, 5));
        assert_eq!(coding_of(&screen).0, coding::PLAIN);
        for y in 0..64 {
            for (x, p) in screen.row_mut(0, y, 256).unwrap().chunks_exact_mut(4).enumerate() {
                let ink = (x % 8 + usize::from(y) % 12) as u8;
                p[..3].copy_from_slice(&if ink < 6 { [255 - ink * 40, 250 - ink * 38, 240 - ink * (x as u8 % 7)] } else { [255; 3] });
            }
        }
        assert_ne!(coding_of(&screen).0, coding::DIFFERENCES);
    }

    #[test]
    fn few_colours_cost_a_fraction_and_exact_ones_come_back() {
        let mut screen = Framebuffer::new(320, 200).unwrap();
        // A gradient, as a photograph has them.
        for y in 0..200u16 {
            for (x, p) in screen.row_mut(0, y, 320).unwrap().chunks_exact_mut(4).enumerate() {
                p[..3].copy_from_slice(&[(x / 2) as u8, y as u8, (x as u16 ^ y) as u8]);
            }
        }
        let (mut painter, first) = Painter::new(320, 200).unwrap();
        let mut near = Framebuffer::new(1, 1).unwrap();
        seen(&[first], &mut near);
        painter.set_quality(Quality::Few);
        let few = painter.update(&screen, &[]);
        seen(&few, &mut near);
        let off = |a: &Framebuffer, b: &Framebuffer| a.pixels().iter().zip(b.pixels()).map(|(a, b)| a.abs_diff(*b)).max().unwrap();
        assert!((1..16).contains(&off(&near, &screen)), "{}", off(&near, &screen));
        let copied = Damage::Copied { from: (0, 0), to: Rect { x: 100, y: 50, w: 60, h: 60 } };
        screen.copy((0, 0), Rect { x: 100, y: 50, w: 60, h: 60 });
        seen(&painter.update(&screen, &[copied]), &mut near);
        assert!(off(&near, &screen) < 16);
        painter.set_quality(Quality::Exact);
        let exact = painter.update(&screen, &[]);
        seen(&exact, &mut near);
        assert!(near == screen);
        let bytes = |all: &[Message]| all.iter().map(|m| crate::desktop::pack(1, m).len()).sum::<usize>();
        assert!(bytes(&few) * 2 < bytes(&exact), "{} {}", bytes(&few), bytes(&exact));
        painter.set_quality(Quality::Exact);
        assert!(painter.update(&screen, &[]).is_empty(), "nothing was changed");
    }

    #[test]
    fn a_screen_of_another_size_is_told_of_and_drawn_anew() {
        let (mut painter, _) = Painter::new(10, 10).unwrap();
        let mut screen = Framebuffer::new(30, 20).unwrap();
        screen.fill(Rect { x: 5, y: 5, w: 20, h: 10 }, [9, 8, 7]);
        let messages = painter.update(&screen, &[]);
        assert!(matches!(messages[..], [Message::Size(30, 20), Message::Parts(_)]), "{messages:?}");
        let mut near = Framebuffer::new(10, 10).unwrap();
        seen(&messages, &mut near);
        assert!(near == screen);
    }

    #[test]
    fn a_large_picture_comes_in_pieces_of_a_bounded_size() {
        let mut screen = Framebuffer::new(1280, 800).unwrap();
        let damage = draw(&mut screen, (9, 0, 0, 1280, 800, 7));
        let (mut painter, _) = Painter::new(1280, 800).unwrap();
        let messages = painter.update(&screen, &[damage]);
        assert!(messages.len() > 5);
        let most = messages.iter().map(|m| m.encode().len()).max().unwrap();
        assert!(most <= MOST_BYTES + usize::from(TILE) * usize::from(TILE) * TILES_OF_A_PART * 3 + 100, "{most}");
        let more: Vec<bool> = messages.iter().filter_map(|m| if let Message::Parts(p) = m { Some(p.more) } else { None }).collect();
        assert_eq!(more.iter().filter(|m| !**m).count(), 1, "only the last says that nothing follows");
    }
}
