//! Where everything stands, for any size of terminal.

use ratatui::layout::Rect;

/// The areas of the screen. Those that do not fit have no width or height.
#[derive(Clone, Copy, Debug, Default)]
pub struct Layout {
    /// Title and clocks.
    pub top: Rect,
    /// The tabs of the views.
    pub tabs: Rect,
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
    /// Columns of a lane.
    pub lane_width: u16,
    /// Lanes that there could be.
    pub max_lanes: usize,
}

/// Columns of the rail's times.
pub const RAIL_TIME: u16 = 6;
/// Columns from which on the reading pane has a place of its own.
pub const PANE_MIN_WIDTH: u16 = 100;
/// Columns from which on it stands beside the view; below that, under it.
const BESIDE_MIN_WIDTH: u16 = 150;
const PANE_WIDTH: u16 = 34;
const WIDE_PANE_WIDTH: u16 = 48;
/// Columns from which on it is wide.
const WIDE_MIN_WIDTH: u16 = 190;
/// Most lanes of the rail; fewer where the text needs the room.
const MAX_LANES: usize = 8;
const FEW_LANES: usize = 4;

/// Where the reading pane stands.
#[derive(Clone, Copy, Debug, Default, PartialEq, Eq, serde::Deserialize)]
#[serde(rename_all = "kebab-case")]
pub enum PanePlace {
    /// Beside the view in a wide terminal, else under it.
    #[default]
    Auto,
    /// Beside the view.
    Beside,
    /// Under the view.
    Below,
}

impl Layout {
    /// The layout of a terminal. `pane` says whether there is a reading pane, and where.
    pub fn of(width: u16, height: u16, hosts: usize, pane: Option<PanePlace>) -> Self {
        let tall = height >= 12;
        let row = |y: u16, rows: u16| if y + rows <= height { Rect::new(0, y, width, rows) } else { Rect::default() };
        let head = if tall { 2 } else { 0 };
        // A rule above and below the middle, where there is room.
        let rule = u16::from(tall);
        let foot = if height >= 8 { 2 } else { u16::from(height >= 3) };
        let y = head + rule;
        let rows = height.saturating_sub(y + rule + foot);
        let max_lanes = if width >= 120 { MAX_LANES } else { FEW_LANES };
        let lanes = hosts.clamp(1, max_lanes);
        // Many lanes are one column each, few have a second one for a shape.
        let lane_width = if lanes > FEW_LANES { 1 } else { 2 };
        let rail_width = if width >= 70 && tall { RAIL_TIME + 1 + lanes as u16 * lane_width + 3 } else { 0 };
        let gap = |part: u16| u16::from(part > 0);
        let x = rail_width + gap(rail_width);
        let left = width.saturating_sub(x);
        let pane = pane.filter(|_| width >= PANE_MIN_WIDTH);
        let is_beside = match pane {
            Some(PanePlace::Beside) => true,
            Some(PanePlace::Auto) => width >= BESIDE_MIN_WIDTH || rows < 18,
            _ => false,
        };
        let (middle, reading) = match pane {
            None => (Rect::new(x, y, left, rows), Rect::default()),
            Some(_) if is_beside => {
                let of_pane = if width >= WIDE_MIN_WIDTH { WIDE_PANE_WIDTH } else { PANE_WIDTH };
                let middle = left.saturating_sub(of_pane + 1);
                (Rect::new(x, y, middle, rows), Rect::new(x + middle + 1, y, of_pane, rows))
            }
            Some(_) => {
                // A rule between them.
                let of_pane = (rows * 2 / 5).clamp(5, 16).min(rows.saturating_sub(6));
                let middle = rows.saturating_sub(of_pane + 1);
                (Rect::new(x, y, left, middle), Rect::new(x, y + middle + 1, left, of_pane))
            }
        };
        Self {
            top: if tall { row(0, 1) } else { Rect::default() },
            tabs: if tall { row(1, 1) } else { Rect::default() },
            rail: Rect::new(0, y, rail_width, rows),
            middle,
            reading,
            line: if foot >= 1 { row(height - foot, 1) } else { Rect::default() },
            hints: if foot >= 2 { row(height - 1, 1) } else { Rect::default() },
            lanes,
            lane_width,
            max_lanes,
            whole: Rect::new(0, 0, width, height),
        }
    }

    /// Whether the reading pane has no place of its own.
    pub fn is_narrow(&self) -> bool {
        self.line.width < PANE_MIN_WIDTH
    }

    /// The reading pane over the middle, where there is no room beside it.
    pub fn with_reading_over(mut self) -> Self {
        if self.reading.width == 0 {
            self.reading = self.middle;
        }
        self
    }

    /// Rows above the rail's times: the marks of the hosts, below each other where a lane has one column.
    pub fn rail_head(&self) -> u16 {
        if self.lane_width == 1 { 2 } else { 1 }
    }

    /// Rows of the rail that show time.
    pub fn rail_rows(&self) -> u16 {
        if self.rail.width == 0 { 0 } else { self.rail.height.saturating_sub(self.rail_head()) }
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn nothing_leaves_the_terminal() {
        for width in 0..220 {
            for height in 0..60 {
                for (hosts, pane) in [(0, PanePlace::Auto), (3, PanePlace::Beside), (50, PanePlace::Below)] {
                    let layout = Layout::of(width, height, hosts, Some(pane));
                    for area in
                        [layout.top, layout.tabs, layout.rail, layout.middle, layout.reading, layout.line, layout.hints]
                    {
                        assert!(area.width == 0 || area.right() <= width, "{width}x{height} {area:?}");
                        assert!(area.height == 0 || area.bottom() <= height, "{width}x{height} {area:?}");
                    }
                    assert!(!layout.middle.intersects(layout.reading), "{width}x{height}");
                }
            }
        }
    }

    #[test]
    fn panes_fold_away() {
        let at = |width, height| Layout::of(width, height, 3, Some(PanePlace::Auto));
        assert!(at(160, 50).reading.x > at(160, 50).middle.x && at(160, 50).rail.width > 0);
        assert!(at(100, 30).reading.y > at(100, 30).middle.y, "under the view");
        assert!(at(99, 30).reading.width == 0 && at(99, 30).rail.width > 0);
        assert!(at(69, 30).rail.width == 0);
        assert!(at(60, 20).middle.height >= 14);
        assert!(at(20, 5).middle.height >= 4);
    }
}
