//! The program files that dumps need to be read: they are taken along, so that the stacks can be followed on any machine.

use std::collections::BTreeSet;
use std::path::{Path, PathBuf};

use super::super::local::{Found, inside};
use super::{Planner, TakenPrograms, Wanted, start_of};
use crate::case::{FileFound, LeftOut};
use crate::crash::{self, ProgramFile};
use crate::work::Work;
use crate::{Result, limits};

impl Planner<'_> {
    /// The program files that the dumps of a host need to be read.
    pub(super) fn programs(&mut self, label: &str, root: &Path, work: &Work) -> Result<()> {
        let of_host = self.plan.files.iter().filter(|file| file.host == label);
        let dumps: Vec<PathBuf> = of_host
            .filter_map(|file| match &file.wanted {
                Wanted::Local(path) => Some(path.clone()),
                Wanted::Remote(_) | Wanted::Output | Wanted::Symbols(_) => None,
            })
            .collect();
        let mut left_out = Vec::new();
        for found in programs_of(&dumps, root, &mut left_out, work)? {
            // What was taken as a file already is in the box.
            let origin = self.origin(&found.file.name);
            if self.plan.files.iter().any(|other| other.host == label && other.origin == origin) {
                continue;
            }
            let member = found.below.clone();
            let path = found.file.path.clone();
            let wanted = match self.options.programs {
                TakenPrograms::Symbols => Wanted::Symbols(path),
                TakenPrograms::Whole | TakenPrograms::None => Wanted::Local(path),
            };
            self.add(label, &found, &member, wanted);
            if let Some(file) = self.plan.files.last_mut() {
                (file.may_cut, file.is_timeless, file.most_bytes) = (false, true, limits::PROGRAM_BYTES);
            }
        }
        self.leave_out(label, left_out);
        Ok(())
    }
}

/// The program files of these dumps that lie below `root`: programs only, and of the build that wrote the dump where it says which.
/// Where a dump comes from is not known, so that it may name any file: what is no program is never taken.
///
/// # Errors
/// When `root` cannot be read, or the work is cancelled.
fn programs_of(
    dumps: &[PathBuf],
    root: &Path,
    left_out: &mut Vec<LeftOut>,
    work: &Work,
) -> Result<Vec<Found<'static>>> {
    let (mut taken, mut seen, mut total) = (Vec::new(), BTreeSet::new(), 0_u64);
    for dump in dumps {
        work.check()?;
        let format = start_of(dump).and_then(|start| crash::recognise(&start));
        let Some(format) = format.filter(|format| !format.is_text()) else { continue };
        let Ok(crash) = crash::read(format, dump) else { continue };
        for module in crash.modules.iter().filter(|module| module.image.is_none()) {
            let path = module.path.replace('\\', "/");
            let below = path.trim_start_matches('/').to_owned();
            let is_below = !below.is_empty() && below.split('/').all(|part| part != "..");
            if !is_below || !seen.insert((path.clone(), module.build_id.clone())) {
                continue;
            }
            match program(&root.join(&below), module.build_id.as_deref(), total) {
                Ok(size) => {
                    total = total.saturating_add(size);
                    let path = root.join(&below);
                    let name = path.display().to_string();
                    let file = FileFound { path, name, modified: 0, len_bytes: size };
                    taken.push(Found { file, below, by: None });
                }
                Err(why) => left_out.push(LeftOut { path, reason: format!("program of a dump: {why}") }),
            }
        }
    }
    inside(root, taken.into_iter(), left_out)
}

/// The size of a program file that is to be taken beside `total` bytes of others, or why it is not.
fn program(path: &Path, build_id: Option<&str>, total: u64) -> std::result::Result<u64, String> {
    let size = std::fs::metadata(path).map_err(|error| error.to_string())?.len();
    if size > limits::PROGRAM_BYTES || total.saturating_add(size) > limits::PROGRAMS_BYTES {
        return Err(format!(
            "{size} bytes; at most {} MiB a file and {} MiB together are taken",
            limits::PROGRAM_BYTES >> 20,
            limits::PROGRAMS_BYTES >> 20
        ));
    }
    ProgramFile::is_build(path, build_id)?;
    Ok(size)
}

#[cfg(test)]
mod tests {
    use std::fs;

    use super::*;

    fn sample(name: &str) -> PathBuf {
        Path::new(env!("CARGO_MANIFEST_DIR")).join("tests/data/crashes").join(name)
    }

    #[test]
    fn only_the_build_that_wrote_the_dump_is_taken() {
        let root = tempfile::tempdir().unwrap();
        let folder = root.path().join("srv/dosing");
        fs::create_dir_all(&folder).unwrap();
        let dumps = [sample("pump-x86.core"), sample("feed"), sample("asan.txt")];
        let path = folder.join("pump-x86");
        let found = || {
            let mut left_out = Vec::new();
            let taken = programs_of(&dumps, root.path(), &mut left_out, &Work::default()).unwrap();
            let below: Vec<String> = taken.into_iter().map(|found| found.below).collect();
            let reasons: Vec<String> = left_out.into_iter().map(|left| left.reason).collect();
            (below, reasons.join("; "))
        };
        // The core says /srv/dosing/pump-x86.
        let (none, why) = found();
        assert!(none.is_empty() && why.contains("No such file"), "{why}");
        fs::copy(sample("pump-x86"), &path).unwrap();
        assert_eq!(found(), (vec!["srv/dosing/pump-x86".to_owned()], String::new()));
        // Another build, of the same path.
        let mut other = fs::read(sample("pump-x86")).unwrap();
        let id = [0xAD, 0x62, 0x35, 0x00];
        let at = other.windows(4).position(|window| window == id).unwrap();
        other[at] ^= 0xFF;
        fs::write(&path, other).unwrap();
        let (none, why) = found();
        assert!(none.is_empty() && why.contains("another build"), "{why}");
    }

    /// A dump may be of a hostile machine, and name what its writer would like to have.
    #[test]
    fn what_is_no_program_or_lies_elsewhere_is_never_taken() {
        let root = tempfile::tempdir().unwrap();
        let folder = root.path().join("host/srv/dosing");
        fs::create_dir_all(&folder).unwrap();
        let path = folder.join("pump-x86");
        let found = || {
            let (mut left_out, dumps) = (Vec::new(), [sample("pump-x86.core")]);
            let taken = programs_of(&dumps, &root.path().join("host"), &mut left_out, &Work::default()).unwrap();
            (taken.len(), left_out.into_iter().map(|left| left.reason).collect::<String>())
        };
        fs::write(&path, "root:$6$secret:20000:0:99999:7:::\n").unwrap();
        let (taken, why) = found();
        assert!(taken == 0 && why.contains("not a program"), "{why}");
        fs::remove_file(&path).unwrap();
        fs::copy(sample("pump-x86"), root.path().join("elsewhere")).unwrap();
        std::os::unix::fs::symlink(root.path().join("elsewhere"), &path).unwrap();
        let (taken, why) = found();
        assert!(taken == 0 && why.contains("a link out of the folder"), "{why}");
    }
}
