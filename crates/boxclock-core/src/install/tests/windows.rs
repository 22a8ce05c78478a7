//! Logs of Windows installers and of others in words of their own, typed after what is published of them and as people describe them; and
//! logs of workers.

use super::*;

/// What is told of a run in a line: outcome, kind, product, version, the line that failed first, its number, the number of the run.
fn told(run: &Run) -> String {
    let text = |text: &Option<String>| text.clone().unwrap_or_else(|| "-".into());
    let number =
        |code: Option<&ResultCode>| code.map_or("-".into(), |code| format!("{:#x}", code.number & 0xFFFF_FFFF));
    let first = run.first_failure.as_ref();
    format!(
        "{} {} [{}] {} first {} {} code {}",
        run.outcome.name(),
        run.kind,
        text(&run.product),
        text(&run.version),
        first.map_or(0, |first| first.place.line),
        number(first.and_then(|first| first.code.as_ref())),
        number(run.code.as_ref()),
    )
}

fn of_files(names: &[&str]) -> Vec<Run> {
    let folder = std::path::Path::new(env!("CARGO_MANIFEST_DIR")).join("tests/data/installs/typed");
    let texts: Vec<(String, String)> = names
        .iter()
        .map(|name| (format!("basin-4/{name}"), std::fs::read_to_string(folder.join(name)).unwrap()))
        .collect();
    let files: Vec<(&str, &str)> = texts.iter().map(|(name, text)| (name.as_str(), text.as_str())).collect();
    let mut found = runs(&files);
    found.sort_by(|a, b| (&a.source, a.line).cmp(&(&b.source, b.line)));
    found
}

fn is_told(name: &str, expected: &[&str]) {
    let found: Vec<String> = of_files(&[name]).iter().map(told).collect();
    assert_eq!(found, expected, "{name}");
}

#[test]
fn runs_of_the_installer_service() {
    is_told("service-rolled-back.log", &["rolled-back install [Tankgate] 2.4.0 first 44 0x780 code 0x643"]);
    is_told("service-refused.log", &["refused unknown [-] - first 3 0x102 code 0x652"]);
    is_told("service-cancelled.log", &["cancelled install [Tankwarden Console] 3.2.0 first 0 - code 0x642"]);
    is_told("service-repair.log", &["succeeded repair [Tankwarden Console] 3.2.0 first 0 - code 0x0"]);
    is_told(
        "service-two-runs.log",
        &[
            "succeeded remove [Tankwarden Console 3.1] 3.1.0 first 0 - code 0x0",
            "restart-needed install [Tankwarden Console 3.2] 3.2.0 first 0 - code 0xbc2",
        ],
    );
}

#[test]
fn the_installer_service_in_other_languages() {
    is_told("service-german.log", &["failed install [Tankgate] 2.4.0 first 10 - code 0x643"]);
    is_told("service-french.log", &["failed install [Tankwarden Console] 3.2.0 first 6 - code 0x643"]);
    let french = of_files(&["service-french.log"]);
    let phases: Vec<(&str, Option<&str>)> =
        french[0].phases.iter().map(|phase| (phase.name.as_str(), phase.outcome)).collect();
    assert_eq!(
        phases,
        [("INSTALL", Some("failed")), ("InstallFiles", Some("done")), ("InstallFinalize", Some("failed"))]
    );
}

#[test]
fn what_goes_wrong_while_a_run_is_undone_is_no_failure() {
    let run = &of_files(&["service-rolled-back.log"])[0];
    assert_eq!(run.rollback.as_ref().map(|place| place.line), Some(53));
    let why = |line: u64| run.not_failures.iter().find(|(place, _)| place.line == line).map(|(_, why)| why.as_str());
    assert_eq!(why(57), Some("it was while the run was undone"));
    assert_eq!(why(23), Some("the line says itself that it does not matter"));
    assert!(run.consequences.iter().all(|place| place.line != 57), "{:?}", run.consequences);
}

#[test]
fn a_bundle_and_the_log_of_the_package_that_failed_in_it() {
    is_told("bundle-signature.log", &["rolled-back install [Tankwarden Suite] - first 21 0x80096005 code 0x80096005"]);
    let found = of_files(&["suite.log", "suite_000_gate.log"]);
    let suite = found.iter().find(|run| run.product.as_deref() == Some("Tankwarden Suite")).unwrap();
    assert_eq!(told(suite), "failed install [Tankwarden Suite] 4.0.1.0 first 7 0x643 code 0x80070643");
    assert!(suite.first_failure.as_ref().unwrap().place.source.ends_with("suite_000_gate.log"));
    let items: Vec<(&str, &str, Option<&str>)> =
        suite.items.iter().map(|item| (item.kind, item.name.as_str(), item.after.as_deref())).collect();
    assert_eq!(items, [("package", "gate", Some("Install"))]);
}

