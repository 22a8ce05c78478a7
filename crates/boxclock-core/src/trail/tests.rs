//! Ways of frames and jobs through the programs of the aquarium.

use super::names::{Look, alike, can_be_name, parse};
use super::*;
use crate::testing::case;

fn log(lines: &[(u32, &str)]) -> String {
    lines.iter().map(|(second, text)| format!("2026-04-12T02:30:{second:02}Z INFO {text}\n")).collect()
}

fn files(end: &str) -> Vec<(&'static str, String)> {
    let mut console = vec![
        (1, "frame fr-8812-4 taken from panel 2"),
        (2, "frame fr-8812-4 handed to bridge as B77120"),
        (1, "frame fr-8813-1 taken from panel 2"),
    ];
    if end == "answered" {
        console.push((8, "frame fr-8812-4 answered 200 after 7000 ms"));
    }
    let mut bridge = vec![
        (2, "B77120 comes in for fr-8812-4, 120 ms"),
        (3, "B77120 sent to gateway, ticket GW-5521"),
        (4, "B77121 comes in for fr-8813-1, 90 ms"),
    ];
    if end == "answered" {
        bridge.push((7, "B77120 answer passed back"));
    }
    let mut gateway = vec![(20, "heartbeat sent")];
    match end {
        "answered" => gateway.extend([(4, "GW-5521 open for B77120"), (6, "GW-5521 done, rc=0")]),
        "failed" => gateway.extend([(4, "GW-5521 open for B77120"), (6, "GW-5521 refused: protocol version, rc=21")]),
        _ => {}
    }
    console.sort_unstable();
    bridge.sort_unstable();
    gateway.sort_unstable();
    vec![
        ("keeper-desk/console.log", log(&console)),
        ("keeper-desk/bridge.log", log(&bridge)),
        ("dose-gw/gateway.log", log(&gateway)),
    ]
}

fn followed(end: &str, identifier: &str) -> Trail {
    let files = files(end);
    let files: Vec<(&str, &str)> = files.iter().map(|(name, text)| (*name, text.as_str())).collect();
    let case = case(&files);
    follow(&case.view(), identifier, &Work::default()).unwrap()
}

#[test]
fn a_frame_is_followed_through_its_names() {
    let trail = followed("answered", "fr-8812-4");
    let hops: Vec<(&str, &str, &str)> =
        trail.hops.iter().map(|hop| (hop.component.as_str(), hop.identifier.as_str(), hop.outcome.name())).collect();
    assert_eq!(
        hops,
        [("console", "fr-8812-4", "answered"), ("bridge", "B77120", "answered"), ("gateway", "GW-5521", "answered")],
        "{trail:#?}"
    );
    assert_eq!((trail.state, trail.end.1), (EndState::Answered, 4));
    assert_eq!(trail.hops[0].code, Some(200));
    let names: Vec<&str> = trail.aliases.iter().map(|alias| alias.identifier.as_str()).collect();
    assert_eq!(names, ["B77120", "GW-5521"]);
    assert!(!trail.rows.is_empty());
}

#[test]
fn where_it_fails_and_where_it_is_lost() {
    let failed = followed("failed", "fr-8812-4");
    assert_eq!(failed.state, EndState::Failed);
    assert!(failed.end.0.ends_with("gateway.log"), "{failed:#?}");
    assert_eq!(failed.hops[2].code, Some(21));
    let lost = followed("lost", "fr-8812-4");
    assert_eq!((lost.state, lost.hops.last().unwrap().outcome), (EndState::Lost, HopOutcome::Stopped));
    assert!(lost.end.0.ends_with("bridge.log"));
}

#[test]
fn backwards_too() {
    let trail = followed("answered", "GW-5521");
    assert_eq!(trail.hops.len(), 3, "{trail:#?}");
}

