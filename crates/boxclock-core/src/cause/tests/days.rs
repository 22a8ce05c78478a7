//! Days on which all was well: what came then too is no news, and what programs said then is what they usually say.

use super::*;

/// Three days of a service, with what else was said: `(day of April, second of the day, line)`.
fn days(story: &str, lines: &[(u32, u32, &str)]) -> Vec<Suggestion> {
    let mut all: Vec<(u32, u32, String)> = Vec::new();
    for day in 10..=12 {
        all.extend((0..1440).map(|at| (day, at * 60, format!("INFO dosingd: fed hold {} in {} ms", at % 9, at % 70))));
    }
    all.extend(lines.iter().map(|(day, at, line)| (*day, *at, (*line).to_owned())));
    all.sort();
    let stamp = |day: &u32, at: &u32| format!("2026-04-{day:02}T{:02}:{:02}:{:02}Z", at / 3600, at / 60 % 60, at % 60);
    let log: String = all.iter().map(|(day, at, line)| format!("{} {line}\n", stamp(day, at))).collect();
    let files = [("pump-ctl/opt/dosingd/dosing.log", log.as_str()), ("story.json", story)];
    case(&files).view().run(&CauseAnalysis, &Work::default()).unwrap().to_vec()
}

const TOLD: &str = r#"{"title":"Tanks are not dosed","happened":"","since":"2026-04-12T10:00:00Z",
"last_good":"2026-04-12T09:00:00Z","reported":"2026-04-12T14:00:00Z","affected":["tank 7"],"zone":"+00:00"}"#;

#[test]
fn trouble_that_came_as_often_while_all_was_well_is_not_the_symptom() {
    let mut lines: Vec<(u32, u32, &str)> = Vec::new();
    // All three days, once an hour; it even names the tank.
    for day in 10..=12 {
        lines.extend((0..24).map(|hour| (day, hour * 3600 + 7, "ERROR dosingd: tank 7: no label on the lid")));
    }
    lines.extend((0..60).map(|at| (12, 36_000 + at * 120, "ERROR dosingd: valve block does not answer")));
    let found = days(TOLD, &lines);
    assert!(found[0].chain.last().unwrap().text.contains("valve block"), "{found:#?}");
}

#[test]
fn a_start_with_another_setting_than_each_before_is_a_change() {
    let starts = |last: &'static str| {
        let mut lines = vec![
            (10, 14_409, "INFO dosingd: dosingd 8.4.0 ready in 8 s, valve pool 40, queue 200"),
            (11, 14_409, "INFO dosingd: dosingd 8.4.0 ready in 8 s, valve pool 40, queue 200"),
            (11, 58_200, last),
        ];
        let trouble = "ERROR dosingd: tank 7 given up: no valve connection within 5000 ms (8 in use, 61 waiting)";
        lines.extend((0..60).map(|at| (12, 36_000 + at * 120, trouble)));
        days(TOLD, &lines)
    };
    let smaller = starts("INFO dosingd: dosingd 8.4.1 ready in 9 s, valve pool 8, queue 200");
    assert!(smaller[0].provable && smaller[0].chain[0].text.contains("pool 8"), "{smaller:#?}");
    assert!(smaller[0].reasons.iter().any(|reason| reason.contains("is 8, and was 40")), "{smaller:#?}");
    let same = starts("INFO dosingd: dosingd 8.4.0 ready in 9 s, valve pool 40, queue 200");
    assert!(!same[0].provable, "{same:#?}");
}
