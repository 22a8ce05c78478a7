//! What is known of faults: cards, and whether a failure is gone.

use std::io::Write;
use std::path::Path;

use boxclock_core::analysis::CaseView;
use boxclock_core::card::{self, CardMatch, Cards, MadeCard, MadeFrom};
use boxclock_core::case::Case;
use boxclock_core::clock::{now, to_rfc3339};
use boxclock_core::logbook::Logbook;
use boxclock_core::new_file::NewFile;
use boxclock_core::verify::{self, Part, Verdict};
use boxclock_core::visible::safe_json;
use boxclock_core::{platform, visible};

use super::{cancellable, name_left_out, read};
use crate::args::{self, ListForm, Reading};
use crate::outcome::{Ended, Failure, Outcome, of_form, say, shown};

/// The logbook of a case, where it has one.
fn logbook_of(case: &Case) -> Result<Option<Logbook>, Failure> {
    match case.logbook_path.as_ref().filter(|path| path.exists()) {
        Some(path) => Ok(Some(Logbook::open(path)?)),
        None => Ok(None),
    }
}

/// Lists cards, checks files of them, prints those that fit a case, or makes one from its chain.
pub fn cards(arguments: &args::Cards) -> Ended {
    let paths = &arguments.listing.reading.paths;
    let is_card = |path: &Path| path.extension().is_some_and(|extension| extension == "toml");
    if let Some(name) = &arguments.make {
        return make(arguments, name);
    }
    if !paths.is_empty() && paths.iter().all(|path| is_card(path)) {
        return check(paths);
    }
    if paths.is_empty() && arguments.listing.reading.host.is_empty() {
        return list();
    }
    let (case, loaded) = read(&arguments.listing.reading)?;
    let view = CaseView::new(case, loaded);
    let found = card::fitting(&view, &cancellable())?;
    let mut out = of_form(arguments.listing.form);
    for one in found.iter() {
        if arguments.listing.form == ListForm::Jsonl {
            writeln!(out, "{}", safe_json(json(one).to_string()))?;
        } else {
            page(&mut out, &view, one)?;
        }
    }
    if found.is_empty() && arguments.listing.form == ListForm::Text {
        writeln!(out, "no card fits: nothing in this case is known")?;
    }
    out.flush()?;
    let outcome = name_left_out(&view.case, &view.loaded);
    Ok(if name_wrong(&Cards::of(&view.case)) { Outcome::Partly } else { outcome })
}

/// Names the mistakes in files of cards, and gives whether there are some.
fn name_wrong(cards: &Cards) -> bool {
    for (file, mistake) in &cards.wrong {
        say(&format!("{file}: {mistake}"));
    }
    !cards.wrong.is_empty()
}

fn list() -> Ended {
    let cards = Cards::load();
    let mut out = shown();
    for one in &cards.good {
        writeln!(out, "{:<28} {:<9} {}", one.name, one.level.word(), one.title)?;
    }
    for folder in Cards::folders() {
        writeln!(out, "own cards in {}", folder.display())?;
    }
    out.flush()?;
    Ok(if name_wrong(&cards) { Outcome::Partly } else { Outcome::Done })
}

fn check(paths: &[std::path::PathBuf]) -> Ended {
    let mut out = shown();
    let mut cards = Cards::none();
    for path in paths {
        let before = cards.good.len();
        match platform::read_small_text(path) {
            Ok(text) => cards.add(&path.display().to_string(), &text),
            Err(error) => cards.wrong.push((path.display().to_string(), error.to_string())),
        }
        for one in &cards.good[before.min(cards.good.len())..] {
            writeln!(out, "{}: good: {}", path.display(), one.name)?;
        }
    }
    out.flush()?;
    if name_wrong(&cards) { Err(Failure::Because("a card is wrong".into())) } else { Ok(Outcome::Done) }
}

fn json(one: &CardMatch) -> serde_json::Value {
    let signs: Vec<serde_json::Value> = one
        .signs
        .iter()
        .map(|sign| {
            let places: Vec<_> = sign
                .places
                .iter()
                .map(|place| serde_json::json!({"source": place.source, "line": place.line}))
                .collect();
            serde_json::json!({"sign": sign.sign + 1, "count": sign.count, "evidence": places})
        })
        .collect();
    serde_json::json!({
        "card": one.card.name, "title": one.card.title, "level": one.card.level.word(), "score": one.score, "signs": signs,
        "unmet": one.unmet, "cause": one.card.cause, "remedies": one.card.remedies, "gone": one.card.gone,
        "references": one.card.references, "file": one.card.file,
    })
}

