//! Syslog over TCP in any framing and any pieces: messages come out whole, and memory stays bounded.
#![no_main]

use boxclock_core::receive::framing::Framing;
use libfuzzer_sys::fuzz_target;

fuzz_target!(|data: &[u8]| {
    let mut framing = Framing::default();
    for piece in data.chunks(7) {
        framing.add(piece);
        while let Some(message) = framing.next(64) {
            assert!(message.len() <= 64);
        }
    }
    framing.last(64);
});