#[test]
fn sessions_of_servicing_and_sections_of_devices_are_runs() {
    is_told(
        "servicing.log",
        &[
            "failed patch [Package_for_RollupFix] 19041.3570.1.8 first 7 0xc0000034 code 0x80073712",
            "restart-needed patch [-] - first 0 - code 0x0",
        ],
    );
    is_told(
        "devices.log",
        &[
            "failed install [USB\\VID_1234&PID_5678\\A1B2] - first 22 0x800b0109 code 0x800b0109",
            "succeeded install [USB\\VID_1234&PID_9999\\C3] - first 0 - code -",
        ],
    );
}

#[test]
fn deployments_by_a_client() {
    is_told("deployment.log", &["failed install [Tankwarden Console 3.2] - first 8 0x643 code 0x643"]);
    is_told("sequence.log", &["failed install [-] - first 4 0x80004005 code 0x80004005"]);
    let sequence = of_files(&["sequence.log"]);
    assert_eq!(sequence[0].first_failure.as_ref().unwrap().step.as_deref(), Some("Install Panel"));
    let deployment = of_files(&["deployment.log"]);
    let child: Vec<&str> = deployment[0].child_logs.iter().map(|(path, ..)| path.as_str()).collect();
    assert_eq!(child, ["C:\\Logs\\panel-setup.log"]);
}

#[test]
fn summaries_scripts_and_updaters_in_free_text() {
    is_told("summary.txt", &["failed install [-] - first 15 - code 0x84bb0001"]);
    is_told("install-script.log", &["failed install [tankwarden] 2.0 first 8 0x1 code 0x1"]);
    is_told("update-steps.log", &["rolled-back upgrade [Tankwarden Console] 3.2.0 first 12 0x3 code -"]);
    is_told("updater-cut-off.log", &["running upgrade [-] 5.1 first 0 - code -"]);
    is_told("setup-steps.log", &["succeeded install [-] - first 0 - code -"]);
    is_told("dnf-conflict.log", &["failed upgrade [tankwarden-srv] - first 7 - code -"]);
    is_told("pip-denied.log", &["failed install [tanklib] 4.0 first 10 0xd code -"]);
}

#[test]
fn workers_with_jobs_that_fail_are_fixed_or_stay() {
    let run = &of_files(&["coordinator.log"])[0];
    assert_eq!((run.outcome, run.first_failure.as_ref().unwrap().place.line), (Outcome::Failed, 10));
    let board: Vec<(&str, &str, &str)> =
        run.workers.iter().map(|one| (one.worker.as_str(), one.job.as_str(), one.outcome)).collect();
    assert_eq!(
        board,
        [("1", "tanks", "done"), ("2", "feeds", "fixed"), ("3", "plans", "failed"), ("1", "valves", "failed")]
    );
    assert_eq!(run.remaining, ["plans", "valves"]);
    assert!(run.not_failures.iter().any(|(place, _)| place.line == 7), "{:?}", run.not_failures);
}

#[test]
fn the_log_of_a_worker_says_why_its_job_failed() {
    let at = |second: u64, text: &str| format!("2026-04-12T10:{:02}:{:02}Z {text}\n", second / 60, second % 60);
    let coordinator = [
        at(0, "INFO rebuild of 6 plans started, 3 workers"),
        at(1, "INFO worker-1: job plan_a started, log worker-1.log"),
        at(1, "INFO worker-2: job plan_b started, log worker-2.log"),
        at(60, "INFO worker-1: job plan_a finished"),
        at(125, "ERROR worker-2: job plan_b failed, see worker-2.log"),
        at(130, "ERROR rebuild failed: 1 of 6 jobs failed, 4 waiting"),
    ]
    .concat();
    let worker = [
        at(2, "INFO job plan_b started"),
        at(62, "INFO 400000 rows sorted"),
        at(124, "ERROR could not write /var/tmp/sort.7: No space left on device"),
        at(125, "ERROR job plan_b failed"),
    ]
    .concat();
    let found = runs(&[("pump-ctl/coordinator.log", &coordinator), ("pump-ctl/worker-2.log", &worker)]);
    let run = found.iter().find(|run| run.source.ends_with("coordinator.log")).unwrap();
    let first = run.first_failure.as_ref().unwrap();
    assert!(first.place.source.ends_with("worker-2.log") && first.place.line == 3, "{run:#?}");
    // What the coordinator says of it follows.
    assert_eq!(run.consequences[0].line, 5, "{run:#?}");
    let board: Vec<(&str, &str, &str)> =
        run.workers.iter().map(|one| (one.worker.as_str(), one.job.as_str(), one.outcome)).collect();
    assert_eq!(board, [("1", "plan_a", "done"), ("2", "plan_b", "failed")]);
    let linked: Vec<bool> = run.child_logs.iter().map(|(_, source, _)| source.is_some()).collect();
    assert_eq!(linked, [false, true], "{:?}", run.child_logs);
}
