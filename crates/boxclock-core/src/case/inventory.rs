//! Finding the files of a case, and recognising what each of them is.

use std::collections::HashSet;
use std::fs::File;
use std::io::Read;
use std::path::{Path, PathBuf};
use std::sync::Arc;
use std::time::UNIX_EPOCH;

use sha2::{Digest, Sha256};

use super::{Case, LeftOut, Options, Reader, Source, ZoneFrom, cannot_read};
use crate::clock::Zone;
use crate::code::Platform;
use crate::gather::{self, OpenBox};
use crate::logbook::Story;
use crate::text::{Encoding, SourceFile, bare_line};
use crate::work::{Work, parallel};
use crate::{Result, crash, format, limits, platform};

/// A file found below a path.
#[derive(Clone, Debug)]
pub struct FileFound {
    /// Where it is.
    pub path: PathBuf,
    /// Its name: the path as given, with what is below it.
    pub name: String,
    /// When it was last modified, UTC nanoseconds.
    pub modified: i64,
    /// Its size in bytes.
    pub len_bytes: u64,
}

/// Lists the regular files at or below `path`, in order of name; what cannot be read goes to `left_out`.
///
/// Links to files are followed, each file is listed once. Folder loops, FIFOs, sockets and devices are left out.
///
/// # Errors
/// When `path` itself does not exist or cannot be read.
pub fn find_files(path: &Path, left_out: &mut Vec<LeftOut>) -> Result<Vec<FileFound>> {
    let top = std::fs::metadata(path).map_err(|error| cannot_read(path, error))?;
    if top.is_dir() {
        std::fs::read_dir(path).map_err(|error| cannot_read(path, error))?;
    }
    let mut seen = HashSet::new();
    let mut files = Vec::new();
    let walk = walkdir::WalkDir::new(path).follow_links(true).max_depth(limits::FOLDER_DEPTH).sort_by_file_name();
    for entry in walk {
        let entry = match entry {
            Ok(entry) => entry,
            Err(error) => {
                let name = error.path().unwrap_or(path).display().to_string();
                let reason = if error.loop_ancestor().is_some() {
                    "a link that leads back to a folder above it".to_owned()
                } else if error.path().is_some_and(|path| path.is_symlink() && !path.exists()) {
                    "a link to nothing".to_owned()
                } else {
                    error.io_error().map_or_else(|| error.to_string(), ToString::to_string)
                };
                left_out.push(LeftOut { path: name, reason });
                continue;
            }
        };
        let kind = entry.file_type();
        let name = entry.path().to_string_lossy().into_owned();
        if kind.is_dir() {
            if entry.depth() == limits::FOLDER_DEPTH {
                let reason = format!("folders are entered {} levels deep", limits::FOLDER_DEPTH);
                left_out.push(LeftOut { path: name, reason });
            }
            continue;
        }
        if let Some(what) = platform::special_kind(kind) {
            left_out.push(LeftOut { path: name, reason: format!("{what}, not a file") });
            continue;
        }
        if files.len() >= limits::FILES {
            left_out.push(LeftOut { path: name, reason: format!("more than {} files", limits::FILES) });
            break;
        }
        let same_file = std::fs::canonicalize(entry.path()).unwrap_or_else(|_| entry.path().to_path_buf());
        if !seen.insert(same_file) {
            continue;
        }
        match entry.metadata() {
            Ok(data) => files.push(FileFound {
                path: entry.path().to_path_buf(),
                name,
                modified: modified_ns(&data),
                len_bytes: data.len(),
            }),
            Err(error) => left_out.push(LeftOut { path: name, reason: error.to_string() }),
        }
    }
    Ok(files)
}

fn modified_ns(data: &std::fs::Metadata) -> i64 {
    let since = data.modified().ok().and_then(|time| time.duration_since(UNIX_EPOCH).ok());
    since.and_then(|since| i64::try_from(since.as_nanos()).ok()).unwrap_or(0)
}

/// A file that is to become a source.
struct Candidate {
    file: FileFound,
    host: Option<String>,
    zone: Option<Zone>,
}

