//! Words without one of which a pattern cannot match: where a line has none of them, the pattern need not be tried.

use regex_syntax::ParserBuilder;
use regex_syntax::hir::{Class, Hir, HirKind, Look};

/// Texts that one part of a pattern may stand for at most, to be listed.
const MOST_TEXTS: usize = 640;
/// Shorter words stand in too many lines to be of use.
const SHORTEST_BYTES: usize = 2;

/// What is known of the texts that a part of a pattern matches.
struct Known {
    /// All of them, where they are few.
    all: Option<Vec<String>>,
    /// Words of which each of them holds one.
    words: Option<Vec<String>>,
}

/// The words, in ASCII, of which every match of a pattern holds one, in letters of either case; `None` where there are none.
///
/// Letters of other scripts that count as the same as an ASCII letter (the sign of a kelvin, the long s) are not regarded.
pub(crate) fn needed(pattern: &str) -> Option<Vec<String>> {
    let hir = ParserBuilder::new().build().parse(pattern).ok()?;
    best(of(&hir))
}

/// The texts, in lower case, of which every match of a pattern has one at the beginning of the line; `None` where that is not known.
pub(crate) fn beginnings(pattern: &str) -> Option<Vec<String>> {
    let hir = ParserBuilder::new().build().parse(pattern).ok()?;
    let HirKind::Concat(parts) = hir.kind() else { return None };
    let (first, rest) = parts.split_first()?;
    if !matches!(first.kind(), HirKind::Look(Look::Start)) {
        return None;
    }
    let texts = of(rest.first()?).all.filter(|texts| texts.iter().all(|text| !text.is_empty() && text.is_ascii()))?;
    Some(texts.iter().map(|text| text.to_ascii_lowercase()).collect())
}

/// The more telling of the two lists of a part.
fn best(known: Known) -> Option<Vec<String>> {
    let all = known.all.and_then(|all| all.iter().map(|text| longest_ascii(text)).collect::<Option<Vec<String>>>());
    [all, known.words].into_iter().flatten().max_by_key(|words| telling(words)).map(|mut words| {
        // A word that holds another one tells nothing more.
        words.sort_by_key(String::len);
        let mut kept: Vec<String> = Vec::new();
        for word in words {
            if !kept.iter().any(|shorter| word.contains(shorter.as_str())) {
                kept.push(word);
            }
        }
        kept
    })
}

/// How telling a list is: by its shortest word, then by being short itself.
fn telling(words: &[String]) -> (usize, std::cmp::Reverse<usize>) {
    (words.iter().map(String::len).min().unwrap_or(0), std::cmp::Reverse(words.len()))
}

/// The longest piece of a text in ASCII, if one is long enough.
fn longest_ascii(text: &str) -> Option<String> {
    let piece = text.split(|letter: char| !letter.is_ascii()).max_by_key(|piece| piece.len())?;
    (piece.len() >= SHORTEST_BYTES).then(|| piece.to_ascii_lowercase())
}

fn of(hir: &Hir) -> Known {
    let unknown = Known { all: None, words: None };
    match hir.kind() {
        HirKind::Empty | HirKind::Look(_) => Known { all: Some(vec![String::new()]), words: None },
        HirKind::Literal(literal) => {
            let text = std::str::from_utf8(&literal.0).ok().map(str::to_owned);
            Known { all: text.map(|text| vec![text]), words: None }
        }
        HirKind::Class(Class::Unicode(class)) => {
            const MOST_LETTERS: usize = 10;
            let letters = class.ranges().iter().flat_map(|range| range.start()..=range.end());
            // Both cases of a letter are one.
            let mut letters: Vec<char> =
                letters.take(2 * MOST_LETTERS + 3).map(|letter| letter.to_ascii_lowercase()).collect();
            if letters.len() > 2 * MOST_LETTERS + 2 {
                return unknown;
            }
            letters.sort_unstable();
            letters.dedup();
            letters.retain(|letter| !matches!(letter, '\u{17F}' | '\u{212A}'));
            let few = (1..=MOST_LETTERS).contains(&letters.len());
            Known { all: few.then(|| letters.into_iter().map(String::from).collect()), words: None }
        }
        HirKind::Class(Class::Bytes(_)) => unknown,
        HirKind::Capture(capture) => of(&capture.sub),
        HirKind::Repetition(repetition) => {
            let inner = of(&repetition.sub);
            match (repetition.min, repetition.max) {
                (0, Some(1)) => Known {
                    all: inner.all.map(|mut all| {
                        all.push(String::new());
                        all
                    }),
                    words: None,
                },
                (0, _) => unknown,
                _ => Known { all: None, words: best(inner) },
            }
        }
        HirKind::Alternation(branches) => alternation(branches),
        HirKind::Concat(parts) => concat(parts),
    }
}

