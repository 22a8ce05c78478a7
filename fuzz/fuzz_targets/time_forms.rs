//! Any bytes as a time: a reading inside the bytes that is a real moment, or none.
#![no_main]

use boxclock_core::clock::forms::{self, DateOrder, Evidence};
use boxclock_core::clock::{Zone, human, scan};
use libfuzzer_sys::fuzz_target;

fuzz_target!(|data: &[u8]| {
    let orders = [DateOrder::DayFirst, DateOrder::MonthFirst, DateOrder::YearFirst];
    let dated = orders.map(|order| forms::dated(data, order));
    for (civil, end) in dated.into_iter().flatten().chain(scan::iso(data)).chain(scan::bsd(data)).chain(forms::epoch(data)) {
        assert!(end <= data.len() && civil.is_valid());
        civil.stamp();
    }
    if let Some((civil, end)) = forms::time_of_day(data) {
        assert!(end <= data.len());
        civil.stamp();
    }
    scan::epoch(data);
    let mut evidence = Evidence::default();
    for line in data.split(|byte| *byte == b'\n') {
        evidence.take(line);
    }
    evidence.order();
    if let Ok(text) = std::str::from_utf8(data) {
        let _ = human::time(text, &Zone::utc());
        if let Ok(drift) = human::drift(text) {
            drift.correct(0);
            drift.correct(i64::MAX);
        }
        let _ = Zone::parse(text);
    }
});
