//! The reading pane: what the chosen thing says, and what to look at next.

use std::ops::Range;
use std::sync::Arc;

use boxclock_core::clock::human::{date_time, drift_text};
use boxclock_core::code::{Catalogues, Code, CodeInfo, Form};
use boxclock_core::event::{EventRef, flag};
use boxclock_core::format::Place;
use boxclock_core::pattern::{PatternAnalysis, UsualAnalysis, UsualPlace, UsualValues};
use ratatui::Frame;
use ratatui::layout::Rect;
use ratatui::style::Style;
use ratatui::text::{Line, Span};
use ratatui::widgets::{Clear, Paragraph};

use crate::context::Context;
use crate::pane_state::{Detail, DetailMode, PaneLink};
use crate::text::{cut, fit, hex_lines, many, wrap};
use crate::theme::Hue;

mod prepare;

/// What is written into the pane, line by line.
pub struct Pane<'a> {
    cx: &'a Context,
    width: usize,
    lines: Vec<Line<'static>>,
    /// Where the chosen link stands.
    chosen_line: Option<usize>,
    /// The lines of each link.
    links: Vec<Range<usize>>,
}

impl<'a> Pane<'a> {
    /// An empty pane of that width.
    pub fn new(cx: &'a Context, width: u16) -> Self {
        let width = usize::from(width).saturating_sub(1);
        Self { cx, width, lines: Vec::new(), chosen_line: None, links: Vec::new() }
    }

    /// The code catalogues of the case.
    pub fn catalogues(&self) -> Arc<Catalogues> {
        self.cx.catalogues()
    }

    /// Draws what was written into it.
    pub fn draw(mut self, frame: &mut Frame<'_>, area: Rect) {
        let height = usize::from(area.height);
        self.lines.drain(..self.top(height));
        if self.lines.len() > height && height > 1 {
            let more = self.lines.len() - height + 1;
            self.lines.truncate(height - 1);
            self.lines.push(Line::styled(format!(" ⌄ {more} more lines: J"), self.cx.theme.faint()));
        }
        self.lines.truncate(height);
        frame.render_widget(Clear, area);
        frame.render_widget(Paragraph::new(self.lines), area);
    }

    /// The link at a line of the screen, counted from the pane's top.
    pub fn link_at(&self, height: u16, line: usize) -> Option<usize> {
        let line = line + self.top(usize::from(height));
        self.links.iter().position(|lines| lines.contains(&line))
    }

    /// The first line that is shown: the chosen link is in sight; else what was scrolled to.
    fn top(&self, height: usize) -> usize {
        let top = match self.chosen_line {
            Some(line) => (line + 3).saturating_sub(height),
            None => self.cx.pane.top,
        };
        top.min(self.lines.len().saturating_sub(height))
    }

    /// A heading, with room above it.
    pub fn heading(&mut self, text: &str) {
        if !self.lines.is_empty() {
            self.lines.push(Line::raw(""));
        }
        self.lines.push(Line::styled(format!(" {text}"), self.cx.theme.strong()));
    }

    /// An empty line.
    pub fn gap(&mut self) {
        self.lines.push(Line::raw(""));
    }

    /// Its columns.
    pub fn width(&self) -> usize {
        self.width
    }

    /// Lines that were drawn, with their colours.
    pub fn drawing(&mut self, lines: Vec<Line<'static>>) {
        self.lines.extend(lines);
    }

    /// A line that is cut, not wrapped.
    pub fn line(&mut self, text: &str) {
        self.lines.push(Line::raw(format!(" {}", cut(text, self.width.saturating_sub(1)))));
    }

    /// A paragraph.
    pub fn text(&mut self, text: &str) {
        self.paragraph(text, Style::new());
    }

    /// A paragraph that stands back.
    pub fn faint(&mut self, text: &str) {
        self.paragraph(text, self.cx.theme.faint());
    }

    /// A paragraph that stands out.
    pub fn strong(&mut self, text: &str) {
        self.paragraph(text, self.cx.theme.strong());
    }

    /// A paragraph in a style.
    pub fn paragraph(&mut self, text: &str, style: Style) {
        for line in wrap(text, self.width.saturating_sub(1)) {
            self.lines.push(Line::styled(format!(" {line}"), style));
        }
    }

    /// A label and its value, wrapped under each other; nothing without a value.
    pub fn facts(&mut self, label: &str, value: &str) {
        const LABEL: usize = 10;
        if value.is_empty() {
            return;
        }
        let lines = wrap(value, self.width.saturating_sub(LABEL + 1));
        for (index, line) in lines.into_iter().enumerate() {
            let label = if index == 0 { fit(label, LABEL) } else { " ".repeat(LABEL) };
            self.lines
                .push(Line::from(vec![Span::styled(format!(" {label}"), self.cx.theme.faint()), Span::raw(line)]));
        }
    }

