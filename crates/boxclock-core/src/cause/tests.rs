//! Suggestions that are right, and honest.

use proptest::prelude::*;

use super::*;
use crate::testing::case;

mod days;
mod lines;
mod ties;

fn healthy(component: &str, host_file: &str, lines: &[(u32, &str)]) -> (String, String) {
    let mut log: Vec<(u32, String)> =
        (0..2000).map(|at| (at * 5, format!("INFO {component}: fed tank {} in {} ms", at % 9, at % 70))).collect();
    log.extend(lines.iter().map(|(at, text)| (*at, (*text).to_owned())));
    log.sort_by_key(|(at, _)| *at);
    let text = log
        .iter()
        .map(|(at, text)| format!("2026-04-12T{:02}:{:02}:{:02}Z {text}\n", at / 3600, at / 60 % 60, at % 60))
        .collect();
    (host_file.to_owned(), text)
}

#[test]
fn a_change_that_names_what_then_fails_leads_and_a_case_without_one_says_so() {
    let changed = [
        healthy(
            "dosingd",
            "pump-ctl/dosing.log",
            &[
                (9000, "ERROR dosingd: cannot write /srv/plan/night.db: Permission denied"),
                (9100, "ERROR dosingd: dosing stopped, no plan night.db"),
            ],
        ),
        healthy(
            "audit",
            "pump-ctl/auth.log",
            &[(
                8800,
                "INFO audit: anna : TTY=pts/0 ; PWD=/srv ; USER=root ; COMMAND=/usr/bin/chown -R web /srv/plan/night.db",
            )],
        ),
    ];
    let files: Vec<(&str, &str)> = changed.iter().map(|(name, text)| (name.as_str(), text.as_str())).collect();
    let of_case = case(&files);
    let found = of_case.view().run(&CauseAnalysis, &Work::default()).unwrap();
    let first = found.iter().find(|one| one.provable).unwrap();
    assert!(first.chain[0].text.contains("chown"), "{found:#?}");
    assert!(first.chain.len() >= 2 && first.chain[1].why.contains("both name"));
    let quiet = [healthy(
        "dosingd",
        "pump-ctl/dosing.log",
        &[(9000, "ERROR dosingd: gateway does not answer"), (9100, "ERROR dosingd: dosing stopped")],
    )];
    let files: Vec<(&str, &str)> = quiet.iter().map(|(name, text)| (name.as_str(), text.as_str())).collect();
    let of_case = case(&files);
    let found = of_case.view().run(&CauseAnalysis, &Work::default()).unwrap();
    assert!(!found[0].provable, "{found:#?}");
    assert!(found[0].json()["evidence_ends"]["line"].as_u64().is_some());
    let nothing = [healthy("dosingd", "pump-ctl/dosing.log", &[])];
    let files: Vec<(&str, &str)> = nothing.iter().map(|(name, text)| (name.as_str(), text.as_str())).collect();
    assert!(case(&files).view().run(&CauseAnalysis, &Work::default()).unwrap().is_empty());
}

const STORY: &str = r#"{"title":"No dosing","happened":"somebody edited the panel at three","since":"2026-04-12T02:30:00Z",
"reported":"2026-04-12T02:46:40Z","affected":["tank 7","plan-0412"],"zone":"+00:00"}"#;

