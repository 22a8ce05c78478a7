//! The members of a box as they stand in the file, read without the archive reader: it knows one member of each name only, and so
//! cannot see one that hides another.
//!
//! Layout: APPNOTE.TXT 6.3.10, sections 4.3.7 (local header), 4.3.12 (central directory), 4.3.14 to 4.3.16 (its end).

use std::collections::HashMap;
use std::fs::File;
use std::path::Path;

use crate::platform::read_at;

/// Bytes of the end of the central directory with the longest comment.
const END_BYTES: u64 = 22 + 65_535;
/// The most bytes of a central directory that are looked at.
const DIRECTORY_BYTES: u64 = 256 << 20;

/// Something about the members that no honest box has.
#[derive(Clone, Debug, PartialEq, Eq)]
pub(super) struct Oddity {
    /// The member.
    pub path: String,
    /// What is odd about it.
    pub detail: String,
}

struct Member {
    name: String,
    offset: u64,
    packed_bytes: u64,
}

/// Members that are there twice (also by other separators, dots, or capitals), and bytes between members that belong to none.
pub(super) fn oddities(path: &Path) -> std::io::Result<Vec<Oddity>> {
    let file = crate::platform::open_regular(path)?;
    let len = file.metadata()?.len();
    let Some(members) = members(&file, len)? else {
        let detail = "its directory cannot be read".to_owned();
        return Ok(vec![Oddity { path: path.display().to_string(), detail }]);
    };
    let mut odd = Vec::new();
    let mut by_name: HashMap<String, &str> = HashMap::new();
    for member in &members {
        let plain = member.name.replace('\\', "/").to_lowercase();
        let parts: Vec<&str> = plain.split('/').filter(|part| !part.is_empty() && *part != ".").collect();
        match by_name.insert(parts.join("/"), &member.name) {
            Some(other) if other == member.name => {
                odd.push(Oddity {
                    path: member.name.clone(),
                    detail: "two members have this name: one hides the other".into(),
                });
            }
            Some(other) => {
                let detail = format!("hides the member {other} where separators or capitals do not count");
                odd.push(Oddity { path: member.name.clone(), detail });
            }
            None => {}
        }
    }
    let mut places: Vec<&Member> = members.iter().collect();
    places.sort_by_key(|member| member.offset);
    let mut end = 0;
    for member in places {
        if member.offset > end {
            odd.push(between(end, member.offset));
        }
        let Some(data) = data_start(&file, member.offset)? else {
            let detail = format!("no member begins at byte {}, where the directory says so", member.offset);
            odd.push(Oddity { path: member.name.clone(), detail });
            continue;
        };
        end = data.saturating_add(member.packed_bytes);
        end = end.saturating_add(descriptor(&file, end)?);
    }
    Ok(odd)
}

fn between(from: u64, to: u64) -> Oddity {
    let detail = format!("{} bytes at byte {from} belong to no member", to - from);
    Oddity { path: String::new(), detail }
}

fn bytes_at(file: &File, offset: u64, count: usize) -> std::io::Result<Vec<u8>> {
    let mut bytes = vec![0; count];
    let mut filled = 0;
    while filled < count {
        match read_at(file, bytes.get_mut(filled..).unwrap_or_default(), offset.saturating_add(filled as u64))? {
            0 => break,
            read => filled += read,
        }
    }
    bytes.truncate(filled);
    Ok(bytes)
}

fn number(bytes: &[u8], at: usize, width: usize) -> Option<u64> {
    let part = bytes.get(at..at.checked_add(width)?)?;
    Some(part.iter().rev().fold(0, |value, byte| value << 8 | u64::from(*byte)))
}

