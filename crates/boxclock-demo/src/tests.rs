//! The demo story is told by its logs, and equal seeds give equal bytes.

use std::collections::BTreeSet;
use std::fs;
use std::path::{Path, PathBuf};

use boxclock_core::analysis::CaseView;
use boxclock_core::case::{Case, Options};
use boxclock_core::clock::Zone;
use boxclock_core::query::{Filter, rows_in_order};
use boxclock_core::work::Work;

use super::*;

fn files(folder: &Path) -> Vec<(PathBuf, Vec<u8>)> {
    let mut found = Vec::new();
    for entry in fs::read_dir(folder).unwrap() {
        let path = entry.unwrap().path();
        if path.is_dir() {
            found.extend(files(&path));
        } else {
            found.push((path.strip_prefix(folder).unwrap().to_path_buf(), fs::read(&path).unwrap()));
        }
    }
    found.sort();
    found
}

fn open(folder: &Path) -> (Case, boxclock_core::case::Loaded) {
    let labels = ["pump-ctl", "keeper-desk", "dose-gw"];
    let options = Options {
        zone: Some(Zone::parse("+02:00").unwrap()),
        hosts: labels.iter().map(|label| ((*label).to_owned(), folder.join(label))).collect(),
        ..Options::default()
    };
    let case = Case::open(&[], options, &Work::default()).unwrap();
    let loaded = case.load(&Work::default()).unwrap();
    (case, loaded)
}

/// The first event that passes a filter: its corrected time.
fn first(case: &Case, loaded: &boxclock_core::case::Loaded, filter: &str) -> i64 {
    let rows = Filter::parse(filter, &case.zone)
        .unwrap()
        .rows(&CaseView::new(case.clone(), loaded.clone()), &Work::default())
        .unwrap();
    let order = rows_in_order(&loaded.table.order, &rows);
    loaded.table.event(boxclock_core::event::Row(order[0])).time().unwrap()
}

#[test]
fn the_demo_case_tells_the_story() {
    let folder = tempfile::tempdir().unwrap();
    write_demo(folder.path()).unwrap();
    let (case, loaded) = open(folder.path());
    let formats: BTreeSet<&str> = case.sources.iter().map(|source| source.reader.name()).collect();
    assert_eq!(
        formats.into_iter().collect::<Vec<_>>(),
        [
            "counters-csv",
            "dpkg",
            "elf-core",
            "evtx",
            "iso-text",
            "journal-export",
            "json-lines",
            "kernel-dump-64",
            "minidump",
            "msi-log",
            "plain",
            "rfc3164",
            "rfc5424"
        ]
    );
    assert!(case.sources.len() >= 8 && case.left_out.iter().all(|left| left.path.contains("twbridge.sys")));
    assert!((35_000..45_000).contains(&loaded.table.len()), "{}", loaded.table.len());
    assert!(loaded.reports.iter().all(|report| report.trouble.is_empty()));
    // With the gateway's clock as it is, the service fails before the gateway refuses anything.
    let failed = "component=dosingd level=fatal assertion";
    assert!(first(&case, &loaded, failed) < first(&case, &loaded, "host=dose-gw refused"));
    let corrected = loaded.with_drift(
        &case.sources,
        &[("dose-gw".to_owned(), boxclock_core::clock::ClockCorrection::from(-401_000_000_000))].into(),
    );
    let order = [
        "console-setup 3010 or \"exit code 3010\" source~Temp",
        "\"frame format 2 chosen\"",
        "host=dose-gw refused",
        failed,
        "format=minidump",
    ];
    let times: Vec<i64> = order.iter().map(|filter| first(&case, &corrected, filter)).collect();
    assert!(times.is_sorted(), "{times:?}");
}

/// How many events pass a filter.
fn count(case: &Case, loaded: &boxclock_core::case::Loaded, filter: &str) -> usize {
    let filter = Filter::parse(filter, &case.zone).unwrap();
    filter.rows(&CaseView::new(case.clone(), loaded.clone()), &Work::default()).unwrap().count()
}

