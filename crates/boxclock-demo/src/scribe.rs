//! Writing logs: a file, its clock, and the noise of a healthy night.

use std::fs::{self, File};
use std::io::{self, BufWriter, Write};
use std::path::Path;
use std::time::{Duration, UNIX_EPOCH};

use boxclock_core::clock::Civil;

/// Milliseconds since the Unix epoch, UTC.
pub type Millis = i64;

/// 12 April 2026, 00:00 in the aquarium's zone (UTC+02:00).
pub const MIDNIGHT: Millis = 1_775_944_800_000;
/// The aquarium's offset from UTC.
pub const ZONE: Millis = 2 * 3_600_000;
/// A day.
pub const DAY: Millis = 86_400_000;
/// The first moment of all logs: the evening before, 19:30.
pub const START: Millis = MIDNIGHT - 4 * 3_600_000 - 1_800_000;
/// The last moment of all logs: 06:40.
pub const END: Millis = MIDNIGHT + 6 * 3_600_000 + 2_400_000;

/// A moment of the night of 12 April, in the aquarium's zone.
pub const fn at(hour: i64, minute: i64, second: i64, milli: i64) -> Millis {
    MIDNIGHT + ((hour * 60 + minute) * 60 + second) * 1000 + milli
}

/// The calendar reading of a moment, shifted by an offset.
pub fn civil(time: Millis, offset: Millis) -> Civil {
    Civil::from_ns((time + offset) * 1_000_000)
}

/// `2026-04-12T02:31:07.442` of a moment.
pub fn iso(time: Millis, offset: Millis, separator: char) -> String {
    let c = civil(time, offset);
    format!(
        "{:04}-{:02}-{:02}{separator}{:02}:{:02}:{:02}.{:03}",
        c.year,
        c.month,
        c.day,
        c.hour,
        c.minute,
        c.second,
        c.nanos / 1_000_000
    )
}

/// `Apr 12 02:31:07` of a moment.
pub fn bsd(time: Millis, offset: Millis) -> String {
    const MONTHS: [&str; 12] = ["Jan", "Feb", "Mar", "Apr", "May", "Jun", "Jul", "Aug", "Sep", "Oct", "Nov", "Dec"];
    let c = civil(time, offset);
    let month = MONTHS[usize::from(c.month) - 1];
    format!("{month} {:>2} {:02}:{:02}:{:02}", c.day, c.hour, c.minute, c.second)
}

/// The lines of one log, with their moments; written in order of time.
#[derive(Default)]
pub struct Log {
    lines: Vec<(Millis, String)>,
}

impl Log {
    /// Adds a line.
    pub fn add(&mut self, time: Millis, line: impl Into<String>) {
        self.lines.push((time, line.into()));
    }

    /// Adds noise: a line about every `every` milliseconds from `from` to `to`, never quite regular.
    pub fn noise(
        &mut self,
        rng: &mut fastrand::Rng,
        (from, to): (Millis, Millis),
        every: Millis,
        mut line: impl FnMut(&mut fastrand::Rng, Millis) -> String,
    ) {
        let mut time = from + rng.i64(0..every);
        while time < to {
            let text = line(rng, time);
            self.add(time, text);
            time += every / 2 + rng.i64(0..every);
        }
    }

    /// Takes away what lies between two moments: the program did not run then.
    pub fn silence(&mut self, from: Millis, to: Millis) {
        self.lines.retain(|(time, _)| *time < from || *time >= to);
    }

    /// Writes the lines in order, each made whole by `dress`, and sets the file's time to that of the last line.
    pub fn write(
        mut self,
        path: &Path,
        line_end: &str,
        dress: impl Fn(Millis, &str) -> String,
        encode: Encode,
    ) -> io::Result<()> {
        self.lines.sort_by_key(|(time, _)| *time);
        if let Some(folder) = path.parent() {
            fs::create_dir_all(folder)?;
        }
        let mut out = BufWriter::new(File::create(path)?);
        if encode == Encode::Utf16 {
            out.write_all(&[0xFF, 0xFE])?;
        }
        for (time, line) in &self.lines {
            out.write_all(&encode.bytes(&format!("{}{line_end}", dress(*time, line))))?;
        }
        out.flush()?;
        let last = self.lines.last().map_or(END, |(time, _)| *time);
        set_time(out.get_ref(), last)
    }
}

/// Sets a file's modification time.
pub fn set_time(file: &File, time: Millis) -> io::Result<()> {
    file.set_modified(UNIX_EPOCH + Duration::from_millis(time.unsigned_abs()))
}

/// How a log's characters are written.
#[derive(Clone, Copy, PartialEq, Eq)]
pub enum Encode {
    /// UTF-8.
    Utf8,
    /// UTF-16, low byte first, with a byte-order mark.
    Utf16,
}

impl Encode {
    fn bytes(self, text: &str) -> Vec<u8> {
        match self {
            Self::Utf8 => text.as_bytes().to_vec(),
            Self::Utf16 => text.encode_utf16().flat_map(u16::to_le_bytes).collect(),
        }
    }
}
