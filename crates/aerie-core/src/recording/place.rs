/// Where a reader may begin in a recording: at a chunk that begins with a whole picture.
///
/// Places are kept beside a recording and need not be trusted: a chunk opens only where it is the one of that number behind those before it.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub struct Place {
    /// Milliseconds of its first frame.
    pub first_ms: u64,
    /// Where the chunk begins in the file.
    pub offset: u64,
    /// Its number.
    pub chunk: u64,
    /// Digest of the chain before it.
    pub digest: [u8; 32],
}

impl Place {
    /// Bytes of a place.
    pub const BYTES: usize = 56;

    /// As bytes: first millisecond, offset and number, least significant byte first, and the digest.
    pub fn encode(&self) -> [u8; Self::BYTES] {
        let mut out = [0; Self::BYTES];
        let numbers = [self.first_ms, self.offset, self.chunk];
        let bytes = numbers.iter().flat_map(|n| n.to_le_bytes()).chain(self.digest);
        out.iter_mut().zip(bytes).for_each(|(to, from)| *to = from);
        out
    }

    /// Reads all whole places.
    pub fn decode_all(bytes: &[u8]) -> Vec<Self> {
        let number = |b: &[u8], at: usize| Some(u64::from_le_bytes(b.get(at..at + 8)?.try_into().ok()?));
        let one = |b: &[u8]| {
            Some(Self { first_ms: number(b, 0)?, offset: number(b, 8)?, chunk: number(b, 16)?, digest: b.get(24..)?.try_into().ok()? })
        };
        bytes.chunks_exact(Self::BYTES).filter_map(one).collect()
    }

    /// The last place from which this moment can be reached.
    pub fn before(places: &[Self], at_ms: u64) -> Option<Self> {
        let n = places.partition_point(|p| p.first_ms <= at_ms);
        places.get(n.checked_sub(1)?).or_else(|| places.first()).copied()
    }
}
