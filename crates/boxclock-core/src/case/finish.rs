//! What only shows when a whole source is known: years and dates across its pieces, times handed on from piece to piece.

use std::sync::Arc;

use super::Source;
use super::chunk::inherit;
use crate::clock::day::{self, days_before};
use crate::clock::scan::Civil;
use crate::clock::{DAY, MINUTE, Resolver, SECOND, TimeKnown, Zone, year};
use crate::event::{NO_TIME, Segment, flag};
use crate::format::LineFormat;

/// Takes years from earlier pieces where a New Year lies between them and the piece behind.
///
/// `behind` is the first time of what follows the source: the next generation of its log.
pub(super) fn years_across(segments: &mut [Arc<Segment>], source: &Source, behind: Option<i64>) {
    let is_open = |flags: &u8| TimeKnown::from_bits(*flags) == TimeKnown::AssumedYear;
    let mut behind = behind;
    let mut resolver = Resolver::new(source.zone.clone());
    for segment in from_the_end(segments, source) {
        let Some((_, last)) = first_and_last(segment, source, TimeKnown::AssumedYear) else { continue };
        let mut years = 0;
        while behind.is_some_and(|behind| minus_years(last, years) > behind.saturating_add(DAY * 180)) {
            years += 1;
        }
        if years > 0 {
            Arc::make_mut(segment).change_times(|times, flags| {
                for (time, flags) in times.iter_mut().zip(flags) {
                    if is_open(flags) {
                        let offset = i64::from(source.zone.offset_at(*time)) * SECOND;
                        *time = resolver.resolve(minus_years(time.saturating_add(offset), years), i64::MIN).0;
                    }
                }
            });
        }
        behind = first_and_last(segment, source, TimeKnown::AssumedYear).map(|(first, _)| first);
    }
    inherit_again(segments);
}

/// The segments of a source, what happened last first.
fn from_the_end<'a>(
    segments: &'a mut [Arc<Segment>],
    source: &Source,
) -> Box<dyn Iterator<Item = &'a mut Arc<Segment>> + 'a> {
    if source.newest_first { Box::new(segments.iter_mut()) } else { Box::new(segments.iter_mut().rev()) }
}

/// The times of a kind in a segment that happened first and last.
fn first_and_last(segment: &Segment, source: &Source, kind: TimeKnown) -> Option<(i64, i64)> {
    let mut times =
        segment.times.iter().zip(segment.flags.iter()).filter(|(_, flags)| TimeKnown::from_bits(**flags) == kind);
    let first = *times.next()?.0;
    let last = times.next_back().map_or(first, |(last, _)| *last);
    Some(if source.newest_first { (last, first) } else { (first, last) })
}

fn minus_years(ns: i64, years: i32) -> i64 {
    year::in_year(ns, Civil::from_ns(ns).year - years)
}

/// Takes days from earlier pieces of times of day where midnights lie between them and the piece behind.
pub(super) fn days_across(segments: &mut [Arc<Segment>], source: &Source, behind: Option<i64>) {
    let civil_of = |utc: i64| utc.saturating_add(i64::from(source.zone.offset_at(utc)) * SECOND);
    let open = |segment: &Segment| -> Option<(i64, i64)> {
        let (first, last) = first_and_last(segment, source, TimeKnown::AssumedDate)?;
        Some((civil_of(first), civil_of(last)))
    };
    let has_date_lines = source.reader.lines().is_some_and(LineFormat::has_date_lines);
    if has_date_lines && segments.iter().any(|segment| holds_dates(segment)) {
        // Lines of the file give dates: what a piece has in front of its first one goes on from the piece before.
        let mut last: Option<i64> = None;
        for segment in segments.iter_mut() {
            if let (Some((first, _)), Some(last)) = (open(segment), last) {
                move_days(segment, source, day::days_after(first, last));
            }
            let own = segment.times.iter().zip(segment.flags.iter()).rev();
            let dated = own.filter(|(_, flags)| TimeKnown::from_bits(**flags).is_own()).map(|(time, _)| *time).next();
            last = dated.map(civil_of).or(last);
        }
        inherit_again(segments);
        return;
    }
    let mut behind = behind.map(civil_of);
    let mut shift_all = 0;
    // In a file that is written newest first, its head says the date of the last line.
    let date = source.header.date.filter(|_| !source.newest_first);
    if let (Some(date), Some((first, _))) = (date, segments.iter().find_map(|segment| open(segment))) {
        // The file says on which day it starts: the pieces keep their distances.
        let mut walk = behind;
        let mut start = first;
        for (piece_first, piece_last) in segments.iter().rev().filter_map(|segment| open(segment)) {
            let days = walk.map_or(0, |behind| days_before(piece_last, behind));
            start = piece_first - days * DAY;
            walk = Some(start);
        }
        shift_all = date.div_euclid(DAY) - start.div_euclid(DAY);
    }
    for segment in from_the_end(segments, source) {
        let Some((first, last)) = open(segment) else { continue };
        let days = behind.map_or(0, |behind| days_before(last, behind));
        behind = Some(first - days * DAY);
        let move_by = shift_all - days;
        if move_by != 0 || date.is_some() {
            move_days(segment, source, move_by);
        }
    }
    inherit_again(segments);
}

