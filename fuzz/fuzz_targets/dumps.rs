//! Any bytes behind the magic of a dump: a crash, or a reason why not.
#![no_main]

use boxclock_core::crash;
use libfuzzer_sys::fuzz_target;

fuzz_target!(|data: &[u8]| {
    let Some((which, rest)) = data.split_first() else { return };
    let magic: &[u8] = match which % 3 {
        0 => b"\x7FELF\x02\x01\x01\0\0\0\0\0\0\0\0\0\x04\0",
        1 => b"\x7FELF\x01\x02\x01\0\0\0\0\0\0\0\0\0\0\x04",
        _ => b"MDMP\x93\xA7\0\0",
    };
    let bytes = [magic, rest].concat();
    let Some(format) = crash::recognise(&bytes) else { return };
    let mut file = tempfile::NamedTempFile::new().expect("a temporary file");
    std::io::Write::write_all(&mut file, &bytes).expect("a temporary file");
    if let Ok(crash) = crash::read(format, file.path()) {
        crash.record();
    }
});
