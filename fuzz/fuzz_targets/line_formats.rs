//! Any line to every text format: a head within the line, or none.
#![no_main]

use boxclock_core::format::LINE_FORMATS;
use libfuzzer_sys::fuzz_target;

fuzz_target!(|data: &[u8]| {
    let Some((hint, line)) = data.split_first() else { return };
    let text = String::from_utf8_lossy(line);
    for format in LINE_FORMATS {
        if let Some(head) = format.head(line, *hint) {
            assert!(head.body <= line.len());
        }
        format.record(&text, *hint);
    }
    boxclock_core::format::detect(&line.split(|byte| *byte == b'\n').collect::<Vec<_>>());
    boxclock_core::clock::scan::iso(line);
    boxclock_core::clock::scan::bsd(line);
    boxclock_core::clock::scan::epoch(line);
});
