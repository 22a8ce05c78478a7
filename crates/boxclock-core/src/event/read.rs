//! Reading records back from their files, for display and output.

use std::collections::HashMap;
use std::sync::Arc;

use super::EventRef;
use crate::code::{self, Catalogues, Found, Platform};
use crate::crash;
use crate::format::{Detected, Place, Record};
use crate::limits;
use crate::source::{Reader, Source};
use crate::text::SourceFile;
use crate::trace;

/// Bytes read at once where a file is read on and on: records next to each other then cost one read.
const WINDOW_BYTES: usize = 128 << 10;
/// Bytes read at once where the last read was elsewhere: of what passes a filter the next record is often far away.
const FIRST_BYTES: usize = 8 << 10;
/// Windows that are kept.
const WINDOWS: usize = 64;

/// The codes in a record's text, at most [`limits::CODES_PER_EVENT`]: behind the head in its first line, anywhere in
/// the others. This is what the index pass notes.
pub fn codes_in(text: &str, detected: Detected, platform: Platform, own: &Catalogues) -> Vec<Found> {
    let mut component = String::new();
    let mut found: Vec<Found> = Vec::new();
    let mut at = 0;
    for line in text.split_inclusive('\n') {
        let bare = line.trim_end_matches(['\n', '\r']).as_bytes();
        let bare = bare.get(..limits::LINE_HEAD_BYTES).unwrap_or(bare);
        let mut start = 0;
        if at == 0
            && let Some(head) = detected.format.head(bare, detected.hint)
        {
            start = head.body.min(bare.len());
            component = String::from_utf8_lossy(&head.component).into_owned();
        }
        let mut note = |hit: Found, from: usize| {
            if found.len() < limits::CODES_PER_EVENT {
                let code = hit.of_program(&component);
                found.push(Found { start: hit.start + from, end: hit.end + from, code, ..hit });
            }
        };
        if !detected.format.is_fields(bare) {
            code::scan(&bare[start..], platform, own, |hit| note(hit, at + start));
        }
        detected.format.column_codes(bare, &mut |hit| note(hit, at));
        at += line.len();
    }
    // Codes in words are found behind all others of a line.
    found.sort_by_key(|hit| hit.start);
    found
}

/// The first line of an event's message with the meanings of its codes.
#[derive(Clone, Debug, Default, PartialEq, Eq)]
pub struct ShownLine {
    /// The line, cut where that was asked for.
    pub text: String,
    /// Where a code ends in `text`, in bytes, and what it means in short. Codes of columns that the message does not show stand
    /// at its end.
    pub glosses: Vec<(usize, String)>,
    /// Further lines of the message, as many as were asked for.
    pub rest: Vec<String>,
    /// Lines that are neither in `text` nor in `rest`.
    pub more_lines: usize,
}

struct Window {
    offset: u64,
    bytes: Vec<u8>,
    used: u64,
}

/// Reads records of a case's sources; keeps a small window of each recently used file.
pub struct RecordReader {
    sources: Arc<Vec<Source>>,
    windows: HashMap<usize, Window>,
    /// The records of dumps, by source: reading a dump is work, and the screen shows it again in every frame.
    dumps: HashMap<usize, Record>,
    clock: u64,
}

impl RecordReader {
    /// A reader over these sources.
    pub fn new(sources: Arc<Vec<Source>>) -> Self {
        Self { sources, windows: HashMap::new(), dumps: HashMap::new(), clock: 0 }
    }

    /// The source of an event.
    pub fn source(&self, event: EventRef<'_>) -> &Source {
        &self.sources[event.source()]
    }

