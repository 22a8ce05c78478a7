//! The screens on a test backend: every view at every size, and what keys do to the state.

use crossbeam_channel::Receiver;
use ratatui::Terminal;
use ratatui::backend::TestBackend;
use ratatui::buffer::Buffer;
use ratatui::crossterm::event::{Event as Input, KeyCode, KeyEvent, KeyModifiers};

use crate::app::App;
use crate::collecting::Collecting;
use crate::context::Context;
use crate::jobs::Event;
use crate::settings::Settings;
use crate::theme::Theme;
use crate::view::boxes::{BoxRow, BoxState, BoxView};
use crate::view::codes::CodesView;
use crate::view::collect::CollectView;
use crate::view::{VIEWS, View};

mod analyses;
mod causes;
mod codes;
mod desk;
mod driven;
mod first_use;
mod house;
mod known;
mod mouse;
mod snapshots;
mod stream;
mod trails;

use driven::Screen;

const APP: &str = "\
2026-04-12 02:10:00 INFO [main] dosing - started
2026-04-12 02:20:00 WARN [main] dosing - slow
2026-04-12 02:30:00 ERROR [main] valves - refused 0x80070005
  at Valve.Open()
2026-04-12 02:40:00 INFO [main] dosing - done
";
const GATEWAY: &str = "\
<27>1 2026-04-12T00:31:41Z gw bridge 88 - - NAK
<30>1 2026-04-12T00:45:00Z gw bridge 88 - - fine
";

fn usual() -> Screen {
    Screen::of(&[("pump-ctl/app.log", APP), ("dose-gw/syslog", GATEWAY)])
}

#[test]
fn it_opens_at_the_end_however_often_the_table_grew() {
    let mut screen = usual();
    assert_eq!(screen.chosen(), "fine");
    // A smaller table first, as while reading; then the whole, with nothing touched in between.
    let whole = screen.app.cx.view.loaded.clone();
    screen.read_in_part();
    assert_eq!((screen.app.cx.view.loaded.table.len(), screen.app.cx.view.loaded.complete), (2, false));
    let reading = screen.app.cx.jobs.load_id();
    screen.app.cx.take_loaded(reading, whole);
    screen.settle();
    assert_eq!(screen.chosen(), "fine");
}

#[test]
fn the_stream_at_its_usual_size() {
    let mut screen = usual();
    screen.keys("g");
    let drawn = screen.draw(120, 20);
    for part in [
        "2 hosts · 2 sources · 6 events",
        "clock UTC+02:00",
        "2026-04-12  P pump-ctl  D dose-gw",
        "02:30:00.000 ▲ P valves refused 0x80070005 ‹access denied›  ⏎ 1 m",
        "02:31:41.000 ▲ D bridge NAK",
        "1 of 6   problems 0 ↑ 2 ↓",
        "no filter",
        "f filter",
    ] {
        assert!(drawn.contains(part), "lacks {part:?}:\n{drawn}");
    }
}

#[test]
fn every_view_at_every_size() {
    let mut screen = usual();
    screen.keys("gpsymptom\n");
    for step in screen.app.specs().iter().map(|spec| spec.id).collect::<Vec<_>>() {
        screen.app.cx.at = step;
        screen.app.cx.refresh();
        for (width, height) in [(160, 50), (100, 30), (99, 30), (80, 24), (60, 20), (40, 10), (20, 5), (5, 2), (1, 1)] {
            screen.draw(width, height);
        }
        for overlay in ["?", "f"] {
            screen.app.cx.at = step;
            screen.keys(overlay);
            for (width, height) in [(160, 50), (60, 20), (20, 5), (1, 1)] {
                screen.draw(width, height);
            }
            screen.key(KeyCode::Esc);
        }
    }
    screen.app.cx.at = "stream";
    let small = screen.draw(60, 20);
    assert!(small.contains("02:30:00.000 ▲ P valves refused") && small.contains("filter"), "{small}");
    assert!(small.contains("? help") && small.contains("q quit"), "{small}");
    assert!(screen.draw(20, 5).contains("02:3"));
    // Where there is no room beside the stream, the reading pane lies over it.
    screen.app.event(Event::Input(Input::Key(KeyEvent::new(KeyCode::Enter, KeyModifiers::NONE))));
    let over = screen.draw(60, 20);
    assert!(over.contains("message") && !over.contains("▲ P valves"), "{over}");
    screen.app.prepare(60, 20);
    screen.key(KeyCode::Esc);
    assert!(screen.draw(60, 20).contains("▲ P valves"));
}

