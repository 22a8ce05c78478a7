//! What the commands say to people: plurals, what stands in the first line, help with examples.

mod common;

use common::Home;

/// A number of one with a plural behind it, or a plural in parentheses.
fn wrong_plural(text: &str) -> Option<String> {
    let words: Vec<&str> = text.split(|letter: char| letter.is_whitespace() || "(),;:".contains(letter)).collect();
    let nouns = ["events", "lines", "files", "hosts", "sources", "bytes", "times", "links", "steps", "records", "runs"];
    let of_one = words.windows(2).find(|pair| pair[0] == "1" && nouns.contains(&pair[1])).map(|pair| pair.join(" "));
    of_one.or_else(|| text.contains("(s)").then(|| "(s)".to_owned()))
}

#[test]
fn plurals_that_are_wrong_are_found() {
    assert_eq!(wrong_plural("it has 1 events").as_deref(), Some("1 events"));
    assert_eq!(wrong_plural("event(s)").as_deref(), Some("(s)"));
    for right in ["11 events", "1 event", "1. events of the night", "0 events"] {
        assert_eq!(wrong_plural(right), None, "{right}");
    }
}

#[test]
fn what_is_said_of_the_demo_has_right_plurals() {
    let home = Home::new();
    assert_eq!(home.run(&["demo", "--into", "night.box.zip"]).status, Some(0));
    assert_eq!(home.run(&["demo", "--into", "before.box.zip", "--night-before"]).status, Some(0));
    for arguments in [
        &["sources", "night.box.zip"][..],
        &["coverage", "night.box.zip"],
        &["crashes", "night.box.zip"],
        &["installs", "night.box.zip"],
        &["findings", "night.box.zip"],
        &["cause", "night.box.zip"],
        &["codes", "night.box.zip"],
        &["checks", "night.box.zip"],
        &["cards", "night.box.zip"],
        &["drift", "night.box.zip"],
        &["check", "night.box.zip"],
        &["trail", "night.box.zip", "--of", "fr-0412-4096"],
        &["compare", "night.box.zip", "before.box.zip"],
        &["patterns", "night.box.zip", "--most", "40"],
    ] {
        let ran = home.run(arguments);
        let said = format!("{}{}", ran.out, ran.err);
        assert!(!said.trim().is_empty(), "{arguments:?} says nothing");
        assert_eq!(wrong_plural(&said), None, "{arguments:?}: {said}");
    }
}

#[test]
fn a_case_of_one_line_is_spoken_of_in_the_singular() {
    let home = Home::new();
    home.write("case/app.log", "2026-04-12 02:31:07 ERROR [main] dosing - frame fr-4096 refused\n");
    for arguments in [
        &["sources", "case"][..],
        &["coverage", "case"],
        &["patterns", "case"],
        &["codes", "case"],
        &["findings", "case"],
        &["cause", "case"],
        &["trail", "case", "--of", "fr-4096"],
        &["pack", "case", "--into", "one.box.zip"],
        &["check", "one.box.zip"],
    ] {
        let ran = home.run(arguments);
        assert!(matches!(ran.status, Some(0 | 3)), "{arguments:?}: {}", ran.err);
        let said = format!("{}{}", ran.out, ran.err);
        assert_eq!(wrong_plural(&said), None, "{arguments:?}: {said}");
    }
}

#[test]
fn a_trail_is_told_in_columns_and_one_sentence() {
    let home = Home::new();
    home.write("case/hosts/pump-ctl/app.log", "2026-04-12 02:31:07 ERROR [main] dosing - frame fr-4096 refused\n");
    let ran = home.run(&["trail", "case", "--of", "fr-4096", "--zone", "UTC"]);
    let lines: Vec<&str> = ran.out.lines().collect();
    assert!(lines[0].starts_with("2026-04-12 02:31:07.000  pump-ctl     dosing"), "{}", ran.out);
    assert!(lines[0].contains("    1 event  failed  hosts/pump-ctl/app.log:1-1"), "{}", ran.out);
    assert_eq!(lines[1], "fr-4096 went through dosing on pump-ctl. It failed at hosts/pump-ctl/app.log:1.");
}

#[test]
fn every_command_has_help_with_what_it_takes() {
    let home = Home::new();
    let help = home.run(&["--help"]);
    let commands: Vec<&str> = help
        .out
        .lines()
        .skip_while(|line| !line.starts_with("Commands:"))
        .skip(1)
        .take_while(|line| !line.is_empty())
        .filter(|line| line.starts_with("  ") && !line.starts_with("   "))
        .filter_map(|line| line.split_whitespace().next())
        .collect();
    assert!(commands.len() > 25, "{commands:?}");
    for command in commands.iter().filter(|command| **command != "help") {
        let ran = home.run(&[command, "--help"]);
        assert_eq!((ran.status, ran.err.as_str()), (Some(0), ""), "{command}");
        assert!(ran.out.contains(&format!("Usage: boxclock {command}")), "{command}: {}", ran.out);
        assert_eq!(wrong_plural(&ran.out), None, "{command}");
        // What it does begins with a capital letter and is no sentence of the program about itself.
        let first = ran.out.lines().next().unwrap_or_default();
        assert!(first.starts_with(char::is_uppercase), "{command}: {first}");
    }
}

#[test]
fn commands_that_take_a_case_show_an_example() {
    let home = Home::new();
    for command in ["events", "sources", "codes", "trail", "compare", "pack", "redact", "receive", "verify", "report"] {
        let ran = home.run(&[command, "--help"]);
        let (_, example) = ran.out.split_once("Example").unwrap_or_else(|| panic!("{command} has no example"));
        assert!(example.contains(&format!("boxclock {command}")), "{command}: {example}");
    }
}
