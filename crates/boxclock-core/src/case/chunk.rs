//! Reading one piece of a source into segments of the event table. This is the hot path.

use std::sync::LazyLock;

use regex::bytes::Regex;
use rustc_hash::{FxHashMap, FxHasher};

use super::{Source, Trouble};
use crate::clock::day::DayCounter;
use crate::clock::{Resolver, Stamp, TimeKnown, day, year};
use crate::code::{self, Catalogues, Code};
use crate::event::{Actor, Columns, NO_TIME, Segment, flag};
use crate::format::{Detected, Head, LineState, named_trouble_head};
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
    /// Where the first bytes are that are not UTF-8, in a source of UTF-8.
    pub bad_utf8: Option<u64>,
    /// Where the first NUL byte is.
    pub nul: Option<u64>,
    /// Trouble, with the place.
    pub trouble: Vec<Trouble>,
}

/// Bytes before a piece from which a format that remembers lines takes what it needs: an even number, for encodings of two bytes.
const REMEMBERED_BYTES: u64 = 32 << 10;

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
    catalogues: &Catalogues,
    detected: Detected,
    file: &SourceFile,
    (from, to): (u64, u64),
    buffer: &mut Vec<u8>,
) -> std::io::Result<Chunk> {
    let unit = source.encoding.unit();
    let line_end = source.line_end;
    // Whether a line starts at `from` shows in the code unit before it.
    let before = if from > source.mark_bytes { unit } else { 0 };
    let base = from - before;
    // Lines that stand again in the next generation are read there.
    let last = source.stop.max(to);
    let stop = (to - base) as usize;
    file.read_into(base, ((to + limits::LINE_HEAD_BYTES as u64).min(last) - base) as usize, buffer)?;
    if source.encoding.line_end(buffer, stop.saturating_sub(unit as usize), line_end).is_none() {
        // The last line is a long one: what makes it a record may stand far behind.
        file.read_into(base, ((to + limits::RECORD_BYTES as u64).min(last) - base) as usize, buffer)?;
    }
    let bytes = (buffer.len() as u64).saturating_sub(before).min(to - from);
    let mut pos = if before == 0 { 0 } else { source.encoding.line_end(buffer, 0, line_end).unwrap_or(usize::MAX) };
    let mut builder = Builder::new(source, catalogues, detected, base, from);
    if before > 0 && detected.format.remembers() {
        let start = from.saturating_sub(REMEMBERED_BYTES).max(source.mark_bytes);
        builder.remember(&file.read(start, (from - start) as usize)?, start > source.mark_bytes);
    }
    while pos < buffer.len() && pos < stop {
        let end = source.encoding.line_end(buffer, pos, line_end);
        let line = &buffer[pos..end.unwrap_or(buffer.len())];
        if line.len() > limits::LINE_HEAD_BYTES {
            builder.long_line(base + pos as u64);
        }
        builder.line(pos, &line[..line.len().min(limits::RECORD_BYTES)]);
        match end {
            Some(end) => pos = end,
            None => break,
        }
    }
    // What the last record leaves open may stand on lines of the next piece.
    if detected.format.has_tails() {
        while pos < buffer.len() {
            let end = source.encoding.line_end(buffer, pos, line_end);
            let line = &buffer[pos..end.unwrap_or(buffer.len())];
            if !builder.tail_beyond(&line[..line.len().min(limits::RECORD_BYTES)]) {
                break;
            }
            let Some(end) = end else { break };
            pos = end;
        }
    }
    let mut chunk = builder.finish(bytes);
    if source.encoding == Encoding::Utf8 {
        let own = buffer.get(before as usize..stop.min(buffer.len())).unwrap_or_default();
        note_damage(own, base + before, (from == source.mark_bytes, to >= source.len_bytes), &mut chunk);
    } else if unit == 2 && to >= source.len_bytes && (source.len_bytes - source.mark_bytes) % 2 == 1 {
        let at = source.len_bytes - 1;
        chunk.trouble.push(Trouble::note(format!("cut off at byte {at}: in the middle of a character")));
    }
    Ok(chunk)
}

