//! Gathering: packing, checking, recipes, and the demo case.

use std::io::{self, IsTerminal, Write};
use std::path::{Path, PathBuf};
use std::sync::Arc;
use std::time::{Duration, Instant};

use boxclock_core::analysis::CaseView;
use boxclock_core::case::{Case, Options};
use boxclock_core::clock::{Zone, human, to_rfc3339};
use boxclock_core::coverage;
use boxclock_core::facts::{self, Checks, Finding};
use boxclock_core::gather::recipe::{Recipe, Recipes};
use boxclock_core::gather::redact::{self, Leftover, Sample};
use boxclock_core::gather::{
    self, AppliedRule, Mark, PackOptions, Packed, Plan, RedactReady, RedactRequest, Signer, TakenPrograms, Unreadable,
    Window,
};
use boxclock_core::logbook::Story;
use boxclock_core::visible::safe_json;
use boxclock_core::work::Work;
use boxclock_core::{many, platform};

use super::{cancellable, name_left_out, now, open, options, progress, read};
use crate::args;
use crate::outcome::{Ended, Failure, Outcome, of_form, say, shown};

/// What the arguments of a command that gathers mean.
pub fn pack_options(arguments: &args::Pack) -> Result<PackOptions, Failure> {
    let reading = options(&arguments.reading)?;
    let zone = reading.zone.clone().unwrap_or_else(Zone::utc);
    let known = recipes_named();
    let story = story(arguments)?;
    let host_limit = arguments.host_limit.as_deref().map(human::length).transpose();
    let host_limit = host_limit.map_err(|error| Failure::Usage(format!("--host-limit: {error}")))?;
    Ok(PackOptions {
        own_cards: arguments.cards,
        programs: match arguments.programs {
            None => TakenPrograms::None,
            Some(args::Programs::Symbols) => TakenPrograms::Symbols,
            Some(args::Programs::Whole) => TakenPrograms::Whole,
        },
        paths: arguments.reading.paths.clone(),
        hosts: reading.hosts.clone(),
        into: arguments.into.clone().unwrap_or_default(),
        window: window(arguments, &story, &zone)?,
        story,
        zone: reading.zone.as_ref().map(|zone| zone.name().to_owned()),
        host_zones: reading.host_zones.iter().map(|(label, zone)| (label.clone(), zone.name().to_owned())).collect(),
        now: now(),
        recipes: arguments.recipe.clone(),
        known,
        reading,
        ssh_config: arguments.ssh_config.clone(),
        may_ask: io::stdin().is_terminal(),
        host_limit,
        signer: signer(arguments.sign.as_deref(), arguments.signer.as_deref())?,
        ..PackOptions::default()
    })
}

/// Who signs the box, if somebody does.
fn signer(key: Option<&Path>, by: Option<&str>) -> Result<Option<Arc<Signer>>, Failure> {
    let Some(path) = key else { return Ok(None) };
    Ok(Some(Arc::new(Signer::read(path, by.unwrap_or_default())?)))
}

/// The recipes that can be used; wrong ones are named.
fn recipes_named() -> Recipes {
    let known = Recipes::load();
    for (file, mistake) in &known.wrong {
        say(&format!("{file}: {mistake}"));
    }
    known
}

/// The window of the arguments, else that of the story.
fn window(arguments: &args::Pack, story: &Story, zone: &Zone) -> Result<Option<Window>, Failure> {
    let usage = |error: boxclock_core::Error| Failure::Usage(format!("the window: {error}"));
    if arguments.whole || arguments.capture {
        return Ok(None);
    }
    let args::Pack { around, within, from, to, .. } = arguments;
    let asked = Window::asked((around.as_deref(), within), (from.as_deref(), to.as_deref()), zone, now());
    let told = || match human::moment(&story.since, zone, now()) {
        Ok(since) => Window::asked((Some(&to_rfc3339(since)), within), (None, None), zone, now()).map_err(usage),
        Err(_) if story.since.is_empty() => Ok(None),
        Err(_) => {
            say(&format!("the story's \"{}\" is not a time: all times are taken (or use --around)", story.since));
            Ok(None)
        }
    };
    asked.map_err(usage)?.map_or_else(told, |window| Ok(Some(window)))
}

/// The story of a file, as in a box, with the title of the arguments.
fn story(arguments: &args::Pack) -> Result<Story, Failure> {
    let mut story = match &arguments.story {
        Some(path) => {
            let because = |error: &dyn std::fmt::Display| {
                Failure::Because(format!("cannot read the story {}: {error}", path.display()))
            };
            let text = platform::read_small_text(path).map_err(|error| because(&error))?;
            serde_json::from_str(&text).map_err(|error| because(&error))?
        }
        None => Story::default(),
    };
    if let Some(title) = &arguments.title {
        story.title.clone_from(title);
    }
    Ok(story)
}

