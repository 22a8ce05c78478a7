//! Any bytes as a file: encodings, detection, records, accounting.
#![no_main]

use boxclock_core::case::{Case, Options};
use boxclock_core::event::{RecordReader, Row};
use boxclock_core::work::Work;
use libfuzzer_sys::fuzz_target;

fuzz_target!(|data: &[u8]| {
    let mut file = tempfile::NamedTempFile::new().expect("a temporary file");
    std::io::Write::write_all(&mut file, data).expect("a temporary file");
    let Ok(case) = Case::open(&[file.path().to_path_buf()], Options::default(), &Work::default()) else { return };
    let loaded = case.load(&Work::default()).expect("nobody cancelled");
    let Some(report) = loaded.reports.first() else { return };
    let table = &loaded.table;
    assert_eq!(table.len() as u64, report.events);
    assert_eq!(table.order.len(), table.len());
    let mut reader = RecordReader::new(std::sync::Arc::clone(&case.sources));
    let mut covered = 0;
    for row in 0..table.len() as u32 {
        let event = table.event(Row(row));
        covered += event.length();
        reader.record(event);
    }
    // What is decoded is read from a text of our own, with a length of its own.
    if case.sources.first().is_some_and(|source| source.decoded.is_some()) {
        return;
    }
    if let Some(first) = (!table.is_empty()).then(|| table.event(Row(0)).offset()) {
        assert_eq!(first + covered, data.len() as u64);
    }
});