#[test]
fn empty_states_say_what_mends_them() {
    let mut screen = Screen::of(&[]);
    screen.shows((160, 20), &["There are no events in this case.", "2 shows what was read"]);
    for (key, text) in [("9", "Nothing is pinned yet."), ("4", "No codes were found")] {
        screen.keys(key);
        let drawn = screen.draw(100, 20);
        assert!(drawn.contains(text), "{drawn}");
    }
    screen.keys("3[]nN+-*kjgG ");
    screen.draw(100, 20);
    let mut screen = usual();
    screen.keys("fnowhere\n");
    screen.shows((160, 20), &["No event passes the filter: nowhere", "F removes the filter"]);
}

#[test]
fn problems_times_and_the_way_back() {
    let mut screen = usual();
    screen.keys("g]");
    assert_eq!(screen.chosen(), "refused 0x80070005");
    screen.keys("]");
    assert_eq!(screen.chosen(), "NAK");
    screen.keys("]");
    assert_eq!(screen.app.cx.message.as_deref(), Some("No problem below this event."));
    screen.key(KeyCode::Backspace);
    assert_eq!(screen.chosen(), "refused 0x80070005");
    screen.keys("t02:35\n");
    assert_eq!(screen.chosen(), "done");
    screen.keys("tsoon\n");
    assert!(screen.draw(120, 30).contains("\"soon\" is not a time"));
    screen.key(KeyCode::Esc);
    screen.keys("[");
    assert_eq!(screen.chosen(), "NAK");
}

#[test]
fn a_time_of_day_is_on_the_day_that_the_case_has() {
    let log = "2026-04-11 22:00:00 INFO evening\n2026-04-11 23:30:00 INFO late\n2026-04-12 01:00:00 INFO night\n";
    let mut screen = Screen::of(&[("a/app.log", log)]);
    screen.keys("t23:00\n");
    assert_eq!(screen.chosen(), "late");
    screen.keys("t00:30\n");
    assert_eq!(screen.chosen(), "night");
}

#[test]
fn a_wrong_filter_leaves_the_last_good_one_in_force() {
    let mut screen = usual();
    screen.keys("flevel>=error");
    assert_eq!(screen.app.cx.row_count(), 2);
    screen.keys(" (");
    assert_eq!(screen.app.cx.row_count(), 2);
    let drawn = screen.draw(120, 30);
    assert!(drawn.contains("^ this ( has no ) after it"), "{drawn}");
    screen.key(KeyCode::Enter);
    assert!(matches!(screen.app.mode, crate::app::Mode::Typing(..)), "a wrong filter is not accepted");
    screen.key(KeyCode::Esc);
    assert_eq!(screen.app.cx.row_count(), 6, "Esc brings the filter of before");
}

#[test]
fn find_goes_round() {
    let mut screen = usual();
    screen.keys("g/fine\n");
    assert_eq!(screen.chosen(), "fine");
    assert!(screen.draw(120, 30).contains("find  fine   1 of 1 hit"));
    screen.keys("n");
    assert!(screen.draw(120, 30).contains("Continued from the start."));
    screen.keys("/zzz\n");
    assert!(screen.draw(120, 30).contains("0 hits"));
}

#[test]
fn the_chosen_event_stays_when_the_clock_changes() {
    let mut screen = usual();
    screen.keys("g]]d-6m41s\n");
    assert_eq!(screen.chosen(), "NAK");
    let drawn = screen.draw(120, 30);
    assert!(drawn.contains("02:25:00.000 ▲ D bridge") && drawn.contains("dose-gw −6m41s"), "{drawn}");
    assert_eq!(screen.app.cx.stream.cursor, 2, "it now stands before the refusal");
    screen.keys("u");
    assert!(screen.draw(120, 30).contains("02:31:41.000 ▲ D bridge"));
}

