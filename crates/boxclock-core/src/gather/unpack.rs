//! Unpacking a box into the cache, once, so that its files can be read at any place.

use std::fs::File;
use std::path::{Path, PathBuf};

use sha2::{Digest, Sha256};

use super::{
    Archive, CopyError, Error, FileFound, LeftOut, Result, STORY_NAME, Seal, Story, Work, copy_hashed, hex,
    is_own_file, open_zip, read_member, read_seal, safe_path, seal::SealedFile,
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

/// How much of the free space of the cache's disk a box may take.
#[derive(Clone, Copy, Debug, Default, PartialEq, Eq)]
pub enum DiskUse {
    /// [`limits::UNPACK_PERCENT`] of it: a machine whose disk is full loses more than a case.
    #[default]
    Share,
    /// All of it: a person said so.
    All,
}

/// Unpacks the box at `path` into the cache, or finds it there from the last time.
///
/// # Errors
/// When it is no complete box, takes more of the disk than it may ([`Error::NoRoom`]), or the cache cannot be written.
pub fn unpack(path: &Path, disk: DiskUse, work: &Work) -> Result<OpenBox> {
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
        let boxes = target.parent().unwrap_or(&target);
        std::fs::create_dir_all(boxes).map_err(|error| Error::at(boxes, "cannot unpack into", error))?;
        let free_bytes = platform::free_bytes(boxes).unwrap_or(u64::MAX);
        let room_bytes = room(path, needed_bytes(&mut archive, &seal), free_bytes, disk, boxes)?;
        extract_all(&mut archive, &seal, &target, room_bytes, &mut left_out, work)?;
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

/// What may be written: refuses what would take more than its share, or more than there is.
fn room(path: &Path, needed_bytes: u64, free_bytes: u64, disk: DiskUse, folder: &Path) -> Result<u64> {
    let room_bytes = match disk {
        DiskUse::Share => free_bytes / 100 * limits::UNPACK_PERCENT,
        DiskUse::All => free_bytes,
    };
    if needed_bytes > room_bytes {
        return Err(Error::NoRoom { path: path.to_path_buf(), needed_bytes, free_bytes, folder: folder.to_path_buf() });
    }
    Ok(room_bytes)
}

/// The files of a box in the order in which they are unpacked: where the room ends, dumps and large files are what is missing, not
/// the logs that tell what happened.
fn needed_first(seal: &Seal) -> Vec<&SealedFile> {
    let mut files: Vec<&SealedFile> = seal.files.iter().collect();
    files.sort_by_key(|file| (file.class == Some(Class::Crash), file.size));
    files
}

/// Unpacks into a new folder beside the target and renames it when complete.
fn extract_all(
    archive: &mut Archive,
    seal: &Seal,
    target: &Path,
    mut room_bytes: u64,
    left_out: &mut Vec<LeftOut>,
    work: &Work,
) -> Result<()> {
    let boxes = target.parent().unwrap_or(target);
    let cannot = |error: std::io::Error| Error::at(boxes, "cannot unpack into", error);
    let fresh = tempfile::Builder::new().prefix(".unpacking-").tempdir_in(boxes).map_err(cannot)?;
    work.set_total(seal.files.iter().map(|file| file.size).sum());
    let mut total = 0_u64;
    for sealed in needed_first(seal) {
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
        let most = most_bytes(member.compressed_size()).min(room_bytes);
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
        room_bytes = room_bytes.saturating_sub(file.metadata().map_or(0, |data| data.len()));
    }
    let pairs: Vec<(&str, &str)> = left_out.iter().map(|left| (left.path.as_str(), left.reason.as_str())).collect();
    let text = serde_json::to_vec(&pairs).map_err(|error| Error::caused("cannot note what was left out", error))?;
    std::fs::write(fresh.path().join("left-out.json"), text).map_err(cannot)?;
    // Another start of the program may have been faster; its result is the same.
    cache::put_in_place(&fresh, target, |target| is_complete(target, seal)).map_err(cannot)
}

#[cfg(test)]
mod tests {
    use std::io::Write;

    use super::*;

    #[test]
    fn a_box_that_takes_more_than_its_share_is_a_question_and_more_than_there_is_none() {
        let folder = Path::new("/cache/boxes");
        let room = |needed, free, disk| super::room(Path::new("night.box.zip"), needed, free, disk, folder);
        assert_eq!(room(80, 100, DiskUse::Share).unwrap(), 80);
        assert_eq!(room(0, 0, DiskUse::Share).unwrap(), 0, "nothing to unpack");
        let refused = room(81, 100, DiskUse::Share).unwrap_err();
        assert!(refused.room_is_a_question());
        for part in
            ["night.box.zip", "/cache/boxes", "81 bytes", "the 100 bytes", "80 %", "--use-all-space", "XDG_CACHE_HOME"]
        {
            assert!(refused.to_string().contains(part), "{part}: {refused}");
        }
        assert_eq!(room(81, 100, DiskUse::All).unwrap(), 100);
        let refused = room(101, 100, DiskUse::All).unwrap_err();
        assert!(!refused.room_is_a_question() && refused.to_string().contains("has 100 bytes free"), "{refused}");
    }

    /// A box with these members, whose seal says of each what size it has, and of what class it is.
    fn sealed(members: &[(&str, usize, u64, Option<Class>)], folder: &Path) -> (Archive, Seal) {
        let path = folder.join("x.box.zip");
        let mut zip = zip::ZipWriter::new(File::create(&path).unwrap());
        let mut seal = Seal::default();
        for (name, real_bytes, size, class) in members {
            zip.start_file(*name, zip::write::SimpleFileOptions::default()).unwrap();
            zip.write_all(&vec![b'x'; *real_bytes]).unwrap();
            seal.files.push(SealedFile { path: (*name).into(), size: *size, class: *class, ..SealedFile::default() });
        }
        zip.finish().unwrap();
        (open_zip(&path).unwrap(), seal)
    }

    #[test]
    fn where_the_room_ends_the_logs_are_there_and_what_is_missing_is_named() {
        let folder = tempfile::tempdir().unwrap();
        let members = [
            ("hosts/a/core", 100, 100, Some(Class::Crash)),
            ("hosts/a/large.log", 5_000, 5_000, Some(Class::Application)),
            ("hosts/a/small.log", 50, 50, Some(Class::Application)),
        ];
        let (mut archive, seal) = sealed(&members, folder.path());
        let (target, mut left_out) = (folder.path().join("boxes/one"), Vec::new());
        std::fs::create_dir_all(folder.path().join("boxes")).unwrap();
        extract_all(&mut archive, &seal, &target, 100, &mut left_out, &Work::default()).unwrap();
        let names: Vec<&str> = left_out.iter().map(|left| left.path.as_str()).collect();
        assert!(target.join("hosts/a/small.log").exists() && !target.join("hosts/a/large.log").exists());
        assert!(names.contains(&"hosts/a/large.log") && names.contains(&"hosts/a/core"), "{left_out:?}");
    }

    #[test]
    fn a_member_that_is_more_than_its_seal_says_does_not_pass_the_room() {
        let folder = tempfile::tempdir().unwrap();
        let members = [("hosts/a/liar.log", 300_000, 10, None), ("hosts/a/next.log", 40, 40, None)];
        let (mut archive, seal) = sealed(&members, folder.path());
        let (target, mut left_out) = (folder.path().join("boxes/one"), Vec::new());
        std::fs::create_dir_all(folder.path().join("boxes")).unwrap();
        assert_eq!(needed_bytes(&mut archive, &seal), 50);
        extract_all(&mut archive, &seal, &target, 100_000, &mut left_out, &Work::default()).unwrap();
        let written = std::fs::metadata(target.join("hosts/a/liar.log")).unwrap().len();
        assert!(written <= 100_000, "{written}");
        assert!(left_out.iter().any(|left| left.reason.contains("unpacks to more than 100000 bytes")), "{left_out:?}");
        assert!(left_out.iter().any(|left| left.path.ends_with("next.log")), "no room is left: {left_out:?}");
    }
}
