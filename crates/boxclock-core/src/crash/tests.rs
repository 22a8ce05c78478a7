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
    assert_eq!(crash.time, None, "a core does not say when it was written");
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
    assert_eq!(crate::clock::to_rfc3339(crash.time.unwrap()), "2026-11-23T07:48:13.000000000Z");
    assert_eq!((crash.pid, crash.tid), (Some(32), Some(36)));
    assert_eq!(crash.code, Some(Code { family: Family::NtStatus, number: 0xC000_0005 }));
    assert_eq!(crash.address, Some(0x1_4000_1691));
    assert_eq!(crash.modules.len(), 8);
    assert_eq!(crash.module().map(Module::name), Some("feeder.exe"));
    assert_eq!(crash.platform, Platform::Windows);
    assert!(crash.trouble.is_empty(), "{:?}", crash.trouble);
}

/// Written by the program itself, built for 32 bits, through another implementation of the Windows interfaces.
#[test]
fn minidump_of_a_32_bit_program() {
    let packed = std::fs::read(sample("feeder32.dmp.gz")).unwrap();
    let mut bytes = Vec::new();
    std::io::Read::read_to_end(&mut flate2::read::GzDecoder::new(packed.as_slice()), &mut bytes).unwrap();
    let mut file = tempfile::NamedTempFile::new().unwrap();
    std::io::Write::write_all(&mut file, &bytes).unwrap();
    let report = examine(recognise(&bytes).unwrap(), file.path(), &mut Programs::new(&[], None));
    assert_eq!(report.crash.what.address, Some(0x18));
    assert_eq!(report.crash.what.access.map(Access::name), Some("read"));
    let stack: Vec<(&str, u64)> =
        report.frames.iter().take(4).filter_map(|frame| Some((frame.module.as_deref()?, frame.offset?))).collect();
    assert_eq!(
        stack,
        [("feeder.exe", 0x17E5), ("feeder.exe", 0x1802), ("feeder.exe", 0x138E), ("kernel32.dll", 0x2_93E0)],
        "the inner and outer function and main, as `objdump -d` has them"
    );
}

const ARM_BASE: u64 = 0x1_4000_0000;
/// Where a module lay that was unloaded.
const ARM_GONE: u64 = 0x1_8000_0000;

/// A minidump of a process of ARM64 that failed at `instruction`, laid out by hand after the structures of `minidumpapiset.h` and the
/// `CONTEXT` of that processor in `winnt.h`. Its stack stands in the list of threads only.
fn arm64_dump(instruction: u64) -> tempfile::NamedTempFile {
    const STACK: u64 = 0x7F_0000;
    let mut bytes = vec![0; 0x1000];
    let mut at = |place: usize, words: &[u32]| {
        for (index, word) in words.iter().enumerate() {
            bytes[place + 4 * index..place + 4 * index + 4].copy_from_slice(&word.to_le_bytes());
        }
    };
    let halves = |value: u64| [value as u32, (value >> 32) as u32];
    let [base, base_high] = halves(ARM_BASE);
    let ([gone, gone_high], [now, now_high]) = (halves(ARM_GONE), halves(instruction));
    at(0, &[0x504D_444D, 0xA793, 5, 32, 0, 1_775_961_067, 0, 0]);
    // Kind, bytes and place of: system, threads, modules, exception, unloaded modules.
    at(32, &[7, 56, 0x100, 3, 52, 0x140, 4, 112, 0x180, 6, 168, 0x200, 14, 36, 0x900]);
    at(0x100, &[12, 0x0100_0001, 10, 0, 22000, 2]);
    // One thread: number, three words, its environment block, then its stack and its context.
    at(0x140, &[1, 77, 0, 0, 0, 0, 0, STACK as u32, 0, 64, 0x700, 0x390, 0x300]);
    at(0x180, &[1, base, base_high, 0x1_0000, 0, 1_700_000_000, 0x2C0]);
    at(0x200, &[77, 0, 0xC000_0005, 0, 0, 0, now, now_high, 2, 0, 1, 0, 0x10, 0]);
    at(0x200 + 8 + 152, &[0x390, 0x300]);
    // x29 at 0xF0, x30 at 0xF8, the stack pointer at 0x100, the program counter at 0x108.
    at(0x300, &[0x0040_000F]);
    at(0x300 + 0xF0, &[STACK as u32, 0, base + 0x2000, base_high, STACK as u32, 0, now, now_high]);
    // Frames: the one before, and where it goes on.
    at(0x700, &[STACK as u32 + 32, 0, base + 0x2800, base_high]);
    at(0x720, &[0, 0, base + 0x3000, base_high]);
    at(0x900, &[12, 24, 1, gone, gone_high, 0x1_0000, 0, 1_600_000_000, 0x2E0]);
    for (place, name) in [(0x2C0, "feeder.exe"), (0x2E0, "bridge.dll")] {
        let wide: Vec<u8> = name.encode_utf16().flat_map(u16::to_le_bytes).collect();
        bytes[place] = wide.len() as u8;
        bytes[place + 4..place + 4 + wide.len()].copy_from_slice(&wide);
    }
    let mut file = tempfile::NamedTempFile::new().unwrap();
    std::io::Write::write_all(&mut file, &bytes).unwrap();
    file
}

