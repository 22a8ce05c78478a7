//! Following files that grow: looking whether they have, and reading the case again.

use std::collections::HashMap;
use std::fs::File;
use std::hash::{DefaultHasher, Hash, Hasher};
use std::io::{Read, Seek, SeekFrom};
use std::path::{Path, PathBuf};
use std::sync::Arc;
use std::time::UNIX_EPOCH;

use super::{Case, Options};
use crate::Result;
use crate::analysis::CaseView;
use crate::files::{FileFound, find_files};
use crate::platform;
use crate::work::Work;

/// Files that are held open, so that their lines stay when they are deleted: a process may not open many more.
const MOST_HELD: usize = 200;
/// Deleted files that stay, and their bytes: the disk has their room back only when they are let go. The oldest go first.
const MOST_KEPT: usize = 16;
const MOST_KEPT_BYTES: u64 = 1 << 30;

/// A file that is gone from its folder, and is still read because it is held open.
#[derive(Clone, Debug)]
pub struct KeptFile {
    /// Where it can be read from as long as `file` lives, and the name that it had.
    pub found: FileFound,
    /// The label of its host.
    pub host: Option<String>,
    /// Holds it.
    pub file: Arc<File>,
}

/// A file of the case that is held open.
#[derive(Clone, Debug)]
struct Held {
    name: String,
    host: Option<String>,
    file: Arc<File>,
}

/// Looks at the files of a case, again and again.
#[derive(Clone, Debug)]
pub struct Follower {
    paths: Vec<PathBuf>,
    options: Options,
    known: Fingerprint,
    held: Vec<Held>,
    /// What was told last, and of which state of the files.
    told: Option<(u64, Behind)>,
}

/// What has come since the case was last read.
#[derive(Clone, Copy, Debug, Default, PartialEq, Eq)]
pub struct Behind {
    /// Bytes that the files have grown by.
    pub bytes: u64,
    /// Line ends in them; `None` where they are too much to be counted at each look.
    pub lines: Option<u64>,
}

/// The files as they are: paths and sizes by what stays when a file is renamed, and a hash of names, sizes and times.
#[derive(Clone, Debug, Default, PartialEq, Eq)]
struct Fingerprint {
    files: HashMap<(u64, u64), (PathBuf, u64)>,
    hash: u64,
}

impl Follower {
    /// Follows the files that a case was opened from.
    pub fn new(case: &Case) -> Self {
        let (paths, options) = (case.paths.clone(), case.options.clone());
        let mut known = fingerprint(&paths, &options);
        let has_grown =
            |source: &super::Source| std::fs::metadata(&source.path).map_or(0, |data| data.len()) != source.len_bytes;
        if case.sources.iter().any(has_grown) {
            // It has grown since the case was opened.
            known.hash = !known.hash;
        }
        let mut follower = Self { paths, options, known, held: Vec::new(), told: None };
        follower.hold(case);
        follower
    }

    /// Holds the files of a case open: rotation deletes the oldest.
    fn hold(&mut self, case: &Case) {
        let is_kept = |name: &str| self.options.kept.iter().any(|kept| kept.found.name == name);
        // What was unpacked or decoded is not deleted by a rotation.
        let files = case.sources.iter().filter(|source| source.decoded.is_none() && !is_kept(&source.name));
        let held = files.take(MOST_HELD).filter_map(|source| {
            let file = platform::open_regular(&source.path).ok()?;
            Some(Held { name: source.name.clone(), host: source.host.clone(), file: Arc::new(file) })
        });
        self.held = held.collect();
    }

