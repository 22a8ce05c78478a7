//! Reading all sources on all cores, with a first view at once and the whole soon after.

use std::collections::HashMap;
use std::sync::Arc;
use std::time::{Duration, Instant};

use rustc_hash::FxHashMap;

use super::chunk::Chunk;
use super::index::{self, Key};
use super::schedule::{Focus, Job, Queue};
use super::{Case, CodeChoice, Loaded, Options, Reader, Source, SourceReport, Trouble, finish};
use crate::clock::{ClockCorrection, TimeKnown};
use crate::code::{Catalogues, Code};
use crate::event::{Actor, CodeRules, Column, EventRef, NO_TIME, Names, Part, RecordOrder, Segment, Table, TableActor};
use crate::format::LineFormat;
use crate::work::{Work, parallel, workers};
use crate::{Result, limits};

mod job;

use job::{pieces, read_job};

/// Events from which on the merged order is kept in the cache: fewer are merged as fast.
const ORDER_MIN_EVENTS: usize = 1 << 20;

/// The longest that the first view waits for the first events of every source.
const FIRST_VIEW: Duration = Duration::from_millis(60);

/// Reads the events of a case.
pub struct Loader {
    sources: Arc<Vec<Source>>,
    catalogues: Arc<Catalogues>,
    options: Options,
    jobs: Vec<Job>,
    focus: Focus,
    /// For each source: its pieces, in file order.
    slots: Vec<Vec<Option<Piece>>>,
    reports: Vec<SourceReport>,
    /// For each source: the state that its index is of, where one is kept.
    keys: Vec<Option<Key>>,
    /// For each source: whether its segments are already as they stay.
    ready: Vec<bool>,
    /// The merged order and the disordered rows, if they were kept.
    order: Option<(Column<u32>, Column<u32>)>,
    /// Events that the table takes.
    max_rows: usize,
    /// For each source: where the first bytes are that are no UTF-8, and the first NUL byte.
    damage: Vec<(Option<u64>, Option<u64>)>,
}

#[derive(Default)]
struct Piece {
    segments: Vec<Arc<Segment>>,
    lead_codes: Vec<Code>,
}

impl Piece {
    /// A piece of a source from its index.
    fn of(mut segments: Vec<Arc<Segment>>, source: usize) -> Self {
        for segment in &mut segments {
            Arc::make_mut(segment).source = source as u32;
        }
        Self { segments, lead_codes: Vec::new() }
    }
}

impl Loader {
    /// A loader for the sources of `case`.
    pub fn new(case: &Case) -> Self {
        let sources = Arc::clone(&case.sources);
        Self {
            sources,
            catalogues: Arc::clone(&case.catalogues),
            options: case.options.clone(),
            jobs: Vec::new(),
            focus: Focus::default(),
            slots: Vec::new(),
            reports: Vec::new(),
            keys: Vec::new(),
            ready: Vec::new(),
            order: None,
            max_rows: limits::ROWS,
            damage: Vec::new(),
        }
    }

    /// Takes what the index knows, and lists what is to be read.
    fn prepare(&mut self) {
        let sources = Arc::clone(&self.sources);
        let codes = self.catalogues.fingerprint();
        let keys: Vec<Option<Key>> = parallel(sources.len(), &Work::default(), |index| {
            let younger = index + 1..(index + 1 + sources[index].generations as usize).min(sources.len());
            Key::of(&sources[index], &sources[younger], &codes)
        });
        let reports = sources.iter().map(|source| SourceReport {
            trouble: source.trouble.clone(),
            repeated_lines: source.repeated_lines,
            lines: source.repeated_lines,
            ..SourceReport::default()
        });
        let mut reports: Vec<SourceReport> = reports.collect();
        let mut ready = vec![false; sources.len()];
        let name = order_name(&sources, &keys, &self.options.drift);
        let mut order = None;
        // The order is read beside the segments: it can only fit if all of these fit.
        let indexed = std::thread::scope(|scope| {
            let reading = scope.spawn(|| index::load_order(name.as_deref()?));
            let load = |at: usize| keys[at].as_ref().and_then(|key| index::load(&sources[at], key));
            let indexed = parallel(sources.len(), &Work::default(), load);
            order = reading.join().ok().flatten();
            indexed
        });
        let mut jobs = Vec::new();
        let mut slots: Vec<Vec<Option<Piece>>> = Vec::new();
        for ((index, source), known) in sources.iter().enumerate().zip(indexed) {
            let mut pieces = pieces(source);
            let mut slot: Vec<Option<Piece>> = Vec::new();
            match known {
                None => {}
                Some(index::Known::Whole(segments, report)) => {
                    (reports[index], ready[index]) = (*report, true);
                    slot.push(Some(Piece::of(segments, index)));
                    pieces.clear();
                }
                Some(index::Known::UpTo(end, segments)) => {
                    slot.push(Some(Piece::of(segments, index)));
                    pieces.retain(|(from, _)| *from >= end);
                }
            }
            let first = slot.len();
            slot.extend(pieces.iter().map(|_| None));
            let new = pieces.into_iter().enumerate();
            jobs.extend(new.map(|(at, (from, to))| Job { source: index, slot: first + at, from, to }));
            slots.push(slot);
        }
        // Last pieces first: people start at the end. Then first pieces, then the rest in order.
        let rank = |job: &Job| match (job.slot, slots[job.source].len()) {
            (slot, count) if slot + 1 == count => 0,
            (0, _) => 1,
            _ => 2,
        };
        jobs.sort_by_key(rank);
        self.damage = vec![(None, None); sources.len()];
        (self.jobs, self.slots, self.reports) = (jobs, slots, reports);
        (self.keys, self.ready, self.order) = (keys, ready, order);
    }

