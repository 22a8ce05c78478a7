//! What is made ready before each frame. Its cost is in proportion to the screen, never to the case.

use std::sync::Arc;

use boxclock_core::clock::human::{date_time, duration_text};
use boxclock_core::event::{Row, flag};
use boxclock_core::pattern;
use boxclock_core::query::values::quoted;
use boxclock_core::timeline::density::Lanes;
use boxclock_core::timeline::problems_before;

use super::{App, Mode, Prompt, Reading, Step, StreamLine, TextMark, scrolled};
use crate::view::layout::{Layout, READING_BESIDE};
use crate::view::stream::{Columns, text_rows};
use crate::workspace::{Go, ReadingLink};

/// Lines of a record that are shown when it is unfolded, and rows that a wrapped line may take.
const MOST_ROWS: usize = 40;

impl App {
    /// Makes ready what the next frame shows.
    pub fn prepare(&mut self, width: u16, height: u16) {
        let hosts =
            self.density.as_ref().map_or(self.loaded.table.hosts.len().saturating_sub(1), |density| density.lanes());
        self.layout = Layout::of(width, height, hosts, self.reading_shown, self.step);
        if self.reading_over && self.step != Step::Report && width < READING_BESIDE {
            self.layout = self.layout.with_reading_over();
        }
        self.keep_in_sight();
        if self.step == Step::Stream {
            self.prepare_lines();
        }
        self.prepare_reading();
        self.ask_for_rail();
        self.ask_for_overlay();
        self.ask_for_codes();
    }

    /// Asks for the codes of the case when they are looked at, over the rail's span; and for what stands near the chosen one.
    fn ask_for_codes(&mut self) {
        let looking = self.step == Step::Codes || matches!(self.mode, Mode::Typing(Prompt::Lookup(_), _));
        if !looking {
            return;
        }
        let axis = self.rail_span();
        if !self.codes.is_asked || self.codes.axis != axis {
            (self.codes.is_asked, self.codes.axis) = (true, axis);
            self.jobs.codes(self.loaded.clone(), axis);
        }
        let chosen = self.codes.list.get(self.list_cursor(Step::Codes)).map(|code| code.code);
        if self.step == Step::Codes && self.codes.relatives_asked != chosen {
            self.codes.relatives_asked = chosen;
            self.codes.relatives = None;
            if let Some(code) = chosen {
                self.jobs.relatives(self.loaded.clone(), code);
            }
        }
    }

    fn keep_in_sight(&mut self) {
        let height = usize::from(self.layout.middle.height).max(1);
        self.cursor = self.cursor.min(self.view_len().saturating_sub(1));
        self.top = scrolled(self.top, self.cursor, self.view_len(), height);
        let step = self.step;
        if step != Step::Stream {
            let (len, height) = (self.list_len(step), self.layout.list_height(step));
            let (cursor, top) = self.lists.get(&step).copied().unwrap_or_default();
            let cursor = cursor.min(len.saturating_sub(1));
            self.lists.insert(step, (cursor, scrolled(top, cursor, len, height)));
        }
    }

    /// The lines from the first visible one on. Where lines take several rows, the first one moves until the chosen one is whole.
    fn prepare_lines(&mut self) {
        let height = usize::from(self.layout.middle.height);
        self.selected = self.selection();
        self.columns = Columns::of(self.layout.middle.width, self);
        let mut lines: Vec<StreamLine> = Vec::with_capacity(height);
        let mut rows = 0;
        for place in self.top..self.view_len() {
            if rows >= height && place > self.cursor {
                break;
            }
            let Some(line) = self.line_at(place) else { break };
            rows += line.height;
            lines.push(line);
        }
        while rows > height && lines.first().is_some_and(|first| first.place < self.cursor) {
            let up_to_cursor: usize =
                lines.iter().take_while(|line| line.place <= self.cursor).map(|line| line.height).sum();
            if up_to_cursor <= height {
                break;
            }
            rows -= lines.remove(0).height;
            self.top += 1;
        }
        self.lines = lines;
    }

