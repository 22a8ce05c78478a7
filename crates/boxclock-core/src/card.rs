//! Fault cards: what a known fault looks like, its cause, its remedies, and how to see that it is gone.
//!
//! ```toml
//! [[card]]
//! name = "disk-full"
//! title = "A file system is full"
//! level = "critical"
//! cause = "Something filled it; all that writes there fails from then on."
//! signs = [
//!     { says = ["no space left on device"], codes = ["ENOSPC"] },
//!     { check = "volume-nearly-full", optional = true },
//! ]
//! remedies = [{ do = "Free space there.", proves = "Writing works again at once." }]
//! gone = "No write fails any more."
//! ```
//!
//! A sign is met by a record that says one of `says` (a ` * ` in a phrase stands for anything in between; capitals do not matter) or
//! carries one of `codes`, and passes `filter` and `level` where they are given; or by a crash (`crash`: its fingerprint, or the name
//! of what it ended by; `module`: in its stack); or by a finding of a `check` over facts. `follows = 1` asks that it comes behind the first sign,
//! `within` that time. A card fits where all signs are met but those that are `optional`, or as many as it `needs`.
//!
//! Cards are data: shipped ones, those of the user (folder `cards` of the configuration), of a team (folders named in
//! `$BOXCLOCK_CARDS`), and of a box (`cards/` in it). One with the name of another takes its place.

use std::hash::Hasher;
use std::path::PathBuf;
use std::sync::{Arc, LazyLock};

use rustc_hash::FxHasher;

use serde::{Deserialize, Serialize};
use toml::Spanned;

use crate::Result;
use crate::analysis::CaseView;
use crate::case::Case;
use crate::clock::{HOUR, Zone, human};
use crate::code::{Catalogues, user};
use crate::facts::Level;
use crate::platform;
use crate::query::Filter;
use crate::query::values::quoted;
use crate::severity::Severity;
use crate::work::Work;

mod made;
mod matching;
#[cfg(test)]
mod tests;

pub use made::{MadeCard, MadeFrom, make};
pub use matching::{CardAnalysis, CardMatch, SignMatch, card_of_chain};

/// The shipped cards, by field.
const SHIPPED: [(&str, &str); 6] = [
    ("storage.toml", include_str!("card/shipped/storage.toml")),
    ("network.toml", include_str!("card/shipped/network.toml")),
    ("trust.toml", include_str!("card/shipped/trust.toml")),
    ("resources.toml", include_str!("card/shipped/resources.toml")),
    ("changes.toml", include_str!("card/shipped/changes.toml")),
    ("programs.toml", include_str!("card/shipped/programs.toml")),
];

/// Signs of all cards together; more are left out, with a word.
const MOST_SIGNS: usize = 4000;
/// Bytes of the rarest part of a phrase, at least: shorter ones stand everywhere.
const SHORTEST_PHRASE: usize = 4;

/// A known fault.
#[derive(Clone, Debug)]
pub struct Card {
    /// Its name: letters, digits and hyphens.
    pub name: String,
    /// What it is, in one line.
    pub title: String,
    /// How bad it is.
    pub level: Level,
    /// Why it happens.
    pub cause: String,
    /// How it looks.
    pub signs: Vec<CardSign>,
    /// Signs that have to be met, where it is not all that are not optional.
    pub needs: Option<usize>,
    /// What to do, each with what it proves.
    pub remedies: Vec<Remedy>,
    /// How to see that it is gone.
    pub gone: String,
    /// Where more stands.
    pub references: Vec<String>,
    /// The file that it is from; `shipped/…` for those of the program.
    pub file: String,
}

/// One step that mends a fault.
#[derive(Clone, Debug, PartialEq, Eq, Serialize, Deserialize)]
#[serde(deny_unknown_fields)]
pub struct Remedy {
    /// What to do.
    #[serde(rename = "do")]
    pub what: String,
    /// What it proves when it helps, or does not.
    #[serde(default, skip_serializing_if = "String::is_empty")]
    pub proves: String,
}

