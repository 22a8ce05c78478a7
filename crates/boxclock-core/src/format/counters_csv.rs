//! `counters-csv`: values of performance counters over time.
//!
//! Three writers: the counter logs of Windows (`"(PDH-CSV 4.0) (ZONE)(BIAS)","\\HOST\OBJECT(INSTANCE)\COUNTER",…`, times
//! `MM/DD/YYYY hh:mm:ss.fff`; source: the vendor's documentation of `relog` and `typeperf`; UTC is local time plus the
//! bias in minutes); `sadf -d` of sysstat (`# hostname;interval;timestamp;…`, one header for each kind of table) and the
//! text that `vmstat -t` prints (two lines of headings, repeated now and then; the zone's word stands over the times); the text that `sar` prints (a first line with system, host and date, tables with a time of day); source of both: the manual
//! pages sadf(1) and sar(1) and what they wrote here.

use std::borrow::Cow;
use std::collections::HashMap;
use std::sync::{LazyLock, Mutex};

use serde_json::Value;

use super::csv::{bare, fields, time_of};
use super::{Fit, Head, Header, Hint, LineFormat, Record, Settled, body_text};
use crate::clock::forms::{self, DateOrder};
use crate::clock::{Civil, Stamp, scan};

/// The format. The registry's own has no columns and only recognises.
pub(super) struct CountersCsv {
    shape: Shape,
}

enum Shape {
    Unknown,
    /// Counter paths behind the first column, and what the header says of the zone.
    Windows {
        columns: Vec<String>,
    },
    /// `sadf -d`: all headers of the file.
    Sadf {
        headers: Vec<Vec<String>>,
    },
    /// `sar`: the host of the first line, the day that each table starts on, where a file has one table after the other, and the
    /// names of the columns of all its tables.
    Sar {
        host: String,
        day: Option<i64>,
        tables: Vec<Vec<String>>,
    },
    /// `vmstat -t`: the names of its columns, the last of which is the time with its zone.
    Vmstat {
        columns: Vec<String>,
        offset_s: Option<i32>,
    },
}

impl CountersCsv {
    /// The registry's entry.
    pub(super) const NEW: Self = Self { shape: Shape::Unknown };
}

/// Kinds of tables of one file that are told apart.
const MOST_TABLES: usize = 256;

static MADE: LazyLock<Mutex<HashMap<String, &'static CountersCsv>>> = LazyLock::new(Mutex::default);

fn made(key: String, shape: impl FnOnce() -> Shape) -> &'static CountersCsv {
    let mut made = MADE.lock().unwrap_or_else(std::sync::PoisonError::into_inner);
    made.entry(key).or_insert_with(|| Box::leak(Box::new(CountersCsv { shape: shape() })))
}

fn windows_columns(line: &[u8]) -> Option<Vec<String>> {
    let first = fields(line, b',').next().map(bare)?;
    (first.starts_with(b"(PDH-CSV") || first.starts_with(b"(PDH-TSV")).then(|| {
        fields(line, delimiter(line)).map(|field| String::from_utf8_lossy(&bare(field)).into_owned()).collect()
    })
}

fn delimiter(line: &[u8]) -> u8 {
    if memchr::memmem::find(line, b"(PDH-TSV").is_some() || (!line.contains(&b',') && line.contains(&b'\t')) {
        b'\t'
    } else {
        b','
    }
}

/// `(W. Europe Daylight Time)(-120)`: the offset from UTC in seconds.
fn windows_offset(header: &str) -> Option<i32> {
    let bias = header.trim_end().strip_suffix(')')?.rsplit_once('(')?.1;
    let bias: i32 = bias.trim().parse().ok()?;
    (bias.abs() <= 24 * 60).then(|| bias.saturating_mul(-60))
}

fn sadf_header(line: &[u8]) -> Option<Vec<String>> {
    let list = line.strip_prefix(b"# ").filter(|list| list.starts_with(b"hostname;interval;timestamp"))?;
    Some(fields(list, b';').map(|field| String::from_utf8_lossy(field).into_owned()).collect())
}

