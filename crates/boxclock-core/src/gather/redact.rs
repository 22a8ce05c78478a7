//! Redacting: a copy of a box in which rules have replaced what is nobody's business, and which may hold less.
//!
//! The same value always becomes the same replacement within a case, by a keyed hash (HMAC with SHA-256), so trails can still
//! be followed; the key is made for each case and kept apart from it, never in a box. The original is not touched.
//! Lines keep their number and their ends; times, codes and formats are read as before. What the rules find anywhere is replaced
//! everywhere, and what still looks like a secret in the copy stops it.

use std::collections::{BTreeMap, HashMap};
use std::path::{Path, PathBuf};
use std::sync::Arc;

use serde_json::Value;
use sha2::{Digest, Sha256};

use super::pack::{BoxWriter, free_name};
use super::seal::{AppliedRule, Custody, Cut, Redaction, Seal, SealedFile, Unreadable, Why};
use super::window::{self, CutPart, Looked, Part, Window};
use super::{DiskUse, OpenBox, STORY_NAME, Signer, hex, sha256_of, unpack};
use crate::case::Options;
use crate::clock::Zone;
use crate::files::FileFound;
use crate::format::Detected;
use crate::source::Class;
use crate::work::Work;
use crate::{Error, Result, clock, platform};

mod armour;
mod columns;
mod files;
mod find;
mod keys;
mod rules;
mod sieve;
mod values;

use files::Treatment;
pub use find::{Redactor, Sample};
pub use rules::{Rule, Rules};

/// What goes into the redacted copy.
#[derive(Clone, Default)]
pub struct RedactPlan {
    /// The box.
    pub from: PathBuf,
    /// The new box; `None` only looks what would be replaced.
    pub into: Option<PathBuf>,
    /// When, UTC nanoseconds.
    pub now: i64,
    /// Only these sources (names in the box), if any are named.
    pub only: Vec<String>,
    /// Only what was written then, if a window is given.
    pub window: Option<Window>,
    /// Records that go along wherever they lie: source and offset.
    pub pins: Vec<(String, u64)>,
    /// Files that cannot be redacted (dumps, packed files, logs whose records are not lines) go along as they are. Otherwise
    /// they are left out and named.
    pub keep_binary: bool,
    /// How the reader reads each source, by its name in the box.
    pub formats: HashMap<String, Detected>,
    /// Whether the copy is written although something in it still looks like a secret.
    pub confirmed: bool,
    /// Who signs the copy.
    pub signer: Option<Arc<Signer>>,
    /// Values that stay as they are, whatever rule finds them.
    pub keep: Vec<String>,
}

/// Something that still looks like a secret in the copy.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Leftover {
    /// The file in the copy.
    pub file: String,
    /// The rule that finds it.
    pub rule: String,
    /// What it finds.
    pub value: String,
    /// How often.
    pub count: u64,
}

/// What went into the redacted copy.
#[derive(Clone, Debug, Default)]
pub struct RedactSummary {
    /// How often each rule was applied.
    pub applied: Vec<AppliedRule>,
    /// For each rule: values, how often, and their replacement.
    pub samples: Vec<(String, Vec<Sample>)>,
    /// Files in the new box.
    pub files: usize,
    /// What was left out, and why.
    pub left_out: Vec<Unreadable>,
    /// What still looks like a secret, the most frequent first in each file.
    pub leftovers: Vec<Leftover>,
}

