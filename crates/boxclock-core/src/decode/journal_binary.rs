//! `journal-binary`: the files in which the system service manager keeps its journal.
//!
//! Source: the project's published document "Journal File Format" (header, objects, regular and compact layouts,
//! compression flags, entry arrays). All objects are walked in the order of the file, so that a file that is still open, or
//! whose tail is lost, is read as far as it goes; where an object cannot be, the walk goes on from the entries that the
//! entry arrays name behind it.

use std::collections::BTreeSet;
use std::io::{self, Read};
use std::rc::Rc;

use rustc_hash::FxHashMap;
use serde_json::{Map, Value};

use super::journal_export::{Field, Fields};
use super::{Decoder, Input, Output, Place, Rewriting};
use crate::code::Platform;
use crate::limits;
use crate::trouble::Trouble;

/// The decoder.
pub(super) struct JournalBinary;

const MAGIC: &[u8] = b"LPKSHHRH";
const HEADER_LEAST: usize = 208;
const HEADER_BYTES: usize = 16;
const OBJECT_HEADER: u64 = HEADER_BYTES as u64;
const COMPACT: u32 = 16;
const KNOWN_FLAGS: u32 = 0b1_1111;
/// Kinds of objects.
const DATA: u8 = 1;
const ENTRY: u8 = 3;
const ENTRY_ARRAY: u8 = 6;
const LAST_KIND: u8 = 7;
/// Fields of one entry.
const ITEMS: usize = 1024;
/// Decoded fields that are kept, since most stand in many entries.
const KEPT_FIELDS: usize = 1 << 15;
/// Bytes of a page of the file, and pages kept.
const PAGE_BYTES: usize = 1 << 20;
const PAGE: u64 = PAGE_BYTES as u64;
const PAGES: usize = 48;

/// Reads the file in pages, since fields lie anywhere before their entry.
struct Pages<'a, 'b> {
    input: &'a Input<'b>,
    kept: FxHashMap<u64, (Vec<u8>, u64)>,
    clock: u64,
}

impl Pages<'_, '_> {
    fn page(&mut self, number: u64) -> io::Result<&[u8]> {
        self.clock = self.clock.saturating_add(1);
        if !self.kept.contains_key(&number) {
            if self.kept.len() >= PAGES {
                let oldest = self.kept.iter().min_by_key(|(_, (_, used))| *used).map(|(number, _)| *number);
                oldest.map(|oldest| self.kept.remove(&oldest));
            }
            let bytes = self.input.read(number.saturating_mul(PAGE), PAGE_BYTES)?;
            self.kept.insert(number, (bytes, 0));
        }
        let clock = self.clock;
        Ok(self.kept.get_mut(&number).map_or(&[], |(bytes, used)| {
            *used = clock;
            bytes.as_slice()
        }))
    }

    /// `count` bytes at `offset`; fewer at the end of the file.
    fn bytes(&mut self, offset: u64, count: usize) -> io::Result<Vec<u8>> {
        let mut bytes = Vec::with_capacity(count.min(limits::RECORD_BYTES));
        let mut at = offset;
        while bytes.len() < count {
            let page = self.page(at / PAGE)?;
            let start = bounded(at % PAGE, PAGE_BYTES);
            let piece = page.get(start..page.len().min(start + count - bytes.len())).unwrap_or_default();
            if piece.is_empty() {
                break;
            }
            bytes.extend_from_slice(piece);
            at = at.saturating_add(piece.len() as u64);
        }
        Ok(bytes)
    }
}

/// A size that a file states as a number of bytes in memory, at most `most`.
fn bounded(stated: u64, most: usize) -> usize {
    usize::try_from(stated).unwrap_or(usize::MAX).min(most)
}

fn u32_at(bytes: &[u8], at: usize) -> u32 {
    bytes.get(at..).and_then(|rest| rest.first_chunk::<4>()).map_or(0, |bytes| u32::from_le_bytes(*bytes))
}

fn u64_at(bytes: &[u8], at: usize) -> u64 {
    bytes.get(at..).and_then(|rest| rest.first_chunk::<8>()).map_or(0, |bytes| u64::from_le_bytes(*bytes))
}

struct Object {
    kind: u8,
    flags: u8,
    size: u64,
}

struct Journal<'a, 'b> {
    pages: Pages<'a, 'b>,
    len_bytes: u64,
    compact: bool,
    fields: FxHashMap<u64, Option<Rc<Field>>>,
}

