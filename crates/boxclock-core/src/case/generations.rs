//! Rotated generations of one log, as one source in order.
//!
//! Rotation renames (`x.log` becomes `x.log.1`, `x.log.2.gz`, or `x.log-20260412`), or copies and truncates; in the
//! latter case, and when a rotation is cut short by a crash, the end of the older file may stand again at the start of
//! the younger one. Such lines are read once.

use std::collections::BTreeMap;

use super::{Reader, Source};
use crate::text::SourceFile;
use crate::work::Work;
use crate::{Result, limits};

/// How old a generation is: later ones compare greater.
#[derive(Clone, Debug, PartialEq, Eq, PartialOrd, Ord)]
enum Age {
    /// Named by a date (its digits), the oldest date first.
    Dated(String),
    /// Numbered: the highest number is the oldest.
    Numbered(std::cmp::Reverse<u32>),
    /// The file that is written to.
    Current,
}

/// Brings the generations of each log next to each other, oldest first, and finds the lines that two of them share.
///
/// # Errors
/// When cancelled.
pub(super) fn group(sources: &mut Vec<Source>, work: &Work) -> Result<()> {
    // One log: the same name without what rotation added, host and format.
    type Log = (String, Option<String>, &'static str);
    let mut logs: BTreeMap<Log, Vec<(Age, Source)>> = BTreeMap::new();
    for source in sources.drain(..) {
        let (stem, age) = match source.reader {
            Reader::Lines(_) => stem_and_age(&source.name),
            Reader::Dump(_) => (source.name.clone(), Age::Current),
        };
        logs.entry((stem, source.host.clone(), source.reader.name())).or_default().push((age, source));
    }
    for mut log in logs.into_values() {
        work.check()?;
        log.sort_by(|a, b| a.0.cmp(&b.0).then_with(|| a.1.name.cmp(&b.1.name)));
        let count = log.len() as u32;
        for at in 1..log.len() {
            let (older, younger) = log.split_at_mut(at);
            if let (Some((_, older)), Some((_, younger))) = (older.last_mut(), younger.first()) {
                share_once(older, younger);
            }
        }
        sources.extend(log.into_iter().enumerate().map(|(index, (_, mut source))| {
            source.generations = count - 1 - index as u32;
            source
        }));
    }
    Ok(())
}

/// The name of a log without what rotation added to it, and which generation the name says it is.
fn stem_and_age(name: &str) -> (String, Age) {
    let packed = [".gz", ".xz", ".zst", ".bz2", ".zip"];
    let bare = packed.iter().find_map(|end| name.strip_suffix(end)).unwrap_or(name);
    // `x.log.1`, `x.log.12`
    if let Some((stem, number)) = bare.rsplit_once('.')
        && !number.is_empty()
        && number.len() <= 4
        && number.bytes().all(|byte| byte.is_ascii_digit())
        && !stem.ends_with('/')
        && stem.rsplit('/').next().is_some_and(|file| file.bytes().any(|byte| byte.is_ascii_alphabetic()))
    {
        return (stem.to_owned(), Age::Numbered(std::cmp::Reverse(number.parse().unwrap_or(u32::MAX))));
    }
    let folder = bare.rfind('/').map_or(0, |slash| slash + 1);
    let (path, file) = bare.split_at(folder);
    if let Some((start, end, digits)) = date_in(file) {
        let stem = format!("{path}{}{}", &file[..start], &file[end..]);
        return (stem, Age::Dated(digits));
    }
    (bare.to_owned(), Age::Current)
}

/// A date `-20260412`, `.2026-04-12`, `_2026-04-12` (perhaps with an hour or time behind it) in a file name: where it
/// stands, with its separator, and its digits.
fn date_in(file: &str) -> Option<(usize, usize, String)> {
    let bytes = file.as_bytes();
    (1..bytes.len()).find_map(|start| {
        if !matches!(bytes[start], b'-' | b'.' | b'_') {
            return None;
        }
        let rest = bytes.get(start + 1..)?;
        let length = rest.iter().take_while(|byte| byte.is_ascii_digit() || matches!(byte, b'-' | b'_' | b'T')).count();
        let text = file.get(start + 1..start + 1 + length)?.trim_end_matches(['-', '_', 'T']);
        let digits: String = text.chars().filter(char::is_ascii_digit).collect();
        let year: u32 = digits.get(..4)?.parse().ok()?;
        let month: u32 = digits.get(4..6)?.parse().ok()?;
        let day: u32 = digits.get(6..8)?.parse().ok()?;
        let is_date = (1980..2100).contains(&year) && (1..=12).contains(&month) && (1..=31).contains(&day);
        is_date.then(|| (start, start + 1 + text.len(), digits))
    })
}

/// Ends the older generation before the lines that stand again at the start of the younger one.
fn share_once(older: &mut Source, younger: &Source) {
    let most = limits::SEAM_BYTES.min(older.len_bytes).min(younger.len_bytes);
    let from = (older.len_bytes - most) & !1;
    let read = |source: &Source, from: u64, most: u64| SourceFile::open(&source.path)?.read(from, most as usize);
    let (Ok(tail), Ok(head)) = (read(older, from, older.len_bytes - from), read(younger, younger.mark_bytes, most))
    else {
        // What cannot be read is named when its events are read.
        return;
    };
    let shared = overlap(&tail, &head);
    let Reader::Lines(detected) = younger.reader else { return };
    let ends_line =
        |bytes: &[u8]| younger.encoding.line_end(bytes, bytes.len().saturating_sub(2) & !1, younger.line_end);
    let common = &head[..shared];
    if shared == 0 || ends_line(common) != Some(shared) {
        return;
    }
    let first = younger.encoding.line_end(common, 0, younger.line_end).unwrap_or(shared);
    let line = younger.encoding.decode(&common[..first]);
    // A repeated rule or blank line means nothing; a repeated record with its time does.
    let dated = detected
        .format
        .head(crate::text::bare_line(&line), detected.hint)
        .is_some_and(|head| !matches!(head.stamp, crate::clock::Stamp::None));
    // The shared part must start a line of the older file too.
    let before = tail.len() - shared;
    let starts = before == 0 || {
        let unit = older.encoding.unit() as usize;
        older.encoding.line_end(&tail[..before], before.saturating_sub(unit), older.line_end) == Some(before)
    };
    if !dated || !starts {
        return;
    }
    let mut pos = 0;
    while let Some(next) = younger.encoding.line_end(common, pos, younger.line_end) {
        older.repeated_lines += 1;
        pos = next;
    }
    older.stop = older.len_bytes - shared as u64;
}

/// The length of the longest end of `tail` that `head` starts with: one pass with the failure table of the classical
/// string search (Knuth, Morris and Pratt).
fn overlap(tail: &[u8], head: &[u8]) -> usize {
    if head.is_empty() || tail.is_empty() {
        return 0;
    }
    let mut fail = vec![0_u32; head.len()];
    let mut length = 0_usize;
    for at in 1..head.len() {
        while length > 0 && head[at] != head[length] {
            length = fail[length - 1] as usize;
        }
        length += usize::from(head[at] == head[length]);
        fail[at] = length as u32;
    }
    let mut matched = 0_usize;
    for (at, byte) in tail.iter().enumerate() {
        while matched > 0 && (matched == head.len() || head[matched] != *byte) {
            matched = fail[matched - 1] as usize;
        }
        matched += usize::from(head[matched] == *byte);
        if matched == head.len() && at + 1 < tail.len() {
            matched = fail[matched - 1] as usize;
        }
    }
    matched
}

#[cfg(test)]
mod tests {
    use proptest::prelude::*;

    use super::*;

    #[test]
    fn names_of_generations() {
        let numbered = |number| Age::Numbered(std::cmp::Reverse(number));
        for (name, stem, age) in [
            ("/var/log/syslog", "/var/log/syslog", Age::Current),
            ("/var/log/syslog.1", "/var/log/syslog", numbered(1)),
            ("/var/log/syslog.2.gz", "/var/log/syslog", numbered(2)),
            ("a.zip!logs/app.log.12.zst", "a.zip!logs/app.log", numbered(12)),
            ("messages-20260412.xz", "messages", Age::Dated("20260412".into())),
            ("app.2026-04-12.log", "app.log", Age::Dated("20260412".into())),
            ("app.log.2026-04-12", "app.log", Age::Dated("20260412".into())),
            ("app.log.2026-04-12_03", "app.log", Age::Dated("2026041203".into())),
            ("libfoo-1.2.log", "libfoo-1.2.log", Age::Current),
            ("10.0.0.1", "10.0.0.1", Age::Current),
        ] {
            assert_eq!(stem_and_age(name), (stem.to_owned(), age), "{name}");
        }
        assert!(numbered(2) < numbered(1) && numbered(1) < Age::Current);
        assert!(Age::Dated("20260411".into()) < Age::Dated("20260412".into()));
    }

    proptest! {
        #[test]
        fn overlap_is_the_longest(tail in "[ab]{0,12}", head in "[ab]{0,12}") {
            let plain = (0..=tail.len().min(head.len())).rev().find(|n| tail[tail.len() - n..] == head[..*n]).unwrap_or(0);
            prop_assert_eq!(overlap(tail.as_bytes(), head.as_bytes()), plain);
        }
    }
}