/// Opens a case, see [`Case::open`].
pub(super) fn open(paths: &[PathBuf], options: Options, work: &Work) -> Result<Case> {
    let mut left_out = Vec::new();
    let mut candidates = Vec::new();
    let mut seal = None;
    let mut story = Story::default();
    let mut name = None;
    let mut zone = options.zone.clone();
    let labelled = options.hosts.iter().map(|(label, path)| (Some(label.clone()), path));
    for (label, path) in paths.iter().map(|path| (None, path)).chain(labelled) {
        if gather::is_box(path)? {
            let opened: OpenBox = gather::unpack(path, work)?;
            left_out.extend(opened.left_out);
            zone = zone.or_else(|| opened.seal.zone.as_deref().and_then(|text| Zone::parse(text).ok()));
            for (file, host) in opened.files {
                let host_zone = host.as_deref().and_then(|host| opened.seal.host_zone(host));
                candidates.push(Candidate { file, host, zone: host_zone });
            }
            story = opened.story;
            seal = Some(opened.seal);
        } else {
            collect(path, label.as_deref(), &mut candidates, &mut left_out)?;
        }
        name.get_or_insert_with(|| case_name(path));
    }
    candidates.sort_by(|a, b| a.file.name.cmp(&b.file.name));
    let case_zone = zone.unwrap_or_else(Zone::utc);
    let looked = parallel(candidates.len(), work, |index| look(&candidates[index], &case_zone, &options));
    work.check()?;
    let mut sources = Vec::new();
    for (candidate, looked) in candidates.iter().zip(looked) {
        match looked {
            Ok(source) => sources.push(source),
            Err(reason) => left_out.push(LeftOut { path: candidate.file.name.clone(), reason }),
        }
    }
    platforms_by_host(&mut sources);
    Ok(Case {
        name: name.unwrap_or_default(),
        sources: Arc::new(sources),
        left_out,
        seal,
        story,
        zone: case_zone,
        logbook_path: logbook_path(paths, &options),
        options,
    })
}

fn collect(
    path: &Path,
    label: Option<&str>,
    candidates: &mut Vec<Candidate>,
    left_out: &mut Vec<LeftOut>,
) -> Result<()> {
    // A folder with `hosts/` in it is an unpacked box: names start there, and the next part is the host's label.
    let hosts = path.join("hosts");
    let unpacked_box = label.is_none() && hosts.is_dir();
    let host_zone = if unpacked_box { None } else { label.and_then(|_| platform::zone_of_root(path)) };
    let files = find_files(if unpacked_box { &hosts } else { path }, left_out)?;
    for mut file in files {
        let mut host = label.map(str::to_owned);
        let mut zone = host_zone.as_deref().and_then(|name| Zone::parse(name).ok());
        if unpacked_box && let Ok(below) = file.path.strip_prefix(path) {
            file.name = below.to_string_lossy().into_owned();
            host = below.components().nth(1).map(|part| part.as_os_str().to_string_lossy().into_owned());
            zone = host
                .as_ref()
                .and_then(|host| platform::zone_of_root(&hosts.join(host)))
                .and_then(|name| Zone::parse(&name).ok());
        }
        candidates.push(Candidate { file, host, zone });
    }
    Ok(())
}

fn case_name(path: &Path) -> String {
    let name = path.file_name().map_or_else(|| path.display().to_string(), |name| name.to_string_lossy().into_owned());
    name.strip_suffix(".box.zip").unwrap_or(&name).to_owned()
}

/// Beside a box; for folders and loose files, which are the user's and stay untouched, in the data folder.
fn logbook_path(paths: &[PathBuf], options: &Options) -> Option<PathBuf> {
    if let ([path], true) = (paths, options.hosts.is_empty())
        && let Some(name) =
            path.file_name().and_then(|name| name.to_str()).and_then(|name| name.strip_suffix(".box.zip"))
    {
        return Some(path.with_file_name(format!("{name}.logbook")));
    }
    let mut hash = Sha256::new();
    for path in paths.iter().chain(options.hosts.iter().map(|(_, path)| path)) {
        let full = std::fs::canonicalize(path).unwrap_or_else(|_| path.clone());
        hash.update(full.as_os_str().as_encoded_bytes());
        hash.update([0]);
    }
    let name = gather::hex(&hash.finalize());
    Some(platform::data_dir()?.join("logbooks").join(format!("{}.logbook", name.get(..16)?)))
}