impl Journal<'_, '_> {
    /// The object at `offset`, if one can be there.
    fn object(&mut self, offset: u64) -> io::Result<Option<Object>> {
        let header = self.pages.bytes(offset, HEADER_BYTES)?;
        let (Some(kind), Some(flags)) = (header.first().copied(), header.get(1).copied()) else { return Ok(None) };
        let size = u64_at(&header, 8);
        let fits = size >= OBJECT_HEADER && offset.checked_add(size).is_some_and(|end| end <= self.len_bytes);
        let known = (1..=LAST_KIND).contains(&kind) && flags < 8 && offset.is_multiple_of(8);
        Ok((fits && known).then_some(Object { kind, flags, size }))
    }

    /// The field of the data object at `offset`: its name and value.
    fn field(&mut self, offset: u64) -> io::Result<Option<Rc<Field>>> {
        if let Some(known) = self.fields.get(&offset) {
            return Ok(known.clone());
        }
        let payload_at = if self.compact { 72 } else { 64 };
        let found = match self.object(offset)? {
            Some(object) if object.kind == DATA && object.size > payload_at => {
                let size = bounded(object.size.saturating_sub(payload_at), limits::RECORD_BYTES);
                let payload = self.pages.bytes(offset.saturating_add(payload_at), size)?;
                unpack(payload, object.flags).and_then(|payload| {
                    let equals = memchr::memchr(b'=', &payload)?;
                    Some(Rc::new(Field::new(payload.get(..equals)?, payload.get(equals + 1..)?)))
                })
            }
            _ => None,
        };
        if self.fields.len() >= KEPT_FIELDS {
            self.fields.clear();
        }
        self.fields.insert(offset, found.clone());
        Ok(found)
    }

    /// Writes the entry at `offset`.
    fn entry(&mut self, offset: u64, size: u64, number: u64, out: &mut Output) -> io::Result<()> {
        let head = self.pages.bytes(offset.saturating_add(OBJECT_HEADER), 48)?;
        if head.len() < 48 {
            return Ok(());
        }
        let (seqnum, realtime, monotonic) = (u64_at(&head, 0), u64_at(&head, 8), u64_at(&head, 16));
        let boot: String = crate::text::hex(head.get(24..40).unwrap_or_default());
        let item_bytes: usize = if self.compact { 4 } else { 16 };
        let count = bounded(size.saturating_sub(64), ITEMS * item_bytes) / item_bytes;
        let items = self.pages.bytes(offset.saturating_add(64), count * item_bytes)?;
        let mut fields = Fields::default();
        let mut missing = 0_u64;
        for item in items.chunks_exact(item_bytes) {
            let at = if self.compact { u64::from(u32_at(item, 0)) } else { u64_at(item, 0) };
            match self.field(at)? {
                Some(field) => fields.add(field),
                None if at == 0 => {}
                None => missing = missing.saturating_add(1),
            }
        }
        if missing > 0 {
            out.trouble(Trouble::lost(format!("the entry at byte {offset} has {missing} fields that cannot be read")));
        }
        let mut add = |name: &[u8], value: &str| fields.add(Rc::new(Field::new(name, value.as_bytes())));
        add(b"__SEQNUM", &seqnum.to_string());
        add(b"__MONOTONIC_TIMESTAMP", &monotonic.to_string());
        if !fields.has("_BOOT_ID") {
            fields.add(Rc::new(Field::new(b"_BOOT_ID", boot.as_bytes())));
        }
        let place = Place { line: number, offset, length: size };
        fields.write(Some(i64::try_from(realtime).unwrap_or(i64::MAX)), place, out)
    }

    /// All places of entries that the entry arrays name, ascending. A chain can only go forward, so it ends.
    fn entry_places(&mut self, first: u64) -> io::Result<BTreeSet<u64>> {
        let mut places = BTreeSet::new();
        let mut at = first;
        while let Some(object) = self.object(at)?.filter(|object| object.kind == ENTRY_ARRAY) {
            let head = self.pages.bytes(at.saturating_add(OBJECT_HEADER), 8)?;
            let width: usize = if self.compact { 4 } else { 8 };
            // No entry has less than 64 bytes.
            let most = bounded(self.len_bytes / 64, usize::MAX / 8);
            let count = bounded(object.size.saturating_sub(24), most * width) / width;
            let bytes = self.pages.bytes(at.saturating_add(24), count * width)?;
            let values = bytes.chunks_exact(width);
            places.extend(values.map(|item| if width == 4 { u64::from(u32_at(item, 0)) } else { u64_at(item, 0) }));
            let next = u64_at(&head, 0);
            // Arrays do not overlap; a chain that says so could be followed for very long.
            if next < at.saturating_add(object.size) {
                break;
            }
            at = next;
        }
        places.remove(&0);
        Ok(places)
    }
}

