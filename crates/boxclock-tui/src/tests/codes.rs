//! The Codes view, the lookup, families that people choose, and lines that codes lift.

use super::*;
use crate::app::Mode;

const LOG: &str = "\
2026-04-12 02:00:00 INFO [main] bridge - open failed with error 5\n\
2026-04-12 02:00:10 INFO [main] bridge - frame refused 0x80070005\n\
2026-04-12 02:00:20 ERROR [main] bridge - gave up, hr=-2147024891\n\
2026-04-12 02:30:00 INFO [main] setup - finished, exit code 3010\n\
2026-04-12 02:40:00 INFO [main] dosing - fed tank 4\n\
2026-04-12 02:50:00 ERROR [main] feeder - killed by signal 11\n";

fn codes() -> Screen {
    let mut screen = Screen::of(&[("pump-ctl/app.log", LOG), ("dose-gw/bridge.log", GATEWAY)]);
    screen.keys("4");
    screen
}

fn listed(screen: &mut Screen) -> Vec<String> {
    screen
        .app
        .view_of::<CodesView>()
        .codes
        .iter()
        .map(|row| row.code.written(&boxclock_core::code::NO_CATALOGUES))
        .collect()
}

#[test]
fn codes_are_listed_ordered_and_lead_to_their_events() {
    let mut screen = codes();
    assert_eq!(&listed(&mut screen)[..1], ["0x80070005"], "the most frequent failure: {:?}", listed(&mut screen));
    let drawn = screen.draw(160, 50);
    for part in ["worst first", "access denied", "▲", "↻ 3010", "in this case", "up to a minute before it", "wraps"]
    {
        assert!(drawn.contains(part), "lacks {part:?}:\n{drawn}");
    }
    screen.keys("o");
    assert_eq!(listed(&mut screen)[0], "5", "seen first: {:?}", listed(&mut screen));
    screen.keys("oG");
    let last = screen.app.view_of::<CodesView>().codes.last().unwrap();
    assert_eq!(last.code.written(&boxclock_core::code::NO_CATALOGUES), "3010", "no failure comes last");
    screen.keys("g\n");
    assert_eq!((screen.app.cx.at, screen.app.cx.stream.filter_text.as_str()), ("stream", "code=0x80070005"));
    assert_eq!(screen.app.cx.row_count(), 2, "two writings");
    screen.key(KeyCode::Backspace);
    assert_eq!(screen.app.cx.at, "codes");
}

#[test]
fn any_code_is_looked_up_from_anywhere() {
    let mut screen = codes();
    screen.keys("3#-2147024891");
    let drawn = screen.draw(120, 40);
    for part in ["E_ACCESSDENIED", "component result", "In this case: 2 events", "Enter shows them"] {
        assert!(drawn.contains(part), "lacks {part:?}:\n{drawn}");
    }
    screen.keys("\n");
    assert_eq!(screen.app.cx.stream.filter_text, "code=0x80070005");
    screen.keys("F#disk full");
    let drawn = screen.draw(120, 40);
    assert!(
        drawn.contains("ENOSPC") && drawn.contains("ERROR_DISK_FULL") && drawn.contains("Not in this case."),
        "{drawn}"
    );
    screen.keys("\n");
    assert!(
        screen.app.cx.message.as_deref().unwrap().ends_with("does not occur in this case."),
        "{:?}",
        screen.app.cx.message
    );
    screen.key(KeyCode::Esc);
    screen.keys("#zzzz");
    assert!(screen.draw(60, 20).contains("Not a code"), "{}", screen.draw(60, 20));
    screen.key(KeyCode::Esc);
    assert!(matches!(screen.app.mode, Mode::Normal));
}

#[test]
fn the_family_of_a_code_is_chosen_kept_and_taken_back() {
    let mut screen = codes();
    screen.keys("3g");
    let family = |screen: &Screen| screen.app.cx.chosen().unwrap().codes().next().unwrap().family.name();
    let first = family(&screen);
    screen.keys("r");
    let Mode::Menu(menu) = &screen.app.mode else { panic!("no menu") };
    let kerberos = menu.items.iter().position(|(text, _)| text.contains("here") && text.contains("Kerberos")).unwrap();
    assert!(menu.items[0].0.contains("the words and signs around it"), "{}", menu.items[0].0);
    (0..kerberos).for_each(|_| screen.key(KeyCode::Down));
    screen.keys("\n");
    assert_eq!(family(&screen), "kerberos");
    assert!(screen.draw(160, 40).contains("Kerberos error"), "{}", screen.draw(160, 40));
    // It is in the logbook, and the filter knows it.
    let kept = screen.app.cx.logbook.choices().unwrap();
    assert_eq!(kept.values().map(|choice| choice.codes.len()).sum::<usize>(), 1);
    screen.keys("fcode=kerberos:5\n");
    assert_eq!(screen.app.cx.row_count(), 1);
    screen.keys("Fu");
    assert_eq!(family(&screen), first);
    assert!(screen.app.cx.logbook.choices().unwrap().values().all(|choice| choice.codes.is_empty()));
    // From the list of codes it holds wherever the code stands.
    screen.keys("4or");
    assert!(matches!(screen.app.mode, Mode::Menu(_)));
    screen.key(KeyCode::Down);
    screen.keys("\n");
    assert_ne!(
        screen.app.view_of::<CodesView>().codes.iter().find(|row| row.code.number == 5).unwrap().code.family.name(),
        first
    );
}

#[test]
fn lines_that_carry_failures_are_problems_and_say_why() {
    let mut screen = codes();
    screen.keys("3g");
    let problems = screen.app.cx.stream.rows.problems.len();
    assert!(screen.app.cx.chosen().unwrap().is_problem());
    let drawn = screen.draw(160, 40);
    assert!(drawn.contains("counts as a problem"), "{drawn}");
    screen.keys("!");
    assert!(!screen.app.cx.chosen().unwrap().is_problem());
    assert_eq!(screen.app.cx.stream.rows.problems.len(), problems - 2, "two lines were logged as information");
    assert!(screen.app.cx.logbook.choices().unwrap()[""].no_escalation, "kept with the case");
    screen.keys("u");
    assert_eq!(screen.app.cx.stream.rows.problems.len(), problems);
}

#[test]
fn a_case_without_codes_says_so_at_any_size() {
    let mut screen = Screen::of(&[("pump-ctl/app.log", "2026-04-12 02:00:00 INFO [main] dosing - fed\n")]);
    screen.keys("4");
    for (width, height) in [(160, 50), (60, 20)] {
        assert!(screen.draw(width, height).contains("No codes were found in this case. # looks up any code."));
    }
    screen.draw(1, 1);
    screen.keys("ro!");
}
