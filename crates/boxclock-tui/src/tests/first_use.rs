//! What somebody stumbles over who uses the program for the first time.

use ratatui::crossterm::event::{Event as Input, KeyCode, KeyEvent, KeyModifiers};

use super::Screen;
use crate::app::Mode;
use crate::jobs::Event;

/// A line a minute of three kinds, with an error in the middle.
fn hour() -> Screen {
    let lines: Vec<String> = (0..60)
        .map(|minute| match minute {
            30 => "2026-04-12 02:30:00 ERROR [main] valves - valve 7 stuck\n".to_owned(),
            _ if minute % 3 == 0 => format!("2026-04-12 02:{minute:02}:00 INFO [main] dosing - fed tank {minute}\n"),
            _ => format!("2026-04-12 02:{minute:02}:00 DEBUG [main] net - ping {minute}\n"),
        })
        .collect();
    Screen::of(&[("pump-ctl/app.log", &lines.concat())])
}

fn control(screen: &mut Screen, letter: char) {
    screen.app.event(Event::Input(Input::Key(KeyEvent::new(KeyCode::Char(letter), KeyModifiers::CONTROL))));
    screen.settle();
}

#[test]
fn find_goes_to_the_nearest_hit_upwards_and_keeps_its_hits() {
    let mut screen = hour();
    screen.keys("/tank\n");
    assert_eq!(screen.chosen(), "fed tank 57", "from the end upwards");
    screen.keys("N");
    assert_eq!(screen.chosen(), "fed tank 54");
    // Esc takes the marks away; n and N know what was looked for.
    screen.key(KeyCode::Esc);
    assert!(!screen.draw(120, 30).contains("find  tank"));
    screen.keys("N");
    assert_eq!(screen.chosen(), "fed tank 51");
    screen.keys("n");
    assert_eq!(screen.chosen(), "fed tank 54");
    // Given up while it is typed, the place is the one of before, and the hits stay.
    screen.keys("/ping 1");
    screen.key(KeyCode::Esc);
    assert_eq!(screen.chosen(), "fed tank 54");
    assert!(screen.draw(120, 30).contains("find  ping 1"));
}

#[test]
fn what_was_typed_comes_back() {
    let mut screen = hour();
    screen.keys("/tank\n/ping\n/");
    screen.key(KeyCode::Up);
    assert_eq!(screen.app.cx.stream.find_text, "ping");
    screen.key(KeyCode::Up);
    assert_eq!(screen.app.cx.stream.find_text, "tank");
    screen.key(KeyCode::Down);
    screen.key(KeyCode::Down);
    let Mode::Typing(typing) = &screen.app.mode else { panic!("typing") };
    assert_eq!(typing.input.value(), "", "what was being typed");
    screen.key(KeyCode::Esc);
    // A filter has completions: down chooses one, up goes back to the filter of before.
    screen.keys("flevel>=error\nFf");
    screen.key(KeyCode::Up);
    assert_eq!(screen.app.cx.row_count(), 1);
    // What is hidden while it is typed is not kept.
    screen.key(KeyCode::Esc);
    assert!(screen.app.cx.typed_before.keys().all(|label| label != "password"));
}

#[test]
fn pager_keys_move_by_pages_and_halves() {
    let mut screen = hour();
    let at = |screen: &Screen| screen.app.cx.stream.cursor;
    screen.keys("g");
    control(&mut screen, 'f');
    let page = at(&screen);
    assert!(page > 5, "{page}");
    control(&mut screen, 'b');
    assert_eq!(at(&screen), 0);
    control(&mut screen, 'd');
    assert_eq!(at(&screen), page / 2);
    control(&mut screen, 'u');
    assert_eq!(at(&screen), 0);
}

#[test]
fn a_jump_to_an_end_knows_the_way_back() {
    let mut screen = hour();
    screen.keys("/valve 7\n");
    assert_eq!(screen.chosen(), "valve 7 stuck");
    for jump in ["g", "G", "t02:10\n", "t04-12 02:50\n", "t12 Apr 02:05\n"] {
        screen.keys(jump);
        assert_ne!(screen.chosen(), "valve 7 stuck", "{jump}");
        screen.key(KeyCode::Backspace);
        assert_eq!(screen.chosen(), "valve 7 stuck", "{jump}");
    }
}

