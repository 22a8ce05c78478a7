//! The crashes of a case: dumps, reports in text, and marks of an end without either, each judged, with those of its kind.

#![allow(
    clippy::indexing_slicing,
    clippy::arithmetic_side_effects,
    clippy::cast_possible_truncation,
    reason = "it works on the case: numbers of files have been read by then"
)]

use std::collections::{HashMap, HashSet};

use serde::{Deserialize, Serialize};
use serde_json::{Map, Value, json};

use super::around::{self, Around, NearLine};
use super::examine::examine;
use super::judge::{self, Verdict};
use super::program::Programs;
use super::signs::{self, SignPiece};
use super::stack::Frame;
use super::text;
use super::{Crash, Kind, Module, TimeFrom, told, whose, words};
use crate::Result;
use crate::analysis::{Analysis, CaseView, Pieces, Window};
use crate::case::Reader;
use crate::clock::{MINUTE, SECOND, to_rfc3339};
use crate::event::Row;
use crate::work::Work;

/// A place in a source.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct CrashPlace {
    /// The name of the source.
    pub source: String,
    /// The line, from 1.
    pub line: u64,
}

/// One crash of a case.
#[derive(Clone, Debug)]
pub struct CrashReport {
    /// Where it stands.
    pub place: CrashPlace,
    /// The event of it.
    pub row: Option<Row>,
    /// The format: of the dump, `crash-text` for a report, that of the log for a mark.
    pub format: String,
    /// The label of its host.
    pub host: Option<String>,
    /// When, UTC nanoseconds, corrected.
    pub time: Option<i64>,
    /// Where that time is from.
    pub time_from: TimeFrom,
    /// What the dump or text says.
    pub crash: Crash,
    /// The stack of the thread that failed, innermost first.
    pub frames: Vec<Frame>,
    /// What that lets be concluded.
    pub verdict: Verdict,
    /// What it has in common with others of its kind.
    pub fingerprint: String,
    /// Other crashes of the same fingerprint.
    pub same_as: Vec<CrashPlace>,
    /// Lines elsewhere that tell of the same end.
    pub told_by: Vec<CrashPlace>,
    /// Whether there is only a mark: no dump and no report.
    pub is_mark: bool,
    /// Modules in the stack whose files are not at hand.
    pub missing: Vec<String>,
    /// In two or three sentences.
    pub summary: String,
    /// What to do, with what it proves.
    pub remedies: Vec<(String, String)>,
    /// What stands around it in the case.
    pub around: Around,
}

/// What one segment says of crashes.
#[derive(Default, Serialize, Deserialize)]
pub struct CrashPiece {
    /// Events in which the report of a crash may begin.
    beginnings: Vec<u16>,
    /// Lines that matter around one.
    signs: SignPiece,
}

/// Finds and judges all crashes, in order of time.
#[derive(Clone, Copy, Debug)]
pub struct CrashAnalysis;

impl Analysis for CrashAnalysis {
    const NAME: &'static str = "crashes";
    const VERSION: u32 = 2;
    type Piece = CrashPiece;
    type Found = Vec<CrashReport>;

    fn window(&self, piece: &mut CrashPiece, window: &Window<'_>) {
        if matches!(window.source.reader, Reader::Dump(_)) {
            return;
        }
        let mut at = 0;
        while let Some((start, end)) = text::next_beginning(window.bytes, at) {
            let seen = window.event_at(start);
            piece.beginnings.push(seen.index as u16);
            at = seen.end.max(end);
        }
        signs::find(&mut piece.signs, window);
    }

    fn merge(&self, view: &CaseView, pieces: &Pieces<'_, CrashPiece>, work: &Work) -> Result<Vec<CrashReport>> {
        let of_parts: Vec<CrashPiece> =
            (0..view.loaded.table.parts.len()).map(|at| pieces.of_part(at)).collect::<Result<_>>()?;
        let (beginnings, of_signs): (Vec<_>, Vec<_>) =
            of_parts.into_iter().map(|piece| (piece.beginnings, piece.signs)).unzip();
        let mut all = dumps(view, work)?;
        all.extend(told::told(view, &beginnings, work)?);
        all.extend(told::unclean(view, work)?);
        let mut all = together(all);
        judge_all(view, &mut all);
        around::tell(view, &mut all, &signs::of_case(view, of_signs), work)?;
        Ok(all)
    }
}

