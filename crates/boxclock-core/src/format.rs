//! The registry of formats, and the one detector over it.
//!
//! A text format says where a record starts and what its head means ([`LineFormat::head`]); everything else about
//! records (attaching lines, times, columns) is the same for all and lives in [`crate::case`]. A dump format reads a
//! whole file as one event. To add a format: one file in `format/`, one line in [`LINE_FORMATS`] or in
//! [`crate::crash::DUMP_FORMATS`].

#![cfg_attr(
    not(test),
    deny(clippy::indexing_slicing, clippy::arithmetic_side_effects, clippy::cast_possible_truncation)
)]

use std::borrow::Cow;

use serde_json::{Map, Value};

use crate::clock::{DateOrder, Stamp};
use crate::code::{Family, Found, Platform};
use crate::severity::Severity;

mod apt;
mod bundle_log;
mod counters_csv;
mod csv;
mod dpkg;
mod gc_log;
mod iso_text;
mod java_util_logging;
mod job_output;
mod journal_json;
mod json_lines;
mod json_scan;
mod kernel_ring;
mod level_date;
mod level_text;
mod logfmt;
mod msi_log;
mod named_trouble;
mod ncsa_access;
mod nginx_error;
mod npm_log;
mod own;
mod plain;
mod postgres_text;
mod printed_trace;
mod proxy_access;
mod rfc3164;
mod rfc5424;
mod samba_log;
mod script_log;
mod server_text;
mod servicing_log;
mod slow_queries;
mod tagged_client_log;
mod w3c_extended;
mod word;

pub(crate) use journal_json::attributes as journal_attributes;
pub use own::{OwnFormat, load_own};

#[cfg(test)]
mod tests;

/// All text formats, the most particular first: of equally good ones the detector takes the first.
pub static LINE_FORMATS: [&dyn LineFormat; 33] = [
    &rfc5424::Rfc5424,
    &dpkg::Dpkg,
    &apt::AptHistory,
    &apt::AptTerm,
    &msi_log::MsiLog,
    &bundle_log::BundleLog,
    &servicing_log::ServicingLog,
    &tagged_client_log::TaggedClientLog,
    &w3c_extended::W3cExtended::NEW,
    &counters_csv::CountersCsv::NEW,
    &csv::Csv::EVENTS,
    &csv::Csv::TABLE,
    &java_util_logging::JavaUtilLogging,
    &gc_log::GcLog,
    &nginx_error::NginxError,
    &postgres_text::PostgresText,
    &ncsa_access::NcsaAccess,
    &proxy_access::ProxyAccess,
    &script_log::ScriptLog,
    &npm_log::NpmLog,
    &samba_log::SambaLog,
    &slow_queries::SlowQueries,
    &journal_json::JournalJson,
    &json_lines::JsonLines,
    &logfmt::Logfmt,
    &rfc3164::Rfc3164,
    &kernel_ring::KernelRing,
    &iso_text::IsoText,
    &level_date::LevelDate,
    &server_text::ServerText,
    &level_text::LevelText,
    &job_output::JobOutput,
    &plain::Plain,
];

/// What a format learned about one file when it was detected, for example where in the line the time stands. Its
/// meaning belongs to the format; 0 is the usual case.
pub type Hint = u16;

/// What a format remembers of the lines before a line; 0 at the start of a file. Its meaning belongs to the format.
pub type LineState = u64;

/// The head of a record: what its first line says.
#[derive(Debug)]
pub struct Head<'a> {
    /// Its time.
    pub stamp: Stamp,
    /// Its severity.
    pub severity: Severity,
    /// The severity's word or number as written.
    pub severity_text: Cow<'a, [u8]>,
    /// The host named in the line, or nothing.
    pub host: Cow<'a, [u8]>,
    /// The program, logger or module, or nothing.
    pub component: Cow<'a, [u8]>,
    /// Process id.
    pub pid: Option<u32>,
    /// Thread id, where it is a number.
    pub tid: Option<u32>,
    /// Where in the line the message starts, in bytes.
    pub body: usize,
}

impl Default for Head<'_> {
    fn default() -> Self {
        Self {
            stamp: Stamp::None,
            severity: Severity::NONE,
            severity_text: Cow::Borrowed(b""),
            host: Cow::Borrowed(b""),
            component: Cow::Borrowed(b""),
            pid: None,
            tid: None,
            body: 0,
        }
    }
}

/// One record in full, made on demand from its text.
#[derive(Clone, Debug, Default, PartialEq)]
pub struct Record {
    /// The message, with all its lines.
    pub body: String,
    /// The severity's word or number as written.
    pub severity_text: Option<String>,
    /// What else the record carries.
    pub attributes: Map<String, Value>,
    /// Where it stands in its file, where that is not where the text was read from.
    pub place: Option<Place>,
}

