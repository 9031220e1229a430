use super::*;
use proptest::prelude::*;

fn header() -> Header {
    Header {
        session: "s-1".into(),
        person: "ines".into(),
        machine: "dome-east".into(),
        account: "operator".into(),
        started: "2026-11-23T00:00:00Z".parse().unwrap(),
        key: String::new(),
    }
}

fn key() -> DataKey {
    DataKey::new([5; 32])
}

fn frames() -> Vec<TimedFrame> {
    let f = |at_ms, frame| TimedFrame { at_ms, channel: 2, frame };
    vec![
        f(0, Frame::Opened(Opened { kind: "shell".into(), command: None, terminal: true })),
        f(0, Frame::Size(120, 40)),
        f(40, Frame::Output(b"$ ".to_vec())),
        f(900, Frame::Input(b"ls\r".to_vec())),
        f(1000, Frame::Hidden(9)),
        f(2500, Frame::ErrorOutput(vec![0, 255])),
        f(2600, Frame::File(Transfer { direction: "upload".into(), path: "a".into(), bytes: 3, sha256: None, result: "done".into() })),
        f(2600, Frame::Passed(1 << 40, 7)),
        f(2700, Frame::Mark("notice".into())),
        f(9000, Frame::Closed(Some(0))),
        f(9000, Frame::Closed(None)),
    ]
}

fn record(frames: &[TimedFrame]) -> (Vec<u8>, Sealed, Vec<usize>) {
    let mut compressor = Compressor::new().unwrap();
    let (mut encoder, mut bytes) = Encoder::new(&header(), &key());
    let mut ends = vec![bytes.len()];
    for f in frames {
        if encoder.is_due(f.at_ms) {
            bytes.extend(encoder.poll_chunk(&mut compressor).unwrap().unwrap());
            ends.push(bytes.len());
        }
        encoder.handle_frame(f.at_ms, f.channel, &f.frame);
    }
    let sealed = encoder.finish(&mut compressor).unwrap();
    bytes.extend_from_slice(&sealed.bytes);
    (bytes, sealed, ends)
}

fn read(bytes: &[u8]) -> Result<(Vec<TimedFrame>, Summary), ReadError> {
    let mut decoder = Decoder::new(bytes, |_| Some(key()))?;
    let mut frames = vec![];
    while let Some(chunk) = decoder.poll_chunk()? {
        frames.extend(chunk.frames);
    }
    Ok((frames, decoder.summary()))
}

#[test]
fn what_was_recorded_is_read() {
    let (bytes, sealed, _) = record(&frames());
    let (found, summary) = read(&bytes).unwrap();
    assert_eq!(found, frames());
    assert!(summary.complete);
    assert_eq!(summary.digest, crate::evidence::hex(&sealed.digest));
    assert_eq!((summary.frames, summary.length_ms, summary.chunks), (sealed.frames, sealed.length_ms, sealed.chunks));
}

#[test]
fn after_a_crash_every_written_chunk_reads() {
    let (bytes, _, ends) = record(&frames());
    assert!(ends.len() > 2, "several chunks: {ends:?}");
    for cut in ends[0]..bytes.len() {
        let (found, summary) = read(&bytes[..cut]).unwrap();
        assert!(!summary.complete);
        let whole = ends.iter().filter(|e| **e <= cut).count() as u64 - 1;
        assert!(summary.chunks >= whole);
        assert_eq!(found, frames()[..found.len()]);
    }
}

#[test]
fn a_header_cut_short_is_told_from_a_stranger() {
    let (bytes, _, ends) = record(&frames());
    assert_eq!(Decoder::header(&bytes[..ends[0] - 1]), Ok(None));
    assert_eq!(Decoder::header(b"PK\x03\x04"), Err(ReadError::NotARecording));
    let mut newer = bytes.clone();
    newer[8] = 9;
    assert_eq!(Decoder::header(&newer), Err(ReadError::Version(9)));
    assert_eq!(read(&bytes[..4]).unwrap_err(), ReadError::Header);
    assert_eq!(Decoder::new(&bytes, |_| None).err(), Some(ReadError::Key));
}

