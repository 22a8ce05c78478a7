//! The headless commands. Each prints data on standard output and nothing else there.

use std::cell::RefCell;
use std::collections::HashMap;
use std::io::{self, BufWriter, IsTerminal, Write};
use std::path::PathBuf;
use std::sync::Arc;
use std::time::Duration;

use boxclock_core::Error;
use boxclock_core::analysis::CaseView;
use boxclock_core::cache;
use boxclock_core::case::{self, Case, Follower, LeftOut, Loaded, Options, Source};
use boxclock_core::clock::{Zone, human, now};
use boxclock_core::code::user;
use boxclock_core::compare::{self, Side};
use boxclock_core::crash::CrashAnalysis;
use boxclock_core::crash::stability;
use boxclock_core::event::Row;
use boxclock_core::format;
use boxclock_core::gather::DiskUse;
use boxclock_core::install::{self, InstallAnalysis};
use boxclock_core::logbook::Logbook;
use boxclock_core::new_file::NewFile;
use boxclock_core::platform;
use boxclock_core::query::{Filter, Lens, Lenses};
use boxclock_core::report::canvas::Canvas;
use boxclock_core::report::chart::ChartKind;
use boxclock_core::report::events::{EventWriter, Form};
use boxclock_core::report::{self, Report};
use boxclock_core::timeline::arrange::{ArrangedRows, Arrangement};
use boxclock_core::timeline::drift::ClockAnalysis;
use boxclock_core::timeline::marks::MarkAnalysis;
use boxclock_core::work::Work;

use crate::args::{self, Command, Reading};
use crate::log;
use crate::outcome::{Ended, Failure, Outcome, plain, say, shown};

mod analysing;
mod coding;
mod gathering;
mod knowing;
mod listing;
mod progress;
mod receiving;

/// Runs a command.
pub fn run(command: Option<Command>) -> Ended {
    let Some(command) = command else { return new_case() };
    match command {
        Command::Demo(demo) => self::demo(&demo),
        Command::Open(open) => full_screen(&open.reading, open.follow),
        Command::Pack(pack) => gathering::pack(&pack),
        Command::Check(check) => gathering::check(&check),
        Command::Forget(forget) => self::forget(&forget),
        Command::Coverage(coverage) => gathering::coverage(&coverage),
        Command::Checks(list) => gathering::checks(&list),
        Command::Redact(redact) => gathering::redact(&redact),
        Command::Receive(receive) => receiving::receive(&receive),
        Command::Recipes { paths } => gathering::recipes(&paths),
        Command::Events(events) => self::events(&events),
        Command::Sources(sources) if sources.explain => {
            let case = open(&sources.listing.reading, &cancellable())?;
            listing::explain(&case)?;
            Ok(name_left_out(&case, &Loaded::default()))
        }
        Command::Sources(args::Sources { listing: list, .. }) => {
            let (case, loaded) = read(&list.reading)?;
            listing::sources(&case, &loaded, list.form)?;
            Ok(name_left_out(&case, &loaded))
        }
        Command::Formats { paths } => formats(&paths),
        Command::Lenses { paths } => lenses(&paths),
        Command::Code(code) => coding::code(&code),
        Command::Codes(args::Codes { listing: list, first }) => {
            let (case, loaded) = read(&list.reading)?;
            listing::codes(&CaseView::new(case.clone(), loaded.clone()), first, list.form)?;
            Ok(name_left_out(&case, &loaded))
        }
        Command::Crashes(list) => {
            let (case, loaded) = read(&list.reading)?;
            let view = CaseView::new(case, loaded);
            analysing::crashes(&view, list.form, &cancellable())?;
            Ok(name_left_out(&view.case, &view.loaded))
        }
        Command::Installs(list) => {
            let (case, loaded) = read(&list.reading)?;
            let view = CaseView::new(case, loaded);
            analysing::installs(&view, list.form, &cancellable())?;
            Ok(name_left_out(&view.case, &view.loaded))
        }
        Command::Trail(args::Trail { listing: list, identifier }) => {
            let (case, loaded) = read(&list.reading)?;
            let view = CaseView::new(case, loaded);
            analysing::trail(&view, &identifier, list.form, &cancellable())?;
            Ok(name_left_out(&view.case, &view.loaded))
        }
        Command::Compare(compare) => self::compare(&compare),
        Command::Findings(list) => {
            let (case, loaded) = read(&list.reading)?;
            let view = CaseView::new(case, loaded);
            let unread = analysing::findings(&view, list.form, &cancellable())?;
            let outcome = name_left_out(&view.case, &view.loaded);
            Ok(if unread { Outcome::Partly } else { outcome })
        }
        Command::Patterns(arguments) => {
            let (case, loaded) = read(&arguments.listing.reading)?;
            let view = CaseView::new(case, loaded);
            analysing::of_messages(&view, &arguments, &cancellable())?;
            Ok(name_left_out(&view.case, &view.loaded))
        }
        Command::Cause(list) => {
            let (case, loaded) = read(&list.reading)?;
            let view = CaseView::new(case, loaded);
            analysing::cause(&view, list.form, &cancellable())?;
            Ok(name_left_out(&view.case, &view.loaded))
        }
        Command::Verify(verify) => knowing::verify(&verify),
        Command::Cards(cards) => knowing::cards(&cards),
        Command::Catalogues { paths } => coding::catalogues(paths),
        Command::Drift(list) => {
            let (case, loaded) = read(&list.reading)?;
            let view = CaseView::new(case.clone(), loaded.clone());
            listing::drift(&view.run(&ClockAnalysis, &cancellable())?, list.form)?;
            Ok(name_left_out(&case, &loaded))
        }
        Command::Chart(chart) => self::chart(&chart),
        Command::Report(report) => self::report(&report),
        Command::Completions { shell } => {
            clap_complete::generate(shell, &mut args::command(), "boxclock", &mut io::stdout());
            Ok(Outcome::Done)
        }
        Command::Manual => {
            clap_mangen::Man::new(args::command()).render(&mut io::stdout())?;
            Ok(Outcome::Done)
        }
    }
}

