//! Lines that matter around a crash: devices that come and go, drivers that are put in, and what became of a dump.

use std::sync::OnceLock;

use aho_corasick::{AhoCorasick, Input};
use regex::bytes::{Regex, RegexBuilder};

use crate::analysis::{CaseView, Window};
use crate::event::Row;
use crate::text::needed::needed;

/// What a line says.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub(super) enum What {
    /// A device is there from now on.
    Attached,
    /// A device is gone from now on.
    Detached,
    /// A driver was put in.
    Driver,
    /// Why a dump was not written, or where it went.
    NoDump,
}

/// A line that matters.
#[derive(Clone, Debug, PartialEq, Eq)]
pub(super) struct Sign {
    /// What it says.
    pub what: What,
    /// The device or driver, as the line names it; of a dump, in our words.
    pub subject: String,
    /// The event.
    pub row: Row,
    /// Its corrected time, UTC nanoseconds.
    pub time: i64,
}

/// What one segment says: the event, the row of the data, the device.
pub(super) type SignPiece = Vec<(u16, u8, String)>;

/// Lines that are kept of one case: a device with a loose contact writes thousands.
const MOST: usize = 50_000;

/// A row of the data.
struct Known {
    what: What,
    words: &'static str,
    pattern: Regex,
}

/// The words of which every line that matters has one, and the rows; a test compiles them.
fn known() -> Option<&'static (AhoCorasick, Vec<Known>)> {
    static COMPILED: OnceLock<Option<(AhoCorasick, Vec<Known>)>> = OnceLock::new();
    let compile = || {
        let (mut words_needed, mut each) = (Vec::new(), Vec::new());
        for line in include_str!("data/signs.tsv").lines().filter(|line| !line.starts_with('#')) {
            let (what, rest) = line.split_once('\t')?;
            let (pattern, words) = rest.split_once('\t').unwrap_or((rest, ""));
            let what = match what {
                "attached" => What::Attached,
                "detached" => What::Detached,
                "driver" => What::Driver,
                "no-dump" => What::NoDump,
                _ => return None,
            };
            words_needed.extend(needed(pattern)?);
            let compiled = RegexBuilder::new(&format!("(?s-u:{pattern})")).unicode(false).build().ok()?;
            each.push(Known { what, words, pattern: compiled });
        }
        Some((AhoCorasick::builder().ascii_case_insensitive(true).build(words_needed).ok()?, each))
    };
    COMPILED.get_or_init(compile).as_ref()
}

/// What a record says: the row of the data, and the device.
fn of_record(text: &[u8]) -> Option<(u8, String)> {
    let (row, found) =
        known()?.1.iter().enumerate().find_map(|(row, known)| Some((row, known.pattern.captures(text)?)))?;
    let device = found.name("device").map_or(&b""[..], |device| device.as_bytes());
    Some((u8::try_from(row).ok()?, String::from_utf8_lossy(device).into_owned()))
}

/// Notes the signs of records that stand next to each other.
pub(super) fn find(piece: &mut SignPiece, window: &Window<'_>) {
    let Some((words, _)) = known() else { return };
    let mut at = 0;
    while let Some(hit) = words.find(Input::new(window.bytes).range(at..)) {
        let seen = window.event_at(hit.start());
        if let (Some((row, device)), Ok(index)) = (of_record(seen.text), u16::try_from(seen.index)) {
            piece.push((index, row, device));
        }
        at = seen.end.max(hit.end());
    }
}

/// The signs of a case in order of time, from the pieces of its parts.
pub(super) fn of_case(view: &CaseView, pieces: Vec<SignPiece>) -> Vec<Sign> {
    let table = &view.loaded.table;
    let mut found = Vec::new();
    for (part, piece) in table.parts.iter().zip(pieces) {
        for (index, row, device) in piece {
            let known = known().and_then(|(_, each)| each.get(usize::from(row)));
            let is_there = usize::from(index) < part.segment.len() && found.len() < MOST;
            let Some(known) = known.filter(|_| is_there) else { continue };
            let event = table.event(Row(part.first_row.saturating_add(u32::from(index))));
            let subject = if known.what == What::NoDump { known.words.to_owned() } else { device };
            found.extend(event.time().map(|time| Sign { what: known.what, subject, row: event.row, time }));
        }
    }
    found.sort_by_key(|sign| (sign.time, sign.row));
    found
}

#[cfg(test)]
mod tests {
    use super::*;

    fn told(line: &str) -> Option<(What, String)> {
        let (words, each) = known().expect("patterns that compile, each with words that it needs");
        words.find(line.as_bytes())?;
        let (row, device) = of_record(line.as_bytes())?;
        let known = &each[usize::from(row)];
        Some((known.what, if known.what == What::NoDump { known.words.to_owned() } else { device }))
    }

    #[test]
    fn devices_and_drivers_are_told_from_other_lines() {
        use What::{Attached, Detached, Driver};
        let samples = [
            ("kernel: usb 1-1.2: new full-speed USB device number 5 using xhci_hcd", Attached, "1-1.2"),
            ("kernel: usb 2-1: new SuperSpeed Plus Gen 2x1 USB device number 2 using xhci_hcd", Attached, "2-1"),
            ("kernel: usb 1-1.2: USB disconnect, device number 5", Detached, "1-1.2"),
            ("kernel: tidecard: loading out-of-tree module taints kernel.", Driver, "tidecard"),
            (
                "A service was installed in the system.\r\n\r\nService Name:  Tide Card\r\nService File Name:  \\SystemRoot\\System32\\drivers\\tidecard.sys\r\nService Type:  kernel mode driver",
                Driver,
                "Tide Card",
            ),
            (
                r">>>  [Device Install (Hardware initiated) - USB\VID_0403&PID_6001\A1]",
                Driver,
                r"USB\VID_0403&PID_6001\A1",
            ),
            (r"Device USB\VID_0403&PID_6001\A1 was configured.", Attached, r"USB\VID_0403&PID_6001\A1"),
            ("dock: scanner LID-2 was unplugged", Detached, "LID-2"),
        ];
        for (line, what, device) in samples {
            assert_eq!(told(line), Some((what, device.to_owned())), "{line}");
        }
        for line in ["client 10.0.0.4 connected", "card payment 12 removed from the queue", "usb 1-1: reset device", ""]
        {
            assert_eq!(told(line), None, "{line}");
        }
    }

    #[test]
    fn lines_say_why_there_is_no_dump() {
        for (line, word) in [
            ("Resource limits disable core dumping for process 77 (dosingd).", "limit"),
            ("dosingd.service: Main process exited, code=dumped, status=6/ABRT", "not in the case"),
            ("Segmentation fault (core dumped)", "not in the case"),
            ("Core dump to |/usr/lib/feeder pipe failed", "failed"),
            ("Failed to write core file: No space left on device", "room"),
            ("Crash dump initialization failed!", "system"),
        ] {
            assert!(
                told(line).is_some_and(|(what, told)| what == What::NoDump && told.contains(word)),
                "{line}: {:?}",
                told(line)
            );
        }
        assert_eq!(told("dumped 4 buckets of core samples"), None);
    }
}
