use super::*;
use crate::crash::CrashAnalysis;
use crate::testing::case;

/// A night on which a service ends three times, each time while the second meter is plugged in.
fn night() -> String {
    let mut text = String::from("2026-04-12T00:00:00Z pump-ctl kernel: Linux version 6.1.0-18 (build@host)\n");
    text.push_str("2026-04-12T00:30:00Z pump-ctl dpkg: startup packages configure\n");
    for (hour, pid) in [(1, 701), (3, 702), (5, 703)] {
        text.push_str(&format!(
            "2026-04-12T0{hour}:00:00Z pump-ctl kernel: usb 1-1.2: new full-speed USB device number {hour} using xhci_hcd\n\
             2026-04-12T0{hour}:09:58Z pump-ctl dosingd[{pid}]: reading the meter\n\
             2026-04-12T0{hour}:09:59Z pump-ctl feeder[44]: waiting for a frame\n\
             2026-04-12T0{hour}:10:00Z pump-ctl kernel: dosingd[{pid}]: segfault at 18 ip 000055d0c0de1a2c sp 00007ffd10 error 4 in dosingd[55d0c0de0000+4000]\n\
             2026-04-12T0{hour}:20:00Z pump-ctl kernel: usb 1-1.2: USB disconnect, device number {hour}\n"
        ));
    }
    text.push_str("2026-04-12T08:00:00Z pump-ctl feeder[44]: fed\n");
    text
}

#[test]
fn what_came_before_and_what_the_crashes_have_in_common() {
    let case = case(&[("pump-ctl/syslog", night())]);
    let found = case.view().run(&CrashAnalysis, &Work::default()).unwrap();
    assert_eq!(found.len(), 3, "{found:?}");
    let second = &found[1].around;
    let lines: Vec<(&str, bool)> = second.before.iter().map(|line| (line.text.as_str(), line.own)).collect();
    assert!(lines.contains(&("reading the meter", true)), "{lines:?}");
    assert_eq!(lines.last(), Some(&("waiting for a frame", false)), "in order: {lines:?}");
    assert!(lines.iter().all(|(text, _)| !text.contains("segfault")), "a crash is none of the lines before: {lines:?}");
    let changes: Vec<&str> = second.changes.iter().map(|line| line.text.as_str()).collect();
    assert!(changes.iter().any(|text| text.contains("startup packages")), "{changes:?}");
    assert!(!changes.iter().any(|text| text.contains("number 3")), "what came after the first is no change before it");
    let history = second.history.join("; ");
    assert!(history.contains("it happened 3 times on pump-ctl, first at 2026-04-12 01:10"), "{history}");
    assert!(history.contains("touched the same address, 0x18"), "{history}");
    assert!(history.contains("while 1-1.2 was attached"), "{history}");
    assert!(!history.contains("after the start"), "they are hours apart from it: {history}");
}

#[test]
fn one_crash_has_no_history_and_a_device_that_stays_says_nothing() {
    let one: String = night().lines().take(6).map(|line| format!("{line}\n")).collect();
    let case_of_one = case(&[("pump-ctl/syslog", one)]);
    let found = case_of_one.view().run(&CrashAnalysis, &Work::default()).unwrap();
    assert_eq!(found.len(), 1);
    assert!(found[0].around.history.is_empty(), "{:?}", found[0].around.history);
    let stays: String =
        night().lines().filter(|line| !line.contains("disconnect")).map(|line| format!("{line}\n")).collect();
    let case_of_stays = case(&[("pump-ctl/syslog", stays)]);
    let found = case_of_stays.view().run(&CrashAnalysis, &Work::default()).unwrap();
    let history = found[0].around.history.join("; ");
    assert!(!history.contains("attached"), "it was there all the time: {history}");
}

#[test]
fn crashes_soon_after_each_start_and_at_equal_distances() {
    let mut text = String::new();
    for day in 10..14 {
        text.push_str(&format!(
            "2026-04-{day}T02:00:00Z pump-ctl kernel: Linux version 6.1.0-18 (build@host)\n\
             2026-04-{day}T02:05:00Z pump-ctl kernel: dosingd[7{day}]: segfault at 18 ip 000055d0c0de1a2c sp 00007ffd10 error 4 in dosingd[55d0c0de0000+4000]\n"
        ));
    }
    let case = case(&[("pump-ctl/syslog", text)]);
    let found = case.view().run(&CrashAnalysis, &Work::default()).unwrap();
    let history = found[0].around.history.join("; ");
    assert!(history.contains("one came about every 1d0h"), "{history}");
    assert!(history.contains("each came 5m after the start"), "{history}");
}

#[test]
fn why_there_is_no_dump() {
    let text = "2026-04-12T02:31:07Z pump-ctl systemd[1]: dosingd.service: Main process exited, code=dumped, status=6/ABRT\n\
                2026-04-12T02:31:08Z pump-ctl systemd-coredump[9]: Resource limits disable core dumping for process 77 (dosingd).\n\
                2026-04-12T03:31:07Z pump-ctl systemd[1]: feeder.service: Main process exited, code=killed, status=9/KILL\n\
                2026-04-12T04:31:07Z pump-ctl systemd[1]: tide.service: Main process exited, code=killed, status=11/SEGV\n";
    let facts = r#"{"version": 1, "gathered": "2026-04-12T06:00:00Z", "from": "live", "dumps": {"core_pattern": "core", "core_limit": "0"}}"#;
    let case = case(&[("pump-ctl/syslog", text), ("pump-ctl/facts.json", facts)]);
    let found = case.view().run(&CrashAnalysis, &Work::default()).unwrap();
    let why = |process: &str| -> String {
        let report =
            found.iter().find(|report| report.crash.process.as_deref().is_some_and(|name| name.starts_with(process)));
        report.unwrap().around.no_dump.iter().map(|(text, _)| text.as_str()).collect::<Vec<_>>().join("; ")
    };
    assert!(why("dosingd").contains("the limit for cores"), "{}", why("dosingd"));
    assert!(why("feeder").contains("ends a process without a core"), "{}", why("feeder"));
    assert!(why("tide").contains("limit for cores was 0"), "{}", why("tide"));
}
