//! Reading one piece of a source into segments of the event table. This is the hot path.

use std::sync::LazyLock;

use regex::bytes::Regex;
use rustc_hash::{FxHashMap, FxHasher};

use super::{Source, ZoneFrom};
use crate::clock::{Resolver, Stamp, TimeKnown, year};
use crate::code::{self, Code};
use crate::event::{Actor, NO_TIME, Segment, flag};
use crate::format::{Detected, Head};
use crate::limits;
use crate::severity::Severity;
use crate::text::{Encoding, SourceFile, bare_line};

/// What reading a piece gave.
#[derive(Default)]
pub(super) struct Chunk {
    /// Its events. The last segment may have lines but no events.
    pub segments: Vec<Segment>,
    /// Codes in lines before the first event: they belong to the last event of the piece before.
    pub lead_codes: Vec<Code>,
    /// Bytes that were there to read.
    pub bytes: u64,
    /// The first offset from UTC, in seconds, that a line states.
    pub line_offset_s: Option<i32>,
    /// Trouble, with the place.
    pub trouble: Vec<String>,
}

/// Words that make a line look bad where its source carries no severities.
static BAD_WORDS: LazyLock<Option<Regex>> = LazyLock::new(|| {
    Regex::new(
        r"(?i-u)\b(?:errors?|failed|failure|fatal|panic|assertion|segfault|exception|denied|refused|corrupt(?:ed)?|timed out|out of memory|dumped core|core dumped)\b",
    )
    .ok()
});

/// Words in front of a bad word that take it back: `no error`, `0 errors`.
static NOT_BAD: LazyLock<Option<Regex>> =
    LazyLock::new(|| Regex::new(r"(?i-u)\b(?:no|0|zero|without|any) (?:errors?|failure|exception)").ok());

fn looks_bad(text: &[u8]) -> bool {
    let hit = |regex: &Option<Regex>| regex.as_ref().is_some_and(|regex| regex.is_match(text));
    hit(&BAD_WORDS) && !hit(&NOT_BAD)
}

/// Reads the lines that start in `from..to` of a source. `buffer` is room to read into, kept from piece to piece.
///
/// # Errors
/// When the file cannot be read.
pub(super) fn read(
    source: &Source,
    detected: Detected,
    file: &SourceFile,
    (from, to): (u64, u64),
    buffer: &mut Vec<u8>,
) -> std::io::Result<Chunk> {
    let unit = source.encoding.unit();
    // Whether a line starts at `from` shows in the code unit before it.
    let before = if from > source.mark_bytes { unit } else { 0 };
    let wanted = (to - from + before) as usize + limits::LINE_HEAD_BYTES;
    file.read_into(from - before, wanted, buffer)?;
    let base = from - before;
    let bytes = (buffer.len() as u64).saturating_sub(before).min(to - from);
    let mut pos = if before == 0 { 0 } else { source.encoding.line_end(buffer, 0).unwrap_or(usize::MAX) };
    let stop = (to - base) as usize;
    let mut builder = Builder::new(source, detected, base, from == source.mark_bytes);
    while pos < buffer.len() && pos < stop {
        let end = source.encoding.line_end(buffer, pos);
        let line = &buffer[pos..end.unwrap_or(buffer.len())];
        let head = &line[..line.len().min(limits::LINE_HEAD_BYTES)];
        if head.len() < line.len() || (end.is_none() && line.len() >= limits::LINE_HEAD_BYTES) {
            builder.long_line(base + pos as u64);
        }
        builder.line(pos, head);
        match end {
            Some(end) => pos = end,
            None => break,
        }
    }
    Ok(builder.finish(bytes))
}

struct Builder<'a> {
    source: &'a Source,
    detected: Detected,
    base: u64,
    at_file_start: bool,
    chunk: Chunk,
    segment: Segment,
    by_hash: FxHashMap<u64, u16>,
    last_actor: Option<u16>,
    resolver: Resolver,
    years: year::WrapCounter,
    previous_utc: i64,
    out_of_range: u64,
    long_lines: u64,
    first_out_of_range: u64,
}

impl<'a> Builder<'a> {
    fn new(source: &'a Source, detected: Detected, base: u64, at_file_start: bool) -> Self {
        Self {
            source,
            detected,
            base,
            at_file_start,
            chunk: Chunk::default(),
            segment: Segment { offset: base, ..Segment::default() },
            by_hash: FxHashMap::default(),
            last_actor: None,
            resolver: Resolver::new(source.zone.clone()),
            years: year::WrapCounter::default(),
            previous_utc: i64::MIN,
            out_of_range: 0,
            long_lines: 0,
            first_out_of_range: 0,
        }
    }

