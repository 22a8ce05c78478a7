//! The index on disk: the event table of each large source as Arrow IPC files in the cache, so that a case that was read
//! once opens at once.
//!
//! One folder a source, named by its path: `events.arrow` (a record batch a segment: `time`, `offset`, `line`, `actor`,
//! `severity`, `flags`), `codes.arrow`, `actors.arrow` (a batch a segment too), and `index.json` with the key, what is
//! known of each segment, the report, and a checksum of each file. The merged order of a case is a folder of its own.
//!
//! The key holds the source's size, modification time, checksums of its first and last 64 KiB, and everything that its
//! reader goes by. A file that changed in its middle only, at the same size and the same nanosecond, is not noticed.
//! Index files are read, not mapped: damage or truncation by others shows in a checksum, and the source is read anew.

use std::fs::File;
use std::io::{self, BufWriter, Write};
use std::path::{Path, PathBuf};
use std::sync::Arc;

use arrow_array::cast::AsArray;
use arrow_array::types::{Int64Type, UInt8Type, UInt16Type, UInt32Type};
use arrow_array::{Array, ArrayRef, Int64Array, RecordBatch, StringArray, UInt8Array, UInt16Array, UInt32Array};
use arrow_buffer::Buffer;
use arrow_ipc::reader::{FileDecoder, read_footer_length};
use arrow_ipc::writer::FileWriter;
use arrow_ipc::{convert::try_fb_to_schema, root_as_footer};
use arrow_schema::{DataType, Field, Schema};
use serde::{Deserialize, Serialize};
use sha2::{Digest, Sha256};

use super::{Reader, Source, SourceReport};
use crate::code::{Code, Family};
use crate::event::{Actor, Column, Segment};
use crate::text::SourceFile;
use crate::text::hex;
use crate::{limits, platform};

/// Changes when segments are built differently from the same records.
const VERSION: u32 = 6;

/// What a segment is besides its columns.
#[derive(Serialize, Deserialize)]
struct SegmentMeta {
    offset: u64,
    lines: u64,
    attached_lines: u64,
    sorted: bool,
}

/// What stands in `index.json`.
#[derive(Serialize, Deserialize)]
struct Meta {
    key: Key,
    segments: Vec<SegmentMeta>,
    report: SourceReport,
    /// Checksums of the three Arrow files.
    crc: [u32; 3],
}

/// What the index knows of a source.
pub(crate) enum Known {
    /// Everything.
    Whole(Vec<Arc<Segment>>, Box<SourceReport>),
    /// The pieces before this byte; the file has grown.
    UpTo(u64, Vec<Arc<Segment>>),
}

/// The state of a source that an index, or pieces of analyses, are right for.
#[derive(Clone, Debug, PartialEq, Eq, Serialize, Deserialize)]
pub(crate) struct Key {
    /// What the reader goes by when it makes records of bytes: any change means reading anew.
    reading: String,
    /// What it goes by when it makes times of stamps: pieces of analyses do not depend on it.
    clock: String,
    len_bytes: u64,
    modified: i64,
    /// When the file's bytes, name or rights last changed: a change in its middle that sets its time back shows here.
    changed: i64,
    /// Checksum of the first bytes, up to 64 KiB.
    head_crc: u32,
    /// Checksum of the last bytes, up to 64 KiB.
    tail_crc: u32,
}

/// How a source is now to what was kept of it.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub(crate) enum State {
    /// As it was.
    Same,
    /// It has grown: what lies before this byte is as it was.
    Grown(u64),
    /// Another file, or read otherwise.
    Other,
}

/// Compares a source as it is now with the key of what was kept. Times count where `with_clock` says so.
pub(crate) fn state(source: &Source, kept: &Key, now: &Key, with_clock: bool) -> State {
    let reads_alike = kept.reading == now.reading && (!with_clock || kept.clock == now.clock);
    if !reads_alike || kept.head_crc != now.head_crc && kept.len_bytes >= limits::SAMPLE_BYTES as u64 {
        return State::Other;
    }
    let same = kept.len_bytes == now.len_bytes
        && kept.modified == now.modified
        && kept.changed == now.changed
        && kept.tail_crc == now.tail_crc;
    if same {
        return State::Same;
    }
    // The last piece may end inside a line that has gone on since.
    let boundary = kept.len_bytes & !(limits::CHUNK_BYTES - 1);
    if boundary > 0 && has_grown(source, kept) { State::Grown(boundary) } else { State::Other }
}

