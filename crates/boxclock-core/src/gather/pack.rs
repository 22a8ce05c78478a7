//! Carrying out a plan: copying files, cutting them to the window, running commands, and sealing all of it into a box.

use std::fs::File;
use std::io::{self, Read, Seek, SeekFrom, Write};
use std::path::{Path, PathBuf};
use std::process::Command;
use std::time::Duration;

use sha2::{Digest, Sha256};
use zip::ZipWriter;
use zip::write::SimpleFileOptions;

use super::fetch::fetch_all;
use super::plan::{PackOptions, Plan, PlannedFile, Wanted, plan};
use super::seal::{Cut, SealedFile, SealedWindow, Unreadable, Why};
use super::watch::Stage;
use super::window::{self, CutPart, Looked, Part};
use super::{CopyError, SEAL_NAME, SEAL_VERSION, SIGNATURE_NAME, STORY_NAME, Seal, Signer, command, copy_hashed};
use crate::case::{FileFound, find_files};
use crate::container::{self, Kind};
use crate::facts;
use crate::source::Class;
use crate::text::hex;
use crate::work::Work;
use crate::{Error, Result, clock, crash, limits, new_file, platform};

/// A box that has been written.
#[derive(Clone, Debug)]
pub struct Packed {
    /// Its seal.
    pub seal: Seal,
}

impl Packed {
    /// What came into the box at `into`, for people.
    pub fn summary(&self, into: &Path) -> String {
        let seal = &self.seal;
        let bytes: u64 = seal.files.iter().map(|file| file.size).sum();
        let (files, left) = (seal.files.len(), seal.unreadable.len());
        let mut text = format!(
            "{}: {}, {}, {left} left out",
            into.display(),
            crate::many(files, "file"),
            crate::many(bytes, "byte")
        );
        if seal.window.is_some() {
            let cut = seal.files.iter().filter(|file| file.cut.is_some()).count();
            text.push_str(&format!(", {cut} cut to the window, {} outside of it", seal.outside.len()));
        }
        text
    }
}

/// Gathers everything into a new box and seals it.
///
/// The box is written under a temporary name in the same folder and renamed when it is complete and on the disk. What
/// cannot be read is listed in the seal with the reason.
///
/// # Errors
/// When a local path does not exist, the box exists already, it cannot be written (disk full…), or the work is cancelled.
/// Nothing stands under the box's name then.
pub fn pack(options: &PackOptions, work: &Work) -> Result<Packed> {
    free_name(&options.into)?;
    let plan = plan(options, work)?;
    seal_plan(&plan, options, work)
}

/// A sealed box is never changed.
pub(super) fn free_name(into: &Path) -> Result<()> {
    if into.exists() {
        return Err(Error::new(format!("{} exists. A sealed box is never changed: name another file", into.display())));
    }
    Ok(())
}

/// A file that is ready to be put into the box.
pub(super) struct Ready {
    pub file: PlannedFile,
    /// Where its bytes are.
    pub path: PathBuf,
    pub part: Part,
}

