//! The three hosts of the demo story.

use std::fs::File;
use std::io::{self, Write};
use std::path::Path;

use fastrand::Rng;
use serde_json::json;

use crate::dumps;
use crate::event_log::{Entry, event_log};
use crate::scribe::{END, Encode, Log, Millis, START, ZONE, at, bsd, iso, set_time};

/// How far the gateway's clock is ahead.
const FAST: Millis = (6 * 60 + 41) * 1000;
/// The dosing plan of the night starts.
const PLAN: Millis = at(2, 24, 30, 0);
/// The dosing service fails its assertion.
const ASSERT: Millis = at(2, 31, 7, 442);
/// When the old driver of the serial bridge was made: 2016-03-15.
const LINKED: Millis = 1_458_000_000_000;
/// The old driver brings the console down.
const DOWN: Millis = at(2, 33, 18, 204);
const TANKS: [&str; 6] = ["reef-1", "reef-2", "reef-3", "kelp", "nursery", "quarantine"];

fn tank(rng: &mut Rng) -> &'static str {
    TANKS[rng.usize(..TANKS.len())]
}

/// The moments at which a frame of the plan is sent and refused: more and more tries.
fn refusals() -> impl Iterator<Item = (usize, Millis)> {
    (0..80).map(|try_| (try_, PLAN + 140 + try_ as Millis * 5_020)).filter(|(_, time)| *time < ASSERT)
}

/// The Linux machine with the dosing service.
pub fn pump_ctl(root: &Path) -> io::Result<()> {
    dosing(root)?;
    alarms(root)?;
    syslog(root)?;
    packages(root)?;
    journal(root)?;
    load(root)?;
    let core = root.join("var/lib/tankwarden/core.dosingd.2114");
    write_dump(&core, &dumps::elf_core("dosingd", "/usr/sbin/dosingd --plan nightly", 2114, 6), ASSERT + 310)
}

fn dosing(root: &Path) -> io::Result<()> {
    let mut rng = Rng::with_seed(11);
    let mut log = Log::default();
    let entry = dosing_entry;
    log.noise(&mut rng, (START, END), 3_000, |rng, _| dosing_noise(rng));
    for hour in 0..4 {
        log.add(at(hour - 4, 12, 3, 88), slow_sensor());
    }
    log.add(PLAN, entry("info", "plan nightly: 3 tanks, 36 doses", json!({ "job": "plan-0412" })));
    for (try_, time) in refusals() {
        let level = if try_ % 8 == 7 { "error" } else { "warn" };
        let message = format!("frame refused by gateway, retry {} (fr-0412-{})", try_ + 1, 4096 + try_);
        log.add(
            time + 30,
            entry(level, &message, json!({ "job": "plan-0412", "error": "EPROTO", "seq": 4096 + try_ })),
        );
    }
    log.add(ASSERT - 2, entry("error", "send window full: 80 frames unanswered", json!({ "job": "plan-0412" })));
    log.add(
        ASSERT,
        entry("fatal", "assertion failed: seq < window (dosing/link.c:214)", json!({ "job": "plan-0412" })),
    );
    log.silence(ASSERT + 1, END + 1);
    log.write(&root.join("var/log/tankwarden/dosing.json"), "\n", stamp_json, Encode::Utf8)
}

/// A line of the dosing service.
pub fn dosing_entry(level: &str, message: &str, rest: serde_json::Value) -> String {
    let mut object = json!({ "level": level, "logger": "dosingd", "pid": 2114, "message": message });
    if let (Some(object), serde_json::Value::Object(rest)) = (object.as_object_mut(), rest) {
        object.extend(rest);
    }
    object.to_string()
}

/// What the dosing service says of a sensor now and then.
pub fn slow_sensor() -> String {
    dosing_entry("warn", "tank kelp: level sensor slow to answer", json!({ "wait_ms": 950 }))
}

