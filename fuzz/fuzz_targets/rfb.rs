//! Whatever a desktop's server sends is a picture or a fault, and costs bounded memory.
#![no_main]

use aerie_core::desktop::{Options, RfbClient};
use libfuzzer_sys::fuzz_target;

/// A server without a password, with a screen of 64 by 48.
const GREETING: &[u8] = b"RFB 003.008\n\x01\x01\0\0\0\0\0\x40\0\x30\0\0\0\0\0\0\0\0\0\0\0\0\0\0\0\0\0\0\0\0";

fuzz_target!(|data: &[u8]| {
    let mut raw = RfbClient::new(Options::default());
    let _ = raw.handle_bytes(data);
    let mut client = RfbClient::new(Options::default());
    if client.handle_bytes(GREETING).is_err() {
        return;
    }
    for piece in data.chunks(97) {
        if client.handle_bytes(piece).is_err() {
            return;
        }
        while client.poll_event().is_some() {}
        client.ask(false);
        while client.poll_transmit().is_some() {}
    }
});
