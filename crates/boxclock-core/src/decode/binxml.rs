//! Binary XML as the event log of Windows stores it: tokens, names, templates with substitutions, typed values.
//!
//! Source: [MS-EVEN6], the vendor's open specification of the event log protocol, section 2.2.12 (BinXml: grammar, tokens,
//! value types) and 3.1.4.7 (templates). Inside a file, names and templates stand once in a chunk and are referred to by
//! their offset from its start, which the specification of the protocol leaves out; that part is from public descriptions
//! of the file format.
//!
//! Nothing here trusts a number: every read is checked, depth and the number of elements of one record are limited, and
//! each offset that is followed leads to a template definition, whose nesting is limited too.

use std::fmt::Write;
use std::rc::Rc;

use rustc_hash::FxHashMap;

use super::windows_event::{DEPTH, Element};
use crate::clock::{scan, to_rfc3339};

/// Elements and values of one record.
const ITEMS: usize = 20_000;
/// Bytes of text of one record.
const TEXT_BYTES: usize = 1 << 20;

/// Why a record cannot be decoded: what is wrong, and where in the chunk.
#[derive(Debug, PartialEq, Eq)]
pub(super) struct Wrong(pub &'static str, pub usize);

type Result<T> = std::result::Result<T, Wrong>;

/// A place in a chunk, and where its data ends.
struct Cursor<'a> {
    chunk: &'a [u8],
    at: usize,
    end: usize,
}

impl<'a> Cursor<'a> {
    fn take(&mut self, count: usize) -> Result<&'a [u8]> {
        let end = self.at.checked_add(count).filter(|end| *end <= self.end.min(self.chunk.len()));
        let Some(end) = end else { return Err(Wrong("the data ends too early", self.at)) };
        let bytes = self.chunk.get(self.at..end).unwrap_or_default();
        self.at = end;
        Ok(bytes)
    }

    fn array<const N: usize>(&mut self) -> Result<[u8; N]> {
        let mut array = [0; N];
        array.copy_from_slice(self.take(N)?);
        Ok(array)
    }

    fn u8(&mut self) -> Result<u8> {
        Ok(self.array::<1>()?[0])
    }

    fn u16(&mut self) -> Result<u16> {
        Ok(u16::from_le_bytes(self.array()?))
    }

    fn u32(&mut self) -> Result<u32> {
        Ok(u32::from_le_bytes(self.array()?))
    }

    fn peek(&self) -> Option<u8> {
        self.chunk.get(self.at).copied().filter(|_| self.at < self.end)
    }
}

/// A substitution value: its type and where its data is in the chunk.
#[derive(Clone, Copy)]
struct Value {
    kind: u8,
    at: usize,
    length: usize,
}

/// The names of a chunk that have been met, by their offset; each with where it ends.
#[derive(Default)]
pub(super) struct Names(FxHashMap<usize, Option<(Rc<str>, usize)>>);

/// Reads the binary XML of one record.
pub(super) struct BinXml<'a> {
    chunk: &'a [u8],
    names: &'a mut Names,
    items: usize,
    text_bytes: usize,
}

/// What fills the substitutions of the template that is being read; outside templates there is nothing.
type Values<'v> = Option<&'v [Value]>;

impl<'a> BinXml<'a> {
    pub(super) fn new(chunk: &'a [u8], names: &'a mut Names) -> Self {
        Self { chunk, names, items: 0, text_bytes: 0 }
    }

    /// The first element of the fragment in `from..to` of the chunk.
    pub(super) fn element(mut self, from: usize, to: usize) -> Result<Element> {
        let mut root = Element::named("");
        let mut cursor = Cursor { chunk: self.chunk, at: from, end: to.min(self.chunk.len()) };
        self.content(&mut cursor, None, &mut root, 0)?;
        root.children.into_iter().next().ok_or(Wrong("no element", from))
    }

