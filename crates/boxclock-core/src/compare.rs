//! What is different between a bad run and a good one, and matters: settings by key, logs by what they say, system calls by what
//! they did to which object.
//!
//! What differs from run to run anyway (times, process ids, addresses, temporary names, random ids, order of settings) is left
//! out or put last.

use std::path::{Path, PathBuf};

use serde_json::{Value, json};

use crate::analysis::CaseView;
use crate::event::RecordReader;
use crate::files::find_files;
use crate::work::Work;
use crate::{Result, limits};

mod calls;
mod kinds;
mod logs;
mod settings;
mod steps;
mod tables;
#[cfg(test)]
mod tests;

/// What kind of difference it is.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum Kind {
    /// Only on the bad side.
    OnlyBad,
    /// Only on the good side.
    OnlyGood,
    /// Far more or fewer.
    Count,
    /// In another order.
    Order,
    /// The same step ended otherwise.
    Outcome,
    /// Another value.
    Value,
    /// Slower or faster by far.
    Duration,
    /// A longer silence.
    Gap,
}

impl Kind {
    /// The word of the JSON contract.
    pub fn name(self) -> &'static str {
        match self {
            Self::OnlyBad => "only-bad",
            Self::OnlyGood => "only-good",
            Self::Count => "count",
            Self::Order => "order",
            Self::Outcome => "outcome",
            Self::Value => "value",
            Self::Duration => "duration",
            Self::Gap => "gap",
        }
    }
}

/// A place on one side.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Place {
    /// The name of the source.
    pub source: String,
    /// The line, from 1.
    pub line: u64,
}

/// One difference.
#[derive(Clone, Debug)]
pub struct Difference {
    /// What kind.
    pub kind: Kind,
    /// Where on the bad side.
    pub bad: Option<Place>,
    /// Where on the good side.
    pub good: Option<Place>,
    /// What differs.
    pub what: String,
    /// Why it matters.
    pub why: String,
    /// How much, 0 to 1.
    pub score: f64,
}

impl Difference {
    /// What it is about, whatever the values of this run are: what somebody has seen does not matter is known by it the next time.
    pub fn key(&self) -> String {
        format!("{} {}", self.kind.name(), crate::pattern::template(&self.what))
    }

    /// As the JSON contract has it.
    pub fn json(&self, rank: usize) -> Value {
        let place =
            |place: &Option<Place>| place.as_ref().map(|place| json!({"source": place.source, "line": place.line}));
        json!({"rank": rank, "kind": self.kind.name(), "bad": place(&self.bad), "good": place(&self.good), "what": self.what, "why": self.why, "score": self.score})
    }
}

/// One side: what is read as events, and the files as they are.
pub struct Side {
    /// Its events.
    pub view: CaseView,
    /// Its files: name and path.
    pub files: Vec<(String, PathBuf)>,
}

impl Side {
    /// The side of some paths, with the files behind it.
    ///
    /// # Errors
    /// When a folder cannot be read.
    pub fn new(view: CaseView, paths: &[PathBuf]) -> Result<Self> {
        let mut files: Vec<(String, PathBuf)> = Vec::new();
        let mut left_out = Vec::new();
        for path in paths {
            if path.is_dir() {
                for file in find_files(path, &mut left_out)? {
                    let below = file.path.strip_prefix(path).unwrap_or(&file.path).to_string_lossy().into_owned();
                    let name = if below.starts_with("hosts/") { below } else { file.name };
                    files.push((name, file.path));
                }
            } else if view.case.seal.is_none() {
                files.push((path.display().to_string(), path.clone()));
            }
        }
        if files.is_empty() {
            files.extend(view.case.sources.iter().map(|source| (source.name.clone(), source.path.clone())));
            files.extend(view.case.documents.iter().map(|document| (document.name.clone(), document.path.clone())));
        }
        Ok(Self { view, files })
    }
}

