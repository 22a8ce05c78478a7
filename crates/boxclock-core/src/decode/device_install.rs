//! `device-install-log`: what Windows writes while it installs devices and drivers, in sections with marks of severity.
//!
//! ```text
//! >>>  [Device Install (Hardware initiated) - USB\VID_0000&PID_0000\1]
//! >>>  Section start 2026/04/12 02:31:07.442
//!      dvi: {Build Driver List} 02:31:07.450
//! !    inf: a warning
//! !!!  dvi: an error
//! <<<  Section end 2026/04/12 02:31:08.000
//! <<<  [Exit status: FAILURE(0x000005b4)]
//! ```
//!
//! Source: the vendor's documentation of the text logs of its device installation ("Format of a Text Log Section Header, Body,
//! Footer"; `>>>` starts, `<<<` ends, `!` is a warning, `!!!` an error; entries carry a category with a colon). Times are local.
//! An entry without a time of its own has that of the one before.

use std::io;

use serde_json::{Map, Value};

use super::{Decoder, Entry, Input, Line, Output};
use crate::clock::forms::{self, DateOrder};
use crate::clock::{Civil, Stamp};
use crate::code::{Family, Platform};
use crate::format::InstallerLog;
use crate::severity::Severity;
use crate::text;

/// The decoder.
pub(super) struct DeviceInstall;

impl Decoder for DeviceInstall {
    fn name(&self) -> &'static str {
        "device-install-log"
    }

    fn installer(&self) -> Option<InstallerLog> {
        Some(InstallerLog::Words)
    }

    fn families(&self) -> &'static [Family] {
        &[Family::Win32, Family::Hresult]
    }

    fn recognise(&self, start: &[u8]) -> bool {
        let Some((encoding, _)) = text::guess(&[start.to_vec()]) else { return false };
        let text = encoding.text(start);
        text.lines().take(400).any(|line| line.starts_with(">>>  Section start "))
            || text.lines().take(20).any(|line| line.trim_start_matches('\u{FEFF}').starts_with("[Device Install Log]"))
    }

    fn platform(&self) -> Platform {
        Platform::Windows
    }

    fn decode(&self, input: &Input<'_>, out: &mut Output) -> io::Result<()> {
        let mut lines = input.lines()?;
        lines.encoding.name().clone_into(&mut out.account.encoding);
        let mut section = Section::default();
        while let Some(line) = lines.next_line()? {
            out.account.lines = out.account.lines.saturating_add(1);
            if line.text.trim_matches('\u{FEFF}').trim().is_empty() {
                out.account.attached_lines = out.account.attached_lines.saturating_add(1);
                continue;
            }
            section.take(&line, out)?;
        }
        section.end(out)
    }
}

/// The section that is read.
#[derive(Default)]
struct Section {
    title: String,
    /// Its title's line, until its start tells the time.
    waiting: Option<Line>,
    /// The time of the entry before.
    last: Option<Civil>,
}

impl Section {
    fn take(&mut self, line: &Line, out: &mut Output) -> io::Result<()> {
        let text = line.text.trim_start_matches('\u{FEFF}');
        if let Some(title) = text.strip_prefix(">>>  [").and_then(|rest| rest.strip_suffix(']')) {
            self.end(out)?;
            title.clone_into(&mut self.title);
            self.waiting = Some(Line { place: line.place, text: line.text.clone() });
            return Ok(());
        }
        let mut has_time = false;
        if let Some(time) = text.strip_prefix(">>>  Section start ").or(text.strip_prefix("<<<  Section end ")) {
            self.last = forms::dated(time.as_bytes(), DateOrder::YearFirst).map(|(civil, _)| civil).or(self.last);
            has_time = true;
        }
        self.end(out)?;
        let (mark, rest) = match text.as_bytes() {
            [b'!', b'!', b'!', ..] => ("!!!", text.get(3..)),
            [b'!', ..] => ("!", text.get(1..)),
            [b'<', b'<', b'<', ..] => ("<<<", text.get(3..)),
            [b'>', b'>', b'>', ..] => (">>>", text.get(3..)),
            _ => ("", Some(text)),
        };
        let rest = rest.unwrap_or_default().trim();
        let failed = rest.starts_with("[Exit status: ") && !rest.contains("SUCCESS");
        let severity = match mark {
            "!!!" => Severity::ERROR,
            "!" => Severity::WARN,
            _ if failed => Severity::ERROR,
            _ => Severity::INFO,
        };
        if let (Some(civil), Some(of_day)) = (&mut self.last, time_at_end(rest)) {
            (civil.hour, civil.minute, civil.second, civil.nanos) =
                (of_day.hour, of_day.minute, of_day.second, of_day.nanos);
            has_time = true;
        }
        let stamp = self.last.filter(|_| has_time).map_or(Stamp::None, |civil| civil.stamp());
        self.write(line, rest, (stamp, severity, mark), out)
    }

    /// Writes the title that still waits for its time.
    fn end(&mut self, out: &mut Output) -> io::Result<()> {
        let Some(line) = self.waiting.take() else { return Ok(()) };
        let title = format!("[{}]", self.title);
        let stamp = self.last.map_or(Stamp::None, |civil| civil.stamp());
        self.write(&line, &title, (stamp, Severity::INFO, ">>>"), out)
    }

    fn write(
        &self,
        line: &Line,
        text: &str,
        (stamp, severity, mark): (Stamp, Severity, &str),
        out: &mut Output,
    ) -> io::Result<()> {
        let category = text.split_once(": ").map(|(word, _)| word).filter(|word| {
            (2..=8).contains(&word.len()) && word.bytes().all(|byte| byte.is_ascii_alphanumeric() || byte == b'-')
        });
        let mut fields = Map::new();
        if !self.title.is_empty() {
            fields.insert("install.section".into(), Value::from(self.title.as_str()));
        }
        if let Some(status) = text.strip_prefix("[Exit status: ").and_then(|rest| rest.strip_suffix(']')) {
            fields.insert("install.exit_status".into(), Value::from(status));
        }
        out.entry(&Entry {
            stamp,
            severity,
            severity_text: if mark.starts_with('!') { mark } else { "" },
            component: category.unwrap_or_default(),
            place: line.place,
            body: text,
            fields: &Value::Object(fields).to_string(),
            ..Entry::at(line.place)
        })
    }
}

/// A time of day at the end of an entry: `{Build Driver List} 02:31:07.450`.
fn time_at_end(text: &str) -> Option<Civil> {
    let last = text.rsplit(' ').next()?;
    let (civil, end) = forms::time_of_day(last.as_bytes())?;
    (end == last.len()).then_some(civil)
}
