//! Messages on their way to a browser: numbered, and compressed where that is worth it.

use super::message::Message;
use flate2::read::DeflateDecoder;
use flate2::{Compress, Compression, FlushCompress};
use std::io::Read as _;

/// Shorter messages are sent as they are.
const WORTH_IT: usize = 64;
/// How hard it tries (RFC 1951 leaves that open): on a screen, the least effort takes a third of the time and costs a tenth more.
const LEVEL: Compression = Compression::new(1);

/// A message as a browser takes it: its number (eight bytes, most significant first), 1 where what follows is compressed (raw deflate,
/// RFC 1951) and 0 where it is not, and the message.
pub fn pack(number: u64, message: &Message) -> Vec<u8> {
    pack_encoded(number, &message.encode())
}

/// The same of a message that is encoded already.
pub fn pack_encoded(number: u64, plain: &[u8]) -> Vec<u8> {
    let mut out = Vec::with_capacity(9 + plain.len() / 2 + 64);
    out.extend(number.to_be_bytes());
    out.push(1);
    if plain.len() >= WORTH_IT && deflate(plain, &mut out) && out.len() < plain.len() + 9 {
        return out;
    }
    out.truncate(8);
    out.push(0);
    out.extend_from_slice(plain);
    out
}

fn deflate(plain: &[u8], out: &mut Vec<u8>) -> bool {
    let mut compress = Compress::new(LEVEL, false);
    loop {
        let read = usize::try_from(compress.total_in()).unwrap_or(usize::MAX);
        let rest = plain.get(read..).unwrap_or_default();
        match compress.compress_vec(rest, out, FlushCompress::Finish) {
            Ok(flate2::Status::StreamEnd) => return true,
            Ok(_) => out.reserve(plain.len() / 2 + 1024),
            Err(_) => return false,
        }
    }
}

/// Undoes [`pack_encoded`], for a message of at most so many bytes; none where it is longer, or cannot be read.
pub(super) fn unpack(packed: &[u8], most: usize) -> Option<Vec<u8>> {
    let (flag, content) = packed.get(8..)?.split_first()?;
    if *flag == 0 {
        return (content.len() <= most).then(|| content.to_vec());
    }
    let mut plain = vec![];
    let inflated = DeflateDecoder::new(content).take(most as u64 + 1).read_to_end(&mut plain);
    inflated.ok().filter(|n| *n <= most).map(|_| plain)
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn a_message_is_numbered_and_compressed_where_that_makes_it_shorter() {
        let short = Message::Bell.encode();
        assert_eq!(pack(7, &Message::Bell), [&7u64.to_be_bytes()[..], &[0], &short].concat());
        let long = Message::Shape { size: (64, 64), hot: (1, 1), pixels: vec![9; 64 * 64 * 4] };
        let packed = pack(8, &long);
        assert!(packed.len() < 200 && packed[8] == 1, "{}", packed.len());
        let mut plain = vec![];
        DeflateDecoder::new(&packed[9..]).read_to_end(&mut plain).unwrap();
        assert_eq!(unpack(&packed, plain.len()).as_ref(), Some(&plain));
        assert_eq!(unpack(&packed, plain.len() - 1), None);
        assert_eq!(Message::decode(&plain), Some(long));
        // What does not become shorter goes as it is.
        let noise: Vec<u8> = (0..4000u32).map(|n| (n.wrapping_mul(2_654_435_761) >> 13) as u8).collect();
        let said = pack_encoded(1, &noise);
        assert!(said.len() <= noise.len() + 9);
    }
}
