use super::frame::Frame;
use super::header::{DataKey, Header};
use super::place::Place;
use aerie_cipher::{Cipher, NONCE};
use sha2::{Digest as _, Sha256};

/// First bytes of a recording.
pub(super) const MAGIC: &[u8; 8] = b"AERIEREC";
/// Version of the container.
pub(super) const VERSION: u16 = 1;
/// Kind byte of a chunk of frames.
pub(super) const FRAMES: u8 = 1;
/// Kind byte of the last chunk.
pub(super) const END: u8 = 2;
/// Kind byte of a chunk of frames before which nothing is needed: it begins with a whole picture.
pub(super) const WHOLE: u8 = 3;
/// Kind, length, first and last millisecond.
pub(super) const CHUNK_HEAD: usize = 1 + 4 + 8 + 8;

/// A buffer of this size is written without waiting for the second to be over: large enough to compress well, small
/// enough to cost no memory.
const FULL: usize = 128 << 10;
/// The same for pictures of a desktop, which are larger and more alike.
const FULL_OF_PICTURES: usize = 1 << 20;
/// The oldest frame waits no longer than this: what a crash of the service may cost.
const PATIENCE_MS: u64 = 1000;

/// A zstd compressor, to be shared between recordings: its tables take more memory than an idle session.
pub struct Compressor(zstd::bulk::Compressor<'static>);

impl Compressor {
    /// A compressor of the level that recordings use.
    ///
    /// # Errors
    /// When there is no memory.
    pub fn new() -> std::io::Result<Self> {
        zstd::bulk::Compressor::new(1).map(Self)
    }
}

/// Makes the bytes of a recording.
///
/// Write what [`Encoder::new`] returns, then call [`Encoder::handle_frame`] for each frame, and write what
/// [`Encoder::poll_chunk`] returns whenever [`Encoder::is_due`] says so; end with [`Encoder::finish`].
pub struct Encoder {
    cipher: Cipher,
    digest: [u8; 32],
    chunks: u64,
    frames: u64,
    pending: Vec<u8>,
    first_ms: u64,
    last_ms: u64,
    /// Bytes that were handed out.
    offset: u64,
    pictures: bool,
    /// The next chunk begins with a whole picture.
    whole: bool,
    place: Option<Place>,
}

/// What a complete recording was sealed with.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Sealed {
    /// The last bytes of the recording.
    pub bytes: Vec<u8>,
    /// Digest of the chain, which goes into the log.
    pub digest: [u8; 32],
    /// Chunks, the last one included.
    pub chunks: u64,
    /// Frames.
    pub frames: u64,
    /// Milliseconds from the beginning to the last frame.
    pub length_ms: u64,
    /// Where a reader may begin, where the last frames begin with a whole picture.
    pub place: Option<Place>,
}

/// Proof that a recording was begun. Only [`Encoder::head_written`] makes one, and a session whose rules demand a recording
/// cannot go live without it.
///
/// ```compile_fail
/// // There is no other way to come by one.
/// let forged = aerie_core::recording::Armed(());
/// ```
#[derive(Debug)]
pub struct Armed(());

impl Encoder {
    /// To be called once the head is on its disk: the recorder is armed.
    pub fn head_written(&self) -> Armed {
        Armed(())
    }

    /// Begins a recording; the bytes are its head.
    pub fn new(header: &Header, key: &DataKey) -> (Self, Vec<u8>) {
        let json = serde_json::to_vec(header).unwrap_or_default();
        let mut bytes = MAGIC.to_vec();
        bytes.extend_from_slice(&VERSION.to_le_bytes());
        bytes.extend_from_slice(&(json.len() as u32).to_le_bytes());
        bytes.extend_from_slice(&json);
        let digest = Sha256::digest(&bytes).into();
        let cipher = Cipher::new(&key.0);
        let encoder = Self {
            cipher,
            digest,
            chunks: 0,
            frames: 0,
            pending: vec![],
            first_ms: 0,
            last_ms: 0,
            offset: bytes.len() as u64,
            pictures: false,
            whole: false,
            place: None,
        };
        (encoder, bytes)
    }

