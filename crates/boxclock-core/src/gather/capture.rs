//! Capturing while somebody reproduces a failure: what stood in the files before, so that only what was written since is taken.

use std::collections::HashMap;
use std::io::{Read, Seek, SeekFrom};
use std::path::Path;

use super::plan::{PackOptions, PlannedFile, Wanted, plan};
use super::window::{CutPart, Part};
use crate::work::Work;
use crate::{Result, platform};

/// Sizes of files at a moment.
#[derive(Clone, Debug, Default)]
pub struct Snapshot {
    /// By host and place, for remote files.
    by_name: HashMap<(String, String), u64>,
    /// By device and number, which a renamed file keeps: rotation does not hide what was written before it.
    by_identity: HashMap<(u64, u64), u64>,
    /// Files that were there.
    pub files: usize,
}

/// Bytes that are looked back over for the start of the line that was being written.
const LINE_BYTES: u64 = 64 << 10;

/// Notes how large the files are that would be gathered now.
///
/// # Errors
/// As [`plan`].
pub fn snapshot(options: &PackOptions, work: &Work) -> Result<Snapshot> {
    let plan = plan(options, work)?;
    let mut snapshot = Snapshot { files: plan.files.len(), ..Snapshot::default() };
    for file in &plan.files {
        snapshot.by_name.insert((file.host.clone(), file.origin.clone()), file.size);
        if let Wanted::Local(path) = &file.wanted
            && let Ok(data) = std::fs::metadata(path)
        {
            snapshot.by_identity.insert(platform::identity(&data), data.len());
        }
    }
    Ok(snapshot)
}

impl Snapshot {
    /// What of a file (whose bytes are at `path`) was written since.
    pub(super) fn part(&self, file: &PlannedFile, path: &Path) -> Part {
        let len = std::fs::metadata(path).map_or(file.size, |data| data.len());
        let before = match &file.wanted {
            Wanted::Local(path) => {
                std::fs::metadata(path).ok().and_then(|data| self.by_identity.get(&platform::identity(&data)).copied())
            }
            Wanted::Remote(_) => self.by_name.get(&(file.host.clone(), file.origin.clone())).copied(),
            Wanted::Output | Wanted::Symbols(_) => None,
        };
        match before {
            Some(before) if before == len => Part::Outside("nothing was written to it while capturing".into()),
            // Shorter than before: it was emptied, and all in it is new.
            Some(before) if before < len => match line_start(path, before) {
                Some(from) if from > 0 => Part::Cut(CutPart {
                    path: path.to_path_buf(),
                    unpacked: false,
                    head_bytes: 0,
                    from,
                    to: len,
                    pinned: Vec::new(),
                    span: None,
                }),
                _ => Part::Whole,
            },
            _ => Part::Whole,
        }
    }
}

/// Where the line starts that byte `at` of a text belongs to; `None` for what is no text, which is taken whole.
fn line_start(path: &Path, at: u64) -> Option<u64> {
    let mut file = platform::open_regular(path).ok()?;
    let mut head = [0; 512];
    let read = file.read(&mut head).ok()?;
    if head[..read].contains(&0) {
        return None;
    }
    let from = at.saturating_sub(LINE_BYTES);
    file.seek(SeekFrom::Start(from)).ok()?;
    let mut before = Vec::new();
    file.take(at - from).read_to_end(&mut before).ok()?;
    let feed = before.iter().rposition(|byte| *byte == b'\n');
    Some(feed.map_or(from, |feed| from + feed as u64 + 1))
}

#[cfg(test)]
mod tests {
    use std::fs;
    use std::io::Write;
    use std::sync::Arc;

    use super::*;
    use crate::gather::pack;

    #[test]
    fn only_what_was_written_in_between() {
        let root = tempfile::tempdir().unwrap();
        let path = |name: &str| root.path().join(name);
        let append = |name: &str, text: &str| {
            fs::File::options().create(true).append(true).open(path(name)).unwrap().write_all(text.as_bytes()).unwrap();
        };
        for name in ["quiet.log", "busy.log", "renamed.log", "emptied.log"] {
            append(name, "2026-04-12T02:00:00Z before\n2026-04-12T02:00:01Z half");
        }
        let options = PackOptions { hosts: vec![("gw".into(), root.path().into())], ..PackOptions::default() };
        let snapshot = snapshot(&options, &Work::default()).unwrap();
        assert_eq!(snapshot.files, 4);
        append("busy.log", " line\n2026-04-12T02:00:02Z new\n");
        append("renamed.log", " line\n2026-04-12T02:00:03Z last\n");
        fs::rename(path("renamed.log"), path("renamed.log.1")).unwrap();
        append("renamed.log", "2026-04-12T02:00:04Z first\n");
        fs::write(path("emptied.log"), "2026-04-12T02:00:05Z only\n").unwrap();
        append("fresh.log", "2026-04-12T02:00:06Z fresh\n");
        let folder = tempfile::tempdir().unwrap();
        let into = folder.path().join("x.box.zip");
        let options = PackOptions { into: into.clone(), since: Some(Arc::new(snapshot)), ..options };
        let packed = pack(&options, &Work::default()).unwrap();
        let text = |name: &str| {
            let mut archive = zip::ZipArchive::new(fs::File::open(&into).unwrap()).unwrap();
            let mut text = String::new();
            archive.by_name(&format!("hosts/gw/{name}")).unwrap().read_to_string(&mut text).unwrap();
            text
        };
        assert_eq!(text("busy.log"), "2026-04-12T02:00:01Z half line\n2026-04-12T02:00:02Z new\n");
        assert_eq!(text("renamed.log.1"), "2026-04-12T02:00:01Z half line\n2026-04-12T02:00:03Z last\n");
        assert_eq!(text("renamed.log"), "2026-04-12T02:00:04Z first\n");
        assert_eq!(text("emptied.log"), "2026-04-12T02:00:05Z only\n");
        assert_eq!(text("fresh.log"), "2026-04-12T02:00:06Z fresh\n");
        assert_eq!(packed.seal.files.len(), 5);
        assert!(packed.seal.outside[0].origin.ends_with("quiet.log"));
    }
}