    /// Takes the files along that were deleted since the case was last read.
    fn keep_deleted(&mut self) {
        let is_deleted = |held: &Held| held.file.metadata().is_ok_and(|data| platform::is_deleted(&data));
        let (deleted, there) = std::mem::take(&mut self.held).into_iter().partition(is_deleted);
        self.held = there;
        let deleted: Vec<Held> = deleted;
        let kept = &mut self.options.kept;
        for held in deleted {
            let (Ok(data), Some(path)) = (held.file.metadata(), platform::path_of_open(&held.file)) else { continue };
            let modified = data.modified().ok().and_then(|time| time.duration_since(UNIX_EPOCH).ok());
            let modified = modified.map_or(0, |since| i64::try_from(since.as_nanos()).unwrap_or(0));
            let names = (1..).map(|count: usize| match count {
                1 => format!("{} (deleted)", held.name),
                _ => format!("{} (deleted, {count})", held.name),
            });
            let mut free = names.filter(|name| kept.iter().all(|one| one.found.name != *name));
            let Some(name) = free.next() else { continue };
            let found = FileFound { path, name, modified, len_bytes: data.len() };
            kept.push(KeptFile { found, host: held.host, file: held.file });
        }
        let bytes = |kept: &[KeptFile]| kept.iter().map(|one| one.found.len_bytes).sum::<u64>();
        while kept.len() > MOST_KEPT || bytes(kept) > MOST_KEPT_BYTES {
            kept.remove(0);
        }
    }

    /// Whether anything has changed since the case was last read.
    pub fn has_changed(&self) -> bool {
        fingerprint(&self.paths, &self.options) != self.known
    }

    /// What has come since the case was last read; `None` where nothing has changed. What was counted once for a state of the
    /// files is not read again.
    pub fn behind(&mut self) -> Option<Behind> {
        /// More is not read at each look only to be counted.
        const MOST_COUNTED: u64 = 16 << 20;
        let now = fingerprint(&self.paths, &self.options);
        if now == self.known {
            return None;
        }
        if let Some((_, behind)) = self.told.filter(|(of, _)| *of == now.hash) {
            return Some(behind);
        }
        let grown = now.files.iter().filter_map(|(identity, (path, to))| {
            let known = self.known.files.get(identity).map_or(0, |(_, size)| *size);
            // A file that is shorter than it was has begun anew.
            let from = if *to < known { 0 } else { known };
            (from < *to).then_some((path, from, *to))
        });
        let grown: Vec<_> = grown.collect();
        let bytes = grown.iter().map(|(_, from, to)| to - from).sum();
        let lines = || grown.iter().map(|(path, from, to)| line_ends(path, *from, *to)).sum::<Option<u64>>();
        let behind = Behind { bytes, lines: if bytes <= MOST_COUNTED { lines() } else { None } };
        self.told = Some((now.hash, behind));
        Some(behind)
    }

    /// Opens and reads the case as it is now.
    ///
    /// # Errors
    /// When it cannot be opened, for example in the middle of a rotation, or when cancelled. What had come has come all the
    /// same, and the next look tells so.
    pub fn read(&mut self, work: &Work) -> Result<CaseView> {
        let now = fingerprint(&self.paths, &self.options);
        self.keep_deleted();
        let case = Case::open(&self.paths, self.options.clone(), work)?;
        let loaded = case.load(work)?;
        self.known = now;
        // What was deleted meanwhile is not let go: the next look sees it.
        self.keep_deleted();
        self.hold(&case);
        Ok(CaseView::new(Arc::new(case), loaded))
    }
}

/// Line ends between two places of a file; `None` where it cannot be read.
fn line_ends(path: &Path, from: u64, to: u64) -> Option<u64> {
    let mut file = platform::open_regular(path).ok()?;
    file.seek(SeekFrom::Start(from)).ok()?;
    let mut bytes = Vec::new();
    file.take(to.saturating_sub(from)).read_to_end(&mut bytes).ok()?;
    Some(memchr::memchr_iter(b'\n', &bytes).count() as u64)
}

fn fingerprint(paths: &[PathBuf], options: &Options) -> Fingerprint {
    let mut hash = DefaultHasher::new();
    let mut files = HashMap::new();
    for path in paths.iter().chain(options.hosts.iter().map(|(_, path)| path)) {
        // A path that is gone for the moment counts as empty.
        for file in find_files(path, &mut Vec::new()).unwrap_or_default() {
            (&file.name, file.len_bytes, file.modified).hash(&mut hash);
            if let Ok(data) = std::fs::metadata(&file.path) {
                files.insert(platform::identity(&data), (file.path, file.len_bytes));
            }
        }
    }
    Fingerprint { files, hash: hash.finish() }
}

#[cfg(test)]
mod tests {
    use std::io::Write;

    use crate::case::{Behind, Follower};
    use crate::testing::{case, log};
    use crate::work::Work;