#[test]
fn a_sealed_key_opens_with_its_master_and_purpose_only() {
    let master = MasterKey::new([1; 32]);
    let sealed = master.seal(b"secret", "recording s-1", [2; 24]).unwrap();
    assert_eq!(master.open(&sealed, "recording s-1").unwrap().as_slice(), b"secret");
    assert!(master.open(&sealed, "recording s-2").is_none());
    assert!(MasterKey::new([2; 32]).open(&sealed, "recording s-1").is_none());
    assert!(master.open(&sealed[..10], "recording s-1").is_none());
    assert_eq!(format!("{master:?}"), "MasterKey(redacted)");
}

#[test]
fn a_reader_begins_at_a_whole_picture_and_is_not_led_astray() {
    let (mut encoder, mut bytes) = Encoder::new(&header(), &DataKey::new([7; 32]));
    let mut compressor = Compressor::new().unwrap();
    let mut places = vec![];
    for n in 0..40u64 {
        if n % 10 == 0 {
            bytes.extend(encoder.begin_whole(&mut compressor).unwrap().unwrap_or_default());
        }
        encoder.handle_frame(n * 700, 0, &Frame::Desktop(vec![n as u8; 50]));
        bytes.extend(encoder.poll_chunk(&mut compressor).unwrap().unwrap());
        places.extend(encoder.poll_place());
    }
    bytes.extend(encoder.finish(&mut compressor).unwrap().bytes);
    assert_eq!(places.iter().map(|p| p.first_ms).collect::<Vec<_>>(), [0, 7000, 14_000, 21_000]);
    let encoded: Vec<u8> = places.iter().flat_map(Place::encode).collect();
    assert_eq!(Place::decode_all(&encoded), places);
    assert_eq!(Place::decode_all(&encoded[..encoded.len() - 1]).len(), 3, "what was cut short does not count");
    assert_eq!(Place::before(&places, 13_999), Some(places[1]));
    assert_eq!(Place::before(&places, 0), Some(places[0]));
    assert_eq!(Place::before(&[], 5), None);

    let begin = |place: &Place| {
        let mut decoder = Decoder::new(&bytes, |_| Some(DataKey::new([7; 32]))).unwrap();
        decoder.begin_at(place);
        decoder.handle_bytes(&bytes[place.offset as usize..]);
        assert_eq!(decoder.place().map(|p| p.first_ms), Some(place.first_ms));
        decoder.poll_chunk().map(|c| c.unwrap().frames)
    };
    for place in &places {
        let frames = begin(place).unwrap();
        assert_eq!((frames[0].at_ms, &frames[0].frame), (place.first_ms, &Frame::Desktop(vec![(place.first_ms / 700) as u8; 50])));
    }
    for lie in [Place { chunk: 3, ..places[1] }, Place { digest: [0; 32], ..places[1] }, Place { offset: places[2].offset, ..places[1] }] {
        let mut decoder = Decoder::new(&bytes, |_| Some(DataKey::new([7; 32]))).unwrap();
        decoder.begin_at(&lie);
        decoder.handle_bytes(&bytes[lie.offset as usize..]);
        assert!(decoder.poll_chunk().is_err());
    }
}

proptest! {
    #[test]
    fn no_altered_byte_goes_unnoticed(at in 0.0f64..1.0, flip in 1u8..=255) {
        let (mut bytes, sealed, _) = record(&frames());
        let at = (bytes.len() as f64 * at) as usize;
        bytes[at] ^= flip;
        // Either it does not read, or it does not end with the digest that is in the log.
        if let Ok((_, summary)) = read(&bytes) {
            prop_assert!(summary.digest != crate::evidence::hex(&sealed.digest));
        }
    }

    #[test]
    fn any_bytes_are_refused_without_a_panic(mut tail in prop::collection::vec(any::<u8>(), 0..300), cut in 0usize..400) {
        let (bytes, _, _) = record(&frames());
        let mut mixed = bytes[..cut.min(bytes.len())].to_vec();
        mixed.append(&mut tail);
        let _ = read(&mixed);
    }
}
