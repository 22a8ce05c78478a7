//! Hues and shapes. Severity is both, so that the screen can be read without colour.

use boxclock_core::code::{Catalogues, Code, Outcome};
use boxclock_core::logbook::PinKind;
use boxclock_core::severity::Severity;
use ratatui::style::{Color, Modifier, Style};

use crate::settings::{Ground, Settings};

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
    /// Its place in the 256 colours on a dark and on a light ground, and the nearest of the 16. Each keeps a contrast of 4.5:1,
    /// see `docs/interface.md`.
    fn indexes(self) -> (u8, u8, Color) {
        match self {
            Self::Orange => (214, 130, Color::Yellow),
            Self::Sky => (74, 25, Color::LightBlue),
            Self::Green => (36, 22, Color::Green),
            Self::Yellow => (178, 94, Color::LightYellow),
            Self::Blue => (32, 19, Color::Cyan),
            Self::Vermilion => (202, 160, Color::Red),
            Self::Purple => (175, 90, Color::Magenta),
        }
    }
}

/// The look, as far as the terminal can show it.
#[derive(Clone, Copy, Debug)]
pub struct Theme {
    depth: Depth,
    light: bool,
}

impl Theme {
    /// What the settings say, else the environment: `NO_COLOR`, `TERM`, `COLORTERM`, `COLORFGBG`.
    pub fn of(settings: &Settings) -> Self {
        let set = |name| std::env::var(name).unwrap_or_default();
        let term = set("TERM");
        let depth = if !set("NO_COLOR").is_empty() || term == "dumb" {
            Depth::None
        } else if !set("COLORTERM").is_empty() || term.contains("256") || term.contains("direct") {
            Depth::Many
        } else {
            Depth::Sixteen
        };
        // People who ask for no colour anywhere are asked no more.
        let depth = match settings.colours {
            Some(0) => Depth::None,
            Some(16) if depth != Depth::None => Depth::Sixteen,
            Some(256) if depth != Depth::None => Depth::Many,
            _ => depth,
        };
        // The second number is the ground: 7 and 15 are white.
        let ground = set("COLORFGBG");
        let is_light = matches!(ground.rsplit(';').next(), Some("7" | "15"));
        Self { depth, light: settings.ground.map_or(is_light, |ground| ground == Ground::Light) }
    }

    /// Without colour.
    #[cfg(test)]
    pub fn plain() -> Self {
        Self { depth: Depth::None, light: false }
    }

    /// With 256 colours on a dark ground.
    #[cfg(test)]
    pub fn coloured() -> Self {
        Self { depth: Depth::Many, light: false }
    }

    /// Text in a hue.
    pub fn hue(self, hue: Hue) -> Style {
        let (dark, light, near) = hue.indexes();
        match self.depth {
            Depth::None => Style::new(),
            Depth::Sixteen => Style::new().fg(near),
            Depth::Many => Style::new().fg(Color::Indexed(if self.light { light } else { dark })),
        }
    }

    /// The hue of an ink, by its place.
    pub fn ink(self, place: u8) -> Style {
        const HUES: [Hue; 7] = [Hue::Orange, Hue::Sky, Hue::Green, Hue::Yellow, Hue::Blue, Hue::Vermilion, Hue::Purple];
        let style = HUES.get(usize::from(place)).map_or(Style::new(), |hue| self.hue(*hue));
        style.add_modifier(Modifier::UNDERLINED)
    }

    /// The hue of a pin: its own, else that of its kind.
    pub fn pin(self, (kind, colour): (PinKind, Option<u8>)) -> Style {
        if let Some(colour) = colour {
            return self.ink(colour).remove_modifier(Modifier::UNDERLINED);
        }
        match kind {
            PinKind::Evidence => self.hue(Hue::Yellow),
            PinKind::Symptom => self.hue(Hue::Sky),
            PinKind::Change => self.hue(Hue::Purple),
            PinKind::Root => self.hue(Hue::Vermilion),
            PinKind::RuledOut => self.faint(),
        }
    }

    /// Text that stands back: labels, rules, hints.
    pub fn faint(self) -> Style {
        match self.depth {
            Depth::None => Style::new().add_modifier(Modifier::DIM),
            Depth::Sixteen => Style::new().fg(Color::DarkGray),
            Depth::Many => Style::new().fg(Color::Indexed(if self.light { 241 } else { 245 })),
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

/// The shape of a severity; `suspect` is text or a code that counts as a problem though the level does not say so.
pub fn shape(severity: Severity, suspect: bool, dump: bool) -> &'static str {
    match severity {
        _ if dump => "✕",
        Severity(0..=12) if suspect => "◌",
        Severity(0..=12) => " ",
        Severity(13..=16) => "△",
        Severity(17..=20) => "▲",
        _ => "◆",
    }
}

/// A failure, a restart that is needed, or neither: a shape and a hue.
pub fn outcome(theme: Theme, code: Code, own: &Catalogues) -> (&'static str, Style) {
    match code.info(own).outcome {
        Outcome::Failure if code.escalates(own) => ("▲", theme.hue(Hue::Vermilion)),
        // Part of healthy work, mostly.
        Outcome::Failure => ("△", theme.hue(Hue::Orange)),
        Outcome::Restart => ("↻", theme.hue(Hue::Orange)),
        Outcome::Success => (" ", theme.faint()),
    }
}

/// The number of an ink, small, so that it does not run into the time behind it.
pub fn ink_mark(place: u8) -> &'static str {
    const MARKS: [&str; 8] = ["¹", "²", "³", "⁴", "⁵", "⁶", "⁷", "⁸"];
    MARKS.get(usize::from(place)).copied().unwrap_or(" ")
}