    /// The chosen event of the Stream.
    pub fn chosen_event(&mut self) {
        let cx = self.cx;
        let Some((event, detail)) =
            cx.chosen().zip(cx.pane.detail.as_ref()).filter(|(event, detail)| event.row == detail.row)
        else {
            return;
        };
        self.what(event, detail.record.place);
        match (cx.pane.mode, &detail.structured) {
            (DetailMode::Structured, Some(structured)) => return self.structured(structured),
            (DetailMode::Raw, _) => return self.raw(detail, event),
            _ => {}
        }
        self.body(&detail.record.body);
        self.codes_of(event);
        if !detail.record.attributes.is_empty() {
            self.heading("fields");
            for (name, value) in &detail.record.attributes {
                let text = value.as_str().map_or_else(|| value.to_string(), str::to_owned);
                self.paragraph(&format!("{name}  {text}"), Style::new());
            }
        }
        self.pattern(event, detail);
        if !cx.pane.links.is_empty() {
            self.heading("where to look next");
            for (index, link) in cx.pane.links.iter().enumerate() {
                self.link(link, cx.pane.link == Some(index));
            }
        }
    }

    fn structured(&mut self, structured: &str) {
        self.heading("as written");
        for line in structured.lines().take(2000) {
            let indent = line.len() - line.trim_start().len();
            let width = self.width.saturating_sub(1 + indent);
            for part in wrap(line.trim_start(), width) {
                self.lines.push(Line::raw(format!(" {}{part}", " ".repeat(indent))));
            }
        }
    }

    /// The very bytes, with their place in the file.
    fn raw(&mut self, detail: &Detail, event: EventRef<'_>) {
        self.heading("raw bytes");
        // Eight columns of place and two gaps; three and one for each byte.
        let per_line = (self.width.saturating_sub(12) / 4).clamp(4, 16);
        for line in hex_lines(&detail.bytes, event.offset(), per_line) {
            self.lines.push(Line::raw(format!(" {line}")));
        }
        let left = event.length().saturating_sub(detail.bytes.len() as u64);
        if left > 0 {
            self.lines.push(Line::styled(format!(" … {left} more bytes"), self.cx.theme.faint()));
        }
    }

    /// What stays the same in messages like this one, how often there are such, and since when.
    fn pattern(&mut self, event: EventRef<'_>, detail: &Detail) {
        self.heading("pattern");
        self.paragraph(&detail.template, Style::new());
        let cx = self.cx;
        let text = match cx.view.known(&PatternAnalysis).and_then(|patterns| patterns.of(event.row).copied()) {
            Some(pattern) if pattern.count == 1 => "only this event".to_owned(),
            Some(pattern) => {
                let span = pattern.span.map_or(String::new(), |(first, last)| {
                    let text = |time: i64| date_time(time, &cx.zone)[5..19].to_owned();
                    format!(", {} to {}", text(first), text(last))
                });
                format!("{}{span}", many(u64::from(pattern.count), "event"))
            }
            None => "still counting …".to_owned(),
        };
        self.paragraph(&text, cx.theme.faint());
        if let Some(usual) = cx.view.known(&UsualAnalysis { pattern: detail.pattern }) {
            self.usual(&usual, event, detail);
        }
    }

    /// What the values of such messages usually are, and which of this one are not.
    fn usual(&mut self, usual: &UsualValues, event: EventRef<'_>, detail: &Detail) {
        const MOST: usize = 4;
        let message = detail.record.body.lines().next().unwrap_or_default();
        for (text, why) in usual.unlike(event.row, message) {
            self.paragraph(&format!("unusual: {text}, {why}"), self.cx.theme.hue(Hue::Orange));
        }
        let told: Vec<String> = usual.places.iter().filter_map(UsualPlace::sentence).take(MOST).collect();
        if !told.is_empty() {
            self.paragraph(&format!("usually {}", told.join("; ")), self.cx.theme.faint());
        }
    }