/// Where a record stands in its file.
#[derive(Clone, Copy, Debug, Default, PartialEq, Eq)]
pub struct Place {
    /// Its first line, or its number in a file without lines; from 1.
    pub line: u64,
    /// Its first byte.
    pub offset: u64,
    /// Its bytes.
    pub length: u64,
}

/// A log of installers; of the package manager of Debian, the one that says most of a run first.
#[derive(Clone, Copy, Debug, PartialEq, Eq, PartialOrd, Ord, serde::Serialize, serde::Deserialize)]
pub enum InstallerLog {
    /// What apt was asked for, and how it ended.
    AptHistory,
    /// What apt's steps wrote to their terminal.
    AptTerminal,
    /// The states that dpkg brings packages to.
    Dpkg,
    /// Runs that are told in words.
    Words,
}

/// A format whose records start at a line.
pub trait LineFormat: Sync {
    /// The name of the JSON contract.
    fn name(&self) -> &str;

    /// The head of the record that starts at `line` (without line end), or `None` if none starts here: the line then
    /// belongs to the record before. Called for every line of a file, so it allocates nothing in the usual case.
    fn head<'a>(&self, line: &'a [u8], hint: Hint) -> Option<Head<'a>>;

    /// The whole record whose text (all lines) is `text`.
    fn record(&self, text: &str, hint: Hint) -> Record {
        record_from_head(self.head(text.as_bytes(), hint), text)
    }

    /// What the start of a file says about the times of its lines. The samples begin with the file's first lines;
    /// `modified` is the file's own time, UTC nanoseconds.
    fn header(&self, _samples: &[&[u8]], _hint: Hint, _modified: i64) -> Header {
        Header::default()
    }

    /// Whether a line that starts no record may say what its record's head leaves open, see [`LineFormat::tail`].
    fn has_tails(&self) -> bool {
        false
    }

    /// Whether only the line right behind the head may say it.
    fn only_first_tail(&self) -> bool {
        false
    }

    /// What a line that belongs to the record before it adds to that record's head: time, severity, component or ids that
    /// stand only there.
    fn tail<'a>(&self, _line: &'a [u8], _hint: Hint) -> Option<Head<'a>> {
        None
    }

    /// Whether it takes the lines before a line to tell whether a record starts there, see [`LineFormat::goes_on`].
    fn remembers(&self) -> bool {
        false
    }

    /// Takes a line after the other: whether it belongs to the record before, whatever [`LineFormat::head`] says of it alone.
    fn goes_on(&self, _line: &[u8], _state: &mut LineState) -> bool {
        false
    }

    /// Whether lines of other programs, without time but with a name and a level, stand between its records as events of their own.
    fn takes_named_trouble(&self) -> bool {
        false
    }

    /// Whether a line that starts no record is one that was torn: cut off, or with another written into it.
    fn is_torn(&self, _line: &[u8]) -> bool {
        false
    }

    /// Whether lines before the first record make one. Names of columns do not.
    fn keeps_leading_lines(&self) -> bool {
        true
    }

    /// Whether its records are rows of numbers under names: figures over time.
    fn holds_figures(&self) -> bool {
        false
    }

    /// Whether a line without severity whose words look bad counts as a problem. In logs of accesses and of steps such words are
    /// names of things.
    fn judges_words(&self) -> bool {
        true
    }

    /// Whether a line of a record holds its fields, not its text: no codes are looked for there.
    fn is_fields(&self, _line: &[u8]) -> bool {
        false
    }

    /// Whether its times count from the start of the system, so that reading it needs to know when that was.
    fn counts_from_boot(&self) -> bool {
        false
    }

    /// Whether the kernel's messages, with time since the start of the system, stand in it beside others with wall time.
    fn may_hold_kernel_lines(&self) -> bool {
        false
    }

    /// Whether a file holds several runs over the same time, such as one table after the other: its records then stand in the order
    /// of their times, not of the file.
    fn sorts_by_time(&self) -> bool {
        false
    }

    /// Whether calls that fail are part of healthy work in it: the codes of failures make no line of it a problem.
    fn is_quiet(&self) -> bool {
        false
    }

    /// The kind of installer or package manager that writes it, if one does.
    fn installer(&self) -> Option<InstallerLog> {
        None
    }

    /// Whether it is the log of a whole machine, and its components are programs; in a program's own log they are loggers.
    fn names_programs(&self) -> bool {
        false
    }

    /// The kind of system that alone writes it, if there is one.
    fn platform(&self) -> Platform {
        Platform::Unknown
    }

    /// Families of codes that are at home in it.
    fn families(&self) -> &'static [Family] {
        &[]
    }

    /// Whether its first line names columns that are needed to read the rest.
    fn has_named_columns(&self) -> bool {
        false
    }

    /// Whether a line at the start of the file goes on with what the first one says of all others.
    fn is_directive(&self, _line: &[u8]) -> bool {
        false
    }

    /// Whether lines of it give dates to times of day, see [`LineFormat::date_line`].
    fn has_date_lines(&self) -> bool {
        false
    }

    /// The date that a line which is no record gives the times of day behind it: civil nanoseconds, with the time of day where it
    /// says one.
    fn date_line(&self, _line: &[u8]) -> Option<i64> {
        None
    }

    /// Codes that stand in columns of their own, where no word in front says what they are: their places in the line.
    fn column_codes(&self, _line: &[u8], _found: &mut dyn FnMut(Found)) {}

    /// The record in the form that its format has of itself (JSON, XML), indented for people.
    fn structured(&self, _text: &str) -> Option<String> {
        None
    }

    /// Settles what the samples left open, by looking at the whole file if need be. `dates` is the user's choice,
    /// `modified` the file's own time.
    fn settle(
        &self,
        _samples: &[&[u8]],
        _whole: &mut dyn Iterator<Item = Vec<u8>>,
        _hint: Hint,
        _dates: Option<DateOrder>,
        _modified: i64,
    ) -> Option<Settled> {
        None
    }

    /// What the columns of a table mean, for people and for the key of an index; `None` where there are none.
    fn columns(&self) -> Option<String> {
        None
    }

    /// The same format with columns chosen by hand: `time WHEN, level STUFE, body TEXT`.
    ///
    /// # Errors
    /// When the format has no columns, or a column or role is not known; with those that there are.
    fn with_columns(&self, _chosen: &str) -> crate::Result<&'static dyn LineFormat> {
        Err(crate::Error::new(format!("the format {} has no columns to choose", self.name())))
    }

    /// Changes when the reader gives other results for the same bytes, so that an index made by an older one is not used.
    fn version(&self) -> u32 {
        1
    }

    /// How well the format fits sample lines, and the hint to read the file with.
    fn fit(&self, lines: &[&[u8]]) -> Fit {
        let heads = lines.iter().filter(|line| self.head(line, 0).is_some()).count();
        Fit { heads, ..Fit::default() }
    }
}