/// Names of both sides that are of the same file, by their places.
fn pairs(bad: &[String], good: &[String]) -> Vec<(usize, usize)> {
    if let ([_], [_]) = (bad, good) {
        return vec![(0, 0)];
    }
    let below = |name: &str| -> (String, String) {
        match name.strip_prefix("hosts/").and_then(|rest| rest.split_once('/')) {
            Some((host, below)) => (host.to_owned(), below.to_owned()),
            None => (String::new(), name.rsplit('/').next().unwrap_or(name).to_owned()),
        }
    };
    let keys: Vec<(String, String)> = good.iter().map(|name| below(name)).collect();
    let mut taken = vec![false; good.len()];
    let mut found = Vec::new();
    for (index, name) in bad.iter().enumerate() {
        let (host, path) = below(name);
        let whole = (0..good.len()).find(|at| !taken[*at] && good[*at] == *name);
        let exact = whole.or_else(|| {
            keys.iter().enumerate().position(|(at, key)| !taken[at] && *key == (host.clone(), path.clone()))
        });
        // On another host of the same role.
        let other = exact.or_else(|| keys.iter().enumerate().position(|(at, (_, other))| !taken[at] && *other == path));
        let file = path.rsplit('/').next().unwrap_or_default().to_owned();
        let other = other.or_else(|| {
            keys.iter()
                .enumerate()
                .position(|(at, (_, key))| !taken[at] && key.rsplit('/').next() == Some(file.as_str()))
        });
        if let Some(at) = other {
            taken[at] = true;
            found.push((index, at));
        }
    }
    found
}

/// Compares a bad side with a good one, what matters most first.
///
/// # Errors
/// When cancelled.
pub fn compare(bad: &Side, good: &Side, work: &Work) -> Result<Vec<Difference>> {
    const MOST: usize = 500;
    let mut found = logs::differences(&bad.view, &good.view, work)?;
    // What the bad side complains about points at settings.
    let complaints: String = found
        .iter()
        .filter(|one| matches!(one.kind, Kind::OnlyBad | Kind::Outcome))
        .take(60)
        .map(|one| one.what.to_lowercase())
        .collect::<Vec<_>>()
        .join("\n");
    found.extend(of_settings(bad, good, &complaints, work)?);
    found.sort_by(|a, b| b.score.total_cmp(&a.score));
    found.truncate(MOST);
    Ok(found)
}

/// Compares two parts of one case, by their rows.
///
/// # Errors
/// When cancelled.
pub fn compare_windows(view: &CaseView, bad: &[u32], good: &[u32], work: &Work) -> Result<Vec<Difference>> {
    let mut found = logs::of_windows(view, bad, good, work)?;
    found.sort_by(|a, b| b.score.total_cmp(&a.score));
    Ok(found)
}

fn of_settings(bad: &Side, good: &Side, complaints: &str, work: &Work) -> Result<Vec<Difference>> {
    let names = |side: &Side| side.files.iter().map(|(name, _)| name.clone()).collect::<Vec<_>>();
    let mut found = Vec::new();
    let (bad_names, good_names) = (names(bad), names(good));
    for (of_bad, of_good) in pairs(&bad_names, &good_names) {
        work.check()?;
        let (bad_file, good_file) = (&bad.files[of_bad], &good.files[of_good]);
        if !settings::can_be(&bad_file.0) || is_log(&bad.view, &bad_file.0) {
            continue;
        }
        let (Some(bad_text), Some(good_text)) = (small_text(&bad_file.1), small_text(&good_file.1)) else { continue };
        found.extend(settings::differences((&bad_file.0, &bad_text), (&good_file.0, &good_text), complaints));
    }
    Ok(found)
}

/// Whether a file is read as dated events: a log, whatever it is called.
fn is_log(view: &CaseView, name: &str) -> bool {
    let source = view.case.sources.iter().position(|source| source.name == name || source.name.ends_with(name));
    source.is_some_and(|index| {
        let report = view.loaded.reports.get(index);
        report.is_some_and(|report| report.events > 3 && report.undated_events * 2 < report.events)
    })
}

fn small_text(path: &Path) -> Option<String> {
    std::fs::metadata(path).ok().filter(|found| found.is_file() && found.len() <= limits::RECORD_BYTES as u64 * 8)?;
    let mut samples = vec![std::fs::read(path).ok()?];
    let (encoding, mark) = crate::text::guess(&samples)?;
    let bytes = samples.pop()?;
    Some(encoding.text(bytes.get(usize::try_from(mark).ok()?..)?))
}

/// A reader over the records of a side.
fn reader(view: &CaseView) -> RecordReader {
    RecordReader::new(view.case.sources.clone())
}
