//! The event table: columns, not objects. Text stays in the source files.
//!
//! A [`Segment`] holds up to 65 536 events of one piece of one source: 20 bytes an event in columns that never change
//! once built. A [`Table`] is a list of segments plus the merged order (4 bytes an event). What a clock correction
//! changes is only the order and a number per host, so it shares all segments with the table before.

use std::sync::Arc;

use arrow_buffer::ScalarBuffer;
use rustc_hash::FxHashMap;

use crate::clock::{ClockCorrection, TimeKnown};
use crate::code::Code;
use crate::format::Place;
use crate::severity::Severity;
use crate::timeline;

mod codes;
mod read;
pub use codes::CodeRules;
pub(crate) use read::without_uptime;
pub use read::{RecordReader, ShownLine, codes_in};

/// The time of an event that has none.
pub const NO_TIME: i64 = i64::MIN;

/// An event's number in the table: stable while a table grows only at its end, and in file order within a source.
#[derive(Clone, Copy, Debug, PartialEq, Eq, PartialOrd, Ord, Hash)]
pub struct Row(pub u32);

/// Bits of an event's flags. The lowest three are its [`TimeKnown`].
pub mod flag {
    /// The bits that hold how the time is known.
    pub const TIME_KNOWN: u8 = 0b0000_0111;
    /// The local time occurs twice or never (daylight saving).
    pub const AMBIGUOUS: u8 = 0b0000_1000;
    /// The record has more than one line.
    pub const MULTILINE: u8 = 0b0001_0000;
    /// The record holds at least one code.
    pub const HAS_CODE: u8 = 0b0010_0000;
    /// Its text looks bad although the source carries no severity.
    pub const SUSPECT: u8 = 0b0100_0000;
    /// A crash dump.
    pub const DUMP: u8 = 0b1000_0000;
}

/// How the records of a source stand in it.
#[derive(Clone, Copy, Debug, Default, PartialEq, Eq)]
pub enum RecordOrder {
    /// As they happened.
    #[default]
    AsWritten,
    /// The newest first.
    NewestFirst,
    /// Several runs over the same time: their times say how they happened.
    ByTime,
}

/// Who wrote an event: interned, since a few actors write millions of lines.
#[derive(Clone, Debug, Default, PartialEq, Eq, Hash)]
pub struct Actor {
    /// The host named in the line; empty where none is.
    pub host: Box<str>,
    /// Program, logger or module; empty where none is.
    pub component: Box<str>,
    /// Process id.
    pub pid: Option<u32>,
    /// Thread id.
    pub tid: Option<u32>,
}

/// A column that never changes: shared memory, read from an index file or made by a reader.
pub type Column<T> = ScalarBuffer<T>;

/// Events of one piece of one source while they are read, in file order. What the fields mean: see [`Segment`].
#[derive(Clone, Debug, Default)]
#[allow(missing_docs, reason = "the same fields as in Segment")]
pub struct Columns {
    pub offset: u64,
    pub lines: u64,
    pub attached_lines: u64,
    pub times: Vec<i64>,
    pub offsets: Vec<u32>,
    pub line_numbers: Vec<u32>,
    pub actor_ids: Vec<u16>,
    pub severities: Vec<u8>,
    pub flags: Vec<u8>,
    pub actors: Vec<Actor>,
    pub codes: Vec<(u16, Code)>,
}

/// Events of one piece of one source, in file order.
#[derive(Clone, Debug)]
pub struct Segment {
    /// Which source, by its place in the case.
    pub source: u32,
    /// Where in the file the piece starts, in bytes.
    pub offset: u64,
    /// Lines that start in this piece.
    pub lines: u64,
    /// Lines of this piece that do not start a record.
    pub attached_lines: u64,
    /// Per event: UTC nanoseconds by the source's own clock, or [`NO_TIME`].
    pub times: Column<i64>,
    /// Per event: where its record starts, in bytes from `offset`.
    pub offsets: Column<u32>,
    /// Per event: its first line, counted from 0 in this piece.
    pub line_numbers: Column<u32>,
    /// Per event: index into `actors`.
    pub actor_ids: Column<u16>,
    /// Per event: its severity number.
    pub severities: Column<u8>,
    /// Per event: see [`flag`].
    pub flags: Column<u8>,
    /// The different actors of this piece.
    pub actors: Vec<Actor>,
    /// Codes found: event (index in this segment) and code, by event.
    pub codes: Vec<(u16, Code)>,
    /// Whether times never go backward here.
    pub sorted: bool,
}

