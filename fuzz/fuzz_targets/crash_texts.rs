//! Any text: a crash that it tells, or none.
#![no_main]

use boxclock_core::crash::text::{TextLine, read};
use libfuzzer_sys::fuzz_target;

fuzz_target!(|data: &[u8]| {
    let text = String::from_utf8_lossy(data);
    let lines: Vec<TextLine> = text.lines().zip(1..).map(|(text, line)| TextLine { line, text: text.to_owned() }).collect();
    for from in 0..lines.len().min(50) {
        if let Some(told) = read(&lines[from..]) {
            told.crash.record();
        }
    }
});
