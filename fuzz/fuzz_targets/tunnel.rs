//! Any frames that the other side sends are taken or refused, cost bounded memory, and never make more be sent than was given credit for.
#![no_main]

use aerie_core::tunnel::{Event, Mux, Side};
use bytes::Bytes;
use libfuzzer_sys::fuzz_target;

fuzz_target!(|data: &[u8]| {
    for side in [Side::Opener, Side::Acceptor] {
        let mut mux = Mux::new(side);
        if side == Side::Opener {
            let _ = mux.open("127.0.0.1:22");
        }
        // A byte says how long the frame that follows is.
        let mut rest = data;
        while let Some((length, more)) = rest.split_first() {
            let (frame, after) = more.split_at((*length as usize).min(more.len()));
            rest = after;
            if mux.handle_frame(&Bytes::copy_from_slice(frame)).is_err() {
                break;
            }
            while let Some(event) = mux.poll_event() {
                if let Event::Asked(id, _) = event {
                    mux.accept(id);
                    let _ = mux.send(id, &[7; 100]);
                }
            }
            while mux.poll_frame().is_some() {}
            assert!(mux.streams() <= 256 && mux.kept() <= 64 << 20);
        }
    }
});