/// Notes the first bytes of a piece that are not UTF-8, and the first NUL bytes.
fn note_damage(bytes: &[u8], offset: u64, (at_file_start, at_file_end): (bool, bool), chunk: &mut Chunk) {
    if let Err(error) = std::str::from_utf8(bytes) {
        // A piece may start and end inside a character.
        let cut = error.valid_up_to() == 0 && !at_file_start && bytes.first().is_some_and(|byte| byte & 0xC0 == 0x80);
        let at = offset + error.valid_up_to() as u64;
        if error.error_len().is_some() && !cut {
            chunk.bad_utf8 = Some(at);
        } else if error.error_len().is_none() && at_file_end {
            chunk.trouble.push(Trouble::note(format!("cut off at byte {at}: in the middle of a character")));
        }
    }
    chunk.nul = memchr::memchr(0, bytes).map(|at| offset + at as u64);
}

struct Builder<'a> {
    source: &'a Source,
    catalogues: &'a Catalogues,
    detected: Detected,
    has_tails: bool,
    has_date_lines: bool,
    only_first_tail: bool,
    /// Whether a line of the next piece was looked at for a tail.
    tails_beyond: bool,
    judges_words: bool,
    remembers: bool,
    takes_named_trouble: bool,
    /// What the format remembers of the lines so far.
    state: LineState,
    base: u64,
    at_file_start: bool,
    chunk: Chunk,
    segments: Vec<Columns>,
    segment: Columns,
    by_hash: FxHashMap<u64, u16>,
    /// Who wrote the event before: the hash of its names, and its number.
    last_actor: Option<(u64, u16)>,
    resolver: Resolver,
    years: year::WrapCounter,
    days: DayCounter,
    /// The day that a line of the file gave the times of day behind it: civil nanoseconds of its midnight.
    date: Option<i64>,
    previous_utc: i64,
    out_of_range: u64,
    long_lines: u64,
    first_out_of_range: u64,
    /// Records that are not whole, and the byte at which the first of them starts.
    torn: (u64, u64),
}

impl<'a> Builder<'a> {
    fn new(source: &'a Source, catalogues: &'a Catalogues, detected: Detected, base: u64, from: u64) -> Self {
        Self {
            source,
            catalogues,
            detected,
            has_tails: detected.format.has_tails(),
            has_date_lines: detected.format.has_date_lines(),
            only_first_tail: detected.format.only_first_tail(),
            tails_beyond: false,
            judges_words: detected.format.judges_words(),
            remembers: detected.format.remembers(),
            takes_named_trouble: detected.format.takes_named_trouble(),
            state: 0,
            base,
            at_file_start: from == source.mark_bytes,
            chunk: Chunk::default(),
            segments: Vec::new(),
            // The piece, not what is read in front of it: by this a grown file tells which pieces are still whole.
            segment: Columns { offset: from, ..Columns::default() },
            by_hash: FxHashMap::default(),
            last_actor: None,
            resolver: Resolver::new(source.zone.clone()),
            years: year::WrapCounter::default(),
            days: DayCounter::default(),
            date: None,
            previous_utc: if source.newest_first { i64::MAX } else { i64::MIN },
            out_of_range: 0,
            long_lines: 0,
            first_out_of_range: 0,
            torn: (0, 0),
        }
    }

    fn long_line(&mut self, offset: u64) {
        self.long_lines += 1;
        if self.long_lines == 1 {
            self.chunk.trouble.push(Trouble::note(format!(
                "the line at byte {offset} is longer than {} bytes: beyond that it was not searched for codes",
                limits::LINE_HEAD_BYTES
            )));
        }
    }