pub fn pack(arguments: &args::Pack) -> Ended {
    let options = pack_options(arguments)?;
    let work = cancellable();
    if arguments.plan {
        return print_plan(&gather::plan(&options, &work)?, options.window);
    }
    let mut options = options;
    if arguments.capture {
        capture(arguments, &mut options, &work)?;
    }
    let progress = arguments.reading.progress.then(|| progress::Shown::of_hosts(&work, options.watch.clone()));
    let packed = gather::pack(&options, &work)?;
    drop(progress);
    let outcome = sealed(&options.into, &packed)?;
    if let Some(window) = options.window {
        let reading = Options { drift: options.reading.drift.clone(), ..Options::default() };
        let case = Case::open(std::slice::from_ref(&options.into), reading, &work)?;
        let loaded = case.load(&work)?;
        print_coverage(&coverage::coverage(&case, &loaded, window), window, &case.zone, args::ListForm::Text)?;
    }
    Ok(outcome)
}

/// Notes what stands in the files, waits while somebody reproduces the failure, and marks both moments.
fn capture(arguments: &args::Pack, options: &mut PackOptions, work: &Work) -> Result<(), Failure> {
    let lasting = arguments.lasting.as_deref().map(human::length).transpose();
    let lasting = lasting.map_err(|error| Failure::Usage(format!("--for: {error}")))?;
    let snapshot = gather::snapshot(options, work)?;
    let files = snapshot.files;
    options.since = Some(Arc::new(snapshot));
    let mut mark = |text: &str| options.marks.push(Mark { time: to_rfc3339(now()), text: text.into() });
    mark("capture began");
    if let Some(lasting) = lasting {
        say(&format!("capturing {}: reproduce the failure now", many(files, "file")));
        let until = Instant::now() + lasting;
        while Instant::now() < until {
            work.check()?;
            std::thread::sleep(Duration::from_millis(20));
        }
    } else {
        say(&format!(
            "capturing {}: reproduce the failure now, then press Enter (Ctrl-C cancels)",
            many(files, "file")
        ));
        let (sender, entered) = std::sync::mpsc::channel();
        std::thread::spawn(move || {
            // The end of the input is as good as Enter.
            let _ = io::stdin().read_line(&mut String::new());
            let _ = sender.send(());
        });
        while entered.recv_timeout(Duration::from_millis(50)) == Err(std::sync::mpsc::RecvTimeoutError::Timeout) {
            work.check()?;
        }
    }
    mark("capture ended");
    options.now = now();
    Ok(())
}

/// Says what came into a box, and names what did not.
pub fn sealed(into: &Path, packed: &Packed) -> Ended {
    let seal = &packed.seal;
    for left in &seal.unreadable {
        say(&format!("left out: {} ({}): {}", left.origin, left.host, left.reason));
    }
    let text = packed.summary(into);
    writeln!(shown(), "{text}")?;
    Ok(if seal.unreadable.is_empty() { Outcome::Done } else { Outcome::Partly })
}

fn print_plan(plan: &Plan, window: Option<Window>) -> Ended {
    let mut out = shown();
    for line in plan.lines(window) {
        writeln!(out, "{line}")?;
    }
    for Unreadable { origin, host, reason, .. } in &plan.left_out {
        say(&format!("left out: {origin} ({host}): {reason}"));
    }
    Ok(if plan.left_out.is_empty() { Outcome::Done } else { Outcome::Partly })
}

/// Lists the recipes, and checks those of the user or those that are named.
pub fn recipes(paths: &[PathBuf]) -> Ended {
    let mut out = shown();
    let mut wrong = Vec::new();
    if paths.is_empty() {
        let recipes = Recipes::load();
        for recipe in &recipes.good {
            writeln!(out, "{:<18} {}", recipe.name, recipe.title)?;
        }
        if let Some(folder) = Recipes::folder() {
            writeln!(out, "\nown recipes in {}", folder.display())?;
        }
        wrong = recipes.wrong;
    }
    for path in paths {
        let read = platform::read_small_text(path).map_err(|error| error.to_string());
        match read.and_then(|text| Recipe::parse(&text).map_err(|error| error.to_string())) {
            Ok(recipe) => writeln!(out, "{}: good: {}", path.display(), recipe.title)?,
            Err(mistake) => wrong.push((path.display().to_string(), mistake)),
        }
    }
    for (path, mistake) in &wrong {
        say(&format!("{path}: {mistake}"));
    }
    if wrong.is_empty() { Ok(Outcome::Done) } else { Err(Failure::Because("a recipe is wrong".into())) }
}