/// Writes a redacted box, or looks what would be replaced.
///
/// # Errors
/// When the box cannot be read or is damaged, the new one exists or cannot be written, something in it still looks like a secret
/// and nobody has confirmed that, or the work is cancelled.
pub fn redact(options: &RedactPlan, rules: &[Rule], key: [u8; 32], work: &Work) -> Result<RedactSummary> {
    if let Some(into) = &options.into {
        free_name(into)?;
    }
    let OpenBox { mut seal, story, files, left_out, formats: _, codes: _, cards: _, installers: _, folder: unpacked } =
        unpack(&options.from, DiskUse::Share, work)?;
    // What could not be gathered stands in the seal, at the end of this list; anything before is damage.
    if let Some(damaged) = left_out.first().filter(|_| left_out.len() > seal.unreadable.len()) {
        return Err(Error::new(format!("{}: {}: a damaged box cannot be redacted", damaged.path, damaged.reason)));
    }
    let of = hex(&Sha256::digest(serde_json::to_vec(&seal).unwrap_or_default()));
    let mut redactor = Redactor::new(rules, key).keeping(&options.keep);
    let folder = options.into.as_deref().and_then(Path::parent).filter(|folder| !folder.as_os_str().is_empty());
    let mut writer = match &options.into {
        Some(into) => Some(BoxWriter::new(into, folder.unwrap_or(Path::new(".")))?),
        None => None,
    };
    let total = files.iter().map(|(file, ..)| file.len_bytes).sum::<u64>();
    work.set_total(total);
    let mut summary = RedactSummary::default();
    let mut kept = Vec::new();
    let parts = parts_of(options, &files, &seal, work)?;
    let story_text =
        serde_json::to_string_pretty(&story).map_err(|error| Error::caused("cannot write the story", error))?;
    // All of it is read twice: a value that is found in one place is replaced in all others.
    work.set_total(total * 2);
    let mut kinds = Vec::with_capacity(files.len());
    for ((file, ..), part) in files.iter().zip(&parts) {
        work.check()?;
        let kind = files::treatment_of(file)?;
        let goes = options.only.is_empty() || options.only.contains(&file.name);
        if goes && !matches!(part, Part::Outside(_)) && !matches!(kind, Treatment::Not(_)) {
            files::walk(file, cut_of(part), &kind, &mut files::Learning::new(&mut redactor), work)?;
        } else {
            work.advance(file.len_bytes);
        }
        redactor.learn(&file.name);
        kinds.push(kind);
    }
    redactor.learn(&story_text);
    redactor.spread();
    // Who looks through the copy knows all rules that ship with the program, also those that were switched off.
    let shipped = Rules::shipped();
    let stranger = Redactor::new(&shipped.good, [0; 32]).keeping(&options.keep);
    for (((file, host, _), part), kind) in files.iter().zip(&parts).zip(&kinds) {
        work.check()?;
        let Some(sealed) = seal.files.iter().find(|sealed| sealed.path == file.name).cloned() else { continue };
        if !options.only.is_empty() && !options.only.contains(&file.name) {
            let (origin, reason) = (sealed.origin, "not chosen for this box".to_owned());
            let left = Unreadable { origin, host: host.clone(), reason, why: Why::NotChosen, class: sealed.class };
            summary.left_out.push(left);
            work.advance(file.len_bytes);
            continue;
        }
        let part = match part {
            Part::Whole => None,
            Part::Cut(part) => Some(part),
            Part::Outside(reason) => {
                let (origin, reason, why) = (sealed.origin, reason.clone(), Why::OutsideWindow);
                summary.left_out.push(Unreadable { origin, host: host.clone(), reason, why, class: sealed.class });
                continue;
            }
        };
        let (mut redacted, left) = match kind {
            Treatment::Not(_) if options.keep_binary => {
                work.advance(file.len_bytes);
                let whole = platform::open_regular(&file.path);
                (whole.map_err(|error| Error::at(&file.path, "cannot read", error))?, Vec::new())
            }
            Treatment::Not(what) => {
                work.advance(file.len_bytes);
                let (origin, why) = (sealed.origin, Why::CannotRead);
                let reason = format!("{what}: it cannot be redacted");
                summary.left_out.push(Unreadable { origin, host: host.clone(), reason, why, class: sealed.class });
                continue;
            }
            kind => {
                let detected = options.formats.get(&file.name).copied();
                let mut replacing = files::Replacing {
                    redactor: &mut redactor,
                    detected,
                    stranger: &stranger,
                    left: Vec::new(),
                    head: files::Head::default(),
                };
                let out = files::walk(file, part, kind, &mut replacing, work)?;
                (out, replacing.left)
            }
        };
        let path = redacted_text(&mut redactor, &file.name);
        summary.leftovers.extend(counted(&path, left));
        let Some(writer) = &mut writer else { continue };
        let added = writer.add(&path, &mut redacted, (false, u64::MAX), work)?;
        let (size, sha256) = added.map_err(|reason| Error::new(format!("{}: {reason}", file.name)))?;
        // A cut's hash is of what was not passed on; it stays as evidence.
        let cut = part.map(|part| Cut {
            original_size: sealed.size,
            original_sha256: sealed.sha256.clone(),
            head_bytes: part.head_bytes,
            from_byte: part.from,
            to_byte: part.to,
            ..Cut::default()
        });
        kept.push(SealedFile { size, sha256, cut: cut.or(sealed.cut.clone()), ..sealed });
    }
    summary.files = kept.len();
    // Fault cards are made of other cases: whoever gets this copy gets none of their words.
    let travels = |file: &&SealedFile| super::is_own_file(&file.path) && !file.path.starts_with("cards/");
    for format in seal.files.iter().filter(travels) {
        let path = unpacked.join(&format.path);
        let Some(writer) = &mut writer else { continue };
        let mut text = platform::open_regular(&path).map_err(|error| Error::at(&path, "cannot read", error))?;
        let added = writer.add(&format.path, &mut text, (false, u64::MAX), work)?;
        let (size, sha256) = added.map_err(|reason| Error::new(format!("{}: {reason}", format.path)))?;
        kept.push(SealedFile { size, sha256, ..format.clone() });
    }
    let story = redacted_text(&mut redactor, &story_text);
    summary.leftovers.extend(counted(STORY_NAME, stranger.left_in(&story)));
    seal.unreadable.extend(summary.left_out.iter().cloned());
    seal.files = kept;
    for command in &mut seal.commands {
        let is_kept = |path: &String| seal.files.iter().any(|file| file.path == *path);
        command.path = command.path.take().filter(is_kept);
    }
    // All of its texts at once, so that no field is forgotten: labels, places, reasons, arguments, marks.
    let value =
        serde_json::to_value(&seal).and_then(|value| serde_json::from_value(redacted_value(&mut redactor, value)));
    seal = value.map_err(|error| Error::caused("cannot write the seal", error))?;
    summary.left_out.iter_mut().for_each(|left| left.origin = redacted_text(&mut redactor, &left.origin));
    summary.applied = redactor.applied();
    summary.samples = redactor.samples(5);
    if let Some(mut writer) = writer {
        if !options.confirmed && !summary.leftovers.is_empty() {
            return Err(Error::new(not_confirmed(&summary.leftovers)));
        }
        seal.custody.push(Custody {
            at: clock::to_rfc3339(options.now),
            box_sha256: sha256_of(&options.from, work)?,
            what: "redacted".into(),
            by: concat!("boxclock ", env!("CARGO_PKG_VERSION")).into(),
        });
        seal.redaction = Some(Redaction { at: clock::to_rfc3339(options.now), of, rules: summary.applied.clone() });
        writer.add_text(STORY_NAME, &story)?;
        seal.story_sha256 = Some(hex(&Sha256::digest(&story)));
        let seal =
            serde_json::to_string_pretty(&seal).map_err(|error| Error::caused("cannot write the seal", error))?;
        writer.add_seal(&seal, options.signer.as_deref())?;
        writer.finish()?;
    }
    Ok(summary)
}

