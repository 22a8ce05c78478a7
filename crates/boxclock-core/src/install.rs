//! Installations: runs with their phases, and the step that failed first.
//!
//! What installers say is data (`install/phrases.toml`); code is what data cannot say: which runs there are ([`run`]), what the
//! package managers' logs say together ([`packages`]), and how logs of several programs hang together.

use std::borrow::Cow;
use std::collections::HashSet;
use std::sync::Arc;

use serde::{Deserialize, Serialize};
use serde_json::{Value, json};

use crate::Result;
use crate::analysis::{Analysis, CaseView, Pieces, Reads};
use crate::case::{Reader, Source};
use crate::clock::{MINUTE, SECOND};
use crate::code::{Code, Family, NO_CATALOGUES, Platform};
use crate::event::{RecordReader, Row};
use crate::format::{InstallerLog, LineFormat};
use crate::limits;
use crate::severity::Severity;
use crate::source::Class;
use crate::timeline::marks::{MarkAnalysis, MarkKind, RailMark};
use crate::work::{Work, parallel};

mod drawing;
mod failure;
mod kept;
mod packages;
mod phrases;
mod run;
#[cfg(test)]
mod tests;
mod things;
mod told;
mod trust;

pub use drawing::draw;
use told::summary;

pub use phrases::{Installer, Installers, Phrases, Role, Words};

/// A word of the JSON contract.
type Word = &'static str;

/// A place in a source.
#[derive(Clone, Debug, PartialEq, Eq, Serialize, Deserialize)]
pub struct Place {
    /// The name of the source.
    pub source: String,
    /// The line, from 1.
    pub line: u64,
}

impl Place {
    fn json(&self) -> Value {
        json!({"source": self.source, "line": self.line})
    }
}

/// A number that a program returned.
#[derive(Clone, Debug, PartialEq, Eq, Serialize, Deserialize)]
pub struct ResultCode {
    /// The number as it was written, signed.
    pub number: i64,
    /// Its name, where one is known.
    pub name: Option<String>,
}

impl ResultCode {
    fn json(&self) -> Value {
        json!({"number": self.number, "name": self.name})
    }
}

/// How a run ended.
#[derive(Clone, Copy, Debug, Default, PartialEq, Eq, Serialize, Deserialize)]
pub enum Outcome {
    /// Well.
    Succeeded,
    /// Well, and a restart of the system is needed.
    RestartNeeded,
    /// It failed.
    Failed,
    /// It failed, and what was done was undone.
    RolledBack,
    /// A person stopped it.
    Cancelled,
    /// It could not begin.
    Refused,
    /// Its log ends in the middle.
    #[default]
    CutOff,
    /// It goes on at the end of the case.
    Running,
}

impl Outcome {
    /// The word of the JSON contract.
    pub fn name(self) -> &'static str {
        match self {
            Self::Succeeded => "succeeded",
            Self::RestartNeeded => "restart-needed",
            Self::Failed => "failed",
            Self::RolledBack => "rolled-back",
            Self::Cancelled => "cancelled",
            Self::Refused => "refused",
            Self::CutOff => "cut-off",
            Self::Running => "running",
        }
    }

    /// Whether something failed in it.
    pub fn is_failure(self) -> bool {
        matches!(self, Self::Failed | Self::RolledBack)
    }
}

/// A phase or step of a run.
#[derive(Clone, Debug, Default, PartialEq, Eq, Serialize, Deserialize)]
pub struct Phase {
    /// What it is called.
    pub name: String,
    /// In how many others it lies.
    pub depth: usize,
    /// When it began.
    pub start: Option<i64>,
    /// When it ended.
    pub end: Option<i64>,
    /// Its line.
    pub line: u64,
    /// How it ended: `done`, `failed`, `skipped`; none while it is open.
    #[serde(deserialize_with = "kept::perhaps_word")]
    pub outcome: Option<Word>,
    /// How far the run was then.
    pub percent: Option<u8>,
}

/// Something that was installed, with its states.
#[derive(Clone, Debug, Default, PartialEq, Eq, Serialize, Deserialize)]
pub struct Item {
    /// `feature`, `component`, `package` or `file`.
    #[serde(deserialize_with = "kept::word")]
    pub kind: Word,
    /// Its name.
    pub name: String,
    /// What was there before.
    pub before: Option<String>,
    /// What was asked for.
    pub asked: Option<String>,
    /// What was there then.
    pub after: Option<String>,
    /// Why, where it is said.
    pub why: String,
    /// Its line.
    pub line: u64,
}

