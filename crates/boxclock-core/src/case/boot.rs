//! When a host's system started, for logs that count from there.
//!
//! Said by the user; else by the line of the log itself with which the kernel set its clock (`setting system clock to
//! 2026-04-12T02:31:07 UTC (1775961067)`, the kernel's `drivers/rtc/class.c`), which has both times; else found in the host's other logs: a kernel message that carries its uptime (`kernel: [   12.345678] …`)
//! in a log with wall time says both. The system log may write messages late, never early, so the earliest start that any
//! message gives is the right one.

use std::collections::HashMap;

use super::{Options, Reader, Source};
use crate::clock::{Resolver, SECOND, Stamp, year};
use crate::format::LineFormat;
use crate::limits;
use crate::text::{SourceFile, bare_line};

/// Gives the start of their system to sources that count from it.
pub(super) fn find(sources: &mut [Source], options: &Options) {
    if !sources.iter().any(|source| source.reader.lines().is_some_and(LineFormat::counts_from_boot)) {
        return;
    }
    let mut found: HashMap<Option<String>, i64> = HashMap::new();
    for source in sources.iter().filter(|source| source.reader.lines().is_some_and(LineFormat::may_hold_kernel_lines)) {
        for boot in starts_in(source) {
            let known = found.entry(source.host.clone()).or_insert(boot);
            *known = (*known).min(boot);
        }
    }
    for source in sources.iter_mut().filter(|source| source.reader.lines().is_some_and(LineFormat::counts_from_boot)) {
        let said = options.boot.get(source.host.as_deref().unwrap_or_default()).or_else(|| options.boot.get(""));
        let known = said.copied().or_else(|| own_start(source));
        source.header.boot = known.or_else(|| found.get(&source.host).copied());
    }
}

/// The start of the system that a log says itself, by the line with which the clock was set.
fn own_start(source: &Source) -> Option<i64> {
    const SET: &[u8] = b"setting system clock to ";
    let Reader::Lines(detected) = source.reader else { return None };
    let file = SourceFile::open(&source.path).ok()?;
    let bytes = file.read(source.mark_bytes, limits::BOOT_BYTES).ok()?;
    let text = source.encoding.decode(&bytes);
    text.split(|byte| *byte == source.line_end as u8).find_map(|line| {
        let at = memchr::memmem::find(line, SET)?;
        let (mut civil, _) = crate::clock::scan::iso(line.get(at + SET.len()..)?)?;
        civil.offset = Some(0);
        let head = detected.format.head(bare_line(line), detected.hint)?;
        match (civil.stamp(), head.stamp) {
            (Stamp::Utc(utc, _), Stamp::Uptime(up)) => utc.checked_sub(up),
            _ => None,
        }
    })
}

/// The starts of the system that the first kernel messages in a log give.
fn starts_in(source: &Source) -> Vec<i64> {
    let Reader::Lines(detected) = source.reader else { return Vec::new() };
    let Ok(bytes) = SourceFile::open(&source.path).and_then(|file| file.read(source.mark_bytes, limits::BOOT_BYTES))
    else {
        // What cannot be read is named when its events are read.
        return Vec::new();
    };
    let text = source.encoding.decode(&bytes);
    let mut resolver = Resolver::new(source.zone.clone());
    let civil_modified = source.modified.saturating_add(i64::from(source.zone.offset_at(source.modified)) * SECOND);
    let of_line = |line: &[u8]| -> Option<i64> {
        let at = memchr::memmem::find(line, b"kernel: [")?;
        let up = uptime(line.get(at + 9..)?)?;
        let head = detected.format.head(bare_line(line), detected.hint)?;
        let utc = match head.stamp {
            Stamp::Utc(ns, _) => ns,
            Stamp::Local(civil) => resolver.resolve(civil, i64::MIN).0,
            Stamp::NoYear(civil) => resolver.resolve(year::add(civil, year::shift(civil, civil_modified)), i64::MIN).0,
            _ => return None,
        };
        utc.checked_sub(up)
    };
    text.split(|byte| *byte == b'\n').filter_map(of_line).collect()
}

/// `   12.345678]` in nanoseconds.
fn uptime(text: &[u8]) -> Option<i64> {
    let length = text.iter().take(20).position(|byte| *byte == b']')?;
    let number = std::str::from_utf8(text.get(..length)?).ok()?.trim();
    let (seconds, micros) = number.split_once('.')?;
    let seconds: i64 = seconds.parse().ok().filter(|seconds| (0..=i64::from(u32::MAX)).contains(seconds))?;
    let micros: i64 = micros.parse().ok().filter(|_| micros.len() == 6)?;
    Some(seconds * SECOND + micros * 1000)
}