pub fn check(arguments: &args::Check) -> Ended {
    let work = cancellable();
    let progress = arguments.progress.then(|| progress::Shown::start(&work, "checking"));
    if !arguments.path.exists() {
        return Err(Failure::Because(format!("no such file or folder: {}", arguments.path.display())));
    }
    let verdict = gather::check(&arguments.path, &work)?;
    drop(progress);
    let mut out = shown();
    for finding in &verdict.findings {
        writeln!(out, "{}: {}: {}", finding.kind, boxclock_core::visible(&finding.path, false), finding.detail)?;
    }
    let of_key = match (&arguments.key, &verdict.signature) {
        (None, _) => true,
        (Some(key), Some(signature)) => signature.is_of(key)?,
        (Some(_), None) => false,
    };
    if let Some(signature) = &verdict.signature {
        let by = if signature.by.is_empty() { String::new() } else { format!(", which calls itself {}", signature.by) };
        writeln!(out, "signed with the key {}{by}", signature.fingerprint())?;
    }
    for step in &verdict.seal.custody {
        writeln!(out, "{} {} by {} from the box with SHA-256 {}", step.at, step.what, step.by, step.box_sha256)?;
    }
    if verdict.seal.story_sha256.is_none() {
        writeln!(out, "the story is not part of the seal: an older program sealed this box")?;
    }
    if !of_key {
        return Err(Failure::Because(format!("{}: not signed with that key", arguments.path.display())));
    }
    if verdict.findings.is_empty() {
        writeln!(out, "{}: the seal holds: {}", arguments.path.display(), many(verdict.seal.files.len(), "file"))?;
        return Ok(Outcome::Done);
    }
    Err(Failure::Because(format!(
        "{}: the seal is broken: {}",
        arguments.path.display(),
        many(verdict.findings.len(), "finding")
    )))
}

/// Writes the three hosts of a tale of the demo to a temporary folder and gathers them by recipes.
pub fn seal_demo(into: &Path, tale: boxclock_demo::Tale) -> Result<(), Failure> {
    let cannot = |error: io::Error| Failure::Because(format!("cannot write the demo case {}: {error}", into.display()));
    let folder = into.parent().filter(|folder| !folder.as_os_str().is_empty()).unwrap_or(Path::new("."));
    std::fs::create_dir_all(folder).map_err(cannot)?;
    let hosts = folder.join(format!(".demo-{}", std::process::id()));
    std::fs::create_dir_all(&hosts).map_err(cannot)?;
    let written = boxclock_demo::write_tale(tale, &hosts).map_err(cannot).and_then(|labels| {
        let mut known = Recipes::shipped();
        known.add("tankwarden.toml", &boxclock_demo::recipe(tale));
        Ok(gather::pack(
            &PackOptions {
                hosts: labels.iter().map(|label| ((*label).to_owned(), hosts.join(label))).collect(),
                into: into.to_path_buf(),
                story: boxclock_demo::story_of(tale),
                zone: Some("+02:00".into()),
                host_zones: labels.iter().map(|label| ((*label).to_owned(), "+02:00".to_owned())).collect(),
                now: boxclock_demo::SEALED_AT,
                recipes: vec!["auto".into()],
                known,
                origins_below: Some(hosts.clone()),
                codes: vec![("tankwarden.toml".into(), boxclock_demo::CODES.into())],
                ..PackOptions::default()
            },
            &Work::default(),
        )?)
    });
    // The unpacked hosts are only a step on the way; what is left behind on a failure is removed as far as it can be.
    let _ = std::fs::remove_dir_all(&hosts);
    written.map(|_| ())
}

/// Says whether the sources cover the moment.
pub fn coverage(arguments: &args::Coverage) -> Ended {
    let (case, loaded) = read(&arguments.listing.reading)?;
    let window = match &arguments.at {
        Some(at) => {
            let usage = |error: boxclock_core::Error| Failure::Usage(error.to_string());
            Window::asked((Some(at), &arguments.within), (None, None), &case.zone, now()).map_err(usage)?
        }
        None => None,
    };
    let window = if let Some(window) = window {
        window
    } else {
        let moment = coverage::moment(&case, &loaded)
            .ok_or_else(|| Failure::Usage("no time of the failure is known: give it with --at".into()))?;
        if let Some(note) = moment.note(&case.zone) {
            say(&format!("{note} Name it with --at."));
        }
        moment.window
    };
    print_coverage(&coverage::coverage(&case, &loaded, window), window, &case.zone, arguments.listing.form)?;
    Ok(name_left_out(&case, &loaded))
}

fn print_coverage(rows: &[coverage::Row], window: Window, zone: &Zone, form: args::ListForm) -> io::Result<()> {
    let mut out = of_form(form);
    if form == args::ListForm::Jsonl {
        for row in rows {
            writeln!(out, "{}", safe_json(serde_json::to_string(row)?))?;
        }
        return Ok(());
    }
    for line in coverage::lines(rows, window, zone) {
        writeln!(out, "{line}")?;
    }
    Ok(())
}

