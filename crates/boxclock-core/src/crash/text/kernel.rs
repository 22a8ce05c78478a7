//! Reports of the Linux kernel about itself (`Documentation/admin-guide/bug-hunting.rst`), and about programs that it ended for
//! want of memory (`mm/oom_kill.c`).

use super::{Pattern, TextLine, Told, frame, hex, number, part};
use crate::code::Platform;
use crate::crash::{Access, Crash, Kind, Module};

/// Lines of one report.
const MOST_LINES: usize = 400;

/// Reads the lines that all reports have in common: process, modules, call trace.
fn body(lines: &[TextLine], crash: &mut Crash) -> usize {
    static PROCESS: Pattern = Pattern::new(
        r"CPU: (?P<cpu>\d+)(?: UID: \d+)? PID: (?P<pid>\d+) Comm: (?P<comm>.+?) (?:Kdump: \w+ )?(?P<taint>Not tainted|Tainted:)",
    );
    static AT: Pattern = Pattern::new(
        r"^(?:RIP|EIP|pc|PC is at|pc :|RIP:)\s*:?\s*(?:0010:|\w{4}:)?(?P<function>[\w.]+)\+(?P<offset>0x[0-9a-f]+)/0x[0-9a-f]+(?: \[(?P<module>[\w-]+)\])?",
    );
    static FRAME: Pattern = Pattern::new(
        r"^\s*(?:\[<[0-9a-f]+>\]\s+)?(?P<guess>\? )?(?P<function>[\w.]+)\+(?P<offset>0x[0-9a-f]+)/0x[0-9a-f]+(?: \[(?P<module>[\w-]+)\])?\s*$",
    );
    static MODULES: Pattern = Pattern::new(r"^Modules linked in: (?P<list>.*)$");
    static END: Pattern = Pattern::new(r"---\[ end (?:trace|Kernel panic)");
    static TRACE: Pattern = Pattern::new(r"^(?:Call Trace:|Call trace:|Backtrace:)");
    let (mut in_trace, mut at_seen, mut used) = (false, false, 1);
    for (index, line) in lines.iter().take(MOST_LINES).enumerate() {
        let text = line.text.trim_start_matches(|letter: char| letter.is_whitespace());
        let known = if let Some(found) = PROCESS.of(text) {
            crash.pid = number(&found, "pid");
            crash.process = part(&found, "comm");
            in_trace = false;
            true
        } else if let Some(found) = AT.of(text) {
            if !at_seen {
                let mut at =
                    frame(part(&found, "function"), Some(part(&found, "module").unwrap_or_else(|| "kernel".into())));
                at.function_offset = hex(&found, "offset");
                crash.frames.insert(0, at);
                at_seen = true;
            }
            true
        } else if let Some(found) = MODULES.of(text) {
            let list = part(&found, "list").unwrap_or_default();
            for name in list.split_whitespace().filter(|name| !name.starts_with('[')) {
                let name = name.split('(').next().unwrap_or(name).to_owned();
                crash.modules.push(Module { path: name, ..Module::default() });
            }
            in_trace = false;
            true
        } else if TRACE.is_in(text) {
            in_trace = true;
            true
        } else if in_trace && let Some(found) = FRAME.of(text) {
            if found.name("guess").is_none() {
                let mut at =
                    frame(part(&found, "function"), Some(part(&found, "module").unwrap_or_else(|| "kernel".into())));
                at.function_offset = hex(&found, "offset");
                crash.frames.push(at);
            }
            true
        } else {
            // Registers, code bytes, hardware names: between the parts.
            let more = [
                "Oops",
                "BUG",
                "RIP",
                "RSP",
                "RAX",
                "RDX",
                "RBP",
                "R10",
                "R13",
                "FS:",
                "CS:",
                "CR2",
                "DR0",
                "DR3",
                "PKRU",
                "Code:",
                "Hardware name",
                "Workqueue",
                "#PF",
                "PGD",
                "P4D",
                "<TASK>",
                "</TASK>",
                "<IRQ>",
                "</IRQ>",
                "Tainted",
                "Stack:",
                "pstate",
                "pc :",
                "lr :",
                "sp :",
                "x2",
                "x1",
                "x0",
                "x5",
                "x8",
                "Mem abort",
                "Data abort",
                "ESR",
                "EC ",
                "SET",
                "EA ",
                "FSC",
                "user pgtable",
                "[",
                "Kernel Offset",
                "note:",
                "---[",
                "ret_from",
                "RAX:",
                "  ",
                "Modules linked",
                "last unloaded",
                "Kernel panic",
                "Sending NMI",
                "NMI backtrace",
                "Rebooting",
                "task:",
            ];
            text.is_empty() || more.iter().any(|start| text.starts_with(start)) || index == 0
        };
        if !known && index > 0 {
            break;
        }
        used = index + 1;
        if END.is_in(text) {
            break;
        }
    }
    // A trap's own frames and those that print the report say nothing.
    let printing = [
        "dump_stack",
        "show_stack",
        "panic",
        "die",
        "no_context",
        "page_fault",
        "asm_exc",
        "exc_",
        "do_error_trap",
        "__die",
        "do_page_fault",
        "__do_page_fault",
        "bad_area",
        "watchdog_timer_fn",
        "__warn",
        "show_regs",
        "fixup_exception",
        "handle_bug",
        "report_bug",
        "do_user_addr_fault",
        "page_fault_oops",
        "oops_end",
    ];
    crash.frames.retain(|at| {
        !at.function.as_deref().is_some_and(|name| {
            printing.iter().any(|start| name.trim_start_matches('_').starts_with(start.trim_start_matches('_')))
        })
    });
    used
}