/// The step that failed first.
#[derive(Clone, Debug, PartialEq, Eq, Serialize, Deserialize)]
pub struct FirstFailure {
    /// Where.
    pub place: Place,
    /// The phase, step, action or package.
    pub step: Option<String>,
    /// The number it gave.
    pub code: Option<ResultCode>,
    /// What its line says.
    pub text: String,
}

/// A signature or certificate that was refused, as far as the log says whose it is.
#[derive(Clone, Debug, PartialEq, Eq, Serialize, Deserialize)]
pub struct TrustRefusal {
    /// Who signed.
    pub signer: Option<String>,
    /// The hash of the certificate, or the number of the key, in capitals.
    pub thumbprint: Option<String>,
    /// Until when it holds, as it is written.
    pub valid_until: Option<String>,
    /// The store or ring of keys that lacks it.
    pub store: Option<String>,
    /// The label of the host that refused it.
    pub host: Option<String>,
    /// Where.
    pub place: Place,
    /// Another certificate of the same signer, which a log accepted.
    pub accepted: Option<AcceptedCertificate>,
    /// The codes by which logs of the host tell of a refusal at that time, each with the first place in each log.
    pub codes: Vec<(String, Place)>,
}

/// A certificate that was accepted, as far as the log says whose it is.
#[derive(Clone, Debug, PartialEq, Eq, Serialize, Deserialize)]
pub struct AcceptedCertificate {
    /// Who signed.
    pub signer: Option<String>,
    /// The hash of the certificate, or the number of the key, in capitals.
    pub thumbprint: Option<String>,
    /// Until when it holds, as it is written.
    pub valid_until: Option<String>,
    /// Where.
    pub place: Place,
}

/// What one worker did with one job.
#[derive(Clone, Debug, PartialEq, Eq, Serialize, Deserialize)]
pub struct WorkerJob {
    /// The worker.
    pub worker: String,
    /// The job.
    pub job: String,
    /// `failed`, `done`, `waiting`, `running`, `fixed` or `restarted`.
    #[serde(deserialize_with = "kept::word")]
    pub outcome: Word,
    /// The last line about it.
    pub line: u64,
    /// When the first line about it was, corrected.
    pub start: Option<i64>,
    /// When it was over; `None` while it waits or runs.
    pub end: Option<i64>,
}

/// One run of an installer.
#[derive(Clone, Debug, Default, Serialize, Deserialize)]
pub struct Run {
    /// The label of its host.
    pub host: Option<String>,
    /// Its log.
    pub source: String,
    /// Its first line.
    pub line: u64,
    /// Its last line.
    pub last_line: u64,
    /// The event of its first line.
    #[serde(skip)]
    pub row: Option<Row>,
    /// `install`, `upgrade`, `repair`, `remove`, `patch` or `unknown`.
    #[serde(deserialize_with = "kept::word")]
    pub kind: Word,
    /// What was installed.
    pub product: Option<String>,
    /// Its version.
    pub version: Option<String>,
    /// When it began, corrected.
    pub start: Option<i64>,
    /// When it ended, corrected.
    pub end: Option<i64>,
    /// How it ended.
    pub outcome: Outcome,
    /// The number that it reported.
    pub code: Option<ResultCode>,
    /// Whether a restart is needed before it is in effect.
    pub restart_needed: bool,
    /// The step that failed first.
    pub first_failure: Option<FirstFailure>,
    /// What followed from it.
    pub consequences: Vec<Place>,
    /// What sounds bad and is not, with the reason.
    pub not_failures: Vec<(Place, String)>,
    /// Where it began to undo.
    pub rollback: Option<Place>,
    /// Its phases, in order.
    pub phases: Vec<Phase>,
    /// What was installed, with states.
    pub items: Vec<Item>,
    /// What was left out: name, line, why.
    pub skipped: Vec<(String, u64, String)>,
    /// Workers and their jobs.
    pub workers: Vec<WorkerJob>,
    /// Other logs that it names: path, source in the case, line.
    pub child_logs: Vec<(String, Option<String>, u64)>,
    /// What is still to do.
    pub remaining: Vec<String>,
    /// The phase that was open at the end.
    pub last_open: Option<(String, u64)>,
    /// Signatures and certificates that were refused.
    pub trust: Vec<TrustRefusal>,
    /// Certificates that it accepted.
    pub(crate) accepted: Vec<AcceptedCertificate>,
    /// In a few sentences.
    pub summary: String,
    /// The last line of its log that was read, where the log goes on behind [`limits::INSTALLER_LINES`].
    pub read_up_to: Option<u64>,
    /// Which log of a package manager it is from, if it is from one.
    pub(crate) package_log: Option<InstallerLog>,
    /// Names of logs in the same folder in which its installer says why something failed.
    pub(crate) beside: Vec<String>,
}