#[test]
fn what_can_be_no_name() {
    let files = files("answered");
    let files: Vec<(&str, &str)> = files.iter().map(|(name, text)| (*name, text.as_str())).collect();
    let case = case(&files);
    let view = case.view();
    let error = |name: &str| follow(&view, name, &Work::default()).unwrap_err().to_string();
    assert!(error("a").contains("too short"));
    assert!(error("fr-9999-9").contains("no event"));
    for (word, before) in [
        ("10.1.2.3", ""),
        ("120ms", ""),
        ("2026-04-12T02:30:01Z", ""),
        ("v5.0.2", ""),
        ("4711", "took "),
        ("eth0", ""),
        ("0x80070005", ""),
    ] {
        assert!(!can_be_name(word, before), "{word}");
    }
    for (word, before) in [
        ("rq3319", ""),
        ("4711", "job "),
        ("J6479.8", ""),
        ("550e8400-e29b-41d4-a716-446655440000", ""),
        ("88124", "request_id="),
    ] {
        assert!(can_be_name(word, before), "{word}");
    }
}

/// Frames of a night: each is taken by the console, handed to the bridge and opened by the gateway, until the gateway gets none.
fn frames(lost_from: u32) -> Vec<(&'static str, String)> {
    let at = |minute: u32, second: u32, text: String| format!("2026-04-12T02:{minute:02}:{second:02}Z INFO {text}\n");
    let line = |minute: u32, text: String| at(minute, 0, text);
    let numbers = || 0..12_u32;
    let console = numbers().map(|at| line(at * 2, format!("console: frame fr-0412-{} taken", 4000 + at))).collect();
    let bridge = numbers()
        .map(|number| at(number * 2, 1, format!("bridge: frame fr-0412-{} passed on", 4000 + number)))
        .collect();
    let gateway = numbers()
        .filter(|at| *at < lost_from)
        .map(|at| line(at * 2 + 1, format!("gateway: frame fr-0412-{} opened", 4000 + at)))
        .collect();
    vec![("keeper-desk/console.log", console), ("keeper-desk/bridge.log", bridge), ("dose-gw/gateway.log", gateway)]
}

fn frames_case(lost_from: u32) -> crate::testing::TestCase {
    let files = frames(lost_from);
    let files: Vec<(&str, &str)> = files.iter().map(|(name, text)| (*name, text.as_str())).collect();
    case(&files)
}

#[test]
fn others_of_the_same_kind_say_where_it_should_have_gone_on() {
    let case = frames_case(8);
    let view = case.view();
    let trail = follow(&view, "fr-0412-4010", &Work::default()).unwrap();
    let found = peers(&view, "fr-0412-4010", &trail, &Work::default()).unwrap().unwrap();
    assert_eq!((found.others, found.last.as_str(), found.end_there), (11, "bridge on keeper-desk", 3));
    assert_eq!(found.missing, Some(("gateway on dose-gw".into(), 8)));
    assert_eq!(crate::clock::to_rfc3339(found.since.unwrap())[11..16].to_owned(), "02:16");
    let words = found.words(&crate::clock::Zone::utc());
    assert!(
        words.starts_with("3 of 11 others like it were seen last in bridge on keeper-desk, all since 2026-04-12"),
        "{words}"
    );
    assert!(words.ends_with("8 of them went on to gateway on dose-gw, where this one never arrived."), "{words}");
    // One that arrived misses nothing.
    let trail = follow(&view, "fr-0412-4001", &Work::default()).unwrap();
    let found = peers(&view, "fr-0412-4001", &trail, &Work::default()).unwrap().unwrap();
    assert_eq!((found.last.as_str(), found.missing, found.since), ("gateway on dose-gw", None, None));
}

#[test]
fn names_of_an_event_are_offered_and_can_be_switched_off() {
    let files = files("answered");
    let files: Vec<(&str, &str)> = files.iter().map(|(name, text)| (*name, text.as_str())).collect();
    let case = case(&files);
    let view = case.view();
    let bridge = view.row_in("hosts/keeper-desk/bridge.log", 0).unwrap();
    let offered = suggested(&view, Some(bridge), &["what of GW-5521?"], &Work::default()).unwrap();
    let names: Vec<(&str, usize)> = offered.iter().map(|one| (one.identifier.as_str(), one.sources)).collect();
    assert_eq!(names, [("B77120", 3), ("GW-5521", 2), ("fr-8812-4", 2)]);
    assert!(suggested(&view, None, &["nothing to name"], &Work::default()).unwrap().is_empty());
    let without = ["B77120".to_owned()];
    let trail = follow_without(&view, "fr-8812-4", &without, &Work::default()).unwrap();
    assert!(trail.aliases.iter().all(|alias| alias.identifier != "B77120"), "{:?}", trail.aliases);
}