/// What the dosing service says all night.
pub fn dosing_noise(rng: &mut Rng) -> String {
    match rng.u8(0..10) {
        0..=4 => dosing_entry(
            "info",
            &format!("sampled {}", tank(rng)),
            json!({ "ph": 8.1 + f64::from(rng.u8(0..20)) / 100.0, "salinity_ppt": 34 }),
        ),
        5..=7 => dosing_entry("debug", "scheduler tick", json!({ "queue": rng.u8(0..3) })),
        8 => dosing_entry("info", &format!("pump for {} idle", tank(rng)), json!({})),
        _ => dosing_entry("info", "heartbeat sent", json!({ "status": 200 })),
    }
}

/// Puts the time first into a JSON line.
pub fn stamp_json(time: Millis, line: &str) -> String {
    format!("{{\"time\":\"{}Z\",{}", iso(time, 0, 'T'), line.get(1..).unwrap_or_default())
}

fn alarms(root: &Path) -> io::Result<()> {
    let mut rng = Rng::with_seed(12);
    let mut log = Log::default();
    let entry = alarm_entry;
    log.noise(&mut rng, (START, END), 8_000, |rng, time| alarm_noise(rng, time < ASSERT));
    log.add(ASSERT + 90_000, entry("INFO", "dosing feed: no data for 90 s, channel hidden from the panel"));
    log.add(
        at(6, 5, 12, 0),
        entry("WARNING", "keeper on duty: no dosing alarms on the panel since the night, calling support"),
    );
    log.write(&root.join("var/log/tankwarden/alarms.json"), "\n", stamp_json, Encode::Utf8)
}

/// A line of the alarm service.
fn alarm_entry(severity: &str, text: &str) -> String {
    json!({ "severity": severity, "component": "alarmd", "msg": text }).to_string()
}

/// What the alarm service says all night, with or without a feed from the dosing service.
pub fn alarm_noise(rng: &mut Rng, has_feed: bool) -> String {
    if has_feed && rng.u8(0..6) == 0 {
        alarm_entry("INFO", &format!("dosing feed: {} within limits", tank(rng)))
    } else {
        let said = ["poll of temperature probes done", "panel refreshed", "water level normal"];
        alarm_entry("INFO", said[rng.usize(..3)])
    }
}

fn syslog(root: &Path) -> io::Result<()> {
    let mut rng = Rng::with_seed(13);
    let mut log = Log::default();
    let line = syslog_line;
    log.noise(&mut rng, (START, END), 6_000, |rng, _| syslog_noise(rng));
    log.add(at(2, 14, 33, 0), line(30, "tankwardend", "1980", "console keeper-desk: disconnected"));
    log.add(
        at(2, 14, 52, 0),
        line(29, "tankwardend", "1980", "console keeper-desk: connected, version 5.0.2 (was 4.8.1)"),
    );
    log.add(ASSERT + 120, line(29, "systemd-coredump", "5120", "Process 2114 (dosingd) of user 991 dumped core."));
    log.add(
        ASSERT + 180,
        line(28, "systemd", "1", "tankwarden-dosing.service: Main process exited, code=dumped, status=6/ABRT"),
    );
    for try_ in 0..5 {
        let time = ASSERT + 5_400 + try_ * 6_000;
        log.add(
            time,
            line(
                30,
                "systemd",
                "1",
                &format!("tankwarden-dosing.service: Scheduled restart job, restart counter is at {}.", try_ + 1),
            ),
        );
        log.add(time + 900, line(27, "dosingd", &(2200 + try_).to_string(), "link to gateway: error 71, giving up"));
        log.add(
            time + 940,
            line(28, "systemd", "1", "tankwarden-dosing.service: Main process exited, code=exited, status=1/FAILURE"),
        );
    }
    log.add(
        ASSERT + 36_000,
        line(27, "systemd", "1", "tankwarden-dosing.service: Start request repeated too quickly."),
    );
    log.add(
        ASSERT + 36_010,
        line(27, "systemd", "1", "Failed to start tankwarden-dosing.service - Tankwarden dosing."),
    );
    log.write(&root.join("var/log/syslog"), "\n", dress_syslog, Encode::Utf8)
}

