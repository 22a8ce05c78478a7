//! Whole screens in each state, with their colours, compared with files in `tests/screens`. After a wanted change:
//! `UPDATE_SCREENS=1 cargo test -p boxclock-tui snapshots`, then look at the difference before it goes in.

use std::path::Path;

use ratatui::buffer::Buffer;
use ratatui::style::Color;

use super::*;
use crate::app::Mode;

/// Compares a screen with the file of that name: its text, and below it the colours and attributes that it has on a dark ground.
fn same(name: &str, screen: &mut Screen, (width, height): (u16, u16)) {
    let text = always_the_same(&screen.draw(width, height), screen);
    let plain = std::mem::replace(&mut screen.app.cx.theme, Theme::coloured());
    let styles = styles(&screen.buffer(width, height));
    screen.app.cx.theme = plain;
    let drawn = format!("{text}\n{STYLES}\n{styles}");
    let path = Path::new(env!("CARGO_MANIFEST_DIR")).join("tests/screens").join(format!("{name}.txt"));
    if std::env::var_os("UPDATE_SCREENS").is_some() {
        std::fs::create_dir_all(path.parent().unwrap()).unwrap();
        std::fs::write(&path, format!("{drawn}\n")).unwrap();
    }
    let kept = std::fs::read_to_string(&path).unwrap_or_default();
    for (line, (drawn, kept)) in drawn.lines().zip(kept.lines()).enumerate() {
        assert_eq!(drawn, kept, "{name}, line {}: see the head of this file", line + 1);
    }
    assert_eq!(drawn.lines().count(), kept.lines().count(), "{name}: {}", path.display());
}

/// A text without what is another at each run: the folder of the case, the moment at which a report is written.
fn always_the_same(text: &str, screen: &Screen) -> String {
    let folder = screen.folder.path().file_name().unwrap().to_str().unwrap();
    let text = text.replace(folder, &"x".repeat(folder.len()));
    match text.split_once("Written 20") {
        Some((before, after)) => format!("{before}Written 2026-04-12 06:00:00{}", &after[17..]),
        None => text,
    }
}

/// Parts the text of a screen from its styles.
const STYLES: &str = "== styles: row, then columns with colour and attributes ==";

/// The runs of cells that do not look as the terminal draws by itself, row by row.
fn styles(buffer: &Buffer) -> String {
    let look = |x, y| {
        let cell = &buffer[(x, y)];
        let ground = if cell.bg == Color::Reset { String::new() } else { format!(" on {}", cell.bg) };
        let attributes = if cell.modifier.is_empty() { String::new() } else { format!(" {:?}", cell.modifier) };
        let colour = if cell.fg == Color::Reset { String::new() } else { format!("{}", cell.fg) };
        format!("{colour}{ground}{attributes}").trim().to_ascii_lowercase()
    };
    let mut rows = Vec::new();
    for y in 0..buffer.area.height {
        let mut runs: Vec<String> = Vec::new();
        let mut x = 0;
        while x < buffer.area.width {
            let style = look(x, y);
            let end = (x..buffer.area.width).find(|next| look(*next, y) != style).unwrap_or(buffer.area.width);
            if !style.is_empty() {
                runs.push(format!("{x}-{} {style}", end - 1));
            }
            x = end;
        }
        if !runs.is_empty() {
            rows.push(format!("{:>2}: {}", y + 1, runs.join(", ")));
        }
    }
    rows.join("\n")
}

/// A case with a name that does not change from run to run.
fn named(files: &[(&str, &str)]) -> Screen {
    let mut screen = Screen::of(files);
    screen.app.cx.story.title = "A night at the aquarium".into();
    screen
}

fn night() -> Screen {
    named(&[("pump-ctl/app.log", APP), ("dose-gw/bridge.log", GATEWAY)])
}

#[test]
fn nothing_in_the_case() {
    same("empty", &mut named(&[]), (100, 20));
}

#[test]
fn the_stream_at_three_sizes() {
    let mut screen = night();
    screen.keys("g]");
    for size in [(160, 40), (100, 30), (60, 20)] {
        same(&format!("stream-{}", size.0), &mut screen, size);
    }
}

#[test]
fn filters_good_empty_and_wrong() {
    let mut screen = night();
    screen.keys("flevel>=warn\n");
    same("filtered", &mut screen, (100, 20));
    screen.keys("Ffnothing-such\n");
    same("nothing-passes", &mut screen, (100, 20));
    screen.keys("F");
    screen.keys("flevel>=loud");
    same("wrong-filter", &mut screen, (100, 20));
    screen.key(KeyCode::Esc);
    screen.keys("fcomp");
    same("completing", &mut screen, (100, 20));
}

#[test]
fn menus_and_help() {
    let mut screen = night();
    screen.keys("g]v");
    assert!(matches!(screen.app.mode, Mode::Menu(_)));
    same("values", &mut screen, (100, 30));
    screen.key(KeyCode::Esc);
    screen.keys("w");
    same("walks", &mut screen, (100, 30));
}

#[test]
fn inks_selection_and_unfolded_records() {
    let mut screen = night();
    screen.keys("gmslow\ng]]Zsj");
    same("worked-in", &mut screen, (120, 30));
    screen.keys("sx");
    same("raw", &mut screen, (120, 30));
}

