//! Finding files below a folder of this machine: all of them, or those that recipes ask for.

use std::collections::HashSet;
use std::path::Path;

use globset::GlobMatcher;

use super::recipe::{Files, Matchers, Recipe, System, glob_of};
use crate::case::{FileFound, LeftOut, find_files, find_files_where};
use crate::{Error, Result};

/// A file below a root.
pub(super) struct Found<'r> {
    pub file: FileFound,
    /// Its path below the root, with `/`.
    pub below: String,
    /// The recipe that asks for it, and which entry of it.
    pub by: Option<(&'r Recipe, &'r Files)>,
}

/// A glob in parts, so that only folders are entered that it can lead through.
struct Parts(Vec<Part>);

enum Part {
    AnyDepth,
    Name(GlobMatcher),
}

impl Parts {
    fn new(glob: &str, system: System) -> Self {
        let part = |part: &str| match part {
            "**" => Part::AnyDepth,
            // Recipes are checked when they are read: each part is a good glob.
            _ => glob_of(part, system).map_or(Part::AnyDepth, Part::Name),
        };
        Self(glob.split('/').map(part).collect())
    }

    /// Whether a file that the glob means can stand below this folder.
    fn leads_through(&self, folder: &[&str]) -> bool {
        for (index, name) in folder.iter().enumerate() {
            match self.0.get(index) {
                None => return false,
                Some(Part::AnyDepth) => return true,
                Some(Part::Name(glob)) if !glob.is_match(name) => return false,
                Some(Part::Name(_)) => {}
            }
        }
        self.0.len() > folder.len()
    }
}

/// Names below the root, with `/`.
fn below(root: &Path, path: &Path) -> String {
    let below = path.strip_prefix(root).unwrap_or(path);
    below.components().map(|part| part.as_os_str().to_string_lossy()).collect::<Vec<_>>().join("/")
}

/// All files at or below `root`; links that lead out of it are left out.
///
/// # Errors
/// When `root` cannot be read at all.
pub(super) fn all_files(root: &Path, left_out: &mut Vec<LeftOut>) -> Result<Vec<Found<'static>>> {
    let files = find_files(root, left_out)?;
    let is_folder = root.is_dir();
    let name = |file: &FileFound| {
        let name = file.path.file_name().map(|name| name.to_string_lossy().into_owned());
        name.filter(|_| !is_folder).unwrap_or_else(|| below(root, &file.path))
    };
    inside(root, files.into_iter().map(|file| Found { below: name(&file), file, by: None }), left_out)
}

/// The files below `root` that recipes ask for; the first recipe that knows a file counts.
///
/// # Errors
/// When `root` cannot be read at all.
pub(super) fn recipe_files<'r>(
    root: &Path,
    recipes: &[&'r Recipe],
    left_out: &mut Vec<LeftOut>,
) -> Result<Vec<Found<'r>>> {
    let globs = recipes.iter().flat_map(|recipe| {
        recipe.files.iter().flat_map(|files| files.paths.iter().map(|glob| Parts::new(glob, recipe.system)))
    });
    let globs: Vec<Parts> = globs.collect();
    let files = find_files_where(root, left_out, &|folder| {
        let name = below(root, folder);
        let parts: Vec<&str> = name.split('/').filter(|part| !part.is_empty()).collect();
        globs.iter().any(|glob| glob.leads_through(&parts))
    })?;
    let matchers = Matchers::new(recipes);
    // What cannot be read but no recipe would take is not missed.
    left_out.retain(|left| {
        let name = below(root, Path::new(&left.path));
        let parts: Vec<&str> = name.split('/').collect();
        globs.iter().any(|glob| glob.leads_through(&parts)) || matchers.entry_for(&name).is_some()
    });
    let found = files.into_iter().filter_map(|file| {
        let below = below(root, &file.path);
        let by = matchers.entry_for(&below)?;
        Some(Found { file, below, by: Some(by) })
    });
    inside(root, found, left_out)
}

/// Those that lie below the root, also where they are links.
pub(super) fn inside<'r>(
    root: &Path,
    found: impl Iterator<Item = Found<'r>>,
    left_out: &mut Vec<LeftOut>,
) -> Result<Vec<Found<'r>>> {
    let real_root = std::fs::canonicalize(root).map_err(|error| Error::at(root, "cannot read", error))?;
    let mut kept = Vec::new();
    for found in found {
        let real = std::fs::canonicalize(&found.file.path).unwrap_or_else(|_| found.file.path.clone());
        if real.starts_with(&real_root) {
            kept.push(found);
        } else {
            let reason = format!("a link out of the folder, to {}", real.display());
            left_out.push(LeftOut { path: found.file.name, reason });
        }
    }
    Ok(kept)
}

/// Whether something exists below a root that a sign of a recipe means.
pub(super) fn has_sign(root: &Path, sign: &str, system: System) -> bool {
    let mut folders: HashSet<std::path::PathBuf> = HashSet::from([root.to_path_buf()]);
    for part in sign.split('/') {
        let Ok(glob) = glob_of(part, system) else { return false };
        let plain = system != System::Windows && !part.contains(['*', '?', '[', '{']);
        let next = folders.iter().flat_map(|folder| {
            if plain {
                return vec![folder.join(part)].into_iter().filter(|path| path.exists()).collect::<Vec<_>>();
            }
            let entries = std::fs::read_dir(folder).into_iter().flatten().flatten();
            entries.filter(|entry| glob.is_match(entry.file_name())).map(|entry| entry.path()).collect()
        });
        folders = next.take(1000).collect();
    }
    !folders.is_empty()
}
