//! Looking at one file: what it is and how it is read.

use std::fs::File;
use std::io::Read;
use std::path::Path;

use super::direction;
use super::inventory::Candidate;
use super::{Choice, Options, Reader, Source, Trouble, ZoneFrom};
use crate::clock::forms::DateOrder;
use crate::clock::{Civil, Stamp, Zone};
use crate::code::Platform;
use crate::files::FileFound;
use crate::format::{self, Detected, Header, LineFormat};
use crate::text::{self, Encoding, LineEnd, SourceFile, bare_line};
use crate::{crash, limits};

/// What is known of the case when its files are looked at.
pub(super) struct Known<'a> {
    pub case_zone: &'a Zone,
    pub options: &'a Options,
    /// The formats of the user and of the box.
    pub formats: &'a [&'static dyn LineFormat],
}

/// Up to `count` bytes of the start of a file.
pub(super) fn start_of(path: &Path, count: usize) -> std::io::Result<Vec<u8>> {
    let mut start = Vec::new();
    File::open(path)?.take(count as u64).read_to_end(&mut start)?;
    Ok(start)
}

/// Looks at the start, the middle and the end of a file and decides how it is read.
///
/// `like` is what like files of its host say of the order of its dates.
pub(super) fn look(
    candidate: &Candidate,
    known: &Known<'_>,
    like: Option<&LikeDates>,
) -> std::result::Result<Source, String> {
    let FileFound { path, name, modified, len_bytes } = candidate.file.clone();
    let nothing = Choice::default();
    let choice = known.options.choices.get(&name).unwrap_or(&nothing);
    let (zone, zone_from) = zone_of(candidate, choice, known);
    let mut source = Source {
        path,
        name,
        host: choice.host.clone().or_else(|| candidate.host.clone()),
        len_bytes,
        modified,
        encoding: Encoding::Binary,
        mark_bytes: 0,
        line_end: LineEnd::Feed,
        reader: Reader::Lines(format::PLAIN),
        contest: None,
        platform: Platform::Unknown,
        zone,
        zone_from,
        generations: 0,
        stop: len_bytes,
        repeated_lines: 0,
        stated_offset_s: None,
        newest_first: false,
        dates: None,
        header: Header::default(),
        trouble: candidate.trouble.clone(),
        decoded: None,
        class: candidate.class,
    };
    if let Some((decoder, text)) = &candidate.decoded {
        source.path.clone_from(&text.path);
        (source.len_bytes, source.stop) = (text.len_bytes, text.len_bytes);
        source.encoding = Encoding::Utf8;
        source.platform = decoder.platform();
        source.reader = Reader::Lines(Detected { format: *decoder, hint: 0 });
        source.trouble.extend(text.account.trouble.iter().cloned());
        source.decoded = Some(text.account.clone());
        source.newest_first = direction::is_newest_first(&source, None);
        return Ok(source);
    }
    let start = start_of(&source.path, limits::SAMPLE_BYTES).map_err(|error| error.to_string())?;
    if let Some(dump) = crash::recognise(&start) {
        source.reader = Reader::Dump(dump);
        return Ok(source);
    }
    if choice.encoding.is_none()
        && let Some(kind) = kind_by_magic(&start)
    {
        return Err(format!("{kind}, not a log"));
    }
    let samples = sample(&source, start).map_err(|error| error.to_string())?;
    match (choice.encoding, text::guess(&samples)) {
        (Some(chosen), _) => {
            let (marked, mark) = Encoding::by_mark(&samples[0]);
            (source.encoding, source.mark_bytes) = (chosen, if marked == chosen { mark } else { 0 });
        }
        (None, Some(guessed)) => (source.encoding, source.mark_bytes) = guessed,
        (None, None) => {
            let empty = !samples[0].is_empty() && samples[0].iter().all(|byte| *byte == 0);
            let what = if empty { "nothing but NUL bytes" } else { "unknown data" };
            return Err(format!("not text, and no format that is known ({what})"));
        }
    }
    let bare = |index: usize| if index == 0 { source.mark_bytes as usize } else { 0 };
    let texts: Vec<Vec<u8>> = samples
        .iter()
        .enumerate()
        .map(|(index, bytes)| source.encoding.decode(bytes.get(bare(index)..).unwrap_or_default()).into_owned())
        .collect();
    source.line_end = LineEnd::of(&texts.concat());
    let lines: Vec<&[u8]> =
        texts.iter().enumerate().flat_map(|(index, text)| sample_lines(text, source.line_end, index > 0)).collect();
    let contest = format::contest(&lines, known.formats);
    let detected = match &choice.format {
        None => contest.winner,
        Some(name) => chosen_format(name, &lines, known)?,
    };
    source.reader = Reader::Lines(detected);
    source.platform = platform_of(&source, &texts, detected.format);
    source.contest = Some(contest);
    let mut detected = detected;
    let whole = &mut source_lines(&source);
    let dates = choice.dates.or(like.map(|like| like.order));
    if let Some(note) = detected.format.settle(&lines, whole, detected.hint, dates, modified) {
        source.dates = note.dates;
        if let (Some(like), None) = (like, choice.dates) {
            // As sure as the others are.
            source.dates = Some((like.order, like.guessed));
            source.trouble.push(Trouble::note(format!(
                "nothing in the file tells day from month in its dates: they are read {}, as in {}",
                like.order.name(),
                like.of
            )));
        }
        detected = Detected { hint: note.hint, format: note.made.unwrap_or(detected.format) };
        source.reader = Reader::Lines(detected);
        source.trouble.extend(note.trouble.map(Trouble::note));
    }
    source.header = detected.format.header(&lines, detected.hint, modified);
    if let Some(offset) = source.header.offset_s.filter(|_| matches!(source.zone_from, ZoneFrom::Case | ZoneFrom::Host))
    {
        (source.zone, source.zone_from) = (Zone::fixed(offset), ZoneFrom::Header);
    }
    source.header.start = start_in_name(&source);
    if let Some(offset) = source.header.likely_offset_s.filter(|_| source.zone_from == ZoneFrom::Case) {
        source.zone = Zone::fixed(offset);
        source.trouble.push(Trouble::note(format!(
            "its zone's word has several meanings: {} is assumed; another zone can be set",
            source.zone.name()
        )));
    }
    let stated = lines.iter().rev().take(200).find_map(|line| match detected.format.head(line, detected.hint)?.stamp {
        Stamp::Utc(_, offset) if offset != 0 => Some(offset),
        _ => None,
    });
    source.stated_offset_s = stated;
    source.newest_first = direction::is_newest_first(&source, texts.first().map(Vec::as_slice));
    Ok(source)
}

