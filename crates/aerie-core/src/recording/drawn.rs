//! What somebody else's session wrote, for the terminal of whoever looks at it.
//!
//! The bytes of a recording come from a machine that may be hostile. ECMA-48 lets a program set the clipboard and title
//! of a terminal (OSC), hand it strings (DCS, APC, PM, SOS), make it answer as if somebody typed (device reports) and
//! leave it in modes that outlast the program. Here only what draws goes through; everything else is left out.

use vte::{Params, Parser, Perform};

/// Final bytes of the CSI sequences that draw and answer nothing (ECMA-48 section 8.3): cursor movement, erasing,
/// inserting, deleting, scrolling, margins, tabulation, rendition, and the cursor's place kept and restored.
const DRAWING: &[char] = &[
    '@', 'A', 'B', 'C', 'D', 'E', 'F', 'G', 'H', 'I', 'J', 'K', 'L', 'M', 'P', 'S', 'T', 'X', 'Z', '`', 'a', 'b', 'd', 'e', 'f', 'g', 'm',
    'r', 's', 'u',
];
/// Private modes that change how is drawn: origin, wrapping, cursor shown, the other screen.
const PRIVATE_MODES: &[u16] = &[6, 7, 25, 47, 1047, 1048, 1049];
/// Modes: insertion, and a line feed that returns.
const MODES: &[u16] = &[4, 20];
/// Repetitions that one sequence may ask for; a screen is smaller.
const MOST: u16 = 2000;

/// Lets through what draws, and nothing that acts on the terminal or makes it answer. Pieces may be cut anywhere, also within a
/// character or a sequence; at a cut within malformed UTF-8 a character may get lost.
#[derive(Default)]
pub struct TerminalFilter {
    parser: Parser,
    drawn: Drawn,
}

impl std::fmt::Debug for TerminalFilter {
    fn fmt(&self, f: &mut std::fmt::Formatter<'_>) -> std::fmt::Result {
        f.debug_struct("TerminalFilter").finish_non_exhaustive()
    }
}

impl TerminalFilter {
    /// What of these bytes draws.
    pub fn piece(&mut self, bytes: &[u8]) -> Vec<u8> {
        self.parser.advance(&mut self.drawn, bytes);
        std::mem::take(&mut self.drawn.0)
    }

    /// What puts a terminal back that showed it: rendition, character set, margins, wrapping, cursor, and the screen.
    pub const RESET: &[u8] = b"\x1b[0m\x1b(B\x0f\x1b[4l\x1b[20l\x1b[?6l\x1b[?7h\x1b[r\x1b[?1049l\x1b[?25h\r\n";
}

#[derive(Default)]
struct Drawn(Vec<u8>);

impl Perform for Drawn {
    fn print(&mut self, c: char) {
        // C1 controls in UTF-8 are controls to some terminals.
        if !c.is_control() {
            self.0.extend_from_slice(c.encode_utf8(&mut [0; 4]).as_bytes());
        }
    }

    fn execute(&mut self, byte: u8) {
        // BEL, BS, HT, LF, VT, FF, CR, SO, SI (ECMA-48 section 5.2). ENQ is answered by some terminals.
        if (0x07..=0x0f).contains(&byte) {
            self.0.push(byte);
        }
    }

    fn csi_dispatch(&mut self, params: &Params, intermediates: &[u8], ignore: bool, action: char) {
        // With five numbers `T` is no scrolling but the mouse (xterm's own).
        if ignore || (action == 'T' && params.len() > 1) {
            return;
        }
        let is_mode = matches!(action, 'h' | 'l');
        let known: &[u16] = match intermediates {
            b"?" if is_mode => PRIVATE_MODES,
            [] if is_mode => MODES,
            // Erasing what is not protected (DEC's own, VT220).
            b"?" if matches!(action, 'J' | 'K') => &[],
            [] if DRAWING.contains(&action) => &[],
            _ => return,
        };
        let kept: Vec<String> = params
            .iter()
            .filter(|p| !is_mode || p.first().is_some_and(|m| known.contains(m)))
            .map(|p| p.iter().map(|n| if action == 'm' { *n } else { (*n).min(MOST) }.to_string()).collect::<Vec<_>>().join(":"))
            .collect();
        if is_mode && kept.is_empty() {
            return;
        }
        let private = if intermediates == b"?" { "?" } else { "" };
        self.0.extend_from_slice(format!("\x1b[{private}{}{action}", kept.join(";")).as_bytes());
    }

