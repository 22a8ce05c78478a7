//! Where everything stands, for any size of terminal.

use ratatui::layout::Rect;

use crate::app::Step;

/// The areas of the screen. Those that do not fit have no width or height.
#[derive(Clone, Copy, Debug, Default)]
pub struct Layout {
    /// Title and clocks.
    pub top: Rect,
    /// The steps.
    pub steps: Rect,
    pub rail: Rect,
    pub middle: Rect,
    pub reading: Rect,
    /// All of the terminal.
    pub whole: Rect,
    /// Filter and counts, or the line that is being typed.
    pub line: Rect,
    /// Key hints.
    pub hints: Rect,
    /// Lanes of the rail.
    pub lanes: usize,
    /// Lanes that there could be.
    pub most_lanes: usize,
}

/// Columns of the rail's times.
pub const RAIL_TIME: u16 = 6;
/// Columns from which on the reading pane stands beside the middle.
pub const READING_BESIDE: u16 = 100;
/// Most lanes of the rail; fewer where the text needs the room.
const LANES: usize = 8;
const FEW_LANES: usize = 4;

impl Layout {
    /// The layout of a terminal.
    pub fn of(width: u16, height: u16, hosts: usize, reading: bool, step: Step) -> Self {
        let tall = height >= 12;
        let row = |y: u16, rows: u16| if y + rows <= height { Rect::new(0, y, width, rows) } else { Rect::default() };
        let head = if tall { 2 } else { 0 };
        // A rule above and below the middle, where there is room.
        let rule = u16::from(tall);
        let foot = if height >= 8 { 2 } else { u16::from(height >= 3) };
        let y = head + rule;
        let rows = height.saturating_sub(y + rule + foot);
        let most_lanes = if width >= 120 { LANES } else { FEW_LANES };
        let lanes = hosts.clamp(1, most_lanes);
        let rail_width = if width >= 70 && tall { RAIL_TIME + 2 + lanes as u16 * 2 + 3 } else { 0 };
        let reading_width = match width {
            _ if !reading || step == Step::Report => 0,
            150.. => 48,
            READING_BESIDE.. => 36,
            _ => 0,
        };
        let gap = |part: u16| u16::from(part > 0);
        let middle_x = rail_width + gap(rail_width);
        let middle_width = width.saturating_sub(middle_x + reading_width + gap(reading_width));
        Self {
            top: if tall { row(0, 1) } else { Rect::default() },
            steps: if tall { row(1, 1) } else { Rect::default() },
            rail: Rect::new(0, y, rail_width, rows),
            middle: Rect::new(middle_x, y, middle_width, rows),
            reading: Rect::new(middle_x + middle_width + gap(reading_width), y, reading_width, rows),
            line: if foot >= 1 { row(height - foot, 1) } else { Rect::default() },
            hints: if foot >= 2 { row(height - 1, 1) } else { Rect::default() },
            lanes,
            most_lanes,
            whole: Rect::new(0, 0, width, height),
        }
    }

    /// Whether there is no room for the reading pane beside the middle.
    pub fn is_narrow(&self) -> bool {
        self.line.width < READING_BESIDE
    }

    /// The reading pane over the middle, where there is no room beside it.
    pub fn with_reading_over(mut self) -> Self {
        if self.reading.width == 0 {
            self.reading = self.middle;
        }
        self
    }

    /// Rows of the rail that show time.
    pub fn rail_rows(&self) -> u16 {
        if self.rail.width == 0 { 0 } else { self.rail.height.saturating_sub(1) }
    }

    /// Lines above the items of a list view.
    pub fn list_header(&self, step: Step) -> usize {
        match step {
            Step::Story => 2,
            Step::Box | Step::Codes => 1,
            Step::Cause => 2,
            Step::Desk => 3,
            Step::Stream | Step::Report => 0,
        }
    }

    /// Lines of one item of a list view.
    pub fn list_item(&self, step: Step) -> usize {
        match step {
            Step::Story => 3,
            Step::Cause => 2,
            _ => 1,
        }
    }

    /// Items of a list view that fit.
    pub fn list_height(&self, step: Step) -> usize {
        (usize::from(self.middle.height).saturating_sub(self.list_header(step)) / self.list_item(step)).max(1)
    }

    /// The step whose name stands at this column.
    pub fn step_at(&self, column: u16) -> Option<Step> {
        let mut start = 1;
        for (step, key, name) in Step::ALL {
            let end = start + key.len() + 1 + name.len();
            if (start..end).contains(&usize::from(column)) {
                return Some(step);
            }
            start = end + 2;
        }
        None
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn nothing_leaves_the_terminal() {
        for width in 0..200 {
            for height in 0..60 {
                for hosts in [0, 3, 50] {
                    let layout = Layout::of(width, height, hosts, true, Step::Stream);
                    for area in [
                        layout.top,
                        layout.steps,
                        layout.rail,
                        layout.middle,
                        layout.reading,
                        layout.line,
                        layout.hints,
                    ] {
                        assert!(area.width == 0 || area.right() <= width, "{width}x{height} {area:?}");
                        assert!(area.height == 0 || area.bottom() <= height, "{width}x{height} {area:?}");
                    }
                }
            }
        }
    }

    #[test]
    fn panes_fold_away() {
        let at = |width, height| Layout::of(width, height, 3, true, Step::Stream);
        assert!(at(160, 50).reading.width > 0 && at(160, 50).rail.width > 0);
        assert!(at(99, 30).reading.width == 0 && at(99, 30).rail.width > 0);
        assert!(at(69, 30).rail.width == 0);
        assert!(at(60, 20).middle.height >= 14);
        assert!(at(20, 5).middle.height >= 4);
    }
}
