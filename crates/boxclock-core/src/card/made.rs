//! A card made from a solved case: what its chain said, without the names, paths and numbers of that case.

use std::collections::HashSet;

use crate::analysis::CaseView;
use crate::cause;
use crate::clock::HOUR;
use crate::crash::CrashAnalysis;
use crate::event::{RecordReader, Row};
use crate::logbook::Logbook;
use crate::work::Work;
use crate::{Error, Result};

/// Letters of a phrase that are worth a sign.
const SHORTEST_PHRASE: usize = 12;
/// Parts of a phrase.
const MOST_PARTS: usize = 5;

/// A solved case, for [`make`].
#[derive(Clone, Debug, Default)]
pub struct MadeFrom {
    /// The name of the card: letters, digits and hyphens are kept of it.
    pub name: String,
    /// What it is, in one line.
    pub title: String,
    /// Why it happened.
    pub cause: String,
    /// The events of the chain, from root to symptom.
    pub chain: Vec<Row>,
    /// What mended it, each with what it proves.
    pub remedies: Vec<(String, String)>,
}

impl MadeFrom {
    /// What the logbook of a case says, for a card of that name.
    ///
    /// # Errors
    /// When the logbook cannot be read, or has no chain.
    pub fn of(view: &CaseView, logbook: &Logbook, name: &str) -> Result<Self> {
        let chain = cause::kept_chain(view, logbook)?;
        let story = logbook.story(&view.case.story)?;
        let rows: Vec<Row> = chain.iter().filter_map(|link| link.row).collect();
        if rows.is_empty() {
            return Err(Error::new(
                "There is no chain yet: accept a suggestion in the Cause view, or put pins into the chain.",
            ));
        }
        let remedies = logbook.remedies()?.into_iter().map(|step| (step.what, step.proves));
        Ok(Self {
            name: name.to_owned(),
            title: if story.title.is_empty() { name.to_owned() } else { story.title },
            cause: cause::root_note(&chain).to_owned(),
            chain: rows,
            remedies: remedies.collect(),
        })
    }
}

/// A card that was made.
#[derive(Clone, Debug)]
pub struct MadeCard {
    /// Its name.
    pub name: String,
    /// Its text, to be looked through and edited by hand.
    pub text: String,
}

/// Makes a card.
///
/// # Errors
/// When no line of the chain says enough to be recognised elsewhere, or when cancelled.
pub fn make(view: &CaseView, from: &MadeFrom, work: &Work) -> Result<MadeCard> {
    let names = names_of(view);
    let crashes = view.run(&CrashAnalysis, work)?;
    let mut reader = RecordReader::new(view.case.sources.clone());
    let mut signs: Vec<String> = Vec::new();
    let mut last: Option<(u32, i64)> = None;
    for row in &from.chain {
        let event = view.loaded.table.event(*row);
        let here = (event.actor().host, event.order_time());
        // Clocks of two hosts may be wrong elsewhere: order counts on one.
        let follows = last.filter(|(host, time)| *host == here.0 && (0..HOUR).contains(&here.1.saturating_sub(*time)));
        let order = if follows.is_some() { format!(", follows = {}", signs.len()) } else { String::new() };
        let crash = crashes.iter().find(|crash| crash.row == Some(*row) && !crash.is_mark);
        let sign = if let Some(crash) = crash {
            Some(format!("{{ crash = {}{order} }}", text(&crash.fingerprint)))
        } else {
            phrase(&reader.record(event).body, &names).map(|phrase| format!("{{ says = [{}]{order} }}", text(&phrase)))
        };
        if let Some(sign) = sign.filter(|sign| !signs.contains(sign)) {
            signs.push(sign);
            last = Some(here);
        }
    }
    if signs.is_empty() {
        return Err(Error::new(
            "No line of the chain says enough to be recognised elsewhere. Add lines with words of their own to the chain.",
        ));
    }
    let needs = (signs.len() * 2).div_ceil(3);
    let mut out = String::from("[[card]]\n");
    let name = name(&from.name);
    out.push_str(&format!("name = {}\n", text(&name)));
    out.push_str(&format!("title = {}\n", text(&from.title)));
    out.push_str("level = \"critical\"\n");
    out.push_str(&format!("cause = {}\n", text(&from.cause)));
    out.push_str(&format!(
        "# A sign is met by any of its phrases; \" * \" stands for anything in between.\nneeds = {needs}\n"
    ));
    out.push_str(&format!("signs = [\n    {},\n]\n", signs.join(",\n    ")));
    let remedy = |(what, proves): &(String, String)| format!("{{ do = {}, proves = {} }}", text(what), text(proves));
    let remedies: Vec<String> = from.remedies.iter().map(remedy).collect();
    if remedies.is_empty() {
        out.push_str("# remedies = [{ do = \"What to do.\", proves = \"What it proves.\" }]\nremedies = []\n");
    } else {
        out.push_str(&format!("remedies = [\n    {},\n]\n", remedies.join(",\n    ")));
    }
    Ok(MadeCard { name, text: out })
}