#[test]
fn a_trail_is_drawn_with_a_lane_for_each_program() {
    let trail = followed("failed", "fr-8812-4");
    let svg = draw("fr-8812-4", &trail, &crate::clock::Zone::utc()).to_svg();
    let mut reader = quick_xml::Reader::from_str(&svg);
    while !matches!(reader.read_event().unwrap(), quick_xml::events::Event::Eof) {}
    for part in ["The way of fr-8812-4", "console", "bridge", "gateway", "dose-gw", "failed"] {
        assert!(svg.contains(part), "lacks {part}: {svg}");
    }
}

/// Jobs that three programs on two hosts know by names of their own, each a bare number for the last; the second host's clock is
/// `late` seconds behind.
fn numbered_jobs(jobs: u32, late: u32) -> crate::testing::TestCase {
    let at =
        |second: u32, text: String| format!("2026-04-12T02:{:02}:{:02}Z INFO {text}\n", second / 60 % 60, second % 60);
    let (mut panel, mut desk, mut pump) = (String::new(), String::new(), String::new());
    for job in 0..jobs {
        let second = 120 + job * 10;
        let (request, order, dose) = (format!("rq-{:x}a7", 4_000_000 + job * 77), 52_000 + job, 710_300 + job * 3);
        panel.push_str(&at(second, format!("request {request} taken, {} bytes", 4000 + job * 31)));
        panel.push_str(&at(second + 1, format!("request {request} forwarded, is {order} there")));
        panel.push_str(&at(second + 4, format!("request {request} answered 200")));
        desk.push_str(&at(second + 1 - late, format!("{order} accepted for {request}")));
        desk.push_str(&at(second + 2 - late, format!("{order}: pump asked, dose {dose}")));
        desk.push_str(&at(second + 2 - late, format!("waiting: {order}, {}", order + 1)));
        pump.push_str(&at(second + 3 - late, format!("dose {dose} begins")));
        let failed = job == 7;
        let word = if failed { "failed: no pressure, code 31" } else { "done, rc=0" };
        pump.push_str(&at(second + 3 - late, format!("dose {dose} {word}")));
    }
    case(&[("keeper-desk/panel.log", &panel), ("dose-gw/desk.log", &desk), ("dose-gw/pump.log", &pump)])
}

fn way(trail: &Trail) -> Vec<(&str, &str)> {
    trail.hops.iter().map(|hop| (hop.component.as_str(), hop.identifier.as_str())).collect()
}

#[test]
fn bare_numbers_are_names_where_other_lines_say_so() {
    let case = numbered_jobs(20, 0);
    let request = format!("rq-{:x}a7", 4_000_000 + 5 * 77);
    let trail = follow(&case.view(), &request, &Work::default()).unwrap();
    assert_eq!(way(&trail), [("panel", request.as_str()), ("desk", "52005"), ("pump", "710315")], "{trail:#?}");
    assert_eq!(trail.state, EndState::Answered);
    // Lists of many are no station of one; bytes are no name.
    assert_eq!(trail.hops.iter().map(|hop| hop.events).collect::<Vec<_>>(), [3, 2, 2]);
    assert!(trail.aliases.iter().all(|alias| alias.why.contains("one for one")), "{:?}", trail.aliases);
    // Asked for by a number, the same number as a count is left out.
    let trail = follow(&case.view(), "52005", &Work::default()).unwrap();
    assert_eq!(way(&trail), [("panel", request.as_str()), ("desk", "52005"), ("pump", "710315")]);
    // Too few others to tell a number from a count.
    let case = numbered_jobs(2, 0);
    let trail = follow(&case.view(), "rq-3d0900a7", &Work::default()).unwrap();
    assert!(trail.aliases.is_empty(), "{:?}", trail.aliases);
}

#[test]
fn the_line_that_failed_first_is_the_end() {
    let case = numbered_jobs(20, 0);
    let request = format!("rq-{:x}a7", 4_000_000 + 7 * 77);
    let trail = follow(&case.view(), &request, &Work::default()).unwrap();
    // The panel was answered all the same: a failure that it got over.
    assert_eq!(
        (trail.state, trail.hops[2].outcome, trail.hops[2].code),
        (EndState::Answered, HopOutcome::Failed, Some(31))
    );
}

