//! Keeps what is typed only if the far end echoed it, so that secrets typed at a prompt without echo are never written.

/// Characters that wait for their echo at most; beyond, the oldest are given up. A line has a few hundred.
const MOST_WAITING: usize = 4096;
/// How long a character waits for its echo. Round trips are shorter; a prompt without echo never answers.
const PATIENCE_MS: u64 = 3000;

/// What became of typed input.
#[derive(Debug, Clone, PartialEq, Eq)]
pub enum Kept {
    /// It was echoed (or is a control character, which carries no secret): keep it.
    Text(Vec<u8>),
    /// So many characters were not echoed.
    Hidden(u64),
}

/// Matches typed bytes with their echo.
///
/// A printable byte is kept once the output shows it as the next printable byte after it was typed; escape sequences and
/// control characters in between are passed over. What no output confirms within some seconds, or before the line ends,
/// counts as hidden. Docs/recording.md says where this errs: towards hiding while other output mixes with the typing,
/// towards keeping where a prompt shows each character (or the same one as was typed) by other means.
#[derive(Debug, Default)]
pub struct TypedInput {
    waiting: std::collections::VecDeque<(u8, u64)>,
    /// Escape sequence of the output that is being passed over.
    escape: Escape,
    done: Vec<Kept>,
}

#[derive(Debug, Default, Clone, Copy, PartialEq)]
enum Escape {
    #[default]
    No,
    Begun,
    /// CSI, until a final byte.
    Control,
    /// OSC and the like, until BEL or ST.
    Text,
}

impl TypedInput {
    /// Takes what was typed.
    pub fn handle_typed(&mut self, bytes: &[u8], now_ms: u64) {
        for &b in bytes {
            if is_text(b) {
                self.waiting.push_back((b, now_ms));
                if self.waiting.len() > MOST_WAITING {
                    self.waiting.pop_front();
                    self.hide(1);
                }
            } else {
                // A control character ends the wait of a line only when it ends the line: the echo of the characters before
                // may still be on its way, so they stay in front of it.
                self.waiting.push_back((b, now_ms));
            }
        }
        self.settle();
    }

    /// Takes what the far end wrote.
    pub fn handle_output(&mut self, bytes: &[u8], now_ms: u64) {
        self.handle_timeout(now_ms);
        let mut in_step = true;
        for &b in bytes {
            if !self.visible(b) || self.waiting.is_empty() {
                continue;
            }
            match self.waiting.front() {
                Some((typed, _)) if in_step && *typed == b => {
                    self.waiting.pop_front();
                    self.keep(b);
                    self.settle();
                }
                // Other output: it says nothing of what was typed.
                _ => in_step = false,
            }
        }
    }

    /// Gives up what has waited too long.
    pub fn handle_timeout(&mut self, now_ms: u64) {
        while self.waiting.front().is_some_and(|(_, at)| now_ms >= at + PATIENCE_MS) {
            self.waiting.pop_front();
            self.hide(1);
            self.settle();
        }
    }

    /// When something will have waited too long.
    pub fn poll_timeout(&self) -> Option<u64> {
        self.waiting.front().map(|(_, at)| at + PATIENCE_MS)
    }

    /// What was decided so far.
    pub fn poll_kept(&mut self) -> Vec<Kept> {
        std::mem::take(&mut self.done)
    }

    /// Ends: what still waits was not echoed.
    pub fn finish(mut self) -> Vec<Kept> {
        while let Some((b, _)) = self.waiting.pop_front() {
            if is_text(b) { self.hide(1) } else { self.keep(b) }
        }
        self.done
    }

    /// A control character at the front needs no echo. One that ends a line also ends the wait of everything before it, by
    /// being reached only when that is settled; so when text still stands before an ended line and the next line has begun
    /// to echo, the time-out hides it.
    fn settle(&mut self) {
        while let Some((b, _)) = self.waiting.front().copied().filter(|(b, _)| !is_text(*b)) {
            self.waiting.pop_front();
            self.keep(b);
        }
    }

    fn keep(&mut self, b: u8) {
        match self.done.last_mut() {
            Some(Kept::Text(text)) => text.push(b),
            Some(Kept::Hidden(_)) | None => self.done.push(Kept::Text(vec![b])),
        }
    }

    fn hide(&mut self, n: u64) {
        match self.done.last_mut() {
            Some(Kept::Hidden(count)) => *count += n,
            Some(Kept::Text(_)) | None => self.done.push(Kept::Hidden(n)),
        }
    }