/// How a fault shows.
#[derive(Clone, Debug, Default)]
pub struct CardSign {
    /// Phrases, any of which is enough: each as the parts that follow one another, in lower case.
    pub says: Vec<Vec<String>>,
    /// What records pass that carry one of its codes.
    pub codes: Option<Filter>,
    /// What it has to pass beside that, or alone.
    pub filter: Option<Filter>,
    /// The severity number that it has at least; records without one pass.
    pub level: u8,
    /// A crash: its fingerprint, or what it ended by.
    pub crash: Option<String>,
    /// A module in the stack of a crash.
    pub module: Option<String>,
    /// A check over facts that found something.
    pub check: Option<String>,
    /// The earlier sign, from 0, behind which it comes.
    pub follows: Option<usize>,
    /// Within that time, nanoseconds.
    pub within_ns: i64,
    /// Whether the card fits without it.
    pub optional: bool,
}

/// All cards that are known, and what is wrong with others.
#[derive(Clone, Debug, Default)]
pub struct Cards {
    /// Good ones.
    pub good: Vec<Arc<Card>>,
    /// File and mistake, with line and column.
    pub wrong: Vec<(String, String)>,
    /// The catalogues that know the codes of its signs, beside the shipped ones.
    catalogues: Arc<Catalogues>,
    /// Of all texts that are not shipped with the program; 0 where there are none.
    own_texts: u64,
}

static SHIPPED_CARDS: LazyLock<Cards> = LazyLock::new(|| {
    let mut cards = Cards::default();
    for (file, text) in SHIPPED {
        cards.add(&format!("shipped/{file}"), text);
    }
    cards.own_texts = 0;
    cards
});

/// The cards that fit a case, of those that are known for it: the worst first, and those of which most signs are met.
///
/// # Errors
/// When cancelled.
pub fn fitting(view: &CaseView, work: &Work) -> Result<Arc<Vec<CardMatch>>> {
    view.run(&CardAnalysis::new(Cards::of(&view.case)), work)
}

#[derive(Deserialize)]
#[serde(deny_unknown_fields)]
struct CardFile {
    card: Vec<Spanned<RawCard>>,
}

#[derive(Deserialize)]
#[serde(deny_unknown_fields)]
struct RawCard {
    name: Spanned<String>,
    title: String,
    level: Level,
    cause: String,
    signs: Vec<Spanned<RawSign>>,
    needs: Option<Spanned<usize>>,
    remedies: Vec<Remedy>,
    #[serde(default)]
    gone: String,
    #[serde(default)]
    references: Vec<String>,
}

#[derive(Deserialize)]
#[serde(deny_unknown_fields)]
struct RawSign {
    #[serde(default)]
    says: Vec<Spanned<String>>,
    #[serde(default)]
    codes: Vec<Spanned<String>>,
    filter: Option<Spanned<String>>,
    level: Option<Spanned<String>>,
    crash: Option<String>,
    module: Option<String>,
    check: Option<String>,
    follows: Option<Spanned<usize>>,
    within: Option<Spanned<String>>,
    #[serde(default)]
    optional: bool,
}

/// A mistake: where in the file, in bytes, and what.
type Mistake = (usize, String);

impl Card {
    /// Whether it is from the user, a team or a box, and not shipped with the program.
    pub fn is_own(&self) -> bool {
        !self.file.starts_with("shipped/")
    }
}

impl Cards {
    /// The cards for a case: shipped ones, those of the user and of the team, and those of its box.
    pub fn of(case: &Case) -> Self {
        let mut cards = Self { catalogues: Arc::clone(&case.catalogues), ..Self::shipped() };
        for folder in Self::folders().iter().chain(&case.card_folders) {
            cards.add_folder(folder);
        }
        cards
    }

    /// The shipped cards, and those of the user and of the team.
    pub fn load() -> Self {
        let mut cards = Self { catalogues: user::own(), ..Self::shipped() };
        for folder in Self::folders() {
            cards.add_folder(&folder);
        }
        cards
    }