/// The dumps of a case.
fn dumps(view: &CaseView, work: &Work) -> Result<Vec<CrashReport>> {
    let table = &view.loaded.table;
    let mut found = Vec::new();
    for (index, source) in view.case.sources.iter().enumerate() {
        work.check()?;
        let Reader::Dump(format) = source.reader else { continue };
        let mut programs = Programs::new(&view.case.programs, source.host.as_deref());
        let mut report = examine(format, &source.path, &mut programs);
        report.place.source.clone_from(&source.name);
        report.host.clone_from(&source.host);
        let event = table.rows_of(index).next().map(|row| table.event(row));
        report.row = event.map(|event| event.row);
        report.time = event.and_then(|event| event.time()).or(report.crash.time).or(Some(source.modified));
        report.time_from = if report.crash.time.is_some() { TimeFrom::Dump } else { TimeFrom::File };
        found.push(report);
    }
    Ok(found)
}

/// How much a report says: the more, the rather it stands for the others of the same end.
fn weight(report: &CrashReport) -> u32 {
    let of_dump = u32::from(!report.is_mark && report.format != "crash-text");
    of_dump * 8
        + u32::from(!report.is_mark) * 4
        + u32::from(!report.frames.is_empty()) * 2
        + u32::from(report.crash.pid.is_some())
}

pub(super) fn same_name(a: &str, b: &str) -> bool {
    let bare = |name: &str| name.to_ascii_lowercase().trim_end_matches(".exe").trim_end_matches(".service").to_owned();
    let (a, b) = (bare(a), bare(b));
    // The kernel keeps 15 bytes of a name.
    a == b || (a.len().min(b.len()) >= 4 && (a.starts_with(&b) || b.starts_with(&a)))
}

/// Whether two reports are of the same end.
fn same_end(a: &CrashReport, b: &CrashReport) -> bool {
    if a.host != b.host {
        return false;
    }
    let apart = a.time.zip(b.time).map(|(a, b)| a.abs_diff(b));
    let within = |limit: i64| apart.is_some_and(|apart| apart <= limit.unsigned_abs());
    let system = |report: &CrashReport| {
        report.crash.what.kind == Kind::Stop || report.crash.what.name.as_deref() == Some("Kernel panic")
    };
    if system(a) && system(b) {
        let stops = a.crash.what.number.zip(b.crash.what.number);
        // It is noticed only at the next start.
        return match stops {
            Some((a, b)) => a == b && within(24 * 60 * MINUTE),
            None => within(60 * MINUTE),
        };
    }
    if system(a) || system(b) {
        return false;
    }
    let file_time = a.time_from == TimeFrom::File || b.time_from == TimeFrom::File;
    let named = a.crash.process.as_deref().zip(b.crash.process.as_deref()).map(|(a, b)| same_name(a, b));
    if let Some((one, other)) = a.crash.pid.zip(b.crash.pid) {
        return one == other && (within(2 * MINUTE) || (file_time && named != Some(false)));
    }
    // A manager names the service, the dump the program.
    let same_signal = a.crash.what.number.is_some() && a.crash.what.number == b.crash.what.number;
    (named == Some(true) && within(30 * SECOND)) || (same_signal && a.is_mark != b.is_mark && within(5 * SECOND))
}

