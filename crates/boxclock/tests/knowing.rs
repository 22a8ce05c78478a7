//! Fault cards and verifying, through the program.

mod common;

use common::Home;
use common::terminal::Terminal;

const NIGHT: &str = "\
2026-04-12T01:00:00Z INFO dosingd: plan nightly loaded\n\
2026-04-12T02:30:00Z ERROR dosingd: write failed: No space left on device\n\
2026-04-12T02:35:00Z ERROR dosingd: write failed: No space left on device\n";

const CARD: &str = "\
[[card]]\n\
name = \"stuck-valve\"\n\
title = \"A valve is stuck\"\n\
level = \"warning\"\n\
cause = \"Salt.\"\n\
signs = [{ says = [\"plan nightly loaded\"] }]\n\
remedies = [{ do = \"Rinse it.\" }]\n";

#[test]
fn cards_are_listed_checked_and_found() {
    let home = Home::new();
    let list = home.run(&["cards"]);
    assert_eq!(list.status, Some(0), "{}", list.err);
    assert!(list.out.lines().filter(|line| line.contains(" critical ") || line.contains(" warning ")).count() >= 60);
    assert!(list.out.contains("own cards in"), "{}", list.out);

    home.write("app.log", NIGHT);
    let found = home.run(&["cards", "app.log", "--as", "jsonl"]).json();
    assert_eq!(found.len(), 1, "{found:#?}");
    assert_eq!((&found[0]["card"], &found[0]["score"]), (&"file-system-full".into(), &0.67.into()));
    assert_eq!(found[0]["signs"][0]["evidence"][0]["line"], 2);
    assert!(found[0]["remedies"][0]["do"].as_str().unwrap().contains("df -h"));
    let text = home.run(&["cards", "app.log"]);
    assert!(
        text.out.contains("A file system is full  (file-system-full)") && text.out.contains("gone when:"),
        "{}",
        text.out
    );
    // As a finding and with the suggested cause, too.
    let findings = home.run(&["findings", "app.log", "--as", "jsonl"]).json();
    let card = findings.iter().find(|one| one["from"] == "card").unwrap();
    assert_eq!((card["level"].as_str(), card["evidence"].as_array().unwrap().len()), (Some("critical"), 2));
    assert_eq!(home.run(&["cause", "app.log", "--as", "jsonl"]).json()[0]["card"], "file-system-full");

    home.write("own.toml", CARD);
    let good = home.run(&["cards", "own.toml"]);
    assert_eq!((good.status, good.out.as_str()), (Some(0), "own.toml: good: stuck-valve\n"));
    home.write("wrong.toml", CARD.replace("says", "sais"));
    let wrong = home.run(&["cards", "own.toml", "wrong.toml"]);
    assert_eq!(wrong.status, Some(1));
    assert!(wrong.err.contains("wrong.toml") && wrong.err.contains("line 6"), "{}", wrong.err);

    // One's own, a team's, and what is wrong in them.
    home.write(".config/boxclock/cards/own.toml", CARD);
    home.write("team/wrong.toml", "[[card]]\nname = 1\n");
    let mut command = home.command();
    command.args(["cards", "app.log", "--as", "jsonl"]).env("BOXCLOCK_CARDS", home.path("team"));
    let both = common::Ran::of(&command.output().unwrap());
    assert_eq!(both.status, Some(3), "{}", both.err);
    assert!(both.err.contains("wrong.toml"), "{}", both.err);
    assert!(both.json().iter().any(|one| one["card"] == "stuck-valve"));
}

#[test]
fn cards_of_other_cases_travel_only_when_asked_for() {
    let home = Home::new();
    home.write("logs/app.log", NIGHT);
    home.write(".config/boxclock/cards/own.toml", CARD);
    let members = |name: &str| -> Vec<String> {
        let archive = zip::ZipArchive::new(std::fs::File::open(home.path(name)).unwrap()).unwrap();
        archive.file_names().map(|name| name.expect("a name").into_owned()).collect()
    };
    assert_eq!(home.run(&["pack", "--host", "pump-ctl=logs", "--into", "plain.box.zip"]).status, Some(0));
    assert!(!members("plain.box.zip").iter().any(|name| name.starts_with("cards/")));
    assert_eq!(home.run(&["pack", "--cards", "--host", "pump-ctl=logs", "--into", "with.box.zip"]).status, Some(0));
    assert!(members("with.box.zip").contains(&"cards/own.toml".to_owned()));
    // Whoever opens that box has the card; a copy for others has it no more.
    std::fs::remove_file(home.path(".config/boxclock/cards/own.toml")).unwrap();
    let cards = |name: &str| home.run(&["cards", name, "--as", "jsonl"]).out.contains("stuck-valve");
    assert!(cards("with.box.zip") && !cards("plain.box.zip"));
    let redacted = home.run(&["redact", "with.box.zip", "--into", "copy.box.zip"]);
    assert_eq!(redacted.status, Some(0), "{}", redacted.err);
    assert!(!members("copy.box.zip").iter().any(|name| name.starts_with("cards/")));
    assert_eq!(home.run(&["check", "copy.box.zip"]).status, Some(0));
}