/// A program: its name, its log, and its lines of that night by the second of the day.
type Program<'a> = (&'a str, &'a str, &'a [(u32, &'a str)]);

/// The suggestions for a night: these lines among healthy ones of each program, told as [`STORY`].
fn night(programs: &[Program<'_>]) -> Vec<Suggestion> {
    let mut files: Vec<(String, String)> =
        programs.iter().map(|(component, file, lines)| healthy(component, file, lines)).collect();
    files.push(("story.json".into(), STORY.into()));
    let files: Vec<(&str, &str)> = files.iter().map(|(name, text)| (name.as_str(), text.as_str())).collect();
    case(&files).view().run(&CauseAnalysis, &Work::default()).unwrap().to_vec()
}

/// Trouble with tank 7 from a moment on, every half a minute.
fn refusals(text: &'static str) -> Vec<(u32, &'static str)> {
    (0..40).map(|at| (8800 + at * 29, text)).collect()
}

const NO_RIGHTS: &str = "ERROR dosingd: plan-0412: tank 7 not dosed: cannot open /srv/plan/night.db: Permission denied";
const CHOWN: (u32, &str) =
    (3000, "INFO sudo: anna : TTY=pts/0 ; PWD=/srv ; USER=root ; COMMAND=/usr/bin/chown -R web /srv/plan");

#[test]
fn a_change_close_to_the_symptom_is_not_the_root_for_being_close() {
    let upgrade = (8500, "INFO apt: package[motd-news]: upgraded to 2.1");
    let edit = (8600, "INFO sudo: olof : TTY=pts/1 ; PWD=/etc ; USER=root ; COMMAND=/usr/bin/vi motd");
    let found = night(&[
        ("dosingd", "pump-ctl/opt/dosingd/dosing.log", &refusals(NO_RIGHTS)),
        ("panel", "pump-ctl/system.log", &[CHOWN, upgrade, edit]),
    ]);
    assert!(found[0].provable && found[0].chain[0].text.contains("chown"), "{found:#?}");
    assert!(found[0].chain.last().unwrap().text.contains("tank 7"), "{found:#?}");
    assert!(found[0].chain[1..].iter().all(|link| !link.why.is_empty()));
}

#[test]
fn what_went_away_and_came_back_is_no_root() {
    let flap = [(8700, "WARN link: eth0: link is down"), (8705, "INFO link: eth0: link is up")];
    let found = night(&[
        ("dosingd", "pump-ctl/opt/dosingd/dosing.log", &refusals(NO_RIGHTS)),
        ("panel", "pump-ctl/system.log", &[CHOWN, flap[0], flap[1]]),
    ]);
    assert!(found[0].chain[0].text.contains("chown"), "{found:#?}");
}

#[test]
fn the_name_of_a_program_alone_proves_nothing() {
    let trouble = refusals("ERROR dosingd: plan-0412: tank 7 not dosed: nothing heard from the valve");
    let after_upgrade_at = |second: u32| {
        night(&[
            ("dosingd", "pump-ctl/opt/dosingd/dosing.log", &trouble),
            ("panel", "pump-ctl/system.log", &[(second, "INFO apt: package[dosingd]: upgraded to 2.1")]),
        ])
    };
    // Much is done to a program; that one of it came five minutes before the trouble is no proof.
    let found = after_upgrade_at(8500);
    assert!(!found[0].provable, "{found:#?}");
    assert!(found[0].chain[0].text.contains("nothing heard"), "{found:#?}");
    assert!(found[1].provable && found[1].chain[0].text.contains("upgraded"), "it is still worth a look: {found:#?}");
    // What begins within moments of it is more than a name.
    let found = after_upgrade_at(8790);
    assert!(found[0].provable && found[0].chain[0].text.contains("upgraded"), "{found:#?}");
}

#[test]
fn what_recurs_on_healthy_days_is_no_root() {
    // Four days; the owner is set anew each noon, and all goes on. The mode is changed once.
    let command = |who: &str, what: &str| {
        format!("INFO sudo: {who} : TTY=pts/0 ; PWD=/srv ; USER=root ; COMMAND=/usr/bin/{what} /srv/plan")
    };
    let mut lines: Vec<String> = Vec::new();
    for day in 9..=12 {
        for at in 0..1400 {
            let (hour, minute) = (at / 60, at % 60);
            lines.push(format!(
                "2026-04-{day:02}T{hour:02}:{minute:02}:00Z INFO dosingd: fed tank {} in {at} ms",
                at % 9
            ));
        }
        // Two of four days, so that it is as rare as what is worth a look.
        if day % 2 == 0 {
            lines.push(format!("2026-04-{day:02}T17:55:30Z {}", command("olof", "chown -R web")));
        }
    }
    lines.push(format!("2026-04-12T17:50:30Z {}", command("anna", "chmod 700")));
    for at in 0..40 {
        lines.push(format!("2026-04-12T{:02}:{:02}:30Z {NO_RIGHTS}", 19 + at / 20, at % 20 * 3));
    }
    lines.sort();
    let story = STORY.replace("02:30:00Z", "19:00:00Z").replace("02:46:40Z", "21:00:00Z");
    let text = lines.join("\n") + "\n";
    let of_case = case(&[("pump-ctl/dosing.log", text.as_str()), ("story.json", story.as_str())]);
    let found = of_case.view().run(&CauseAnalysis, &Work::default()).unwrap();
    assert!(found[0].provable && found[0].chain[0].text.contains("chmod 700"), "{found:#?}");
    let repeated = found.iter().find(|one| one.chain[0].text.contains("chown"));
    assert!(repeated.is_none_or(|one| one.score < 0.8 * found[0].score), "{found:#?}");
}

#[test]
fn a_value_that_is_another_from_there_on_is_part_of_the_chain() {
    let quota: Vec<(u32, String)> = (0..90)
        .map(|at| (100 + at * 100, format!("INFO feeder: gauge read, limit={}", if at < 60 { 600 } else { 20 })))
        .collect();
    let mut lines: Vec<(u32, &str)> = quota.iter().map(|(at, text)| (*at, text.as_str())).collect();
    lines.push((6095, "INFO feeder: anna set gauge limit from 600 to 20"));
    let refused: Vec<(u32, &str)> = (0..30)
        .map(|at| (8800 + at * 30, "ERROR dosingd: plan-0412: tank 7 not dosed: gauge limit exceeded"))
        .collect();
    let found = night(&[
        ("feeder", "dose-gw/opt/feeder/feed.log", &lines),
        ("dosingd", "pump-ctl/opt/dosingd/dosing.log", &refused),
    ]);
    assert!(found[0].chain[0].text.contains("from 600 to 20"), "{found:#?}");
    assert!(found[0].chain[0].place.source.ends_with("dose-gw/opt/feeder/feed.log"));
}

/// Four days of a program that closes its day at nine in the evening.
fn closing_days(last_hour: u32) -> String {
    let mut log = String::new();
    for day in 9..=12 {
        for at in 0..600 {
            let (hour, minute) = (at * 2 / 60, at * 2 % 60);
            log.push_str(&format!(
                "2026-04-{day:02}T{hour:02}:{minute:02}:00Z INFO planner: plan {at} kept in {} ms\n",
                at % 70
            ));
        }
        let hour = if day == 12 { last_hour } else { 20 };
        log.push_str(&format!(
            "2026-04-{day:02}T{hour:02}:00:0{}Z INFO planner: day closed, {} frames handed to gateway\n",
            day - 8,
            300 + day
        ));
    }
    log
}

#[test]
fn a_job_at_another_hour_leads_back_to_the_zone_that_was_changed() {
    let planner = closing_days(22);
    let system: String = (0..2000)
        .map(|at| format!("2026-04-12T{:02}:{:02}:00Z INFO audit: watched tank {}\n", at / 100, at % 60, at % 9))
        .chain(["2026-04-12T20:00:30Z INFO audit: anna : TTY=pts/0 ; PWD=/root ; USER=root ; COMMAND=/usr/bin/timedatectl set-timezone Etc/UTC\n".to_owned()])
        .collect();
    let gateway: String =
        (0..2000)
            .map(|at| format!("2026-04-12T{:02}:{:02}:10Z INFO gateway: read level {}\n", at / 100, at % 60, at % 70))
            .chain((0..6).map(|at| {
                format!("2026-04-12T22:0{at}:30Z ERROR gateway: 312 frames refused, day was closed too late\n")
            }))
            .collect();
    let of_case = case(&[
        ("pump-ctl/planner.log", &planner),
        ("pump-ctl/audit.log", &system),
        ("gw-harbour/gateway.log", &gateway),
    ]);
    let found = of_case.view().run(&CauseAnalysis, &Work::default()).unwrap();
    let first = &found[0];
    assert!(first.provable && first.chain[0].text.contains("set-timezone"), "{found:#?}");
    let why = first.chain.iter().map(|link| link.why.as_str()).collect::<Vec<_>>().join(" / ");
    assert!(why.contains("it came 2h") && why.contains("later in the day than the 3 times before"), "{why}");
}

#[test]
fn what_the_story_says_was_tried_in_vain_is_held_against_it() {
    let files = [healthy(
        "dosingd",
        "pump-ctl/dosing.log",
        &[
            (8000, "INFO dosingd: package bridge-plan upgraded from 40 to 41"),
            (9000, "ERROR dosingd: frame refused, bridge-plan not accepted"),
            (9100, "ERROR dosingd: frame refused, bridge-plan not accepted"),
        ],
    )];
    let files: Vec<(&str, &str)> = files.iter().map(|(name, text)| (name.as_str(), text.as_str())).collect();
    let suggested = |happened: &str| {
        let of_case = case(&files);
        let mut view = of_case.view();
        let mut opened = (*view.case).clone();
        opened.story.happened = happened.to_owned();
        view.case = std::sync::Arc::new(opened);
        let found = view.run(&CauseAnalysis, &Work::default()).unwrap();
        let of_package = found.iter().find(|one| one.chain[0].text.contains("upgraded")).cloned();
        of_package.expect("it is suggested")
    };
    let blamed = suggested("All frames are refused.");
    let tried = suggested("All frames are refused. We put the package back to 40: no difference.");
    assert!(tried.score < blamed.score, "{} {}", tried.score, blamed.score);
    assert!(tried.summary.contains("against it: the story says"), "{}", tried.summary);
    assert!(!blamed.summary.contains("against it"), "{}", blamed.summary);
}

#[test]
fn an_edit_of_another_of_the_same_kind_is_not_blamed() {
    let trouble = refusals("ERROR bridge: plan-0412: tank 7 not dosed: line-a does not answer");
    let edited = |file: &str| {
        let edit = format!("INFO sudo: anna : TTY=pts/0 ; PWD=/etc/bridge ; USER=root ; COMMAND=/usr/bin/vi {file}");
        night(&[
            ("bridge", "pump-ctl/opt/bridge/bridge.log", &trouble),
            ("panel", "pump-ctl/system.log", &[(8500, edit.as_str()), (8560, "INFO systemd: Reloaded bridge.service")]),
        ])
    };
    let own = edited("line-a.conf");
    assert!(own[0].provable && own[0].chain[0].text.contains("line-a.conf"), "{own:#?}");
    let other = edited("line-c.conf");
    assert!(!other[0].provable, "{other:#?}");
    let suggested = other.iter().find(|one| one.chain[0].text.contains("line-c.conf"));
    assert!(suggested.is_none_or(|one| one.summary.contains("not named in the trouble")), "{other:#?}");
}

#[test]
fn a_person_s_command_follows_from_no_other_change() {
    let found = night(&[
        ("dosingd", "pump-ctl/opt/dosingd/dosing.log", &refusals(NO_RIGHTS)),
        (
            "panel",
            "pump-ctl/system.log",
            &[
                (2000, "INFO dosingd: upgraded bundled fonts to 2026.4"),
                (2500, "INFO apt: package[dosingd]: upgraded to 2.1"),
                CHOWN,
            ],
        ),
    ]);
    assert!(found[0].chain[0].text.contains("chown"), "{found:#?}");
    let follows = |one: &Suggestion| one.chain.iter().position(|link| link.text.contains("chown"));
    assert!(found.iter().filter(|one| one.provable).all(|one| follows(one).is_none_or(|at| at == 0)), "{found:#?}");
}

#[test]
fn the_setting_that_a_job_says_is_part_of_what_went_wrong() {
    let output = |last: &str| -> String {
        (9..=12)
            .map(|day| {
                let setting = if day == 12 { last } else { "LANG=C, via cron" };
                format!("--- level run {day} Apr 2026 01:00:01 UTC ({setting})\nread 40 tanks\nsent 40 levels\n")
            })
            .collect()
    };
    let suggested = |last: &str| {
        let trouble: Vec<(u32, &str)> = (0..40)
            .map(|at| (8800 + at * 29, "ERROR dosingd: tank 7 not dosed: plan-0412 and level differ by a factor"))
            .collect();
        let (name, text) = healthy("dosingd", "pump-ctl/opt/dosingd/dosing.log", &trouble);
        let (other, system) = healthy(
            "panel",
            "pump-ctl/system.log",
            &[(1000, "INFO systemctl: Created symlink /etc/timers.target.wants/feed-level.timer")],
        );
        let output = output(last);
        let files = [
            (name.as_str(), text.as_str()),
            (other.as_str(), system.as_str()),
            ("pump-ctl/srv/feed/level.out", output.as_str()),
            ("story.json", STORY),
        ];
        case(&files).view().run(&CauseAnalysis, &Work::default()).unwrap().to_vec()
    };
    let found = suggested("LANG=fi_FI.UTF-8, via timer");
    assert!(found[0].provable && found[0].chain[0].text.contains("fi_FI"), "{found:#?}");
    assert!(
        found.iter().any(|one| one.reasons.iter().any(|why| why.contains("was C the 3 times before"))),
        "{found:#?}"
    );
    let says =
        |found: &[Suggestion]| found.iter().any(|one| one.chain.iter().any(|link| link.text.contains("level run")));
    assert!(says(&found), "{found:#?}");
    assert!(!says(&suggested("LANG=C, via cron")), "a run like all others says nothing");
}

#[test]
fn trouble_from_when_all_was_well_is_not_where_the_evidence_ends() {
    let mut lines = refusals("ERROR dosingd: plan-0412: tank 7 not dosed: valve of tank silent");
    // It was there all night, and says the same words.
    lines.extend((0..30).map(|at| (600 + at * 250, "ERROR dosingd: tank 3 has no label, valve of tank skipped")));
    let end = |good: &str| {
        let story = STORY.replace("\"zone\"", &format!("\"last_good\":\"{good}\",\"zone\""));
        let (name, text) = healthy("dosingd", "pump-ctl/opt/dosingd/dosing.log", &lines);
        let found = case(&[(name.as_str(), text.as_str()), ("story.json", story.as_str())]);
        let found = found.view().run(&CauseAnalysis, &Work::default()).unwrap();
        assert!(!found[0].provable, "{found:#?}");
        found[0].chain[0].text.clone()
    };
    for good in ["02:20", "twenty past two"] {
        assert!(end(good).contains("tank 7"), "{good}: {}", end(good));
    }
}

#[test]
fn what_lines_say_of_changes() {
    use crate::cause::wording::{Class, change};
    for (text, least, class) in [
        ("eth0: lease renewed, name servers now 10.0.0.9 (were 10.0.0.1)", 0.9, Class::Change),
        ("feature \"look-ahead\" turned on for all", 0.9, Class::Change),
        ("deploy step for the gate left out: reload.sh is not executable", 0.9, Class::Incomplete),
        ("the new plan goes into effect at noon", 0.8, Class::Change),
        (
            "INFO sudo: anna : TTY=pts/0 ; PWD=/etc ; USER=root ; COMMAND=/usr/bin/systemctl disable --now chronyd",
            0.9,
            Class::Person,
        ),
    ] {
        let (weight, found) = change(text);
        assert!(weight >= least && found == class, "{text}: {weight} {found:?}");
    }
    for text in ["tank 7 is fed now", "the lamp is on", "34 steps done", "opened the console"] {
        assert!(change(text).0 < 0.5, "{text}: {:?}", change(text));
    }
}

#[test]
fn cases_that_say_nothing_are_answered_honestly() {
    let none = |files: &[(&str, &str)]| case(files).view().run(&CauseAnalysis, &Work::default()).unwrap();
    assert!(none(&[]).is_empty());
    assert!(none(&[("a/b.log", "no time at all\nnor here: error\n")]).is_empty(), "no times");
    // Warnings of a healthy machine, and nobody who says that anything failed.
    let (_, warned) = healthy("dosingd", "a", &[(3000, "WARN dosingd: lamp of tank 4 is dim"), CHOWN]);
    assert!(none(&[("pump-ctl/a.log", warned.as_str())]).is_empty());
    // A story that was told before anything happened.
    let early = r#"{"title":"x","reported":"1999-01-01T00:00:00Z","affected":["tank 7"]}"#;
    let (_, text) = healthy("dosingd", "a", &refusals(NO_RIGHTS));
    assert!(none(&[("pump-ctl/a.log", text.as_str()), ("story.json", early)]).is_empty());
    // Only trouble, and no change: where the evidence ends is said.
    let found = night(&[("dosingd", "pump-ctl/opt/dosingd/dosing.log", &refusals(NO_RIGHTS))]);
    assert!(!found[0].provable && !found[0].missing.is_empty(), "{found:#?}");
    assert!(found.iter().skip(1).all(|one| one.summary.contains("lead")), "{found:#?}");
}

proptest! {
    #![proptest_config(ProptestConfig::with_cases(48))]

    #[test]
    fn any_lines_are_answered(lines in proptest::collection::vec((0_u32..86_000, ".{0,60}"), 0..60)) {
        let text: String = lines
            .iter()
            .map(|(at, text)| format!("2026-04-12T{:02}:{:02}:{:02}Z {text}\n", at / 3600, at / 60 % 60, at % 60))
            .collect();
        let found = case(&[("pump-ctl/a.log", text.as_str())]).view().run(&CauseAnalysis, &Work::default()).unwrap();
        for one in found.iter() {
            prop_assert!(!one.chain.is_empty() && (0.0..=1.0).contains(&one.score));
            prop_assert!(one.json()["chain"][0]["line"].as_u64().is_some());
        }
    }
}
