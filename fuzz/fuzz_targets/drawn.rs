//! Whatever a machine writes into a recording: what is shown of it in a terminal, however it is cut, holds no control but those
//! that draw, begins no string, and is left as it is when it is shown once more.
#![no_main]

use aerie_core::recording::TerminalFilter;
use libfuzzer_sys::fuzz_target;

fuzz_target!(|input: (u16, &[u8])| {
    let (cut, bytes) = input;
    let shown = TerminalFilter::default().piece(bytes);
    let (head, tail) = bytes.split_at(usize::from(cut).min(bytes.len()));
    let mut filter = TerminalFilter::default();
    let mut two = filter.piece(head);
    two.extend(filter.piece(tail));
    [shown, two].iter().for_each(|shown| holds(shown));
});

fn holds(shown: &[u8]) {
    assert_eq!(TerminalFilter::default().piece(shown), shown, "shown once more");
    let text = std::str::from_utf8(shown).expect("text");
    let controls = ['\u{7}', '\u{8}', '\t', '\n', '\u{b}', '\u{c}', '\r', '\u{e}', '\u{f}', '\u{1b}'];
    assert!(text.chars().all(|c| !c.is_control() || controls.contains(&c)), "{text:?}");
    // Behind each escape stands one of the few that draw; of OSC, DCS, SOS, PM and APC none.
    let mut behind = text.split('\u{1b}');
    behind.next();
    assert!(behind.all(|rest| rest.starts_with(['[', '7', '8', 'D', 'E', 'H', 'M', '(', ')'])), "{text:?}");
}
