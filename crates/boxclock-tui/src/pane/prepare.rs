//! What the pane shows of the chosen event, made ready before the frame.

use boxclock_core::clock::human::{date_time, duration_text};
use boxclock_core::event::Row;
use boxclock_core::pattern::{PatternAnalysis, PatternId, template};
use boxclock_core::query::values::quoted;
use boxclock_core::timeline::problems_before;

use crate::context::{Context, Then};
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
        (self.pane.link, self.pane.top) = (None, 0);
        let template = template(&record.body);
        self.pane.detail = Some(Detail { row, record, structured, bytes, template, pattern });
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