impl From<Columns> for Segment {
    fn from(mut columns: Columns) -> Self {
        columns.times.shrink_to_fit();
        columns.offsets.shrink_to_fit();
        columns.line_numbers.shrink_to_fit();
        columns.actor_ids.shrink_to_fit();
        columns.severities.shrink_to_fit();
        columns.flags.shrink_to_fit();
        columns.actors.shrink_to_fit();
        columns.codes.shrink_to_fit();
        Self {
            source: 0,
            offset: columns.offset,
            lines: columns.lines,
            attached_lines: columns.attached_lines,
            sorted: columns.times.is_sorted(),
            times: columns.times.into(),
            offsets: columns.offsets.into(),
            line_numbers: columns.line_numbers.into(),
            actor_ids: columns.actor_ids.into(),
            severities: columns.severities.into(),
            flags: columns.flags.into(),
            actors: columns.actors,
            codes: columns.codes,
        }
    }
}

impl Segment {
    /// Number of events.
    pub fn len(&self) -> usize {
        self.times.len()
    }

    /// Whether there are no events.
    pub fn is_empty(&self) -> bool {
        self.times.is_empty()
    }

    /// The codes of the event at `index`.
    pub fn codes_of(&self, index: usize) -> &[(u16, Code)] {
        let start = self.codes.partition_point(|(event, _)| usize::from(*event) < index);
        let rest = self.codes.get(start..).unwrap_or_default();
        let count = rest.iter().take_while(|(event, _)| usize::from(*event) == index).count();
        rest.get(..count).unwrap_or_default()
    }

    /// Its first and last time, if any of its events has one.
    pub fn span(&self) -> (Option<i64>, Option<i64>) {
        let mut dated = self.times.iter().copied().filter(|time| *time != NO_TIME);
        if self.sorted {
            let last = self.times.last().copied().filter(|time| *time != NO_TIME);
            return (dated.next(), last);
        }
        (dated.clone().min(), dated.max())
    }

    /// Changes times and flags, and says again whether times never go backward.
    pub fn change_times(&mut self, change: impl FnOnce(&mut [i64], &mut [u8])) {
        let (mut times, mut flags) = (self.times.to_vec(), self.flags.to_vec());
        change(&mut times, &mut flags);
        self.sorted = times.is_sorted();
        self.times = times.into();
        self.flags = flags.into();
    }

    /// Adds codes to its last event.
    pub fn add_codes(&mut self, codes: &[Code]) {
        let Some(event) = self.len().checked_sub(1) else { return };
        let mut flags = self.flags.to_vec();
        flags[event] |= flag::HAS_CODE;
        self.flags = flags.into();
        // A segment from the index may have them already.
        let known: Vec<Code> = self.codes_of(event).iter().map(|(_, code)| *code).collect();
        let new = codes.iter().filter(|code| !known.contains(code));
        self.codes.extend(new.map(|code| (event as u16, *code)));
    }

    /// Bytes of memory that it takes.
    pub fn memory_bytes(&self) -> usize {
        self.len() * (8 + 4 + 4 + 2 + 1 + 1)
            + self.codes.capacity() * size_of::<(u16, Code)>()
            + self.actors.capacity() * size_of::<Actor>()
            + self.actors.iter().map(|actor| actor.host.len() + actor.component.len()).sum::<usize>()
    }
}

/// A segment in its place in the table.
#[derive(Clone, Debug)]
pub struct Part {
    /// The events.
    pub segment: Arc<Segment>,
    /// The row of its first event.
    pub first_row: u32,
    /// Lines of the source before this piece.
    pub first_line: u64,
    /// Where in the file the next piece with events of the same source starts, or the file ends.
    pub end: u64,
    /// For each of the segment's actors: its number in the table.
    pub actor_ids: Arc<[u32]>,
}

