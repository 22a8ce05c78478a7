//! What holds for all views: one file and one line add a view, and the guide has the keys of all.

use super::*;
use crate::commands::{Binding, Keymap};
use crate::context::Then;
use crate::pane::Pane;
use crate::view::{Item, ListState, Spec, ViewCommand, view_parts};

static TIDE_SPEC: Spec = Spec {
    id: "tide",
    key: "w",
    name: "Tide",
    about: "Tide: when the water comes",
    head_rows: 0,
    item_rows: 1,
    has_pane: true,
    tab_of: None,
};

/// As small as a view gets.
#[derive(Default)]
struct TideView {
    list: ListState,
    high: bool,
}

const TIDE: &[ViewCommand<TideView>] = &[ViewCommand {
    name: "raise-tide",
    keys: &["y"],
    short: "raise",
    long: "raise the tide",
    run: |view, cx, _| {
        view.high = true;
        cx.message = Some("The tide is high.".into());
        Ok(Then::Stay)
    },
}];

impl View for TideView {
    view_parts!(TIDE_SPEC, TIDE);

    fn len(&self, _: &Context) -> usize {
        2
    }
    fn item(&self, _: &Context, index: usize, _: usize) -> Item {
        Item::one(vec![format!("quay {index}: {}", if self.high { "high" } else { "low" }).into()])
    }
    fn pane(&self, _: &Context, pane: &mut Pane<'_>) {
        pane.text("Water level at the quay");
    }
}

#[test]
fn a_view_is_one_file_and_one_line() {
    let mut views: Vec<fn() -> Box<dyn View>> = VIEWS.to_vec();
    views.push(|| Box::<TideView>::default());
    let mut screen = Screen::with(boxclock_core::testing::case(&[("a.log", APP)]), &views);
    screen.keys("wy");
    // Its tab, items, reading pane, hint, message and help are all made from what it says of itself.
    screen.shows((160, 30), &["w Tide", "quay 1: high", "Water level at the quay", "y raise", "The tide is high."]);
    screen.keys("?");
    screen.shows((160, 220), &["Tide: when the water comes", "raise the tide"]);
}

/// The section of the guide that lists all keys.
fn key_tables() -> String {
    let views: Vec<Box<dyn View>> = VIEWS.iter().map(|new| new()).collect();
    let keymap = Keymap::new(crate::app::table(&views), &std::collections::BTreeMap::new()).unwrap();
    let mut out = String::from("## All keys\n");
    let mut table = |title: String, rows: Vec<&Binding>| {
        out += &format!("\n### {title}\n\n| key | what it does |\n|---|---|\n");
        for row in rows {
            let keys: Vec<String> = row.keys.iter().map(|key| format!("`{key}`")).collect();
            out += &format!("| {} | {} |\n", keys.join(" "), row.long.replace('|', "\\|"));
        }
    };
    table("Everywhere".into(), keymap.everywhere().collect());
    for view in &views {
        let rows: Vec<&Binding> = keymap.of(view.spec().id).collect();
        if !rows.is_empty() {
            table(format!("In the {} view", view.spec().name), rows);
        }
    }
    out
}

/// `UPDATE_GUIDE=1 cargo test -p boxclock-tui guide` writes the section anew.
#[test]
fn the_guide_has_all_keys() {
    let path = std::path::Path::new(env!("CARGO_MANIFEST_DIR")).join("../../docs/guide.md");
    let guide = std::fs::read_to_string(&path).unwrap();
    let start = guide.find("## All keys").expect("the guide has the section");
    let tables = key_tables();
    if std::env::var_os("UPDATE_GUIDE").is_some() {
        std::fs::write(&path, format!("{}{tables}", &guide[..start])).unwrap();
        return;
    }
    assert_eq!(guide[start..].trim_end(), tables.trim_end(), "see the head of this test");
}

#[test]
fn no_key_has_two_commands_in_one_view() {
    let views: Vec<Box<dyn View>> = VIEWS.iter().map(|new| new()).collect();
    let keymap = Keymap::new(crate::app::table(&views), &std::collections::BTreeMap::new()).unwrap();
    for view in &views {
        let mut seen = std::collections::BTreeMap::new();
        for row in keymap.everywhere().chain(keymap.of(view.spec().id)) {
            for key in &row.keys {
                let other = seen.insert(key.clone(), row.name);
                assert!(other.is_none(), "{key} in {}: {} and {other:?}", view.spec().name, row.name);
            }
        }
    }
}

