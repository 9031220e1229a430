//! Cuts a stream of bytes into lines.

/// A line longer than this is cut short, so that a file without line feeds costs no memory; the reader counts it as overlong.
const LONGEST: usize = 64 << 10;

/// Cuts a stream of bytes into lines, in pieces of any size.
#[derive(Debug, Default)]
pub struct LineSplitter {
    rest: Vec<u8>,
    /// Where the line that is not complete begins.
    offset: u64,
    /// Its length so far, kept or not.
    length: u64,
}

impl LineSplitter {
    /// For a stream that goes on where another ended: at this offset, which is the beginning of a line.
    pub fn at(offset: u64) -> Self {
        Self { offset, ..Self::default() }
    }

    /// Takes a piece and calls back for each line that it completes, with the line's offset in the stream.
    pub fn handle_bytes(&mut self, mut piece: &[u8], each: &mut impl FnMut(&[u8], u64)) {
        while let Some(end) = memchr::memchr(b'\n', piece) {
            let (line, after) = (piece.get(..end).unwrap_or(&[]), piece.get(end + 1..).unwrap_or(&[]));
            if self.rest.is_empty() {
                each(line, self.offset);
            } else {
                self.keep(line);
                each(&self.rest, self.offset);
                self.rest.clear();
            }
            self.offset += self.length + end as u64 + 1;
            self.length = 0;
            piece = after;
        }
        self.keep(piece);
        self.length += piece.len() as u64;
    }

    /// Calls back for the last line, where it has no line feed.
    pub fn finish(self, each: &mut impl FnMut(&[u8], u64)) {
        if !self.rest.is_empty() {
            each(&self.rest, self.offset);
        }
    }

    fn keep(&mut self, part: &[u8]) {
        let room = LONGEST.saturating_sub(self.rest.len()).min(part.len());
        self.rest.extend_from_slice(part.get(..room).unwrap_or(&[]));
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use proptest::prelude::*;

    proptest! {
        #[test]
        fn pieces_of_any_size_give_the_same_lines(text in "[ab\\n]{0,60}", cut in 1usize..9) {
            let mut expected = vec![];
            let mut offset = 0u64;
            for line in text.split_inclusive('\n') {
                expected.push((line.trim_end_matches('\n').to_string(), offset));
                offset += line.len() as u64;
            }
            let mut found = vec![];
            let mut each = |l: &[u8], o: u64| found.push((String::from_utf8_lossy(l).into_owned(), o));
            let mut splitter = LineSplitter::default();
            for piece in text.as_bytes().chunks(cut) {
                splitter.handle_bytes(piece, &mut each);
            }
            splitter.finish(&mut each);
            prop_assert_eq!(found, expected);
        }
    }

    #[test]
    fn a_line_without_end_costs_bounded_memory() {
        let mut splitter = LineSplitter::default();
        let mut longest = 0;
        let mut each = |l: &[u8], _: u64| longest = longest.max(l.len());
        for _ in 0..100 {
            splitter.handle_bytes(&[b'x'; 10_000], &mut each);
        }
        assert!(splitter.rest.len() <= LONGEST);
        splitter.handle_bytes(b"\nshort\n", &mut each);
        assert_eq!((longest, splitter.offset), (LONGEST, 1_000_007));
    }
}
