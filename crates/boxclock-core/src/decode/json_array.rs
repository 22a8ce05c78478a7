//! JSON documents of one object, with the records in an array somewhere inside: the kernel's messages as `dmesg --json` writes
//! them, and the samples of `sadf -j`.
//!
//! Source: the manual pages dmesg(1) and sadf(1), and what both wrote here:
//! `{"dmesg":[{"pri":5,"time":0.000000,"msg":"…"},…]}` and
//! `{"sysstat":{"hosts":[{"nodename":"…","timezone":"…","statistics":[{"timestamp":{"date":"…","time":"…","utc":1},…},…]}]}}`.
//! The objects of the array are found byte by byte, so that a file that is cut off gives what it holds.

use std::io;

use serde_json::{Map, Value};

use super::json_document::Splitter;
use super::{Decoder, Entry, Input, Output, Place};
use crate::clock::{SECOND, Stamp, scan};
use crate::code::{Family, Platform};
use crate::severity::Severity;
use crate::trouble::Trouble;

/// The kernel's messages.
pub(super) struct KernelJson;

/// Samples of counters.
pub(super) struct CountersJson;

/// Bytes of one object of the array.
const OBJECT_BYTES: usize = 16 << 20;
/// Bytes kept to find the name of the array, and of the host in front of it.
const LEAD_BYTES: usize = 4096;

/// What is known of the objects of an array: their place, their bytes, and the text in front of the array.
struct Item<'a> {
    place: Place,
    bytes: &'a [u8],
    lead: &'a str,
}

/// Calls `take` with each object of the arrays called `name`.
fn each_object(
    input: &Input<'_>,
    name: &str,
    out: &mut Output,
    mut take: impl FnMut(Item<'_>, &mut Output) -> io::Result<()>,
) -> io::Result<()> {
    "utf-8".clone_into(&mut out.account.encoding);
    let opening = format!("\"{name}\":[");
    let (mut splitter, mut object, mut place) = (Splitter::default(), Vec::new(), Place::default());
    // What stands in front of the array, without blanks outside of it.
    let (mut lead, mut inside) = (String::new(), false);
    let (mut offset, mut line) = (0_u64, 1_u64);
    loop {
        let bytes = input.read(offset, 1 << 20)?;
        if bytes.is_empty() {
            break;
        }
        for byte in bytes {
            if inside {
                let was_outside = splitter.depth == 0;
                if was_outside && byte == b']' {
                    inside = false;
                    lead.clear();
                }
                let ended = splitter.take(byte);
                if was_outside && splitter.depth == 1 {
                    place = Place { line, offset, length: 0 };
                    object.clear();
                }
                if splitter.depth > 0 || ended {
                    object.push(byte);
                }
                if ended {
                    place.length = offset.saturating_sub(place.offset).saturating_add(1);
                    let more = line.saturating_sub(place.line);
                    out.account.attached_lines = out.account.attached_lines.saturating_add(more);
                    take(Item { place, bytes: &object, lead: &lead }, out)?;
                } else if object.len() > OBJECT_BYTES {
                    let what = format!("the object at byte {} is longer than {OBJECT_BYTES} bytes", place.offset);
                    out.trouble(Trouble::lost(what));
                    splitter = Splitter::default();
                    object.clear();
                }
            } else if !byte.is_ascii_whitespace() {
                lead.push(char::from(byte));
                inside = lead.ends_with(&opening);
                if lead.len() > LEAD_BYTES {
                    // A byte beyond ASCII is a letter of two bytes here.
                    let half = (LEAD_BYTES / 2..lead.len()).find(|at| lead.is_char_boundary(*at)).unwrap_or(lead.len());
                    lead = lead.split_off(half);
                }
            }
            offset = offset.saturating_add(1);
            line = line.saturating_add(u64::from(byte == b'\n'));
        }
    }
    if splitter.depth > 0 {
        out.trouble(Trouble::lost(format!("cut off: the object at byte {} has no end", place.offset)));
    }
    out.account.lines = line.saturating_sub(1);
    Ok(())
}

/// The first characters of a file that are no blanks.
fn without_blanks(start: &[u8]) -> Vec<u8> {
    start.iter().copied().filter(|byte| !byte.is_ascii_whitespace()).take(64).collect()
}

fn text<'a>(value: &'a Value, name: &str) -> &'a str {
    value.get(name).and_then(Value::as_str).unwrap_or_default()
}

/// The value of `"name":"…"` in the text in front of an array.
fn said<'a>(lead: &'a str, name: &str) -> Option<&'a str> {
    let (_, rest) = lead.rsplit_once(&format!("\"{name}\":\""))?;
    rest.split_once('"').map(|(value, _)| value)
}