/// An actor with its names resolved to numbers of the table.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Hash)]
pub struct TableActor {
    /// Index into [`Table::hosts`].
    pub host: u32,
    /// Index into [`Table::components`].
    pub component: u32,
    /// Process id.
    pub pid: Option<u32>,
    /// Thread id.
    pub tid: Option<u32>,
}

/// All events that have been read so far, in merged order.
#[derive(Clone, Debug, Default)]
pub struct Table {
    /// The segments: by source, then by place in the file.
    pub parts: Vec<Part>,
    /// All rows in merged order.
    pub order: Column<u32>,
    /// Rows whose times disagree with the order of their file, ascending.
    pub disordered: Column<u32>,
    /// Names of hosts; the first is "" for events without one.
    pub hosts: Arc<Vec<String>>,
    /// Names of components; the first is "" for events without one.
    pub components: Arc<Vec<String>>,
    /// All actors.
    pub actors: Arc<Vec<TableActor>>,
    /// For each host: how its clock is corrected.
    pub drift: Arc<Vec<ClockCorrection>>,
    /// For each source: how its clock is corrected, where that differs from its host's.
    pub source_drift: Arc<Vec<Option<ClockCorrection>>>,
    /// For each source: the number of the log that it is a generation of.
    pub logs: Arc<Vec<u32>>,
    /// For each source: how its records stand in it.
    pub record_orders: Arc<Vec<RecordOrder>>,
    /// What was decided about codes.
    pub code_rules: Arc<CodeRules>,
    /// First and last corrected time, over dated events: found by [`Self::put_in_order`].
    pub span: Option<(i64, i64)>,
}

impl Table {
    /// Merges its events: to be done again when clocks are corrected.
    pub fn put_in_order(&mut self) {
        let (order, disordered) = timeline::merge(self);
        self.take_order(order.into(), disordered.into());
    }

    /// Takes an order that [`Self::put_in_order`] found for the same events and clocks before.
    pub fn take_order(&mut self, order: Column<u32>, disordered: Column<u32>) {
        (self.order, self.disordered) = (order, disordered);
        self.span = self.find_span();
    }

    /// Number of events.
    pub fn len(&self) -> usize {
        self.parts.last().map_or(0, |part| part.first_row as usize + part.segment.len())
    }

    /// Whether there are no events.
    pub fn is_empty(&self) -> bool {
        self.parts.is_empty()
    }

    /// The rows at the end of the merged order that have no time: of sources in which nothing is dated. The last one first.
    pub fn undated_at_end(&self) -> impl Iterator<Item = Row> {
        let rows = self.order.iter().rev().map(|row| Row(*row));
        rows.take_while(|row| self.event(*row).time().is_none())
    }

    /// The parts of a source, by its place in the case.
    pub fn parts_of(&self, source: usize) -> &[Part] {
        let start = self.parts.partition_point(|part| (part.segment.source as usize) < source);
        let end = self.parts.partition_point(|part| part.segment.source as usize <= source);
        self.parts.get(start..end).unwrap_or_default()
    }

    /// The rows of a source, in the order of its file: they follow each other.
    pub fn rows_of(&self, source: usize) -> impl DoubleEndedIterator<Item = Row> + use<> {
        self.row_span(source).map(Row)
    }

    fn row_span(&self, source: usize) -> std::ops::Range<u32> {
        let parts = self.parts_of(source);
        let first = parts.first().map_or(0, |part| part.first_row);
        let end = parts.last().map_or(first, |part| part.first_row + part.segment.len() as u32);
        first..end
    }

    /// The row of the record that a line of a source belongs to, by the line from 1; a line in front of all belongs to the first.
    pub fn row_at_line(&self, source: usize, line: u64) -> Option<Row> {
        let span = self.row_span(source);
        let (mut from, mut to) = (span.start, span.end);
        while from < to {
            let middle = from.midpoint(to);
            if self.event(Row(middle)).line() <= line { from = middle + 1 } else { to = middle }
        }
        (!span.is_empty()).then(|| Row(from.saturating_sub(1).max(span.start)))
    }

    /// The rows of the same source up to `around` in front of a row and behind it, itself among them.
    pub fn rows_near(&self, row: Row, around: u32) -> impl Iterator<Item = Row> + use<> {
        let span = self.row_span(self.event(row).source());
        (row.0.saturating_sub(around).max(span.start)..(row.0 + around + 1).min(span.end)).map(Row)
    }

