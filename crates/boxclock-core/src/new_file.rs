//! Files that are written for people: whole or not at all, private, and never over evidence.
//!
//! A file is written under a temporary name beside its place, synced, and renamed. Whoever kills the program, or fills the disk,
//! leaves the old file as it was.

use std::fs::Metadata;
use std::io::{self, Read, Write};
use std::path::{Path, PathBuf};
use std::time::{Duration, SystemTime};

use tempfile::NamedTempFile;

use crate::{Error, Result, platform};

/// What the names of unfinished files begin with.
pub(crate) const UNFINISHED: &str = ".boxclock-";

/// Unfinished files and folders that are older than this belong to a program that was killed.
const ABANDONED: Duration = Duration::from_secs(6 * 3600);

/// Files that nothing is written over, each with what it is.
#[derive(Clone, Debug, Default)]
pub struct Protected(pub Vec<(PathBuf, String)>);

/// A file that is being written.
#[derive(Debug)]
pub struct NewFile {
    temporary: NamedTempFile,
    path: PathBuf,
    replace: bool,
}

impl NewFile {
    /// Begins a file at `path`. One that is there already is replaced only with `replace`.
    ///
    /// # Errors
    /// When the path names evidence of the case, a box or a logbook (by whatever name or link), or a file that exists and may not
    /// be replaced, or nothing can be written there.
    pub fn create(path: &Path, protected: &Protected, replace: bool) -> Result<Self> {
        let cannot = |error: io::Error| Error::at(path, "cannot write", error);
        if let Some(reason) = evidence(path, protected) {
            return Err(Error::new(format!("{}: not written: it is {reason}", path.display())));
        }
        match std::fs::symlink_metadata(path) {
            Ok(data) if data.is_dir() => return Err(Error::new(format!("{} is a folder", path.display()))),
            Ok(data) if let Some(what) = platform::special_kind(data.file_type()) => {
                return Err(Error::new(format!("{} is {what}, not a file", path.display())));
            }
            Ok(_) if !replace => {
                return Err(Error::new(format!(
                    "{} exists. Name another file, or replace it with --force",
                    path.display()
                )));
            }
            _ => {}
        }
        let folder = path.parent().filter(|folder| !folder.as_os_str().is_empty()).unwrap_or(Path::new("."));
        sweep(folder, &[UNFINISHED]);
        let temporary = tempfile::Builder::new().prefix(UNFINISHED).tempfile_in(folder).map_err(cannot)?;
        Ok(Self { temporary, path: path.to_path_buf(), replace })
    }

    /// Writes all of a file at once, see [`Self::create`].
    ///
    /// # Errors
    /// As [`Self::create`]; or when the bytes cannot be written.
    pub fn write(path: &Path, protected: &Protected, replace: bool, bytes: &[u8]) -> Result<()> {
        let mut file = Self::create(path, protected, replace)?;
        file.write_all(bytes).map_err(|error| Error::at(path, "cannot write", error))?;
        file.finish()
    }

    /// Puts the file in its place.
    ///
    /// # Errors
    /// When its bytes cannot be put on the disk, or its place was taken meanwhile. Nothing is left behind then.
    pub fn finish(self) -> Result<()> {
        let Self { temporary, path, replace } = self;
        let cannot = |error: io::Error| Error::at(&path, "cannot write", error);
        temporary.as_file().sync_all().map_err(cannot)?;
        let done = if replace { temporary.persist(&path) } else { temporary.persist_noclobber(&path) };
        done.map_err(|error| cannot(error.error))?;
        sync_folder(&path);
        Ok(())
    }
}

impl Write for NewFile {
    fn write(&mut self, bytes: &[u8]) -> io::Result<usize> {
        self.temporary.write(bytes)
    }

    fn flush(&mut self) -> io::Result<()> {
        self.temporary.flush()
    }
}

/// Has the entry of a renamed file survive a power cut, where the system can do that.
pub(crate) fn sync_folder(path: &Path) {
    let folder = path.parent().filter(|folder| !folder.as_os_str().is_empty()).unwrap_or(Path::new("."));
    // The file itself is safe; some file systems cannot sync folders.
    let _ = std::fs::File::open(folder).and_then(|folder| folder.sync_all());
}

