//! The user's settings: `settings.toml` in the configuration folder. Keys, theme, zone, form of times, columns.
//!
//! ```toml
//! theme = "light"            # dark, light; detected unless it is set
//! colours = 16               # 256, 16, 0
//! zone = "Europe/Lisbon"     # in which times are shown
//! time = "date-time"         # time, date-time
//! columns = "time level host:10 component"
//! pane = "below"             # auto, beside, below
//! author = "night desk"     # who writes the reports; $BOXCLOCK_AUTHOR, else the account's name
//! mouse = false              # leaves the mouse to the terminal, for its own selection
//!
//! [keys]
//! next-problem = ["]", "F8"]
//! ```

use std::collections::BTreeMap;

use boxclock_core::clock::Zone;
use boxclock_core::{Error, Result, platform};
use serde::Deserialize;

use crate::layout::PanePlace;
use crate::stream::{Column, parse_columns};

/// How times are shown.
#[derive(Clone, Copy, Debug, Default, PartialEq, Eq, Deserialize)]
#[serde(rename_all = "kebab-case")]
pub enum TimeForm {
    /// The time of the day.
    #[default]
    Time,
    /// With the date.
    DateTime,
}

/// The ground of the terminal.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Deserialize)]
#[serde(rename_all = "kebab-case")]
pub enum Ground {
    Dark,
    Light,
}

/// What the settings say.
#[derive(Clone, Debug, Default)]
pub struct Settings {
    pub ground: Option<Ground>,
    pub colours: Option<u16>,
    pub zone: Option<Zone>,
    pub time: TimeForm,
    pub columns: Option<Vec<(Column, usize)>>,
    /// Where the reading pane stands.
    pub pane: PanePlace,
    /// Whether the mouse is left to the terminal.
    pub no_mouse: bool,
    /// Who writes the reports.
    pub author: Option<String>,
    /// Keys by the name of their command.
    pub keys: BTreeMap<String, Vec<String>>,
}

#[derive(Deserialize)]
#[serde(deny_unknown_fields)]
struct File {
    theme: Option<Ground>,
    colours: Option<u16>,
    zone: Option<String>,
    #[serde(default)]
    time: TimeForm,
    columns: Option<String>,
    mouse: Option<bool>,
    author: Option<String>,
    #[serde(default)]
    pane: PanePlace,
    #[serde(default)]
    keys: BTreeMap<String, Vec<String>>,
}

impl Settings {
    /// Those of the user's file; the usual ones where there is none.
    ///
    /// # Errors
    /// When the file cannot be read or says something that is not known, with the place.
    pub fn load() -> Result<Self> {
        let mut settings = Self::of_file()?;
        settings.author = settings.author.or_else(platform::author);
        Ok(settings)
    }

    fn of_file() -> Result<Self> {
        let Some(path) = platform::config_dir().map(|folder| folder.join("settings.toml")) else {
            return Ok(Self::default());
        };
        match std::fs::read_to_string(&path) {
            Ok(text) => Self::parse(&text).map_err(|error| Error::new(format!("{}: {error}", path.display()))),
            Err(error) if error.kind() == std::io::ErrorKind::NotFound => Ok(Self::default()),
            Err(error) => Err(Error::at(&path, "cannot read", error)),
        }
    }

    /// Reads settings.
    ///
    /// # Errors
    /// When the text says something that is not known.
    pub fn parse(text: &str) -> Result<Self> {
        let file: File = toml::from_str(text).map_err(|error| Error::new(error.to_string().trim_end().to_owned()))?;
        if let Some(wrong) = file.colours.filter(|count| ![0, 16, 256].contains(count)) {
            return Err(Error::new(format!("colours = {wrong}: write 256, 16 or 0")));
        }
        Ok(Self {
            ground: file.theme,
            colours: file.colours,
            zone: file.zone.as_deref().map(Zone::parse).transpose()?,
            time: file.time,
            columns: file.columns.as_deref().map(parse_columns).transpose()?,
            pane: file.pane,
            no_mouse: file.mouse == Some(false),
            author: file.author,
            keys: file.keys,
        })
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn settings_are_read() {
        let text = "theme = \"light\"\ncolours = 16\nzone = \"Europe/Lisbon\"\ntime = \"date-time\"\n\
            columns = \"time level\"\nmouse = false\nauthor = \"night desk\"\n[keys]\nnext-problem = [\"F8\"]\n";
        let settings = Settings::parse(text).unwrap();
        assert_eq!(
            (settings.ground, settings.colours, settings.time),
            (Some(Ground::Light), Some(16), TimeForm::DateTime)
        );
        assert!(settings.no_mouse && !Settings::parse("").unwrap().no_mouse);
        assert_eq!(settings.zone.unwrap().name(), "Europe/Lisbon");
        assert_eq!(settings.columns.unwrap().len(), 2);
        assert_eq!(settings.keys["next-problem"], ["F8"]);
        assert_eq!(settings.author.as_deref(), Some("night desk"));
    }

    #[test]
    fn mistakes_are_named() {
        for (text, said) in [
            ("theme = \"blue\"", "line 1"),
            ("colours = 7", "256, 16 or 0"),
            ("zone = \"Nowhere\"", "Nowhere"),
            ("pane = \"left\"", "line 1"),
            ("columns = \"colour\"", "no column"),
            ("themes = \"dark\"", "themes"),
        ] {
            let error = Settings::parse(text).unwrap_err().to_string();
            assert!(error.contains(said), "{text}: {error}");
        }
    }
}
