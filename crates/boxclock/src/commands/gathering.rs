//! Gathering: packing, checking, recipes, and the demo case.

use std::io::{self, IsTerminal, Write};
use std::path::{Path, PathBuf};
use std::sync::Arc;
use std::time::{Duration, Instant};

use boxclock_core::case::{Case, Options};
use boxclock_core::clock::{Zone, human, to_rfc3339};
use boxclock_core::coverage;
use boxclock_core::facts::{self, Checks, Finding};
use boxclock_core::gather::recipe::{Recipe, Recipes};
use boxclock_core::gather::redact::{HandOn, Rules, Sample, hand_on};
use boxclock_core::gather::{self, AppliedRule, Mark, PackOptions, Packed, Plan, Unreadable, Window};
use boxclock_core::logbook::{Logbook, Story};
use boxclock_core::work::Work;

use super::{cancellable, name_left_out, now, open, options, progress, read};
use crate::args;
use crate::outcome::{Ended, Failure, Outcome, say};

/// What the arguments of a command that gathers mean.
pub fn pack_options(arguments: &args::Pack) -> Result<PackOptions, Failure> {
    let reading = options(&arguments.reading)?;
    let zone = reading.zone.clone().unwrap_or_else(Zone::utc);
    let known = recipes_named();
    Ok(PackOptions {
        paths: arguments.reading.paths.clone(),
        hosts: reading.hosts.clone(),
        into: arguments.into.clone().unwrap_or_default(),
        story: Story { title: arguments.title.clone().unwrap_or_default(), ..Story::default() },
        zone: reading.zone.as_ref().map(|zone| zone.name().to_owned()),
        host_zones: reading.host_zones.iter().map(|(label, zone)| (label.clone(), zone.name().to_owned())).collect(),
        now: now(),
        recipes: arguments.recipe.clone(),
        known,
        window: window(arguments, &zone)?,
        reading,
        ssh_config: arguments.ssh_config.clone(),
        may_ask: io::stdin().is_terminal(),
        since: None,
        origins_below: None,
        marks: Vec::new(),
    })
}

/// The recipes that can be used; wrong ones are named.
fn recipes_named() -> Recipes {
    let known = Recipes::load();
    for (file, mistake) in &known.wrong {
        say(&format!("{file}: {mistake}"));
    }
    known
}

