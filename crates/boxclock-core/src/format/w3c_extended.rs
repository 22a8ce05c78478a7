//! `w3c-extended`: web servers and firewalls; `#Fields:` names the columns, which may change in mid-file.
//!
//! Source: the W3C working draft WD-logfile-960323 ("Extended Log File Format"): directives start with `#`, fields are
//! parted by blanks or tabs, `-` is nothing, dates and times are UTC, strings may stand in quotes with doubled quotes
//! inside. All lists of fields of a file are gathered when it is opened; a line is read by the one that it fits: by the
//! number of its fields, and by its date and time.

use std::collections::HashMap;
use std::sync::{LazyLock, Mutex};

use serde_json::Value;

use super::{Fit, Head, Header, Hint, LineFormat, Record, Settled, body_text};
use crate::clock::forms::{self, DateOrder};
use crate::clock::{Civil, scan};
use crate::code::{Code, Family, Found};

/// The format, for files with these lists of fields. The registry's own has none and only recognises.
pub(super) struct W3cExtended {
    layouts: Vec<Layout>,
}

struct Layout {
    names: Vec<String>,
    date: Option<usize>,
    time: Option<usize>,
    /// Columns that are codes, ascending, with their family.
    codes: Vec<(usize, Family)>,
}

/// Formats made for the lists of fields that files have, so that equal files share one.
static MADE: LazyLock<Mutex<HashMap<String, &'static W3cExtended>>> = LazyLock::new(Mutex::default);

/// A line under the layout that it fits: its fields, and its time if it has one.
type Row<'f, 'a> = (&'f Layout, Vec<&'a [u8]>, Option<Civil>);

impl W3cExtended {
    /// The registry's entry.
    pub(super) const NEW: Self = Self { layouts: Vec::new() };

    fn of(lists: &[String]) -> &'static Self {
        let key = lists.join("\n");
        let mut made = MADE.lock().unwrap_or_else(std::sync::PoisonError::into_inner);
        made.entry(key)
            .or_insert_with(|| Box::leak(Box::new(Self { layouts: lists.iter().map(|list| layout(list)).collect() })))
    }

    /// The fields of a line under the layout that it fits, with its time.
    fn parse<'a>(&self, line: &'a [u8]) -> Option<Row<'_, 'a>> {
        if line.first()? == &b'#' {
            return None;
        }
        let words = words(line);
        self.layouts.iter().filter(|layout| layout.names.len() == words.len()).find_map(|layout| {
            let at = |index: Option<usize>| index.and_then(|index| words.get(index).copied());
            let civil = match (at(layout.date), at(layout.time)) {
                (Some(date), Some(time)) => Some(date_time(date, time)?),
                (None, Some(time)) => Some(forms::time_of_day(time)?.0),
                (Some(date), None) => Some(date_time(date, b"00:00:00")?),
                (None, None) => None,
            };
            Some((layout, words.clone(), civil))
        })
    }
}

fn date_time(date: &[u8], time: &[u8]) -> Option<Civil> {
    let text = [date, b" ", time].concat();
    let (mut civil, _) = scan::iso(&text).or_else(|| forms::dated(&text, DateOrder::YearFirst))?;
    civil.offset.get_or_insert(0);
    Some(civil)
}

fn layout(list: &str) -> Layout {
    let names: Vec<String> = list.split_ascii_whitespace().map(str::to_owned).collect();
    let place = |wanted: &str| names.iter().position(|name| name.eq_ignore_ascii_case(wanted));
    let (date, time) = (place("date"), place("time"));
    let columns = [("sc-status", Family::Http), ("sc-win32-status", Family::Win32)];
    let mut codes: Vec<(usize, Family)> =
        columns.into_iter().filter_map(|(name, family)| Some((place(name)?, family))).collect();
    codes.sort_unstable_by_key(|(column, _)| *column);
    Layout { names, date, time, codes }
}

/// The words of a line; quoted ones keep their blanks.
fn words(line: &[u8]) -> Vec<&[u8]> {
    let mut words = Vec::with_capacity(24);
    let mut at = 0;
    while words.len() < 256 {
        while matches!(line.get(at), Some(b' ' | b'\t')) {
            at += 1;
        }
        let Some(rest) = line.get(at..).filter(|rest| !rest.is_empty()) else { break };
        let length = match rest.strip_prefix(b"\"") {
            Some(inner) => inner.iter().position(|byte| *byte == b'"').map_or(rest.len(), |end| end + 2),
            None => memchr::memchr2(b' ', b'\t', rest).unwrap_or(rest.len()),
        };
        words.push(rest.get(..length).unwrap_or(rest));
        at += length;
    }
    words
}

/// The code in a column: digits. That nothing went wrong in the system below is said of every line.
fn column_code(family: Family, word: &[u8]) -> Option<Code> {
    let number: u32 = std::str::from_utf8(word).ok()?.parse().ok()?;
    // A status of the system may be an HRESULT as an unsigned number.
    let family = if family == Family::Win32 && number >= 0x8000_0000 { Family::Hresult } else { family };
    (number > 0).then_some(Code { family, number })
}