/// Gathers what a plan lists.
///
/// # Errors
/// As [`pack`].
pub(super) fn seal_plan(plan: &Plan, options: &PackOptions, work: &Work) -> Result<Packed> {
    let into = &options.into;
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
        window: options
            .window
            .map(|window| SealedWindow { from: clock::to_rfc3339(window.from), to: clock::to_rfc3339(window.to) }),
        recipes: plan.recipes.clone(),
        hosts: plan.hosts.clone(),
        unreadable: plan.left_out.clone(),
        marks: options.marks.clone(),
        ..Seal::default()
    };
    let mut writer = BoxWriter::new(into, folder)?;
    let staging =
        tempfile::Builder::new().prefix(new_file::UNFINISHED).tempdir_in(folder).map_err(|e| cannot_write(&e))?;
    let is_here = |file: &&PlannedFile| matches!(file.wanted, Wanted::Local(_) | Wanted::Symbols(_));
    let local = plan.files.iter().filter(is_here);
    let to_copy: u64 = local.clone().map(|file| file.size).sum();
    let to_fetch: u64 = plan.files.iter().filter(|file| !is_here(file)).map(|file| file.size).sum();
    work.set_total(to_copy + 2 * to_fetch);
    let fetched = fetch_all(plan, options, staging.path(), work)?;
    seal.commands = fetched.commands;
    seal.unreadable.extend(fetched.unreadable);
    let mut ready = fetched.ready;
    let local: Vec<PlannedFile> = local.cloned().collect();
    for (index, file) in local.into_iter().enumerate() {
        let path = match &file.wanted {
            Wanted::Local(path) => path.clone(),
            Wanted::Symbols(path) => {
                let staged = staging.path().join(format!("symbols-{index}"));
                if let Err(reason) = stage_symbols(path, &staged) {
                    let (origin, host, class) = (file.origin, file.host, file.class);
                    seal.unreadable.push(Unreadable { origin, host, reason, why: Why::CannotRead, class });
                    continue;
                }
                staged
            }
            Wanted::Remote(_) | Wanted::Output => continue,
        };
        ready.push(Ready { path, part: Part::Whole, file });
    }
    // In the order of their hosts and names, wherever they came from.
    ready.sort_by(|a, b| a.file.member.cmp(&b.file.member));
    for output in fetched.outputs {
        ready.push(output);
    }
    if ready.is_empty() {
        let first = seal.unreadable.first().map(|left| format!(": {}: {}", left.origin, left.reason));
        return Err(Error::new(format!(
            "nothing to pack, so no box was written{}",
            first.unwrap_or_else(|| ": there are no files where it was told to look".to_owned())
        )));
    }
    if let Some(snapshot) = &options.since {
        for ready in ready.iter_mut().filter(|ready| {
            !ready.file.is_timeless && !matches!(ready.file.class, Some(Class::Facts | Class::Configuration))
        }) {
            ready.part = snapshot.part(&ready.file, &ready.path);
        }
    } else if let Some(window) = options.window {
        let looked: Vec<Looked> = ready.iter().map(|ready| looked_at(ready, &seal)).collect();
        for (ready, part) in ready.iter_mut().zip(window::parts(&looked, window, options.reading.clone(), work)?) {
            ready.part = part;
        }
        work.set_total(ready.iter().map(|ready| ready.file.size).sum());
    }
    for ready in ready {
        let host = ready.file.host.clone();
        // Files of remote hosts were counted when they were brought here; what commands print is no file of the host.
        let is_new = is_here(&&ready.file);
        options.watch.stage(&host, &Stage::Packing);
        put(&mut writer, ready, &mut seal, &options.work_of(&host, work))?;
        if is_new {
            options.watch.file_done(&host);
        }
    }
    facts_of_hosts(plan, options, &mut writer, &mut seal, work)?;
    for host in &plan.hosts {
        let stopped = options.work_of(&host.label, work).stopped_alone();
        options.watch.stage(&host.label, &stopped.map_or(Stage::Done, |stopped| Stage::Stopped(stopped.to_string())));
    }
    for (path, member) in own_files(options.own_cards) {
        let file = PlannedFile {
            host: String::new(),
            origin: path.display().to_string(),
            member,
            class: None,
            recipe: None,
            may_cut: false,
            is_timeless: true,
            most_bytes: u64::MAX,
            size: 0,
            modified: 0,
            wanted: Wanted::Local(path.clone()),
        };
        put(&mut writer, Ready { file, path, part: Part::Whole }, &mut seal, work)?;
    }
    for (name, text) in &options.codes {
        let held = tempfile::NamedTempFile::new().and_then(|mut held| held.write_all(text.as_bytes()).map(|()| held));
        let held = held.map_err(|error| cannot_write(&error))?;
        let file = PlannedFile {
            host: String::new(),
            origin: name.clone(),
            member: format!("codes/{name}"),
            class: None,
            recipe: None,
            may_cut: false,
            is_timeless: true,
            most_bytes: u64::MAX,
            size: text.len() as u64,
            modified: options.now,
            wanted: Wanted::Local(held.path().to_path_buf()),
        };
        put(&mut writer, Ready { file, path: held.path().to_path_buf(), part: Part::Whole }, &mut seal, work)?;
    }
    let json = |value: serde_json::Result<String>| value.map_err(|error| cannot_write(&error));
    let story = json(serde_json::to_string_pretty(&options.story))?;
    seal.story_sha256 = Some(hex(&Sha256::digest(&story)));
    writer.add_text(STORY_NAME, &story)?;
    writer.add_seal(&json(serde_json::to_string_pretty(&seal))?, options.signer.as_deref())?;
    writer.finish()?;
    Ok(Packed { seal })
}

