//! The catalogue of codes: families, numbers, names, and meanings in our own words.
//!
//! Sources of the numbers: the platforms' public headers (as Debian's mingw-w64-common and libc6-dev carry them), RFC
//! 9110 for HTTP, the manual pages signal(7), errno(3), sysexits(3) and systemd.exec(5). The layout of an HRESULT
//! (severity, facility, code) and of an NTSTATUS is that of the headers winerror.h and ntstatus.h.

use std::sync::LazyLock;

use rustc_hash::FxHashMap;

use super::Code;

/// A list of numbers that codes come from.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Hash, PartialOrd, Ord)]
pub enum Family {
    /// System codes of Windows, sockets and installers among them.
    Win32,
    /// Results of component calls: severity, facility and code in 32 bits.
    Hresult,
    /// Status values of the Windows kernel.
    NtStatus,
    /// Stop codes of the Windows kernel.
    Stop,
    /// Error numbers of Linux.
    Errno,
    /// Signals of Linux.
    Signal,
    /// Exit status of a process.
    Exit,
    /// HTTP status.
    Http,
}

impl Family {
    /// All families, in the order in which several readings of one number are listed.
    pub const ALL: [Self; 8] =
        [Self::Win32, Self::Hresult, Self::NtStatus, Self::Stop, Self::Errno, Self::Signal, Self::Exit, Self::Http];

    /// The name of the JSON contract.
    pub fn name(self) -> &'static str {
        match self {
            Self::Win32 => "win32",
            Self::Hresult => "hresult",
            Self::NtStatus => "ntstatus",
            Self::Stop => "stop",
            Self::Errno => "errno",
            Self::Signal => "signal",
            Self::Exit => "exit",
            Self::Http => "http",
        }
    }

    /// A plain phrase for people.
    pub fn title(self) -> &'static str {
        match self {
            Self::Win32 => "Windows system code",
            Self::Hresult => "component result (HRESULT)",
            Self::NtStatus => "Windows kernel status (NTSTATUS)",
            Self::Stop => "Windows stop code",
            Self::Errno => "Linux error number (errno)",
            Self::Signal => "signal",
            Self::Exit => "exit status",
            Self::Http => "HTTP status",
        }
    }

    /// Whether its numbers are written in hexadecimal.
    pub fn is_hex(self) -> bool {
        matches!(self, Self::Hresult | Self::NtStatus | Self::Stop)
    }
}

/// One row of the catalogue.
#[derive(Clone, Copy, Debug)]
pub struct Entry {
    /// Its identity.
    pub code: Code,
    /// Its symbolic name.
    pub name: &'static str,
    /// Whether it means that something failed.
    pub failure: bool,
    /// A few words, for right behind the code.
    pub gloss: &'static str,
    /// What it means.
    pub meaning: &'static str,
    /// What to check next.
    pub check: &'static str,
}

/// What is known of a code: its row, a row that it wraps, or only its shape.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Reading {
    /// Its identity.
    pub code: Code,
    /// Its symbolic name, if it has a known one.
    pub name: Option<&'static str>,
    /// Whether it means that something failed.
    pub failure: bool,
    /// A few words; empty where only the shape is known.
    pub gloss: String,
    /// What it means.
    pub meaning: String,
    /// What to check next; empty where nothing is known.
    pub check: &'static str,
}

struct Tables {
    rows: Vec<Entry>,
    by_code: FxHashMap<Code, usize>,
    by_name: FxHashMap<&'static [u8], usize>,
}

static TABLES: LazyLock<Tables> = LazyLock::new(|| {
    let rows: Vec<Entry> = include_str!("../../data/codes.tsv").lines().filter_map(parse_row).collect();
    let by_code = rows.iter().enumerate().map(|(index, row)| (row.code, index)).collect();
    // The first row of a name wins: the Windows system codes come before the results that wrap them.
    let mut by_name = FxHashMap::default();
    for (index, row) in rows.iter().enumerate() {
        if !row.name.contains(' ') && row.code.family != Family::Http {
            by_name.entry(row.name.as_bytes()).or_insert(index);
        }
    }
    Tables { rows, by_code, by_name }
});