/// Takes `LABEL=VALUE` apart.
fn labelled<'a>(flag: &str, text: &'a str) -> Result<(&'a str, &'a str), Failure> {
    match text.split_once('=') {
        Some((label, value)) if !label.is_empty() && !value.is_empty() => Ok((label, value)),
        _ => Err(Failure::Usage(format!("--{flag} {text}: write --{flag} LABEL=VALUE"))),
    }
}

/// Takes choices `SOURCE=VALUE`. The name of a source may hold `=`; a value does not.
fn choose(options: &mut Options, what: &str, texts: &[String]) -> Result<(), Failure> {
    for text in texts {
        let (source, value) = text
            .rsplit_once('=')
            .filter(|(source, value)| !source.is_empty() && !value.is_empty())
            .ok_or_else(|| Failure::Usage(format!("--{what} {text}: write --{what} SOURCE=VALUE")))?;
        let choice = options.choices.entry(source.to_owned()).or_default();
        choice.set(what, value).map_err(|error| Failure::Usage(error.to_string()))?;
    }
    Ok(())
}

fn options(reading: &Reading) -> Result<Options, Failure> {
    let mut options = Options::default();
    let usage = |error: boxclock_core::Error| Failure::Usage(error.to_string());
    for text in &reading.zone {
        match text.split_once('=') {
            Some((label, zone)) => {
                // The label of a host or the name of a source: which one shows when the case is open.
                options.host_zones.insert(label.to_owned(), Zone::parse(zone).map_err(usage)?);
                choose(&mut options, "zone", std::slice::from_ref(text))?;
            }
            None => options.zone = Some(Zone::parse(text).map_err(usage)?),
        }
    }
    options.no_escalation = reading.no_escalation;
    if reading.use_all_space {
        options.disk = DiskUse::All;
    }
    choose(&mut options, "format", &reading.format)?;
    choose(&mut options, "encoding", &reading.encoding)?;
    choose(&mut options, "dates", &reading.dates)?;
    choose(&mut options, "host", &reading.label)?;
    for text in &reading.boot {
        let (label, time) = text.split_once('=').unwrap_or(("", text));
        match human::time(time, &options.zone.clone().unwrap_or_else(Zone::utc)).map_err(usage)? {
            human::Typed::Instant(ns) => options.boot.insert(label.to_owned(), ns),
            human::Typed::OfDay(_) | human::Typed::OfYear(..) => {
                return Err(Failure::Usage(format!("--boot {text}: write the date too")));
            }
        };
    }
    if let Some(path) = &reading.password_file {
        let text = platform::read_small_text(path)
            .map_err(|error| Failure::Because(format!("cannot read {}: {error}", path.display())))?;
        options.passwords = text.lines().filter(|line| !line.is_empty()).map(str::to_owned).collect();
    }
    for text in &reading.drift {
        let (label, duration) = labelled("drift", text)?;
        options.drift.insert(label.to_owned(), human::drift(duration).map_err(usage)?);
    }
    for text in &reading.host {
        let (label, path) = labelled("host", text)?;
        options.hosts.push((label.to_owned(), PathBuf::from(path)));
    }
    if reading.paths.is_empty() && options.hosts.is_empty() {
        return Err(Failure::Usage("name at least one box, folder or file (see --help)".into()));
    }
    Ok(options)
}