    /// The bytes of an event's record, at most [`limits::RECORD_BYTES`] of them.
    ///
    /// # Errors
    /// When the file cannot be read (any more).
    pub fn bytes(&mut self, event: EventRef<'_>) -> std::io::Result<&[u8]> {
        let index = event.source();
        let length = event.length().min(limits::RECORD_BYTES as u64) as usize;
        let offset = event.offset();
        self.clock += 1;
        let inside = self.windows.get(&index).is_some_and(|window| {
            offset >= window.offset && offset + length as u64 <= window.offset + window.bytes.len() as u64
        });
        if !inside {
            if self.windows.len() >= WINDOWS
                && !self.windows.contains_key(&index)
                && let Some(oldest) = self.windows.iter().min_by_key(|(_, window)| window.used).map(|(index, _)| *index)
            {
                self.windows.remove(&oldest);
            }
            let goes_on = self.windows.get(&index).is_some_and(|window| {
                let end = window.offset + window.bytes.len() as u64;
                (window.offset..=end + WINDOW_BYTES as u64 / 4).contains(&offset)
            });
            let wanted = if goes_on { WINDOW_BYTES } else { FIRST_BYTES };
            let bytes = SourceFile::open(&self.sources[index].path)?.read(offset, length.max(wanted))?;
            self.windows.insert(index, Window { offset, bytes, used: 0 });
        }
        let Some(window) = self.windows.get_mut(&index) else { return Ok(&[]) };
        window.used = self.clock;
        let start = ((offset - window.offset) as usize).min(window.bytes.len());
        let end = (start + length).min(window.bytes.len());
        Ok(&window.bytes[start..end])
    }

    /// The text of an event's record as UTF-8, damage shown as U+FFFD, without NUL bytes at its start.
    ///
    /// # Errors
    /// When the file cannot be read (any more).
    pub fn text(&mut self, event: EventRef<'_>) -> std::io::Result<String> {
        let encoding = self.source(event).encoding;
        let bytes = self.bytes(event)?;
        Ok(encoding.text(bytes))
    }

    /// The message of an event as a list shows it: `most_chars` characters of its first line, and `most_lines` further ones.
    pub fn line(&mut self, event: EventRef<'_>, most_chars: usize, most_lines: usize) -> ShownLine {
        let body = self.record(event).body;
        let (first, rest) = body.split_once('\n').unwrap_or((&body, ""));
        let text: String = first.chars().take(most_chars).collect();
        let cut = |line: &str| line.chars().take(most_chars).collect();
        let lines = rest.lines().count();
        let rest: Vec<String> = rest.lines().take(most_lines).map(cut).collect();
        let mut glosses = Vec::new();
        if event.flags() & super::flag::HAS_CODE != 0
            && let Reader::Lines(detected) = self.source(event).reader
        {
            let platform = self.source(event).platform;
            let record = self.text(event).unwrap_or_default();
            let mut behind = 0;
            for found in codes_in(&record, detected, platform, event.catalogues()) {
                let meaning = event.meant(found.code).info(event.catalogues());
                if meaning.gloss.is_empty() {
                    continue;
                }
                let written = record.get(found.start..found.end).unwrap_or_default();
                if let Some(at) = text.get(behind..).and_then(|rest| rest.find(written)).filter(|_| !written.is_empty())
                {
                    behind += at + written.len();
                    glosses.push((behind, meaning.gloss));
                } else if text.len() == first.len() && !first.contains(written) {
                    glosses.push((text.len(), format!("{written}: {}", meaning.gloss)));
                }
            }
        }
        ShownLine { text, glosses, more_lines: lines - rest.len(), rest }
    }

    /// The record of an event in the form that its format has of itself (JSON, XML), indented; `None` where it has none.
    pub fn structured(&mut self, event: EventRef<'_>) -> Option<String> {
        let Reader::Lines(detected) = self.source(event).reader else { return None };
        detected.format.structured(&self.text(event).ok()?)
    }