    fn link(&mut self, link: &PaneLink, chosen: bool) {
        let mut lines = link.label.lines();
        let head = format!(" {} {}", if chosen { "▸" } else { "·" }, lines.next().unwrap_or_default());
        let style = if chosen { self.cx.theme.chosen() } else { Style::new() };
        if chosen {
            self.chosen_line = Some(self.lines.len());
        }
        let first = self.lines.len();
        self.lines.push(Line::styled(fit(&head, self.width), style));
        for line in lines.filter(|line| !line.is_empty()) {
            let text = cut(line, self.width.saturating_sub(3));
            self.lines.push(Line::styled(format!("   {text}"), self.cx.theme.faint()));
        }
        self.links.push(first..self.lines.len());
    }

    fn what(&mut self, event: EventRef<'_>, place: Option<Place>) {
        let cx = self.cx;
        let time = event.time().map_or("no time".to_owned(), |time| date_time(time, &cx.zone));
        self.facts("when", &time);
        let drift = cx.view.loaded.table.drift_of(event.source() as u32, event.actor_id());
        let mut how = event.time_known().explain().to_owned();
        if !drift.is_none() {
            how.push_str(&format!("; clock of {} corrected by {}", event.host(), drift_text(drift)));
        }
        if event.is_disordered() {
            how.push_str("; out of order in its file");
        }
        if let Some(order) = cx.view.case.sources[event.source()].guessed_dates() {
            how.push_str(&format!("; day and month are a guess: {} (e in the Box view sets it)", order.name()));
        }
        self.facts("", &how);
        let severity = event.severity();
        let detail = cx.pane.detail.as_ref().and_then(|detail| detail.record.severity_text.clone());
        let level = match (severity.name(), detail) {
            (Some(name), Some(text)) if !name.eq_ignore_ascii_case(&text) => format!("{name} (written {text})"),
            (Some(name), _) => name.to_owned(),
            (None, _) if event.flags() & flag::SUSPECT != 0 => "none, but the text looks like a problem".to_owned(),
            (None, _) => "none".to_owned(),
        };
        self.facts("level", &level);
        self.facts("", &Self::escalation(event).unwrap_or_default());
        let actor = event.actor();
        let ids = [("pid", actor.pid), ("tid", actor.tid)];
        let ids: Vec<String> = ids.into_iter().filter_map(|(name, id)| id.map(|id| format!("{name} {id}"))).collect();
        self.facts("by", format!("{} {}", event.component(), ids.join(" ")).trim());
        self.facts("host", event.host());
        self.facts("source", &cx.view.case.sources[event.source()].name);
        let Place { line, offset, length } = place.unwrap_or_else(|| event.place());
        self.facts("", &format!("line {line}, byte {offset}, {length} bytes"));
    }

    fn body(&mut self, body: &str) {
        self.heading("message");
        let shown: String = body.chars().take(4000).collect();
        let lines = wrap(&shown, self.width.saturating_sub(1));
        let most = 14;
        let more = lines.len().saturating_sub(most);
        for line in lines.into_iter().take(most) {
            self.lines.push(Line::raw(format!(" {line}")));
        }
        if more > 0 {
            self.lines.push(Line::styled(format!(" … {more} more lines"), self.cx.theme.faint()));
        }
    }

    /// A code in short: what it means and what to look at.
    pub fn code(&mut self, info: &CodeInfo, full: bool) {
        let name = info.name.filter(|name| *name != info.code.written(&self.cx.catalogues()));
        let name = name.unwrap_or(if info.known { "" } else { "no name known" });
        self.heading(&format!("{} {name}", info.code.written(&self.cx.catalogues())));
        // The shape of a full 32 bits says it by itself.
        if full || info.code.family.form() == Form::Decimal {
            self.facts("family", info.code.family.title());
        }
        self.facts("means", &format!("{} ({})", info.meaning.trim_end_matches('.'), info.outcome.words()));
        self.facts("causes", info.causes);
        self.facts("look at", info.check);
        if let Some(place) = info.user {
            // Where it lies is long; which one it is stands at the end.
            let name = place.rsplit(['/', '\\']).next().unwrap_or(place);
            self.facts("from", &format!("catalogue {name}"));
        }
    }

    /// The codes of the chosen event.
    pub fn codes_of(&mut self, event: EventRef<'_>) {
        let codes: std::collections::BTreeSet<Code> = event.codes().collect();
        for code in &codes {
            self.code(&code.info(&self.cx.catalogues()), false);
        }
        if codes.iter().any(|code| code.family.form() == Form::Decimal) {
            self.facts("", "r sets another family");
        }
    }

    /// Why a line that was not logged as a problem counts as one.
    pub fn escalation(event: EventRef<'_>) -> Option<String> {
        let code = event.escalating_code()?;
        Some(format!(
            "counts as a problem because it carries {}, a failure (! toggles this)",
            code.written(event.catalogues())
        ))
    }
}
