//! Reports about native programs: sanitizers (their public report forms), the C++ runtime's `terminate`, the kernel's lines about
//! faults of programs (`arch/x86/mm/fault.c`, `arch/x86/kernel/traps.c`), and the core-dump records of a journal.

use super::{Pattern, TextLine, Told, frame, hex, number, part, set_signal};
use crate::crash::stack::Frame;
use crate::crash::{Access, Kind, Module, Thread};

/// A report of a sanitizer.
pub(super) fn sanitizer(lines: &[TextLine]) -> Option<Told> {
    static FIRST: Pattern = Pattern::new(
        r"(?:==(?P<pid>\d+)==\s*)?(?:ERROR|WARNING): (?P<tool>\w+Sanitizer)(?: \(pid=(?P<pid2>\d+)\))?:? ?(?P<rest>.*)$|(?P<tool2>\w+Sanitizer):?\s*DEADLYSIGNAL",
    );
    static WHAT: Pattern = Pattern::new(
        r"^(?:unknown-crash|(?P<what>[\w -]+?))(?: on (?:unknown )?address (?P<address>0x[0-9a-f]+))?(?: \(pc (?P<pc>0x[0-9a-f]+)|:| at | in |$|\s*\()",
    );
    static DID: Pattern = Pattern::new(
        r"^(?:==\d+==)?\s*(?:Atomic )?(?P<did>READ|WRITE|Read|Write|Previous write|Previous read) of size (?P<size>\d+)(?: at (?P<address>0x[0-9a-f]+))?",
    );
    static CAUSED: Pattern = Pattern::new(r"The signal is caused by a (?P<did>READ|WRITE) memory access");
    static FRAME: Pattern = Pattern::new(
        r"^(?:==\d+==)?\s*#(?P<index>\d+) (?:(?P<address>0x[0-9a-f]+) )?(?:in )?(?P<function>\S.*?)?\s*(?:\((?P<module>[^()+]+)\+(?P<offset>0x[0-9a-f]+)\)(?: \(BuildId: \w+\))?|(?P<file>/?[^\s:()]+):(?P<line>\d+)(?::\d+)?(?: \((?P<module2>[^()+]+)\+0x[0-9a-f]+\))?(?: \([^)]*\))?)$",
    );
    static END: Pattern = Pattern::new(r"ABORTING|^SUMMARY: \w+Sanitizer|^={10,}$");
    let mut told = Told::default();
    let crash = &mut told.crash;
    crash.what.kind = Kind::Exception;
    let (mut stacks, mut is_dead, mut tool_seen, mut body) = (0_usize, false, false, false);
    for (index, line) in lines.iter().take(2000).enumerate() {
        let text = line.text.as_str();
        if let Some(found) = FIRST.of(text) {
            if tool_seen && body {
                break;
            }
            let tool = part(&found, "tool").or(part(&found, "tool2"))?;
            tool_seen = true;
            is_dead |= text.contains("DEADLYSIGNAL");
            crash.pid = number(&found, "pid").or(number(&found, "pid2")).or(crash.pid);
            crash.attributes.insert("sanitizer".into(), tool.into());
            let rest = part(&found, "rest").unwrap_or_default();
            if let Some(found) = WHAT.of(&rest) {
                crash.what.name = part(&found, "what").or(crash.what.name.take());
                crash.what.address = hex(&found, "address");
                crash.address = hex(&found, "pc");
            }
            if crash.what.name.is_none() && !rest.is_empty() {
                crash.what.name = Some(rest.split(" (").next().unwrap_or(&rest).to_owned());
            }
        } else if let Some(found) = DID.of(text) {
            if stacks == 0 && crash.what.access.is_none() {
                crash.what.access =
                    Some(if found["did"].eq_ignore_ascii_case("read") { Access::Read } else { Access::Write });
                crash.what.address = crash.what.address.or(hex(&found, "address"));
            }
        } else if let Some(found) = CAUSED.of(text) {
            crash.what.access = Some(if &found["did"] == "READ" { Access::Read } else { Access::Write });
        } else if let Some(found) = FRAME.of(text) {
            body = true;
            if &found["index"] == "0" {
                stacks += 1;
            }
            if stacks == 1 {
                let mut at: Frame = frame(part(&found, "function"), part(&found, "module").or(part(&found, "module2")));
                at.address = hex(&found, "address");
                at.offset = hex(&found, "offset");
                at.file = part(&found, "file");
                at.line = number(&found, "line");
                crash.frames.push(at);
            }
        }
        told.lines = index + 1;
        if body && END.is_in(text) {
            if text.starts_with("SUMMARY") {
                continue;
            }
            break;
        }
    }
    body.then_some(())?;
    let program = crash
        .frames
        .iter()
        .rev()
        .find(|at| at.function.as_deref() == Some("_start") || at.function.as_deref() == Some("main"));
    crash.process = program.and_then(|at| at.module.clone());
    if crash.what.name.as_deref() == Some("SEGV") || (is_dead && crash.what.name.is_none()) {
        let (address, access) = (crash.what.address, crash.what.access);
        set_signal(crash, 11);
        if let Some(address) = address {
            crash.what.touch(address, access, None, &crash.memory);
        }
    } else {
        crash.what.words = words(crash.what.name.as_deref().unwrap_or_default()).map(str::to_owned);
    }
    Some(told)
}