    /// No cards yet, for files of the user.
    pub fn none() -> Self {
        Self { catalogues: user::own(), ..Self::default() }
    }

    /// The shipped cards.
    pub fn shipped() -> Self {
        SHIPPED_CARDS.clone()
    }

    /// The folders of cards of the user and of the team.
    pub fn folders() -> Vec<PathBuf> {
        let team = std::env::var_os("BOXCLOCK_CARDS").unwrap_or_default();
        let mut folders: Vec<PathBuf> =
            std::env::split_paths(&team).filter(|path| !path.as_os_str().is_empty()).collect();
        folders.extend(Self::own_folder());
        folders
    }

    /// The folder of the user's own cards.
    pub fn own_folder() -> Option<PathBuf> {
        platform::config_dir().map(|folder| folder.join("cards"))
    }

    /// Adds the cards of a folder; none where there is no such folder.
    pub fn add_folder(&mut self, folder: &std::path::Path) {
        for (file, text) in platform::toml_texts(folder) {
            match text {
                Ok(text) => self.add(&file, &text),
                Err(error) => self.wrong.push((file, error.to_string())),
            }
        }
    }

    /// Adds the cards of a file; one with the name of another takes its place.
    pub fn add(&mut self, file: &str, text: &str) {
        let mut hasher = FxHasher::default();
        hasher.write_u64(self.own_texts);
        hasher.write(text.as_bytes());
        self.own_texts = hasher.finish();
        let parsed: std::result::Result<CardFile, _> = toml::from_str(text);
        let parsed = match parsed {
            Ok(parsed) => parsed.card,
            Err(error) => return self.wrong.push((file.to_owned(), error.to_string().trim_end().to_owned())),
        };
        for raw in parsed {
            let from = raw.span().start;
            match card_of(raw.into_inner(), (file, from), &self.catalogues) {
                Ok(card) if self.signs() + card.signs.len() > MOST_SIGNS => {
                    let text = format!("card {}: left out, more than {MOST_SIGNS} signs in all cards", card.name);
                    self.wrong.push((file.to_owned(), text));
                }
                Ok(card) => {
                    self.good.retain(|other| other.name != card.name);
                    self.good.push(Arc::new(card));
                }
                Err((at, what)) => {
                    let (line, column) = line_and_column(text, at);
                    self.wrong.push((file.to_owned(), format!("line {line}, column {column}: {what}")));
                }
            }
        }
    }

    /// A number for all texts that are not shipped with the program, where there are some.
    fn own_texts(&self) -> Option<u64> {
        (self.own_texts != 0).then_some(self.own_texts)
    }

    fn signs(&self) -> usize {
        self.good.iter().map(|card| card.signs.len()).sum()
    }

    /// The card of that name.
    pub fn by_name(&self, name: &str) -> Option<&Arc<Card>> {
        self.good.iter().find(|card| card.name == name)
    }
}

/// Line and column, from 1, of a byte of a text.
fn line_and_column(text: &str, at: usize) -> (usize, usize) {
    let before = text.get(..at).unwrap_or(text);
    let line_start = before.rfind('\n').map_or(0, |at| at + 1);
    (before.matches('\n').count() + 1, before[line_start..].chars().count() + 1)
}

