//! Stack traces inside records: exception, message, frames and causes.
//!
//! There is no standard. The shapes are those that the runtimes print: Java (`java.lang.Throwable.printStackTrace`), Python
//! (the module `traceback`, with chained exceptions), .NET (`Exception.ToString`), Go (the runtime's panics), Rust
//! (`RUST_BACKTRACE`), JavaScript (`Error.stack` of V8), C and C++ (`backtrace_symbols(3)`, numbered frames), and the
//! Linux kernel (`Documentation/admin-guide/bug-hunting.rst`).

use serde_json::{Map, Value};

/// Frames of one trace that are kept.
const FRAMES: usize = 200;

/// A stack trace.
#[derive(Clone, Debug, Default, PartialEq, Eq)]
pub struct Trace {
    /// The type of what was thrown, or the kind of the crash.
    pub exception: String,
    /// Its message.
    pub message: String,
    /// The frames of it, the innermost first.
    pub frames: Vec<String>,
    /// What caused it: types with messages, the nearest first.
    pub causes: Vec<String>,
}

impl Trace {
    /// The trace as attributes, under OpenTelemetry's names where it has them.
    pub fn attributes(&self) -> Map<String, Value> {
        let mut attributes = Map::new();
        let mut add = |name: &str, text: &str| {
            if !text.is_empty() {
                attributes.insert(name.to_owned(), Value::from(text));
            }
        };
        add("exception.type", &self.exception);
        add("exception.message", &self.message);
        attributes.insert("exception.frames".into(), self.frames.clone().into());
        if !self.causes.is_empty() {
            attributes.insert("exception.causes".into(), self.causes.clone().into());
        }
        attributes
    }
}

/// Whether a line can only be part of a trace that began before it.
pub fn continues(line: &[u8]) -> bool {
    let text = line.trim_ascii_start();
    let indented = text.len() < line.len();
    let starts = |words: &[&[u8]]| words.iter().any(|word| text.starts_with(word));
    indented && (starts(&[b"at ", b"File \"", b"... ", b"~", b"^"]) || text.ends_with(b" more"))
        || starts(&[
            b"Caused by: ",
            b"Suppressed: ",
            b"--- End of ",
            b"Traceback (most recent call last):",
            b"The above exception was the direct cause",
            b"During handling of the above exception",
        ])
}

/// A type's name as runtimes print it, with what stands behind the colon.
fn thrown(line: &str) -> Option<(String, String)> {
    let line = line.trim();
    let line = line
        .strip_prefix("Exception in thread ")
        .and_then(|rest| rest.split_once("\" "))
        .map_or(line, |(_, rest)| rest);
    let line = line.strip_prefix("Unhandled exception. ").or(line.strip_prefix("Uncaught ")).unwrap_or(line);
    let (name, message) = line.split_once(": ").unwrap_or((line.trim_end_matches(':'), ""));
    let good = !name.is_empty()
        && name.len() <= 200
        && name.chars().all(|letter| letter.is_alphanumeric() || "._$`+:<>".contains(letter))
        && name.chars().next().is_some_and(char::is_alphabetic)
        && (name.contains('.') || name.chars().any(char::is_uppercase));
    good.then(|| (name.to_owned(), message.trim().to_owned()))
}

fn joined((name, message): (String, String)) -> String {
    if message.is_empty() { name } else { format!("{name}: {message}") }
}

/// `at FRAME`: Java, .NET, JavaScript.
fn at_frame(line: &str) -> Option<&str> {
    let trimmed = line.trim_start();
    (trimmed.len() < line.len()).then_some(trimmed).and_then(|line| line.strip_prefix("at ")).map(str::trim_end)
}

/// Finds the stack trace in a record's text.
pub fn parse(text: &str) -> Option<Trace> {
    if !text.contains('\n') {
        return None;
    }
    let lines: Vec<&str> = text.lines().take(20_000).collect();
    python(&lines)
        .or_else(|| rust(&lines))
        .or_else(|| go(&lines))
        .or_else(|| kernel(&lines))
        .or_else(|| with_at(&lines))
        .or_else(|| numbered(&lines))
        .filter(|trace| !trace.frames.is_empty())
        .map(|mut trace| {
            trace.frames.truncate(FRAMES);
            trace
        })
}

