//! Reading one catalogue file: what each row says, and what is wrong with it, with line and column.

use std::fmt;

use rustc_hash::FxHashSet;
use serde::Deserialize;
use toml::Spanned;

use super::{Catalogues, DIGIT_BITS};
use crate::code::{Code, Entry, Family, Outcome, family, lookup};
use crate::limits;

/// Something wrong in a catalogue.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Mistake {
    /// The file, as it is called.
    pub file: String,
    /// Its line, from 1.
    pub line: usize,
    /// The column, from 1: characters in a TOML, fields in a CSV.
    pub column: usize,
    /// What is wrong, and what would be right.
    pub text: String,
}

impl fmt::Display for Mistake {
    fn fmt(&self, formatter: &mut fmt::Formatter<'_>) -> fmt::Result {
        write!(formatter, "{}, line {}, column {}: {}", self.file, self.line, self.column, self.text)
    }
}

/// A row as it is written.
#[derive(Debug, Default, Deserialize)]
#[serde(deny_unknown_fields)]
struct Written {
    number: Option<Spanned<toml::Value>>,
    pattern: Option<Spanned<String>>,
    family: Option<Spanned<String>>,
    name: Option<Spanned<String>>,
    gloss: Option<Spanned<String>>,
    meaning: Option<Spanned<String>>,
    causes: Option<Spanned<String>>,
    next: Option<Spanned<String>>,
    level: Option<Spanned<String>>,
    like: Option<Spanned<String>>,
}

#[derive(Debug, Deserialize)]
#[serde(deny_unknown_fields)]
struct Document {
    #[serde(default)]
    code: Vec<Spanned<Written>>,
}

/// A row that is understood, but for what it takes from another one.
pub(super) struct Row {
    file: String,
    line: usize,
    column: usize,
    what: What,
    name: String,
    gloss: String,
    meaning: String,
    causes: String,
    next: String,
    outcome: Option<Outcome>,
    like: Option<String>,
}

/// What a row is about.
#[derive(Clone, Debug, PartialEq, Eq)]
enum What {
    Code(Code),
    /// A prefix, and digits: of one code, or how many there are.
    Shape(String, usize, Option<u32>),
}

/// Reads one file.
pub(super) fn read(name: &str, bytes: &[u8], rows: &mut Vec<Row>, mistakes: &mut Vec<Mistake>) {
    let at = |line, column, text: String| Mistake { file: name.to_owned(), line, column, text };
    let Ok(text) = std::str::from_utf8(bytes) else {
        let good = std::str::from_utf8(bytes).err().map_or(0, |error| error.valid_up_to());
        let line = memchr::memchr_iter(b'\n', &bytes[..good]).count() + 1;
        mistakes.push(at(line, 1, format!("byte {good} is not UTF-8: save the file as UTF-8")));
        return;
    };
    let text = text.trim_start_matches('\u{feff}');
    let csv = std::path::Path::new(name).extension().is_some_and(|extension| extension.eq_ignore_ascii_case("csv"));
    if csv {
        read_csv(name, text, rows, mistakes);
        return;
    }
    let place = |offset: usize| {
        let before = text.get(..offset).unwrap_or(text);
        let start = before.rfind('\n').map_or(0, |at| at + 1);
        (before.matches('\n').count() + 1, before[start..].chars().count() + 1)
    };
    match toml::from_str::<Document>(text) {
        Ok(document) => {
            for written in document.code {
                let start = written.span().start;
                match understand(written.into_inner()) {
                    Ok(row) => {
                        let (line, column) = place(start);
                        rows.push(Row { file: name.to_owned(), line, column, ..row });
                    }
                    Err((offset, text)) => {
                        let (line, column) = place(offset.unwrap_or(start));
                        mistakes.push(at(line, column, text));
                    }
                }
            }
        }
        Err(error) => {
            let (line, column) = place(error.span().map_or(0, |span| span.start));
            mistakes.push(at(line, column, error.message().to_owned()));
        }
    }
}

