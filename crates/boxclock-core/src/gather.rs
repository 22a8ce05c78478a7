//! Boxes: gathering files into a sealed box, verifying a seal, and unpacking a box to be read.
//!
//! A box is an ordinary ZIP archive `NAME.box.zip` that holds `box.json` (the [`Seal`]), `story.json`, and the files
//! under `hosts/<label>/…`.

use std::fs::File;
use std::io::{Read, Write};
use std::path::{Path, PathBuf};

use sha2::{Digest, Sha256};

use crate::files::FileFound;
use crate::logbook::Story;
use crate::text::hex;
use crate::trouble::LeftOut;
use crate::work::Work;
use crate::{Error, Result, platform};

mod capture;
mod check;
mod command;
mod fetch;
mod label;
mod local;
mod member_name;
mod members;
mod pack;
mod plan;
pub mod recipe;
pub mod redact;
mod redact_request;
mod remote;
mod request;
mod seal;
mod signature;
mod unpack;
pub mod watch;
mod window;

pub use capture::{Snapshot, snapshot};
pub use check::{Finding, Verdict, check};
pub use label::good_label;
pub use pack::{Packed, pack};
pub use plan::{PackOptions, Plan, PlannedCommand, PlannedFile, TakenPrograms, Wanted, plan};
pub use redact_request::{RedactReady, RedactRequest};
pub use request::PackRequest;
pub use seal::{
    AppliedRule, Custody, Cut, Mark, Redaction, SEAL_VERSION, Seal, SealedCommand, SealedFile, SealedHost,
    SealedWindow, Unreadable, time_of,
};
pub use signature::{SIGNATURE_NAME, Signature, Signer};
pub use unpack::{DiskUse, OpenBox, unpack};
pub use window::Window;

/// The name of the seal inside a box.
pub const SEAL_NAME: &str = "box.json";
/// The name of the story inside a box.
pub const STORY_NAME: &str = "story.json";

/// Whether `path` is a box.
///
/// # Errors
/// When it is named like a box but is no readable ZIP archive, for example because it is cut off.
pub fn is_box(path: &Path) -> Result<bool> {
    let mut start = [0; 4];
    let zip = path.is_file()
        && File::open(path).and_then(|mut file| file.read_exact(&mut start)).is_ok()
        && start == *b"PK\x03\x04";
    let named = path.to_string_lossy().ends_with(".box.zip") && path.is_file();
    if !zip {
        return if named {
            Err(Error::new(format!("{} is not a box: it is not a ZIP archive", path.display())))
        } else {
            Ok(false)
        };
    }
    match open_zip(path) {
        Ok(archive) => Ok(archive.index_for_name(SEAL_NAME).is_some()),
        Err(error) if named => Err(error),
        Err(_) => Ok(false),
    }
}

type Archive = zip::ZipArchive<std::io::BufReader<File>>;

fn open_zip(path: &Path) -> Result<Archive> {
    let file = crate::platform::open_regular(path).map_err(|error| Error::at(path, "cannot open", error))?;
    zip::ZipArchive::new(std::io::BufReader::new(file)).map_err(|error| {
        Error::caused(
            format!(
                "{} is not a complete ZIP archive (was it cut off while it was copied? copy it again)",
                path.display()
            ),
            error,
        )
    })
}

fn read_member(archive: &mut Archive, path: &Path, name: &str) -> Result<Vec<u8>> {
    let cannot = |error: String| Error::new(format!("cannot read {name} in {}: {error}", path.display()));
    let member = archive.by_name(name).map_err(|error| cannot(error.to_string()))?;
    let mut bytes = Vec::new();
    member.take(crate::limits::SEAL_BYTES).read_to_end(&mut bytes).map_err(|error| cannot(error.to_string()))?;
    Ok(bytes)
}

fn read_seal(archive: &mut Archive, path: &Path) -> Result<(Seal, Vec<u8>)> {
    if archive.index_for_name(SEAL_NAME).is_none() {
        return Err(Error::new(format!("{} is not a box: it holds no {SEAL_NAME}", path.display())));
    }
    let bytes = read_member(archive, path, SEAL_NAME)?;
    let seal: Seal = serde_json::from_slice(&bytes).map_err(|error| {
        Error::caused(format!("the seal ({SEAL_NAME}) of {} cannot be read", path.display()), error)
    })?;
    if seal.version > SEAL_VERSION {
        return Err(Error::new(format!(
            "{} was sealed by a newer program (version {} of the seal, {SEAL_VERSION} is known here)",
            path.display(),
            seal.version
        )));
    }
    Ok((seal, bytes))
}

/// The SHA-256 of a whole file.
///
/// # Errors
/// When it cannot be read, or the work is cancelled.
pub(crate) fn sha256_of(path: &Path, work: &Work) -> Result<String> {
    let cannot = |error: std::io::Error| Error::at(path, "cannot read", error);
    let mut file = platform::open_regular(path).map_err(cannot)?;
    match copy_hashed(&mut file, &mut std::io::sink(), u64::MAX, work) {
        Ok((_, sha256)) => Ok(sha256),
        Err(CopyError::Read(error) | CopyError::Write(error)) => Err(cannot(error)),
        Err(CopyError::Cancelled | CopyError::TooLarge) => Err(Error::Cancelled),
    }
}

/// Copies all of `from` to `to`, in pieces; gives size and SHA-256.
fn copy_hashed(
    from: &mut impl Read,
    to: &mut impl Write,
    limit: u64,
    work: &Work,
) -> std::result::Result<(u64, String), CopyError> {
    let mut hash = Sha256::new();
    let mut size = 0_u64;
    let mut buffer = vec![0; 256 << 10];
    loop {
        if work.is_cancelled() {
            return Err(CopyError::Cancelled);
        }
        let count = match from.read(&mut buffer) {
            Ok(0) => break,
            Ok(count) => count,
            Err(error) if error.kind() == std::io::ErrorKind::Interrupted => continue,
            Err(error) => return Err(CopyError::Read(error)),
        };
        size += count as u64;
        if size > limit {
            return Err(CopyError::TooLarge);
        }
        hash.update(&buffer[..count]);
        to.write_all(&buffer[..count]).map_err(CopyError::Write)?;
        work.advance(count as u64);
    }
    Ok((size, hex(&hash.finalize())))
}

/// Why copying stopped.
enum CopyError {
    Read(std::io::Error),
    Write(std::io::Error),
    TooLarge,
    Cancelled,
}

/// The path of a member, if it is one that may be unpacked: below `hosts/`, without steps upward.
fn safe_path(name: &str) -> Option<PathBuf> {
    let good = |part: &str| !part.is_empty() && part != "." && part != ".." && !part.contains('\0');
    ((name.starts_with("hosts/") || is_own_file(name)) && name.split('/').all(good)).then(|| name.split('/').collect())
}

/// Whether a member is a format, a catalogue or a fault card of the user's own that travels with the box: `formats/NAME.toml`,
/// `cards/NAME.toml`, `installers/NAME.toml`, `codes/NAME.toml` or `codes/NAME.csv`.
fn is_own_file(name: &str) -> bool {
    let is = |file: &str, kind: &str| Path::new(file).extension().is_some_and(|extension| extension == kind);
    match name.split_once('/') {
        Some(("formats" | "cards" | "installers", file)) => is(file, "toml") && !file.contains('/'),
        Some(("codes", file)) => (is(file, "toml") || is(file, "csv")) && !file.contains('/'),
        _ => false,
    }
}

#[cfg(test)]
mod tests;
