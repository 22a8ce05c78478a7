//! What a program's own runtime prints before it aborts, in one line: the C library's `assert` (the wordings of glibc, musl and the
//! BSDs), its allocator and its checks of buffers (the texts of glibc's `malloc.c` and `fortify_fail.c`), and Rust's runtime where
//! the stack or the memory is used up.

use super::{Pattern, TextLine, Told, frame_in, number, part, set_signal};
use crate::crash::Kind;

fn mark(kind: Kind, name: &str, words: &str) -> Told {
    let mut told = Told { lines: 1, is_mark: true, ..Told::default() };
    told.crash.what.kind = kind;
    told.crash.what.name = Some(name.to_owned());
    told.crash.what.words = Some(words.to_owned());
    told
}

/// A condition that did not hold: `pump: feed.c:15: pump_fail: Assertion `n == 8' failed.`
pub(super) fn assertion(lines: &[TextLine]) -> Option<Told> {
    static FORMS: [Pattern; 3] = [
        Pattern::new(
            r"^(?:(?P<program>[^\s:]+): )?(?P<file>[^\s:]+):(?P<line>\d+): (?:(?P<function>.+?): )?Assertion `(?P<what>.+)' failed\.",
        ),
        Pattern::new(
            r"^Assertion failed: \((?P<what>.+)\), function (?P<function>\S+), file (?P<file>.+), line (?P<line>\d+)\.",
        ),
        Pattern::new(r"^Assertion failed: (?P<what>.+) \((?P<file>[^:()]+): (?P<function>[^:()]+): (?P<line>\d+)\)$"),
    ];
    let text = &lines.first()?.text;
    let found = FORMS.iter().find_map(|form| form.of(text))?;
    let mut told = mark(Kind::Assertion, "assertion", "a condition that the program itself checks did not hold");
    told.crash.process = part(&found, "program");
    told.crash.what.detail = part(&found, "what");
    let function = part(&found, "function").map(|name| bare(&name).to_owned());
    told.crash.frames.push(frame_in(function, part(&found, "file"), number(&found, "line")));
    Some(told)
}

/// The name of a function in its C++ signature: `int pump::fail(T) [with T = int]` is `pump::fail`.
fn bare(signature: &str) -> &str {
    let name = signature.split('(').next().unwrap_or(signature).trim();
    name.rsplit(' ').next().unwrap_or(name).trim_start_matches(['*', '&'])
}

/// The allocator, or a check of a buffer, of the C library found damage.
pub(super) fn damage(lines: &[TextLine]) -> Option<Told> {
    static FORM: Pattern = Pattern::new(
        r"^(?:\*\*\* Error in `(?P<program>[^']+)': )?(?P<what>(?:free|malloc|realloc|calloc|munmap_chunk|mremap_chunk|malloc_consolidate)\(\): [a-z].{3,60}?|double free or corruption \([\w! -]+\)|corrupted (?:size vs\. prev_size|double-linked list).{0,40}?|\*\*\* (?:stack smashing|buffer overflow) detected \*\*\*)(?:: (?:0x[0-9a-f]+ \*\*\*|terminated|<unknown> terminated|(?P<program2>\S+) terminated))?$",
    );
    let found = FORM.of(lines.first()?.text.trim_end())?;
    let what = part(&found, "what")?;
    let words = if what.contains("stack smashing") {
        "it went beyond the end of a local variable, over the mark that the compiler had put behind it"
    } else if what.contains("buffer overflow") {
        "it was about to go beyond the end of a buffer"
    } else if what.contains("double free") {
        "it freed the same block twice"
    } else {
        "the memory of the heap was damaged before; what damaged it is not where that was noticed"
    };
    let mut told = mark(Kind::Signal, "", words);
    // It then calls `abort`.
    set_signal(&mut told.crash, 6);
    told.crash.what.detail = Some(what.trim_matches(['*', ' ']).to_owned());
    told.crash.process = part(&found, "program").or(part(&found, "program2").filter(|name| name != "<unknown>"));
    Some(told)
}

/// A Rust program without stack or memory.
pub(super) fn exhausted(lines: &[TextLine]) -> Option<Told> {
    static STACK: Pattern = Pattern::new(r"^thread '(?P<thread>[^']*)' (?:\((?P<id>\d+)\) )?has overflowed its stack");
    static MEMORY: Pattern = Pattern::new(r"^memory allocation of (?P<size>\d+) bytes failed");
    let text = &lines.first()?.text;
    if let Some(found) = STACK.of(text) {
        let mut told = mark(
            Kind::Signal,
            "stack-overflow",
            "it ran out of stack: a recursion too deep or a local variable too large",
        );
        told.crash.tid = number(&found, "id");
        told.crash.what.detail = part(&found, "thread").map(|thread| format!("thread {thread}"));
        let goes_on = lines.get(1).is_some_and(|line| line.text.starts_with("fatal runtime error: "));
        told.lines += usize::from(goes_on);
        return Some(told);
    }
    let found = MEMORY.of(text)?;
    let mut told = mark(Kind::OutOfMemory, "out of memory", "there was no memory for what it asked for");
    told.crash.what.detail = part(&found, "size").map(|size| format!("{size} bytes asked for"));
    Some(told)
}
