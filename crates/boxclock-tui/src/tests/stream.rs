//! Working in the Stream: what its keys do, seen on the screen.

use boxclock_core::case::Loaded;

use super::*;
use crate::app::Mode;
use crate::pane_state::DetailMode;

/// Ninety quiet lines with refusals among them, a stack trace, and a second host.
fn night() -> Screen {
    let mut app = String::new();
    for at in 0..60 {
        let (minute, second) = (at / 60 + 10, at % 60);
        match at {
            20..=29 => app.push_str(&format!(
                "2026-04-12 02:{minute}:{second:02} WARN [link] dosing - frame fr-0412-{at:04} refused, retry {}\n",
                at - 19
            )),
            40 => app.push_str(
                "2026-04-12 02:10:40 ERROR [main] valves - refused 0x80070005\n  at Valve.Open()\n  at Plan.Run()\n",
            ),
            _ => app.push_str(&format!("2026-04-12 02:{minute}:{second:02} INFO [main] dosing - heartbeat {at}\n")),
        }
    }
    Screen::of(&[("pump-ctl/app.log", &app), ("dose-gw/bridge.log", GATEWAY)])
}

/// Chooses an item of the menu that is open.
fn choose(screen: &mut Screen, wanted: &str) {
    let Mode::Menu(menu) = &mut screen.app.mode else { panic!("no menu is open") };
    let at = menu.items.iter().position(|(text, _)| text.contains(wanted));
    menu.chosen = at.unwrap_or_else(|| {
        panic!("no {wanted:?} in {:?}", menu.items.iter().map(|(text, _)| text).collect::<Vec<_>>())
    });
    screen.keys("\n");
}

#[test]
fn runs_are_folded_and_opened() {
    let mut screen = night();
    screen.keys("gc");
    let drawn = screen.draw(160, 30);
    assert!(drawn.contains("× 10 in 9s  frame fr-0412-0020 refused, retry 1"), "{drawn}");
    assert!(drawn.contains("× 20 in 19s  heartbeat 0"), "{drawn}");
    assert_eq!(screen.app.cx.row_count(), 7, "three runs of heartbeats, the refusals, the error, the gateway's two");
    // A place inside of a run opens the runs.
    let row = screen.app.cx.view.loaded.table.order[25];
    screen.app.cx.jump_to_row(boxclock_core::event::Row(row));
    screen.settle();
    assert!(screen.chosen().contains("fr-0412-0025"), "{}", screen.chosen());
}

#[test]
fn the_worst_come_first() {
    let mut screen = night();
    screen.keys("o");
    assert_eq!(screen.chosen(), "refused 0x80070005");
    screen.keys("jj");
    assert!(screen.chosen().contains("retry 1"), "{}", screen.chosen());
    screen.keys("o");
    assert!(screen.chosen().contains("retry 1"), "the same event stays chosen: {}", screen.chosen());
}

#[test]
fn a_walk_goes_along_what_was_chosen() {
    let mut screen = night();
    screen.keys("g");
    screen.keys(&"j".repeat(20));
    screen.keys("w");
    choose(&mut screen, "pattern frame # refused");
    assert!(screen.chosen().ends_with("retry 2"), "{}", screen.chosen());
    assert_eq!(screen.app.cx.message.as_deref(), Some("this pattern: 2 of 10"));
    screen.keys(";5}");
    assert!(screen.chosen().ends_with("retry 7"), "{}", screen.chosen());
    screen.keys("}}}}");
    assert_eq!(screen.app.cx.message.as_deref(), Some("this pattern: none below"));
    screen.keys("{");
    assert!(screen.chosen().ends_with("retry 9"), "{}", screen.chosen());
    screen.keys("w");
    choose(&mut screen, "error or worse");
    assert_eq!(screen.chosen(), "refused 0x80070005");
}

#[test]
fn counts_and_jumps_both_ways() {
    let mut screen = night();
    screen.keys("g;12j");
    assert_eq!(screen.chosen(), "heartbeat 12");
    screen.keys(";41g");
    assert_eq!(screen.chosen(), "refused 0x80070005");
    screen.key(KeyCode::Backspace);
    assert_eq!(screen.chosen(), "heartbeat 12");
    screen.keys("'");
    assert_eq!(screen.chosen(), "refused 0x80070005");
}

