//! The reading pane: what the chosen thing says, and what to look at next.

use std::ops::Range;

use boxclock_core::clock::human::{date_time, drift_text, duration_text};
use boxclock_core::decode::Place;
use boxclock_core::event::{EventRef, flag};
use boxclock_core::gather::recipe::Class;
use boxclock_core::logbook::Story;
use boxclock_core::report::sources::SourceOut;
use boxclock_core::timeline::drift::Suggestion;
use ratatui::Frame;
use ratatui::layout::Rect;
use ratatui::style::Style;
use ratatui::text::{Line, Span};
use ratatui::widgets::{Clear, Paragraph};

use super::text::{cut, wrap};
use crate::app::{App, BoxRow, Step};
use crate::desk::DeskRow;
use crate::workspace::{ReadingLink, Shown, hex_lines};

/// Draws it.
pub(super) fn draw(app: &App, frame: &mut Frame<'_>, area: Rect) {
    let mut pane = Pane::of(app, area);
    let height = usize::from(area.height);
    pane.lines.drain(..pane.top(height));
    if pane.lines.len() > height && height > 1 {
        let more = pane.lines.len() - height + 1;
        pane.lines.truncate(height - 1);
        pane.lines.push(Line::styled(format!(" ⌄ {more} more lines: J"), app.theme.faint()));
    }
    pane.lines.truncate(height);
    frame.render_widget(Clear, area);
    frame.render_widget(Paragraph::new(pane.lines), area);
}

/// The link at a line of the pane, counted from its top.
pub(super) fn link_at(app: &App, area: Rect, line: usize) -> Option<usize> {
    let pane = Pane::of(app, area);
    let line = line + pane.top(usize::from(area.height));
    pane.links.iter().position(|lines| lines.contains(&line))
}

mod code;

struct Pane<'a> {
    app: &'a App,
    width: usize,
    lines: Vec<Line<'static>>,
    /// Where the chosen link stands.
    chosen_line: Option<usize>,
    /// The lines of each link.
    links: Vec<Range<usize>>,
}

impl<'a> Pane<'a> {
    fn of(app: &'a App, area: Rect) -> Self {
        let width = usize::from(area.width).saturating_sub(1);
        let mut pane = Self { app, width, lines: Vec::new(), chosen_line: None, links: Vec::new() };
        match app.step {
            Step::Box => pane.source(),
            Step::Codes => pane.code_in_case(),
            Step::Story => {
                if let Some((key, label, hint)) = Story::FIELDS.get(app.list_cursor(Step::Story)) {
                    pane.paragraph(label, app.theme.strong());
                    pane.paragraph(hint, app.theme.faint());
                    // What the list has no room for.
                    pane.paragraph(app.story.get(key), Style::new());
                    pane.lines.push(Line::raw(""));
                }
                pane.paragraph("Write it down while it is fresh. Everything is optional, can be changed at any time, and opens the report.", app.theme.faint());
            }
            Step::Cause => {
                pane.cause_hint();
                pane.pinned_event();
            }
            Step::Desk => pane.desk(),
            Step::Stream | Step::Report => pane.event(),
        }
        pane
    }

    /// The first line that is shown: the chosen link is in sight; else what was scrolled to.
    fn top(&self, height: usize) -> usize {
        let app = self.app;
        let top = match self.chosen_line {
            Some(line) if app.step == Step::Stream => (line + 3).saturating_sub(height),
            _ if matches!(app.step, Step::Stream | Step::Report | Step::Codes) => app.workspace.reading_top,
            _ => 0,
        };
        top.min(self.lines.len().saturating_sub(height))
    }

    fn heading(&mut self, text: &str) {
        if !self.lines.is_empty() {
            self.lines.push(Line::raw(""));
        }
        self.lines.push(Line::styled(format!(" {text}"), self.app.theme.strong()));
    }

    fn paragraph(&mut self, text: &str, style: Style) {
        for line in wrap(text, self.width.saturating_sub(1)) {
            self.lines.push(Line::styled(format!(" {line}"), style));
        }
    }

