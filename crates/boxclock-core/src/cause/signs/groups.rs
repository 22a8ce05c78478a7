//! All messages by their kinds, and how telling their words are.

use std::collections::HashMap;

use super::{Finder, GroupKey, is_of_the_machine, text_of};
use crate::Result;
use crate::analysis::Pieces;
use crate::case::Reader;
use crate::cause::kinds::Kinds;
use crate::cause::{people, words};
use crate::event::Row;

/// Forms of messages whose text is read: those that come first.
const MOST_FORMS: usize = 60_000;

/// The share of a program's messages from which on a word in them is one that it says all the time, and of how many at least.
const EVERYDAY: f64 = 0.4;
const FEWEST_OF_A_PROGRAM: usize = 40;

impl Finder<'_> {
    /// All messages by kind, host and log, in order of time.
    pub(super) fn groups(&mut self, forms: &Pieces<'_, Vec<u32>>) -> Result<Vec<(GroupKey, Vec<Row>)>> {
        let table = &self.view.loaded.table;
        let parts: Vec<Vec<u32>> = (0..table.parts.len()).map(|part| forms.of_part(part)).collect::<Result<_>>()?;
        let is_dump: Vec<bool> =
            self.view.case.sources.iter().map(|source| matches!(source.reader, Reader::Dump(_))).collect();
        let mut known: HashMap<(u32, u32), u32> = HashMap::new();
        let mut kinds = Kinds::default();
        let mut groups: HashMap<GroupKey, Vec<Row>> = HashMap::new();
        for (number, row) in table.order.iter().enumerate() {
            if number % 65_536 == 0 {
                self.work.check()?;
            }
            let row = Row(*row);
            let event = table.event(row);
            let source = event.source();
            if event.time().is_none() || is_dump[source] {
                continue;
            }
            let (part, index) = table.locate(row);
            let Some(form) = parts[part].get(index) else { continue };
            let log = table.logs.get(source).copied().unwrap_or(source as u32);
            let actor = event.actor();
            let owner = if self.shared[source] && actor.component != 0 { actor.component } else { log | 0x8000_0000 };
            let kind = match known.get(&(owner, *form)) {
                Some(kind) => *kind,
                None if known.len() >= MOST_FORMS => continue,
                None => {
                    let record = self.reader.record(event);
                    if let Some(account) = people::account(&record.body) {
                        self.accounts.insert(account.to_owned());
                    }
                    let names = record.attributes.keys().map(String::as_str).filter(|name| !is_of_the_machine(name));
                    let kind = kinds.of(owner, &record.body, names);
                    known.insert((owner, *form), kind);
                    if kind as usize >= self.signs.owner_of_kind.len() {
                        self.signs.owner_of_kind.push(owner);
                    }
                    kind
                }
            };
            groups.entry(GroupKey { kind, host: actor.host, log }).or_default().push(row);
        }
        self.signs.kinds = kinds.len();
        self.count_of_kind = vec![0; kinds.len()];
        self.while_well = vec![0; kinds.len()];
        let good = crate::cause::told(&self.view.case.story.last_good, self.view).map_or(i64::MIN, |good| good.from);
        for (key, rows) in &groups {
            self.count_of_kind[key.kind as usize] += rows.len();
            let is_before = |row: &Row| table.event(*row).time().is_some_and(|time| time < good);
            self.while_well[key.kind as usize] += rows.partition_point(is_before);
        }
        let mut groups: Vec<(GroupKey, Vec<Row>)> = groups.into_iter().collect();
        groups.sort_unstable_by_key(|(key, _)| *key);
        Ok(groups)
    }

    /// In how many kinds of messages each word stands, and which words a program says all the time.
    pub(super) fn spread_words(&mut self, groups: &[(GroupKey, Vec<Row>)]) -> Result<()> {
        // How many records of each kind were looked at, and how many of them have each word.
        let mut of_kind: HashMap<u32, (usize, HashMap<u32, usize>)> = HashMap::new();
        for (key, rows) in groups {
            self.work.check()?;
            let step = (rows.len() / 40).max(1);
            for row in rows.iter().step_by(step).take(60) {
                let record = self.record(*row);
                let ids = self.signs.lexicon.ids(words::words_of(&text_of(&record)));
                let (looked_at, seen) = of_kind.entry(key.kind).or_default();
                *looked_at += 1;
                for id in ids {
                    let count = seen.entry(id).or_default();
                    *count += 1;
                    if *count == 1 {
                        self.signs.lexicon.spread[id as usize] += 1;
                    }
                }
            }
        }
        let mut events: HashMap<u32, usize> = HashMap::new();
        let mut with_word: HashMap<(u32, u32), usize> = HashMap::new();
        for (kind, (looked_at, seen)) in of_kind {
            let (owner, count) = (self.signs.owner_of_kind[kind as usize], self.count_of_kind[kind as usize]);
            *events.entry(owner).or_default() += count;
            for (id, _) in seen.into_iter().filter(|(_, with)| 2 * with > looked_at) {
                if looked_at > 1 {
                    self.signs.of_kind.insert((kind, id));
                }
                *with_word.entry((owner, id)).or_default() += count;
            }
        }
        let is_everyday = |((owner, _), with): &((u32, u32), usize)| {
            events.get(owner).is_some_and(|all| *all >= FEWEST_OF_A_PROGRAM && *with as f64 > EVERYDAY * *all as f64)
        };
        self.signs.everyday = with_word.into_iter().filter(is_everyday).map(|(word, _)| word).collect();
        Ok(())
    }
}