    fn long_line(&mut self, offset: u64) {
        self.long_lines += 1;
        if self.long_lines == 1 {
            self.chunk.trouble.push(format!(
                "the line at byte {offset} is longer than {} bytes: beyond that it was not searched for codes",
                limits::LINE_HEAD_BYTES
            ));
        }
    }

    fn line(&mut self, pos: usize, raw: &[u8]) {
        let decoded;
        let line = match self.source.encoding {
            Encoding::Utf8 | Encoding::Binary => bare_line(raw),
            _ => {
                decoded = self.source.encoding.decode(raw);
                bare_line(&decoded)
            }
        };
        match self.detected.format.head(line, self.detected.hint) {
            Some(head) => self.event(pos, line, &head),
            // The first lines of a file have no event before them: the first of them starts one.
            None if self.at_file_start && self.is_empty() && !line.trim_ascii().is_empty() => {
                self.event(pos, line, &Head::default());
            }
            None => {
                self.segment.attached_lines += 1;
                if let Some(last) = self.segment.flags.last_mut() {
                    *last |= flag::MULTILINE;
                }
                self.codes(line, 0);
            }
        }
        self.segment.lines += 1;
    }

    fn is_empty(&self) -> bool {
        self.segment.is_empty() && self.chunk.segments.is_empty()
    }

    fn event(&mut self, pos: usize, line: &[u8], head: &Head<'_>) {
        if self.segment.len() >= limits::SEGMENT_EVENTS {
            self.next_segment(pos);
        }
        let start = self.base + pos as u64;
        let (time, known) = self.time(head.stamp, start);
        let actor = self.actor(head);
        let mut flags = known;
        let body = line.get(head.body..).unwrap_or_default();
        if head.severity == Severity::NONE && self.detected.format.name() != "dpkg" && looks_bad(body) {
            flags |= flag::SUSPECT;
        }
        self.segment.times.push(time);
        self.segment.offsets.push((start - self.segment.offset) as u32);
        self.segment.line_numbers.push(self.segment.lines as u32);
        self.segment.actor_ids.push(actor);
        self.segment.severities.push(head.severity.0);
        self.segment.flags.push(flags);
        self.codes(line, head.body);
    }

    /// The time for the column, and its flags. Stamps without year stay civil until [`Self::finish`].
    fn time(&mut self, stamp: Stamp, start: u64) -> (i64, u8) {
        match stamp {
            Stamp::Utc(ns, offset) => {
                self.chunk.line_offset_s.get_or_insert(offset);
                self.previous_utc = ns;
                (ns, TimeKnown::Exact as u8)
            }
            Stamp::Local(civil) => {
                let (utc, ambiguous) = self.resolver.resolve(civil, self.previous_utc);
                self.previous_utc = utc;
                let known =
                    if self.source.zone_from == ZoneFrom::Case { TimeKnown::AssumedZone } else { TimeKnown::Exact };
                (utc, known as u8 | if ambiguous { flag::AMBIGUOUS } else { 0 })
            }
            Stamp::NoYear(civil) => (self.years.next(civil), TimeKnown::AssumedYear as u8),
            Stamp::OutOfRange => {
                if self.out_of_range == 0 {
                    self.first_out_of_range = start;
                }
                self.out_of_range += 1;
                (NO_TIME, TimeKnown::Inherited as u8)
            }
            Stamp::None => (NO_TIME, TimeKnown::Inherited as u8),
        }
    }

    fn actor(&mut self, head: &Head<'_>) -> u16 {
        if let Some(last) = self.last_actor
            && same_actor(&self.segment.actors[usize::from(last)], head)
        {
            return last;
        }
        let hash = hash_of(head);
        let known = self.by_hash.get(&hash).copied();
        let id = match known {
            Some(id) if same_actor(&self.segment.actors[usize::from(id)], head) => id,
            _ => {
                let id = self.segment.actors.len() as u16;
                self.segment.actors.push(Actor {
                    host: text(&head.host),
                    component: text(&head.component),
                    pid: head.pid,
                    tid: head.tid,
                });
                self.by_hash.insert(hash, id);
                id
            }
        };
        self.last_actor = Some(id);
        id
    }

