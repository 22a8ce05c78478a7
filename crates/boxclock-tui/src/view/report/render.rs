//! Markdown as it will look: headings, lists, tables and quoted lines, for a width of the screen.

use pulldown_cmark::{CodeBlockKind, Event, HeadingLevel, Options, Parser, Tag, TagEnd};
use ratatui::style::{Modifier, Style};
use ratatui::text::{Line, Span};
use unicode_width::UnicodeWidthStr;

use crate::text::{cut, fit, wrap};
use crate::theme::Theme;

/// Blanks between the columns of a table.
const GAP: usize = 2;
/// A column of a table is not narrower, where it has so much to say.
const LEAST_COLUMN: usize = 6;

/// The lines of a Markdown text.
pub fn lines(text: &str, width: usize, theme: Theme) -> Vec<Line<'static>> {
    let mut page = Page {
        lines: Vec::new(),
        width,
        theme,
        spans: Vec::new(),
        style: Style::new(),
        lists: Vec::new(),
        mark: None,
        is_code: false,
        table: None,
    };
    for event in Parser::new_ext(text, Options::ENABLE_TABLES) {
        page.take(event);
    }
    page.end_block();
    page.lines
}

struct Page {
    lines: Vec<Line<'static>>,
    width: usize,
    theme: Theme,
    /// What stands in the block that is being read.
    spans: Vec<(String, Style)>,
    style: Style,
    /// The lists around: the next number of each that is numbered.
    lists: Vec<Option<u64>>,
    /// What stands in front of the next line of an item, once.
    mark: Option<String>,
    /// Whether the text of a code block is being read.
    is_code: bool,
    /// The table that is being read, row by row.
    table: Option<Vec<Vec<String>>>,
}

impl Page {
    fn take(&mut self, event: Event<'_>) {
        match event {
            Event::Start(Tag::Heading { level, .. }) => {
                self.end_block();
                if !self.lines.is_empty() {
                    self.blank();
                }
                self.style = match level {
                    HeadingLevel::H1 => self.theme.strong().add_modifier(Modifier::UNDERLINED),
                    _ => self.theme.strong(),
                };
            }
            Event::End(TagEnd::Heading(_)) => {
                self.end_block();
                self.blank();
                self.style = Style::new();
            }
            Event::End(TagEnd::Paragraph) => {
                self.end_block();
                if self.lists.is_empty() {
                    self.blank();
                }
            }
            Event::Start(Tag::List(first)) => {
                self.end_block();
                self.lists.push(first);
            }
            Event::End(TagEnd::List(_)) => {
                self.end_block();
                self.lists.pop();
                if self.lists.is_empty() {
                    self.blank();
                }
            }
            Event::Start(Tag::Item) => {
                self.end_block();
                self.mark = Some(match self.lists.last_mut() {
                    Some(Some(number)) => {
                        *number += 1;
                        format!("{}. ", *number - 1)
                    }
                    _ => "· ".to_owned(),
                });
            }
            Event::End(TagEnd::Item) => self.end_block(),
            Event::Start(Tag::Strong) => self.style = self.theme.strong(),
            Event::End(TagEnd::Strong) => self.style = Style::new(),
            Event::Start(Tag::CodeBlock(CodeBlockKind::Fenced(_) | CodeBlockKind::Indented)) => {
                self.end_block();
                self.is_code = true;
            }
            Event::End(TagEnd::CodeBlock) => self.is_code = false,
            Event::Start(Tag::Table(_)) => {
                self.end_block();
                self.table = Some(Vec::new());
            }
            Event::Start(Tag::TableHead | Tag::TableRow) => {
                if let Some(rows) = &mut self.table {
                    rows.push(Vec::new());
                }
            }
            Event::End(TagEnd::TableCell) => {
                let cell: String = self.spans.drain(..).map(|(text, _)| text).collect();
                if let Some(row) = self.table.as_mut().and_then(|rows| rows.last_mut()) {
                    row.push(cell);
                }
            }
            Event::End(TagEnd::Table) => {
                let rows = self.table.take().unwrap_or_default();
                self.draw_table(&rows);
                self.blank();
            }
            Event::Start(Tag::Image { dest_url, .. }) => self.text(&format!("[drawing: {dest_url}] ")),
            Event::Text(text) if self.is_code => self.code(&text),
            Event::Text(text) => self.text(&text),
            Event::Code(text) => self.text(&text),
            Event::SoftBreak | Event::HardBreak => self.text(" "),
            // A note of several lines.
            Event::InlineHtml(html) if &*html == "<br>" => {
                let (mark, indent) = (self.mark.clone(), self.indent());
                self.end_block();
                self.mark = mark.map(|mark| " ".repeat(mark.width().min(indent)));
            }
            _ => {}
        }
    }