/// The moment in a file's name, `2026-04-12T02_31_07_442Z-debug-0.log`: date and time to the second. With a Z it is UTC.
fn start_in_name(source: &Source) -> Option<i64> {
    let name = source.name.rsplit('/').next()?.as_bytes();
    let at = (0..name.len().saturating_sub(18)).find(|at| {
        let part = name.get(*at..at + 19).unwrap_or_default();
        let digits =
            |range: std::ops::Range<usize>| part.get(range).is_some_and(|part| part.iter().all(u8::is_ascii_digit));
        digits(0..4)
            && digits(5..7)
            && digits(8..10)
            && digits(11..13)
            && digits(14..16)
            && digits(17..19)
            && part.get(10).is_some_and(|mark| matches!(mark, b'T' | b'_' | b'-' | b' '))
    })?;
    let part = |from: usize, count: usize| {
        std::str::from_utf8(name.get(at + from..at + from + count)?).ok()?.parse::<u32>().ok()
    };
    let two = |from: usize| part(from, 2).and_then(|number| u8::try_from(number).ok());
    let millis = part(20, 3).filter(|_| name.get(at + 19).is_some_and(|mark| matches!(mark, b'_' | b'.' | b'-')));
    let civil = Civil {
        year: i32::try_from(part(0, 4)?).ok()?,
        month: two(5)?,
        day: two(8)?,
        hour: two(11)?,
        minute: two(14)?,
        second: two(17)?,
        nanos: millis.unwrap_or(0) * 1_000_000,
        offset: None,
    };
    let ns = civil.is_valid().then(|| civil.to_ns())??;
    let behind = at + 19 + if millis.is_some() { 4 } else { 0 };
    Some(if name.get(behind) == Some(&b'Z') { ns } else { source.zone.to_utc(ns) })
}

