//! Which values the fields of a filter have in a case, and how often; and what can complete a filter that is being typed.

use super::FIELDS;
use crate::Result;
use crate::analysis::{Analysis, CaseView, Pieces, Reads};
use crate::work::{Work, parallel};

/// The values of a case by field, the most frequent first.
#[derive(Clone, Debug, Default)]
pub struct Values {
    /// Field, and its values with the number of their events.
    pub fields: Vec<(&'static str, Vec<(String, u64)>)>,
}

/// Values of a field that are offered at once.
const MAX_OFFERED: usize = 8;

/// Counts the values.
#[derive(Clone, Copy, Debug)]
pub struct ValueAnalysis;

impl Analysis for ValueAnalysis {
    const NAME: &'static str = "values";
    const VERSION: u32 = 1;
    const READS: Reads = Reads::Columns;
    type Piece = ();
    type Found = Values;

    fn merge(&self, view: &CaseView, _: &Pieces<'_, ()>, work: &Work) -> Result<Values> {
        let (table, sources) = (&view.loaded.table, &view.case.sources);
        let counted = parallel(table.parts.len(), work, |index| {
            let part = &table.parts[index];
            let mut actors = vec![0_u64; part.actor_ids.len()];
            for actor in &part.segment.actor_ids {
                actors[usize::from(*actor)] += 1;
            }
            let mut levels = [0_u64; 25];
            for severity in &part.segment.severities {
                levels[usize::from((*severity).min(24))] += 1;
            }
            let mut codes: std::collections::HashMap<crate::code::Code, u64> = std::collections::HashMap::new();
            for (event, code) in &part.segment.codes {
                let row = crate::event::Row(part.first_row + u32::from(*event));
                *codes.entry(table.code_of(part.segment.source, row, *code)).or_default() += 1;
            }
            (actors, levels, codes)
        });
        work.check()?;
        let mut hosts = vec![0_u64; table.hosts.len()];
        let mut components = vec![0_u64; table.components.len()];
        let mut of_sources = vec![0_u64; sources.len()];
        let mut levels = [0_u64; 25];
        let mut codes: std::collections::BTreeMap<String, u64> = std::collections::BTreeMap::new();
        for (part, (actors, of_part, of_codes)) in table.parts.iter().zip(counted) {
            for (code, count) in of_codes {
                *codes.entry(code.written(table.catalogues())).or_default() += count;
            }
            for (id, count) in part.actor_ids.iter().zip(actors) {
                let actor = &table.actors[*id as usize];
                hosts[actor.host as usize] += count;
                components[actor.component as usize] += count;
            }
            of_sources[part.segment.source as usize] += part.segment.len() as u64;
            levels.iter_mut().zip(of_part).for_each(|(sum, count)| *sum += count);
        }
        let sorted = |mut values: Vec<(String, u64)>| {
            values.retain(|(name, count)| !name.is_empty() && *count > 0);
            values.sort_by(|a, b| b.1.cmp(&a.1).then_with(|| a.0.cmp(&b.0)));
            values
        };
        let named = |names: &[String], counts: Vec<u64>| sorted(names.iter().cloned().zip(counts).collect());
        let mut formats: std::collections::BTreeMap<&str, u64> = std::collections::BTreeMap::new();
        for (source, count) in sources.iter().zip(&of_sources) {
            *formats.entry(source.reader.name()).or_default() += count;
        }
        let level = |name: &str, from: usize| (name.to_owned(), levels[from..from + 4].iter().sum());
        let levels = [("fatal", 21), ("error", 17), ("warn", 13), ("info", 9), ("debug", 5), ("trace", 1)];
        let fields = vec![
            ("level", levels.map(|(name, from)| level(name, from)).to_vec()),
            ("host", named(&table.hosts, hosts)),
            ("component", named(&table.components, components)),
            ("source", sorted(sources.iter().map(|source| source.name.clone()).zip(of_sources).collect())),
            ("code", sorted(codes.into_iter().collect())),
            ("pin", vec![("yes".to_owned(), 0), ("no".to_owned(), 0)]),
            ("format", sorted(formats.into_iter().map(|(name, count)| (name.to_owned(), count)).collect())),
        ];
        Ok(Values { fields })
    }
}

/// What can stand in the place of the word that is being typed.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Completion {
    /// Where the word starts, in bytes of the text.
    pub from: usize,
    /// What to put there.
    pub text: String,
    /// What it is: how many events, or what a field takes.
    pub about: String,
}

/// What can complete the word that ends at byte `at` of a filter: fields, or values of the case behind a field.
pub fn completions(text: &str, at: usize, values: &Values) -> Vec<Completion> {
    let before = text.get(..at).unwrap_or(text);
    // A quoted value may hold blanks.
    let open_quote = before.matches('"').count() % 2 == 1;
    let from = if open_quote {
        let quote = before.rfind('"').unwrap_or(0);
        before[..quote].rfind([' ', '(']).map_or(0, |blank| blank + 1)
    } else {
        before.rfind([' ', '(']).map_or(0, |blank| blank + 1)
    };
    let word = &before[from..];
    let split = word.find(['=', '~', '<', '>']);
    let Some(split) = split else {
        let lower = word.to_lowercase();
        let fields = FIELDS.iter().filter(|(name, _)| !word.is_empty() && name.starts_with(&lower) && *name != lower);
        return fields
            .map(|(name, takes)| Completion {
                from,
                text: if *name == "time" { "time in ".into() } else { format!("{name}=") },
                about: (*takes).to_owned(),
            })
            .collect();
    };
    let value_at =
        word[split..].find(|c| !matches!(c, '=' | '~' | '<' | '>' | '!')).map_or(word.len(), |at| split + at);
    let field = word[..split].trim_end_matches('!');
    let typed = word[value_at..].trim_start_matches('"');
    // Behind a comma the next one of a list.
    let (done, typed) = typed.rsplit_once(',').map_or(("", typed), |(done, rest)| (done, rest));
    let lower = typed.to_lowercase();
    let Some((_, known)) = values.fields.iter().find(|(name, _)| name.eq_ignore_ascii_case(field)) else {
        return Vec::new();
    };
    let fits = known.iter().filter(|(value, _)| value.to_lowercase().contains(&lower) && *value != typed);
    fits.take(MAX_OFFERED)
        .map(|(value, count)| {
            let list = if done.is_empty() { value.clone() } else { format!("{done},{value}") };
            let text = format!("{}{}", &word[..value_at], quoted(&list));
            let about = if *count == 0 { String::new() } else { crate::many(*count, "event") };
            Completion { from, text, about }
        })
        .collect()
}

