//! Wiping what is kept of a case to be fast.

use std::path::PathBuf;

use super::{Case, Options, index};
use crate::work::Work;
use crate::{Error, Result, cache, platform};

/// Removes what a box or other paths left in the cache: unpacked, decoded and indexed. Gives the bytes.
///
/// # Errors
/// When the paths cannot be opened, or something cannot be removed.
pub fn forget(paths: &[PathBuf], work: &Work) -> Result<u64> {
    let Some(folder) = platform::cache_dir() else { return Ok(0) };
    let case = Case::open(paths, Options::default(), work)?;
    let mut entries: Vec<PathBuf> = Vec::new();
    let others =
        case.documents.iter().map(|other| &other.path).chain(case.programs.iter().map(|program| &program.path));
    let places = case.sources.iter().map(|source| &source.path).chain(others);
    for place in places {
        entries.extend(cache::entry_of(&folder, place));
        entries.extend(index::folder_of(place));
    }
    entries.sort();
    entries.dedup();
    let mut bytes = 0;
    for entry in entries.iter().filter(|entry| entry.starts_with(&folder) && entry.exists()) {
        bytes += cache::size_of(entry);
        std::fs::remove_dir_all(entry).map_err(|error| Error::at(entry, "cannot remove", error))?;
    }
    Ok(bytes)
}
