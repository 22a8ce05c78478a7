//! Cutting what is gathered to a window of time.
//!
//! Text is cut at the borders of records: from the first event in the window to the last one, in the order of the file. What
//! cannot be cut (records that are no lines, dumps, archives, text whose dates stand in its head) is taken whole when
//! its span touches the window.

use std::path::PathBuf;

use crate::Result;
use crate::case::{Case, FileFound, Loaded, Options, Reader, Source};
use crate::clock::{DAY, Zone, to_rfc3339};
use crate::event::Table;
use crate::text::SourceFile;
use crate::work::Work;

/// A span of time, UTC nanoseconds, both ends included.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub struct Window {
    /// Its start.
    pub from: i64,
    /// Its end.
    pub to: i64,
}

impl Window {
    /// From `within` before a moment to `within` after it.
    pub fn around(moment: i64, within: i64) -> Self {
        Self { from: moment.saturating_sub(within), to: moment.saturating_add(within) }
    }

    /// Whether a span of time shares a moment with it.
    pub fn touches(self, first: i64, last: i64) -> bool {
        first <= self.to && last >= self.from
    }

    /// Whether a file that was last modified then can hold something of it. Clocks of hosts may be wrong by much: a day is
    /// given.
    ///
    /// Times before 1981 are none: archives that keep no times unpack to the first day that they can name, in 1970 or 1980.
    pub fn may_hold(self, modified: i64) -> bool {
        const NO_REAL_TIME: i64 = 347_155_200 * crate::clock::SECOND;
        modified < NO_REAL_TIME || modified.saturating_add(DAY) >= self.from
    }
}

/// What is taken of a file.
#[derive(Clone, Debug, PartialEq, Eq)]
pub(super) enum Part {
    /// All of it.
    Whole,
    /// Nothing: why.
    Outside(String),
    /// A part of its text.
    Cut(CutPart),
}

/// A part of a text.
#[derive(Clone, Debug, PartialEq, Eq)]
pub(super) struct CutPart {
    /// Where the text is: the file itself, or what it was unpacked to.
    pub path: PathBuf,
    /// Whether it was unpacked.
    pub unpacked: bool,
    /// Bytes of the head that are needed to read it.
    pub head_bytes: u64,
    /// The first byte.
    pub from: u64,
    /// The byte behind the last.
    pub to: u64,
    /// Pinned records outside of it, from byte to byte, in the order of the file.
    pub pinned: Vec<(u64, u64)>,
    /// First and last time in it, UTC nanoseconds.
    pub span: Option<(i64, i64)>,
}

/// A file to look into: where it is, its host and zone, and whether it may be cut.
pub(super) struct Looked {
    pub file: FileFound,
    pub host: String,
    pub zone: Option<Zone>,
    pub may_cut: bool,
    /// Offsets of records that are wanted wherever they lie.
    pub pins: Vec<u64>,
    /// Whether it has nothing to do with time: taken whole.
    pub is_timeless: bool,
}

/// Says for each file what of it lies in the window. Names of files must differ.
///
/// # Errors
/// When cancelled.
pub(super) fn parts(files: &[Looked], window: Window, options: Options, work: &Work) -> Result<Vec<Part>> {
    let mut parts: Vec<Part> = Vec::with_capacity(files.len());
    let mut to_look = Vec::new();
    for looked in files {
        if looked.is_timeless {
            parts.push(Part::Whole);
        } else if window.may_hold(looked.file.modified) || !looked.pins.is_empty() {
            to_look.push((looked.file.clone(), Some(looked.host.clone()), looked.zone.clone()));
            parts.push(Part::Whole);
        } else {
            parts.push(Part::Outside(format!("last changed {}, before the window", to_rfc3339(looked.file.modified))));
        }
    }
    let case = Case::of_files(to_look, options, work)?;
    let loaded = case.load(work)?;
    let mut by_name: std::collections::HashMap<&str, Vec<usize>> = std::collections::HashMap::new();
    for (index, source) in case.sources.iter().enumerate() {
        let name = source.name.split('!').next().unwrap_or(&source.name);
        by_name.entry(name).or_default().push(index);
    }
    for (looked, part) in files.iter().zip(&mut parts) {
        if looked.is_timeless || matches!(part, Part::Outside(_)) {
            continue;
        }
        if let Some(indices) = by_name.get(looked.file.name.as_str()) {
            *part = part_of(looked, indices, (&case, &loaded), window);
        }
    }
    Ok(parts)
}