#[test]
fn pins_chain_and_undo() {
    let mut screen = usual();
    screen.keys("g]pthe refusal\njpdone here\n9");
    assert!(screen.draw(120, 30).contains("0 links, 2 other pins"));
    screen.keys("ce");
    screen.keys("rights\njcs");
    let drawn = screen.draw(120, 30);
    for part in ["● root", "because rights", "○ symptom", "2 links, 0 other pins"] {
        assert!(drawn.contains(part), "lacks {part:?}:\n{drawn}");
    }
    screen.keys("K");
    let order: Vec<i64> = screen.app.cx.chain.iter().map(|link| link.pin).collect();
    assert_eq!(order, [2, 1]);
    screen.keys("x");
    assert_eq!((screen.app.cx.pins.len(), screen.app.cx.chain.len()), (1, 1));
    screen.keys("u");
    assert_eq!((screen.app.cx.pins.len(), screen.app.cx.chain.len()), (2, 2));
    // What was written is there for the next start.
    let logbook = boxclock_core::logbook::Logbook::open(screen.app.cx.logbook.path()).unwrap();
    assert_eq!(logbook.pins().unwrap().len(), 2);
    screen.keys("\n");
    assert_eq!(screen.app.cx.at, "stream");
}

/// It pointed into a table that was no longer there, as when a source is read in another way.
#[test]
fn answers_go_with_the_case_that_they_are_about() {
    for key in ["5", "6", "9"] {
        let mut screen = usual();
        screen.keys(key);
        screen.draw(140, 36);
        let case = screen.app.cx.view.case.clone();
        screen.app.cx.view = boxclock_core::analysis::CaseView::new(case, boxclock_core::case::Loaded::default());
        let drawn = screen.draw(140, 36);
        assert!(drawn.contains("Looking for"), "{drawn}");
    }
}

#[test]
fn a_suggested_chain_is_accepted_and_taken_back() {
    let mut screen = usual();
    screen.keys("9");
    let drawn = screen.draw(140, 36);
    assert!(drawn.contains("suggestion"), "{drawn}");
    let found = screen.app.cx.view.known(&boxclock_core::cause::CauseAnalysis).unwrap();
    let first = found.first().expect("the case has trouble in it");
    assert!(drawn.contains("◇"), "{drawn}");
    screen.keys("a");
    assert_eq!(screen.app.cx.chain.len(), first.chain.len());
    assert_eq!(screen.app.cx.pins.len(), first.chain.len());
    let drawn = screen.draw(140, 36);
    assert!(drawn.contains("○ symptom") || drawn.contains("● root"), "{drawn}");
    screen.keys("u");
    assert_eq!((screen.app.cx.pins.len(), screen.app.cx.chain.len()), (0, 0), "one undo takes all back");
}

#[test]
fn a_jump_to_a_hidden_event_takes_the_filter_away() {
    let mut screen = usual();
    screen.keys("flevel=info\n4\n");
    assert_eq!(screen.app.cx.at, "stream");
    assert_eq!(screen.app.cx.stream.filter_text, "code=0x80070005");
    assert_eq!(screen.chosen(), "refused 0x80070005");
    // What passes no filter takes it away.
    screen.keys("flevel=info\n");
    let table = std::sync::Arc::clone(&screen.app.cx.view.loaded.table);
    let hidden = (0..6).map(boxclock_core::event::Row).find(|row| table.event(*row).is_problem()).unwrap();
    screen.app.cx.jump_to_row(hidden);
    screen.settle();
    assert!(screen.app.cx.stream.filter_text.is_empty(), "{:?}", screen.app.cx.message);
}

#[test]
fn the_finder_does_what_it_offers() {
    let mut screen = usual();
    screen.app.event(Event::Input(Input::Key(KeyEvent::new(KeyCode::Char('k'), KeyModifiers::CONTROL))));
    screen.keys("every code");
    assert!(screen.draw(120, 30).contains("Codes: every code of the case"));
    screen.key(KeyCode::Enter);
    assert_eq!(screen.app.cx.at, "codes");
}

