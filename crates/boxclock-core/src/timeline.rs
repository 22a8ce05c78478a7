//! The merged order of all events, and what it looks like from afar.

use std::cmp::Reverse;
use std::collections::BinaryHeap;
use std::collections::binary_heap::PeekMut;
use std::sync::{Mutex, PoisonError};

use crate::clock::ClockCorrection;
use crate::event::{EventRef, NO_TIME, Part, RecordOrder, Row, Table};
use crate::work::{Work, parallel, workers};

pub mod arrange;
pub mod axis;
pub mod density;
pub mod drift;
pub mod marks;
mod silence;

/// Merges all parts of a table by corrected time: gives the rows in order, and those whose times disagree with the order
/// of their file.
///
/// Within a source, and within the generations of a log, the order of what happened, as the file shows it, is never changed (a
/// source whose newest record stands first is read backwards, see [`RecordOrder`]). Where its times go backward, the longest run of events
/// whose times agree with the file's order keeps its times; the others are placed at the time of their predecessor in
/// that run, and are given back as disordered. Undated events come last, but those at a source's start come right
/// before its first dated one. Equal times keep the order of sources.
///
/// Cost: linear for sources in order, plus one heap step whenever the merge changes from one source to another; on all
/// cores.
pub fn merge(table: &Table) -> (Vec<u32>, Vec<u32>) {
    let parts = &table.parts;
    let log_of = |part: &Part| table.logs.get(part.segment.source as usize).copied();
    let mut disordered = Vec::new();
    let mut lanes: Vec<Lane<'_>> = Vec::new();
    let mut start = 0;
    while start < parts.len() {
        // Generations of a log are next to each other, the oldest first.
        let log = log_of(&parts[start]);
        let length = parts[start..].iter().take_while(|part| log_of(part) == log).count();
        lanes.push(Lane::new(&parts[start..start + length], table, &mut disordered));
        start += length;
    }
    disordered.sort_unstable();
    // Pieces between pivots are merged on their own, each into its own part of the order.
    let pivots = pivots(&lanes);
    let bounds = |piece: usize| (piece.checked_sub(1).map(|before| pivots[before]), pivots.get(piece).copied());
    let mut order = vec![0; table.len()];
    let mut rest = order.as_mut_slice();
    let mut pieces = Vec::new();
    for piece in 0..=pivots.len() {
        let (from, to) = bounds(piece);
        let cursors: Vec<Cursor<'_, '_>> = lanes.iter().map(|lane| Cursor::at(lane, from, to)).collect();
        let (own, others) = rest.split_at_mut(cursors.iter().map(|cursor| cursor.left).sum());
        rest = others;
        pieces.push(Mutex::new((cursors, own)));
    }
    parallel(pieces.len(), &Work::default(), |piece| {
        let mut piece = pieces[piece].lock().unwrap_or_else(PoisonError::into_inner);
        let (cursors, own) = &mut *piece;
        merge_into(std::mem::take(cursors), own);
    });
    (order, disordered)
}

/// Keys that cut the events into about equal pieces, taken from the longest lane.
fn pivots(lanes: &[Lane<'_>]) -> Vec<i64> {
    let Some(longest) = lanes.iter().max_by_key(|lane| lane.len()).filter(|lane| lane.len() > 100_000) else {
        return Vec::new();
    };
    // More than cores: pieces are as long as the longest lane makes them, and others may be denser.
    let pieces = workers() * 4;
    let mut pivots: Vec<i64> = (1..pieces).map(|piece| longest.key_at(longest.len() * piece / pieces)).collect();
    pivots.dedup();
    pivots
}

/// Lanes up to which the next event is found by looking at all of them: no branch of that depends on the times.
const FEW_LANES: usize = 12;

/// Merges what the cursors have left, in order, into a slice of just that length.
fn merge_into(mut cursors: Vec<Cursor<'_, '_>>, order: &mut [u32]) {
    cursors.retain(|cursor| cursor.left > 0);
    let mut order = order.iter_mut();
    let mut heap: BinaryHeap<Reverse<(i64, usize)>> = BinaryHeap::new();
    if cursors.len() > FEW_LANES {
        heap.extend(cursors.iter().enumerate().map(|(index, cursor)| Reverse((cursor.key, index))));
    }
    // Changing the top in place costs next to nothing while the same source goes on.
    while let Some(mut top) = heap.peek_mut() {
        let index = top.0.1;
        let Some(slot) = order.next() else { return };
        *slot = cursors[index].take();
        if cursors[index].left > 0 {
            *top = Reverse((cursors[index].key, index));
        } else {
            PeekMut::pop(top);
        }
    }
    for slot in order {
        let (mut first, mut key) = (0, i64::MAX);
        for (index, cursor) in cursors.iter().enumerate() {
            (first, key) = if cursor.key < key { (index, cursor.key) } else { (first, key) };
        }
        let Some(cursor) = cursors.get_mut(first) else { return };
        *slot = cursor.take();
        if cursor.left == 0 {
            cursors.remove(first);
        }
    }
}

/// One source with its keys.
struct Lane<'a> {
    parts: &'a [Part],
    /// Keys of all events, where the times themselves cannot serve.
    keys: Option<Vec<i64>>,
    /// The rows of all events as they happened, where that is not the order of the file.
    rows: Option<Vec<u32>>,
    /// How its times are corrected, where that is the same for all.
    drift: ClockCorrection,
}