fn read_csv(name: &str, text: &str, rows: &mut Vec<Row>, mistakes: &mut Vec<Mistake>) {
    const COLUMNS: [&str; 10] =
        ["number", "pattern", "family", "name", "gloss", "meaning", "causes", "next", "level", "like"];
    let at = |line, column, text: String| Mistake { file: name.to_owned(), line, column, text };
    let mut reader = csv::ReaderBuilder::new().flexible(true).trim(csv::Trim::All).from_reader(text.as_bytes());
    let heads = match reader.headers() {
        Ok(heads) => heads.clone(),
        Err(error) => return mistakes.push(at(1, 1, error.to_string())),
    };
    for (index, head) in heads.iter().enumerate().filter(|(_, head)| !COLUMNS.contains(head)) {
        mistakes.push(at(1, index + 1, format!("\"{head}\" is not a column: there are {}", COLUMNS.join(", "))));
    }
    for record in reader.records() {
        let record = match record {
            Ok(record) => record,
            Err(error) => {
                let line = error.position().map_or(1, |place| place.line() as usize);
                mistakes.push(at(line, 1, error.to_string()));
                return;
            }
        };
        let line = record.position().map_or(1, |place| place.line() as usize);
        // The span of a field is its number: it becomes the column of a mistake.
        let field = |wanted: &str| {
            let index = heads.iter().position(|head| head == wanted)?;
            let value = record.get(index).filter(|value| !value.is_empty())?;
            Some(Spanned::new(index..index, value.to_owned()))
        };
        let number = field("number").map(|text| Spanned::new(text.span(), toml::Value::String(text.into_inner())));
        let written = Written {
            number,
            pattern: field("pattern"),
            family: field("family"),
            name: field("name"),
            gloss: field("gloss"),
            meaning: field("meaning"),
            causes: field("causes"),
            next: field("next"),
            level: field("level"),
            like: field("like"),
        };
        match understand(written) {
            Ok(row) => rows.push(Row { file: name.to_owned(), line, column: 1, ..row }),
            Err((index, text)) => mistakes.push(at(line, index.map_or(1, |index| index + 1), text)),
        }
    }
}

/// A mistake: where, if a field has it, and what.
type Wrong = (Option<usize>, String);

fn understand(written: Written) -> Result<Row, Wrong> {
    let family = match &written.family {
        None => None,
        Some(name) => Some(Family::parse(name.get_ref()).ok_or_else(|| {
            let all: Vec<&str> = Family::ALL.iter().map(|family| family.name()).collect();
            (Some(name.span().start), format!("\"{}\" is not a family: there are {}", name.get_ref(), all.join(", ")))
        })?),
    };
    let what = match (&written.number, &written.pattern) {
        (Some(number), None) => code_of(number, family)?,
        (None, Some(pattern)) => shape_of(pattern)?,
        (Some(_), Some(pattern)) => {
            return Err((Some(pattern.span().start), "a row has a number or a pattern, not both".into()));
        }
        (None, None) => {
            return Err((None, "a row needs a number, such as 1042, or a pattern, such as \"TW-#####\"".into()));
        }
    };
    let outcome = match &written.level {
        None => None,
        Some(level) => Some(Outcome::parse(level.get_ref()).ok_or_else(|| {
            (Some(level.span().start), format!("\"{}\" is not a level: failure, restart or success", level.get_ref()))
        })?),
    };
    if written.meaning.is_none() && written.like.is_none() {
        return Err((None, "a row needs a meaning, or a code that it is like".into()));
    }
    let text = |field: Option<Spanned<String>>| {
        let text = field.map(Spanned::into_inner).unwrap_or_default();
        text.chars().filter(|letter| !letter.is_control()).take(limits::USER_TEXT).collect::<String>()
    };
    Ok(Row {
        file: String::new(),
        line: 0,
        column: 0,
        what,
        name: text(written.name),
        gloss: text(written.gloss),
        meaning: text(written.meaning),
        causes: text(written.causes),
        next: text(written.next),
        outcome,
        like: written.like.map(Spanned::into_inner),
    })
}

