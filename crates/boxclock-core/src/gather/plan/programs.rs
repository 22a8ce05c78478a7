//! The program files that dumps need to be read: they are taken along, so that the stacks can be followed on any machine.

use std::collections::BTreeSet;
use std::path::{Path, PathBuf};

use super::super::member_name::unique_member;
use super::{PlannedFile, Planner, Wanted};
use crate::case::LeftOut;
use crate::crash::{self, ProgramFile};
use crate::work::Work;
use crate::{Result, limits};

/// Program files for the dumps of one host.
#[derive(Debug, Default)]
struct Programs {
    /// Where each is here, and its path on the host.
    files: Vec<(PathBuf, String)>,
    /// What is not taken, with the reason.
    left_out: Vec<(String, String)>,
}

impl Planner<'_> {
    /// The program files that the dumps of a host need to be read.
    pub(super) fn programs(&mut self, label: &str, root: &Path, work: &Work) -> Result<()> {
        let of_host = self.plan.files.iter().filter(|file| file.host == label);
        let dumps: Vec<PathBuf> = of_host
            .filter_map(|file| match &file.wanted {
                Wanted::Local(path) => Some(path.clone()),
                Wanted::Remote(_) | Wanted::Output => None,
            })
            .collect();
        let found = programs_of(&dumps, root, work)?;
        for (file, path) in found.files {
            let origin = file.display().to_string();
            // What was taken as a file already is in the box.
            if self.plan.files.iter().any(|other| other.host == label && other.origin == self.origin(&origin)) {
                continue;
            }
            let member = unique_member(label, path.trim_start_matches('/'), &mut self.taken);
            self.plan.files.push(PlannedFile {
                host: label.to_owned(),
                origin: self.origin(&origin),
                member,
                class: None,
                recipe: None,
                may_cut: false,
                is_timeless: true,
                most_bytes: limits::PROGRAM_BYTES,
                size: std::fs::metadata(&file).map_or(0, |data| data.len()),
                modified: 0,
                wanted: Wanted::Local(file),
            });
        }
        self.leave_out(label, found.left_out.into_iter().map(|(path, reason)| LeftOut { path, reason }).collect());
        Ok(())
    }
}

/// Looks up, below `root`, the program files of these dumps: those whose build id is the dump's, or, where a dump knows none, those
/// of the path. Dumps that cannot be read ask for none.
///
/// # Errors
/// When the work is cancelled.
fn programs_of(dumps: &[PathBuf], root: &Path, work: &Work) -> Result<Programs> {
    let mut found = Programs::default();
    let (mut seen, mut total) = (BTreeSet::new(), 0_u64);
    for dump in dumps {
        work.check()?;
        let Some(format) = crash::format_of(dump).filter(|format| !format.is_text()) else { continue };
        let Ok(crash) = crash::read(format, dump) else { continue };
        for module in crash.modules.iter().filter(|module| module.image.is_none()) {
            let path = module.path.replace('\\', "/");
            let below = path.trim_start_matches('/');
            if !seen.insert((path.clone(), module.build_id.clone()))
                || below.is_empty()
                || below.split('/').any(|part| part == "..")
            {
                continue;
            }
            let file = root.join(below);
            let mut leave =
                |reason: String| found.left_out.push((path.clone(), format!("program of a dump: {reason}")));
            let size = match std::fs::metadata(&file) {
                Ok(data) if data.is_file() => data.len(),
                Ok(_) => {
                    leave("it is no file".into());
                    continue;
                }
                Err(error) => {
                    leave(error.to_string());
                    continue;
                }
            };
            if size > limits::PROGRAM_BYTES || total.saturating_add(size) > limits::PROGRAMS_BYTES {
                leave(format!(
                    "{size} bytes; at most {} MiB a file and {} MiB together are taken",
                    limits::PROGRAM_BYTES >> 20,
                    limits::PROGRAMS_BYTES >> 20
                ));
                continue;
            }
            let program = ProgramFile { path: file.clone(), name: below.to_owned(), host: None };
            match (&module.build_id, program.build_id()) {
                (Some(wanted), Some(has)) if *wanted != has => {
                    leave("it is of another build by now".into());
                    continue;
                }
                _ => {}
            }
            total = total.saturating_add(size);
            found.files.push((file, path));
        }
    }
    Ok(found)
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
        let found = |root: &Path| programs_of(&dumps, root, &Work::default()).unwrap();
        // The core says /srv/dosing/pump-x86.
        let none = found(root.path());
        assert!(none.files.is_empty());
        assert_eq!(none.left_out.len(), 1, "{none:?}");
        assert!(none.left_out[0].0.ends_with("srv/dosing/pump-x86"), "{none:?}");
        fs::copy(sample("pump-x86"), folder.join("pump-x86")).unwrap();
        let taken = found(root.path());
        assert_eq!(taken.files, [(folder.join("pump-x86"), "/srv/dosing/pump-x86".to_owned())]);
        assert!(taken.left_out.is_empty());
        // Another build, of the same path.
        let mut other = fs::read(sample("pump-x86")).unwrap();
        let id = [0xAD, 0x62, 0x35, 0x00];
        let at = other.windows(4).position(|window| window == id).unwrap();
        other[at] ^= 0xFF;
        fs::write(folder.join("pump-x86"), other).unwrap();
        let replaced = found(root.path());
        assert!(replaced.files.is_empty());
        assert!(replaced.left_out[0].1.contains("another build"), "{replaced:?}");
    }
}
