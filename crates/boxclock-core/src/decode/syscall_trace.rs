//! `syscall-trace`: the system calls of one or several processes, with their results.
//!
//! Source: the manual page strace(1) and traces that strace of Debian wrote (`tests/data/formats`): an optional process
//! (`99 ` or `[pid    99] `), an optional time (`-t` time of day, `-tt` with microseconds, `-ttt` seconds since the epoch,
//! `-r` seconds since the call before), then `name(arguments) = result`, `--- SIGNAL … ---` or `+++ exited with 0 +++`. A call
//! that another process interrupts is written in two parts, `<unfinished ...>` and `<... name resumed>`: they are joined
//! where the call began.

use std::collections::VecDeque;
use std::io;

use serde_json::{Map, Value};

use super::{Decoder, Entry, Input, Line, Output, Place};
use crate::clock::forms;
use crate::clock::{SECOND, Stamp};
use crate::code::{Family, Platform};

/// The decoder.
pub(super) struct SyscallTrace;

/// Calls that wait for the end of an earlier one.
const WAITING: usize = 10_000;

/// What stands before the call.
struct Start<'a> {
    pid: Option<u32>,
    time: Option<Stamp>,
    /// Seconds since the call before, in nanoseconds.
    relative: Option<i64>,
    rest: &'a str,
}

fn start(line: &str) -> Start<'_> {
    let mut rest = line;
    let mut pid = None;
    if let Some((number, after)) = rest.strip_prefix("[pid").and_then(|rest| rest.split_once(']')) {
        pid = number.trim().parse().ok();
        rest = after.trim_start();
    } else if let Some((number, after)) = rest.split_once(' ')
        && number.len() <= 8
        && number.bytes().all(|byte| byte.is_ascii_digit())
    {
        pid = number.parse().ok();
        rest = after.trim_start();
    }
    let mut found = Start { pid, time: None, relative: None, rest };
    let trimmed = rest.trim_start();
    let Some((word, after)) = trimmed.split_once(' ') else { return found };
    let bytes = word.as_bytes();
    if let Some((civil, _)) =
        forms::epoch(bytes).or_else(|| forms::time_of_day(bytes)).filter(|(_, end)| *end == bytes.len())
    {
        (found.time, found.rest) = (Some(civil.stamp()), after.trim_start());
    } else if let Some(ns) = seconds(word.strip_prefix('+').unwrap_or(word)) {
        (found.relative, found.rest) = (Some(ns), after.trim_start());
    }
    found
}

/// `0.000348` in nanoseconds.
fn seconds(word: &str) -> Option<i64> {
    let (whole, fraction) = word.split_once('.')?;
    let digits = |text: &str| !text.is_empty() && text.bytes().all(|byte| byte.is_ascii_digit());
    if !digits(whole) || !digits(fraction) || fraction.len() > 9 || whole.len() > 9 {
        return None;
    }
    let nanos: i64 = format!("{fraction:0<9}").parse().ok()?;
    Some(whole.parse::<i64>().ok()?.saturating_mul(SECOND).saturating_add(nanos))
}

/// What a line tells.
enum Said<'a> {
    Call,
    Unfinished(&'a str),
    Resumed(&'a str, &'a str),
    Other,
}

fn is_call_name(name: &str) -> bool {
    !name.is_empty()
        && name.len() <= 40
        && name.bytes().all(|byte| byte.is_ascii_lowercase() || byte.is_ascii_digit() || byte == b'_')
}

fn said(rest: &str) -> Option<Said<'_>> {
    if rest.starts_with("--- ") && rest.ends_with(" ---") || rest.starts_with("+++ ") && rest.ends_with(" +++") {
        return Some(Said::Other);
    }
    if rest.starts_with("strace: ") {
        return Some(Said::Other);
    }
    if let Some((name, tail)) = rest.strip_prefix("<... ").and_then(|rest| rest.split_once(" resumed>")) {
        return is_call_name(name).then_some(Said::Resumed(name, tail));
    }
    let (name, _) = rest.split_once('(')?;
    if !is_call_name(name) {
        return None;
    }
    if let Some(begun) = rest.strip_suffix("<unfinished ...>") {
        return Some(Said::Unfinished(begun.trim_end()));
    }
    let at = rest.rfind(") = ").or_else(|| rest.rfind(") "))?;
    rest.get(at..)?.contains("= ").then_some(Said::Call)
}

/// A call or other line that waits to be written.
struct Waiting {
    stamp: Stamp,
    pid: Option<u32>,
    place: Place,
    text: String,
    open: bool,
}

impl Waiting {
    fn write(&self, out: &mut Output) -> io::Result<()> {
        let name = self.text.split_once('(').map(|(name, _)| name).filter(|name| is_call_name(name));
        out.entry(&Entry {
            stamp: self.stamp,
            component: name.unwrap_or_default(),
            pid: self.pid,
            body: &self.text,
            fields: if self.open { "unfinished" } else { "" },
            ..Entry::at(self.place)
        })
    }
}

