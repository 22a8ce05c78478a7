//! Merging against a plainly right sort, and the order inside sources.

use std::sync::Arc;

use proptest::prelude::*;

use super::density::density;
use super::*;
use crate::event::{Columns, Segment, TableActor};
use crate::work::Work;

/// A table of one host per source with these times.
fn table(sources: &[Vec<i64>], drift: &[i64]) -> Table {
    let mut parts: Vec<Part> = Vec::new();
    let mut first_row = 0;
    for (index, times) in sources.iter().enumerate() {
        let columns = Columns {
            times: times.clone(),
            offsets: (0..times.len() as u32).collect(),
            line_numbers: vec![0; times.len()],
            actor_ids: vec![0; times.len()],
            severities: vec![9; times.len()],
            flags: vec![0; times.len()],
            ..Columns::default()
        };
        let segment = Segment { source: index as u32, ..columns.into() };
        if !times.is_empty() {
            parts.push(Part {
                segment: Arc::new(segment),
                first_row,
                first_line: 0,
                end: 0,
                actor_ids: [index as u32].into(),
            });
            first_row += times.len() as u32;
        }
    }
    let actors: Vec<TableActor> = (0..sources.len() as u32)
        .map(|host| TableActor { host: host + 1, component: 0, pid: None, tid: None })
        .collect();
    let corrections = drift.iter().copied().chain(std::iter::repeat(0)).take(sources.len());
    let mut table = Table {
        parts,
        hosts: Arc::new((0..=sources.len()).map(|host| format!("h{host}")).collect()),
        components: Arc::new(vec![String::new()]),
        actors: Arc::new(actors),
        drift: Arc::new(std::iter::once(0).chain(corrections).map(ClockCorrection::from).collect()),
        logs: Arc::new((0..sources.len() as u32).collect()),
        ..Table::default()
    };
    table.put_in_order();
    table
}

fn times(table: &Table) -> Vec<i64> {
    table.order.iter().map(|row| table.event(Row(*row)).time().unwrap_or(i64::MAX)).collect()
}

#[test]
fn equal_times_keep_the_order_of_sources() {
    let table = table(&[vec![1, 5, 5], vec![5, 6], vec![0, 5]], &[]);
    assert_eq!(*table.order, [5, 0, 1, 2, 3, 6, 4]);
}

#[test]
fn a_late_line_stays_behind_its_predecessor() {
    // 3 is late: it stays behind 10, before 11, and is flagged.
    let table = table(&[vec![1, 10, 3, 11], vec![4, 10, 12]], &[]);
    assert_eq!(*table.order, [0, 4, 1, 2, 5, 3, 6]);
    assert_eq!(*table.disordered, [2]);
}

#[test]
fn one_wild_time_does_not_move_the_rest() {
    let table = table(&[vec![1, 1_000_000, 2, 3, 4], vec![2, 3, 5]], &[]);
    assert_eq!(*table.disordered, [1]);
    assert_eq!(*table.order, [0, 1, 2, 5, 3, 6, 4, 7]);
}

#[test]
fn undated_events() {
    let table = table(&[vec![NO_TIME, 5, NO_TIME, 7], vec![6], vec![NO_TIME, NO_TIME]], &[]);
    assert_eq!(*table.order, [0, 1, 2, 4, 3, 5, 6]);
    assert!(table.disordered.is_empty());
}

#[test]
fn drift_moves_a_host() {
    let shifted = table(&[vec![10, 20], vec![15, 25]], &[0, -10]);
    assert_eq!(times(&shifted), [5, 10, 15, 20]);
    assert_eq!(shifted.span, Some((5, 20)));
}

#[test]
fn places_of_times_and_rows() {
    let table = table(&[vec![10, 20, 20, 30]], &[]);
    assert_eq!([9, 10, 11, 20, 31].map(|time| table.place_of_time(time)), [0, 0, 1, 1, 4]);
    assert!((0..4).all(|row| table.place_of(Row(row)) == row as usize));
}

#[test]
fn hosts_without_a_lane_share_one() {
    let sources: Vec<Vec<i64>> = (0..5).map(|host| vec![0, 10 * host, 99]).collect();
    let mut table = table(&sources, &[]);
    // The fourth host has an error.
    Arc::make_mut(&mut table.parts[3].segment).severities = vec![9, 17, 9].into();
    let all = density(&table, 0, 99, 10, &Work::default()).unwrap();
    let few = all.clone().folded(3);
    assert_eq!((few.hosts.as_slice(), few.others, few.lanes()), (&[1, 4][..], 3, 3));
    assert_eq!((few.lane(0), few.lane(1)), (all.lane(0), all.lane(3)));
    assert_eq!(few.lane(2).iter().map(|cell| cell.count).collect::<Vec<_>>(), [3, 1, 1, 0, 1, 0, 0, 0, 0, 3]);
    assert_eq!(all.clone().folded(5), all);
    assert_eq!(all.clone().folded(0).lanes(), 1);
}

proptest! {
    #[test]
    fn sorted_sources_merge_like_a_stable_sort(
        mut sources in proptest::collection::vec(proptest::collection::vec(0_i64..50, 0..30), 1..20),
        drift in proptest::collection::vec(-20_i64..20, 20),
    ) {
        for times in &mut sources {
            times.sort_unstable();
        }
        let table = table(&sources, &drift);
        let mut expected: Vec<(i64, u32)> = (0..table.len() as u32).map(|row| (table.event(Row(row)).order_time(), row)).collect();
        expected.sort_by_key(|(time, _)| *time);
        prop_assert_eq!(table.order.to_vec(), expected.into_iter().map(|(_, row)| row).collect::<Vec<_>>());
    }

    #[test]
    fn file_order_is_never_changed(sources in proptest::collection::vec(proptest::collection::vec(-9_i64..9, 0..40), 1..5)) {
        let table = table(&sources, &[]);
        prop_assert_eq!(table.order.len(), sources.iter().map(Vec::len).sum::<usize>());
        for source in 0..sources.len() {
            let rows: Vec<u32> = table.order.iter().copied().filter(|row| table.event(Row(*row)).source() == source).collect();
            prop_assert!(rows.is_sorted());
        }
        // Without the flagged events the whole stream is in order of time.
        let agreed: Vec<i64> = table.order.iter().map(|row| table.event(Row(*row))).filter(|event| !event.is_disordered()).map(|event| event.order_time()).collect();
        prop_assert!(agreed.is_sorted());
    }

    #[test]
    fn density_counts_every_dated_event(times in proptest::collection::vec(0_i64..1_000_000, 1..200), slices in 1_usize..40) {
        let mut times = times;
        times.sort_unstable();
        let table = table(&[times.clone()], &[]);
        let (from, to) = table.span.unwrap();
        let counted = density(&table, from, to, slices, &Work::default()).unwrap();
        prop_assert_eq!(counted.cells.iter().map(|cell| cell.count as usize).sum::<usize>(), times.len());
        for time in &times {
            let slice = counted.slice_of(*time);
            prop_assert!(slice < slices && counted.lane(0)[slice].count > 0);
        }
    }
}
