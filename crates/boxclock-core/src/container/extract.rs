//! Extracting: one recursion over streams. What a stream is shows in its first bytes; a plain one becomes a member.

use std::io::{Seek, SeekFrom, Write};

use bzip2::read::MultiBzDecoder;
use flate2::bufread::MultiGzDecoder;
use lzma_rust2::XzReader;

use super::zstd::Frames;
use super::{BufReader, Contents, Error, File, FileFound, Kind, Path, PathBuf, Read, Result, StoredMember, Trouble};
use super::{SECOND, START_BYTES, Work, io, limits};

/// What a container may unpack to in total, all that is nested in it included: so many times its size, or the least that any may, and
/// never more than a share of the free space.
fn room_for(packed: u64, folder: &Path) -> u64 {
    let by_size = packed.saturating_mul(limits::UNPACK_RATIO).max(limits::UNPACK_FLOOR_BYTES);
    let by_space = crate::platform::free_share(folder, limits::ARCHIVE_PERCENT);
    by_size.min(by_space).min(limits::UNPACKED_BYTES)
}

/// Extracts a container into `folder`.
///
/// # Errors
/// When the folder cannot be written, or the work is cancelled.
pub(super) fn extract(
    file: &FileFound,
    kind: Kind,
    folder: &Path,
    passwords: &[String],
    work: &Work,
) -> Result<Contents> {
    let mut extraction = Extraction {
        folder,
        passwords,
        work,
        contents: Contents::default(),
        next: 0,
        room: room_for(file.len_bytes, folder),
        fatal: None,
    };
    let node = Node { name: String::new(), modified: file.modified, packed: file.len_bytes, depth: 0 };
    match File::open(&file.path) {
        Ok(file) if kind == Kind::Zip => extraction.zip(Counted { file, work: Some(work) }, &node),
        Ok(file) => {
            let counted = Counted { file, work: Some(work) };
            extraction.stream(&mut BufReader::with_capacity(1 << 17, counted), &node);
        }
        Err(error) => extraction.leave_out(&node, format!("cannot be opened: {error}")),
    }
    work.check()?;
    match extraction.fatal {
        Some(error) => Err(Error::at(folder.parent().unwrap_or(folder), "cannot extract into", error)),
        None => Ok(extraction.contents),
    }
}

/// Where in the nesting a stream stands.
struct Node {
    /// What its name adds to the container's: "", or `!path/inside`.
    name: String,
    /// UTC nanoseconds.
    modified: i64,
    /// Its packed size in bytes, as far as it is known: what the limit on its unpacked size is taken from.
    packed: u64,
    depth: usize,
}

struct Extraction<'a> {
    folder: &'a Path,
    passwords: &'a [String],
    work: &'a Work,
    contents: Contents,
    next: usize,
    /// Bytes that may still be written.
    room: u64,
    /// Why nothing more can be written.
    fatal: Option<io::Error>,
}