#[test]
fn what_is_handed_on_arrives_after_it_was_sent_whatever_the_clocks_say() {
    let case = numbered_jobs(20, 40);
    let request = format!("rq-{:x}a7", 4_000_000 + 5 * 77);
    let trail = follow(&case.view(), &request, &Work::default()).unwrap();
    assert_eq!(way(&trail), [("panel", request.as_str()), ("desk", "52005"), ("pump", "710315")]);
    assert!(trail.hops[1].first.0 < trail.hops[0].first.0, "times stay as the hosts wrote them");
}

#[test]
fn brackets_and_the_size_of_letters_do_not_matter() {
    let line = |second: u32, text: &str| format!("2026-04-12T02:30:{second:02}Z INFO {text}\n");
    let one = "6f1c2d7a-90be-4b1f-8a52-3d0f5e7c9b11";
    let panel = line(1, &format!("request {{{}}} taken", one.to_ascii_uppercase())) + &line(5, "idle");
    let desk = line(2, &format!("{one} printed")) + &line(6, "idle");
    let case = case(&[("keeper-desk/panel.log", &panel), ("keeper-desk/desk.log", &desk)]);
    let asked = format!("{{{}}}", one.to_ascii_uppercase());
    let trail = follow(&case.view(), &asked, &Work::default()).unwrap();
    assert_eq!(trail.hops.iter().map(|hop| hop.component.as_str()).collect::<Vec<_>>(), ["panel", "desk"]);
    assert_eq!((trail.state, trail.end.1), (EndState::Answered, 1));
}

#[test]
fn a_retry_that_worked_is_no_failure() {
    let line = |second: u32, text: &str| format!("2026-04-12T02:30:{second:02}Z INFO {text}\n");
    let panel = line(1, "request rq-5512-8 taken") + &line(9, "request rq-5512-8 answered 200");
    let desk = line(2, "rq-5512-8 begins")
        + &line(3, "rq-5512-8: attempt 1 failed: timed out, trying again")
        + &line(8, "rq-5512-8 done, rc=0");
    let case = case(&[("keeper-desk/panel.log", &panel), ("keeper-desk/desk.log", &desk)]);
    let trail = follow(&case.view(), "rq-5512-8", &Work::default()).unwrap();
    assert_eq!((trail.state, trail.end.1), (EndState::Answered, 2));
    assert_eq!(trail.hops[1].outcome, HopOutcome::Answered);
}

#[test]
fn words_and_lists_of_a_message() {
    let listed = |text: &str| parse(text).tokens.iter().filter(|token| token.listed).count();
    assert_eq!(listed("open now: T597348, T481050"), 2);
    assert_eq!(listed("open: T597348 T481050 T342793"), 3);
    assert_eq!(listed("T597348 handed on as J6479.8"), 0);
    let same = |one: &str, other: &str| parse(one).form == parse(other).form;
    assert!(same("T597348 took 12 ms", "T481050 took 9133 ms"));
    assert!(!same("T597348 took 12 ms", "T481050 lost 12 ms"));
    assert!(alike("c133a3b1-e250", "84b063c1-9ac8") && alike("T1", "T22") && !alike("T481050", "J6479.8"));
    for measure in ["10.1.2.3", "00:1a:2b:3c:4d:5e", "fe80::12", "2.14", "v1.2.3", "02:30:11.5"] {
        let parsed = parse(&format!("at {measure} now"));
        assert!(parsed.tokens.iter().all(|token| token.look == Look::Other), "{measure}: {parsed:?}");
    }
}

