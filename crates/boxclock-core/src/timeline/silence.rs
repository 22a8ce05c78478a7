//! Where a host is silent for much longer than it usually is.

use super::marks::{MarkKind, RailMark};
use crate::clock::MINUTE;
use crate::event::{NO_TIME, Row, Table};
use crate::work::{Work, parallel, workers};

/// A silence lasts this many times as long as the usual pause of its host…
const TIMES_USUAL: i64 = 20;
/// …and at least this long.
const MIN_SILENCE_NS: i64 = 5 * MINUTE;
/// The width of a slice of time that has events or not; spans of many years have wider ones.
const MIN_SLICE_NS: i64 = MINUTE;
/// Slices of a host at most.
const MAX_SLICES: i64 = 1 << 21;
/// Events before a silence that say what is usual: so many at least, and rows that are looked through for them.
const MIN_EVENTS: usize = 50;
const USUAL_EVENTS: usize = 128;
const MAX_ROWS_BACK: usize = 200_000;
/// Hosts that are looked at: of more, those with the most events.
const MAX_HOSTS: usize = 512;
/// Silences that are given.
const MAX_SILENCES: usize = 2000;

/// Whether each host has enough events to have a usual pause, and is among the [`MAX_HOSTS`] with the most.
fn busiest(table: &Table, work: &Work) -> Vec<bool> {
    let group_parts = table.parts.len().div_ceil(workers() * 2).max(1);
    let groups = parallel(table.parts.len().div_ceil(group_parts), work, |group| {
        let mut counts = vec![0_u64; table.hosts.len()];
        for part in table.parts.iter().skip(group * group_parts).take(group_parts) {
            let hosts: Vec<usize> = part.actor_ids.iter().map(|id| table.actors[*id as usize].host as usize).collect();
            part.segment.actor_ids.iter().for_each(|actor| counts[hosts[usize::from(*actor)]] += 1);
        }
        counts
    });
    let mut counts = vec![0_u64; table.hosts.len()];
    for group in groups {
        counts.iter_mut().zip(group).for_each(|(sum, count)| *sum += count);
    }
    let mut enough: Vec<usize> = (0..counts.len()).filter(|host| counts[*host] > MIN_EVENTS as u64).collect();
    enough.sort_by_key(|host| std::cmp::Reverse(counts[*host]));
    let mut busiest = vec![false; counts.len()];
    enough.into_iter().take(MAX_HOSTS).for_each(|host| busiest[host] = true);
    busiest
}

/// Slices of time in which each host has events: a bit each.
struct Slices {
    first: i64,
    width: i64,
    of_host: Vec<Vec<u64>>,
}

impl Slices {
    fn of(table: &Table, work: &Work) -> Option<Self> {
        let (first, last) = table.span?;
        let busiest = busiest(table, work);
        let width = (last.saturating_sub(first) / MAX_SLICES).max(MIN_SLICE_NS);
        let words = (last.saturating_sub(first) / width) as usize / 64 + 1;
        let group_parts = table.parts.len().div_ceil(workers() * 2).max(1);
        let groups = parallel(table.parts.len().div_ceil(group_parts), work, |group| {
            let mut of_host: Vec<Vec<u64>> = vec![Vec::new(); table.hosts.len()];
            for part in table.parts.iter().skip(group * group_parts).take(group_parts) {
                let segment = &part.segment;
                let actors: Vec<_> = part
                    .actor_ids
                    .iter()
                    .map(|id| (table.actors[*id as usize].host as usize, table.drift_of(segment.source, *id)))
                    .collect();
                for (time, actor) in segment.times.iter().zip(segment.actor_ids.iter()) {
                    let (host, drift) = actors[usize::from(*actor)];
                    if *time == NO_TIME || !busiest[host] {
                        continue;
                    }
                    let slice = (drift.correct(*time).saturating_sub(first) / width) as usize;
                    let bits = &mut of_host[host];
                    if bits.is_empty() {
                        bits.resize(words, 0);
                    }
                    if let Some(word) = bits.get_mut(slice / 64) {
                        *word |= 1 << (slice % 64);
                    }
                }
            }
            of_host
        });
        let mut of_host: Vec<Vec<u64>> = vec![Vec::new(); table.hosts.len()];
        for group in groups {
            for (sum, bits) in of_host.iter_mut().zip(group) {
                if sum.is_empty() {
                    *sum = bits;
                } else {
                    sum.iter_mut().zip(bits).for_each(|(sum, bits)| *sum |= bits);
                }
            }
        }
        Some(Self { first, width, of_host })
    }

