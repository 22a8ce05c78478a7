//! What is known of one code, in words: its row, the row that it wraps, or only what its shape says.

use super::catalogue::{self, Entry, Outcome, entry};
use super::{Catalogues, Code, Family};

/// What is known of a code.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct CodeInfo {
    /// Its identity.
    pub code: Code,
    /// Its symbolic name, if it has a known one.
    pub name: Option<&'static str>,
    /// What it says of the work that gave it.
    pub outcome: Outcome,
    /// A few words; empty where only the shape is known.
    pub gloss: String,
    /// What it means.
    pub meaning: String,
    /// What usually causes it; empty where nothing is known.
    pub causes: &'static str,
    /// What to check next; empty where nothing is known.
    pub check: &'static str,
    /// Whether a catalogue has it. Otherwise the meaning is no more than what its shape says.
    pub known: bool,
    /// The user's catalogue that it is from, if it is from one: file and line.
    pub user: Option<&'static str>,
}

impl CodeInfo {
    /// Whether something failed.
    pub fn is_failure(&self) -> bool {
        self.outcome == Outcome::Failure
    }
}

/// Whether something failed, cheaper than [`read`].
pub fn outcome(code: Code, own: &Catalogues) -> Outcome {
    if let Some(outcome) = own.entry(code).or(entry(code).copied()).and_then(|row| row.outcome) {
        return outcome;
    }
    match code.family {
        Family::Hresult => match wrapped(code) {
            Some(inner) if inner.outcome == Some(Outcome::Restart) => Outcome::Restart,
            _ if code.number >> 31 == 1 => Outcome::Failure,
            _ => Outcome::Success,
        },
        Family::NtStatus if code.number >> 30 != 3 => Outcome::Success,
        Family::SqlState if code.number < 3 * 36_u32.pow(3) => Outcome::Success,
        Family::Http | Family::Sip | Family::Smtp | Family::Ftp if code.number < 400 => Outcome::Success,
        Family::Exit | Family::Wait | Family::Win32 if code.number == 0 => Outcome::Success,
        Family::Wait => outcome(wait_parts(code.number), own),
        Family::Sqlite if catalogue::entry(Code { number: code.number & 0xFF, ..code }).is_none() => Outcome::Success,
        _ => Outcome::Failure,
    }
}

/// What is known of a code. What is not in a catalogue is described by its shape, and says so.
pub fn read(code: Code, own: &Catalogues) -> CodeInfo {
    if let Some(row) = own.entry(code) {
        return CodeInfo { user: own.place(code), ..from_entry(code, &row, own) };
    }
    match entry(code) {
        Some(row) => from_entry(code, row, own),
        None => by_shape(code, own),
    }
}

pub(super) fn from_entry(code: Code, row: &Entry, own: &Catalogues) -> CodeInfo {
    let mut reading = CodeInfo {
        code,
        name: Some(row.name).filter(|name| !name.is_empty()),
        outcome: row.outcome.unwrap_or_else(|| outcome(code, own)),
        gloss: row.gloss.to_owned(),
        meaning: row.meaning.to_owned(),
        causes: row.causes,
        check: row.check,
        known: true,
        user: None,
    };
    if !row.is_explained() {
        let plain = plain_words(row.name);
        reading.gloss = plain.chars().take(34).collect();
        reading.meaning = if plain.is_empty() {
            format!("Known by name only: {}.", row.name)
        } else {
            format!("Known by name only; read plainly: {plain}.")
        };
    }
    reading
}

/// A symbolic name as words: without what all names of its kind begin with. Empty where it is an abbreviation.
fn plain_words(name: &str) -> String {
    const LEADS: [&str; 22] = [
        "ERROR_",
        "STATUS_",
        "NERR_",
        "RPC_S_",
        "RPC_X_",
        "RPC_NT_",
        "EPT_S_",
        "WSA_",
        "DNS_ERROR_",
        "LDAP_",
        "SQLITE_",
        "ER_",
        "CR_",
        "EX_",
        "SEC_E_",
        "SPAPI_E_",
        "CERT_E_",
        "TRUST_E_",
        "CRYPT_E_",
        "WU_E_",
        "VSS_E_",
        "COR_E_",
    ];
    let bare = LEADS.iter().find_map(|lead| name.strip_prefix(lead)).unwrap_or_else(|| match name.split_once("_E_") {
        Some((lead, rest)) if lead.len() <= 12 => rest,
        _ => name,
    });
    // `EADV`, `WSAEDISCON`: no words to be read.
    if !bare.contains('_') && bare.len() <= 12 && bare == name {
        return String::new();
    }
    bare.replace('_', " ").to_lowercase()
}

/// What a code is in other families by the platform's own rules, each with the rule in a few words: the system code that a
/// component result wraps and the other way round, the signal in an exit status.
pub fn other_forms(code: Code) -> Vec<(Code, &'static str)> {
    let number = code.number;
    let form = |family, number, words| vec![(Code { family, number }, words)];
    match code.family {
        Family::Hresult if facility(number) == 7 && number >> 31 == 1 => form(Family::Win32, number & 0xFFFF, "wraps"),
        Family::Hresult if number & 0x1000_0000 != 0 => form(Family::NtStatus, number & !0x1000_0000, "wraps"),
        Family::Win32 if (1..=0xFFFF).contains(&number) => form(Family::Hresult, 0x8007_0000 | number, "wrapped in"),
        Family::NtStatus if number >> 30 == 3 => form(Family::Hresult, number | 0x1000_0000, "wrapped in"),
        Family::Exit if (129..=192).contains(&number) => form(Family::Signal, number - 128, "is 128 and"),
        Family::Signal if (1..=64).contains(&number) => form(Family::Exit, number + 128, "in a shell"),
        Family::Wait => vec![(wait_parts(number), "holds")],
        _ => Vec::new(),
    }
}