impl Key {
    /// The key of a source as it is now; `codes` stands for the catalogues that decide which texts are codes. `None` where it cannot be read.
    pub(super) fn of(source: &Source, younger: &[Source], codes: &str) -> Option<Self> {
        let (name, version, hint) = match source.reader {
            Reader::Lines(detected) => (detected.format.name(), detected.format.version(), detected.hint),
            Reader::Dump(format) => (format.name(), 1, 0),
        };
        let columns = match source.reader {
            Reader::Lines(detected) => detected.format.columns(),
            Reader::Dump(_) => None,
        };
        let file = SourceFile::open(&source.path).ok()?;
        let look = limits::SAMPLE_BYTES as u64;
        let tail = source.len_bytes.saturating_sub(look);
        // Years and dates of a generation come from the younger ones.
        let younger: Vec<(u64, i64)> = younger.iter().map(|source| (source.len_bytes, source.modified)).collect();
        let reading = format!(
            "{VERSION} {name} {version} {hint} {columns:?} {:?} {} {:?} {:?} {} {}",
            source.encoding,
            source.mark_bytes,
            source.line_end,
            source.platform,
            source.len_bytes - source.stop,
            codes,
        );
        let clock = format!(
            "{} {:?} {:?} {} {younger:?}",
            source.zone.name(),
            source.zone_from,
            source.header,
            source.newest_first
        );
        Some(Self {
            reading,
            clock,
            len_bytes: source.len_bytes,
            modified: source.modified,
            changed: platform::changed_ns(&source.path),
            head_crc: crc32fast::hash(&file.read(0, limits::SAMPLE_BYTES).ok()?),
            tail_crc: crc32fast::hash(&file.read(tail, limits::SAMPLE_BYTES).ok()?),
        })
    }
}

/// Whether an index of a source is kept: small files and dumps are read as fast anew.
pub(crate) fn is_kept(source: &Source) -> bool {
    matches!(source.reader, Reader::Lines(_)) && source.len_bytes >= limits::INDEX_MIN_BYTES
}

/// The folder of the index of a file, in the cache.
pub(crate) fn folder_of(path: &Path) -> Option<PathBuf> {
    let full = std::fs::canonicalize(path).unwrap_or_else(|_| path.to_path_buf());
    let name = hex(&Sha256::digest(full.as_os_str().as_encoded_bytes()));
    Some(platform::cache_dir()?.join("index").join(name.get(..32)?))
}

/// The file that keeps the pieces of an analysis of a source, beside its index; `None` where nothing is kept.
pub(crate) fn pieces_path(source: &Source, name: &str) -> Option<PathBuf> {
    Some(folder_of(&source.path)?.join(format!("{name}.{PIECES}")))
}

const PIECES: &str = "pieces";
const FILES: [&str; 3] = ["events.arrow", "codes.arrow", "actors.arrow"];

/// What the index knows of a source; `None` where there is none, it is of another state, or it is damaged.
pub(super) fn load(source: &Source, key: &Key) -> Option<Known> {
    if !is_kept(source) {
        return None;
    }
    let folder = folder_of(&source.path)?;
    let meta: Meta = serde_json::from_slice(&std::fs::read(folder.join("index.json")).ok()?).ok()?;
    match state(source, &meta.key, key, true) {
        State::Same => Some(Known::Whole(segments(&folder, &meta)?, Box::new(meta.report))),
        State::Grown(boundary) => {
            let mut segments = segments(&folder, &meta)?;
            segments.retain(|segment| segment.offset < boundary);
            (!segments.is_empty()).then_some(Known::UpTo(boundary, segments))
        }
        State::Other => None,
    }
}