/// A host is in one zone: sources of which nothing says theirs take the one that its other sources state in their lines.
pub(super) fn zones_by_host(sources: &mut [Source]) {
    let mut stated: std::collections::HashMap<String, Vec<(i64, i32)>> = std::collections::HashMap::new();
    for source in sources.iter() {
        if let (Some(host), Some(offset)) = (&source.host, source.stated_offset_s) {
            stated.entry(host.clone()).or_default().push((source.modified, offset));
        }
    }
    for source in sources.iter_mut().filter(|source| source.zone_from == ZoneFrom::Case) {
        let Some(known) = source.host.as_ref().and_then(|host| stated.get(host)) else { continue };
        // Of several (the change of daylight saving time lies between) the one nearest in time.
        let nearest = known.iter().min_by_key(|(modified, _)| modified.abs_diff(source.modified));
        if let Some((_, offset)) = nearest {
            (source.zone, source.zone_from) = (Zone::fixed(*offset), ZoneFrom::Host);
        }
    }
}

/// What like files say of the order of day and month in a source that can only guess it.
pub(super) struct LikeDates {
    /// The source's place.
    pub(super) at: usize,
    order: DateOrder,
    /// One of those that say so.
    of: String,
    /// Whether they guess too.
    guessed: bool,
}

/// Like files of a host (of one format) have their dates in one order: for each source that can only guess it what the others say,
/// by its place. Where none of them knows, the guess of most is that of all.
pub(super) fn dates_of_like_files(sources: &[Option<&Source>]) -> Vec<LikeDates> {
    type Like<'a> = Vec<(usize, DateOrder, bool, &'a str)>;
    let mut groups: std::collections::BTreeMap<(String, &str), Like<'_>> = std::collections::BTreeMap::new();
    // Where no host is known, files whose names differ in digits only: a folder may hold what several machines sent.
    let without_digits = |name: &str| name.chars().filter(|c| !c.is_ascii_digit()).collect::<String>();
    for (at, source) in sources.iter().enumerate().filter_map(|(at, source)| Some((at, (*source)?))) {
        if let Some((order, guessed)) = source.dates {
            let like = source.host.clone().unwrap_or_else(|| without_digits(&source.name));
            let group = groups.entry((like, source.reader.name())).or_default();
            group.push((at, order, guessed, &source.name));
        }
    }
    let mut found = Vec::new();
    for group in groups.into_values() {
        let certain: Vec<_> = group.iter().filter(|(_, _, guessed, _)| !guessed).collect();
        let of = |wanted: DateOrder| certain.iter().find(|(_, order, ..)| *order == wanted);
        let known: Vec<DateOrder> = DateOrder::ALL.into_iter().filter(|order| of(*order).is_some()).collect();
        let guesses =
            |wanted: DateOrder| group.iter().filter(move |(_, order, guessed, _)| *guessed && *order == wanted);
        let order = match known.as_slice() {
            [order] => *order,
            // Files that contradict each other say nothing of a third.
            [_, _, ..] => continue,
            [] => match DateOrder::ALL.into_iter().rev().max_by_key(|order| guesses(*order).count()) {
                Some(order) => order,
                None => continue,
            },
        };
        let from = of(order).map(|one| one.3).or_else(|| guesses(order).next().map(|one| one.3));
        let Some(from) = from else { continue };
        let others = group.iter().filter(|(_, other, guessed, _)| *guessed && (!known.is_empty() || *other != order));
        let guessed = known.is_empty();
        found.extend(others.map(|(at, ..)| LikeDates { at: *at, order, of: from.to_owned(), guessed }));
    }
    found
}