    /// The trace of a kernel's failure: each of its lines is a message with a time of its own, behind the first.
    fn kernel_trace(&mut self, event: EventRef<'_>, first: &str) -> Option<trace::Trace> {
        const BYTES: usize = 16 << 10;
        const LINES: usize = 80;
        let source = self.source(event);
        let Reader::Lines(detected) = source.reader else { return None };
        let behind = SourceFile::open(&source.path).ok()?.read(event.offset() + event.length(), BYTES).ok()?;
        let behind = source.encoding.text(&behind);
        let mut text = without_uptime(first).to_owned();
        for line in behind.lines().take(LINES) {
            let record = detected.format.record(line, detected.hint);
            let body = without_uptime(&record.body);
            if trace::starts_in_kernel(body) || body.contains("---[ end ") {
                break;
            }
            text.push('\n');
            text.push_str(body);
        }
        trace::parse(&text)
    }

    /// The record of a dump.
    fn dump(&mut self, source: usize, format: &dyn crash::DumpFormat) -> Record {
        let path = &self.sources[source].path;
        let read = || match crash::read(format, path) {
            Ok(crash) => crash.record(),
            Err(error) => Record { body: error.to_string(), ..Record::default() },
        };
        self.dumps.entry(source).or_insert_with(read).clone()
    }

    /// Where an event stands in the file that it was read from: records of decoded files say it themselves.
    pub fn place(&mut self, event: EventRef<'_>) -> Place {
        let decoded = self.source(event).decoded.is_some();
        decoded.then(|| self.record(event).place).flatten().unwrap_or_else(|| event.place())
    }

    /// The whole record of an event.
    ///
    /// A record whose file is gone or cannot be read says so in its body.
    pub fn record(&mut self, event: EventRef<'_>) -> Record {
        let mut record = match self.source(event).reader {
            Reader::Lines(detected) => match self.text(event) {
                Ok(text) => detected.format.record(&text, detected.hint),
                Err(error) => unreadable(self.source(event), &error),
            },
            Reader::Dump(format) => self.dump(event.source(), format),
        };
        if event.length() > limits::RECORD_BYTES as u64 && matches!(self.source(event).reader, Reader::Lines(_)) {
            record.attributes.insert("boxclock.body_cut_at".into(), limits::RECORD_BYTES.into());
        }
        if !record.attributes.contains_key("exception.type")
            && let Some(trace) = trace_of(&record)
        {
            record.attributes.extend(trace.attributes());
        }
        if event.component() == "kernel"
            && !record.attributes.contains_key("exception.type")
            && trace::starts_in_kernel(&record.body)
            && let Some(trace) = self.kernel_trace(event, &record.body)
        {
            record.attributes.extend(trace.attributes());
        }
        if event.is_disordered() {
            record.attributes.insert("boxclock.out_of_order".into(), true.into());
        }
        record
    }
}

/// The text of a kernel's message without the time since boot that some formats leave in front of it.
pub(crate) fn without_uptime(body: &str) -> &str {
    let rest = body.strip_prefix('[').and_then(|rest| rest.split_once("] "));
    rest.filter(|(time, _)| time.trim().parse::<f64>().is_ok()).map_or(body, |(_, text)| text)
}

/// The stack trace in a record's text, or in the field that structured loggers have for it.
fn trace_of(record: &Record) -> Option<trace::Trace> {
    const FIELDS: [&str; 9] = [
        "stack",
        "stacktrace",
        "stack_trace",
        "exception",
        "exc_info",
        "traceback",
        "@x",
        "Exception",
        "error.stack_trace",
    ];
    let inner = ["error", "err", "exception", "fields"].into_iter().filter_map(|name| record.attributes.get(name));
    let nested = inner.filter_map(|value| FIELDS.iter().find_map(|name| value.get(name)?.as_str()));
    let own = FIELDS.iter().filter_map(|name| record.attributes.get(*name)?.as_str());
    trace::parse(&record.body).or_else(|| own.chain(nested).find_map(trace::parse))
}

fn unreadable(source: &Source, error: &std::io::Error) -> Record {
    Record { body: format!("cannot read {} any more: {error}", source.path.display()), ..Record::default() }
}