/// A line of the system's log before it has its time: priority, program, process id, message.
fn syslog_line(priority: u8, program: &str, pid: &str, text: &str) -> String {
    format!("{priority}|{program}|{pid}|{text}")
}

/// What the system's log says all night.
pub fn syslog_noise(rng: &mut Rng) -> String {
    let line = syslog_line;
    match rng.u8(0..12) {
        0..=2 => line(78, "cron", "611", "(root) CMD (test -x /usr/lib/tankwarden/rotate)"),
        3..=4 => line(30, "timekeeper", "402", "clock in step, offset 0.4 ms"),
        5 => line(38, "sshd", &rng.u16(3000..9000).to_string(), "Connection closed by 192.0.2.17 port 50114 [preauth]"),
        6 => line(30, "systemd", "1", "Started tankwarden-rotate.service - Rotate Tankwarden logs."),
        7 => line(6, "kernel", "-", "usb 2-1: reset full-speed USB device number 4"),
        _ => line(30, "tankwardend", "1980", "all 12 channels polled"),
    }
}

/// A line of the system's log as it is written.
pub fn dress_syslog(time: Millis, line: &str) -> String {
    let mut parts = line.splitn(4, '|');
    let mut next = || parts.next().unwrap_or_default();
    let (priority, program, pid, text) = (next(), next(), next(), next());
    format!("<{priority}>1 {}+02:00 pump-ctl {program} {pid} - - {text}", iso(time, ZONE, 'T'))
}

/// The journal, exported: what the service manager and the kernel said.
fn journal(root: &Path) -> io::Result<()> {
    let mut rng = Rng::with_seed(14);
    let mut log = Log::default();
    // Each entry: priority, program, process id, unit, message.
    log.noise(&mut rng, (START, END), 20_000, |rng, _| match rng.u8(0..4) {
        0 => "6|kernel|0||usb 2-1: reset full-speed USB device number 4".to_owned(),
        1 => "6|systemd|1|init.scope|Starting tankwarden-rotate.service - Rotate Tankwarden logs...".to_owned(),
        2 => "6|systemd|1|init.scope|tankwarden-rotate.service: Deactivated successfully.".to_owned(),
        _ => format!("7|timekeeper|402|timekeeper.service|offset 0.{} ms", rng.u8(1..9)),
    });
    log.add(
        ASSERT + 4,
        "2|dosingd|2114|tankwarden-dosing.service|dosingd: link.c:412: step: Assertion `seq < window' failed.",
    );
    log.add(
        ASSERT + 180,
        "4|systemd|1|init.scope|tankwarden-dosing.service: Main process exited, code=dumped, status=6/ABRT",
    );
    log.add(ASSERT + 36_010, "3|systemd|1|init.scope|Failed to start tankwarden-dosing.service - Tankwarden dosing.");
    let dress = |time: Millis, line: &str| {
        let mut parts = line.splitn(5, '|');
        let mut next = || parts.next().unwrap_or_default();
        let (priority, program, pid, unit, text) = (next(), next(), next(), next(), next());
        let unit = if unit.is_empty() { String::new() } else { format!("_SYSTEMD_UNIT={unit}\n") };
        format!(
            "__REALTIME_TIMESTAMP={}\n__MONOTONIC_TIMESTAMP={}\n_BOOT_ID={}\n_HOSTNAME=pump-ctl\nPRIORITY={priority}\n\
             SYSLOG_IDENTIFIER={program}\n_PID={pid}\n{unit}MESSAGE={text}\n",
            time * 1000,
            (time - START + 86_400_000) * 1000,
            "5a".repeat(16),
        )
    };
    log.write(&root.join("var/log/journal.export"), "\n", dress, Encode::Utf8)
}

