//! Reading all sources on all cores, with a first view at once and the whole soon after.

use std::collections::HashMap;
use std::sync::Arc;
use std::sync::atomic::{AtomicUsize, Ordering};
use std::time::{Duration, Instant};

use rustc_hash::FxHashMap;

use super::chunk::{self, Chunk};
use super::{Case, Loaded, Reader, Source, SourceReport};
use crate::clock::scan::Civil;
use crate::clock::{DAY, TimeKnown, year};
use crate::code::Code;
use crate::event::{Actor, EventRef, NO_TIME, Names, Part, Row, Segment, Table, TableActor, flag};
use crate::severity::Severity;
use crate::text::{Encoding, SourceFile};
use crate::work::{Work, workers};
use crate::{Result, crash, limits, timeline};

/// The longest that the first view waits for the first events of every source.
const FIRST_VIEW: Duration = Duration::from_millis(60);

/// Reads the events of a case.
pub struct Loader {
    sources: Arc<Vec<Source>>,
    drift: HashMap<String, i64>,
    jobs: Vec<Job>,
    /// For each source: its pieces, in file order.
    slots: Vec<Vec<Option<Piece>>>,
    reports: Vec<SourceReport>,
}

struct Job {
    source: usize,
    slot: usize,
    from: u64,
    to: u64,
}

#[derive(Default)]
struct Piece {
    segments: Vec<Arc<Segment>>,
    lead_codes: Vec<Code>,
}

impl Loader {
    /// A loader for the sources of `case`.
    pub fn new(case: &Case) -> Self {
        let sources = Arc::clone(&case.sources);
        let mut jobs = Vec::new();
        let mut slots: Vec<Vec<Option<Piece>>> = Vec::new();
        for (index, source) in sources.iter().enumerate() {
            let pieces = pieces(source);
            slots.push(pieces.iter().map(|_| None).collect());
            jobs.extend(pieces.into_iter().enumerate().map(|(slot, (from, to))| Job { source: index, slot, from, to }));
        }
        // Last pieces first: people start at the end. Then first pieces, then the rest in order.
        let rank = |job: &Job| match (job.slot, slots[job.source].len()) {
            (slot, count) if slot + 1 == count => 0,
            (0, _) => 1,
            _ => 2,
        };
        jobs.sort_by_key(rank);
        let reports = vec![SourceReport::default(); sources.len()];
        Self { sources, drift: case.options.drift.clone(), jobs, slots, reports }
    }

    /// Reads everything, for those who can wait.
    ///
    /// # Errors
    /// When cancelled.
    pub fn run(self, work: &Work) -> Result<Loaded> {
        self.read_all(work, None)
    }

    /// Reads everything. Calls `publish` with what there is as soon as every source has shown its end (or after 60 ms),
    /// and again now and then; the last call and the result hold everything.
    ///
    /// # Errors
    /// When cancelled.
    pub fn run_showing(self, work: &Work, mut publish: impl FnMut(Loaded)) -> Result<Loaded> {
        self.read_all(work, Some(&mut publish))
    }

    fn read_all(mut self, work: &Work, mut publish: Option<&mut dyn FnMut(Loaded)>) -> Result<Loaded> {
        work.set_total(self.sources.iter().map(|source| source.len_bytes).sum());
        let jobs = std::mem::take(&mut self.jobs);
        let (sender, receiver) = crossbeam_channel::bounded(64);
        let next = AtomicUsize::new(0);
        let started = Instant::now();
        let sources = Arc::clone(&self.sources);
        let early = jobs.iter().filter(|job| job.slot + 1 == self.slots[job.source].len()).count();
        std::thread::scope(|scope| {
            for _ in 0..workers() {
                let sender = sender.clone();
                let (jobs, next, sources) = (&jobs, &next, &sources);
                scope.spawn(move || {
                    let mut buffer = Vec::new();
                    while let Some(job) = jobs.get(next.fetch_add(1, Ordering::Relaxed)) {
                        if work.is_cancelled() {
                            return;
                        }
                        let done = read_job(&sources[job.source], job, &mut buffer);
                        work.advance(done.as_ref().map_or(0, |chunk| chunk.bytes));
                        if sender.send((job, done)).is_err() {
                            return;
                        }
                    }
                });
            }
            drop(sender);
            let mut done = 0;
            let mut next_view = started + FIRST_VIEW;
            while let Ok((job, chunk)) = receiver.recv() {
                self.place(job, chunk);
                done += 1;
                let now = Instant::now();
                if let Some(publish) =
                    publish.as_mut().filter(|_| done < jobs.len() && (done == early || now >= next_view))
                {
                    publish(self.snapshot(false));
                    // Each view costs in proportion to what has been read, so they get rarer.
                    next_view = Instant::now() + (now.elapsed() * 8).max(started.elapsed()).max(FIRST_VIEW);
                }
            }
        });
        work.check()?;
        for source in 0..self.sources.len() {
            self.finish_source(source);
        }
        let loaded = self.snapshot(true);
        if let Some(publish) = publish {
            publish(loaded.clone());
        }
        Ok(loaded)
    }

