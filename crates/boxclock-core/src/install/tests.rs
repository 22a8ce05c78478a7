//! Runs of several kinds of installers, with what is told of each.

use super::*;
use crate::testing::case;

mod trust;
mod windows;

pub(super) fn runs(files: &[(&str, &str)]) -> Vec<Run> {
    let case = case(files);
    case.view().run(&InstallAnalysis, &Work::default()).unwrap().to_vec()
}

pub(super) fn stamped(lines: &[&str]) -> String {
    lines
        .iter()
        .enumerate()
        .map(|(at, line)| format!("2026-04-12T02:{:02}:{:02}Z {line}\n", at / 60, at % 60))
        .collect()
}

#[test]
fn what_failed_first_is_not_the_loudest_line() {
    let log = stamped(&[
        "INFO Starting installation of Tankwarden Console 5.0.2",
        "INFO step 1 of 4: check",
        "WARN cannot read the old settings, ignored",
        "INFO step 2 of 4: copy files",
        "ERROR download of help.zip failed, retry 1 of 3",
        "INFO download of help.zip succeeded on retry 2",
        "INFO step 3 of 4: register the bridge",
        "ERROR service TankwardenBridge did not answer, returned 1053",
        "ERROR step failed",
        "INFO Rolling back",
        "ERROR cannot remove help.zip",
        "FATAL Installation failed with exit code 1603",
    ]);
    let found = runs(&[("keeper-desk/console-setup.log", &log)]);
    assert_eq!(found.len(), 1);
    let run = &found[0];
    assert_eq!((run.outcome.name(), run.kind), ("rolled-back", "install"));
    assert_eq!((run.product.as_deref(), run.version.as_deref()), (Some("Tankwarden Console"), Some("5.0.2")));
    let first = run.first_failure.as_ref().unwrap();
    assert_eq!((first.place.line, first.step.as_deref()), (8, Some("register the bridge")));
    assert_eq!(first.code.as_ref().map(|code| code.number), Some(1053));
    assert_eq!(run.code.as_ref().map(|code| code.number), Some(1603));
    assert_eq!(run.rollback.as_ref().map(|place| place.line), Some(10));
    let harmless: Vec<u64> = run.not_failures.iter().map(|(place, _)| place.line).collect();
    assert!(harmless.contains(&5), "{:?}", run.not_failures);
    assert_eq!(run.phases.len(), 3);
}

#[test]
fn bad_words_of_a_run_that_ended_well_are_no_failures() {
    let log = stamped(&[
        "INFO Upgrade of Tankwarden started",
        "ERROR key not found, using the default",
        "INFO 0 errors, 2 warnings",
        "INFO Upgrade completed successfully",
    ]);
    let found = runs(&[("pump-ctl/upgrade.log", &log)]);
    assert_eq!((found[0].outcome.name(), found[0].kind), ("succeeded", "upgrade"));
    assert!(found[0].first_failure.is_none());
    assert_eq!(found[0].not_failures.len(), 1);
}

#[test]
fn ends_that_are_none() {
    let cut = stamped(&["INFO Setup started", "INFO step 1 of 3: unpack", "INFO step 2 of 3: copy the driver"]);
    let later = "2026-04-12T05:00:00Z app: fed\n";
    let found = runs(&[("pump-ctl/setup.log", &cut), ("pump-ctl/app.log", later)]);
    assert_eq!(found[0].outcome, Outcome::CutOff);
    assert_eq!(found[0].last_open, Some(("copy the driver".into(), 3)));
    let refused = stamped(&[
        "INFO Setup started",
        "ERROR Another installation is already in progress",
        "ERROR Setup failed with exit code 1618",
    ]);
    assert_eq!(runs(&[("pump-ctl/setup.log", &refused)])[0].outcome, Outcome::Refused);
    let cancelled =
        stamped(&["INFO Setup started", "INFO cancelled by the user", "ERROR Setup failed with exit code 1602"]);
    assert_eq!(runs(&[("pump-ctl/setup.log", &cancelled)])[0].outcome, Outcome::Cancelled);
    let restart = stamped(&["INFO Setup started", "INFO files in use", "INFO Setup finished, exit code 3010"]);
    let found = runs(&[("pump-ctl/setup.log", &restart)]);
    assert_eq!((found[0].outcome, found[0].restart_needed), (Outcome::RestartNeeded, true));
}