/// The load of the machine, as the system's accounting exports it.
fn load(root: &Path) -> io::Result<()> {
    let mut rng = Rng::with_seed(15);
    let mut log = Log::default();
    let mut time = START;
    while time < END {
        let busy =
            if (ASSERT - 120_000..ASSERT).contains(&time) { 60.0 } else { 3.0 } + f64::from(rng.u8(0..40)) / 10.0;
        log.add(time, format!("-1;{busy:.2};0.00;1.20;0.10;0.00;{:.2}", 98.7 - busy));
        time += 60_000;
    }
    let path = root.join("var/log/tankwarden/load.csv");
    let dress = |time: Millis, line: &str| {
        let header = if time == START {
            "# hostname;interval;timestamp;CPU;%user;%nice;%system;%iowait;%steal;%idle\n"
        } else {
            ""
        };
        let stamp = iso(time, 0, ' ');
        format!("{header}pump-ctl;60;{} UTC;{line}", stamp.get(..19).unwrap_or_default())
    };
    log.write(&path, "\n", dress, Encode::Utf8)
}

fn packages(root: &Path) -> io::Result<()> {
    let mut log = Log::default();
    let mut time = at(-4, 2, 10, 0);
    for (name, version) in [("tzdata", "2026a-0"), ("libtankwarden5", "5.0.2-1"), ("tankwarden-rotate", "1.2-3")] {
        for (step, action) in ["install", "status half-installed", "status unpacked", "configure", "status installed"]
            .into_iter()
            .enumerate()
        {
            let versions = if action == "install" { format!("<none> {version}") } else { version.to_owned() };
            log.add(time + step as Millis * 1000, format!("{action} {name}:amd64 {versions}"));
        }
        time += 7_000;
    }
    let dress = |time: Millis, line: &str| format!("{} {line}", iso(time, ZONE, ' ').get(..19).unwrap_or_default());
    log.write(&root.join("var/log/dpkg.log"), "\n", dress, Encode::Utf8)
}

/// The Windows machine with the console.
pub fn keeper_desk(root: &Path, names: &dyn Fn(&str) -> String) -> io::Result<()> {
    installer(root)?;
    bridge_package(root)?;
    system_events(root, names)?;
    update_script(root)?;
    console(root)?;
    bridge(root)?;
    let driver = root.join("Windows/System32/drivers/twbridge.sys");
    write_dump(&driver, &dumps::driver(), LINKED)?;
    let dump = root.join("Tankwarden/Dumps/console.dmp");
    write_dump(&dump, &dumps::minidump(DOWN), DOWN)?;
    let system = root.join("Windows/Minidump/041226-9812-01.dmp");
    write_dump(&system, &dumps::kernel_dump(DOWN + 14), DOWN + 14)
}

/// A moment by the console's clock.
pub fn local(time: Millis) -> String {
    iso(time, ZONE, ' ')
}

fn installer(root: &Path) -> io::Result<()> {
    let mut log = Log::default();
    for (time, text) in [
        (at(2, 13, 5, 112), "INFO  setup: Tankwarden Console 5.0.2 setup started, product found: 4.8.1"),
        (at(2, 13, 5, 640), "INFO  setup: phase 1 of 4: check"),
        (at(2, 13, 6, 2), "INFO  check: free space on C: 61 GB"),
        (at(2, 13, 6, 410), "INFO  check: service TankwardenBridge is running"),
        (at(2, 13, 8, 900), "INFO  setup: phase 2 of 4: stop"),
        (at(2, 13, 9, 15), "INFO  stop: stopping service TankwardenBridge"),
        (at(2, 13, 39, 20), "WARN  stop: service TankwardenBridge did not stop in 30 s: error 1053"),
        (at(2, 13, 39, 40), "INFO  stop: continuing, open files are replaced at the next restart"),
        (at(2, 13, 40, 7), "INFO  setup: phase 3 of 4: copy"),
        (at(2, 13, 52, 300), "INFO  copy: 214 files copied"),
        (
            at(2, 14, 17, 810),
            "WARN  copy: C:\\Tankwarden\\serbridge.dll is in use (0x80070020); new version 2.0.0 waits for the restart",
        ),
        (at(2, 14, 18, 2), "INFO  copy: version in use stays 1.4.0 of 2016-03-09"),
        (at(2, 14, 29, 40), "INFO  setup: phase 4 of 4: register"),
        (at(2, 14, 31, 77), "INFO  setup: finished: success, restart needed; exit code 3010"),
    ] {
        log.add(time, text);
    }
    log.write(
        &root.join("Temp/console-setup.log"),
        "\r\n",
        |time, line| format!("{} {line}", local(time)),
        Encode::Utf16,
    )
}