fn window(arguments: &args::Pack, zone: &Zone) -> Result<Option<Window>, Failure> {
    let usage = |flag: &str, error: &boxclock_core::Error| Failure::Usage(format!("--{flag}: {error}"));
    let moment = |flag: &str, text: &str| human::moment(text, zone, now()).map_err(|error| usage(flag, &error));
    if arguments.whole {
        return Ok(None);
    }
    if let Some(around) = &arguments.around {
        let within = human::duration(&arguments.within).map_err(|error| usage("within", &error))?;
        if within < 0 {
            return Err(Failure::Usage("--within: a span of time is not negative".into()));
        }
        return Ok(Some(Window::around(moment("around", around)?, within)));
    }
    if arguments.from.is_none() && arguments.to.is_none() {
        return Ok(None);
    }
    let from = arguments.from.as_deref().map_or(Ok(i64::MIN / 2), |text| moment("from", text))?;
    let to = arguments.to.as_deref().map_or(Ok(now()), |text| moment("to", text))?;
    if from > to {
        return Err(Failure::Usage("--from lies behind --to".into()));
    }
    Ok(Some(Window { from, to }))
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
    let shown = arguments.reading.progress.then(|| progress::Shown::start(&work, "packing"));
    let packed = gather::pack(&options, &work)?;
    drop(shown);
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
    let lasting = arguments.lasting.as_deref().map(human::duration).transpose();
    let lasting = lasting.map_err(|error| Failure::Usage(format!("--for: {error}")))?;
    let snapshot = gather::snapshot(options, work)?;
    let files = snapshot.files;
    options.since = Some(Arc::new(snapshot));
    let mut mark = |text: &str| options.marks.push(Mark { time: to_rfc3339(now()), text: text.into() });
    mark("capture began");
    if let Some(ns) = lasting {
        say(&format!("capturing {files} files: reproduce the failure now"));
        let until = Instant::now() + Duration::from_nanos(u64::try_from(ns).unwrap_or(0));
        while Instant::now() < until {
            work.check()?;
            std::thread::sleep(Duration::from_millis(20));
        }
    } else {
        say(&format!("capturing {files} files: reproduce the failure now, then press Enter (Ctrl-C gives up)"));
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
    let bytes: u64 = seal.files.iter().map(|file| file.size).sum();
    let cut = seal.files.iter().filter(|file| file.cut.is_some()).count();
    let mut text =
        format!("{}: {} files, {bytes} bytes, {} left out", into.display(), seal.files.len(), seal.unreadable.len());
    if seal.window.is_some() {
        text.push_str(&format!(", {cut} cut to the window, {} outside of it", seal.outside.len()));
    }
    writeln!(io::stdout(), "{text}")?;
    Ok(if seal.unreadable.is_empty() { Outcome::Done } else { Outcome::Partly })
}

fn print_plan(plan: &Plan, window: Option<Window>) -> Ended {
    let mut out = io::stdout().lock();
    if let Some(window) = window {
        writeln!(out, "window   {} to {}", to_rfc3339(window.from), to_rfc3339(window.to))?;
    }
    for host in &plan.hosts {
        let origin = host.origin.as_deref().unwrap_or_default();
        writeln!(out, "host     {}  {origin}  zone {}", host.label, host.zone.as_deref().unwrap_or("unknown"))?;
        for file in plan.files.iter().filter(|file| file.host == host.label) {
            let class = file.class.map_or("-", |class| class.name());
            let recipe = file.recipe.as_deref().unwrap_or("-");
            writeln!(
                out,
                "  file   {class:<13} {recipe:<16} {:>12}  {}",
                file.size,
                boxclock_core::visible(&file.origin, false)
            )?;
        }
        for planned in plan.commands.iter().filter(|command| command.host == host.label) {
            let class = planned.command.class.name();
            writeln!(
                out,
                "  run    {class:<13} {:<16} {:>10} s  {}",
                planned.recipe,
                planned.command.timeout_s,
                planned.command.run.join(" ")
            )?;
        }
    }
    let bytes: u64 = plan.files.iter().map(|file| file.size).sum();
    writeln!(
        out,
        "{} files, {bytes} bytes, {} commands; nothing was copied or run",
        plan.files.len(),
        plan.commands.len()
    )?;
    for Unreadable { origin, host, reason, .. } in &plan.left_out {
        say(&format!("left out: {origin} ({host}): {reason}"));
    }
    Ok(if plan.left_out.is_empty() { Outcome::Done } else { Outcome::Partly })
}

/// Lists the recipes, and checks those of the user or those that are named.
pub fn recipes(paths: &[PathBuf]) -> Ended {
    let mut out = io::stdout().lock();
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
        let read = std::fs::read_to_string(path).map_err(|error| error.to_string());
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
    let shown = arguments.progress.then(|| progress::Shown::start(&work, "checking"));
    if !arguments.path.exists() {
        return Err(Failure::Because(format!("no such file or folder: {}", arguments.path.display())));
    }
    let verdict = gather::check(&arguments.path, &work)?;
    drop(shown);
    let mut out = io::stdout().lock();
    for finding in &verdict.findings {
        writeln!(out, "{}: {}: {}", finding.kind, boxclock_core::visible(&finding.path, false), finding.detail)?;
    }
    if verdict.findings.is_empty() {
        writeln!(out, "{}: the seal holds: {} files", arguments.path.display(), verdict.seal.files.len())?;
        return Ok(Outcome::Done);
    }
    Err(Failure::Because(format!(
        "{}: the seal is broken: {} members differ",
        arguments.path.display(),
        verdict.findings.len()
    )))
}

/// Writes the three hosts of the demo story to a temporary folder and gathers them by recipes.
pub fn seal_demo(into: &Path) -> Result<(), Failure> {
    let cannot = |error: io::Error| Failure::Because(format!("cannot write the demo case {}: {error}", into.display()));
    let folder = into.parent().filter(|folder| !folder.as_os_str().is_empty()).unwrap_or(Path::new("."));
    std::fs::create_dir_all(folder).map_err(cannot)?;
    let hosts = folder.join(format!(".demo-{}", std::process::id()));
    std::fs::create_dir_all(&hosts).map_err(cannot)?;
    let written = boxclock_demo::write_demo(&hosts).map_err(cannot).and_then(|labels| {
        let mut known = Recipes::shipped();
        known.add("tankwarden.toml", boxclock_demo::RECIPE);
        Ok(gather::pack(
            &PackOptions {
                hosts: labels.iter().map(|label| ((*label).to_owned(), hosts.join(label))).collect(),
                into: into.to_path_buf(),
                story: boxclock_demo::story(),
                zone: Some("+02:00".into()),
                host_zones: labels.iter().map(|label| ((*label).to_owned(), "+02:00".to_owned())).collect(),
                now: boxclock_demo::SEALED_AT,
                recipes: vec!["auto".into()],
                known,
                origins_below: Some(hosts.clone()),
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
            let within = human::duration(&arguments.within).map_err(usage)?;
            Window::around(human::moment(at, &case.zone, now()).map_err(usage)?, within)
        }
        None => coverage::moment(&case, &loaded)
            .ok_or_else(|| Failure::Usage("no moment is known: name it with --at".into()))?,
    };
    print_coverage(&coverage::coverage(&case, &loaded, window), window, &case.zone, arguments.listing.form)?;
    Ok(name_left_out(&case, &loaded))
}

fn print_coverage(rows: &[coverage::Row], window: Window, zone: &Zone, form: args::ListForm) -> io::Result<()> {
    let mut out = io::stdout().lock();
    if form == args::ListForm::Jsonl {
        for row in rows {
            writeln!(out, "{}", serde_json::to_string(row)?)?;
        }
        return Ok(());
    }
    let time = |ns: i64| human::date_time(ns, zone)[..19].to_owned();
    writeln!(out, "does it cover {} to {} ({})?", time(window.from), time(window.to), zone.name())?;
    for row in rows {
        let state = row.state.words();
        writeln!(
            out,
            "{:<14} {:<12} {state:<16} {}",
            row.host,
            row.class.name(),
            boxclock_core::visible(&row.detail, false)
        )?;
        if !row.advice.is_empty() {
            writeln!(out, "{:28}{}", "", row.advice)?;
        }
    }
    Ok(())
}

/// Runs the checks over the facts in a case.
pub fn checks(arguments: &args::Listing) -> Ended {
    let case = open(&arguments.reading, &cancellable())?;
    let checks = Checks::load();
    let (findings, unread) = facts::checks::findings(&case, &checks);
    let mut out = io::stdout().lock();
    for finding in &findings {
        if arguments.form == args::ListForm::Jsonl {
            writeln!(out, "{}", serde_json::to_string(finding).map_err(io::Error::from)?)?;
            continue;
        }
        let Finding { level, host, title, evidence, file, line, reason, advice, .. } = finding;
        writeln!(out, "{:<9} {host}: {title}: {}", level.name(), boxclock_core::visible(evidence, false))?;
        writeln!(out, "{:10}{file}:{line}", "")?;
        writeln!(out, "{:10}{reason}", "")?;
        writeln!(out, "{:10}{advice}", "")?;
    }
    if findings.is_empty() && arguments.form == args::ListForm::Text {
        let of = case.documents.iter().filter(|document| document.name.ends_with(facts::FACTS_NAME)).count();
        writeln!(out, "nothing found in the facts of {of} hosts, {} checks", checks.good.len())?;
    }
    for (file, mistake) in checks.wrong.iter().chain(&unread) {
        say(&format!("{file}: {mistake}"));
    }
    Ok(if checks.wrong.is_empty() && unread.is_empty() { Outcome::Done } else { Outcome::Partly })
}

/// Writes a box to hand on, or says what would be replaced.
pub fn redact(arguments: &args::Redact) -> Ended {
    let usage = |error: boxclock_core::Error| Failure::Usage(error.to_string());
    if !arguments.path.exists() {
        return Err(Failure::Because(format!("no such file or folder: {}", arguments.path.display())));
    }
    if !gather::is_box(&arguments.path)? {
        return Err(Failure::Because(format!("{} is not a box", arguments.path.display())));
    }
    let work = cancellable();
    let case = Case::open(std::slice::from_ref(&arguments.path), Options::default(), &work)?;
    let mut rules = Rules::load();
    for path in &arguments.rules {
        let text = std::fs::read_to_string(path)
            .map_err(|error| Failure::Because(format!("cannot read {}: {error}", path.display())))?;
        rules.add(&path.display().to_string(), &text);
    }
    if let Some((file, mistake)) = rules.wrong.first() {
        // A rule that is wrong would leave in what it should replace.
        return Err(Failure::Because(format!("{file}: {mistake}")));
    }
    for name in &arguments.except {
        if !rules.good.iter().any(|rule| rule.name == *name) {
            let known: Vec<&str> = rules.good.iter().map(|rule| rule.name.as_str()).collect();
            return Err(Failure::Usage(format!("no rule is called \"{name}\": there are {}", known.join(", "))));
        }
    }
    rules.good.retain(|rule| !arguments.except.contains(&rule.name));
    rules.add_words("word", "Words of the user", &arguments.word);
    if arguments.hide_hosts {
        let labels = case.seal.iter().flat_map(|seal| seal.hosts.iter().map(|host| host.label.clone()));
        rules.add_words("host", "Labels of hosts", &labels.collect::<Vec<_>>());
    }
    for source in &arguments.source {
        let known = |name: &str| name == source || name.split('!').next() == Some(source);
        if !case.sources.iter().any(|other| known(&other.name))
            && !case.documents.iter().any(|other| other.name == *source)
        {
            return Err(Failure::Usage(format!("the box holds no source {source}: see boxclock sources")));
        }
    }
    let logbook = match &case.logbook_path {
        Some(path) => Logbook::open(path)?,
        None => Logbook::in_memory()?,
    };
    let within = human::duration(&arguments.within).map_err(usage)?;
    let around = arguments.around.as_deref().map(|text| human::moment(text, &case.zone, now()).map_err(usage));
    let pins = if arguments.pinned { logbook.pins()? } else { Vec::new() };
    let options = HandOn {
        from: arguments.path.clone(),
        into: arguments.into.clone(),
        now: now(),
        only: arguments.source.clone(),
        window: around.transpose()?.map(|moment| Window::around(moment, within)),
        pins: pins.into_iter().map(|pin| (pin.source, pin.offset)).collect(),
        keep_binary: arguments.keep_binary,
    };
    let shown = arguments.progress.then(|| progress::Shown::start(&work, "redacting"));
    let handed = hand_on(&options, &rules.good, logbook.redaction_key()?, &work)?;
    drop(shown);
    let mut out = io::stdout().lock();
    for AppliedRule { rule, places, values } in &handed.applied {
        let title = rules.good.iter().find(|other| other.name == *rule).map_or("", |rule| rule.title.as_str());
        writeln!(out, "{rule:<10} {places:>8} places, {values:>6} values  {title}")?;
        // The preview is for the eyes of the one who hands on; the new box's own output does not repeat secrets.
        if arguments.into.is_none() {
            for Sample { value, count, instead } in
                handed.samples.iter().filter(|(name, _)| name == rule).flat_map(|(_, samples)| samples)
            {
                writeln!(out, "{:12}{count:>6} × {} -> {instead}", "", boxclock_core::visible(value, false))?;
            }
        }
    }
    if handed.applied.is_empty() {
        writeln!(out, "nothing that these {} rules would replace", rules.good.len())?;
    }
    for left in &handed.left_out {
        say(&format!("left out: {} ({}): {}", left.origin, left.host, left.reason));
    }
    if let Some(into) = &arguments.into {
        writeln!(out, "{}: {} files; read it once before you hand it on", into.display(), handed.files)?;
    }
    let by_will = |left: &Unreadable| left.reason == "not chosen for this box" || left.reason.ends_with("the window");
    Ok(if handed.left_out.iter().all(by_will) { Outcome::Done } else { Outcome::Partly })
}