#[test]
fn letters_narrow_a_menu_and_are_no_commands() {
    let mut screen = hour();
    screen.keys("/valve 7\nv");
    screen.keys("only comp");
    let drawn = screen.draw(120, 30);
    assert!(drawn.contains("only     component=valves") && !drawn.contains("without  level"), "{drawn}");
    screen.keys("\n");
    assert_eq!(screen.app.cx.stream.filter_text, "component=valves");
    screen.keys("vzzzz");
    assert!(screen.draw(120, 30).contains("nothing fits"));
    screen.keys("\n");
    assert!(matches!(screen.app.mode, Mode::Menu(_)), "Enter on nothing does nothing");
    (0..4).for_each(|_| screen.key(KeyCode::Backspace));
    assert!(screen.draw(120, 30).contains("everything within"));
    screen.key(KeyCode::Esc);
    assert!(matches!(screen.app.mode, Mode::Normal));
}

#[test]
fn around_this_shows_what_the_filter_hid() {
    let mut screen = hour();
    screen.keys("flevel>=error\nv");
    assert_eq!(screen.app.cx.row_count(), 1);
    screen.keys("5 minutes\n");
    assert_eq!(screen.app.cx.row_count(), 11, "five minutes before and after, whatever the level");
    assert_eq!(screen.chosen(), "valve 7 stuck");
    screen.keys("<");
    assert_eq!((screen.app.cx.row_count(), screen.app.cx.stream.filter_text.as_str()), (1, "level>=error"));
}

#[test]
fn back_from_a_code_brings_the_filter_of_before() {
    let mut screen = Screen::of(&[(
        "pump-ctl/app.log",
        "2026-04-12 02:10:00 INFO [main] dosing - fed\n2026-04-12 02:10:40 ERROR [main] valves - refused 0x80070005\n",
    )]);
    screen.keys("fcomponent=dosing\n4\n");
    assert!(screen.app.cx.stream.filter_text.starts_with("code="), "{}", screen.app.cx.stream.filter_text);
    screen.key(KeyCode::Backspace);
    assert_eq!((screen.app.cx.at, screen.app.cx.stream.filter_text.as_str()), ("codes", "component=dosing"));
    screen.keys("'");
    assert!(screen.app.cx.stream.filter_text.starts_with("code="), "and forward again");
}

#[test]
fn the_counts_mean_the_same_folded_and_filtered() {
    let mut screen = hour();
    screen.keys("g");
    assert!(screen.draw(160, 30).contains("row 1 of 60   problems"), "{}", screen.draw(160, 30));
    screen.keys("flevel>=info\ng");
    assert!(screen.draw(160, 30).contains("row 1 of 20   20 of 60 events"), "{}", screen.draw(160, 30));
    screen.keys("cg");
    let drawn = screen.draw(160, 30);
    assert!(drawn.contains("   20 of 60 events"), "folded rows stand for as many: {drawn}");
    screen.keys("F");
    assert!(screen.draw(160, 30).contains("   60 of 60 events"));
}

#[test]
fn what_is_rare_or_new_is_a_lens() {
    let mut screen = hour();
    screen.keys("erare\n");
    assert_eq!(screen.app.cx.row_count(), 1);
    assert_eq!(screen.chosen(), "valve 7 stuck");
    screen.keys("Fenew\n");
    assert!(screen.app.cx.message.as_deref().unwrap_or_default().contains("when it last worked"));
    screen.app.cx.story.set("last_good", "2026-04-12 02:20:00 +02:00".into());
    screen.keys("enew\n");
    assert_eq!(screen.chosen(), "valve 7 stuck");
    assert_eq!(screen.app.cx.row_count(), 1, "the other kinds were there before: {}", screen.app.cx.stream.filter_text);
}