/// Runs the checks over the facts in a case.
pub fn checks(arguments: &args::Listing) -> Ended {
    let work = cancellable();
    let _shown = arguments.reading.progress.then(|| super::progress::Shown::start(&work, "reading"));
    let case = open(&arguments.reading, &work)?;
    let checks = Checks::load();
    let loaded = case.load(&work)?;
    let view = CaseView::new(case, loaded);
    let (findings, unread) = facts::checks::all_findings(&view, &checks, &work)?;
    let mut out = of_form(arguments.form);
    for finding in &findings {
        if arguments.form == args::ListForm::Jsonl {
            writeln!(out, "{}", safe_json(serde_json::to_string(finding).map_err(io::Error::from)?))?;
            continue;
        }
        let Finding { level, host, title, evidence, file, line, reason, advice, .. } = finding;
        writeln!(out, "{:<9} {host}: {title}: {}", level.name(), boxclock_core::visible(evidence, false))?;
        writeln!(out, "{:10}{file}:{line}", "")?;
        writeln!(out, "{:10}{reason}", "")?;
        for step in advice.lines() {
            writeln!(out, "{:10}{step}", "")?;
        }
    }
    if findings.is_empty() && arguments.form == args::ListForm::Text {
        let of = view.case.documents.iter().filter(|document| document.name.ends_with(facts::FACTS_NAME)).count();
        writeln!(
            out,
            "{} on {}: no findings. All requested restarts took place.",
            many(checks.good.len(), "check"),
            many(of, "host")
        )?;
    }
    for (file, mistake) in checks.wrong.iter().chain(&unread) {
        say(&format!("{file}: {mistake}"));
    }
    Ok(if checks.wrong.is_empty() && unread.is_empty() { Outcome::Done } else { Outcome::Partly })
}

/// Values that still look like secrets and are listed one by one.
const MOST_LEFTOVERS: usize = 20;

fn visible(value: &str) -> String {
    boxclock_core::visible(value, false)
}

/// Writes a redacted copy of a box, or lists what would be replaced.
pub fn redact(arguments: &args::Redact) -> Ended {
    let work = cancellable();
    let request = RedactRequest {
        from: arguments.path.clone(),
        into: arguments.into.clone(),
        rules: arguments.rules.clone(),
        except: arguments.except.clone(),
        keep: arguments.keep.clone(),
        words: arguments.word.clone(),
        hide_hosts: arguments.hide_hosts,
        only: arguments.source.clone(),
        around: arguments.around.clone(),
        within: arguments.within.clone(),
        pinned: arguments.pinned,
        keep_binary: arguments.keep_binary,
        confirmed: arguments.confirm,
        signer: signer(arguments.sign.as_deref(), arguments.signer.as_deref())?,
    };
    let RedactReady { plan: options, rules, key } = request.prepare(now(), &work)?;
    let progress = arguments.progress.then(|| progress::Shown::start(&work, "redacting"));
    let summary = redact::redact(&options, &rules.good, key, &work)?;
    drop(progress);
    let mut out = shown();
    for AppliedRule { rule, places, values } in &summary.applied {
        let title = rules.good.iter().find(|other| other.name == *rule).map_or("", |rule| rule.title.as_str());
        writeln!(out, "{rule:<10} {places:>8} places, {values:>6} values  {title}")?;
        // The preview is for the eyes of the one who hands on; the new box's own output does not repeat secrets.
        if arguments.into.is_none() {
            for Sample { value, count, instead } in
                summary.samples.iter().filter(|(name, _)| name == rule).flat_map(|(_, samples)| samples)
            {
                writeln!(out, "{:12}{count:>6} × {} -> {instead}", "", boxclock_core::visible(value, false))?;
            }
        }
    }
    if summary.applied.is_empty() {
        writeln!(out, "these {} rules would replace nothing", rules.good.len())?;
    }
    if arguments.into.is_none() {
        for Leftover { file, rule, value, count } in summary.leftovers.iter().take(MOST_LEFTOVERS) {
            writeln!(out, "still looks like a secret: {value} ({rule}, {count} × in {file})", value = visible(value))?;
        }
        let more = summary.leftovers.len().saturating_sub(MOST_LEFTOVERS);
        if more > 0 {
            writeln!(out, "and {} more", many(more, "value"))?;
        }
        if !summary.leftovers.is_empty() {
            writeln!(out, "add a rule or --word for them, or write the copy with --confirm")?;
        }
    }
    for left in &summary.left_out {
        say(&format!("left out: {} ({}): {}", left.origin, left.host, left.reason));
    }
    if let Some(into) = &arguments.into {
        writeln!(out, "{}: {}; read it through before you hand it over", into.display(), many(summary.files, "file"))?;
    }
    Ok(if summary.left_out.iter().all(|left| left.why.is_by_choice()) { Outcome::Done } else { Outcome::Partly })
}