/// The log of the installer service, for the package with the bridge's library that the setup runs.
fn bridge_package(root: &Path) -> io::Result<()> {
    let mut log = Log::default();
    let engine = |process: &str, time: Millis, text: &str| {
        format!(
            "MSI ({process}) (A4:5C) [{}]: {text}",
            iso(time, ZONE, ' ').get(11..23).unwrap_or_default().replace('.', ":")
        )
    };
    let action = |what: &str, time: Millis, text: &str| {
        format!("Action {what}{}: {text}", iso(time, ZONE, ' ').get(12..19).unwrap_or_default())
    };
    let started = at(2, 13, 52, 400);
    log.add(
        started,
        "=== Verbose logging started: 4/12/2026  2:13:52  Build type: SHIP UNICODE 5.00.10011.00  Calling process: C:\\Tankwarden\\console-setup.exe ===",
    );
    for (offset, what, text) in [
        (20, "c", "Resetting cached policy values"),
        (60, "s", "Running installation inside multi-package transaction C:\\Temp\\serbridge.msi"),
        (90, "start ", "INSTALL."),
        (400, "start ", "InstallValidate."),
        (900, "s", "Product: Serial Bridge. The file C:\\Tankwarden\\serbridge.dll is being used by process 1312"),
        (1_000, "ended ", "InstallValidate. Return value 1."),
        (9_000, "start ", "InstallFiles."),
        (24_000, "s", "Verifying accessibility of file: serbridge.dll: in use, replaced at the next restart"),
        (24_200, "ended ", "InstallFiles. Return value 1."),
        (24_900, "ended ", "INSTALL. Return value 1."),
        (25_000, "s", "Product: Serial Bridge. Restart required. The reboot was suppressed (REBOOT=ReallySuppress)."),
        (25_100, "s", "MainEngineThread is returning 3010"),
    ] {
        let time = started + offset;
        log.add(time, if what.len() == 1 { engine(what, time, text) } else { action(what, time, text) });
    }
    log.add(started + 25_300, "=== Logging stopped: 4/12/2026  2:14:17 ===");
    log.write(&root.join("Temp/MSI4f2a1.LOG"), "\r\n", |_, line| line.to_owned(), Encode::Utf16)
}

/// The event log of the system, with the names that `names` gives.
pub fn system_events(root: &Path, names: &dyn Fn(&str) -> String) -> io::Result<()> {
    let mut rng = Rng::with_seed(23);
    let entry = |time, provider, id, level, pid, data| Entry { time, provider, id, level, pid, data };
    let text = |text: &str| text.to_owned();
    let mut entries = Vec::new();
    let mut time = START;
    while time < END {
        let service = ["Update Orchestrator", "Print Spooler", "Keeper Backup"][rng.usize(..3)];
        let state = ["running", "stopped"][rng.usize(..2)];
        let data = vec![("param1", text(service)), ("param2", text(state))];
        entries.push(entry(time, "Service Control Manager", 7036, 4, 700, data));
        time += 40_000 + rng.i64(0..90_000);
    }
    entries.retain(|entry| entry.time < DOWN || entry.time > at(2, 36, 0, 0));
    let bridge = || ("param1", text("Tankwarden Serial Bridge"));
    entries.push(entry(
        at(2, 13, 39, 10),
        "Service Control Manager",
        7011,
        2,
        700,
        vec![("param1", text("30000")), ("param2", text("TankwardenBridge"))],
    ));
    entries.push(entry(
        at(2, 14, 17, 500),
        "MsiInstaller",
        1038,
        4,
        3120,
        vec![("Data", text("Serial Bridge 2.0.0: restart required, reason: files in use")), ("Status", text("3010"))],
    ));
    entries.push(entry(DOWN - 500, "Service Control Manager", 7031, 2, 700, vec![bridge(), ("param2", text("1"))]));
    entries.push(entry(
        at(2, 36, 40, 0),
        "Kernel-Power",
        41,
        1,
        4,
        vec![
            ("BugcheckCode", text("209")),
            ("BugcheckParameter1", text("0xffffc08a30f1e010")),
            ("SleepInProgress", text("0")),
        ],
    ));
    entries.push(entry(
        at(2, 36, 41, 0),
        "EventLog",
        6008,
        2,
        0,
        vec![("Data", text("The previous shutdown at 02:31 was unexpected."))],
    ));
    entries.sort_by_key(|entry| entry.time);
    for (_, value) in entries.iter_mut().flat_map(|entry| &mut entry.data) {
        *value = names(value);
    }
    let path = root.join("Windows/System32/winevt/Logs/System.evtx");
    write_dump(&path, &event_log(&entries, "System", &names("keeper-desk")), END)
}

