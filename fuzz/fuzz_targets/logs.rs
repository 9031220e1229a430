//! Any bytes are a log, whole or in pieces, and give the same records and counts either way.
#![no_main]

use aerie_core::audit::read::unpack::Unpacker;
use aerie_core::audit::detect::DetectionSet;
use aerie_core::audit::read::frames::SyslogFrames;
use aerie_core::audit::{Auditor, History, LogClock, Recorded, Scan, World};
use jiff::tz::TimeZone;
use libfuzzer_sys::fuzz_target;
use std::sync::Arc;

fn read(bytes: &[u8], size: usize) -> (Vec<Recorded>, u64, u64) {
    let world = World { history: History::default(), sessions: None, own: Default::default(), authorities: None, detections: Arc::new(DetectionSet::shipped()) };
    let mut scan = Scan::new(Auditor::new(Arc::new(world)), "fuzz", LogClock::of_year(TimeZone::UTC, 2026), None, Some("dome-east"));
    let (mut records, mut unpacker) = (vec![], Unpacker::default());
    let mut each = |r| records.push(r);
    for piece in bytes.chunks(size) {
        if unpacker.handle_bytes(piece, &mut |b| scan.handle_bytes(b, &mut each)).is_err() {
            break;
        }
    }
    let scanned = scan.finish(&TimeZone::UTC, &mut each);
    (records, scanned.counts.lines, scanned.counts.unclear)
}

/// What a stream of syslog holds, up to where it cannot be cut any further.
fn framed(bytes: &[u8], size: usize) -> Vec<Vec<u8>> {
    let (mut frames, mut told) = (SyslogFrames::default(), vec![]);
    for piece in bytes.chunks(size) {
        if frames.handle_bytes(piece, &mut |m| told.push(m.to_vec())).is_err() {
            break;
        }
    }
    told
}

fuzz_target!(|data: &[u8]| {
    // What is packed breaks off where it is damaged, and that may be seen sooner or later by the piece.
    let packed = data.starts_with(&[0x1f, 0x8b]) || data.starts_with(&[0x28, 0xb5, 0x2f, 0xfd]);
    let whole = read(data, data.len().max(1));
    if !packed {
        assert_eq!(whole, read(data, 7));
    }
    assert_eq!(framed(data, data.len().max(1)), framed(data, 3));
});
