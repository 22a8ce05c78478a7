use super::*;
use crate::logbook::ChainLink;
use crate::testing::{TestCase, case, log};

/// A night in which frames are refused every five minutes.
fn night() -> TestCase {
    let mut text = log().at("01:00:00").info("setup", "format set from 1 to 2");
    for minute in 0..12 {
        text = text.at(&format!("02:{:02}:00", minute * 5)).error("bridge", &format!("frame fr-{minute} refused"));
        text = text.info("bridge", "heartbeat sent");
    }
    case(&[("pump-ctl/app.log", text.text())])
}

/// A later box: what the bridge says every ten minutes from 05:00 on, for so many hours.
fn later(hours: u32, says: impl Fn(crate::testing::TestLog, u32) -> crate::testing::TestLog) -> TestCase {
    let mut text = log();
    for at in 0..hours * 6 {
        text = says(text.at(&format!("{:02}:{:02}:00", 5 + at / 6, at % 6 * 10)), at);
    }
    case(&[("pump-ctl/app.log", text.text())])
}

/// With the chain of the logbook: line 1 is the root, line 2 the symptom.
fn verified(after: &TestCase) -> Verification {
    let first = night();
    let before = first.view();
    let logbook = Logbook::in_memory().unwrap();
    for line in [1, 2] {
        let offset = before.loaded.table.event(before.row_of_line("hosts/pump-ctl/app.log", line).unwrap()).offset();
        logbook.set_pin("hosts/pump-ctl/app.log", offset, "note").unwrap();
    }
    let pins = logbook.pins().unwrap();
    let link = |pin: i64, kind| ChainLink { pin, kind, reason: String::new() };
    logbook.set_chain(&[link(pins[0].id, Link::Root), link(pins[1].id, Link::Symptom)]).unwrap();
    verify(&before, Some(&logbook), &after.view(), &Work::default()).unwrap()
}

fn of(found: &Verification, part: Part) -> Vec<&Item> {
    found.items.iter().filter(|item| item.part == part).collect()
}

#[test]
fn what_still_comes_is_not_fixed() {
    let found = verified(&later(2, |text, at| text.error("bridge", &format!("frame q-{at} refused"))));
    assert_eq!(found.verdict, Verdict::NotFixed);
    let symptom = of(&found, Part::Symptom)[0];
    assert_eq!((symptom.state, symptom.after.as_ref().unwrap().line), (State::There, 1));
    assert!(symptom.why.starts_with("12 lines of its kind, last at 2026-04-12 06:50:00"), "{}", symptom.why);
}

#[test]
fn silence_of_who_writes_on_is_a_proof() {
    let found = verified(&later(2, |text, _| text.info("bridge", "heartbeat sent")));
    assert_eq!(found.verdict, Verdict::Fixed, "{found:?}");
    assert_eq!(of(&found, Part::Symptom)[0].state, State::Gone);
    // Whether a change was taken back no line says, and it does not decide.
    assert_eq!(of(&found, Part::Root)[0].state, State::Unknown);
    assert!(found.summary.contains("is gone: 12 lines of bridge over 1h50m"), "{}", found.summary);
}

#[test]
fn silence_of_who_is_not_heard_proves_nothing() {
    let found = verified(&later(2, |text, _| text.info("dosingd", "heartbeat sent")));
    assert_eq!(found.verdict, Verdict::NotProvable);
    assert!(found.summary.contains("nothing of bridge"), "{}", found.summary);
}

#[test]
fn a_box_that_is_too_short_proves_nothing() {
    let text = log().at("05:00:00").info("bridge", "heartbeat sent").at("05:04:00").info("bridge", "heartbeat sent");
    let found = verified(&case(&[("pump-ctl/app.log", text.text())]));
    assert_eq!(found.verdict, Verdict::NotProvable);
    assert!(found.summary.contains("came every 5m"), "{}", found.summary);
}

#[test]
fn a_box_from_before_proves_nothing() {
    let text = log().at("00:00:00").info("bridge", "heartbeat sent").at("00:50:00").info("bridge", "heartbeat sent");
    let found = verified(&case(&[("pump-ctl/app.log", text.text())]));
    assert_eq!(found.verdict, Verdict::NotProvable);
    assert!(found.summary.contains("nothing from after the end of the first"), "{}", found.summary);
}