    fn line_at(&mut self, place: usize) -> Option<StreamLine> {
        let row = self.row_at(place)?;
        let event = self.loaded.table.event(row);
        let record = self.reader.record(event);
        let (first, rest) = record.body.split_once('\n').unwrap_or((&record.body, ""));
        // Only what could be seen is kept: a line of a megabyte costs as much as a short one.
        let most = if self.workspace.wrap { 8000 } else { self.shifted + 600 };
        let text: String = first.chars().take(most).collect();
        let source = &self.case.sources[event.source()];
        let mut glosses = Vec::new();
        if event.flags() & flag::HAS_CODE != 0 {
            boxclock_core::code::scan(text.as_bytes(), source.platform, |found| {
                let gloss = event.meant(found.of_program(event.component())).reading().gloss;
                if !gloss.is_empty() {
                    glosses.push((found.end, gloss));
                }
            });
        }
        let unfolded = self.workspace.unfold_all || self.workspace.unfolded.contains(&row);
        let kept: Vec<String> = if unfolded {
            rest.lines().take(MOST_ROWS).map(|line| line.chars().take(600).collect()).collect()
        } else {
            Vec::new()
        };
        let more_lines = rest.lines().count() - kept.len();
        let run = self.view.runs.as_ref().and_then(|runs| runs.get(place)).copied().filter(|run| run.count > 1);
        let mut marks: Vec<(std::ops::Range<usize>, TextMark)> = Vec::new();
        for (ink, of) in self.workspace.inks.iter().zip(0_u8..) {
            marks.extend(ink.iter().flat_map(|ink| ink.filter.marks(&text)).map(|range| (range, TextMark::Ink(of))));
        }
        marks.extend(self.find.iter().flat_map(|find| find.marks(&text)).map(|range| (range, TextMark::Hit)));
        let ink =
            self.workspace.inks.iter().zip(0_u8..).find(|(ink, _)| {
                ink.as_ref().and_then(|ink| ink.rows.as_ref()).is_some_and(|rows| rows.contains(row.0))
            });
        let ink = ink.map(|(_, place)| place);
        let mut line = StreamLine { row, place, text, glosses, marks, more_lines, extra: kept, run, ink, height: 1 };
        let rows = if self.workspace.wrap { text_rows(self, &line, self.columns.text, MOST_ROWS).len() } else { 1 };
        line.height = rows.max(1) + line.extra.len();
        Some(line)
    }

    fn prepare_reading(&mut self) {
        let Some(row) = self.chosen().map(|event| event.row) else {
            self.reading = None;
            return;
        };
        if self.reading.as_ref().is_some_and(|reading| reading.row == row) {
            return;
        }
        let event = self.loaded.table.event(row);
        let record = self.reader.record(event);
        let structured = self.reader.structured(event);
        let bytes = self.reader.bytes(event).map_or(Vec::new(), |bytes| bytes[..bytes.len().min(2048)].to_vec());
        let shape = pattern::shape(&record.body);
        let number = pattern::of_event(&mut self.reader, event);
        self.workspace.links = self.links(row, number);
        (self.workspace.link, self.workspace.reading_top) = (None, 0);
        self.reading = Some(Reading { row, record, structured, bytes, shape, number });
    }

