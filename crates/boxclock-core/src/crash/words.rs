//! A crash in words, and what to do about it.

use std::sync::LazyLock;

use serde::Deserialize;

use super::Kind;
use super::judge::{self, Class};
use super::report::CrashReport;
use crate::analysis::CaseView;
use crate::clock::human::date_time;
use crate::code::Platform;

/// One of the remedies in the data.
#[derive(Deserialize)]
#[serde(deny_unknown_fields)]
struct Remedy {
    class: Vec<Class>,
    /// Only where no dump was written.
    #[serde(default)]
    without_dump: bool,
    os: String,
    r#do: String,
    proves: String,
}

#[derive(Deserialize)]
struct RemedyFile {
    remedy: Vec<Remedy>,
}

static REMEDIES: LazyLock<Vec<Remedy>> = LazyLock::new(|| {
    let read: std::result::Result<RemedyFile, _> = toml::from_str(include_str!("data/remedies.toml"));
    read.map(|file| file.remedy).unwrap_or_default()
});

pub(super) fn remedies(report: &CrashReport) -> Vec<(String, String)> {
    const MOST: usize = 5;
    let os = match report.crash.platform {
        Platform::Windows => "windows",
        Platform::Macos => "macos",
        Platform::Linux => "linux",
        _ => "any",
    };
    let module = report.verdict.suspects.first().map(|suspect| suspect.module.clone());
    let process = report.crash.process.clone().unwrap_or_else(|| "the program".into());
    let fits = |remedy: &&Remedy| {
        remedy.class.contains(&report.verdict.class)
            && (remedy.os == "any" || remedy.os == os)
            && (module.is_some() || !remedy.r#do.contains("MODULE"))
            && (report.is_mark || !remedy.without_dump)
    };
    let fill = |text: &str| text.replace("MODULE", module.as_deref().unwrap_or_default()).replace("PROCESS", &process);
    // What is about the suspect before what is general.
    let mut fitting: Vec<&Remedy> = REMEDIES.iter().filter(fits).collect();
    fitting.sort_by_key(|remedy| !remedy.r#do.contains("MODULE"));
    fitting.into_iter().take(MOST).map(|remedy| (fill(&remedy.r#do), fill(&remedy.proves))).collect()
}

pub(super) fn summary(view: &CaseView, report: &CrashReport) -> String {
    let crash = &report.crash;
    let is_kernel = report.frames.first().is_some_and(|first| first.module.as_deref() == Some("kernel"))
        || matches!(
            crash.what.name.as_deref(),
            Some("Kernel panic" | "Oops" | "general protection fault" | "soft lockup" | "hard lockup" | "stall")
        );
    let who = match (&crash.process, crash.what.kind) {
        (_, Kind::Stop) => "The system".to_owned(),
        _ if is_kernel => "The kernel".to_owned(),
        (Some(process), _) => process.clone(),
        (None, _) => "A process".to_owned(),
    };
    let running = crash.process.as_ref().filter(|_| crash.what.kind == Kind::Stop || is_kernel);
    let running = running.map_or(String::new(), |process| format!(" while {process} ran"));
    let host = report.host.as_ref().map_or(String::new(), |host| format!(" on {host}"));
    let when = report.time.map_or(String::new(), |time| format!(" at {}", &date_time(time, &view.case.zone)[..19]));
    let name = crash.what.name.as_deref().unwrap_or("no named signal or exception");
    let detail = crash.what.detail.as_deref().filter(|detail| crash.what.words.is_none() && !detail.is_empty());
    let words = crash.what.words.as_deref().or(detail).map_or(String::new(), |words| format!(": {words}"));
    let words = words.trim_end_matches('.');
    let ended = match crash.what.kind {
        Kind::Hang => "did not go on",
        Kind::Killed => "was ended",
        _ => "stopped",
    };
    let mut text = format!("{who}{host} {ended}{when}{running} with {name}{words}.");
    let frames = judge::telling(&report.frames);
    if let Some(frame) = frames.iter().find(|frame| frame.function.is_some() && !judge::is_witness(frame)) {
        text.push_str(&format!(" On the stack: {}.", frame.text()));
    }
    match (report.verdict.suspects.first(), report.verdict.provable) {
        (Some(first), true) => text.push_str(&format!(
            " To blame: {}, since {}.",
            first.module,
            first.why.first().map_or("", String::as_str)
        )),
        (first, _) => {
            let suspect = first
                .filter(|first| first.score >= 0.3)
                .map_or(String::new(), |first| format!(" First suspect: {}.", first.module));
            let doubt = report.verdict.doubts.first().map_or(String::new(), |doubt| format!(": {doubt}"));
            text.push_str(&format!("{suspect} Not provable from this{doubt}."));
        }
    }
    if !report.same_as.is_empty() {
        let count = report.same_as.len() + 1;
        text.push_str(&format!(" The same happened {count} times in this case."));
    }
    if report.is_mark {
        text.push_str(" There is no dump of it in the case.");
    }
    text
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn the_remedies_can_be_read() {
        assert!(REMEDIES.len() > 15, "a mistake in the data leaves none of them");
        assert!(REMEDIES.iter().any(|remedy| remedy.without_dump));
    }
}