/// A line of an installer's log.
#[derive(Clone, Debug)]
pub(crate) struct Lined {
    pub line: u64,
    pub text: String,
    pub time: Option<i64>,
    /// OpenTelemetry's number; 0 where the source carries none.
    pub severity: u8,
    pub row: Row,
    /// The codes of its event, on its first line.
    pub codes: Vec<Code>,
    /// The component that its event names, on its first line.
    pub component: Option<Arc<str>>,
    /// Whether it is the first line of its event: what the event's level is about.
    pub is_first: bool,
}

impl Lined {
    /// `component: text`, as the words of known installers have it.
    fn said(&self) -> Cow<'_, str> {
        match &self.component {
            Some(component) => Cow::Owned(format!("{component}: {}", self.text)),
            None => Cow::Borrowed(&self.text),
        }
    }
}

/// Lines of a log that are looked through for the signs of an installer.
const SIGN_LINES: usize = 400;

/// Finds all runs, failed ones first, then in order of time.
#[derive(Clone, Copy, Debug)]
pub struct InstallAnalysis;

impl Analysis for InstallAnalysis {
    const NAME: &'static str = "installs";
    const VERSION: u32 = 1;
    const READS: Reads = Reads::Columns;
    type Piece = ();
    type Found = Vec<Run>;

    fn merge(&self, view: &CaseView, _: &Pieces<'_, ()>, work: &Work) -> Result<Vec<Run>> {
        let sources = &view.case.sources;
        let installers = Installers::of_case(&view.case);
        let looked = parallel(sources.len(), work, |index| {
            is_installer_log(&sources[index]) || begins_like_one(view, index, &installers)
        });
        let wanted: Vec<usize> = looked.into_iter().enumerate().filter(|(_, is)| *is).map(|(index, _)| index).collect();
        let end = view.loaded.table.span.map(|(_, last)| last);
        let found = parallel(wanted.len(), work, |at| {
            let index = wanted[at];
            let basis = kept::basis(view, index, &installers, end);
            if let Some(runs) = basis.and_then(|basis| kept::fetch(view, index, basis)) {
                return runs;
            }
            let runs = runs_of(view, index, &installers, end, work);
            if let Some(basis) = basis.filter(|_| !work.is_cancelled()) {
                // Where it cannot be written, the next start takes longer.
                let _ = kept::keep(view, index, basis, &runs);
            }
            runs
        });
        work.check()?;
        let mut runs = packages::joined(found.into_iter().flatten().collect());
        let names: Vec<_> = sources.iter().map(|source| (source.name.clone(), source.host.clone())).collect();
        failure::link_children(&mut runs, &names);
        const MOST_BESIDE: usize = 50;
        let of_runs: HashSet<String> = runs.iter().map(|run| run.source.clone()).collect();
        for run in runs.iter_mut().filter(|run| run.outcome.is_failure()).take(MOST_BESIDE) {
            look_in_child(view, run, &of_runs, work);
        }
        let beside = runs.iter_mut().filter(|run| run.outcome.is_failure() && !run.beside.is_empty());
        for run in beside.take(MOST_BESIDE) {
            look_beside(view, run, work);
        }
        work.check()?;
        let marks =
            if runs.iter().any(|run| run.restart_needed) { view.run(&MarkAnalysis, work)? } else { Arc::default() };
        for run in &mut runs {
            run.summary = summary(run);
            if run.restart_needed && !matches!(run.outcome, Outcome::Failed | Outcome::RolledBack) {
                run.summary.push_str(restarted(view, &marks, run));
            }
        }
        trust::side_by_side(&mut runs);
        trust::codes(view, &mut runs, work)?;
        trust::tell(&mut runs);
        runs.sort_by(|a, b| {
            let key = |run: &Run| {
                (!matches!(run.outcome, Outcome::Failed | Outcome::RolledBack | Outcome::CutOff), run.start)
            };
            (key(a), &a.source, a.line).cmp(&(key(b), &b.source, b.line))
        });
        Ok(runs)
    }
}

