use serde::{Deserialize, Serialize};

/// One thing that was recorded.
#[derive(Debug, Clone, PartialEq, Eq)]
pub enum Frame {
    /// Output of the machine.
    Output(Vec<u8>),
    /// Output on the second stream (stderr).
    ErrorOutput(Vec<u8>),
    /// Typed input that was echoed.
    Input(Vec<u8>),
    /// So many typed characters were not echoed, and are not kept.
    Hidden(u64),
    /// The terminal has this many columns and rows.
    Size(u16, u16),
    /// A shell, command, transfer or forwarded port began on this channel.
    Opened(Opened),
    /// It ended; the exit status where there was one, or 128 and the signal's number.
    Closed(Option<u32>),
    /// A file was copied.
    File(Transfer),
    /// A remark of the service: a notice, a decision, a note.
    Mark(String),
    /// So many bytes of a stream without a terminal went by and are not kept (output, input).
    Passed(u64, u64),
    /// What whoever looked at a desktop was sent: a message of docs/formats/desktop.md.
    Desktop(Vec<u8>),
}

/// What began on a channel.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
pub struct Opened {
    /// `shell`, `exec`, `sftp`, `forward`, `desktop`.
    pub kind: String,
    /// The command, or `host:port` of a forwarded port.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub command: Option<String>,
    /// Whether it has a terminal.
    #[serde(default)]
    pub terminal: bool,
}

/// A file that was copied.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
pub struct Transfer {
    /// `upload` or `download`.
    pub direction: String,
    /// Path as it was asked for.
    pub path: String,
    /// Bytes that went over the wire.
    pub bytes: u64,
    /// SHA-256 of the bytes when they went by in order from the first to the last, hexadecimal.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub sha256: Option<String>,
    /// `done`, `refused`, `failed` or `broken off`.
    pub result: String,
}

/// Numbers of the frame types on disk.
mod tag {
    pub(super) const OUTPUT: u8 = 1;
    pub(super) const ERROR_OUTPUT: u8 = 2;
    pub(super) const INPUT: u8 = 3;
    pub(super) const HIDDEN: u8 = 4;
    pub(super) const SIZE: u8 = 5;
    pub(super) const OPENED: u8 = 6;
    pub(super) const CLOSED: u8 = 7;
    pub(super) const FILE: u8 = 8;
    pub(super) const MARK: u8 = 9;
    pub(super) const PASSED: u8 = 10;
    pub(super) const DESKTOP: u8 = 11;
}

fn put_varint(out: &mut Vec<u8>, mut n: u64) {
    while n >= 0x80 {
        out.push((n as u8 & 0x7f) | 0x80);
        n >>= 7;
    }
    out.push(n as u8);
}

fn take_varint(bytes: &mut &[u8]) -> Option<u64> {
    let mut n = 0u64;
    for shift in (0..64).step_by(7) {
        let (byte, rest) = bytes.split_first()?;
        *bytes = rest;
        n |= u64::from(byte & 0x7f).checked_shl(shift)?;
        if byte & 0x80 == 0 {
            return Some(n);
        }
    }
    None
}

impl Frame {
    /// Appends the frame: type, milliseconds since the frame before, channel, length, content.
    pub(super) fn encode(&self, delta_ms: u64, channel: u32, out: &mut Vec<u8>) {
        let number = |tag, values: &[u64]| {
            let mut content = vec![];
            values.iter().for_each(|n| put_varint(&mut content, *n));
            (tag, content)
        };
        let json = |v: Result<Vec<u8>, serde_json::Error>| v.unwrap_or_default();
        let (tag, content) = match self {
            Frame::Output(b) => return Self::put(tag::OUTPUT, delta_ms, channel, b, out),
            Frame::ErrorOutput(b) => return Self::put(tag::ERROR_OUTPUT, delta_ms, channel, b, out),
            Frame::Input(b) => return Self::put(tag::INPUT, delta_ms, channel, b, out),
            Frame::Desktop(b) => return Self::put(tag::DESKTOP, delta_ms, channel, b, out),
            Frame::Mark(text) => return Self::put(tag::MARK, delta_ms, channel, text.as_bytes(), out),
            Frame::Hidden(n) => number(tag::HIDDEN, &[*n]),
            Frame::Size(columns, rows) => number(tag::SIZE, &[u64::from(*columns), u64::from(*rows)]),
            Frame::Closed(status) => number(tag::CLOSED, status.map(u64::from).as_slice()),
            Frame::Passed(out, input) => number(tag::PASSED, &[*out, *input]),
            Frame::Opened(o) => (tag::OPENED, json(serde_json::to_vec(o))),
            Frame::File(t) => (tag::FILE, json(serde_json::to_vec(t))),
        };
        Self::put(tag, delta_ms, channel, &content, out);
    }

    fn put(tag: u8, delta_ms: u64, channel: u32, content: &[u8], out: &mut Vec<u8>) {
        out.push(tag);
        put_varint(out, delta_ms);
        put_varint(out, u64::from(channel));
        put_varint(out, content.len() as u64);
        out.extend_from_slice(content);
    }

    /// Takes the next frame: milliseconds since the frame before, channel, and the frame, or none for a type that this
    /// version does not know. `None` where the bytes are not a frame.
    pub(super) fn decode(bytes: &mut &[u8]) -> Option<(u64, u32, Option<Frame>)> {
        let (tag, rest) = bytes.split_first()?;
        *bytes = rest;
        let delta = take_varint(bytes)?;
        let channel = u32::try_from(take_varint(bytes)?).ok()?;
        let length = usize::try_from(take_varint(bytes)?).ok()?;
        let (mut content, rest) = bytes.split_at_checked(length)?;
        *bytes = rest;
        let frame = match *tag {
            tag::OUTPUT => Frame::Output(content.into()),
            tag::ERROR_OUTPUT => Frame::ErrorOutput(content.into()),
            tag::INPUT => Frame::Input(content.into()),
            tag::DESKTOP => Frame::Desktop(content.into()),
            tag::MARK => Frame::Mark(String::from_utf8_lossy(content).into_owned()),
            tag::HIDDEN => Frame::Hidden(take_varint(&mut content)?),
            tag::SIZE => {
                let side = |n: u64| u16::try_from(n).ok();
                Frame::Size(side(take_varint(&mut content)?)?, side(take_varint(&mut content)?)?)
            }
            tag::CLOSED if content.is_empty() => Frame::Closed(None),
            tag::CLOSED => Frame::Closed(u32::try_from(take_varint(&mut content)?).ok()),
            tag::PASSED => Frame::Passed(take_varint(&mut content)?, take_varint(&mut content)?),
            tag::OPENED => Frame::Opened(serde_json::from_slice(content).ok()?),
            tag::FILE => Frame::File(serde_json::from_slice(content).ok()?),
            _ => return Some((delta, channel, None)),
        };
        Some((delta, channel, Some(frame)))
    }
}
