//! Which flush-left lines belong to a stack trace or a dump of threads that runtimes print without any time of its own.
//!
//! The shapes are those of the runtimes, see [`crate::trace`], and of the Java virtual machine's dump of threads (printed on
//! SIGQUIT), of Python's `faulthandler` module, and of Node's uncaught errors. Lines that are indented show by themselves that
//! they go on; the others need to know what came before, which is kept as [`LineState`].

use super::LineState;
use crate::severity::Severity;

/// Nothing is open.
const NOTHING: LineState = 0;
/// Inside a Python traceback: its frames, then the exception.
const PYTHON: LineState = 1;
/// Behind a Python exception: another traceback may follow that this one led to.
const PYTHON_RAISED: LineState = 2;
/// Between two chained tracebacks.
const PYTHON_CHAIN: LineState = 3;
/// Inside the threads that `faulthandler` prints.
const FAULT: LineState = 4;
/// Inside a dump of a Java virtual machine's threads.
const JAVA_THREADS: LineState = 5;
/// Inside a Go program's goroutines.
const GO: LineState = 6;
/// Behind the head of a Rust panic: its message.
const RUST: LineState = 7;
/// Behind that: its backtrace.
const RUST_TRACE: LineState = 8;
/// Inside Node's uncaught error.
const NODE: LineState = 9;

/// Whether a line opens a trace, and how bad that is.
pub(super) fn opens(line: &[u8]) -> Option<Severity> {
    state_opened_by(line).map(|state| match state {
        FAULT | GO => Severity::FATAL,
        JAVA_THREADS => Severity::INFO,
        _ => Severity::ERROR,
    })
}

fn state_opened_by(line: &[u8]) -> Option<LineState> {
    let first = *line.first()?;
    let starts = |word: &[u8]| line.starts_with(word);
    Some(match first {
        b'T' if starts(b"Traceback (most recent call last):") => PYTHON,
        b'E' if starts(b"Exception in thread ") && line.ends_with(b":") => PYTHON_CHAIN,
        b'F' if starts(b"Fatal Python error: ") => FAULT,
        b'F' if starts(b"Full thread dump ") => JAVA_THREADS,
        b'p' if starts(b"panic: ") => GO,
        b'f' if starts(b"fatal error: ") => GO,
        b't' if starts(b"thread '") && memchr::memmem::find(line, b"' panicked at ").is_some() => RUST,
        b'/' | b'n' | b'f' if is_node_place(line) => NODE,
        _ => return None,
    })
}

/// `/srv/app/server.js:12` or `node:internal/modules/run_main:81`: the place alone on its line.
fn is_node_place(line: &[u8]) -> bool {
    let Some(colon) = line.iter().rposition(|byte| *byte == b':') else { return false };
    let (path, number) = line.split_at(colon);
    let number = number.get(1..).unwrap_or_default();
    let is_script = [&b".js"[..], b".mjs", b".cjs", b".ts"].iter().any(|end| path.ends_with(end));
    let starts = path.starts_with(b"/") || path.starts_with(b"node:") || path.starts_with(b"file:///");
    starts
        && (is_script || path.starts_with(b"node:"))
        && !path.contains(&b' ')
        && (1..=7).contains(&number.len())
        && number.iter().all(u8::is_ascii_digit)
}

