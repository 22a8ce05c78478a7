//! `minidump`: dumps of a user program, as Windows and several crash handlers write them.
//!
//! Source of the layouts: the documentation of `MINIDUMP_HEADER`, `MINIDUMP_DIRECTORY`, `MINIDUMP_SYSTEM_INFO`,
//! `MINIDUMP_EXCEPTION_STREAM`, `MINIDUMP_MODULE`, `MINIDUMP_MISC_INFO` and `MINIDUMP_STRING` in the public header
//! `minidumpapiset.h` (all little-endian, packed to four bytes). Handlers on other systems state a platform id of
//! 0x8000 or above and put the signal's number where the exception code stands.

use std::fs::File;

use super::field::Fields;
use super::{Crash, DumpFormat, Module};
use crate::clock::SECOND;
use crate::code::{Code, Family, Platform, catalogue};
use crate::limits;

/// The format.
pub(super) struct Minidump;

const STREAM_THREADS: u32 = 3;
const STREAM_MODULES: u32 = 4;
const STREAM_EXCEPTION: u32 = 6;
const STREAM_SYSTEM: u32 = 7;
const STREAM_MISC: u32 = 15;
const MODULE_BYTES: usize = 108;
/// Bytes of one stream that are looked at (the module list of 65 536 modules is 7 MB).
const STREAM_BYTES: u64 = 16 << 20;
/// Bytes of one string.
const STRING_BYTES: u64 = 64 << 10;

impl DumpFormat for Minidump {
    fn name(&self) -> &'static str {
        "minidump"
    }

    fn recognises(&self, start: &[u8]) -> bool {
        start.starts_with(b"MDMP") && start.get(4..6) == Some(&[0x93, 0xA7])
    }

    fn read(&self, file: &File, len_bytes: u64) -> Result<Crash, String> {
        let header = Fields::read(file, 0, 32, 32, false)?;
        let (Some(count), Some(table), Some(time)) = (header.u32(8), header.u32(12), header.u32(20)) else {
            return Err(format!("the header is cut off: {len_bytes} bytes of 32"));
        };
        let mut crash = Crash { ..Crash::default() };
        if time != 0 {
            crash.time = i64::from(time).saturating_mul(SECOND);
        }
        let dump = Dump { file };
        let wanted = (count as usize).min(limits::MINIDUMP_ENTRIES);
        let directory = Fields::read(file, u64::from(table), (wanted as u64).saturating_mul(12), 12 << 16, false)?;
        if directory.len() < wanted * 12 {
            let there = directory.len() / 12;
            crash
                .trouble
                .push(format!("cut off: {there} of {count} streams of the directory at byte {table} are there"));
        }
        let mut platform = 2;
        let mut streams = Vec::new();
        for index in 0..wanted {
            let at = index * 12;
            let (Some(kind), Some(size), Some(offset)) =
                (directory.u32(at), directory.u32(at + 4), directory.u32(at + 8))
            else {
                break;
            };
            if u64::from(offset).saturating_add(u64::from(size)) > len_bytes {
                crash.trouble.push(format!(
                    "cut off at byte {len_bytes}: stream {index} (type {kind}) promises {size} bytes at byte {offset}"
                ));
            }
            streams.push((kind, u64::from(offset), u64::from(size)));
        }
        for (kind, offset, size) in streams {
            let done = match kind {
                STREAM_SYSTEM => dump.system(offset, size, &mut crash).map(|id| platform = id.unwrap_or(platform)),
                STREAM_EXCEPTION => dump.exception(offset, size, &mut crash),
                STREAM_MODULES => dump.modules(offset, size, &mut crash),
                STREAM_MISC => dump.misc(offset, size, &mut crash),
                STREAM_THREADS => dump.threads(offset, size, &mut crash),
                _ => Ok(()),
            };
            if let Err(trouble) = done {
                crash.trouble.push(trouble);
            }
        }
        crash.platform = if platform >= 0x8000 { Platform::Linux } else { Platform::Windows };
        crash.code = crash.code.map(|code| exception_code(code.number, crash.platform));
        crash.process = crash.modules.first().map(|module| module.name().to_owned());
        Ok(crash)
    }
}

fn exception_code(number: u32, platform: Platform) -> Code {
    let family = match platform {
        Platform::Linux if number <= 64 => Family::Signal,
        _ if catalogue::entry(Code { family: Family::Hresult, number }).is_some() => Family::Hresult,
        _ => Family::NtStatus,
    };
    Code { family, number }
}

struct Dump<'a> {
    file: &'a File,
}