/// What of evidence a path names, if it names any.
fn evidence(path: &Path, protected: &Protected) -> Option<String> {
    let there = std::fs::metadata(path).ok()?;
    let same = |other: &Path| std::fs::metadata(other).is_ok_and(|other| is_same(&there, &other));
    if let Some((_, what)) = protected.0.iter().find(|(other, _)| same(other)) {
        return Some(what.clone());
    }
    let mut start = [0; 16];
    let begins =
        there.is_file() && platform::open_regular(path).and_then(|mut file| file.read_exact(&mut start)).is_ok();
    let name = path.to_string_lossy();
    match () {
        () if begins && start.starts_with(b"PK\x03\x04") && name.ends_with(".box.zip") => Some("a sealed box".into()),
        () if begins && start == *b"SQLite format 3\0" => Some("a database, perhaps a logbook".into()),
        () => None,
    }
}

fn is_same(one: &Metadata, other: &Metadata) -> bool {
    platform::identity(one) == platform::identity(other)
}

/// Removes what killed programs of this user left unfinished in a folder: old files and folders whose names begin so.
pub(crate) fn sweep(folder: &Path, prefixes: &[&str]) {
    let Ok(entries) = std::fs::read_dir(folder) else { return };
    for entry in entries.flatten() {
        let name = entry.file_name();
        let name = name.to_string_lossy();
        let Ok(data) = entry.path().symlink_metadata() else { continue };
        let old = data.modified().ok().and_then(|time| SystemTime::now().duration_since(time).ok());
        let ours = prefixes.iter().any(|prefix| name.starts_with(prefix)) && platform::is_mine(&data);
        if !ours || old.is_none_or(|age| age < ABANDONED) {
            continue;
        }
        // What cannot be removed stays; it harms nobody.
        let _ = if data.is_dir() { std::fs::remove_dir_all(entry.path()) } else { std::fs::remove_file(entry.path()) };
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::testing::{case, log};

    #[test]
    fn evidence_is_never_written_over() {
        let root = case(&[("a.log", log().error("x", "y").text())]);
        let view = root.view();
        let source = root.path().join("a.log");
        let before = std::fs::read(&source).unwrap();
        let link = root.path().join("link.txt");
        std::os::unix::fs::symlink(&source, &link).unwrap();
        let hard = root.path().join("hard.txt");
        std::fs::hard_link(&source, &hard).unwrap();
        for path in [&source, &link, &hard, &root.path().join("./a.log")] {
            let error = NewFile::write(path, &view.case.protected(), true, b"x").unwrap_err().to_string();
            assert!(error.contains("a source of the case"), "{error}");
        }
        assert_eq!(std::fs::read(&source).unwrap(), before);
        let sealed = root.path().join("n.box.zip");
        std::fs::write(&sealed, b"PK\x03\x04 and more than sixteen bytes").unwrap();
        assert!(
            NewFile::write(&sealed, &Protected::default(), true, b"x")
                .unwrap_err()
                .to_string()
                .contains("a sealed box")
        );
    }

    #[test]
    fn whole_or_not_at_all() {
        let folder = tempfile::tempdir().unwrap();
        let path = folder.path().join("r.md");
        NewFile::write(&path, &Protected::default(), false, b"first").unwrap();
        assert!(NewFile::write(&path, &Protected::default(), false, b"x").unwrap_err().to_string().contains("--force"));
        let mut half = NewFile::create(&path, &Protected::default(), true).unwrap();
        half.write_all(b"hal").unwrap();
        drop(half);
        assert_eq!(std::fs::read(&path).unwrap(), b"first");
        NewFile::write(&path, &Protected::default(), true, b"second").unwrap();
        assert_eq!(std::fs::read(&path).unwrap(), b"second");
        assert_eq!(std::fs::read_dir(folder.path()).unwrap().count(), 1, "nothing is left behind");
        use std::os::unix::fs::PermissionsExt;
        assert_eq!(std::fs::metadata(&path).unwrap().permissions().mode() & 0o777, 0o600);
    }

    #[test]
    fn what_killed_programs_left_is_swept() {
        let folder = tempfile::tempdir().unwrap();
        let old = SystemTime::now() - 2 * ABANDONED;
        for (name, age) in [(".boxclock-old", Some(old)), (".boxclock-new", None), ("other", Some(old))] {
            let file = std::fs::File::create(folder.path().join(name)).unwrap();
            if let Some(age) = age {
                file.set_modified(age).unwrap();
            }
        }
        sweep(folder.path(), &[UNFINISHED]);
        let mut left: Vec<_> =
            std::fs::read_dir(folder.path()).unwrap().map(|entry| entry.unwrap().file_name()).collect();
        left.sort();
        assert_eq!(left, [".boxclock-new", "other"]);
    }
}