#[test]
fn words_of_installers_travel_with_the_box() {
    let home = Home::new();
    let log = "2026-04-12T01:00:00Z INFO tank filler begins\n\
               2026-04-12T01:00:04Z INFO valve 7 gives up the ghost\n\
               2026-04-12T01:00:05Z INFO tank filler leaves\n";
    home.write("logs/filler.log", log);
    let words = "[[installer]]\nname = \"filler\"\nsigns = [\"tank filler begins\", \"tank filler leaves\"]\n\
                 [[installer.phrase]]\nrole = \"start\"\npattern = \"tank filler begins\"\n\
                 [[installer.phrase]]\nrole = \"failed\"\npattern = \"gives up the ghost\"\n";
    home.write(".config/boxclock/installers/filler.toml", words);
    assert_eq!(home.run(&["pack", "--host", "pump-ctl=logs", "--into", "night.box.zip"]).status, Some(0));
    std::fs::remove_file(home.path(".config/boxclock/installers/filler.toml")).unwrap();
    let runs = home.run(&["installs", "night.box.zip", "--as", "jsonl"]).json();
    assert_eq!(runs.len(), 1, "{runs:#?}");
    assert_eq!((&runs[0]["outcome"], &runs[0]["first_failure"]["line"]), (&"failed".into(), &2.into()));
    // The log alone says nothing to the program.
    assert!(home.run(&["installs", "logs", "--as", "jsonl"]).json().is_empty());
    // A copy for others has the words, too: they are no evidence.
    assert_eq!(home.run(&["redact", "night.box.zip", "--into", "copy.box.zip"]).status, Some(0));
    assert_eq!(home.run(&["installs", "copy.box.zip", "--as", "jsonl"]).json().len(), 1);
}

#[test]
fn no_card_is_made_without_a_chain() {
    let home = Home::new();
    home.write("app.log", NIGHT);
    let made = home.run(&["cards", "app.log", "--make", "x"]);
    assert_eq!(made.status, Some(1));
    assert!(made.err.contains("no chain"), "{}", made.err);
}

#[test]
fn verify_says_whether_it_is_gone_by_its_exit_status() {
    let home = Home::new();
    home.write("night/hosts/pump-ctl/app.log", NIGHT);
    home.write("again/hosts/pump-ctl/app.log", NIGHT.replace("04-12", "04-13"));
    let healthy = "2026-04-13T01:00:00Z INFO dosingd: plan nightly loaded\n2026-04-13T03:00:00Z INFO dosingd: dosed\n";
    home.write("after/hosts/pump-ctl/app.log", healthy);
    home.write("other/hosts/pump-ctl/app.log", healthy.replace("dosingd", "lamp"));
    let fixed = home.run(&["verify", "night", "--after", "after", "--as", "jsonl"]);
    assert_eq!(fixed.status, Some(0), "{} {}", fixed.out, fixed.err);
    let lines = fixed.json();
    assert_eq!((&lines[0]["part"], &lines[0]["state"]), (&"symptom".into(), &"gone".into()));
    assert_eq!(lines.last().unwrap()["verdict"], "fixed");
    let again = home.run(&["verify", "night", "--after", "again", "--keep"]);
    assert_eq!(again.status, Some(1));
    assert!(again.out.contains("not-fixed: ") && again.err.contains("still there"), "{} {}", again.out, again.err);
    let silent = home.run(&["verify", "night", "--after", "other"]);
    assert_eq!(silent.status, Some(1));
    assert!(silent.out.contains("nothing of dosingd"), "{}", silent.out);
    // What was kept is in the report.
    home.run(&["report", "night", "--into", "night.md"]);
    let report = std::fs::read_to_string(home.path("night.md")).unwrap();
    assert!(report.contains("## After the fix") && report.contains("**not-fixed**"), "{report}");
    assert_eq!(home.run(&["verify", "night"]).status, Some(2));
}

#[test]
fn a_card_of_the_demo_knows_the_same_failure_at_another_site() {
    let home = Home::new();
    let terminal = Terminal::start(&home, "card", (160, 46), "demo");
    terminal.see(&["41\u{a0}408 events"]);
    terminal.keys(&["9"]);
    terminal.see(&["5 suggestions", "This is known: ", "restart-swallowed"]);
    terminal.keys(&["a"]);
    terminal.see(&["4 links, 0 other pins"]);
    // The remedies of the card that fits the chain, one of them done.
    terminal.keys(&["r"]);
    terminal.see(&["added to the checklist", "Restart the machine at a good moment"]);
    terminal.keys(&["m"]);
    terminal.see(&["the name of the card"]);
    terminal.keys(&["Enter"]);
    terminal.see(&["Card written: "]);
    terminal.keys(&["q"]);
    terminal.see(&["ended with 0"]);

    assert_eq!(home.run(&["demo", "--into", "second.box.zip", "--elsewhere"]).status, Some(0));
    let found = home.run(&["cards", "second.box.zip", "--as", "jsonl"]).json();
    let card = found.iter().find(|one| one["card"] == "saltmere-dosing-alarms-stopped").expect("the card fits");
    assert_eq!(card["unmet"], 0, "{card:#?}");
    assert_eq!(card["remedies"][0]["do"], "Restart the machine at a good moment.");
    let root = &card["signs"][0]["evidence"][0];
    assert!(root["source"].as_str().unwrap().ends_with("dosing-seat/Temp/console-setup.log"), "{root}");
    // Nothing of the names at the first site is left in it.
    let text =
        std::fs::read_to_string(home.path(".config/boxclock/cards/saltmere-dosing-alarms-stopped.toml")).unwrap();
    let signs = text.split_once("signs = ").unwrap().1;
    for name in ["pump-ctl", "keeper-desk", "dose-gw", "serbridge", "0412"] {
        assert!(!signs.contains(name), "{name}:\n{text}");
    }

    // Without arguments the program shows what was opened before.
    let terminal = Terminal::start(&home, "shelf", (160, 46), "");
    terminal.see(&["Opened before", "Saltmere dosing alarms stopped", "version in use stays 1.4.0"]);
    terminal.keys(&["Enter"]);
    terminal.see(&["41\u{a0}408 events"]);
    terminal.keys(&["q"]);
    terminal.see(&["ended with 0"]);
}
