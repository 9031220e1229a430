//! What goes to the shell of a visit over its stream (docs/formats/agent.md): what is typed, and how large the terminal is. What it shows comes
//! back as it is.

/// Bytes typed in one piece at most.
pub const LONGEST_TYPED: usize = 4096;
/// Columns and rows of a terminal: at least, and at most.
const CELLS: (u16, u16) = (2, 500);
/// A tag, and a length of two bytes.
const HEAD: usize = 3;

/// One piece of it.
#[derive(Debug, Clone, PartialEq, Eq)]
pub enum ToShell {
    /// What somebody typed.
    Typed(Vec<u8>),
    /// Columns and rows.
    Size(u16, u16),
}

impl ToShell {
    /// A size within what a terminal can have.
    pub fn size(columns: u16, rows: u16) -> Self {
        Self::Size(columns.clamp(CELLS.0, CELLS.1), rows.clamp(CELLS.0, CELLS.1))
    }

    /// As it goes over the stream: tag 0 or 1, length, content. What is longer than [`LONGEST_TYPED`] goes in several pieces.
    pub fn encode(&self) -> Vec<u8> {
        let piece = |tag: u8, content: &[u8]| {
            let length = u16::try_from(content.len()).unwrap_or(0);
            [&[tag], &length.to_be_bytes()[..], content].concat()
        };
        match self {
            Self::Typed(bytes) => bytes.chunks(LONGEST_TYPED).flat_map(|c| piece(0, c)).collect(),
            Self::Size(columns, rows) => piece(1, &[columns.to_be_bytes(), rows.to_be_bytes()].concat()),
        }
    }
}

/// What came is no piece: nothing after it can be read.
#[derive(Debug, Clone, Copy, PartialEq, Eq, thiserror::Error)]
#[error("what came to the shell cannot be read")]
pub struct Unreadable;

/// Reads pieces: [`ShellReader::handle`] what comes, then [`ShellReader::poll`] until it gives none. It holds one piece that is not whole at most,
/// and what was handed to it last.
#[derive(Debug, Default)]
pub struct ShellReader(Vec<u8>);

impl ShellReader {
    /// Takes bytes of the stream.
    pub fn handle(&mut self, bytes: &[u8]) {
        self.0.extend_from_slice(bytes);
    }

    /// The next piece; none while it is not whole.
    ///
    /// # Errors
    /// When it is none: of another kind, too long, or a size of another length.
    pub fn poll(&mut self) -> Result<Option<ToShell>, Unreadable> {
        let [tag, high, low, rest @ ..] = self.0.as_slice() else { return Ok(None) };
        let length = usize::from(u16::from_be_bytes([*high, *low]));
        let good = match tag {
            0 => (1..=LONGEST_TYPED).contains(&length),
            1 => length == 4,
            _ => false,
        };
        if !good {
            return Err(Unreadable);
        }
        let Some(content) = rest.get(..length) else { return Ok(None) };
        let piece = match (tag, content) {
            (1, [a, b, c, d]) => ToShell::size(u16::from_be_bytes([*a, *b]), u16::from_be_bytes([*c, *d])),
            _ => ToShell::Typed(content.to_vec()),
        };
        self.0.drain(..HEAD + length);
        Ok(Some(piece))
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use proptest::prelude::*;

    fn all(reader: &mut ShellReader) -> Result<Vec<ToShell>, Unreadable> {
        std::iter::from_fn(|| reader.poll().transpose()).collect()
    }

    proptest! {
        #[test]
        fn it_is_read_as_it_was_written_however_it_is_cut(
            pieces in prop::collection::vec(prop_oneof![
                prop::collection::vec(any::<u8>(), 1..50).prop_map(ToShell::Typed),
                (2u16..=500, 2u16..=500).prop_map(|(c, r)| ToShell::Size(c, r)),
            ], 0..20),
            cut in 1usize..40,
        ) {
            let bytes: Vec<u8> = pieces.iter().flat_map(ToShell::encode).collect();
            let (mut reader, mut read) = (ShellReader::default(), vec![]);
            for piece in bytes.chunks(cut) {
                reader.handle(piece);
                read.extend(all(&mut reader).unwrap());
            }
            prop_assert_eq!(read, pieces);
            prop_assert!(reader.0.is_empty());
        }

        #[test]
        fn nothing_that_comes_leads_it_astray(bytes in prop::collection::vec(any::<u8>(), 0..200)) {
            let mut reader = ShellReader::default();
            reader.handle(&bytes);
            let _ = all(&mut reader);
        }
    }

    #[test]
    fn what_is_typed_has_a_bound_and_sizes_are_those_of_terminals() {
        let (at, over) = (vec![b'x'; LONGEST_TYPED], vec![b'x'; LONGEST_TYPED + 1]);
        let mut reader = ShellReader::default();
        reader.handle(&ToShell::Typed(at.clone()).encode());
        assert_eq!(all(&mut reader), Ok(vec![ToShell::Typed(at.clone())]));
        reader.handle(&ToShell::Typed(over).encode());
        assert_eq!(all(&mut reader), Ok(vec![ToShell::Typed(at), ToShell::Typed(b"x".to_vec())]));
        assert_eq!(ToShell::size(0, u16::MAX), ToShell::Size(2, 500));
        for bad in [&[0, 0x10, 1, 0][..], &[0, 0, 0], &[1, 0, 3, 0], &[2, 0, 1, 0]] {
            let mut reader = ShellReader::default();
            reader.handle(bad);
            assert_eq!(reader.poll(), Err(Unreadable), "{bad:?}");
        }
    }
}
