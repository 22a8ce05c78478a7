//! Redacting files: text in its encoding, and the export form of the journal, piece by piece.

use std::borrow::Cow;
use std::fs::File;
use std::io::{BufRead, BufReader, Read, Write};

use super::columns;
use super::find::Redactor;
use crate::container::{Kind, START_BYTES};
use crate::decode::{Decoded, Rewriting};
use crate::files::FileFound;
use crate::format::Detected;
use crate::gather::pack;
use crate::gather::window::CutPart;
use crate::text::{Encoding, guess};
use crate::work::Work;
use crate::{Error, Result, crash, decode, limits, platform};

/// Bytes that are redacted at once; a line is never cut, unless it is longer.
pub(super) const PIECE_BYTES: usize = 4 << 20;

/// How a file can be redacted.
pub(super) enum Treatment {
    /// As text in this encoding.
    Text(Encoding),
    /// Field by field.
    Export,
    /// Not at all, and why.
    Not(&'static str),
}

/// Looks at the start of a file.
///
/// # Errors
/// When it cannot be read.
pub(super) fn treatment_of(file: &FileFound) -> Result<Treatment> {
    let cannot = |error: std::io::Error| Error::at(&file.path, "cannot read", error);
    let mut start = Vec::new();
    let from = platform::open_regular(&file.path).map_err(cannot)?;
    from.take(limits::SAMPLE_BYTES as u64).read_to_end(&mut start).map_err(cannot)?;
    let head = start.get(..START_BYTES).unwrap_or(&start);
    let rewriting = decode::decoder_for(&start, None).map_or(Rewriting::AsText, Decoded::rewriting);
    Ok(match () {
        () if Kind::of(head).is_some() => Treatment::Not("a packed file"),
        () if crash::recognise(&start).is_some_and(|format| !format.is_text()) => Treatment::Not("a dump"),
        () if rewriting == Rewriting::Impossible => Treatment::Not("a log whose records are not lines"),
        () if rewriting == Rewriting::ByField => Treatment::Export,
        () => guess(&[start]).map_or(Treatment::Not("not text"), |(encoding, _)| Treatment::Text(encoding)),
    })
}

/// What is done with each piece of text.
pub(super) trait Visit {
    /// The text that takes its place; `None` leaves it.
    fn text(&mut self, text: &str) -> Option<String>;
}

/// Only looks what there is, see [`Redactor::learn`].
pub(super) struct Learning<'a, 'r> {
    redactor: &'a mut Redactor<'r>,
    head: Head,
}

impl<'a, 'r> Learning<'a, 'r> {
    pub(super) fn new(redactor: &'a mut Redactor<'r>) -> Self {
        Self { redactor, head: Head::default() }
    }
}

impl Visit for Learning<'_, '_> {
    fn text(&mut self, text: &str) -> Option<String> {
        self.redactor.learn(&self.head.before(text));
        None
    }
}

/// The line that names the columns of a table, which every piece of its file needs.
#[derive(Default)]
pub(super) struct Head(String);

impl Head {
    /// A piece of a file with the head of its table before it, if it has one that stood in an earlier piece.
    fn before<'t>(&mut self, text: &'t str) -> Cow<'t, str> {
        let joined = if self.0.is_empty() { Cow::Borrowed(text) } else { Cow::Owned(format!("{}\n{text}", self.0)) };
        let next = columns::last_head(&joined).unwrap_or_default().to_owned();
        self.0 = next;
        joined
    }
}

/// Replaces, and looks through the result as a stranger would.
pub(super) struct Replacing<'a, 'r> {
    pub(super) redactor: &'a mut Redactor<'r>,
    /// How the reader reads the lines.
    pub(super) detected: Option<Detected>,
    /// Looks for what is left.
    pub(super) stranger: &'a Redactor<'a>,
    /// What is left: rule and value.
    pub(super) left: Vec<(String, String)>,
    /// The columns of the file.
    pub(super) head: Head,
}

impl Visit for Replacing<'_, '_> {
    fn text(&mut self, text: &str) -> Option<String> {
        let joined = self.head.before(text);
        let mut out = self.redactor.text(&joined, self.detected);
        self.left.extend(self.stranger.left_in(&out));
        if joined.len() > text.len() {
            // The head is in the file already: lines keep their number, so it is the first.
            out = out.split_once('\n').map_or(String::new(), |(_, rest)| rest.to_owned());
        }
        Some(out)
    }
}

/// Walks through a file, and gives what takes its place as a temporary file.
///
/// # Errors
/// When it cannot be read, the temporary file cannot be written, or the work is cancelled.
pub(super) fn walk(
    file: &FileFound,
    part: Option<&CutPart>,
    kind: &Treatment,
    visit: &mut dyn Visit,
    work: &Work,
) -> Result<File> {
    let cannot = |error: std::io::Error| Error::at(&file.path, "cannot read", error);
    let mut from: Box<dyn Read> = match part {
        Some(part) => pack::part_of_file(part).map_err(cannot)?,
        None => Box::new(platform::open_regular(&file.path).map_err(cannot)?),
    };
    let mut out = tempfile::tempfile().map_err(|error| Error::caused("cannot write a temporary file", error))?;
    let written = match kind {
        Treatment::Export => redact_export(&mut BufReader::new(from), &mut out, visit, work),
        Treatment::Text(encoding) => redact_stream(&mut from, &mut out, *encoding, visit, work),
        Treatment::Not(_) => Ok(()),
    };
    written.map_err(|error| Error::at(&file.path, "cannot redact", error))?;
    work.check()?;
    std::io::Seek::rewind(&mut out).map_err(|error| Error::caused("cannot read a temporary file", error))?;
    Ok(out)
}