    fn place(&mut self, job: &Job, chunk: std::io::Result<Chunk>) {
        let report = &mut self.reports[job.source];
        let chunk = chunk.unwrap_or_else(|error| Chunk {
            trouble: vec![format!("cannot read bytes {} to {}: {error}", job.from, job.to)],
            ..Chunk::default()
        });
        if report.trouble.len() < limits::TROUBLES {
            report.trouble.extend(chunk.trouble);
        }
        report.line_offset_s = report.line_offset_s.or(chunk.line_offset_s);
        let segments = chunk.segments.into_iter().map(Arc::new).collect();
        self.slots[job.source][job.slot] = Some(Piece { segments, lead_codes: chunk.lead_codes });
    }

    /// What only shows when a whole source is known: years across pieces, times and codes handed on from piece to piece.
    fn finish_source(&mut self, index: usize) {
        let source = &self.sources[index];
        let pieces: Vec<Piece> = self.slots[index].iter_mut().map(|slot| slot.take().unwrap_or_default()).collect();
        let mut segments: Vec<Arc<Segment>> = Vec::new();
        for piece in pieces {
            if let Some(last) = segments.iter_mut().rev().find(|segment| !segment.is_empty())
                && !piece.lead_codes.is_empty()
            {
                let last = Arc::make_mut(last);
                let event = last.len() - 1;
                last.flags[event] |= flag::HAS_CODE;
                last.codes.extend(piece.lead_codes.iter().map(|code| (event as u16, *code)));
            }
            segments.extend(piece.segments);
        }
        if matches!(source.reader, Reader::Lines(_)) {
            years_across(&mut segments, source);
            dates_across(&mut segments);
        }
        let report = &mut self.reports[index];
        for segment in &segments {
            report.lines += segment.lines;
            report.events += segment.len() as u64;
            report.attached_lines += segment.attached_lines;
            let undated = |flags: &&u8| **flags & flag::TIME_KNOWN >= TimeKnown::Inherited as u8;
            report.undated_events += segment.flags.iter().filter(undated).count() as u64;
            let dated = segment.times.iter().copied().filter(|time| *time != NO_TIME);
            report.first = report.first.into_iter().chain(dated.clone().min()).min();
            report.last = report.last.into_iter().chain(dated.max()).max();
        }
        self.slots[index] = vec![Some(Piece { segments, lead_codes: Vec::new() })];
    }

    fn snapshot(&self, complete: bool) -> Loaded {
        let mut hosts = Names::default();
        let mut components = Names::default();
        let mut actors: Vec<TableActor> = Vec::new();
        let mut actor_ids: FxHashMap<TableActor, u32> = FxHashMap::default();
        let mut parts: Vec<Part> = Vec::new();
        let mut first_row = 0_usize;
        for (index, slots) in self.slots.iter().enumerate() {
            let source = &self.sources[index];
            let mut first_line = 0;
            for segment in slots.iter().flatten().flat_map(|piece| &piece.segments) {
                let lines = segment.lines;
                if !segment.is_empty() && u32::try_from(first_row + segment.len()).is_ok() {
                    close_part(&mut parts, index, segment.offset + u64::from(segment.offsets[0]));
                    let ids = segment.actors.iter().map(|actor| {
                        let actor = table_actor(actor, source, &mut hosts, &mut components);
                        *actor_ids.entry(actor).or_insert_with(|| {
                            actors.push(actor);
                            actors.len() as u32 - 1
                        })
                    });
                    parts.push(Part {
                        actor_ids: ids.collect(),
                        segment: Arc::clone(segment),
                        first_row: first_row as u32,
                        first_line,
                        end: source.len_bytes,
                    });
                    first_row += segment.len();
                }
                first_line += lines;
            }
        }
        let drift: Vec<i64> = hosts.list().iter().map(|host| self.drift.get(host).copied().unwrap_or(0)).collect();
        let (order, disordered) = timeline::merge(&parts, &actors, &drift);
        Loaded {
            table: Arc::new(Table {
                parts,
                order: Arc::new(order),
                disordered: Arc::new(disordered),
                hosts: Arc::new(hosts.list().to_vec()),
                components: Arc::new(components.list().to_vec()),
                actors: Arc::new(actors),
                drift: Arc::new(drift),
            }),
            reports: Arc::new(self.reports.clone()),
            complete,
        }
    }
}