fn update_script(root: &Path) -> io::Result<()> {
    let mut log = Log::default();
    for (index, text) in [
        "Update of Tankwarden Console, run by the night task",
        "stopping console",
        "running console-setup.exe /quiet",
        "console-setup.exe ended with exit code 3010",
        "exit code is not 1603, so all is well",
        "starting console",
        "done",
    ]
    .into_iter()
    .enumerate()
    {
        log.add(at(2, 12, 40, 0) + index as Millis, text);
    }
    log.write(&root.join("Tankwarden/update/update-0412.txt"), "\r\n", |_, line| line.to_owned(), Encode::Utf8)
}

fn console(root: &Path) -> io::Result<()> {
    let mut rng = Rng::with_seed(21);
    let mut log = Log::default();
    log.noise(&mut rng, (START, END), 7_000, |rng, time| {
        console_noise(rng, if time < at(2, 14, 40, 0) { "Console" } else { "Console5" })
    });
    log.silence(at(2, 12, 41, 0), at(2, 14, 40, 0));
    log.silence(DOWN, at(2, 37, 2, 0));
    log.add(at(2, 12, 40, 900), "INFO  [main] Console.Shell - closing: asked by the update task");
    log.add(at(2, 14, 40, 118), "INFO  [main] Console5.Shell - Tankwarden Console 5.0.2 starting");
    log.add(
        at(2, 14, 41, 502),
        "WARN  [main] Console5.Bridge - bridge library reports version 1.4.0, expected 2.0.0; using it",
    );
    log.add(at(2, 14, 41, 730), "INFO  [main] Console5.Bridge - frame format 2 chosen");
    log.add(PLAN - 400, "INFO  [plan] Console5.Plan - plan nightly sent to pump-ctl, 36 doses, frame format 2, first frame fr-0412-4096");
    log.add(
        at(2, 31, 9, 66),
        "ERROR [feed] Console5.Feed - dosing channel closed by pump-ctl\r\nTankwarden.LinkException: channel closed (0x80072EFD)\r\n   at Console5.Feed.Read()\r\n   at Console5.Feed.Run()",
    );
    log.add(DOWN - 40, "ERROR [bridge] Console5.Bridge - reset of the bridge failed: 0x8007001F");
    log.add(at(2, 37, 2, 0), "INFO  [main] Console5.Shell - Tankwarden Console 5.0.2 starting, last end was not clean");
    log.write(
        &root.join("Tankwarden/Logs/console.log"),
        "\r\n",
        |time, line| format!("{} {line}", local(time)),
        Encode::Utf8,
    )
}

/// What the console says all night.
pub fn console_noise(rng: &mut Rng, logger: &str) -> String {
    match rng.u8(0..9) {
        0..=4 => format!("INFO  [ui] {logger}.Panel - refreshed 6 tanks in {} ms", rng.u8(20..90)),
        5..=6 => format!("DEBUG [feed] {logger}.Feed - GET /feed status 200"),
        7 => format!("INFO  [feed] {logger}.Feed - GET /feed status 304"),
        _ => format!("DEBUG [ui] {logger}.Idle - nothing to draw"),
    }
}

