//! Hues and shapes. Severity is both, so that the screen can be read without colour.

use boxclock_core::severity::Severity;
use ratatui::style::{Color, Modifier, Style};

/// How many colours the terminal has.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
enum Depth {
    None,
    Sixteen,
    Many,
}

/// A hue of the Okabe-Ito set, which people with any colour vision can tell apart.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum Hue {
    Orange,
    Sky,
    Green,
    Yellow,
    Blue,
    Vermilion,
    Purple,
}

impl Hue {
    /// Its place in the 256 colours, and the nearest of the 16.
    fn indexes(self) -> (u8, Color) {
        match self {
            Self::Orange => (214, Color::Yellow),
            Self::Sky => (74, Color::LightBlue),
            Self::Green => (36, Color::Green),
            Self::Yellow => (178, Color::LightYellow),
            Self::Blue => (32, Color::Cyan),
            Self::Vermilion => (202, Color::Red),
            Self::Purple => (175, Color::Magenta),
        }
    }
}

/// The look, as far as the terminal can show it.
#[derive(Clone, Copy, Debug)]
pub struct Theme {
    depth: Depth,
}

impl Theme {
    /// What the environment says: `NO_COLOR`, `TERM`, `COLORTERM`.
    pub fn from_environment() -> Self {
        let set = |name| std::env::var(name).unwrap_or_default();
        let term = set("TERM");
        let depth = if !set("NO_COLOR").is_empty() || term == "dumb" {
            Depth::None
        } else if !set("COLORTERM").is_empty() || term.contains("256") || term.contains("direct") {
            Depth::Many
        } else {
            Depth::Sixteen
        };
        Self { depth }
    }

    /// Without colour.
    #[cfg(test)]
    pub fn plain() -> Self {
        Self { depth: Depth::None }
    }

    /// Text in a hue.
    pub fn hue(self, hue: Hue) -> Style {
        let (index, near) = hue.indexes();
        match self.depth {
            Depth::None => Style::new(),
            Depth::Sixteen => Style::new().fg(near),
            Depth::Many => Style::new().fg(Color::Indexed(index)),
        }
    }

    /// Text that stands back: labels, rules, hints.
    pub fn faint(self) -> Style {
        match self.depth {
            Depth::None => Style::new().add_modifier(Modifier::DIM),
            Depth::Sixteen => Style::new().fg(Color::DarkGray),
            // A middle grey that keeps 4.5:1 on black and nearly so on white.
            Depth::Many => Style::new().fg(Color::Indexed(245)),
        }
    }

    /// Text that stands out.
    pub fn strong(self) -> Style {
        Style::new().add_modifier(Modifier::BOLD)
    }

    /// The chosen row.
    pub fn chosen(self) -> Style {
        Style::new().add_modifier(Modifier::REVERSED)
    }

    /// The hue of a severity.
    pub fn severity(self, severity: Severity) -> Style {
        match severity {
            Severity(0..=8) => self.faint(),
            Severity(9..=12) => Style::new(),
            Severity(13..=16) => self.hue(Hue::Orange),
            Severity(17..=20) => self.hue(Hue::Vermilion),
            _ => self.hue(Hue::Vermilion).add_modifier(Modifier::BOLD),
        }
    }

    /// A steady hue for the host of that number.
    pub fn host(self, number: u32) -> Style {
        const HUES: [Hue; 5] = [Hue::Sky, Hue::Green, Hue::Purple, Hue::Yellow, Hue::Blue];
        self.hue(HUES[(number as usize).wrapping_sub(1) % HUES.len()])
    }
}

/// The shape of a severity; `suspect` is bad-looking text in a source without severities.
pub fn shape(severity: Severity, suspect: bool, dump: bool) -> &'static str {
    match severity {
        _ if dump => "✕",
        Severity(0) if suspect => "◌",
        Severity(0..=12) => " ",
        Severity(13..=16) => "△",
        Severity(17..=20) => "▲",
        _ => "◆",
    }
}