/// A text as TOML has it.
fn text(value: &str) -> String {
    toml::Value::String(value.lines().next().unwrap_or_default().to_owned()).to_string()
}

/// A name of letters, digits and hyphens.
fn name(wanted: &str) -> String {
    let plain: String =
        wanted.to_lowercase().chars().map(|letter| if letter.is_ascii_alphanumeric() { letter } else { '-' }).collect();
    let words: Vec<&str> = plain.split('-').filter(|word| !word.is_empty()).take(8).collect();
    if words.is_empty() { "own-fault".into() } else { words.join("-") }
}

/// The names of hosts and programs of a case, in lower case: elsewhere they are others.
fn names_of(view: &CaseView) -> HashSet<String> {
    let table = &view.loaded.table;
    let components = table.components.iter().map(|name| name.to_lowercase());
    let hosts = table.hosts.iter().map(|name| name.to_lowercase());
    components.chain(hosts).filter(|name| !name.is_empty()).collect()
}

/// Whether a word is a version: numbers with points between them.
fn is_version(word: &str) -> bool {
    let word = word.trim_matches(|letter: char| !letter.is_alphanumeric());
    let word = word.strip_prefix('v').unwrap_or(word);
    word.contains('.') && word.split('.').all(|part| !part.is_empty() && part.bytes().all(|byte| byte.is_ascii_digit()))
}

/// What a message says without values: words that go on, with ` * ` for what differs from case to case.
fn phrase(body: &str, names: &HashSet<String>) -> Option<String> {
    let line: String = body.lines().find(|line| !line.trim().is_empty())?.chars().take(400).collect();
    let mut parts: Vec<Vec<&str>> = vec![Vec::new()];
    let mut in_quotes: Option<char> = None;
    let words: Vec<&str> = line.split_whitespace().collect();
    for (at, word) in words.iter().copied().enumerate() {
        let plain = word.trim_matches(|letter: char| !letter.is_alphanumeric());
        let opens = word.chars().next().filter(|letter| matches!(letter, '"' | '\'' | '‹' | '«'));
        let closes = |quote: char| {
            let end = match quote {
                '‹' => '›',
                '«' => '»',
                same => same,
            };
            word.trim_end_matches(['.', ',', ';', ':', ')']).ends_with(end)
        };
        let is_quoted = in_quotes.is_some() || opens.is_some();
        if let Some(quote) = in_quotes.or(opens)
            && (in_quotes.is_some() || word.chars().count() > 1 || opens.is_none())
        {
            in_quotes = if closes(quote) && (in_quotes.is_some() || word.len() > 1) { None } else { Some(quote) };
        }
        let is_value = word.contains(['/', '\\', '@', '=', '_', '{', '}', '%', '#'])
            || word.bytes().any(|byte| byte.is_ascii_digit())
            || plain.is_empty()
            || names.contains(&plain.to_lowercase())
            // What stands before a version is the name of a program, unless it is a word of the trade.
            || (words.get(at + 1).is_some_and(|next| is_version(next)) && !cause::is_common_word(&plain.to_lowercase()));
        if is_quoted || is_value {
            parts.push(Vec::new());
            continue;
        }
        // What a mark closes is another part: in its place may stand another name.
        if let Some(part) = parts.last_mut() {
            part.push(word);
        }
    }
    let mut parts: Vec<String> = parts.into_iter().filter(|part| !part.is_empty()).map(|part| part.join(" ")).collect();
    parts.retain(|part| part.chars().filter(|letter| letter.is_alphabetic()).count() >= 3);
    while parts.len() > MOST_PARTS {
        let shortest = parts.iter().enumerate().min_by_key(|(_, part)| part.len()).map(|(at, _)| at)?;
        parts.remove(shortest);
    }
    let letters: usize = parts.iter().map(|part| part.chars().filter(|letter| letter.is_alphabetic()).count()).sum();
    (letters >= SHORTEST_PHRASE).then(|| parts.join(" * "))
}
