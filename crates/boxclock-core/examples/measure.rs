//! Measures the parts of the budget table on a case: `cargo run --release -p boxclock-core --example measure -- PATH…`.
//!
//! `scripts/bench` runs this beside the general tools that the budgets are ratios of.
#![allow(clippy::print_stdout, reason = "a measuring program prints")]

use std::sync::Arc;
use std::time::Instant;

use boxclock_core::analysis::{CaseView, pass};
use boxclock_core::case::{Case, Loader, Options};
use boxclock_core::clock::{SECOND, Zone};
use boxclock_core::code;
use boxclock_core::pattern::PatternAnalysis;
use boxclock_core::query::{Filter, problem_rows, rows_in_order};
use boxclock_core::timeline::density::density;
use boxclock_core::timeline::drift::ClockAnalysis;
use boxclock_core::timeline::marks::MarkAnalysis;
use boxclock_core::work::Work;

fn row(what: &str, started: Instant, note: &str) {
    println!("{what:<44} {:>9.3} s  {note}", started.elapsed().as_secs_f64());
}

/// Recognition of codes on one core, as a ratio to a plain search for one code in the same bytes in memory.
fn recognition(case: &Case) -> boxclock_core::Result<()> {
    let Some(source) = case.sources.iter().max_by_key(|source| source.len_bytes) else { return Ok(()) };
    let bytes = std::fs::read(&source.path)
        .map_err(|error| boxclock_core::Error::caused("cannot read the largest source", error))?;
    let bytes = &bytes[..bytes.len().min(256 << 20)];
    let started = Instant::now();
    let plain = memchr::memmem::find_iter(bytes, b"0x80070005").count();
    let search = started.elapsed();
    row("plain search for one code, one core", started, &format!("{plain} hits in {} MiB", bytes.len() >> 20));
    let started = Instant::now();
    let mut found = 0_u64;
    for line in bytes.split(|byte| *byte == b'\n') {
        code::scan(line, source.platform, &code::NO_CATALOGUES, |_| found += 1);
    }
    let ratio = started.elapsed().as_secs_f64() / search.as_secs_f64();
    row("recognition of all codes, one core", started, &format!("{found} codes, {ratio:.1} x"));
    Ok(())
}

/// What a screen shows of all events: each answer by itself.
fn answers(view: &CaseView, work: &Work, of: &str) -> boxclock_core::Result<()> {
    let started = Instant::now();
    view.run_together(&[&pass(&PatternAnalysis), &pass(&MarkAnalysis), &pass(&ClockAnalysis)], work)?;
    row(&format!("pieces {of}"), started, "");
    let started = Instant::now();
    let patterns = view.run(&PatternAnalysis, work)?;
    row(&format!("patterns {of}"), started, &format!("{} patterns", patterns.list.len()));
    let started = Instant::now();
    let marks = view.run(&MarkAnalysis, work)?;
    row(&format!("marks {of}"), started, &format!("{} marks", marks.len()));
    let started = Instant::now();
    let clocks = view.run(&ClockAnalysis, work)?;
    row(&format!("clocks {of}"), started, &format!("{} suggestions", clocks.len()));
    Ok(())
}

fn main() -> boxclock_core::Result<()> {
    let paths: Vec<_> = std::env::args_os().skip(1).map(Into::into).collect();
    let work = Work::default();
    let started = Instant::now();
    let case = Case::open(&paths, Options::default(), &work)?;
    row("open: find and recognise the sources", started, &format!("{} sources", case.sources.len()));
    let mut first = true;
    let loaded = Loader::new(&case).run_showing(&work, |loaded| {
        if std::mem::take(&mut first) {
            row("first events of every source", started, &format!("{} events", loaded.table.len()));
        }
    })?;
    row("full index, with views on the way", started, "");
    let started = Instant::now();
    let loaded = {
        drop(loaded);
        case.load(&work)?
    };
    let table = &loaded.table;
    row("full index", started, &format!("{} events", table.len()));
    let per_event = table.memory_bytes() as f64 / table.len() as f64;
    println!("{:<44} {per_event:>9.1} bytes", "memory of the table, an event");

    let (from, to) = table.span.unwrap_or_default();
    let middle = from / 2 + to / 2;
    let zone = Zone::utc();
    let view = CaseView::new(case.clone(), loaded.clone());
    let time = |ns: i64| boxclock_core::clock::to_rfc3339(ns);
    let filter = format!("level>=warn time>={} time<={}", time(middle - 3600 * SECOND), time(middle + 3600 * SECOND));
    for text in [
        filter.as_str(),
        "component=valves level=error",
        "0x80070005",
        "/plan.*refused|opening the plan/",
        "\"no answer\"",
    ] {
        let Ok(filter) = Filter::parse(text, &zone) else { continue };
        let started = Instant::now();
        let found = filter.rows_in_order(&view, &work)?;
        row(&format!("filter {}", text.get(..34).unwrap_or(text)), started, &format!("{} events", found.len()));
    }
    recognition(&case)?;
    let started = Instant::now();
    let problems = rows_in_order(&table.order, &problem_rows(table));
    row("all problems", started, &format!("{} events", problems.len()));
    let started = Instant::now();
    let counted = density(table, from, to, 48, &work);
    row("density for the rail", started, &format!("peak {}", counted.map_or(0, |density| density.peak())));
    let started = Instant::now();
    let host = table.hosts.last().cloned().unwrap_or_default();
    let moved = loaded.with_drift(&case.sources, &[(host, (401 * SECOND).into())].into());
    row("merge again with another clock", started, &format!("{} events", moved.table.len()));
    answers(&view, &work, "as read or kept on disk")?;
    answers(&CaseView::new(case.clone(), moved), &work, "of the corrected clock")?;
    let largest = (0..case.sources.len()).max_by_key(|index| case.sources[*index].len_bytes).unwrap_or(0);
    let mut sources = (*case.sources).clone();
    sources[largest].zone = Zone::parse("Europe/Lisbon")?;
    let started = Instant::now();
    let moved = loaded.with_zones(&case.sources, &sources, &[largest], &std::collections::HashMap::new());
    row("another zone for the largest source", started, &format!("{} events", moved.table.len()));
    let started = Instant::now();
    let mut reader = boxclock_core::event::RecordReader::new(Arc::clone(&case.sources));
    let places = (0..1000).map(|step| table.len() / 1000 * step);
    let bytes: usize = places.filter_map(|place| table.at(place)).map(|event| reader.record(event).body.len()).sum();
    row("1000 records from all over the case", started, &format!("{bytes} bytes"));
    Ok(())
}
