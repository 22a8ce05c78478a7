//! Lenses: filters with a name, to be kept and shared. Some ship with the program; others lie as TOML files in the folder `lenses` of
//! the configuration, or in the logbook of a case.

use std::path::PathBuf;

use serde::{Deserialize, Serialize};

use super::Filter;
use crate::clock::Zone;
use crate::code::Catalogues;
use crate::logbook::SavedFilter;
use crate::{Error, Result, platform};

/// A named filter.
#[derive(Clone, Debug, PartialEq, Eq, Serialize, Deserialize)]
#[serde(deny_unknown_fields)]
pub struct Lens {
    /// Its name.
    pub name: String,
    /// The question that it answers.
    #[serde(default, skip_serializing_if = "String::is_empty")]
    pub about: String,
    /// The filter.
    pub filter: String,
}

impl From<SavedFilter> for Lens {
    fn from(saved: SavedFilter) -> Self {
        Self { name: saved.name, about: String::new(), filter: saved.filter }
    }
}

/// The lenses that can be used, and what is wrong with others.
#[derive(Clone, Debug, Default)]
pub struct Lenses {
    /// Good ones, in the order in which they are offered.
    pub good: Vec<Lens>,
    /// File and mistake.
    pub wrong: Vec<(String, String)>,
}

#[derive(Deserialize)]
struct LensFile {
    lens: Vec<Lens>,
}

const SHIPPED: &str = include_str!("lenses.toml");

impl Lenses {
    /// Those that ship with the program, and those of the user; `own` are the catalogues whose codes their filters may name.
    pub fn load(own: &Catalogues) -> Self {
        let mut lenses = Self::default();
        match toml::from_str::<LensFile>(SHIPPED) {
            Ok(file) => lenses.good = file.lens,
            Err(error) => lenses.wrong.push(("lenses.toml".into(), error.to_string())),
        }
        for (file, text) in Self::folder().map_or(Vec::new(), |folder| platform::toml_texts(&folder)) {
            match text.map_err(|error| Error::new(error.to_string())).and_then(|text| Lens::parse(&text, own)) {
                Ok(lens) => lenses.add(lens),
                Err(error) => lenses.wrong.push((file, error.to_string())),
            }
        }
        lenses
    }

    /// Adds one; it takes the place of one with the same name.
    pub fn add(&mut self, lens: impl Into<Lens>) {
        let lens = lens.into();
        match self.good.iter_mut().find(|other| other.name == lens.name) {
            Some(other) => *other = lens,
            None => self.good.push(lens),
        }
    }

    /// Where the user's lie.
    pub fn folder() -> Option<PathBuf> {
        platform::config_dir().map(|folder| folder.join("lenses"))
    }

    /// The lens of a name.
    ///
    /// # Errors
    /// When there is none, with those that there are.
    pub fn by_name(&self, name: &str) -> Result<&Lens> {
        self.good.iter().find(|lens| lens.name == name).ok_or_else(|| {
            let known: Vec<&str> = self.good.iter().map(|lens| lens.name.as_str()).collect();
            Error::new(format!("no lens is called \"{name}\"; there are {}", known.join(", ")))
        })
    }
}

impl Lens {
    /// Reads one lens from TOML; `own` are the catalogues whose codes its filter may name.
    ///
    /// # Errors
    /// When it is none, or its filter is wrong; with the place.
    pub fn parse(text: &str, own: &Catalogues) -> Result<Self> {
        let lens: Self = toml::from_str(text).map_err(|error| Error::new(error.to_string().trim_end().to_owned()))?;
        if let Err(wrong) = Filter::parse_with(&lens.filter, &Zone::utc(), own) {
            return Err(Error::new(format!("lens {}, filter: at {}: {}", lens.name, wrong.at + 1, wrong.message)));
        }
        Ok(lens)
    }

    /// The lens as TOML, as a file of its own.
    ///
    /// # Errors
    /// When it cannot be written as TOML.
    pub fn to_toml(&self) -> Result<String> {
        toml::to_string(self).map_err(|error| Error::new(format!("lens {}: {error}", self.name)))
    }

    /// Writes it into the user's folder, where every case offers it; gives the file.
    ///
    /// # Errors
    /// When there is no such folder, or it cannot be written.
    pub fn keep(&self) -> Result<PathBuf> {
        let folder = Lenses::folder().ok_or_else(|| Error::new("no folder for the configuration: set HOME"))?;
        std::fs::create_dir_all(&folder).map_err(|error| Error::at(&folder, "cannot make the folder", error))?;
        let plain: String = self.name.chars().map(|c| if c.is_alphanumeric() { c } else { '-' }).collect();
        let path = folder.join(format!("{plain}.toml"));
        std::fs::write(&path, self.to_toml()?).map_err(|error| Error::at(&path, "cannot write", error))?;
        Ok(path)
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::code::NO_CATALOGUES;

    #[test]
    fn shipped_lenses_are_good() {
        let shipped: LensFile = toml::from_str(SHIPPED).unwrap();
        assert!(shipped.lens.len() >= 5);
        for lens in shipped.lens {
            assert_eq!(Lens::parse(&lens.to_toml().unwrap(), &NO_CATALOGUES).unwrap(), lens);
            assert!(!lens.about.is_empty());
        }
    }

    #[test]
    fn mistakes_are_named() {
        let error = Lens::parse("name = \"x\"\nfilter = \"level>=loud\"", &NO_CATALOGUES).unwrap_err().to_string();
        assert!(error.contains("lens x, filter: at 8: \"loud\" is not a level"), "{error}");
        assert!(Lens::parse("name = ", &NO_CATALOGUES).unwrap_err().to_string().contains("line 1"));
        assert!(Lenses::load(&NO_CATALOGUES).by_name("nothing").unwrap_err().to_string().contains("storage"));
    }
}
