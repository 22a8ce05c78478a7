//! What is known of the case: fault cards that fit, where they were met before, the checklist of remedies, and the shelf.

use std::path::PathBuf;
use std::sync::Arc;
use std::time::{Duration, Instant};

use boxclock_core::analysis::CaseView;
use boxclock_core::card::{self, CardMatch, Cards, MadeCard, MadeFrom};
use boxclock_core::case::{Case, Options};
use boxclock_core::clock::{now, to_rfc3339};
use boxclock_core::logbook::{Logbook, RemedyStep};
use boxclock_core::new_file::NewFile;
use boxclock_core::shelf::{self, Shelf};
use boxclock_core::verify;
use boxclock_core::work::Work;
use boxclock_core::{Error, Result, cause, platform};

use super::{Context, Then};
use crate::jobs::{Apply, KNOWN, VERIFY, WRITE};

/// How often it is looked again while files are followed.
const WHILE_FOLLOWING: Duration = Duration::from_secs(30);

impl Context {
    /// Looks which cards fit, where they were met before, and puts the case on the shelf.
    pub fn look_for_known(&mut self) {
        self.known = None;
        // While files grow, not at each new line.
        let was_lately = self.known_at.is_some_and(|at| at.elapsed() < WHILE_FOLLOWING);
        if self.follow.is_some() && (was_lately || self.jobs.is_running(KNOWN)) {
            return;
        }
        self.known_at = Some(Instant::now());
        let table = self.table_id();
        let (path, logbook) = (self.shelf.clone(), self.logbook.path().to_path_buf());
        self.start(KNOWN, move |view, work| {
            let found = card::fitting(view, work)?;
            // A shelf that cannot be used keeps nobody from reading: it is named, once.
            let kept = path.map(|path| keep(&path, &logbook, view, work)).transpose();
            let (all, trouble) = match kept {
                Ok(all) => (all.unwrap_or_default(), None),
                Err(error) if error.is_cancelled() => return Err(error),
                Err(error) => (Vec::new(), Some(error.to_string())),
            };
            let here = view.case.paths.first().and_then(|path| std::path::absolute(path).ok()).unwrap_or_default();
            let met = |found: &CardMatch| (found.clone(), shelf::met_elsewhere(&all, &here, &found.card.name));
            // Those of one's own say more than shipped ones, which everybody meets.
            let mut known: Vec<(CardMatch, usize)> = found.iter().map(met).collect();
            known.sort_by_key(|(found, _)| !found.card.is_own());
            Ok(Box::new(move |cx: &mut Self| {
                // The lines are those of the events that were looked at: of others they would be other lines, or none.
                if cx.table_id() != table {
                    return cx.look_for_known();
                }
                if let Some(trouble) = trouble {
                    cx.message = Some(trouble);
                }
                cx.known = Some(Arc::new(known));
                cx.state += 1;
            }) as Apply<Self>)
        });
    }

    /// Notes title and cause of the case on the shelf, as they are now.
    pub fn note_on_shelf(&mut self) {
        let (Some(shelf), [path]) = (&self.shelf, &self.view.case.paths[..]) else { return };
        let noted = std::path::absolute(path).map_err(|error| Error::at(path, "cannot name", error)).and_then(|path| {
            let chain = cause::kept_chain(&self.view, &self.logbook)?;
            Shelf::open(shelf)?.set_cause(&path, self.title(), cause::root_note(&chain))
        });
        if let Err(error) = noted {
            self.fail(&error);
        }
    }

    /// Replaces the checklist of remedies; one undo takes that back.
    ///
    /// # Errors
    /// When the logbook cannot be written.
    pub fn set_remedies(&mut self, steps: Vec<RemedyStep>) -> Result<()> {
        self.logbook.set_remedies(&steps)?;
        let before = std::mem::replace(&mut self.remedies, steps);
        self.note_undo("remedies", move |cx| {
            cx.logbook.set_remedies(&before)?;
            cx.remedies = before;
            Ok(())
        });
        Ok(())
    }

    /// Adds what a card says is to be done to the checklist; what stands there already is not added again.
    ///
    /// # Errors
    /// When the logbook cannot be written.
    pub fn add_remedies(&mut self, of: &card::Card) -> Result<Then> {
        let new = of.remedies.iter().map(|remedy| (remedy.what.clone(), remedy.proves.clone())).collect();
        self.add_steps(new, "All steps of this card are already in the checklist.")
    }

