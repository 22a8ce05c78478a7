//! Any bytes as text: an encoding is guessed, lines tile the bytes, and every line decodes.
#![no_main]

use boxclock_core::text::{self, Encoding, LineEnd};
use libfuzzer_sys::fuzz_target;

fuzz_target!(|data: &[u8]| {
    text::guess(&[data.to_vec()]);
    text::guess(&[b"2026-04-12\n".to_vec(), data.to_vec()]);
    for encoding in [Encoding::Utf8, Encoding::Utf16Le, Encoding::Utf16Be, Encoding::Windows1252, Encoding::Latin1] {
        for end in [LineEnd::Feed, LineEnd::Return] {
            let mut at = 0;
            while let Some(next) = encoding.line_end(data, at, end) {
                assert!(next > at && next <= data.len());
                encoding.text(&data[at..next]);
                at = next;
            }
            encoding.text(&data[at..]);
        }
        LineEnd::of(&encoding.decode(data));
    }
});
