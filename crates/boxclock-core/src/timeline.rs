//! The merged order of all events, and what it looks like from afar.

use std::cmp::Reverse;
use std::collections::BinaryHeap;

use crate::event::{EventRef, NO_TIME, Part, Row, Table, TableActor};

pub mod density;

/// Merges all parts by corrected time.
///
/// Within a source the order of the file is never changed. Where its times go backward, the longest run of events
/// whose times agree with the file's order keeps its times; the others are placed at the time of their predecessor in
/// that run, and are given back as disordered. Undated events come last, but those at a source's start come right
/// before its first dated one. Equal times keep the order of sources.
///
/// Cost: linear for sources in order, plus one heap step whenever the merge changes from one source to another.
pub fn merge(parts: &[Part], actors: &[TableActor], drift: &[i64]) -> (Vec<u32>, Vec<u32>) {
    let total = parts.last().map_or(0, |part| part.first_row as usize + part.segment.len());
    let mut order = Vec::with_capacity(total);
    let mut disordered = Vec::new();
    let mut lanes: Vec<Lane<'_>> = Vec::new();
    let mut start = 0;
    while start < parts.len() {
        let source = parts[start].segment.source;
        let length = parts[start..].iter().take_while(|part| part.segment.source == source).count();
        lanes.push(Lane::new(&parts[start..start + length], actors, drift, &mut disordered));
        start += length;
    }
    let mut heap: BinaryHeap<Reverse<(i64, usize)>> =
        lanes.iter().enumerate().filter_map(|(index, lane)| lane.key().map(|key| Reverse((key, index)))).collect();
    while let Some(Reverse((_, index))) = heap.pop() {
        let limit = heap.peek().map(|Reverse(next)| *next);
        let lane = &mut lanes[index];
        while let Some(key) = lane.key() {
            if limit.is_some_and(|next| (key, index) > next) {
                heap.push(Reverse((key, index)));
                break;
            }
            order.push(lane.row());
            lane.step();
        }
    }
    disordered.sort_unstable();
    (order, disordered)
}

/// One source while it is being merged.
struct Lane<'a> {
    parts: &'a [Part],
    /// Keys of all events, where the times themselves cannot serve.
    keys: Option<Vec<i64>>,
    /// For each part: what to add to its times, where that is one number.
    drift: i64,
    part: usize,
    index: usize,
    done: usize,
}

impl<'a> Lane<'a> {
    fn new(parts: &'a [Part], actors: &[TableActor], drift: &[i64], disordered: &mut Vec<u32>) -> Self {
        let of_actor = |actor: u32| drift[actors[actor as usize].host as usize];
        let mut drifts = parts.iter().flat_map(|part| part.actor_ids.iter().map(|actor| of_actor(*actor)));
        let first = drifts.next().unwrap_or(0);
        let one_drift = drifts.all(|drift| drift == first);
        let joined = parts.windows(2).all(|pair| pair[0].segment.times.last() <= pair[1].segment.times.first());
        let dated = parts.first().and_then(|part| part.segment.times.first()).is_none_or(|time| *time != NO_TIME);
        let mut lane = Self { parts, keys: None, drift: first, part: 0, index: 0, done: 0 };
        if !(one_drift && joined && dated && parts.iter().all(|part| part.segment.sorted)) {
            let times = parts.iter().flat_map(|part| {
                part.segment.times.iter().zip(&part.segment.actor_ids).map(move |(time, actor)| {
                    if *time == NO_TIME { NO_TIME } else { time.saturating_add(of_actor(part.actor_ids[usize::from(*actor)])) }
                })
            });
            let (keys, late) = keys_in_file_order(times.collect());
            let first_row = parts.first().map_or(0, |part| part.first_row);
            disordered.extend(late.into_iter().map(|index| first_row + index));
            lane.keys = Some(keys);
        }
        lane.skip_empty();
        lane
    }

    fn key(&self) -> Option<i64> {
        let part = self.parts.get(self.part)?;
        Some(match &self.keys {
            Some(keys) => keys[self.done],
            None => part.segment.times[self.index].saturating_add(self.drift),
        })
    }

    fn row(&self) -> u32 {
        self.parts[self.part].first_row + self.index as u32
    }

    fn step(&mut self) {
        self.index += 1;
        self.done += 1;
        self.skip_empty();
    }

    fn skip_empty(&mut self) {
        while self.parts.get(self.part).is_some_and(|part| self.index >= part.segment.len()) {
            self.part += 1;
            self.index = 0;
        }
    }
}

/// Keys that never go backward for times in file order, and the indexes of the events whose own times they are not.
///
/// A longest non-decreasing run of the times keeps them (patience sorting, linear when nearly in order); the others get
/// the key before them. Undated events get the key of the event before them, at the start that of the first dated one;
/// without any dated event they are last.
fn keys_in_file_order(times: Vec<i64>) -> (Vec<i64>, Vec<u32>) {
    const NONE: u32 = u32::MAX;
    // From the end towards the start: of two equally long runs this keeps the one whose late lines come later.
    let mut tails: Vec<u32> = Vec::new();
    let mut behind: Vec<u32> = vec![NONE; times.len()];
    for (index, time) in times.iter().enumerate().rev() {
        if *time == NO_TIME {
            continue;
        }
        let length = match tails.last() {
            Some(last) if times[*last as usize] >= *time => tails.len(),
            _ => tails.partition_point(|tail| times[*tail as usize] >= *time),
        };
        behind[index] = length.checked_sub(1).map_or(NONE, |shorter| tails[shorter]);
        if length == tails.len() {
            tails.push(index as u32);
        } else {
            tails[length] = index as u32;
        }
    }
    let mut keep = vec![false; times.len()];
    let mut at = tails.last().copied().unwrap_or(NONE);
    while at != NONE {
        keep[at as usize] = true;
        at = behind[at as usize];
    }
    let mut key = times.iter().zip(&keep).find(|(_, keep)| **keep).map_or(i64::MAX, |(time, _)| *time);
    let mut late = Vec::new();
    let mut keys = times;
    for (index, slot) in keys.iter_mut().enumerate() {
        if keep[index] {
            key = *slot;
        } else if *slot != NO_TIME {
            late.push(index as u32);
        }
        *slot = key;
    }
    (keys, late)
}

/// The last event of each other source at or before a place, that is a problem: what went wrong just before.
pub fn problems_before(table: &Table, place: usize, looked_at: usize) -> Vec<EventRef<'_>> {
    let Some(here) = table.at(place) else { return Vec::new() };
    let mut seen = vec![here.source()];
    let mut found = Vec::new();
    for row in table.order[..place].iter().rev().take(looked_at) {
        let event = table.event(Row(*row));
        if event.is_problem() && !seen.contains(&event.source()) {
            seen.push(event.source());
            found.push(event);
        }
    }
    found
}

#[cfg(test)]
mod tests;
