//! What is known of a case: fault cards, remedies, whether the failure is gone, and the shelf.

use boxclock_core::logbook::{ChainLink, Link};

use super::*;

const NIGHT: &str = "\
2026-04-12T01:00:00Z INFO dosingd: plan nightly loaded\n\
2026-04-12T02:00:00Z WARN fill: volume /srv is filling up quickly now\n\
2026-04-12T02:30:00Z ERROR dosingd: write failed: No space left on device\n\
2026-04-12T02:30:05Z ERROR dosingd: dosing stopped for tank 4\n\
2026-04-12T02:35:05Z ERROR dosingd: dosing stopped for tank 7\n";

fn screen() -> Screen {
    let mut screen = Screen::of(&[("pump-ctl/app.log", NIGHT)]);
    screen.keys("9");
    screen
}

/// Goes to the item whose part of the reading pane shows this text.
fn choose(screen: &mut Screen, text: &str) {
    screen.keys("g");
    for _ in 0..20 {
        let drawn = screen.draw(160, 46);
        if drawn.lines().any(|line| line.rsplit('│').next().is_some_and(|pane| pane.contains(text))) {
            return;
        }
        screen.keys("j");
    }
    panic!("no item shows {text:?}:\n{}", screen.draw(160, 46));
}

/// Makes a chain of lines of the log: from the first as root to the last as symptom.
fn chain(screen: &mut Screen, lines: &[u64]) {
    let source = "hosts/pump-ctl/app.log";
    let cx = &mut screen.app.cx;
    for line in lines {
        let row = cx.view.row_of_line(source, *line).unwrap();
        let offset = cx.event(row).offset();
        cx.logbook.set_pin(source, offset, &format!("line {line}")).unwrap();
    }
    let pins = cx.logbook.pins().unwrap();
    let links: Vec<ChainLink> = pins
        .iter()
        .enumerate()
        .map(|(at, pin)| {
            let kind = match at {
                0 => Link::Root,
                at if at + 1 == pins.len() => Link::Symptom,
                _ => Link::Step,
            };
            ChainLink { pin: pin.id, kind, reason: String::new() }
        })
        .collect();
    cx.logbook.set_chain(&links).unwrap();
    cx.reload_logbook().unwrap();
}

#[test]
fn a_known_fault_stands_at_the_top_and_its_remedies_become_a_checklist() {
    let mut screen = screen();
    let drawn = screen.shows((160, 46), &["This is known: A file system is full (file-system-full)", "known 0.67"]);
    assert!(!drawn.contains("to do"), "{drawn}");
    choose(&mut screen, "signs met");
    screen.shows((160, 46), &["lines that match", "log:3", "what to do", "how to see that it is gone"]);
    screen.keys("r");
    screen.shows((160, 46), &["2 steps added", "□ to do    See which volume it is", "□ to do    Free space"]);
    // Twice adds nothing.
    screen.keys("r");
    assert_eq!(screen.app.cx.remedies.len(), 2);
    choose(&mut screen, "Not done yet");
    screen.keys("j");
    screen.app.cx.settings.author = Some("anna".into());
    screen.key(KeyCode::Enter);
    screen.shows((160, 46), &["■ done     Free space", "by anna, 20"]);
    screen.keys("+restart dosingd\n");
    screen.shows((160, 46), &["□ to do    restart dosingd"]);
    choose(&mut screen, "restart dosingd");
    screen.keys("x");
    assert_eq!(screen.app.cx.remedies.len(), 2);
    screen.keys("uuu");
    assert!(screen.app.cx.remedies.iter().all(|step| step.done.is_none()), "{:?}", screen.app.cx.remedies);
    screen.keys("u");
    assert_eq!(screen.app.cx.logbook.remedies().unwrap().len(), 0);
    // It all works on small screens.
    screen.shows((60, 20), &["This is known: A file system is full"]);
    screen.shows((100, 30), &["This is known: A file system is full (file-system-full)"]);
}

#[test]
fn what_is_known_stands_behind_the_tabs_in_every_view() {
    let mut screen = screen();
    for key in ["1", "2", "3", "4", "0"] {
        screen.keys(key);
        screen.shows((160, 46), &["known: A file system is full"]);
    }
    screen.keys("3");
    assert!(!screen.draw(60, 20).contains("known: "), "there is no room for it");
    screen.shows((160, 46), &["no filter"]);
}

#[test]
fn enter_on_a_card_goes_to_its_first_line() {
    let mut screen = screen();
    choose(&mut screen, "signs met");
    screen.key(KeyCode::Enter);
    assert_eq!(screen.app.cx.at, "stream");
    assert_eq!(screen.app.cx.chosen().unwrap().line(), 3);
}

