//! How an agent sends the log of its machine: on a stream of the tunnel, as long as the service keeps it open.
//!
//! The service says first, in one line of JSON, behind what it wants to go on ([`Wanted`]). The agent answers with one line of JSON that
//! says what it sends ([`Sending`]), and from then on sends a line for each line of the log: where to go on behind it, a tab, and the
//! line as it stands in the log. A place of `!` is a remark instead ([`Piece::Cut`]). docs/formats/agent.md has it in full.

use jiff::tz::TimeZone;
use serde::{Deserialize, Serialize};

/// What the stream is opened to.
pub const TARGET: &str = "log-of-the-machine";
/// Longest line of a log that is sent; a longer one is cut there.
pub const MAX_LINE: usize = 32 << 10;
/// Longest place.
pub const MAX_PLACE: usize = 300;

/// What the service wants.
#[derive(Debug, Clone, Default, PartialEq, Eq, Serialize, Deserialize)]
pub struct Wanted {
    /// The place behind which to go on; empty for all that there is.
    pub after: String,
}

/// What an agent sends.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
pub struct Sending {
    /// `journal`, or the path of a file.
    pub what: String,
    /// The zone of the machine's clock, by its IANA name; empty where it is not known.
    pub zone: String,
}

impl Sending {
    /// The zone in which lines tell the time that name none; where it is not known, that of the rules.
    pub fn zone_or(&self, rules: &TimeZone) -> TimeZone {
        TimeZone::get(&self.zone).unwrap_or_else(|_| rules.clone())
    }
}

/// A line of the stream.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum Piece<'a> {
    /// A line of the log, and where to go on behind it.
    Line {
        /// The place.
        place: &'a str,
        /// The line.
        line: &'a [u8],
    },
    /// The file became shorter than what was read of it.
    Cut {
        /// Bytes that were read.
        before: u64,
        /// Bytes that it has.
        now: u64,
    },
}

impl<'a> Piece<'a> {
    /// Reads a line of the stream, without its line feed.
    pub fn read(text: &'a [u8]) -> Option<Self> {
        let tab = memchr::memchr(b'\t', text.get(..text.len().min(MAX_PLACE + 1))?)?;
        let (place, line) = (std::str::from_utf8(text.get(..tab)?).ok()?, text.get(tab + 1..)?);
        if place != "!" {
            return place.bytes().all(|b| b.is_ascii_graphic()).then_some(Self::Line { place, line });
        }
        let (before, now) = std::str::from_utf8(line).ok()?.strip_prefix("cut ")?.split_once(' ')?;
        Some(Self::Cut { before: before.parse().ok()?, now: now.parse().ok()? })
    }

    /// Appends it to what is sent, with its line feed. Line feeds within a line end it.
    pub fn write(&self, out: &mut Vec<u8>) {
        match self {
            Self::Line { place, line } => {
                out.extend_from_slice(place.as_bytes());
                out.push(b'\t');
                let end = memchr::memchr(b'\n', line).unwrap_or(line.len()).min(MAX_LINE);
                out.extend_from_slice(line.get(..end).unwrap_or(line));
            }
            Self::Cut { before, now } => out.extend_from_slice(format!("!\tcut {before} {now}").as_bytes()),
        }
        out.push(b'\n');
    }
}

/// The fields of a journal entry that the audit reads; a journal is asked for these alone (journalctl(1), `--output-fields`).
pub const JOURNAL_FIELDS: &str = "_HOSTNAME,SYSLOG_IDENTIFIER,_COMM,_PID,SYSLOG_PID,MESSAGE";

/// The place of a journal entry, as `journalctl -o json` writes it.
pub fn journal_place(line: &[u8]) -> Option<String> {
    #[derive(Deserialize)]
    struct Placed {
        #[serde(rename = "__CURSOR")]
        cursor: String,
    }
    serde_json::from_slice::<Placed>(line)
        .ok()
        .map(|p| p.cursor)
        .filter(|c| c.len() <= MAX_PLACE && c.bytes().all(|b| b.is_ascii_graphic()))
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn pieces_read_back_and_nonsense_does_not() {
        for piece in [
            Piece::Line { place: "64-123:88", line: b"Nov 27 21:22:11 dome-east sshd[4]: \xffx\ty" },
            Piece::Line { place: "s=1;i=2", line: b"" },
            Piece::Cut { before: 900, now: 3 },
        ] {
            let mut out = vec![];
            piece.write(&mut out);
            assert_eq!(out.pop(), Some(b'\n'));
            assert_eq!(Piece::read(&out), Some(piece));
        }
        for bad in [&b""[..], b"x", b"a b\tline", b"!\tcut 1", b"!\tcut -1 2", b"!\thello", b"\xff\tx", &[b'a'; 400]] {
            assert_eq!(Piece::read(bad), None, "{}", String::from_utf8_lossy(bad));
        }
    }

    #[test]
    fn a_line_cannot_smuggle_a_second_one_and_has_a_limit() {
        let written = |line: &[u8]| {
            let mut out = vec![];
            Piece::Line { place: "1:1", line }.write(&mut out);
            out
        };
        assert_eq!(written(b"a\n9:9\tforged"), b"1:1\ta\n");
        assert_eq!(written(&[b'x'; MAX_LINE]).len(), MAX_LINE + 5);
        assert_eq!(written(&[b'x'; MAX_LINE + 1]).len(), MAX_LINE + 5);
    }

    #[test]
    fn the_place_of_a_journal_entry_is_its_cursor() {
        assert_eq!(journal_place(br#"{"__CURSOR":"s=4f;i=2a1","MESSAGE":"x"}"#).as_deref(), Some("s=4f;i=2a1"));
        for bad in [&b"{}"[..], b"x", br#"{"__CURSOR":"a b"}"#] {
            assert_eq!(journal_place(bad), None);
        }
    }

    #[test]
    fn an_unknown_zone_is_that_of_the_rules() {
        let zone = |name: &str| Sending { what: "journal".into(), zone: name.into() }.zone_or(&TimeZone::UTC);
        assert_eq!(zone("Asia/Tokyo").iana_name(), Some("Asia/Tokyo"));
        assert_eq!(zone(""), TimeZone::UTC);
        assert_eq!(zone("../../etc/passwd"), TimeZone::UTC);
    }
}
