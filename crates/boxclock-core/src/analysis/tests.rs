use std::collections::HashMap;
use std::sync::atomic::{AtomicUsize, Ordering};

use proptest::prelude::*;

use super::*;
use crate::clock::{ClockCorrection, MINUTE};
use crate::event::RecordReader;
use crate::pattern::PatternAnalysis;
use crate::testing::{case, log};
use crate::timeline::drift::ClockAnalysis;
use crate::timeline::marks::MarkAnalysis;

/// Counts the letters of all records, and how often it looks at one.
#[derive(Default)]
struct Letters {
    looked: AtomicUsize,
    parameter: String,
}

impl Analysis for Letters {
    const NAME: &'static str = "letters";
    const VERSION: u32 = 1;
    type Piece = u64;
    type Found = u64;

    fn see(&self, piece: &mut u64, seen: &Seen<'_>) {
        self.looked.fetch_add(1, Ordering::Relaxed);
        *piece += seen.text.iter().filter(|byte| byte.is_ascii_alphabetic()).count() as u64;
    }

    fn merge(&self, view: &CaseView, pieces: &Pieces<'_, u64>, _: &Work) -> Result<u64> {
        (0..view.loaded.table.parts.len()).map(|part| pieces.of_part(part)).sum()
    }

    fn parameters(&self) -> String {
        self.parameter.clone()
    }
}

/// A log that is large enough to have an index.
fn large() -> String {
    (0..30_000)
        .map(|at| format!("2026-04-12T02:{:02}:{:02}Z app: fed tank {at}, valve open\n", at / 60 % 60, at % 60))
        .collect()
}

#[test]
fn an_answer_is_worked_out_once_and_pieces_outlive_other_clocks() {
    let case = case(&[("gw/a.log", log().info("app", "fed").error("app", "refused").text())]);
    let (view, letters) = (case.view(), Letters::default());
    let first = view.run(&letters, &Work::default()).unwrap();
    view.run(&letters, &Work::default()).unwrap();
    assert_eq!(letters.looked.load(Ordering::Relaxed), 2, "the second run reads nothing");
    let drift = HashMap::from([("gw".to_owned(), ClockCorrection::from(MINUTE))]);
    let moved = CaseView::new(Arc::clone(&view.case), view.loaded.with_drift(&view.case.sources, &drift));
    assert!(moved.known(&letters).is_none(), "the answer may be another one");
    assert_eq!(moved.run(&letters, &Work::default()).unwrap(), first);
    assert_eq!(letters.looked.load(Ordering::Relaxed), 2, "its pieces are the same");
}

#[test]
fn pieces_are_kept_on_disk_until_the_file_changes() {
    let root = case(&[("gw/a.log", large())]);
    let run = |letters: &Letters| *root.view().run(letters, &Work::default()).unwrap();
    let (one, other) = (Letters::default(), Letters::default());
    let first = run(&one);
    assert_eq!(one.looked.load(Ordering::Relaxed), 30_000);
    assert_eq!(run(&other), first);
    assert_eq!(other.looked.load(Ordering::Relaxed), 0, "the pieces lie beside the index");
    let name = root.path().join("hosts/gw/a.log");
    let source = &root.open().sources[0];
    let kept = crate::case::index::pieces_path(source, "letters").unwrap();
    // Damage is noticed, and read anew.
    let mut bytes = std::fs::read(&kept).unwrap();
    let middle = bytes.len() / 2;
    bytes[middle] ^= 1;
    std::fs::write(&kept, bytes).unwrap();
    assert_eq!((run(&one), one.looked.swap(0, Ordering::Relaxed)), (first, 60_000));
    // Parameters make pieces that are not kept.
    let asked = Letters { parameter: "x".into(), ..Letters::default() };
    run(&asked);
    run(&asked);
    assert_eq!(asked.looked.load(Ordering::Relaxed), 60_000);
    // What was appended is read.
    let mut text = large();
    text.push_str("2026-04-12T03:00:00Z app: abc\n");
    std::fs::write(&name, &text).unwrap();
    let letters = text.bytes().filter(u8::is_ascii_alphabetic).count() as u64;
    assert_eq!(run(&other), letters);
}

