//! Whole screens in each state, compared with files in `tests/screens`. After a wanted change:
//! `UPDATE_SCREENS=1 cargo test -p boxclock-tui snapshots`, then look at the difference before it goes in.

use std::path::Path;

use super::*;
use crate::app::Mode;

/// Compares a screen with the file of that name.
fn same(name: &str, screen: &mut Screen, (width, height): (u16, u16)) {
    let drawn = screen.draw(width, height);
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

/// A case with a name that does not change from run to run.
fn named(files: &[(&str, &str)]) -> Screen {
    let mut screen = Screen::of(files);
    screen.app.story.title = "A night at the aquarium".into();
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
fn the_other_views() {
    let mut screen = night();
    for (key, name) in [("1", "story"), ("2", "box"), ("4", "codes"), ("9", "cause")] {
        screen.keys(key);
        same(name, &mut screen, (120, 30));
    }
    screen.keys("b");
    same("desk", &mut screen, (120, 30));
    same("desk-60", &mut screen, (60, 20));
}
