//! The runs of each log, kept beside its index: a log is gone through once, until it or what it is read by changes.

use std::hash::{Hash, Hasher};

use rustc_hash::FxHasher;
use serde::de::Error as _;
use serde::{Deserialize, Deserializer, Serialize};

use super::{Installers, Run, Word};
use crate::analysis::{CaseView, read_checked, write_checked};
use crate::case::index::{self, Key, State};

/// Changes whenever the same lines give other runs.
const VERSION: u32 = 2;
const NAME: &str = "installs";

/// What a file holds.
#[derive(Serialize, Deserialize)]
struct File {
    version: String,
    key: Key,
    basis: u64,
    runs: Vec<Run>,
}

/// What the runs of a log depend on beside its bytes: the words of installers, when its events were and how bad they are, what it and
/// its host are called, and when the case ends. `None` for a log whose runs are not kept.
pub(super) fn basis(view: &CaseView, source: usize, installers: &Installers, end: Option<i64>) -> Option<u64> {
    key_of(view, source)?;
    let of = &view.case.sources[source];
    let table = &view.loaded.table;
    let mut hash = FxHasher::default();
    (installers.identity(), end, &of.name, &of.host, of.platform as u8).hash(&mut hash);
    for row in table.rows_of(source) {
        let event = table.event(row);
        (event.time(), event.severity().0).hash(&mut hash);
        event.codes().for_each(|code| code.hash(&mut hash));
    }
    Some(hash.finish())
}

/// The version of this program and of what is kept.
fn version() -> String {
    format!("{} {VERSION}", env!("CARGO_PKG_VERSION"))
}

/// The key of a source whose runs can be kept.
fn key_of(view: &CaseView, source: usize) -> Option<&Key> {
    let of = view.case.sources.get(source).filter(|source| index::is_kept(source));
    view.loaded.keys.get(source)?.as_ref().filter(|_| of.is_some() && view.loaded.complete)
}

/// The runs that were kept of a source, if they are still right.
pub(super) fn fetch(view: &CaseView, source: usize, basis: u64) -> Option<Vec<Run>> {
    let key = key_of(view, source)?;
    let of = &view.case.sources[source];
    let file: File = read_checked(&index::pieces_path(of, NAME)?)?;
    let same = file.version == version()
        && file.basis == basis
        && matches!(index::state(of, &file.key, key, false), State::Same);
    let mut runs = same.then_some(file.runs)?;
    for run in &mut runs {
        run.row = view.row_of_line(&run.source, run.line);
    }
    Some(runs)
}

/// Keeps the runs of a source. Without them the next start only takes longer, so failing is no trouble of the case.
pub(super) fn keep(view: &CaseView, source: usize, basis: u64, runs: &[Run]) -> Option<()> {
    let key = key_of(view, source)?.clone();
    let path = index::pieces_path(&view.case.sources[source], NAME)?;
    write_checked(&path, &File { version: version(), key, basis, runs: runs.to_vec() })
}

/// The words that fields of a run have.
const WORDS: [Word; 18] = [
    "",
    "install",
    "upgrade",
    "repair",
    "remove",
    "patch",
    "unknown",
    "feature",
    "component",
    "package",
    "file",
    "done",
    "failed",
    "skipped",
    "waiting",
    "running",
    "fixed",
    "restarted",
];

pub(super) fn word<'d, D: Deserializer<'d>>(from: D) -> Result<Word, D::Error> {
    let text = String::deserialize(from)?;
    WORDS.into_iter().find(|word| *word == text).ok_or_else(|| D::Error::custom("an unknown word"))
}

pub(super) fn perhaps_word<'d, D: Deserializer<'d>>(from: D) -> Result<Option<Word>, D::Error> {
    let text: Option<String> = Option::deserialize(from)?;
    let known = |text: String| WORDS.into_iter().find(|word| *word == text);
    text.map(|text| known(text).ok_or_else(|| D::Error::custom("an unknown word"))).transpose()
}

#[cfg(test)]
mod tests {
    use super::super::InstallAnalysis;
    use super::*;
    use crate::testing::case;
    use crate::work::Work;

    /// A log that is large enough to be kept: runs of an updater, one of which fails.
    fn large() -> String {
        let mut text = String::new();
        for run in 0..40 {
            text.push_str(&format!("2026-04-12T02:{run:02}:00Z INFO updater: update of dosing 2.{run} started\n"));
            for step in 0..400 {
                let second = 1 + step / 10;
                text.push_str(&format!(
                    "2026-04-12T02:{run:02}:{second:02}Z INFO updater: copying file {step} of 400 to /srv/dosing\n"
                ));
            }
            let end = if run == 7 {
                "ERROR updater: update failed: no space left"
            } else {
                "INFO updater: update finished successfully"
            };
            text.push_str(&format!("2026-04-12T02:{run:02}:50Z {end}\n"));
        }
        text
    }

    #[test]
    fn runs_are_kept_until_something_changes() {
        let root = case(&[("gw/update.log", large())]);
        let told = |view: &CaseView| {
            let runs = view.run(&InstallAnalysis, &Work::default()).unwrap();
            (
                runs.iter().enumerate().map(|(id, run)| run.json(id)).collect::<Vec<_>>(),
                runs.iter().map(|run| run.row).collect::<Vec<_>>(),
            )
        };
        let view = root.view();
        let first = told(&view);
        assert_eq!(first.0.len(), 40);
        let installers = Installers::of_case(&view.case);
        let end = view.loaded.table.span.map(|(_, last)| last);
        let based = basis(&view, 0, &installers, end).unwrap();
        assert!(fetch(&view, 0, based ^ 1).is_none(), "on another basis");
        let kept = fetch(&view, 0, based).unwrap();
        assert_eq!(kept.len(), 40);
        // What is kept is believed.
        keep(&view, 0, based, &kept[..1]).unwrap();
        assert_eq!(told(&root.view()).0.len(), 1);
        keep(&view, 0, based, &kept).unwrap();
        assert_eq!(told(&root.view()), first);
        // Damage is noticed, and an older state of the log.
        let path = index::pieces_path(&view.case.sources[0], NAME).unwrap();
        let mut bytes = std::fs::read(&path).unwrap();
        let middle = bytes.len() / 2;
        bytes[middle] ^= 1;
        std::fs::write(&path, bytes).unwrap();
        assert_eq!(told(&root.view()), first);
        let more = format!("{}2026-04-12T03:00:00Z INFO updater: update of dosing 3 started\n", large());
        std::fs::write(root.path().join("hosts/gw/update.log"), more).unwrap();
        assert_eq!(told(&root.view()).0.len(), 41);
    }
}
