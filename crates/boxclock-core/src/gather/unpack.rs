//! Unpacking a box into the cache, once, so that its files can be read at any place.

use std::fs::File;
use std::path::{Path, PathBuf};

use sha2::{Digest, Sha256};

use super::{
    Archive, CopyError, Error, FileFound, LeftOut, Result, STORY_NAME, Seal, Story, Work, copy_hashed, hex,
    is_own_file, open_zip, read_member, read_seal, safe_path,
};
use crate::clock::scan;
use crate::source::Class;
use crate::{cache, limits, platform};

/// A box whose files can be read.
#[derive(Debug)]
pub struct OpenBox {
    /// Its seal.
    pub seal: Seal,
    /// Its story.
    pub story: Story,
    /// Its files, each with the label of its host and what it is for.
    pub files: Vec<(FileFound, String, Option<Class>)>,
    /// The folder of the formats that travel with it.
    pub formats: PathBuf,
    /// Where it was unpacked.
    pub folder: PathBuf,
    /// The folder of the catalogues of codes that travel with it.
    pub codes: PathBuf,
    /// The folder of the fault cards that travel with it.
    pub cards: PathBuf,
    /// The folder of the words of installers that travel with it.
    pub installers: PathBuf,
    /// What is not read, or is read although it has changed.
    pub left_out: Vec<LeftOut>,
}

/// Unpacks the box at `path` into the cache, or finds it there from the last time.
///
/// # Errors
/// When it is no complete box, or the cache cannot be written.
pub fn unpack(path: &Path, work: &Work) -> Result<OpenBox> {
    let mut archive = open_zip(path)?;
    let (seal, seal_bytes) = read_seal(&mut archive, path)?;
    let story = match archive.index_for_name(STORY_NAME) {
        Some(_) => serde_json::from_slice(&read_member(&mut archive, path, STORY_NAME)?)
            .map_err(|error| Error::caused(format!("the story in {} cannot be read", path.display()), error))?,
        None => Story::default(),
    };
    let target = cache_folder(path, &seal_bytes)?;
    let mut left_out = Vec::new();
    let notes = target.join("left-out.json");
    if is_complete(&target, &seal) {
        let text = std::fs::read(&notes).map_err(|error| Error::at(&notes, "cannot read", error))?;
        let pairs: Vec<(String, String)> = serde_json::from_slice(&text).unwrap_or_default();
        left_out.extend(pairs.into_iter().map(|(path, reason)| LeftOut { path, reason }));
    } else {
        extract_all(&mut archive, &seal, &target, &mut left_out, work)?;
    }
    let files = seal.files.iter().filter(|file| !is_own_file(&file.path)).filter_map(|file| {
        let unpacked = target.join(safe_path(&file.path)?);
        let data = std::fs::metadata(&unpacked).ok()?;
        let modified = scan::iso(file.modified.as_bytes()).and_then(|(civil, _)| civil.to_ns()).unwrap_or(0);
        let found = FileFound { path: unpacked, name: file.path.clone(), modified, len_bytes: data.len() };
        Some((found, file.host.clone(), file.class))
    });
    let files = files.collect();
    let unreadable = seal.unreadable.iter().map(|missing| LeftOut {
        path: format!("{}:{}", missing.host, missing.origin),
        reason: format!("could not be gathered: {}", missing.reason),
    });
    left_out.extend(unreadable);
    Ok(OpenBox {
        seal,
        story,
        files,
        formats: target.join("formats"),
        codes: target.join("codes"),
        cards: target.join("cards"),
        installers: target.join("installers"),
        folder: target,
        left_out,
    })
}

/// One folder of the cache for each state of each box.
fn cache_folder(path: &Path, seal_bytes: &[u8]) -> Result<PathBuf> {
    let data = std::fs::metadata(path).map_err(|error| Error::at(path, "cannot read", error))?;
    let mut hash = Sha256::new();
    hash.update(seal_bytes);
    hash.update(data.len().to_le_bytes());
    let modified = data.modified().ok().and_then(|time| time.duration_since(std::time::UNIX_EPOCH).ok());
    hash.update(modified.map_or(0, |since| since.as_nanos()).to_le_bytes());
    let cache =
        platform::cache_dir().ok_or_else(|| Error::new("no folder for the cache: set HOME or XDG_CACHE_HOME"))?;
    Ok(cache.join("boxes").join(hex(&hash.finalize()).get(..32).unwrap_or("box")))
}

fn is_complete(target: &Path, seal: &Seal) -> bool {
    cache::touch(target);
    let there = |path: &str| safe_path(path).is_none_or(|path| target.join(path).exists());
    target.join("left-out.json").is_file() && seal.files.iter().all(|file| there(&file.path))
}

/// The most that a member of a packed size may unpack to.
fn most_bytes(packed: u64) -> u64 {
    packed.saturating_mul(limits::UNPACK_RATIO).max(1 << 20)
}