fn code_of(number: &Spanned<toml::Value>, family: Option<Family>) -> Result<What, Wrong> {
    let at = Some(number.span().start);
    let text = match number.get_ref() {
        toml::Value::Integer(value) => value.to_string(),
        toml::Value::String(text) => text.clone(),
        _ => return Err((at, "the number is not a number: write 1042 or \"0x80040417\"".into())),
    };
    let value = match family {
        Some(family) if family.form() == family::Form::State => family::state_number(text.as_bytes()),
        _ => lookup::number(&text).ok(),
    };
    let number = value.ok_or_else(|| (at, format!("\"{text}\" is not a number of at most 32 bits")))?;
    let by_shape = if number >> 30 == 3 { Family::NtStatus } else { Family::Hresult };
    let family = family.unwrap_or(if number >> DIGIT_BITS == 0 { Family::User } else { by_shape });
    if family == Family::User && number >> DIGIT_BITS != 0 {
        return Err((at, format!("{number} is too large for a code of your own: name its family, or use a pattern")));
    }
    Ok(What::Code(Code { family, number }))
}

fn shape_of(pattern: &Spanned<String>) -> Result<What, Wrong> {
    let text = pattern.get_ref();
    let wrong =
        |why: &str| (Some(pattern.span().start), format!("\"{text}\": {why}, as in \"TW-#####\" or \"TW-00417\""));
    let (prefix, digits) = text.split_once('-').ok_or_else(|| wrong("a pattern is capitals, a hyphen and digits"))?;
    let good_prefix = (1..=limits::USER_PREFIX).contains(&prefix.len())
        && prefix.starts_with(|letter: char| letter.is_ascii_uppercase())
        && prefix.bytes().all(|byte| byte.is_ascii_uppercase() || byte.is_ascii_digit() || byte == b'_');
    if !good_prefix {
        return Err(wrong("before the hyphen there are 1 to 12 capitals, digits or underscores, a capital first"));
    }
    if !(1..=7).contains(&digits.len()) {
        return Err(wrong("after the hyphen there are 1 to 7 digits"));
    }
    if digits.bytes().all(|byte| byte == b'#') {
        return Ok(What::Shape(prefix.to_owned(), digits.len(), None));
    }
    let number = digits.bytes().all(|byte| byte.is_ascii_digit()).then(|| digits.parse().ok()).flatten();
    let number: u32 = number
        .filter(|number| *number >> DIGIT_BITS == 0)
        .ok_or_else(|| wrong("only digits or only # may follow the hyphen"))?;
    Ok(What::Shape(prefix.to_owned(), digits.len(), Some(number)))
}