#[test]
fn an_ink_is_seen_walked_kept_and_undone() {
    let mut screen = night();
    screen.keys("g");
    screen.keys("mretry\n");
    screen.keys("m=level>=error\n");
    let drawn = screen.draw(160, 50);
    assert!(drawn.contains("¹02:10:20") && drawn.contains("²02:10:40"), "numbers in the margin:\n{drawn}");
    screen.keys("M");
    choose(&mut screen, "walk along =level>=error");
    assert_eq!(screen.chosen(), "refused 0x80070005");
    assert_eq!(screen.app.cx.logbook.inks().unwrap().len(), 2);
    screen.keys("M");
    choose(&mut screen, "remove retry");
    assert_eq!(screen.app.cx.logbook.inks().unwrap(), [(1, "=level>=error".to_owned())]);
    screen.keys("u");
    assert_eq!(screen.app.cx.logbook.inks().unwrap().len(), 2);
    // A wrong one stays on the line, with what is wrong.
    screen.keys("m/(/\n");
    assert!(matches!(screen.app.mode, Mode::Typing(..)) && screen.app.cx.message.is_some());
}

#[test]
fn filters_by_pointing_and_back() {
    let mut screen = night();
    screen.keys("g;41g");
    screen.keys("v");
    choose(&mut screen, "only     component=valves");
    assert_eq!((screen.app.cx.row_count(), screen.app.cx.stream.filter_text.as_str()), (1, "component=valves"));
    screen.keys("v");
    choose(&mut screen, "without  level=error");
    assert_eq!(screen.app.cx.row_count(), 0);
    let drawn = screen.draw(160, 30);
    assert!(drawn.contains("No event passes the filter") && drawn.contains("< goes back"), "{drawn}");
    screen.keys("<");
    assert_eq!(screen.app.cx.stream.filter_text, "component=valves");
    screen.keys(">");
    assert_eq!(screen.app.cx.stream.filter_text, "component=valves not level=error");
    screen.keys("X");
    choose(&mut screen, "remove  component=valves");
    assert_eq!(screen.app.cx.stream.filter_text, "not level=error");
    assert_eq!(screen.app.cx.row_count(), 60);
    screen.keys("Fv");
    choose(&mut screen, "everything within 5 minutes");
    assert!(
        screen.app.cx.stream.filter_text.starts_with("time within 5m of 2026-04-12T"),
        "{}",
        screen.app.cx.stream.filter_text
    );
}

#[test]
fn the_filter_is_completed() {
    let mut screen = night();
    screen.keys("fcomp");
    assert!(screen.draw(120, 30).contains("a program, logger or module"));
    screen.key(KeyCode::Tab);
    let drawn = screen.draw(120, 30);
    assert!(drawn.contains("component=dosing") && drawn.contains("59 events"), "{drawn}");
    screen.key(KeyCode::Down);
    screen.key(KeyCode::Down);
    screen.keys("\n");
    screen.keys("\n");
    assert_eq!(screen.app.cx.stream.filter_text, "component=bridge");
    assert_eq!(screen.app.cx.row_count(), 2);
}

#[test]
fn lenses_are_kept_with_the_case() {
    let mut screen = night();
    screen.keys("flevel>=warn\nEbad night\n");
    screen.keys("F");
    assert_eq!(screen.app.cx.row_count(), 62);
    screen.keys("e");
    choose(&mut screen, "bad night");
    assert_eq!(screen.app.cx.stream.filter_text, "level>=warn");
    screen.keys("e");
    choose(&mut screen, "forget bad night");
    assert!(screen.app.cx.logbook.lenses().unwrap().is_empty());
    screen.keys("u");
    assert_eq!(screen.app.cx.logbook.lenses().unwrap().len(), 1);
}

#[test]
fn records_are_unfolded_and_lines_wrapped() {
    let mut screen = night();
    screen.keys("g;41g");
    assert!(screen.draw(160, 40).contains("⏎ 2 more lines"));
    screen.keys("z");
    let drawn = screen.draw(160, 40);
    assert!(drawn.contains("  at Plan.Run()") && !drawn.contains("⏎ 2 more lines"), "{drawn}");
    // The chosen one is in sight however many rows the others take.
    screen.keys("zZa");
    for place in [0, 30, 61] {
        screen.keys("g");
        screen.keys(&format!(";{}g", place + 1));
        let text = screen.chosen();
        assert!(screen.draw(60, 12).contains(text.split(' ').next().unwrap()), "{place}: {text}");
        assert!(screen.app.cx.stream.lines.iter().any(|line| line.place == place), "{place}");
    }
}

