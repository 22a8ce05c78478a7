//! The state of the rail: its window, what it shows, and what was asked for.

use std::sync::Arc;

use boxclock_core::timeline::density::Density;

/// Where hits and inks are on the rail.
#[derive(Default)]
pub struct Overlay {
    /// Events of the filter by slice; `None` without filter.
    pub filter: Option<Vec<u32>>,
    /// The first ink of each slice.
    pub inks: Vec<Option<u8>>,
}

/// What a density is asked for: first and last moment, slices, lanes at most, and the host whose sources have lanes.
pub type DensityFor = (i64, i64, usize, usize, Option<u32>);

/// The state.
#[derive(Default)]
pub struct Rail {
    /// The window; `None` for the whole span.
    pub window: Option<(i64, i64)>,
    pub density: Option<Arc<Density>>,
    /// What stands above its lanes.
    pub labels: Vec<String>,
    /// Events without any time near them, which stand at the end of the stream, by lane; empty where there are none.
    pub undated: Vec<u32>,
    /// What the density was asked for.
    pub asked: Option<DensityFor>,
    /// The host whose sources have the lanes.
    pub host: Option<u32>,
    /// What of the filter and the inks lies in the slices of which density.
    pub overlay: Option<(Arc<Density>, Overlay)>,
    /// Whether filter, inks or density have changed since the overlay was asked for.
    pub overlay_is_old: bool,
    /// Where the mouse button went down: a row of the screen.
    pub drag: Option<u16>,
}
