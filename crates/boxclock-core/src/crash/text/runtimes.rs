//! Reports of language runtimes: the JVM (the layout of its `hs_err` files, from its public sources), Python (`faulthandler`,
//! fatal errors), Go (panics, fatal errors, signals, with goroutines), Rust (panics with backtraces), Node (uncaught errors,
//! fatal errors, diagnostic reports as JSON), uncaught exceptions of Java and .NET.

#![allow(clippy::indexing_slicing, reason = "a member of JSON that is missing reads as null")]

use serde_json::Value;

use super::{Pattern, TextLine, Told, frame, frame_in, hex, number, part, set_signal, signal_number};
use crate::code::Platform;
use crate::crash::stack::Frame;
use crate::crash::{Kind, Module, Thread};

/// Lines of one report that are looked at.
const MOST_LINES: usize = 20_000;

/// The texts of the lines of one report, with how many stand before each.
pub(super) fn texts(lines: &[TextLine]) -> impl Iterator<Item = (usize, &str)> {
    lines.iter().take(MOST_LINES).enumerate().map(|(index, line)| (index, line.text.as_str()))
}

/// The fatal error report of the JVM.
pub(super) fn jvm(lines: &[TextLine]) -> Option<Told> {
    static SIGNAL: Pattern = Pattern::new(
        r"^#\s+(?P<name>SIG[A-Z]+|EXCEPTION_[A-Z_]+)\s*\((?P<number>0x[0-9a-f]+)\) at pc=(?P<pc>0x[0-9a-f]+), pid=(?P<pid>\d+), tid=(?P<tid>\w+)",
    );
    static INTERNAL: Pattern = Pattern::new(
        r"^#\s+(?P<what>Internal Error|Out of Memory Error|Error) ?\((?P<where>[^)]*)\)(?:, pid=(?P<pid>\d+), tid=(?P<tid>\w+))?",
    );
    static MEMORY: Pattern = Pattern::new(r"insufficient memory for the Java Runtime|Out of Memory Error|OutOfMemory");
    static PROBLEM: Pattern = Pattern::new(
        r"^#\s+(?P<kind>[A-Za-z])\s+\[(?P<module>[^+\]]+)\+(?P<offset>0x[0-9a-f]+)\](?:\s+(?P<function>.*))?",
    );
    static COMPILED: Pattern = Pattern::new(
        r"^#\s+(?P<kind>[JjV])\s+(?:\d+ )?(?:%\s*)?(?:[bcsn!]+ )*(?:c[12] )?(?P<function>[\w.$/]+(?:\([^)]*\))?\S*)",
    );
    static NATIVE: Pattern = Pattern::new(
        r"^(?P<kind>[CVvjJA])\s+(?:\d+\s+)?(?:[%!bsn]+\s+)?(?:c[12]\s+)?(?:\[(?P<module>[^+\]]+)\+(?P<offset>0x[0-9a-f]+)\]\s*)?(?P<function>\S.*)?$",
    );
    static SIGINFO: Pattern =
        Pattern::new(r"^siginfo: .*?(?:si_code: \d+ \((?P<code>\w+)\))?(?:, si_addr: (?P<address>0x[0-9a-f]+))?\s*$");
    static ACCESS: Pattern =
        Pattern::new(r"ExceptionCode=.*(?P<did>reading|writing|executing) address (?P<address>0x[0-9a-f]+)");
    static THREAD: Pattern = Pattern::new(r#"^Current thread \((?P<tid>0x[0-9a-f]+)\):\s+\w*\s*"(?P<name>[^"]*)""#);
    static COMMAND: Pattern = Pattern::new(r"^(?:Command Line|java_command): (?P<command>.*)");
    static TIME: Pattern = Pattern::new(r"^Time: (?P<time>.+?)(?: elapsed time|$)");
    static LIBRARY: Pattern =
        Pattern::new(r"^(?P<start>[0-9a-f]{6,16})-(?P<end>[0-9a-f]{6,16}) r-xp \S+ \S+ \S+\s+(?P<path>/\S.*)$");
    let mut told = Told::default();
    let crash = &mut told.crash;
    crash.process = Some("java".into());
    crash.what.kind = Kind::Panic;
    let mut in_frames = false;
    let mut memory = false;
    let mut problem = None;
    for (index, text) in texts(lines) {
        told.lines = index + 1;
        if index < 60 {
            memory |= text.starts_with('#') && MEMORY.is_in(text);
            if let Some(found) = SIGNAL.of(text) {
                let number = hex(&found, "number").and_then(|number| u32::try_from(number).ok());
                crash.pid = number_of(&found, "pid");
                crash.tid = number_of(&found, "tid");
                crash.address = hex(&found, "pc");
                let name = part(&found, "name");
                match (number, name.as_deref().is_some_and(|name| name.starts_with("SIG"))) {
                    (Some(number), true) => set_signal(crash, number),
                    (number, _) => {
                        crash.what.kind = Kind::Exception;
                        crash.what.number = number;
                        crash.what.name = name;
                        crash.platform = Platform::Windows;
                    }
                }
            } else if let Some(found) = INTERNAL.of(text) {
                crash.what.name = part(&found, "what");
                crash.what.detail = part(&found, "where");
                crash.pid = number(&found, "pid");
                crash.tid = number(&found, "tid");
            } else if problem.is_none()
                && let Some(found) = PROBLEM.of(text)
            {
                let mut at = frame(part(&found, "function").map(|name| without_offset(&name)), part(&found, "module"));
                at.offset = hex(&found, "offset");
                at.address = crash.address;
                problem = Some(at);
            } else if problem.is_none()
                && text.starts_with("# J")
                && let Some(found) = COMPILED.of(text)
            {
                problem = Some(frame(part(&found, "function"), None));
            }
        }
        if text.starts_with("Native frames:") || text.starts_with("Java frames:") || text.starts_with("Stack:") {
            in_frames =
                text.starts_with("Native frames:") || (text.starts_with("Java frames:") && crash.frames.is_empty());
        } else if in_frames {
            match NATIVE.of(text).filter(|_| !text.trim().is_empty()) {
                Some(found) => {
                    let mut at =
                        frame(part(&found, "function").map(|name| without_offset(&name)), part(&found, "module"));
                    at.offset = hex(&found, "offset");
                    crash.frames.push(at);
                }
                None => in_frames = text.starts_with("..."),
            }
        } else if let Some(found) = SIGINFO.of(text) {
            crash.what.detail = part(&found, "code").or(crash.what.detail.take());
            crash.what.address = hex(&found, "address");
        } else if let Some(found) = ACCESS.of(text) {
            crash.what.address = hex(&found, "address");
            crash.what.access = match &found["did"] {
                "reading" => Some(crate::crash::Access::Read),
                "writing" => Some(crate::crash::Access::Write),
                _ => Some(crate::crash::Access::Execute),
            };
        } else if let Some(found) = THREAD.of(text) {
            crash.threads.push(Thread { id: crash.tid.unwrap_or(0), name: part(&found, "name"), ..Thread::default() });
        } else if let Some(found) = COMMAND.of(text) {
            if let Some(command) = part(&found, "command") {
                crash.attributes.insert("process.command_line".into(), command.into());
            }
        } else if let Some(found) = TIME.of(text) {
            crash.attributes.insert("crash.time_text".into(), part(&found, "time").unwrap_or_default().into());
        } else if let Some(found) = LIBRARY.of(text)
            && let (Some(base), Some(end), Some(path)) =
                (hex(&found, "start"), hex(&found, "end"), part(&found, "path"))
        {
            crash.modules.push(Module { path, base, end, ..Module::default() });
        }
        if text.trim() == "END." {
            break;
        }
    }
    if memory {
        crash.what.kind = Kind::OutOfMemory;
        crash.what.words = Some("there was no more memory for the runtime".into());
        crash.what.name.get_or_insert_with(|| "Out of Memory Error".into());
    } else if crash.what.number.is_none() && crash.what.name.is_none() {
        crash.what.name = Some("Internal Error".into());
    }
    if let Some(address) = crash.what.address.filter(|_| crash.what.words.is_none()) {
        crash.what.touch(address, crash.what.access, None, &crash.memory);
    }
    if crash.frames.is_empty() {
        crash.frames.extend(problem);
    }
    (told.lines > 1).then_some(told)
}

fn number_of(found: &regex::Captures<'_>, name: &str) -> Option<u32> {
    number(found, name).or_else(|| hex(found, name).and_then(|number| u32::try_from(number).ok()))
}

fn without_offset(name: &str) -> String {
    name.rsplit_once("+0x").map_or(name, |(name, _)| name).trim().to_owned()
}

/// A frame and a thread as `faulthandler` prints them.
pub(super) static PYTHON_FRAME: Pattern =
    Pattern::new(r#"^\s+File "(?P<file>[^"]+)", line (?P<line>\d+) in (?P<function>.+)$"#);
static PYTHON_THREAD: Pattern = Pattern::new(
    r"^(?P<current>Current thread|Thread) (?P<id>0x[0-9a-f]+)(?: \[(?P<name>[^\]]*)\])? \(most recent call first\)",
);

/// A thread as `faulthandler` begins it, and whether it is the one that failed.
pub(super) fn python_thread(text: &str) -> Option<(Thread, bool)> {
    let found = PYTHON_THREAD.of(text)?;
    let id = hex(&found, "id").map_or(0, |id| (id & 0xFFFF_FFFF).try_into().unwrap_or(0));
    let thread = Thread { id, name: part(&found, "name"), ..Thread::default() };
    Some((thread, &found["current"] == "Current thread"))
}

/// A frame of Java, behind the name of its module.
pub(super) static JAVA_FRAME: Pattern = Pattern::new(
    r"^\s+at (?:[\w.@-]+//?)?(?P<function>[\w.$<>/-]+)\((?:(?P<file>[\w$]+\.\w+)(?::(?P<line>\d+))?|[^)]*)\)",
);

/// A frame with what its pattern found of function, file and line.
pub(super) fn frame_of(found: &regex::Captures<'_>) -> Frame {
    frame_in(part(found, "function"), part(found, "file"), number(found, "line"))
}

/// A fatal error of Python, with the threads that its fault handler prints.
pub(super) fn python_fatal(lines: &[TextLine]) -> Option<Told> {
    static FIRST: Pattern = Pattern::new(r"Fatal Python error: (?P<what>[^:]+?)(?:: (?P<message>.*))?$");
    let found = FIRST.of(&lines.first()?.text)?;
    let mut told = Told { lines: 1, ..Told::default() };
    let crash = &mut told.crash;
    crash.process = Some("python".into());
    let what = part(&found, "what")?;
    let message = part(&found, "message");
    match what.as_str() {
        "Segmentation fault" => set_signal(crash, 11),
        "Aborted" => set_signal(crash, 6),
        "Floating point exception" | "Floating-point exception" => set_signal(crash, 8),
        "Bus error" => set_signal(crash, 7),
        "Illegal instruction" => set_signal(crash, 4),
        _ => {
            crash.what.kind = Kind::Panic;
            crash.what.name = Some(what);
        }
    }
    crash.what.detail = message;
    let mut current = true;
    for (index, text) in texts(lines).skip(1) {
        if let Some((thread, is_current)) = python_thread(text) {
            current = is_current;
            crash.threads.push(thread);
        } else if let Some(found) = PYTHON_FRAME.of(text) {
            let at = frame_of(&found);
            if current {
                crash.frames.push(at);
            } else if let Some(thread) = crash.threads.last_mut() {
                thread.frames.push(at);
            }
        } else if !text.trim().is_empty()
            && !text.starts_with("Python runtime state")
            && !text.starts_with("Extension modules")
            && !text.starts_with("Stack (most recent")
            && !text.starts_with("  ")
        {
            break;
        }
        told.lines = index + 1;
    }
    Some(told)
}

/// A panic, fatal error or signal of a Go program.
pub(super) fn go(lines: &[TextLine]) -> Option<Told> {
    static FIRST: Pattern = Pattern::new(r"^(?:\S+ )?(?P<kind>panic|fatal error|fatal|SIG[A-Z]+): (?P<message>.*)$");
    static SIGNAL: Pattern = Pattern::new(
        r"^\[signal (?P<name>SIG[A-Z]+): (?P<words>[^\]]*?)(?: code=(?P<code>\w+) addr=(?P<address>0x[0-9a-f]+) pc=(?P<pc>0x[0-9a-f]+))?\]",
    );
    static GOROUTINE: Pattern =
        Pattern::new(r"^goroutine (?P<id>\d+)(?: gp=\S+ m=\S+(?: mp=\S+)?)? \[(?P<state>[^\]]*)\]:");
    static PLACE: Pattern = Pattern::new(r"^\s+(?P<file>\S.*?):(?P<line>\d+)(?: \+0x[0-9a-f]+)?(?: fp=.*)?$");
    static CALL: Pattern = Pattern::new(
        r"^(?:created by )?(?P<function>[\w./\-·*\[\]()]+?)(?:\((?:[^()]|\{[^}]*\})*\)| in goroutine \d+)?$",
    );
    let found = FIRST.of(&lines.first()?.text)?;
    let kind = part(&found, "kind")?;
    let message = part(&found, "message");
    let mut told = Told { lines: 1, ..Told::default() };
    let crash = &mut told.crash;
    crash.what.kind = Kind::Panic;
    crash.what.name = Some(kind.clone());
    crash.what.detail.clone_from(&message);
    if kind == "fatal error" || kind == "fatal" {
        let text = message.as_deref().unwrap_or_default();
        if text.contains("out of memory") {
            crash.what.kind = Kind::OutOfMemory;
        } else if text.contains("deadlock") {
            crash.what.kind = Kind::Hang;
            crash.what.words = Some("all goroutines wait for each other: none can continue".into());
        }
    }
    if let Some(number) = signal_number(&kind) {
        set_signal(crash, number);
        crash.what.detail = message;
    }
    let (mut goroutines, mut function) = (0_usize, None::<String>);
    for (index, text) in texts(lines).skip(1) {
        let mut known = true;
        if let Some(found) = SIGNAL.of(text) {
            let detail = crash.what.detail.take();
            if let Some(number) = signal_number(&found["name"]) {
                let panic = crash.what.kind == Kind::Panic;
                set_signal(crash, number);
                if panic {
                    crash.what.kind = Kind::Panic;
                }
            }
            crash.what.detail = detail;
            crash.what.address = hex(&found, "address");
            crash.address = hex(&found, "pc");
            if let Some(address) = crash.what.address {
                crash.what.touch(address, None, None, &crash.memory);
            }
        } else if let Some(found) = GOROUTINE.of(text) {
            goroutines += 1;
            function = None;
            if goroutines == 1 {
                crash.tid = number(&found, "id");
            }
            crash.threads.push(Thread {
                id: number(&found, "id").unwrap_or(0),
                name: part(&found, "state"),
                ..Thread::default()
            });
        } else if goroutines > 0
            && let Some(found) = PLACE.of(text)
            && let Some(name) = function.take()
        {
            let at = frame_in(Some(name), part(&found, "file"), number(&found, "line"));
            if goroutines == 1 {
                crash.frames.push(at);
            } else if let Some(thread) = crash.threads.last_mut() {
                thread.frames.push(at);
            }
        } else if goroutines > 0
            && !text.starts_with([' ', '\t'])
            && let Some(found) = CALL.of(text)
        {
            function = part(&found, "function").map(|name| go_name(&name));
        } else {
            known = text.is_empty()
                || text.starts_with("exit status")
                || text.starts_with('\t')
                || goroutines == 0 && index < 8
                || text.starts_with("[recovered")
                || text.starts_with("panic")
                || text.starts_with("runtime stack:")
                || text.starts_with("rax ")
                || text.starts_with("...");
        }
        if !known && goroutines > 0 {
            break;
        }
        told.lines = index + 1;
    }
    // Without a goroutine it is any line with these words in it.
    (goroutines > 0).then_some(())?;
    // Go's own frames of raising the panic, or of waiting, say nothing where a program's own frame follows.
    if let Some(own) = crash.frames.iter().position(|at| !is_go_library(at)) {
        crash.frames.drain(..own);
    }
    Some(told)
}

/// Whether a frame is of Go's own library: its file stands in the folder of its package, below the sources of the compiler.
fn is_go_library(at: &Frame) -> bool {
    let Some(name) = at.function.as_deref() else { return false };
    // The path of the package: up to the first dot behind the last slash.
    let last = name.rfind('/').map_or(0, |slash| slash + 1);
    let package = name[last..].split_once('.').and_then(|(own, _)| name.get(..last + own.len())).unwrap_or(name);
    let in_sources = || {
        let folder = at.file.as_deref().and_then(|file| file.rsplit_once('/')).map_or("", |(folder, _)| folder);
        // Some functions of other packages stand among those of the runtime.
        folder == package || folder.ends_with("/src/runtime") || folder.ends_with(&format!("/src/{package}"))
    };
    // Packages that are not Go's own are named by where they come from: a name with a dot; and `main`.
    let is_of_others = package == "main" || package.split('/').next().is_some_and(|first| first.contains('.'));
    name == "panic" || package == "runtime" || !is_of_others && in_sources()
}

fn go_name(name: &str) -> String {
    name.strip_suffix("(...)").unwrap_or(name).to_owned()
}

/// A panic of a Rust program, with its backtrace where there is one.
pub(super) fn rust(lines: &[TextLine]) -> Option<Told> {
    static FIRST: Pattern = Pattern::new(
        r"thread '(?P<thread>[^']*)' (?:\((?P<id>\d+)\) )?panicked at (?:'(?P<old>.*)', )?(?P<file>[^\s:'][^:']*):(?P<line>\d+):\d+:?(?: (?P<message>.+))?$",
    );
    static FRAME: Pattern = Pattern::new(r"^\s*\d+:\s+(?:0x[0-9a-f]+ - )?(?P<function>\S.*)$");
    static PLACE: Pattern = Pattern::new(r"^\s+at (?P<file>.+?):(?P<line>\d+)(?::\d+)?$");
    let found = FIRST.of(&lines.first()?.text)?;
    let mut told = Told { lines: 1, ..Told::default() };
    let crash = &mut told.crash;
    crash.what.kind = Kind::Panic;
    crash.what.name = Some("panic".into());
    crash.what.detail = part(&found, "old").or(part(&found, "message"));
    let place = frame_in(None, part(&found, "file"), number(&found, "line"));
    crash.threads.push(Thread {
        id: number(&found, "id").unwrap_or(0),
        name: part(&found, "thread"),
        ..Thread::default()
    });
    let mut in_trace = false;
    for (index, text) in texts(lines).skip(1) {
        if text.trim_end() == "stack backtrace:" {
            in_trace = true;
        } else if in_trace && let Some(found) = PLACE.of(text) {
            if let Some(last) = crash.frames.last_mut() {
                (last.file, last.line) = (part(&found, "file"), number(&found, "line"));
            }
        } else if in_trace && let Some(found) = FRAME.of(text) {
            let name = part(&found, "function").map(|name| crate::crash::program::demangled(&without_hash(&name)));
            crash.frames.push(frame(name, None));
        } else if text.starts_with("note: ") {
        } else if index == 1 && !in_trace && crash.what.detail.is_none() {
            crash.what.detail = Some(text.trim().to_owned());
        } else {
            break;
        }
        told.lines = index + 1;
    }
    // Where the library of the compiler was built, in all its releases.
    let runtime = |at: &Frame| {
        at.file.as_deref().is_some_and(|file| file.starts_with("/rustc/"))
            || at.bare_function().is_some_and(|name| {
                ["rust_begin_unwind", "__rustc", "core::", "std::", "alloc::", "__rust"]
                    .iter()
                    .any(|start| name.trim_start_matches('<').starts_with(start))
            })
    };
    while crash.frames.len() > 1 && crash.frames.first().is_some_and(runtime) {
        crash.frames.remove(0);
    }
    if crash.frames.is_empty() {
        crash.frames.push(place);
    }
    Some(told)
}

fn without_hash(name: &str) -> String {
    match name.rsplit_once("::h") {
        Some((bare, hash)) if hash.len() == 16 && hash.bytes().all(|byte| byte.is_ascii_hexdigit()) => bare.to_owned(),
        _ => name.to_owned(),
    }
}

/// A frame of V8: `    at feed (/srv/tank.js:12:5)`.
fn script_frame(text: &str) -> Option<Frame> {
    static FRAME: Pattern = Pattern::new(r"^\s*at (?:(?P<function>.+?) \()?(?P<file>[^()]+?):(?P<line>\d+):\d+\)?\s*$");
    let found = FRAME.of(text)?;
    Some(frame_in(part(&found, "function"), part(&found, "file"), number(&found, "line")))
}

/// An error of Node that nothing caught: file and line, the source line, the stack, and its own version behind.
pub(super) fn node(lines: &[TextLine]) -> Option<Told> {
    static ERROR: Pattern =
        Pattern::new(r"^(?:Uncaught )?(?P<name>[A-Z]\w*(?:Error|Exception)?)(?: \[[A-Z_]+\])?(?:: (?P<message>.*))?$");
    static VERSION: Pattern = Pattern::new(r"^Node\.js v\d");
    let mut told = Told::default();
    let mut has_version = false;
    let crash = &mut told.crash;
    crash.process = Some("node".into());
    crash.what.kind = Kind::Exception;
    for (index, text) in texts(lines).take(200) {
        if let Some(at) = script_frame(text) {
            if crash.what.name.is_some() {
                crash.frames.push(at);
            }
        } else if crash.what.name.is_none()
            && !text.contains("node:internal")
            && let Some(found) = ERROR.of(text.trim_end())
        {
            crash.what.name = part(&found, "name");
            crash.what.detail = part(&found, "message");
        }
        told.lines = index + 1;
        if VERSION.is_in(text) {
            has_version = true;
            break;
        }
    }
    (has_version && crash.what.name.is_some()).then_some(told)
}

/// A fatal error of the engine under Node.
pub(super) fn node_fatal(lines: &[TextLine]) -> Option<Told> {
    static FIRST: Pattern = Pattern::new(r"FATAL ERROR: (?P<message>.*)$");
    static NATIVE: Pattern =
        Pattern::new(r"^\s*\d+: (?P<address>0x[0-9a-f]+) (?P<function>.+?)(?: \[(?P<module>[^\]]+)\])?$");
    let found = FIRST.of(&lines.first()?.text)?;
    let mut told = Told { lines: 1, ..Told::default() };
    let crash = &mut told.crash;
    crash.process = Some("node".into());
    crash.what.kind = Kind::OutOfMemory;
    crash.what.name = Some("FATAL ERROR".into());
    crash.what.detail = part(&found, "message");
    for (index, text) in texts(lines).skip(1).take(100) {
        if let Some(found) = NATIVE.of(text) {
            let mut at = frame(part(&found, "function"), part(&found, "module"));
            at.address = hex(&found, "address");
            crash.frames.push(at);
        } else if !text.starts_with("-----") && !text.trim().is_empty() && !text.contains("GC") {
            break;
        }
        told.lines = index + 1;
    }
    Some(told)
}

/// A diagnostic report of Node: one JSON object.
pub(super) fn node_report(lines: &[TextLine]) -> Option<Told> {
    let text: String = lines.iter().map(|line| line.text.as_str()).collect::<Vec<_>>().join("\n");
    let value: Value = serde_json::from_str(&text).ok()?;
    let header = value.get("header")?;
    let mut told = Told { lines: lines.len(), ..Told::default() };
    let crash = &mut told.crash;
    crash.process = Some("node".into());
    crash.what.kind = Kind::Exception;
    crash.pid = header["processId"].as_u64().and_then(|pid| u32::try_from(pid).ok());
    crash.executable = header["commandLine"][0].as_str().map(str::to_owned);
    crash.time = header["dumpEventTimeStamp"]
        .as_str()
        .and_then(|text| text.parse::<i64>().ok()?.checked_mul(1_000_000))
        .or_else(|| {
            header["dumpEventTime"]
                .as_str()
                .and_then(|text| text.parse::<jiff::Timestamp>().ok())
                .and_then(|time| i64::try_from(time.as_nanosecond()).ok())
        });
    let trigger = header["trigger"].as_str().unwrap_or_default();
    let message = value["javascriptStack"]["message"].as_str().unwrap_or_default();
    let (name, detail) = message.trim_start_matches("Uncaught ").split_once(": ").unwrap_or((message, ""));
    crash.what.name = Some(if name.is_empty() { trigger.to_owned() } else { name.to_owned() });
    crash.what.detail = Some(header["event"].as_str().filter(|_| detail.is_empty()).unwrap_or(detail).to_owned());
    if trigger.contains("FatalError") || trigger.contains("OOM") {
        crash.what.kind = Kind::OutOfMemory;
    } else if trigger == "Signal" || trigger == "API" {
        crash.what.kind = Kind::Hang;
        crash.what.words = Some("a report that was asked for: the program ran on".into());
    }
    let stack = value["javascriptStack"]["stack"].as_array().into_iter().flatten();
    crash.frames = stack.filter_map(|line| script_frame(line.as_str()?)).collect();
    if crash.frames.is_empty() {
        let native = value["nativeStack"].as_array().into_iter().flatten();
        crash.frames = native
            .filter_map(|line| {
                let symbol = line["symbol"].as_str()?;
                let (function, module) = symbol
                    .rsplit_once(" [")
                    .map_or((symbol, ""), |(function, module)| (function, module.trim_end_matches(']')));
                Some(frame(
                    Some(function.to_owned()).filter(|name| !name.is_empty()),
                    Some(module.to_owned()).filter(|name| !name.is_empty()),
                ))
            })
            .collect();
    }
    let libraries = value["sharedObjects"].as_array().into_iter().flatten();
    crash.modules =
        libraries.filter_map(|path| Some(Module { path: path.as_str()?.to_owned(), ..Module::default() })).collect();
    Some(told)
}

/// An exception that ended a thread of Java.
pub(super) fn java_uncaught(lines: &[TextLine]) -> Option<Told> {
    static FIRST: Pattern =
        Pattern::new(r#"Exception in thread "(?P<thread>[^"]+)" (?P<name>[\w.$]+)(?:: (?P<message>.*))?$"#);
    let found = FIRST.of(&lines.first()?.text)?;
    let mut told = Told { lines: 1, ..Told::default() };
    let crash = &mut told.crash;
    crash.process = Some("java".into());
    crash.what.kind = Kind::Exception;
    crash.what.name = part(&found, "name");
    crash.what.detail = part(&found, "message");
    if crash.what.name.as_deref().is_some_and(|name| name.ends_with("OutOfMemoryError")) {
        crash.what.kind = Kind::OutOfMemory;
    }
    crash.threads.push(Thread { id: 0, name: part(&found, "thread"), ..Thread::default() });
    for (index, text) in texts(lines).skip(1) {
        if let Some(found) = JAVA_FRAME.of(text) {
            crash.frames.push(frame_of(&found));
        } else if text.starts_with("Caused by: ") {
            // The frames of the innermost cause are the telling ones.
            crash.frames.clear();
            crash.what.words = Some(text.trim().to_owned());
        } else if !text.trim_start().starts_with("...") {
            break;
        }
        told.lines = index + 1;
    }
    Some(told)
}

/// An exception of .NET that nothing caught.
pub(super) fn dotnet(lines: &[TextLine]) -> Option<Told> {
    static FIRST: Pattern = Pattern::new(r"Unhandled exception\. (?P<name>[\w.]+)(?:: (?P<message>.*))?$");
    static FRAME: Pattern =
        Pattern::new(r"^\s+at (?P<function>[\w.<>`\[\],|+$]+)\([^)]*\)(?: in (?P<file>.+):line (?P<line>\d+))?");
    let found = FIRST.of(&lines.first()?.text)?;
    let mut told = Told { lines: 1, ..Told::default() };
    let crash = &mut told.crash;
    crash.what.kind = Kind::Exception;
    crash.what.name = part(&found, "name");
    crash.what.detail = part(&found, "message");
    for (index, text) in texts(lines).skip(1) {
        if let Some(found) = FRAME.of(text) {
            crash.frames.push(frame_in(part(&found, "function"), part(&found, "file"), number(&found, "line")));
        } else if !text.trim_start().starts_with("---") {
            break;
        }
        told.lines = index + 1;
    }
    (!crash.frames.is_empty()).then_some(told)
}