    #[test]
    fn what_has_come_is_seen_once() {
        let root = case(&[("dose-gw/app.log", log().info("bridge", "started").text())]);
        let mut follower = Follower::new(&root.open());
        assert_eq!(follower.behind(), None);
        let path = root.path().join("hosts/dose-gw/app.log");
        let mut file = std::fs::File::options().append(true).open(path).unwrap();
        file.write_all(log().at("00:00:01").error("bridge", "NAK").text().as_bytes()).unwrap();
        assert_eq!(follower.behind(), Some(Behind { bytes: 39, lines: Some(1) }));
        assert_eq!(follower.read(&Work::default()).unwrap().loaded.table.len(), 2);
        assert_eq!(follower.behind(), None);
    }

    #[test]
    fn lines_of_a_deleted_file_stay() {
        let lines = log().info("bridge", "first").info("bridge", "second").text();
        let root = case(&[("dose-gw/app.log", log().info("bridge", "now").text()), ("dose-gw/app.log.1", lines)]);
        let old = root.path().join("hosts/dose-gw/app.log.1");
        let mut follower = Follower::new(&root.open());
        std::fs::remove_file(&old).unwrap();
        for _ in 0..2 {
            let view = follower.read(&Work::default()).unwrap();
            assert_eq!(view.loaded.table.len(), 3, "what was on the screen stays");
            let kept = view.case.sources.iter().find(|source| source.name.ends_with("app.log.1 (deleted)")).unwrap();
            assert_eq!(kept.host.as_deref(), Some("dose-gw"));
            let mut reader = crate::event::RecordReader::new(std::sync::Arc::clone(&view.case.sources));
            let texts: Vec<String> =
                (0..3).map(|row| reader.record(view.loaded.table.event(crate::event::Row(row))).body).collect();
            assert!(texts.contains(&"second".to_owned()), "{texts:?}");
        }
        // A rename is none, and nothing that has come.
        assert_eq!(follower.behind(), None);
        std::fs::rename(root.path().join("hosts/dose-gw/app.log"), &old).unwrap();
        assert_eq!(follower.behind(), Some(Behind { bytes: 0, lines: Some(0) }));
        assert_eq!(follower.read(&Work::default()).unwrap().loaded.table.len(), 3);
        // The same name may be deleted again.
        std::fs::remove_file(&old).unwrap();
        let view = follower.read(&Work::default()).unwrap();
        assert_eq!(view.loaded.table.len(), 3);
        let names: Vec<&str> = view.case.sources.iter().map(|source| source.name.as_str()).collect();
        assert!(names.iter().any(|name| name.ends_with("app.log.1 (deleted, 2)")), "{names:?}");
    }

    #[test]
    fn a_deleted_file_stays_where_the_case_cannot_be_read_for_the_moment() {
        let root = case(&[("dose-gw/app.log", log().info("bridge", "first").text())]);
        let mut follower = Follower::new(&root.open());
        let (folder, aside) = (root.path().to_path_buf(), root.path().with_extension("aside"));
        std::fs::remove_file(folder.join("hosts/dose-gw/app.log")).unwrap();
        let again = log().info("bridge", "now").text();
        std::fs::rename(&folder, &aside).unwrap();
        assert!(follower.read(&Work::default()).is_err());
        std::fs::rename(&aside, &folder).unwrap();
        std::fs::write(folder.join("hosts/dose-gw/app.log"), again).unwrap();
        assert_eq!(follower.read(&Work::default()).unwrap().loaded.table.len(), 2);
    }

    #[test]
    fn the_oldest_deleted_file_goes_where_too_many_stay() {
        let root = case(&[("dose-gw/app.log", log().info("bridge", "0").text())]);
        let path = root.path().join("hosts/dose-gw/app.log");
        let mut follower = Follower::new(&root.open());
        for round in 1..=super::MOST_KEPT + 3 {
            std::fs::remove_file(&path).unwrap();
            std::fs::write(&path, log().info("bridge", &round.to_string()).text()).unwrap();
            follower.read(&Work::default()).unwrap();
        }
        let view = follower.read(&Work::default()).unwrap();
        assert_eq!(view.loaded.table.len(), super::MOST_KEPT + 1);
    }
}
