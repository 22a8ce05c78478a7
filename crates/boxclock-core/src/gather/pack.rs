//! Sealing files into a box.

use std::collections::HashSet;
use std::fs::File;
use std::path::{Component, Path, PathBuf};

use zip::ZipWriter;
use zip::write::SimpleFileOptions;

use super::{CopyError, SEAL_NAME, SEAL_VERSION, STORY_NAME, Seal, SealedFile, SealedHost, Unreadable, copy_hashed};
use crate::case::{FileFound, LeftOut, find_files};
use crate::logbook::Story;
use crate::work::Work;
use crate::{Error, Result, clock, platform};

/// What to put into a box.
#[derive(Clone, Debug, Default)]
pub struct PackOptions {
    /// Files and folders of this machine.
    pub paths: Vec<PathBuf>,
    /// Folders (or files) of other hosts, with the host's label.
    pub hosts: Vec<(String, PathBuf)>,
    /// The box to write.
    pub into: PathBuf,
    /// The story to put in.
    pub story: Story,
    /// The case's zone.
    pub zone: Option<String>,
    /// Zones of hosts, by label.
    pub host_zones: Vec<(String, String)>,
    /// When the box is sealed, UTC nanoseconds.
    pub now: i64,
}

/// A box that has been written.
#[derive(Clone, Debug)]
pub struct Packed {
    /// Its seal.
    pub seal: Seal,
}

/// Copies everything into a new box and seals it.
///
/// The box is written under a temporary name in the same folder and renamed when it is complete and on the disk. What
/// cannot be read is listed in the seal with the reason.
///
/// # Errors
/// When a path does not exist, the box exists already, it cannot be written (disk full…), or the work is cancelled.
/// Nothing stands under the box's name then.
pub fn pack(options: &PackOptions, work: &Work) -> Result<Packed> {
    let into = &options.into;
    if into.exists() {
        return Err(Error::new(format!(
            "{} exists already: a sealed box is never changed, choose another name",
            into.display()
        )));
    }
    let folder = match into.parent() {
        Some(folder) if !folder.as_os_str().is_empty() => folder,
        _ => Path::new("."),
    };
    let cannot_write = |error: &dyn std::fmt::Display| Error::new(format!("cannot write {}: {error}", into.display()));
    let mut seal = Seal {
        version: SEAL_VERSION,
        sealed_at: clock::to_rfc3339(options.now),
        sealed_by: concat!("boxclock ", env!("CARGO_PKG_VERSION")).into(),
        zone: options.zone.clone(),
        ..Seal::default()
    };
    let mut wanted = list(options, &mut seal)?;
    wanted.extend(own_formats());
    work.set_total(wanted.iter().map(|wanted| wanted.file.len_bytes).sum());
    let temporary = tempfile::Builder::new()
        .prefix(".boxclock-")
        .suffix(".part")
        .permissions(platform::shared_file())
        .tempfile_in(folder)
        .map_err(|error| cannot_write(&error))?;
    let mut zip = ZipWriter::new(std::io::BufWriter::with_capacity(1 << 20, temporary));
    for Wanted { file, host, member } in wanted {
        let unreadable = |reason: String| Unreadable { origin: file.name.clone(), host: host.clone(), reason };
        let mut from = match File::open(&file.path) {
            Ok(from) => from,
            Err(error) => {
                seal.unreadable.push(unreadable(error.to_string()));
                continue;
            }
        };
        zip.start_file(&member, member_options(true)).map_err(|error| cannot_write(&error))?;
        match copy_hashed(&mut from, &mut zip, u64::MAX, work) {
            Ok((size, sha256)) => seal.files.push(SealedFile {
                path: member,
                size,
                sha256,
                origin: file.name,
                host,
                modified: clock::to_rfc3339(file.modified),
            }),
            Err(CopyError::Read(error)) => {
                seal.unreadable.push(unreadable(error.to_string()));
                zip.abort_file().map_err(|error| cannot_write(&error))?;
            }
            Err(CopyError::Write(error)) => return Err(cannot_write(&error)),
            Err(CopyError::Cancelled | CopyError::TooLarge) => return Err(Error::new("cancelled; no box was written")),
        }
    }
    let mut add_json = |name: &str, text: String| {
        zip.start_file(name, member_options(false)).map_err(|error| cannot_write(&error))?;
        std::io::Write::write_all(&mut zip, text.as_bytes()).map_err(|error| cannot_write(&error))
    };
    let json = |value: serde_json::Result<String>| value.map_err(|error| cannot_write(&error));
    add_json(STORY_NAME, json(serde_json::to_string_pretty(&options.story))?)?;
    add_json(SEAL_NAME, json(serde_json::to_string_pretty(&seal))?)?;
    let buffered = zip.finish().map_err(|error| cannot_write(&error))?;
    let temporary = buffered.into_inner().map_err(|error| cannot_write(error.error()))?;
    temporary.as_file().sync_all().map_err(|error| cannot_write(&error))?;
    temporary.persist_noclobber(into).map_err(|error| cannot_write(&error.error))?;
    Ok(Packed { seal })
}