/// All entries of the central directory, also those that another of the same name hides.
fn members(file: &File, len: u64) -> std::io::Result<Option<Vec<Member>>> {
    let tail_at = len.saturating_sub(END_BYTES);
    let tail = bytes_at(file, tail_at, END_BYTES.min(len) as usize)?;
    let Some(end) = memchr::memmem::rfind(&tail, b"PK\x05\x06") else { return Ok(None) };
    let (size, offset) = (number(&tail, end + 12, 4), number(&tail, end + 16, 4));
    let (Some(mut size), Some(mut offset)) = (size, offset) else { return Ok(None) };
    // The larger form, where a number does not fit into four bytes.
    if let Some(locator) =
        end.checked_sub(20).filter(|at| tail.get(*at..).is_some_and(|rest| rest.starts_with(b"PK\x06\x07")))
        && let Some(place) = number(&tail, locator + 8, 8)
    {
        let large = bytes_at(file, place, 56)?;
        if large.starts_with(b"PK\x06\x06")
            && let (Some(large_size), Some(large_offset)) = (number(&large, 40, 8), number(&large, 48, 8))
        {
            (size, offset) = (large_size, large_offset);
        }
    }
    if size > DIRECTORY_BYTES || offset.saturating_add(size) > len {
        return Ok(None);
    }
    let directory = bytes_at(file, offset, size as usize)?;
    let mut members = Vec::new();
    let mut at = 0;
    while directory.get(at..).is_some_and(|rest| rest.starts_with(b"PK\x01\x02")) {
        let Some(member) = entry(&directory, at) else { return Ok(None) };
        at += 46 + member.1;
        members.push(member.0);
    }
    Ok(Some(members))
}

/// An entry of the central directory, and the bytes of its names and extra fields.
fn entry(directory: &[u8], at: usize) -> Option<(Member, usize)> {
    let field = |from: usize, width: usize| number(directory, at + from, width);
    let (name_bytes, extra_bytes, comment_bytes) =
        (field(28, 2)? as usize, field(30, 2)? as usize, field(32, 2)? as usize);
    let (mut packed_bytes, plain_bytes, mut offset) = (field(20, 4)?, field(24, 4)?, field(42, 4)?);
    let name = directory.get(at + 46..at + 46 + name_bytes)?;
    let extra = directory.get(at + 46 + name_bytes..at + 46 + name_bytes + extra_bytes)?;
    // Numbers that do not fit stand in the extra field 1, in this order, only those that are needed.
    let mut rest = extra;
    while let (Some(kind), Some(length)) = (number(rest, 0, 2), number(rest, 2, 2)) {
        let Some(data) = rest.get(4..4 + length as usize) else { break };
        if kind == 1 {
            let mut from = if plain_bytes == 0xFFFF_FFFF { 8 } else { 0 };
            if packed_bytes == 0xFFFF_FFFF {
                packed_bytes = number(data, from, 8)?;
                from += 8;
            }
            if offset == 0xFFFF_FFFF {
                offset = number(data, from, 8)?;
            }
        }
        rest = rest.get(4 + length as usize..).unwrap_or_default();
    }
    let name = String::from_utf8_lossy(name).into_owned();
    Some((Member { name, offset, packed_bytes }, name_bytes + extra_bytes + comment_bytes))
}

/// Where the data of a member starts, behind its own header.
fn data_start(file: &File, offset: u64) -> std::io::Result<Option<u64>> {
    let header = bytes_at(file, offset, 30)?;
    let lengths = number(&header, 26, 2).zip(number(&header, 28, 2)).filter(|_| header.starts_with(b"PK\x03\x04"));
    Ok(lengths.map(|(name, extra)| offset.saturating_add(30).saturating_add(name).saturating_add(extra)))
}

/// Bytes of the descriptor that may follow a member's data (4.3.9), with its signature.
fn descriptor(file: &File, at: u64) -> std::io::Result<u64> {
    let bytes = bytes_at(file, at, 28)?;
    if !bytes.starts_with(b"PK\x07\x08") {
        return Ok(0);
    }
    let next = |at: usize| bytes.get(at..at + 2) == Some(b"PK");
    Ok(if next(16) { 16 } else { 24 })
}
