use bytes::{BufMut as _, Bytes, BytesMut};

/// Most bytes of a stream in one frame: small, so that a keystroke waits for one of them at most.
pub const MAX_DATA: usize = 16 << 10;
/// Longest message between the two sides, and longest name of a target or reason.
pub const MAX_CONTROL: usize = 64 << 10;
/// Kind and stream.
const HEAD: usize = 5;

/// What goes over the connection, one in each WebSocket message.
///
/// The wire form is a byte for the kind, four for the stream (big-endian; 0 where the frame is of none), and the rest.
#[derive(Debug, Clone, PartialEq, Eq)]
pub enum Frame {
    /// Asks for a stream to this target.
    Open(u32, String),
    /// The stream is open.
    Opened(u32),
    /// The stream is not opened, and why.
    Refused(u32, String),
    /// Bytes of a stream.
    Data(u32, Bytes),
    /// The reader has room for this many bytes more.
    Credit(u32, u32),
    /// No more bytes come in this direction.
    Finish(u32),
    /// The stream is over in both directions.
    Reset(u32),
    /// A message between the two sides.
    Message(Bytes),
    /// So many counted frames arrived.
    Ack(u64),
    /// Asks for an answer with the same number.
    Ping(u64),
    /// The answer.
    Pong(u64),
}

/// Why bytes are no frame.
#[derive(Debug, Clone, Copy, PartialEq, Eq, thiserror::Error)]
pub enum FrameError {
    /// Shorter than its kind says.
    #[error("a frame ends too early")]
    Short,
    /// Longer than its kind may be.
    #[error("a frame is too long")]
    Long,
    /// No such kind.
    #[error("a frame is of no known kind")]
    Kind,
    /// Text that is not UTF-8.
    #[error("a frame holds text that is not UTF-8")]
    Text,
    /// A stream where there is none, or the reverse.
    #[error("a frame is of the wrong stream")]
    Stream,
}

impl Frame {
    /// Whether it counts for acknowledgement: everything that must not be lost when the connection breaks.
    pub fn counts(&self) -> bool {
        !matches!(self, Self::Ack(_) | Self::Ping(_) | Self::Pong(_))
    }

    /// Its wire form.
    pub fn encode(&self) -> Bytes {
        let (kind, stream, rest): (u8, u32, &[u8]) = match self {
            Self::Open(s, to) => (1, *s, to.as_bytes()),
            Self::Opened(s) => (2, *s, &[]),
            Self::Refused(s, why) => (3, *s, why.as_bytes()),
            Self::Data(s, bytes) => (4, *s, bytes),
            Self::Credit(s, n) => (5, *s, &n.to_be_bytes()),
            Self::Finish(s) => (6, *s, &[]),
            Self::Reset(s) => (7, *s, &[]),
            Self::Message(bytes) => (8, 0, bytes),
            Self::Ack(n) => (9, 0, &n.to_be_bytes()),
            Self::Ping(n) => (10, 0, &n.to_be_bytes()),
            Self::Pong(n) => (11, 0, &n.to_be_bytes()),
        };
        let mut out = BytesMut::with_capacity(HEAD + rest.len());
        out.put_u8(kind);
        out.put_u32(stream);
        out.put_slice(rest);
        out.freeze()
    }

