//! Any lines in the contest of the formats, and any text as a format of the user's own.
#![no_main]

use boxclock_core::format::{self, OwnFormat};
use libfuzzer_sys::fuzz_target;

fuzz_target!(|data: &[u8]| {
    let lines: Vec<&[u8]> = data.split(|byte| *byte == b'\n').filter(|line| !line.is_empty()).collect();
    let contest = format::contest(&lines, &[]);
    assert!(contest.contenders.iter().all(|contender| contender.heads <= lines.len()));
    contest.reason();
    let detected = contest.winner;
    // The file's own time is as odd as the file says.
    let modified = i64::from_le_bytes(data.last_chunk().copied().unwrap_or_default());
    detected.format.header(&lines, detected.hint, modified);
    let mut whole = lines.iter().map(|line| line.to_vec());
    let settled = detected.format.settle(&lines, &mut whole, detected.hint, None, modified);
    let hint = settled.map_or(detected.hint, |settled| settled.hint);
    for line in &lines {
        if let Some(head) = detected.format.head(line, hint) {
            assert!(head.body <= line.len());
        }
        detected.format.tail(line, hint);
        detected.format.is_fields(line);
        detected.format.column_codes(line, &mut |found| assert!(found.end <= line.len()));
        detected.format.record(&String::from_utf8_lossy(line), hint);
    }
    if let Ok(text) = std::str::from_utf8(data) {
        if let Ok(own) = OwnFormat::parse(text) {
            let line = lines.first().copied().unwrap_or_default();
            format::LineFormat::head(&own, line, 0);
        }
    }
});
