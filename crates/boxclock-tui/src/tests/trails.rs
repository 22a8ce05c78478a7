//! Trails and comparisons, from the offer to the line.

use ratatui::crossterm::event::KeyCode;

use super::Screen;

/// Frames that the console hands to the bridge, and the bridge to the gateway, which gets none from the ninth on.
fn frames() -> Screen {
    let at = |minute: u32, second: u32, text: String| format!("2026-04-12T02:{minute:02}:{second:02}Z INFO {text}\n");
    let line = |minute: u32, text: String| at(minute, 0, text);
    let numbers = || 0..12_u32;
    let console: String =
        numbers().map(|at| line(at * 2, format!("console: frame fr-0412-{} taken", 4000 + at))).collect();
    let bridge: String = numbers()
        .map(|number| at(number * 2, 1, format!("bridge: frame fr-0412-{} passed on", 4000 + number)))
        .collect();
    let gateway: String = numbers()
        .map(|at| match at {
            0..8 => line(at * 2 + 1, format!("gateway: frame fr-0412-{} opened", 4000 + at)),
            _ => format!("2026-04-12T02:{:02}:00Z ERROR gateway: format 2 refused\n", at * 2 + 1),
        })
        .collect();
    Screen::of(&[
        ("keeper-desk/console.log", &console),
        ("keeper-desk/bridge.log", &bridge),
        ("dose-gw/gateway.log", &gateway),
    ])
}

#[test]
fn a_trail_is_offered_followed_and_shown() {
    let mut screen = frames();
    // Without a name there is nothing to follow, and that is said.
    screen.keys("G7");
    screen.shows((140, 34), &["No name in the selected event", "t follows a number or name"]);
    screen.keys("3/fr-0412-4010\n7");
    screen.shows((140, 34), &["What should be followed?", "fr-0412-4010", "2 events in 2 sources"]);
    screen.keys("\n");
    screen.shows(
        (180, 40),
        &["fr-0412-4010  it did not arrive", "2 hops, 2 events", "others of its kind", "3 of 11 others like it were"],
    );
    // Down to the second hop, and into its line.
    screen.keys("j\n");
    assert_eq!((screen.app.cx.at, screen.chosen().as_str()), ("stream", "frame fr-0412-4010 passed on"));
    screen.key(KeyCode::Backspace);
    assert_eq!(screen.app.cx.at, "trail");
    screen.keys("f");
    assert_eq!((screen.app.cx.at, screen.app.cx.row_count()), ("stream", 2));
    // The way back brings the filter of before.
    screen.key(KeyCode::Backspace);
    assert_eq!(screen.app.cx.stream.filter_text, "");
    let file = screen.folder.path().join("way.svg");
    screen.keys("7W");
    (0..9).for_each(|_| screen.key(KeyCode::Backspace));
    screen.keys(&format!("{}\n", file.display()));
    assert!(std::fs::read_to_string(&file).unwrap().contains("The way of fr-0412-4010"));
    // A name that is in no event stays a question with a reason.
    screen.keys("tnowhere-77\n");
    assert_eq!(screen.app.cx.message.as_deref(), Some("\"nowhere-77\" stands in no event of this case"));
    screen.key(KeyCode::Esc);
    screen.shows((140, 34), &["What should be followed?"]);
}

#[test]
fn two_spans_are_compared_and_what_does_not_matter_is_kept() {
    let mut screen = frames();
    screen.app.cx.story.set("since", "2026-04-12 04:16:00 +02:00".into());
    screen.keys("8");
    screen.shows((140, 34), &["Nothing is compared yet."]);
    screen.keys("c");
    screen.shows((140, 34), &["since 04-12 04:16 against before 04-12 04:16", "the host dose-gw against keeper-desk"]);
    screen.keys("since\n");
    let drawn =
        screen.shows((140, 34), &["What is different", "only in the bad", "format 2 refused", "bad: time in 2026"]);
    assert!(drawn.contains("missing") && drawn.contains("opened"), "{drawn}");
    let all = screen.app.chosen_item();
    assert_eq!(all, 0);
    screen.keys("\n");
    assert!(screen.chosen().contains("format 2 refused"), "{}", screen.chosen());
    screen.key(KeyCode::Backspace);
    screen.keys("x");
    let drawn = screen.shows((140, 34), &["1 that do not matter are hidden (o)"]);
    assert!(!drawn.lines().any(|line| line.contains("only in the bad") && line.contains("refused")), "{drawn}");
    assert_eq!(screen.app.cx.logbook.harmless().unwrap().len(), 1);
    screen.keys("u");
    assert!(screen.app.cx.logbook.harmless().unwrap().is_empty());
    screen.shows((140, 34), &["format 2 refused"]);
    // Two sides that have nothing of each other, and a wrong filter.
    screen.keys("ctwo filters\nhost=nowhere\nhost=dose-gw\n");
    assert_eq!(screen.app.cx.message.as_deref(), Some("no event passes the filter of the bad side"));
    screen.keys("ctwo filters\nlevel>=wran\n");
    screen.shows((140, 34), &["is not a level"]);
}

#[test]
fn a_good_case_is_compared_with_this_one() {
    let mut screen = frames();
    let good = boxclock_core::testing::case(&[
        ("dose-gw/gateway.log", "2026-04-11T02:01:00Z INFO gateway: frame fr-0411-1000 opened\n"),
        ("keeper-desk/bridge.log", "2026-04-11T02:00:00Z INFO bridge: frame fr-0411-1000 passed on\n"),
    ]);
    screen.keys("8cagainst a good\n");
    screen.keys(&format!("{}\n", good.path().display()));
    screen.shows((140, 34), &["format 2 refused", "bad: this case"]);
    screen.keys("e");
    assert_eq!(screen.app.cx.message.as_deref(), Some("That side has no line in this case."));
    screen.keys("cagainst a good\n/no/such/box\n");
    assert_eq!(screen.app.cx.message.as_deref(), Some("no such file or folder: /no/such/box"));
}