    fn count(&mut self, at: usize, bytes: usize) -> Result<()> {
        self.items += 1;
        self.text_bytes = self.text_bytes.saturating_add(bytes);
        if self.items > ITEMS || self.text_bytes > TEXT_BYTES {
            return Err(Wrong("more elements or text than a record may hold", at));
        }
        Ok(())
    }

    /// Reads tokens into `parent` until its end element or the end of the fragment.
    fn content(
        &mut self,
        cursor: &mut Cursor<'a>,
        values: Values<'_>,
        parent: &mut Element,
        depth: usize,
    ) -> Result<()> {
        if depth > DEPTH {
            return Err(Wrong("elements or templates nested too deep", cursor.at));
        }
        while let Some(token) = cursor.peek() {
            let at = cursor.at;
            match token & 0xBF {
                0x00 => {
                    cursor.at += 1;
                    return Ok(());
                }
                0x04 => {
                    cursor.at += 1;
                    return Ok(());
                }
                0x01 => {
                    self.count(at, 0)?;
                    let child = self.open_element(cursor, values, depth)?;
                    parent.children.push(child);
                }
                0x0F => {
                    cursor.take(4)?;
                }
                0x0C => self.template(cursor, parent, depth)?,
                0x05 | 0x07 | 0x08 | 0x09 | 0x0D | 0x0E => self.text(cursor, values, parent, depth)?,
                0x0A => {
                    cursor.take(1)?;
                    self.name(cursor)?;
                }
                0x0B => {
                    cursor.take(1)?;
                    let count = usize::from(cursor.u16()?);
                    cursor.take(count * 2)?;
                }
                _ => return Err(Wrong("a token that is none", at)),
            }
        }
        Ok(())
    }

    /// One piece of text: a value, character data, a reference, or a substitution.
    fn text(&mut self, cursor: &mut Cursor<'a>, values: Values<'_>, to: &mut Element, depth: usize) -> Result<()> {
        let at = cursor.at;
        let token = cursor.u8()? & 0xBF;
        match token {
            0x05 => {
                let kind = cursor.u8()?;
                if kind != 1 {
                    return Err(Wrong("a value that is not text outside a template's values", at));
                }
                let count = usize::from(cursor.u16()?);
                let bytes = cursor.take(count * 2)?;
                self.count(at, bytes.len())?;
                utf16_to(&mut to.text, bytes);
            }
            0x07 => {
                let count = usize::from(cursor.u16()?);
                let bytes = cursor.take(count * 2)?;
                self.count(at, bytes.len())?;
                utf16_to(&mut to.text, bytes);
            }
            0x08 => {
                let code = u32::from(cursor.u16()?);
                to.text.push(char::from_u32(code).unwrap_or('\u{FFFD}'));
            }
            0x09 => {
                let name = self.name(cursor)?;
                match quick_xml::escape::resolve_predefined_entity(&name) {
                    Some(text) => to.text.push_str(text),
                    None => {
                        let _ = write!(to.text, "&{name};");
                    }
                }
            }
            _ => {
                let index = usize::from(cursor.u16()?);
                let _kind = cursor.u8()?;
                let Some(value) = values.and_then(|values| values.get(index)).copied() else {
                    return Err(Wrong("a substitution without its value", at));
                };
                self.value(value, to, depth)?;
            }
        }
        Ok(())
    }

