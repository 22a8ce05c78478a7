//! One job of reading: some bytes of a file of lines, or a dump as its one event.

use crate::case::chunk::{self, Chunk};
use crate::case::schedule::Job;
use crate::case::{Reader, Source, Trouble};
use crate::clock::TimeKnown;
use crate::code::Catalogues;
use crate::event::{Actor, Columns, flag};
use crate::severity::Severity;
use crate::text::SourceFile;
use crate::{crash, limits};

/// The pieces of a source, as byte ranges.
pub(super) fn pieces(source: &Source) -> Vec<(u64, u64)> {
    if matches!(source.reader, Reader::Dump(_)) {
        return vec![(0, source.len_bytes)];
    }
    let mut from = source.mark_bytes.min(source.stop);
    let mut pieces = Vec::new();
    while from < source.stop {
        let to = ((from & !(limits::CHUNK_BYTES - 1)) + limits::CHUNK_BYTES).min(source.stop);
        pieces.push((from, to));
        from = to;
    }
    pieces
}

pub(super) fn read_job(
    source: &Source,
    catalogues: &Catalogues,
    job: &Job,
    buffer: &mut Vec<u8>,
) -> std::io::Result<Chunk> {
    let mut chunk = match source.reader {
        Reader::Lines(detected) => {
            let file = SourceFile::open(&source.path)?;
            let mut chunk = chunk::read(source, catalogues, detected, &file, (job.from, job.to), buffer)?;
            if chunk.bytes < job.to - job.from {
                chunk.trouble.push(Trouble::lost(format!(
                    "the file has become shorter: {} bytes from byte {} are missing",
                    job.to - job.from - chunk.bytes,
                    job.from + chunk.bytes
                )));
            }
            chunk
        }
        Reader::Dump(format) => dump_chunk(source, format),
    };
    for segment in &mut chunk.segments {
        segment.source = job.source as u32;
    }
    Ok(chunk)
}

fn dump_chunk(source: &Source, format: &dyn crash::DumpFormat) -> Chunk {
    let mut segment = Columns::default();
    let mut chunk = Chunk { bytes: source.len_bytes, ..Chunk::default() };
    let crash = crash::read(format, &source.path).unwrap_or_else(|error| {
        chunk.trouble.push(Trouble::lost(error.to_string()));
        crash::Crash::default()
    });
    let mut flags = flag::DUMP;
    segment.times.push(crash.time.unwrap_or(source.modified));
    if crash.time.is_none() {
        flags |= TimeKnown::Inherited as u8;
    }
    chunk.trouble.extend(crash.trouble.into_iter().map(Trouble::lost));
    segment.offsets.push(0);
    segment.line_numbers.push(0);
    segment.actor_ids.push(0);
    segment.severities.push(Severity::FATAL.0);
    segment.actors.push(Actor {
        host: "".into(),
        component: crash.process.unwrap_or_default().into(),
        pid: crash.pid,
        tid: crash.tid,
    });
    if let Some(code) = crash.code {
        segment.codes.push((0, code));
        flags |= flag::HAS_CODE;
    }
    segment.flags.push(flags);
    chunk.segments.push(segment.into());
    chunk
}
