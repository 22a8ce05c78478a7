//! What ties a change to the trouble, and what only seems to.

use super::*;

const TANKS: &str = "ERROR dosingd: plan-0412: tank 7 not dosed: lock on readings not had within 60 s";

/// The suggestions for a night of the dosing service with this trouble, and these lines on the other programs.
fn told(trouble: &'static str, others: &[Program<'_>]) -> Vec<Suggestion> {
    let trouble = refusals(trouble);
    let mut programs: Vec<Program<'_>> = vec![("dosingd", "pump-ctl/opt/dosingd/dosing.log", &trouble)];
    programs.extend_from_slice(others);
    night(&programs)
}

#[test]
fn two_plain_words_in_a_row_tie_what_each_alone_does_not() {
    let job = |what: &'static str| {
        told(
            TANKS,
            &[("plan", "panel/jobs.log", &[(8000, "INFO plan: quarter-close added by olof, daily"), (8720, what)])],
        )
    };
    let tied = job("INFO plan: quarter-close: share lock on readings taken");
    assert!(tied[0].provable && tied[0].chain[0].text.contains("added by olof"), "{tied:#?}");
    let why = &tied[0].chain.last().unwrap().why;
    assert!(why.contains("both speak of lock and reading"), "{why}");
    let apart = job("INFO plan: quarter-close: readings looked at, lock file seen");
    let way = apart.iter().flat_map(|one| &one.chain).find(|link| link.why.contains("both speak of lock"));
    assert!(way.is_none(), "{apart:#?}");
}

#[test]
fn what_a_program_says_all_the_time_ties_none_of_its_lines() {
    // "fed tank" stands in each line of the service: a line about a tank's label is not tied to the trouble by it.
    let label = (8000, "INFO dosingd: tank labels saved by olof");
    let mut lines = refusals("ERROR dosingd: tank 7 dark since 60 s");
    lines.push(label);
    lines.sort_unstable();
    let found = night(&[("dosingd", "pump-ctl/opt/dosingd/dosing.log", &lines)]);
    assert!(!found[0].provable, "{found:#?}");
    let labels = found.iter().find(|one| one.chain[0].text.contains("labels"));
    assert!(labels.is_none_or(|one| !one.chain[1].why.contains("tank")), "{labels:#?}");
}

#[test]
fn a_way_of_names_alone_is_no_proof() {
    // The update of a program, then unrelated trouble of it that its kind of change could have, then a line that names its log.
    let trouble = refusals("ERROR dosingd: plan-0412: tank 7: front does not answer");
    let found = night(&[
        ("dosingd", "pump-ctl/opt/dosingd/dosing.log", &trouble),
        ("gusset", "panel/var/log/gusset/front.log", &[(8700, "ERROR gusset: picture not shown: unsupported brand")]),
        ("apt", "panel/system.log", &[(7600, "INFO apt: status installed gusset:all 5.1")]),
    ]);
    assert!(!found[0].provable, "{found:#?}");
}

#[test]
fn a_small_step_of_the_clock_is_no_change() {
    assert_eq!(wording::change("System clock wrong by 0.0050 seconds"), (0.0, wording::Class::Routine));
    assert!(wording::change("System clock wrong by 340.1 seconds").0 > 0.8);
}

#[test]
fn a_link_that_comes_back_slower_has_not_recovered() {
    let flap = |up: &'static str| {
        let copy = (8650, "WARN copier: copy at 46 % after 460 min, tables held");
        // Rare lines that mean nothing, so that what is rare here is rare among many.
        let rare: Vec<(u32, &'static str)> = [
            "INFO panel: lamp four says hello",
            "INFO panel: a moth sat on the lens",
            "INFO panel: blinds half drawn",
            "INFO panel: colour of the day is teal",
            "INFO panel: nobody asked for soup",
            "INFO panel: bell rung thrice",
            "INFO panel: clerk went home",
            "INFO panel: radio plays",
            "INFO panel: rain on the roof",
        ]
        .iter()
        .zip(0..)
        .map(|(line, at)| (1000 + at * 700, *line))
        .collect();
        told(
            "ERROR dosingd: plan-0412: tank 7 not dosed: tables held for copy",
            &[
                ("kernel", "pump-ctl/kern.log", &[(3000, "INFO kernel: enp3s0: Link is Down"), (3020, up)]),
                ("copier", "pump-ctl/copy.log", &[copy]),
                ("panel", "panel/panel.log", &rare),
            ],
        )
    };
    let slower = flap("INFO kernel: enp3s0: Link is Up - 100Mbps/Half - flow control off");
    let is_link = |one: &Suggestion| one.provable && one.chain[0].text.contains("Link is Up");
    assert!(slower.iter().any(is_link), "{slower:#?}");
    let same = flap("INFO kernel: enp3s0: Link is Up - 1Gbps/Full - flow control off");
    assert!(!is_link(&same[0]), "{same:#?}");
}

#[test]
fn who_lost_a_group_and_is_named_in_no_trouble_is_no_root() {
    let trouble = "ERROR dosingd: plan-0412: tank 7 not dosed: open /srv/ledger/plan: EACCES";
    let group = |line: &'static str| told(trouble, &[("gpasswd", "pump-ctl/auth.log", &[(5000, line)])]);
    let named = group("INFO gpasswd: user dosing removed by root from group 'ledger'");
    assert!(named[0].provable && named[0].chain[0].text.contains("ledger"), "{named:#?}");
    let other = group("INFO gpasswd: user anna removed by root from group 'plugdev'");
    assert!(!other[0].provable, "{other:#?}");
    let against = other.iter().find(|one| one.chain[0].text.contains("plugdev"));
    assert!(against.is_none_or(|one| one.reasons.iter().any(|reason| reason.contains("not named"))), "{against:#?}");
}

#[test]
fn programs_that_are_there_to_make_changes_are_known() {
    assert!(wording::change_by("useradd").0 > 0.8);
    assert_eq!(wording::change_by("dosingd").1, wording::Class::None);
    assert_eq!(wording::change_by("my-useradd-report").1, wording::Class::None);
}

#[test]
fn what_was_not_carried_through_says_more_than_that_something_was_changed() {
    assert_eq!(wording::change("Setting up dosingd (5.1) ... 0 of 64 done").1, wording::Class::Incomplete);
}