fn with_at(lines: &[&str]) -> Option<Trace> {
    let first = lines.iter().position(|line| at_frame(line).is_some())?;
    let mut trace = Trace::default();
    // What was thrown stands before the first frame, perhaps with a message of several lines, or inner exceptions.
    let lead = lines.get(first.saturating_sub(8)..first)?;
    let (place, (name, message)) = lead.iter().enumerate().rev().find_map(|(place, line)| {
        // A record's head may stand in front of it.
        let line = line.split(" ---> ").next().unwrap_or(line);
        let whole = thrown(line).filter(|(name, _)| name.len() > 3);
        let behind =
            || line.match_indices(' ').filter_map(|(at, _)| thrown(&line[at..])).find(|(name, _)| is_type(name));
        whole.filter(|(name, _)| is_type(name)).or_else(behind).map(|found| (place, found))
    })?;
    (trace.exception, trace.message) = (name, message);
    for line in lead.get(place + 1..).unwrap_or_default().iter().filter(|line| !line.trim_start().starts_with("--->")) {
        trace.message.push('\n');
        trace.message.push_str(line);
    }
    for line in lead.get(place..).unwrap_or_default() {
        trace.causes.extend(line.split("---> ").skip(1).filter_map(thrown).map(joined));
    }
    let mut own = trace.causes.is_empty();
    for line in &lines[first..] {
        let trimmed = line.trim_start();
        if let Some(frame) = at_frame(line) {
            if own {
                trace.frames.push(frame.to_owned());
            }
        } else if let Some(cause) = trimmed.strip_prefix("Caused by: ") {
            trace.causes.extend(thrown(cause).map(joined));
            own = false;
        } else if trimmed.starts_with("--- End of inner exception") {
            // .NET prints the inner ones first.
            own = true;
        }
    }
    Some(trace)
}

fn is_type(name: &str) -> bool {
    let last = name.rsplit(['.', ':']).next().unwrap_or(name);
    name.contains('.') && last.starts_with(char::is_uppercase)
        || ["Error", "Exception", "Failure", "Throwable"].iter().any(|end| last.ends_with(end))
}

fn python(lines: &[&str]) -> Option<Trace> {
    lines.iter().position(|line| line.trim_end().ends_with("Traceback (most recent call last):"))?;
    let mut trace = Trace::default();
    let mut raised: Vec<(String, String)> = Vec::new();
    let mut inside = false;
    for line in lines {
        let trimmed = line.trim_start();
        if trimmed.ends_with("Traceback (most recent call last):") {
            inside = true;
            trace.frames.clear();
        } else if let Some(frame) = trimmed.strip_prefix("File \"").filter(|_| inside) {
            let (path, rest) = frame.split_once("\", line ").unwrap_or((frame, ""));
            let (number, function) = rest.split_once(", in ").unwrap_or((rest, ""));
            trace.frames.push(format!("{function} ({path}:{number})"));
        } else if inside && !line.starts_with(' ') && !line.is_empty() {
            raised.extend(thrown(line));
            inside = false;
        }
    }
    // The innermost call is printed last, and so is what was raised at the end.
    trace.frames.reverse();
    (trace.exception, trace.message) = raised.pop()?;
    trace.causes = raised.into_iter().rev().map(joined).collect();
    Some(trace)
}

fn rust(lines: &[&str]) -> Option<Trace> {
    let at = lines.iter().position(|line| line.contains("thread '") && line.contains(" panicked at "))?;
    let place = lines[at].split_once(" panicked at ")?.1;
    // Older ones print the message in quotes before the place.
    let (message, place) = match place.strip_prefix('\'').and_then(|rest| rest.rsplit_once("', ")) {
        Some((message, place)) => (message.to_owned(), place),
        None => (lines.get(at + 1).map(|line| line.trim().to_owned()).unwrap_or_default(), place.trim_end_matches(':')),
    };
    let mut trace = Trace { exception: "panic".into(), message, ..Trace::default() };
    for line in &lines[at..] {
        let trimmed = line.trim_start();
        if let Some((_, function)) = trimmed.split_once(": ").filter(|(number, _)| number.parse::<u32>().is_ok()) {
            trace.frames.push(function.trim().to_owned());
        } else if let (Some(place), Some(last)) = (trimmed.strip_prefix("at "), trace.frames.last_mut()) {
            last.push_str(&format!(" ({})", place.trim()));
        }
    }
    if trace.frames.is_empty() {
        trace.frames.push(place.to_owned());
    }
    Some(trace)
}

