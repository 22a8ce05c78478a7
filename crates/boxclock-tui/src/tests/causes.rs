//! The Cause view: a chain on its axis, the suggestions side by side, open questions, and links that are wrong.

use boxclock_core::logbook::{ChainLink, Link};

use super::*;

fn night() -> Screen {
    let healthy: String = (0..40)
        .map(|minute| format!("2026-04-12T01:{minute:02}:00Z INFO dosingd: dose for tank 4 sent through bridge.conf\n"))
        .collect();
    let failing: String = (0..20)
        .map(|minute| {
            format!("2026-04-12T02:{:02}:30Z ERROR dosingd: dose refused: bridge.conf asks for frame 9\n", minute + 20)
        })
        .collect();
    let gateway = "2026-04-12T01:05:00Z INFO setup: bridge started\n\
                   2026-04-12T02:10:00Z INFO setup: changed /etc/tank/bridge.conf: frame 8 -> 9\n\
                   2026-04-12T02:10:05Z INFO setup: bridge started\n";
    let mut screen =
        Screen::of(&[("pump-ctl/dosing.log", &format!("{healthy}{failing}")), ("dose-gw/setup.log", gateway)]);
    screen.keys("9");
    screen.settle();
    screen
}

#[test]
fn a_suggestion_is_drawn_on_an_axis_with_a_lane_for_each_host() {
    let mut screen = night();
    let drawn = screen.shows((160, 46), &["suggestion 1", "04:10:00", "root", "symptom", "◆", "✕", "open questions"]);
    let way = drawn.lines().find(|line| line.contains("└──") || line.contains("┌──"));
    assert!(way.is_some(), "the way goes from one host to the other:\n{drawn}");
}

#[test]
fn open_questions_become_steps_once() {
    let mut screen = night();
    screen.keys("o");
    screen.shows((160, 46), &["added to the checklist", "□ to do    Take back \"changed /etc/tank/bridge.conf"]);
    let steps = screen.app.cx.remedies.len();
    assert!(steps >= 2, "{steps}");
    screen.keys("o");
    assert_eq!(screen.app.cx.remedies.len(), steps);
    screen.keys("u");
    assert!(screen.app.cx.remedies.is_empty());
}

#[test]
fn suggestions_stand_side_by_side_and_lines_of_them_are_accepted() {
    let mut screen = night();
    screen.keys("d");
    screen.shows((160, 46), &["The suggestions side by side", "◆", "d goes back to the list"]);
    screen.keys("a");
    screen.keys("G");
    screen.keys("a");
    let kinds: Vec<Link> = screen.app.cx.chain.iter().map(|link| link.kind).collect();
    assert_eq!(kinds, [Link::Root, Link::Symptom]);
    screen.keys("a");
    screen.shows((160, 46), &["in the chain already"]);
    screen.keys("d");
    screen.shows((160, 46), &["From the root to the symptom", "2 links"]);
    screen.shows((60, 20), &["2 links"]);
    screen.keys("u");
    assert_eq!(screen.app.cx.chain.len(), 1, "each line is undone by itself");
}

#[test]
fn a_link_that_is_out_of_order_or_gone_says_so() {
    let mut screen = night();
    let cx = &mut screen.app.cx;
    let pin = |source: &str, line: u64| {
        let row = cx.view.row_of_line(source, line).unwrap();
        let offset = cx.event(row).offset();
        cx.logbook.set_pin(source, offset, &format!("line {line}")).unwrap();
    };
    pin("hosts/dose-gw/setup.log", 2);
    pin("hosts/pump-ctl/dosing.log", 41);
    cx.logbook.set_pin("hosts/gone/app.log", 0, "was in another box").unwrap();
    let pins = cx.logbook.pins().unwrap();
    let id = |note: &str| pins.iter().find(|pin| pin.note == note).unwrap().id;
    let link = |note: &str, kind| ChainLink { pin: id(note), kind, reason: "told".into() };
    let chain = [link("line 41", Link::Root), link("line 2", Link::Step), link("was in another box", Link::Symptom)];
    cx.logbook.set_chain(&chain).unwrap();
    cx.reload_logbook().unwrap();
    screen.shows(
        (160, 46),
        &["out of order: it was before the link above", "its line is not in this case", "out of order"],
    );
}