#[test]
fn a_success_with_a_failing_number_is_none() {
    let log = stamped(&[
        "INFO Starting installation of Tankwarden Console",
        "ERROR Produkt: Tankwarden Console -- Fehler 1722. Ein Programm konnte nicht ausgeführt werden.",
        "INFO Installation success or error status: 1603.",
    ]);
    let found = runs(&[("keeper-desk/setup.log", &log)]);
    assert_eq!(
        (found[0].outcome, found[0].code.as_ref().map(|code| code.number)),
        (Outcome::Failed, Some(1603)),
        "{found:#?}"
    );
    assert_eq!(found[0].first_failure.as_ref().unwrap().place.line, 2);
}

#[test]
fn two_runs_in_one_file_are_two() {
    let log = stamped(&[
        "INFO Starting upgrade of Tankwarden",
        "ERROR cannot write plan.db: No space left on device",
        "ERROR Upgrade failed with exit code 4",
        "INFO Starting upgrade of Tankwarden",
        "INFO Upgrade completed successfully",
    ]);
    let found = runs(&[("pump-ctl/upgrade.log", &log)]);
    let told: Vec<(&str, u64, u64)> = found.iter().map(|run| (run.outcome.name(), run.line, run.last_line)).collect();
    assert_eq!(told, [("failed", 1, 3), ("succeeded", 4, 5)]);
    assert_eq!(found[0].first_failure.as_ref().unwrap().place.line, 2);
}

#[test]
fn the_reason_in_a_log_that_the_first_one_names() {
    let parent = stamped(&[
        "INFO Starting installation of Tankwarden Console",
        "INFO running serbridge.msi, log file: C:\\Temp\\serbridge.log",
        "ERROR serbridge.msi returned 1603",
        "ERROR Installation failed with exit code 1603",
    ]);
    let child = "=== Verbose logging started: 4/12/2026  2:00:01  Build type: SHIP UNICODE 5.00.10011.00  Calling process: C:\\Temp\\setup.exe ===\r\n\
                 Action start 2:00:01: INSTALL.\r\nAction start 2:00:01: InstallDriver.\r\n\
                 MSI (s) (A4:5C) [02:00:02:123]: Error 1920. Service TankwardenBridge failed to start.\r\n\
                 Action ended 2:00:02: InstallDriver. Return value 3.\r\nAction ended 2:00:02: INSTALL. Return value 3.\r\n\
                 MSI (s) (A4:5C) [02:00:03:123]: MainEngineThread is returning 1603\r\n=== Logging stopped: 4/12/2026  2:00:03 ===\r\n";
    let found = runs(&[("keeper-desk/console-setup.log", &parent), ("keeper-desk/serbridge.log", child)]);
    let parent = found.iter().find(|run| run.source.ends_with("console-setup.log")).unwrap();
    let first = parent.first_failure.as_ref().unwrap();
    assert_eq!(
        (first.place.source.rsplit('/').next(), first.place.line, first.step.as_deref()),
        (Some("serbridge.log"), 4, Some("InstallDriver"))
    );
    assert!(parent.consequences.iter().any(|place| place.source == parent.source));
    assert!(parent.child_logs[0].1.as_deref().unwrap().ends_with("serbridge.log"));
}

