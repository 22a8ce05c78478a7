//! `evtx`: the event log files of Windows since version 6.
//!
//! ```text
//! file    header of 4096 bytes: "ElfFile\0" … flags at 120 (1 not closed, 2 full), CRC-32 of bytes 0..120 at 124
//! chunk   65536 bytes: "ElfChnk\0", end of the used space at 48, CRC-32 of the records at 52, CRC-32 of bytes 0..120 and
//!         128..512 at 124; records from byte 512
//! record  2A 2A 00 00, size (4 bytes), number (8), time written as FILETIME (8), binary XML, size again
//! ```
//!
//! Source: public descriptions of the file format by several independent authors (header, chunk, record); the binary XML
//! is [MS-EVEN6] 2.2.12, see `binxml.rs`. The file's header counts chunks, but a file that was not closed has more than it
//! says: all of its 64 KiB are looked at. What is damaged is named with its place; later records and chunks are read.

use std::io;

use serde_json::{Map, Value};

use super::binxml::{BinXml, Names};
use super::windows_event::{self, Element};
use super::{Decoder, Input, Output, Place, Rewriting};
use crate::clock::scan;
use crate::code::{Family, Platform};
use crate::trouble::Trouble;

/// The decoder.
pub(super) struct Evtx;

const FILE_MAGIC: &[u8] = b"ElfFile\0";
const CHUNK_MAGIC: &[u8] = b"ElfChnk\0";
const RECORD_MAGIC: &[u8] = &[0x2A, 0x2A, 0, 0];
const CHUNK_BYTES: usize = 65_536;
const FILE_HEADER_BYTES: usize = 4096;
/// Bytes of a chunk's header that hold the numbers of its records.
const CHUNK_HEAD_BYTES: usize = 64;
/// Where in a chunk the number of its first record stands (the identifier, which is the record's own).
const FIRST_NUMBER_AT: usize = 24;
const RECORDS_AT: usize = 512;
/// Header, smallest fragment and the size at the end of a record.
const RECORD_LEAST: usize = 28;

fn u32_at(bytes: &[u8], at: usize) -> u32 {
    bytes.get(at..).and_then(|rest| rest.first_chunk::<4>()).map_or(0, |bytes| u32::from_le_bytes(*bytes))
}

fn u64_at(bytes: &[u8], at: usize) -> u64 {
    bytes.get(at..).and_then(|rest| rest.first_chunk::<8>()).map_or(0, |bytes| u64::from_le_bytes(*bytes))
}

impl Decoder for Evtx {
    fn name(&self) -> &'static str {
        "evtx"
    }

    fn names_programs(&self) -> bool {
        true
    }

    fn families(&self) -> &'static [Family] {
        &[Family::Win32, Family::Hresult, Family::NtStatus]
    }

    fn rewriting(&self) -> Rewriting {
        Rewriting::Impossible
    }

    fn recognise(&self, start: &[u8]) -> bool {
        // A file whose header is lost still has its chunks.
        start.starts_with(FILE_MAGIC)
            || start.get(FILE_HEADER_BYTES..).is_some_and(|rest| rest.starts_with(CHUNK_MAGIC))
    }

    fn version(&self) -> u32 {
        2
    }

    fn platform(&self) -> Platform {
        Platform::Windows
    }

    fn structured(&self, _: &str, fields: &str) -> Option<String> {
        Element::parse(fields).map(|event| event.to_pretty_xml())
    }

    fn attributes(&self, _: &str, fields: &str) -> Map<String, Value> {
        windows_event::attributes(fields)
    }

    fn decode(&self, input: &Input<'_>, out: &mut Output) -> io::Result<()> {
        let header = input.read(0, FILE_HEADER_BYTES)?;
        check_file_header(&header, out);
        let mut records = 0;
        for offset in chunks_in_order(input)? {
            let chunk = input.read(offset, CHUNK_BYTES)?;
            if chunk.is_empty() {
                break;
            }
            if chunk.starts_with(CHUNK_MAGIC) {
                self::chunk(&chunk, offset, &mut records, out)?;
            } else if chunk.iter().any(|byte| *byte != 0) {
                let found = self::damaged_chunk(&chunk, offset, &mut records, out)?;
                let what = format!("the chunk at byte {offset} has no header: {found} records were found in it");
                out.trouble(Trouble::lost(what));
            }
            if chunk.len() < CHUNK_BYTES && chunk.iter().any(|byte| *byte != 0) {
                out.trouble(Trouble::lost(format!(
                    "cut off at byte {}: in the middle of a chunk",
                    offset.saturating_add(chunk.len() as u64)
                )));
            }
        }
        out.account.lines = records;
        Ok(())
    }
}

/// Where the chunks start, in the order of their first record's number: a full log goes on at its start, so that its newer half
/// stands first. Chunks without header stay behind the one that they follow.
fn chunks_in_order(input: &Input<'_>) -> io::Result<Vec<u64>> {
    let mut places: Vec<(u64, u64)> = Vec::new();
    let mut number = 0;
    let mut offset = FILE_HEADER_BYTES as u64;
    while offset < input.len_bytes {
        let start = input.read(offset, CHUNK_HEAD_BYTES)?;
        if start.is_empty() {
            break;
        }
        if start.starts_with(CHUNK_MAGIC) {
            number = u64_at(&start, FIRST_NUMBER_AT);
        }
        places.push((number, offset));
        offset = offset.saturating_add(CHUNK_BYTES as u64);
    }
    places.sort_by_key(|(number, _)| *number);
    Ok(places.into_iter().map(|(_, offset)| offset).collect())
}