/// Looks at the start, the middle and the end of a file and decides how it is read.
fn look(candidate: &Candidate, case_zone: &Zone, options: &Options) -> std::result::Result<Source, String> {
    let FileFound { path, name, modified, len_bytes } = candidate.file.clone();
    let mut start = Vec::new();
    File::open(&path)
        .and_then(|file| file.take(limits::SAMPLE_BYTES as u64).read_to_end(&mut start))
        .map_err(|error| error.to_string())?;
    let host_zone = candidate.host.as_ref().and_then(|host| options.host_zones.get(host)).or(options.zone.as_ref());
    let (zone, zone_from) = match (host_zone, &candidate.zone) {
        (Some(zone), _) => (zone.clone(), ZoneFrom::User),
        (None, Some(zone)) => (zone.clone(), ZoneFrom::Host),
        (None, None) => (case_zone.clone(), ZoneFrom::Case),
    };
    let mut source = Source {
        path,
        name,
        host: candidate.host.clone(),
        len_bytes,
        modified,
        encoding: Encoding::Binary,
        mark_bytes: 0,
        reader: Reader::Lines(format::detect(&[])),
        platform: Platform::Unknown,
        zone,
        zone_from,
    };
    if let Some(dump) = crash::recognise(&start) {
        source.reader = Reader::Dump(dump);
        return Ok(source);
    }
    (source.encoding, source.mark_bytes) = Encoding::by_mark(&start);
    if source.encoding == Encoding::Utf8 && !looks_like_text(&start) {
        return Err(format!("not text, and no format that is known ({})", kind_by_magic(&start)));
    }
    let samples = sample(&source, &start).map_err(|error| error.to_string())?;
    let decoded: Vec<_> = samples.iter().map(|sample| source.encoding.decode(sample)).collect();
    let lines: Vec<&[u8]> =
        decoded.iter().enumerate().flat_map(|(index, text)| sample_lines(text, index > 0)).collect();
    let detected = format::detect(&lines);
    source.reader = Reader::Lines(detected);
    source.platform = platform_of(&source, &decoded, detected.format.name());
    Ok(source)
}

/// The start of a file, and pieces of its middle and end where it is larger.
fn sample(source: &Source, start: &[u8]) -> std::io::Result<Vec<Vec<u8>>> {
    let piece = limits::SAMPLE_BYTES as u64;
    let mut samples = vec![start.get(source.mark_bytes as usize..).unwrap_or_default().to_vec()];
    if source.len_bytes > 4 * piece {
        let file = SourceFile::open(&source.path)?;
        for offset in [source.len_bytes / 2, source.len_bytes - piece] {
            samples.push(file.read(offset & !1, limits::SAMPLE_BYTES)?);
        }
    }
    Ok(samples)
}

/// The lines of a sample that are not blank, without the first of a piece from inside the file, which may be cut.
fn sample_lines(text: &[u8], inside: bool) -> impl Iterator<Item = &[u8]> {
    text.split(|byte| *byte == b'\n')
        .skip(usize::from(inside))
        .map(bare_line)
        .filter(|line| !line.is_empty())
        .take(1000)
}

/// Whether bytes are text: few control characters and, where they are not ASCII, mostly valid UTF-8 or one byte
/// encodings. NUL bytes do not count: a power loss leaves runs of them in good logs.
fn looks_like_text(bytes: &[u8]) -> bool {
    let solid = bytes.iter().filter(|byte| **byte != 0).count();
    let control = bytes.iter().filter(|byte| matches!(byte, 1..=8 | 11 | 12 | 14..=26 | 28..=31 | 127)).count();
    let nul = bytes.len() - solid;
    let text = String::from_utf8_lossy(bytes);
    let damaged = text.chars().filter(|c| *c == '\u{FFFD}').count();
    control * 20 <= solid && (solid > 0 || nul == 0) && damaged * 3 <= solid
}

fn kind_by_magic(start: &[u8]) -> &'static str {
    match start {
        [0x1F, 0x8B, ..] => "gzip data",
        [b'P', b'K', 3, 4, ..] => "a ZIP archive, but no box",
        [0xFD, b'7', b'z', b'X', b'Z', ..] => "xz data",
        [0x28, 0xB5, 0x2F, 0xFD, ..] => "zstd data",
        [b'B', b'Z', b'h', ..] => "bzip2 data",
        [0x7F, b'E', b'L', b'F', ..] => "a program",
        [b'M', b'Z', ..] => "a program",
        [b'S', b'Q', b'L', b'i', ..] => "a database",
        _ => "unknown data",
    }
}

/// The kind of system, as far as the file itself shows it.
fn platform_of(source: &Source, decoded: &[std::borrow::Cow<'_, [u8]>], format: &str) -> Platform {
    let text = decoded.first().map(std::convert::AsRef::as_ref).unwrap_or_default();
    let line_ends = memchr::memchr_iter(b'\n', text).count();
    let carriage = text.windows(2).filter(|pair| pair == b"\r\n").count();
    if matches!(source.encoding, Encoding::Utf16Le) || (line_ends > 0 && carriage * 2 > line_ends) {
        Platform::Windows
    } else if matches!(format, "rfc3164" | "rfc5424" | "dpkg") {
        Platform::Linux
    } else {
        Platform::Unknown
    }
}

/// A host is one system: what is known of one of its sources holds for those that do not show it.
fn platforms_by_host(sources: &mut [Source]) {
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
