//! Any bytes to the decoders of text: they end, their accounts add up, what they write is text.
#![no_main]

use boxclock_core::decode::{DECODERS, decode_bytes};
use boxclock_core::format::LineFormat;
use libfuzzer_sys::fuzz_target;

fuzz_target!(|data: &[u8]| {
    let Some((which, data)) = data.split_first() else { return };
    let text = DECODERS.iter().filter(|one| !matches!(one.name(), "evtx" | "journal-binary" | "login-records"));
    let decoders: Vec<_> = text.collect();
    let decoder = decoders[usize::from(*which) % decoders.len()];
    let (text, account) = decode_bytes(decoder, data).expect("a temporary folder");
    assert!(account.event_bytes <= account.bytes);
    decoder.record(std::str::from_utf8(&text).expect("text"), 0);
});