/// Members carry a fixed time: the seal holds the real ones, and equal input gives equal boxes.
fn member_options(large: bool) -> SimpleFileOptions {
    SimpleFileOptions::default()
        .compression_method(zip::CompressionMethod::Deflated)
        .compression_level(Some(3))
        .last_modified_time(zip::DateTime::default())
        .large_file(large)
        .unix_permissions(0o644)
}

struct Wanted {
    file: FileFound,
    host: String,
    member: String,
}

/// The formats of the user: without them others would read the logs in the box worse.
fn own_formats() -> Vec<Wanted> {
    let folder = platform::config_dir().map(|folder| folder.join("formats")).filter(|folder| folder.is_dir());
    // What cannot be listed is named when the formats are used.
    let files = folder.and_then(|folder| crate::case::find_files(&folder, &mut Vec::new()).ok()).unwrap_or_default();
    let wanted = files.into_iter().filter_map(|file| {
        let member = format!("formats/{}", file.path.file_name()?.to_str()?);
        super::is_own_format(&member).then(|| Wanted { file, host: String::new(), member })
    });
    wanted.collect()
}

fn list(options: &PackOptions, seal: &mut Seal) -> Result<Vec<Wanted>> {
    let here = this_host();
    let mut taken = HashSet::new();
    let mut wanted = Vec::new();
    let labelled = options.hosts.iter().map(|(label, path)| (label.clone(), path, true));
    for (label, path, below) in options.paths.iter().map(|path| (here.clone(), path, false)).chain(labelled) {
        let root_zone = path.is_dir().then(|| platform::zone_of_root(path)).flatten();
        let given = options.host_zones.iter().find(|(host, _)| *host == label).map(|(_, zone)| zone.clone());
        note_host(seal, &label, given.or(root_zone), options.now, !below);
        let mut left_out = Vec::new();
        let root = std::fs::canonicalize(path).map_err(|error| Error::at(path, "cannot read", error))?;
        for file in find_files(path, &mut left_out)? {
            let real = std::fs::canonicalize(&file.path).unwrap_or_else(|_| file.path.clone());
            if !real.starts_with(&root) {
                let reason = format!("a link out of the folder, to {}", real.display());
                left_out.push(LeftOut { path: file.name, reason });
                continue;
            }
            let member = member_name(&label, path, &file.path, below, &mut taken);
            wanted.push(Wanted { file, host: label.clone(), member });
        }
        let unreadable =
            left_out.into_iter().map(|left| Unreadable { origin: left.path, host: label.clone(), reason: left.reason });
        seal.unreadable.extend(unreadable);
    }
    Ok(wanted)
}

/// Notes a host once. The clock of another host cannot be asked from its folder; this machine's is both.
fn note_host(seal: &mut Seal, label: &str, zone: Option<String>, now: i64, here: bool) {
    if !seal.hosts.iter().any(|host| host.label == label) {
        seal.hosts.push(SealedHost {
            label: label.to_owned(),
            zone,
            clock_there: here.then(|| clock::to_rfc3339(now)),
            clock_here: clock::to_rfc3339(now),
        });
    }
}

/// `hosts/LABEL/` and the path below the given folder (or, for paths of this machine, the whole path).
fn member_name(label: &str, given: &Path, file: &Path, below: bool, taken: &mut HashSet<String>) -> String {
    let inside = if below && given.is_dir() { file.strip_prefix(given).unwrap_or(file) } else { file };
    let mut parts: Vec<String> = vec!["hosts".into(), label.replace(['/', '\\'], "_")];
    parts.extend(inside.components().filter_map(|part| match part {
        Component::Normal(part) => Some(part.to_string_lossy().into_owned()),
        _ => None,
    }));
    let name = parts.join("/");
    let mut unique = name.clone();
    let mut number = 2;
    while !taken.insert(unique.clone()) {
        unique = format!("{name}~{number}");
        number += 1;
    }
    unique
}

/// The label of this machine: its host name.
fn this_host() -> String {
    let name = std::fs::read_to_string("/proc/sys/kernel/hostname").unwrap_or_default();
    let name = name.trim();
    if name.is_empty() { "here".to_owned() } else { name.to_owned() }
}