/// Whether the file still starts with what was indexed.
fn has_grown(source: &Source, kept: &Key) -> bool {
    let tail = kept.len_bytes.saturating_sub(limits::SAMPLE_BYTES as u64);
    let old_end = || SourceFile::open(&source.path)?.read(tail, (kept.len_bytes - tail) as usize);
    source.len_bytes > kept.len_bytes && old_end().is_ok_and(|bytes| crc32fast::hash(&bytes) == kept.tail_crc)
}

fn segments(folder: &Path, meta: &Meta) -> Option<Vec<Arc<Segment>>> {
    let mut tables = Vec::new();
    for (name, crc) in FILES.iter().zip(meta.crc) {
        let (buffer, found) = read_whole(&folder.join(name)).ok()?;
        let batches = (found == crc).then(|| batches(&buffer)).flatten()?;
        if batches.len() != meta.segments.len() {
            return None;
        }
        tables.push(batches);
    }
    let [events, codes, actors] = tables.try_into().ok()?;
    let parts = meta.segments.iter().zip(events).zip(codes.into_iter().zip(actors));
    parts.map(|((meta, events), (codes, actors))| segment(meta, &events, &codes, &actors).map(Arc::new)).collect()
}

fn segment(meta: &SegmentMeta, events: &RecordBatch, codes: &RecordBatch, actors: &RecordBatch) -> Option<Segment> {
    let u32s = |batch: &RecordBatch, at: usize| -> Option<Column<u32>> {
        Some(batch.column(at).as_primitive_opt::<UInt32Type>()?.values().clone())
    };
    let u16s = |batch: &RecordBatch, at: usize| -> Option<Column<u16>> {
        Some(batch.column(at).as_primitive_opt::<UInt16Type>()?.values().clone())
    };
    let u8s = |batch: &RecordBatch, at: usize| -> Option<Column<u8>> {
        Some(batch.column(at).as_primitive_opt::<UInt8Type>()?.values().clone())
    };
    let columns = |batch: &RecordBatch, count: usize| (batch.num_columns() == count).then_some(());
    columns(events, 6)?;
    columns(codes, 3)?;
    columns(actors, 4)?;
    let (event, family, number) = (u16s(codes, 0)?, u8s(codes, 1)?, u32s(codes, 2)?);
    let pairs = event.iter().zip(family.iter().zip(number.iter()));
    let codes: Option<Vec<(u16, Code)>> = pairs
        .map(|(event, (family, number))| {
            Some((*event, Code { family: *Family::ALL.get(usize::from(*family))?, number: *number }))
        })
        .collect();
    let (hosts, components) = (actors.column(0).as_string_opt::<i32>()?, actors.column(1).as_string_opt::<i32>()?);
    let pids = actors.column(2).as_primitive_opt::<UInt32Type>()?;
    let tids = actors.column(3).as_primitive_opt::<UInt32Type>()?;
    let id = |ids: &UInt32Array, row: usize| ids.is_valid(row).then(|| ids.value(row));
    let actors: Vec<Actor> = (0..actors.num_rows())
        .map(|row| Actor {
            host: hosts.value(row).into(),
            component: components.value(row).into(),
            pid: id(pids, row),
            tid: id(tids, row),
        })
        .collect();
    let actor_ids = u16s(events, 3)?;
    Some(Segment {
        source: 0,
        offset: meta.offset,
        lines: meta.lines,
        attached_lines: meta.attached_lines,
        times: events.column(0).as_primitive_opt::<Int64Type>()?.values().clone(),
        offsets: u32s(events, 1)?,
        line_numbers: u32s(events, 2)?,
        actor_ids,
        severities: u8s(events, 4)?,
        flags: u8s(events, 5)?,
        actors,
        codes: codes?,
        sorted: meta.sorted,
    })
}