    fn text(&mut self, text: &str) {
        self.spans.push((text.to_owned(), self.style));
    }

    fn blank(&mut self) {
        if self.lines.last().is_some_and(|line| line.width() > 0) {
            self.lines.push(Line::raw(""));
        }
    }

    /// Blanks in front of what stands inside of the lists.
    fn indent(&self) -> usize {
        1 + self.lists.len() * 3
    }

    /// Lines of a log, each behind a bar, whole: what is too long goes on below.
    fn code(&mut self, text: &str) {
        let indent = " ".repeat(self.indent());
        let room = self.width.saturating_sub(self.indent() + 3).max(8);
        for line in text.lines() {
            let mut rest = line;
            loop {
                let piece = cut_whole(rest, room);
                let (bar, text) = (format!("{indent}│ "), piece.to_owned());
                self.lines.push(Line::from(vec![Span::styled(bar, self.theme.faint()), Span::raw(text)]));
                rest = &rest[piece.len()..];
                if rest.is_empty() {
                    break;
                }
            }
        }
    }

    /// Ends the block that is being read: its text, wrapped between words.
    fn end_block(&mut self) {
        let spans = std::mem::take(&mut self.spans);
        if spans.is_empty() {
            return;
        }
        let indent = self.indent();
        let mark = self.mark.take();
        let front = mark.as_ref().map_or(indent, |mark| indent.saturating_sub(mark.width()));
        let mut line = vec![Span::raw(format!("{}{}", " ".repeat(front), mark.unwrap_or_default()))];
        let (mut used, most) = (indent, self.width.saturating_sub(1));
        for (text, style) in spans {
            for word in text.split_inclusive(' ') {
                let wide = word.trim_end().width();
                if used + wide > most && used > indent {
                    self.lines.push(Line::from(std::mem::replace(&mut line, vec![Span::raw(" ".repeat(indent))])));
                    used = indent;
                }
                // A word that fits on no line (a hash, a path) is broken.
                let mut rest = word;
                while used + rest.trim_end().width() > most && most > indent {
                    let piece = cut_whole(rest, most - used);
                    line.push(Span::styled(piece.to_owned(), style));
                    rest = &rest[piece.len()..];
                    self.lines.push(Line::from(std::mem::replace(&mut line, vec![Span::raw(" ".repeat(indent))])));
                    used = indent;
                }
                used += rest.width();
                line.push(Span::styled(rest.to_owned(), style));
            }
        }
        self.lines.push(Line::from(line));
    }

    fn draw_table(&mut self, rows: &[Vec<String>]) {
        let widths = column_widths(rows, self.width.saturating_sub(self.indent() + 1));
        let indent = " ".repeat(self.indent());
        for (number, row) in rows.iter().enumerate() {
            let cells: Vec<Vec<String>> =
                row.iter().zip(&widths).map(|(cell, width)| cell_lines(cell, *width)).collect();
            let style = if number == 0 { self.theme.faint() } else { Style::new() };
            for at in 0..cells.iter().map(Vec::len).max().unwrap_or(0) {
                let mut text = indent.clone();
                for (cell, width) in cells.iter().zip(&widths) {
                    text.push_str(&fit(cell.get(at).map_or("", String::as_str), width + GAP));
                }
                self.lines.push(Line::styled(cut(text.trim_end(), self.width), style));
            }
        }
    }
}

