//! What lines are taken for, and what may be a root by that: a table of lines of all trades, and the rules that stand on it.

use super::*;
use crate::cause::wording::Class;

const LINES: &str = include_str!("../../../tests/data/cause/lines.tsv");

fn lines_of(kind: &'static str) -> impl Iterator<Item = &'static str> {
    LINES.lines().filter_map(move |line| line.split_once('\t').filter(|(of, _)| *of == kind)).map(|(_, line)| line)
}

#[test]
fn lines_that_tell_of_a_change() {
    let missed: Vec<&str> = lines_of("change").filter(|line| wording::change(line).0 < 0.6).collect();
    assert!(lines_of("change").count() > 200);
    assert!(missed.is_empty(), "{missed:#?}");
}

#[test]
fn lines_that_tell_of_trouble_whatever_their_level() {
    let missed: Vec<&str> = lines_of("trouble").filter(|line| !wording::tells_of_trouble(line)).collect();
    assert!(lines_of("trouble").count() > 150);
    assert!(missed.is_empty(), "{missed:#?}");
}

#[test]
fn lines_of_an_ordinary_day() {
    let of = |line: &str| (wording::change(line).1, wording::tells_of_trouble(line));
    let is_told = |class: Class| matches!(class, Class::Change | Class::State | Class::Incomplete | Class::Person);
    let wrong: Vec<&str> = lines_of("plain").filter(|line| is_told(of(line).0) || of(line).1).collect();
    assert!(lines_of("plain").count() >= 50);
    assert!(wrong.is_empty(), "{wrong:#?}");
}

#[test]
fn what_is_not_done_yet_is_no_change() {
    for (line, class) in [
        ("tanks are converted", Class::Change),
        ("tanks wait until converted", Class::None),
        ("plan is kept unless withdrawn", Class::None),
        ("plan withdrawn", Class::Change),
        ("bridge needs to be unplugged before that", Class::None),
    ] {
        assert_eq!(wording::change(line).1, class, "{line}");
    }
    // What was left out is told so too.
    assert_eq!(wording::change("tanks not converted, 0 of 40 done").1, Class::Incomplete);
}

#[test]
fn what_happened_once_and_names_the_trouble_is_a_root_whatever_its_words() {
    let odd = |line: &'static str| {
        let trouble = refusals("ERROR dosingd: plan-0412: tank 7 not dosed: feed.bridge.example knows no plan-0412");
        night(&[("dosingd", "pump-ctl/opt/dosingd/dosing.log", &trouble), ("zoned", "panel/zone.log", &[(8580, line)])])
    };
    let named = odd("INFO zoned: feed.bridge.example: ten four out, ten nine in");
    assert!(named[0].provable && named[0].chain[0].text.contains("ten nine in"), "{named:#?}");
    assert!(named[0].chain[1].why.contains("feed.bridge.example"), "{named:#?}");
    let other = odd("INFO zoned: lamps.panel.test: ten four out, ten nine in");
    assert!(!other[0].provable, "{other:#?}");
}

#[test]
fn what_comes_on_healthy_days_too_is_not_what_happened_once() {
    let twice = |line: &'static str| [(1200, line), (8580, line)];
    let trouble = refusals("ERROR dosingd: plan-0412: tank 7 not dosed: feed.bridge.example knows no plan-0412");
    let line = twice("INFO zoned: feed.bridge.example: ten four out, ten nine in");
    let found = night(&[("dosingd", "pump-ctl/opt/dosingd/dosing.log", &trouble), ("zoned", "panel/zone.log", &line)]);
    assert!(!found[0].provable, "{found:#?}");
}

#[test]
fn a_change_and_a_start_and_at_once_something_that_lasts() {
    let env = |at: u32| {
        let trouble = refusals("ERROR dosingd: plan-0412: tank 7 not dosed: store says read-only");
        let begins = trouble[0].0;
        let lines = [
            (begins - at - 30, "INFO settle: /srv/dosingd/env: contents changed"),
            (begins - at, "INFO systemd: Started dosingd"),
        ];
        night(&[("dosingd", "pump-ctl/opt/dosingd/dosing.log", &trouble), ("systemd", "pump-ctl/system.log", &lines)])
    };
    let soon = env(9);
    assert!(soon[0].provable && soon[0].chain[0].text.contains("env: contents changed"), "{soon:#?}");
    assert_eq!(soon[0].chain.len(), 3, "{soon:#?}");
}

