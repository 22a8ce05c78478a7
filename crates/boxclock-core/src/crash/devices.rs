//! Devices that come and go, and drivers that are put in: what a crash may have to do with.

use std::sync::OnceLock;

use regex::bytes::{Regex, RegexBuilder};

use crate::Result;
use crate::analysis::{Analysis, CaseView, Pieces, Window};
use crate::event::Row;
use crate::work::Work;

/// What a line says of a device.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum DeviceAct {
    /// It is there from now on.
    Attached,
    /// It is gone from now on.
    Detached,
    /// A driver of that name was put in.
    Driver,
}

/// A line about a device.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct DeviceEvent {
    /// What it says.
    pub act: DeviceAct,
    /// The device, as the line names it.
    pub device: String,
    /// The event.
    pub row: Row,
    /// Its corrected time, UTC nanoseconds.
    pub time: i64,
}

/// Finds all lines about devices, in order of time.
#[derive(Clone, Copy, Debug)]
pub struct DeviceAnalysis;

/// Lines that are kept of one case: a device with a loose contact writes thousands.
const MOST: usize = 50_000;

struct Patterns {
    any: Regex,
    each: Vec<(DeviceAct, Regex)>,
}

/// The patterns of the data; a test compiles them.
fn patterns() -> Option<&'static Patterns> {
    static COMPILED: OnceLock<Option<Patterns>> = OnceLock::new();
    let compile = || {
        let (mut texts, mut each) = (Vec::new(), Vec::new());
        for line in include_str!("data/devices.tsv").lines().filter(|line| !line.starts_with('#')) {
            let (act, pattern) = line.split_once('\t')?;
            let act = match act {
                "attached" => DeviceAct::Attached,
                "detached" => DeviceAct::Detached,
                "driver" => DeviceAct::Driver,
                _ => return None,
            };
            let text = format!("(?s-u:{pattern})");
            texts.push(text.replace("?P<device>", ""));
            each.push((act, RegexBuilder::new(&text).unicode(false).build().ok()?));
        }
        Some(Patterns { any: RegexBuilder::new(&texts.join("|")).unicode(false).build().ok()?, each })
    };
    COMPILED.get_or_init(compile).as_ref()
}

fn act_of(name: u8) -> Option<DeviceAct> {
    [DeviceAct::Attached, DeviceAct::Detached, DeviceAct::Driver].get(usize::from(name)).copied()
}

impl Analysis for DeviceAnalysis {
    const NAME: &'static str = "devices";
    const VERSION: u32 = 1;
    /// Event, what it says, the device.
    type Piece = Vec<(u16, u8, String)>;
    type Found = Vec<DeviceEvent>;

    fn window(&self, piece: &mut Self::Piece, window: &Window<'_>) {
        let Some(patterns) = patterns() else { return };
        let mut at = 0;
        while let Some(hit) = patterns.any.find_at(window.bytes, at) {
            let seen = window.event_at(hit.start());
            // A hit that goes over the end of a record is none.
            let found = patterns.each.iter().find_map(|(act, each)| Some((*act, each.captures(seen.text)?)));
            if let (Some((act, found)), Ok(index)) = (found, u16::try_from(seen.index)) {
                let device = found.name("device").map_or(&b""[..], |device| device.as_bytes());
                piece.push((index, act as u8, String::from_utf8_lossy(device).into_owned()));
            }
            at = seen.end.max(hit.end());
        }
    }

    fn merge(&self, view: &CaseView, pieces: &Pieces<'_, Self::Piece>, work: &Work) -> Result<Vec<DeviceEvent>> {
        let table = &view.loaded.table;
        let mut found = Vec::new();
        for (at, part) in table.parts.iter().enumerate() {
            work.check()?;
            for (index, act, device) in pieces.of_part(at)? {
                let known = usize::from(index) < part.segment.len() && found.len() < MOST;
                let Some(act) = act_of(act).filter(|_| known) else { continue };
                let event = table.event(Row(part.first_row.saturating_add(u32::from(index))));
                if let Some(time) = event.time() {
                    found.push(DeviceEvent { act, device, row: event.row, time });
                }
            }
        }
        found.sort_by_key(|event| (event.time, event.row));
        Ok(found)
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    fn told(line: &str) -> Option<(DeviceAct, String)> {
        let patterns = patterns().expect("patterns that compile");
        patterns.any.find(line.as_bytes())?;
        let (act, found) =
            patterns.each.iter().find_map(|(act, each)| Some((*act, each.captures(line.as_bytes())?)))?;
        Some((act, String::from_utf8_lossy(found.name("device")?.as_bytes()).into_owned()))
    }

    #[test]
    fn devices_and_drivers_are_told_from_other_lines() {
        use DeviceAct::{Attached, Detached, Driver};
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
        for (line, act, device) in samples {
            assert_eq!(told(line), Some((act, device.to_owned())), "{line}");
        }
        for line in ["client 10.0.0.4 connected", "card payment 12 removed from the queue", "usb 1-1: reset device", ""]
        {
            assert_eq!(told(line), None, "{line}");
        }
    }
}