    /// Where one would look next: the last problems elsewhere, the first and last of the pattern, the codes.
    fn links(&mut self, row: Row, number: u64) -> Vec<ReadingLink> {
        let here = self.loaded.table.event(row).time();
        let mut links = Vec::new();
        let place = self.loaded.table.place_of(row);
        let near: Vec<Row> = problems_before(&self.loaded.table, place, 20_000).iter().map(|event| event.row).collect();
        for row in near {
            let event = self.loaded.table.event(row);
            let ago = match (here, event.time()) {
                (Some(here), Some(then)) => duration_text(then.saturating_sub(here)),
                _ => String::new(),
            };
            let body = self.reader.record(event).body;
            let text: String = body.lines().next().unwrap_or_default().chars().take(200).collect();
            links.push(ReadingLink { label: format!("{ago} {}\n{text}", event.host()), go: Go::Row(row) });
        }
        if let Some(patterns) = &self.workspace.patterns
            && let Some(pattern) = patterns.of(row).filter(|pattern| pattern.count > 1)
        {
            let since = pattern.span.map_or(String::new(), |(first, _)| date_time(first, &self.zone));
            let example = pattern.example;
            let label = format!("first with this pattern\n{}", since.get(..23).unwrap_or(&since));
            links.push(ReadingLink { label, go: Go::Row(example) });
            let only = format!("pattern={}", pattern::name(number));
            links.push(ReadingLink {
                label: format!("only this pattern\n{}", crate::view::text::many(pattern.count.into(), "event")),
                go: Go::Only(only),
            });
        }
        let mut codes: Vec<_> = self.loaded.table.event(row).codes().collect();
        codes.dedup();
        for code in codes {
            let label = format!("only events with {}\n", code.written());
            links.push(ReadingLink { label, go: Go::Only(format!("code={}", quoted(&code.filter_value()))) });
        }
        let event = self.loaded.table.event(row);
        let pid = event.actor().pid.map_or(String::new(), |pid| pid.to_string());
        let source = &self.case.sources[event.source()].name;
        for (field, value) in
            [("component", event.component()), ("pid", &pid), ("host", event.host()), ("source", source)]
        {
            if !value.is_empty() {
                let piece = format!("{field}={}", quoted(value));
                links.push(ReadingLink { label: format!("only {piece}"), go: Go::Only(piece) });
            }
        }
        links
    }

    /// The rail's span: the window, else the whole case.
    pub fn rail_span(&self) -> Option<(i64, i64)> {
        self.window.or(self.span)
    }

    fn ask_for_rail(&mut self) {
        let slices = usize::from(self.layout.rail_rows());
        let Some((from, to)) = self.rail_span() else { return };
        let most = self.layout.most_lanes;
        if slices > 0 && self.density_asked != Some((from, to, slices, most)) {
            self.density_asked = Some((from, to, slices, most));
            let lanes = match self.workspace.rail_host {
                None => Lanes::Hosts,
                Some(host) => {
                    let name = self.loaded.table.hosts.get(host as usize).cloned().unwrap_or_default();
                    let sources = self.case.sources.iter().zip(0_u32..);
                    let of_host = sources.filter(|(source, _)| source.host.as_deref() == Some(name.as_str()));
                    Lanes::Sources(of_host.map(|(_, number)| number).collect())
                }
            };
            self.jobs.rail(self.loaded.clone(), (from, to), slices, (lanes, most));
        }
    }

    /// Asks where hits and inks are, when the rail, the filter or an ink has changed.
    fn ask_for_overlay(&mut self) {
        let Some(density) = &self.density else { return };
        let asked = (density.from, density.to, density.slices, self.workspace.overlay_of);
        if self.workspace.overlay_asked == Some(asked) {
            return;
        }
        self.workspace.overlay_asked = Some(asked);
        let inks = self.workspace.inks.iter().zip(0_u8..);
        let inks: Vec<_> =
            inks.filter_map(|(ink, place)| Some((place, Arc::clone(ink.as_ref()?.rows.as_ref()?)))).collect();
        if inks.is_empty() && (self.view.passed.is_none() || self.filter_text.is_empty()) {
            self.workspace.overlay = None;
            return;
        }
        // Folded runs or another order hide nothing: only a filter has hits.
        let rows = self.view.passed.clone().filter(|_| !self.filter_text.is_empty());
        self.jobs.overlay(self.loaded.clone(), rows, Arc::clone(density), inks);
    }

    /// The place of the view that stands at this row of the middle.
    pub fn place_at_line(&self, line: usize) -> Option<usize> {
        let mut rows = 0;
        self.lines.iter().find_map(|of| {
            rows += of.height;
            (line < rows).then_some(of.place)
        })
    }
}