impl Dump<'_> {
    /// The bytes of a stream that the file really holds, at most [`STREAM_BYTES`].
    fn stream(&self, offset: u64, size: u64) -> Result<Fields, String> {
        Fields::read(self.file, offset, size.min(STREAM_BYTES), STREAM_BYTES, false)
    }

    fn system(&self, offset: u64, size: u64, crash: &mut Crash) -> Result<Option<u32>, String> {
        let stream = self.stream(offset, size)?;
        if let (Some(major), Some(minor), Some(build)) = (stream.u32(8), stream.u32(12), stream.u32(16)) {
            crash.attributes.insert("os.version".into(), format!("{major}.{minor}.{build}").into());
        }
        let machine = stream.u16(0).map(|machine| match machine {
            0 => "x86".to_owned(),
            5 => "arm".to_owned(),
            9 => "x86-64".to_owned(),
            12 => "arm64".to_owned(),
            other => format!("machine {other}"),
        });
        if let Some(machine) = machine {
            crash.attributes.insert("host.arch".into(), machine.into());
        }
        Ok(stream.u32(20))
    }

    fn exception(&self, offset: u64, size: u64, crash: &mut Crash) -> Result<(), String> {
        let stream = self.stream(offset, size)?;
        crash.tid = stream.u32(0);
        // The family is settled when the system is known.
        crash.code = stream.u32(8).map(|number| Code { family: Family::NtStatus, number });
        crash.address = stream.u64(24);
        let count = stream.u32(32).unwrap_or(0).min(15) as usize;
        let parameters: Vec<String> =
            (0..count).filter_map(|index| stream.u64(40 + index * 8)).map(|value| format!("0x{value:x}")).collect();
        if !parameters.is_empty() {
            crash.attributes.insert("exception.parameters".into(), parameters.into());
        }
        Ok(())
    }

    fn modules(&self, offset: u64, size: u64, crash: &mut Crash) -> Result<(), String> {
        let stream = self.stream(offset, size)?;
        let count = stream.u32(0).ok_or_else(|| format!("the module list at byte {offset} is cut off"))? as usize;
        let fits = stream.len().saturating_sub(4) / MODULE_BYTES;
        if count > fits {
            crash.trouble.push(format!("the module list at byte {offset} promises {count} modules and holds {fits}"));
        }
        for index in 0..count.min(fits).min(limits::MINIDUMP_ENTRIES) {
            let Some(entry) = stream.part(4 + index * MODULE_BYTES, MODULE_BYTES) else { break };
            let (Some(base), Some(bytes), Some(name)) = (entry.u64(0), entry.u32(8), entry.u32(20)) else { break };
            let version = entry
                .u32(32)
                .zip(entry.u32(36))
                .filter(|_| entry.u32(24) == Some(0xFEEF_04BD))
                .map(|(high, low)| format!("{}.{}.{}.{}", high >> 16, high & 0xFFFF, low >> 16, low & 0xFFFF));
            let path = self.string(u64::from(name)).unwrap_or_else(|trouble| {
                crash.trouble.push(trouble);
                format!("module {index}")
            });
            let built_s = entry.u32(16).filter(|stamp| *stamp != 0);
            crash.modules.push(Module { path, base, end: base.saturating_add(u64::from(bytes)), version, built_s });
        }
        Ok(())
    }

    fn misc(&self, offset: u64, size: u64, crash: &mut Crash) -> Result<(), String> {
        let stream = self.stream(offset, size)?;
        let flags = stream.u32(4).unwrap_or(0);
        if flags & 1 != 0 {
            crash.pid = stream.u32(8);
        }
        if flags & 2 != 0
            && let Some(started) = stream.u32(12).filter(|started| *started != 0)
        {
            let text = crate::clock::to_rfc3339(i64::from(started).saturating_mul(SECOND));
            crash.attributes.insert("process.started".into(), text.into());
        }
        Ok(())
    }

    fn threads(&self, offset: u64, size: u64, crash: &mut Crash) -> Result<(), String> {
        let count = self.stream(offset, size.min(4))?.u32(0);
        crash.attributes.extend(count.map(|count| ("crash.threads".to_owned(), count.into())));
        Ok(())
    }

    fn string(&self, offset: u64) -> Result<String, String> {
        let length = Fields::read(self.file, offset, 4, 4, false)?
            .u32(0)
            .ok_or_else(|| format!("the string at byte {offset} is beyond the end"))?;
        let text = Fields::read(
            self.file,
            offset.saturating_add(4),
            u64::from(length).min(STRING_BYTES),
            STRING_BYTES,
            false,
        )?;
        let units: Vec<u16> = (0..text.len() / 2).filter_map(|index| text.u16(index * 2)).collect();
        Ok(String::from_utf16_lossy(&units))
    }
}