fn parse_row(line: &'static str) -> Option<Entry> {
    if line.starts_with('#') {
        return None;
    }
    let mut columns = line.split('\t');
    let family_name = columns.next()?;
    let family = Family::ALL.into_iter().find(|family| family.name() == family_name)?;
    let number = columns.next()?;
    let number = match number.strip_prefix("0x") {
        Some(hex) => u32::from_str_radix(hex, 16).ok()?,
        None => number.parse().ok()?,
    };
    Some(Entry {
        code: Code { family, number },
        name: columns.next()?,
        failure: columns.next()? == "1",
        gloss: columns.next()?,
        meaning: columns.next()?,
        check: columns.next()?,
    })
}

/// All rows.
pub fn entries() -> &'static [Entry] {
    &TABLES.rows
}

/// The row of a code, if it has one.
pub fn entry(code: Code) -> Option<&'static Entry> {
    TABLES.by_code.get(&code).and_then(|index| TABLES.rows.get(*index))
}

/// The row of a symbolic name, if it has one.
pub fn by_name(name: &[u8]) -> Option<&'static Entry> {
    TABLES.by_name.get(name).and_then(|index| TABLES.rows.get(*index))
}

fn from_entry(code: Code, entry: &Entry) -> Reading {
    Reading {
        code,
        name: Some(entry.name),
        failure: entry.failure,
        gloss: entry.gloss.to_owned(),
        meaning: entry.meaning.to_owned(),
        check: entry.check,
    }
}

/// What is known of a code. What is not in the catalogue is described by its shape, and says so.
pub fn read(code: Code) -> Reading {
    if let Some(entry) = entry(code) {
        return from_entry(code, entry);
    }
    let number = code.number;
    let mut reading =
        Reading { code, name: None, failure: true, gloss: String::new(), meaning: String::new(), check: "" };
    match code.family {
        Family::Hresult => {
            reading.failure = number >> 31 == 1;
            let facility = (number >> 16) & 0x7FF;
            let wrapped = Code { family: Family::Win32, number: number & 0xFFFF };
            if facility == 7
                && let Some(entry) = entry(wrapped)
            {
                return Reading { failure: reading.failure && entry.failure, ..from_entry(code, entry) };
            }
            reading.meaning = format!(
                "Not in the catalogue. Its shape: a component result ({}), facility {facility}{}, code {}.",
                if reading.failure { "failure" } else { "success" },
                facility_name(facility).map(|name| format!(" ({name})")).unwrap_or_default(),
                number & 0xFFFF
            );
        }
        Family::NtStatus => {
            let severity = ["success", "information", "warning", "error"][(number >> 30) as usize];
            reading.failure = number >> 30 == 3;
            reading.meaning = format!(
                "Not in the catalogue. Its shape: a Windows kernel status ({severity}), facility {}, code {}.",
                (number >> 16) & 0xFFF,
                number & 0xFFFF
            );
        }
        Family::Exit if (129..=192).contains(&number) => {
            let signal = Code { family: Family::Signal, number: number - 128 };
            if let Some(entry) = entry(signal) {
                reading.name = Some(entry.name);
                reading.gloss = format!("ended by {}", entry.name);
                reading.meaning = format!(
                    "128 + {}: a shell reports a child that ended by {}. {}",
                    signal.number, entry.name, entry.meaning
                );
                reading.check = entry.check;
            } else {
                reading.meaning =
                    format!("128 + {}: a shell reports a child that ended by signal {}.", signal.number, signal.number);
            }
        }
        Family::Exit => {
            reading.meaning = format!("The program ended with {number}; what that means is the program's own choice.");
        }
        Family::Http => {
            reading.failure = number >= 400;
            let class = ["information", "success", "redirection", "client error", "server error"];
            let class = class.get((number / 100).wrapping_sub(1) as usize).copied().unwrap_or("unknown class");
            reading.meaning = format!("Not in the catalogue. Its class: {class}.");
        }
        family => reading.meaning = format!("Not in the catalogue. Where it stands it would be a {}.", family.title()),
    }
    reading
}

/// The facilities of HRESULT that administrators meet (winerror.h, FACILITY_…).
fn facility_name(facility: u32) -> Option<&'static str> {
    Some(match facility {
        0 => "general",
        1 => "remote calls",
        2 => "dispatch",
        3 => "storage",
        4 => "interface",
        7 => "Windows system codes",
        8 => "Windows",
        9 => "security",
        10 => "control",
        11 => "certificates",
        12 => "internet",
        15 => "setup",
        16 => "smart card",
        19 => "managed runtime",
        36 => "update",
        _ => return None,
    })
}