#[test]
fn workers_and_what_is_left_to_do() {
    let log = stamped(&[
        "INFO migration started",
        "INFO worker 1: job tanks started",
        "INFO worker 2: job plans started",
        "INFO worker 1: job tanks done",
        "ERROR worker 2: job plans failed: lock timeout",
        "ERROR migration failed",
    ]);
    let found = runs(&[("pump-ctl/migration.log", &log)]);
    let board: Vec<(&str, &str, &str)> =
        found[0].workers.iter().map(|one| (one.worker.as_str(), one.job.as_str(), one.outcome)).collect();
    assert_eq!(board, [("1", "tanks", "done"), ("2", "plans", "failed")]);
    assert_eq!(found[0].remaining, ["plans"]);
    assert_eq!(found[0].first_failure.as_ref().unwrap().place.line, 5);
}

#[test]
fn three_logs_of_one_package_run() {
    let history = "\nStart-Date: 2026-04-12  02:00:01\nCommandline: apt-get install tankwarden-tools\n\
                   Install: tankwarden-tools:amd64 (2.0-1)\nError: Sub-process /usr/bin/dpkg returned an error code (1)\nEnd-Date: 2026-04-12  02:00:09\n";
    let term = "\nLog started: 2026-04-12  02:00:01\nPreparing to unpack .../tankwarden-tools_2.0-1_amd64.deb ...\n\
                Unpacking tankwarden-tools (2.0-1) ...\nSetting up tankwarden-tools (2.0-1) ...\nno such table: tanks\n\
                dpkg: error processing package tankwarden-tools (--configure):\n installed tankwarden-tools package post-installation script subprocess returned error exit status 7\n\
                Errors were encountered while processing:\n tankwarden-tools\nLog ended: 2026-04-12  02:00:09\n";
    let found = runs(&[("pump-ctl/var/log/apt/history.log", history), ("pump-ctl/var/log/apt/term.log", term)]);
    assert_eq!(found.len(), 1, "{found:#?}");
    let run = &found[0];
    assert_eq!((run.outcome, run.code.as_ref().unwrap().number), (Outcome::Failed, 1));
    let first = run.first_failure.as_ref().unwrap();
    assert_eq!(
        (first.place.line, first.step.as_deref(), first.code.as_ref().unwrap().number),
        (7, Some("tankwarden-tools"), 7)
    );
    assert_eq!(run.end.unwrap() - run.start.unwrap(), 8_000_000_000);
    assert_eq!(run.remaining, ["tankwarden-tools"]);
}

#[test]
fn ordinary_logs_have_no_runs() {
    let log = stamped(&["INFO service started", "ERROR lease lost", "INFO job 12 started", "INFO job 12 finished"]);
    assert!(runs(&[("pump-ctl/app.log", &log)]).is_empty());
    let worker = stamped(&["INFO request answered, returned 0", "ERROR request failed, returned 5"]);
    assert!(runs(&[("pump-ctl/worker.log", &worker)]).is_empty());
}

/// Logs that real installers wrote, each with the outcome, the kind and the line that failed first (0 for none), as a person reads them.
#[test]
fn logs_of_real_installers() {
    let folder = std::path::Path::new(env!("CARGO_MANIFEST_DIR")).join("tests/data/installs");
    let rows: [(&str, &str, &str, u64); 19] = [
        ("alembic-fail.log", "failed", "upgrade", 11),
        ("ansible-fail.log", "failed", "install", 14),
        ("ansible-ignored.log", "succeeded", "install", 0),
        ("apt-depends.log", "failed", "unknown", 10),
        ("apt-lock.log", "refused", "unknown", 1),
        ("cargo-fail.log", "failed", "install", 3),
        ("django-fail.log", "failed", "upgrade", 11),
        ("django-ok.log", "succeeded", "upgrade", 0),
        ("dnf-need.log", "failed", "install", 30),
        ("dnf-ok.log", "succeeded", "install", 0),
        ("gem-missing.log", "failed", "install", 1),
        ("make-fail.log", "failed", "install", 5),
        ("make-ignored.log", "succeeded", "install", 0),
        ("npm-404.log", "failed", "install", 33),
        ("npm-ok.log", "succeeded", "install", 0),
        ("pip-build.log", "failed", "install", 22),
        ("pip-ok.log", "succeeded", "install", 0),
        ("zypper-history.log", "succeeded", "install", 0),
        ("zypper-need.log", "failed", "unknown", 5),
    ];
    for (name, outcome, kind, line) in rows {
        let text = std::fs::read_to_string(folder.join(name)).unwrap();
        let found = runs(&[(&format!("basin-4/{name}"), &text)]);
        assert_eq!(found.len(), 1, "{name}: {found:#?}");
        let run = &found[0];
        assert_eq!((run.outcome.name(), run.kind), (outcome, kind), "{name}");
        let first = run.first_failure.as_ref().map_or(0, |first| first.place.line);
        assert!(first.abs_diff(line) <= 2 && (first == 0) == (line == 0), "{name}: line {first}, not {line}");
    }
}