fn page(out: &mut dyn Write, view: &CaseView, one: &CardMatch) -> std::io::Result<()> {
    const PLACES: usize = 4;
    writeln!(out, "{:.2}  {:<9} {}  ({})", one.score, one.card.level.word(), one.card.title, one.card.name)?;
    writeln!(out, "  {}", visible(&one.card.cause, false))?;
    for sign in &one.signs {
        writeln!(out, "  sign {}: {}", sign.sign + 1, boxclock_core::many(sign.count as u64, "line"))?;
        for place in sign.places.iter().take(PLACES) {
            let host = view.loaded.table.event(place.row).host();
            writeln!(out, "    {host}  {}:{}", visible(&place.source, false), place.line)?;
        }
    }
    for remedy in &one.card.remedies {
        writeln!(out, "  do: {}\n      {}", visible(&remedy.what, false), visible(&remedy.proves, false))?;
    }
    if !one.card.gone.is_empty() {
        writeln!(out, "  gone when: {}", visible(&one.card.gone, false))?;
    }
    writeln!(out)
}

fn make(arguments: &args::Cards, name: &str) -> Ended {
    let (case, loaded) = read(&arguments.listing.reading)?;
    let view = CaseView::new(case, loaded);
    let logbook = logbook_of(&view.case)?.map_or_else(Logbook::in_memory, Ok)?;
    let from = MadeFrom::of(&view, &logbook, name)?;
    let MadeCard { text, .. } = card::make(&view, &from, &cancellable())?;
    if let Some(path) = &arguments.into {
        NewFile::write(path, &view.case.protected(), arguments.force, text.as_bytes())?;
    } else {
        let mut out = shown();
        write!(out, "{text}")?;
        out.flush()?;
    }
    Ok(name_left_out(&view.case, &view.loaded))
}

/// Says whether the failure is gone.
pub fn verify(arguments: &args::Verify) -> Ended {
    let work = cancellable();
    let (case, loaded) = read(&arguments.listing.reading)?;
    let before = CaseView::new(case, loaded);
    // What was said of hosts, zones and clocks of the first box holds for the later one too.
    let later = Reading {
        paths: arguments.after.clone(),
        host: Vec::new(),
        remember: false,
        ..arguments.listing.reading.clone()
    };
    let (case, loaded) = read(&later)?;
    let after = CaseView::new(case, loaded);
    let logbook = logbook_of(&before.case)?;
    let found = verify::verify(&before, logbook.as_ref(), &after, &work)?;
    if arguments.keep {
        let path = before.case.logbook_path.as_ref();
        let path = path.ok_or_else(|| Failure::Because("this case has no logbook to keep the verdict in".into()))?;
        let name = arguments.after.iter().map(|path| path.display().to_string()).collect::<Vec<_>>().join(", ");
        Logbook::open(path)?.add_verdict(&name, &found, &to_rfc3339(now()))?;
    }
    let mut out = of_form(arguments.listing.form);
    if arguments.listing.form == ListForm::Jsonl {
        for line in found.json() {
            writeln!(out, "{}", safe_json(line.to_string()))?;
        }
    } else {
        for item in &found.items {
            let state = if item.part == Part::New { "" } else { item.state.name() };
            writeln!(out, "{:<8} {state:<8} {}", item.part.name(), visible(&item.text, false))?;
            writeln!(out, "                  {}", visible(&item.why, false))?;
            for (side, place) in [("first", &item.before), ("later", &item.after)] {
                if let Some(place) = place {
                    writeln!(out, "                  {side}: {}:{}", visible(&place.source, false), place.line)?;
                }
            }
        }
        writeln!(out, "{}: {}", found.verdict.name(), visible(&found.summary, false))?;
    }
    out.flush()?;
    let first = name_left_out(&before.case, &before.loaded);
    let second = name_left_out(&after.case, &after.loaded);
    match found.verdict {
        Verdict::Fixed => Ok(if matches!(first, Outcome::Done) { second } else { first }),
        Verdict::NotFixed => Err(Failure::Because("the failure is still there".into())),
        Verdict::NotProvable => {
            Err(Failure::Because("whether the failure is gone cannot be told from these boxes".into()))
        }
    }
}