    fn esc_dispatch(&mut self, intermediates: &[u8], ignore: bool, byte: u8) {
        // Cursor kept and restored, index, next line, tab stop, reverse index; ASCII and line drawing as G0 and G1.
        let draws = match intermediates {
            [] => b"78DEHM".contains(&byte),
            [b'(' | b')'] => b"0B".contains(&byte),
            _ => false,
        };
        if draws && !ignore {
            self.0.push(0x1b);
            self.0.extend_from_slice(intermediates);
            self.0.push(byte);
        }
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use proptest::strategy::Strategy as _;

    fn looked(bytes: &[u8]) -> String {
        String::from_utf8(TerminalFilter::default().piece(bytes)).unwrap()
    }

    #[test]
    fn what_draws_goes_through_as_it_was() {
        for text in [
            "dome 2 is open\r\n\tµ ≤ 0.4″\x07\x08",
            "\x1b[1;38;5;208;48:2::1:2:3mred\x1b[0m",
            "\x1b[?1049h\x1b[2J\x1b[5;20r\x1b[10;1H\x1b[K\x1b[3A\x1b[?25l\x1b7\x1b8\x1bM",
            "\x1b(0lqqk\x1b(B",
        ] {
            // An empty number is a nought.
            assert_eq!(looked(text.as_bytes()), text.replace("::", ":0:").replace("[K", "[0K"));
        }
    }

    #[test]
    fn what_would_act_on_the_terminal_is_left_out() {
        for (hostile, left) in [
            // The clipboard, the title, a link, the palette asked for; ended by BEL or ST.
            (&b"a\x1b]52;c;cm0gLXJmIH4K\x07b"[..], "ab"),
            (b"a\x1b]0;root@dome\x1b\\b", "ab"),
            (b"a\x1b]8;;http://evil.example\x1b\\link\x1b]8;;\x1b\\b", "alinkb"),
            (b"a\x1b]4;1;?\x07b", "ab"),
            // Strings that a terminal keeps or answers: settings asked for, keys set, pictures.
            (b"a\x1bP$q\"p\x1b\\b", "ab"),
            (b"a\x1bP1;1|17/0a\x1b\\b", "ab"),
            (b"a\x1b_Gi=1;AAAA\x1b\\b", "ab"),
            (b"a\x1b^x\x1b\\b\x1bXy\x1b\\c", "abc"),
            // Reports that are typed back: status, cursor, attributes, answerback, title, size, mode, checksum.
            (b"a\x1b[5n\x1b[6n\x1b[c\x1b[>c\x1b[=c\x1bZ\x05\x1b[21t\x1b[18t\x1b[?25$p\x1b[1;1;1;1;1;1*yb", "ab"),
            // What outlasts the look: mouse, focus, brackets around what is pasted, keypad, key modes, full reset, the printer.
            (b"a\x1b[?1000h\x1b[?1003;1006h\x1b[?1004h\x1b[?2004h\x1b=\x1b[>4;2m\x1b[>1u\x1bc\x1b[!p\x1b[4i\x1b[2h\x1b[1;1;1;1;1Tb", "ab"),
            (b"\x1b[?1000;25h", "\x1b[?25h"),
            // A string that never ends shows nothing, and does nothing.
            (b"a\x1b]52;c;", "a"),
            (b"a\xc2\x9d52;c;x\xc2\x9cb", "a52;c;xb"),
            (b"a\xff\xfeb", "a\u{fffd}\u{fffd}b"),
            (b"\x1b[60000b", "\x1b[2000b"),
        ] {
            assert_eq!(looked(hostile), left, "{}", String::from_utf8_lossy(hostile).escape_debug());
            let mut cut = TerminalFilter::default();
            let by_bytes: Vec<u8> = hostile.iter().flat_map(|b| cut.piece(&[*b])).collect();
            assert_eq!(String::from_utf8(by_bytes).unwrap(), left, "byte by byte");
        }
    }

    proptest::proptest! {
        /// Pieces of sequences in any order, since random bytes are rarely one.
        #[test]
        fn nothing_is_left_that_would_be_left_out(
            pieces in proptest::collection::vec(
                proptest::prelude::prop_oneof![
                    proptest::sample::select(vec![
                        "\x1b", "\x1b[", "\x1b]", "\x1bP", "\x1b_", "\x1b\\", "\x1b(", "\x07", "\x18", "?", ">", "52;c;", "1000", "25", ";", ":", "h", "l", "n", "m", "T",
                        "$", "q", "0", "\u{9d}", "\u{9b}", "x",
                    ]).prop_map(|text: &str| text.as_bytes().to_vec()),
                    proptest::collection::vec(proptest::prelude::any::<u8>(), 1..4),
                ],
                0..24,
            ),
            cut in 0_usize..40,
        ) {
            let bytes = pieces.concat();
            let all = TerminalFilter::default().piece(&bytes);
            let (head, tail) = bytes.split_at(cut.min(bytes.len()));
            let mut filter = TerminalFilter::default();
            let mut two = filter.piece(head);
            two.extend(filter.piece(tail));
            // Cut or not: of malformed UTF-8 a character may get lost at a cut, and nothing more goes through.
            for shown in [all, two] {
                proptest::prop_assert_eq!(&TerminalFilter::default().piece(&shown), &shown);
            }
        }
    }
}
