//! Stacks of programs that do not go on: what Python's `faulthandler` prints when a time is over, and the deadlock that a thread dump of
//! the JVM names.

use super::runtimes::{JAVA_FRAME, PYTHON_FRAME, frame_of, python_thread, texts};
use super::{Pattern, TextLine, Told, part};
use crate::crash::{Kind, Thread};

/// `Timeout (0:00:30)!` and the stacks of all threads.
pub(super) fn python(lines: &[TextLine]) -> Option<Told> {
    static FIRST: Pattern = Pattern::new(r"^Timeout \((?P<time>\d+:\d\d:\d\d(?:\.\d+)?)\)!$");
    let found = FIRST.of(&lines.first()?.text)?;
    let mut told = Told { lines: 1, ..Told::default() };
    let crash = &mut told.crash;
    crash.process = Some("python".into());
    crash.what.kind = Kind::Hang;
    crash.what.name = Some("timeout".into());
    crash.what.detail = part(&found, "time");
    crash.what.words = Some("it made no progress within the time that it had set itself".into());
    for (index, text) in texts(lines).skip(1) {
        if let Some((thread, _)) = python_thread(text) {
            crash.threads.push(thread);
        } else if let (Some(found), Some(thread)) = (PYTHON_FRAME.of(text), crash.threads.last_mut()) {
            thread.frames.push(frame_of(&found));
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
    static END: Pattern = Pattern::new(r"^Found \d+ deadlocks?\.$");
    let mut told = Told { lines: 1, ..Told::default() };
    let crash = &mut told.crash;
    crash.process = Some("java".into());
    crash.what.kind = Kind::Hang;
    crash.what.name = Some("deadlock".into());
    crash.what.words = Some("threads wait for each other: neither can go on".into());
    let mut is_stack = false;
    for (index, text) in texts(lines).skip(1) {
        is_stack |= text.starts_with("Java stack information");
        if let Some(found) = NAME.of(text).filter(|_| is_stack) {
            crash.threads.push(Thread { name: part(&found, "name"), ..Thread::default() });
        } else if let (Some(found), Some(thread), true) = (JAVA_FRAME.of(text), crash.threads.last_mut(), is_stack) {
            thread.frames.push(frame_of(&found));
        } else if !crash.threads.is_empty() && !text.trim().is_empty() && !text.starts_with('\t') && !END.is_in(text) {
            // The dump was cut off, and something else goes on.
            break;
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