impl<'a> Lane<'a> {
    fn new(parts: &'a [Part], table: &Table, disordered: &mut Vec<u32>) -> Self {
        let drift_of = |part: &Part, actor: u32| table.drift_of(part.segment.source, actor);
        let mut drifts = parts.iter().flat_map(|part| part.actor_ids.iter().map(move |actor| drift_of(part, *actor)));
        let first = drifts.next().unwrap_or_default();
        let one_drift = drifts.all(|drift| drift == first);
        let joined = parts.windows(2).all(|pair| pair[0].segment.times.last() <= pair[1].segment.times.first());
        let dated = parts.first().and_then(|part| part.segment.times.first()).is_none_or(|time| *time != NO_TIME);
        let mut lane = Self { parts, keys: None, rows: rows_as_they_happened(parts, table), drift: first };
        if lane.rows.is_some() || !(one_drift && joined && dated && parts.iter().all(|part| part.segment.sorted)) {
            let times = parts.iter().flat_map(|part| {
                part.segment.times.iter().zip(part.segment.actor_ids.iter()).map(move |(time, actor)| {
                    let drift = drift_of(part, part.actor_ids[usize::from(*actor)]);
                    if *time == NO_TIME { NO_TIME } else { drift.correct(*time) }
                })
            });
            let mut times: Vec<i64> = times.collect();
            if let Some(rows) = &lane.rows {
                times = rows.iter().map(|row| times[*row as usize - lane.first_row()]).collect();
            }
            let (keys, late) = keys_in_file_order(times);
            disordered.extend(late.into_iter().map(|index| lane.row_at(index as usize)));
            lane.keys = Some(keys);
        }
        lane
    }

    fn first_row(&self) -> usize {
        self.parts.first().map_or(0, |part| part.first_row as usize)
    }

    /// The row of the event at an index below the length.
    fn row_at(&self, index: usize) -> u32 {
        match &self.rows {
            Some(rows) => rows[index],
            None => (self.first_row() + index) as u32,
        }
    }

    /// Number of events.
    fn len(&self) -> usize {
        self.parts.last().map_or(0, |part| part.first_row as usize + part.segment.len() - self.first_row())
    }

    /// The part that holds the event at an index.
    fn part_of(&self, index: usize) -> usize {
        let row = self.first_row() + index;
        self.parts.partition_point(|part| part.first_row as usize <= row).saturating_sub(1)
    }

    /// The key of the event at an index below the length.
    fn key_at(&self, index: usize) -> i64 {
        if let Some(keys) = &self.keys {
            return keys[index];
        }
        let part = &self.parts[self.part_of(index)];
        self.drift.correct(part.segment.times[self.first_row() + index - part.first_row as usize])
    }

    /// The index of the first event whose key is not before `key`.
    fn index_of(&self, key: i64) -> usize {
        let (mut low, mut high) = (0, self.len());
        while low < high {
            let middle = low + (high - low) / 2;
            if self.key_at(middle) < key { low = middle + 1 } else { high = middle }
        }
        low
    }
}

/// The rows of a log's events as they happened, where any of its sources is not written so.
fn rows_as_they_happened(parts: &[Part], table: &Table) -> Option<Vec<u32>> {
    let order_of = |part: &Part| table.record_orders.get(part.segment.source as usize).copied().unwrap_or_default();
    if parts.iter().all(|part| order_of(part) == RecordOrder::AsWritten) {
        return None;
    }
    let mut rows = Vec::new();
    for of_source in parts.chunk_by(|one, other| one.segment.source == other.segment.source) {
        let (Some(first), Some(last)) = (of_source.first(), of_source.last()) else { continue };
        let own = first.first_row..last.first_row + last.segment.len() as u32;
        match order_of(first) {
            RecordOrder::AsWritten => rows.extend(own),
            RecordOrder::NewestFirst => rows.extend(own.rev()),
            RecordOrder::ByTime => {
                let times = of_source.iter().flat_map(|part| part.segment.times.iter());
                let mut timed: Vec<(i64, u32)> = times.copied().zip(own).collect();
                timed.sort_by_key(|(time, _)| *time);
                rows.extend(timed.into_iter().map(|(_, row)| row));
            }
        }
    }
    Some(rows)
}

/// A place in a lane that moves on.
struct Cursor<'l, 'a> {
    lane: &'l Lane<'a>,
    /// The key of the event it is at, while any are left.
    key: i64,
    /// How many events are left.
    left: usize,
    /// The keys from its event on to the end of a part, as far as they are read without a look at the lane.
    keys: &'l [i64],
    /// The index of its event.
    index: usize,
    /// How the keys are corrected.
    drift: ClockCorrection,
}

impl<'l, 'a> Cursor<'l, 'a> {
    fn at(lane: &'l Lane<'a>, from: Option<i64>, to: Option<i64>) -> Self {
        let start = from.map_or(0, |key| lane.index_of(key));
        let end = to.map_or(lane.len(), |key| lane.index_of(key));
        let drift = if lane.keys.is_some() { ClockCorrection::default() } else { lane.drift };
        let mut cursor = Self { lane, key: i64::MAX, left: end.saturating_sub(start), keys: &[], index: start, drift };
        if cursor.left > 0 {
            cursor.look();
        }
        cursor
    }

    /// The row of its event; goes to the next one.
    #[inline]
    fn take(&mut self) -> u32 {
        let row = self.lane.row_at(self.index);
        self.index += 1;
        self.left -= 1;
        match self.keys {
            [_, rest @ ..] if !rest.is_empty() => {
                self.keys = rest;
                self.key = self.drift.correct(rest[0]);
            }
            _ if self.left > 0 => self.look(),
            _ => {}
        }
        row
    }

    /// Takes the keys from its row on.
    #[cold]
    fn look(&mut self) {
        self.keys = if let Some(keys) = &self.lane.keys {
            &keys[self.index..]
        } else {
            let part = &self.lane.parts[self.lane.part_of(self.index)];
            &part.segment.times[self.lane.first_row() + self.index - part.first_row as usize..]
        };
        self.key = self.drift.correct(self.keys[0]);
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
