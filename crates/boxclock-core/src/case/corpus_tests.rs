//! Every file of `tests/data/formats` is read as its row in `formats.tsv` says: format, events, severities, first and last
//! time. The counts there were made with other programs, see `tests/data/README.md`. Since each file must get its own
//! format in the contest of all, no format claims another's files.

use std::collections::BTreeMap;
use std::fmt::Write;
use std::fs::{self, File};
use std::path::Path;
use std::time::{Duration, UNIX_EPOCH};

use super::*;
use crate::clock::to_rfc3339;
use crate::event::Row;

/// What reading a file came to, as a row of the table.
fn row(case: &Case, loaded: &Loaded, index: usize) -> String {
    let source = &case.sources[index];
    let report = &loaded.reports[index];
    let mut severities: BTreeMap<u8, usize> = BTreeMap::new();
    for row in 0..loaded.table.len() as u32 {
        let event = loaded.table.event(Row(row));
        if event.source() == index {
            *severities.entry(event.severity().0).or_default() += 1;
        }
    }
    let severities = severities.iter().fold(String::new(), |mut text, (severity, count)| {
        let _ = write!(text, "{severity}:{count} ");
        text
    });
    let time = |time: Option<i64>| time.map_or("-".into(), to_rfc3339);
    let (name, format, events) = (&source.name, source.reader.name(), report.events);
    let name = name.rsplit('/').next().unwrap_or(name);
    let name = name.split('!').next().unwrap_or(name);
    format!("{name}\t{format}\t{events}\t{}\t{}\t{}", severities.trim_end(), time(report.first), time(report.last))
}

#[test]
fn every_format_reads_its_files() {
    let data = Path::new(env!("CARGO_MANIFEST_DIR")).join("tests/data");
    let folder = tempfile::tempdir().unwrap();
    // The times of files decide about missing years and dates: a checkout does not keep them.
    let modified = UNIX_EPOCH + Duration::from_secs(1_795_474_800);
    for entry in fs::read_dir(data.join("formats")).unwrap() {
        let entry = entry.unwrap();
        let copy = folder.path().join(entry.file_name());
        fs::copy(entry.path(), &copy).unwrap();
        File::options().append(true).open(&copy).unwrap().set_modified(modified).unwrap();
    }
    let case = Case::open(&[folder.path().to_path_buf()], Options::default(), &Work::default()).unwrap();
    let loaded = case.load(&Work::default()).unwrap();
    assert_eq!(case.left_out, []);
    let read: Vec<String> = (0..case.sources.len()).map(|index| row(&case, &loaded, index)).collect();
    let expected = fs::read_to_string(data.join("formats.tsv")).unwrap();
    // For new files: what is written then is to be checked by other means before it is kept.
    if std::env::var_os("UPDATE_FORMATS").is_some() {
        let head: Vec<&str> = expected.lines().filter(|line| line.starts_with('#')).collect();
        let rows = head.iter().copied().chain(read.iter().map(String::as_str)).collect::<Vec<_>>().join("\n");
        fs::write(data.join("formats.tsv"), rows + "\n").unwrap();
        return;
    }
    let expected: Vec<&str> = expected.lines().filter(|line| !line.starts_with('#')).collect();
    for (read, expected) in read.iter().zip(&expected) {
        assert_eq!(read, expected);
    }
    assert_eq!(read.len(), expected.len(), "{}", read.join("\n"));
}

#[test]
fn a_kernel_panic_has_its_trace_though_each_line_has_its_time() {
    let path = Path::new(env!("CARGO_MANIFEST_DIR")).join("tests/data/formats/panic.txt");
    let case = Case::open(&[path], Options::default(), &Work::default()).unwrap();
    let loaded = case.load(&Work::default()).unwrap();
    let mut reader = crate::event::RecordReader::new(std::sync::Arc::clone(&case.sources));
    let traces: Vec<_> = (0..loaded.table.len() as u32)
        .map(|row| reader.record(loaded.table.event(Row(row))))
        .filter(|record| record.attributes.contains_key("exception.type"))
        .collect();
    assert_eq!(traces.len(), 1, "{traces:?}");
    let message = traces[0].attributes["exception.message"].as_str().unwrap();
    assert!(message.starts_with("Kernel panic - not syncing: VFS: Unable to mount root fs"), "{message}");
    let frames = traces[0].attributes["exception.frames"].to_string();
    // `? rest_init` is a guess of the kernel's own and left out.
    assert_eq!(frames.matches("+0x").count(), 7, "{frames}");
    assert!(frames.contains("mount_block_root+0x14e/0x1e6") && !frames.contains("rest_init"), "{frames}");
}