/// A piece of work that Ctrl-C cancels.
fn cancellable() -> Work {
    let work = Work::default();
    let handle = work.clone();
    // Without the handler Ctrl-C still ends the program, only less tidily.
    let _ = ctrlc::set_handler(move || handle.cancel());
    work
}

/// Opens a case and brings in the clock corrections of its logbook; those on the command line win.
fn open(reading: &Reading, work: &Work) -> Result<Case, Failure> {
    open_case(reading, work, |_| false)
}

/// Does it, and asks `allow` where a box takes more of the disk than it may unasked.
fn open_case(reading: &Reading, work: &Work, allow: impl Fn(&Error) -> bool) -> Result<Case, Failure> {
    // In the background, beside work that takes longer: nobody waits for it, and it ends with the program.
    std::thread::spawn(cache::tidy);
    let mut options = options(reading)?;
    let path = Case::logbook_path(&reading.paths, &options);
    if let Some(path) = &path
        && reading.remember
    {
        remember(&Logbook::open(path)?, reading, &options)?;
    }
    if let Some(path) = path.filter(|path| path.exists()) {
        options.remembered(&Logbook::open(&path)?)?;
    }
    match Case::open(&reading.paths, options.clone(), work) {
        Err(error) if error.room_is_a_question() && allow(&error) => {
            Ok(Case::open(&reading.paths, Options { disk: DiskUse::All, ..options }, work)?)
        }
        opened => Ok(opened?),
    }
}

/// Asks at the terminal whether a box may take more of the disk than its share. Without a terminal the answer is no.
fn ask_for_room(error: &Error) -> bool {
    if !io::stdin().is_terminal() || !io::stderr().is_terminal() {
        return false;
    }
    let mut answer = String::new();
    say(&error.to_string());
    let asked = write!(io::stderr(), "Unpack it anyway? [y/N] ");
    asked.is_ok() && io::stdin().read_line(&mut answer).is_ok() && matches!(answer.trim(), "y" | "Y" | "yes")
}

/// Writes what the command line says about single sources and clocks into the logbook.
fn remember(logbook: &Logbook, reading: &Reading, options: &Options) -> Result<(), Failure> {
    for (name, drift) in &options.drift {
        logbook.set_drift(name, *drift)?;
    }
    let zones = reading.zone.iter().filter(|text| text.contains('='));
    let named = [
        ("format", &reading.format),
        ("encoding", &reading.encoding),
        ("dates", &reading.dates),
        ("host", &reading.label),
    ];
    let named = named.into_iter().flat_map(|(what, texts)| texts.iter().map(move |text| (what, text)));
    for (what, text) in named.chain(zones.map(|text| ("zone", text))) {
        if let Some((source, value)) = text.rsplit_once('=') {
            logbook.set_choice(source, what, value)?;
        }
    }
    Ok(())
}

