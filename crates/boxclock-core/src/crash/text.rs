//! Crashes that are told in text: reports that are files of their own, and lines of logs that hold one.
//!
//! There is no standard. Each reader says what it goes by: what the runtimes, kernels and service managers print themselves.

use std::sync::OnceLock;

use regex::bytes::{Regex as BytesRegex, RegexBuilder, RegexSet, RegexSetBuilder};
use regex::{Captures, Regex};

use super::Crash;
use super::stack::{Found, Frame, Sure};
use crate::code::{Code, Family, NO_CATALOGUES, catalogue};

mod aborts;
mod hangs;
mod kernel;
mod native;
mod reports;
mod runtimes;
mod scripts;
mod services;

/// A line of a record's message, with the line of the file that it stands on.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct TextLine {
    /// Line of the source, from 1.
    pub line: u64,
    /// The text, without the head of the record.
    pub text: String,
}

/// A crash that was read from lines.
#[derive(Clone, Debug, Default)]
pub struct Told {
    /// What it says.
    pub crash: Crash,
    /// How many lines it is.
    pub lines: usize,
    /// Whether it is a mere mark: somebody noticed the end, and there is no report.
    pub is_mark: bool,
}

type Reader = fn(&[TextLine]) -> Option<Told>;

/// How crashes begin, and who reads them. Earlier ones win.
const KINDS: [(&str, Reader); 35] = [
    (r"A fatal error has been detected by the Java Runtime Environment", runtimes::jvm),
    (r"Fatal Python error: ", runtimes::python_fatal),
    (r"^(?:\S+ )?(?:panic: |fatal error: |fatal: morestack|SIG[A-Z]+: )", runtimes::go),
    (r"thread '[^']*' (?:\(\d+\) )?panicked at ", runtimes::rust),
    (r"FATAL ERROR: .{0,80}(?:heap|memory|allocation)", runtimes::node_fatal),
    (r"^\s*throw |^node:internal/|^\S+\.[cm]?js:\d+$|Uncaught exception:|triggerUncaughtException", runtimes::node),
    (r#"Exception in thread "[^"]{1,120}" "#, runtimes::java_uncaught),
    (r"Unhandled exception\. ?", runtimes::dotnet),
    (r"^Timeout \(\d+:\d\d:\d\d", hangs::python),
    (r"^Found one Java-level deadlock:", hangs::java),
    (
        r"(?:PHP )?Fatal error:\s+\S.{0,400}(?: in \S+:| on line )\d+|^Uncaught [\w\\]+(?:: .{0,400})? in \S+:\d+\s*$|^Allowed memory size of \d+ bytes exhausted",
        scripts::php,
    ),
    (r"^\S+:\d+:in [`'].{1,120}': .*\([A-Z][\w:]*\)$", scripts::ruby),
    (r"^(?:\S+:\d+: )?\[BUG\] ", scripts::ruby_fault),
    (r"^(?:\S+: )?\S+:\d+: (?:.{1,200}: )?Assertion `|^Assertion failed: ", aborts::assertion),
    (
        r"^(?:\*\*\* Error in `[^']+': )?(?:(?:free|malloc|realloc|calloc|munmap_chunk|mremap_chunk|malloc_consolidate)\(\): [a-z]|double free or corruption \(|corrupted (?:size vs|double-linked)|\*\*\* (?:stack smashing|buffer overflow) detected)",
        aborts::damage,
    ),
    (
        r"^thread '[^']*' (?:\(\d+\) )?has overflowed its stack|^memory allocation of \d+ bytes failed",
        aborts::exhausted,
    ),
    (r"ERROR: (?:Address|Memory|HWAddress|Leak)Sanitizer|WARNING: ThreadSanitizer|DEADLYSIGNAL", native::sanitizer),
    (r"terminate called (?:after throwing|without an active)", native::terminate),
    (r"Process \d+ \(.{1,64}\) of user \d+ (?:dumped core|terminated abnormally)", native::coredump),
    (r"\]: segfault at [0-9a-f]+ ip |traps: .{1,64}\] (?:trap|general protection)", native::segfault),
    (
        r"BUG: (?:unable to handle|kernel NULL|soft lockup|scheduling|KASAN|Bad page)|kernel BUG at |Oops: |general protection fault|Unable to handle kernel|Internal error: ",
        kernel::oops,
    ),
    (r"Kernel panic - not syncing", kernel::panic),
    (r"soft lockup - CPU#|hard LOCKUP on cpu|self-detected stall on CPU|detected stalls on CPUs", kernel::lockup),
    (r"INFO: task .{1,64} blocked for more than \d+ seconds", kernel::hung_task),
    (r"(?:Out of memory|Memory cgroup out of memory): Kill(?:ed)? process \d+", kernel::out_of_memory),
    (r"Main process exited, code=(?:killed|dumped)|Watchdog timeout \(limit", services::unit),
    (
        r"(?:worker|server|child|checkpointer|background) process .{0,60}was terminated by signal \d+|exited on signal \d+|killed by signal \d+|terminated by signal \d+|child \d+ .{0,20}exit signal",
        services::by_signal,
    ),
    (r"service terminated unexpectedly", services::windows_service),
    (r"Faulting application name: |Faulting application ", reports::windows_application),
    (r"rebooted from a bugcheck", reports::bugcheck),
    (r"stopped interacting with Windows and was closed|AppHang", reports::hang),
    (r"^Process:\s+.{1,80}\[\d+\]", reports::macos),
    (r#"^\{"app_name":|"bug_type":"309"|^\{"bug_type":"#, reports::macos_json),
    (r#""reportVersion"|"javascriptStack""#, runtimes::node_report),
    (r"^Version=1\s*$|^EventType=", reports::windows_report),
];

/// All beginnings at once, and each.
fn beginnings() -> Option<&'static (BytesRegex, RegexSet)> {
    static COMPILED: OnceLock<Option<(BytesRegex, RegexSet)>> = OnceLock::new();
    let compile = || {
        let patterns: Vec<String> = KINDS.iter().map(|(pattern, _)| format!("(?m-u:{pattern})")).collect();
        let any = RegexBuilder::new(&patterns.join("|")).unicode(false).multi_line(true).build().ok()?;
        Some((any, RegexSetBuilder::new(&patterns).unicode(false).multi_line(true).build().ok()?))
    };
    COMPILED.get_or_init(compile).as_ref()
}

/// The first place at or behind `from` where a crash may begin.
pub(super) fn next_beginning(bytes: &[u8], from: usize) -> Option<(usize, usize)> {
    let found = beginnings()?.0.find_at(bytes, from)?;
    Some((found.start(), found.end()))
}

/// Reads the crash that begins on one of the first of these lines. What only looked like one gives `None`.
pub fn read(lines: &[TextLine]) -> Option<Told> {
    let first = lines.first()?;
    let (_, each) = beginnings()?;
    let kinds = each.matches(first.text.as_bytes());
    kinds.into_iter().find_map(|kind| KINDS.get(kind).and_then(|(_, reader)| reader(lines)))
}

/// Reads a report that is one JSON document.
pub(super) fn read_document(lines: &[TextLine]) -> Option<Told> {
    reports::macos_json(lines).or_else(|| runtimes::node_report(lines))
}

/// A compiled pattern; the tests compile all.
struct Pattern(&'static str, OnceLock<Option<Regex>>);

impl Pattern {
    const fn new(text: &'static str) -> Self {
        Self(text, OnceLock::new())
    }

    fn get(&self) -> Option<&Regex> {
        self.1.get_or_init(|| Regex::new(self.0).ok()).as_ref()
    }

    fn of<'t>(&self, text: &'t str) -> Option<Captures<'t>> {
        self.get()?.captures(text)
    }

    fn is_in(&self, text: &str) -> bool {
        self.get().is_some_and(|regex| regex.is_match(text))
    }
}

/// A named part of what a pattern found, if it is not empty.
fn part(captures: &Captures<'_>, name: &str) -> Option<String> {
    captures.name(name).map(|found| found.as_str().trim().to_owned()).filter(|text| !text.is_empty())
}

fn number<N: std::str::FromStr>(captures: &Captures<'_>, name: &str) -> Option<N> {
    captures.name(name)?.as_str().parse().ok()
}

fn hex(captures: &Captures<'_>, name: &str) -> Option<u64> {
    let text = captures.name(name)?.as_str();
    let text = text.strip_prefix("0x").or(text.strip_prefix("0X")).unwrap_or(text);
    u64::from_str_radix(&text.replace('`', ""), 16).ok()
}

/// A frame that a text states.
fn frame(function: Option<String>, module: Option<String>) -> Frame {
    let module = module.map(|module| module.rsplit(['/', '\\']).next().unwrap_or(&module).to_owned());
    Frame { function, module, found: Found::Text, sure: Sure::Certain, ..Frame::default() }
}

/// A frame with file and line.
fn frame_in(function: Option<String>, file: Option<String>, line: Option<u32>) -> Frame {
    Frame { file, line, ..frame(function, None) }
}

/// The number of a signal by its name, with or without `SIG`.
fn signal_number(name: &str) -> Option<u32> {
    let name = format!("SIG{}", name.trim_start_matches("SIG"));
    catalogue::by_name_in(Family::Signal, &name).map(|entry| entry.code.number)
}

/// Sets what a signal says, as far as a text knows it.
fn set_signal(crash: &mut Crash, number: u32) {
    let code = Code { family: Family::Signal, number };
    crash.code = Some(code);
    crash.what.number = Some(number);
    crash.what.name = code.info(&NO_CATALOGUES).name.map(str::to_owned);
    crash.what.kind = super::Kind::Signal;
}

#[cfg(test)]
mod tests;