/// `Linux 6.1.0 (host) \t04/12/2026 \t_x86_64_\t(2 CPU)`: host and date.
fn sar_start(line: &[u8]) -> Option<(String, Civil)> {
    let text = std::str::from_utf8(line).ok()?;
    let (system, rest) = text.split_once(" (")?;
    let (host, rest) = rest.split_once(')')?;
    let date = rest.split_ascii_whitespace().next()?;
    let known = ["Linux ", "AIX ", "SunOS ", "HP-UX "].iter().any(|name| system.starts_with(name));
    let civil = [DateOrder::MonthFirst, DateOrder::DayFirst]
        .into_iter()
        .find_map(|order| forms::dated(format!("{date} 00:00:00").as_bytes(), order).map(|(civil, _)| civil))?;
    (known && text.contains("CPU")).then(|| (host.to_owned(), civil))
}

/// ` r  b   swpd …  st                 CET`: the columns before the time, and what the zone's word means.
fn vmstat_heading(line: &[u8]) -> Option<(Vec<String>, Option<i32>)> {
    let text = std::str::from_utf8(line).ok()?;
    let mut columns: Vec<String> = text.split_ascii_whitespace().map(str::to_owned).collect();
    let known = columns.first().is_some_and(|first| first == "r") && columns.get(1).is_some_and(|second| second == "b");
    let zone = columns.pop().filter(|_| known && columns.len() > 10)?;
    let offset = scan::certain_zone(zone.as_bytes(), 0).filter(|(.., ambiguous)| !ambiguous);
    Some((columns, offset.map(|(offset, ..)| offset)))
}

/// The time at the end of a line, and where it starts.
fn vmstat_time(line: &[u8]) -> Option<(Civil, usize)> {
    const LENGTH: usize = "2026-04-12 02:31:07".len();
    let line = line.trim_ascii_end();
    let start = line.len().checked_sub(LENGTH)?;
    let (civil, end) = scan::iso(line.get(start..)?)?;
    (end == LENGTH).then_some((civil, start))
}

/// Whether any word is a number.
fn has_number(text: &[u8]) -> bool {
    let is_number = |word: &[u8]| {
        word.iter().all(|byte| byte.is_ascii_digit() || matches!(byte, b'.' | b',' | b'-'))
            && word.iter().any(u8::is_ascii_digit)
    };
    text.split(u8::is_ascii_whitespace).any(is_number)
}

/// A line of column names under `sar`: nanoseconds since midnight, and the names.
fn heading(line: &[u8]) -> Option<(i64, &[u8])> {
    let (civil, end) = forms::time_of_day(line)?;
    let names = line.get(end..)?.trim_ascii();
    let is_name = !names.is_empty() && !has_number(names) && !names.ends_with(b")");
    match civil.stamp() {
        Stamp::TimeOfDay(ns) if is_name => Some((ns, names)),
        _ => None,
    }
}

/// Whether values can be those of a table with these columns: shares and rates have decimals, amounts of kilobytes have none.
fn can_be_of(names: &[String], values: &[&str]) -> bool {
    let is_number = |text: &str| text.parse::<f64>().is_ok();
    let fits = |name: &str, text: &str| {
        let has_decimals = is_number(text) && text.contains('.');
        if name.starts_with('%') || name.ends_with("/s") || name.starts_with("ldavg") {
            has_decimals
        } else if name.starts_with("kb") || name.starts_with("MB") {
            is_number(text) && !text.contains('.')
        } else if matches!(
            name,
            "CPU" | "DEV" | "IFACE" | "FILESYSTEM" | "TTY" | "FAN" | "TEMP" | "IN" | "BUS" | "INTR" | "DEVICE"
        ) {
            !has_decimals
        } else {
            is_number(text)
        }
    };
    names.len() == values.len() && names.iter().zip(values).all(|(name, text)| fits(name, text))
}

/// The day that all tables of a file start on, if there are several and one follows the other: civil nanoseconds of its midnight.
fn day_of_tables(lines: &mut dyn Iterator<Item = Vec<u8>>) -> Option<i64> {
    let mut day = None;
    let mut tables: Vec<Vec<u8>> = Vec::new();
    for line in lines {
        if let Some((_, civil)) = sar_start(&line) {
            // A second report in the file says its own day.
            if day.is_some() {
                return None;
            }
            day = Some(civil.to_ns()?);
        } else if let Some((_, names)) = heading(&line)
            && tables.last().is_none_or(|last| last != names)
        {
            // Tables that take turns are printed sample by sample.
            if tables.len() >= MOST_TABLES || tables.iter().any(|table| table == names) {
                return None;
            }
            tables.push(names.to_vec());
        }
    }
    day.filter(|_| tables.len() > 1)
}