    /// Adds steps (what to do, what it proves) to the checklist, but those that it has; says `none` where it has all.
    ///
    /// # Errors
    /// When the logbook cannot be written.
    pub fn add_steps(&mut self, new: Vec<(String, String)>, none: &str) -> Result<Then> {
        let mut steps = self.remedies.clone();
        for (what, proves) in new {
            if !steps.iter().any(|step| step.what == what) {
                steps.push(RemedyStep { what, proves, done: None });
            }
        }
        let added = steps.len() - self.remedies.len();
        if added == 0 {
            return Ok(Then::say(none));
        }
        self.set_remedies(steps)?;
        Ok(Then::say(format!("{} added to the checklist below.", crate::text::many(added as u64, "step"))))
    }

    /// Notes that a step was done now by who uses the program, or that it was not.
    ///
    /// # Errors
    /// When the logbook cannot be written.
    pub fn toggle_remedy(&mut self, at: usize) -> Result<Then> {
        let mut steps = self.remedies.clone();
        let Some(step) = steps.get_mut(at) else { return Ok(Then::Stay) };
        let who = self.settings.author.clone().or_else(platform::author).unwrap_or_else(|| "somebody".into());
        step.done = if step.done.is_some() { None } else { Some((who, to_rfc3339(now()))) };
        self.set_remedies(steps)?;
        Ok(Then::Stay)
    }

    /// Makes a card of the chain, in the user's own folder of cards.
    ///
    /// # Errors
    /// When there is no chain, or the card exists.
    pub fn make_card(&mut self, name: &str) -> Result<Then> {
        let folder = Cards::own_folder().ok_or_else(|| Error::new("There is no configuration folder for cards."))?;
        let from = MadeFrom::of(&self.view, &self.logbook, name)?;
        self.nothing_is_written()?;
        self.start(WRITE, move |view, work| {
            let MadeCard { name, text } = card::make(view, &from, work)?;
            platform::private_folder(&folder).map_err(|error| Error::at(&folder, "cannot make the folder", error))?;
            let path = folder.join(format!("{name}.toml"));
            NewFile::write(&path, &view.case.protected(), false, text.as_bytes())?;
            let said = format!("Card written: {}. Look through it with an editor.", path.display());
            Ok(Box::new(move |cx: &mut Self| {
                cx.message = Some(said);
                cx.look_for_known();
            }) as Apply<Self>)
        });
        Ok(Then::Stay)
    }

    /// Holds this case against a box gathered after the fix, and keeps the verdict.
    ///
    /// # Errors
    /// When there is no such file.
    pub fn verify(&mut self, name: &str) -> Result<Then> {
        let path = PathBuf::from(name.trim());
        if !path.exists() {
            return Err(Error::new(format!(
                "{} does not exist. Enter the box gathered after the fix.",
                path.display()
            )));
        }
        let logbook = self.logbook.path().to_path_buf();
        self.start(VERIFY, move |view, work| {
            let case = Case::open(std::slice::from_ref(&path), Options::default(), work)?;
            let loaded = case.load(work)?;
            let later = CaseView::new(case, loaded);
            let logbook = if logbook.as_os_str().is_empty() { None } else { Some(Logbook::open(&logbook)?) };
            let found = verify::verify(view, logbook.as_ref(), &later, work)?;
            let name = path.display().to_string();
            Ok(Box::new(move |cx: &mut Self| {
                match cx.logbook.add_verdict(&name, &found, &to_rfc3339(now())) {
                    Ok(()) => cx.message = Some(format!("{}: {}", found.verdict.name(), found.summary)),
                    Err(error) => cx.fail(&error),
                }
                cx.state += 1;
            }) as Apply<Self>)
        });
        Ok(Then::say("Reading the later box …"))
    }
}

/// In how many other cases something was met, for people.
pub fn seen_in(met: usize) -> String {
    if met == 0 { String::new() } else { format!(", seen in {}", crate::text::many(met as u64, "other case")) }
}

/// Puts a case on the shelf, and gives all that stands there.
fn keep(
    path: &std::path::Path,
    logbook: &std::path::Path,
    view: &CaseView,
    work: &Work,
) -> Result<Vec<shelf::ShelfEntry>> {
    let shelf = Shelf::open(path)?;
    let logbook = if logbook.as_os_str().is_empty() { Logbook::in_memory()? } else { Logbook::open(logbook)? };
    if let Some(entry) = shelf::entry_of(view, &logbook, now(), work)? {
        shelf.put(&entry)?;
    }
    shelf.all()
}