impl Decoder for KernelJson {
    fn name(&self) -> &'static str {
        "kernel-ring"
    }

    fn recognise(&self, start: &[u8]) -> bool {
        without_blanks(start).starts_with(b"{\"dmesg\":[")
    }

    fn platform(&self) -> Platform {
        Platform::Linux
    }

    fn families(&self) -> &'static [Family] {
        &[Family::Errno, Family::Signal]
    }

    fn counts_from_boot(&self) -> bool {
        true
    }

    fn decode(&self, input: &Input<'_>, out: &mut Output) -> io::Result<()> {
        each_object(input, "dmesg", out, |item, out| {
            let Ok(value) = serde_json::from_slice::<Value>(item.bytes) else {
                out.trouble(Trouble::lost(format!("the object at byte {} is not JSON", item.place.offset)));
                return Ok(());
            };
            let level = value.get("pri").and_then(Value::as_u64).and_then(|level| u32::try_from(level).ok());
            let seconds = value.get("time").and_then(Value::as_f64).filter(|seconds| (0.0..1e9).contains(seconds));
            #[allow(clippy::cast_possible_truncation, reason = "at most 1e18")]
            let uptime = seconds
                .map(|seconds| Stamp::Uptime(((seconds * 1e6).round() as i64).saturating_mul(SECOND / 1_000_000)));
            let mut fields = Map::new();
            fields.extend(seconds.map(|seconds| ("boxclock.uptime_s".to_owned(), Value::from(seconds))));
            out.entry(&Entry {
                stamp: uptime.unwrap_or(Stamp::None),
                severity: level.map_or(Severity::NONE, Severity::from_syslog),
                severity_text: &level.map(|level| level.to_string()).unwrap_or_default(),
                component: "kernel",
                body: text(&value, "msg"),
                fields: &Value::Object(fields).to_string(),
                ..Entry::at(item.place)
            })
        })
    }
}

impl Decoder for CountersJson {
    fn name(&self) -> &'static str {
        "counters-csv"
    }

    fn recognise(&self, start: &[u8]) -> bool {
        without_blanks(start).starts_with(b"{\"sysstat\":{")
    }

    fn platform(&self) -> Platform {
        Platform::Linux
    }

    fn decode(&self, input: &Input<'_>, out: &mut Output) -> io::Result<()> {
        each_object(input, "statistics", out, |item, out| {
            let Ok(mut value) = serde_json::from_slice::<Value>(item.bytes) else {
                out.trouble(Trouble::lost(format!("the object at byte {} is not JSON", item.place.offset)));
                return Ok(());
            };
            let stamp = value.get("timestamp").map_or(Stamp::None, |time| {
                let written = format!("{} {}", text(time, "date"), text(time, "time"));
                let Some((mut civil, _)) = scan::iso(written.as_bytes()) else { return Stamp::None };
                if time.get("utc").and_then(Value::as_u64) == Some(1) {
                    civil.offset = Some(0);
                }
                civil.stamp()
            });
            let mut fields = Map::new();
            let names: Vec<String> = match value.as_object_mut() {
                Some(object) => {
                    object.remove("timestamp");
                    object.keys().cloned().collect()
                }
                None => Vec::new(),
            };
            flatten("", value, &mut fields);
            let host = said(item.lead, "nodename").unwrap_or_default();
            if !host.is_empty() {
                fields.insert("host.name".into(), host.into());
            }
            out.entry(&Entry {
                stamp,
                host,
                component: "sar",
                body: &format!("sample: {}", names.join(", ")),
                fields: &Value::Object(fields).to_string(),
                ..Entry::at(item.place)
            })
        })
    }
}

/// Values inside objects and lists under the names on the way to them: `cpu-load.all.user`. An item of a list is called by what
/// it says first of itself.
fn flatten(name: &str, value: Value, to: &mut Map<String, Value>) {
    let below = |key: &str| if name.is_empty() { key.to_owned() } else { format!("{name}.{key}") };
    match value {
        Value::Object(object) => object.into_iter().for_each(|(key, value)| flatten(&below(&key), value, to)),
        Value::Array(items) => {
            for (index, item) in items.into_iter().enumerate() {
                let title = item.as_object().and_then(|object| object.values().next()?.as_str().map(str::to_owned));
                flatten(&below(&title.unwrap_or_else(|| index.to_string())), item, to);
            }
        }
        other => _ = to.insert(name.to_owned(), other),
    }
}