impl LineFormat for CountersCsv {
    fn name(&self) -> &'static str {
        "counters-csv"
    }

    fn has_named_columns(&self) -> bool {
        true
    }

    fn holds_figures(&self) -> bool {
        true
    }

    fn head<'a>(&self, line: &'a [u8], _: Hint) -> Option<Head<'a>> {
        match &self.shape {
            Shape::Unknown => None,
            Shape::Windows { .. } => {
                let first = bare(fields(line, delimiter(line)).next()?);
                let stamp = time_of(&first, DateOrder::MonthFirst).filter(|stamp| *stamp != Stamp::None)?;
                Some(Head { stamp, component: Cow::Borrowed(b"counters"), ..Head::default() })
            }
            Shape::Sadf { .. } => {
                let mut list = fields(line, b';');
                let (host, _, time) = (list.next()?, list.next()?, list.next()?);
                let stamp = scan::iso(time)
                    .map(|(civil, _)| civil.stamp())
                    .or_else(|| scan::epoch(time).map(|ns| Stamp::Utc(ns, 0)))?;
                Some(Head { stamp, host: Cow::Borrowed(host), component: Cow::Borrowed(b"sar"), ..Head::default() })
            }
            Shape::Vmstat { columns, offset_s } => {
                let (mut civil, start) = vmstat_time(line)?;
                let values = line.get(..start)?.split(u8::is_ascii_whitespace).filter(|word| !word.is_empty());
                if values.clone().count() != columns.len() || !values.flatten().all(u8::is_ascii_digit) {
                    return None;
                }
                civil.offset = *offset_s;
                Some(Head { stamp: civil.stamp(), component: Cow::Borrowed(b"vmstat"), ..Head::default() })
            }
            Shape::Sar { host, .. } => {
                let stamp = if let Some((civil, end)) = forms::time_of_day(line) {
                    let rest = line.get(end..)?;
                    let restart = memchr::memmem::find(rest, b"LINUX RESTART").is_some();
                    // A line of column names has the time too.
                    (restart || has_number(rest)).then(|| civil.stamp())?
                } else {
                    // `iostat -t` writes date and time on a line of their own, the tables below.
                    let (civil, end) = forms::dated(line, DateOrder::MonthFirst)?;
                    line.get(end..)?.trim_ascii().is_empty().then(|| civil.stamp())?
                };
                Some(Head {
                    stamp,
                    host: Cow::Owned(host.clone().into_bytes()),
                    component: Cow::Borrowed(b"sar"),
                    ..Head::default()
                })
            }
        }
    }

    fn keeps_leading_lines(&self) -> bool {
        false
    }

    fn sorts_by_time(&self) -> bool {
        matches!(self.shape, Shape::Sar { day: Some(_), .. })
    }

    fn has_date_lines(&self) -> bool {
        self.sorts_by_time()
    }

    fn date_line(&self, line: &[u8]) -> Option<i64> {
        let Shape::Sar { day: Some(day), .. } = &self.shape else { return None };
        let (time, _) = heading(line)?;
        Some(day.saturating_add(time))
    }

    fn version(&self) -> u32 {
        3
    }

    fn judges_words(&self) -> bool {
        false
    }

    fn record(&self, text: &str, _: Hint) -> Record {
        let line = text.lines().next().unwrap_or_default();
        let is_block = matches!(self.shape, Shape::Sar { .. }) && forms::time_of_day(line.as_bytes()).is_none();
        let mut record = Record { body: body_text(if is_block { text } else { line }), ..Record::default() };
        let value = |text: &str| text.trim().parse::<f64>().map_or_else(|_| Value::from(text.trim()), Value::from);
        match &self.shape {
            Shape::Windows { columns } => {
                for (name, field) in columns.iter().zip(fields(line.as_bytes(), delimiter(line.as_bytes()))).skip(1) {
                    let text = String::from_utf8_lossy(&bare(field)).into_owned();
                    if !text.trim().is_empty() {
                        record.attributes.insert(name.clone(), value(&text));
                    }
                }
            }
            Shape::Sadf { headers } => {
                let list: Vec<String> =
                    fields(line.as_bytes(), b';').map(|field| String::from_utf8_lossy(field).into_owned()).collect();
                // The headers do not say which lines are theirs; only one of this length says for sure.
                let mut fitting = headers.iter().filter(|names| names.len() == list.len());
                if let (Some(names), None) = (fitting.next(), fitting.next()) {
                    let pairs = names.iter().zip(&list).skip(3);
                    record.attributes.extend(pairs.map(|(name, text)| (name.clone(), value(text))));
                }
                record.attributes.extend(list.first().map(|host| ("host.name".to_owned(), Value::from(host.as_str()))));
            }
            Shape::Vmstat { columns, .. } => {
                let pairs = columns.iter().zip(line.split_ascii_whitespace());
                record.attributes.extend(pairs.map(|(name, text)| (name.clone(), value(text))));
            }
            Shape::Sar { tables, .. } => {
                let end = forms::time_of_day(line.as_bytes()).map_or(line.len(), |(_, end)| end);
                let values: Vec<&str> = line.get(end..).unwrap_or_default().split_ascii_whitespace().collect();
                // The tables do not say which lines are theirs; only one that fits says for sure.
                let mut fitting = tables.iter().filter(|names| can_be_of(names, &values));
                if let (Some(names), None) = (fitting.next(), fitting.next()) {
                    record.attributes.extend(names.iter().zip(&values).map(|(name, text)| (name.clone(), value(text))));
                }
            }
            Shape::Unknown => {}
        }
        record
    }

    fn header(&self, samples: &[&[u8]], _: Hint, _: i64) -> Header {
        let mut header = Header::default();
        match &self.shape {
            Shape::Windows { columns } => header.offset_s = columns.first().and_then(|first| windows_offset(first)),
            Shape::Sar { .. } => {
                header.date = samples.iter().find_map(|line| sar_start(line)).and_then(|(_, civil)| civil.to_ns());
            }
            Shape::Sadf { .. } | Shape::Vmstat { .. } | Shape::Unknown => {}
        }
        header
    }

    fn settle(
        &self,
        _: &[&[u8]],
        whole: &mut dyn Iterator<Item = Vec<u8>>,
        hint: Hint,
        _: Option<DateOrder>,
        _: i64,
    ) -> Option<Settled> {
        if let Shape::Sar { host, .. } = &self.shape {
            let mut tables: Vec<Vec<String>> = Vec::new();
            let mut note = |line: &[u8]| {
                let Some((_, names)) = heading(line) else { return };
                let names: Vec<String> =
                    String::from_utf8_lossy(names).split_ascii_whitespace().map(str::to_owned).collect();
                if tables.len() < MOST_TABLES && !tables.contains(&names) {
                    tables.push(names);
                }
            };
            let mut noted = std::iter::from_fn(|| {
                let line = whole.next()?;
                note(&line);
                Some(line)
            });
            let day = day_of_tables(&mut noted);
            // What it has not looked at.
            noted.for_each(drop);
            let key = format!("sar {host} {day:?} {tables:?}");
            let format = made(key, || Shape::Sar { host: host.clone(), day, tables });
            return Some(Settled { hint, made: Some(format), ..Settled::default() });
        }
        let Shape::Sadf { .. } = self.shape else { return None };
        let mut headers: Vec<Vec<String>> = Vec::new();
        for header in whole.filter_map(|line| sadf_header(&line)) {
            if headers.len() < MOST_TABLES && !headers.contains(&header) {
                headers.push(header);
            }
        }
        let key = format!("sadf {headers:?}");
        Some(Settled { hint, made: Some(made(key, || Shape::Sadf { headers })), ..Settled::default() })
    }

    fn fit(&self, lines: &[&[u8]]) -> Fit {
        let start = lines.iter().take(3);
        let format = if let Some(columns) = start.clone().find_map(|line| windows_columns(line)) {
            made(format!("windows {columns:?}"), || Shape::Windows { columns })
        } else if let Some(header) = start.clone().find_map(|line| sadf_header(line)) {
            made(format!("sadf {:?}", [&header]), || Shape::Sadf { headers: vec![header] })
        } else if let Some((columns, offset_s)) = start.clone().find_map(|line| vmstat_heading(line)) {
            made(format!("vmstat {columns:?} {offset_s:?}"), || Shape::Vmstat { columns, offset_s })
        } else if let Some((host, _)) = start.clone().find_map(|line| sar_start(line)) {
            made(format!("sar {host}"), || Shape::Sar { host, day: None, tables: Vec::new() })
        } else {
            return Fit::default();
        };
        let heads = lines.iter().filter(|line| format.head(line, 0).is_some()).count();
        // Tables without any time are better read as plain lines.
        if heads == 0 && matches!(format.shape, Shape::Sar { .. } | Shape::Vmstat { .. }) {
            return Fit::default();
        }
        Fit { heads: heads.max(1), hint: 0, sure: true, made: Some(format) }
    }
}
