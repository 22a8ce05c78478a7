//! An axis of time cut into slices, on which long silence is folded into one slice each: a case of three years with one bad night
//! shows the night.

use crate::Result;
use crate::clock::HOUR;
use crate::event::{NO_TIME, Table};
use crate::work::{Work, parallel, workers};

/// Bins in which there are events or not.
const BINS: usize = 1 << 14;
/// A bin without events.
const NO_EVENT: (i64, i64) = (i64::MAX, i64::MIN);
/// Silence is folded that takes more than this part of what is not folded yet…
const FOLDED_PART: i64 = 6;
/// …and is longer than this.
const MIN_FOLDED_NS: i64 = HOUR;
/// Slices for each silence that may be folded: more would leave too few for what happened.
const SLICES_PER_FOLD: usize = 6;

/// The slices.
#[derive(Clone, Debug, Default, PartialEq, Eq)]
pub struct Axis {
    /// Where each slice starts, UTC nanoseconds, ascending; and behind the last one its end.
    bounds: Vec<i64>,
    /// For each slice whether it is a silence that was folded.
    folded: Vec<bool>,
}

impl Axis {
    /// Equal slices from one moment to another (inclusive).
    pub fn even((from, to): (i64, i64), slices: usize) -> Self {
        let slices = slices.max(1);
        Self { bounds: even_bounds(from, to.max(from), slices), folded: vec![false; slices] }
    }

    /// Slices from one moment to another (inclusive), silence folded.
    ///
    /// # Errors
    /// When cancelled.
    pub fn of(table: &Table, (from, to): (i64, i64), slices: usize, work: &Work) -> Result<Self> {
        let (slices, to) = (slices.max(1), to.max(from));
        let bins = occupied(table, (from, to), work);
        work.check()?;
        let gaps = gaps_to_fold(&bins, to.saturating_sub(from), slices / SLICES_PER_FOLD);
        if gaps.is_empty() {
            return Ok(Self::even((from, to), slices));
        }
        // What is between the folded gaps, with its share of the slices: at least one each.
        let starts = std::iter::once(from).chain(gaps.iter().map(|(_, end)| *end));
        let ends = gaps.iter().map(|(start, _)| *start).chain(std::iter::once(to));
        let pieces: Vec<(i64, i64)> = starts.zip(ends).collect();
        let left = slices.saturating_sub(gaps.len());
        let lengths: Vec<i64> = pieces.iter().map(|(start, end)| end.saturating_sub(*start).max(1)).collect();
        let whole: i128 = lengths.iter().map(|length| i128::from(*length)).sum();
        let mut shares: Vec<usize> = lengths
            .iter()
            .map(|length| ((i128::from(*length) * left as i128 / whole.max(1)) as usize).max(1))
            .collect();
        while shares.iter().sum::<usize>() > left
            && let Some(most) = shares.iter_mut().max().filter(|most| **most > 1)
        {
            *most -= 1;
        }
        while shares.iter().sum::<usize>() < left
            && let Some(most) = shares.iter_mut().max()
        {
            *most += 1;
        }
        let mut axis = Self::default();
        for (at, ((start, end), share)) in pieces.iter().zip(shares).enumerate() {
            let bounds = even_bounds(*start, end.saturating_sub(1).max(*start), share);
            axis.bounds.extend(&bounds[..share]);
            axis.folded.extend(std::iter::repeat_n(false, share));
            if at < gaps.len() {
                axis.bounds.push(*end);
                axis.folded.push(true);
            }
        }
        axis.bounds.push(to.saturating_add(1));
        Ok(axis)
    }

    /// Number of slices.
    pub fn len(&self) -> usize {
        self.folded.len()
    }

    /// Whether it has no slice.
    pub fn is_empty(&self) -> bool {
        self.folded.is_empty()
    }

    /// First and last moment (inclusive).
    pub fn span(&self) -> (i64, i64) {
        let last = self.bounds.last().copied().unwrap_or_default();
        (self.bounds.first().copied().unwrap_or_default(), last.saturating_sub(1))
    }

    /// The slice that an instant is in; instants outside are at the ends.
    pub fn slice_of(&self, utc_ns: i64) -> usize {
        let behind = self.bounds.partition_point(|bound| *bound <= utc_ns);
        behind.saturating_sub(1).min(self.len().saturating_sub(1))
    }

    /// The instant at which a slice starts.
    pub fn start_of(&self, slice: usize) -> i64 {
        self.bounds.get(slice).or(self.bounds.last()).copied().unwrap_or_default()
    }

    /// The instants from which to which (exclusive) a slice reaches.
    pub fn range_of(&self, slice: usize) -> (i64, i64) {
        (self.start_of(slice), self.start_of(slice + 1))
    }

    /// How long the silence is that is folded into a slice; `None` where nothing is folded.
    pub fn silence(&self, slice: usize) -> Option<i64> {
        let (from, to) = self.range_of(slice);
        self.folded.get(slice).is_some_and(|folded| *folded).then(|| to.saturating_sub(from))
    }
}