fn read(reading: &Reading) -> Result<(Case, Loaded), Failure> {
    let work = cancellable();
    let _shown = reading.progress.then(|| progress::Shown::start(&work, "reading"));
    let case = open(reading, &work)?;
    let loaded = case.load(&work)?;
    let options = &case.options;
    for label in options.drift.keys().chain(options.host_zones.keys()).chain(options.choices.keys()) {
        let is_source = |source: &Source| source.host.as_ref() == Some(label) || source.name == *label;
        if !loaded.table.hosts.contains(label) && !case.sources.iter().any(is_source) {
            say(&format!("no host or source is called {label}; hosts are: {}", loaded.table.hosts[1..].join(", ")));
        }
    }
    Ok((case, loaded))
}

/// Names on standard error what was not read, and says whether that is all.
fn name_left_out(case: &Case, loaded: &Loaded) -> Outcome {
    let mut outcome = Outcome::Done;
    for LeftOut { path, reason } in &case.left_out {
        say(&format!("left out: {path}: {reason}"));
        outcome = Outcome::Partly;
    }
    for (source, report) in case.sources.iter().zip(loaded.reports.iter()) {
        for trouble in &report.trouble {
            say(&format!("{}: {}", source.name, trouble.text));
            if trouble.lost {
                outcome = Outcome::Partly;
            }
        }
    }
    outcome
}

/// The lenses that hold in a case: those of the program and the user, and those in its logbook.
fn lenses_of(case: &Case) -> Result<Lenses, Failure> {
    let mut lenses = Lenses::load(&case.catalogues);
    for (file, mistake) in &lenses.wrong {
        say(&format!("{file}: {mistake}"));
    }
    if let Some(path) = case.logbook_path.as_ref().filter(|path| path.exists()) {
        Logbook::open(path)?.lenses()?.into_iter().for_each(|lens| lenses.add(lens));
    }
    Ok(lenses)
}

/// Lists the lenses, or checks those that are named.
fn lenses(paths: &[PathBuf]) -> Ended {
    let mut out = shown();
    let own = user::own();
    let lenses = Lenses::load(&own);
    let mut wrong = lenses.wrong;
    if paths.is_empty() {
        for lens in &lenses.good {
            writeln!(out, "{:<18} {}", lens.name, lens.about)?;
            writeln!(out, "{:<18} {}", "", lens.filter)?;
        }
        if let Some(folder) = Lenses::folder() {
            writeln!(out, "\nown lenses in {}", folder.display())?;
        }
    }
    for path in paths {
        let read = platform::read_small_text(path).map_err(|error| error.to_string());
        match read.and_then(|text| Lens::parse(&text, &own).map_err(|error| error.to_string())) {
            Ok(lens) => writeln!(out, "{}: good: {}", path.display(), lens.name)?,
            Err(mistake) => wrong.push((path.display().to_string(), mistake)),
        }
    }
    for (path, mistake) in &wrong {
        say(&format!("{path}: {mistake}"));
    }
    if wrong.is_empty() { Ok(Outcome::Done) } else { Err(Failure::Because("a lens is wrong".into())) }
}

/// Lists our formats, and those of the user with what is wrong with them.
fn formats(paths: &[PathBuf]) -> Ended {
    let mut out = shown();
    let mut wrong = Vec::new();
    if paths.is_empty() {
        for format in format::LINE_FORMATS {
            writeln!(out, "{}", format.name())?;
        }
        for dump in boxclock_core::crash::DUMP_FORMATS {
            writeln!(out, "{}", dump.name())?;
        }
        let folder = platform::config_dir().map(|folder| folder.join("formats"));
        if let Some(folder) = folder {
            writeln!(out, "\nown formats in {}:", folder.display())?;
            let (own, mistakes) = format::load_own(&folder);
            for format in own {
                writeln!(out, "{}", format.name())?;
            }
            wrong = mistakes;
        }
    }
    for path in paths {
        let read = platform::read_small_text(path).map_err(|error| error.to_string());
        match read.and_then(|text| format::OwnFormat::parse(&text).map_err(|error| error.to_string())) {
            Ok(_) => writeln!(out, "{}: good", path.display())?,
            Err(error) => wrong.push((path.display().to_string(), error)),
        }
    }
    for (path, reason) in &wrong {
        say(&format!("{path}: {reason}"));
    }
    if wrong.is_empty() { Ok(Outcome::Done) } else { Err(Failure::Because("a format is wrong".into())) }
}