/// What the head of a file says about the times of its lines.
#[derive(Clone, Copy, Debug, Default, PartialEq, Eq)]
pub struct Header {
    /// The date of the first line that carries a time of day only: civil nanoseconds of its midnight.
    pub date: Option<i64>,
    /// When the system started whose uptime the lines carry, UTC nanoseconds.
    pub boot: Option<i64>,
    /// The offset from UTC of times that carry none, in seconds.
    pub offset_s: Option<i32>,
    /// The offset that a zone's ambiguous word most likely means, in seconds: for sources whose zone nothing else says.
    pub likely_offset_s: Option<i32>,
    /// When a file starts in which no line has a time, as its name says: UTC nanoseconds.
    pub start: Option<i64>,
}

/// What the whole file said that samples could not.
#[derive(Clone, Default)]
pub struct Settled {
    /// The hint to read with.
    pub hint: Hint,
    /// What stays unsure.
    pub trouble: Option<String>,
    /// The format made for what this file holds, if the registry's own does not know enough.
    pub made: Option<&'static dyn LineFormat>,
    /// In which order its dates are read, where they are numbers only; and whether that is a guess.
    pub dates: Option<(DateOrder, bool)>,
}

/// How well a format fits a sample.
#[derive(Clone, Copy, Default)]
pub struct Fit {
    /// Sample lines that start a record.
    pub heads: usize,
    /// The hint to read the file with.
    pub hint: Hint,
    /// Whether a mark that only this format has was seen: it then wins whatever the numbers say.
    pub sure: bool,
    /// The format made for what this file holds, if the registry's own does not know enough.
    pub made: Option<&'static dyn LineFormat>,
}

/// The head of a line that a program printed in between, with its name and a level, see [`LineFormat::takes_named_trouble`].
pub(crate) fn named_trouble_head(line: &[u8]) -> Option<Head<'_>> {
    let found = named_trouble::read(line)?;
    Some(Head {
        severity: found.severity,
        severity_text: Cow::Borrowed(found.word),
        component: Cow::Borrowed(found.program),
        pid: found.pid,
        ..Head::default()
    })
}

/// The usual record of a text format: the body is what follows the head.
fn record_from_head(head: Option<Head<'_>>, text: &str) -> Record {
    let Some(head) = head.or_else(|| named_trouble_head(text.as_bytes())) else {
        return Record { body: body_text(text), ..Record::default() };
    };
    let severity_text = String::from_utf8_lossy(&head.severity_text).into_owned();
    Record {
        body: body_text(text.get(head.body..).unwrap_or(text)),
        severity_text: (!severity_text.is_empty()).then_some(severity_text),
        ..Record::default()
    }
}

