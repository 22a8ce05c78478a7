//! What the program keeps to be fast: unpacked boxes and archives, decoded texts, indexes. All of it can be made again, and all of it
//! holds what the logs hold: it is private, it ages, and it can be wiped.

use std::io;
use std::path::{Path, PathBuf};
use std::time::{Duration, SystemTime};

use sha2::{Digest, Sha256};

use crate::files::FileFound;
use crate::text::hex;
use crate::{Error, Result, new_file, platform};

/// What has not been used for so long is removed.
const AGE: Duration = Duration::from_secs(30 * 24 * 3600);
/// Bytes that the cache may have; beyond, what was not used for longest is removed.
const MOST_BYTES: u64 = 64 << 30;
/// How often the cache is looked through.
const EVERY: Duration = Duration::from_secs(24 * 3600);
/// What unfinished entries are called.
const UNFINISHED: [&str; 4] = [".unpacking-", ".extracting-", ".decoding-", ".writing-"];

/// Removes all of the cache; gives the bytes.
///
/// # Errors
/// When something cannot be removed.
pub fn forget_all() -> Result<u64> {
    let Some(cache) = platform::cache_dir().filter(|cache| cache.exists()) else { return Ok(0) };
    let bytes = size_of(&cache);
    std::fs::remove_dir_all(&cache).map_err(|error| Error::at(&cache, "cannot remove", error))?;
    Ok(bytes)
}

/// One folder of the cache for each state of each file, in the part of the cache called `part`. `more` is what else decides what is made
/// of it.
///
/// # Errors
/// When the user has no folder for the cache.
pub(crate) fn folder_of_file<'a>(
    part: &str,
    file: &FileFound,
    more: impl IntoIterator<Item = &'a [u8]>,
) -> Result<PathBuf> {
    let mut hash = Sha256::new();
    let full = std::fs::canonicalize(&file.path).unwrap_or_else(|_| file.path.clone());
    hash.update(full.as_os_str().as_encoded_bytes());
    hash.update([0]);
    hash.update(file.len_bytes.to_le_bytes());
    hash.update(file.modified.to_le_bytes());
    // A file that was written twice within a second, with the same length.
    hash.update(platform::changed_ns(&file.path).to_le_bytes());
    for bytes in more {
        hash.update((bytes.len() as u64).to_le_bytes());
        hash.update(bytes);
    }
    let cache =
        platform::cache_dir().ok_or_else(|| Error::new("no folder for the cache: set HOME or XDG_CACHE_HOME"))?;
    Ok(cache.join(part).join(hex(&hash.finalize()).get(..32).unwrap_or("file")))
}

/// Puts a finished folder in its place in the cache. Several programs may finish the same one at once: the first stays, since others
/// read it already. What `is_good` does not accept is replaced, and never removed while it still stands in its place.
///
/// # Errors
/// As the system reports them, where the folder is not there then.
pub(crate) fn put_in_place(
    fresh: &tempfile::TempDir,
    target: &Path,
    is_good: impl Fn(&Path) -> bool,
) -> io::Result<()> {
    let Err(error) = std::fs::rename(fresh.path(), target) else { return Ok(()) };
    if !target.exists() {
        return Err(error);
    }
    if is_good(target) {
        return Ok(());
    }
    let parent = target.parent().unwrap_or(target);
    let aside = tempfile::Builder::new().prefix(UNFINISHED[0]).tempdir_in(parent)?;
    // Another program may have moved it meanwhile, which is as good.
    let _ = std::fs::rename(target, aside.path().join("stale"));
    match std::fs::rename(fresh.path(), target) {
        Err(_) if is_good(target) => Ok(()),
        done => done,
    }
}

/// The entry of the cache that a file lies in: `cache/KIND/NAME`.
pub(crate) fn entry_of(cache: &Path, file: &Path) -> Option<PathBuf> {
    let below = file.strip_prefix(cache).ok()?;
    let mut parts = below.components();
    Some(cache.join(parts.next()?).join(parts.next()?))
}

