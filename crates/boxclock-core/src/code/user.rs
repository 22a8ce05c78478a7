//! The user's own catalogues: TOML or CSV files with codes that no platform's header knows.
//!
//! ```toml
//! [[code]]
//! pattern = "TW-#####"      # each # one digit; or a whole code such as "TW-00417"; or: number = 1042
//! meaning = "A frame was refused by the gateway."
//! causes = "An old driver of the bridge."
//! next = "Compare the versions of driver and console."
//! level = "failure"         # or success, restart
//! like = "win32 5"          # takes what is not said here from another code
//! ```
//!
//! A CSV has the same words in its first line. Each case has a set of its own: what the user's folder and its box hold.

use std::collections::BTreeMap;
use std::path::{Path, PathBuf};
use std::sync::{Arc, Mutex, PoisonError};

use rustc_hash::{FxBuildHasher, FxHashMap};

use super::{Code, Entry, Family};
use crate::{limits, platform};

mod file;
pub use file::Mistake;

/// Where a prefix with so many digits is known.
#[derive(Clone, Debug, PartialEq, Eq)]
struct Shape {
    /// What stands before the hyphen: `TW`.
    prefix: String,
    /// How many digits stand behind it.
    digits: usize,
}

/// A set of catalogues.
#[derive(Debug, Default)]
pub struct Catalogues {
    rows: Vec<(Entry, &'static str)>,
    by_code: FxHashMap<Code, usize>,
    /// By place in `shapes`: the row for every code of that shape.
    by_shape: FxHashMap<usize, usize>,
    shapes: Vec<Shape>,
    /// What was wrong in the files; the rows that it was wrong with are left out.
    pub mistakes: Vec<Mistake>,
}

/// No catalogues: what the platforms' own say is all there is.
pub static NO_CATALOGUES: Catalogues = Catalogues {
    rows: Vec::new(),
    by_code: FxHashMap::with_hasher(FxBuildHasher),
    by_shape: FxHashMap::with_hasher(FxBuildHasher),
    shapes: Vec::new(),
    mistakes: Vec::new(),
};

/// Bits of a code's number that hold its digits; the others say which shape, from 1.
const DIGIT_BITS: u32 = 24;

impl Catalogues {
    /// Reads files: the names to call them by, and their bytes. The first row of a code wins.
    pub fn read(files: &[(String, Vec<u8>)]) -> Self {
        let mut catalogues = Self::default();
        let mut rows = Vec::new();
        for (name, bytes) in files.iter().take(limits::USER_CATALOGUES) {
            file::read(name, bytes, &mut rows, &mut catalogues.mistakes);
        }
        if let Some((name, _)) = files.get(limits::USER_CATALOGUES) {
            let text =
                format!("more than {} catalogues: this one and all after it are left out", limits::USER_CATALOGUES);
            catalogues.mistakes.push(Mistake { file: name.clone(), line: 1, column: 1, text });
        }
        file::resolve(rows, &mut catalogues);
        catalogues
    }

    /// Number of rows.
    pub fn len(&self) -> usize {
        self.rows.len()
    }

    /// Whether there are no rows.
    pub fn is_empty(&self) -> bool {
        self.rows.is_empty()
    }

    fn index(&self, code: Code) -> Option<usize> {
        let shape = || {
            let place = (code.number >> DIGIT_BITS).checked_sub(1).filter(|_| code.family == Family::User)?;
            self.by_shape.get(&(place as usize))
        };
        self.by_code.get(&code).or_else(shape).copied()
    }

    /// The row of a code.
    pub fn entry(&self, code: Code) -> Option<Entry> {
        self.index(code).and_then(|index| self.rows.get(index)).map(|(row, _)| Entry { code, ..*row })
    }

    /// The code of the shape `TW-00417` that a text begins with, and its length.
    pub fn shaped(&self, text: &[u8]) -> Option<(Code, usize)> {
        let hyphen = text.iter().take(limits::USER_PREFIX + 1).position(|byte| *byte == b'-')?;
        let digits = text[hyphen + 1..].iter().take(8).take_while(|byte| byte.is_ascii_digit()).count();
        let place = self
            .shapes
            .iter()
            .position(|shape| shape.digits == digits && shape.prefix.as_bytes() == &text[..hyphen])?;
        let end = hyphen + 1 + digits;
        let inside = text.get(end).is_some_and(|byte| byte.is_ascii_alphanumeric() || *byte == b'_');
        let number = std::str::from_utf8(&text[hyphen + 1..end]).ok()?.parse::<u32>().ok()?;
        let number = (place as u32 + 1) << DIGIT_BITS | number;
        // A whole code alone makes a shape, but only itself is known then.
        let code = Code { family: Family::User, number };
        (!inside && self.index(code).is_some()).then_some((code, end))
    }

    /// The file and line of the user's row of a code.
    pub fn place(&self, code: Code) -> Option<&'static str> {
        self.index(code).and_then(|index| self.rows.get(index)).map(|(_, place)| *place)
    }