#[test]
fn a_moment_that_is_none_is_said() {
    let mut screen = hour();
    let since = boxclock_core::logbook::Story::FIELDS.iter().position(|(key, ..)| *key == "since").unwrap();
    screen.keys("1");
    screen.keys(&"j".repeat(since));
    screen.keys("\nten fortnights back\n");
    assert!(screen.draw(120, 30).contains("\"ten fortnights back\" is not a time"), "{}", screen.draw(120, 30));
    assert!(matches!(screen.app.mode, Mode::Typing(_)), "the line stays");
    screen.key(KeyCode::Esc);
    assert_eq!(screen.app.cx.story.since, "");
}

#[test]
fn the_next_step_is_said_until_there_is_a_case() {
    let options = boxclock_core::case::Options::default();
    let mut case = boxclock_core::case::Case::open(&[], options, &boxclock_core::work::Work::default()).unwrap();
    let folder = tempfile::tempdir().unwrap();
    case.logbook_path = Some(folder.path().join("new.logbook"));
    let (sender, events) = crossbeam_channel::unbounded();
    let mut app = crate::app::App::open(case, sender, crate::settings::Settings::default()).unwrap();
    app.cx.theme = crate::theme::Theme::plain();
    let folder = boxclock_core::testing::case::<&str>(&[]);
    let mut screen = Screen { app, events, folder };
    for view in ["1", "2", "3"] {
        screen.keys(view);
        let drawn = screen.draw(100, 30);
        assert!(drawn.contains("Next: 1 writes down what happened, then b gathers the logs"), "{view}: {drawn}");
    }
}

#[test]
fn folders_of_hosts_are_offered_and_opened_as_hosts() {
    let line = "2026-04-12 02:10:00 INFO [main] dosing - fed\n";
    let folder = boxclock_core::testing::case::<&str>(&[]);
    std::fs::remove_dir(folder.path().join("hosts")).unwrap();
    for host in ["pump-ctl", "dose-gw"] {
        std::fs::create_dir(folder.path().join(host)).unwrap();
        std::fs::write(folder.path().join(host).join("app.log"), line).unwrap();
    }
    let mut screen = Screen::with(folder, crate::view::VIEWS);
    screen.shows((120, 30), &["One folder for each host? Ctrl-O opens them so: dose-gw, pump-ctl"]);
    screen.app.event(Event::Input(Input::Key(KeyEvent::new(KeyCode::Char('o'), KeyModifiers::CONTROL))));
    screen.read_again();
    let hosts = &screen.app.cx.view.loaded.table.hosts;
    assert!(hosts.iter().any(|host| host == "pump-ctl") && hosts.iter().any(|host| host == "dose-gw"), "{hosts:?}");
    assert!(!screen.draw(120, 30).contains("Ctrl-O"));
}

#[test]
fn lines_that_count_by_their_code_have_a_mark() {
    let mut screen = Screen::of(&[(
        "pump-ctl/app.log",
        "2026-04-12 02:10:00 INFO [main] dosing - fed\n2026-04-12 02:10:40 DEBUG [main] valves - open gave 0x80070005\n",
    )]);
    let drawn = screen.draw(120, 30);
    assert!(drawn.contains("problems 1 ↑ 0 ↓") || drawn.contains("problems 0 ↑"), "{drawn}");
    let line = drawn.lines().find(|line| line.contains("open gave")).unwrap().to_owned();
    assert!(line.contains('◌'), "{line}");
    let calm = drawn.lines().find(|line| line.contains("fed")).unwrap().to_owned();
    assert!(!calm.contains('◌'), "{calm}");
}

