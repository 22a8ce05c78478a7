//! Reading a segment's text for analyses: in windows of whole records, as UTF-8.

use std::borrow::Cow;

use super::{CaseView, source_of};
use crate::case::{Reader, Source};
use crate::format::Record;
use crate::text::{Encoding, SourceFile};
use crate::work::Work;
use crate::{crash, limits};

/// Bytes that are read at once: small enough for the processor's cache.
const WINDOW_BYTES: u32 = 256 << 10;

/// Records that stand next to each other, as UTF-8 (bytes that are none of any encoding stay as they are).
pub struct Window<'a> {
    /// The source that they are of.
    pub source: &'a Source,
    /// Their text, one behind the other.
    pub bytes: &'a [u8],
    /// The index in the segment of the first.
    first: usize,
    /// The severity numbers of all events of the segment.
    severities: &'a [u8],
    /// Where each starts in `bytes`, counted from `base`.
    starts: &'a [u32],
    base: u32,
}

impl<'a> Window<'a> {
    /// Each record.
    pub fn events(&self) -> impl Iterator<Item = Seen<'a>> + '_ {
        (0..self.starts.len()).map(|at| self.event(at))
    }

    /// The record in which a byte lies.
    pub fn event_at(&self, byte: usize) -> Seen<'a> {
        let at = self.starts.partition_point(|start| (*start - self.base) as usize <= byte);
        self.event(at.saturating_sub(1))
    }

    fn event(&self, at: usize) -> Seen<'a> {
        let from = self.starts.get(at).map_or(0, |start| (*start - self.base) as usize);
        let to = self.starts.get(at + 1).map_or(self.bytes.len(), |start| (*start - self.base) as usize);
        let to = to.min(self.bytes.len());
        let text = self.bytes.get(from.min(to)..to.min(from + limits::RECORD_BYTES)).unwrap_or_default();
        let index = self.first + at;
        let severity = self.severities.get(index).copied().unwrap_or_default();
        Seen { source: self.source, index, severity, text, end: to }
    }
}

/// One record.
#[derive(Clone, Copy)]
pub struct Seen<'a> {
    /// Its source.
    pub source: &'a Source,
    /// Its index in its segment.
    pub index: usize,
    /// Its severity number; 0 where it carries none.
    pub severity: u8,
    /// Its text with its line ends, at most [`limits::RECORD_BYTES`].
    pub text: &'a [u8],
    /// Where it ends in the window.
    pub end: usize,
}

impl<'a> Seen<'a> {
    /// Its first line, without line end.
    pub fn line(&self) -> &'a [u8] {
        let end = memchr::memchr(b'\n', self.text).unwrap_or(self.text.len());
        self.text.get(..end).unwrap_or_default()
    }

    /// Its message: behind the head where the format has one, else as the record has it.
    pub fn body(&self) -> Cow<'a, [u8]> {
        let Reader::Lines(detected) = self.source.reader else { return Cow::Borrowed(self.text) };
        let line = self.line();
        // Formats of fields have theirs anywhere, and objects say so by a head without length.
        if !detected.format.is_fields(line)
            && let Some(head) = detected.format.head(line, detected.hint)
            && (1..line.len()).contains(&head.body)
        {
            return Cow::Borrowed(self.text.get(head.body..).unwrap_or_default());
        }
        Cow::Owned(self.record().body.into_bytes())
    }

    /// The record.
    pub fn record(&self) -> Record {
        let text = String::from_utf8_lossy(self.text);
        match self.source.reader {
            Reader::Lines(detected) => detected.format.record(&text, detected.hint),
            Reader::Dump(_) => Record { body: text.into_owned(), ..Record::default() },
        }
    }
}

/// Gives all records of a part in windows, and whether all could be read. What cannot be read (any more) gives none: the source
/// says so elsewhere, and its pieces must not outlast the case.
pub(super) fn windows(view: &CaseView, part: usize, work: &Work, mut each: impl FnMut(&Window<'_>)) -> bool {
    let source = source_of(view, part);
    let part = &view.loaded.table.parts[part];
    let severities: &[u8] = &part.segment.severities;
    if let Reader::Dump(format) = source.reader {
        let body = crash::read(format, &source.path).map(|crash| crash.record().body).unwrap_or_default();
        each(&Window { source, bytes: body.as_bytes(), first: 0, severities, starts: &[0], base: 0 });
        return true;
    }
    let Ok(file) = SourceFile::open(&source.path) else { return false };
    let offsets = &part.segment.offsets;
    let (mut raw, mut text, mut starts) = (Vec::new(), String::new(), Vec::new());
    let mut first = 0;
    while first < offsets.len() && !work.is_cancelled() {
        // Whole records, at least one.
        let base = offsets[first];
        let next = first + offsets[first..].partition_point(|offset| *offset - base < WINDOW_BYTES);
        let start = part.segment.offset + u64::from(base);
        let end = offsets.get(next).map_or(part.end, |offset| part.segment.offset + u64::from(*offset));
        let last = part.segment.offset + u64::from(offsets[next - 1]);
        let end = end.min(last + limits::RECORD_BYTES as u64);
        if file.read_into(start, end.saturating_sub(start) as usize, &mut raw).is_err() {
            return false;
        }
        if source.encoding == Encoding::Utf8 {
            each(&Window { source, bytes: &raw, first, severities, starts: &offsets[first..next], base });
        } else {
            text.clear();
            starts.clear();
            for at in first..next {
                let from = ((offsets[at] - base) as usize).min(raw.len());
                let to =
                    offsets.get(at + 1).filter(|_| at + 1 < next).map_or(raw.len(), |next| (*next - base) as usize);
                starts.push(text.len() as u32);
                text.push_str(&source.encoding.text(&raw[from..to.clamp(from, raw.len())]));
            }
            each(&Window { source, bytes: text.as_bytes(), first, severities, starts: &starts, base: 0 });
        }
        first = next;
    }
    true
}
