//! Clocks that are wrong, and those that are not.

use std::fs;

use super::*;
use crate::case::Options;

fn found(gateway: &str, pump: &str) -> Vec<Suggestion> {
    let root = tempfile::tempdir().unwrap();
    let path = |name: &str| root.path().join(name);
    fs::write(path("gw.log"), gateway).unwrap();
    fs::write(path("pump.log"), pump).unwrap();
    fs::write(path("other.log"), "2026-04-12T02:00:00Z pump started\n").unwrap();
    let hosts = [("dose-gw", "gw.log"), ("pump-ctl", "pump.log"), ("pump-ctl", "other.log")];
    let options =
        Options { hosts: hosts.map(|(label, name)| (label.to_owned(), path(name))).to_vec(), ..Options::default() };
    let case = Case::open(&[], options, &Work::default()).unwrap();
    let loaded = case.load(&Work::default()).unwrap();
    let view = CaseView::new(case, loaded);
    view.run(&ClockAnalysis, &Work::default()).unwrap().to_vec()
}

fn lines(minute: u32, count: u32, text: &dyn Fn(u32) -> String) -> String {
    let line = |at: u32| format!("2026-04-12T02:{:02}:{:02}Z {}\n", minute + at / 60, at % 60, text(at));
    (0..count).map(line).collect::<Vec<_>>().concat()
}

#[test]
fn the_same_identifiers_on_two_hosts() {
    let gateway = lines(6, 12, &|at| format!("bridge: fr-0412-{at:04} refused"));
    let pump = lines(0, 12, &|at| format!("dosing: no answer to fr-0412-{at:04}, again"));
    let found = found(&gateway, &pump);
    assert_eq!(found.len(), 1, "{found:?}");
    let one = &found[0];
    assert_eq!((one.host.as_str(), one.against.as_str(), one.drift_text().as_str()), ("dose-gw", "pump-ctl", "−6m"));
    // That the clocks differ is certain, which of the two is wrong is not.
    assert_eq!((one.ground, one.confidence), (Ground::SameIdentifier, Confidence::Medium));
    assert!(one.reason.contains("it may as well be pump-ctl"), "{}", one.reason);
    assert_eq!(one.evidence[0].shared, "fr-0412-0000");
    assert_eq!((one.evidence[0].here.1, one.evidence[0].there.1), (1, 1));
}

/// Three hosts that log the same numbers; the clock of one is seven minutes fast.
#[test]
fn who_disagrees_with_the_majority_is_suspected() {
    let number = |at: u32| 7_310_000 + at * 13;
    let fast = lines(7, 20, &|at| format!("order {} taken", number(at)));
    let right = lines(0, 20, &|at| format!("booked {} for order {}", at % 5, number(at)));
    let also = lines(0, 20, &|at| format!("order {} is packed", number(at)));
    let more = "2026-04-12T02:00:00Z up\n";
    let case = crate::testing::case(&[
        ("alpha/a.log", &*fast),
        ("alpha/b.log", more),
        ("alpha/c.log", more),
        ("beta/a.log", &*right),
        ("gamma/a.log", &*also),
    ]);
    let found = case.view().run(&ClockAnalysis, &Work::default()).unwrap().to_vec();
    let list: Vec<_> = found.iter().map(|one| (one.host.as_str(), one.drift_text(), one.confidence)).collect();
    assert_eq!(list, [("alpha", "−7m".to_owned(), Confidence::High)], "{found:?}");
    assert!(found[0].evidence[0].shared.starts_with("7310"), "{found:?}");
    // Once it is corrected there is nothing to suggest.
    let met = case.drift("alpha", -7 * 60 * SECOND);
    assert!(met.view().run(&ClockAnalysis, &Work::default()).unwrap().is_empty());
}

#[test]
fn a_relayed_message_counts_more_and_a_few_are_less_sure() {
    let text = |at: u32| format!("valve {at} of 40 opened by hand");
    let found = found(&lines(3, 4, &text), &lines(0, 4, &text));
    assert_eq!((found[0].ground, found[0].confidence), (Ground::SameMessage, Confidence::Low));
    assert_eq!(found[0].add_ns, -180 * SECOND);
}

#[test]
fn clocks_that_agree_and_words_without_moment_suggest_nothing() {
    let text = |at: u32| format!("fr-0412-{at:04} passed");
    assert!(found(&lines(0, 20, &text), &lines(0, 20, &text)).is_empty());
    // The same identifier in every line marks no moment.
    let text = |_: u32| "session s-20260412 is alive".to_owned();
    assert!(found(&lines(5, 40, &text), &lines(0, 40, &text)).is_empty());
    // Offsets that do not agree.
    let scattered = lines(0, 20, &|at| format!("fr-0412-{:04} passed", at * 7 % 20));
    assert!(
        found(&scattered, &lines(0, 20, &|at| format!("fr-0412-{at:04} passed")))
            .iter()
            .all(|one| one.confidence == Confidence::Low)
    );
}