fn alternation(branches: &[Hir]) -> Known {
    let known: Vec<Known> = branches.iter().map(of).collect();
    let all: Option<Vec<String>> = known.iter().map(|known| known.all.clone()).collect::<Option<Vec<_>>>().map(flat);
    let words = known.into_iter().map(best).collect::<Option<Vec<_>>>().map(flat);
    Known { all: all.filter(|all| all.len() <= MOST_TEXTS), words }
}

fn flat(lists: Vec<Vec<String>>) -> Vec<String> {
    lists.into_iter().flatten().collect()
}

/// Parts that follow each other: what neighbours stand for is put together as long as it stays short.
fn concat(parts: &[Hir]) -> Known {
    let mut lists: Vec<Vec<String>> = Vec::new();
    let mut run: Vec<String> = vec![String::new()];
    let mut is_whole = true;
    for part in parts {
        let known = of(part);
        let put_together = known.all.as_ref().filter(|all| all.len() * run.len() <= MOST_TEXTS).map(|all| {
            let ends = |start: &String| all.iter().map(|end| format!("{start}{end}")).collect::<Vec<_>>();
            run.iter().flat_map(ends).collect::<Vec<_>>()
        });
        if let Some(longer) = put_together {
            run = longer;
            continue;
        }
        is_whole = false;
        let before = std::mem::replace(&mut run, known.all.unwrap_or_else(|| vec![String::new()]));
        lists.extend(best(Known { all: Some(before), words: None }));
        lists.extend(best(Known { all: None, words: known.words }));
    }
    if is_whole {
        return Known { all: Some(run), words: None };
    }
    lists.extend(best(Known { all: Some(run), words: None }));
    Known { all: None, words: lists.into_iter().max_by_key(|words| telling(words)) }
}

#[cfg(test)]
mod tests {
    use proptest::prelude::*;
    use regex::RegexBuilder;

    use super::*;

    #[test]
    fn words_of_patterns() {
        let words = |pattern: &str| needed(pattern).map(|words| words.join(" "));
        for (pattern, wanted) in [
            (r"\bexit(?:ed)? (?P<code>\d+)", Some("exit  exited ")),
            (r"^Action start \d+", Some("action start ")),
            (r"\b(?:worker|thread)[ #]?(?P<w>\w{1,12})\b.{0,40}\bjob", Some("worker thread")),
            (r"(?i)pass(?:word|wd)", Some("passwd password")),
            (r"re-?tr(?:y|ied)", Some("retry re-try retried re-tried")),
            (r"^\[ ?\d+ ?/ ?\d+\]", None),
            (r"D[ée]but de", Some("but de")),
            (r"(?:error|\d+)", None),
            (r"(?:abc)*x", None),
            (r"(?:abc)+x", Some("abc")),
            // What holds another word tells nothing more.
            (r"(?:GO|no-go)!", Some("go!")),
        ] {
            assert_eq!(words(pattern).as_deref(), wanted, "{pattern}");
        }
    }

    #[test]
    fn beginnings_of_patterns() {
        assert_eq!(beginnings(r"^\[ ?\d+"), Some(vec!["[".to_owned()]));
        assert_eq!(beginnings(r"^(?:E|dpkg): "), Some(vec!["e".to_owned(), "dpkg".to_owned()]));
        for open in [r"\[ ?\d+", r"^a|b", r"^(?:MSI )?Action", r"^\d+", r"^é", "^"] {
            assert_eq!(beginnings(open), None, "{open}");
        }
    }

    proptest! {
        // Whatever a pattern matches holds one of its words.
        #[test]
        fn no_match_without_a_word(
            pattern in r"(\\b)?([a-cé]{1,3}|\(\?:[ab]{1,2}\|[bcé]{1,3}\)[?+*]?|\[ab\]|\\d|\.){1,5}",
            text in "[a-cA-Cé0]{0,12}",
        ) {
            let regex = RegexBuilder::new(&pattern).case_insensitive(true).build().unwrap();
            let lower = text.to_ascii_lowercase();
            if let Some(texts) = beginnings(&format!("^{pattern}")).filter(|_| regex.find(&text).is_some_and(|found| found.start() == 0)) {
                prop_assert!(texts.iter().any(|start| lower.starts_with(start.as_str())), "{pattern} in {text}: {texts:?}");
            }
            if let Some(words) = needed(&pattern).filter(|_| regex.is_match(&text)) {
                prop_assert!(words.iter().any(|word| lower.contains(word.as_str())), "{pattern} in {text}: {words:?}");
            }
        }
    }
}