/// The runs of one log.
fn runs_of(view: &CaseView, index: usize, installers: &Installers, end: Option<i64>, work: &Work) -> Vec<Run> {
    let source = &view.case.sources[index];
    let lines = lines_of(view, index, work);
    let mut runs = match format_of(source) {
        Some(InstallerLog::AptHistory) => packages::history(source, &lines),
        Some(InstallerLog::AptTerminal) => packages::terminal(source, &lines),
        Some(InstallerLog::Dpkg) => packages::dpkg(source, &lines),
        _ => {
            let installer = installers.known_by(&lines[..lines.len().min(SIGN_LINES)]);
            run::runs(source, &lines, end, is_named_one(source), installers, installer)
        }
    };
    trust::refusals(&mut runs, &lines);
    if lines.len() >= limits::INSTALLER_LINES
        && let Some(last) = runs.last_mut()
    {
        last.read_up_to = lines.last().map(|line| line.line);
    }
    runs
}

/// The first line of an error in a log within the time of a run.
fn first_error(view: &CaseView, source: usize, run: &Run, work: &Work) -> Option<Lined> {
    let (start, end) = run.start.zip(run.end.or(run.start))?;
    let during = start.saturating_sub(SECOND)..=end.saturating_add(SECOND);
    lines_of(view, source, work).into_iter().find(|line| {
        line.is_first && line.severity >= Severity::ERROR.0 && line.time.is_some_and(|time| during.contains(&time))
    })
}

/// What failed first is said there: what the run says itself of it follows.
fn fails_first_at(run: &mut Run, source: &Source, line: Lined) {
    let place = Place { source: source.name.clone(), line: line.line };
    let first = FirstFailure { place, step: None, code: None, text: line.text };
    if let Some(own) = run.first_failure.replace(first) {
        run.consequences.insert(0, own.place);
    }
}

/// Where the line that failed first names another log, which is no run of its own (that of a worker), what that says first is it.
fn look_in_child(view: &CaseView, run: &mut Run, of_runs: &HashSet<String>, work: &Work) {
    let Some(text) = run.first_failure.as_ref().map(|first| first.text.to_ascii_lowercase()) else { return };
    let is_named =
        |path: &str| path.rsplit(['/', '\\']).next().is_some_and(|name| text.contains(&name.to_ascii_lowercase()));
    let named = run
        .child_logs
        .iter()
        .find(|(path, source, _)| source.as_ref().is_some_and(|source| !of_runs.contains(source)) && is_named(path));
    let Some(name) = named.and_then(|(_, source, _)| source.as_ref()) else { return };
    let Some(index) = view.case.sources.iter().position(|source| source.name == *name) else { return };
    if let Some(line) = first_error(view, index, run, work) {
        fails_first_at(run, &view.case.sources[index], line);
    }
}

/// Where the installer says in another log of its own why a run failed, that is the first failure.
fn look_beside(view: &CaseView, run: &mut Run, work: &Work) {
    let folder = |name: &str| name.rsplit_once('/').map_or(String::new(), |(folder, _)| folder.to_owned());
    let sources = view.case.sources.iter().enumerate();
    let mut beside = sources.filter(|(_, source)| {
        source.host == run.host
            && folder(&source.name) == folder(&run.source)
            && run.beside.contains(&file_name(source))
    });
    let said = beside.find_map(|(index, source)| Some((source, first_error(view, index, run, work)?)));
    if let Some((source, line)) = said {
        fails_first_at(run, source, line);
    }
}

/// What came of the restart that a run asks for.
fn restarted(view: &CaseView, marks: &[RailMark], run: &Run) -> &'static str {
    let Some(end) = run.end.or(run.start) else { return "" };
    let table = &view.loaded.table;
    let of_host = |mark: &&RailMark| run.host.as_deref() == Some(table.event(mark.row).host());
    let starts = |mark: &&RailMark| mark.kind == MarkKind::Start && mark.time > end;
    match marks.iter().filter(of_host).find(starts) {
        None => " No start of the host is seen after it: what it installed is not in effect.",
        Some(mark) if mark.time.saturating_sub(end) < 15 * MINUTE => " The host was started soon after it.",
        Some(_) => " The host was started only later: until then what it installed was not in effect.",
    }
}

/// The kind of installer's log that a source is by its format.
fn format_of(source: &Source) -> Option<InstallerLog> {
    source.reader.lines().and_then(LineFormat::installer)
}

/// Parts of the names of logs that an installer writes, and beginnings of the words by which runs say what they do.
const NAMES: [&str; 8] = ["install", "setup", "update", "upgrade", "deploy", "migrat", "patch", "bundle"];
/// Parts of names that installers and others use: such a log is looked at, and its lines decide.
const MAYBE_NAMES: [&str; 12] = [
    "bootstrap",
    "rollout",
    "provision",
    "msi",
    "dism",
    "cbs",
    "unattend",
    "npm",
    "pip",
    "coordinator",
    "worker",
    "set-up",
];

