//! Ways of frames and jobs through the programs of the aquarium.

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