fn events(arguments: &args::Events) -> Ended {
    let (case, loaded) = read(&arguments.reading)?;
    let view = CaseView::new(case, loaded);
    let filter = match &arguments.lens {
        Some(name) => Some(lenses_of(&view.case)?.by_name(name)?.filter.clone()),
        None => arguments.filter.clone(),
    };
    let form = match arguments.form {
        args::Form::Jsonl => Form::JsonLines,
        args::Form::Text => Form::Text,
        args::Form::Csv => Form::Csv,
        args::Form::Xml => Form::Xml,
        args::Form::EventXml => Form::EventXml,
        args::Form::Raw => Form::Raw,
        args::Form::Otlp => Form::Otlp,
    };
    if arguments.fold && !matches!(form, Form::JsonLines | Form::Text) {
        return Err(Failure::Usage("--fold goes with --as jsonl and --as text".into()));
    }
    let work = cancellable();
    let arrangement = Arrangement { fold: arguments.fold, worst_first: arguments.worst_first };
    let passed = filter.is_some().then(|| filtered(&view, filter.as_deref(), &work)).transpose()?.map(Arc::new);
    let rows = ArrangedRows::of(&view, passed, arrangement, &work)?;
    let order = rows.rows.as_ref().map_or(&*view.loaded.table.order, |rows| rows.as_slice());
    let mut writer = EventWriter::new(&view.case, view.case.zone.clone());
    let mut write = |out: &mut dyn Write| {
        let mut out = BufWriter::with_capacity(1 << 16, out);
        match &rows.runs {
            Some(runs) => writer.write_runs(&view.loaded, order, runs, form, &mut out, &work)?,
            None => writer.write_all(&view.loaded, order, form, &mut out, &work)?,
        }
        out.flush()
    };
    match &arguments.out {
        None => write(&mut plain())?,
        Some(path) => {
            let cannot = |error: io::Error| Failure::Because(format!("cannot write {}: {error}", path.display()));
            let mut file = NewFile::create(path, &view.case.protected(), arguments.force)?;
            write(&mut file).map_err(cannot)?;
            file.finish()?;
        }
    }
    if arguments.follow {
        return follow(&view, filter.as_deref(), form, &work);
    }
    Ok(name_left_out(&view.case, &view.loaded))
}

/// Writes what comes to the files of a case, until Ctrl-C.
fn follow(view: &CaseView, filter: Option<&str>, form: Form, work: &Work) -> Ended {
    let mut follower = Follower::new(&view.case);
    // What was written already: how far each source has been read.
    let mut written = ends_of(view);
    while !work.is_cancelled() {
        std::thread::sleep(Duration::from_millis(250));
        if !follower.has_changed() {
            continue;
        }
        // What vanished in the middle of a rotation is there at the next look.
        let Ok(now) = follower.read(work) else { continue };
        let rows: Vec<u32> = filtered(&now, filter, work)?
            .into_iter()
            .filter(|row| {
                let key = now.key(now.loaded.table.event(Row(*row)));
                written.get(&key.source).is_none_or(|end| key.offset >= *end)
            })
            .collect();
        let mut out = plain();
        EventWriter::new(&now.case, now.case.zone.clone()).write_all(&now.loaded, &rows, form, &mut out, work)?;
        out.flush()?;
        written = ends_of(&now);
    }
    Ok(Outcome::Done)
}

/// Where the last record of each source ends, in bytes.
fn ends_of(view: &CaseView) -> HashMap<Arc<str>, u64> {
    let parts = view.loaded.table.parts.iter();
    parts.map(|part| (Arc::from(view.case.sources[part.segment.source as usize].name.as_str()), part.end)).collect()
}

