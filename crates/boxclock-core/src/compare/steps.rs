//! The steps of two runs: messages that come once on each side, in their order.

use std::collections::{BTreeMap, HashMap};

use crate::pattern::PatternId;

/// Messages that come once on each side: the steps of a run.
pub(super) struct Steps {
    /// In the order of the good side: place there, number of the step on the bad side, and place there.
    on_good: Vec<(usize, usize, usize)>,
}

impl Steps {
    pub(super) fn new(bad: &BTreeMap<PatternId, Vec<usize>>, good: &BTreeMap<PatternId, Vec<usize>>) -> Self {
        let once = |of: &BTreeMap<PatternId, Vec<usize>>, other: &BTreeMap<PatternId, Vec<usize>>| {
            let mut places: Vec<(usize, PatternId)> = of
                .iter()
                .filter(|(id, places)| places.len() == 1 && other.get(*id).is_some_and(|places| places.len() == 1))
                .map(|(id, places)| (places[0], *id))
                .collect();
            places.sort_unstable();
            places
        };
        let on_bad: HashMap<PatternId, (usize, usize)> =
            once(bad, good).into_iter().enumerate().map(|(number, (at, id))| (id, (number, at))).collect();
        let on_good = once(good, bad).into_iter().filter_map(|(at, id)| {
            let (number, of_bad) = *on_bad.get(&id)?;
            Some((at, number, of_bad))
        });
        Self { on_good: on_good.collect() }
    }

    /// Where a place of the good side lies between two steps, near, that follow each other directly on both sides: their places on
    /// the bad side.
    pub(super) fn between(&self, at: usize) -> Option<(usize, usize)> {
        const NEAR: usize = 12;
        let next = self.on_good.partition_point(|(place, ..)| *place < at);
        let (before, after) = (self.on_good.get(next.checked_sub(1)?)?, self.on_good.get(next)?);
        (before.1 + 1 == after.1 && after.0 - before.0 <= NEAR).then_some((before.2, after.2))
    }
}