/// The system code that a component result wraps: facility 7.
fn wrapped(code: Code) -> Option<&'static Entry> {
    let inner = Code { family: Family::Win32, number: code.number & 0xFFFF };
    (code.family == Family::Hresult && facility(code.number) == 7).then(|| entry(inner)).flatten()
}

/// The facility of an HRESULT (winerror.h: bits 16 to 26).
pub fn facility(number: u32) -> u32 {
    (number >> 16) & 0x7FF
}

/// Exit status, or else signal, of what wait(2) gives: low seven bits the signal, the next a dump, then the status.
pub fn wait_parts(number: u32) -> Code {
    match number & 0x7F {
        0 => Code { family: Family::Exit, number: number >> 8 & 0xFF },
        signal => Code { family: Family::Signal, number: signal },
    }
}

fn by_shape(code: Code, own: &Catalogues) -> CodeInfo {
    let number = code.number;
    let mut reading = CodeInfo {
        code,
        name: None,
        outcome: outcome(code, own),
        gloss: String::new(),
        meaning: String::new(),
        causes: "",
        check: "",
        known: false,
        user: None,
    };
    match code.family {
        Family::Hresult => {
            if let Some(row) = wrapped(code) {
                let outcome = reading.outcome;
                return CodeInfo { outcome, ..from_entry(code, row, own) };
            }
            // A status of the kernel as a component result: bit 28 is set, the rest is as it was.
            let status = Code { family: Family::NtStatus, number: number & !0x1000_0000 };
            if number & 0x1000_0000 != 0
                && let Some(row) = entry(status)
            {
                return from_entry(code, row, own);
            }
            reading.meaning = format!(
                "Not in any catalogue. Its shape: a component result ({}), facility {}{}, code {}.",
                if number >> 31 == 1 { "failure" } else { "success" },
                facility(number),
                facility_name(facility(number)).map(|name| format!(" ({name})")).unwrap_or_default(),
                number & 0xFFFF
            );
        }
        Family::NtStatus => {
            let severity = ["success", "information", "warning", "error"][(number >> 30) as usize];
            let customer = if number & 0x2000_0000 == 0 { "" } else { ", given by an application of its own" };
            reading.meaning = format!(
                "Not in any catalogue. Its shape: a Windows kernel status ({severity}{customer}), facility {}, code {}.",
                (number >> 16) & 0xFFF,
                number & 0xFFFF
            );
        }
        Family::Exit if (129..=192).contains(&number) => {
            let signal = Code { family: Family::Signal, number: number - 128 };
            if let Some(row) = entry(signal) {
                reading.name = Some(row.name);
                reading.known = true;
                reading.gloss = format!("ended by {}", row.name);
                reading.meaning = format!(
                    "128 + {}: a shell reports a child that ended by {}. {}",
                    signal.number, row.name, row.meaning
                );
                (reading.causes, reading.check) = (row.causes, row.check);
            } else {
                reading.meaning =
                    format!("128 + {}: a shell reports a child that ended by signal {}.", signal.number, signal.number);
            }
        }
        Family::Exit => {
            reading.meaning = format!("The program ended with {number}; what that means is the program's own choice.");
        }
        Family::Wait => {
            let inner = wait_parts(number);
            let of = inner.info(own);
            let dump = if inner.family == Family::Signal && number & 0x80 != 0 { ", with a dump" } else { "" };
            reading.gloss = match inner.family {
                Family::Signal => format!("signal {}{dump}", inner.number),
                _ => format!("exit status {}", inner.number),
            };
            reading.known = of.known;
            reading.name = of.name;
            reading.meaning = format!("Wait status: {}. {}", reading.gloss, of.meaning);
            (reading.causes, reading.check) = (of.causes, of.check);
        }
        Family::SqlState => {
            let class = number / 36_u32.pow(3) * 36_u32.pow(3);
            let same_class = entry(Code { number: class, ..code });
            reading.meaning = match same_class {
                Some(row) => format!(
                    "Not in any catalogue. Its class is {}: {}.",
                    &super::family::state_text(number)[..2],
                    row.name.replace('_', " ")
                ),
                None => "Not in any catalogue; its class is none of the standard's.".to_owned(),
            };
        }
        Family::Http | Family::Sip | Family::Smtp | Family::Ftp => {
            let class =
                ["preliminary", "success", "redirection or continue", "refused by the other side", "failed there"];
            let class = class.get((number / 100).wrapping_sub(1) as usize).copied().unwrap_or("unknown class");
            reading.meaning = format!("Not in any catalogue. Its class: {class}.");
        }
        Family::Sqlite => {
            let plain = Code { number: number & 0xFF, ..code };
            let text = entry(plain).map_or("", |row| row.meaning);
            reading.meaning = format!("Not in any catalogue; a form of {}. {text}", plain.number);
        }
        family => reading.meaning = format!("Not in any catalogue. In this place it would be a {}.", family.title()),
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
        13 => "media",
        14 => "message queues",
        15 => "setup",
        16 => "smart card",
        17 => "component services",
        19 => "managed runtime",
        25 => "web requests",
        32 => "background transfers",
        36 => "update",
        38 => "groups",
        39 => "shell",
        40 => "security chip",
        49 => "volume encryption",
        53 => "remote management",
        55 => "virtual machines",
        61 => "disk management",
        _ => return None,
    })
}

#[cfg(test)]
mod tests;