fn chosen_format(name: &str, lines: &[&[u8]], known: &Known<'_>) -> std::result::Result<Detected, String> {
    let unknown = || format!("no text format is called {name}: see boxclock formats");
    let format = format::by_name(name, known.formats).ok_or_else(unknown)?;
    let fit = format.fit(lines);
    let mut format = fit.made.unwrap_or(format);
    if let Some((_, columns)) = name.split_once('(') {
        format = format.with_columns(columns.trim_end_matches(')')).map_err(|error| error.to_string())?;
    }
    Ok(Detected { format, hint: fit.hint })
}

fn zone_of(candidate: &Candidate, choice: &Choice, known: &Known<'_>) -> (Zone, ZoneFrom) {
    let by_host = choice.host.as_ref().or(candidate.host.as_ref()).and_then(|host| {
        let remembered = known.options.choices.get(host).and_then(|choice| choice.zone.as_ref());
        known.options.host_zones.get(host).or(remembered)
    });
    if let Some(zone) = choice.zone.as_ref().or(by_host).or(known.options.zone.as_ref()) {
        return (zone.clone(), ZoneFrom::User);
    }
    match &candidate.zone {
        Some(zone) => (zone.clone(), ZoneFrom::Host),
        None => (known.case_zone.clone(), ZoneFrom::Case),
    }
}

/// A sample with fewer line ends is of a file with very long lines, which need a longer look.
const FEW_LINES: usize = 4;

/// The start of a file, and pieces of its middle and end where it is larger.
fn sample(source: &Source, start: Vec<u8>) -> std::io::Result<Vec<Vec<u8>>> {
    let piece = limits::SAMPLE_BYTES as u64;
    let mut start = start;
    if start.len() == limits::SAMPLE_BYTES && memchr::memchr_iter(b'\n', &start).count() < FEW_LINES {
        start = start_of(&source.path, limits::RECORD_BYTES)?;
    }
    let mut samples = vec![start];
    if source.len_bytes > 4 * piece {
        let file = SourceFile::open(&source.path)?;
        for offset in [source.len_bytes / 2, source.len_bytes - piece] {
            samples.push(file.read(offset & !1, limits::SAMPLE_BYTES)?);
        }
    }
    Ok(samples)
}

/// The lines of a sample that are not blank, without the first of a piece from inside the file, which may be cut.
fn sample_lines(text: &[u8], end: LineEnd, inside: bool) -> impl Iterator<Item = &[u8]> {
    text.split(move |byte| *byte == end as u8)
        .skip(usize::from(inside))
        .map(bare_line)
        .filter(|line| !line.trim_ascii().is_empty())
        .take(1000)
}

/// All lines of a source, decoded, read piece by piece: for questions that only the whole file can answer.
fn source_lines(source: &Source) -> impl Iterator<Item = Vec<u8>> + use<> {
    let (encoding, end) = (source.encoding, source.line_end);
    let file = SourceFile::open(&source.path);
    let mut at = source.mark_bytes;
    let mut pending: Vec<u8> = Vec::new();
    let mut lines: Vec<Vec<u8>> = Vec::new();
    std::iter::from_fn(move || {
        loop {
            if let Some(line) = lines.pop() {
                return Some(line);
            }
            let bytes = file.as_ref().ok()?.read(at, limits::CHUNK_BYTES as usize).ok()?;
            if bytes.is_empty() && pending.is_empty() {
                return None;
            }
            at += bytes.len() as u64;
            let ended = bytes.is_empty();
            pending.extend_from_slice(&bytes);
            let mut pos = 0;
            while let Some(next) = encoding.line_end(&pending, pos, end) {
                let head = &pending[pos..next.min(pos + limits::LINE_HEAD_BYTES)];
                lines.push(bare_line(&encoding.decode(head)).to_vec());
                pos = next;
            }
            pending.drain(..pos);
            if ended || pending.len() > 2 * limits::CHUNK_BYTES as usize {
                pending.truncate(limits::LINE_HEAD_BYTES);
                lines.push(bare_line(&encoding.decode(&pending)).to_vec());
                pending.clear();
            }
            lines.reverse();
        }
    })
}