#[test]
fn a_selection_is_exactly_what_is_written_and_copied() {
    // The newest line stands first in this file.
    let lines: Vec<String> = (0..12)
        .rev()
        .map(|second| format!("2026-04-12 02:10:{second:02} INFO [main] dosing - step {second}\n"))
        .collect();
    let mut screen = Screen::of(&[("pump-ctl/list.log", &lines.concat()), ("dose-gw/b.log", super::GATEWAY)]);
    for order in ["", "c", "o"] {
        screen.keys(order);
        screen.keys("g");
        screen.keys("jjs");
        screen.keys("jjj");
        let wanted: u32 = {
            let places = screen.app.cx.selection().unwrap();
            let runs = screen.app.cx.stream.rows.runs.clone();
            places.map(|place| runs.as_ref().map_or(1, |runs| runs[place].count)).sum()
        };
        screen.keys("y");
        let text = screen.app.cx.clipboard.take().unwrap();
        let copied = text.lines().filter(|line| !line.starts_with('#')).count();
        assert_eq!(copied, wanted as usize, "{order}: {text}");
        let said = screen.app.cx.message.clone().unwrap();
        assert!(said.starts_with(&format!("Copied {wanted} event")), "{order}: {said}");
        let file = screen.folder.path().join(format!("out{order}.txt"));
        screen.keys("W");
        control(&mut screen, 'u');
        screen.keys(&format!("{}\n", file.display()));
        let written = std::fs::read_to_string(&file).unwrap();
        assert_eq!(written.lines().count(), wanted as usize, "{order}: {written}");
        screen.keys("s");
    }
}

/// Forty hosts with two logs each; the log of the bridge on gw-07 is full of errors.
fn many() -> Screen {
    let files: Vec<(String, String)> = (0..40)
        .flat_map(|at| {
            let bad = if at == 7 { "2026-04-12T02:31:07Z ERROR bridge: NAK\n".repeat(5) } else { String::new() };
            let fed = format!("2026-04-12T02:{at:02}:00Z INFO app: fed\n");
            [
                (format!("gw-{at:02}/app.log"), fed.repeat(at + 1)),
                (format!("gw-{at:02}/bridge.log"), format!("{bad}2026-04-12T02:40:00Z INFO bridge: open\n")),
            ]
        })
        .collect();
    let files: Vec<(&str, &str)> = files.iter().map(|(name, text)| (name.as_str(), text.as_str())).collect();
    Screen::of(&files)
}

#[test]
fn many_hosts_are_folded_searched_sorted_and_switched_off() {
    let mut screen = many();
    screen.keys("2");
    let drawn = screen.draw(140, 30);
    assert!(drawn.contains("▸ gw-00") && !drawn.contains("bridge.log"), "folded at first: {drawn}");
    // The host with the most problems first, and its sources with how many.
    screen.keys("sg");
    let drawn = screen.draw(140, 30);
    let first = drawn.lines().find(|line| line.contains("gw-")).unwrap().to_owned();
    assert!(first.contains("▸ gw-07") && first.contains("5 problems"), "{first}");
    screen.keys("\n");
    let drawn = screen.draw(140, 30);
    let source = drawn.lines().find(|line| line.contains("bridge.log")).unwrap().to_owned();
    assert!(source.contains(" 6         5 "), "events and problems: {source}");
    // What is searched for opens its hosts.
    screen.keys("/gw-11 app\n");
    let drawn = screen.draw(140, 30);
    assert!(drawn.contains("with gw-11 app") && drawn.contains("app.log") && !drawn.contains("gw-07"), "{drawn}");
    screen.key(KeyCode::Esc);
    screen.keys("g");
    assert!(screen.draw(140, 30).contains("gw-07"));
    screen.keys("/nowhere\n");
    assert!(screen.draw(140, 30).contains("Nothing contains the words: nowhere"));
    screen.key(KeyCode::Esc);
    // A host is switched off whole, and logs of one name everywhere.
    screen.keys("gOhost\n");
    assert_eq!(screen.app.cx.stream.filter_text, "not host=\"gw-07\"");
    assert_eq!(screen.app.cx.row_count(), 820 + 45 - 14);
    screen.keys("gOhost\n");
    screen.keys("/bridge.log\ngjO");
    screen.keys("on all hosts\n");
    assert_eq!(screen.app.cx.stream.filter_text, "not source~\"/bridge.log\"");
    assert_eq!(screen.app.cx.row_count(), 820);
}

