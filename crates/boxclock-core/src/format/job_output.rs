//! `job-output`: what a job of a scheduler wrote, with the moment in a heading of each run only.
//!
//! ```text
//! --- price run Wed Feb 11 05:30:02 JST 2026  (LANG=C, via cron)      ===== Backup started: 2026-02-11 02:00:01 =====
//! read 4211 prices                                                   Wed Feb 11 02:00:01 CET 2026
//! ```
//!
//! There is no specification: these are scripts that print date(1) (POSIX, "Date", with `LC_TIME` of the C locale, or an ISO 8601
//! option) and then let their programs write. A line is a heading where a date with its year and time stands alone, behind a rule
//! (`---`, `===`, `###`, `***`), or behind a word for beginning or ending. The lines below it have its time until the next one; what
//! speaks of another moment ("last run", "next") is no heading.

use super::plain::Plain;
use super::{Fit, Head, Hint, LineFormat, LineState};
use crate::clock::forms::{self, DateOrder};
use crate::clock::{Civil, scan};

/// The format.
pub(super) struct JobOutput;

/// Longer lines are no headings.
const HEADING_BYTES: usize = 240;

/// How far in front of the colon of its time a date may begin.
const DATE_BYTES: usize = 48;

/// Beginnings of words behind which a date tells when its line was written.
const MOMENTS: [&[u8]; 11] = [
    b"start", b"begin", b"began", b"launch", b"running", b"ended", b"ending", b"finish", b"complet", b"done", b"stopp",
];
/// Words of lines that speak of another moment.
const OTHERS: [&[u8]; 14] = [
    b"last",
    b"previous",
    b"next",
    b"since",
    b"until",
    b"till",
    b"expire",
    b"older",
    b"newer",
    b"before",
    b"after",
    b"due",
    b"valid",
    b"from",
];
/// Words that may stand between such a word and the date.
const BETWEEN: [&[u8]; 4] = [b"at", b"on", b"time", b"date"];

/// The date of a heading.
fn heading(line: &[u8]) -> Option<Civil> {
    let line = line.trim_ascii();
    // With an address of mail it is the signature of an entry, as in lists of changes.
    if line.is_empty() || line.len() > HEADING_BYTES || line.contains(&b'@') {
        return None;
    }
    let (civil, from, to) = date_in(line)?;
    let (front, behind) = (line.get(..from)?, line.get(to..)?);
    let words = words(front).chain(words(behind));
    let is_bare = words.clone().next().is_none();
    let speaks_of_another = words.clone().any(|word| OTHERS.iter().any(|other| starts_with(word, other)));
    let is_meant = is_bare || !speaks_of_another && (is_ruled(line) || follows_a_moment(front));
    is_meant.then_some(civil)
}

/// The first date in a line that has its year and time, and cannot be read in another order.
fn date_in(line: &[u8]) -> Option<(Civil, usize, usize)> {
    let clock = time_of_day(line)?;
    let starts = (clock.saturating_sub(DATE_BYTES)..clock).filter(|at| {
        let before = at.checked_sub(1).and_then(|before| line.get(before));
        line.get(*at).is_some_and(u8::is_ascii_alphanumeric) && !before.is_some_and(u8::is_ascii_alphanumeric)
    });
    for at in starts {
        let rest = line.get(at..)?;
        let found = scan::iso(rest).or_else(|| {
            // Numbers alone do not say which is the day.
            let (civil, length) = forms::dated(rest, DateOrder::DayFirst)?;
            let letters = rest.get(..length)?.windows(3).any(|three| three.iter().all(u8::is_ascii_alphabetic));
            letters.then_some((civil, length))
        });
        if let Some((civil, length)) = found.filter(|(civil, _)| civil.year > 0) {
            let to = at.saturating_add(length);
            // Part of a name, such as that of a file.
            let goes_on = line.get(to).is_some_and(|byte| byte.is_ascii_alphanumeric() || matches!(byte, b'/' | b'_'));
            let is_in_a_name = at > 0
                && line.get(at.saturating_sub(1)).is_some_and(|byte| matches!(byte, b'/' | b'_' | b'-' | b'.'))
                && !is_ruled(line.get(..at)?);
            return (!goes_on && !is_in_a_name).then_some((civil, at, to));
        }
    }
    None
}

/// Where the first `2:31` stands, by its colon: without one there is no time, and most lines have none.
fn time_of_day(line: &[u8]) -> Option<usize> {
    memchr::memchr_iter(b':', line).find(|at| {
        let around = at.checked_sub(1).and_then(|before| line.get(before..at.saturating_add(3)));
        matches!(around, Some([hour, _, minute, second]) if [hour, minute, second].iter().all(|byte| byte.is_ascii_digit()))
    })
}

fn words(text: &[u8]) -> impl Iterator<Item = &[u8]> + Clone {
    text.split(|byte| !byte.is_ascii_alphanumeric() && *byte < 0x80).filter(|word| !word.is_empty())
}

fn starts_with(word: &[u8], start: &[u8]) -> bool {
    word.get(..start.len()).is_some_and(|own| own.eq_ignore_ascii_case(start))
}

