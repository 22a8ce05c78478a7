//! `msi-log`: the log of the installer service of Windows, usually UTF-16.
//!
//! ```text
//! === Verbose logging started: 4/12/2026  2:14:55  Build type: SHIP UNICODE 5.00.10011.00  Calling process: … ===
//! MSI (s) (A4:5C) [02:14:56:123]: Doing action: InstallFiles
//! Action start 2:14:56: InstallFiles.
//! Action ended 2:14:59: InstallFiles. Return value 3.
//! Property(S): ProductCode = {…}
//! === Logging stopped: 4/12/2026  2:15:30 ===
//! ```
//!
//! Source: the vendor's documentation of the service's logging (`/L*v`, "Windows Installer Logging") and its articles on
//! reading such logs: `c`, `s` and `N` are the client, the server and a custom action's process, the numbers in
//! parentheses are the last two digits of process and thread in hexadecimal. The lines carry a time of day in local time,
//! the first line the date, in the order of the user's locale. `Return value 3` is the failure of an action; its
//! reason stands before it, in a line with the product or a custom action's code.

use std::borrow::Cow;

use serde_json::Value;

use super::word::number;
use super::{Fit, Head, Header, Hint, InstallerLog, LineFormat, Record, Settled, body_text};
use crate::clock::Civil;
use crate::clock::forms::{self, DateOrder, Evidence};
use crate::code::{Code, Family, Found};
use crate::severity::Severity;

/// The format. The hint is the order of day and month.
pub(super) struct MsiLog;

/// How lines about actions begin, in the usual languages.
const ACTIONS: [&str; 6] = ["Action ", "Aktion ", "Acción ", "Azione ", "Actie ", "Ação "];

/// The date and time behind one of the `===` lines.
fn bracket_line(line: &[u8], order: DateOrder) -> Option<Civil> {
    let date = date_text(line)?;
    forms::dated(date, order).map(|(civil, _)| civil)
}

/// What stands behind the label, from the first digit on: labels are in the user's language.
fn date_text(line: &[u8]) -> Option<&[u8]> {
    let inner = line.strip_prefix(b"=== ").filter(|_| line.trim_ascii_end().ends_with(b"==="))?;
    let digit = inner.iter().take(80).position(u8::is_ascii_digit)?;
    forms::dated(inner.get(digit..)?, DateOrder::DayFirst)
        .or_else(|| forms::dated(inner.get(digit..)?, DateOrder::MonthFirst))?;
    inner.get(digit..)
}

/// `MSI (s) (A4:5C) [02:14:56:123]: `: who, the ids as written, the time, and where the text starts.
struct Engine<'a> {
    process: &'a [u8],
    ids: &'a [u8],
    civil: Civil,
    body: usize,
}

fn engine(line: &[u8]) -> Option<Engine<'_>> {
    let rest = line.strip_prefix(b"MSI (")?;
    let close = rest.iter().take(4).position(|byte| *byte == b')')?;
    let after = rest.get(close + 1..)?.strip_prefix(b" (")?;
    let ids_end = after.iter().take(16).position(|byte| *byte == b')')?;
    let time = after.get(ids_end + 1..)?.strip_prefix(b" [")?;
    let time_end = time.iter().take(20).position(|byte| *byte == b']')?;
    let (civil, used) = forms::time_of_day(time).or_else(|| of_day_with_millis(time.get(..time_end)?))?;
    if used != time_end {
        return None;
    }
    let colon = time.get(time_end + 1..)?.strip_prefix(b":")?;
    let body = line.len() - colon.len() + usize::from(colon.first() == Some(&b' '));
    Some(Engine { process: rest.get(..close)?, ids: after.get(..ids_end)?, civil, body })
}

/// `02:14:56:123`: the fraction stands behind a colon.
fn of_day_with_millis(text: &[u8]) -> Option<(Civil, usize)> {
    let last = text.iter().rposition(|byte| *byte == b':')?;
    let point = [text.get(..last)?, b".", text.get(last + 1..)?].concat();
    forms::time_of_day(&point)
}