/// The record batches of an Arrow IPC file; its columns share the buffer's memory.
fn batches(buffer: &Buffer) -> Option<Vec<RecordBatch>> {
    let trailer: [u8; 10] = buffer.get(buffer.len().checked_sub(10)?..)?.try_into().ok()?;
    let footer_start = buffer.len().checked_sub(10)?.checked_sub(read_footer_length(trailer).ok()?)?;
    let footer = root_as_footer(buffer.get(footer_start..buffer.len() - 10)?).ok()?;
    let schema = Arc::new(try_fb_to_schema(footer.schema()?).ok()?);
    let decoder = FileDecoder::new(schema, footer.version());
    let blocks = footer.recordBatches()?;
    let read = |block: &arrow_ipc::Block| {
        let length = usize::try_from(block.bodyLength()).ok()? + usize::try_from(block.metaDataLength()).ok()?;
        let start = usize::try_from(block.offset()).ok()?;
        if start.checked_add(length)? > buffer.len() {
            return None;
        }
        decoder.read_record_batch(block, &buffer.slice_with_length(start, length)).ok().flatten()
    };
    blocks.iter().map(read).collect()
}

/// Bytes that one thread reads at a time.
const READ_BYTES: usize = 8 << 20;

/// Reads a file on all cores, with its checksum.
fn read_whole(path: &Path) -> io::Result<(Buffer, u32)> {
    let file = File::open(path)?;
    let length = usize::try_from(file.metadata()?.len()).map_err(io::Error::other)?;
    // Fresh zeroed memory costs nothing until the readers touch it, each on its own core.
    let mut buffer = vec![0_u8; length];
    let next = std::sync::Mutex::new(buffer.chunks_mut(READ_BYTES).enumerate());
    let read = || -> io::Result<Vec<(usize, crc32fast::Hasher)>> {
        let mut done = Vec::new();
        loop {
            let Some((index, chunk)) = next.lock().map_err(|_| io::Error::other("a reader failed"))?.next() else {
                return Ok(done);
            };
            let mut filled = 0;
            while filled < chunk.len() {
                match platform::read_at(&file, &mut chunk[filled..], (index * READ_BYTES + filled) as u64)? {
                    0 => return Err(io::ErrorKind::UnexpectedEof.into()),
                    count => filled += count,
                }
            }
            let mut crc = crc32fast::Hasher::new();
            crc.update(chunk);
            done.push((index, crc));
        }
    };
    let threads = crate::work::workers().min(length.div_ceil(READ_BYTES)).max(1);
    let mut parts: Vec<(usize, crc32fast::Hasher)> = std::thread::scope(|scope| {
        let handles: Vec<_> = (0..threads).map(|_| scope.spawn(read)).collect();
        let joined =
            handles.into_iter().map(|handle| handle.join().unwrap_or_else(|_| Err(io::Error::other("failed"))));
        joined.collect::<io::Result<Vec<_>>>().map(|parts| parts.concat())
    })?;
    parts.sort_by_key(|(index, _)| *index);
    let mut crc = crc32fast::Hasher::new();
    for (_, part) in &parts {
        crc.combine(part);
    }
    Ok((Buffer::from_vec(buffer), crc.finalize()))
}

/// Writes the index of a source that has been read whole. `key` is that of the moment before it was read; if the file has
/// changed meanwhile, nothing is written.
///
/// # Errors
/// As the system reports them; what is there then is no index.
pub(super) fn save(source: &Source, key: &Key, segments: &[Arc<Segment>], report: &SourceReport) -> io::Result<()> {
    let Some(folder) = folder_of(&source.path) else { return Ok(()) };
    let now = std::fs::metadata(&source.path)?.len();
    let tail = key.len_bytes.saturating_sub(limits::SAMPLE_BYTES as u64);
    let end = SourceFile::open(&source.path)?.read(tail, limits::SAMPLE_BYTES)?;
    if now != key.len_bytes || crc32fast::hash(&end) != key.tail_crc {
        return Ok(());
    }
    let parent = folder.parent().unwrap_or(&folder);
    let fresh = fresh_folder(parent)?;
    let crc = [
        write(&fresh.path().join(FILES[0]), event_schema(), segments.iter().map(|segment| event_columns(segment)))?,
        write(&fresh.path().join(FILES[1]), code_schema(), segments.iter().map(|segment| code_columns(segment)))?,
        write(&fresh.path().join(FILES[2]), actor_schema(), segments.iter().map(|segment| actor_columns(segment)))?,
    ];
    let meta = Meta {
        key: key.clone(),
        segments: segments
            .iter()
            .map(|segment| SegmentMeta {
                offset: segment.offset,
                lines: segment.lines,
                attached_lines: segment.attached_lines,
                sorted: segment.sorted,
            })
            .collect(),
        report: report.clone(),
        crc,
    };
    std::fs::write(fresh.path().join("index.json"), serde_json::to_vec(&meta)?)?;
    // Pieces of analyses have keys of their own: those that still fit are used again.
    for entry in std::fs::read_dir(&folder).into_iter().flatten().flatten() {
        if entry.path().extension().is_some_and(|extension| extension == PIECES) {
            std::fs::rename(entry.path(), fresh.path().join(entry.file_name()))?;
        }
    }
    replace(&fresh, &folder)
}

