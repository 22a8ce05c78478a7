//! Containers: compressed streams and archives, nested in any way, opened into plain member files.
//!
//! A container is recognised by its first bytes, never by its name. Its members are written once into a folder of the
//! case's cache, under numbers, so that no name inside an archive can lead anywhere; links are never made nor followed.
//! Streams inside streams (`.tar.gz`) are read through, without a file between.
//!
//! Layouts are read by general crates. The first bytes are from: RFC 1952 (gzip), RFC 8878 section 3.1.1 (zstd), the xz
//! file format 1.2 section 2.1.1.1, the bzip2 manual (`BZh` and a digit, then the block magic), APPNOTE.TXT 4.3.7 (zip),
//! POSIX.1 `pax` (tar: `ustar` at byte 257, or the header checksum of older archives).

#![cfg_attr(
    not(test),
    deny(clippy::indexing_slicing, clippy::arithmetic_side_effects, clippy::cast_possible_truncation)
)]

use std::fs::File;
use std::io::{self, BufReader, Read};
use std::path::{Path, PathBuf};

use serde::{Deserialize, Serialize};

use crate::clock::SECOND;
use crate::files::FileFound;
use crate::trouble::{LeftOut, Trouble};
use crate::work::Work;
use crate::{Error, Result, cache, limits};

mod extract;
mod zstd;

pub(crate) use zstd::Frames;

#[cfg(test)]
mod tests;

/// Bytes that are needed to recognise any container.
pub const START_BYTES: usize = 512;

/// A kind of container.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum Kind {
    /// One or more gzip members.
    Gzip,
    /// An xz stream.
    Xz,
    /// Zstandard frames.
    Zstd,
    /// Bzip2 streams.
    Bzip2,
    /// A ZIP archive.
    Zip,
    /// A tar archive.
    Tar,
}

impl Kind {
    /// The kind of a file that starts with these bytes ([`START_BYTES`] of them, if it has as many).
    pub fn of(start: &[u8]) -> Option<Self> {
        Some(match start {
            [0x1F, 0x8B, 8, ..] => Self::Gzip,
            [0xFD, b'7', b'z', b'X', b'Z', 0, ..] => Self::Xz,
            [0x28, 0xB5, 0x2F, 0xFD, ..] => Self::Zstd,
            // A skippable frame may come first.
            [0x50..=0x5F, 0x2A, 0x4D, 0x18, ..] => Self::Zstd,
            [b'B', b'Z', b'h', b'1'..=b'9', 0x31, 0x41, 0x59, 0x26, 0x53, 0x59, ..] => Self::Bzip2,
            // An empty bzip2 stream has no block but its end mark.
            [b'B', b'Z', b'h', b'1'..=b'9', 0x17, 0x72, 0x45, 0x38, 0x50, 0x90, ..] => Self::Bzip2,
            [b'P', b'K', 3, 4, ..] | [b'P', b'K', 5, 6, ..] => Self::Zip,
            _ if is_tar(start) => Self::Tar,
            _ => return None,
        })
    }

    fn name(self) -> &'static str {
        match self {
            Self::Gzip => "gzip",
            Self::Xz => "xz",
            Self::Zstd => "zstd",
            Self::Bzip2 => "bzip2",
            Self::Zip => "ZIP",
            Self::Tar => "tar",
        }
    }
}

/// Whether a block is a tar header: its checksum must be right (the sum of all bytes, its own field taken as blanks).
fn is_tar(start: &[u8]) -> bool {
    let Some((header, field)) = start.first_chunk::<512>().and_then(|header| {
        let (before, rest) = header.split_at_checked(148)?;
        let (field, behind) = rest.split_at_checked(8)?;
        Some(((before, behind), field))
    }) else {
        return false;
    };
    let field: String = field.iter().map(|byte| char::from(*byte)).collect();
    let digits = field.trim_matches(['\0', ' ']);
    let Ok(stated) = u32::from_str_radix(digits, 8) else { return false };
    let sum = |range: &[u8]| range.iter().map(|byte| u32::from(*byte)).sum::<u32>();
    // 512 bytes cannot overflow a sum of 32 bits.
    header.0.first() != Some(&0)
        && Some(stated) == sum(header.0).checked_add(8 * 32).and_then(|before| before.checked_add(sum(header.1)))
}

