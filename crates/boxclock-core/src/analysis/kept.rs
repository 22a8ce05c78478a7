//! Keeping pieces: packed in memory with the events, and in one file an analysis beside the index of each source.

use std::collections::HashMap;
use std::path::Path;
use std::sync::{Condvar, Mutex, PoisonError};
use std::time::Duration;

use serde::de::DeserializeOwned;
use serde::{Deserialize, Serialize};

use super::CaseView;
use crate::case::index::{self, Key, State};
use crate::work::{Work, parallel};
use crate::{Error, Result, limits};

/// Pieces of a case that was read once, by name of the analysis and part of the table.
#[derive(Default)]
pub struct PieceStore {
    pieces: Mutex<HashMap<String, Vec<Option<Vec<u8>>>>>,
    /// Names that were looked for on disk.
    fetched: Mutex<Vec<String>>,
    /// Whether somebody makes pieces, and who waits for that.
    busy: Mutex<bool>,
    free: Condvar,
}

impl std::fmt::Debug for PieceStore {
    fn fmt(&self, f: &mut std::fmt::Formatter<'_>) -> std::fmt::Result {
        f.debug_struct("PieceStore").field("memory_bytes", &self.memory_bytes()).finish_non_exhaustive()
    }
}

/// The right to make pieces: one at a time has it.
pub(super) struct Turn<'a>(&'a PieceStore);

impl Drop for Turn<'_> {
    fn drop(&mut self) {
        *self.0.busy.lock().unwrap_or_else(PoisonError::into_inner) = false;
        self.0.free.notify_one();
    }
}

/// A piece as it is kept: `postcard`, packed by LZ4 behind its length.
pub(super) fn encode(piece: &impl Serialize) -> Result<Vec<u8>> {
    let plain = postcard::to_stdvec(piece).map_err(|error| Error::Fault(format!("a piece: {error}")))?;
    if plain.len() > limits::PIECE_BYTES {
        return Err(Error::Fault(format!("a piece of {} bytes, more than {}", plain.len(), limits::PIECE_BYTES)));
    }
    Ok(lz4_flex::compress_prepend_size(&plain))
}

fn decode<P: DeserializeOwned>(packed: &[u8]) -> Option<P> {
    let length: [u8; 4] = packed.get(..4)?.try_into().ok()?;
    if u32::from_le_bytes(length) as usize > limits::PIECE_BYTES {
        return None;
    }
    postcard::from_bytes(&lz4_flex::decompress_size_prepended(packed).ok()?).ok()
}

/// What a file of pieces holds.
#[derive(Serialize, Deserialize)]
struct File {
    version: u32,
    key: Key,
    /// For each segment: its offset, its events, and its piece.
    pieces: Vec<(u64, u32, Vec<u8>)>,
}