/// The record that ends a part ends where the next part of the same source starts.
fn close_part(parts: &mut [Part], source: usize, next_offset: u64) {
    if let Some(last) = parts.last_mut()
        && last.segment.source as usize == source
    {
        last.end = next_offset;
    }
}

fn table_actor(actor: &Actor, source: &Source, hosts: &mut Names, components: &mut Names) -> TableActor {
    let host = source.host.as_deref().unwrap_or(&actor.host);
    TableActor {
        host: hosts.intern(host),
        component: components.intern(&actor.component),
        pid: actor.pid,
        tid: actor.tid,
    }
}

/// The pieces of a source, as byte ranges.
fn pieces(source: &Source) -> Vec<(u64, u64)> {
    if matches!(source.reader, Reader::Dump(_)) {
        return vec![(0, source.len_bytes)];
    }
    let mut from = source.mark_bytes.min(source.len_bytes);
    let mut pieces = Vec::new();
    while from < source.len_bytes {
        let to = ((from & !(limits::CHUNK_BYTES - 1)) + limits::CHUNK_BYTES).min(source.len_bytes);
        pieces.push((from, to));
        from = to;
    }
    pieces
}

fn read_job(source: &Source, job: &Job, buffer: &mut Vec<u8>) -> std::io::Result<Chunk> {
    let mut chunk = match source.reader {
        Reader::Lines(detected) => {
            let file = SourceFile::open(&source.path)?;
            let mut chunk = chunk::read(source, detected, &file, (job.from, job.to), buffer)?;
            if chunk.bytes < job.to - job.from {
                chunk.trouble.push(format!(
                    "the file has become shorter: {} bytes from byte {} are missing",
                    job.to - job.from - chunk.bytes,
                    job.from + chunk.bytes
                ));
            }
            if source.encoding == Encoding::Utf8 && job.from == source.mark_bytes {
                note_bad_utf8(source, &file, &mut chunk)?;
            }
            chunk
        }
        Reader::Dump(format) => dump_chunk(source, format),
    };
    for segment in &mut chunk.segments {
        segment.source = job.source as u32;
    }
    Ok(chunk)
}

/// Notes the first bytes of a file that are not UTF-8 (looked for in its first piece's start).
fn note_bad_utf8(source: &Source, file: &SourceFile, chunk: &mut Chunk) -> std::io::Result<()> {
    let start = file.read(source.mark_bytes, limits::SAMPLE_BYTES)?;
    if let Err(error) = std::str::from_utf8(&start)
        && error.error_len().is_some()
    {
        let at = source.mark_bytes + error.valid_up_to() as u64;
        chunk.trouble.push(format!("bytes at byte {at} are not UTF-8; such bytes are shown as \u{FFFD}"));
    }
    if let Some(at) = memchr::memchr(0, &start) {
        chunk.trouble.push(format!("NUL bytes at byte {}", source.mark_bytes + at as u64));
    }
    Ok(())
}

fn dump_chunk(source: &Source, format: &dyn crash::DumpFormat) -> Chunk {
    let mut segment = Segment::default();
    let mut chunk = Chunk { bytes: source.len_bytes, ..Chunk::default() };
    let crash = crash::read(format, &source.path).unwrap_or_else(|error| {
        chunk.trouble.push(error.to_string());
        crash::Crash::default()
    });
    let mut flags = flag::DUMP;
    if crash.time == NO_TIME {
        segment.times.push(source.modified);
        flags |= TimeKnown::Inherited as u8;
    } else {
        segment.times.push(crash.time);
    }
    chunk.trouble.extend(crash.trouble);
    segment.offsets.push(0);
    segment.line_numbers.push(0);
    segment.actor_ids.push(0);
    segment.severities.push(Severity::FATAL.0);
    segment.actors.push(Actor {
        host: "".into(),
        component: crash.process.unwrap_or_default().into(),
        pid: crash.pid,
        tid: crash.tid,
    });
    if let Some(code) = crash.code {
        segment.codes.push((0, code));
        flags |= flag::HAS_CODE;
    }
    segment.flags.push(flags);
    segment.sorted = true;
    chunk.segments.push(segment);
    chunk
}

