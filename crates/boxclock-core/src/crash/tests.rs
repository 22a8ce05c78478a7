//! The dump readers against dumps that real programs wrote, and against any damage.

use std::path::{Path, PathBuf};

use proptest::prelude::*;

use super::*;
use crate::code::Family;

fn sample(name: &str) -> PathBuf {
    Path::new(env!("CARGO_MANIFEST_DIR")).join("tests/data").join(name)
}

fn read_bytes(bytes: &[u8]) -> Option<Result<Crash>> {
    let folder = tempfile::tempdir().unwrap();
    let path = folder.path().join("dump");
    std::fs::write(&path, bytes).unwrap();
    recognise(&bytes[..bytes.len().min(64)]).map(|format| read(format, &path))
}

#[test]
fn core_that_the_kernel_wrote() {
    let bytes = std::fs::read(sample("feeder.core")).unwrap();
    let crash = read_bytes(&bytes).unwrap().unwrap();
    assert_eq!(crash.process.as_deref(), Some("feeder"));
    assert_eq!(crash.code, Some(Code { family: Family::Signal, number: 11 }));
    assert_eq!(crash.time, NO_TIME, "a core does not say when it was written");
    assert_eq!(crash.attributes["process.command_line"], "./feeder --tank kelp");
    assert_eq!(crash.attributes["signal.address"], "0x10");
    assert_eq!(crash.module().map(Module::name), Some("feeder"));
    assert!(crash.trouble.is_empty(), "{:?}", crash.trouble);
    assert_eq!(crash.record().body, "feeder stopped: signal 11 SIGSEGV (segmentation fault) in feeder");
}

#[test]
fn minidump_that_another_program_wrote() {
    let bytes = std::fs::read(sample("feeder.dmp")).unwrap();
    let crash = read_bytes(&bytes).unwrap().unwrap();
    assert_eq!(crate::clock::to_rfc3339(crash.time), "2026-11-23T07:48:13.000000000Z");
    assert_eq!((crash.pid, crash.tid), (Some(32), Some(36)));
    assert_eq!(crash.code, Some(Code { family: Family::NtStatus, number: 0xC000_0005 }));
    assert_eq!(crash.address, Some(0x1_4000_1691));
    assert_eq!(crash.modules.len(), 8);
    assert_eq!(crash.module().map(Module::name), Some("feeder.exe"));
    assert_eq!(crash.platform, Platform::Windows);
    assert!(crash.trouble.is_empty(), "{:?}", crash.trouble);
}

#[test]
fn a_dump_cut_off_anywhere_says_so() {
    for name in ["feeder.core", "feeder.dmp"] {
        let bytes = std::fs::read(sample(name)).unwrap();
        for length in (0..bytes.len().min(6000)).step_by(7).chain([bytes.len() - 2000]) {
            if let Some(Ok(crash)) = read_bytes(&bytes[..length]) {
                assert!(
                    crash.trouble.iter().any(|text| text.contains("cut off")),
                    "{name} at {length}: {:?}",
                    crash.trouble
                );
            }
        }
    }
}

#[test]
fn numbers_that_promise_too_much() {
    let mut core = std::fs::read(sample("feeder.core")).unwrap();
    // A note segment of 2^60 bytes: the program header of the notes is the first one, its file size at 32.
    core[64 + 32..64 + 40].copy_from_slice(&(1_u64 << 60).to_le_bytes());
    let crash = read_bytes(&core).unwrap().unwrap();
    assert!(crash.trouble.iter().any(|text| text.contains("only the first")), "{:?}", crash.trouble);
    let mut dump = std::fs::read(sample("feeder.dmp")).unwrap();
    dump[8..12].copy_from_slice(&u32::MAX.to_le_bytes());
    let crash = read_bytes(&dump).unwrap().unwrap();
    assert!(!crash.trouble.is_empty());
}

/// Found by the fuzz target `dumps`: 65 535 program headers of 65 535 bytes each reserved 4 GiB for a file of 70 bytes.
#[test]
fn a_program_header_table_larger_than_the_file_reserves_nothing() {
    let mut core = b"\x7FELF\x02\x01\x01\0\0\0\0\0\0\0\0\0\x04\0".to_vec();
    core.resize(70, 0xFF);
    core[32..40].copy_from_slice(&64_u64.to_le_bytes());
    let crash = read_bytes(&core).unwrap().unwrap();
    assert!(crash.trouble.iter().any(|text| text.contains("65535 program headers at byte 64")), "{:?}", crash.trouble);
}

proptest! {
    #![proptest_config(ProptestConfig::with_cases(64))]

    #[test]
    fn any_byte_changed(which in 0..2_usize, at in 0..5000_usize, value in any::<u8>()) {
        let mut bytes = std::fs::read(sample(["feeder.core", "feeder.dmp"][which])).unwrap();
        bytes[at] = value;
        bytes.truncate(8000);
        read_bytes(&bytes);
    }

    #[test]
    fn any_bytes_behind_the_magic(which in 0..2_usize, rest in proptest::collection::vec(any::<u8>(), 0..600)) {
        let magic: &[u8] = if which == 0 { b"\x7FELF\x02\x01\x01\0\0\0\0\0\0\0\0\0\x04\0" } else { b"MDMP\x93\xA7\0\0" };
        read_bytes(&[magic, &rest].concat());
    }
}
