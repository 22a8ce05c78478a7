//! The night before the demo story: the same machines and programs, and all goes well. It is what the bad night is compared with.

use std::io;
use std::path::Path;

use fastrand::Rng;
use serde_json::json;

use crate::hosts;
use crate::scribe::{DAY, END, Encode, Log, Millis, START, at};

/// All logs of that night, a day earlier than those of the story.
const NIGHT: (Millis, Millis) = (START - DAY, END - DAY);
/// The dosing plan of that night starts.
const PLAN: Millis = at(2, 24, 30, 0) - DAY;
/// Doses of the plan, and the time from one to the next.
const DOSES: Millis = 36;
const APART: Millis = 9_400;
/// The number of the plan's first frame.
const FIRST: Millis = 4016;

/// The moment and the frame of each dose.
fn doses() -> impl Iterator<Item = (Millis, String)> {
    (0..DOSES).map(|dose| (PLAN + 140 + dose * APART, format!("fr-0411-{}", FIRST + dose)))
}

/// Writes the three hosts below `root`, one folder each.
pub fn night_before(root: &Path) -> io::Result<()> {
    pump_ctl(&root.join("pump-ctl"))?;
    keeper_desk(&root.join("keeper-desk"))?;
    dose_gw(&root.join("dose-gw"))
}

fn pump_ctl(root: &Path) -> io::Result<()> {
    let mut rng = Rng::with_seed(41);
    let mut dosing = Log::default();
    dosing.noise(&mut rng, NIGHT, 3_000, |rng, _| hosts::dosing_noise(rng));
    let entry = |message: &str, mut rest: serde_json::Value| {
        if let Some(rest) = rest.as_object_mut() {
            rest.insert("job".into(), "plan-0411".into());
        }
        hosts::dosing_entry("info", message, rest)
    };
    // As on other evenings.
    for hour in 0..4 {
        dosing.add(at(hour - 4, 12, 3, 88) - DAY, hosts::slow_sensor());
    }
    dosing.add(PLAN, entry("plan nightly: 3 tanks, 36 doses", json!({})));
    for ((time, frame), seq) in doses().zip(FIRST..) {
        dosing
            .add(time + 30, entry(&format!("dose given, frame accepted by gateway ({frame})"), json!({ "seq": seq })));
    }
    dosing.add(PLAN + DOSES * APART, entry("plan nightly done: 36 of 36 doses", json!({})));
    dosing.write(&root.join("var/log/tankwarden/dosing.json"), "\n", hosts::stamp_json, Encode::Utf8)?;

    let mut alarms = Log::default();
    alarms.noise(&mut rng, NIGHT, 8_000, |rng, _| hosts::alarm_noise(rng, true));
    alarms.write(&root.join("var/log/tankwarden/alarms.json"), "\n", hosts::stamp_json, Encode::Utf8)?;

    let mut system = Log::default();
    system.noise(&mut rng, NIGHT, 6_000, |rng, _| hosts::syslog_noise(rng));
    system.write(&root.join("var/log/syslog"), "\n", hosts::dress_syslog, Encode::Utf8)
}

fn keeper_desk(root: &Path) -> io::Result<()> {
    let mut rng = Rng::with_seed(42);
    let dress = |time: Millis, line: &str| format!("{} {line}", hosts::local(time));
    let mut console = Log::default();
    console.noise(&mut rng, NIGHT, 7_000, |rng, _| hosts::console_noise(rng, "Console"));
    console.add(
        PLAN - 400,
        format!("INFO  [plan] Console.Plan - plan nightly sent to pump-ctl, 36 doses, frame format 1, first frame fr-0411-{FIRST}"),
    );
    console.write(&root.join("Tankwarden/Logs/console.log"), "\r\n", dress, Encode::Utf8)?;

    let mut bridge = Log::default();
    bridge.noise(&mut rng, NIGHT, 9_000, |rng, _| hosts::bridge_noise(rng));
    bridge.add(PLAN - 300, "[1312] INFO serbridge 1.4.0 (2016-03-09): client asks for frame format 1");
    bridge.write(&root.join("Tankwarden/Logs/bridge.log"), "\r\n", dress, Encode::Utf8)
}

fn dose_gw(root: &Path) -> io::Result<()> {
    let mut rng = Rng::with_seed(43);
    let mut messages = Log::default();
    messages.noise(&mut rng, NIGHT, 8_000, |rng, _| hosts::gateway_noise(rng));
    for (time, frame) in doses() {
        messages.add(time, format!("<134>bridge[88]: plan-0411: frame {frame} accepted, valve opened"));
    }
    hosts::gateway_file(root, "messages", messages, NIGHT.1)?;
    let mut serial = Log::default();
    serial.noise(&mut rng, NIGHT, 15_000, |rng, _| hosts::serial_noise(rng));
    hosts::gateway_file(root, "serial.log", serial, NIGHT.1)
}
