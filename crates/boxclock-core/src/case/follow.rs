//! Following files that grow: looking whether they have, and reading the case again.

use std::collections::HashMap;
use std::hash::{DefaultHasher, Hash, Hasher};
use std::io::{Read, Seek, SeekFrom};
use std::path::{Path, PathBuf};
use std::sync::Arc;

use super::{Case, Options};
use crate::Result;
use crate::analysis::CaseView;
use crate::files::find_files;
use crate::platform;
use crate::work::Work;

/// Looks at the files of a case, again and again.
#[derive(Clone, Debug)]
pub struct Follower {
    paths: Vec<PathBuf>,
    options: Options,
    known: Fingerprint,
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
        Self { paths, options, known }
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
        let case = Case::open(&self.paths, self.options.clone(), work)?;
        let loaded = case.load(work)?;
        self.known = now;
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
}
