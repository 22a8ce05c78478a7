//! Kinds of messages: patterns that differ only in a value that has no digits.
//!
//! A pattern masks what has digits, and its number is the same in every case. `calling handler close` and `calling handler open` are
//! two patterns of one kind. Kinds are found among the patterns of a case, so they are of that case: patterns of one component whose
//! templates have as many parts, begin alike and share most of their words. What stands in quotes or brackets is one value, and so
//! is a path. The most frequent pattern comes first, so the answer does not depend on the order of the logs.

use std::collections::{HashMap, HashSet};

use super::{PatternAnalysis, PatternId, template};
use crate::Result;
use crate::analysis::{Analysis, CaseView, Pieces, Reads};
use crate::event::{RecordReader, Row};
use crate::work::Work;

/// A value in a template.
const VALUE: &str = "#";
/// Of the words that two templates both have at a place, how many must be the same.
const LEAST_ALIKE: f64 = 0.7;
/// Words without digits that stand at one place of a kind, for these to be values of it.
const FEWEST_WORDS: usize = 3;
/// Kinds that a pattern is compared with, of its component and length: beyond that each pattern is a kind of its own.
const MOST_COMPARED: usize = 500;
/// Characters of a message that are looked at.
const MOST_CHARS: usize = 2000;

/// A kind of message.
#[derive(Clone, Debug, PartialEq)]
pub struct MessageKind {
    /// The component that writes it.
    pub component: String,
    /// Its words, with `#` for values.
    pub template: String,
    /// Its patterns, by their places in the list of patterns, the most frequent first.
    pub patterns: Vec<usize>,
    /// How many events it has.
    pub count: u64,
    /// First and last corrected time.
    pub span: Option<(i64, i64)>,
    /// Its first event, of its most frequent pattern.
    pub first: Row,
}

impl MessageKind {
    /// A number of it: the same for the same component and template.
    pub fn id(&self) -> PatternId {
        PatternId::of(format!("{}\u{0}{}", self.component, self.template).as_bytes())
    }
}

/// Finds the kinds, the most frequent first.
#[derive(Clone, Copy, Debug)]
pub struct KindAnalysis;

impl Analysis for KindAnalysis {
    const NAME: &'static str = "kinds";
    const VERSION: u32 = 1;
    const READS: Reads = Reads::Columns;
    type Piece = ();
    type Found = Vec<MessageKind>;

    fn merge(&self, view: &CaseView, _: &Pieces<'_, ()>, work: &Work) -> Result<Vec<MessageKind>> {
        let patterns = view.run(&PatternAnalysis, work)?;
        let table = &view.loaded.table;
        let mut order: Vec<usize> = (0..patterns.list.len()).collect();
        order.sort_by_key(|at| (std::cmp::Reverse(patterns.list[*at].count), patterns.list[*at].id));
        let mut reader = RecordReader::new(view.case.sources.clone());
        let mut groups: Vec<Group> = Vec::new();
        let mut by_length: HashMap<(String, usize), Vec<usize>> = HashMap::new();
        for at in order {
            work.check()?;
            let event = table.event(patterns.list[at].first);
            let message: String =
                reader.record(event).body.lines().next().unwrap_or_default().chars().take(MOST_CHARS).collect();
            let parts = parts(&template(&message));
            let known = by_length.entry((event.component().to_owned(), parts.len())).or_default();
            let alike = |group: usize| likeness(&groups[group].words, &parts);
            let best = known.iter().take(MOST_COMPARED).filter_map(|group| Some((alike(*group)?, *group)));
            let best = best.max_by(|(one, _), (other, _)| one.total_cmp(other));
            let group = best.map_or_else(|| groups.len(), |(_, group)| group);
            if group == groups.len() {
                known.push(group);
                groups.push(Group { words: parts.clone(), members: Vec::new() });
            }
            take_in(&mut groups[group].words, &parts);
            groups[group].members.push((at, parts));
        }
        let apart = groups.into_iter().flat_map(Group::apart);
        let mut found: Vec<MessageKind> = apart
            .map(|group| {
                let mut kind = MessageKind {
                    component: String::new(),
                    template: group.words.join(" "),
                    patterns: group.members.iter().map(|(at, _)| *at).collect(),
                    count: 0,
                    span: None,
                    first: patterns.list[group.members[0].0].first,
                };
                table.event(kind.first).component().clone_into(&mut kind.component);
                for pattern in kind.patterns.iter().map(|at| &patterns.list[*at]) {
                    kind.count += u64::from(pattern.count);
                    kind.span = match (kind.span, pattern.span) {
                        (Some((first, last)), Some((from, to))) => Some((first.min(from), last.max(to))),
                        (one, other) => one.or(other),
                    };
                }
                kind
            })
            .collect();
        found.sort_by(|one, other| (other.count, &one.template).cmp(&(one.count, &other.template)));
        Ok(found)
    }
}

