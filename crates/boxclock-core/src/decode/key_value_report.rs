//! `key-value-report`: a report of keys and values about one thing that happened, such as a crash: one event.
//!
//! Two shapes: `Key=Value` lines, as the error reporting of Windows writes (UTF-16, `EventTime` as FILETIME; source: its
//! published documentation of report stores), and `Key: value` lines with continued lines indented, as the crash reports
//! of Linux distributions and the control files of packages are written (RFC 822 style). Sections `[Name]` are kept in front
//! of their keys.

use std::collections::HashSet;
use std::io;

use serde_json::{Map, Value};

use super::{Decoder, Entry, Input, Output, Place};
use crate::clock::forms::{self, DateOrder};
use crate::clock::{Stamp, scan};
use crate::code::{Code, Family, Platform};
use crate::limits;
use crate::text;
use crate::trouble::Trouble;

/// The decoder.
pub(super) struct KeyValueReport;

/// Keys of one report.
const KEYS: usize = 10_000;

/// Keys that hold the time of what happened, the best first.
const TIMES: [&str; 11] = [
    "eventtime",
    "crashtime",
    "incidenttime",
    "date/time",
    "datetime",
    "timestamp",
    "date",
    "time",
    "createtime",
    "reporttime",
    "uploadtime",
];

/// Keys of which one must be there where `:` parts key and value.
const PROOFS: [&str; 8] = [
    "problemtype",
    "executablepath",
    "process",
    "signal",
    "exceptiontype",
    "crashedthread",
    "incidentidentifier",
    "eventtype",
];

fn key_of(line: &str, mark: char) -> Option<(&str, &str)> {
    let (key, value) = line.split_once(mark)?;
    let good = !key.is_empty()
        && key.len() <= 80
        && !key.starts_with(|first: char| first.is_whitespace())
        && key.chars().all(|letter| letter.is_alphanumeric() || " ._-[]()/#".contains(letter));
    good.then(|| (key.trim_end(), value.trim()))
}

fn plain(key: &str) -> String {
    key.chars().filter(|letter| letter.is_alphanumeric() || *letter == '/').flat_map(char::to_lowercase).collect()
}

fn is_section(line: &str) -> bool {
    line.len() > 2 && line.starts_with('[') && line.ends_with(']') && !line.contains('=')
}

/// What parts key and value in a report that starts with this text, if it is one.
fn mark_of(text: &str) -> Option<char> {
    let lines: Vec<&str> = text.lines().map(str::trim_end).filter(|line| !line.is_empty()).take(400).collect();
    for mark in ['=', ':'] {
        let keys: Vec<&str> = lines.iter().filter_map(|line| key_of(line, mark)).map(|(key, _)| key).collect();
        let distinct = keys.iter().collect::<HashSet<_>>().len();
        let rest = lines.iter().filter(|line| key_of(line, mark).is_none());
        let continued = |line: &&&str| is_section(line) || (mark == ':' && line.starts_with([' ', '\t']));
        let others = rest.filter(|line| !continued(line)).count();
        let first = lines.first().is_some_and(|line| key_of(line, mark).is_some() || is_section(line));
        let timed = keys.iter().any(|key| TIMES.contains(&&*plain(key)));
        let proven = mark == '=' || (timed && keys.iter().any(|key| PROOFS.contains(&&*plain(key))));
        if first && keys.len() >= 4 && distinct * 10 >= keys.len() * 9 && others * 20 <= lines.len() && proven {
            return Some(mark);
        }
    }
    None
}

fn time(value: &str) -> Stamp {
    let bytes = value.as_bytes();
    let dated = forms::dated(bytes, DateOrder::MonthFirst).map(|(civil, _)| civil.stamp());
    dated.or_else(|| scan::epoch(bytes).map(|ns| Stamp::Utc(ns, 0))).unwrap_or(Stamp::None)
}