    /// A label and its value, wrapped under each other.
    fn facts(&mut self, label: &str, value: &str) {
        const LABEL: usize = 10;
        if value.is_empty() {
            return;
        }
        let lines = wrap(value, self.width.saturating_sub(LABEL + 1));
        for (index, line) in lines.into_iter().enumerate() {
            let label = if index == 0 { super::text::fit(label, LABEL) } else { " ".repeat(LABEL) };
            self.lines
                .push(Line::from(vec![Span::styled(format!(" {label}"), self.app.theme.faint()), Span::raw(line)]));
        }
    }

    fn event(&mut self) {
        let app = self.app;
        let Some((event, reading)) =
            app.chosen().zip(app.reading.as_ref()).filter(|(event, reading)| event.row == reading.row)
        else {
            return;
        };
        self.what(event, reading.record.place);
        match (app.workspace.shown, &reading.structured) {
            (Shown::Structured, Some(structured)) => return self.structured(structured),
            (Shown::Raw, _) => return self.raw(reading, event),
            _ => {}
        }
        self.body(&reading.record.body);
        self.codes_of(event);
        if !reading.record.attributes.is_empty() {
            self.heading("fields");
            for (name, value) in &reading.record.attributes {
                let text = value.as_str().map_or_else(|| value.to_string(), str::to_owned);
                self.paragraph(&format!("{name}  {text}"), Style::new());
            }
        }
        self.pattern(event, reading);
        if !app.workspace.links.is_empty() {
            self.heading("where to look next");
            for (index, link) in app.workspace.links.iter().enumerate() {
                self.link(link, app.workspace.link == Some(index));
            }
        }
    }

    fn structured(&mut self, structured: &str) {
        self.heading("as it is written");
        for line in structured.lines().take(2000) {
            let indent = line.len() - line.trim_start().len();
            let width = self.width.saturating_sub(1 + indent);
            for part in wrap(line.trim_start(), width) {
                self.lines.push(Line::raw(format!(" {}{part}", " ".repeat(indent))));
            }
        }
    }

    /// The very bytes, with their place in the file.
    fn raw(&mut self, reading: &crate::app::Reading, event: EventRef<'_>) {
        self.heading("its bytes");
        // Eight columns of place and two gaps; three and one for each byte.
        let per_line = (self.width.saturating_sub(12) / 4).clamp(4, 16);
        for line in hex_lines(&reading.bytes, event.offset(), per_line) {
            self.lines.push(Line::raw(format!(" {line}")));
        }
        let left = event.length().saturating_sub(reading.bytes.len() as u64);
        if left > 0 {
            self.lines.push(Line::styled(format!(" … {left} more bytes"), self.app.theme.faint()));
        }
    }

    /// What stays the same in messages like this one, how often there are such, and since when.
    fn pattern(&mut self, event: EventRef<'_>, reading: &crate::app::Reading) {
        self.heading("its pattern");
        self.paragraph(&reading.shape, Style::new());
        let app = self.app;
        let text = match app.workspace.patterns.as_ref().and_then(|patterns| patterns.of(event.row)) {
            Some(pattern) if pattern.count == 1 => "seen once".to_owned(),
            Some(pattern) => {
                let span = pattern.span.map_or(String::new(), |(first, last)| {
                    let text = |time: i64| date_time(time, &app.zone)[5..19].to_owned();
                    format!(", {} to {}", text(first), text(last))
                });
                format!("seen {} times{span}", super::text::grouped(u64::from(pattern.count)))
            }
            None => "how often is not known yet".to_owned(),
        };
        self.paragraph(&text, app.theme.faint());
    }

    fn link(&mut self, link: &ReadingLink, chosen: bool) {
        let mut lines = link.label.lines();
        let head = format!(" {} {}", if chosen { "▸" } else { "·" }, lines.next().unwrap_or_default());
        let style = if chosen { self.app.theme.chosen() } else { Style::new() };
        if chosen {
            self.chosen_line = Some(self.lines.len());
        }
        let first = self.lines.len();
        self.lines.push(Line::styled(super::text::fit(&head, self.width), style));
        for line in lines.filter(|line| !line.is_empty()) {
            let text = cut(line, self.width.saturating_sub(3));
            self.lines.push(Line::styled(format!("   {text}"), self.app.theme.faint()));
        }
        self.links.push(first..self.lines.len());
    }