    /// Takes the tail that a line of the next piece holds; `false` where a record of its own starts there.
    fn tail_beyond(&mut self, raw: &[u8]) -> bool {
        let decoded = self.source.encoding.decode(raw);
        let line = bare_line(&decoded);
        if self.detected.format.head(line, self.detected.hint).is_some() {
            return false;
        }
        let is_first = std::mem::replace(&mut self.tails_beyond, true);
        let right_behind = self.segment.line_numbers.last() == Some(&(self.segment.lines as u32).wrapping_sub(1));
        if !self.only_first_tail || (!is_first && right_behind) {
            self.tail(line);
        }
        true
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
        match self.head(line) {
            Some(head) => self.event(pos, line, &head),
            None if self.has_date_lines
                && self.detected.format.date_line(line).is_some_and(|date| self.take_date(date)) =>
            {
                self.segment.attached_lines += 1;
            }
            // The first lines of a file have no event before them: the first of them starts one.
            None if self.at_file_start && self.is_empty() && !line.trim_ascii().is_empty() => {
                if self.detected.format.keeps_leading_lines() {
                    self.event(pos, line, &Head::default());
                }
            }
            None => {
                self.segment.attached_lines += 1;
                if self.detected.format.is_torn(line) {
                    let (count, first) = self.torn;
                    self.torn = (count + 1, if count == 0 { self.base + pos as u64 } else { first });
                }
                if let Some(last) = self.segment.flags.last_mut() {
                    *last |= flag::MULTILINE;
                }
                let may_say = !self.only_first_tail
                    || self.segment.line_numbers.last() == Some(&(self.segment.lines as u32).wrapping_sub(1));
                if self.has_tails && may_say {
                    self.tail(line);
                }
                self.codes(line, 0);
            }
        }
        self.segment.lines += 1;
    }

