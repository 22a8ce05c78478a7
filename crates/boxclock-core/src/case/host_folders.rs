//! A folder that holds one folder for each host, as people lay out what they were sent.

use std::collections::{BTreeMap, BTreeSet};
use std::path::{Path, PathBuf};

use super::Options;

/// Folders that can be hosts of one case.
const MOST_HOSTS: usize = 256;
/// Entries that are looked at in all folders together, and how deep: this is looked for whenever a folder is opened.
const MOST_ENTRIES: usize = 8000;
const DEPTH: usize = 6;
/// Folders that stand at the root of a system.
const ROOTS: [&str; 6] = ["var", "etc", "windows", "programdata", "library", "private"];

/// The folders of a case that look like one host each, with the labels that they would have; empty where the case has hosts already,
/// or nothing speaks for it.
///
/// What speaks for it: the folder holds folders only, and two of them hold a file of the same name at the same place, or the root of
/// a system.
pub fn host_folders(paths: &[PathBuf], options: &Options) -> Vec<(String, PathBuf)> {
    let [folder] = paths else { return Vec::new() };
    if !options.hosts.is_empty() || !folder.is_dir() || folder.join("hosts").is_dir() {
        return Vec::new();
    }
    let Ok(entries) = std::fs::read_dir(folder) else { return Vec::new() };
    let mut folders = BTreeMap::new();
    for entry in entries.flatten() {
        let name = entry.file_name().to_string_lossy().into_owned();
        match entry.file_type() {
            Ok(kind) if kind.is_dir() => folders.insert(name, entry.path()),
            // A note or a hidden file beside them says nothing.
            Ok(_) if name.starts_with('.') || is_note(&name) => None,
            _ => return Vec::new(),
        };
    }
    if !(2..=MOST_HOSTS).contains(&folders.len()) {
        return Vec::new();
    }
    let (mut seen, mut shared, mut roots) = (BTreeSet::new(), false, 0);
    for path in folders.values() {
        let files = files_below(path, MOST_ENTRIES / folders.len());
        if files.is_empty() {
            return Vec::new();
        }
        roots += usize::from(files.iter().any(|file| {
            let first = file.split('/').next().unwrap_or_default();
            file.contains('/') && ROOTS.contains(&first)
        }));
        shared |= files.iter().any(|file| seen.contains(file));
        seen.extend(files);
    }
    if shared || roots >= 2 { folders.into_iter().collect() } else { Vec::new() }
}

/// Whether a file is what somebody wrote to what was sent.
fn is_note(name: &str) -> bool {
    let lower = name.to_lowercase();
    if lower.contains(".logbook") {
        return true;
    }
    ["readme", "notes", "note", "story", "sha256", "md5"].iter().any(|start| lower.starts_with(start))
}

/// The paths of the files below a folder, from there, in lower case; of so many entries at most.
fn files_below(folder: &Path, most: usize) -> Vec<String> {
    let entries = walkdir::WalkDir::new(folder).max_depth(DEPTH).into_iter().flatten().take(most);
    let files = entries.filter(|entry| entry.file_type().is_file());
    let below =
        files.filter_map(|entry| Some(entry.path().strip_prefix(folder).ok()?.to_string_lossy().to_lowercase()));
    below.collect()
}

#[cfg(test)]
mod tests {
    use super::*;

    fn offered(files: &[&str]) -> Vec<String> {
        let folder = tempfile::tempdir().unwrap();
        for file in files {
            let path = folder.path().join(file);
            std::fs::create_dir_all(path.parent().unwrap()).unwrap();
            std::fs::write(path, "2026-04-12T02:31:07Z INFO app: fed\n").unwrap();
        }
        let found = host_folders(&[folder.path().to_path_buf()], &Options::default());
        found.into_iter().map(|(label, _)| label).collect()
    }

    #[test]
    fn one_folder_for_each_host_is_offered() {
        assert_eq!(offered(&["gw/syslog", "desk/syslog", "desk/app.log"]), ["desk", "gw"]);
        assert_eq!(offered(&["gw/var/log/messages", "desk/Windows/setup.log"]), ["desk", "gw"]);
        assert_eq!(offered(&["gw/syslog", "desk/syslog", "README.txt"]), ["desk", "gw"], "a note beside them");
    }

    #[test]
    fn other_folders_are_not() {
        assert!(offered(&["app/app.log", "system/syslog"]).is_empty(), "classes of one host");
        assert!(offered(&["gw/syslog", "desk/syslog", "case.log"]).is_empty(), "a log beside them");
        assert!(offered(&["hosts/gw/syslog", "hosts/desk/syslog"]).is_empty(), "has hosts already");
        assert!(offered(&["gw/syslog"]).is_empty());
        assert!(host_folders(&[], &Options::default()).is_empty());
    }
}