fn check_file_header(header: &[u8], out: &mut Output) {
    if !header.starts_with(FILE_MAGIC) {
        out.trouble(Trouble::note("the file's header is damaged: its chunks were read anyway".to_owned()));
        return;
    }
    if header.get(..120).is_some_and(|bytes| crc32fast::hash(bytes) != u32_at(header, 124)) {
        out.trouble(Trouble::note("the checksum of the file's header (byte 124) is wrong".to_owned()));
    }
    if u32_at(header, 120) & 1 != 0 {
        out.trouble(Trouble::note(
            "the file was not closed properly (flag at byte 120): what was written is read".to_owned(),
        ));
    }
}

/// Reads the records of a chunk.
fn chunk(chunk: &[u8], offset: u64, records: &mut u64, out: &mut Output) -> io::Result<()> {
    let free = (u32_at(chunk, 48) as usize).clamp(RECORDS_AT, chunk.len().max(RECORDS_AT));
    let mut header = crc32fast::Hasher::new();
    header.update(chunk.get(..120).unwrap_or_default());
    header.update(chunk.get(128..RECORDS_AT).unwrap_or_default());
    if header.finalize() != u32_at(chunk, 124) {
        out.trouble(Trouble::note(format!("the checksum of the chunk's header at byte {offset} is wrong")));
    }
    let data = chunk.get(RECORDS_AT..free).unwrap_or_default();
    if crc32fast::hash(data) != u32_at(chunk, 52) {
        out.trouble(Trouble::note(format!("the checksum of the records in the chunk at byte {offset} is wrong")));
    }
    let mut names = Names::default();
    let mut at = RECORDS_AT;
    let mut last_number = None;
    while at + RECORD_LEAST <= chunk.len() {
        let number = u64_at(chunk, at + 8);
        // Behind the used space stand older records, or one that was written when the system stopped.
        let in_use = at < free || last_number.is_some_and(|last: u64| last.checked_add(1) == Some(number));
        if !in_use {
            break;
        }
        match record_size(chunk, at) {
            Some(size) => {
                record((chunk, &mut names), (offset, at, size), records, out)?;
                last_number = Some(number);
                at += size;
            }
            None if at >= free => break,
            None => {
                let next = next_record(chunk, at + 1);
                let to = next.unwrap_or(free.max(at));
                if chunk.get(at..to).is_some_and(|bytes| bytes.iter().any(|byte| *byte != 0)) {
                    let what = format!(
                        "no record at byte {}: {} bytes were skipped",
                        offset.saturating_add(at as u64),
                        to - at
                    );
                    out.trouble(Trouble::lost(what));
                }
                let Some(next) = next else { break };
                at = next;
            }
        }
    }
    Ok(())
}

/// Finds records in a chunk whose header is lost; gives how many there were.
fn damaged_chunk(chunk: &[u8], offset: u64, records: &mut u64, out: &mut Output) -> io::Result<u64> {
    let mut found = 0_u64;
    let mut names = Names::default();
    let mut at = 0;
    while let Some(next) = next_record(chunk, at) {
        let Some(size) = record_size(chunk, next) else { break };
        record((chunk, &mut names), (offset, next, size), records, out)?;
        found = found.saturating_add(1);
        at = next + size;
    }
    Ok(found)
}

/// The size of the record at `at`, if one is there: its mark, and the same plausible size at both ends.
fn record_size(chunk: &[u8], at: usize) -> Option<usize> {
    let rest = chunk.get(at..)?.strip_prefix(RECORD_MAGIC)?;
    let size = u32::from_le_bytes(*rest.first_chunk::<4>()?) as usize;
    let good = (RECORD_LEAST..=CHUNK_BYTES).contains(&size) && at.checked_add(size)? <= chunk.len();
    (good && u32_at(chunk, at + size - 4) as usize == size).then_some(size)
}

fn next_record(chunk: &[u8], from: usize) -> Option<usize> {
    let mut from = from;
    loop {
        let at = from + memchr::memmem::find(chunk.get(from..)?, RECORD_MAGIC)?;
        if record_size(chunk, at).is_some() {
            return Some(at);
        }
        from = at + 1;
    }
}

/// Writes the record of a size at a place of the chunk, which is at an offset of the file.
fn record(
    (chunk, names): (&[u8], &mut Names),
    (offset, at, size): (u64, usize, usize),
    records: &mut u64,
    out: &mut Output,
) -> io::Result<()> {
    *records = records.saturating_add(1);
    let place = Place { line: *records, offset: offset.saturating_add(at as u64), length: size as u64 };
    let written = scan::filetime(i64::from_le_bytes(u64_at(chunk, at + 16).to_le_bytes()));
    match BinXml::new(chunk, names).element(at + 24, at + size - 4) {
        Ok(event) => windows_event::write(&event, written, place, out),
        Err(wrong) => {
            let where_ = offset.saturating_add(wrong.1 as u64);
            let number = u64_at(chunk, at + 8);
            out.trouble(Trouble::lost(format!(
                "record {number} at byte {}: {} (byte {where_})",
                place.offset, wrong.0
            )));
            // Its time and place are still known.
            let body = format!("record {number} cannot be decoded: {} at byte {where_}", wrong.0);
            let stamp = written.map_or(crate::clock::Stamp::None, |ns| crate::clock::Stamp::Utc(ns, 0));
            out.entry(&super::Entry { stamp, body: &body, ..super::Entry::at(place) })
        }
    }
}