/// A folder to write into beside the finished ones. What older runs left unfinished (the program was ended while it wrote)
/// is removed.
fn fresh_folder(parent: &Path) -> io::Result<tempfile::TempDir> {
    std::fs::create_dir_all(parent)?;
    for entry in
        std::fs::read_dir(parent)?.flatten().filter(|entry| entry.file_name().as_encoded_bytes().starts_with(FRESH))
    {
        let age = entry.metadata().and_then(|data| data.modified()).ok().and_then(|time| time.elapsed().ok());
        if age.is_some_and(|age| age > STALE) {
            // Another run may have been faster.
            let _ = std::fs::remove_dir_all(entry.path());
        }
    }
    tempfile::Builder::new().prefix(".writing-").tempdir_in(parent)
}

const FRESH: &[u8] = b".writing-";
/// No index takes as long to write.
const STALE: std::time::Duration = std::time::Duration::from_secs(600);

/// Puts a finished folder in the place of an older one.
fn replace(fresh: &tempfile::TempDir, folder: &Path) -> io::Result<()> {
    if folder.exists() {
        std::fs::remove_dir_all(folder)?;
    }
    std::fs::rename(fresh.path(), folder)
}

fn event_schema() -> Schema {
    Schema::new(vec![
        Field::new("time", DataType::Int64, false),
        Field::new("offset", DataType::UInt32, false),
        Field::new("line", DataType::UInt32, false),
        Field::new("actor", DataType::UInt16, false),
        Field::new("severity", DataType::UInt8, false),
        Field::new("flags", DataType::UInt8, false),
    ])
}

fn event_columns(segment: &Segment) -> Vec<ArrayRef> {
    vec![
        Arc::new(Int64Array::new(segment.times.clone(), None)),
        Arc::new(UInt32Array::new(segment.offsets.clone(), None)),
        Arc::new(UInt32Array::new(segment.line_numbers.clone(), None)),
        Arc::new(UInt16Array::new(segment.actor_ids.clone(), None)),
        Arc::new(UInt8Array::new(segment.severities.clone(), None)),
        Arc::new(UInt8Array::new(segment.flags.clone(), None)),
    ]
}

fn code_schema() -> Schema {
    Schema::new(vec![
        Field::new("event", DataType::UInt16, false),
        Field::new("family", DataType::UInt8, false),
        Field::new("number", DataType::UInt32, false),
    ])
}

fn code_columns(segment: &Segment) -> Vec<ArrayRef> {
    let family = |code: &Code| Family::ALL.iter().position(|family| *family == code.family).unwrap_or(0) as u8;
    vec![
        Arc::new(segment.codes.iter().map(|(event, _)| *event).collect::<UInt16Array>()),
        Arc::new(segment.codes.iter().map(|(_, code)| family(code)).collect::<UInt8Array>()),
        Arc::new(segment.codes.iter().map(|(_, code)| code.number).collect::<UInt32Array>()),
    ]
}

fn actor_schema() -> Schema {
    Schema::new(vec![
        Field::new("host", DataType::Utf8, false),
        Field::new("component", DataType::Utf8, false),
        Field::new("pid", DataType::UInt32, true),
        Field::new("tid", DataType::UInt32, true),
    ])
}