#[test]
fn times_count_from_a_moment_and_columns_are_chosen() {
    let mut screen = night();
    screen.keys("g;41gTkk");
    assert!(screen.draw(160, 30).contains("−00:02.000"), "{}", screen.draw(160, 30));
    screen.keys("TC");
    let Mode::Typing(typing) = &mut screen.app.mode else { panic!("nothing is asked") };
    typing.input = tui_input::Input::new("time line:4 source:8".into());
    screen.keys("\n");
    let drawn = screen.draw(160, 30);
    assert!(drawn.contains("02:10:38.000 39   app.log  heartbeat 38"), "{drawn}");
    screen.keys("D");
    let Mode::Typing(typing) = &mut screen.app.mode else { panic!("nothing is asked") };
    typing.input = tui_input::Input::new("UTC".into());
    screen.keys("\n");
    assert!(screen.draw(160, 30).contains("00:10:38.000 39   app.log"));
}

#[test]
fn its_own_file_unmerged_and_back() {
    let mut screen = night();
    screen.keys("g;41g,");
    assert_eq!(screen.app.cx.row_count(), 60);
    assert_eq!(screen.chosen(), "refused 0x80070005");
    screen.keys(",");
    assert_eq!(screen.app.cx.row_count(), 62);
    assert_eq!(screen.chosen(), "refused 0x80070005");
}

#[test]
fn the_reading_pane_leads_on() {
    let mut screen = night();
    screen.keys("g;26g");
    let drawn = screen.draw(160, 46);
    for part in [" pattern", "frame # refused, retry #", "10 events", "first with this pattern"] {
        assert!(drawn.contains(part), "lacks {part:?}:\n{drawn}");
    }
    let first = screen.app.cx.pane.links.iter().position(|link| link.label.starts_with("first with")).unwrap();
    for _ in 0..=first {
        screen.key(KeyCode::Tab);
    }
    assert!(screen.draw(160, 46).contains("▸ first with this pattern"));
    screen.keys("\n");
    assert!(screen.chosen().ends_with("retry 1"), "{}", screen.chosen());
    // Words, then its bytes, then words again.
    screen.keys("x");
    assert_eq!(screen.app.cx.pane.mode, DetailMode::Raw);
    screen.shows((220, 46), &["32 30 32 36 2d 30 34"]);
    screen.keys("x");
    assert_eq!(screen.app.cx.pane.mode, DetailMode::Words);
    // It scrolls where it is longer than the screen.
    let before = screen.draw(160, 14);
    assert!(before.contains("more lines: J"), "{before}");
    screen.keys("JJJ");
    assert_ne!(before, screen.draw(160, 14));
}

#[test]
fn a_selection_is_copied_and_written() {
    let mut screen = night();
    let path = screen.folder.path().join("out.csv");
    screen.keys("g;21gs;9j");
    assert!(screen.draw(120, 30).contains("10 selected"));
    screen.keys("y");
    let copied = screen.app.cx.clipboard.take().unwrap();
    assert_eq!(copied.lines().count(), 11, "ten lines behind their source:\n{copied}");
    assert!(copied.lines().next().unwrap().ends_with("app.log:21"));
    screen.keys("W");
    let Mode::Typing(typing) = &mut screen.app.mode else { panic!("nothing is asked") };
    typing.input = tui_input::Input::new(path.display().to_string());
    screen.keys("\n");
    assert_eq!(std::fs::read_to_string(&path).unwrap().lines().count(), 11);
    // It is not written over, and a name without form is not guessed.
    screen.keys("W");
    let Mode::Typing(typing) = &mut screen.app.mode else { panic!("nothing is asked") };
    typing.input = tui_input::Input::new(path.display().to_string());
    screen.keys("\n");
    assert!(screen.app.cx.message.as_deref().unwrap().contains("exists"), "{:?}", screen.app.cx.message);
}

#[test]
fn what_is_written_holds_the_events_of_folded_runs() {
    let mut screen = night();
    screen.keys("f\"heartbeat\"\nc");
    let folded = screen.app.cx.row_count();
    let all = screen.app.cx.stream.rows.passed.as_ref().unwrap().len();
    assert!(folded < 10 && all == 49, "{folded} of {all}");
    let mut write = |keys: &str, name: &str| {
        let path = screen.folder.path().join(name);
        screen.keys(keys);
        let Mode::Typing(typing) = &mut screen.app.mode else { panic!("nothing is asked") };
        typing.input = tui_input::Input::new(path.display().to_string());
        screen.keys("\n");
        std::fs::read_to_string(path).unwrap().lines().count()
    };
    assert_eq!(write("W", "all.jsonl"), 49, "all that the filter lets pass");
    let first = write("gsW", "first.jsonl");
    assert!(first > 1, "a selected run is written with all of its events, not as one: {first}");
}