fn words(name: &str) -> Option<&'static str> {
    let said = [
        ("heap-use-after-free", "it used memory of the heap after it was freed"),
        ("heap-buffer-overflow", "it went beyond the end of a block of the heap"),
        ("stack-buffer-overflow", "it went beyond the end of a local variable"),
        ("stack-buffer-underflow", "it went before the beginning of a local variable"),
        ("global-buffer-overflow", "it went beyond the end of a global variable"),
        ("stack-use-after-return", "it used a local variable of a function that had returned"),
        ("stack-use-after-scope", "it used a local variable outside the block that it lives in"),
        ("attempting double-free", "it freed the same block twice"),
        ("double-free", "it freed the same block twice"),
        ("stack-overflow", "it ran out of stack: a recursion too deep or a local variable too large"),
        ("data race", "two threads used the same memory at once, one of them writing"),
        ("heap-use-after", "it used memory of the heap after it was freed"),
        ("alloc-dealloc-mismatch", "it freed memory in another way than it was allocated"),
        ("detected memory leaks", "memory was never freed"),
        ("attempting free", "it freed memory that was not allocated"),
    ];
    said.into_iter().find(|(known, _)| name.starts_with(known)).map(|(_, words)| words)
}

/// The C++ runtime's words before it aborts.
pub(super) fn terminate(lines: &[TextLine]) -> Option<Told> {
    static FIRST: Pattern = Pattern::new(
        r"terminate called (?:after throwing an instance of '(?P<name>[^']+)'|(?P<bare>without an active exception))",
    );
    static WHAT: Pattern = Pattern::new(r"^\s*what\(\):\s+(?P<message>.*)$");
    let found = FIRST.of(&lines.first()?.text)?;
    let mut told = Told { lines: 1, is_mark: true, ..Told::default() };
    let crash = &mut told.crash;
    crash.what.kind = Kind::Exception;
    crash.what.name = Some(part(&found, "name").unwrap_or_else(|| "terminate".into()));
    crash.what.words = Some("an exception was thrown that nothing catches".into());
    if let Some(found) = lines.get(1).and_then(|line| WHAT.of(&line.text)) {
        crash.what.detail = part(&found, "message");
        told.lines = 2;
    }
    if crash.what.name.as_deref() == Some("std::bad_alloc") {
        crash.what.kind = Kind::OutOfMemory;
    }
    Some(told)
}

/// A record of a service that collects cores: `Process 4711 (feeder) of user 990 dumped core.`, with its stacks.
pub(super) fn coredump(lines: &[TextLine]) -> Option<Told> {
    static FIRST: Pattern = Pattern::new(
        r"Process (?P<pid>\d+) \((?P<name>.{1,64}?)\) of user \d+ (?P<how>dumped core|terminated abnormally)",
    );
    static MODULE: Pattern =
        Pattern::new(r"^\s*Module (?P<path>\S+) (?:with build-id (?P<id>[0-9a-f]+)|without build-id|from )");
    static THREAD: Pattern = Pattern::new(r"^\s*Stack trace of thread (?P<id>\d+):");
    static FRAME: Pattern = Pattern::new(
        r"^\s*#(?P<index>\d+)\s+(?P<address>0x[0-9a-f]+)\s+(?P<function>\S+)\s+\((?P<module>[^()]+?)(?: \+ (?P<offset>0x[0-9a-f]+))?\)",
    );
    static SIGNAL: Pattern = Pattern::new(r"signal (?P<number>\d+)");
    let first = &lines.first()?.text;
    let found = FIRST.of(first)?;
    let mut told = Told { lines: 1, ..Told::default() };
    let crash = &mut told.crash;
    crash.pid = number(&found, "pid");
    crash.process = part(&found, "name");
    crash.what.kind = Kind::Signal;
    if let Some(found) = SIGNAL.of(first) {
        set_signal(crash, number(&found, "number")?);
    }
    let mut threads = 0_usize;
    for (index, line) in lines.iter().enumerate().skip(1).take(4000) {
        let text = line.text.as_str();
        if let Some(found) = THREAD.of(text) {
            threads += 1;
            if threads == 1 {
                crash.tid = number(&found, "id");
            }
            crash.threads.push(Thread { id: number(&found, "id").unwrap_or(0), ..Thread::default() });
        } else if let Some(found) = FRAME.of(text) {
            let function = part(&found, "function").filter(|name| name != "n/a");
            let mut at = frame(
                function.map(|name| crate::crash::program::demangled(&name)),
                part(&found, "module").filter(|name| name != "n/a"),
            );
            at.address = hex(&found, "address");
            at.offset = hex(&found, "offset");
            if threads <= 1 {
                crash.frames.push(at);
            } else if let Some(thread) = crash.threads.last_mut() {
                thread.frames.push(at);
            }
        } else if let Some(found) = MODULE.of(text) {
            crash.modules.push(Module {
                path: part(&found, "path").unwrap_or_default(),
                build_id: part(&found, "id"),
                ..Module::default()
            });
        } else if !(text.trim().is_empty()
            || text.starts_with("ELF object binary")
            || text.trim_start().starts_with("Found module")
            || text.contains("dumped core"))
        {
            break;
        }
        told.lines = index + 1;
    }
    told.is_mark = told.crash.frames.is_empty();
    Some(told)
}

