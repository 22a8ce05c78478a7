//! Small cases for tests, in one line. For tests of all crates of the workspace only.

#![allow(clippy::expect_used, clippy::missing_panics_doc, reason = "a test that cannot be set up has failed")]

use std::path::{Path, PathBuf};
use std::sync::Arc;

use crate::analysis::CaseView;
use crate::case::{Case, Options};
use crate::clock::{ClockCorrection, Zone};
use crate::work::Work;

/// A folder with files, as a case.
pub struct TestCase {
    folder: tempfile::TempDir,
    options: Options,
}

/// A case of these files: `("dose-gw/app.log", TEXT)` lies on the host `dose-gw`, `("app.log", TEXT)` on none.
///
/// ```
/// # use boxclock_core::testing::{case, log};
/// let text = log().at("02:31:07").error("bridge", "NAK").text();
/// let view = case(&[("dose-gw/app.log", &text)]).zone("+02:00").view();
/// assert_eq!(view.loaded.table.len(), 1);
/// ```
pub fn case<T: AsRef<[u8]>>(files: &[(&str, T)]) -> TestCase {
    let folder = tempfile::tempdir().expect("a temporary folder");
    if files.is_empty() {
        std::fs::create_dir_all(folder.path().join("hosts")).expect("a folder of hosts");
    }
    for (name, bytes) in files {
        let below = if name.contains('/') { folder.path().join("hosts") } else { folder.path().to_path_buf() };
        let path = below.join(name);
        std::fs::create_dir_all(path.parent().unwrap_or(&path)).expect("a folder for the file");
        std::fs::write(path, bytes).expect("a file");
    }
    TestCase { folder, options: Options::default() }
}

impl TestCase {
    /// With this zone for times that carry none.
    #[must_use]
    pub fn zone(mut self, name: &str) -> Self {
        self.options.zone = Some(Zone::parse(name).expect("a zone"));
        self
    }

    /// With so much added to the clock of a host, in nanoseconds.
    #[must_use]
    pub fn drift(mut self, host: &str, add_ns: i64) -> Self {
        self.options.drift.insert(host.into(), ClockCorrection::from(add_ns));
        self
    }

    /// With these options.
    #[must_use]
    pub fn options(mut self, options: Options) -> Self {
        self.options = options;
        self
    }

    /// Where it lies.
    pub fn path(&self) -> &Path {
        self.folder.path()
    }

    /// Opens it. Its logbook lies in its folder.
    pub fn open(&self) -> Case {
        let mut case =
            Case::open(&[PathBuf::from(self.path())], self.options.clone(), &Work::default()).expect("the case opens");
        case.logbook_path = Some(self.path().join("case.logbook"));
        case
    }

    /// Opens and reads it.
    pub fn view(&self) -> CaseView {
        let case = self.open();
        let loaded = case.load(&Work::default()).expect("the case is read");
        CaseView::new(Arc::new(case), loaded)
    }
}

/// A log that is being written, in `iso-text`, on 2026-04-12.
#[derive(Clone, Debug)]
pub struct TestLog {
    time: String,
    text: String,
}

/// An empty log; its first line is of midnight.
pub fn log() -> TestLog {
    TestLog { time: "00:00:00".into(), text: String::new() }
}

impl TestLog {
    /// The time of day of the lines that follow.
    #[must_use]
    pub fn at(mut self, time: &str) -> Self {
        time.clone_into(&mut self.time);
        self
    }

    fn line(mut self, level: &str, component: &str, message: &str) -> Self {
        self.text.push_str(&format!("2026-04-12T{}Z {level} {component}: {message}\n", self.time));
        self
    }

    /// A line of information.
    #[must_use]
    pub fn info(self, component: &str, message: &str) -> Self {
        self.line("INFO", component, message)
    }

    /// A warning.
    #[must_use]
    pub fn warn(self, component: &str, message: &str) -> Self {
        self.line("WARN", component, message)
    }

    /// An error.
    #[must_use]
    pub fn error(self, component: &str, message: &str) -> Self {
        self.line("ERROR", component, message)
    }

    /// All lines.
    pub fn text(&self) -> String {
        self.text.clone()
    }
}
