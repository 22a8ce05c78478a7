//! Reading a dump with its stack, and what stack and program files add to what the dump says.

use std::fs::File;
use std::path::Path;

use super::memory::Machine;
use super::program::Programs;
use super::report::{CrashPlace, CrashReport};
use super::stack::{Frame, address_in_file, frame_at};
use super::walk::Walker;
use super::{Access, Crash, DumpFormat, Kind, Nature, instruction, read, signal};

/// Reads a dump with its stacks.
pub fn examine(format: &dyn DumpFormat, path: &Path, programs: &mut Programs<'_>) -> CrashReport {
    let place = CrashPlace { source: path.display().to_string(), line: 1 };
    let read = read(format, path);
    let mut report = match read {
        Ok(crash) => CrashReport::new(place, format.name(), crash),
        Err(error) => {
            let crash = Crash { trouble: vec![error.to_string()], ..Crash::default() };
            return CrashReport::new(place, format.name(), crash);
        }
    };
    let crash = &report.crash;
    report.frames.clone_from(&crash.frames);
    // Without registers the address of the failure is all that is known.
    if let (None, Some(address)) = (crash.thread().and_then(|thread| thread.registers.as_ref()), crash.address)
        && report.frames.is_empty()
    {
        report.frames.push(frame_at(crash, programs, address, address));
    }
    let (mut is_damaged, mut handled) = (false, None);
    if report.frames.is_empty()
        && let Ok(file) = File::open(path)
    {
        let mut walker = Walker { crash, file: &file, programs, is_damaged: false, handled: None };
        if let Some(registers) = crash.thread().and_then(|thread| thread.registers.as_ref()) {
            report.frames = walker.stack(registers);
            is_damaged = walker.is_damaged;
            handled = walker.handled;
        }
    }
    if let Some((info, access)) = handled {
        let what = signal::what(info, report.crash.pid, access, None, &report.crash.memory);
        let name = what.name.unwrap_or_default();
        let words = what.words.map_or(String::new(), |words| format!(", which came since {words}"));
        report.crash.what.words = Some(format!("the program's own handler of {name} ended it{words}"));
        report.crash.what.address = report.crash.what.address.or(what.address);
        report.crash.what.nature = Nature::Handled;
    }
    if is_damaged && report.crash.what.number == Some(11) {
        let words = "it left a function whose stack frame is damaged: its return address was overwritten by a write beyond a local variable";
        report.crash.what.words = Some(words.into());
        report.crash.what.nature = Nature::DamagedFrame;
    }
    let access = told_access(&report.crash, &report.frames, programs);
    if let Some((access, address)) = access.zip(report.crash.what.address) {
        let registers = report.crash.thread().and_then(|thread| thread.registers.clone());
        report.crash.what.touch(address, Some(access), registers.as_ref(), &report.crash.memory);
    }
    let crash = &report.crash;
    for frame in &report.frames {
        let module = frame.module.as_ref().and_then(|name| crash.modules.iter().find(|module| module.name() == name));
        if let Some(module) = module.filter(|module| !module.path.starts_with('['))
            && programs.of(module).is_none()
            && !format.is_text()
            && !report.missing.contains(&module.path)
        {
            report.missing.push(module.path.clone());
        }
    }
    report
}

/// What the failing instruction did, from the program's file, where the dump does not hold its bytes.
fn told_access(crash: &Crash, frames: &[Frame], programs: &mut Programs<'_>) -> Option<Access> {
    let registers = crash.thread()?.registers.as_ref()?;
    let asked = crash.what.kind == Kind::Signal
        && crash.what.number == Some(11)
        && crash.what.address.is_some()
        && crash.what.access.is_none()
        && registers.machine != Machine::Arm64;
    frames.first().filter(|_| asked)?;
    let module = crash.module_at(registers.instruction)?;
    let program = programs.of(module)?;
    let at = address_in_file(module, registers.instruction, &program)?;
    instruction::access(program.bytes_at(at, 16)?)
}