#[test]
fn in_the_night_before_all_goes_well() {
    let (night, folder) = (tempfile::tempdir().unwrap(), tempfile::tempdir().unwrap());
    write_demo(night.path()).unwrap();
    write_tale(Tale::NightBefore, folder.path()).unwrap();
    let (case, loaded) = open(folder.path());
    // Each dose of the plan is given, and the gateway takes each of its frames; nothing is refused.
    assert_eq!(count(&case, &loaded, "host=pump-ctl \"dose given\""), 36);
    assert_eq!(count(&case, &loaded, "host=dose-gw accepted"), 36);
    assert_eq!(count(&case, &loaded, "refused or failed or level>=error"), 0);
    assert_eq!(count(&case, &loaded, "level>=warn"), 4, "the slow sensor, as on other evenings");
    assert!(first(&case, &loaded, "\"plan nightly sent\"") < first(&case, &loaded, "\"plan nightly: 3 tanks\""));
    // It is over before the other begins, and its logs are some of the same ones.
    let (_, other_loaded) = open(night.path());
    let (ends, begins) = (loaded.table.span.unwrap().1, other_loaded.table.span.unwrap().0);
    assert!(ends < begins, "{ends} {begins}");
    let names = |folder: &Path| files(folder).into_iter().map(|(path, _)| path).collect::<BTreeSet<_>>();
    assert!(names(folder.path()).is_subset(&names(night.path())), "{:?}", names(folder.path()));
}

#[test]
fn equal_seeds_give_equal_bytes() {
    let (one, other) = (tempfile::tempdir().unwrap(), tempfile::tempdir().unwrap());
    write_demo(one.path()).unwrap();
    write_demo(other.path()).unwrap();
    assert!(files(one.path()) == files(other.path()));
    let (one, other) = (tempfile::tempdir().unwrap(), tempfile::tempdir().unwrap());
    write_tale(Tale::NightBefore, one.path()).unwrap();
    write_tale(Tale::NightBefore, other.path()).unwrap();
    assert!(files(one.path()) == files(other.path()));
    let (one, other, third) =
        (tempfile::tempdir().unwrap(), tempfile::tempdir().unwrap(), tempfile::tempdir().unwrap());
    write_large(one.path(), 200_000, 7, Mix::Tanks).unwrap();
    write_large(other.path(), 200_000, 7, Mix::Tanks).unwrap();
    write_large(third.path(), 200_000, 8, Mix::Tanks).unwrap();
    assert!(files(one.path()) == files(other.path()));
    assert!(files(one.path()) != files(third.path()));
}

#[test]
fn the_truth_file_is_true() {
    for mix in [Mix::Tanks, Mix::Services] {
        check_truth(mix);
    }
}

fn check_truth(mix: Mix) {
    let folder = tempfile::tempdir().unwrap();
    let written = write_large(folder.path(), 3_000_000, 3, mix).unwrap();
    let case = Case::open(&[folder.path().to_path_buf()], Options::default(), &Work::default()).unwrap();
    let loaded = case.load(&Work::default()).unwrap();
    assert_eq!(loaded.table.len() as u64, written.events);
    let truth: serde_json::Value =
        serde_json::from_slice(&fs::read(folder.path().join("truth.json")).unwrap()).unwrap();
    for file in truth["files"].as_array().unwrap() {
        let name = file["source"].as_str().unwrap();
        let index = case.sources.iter().position(|source| source.name == name).unwrap();
        assert_eq!(case.sources[index].reader.name(), file["format"], "{name}");
        assert_eq!(loaded.reports[index].events, file["events"], "{name}");
        assert_eq!(loaded.reports[index].lines, file["lines"], "{name}");
        for level in ["debug", "info", "warn", "error"] {
            let filter = Filter::parse(&format!("source=\"{name}\" level={level}"), &case.zone).unwrap();
            let rows = filter.rows(&CaseView::new(case.clone(), loaded.clone()), &Work::default()).unwrap();
            assert_eq!(rows.count() as u64, file[level], "{name} {level}");
        }
        let denied = Filter::parse(&format!("source=\"{name}\" code=0x80070005"), &case.zone).unwrap();
        let rows = denied.rows(&CaseView::new(case.clone(), loaded.clone()), &Work::default()).unwrap();
        assert_eq!(rows.count() as u64, file["code_0x80070005"], "{name}");
    }
}