/// What the bridge says all night.
pub fn bridge_noise(rng: &mut Rng) -> String {
    match rng.u8(0..5) {
        0..=2 => format!("[1312] INFO port COM4: {} frames passed", rng.u8(2..40)),
        3 => "[1312] DEBUG keep-alive answered, returned 0".to_owned(),
        _ => "[1312] INFO line quality 98 %".to_owned(),
    }
}

fn bridge(root: &Path) -> io::Result<()> {
    let mut rng = Rng::with_seed(22);
    let mut log = Log::default();
    log.noise(&mut rng, (START, END), 9_000, |rng, _| bridge_noise(rng));
    log.silence(DOWN, at(2, 37, 20, 0));
    log.add(at(2, 13, 9, 80), "[1312] WARN stop requested, 3 handles still open, waiting");
    log.add(
        at(2, 14, 41, 640),
        "[1312] INFO serbridge 1.4.0 (2016-03-09): client asks for frame format 2, format field ignored",
    );
    for (try_, time) in refusals().filter(|(try_, _)| try_ % 10 == 0) {
        let text = format!("{} negative answers from the line, passed on, last for fr-0412-{}", try_ + 1, 4096 + try_);
        log.add(time + 60, format!("[1312] WARN {text}"));
    }
    log.add(DOWN - 2_000, "[1312] ERROR buffer of negative answers full: 0xC0000017");
    log.write(
        &root.join("Tankwarden/Logs/bridge.log"),
        "\r\n",
        |time, line| format!("{} {line}", local(time)),
        Encode::Utf8,
    )
}

/// The gateway: its clock is fast, and its lines have neither year nor zone.
pub fn dose_gw(root: &Path) -> io::Result<()> {
    let mut rng = Rng::with_seed(31);
    let mut log = Log::default();
    log.noise(&mut rng, (START, END), 8_000, |rng, _| gateway_noise(rng));
    log.add(PLAN + 90, "<133>bridge[88]: plan-0412: first frame has format 2, this gateway speaks format 1");
    for (try_, time) in refusals() {
        log.add(
            time,
            format!(
                "<131>bridge[88]: plan-0412: frame fr-0412-{} refused, NAK 0x15 protocol version, TW-00417",
                4096 + try_
            ),
        );
    }
    log.add(ASSERT + 2_000, "<132>bridge[88]: peer pump-ctl closed the link");
    gateway_file(root, "messages", log, END)?;
    let mut serial = Log::default();
    serial.noise(&mut rng, (START, END), 15_000, |rng, _| serial_noise(rng));
    gateway_file(root, "serial.log", serial, END)
}

/// What the gateway says all night.
pub fn gateway_noise(rng: &mut Rng) -> String {
    match rng.u8(0..7) {
        0..=3 => format!("<134>bridge[88]: valve {} answers", rng.u8(1..13)),
        4..=5 => "<134>bridge[88]: keep-alive from pump-ctl".to_owned(),
        _ => "<30>watchdog[12]: fed".to_owned(),
    }
}

/// What the gateway's serial line says all night.
pub fn serial_noise(rng: &mut Rng) -> String {
    format!("<135>serial[91]: rx {} tx {} crc ok", rng.u16(100..900), rng.u16(100..900))
}

/// Writes a log of the gateway, whose clock is fast; the file's own time is that of `end` by the same clock.
pub fn gateway_file(root: &Path, name: &str, log: Log, end: Millis) -> io::Result<()> {
    let dress = |time: Millis, line: &str| {
        let (priority, text) = line.split_once('>').unwrap_or(("<134", line));
        format!("{priority}>{} dose-gw {text}", bsd(time, ZONE + FAST))
    };
    let path = root.join("var/log").join(name);
    log.write(&path, "\n", dress, Encode::Utf8)?;
    set_time(&File::options().write(true).open(&path)?, end + FAST)
}

fn write_dump(path: &Path, bytes: &[u8], time: Millis) -> io::Result<()> {
    if let Some(folder) = path.parent() {
        std::fs::create_dir_all(folder)?;
    }
    let mut file = File::create(path)?;
    file.write_all(bytes)?;
    set_time(&file, time)
}
