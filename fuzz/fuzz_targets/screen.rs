//! Whatever an agent sends as its screen is a picture or a fault, and so is what it is told an order or a fault; both cost bounded memory.
#![no_main]

use aerie_core::desktop::{Framebuffer, OrderReader, Remote, ScreenClient, ScreenOrder, ScreenWriter};
use libfuzzer_sys::fuzz_target;

fuzz_target!(|data: &[u8]| {
    for piece in data.chunks(7) {
        if OrderReader::default().handle_bytes(piece).is_err() {
            break;
        }
    }
    let mut client = ScreenClient::new("fuzz");
    let Ok(screen) = Framebuffer::new(64, 48) else { return };
    if client.handle_bytes(&ScreenWriter::new().update(&screen, &[])).is_err() {
        return;
    }
    for piece in data.chunks(97) {
        if client.handle_bytes(piece).is_err() {
            return;
        }
        while client.poll_event().is_some() {}
        client.order(ScreenOrder::Next(false));
        while client.poll_transmit().is_some() {}
    }
});