fn go(lines: &[&str]) -> Option<Trace> {
    let start = lines.iter().position(|line| line.starts_with("goroutine ") && line.trim_end().ends_with("]:"))?;
    let before = lines[..start].iter().rev();
    let message = before.clone().find_map(|line| {
        let at = line.find("panic: ").map(|at| at + 7).or_else(|| line.find("fatal error: ").map(|at| at + 13))?;
        line.get(at..)
    })?;
    let mut trace = Trace { exception: "panic".into(), message: message.to_owned(), ..Trace::default() };
    // Only the first goroutine is the one that fails.
    let mut own =
        lines[start + 1..].iter().take_while(|line| !line.starts_with("goroutine ") && !line.trim().is_empty());
    let mut function: Option<&str> = None;
    for line in own.by_ref() {
        match (line.strip_prefix('\t'), function.take()) {
            (Some(place), Some(name)) => {
                let place = place.split(" +0x").next().unwrap_or(place);
                trace.frames.push(format!("{name} ({place})"));
            }
            _ => function = Some(line.trim_end()),
        }
    }
    Some(trace)
}

/// How the message of a kernel's failure starts.
const KERNEL_STARTS: [&str; 5] = ["BUG: ", "Oops: ", "Kernel panic - not syncing: ", "WARNING: ", "Unable to handle "];

/// Whether a kernel's message is the first line of a failure whose further lines are messages of their own.
pub fn starts_in_kernel(message: &str) -> bool {
    let start = message.get(..message.len().min(80)).unwrap_or(message);
    KERNEL_STARTS.iter().any(|mark| start.contains(mark))
}

fn kernel(lines: &[&str]) -> Option<Trace> {
    let call =
        lines.iter().position(|line| line.trim_end().ends_with("Call Trace:") || line.contains("Call trace:"))?;
    let message =
        lines[..=call].iter().find_map(|line| KERNEL_STARTS.iter().find_map(|mark| line.get(line.find(mark)?..)))?;
    let mut trace = Trace { exception: "kernel oops".into(), message: message.to_owned(), ..Trace::default() };
    let function = |line: &str| -> Option<String> {
        let word = line.split_ascii_whitespace().find(|word| word.contains("+0x") && word.contains("/0x"))?;
        Some(word.split_once(':').map_or(word, |(_, rest)| if rest.contains("+0x") { rest } else { word }).to_owned())
    };
    trace.frames.extend(lines[..call].iter().filter(|line| line.contains("RIP: ")).find_map(|line| function(line)));
    trace.frames.extend(
        lines[call + 1..]
            .iter()
            .filter(|line| !line.contains(" ? "))
            .map_while(|line| {
                let skip = line.contains("<TASK>") || line.contains("<IRQ>") || line.contains("</IRQ>");
                if skip { Some(None) } else { function(line).map(Some) }
            })
            .flatten(),
    );
    Some(trace)
}

/// `#0  0x00007f… in raise () from /lib/libc.so.6`, and `/usr/sbin/dosingd(main+0x1f) [0x55…]`.
fn numbered(lines: &[&str]) -> Option<Trace> {
    let frame = |line: &&str| -> Option<String> {
        let line = line.trim();
        if let Some(rest) = line.strip_prefix('#') {
            let digits = rest.bytes().take_while(u8::is_ascii_digit).count();
            let rest = rest.get(digits..)?.trim_start();
            let rest =
                rest.split_once(" in ").filter(|(address, _)| address.starts_with("0x")).map_or(rest, |(_, rest)| rest);
            return (digits > 0 && !rest.is_empty()).then(|| rest.to_owned());
        }
        let (place, address) = line.rsplit_once(" [0x")?;
        (address.ends_with(']') && (place.contains('(') || place.contains('/'))).then(|| place.to_owned())
    };
    let frames: Vec<String> = lines.iter().filter_map(frame).collect();
    if frames.len() < 2 {
        return None;
    }
    let message = lines.iter().take_while(|line| frame(line).is_none()).last().map(|line| line.trim().to_owned());
    Some(Trace { exception: "backtrace".into(), message: message.unwrap_or_default(), frames, causes: Vec::new() })
}

#[cfg(test)]
mod tests;
