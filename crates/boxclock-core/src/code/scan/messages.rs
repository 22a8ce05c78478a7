//! Codes in words: the texts that the C library has for its error numbers, in all languages of its catalogues.
//!
//! `No space left on device` is `ENOSPC` whoever prints it. A text counts where programs put it: behind a colon and a blank, in
//! parentheses, in quotes, at the start, or at the end of a line. Source of the texts: `scripts/errno-texts`.

use std::sync::LazyLock;

use rustc_hash::FxHashMap;

use super::{Found, Platform, is_word};
use crate::code::{Family, catalogue};

const TEXTS: &str = include_str!("../../../data/names/errno-texts.tsv");

/// All texts by their first bytes.
struct Texts {
    /// A bit for the first bytes of each text: nearly every word behind a sign is dropped at a glance.
    likely: Bits,
    /// The same for the last bytes of each.
    likely_ends: Bits,
    /// The texts that begin so, the longest first: in lower case as far as they are ASCII, with the symbolic name.
    by_start: FxHashMap<u64, Vec<(Vec<u8>, &'static str)>>,
}

/// Bytes of a text that are looked at together. No text is shorter.
const KEY: usize = 8;

/// A set of keys, which may take some for others.
struct Bits(Box<[u64; 1024]>);

impl Bits {
    fn place(key: u64) -> (usize, u64) {
        let hash = key.wrapping_mul(0x9E37_79B9_7F4A_7C15) >> 48;
        ((hash / 64) as usize & 1023, 1 << (hash % 64))
    }

    fn add(&mut self, key: u64) {
        let (word, bit) = Self::place(key);
        if let Some(word) = self.0.get_mut(word) {
            *word |= bit;
        }
    }

    #[inline]
    fn has(&self, key: u64) -> bool {
        let (word, bit) = Self::place(key);
        self.0[word] & bit != 0
    }
}

/// Eight bytes, whatever the case of their letters: other bytes may become the same too.
#[inline]
fn key_of(bytes: &[u8]) -> Option<u64> {
    bytes.first_chunk::<KEY>().map(|bytes| u64::from_le_bytes(*bytes) | 0x2020_2020_2020_2020)
}

static KNOWN: LazyLock<Texts> = LazyLock::new(|| {
    let empty = || Bits(Box::new([0; 1024]));
    let mut texts = Texts { likely: empty(), likely_ends: empty(), by_start: FxHashMap::default() };
    for (name, text) in TEXTS.lines().filter_map(|line| line.split_once('\t')) {
        let lower = text.as_bytes().to_ascii_lowercase();
        let end = lower.len().checked_sub(KEY).and_then(|last| key_of(lower.get(last..)?));
        if let (Some(start), Some(end)) = (key_of(&lower), end) {
            texts.likely.add(start);
            texts.likely_ends.add(end);
            texts.by_start.entry(start).or_default().push((lower, name));
        }
    }
    texts.by_start.values_mut().for_each(|list| list.sort_by_key(|(text, _)| std::cmp::Reverse(text.len())));
    texts
});

/// The texts of error numbers in a text.
pub(super) struct Messages {
    platform: Platform,
    /// Those that were found.
    found: Vec<Found>,
    /// Codes that the text has otherwise: what says the same twice counts once.
    others: Vec<Found>,
}

impl Messages {
    /// Looks for them; an empty list takes no memory.
    pub(super) fn new(platform: Platform) -> Self {
        Self { platform, found: Vec::new(), others: Vec::new() }
    }

    /// A word begins there behind a sign behind which messages stand.
    #[inline]
    pub(super) fn look_at(&mut self, text: &[u8], start: usize) {
        self.found.extend(at(text, start, self.platform));
    }

    /// A code that is a number or a name.
    #[inline]
    pub(super) fn knows(&mut self, hit: Found) {
        self.others.push(hit);
    }

    /// Looks at the ends of lines, where messages stand behind anything.
    pub(super) fn at_the_ends_of_lines(&mut self, text: &[u8]) {
        /// Lines whose ends are looked at, from the first on: what an event says stands in these.
        const LINES: usize = 64;
        let mut start = 0;
        for line in text.split(|byte| *byte == b'\n').take(LINES) {
            let end = start + line.trim_ascii_end().len();
            self.found.extend(at_the_end(text, (start, end), self.platform));
            start += line.len() + 1;
        }
    }