    fn open_element(&mut self, cursor: &mut Cursor<'a>, values: Values<'_>, depth: usize) -> Result<Element> {
        let has_attributes = cursor.u8()? & 0x40 != 0;
        // Elements of templates have a dependency identifier in front of their size, others need not: the name that
        // follows tells.
        if values.is_some() || !self.name_fits(cursor.at + 4) {
            cursor.take(2)?;
        }
        let _size = cursor.u32()?;
        let mut element = Element::named(self.name(cursor)?);
        if has_attributes {
            let size = cursor.u32()? as usize;
            let end = cursor.at.checked_add(size).filter(|end| *end <= cursor.end);
            let Some(end) = end else { return Err(Wrong("a list of attributes longer than its record", cursor.at)) };
            while cursor.at < end && cursor.peek().is_some_and(|token| token & 0xBF == 0x06) {
                cursor.take(1)?;
                self.count(cursor.at, 0)?;
                let name = self.name(cursor)?;
                let mut holder = Element::named("");
                while cursor.peek().is_some_and(|token| matches!(token & 0xBF, 0x05 | 0x08 | 0x09 | 0x0D | 0x0E)) {
                    self.text(cursor, values, &mut holder, depth + 1)?;
                }
                if !holder.text.is_empty() {
                    element.attributes.push((name, holder.text));
                }
            }
        }
        match cursor.u8()? {
            0x03 => {}
            0x02 => self.content(cursor, values, &mut element, depth + 1)?,
            _ => return Err(Wrong("an element that is not closed", cursor.at)),
        }
        Ok(element)
    }

    /// Whether a name can stand at `at`: its offset is that of the next bytes, or leads back.
    fn name_fits(&mut self, at: usize) -> bool {
        let Some(bytes) = self.chunk.get(at..).and_then(|rest| rest.first_chunk::<4>()) else { return false };
        let offset = u32::from_le_bytes(*bytes) as usize;
        offset == at + 4 || (offset >= 128 && offset < at && self.name_at(offset).is_some())
    }

    /// A name: where it stands for the first time it follows at once.
    fn name(&mut self, cursor: &mut Cursor<'a>) -> Result<Rc<str>> {
        let offset = cursor.u32()? as usize;
        let (name, end) = self.name_at(offset).ok_or(Wrong("a name that is not there", cursor.at))?;
        if offset == cursor.at {
            cursor.take(end - offset)?;
        }
        self.count(cursor.at, name.len())?;
        Ok(name)
    }

    /// Next name's offset (4 bytes), hash (2), length in UTF-16 units (2), the units, a zero unit.
    fn name_at(&mut self, offset: usize) -> Option<(Rc<str>, usize)> {
        let chunk = self.chunk;
        let read = || {
            let rest = chunk.get(offset..)?;
            let count = usize::from(u16::from_le_bytes(*rest.get(6..)?.first_chunk::<2>()?));
            let text = utf16(rest.get(8..8 + count * 2)?);
            let bad = |letter: char| letter.is_control() || "<>&\"' ".contains(letter);
            (!text.is_empty() && !text.contains(bad)).then(|| (Rc::from(text), offset + 8 + count * 2 + 2))
        };
        self.names.0.entry(offset).or_insert_with(read).clone()
    }

    /// A template instance: which template, and the values for its substitutions.
    fn template(&mut self, cursor: &mut Cursor<'a>, parent: &mut Element, depth: usize) -> Result<()> {
        cursor.take(1)?;
        let _unknown = cursor.u8()?;
        let _id = cursor.u32()?;
        let definition = cursor.u32()? as usize;
        let inline = definition == cursor.at;
        // Next template's offset (4), identifier (16), size of the definition (4), the definition.
        let mut header = Cursor { chunk: self.chunk, at: definition, end: self.chunk.len() };
        header.take(20)?;
        let size = header.u32()? as usize;
        let start = header.at;
        header.take(size)?;
        if inline {
            cursor.take(24 + size)?;
        }
        let count = cursor.u32()? as usize;
        if count > ITEMS {
            return Err(Wrong("more values than a record may hold", cursor.at));
        }
        let mut values = Vec::new();
        for _ in 0..count {
            let length = usize::from(cursor.u16()?);
            let kind = cursor.u8()?;
            cursor.take(1)?;
            values.push(Value { kind, at: 0, length });
        }
        for value in &mut values {
            value.at = cursor.at;
            cursor.take(value.length)?;
        }
        self.count(cursor.at, 0)?;
        let mut body = Cursor { chunk: self.chunk, at: start, end: start + size };
        self.content(&mut body, Some(&values), parent, depth + 1)
    }