#[test]
fn text_from_logs_is_shown_and_not_obeyed() {
    let log = "2026-04-12 02:10:00 ERROR \x1b[2J\x1b[31mred\u{202E}right\u{200B}wide 日本語 e\u{301}\t|\n";
    let mut screen = Screen::of(&[("a/app.log", log)]);
    let drawn = screen.draw(100, 20);
    assert!(drawn.contains("^[[2J^[[31mred\u{FFFD}right\u{FFFD}wide"), "{drawn}");
    assert!(!drawn.contains('\x1b') && !drawn.contains('\u{202E}'));
    // A wide character takes two cells; the rule behind it stays where it is.
    let row = drawn.lines().find(|line| line.contains("日")).unwrap();
    assert!(row.contains('│'), "{row}");
}

#[test]
fn narrowing_the_rail() {
    let mut screen = usual();
    let whole = screen.app.cx.rail_span().unwrap();
    screen.keys("g]++");
    let narrow = screen.app.cx.rail_span().unwrap();
    assert!((narrow.1 - narrow.0) * 8 < whole.1 - whole.0);
    screen.keys("G");
    let time = screen.app.cx.chosen().unwrap().time().unwrap();
    let (from, to) = screen.app.cx.rail_span().unwrap();
    assert!((from..=to).contains(&time), "the window follows the chosen event");
    screen.keys("*");
    assert_eq!(screen.app.cx.rail_span(), Some(whole));
}

#[test]
fn the_story_is_edited_and_undone() {
    let mut screen = usual();
    screen.keys("1\nNight of the pumps\n");
    assert!(screen.draw(120, 30).starts_with(" Night of the pumps · 2 hosts"));
    screen.keys("j\n");
    let event = Event::Input(Input::Paste("nobody\nknows".into()));
    screen.app.event(event);
    screen.key(KeyCode::Enter);
    assert_eq!(screen.app.cx.story.happened, "nobody\nknows", "two lines stay two");
    screen.keys("uu");
    assert_eq!((screen.app.cx.story.title.as_str(), screen.app.cx.story.happened.as_str()), ("", ""));
    screen.keys("u");
    assert_eq!(screen.app.cx.message.as_deref(), Some("Nothing to undo."));
}

#[test]
fn the_box_view_accounts_for_everything() {
    let mut screen = usual();
    screen.keys("2");
    screen.choose_source("hosts/pump-ctl/app.log");
    let drawn = screen.draw(220, 40);
    for part in [
        " dose-gw  1 source,",
        "rfc5424",
        " pump-ctl  1 source,",
        "iso-text",
        "hosts/pump-ctl/app.log",
        "attached  1",
        "events    4",
        "set by you",
    ] {
        assert!(drawn.contains(part), "lacks {part:?}:\n{drawn}");
    }
    screen.keys("d+90s\n");
    assert!(screen.draw(160, 30).contains("pump-ctl 1m30s"));
    screen.keys("\n");
    assert_eq!(screen.chosen(), "started");
    screen.key(KeyCode::Backspace);
    assert_eq!(screen.app.cx.at, "box");
}

#[test]
fn how_a_source_is_read_can_be_chosen() {
    let mut screen = usual();
    screen.keys("2");
    screen.choose_source("hosts/pump-ctl/app.log");
    screen.keys("zEurope/Lisbon\n");
    let drawn = screen.draw(220, 40);
    assert!(drawn.contains("Europe/Lisbon (set by you)") && drawn.contains("the only format with records"), "{drawn}");
    screen.keys("D+90s\n");
    screen.shows((220, 40), &["added to every time; D"]);
    screen.keys("enonsense\n");
    assert!(screen.draw(160, 40).contains("\"nonsense\" is not a known format, encoding or order of dates"));
    screen.key(KeyCode::Esc);
    screen.keys("eplain\n");
    screen.read_again();
    let drawn = screen.draw(220, 40);
    assert!(drawn.contains("format    plain") && drawn.contains("chosen by hand"), "{drawn}");
    screen.keys("u");
    screen.read_again();
    let drawn = screen.draw(160, 40);
    assert!(drawn.contains("format    iso-text"), "{drawn}");
    screen.keys("Ptide");
    let drawn = screen.draw(160, 40);
    assert!(drawn.contains("kept in memory only") && drawn.contains("****") && !drawn.contains("tide"), "{drawn}");
}