#[test]
fn a_later_box_says_whether_it_is_gone_and_the_report_has_it() {
    let mut screen = screen();
    chain(&mut screen, &[2, 3, 4]);
    screen.keys("v/no/such/box\n");
    assert!(screen.draw(160, 46).contains("/no/such/box does not exist"));
    screen.key(KeyCode::Esc);
    let later = boxclock_core::testing::case(&[(
        "pump-ctl/app.log",
        "2026-04-12T08:00:00Z INFO dosingd: dosed tank 4\n2026-04-12T09:00:00Z INFO dosingd: dosed tank 7\n",
    )]);
    screen.keys(&format!("v{}\n", later.path().display()));
    screen.shows((160, 46), &["fixed: \"dosing stopped for tank 4\" is gone"]);
    screen.keys("0");
    let report = screen.draw(160, 120);
    for text in ["After the fix", "fixed", "symptom, gone: dosing stopped for tank 4"] {
        assert!(report.contains(text), "lacks {text:?}:\n{report}");
    }
}

#[test]
fn without_a_chain_no_card_is_made() {
    let mut screen = screen();
    screen.keys("mx\n");
    screen.shows((160, 46), &["There is no chain yet"]);
}

/// A screen whose shelf lies in its own folder, read again so that its case is put there.
fn with_shelf(mut screen: Screen) -> Screen {
    screen.app.cx.shelf = Some(screen.folder.path().join("shelf/shelf.db"));
    screen.app.cx.look_for_known();
    screen.settle();
    screen
}

#[test]
fn the_shelf_has_what_was_opened_and_finds_it() {
    let mut screen = with_shelf(screen());
    chain(&mut screen, &[2, 4]);
    screen.app.cx.look_for_known();
    screen.settle();
    screen.keys("B");
    screen.shows(
        (160, 46),
        &["Opened before   1 case", "2026-04-12", "pump-ctl", "line 2  (file-system-full)", "ENOSPC"],
    );
    screen.shows((60, 20), &["Opened before", "line 2"]);
    screen.keys("/enospc nothing\n");
    screen.shows((160, 46), &["\"enospc nothing\"", "No case on the shelf contains"]);
    screen.keys("/");
    for _ in 0.."enospc nothing".len() {
        screen.key(KeyCode::Backspace);
    }
    screen.keys("pump\n");
    screen.shows((160, 46), &["1 of 1 with \"pump\""]);
    screen.keys("x");
    screen.shows((160, 46), &["was taken off the shelf"]);
    screen.keys("u3B");
    screen.keys("/\n");
    assert_eq!(screen.app.items_shown(), 1);
}

#[test]
fn a_fault_met_in_another_case_says_so() {
    let mut screen = with_shelf(screen());
    let shelf = boxclock_core::shelf::Shelf::open(screen.app.cx.shelf.as_ref().unwrap()).unwrap();
    let other = boxclock_core::shelf::ShelfEntry {
        path: "/b/other.box.zip".into(),
        title: "Other".into(),
        cards: vec!["file-system-full".into()],
        ..Default::default()
    };
    shelf.put(&other).unwrap();
    screen.app.cx.look_for_known();
    screen.settle();
    screen.shows((160, 46), &["(file-system-full, seen in 1 other case)"]);
    screen.keys("B/other.box\n");
    screen.key(KeyCode::Enter);
    screen.shows((160, 46), &["/b/other.box.zip is not there any more"]);
}

#[test]
fn an_empty_shelf_says_what_comes_there() {
    let mut screen = screen();
    screen.keys("B");
    screen.shows((100, 30), &["No case has been opened yet."]);
}

#[test]
fn a_knot_has_its_lines_and_is_widened() {
    let mut screen = screen();
    let drawn = screen.shows((160, 46), &["knot 0.", "unusual and bad together: "]);
    assert_eq!(drawn.matches("knot 0.").count(), 1, "{drawn}");
    choose(&mut screen, "its lines");
    screen.shows((160, 60), &["words found here and", "W only those closer"]);
    screen.keys("www");
    screen.shows((160, 60), &["up to 9m apart"]);
    screen.key(KeyCode::Enter);
    assert_eq!(screen.app.cx.at, "stream");
}

#[test]
fn known_faults_and_knots_go_with_the_case_that_they_are_about() {
    let mut screen = screen();
    screen.shows((160, 46), &["This is known", "known 0.67", "knot 0."]);
    let smaller = boxclock_core::testing::case(&[("pump-ctl/app.log", "2026-04-12T01:00:00Z INFO dosingd: loaded\n")]);
    screen.app.cx.replace(smaller.open());
    // Their lines are not those of the case that is being read now.
    let drawn = screen.draw(160, 46);
    assert!(!drawn.contains("This is known") && !drawn.contains("known 0.67") && !drawn.contains("knot 0."), "{drawn}");
    while !screen.app.cx.view.loaded.complete {
        screen.take_one();
    }
    screen.settle();
    let drawn = screen.draw(160, 46);
    assert!(!drawn.contains("This is known") && !drawn.contains("knot 0."), "{drawn}");
}