/// Logs of systems name installers, and other programs speak in words like theirs.
#[test]
fn a_line_of_an_installer_in_another_log_makes_no_run() {
    let noise =
        |at: usize| format!("2026-04-12T02:{:02}:{:02}Z basin-4 dosingd[77]: frame {at} sent\n", at / 60, at % 60);
    let among = |line: &str| {
        let mut log: String = (0..30).map(noise).collect();
        log.push_str(&format!("2026-04-12T02:30:00Z basin-4 {line}\n"));
        log.push_str(&(2000..2100).map(noise).collect::<String>());
        log
    };
    for line in [
        "dpkg[9]: error: cannot open lock: Permission denied",
        "make[1]: *** [Makefile:5: feed] Error 1",
        "ansible: ERROR! no hosts matched",
        "feedd[8]: Updating valve table",
        "feedd[8]: Nothing to do.",
    ] {
        let found = runs(&[("basin-4/syslog", &among(line))]);
        assert!(found.is_empty(), "{line}: {found:#?}");
    }
}

#[test]
fn what_installs_nothing_is_no_run() {
    let text = "2026-11-30T08:04:26+0000 DEBUG DNF version: 4.14.0\n2026-11-30T08:04:26+0000 DDEBUG Command: dnf makecache --timer\n\
                2026-11-30T08:04:26+0000 DDEBUG Base command: makecache\n2026-11-30T08:04:27+0000 INFO Metadata cache created.\n";
    assert!(runs(&[("basin-4/dnf.log", text)]).is_empty());
}

#[test]
fn where_another_log_of_the_installer_says_why_that_is_the_place() {
    let of = |text: &str| text.replace('@', "2026-11-30T08:04:26+0000");
    let log = of("@ INFO --- logging initialized ---\n@ DEBUG DNF version: 4.14.0\n@ DDEBUG Base command: install\n\
                  @ INFO Running transaction\n@ DEBUG Failed: bridge-1.0-1.noarch\n@ DDEBUG Cleaning up.\n");
    let beside =
        of("@ SUBDEBUG Installed: bridge-1.0-1.noarch\n@ ERROR Error in PREIN scriptlet in rpm package bridge\n");
    let found = runs(&[("basin-4/var/log/dnf.log", &log), ("basin-4/var/log/dnf.rpm.log", &beside)]);
    assert_eq!(found.len(), 1, "{found:#?}");
    let place = &found[0].first_failure.as_ref().unwrap().place;
    assert!(place.source.ends_with("dnf.rpm.log"), "{place:?}");
    assert_eq!(place.line, 2);
    assert_eq!(found[0].consequences[0].line, 5);
}

#[test]
fn a_log_that_was_not_read_to_its_end_says_so() {
    let run = Run { kind: "upgrade", read_up_to: Some(4_000_000), ..Run::default() };
    assert!(summary(&run).ends_with("was read up to line 4000000: the end is not known."), "{}", summary(&run));
    assert!(!summary(&Run::default()).contains("longer"));
}