/// A file out of a container.
#[derive(Clone, Debug)]
pub struct Member {
    /// Where its bytes are now, and its name `CONTAINER!PATH/INSIDE`.
    pub file: FileFound,
    /// What could not be unpacked of it.
    pub trouble: Vec<Trouble>,
}

/// What a container holds.
#[derive(Debug, Default)]
pub struct Opened {
    /// Its members that are files.
    pub members: Vec<Member>,
    /// What could not be opened.
    pub left_out: Vec<LeftOut>,
}

/// What is noted beside the extracted members, so that they are found the next time.
#[derive(Default, Serialize, Deserialize)]
struct Contents {
    members: Vec<StoredMember>,
    left_out: Vec<(String, String)>,
}

#[derive(Serialize, Deserialize)]
struct StoredMember {
    number: usize,
    name: String,
    modified: i64,
    trouble: Vec<Trouble>,
}

const CONTENTS_NAME: &str = "contents.json";

/// Opens a container: extracts it into the cache, or finds it there from the last time.
///
/// # Errors
/// When the cache cannot be written (the disk is full), or the work is cancelled. A container that is damaged gives what
/// could be read of it.
pub fn open(file: &FileFound, kind: Kind, passwords: &[String], work: &Work) -> Result<Opened> {
    let target = cache_folder(file, passwords)?;
    if let Some(opened) = stored(&target, file) {
        return Ok(opened);
    }
    let parent = target.parent().unwrap_or(&target);
    let cannot = |error: io::Error| Error::at(parent, "cannot extract into", error);
    std::fs::create_dir_all(parent).map_err(cannot)?;
    let fresh = tempfile::Builder::new().prefix(".extracting-").tempdir_in(parent).map_err(cannot)?;
    let contents = extract::extract(file, kind, fresh.path(), passwords, work)?;
    let text = serde_json::to_vec(&contents).map_err(|error| Error::caused("cannot note what was extracted", error))?;
    std::fs::write(fresh.path().join(CONTENTS_NAME), text).map_err(cannot)?;
    // Another start of the program may have been faster; its result is the same.
    cache::put_in_place(&fresh, &target, |target| stored(target, file).is_some()).map_err(cannot)?;
    stored(&target, file).ok_or_else(|| Error::new(format!("{} has vanished meanwhile", target.display())))
}

/// Extracts a container into an empty folder, without the cache.
///
/// # Errors
/// When the folder cannot be written, or the work is cancelled.
pub fn extract_into(file: &FileFound, kind: Kind, folder: &Path, passwords: &[String], work: &Work) -> Result<Opened> {
    let contents = extract::extract(file, kind, folder, passwords, work)?;
    opened(contents, folder, file).ok_or_else(|| Error::new(format!("{} has vanished meanwhile", folder.display())))
}

fn cache_folder(file: &FileFound, passwords: &[String]) -> Result<PathBuf> {
    cache::folder_of_file("extracted", file, passwords.iter().map(String::as_bytes))
}

fn stored(target: &Path, file: &FileFound) -> Option<Opened> {
    let text = std::fs::read(target.join(CONTENTS_NAME)).ok()?;
    opened(serde_json::from_slice(&text).ok()?, target, file)
}

fn opened(contents: Contents, target: &Path, file: &FileFound) -> Option<Opened> {
    let mut opened = Opened::default();
    for member in contents.members {
        let path = target.join(member.number.to_string());
        // A member that somebody removed from the cache means extracting again.
        let len_bytes = std::fs::metadata(&path).ok()?.len();
        let name = format!("{}{}", file.name, member.name);
        let file = FileFound { path, name, modified: member.modified, len_bytes };
        opened.members.push(Member { file, trouble: member.trouble });
    }
    let left = contents.left_out.into_iter();
    opened.left_out = left.map(|(name, reason)| LeftOut { path: format!("{}{name}", file.name), reason }).collect();
    Some(opened)
}