    /// Where to say which moment is looked at while reading goes on.
    pub fn focus(&self) -> Focus {
        self.focus.clone()
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
        self.prepare();
        work.set_total(self.jobs.iter().map(|job| job.to - job.from).sum());
        let jobs = std::mem::take(&mut self.jobs);
        let count = jobs.len();
        let first_and_last = |job: &Job| job.slot == 0 || job.slot + 1 == self.slots[job.source].len();
        let ends = jobs.iter().filter(|job| first_and_last(job)).count();
        let (sender, receiver) = crossbeam_channel::bounded(64);
        let started = Instant::now();
        let sources = Arc::clone(&self.sources);
        let catalogues = Arc::clone(&self.catalogues);
        let early = jobs.iter().filter(|job| job.slot + 1 == self.slots[job.source].len()).count();
        let queue = Queue::new(jobs, ends, sources.len(), self.focus.clone());
        std::thread::scope(|scope| {
            for _ in 0..workers() {
                let sender = sender.clone();
                let (queue, sources, catalogues) = (&queue, &sources, &catalogues);
                scope.spawn(move || {
                    let mut buffer = Vec::new();
                    while let Some(job) = queue.next() {
                        if work.is_cancelled() {
                            return;
                        }
                        let done = read_job(&sources[job.source], catalogues, &job, &mut buffer);
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
                if let Some(time) = chunk.as_ref().ok().and_then(first_time) {
                    queue.met(job.source, job.from, time);
                }
                self.place(&job, chunk);
                done += 1;
                let now = Instant::now();
                if let Some(publish) = publish.as_mut().filter(|_| done < count && (done == early || now >= next_view))
                {
                    publish(self.snapshot(false));
                    // Each view costs in proportion to what has been read, so they get rarer.
                    next_view = Instant::now() + (now.elapsed() * 8).max(started.elapsed()).max(FIRST_VIEW);
                }
            }
        });
        work.check()?;
        // The youngest generation of a log first: what follows a file says when its lines were written.
        let mut behind = None;
        for source in (0..self.sources.len()).rev() {
            if self.sources[source].generations == 0 {
                behind = None;
            }
            behind = self.finish_source(source, behind);
        }
        let loaded = self.snapshot(true);
        if let Some(publish) = publish {
            publish(loaded.clone());
        }
        self.keep_index(&loaded, work);
        Ok(loaded)
    }

    /// Writes the index of what was read anew. Without one the next start only takes longer, so failing is no trouble of
    /// the case: a full or missing cache must not keep anybody from reading logs.
    fn keep_index(&self, loaded: &Loaded, work: &Work) {
        let large = loaded.table.len() > ORDER_MIN_EVENTS;
        let order = order_name(&self.sources, &self.keys, &self.options.drift).filter(|_| large);
        // The order is kept beside the segments: it is not read where any of these are missing.
        parallel(self.sources.len() + 1, work, |job| {
            let Some(index) = job.checked_sub(1) else {
                let new = order.as_deref().filter(|name| !index::has_order(name));
                return new.map(|name| index::save_order(name, &loaded.table.order, &loaded.table.disordered));
            };
            let wanted = !self.ready[index] && index::is_kept(&self.sources[index]);
            let key = self.keys[index].as_ref().filter(|_| wanted)?;
            let segments: Vec<_> =
                self.slots[index].iter().flatten().flat_map(|piece| piece.segments.clone()).collect();
            Some(index::save(&self.sources[index], key, &segments, &self.reports[index]))
        });
    }

    fn place(&mut self, job: &Job, chunk: std::io::Result<Chunk>) {
        let report = &mut self.reports[job.source];
        let chunk = chunk.unwrap_or_else(|error| Chunk {
            trouble: vec![Trouble::lost(format!("cannot read bytes {} to {}: {error}", job.from, job.to))],
            ..Chunk::default()
        });
        if report.trouble.len() < limits::TROUBLES {
            report.trouble.extend(chunk.trouble);
        }
        report.line_offset_s = report.line_offset_s.or(chunk.line_offset_s);
        let first = |known: Option<u64>, new: Option<u64>| known.into_iter().chain(new).min();
        let damage = &mut self.damage[job.source];
        *damage = (first(damage.0, chunk.bad_utf8), first(damage.1, chunk.nul));
        let segments = chunk.segments.into_iter().map(Arc::new).collect();
        self.slots[job.source][job.slot] = Some(Piece { segments, lead_codes: chunk.lead_codes });
    }

    /// What only shows when a whole source is known: years across pieces, times and codes handed on from piece to piece.
    /// `behind` is the first time of the next generation of the same log; gives that of this one.
    fn finish_source(&mut self, index: usize, behind: Option<i64>) -> Option<i64> {
        if self.ready[index] {
            let segments = self.slots[index].iter().flatten().flat_map(|piece| &piece.segments);
            let mut dated = segments.flat_map(|segment| segment.times.iter()).copied().filter(|time| *time != NO_TIME);
            return if self.sources[index].newest_first { dated.next_back() } else { dated.next() };
        }
        let source = &self.sources[index];
        let pieces: Vec<Piece> = self.slots[index].iter_mut().map(|slot| slot.take().unwrap_or_default()).collect();
        let mut segments: Vec<Arc<Segment>> = Vec::new();
        for piece in pieces {
            if let Some(last) = segments.iter_mut().rev().find(|segment| !segment.is_empty())
                && !piece.lead_codes.is_empty()
            {
                Arc::make_mut(last).add_codes(&piece.lead_codes);
            }
            segments.extend(piece.segments);
        }
        if matches!(source.reader, Reader::Lines(_)) {
            finish::years_across(&mut segments, source, behind);
            finish::days_across(&mut segments, source, behind);
            finish::dates_across(&mut segments, source);
        }
        let mut dated =
            segments.iter().flat_map(|segment| segment.times.iter()).copied().filter(|time| *time != NO_TIME);
        let first = if source.newest_first { dated.next_back() } else { dated.next() };
        let report = &mut self.reports[index];
        for segment in &segments {
            report.lines += segment.lines;
            report.events += segment.len() as u64;
            report.attached_lines += segment.attached_lines;
            let undated = segment.flags.iter().map(|flags| usize::from(!TimeKnown::from_bits(*flags).is_own()));
            report.undated_events += undated.sum::<usize>() as u64;
            let (first, last) = segment.span();
            report.first = report.first.into_iter().chain(first).min();
            report.last = report.last.into_iter().chain(last).max();
        }
        // Records tile the file from the first one on.
        let start = segments.iter().find_map(|segment| Some(segment.offset + u64::from(*segment.offsets.first()?)));
        report.other_bytes = start.unwrap_or(source.stop);
        report.event_bytes = source.stop - report.other_bytes;
        if let Some(account) = &source.decoded {
            // What counts is the file itself, not the text that was made of it.
            report.lines = account.lines;
            report.attached_lines = account.attached_lines;
            report.event_bytes = account.event_bytes.min(account.bytes);
            report.other_bytes = account.bytes - report.event_bytes;
        }
        report.trouble.extend(damage_notes(self.damage[index]));
        self.slots[index] = vec![Some(Piece { segments, lead_codes: Vec::new() })];
        first
    }

    fn snapshot(&self, complete: bool) -> Loaded {
        let mut hosts = Names::default();
        let mut components = Names::default();
        let mut actors: Vec<TableActor> = Vec::new();
        let mut actor_ids: FxHashMap<TableActor, u32> = FxHashMap::default();
        let mut parts: Vec<Part> = Vec::new();
        let mut reports = self.reports.clone();
        let mut first_row = 0_usize;
        for (index, slots) in self.slots.iter().enumerate() {
            let source = &self.sources[index];
            let mut first_line = 0;
            let mut left_out = 0;
            for segment in slots.iter().flatten().flat_map(|piece| &piece.segments) {
                let lines = segment.lines;
                if first_row + segment.len() > self.max_rows {
                    left_out += segment.len() as u64;
                } else if !segment.is_empty() {
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
                        end: source.stop,
                    });
                    first_row += segment.len();
                }
                first_line += lines;
            }
            if left_out > 0 {
                let text = format!(
                    "{} not shown: a case holds at most {} events; leave out other sources",
                    crate::many(left_out, "event"),
                    self.max_rows
                );
                reports[index].trouble.push(Trouble::lost(text));
            }
        }
        let mut table = Table {
            parts,
            hosts: Arc::new(hosts.list().to_vec()),
            components: Arc::new(components.list().to_vec()),
            actors: Arc::new(actors),
            logs: Arc::new(logs_of(&self.sources)),
            record_orders: Arc::new(self.sources.iter().map(record_order).collect()),
            ..Table::default()
        };
        set_clocks(&mut table, &self.sources, &self.options.drift);
        table.code_rules = Arc::new(code_rules(&table, &self.sources, &self.options, &self.catalogues));
        let indexed = |index: usize| self.ready[index] || !index::is_kept(&self.sources[index]);
        let whole = complete && (0..self.sources.len()).all(indexed);
        match &self.order {
            Some((order, disordered)) if whole && order.len() == table.len() => {
                table.take_order(order.clone(), disordered.clone());
            }
            _ => table.put_in_order(),
        }
        Loaded {
            table: Arc::new(table),
            reports: Arc::new(reports),
            complete,
            pieces: Arc::default(),
            keys: Arc::new(self.keys.clone()),
        }
    }
}

/// The name of the merged order in the cache.
fn order_name(sources: &[Source], keys: &[Option<Key>], drift: &HashMap<String, ClockCorrection>) -> Option<String> {
    let mut drift: Vec<_> = drift.iter().collect();
    drift.sort_by_key(|(name, _)| *name);
    let hosts: Vec<_> = sources.iter().map(|source| (&source.host, source.generations)).collect();
    index::order_name(keys, &format!("{drift:?} {hosts:?}"))
}

fn set_clocks(table: &mut Table, sources: &[Source], drift: &HashMap<String, ClockCorrection>) {
    let of = |name: &String| drift.get(name).copied();
    table.drift = Arc::new(table.hosts.iter().map(|host| of(host).unwrap_or_default()).collect());
    table.source_drift = Arc::new(sources.iter().map(|source| of(&source.name)).collect());
}

/// What people decided about codes, by the numbers of the table.
fn code_rules(table: &Table, sources: &[Source], options: &Options, catalogues: &Arc<Catalogues>) -> CodeRules {
    let catalogues = Arc::clone(catalogues);
    let mut rules = CodeRules { catalogues, escalate: !options.no_escalation, ..CodeRules::default() };
    // A trace of system calls is full of calls that fail, and nobody minds.
    rules.quiet = sources.iter().map(|source| source.reader.lines().is_some_and(LineFormat::is_quiet)).collect();
    for (index, source) in sources.iter().enumerate() {
        let Some(choice) = options.choices.get(&source.name) else { continue };
        for CodeChoice { code, offset, family } in &choice.codes {
            match offset.map(|offset| table.row_at(index, offset)) {
                None => _ = rules.by_source.insert((index as u32, *code), *family),
                Some(Some(row)) => _ = rules.by_row.insert((row.0, *code), *family),
                // The record is not read yet, or not there any more.
                Some(None) => {}
            }
        }
    }
    rules
}

fn record_order(source: &Source) -> RecordOrder {
    if source.newest_first {
        RecordOrder::NewestFirst
    } else if source.reader.lines().is_some_and(LineFormat::sorts_by_time) {
        RecordOrder::ByTime
    } else {
        RecordOrder::AsWritten
    }
}

/// For each source the number of its log: generations share one.
fn logs_of(sources: &[Source]) -> Vec<u32> {
    let mut log = 0;
    let numbers = sources.iter().map(|source| {
        let own = log;
        log += u32::from(source.generations == 0);
        own
    });
    numbers.collect()
}

fn damage_notes((bad_utf8, nul): (Option<u64>, Option<u64>)) -> Vec<Trouble> {
    let bad = bad_utf8.map(|at| {
        format!("bytes at byte {at} are not UTF-8: a line that is plausible in Windows-1252 is read as that, otherwise they are shown as \u{FFFD}")
    });
    let nul = nul.map(|at| format!("NUL bytes at byte {at}"));
    bad.into_iter().chain(nul).map(Trouble::note).collect()
}

/// The first time in a piece.
fn first_time(chunk: &Chunk) -> Option<i64> {
    let times = chunk.segments.iter().flat_map(|segment| segment.times.iter());
    times.copied().find(|time| *time != NO_TIME)
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

impl Loaded {
    /// The same events with other clock corrections, by label of the host or name of the source.
    #[must_use]
    pub fn with_drift(&self, sources: &[Source], drift: &HashMap<String, ClockCorrection>) -> Self {
        let mut table = (*self.table).clone();
        set_clocks(&mut table, sources, drift);
        table.put_in_order();
        Self { table: Arc::new(table), ..self.clone() }
    }
}

impl Loaded {
    /// The same events with other decisions about their codes: families chosen by hand, and whether failures lift lines.
    #[must_use]
    pub fn with_codes(&self, sources: &[Source], options: &Options) -> Self {
        let mut table = (*self.table).clone();
        table.code_rules = Arc::new(code_rules(&table, sources, options, self.table.catalogues()));
        Self { table: Arc::new(table), ..self.clone() }
    }

    /// The same events with the sources at `changed` read in other zones: `old` are the sources as they were, `new` as
    /// they are now.
    #[must_use]
    pub fn with_zones(
        &self,
        old: &[Source],
        new: &[Source],
        changed: &[usize],
        drift: &HashMap<String, ClockCorrection>,
    ) -> Self {
        let mut table = (*self.table).clone();
        let moved = parallel(table.parts.len(), &Work::default(), |at| {
            let segment = &table.parts[at].segment;
            let source = segment.source as usize;
            changed.contains(&source).then(|| Arc::new(finish::in_zone(segment, &old[source].zone, &new[source])))
        });
        for (part, segment) in table.parts.iter_mut().zip(moved) {
            if let Some(segment) = segment {
                part.segment = segment;
            }
        }
        let mut reports = (*self.reports).clone();
        for (index, report) in reports.iter_mut().enumerate().filter(|(index, _)| changed.contains(index)) {
            let segments = table.parts.iter().map(|part| &part.segment);
            let own = segments.filter(|segment| segment.source as usize == index);
            let times = own.flat_map(|segment| segment.times.iter()).copied().filter(|time| *time != NO_TIME);
            (report.first, report.last) = (times.clone().min(), times.max());
        }
        set_clocks(&mut table, new, drift);
        table.put_in_order();
        Self { table: Arc::new(table), reports: Arc::new(reports), ..self.clone() }
    }
}

impl Source {
    /// The zone to show for a source: the one its lines state, else the one it is read with.
    pub fn zone_shown(&self, report: &SourceReport) -> (String, super::ZoneFrom) {
        match report.line_offset_s {
            Some(offset) => (crate::clock::Zone::fixed(offset).name().to_owned(), super::ZoneFrom::Line),
            None => (self.zone.name().to_owned(), self.zone_from),
        }
    }
}

impl Loaded {
    /// The event whose record starts at `offset` of the source of that name.
    pub fn event_at(&self, case: &Case, source: &str, offset: u64) -> Option<EventRef<'_>> {
        let index = case.sources.iter().position(|other| other.name == source)?;
        self.table.row_at(index, offset).map(|row| self.table.event(row))
    }

    /// How the clock of a host is corrected.
    pub fn drift_of_host(&self, label: &str) -> ClockCorrection {
        let host = self.table.hosts.iter().position(|host| host == label);
        host.and_then(|host| self.table.drift.get(host)).copied().unwrap_or_default()
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::testing::{case, log};

    #[test]
    fn events_beyond_the_limit_are_named() {
        let text = log().info("app", "fed").info("app", "fed").info("app", "fed").text();
        let root = case(&[("gw/a.log", &text), ("gw/b.log", &text)]);
        let mut loader = Loader::new(&root.open());
        loader.max_rows = 4;
        let loaded = loader.run(&Work::default()).unwrap();
        assert_eq!(loaded.table.len(), 3);
        let trouble: Vec<&str> = loaded.reports[1].trouble.iter().map(|trouble| trouble.text.as_str()).collect();
        assert_eq!(trouble, ["3 events not shown: a case holds at most 4 events; leave out other sources"]);
        assert!(loaded.reports[0].trouble.is_empty());
    }
}
