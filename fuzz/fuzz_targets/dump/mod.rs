//! What the targets of all readers of dumps do.

use boxclock_core::crash;

/// Reads bytes behind the magic of a dump as a crash with its stack, or as a reason why not.
pub fn examine(magic: &[u8], rest: &[u8]) {
    let bytes = [magic, rest].concat();
    let Some(format) = crash::recognise(&bytes) else { return };
    let mut file = tempfile::NamedTempFile::new().expect("a temporary file");
    std::io::Write::write_all(&mut file, &bytes).expect("a temporary file");
    let mut programs = crash::Programs::new(&[], None);
    programs.this_machine = false;
    let report = crash::examine(format, file.path(), &mut programs);
    report.crash.record();
    report.json();
}