/// The first of 256 characters that stand for bytes which are no UTF-8, in a plane for private use.
const STRAY: u32 = 0x10_FE00;

/// Bytes as text, so that every byte comes back.
fn to_text(bytes: &[u8], encoding: Encoding) -> String {
    match encoding {
        Encoding::Utf16Le | Encoding::Utf16Be => {
            let little = encoding == Encoding::Utf16Le;
            let units = bytes.chunks(2).map(|pair| match pair {
                [a, b] if little => u16::from_le_bytes([*a, *b]),
                [a, b] => u16::from_be_bytes([*a, *b]),
                _ => 0xFFFD,
            });
            char::decode_utf16(units).map(|unit| unit.unwrap_or('\u{FFFD}')).collect()
        }
        Encoding::Windows1252 | Encoding::Latin1 => {
            encoding_rs::WINDOWS_1252.decode_without_bom_handling(bytes).0.into_owned()
        }
        Encoding::Utf8 | Encoding::Binary => {
            let mut text = String::with_capacity(bytes.len());
            for chunk in bytes.utf8_chunks() {
                text.push_str(chunk.valid());
                text.extend(chunk.invalid().iter().filter_map(|byte| char::from_u32(STRAY + u32::from(*byte))));
            }
            text
        }
    }
}

/// The bytes of a text, see [`to_text`].
fn to_bytes(text: &str, encoding: Encoding) -> Vec<u8> {
    match encoding {
        Encoding::Utf16Le => text.encode_utf16().flat_map(u16::to_le_bytes).collect(),
        Encoding::Utf16Be => text.encode_utf16().flat_map(u16::to_be_bytes).collect(),
        Encoding::Windows1252 | Encoding::Latin1 => encoding_rs::WINDOWS_1252.encode(text).0.into_owned(),
        Encoding::Utf8 | Encoding::Binary => {
            let mut bytes = Vec::with_capacity(text.len());
            for letter in text.chars() {
                match u32::from(letter).checked_sub(STRAY).and_then(|byte| u8::try_from(byte).ok()) {
                    Some(byte) => bytes.push(byte),
                    None => bytes.extend_from_slice(letter.encode_utf8(&mut [0; 4]).as_bytes()),
                }
            }
            bytes
        }
    }
}

pub(super) fn redact_stream(
    from: &mut impl Read,
    out: &mut impl Write,
    encoding: Encoding,
    visit: &mut dyn Visit,
    work: &Work,
) -> std::io::Result<()> {
    let mut piece: Vec<u8> = Vec::new();
    loop {
        let before = piece.len();
        from.by_ref().take((PIECE_BYTES - before.min(PIECE_BYTES - 2)) as u64).read_to_end(&mut piece)?;
        let at_end = piece.len() == before || piece.len() < PIECE_BYTES;
        work.advance((piece.len() - before) as u64);
        let end = if at_end { piece.len() } else { line_start(&piece, encoding) };
        let rest = piece.split_off(end);
        if let Some(text) = visit.text(&to_text(&piece, encoding)) {
            out.write_all(&to_bytes(&text, encoding))?;
        }
        if at_end || work.is_cancelled() {
            return Ok(());
        }
        piece = rest;
    }
}

/// The export form of the journal: fields `NAME=value` in lines; a name alone, the length of the value in eight bytes, low byte
/// first, the value and a line feed.
pub(super) fn redact_export(
    from: &mut impl BufRead,
    out: &mut impl Write,
    visit: &mut dyn Visit,
    work: &Work,
) -> std::io::Result<()> {
    const MOST_BYTES: u64 = 256 << 20;
    let mut line = Vec::new();
    while !work.is_cancelled() {
        line.clear();
        let count = from.by_ref().take(MOST_BYTES).read_until(b'\n', &mut line)?;
        if count == 0 {
            break;
        }
        work.advance(count as u64);
        let is_name = line.len() > 1
            && line
                .iter()
                .all(|byte| byte.is_ascii_uppercase() || byte.is_ascii_digit() || matches!(byte, b'_' | b'\n'));
        if !is_name {
            if let Some(text) = visit.text(&to_text(&line, Encoding::Utf8)) {
                out.write_all(&to_bytes(&text, Encoding::Utf8))?;
            }
            continue;
        }
        let mut length = Vec::new();
        from.by_ref().take(8).read_to_end(&mut length)?;
        let Some(length) = length.first_chunk::<8>().copied() else {
            // Cut off inside the length: what there is goes along.
            out.write_all(&line)?;
            return out.write_all(&length);
        };
        let mut value = Vec::new();
        from.by_ref().take(u64::from_le_bytes(length).min(MOST_BYTES)).read_to_end(&mut value)?;
        work.advance(8 + value.len() as u64);
        let Some(text) = visit.text(&to_text(&value, Encoding::Utf8)) else { continue };
        let value = to_bytes(&text, Encoding::Utf8);
        out.write_all(&line)?;
        out.write_all(&(value.len() as u64).to_le_bytes())?;
        out.write_all(&value)?;
    }
    Ok(())
}

/// Where the last line of a piece starts; its end where it is one line.
fn line_start(piece: &[u8], encoding: Encoding) -> usize {
    let feed: &[u8] = match encoding {
        Encoding::Utf16Le => b"\n\0",
        Encoding::Utf16Be => b"\0\n",
        _ => b"\n",
    };
    let unit = feed.len();
    let found = piece.chunks_exact(unit).rposition(|chunk| chunk == feed);
    found.map_or(piece.len() / unit * unit, |index| (index + 1) * unit)
}