/// Takes the next line (not blank): whether it belongs to what is open.
pub(super) fn goes_on(line: &[u8], state: &mut LineState) -> bool {
    let indented = matches!(line.first(), Some(b' ' | b'\t'));
    let starts = |words: &[&[u8]]| words.iter().any(|word| line.starts_with(word));
    let (belongs, next) = match *state {
        PYTHON if indented => (true, PYTHON),
        PYTHON => (true, PYTHON_RAISED),
        PYTHON_RAISED | NOTHING
            if starts(&[b"During handling of the above exception", b"The above exception was the direct cause"]) =>
        {
            (*state == PYTHON_RAISED, PYTHON_CHAIN)
        }
        PYTHON_CHAIN if starts(&[b"Traceback (most recent call last):"]) => (true, PYTHON),
        FAULT
            if indented
                || starts(&[
                    b"Python runtime state: ",
                    b"Current thread ",
                    b"Thread 0x",
                    b"Extension modules: ",
                    b"<",
                ]) =>
        {
            (true, FAULT)
        }
        JAVA_THREADS if line.starts_with(b"JNI global ref") => (true, NOTHING),
        JAVA_THREADS
            if indented
                || starts(&[
                    b"\"",
                    b"Threads class SMR",
                    b"_java_thread_list",
                    b"0x",
                    b"}",
                    b"JNI ",
                    b"Found ",
                    b"=====",
                    b"-----",
                    b"Java stack information",
                    b"Locked ",
                ]) =>
        {
            (true, JAVA_THREADS)
        }
        GO if indented || is_go_line(line) => (true, GO),
        RUST => (true, RUST_TRACE),
        RUST_TRACE if indented || starts(&[b"stack backtrace:", b"note: "]) => (true, RUST_TRACE),
        NODE if line.starts_with(b"Node.js v") => (true, NOTHING),
        NODE => (true, NODE),
        _ => (false, NOTHING),
    };
    *state = if belongs { next } else { state_opened_by(line).unwrap_or(NOTHING) };
    belongs
}

/// A goroutine's head, a call, or what else the runtime of Go prints with them.
fn is_go_line(line: &[u8]) -> bool {
    let starts = |words: &[&[u8]]| words.iter().any(|word| line.starts_with(word));
    let call = line.ends_with(b")") && line.contains(&b'(') && !line.contains(&b' ');
    call || starts(&[
        b"goroutine ",
        b"created by ",
        b"[signal ",
        b"runtime stack:",
        b"exit status ",
        b"runtime: ",
        b"main.",
        b"panic(",
    ])
}

#[cfg(test)]
mod tests {
    use super::*;

    fn groups(text: &str) -> Vec<usize> {
        let mut state = 0;
        let mut groups: Vec<usize> = Vec::new();
        for line in text.lines().filter(|line| !line.trim().is_empty()) {
            if goes_on(line.as_bytes(), &mut state) {
                *groups.last_mut().unwrap() += 1;
            } else {
                groups.push(1);
            }
        }
        groups
    }

    #[test]
    fn python_tracebacks_with_their_chain_are_one() {
        let text = "starting\nTraceback (most recent call last):\n  File \"a.py\", line 3, in f\n    int('x')\nValueError: \
                    invalid literal\n\nDuring handling of the above exception, another exception occurred:\n\nTraceback \
                    (most recent call last):\n  File \"a.py\", line 5, in <module>\n    f()\nRuntimeError: no\nstopped\n";
        assert_eq!(groups(text), [1, 9, 1]);
    }

    #[test]
    fn threads_of_runtimes_are_one() {
        let fault = "Fatal Python error: Segmentation fault\n\nCurrent thread 0x00007f (most recent call first):\n  File \
                     \"c.py\", line 2 in f\nExtension modules: x (total: 1)\nSegmentation fault\n";
        assert_eq!(groups(fault), [4, 1]);
        let go = "panic: assignment to entry in nil map\n\ngoroutine 1 [running]:\nmain.feed(...)\n\t/srv/feed.go:12 \
                  +0x1d\nmain.main()\n\t/srv/feed.go:9\nexit status 2\nnext\n";
        assert_eq!(groups(go), [7, 1]);
        let node = "/srv/app.js:3\n  throw new Error('no')\n  ^\n\nError: no\n    at Object.<anonymous> \
                    (/srv/app.js:3:9)\n\nNode.js v18.20.4\nnext\n";
        assert_eq!(groups(node), [6, 1]);
        let rust = "thread 'main' panicked at src/main.rs:2:5:\nindex out of bounds\nstack backtrace:\n   0: \
                    main::f\nnote: run with\nnext\n";
        assert_eq!(groups(rust), [5, 1]);
    }
}
