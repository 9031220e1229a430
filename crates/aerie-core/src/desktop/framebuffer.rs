use super::wire::Fault;

/// Pixels of a screen at most: 64 MiB of memory.
pub const MOST_PIXELS: usize = 16 << 20;
/// Bytes of a pixel: red, green, blue, and 255, as a canvas has them.
pub(super) const PIXEL: usize = 4;

/// A part of the screen.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Hash)]
pub struct Rect {
    /// From the left.
    pub x: u16,
    /// From the top.
    pub y: u16,
    /// Width.
    pub w: u16,
    /// Height.
    pub h: u16,
}

impl Rect {
    /// How many pixels it has.
    pub fn area(self) -> usize {
        usize::from(self.w) * usize::from(self.h)
    }
}

/// The picture of a screen.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Framebuffer {
    width: u16,
    height: u16,
    pixels: Vec<u8>,
}

impl Framebuffer {
    /// A black screen.
    ///
    /// # Errors
    /// When it is larger than [`MOST_PIXELS`], or has no pixel.
    pub fn new(width: u16, height: u16) -> Result<Self, Fault> {
        let area = usize::from(width) * usize::from(height);
        if area == 0 || area > MOST_PIXELS {
            return Err(Fault::TooLarge(width, height));
        }
        let mut pixels = vec![0; area * PIXEL];
        pixels.chunks_exact_mut(PIXEL).for_each(|p| p.copy_from_slice(&[0, 0, 0, 255]));
        Ok(Self { width, height, pixels })
    }

    /// Width and height.
    pub fn size(&self) -> (u16, u16) {
        (self.width, self.height)
    }

    /// All pixels, row after row, four bytes each: red, green, blue, 255.
    pub fn pixels(&self) -> &[u8] {
        &self.pixels
    }

    /// Takes another size; what lies in both stays.
    ///
    /// # Errors
    /// As [`Framebuffer::new`].
    pub fn resize(&mut self, width: u16, height: u16) -> Result<(), Fault> {
        let mut other = Self::new(width, height)?;
        let common = Rect { x: 0, y: 0, w: width.min(self.width), h: height.min(self.height) };
        for row in 0..common.h {
            if let (Some(from), Some(to)) = (self.row(common.x, row, common.w), other.row_mut(common.x, row, common.w)) {
                to.copy_from_slice(from);
            }
        }
        *self = other;
        Ok(())
    }

    /// Whether a part lies within.
    pub(super) fn holds(&self, r: Rect) -> bool {
        u32::from(r.x) + u32::from(r.w) <= u32::from(self.width) && u32::from(r.y) + u32::from(r.h) <= u32::from(self.height)
    }

    fn span(&self, x: u16, y: u16, w: u16) -> std::ops::Range<usize> {
        let begin = (usize::from(y) * usize::from(self.width) + usize::from(x)) * PIXEL;
        begin..begin + usize::from(w) * PIXEL
    }

    /// A part of a row.
    pub fn row(&self, x: u16, y: u16, w: u16) -> Option<&[u8]> {
        self.pixels.get(self.span(x, y, w))
    }

    pub(super) fn row_mut(&mut self, x: u16, y: u16, w: u16) -> Option<&mut [u8]> {
        let span = self.span(x, y, w);
        self.pixels.get_mut(span)
    }

    /// Takes a part as X servers give it: row after row, blue, green, red and a byte that says nothing of each pixel. False where it does not
    /// fit, and then nothing is taken.
    pub fn put_bgrx(&mut self, r: Rect, pixels: &[u8]) -> bool {
        if !self.holds(r) || r.w == 0 || pixels.len() < r.area() * PIXEL {
            return false;
        }
        for (row, from) in pixels.chunks_exact(usize::from(r.w) * PIXEL).take(r.h.into()).enumerate() {
            if let Some(to) = self.row_mut(r.x, r.y + row as u16, r.w) {
                for (t, f) in to.chunks_exact_mut(PIXEL).zip(from.chunks_exact(PIXEL)) {
                    if let (&mut [ref mut red, ref mut green, ref mut blue, _], &[b, g, r, _]) = (t, f) {
                        (*red, *green, *blue) = (r, g, b);
                    }
                }
            }
        }
        true
    }

    /// Fills a part with one colour.
    pub(super) fn fill(&mut self, r: Rect, [red, green, blue]: [u8; 3]) {
        for row in 0..r.h {
            if let Some(pixels) = self.row_mut(r.x, r.y + row, r.w) {
                pixels.chunks_exact_mut(PIXEL).for_each(|p| p.copy_from_slice(&[red, green, blue, 255]));
            }
        }
    }

    /// Copies a part of the screen to another; they may overlap.
    pub(super) fn copy(&mut self, from: (u16, u16), to: Rect) {
        let rows: Box<dyn Iterator<Item = u16>> = if from.1 < to.y { Box::new((0..to.h).rev()) } else { Box::new(0..to.h) };
        for row in rows {
            let (source, target) = (self.span(from.0, from.1 + row, to.w), self.span(to.x, to.y + row, to.w).start);
            if source.end <= self.pixels.len() && target + source.len() <= self.pixels.len() {
                self.pixels.copy_within(source, target);
            }
        }
    }
}

impl Framebuffer {
    /// The picture made smaller, to so many pixels of width at most, each the mean of those that it stands for: width, height, and red, green
    /// and blue of each.
    pub fn small(&self, most: u16) -> (u16, u16, Vec<u8>) {
        let width = self.width.min(most.max(1));
        let height = (u32::from(self.height) * u32::from(width) / u32::from(self.width)).clamp(1, u32::from(u16::MAX)) as u16;
        let span = |n: u16, of: u16, all: u16| {
            let at = |n: u32| (n * u32::from(all) / u32::from(of)) as u16;
            let begin = at(u32::from(n));
            begin..at(u32::from(n) + 1).max(begin + 1).min(all)
        };
        let mut out = Vec::with_capacity(usize::from(width) * usize::from(height) * 3);
        for y in 0..height {
            for x in 0..width {
                let (mut sum, mut count) = ([0u32; 3], 0);
                let columns = span(x, width, self.width);
                for row in span(y, height, self.height) {
                    for p in self.row(columns.start, row, columns.len() as u16).unwrap_or_default().chunks_exact(PIXEL) {
                        sum.iter_mut().zip(p).for_each(|(s, c)| *s += u32::from(*c));
                        count += 1;
                    }
                }
                out.extend(sum.map(|s| (s / count.max(1)) as u8));
            }
        }
        (width, height, out)
    }
}