/// `Action start 2:14:56: NAME.`, `Action 2:14:56: NAME. text`, `Action ended 2:14:59: NAME. Return value 3.`
fn action(line: &[u8]) -> Option<(Civil, usize)> {
    let rest = ACTIONS.iter().find_map(|word| line.strip_prefix(word.as_bytes()))?;
    let digit = rest.iter().take(24).position(u8::is_ascii_digit)?;
    let rest = rest.get(digit..)?;
    let end = memchr::memmem::find(rest.get(..rest.len().min(16))?, b": ")?;
    let (civil, used) = forms::time_of_day(rest.get(..end)?)?;
    (used == end).then_some((civil, line.len() - rest.len() + end + 2))
}

/// Whether a line says how an action ended: it ends with a number and a full stop.
fn is_end(line: &[u8]) -> bool {
    let Some((_, start)) = action(line) else { return false };
    let rest = line.get(start..).unwrap_or_default().trim_ascii_end();
    let Some(before) = rest.strip_suffix(b".") else { return false };
    before.last().is_some_and(u8::is_ascii_digit) && before.contains(&b' ')
}

/// Lines without a time that say something of their own: `Error 1722. …`, `Info 2898. …`, `CustomAction X returned …`.
fn statement(line: &[u8]) -> Option<Severity> {
    let numbered =
        |label: &[u8]| line.strip_prefix(label).is_some_and(|rest| rest.first().is_some_and(u8::is_ascii_digit));
    if numbered(b"Error ") {
        return Some(Severity::ERROR);
    }
    // What the service's own dialogs note of themselves, in good runs too.
    if numbered(b"DEBUG: Error ") {
        return Some(Severity::DEBUG);
    }
    if numbered(b"Warning ") {
        return Some(Severity::WARN);
    }
    if numbered(b"Info ") {
        return Some(Severity::INFO);
    }
    if let Some(severity) = outcome(line) {
        return Some(severity);
    }
    let returned = line.starts_with(b"CustomAction ") && memchr::memmem::find(line, b" returned ").is_some();
    let product = line.starts_with(b"Product: ") || line.starts_with(b"=== ");
    (returned || product).then_some(Severity::NONE)
}

/// What an engine's text says of a product or an action that failed: `Product: NAME -- Error 1722. …` in any language, and
/// `CustomAction NAME returned actual error code 1603`, unless the action's mark makes a success of it.
fn outcome(text: &[u8]) -> Option<Severity> {
    if let Some(at) = memchr::memmem::find(text, b"returned actual error code ") {
        let translated = memchr::memmem::find(text.get(at..)?, b"translated to success").is_some();
        return Some(if translated { Severity::NONE } else { Severity::ERROR });
    }
    // The label is in the user's language, the dashes are not.
    let colon = text.iter().take(24).position(|byte| *byte == b':')?;
    let label = text.get(..colon)?;
    let dashes = memchr::memmem::find(text, b" -- ")?;
    let said = text.get(dashes + 4..)?;
    if !label.iter().all(|byte| byte.is_ascii_alphabetic() || *byte >= 0x80) {
        return None;
    }
    let word = said.iter().take(40).position(|byte| *byte == b' ')?;
    let digits = said.get(word + 1..)?.iter().take(6).take_while(|byte| byte.is_ascii_digit()).count();
    let numbered = digits >= 4 && said.get(word + 1 + digits) == Some(&b'.');
    let word = String::from_utf8_lossy(said.get(..word)?).to_lowercase();
    let is_warning =
        ["warn", "avert", "advert", "avvis", "waars", "aviso", "varn", "advars", "ostrze", "предупр", "警告"]
            .iter()
            .any(|start| word.starts_with(start));
    match (numbered, is_warning) {
        (true, true) => Some(Severity::WARN),
        (true, false) if word.starts_with("inf") => Some(Severity::INFO),
        (true, false) => Some(Severity::ERROR),
        (false, _) => None,
    }
}