/// Bounds of equal slices: one more than there are slices.
fn even_bounds(from: i64, to: i64, slices: usize) -> Vec<i64> {
    let span = i128::from(to) - i128::from(from) + 1;
    let bound = |slice: usize| {
        let at = i128::from(from) + (span * slice as i128 + slices as i128 - 1) / slices as i128;
        i64::try_from(at).unwrap_or(i64::MAX)
    };
    (0..=slices).map(bound).collect()
}

/// The first and last event in each of [`BINS`] equal bins; [`NO_EVENT`] where there is none.
fn occupied(table: &Table, (from, to): (i64, i64), work: &Work) -> Vec<(i64, i64)> {
    let scale = BINS as f64 / (i128::from(to) - i128::from(from) + 1) as f64;
    let group_parts = table.parts.len().div_ceil(workers() * 2).max(1);
    let groups = parallel(table.parts.len().div_ceil(group_parts), work, |group| {
        let mut bins = vec![NO_EVENT; BINS];
        for part in table.parts.iter().skip(group * group_parts).take(group_parts) {
            let segment = &part.segment;
            let of_actor = |actor: &u32| table.drift_of(segment.source, *actor);
            let drift: Vec<_> = part.actor_ids.iter().map(of_actor).collect();
            for (time, actor) in segment.times.iter().zip(segment.actor_ids.iter()) {
                let time = drift[usize::from(*actor)].correct(*time);
                if time != NO_TIME && (from..=to).contains(&time) {
                    let bin = ((time.saturating_sub(from)) as f64 * scale) as usize;
                    let (first, last) = &mut bins[bin.min(BINS - 1)];
                    (*first, *last) = ((*first).min(time), (*last).max(time));
                }
            }
        }
        bins
    });
    let mut all = vec![NO_EVENT; BINS];
    for bins in groups {
        for ((first, last), bin) in all.iter_mut().zip(bins) {
            (*first, *last) = ((*first).min(bin.0), (*last).max(bin.1));
        }
    }
    all
}

/// The silences that are folded, the longest ones, in order of time: each from behind an event to the next one.
fn gaps_to_fold(bins: &[(i64, i64)], whole: i64, most: usize) -> Vec<(i64, i64)> {
    let mut gaps: Vec<(i64, i64)> = Vec::new();
    let mut before: Option<i64> = None;
    for (first, last) in bins.iter().filter(|bin| **bin != NO_EVENT) {
        if let Some(before) = before.replace(*last)
            && first.saturating_sub(before) > MIN_FOLDED_NS
        {
            gaps.push((before.saturating_add(1), *first));
        }
    }
    gaps.sort_by_key(|(from, to)| std::cmp::Reverse(to.saturating_sub(*from)));
    let mut left = whole;
    let mut kept = 0;
    for (from, to) in gaps.iter().take(most) {
        let length = to.saturating_sub(*from);
        if length <= left / FOLDED_PART || length <= MIN_FOLDED_NS {
            break;
        }
        left = left.saturating_sub(length);
        kept += 1;
    }
    gaps.truncate(kept);
    gaps.sort_unstable();
    gaps
}

#[cfg(test)]
mod tests {
    use proptest::prelude::*;

    use super::*;
    use crate::clock::DAY;
    use crate::testing::case;

    #[test]
    fn three_years_with_one_bad_night_show_the_night() {
        let mut text =
            String::from("2023-04-12T02:00:00Z app: driver installed\n2024-06-01T12:00:00Z app: restarted\n");
        for minute in 0..360 {
            text.push_str(&format!("2026-04-12T{:02}:{:02}:00Z app: fed\n", minute / 60, minute % 60));
        }
        let root = case(&[("a.log", text)]);
        let table = root.view().loaded.table;
        let axis = Axis::of(&table, table.span.unwrap(), 40, &Work::default()).unwrap();
        assert_eq!(axis.len(), 40);
        let silences: Vec<i64> = (0..40).filter_map(|slice| axis.silence(slice)).collect();
        assert_eq!(silences.len(), 2, "{silences:?}");
        assert!(silences.iter().all(|silence| *silence > 300 * DAY));
        let night = table.span.unwrap().1 - 6 * HOUR;
        let of_night = (0..40).filter(|slice| axis.start_of(*slice) >= night && axis.silence(*slice).is_none()).count();
        assert!(of_night >= 30, "{of_night} slices are of the night");
    }

    proptest! {
        #[test]
        fn slices_tile_the_span(times in proptest::collection::vec(0_i64..4_000_000_000, 1..60), slices in 1_usize..90) {
            let lines: String = times.iter().map(|second| {
                let time = crate::clock::to_rfc3339((1_700_000_000 + second / 60) * 1_000_000_000);
                format!("{time} app: fed\n")
            }).collect();
            let root = case(&[("a.log", lines)]);
            let table = root.view().loaded.table;
            let span = table.span.unwrap();
            let axis = Axis::of(&table, span, slices, &Work::default()).unwrap();
            prop_assert_eq!(axis.len(), slices);
            prop_assert_eq!(axis.span(), span);
            prop_assert!(axis.bounds.is_sorted());
            for row in &table.order {
                let time = table.event(crate::event::Row(*row)).time().unwrap();
                let slice = axis.slice_of(time);
                let (from, to) = axis.range_of(slice);
                prop_assert!((from..to).contains(&time));
                prop_assert!(axis.silence(slice).is_none(), "nothing happens in silence");
            }
        }
    }
}
