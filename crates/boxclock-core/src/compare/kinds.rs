//! Kinds of messages of two runs: patterns that differ in a name only are one kind.
//!
//! `slow answer of the reed tank` and `slow answer of the kelp tank` are of one kind if there are more of the sort and each run has
//! others of them. Steps (`opens the table`, `opens the store`) stay apart: both runs have the same.

use std::collections::{HashMap, HashSet};

use crate::pattern::{PatternId, template};

use super::logs::Said;

/// Patterns that are looked at, and words of each.
const MOST_PATTERNS: usize = 3000;
const MOST_WORDS: usize = 24;
/// So many names at one place make a kind.
const LEAST_NAMES: usize = 3;
/// More of them than this share are on both sides: they are steps and no names.
const MOST_SHARED: f64 = 0.6;

struct Known {
    words: Vec<String>,
    on_bad: bool,
    on_good: bool,
}

/// Gives messages of one kind the same number on both sides.
pub(super) fn merge(bad: &mut [Said], good: &mut [Said]) {
    let mut known: HashMap<PatternId, Known> = HashMap::new();
    let mut order: Vec<PatternId> = Vec::new();
    for (all, is_bad) in [(&*bad, true), (&*good, false)] {
        for said in all {
            let entry = known.entry(said.pattern).or_insert_with(|| {
                order.push(said.pattern);
                let words = template(&said.text).split_whitespace().map(str::to_owned).collect();
                Known { words, on_bad: false, on_good: false }
            });
            entry.on_bad |= is_bad;
            entry.on_good |= !is_bad;
        }
    }
    if order.len() > MOST_PATTERNS {
        return;
    }
    let mut merged: HashMap<PatternId, PatternId> = HashMap::new();
    for open in 1..=2 {
        let left: Vec<PatternId> = order.iter().copied().filter(|id| !merged.contains_key(id)).collect();
        for (kind, members) in groups(&known, &left, open) {
            let free: Vec<PatternId> = members.into_iter().filter(|id| !merged.contains_key(id)).collect();
            if is_one_kind(&known, &free) {
                merged.extend(free.into_iter().map(|id| (id, PatternId::of(kind.as_bytes()))));
            }
        }
    }
    for said in bad.iter_mut().chain(good.iter_mut()) {
        if let Some(kind) = merged.get(&said.pattern) {
            said.pattern = *kind;
        }
    }
}

/// Patterns that are the same but for some words, the largest groups first.
fn groups(known: &HashMap<PatternId, Known>, ids: &[PatternId], open: usize) -> Vec<(String, Vec<PatternId>)> {
    let mut groups: HashMap<String, Vec<PatternId>> = HashMap::new();
    for id in ids {
        let words = &known[id].words;
        if words.len() <= open + 1 || words.len() > MOST_WORDS {
            continue;
        }
        for first in 0..words.len() {
            let seconds = if open == 1 { first..first + 1 } else { first + 1..words.len() };
            for second in seconds {
                let is_open = |at: usize| at == first || at == second;
                let kind: Vec<&str> =
                    words.iter().enumerate().map(|(at, word)| if is_open(at) { "*" } else { word }).collect();
                groups.entry(kind.join(" ")).or_default().push(*id);
            }
        }
    }
    let mut groups: Vec<(String, Vec<PatternId>)> =
        groups.into_iter().filter(|(_, members)| members.len() >= LEAST_NAMES).collect();
    groups.sort_by(|one, other| other.1.len().cmp(&one.1.len()).then_with(|| one.0.cmp(&other.0)));
    groups
}

/// Whether patterns are one kind: there are some, and each side has mostly others.
fn is_one_kind(known: &HashMap<PatternId, Known>, members: &[PatternId]) -> bool {
    let distinct: HashSet<&PatternId> = members.iter().collect();
    let shared = distinct.iter().filter(|id| known[**id].on_bad && known[**id].on_good).count();
    distinct.len() >= LEAST_NAMES && shared as f64 <= MOST_SHARED * distinct.len() as f64
}