    /// The row of the record that starts at this byte of a source.
    pub fn row_at(&self, source: usize, offset: u64) -> Option<Row> {
        let start = |part: &&Part| part.segment.offset + u64::from(part.segment.offsets[0]) <= offset;
        let part = self.parts_of(source).iter().rev().find(start)?;
        let within = u32::try_from(offset - part.segment.offset).ok()?;
        let event = part.segment.offsets.binary_search(&within).ok()?;
        Some(Row(part.first_row + event as u32))
    }

    /// The part that holds a row, and the event's index in it.
    pub fn locate(&self, row: Row) -> (usize, usize) {
        let part = self.parts.partition_point(|part| part.first_row <= row.0).saturating_sub(1);
        (part, (row.0 - self.parts[part].first_row) as usize)
    }

    /// One event.
    pub fn event(&self, row: Row) -> EventRef<'_> {
        let (part, index) = self.locate(row);
        EventRef { table: self, part: &self.parts[part], index, row }
    }

    /// The event at a place of the merged order.
    pub fn at(&self, place: usize) -> Option<EventRef<'_>> {
        self.order.get(place).map(|row| self.event(Row(*row)))
    }

    /// The first place in the merged order whose corrected time is not before `utc_ns`.
    ///
    /// Undated events are at the end.
    pub fn place_of_time(&self, utc_ns: i64) -> usize {
        // The order follows times but for disordered events, which a binary search may step on; those are few.
        self.order.partition_point(|row| self.event(Row(*row)).order_time() < utc_ns)
    }

    /// The place of a row in the merged order.
    pub fn place_of(&self, row: Row) -> usize {
        let time = self.event(row).order_time();
        let guess = self.place_of_time(time);
        let ahead = self.order.iter().skip(guess).take(4096).position(|other| *other == row.0);
        match ahead {
            Some(steps) => guess + steps,
            None => self.order.iter().position(|other| *other == row.0).unwrap_or(0),
        }
    }

    fn find_span(&self) -> Option<(i64, i64)> {
        let mut span: Option<(i64, i64)> = None;
        for part in &self.parts {
            for index in [0, part.segment.len().wrapping_sub(1)] {
                self.widen(&mut span, part, index);
            }
            if !part.segment.sorted {
                (0..part.segment.len()).for_each(|index| self.widen(&mut span, part, index));
            }
        }
        span
    }

    fn widen(&self, span: &mut Option<(i64, i64)>, part: &Part, index: usize) {
        let (Some(time), Some(actor)) = (part.segment.times.get(index), part.segment.actor_ids.get(index)) else {
            return;
        };
        if *time != NO_TIME {
            let time = self.drift_of(part.segment.source, part.actor_ids[usize::from(*actor)]).correct(*time);
            let (first, last) = span.unwrap_or((time, time));
            *span = Some((first.min(time), last.max(time)));
        }
    }

    /// How the clock of a source, or else of an actor's host, is corrected.
    pub fn drift_of(&self, source: u32, actor: u32) -> ClockCorrection {
        let own = self.source_drift.get(source as usize).copied().flatten();
        own.unwrap_or_else(|| self.drift[self.actors[actor as usize].host as usize])
    }

    /// Whether any clock is corrected.
    pub fn has_drift(&self) -> bool {
        self.drift.iter().chain(self.source_drift.iter().flatten()).any(|drift| !drift.is_none())
    }

    /// Bytes of memory of the whole table.
    pub fn memory_bytes(&self) -> usize {
        self.order.len() * 4
            + self.disordered.len() * 4
            + self.actors.capacity() * size_of::<TableActor>()
            + self
                .parts
                .iter()
                .map(|part| part.segment.memory_bytes() + part.actor_ids.len() * 4 + size_of::<Part>())
                .sum::<usize>()
    }
}

/// One event of a table.
#[derive(Clone, Copy, Debug)]
pub struct EventRef<'a> {
    table: &'a Table,
    part: &'a Part,
    index: usize,
    /// Its row.
    pub row: Row,
}