/// Patterns that are alike, each by its place in the list with its parts; there is at least one.
struct Group {
    /// What they have in common, with a value where they differ.
    words: Vec<String>,
    members: Vec<(usize, Vec<String>)>,
}

impl Group {
    /// Puts apart what differs by one of few words: `acquire` and `release` are two things that happen, and no value.
    fn apart(self) -> Vec<Self> {
        let is_choice = |place: &usize| {
            let words: HashSet<&str> = self.members.iter().map(|(_, parts)| parts[*place].as_str()).collect();
            (2..FEWEST_WORDS).contains(&words.len()) && !words.contains(VALUE)
        };
        let choices: Vec<usize> = (0..self.words.len()).filter(is_choice).collect();
        let mut groups: Vec<(Vec<String>, Self)> = Vec::new();
        for (at, parts) in self.members {
            let key: Vec<String> = choices.iter().map(|place| parts[*place].clone()).collect();
            match groups.iter_mut().find(|(known, _)| *known == key) {
                Some((_, group)) => {
                    take_in(&mut group.words, &parts);
                    group.members.push((at, parts));
                }
                None => groups.push((key, Self { words: parts.clone(), members: vec![(at, parts)] })),
            }
        }
        groups.into_iter().map(|(_, group)| group).collect()
    }
}

/// Puts a value where the words of another template of the same length differ.
fn take_in(words: &mut [String], parts: &[String]) {
    for (word, other) in words.iter_mut().zip(parts) {
        if word != other {
            VALUE.clone_into(word);
        }
    }
}

/// How alike two templates of the same length are; `None` where they are not of one kind.
fn likeness(kind: &[String], parts: &[String]) -> Option<f64> {
    let pairs = || kind.iter().zip(parts);
    let both_words = pairs().filter(|(one, other)| *one != VALUE && *other != VALUE).count();
    let same = pairs().filter(|(one, other)| *one != VALUE && one == other).count();
    let values = pairs().filter(|(one, other)| *one == VALUE || *other == VALUE).count();
    if both_words == 0 {
        // Nothing but values: short ones are of one kind, long ones may be anything.
        const SHORT: usize = 3;
        return (kind.len() <= SHORT && kind == parts).then_some(0.0);
    }
    let (first, other) = (kind.first()?, parts.first()?);
    let begin_alike = first == other || first == VALUE || other == VALUE;
    let alike = same as f64 / both_words as f64;
    (begin_alike && same > 0 && alike >= LEAST_ALIKE)
        .then_some((same as f64 + values as f64 / 2.0) / kind.len().max(1) as f64)
}

/// The words and values of a template: what is quoted or bracketed, and a path, is one value; values next to each other are one.
fn parts(template: &str) -> Vec<String> {
    let plain = without_brackets(&without_quotes(template));
    let mut parts: Vec<String> = Vec::new();
    for word in plain.split_whitespace() {
        let is_value = word.contains(VALUE) || word.contains('/');
        if !is_value {
            parts.push(word.to_owned());
        } else if parts.last().is_none_or(|last| last != VALUE) {
            parts.push(VALUE.to_owned());
        }
    }
    parts
}

/// With a value in place of each quoted text; an apostrophe inside of a word quotes nothing.
fn without_quotes(text: &str) -> String {
    let letters: Vec<char> = text.chars().collect();
    let is_word = |at: Option<usize>| at.and_then(|at| letters.get(at)).is_some_and(|letter| letter.is_alphanumeric());
    let mut plain = String::new();
    let mut at = 0;
    while let Some(letter) = letters.get(at) {
        // Python marks bytes and raw texts by a letter before the quote.
        let marked = matches!(letter, 'b' | 'r' | 'u') && !is_word(at.checked_sub(1));
        let quote_at = if marked && matches!(letters.get(at + 1), Some('\'' | '"')) { at + 1 } else { at };
        let quote = letters.get(quote_at).copied().filter(|quote| matches!(quote, '\'' | '"'));
        let opens = quote.is_some() && (quote_at > at || !is_word(at.checked_sub(1)));
        let closes = quote.filter(|_| opens).and_then(|quote| {
            (quote_at + 1..letters.len()).find(|end| letters[*end] == quote && !is_word(Some(end + 1)))
        });
        if let Some(end) = closes {
            plain.push_str(VALUE);
            at = end + 1;
        } else {
            plain.push(*letter);
            at += 1;
        }
    }
    plain
}