#[test]
fn a_line_that_comes_seldom_is_judged_by_the_words_in_front() {
    let line = |second: u32, text: String| format!("2026-04-12T02:30:{second:02}Z INFO {text}\n");
    let keepers = ["ada", "bo", "cy", "dee", "eli", "flo"];
    let (mut desk, mut gate) = (String::new(), String::new());
    for (at, keeper) in keepers.iter().enumerate() {
        let (one, other) = (format!("4C07{at}9942F2"), format!("7A83{at}9942F3"));
        let second = at as u32 * 5;
        desk.push_str(&line(second, format!("{one}: note to {keeper} handed over, queued as {other}")));
        gate.push_str(&line(second + 1, format!("{other}: note of a desk")));
        gate.push_str(&line(second + 2, format!("{other}: delivered")));
    }
    let case = case(&[("keeper-desk/desk.log", &desk), ("dose-gw/gate.log", &gate)]);
    let trail = follow(&case.view(), "4C0739942F2", &Work::default()).unwrap();
    assert_eq!(way(&trail), [("desk", "4C0739942F2"), ("gate", "7A8339942F3")], "{trail:#?}");
    assert_eq!((trail.state, trail.end.1), (EndState::Answered, 8));
}

#[test]
fn an_attempt_that_nothing_follows_failed() {
    let line = |second: u32, text: &str| format!("2026-04-12T02:30:{second:02}Z INFO {text}\n");
    let panel = line(1, "note nt-5512-8 taken") + &line(2, "nt-5512-8 passed to desk") + &line(50, "idle");
    let desk = line(3, "nt-5512-8 begins") + &line(4, "nt-5512-8 deferred: connection refused") + &line(51, "idle");
    let case = case(&[("keeper-desk/panel.log", &panel), ("keeper-desk/desk.log", &desk)]);
    let trail = follow(&case.view(), "nt-5512-8", &Work::default()).unwrap();
    assert_eq!((trail.state, trail.end.1, trail.hops[1].outcome), (EndState::Failed, 2, HopOutcome::Failed));
}

proptest::proptest! {
    /// Any text is taken apart, and its words stand where they say.
    #[test]
    fn any_text_is_taken_apart(text in ".{0,200}") {
        for token in parse(&text).tokens {
            proptest::prop_assert_eq!(text.get(token.start..token.end), Some(token.text.as_str()));
        }
    }
}

#[test]
fn a_process_that_works_for_a_thing_goes_with_it_from_its_start_to_its_end() {
    let mut plan: Vec<(u32, String)> = Vec::new();
    let mut runner: Vec<(u32, String)> = Vec::new();
    for job in 0..40 {
        let (at, pid) = (job * 60, 20_140 + job * 7);
        plan.push((at, format!("INFO plan: plan-{job:04} handed on")));
        plan.push((at + 1, format!("INFO plan: plan-{job:04} runs as pid {pid} on pump-ctl")));
        runner.push((at + 2, format!("dosingd[{pid}]: reading the tanks")));
        runner.push((
            at + 9,
            format!("dosingd[{pid}]: {}", if job == 20 { "error: tank 7 empty" } else { "tanks read" }),
        ));
    }
    // The same number once more, hours later, and one that was there before.
    runner.push((9000, "dosingd[20280]: another one".into()));
    let stamp = |at: &u32| format!("{:02}:{:02}:{:02}", at / 3600, at / 60 % 60, at % 60);
    let plan: String = plan.iter().map(|(at, line)| format!("2026-04-12T{}Z {line}\n", stamp(at))).collect();
    let runner: String =
        runner.iter().map(|(at, line)| format!("2026-04-12T{}+00:00 pump-ctl {line}\n", stamp(at))).collect();
    let of_case = case(&[("desk/plan.log", plan.as_str()), ("pump-ctl/syslog", runner.as_str())]);
    let trail = follow(&of_case.view(), "plan-0020", &Work::default()).unwrap();
    let alias = trail.aliases.iter().find(|alias| alias.identifier == "20280").unwrap();
    assert!(alias.why.contains("is the process") && alias.line == 42, "{alias:?}");
    let hops: Vec<(&str, usize)> = trail.hops.iter().map(|hop| (hop.component.as_str(), hop.events)).collect();
    assert_eq!(hops, [("plan", 2), ("dosingd", 2)], "{trail:#?}");
    assert_eq!((trail.state, trail.hops[1].pid), (EndState::Failed, Some(20_280)));
    assert!(trail.end.0.ends_with("syslog") && trail.end.1 == 42, "{:?}", trail.end);
    // What somebody switched off is left out.
    let without = follow_without(&of_case.view(), "plan-0020", &["20280".into()], &Work::default()).unwrap();
    assert_eq!(without.hops.len(), 1, "{without:#?}");
}
