//! What stands before the text of a line: when, on which host, by which program. In the traditional form of syslog (RFC 3164 section 4.1),
//! with a full time in its place as newer servers write it, or in the form of RFC 5424; each with the priority in front where a
//! collector kept it.

use jiff::Timestamp;

/// When a line was written, as it says.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum Stamp<'a> {
    /// `Nov 23 08:20:50`: neither year nor zone.
    Plain(&'a [u8]),
    /// An instant.
    Instant(Timestamp),
}

/// A line of a system's log.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub struct Entry<'a> {
    /// When.
    pub stamp: Stamp<'a>,
    /// Host name.
    pub host: &'a str,
    /// Program.
    pub program: &'a str,
    /// Its process, where the line names it.
    pub pid: Option<u32>,
    /// What it says.
    pub text: &'a [u8],
}

/// Longest host name, and longest name of a program.
const LONGEST_NAME: usize = 255;

/// Reads the beginning of a line; none where it is in none of these forms.
pub fn header(line: &[u8]) -> Option<Entry<'_>> {
    let line = match line.first()? {
        b'<' => without_priority(line)?,
        _ => line,
    };
    if let Some(rest) = line.strip_prefix(b"1 ") {
        return structured(rest);
    }
    match line.first()? {
        b'0'..=b'9' => {
            let (stamp, rest) = word(line, 40)?;
            let instant = std::str::from_utf8(stamp).ok()?.parse().ok()?;
            tagged(Stamp::Instant(instant), rest)
        }
        _ => {
            let (stamp, rest) = line.split_at_checked(15)?;
            tagged(Stamp::Plain(stamp), rest.strip_prefix(b" ")?)
        }
    }
}

/// `<38>`: facility and severity, which say nothing that is needed.
fn without_priority(line: &[u8]) -> Option<&[u8]> {
    let close = line.get(..5.min(line.len()))?.iter().position(|b| *b == b'>')?;
    let digits = line.get(1..close)?;
    (!digits.is_empty() && digits.iter().all(u8::is_ascii_digit)).then(|| line.get(close + 1..))?
}

fn word(text: &[u8], longest: usize) -> Option<(&[u8], &[u8])> {
    let space = memchr::memchr(b' ', text.get(..(longest + 1).min(text.len()))?)?;
    Some((text.get(..space)?, text.get(space + 1..)?))
}

fn name(bytes: &[u8]) -> Option<&str> {
    std::str::from_utf8(bytes).ok().filter(|n| !n.is_empty())
}

/// `dome-east sshd[42]: text`
fn tagged<'a>(stamp: Stamp<'a>, rest: &'a [u8]) -> Option<Entry<'a>> {
    let (host, rest) = word(rest, LONGEST_NAME)?;
    let end = memchr::memchr(b':', rest.get(..LONGEST_NAME.min(rest.len()))?)?;
    let (tag, text) = (rest.get(..end)?, rest.get(end + 1..)?);
    let (program, pid) = match memchr::memchr(b'[', tag) {
        Some(open) => (tag.get(..open)?, Some(super::super::line::digits(tag.get(open + 1..)?.strip_suffix(b"]")?)?)),
        None => (tag, None),
    };
    if program.contains(&b' ') {
        return None;
    }
    Some(Entry { stamp, host: name(host)?, program: name(program)?, pid, text: text.strip_prefix(b" ").unwrap_or(text) })
}

/// `2026-11-23T08:20:50.123Z dome-east sshd 42 - [meta x="y"] text`, behind the version (RFC 5424 section 6).
fn structured(rest: &[u8]) -> Option<Entry<'_>> {
    let (stamp, rest) = word(rest, 40)?;
    let (host, rest) = word(rest, LONGEST_NAME)?;
    let (program, rest) = word(rest, 48)?;
    let (process, rest) = word(rest, 128)?;
    let (_, rest) = word(rest, 32)?;
    let instant = std::str::from_utf8(stamp).ok()?.parse().ok()?;
    // rsyslog gives the text with the blank behind the tag of the older form: there are two of them then.
    let text = behind_data(rest)?.trim_ascii_start();
    let text = text.strip_prefix(b"\xef\xbb\xbf").unwrap_or(text);
    let pid = super::super::line::digits(process);
    Some(Entry { stamp: Stamp::Instant(instant), host: name(host)?, program: name(program)?, pid, text })
}

/// What follows the structured data: `-`, or elements in brackets whose values are quoted.
fn behind_data(text: &[u8]) -> Option<&[u8]> {
    if let Some(rest) = text.strip_prefix(b"-") {
        return Some(rest.strip_prefix(b" ").unwrap_or(rest));
    }
    let (mut at, mut quoted) = (0, false);
    text.first().filter(|b| **b == b'[')?;
    loop {
        match (text.get(at)?, quoted) {
            (b'\\', true) => at += 1,
            (b'"', _) => quoted = !quoted,
            (b']', false) if text.get(at + 1) != Some(&b'[') => {
                let rest = text.get(at + 1..)?;
                return Some(rest.strip_prefix(b" ").unwrap_or(rest));
            }
            _ => {}
        }
        at += 1;
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    fn told(line: &str) -> Option<(String, String, Option<u32>, String)> {
        let e = header(line.as_bytes())?;
        Some((e.host.into(), e.program.into(), e.pid, String::from_utf8_lossy(e.text).into_owned()))
    }

    #[test]
    fn every_form_of_a_header_says_the_same() {
        let same = Some(("dome-east".to_string(), "sshd".to_string(), Some(42), "Accepted x: y".to_string()));
        for line in [
            "Nov 23 08:20:50 dome-east sshd[42]: Accepted x: y",
            "<38>Nov 23 08:20:50 dome-east sshd[42]: Accepted x: y",
            "2026-11-23T08:20:50.123456+01:00 dome-east sshd[42]: Accepted x: y",
            "<86>1 2026-11-23T08:20:50.123Z dome-east sshd 42 - - Accepted x: y",
            "<86>1 2026-11-23T08:20:50Z dome-east sshd 42 ID1 [a b=\"]\\\"\"][c] Accepted x: y",
            "1 2026-11-23T08:20:50Z dome-east sshd 42 - - \u{feff}Accepted x: y",
            "<86>1 2026-11-23T08:20:50.123456+01:00 dome-east sshd 42 - -  Accepted x: y",
            "<86>1 2026-11-23T08:20:50Z dome-east sshd 42 - [a b=\"c\"]  Accepted x: y",
        ] {
            assert_eq!(told(line), same, "{line}");
        }
        assert_eq!(told("Nov 23 08:20:50 mast-2 cron: hello").map(|t| t.2), Some(None));
        for bad in [
            "",
            "<",
            "<abc>Nov 23 08:20:50 a b: c",
            "<38>",
            "Nov 23",
            "no header here at all, though it is long enough",
            "2026-13-23T08:20:50Z a b[1]: c",
            "1 2026-11-23T08:20:50Z dome-east sshd 42 - [a b=\"] Accepted",
            "Nov 23 08:20:50 a b c: d",
            "Nov 23 08:20:50 a b[x]: d",
        ] {
            assert_eq!(told(bad), None, "{bad}");
        }
    }
}
