//! Any bytes to the decoder of `journal-binary`: it ends, its account adds up, what it writes is text.
#![no_main]

use boxclock_core::decode::{DECODERS, decode_bytes};
use boxclock_core::format::LineFormat;
use libfuzzer_sys::fuzz_target;

fuzz_target!(|data: &[u8]| {
    let decoder = DECODERS.iter().find(|decoder| decoder.name() == "journal-binary").expect("registered");
    let (text, account) = decode_bytes(decoder, data).expect("a temporary folder");
    assert!(account.event_bytes <= account.bytes);
    decoder.record(std::str::from_utf8(&text).expect("text"), 0);
});
