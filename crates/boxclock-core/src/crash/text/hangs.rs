//! Stacks of programs that do not go on: what Python's `faulthandler` prints when a time is over, and the deadlock that a thread dump of
//! the JVM names.

use super::{Pattern, TextLine, Told, frame_in, hex, number, part};
use crate::crash::{Kind, Thread};

/// Lines of one dump that are looked at.
const MOST_LINES: usize = 20_000;

/// `Timeout (0:00:30)!` and the stacks of all threads.
pub(super) fn python(lines: &[TextLine]) -> Option<Told> {
    static FIRST: Pattern = Pattern::new(r"^Timeout \((?P<time>\d+:\d\d:\d\d(?:\.\d+)?)\)!$");
    static THREAD: Pattern = Pattern::new(
        r"^(?:Current thread|Thread) (?P<id>0x[0-9a-f]+)(?: \[(?P<name>[^\]]*)\])? \(most recent call first\)",
    );
    static FRAME: Pattern = Pattern::new(r#"^\s+File "(?P<file>[^"]+)", line (?P<line>\d+) in (?P<function>.+)$"#);
    let found = FIRST.of(&lines.first()?.text)?;
    let mut told = Told { lines: 1, ..Told::default() };
    let crash = &mut told.crash;
    crash.process = Some("python".into());
    crash.what.kind = Kind::Hang;
    crash.what.name = Some("timeout".into());
    crash.what.detail = part(&found, "time");
    crash.what.words = Some("it did not go on within the time that it had set itself".into());
    for (index, line) in lines.iter().enumerate().take(MOST_LINES).skip(1) {
        let text = line.text.as_str();
        if let Some(found) = THREAD.of(text) {
            let id = hex(&found, "id").and_then(|id| u32::try_from(id & 0xFFFF_FFFF).ok()).unwrap_or(0);
            crash.threads.push(Thread { id, name: part(&found, "name"), ..Thread::default() });
        } else if let (Some(found), Some(thread)) = (FRAME.of(text), crash.threads.last_mut()) {
            thread.frames.push(frame_in(part(&found, "function"), part(&found, "file"), number(&found, "line")));
        } else if !text.trim().is_empty() {
            break;
        }
        told.lines = index + 1;
    }
    // The main thread comes last.
    let main = crash.threads.pop()?;
    crash.frames.clone_from(&main.frames);
    crash.tid = Some(main.id);
    crash.threads.push(main);
    Some(told)
}

/// `Found one Java-level deadlock:` and the threads that wait for each other.
pub(super) fn java(lines: &[TextLine]) -> Option<Told> {
    static NAME: Pattern = Pattern::new(r#"^"(?P<name>[^"]{1,200})":$"#);
    static FRAME: Pattern = Pattern::new(
        r"^\s+at (?:[\w.]+(?:@[^/]*)?/)?(?P<function>[\w.$<>/]+)\((?:(?P<file>[^:() ]+\.\w+)(?::(?P<line>\d+))?|[^()]*)\)",
    );
    static END: Pattern = Pattern::new(r"^Found \d+ deadlocks?\.$");
    let first = &lines.first()?.text;
    if !(first.starts_with("Found one Java-level deadlock:") || first.contains("Java-level deadlock")) {
        return None;
    }
    let mut told = Told { lines: 1, ..Told::default() };
    let crash = &mut told.crash;
    crash.process = Some("java".into());
    crash.what.kind = Kind::Hang;
    crash.what.name = Some("deadlock".into());
    crash.what.words = Some("threads wait for each other: neither can go on".into());
    let mut is_stack = false;
    for (index, line) in lines.iter().enumerate().take(MOST_LINES).skip(1) {
        let text = line.text.as_str();
        is_stack |= text.starts_with("Java stack information");
        if let Some(found) = NAME.of(text).filter(|_| is_stack) {
            crash.threads.push(Thread { name: part(&found, "name"), ..Thread::default() });
        } else if let (Some(found), Some(thread), true) = (FRAME.of(text), crash.threads.last_mut(), is_stack) {
            thread.frames.push(frame_in(part(&found, "function"), part(&found, "file"), number(&found, "line")));
        }
        told.lines = index + 1;
        if END.is_in(text) {
            break;
        }
    }
    crash.frames = crash.threads.first()?.frames.clone();
    let names: Vec<&str> = crash.threads.iter().filter_map(|thread| thread.name.as_deref()).collect();
    crash.what.detail = Some(names.join(", "));
    Some(told)
}
