//! Reports of script languages that end a program: PHP's fatal errors (`main/main.c`, `Zend/zend_exceptions.c`), Ruby's errors that
//! nothing rescues (`eval_error.c`) and its own faults (`[BUG]`, `error.c`).

use super::runtimes::{frame_of, texts};
use super::{Pattern, TextLine, Told, frame_in, number, part, set_signal};
use crate::crash::Kind;

/// `PHP Fatal error:  Uncaught Error: … in pump.php:3`, with its stack; memory that was used up; any other fatal error. Where the head of
/// the record said "PHP Fatal error", what is left of it.
pub(super) fn php(lines: &[TextLine]) -> Option<Told> {
    static FIRST: Pattern = Pattern::new(
        r"^(?P<head>(?:.*\b)?Fatal error:\s+)?(?:Uncaught (?P<name>[\w\\]+)(?:: (?P<message>.*?))?|(?P<other>.+?)) in (?P<file>\S+?)(?::| on line )(?P<line>\d+)$",
    );
    static FRAME: Pattern =
        Pattern::new(r"^#\d+ (?:(?P<file>.+?)\((?P<line>\d+)\): |\[internal function\]: )(?P<function>[^\s(]+)\(");
    let found = FIRST.of(lines.first()?.text.trim_end())?;
    // Other languages speak of uncaught errors too; PHP's stack is behind it.
    let has_stack = || lines.get(1).is_some_and(|line| line.text.starts_with("Stack trace:"));
    if found.name("head").is_none() && found.name("name").is_some() && !has_stack() {
        return None;
    }
    let mut told = Told { lines: 1, ..Told::default() };
    let crash = &mut told.crash;
    crash.process = Some("php".into());
    let mut place = (part(&found, "file"), number(&found, "line"));
    match part(&found, "other") {
        Some(other) if other.starts_with("Allowed memory size") => {
            crash.what.kind = Kind::OutOfMemory;
            crash.what.name = Some("out of memory".into());
            crash.what.words = Some("it used all the memory that its settings allow".into());
            crash.what.detail = Some(other);
        }
        Some(other) => {
            crash.what.name = Some("fatal error".into());
            crash.what.detail = Some(other);
        }
        None => {
            crash.what.name = part(&found, "name");
            crash.what.detail = part(&found, "message");
            crash.what.words = Some("an exception was thrown that nothing catches".into());
        }
    }
    let mut is_first = true;
    for (index, text) in texts(lines).skip(1) {
        if let Some(found) = FRAME.of(text).filter(|_| is_first) {
            // A line of the stack names where its function was called from: the place of the one before is inside of it.
            let (file, line) = std::mem::replace(&mut place, (part(&found, "file"), number(&found, "line")));
            crash.frames.push(frame_in(part(&found, "function"), file, line));
        } else if text.starts_with("Next ") {
            // What was thrown because of it, with a stack of its own.
            is_first = false;
        } else if !(text.is_empty() || text.starts_with("Stack trace:") || text.starts_with('#')) {
            told.lines = index + usize::from(text.starts_with("  thrown in "));
            break;
        }
        told.lines = index + 1;
    }
    let (file, line) = place;
    if file.is_some() {
        crash.frames.push(frame_in(None, file, line));
    }
    Some(told)
}

static RUBY_FRAME: Pattern = Pattern::new(r"^(?:\s+from )?(?P<file>[^\s:]+):(?P<line>\d+):in [`'](?P<function>[^']+)'");

/// `pump.rb:6:in 'dose': tank 7 has no gauge (ArgumentError)` and the lines `from …` behind it.
pub(super) fn ruby(lines: &[TextLine]) -> Option<Told> {
    static FIRST: Pattern = Pattern::new(
        r"^(?P<file>[^\s:]+):(?P<line>\d+):in [`'](?P<function>[^']+)': (?P<message>.*?) ?\((?P<name>[A-Z][\w:]*)\)$",
    );
    let found = FIRST.of(&lines.first()?.text)?;
    let mut told = Told { lines: 1, ..Told::default() };
    let crash = &mut told.crash;
    crash.process = Some("ruby".into());
    crash.what.name = part(&found, "name");
    crash.what.detail = part(&found, "message");
    crash.what.words = Some("an exception was thrown that nothing catches".into());
    crash.frames.push(frame_of(&found));
    let mut stacks = 1_usize;
    let mut from = 0_usize;
    // The interpreter shows the code between the first line and the stack.
    const MOST_BETWEEN: usize = 5;
    for (index, text) in texts(lines).skip(1) {
        if text.starts_with("\tfrom ")
            && let Some(found) = RUBY_FRAME.of(text)
        {
            from += 1;
            if stacks == 1 || from > crash.frames.len().saturating_sub(1) {
                crash.frames.push(frame_of(&found));
            }
        } else if from > 0
            && let Some(found) = FIRST.of(text)
        {
            // What it came from stands below it, with a stack of its own; a thread's error comes once more.
            (stacks, from) = (stacks + 1, 0);
            let (name, message) = (part(&found, "name"), part(&found, "message").unwrap_or_default());
            if name != crash.what.name || Some(message.as_str()) != crash.what.detail.as_deref() {
                let said = crash.what.detail.take().unwrap_or_default();
                crash.what.detail = Some(format!("{said}; caused by {}: {message}", name.unwrap_or_default()));
                crash.frames.clear();
                crash.frames.push(frame_of(&found));
            }
        } else if !(text.trim_start().starts_with("... ") || from == 0 && index <= MOST_BETWEEN) {
            break;
        }
        told.lines = index + 1;
    }
    // Without its stack it is a warning, or any line.
    (stacks > 1 || from > 0).then_some(told)
}

/// Lines of a fault of the interpreter: it prints all that it has loaded, and a note at the end.
const MOST_OF_A_FAULT: usize = 2000;

/// The interpreter itself failed: `pump.rb:4: [BUG] Segmentation fault at 0x…`
pub(super) fn ruby_fault(lines: &[TextLine]) -> Option<Told> {
    static FIRST: Pattern =
        Pattern::new(r"^(?:(?P<file>[^\s:]+):(?P<line>\d+): )?\[BUG\] (?P<what>.+?)(?: at 0x[0-9a-f]+)?$");
    let found = FIRST.of(&lines.first()?.text)?;
    let mut told = Told { lines: 1, ..Told::default() };
    let crash = &mut told.crash;
    crash.process = Some("ruby".into());
    match &found["what"] {
        "Segmentation fault" => set_signal(crash, 11),
        "Bus Error" => set_signal(crash, 7),
        what => {
            crash.what.kind = Kind::Panic;
            crash.what.name = Some(what.to_owned());
        }
    }
    let mut is_stack = false;
    for (index, text) in texts(lines).take(MOST_OF_A_FAULT).skip(1) {
        if text.starts_with("-- ") {
            is_stack = text.starts_with("-- Ruby level backtrace");
        } else if let Some(found) = RUBY_FRAME.of(text).filter(|_| is_stack) {
            // The outermost comes first.
            let at = frame_of(&found);
            crash.frames.insert(0, at);
        }
        told.lines = index + 1;
        if text.starts_with("[NOTE]") {
            break;
        }
    }
    Some(told)
}