/// All readings that a number or name, as somebody typed it, can have.
///
/// Accepts `0x80070005`, `-2147024891`, `2147942405`, `5`, `ENOSPC`, `SIGSEGV`, and bare hexadecimal of eight digits
/// such as `80070005`. `None` where the text has none of these forms.
pub fn look_up(text: &str) -> Option<Vec<Reading>> {
    let text = text.trim();
    if let Some(entry) = by_name(text.to_ascii_uppercase().as_bytes()) {
        let same = entries().iter().filter(|other| other.name == entry.name);
        return Some(same.map(|entry| from_entry(entry.code, entry)).collect());
    }
    let hex = text.strip_prefix("0x").or(text.strip_prefix("0X")).or_else(|| {
        let bare = text.len() == 8 && text.bytes().all(|byte| byte.is_ascii_hexdigit());
        (bare && (text.bytes().any(|byte| byte.is_ascii_alphabetic()) || text.starts_with(['8', 'C']))).then_some(text)
    });
    let number = if let Some(digits) = hex {
        u32::from_str_radix(digits, 16).ok()?
    } else {
        let value = text.replace('\u{2212}', "-").parse::<i64>().ok()?;
        u32::try_from(value).or_else(|_| i32::try_from(value).map(i32::cast_unsigned)).ok()?
    };
    Some(readings(number))
}

/// All readings that a number can have: its rows in every family, else the shape of the one family that fits.
pub fn readings(number: u32) -> Vec<Reading> {
    let mut found: Vec<Reading> = Family::ALL
        .into_iter()
        .filter(|family| !(number <= 1 && matches!(family, Family::Hresult | Family::NtStatus)))
        .filter_map(|family| entry(Code { family, number }).map(|entry| from_entry(entry.code, entry)))
        .collect();
    if (129..=192).contains(&number) {
        found.push(read(Code { family: Family::Exit, number }));
    }
    if found.is_empty() {
        let family = match number {
            0xC000_0000.. => Family::NtStatus,
            0x8000_0000.. => Family::Hresult,
            0..=99 => Family::Exit,
            100..=599 => Family::Http,
            _ => Family::Win32,
        };
        found.push(read(Code { family, number }));
    }
    found
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn every_row_is_whole() {
        let lines = include_str!("../../data/codes.tsv").lines().filter(|line| !line.starts_with('#')).count();
        assert_eq!(entries().len(), lines, "a row of the table could not be read");
        assert!(entries().len() >= 200);
        for entry in entries() {
            assert!(!entry.gloss.is_empty() && entry.gloss.chars().count() <= 34, "{entry:?}");
            assert!(entry.meaning.ends_with('.') && !entry.check.is_empty(), "{entry:?}");
        }
    }

    #[test]
    fn every_writing_leads_to_the_same_code() {
        for text in ["0x80070005", "-2147024891", "2147942405", "80070005", "E_ACCESSDENIED", "0X80070005"] {
            let readings = look_up(text).unwrap();
            assert_eq!(readings[0].name, Some("E_ACCESSDENIED"), "{text}");
            assert_eq!(readings[0].code.number, 2_147_942_405, "{text}");
        }
        assert_eq!(look_up("0x"), None);
        assert_eq!(look_up("99999999999999999999"), None);
        assert_eq!(look_up("hello"), None);
    }

    #[test]
    fn wrapped_and_unknown_results() {
        let wrapped = read(Code { family: Family::Hresult, number: 0x8007_0652 });
        assert_eq!(wrapped.name, Some("ERROR_INSTALL_ALREADY_RUNNING"));
        let unknown = read(Code { family: Family::Hresult, number: 0x8004_1234 });
        assert!(unknown.name.is_none() && unknown.failure && unknown.meaning.contains("facility 4"));
        let restart = read(Code { family: Family::Hresult, number: 0x8007_0BC2 });
        assert!(!restart.failure, "success that needs a restart is no failure, wrapped or not");
    }

    #[test]
    fn shells_report_signals() {
        assert_eq!(read(Code { family: Family::Exit, number: 139 }).name, Some("SIGSEGV"));
    }

    #[test]
    fn small_numbers_have_several_readings() {
        let names: Vec<_> = look_up("5").unwrap().into_iter().filter_map(|reading| reading.name).collect();
        assert_eq!(names, ["ERROR_ACCESS_DENIED", "EIO", "SIGTRAP"]);
    }
}
