//! What a code means, and the catalogues that know it.

use std::io::{self, Write};
use std::path::PathBuf;

use boxclock_core::code::lookup::{self, NoCode};
use boxclock_core::code::{Catalogues, CodeInfo, Family, Form, Platform, catalogue, user};

use crate::args::{self, ListForm};
use crate::outcome::{Ended, Failure, Outcome, of_form, say, shown};

/// What a person asked for: a code, or words.
enum Asked {
    Code(String, Vec<CodeInfo>),
    Words(String),
}

/// Explains codes, and finds codes by words.
pub fn code(arguments: &args::Code) -> Ended {
    let platform = arguments.os.as_deref().and_then(Platform::parse).unwrap_or_default();
    let (own, wrong) = user::load(&user::files_in(&Vec::from_iter(user::folder())));
    for (path, reason) in &wrong {
        say(&format!("{path}: {reason}"));
    }
    let mut outcome = if wrong.is_empty() { Outcome::Done } else { Outcome::Partly };
    let mut out = of_form(arguments.form);
    let mut none = true;
    for asked in asked(&arguments.codes, platform, &own, &mut outcome) {
        let (text, found) = match asked {
            Asked::Code(text, readings) => (text, of_system(readings, platform)),
            Asked::Words(words) => {
                let found = lookup::search(&words, platform, &own);
                if found.is_empty() {
                    say(&format!(
                        "\"{words}\" is not a code, and no meaning contains these words: write for example 0x80070005, \
                         -2147024891, 1603, ENOSPC, 42P01, or: disk full"
                    ));
                    outcome = Outcome::Partly;
                }
                (words, found)
            }
        };
        none &= found.is_empty();
        for reading in &found {
            print(&mut out, &text, reading, &own, arguments.form)?;
        }
    }
    out.flush()?;
    if none { Err(Failure::Because("none of these is a code".into())) } else { Ok(outcome) }
}

/// Takes codes and words apart: words next to each other are one search.
fn asked(texts: &[String], platform: Platform, own: &Catalogues, outcome: &mut Outcome) -> Vec<Asked> {
    let mut list: Vec<Asked> = Vec::new();
    for text in texts {
        match lookup::look_up(text, platform, own) {
            Ok(readings) => list.push(Asked::Code(text.clone(), readings)),
            Err(NoCode::TooLarge) => {
                say(&format!(
                    "\"{text}\" is larger than any code: codes have 32 bits, or 64 where a sign was carried on"
                ));
                *outcome = Outcome::Partly;
            }
            Err(NoCode::Form) => match list.last_mut() {
                Some(Asked::Words(words)) => words.push_str(&format!(" {text}")),
                _ => list.push(Asked::Words(text.clone())),
            },
        }
    }
    list
}

/// The asked system's own readings; all of them where it has none.
fn of_system(readings: Vec<CodeInfo>, platform: Platform) -> Vec<CodeInfo> {
    let own: Vec<CodeInfo> = readings.iter().filter(|reading| platform.prefers(reading.code.family)).cloned().collect();
    if platform == Platform::Unknown || own.is_empty() { readings } else { own }
}

/// Prints one reading of a code.
fn print(out: &mut impl Write, asked: &str, reading: &CodeInfo, own: &Catalogues, form: ListForm) -> io::Result<()> {
    let code = reading.code;
    if form == ListForm::Jsonl {
        let line = serde_json::json!({
            "text": asked,
            "number": code.number_out(),
            "family": code.family.name(),
            "name": reading.name,
            "failure": reading.is_failure(),
            "outcome": reading.outcome.name(),
            "known": reading.known,
            "gloss": reading.gloss,
            "meaning": reading.meaning,
            "causes": reading.causes,
            "check": reading.check,
            "catalogue": reading.user,
        });
        return writeln!(out, "{line}");
    }
    let signed = code.number.cast_signed();
    let other = match code.family.form() {
        Form::Hex if signed < 0 => format!(" = {} = {signed}", code.number),
        Form::Hex => format!(" = {}", code.number),
        Form::Decimal if code.number > 9 => format!(" = 0x{:X}", code.number),
        _ => String::new(),
    };
    let name = reading.name.filter(|name| *name != code.written(own));
    writeln!(
        out,
        "{}{other}  {}",
        code.written(own),
        name.unwrap_or(if reading.known { "" } else { "(no name known)" })
    )?;
    writeln!(out, "    {}, {}", code.family.title(), reading.outcome.words())?;
    writeln!(out, "    {}", reading.meaning)?;
    for (label, text) in [("causes", reading.causes), ("look at", reading.check)] {
        if !text.is_empty() {
            writeln!(out, "    {label}: {text}")?;
        }
    }
    if code.family == Family::Stop
        && let Some(parameters) = catalogue::stop_parameters(code.number)
    {
        for (number, text) in (1..).zip(parameters) {
            writeln!(out, "    parameter {number}: {text}")?;
        }
    }
    if let Some(place) = reading.user {
        writeln!(out, "    from your catalogue {place}")?;
    }
    Ok(())
}

/// Lists the families, and the user's catalogues with what is wrong with them.
pub fn catalogues(paths: Vec<PathBuf>) -> Ended {
    let folder = user::folder();
    let files = if paths.is_empty() { user::files_in(&Vec::from_iter(folder.clone())) } else { paths };
    let (own, wrong) = user::load(&files);
    let mut out = shown();
    for family in Family::ALL.into_iter().filter(|family| *family != Family::User) {
        let rows = catalogue::entries().iter().filter(|row| row.code.family == family);
        let (known, explained) =
            rows.fold((0, 0), |(known, explained), row| (known + 1, explained + u32::from(row.is_explained())));
        if known > 0 {
            writeln!(out, "{:<14} {known:>5} known, {explained:>4} explained  {}", family.name(), family.title())?;
        }
    }
    match (&folder, files.len()) {
        (Some(folder), 0) => writeln!(out, "no catalogue of your own in {}", folder.display())?,
        (None, 0) => writeln!(out, "no folder for catalogues of your own (set HOME)")?,
        (_, number) => {
            let (codes, files) = (boxclock_core::many(own.len(), "code"), boxclock_core::many(number, "file"));
            writeln!(out, "{codes} of your own in {files}")?;
        }
    }
    out.flush()?;
    for (path, reason) in &wrong {
        say(&format!("{path}: {reason}"));
    }
    Ok(if wrong.is_empty() { Outcome::Done } else { Outcome::Partly })
}
