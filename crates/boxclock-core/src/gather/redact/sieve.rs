//! Which patterns can match at all: most of them hold a text that every match must have (`://`, `password`, `" * "`), and most pieces of
//! a log have few of these. One search for all of them spares the search for the rest.

use std::collections::HashMap;

use aho_corasick::AhoCorasick;

use super::rules::Rule;

/// All texts that the patterns of some rules need.
pub(super) struct Sieve {
    automaton: Option<AhoCorasick>,
    numbers: HashMap<String, usize>,
}

impl Sieve {
    pub(super) fn new(rules: &[Rule]) -> Self {
        let mut numbers = HashMap::new();
        let mut texts: Vec<&str> = Vec::new();
        for text in rules.iter().flat_map(Rule::needs) {
            if !numbers.contains_key(text) {
                numbers.insert(text.to_owned(), texts.len());
                texts.push(text);
            }
        }
        let automaton = AhoCorasick::builder().ascii_case_insensitive(true).build(texts).ok();
        Self { automaton, numbers }
    }

    /// Which of them a text has.
    pub(super) fn look<'s>(&'s self, text: &str) -> Present<'s> {
        let mut present = vec![false; self.numbers.len()];
        match &self.automaton {
            Some(automaton) => {
                for found in automaton.find_overlapping_iter(text) {
                    present[found.pattern().as_usize()] = true;
                }
            }
            None => present.fill(true),
        }
        Present { sieve: self, present }
    }
}

/// Which texts are there.
pub(super) struct Present<'s> {
    sieve: &'s Sieve,
    present: Vec<bool>,
}

impl Present<'_> {
    /// Whether one of these is there, or none is needed.
    pub(super) fn has_one(&self, needs: &[String]) -> bool {
        let is_there = |text: &String| self.sieve.numbers.get(text).is_none_or(|number| self.present[*number]);
        needs.is_empty() || needs.iter().any(is_there)
    }
}

#[cfg(test)]
mod tests {
    use super::super::rules::Rules;
    use super::*;

    #[test]
    fn patterns_without_their_texts_are_spared() {
        let mut rules = Rules::default();
        let rule = "[[rule]]\nname = 'a'\ntitle = 'x'\npatterns = ['(?i)\\bpass(?:word|wd)\\s+(?<value>\\S+)', '[0-9]-[0-9]']\n";
        rules.add("own.toml", rule);
        let sieve = Sieve::new(&rules.good);
        let needs: Vec<&str> = rules.good[0].needs().collect();
        assert_eq!(needs, ["passwd ", "password "].map(str::trim_end));
        let has =
            |text: &str| sieve.look(text).has_one(&needs.iter().map(|text| (*text).to_owned()).collect::<Vec<_>>());
        assert!(has("the PASSWORD x") && has("passwd") && !has("pass word 5-5"));
        assert!(sieve.look("").has_one(&[]));
    }
}