    /// Adds a substitution's value to an element: as text, or as the elements of embedded binary XML.
    fn value(&mut self, value: Value, to: &mut Element, depth: usize) -> Result<()> {
        let Some(bytes) = self.chunk.get(value.at..value.at + value.length) else {
            return Err(Wrong("a value that is not there", value.at));
        };
        if value.kind == 0x21 {
            let mut cursor = Cursor { chunk: self.chunk, at: value.at, end: value.at + value.length };
            return self.content(&mut cursor, None, to, depth + 1);
        }
        if value.kind == 1 {
            // Most values: without a text of their own in between.
            self.count(value.at, bytes.len())?;
            utf16_to(&mut to.text, bytes);
            return Ok(());
        }
        let text = if value.kind & 0x80 == 0 { scalar(value.kind, bytes) } else { list(value.kind & 0x7F, bytes) };
        let text = text.ok_or(Wrong("a value of an unknown type or length", value.at))?;
        self.count(value.at, text.len())?;
        to.text.push_str(&text);
        Ok(())
    }
}

fn utf16(bytes: &[u8]) -> String {
    let mut text = String::new();
    utf16_to(&mut text, bytes);
    text
}

/// Adds UTF-16, little-endian, without the zeros at its end.
fn utf16_to(text: &mut String, bytes: &[u8]) {
    let pairs = bytes.as_chunks::<2>().0;
    let count = pairs.iter().rposition(|pair| *pair != [0, 0]).map_or(0, |last| last + 1);
    let pairs = || pairs.iter().take(count);
    text.reserve(count);
    if pairs().all(|[low, high]| *low < 0x80 && *high == 0) {
        // Nearly all of it is plain.
        text.extend(pairs().map(|[low, _]| char::from(*low)));
        return;
    }
    let units = pairs().map(|pair| u16::from_le_bytes(*pair));
    text.extend(char::decode_utf16(units).map(|unit| unit.unwrap_or('\u{FFFD}')));
}

/// An array of values: strings end with a zero, others have a fixed size.
fn list(kind: u8, bytes: &[u8]) -> Option<String> {
    let items: Vec<String> = match kind {
        1 => utf16(bytes).split('\0').map(str::to_owned).collect(),
        2 => ansi(bytes).split('\0').map(str::to_owned).collect(),
        _ => {
            let size = match kind {
                3 | 4 => 1,
                5 | 6 => 2,
                7 | 8 | 0x0B | 0x0D | 0x14 => 4,
                9 | 0x0A | 0x0C | 0x10 | 0x11 | 0x15 => 8,
                0x0F | 0x12 => 16,
                _ => return None,
            };
            bytes.chunks(size).map(|item| scalar(kind, item)).collect::<Option<_>>()?
        }
    };
    Some(items.join(", "))
}

