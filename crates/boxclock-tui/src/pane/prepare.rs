//! What the pane shows of the chosen event, made ready before the frame.

use boxclock_core::clock::human::{date_time, duration_text};
use boxclock_core::event::Row;
use boxclock_core::pattern::{PatternAnalysis, PatternId, UsualAnalysis, template};
use boxclock_core::query::values::quoted;
use boxclock_core::summaries::SummaryAnalysis;
use boxclock_core::timeline::problems_before;

use crate::context::{Context, Then};
use crate::jobs::USUAL;
use crate::pane_state::{Detail, LinkTarget, PaneLink};
use crate::text::many;

/// Bytes of a record that are shown as such.
const MAX_BYTES: usize = 2048;
/// Rows above the chosen one that are looked through for problems elsewhere.
const MAX_ROWS: usize = 20_000;

impl Context {
    /// Scrolls the reading pane down by so many rows, or up.
    pub fn scroll_pane(&mut self, by: isize) -> Then {
        self.pane.top = self.pane.top.saturating_add_signed(by);
        Then::Stay
    }

    /// Makes ready what the pane shows of the chosen event.
    pub fn prepare_detail(&mut self) {
        let Some(row) = self.chosen().map(|event| event.row) else {
            self.pane.detail = None;
            return;
        };
        if self.pane.detail.as_ref().is_some_and(|detail| detail.row == row) {
            return;
        }
        let event = self.view.loaded.table.event(row);
        let record = self.reader.record(event);
        let structured = self.reader.structured(event);
        let bytes = self.reader.bytes(event).map_or(Vec::new(), |bytes| bytes[..bytes.len().min(MAX_BYTES)].to_vec());
        let pattern = match self.view.known(&PatternAnalysis).and_then(|known| Some(known.of(row)?.id)) {
            Some(id) => id,
            None => PatternId::of(record.body.as_bytes()),
        };
        self.pane.links = self.links(row, pattern);
        self.ask_for_usual(row, pattern);
        (self.pane.link, self.pane.top) = (None, 0);
        let template = template(&record.body);
        self.pane.detail = Some(Detail { row, record, structured, bytes, template, pattern });
    }

    /// Has it worked out what the values of a pattern usually are; where it has few events, nothing is usual.
    fn ask_for_usual(&mut self, row: Row, pattern: PatternId) {
        let count = self.view.known(&PatternAnalysis).and_then(|known| Some(known.of(row)?.count));
        let usual = UsualAnalysis { pattern };
        if count.is_some_and(|count| count >= UsualAnalysis::LEAST_EVENTS) && self.view.known(&usual).is_none() {
            self.start_analysis(usual, USUAL);
        }
    }

    /// From the items of a list of what went wrong to the events that they tell of, and from such an event to the list.
    fn link_lists(&self, row: Row, links: &mut Vec<PaneLink>) {
        const MOST: usize = 12;
        let Some(lists) = self.view.known(&SummaryAnalysis) else { return };
        let items = lists.iter().filter(|list| list.row == row || list.items.iter().any(|item| item.row == row));
        let here = items.flat_map(|list| list.items.iter().filter(move |item| item.row == row || list.row == row));
        for (text, origin) in here.filter_map(|item| Some((&item.text, item.origin?.0))).take(MOST) {
            links.push(PaneLink { label: format!("tells of\n{text}"), target: LinkTarget::Row(origin) });
        }
        for list in lists.iter() {
            let item = list.items.iter().find(|item| item.origin.is_some_and(|(origin, _)| origin == row));
            if let Some(item) = item.filter(|_| links.len() < 2 * MOST) {
                let label = format!("told of again under\n{}", list.heading);
                links.push(PaneLink { label, target: LinkTarget::Row(item.row) });
            }
        }
    }

    /// Where one would look next: the last problems elsewhere, the first and last of the pattern, the codes.
    fn links(&mut self, row: Row, pattern: PatternId) -> Vec<PaneLink> {
        let table = std::sync::Arc::clone(&self.view.loaded.table);
        let event = table.event(row);
        let here = event.time();
        let mut links = Vec::new();
        for event in problems_before(&table, table.place_of(row), MAX_ROWS) {
            let ago = match (here, event.time()) {
                (Some(here), Some(then)) => duration_text(then.saturating_sub(here)),
                _ => String::new(),
            };
            let text = self.reader.line(event, 200, 0).text;
            let label = format!("{ago} {}\n{text}", event.host());
            links.push(PaneLink { label, target: LinkTarget::Row(event.row) });
        }
        self.link_lists(row, &mut links);
        let patterns = self.view.known(&PatternAnalysis);
        if let Some(known) = patterns.as_ref().and_then(|known| known.of(row)).filter(|known| known.count > 1) {
            let since = known.span.map_or(String::new(), |(first, _)| date_time(first, &self.zone));
            let label = format!("first with this pattern\n{}", since.get(..23).unwrap_or(&since));
            links.push(PaneLink { label, target: LinkTarget::Row(known.first) });
            let label = format!("only this pattern\n{}", many(known.count.into(), "event"));
            links.push(PaneLink { label, target: LinkTarget::Only(format!("pattern={pattern}")) });
        }
        let mut codes: Vec<_> = event.codes().collect();
        codes.dedup();
        for code in codes {
            let label = format!("only events with {}\n", code.written(&self.catalogues()));
            let piece = format!("code={}", quoted(&code.filter_value(&self.catalogues())));
            links.push(PaneLink { label, target: LinkTarget::Only(piece) });
        }
        let pid = event.actor().pid.map_or(String::new(), |pid| pid.to_string());
        let source = &self.view.case.sources[event.source()].name;
        for (field, value) in
            [("component", event.component()), ("pid", &pid), ("host", event.host()), ("source", source)]
        {
            if !value.is_empty() {
                let piece = format!("{field}={}", quoted(value));
                links.push(PaneLink { label: format!("only {piece}"), target: LinkTarget::Only(piece) });
            }
        }
        links
    }
}
