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
    /// Device and number: what stays when it is renamed.
    identity: (u64, u64),
}

/// Looks at the files of a case, again and again.
#[derive(Clone, Debug)]
pub struct Follower {
    paths: Vec<PathBuf>,
    options: Options,
    known: Fingerprint,
    held: Vec<Held>,
}

/// What has come since the case was last read.
#[derive(Clone, Copy, Debug, Default, PartialEq, Eq)]
pub struct Behind {
    /// Bytes that the files have grown by.
    pub bytes: u64,
    /// Line ends in them; `None` where they are too much to be counted at each look.
    pub lines: Option<u64>,
}

/// The files as they are: sizes by path, and a hash of names, sizes and times.
#[derive(Clone, Debug, Default, PartialEq, Eq)]
struct Fingerprint {
    sizes: HashMap<PathBuf, u64>,
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
        let mut follower = Self { paths, options, known, held: Vec::new() };
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
            let identity = platform::identity(&file.metadata().ok()?);
            Some(Held { name: source.name.clone(), host: source.host.clone(), file: Arc::new(file), identity })
        });
        self.held = held.collect();
    }

    /// Takes the files along that were deleted since the case was last read.
    fn keep_deleted(&mut self) {
        for held in std::mem::take(&mut self.held) {
            let Ok(data) = held.file.metadata() else { continue };
            let kept = &mut self.options.kept;
            let is_new = kept
                .iter()
                .all(|one| one.file.metadata().is_ok_and(|other| platform::identity(&other) != held.identity));
            let modified = data.modified().ok().and_then(|time| time.duration_since(UNIX_EPOCH).ok());
            let modified = modified.map_or(0, |since| i64::try_from(since.as_nanos()).unwrap_or(0));
            if let (true, true, Some(path)) = (platform::is_deleted(&data), is_new, platform::path_of_open(&held.file))
            {
                let found =
                    FileFound { path, name: format!("{} (deleted)", held.name), modified, len_bytes: data.len() };
                kept.push(KeptFile { found, host: held.host, file: held.file });
            }
        }
    }

    /// What has come since the case was last read; `None` where nothing has changed.
    pub fn behind(&self) -> Option<Behind> {
        /// More is not read at each look only to be counted.
        const MOST_COUNTED: u64 = 16 << 20;
        let now = fingerprint(&self.paths, &self.options);
        if now == self.known {
            return None;
        }
        let known = |path: &PathBuf| self.known.sizes.get(path).copied().unwrap_or(0);
        let grown = now.sizes.iter().map(|(path, size)| (path, known(path), *size)).filter(|(_, from, to)| to > from);
        let grown: Vec<_> = grown.collect();
        let bytes = grown.iter().map(|(_, from, to)| to - from).sum();
        let lines = || grown.iter().map(|(path, from, to)| line_ends(path, *from, *to)).sum::<Option<u64>>();
        Some(Behind { bytes, lines: if bytes <= MOST_COUNTED { lines() } else { None } })
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
    let mut sizes = HashMap::new();
    for path in paths.iter().chain(options.hosts.iter().map(|(_, path)| path)) {
        // A path that is gone for the moment counts as empty.
        for file in find_files(path, &mut Vec::new()).unwrap_or_default() {
            (&file.name, file.len_bytes, file.modified).hash(&mut hash);
            sizes.insert(file.path, file.len_bytes);
        }
    }
    Fingerprint { sizes, hash: hash.finish() }
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
        // A rename is none, and a file that comes back under the name is another one.
        std::fs::rename(root.path().join("hosts/dose-gw/app.log"), &old).unwrap();
        assert_eq!(follower.read(&Work::default()).unwrap().loaded.table.len(), 3);
    }
}