    fn what(&mut self, event: EventRef<'_>, place: Option<Place>) {
        let app = self.app;
        let time = event.time().map_or("no time".to_owned(), |time| date_time(time, &app.zone));
        self.facts("when", &time);
        let drift = app.loaded.table.drift_of(event.source() as u32, event.actor_id());
        let mut how = event.time_known().explain().to_owned();
        if !drift.is_none() {
            how.push_str(&format!("; clock of {} corrected by {}", event.host(), drift_text(drift)));
        }
        if event.is_disordered() {
            how.push_str("; does not fit the order of its file");
        }
        self.facts("", &how);
        let severity = event.severity();
        let reading = app.reading.as_ref().and_then(|reading| reading.record.severity_text.clone());
        let level = match (severity.name(), reading) {
            (Some(name), Some(text)) if !name.eq_ignore_ascii_case(&text) => format!("{name} (written {text})"),
            (Some(name), _) => name.to_owned(),
            (None, _) if event.flags() & flag::SUSPECT != 0 => "none; its words look like a problem".to_owned(),
            (None, _) => "none".to_owned(),
        };
        self.facts("level", &level);
        self.facts("", &Self::lifted(event).unwrap_or_default());
        let actor = event.actor();
        let ids = [("pid", actor.pid), ("tid", actor.tid)];
        let ids: Vec<String> = ids.into_iter().filter_map(|(name, id)| id.map(|id| format!("{name} {id}"))).collect();
        self.facts("by", format!("{} {}", event.component(), ids.join(" ")).trim());
        self.facts("host", event.host());
        self.facts("source", &app.case.sources[event.source()].name);
        let Place { line, offset, length } = place.unwrap_or_else(|| event.place());
        self.facts("", &format!("line {line}, byte {offset}, {length} bytes"));
    }

    fn body(&mut self, body: &str) {
        self.heading("what it says");
        let shown: String = body.chars().take(4000).collect();
        let lines = wrap(&shown, self.width.saturating_sub(1));
        let most = 14;
        let more = lines.len().saturating_sub(most);
        for line in lines.into_iter().take(most) {
            self.lines.push(Line::raw(format!(" {line}")));
        }
        if more > 0 {
            self.lines.push(Line::styled(format!(" … {more} more lines"), self.app.theme.faint()));
        }
    }

    fn source(&mut self) {
        let app = self.app;
        match app.chosen_box_row() {
            None => {}
            Some(BoxRow::Source(index)) => self.source_facts(&app.sources[*index]),
            Some(BoxRow::Host(sums)) => self.host(&sums.host),
            Some(BoxRow::Class(host, class)) => {
                self.paragraph(&format!("{} logs of {host}", class.name()), app.theme.strong());
                let Some(cover) = app.box_state.cover.iter().find(|row| row.host == *host && row.class == *class)
                else {
                    return self.paragraph("Nothing is expected of these at a moment.", app.theme.faint());
                };
                if let Some(window) = app.box_state.window {
                    let (from, to) = (date_time(window.from, &app.zone), date_time(window.to, &app.zone));
                    self.facts("moment", &format!("{} to {}", &from[..19], &to[11..19]));
                }
                self.facts("covered", cover.state.words());
                self.facts("why", &cover.detail);
                for (label, time) in [("first", &cover.first), ("last", &cover.last)] {
                    let time = time.as_deref().and_then(boxclock_core::gather::time_of);
                    self.facts(label, &time.map_or(String::new(), |time| date_time(time, &app.zone)));
                }
                self.facts("do", cover.advice);
            }
            Some(BoxRow::Finding(index)) => {
                let finding = &app.box_state.findings[*index];
                self.paragraph(&finding.title, app.theme.strong());
                self.facts("level", finding.level.name());
                self.facts("seen", &finding.evidence);
                self.facts("in", &format!("{}, line {}", finding.file, finding.line));
                self.facts("why", &finding.reason);
                self.facts("do", &finding.advice);
                self.facts("check", &finding.check);
            }
            Some(BoxRow::Drift(index)) => self.drift(&app.box_state.drift[*index]),
            Some(BoxRow::LeftOut(index)) => {
                let left = &app.case.left_out[*index];
                self.heading("left out");
                self.paragraph(&left.path, Style::new());
                self.facts("why", &left.reason);
            }
        }
    }