/// The rows that pass a filter, in merged order; all without one.
fn filtered(view: &CaseView, filter: Option<&str>, work: &Work) -> Result<Vec<u32>, Failure> {
    let Some(text) = filter else { return Ok(view.loaded.table.order.to_vec()) };
    let filter = Filter::parse_with(text, &view.case.zone, &view.case.catalogues)
        .map_err(|error| Failure::Usage(format!("the filter is wrong:\n{}", error.marked(text))))?;
    let pins = match view.case.logbook_path.as_ref().filter(|path| path.exists()) {
        Some(path) => Logbook::open(path)?.pins()?,
        None => Vec::new(),
    };
    let pinned = pins.iter().filter_map(|pin| view.row_in(&pin.source, pin.offset)).map(|row| row.0);
    let filter = filter.with_pins(pinned.collect::<Vec<_>>());
    Ok(filter.rows_in_order(view, work)?)
}

fn compare(arguments: &args::Compare) -> Ended {
    let work = cancellable();
    let reading = &arguments.listing.reading;
    if let (Some(bad), Some(good)) = (&arguments.bad_filter, &arguments.good_filter) {
        let (case, loaded) = read(reading)?;
        let view = CaseView::new(case, loaded);
        let rows = |filter: &str| filtered(&view, Some(filter), &work);
        let found = compare::compare_windows(&view, &rows(bad)?, &rows(good)?, &work)?;
        analysing::differences(&found, arguments.most, arguments.listing.form)?;
        return Ok(name_left_out(&view.case, &view.loaded));
    }
    let [bad, good] = reading.paths.as_slice() else {
        return Err(Failure::Usage(
            "name the bad side and the good side: boxclock compare BAD GOOD (see --help)".into(),
        ));
    };
    let side = |path: &PathBuf| -> Result<Side, Failure> {
        let (case, loaded) = read(&Reading { paths: vec![path.clone()], ..reading.clone() })?;
        Ok(Side::new(CaseView::new(case, loaded), std::slice::from_ref(path))?)
    };
    let (bad, good) = (side(bad)?, side(good)?);
    let found = compare::compare(&bad, &good, &work)?;
    analysing::differences(&found, arguments.most, arguments.listing.form)?;
    let outcomes = [name_left_out(&bad.view.case, &bad.view.loaded), name_left_out(&good.view.case, &good.view.loaded)];
    Ok(if outcomes.iter().any(|outcome| matches!(outcome, Outcome::Partly)) { Outcome::Partly } else { Outcome::Done })
}

fn chart(arguments: &args::Chart) -> Ended {
    let (case, loaded) = read(&arguments.reading)?;
    let view = CaseView::new(case, loaded);
    let note = drawing(arguments, &view)?.write(&arguments.into, &view.case.protected(), arguments.force)?;
    if let Some(note) = note {
        say(&format!("{}: {note}", arguments.into.display()));
    }
    Ok(name_left_out(&view.case, &view.loaded))
}

/// What a chart draws.
fn drawing(arguments: &args::Chart, view: &CaseView) -> Result<Canvas, Failure> {
    let work = cancellable();
    let zone = &view.case.zone;
    if arguments.stability {
        let (crashes, marks) = (view.run(&CrashAnalysis, &work)?, view.run(&MarkAnalysis, &work)?);
        return Ok(stability::draw(&stability::stability(view, &crashes, &marks, zone), zone));
    }
    if let Some(number) = arguments.run {
        let runs = view.run(&InstallAnalysis, &work)?;
        let run = number.checked_sub(1).and_then(|at| runs.get(at));
        let none = || Failure::Usage(format!("--run {number}: there {}", many_runs(runs.len())));
        return Ok(install::draw(run.ok_or_else(none)?, zone));
    }
    let rows = filtered(view, arguments.filter.as_deref(), &work)?;
    let kind = if arguments.lanes { ChartKind::Lanes } else { ChartKind::Density };
    Ok(report::chart::chart(&view.case, &view.loaded, &rows, kind, zone)?)
}

fn many_runs(count: usize) -> String {
    if count == 1 { "is 1 run".to_owned() } else { format!("are {count} runs") }
}