/// A cell in lines; a word that is too long for its column is broken, not cut.
fn cell_lines(cell: &str, width: usize) -> Vec<String> {
    let mut lines = Vec::new();
    for line in wrap(cell, width.max(1)) {
        let mut rest = line.as_str();
        while rest.width() > width && width > 0 {
            let piece = cut_whole(rest, width);
            lines.push(piece.to_owned());
            rest = &rest[piece.len()..];
        }
        lines.push(rest.to_owned());
    }
    lines
}

/// As wide as what is in them, where there is room; else the widest give room until all fit.
fn column_widths(rows: &[Vec<String>], room: usize) -> Vec<usize> {
    let columns = rows.first().map_or(0, Vec::len);
    let widest = |at: usize| rows.iter().filter_map(|row| row.get(at)).map(|cell| cell.width()).max().unwrap_or(0);
    let mut widths: Vec<usize> = (0..columns).map(widest).collect();
    let mut over = (widths.iter().sum::<usize>() + GAP * columns.saturating_sub(1)).saturating_sub(room);
    while over > 0 {
        let Some(most) = widths.iter().copied().max().filter(|most| *most > LEAST_COLUMN) else { break };
        let next = widths.iter().copied().filter(|width| *width < most).max().unwrap_or(0).max(LEAST_COLUMN);
        let wide = widths.iter().filter(|width| **width == most).count();
        let give = over.div_ceil(wide).min(most - next.min(most - 1)).max(1);
        for width in widths.iter_mut().filter(|width| **width == most) {
            *width -= give;
            over = over.saturating_sub(give);
        }
    }
    widths
}

/// The start of a text that fits, at least one character.
fn cut_whole(text: &str, width: usize) -> &str {
    let mut used = 0;
    let end = text.char_indices().find(|(_, c)| {
        used += unicode_width::UnicodeWidthChar::width(*c).unwrap_or(0);
        used > width
    });
    match end {
        Some((0, c)) => &text[..c.len_utf8()],
        Some((at, _)) => &text[..at],
        None => text,
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    fn drawn(text: &str, width: usize) -> Vec<String> {
        let said = |line: Line<'_>| line.spans.iter().map(|span| span.content.as_ref()).collect::<String>();
        lines(text, width, Theme::of(&crate::settings::Settings::default()))
            .into_iter()
            .map(said)
            .map(|line| line.trim_end().to_owned())
            .collect()
    }

    #[test]
    fn headings_lists_and_quotes_look_as_they_will() {
        let text = "# Night\n\nNo alarms came, since the format was **refused**.\n\n## Cause\n\n1. **root** 02:13\n   - why: \
                    a\\_b\n\n     ```\n     NAK `417`\n     ```\n2. symptom\n";
        assert_eq!(
            drawn(text, 30),
            [
                " Night",
                "",
                " No alarms came, since the",
                " format was refused.",
                "",
                " Cause",
                "",
                " 1. root 02:13",
                "     · why: a_b",
                "       │ NAK `417`",
                " 2. symptom",
                ""
            ]
        );
    }

    #[test]
    fn tables_fit_and_nothing_is_cut() {
        let text = "| code | meaning |\n|---|--:|\n| 71 EPROTO | The two ends do not speak the same protocol. |\n";
        for width in [20, 30, 48, 100] {
            let lines = drawn(text, width);
            assert!(lines.iter().all(|line| line.width() <= width), "{width}: {lines:?}");
            let letters = |text: &str| -> Vec<char> {
                let mut letters: Vec<char> = text.chars().filter(|c| c.is_alphanumeric()).collect();
                letters.sort_unstable();
                letters
            };
            let wanted = "code meaning 71 EPROTO The two ends do not speak the same protocol";
            assert_eq!(letters(&lines.concat()), letters(wanted), "{width}: {lines:?}");
        }
        assert_eq!(drawn(text, 100)[0], " code       meaning");
    }

    #[test]
    fn long_lines_go_on_below() {
        let text = format!("```\n{}\n```\n\n{}\n", "x".repeat(100), "y".repeat(90));
        let lines = drawn(&text, 40);
        assert!(lines.iter().all(|line| line.width() <= 40), "{lines:?}");
        assert_eq!(lines.concat().matches('x').count(), 100);
        assert_eq!(lines.concat().matches('y').count(), 90);
    }
}