/// Whether a segment of times of day holds some whose date a line of the file says.
fn holds_dates(segment: &Segment) -> bool {
    let kinds = || segment.flags.iter().map(|flags| TimeKnown::from_bits(*flags));
    kinds().any(|kind| matches!(kind, TimeKnown::AssumedZone | TimeKnown::ZoneKnown))
}

/// Moves a segment's times of day by whole days. Where the file says a date, they are then known.
fn move_days(segment: &mut Arc<Segment>, source: &Source, days: i64) {
    let mut resolver = Resolver::new(source.zone.clone());
    Arc::make_mut(segment).change_times(|times, flags| {
        let open = |flags: &u8| TimeKnown::from_bits(*flags) == TimeKnown::AssumedDate;
        for (time, flags) in times.iter_mut().zip(flags).filter(|(_, flags)| open(flags)) {
            let civil = time.saturating_add(i64::from(source.zone.offset_at(*time)) * SECOND);
            *time = resolver.resolve(civil.saturating_add(days * DAY), i64::MIN).0;
            if source.header.date.is_some() && !source.newest_first {
                *flags = *flags & !flag::TIME_KNOWN | source.local_known() as u8;
            }
        }
    });
}

/// Gives events that took their time from the event before that event's new time.
fn inherit_again(segments: &mut [Arc<Segment>]) {
    let inherited = |flags: u8| TimeKnown::from_bits(flags) == TimeKnown::Inherited;
    let mut last = NO_TIME;
    for segment in segments {
        // All flags without a branch: nearly every source has none of these.
        let any = segment.flags.iter().fold(false, |any, flags| any | inherited(*flags));
        let mut before = last;
        let stale = any
            && segment.times.iter().zip(segment.flags.iter()).any(|(time, flags)| {
                let stale = inherited(*flags) && before != NO_TIME && *time != before;
                before = if inherited(*flags) { before } else { *time };
                stale
            });
        if stale {
            Arc::make_mut(segment).change_times(|times, flags| {
                for (time, flags) in times.iter_mut().zip(flags) {
                    if inherited(*flags) && last != NO_TIME {
                        *time = last;
                    } else {
                        last = *time;
                    }
                }
            });
        }
        last = segment.times.last().copied().unwrap_or(last);
    }
}

/// Gives undated events at the start of pieces the time before them, and those at the start of the file the first one.
///
/// Where no event has a time, all have that of the file's name, if it says one.
pub(super) fn dates_across(segments: &mut [Arc<Segment>], source: &Source) {
    let first = segments.iter().flat_map(|segment| segment.times.iter()).copied().find(|time| *time != NO_TIME);
    let Some(first) = first.or(source.header.start) else {
        // Nothing in this source has a time.
        for segment in segments.iter_mut().filter(|segment| !segment.is_empty()) {
            Arc::make_mut(segment).change_times(|_, flags| {
                for flags in flags {
                    *flags = *flags & !flag::TIME_KNOWN | TimeKnown::None as u8;
                }
            });
        }
        return;
    };
    let mut last = first;
    for segment in segments.iter_mut().filter(|segment| !segment.is_empty()) {
        if segment.times.contains(&NO_TIME) {
            Arc::make_mut(segment).change_times(|times, _| last = inherit(times, last));
        } else {
            last = segment.times.last().copied().unwrap_or(last);
        }
    }
}

/// A segment as it is when the times of its source that carry no zone are those of the source's zone, not of `old`.
pub(super) fn in_zone(segment: &Segment, old: &Zone, source: &Source) -> Segment {
    let mut moved = segment.clone();
    let mut resolver = Resolver::new(source.zone.clone());
    let known = source.local_known();
    // Offsets change on quarters of an hour: one answer holds for all times in a quarter.
    let (mut quarter, mut offset) = (i64::MIN, 0);
    moved.change_times(|times, flags| {
        let mut previous = i64::MIN;
        let mut next = i64::MAX;
        for (time, flags) in times.iter_mut().zip(flags) {
            let kind = TimeKnown::from_bits(*flags);
            if kind == TimeKnown::Inherited && previous != i64::MIN {
                *time = previous;
            } else if kind.is_local() {
                if time.div_euclid(QUARTER) != quarter {
                    quarter = time.div_euclid(QUARTER);
                    offset = i64::from(old.offset_at(*time)) * SECOND;
                }
                let civil = time.saturating_add(offset);
                let (utc, ambiguous) = if source.newest_first {
                    resolver.resolve_before(civil, next)
                } else {
                    resolver.resolve(civil, previous)
                };
                *time = utc;
                let kind = if matches!(kind, TimeKnown::AssumedZone | TimeKnown::ZoneKnown) { known } else { kind };
                *flags = *flags & !(flag::TIME_KNOWN | flag::AMBIGUOUS) | kind as u8;
                *flags |= if ambiguous { flag::AMBIGUOUS } else { 0 };
            }
            if *time != NO_TIME {
                (previous, next) = (*time, *time);
            }
        }
    });
    moved
}

const QUARTER: i64 = 15 * MINUTE;