impl Decoder for KeyValueReport {
    fn name(&self) -> &'static str {
        "key-value-report"
    }

    fn recognise(&self, start: &[u8]) -> bool {
        let Some((encoding, mark_bytes)) = text::guess(&[start.to_vec()]) else { return false };
        mark_of(&encoding.text(usize::try_from(mark_bytes).ok().and_then(|mark| start.get(mark..)).unwrap_or_default()))
            .is_some()
    }

    fn platform(&self) -> Platform {
        Platform::Unknown
    }

    fn version(&self) -> u32 {
        2
    }

    /// Of `Sig[6].Value=c0000005` and its kind only what has eight digits is a code; numbers of the system and the parameters of a stop
    /// are none.
    fn is_parameter(&self, line: &[u8]) -> bool {
        let Some(mark) = line.iter().take(80).position(|byte| matches!(byte, b'=' | b':')) else { return false };
        let (key, value) = line.split_at(mark);
        let value = value.get(1..).unwrap_or_default().trim_ascii();
        let starts = |words: &[&[u8]]| {
            words.iter().any(|word| key.get(..word.len()).is_some_and(|start| start.eq_ignore_ascii_case(word)))
        };
        let plain = value.strip_prefix(b"0x").unwrap_or(value);
        let is_wide = plain.len() == 8 && plain.iter().all(u8::is_ascii_hexdigit);
        starts(&[b"OsInfo", b"BCP", b"BCCode", b"DynamicSig", b"Locale", b"OS Version", b"Parameter"])
            || (starts(&[b"Sig["]) && !is_wide)
    }

    fn field_codes(&self, fields: &str) -> Vec<Code> {
        let Ok(Value::Object(fields)) = serde_json::from_str::<Value>(fields) else { return Vec::new() };
        let is_stop = |name: &str| {
            let plain: String = name.chars().filter(char::is_ascii_alphanumeric).collect();
            ["bccode", "bugcheckcode", "stopcode", "bugcheck"].contains(&plain.to_ascii_lowercase().as_str())
        };
        let text = |name: &str| fields.get(name).and_then(Value::as_str);
        let value = fields.keys().find_map(|key| {
            let own = key.strip_prefix("report.")?;
            if is_stop(own.rsplit('.').next().unwrap_or(own)) {
                return text(key);
            }
            // `Sig[0].Name=BCCode`, its value beside it.
            let list = key.strip_suffix(".Name").filter(|_| text(key).is_some_and(is_stop))?;
            text(&format!("{list}.Value"))
        });
        let digits = value.map(|value| value.trim().trim_start_matches("0x"));
        let number = digits.and_then(|digits| u32::from_str_radix(digits, 16).ok()).filter(|number| *number > 0);
        number.map(|number| Code { family: Family::Stop, number }).into_iter().collect()
    }

    fn decode(&self, input: &Input<'_>, out: &mut Output) -> io::Result<()> {
        let mut lines = input.lines()?;
        let encoding = lines.encoding;
        encoding.name().clone_into(&mut out.account.encoding);
        let start = input.read(0, limits::SAMPLE_BYTES)?;
        let mark = mark_of(encoding.text(&start).trim_start_matches('\u{FEFF}')).unwrap_or('=');
        let mut attributes = Map::new();
        let mut body = String::new();
        let mut section = String::new();
        let mut last_key = String::new();
        let mut times: Vec<(usize, Stamp)> = Vec::new();
        let mut place = Place { line: 1, ..Place::default() };
        while let Some(line) = lines.next_line()? {
            out.account.lines = out.account.lines.saturating_add(1);
            if place.length == 0 {
                place.offset = line.place.offset;
            }
            place.length = place.length.saturating_add(line.place.length);
            if body.len() < limits::RECORD_BYTES {
                body.push_str(&line.text);
                body.push('\n');
            }
            let text = line.text.trim_end();
            if is_section(text) {
                section = format!("{}.", &text[1..text.len() - 1]);
            } else if let Some((key, value)) =
                key_of(text, mark).filter(|_| attributes.len() < KEYS && body.len() < limits::RECORD_BYTES)
            {
                if let Some(rank) = TIMES.iter().position(|known| *known == plain(key)) {
                    times.push((rank, time(value)));
                }
                last_key = format!("report.{section}{key}");
                attributes.insert(last_key.clone(), Value::from(value));
            } else if let Some(Value::String(value)) =
                attributes.get_mut(&last_key).filter(|_| !text.trim().is_empty() && body.len() < limits::RECORD_BYTES)
            {
                value.push('\n');
                value.push_str(text.trim());
            }
        }
        if out.account.lines == 0 {
            return Ok(());
        }
        out.account.attached_lines = out.account.lines.saturating_sub(1);
        if body.len() >= limits::RECORD_BYTES {
            let what = format!("longer than {} bytes: what lies beyond is not among its fields", limits::RECORD_BYTES);
            out.trouble(Trouble::note(what));
        }
        times.retain(|(_, stamp)| !matches!(stamp, Stamp::None));
        times.sort_by_key(|(rank, _)| *rank);
        let of = |keys: &[&str]| {
            keys.iter()
                .find_map(|key| attributes.get(&format!("report.{key}"))?.as_str())
                .unwrap_or_default()
                .to_owned()
        };
        let component = of(&["AppName", "ExecutablePath", "Process", "Package"]);
        out.entry(&Entry {
            stamp: times.first().map_or(Stamp::None, |(_, stamp)| *stamp),
            component: &component,
            body: &body,
            fields: &Value::Object(attributes).to_string(),
            ..Entry::at(place)
        })
    }
}
