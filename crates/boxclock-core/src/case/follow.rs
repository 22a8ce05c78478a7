//! Following files that grow: looking whether they have, and reading the case again.

use std::hash::{DefaultHasher, Hash, Hasher};
use std::path::PathBuf;
use std::sync::Arc;

use super::{Case, Options};
use crate::Result;
use crate::analysis::CaseView;
use crate::files::find_files;
use crate::work::Work;

/// Looks at the files of a case, again and again.
#[derive(Clone, Debug)]
pub struct Follower {
    paths: Vec<PathBuf>,
    options: Options,
    known: Fingerprint,
}

/// Bytes of all files, and a hash of what they are: names, sizes, times.
type Fingerprint = (u64, u64);

impl Follower {
    /// Follows the files that a case was opened from.
    pub fn new(case: &Case) -> Self {
        let (paths, options) = (case.paths.clone(), case.options.clone());
        let mut known = fingerprint(&paths, &options);
        let has_grown =
            |source: &super::Source| std::fs::metadata(&source.path).map_or(0, |data| data.len()) != source.len_bytes;
        if case.sources.iter().any(has_grown) {
            // It has grown since the case was opened.
            known.1 = !known.1;
        }
        Self { paths, options, known }
    }

    /// How many bytes have come since the case was last read; `None` where nothing has changed.
    pub fn behind_bytes(&self) -> Option<u64> {
        let now = fingerprint(&self.paths, &self.options);
        (now != self.known).then(|| now.0.saturating_sub(self.known.0))
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

fn fingerprint(paths: &[PathBuf], options: &Options) -> Fingerprint {
    let mut hash = DefaultHasher::new();
    let mut bytes = 0;
    for path in paths.iter().chain(options.hosts.iter().map(|(_, path)| path)) {
        // A path that is gone for the moment counts as empty.
        for file in find_files(path, &mut Vec::new()).unwrap_or_default() {
            (&file.name, file.len_bytes, file.modified).hash(&mut hash);
            bytes += file.len_bytes;
        }
    }
    (bytes, hash.finish())
}

#[cfg(test)]
mod tests {
    use std::io::Write;

    use crate::case::Follower;
    use crate::testing::{case, log};
    use crate::work::Work;

    #[test]
    fn what_has_come_is_seen_once() {
        let root = case(&[("dose-gw/app.log", log().info("bridge", "started").text())]);
        let mut follower = Follower::new(&root.open());
        assert_eq!(follower.behind_bytes(), None);
        let path = root.path().join("hosts/dose-gw/app.log");
        let mut file = std::fs::File::options().append(true).open(path).unwrap();
        file.write_all(log().at("00:00:01").error("bridge", "NAK").text().as_bytes()).unwrap();
        assert_eq!(follower.behind_bytes(), Some(39));
        assert_eq!(follower.read(&Work::default()).unwrap().loaded.table.len(), 2);
        assert_eq!(follower.behind_bytes(), None);
    }
}