#[test]
fn what_could_not_be_read_is_not_kept() {
    let root = case(&[("gw/a.log", large())]);
    let (view, name) = (root.view(), root.path().join("hosts/gw/a.log"));
    std::fs::rename(&name, root.path().join("away")).unwrap();
    assert_eq!(*view.run(&Letters::default(), &Work::default()).unwrap(), 0);
    std::fs::rename(root.path().join("away"), &name).unwrap();
    let kept = crate::case::index::pieces_path(&root.open().sources[0], "letters").unwrap();
    assert!(!kept.exists(), "an empty piece would be believed for good");
    let letters = large().bytes().filter(u8::is_ascii_alphabetic).count() as u64;
    assert_eq!(*root.view().run(&Letters::default(), &Work::default()).unwrap(), letters);
    assert!(kept.exists());
}

#[test]
fn cancelled_work_is_cancelled_and_faults_are_faults() {
    let case = case(&[("gw/a.log", log().info("app", "fed").text())]);
    let work = Work::default();
    work.cancel();
    assert!(matches!(case.view().run(&Letters::default(), &work), Err(Error::Cancelled)));
    struct Wrong;
    impl Analysis for Wrong {
        const NAME: &'static str = "wrong";
        const VERSION: u32 = 1;
        const READS: Reads = Reads::Columns;
        type Piece = u8;
        type Found = u8;
        fn merge(&self, _: &CaseView, pieces: &Pieces<'_, u8>, _: &Work) -> Result<u8> {
            pieces.of_part(0)
        }
    }
    assert!(matches!(case.view().run(&Wrong, &Work::default()), Err(Error::Fault(_))));
}

#[test]
fn several_read_the_text_once() {
    let case = case(&[("gw/a.log", log().info("app", "fed").text())]);
    let (view, letters) = (case.view(), Letters::default());
    view.run_together(&[&pass(&letters), &pass(&PatternAnalysis), &pass(&MarkAnalysis)], &Work::default()).unwrap();
    assert_eq!(letters.looked.load(Ordering::Relaxed), 1);
    view.run(&letters, &Work::default()).unwrap();
    view.run(&PatternAnalysis, &Work::default()).unwrap();
    assert_eq!(letters.looked.load(Ordering::Relaxed), 1);
}

#[test]
fn events_have_keys_that_outlive_rows() {
    let two = case(&[("gw/b.log", log().info("app", "fed").info("app", "fed again").text())]);
    let view = two.view();
    let key = view.key(view.loaded.table.event(Row(1)));
    assert_eq!((&*key.source, key.offset), ("hosts/gw/b.log", 35));
    assert_eq!(view.row(&key), Some(Row(1)));
    std::fs::write(two.path().join("hosts/gw/a.log"), log().warn("app", "new").text()).unwrap();
    assert_eq!(two.view().row(&key), Some(Row(2)), "the new source stands in front");
    assert_eq!(two.view().row(&EventKey { offset: 1, ..key }), None);
}

fn trimmed(text: &str) -> String {
    text.trim_end_matches(['\n', '\r', '\0']).to_owned()
}

proptest! {
    #![proptest_config(ProptestConfig::with_cases(48))]
    #[test]
    fn windows_show_each_record_as_the_reader_does(
        lines in proptest::collection::vec(("\\PC{0,90}", any::<bool>()), 1..60),
        wide in any::<bool>(),
    ) {
        let mut text = String::new();
        for (at, (line, starts)) in lines.iter().enumerate() {
            let line = line.replace(['\r', '\n', '\u{feff}'], "");
            text.push_str(&if *starts { format!("2026-04-12T02:00:{:02}Z app: {line}\n", at % 60) } else { format!(" {line}\n") });
        }
        let bytes = if wide {
            [0xFEFF].into_iter().chain(text.encode_utf16()).flat_map(u16::to_le_bytes).collect()
        } else {
            text.into_bytes()
        };
        let root = case(&[("a.log", bytes)]);
        let view = root.view();
        let mut reader = RecordReader::new(Arc::clone(&view.case.sources));
        for at in 0..view.loaded.table.parts.len() {
            let mut seen: Vec<(usize, String)> = Vec::new();
            read::windows(&view, at, &Work::default(), |window| {
                seen.extend(window.events().map(|one| (one.index, trimmed(&String::from_utf8_lossy(one.text)))));
            });
            let part = &view.loaded.table.parts[at];
            let expected: Vec<(usize, String)> = (0..part.segment.len())
                .map(|index| (index, trimmed(&reader.text(view.loaded.table.event(Row(part.first_row + index as u32))).unwrap())))
                .collect();
            prop_assert_eq!(seen, expected);
        }
        // And no analysis minds.
        view.run(&PatternAnalysis, &Work::default()).unwrap();
        view.run(&MarkAnalysis, &Work::default()).unwrap();
        view.run(&ClockAnalysis, &Work::default()).unwrap();
    }
}