/// Writes the symbols and unwind tables of a program to a file of their own.
fn stage_symbols(program: &Path, to: &Path) -> std::result::Result<(), String> {
    let mut bytes = Vec::new();
    let opened = platform::open_regular(program).map_err(|error| error.to_string())?;
    opened.take(limits::PROGRAM_BYTES).read_to_end(&mut bytes).map_err(|error| error.to_string())?;
    let small = crash::symbols_only(&bytes).ok_or("its sections cannot be told apart: take it whole")?;
    std::fs::write(to, small).map_err(|error| error.to_string())
}

/// A box that is being written under a temporary name.
pub(super) struct BoxWriter {
    into: PathBuf,
    zip: ZipWriter<io::BufWriter<tempfile::NamedTempFile>>,
}

impl BoxWriter {
    pub(super) fn new(into: &Path, folder: &Path) -> Result<Self> {
        new_file::sweep(folder, &[new_file::UNFINISHED]);
        let temporary = tempfile::Builder::new()
            .prefix(new_file::UNFINISHED)
            .suffix(".part")
            .tempfile_in(folder)
            .map_err(|error| Error::new(format!("cannot write {}: {error}", into.display())))?;
        let zip = ZipWriter::new(io::BufWriter::with_capacity(1 << 20, temporary));
        Ok(Self { into: into.to_path_buf(), zip })
    }

    fn cannot(&self, error: &dyn std::fmt::Display) -> Error {
        Error::new(format!("cannot write {}: {error}", self.into.display()))
    }

    /// Adds a member; gives its size and SHA-256, or why `from` cannot be read: nothing of it is in the box then.
    ///
    /// # Errors
    /// When the box cannot be written, or the work is cancelled.
    pub(super) fn add(
        &mut self,
        member: &str,
        from: &mut impl Read,
        (is_packed, most_bytes): (bool, u64),
        work: &Work,
    ) -> Result<std::result::Result<(u64, String), String>> {
        let options = member_options(is_packed);
        self.zip.start_file(member, options).map_err(|error| self.cannot(&error))?;
        let reason = match copy_hashed(from, &mut self.zip, most_bytes, work) {
            Ok(copied) => return Ok(Ok(copied)),
            Err(CopyError::Read(error)) => error.to_string(),
            Err(CopyError::TooLarge) => format!("larger than the {} MiB that are taken", most_bytes >> 20),
            Err(CopyError::Write(error)) => return Err(self.cannot(&error)),
            Err(CopyError::Cancelled) => match work.stopped_alone() {
                Some(stopped) => stopped.to_string(),
                None => return Err(Error::Cancelled),
            },
        };
        self.zip.abort_file().map_err(|error| self.cannot(&error))?;
        Ok(Err(reason))
    }

    pub(super) fn add_text(&mut self, member: &str, text: &str) -> Result<()> {
        let options = SimpleFileOptions::default()
            .compression_method(zip::CompressionMethod::Deflated)
            .last_modified_time(zip::DateTime::default())
            .large_file(text.len() as u64 >= u64::from(u32::MAX))
            .unix_permissions(0o644);
        self.zip.start_file(member, options).map_err(|error| self.cannot(&error))?;
        self.zip.write_all(text.as_bytes()).map_err(|error| self.cannot(&error))
    }

    /// Adds the seal, and the signature over it.
    pub(super) fn add_seal(&mut self, seal: &str, signer: Option<&Signer>) -> Result<()> {
        self.add_text(SEAL_NAME, seal)?;
        let Some(signer) = signer else { return Ok(()) };
        let signature = serde_json::to_string_pretty(&signer.sign(seal.as_bytes()));
        self.add_text(SIGNATURE_NAME, &signature.map_err(|error| self.cannot(&error))?)
    }

    /// Completes the box: its name appears when everything is on the disk.
    pub(super) fn finish(self) -> Result<()> {
        let into = self.into;
        let cannot = |error: &dyn std::fmt::Display| Error::new(format!("cannot write {}: {error}", into.display()));
        let buffered = self.zip.finish().map_err(|error| cannot(&error))?;
        let temporary = buffered.into_inner().map_err(|error| cannot(error.error()))?;
        temporary.as_file().sync_all().map_err(|error| cannot(&error))?;
        temporary.persist_noclobber(&into).map_err(|error| cannot(&error.error))?;
        // The name itself is on the disk when its folder is.
        let folder = into.parent().filter(|folder| !folder.as_os_str().is_empty()).unwrap_or(Path::new("."));
        File::open(folder).and_then(|folder| folder.sync_all()).map_err(|error| cannot(&error))
    }
}

