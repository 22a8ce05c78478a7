//! Codes in words: the texts that the C library has for its error numbers, in all languages of its catalogues.
//!
//! `No space left on device` is `ENOSPC` whoever prints it. A text counts where programs put it: behind a colon and a blank, in
//! parentheses, in quotes, at the start, or at the end of a line. Source of the texts: `scripts/errno-texts`.

use std::sync::LazyLock;

use rustc_hash::FxHashMap;

use super::{Found, Platform, is_word};
use crate::code::{Family, catalogue};

const TEXTS: &str = include_str!("../../../data/names/errno-texts.tsv");

/// All texts by their first two bytes, in lower case as far as they are ASCII.
struct Texts {
    /// A bit for each two bytes with which a text begins.
    likely: Box<[u64; 1024]>,
    /// The texts that begin so, the longest first: in lower case, with the symbolic name.
    by_start: FxHashMap<u16, Vec<(Vec<u8>, &'static str)>>,
}

static KNOWN: LazyLock<Texts> = LazyLock::new(|| {
    let mut texts = Texts { likely: Box::new([0; 1024]), by_start: FxHashMap::default() };
    for (name, text) in TEXTS.lines().filter_map(|line| line.split_once('\t')) {
        let lower = text.as_bytes().to_ascii_lowercase();
        let Some(start) = start_of(&lower) else { continue };
        if let Some(word) = texts.likely.get_mut(usize::from(start) / 64) {
            *word |= 1 << (start % 64);
        }
        texts.by_start.entry(start).or_default().push((lower, name));
    }
    texts.by_start.values_mut().for_each(|list| list.sort_by_key(|(text, _)| std::cmp::Reverse(text.len())));
    texts
});

/// The first two bytes in lower case.
fn start_of(text: &[u8]) -> Option<u16> {
    let [first, second, ..] = text else { return None };
    Some(u16::from_le_bytes([first.to_ascii_lowercase(), second.to_ascii_lowercase()]))
}

/// The texts of error numbers in a text, in order.
pub(super) fn find(text: &[u8], platform: Platform) -> Vec<Found> {
    let mut found: Vec<Found> = Vec::new();
    let mut take = |start: usize| {
        if found.last().is_none_or(|last| last.end <= start) {
            found.extend(at(text, start, platform));
        }
    };
    take(0);
    for sign in memchr::memchr3_iter(b':', b'(', b'"', text) {
        let start = if text.get(sign) == Some(&b':') {
            if text.get(sign + 1) != Some(&b' ') {
                continue;
            }
            sign + 2
        } else {
            sign + 1
        };
        take(start);
    }
    let mut line_start = 0;
    for line in text.split(|byte| *byte == b'\n') {
        found.extend(at_the_end(text, line_start + line.trim_ascii_end().len(), platform));
        line_start += line.len() + 1;
    }
    found.sort_by_key(|hit| hit.start);
    // Of texts inside of each other the whole one.
    let mut behind = 0;
    found.retain(|hit| {
        let is_new = hit.start >= behind;
        behind = behind.max(hit.end);
        is_new
    });
    found
}

/// The text of an error number that ends a line at `end`, behind a blank; a full stop may stand behind it.
fn at_the_end(text: &[u8], end: usize, platform: Platform) -> Option<Found> {
    /// No text has more.
    const LONGEST: usize = 96;
    let whole = text.get(..end)?;
    let end = whole.strip_suffix(b".").map_or(end, <[u8]>::len);
    let from = end.saturating_sub(LONGEST);
    let blanks = memchr::memrchr_iter(b' ', text.get(from..end)?).map(|blank| from + blank + 1);
    blanks.filter_map(|start| at(text, start, platform)).find(|found| found.end == end)
}

/// The text of an error number that begins there.
fn at(text: &[u8], start: usize, platform: Platform) -> Option<Found> {
    let rest = text.get(start..)?;
    let first = start_of(rest)?;
    if KNOWN.likely.get(usize::from(first) / 64)? >> (first % 64) & 1 == 0 {
        return None;
    }
    let fits = |known: &[u8]| {
        rest.get(..known.len()).is_some_and(|here| here.eq_ignore_ascii_case(known))
            && !rest.get(known.len()).copied().is_some_and(is_word)
    };
    let (known, name) = KNOWN.by_start.get(&first)?.iter().find(|(known, _)| fits(known))?;
    let row = catalogue::by_name_in(Family::errno_of(platform), name)
        .or_else(|| catalogue::by_name_in(Family::Errno, name))?;
    Some(Found { start, end: start + known.len(), code: row.code, general: false })
}

#[cfg(test)]
mod tests {
    use super::*;

    fn names(text: &str, platform: Platform) -> String {
        let own = crate::code::Catalogues::default();
        let found = find(text.as_bytes(), platform).into_iter();
        found
            .map(|hit| format!("{}={}", &text[hit.start..hit.end], hit.code.info(&own).name.unwrap_or("-")))
            .collect::<Vec<_>>()
            .join(" ")
    }

    #[test]
    fn texts_of_error_numbers_are_codes() {
        for (text, wanted) in [
            ("write /var/log/x: No space left on device", "No space left on device=ENOSPC"),
            ("dial tcp 10.0.0.1:5432: connect: connection refused", "connection refused=ECONNREFUSED"),
            ("open(\"/x\") failed (13: Permission denied)", "Permission denied=EACCES"),
            ("fopen failed (No such file or directory)", "No such file or directory=ENOENT"),
            ("{\"error\":\"Broken pipe\",\"n\":1}", "Broken pipe=EPIPE"),
            (
                "tar: Schreibfehler: Auf dem Gerät ist kein Speicherplatz mehr verfügbar",
                "Auf dem Gerät ist kein Speicherplatz mehr verfügbar=ENOSPC",
            ),
            ("ошибка: На устройстве не осталось свободного места", "На устройстве не осталось свободного места=ENOSPC"),
            ("Too many open files", "Too many open files=EMFILE"),
            ("H=127.0.0.1 [127.0.0.1] Connection refused", "Connection refused=ECONNREFUSED"),
            ("stat of /srv/x failed. Permission denied.\nnext", "Permission denied=EACCES"),
        ] {
            assert_eq!(names(text, Platform::Linux), wanted, "{text}");
        }
    }

    #[test]
    fn other_words_are_not() {
        for text in [
            "there was no space left on device 7 of the rack",
            "note: No space left on devices that are full",
            "state: connection refusedly",
            "at 02:31:07: opened",
            "",
            ":",
            "x: ",
        ] {
            assert_eq!(names(text, Platform::Linux), "", "{text}");
        }
    }

    #[test]
    fn each_system_has_its_own_number() {
        let number = |platform| find(b"connect: Connection refused", platform)[0].code.number;
        assert_eq!((number(Platform::Linux), number(Platform::Macos)), (111, 61));
    }

    #[test]
    fn every_text_is_found_by_itself() {
        let rows = TEXTS.lines().filter(|line| !line.starts_with('#')).filter_map(|line| line.split_once('\t'));
        for (name, text) in rows {
            let found = find(format!("x: {text}").as_bytes(), Platform::Linux);
            assert!(found.len() <= 1, "{text}");
            if catalogue::by_name_in(Family::Errno, name).is_some() {
                assert_eq!(found.len(), 1, "{name}: {text}");
            }
        }
    }
}