#[test]
fn folded_runs_stay_folded_while_the_case_grows() {
    let mut screen = night();
    let log = screen.folder.path().join("hosts/pump-ctl/app.log");
    screen.keys("c");
    screen.app.cx.follow(false);
    let lines = screen.app.cx.row_count();
    let mut file = std::fs::File::options().append(true).open(&log).unwrap();
    std::io::Write::write_all(&mut file, b"2026-04-12 03:00:00 INFO [main] dosing - one more\n").unwrap();
    while screen.app.cx.view.loaded.table.len() != 63 {
        screen.take_one();
        assert!(screen.app.cx.row_count() <= lines + 1, "it was unfolded for a moment");
    }
    screen.settle();
    assert_eq!(screen.app.cx.row_count(), lines + 1);
}

#[test]
fn the_rail_shows_hits_inks_and_sources() {
    let mut screen = night();
    screen.keys("gmretry\n");
    screen.keys("f\"heartbeat\"\n");
    let overlay = screen.app.cx.rail.overlay.as_ref().map(|(_, overlay)| overlay).unwrap();
    assert_eq!(overlay.filter.as_ref().unwrap().iter().sum::<u32>(), 49);
    assert!(overlay.inks.contains(&Some(0)));
    let drawn = screen.draw(160, 40);
    assert!(drawn.contains('▁') || drawn.contains('█'), "{drawn}");
    screen.keys("FgR");
    assert!(screen.app.cx.rail.density.as_ref().unwrap().of_sources);
    assert!(screen.draw(160, 40).contains("pump-c 1 "), "{}", screen.draw(160, 40));
    screen.keys("++");
    let before = screen.app.cx.rail.window.unwrap();
    screen.keys(")");
    assert!(screen.app.cx.rail.window.unwrap().0 > before.0);
}

#[test]
fn more_sources_than_lanes_share_one() {
    let files: Vec<(String, String)> = (1..=10)
        .map(|number| {
            let level = if number == 9 { "ERROR" } else { "INFO" };
            let text = format!("2026-04-12 02:{number:02}:00 {level} [main] valves - valve {number} answers\n");
            (format!("pump-ctl/valve-{number:02}.log"), text)
        })
        .collect();
    let files: Vec<(&str, &str)> = files.iter().map(|(name, text)| (name.as_str(), text.as_str())).collect();
    let mut screen = Screen::of(&files);
    screen.keys("gR");
    // Seven with lanes of their own, the one with the error among them; three more in the last.
    let drawn = screen.draw(160, 40);
    assert!(drawn.contains("pump-c 1234569+3"), "{drawn}");
    assert_eq!(screen.app.cx.rail.density.as_ref().unwrap().lane(7).iter().map(|cell| cell.count).sum::<u32>(), 3);
}

#[test]
fn pins_have_kinds_and_colours() {
    let mut screen = night();
    screen.keys("g;41gpthe refusal\n");
    screen.keys("9t");
    let drawn = screen.draw(160, 30);
    assert!(drawn.contains("◂symptom"), "{drawn}");
    screen.keys("C");
    assert_eq!(screen.app.cx.pins[0].colour, Some(0));
    screen.keys("uu");
    assert_eq!((screen.app.cx.pins[0].kind.name(), screen.app.cx.pins[0].colour), ("evidence", None));
}