/// The payload of a data object, unpacked where its flags say so.
fn unpack(payload: Vec<u8>, flags: u8) -> Option<Vec<u8>> {
    let most = limits::RECORD_BYTES as u64;
    let mut unpacked = Vec::new();
    match flags & 7 {
        0 => return Some(payload),
        1 => {
            let reader = lzma_rust2::XzReader::new_mem_limit(payload.as_slice(), true, limits::XZ_MEMORY_KIB);
            reader.take(most).read_to_end(&mut unpacked).ok()?;
        }
        2 => {
            let (size, block) = payload.split_first_chunk::<8>()?;
            let size = u64::from_le_bytes(*size);
            // One byte of a block stands for at most 255.
            if size > most || size > (block.len() as u64).saturating_mul(255) {
                return None;
            }
            unpacked = lz4_flex::block::decompress(block, bounded(size, limits::RECORD_BYTES)).ok()?;
        }
        4 => {
            let reader = crate::container::Frames::new(payload.as_slice());
            reader.take(most).read_to_end(&mut unpacked).ok()?;
        }
        _ => return None,
    }
    Some(unpacked)
}

impl Decoder for JournalBinary {
    fn name(&self) -> &'static str {
        "journal-binary"
    }

    fn names_programs(&self) -> bool {
        true
    }

    fn rewriting(&self) -> Rewriting {
        Rewriting::Impossible
    }

    fn recognise(&self, start: &[u8]) -> bool {
        start.starts_with(MAGIC)
    }

    fn platform(&self) -> Platform {
        Platform::Linux
    }

    fn attributes(&self, _: &str, fields: &str) -> Map<String, Value> {
        super::journal_export::attributes(fields)
    }

    fn decode(&self, input: &Input<'_>, out: &mut Output) -> io::Result<()> {
        let header = input.read(0, 272)?;
        if header.len() < HEADER_LEAST {
            out.trouble(Trouble::lost(format!(
                "cut off at byte {}: the header has {HEADER_LEAST} bytes",
                header.len()
            )));
            return Ok(());
        }
        let flags = u32_at(&header, 12);
        if flags & !KNOWN_FLAGS != 0 {
            out.trouble(Trouble::lost(format!(
                "unknown features (flags {flags:#x} at byte 12): what is known is read"
            )));
        }
        if header.get(16) == Some(&1) {
            out.trouble(Trouble::note(
                "the file was open when it was copied (state at byte 16): what is there is read",
            ));
        }
        let pages = Pages { input, kept: FxHashMap::default(), clock: 0 };
        let compact = flags & COMPACT != 0;
        let mut journal = Journal { pages, len_bytes: input.len_bytes, compact, fields: FxHashMap::default() };
        let arena_end = u64_at(&header, 88).saturating_add(u64_at(&header, 96));
        if arena_end > input.len_bytes {
            let what = format!("cut off at byte {}: the header promises {arena_end} bytes", input.len_bytes);
            out.trouble(Trouble::lost(what));
        }
        walk(&mut journal, &header, out)
    }
}

fn walk(journal: &mut Journal<'_, '_>, header: &[u8], out: &mut Output) -> io::Result<()> {
    let tail = u64_at(header, 136);
    let aligned = |at: u64| at.checked_next_multiple_of(8).unwrap_or(u64::MAX);
    let mut at = aligned(u64_at(header, 88).max(HEADER_LEAST as u64));
    let mut number = 0_u64;
    let mut places: Option<BTreeSet<u64>> = None;
    while at < journal.len_bytes {
        match journal.object(at)? {
            Some(object) => {
                if object.kind == ENTRY {
                    number = number.saturating_add(1);
                    journal.entry(at, object.size, number, out)?;
                }
                at = aligned(at.saturating_add(object.size));
            }
            // Behind the last object there is only room.
            None if at > tail => break,
            None => {
                if places.is_none() {
                    places = Some(journal.entry_places(u64_at(header, 176))?);
                }
                let mut later = places.iter().flat_map(|places| places.range(at.saturating_add(1)..)).copied();
                let mut next = None;
                for place in later.by_ref() {
                    if journal.object(place)?.is_some_and(|object| object.kind == ENTRY) {
                        next = Some(place);
                        break;
                    }
                }
                let end = next.unwrap_or(journal.len_bytes);
                out.trouble(Trouble::lost(format!(
                    "no object at byte {at}: {} bytes were skipped",
                    end.saturating_sub(at)
                )));
                at = end;
            }
        }
    }
    out.account.lines = number;
    Ok(())
}
