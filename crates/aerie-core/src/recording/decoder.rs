use super::encoder::{CHUNK_HEAD, END, FRAMES, MAGIC, VERSION, WHOLE, chain, nonce};
use super::frame::Frame;
use super::header::{DataKey, Header};
use super::place::Place;
use aerie_cipher::Cipher;
use sha2::{Digest as _, Sha256};

/// Longest header that is read: names have 64 characters.
const MAX_HEADER: usize = 64 << 10;
/// Longest chunk that is read: the writer makes them of 128 KiB and one frame, and a frame is one SSH packet.
const MAX_CHUNK: usize = 4 << 20;
/// Longest chunk after decompression.
const MAX_UNPACKED: usize = 16 << 20;

/// What is wrong with a recording.
#[derive(Debug, Clone, PartialEq, Eq, thiserror::Error)]
pub enum ReadError {
    /// It does not begin as a recording does.
    #[error("this is not a recording")]
    NotARecording,
    /// It was written by a later version.
    #[error("this recording has version {0}, and this program reads version {VERSION}")]
    Version(u16),
    /// The header cannot be read.
    #[error("the header of the recording is damaged")]
    Header,
    /// The key does not open it.
    #[error("the master key does not open this recording")]
    Key,
    /// A chunk was changed, exchanged or moved.
    #[error("chunk {chunk} was altered, at byte {offset}")]
    Altered {
        /// Number of the chunk, from 0.
        chunk: u64,
        /// Its place in the file.
        offset: u64,
    },
    /// Something stands behind the last chunk.
    #[error("something was added behind the end, at byte {0}")]
    Trailing(u64),
}

/// A frame with its time and channel.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct TimedFrame {
    /// Milliseconds since the recording began.
    pub at_ms: u64,
    /// Channel of the session.
    pub channel: u32,
    /// What was recorded.
    pub frame: Frame,
}

/// One chunk, opened.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Chunk {
    /// Its frames; those of unknown types are left out.
    pub frames: Vec<TimedFrame>,
}

/// How far a recording reads.
#[derive(Debug, Clone, PartialEq, Eq, serde::Serialize, serde::Deserialize)]
pub struct Summary {
    /// Chunks that were read.
    pub chunks: u64,
    /// Frames in them.
    pub frames: u64,
    /// Milliseconds to the last of them.
    pub length_ms: u64,
    /// The recording was closed: nothing is missing at its end.
    pub complete: bool,
    /// Bytes behind the last whole chunk, which a crash left.
    pub left_over: u64,
    /// Digest of the chain, hexadecimal; the log has the same for a complete recording.
    pub digest: String,
}

impl Summary {
    /// The result in one sentence.
    pub fn sentence(&self) -> String {
        let length = crate::wording::duration(jiff::SignedDuration::from_millis(self.length_ms as i64));
        if self.complete {
            format!("The recording is complete and unaltered: {} frames over {length}.", self.frames)
        } else {
            format!(
                "The recording stops after {length} without an end; what is there is unaltered ({} frames, {} bytes left over).",
                self.frames, self.left_over
            )
        }
    }
}

/// Reads a recording piece by piece.
///
/// Feed bytes to [`Decoder::handle_bytes`]; take chunks from [`Decoder::poll_chunk`] until it has none; in the end ask for
/// the [`Decoder::summary`].
pub struct Decoder {
    header: Header,
    cipher: Cipher,
    digest: [u8; 32],
    buffer: Vec<u8>,
    offset: u64,
    chunks: u64,
    frames: u64,
    length_ms: u64,
    complete: bool,
}

impl Decoder {
    /// Reads the header alone. `None` where more bytes are needed.
    ///
    /// # Errors
    /// When it is not a recording, or a damaged one.
    pub fn header(bytes: &[u8]) -> Result<Option<(Header, usize)>, ReadError> {
        let magic = bytes.get(..MAGIC.len().min(bytes.len())).unwrap_or(&[]);
        if !MAGIC.starts_with(magic) {
            return Err(ReadError::NotARecording);
        }
        let Some((head, rest)) = bytes.split_at_checked(14) else { return Ok(None) };
        let (Some(version), Some(length)) = (take::<2>(head, 8).map(u16::from_le_bytes), take::<4>(head, 10).map(u32::from_le_bytes))
        else {
            return Err(ReadError::Header);
        };
        if version != VERSION {
            return Err(ReadError::Version(version));
        }
        let length = length as usize;
        if length > MAX_HEADER {
            return Err(ReadError::Header);
        }
        let Some(json) = rest.get(..length) else { return Ok(None) };
        let header = serde_json::from_slice(json).map_err(|_| ReadError::Header)?;
        Ok(Some((header, 14 + length)))
    }