    /// Reads the wire form.
    ///
    /// # Errors
    /// When it is none: the connection is closed then.
    pub fn decode(bytes: &Bytes) -> Result<Self, FrameError> {
        let (head, rest) = bytes.split_first_chunk::<HEAD>().ok_or(FrameError::Short)?;
        let [kind, stream @ ..] = *head;
        let stream = u32::from_be_bytes(stream);
        if (stream == 0) != matches!(kind, 8..=11) {
            return Err(if (1..=11).contains(&kind) { FrameError::Stream } else { FrameError::Kind });
        }
        let longest = match kind {
            1 | 3 => 1024,
            4 => MAX_DATA,
            8 => MAX_CONTROL,
            _ => 8,
        };
        if rest.len() > longest {
            return Err(FrameError::Long);
        }
        let text = || std::str::from_utf8(rest).map(str::to_string).map_err(|_| FrameError::Text);
        let number = || rest.try_into().map(u64::from_be_bytes).map_err(|_| FrameError::Short);
        let empty = |f: Self| if rest.is_empty() { Ok(f) } else { Err(FrameError::Long) };
        match kind {
            1 => Ok(Self::Open(stream, text()?)),
            2 => empty(Self::Opened(stream)),
            3 => Ok(Self::Refused(stream, text()?)),
            4 => Ok(Self::Data(stream, bytes.slice(HEAD..))),
            5 => Ok(Self::Credit(stream, rest.try_into().map(u32::from_be_bytes).map_err(|_| FrameError::Short)?)),
            6 => empty(Self::Finish(stream)),
            7 => empty(Self::Reset(stream)),
            8 => Ok(Self::Message(bytes.slice(HEAD..))),
            9 => Ok(Self::Ack(number()?)),
            10 => Ok(Self::Ping(number()?)),
            11 => Ok(Self::Pong(number()?)),
            _ => Err(FrameError::Kind),
        }
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::evidence::hex;
    use proptest::prelude::*;

    /// The vectors of docs/formats/agent.md.
    #[test]
    fn frames_have_their_documented_form() {
        let table = [
            (Frame::Open(1, "127.0.0.1:22".into()), "01000000013132372e302e302e313a3232"),
            (Frame::Opened(1), "0200000001"),
            (Frame::Refused(1, "no".into()), "03000000016e6f"),
            (Frame::Data(1, Bytes::from_static(b"hi")), "04000000016869"),
            (Frame::Credit(1, 65536), "050000000100010000"),
            (Frame::Finish(1), "0600000001"),
            (Frame::Reset(1), "0700000001"),
            (Frame::Message(Bytes::from_static(b"{}")), "08000000007b7d"),
            (Frame::Ack(7), "09000000000000000000000007"),
            (Frame::Ping(8), "0a000000000000000000000008"),
            (Frame::Pong(8), "0b000000000000000000000008"),
        ];
        for (frame, form) in table {
            assert_eq!(hex(&frame.encode()), form);
            assert_eq!(Frame::decode(&frame.encode()), Ok(frame));
        }
    }

    #[test]
    fn what_is_no_frame_is_refused() {
        let of = |bytes: &[u8]| Frame::decode(&Bytes::copy_from_slice(bytes)).unwrap_err();
        assert_eq!(of(&[]), FrameError::Short);
        assert_eq!(of(&[4, 0, 0, 0]), FrameError::Short);
        assert_eq!(of(&[4, 0, 0, 0, 0, 1]), FrameError::Stream);
        assert_eq!(of(&[8, 0, 0, 0, 1]), FrameError::Stream);
        assert_eq!(of(&[0, 0, 0, 0, 1]), FrameError::Kind);
        assert_eq!(of(&[12, 0, 0, 0, 1]), FrameError::Kind);
        assert_eq!(of(&[2, 0, 0, 0, 1, 9]), FrameError::Long);
        assert_eq!(of(&[1, 0, 0, 0, 1, 0xff]), FrameError::Text);
        assert_eq!(of(&[5, 0, 0, 0, 1, 9]), FrameError::Short);
        assert_eq!(of(&[9, 0, 0, 0, 0, 9]), FrameError::Short);
        let of_length = |kind: u8, stream: u8, n: usize| {
            let mut all = vec![kind, 0, 0, 0, stream];
            all.resize(5 + n, b'a');
            Frame::decode(&all.into())
        };
        for (kind, stream, most) in [(1, 1, 1024), (3, 1, 1024), (4, 1, MAX_DATA), (8, 0, MAX_CONTROL)] {
            assert!(of_length(kind, stream, most).is_ok());
            assert_eq!(of_length(kind, stream, most + 1), Err(FrameError::Long));
        }
    }

    proptest! {
        #[test]
        fn whatever_reads_is_written_back_the_same(bytes in proptest::collection::vec(any::<u8>(), 0..40)) {
            let bytes = Bytes::from(bytes);
            if let Ok(frame) = Frame::decode(&bytes) {
                prop_assert_eq!(frame.encode(), bytes);
            }
        }
    }
}