/// A value as a filter takes it: in quotes where it holds what a filter would take for something else.
pub fn quoted(value: &str) -> String {
    let plain = |c: char| c.is_alphanumeric() || matches!(c, '-' | '_' | '.' | ',' | '/' | ':' | '@');
    let starts_well = value.chars().next().is_some_and(char::is_alphanumeric);
    if starts_well && value.chars().all(plain) { value.to_owned() } else { format!("\"{}\"", value.replace('"', "")) }
}

/// The pieces of a filter that stand next to each other at its top: each can be taken away alone. Byte ranges of the text.
pub fn pieces(text: &str) -> Vec<std::ops::Range<usize>> {
    let mut pieces: Vec<std::ops::Range<usize>> = Vec::new();
    let (mut depth, mut quote, mut start) = (0_usize, None, None);
    let mut end_piece = |start: &mut Option<usize>, at: usize| {
        if let Some(from) = start.take() {
            pieces.push(from..at);
        }
    };
    let mut before = ' ';
    for (at, c) in text.char_indices() {
        match quote {
            Some(open) if c == open => quote = None,
            Some(_) => {}
            None if c == '"' || (c == '/' && matches!(before, ' ' | '(')) => {
                quote = Some(c);
                start.get_or_insert(at);
            }
            None if c.is_whitespace() && depth == 0 => end_piece(&mut start, at),
            None => {
                match c {
                    '(' => depth += 1,
                    ')' => depth = depth.saturating_sub(1),
                    _ => {}
                }
                if !c.is_whitespace() {
                    start.get_or_insert(at);
                }
            }
        }
        before = c;
    }
    end_piece(&mut start, text.len());
    joined(text, pieces)
}

/// Words that belong together are one piece: `not X`, `time in A..B`, `time within 5m of T`, and all around an `or`.
fn joined(text: &str, words: Vec<std::ops::Range<usize>>) -> Vec<std::ops::Range<usize>> {
    let word = |range: &std::ops::Range<usize>| text[range.clone()].to_lowercase();
    if words.iter().any(|range| word(range) == "or") {
        let (first, last) = (words.first().map_or(0, |range| range.start), words.last().map_or(0, |range| range.end));
        return std::iter::once(first..last).collect();
    }
    let mut pieces: Vec<std::ops::Range<usize>> = Vec::new();
    let mut open = 0;
    for range in words {
        let text = word(&range);
        match pieces.last_mut() {
            Some(last) if open > 0 => {
                last.end = range.end;
                open -= 1;
            }
            _ if text == "and" => continue,
            _ => pieces.push(range),
        }
        open += match text.as_str() {
            "not" | "time" | "in" => 1,
            "within" => 3,
            _ => 0,
        };
    }
    pieces
}

#[cfg(test)]
mod tests {
    use super::*;

    fn values() -> Values {
        Values {
            fields: vec![
                ("host", vec![("pump-ctl".into(), 900), ("dose-gw".into(), 40)]),
                ("component", vec![("Service Control".into(), 7)]),
            ],
        }
    }

    fn offered(text: &str) -> Vec<String> {
        completions(text, text.len(), &values()).into_iter().map(|one| one.text).collect()
    }

    #[test]
    fn fields_and_values_are_offered() {
        assert_eq!(offered("ho"), ["host="]);
        assert_eq!(offered("level>=warn comp"), ["component="]);
        assert_eq!(offered("host="), ["host=pump-ctl", "host=dose-gw"]);
        assert_eq!(offered("not host=gw"), ["host=dose-gw"]);
        assert_eq!(offered("host=pump-ctl,d"), ["host=pump-ctl,dose-gw"]);
        assert_eq!(offered("(component!=\"Serv"), ["component!=\"Service Control\""]);
        assert!(offered("heartbeat").is_empty() && offered("").is_empty() && offered("nothing=x").is_empty());
        assert_eq!(completions("host=p", 6, &values())[0].about, "900 events");
    }

    #[test]
    fn a_filter_falls_into_pieces() {
        let text = "level>=warn not \"a b\" time in 02:10..02:35 (x or y) host=\"a b\" time within 5m of 02:31 /a b/";
        let found: Vec<&str> = pieces(text).into_iter().map(|range| &text[range]).collect();
        assert_eq!(
            found,
            [
                "level>=warn",
                "not \"a b\"",
                "time in 02:10..02:35",
                "(x or y)",
                "host=\"a b\"",
                "time within 5m of 02:31",
                "/a b/"
            ]
        );
        assert_eq!(pieces("a or b c").len(), 1);
        assert!(pieces("  ").is_empty());
    }
}