fn fields_line(line: &[u8]) -> Option<String> {
    let list = line.strip_prefix(b"#Fields:").or_else(|| line.strip_prefix(b"#fields:"))?;
    let list = String::from_utf8_lossy(list).split_ascii_whitespace().collect::<Vec<_>>().join(" ");
    (!list.is_empty()).then_some(list)
}

/// What a field is called as an attribute; OpenTelemetry's name where there is one.
fn attribute(name: &str) -> &str {
    match name {
        "c-ip" => "client.address",
        "c-port" => "client.port",
        "s-ip" => "server.address",
        "s-port" => "server.port",
        "cs-method" => "http.request.method",
        "cs-uri-stem" => "url.path",
        "cs-uri-query" => "url.query",
        "cs-username" => "user.name",
        "cs-host" => "http.request.header.host",
        "sc-status" => "http.response.status_code",
        "sc-bytes" => "http.response.size",
        "cs-bytes" => "http.request.size",
        "cs(User-Agent)" => "user_agent.original",
        "cs(Referer)" => "http.request.header.referer",
        other => other,
    }
}

impl LineFormat for W3cExtended {
    fn name(&self) -> &'static str {
        "w3c-extended"
    }

    fn families(&self) -> &'static [Family] {
        &[Family::Http]
    }

    fn has_named_columns(&self) -> bool {
        true
    }

    fn is_directive(&self, line: &[u8]) -> bool {
        line.first() == Some(&b'#')
    }

    fn head<'a>(&self, line: &'a [u8], _: Hint) -> Option<Head<'a>> {
        let Some((_, _, civil)) = self.parse(line) else {
            // A line that is neither a directive nor fits any list of fields is a damaged record, and still one.
            let is_record = !self.layouts.is_empty() && !line.starts_with(b"#") && !line.trim_ascii().is_empty();
            return is_record.then(Head::default);
        };
        Some(civil.map_or_else(Head::default, |civil| Head { stamp: civil.stamp(), ..Head::default() }))
    }

    fn keeps_leading_lines(&self) -> bool {
        false
    }

    fn column_codes(&self, line: &[u8], found: &mut dyn FnMut(Found)) {
        if self.layouts.iter().all(|layout| layout.codes.is_empty()) {
            return;
        }
        let Some((layout, words, _)) = self.parse(line) else { return };
        for (column, family) in &layout.codes {
            let Some(word) = words.get(*column) else { continue };
            if let Some(code) = column_code(*family, word) {
                // The words are slices of the line.
                let start = word.as_ptr().addr() - line.as_ptr().addr();
                found(Found { start, end: start + word.len(), code, general: false });
            }
        }
    }

    fn judges_words(&self) -> bool {
        false
    }

    fn record(&self, text: &str, _: Hint) -> Record {
        let line = text.lines().next().unwrap_or_default();
        let mut record = Record { body: body_text(line), ..Record::default() };
        let Some((layout, words, _)) = self.parse(line.as_bytes()) else { return record };
        for (name, word) in layout.names.iter().zip(words) {
            if word == b"-" || matches!(name.as_str(), "date" | "time") {
                continue;
            }
            let word = String::from_utf8_lossy(word).trim_matches('"').replace("\"\"", "\"");
            let value = word.parse::<u64>().map_or_else(|_| Value::from(word), Value::from);
            record.attributes.insert(attribute(name).to_owned(), value);
        }
        record
    }

    fn version(&self) -> u32 {
        2
    }

    fn has_date_lines(&self) -> bool {
        self.layouts.iter().all(|layout| layout.date.is_none())
    }

    fn date_line(&self, line: &[u8]) -> Option<i64> {
        if self.layouts.iter().any(|layout| layout.date.is_some()) {
            return None;
        }
        scan::iso(line.strip_prefix(b"#Date:")?.trim_ascii())?.0.to_ns()
    }

    fn header(&self, samples: &[&[u8]], _: Hint, _: i64) -> Header {
        let date = samples.iter().find_map(|line| {
            let text = line.strip_prefix(b"#Date:")?.trim_ascii();
            let civil = scan::iso(text).map(|(civil, _)| civil)?;
            Civil { hour: 0, minute: 0, second: 0, nanos: 0, ..civil }.to_ns()
        });
        Header { date, offset_s: Some(0), ..Header::default() }
    }

    fn settle(
        &self,
        _: &[&[u8]],
        whole: &mut dyn Iterator<Item = Vec<u8>>,
        hint: Hint,
        _: Option<DateOrder>,
        _: i64,
    ) -> Option<Settled> {
        let mut lists: Vec<String> = Vec::new();
        for list in whole.filter_map(|line| fields_line(&line)) {
            if lists.len() < 64 && !lists.contains(&list) {
                lists.push(list);
            }
        }
        Some(Settled { hint, made: Some(Self::of(&lists)), ..Settled::default() })
    }

    fn fit(&self, lines: &[&[u8]]) -> Fit {
        let lists: Vec<String> = lines.iter().take(200).filter_map(|line| fields_line(line)).collect();
        if lists.is_empty() {
            return Fit::default();
        }
        let made = Self::of(&lists);
        let heads = lines.iter().filter(|line| made.parse(line).is_some()).count();
        Fit { heads: heads.max(1), hint: 0, sure: true, made: Some(made) }
    }
}
