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

/// Turns of phrase that `docs/words.md` rules out, with what to write instead.
const RULED_OUT: [(&str, &str); 8] = [
    (" is no ", "is not a"),
    (" are no ", "are not"),
    (" mend", "fix"),
    ("shall ", "should, or the plain verb"),
    ("broke off", "stopped"),
    ("ook whether", "check whether"),
    ("ook what", "see what, find out what"),
    ("all the same,", "anyway"),
];

/// The phrase of the list in the strings of a line of code or data; what is looked for in logs (patterns, phrases of cards and
/// installers) is somebody else's wording.
fn ruled_out(line: &str) -> Option<(&'static str, &'static str)> {
    let line = line.split(" // ").next().unwrap_or(line);
    let ours = line.contains('"') && !line.trim_start().starts_with("//") && !line.contains("says = ");
    let right = |phrase: &str| line.contains(&format!("{phrase}longer")) || line.contains(&format!("here{phrase}"));
    RULED_OUT.into_iter().find(|(phrase, _)| ours && line.contains(phrase) && !right(phrase))
}

#[test]
fn no_string_holds_a_phrase_that_is_ruled_out() {
    assert_eq!(ruled_out("    \"{} is no box\","), Some((" is no ", "is not a")));
    assert_eq!(ruled_out("    \"it is no longer there\","), None);
    let crates = std::path::Path::new(env!("CARGO_MANIFEST_DIR")).parent().expect("the folder of the crates");
    let mut folders =
        vec![crates.join("boxclock/src"), crates.join("boxclock-tui/src"), crates.join("boxclock-core/src")];
    let mut wrong = Vec::new();
    while let Some(folder) = folders.pop() {
        for entry in std::fs::read_dir(&folder).expect("a folder of the sources") {
            let path = entry.expect("an entry").path();
            // What codes mean is said in the words of those who made them; tests say what logs say.
            if ["code", "tests", "tests.rs", "testing.rs"].iter().any(|name| path.ends_with(name)) {
                continue;
            }
            if path.is_dir() {
                folders.push(path);
                continue;
            }
            let text = std::fs::read_to_string(&path).expect("a source");
            let text = text.split("mod tests {").next().unwrap_or_default();
            for (line, number) in text.lines().zip(1..) {
                if let Some((phrase, better)) = ruled_out(line) {
                    wrong.push(format!("{}:{number}: \"{phrase}\": write {better}", path.display()));
                }
            }
        }
    }
    assert!(wrong.is_empty(), "{}", wrong.join("\n"));
}