/// With a value in place of each pair of brackets and what is in them.
fn without_brackets(text: &str) -> String {
    let letters: Vec<char> = text.chars().collect();
    let mut open: Vec<(usize, char)> = Vec::new();
    let mut pairs: Vec<(usize, usize)> = Vec::new();
    for (at, letter) in letters.iter().enumerate() {
        let closer = match letter {
            '(' => ')',
            '[' => ']',
            '{' => '}',
            '<' => '>',
            ')' | ']' | '}' | '>' => {
                if let Some(last) = open.iter().rposition(|(_, closer)| closer == letter) {
                    pairs.push((open[last].0, at));
                    open.truncate(last);
                }
                continue;
            }
            _ => continue,
        };
        open.push((at, closer));
    }
    pairs.sort_unstable_by_key(|(from, to)| (*from, std::cmp::Reverse(*to)));
    let mut plain = String::new();
    let mut at = 0;
    for (from, to) in pairs {
        // One that lies in another is part of it.
        if from >= at {
            plain.extend(&letters[at..from]);
            plain.push_str(VALUE);
            at = to + 1;
        }
    }
    plain.extend(&letters[at..]);
    plain
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::testing::case;

    fn kinds(log: &str) -> Vec<(String, u64, usize)> {
        let case = case(&[("gw/app.log", log)]);
        let found = case.view().run(&KindAnalysis, &Work::default()).unwrap();
        found.iter().map(|kind| (kind.template.clone(), kind.count, kind.patterns.len())).collect()
    }

    fn log(messages: &[&str]) -> String {
        let lines = messages.iter().enumerate();
        lines.map(|(at, text)| format!("2026-04-12T02:00:{:02}Z INFO bridge: {text}\n", at % 60)).collect()
    }

    #[test]
    fn patterns_that_differ_in_a_word_are_one_kind() {
        let found = kinds(&log(&[
            "calling the handler of event open for valve 4",
            "calling the handler of event close for valve 7",
            "calling the handler of event drain for valve 7",
            "the pump has stopped for want of water",
        ]));
        assert_eq!(
            found,
            [
                ("calling the handler of event # for valve #".into(), 3, 3),
                ("the pump has stopped for want of water".into(), 1, 1)
            ]
        );
    }

    #[test]
    fn two_words_at_a_place_are_two_things_that_happen() {
        let found = kinds(&log(&[
            "attempting to acquire lock 1 on 5",
            "attempting to release lock 1 on 5",
            "attempting to acquire lock 2 on 6",
        ]));
        assert_eq!(
            found,
            [("attempting to acquire lock # on #".into(), 2, 1), ("attempting to release lock # on #".into(), 1, 1)]
        );
    }

    #[test]
    fn what_is_quoted_or_bracketed_is_one_value() {
        let found = kinds(&log(&[
            "message from 'inproc://a/b' : {'op': 'subscribe worker', 'reply': False}",
            "message from 'inproc://c' : {'op': 'close'}",
            "it couldn't read the keeper's note",
        ]));
        assert_eq!(found[0], ("message from # : #".into(), 2, 2));
        assert_eq!(found[1].0, "it couldn't read the keeper's note");
    }

    #[test]
    fn components_and_short_messages_are_kept_apart() {
        let text = "2026-04-12T02:00:00Z INFO bridge: opened valve\n2026-04-12T02:00:01Z INFO bridge: closed valve\n\
                    2026-04-12T02:00:02Z INFO console: opened valve\n";
        let found = kinds(text);
        assert_eq!(found.len(), 2, "\"opened\" and \"closed\" are two, and one pattern is one kind: {found:?}");
    }

    #[test]
    fn the_order_of_lines_changes_nothing() {
        let mut messages: Vec<String> = (0..40)
            .map(|at| format!("worker {} went from state {} to ready", at % 7, ["init", "busy", "idle"][at % 3]))
            .collect();
        let texts: Vec<&str> = messages.iter().map(String::as_str).collect();
        let before = kinds(&log(&texts));
        messages.reverse();
        let texts: Vec<&str> = messages.iter().map(String::as_str).collect();
        assert_eq!(kinds(&log(&texts)), before);
        assert_eq!(before, [("worker # went from state # to ready".into(), 40, 3)]);
    }

    proptest::proptest! {
        #[test]
        fn any_text_has_parts(text in "[ -~é\u{2028}]{0,200}") {
            let parts = parts(&template(&text));
            proptest::prop_assert!(parts.windows(2).all(|pair| pair[0] != VALUE || pair[1] != VALUE));
        }
    }
}