fn file_name(source: &Source) -> String {
    source.name.rsplit(['/', '\\']).next().unwrap_or(&source.name).to_ascii_lowercase()
}

/// Whether a source is the log of an installer: by its format, its class, or its name.
fn is_installer_log(source: &Source) -> bool {
    if matches!(source.reader, Reader::Dump(_)) {
        return false;
    }
    let (name, folder) = (file_name(source), source.name.to_ascii_lowercase());
    let in_folder = ["/installer/", "/setup/", "/updates/", "/install/", "/upgrade/", "/deploy/"]
        .iter()
        .any(|part| folder.contains(part));
    let is_named = NAMES.iter().chain(&MAYBE_NAMES).any(|word| name.contains(word));
    format_of(source).is_some() || source.class == Some(Class::Installer) || in_folder || is_named
}

/// Whether a log is one of an installer even where no line of it says that a run begins: by its format or its name, not by its
/// folder or users.
fn is_named_one(source: &Source) -> bool {
    let name = file_name(source);
    let is_service = source.reader.lines().is_some_and(|format| format.families().contains(&Family::Msi));
    is_service || NAMES.iter().any(|word| name.contains(word))
}

/// Whether one of the first lines of a log says that something is being installed.
fn begins_like_one(view: &CaseView, source: usize, installers: &Installers) -> bool {
    const HEAD: usize = 40;
    if matches!(view.case.sources[source].reader, Reader::Dump(_)) || view.case.sources[source].len_bytes > 64 << 20 {
        return false;
    }
    let lines = lines_up_to(view, source, HEAD, &Work::default());
    if installers.known_by(&lines).is_some() {
        return true;
    }
    let phrases = installers.general();
    lines.iter().any(|line| {
        let start = phrases.roles(&line.text).into_iter().find(|(role, _)| *role == Role::Start);
        let kind = start.and_then(|(_, phrase)| {
            phrases.captures(phrase, &line.text)?.name("kind").map(|kind| kind.as_str().to_ascii_lowercase())
        });
        kind.is_some_and(|kind| NAMES.iter().chain(&["set-up"]).any(|known| kind.starts_with(known)))
    })
}

/// The lines of a source, with the time of their record.
pub(crate) fn lines_of(view: &CaseView, source: usize, work: &Work) -> Vec<Lined> {
    lines_up_to(view, source, limits::INSTALLER_LINES, work)
}

fn lines_up_to(view: &CaseView, source: usize, most: usize, work: &Work) -> Vec<Lined> {
    let table = &view.loaded.table;
    let mut reader = RecordReader::new(view.case.sources.clone());
    let mut lines = Vec::new();
    let mut components: HashSet<Arc<str>> = HashSet::new();
    for row in table.rows_of(source) {
        if work.is_cancelled() || lines.len() >= most {
            break;
        }
        let event = table.event(row);
        let record = reader.record(event);
        let place = record.place.unwrap_or_else(|| event.place()).line;
        let body = record.body;
        let component = event.component();
        if !component.is_empty() && !components.contains(component) {
            components.insert(Arc::from(component));
        }
        let component = components.get(component).cloned();
        for (number, text) in body.split('\n').enumerate() {
            lines.push(Lined {
                line: place + number as u64,
                text: text.trim_end_matches('\r').to_owned(),
                time: event.time(),
                severity: event.severity().0,
                row,
                codes: if number == 0 { event.codes().collect() } else { Vec::new() },
                component: component.clone().filter(|_| number == 0),
                is_first: number == 0,
            });
        }
    }
    lines
}

/// A number as a result, with its name on that system.
pub(crate) fn result_code(number: i64, platform: Platform) -> ResultCode {
    let unsigned = u32::try_from(number).ok().or_else(|| i32::try_from(number).ok().map(i32::cast_unsigned));
    let name = unsigned.and_then(|number| {
        let families: &[Family] = match platform {
            Platform::Windows if number > 0xFFFF => &[Family::Hresult, Family::NtStatus],
            Platform::Windows => &[Family::Msi, Family::Win32],
            _ if number > 0xFFFF => &[Family::Hresult],
            _ if (1000..4000).contains(&number) => &[Family::Msi, Family::Win32],
            _ => &[],
        };
        families.iter().find_map(|family| name_of_code(Code { family: *family, number }))
    });
    ResultCode { number, name }
}

/// The name of a code; none where it has but its number.
fn name_of_code(code: Code) -> Option<String> {
    let name = code.info(&NO_CATALOGUES).name.map(str::to_owned);
    name.filter(|name| name.bytes().any(|byte| byte.is_ascii_alphabetic()))
}