/// The kernel's line about a program that touched what it may not.
pub(super) fn segfault(lines: &[TextLine]) -> Option<Told> {
    static FAULT: Pattern = Pattern::new(
        r"(?P<name>[^\s\[][^\[\]]*?)\[(?P<pid>\d+)\]: segfault at (?P<address>[0-9a-f]+) ip (?P<ip>[0-9a-f]+) sp (?P<sp>[0-9a-f]+) error (?P<error>[0-9a-f]+)(?: in (?P<module>[^\[]+)\[(?P<base>[0-9a-f]+)(?:,(?P<base2>[0-9a-f]+))?\+(?P<size>[0-9a-f]+)\])?",
    );
    static TRAP: Pattern = Pattern::new(
        r"traps: (?P<name>[^\s\[][^\[\]]*?)\[(?P<pid>\d+)\] (?P<what>trap [\w ]+?|general protection(?: fault)?) ip:(?P<ip>[0-9a-f]+) sp:[0-9a-f]+ error:[0-9a-f]+(?: in (?P<module>[^\[]+)\[(?P<base>[0-9a-f]+)(?:,(?P<base2>[0-9a-f]+))?\+(?P<size>[0-9a-f]+)\])?",
    );
    let text = &lines.first()?.text;
    let mut told = Told { lines: 1, is_mark: true, ..Told::default() };
    let crash = &mut told.crash;
    #[allow(clippy::single_match_else, reason = "two forms of one line")]
    let found = match FAULT.of(text) {
        Some(found) => {
            set_signal(crash, 11);
            let address = hex(&found, "address")?;
            let error = u32::from_str_radix(&found["error"], 16).ok()?;
            // Bits of the processor's error code: 1 write, 4 instruction fetch.
            let access = match (error & 16 != 0, error & 2 != 0) {
                (true, _) => Access::Execute,
                (_, true) => Access::Write,
                _ => Access::Read,
            };
            crash.what.touch(address, Some(access), None, &crash.memory);
            found
        }
        None => {
            let found = TRAP.of(text)?;
            let what = part(&found, "what")?;
            let number = match what.as_str() {
                "trap divide error" => 8,
                "trap invalid opcode" => 4,
                "trap int3" => 5,
                "trap stack segment" => 7,
                _ => 11,
            };
            set_signal(crash, number);
            if number == 11 {
                crash.what.words =
                    Some("it touched an address that no memory can have: the pointer was overwritten with data".into());
            }
            crash.what.detail = Some(what);
            found
        }
    };
    crash.process = part(&found, "name").map(|name| name.rsplit(' ').next().unwrap_or(&name).to_owned());
    crash.pid = number(&found, "pid");
    crash.address = hex(&found, "ip");
    let (module, base, size) =
        (part(&found, "module"), hex(&found, "base2").or(hex(&found, "base")), hex(&found, "size"));
    if let (Some(path), Some(base), Some(size)) = (module, base, size) {
        let mut at = frame(None, Some(path.clone()));
        at.address = crash.address;
        // `[offset,base+size]` in newer kernels, `[base+size]` in older ones.
        let start = hex(&found, "base2").map_or(base, |_| base);
        at.offset = crash.address.and_then(|address| address.checked_sub(start));
        if hex(&found, "base2").is_some() {
            at.offset = hex(&found, "base");
        }
        crash.frames.push(at);
        crash.modules.push(Module { path, base, end: base.saturating_add(size), ..Module::default() });
    }
    Some(told)
}