impl Extraction<'_> {
    fn leave_out(&mut self, node: &Node, reason: impl Into<String>) {
        self.contents.left_out.push((node.name.clone(), reason.into()));
    }

    fn stopped(&self) -> bool {
        self.fatal.is_some() || self.work.is_cancelled()
    }

    /// Takes a stream apart as far as it is packed; what is plain is written as a member.
    fn stream(&mut self, reader: &mut dyn Read, node: &Node) {
        if self.stopped() {
            return;
        }
        let mut start = Vec::new();
        let early = reader.take(START_BYTES as u64).read_to_end(&mut start).err();
        let kind = Kind::of(&start);
        let modified = match kind {
            Some(Kind::Gzip) => gzip_time(&start).unwrap_or(node.modified),
            _ => node.modified,
        };
        let mut whole = BufReader::with_capacity(1 << 16, start.chain(Failing(early)).chain(reader));
        let Some(kind) = kind else { return self.write(&mut whole, node) };
        if node.depth >= limits::CONTAINER_DEPTH {
            let depth = limits::CONTAINER_DEPTH;
            return self.leave_out(node, format!("a {} inside more than {depth} containers", kind.name()));
        }
        let most = node.packed.saturating_mul(limits::UNPACK_RATIO).max(limits::UNPACK_FLOOR_BYTES);
        let inner = Node { name: node.name.clone(), modified, packed: node.packed, depth: node.depth + 1 };
        let mut guarded =
            |reader: &mut dyn Read| self.stream(&mut Guard { reader, left: most, work: self.work }, &inner);
        match kind {
            Kind::Gzip => guarded(&mut MultiGzDecoder::new(whole)),
            Kind::Bzip2 => guarded(&mut MultiBzDecoder::new(whole)),
            Kind::Zstd => guarded(&mut Frames::new(whole)),
            Kind::Xz => guarded(&mut XzReader::new_mem_limit(whole, true, limits::XZ_MEMORY_KIB)),
            Kind::Tar => self.tar(&mut whole, node),
            Kind::Zip => self.spooled_zip(&mut whole, node),
        }
    }

    /// Writes a plain stream as a member.
    fn write(&mut self, reader: &mut dyn Read, node: &Node) {
        if self.contents.members.len() >= limits::FILES {
            return self.leave_out(node, format!("more than {} members", limits::FILES));
        }
        let (number, path) = self.next_path();
        let written = File::create_new(&path).and_then(|mut file| self.copy(reader, &mut file));
        match written {
            Ok((bytes, trouble)) => {
                let bad = |what: String| Trouble::lost(format!("damaged in its container after {bytes} bytes: {what}"));
                if bytes == 0
                    && let Some(what) = trouble
                {
                    self.leave_out(node, format!("cannot be unpacked: {what}"));
                    let _ = std::fs::remove_file(&path);
                    return;
                }
                self.contents.members.push(StoredMember {
                    number,
                    name: node.name.clone(),
                    modified: node.modified,
                    trouble: trouble.map(bad).into_iter().collect(),
                });
            }
            Err(error) => self.fatal = Some(error),
        }
    }

    fn next_path(&mut self) -> (usize, PathBuf) {
        self.next += 1;
        (self.next, self.folder.join(self.next.to_string()))
    }

    /// Copies until the stream ends or fails; gives the bytes written, and why it stopped early.
    ///
    /// # Errors
    /// When the file cannot be written.
    fn copy(&mut self, reader: &mut dyn Read, file: &mut File) -> io::Result<(u64, Option<String>)> {
        let mut buffer = vec![0; 1 << 16];
        let mut bytes = 0_u64;
        loop {
            if self.work.is_cancelled() {
                return Ok((bytes, Some("cancelled".into())));
            }
            let count = match reader.read(&mut buffer) {
                Ok(0) => return Ok((bytes, None)),
                Ok(count) => count,
                Err(error) if error.kind() == io::ErrorKind::Interrupted => continue,
                Err(error) => return Ok((bytes, Some(error.to_string()))),
            };
            if count as u64 > self.room {
                let reason = "more than a container of its size may unpack to, or than half of the free space (set XDG_CACHE_HOME)";
                return Ok((bytes, Some(reason.to_owned())));
            }
            file.write_all(buffer.get(..count).unwrap_or_default())?;
            bytes = bytes.saturating_add(count as u64);
            self.room = self.room.saturating_sub(count as u64);
        }
    }

    fn tar(&mut self, reader: &mut dyn Read, node: &Node) {
        let mut archive = tar::Archive::new(reader);
        let entries = match archive.entries() {
            Ok(entries) => entries,
            Err(error) => return self.leave_out(node, format!("the tar archive cannot be read: {error}")),
        };
        for entry in entries {
            if self.stopped() {
                return;
            }
            let mut entry = match entry {
                Ok(entry) => entry,
                Err(error) => {
                    return self
                        .leave_out(node, format!("the tar archive is damaged: {error}; the members before are read"));
                }
            };
            // Links carry no bytes, devices and folders neither.
            if !(entry.header().entry_type().is_file() || entry.header().entry_type().is_gnu_sparse()) {
                continue;
            }
            let name = String::from_utf8_lossy(&entry.path_bytes()).into_owned();
            let modified = entry.header().mtime().ok().and_then(|seconds| i64::try_from(seconds).ok());
            let inner = Node {
                name: format!("{}!{}", node.name, name.trim_start_matches("./")),
                modified: modified.map_or(node.modified, |seconds| seconds.saturating_mul(SECOND)),
                packed: entry.size(),
                depth: node.depth + 1,
            };
            self.stream(&mut entry, &inner);
        }
    }

    /// A ZIP archive inside a stream: its directory is at its end, so it needs a file.
    fn spooled_zip(&mut self, reader: &mut dyn Read, node: &Node) {
        let spooled = tempfile::tempfile_in(self.folder).and_then(|mut file| {
            let (_, trouble) = self.copy(reader, &mut file)?;
            file.seek(SeekFrom::Start(0))?;
            Ok((file, trouble))
        });
        match spooled {
            Ok((_, Some(trouble))) => self.leave_out(node, format!("the ZIP archive is damaged: {trouble}")),
            Ok((file, None)) => self.zip(Counted { file, work: None }, node),
            Err(error) => self.fatal = Some(error),
        }
    }

    fn zip(&mut self, file: Counted<'_>, node: &Node) {
        let mut archive = match zip::ZipArchive::new(BufReader::with_capacity(1 << 16, file)) {
            Ok(archive) => archive,
            Err(error) => {
                return self.leave_out(node, format!("the ZIP archive cannot be read: {error}; is it complete?"));
            }
        };
        for index in 0..archive.len() {
            if self.stopped() {
                return;
            }
            let (inner, encrypted) = match archive.by_index_raw(index) {
                Ok(member) if member.is_dir() || member.is_symlink() => continue,
                Ok(member) => (member_node(&member, node), member.encrypted()),
                Err(error) => {
                    self.leave_out(node, format!("member {index} cannot be read: {error}"));
                    continue;
                }
            };
            if encrypted {
                self.encrypted(&mut archive, index, &inner);
                continue;
            }
            match archive.by_index(index) {
                Ok(mut member) => self.stream(&mut member, &inner),
                Err(error) => self.leave_out(&inner, format!("cannot be unpacked: {error}")),
            }
        }
    }

    /// Tries the passwords on an encrypted member until one opens it whole.
    fn encrypted(&mut self, archive: &mut zip::ZipArchive<BufReader<Counted<'_>>>, index: usize, node: &Node) {
        let (members, left) = (self.contents.members.len(), self.contents.left_out.len());
        for password in self.passwords {
            // A wrong password may pass the format's short check; then the checksum at the end fails.
            let Ok(mut member) = archive.by_index_decrypt(index, password.as_bytes()) else { continue };
            self.stream(&mut member, node);
            let added = self.contents.members.get(members..).unwrap_or_default();
            if self.contents.left_out.len() == left && added.iter().all(|member| member.trouble.is_empty()) {
                return;
            }
            for wrong in self.contents.members.drain(members..) {
                let _ = std::fs::remove_file(self.folder.join(wrong.number.to_string()));
            }
            self.contents.left_out.truncate(left);
        }
        let why = if self.passwords.is_empty() { "needs a password" } else { "none of the passwords opens it" };
        self.leave_out(node, format!("encrypted: {why}"));
    }
}