impl PieceStore {
    /// Waits for its turn: who comes second may find all that it needs.
    ///
    /// # Errors
    /// [`Error::Cancelled`] when cancelled meanwhile.
    pub(super) fn take_turn(&self, work: &Work) -> Result<Turn<'_>> {
        /// How long a cancelled job waits on at most.
        const CANCELLED: Duration = Duration::from_millis(50);
        let mut busy = self.busy.lock().unwrap_or_else(PoisonError::into_inner);
        while *busy {
            work.check()?;
            busy = self.free.wait_timeout(busy, CANCELLED).unwrap_or_else(PoisonError::into_inner).0;
        }
        work.check()?;
        *busy = true;
        Ok(Turn(self))
    }

    fn with<T>(&self, name: &str, parts: usize, change: impl FnOnce(&mut Vec<Option<Vec<u8>>>) -> T) -> T {
        let mut pieces = self.pieces.lock().unwrap_or_else(PoisonError::into_inner);
        let list = pieces.entry(name.to_owned()).or_default();
        if list.len() < parts {
            list.resize(parts, None);
        }
        change(list)
    }

    /// Whether there is a piece of that name for a part.
    pub(super) fn has(&self, name: &str, part: usize) -> bool {
        self.with(name, part + 1, |list| list[part].is_some())
    }

    pub(super) fn put(&self, name: &str, part: usize, piece: Vec<u8>) {
        self.with(name, part + 1, |list| list[part] = Some(piece));
    }

    /// The piece of a part; `None` where it is not known (yet), or of another version of its kind.
    pub(crate) fn get<P: DeserializeOwned>(&self, name: &str, part: usize) -> Option<P> {
        let packed = self.with(name, part + 1, |list| list[part].clone())?;
        decode(&packed)
    }

    /// Bytes of memory that all pieces take.
    pub fn memory_bytes(&self) -> usize {
        let pieces = self.pieces.lock().unwrap_or_else(PoisonError::into_inner);
        pieces.values().flatten().flatten().map(Vec::capacity).sum()
    }

    /// The sources whose pieces can be kept, with their keys and the places of their parts.
    fn kept_sources(view: &CaseView) -> Vec<(usize, &Key, std::ops::Range<usize>)> {
        let parts = &view.loaded.table.parts;
        let keys = view.loaded.keys.iter().enumerate().filter_map(|(source, key)| Some((source, key.as_ref()?)));
        let kept = keys.filter(|(source, _)| view.case.sources.get(*source).is_some_and(index::is_kept));
        let with_parts = kept.map(|(source, key)| {
            let start = parts.partition_point(|part| (part.segment.source as usize) < source);
            let end = parts.partition_point(|part| part.segment.source as usize <= source);
            (source, key, start..end)
        });
        with_parts.filter(|(.., parts)| !parts.is_empty()).collect()
    }

    /// Takes what the disk has of an analysis, once.
    pub(super) fn fetch(&self, name: &str, version: u32, keeps: bool, view: &CaseView) {
        let mut fetched = self.fetched.lock().unwrap_or_else(PoisonError::into_inner);
        if !keeps || !view.loaded.complete || fetched.iter().any(|known| known == name) {
            return;
        }
        fetched.push(name.to_owned());
        let sources = Self::kept_sources(view);
        let read = parallel(sources.len(), &crate::work::Work::default(), |at| {
            let (source, key, _) = &sources[at];
            let source = &view.case.sources[*source];
            let file: File = read_checked(&index::pieces_path(source, name)?)?;
            let until = match index::state(source, &file.key, key, false) {
                State::Same => u64::MAX,
                State::Grown(boundary) => boundary,
                State::Other => return None,
            };
            let pieces = file.pieces.into_iter().filter(move |(offset, ..)| *offset < until);
            (file.version == version).then(|| pieces.collect::<Vec<_>>())
        });
        for ((_, _, parts), pieces) in sources.into_iter().zip(read) {
            let mut known: HashMap<(u64, u32), Vec<u8>> =
                pieces.into_iter().flatten().map(|(offset, events, piece)| ((offset, events), piece)).collect();
            for part in parts {
                let segment = &view.loaded.table.parts[part].segment;
                if let Some(piece) = known.remove(&(segment.offset, segment.len() as u32)) {
                    self.put(name, part, piece);
                }
            }
        }
    }

    /// Writes the pieces of an analysis beside the indexes, but for sources that could not be read: a disk that failed for a moment
    /// would be remembered for good. Without them the next start only takes longer, so failing is no
    /// trouble of the case.
    pub(super) fn keep(&self, name: &str, version: u32, view: &CaseView, unread: &[usize]) {
        if !view.loaded.complete {
            return;
        }
        let sources = Self::kept_sources(view);
        parallel(sources.len(), &crate::work::Work::default(), |at| {
            let (source, key, parts) = &sources[at];
            if unread.contains(source) {
                return None;
            }
            let segments = parts.clone().map(|part| (part, &view.loaded.table.parts[part].segment));
            let pieces: Option<Vec<_>> = segments
                .map(|(part, segment)| {
                    let piece = self.with(name, part + 1, |list| list[part].clone())?;
                    Some((segment.offset, segment.len() as u32, piece))
                })
                .collect();
            let file = File { version, key: (*key).clone(), pieces: pieces? };
            write_checked(&index::pieces_path(&view.case.sources[*source], name)?, &file)
        });
    }
}

/// Writes what is kept of a source beside its index: a checksum, then the value. A source whose index could not be kept has no folder,
/// and keeps nothing.
pub(crate) fn write_checked(path: &Path, value: &impl Serialize) -> Option<()> {
    let folder = path.parent().filter(|folder| folder.is_dir())?;
    let plain = postcard::to_stdvec(value).ok()?;
    let mut bytes = crc32fast::hash(&plain).to_le_bytes().to_vec();
    bytes.extend(plain);
    let mut new = tempfile::Builder::new().prefix(".writing-").tempfile_in(folder).ok()?;
    std::io::Write::write_all(&mut new, &bytes).ok()?;
    new.persist(path).ok().map(drop)
}

/// Reads it; `None` where there is none, or it is damaged.
pub(crate) fn read_checked<T: DeserializeOwned>(path: &Path) -> Option<T> {
    let bytes = std::fs::read(path).ok()?;
    let (crc, plain) = bytes.split_first_chunk::<4>()?;
    (crc32fast::hash(plain) == u32::from_le_bytes(*crc)).then(|| postcard::from_bytes(plain).ok()).flatten()
}