#[test]
fn what_grows_is_followed_and_held() {
    let mut screen = night();
    let log = screen.folder.path().join("hosts/pump-ctl/app.log");
    screen.app.cx.follow(false);
    screen.keys("G");
    let append = |text: &str| {
        let mut file = std::fs::File::options().append(true).create(true).open(&log).unwrap();
        std::io::Write::write_all(&mut file, text.as_bytes()).unwrap();
    };
    let wait = |screen: &mut Screen, done: &dyn Fn(&Loaded) -> bool| {
        while !done(&screen.app.cx.view.loaded) {
            screen.take_one();
        }
        screen.settle();
    };
    append("2026-04-12 03:00:00 INFO [main] dosing - one more\n");
    wait(&mut screen, &|loaded| loaded.table.len() == 63);
    assert_eq!(screen.chosen(), "one more", "who stands at the end stays there");
    screen.keys("g");
    append("2026-04-12 03:00:01 INFO [main] dosing - and more\n");
    wait(&mut screen, &|loaded| loaded.table.len() == 64);
    assert_eq!(screen.chosen(), "heartbeat 0", "all others stay where they are");
    // A clock that was corrected stays so.
    screen.keys("d");
    screen.keys("+1h\n");
    append("2026-04-12 03:00:01 INFO [main] dosing - later\n");
    wait(&mut screen, &|loaded| loaded.table.len() == 65);
    assert_eq!(screen.app.cx.view.loaded.drift_of_host("pump-ctl").add_ns, 3_600_000_000_000);
    // Held: it is counted, and comes when it is let through.
    screen.keys("H");
    append("2026-04-12 03:00:02 INFO [main] dosing - held back\n");
    while screen.app.cx.follow.as_ref().unwrap().behind.bytes == 0 {
        screen.take_one();
    }
    assert!(screen.draw(160, 30).contains("held, 1 line, 51 B behind"), "{}", screen.draw(160, 30));
    assert_eq!(screen.app.cx.view.loaded.table.len(), 65);
    screen.keys("H");
    wait(&mut screen, &|loaded| loaded.table.len() == 66);
    // Rotation: the file is renamed, a new one begins.
    std::fs::rename(&log, log.with_extension("log.1")).unwrap();
    append("2026-04-12 03:00:03 INFO [main] dosing - after rotation\n");
    wait(&mut screen, &|loaded| loaded.table.len() == 67);
    // Truncation in place.
    std::fs::write(&log, "").unwrap();
    append("2026-04-12 03:00:04 INFO [main] dosing - emptied before\n");
    wait(&mut screen, &|loaded| {
        let last = loaded.table.order.last().map(|row| loaded.table.event(boxclock_core::event::Row(*row)).raw_time());
        last.flatten().is_some_and(|time| time % 60_000_000_000 == 4_000_000_000)
    });
}

#[test]
fn odd_text_disturbs_nothing() {
    let long = "x".repeat(1_200_000);
    let text = format!(
        "2026-04-12T02:00:00Z tab\there\u{1b}[31mred\u{7} nul\u{0} end\n\
         2026-04-12T02:00:01Z שלום e\u{301}\u{200b} 日本語 👩‍🚒 done\n2026-04-12T02:00:02Z {long}\n"
    );
    let mut screen = Screen::of(&[("gw/odd.log", &text)]);
    for keys in ["", "a", "Z", "c", "m/o/\n", "x", "x"] {
        screen.keys(keys);
        for (width, height) in [(1, 1), (20, 5), (60, 20), (160, 50)] {
            let drawn = screen.draw(width, height);
            assert!(!drawn.contains(['\u{1b}', '\u{7}', '\u{0}', '\t']), "{width}x{height} after {keys:?}");
        }
    }
    screen.keys("ag");
    assert!(screen.draw(160, 50).contains("日 本 語"), "{}", screen.draw(160, 50));
}

/// The pane leads from a list of what went wrong to the events that it tells of, and back.
#[test]
fn a_list_of_what_went_wrong_leads_to_its_events() {
    let log = "2026-04-12 02:10:00 ERROR batch - frame fr-7 refused by gateway\n\
        2026-04-12 02:20:00 INFO batch - fine\n\
        2026-04-12 02:30:00 ERROR batch - 1 frame failed:\n  - frame fr-7 refused by gateway\n";
    let mut screen = Screen::of(&[("a/app.log", log)]);
    screen.keys("g");
    assert!(screen.draw(160, 46).contains("told of again under"), "{}", screen.draw(160, 46));
    screen.keys("G");
    let drawn = screen.draw(160, 46);
    assert!(drawn.contains("tells of"), "{drawn}");
}

/// The pane says what the values of such messages usually are, and which of the chosen one are not.
#[test]
fn the_pane_says_what_is_unusual() {
    let log: String = (0..60)
        .map(|at| {
            format!("2026-04-12 02:{at:02}:00 INFO app - fed in {} ms\n", if at == 59 { 5_000 } else { 20 + at % 5 })
        })
        .collect();
    let mut screen = Screen::of(&[("a/app.log", &log)]);
    screen.keys("G");
    screen.draw(160, 46);
    screen.settle();
    let drawn = screen.draw(160, 46);
    assert!(drawn.contains("usually fed in 20ms to 24ms") && drawn.contains("unusual: 5000 ms, 208 times"), "{drawn}");
}