pub(crate) fn size_of(folder: &Path) -> u64 {
    let files = walkdir::WalkDir::new(folder).into_iter().flatten();
    files.filter_map(|entry| entry.metadata().ok()).filter(std::fs::Metadata::is_file).map(|data| data.len()).sum()
}

/// Notes that an entry is in use.
pub(crate) fn touch(entry: &Path) {
    // An entry that cannot be touched ages sooner.
    let _ = std::fs::File::open(entry).and_then(|folder| folder.set_modified(SystemTime::now()));
}

/// Once a day: removes what is old, what a killed program left, and what is too much. Errors are of no consequence: it is tried
/// again tomorrow.
pub fn tidy() {
    let Some(cache) = platform::cache_dir() else { return };
    let mark = cache.join("tidied");
    let age = |path: &Path| {
        path.metadata().ok()?.modified().ok().and_then(|time| SystemTime::now().duration_since(time).ok())
    };
    if age(&mark).is_some_and(|age| age < EVERY) || !cache.exists() {
        return;
    }
    let mut entries: Vec<(Duration, u64, PathBuf)> = Vec::new();
    for kind in std::fs::read_dir(&cache).into_iter().flatten().flatten() {
        new_file::sweep(&kind.path(), &UNFINISHED);
        for entry in std::fs::read_dir(kind.path()).into_iter().flatten().flatten() {
            let path = entry.path();
            entries.push((age(&path).unwrap_or_default(), size_of(&path), path));
        }
    }
    for path in surplus(entries, MOST_BYTES) {
        let _ = std::fs::remove_dir_all(&path).or_else(|_| std::fs::remove_file(&path));
    }
    // Only now: a program that ended before it was through has tidied nothing.
    let _ = std::fs::write(&mark, "");
}

/// What is to go: all that is old, and of the rest what was not used for longest, until so many bytes are left.
fn surplus(mut entries: Vec<(Duration, u64, PathBuf)>, most_bytes: u64) -> Vec<PathBuf> {
    entries.sort();
    let mut kept = 0_u64;
    let mut gone = Vec::new();
    for (age, bytes, path) in entries {
        kept = kept.saturating_add(bytes);
        if age > AGE || kept > most_bytes {
            gone.push(path);
        }
    }
    gone
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn what_others_finished_first_stays() {
        let cache = tempfile::tempdir().unwrap();
        let target = cache.path().join("box");
        let fresh = |text: &str| {
            let fresh = tempfile::Builder::new().prefix(".unpacking-").tempdir_in(cache.path()).unwrap();
            std::fs::write(fresh.path().join("a"), text).unwrap();
            fresh
        };
        let read = || std::fs::read_to_string(target.join("a")).unwrap();
        put_in_place(&fresh("first"), &target, |_| true).unwrap();
        put_in_place(&fresh("second"), &target, |_| true).unwrap();
        assert_eq!(read(), "first");
        put_in_place(&fresh("third"), &target, |path| std::fs::read_to_string(path.join("a")).unwrap() == "third")
            .unwrap();
        assert_eq!(read(), "third");
        assert_eq!(std::fs::read_dir(cache.path()).unwrap().count(), 1, "nothing is left behind");
    }

    #[test]
    fn old_first_then_what_is_too_much() {
        let day = Duration::from_secs(24 * 3600);
        let entry = |days: u32, bytes: u64, name: &str| (day * days, bytes, PathBuf::from(name));
        let entries = vec![entry(1, 10, "new"), entry(40, 1, "old"), entry(3, 10, "three"), entry(9, 10, "nine")];
        assert_eq!(surplus(entries.clone(), 100), [PathBuf::from("old")]);
        assert_eq!(surplus(entries, 20), [PathBuf::from("nine"), PathBuf::from("old")]);
    }
}
