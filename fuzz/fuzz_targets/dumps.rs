//! Any bytes behind the magic of a dump: a crash with its stack, or a reason why not.
#![no_main]

use boxclock_core::crash;
use libfuzzer_sys::fuzz_target;

fuzz_target!(|data: &[u8]| {
    let Some((which, rest)) = data.split_first() else { return };
    let magic: &[u8] = match which % 5 {
        0 => b"\x7FELF\x02\x01\x01\0\0\0\0\0\0\0\0\0\x04\0",
        1 => b"\x7FELF\x01\x02\x01\0\0\0\0\0\0\0\0\0\0\x04",
        2 => b"PAGEDU64",
        3 => b"PAGEDUMP",
        _ => b"MDMP\x93\xA7\0\0",
    };
    let bytes = [magic, rest].concat();
    let Some(format) = crash::recognise(&bytes) else { return };
    let mut file = tempfile::NamedTempFile::new().expect("a temporary file");
    std::io::Write::write_all(&mut file, &bytes).expect("a temporary file");
    let mut programs = crash::Programs::new(&[], None);
    programs.this_machine = false;
    let report = crash::examine(format, file.path(), &mut programs);
    report.crash.record();
    report.json();
});