/// What a file is by its first bytes, where these are the mark of a kind that is no log. Sources: the published descriptions of
/// these file formats.
fn kind_by_magic(start: &[u8]) -> Option<&'static str> {
    const MARKS: [(&[u8], &str); 31] = [
        (b"\x7FELF", "a program or library"),
        (b"!<arch>\n", "a library of object files or a package"),
        (b"\xCF\xFA\xED\xFE", "a program or library"),
        (b"\xCE\xFA\xED\xFE", "a program or library"),
        (b"\xCA\xFE\xBA\xBE", "a class or program"),
        (b"\0asm", "a program"),
        (b"SQLite format 3\0", "a database"),
        (b"KDUMP   ", "a dump of a whole system"),
        (b"DISKDUMP", "a dump of a whole system"),
        (b"regf", "a registry hive"),
        (b"\x89PNG\r\n\x1A\n", "a picture"),
        (b"\xFF\xD8\xFF", "a picture"),
        (b"GIF87a", "a picture"),
        (b"GIF89a", "a picture"),
        (b"%PDF-", "a printed document"),
        (b"\xD0\xCF\x11\xE0\xA1\xB1\x1A\xE1", "a compound document"),
        (b"\xD4\xC3\xB2\xA1", "a capture of network packets"),
        (b"\xA1\xB2\xC3\xD4", "a capture of network packets"),
        (b"\x4D\x3C\xB2\xA1", "a capture of network packets"),
        (b"\x0A\x0D\x0D\x0A", "a capture of network packets"),
        (b"\xED\xAB\xEE\xDB", "a package"),
        (b"MSCF\0\0\0\0", "a cabinet archive"),
        (b"7z\xBC\xAF\x27\x1C", "an archive"),
        (b"Rar!\x1A\x07", "an archive"),
        (b"ITSF\x03\0\0\0", "a help file"),
        (b"LfLe", "an event log of old systems"),
        (b"\x30\0\0\0LfLe", "an event log of old systems"),
        (b"\xAC\xED\0\x05", "serialised objects"),
        (b"PAR1", "a table of columns"),
        (b"ARROW1", "a table of columns"),
        (b"OggS", "a sound recording"),
    ];
    let is_program = start.starts_with(b"MZ") && start.get(..512).is_some_and(|head| head.contains(&0));
    let known = MARKS.iter().find(|(mark, _)| start.starts_with(mark)).map(|(_, kind)| *kind);
    known.or(is_program.then_some("a program or library"))
}

/// The kind of system, as far as the file itself shows it.
fn platform_of(source: &Source, texts: &[Vec<u8>], format: &dyn LineFormat) -> Platform {
    // The line ends of a serial console are its own.
    if format.counts_from_boot() && format.platform() != Platform::Unknown {
        return format.platform();
    }
    let text = texts.first().map(Vec::as_slice).unwrap_or_default();
    let line_ends = memchr::memchr_iter(b'\n', text).count();
    let carriage = text.windows(2).filter(|pair| pair == b"\r\n").count();
    if matches!(source.encoding, Encoding::Utf16Le) || (line_ends > 0 && carriage * 2 > line_ends) {
        Platform::Windows
    } else {
        format.platform()
    }
}

/// A host is one system: what is known of one of its sources holds for those that do not show it.
pub(super) fn platforms_by_host(sources: &mut [Source]) {
    let known: std::collections::HashMap<String, Platform> = sources
        .iter()
        .filter(|source| source.platform != Platform::Unknown)
        .filter_map(|source| source.host.clone().map(|host| (host, source.platform)))
        .collect();
    for source in sources.iter_mut().filter(|source| source.platform == Platform::Unknown) {
        if let Some(platform) = source.host.as_ref().and_then(|host| known.get(host)) {
            source.platform = *platform;
        }
    }
}
