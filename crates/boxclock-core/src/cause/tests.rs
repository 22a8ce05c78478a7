//! Suggestions that are right, and honest.

use super::*;
use crate::testing::case;

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