    /// Begins to read. `bytes` must hold the whole header and may hold more.
    ///
    /// # Errors
    /// When the header is damaged or cut short, or the key does not open it.
    pub fn new(bytes: &[u8], key: impl FnOnce(&Header) -> Option<DataKey>) -> Result<Self, ReadError> {
        let (header, length) = Self::header(bytes)?.ok_or(ReadError::Header)?;
        let key = key(&header).ok_or(ReadError::Key)?;
        let (head, rest) = bytes.split_at_checked(length).ok_or(ReadError::Header)?;
        Ok(Self {
            header,
            cipher: Cipher::new(&key.0),
            digest: Sha256::digest(head).into(),
            buffer: rest.to_vec(),
            offset: length as u64,
            chunks: 0,
            frames: 0,
            length_ms: 0,
            complete: false,
        })
    }

    /// Goes on at a place: the bytes that are handed in next are those from its offset on. What comes before is not verified, and the
    /// summary counts from there.
    pub fn begin_at(&mut self, place: &Place) {
        self.buffer.clear();
        (self.digest, self.offset, self.chunks) = (place.digest, place.offset, place.chunk);
        (self.frames, self.length_ms, self.complete) = (0, place.first_ms, false);
    }

    /// The place of the next chunk, where it is handed in already and begins with a whole picture.
    pub fn place(&self) -> Option<Place> {
        let head = self.buffer.get(..CHUNK_HEAD).filter(|h| h.first() == Some(&WHOLE))?;
        let first_ms = u64::from_le_bytes(take::<8>(head, 5)?);
        Some(Place { first_ms, offset: self.offset, chunk: self.chunks, digest: self.digest })
    }

    /// What the recording is of.
    pub fn about(&self) -> &Header {
        &self.header
    }

    /// Takes more bytes.
    pub fn handle_bytes(&mut self, bytes: &[u8]) {
        self.buffer.extend_from_slice(bytes);
    }

    /// The next chunk; none where more bytes are needed.
    ///
    /// # Errors
    /// When the chunk is not what was written. Nothing behind it can then be trusted.
    pub fn poll_chunk(&mut self) -> Result<Option<Chunk>, ReadError> {
        if self.complete {
            return if self.buffer.is_empty() { Ok(None) } else { Err(ReadError::Trailing(self.offset)) };
        }
        let altered = ReadError::Altered { chunk: self.chunks, offset: self.offset };
        let Some(head) = self.buffer.get(..CHUNK_HEAD) else { return Ok(None) };
        let kind = head.first().copied().unwrap_or(0);
        let length = take::<4>(head, 1).map_or(0, u32::from_le_bytes) as usize;
        let first_ms = take::<8>(head, 5).map_or(0, u64::from_le_bytes);
        if length > MAX_CHUNK || !matches!(kind, FRAMES | END | WHOLE) {
            return Err(altered);
        }
        let Some(whole) = self.buffer.get(..CHUNK_HEAD + length) else { return Ok(None) };
        let aad = [&self.digest[..], head].concat();
        let text = whole.get(CHUNK_HEAD..).unwrap_or(&[]);
        let content = self.cipher.decrypt(&nonce(self.chunks), text, &aad).ok_or_else(|| altered.clone())?;
        let frames = if kind == END { vec![] } else { unpack(&content, first_ms).ok_or(altered)? };
        self.complete = kind == END;
        self.digest = chain(&self.digest, whole);
        self.offset += whole.len() as u64;
        self.chunks += 1;
        self.frames += frames.len() as u64;
        self.length_ms = frames.last().map_or(self.length_ms, |f| f.at_ms);
        self.buffer.drain(..CHUNK_HEAD + length);
        Ok(Some(Chunk { frames }))
    }

    /// How far it read.
    pub fn summary(&self) -> Summary {
        Summary {
            chunks: self.chunks,
            frames: self.frames,
            length_ms: self.length_ms,
            complete: self.complete,
            left_over: self.buffer.len() as u64,
            digest: crate::evidence::hex(&self.digest),
        }
    }
}

fn take<const N: usize>(bytes: &[u8], at: usize) -> Option<[u8; N]> {
    bytes.get(at..at + N)?.try_into().ok()
}

fn unpack(packed: &[u8], first_ms: u64) -> Option<Vec<TimedFrame>> {
    let bytes = zstd::bulk::decompress(packed, MAX_UNPACKED).ok()?;
    let mut rest = bytes.as_slice();
    let mut at_ms = first_ms;
    let mut frames = vec![];
    while !rest.is_empty() {
        let (delta, channel, frame) = Frame::decode(&mut rest)?;
        at_ms = at_ms.checked_add(delta)?;
        frames.extend(frame.map(|frame| TimedFrame { at_ms, channel, frame }));
    }
    Some(frames)
}