fn start() -> Told {
    let mut told = Told::default();
    told.crash.platform = Platform::Linux;
    told
}

/// A fault or a failed check of the kernel.
pub(super) fn oops(lines: &[TextLine]) -> Option<Told> {
    static NULL: Pattern = Pattern::new(
        r"(?:NULL pointer dereference|paging request|kernel access)[^0-9]*?(?:at virtual address|, address:|at address:|for address|at) ?:?\s*(?P<address>[0-9a-f]{4,16})",
    );
    static ACCESS: Pattern = Pattern::new(r"supervisor (?P<did>read|write|instruction fetch) access");
    static BUG_AT: Pattern = Pattern::new(r"kernel BUG at (?P<file>\S+?):(?P<line>\d+)");
    let first = lines.first()?.text.clone();
    let mut told = start();
    told.lines = body(lines, &mut told.crash);
    let crash = &mut told.crash;
    crash.what.kind = Kind::Panic;
    crash.what.name = Some(
        if first.contains("general protection fault") {
            "general protection fault"
        } else if first.contains("kernel BUG") {
            "BUG"
        } else {
            "Oops"
        }
        .into(),
    );
    crash.what.detail = Some(first.trim().to_owned());
    if let Some(found) = NULL.of(&first) {
        let address = hex(&found, "address")?;
        let near = lines.iter().take(told.lines).find_map(|line| ACCESS.of(&line.text));
        let access = near.map(|found| match &found["did"] {
            "read" => Access::Read,
            "write" => Access::Write,
            _ => Access::Execute,
        });
        crash.what.touch(address, access, None, &crash.memory);
    }
    if let Some(found) = BUG_AT.of(&first)
        && let Some(at) = crash.frames.first_mut()
    {
        (at.file, at.line) = (part(&found, "file"), number(&found, "line"));
        crash.what.kind = Kind::Assertion;
        crash.what.words = Some("a condition that the kernel checks did not hold".into());
    }
    (told.lines > 2).then_some(told)
}

/// The kernel gave up.
pub(super) fn panic(lines: &[TextLine]) -> Option<Told> {
    static FIRST: Pattern = Pattern::new(r"Kernel panic - not syncing: (?P<why>.*)$");
    let found = FIRST.of(&lines.first()?.text)?;
    let mut told = start();
    told.lines = body(lines, &mut told.crash);
    let why = part(&found, "why").unwrap_or_default();
    let crash = &mut told.crash;
    crash.what.kind = if why.contains("emory") { Kind::OutOfMemory } else { Kind::Panic };
    crash.what.name = Some("Kernel panic".into());
    crash.what.detail = Some(why);
    told.is_mark = told.crash.frames.is_empty();
    Some(told)
}

