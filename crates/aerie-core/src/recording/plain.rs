//! Terminal output as plain text, for search and export.

/// Longest line that is kept in one piece; a longer one is broken.
const MAX_LINE: usize = 4096;

/// Turns terminal output into lines of text: escape sequences go, carriage returns and backspaces move the pen as a
/// terminal's would on one line. Cursor movement between lines is not followed, so that a full-screen program gives its
/// fragments and not its picture.
#[derive(Debug, Default)]
pub struct PlainText {
    line: Vec<char>,
    pen: usize,
    state: State,
    partial: Vec<u8>,
}

#[derive(Debug, Default, Clone, Copy, PartialEq)]
enum State {
    #[default]
    Text,
    Escape,
    Control,
    Command,
}

impl PlainText {
    /// Takes output and returns the lines that it completed.
    pub fn handle_output(&mut self, bytes: &[u8]) -> Vec<String> {
        self.partial.extend_from_slice(bytes);
        let bytes = std::mem::take(&mut self.partial);
        let (text, rest) = match std::str::from_utf8(&bytes) {
            Ok(t) => (t.to_string(), &[][..]),
            // The last character may still be on its way.
            Err(e) if e.error_len().is_none() => {
                let (whole, rest) = bytes.split_at(e.valid_up_to());
                (String::from_utf8_lossy(whole).into_owned(), rest)
            }
            Err(_) => (String::from_utf8_lossy(&bytes).into_owned(), &[][..]),
        };
        self.partial = rest.to_vec();
        text.chars().filter_map(|c| self.step(c)).collect()
    }

    /// The line that is not complete.
    pub fn rest(&self) -> String {
        self.line.iter().collect::<String>().trim_end().into()
    }

    fn step(&mut self, c: char) -> Option<String> {
        self.state = match (self.state, c) {
            (_, '\u{1b}') => State::Escape,
            (State::Escape, '[') => State::Control,
            (State::Escape, ']' | 'P' | '_' | '^') => State::Command,
            (State::Escape, ' '..='/') => State::Escape,
            (State::Control, c) if !('\u{40}'..='\u{7e}').contains(&c) => State::Control,
            (State::Control, c) => {
                self.control(c);
                State::Text
            }
            (State::Escape, _) | (State::Command, '\u{7}') => State::Text,
            (State::Command, _) => State::Command,
            (State::Text, c) => return self.text(c),
        };
        None
    }

    /// Erase to the end of the line is all that matters on one line.
    fn control(&mut self, c: char) {
        if c == 'K' {
            self.line.truncate(self.pen);
        }
    }

    fn text(&mut self, c: char) -> Option<String> {
        match c {
            '\n' => return Some(self.take()),
            '\r' => self.pen = 0,
            '\u{8}' => self.pen = self.pen.saturating_sub(1),
            '\t' => return self.put(' '),
            c if !c.is_control() => return self.put(c),
            _ => {}
        }
        None
    }

    fn put(&mut self, c: char) -> Option<String> {
        match self.line.get_mut(self.pen) {
            Some(cell) => *cell = c,
            None => self.line.push(c),
        }
        self.pen += 1;
        (self.line.len() >= MAX_LINE).then(|| self.take())
    }

    fn take(&mut self) -> String {
        let line = self.rest();
        self.line.clear();
        self.pen = 0;
        line
    }
}

/// The commands in kept input: what stands before each line end, with backspaces applied and control characters left out.
pub fn commands_in(input: &[u8]) -> Vec<String> {
    let mut commands = vec![];
    let mut line: Vec<char> = vec![];
    let mut escape = false;
    for c in String::from_utf8_lossy(input).chars() {
        match c {
            '\r' | '\n' => {
                let command: String = std::mem::take(&mut line).into_iter().collect();
                commands.push(command.trim().to_string());
            }
            '\u{8}' | '\u{7f}' => drop(line.pop()),
            '\u{3}' | '\u{15}' => line.clear(),
            '\u{1b}' => escape = true,
            c if escape => escape = !(c.is_ascii_alphabetic() || c == '~'),
            c if !c.is_control() => line.push(c),
            _ => {}
        }
    }
    commands.retain(|c| !c.is_empty());
    commands
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn escapes_go_and_the_pen_moves() {
        let mut p = PlainText::default();
        let lines = p.handle_output(b"\x1b[1;32moperator\x1b[0m$ lx\x08s -l\r\ntotal 4\r\nprogress 10%\rprogress 99%\r\n\x1b]0;t\x07ok");
        assert_eq!(lines, ["operator$ ls -l", "total 4", "progress 99%"]);
        assert_eq!(p.rest(), "ok");
    }

    #[test]
    fn a_character_cut_between_two_pieces_is_one() {
        let mut p = PlainText::default();
        let e = "é\n".as_bytes();
        assert!(p.handle_output(&e[..1]).is_empty());
        assert_eq!(p.handle_output(&e[1..]), ["é"]);
    }

    #[test]
    fn an_endless_line_is_broken() {
        let mut p = PlainText::default();
        assert_eq!(p.handle_output(&vec![b'x'; MAX_LINE * 2 + 1]).len(), 2);
    }

    #[test]
    fn commands_have_their_corrections_applied() {
        assert_eq!(commands_in(b"lx\x7fs\r\x1b[A\rcat a\x15id\n\r"), ["ls", "id"]);
    }
}