    /// Where a host has no events for long enough: from the end of the slice of its last events to the start of that of its next.
    fn gaps(&self, host: usize) -> Vec<(i64, i64)> {
        let bits = &self.of_host[host];
        let has = |slice: usize| bits[slice / 64] >> (slice % 64) & 1 == 1;
        // A gap of that length leaves at least so many slices empty.
        let empty = (MIN_SILENCE_NS / self.width - 1).max(1) as usize;
        let mut last: Option<usize> = None;
        let mut gaps = Vec::new();
        for slice in (0..bits.len() * 64).filter(|slice| bits[slice / 64] != 0 && has(*slice)) {
            let start = |slice: usize| self.first.saturating_add((slice as i64).saturating_mul(self.width));
            if let Some(last) = last.replace(slice).filter(|last| slice - last > empty) {
                gaps.push((start(last + 1), start(slice)));
            }
        }
        gaps
    }
}

/// The silences of all hosts; of many the first ones of each.
pub(super) fn silences(table: &Table, work: &Work) -> Vec<RailMark> {
    let Some(slices) = Slices::of(table, work) else { return Vec::new() };
    let mut found = Vec::new();
    for host in (0..table.hosts.len()).filter(|host| !slices.of_host[*host].is_empty()) {
        for gap in slices.gaps(host) {
            if work.is_cancelled() || found.len() >= MAX_SILENCES {
                return found;
            }
            found.extend(silence_at(table, host as u32, gap));
        }
    }
    found
}

/// The silence of a host over a gap between its events, if it is long for that host.
fn silence_at(table: &Table, host: u32, (from, to): (i64, i64)) -> Option<RailMark> {
    let place = table.place_of_time(from);
    let of_host = |row: &u32| {
        let event = table.event(Row(*row));
        (event.actor().host == host).then(|| event.time().map(|time| (time, event.row))).flatten()
    };
    let before: Vec<(i64, Row)> =
        table.order[..place].iter().rev().take(MAX_ROWS_BACK).filter_map(of_host).take(USUAL_EVENTS).collect();
    let next = table.order[table.place_of_time(to)..].iter().find_map(of_host)?.0;
    let (last, row) = *before.first()?;
    if before.len() <= MIN_EVENTS {
        return None;
    }
    let earliest = before.last().map_or(last, |(time, _)| *time);
    let usual = last.saturating_sub(earliest) / (before.len() as i64 - 1).max(1);
    let pause = next.saturating_sub(last);
    let is_long = pause > usual.saturating_mul(TIMES_USUAL).max(MIN_SILENCE_NS);
    is_long.then_some(RailMark { time: last, kind: MarkKind::Silence, row })
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::testing::case;

    /// Events of a host each minute, with an hour without any.
    fn with_a_pause(host: &str) -> String {
        let minutes = (0..200).filter(|minute| !(80..140).contains(minute));
        let line = |at: u32| format!("<6>1 2026-04-12T0{}:{:02}:00Z {host} dosingd 1 - - fed\n", at / 60, at % 60);
        minutes.map(line).collect()
    }

    #[test]
    fn a_host_with_a_usual_pause_is_silent_and_one_with_few_events_is_not() {
        let few: String =
            (0..40).map(|at| format!("<6>1 2026-04-12T00:{at:02}:30Z tank-7 dosingd 1 - - fed\n")).collect();
        let few = few + "<6>1 2026-04-12T03:00:30Z tank-7 dosingd 1 - - fed\n";
        let of_case = case(&[("pump.log", with_a_pause("pump-ctl").as_str()), ("few.log", few.as_str())]);
        let view = of_case.view();
        let found = silences(&view.loaded.table, &Work::default());
        let hosts: Vec<&str> = found.iter().map(|mark| view.loaded.table.event(mark.row).host()).collect();
        assert_eq!(hosts, ["pump-ctl"]);
    }

    #[test]
    fn of_thousands_of_hosts_the_busiest_are_looked_at() {
        let mut lines: String = (0..3000)
            .flat_map(|host| (0..2).map(move |at| (host, at)))
            .map(|(host, at)| format!("<6>1 2026-04-12T0{at}:00:01Z tank-{host} dosingd 1 - - fed\n"))
            .collect();
        lines.push_str(&with_a_pause("pump-ctl"));
        let of_case = case(&[("all.log", lines.as_str())]);
        let view = of_case.view();
        let busiest = busiest(&view.loaded.table, &Work::default());
        assert_eq!(busiest.iter().filter(|watched| **watched).count(), 1);
        assert_eq!(silences(&view.loaded.table, &Work::default()).len(), 1);
    }
}