fn report(arguments: &args::Report) -> Ended {
    let (case, loaded) = read(&arguments.reading)?;
    let logbook = match &case.logbook_path {
        Some(path) if path.exists() => Logbook::open(path)?,
        _ => Logbook::in_memory()?,
    };
    let view = CaseView::new(case, loaded);
    let mut report = Report::new(&view, &logbook)?;
    report.hash_box(&cancellable())?;
    let text = match arguments.into.extension().and_then(|extension| extension.to_str()) {
        Some("md") => report::markdown(&report, None)?,
        Some("svg") => report::drawing(&report),
        _ => return Err(Failure::Usage(format!("{}: a report ends in .md or .svg", arguments.into.display()))),
    };
    NewFile::write(&arguments.into, &view.case.protected(), arguments.force, text.as_bytes())?;
    Ok(name_left_out(&view.case, &view.loaded))
}

/// Wipes what is kept of a case to be fast.
fn forget(arguments: &args::Forget) -> Ended {
    let bytes = if arguments.all { cache::forget_all()? } else { case::forget(&arguments.paths, &cancellable())? };
    writeln!(shown(), "{} MiB wiped", bytes.div_ceil(1 << 20))?;
    Ok(Outcome::Done)
}

fn demo(arguments: &args::Demo) -> Ended {
    if let (Some(mib), Some(folder)) = (arguments.large, &arguments.folder) {
        let mix = match arguments.mix {
            args::LargeMix::Tanks => boxclock_demo::Mix::Tanks,
            args::LargeMix::Services => boxclock_demo::Mix::Services,
        };
        let written = boxclock_demo::write_large(folder, mib << 20, arguments.seed, mix)
            .map_err(|error| Failure::Because(format!("cannot write below {}: {error}", folder.display())))?;
        writeln!(
            io::stdout(),
            "{}: {} bytes, {} events in {} files",
            folder.display(),
            written.bytes,
            written.events,
            written.files
        )?;
        return Ok(Outcome::Done);
    }
    if let Some(into) = &arguments.into {
        let tale = match (arguments.elsewhere, arguments.night_before) {
            (true, _) => boxclock_demo::Tale::Elsewhere,
            (false, true) => boxclock_demo::Tale::NightBefore,
            (false, false) => boxclock_demo::Tale::Night,
        };
        gathering::seal_demo(into, tale)?;
        return Ok(Outcome::Done);
    }
    let folder =
        platform::data_dir().ok_or_else(|| Failure::Because("no folder for data: set HOME or XDG_DATA_HOME".into()))?;
    let path = folder.join("demo").join(concat!("saltmere-", env!("CARGO_PKG_VERSION"), ".box.zip"));
    if !path.exists() {
        gathering::seal_demo(&path, boxclock_demo::Tale::Night)?;
    }
    full_screen(&Reading { paths: vec![path], ..Reading::default() }, false)
}

/// Opens a case that holds nothing yet: its story is told, and Collect gathers.
fn new_case() -> Ended {
    if !io::stdout().is_terminal() {
        return Err(Failure::Usage("name a command (see --help); without one, a new case opens in a terminal".into()));
    }
    let mut case = Case::open(&[], Options::default(), &Work::default())?;
    case.name = "new case".into();
    case.zone = Zone::local();
    boxclock_tui::run(case, false, log::path()).map_err(|error| Failure::Because(error.to_string()))?;
    Ok(Outcome::Done)
}

fn full_screen(reading: &Reading, follow: bool) -> Ended {
    // Archives are unpacked before the screen can show their sources: that may take a while.
    let work = cancellable();
    let progress = || Some(progress::Shown::start_late(&work, "unpacking"));
    let shown = RefCell::new(progress());
    let case = open_case(reading, &work, |error| {
        // The question has the line for itself.
        shown.replace(None);
        let allowed = ask_for_room(error);
        shown.replace(progress().filter(|_| allowed));
        allowed
    })?;
    drop(shown);
    boxclock_tui::run(case, follow, log::path()).map_err(|error| Failure::Because(error.to_string()))?;
    Ok(Outcome::Done)
}