    /// A clock that seems to be wrong, and what shows it.
    fn drift(&mut self, one: &Suggestion) {
        let zone = &self.app.zone;
        self.paragraph(&format!("the clock of {}", one.host), self.app.theme.strong());
        self.facts("add", &format!("{}; a accepts it, d writes another", one.drift));
        self.facts("sure", one.confidence.name());
        self.facts("from", one.ground.words());
        self.facts("why", &one.reason);
        for pair in &one.evidence {
            self.heading(&pair.shared);
            for (source, line, time) in [&pair.here, &pair.there] {
                let time = boxclock_core::gather::time_of(time).map_or(String::new(), |time| date_time(time, zone));
                self.paragraph(&time, Style::new());
                self.paragraph(&format!("  {source}:{line}"), self.app.theme.faint());
            }
        }
    }

    fn desk(&mut self) {
        let app = self.app;
        self.paragraph(app.desk.task().about(), app.theme.faint());
        self.lines.push(Line::raw(""));
        let rows = app.desk.rows();
        match rows.get(app.list_cursor(Step::Desk)) {
            Some(DeskRow::Field(field)) => {
                let (key, label, hint) = app.desk.task().fields()[*field];
                self.paragraph(label, app.theme.strong());
                self.paragraph(hint, app.theme.faint());
                self.paragraph(app.desk.text(key), Style::new());
            }
            Some(DeskRow::Host(label)) => {
                for host in app.desk.hosts().iter().filter(|host| host.label == *label) {
                    let ((files, all), (done, total)) = (host.files, host.bytes());
                    self.paragraph(label, app.theme.strong());
                    self.facts("now", host.stage.words());
                    self.facts("files", &format!("{files} of {all}"));
                    self.facts("bytes", &format!("{} of {}", super::text::grouped(done), super::text::grouped(total)));
                    self.paragraph(
                        "x stops this host; what came of it is kept, the rest is named as left out.",
                        app.theme.faint(),
                    );
                }
            }
            Some(DeskRow::Said(line)) => self.paragraph(&app.desk.said[*line].1, Style::new()),
            Some(DeskRow::Gap) | None => {}
        }
    }

    /// Where a host was gathered from, and its clock against ours at that moment.
    fn host(&mut self, label: &str) {
        let app = self.app;
        self.paragraph(if label.is_empty() { "sources of no host" } else { label }, app.theme.strong());
        let Some(host) = app.case.seal.as_ref().and_then(|seal| seal.hosts.iter().find(|host| host.label == label))
        else {
            return;
        };
        self.facts("from", host.origin.as_deref().unwrap_or_default());
        self.facts("zone", host.zone.as_deref().unwrap_or("not known"));
        let here = boxclock_core::gather::time_of(&host.clock_here);
        let there = host.clock_there.as_deref().and_then(boxclock_core::gather::time_of);
        match here.zip(there) {
            Some((here, there)) => {
                let add = here.saturating_sub(there);
                let within = host.clock_within_ms.unwrap_or(0);
                self.facts(
                    "clock",
                    &format!(
                        "at gathering: {} there, {} here",
                        date_time(there, &app.zone),
                        date_time(here, &app.zone)
                    ),
                );
                // What lies within the error of asking is no drift.
                if add.unsigned_abs() / 1_000_000 > within.max(1000) {
                    let text = format!(
                        "wrong by {} (sure within {within} ms); d and {} corrects it",
                        duration_text(-add),
                        duration_text(add)
                    );
                    self.facts("", &text);
                } else {
                    self.facts("", "in step with ours");
                }
            }
            None => self.facts("clock", "could not be asked when this was gathered"),
        }
        let (settings, facts): (Vec<_>, Vec<_>) = app
            .case
            .documents
            .iter()
            .filter(|document| document.host == label)
            .partition(|document| document.class == Class::Configuration);
        for (label, documents) in [("settings", settings), ("facts", facts)] {
            for (index, document) in documents.iter().enumerate().take(20) {
                self.facts(if index == 0 { label } else { " " }, &document.name);
            }
        }
    }