/// Whether a line begins with a rule.
fn is_ruled(line: &[u8]) -> bool {
    const FEWEST: usize = 2;
    let Some(first) = line.first().filter(|byte| b"-=#*~+>".contains(byte)) else { return false };
    line.iter().take_while(|byte| *byte == first).count() >= FEWEST
}

/// Whether the words in front of a date end in one for a beginning or an end: `Backup started at `, `End: `.
fn follows_a_moment(front: &[u8]) -> bool {
    let text = front.trim_ascii_end();
    if text.last() == Some(&b':') {
        let label = text.get(..text.len().saturating_sub(1)).unwrap_or_default();
        let last = words(label).last().unwrap_or_default();
        if last.eq_ignore_ascii_case(b"date") || last.eq_ignore_ascii_case(b"time") {
            // `Start time:`, or the label alone.
            return words(label).count() == 1 || words(label).any(is_moment);
        }
    }
    words(front)
        .filter(|word| !BETWEEN.iter().any(|between| word.eq_ignore_ascii_case(between)))
        .last()
        .is_some_and(is_moment)
}

fn is_moment(word: &[u8]) -> bool {
    // An endpoint is no end.
    word.eq_ignore_ascii_case(b"end") || MOMENTS.iter().any(|start| starts_with(word, start))
}

impl LineFormat for JobOutput {
    fn name(&self) -> &'static str {
        "job-output"
    }

    fn head<'a>(&self, line: &'a [u8], hint: Hint) -> Option<Head<'a>> {
        match heading(line) {
            Some(civil) => Some(Head { stamp: civil.stamp(), ..Head::default() }),
            None => Plain.head(line, hint),
        }
    }

    fn remembers(&self) -> bool {
        Plain.remembers()
    }

    fn goes_on(&self, line: &[u8], state: &mut LineState) -> bool {
        heading(line).is_none() && Plain.goes_on(line, state)
    }

    /// Its headings: it wins where no other format has as many lines. They stand in the order of time, and one alone in the
    /// first line.
    fn fit(&self, lines: &[&[u8]]) -> Fit {
        let found: Vec<(usize, i64)> =
            lines.iter().enumerate().filter_map(|(at, line)| Some((at, heading(line)?.to_ns()?))).collect();
        let in_order = found.iter().zip(found.iter().skip(1)).all(|((_, one), (_, next))| one <= next);
        let is_one = match found.as_slice() {
            [] => false,
            [(at, _)] => *at == 0,
            _ => true,
        };
        if is_one && in_order { Fit { heads: found.len(), ..Fit::default() } } else { Fit::default() }
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn headings_of_jobs() {
        for line in [
            "--- price run Wed Feb 11 05:30:02 JST 2026  (LANG=C, via cron)",
            "===== Backup started: 2026-02-11 02:00:01 =====",
            "Wed Feb 11 02:00:01 CET 2026",
            "Backup started at 2026-02-11T02:00:01+01:00",
            "Start time: 11 Feb 2026 02:00:01",
            "date: 2026-02-11 02:00:01",
            "job finished on Wed, 11 Feb 2026 02:00:01 +0100",
            "### 2026-02-11 02:00:01 nightly",
            "[2026-02-11 02:00:01]",
            "End: 2026-02-11 02:00:01",
        ] {
            assert!(heading(line.as_bytes()).is_some(), "{line}");
        }
    }

    #[test]
    fn lines_that_speak_of_another_moment() {
        for line in [
            "last backup finished at 2026-02-10 02:00:01",
            "--- next run Wed Feb 11 05:30:02 JST 2026",
            "certificate valid from 2026-02-10 02:00:01",
            "copied 2026-02-11 02:00:01.tar.gz",
            "wrote /srv/out/2026-02-11T02:00:01_a.csv",
            "tide table for 2026-02-11 02:00:01 loaded",
            "--- 11/02/2026 02:00:01",
            "started 14 workers",
            "endpoint 2026-02-11 02:00:01",
            "-- Anna Keeper <anna@aquarium.example>  Wed, 11 Feb 2026 02:00:01 +0100",
            "the run of Feb 11 02:00:01 was good",
            "",
        ] {
            assert!(heading(line.as_bytes()).is_none(), "{line}");
        }
    }

    #[test]
    fn what_is_such_a_file() {
        let heads = |lines: &[&str]| JobOutput.fit(&lines.iter().map(|line| line.as_bytes()).collect::<Vec<_>>()).heads;
        let run = [
            "--- run Wed Feb 11 05:30:02 UTC 2026",
            "read 3 rows",
            "--- run Thu Feb 12 05:30:02 UTC 2026",
            "read 4 rows",
        ];
        assert_eq!(heads(&run), 2);
        assert_eq!(heads(&[run[2], run[1], run[0]]), 0, "not in the order of time");
        assert_eq!(heads(&[run[0], "a", "b"]), 1);
        assert_eq!(heads(&["a", run[0], "b"]), 0, "one heading that is not the first line");
        assert_eq!(heads(&["a", "b"]), 0);
    }
}