    /// The rows.
    pub fn rows(&self) -> impl Iterator<Item = &Entry> {
        self.rows.iter().map(|(row, _)| row)
    }

    /// The code that has this name.
    pub fn by_name(&self, name: &str) -> Option<Code> {
        let mut named = self.rows().filter(|row| !row.name.is_empty());
        named.find(|row| row.name.eq_ignore_ascii_case(name)).map(|row| row.code)
    }

    /// What decides which texts are codes: an index made under others is not valid. Empty where there are no rows.
    pub fn fingerprint(&self) -> String {
        if self.is_empty() {
            return String::new();
        }
        let mut known: Vec<String> = self.rows().map(|row| format!("{:?}", row.code)).collect();
        known.extend(self.shapes.iter().map(|shape| format!("{shape:?}")));
        format!("{:08x}", crc32fast::hash(known.join(" ").as_bytes()))
    }

    /// How a user's code is written.
    pub fn written(&self, number: u32) -> String {
        let digits = number & ((1 << DIGIT_BITS) - 1);
        match (number >> DIGIT_BITS).checked_sub(1).and_then(|place| self.shapes.get(place as usize)) {
            Some(shape) => format!("{}-{digits:0width$}", shape.prefix, width = shape.digits),
            None => digits.to_string(),
        }
    }

    fn shape(&mut self, prefix: &str, digits: usize) -> Option<usize> {
        let shape = Shape { prefix: prefix.to_owned(), digits };
        let known = self.shapes.iter().position(|other| *other == shape);
        known.or_else(|| {
            self.shapes.push(shape);
            (self.shapes.len() < 255).then(|| self.shapes.len() - 1)
        })
    }
}

/// Where the user's catalogues are: the folder `codes` of the configuration.
pub fn folder() -> Option<PathBuf> {
    platform::config_dir().map(|folder| folder.join("codes"))
}

/// The catalogues in folders, in the order of their names. What cannot be listed is in the list itself, to be named.
pub fn files_in(folders: &[PathBuf]) -> Vec<PathBuf> {
    let mut files = Vec::new();
    for folder in folders.iter().filter(|folder| folder.is_dir()) {
        let Ok(entries) = std::fs::read_dir(folder) else {
            files.push(folder.clone());
            continue;
        };
        let known = |path: &PathBuf| {
            path.extension().is_some_and(|kind| kind.eq_ignore_ascii_case("toml") || kind.eq_ignore_ascii_case("csv"))
        };
        let mut listed: Vec<PathBuf> = entries.filter_map(|entry| Some(entry.ok()?.path())).filter(known).collect();
        listed.sort();
        files.append(&mut listed);
    }
    files
}

/// Reads these catalogues. Gives the set, and file and reason of all that is wrong with them and was left out.
///
/// Files with the same bytes give the same set: a case that is followed is opened again and again, and the texts of a set
/// live as long as the program.
pub fn load(paths: &[PathBuf]) -> (Arc<Catalogues>, Vec<(String, String)>) {
    /// Mistakes that are named one by one.
    const MOST_NAMED: usize = 100;
    static KNOWN: Mutex<BTreeMap<u32, Arc<Catalogues>>> = Mutex::new(BTreeMap::new());
    let (mut files, mut wrong) = (Vec::new(), Vec::new());
    for path in paths {
        match read_whole(path) {
            Ok(bytes) => files.push((path.display().to_string(), bytes)),
            Err(reason) => wrong.push((path.display().to_string(), reason)),
        }
    }
    let mut hash = crc32fast::Hasher::new();
    for (name, bytes) in &files {
        hash.update(name.as_bytes());
        hash.update(bytes);
    }
    let mut known = KNOWN.lock().unwrap_or_else(PoisonError::into_inner);
    let set = Arc::clone(known.entry(hash.finalize()).or_insert_with(|| Arc::new(Catalogues::read(&files))));
    wrong.extend(set.mistakes.iter().take(MOST_NAMED).map(|mistake| {
        (mistake.file.clone(), format!("line {}, column {}: {}", mistake.line, mistake.column, mistake.text))
    }));
    if let Some(mistake) = set.mistakes.get(MOST_NAMED) {
        wrong.push((mistake.file.clone(), format!("and {} more mistakes", set.mistakes.len() - MOST_NAMED)));
    }
    (set, wrong)
}

/// The catalogues of the user alone, without those of a case.
pub fn own() -> Arc<Catalogues> {
    load(&files_in(&Vec::from_iter(folder()))).0
}

fn read_whole(path: &Path) -> Result<Vec<u8>, String> {
    let size = std::fs::metadata(path).map_err(|error| error.to_string())?.len();
    if size > limits::USER_CATALOGUE_BYTES {
        return Err(format!("a catalogue of {size} bytes: at most {} are read", limits::USER_CATALOGUE_BYTES));
    }
    platform::read_small(path).map_err(|error| error.to_string())
}

#[cfg(test)]
mod tests;
