//! Any bytes are a recording or none, whole or in pieces; and of one that was changed, cut, swapped or put together otherwise nothing is
//! shown that was not recorded, and it is never taken for complete and unaltered.
#![no_main]

use aerie_core::recording::{Compressor, DataKey, Decoder, Encoder, Frame, Header, PlainText, TimedFrame, TypedInput};
use libfuzzer_sys::fuzz_target;
use std::sync::OnceLock;

struct Made {
    bytes: Vec<u8>,
    digest: String,
    frames: Vec<TimedFrame>,
}

fn key(_: &Header) -> Option<DataKey> {
    Some(DataKey::new([7; 32]))
}

fn made() -> &'static Made {
    static MADE: OnceLock<Made> = OnceLock::new();
    MADE.get_or_init(|| {
        let header = Header {
            session: "s-1".into(),
            person: "ines".into(),
            machine: "dome-east".into(),
            account: "operator".into(),
            started: "2026-11-23T20:00:00Z".parse().expect("a time"),
            key: "00".repeat(72),
        };
        let (mut encoder, mut bytes) = Encoder::new(&header, &DataKey::new([7; 32]));
        let mut compressor = Compressor::new().expect("a compressor");
        for n in 0..5u64 {
            encoder.handle_frame(n * 100, 0, &Frame::Output(format!("line {n}\r\n").repeat(5).into_bytes()));
            encoder.handle_frame(n * 100 + 50, 0, &Frame::Input(vec![b'a'; n as usize + 1]));
            bytes.extend(encoder.begin_whole(&mut compressor).expect("a chunk").unwrap_or_default());
        }
        let sealed = encoder.finish(&mut compressor).expect("the end");
        bytes.extend(sealed.bytes);
        let (frames, summary) = read(&bytes, usize::MAX).expect("it reads");
        assert!(summary.complete);
        Made { bytes, digest: summary.digest, frames }
    })
}

fn read(bytes: &[u8], piece: usize) -> Option<(Vec<TimedFrame>, aerie_core::recording::Summary)> {
    let (_, head) = Decoder::header(bytes).ok()??;
    let mut decoder = Decoder::new(bytes.get(..head)?, key).ok()?;
    let mut frames = vec![];
    for part in bytes.get(head..)?.chunks(piece) {
        decoder.handle_bytes(part);
        while let Some(chunk) = decoder.poll_chunk().ok()? {
            frames.extend(chunk.frames);
        }
    }
    Some((frames, decoder.summary()))
}

fuzz_target!(|data: &[u8]| {
    // What a machine sends, and what is typed, is text whatever it holds.
    let mut plain = PlainText::default();
    plain.handle_output(data);
    plain.rest();
    let mut typed = TypedInput::default();
    for (n, part) in data.chunks(5).enumerate() {
        if n % 2 == 0 { typed.handle_typed(part, n as u64 * 10) } else { typed.handle_output(part, n as u64 * 10) }
        typed.poll_kept();
    }
    typed.finish();
    let whole = read(data, usize::MAX);
    assert_eq!(whole.is_some(), read(data, 3).is_some());
    // A good one with changes: each is four bytes, of which the first says what is done.
    let good = made();
    let mut bytes = good.bytes.clone();
    for change in data.chunks_exact(4).take(8) {
        let at = usize::from(u16::from_le_bytes([change[1], change[2]])) % bytes.len().max(1);
        match change[0] % 5 {
            0 => bytes.truncate(at),
            1 => bytes.insert(at.min(bytes.len()), change[3]),
            2 if !bytes.is_empty() => bytes[at] ^= change[3],
            3 if !bytes.is_empty() => drop(bytes.drain(at..(at + usize::from(change[3])).min(bytes.len()))),
            _ => bytes.extend_from_slice(&good.bytes[at.min(good.bytes.len())..]),
        }
    }
    if let Some((frames, summary)) = read(&bytes, 11) {
        assert!(frames.len() <= good.frames.len() && frames == good.frames[..frames.len()], "only what was recorded, in its order");
        assert!(!(summary.complete && summary.digest == good.digest) || bytes == good.bytes, "complete and unaltered");
    }
});