    fn codes(&mut self, line: &[u8], from: usize) {
        let body = line.get(from..).unwrap_or_default();
        let event = self.segment.len().checked_sub(1).map(|event| event as u16);
        let (segment, lead) = (&mut self.segment, &mut self.chunk.lead_codes);
        let mut count = 0;
        code::scan(body, self.source.platform, |found| {
            count += 1;
            if count > limits::CODES_PER_EVENT {
                return;
            }
            match event {
                Some(event) => {
                    if segment.codes.last() != Some(&(event, found.code)) {
                        segment.codes.push((event, found.code));
                    }
                    segment.flags[usize::from(event)] |= flag::HAS_CODE;
                }
                None => lead.push(found.code),
            }
        });
    }

    fn next_segment(&mut self, pos: usize) {
        let next = Segment { offset: self.base + pos as u64, ..Segment::default() };
        let full = std::mem::replace(&mut self.segment, next);
        self.chunk.segments.push(full);
        self.by_hash.clear();
        self.last_actor = None;
    }

    fn finish(mut self, bytes: u64) -> Chunk {
        let last = std::mem::take(&mut self.segment);
        self.chunk.segments.push(last);
        self.place_years();
        inherit(&mut self.chunk.segments, i64::MIN);
        for segment in &mut self.chunk.segments {
            segment.note_order();
            shrink(segment);
        }
        if self.out_of_range > 0 {
            self.chunk.trouble.push(format!(
                "{} times outside the years 1678 to 2261, the first at byte {}: taken from the event before",
                self.out_of_range, self.first_out_of_range
            ));
        }
        self.chunk.bytes = bytes;
        self.chunk
    }

    /// Gives the stamps without year their year, so that the last one is not after the file's time.
    fn place_years(&mut self) {
        let is_open = |flags: u8| flags & flag::TIME_KNOWN == TimeKnown::AssumedYear as u8;
        let last = self.chunk.segments.iter().rev().find_map(|segment| {
            segment.times.iter().zip(&segment.flags).rev().find(|(_, flags)| is_open(**flags)).map(|(time, _)| *time)
        });
        let Some(last) = last else { return };
        let offset = i64::from(self.source.zone.offset_at(self.source.modified)) * crate::clock::SECOND;
        let years = year::shift(last, self.source.modified.saturating_add(offset));
        let mut previous = i64::MIN;
        for segment in &mut self.chunk.segments {
            for (time, flags) in segment.times.iter_mut().zip(&mut segment.flags) {
                if is_open(*flags) {
                    let (utc, ambiguous) = self.resolver.resolve(year::add(*time, years), previous);
                    *flags |= if ambiguous { flag::AMBIGUOUS } else { 0 };
                    *time = utc;
                    previous = utc;
                }
            }
        }
    }
}

/// Gives events without a time of their own the time of the event before. Gives the last time met.
pub(super) fn inherit(segments: &mut [Segment], before: i64) -> i64 {
    let mut last = before;
    for time in segments.iter_mut().flat_map(|segment| segment.times.iter_mut()) {
        if *time == NO_TIME {
            *time = last;
        } else {
            last = *time;
        }
    }
    last
}

fn shrink(segment: &mut Segment) {
    segment.times.shrink_to_fit();
    segment.offsets.shrink_to_fit();
    segment.line_numbers.shrink_to_fit();
    segment.actor_ids.shrink_to_fit();
    segment.severities.shrink_to_fit();
    segment.flags.shrink_to_fit();
    segment.actors.shrink_to_fit();
    segment.codes.shrink_to_fit();
}

fn text(bytes: &[u8]) -> Box<str> {
    String::from_utf8_lossy(bytes).into()
}

fn same_actor(actor: &Actor, head: &Head<'_>) -> bool {
    actor.pid == head.pid
        && actor.tid == head.tid
        && actor.component.as_bytes() == &*head.component
        && actor.host.as_bytes() == &*head.host
}

fn hash_of(head: &Head<'_>) -> u64 {
    use std::hash::Hasher;
    let mut hasher = FxHasher::default();
    hasher.write(&head.host);
    hasher.write(&head.component);
    hasher.write_u64(u64::from(head.pid.unwrap_or(0)) << 32 | u64::from(head.tid.unwrap_or(0)));
    hasher.finish()
}
