//! What service managers and parents say of a process that ended: marks of a crash without its dump.

use super::{Pattern, TextLine, Told, number, part, set_signal, signal_number};
use crate::crash::Kind;

fn mark() -> Told {
    Told { lines: 1, is_mark: true, ..Told::default() }
}

/// The service manager of Linux: `dosingd.service: Main process exited, code=dumped, status=6/ABRT`.
pub(super) fn unit(lines: &[TextLine]) -> Option<Told> {
    static EXITED: Pattern = Pattern::new(
        r"(?P<unit>\S+): Main process exited, code=(?P<code>killed|dumped), status=(?P<number>\d+)/(?P<name>\w+)",
    );
    static WATCHDOG: Pattern = Pattern::new(r"(?P<unit>\S+): Watchdog timeout \(limit (?P<limit>[^)]+)\)");
    let text = &lines.first()?.text;
    let mut told = mark();
    let crash = &mut told.crash;
    if let Some(found) = WATCHDOG.of(text) {
        crash.process = part(&found, "unit").map(|unit| unit.trim_end_matches(".service").to_owned());
        crash.what.kind = Kind::Hang;
        crash.what.name = Some("watchdog timeout".into());
        crash.what.words = Some(format!("it gave no sign of life for {}: it made no progress", &found["limit"]));
        return Some(told);
    }
    let found = EXITED.of(text)?;
    let signal: u32 = number(&found, "number").or_else(|| signal_number(&found["name"]))?;
    // An orderly end by its signal is no crash.
    if matches!(signal, 1 | 2 | 13 | 15) {
        return None;
    }
    crash.process = part(&found, "unit").map(|unit| unit.trim_end_matches(".service").to_owned());
    set_signal(crash, signal);
    if &found["code"] == "killed" && signal == 9 {
        crash.what.kind = Kind::Killed;
        crash.what.words = Some("it was ended from outside by a signal that cannot be handled: by a person, a limit, or the kernel for want of memory".into());
    }
    crash.what.detail =
        Some(if &found["code"] == "dumped" { "a core was written" } else { "no core was written" }.to_owned());
    Some(told)
}

/// A parent that names the signal that ended its child.
pub(super) fn by_signal(lines: &[TextLine]) -> Option<Told> {
    static FORMS: [Pattern; 3] = [
        Pattern::new(
            r"(?P<name>[\w ]{2,40}?) \(PID (?P<pid>\d+)\) was terminated by signal (?P<number>\d+)(?:: (?P<words>.*))?",
        ),
        Pattern::new(
            r"(?:(?P<name>[\w.-]+ process|child(?: pid)?|process|[\w.-]+\[?\d*\]?) )?\(?(?P<pid>\d+)\)? (?:was )?(?:exited on|killed by|terminated by|exit) signal (?P<number>\d+)(?P<core> \(core dumped\))?",
        ),
        Pattern::new(
            r"(?P<name>[\w.-]+)? ?(?:exited on|killed by|terminated by) signal (?P<number>\d+)(?P<core> \(core dumped\))?",
        ),
    ];
    static NAMED: Pattern =
        Pattern::new(r"child (?:pid )?(?P<pid>\d+) exit signal (?P<words>[\w ]+) \((?P<number>\d+)\)");
    let text = &lines.first()?.text;
    let found = NAMED.of(text).or_else(|| FORMS.iter().find_map(|form| form.of(text)))?;
    let signal: u32 = number(&found, "number").filter(|number| (1..=64).contains(number))?;
    if matches!(signal, 1 | 2 | 13 | 15 | 17) {
        return None;
    }
    let mut told = mark();
    set_signal(&mut told.crash, signal);
    if signal == 9 {
        told.crash.what.kind = Kind::Killed;
        told.crash.what.words = Some("it was ended from outside by a signal that cannot be handled: by a person, a limit, or the kernel for want of memory".into());
    }
    told.crash.pid = number(&found, "pid");
    told.crash.process =
        part(&found, "name").filter(|name| !matches!(name.as_str(), "process" | "child" | "child pid"));
    Some(told)
}

/// A service of Windows that ended.
pub(super) fn windows_service(lines: &[TextLine]) -> Option<Told> {
    static FIRST: Pattern = Pattern::new(
        r"^(?:The )?(?P<name>.{1,120}?) service terminated unexpectedly\.\s*(?:It has done this (?P<times>\d+) time)?",
    );
    let text: String = lines.iter().take(3).map(|line| line.text.as_str()).collect::<Vec<_>>().join(" ");
    let found = FIRST.of(&text)?;
    let mut told = mark();
    told.crash.process = part(&found, "name");
    told.crash.what.kind = Kind::Exception;
    told.crash.what.name = Some("terminated unexpectedly".into());
    told.crash.what.detail = part(&found, "times").map(|times| format!("{times} times since the system started"));
    told.crash.platform = crate::code::Platform::Windows;
    Some(told)
}