#[test]
fn who_did_something_is_not_what_it_was_done_to() {
    let trouble = refusals("ERROR dosingd: plan-0412: tank 7 refused by order of wrook");
    let found = night(&[
        ("dosingd", "pump-ctl/opt/dosingd/dosing.log", &trouble),
        (
            "sudo",
            "panel/auth.log",
            &[
                (4000, "INFO sudo: wrook : TTY=pts/0 ; PWD=/srv ; USER=root ; COMMAND=/usr/bin/ls /srv"),
                (8000, "INFO sudo: wrook: walked past, all lamps green"),
            ],
        ),
    ]);
    let walk = found.iter().find(|one| one.provable && one.chain[0].text.contains("walked past"));
    assert!(walk.is_none(), "{found:#?}");
}

#[test]
fn a_word_of_all_programs_ties_what_one_program_seldom_says() {
    let set = |program: &'static str, file: &'static str, line: &'static str| {
        let trouble = refusals("WARN dosingd: plan-0412: tank 7: rule 9021 bites");
        let others: [Program<'_>; 1] = [(program, file, &[(3000, line)])];
        let mut programs: Vec<Program<'_>> = vec![("dosingd", "pump-ctl/opt/dosingd/dosing.log", &trouble)];
        programs.extend_from_slice(&others);
        night(&programs)
    };
    let same = set("dosingd", "pump-ctl/opt/dosingd/rules.log", "INFO dosingd: rule set 44 in force");
    let way = same.iter().find(|one| one.chain[0].text.contains("in force"));
    assert!(way.is_some_and(|one| one.chain[1].why.contains("rule")), "{same:#?}");
}

#[test]
fn a_change_in_the_program_that_another_complains_of_minutes_later() {
    let secret = |at: u32| {
        let trouble = refusals("ERROR dosingd: plan-0412: tank 7 not dosed: word of ledgerd does not match");
        let line = (trouble[0].0 - at, "INFO ledgerd: signing secret regenerated");
        night(&[("dosingd", "pump-ctl/opt/dosingd/dosing.log", &trouble), ("ledgerd", "panel/ledger.log", &[line])])
    };
    let soon = secret(100);
    assert!(soon[0].provable && soon[0].chain[0].text.contains("secret"), "{soon:#?}");
    let hours_before = secret(7000);
    assert!(!hours_before[0].provable, "{hours_before:#?}");
}

#[test]
fn two_that_begin_to_fail_at_one_moment_go_together() {
    let leases = |later: u32| {
        let trouble = refusals("ERROR dosingd: plan-0412: tank 7 silent since 60 s");
        let begins = trouble[0].0;
        let mut lines: Vec<(u32, &str)> =
            (0..40).map(|at| (begins - 20 + later + at * 28, "ERROR leased: nobody has a free lease")).collect();
        lines.push((4000, "INFO leased: range 10.3.0.20 to 10.3.0.200 replaced by 10.3.0.20 to 10.3.0.60"));
        lines.sort_unstable();
        night(&[("dosingd", "pump-ctl/opt/dosingd/dosing.log", &trouble), ("leased", "panel/lease.log", &lines)])
    };
    let way = |found: &[Suggestion]| {
        let links = found.iter().flat_map(|one| one.chain.clone()).map(|link| link.why);
        links.filter(|why| why.contains("began to fail within a minute")).count()
    };
    assert!(way(&leases(0)) > 0, "{:#?}", leases(0));
    // A quarter of an hour before is another matter.
    let apart = leases(900);
    assert_eq!(way(&apart), 0, "{apart:#?}");
}

#[test]
fn the_folder_of_a_program_is_as_good_as_its_name() {
    // Someone edits in the folder of the service; that alone ties nothing to a file of it that is gone.
    let trouble = refusals("ERROR dosingd: plan-0412: tank 7 not dosed: cannot load /opt/dosingd/plug/scale.so");
    let edit = (8000, "INFO sudo: anna : TTY=pts/0 ; PWD=/opt/dosingd ; USER=root ; COMMAND=/usr/bin/vi footer.txt");
    let found =
        night(&[("dosingd", "pump-ctl/opt/dosingd/dosing.log", &trouble), ("sudo", "pump-ctl/auth.log", &[edit])]);
    assert!(!found[0].provable, "{found:#?}");
    let file =
        (8000, "INFO sudo: anna : TTY=pts/0 ; PWD=/root ; USER=root ; COMMAND=/usr/bin/rm /opt/dosingd/plug/scale.so");
    let found =
        night(&[("dosingd", "pump-ctl/opt/dosingd/dosing.log", &trouble), ("sudo", "pump-ctl/auth.log", &[file])]);
    assert!(found[0].provable && found[0].chain[0].text.contains("scale.so"), "{found:#?}");
}