/// Name, time and packed size of a ZIP member. The extended time stamp is in UTC; the old DOS form is in an unknown zone.
fn member_node(member: &zip::read::ZipFile<'_, BufReader<Counted<'_>>>, node: &Node) -> Node {
    let name = member
        .name()
        .map_or_else(|_| String::from_utf8_lossy(member.name_raw()).into_owned(), std::borrow::Cow::into_owned);
    let stamp = member.extra_data_fields().find_map(|field| match field {
        zip::extra_fields::ExtraField::ExtendedTimestamp(stamp) => {
            stamp.mod_time().map(|seconds| i64::from(seconds).saturating_mul(SECOND))
        }
        _ => None,
    });
    let dos = member.last_modified().and_then(|time| {
        let civil = crate::clock::Civil {
            year: i32::from(time.year()),
            month: time.month(),
            day: time.day(),
            hour: time.hour(),
            minute: time.minute(),
            second: time.second(),
            ..crate::clock::Civil::default()
        };
        (time.year() > 1980).then(|| civil.to_ns()).flatten()
    });
    Node {
        name: format!("{}!{}", node.name, name.replace('\\', "/")),
        modified: stamp.or(dos).unwrap_or(node.modified),
        packed: member.compressed_size(),
        depth: node.depth + 1,
    }
}

/// The modification time in a gzip header (RFC 1952 section 2.3.1: seconds, 0 means none).
fn gzip_time(start: &[u8]) -> Option<i64> {
    let bytes: [u8; 4] = start.get(4..8)?.try_into().ok()?;
    Some(u32::from_le_bytes(bytes))
        .filter(|seconds| *seconds != 0)
        .map(|seconds| i64::from(seconds).saturating_mul(SECOND))
}

/// A file whose reading is progress, where somebody waits for it.
struct Counted<'a> {
    file: File,
    work: Option<&'a Work>,
}

impl Read for Counted<'_> {
    fn read(&mut self, buffer: &mut [u8]) -> io::Result<usize> {
        let count = self.file.read(buffer)?;
        if let Some(work) = self.work {
            work.advance(count as u64);
        }
        Ok(count)
    }
}

impl Seek for Counted<'_> {
    fn seek(&mut self, to: SeekFrom) -> io::Result<u64> {
        self.file.seek(to)
    }
}

/// Stops a decoder that gives more than it may, or when the work is cancelled.
struct Guard<'a> {
    reader: &'a mut dyn Read,
    left: u64,
    work: &'a Work,
}

impl Read for Guard<'_> {
    fn read(&mut self, buffer: &mut [u8]) -> io::Result<usize> {
        if self.work.is_cancelled() {
            return Err(io::Error::other("cancelled"));
        }
        let count = self.reader.read(buffer)?;
        match self.left.checked_sub(count as u64) {
            Some(left) => self.left = left,
            None => return Err(io::Error::other("it unpacks to far more than logs do: an archive bomb")),
        }
        Ok(count)
    }
}

/// Gives the error that was met while the first bytes were read, in its place.
struct Failing(Option<io::Error>);

impl Read for Failing {
    fn read(&mut self, _: &mut [u8]) -> io::Result<usize> {
        self.0.take().map_or(Ok(0), Err)
    }
}