/// The part of a file that goes along, where it is not the whole.
fn cut_of(part: &Part) -> Option<&CutPart> {
    match part {
        Part::Cut(cut) => Some(cut),
        Part::Whole | Part::Outside(_) => None,
    }
}

/// What is left in a file, counted.
fn counted(file: &str, left: Vec<(String, String)>) -> Vec<Leftover> {
    let mut counts: BTreeMap<(String, String), u64> = BTreeMap::new();
    for found in left {
        *counts.entry(found).or_default() += 1;
    }
    let rows = counts.into_iter();
    let mut rows: Vec<Leftover> =
        rows.map(|((rule, value), count)| Leftover { file: file.to_owned(), rule, value, count }).collect();
    rows.sort_by_key(|row| std::cmp::Reverse(row.count));
    rows
}

/// Why the copy is not written.
fn not_confirmed(leftovers: &[Leftover]) -> String {
    const NAMED: usize = 5;
    let mut text = format!(
        "{} in the copy still look like secrets, so it was not written:",
        crate::many(leftovers.len() as u64, "value")
    );
    for Leftover { file, rule, value, count } in leftovers.iter().take(NAMED) {
        text.push_str(&format!("\n  {file}: {} ({rule}, {count} ×)", crate::visible::visible(value, false)));
    }
    if leftovers.len() > NAMED {
        text.push_str(&format!("\n  and {} more", leftovers.len() - NAMED));
    }
    text.push_str("\nAdd a rule or a word for them, or confirm that they may go (--confirm).");
    text
}

/// What of each file goes along.
fn parts_of(
    options: &RedactPlan,
    files: &[(FileFound, String, Option<Class>)],
    seal: &Seal,
    work: &Work,
) -> Result<Vec<Part>> {
    let Some(window) = options.window else { return Ok(vec![Part::Whole; files.len()]) };
    let looked = files.iter().map(|(file, host, class)| Looked {
        file: file.clone(),
        host: host.clone(),
        zone: seal.host_zone(host),
        may_cut: true,
        pins: options.pins.iter().filter(|(source, _)| *source == file.name).map(|(_, offset)| *offset).collect(),
        is_timeless: matches!(class, Some(Class::Configuration | Class::Facts)),
    });
    let reading = Options { zone: seal.zone.as_deref().and_then(|zone| Zone::parse(zone).ok()), ..Options::default() };
    window::parts(&looked.collect::<Vec<_>>(), window, reading, work)
}

/// A value of JSON with all its texts redacted; the names of members stay.
fn redacted_value(redactor: &mut Redactor<'_>, value: Value) -> Value {
    match value {
        Value::String(text) => Value::String(redacted_text(redactor, &text)),
        Value::Array(list) => list.into_iter().map(|item| redacted_value(redactor, item)).collect(),
        Value::Object(members) => {
            members.into_iter().map(|(name, item)| (name, redacted_value(redactor, item))).collect()
        }
        other => other,
    }
}

fn redacted_text(redactor: &mut Redactor<'_>, text: &str) -> String {
    redactor.text(text, None)
}

#[cfg(test)]
mod tests;