/// Takes years from earlier pieces where a New Year lies between them and the piece behind.
fn years_across(segments: &mut [Arc<Segment>], source: &Source) {
    let is_open = |flags: &u8| flags & flag::TIME_KNOWN == TimeKnown::AssumedYear as u8;
    let mut behind: Option<i64> = None;
    let mut resolver = crate::clock::Resolver::new(source.zone.clone());
    for segment in segments.iter_mut().rev() {
        let last =
            segment.times.iter().zip(&segment.flags).rev().find(|(_, flags)| is_open(flags)).map(|(time, _)| *time);
        let Some(last) = last else { continue };
        let mut years = 0;
        while behind.is_some_and(|behind| minus_years(last, years) > behind.saturating_add(DAY * 180)) {
            years += 1;
        }
        if years > 0 {
            let segment = Arc::make_mut(segment);
            for (time, flags) in segment.times.iter_mut().zip(&segment.flags) {
                if is_open(flags) {
                    let offset = i64::from(source.zone.offset_at(*time)) * crate::clock::SECOND;
                    *time = resolver.resolve(minus_years(time.saturating_add(offset), years), i64::MIN).0;
                }
            }
            segment.note_order();
        }
        behind = segment.times.iter().zip(&segment.flags).find(|(_, flags)| is_open(flags)).map(|(time, _)| *time);
    }
}

fn minus_years(ns: i64, years: i32) -> i64 {
    year::in_year(ns, Civil::from_ns(ns).year - years)
}

/// Gives undated events at the start of pieces the time before them, and those at the start of the file the first one.
fn dates_across(segments: &mut [Arc<Segment>]) {
    let first = segments.iter().flat_map(|segment| &segment.times).copied().find(|time| *time != NO_TIME);
    let Some(first) = first else {
        // Nothing in this source has a time.
        for segment in segments.iter_mut().filter(|segment| !segment.is_empty()) {
            let segment = Arc::make_mut(segment);
            segment.flags.iter_mut().for_each(|flags| *flags = *flags & !flag::TIME_KNOWN | TimeKnown::None as u8);
        }
        return;
    };
    let mut last = first;
    for segment in segments.iter_mut().filter(|segment| !segment.is_empty()) {
        if segment.times.contains(&NO_TIME) {
            let segment = Arc::make_mut(segment);
            last = chunk::inherit(std::slice::from_mut(segment), last);
            segment.note_order();
        } else {
            last = segment.times.last().copied().unwrap_or(last);
        }
    }
}

impl Loaded {
    /// The same events with other clock corrections: nanoseconds to add for each host's label.
    #[must_use]
    pub fn with_drift(&self, drift: &HashMap<String, i64>) -> Self {
        let mut table = (*self.table).clone();
        let per_host: Vec<i64> = table.hosts.iter().map(|host| drift.get(host).copied().unwrap_or(0)).collect();
        let (order, disordered) = timeline::merge(&table.parts, &table.actors, &per_host);
        table.order = Arc::new(order);
        table.disordered = Arc::new(disordered);
        table.drift = Arc::new(per_host);
        Self { table: Arc::new(table), reports: Arc::clone(&self.reports), complete: self.complete }
    }
}

impl Source {
    /// The zone to show for a source: the one its lines state, else the one it is read with.
    pub fn zone_shown(&self, report: &SourceReport) -> (String, &'static str) {
        match report.line_offset_s {
            Some(offset) => (crate::clock::Zone::fixed(offset).name().to_owned(), super::ZoneFrom::Line.name()),
            None => (self.zone.name().to_owned(), self.zone_from.name()),
        }
    }
}

impl Loaded {
    /// The event whose record starts at `offset` of the source of that name.
    pub fn event_at(&self, case: &Case, source: &str, offset: u64) -> Option<EventRef<'_>> {
        let index = case.sources.iter().position(|other| other.name == source)?;
        let part = self.table.parts.iter().rev().find(|part| {
            part.segment.source as usize == index && part.segment.offset + u64::from(part.segment.offsets[0]) <= offset
        })?;
        let within = u32::try_from(offset - part.segment.offset).ok()?;
        let event = part.segment.offsets.binary_search(&within).ok()?;
        Some(self.table.event(Row(part.first_row + event as u32)))
    }

    /// Nanoseconds that are added to the clock of a host.
    pub fn drift_of_host(&self, label: &str) -> i64 {
        let host = self.table.hosts.iter().position(|host| host == label);
        host.and_then(|host| self.table.drift.get(host)).copied().unwrap_or(0)
    }
}