#[test]
fn the_night_itself_in_the_later_box_shows_nothing_about_afterwards() {
    // What is gathered in the morning holds the night too.
    let night = night();
    let of_night = std::fs::read_to_string(night.path().join("hosts/pump-ctl/app.log")).unwrap();
    let morning =
        (0..12).fold(log(), |log, at| log.at(&format!("{:02}:30:00", 5 + at)).info("bridge", "heartbeat sent"));
    let both = case(&[("pump-ctl/app.log", of_night.clone() + &morning.text())]);
    let found = verified(&both);
    assert_eq!(found.verdict, Verdict::Fixed, "{found:#?}");
    assert!(of(&found, Part::Symptom)[0].why.starts_with("12 lines of bridge over 11h"), "{found:#?}");
    // And alone it proves nothing.
    assert_eq!(verified(&case(&[("pump-ctl/app.log", of_night)])).verdict, Verdict::NotProvable);
}

#[test]
fn new_trouble_is_named() {
    let found = verified(&later(2, |text, at| {
        let text = text.info("bridge", "heartbeat sent");
        if at < 3 { text.error("valve", "valve stuck open") } else { text }
    }));
    assert_eq!(found.verdict, Verdict::Fixed);
    let new = of(&found, Part::New);
    assert_eq!(new.len(), 1);
    assert!(new[0].text.contains("valve stuck open") && new[0].why.starts_with("3 lines"), "{:?}", new[0]);
    assert!(found.summary.contains("1 new kind of error"), "{}", found.summary);
}

#[test]
fn without_a_chain_the_first_suggestion_is_taken() {
    let first = night();
    let again = later(2, |text, at| text.error("bridge", &format!("frame fr-{at} refused")));
    let found = verify(&first.view(), None, &again.view(), &Work::default()).unwrap();
    assert_eq!(found.verdict, Verdict::NotFixed);
    let lines = found.json();
    assert_eq!(lines.last().unwrap()["verdict"], "not-fixed");
    assert_eq!(lines[0]["part"], "symptom");
    assert_eq!(lines[0]["after"]["source"], "hosts/pump-ctl/app.log");
}

#[test]
fn an_empty_later_box_is_named() {
    let first = night();
    let empty = case::<&str>(&[]);
    let error = verify(&first.view(), None, &empty.view(), &Work::default()).unwrap_err();
    assert!(error.to_string().contains("no events"), "{error}");
}

#[test]
fn the_verdict_is_kept_and_the_last_stands_first() {
    let logbook = Logbook::in_memory().unwrap();
    let item = Item {
        part: Part::Symptom,
        state: State::Gone,
        text: "frame refused".into(),
        before: None,
        after: None,
        why: "none".into(),
    };
    let mut found = Verification { verdict: Verdict::NotFixed, items: vec![item], summary: "a".into() };
    logbook.add_verdict("one.box.zip", &found, "2026-04-12T08:00:00Z").unwrap();
    found.verdict = Verdict::Fixed;
    logbook.add_verdict("two.box.zip", &found, "2026-04-13T08:00:00Z").unwrap();
    let kept = logbook.verdicts().unwrap();
    assert_eq!((kept.len(), kept[0].verdict.as_str(), kept[1].later.as_str()), (2, "fixed", "one.box.zip"));
    assert_eq!(kept[0].items, ["symptom, gone: frame refused (none)"]);
}

#[test]
fn remedies_know_who_did_what_when() {
    use crate::logbook::RemedyStep;
    let logbook = Logbook::in_memory().unwrap();
    let mut steps = vec![
        RemedyStep { what: "Restart it.".into(), proves: "Frames pass.".into(), done: None },
        RemedyStep { what: "Update it.".into(), ..RemedyStep::default() },
    ];
    logbook.set_remedies(&steps).unwrap();
    steps[0].done = Some(("anna".into(), "2026-04-12T08:00:00Z".into()));
    logbook.set_remedies(&steps).unwrap();
    assert_eq!(logbook.remedies().unwrap(), steps);
}