/// A value of one of the types of [MS-EVEN6] 2.2.12 (`BinXmlValueType`) as text.
fn scalar(kind: u8, bytes: &[u8]) -> Option<String> {
    fn array<const N: usize>(bytes: &[u8]) -> Option<[u8; N]> {
        bytes.first_chunk::<N>().copied()
    }
    if bytes.is_empty() {
        return Some(String::new());
    }
    Some(match kind {
        0x00 => String::new(),
        0x01 => utf16(bytes),
        0x02 => ansi(bytes),
        0x03 => i8::from_le_bytes(array(bytes)?).to_string(),
        0x04 => bytes.first()?.to_string(),
        0x05 => i16::from_le_bytes(array(bytes)?).to_string(),
        0x06 => u16::from_le_bytes(array(bytes)?).to_string(),
        0x07 => i32::from_le_bytes(array(bytes)?).to_string(),
        0x08 => u32::from_le_bytes(array(bytes)?).to_string(),
        0x09 => i64::from_le_bytes(array(bytes)?).to_string(),
        0x0A => u64::from_le_bytes(array(bytes)?).to_string(),
        0x0B => real(f32::from_le_bytes(array(bytes)?).into(), &f32::from_le_bytes(array(bytes)?)),
        0x0C => real(f64::from_le_bytes(array(bytes)?), &f64::from_le_bytes(array(bytes)?)),
        0x0D => if bytes.iter().any(|byte| *byte != 0) { "true" } else { "false" }.to_owned(),
        0x0E => bytes.iter().fold(String::new(), |mut text, byte| {
            let _ = write!(text, "{byte:02X}");
            text
        }),
        0x0F => guid(array(bytes)?),
        0x10 if bytes.len() == 4 => format!("{:#x}", u32::from_le_bytes(array(bytes)?)),
        0x10 | 0x15 => format!("{:#x}", u64::from_le_bytes(array(bytes)?)),
        0x11 => {
            let ticks = i64::from_le_bytes(array(bytes)?);
            scan::filetime(ticks).map_or_else(|| ticks.to_string(), to_rfc3339)
        }
        0x12 => {
            let fields: [[u8; 2]; 8] = bytes.as_chunks().0.first_chunk().copied()?;
            let [year, month, _, day, hour, minute, second, milli] = fields.map(u16::from_le_bytes);
            format!("{year:04}-{month:02}-{day:02}T{hour:02}:{minute:02}:{second:02}.{milli:03}Z")
        }
        0x13 => sid(bytes)?,
        0x14 => format!("{:#x}", u32::from_le_bytes(array(bytes)?)),
        // Handles of bookmarks and the like, embedded text.
        0x20 | 0x23 => utf16(bytes),
        _ => return None,
    })
}

/// Text in the system's code page, which is that of western systems unless the file is from elsewhere: nothing in it says so.
fn ansi(bytes: &[u8]) -> String {
    let text = encoding_rs::WINDOWS_1252.decode_without_bom_handling(bytes).0;
    text.trim_end_matches('\0').to_owned()
}

/// A number with a point, very large and small ones with an exponent.
fn real<T: std::fmt::Display + std::fmt::LowerExp>(size: f64, number: &T) -> String {
    let plain = size == 0.0 || !size.is_finite() || (1e-5..1e15).contains(&size.abs());
    if plain { format!("{number}") } else { format!("{number:e}") }
}

fn guid(bytes: [u8; 16]) -> String {
    // The first three parts are numbers, low byte first; the others are bytes.
    let (first, rest) = bytes.split_first_chunk().unwrap_or((&[0; 4], &[]));
    let (second, rest) = rest.split_first_chunk().unwrap_or((&[0; 2], &[]));
    let (third, rest) = rest.split_first_chunk().unwrap_or((&[0; 2], &[]));
    let (fourth, last) = rest.split_at_checked(2).unwrap_or_default();
    let (first, second, third) = (u32::from_le_bytes(*first), u16::from_le_bytes(*second), u16::from_le_bytes(*third));
    let hex = |bytes: &[u8]| crate::text::hex(bytes).to_ascii_uppercase();
    format!("{{{first:08X}-{second:04X}-{third:04X}-{}-{}}}", hex(fourth), hex(last))
}

/// A security identifier: revision, count, authority in six bytes, big-endian, then the parts ([MS-DTYP] 2.4.2.2).
fn sid(bytes: &[u8]) -> Option<String> {
    let (revision, count) = (*bytes.first()?, usize::from(*bytes.get(1)?));
    let authority = bytes.get(2..8)?.iter().fold(0_u64, |value, byte| value << 8 | u64::from(*byte));
    let mut text = format!("S-{revision}-{authority}");
    for part in bytes.get(8..8 + count * 4)?.as_chunks().0 {
        let _ = write!(text, "-{}", u32::from_le_bytes(*part));
    }
    Some(text)
}