#[test]
fn the_reading_pane_explains() {
    let mut screen = usual();
    screen.keys("g]]");
    let drawn = screen.draw(220, 40);
    for part in [
        "2026-04-12 02:31:41.000",
        "written in the line, with its zone",
        "error (written 27)",
        "bridge pid 88",
        "−1m41s pump-ctl",
    ] {
        assert!(drawn.contains(part), "lacks {part:?}:\n{drawn}");
    }
    screen.keys("[");
    let drawn = screen.draw(220, 40);
    for part in ["0x80070005 E_ACCESSDENIED", "The account may not do this", "at Valve.Open()", "look at"] {
        assert!(drawn.contains(part), "lacks {part:?}:\n{drawn}");
    }
    screen.keys("i");
    assert!(!screen.draw(160, 40).contains(" message"));
}

#[test]
fn the_report_is_shown_and_written() {
    let mut screen = usual();
    let folder = tempfile::tempdir().unwrap();
    screen.keys("g]prefused here\n0");
    assert!(screen.draw(120, 30).contains("Other marked places"));
    screen.keys("w");
    screen.app.event(Event::Input(Input::Key(KeyEvent::new(KeyCode::Char('u'), KeyModifiers::CONTROL))));
    screen.keys(&format!("{}\n", folder.path().join("r.md").display()));
    assert!(std::fs::read_to_string(folder.path().join("r.md")).unwrap().contains("refused here"));
    assert!(std::fs::read_to_string(folder.path().join("r.svg")).unwrap().contains("<svg"));
    screen.keys("w");
    screen.keys("/no/such/folder/r.md\n");
    assert!(
        screen.app.cx.message.as_deref().is_some_and(|text| text.contains("cannot write")),
        "{:?}",
        screen.app.cx.message
    );
}

#[test]
fn a_wrong_duration_stays_on_the_line() {
    let mut screen = usual();
    screen.keys("gd5 parsecs\n");
    assert!(screen.draw(120, 30).contains("\"5 parsecs\" is not a duration"));
    assert!(screen.app.cx.drift().is_empty());
    screen.key(KeyCode::Esc);
    assert!(matches!(screen.app.mode, crate::app::Mode::Normal));
}

#[test]
fn help_scrolls_and_leaves() {
    let mut screen = usual();
    screen.keys("?");
    let first = screen.draw(100, 20);
    screen.keys("jjjjjj");
    let later = screen.draw(100, 20);
    assert!(first.contains("everywhere") && !later.contains("everywhere"), "{later}");
    screen.keys("x");
    assert!(matches!(screen.app.mode, crate::app::Mode::Normal));
}