impl<'a> EventRef<'a> {
    /// Its corrected time in UTC nanoseconds, if it has one.
    pub fn time(&self) -> Option<i64> {
        let time = self.raw_time()?;
        Some(self.table.drift_of(self.part.segment.source, self.actor_id()).correct(time))
    }

    /// Its time by its own clock, if it has one.
    pub fn raw_time(&self) -> Option<i64> {
        Some(self.part.segment.times[self.index]).filter(|time| *time != NO_TIME)
    }

    /// Its time for searching the merged order; undated events are last.
    pub fn order_time(&self) -> i64 {
        self.time().unwrap_or(i64::MAX)
    }

    /// How its time is known.
    pub fn time_known(&self) -> TimeKnown {
        TimeKnown::from_bits(self.flags() & flag::TIME_KNOWN)
    }

    /// Its flags, see [`flag`].
    pub fn flags(&self) -> u8 {
        self.part.segment.flags[self.index]
    }

    /// Its severity.
    pub fn severity(&self) -> Severity {
        Severity(self.part.segment.severities[self.index])
    }

    /// Which source it is from.
    pub fn source(&self) -> usize {
        self.part.segment.source as usize
    }

    /// Its first line, from 1.
    pub fn line(&self) -> u64 {
        self.part.first_line + u64::from(self.part.segment.line_numbers[self.index]) + 1
    }

    /// Where its record starts in the file, in bytes.
    pub fn offset(&self) -> u64 {
        self.part.segment.offset + u64::from(self.part.segment.offsets[self.index])
    }

    /// How many bytes its record covers, with all its lines and line ends.
    pub fn length(&self) -> u64 {
        let end = match self.part.segment.offsets.get(self.index + 1) {
            Some(next) => self.part.segment.offset + u64::from(*next),
            None => self.part.end,
        };
        end.saturating_sub(self.offset())
    }

    /// Its place in the file that it was read from.
    pub fn place(&self) -> Place {
        Place { line: self.line(), offset: self.offset(), length: self.length() }
    }

    /// Who wrote it.
    pub fn actor(&self) -> TableActor {
        self.table.actors[self.actor_id() as usize]
    }

    /// The number of who wrote it.
    pub fn actor_id(&self) -> u32 {
        self.part.actor_ids[usize::from(self.part.segment.actor_ids[self.index])]
    }

    /// Its host, or "".
    pub fn host(&self) -> &'a str {
        &self.table.hosts[self.actor().host as usize]
    }

    /// Its component, or "".
    pub fn component(&self) -> &'a str {
        &self.table.components[self.actor().component as usize]
    }

    /// Its codes, each of the family that it was recognised as or that a person chose.
    pub fn codes(&self) -> impl Iterator<Item = Code> + 'a {
        let EventRef { table, part, index, row } = *self;
        let codes = part.segment.codes_of(index).iter();
        codes.map(move |(_, code)| table.code_of(part.segment.source, row, *code))
    }

    /// Whether its time disagrees with the order of its file.
    pub fn is_disordered(&self) -> bool {
        self.table.disordered.binary_search(&self.row.0).is_ok()
    }

    /// Whether it is a problem: error or worse, a crash, bad-looking text in a source without severities, or a line logged as
    /// information that carries the code of a failure.
    pub fn is_problem(&self) -> bool {
        self.severity().is_problem()
            || self.flags() & (flag::SUSPECT | flag::DUMP) != 0
            || self.escalating_code().is_some()
    }
}

/// Gives names numbers, in the order of their first use.
#[derive(Clone, Debug)]
pub struct Names {
    list: Vec<String>,
    by_name: FxHashMap<String, u32>,
}

impl Default for Names {
    fn default() -> Self {
        Self { list: vec![String::new()], by_name: FxHashMap::from_iter([(String::new(), 0)]) }
    }
}

impl Names {
    /// The number of a name, new if need be.
    pub fn intern(&mut self, name: &str) -> u32 {
        if let Some(number) = self.by_name.get(name) {
            return *number;
        }
        let number = self.list.len() as u32;
        self.list.push(name.to_owned());
        self.by_name.insert(name.to_owned(), number);
        number
    }

    /// All names, by number.
    pub fn list(&self) -> &[String] {
        &self.list
    }
}