/// Brings reports of the same end together: a dump stands for the lines that tell of it.
fn together(mut all: Vec<CrashReport>) -> Vec<CrashReport> {
    all.sort_by_key(|report| (std::cmp::Reverse(weight(report)), report.time));
    let mut kept: Vec<CrashReport> = Vec::new();
    for report in all {
        // Two dumps or reports of their own are two crashes, whatever they say.
        let of = kept.iter_mut().find(|known| (report.is_mark || known.is_mark) && same_end(known, &report));
        match of {
            Some(known) => {
                if known.time_from == TimeFrom::File && report.time_from == TimeFrom::Log {
                    (known.time, known.time_from) = (report.time, report.time_from);
                }
                if known.crash.what.name.is_none() {
                    known.crash.what = report.crash.what.clone();
                    known.crash.code = report.crash.code;
                }
                known.crash.pid = known.crash.pid.or(report.crash.pid);
                known.crash.process = known.crash.process.take().or(report.crash.process);
                if known.frames.is_empty() {
                    known.frames = report.frames;
                    known.crash.modules.extend(report.crash.modules);
                }
                if known.crash.what.words.is_none() {
                    known.crash.what.words = report.crash.what.words;
                }
                known.told_by.push(report.place);
                known.told_by.extend(report.told_by);
            }
            None => kept.push(report),
        }
    }
    kept.sort_by(|a, b| (a.time, &a.place.source, a.place.line).cmp(&(b.time, &b.place.source, b.place.line)));
    kept
}

/// Judges each, then finds those of the same kind.
fn judge_all(view: &CaseView, all: &mut [CrashReport]) {
    for report in all.iter_mut() {
        let class = judge::refine(&mut report.crash, &report.frames);
        report.verdict = judge::judge(&report.crash, &report.frames, class, report.time);
        report.fingerprint = judge::fingerprint(&report.crash, &report.frames);
        report.remedies = words::remedies(report);
    }
    let places: Vec<(String, CrashPlace)> =
        all.iter().map(|report| (report.fingerprint.clone(), report.place.clone())).collect();
    let of_kind: HashMap<&str, usize> = places.iter().fold(HashMap::new(), |mut counts, (print, _)| {
        *counts.entry(print.as_str()).or_default() += 1;
        counts
    });
    for report in all.iter_mut() {
        if of_kind.get(report.fingerprint.as_str()).is_some_and(|count| *count > 1) {
            let same = places.iter().filter(|(print, place)| *print == report.fingerprint && *place != report.place);
            report.same_as = same.map(|(_, place)| place.clone()).take(200).collect();
        }
        report.summary = words::summary(view, report);
    }
}

impl CrashReport {
    /// Which of the program files on the stack are not at hand, and how they come into a box; `None` where all are.
    pub fn missing_words(&self) -> Option<String> {
        let on_stack: std::collections::BTreeSet<&str> = self
            .frames
            .iter()
            .filter_map(|frame| frame.module.as_deref())
            .filter(|name| !name.starts_with('['))
            .collect();
        let (missing, all) = (self.missing.len(), on_stack.len().max(self.missing.len()));
        let names = self.missing.join(", ");
        // Only programs with whole paths can be found on the host that wrote the dump.
        let how = if self.missing.iter().all(|path| path.starts_with('/')) {
            "On the host that wrote the dump, `boxclock pack DUMP --programs --into X.box.zip` takes them along (--programs=symbols: only what names functions)"
        } else {
            "Put them into the box, or beside the dump"
        };
        (missing > 0).then(|| format!("program files not at hand: {missing} of {all} on the stack: {names}. {how}"))
    }

    /// A report of which nothing but this is known.
    pub(super) fn new(place: CrashPlace, format: &str, crash: Crash) -> Self {
        Self {
            place,
            row: None,
            format: format.to_owned(),
            host: None,
            time: None,
            time_from: TimeFrom::Nowhere,
            crash,
            frames: Vec::new(),
            verdict: Verdict::default(),
            fingerprint: String::new(),
            same_as: Vec::new(),
            told_by: Vec::new(),
            is_mark: false,
            missing: Vec::new(),
            summary: String::new(),
            remedies: Vec::new(),
            around: Around::default(),
        }
    }