#[test]
fn the_box_says_what_it_covers_and_what_the_checks_found() {
    use boxclock_core::coverage::{Cover, Moment, Row};
    use boxclock_core::facts::{Finding, Level};
    use boxclock_core::gather::Window;
    use boxclock_core::source::Class;
    let mut screen = usual();
    screen.keys("2");
    let cover = |class, state: Cover, detail: &str| Row {
        host: "pump-ctl".into(),
        class,
        state,
        first: Some(1_775_961_067_000_000_000),
        last: None,
        detail: detail.into(),
        advice: state.advice(),
        sources: Vec::new(),
    };
    let finding = Finding {
        more: Vec::new(),
        host: "pump-ctl".into(),
        level: Level::Critical,
        check: "volume-nearly-full".into(),
        title: "A volume is nearly full".into(),
        evidence: "/srv is 97 % full".into(),
        file: "hosts/pump-ctl/facts.json".into(),
        line: 10,
        reason: "writes fail".into(),
        advice: "free space".into(),
    };
    screen.app.view_of::<BoxView>().given = Some(std::sync::Arc::new(BoxState {
        problems: Vec::new(),
        moment: Some(Moment { window: Window { from: 0, to: 1 }, unstated: None }),
        cover: vec![
            cover(Class::Application, Cover::Covered, ""),
            cover(Class::System, Cover::StartsTooLate, "syslog begins 02:40"),
        ],
        findings: vec![finding],
        resources: std::sync::Arc::default(),
    }));
    screen.app.cx.state += 1;
    screen.settle();
    let place = |screen: &mut Screen, wanted: &dyn Fn(&BoxRow) -> bool| {
        screen.app.view_of::<BoxView>().rows.iter().position(wanted).unwrap()
    };
    let class = place(&mut screen, &|row| *row == BoxRow::Class("pump-ctl".into(), Class::System));
    screen.app.view_of::<BoxView>().list.cursor = class;
    let drawn = screen.draw(220, 30);
    for part in [
        "● covered",
        "○ starts too late",
        "■ A volume is nearly full: /srv is 97 % full",
        "look for rotated or archived logs",
    ] {
        assert!(drawn.contains(part), "lacks {part:?}:\n{drawn}");
    }
    let found = place(&mut screen, &|row| *row == BoxRow::Finding(0));
    screen.app.view_of::<BoxView>().list.cursor = found;
    let drawn = screen.draw(220, 30);
    assert!(drawn.contains("hosts/pump-ctl/facts.json, line 10") && drawn.contains("free space"), "{drawn}");
    // Switching a source off is a piece of the filter that can be seen, and can be taken back.
    screen.choose_source("hosts/pump-ctl/app.log");
    screen.keys("o");
    assert_eq!(screen.app.cx.stream.filter_text, "not source=\"hosts/pump-ctl/app.log\"");
    assert!(screen.draw(160, 30).contains("× iso-text"));
    screen.keys("o");
    assert_eq!(screen.app.cx.stream.filter_text, "");
}

#[test]
fn a_wrong_clock_is_suggested_and_accepted() {
    let lines = |minute: u32, text: &str| -> String {
        (0..12)
            .map(|at| format!("2026-04-12 02:{minute:02}:{at:02} INFO [main] dosing - fr-0412-{at:04} {text}\n"))
            .collect::<Vec<_>>()
            .concat()
    };
    let mut screen = Screen::of(&[("dose-gw/a.log", &lines(7, "refused")), ("pump-ctl/b.log", &lines(1, "sent"))]);
    screen.keys("2");
    let place = screen
        .app
        .view_of::<BoxView>()
        .rows
        .iter()
        .position(|row| matches!(row, BoxRow::Clock(_)))
        .expect("a suggestion");
    screen.app.view_of::<BoxView>().list.cursor = place;
    let drawn = screen.draw(220, 40);
    for part in ["clock seems wrong: add", "12 of 12 identifiers agree", "fr-0412-0000"] {
        assert!(drawn.contains(part), "lacks {part:?}:\n{drawn}");
    }
    let clocks = screen.app.cx.view.known(&boxclock_core::timeline::drift::ClockAnalysis).unwrap();
    let host = clocks[0].host.clone();
    let offset = clocks[0].add_ns;
    assert_eq!(offset.abs(), 360_000_000_000);
    screen.keys("a");
    assert_eq!(screen.app.cx.drift()[&host].add_ns, offset);
    assert!(
        !screen.app.view_of::<BoxView>().rows.iter().any(|row| matches!(row, BoxRow::Clock(_))),
        "accepted ones are not offered again"
    );
    screen.keys("u");
    assert!(!screen.app.cx.drift().contains_key(&host));
}

#[test]
fn a_source_gets_another_host() {
    let mut screen = Screen::of(&[("pump-ctl/app.log", APP), ("misc/bridge.log", GATEWAY)]);
    let name =
        screen.app.cx.sources.iter().find(|source| source.source.ends_with("bridge.log")).unwrap().source.clone();
    screen.keys("2");
    screen.choose_source(&name);
    screen.keys("L");
    screen.app.cx.message = None;
    screen.keys("dose-gw");
    screen.app.event(Event::Input(Input::Key(KeyEvent::new(KeyCode::Enter, KeyModifiers::NONE))));
    screen.read_again();
    let source = screen.app.cx.sources.iter().find(|source| source.source == name).unwrap();
    assert_eq!(source.host.as_deref(), Some("dose-gw"));
}