    /// The head of the record that starts at a line, if one does.
    #[inline]
    fn head<'l>(&mut self, line: &'l [u8]) -> Option<Head<'l>> {
        let Detected { format, hint } = self.detected;
        if self.remembers && format.goes_on(line, &mut self.state) {
            return None;
        }
        let head = format.head(line, hint);
        if head.is_none() && self.takes_named_trouble { named_trouble_head(line) } else { head }
    }

    /// Takes what the format remembers of the lines before its piece.
    fn remember(&mut self, bytes: &[u8], inside: bool) {
        let text = self.source.encoding.decode(bytes);
        for line in text.split_inclusive(|byte| *byte == self.source.line_end as u8).skip(usize::from(inside)) {
            self.detected.format.goes_on(bare_line(line), &mut self.state);
        }
    }

    /// Takes the date that a line gives the times of day behind it.
    fn take_date(&mut self, civil: i64) -> bool {
        self.date = Some(civil.div_euclid(crate::clock::DAY).saturating_mul(crate::clock::DAY));
        self.days = DayCounter::from(civil.rem_euclid(crate::clock::DAY));
        !self.source.newest_first
    }

    /// Takes what a line behind the head says of its record.
    #[cold]
    fn tail(&mut self, line: &[u8]) {
        let format = self.detected.format;
        if self.segment.times.is_empty() {
            return;
        }
        let Some(tail) = format.tail(line, self.detected.hint) else { return };
        let last = self.segment.times.len() - 1;
        if tail.stamp != Stamp::None && !TimeKnown::from_bits(self.segment.flags[last]).is_own() {
            let start = self.segment.offset + u64::from(self.segment.offsets[last]);
            let (time, known) = self.time(tail.stamp, start);
            self.segment.times[last] = time;
            self.segment.flags[last] = self.segment.flags[last] & !flag::TIME_KNOWN | known;
        }
        if tail.severity > Severity(self.segment.severities[last]) {
            self.segment.severities[last] = tail.severity.0;
            self.segment.flags[last] &= !flag::SUSPECT;
        }
        if !tail.component.is_empty() {
            self.segment.actor_ids[last] = self.actor(&tail);
        }
    }

    fn is_empty(&self) -> bool {
        self.segment.times.is_empty() && self.segments.is_empty()
    }

    fn event(&mut self, pos: usize, line: &[u8], head: &Head<'_>) {
        // An event can bring two actors: that of its first line, and the one that its last line names.
        let is_full = self.segment.times.len() >= limits::SEGMENT_EVENTS
            || self.segment.actors.len() + 2 > limits::SEGMENT_ACTORS;
        if is_full {
            self.next_segment(pos);
        }
        let start = self.base + pos as u64;
        let (time, known) = self.time(head.stamp, start);
        let actor = self.actor(head);
        let mut flags = known;
        let body = line.get(head.body..).unwrap_or_default();
        let body = body.get(..limits::LINE_HEAD_BYTES).unwrap_or(body);
        if head.severity == Severity::NONE && self.judges_words && looks_bad(body) {
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
                let (utc, ambiguous) = if self.source.newest_first {
                    self.resolver.resolve_before(civil, self.previous_utc)
                } else {
                    self.resolver.resolve(civil, self.previous_utc)
                };
                self.previous_utc = utc;
                (utc, self.source.local_known() as u8 | if ambiguous { flag::AMBIGUOUS } else { 0 })
            }
            // From back to front years and days are counted when the piece is read, see `place_years`.
            Stamp::NoYear(civil) if self.source.newest_first => (civil, TimeKnown::AssumedYear as u8),
            Stamp::TimeOfDay(ns) if self.source.newest_first => (ns, TimeKnown::AssumedDate as u8),
            Stamp::NoYear(civil) => (self.years.next(civil), TimeKnown::AssumedYear as u8),
            Stamp::TimeOfDay(ns) => {
                let of_day = self.days.next(ns);
                match self.date {
                    Some(date) => self.time(Stamp::Local(date.saturating_add(of_day)), start),
                    None => (of_day, TimeKnown::AssumedDate as u8),
                }
            }
            Stamp::Uptime(ns) => match self.source.header.boot {
                Some(boot) => (boot.saturating_add(ns), TimeKnown::Uptime as u8),
                None => (NO_TIME, TimeKnown::Inherited as u8),
            },
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

    #[inline]
    fn actor(&mut self, head: &Head<'_>) -> u16 {
        let hash = hash_of(head);
        let known = match self.last_actor {
            Some((last, id)) if last == hash => Some(id),
            _ => self.by_hash.get(&hash).copied(),
        };
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
        self.last_actor = Some((hash, id));
        id
    }

    fn codes(&mut self, line: &[u8], from: usize) {
        let line = line.get(..limits::LINE_HEAD_BYTES).unwrap_or(line);
        let body = line.get(from..).unwrap_or_default();
        let format = self.detected.format;
        let event = self.segment.times.len().checked_sub(1).map(|event| event as u16);
        let (segment, lead) = (&mut self.segment, &mut self.chunk.lead_codes);
        let mut count = 0;
        let mut note = |found: code::Found| {
            count += 1;
            if count > limits::CODES_PER_EVENT {
                return;
            }
            match event {
                Some(event) => {
                    let actor = segment.actor_ids[usize::from(event)];
                    let code = found.of_program(&segment.actors[usize::from(actor)].component);
                    if segment.codes.last() != Some(&(event, code)) {
                        segment.codes.push((event, code));
                    }
                    segment.flags[usize::from(event)] |= flag::HAS_CODE;
                }
                None => lead.push(found.code),
            }
        };
        if !format.is_fields(line) {
            code::scan(body, self.source.platform, self.catalogues, &mut note);
        }
        format.column_codes(line, &mut note);
    }

    fn next_segment(&mut self, pos: usize) {
        let next = Columns { offset: self.base + pos as u64, ..Columns::default() };
        let full = std::mem::replace(&mut self.segment, next);
        self.segments.push(full);
        self.by_hash.clear();
        self.last_actor = None;
    }

    fn finish(mut self, bytes: u64) -> Chunk {
        let last = std::mem::take(&mut self.segment);
        self.segments.push(last);
        self.place_years();
        let mut before = i64::MIN;
        for segment in &mut self.segments {
            before = inherit(&mut segment.times, before);
        }
        self.chunk.segments = std::mem::take(&mut self.segments).into_iter().map(Segment::from).collect();
        if self.out_of_range > 0 {
            self.chunk.trouble.push(Trouble::note(format!(
                "{} times outside the years 1678 to 2261, the first at byte {}: taken from the event before",
                self.out_of_range, self.first_out_of_range
            )));
        }
        if let (count @ 1.., first) = self.torn {
            let lines = if count == 1 { "1 record is".to_owned() } else { format!("{count} records are") };
            self.chunk.trouble.push(Trouble::note(format!(
                "{lines} not whole, the first at byte {first}: kept with the event before"
            )));
        }
        self.chunk.bytes = bytes;
        self.chunk
    }

    /// Gives the stamps without year or date theirs, so that the last one is not after the file's time.
    fn place_years(&mut self) {
        let source = self.source;
        let offset = i64::from(source.zone.offset_at(source.modified)) * crate::clock::SECOND;
        let modified = source.modified.saturating_add(offset);
        if source.newest_first {
            let (mut years, mut days) = (year::WrapCounter::default(), DayCounter::default());
            self.each_as_it_happened(TimeKnown::AssumedYear, |time, _| *time = years.next(*time));
            self.each_as_it_happened(TimeKnown::AssumedDate, |time, _| *time = days.next(*time));
        }
        if let Some(last) = self.last_of(TimeKnown::AssumedYear) {
            let years = year::shift(last, modified);
            self.place(TimeKnown::AssumedYear, year::adder(years));
        }
        if let Some(last) = self.last_of(TimeKnown::AssumedDate) {
            let shift = day::shift(last, modified);
            self.place(TimeKnown::AssumedDate, |civil| civil.saturating_add(shift));
        }
    }

    /// The last time of a kind.
    fn last_of(&mut self, kind: TimeKnown) -> Option<i64> {
        let mut last = None;
        self.each_as_it_happened(kind, |time, _| last = Some(*time));
        last
    }

    /// Turns civil times of a kind into instants.
    fn place(&mut self, kind: TimeKnown, mut full: impl FnMut(i64) -> i64) {
        let mut resolver = Resolver::new(self.source.zone.clone());
        let mut previous = i64::MIN;
        self.each_as_it_happened(kind, |time, flags| {
            let (utc, ambiguous) = resolver.resolve(full(*time), previous);
            *flags |= if ambiguous { flag::AMBIGUOUS } else { 0 };
            (*time, previous) = (utc, utc);
        });
    }

    /// All times of a kind with their flags, in the order of what happened.
    fn each_as_it_happened(&mut self, kind: TimeKnown, mut take: impl FnMut(&mut i64, &mut u8)) {
        let mut of_segment = |segment: &mut Columns, newest_first: bool| {
            let events = segment.times.iter_mut().zip(&mut segment.flags);
            let mut take = |(time, flags): (&mut i64, &mut u8)| {
                if TimeKnown::from_bits(*flags) == kind {
                    take(time, flags);
                }
            };
            if newest_first { events.rev().for_each(&mut take) } else { events.for_each(&mut take) }
        };
        if self.source.newest_first {
            self.segments.iter_mut().rev().for_each(|segment| of_segment(segment, true));
        } else {
            self.segments.iter_mut().for_each(|segment| of_segment(segment, false));
        }
    }
}