    /// Whether an output byte is a visible character, outside any escape sequence.
    fn visible(&mut self, b: u8) -> bool {
        let (next, visible) = match (self.escape, b) {
            (_, 0x1b) => (Escape::Begun, false),
            (Escape::No, b) => (Escape::No, is_text(b)),
            (Escape::Begun, b'[') => (Escape::Control, false),
            (Escape::Begun, b']' | b'P' | b'_' | b'^') => (Escape::Text, false),
            (Escape::Begun, 0x20..0x30) => (Escape::Begun, false),
            (Escape::Begun, _) => (Escape::No, false),
            (Escape::Control, 0x40..0x7f) => (Escape::No, false),
            (Escape::Control, _) => (Escape::Control, false),
            (Escape::Text, 7) => (Escape::No, false),
            (Escape::Text, _) => (Escape::Text, false),
        };
        self.escape = next;
        visible
    }
}

/// Printable ASCII and every byte of a longer UTF-8 character.
fn is_text(b: u8) -> bool {
    b >= 0x20 && b != 0x7f
}

#[cfg(test)]
mod tests {
    use super::*;
    use proptest::prelude::*;

    fn text(kept: &[Kept]) -> String {
        kept.iter()
            .map(|k| match k {
                Kept::Text(t) => String::from_utf8_lossy(t).into_owned(),
                Kept::Hidden(n) => format!("<{n}>"),
            })
            .collect()
    }

    #[test]
    fn echoed_lines_are_kept_and_a_password_is_not() {
        let mut t = TypedInput::default();
        for c in b"sudo id" {
            t.handle_typed(&[*c], 0);
            t.handle_output(&[*c], 5);
        }
        t.handle_typed(b"\r", 10);
        t.handle_output(b"\r\n[sudo] password for operator: ", 20);
        t.handle_typed(b"hunter2\r", 1000);
        t.handle_output(b"\r\nuid=0(root)\r\n$ ", 1100);
        t.handle_timeout(5000);
        t.handle_typed(b"x", 6000);
        t.handle_output(b"x", 6001);
        assert_eq!(text(&t.finish()), "sudo id\r<7>\rx");
    }

    #[test]
    fn echo_with_colours_and_in_one_piece_is_recognised() {
        let mut t = TypedInput::default();
        t.handle_typed(b"ls -l\r", 0);
        t.handle_output(b"\x1b[1ml\x1b]0;title\x07s -\x1b[0ml\r\n", 9);
        assert_eq!(text(&t.finish()), "ls -l\r");
    }

    #[test]
    fn a_secret_that_output_happens_to_contain_stays_hidden() {
        let mut t = TypedInput::default();
        t.handle_typed(b"abc\r", 0);
        t.handle_output(b"welcome abc", 5);
        assert_eq!(text(&t.finish()), "<3>\r");
    }

    #[test]
    fn waiting_characters_are_bounded() {
        let mut t = TypedInput::default();
        t.handle_typed(&vec![b'x'; MOST_WAITING], 0);
        assert!(t.poll_kept().is_empty());
        t.handle_typed(b"y", 0);
        assert_eq!(t.poll_kept(), vec![Kept::Hidden(1)]);
    }

    proptest! {
        #[test]
        fn nothing_typed_is_lost_or_invented(steps in prop::collection::vec((any::<bool>(), prop::collection::vec(any::<u8>(), 0..20)), 0..30)) {
            let mut t = TypedInput::default();
            let mut typed = 0u64;
            for (i, (is_input, bytes)) in steps.iter().enumerate() {
                if *is_input {
                    typed += bytes.len() as u64;
                    t.handle_typed(bytes, i as u64 * 500);
                } else {
                    t.handle_output(bytes, i as u64 * 500);
                }
            }
            let total: u64 = t.finish().iter().map(|k| match k { Kept::Text(b) => b.len() as u64, Kept::Hidden(n) => *n }).sum();
            prop_assert_eq!(total, typed);
        }

        #[test]
        fn without_output_no_text_is_ever_kept(typed in "[ -~]{0,40}") {
            let mut t = TypedInput::default();
            t.handle_typed(typed.as_bytes(), 0);
            let kept: Vec<Kept> = t.finish();
            prop_assert!(kept.iter().all(|k| matches!(k, Kept::Hidden(_))));
        }
    }
}