/// Gives every row its code, takes what it is like from there, and adds it.
pub(super) fn resolve(mut rows: Vec<Row>, into: &mut Catalogues) {
    if let Some(Row { file, line, column, .. }) = rows.get(limits::USER_CODES) {
        let text = format!("more than {} codes: this one and all after it are left out", limits::USER_CODES);
        into.mistakes.push(Mistake { file: file.clone(), line: *line, column: *column, text });
        rows.truncate(limits::USER_CODES);
    }
    let mut known = FxHashSet::default();
    let mut places: Vec<Place> = Vec::with_capacity(rows.len());
    rows.retain(|row| {
        let mistake = |text: String| Mistake { file: row.file.clone(), line: row.line, column: row.column, text };
        let place = match &row.what {
            What::Code(code) => Place::Code(*code),
            What::Shape(prefix, digits, number) => match (into.shape(prefix, *digits), number) {
                (None, _) => {
                    into.mistakes.push(mistake("too many different prefixes: at most 254 are kept".into()));
                    return false;
                }
                (Some(shape), None) => Place::Shape(shape),
                (Some(shape), Some(number)) => {
                    Place::Code(Code { family: Family::User, number: (shape as u32 + 1) << DIGIT_BITS | number })
                }
            },
        };
        if !known.insert(place) {
            into.mistakes.push(mistake("the code has a row already: the first one is used".into()));
            return false;
        }
        places.push(place);
        true
    });
    for (index, place) in places.iter().enumerate() {
        match place {
            Place::Code(code) => into.by_code.insert(*code, index),
            Place::Shape(shape) => into.by_shape.insert(*shape, index),
        };
    }
    let texts: Vec<Texts> = (0..rows.len()).map(|index| texts_of(index, &rows, into)).collect();
    for ((row, place), texts) in rows.iter().zip(&places).zip(texts) {
        let code = match place {
            Place::Code(code) => *code,
            Place::Shape(shape) => Code { family: Family::User, number: (*shape as u32 + 1) << DIGIT_BITS },
        };
        let leak = |text: String| -> &'static str { Box::leak(text.into_boxed_str()) };
        let gloss = if texts.gloss.is_empty() {
            texts.meaning.trim_end_matches('.').chars().take(34).collect()
        } else {
            texts.gloss
        };
        let entry = Entry {
            code,
            name: leak(row.name.clone()),
            outcome: Some(texts.outcome.unwrap_or(Outcome::Failure)),
            gloss: leak(gloss),
            meaning: leak(texts.meaning),
            causes: leak(texts.causes),
            check: leak(texts.next),
        };
        into.rows.push((entry, leak(format!("{}:{}", row.file, row.line))));
    }
}

#[derive(Clone, Copy, PartialEq, Eq, Hash)]
enum Place {
    Code(Code),
    Shape(usize),
}

#[derive(Clone, Default)]
struct Texts {
    gloss: String,
    meaning: String,
    causes: String,
    next: String,
    outcome: Option<Outcome>,
}

/// What a row says, with what it takes from the row that it is like, and that one from its own.
fn texts_of(index: usize, rows: &[Row], into: &mut Catalogues) -> Texts {
    let mut texts = Texts::default();
    let mut seen = Vec::new();
    let mut next = Some(index);
    while let Some(index) = next.take() {
        let row = &rows[index];
        let mistake = |text: String| Mistake { file: row.file.clone(), line: row.line, column: row.column, text };
        if seen.contains(&index) || seen.len() >= limits::USER_LIKE_DEPTH {
            let first = &rows[seen[0]];
            let circle = seen.contains(&index);
            let what = if circle { "leads in a circle" } else { "leads through too many rows" };
            let text = format!("\"like\" {what}: nothing more is taken from there");
            into.mistakes.push(Mistake { file: first.file.clone(), line: first.line, column: first.column, text });
            break;
        }
        seen.push(index);
        let take = |field: &mut String, from: &str| {
            if field.is_empty() {
                from.clone_into(field);
            }
        };
        take(&mut texts.gloss, &row.gloss);
        take(&mut texts.meaning, &row.meaning);
        take(&mut texts.causes, &row.causes);
        take(&mut texts.next, &row.next);
        texts.outcome = texts.outcome.or(row.outcome);
        let Some(like) = &row.like else { break };
        if let Some((code, _)) = into.shaped(like.as_bytes()) {
            next = into.index(code);
            continue;
        }
        let number = lookup::number(like).ok().map(|number| Code { family: Family::User, number });
        if let Some(own) = number.and_then(|code| into.by_code.get(&code)) {
            next = Some(*own);
            continue;
        }
        match lookup::built_in(like) {
            Some(entry) => {
                take(&mut texts.gloss, entry.gloss);
                take(&mut texts.meaning, entry.meaning);
                take(&mut texts.causes, entry.causes);
                take(&mut texts.next, entry.check);
                texts.outcome = texts.outcome.or(entry.outcome);
            }
            None => into.mistakes.push(mistake(format!("\"{like}\", which it is like, is in no catalogue"))),
        }
    }
    texts
}