#[test]
fn while_it_is_read() {
    let mut screen = night();
    screen.read_in_part();
    same("reading", &mut screen, (100, 20));
    screen.keys("2");
    same("reading-box", &mut screen, (100, 20));
}

#[test]
fn held_while_it_grows() {
    let mut screen = night();
    screen.app.cx.follow(true);
    screen.app.cx.follow.as_mut().unwrap().behind = boxclock_core::case::Behind { bytes: 12_345, lines: Some(98) };
    same("held", &mut screen, (100, 20));
}

#[test]
fn damage_and_what_was_left_out() {
    let mut screen = named(&[
        ("pump-ctl/app.log", APP),
        ("pump-ctl/torn.log", "2026-04-12 02:11:00 INFO [main] dosing - a\u{0}\u{0}\u{0}b\n"),
        ("dose-gw/firmware.bin", "\u{1}\u{2}\u{3}\u{4}\u{5}\u{6}\u{7}\u{1}\u{2}\u{3}\u{4}\u{5}"),
    ]);
    screen.keys("2");
    screen.choose_source("hosts/pump-ctl/torn.log");
    same("damage", &mut screen, (120, 24));
}

#[test]
fn what_lies_over_the_screen() {
    let mut screen = night();
    screen.keys("g]#5");
    same("lookup", &mut screen, (120, 30));
    screen.key(KeyCode::Esc);
    screen.keys("?");
    same("help", &mut screen, (120, 40));
    screen.key(KeyCode::Esc);
    let finder = KeyEvent::new(KeyCode::Char('k'), KeyModifiers::CONTROL);
    screen.app.event(Event::Input(Input::Key(finder)));
    screen.keys("rail");
    same("finder", &mut screen, (100, 24));
    screen.key(KeyCode::Esc);
    // Below 100 columns the reading pane lies over the stream.
    screen.draw(80, 24);
    screen.keys("i");
    same("reading-over", &mut screen, (80, 24));
}

#[test]
fn lines_that_are_typed() {
    let mut screen = night();
    screen.keys("g]tnoonish\n");
    same("wrong-time", &mut screen, (100, 14));
    screen.key(KeyCode::Esc);
    screen.keys("pthe driver refuses");
    same("pinning", &mut screen, (100, 14));
    screen.keys("\n/re");
    same("finding", &mut screen, (100, 14));
    screen.keys("\nW");
    same("writing-where", &mut screen, (100, 14));
}

#[test]
fn the_stream_in_other_orders() {
    let mut lines = String::new();
    for second in 0..40 {
        lines.push_str(&format!("2026-04-12 02:12:{second:02} INFO [main] link - tick {second} of 40\n"));
    }
    let mut screen =
        named(&[("pump-ctl/app.log", APP), ("pump-ctl/link.log", &lines), ("dose-gw/bridge.log", GATEWAY)]);
    screen.keys("gc");
    same("runs", &mut screen, (100, 20));
    screen.keys("co");
    same("worst-first", &mut screen, (100, 20));
    screen.keys("og]TC");
    (0..40).for_each(|_| screen.key(KeyCode::Backspace));
    screen.keys("time level component:9 line\n");
    same("from-a-moment", &mut screen, (100, 20));
}

#[test]
fn a_source_without_levels() {
    let text = "pump started\nvalve 4 refused\nno error since\n\tdetail of it\npump stopped\n";
    let mut screen = named(&[("dose-gw/console.txt", text)]);
    screen.keys("gj");
    same("no-levels", &mut screen, (100, 16));
}

#[test]
fn more_hosts_than_lanes() {
    let files: Vec<(String, String)> = (1..=12)
        .map(|host| {
            let level = if host > 10 { "ERROR" } else { "INFO" };
            let text = format!("2026-04-12 02:{host:02}:00 {level} [main] valves - valve {host} answers\n");
            (format!("tank-{host:02}/app.log"), text)
        })
        .collect();
    let files: Vec<(&str, &str)> = files.iter().map(|(name, text)| (name.as_str(), text.as_str())).collect();
    let mut screen = named(&files);
    same("many-hosts", &mut screen, (120, 24));
    screen.settle_at((100, 24));
    same("many-hosts-100", &mut screen, (100, 24));
}

#[test]
fn a_chain_and_its_report() {
    let mut screen = night();
    screen.keys("g]pthe valve refuses\n]pthe gateway does not answer\nGpall is well\n");
    screen.keys("9c");
    screen.key(KeyCode::Down);
    screen.keys("ceit was never opened\ns");
    same("chain", &mut screen, (120, 30));
    screen.app.cx.logbook.set_story("title", "A night at the aquarium").unwrap();
    screen.keys("0");
    same("report", &mut screen, (120, 40));
}

#[test]
fn the_other_views() {
    let mut screen = night();
    for (key, name) in [("1", "story"), ("2", "box"), ("4", "codes"), ("9", "cause")] {
        screen.keys(key);
        same(name, &mut screen, (120, 30));
    }
    screen.keys("b");
    same("collect", &mut screen, (120, 30));
    same("collect-60", &mut screen, (60, 20));
}
