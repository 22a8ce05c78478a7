//! Finding the files of a case.

use std::path::{Path, PathBuf};
use std::sync::Arc;

use sha2::{Digest, Sha256};

use super::look::{self, Known, look, platforms_by_host, zones_by_host};
use super::{Case, Document, LeftOut, Options, Reader, Source, Trouble, boot, generations};
use crate::clock::Zone;
use crate::code::{Catalogues, user};
use crate::crash::{self, ProgramFile};
use crate::decode::{self, Decoded, Text};
use crate::files::{FileFound, find_files};
use crate::format::LineFormat;
use crate::gather::recipe::{Matchers, Recipes};
use crate::gather::{self, OpenBox};
use crate::logbook::Story;
use crate::source::Class;
use crate::work::{Work, parallel};
use crate::{Result, container, format, limits, platform};

/// A file that is to become a source.
pub(super) struct Candidate {
    pub file: FileFound,
    pub host: Option<String>,
    pub zone: Option<Zone>,
    /// What it is for, if the seal says.
    pub class: Option<Class>,
    pub trouble: Vec<Trouble>,
    /// The text that a decoder made of it.
    pub decoded: Option<(&'static Decoded, Text)>,
}

/// Opens a case, see [`Case::open`].
pub(super) fn open(paths: &[PathBuf], options: Options, work: &Work) -> Result<Case> {
    let mut left_out = Vec::new();
    let mut candidates = Vec::new();
    let mut seal = None;
    let (mut box_formats, mut code_folders, mut card_folders) = (Vec::new(), Vec::new(), Vec::new());
    let mut installer_folders = Vec::new();
    let mut story = Story::default();
    let mut name = None;
    let mut zone = options.zone.clone();
    let labelled = options.hosts.iter().map(|(label, path)| (Some(label.clone()), path));
    for (label, path) in paths.iter().map(|path| (None, path)).chain(labelled) {
        if gather::is_box(path)? {
            let opened: OpenBox = gather::unpack(path, options.disk, work)?;
            left_out.extend(opened.left_out);
            box_formats.push(opened.formats);
            code_folders.push(opened.codes);
            card_folders.push(opened.cards);
            installer_folders.push(opened.installers);
            zone = zone.or_else(|| opened.seal.zone.as_deref().and_then(|text| Zone::parse(text).ok()));
            for (file, host, class) in opened.files {
                let zone = opened.seal.host_zone(&host);
                let host = Some(host).filter(|host| !host.is_empty());
                candidates.push(Candidate { file, host, zone, class, trouble: Vec::new(), decoded: None });
            }
            story = opened.story;
            seal = Some(opened.seal);
        } else {
            collect(path, label.as_deref(), &mut candidates, &mut left_out)?;
            if label.is_none() && path.is_dir() {
                story = take_story(path, &mut candidates, &mut left_out).unwrap_or(story);
            }
        }
        name.get_or_insert_with(|| case_name(path));
    }
    for kept in &options.kept {
        let (file, host) = (kept.found.clone(), kept.host.clone());
        let trouble =
            vec![Trouble::note("this file was deleted while it was followed; its lines stay until the program ends")];
        candidates.push(Candidate { file, host, zone: None, class: None, trouble, decoded: None });
    }
    if zone.is_none() && !story.zone.is_empty() {
        match Zone::parse(&story.zone) {
            Ok(of_site) => zone = Some(of_site),
            Err(error) => {
                left_out.push(LeftOut { path: format!("{} (zone)", gather::STORY_NAME), reason: error.to_string() });
            }
        }
    }
    let (formats, wrong) = own_formats(paths, box_formats);
    left_out.extend(wrong.into_iter().map(|(path, reason)| LeftOut { path, reason }));
    let catalogues = catalogues(paths, &code_folders, &mut left_out);
    let of_folders = || paths.iter().filter(|path| path.join("hosts").is_dir());
    card_folders.extend(of_folders().map(|path| path.join("cards")));
    installer_folders.extend(of_folders().map(|path| path.join("installers")));
    let case_zone = zone.unwrap_or_else(Zone::utc);
    let known = Known { case_zone: &case_zone, options: &options, formats: &formats };
    let documents = take_documents(&mut candidates);
    let (sources, programs) = std::thread::scope(|scope| {
        let (hand_over, found) = crossbeam_channel::bounded(1);
        // Reading and compiling all recipes takes as long as recognising a few files: beside it.
        let classified = scope.spawn(move || {
            let recipes = Recipes::load();
            let matchers = recipes.matchers();
            let mut sources: Vec<Source> = found.recv().unwrap_or_default();
            classify(&mut sources, &matchers);
            sources
        });
        let (sources, programs) = sources_of(candidates, &known, &mut left_out, work)?;
        let _ = hand_over.send(sources);
        let sources = classified.join().unwrap_or_else(|panic| std::panic::resume_unwind(panic));
        Ok((sources, programs))
    })?;
    Ok(Case {
        paths: paths.to_vec(),
        name: name.unwrap_or_default(),
        sources: Arc::new(sources),
        documents: Arc::new(documents),
        programs: Arc::new(programs),
        left_out,
        seal,
        story,
        zone: case_zone,
        logbook_path: logbook_path(paths, &options),
        options,
        formats,
        catalogues,
        card_folders,
        installer_folders,
    })
}

/// A case of single files, see [`Case::of_files`].
pub(super) fn of_files(
    files: Vec<(FileFound, Option<String>, Option<Zone>)>,
    options: Options,
    work: &Work,
) -> Result<Case> {
    let candidates = files.into_iter().map(|(file, host, zone)| {
        let (class, trouble, decoded) = (None, Vec::new(), None);
        Candidate { file, host, zone, class, trouble, decoded }
    });
    let (formats, _) = own_formats(&[], Vec::new());
    let mut left_out = Vec::new();
    let zone = options.zone.clone().unwrap_or_else(Zone::utc);
    let known = Known { case_zone: &zone, options: &options, formats: &formats };
    let (sources, programs) = sources_of(candidates.collect(), &known, &mut left_out, work)?;
    let (sources, programs) = (Arc::new(sources), Arc::new(programs));
    let (paths, name, seal, story) = (Vec::new(), String::new(), None, Story::default());
    let documents = Arc::default();
    let catalogues = Arc::default();
    Ok(Case {
        paths,
        name,
        sources,
        documents,
        programs,
        left_out,
        seal,
        story,
        zone,
        logbook_path: None,
        options,
        formats,
        catalogues,
        card_folders: Vec::new(),
        installer_folders: Vec::new(),
    })
}

/// Takes out what is no log: settings and facts.
fn take_documents(candidates: &mut Vec<Candidate>) -> Vec<Document> {
    let class_of = |candidate: &Candidate| match candidate.class {
        Some(class @ (Class::Configuration | Class::Facts)) => Some(class),
        None if candidate.file.name.ends_with("/facts.json") && candidate.host.is_some() => Some(Class::Facts),
        _ => None,
    };
    let taken = candidates.extract_if(.., |candidate| class_of(candidate).is_some());
    let documents = taken.map(|candidate| Document {
        class: class_of(&candidate).unwrap_or(Class::Facts),
        path: candidate.file.path,
        name: candidate.file.name,
        host: candidate.host.unwrap_or_default(),
        len_bytes: candidate.file.len_bytes,
    });
    documents.collect()
}

/// Says what each source is for, where no seal does: by the recipes.
fn classify(sources: &mut [Source], matchers: &Matchers<'_>) {
    for source in sources.iter_mut().filter(|source| source.class.is_none()) {
        let name = source.name.split('!').next().unwrap_or_default();
        let below = match &source.host {
            Some(host) => name.split_once(&format!("hosts/{host}/")).map_or(name, |(_, below)| below),
            None => name,
        };
        source.class = match source.reader {
            Reader::Dump(_) => Some(Class::Crash),
            Reader::Lines(_) => matchers.class_of(below),
        };
    }
}

/// What is in the candidates: containers are opened, files decoded, formats recognised, generations brought together. Program files
/// are no logs, and dumps are read with them.
fn sources_of(
    candidates: Vec<Candidate>,
    known: &Known<'_>,
    left_out: &mut Vec<LeftOut>,
    work: &Work,
) -> Result<(Vec<Source>, Vec<ProgramFile>)> {
    let mut candidates = open_containers(candidates, &known.options.passwords, left_out, work)?;
    candidates.sort_by(|a, b| a.file.name.cmp(&b.file.name));
    let (candidates, programs) = decode_all(candidates, known.options, left_out, work)?;
    let mut looked = parallel(candidates.len(), work, |index| look(&candidates[index], known, None));
    work.check()?;
    let sources: Vec<Option<&Source>> = looked.iter().map(|source| source.as_ref().ok()).collect();
    let like = look::dates_of_like_files(&sources);
    let again = parallel(like.len(), work, |index| look(&candidates[like[index].at], known, Some(&like[index])));
    work.check()?;
    for (like, source) in like.iter().zip(again) {
        looked[like.at] = source;
    }
    let mut sources = Vec::new();
    for (candidate, looked) in candidates.iter().zip(looked) {
        match looked {
            Ok(source) => sources.push(source),
            Err(reason) => left_out.push(LeftOut { path: candidate.file.name.clone(), reason }),
        }
    }
    zones_by_host(&mut sources);
    generations::group(&mut sources, work)?;
    boot::find(&mut sources, known.options);
    platforms_by_host(&mut sources);
    Ok((sources, programs))
}

/// The formats of the user, those of boxes, and those in a folder `formats` of an unpacked box. The same format may stand
/// in several: the first counts.
fn own_formats(paths: &[PathBuf], of_boxes: Vec<PathBuf>) -> (Vec<&'static dyn LineFormat>, Vec<(String, String)>) {
    let mut folders: Vec<PathBuf> = platform::config_dir().into_iter().map(|folder| folder.join("formats")).collect();
    folders.extend(of_boxes);
    folders.extend(paths.iter().filter(|path| path.join("hosts").is_dir()).map(|path| path.join("formats")));
    let (mut formats, mut wrong): (Vec<&'static dyn LineFormat>, _) = (Vec::new(), Vec::new());
    for folder in folders {
        let (found, mistakes) = format::load_own(&folder);
        for format in found {
            if format::by_name(format.name(), &formats).is_none() {
                formats.push(format);
            }
        }
        wrong.extend(mistakes);
    }
    (formats, wrong)
}

/// The catalogues of the user, of boxes, and of the folder `codes` of an unpacked box. What is wrong in them is left out and
/// named.
fn catalogues(paths: &[PathBuf], of_boxes: &[PathBuf], left_out: &mut Vec<LeftOut>) -> Arc<Catalogues> {
    let mut folders: Vec<PathBuf> = user::folder().into_iter().collect();
    folders.extend(of_boxes.iter().cloned());
    folders.extend(paths.iter().filter(|path| path.join("hosts").is_dir()).map(|path| path.join("codes")));
    let (catalogues, wrong) = user::load(&user::files_in(&folders));
    left_out.extend(wrong.into_iter().map(|(path, reason)| LeftOut { path, reason }));
    catalogues
}

/// Replaces containers by what they hold.
fn open_containers(
    candidates: Vec<Candidate>,
    passwords: &[String],
    left_out: &mut Vec<LeftOut>,
    work: &Work,
) -> Result<Vec<Candidate>> {
    let kinds = parallel(candidates.len(), work, |index| {
        let start = look::start_of(&candidates[index].file.path, container::START_BYTES).ok()?;
        container::Kind::of(&start)
    });
    work.check()?;
    let packed = candidates.iter().zip(&kinds).filter(|(_, kind)| kind.is_some());
    work.set_total(packed.map(|(candidate, _)| candidate.file.len_bytes).sum());
    let opened = parallel(candidates.len(), work, |index| {
        Some(container::open(&candidates[index].file, kinds[index]?, passwords, work))
    });
    work.check()?;
    let mut all = Vec::new();
    for (candidate, opened) in candidates.into_iter().zip(opened) {
        match opened {
            None => all.push(candidate),
            Some(Err(error)) => left_out.push(LeftOut { path: candidate.file.name, reason: error.to_string() }),
            Some(Ok(opened)) => {
                left_out.extend(opened.left_out);
                let members = opened.members.into_iter().map(|member| Candidate {
                    file: member.file,
                    host: candidate.host.clone(),
                    zone: candidate.zone.clone(),
                    class: candidate.class,
                    trouble: member.trouble,
                    decoded: None,
                });
                all.extend(members);
            }
        }
    }
    Ok(all)
}

/// What a file is by its first bytes.
enum Start {
    Decoded(&'static Decoded),
    Program,
    Other,
}

/// Decodes files whose records are not lines; one that cannot be is left out. Takes out program files.
fn decode_all(
    candidates: Vec<Candidate>,
    options: &Options,
    left_out: &mut Vec<LeftOut>,
    work: &Work,
) -> Result<(Vec<Candidate>, Vec<ProgramFile>)> {
    let starts = parallel(candidates.len(), work, |index| {
        let file = &candidates[index].file;
        let chosen = options.choices.get(&file.name).and_then(|choice| choice.format.as_deref());
        let Ok(start) = look::start_of(&file.path, limits::SAMPLE_BYTES) else { return Start::Other };
        if chosen.is_none() && ProgramFile::recognises(&start) {
            return Start::Program;
        }
        let decoder = if crash::recognise(&start).is_some() { None } else { decode::decoder_for(&start, chosen) };
        decoder.map_or(Start::Other, Start::Decoded)
    });
    work.check()?;
    let (mut programs, mut others, mut decoders) = (Vec::new(), Vec::new(), Vec::new());
    for (candidate, start) in candidates.into_iter().zip(starts) {
        match start {
            Start::Program => programs.push(ProgramFile {
                path: candidate.file.path,
                name: candidate.file.name,
                host: candidate.host.filter(|host| !host.is_empty()),
            }),
            Start::Decoded(decoder) => {
                others.push(candidate);
                decoders.push(Some(decoder));
            }
            Start::Other => {
                others.push(candidate);
                decoders.push(None);
            }
        }
    }
    let candidates = others;
    let wanted = candidates.iter().zip(&decoders).filter(|(_, decoder)| decoder.is_some());
    work.set_total(wanted.map(|(candidate, _)| candidate.file.len_bytes).sum());
    let texts = parallel(candidates.len(), work, |index| {
        let decoder = decoders[index]?;
        Some((decoder, decode::decode(&candidates[index].file, decoder, work)))
    });
    work.check()?;
    let mut all = Vec::new();
    for (mut candidate, text) in candidates.into_iter().zip(texts) {
        match text {
            None => all.push(candidate),
            Some((_, Err(error))) => left_out.push(LeftOut { path: candidate.file.name, reason: error.to_string() }),
            Some((decoder, Ok(text))) if text.is_in_vain() => {
                candidate
                    .trouble
                    .push(Trouble::note(format!("read line by line: no record of {} in it", decoder.name())));
                all.push(candidate);
            }
            Some((decoder, Ok(text))) => {
                candidate.decoded = Some((decoder, text));
                all.push(candidate);
            }
        }
    }
    Ok((all, programs))
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
        candidates.push(Candidate { file, host, zone, class: None, trouble: Vec::new(), decoded: None });
    }
    Ok(())
}

/// The story in a folder, as a box has one; it is then no source. What says nothing of a story stays a file like any other.
fn take_story(folder: &Path, candidates: &mut Vec<Candidate>, left_out: &mut Vec<LeftOut>) -> Option<Story> {
    let path = folder.join(gather::STORY_NAME);
    std::fs::metadata(&path).ok().filter(|found| found.is_file() && found.len() <= STORY_BYTES)?;
    let told = std::fs::read(&path).map_err(|error| error.to_string()).and_then(|text| {
        let text = text.strip_prefix("\u{FEFF}".as_bytes()).unwrap_or(&text);
        serde_json::from_slice::<Story>(text).map_err(|error| error.to_string())
    });
    match told {
        Ok(story) if story == Story::default() => None,
        Ok(story) => {
            candidates.retain(|candidate| candidate.file.path != path);
            Some(story)
        }
        Err(error) => {
            let reason = format!("the story cannot be read: {error}");
            left_out.push(LeftOut { path: path.display().to_string(), reason });
            None
        }
    }
}

/// Bytes of a story.
const STORY_BYTES: u64 = 1 << 20;

fn case_name(path: &Path) -> String {
    let name = path.file_name().map_or_else(|| path.display().to_string(), |name| name.to_string_lossy().into_owned());
    name.strip_suffix(".box.zip").unwrap_or(&name).to_owned()
}

/// Beside a box; for folders and loose files, which are the user's and stay untouched, in the data folder.
pub(super) fn logbook_path(paths: &[PathBuf], options: &Options) -> Option<PathBuf> {
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
    let name = crate::text::hex(&hash.finalize());
    Some(platform::data_dir()?.join("logbooks").join(format!("{}.logbook", name.get(..16)?)))
}