    /// Gives those that say what nothing else in the text says.
    pub(super) fn tell(mut self, mut found: impl FnMut(Found)) {
        if self.found.is_empty() {
            return;
        }
        self.found.sort_by_key(|hit| (hit.start, std::cmp::Reverse(hit.end)));
        let (mut behind, mut told): (usize, Vec<Found>) = (0, self.others);
        for hit in self.found {
            // Of texts inside of each other the whole one.
            let overlaps = hit.start < behind;
            behind = behind.max(hit.end);
            let is_new = |other: &Found| other.code != hit.code && (other.end <= hit.start || other.start >= hit.end);
            if !overlaps && told.iter().all(is_new) {
                told.push(hit);
                found(hit);
            }
        }
    }
}

/// The text of an error number that ends a line, behind a blank; a full stop may stand behind it.
fn at_the_end(text: &[u8], (start, end): (usize, usize), platform: Platform) -> Option<Found> {
    /// No text has more.
    const LONGEST: usize = 96;
    let line = text.get(start..end)?;
    let line = line.strip_suffix(b".").unwrap_or(line);
    let key = line.len().checked_sub(KEY).and_then(|last| key_of(line.get(last..)?))?;
    if !KNOWN.likely_ends.has(key) {
        return None;
    }
    let end = start + line.len();
    let from = start.max(end.saturating_sub(LONGEST));
    let blanks = memchr::memrchr_iter(b' ', text.get(from..end)?).map(|blank| from + blank + 1);
    blanks.filter_map(|start| at(text, start, platform)).find(|found| found.end == end)
}

/// The text of an error number that begins there.
#[inline]
fn at(text: &[u8], start: usize, platform: Platform) -> Option<Found> {
    let key = key_of(text.get(start..)?)?;
    if KNOWN.likely.has(key) { longest_at(text, start, key, platform) } else { None }
}

fn longest_at(text: &[u8], start: usize, key: u64, platform: Platform) -> Option<Found> {
    let rest = text.get(start..)?;
    let fits = |known: &[u8]| {
        rest.get(..known.len()).is_some_and(|here| here.eq_ignore_ascii_case(known))
            && !rest.get(known.len()).copied().is_some_and(is_word)
    };
    let (known, name) = KNOWN.by_start.get(&key)?.iter().find(|(known, _)| fits(known))?;
    let row = catalogue::by_name_in(Family::errno_of(platform), name)
        .or_else(|| catalogue::by_name_in(Family::Errno, name))?;
    Some(Found { start, end: start + known.len(), code: row.code, general: false })
}

#[cfg(test)]
mod tests {
    use super::*;

    /// What the whole scan finds.
    fn find(text: &str, platform: Platform) -> Vec<Found> {
        let mut found = Vec::new();
        super::super::scan(text.as_bytes(), platform, &crate::code::NO_CATALOGUES, |hit| found.push(hit));
        found
    }

    fn names(text: &str, platform: Platform) -> String {
        let own = crate::code::Catalogues::default();
        find(text, platform)
            .into_iter()
            .map(|hit| format!("{}={}", &text[hit.start..hit.end], hit.code.info(&own).name.unwrap_or("-")))
            .collect::<Vec<_>>()
            .join(" ")
    }

    #[test]
    fn texts_of_error_numbers_are_codes() {
        for (text, wanted) in [
            ("write /var/log/x: No space left on device", "No space left on device=ENOSPC"),
            ("dial tcp 10.0.0.1:5432: connect: connection refused", "connection refused=ECONNREFUSED"),
            ("open(\"/x\") failed (13: Permission denied)", "13=EACCES"),
            ("pad pad pad pad pad pad pad pad pad pad pad pad pad pad pad 234: Broken pipe", "Broken pipe=EPIPE"),
            ("pad pad pad pad pad pad pad pad pad pad pad pad pad pad pad 23: Broken pipe", "Broken pipe=EPIPE"),
            ("pad pad pad pad pad pad pad pad pad pad pad pad pad pad pad 2345: Broken pipe", "Broken pipe=EPIPE"),
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
        let number = |platform| find("connect: Connection refused", platform)[0].code.number;
        assert_eq!((number(Platform::Linux), number(Platform::Macos)), (111, 61));
    }

    #[test]
    fn every_text_is_found_by_itself() {
        let rows = TEXTS.lines().filter(|line| !line.starts_with('#')).filter_map(|line| line.split_once('\t'));
        for (name, text) in rows {
            let found = find(&format!("x: {text}"), Platform::Linux);
            assert!(found.len() <= 1, "{text}");
            if catalogue::by_name_in(Family::Errno, name).is_some() {
                assert_eq!(found.len(), 1, "{name}: {text}");
            }
        }
    }
}