/// Members carry a fixed time: the seal holds the real ones, and equal input gives equal boxes.
fn member_options(is_packed: bool) -> SimpleFileOptions {
    let method = if is_packed { zip::CompressionMethod::Stored } else { zip::CompressionMethod::Deflated };
    SimpleFileOptions::default()
        .compression_method(method)
        .compression_level((!is_packed).then_some(1))
        .last_modified_time(zip::DateTime::default())
        .large_file(true)
        .unix_permissions(0o644)
}

fn looked_at(ready: &Ready, seal: &Seal) -> Looked {
    let class = ready.file.class;
    let is_dump = class == Some(crate::source::Class::Crash);
    Looked {
        file: FileFound {
            path: ready.path.clone(),
            name: ready.file.member.clone(),
            modified: ready.file.modified,
            len_bytes: std::fs::metadata(&ready.path).map_or(ready.file.size, |data| data.len()),
        },
        host: ready.file.host.clone(),
        zone: seal.host_zone(&ready.file.host).filter(|_| !ready.file.host.is_empty()),
        may_cut: ready.file.may_cut,
        pins: Vec::new(),
        is_timeless: ready.file.is_timeless || (class.is_some_and(|class| !class.is_over_time()) && !is_dump),
    }
}

/// Puts one file, or what was cut from it, into the box; or notes why not.
fn put(writer: &mut BoxWriter, ready: Ready, seal: &mut Seal, work: &Work) -> Result<()> {
    let Ready { file, path, part } = ready;
    let left_out = |reason: String, why: Why| Unreadable {
        origin: file.origin.clone(),
        host: file.host.clone(),
        reason,
        why,
        class: file.class,
    };
    let unreadable = |reason: String| left_out(reason, Why::CannotRead);
    let cut = match part {
        Part::Outside(reason) => {
            seal.outside.push(left_out(reason, Why::OutsideWindow));
            return Ok(());
        }
        Part::Whole => None,
        Part::Cut(cut) => Some(cut),
    };
    let opened = platform::open_regular(&path).and_then(|file| Ok((file.metadata()?.len(), file)));
    let (len_bytes, mut from) = match opened {
        Ok(opened) => opened,
        Err(error) => {
            seal.unreadable.push(unreadable(error.to_string()));
            return Ok(());
        }
    };
    let (added, cut) = match &cut {
        None => {
            if len_bytes > file.most_bytes {
                let reason =
                    format!("{} MiB: larger than the {} that are taken", len_bytes >> 20, file.most_bytes >> 20);
                seal.unreadable.push(unreadable(reason));
                return Ok(());
            }
            let is_packed = is_packed(&mut from);
            // What is written while it is copied is not waited for.
            (writer.add(&file.member, &mut from.take(len_bytes), (is_packed, u64::MAX), work)?, None)
        }
        Some(part) => match copy_of_part(part, &mut from, work) {
            Ok((mut from, mut cut)) => {
                cut.first = part.span.map(|(first, _)| clock::to_rfc3339(first));
                cut.last = part.span.map(|(_, last)| clock::to_rfc3339(last));
                (writer.add(&file.member, &mut from, (false, file.most_bytes), work)?, Some(cut))
            }
            Err(error) => {
                let stopped = work.stopped_alone();
                if stopped.is_none() {
                    work.check()?;
                }
                (Err(stopped.map_or_else(|| error.to_string(), |stopped| stopped.to_string())), None)
            }
        },
    };
    match added {
        Ok((size, sha256)) => seal.files.push(SealedFile {
            path: file.member,
            size,
            sha256,
            origin: file.origin,
            host: file.host,
            modified: clock::to_rfc3339(file.modified),
            class: file.class,
            recipe: file.recipe,
            cut,
            only: matches!(file.wanted, Wanted::Symbols(_)).then(|| "symbols".to_owned()),
        }),
        Err(reason) => seal.unreadable.push(unreadable(reason)),
    }
    Ok(())
}

/// Whether compressing would only cost time.
fn is_packed(file: &mut File) -> bool {
    let mut start = vec![0; container::START_BYTES];
    let read = file.read(&mut start).unwrap_or(0);
    start.truncate(read);
    // The file is read from its start again; where it cannot be, copying says so.
    let _ = file.seek(SeekFrom::Start(0));
    Kind::of(&start).is_some_and(|kind| kind != Kind::Tar)
}

