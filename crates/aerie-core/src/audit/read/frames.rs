//! Cuts a stream of syslog over TCP or TLS into lines: each with its length before it (RFC 6587 section 3.4.1, RFC 5425 section 4.3), or
//! each ended by a line feed (RFC 6587 section 3.4.2), as the stream begins.

/// Longest message that is kept; the rest of a longer one is passed over.
const LONGEST: usize = 64 << 10;
/// A length has at most so many digits: beyond, it is no length.
const MOST_DIGITS: usize = 9;

/// What is wrong with a stream: it cannot be cut any further.
#[derive(Debug, Clone, Copy, PartialEq, Eq, thiserror::Error)]
#[error("a message has no length, or one that is no number")]
pub struct Unframed;

/// Cuts a stream into messages, in pieces of any size.
#[derive(Debug, Default)]
pub struct SyslogFrames {
    kept: Vec<u8>,
    /// Bytes of the message that are still to come; none between messages.
    left: Option<usize>,
    digits: Vec<u8>,
    /// Whether messages come with their lengths; not known before the first byte.
    counted: Option<bool>,
}

impl SyslogFrames {
    /// Takes a piece, and calls back for each message that it completes, without a line feed at its end.
    ///
    /// # Errors
    /// Where lengths were expected and there is none. Nothing can be cut from then on.
    pub fn handle_bytes(&mut self, mut piece: &[u8], each: &mut impl FnMut(&[u8])) -> Result<(), Unframed> {
        while let Some(first) = piece.first() {
            // A message begins with `<`, its length with a digit other than zero.
            let counted = *self.counted.get_or_insert(first.is_ascii_digit());
            piece = if counted { self.counted(piece, each)? } else { self.lined(piece, each) };
        }
        Ok(())
    }

    fn counted<'a>(&mut self, piece: &'a [u8], each: &mut impl FnMut(&[u8])) -> Result<&'a [u8], Unframed> {
        let Some(left) = self.left else {
            let (first, rest) = piece.split_first().ok_or(Unframed)?;
            match first {
                b'0'..=b'9' if self.digits.len() < MOST_DIGITS => self.digits.push(*first),
                b' ' => {
                    let length = std::str::from_utf8(&self.digits).ok().and_then(|d| d.parse().ok()).ok_or(Unframed)?;
                    self.digits.clear();
                    self.left = (length > 0).then_some(length);
                }
                // Some senders end a counted message with a line feed all the same.
                b'\n' if self.digits.is_empty() => {}
                _ => return Err(Unframed),
            }
            return Ok(rest);
        };
        let (part, rest) = piece.split_at(left.min(piece.len()));
        self.keep(part);
        self.left = Some(left - part.len()).filter(|l| *l > 0);
        if self.left.is_none() {
            self.tell(each);
        }
        Ok(rest)
    }

    fn lined<'a>(&mut self, piece: &'a [u8], each: &mut impl FnMut(&[u8])) -> &'a [u8] {
        let Some(end) = memchr::memchr(b'\n', piece) else {
            self.keep(piece);
            return &[];
        };
        let (part, rest) = piece.split_at(end);
        self.keep(part);
        self.tell(each);
        rest.get(1..).unwrap_or(&[])
    }

    fn keep(&mut self, part: &[u8]) {
        let room = LONGEST.saturating_sub(self.kept.len()).min(part.len());
        self.kept.extend_from_slice(part.get(..room).unwrap_or(&[]));
    }

    fn tell(&mut self, each: &mut impl FnMut(&[u8])) {
        let message = self.kept.trim_ascii_end();
        if !message.is_empty() {
            each(message);
        }
        self.kept.clear();
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use proptest::prelude::*;

    fn cut(bytes: &[u8], size: usize) -> (Vec<String>, Result<(), Unframed>) {
        let (mut frames, mut told) = (SyslogFrames::default(), vec![]);
        let mut each = |m: &[u8]| told.push(String::from_utf8_lossy(m).into_owned());
        for piece in bytes.chunks(size) {
            if let Err(e) = frames.handle_bytes(piece, &mut each) {
                return (told, Err(e));
            }
        }
        (told, Ok(()))
    }

    #[test]
    fn messages_come_with_lengths_or_with_line_feeds() {
        let table: [(&[u8], &[&str], bool); 6] = [
            (b"5 <1>ab3 <2>", &["<1>ab", "<2>"], true),
            (b"6 <1>ab\n\n3 <2>", &["<1>ab", "<2>"], true),
            (b"<1>ab\n<2>c\r\n\n", &["<1>ab", "<2>c"], true),
            (b"5 <1>abxx", &["<1>ab"], false),
            (b"9999999999 x", &[], false),
            (b"5 <1", &[], true),
        ];
        for (bytes, expected, good) in table {
            for size in [1, 3, 100] {
                let (told, result) = cut(bytes, size);
                assert_eq!(
                    (told.as_slice(), result.is_ok()),
                    (&*expected.iter().map(|t| t.to_string()).collect::<Vec<_>>(), good),
                    "{bytes:?}"
                );
            }
        }
    }

    #[test]
    fn a_message_without_end_costs_bounded_memory() {
        let mut frames = SyslogFrames::default();
        let mut longest = 0;
        frames.handle_bytes(b"900000000 ", &mut |_| ()).unwrap();
        for _ in 0..100 {
            frames.handle_bytes(&[b'x'; 10_000], &mut |m| longest = longest.max(m.len())).unwrap();
        }
        assert_eq!((frames.kept.len(), longest), (LONGEST, 0));
    }

    proptest! {
        #[test]
        fn pieces_of_any_size_give_the_same(messages in prop::collection::vec("<[a-z0-9 ]{1,20}x", 1..8), size in 1usize..12, counted: bool) {
            let bytes: String = messages.iter().map(|m| if counted { format!("{} {m}", m.len()) } else { format!("{m}\n") }).collect();
            let (told, result) = cut(bytes.as_bytes(), size);
            prop_assert!(result.is_ok());
            prop_assert_eq!(told, messages);
        }
    }
}