#[test]
fn a_seal_is_checked_on_the_screen() {
    use boxclock_core::gather::{PackRequest, pack};
    use boxclock_core::work::Work;
    let folder = tempfile::tempdir().unwrap();
    let log = folder.path().join("gw.log");
    std::fs::write(&log, "2026-04-12T02:31:07Z ERROR bridge: NAK\n").unwrap();
    let into = folder.path().join("night.box.zip");
    let (hosts, to) = (format!("gw={}", log.display()), into.display().to_string());
    let request = PackRequest { into: to, hosts, recipes: "all".into(), ..PackRequest::default() };
    let story = boxclock_core::logbook::Story::default();
    let options = request.options(story, &boxclock_core::clock::Zone::utc(), boxclock_core::clock::now()).unwrap();
    pack(&options, &Work::default()).unwrap();
    let open = |path: &std::path::Path| {
        let case = boxclock_core::case::Case::open(
            &[path.to_path_buf()],
            boxclock_core::case::Options::default(),
            &Work::default(),
        )
        .unwrap();
        let (sender, events) = crossbeam_channel::unbounded();
        let mut app = crate::app::App::open(case, sender, crate::settings::Settings::default()).unwrap();
        app.cx.theme = crate::theme::Theme::plain();
        app.cx.load();
        let mut screen = Screen { app, events, folder: boxclock_core::testing::case::<&str>(&[]) };
        while !screen.app.cx.view.loaded.complete {
            screen.take_one();
        }
        screen.keys("2g");
        screen
    };
    let mut screen = open(&into);
    screen.shows((120, 30), &["sealed 20", "v checks whether it holds"]);
    screen.keys("v");
    screen.shows((120, 30), &["● the seal holds", "by nobody"]);
}

#[test]
fn a_preview_leaves_nothing_connecting_and_goes_when_a_field_changes() {
    let mut screen = hour();
    let logs = screen.folder.path().join("hosts/pump-ctl");
    screen.keys("b");
    screen.fill("hosts", format!("pump-ctl={}", logs.display()));
    screen.keys("v");
    while !screen.draw(140, 34).contains("nothing was copied or run") {
        std::thread::yield_now();
    }
    let drawn = screen.draw(140, 34);
    assert!(!drawn.contains("connecting") && drawn.contains("app.log"), "{drawn}");
    // What is no moment stays on the line, and the old preview does not stand beside a new field.
    screen.keys("gjj\nsoonish\n");
    assert!(screen.draw(140, 34).contains("\"soonish\" is not a time"));
    screen.key(KeyCode::Esc);
    screen.keys("gjjj\n");
    (0..3).for_each(|_| screen.key(KeyCode::Backspace));
    screen.keys("10 fortnights\n");
    assert!(screen.draw(140, 34).contains("is not a duration"));
    screen.key(KeyCode::Esc);
    screen.keys("gjjj\n");
    (0..3).for_each(|_| screen.key(KeyCode::Backspace));
    screen.keys("30m\n");
    assert!(!screen.draw(140, 34).contains("nothing was copied or run"));
}

#[test]
fn tabs_fit_narrow_terminals_and_are_clicked_where_they_stand() {
    let mut screen = hour();
    let tabs = |screen: &mut Screen, width| screen.draw(width, 24).lines().nth(1).unwrap().trim_end().to_owned();
    assert!(tabs(&mut screen, 120).ends_with("9 Cause  0 Report"));
    screen.keys("8");
    assert_eq!(tabs(&mut screen, 60), " 1  2  3  4  5  6  7  8 Compare  9  0");
    screen.app.prepare(60, 24);
    let specs = screen.app.specs();
    let at = |screen: &Screen, column| crate::top::tab_at(&screen.app.cx, &specs, column);
    assert_eq!(
        [at(&screen, 1), at(&screen, 22), at(&screen, 30), at(&screen, 33)],
        [Some("story"), Some("compare"), Some("compare"), Some("cause")]
    );
    assert_eq!(at(&screen, 2), None);
}
