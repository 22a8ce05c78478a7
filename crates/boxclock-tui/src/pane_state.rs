//! The state of the reading pane: the chosen event in detail, where it leads, and how it is shown.

use boxclock_core::event::Row;
use boxclock_core::format::Record;
use boxclock_core::pattern::PatternId;

/// Rows that one key scrolls the pane by.
pub const PANE_STEP: isize = 3;

/// How the chosen event is shown.
#[derive(Clone, Copy, Debug, Default, PartialEq, Eq)]
pub enum DetailMode {
    /// In words.
    #[default]
    Words,
    /// As the XML or JSON that it is.
    Structured,
    /// As its bytes.
    Raw,
}

/// The chosen event in detail.
pub struct Detail {
    pub row: Row,
    pub record: Record,
    /// The record as XML or JSON, where its format is that.
    pub structured: Option<String>,
    /// The start of its bytes.
    pub bytes: Vec<u8>,
    /// The template of its pattern, and the pattern's number.
    pub template: String,
    pub pattern: PatternId,
}

/// Where a link leads.
#[derive(Clone, Debug)]
pub enum LinkTarget {
    Row(Row),
    /// A piece that is added to the filter.
    Only(String),
}

/// A place that the pane leads to.
#[derive(Clone, Debug)]
pub struct PaneLink {
    /// What it is, in two lines at most.
    pub label: String,
    pub target: LinkTarget,
}

/// The state.
#[derive(Default)]
pub struct PaneState {
    /// Whether it stands beside the view, where there is room.
    pub is_shown: bool,
    /// Whether it lies over the view, in a terminal too narrow for both.
    pub is_over: bool,
    /// The chosen event; `None` until the next frame has been prepared.
    pub detail: Option<Detail>,
    pub mode: DetailMode,
    /// Lines that are scrolled away.
    pub top: usize,
    pub links: Vec<PaneLink>,
    /// The chosen link.
    pub link: Option<usize>,
}