#[test]
fn minidump_of_an_arm64_program_is_followed_by_its_frame_pointers() {
    let file = arm64_dump(ARM_BASE + 0x1234);
    let format = recognise(b"MDMP\x93\xA7\0\0").unwrap();
    let report = examine(format, file.path(), &mut Programs::new(&[], None));
    assert_eq!((report.crash.tid, report.crash.what.address), (Some(77), Some(0x10)), "{:?}", report.crash.trouble);
    assert_eq!(report.crash.what.access.map(Access::name), Some("write"));
    let stack: Vec<Option<u64>> = report.frames.iter().map(|frame| frame.offset).collect();
    assert_eq!(stack, [Some(0x1234), Some(0x2800), Some(0x3000)], "{:?}", report.frames);
    assert!(report.frames.iter().all(|frame| frame.module.as_deref() == Some("feeder.exe")));
}

#[test]
fn a_module_that_was_unloaded_and_called_is_to_blame() {
    let file = arm64_dump(ARM_GONE + 0x44);
    let format = recognise(b"MDMP\x93\xA7\0\0").unwrap();
    let mut report = examine(format, file.path(), &mut Programs::new(&[], None));
    let stack: Vec<(&str, u64)> =
        report.frames.iter().filter_map(|frame| Some((frame.module.as_deref()?, frame.offset?))).collect();
    // Called where nothing is any more: the register that links back has the caller.
    let called = [("bridge.dll", 0x44), ("feeder.exe", 0x2000), ("feeder.exe", 0x2800), ("feeder.exe", 0x3000)];
    assert_eq!(stack, called, "{:?}", report.frames);
    let class = judge::refine(&mut report.crash, &report.frames);
    let verdict = judge::judge(&report.crash, &report.frames, class, report.crash.time);
    assert_eq!(verdict.suspects[0].module, "bridge.dll");
    assert!(verdict.suspects[0].why[0].contains("unloaded by then"), "{:?}", verdict.suspects[0].why);
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

fn examined(name: &str, files: &[ProgramFile]) -> CrashReport {
    let path = sample(name);
    let mut start = std::fs::read(&path).unwrap();
    start.truncate(4096);
    examine(recognise(&start).unwrap(), &path, &mut Programs::new(files, None))
}

fn functions(report: &CrashReport) -> Vec<&str> {
    report.frames.iter().filter_map(|frame| frame.function.as_deref()).collect()
}

#[test]
fn a_stack_without_frame_pointers_is_walked_by_its_unwind_tables() {
    let files = [ProgramFile { path: sample("crashes/feed"), name: "usr/bin/feed".into(), host: None }];
    let report = examined("crashes/feed.core", &files);
    assert_eq!(functions(&report), ["feed_tank", "night_round", "_start"]);
    let found: Vec<&str> = report.frames.iter().map(|frame| frame.found.name()).collect();
    assert_eq!(found, ["context", "unwind-table", "unwind-table"]);
    assert!(report.frames.iter().all(|frame| frame.sure == Sure::Certain && frame.module.as_deref() == Some("feed")));
    assert_eq!(
        report.crash.what.words.as_deref(),
        Some("it wrote to address 0x8, near null: a field or element of a null pointer")
    );
    assert_eq!(report.crash.what.detail.as_deref(), Some("SEGV_MAPERR"));
    // `readelf -n feed`
    let id = report.crash.modules[0].build_id.as_deref().unwrap();
    assert_eq!(id.len(), 40, "{id}");
    assert!(report.missing.is_empty());
}

/// A core of a 32-bit program without unwind tables, and one of ARM64 that has no list of its mapped files: in both the handler of a
/// fault ended the program, and what failed stands behind the frame that the kernel made for it.
#[test]
fn behind_the_handler_of_a_signal_stands_what_failed() {
    for name in ["pump-x86", "pump-arm64"] {
        let files = [ProgramFile { path: sample(&format!("crashes/{name}")), name: name.into(), host: None }];
        let report = examined(&format!("crashes/{name}.core"), &files);
        let own = ["on_fault", "pump_push", "pump_start", "_start"];
        let known: Vec<&str> = functions(&report).into_iter().filter(|name| own.contains(name)).collect();
        assert_eq!(known, own, "{name}: {:?}", report.frames);
        let is_handler: Vec<usize> =
            (0..report.frames.len()).filter(|at| report.frames[*at].is_signal_handler_return).collect();
        assert_eq!(is_handler, [1], "{name}: the frame behind on_fault");
    }
    let files = [("x/pump-x86", "crashes/pump-x86"), ("x/core", "crashes/pump-x86.core")];
    let files = files.map(|(name, from)| (name, std::fs::read(sample(from)).unwrap()));
    let case = crate::testing::case(&[(files[0].0, files[0].1.as_slice()), (files[1].0, files[1].1.as_slice())]);
    let found = case.view().run(&CrashAnalysis, &crate::work::Work::default()).unwrap();
    let first = &found[0].verdict.suspects[0];
    assert_eq!((first.module.as_str(), found[0].verdict.provable), ("pump-x86", true));
    assert!(first.why[0].contains("pump_push"), "{:?}", first.why);
    let words = found[0].crash.what.words.as_deref().unwrap_or_default();
    assert!(words.contains("own handler of SIGSEGV") && words.contains("wrote to a null pointer"), "{words}");
}

#[test]
fn a_core_without_a_list_of_files_still_names_its_modules() {
    let report = examined("crashes/pump-arm64.core", &[]);
    let crash = &report.crash;
    assert_eq!(crash.executable.as_deref(), Some("./pump-arm64"));
    // `readelf -n pump-arm64`
    assert_eq!(crash.modules[0].build_id.as_deref(), Some("6f1e8431b7ee008e"));
    let wide = examined("crashes/pump-x86.core", &[]);
    let own = wide.crash.modules.iter().find(|module| module.path == "[vdso]").unwrap();
    assert!(own.image.is_some() && own.build_id.is_some(), "the kernel's own library is in the dump only");
}

#[test]
fn without_the_program_the_names_are_missing_and_said_to_be() {
    let mut programs = Programs::new(&[], None);
    programs.this_machine = false;
    let report = examine(&elf_core::ElfCore, &sample("crashes/feed.core"), &mut programs);
    assert!(functions(&report).is_empty());
    assert_eq!(report.frames[0].offset, Some(0x114));
    assert!(report.missing[0].ends_with("/feed"), "{:?}", report.missing);
    let words = report.missing_words().unwrap();
    assert!(words.starts_with("program files not at hand: 1 of 1") && words.contains("--programs"), "{words}");
}

/// A packed section may claim any size: what it claims is not reserved.
#[test]
fn debugging_data_that_claims_to_unpack_to_an_exabyte_is_left_alone() {
    let mut program = std::fs::read(sample("crashes/feed")).unwrap();
    let word = |bytes: &[u8], at: usize| u64::from_le_bytes(bytes[at..at + 8].try_into().unwrap());
    let (table, count) = (word(&program, 40) as usize, usize::from(program[60]));
    let names = usize::from(program[62]);
    let names_at = word(&program, table + names * 64 + 24) as usize;
    let section = (0..count).map(|at| table + at * 64).find(|at| {
        let name = u32::from_le_bytes(program[*at..at + 4].try_into().unwrap()) as usize;
        program[names_at + name..].starts_with(b".eh_frame\0")
    });
    let section = section.unwrap();
    // SHF_COMPRESSED, and a header of compression that claims 2^60 bytes.
    program[section + 9] |= 0x08;
    let data = word(&program, section + 24) as usize;
    program[data..data + 4].copy_from_slice(&1_u32.to_le_bytes());
    program[data + 8..data + 16].copy_from_slice(&(1_u64 << 60).to_le_bytes());
    let folder = tempfile::tempdir().unwrap();
    let path = folder.path().join("feed");
    std::fs::write(&path, program).unwrap();
    let files = [ProgramFile { path, name: "feed".into(), host: None }];
    let report = examine(&elf_core::ElfCore, &sample("crashes/feed.core"), &mut Programs::new(&files, None));
    assert_eq!(functions(&report)[0], "feed_tank");
    assert_ne!(report.frames[1].found, Found::UnwindTable);
}

#[test]
fn a_program_of_another_build_is_not_used() {
    let folder = tempfile::tempdir().unwrap();
    let mut other = std::fs::read(sample("crashes/feed")).unwrap();
    let report = examined("crashes/feed.core", &[]);
    let id = report.crash.modules[0].build_id.clone().unwrap();
    let first: Vec<u8> = (0..4).map(|at| u8::from_str_radix(&id[at * 2..at * 2 + 2], 16).unwrap()).collect();
    let at = other.windows(4).position(|window| window == first).unwrap();
    other[at] ^= 0xFF;
    let path = folder.path().join("feed");
    std::fs::write(&path, other).unwrap();
    let files = [ProgramFile { path, name: "feed".into(), host: None }];
    let mut programs = Programs::new(&files, None);
    programs.this_machine = false;
    let report = examine(&elf_core::ElfCore, &sample("crashes/feed.core"), &mut programs);
    assert!(functions(&report).is_empty(), "names of another build would be wrong ones");
}

/// A small dump of 64 bits with one driver on its stack, as `kernel_dump.rs` describes it.
fn small_dump(stop: u32, parameters: [u64; 4]) -> Vec<u8> {
    const BASE: u64 = 0xFFFF_F800_0000_0000;
    let drivers = [("ntoskrnl.exe", BASE, 0xA1B2_4C3D_u32), ("twbridge.sys", BASE + 0x100_0000, 1_458_000_000)];
    let mut image = vec![0_u8; 0x2200];
    let mut put = |at: usize, bytes: &[u8]| image[at..at + bytes.len()].copy_from_slice(bytes);
    put(0, b"PAGEDU64");
    put(0x30, &0x8664_u32.to_le_bytes());
    put(0x38, &stop.to_le_bytes());
    for (index, value) in parameters.into_iter().enumerate() {
        put(0x40 + index * 8, &value.to_le_bytes());
    }
    let top = 0xFFFF_D000_0000_1000_u64;
    put(0x348 + 0x98, &top.to_le_bytes());
    put(0x348 + 0xF8, &(BASE + 0x4000).to_le_bytes());
    put(0xF98, &4_u32.to_le_bytes());
    put(0xFA8, &134_204_276_000_000_000_u64.to_le_bytes());
    let (stack_at, list_at) = (0x2200_u32, 0x2400_u32);
    let pool_at = list_at + 2 * 0x90;
    let mut pool = Vec::new();
    let mut list = vec![0_u8; 2 * 0x90];
    for (index, (name, base, stamp)) in drivers.into_iter().enumerate() {
        let mut put =
            |at: usize, bytes: &[u8]| list[index * 0x90 + at..index * 0x90 + at + bytes.len()].copy_from_slice(bytes);
        put(0, &(pool_at + pool.len() as u32).to_le_bytes());
        put(0x38, &base.to_le_bytes());
        put(0x48, &0x10_0000_u32.to_le_bytes());
        put(0x88, &stamp.to_le_bytes());
        pool.extend_from_slice(&(name.len() as u32 * 2).to_le_bytes());
        pool.extend(name.encode_utf16().chain([0]).flat_map(u16::to_le_bytes));
    }
    let end = pool_at + pool.len() as u32;
    let block =
        [0, end + 4, end, 0x348, 0xF00, 0, 0, 0, 0, 0, stack_at, 0x200, list_at, 2, pool_at, pool.len() as u32, 0, 0];
    for (index, value) in block.into_iter().enumerate() {
        image[0x2000 + index * 4..][..4].copy_from_slice(&value.to_le_bytes());
    }
    image[0x2048..0x2050].copy_from_slice(&top.to_le_bytes());
    let mut stack = vec![0_u8; 0x200];
    stack[0x40..0x48].copy_from_slice(&(BASE + 0x100_3A4C).to_le_bytes());
    [image, stack, list, pool, b"TRGD".to_vec()].concat()
}

fn judged(bytes: &[u8]) -> CrashReport {
    use crate::testing::case;
    use crate::work::Work;
    let case = case(&[("keeper-desk/stop.dmp", bytes)]);
    let found = case.view().run(&CrashAnalysis, &Work::default()).unwrap();
    assert_eq!(found.len(), 1);
    found[0].clone()
}

#[test]
fn a_small_dump_names_stop_driver_and_its_age() {
    let report = judged(&small_dump(0xD1, [0x28, 2, 0, 0xFFFF_F800_0100_3A4C]));
    assert_eq!(report.format, "kernel-dump-64");
    assert_eq!(report.crash.what.name.as_deref(), Some("DRIVER_IRQL_NOT_LESS_OR_EQUAL"));
    assert_eq!((report.crash.what.address, report.crash.what.access), (Some(0x28), Some(Access::Read)));
    assert_eq!(report.crash.what.parameters[3].0, 0xFFFF_F800_0100_3A4C);
    let first = &report.verdict.suspects[0];
    assert_eq!((first.module.as_str(), report.verdict.provable), ("twbridge.sys", true));
    assert!(first.why.iter().any(|why| why.contains("built 10 years before")), "{:?}", first.why);
    let json = report.json();
    assert_eq!(json["modules"][0].get("date"), None, "the stamp of a reproducible build is no date");
    assert_eq!(json["modules"][1]["date"], "2016-03-15");
    assert_eq!(json["witnesses"][0]["module"], "ntoskrnl.exe");
    assert!(report.crash.trouble.is_empty(), "{:?}", report.crash.trouble);
}

#[test]
fn stops_of_hardware_blame_no_driver_and_damaged_memory_proves_none() {
    let hardware = judged(&small_dump(0x124, [0, 1, 2, 3]));
    assert!(hardware.verdict.suspects.is_empty() && !hardware.verdict.provable);
    assert!(hardware.summary.contains("hardware"), "{}", hardware.summary);
    let damaged = judged(&small_dump(0x1A, [0x41790, 0, 0, 0]));
    assert!(!damaged.verdict.provable && damaged.verdict.suspects[0].score < 0.5);
}

#[test]
fn a_small_dump_cut_off_or_damaged_anywhere_is_named() {
    let bytes = small_dump(0xD1, [0x28, 2, 0, 0xFFFF_F800_0100_3A4C]);
    for length in (64..bytes.len() - 4).step_by(97) {
        if let Some(Ok(crash)) = read_bytes(&bytes[..length]) {
            assert!(
                crash.trouble.iter().any(|text| text.contains("cut off") || text.contains("promises")),
                "{length}: {:?}",
                crash.trouble
            );
        }
    }
    let mut zeros = bytes[..64].to_vec();
    zeros.resize(0x3000, 0);
    assert!(!read_bytes(&zeros).unwrap().unwrap().trouble.is_empty());
}

#[test]
fn the_same_crash_has_the_same_fingerprint_wherever_it_was_loaded() {
    let crash =
        Crash { what: What { number: Some(11), name: Some("SIGSEGV".into()), ..What::default() }, ..Crash::default() };
    let frame = |address, module: &str, function: &str| Frame {
        address: Some(address),
        module: Some(module.into()),
        function: Some(function.into()),
        ..Frame::default()
    };
    let one = [frame(0x1000, "dosingd", "feed(tank*)"), frame(0x2000, "libc.so.6", "__libc_start_main")];
    let moved = [frame(0x7F00_1000, "dosingd", "feed(tank*)"), frame(0x7F00_2000, "libc.so.7", "start")];
    let other = [frame(0x1000, "dosingd", "drain(tank*)"), frame(0x2000, "libc.so.6", "__libc_start_main")];
    let print = |frames: &[Frame]| judge::fingerprint(&crash, frames);
    assert_eq!(print(&one), print(&moved));
    assert_ne!(print(&one), print(&other));
}

#[test]
fn a_dump_and_the_lines_that_tell_of_it_are_one_crash() {
    use crate::testing::case;
    use crate::work::Work;
    let core = std::fs::read(sample("crashes/feed.core")).unwrap();
    let pid = read_bytes(&core).unwrap().unwrap().pid.unwrap();
    let log = format!(
        "2026-11-29T14:32:46+00:00 pump-ctl kernel: feed[{pid}]: segfault at 8 ip 0000000000400114 sp 00007ffc9c1dd2d8 error 6 in feed[400000+1000]\n\
         2026-11-29T14:32:46+00:00 pump-ctl systemd[1]: feed.service: Main process exited, code=dumped, status=11/SEGV\n\
         2026-11-29T14:40:00+00:00 pump-ctl systemd[1]: lamp.service: Main process exited, code=killed, status=9/KILL\n\
         2026-11-29T14:41:00+00:00 pump-ctl systemd[1]: lamp.service: Main process exited, code=killed, status=15/TERM\n"
    );
    let case = case(&[("pump-ctl/core", core.as_slice()), ("pump-ctl/syslog", log.as_bytes())]);
    let found = case.view().run(&CrashAnalysis, &Work::default()).unwrap();
    let told: Vec<(&str, usize)> = found.iter().map(|one| (one.crash.what.kind.name(), one.told_by.len())).collect();
    assert_eq!(told, [("signal", 2), ("killed", 0)], "{found:#?}");
    assert_eq!(found[0].format, "elf-core");
    assert_eq!((found[0].time_from.name(), found[1].is_mark), ("log", true));
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
    fn any_bytes_of_a_small_dump_changed(at in 0x2000..0x2700_usize, value in any::<[u8; 4]>()) {
        let mut bytes = small_dump(0xD1, [0x28, 2, 0, 0xFFFF_F800_0100_3A4C]);
        let at = at.min(bytes.len() - 4);
        let end = at + 4;
        bytes[at..end].copy_from_slice(&value[..end - at]);
        let folder = tempfile::tempdir().unwrap();
        let path = folder.path().join("dump");
        std::fs::write(&path, &bytes).unwrap();
        examine(&kernel_dump::KernelDump { wide: true }, &path, &mut Programs::new(&[], None));
    }

    #[test]
    fn any_bytes_of_a_core_changed(which in 0..3_usize, at in 0..20_000_usize, value in any::<[u8; 8]>()) {
        let mut bytes = std::fs::read(sample(["crashes/feed.core", "crashes/pump-x86.core", "crashes/pump-arm64.core"][which])).unwrap();
        bytes[at..at + 8].copy_from_slice(&value);
        let folder = tempfile::tempdir().unwrap();
        let path = folder.path().join("dump");
        std::fs::write(&path, &bytes).unwrap();
        let files = ["feed", "pump-x86", "pump-arm64"].map(|name| ProgramFile {
            path: sample(&format!("crashes/{name}")),
            name: name.into(),
            host: None,
        });
        examine(&elf_core::ElfCore, &path, &mut Programs::new(&files, None));
    }

    #[test]
    fn any_bytes_behind_the_magic(which in 0..2_usize, rest in proptest::collection::vec(any::<u8>(), 0..600)) {
        let magic: &[u8] = if which == 0 { b"\x7FELF\x02\x01\x01\0\0\0\0\0\0\0\0\0\x04\0" } else { b"MDMP\x93\xA7\0\0" };
        read_bytes(&[magic, &rest].concat());
    }
}

/// A directory that names the list of modules thousands of times, whose modules all name one long text: found by a fuzzer as
/// quadratic, and 4 GiB of names at the largest. (The layout is that of the public header.)
#[test]
fn lists_that_are_named_again_and_again_are_read_once() {
    const STREAMS: usize = 20_000;
    const MODULES: usize = 5_000;
    let (table, list) = (32_u32, 32 + 12 * STREAMS as u32);
    let name = list + 4 + 108 * MODULES as u32;
    let mut bytes = b"MDMP\x93\xA7\0\0".to_vec();
    for word in [STREAMS as u32, table, 0, 1_775_961_067, 0, 0] {
        bytes.extend(word.to_le_bytes());
    }
    for _ in 0..STREAMS {
        for word in [4, 4 + 108 * MODULES as u32, list] {
            bytes.extend(word.to_le_bytes());
        }
    }
    bytes.extend((MODULES as u32).to_le_bytes());
    for _ in 0..MODULES {
        let mut module = vec![0; 108];
        module[20..24].copy_from_slice(&name.to_le_bytes());
        bytes.extend(module);
    }
    bytes.extend(60_000_u32.to_le_bytes());
    bytes.extend(vec![b'x'; 60_000]);
    let mut file = tempfile::NamedTempFile::new().unwrap();
    std::io::Write::write_all(&mut file, &bytes).unwrap();
    let mut programs = Programs::new(&[], None);
    let report = examine(recognise(&bytes).unwrap(), file.path(), &mut programs);
    assert_eq!(report.crash.modules.len(), MODULES);
    let names: usize = report.crash.modules.iter().map(|module| module.path.len()).sum();
    assert!(names < 32 << 20, "{names}");
    let trouble = report.crash.trouble.join("\n");
    assert!(trouble.contains("19999 streams of the directory repeat a kind"), "{trouble}");
    assert!(trouble.contains("all names together") && report.crash.trouble.len() < 60, "{trouble}");
}

/// Laid out by hand, after the structures of `minidumpapiset.h` and the public header of the annotations.
#[test]
fn handles_and_annotations_of_a_minidump() {
    let mut bytes = b"MDMP\x93\xA7\0\0".to_vec();
    let word = |bytes: &mut Vec<u8>, words: &[u32]| words.iter().for_each(|word| bytes.extend(word.to_le_bytes()));
    word(&mut bytes, &[2, 32, 0, 1_775_961_067, 0, 0]);
    // Handles at 56: a head of 16 bytes, two of 32; annotations at 136: 44 bytes; their list at 180.
    word(&mut bytes, &[12, 80, 56, 0x4350_0001, 44, 136]);
    word(&mut bytes, &[16, 32, 2, 0]);
    for name in [240, 0] {
        word(&mut bytes, &[4, 0, 220, name, 0, 0, 1, 1]);
    }
    word(&mut bytes, &[1]);
    bytes.extend([0; 32]);
    word(&mut bytes, &[12, 180]);
    word(&mut bytes, &[1, 260, 270]);
    bytes.resize(220, 0);
    for (at, text) in [(220, "Event"), (240, "tank")] {
        bytes.resize(at, 0);
        word(&mut bytes, &[2 * text.len() as u32]);
        text.encode_utf16().for_each(|unit| bytes.extend(unit.to_le_bytes()));
    }
    for (at, text) in [(260, "plan"), (270, "night")] {
        bytes.resize(at, 0);
        word(&mut bytes, &[text.len() as u32]);
        bytes.extend(text.as_bytes());
    }
    let mut file = tempfile::NamedTempFile::new().unwrap();
    std::io::Write::write_all(&mut file, &bytes).unwrap();
    let report = examine(recognise(&bytes).unwrap(), file.path(), &mut Programs::new(&[], None));
    let said = |name: &str| report.crash.attributes.get(name).and_then(|value| value.as_str()).map(str::to_owned);
    assert_eq!(said("dump.handles").as_deref(), Some("Event 2"));
    assert_eq!(said("dump.handle_names").as_deref(), Some("Event tank"));
    assert_eq!(said("annotation.plan").as_deref(), Some("night"));
}

#[test]
fn modules_are_listed_by_suspicion_age_and_name() {
    let module = |path: &str, built_s: Option<u32>| Module { path: path.into(), built_s, ..Module::default() };
    let path = sample("crashes/feed");
    let files = [ProgramFile { path, name: "feed".into(), host: None }];
    let mut report = examine(&elf_core::ElfCore, &sample("crashes/feed.core"), &mut Programs::new(&files, None));
    let first = report.listed_modules(ModuleOrder::Suspicion);
    assert!(first[0].name == "feed" && first[0].in_stack, "{first:?}");
    report.verdict.suspects.push(Suspect { module: "[vdso]".into(), score: 0.4, why: Vec::new() });
    assert_eq!(report.listed_modules(ModuleOrder::Suspicion)[0].name, "[vdso]");
    report.crash.modules.push(module("/usr/lib/libz.so.1.2", None));
    report.crash.modules.push(module("/srv/tank/libz.so.1.3", None));
    let names: Vec<String> = report.listed_modules(ModuleOrder::Name).into_iter().map(|module| module.name).collect();
    assert!(names.is_sorted() && names.len() == first.len() + 2, "{names:?}");
    let doubled = report.doubled_libraries();
    assert_eq!(
        doubled,
        [("libz".to_owned(), vec!["/usr/lib/libz.so.1.2".to_owned(), "/srv/tank/libz.so.1.3".to_owned()])]
    );
}

#[test]
fn kinds_of_streams_that_are_not_read_may_repeat() {
    let mut bytes = b"MDMP\x93\xA7\0\0".to_vec();
    for word in [3_u32, 32, 0, 1_775_961_067, 0, 0] {
        bytes.extend(word.to_le_bytes());
    }
    for _ in 0..3 {
        for word in [0x1_0001_u32, 4, 68] {
            bytes.extend(word.to_le_bytes());
        }
    }
    bytes.extend([0; 4]);
    let mut file = tempfile::NamedTempFile::new().unwrap();
    std::io::Write::write_all(&mut file, &bytes).unwrap();
    let report = examine(recognise(&bytes).unwrap(), file.path(), &mut Programs::new(&[], None));
    assert!(!report.crash.trouble.iter().any(|trouble| trouble.contains("repeat")), "{:?}", report.crash.trouble);
}