/// A processor that did not go on.
pub(super) fn lockup(lines: &[TextLine]) -> Option<Told> {
    static SOFT: Pattern =
        Pattern::new(r"soft lockup - CPU#(?P<cpu>\d+) stuck for (?P<seconds>\d+)s! \[(?P<comm>.+):(?P<pid>\d+)\]");
    let first = lines.first()?.text.clone();
    let mut told = start();
    told.lines = body(lines, &mut told.crash);
    let crash = &mut told.crash;
    crash.what.kind = Kind::Hang;
    crash.what.name = Some(
        if first.contains("soft lockup") {
            "soft lockup"
        } else if first.contains("hard LOCKUP") {
            "hard lockup"
        } else {
            "stall"
        }
        .into(),
    );
    if let Some(found) = SOFT.of(&first) {
        crash.process = part(&found, "comm");
        crash.pid = number(&found, "pid");
        crash.what.words =
            Some(format!("processor {} ran the same for {} s without giving way", &found["cpu"], &found["seconds"]));
    }
    crash.what.detail = Some(first.trim().to_owned());
    Some(told)
}

/// A process that waits in the kernel.
pub(super) fn hung_task(lines: &[TextLine]) -> Option<Told> {
    static FIRST: Pattern =
        Pattern::new(r"INFO: task (?P<comm>.+):(?P<pid>\d+) blocked for more than (?P<seconds>\d+) seconds");
    static FRAME: Pattern = Pattern::new(
        r"^\s*(?:\[<[0-9a-f]+>\]\s+)?(?P<guess>\? )?(?P<function>[\w.]+)\+0x[0-9a-f]+/0x[0-9a-f]+(?: \[(?P<module>[\w-]+)\])?\s*$",
    );
    let found = FIRST.of(&lines.first()?.text)?;
    let mut told = start();
    told.lines = 1;
    for (index, line) in lines.iter().enumerate().skip(1).take(80) {
        if let Some(found) = FRAME.of(&line.text) {
            told.crash
                .frames
                .push(frame(part(&found, "function"), Some(part(&found, "module").unwrap_or_else(|| "kernel".into()))));
        } else if FIRST.is_in(&line.text)
            || (!told.crash.frames.is_empty() && !line.text.contains("TASK>"))
            || index > 8
        {
            break;
        }
        told.lines = index + 1;
    }
    let crash = &mut told.crash;
    crash.process = part(&found, "comm");
    crash.pid = number(&found, "pid");
    crash.what.kind = Kind::Hang;
    crash.what.name = Some("blocked task".into());
    crash.what.words = Some(format!(
        "it waited in the kernel for more than {} s: for a disk, a network file system or a lock",
        &found["seconds"]
    ));
    Some(told)
}

/// A process that the kernel ended to have memory again.
pub(super) fn out_of_memory(lines: &[TextLine]) -> Option<Told> {
    static FIRST: Pattern = Pattern::new(
        r"(?P<scope>Out of memory|Memory cgroup out of memory): Kill(?:ed)? process (?P<pid>\d+) \((?P<name>[^)]+)\)(?P<rest>.*)",
    );
    static RSS: Pattern = Pattern::new(r"anon-rss:(?P<kb>\d+)kB");
    let found = FIRST.of(&lines.first()?.text)?;
    let mut told = start();
    told.lines = 1;
    told.is_mark = true;
    let crash = &mut told.crash;
    crash.process = part(&found, "name");
    crash.pid = number(&found, "pid");
    super::set_signal(crash, 9);
    crash.what.kind = Kind::OutOfMemory;
    let of_group = &found["scope"] != "Out of memory";
    let held = RSS.of(&found["rest"]).and_then(|found| number::<u64>(&found, "kb"));
    let held = held.map_or(String::new(), |kb| format!("; it held {} MiB", kb / 1024));
    crash.what.words = Some(if of_group {
        format!("the kernel ended it, since its group had used up the memory that its limit allows{held}")
    } else {
        format!("the kernel ended it, since the system had no more memory{held}: who is ended need not be who took it")
    });
    crash.what.detail = Some(found["scope"].to_owned());
    Some(told)
}
