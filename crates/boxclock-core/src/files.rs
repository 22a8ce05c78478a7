//! The regular files below a path.

use std::collections::HashSet;
use std::path::{Path, PathBuf};
use std::time::UNIX_EPOCH;

use crate::trouble::LeftOut;
use crate::{Error, Result, limits, platform};

/// A file found below a path.
#[derive(Clone, Debug)]
pub struct FileFound {
    /// Where it is.
    pub path: PathBuf,
    /// Its name: the path as given, with what is below it.
    pub name: String,
    /// When it was last modified, UTC nanoseconds.
    pub modified: i64,
    /// Its size in bytes.
    pub len_bytes: u64,
}

/// Lists the regular files at or below `path`, in order of name; what cannot be read goes to `left_out`.
///
/// Links to files are followed, each file is listed once. Folder loops, FIFOs, sockets and devices are left out.
///
/// # Errors
/// When `path` itself does not exist or cannot be read.
pub fn find_files(path: &Path, left_out: &mut Vec<LeftOut>) -> Result<Vec<FileFound>> {
    find_files_where(path, left_out, &|_| true)
}

/// As [`find_files`], but enters only the folders that `enter` accepts.
///
/// # Errors
/// When `path` itself does not exist or cannot be read.
pub fn find_files_where(
    path: &Path,
    left_out: &mut Vec<LeftOut>,
    enter: &dyn Fn(&Path) -> bool,
) -> Result<Vec<FileFound>> {
    let top = std::fs::metadata(path).map_err(|error| cannot_read(path, error))?;
    if top.is_dir() {
        std::fs::read_dir(path).map_err(|error| cannot_read(path, error))?;
    }
    let mut seen = HashSet::new();
    let mut files = Vec::new();
    let walk = walkdir::WalkDir::new(path).follow_links(true).max_depth(limits::FOLDER_DEPTH).sort_by_file_name();
    let walk = walk.into_iter().filter_entry(|entry| !entry.file_type().is_dir() || enter(entry.path()));
    for entry in walk {
        let entry = match entry {
            Ok(entry) => entry,
            Err(error) => {
                let name = error.path().unwrap_or(path).display().to_string();
                let reason = if error.loop_ancestor().is_some() {
                    "a link that leads back to a folder above it".to_owned()
                } else if error.path().is_some_and(|path| path.is_symlink() && !path.exists()) {
                    "a link to nothing".to_owned()
                } else {
                    error.io_error().map_or_else(|| error.to_string(), ToString::to_string)
                };
                left_out.push(LeftOut { path: name, reason });
                continue;
            }
        };
        let kind = entry.file_type();
        let name = entry.path().to_string_lossy().into_owned();
        if kind.is_dir() {
            if entry.depth() == limits::FOLDER_DEPTH {
                let reason = format!("folders are entered {} levels deep", limits::FOLDER_DEPTH);
                left_out.push(LeftOut { path: name, reason });
            }
            continue;
        }
        if let Some(what) = platform::special_kind(kind) {
            left_out.push(LeftOut { path: name, reason: format!("{what}, not a file") });
            continue;
        }
        if files.len() >= limits::FILES {
            left_out.push(LeftOut { path: name, reason: format!("more than {} files", limits::FILES) });
            break;
        }
        let same_file = std::fs::canonicalize(entry.path()).unwrap_or_else(|_| entry.path().to_path_buf());
        if !seen.insert(same_file) {
            continue;
        }
        match entry.metadata() {
            Ok(data) => files.push(FileFound {
                path: entry.path().to_path_buf(),
                name,
                modified: modified_ns(&data),
                len_bytes: data.len(),
            }),
            Err(error) => left_out.push(LeftOut { path: name, reason: error.to_string() }),
        }
    }
    Ok(files)
}

fn modified_ns(data: &std::fs::Metadata) -> i64 {
    let since = data.modified().ok().and_then(|time| time.duration_since(UNIX_EPOCH).ok());
    since.and_then(|since| i64::try_from(since.as_nanos()).ok()).unwrap_or(0)
}

/// Says why a path given by the user cannot be used.
pub(crate) fn cannot_read(path: &Path, error: std::io::Error) -> Error {
    if error.kind() == std::io::ErrorKind::NotFound {
        return Error::new(format!("no such file or folder: {}", path.display()));
    }
    Error::at(path, "cannot read", error)
}