fn actor_columns(segment: &Segment) -> Vec<ArrayRef> {
    let actors = &segment.actors;
    vec![
        Arc::new(StringArray::from_iter_values(actors.iter().map(|actor| &actor.host))),
        Arc::new(StringArray::from_iter_values(actors.iter().map(|actor| &actor.component))),
        Arc::new(actors.iter().map(|actor| actor.pid).collect::<UInt32Array>()),
        Arc::new(actors.iter().map(|actor| actor.tid).collect::<UInt32Array>()),
    ]
}

/// A writer that takes the checksum of what goes through it.
struct Summed<W> {
    inner: W,
    crc: crc32fast::Hasher,
}

impl<W: Write> Write for Summed<W> {
    fn write(&mut self, bytes: &[u8]) -> io::Result<usize> {
        let count = self.inner.write(bytes)?;
        self.crc.update(&bytes[..count]);
        Ok(count)
    }

    fn flush(&mut self) -> io::Result<()> {
        self.inner.flush()
    }
}

fn write(path: &Path, schema: Schema, batches: impl Iterator<Item = Vec<ArrayRef>>) -> io::Result<u32> {
    let schema = Arc::new(schema);
    let file = BufWriter::with_capacity(1 << 20, File::create(path)?);
    let mut out = Summed { inner: file, crc: crc32fast::Hasher::new() };
    let mut writer = FileWriter::try_new(&mut out, &schema).map_err(io::Error::other)?;
    for columns in batches {
        let batch = RecordBatch::try_new(Arc::clone(&schema), columns).map_err(io::Error::other)?;
        writer.write(&batch).map_err(io::Error::other)?;
    }
    writer.finish().map_err(io::Error::other)?;
    drop(writer);
    out.flush()?;
    Ok(out.crc.finalize())
}

/// Names the merged order of a case: the same sources in the same state, with the same clocks.
pub(super) fn order_name(keys: &[Option<Key>], drift: &str) -> Option<String> {
    let mut hash = Sha256::new();
    for key in keys {
        // A source without index may hold anything.
        hash.update(format!("{:?}\n", key.as_ref()?));
    }
    hash.update(drift);
    Some(hex(&hash.finalize()).get(..32)?.to_owned())
}

fn order_folder(name: &str) -> Option<PathBuf> {
    Some(platform::cache_dir()?.join("orders").join(name))
}

/// The merged order and the disordered rows of a case.
pub(super) fn load_order(name: &str) -> Option<(Column<u32>, Column<u32>)> {
    let folder = order_folder(name)?;
    let crc: u32 = std::fs::read_to_string(folder.join("checksum")).ok()?.parse().ok()?;
    let (buffer, found) = read_whole(&folder.join("order.arrow")).ok()?;
    if found != crc {
        return None;
    }
    let batches = batches(&buffer)?;
    let column = |at: usize| -> Option<Column<u32>> {
        Some(batches.get(at)?.columns().first()?.as_primitive_opt::<UInt32Type>()?.values().clone())
    };
    Some((column(0)?, column(1)?))
}

/// Whether a merged order is kept under this name.
pub(super) fn has_order(name: &str) -> bool {
    order_folder(name).is_some_and(|folder| folder.join("checksum").is_file())
}

/// Writes the merged order of a case.
///
/// # Errors
/// As the system reports them.
pub(super) fn save_order(name: &str, order: &Column<u32>, disordered: &Column<u32>) -> io::Result<()> {
    let Some(folder) = order_folder(name) else { return Ok(()) };
    let parent = folder.parent().unwrap_or(&folder);
    let fresh = fresh_folder(parent)?;
    let schema = Schema::new(vec![Field::new("row", DataType::UInt32, false)]);
    let batches = [order, disordered]
        .into_iter()
        .map(|rows| -> Vec<ArrayRef> { vec![Arc::new(UInt32Array::new(rows.clone(), None))] });
    let crc = write(&fresh.path().join("order.arrow"), schema, batches)?;
    std::fs::write(fresh.path().join("checksum"), crc.to_string())?;
    replace(&fresh, &folder)
}