/// The first line of a record as JSON, indented.
fn pretty_json(text: &str) -> Option<String> {
    let value: Value = serde_json::from_str(text.lines().next()?.trim()).ok()?;
    serde_json::to_string_pretty(&value).ok()
}

/// The format of JSON objects, for those that are taken from another form.
pub(crate) fn json_format(journal: bool) -> &'static dyn LineFormat {
    if journal { &journal_json::JournalJson } else { &json_lines::JsonLines }
}

/// A record's text without the line end at its end, its other line ends all alike.
fn body_text(text: &str) -> String {
    text.trim_end_matches(['\n', '\r']).replace("\r\n", "\n")
}

/// What the detector found.
#[derive(Clone, Copy)]
pub struct Detected {
    /// The format.
    pub format: &'static dyn LineFormat,
    /// What it learned about the file.
    pub hint: Hint,
}

/// How one format did in the contest for a file.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Contender {
    /// The format.
    pub name: String,
    /// Sample lines that start a record under it.
    pub heads: usize,
    /// Whether it saw a mark that only it has.
    pub sure: bool,
}

/// The contest of all formats over the sample lines of a file.
#[derive(Clone)]
pub struct Contest {
    /// Sample lines.
    pub lines: usize,
    /// All formats under which any line starts a record, the best first.
    pub contenders: Vec<Contender>,
    /// The format to read the file with.
    pub winner: Detected,
}

impl Contest {
    /// The winner's share of sample lines that start a record, 0 to 1.
    pub fn score(&self) -> f64 {
        let heads = self.contenders.first().map_or(0, |best| best.heads);
        heads as f64 / self.lines.max(1) as f64
    }

    /// Why the winner won, in one sentence.
    pub fn reason(&self) -> String {
        match (self.contenders.first(), self.contenders.get(1)) {
            (None, _) => "no line starts a record under any format".to_owned(),
            (Some(best), _) if best.sure => "it has marks that only this format has".to_owned(),
            (Some(best), Some(second)) if best.heads <= second.heads => {
                let share = if best.heads == second.heads { "as many" } else { "nearly as many" };
                format!("{share} records as {}, and the more particular format", second.name)
            }
            (Some(best), Some(second)) => format!(
                "most sample lines start a record: {} of {}, under {} only {}",
                best.heads, self.lines, second.name, second.heads
            ),
            (Some(best), None) => {
                format!("the only format with records: {} of {} sample lines start one", best.heads, self.lines)
            }
        }
    }
}

/// Decides the text format of a file from sample lines of its head, middle and end: the one under which most lines
/// start a record, the more particular one where several do equally well. Formats of the user are asked first.
pub fn contest(lines: &[&[u8]], own: &[&'static dyn LineFormat]) -> Contest {
    let fits = own.iter().copied().chain(LINE_FORMATS).map(|format| (format, format.fit(lines)));
    let mut fits: Vec<_> = fits.filter(|(_, fit)| fit.heads > 0).collect();
    // Stable: of equals the one asked first stays first.
    fits.sort_by_key(|(_, fit)| std::cmp::Reverse((fit.sure, fit.heads)));
    // The general one takes nearly everything that is dated: a particular one with a few lines less knows more of them.
    let general = |format: &dyn LineFormat| format.name() == iso_text::IsoText.name();
    let rival = fits.iter().position(|(format, _)| !general(*format));
    if let (Some((first, best)), Some(at)) = (fits.first(), rival)
        && general(*first)
        && fits.get(at).is_some_and(|(_, fit)| fit.heads * 100 >= best.heads * 95)
        && let Some(up_to_rival) = fits.get_mut(..=at)
    {
        up_to_rival.rotate_right(1);
    }
    let winner =
        fits.first().map_or(PLAIN, |(format, fit)| Detected { format: fit.made.unwrap_or(*format), hint: fit.hint });
    let contenders = fits
        .iter()
        .map(|(format, fit)| Contender { name: format.name().to_owned(), heads: fit.heads, sure: fit.sure })
        .collect();
    Contest { lines: lines.len(), contenders, winner }
}

/// How a file is read that no format fits.
pub const PLAIN: Detected = Detected { format: &plain::Plain, hint: 0 };

/// The format of a name, among the user's own and ours.
pub fn by_name(name: &str, own: &[&'static dyn LineFormat]) -> Option<&'static dyn LineFormat> {
    // `csv(time WHEN, body TEXT)` chooses the columns too.
    let name = name.split('(').next().unwrap_or(name);
    own.iter().copied().chain(LINE_FORMATS).find(|format| format.name() == name)
}