    /// A module as the JSON contract has it.
    fn module_json(&self, module: &Module, in_stack: &HashSet<&str>) -> Value {
        let mut members = Map::new();
        members.insert("name".into(), module.name().into());
        if module.path != module.name() {
            members.insert("path".into(), module.path.clone().into());
        }
        if module.base != 0 {
            members.insert("base".into(), format!("0x{:x}", module.base).into());
        }
        if module.end > module.base {
            members.insert("size".into(), module.end.saturating_sub(module.base).into());
        }
        if let Some(id) = &module.build_id {
            members.insert("build_id".into(), id.clone().into());
        }
        if let Some(version) = &module.version {
            members.insert("version".into(), version.clone().into());
        }
        if let Some(built) = whose::built(module, &self.crash, self.time) {
            let text = to_rfc3339(built.saturating_mul(SECOND));
            members.insert("date".into(), text.get(..10).unwrap_or_default().into());
        }
        if let Some(days) = whose::age_days(module, &self.crash, self.time) {
            members.insert("age_days".into(), days.into());
        }
        members.insert("own".into(), whose::own(module, &self.crash).name().into());
        members.insert("in_stack".into(), in_stack.contains(module.name()).into());
        Value::Object(members)
    }

    /// How many threads there were, where that is known.
    pub fn thread_count(&self) -> Option<usize> {
        self.crash.thread_count.or(Some(self.crash.threads.len()).filter(|count| *count > 0))
    }

    /// The name of the thread that failed.
    pub fn thread_name(&self) -> Option<&str> {
        let crash = &self.crash;
        crash
            .thread()
            .or(crash.threads.first().filter(|_| crash.tid.is_none()))
            .and_then(|thread| thread.name.as_deref())
    }

    /// As the JSON contract has it.
    pub fn json(&self) -> Value {
        let crash = &self.crash;
        let what = &crash.what;
        let hex = |number: u64| format!("0x{number:x}");
        let in_stack: HashSet<&str> = self.frames.iter().filter_map(|frame| frame.module.as_deref()).collect();
        let parameters: Vec<Value> =
            what.parameters.iter().map(|(value, means)| json!({"value": hex(*value), "means": means})).collect();
        let mut value = json!({
            "source": self.place.source, "line": self.place.line, "format": self.format, "host": self.host,
            "time": self.time.map(to_rfc3339), "time_from": self.time_from.name(),
            "process": crash.process, "pid": crash.pid, "executable": crash.executable,
            "what": {
                "kind": what.kind.name(), "number": what.number, "name": what.name, "detail": what.detail,
                "address": what.address.map(hex), "access": what.access.map(super::Access::name),
                "parameters": parameters, "words": what.words,
            },
            "thread": {"id": crash.tid, "name": self.thread_name()},
            "threads": self.thread_count(),
            "frames": self.frames.iter().map(Frame::json).collect::<Vec<_>>(),
            "modules": crash.modules.iter().map(|module| self.module_json(module, &in_stack)).collect::<Vec<_>>(),
            "unloaded": crash.unloaded.iter().map(|module| module.name().to_owned()).collect::<Vec<_>>(),
            "suspects": self.verdict.suspects.iter().map(|one| json!({"module": one.module, "score": one.score, "why": one.why})).collect::<Vec<_>>(),
            "witnesses": self.verdict.witnesses.iter().map(|one| json!({"module": one.module, "why": one.why})).collect::<Vec<_>>(),
            "provable": self.verdict.provable,
            "doubts": self.verdict.doubts,
            "fingerprint": self.fingerprint,
            "same_as": self.same_as.iter().map(|place| place.source.clone()).collect::<Vec<_>>(),
            "told_by": self.told_by.iter().map(|place| json!({"source": place.source, "line": place.line})).collect::<Vec<_>>(),
            "missing_programs": self.missing,
            "before": self.around.before.iter().map(NearLine::json).collect::<Vec<_>>(),
            "changes": self.around.changes.iter().map(NearLine::json).collect::<Vec<_>>(),
            "history": self.around.history,
            "no_dump": self.around.no_dump.iter().map(|(text, place)| {
                let place = place.as_ref().map(|place| json!({"source": place.source, "line": place.line}));
                json!({"why": text, "place": place})
            }).collect::<Vec<_>>(),
            "damage": crash.trouble,
            "summary": self.summary,
            "remedies": self.remedies.iter().map(|(what, proves)| json!({"do": what, "proves": proves})).collect::<Vec<_>>(),
        });
        if !crash.attributes.is_empty()
            && let Some(members) = value.as_object_mut()
        {
            members.insert("attributes".into(), Value::Object(crash.attributes.clone()));
        }
        value
    }
}
