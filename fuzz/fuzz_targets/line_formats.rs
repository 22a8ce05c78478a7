//! Any lines to every text format: heads within their lines, tails, records, the contest.
#![no_main]

use boxclock_core::format::{LINE_FORMATS, contest};
use libfuzzer_sys::fuzz_target;

fuzz_target!(|data: &[u8]| {
    let Some((hint, text)) = data.split_first() else { return };
    let lines: Vec<&[u8]> = text.split(|byte| *byte == b'\n').collect();
    let whole = String::from_utf8_lossy(text);
    for format in LINE_FORMATS {
        let fit = format.fit(&lines);
        let format = fit.made.unwrap_or(format);
        for hint in [fit.hint, u16::from(*hint)] {
            for line in &lines {
                if let Some(head) = format.head(line, hint) {
                    assert!(head.body <= line.len());
                }
                format.tail(line, hint);
            }
            format.record(&whole, hint);
            format.header(&lines, hint, 0);
            format.settle(&lines, &mut lines.iter().map(|line| line.to_vec()), hint, None, 0);
        }
    }
    contest(&lines, &[]);
});