/// The head and the part of a text, and what is noted about it. The original is read once for its hash.
fn copy_of_part(part: &CutPart, original: &mut File, work: &Work) -> io::Result<(Box<dyn Read>, Cut)> {
    let (original_size, original_sha256) =
        copy_hashed(original, &mut io::sink(), u64::MAX, work).map_err(|error| match error {
            CopyError::Read(error) | CopyError::Write(error) => error,
            CopyError::TooLarge | CopyError::Cancelled => io::Error::other("cancelled"),
        })?;
    let cut = Cut {
        original_size,
        original_sha256,
        head_bytes: part.head_bytes,
        from_byte: part.from,
        to_byte: part.to,
        ..Cut::default()
    };
    Ok((part_of_file(part)?, cut))
}

/// The bytes of a part of a text.
pub(super) fn part_of_file(part: &CutPart) -> io::Result<Box<dyn Read>> {
    let mut all: Box<dyn Read> = Box::new(io::empty());
    for (from, to) in window::ranges(part) {
        let mut file = platform::open_regular(&part.path)?;
        file.seek(SeekFrom::Start(from))?;
        all = Box::new(all.chain(file.take(to - from)));
    }
    Ok(all)
}

/// Gathers the facts of hosts and puts them into the box.
fn facts_of_hosts(
    plan: &Plan,
    options: &PackOptions,
    writer: &mut BoxWriter,
    seal: &mut Seal,
    work: &Work,
) -> Result<()> {
    const TIMEOUT: Duration = Duration::from_secs(60);
    for (label, root) in &plan.facts {
        work.check()?;
        let work = &options.work_of(label, work);
        let remote = plan.remotes.iter().find(|(other, _)| other == label).map(|(_, remote)| remote);
        let said = match (root, remote) {
            (Some(root), _) => Ok(facts::of_root(root, options.now)),
            (None, Some(remote)) => {
                remote.say(facts::SCRIPT, work).map(|output| Some(facts::parse_live(&output, options.now)))
            }
            (None, None) => {
                let mut out = Vec::new();
                let mut shell = Command::new("sh");
                command::run(shell.arg("-s"), facts::SCRIPT, &mut out, (64 << 20, TIMEOUT), work)
                    .map(|_| Some(facts::parse_live(&String::from_utf8_lossy(&out), options.now)))
                    .map_err(|error| Error::caused("cannot ask this machine for its facts", error))
            }
        };
        let facts = match said {
            Ok(Some(facts)) => facts,
            Ok(None) => continue,
            Err(error) => {
                let stopped = work.stopped_alone();
                if stopped.is_none() {
                    work.check()?;
                }
                let reason = stopped.map_or_else(|| error.to_string(), |stopped| stopped.to_string());
                let origin = "facts".to_owned();
                let class = Some(Class::Facts);
                let why = if stopped.is_some() { Why::Stopped } else { Why::CannotRead };
                seal.unreadable.push(Unreadable { origin, host: label.clone(), reason, why, class });
                continue;
            }
        };
        let json = facts.to_json();
        let path = format!("hosts/{}/{}", label.replace(['/', '\\'], "_"), facts::FACTS_NAME);
        if let Ok((size, sha256)) = writer.add(&path, &mut json.as_bytes(), (false, u64::MAX), work)? {
            seal.files.push(SealedFile {
                path,
                size,
                sha256,
                origin: "facts".into(),
                host: label.clone(),
                modified: clock::to_rfc3339(options.now),
                class: Some(Class::Facts),
                ..SealedFile::default()
            });
        }
    }
    Ok(())
}

/// The formats, catalogues of codes and words of installers of the user: without them others would read the logs in the box worse. Fault cards only where
/// they are asked for.
fn own_files(cards: bool) -> Vec<(PathBuf, String)> {
    let mut own = Vec::new();
    for kind in ["formats", "codes", "installers"].into_iter().chain(cards.then_some("cards")) {
        let folder = platform::config_dir().map(|folder| folder.join(kind)).filter(|folder| folder.is_dir());
        // What cannot be listed is named when it is used.
        let files = folder.and_then(|folder| find_files(&folder, &mut Vec::new()).ok()).unwrap_or_default();
        own.extend(files.into_iter().filter_map(|file| {
            let member = format!("{kind}/{}", file.path.file_name()?.to_str()?);
            super::is_own_file(&member).then_some((file.path, member))
        }));
    }
    own
}