fn card_of(raw: RawCard, (file, from): (&str, usize), own: &Catalogues) -> std::result::Result<Card, Mistake> {
    let name = raw.name.get_ref();
    if name.is_empty() || !name.bytes().all(|byte| byte.is_ascii_alphanumeric() || byte == b'-') {
        return Err((raw.name.span().start, format!("\"{name}\" is not a name: letters, digits and hyphens make one")));
    }
    if raw.signs.is_empty() {
        return Err((from, format!("card {name} has no sign: nothing could be recognised by it")));
    }
    let mut signs = Vec::new();
    for (at, sign) in raw.signs.into_iter().enumerate() {
        let span = sign.span().start;
        signs.push(sign_of(sign.into_inner(), at, span, own)?);
    }
    if signs.iter().all(|sign| sign.optional) && raw.needs.is_none() {
        return Err((from, format!("card {name}: all its signs are optional, so it would fit everything")));
    }
    if let Some(needs) = raw.needs.as_ref().filter(|needs| !(1..=signs.len()).contains(needs.get_ref())) {
        let what = format!("needs = {} of {}", needs.get_ref(), crate::many(signs.len() as u64, "sign"));
        return Err((needs.span().start, what));
    }
    // A card may come in a box from strangers: its words are shown, never obeyed.
    let shown = |text: &str| crate::visible(text, false);
    let remedy = |remedy: &Remedy| Remedy { what: shown(&remedy.what), proves: shown(&remedy.proves) };
    Ok(Card {
        name: name.clone(),
        title: shown(&raw.title),
        level: raw.level,
        cause: shown(&raw.cause),
        signs,
        needs: raw.needs.map(Spanned::into_inner),
        remedies: raw.remedies.iter().map(remedy).collect(),
        gone: shown(&raw.gone),
        references: raw.references.iter().map(|text| shown(text)).collect(),
        file: file.to_owned(),
    })
}

fn sign_of(raw: RawSign, at: usize, from: usize, own: &Catalogues) -> std::result::Result<CardSign, Mistake> {
    let mut sign = CardSign {
        crash: raw.crash,
        module: raw.module,
        check: raw.check,
        optional: raw.optional,
        within_ns: HOUR,
        ..CardSign::default()
    };
    for phrase in raw.says {
        let parts: Vec<String> =
            phrase.get_ref().to_lowercase().split(" * ").map(|part| part.trim().to_owned()).collect();
        if parts.iter().map(String::len).max().unwrap_or(0) < SHORTEST_PHRASE || parts.iter().any(String::is_empty) {
            let what = format!("\"{}\" is too short a phrase: it would stand everywhere", phrase.get_ref());
            return Err((phrase.span().start, what));
        }
        sign.says.push(parts);
    }
    let filter = |text: &str| Filter::parse_with(text, &Zone::utc(), own);
    for code in &raw.codes {
        if filter(&format!("code={}", quoted(code.get_ref()))).is_err() {
            return Err((code.span().start, format!("\"{}\" is not a code", code.get_ref())));
        }
    }
    if let Some(first) = raw.codes.first() {
        let all: Vec<String> = raw.codes.iter().map(|code| quoted(code.get_ref())).collect();
        let parsed = filter(&format!("code={}", all.join(",")));
        sign.codes = Some(parsed.map_err(|error| (first.span().start, error.message))?);
    }
    if let Some(text) = raw.filter {
        let parsed = filter(text.get_ref());
        sign.filter = Some(parsed.map_err(|error| (text.span().start + 1 + error.at, error.message))?);
    }
    if let Some(level) = raw.level {
        let known = Severity::from_long_word(level.get_ref().as_bytes());
        let what = || (level.span().start, format!("\"{}\" is not a level", level.get_ref()));
        sign.level = known.ok_or_else(what)?.0;
    }
    if let Some(within) = raw.within {
        sign.within_ns = human::duration(within.get_ref()).map_err(|error| (within.span().start, error.to_string()))?;
    }
    if let Some(follows) = raw.follows {
        let earlier = *follows.get_ref();
        if earlier == 0 || earlier > at {
            let what = format!("sign {} cannot follow sign {earlier}: only one before it", at + 1);
            return Err((follows.span().start, what));
        }
        sign.follows = Some(earlier - 1);
    }
    let asks = !sign.says.is_empty()
        || sign.codes.is_some()
        || sign.filter.is_some()
        || sign.crash.is_some()
        || sign.module.is_some()
        || sign.check.is_some();
    if !asks {
        return Err((from, "this sign asks for nothing: says, codes, filter, crash, module or check".into()));
    }
    Ok(sign)
}