    fn source_facts(&mut self, source: &SourceOut) {
        self.paragraph(&source.source, self.app.theme.strong());
        self.facts("host", source.host.as_deref().unwrap_or("not labelled"));
        self.facts("format", source.format);
        self.facts("encoding", &source.encoding);
        let from = match source.zone_from {
            "line" => "each line says it",
            "user" => "you said so",
            "host" => "the host's zone, as gathered",
            _ => "assumed: the case's zone",
        };
        self.facts("zone", &format!("{} ({from})", source.zone));
        let own = self.app.drift.get(&source.source).map(|drift| (drift, "D"));
        let of_host = source.host.as_ref().and_then(|host| self.app.drift.get(host)).map(|drift| (drift, "d"));
        match own.or(of_host) {
            Some((drift, key)) => {
                self.facts("clock", &format!("{} added to every time; {key} changes it", drift_text(*drift)));
            }
            None => self.facts("clock", "as written; d corrects it"),
        }
        if let Some(contest) =
            self.app.case.sources.get(source.members.end - 1).and_then(|source| source.contest.as_ref())
        {
            let won = contest.winner.format.name() == source.format;
            let why = if won { contest.reason() } else { "chosen by hand".to_owned() };
            self.facts("why", &why);
        }
        let last = self.app.case.sources.get(source.members.end - 1);
        if let Some(boxclock_core::case::Reader::Lines(detected)) = last.map(|source| source.reader)
            && let Some(columns) = detected.format.columns()
        {
            self.facts("columns", &format!("{columns}; e changes them: {}({columns})", source.format));
        }
        self.heading("accounts");
        let numbers = [
            ("bytes", source.bytes),
            ("records", source.event_bytes),
            ("twice", source.repeated_bytes),
            ("outside", source.other_bytes),
            ("lines", source.lines),
            ("events", source.events),
            ("attached", source.attached_lines),
            ("repeated", source.repeated_lines),
            ("undated", source.undated_events),
        ];
        for (label, number) in numbers {
            // Most sources have nothing repeated and nothing outside of records.
            if number > 0 || !matches!(label, "twice" | "outside" | "repeated") {
                self.facts(label, &super::text::grouped(number));
            }
        }
        if !source.files.is_empty() {
            self.heading("files, oldest first");
            for file in &source.files {
                self.paragraph(&file.source, Style::new());
                let events = super::text::many(file.events, "event");
                let text = match file.first.as_deref().and_then(|first| first.get(..19)) {
                    Some(first) => format!("  {events} from {first}"),
                    None if file.events == 0 => "  no events of its own".to_owned(),
                    None => format!("  {events} without times"),
                };
                self.paragraph(&text, self.app.theme.faint());
            }
        }
        if !source.trouble.is_empty() {
            self.heading("trouble");
            for trouble in &source.trouble {
                self.paragraph(trouble, self.app.theme.severity(boxclock_core::severity::Severity::WARN));
            }
        }
    }

    fn cause_hint(&mut self) {
        self.paragraph(
            "Put pins into the chain in the order from the root to the symptom, and say of each link why it follows.",
            self.app.theme.faint(),
        );
    }

    fn pinned_event(&mut self) {
        let app = self.app;
        let order = app.cause_order();
        let Some(row) = order.get(app.list_cursor(Step::Cause)).and_then(|(_, pin)| app.row_of_pin(pin)) else {
            return;
        };
        self.lines.push(Line::raw(""));
        let event = app.loaded.table.event(row);
        self.facts("host", event.host());
        self.facts("source", &app.case.sources[event.source()].name);
        // The place of a decoded record is read with the record, which the stream shows.
        if app.case.sources[event.source()].decoded.is_none() {
            self.facts("", &format!("line {}, byte {}", event.line(), event.offset()));
        }
        self.codes_of(event);
    }
}