fn part_of(looked: &Looked, indices: &[usize], (case, loaded): (&Case, &Loaded), window: Window) -> Part {
    let spans: Vec<(i64, i64)> = indices.iter().filter_map(|index| span(&loaded.table, *index)).collect();
    let Some((first, last)) = spans.iter().copied().reduce(|a, b| (a.0.min(b.0), a.1.max(b.1))) else {
        // No time in it: when it was changed last is all that is known.
        return if looked.file.modified >= window.from || looked.file.modified == 0 {
            Part::Whole
        } else {
            Part::Outside(format!("no times in it; last changed {}", to_rfc3339(looked.file.modified)))
        };
    };
    let outside = || Part::Outside(format!("{} to {}, outside the window", to_rfc3339(first), to_rfc3339(last)));
    if !spans.iter().any(|(first, last)| window.touches(*first, *last)) && looked.pins.is_empty() {
        return outside();
    }
    let [index] = indices else { return Part::Whole };
    let source = &case.sources[*index];
    if !looked.may_cut || !can_be_cut(source) {
        return Part::Whole;
    }
    let Some(mut cut) = range(&loaded.table, *index, window, &looked.pins) else { return outside() };
    cut.path.clone_from(&source.path);
    cut.unpacked = source.path != looked.file.path;
    let first = cut.pinned.first().map_or(cut.from, |pinned| pinned.0.min(cut.from));
    cut.head_bytes = head_bytes(source, &cut).min(first);
    if cut.head_bytes + (cut.to - cut.from) >= source.len_bytes && !cut.unpacked {
        return Part::Whole;
    }
    Part::Cut(cut)
}

/// Formats whose records say their time in full, and need nothing but a head of one line to be read.
fn can_be_cut(source: &Source) -> bool {
    let whole = ["msi-log", "script-log", "apt-term", "gc-log", "npm-log", "key-value-report"];
    matches!(source.reader, Reader::Lines(_))
        && source.decoded.is_none()
        && source.header.date.is_none()
        && !whole.contains(&source.reader.name())
}

/// The times of a source as they stand on the case's clock: first and last.
fn span(table: &Table, source: usize) -> Option<(i64, i64)> {
    let times = events(table, source).filter_map(|event| event.time());
    times.fold(None, |span: Option<(i64, i64)>, time| {
        Some(span.map_or((time, time), |(first, last)| (first.min(time), last.max(time))))
    })
}

fn events(table: &Table, source: usize) -> impl Iterator<Item = crate::event::EventRef<'_>> {
    table.rows_of(source).map(move |row| table.event(row))
}

/// From the first event in the window to the end of the last one, in the order of the file.
fn range(table: &Table, source: usize, window: Window, pins: &[u64]) -> Option<CutPart> {
    let mut cut: Option<CutPart> = None;
    let mut pinned = Vec::new();
    for event in events(table, source) {
        let end = event.offset() + event.length();
        if pins.contains(&event.offset()) {
            pinned.push((event.offset(), end));
        }
        let Some(time) = event.time().filter(|time| (window.from..=window.to).contains(time)) else { continue };
        let cut = cut.get_or_insert_with(|| CutPart {
            path: PathBuf::new(),
            unpacked: false,
            head_bytes: 0,
            from: event.offset(),
            to: end,
            pinned: Vec::new(),
            span: None,
        });
        cut.to = cut.to.max(end);
        let (first, last) = cut.span.unwrap_or((time, time));
        cut.span = Some((first.min(time), last.max(time)));
    }
    if cut.is_none() && !pinned.is_empty() {
        let (from, to) = (pinned[0].0, pinned[0].0);
        cut = Some(CutPart {
            from,
            to,
            path: PathBuf::new(),
            unpacked: false,
            head_bytes: 0,
            pinned: Vec::new(),
            span: None,
        });
    }
    if let Some(cut) = &mut cut {
        cut.pinned = pinned.into_iter().filter(|(from, to)| *to <= cut.from || *from >= cut.to).collect();
    }
    cut
}

/// The bytes of a part, in the order of the file: head, pinned records before, the part, pinned records behind.
pub(super) fn ranges(part: &CutPart) -> Vec<(u64, u64)> {
    let mut ranges = vec![(0, part.head_bytes)];
    ranges.extend(part.pinned.iter().filter(|(from, _)| *from < part.from));
    ranges.push((part.from, part.to));
    ranges.extend(part.pinned.iter().filter(|(from, _)| *from >= part.from));
    ranges.retain(|(from, to)| from < to);
    ranges
}

/// How much of the start of a text is needed to read the rest: its byte-order mark, and the names of its columns.
fn head_bytes(source: &Source, cut: &CutPart) -> u64 {
    const HEAD: usize = 64 << 10;
    let Some(format) = source.reader.lines().filter(|format| format.has_named_columns()) else {
        return source.mark_bytes;
    };
    let Ok(head) = SourceFile::open(&cut.path).and_then(|file| file.read(0, HEAD)) else { return source.mark_bytes };
    let mut end = source.encoding.line_end(&head, 0, source.line_end).unwrap_or(0);
    // The fields of W3C logs stand in lines that start with #.
    while format.is_directive(&source.encoding.decode(&head[end.min(head.len())..]))
        && let Some(next) = source.encoding.line_end(&head, end, source.line_end)
    {
        end = next;
    }
    (end as u64).max(source.mark_bytes)
}
