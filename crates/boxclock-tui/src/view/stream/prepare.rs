//! The visible lines of the Stream, made ready before the frame: its cost is in proportion to the screen, never to the case.

use std::ops::Range;

use boxclock_core::event::ShownLine;

use super::draw::{Columns, text_rows};
use crate::context::Context;
use crate::stream::{StreamLine, TextMark};

/// Lines of a record that are shown when it is unfolded, and rows that a wrapped line may take.
const MAX_ROWS: usize = 40;
/// Characters of a line that are kept: only what could be seen, so that a line of a megabyte costs as much as a short one.
const MAX_CHARS: usize = 600;
const MAX_WRAPPED_CHARS: usize = 8000;

impl Context {
    /// The lines from the first visible one on. Where lines take several rows, the first one moves until the chosen one is whole.
    pub fn prepare_lines(&mut self) {
        let area = self.layout.middle;
        let height = usize::from(area.height).saturating_sub(super::draw::said_once(self).len());
        self.stream.selected = self.selection();
        let columns = Columns::of(area.width, self);
        let mut lines: Vec<StreamLine> = Vec::with_capacity(height);
        let mut rows = 0;
        for place in self.stream.top..self.row_count() {
            if rows >= height && place > self.stream.cursor {
                break;
            }
            let Some(line) = self.line_at(place, &columns) else { break };
            rows += line.height;
            lines.push(line);
        }
        while rows > height && lines.first().is_some_and(|first| first.place < self.stream.cursor) {
            let up_to_cursor: usize =
                lines.iter().take_while(|line| line.place <= self.stream.cursor).map(|line| line.height).sum();
            if up_to_cursor <= height {
                break;
            }
            rows -= lines.remove(0).height;
            self.stream.top += 1;
        }
        self.stream.lines = lines;
    }

    fn line_at(&mut self, place: usize, columns: &Columns) -> Option<StreamLine> {
        let row = self.row_at(place)?;
        let event = self.view.loaded.table.event(row);
        let chars = if self.stream.wrap { MAX_WRAPPED_CHARS } else { self.stream.shifted + MAX_CHARS };
        let unfolded = self.stream.unfold_all || self.stream.unfolded.contains(&row);
        let ShownLine { text, glosses, rest, more_lines } =
            self.reader.line(event, chars, if unfolded { MAX_ROWS } else { 0 });
        let run = self.stream.rows.runs.as_ref().and_then(|runs| runs.get(place)).copied();
        let mut marks: Vec<(Range<usize>, TextMark)> = Vec::new();
        for (ink, of) in self.stream.inks.iter().zip(0_u8..) {
            marks.extend(ink.iter().flat_map(|ink| ink.filter.marks(&text)).map(|range| (range, TextMark::Ink(of))));
        }
        marks.extend(self.stream.find.iter().flat_map(|find| find.marks(&text)).map(|range| (range, TextMark::Hit)));
        let ink =
            self.stream.inks.iter().zip(0_u8..).find(|(ink, _)| {
                ink.as_ref().and_then(|ink| ink.rows.as_ref()).is_some_and(|rows| rows.contains(row.0))
            });
        let ink = ink.map(|(_, place)| place);
        let run = run.filter(|run| run.count > 1);
        let mut line = StreamLine { row, place, text, glosses, marks, more_lines, extra: rest, run, ink, height: 1 };
        let rows = if self.stream.wrap { text_rows(self, &line, columns.text, MAX_ROWS).len() } else { 1 };
        line.height = rows.max(1) + line.extra.len();
        Some(line)
    }

    /// The place that stands at this row of the Stream's area.
    pub fn place_at_line(&self, line: usize) -> Option<usize> {
        let line = line.checked_sub(super::draw::said_once(self).len())?;
        let mut rows = 0;
        self.stream.lines.iter().find_map(|of| {
            rows += of.height;
            (line < rows).then_some(of.place)
        })
    }
}