/// What a call says: its name, result, error and duration.
fn attributes(body: &str, fields: &str) -> Map<String, Value> {
    let mut attributes = Map::new();
    let mut text = body.lines().next().unwrap_or_default();
    if let Some((before, duration)) = text.strip_suffix('>').and_then(|text| text.rsplit_once(" <"))
        && let Ok(duration) = duration.parse::<f64>()
    {
        attributes.insert("syscall.duration_s".into(), Value::from(duration));
        text = before;
    }
    let name = text.split_once('(').map(|(name, _)| name).filter(|name| is_call_name(name));
    attributes.extend(name.map(|name| ("syscall.name".to_owned(), Value::from(name))));
    if let Some(result) = text.rfind("= ").and_then(|at| text.get(at + 2..)).filter(|_| name.is_some()) {
        let mut words = result.split(' ');
        attributes.extend(words.next().map(|word| ("syscall.result".to_owned(), Value::from(word))));
        let is_error = |word: &&str| {
            word.starts_with('E') && word.bytes().all(|byte| byte.is_ascii_uppercase() || byte.is_ascii_digit())
        };
        attributes.extend(words.next().filter(is_error).map(|word| ("error.type".to_owned(), Value::from(word))));
    }
    if fields == "unfinished" {
        attributes.insert("syscall.unfinished".into(), true.into());
    }
    attributes
}

impl Decoder for SyscallTrace {
    fn name(&self) -> &'static str {
        "syscall-trace"
    }

    fn families(&self) -> &'static [Family] {
        &[Family::Errno, Family::Signal]
    }

    fn is_quiet(&self) -> bool {
        true
    }

    fn recognise(&self, bytes: &[u8]) -> bool {
        let text = String::from_utf8_lossy(bytes);
        let lines: Vec<&str> = text.lines().filter(|line| !line.trim().is_empty()).take(100).collect();
        let calls = lines.iter().filter(|line| said(start(line).rest).is_some()).count();
        let proof = lines.iter().any(|line| matches!(said(start(line).rest), Some(Said::Call | Said::Unfinished(_))));
        // The last line of the sample may be cut.
        proof && (calls + 1) * 10 >= lines.len() * 9
    }

    fn platform(&self) -> Platform {
        Platform::Linux
    }

    fn attributes(&self, body: &str, fields: &str) -> Map<String, Value> {
        attributes(body, fields)
    }

    fn decode(&self, input: &Input<'_>, out: &mut Output) -> io::Result<()> {
        let mut lines = input.lines()?;
        lines.encoding.name().clone_into(&mut out.account.encoding);
        let mut waiting: VecDeque<Waiting> = VecDeque::new();
        let mut since_start = 0_i64;
        while let Some(line) = lines.next_line()? {
            out.account.lines = out.account.lines.saturating_add(1);
            if line.text.trim().is_empty() {
                continue;
            }
            take(&mut waiting, &line, &mut since_start, out);
            while waiting.front().is_some_and(|first| !first.open || waiting.len() > WAITING) {
                if let Some(first) = waiting.pop_front() {
                    first.write(out)?;
                }
            }
        }
        waiting.iter().try_for_each(|call| call.write(out))
    }
}

fn take(waiting: &mut VecDeque<Waiting>, line: &Line, since_start: &mut i64, out: &mut Output) {
    let found = start(&line.text);
    let stamp = match (found.time, found.relative) {
        (Some(stamp), _) => stamp,
        (None, Some(ns)) => {
            *since_start = since_start.saturating_add(ns);
            Stamp::Uptime(*since_start)
        }
        (None, None) => Stamp::None,
    };
    let (mut text, mut open) = (found.rest.to_owned(), false);
    match said(found.rest) {
        Some(Said::Unfinished(begun)) => (text, open) = (begun.to_owned(), true),
        Some(Said::Resumed(name, tail)) => {
            let begun =
                waiting.iter_mut().rev().find(|call| call.open && call.pid == found.pid && call.text.starts_with(name));
            if let Some(call) = begun {
                call.text.push_str(tail);
                call.open = false;
                out.account.attached_lines = out.account.attached_lines.saturating_add(1);
                out.account.event_bytes = out.account.event_bytes.saturating_add(line.place.length);
                return;
            }
        }
        Some(Said::Call | Said::Other) => {}
        None => {
            // A line that is no call belongs to the one before it, which may have been written already.
            if let Some(last) = waiting.back_mut() {
                last.text.push('\n');
                last.text.push_str(&line.text);
                last.place.length = last.place.length.saturating_add(line.place.length);
                out.account.attached_lines = out.account.attached_lines.saturating_add(1);
                return;
            }
        }
    }
    waiting.push_back(Waiting { stamp, pid: found.pid, place: line.place, text, open });
}