/// What the members take that will be unpacked: a seal that lies about the size of one makes no room for it.
fn needed_bytes(archive: &mut Archive, seal: &Seal) -> u64 {
    let mut needed = 0_u64;
    for sealed in &seal.files {
        let index = archive.index_for_name(&sealed.path);
        let packed = index.and_then(|index| archive.by_index_raw(index).ok()).map(|member| member.compressed_size());
        if packed.is_some_and(|packed| sealed.size <= most_bytes(packed)) {
            needed = needed.saturating_add(sealed.size);
        }
    }
    needed
}

/// Refuses what would fill the disk: a machine whose disk is full loses more than a case.
fn check_room(needed: u64, room: u64, folder: &Path) -> Result<()> {
    if needed <= room {
        return Ok(());
    }
    Err(Error::new(format!(
        "unpacking this box takes {needed} bytes, and {} has room for {room} ({} % of what is free): make room there \
         (boxclock forget BOX wipes what another box left), or set XDG_CACHE_HOME to a folder with more",
        folder.display(),
        limits::UNPACK_PERCENT,
    )))
}

/// Unpacks into a new folder beside the target and renames it when complete.
fn extract_all(
    archive: &mut Archive,
    seal: &Seal,
    target: &Path,
    left_out: &mut Vec<LeftOut>,
    work: &Work,
) -> Result<()> {
    let boxes = target.parent().unwrap_or(target);
    let cannot = |error: std::io::Error| Error::at(boxes, "cannot unpack into", error);
    std::fs::create_dir_all(boxes).map_err(cannot)?;
    let mut room = platform::free_share(boxes, limits::UNPACK_PERCENT);
    check_room(needed_bytes(archive, seal), room, boxes)?;
    let fresh = tempfile::Builder::new().prefix(".unpacking-").tempdir_in(boxes).map_err(cannot)?;
    work.set_total(seal.files.iter().map(|file| file.size).sum());
    let mut total = 0_u64;
    for sealed in &seal.files {
        let mut note = |reason: String| left_out.push(LeftOut { path: sealed.path.clone(), reason });
        let Some(below) = safe_path(&sealed.path) else {
            note("its name leads out of the box".into());
            continue;
        };
        let Some(index) = archive.index_for_name(&sealed.path) else {
            note("missing: the seal lists it, the box does not hold it".into());
            continue;
        };
        let mut member = match archive.by_index(index) {
            Ok(member) => member,
            Err(error) => {
                note(format!("cannot be unpacked: {error}"));
                continue;
            }
        };
        total = total.saturating_add(sealed.size);
        // The seal may say less than there is: what is written counts.
        let most = most_bytes(member.compressed_size()).min(room);
        if total > limits::UNPACKED_BYTES || sealed.size > most {
            note(format!("would unpack to {} bytes, more than is accepted", sealed.size));
            continue;
        }
        let file_path = fresh.path().join(below);
        let parent = file_path.parent().unwrap_or(&file_path);
        let made = std::fs::create_dir_all(parent).and_then(|()| File::create_new(&file_path));
        let mut file = match made {
            Ok(file) => file,
            Err(error) if error.kind() == std::io::ErrorKind::StorageFull => return Err(cannot(error)),
            Err(error) => {
                note(format!("cannot be unpacked: {error}"));
                continue;
            }
        };
        match copy_hashed(&mut member, &mut file, most, work) {
            Ok((_, sha256)) if sha256 == sealed.sha256 => {}
            Ok((size, _)) => note(format!(
                "has changed since it was sealed ({size} bytes, sealed with {}); it is read as it is now",
                sealed.size
            )),
            Err(CopyError::Cancelled) => work.check()?,
            Err(CopyError::Write(error)) => return Err(cannot(error)),
            Err(CopyError::Read(error)) => note(format!("is damaged: {error}; what could be unpacked is read")),
            Err(CopyError::TooLarge) => note(format!("unpacks to more than {most} bytes; the first of them are read")),
        }
        room = room.saturating_sub(file.metadata().map_or(0, |data| data.len()));
    }
    let pairs: Vec<(&str, &str)> = left_out.iter().map(|left| (left.path.as_str(), left.reason.as_str())).collect();
    let text = serde_json::to_vec(&pairs).map_err(|error| Error::caused("cannot note what was left out", error))?;
    std::fs::write(fresh.path().join("left-out.json"), text).map_err(cannot)?;
    // Another start of the program may have been faster; its result is the same.
    cache::put_in_place(&fresh, target, |target| is_complete(target, seal)).map_err(cannot)
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn a_box_that_would_fill_the_disk_is_refused_with_what_to_do() {
        let folder = Path::new("/cache/boxes");
        assert!(check_room(80, 80, folder).is_ok());
        assert!(check_room(0, 0, folder).is_ok(), "nothing to unpack");
        let refused = check_room(81, 80, folder).unwrap_err().to_string();
        for part in ["/cache/boxes", "81 bytes", "room for 80", "80 %", "XDG_CACHE_HOME"] {
            assert!(refused.contains(part), "{part}: {refused}");
        }
    }
}