impl LineFormat for MsiLog {
    fn name(&self) -> &'static str {
        "msi-log"
    }

    fn installer(&self) -> Option<InstallerLog> {
        Some(InstallerLog::Words)
    }

    fn families(&self) -> &'static [Family] {
        &[Family::Msi, Family::Win32]
    }

    fn head<'a>(&self, line: &'a [u8], hint: Hint) -> Option<Head<'a>> {
        let component = |name: &'a [u8]| Cow::Borrowed(name);
        match line.first()? {
            b'M' => {
                let engine = engine(line)?;
                let name: &[u8] = match engine.process {
                    b"c" | b"C" => b"msi client",
                    b"s" | b"S" => b"msi server",
                    _ => b"msi action",
                };
                let severity = outcome(line.get(engine.body..)?).unwrap_or(Severity::NONE);
                Some(Head {
                    stamp: engine.civil.stamp(),
                    severity,
                    component: component(name),
                    body: engine.body,
                    ..Head::default()
                })
            }
            b'A' => {
                let (civil, _) = action(line)?;
                let failed = is_end(line) && line.trim_ascii_end().ends_with(b" 3.");
                let severity = if failed { Severity::ERROR } else { Severity::NONE };
                let word: &[u8] = if failed { b"Return value 3" } else { b"" };
                Some(Head {
                    stamp: civil.stamp(),
                    severity,
                    severity_text: Cow::Borrowed(word),
                    component: component(b"msi action"),
                    ..Head::default()
                })
            }
            b'=' if date_text(line).is_some() => {
                let civil = bracket_line(line, DateOrder::from_bits(hint))?;
                Some(Head { stamp: civil.stamp(), component: component(b"msi"), ..Head::default() })
            }
            _ => {
                let severity = statement(line)?;
                let word = line.iter().position(|byte| *byte == b' ').and_then(|end| line.get(..end));
                let severity_text =
                    word.filter(|_| severity > Severity::NONE && outcome(line).is_none()).unwrap_or_default();
                let severity_text = Cow::Borrowed(severity_text);
                Some(Head { severity, severity_text, component: component(b"msi"), ..Head::default() })
            }
        }
    }

    /// The numbers of the actions' outcomes are those of the service itself, no codes of the system; its notes stand in good runs too,
    /// and what is translated to success is none.
    fn is_fields(&self, line: &[u8]) -> bool {
        let note =
            engine(line).and_then(|engine| line.get(engine.body..)).is_some_and(|text| text.starts_with(b"Note: "));
        let translated =
            || line.starts_with(b"CustomAction ") && memchr::memmem::find(line, b"translated to success").is_some();
        note || is_end(line) || translated()
    }

    /// The number behind the dashes is the service's own, whatever the language of the word before it.
    fn column_codes(&self, line: &[u8], found: &mut dyn FnMut(Found)) {
        let text = engine(line).map_or(0, |engine| engine.body);
        let Some(rest) = line.get(text..) else { return };
        if outcome(rest).is_none_or(|severity| severity < Severity::WARN) {
            return;
        }
        let Some(dashes) = memchr::memmem::find(rest, b" -- ") else { return };
        let said = rest.get(dashes + 4..).unwrap_or_default();
        let Some(word) = said.iter().position(|byte| *byte == b' ') else { return };
        let digits = said.get(word + 1..).unwrap_or_default();
        let length = digits.iter().take_while(|byte| byte.is_ascii_digit()).count();
        let Some(number) = digits.get(..length).and_then(number) else { return };
        let start = text + dashes + 4 + word + 1;
        let code = Code { family: Family::Msi, number };
        found(Found { start, end: start + length, code, general: false });
    }

    fn version(&self) -> u32 {
        2
    }

    fn record(&self, text: &str, hint: Hint) -> Record {
        let first = text.lines().next().unwrap_or_default().trim_end();
        let head = self.head(first.as_bytes(), hint).unwrap_or_default();
        let word = String::from_utf8_lossy(&head.severity_text).into_owned();
        let mut record = Record {
            body: body_text(text.get(head.body..).unwrap_or(text)),
            severity_text: (!word.is_empty()).then_some(word),
            ..Record::default()
        };
        if let Some(engine) = engine(first.as_bytes()) {
            let ids = String::from_utf8_lossy(engine.ids).into_owned();
            record.attributes.insert("installer.ids".into(), Value::from(ids));
        }
        if let Some((_, start)) = action(first.as_bytes()) {
            let rest = first.get(start..).unwrap_or_default();
            let name = rest.split(['.', ' ']).next().unwrap_or_default();
            record.attributes.insert("installer.action".into(), Value::from(name));
            if is_end(first.as_bytes()) {
                let value = rest.trim_end_matches('.').rsplit(' ').next().unwrap_or_default();
                record.attributes.insert(
                    "installer.return_value".into(),
                    value.parse::<u64>().map_or(Value::from(value), Value::from),
                );
            }
        }
        for line in text.lines().skip(1) {
            let property =
                line.strip_prefix("Property(").and_then(|rest| rest.get(3..)).and_then(|rest| rest.split_once(" = "));
            if let Some((name, value)) = property {
                let name = format!("installer.property.{}", name.trim_start());
                record.attributes.insert(name, Value::from(value.trim_end()));
            }
        }
        record
    }

    fn header(&self, samples: &[&[u8]], hint: Hint, _: i64) -> Header {
        let order = DateOrder::from_bits(hint);
        let started = samples.iter().take(40).find_map(|line| bracket_line(line, order));
        let date = started.and_then(|civil| Civil { hour: 0, minute: 0, second: 0, nanos: 0, ..civil }.to_ns());
        Header { date, ..Header::default() }
    }

    fn settle(
        &self,
        samples: &[&[u8]],
        _: &mut dyn Iterator<Item = Vec<u8>>,
        _: Hint,
        dates: Option<DateOrder>,
        modified: i64,
    ) -> Option<Settled> {
        let text = samples.iter().find_map(|line| date_text(line))?;
        let mut evidence = Evidence::default();
        samples.iter().filter_map(|line| date_text(line)).for_each(|text| evidence.take(text));
        let known = dates.or_else(|| evidence.certain());
        if let Some(order) = known {
            return Some(Settled { hint: order as Hint, dates: Some((order, false)), ..Settled::default() });
        }
        // Undecided by its own dates: the order whose date is nearest before the file's time.
        let distance = |order: DateOrder| {
            let ns = forms::dated(text, order).and_then(|(civil, _)| civil.to_ns()).unwrap_or(i64::MAX);
            let late = modified.saturating_add(crate::clock::DAY).saturating_sub(ns);
            if late < 0 { i64::MAX } else { late }
        };
        let orders = [DateOrder::MonthFirst, DateOrder::DayFirst];
        let [month_first, day_first] = orders.map(distance);
        let order = if day_first < month_first { DateOrder::DayFirst } else { DateOrder::MonthFirst };
        // A log of the file's own day is no guess.
        let near = |distance: i64| distance <= 2 * crate::clock::DAY;
        let decided = near(month_first) != near(day_first) || month_first == day_first;
        let trouble = (!decided).then(|| {
            format!(
                "nothing in the file tells day from month in its date: it is read {}, nearer to the file's time",
                order.name()
            )
        });
        Some(Settled { hint: order as Hint, trouble, made: None, dates: Some((order, !decided)) })
    }

    fn fit(&self, lines: &[&[u8]]) -> Fit {
        let heads = lines.iter().filter(|line| self.head(line, DateOrder::MonthFirst as Hint).is_some()).count();
        let proof =
            lines.iter().filter(|line| engine(line).is_some() || action(line).is_some() || date_text(line).is_some());
        let proofs = proof.count();
        Fit {
            heads: if proofs > 0 { heads } else { 0 },
            hint: DateOrder::MonthFirst as Hint,
            sure: proofs > 0,
            made: None,
        }
    }
}