/// Gives events without a time of their own the time of the event before. Gives the last time met.
pub(super) fn inherit(times: &mut [i64], before: i64) -> i64 {
    let mut last = before;
    for time in times {
        if *time == NO_TIME {
            *time = last;
        } else {
            last = *time;
        }
    }
    last
}

fn text(bytes: &[u8]) -> Box<str> {
    String::from_utf8_lossy(bytes).into()
}

fn same_actor(actor: &Actor, head: &Head<'_>) -> bool {
    actor.pid == head.pid
        && actor.tid == head.tid
        && same_bytes(actor.component.as_bytes(), &head.component)
        && same_bytes(actor.host.as_bytes(), &head.host)
}

/// Equality of texts that are nearly always short: calling the library's comparison twice for every event was felt.
#[inline]
fn same_bytes(one: &[u8], other: &[u8]) -> bool {
    if one.len() != other.len() || one.len() > 16 {
        return one == other;
    }
    // The first eight bytes and the last eight, which may be some of the same.
    match (one.first_chunk::<8>(), other.first_chunk::<8>(), one.last_chunk::<8>(), other.last_chunk::<8>()) {
        (Some(first), Some(other_first), Some(last), Some(other_last)) => first == other_first && last == other_last,
        _ => one.iter().zip(other).all(|(one, other)| one == other),
    }
}

fn hash_of(head: &Head<'_>) -> u64 {
    use std::hash::Hasher;
    let mut hasher = FxHasher::default();
    hasher.write(&head.host);
    hasher.write(&head.component);
    hasher.write_u64(u64::from(head.pid.unwrap_or(0)) << 32 | u64::from(head.tid.unwrap_or(0)));
    hasher.finish()
}
