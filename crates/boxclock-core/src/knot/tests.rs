use super::*;
use crate::testing::{TestCase, case, log};

/// A quiet night of two programs, with a failure at 02:30 that both tell of, a start at 01:00 and an odd line at 03:10.
fn night() -> TestCase {
    let mut one = log().at("00:00:00").info("tankd", "sampled reef");
    let mut two = log().at("00:00:00").info("gated", "keep-alive");
    for minute in 1..240 {
        let time = format!("{:02}:{:02}:00", minute / 60, minute % 60);
        one = one.at(&time).info("tankd", "sampled reef");
        two = two.at(&time).info("gated", "keep-alive");
        if minute == 60 {
            one =
                one.info("tankd", "reading settings of this site").info("tankd", "opening the valves for a first look");
            one = one.info("tankd", "all channels are ready to work");
        }
        if minute == 150 {
            one = one.at("02:30:05").error("tankd", "plan kelp refused by the gateway");
            two = two.at("02:30:04").warn("gated", "format two of kelp is unknown here");
            one = one.at("02:30:09").error("tankd", "gave up on kelp, no dosing from now on");
        }
        if minute == 190 {
            one = one.warn("tankd", "lamp of the hall is slow");
        }
    }
    case(&[("pump-ctl/tank.log", one.text()), ("dose-gw/gate.log", two.text())])
}

fn found(case: &TestCase, scale: f64) -> Vec<Knot> {
    case.view().run(&KnotAnalysis { scale }, &Work::default()).unwrap().to_vec()
}

#[test]
fn what_is_unusual_and_bad_in_several_logs_is_the_first_knot() {
    let knots = found(&night(), 1.0);
    let first = &knots[0];
    let lines: Vec<&str> = first.strands.iter().map(|strand| strand.text.as_str()).collect();
    assert_eq!(
        lines,
        [
            "format two of kelp is unknown here",
            "plan kelp refused by the gateway",
            "gave up on kelp, no dosing from now on"
        ]
    );
    assert_eq!((first.sources, first.hosts.len()), (2, 2));
    assert!(first.reasons.iter().any(|reason| reason == "in 2 logs at the same time"), "{:?}", first.reasons);
    assert!(first.words.contains(&"kelp".to_owned()), "{:?}", first.words);
    // Every clause has its line.
    assert!(
        first.summary.starts_with("At 2026-04-12 02:30:05, tankd on pump-ctl: \"plan kelp refused"),
        "{}",
        first.summary
    );
    assert!(first.summary.contains("[hosts/dose-gw/gate.log:152]"), "{}", first.summary);
    assert!(knots.iter().skip(1).all(|other| other.score < first.score));
}

#[test]
fn a_start_is_rare_and_no_knot() {
    let knots = found(&night(), 1.0);
    assert!(
        !knots.iter().any(|knot| knot.strands.iter().any(|strand| strand.text.contains("reading settings"))),
        "{knots:#?}"
    );
}

#[test]
fn a_name_with_a_word_of_trouble_in_it_is_no_trouble() {
    let mut text = log();
    for minute in 0..120 {
        text = text.at(&format!("{:02}:{:02}:00", minute / 60, minute % 60)).info("tankd", "sampled reef");
    }
    let text = text.info("apt", "Setting up libkelp-error-dev").info("apt", "Selecting the package kelp-tools").text();
    let odd = text.replace("INFO apt:", "apt:");
    assert!(found(&case(&[("pump-ctl/tank.log", odd.as_str())]), 1.0).is_empty());
    // The code of a failure is.
    let failed = odd.replace("Setting up libkelp-error-dev", "setup ended with exit code 1603");
    assert_eq!(found(&case(&[("pump-ctl/tank.log", failed.as_str())]), 1.0)[0].strands.len(), 2);
}

#[test]
fn a_knot_is_widened_and_narrowed() {
    let night = night();
    let of = |scale: f64| found(&night, scale)[0].strands.len();
    assert_eq!(of(1.0), 3);
    assert!(of(0.1) < 3, "what lies seconds apart is apart");
    // What is said of the gap is what is done, at both ends.
    let usual = KnotAnalysis::default();
    assert_eq!((usual.gap_ns(), usual.rescaled(true).gap_ns()), (20 * SECOND, 60 * SECOND));
    let far = (0..9).fold(usual, |knots, _| knots.rescaled(true));
    let near = (0..9).fold(usual, |knots, _| knots.rescaled(false));
    assert_eq!((far.gap_ns(), near.gap_ns()), (60 * MINUTE, 2 * SECOND));
}

#[test]
fn a_regular_message_that_stops_is_part_of_a_knot() {
    let mut text = log();
    for minute in 0..120 {
        let time = format!("{:02}:{:02}:00", minute / 60, minute % 60);
        text = text.at(&time).info("tankd", "sampled reef");
        if minute < 70 {
            text = text.info("tankd", "heartbeat");
        }
        if minute == 69 {
            text = text.error("tankd", "watch of the pumps ended by itself");
        }
    }
    let knots = found(&case(&[("pump-ctl/tank.log", text.text())]), 1.0);
    let missing =
        knots[0].strands.iter().find(|strand| matches!(strand.oddity, Oddity::Missing(_))).expect("it is missed");
    assert_eq!(missing.text, "heartbeat");
    assert_eq!(missing.oddity.words(), "came every 1m, and stops here");
}

#[test]
fn a_healthy_case_and_an_empty_one_have_no_knot() {
    let mut text = log();
    for minute in 0..120 {
        text = text.at(&format!("{:02}:{:02}:00", minute / 60, minute % 60)).info("tankd", "sampled reef");
    }
    assert!(found(&case(&[("pump-ctl/tank.log", text.text())]), 1.0).is_empty());
    assert!(found(&case::<&str>(&[]), 1.0).is_empty());
    assert!(found(&case(&[("a/odd.txt", "no time here\nERROR none here\n")]), 1.0).is_empty());
}
