//! Unpacks gzip (RFC 1952) and Zstandard (RFC 8878) as bytes come in; anything else passes as it is.

use std::io::{self, Write as _};
use zstd::stream::raw::Operation as _;

/// Input that is unpacked at a time: it may become a thousand times as much, and no more is kept.
const AT_A_TIME: usize = 1 << 10;

enum Inner {
    /// Too little came to tell.
    Undecided(Vec<u8>),
    Plain,
    Gzip(Box<flate2::write::MultiGzDecoder<Vec<u8>>>),
    Zstd(Box<Zstd>),
}

struct Zstd {
    decoder: zstd::stream::raw::Decoder<'static>,
    out: Vec<u8>,
    /// A frame is whole: nothing more must come.
    whole: bool,
}

impl Zstd {
    fn new() -> io::Result<Self> {
        Ok(Self { decoder: zstd::stream::raw::Decoder::new()?, out: vec![0; 128 << 10], whole: false })
    }

    fn handle_bytes(&mut self, mut piece: &[u8], each: &mut impl FnMut(&[u8])) -> io::Result<()> {
        loop {
            let status = self.decoder.run_on_buffers(piece, &mut self.out)?;
            each(self.out.get(..status.bytes_written).unwrap_or_default());
            piece = piece.get(status.bytes_read..).unwrap_or_default();
            self.whole = status.remaining == 0;
            let full = status.bytes_written == self.out.len();
            if piece.is_empty() && (!full || self.whole) {
                return Ok(());
            }
            if self.whole {
                // Another frame follows.
                self.decoder.reinit()?;
            }
        }
    }
}

/// One file that may be packed.
pub struct Unpacker(Inner);

impl Default for Unpacker {
    fn default() -> Self {
        Self(Inner::Undecided(vec![]))
    }
}

impl Unpacker {
    /// Takes a piece, and calls back with what it unpacks to.
    ///
    /// # Errors
    /// When it is damaged.
    pub fn handle_bytes(&mut self, piece: &[u8], each: &mut impl FnMut(&[u8])) -> io::Result<()> {
        if let Inner::Undecided(kept) = &mut self.0 {
            kept.extend_from_slice(piece);
            if kept.len() < 4 {
                return Ok(());
            }
            let all = std::mem::take(kept);
            self.0 = match all.get(..4) {
                Some([0x1f, 0x8b, ..]) => Inner::Gzip(Box::new(flate2::write::MultiGzDecoder::new(vec![]))),
                Some([0x28, 0xb5, 0x2f, 0xfd]) => Inner::Zstd(Box::new(Zstd::new()?)),
                _ => Inner::Plain,
            };
            return self.unpack(&all, each);
        }
        self.unpack(piece, each)
    }

    fn unpack(&mut self, piece: &[u8], each: &mut impl FnMut(&[u8])) -> io::Result<()> {
        match &mut self.0 {
            Inner::Undecided(_) => {}
            Inner::Plain => each(piece),
            Inner::Gzip(decoder) => {
                for part in piece.chunks(AT_A_TIME) {
                    decoder.write_all(part)?;
                    each(decoder.get_ref());
                    decoder.get_mut().clear();
                }
            }
            Inner::Zstd(zstd) => zstd.handle_bytes(piece, each)?,
        }
        Ok(())
    }

    /// Ends: hands out what is left.
    ///
    /// # Errors
    /// When the file breaks off.
    pub fn finish(self, each: &mut impl FnMut(&[u8])) -> io::Result<()> {
        match self.0 {
            Inner::Undecided(kept) => each(&kept),
            Inner::Plain => {}
            Inner::Gzip(mut decoder) => {
                decoder.try_finish()?;
                each(decoder.get_ref());
            }
            Inner::Zstd(zstd) if zstd.whole => {}
            Inner::Zstd(_) => return Err(io::Error::new(io::ErrorKind::UnexpectedEof, "incomplete zstd frame")),
        }
        Ok(())
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    fn unpacked(bytes: &[u8], size: usize) -> io::Result<Vec<u8>> {
        let (mut unpacker, mut out) = (Unpacker::default(), vec![]);
        for piece in bytes.chunks(size) {
            unpacker.handle_bytes(piece, &mut |b| out.extend_from_slice(b))?;
        }
        unpacker.finish(&mut |b| out.extend_from_slice(b))?;
        Ok(out)
    }

    #[test]
    fn packed_files_are_the_same_as_plain_ones() {
        let text: Vec<u8> = (0..20_000).flat_map(|n| format!("line {n}\n").into_bytes()).collect();
        let mut gzip = flate2::write::GzEncoder::new(vec![], flate2::Compression::default());
        gzip.write_all(&text).unwrap();
        let gzip = gzip.finish().unwrap();
        let zstd = zstd::encode_all(&text[..], 3).unwrap();
        for packed in [&gzip, &zstd, &text] {
            for size in [1, 1000, usize::MAX >> 1] {
                assert!(unpacked(packed, size).unwrap() == text);
            }
        }
        assert_eq!(unpacked(b"ab", 1).unwrap(), b"ab");
        assert!(unpacked(&gzip[..gzip.len() - 9], 1000).is_err() && unpacked(&zstd[..zstd.len() - 9], 1000).is_err());
        // Several members or frames in one file, as rotation appends them.
        assert!(unpacked(&[&zstd[..], &zstd].concat(), 777).unwrap() == [&text[..], &text].concat());
        assert!(unpacked(&[&gzip[..], &gzip].concat(), 777).unwrap() == [&text[..], &text].concat());
        let mut spoilt = gzip.clone();
        spoilt[40] ^= 0xff;
        assert!(unpacked(&spoilt, 1000).map_or(true, |t| t != text));
    }
}