#[test]
fn a_pin_that_was_removed_comes_back_as_it_was() {
    let mut screen = Screen::of(&[("a.log", APP)]);
    screen.keys("gpthe first\n");
    screen.keys("9t");
    let before: Vec<_> = screen.app.cx.pins.iter().map(|pin| (pin.note.clone(), pin.kind, pin.colour)).collect();
    assert_eq!(before.len(), 1);
    screen.keys("x");
    assert!(screen.app.cx.pins.is_empty(), "{}", screen.draw(120, 30));
    screen.keys("u");
    let after: Vec<_> = screen.app.cx.pins.iter().map(|pin| (pin.note.clone(), pin.kind, pin.colour)).collect();
    assert_eq!(after, before);
    // Steps from before the removal can still be undone.
    screen.keys("u");
    assert_ne!(screen.app.cx.pins[0].kind, before[0].1);
    screen.keys("u");
    assert!(screen.app.cx.pins.is_empty(), "{}", screen.draw(120, 30));
}

#[test]
fn a_year_far_away_leaves_every_view_whole() {
    let old = "1700-01-01T00:00:00Z INFO tide: mark cut\n";
    let mut screen = Screen::of(&[("dose-gw/old.log", old), ("pump-ctl/app.log", APP)]);
    for view in ["1", "2", "3", "4", "9", "0", "b"] {
        screen.keys(view);
        for size in [(160, 46), (100, 30), (60, 20)] {
            screen.settle_at(size);
            screen.draw(size.0, size.1);
        }
        screen.key(KeyCode::Esc);
    }
    screen.keys("3g");
    screen.shows((120, 30), &["1700-01-01", "mark cut"]);
    screen.keys("+++-*");
    screen.keys("G");
    screen.shows((120, 30), &["2026-04-12"]);
}

/// The cells of the first row that holds a text, from the text on.
fn cells(screen: &mut Screen, text: &str) -> Vec<ratatui::buffer::Cell> {
    screen.app.prepare(160, 40);
    let mut terminal = Terminal::new(TestBackend::new(160, 40)).unwrap();
    terminal.draw(|frame| screen.app.draw(frame)).unwrap();
    let buffer = terminal.backend().buffer().clone();
    for y in 0..40 {
        let symbols: Vec<&str> = (0..160).map(|x| buffer[(x, y)].symbol()).collect();
        if let Some(at) = (0..160).find(|at| symbols[*at..].concat().starts_with(text)) {
            return (at as u16..160).map(|x| buffer[(x, y)].clone()).collect();
        }
    }
    panic!("never saw {text}:\n{}", screen.draw(160, 40));
}

#[test]
fn only_times_that_are_not_the_lines_own_are_faint() {
    use ratatui::style::Modifier;
    let text = "2026-04-12 02:10:00 INFO [main] dosing - started\nno time here\n2026-04-12 02:10:05 INFO [main] dosing - fed\n";
    let mut screen = Screen::of(&[("pump-ctl/app.log", text), ("dose-gw/notes.txt", "a note\nanother note\n")]);
    screen.keys("g");
    // The zone is known: it was given.
    let own = cells(&mut screen, "02:10:05.000");
    assert!(!own[0].modifier.contains(Modifier::DIM), "{:?}", own[0]);
    let none = cells(&mut screen, "no time");
    assert!(none[0].modifier.contains(Modifier::DIM), "{:?}", none[0]);
}

#[test]
fn a_zone_that_a_file_states_is_not_called_assumed() {
    let counters = "\"(PDH-CSV 4.0) (W. Europe Daylight Time)(-120)\",\"\\\\KEEPER-DESK\\Memory\\Available MBytes\"\n\
        \"04/12/2026 02:31:07.000\",\"410\"\n\"04/12/2026 02:31:12.000\",\"395\"\n\"04/12/2026 02:31:17.000\",\"390\"\n";
    let mut screen = Screen::with(boxclock_core::testing::case(&[("keeper-desk/load.csv", counters)]), VIEWS);
    screen.keys("3g");
    let drawn = screen.shows((160, 40), &["02:31:07.000", "zone"]);
    assert!(!drawn.contains("assumed"), "{drawn}");
    screen.keys("2");
    screen.choose_source("hosts/keeper-desk/load.csv");
    screen.shows((160, 40), &["(stated in the", "file's header)"]);
}

#[test]
fn a_code_in_a_column_is_explained_in_its_line() {
    let table = "time,tank,result\n2026-04-12T02:31:07Z,4,0x80070005\n2026-04-12T02:31:09Z,5,0x80070020\n\
        2026-04-12T02:31:11Z,6,0x00000000\n";
    let mut screen = Screen::of(&[("keeper-desk/results.csv", table)]);
    screen.keys("3g");
    screen.shows((160, 40), &["access denied", "file in use"]);
}