    /// Takes a frame. A clock that steps back does not: times never decrease.
    pub fn handle_frame(&mut self, at_ms: u64, channel: u32, frame: &Frame) {
        let at_ms = at_ms.max(self.last_ms);
        if self.pending.is_empty() {
            self.first_ms = at_ms;
            self.last_ms = at_ms;
        }
        self.pictures = matches!(frame, Frame::Desktop(_));
        frame.encode(at_ms - self.last_ms, channel, &mut self.pending);
        self.last_ms = at_ms;
        self.frames += 1;
    }

    /// Whether a chunk should be written now.
    pub fn is_due(&self, now_ms: u64) -> bool {
        let full = if self.pictures { FULL_OF_PICTURES } else { FULL };
        self.pending.len() >= full || self.poll_timeout().is_some_and(|t| now_ms >= t)
    }

    /// When the next chunk is due.
    pub fn poll_timeout(&self) -> Option<u64> {
        (!self.pending.is_empty()).then_some(self.first_ms + PATIENCE_MS)
    }

    /// The bytes of the next chunk, where anything waits to be written.
    ///
    /// # Errors
    /// When there is no memory to compress or encrypt in.
    pub fn poll_chunk(&mut self, compressor: &mut Compressor) -> std::io::Result<Option<Vec<u8>>> {
        if self.pending.is_empty() {
            return Ok(None);
        }
        let packed = compressor.0.compress(&self.pending)?;
        self.pending = vec![];
        let kind = if std::mem::take(&mut self.whole) { WHOLE } else { FRAMES };
        self.chunk(kind, &packed).map(Some)
    }

    /// What comes next needs nothing that came before: it begins with a whole picture, and a reader may begin there. Gives the bytes of
    /// what waited to be written.
    ///
    /// # Errors
    /// When there is no memory to compress or encrypt in.
    pub fn begin_whole(&mut self, compressor: &mut Compressor) -> std::io::Result<Option<Vec<u8>>> {
        let before = self.poll_chunk(compressor)?;
        self.whole = true;
        Ok(before)
    }

    /// Where a reader may begin, once the chunk was made that begins with a whole picture.
    pub fn poll_place(&mut self) -> Option<Place> {
        self.place.take()
    }

    /// Ends the recording.
    ///
    /// # Errors
    /// When there is no memory to compress or encrypt in.
    pub fn finish(mut self, compressor: &mut Compressor) -> std::io::Result<Sealed> {
        let mut bytes = self.poll_chunk(compressor)?.unwrap_or_default();
        let totals = serde_json::json!({ "chunks": self.chunks + 1, "frames": self.frames, "length_ms": self.last_ms });
        self.first_ms = self.last_ms;
        let end = self.chunk(END, totals.to_string().as_bytes())?;
        bytes.extend_from_slice(&end);
        Ok(Sealed { bytes, digest: self.digest, chunks: self.chunks, frames: self.frames, length_ms: self.last_ms, place: self.place })
    }

    fn chunk(&mut self, kind: u8, content: &[u8]) -> std::io::Result<Vec<u8>> {
        let length = (content.len() + 16) as u32;
        let mut bytes = Vec::with_capacity(CHUNK_HEAD + content.len() + 16);
        bytes.push(kind);
        bytes.extend_from_slice(&length.to_le_bytes());
        bytes.extend_from_slice(&self.first_ms.to_le_bytes());
        bytes.extend_from_slice(&self.last_ms.to_le_bytes());
        if kind == WHOLE {
            self.place = Some(Place { first_ms: self.first_ms, offset: self.offset, chunk: self.chunks, digest: self.digest });
        }
        let aad = [&self.digest[..], &bytes].concat();
        let text = self
            .cipher
            .encrypt(&nonce(self.chunks), content, &aad)
            .ok_or_else(|| std::io::Error::other("the recording could not be encrypted"))?;
        bytes.extend_from_slice(&text);
        self.digest = chain(&self.digest, &bytes);
        self.chunks += 1;
        self.offset += bytes.len() as u64;
        Ok(bytes)
    }
}

/// The nonce of a chunk: its number. The key is used for one recording only, so that no nonce comes twice.
pub(super) fn nonce(chunk: u64) -> [u8; NONCE] {
    let mut nonce = [0; NONCE];
    nonce.iter_mut().zip(chunk.to_le_bytes()).for_each(|(to, from)| *to = from);
    nonce
}

/// Digest of the chain with one more chunk.
pub(super) fn chain(before: &[u8; 32], chunk: &[u8]) -> [u8; 32] {
    Sha256::new().chain_update(before).chain_update(chunk).finalize().into()
}
