//! `dpkg`: the package manager's log, `YYYY-MM-DD hh:mm:ss ACTION …` in local time.
//!
//! Source: the section LOG FILE of the manual page dpkg(1), which lists the actions `startup`, `status`, `install`,
//! `upgrade`, `configure`, `trigproc`, `disappear`, `remove`, `purge` and `conffile`.

use std::borrow::Cow;

use serde_json::Value;

use super::word::token;
use super::{Head, Hint, InstallerLog, LineFormat, Record, record_from_head};
use crate::clock::scan;
use crate::code::{Family, Platform};

/// The format.
pub(super) struct Dpkg;

const ACTIONS: [&[u8]; 10] = [
    b"startup",
    b"status",
    b"install",
    b"upgrade",
    b"configure",
    b"trigproc",
    b"disappear",
    b"remove",
    b"purge",
    b"conffile",
];

impl LineFormat for Dpkg {
    fn name(&self) -> &'static str {
        "dpkg"
    }

    fn installer(&self) -> Option<InstallerLog> {
        Some(InstallerLog::Dpkg)
    }

    fn platform(&self) -> Platform {
        Platform::Linux
    }

    fn families(&self) -> &'static [Family] {
        &[Family::Exit, Family::Package]
    }

    fn head<'a>(&self, line: &'a [u8], _: Hint) -> Option<Head<'a>> {
        let (civil, end) = scan::iso(line)?;
        if end != 19 || line.get(end) != Some(&b' ') {
            return None;
        }
        let (action, _) = token(line, end + 1);
        ACTIONS.contains(&action).then(|| Head {
            stamp: civil.stamp(),
            component: Cow::Borrowed(b"dpkg"),
            body: end + 1,
            ..Head::default()
        })
    }

    fn judges_words(&self) -> bool {
        false
    }

    fn record(&self, text: &str, hint: Hint) -> Record {
        let mut record = record_from_head(self.head(text.as_bytes(), hint), text);
        let words: Vec<&str> = record.body.split_ascii_whitespace().collect();
        let fields: &[(&str, usize)] = match words.first() {
            Some(&"status") => &[("package.state", 1), ("package.name", 2), ("package.version", 3)],
            Some(&"startup") => &[("package.run", 1), ("package.command", 2)],
            Some(&"conffile") => &[("file.path", 1), ("package.decision", 2)],
            _ => &[("package.name", 1), ("package.version.old", 2), ("package.version", 3)],
        };
        let mut attributes = serde_json::Map::new();
        attributes.extend(words.first().map(|action| ("package.action".into(), Value::from(*action))));
        for (name, index) in fields {
            attributes.extend(words.get(*index).map(|word| ((*name).to_owned(), Value::from(*word))));
        }
        record.attributes = attributes;
        record
    }

    fn fit(&self, lines: &[&[u8]]) -> super::Fit {
        // A line `… status …` can stand in any log; a package log has little else than such lines.
        let heads = lines.iter().filter(|line| self.head(line, 0).is_some()).count();
        let dated = lines.iter().filter(|line| scan::iso(line.trim_ascii_start()).is_some()).count();
        if heads * 10 < dated * 9 { super::Fit::default() } else { super::Fit { heads, ..super::Fit::default() } }
    }
}
