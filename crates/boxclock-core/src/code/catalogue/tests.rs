//! The tables themselves: whole, and true to the headers that they were taken from.
use super::*;
use crate::code::NO_CATALOGUES;
use crate::code::lookup::look_up;
use crate::code::{Form, Platform};

fn named(family: Family) -> Vec<(u32, &'static str)> {
    let text = NAMED.iter().find(|(other, _)| *other == family).unwrap().1;
    text.lines().filter_map(|line| parse_named(family, line)).collect()
}

#[test]
fn every_row_can_be_read_and_says_enough() {
    let lines = EXPLAINED.iter().flat_map(|text| text.lines()).filter(|line| !line.starts_with('#'));
    let mut seen = std::collections::HashSet::new();
    let mut by_family: std::collections::BTreeMap<&str, usize> = std::collections::BTreeMap::new();
    for line in lines {
        let row = parse_explained(line).unwrap_or_else(|| panic!("cannot be read: {line}"));
        assert!(seen.insert(row.code), "twice: {line}");
        assert!(!row.gloss.is_empty() && row.gloss.chars().count() <= 34, "{line}");
        assert!(row.meaning.ends_with('.') && row.causes.ends_with('.') && row.check.ends_with('.'), "{line}");
        assert_eq!(line.split('\t').count(), 8, "{line}");
        *by_family.entry(row.code.family.name()).or_default() += 1;
    }
    assert!(seen.len() >= 1700, "{} rows by hand", seen.len());
    assert!(by_family["stop"] >= 70 && by_family["msi"] >= 80 && by_family["hresult"] >= 200, "{by_family:?}");
}

#[test]
fn every_line_of_the_names_can_be_read() {
    for (family, text) in NAMED {
        let lines = text.lines().filter(|line| !line.starts_with('#')).count();
        assert_eq!(named(family).len(), lines, "{family:?}");
        assert!(text.starts_with("# Names of the family") && text.contains("Source:"), "{family:?}");
    }
    assert!(named(Family::Win32).len() > 2500 && named(Family::Hresult).len() > 3000);
    assert!(named(Family::NtStatus).len() > 1700 && named(Family::SqlState).len() > 250);
}

/// What people wrote down must not say another name than the header does. Numbers that the headers at hand do not have
/// (newer ones) are not checked by this.
#[test]
fn names_by_hand_are_those_of_the_headers() {
    for (family, _) in NAMED {
        let names = named(family);
        let explained = entries().iter().filter(|row| row.code.family == family && row.is_explained());
        for row in explained.filter(|row| !row.name.is_empty()) {
            let of_number: Vec<_> = names.iter().filter(|(number, _)| *number == row.code.number).collect();
            assert!(
                of_number.is_empty() || of_number.iter().any(|(_, name)| *name == row.name),
                "{row:?}: {of_number:?}"
            );
        }
    }
}

/// Facts that are known from elsewhere than the files that the tables were made of: the platforms' manuals.
#[test]
fn each_family_has_its_well_known_numbers() {
    for (family, number, name) in [
        (Family::Win32, 1603, "ERROR_INSTALL_FAILURE"),
        (Family::Win32, 10061, "WSAECONNREFUSED"),
        (Family::Win32, 12007, "ERROR_INTERNET_NAME_NOT_RESOLVED"),
        (Family::Hresult, 0x8007_0005, "E_ACCESSDENIED"),
        (Family::Hresult, 0x8024_2006, "WU_E_UH_INVALIDMETADATA"),
        (Family::Hresult, 0x8013_1500, "COR_E_EXCEPTION"),
        (Family::NtStatus, 0xC000_0022, "STATUS_ACCESS_DENIED"),
        (Family::Stop, 0xD1, "DRIVER_IRQL_NOT_LESS_OR_EQUAL"),
        (Family::Errno, 110, "ETIMEDOUT"),
        (Family::ErrnoMacos, 60, "ETIMEDOUT"),
        (Family::ErrnoFreebsd, 35, "EAGAIN"),
        (Family::ErrnoSolaris, 145, "ETIMEDOUT"),
        (Family::ErrnoAix, 78, "ETIMEDOUT"),
        (Family::Signal, 11, "SIGSEGV"),
        (Family::Exit, 78, "EX_CONFIG"),
        (Family::Exit, 203, "EXIT_EXEC"),
        (Family::Ldap, 49, "LDAP_INVALID_CREDENTIALS"),
        (Family::MySql, 1045, "ER_ACCESS_DENIED_ERROR"),
        (Family::Sqlite, 5, "SQLITE_BUSY"),
        (Family::Http, 503, "Service Unavailable"),
        (Family::Sip, 486, "Busy Here"),
        (Family::Tls, 48, "unknown_ca"),
        (Family::Dns, 3, "NXDOMAIN"),
        (Family::Kerberos, 37, "KRB_AP_ERR_SKEW"),
        (Family::Ssh, 11, "SSH_DISCONNECT_BY_APPLICATION"),
    ] {
        let names: Vec<_> = entry(Code { family, number }).map(|row| row.name).into_iter().collect();
        assert_eq!(names, [name], "{family:?} {number}");
    }
    let state = |text: &str| Code {
        family: Family::SqlState,
        number: crate::code::family::state_number(text.as_bytes()).unwrap(),
    };
    assert_eq!(entry(state("42P01")).unwrap().name, "undefined_table");
    assert_eq!(entry(state("40001")).unwrap().name, "serialization_failure");
}

/// A system code in a component result has facility 7: the header's own wrapped names must fit its plain ones.
#[test]
fn wrapped_forms_are_recomputed() {
    for (number, name) in named(Family::Hresult).into_iter().filter(|(number, _)| *number >> 16 == 0x8007) {
        let plain = Code { family: Family::Win32, number: number & 0xFFFF };
        assert!(entry(plain).is_some(), "{name} wraps nothing that is known");
    }
    for (number, name) in named(Family::Win32).into_iter().filter(|(number, _)| *number > 0) {
        let wrapped = Code { family: Family::Hresult, number: 0x8007_0000 | number };
        let reading = wrapped.info(&NO_CATALOGUES);
        assert!(reading.known, "{name}");
        let own = entry(wrapped).is_some();
        let plain = Code { family: Family::Win32, number }.info(&NO_CATALOGUES);
        assert!(own || reading.name == plain.name, "{name}: {:?} is not {:?}", reading.name, plain.name);
    }
}

#[test]
fn parameters_of_stops() {
    let rows = include_str!("../../../data/codes/stop-parameters.tsv").lines().filter(|line| !line.starts_with('#'));
    let mut count = 0;
    for line in rows {
        let number = u32::from_str_radix(&line[2..line.find('\t').unwrap()], 16).unwrap();
        let parameters = stop_parameters(number).unwrap_or_else(|| panic!("{line}"));
        assert!(parameters.iter().all(|text| !text.is_empty()), "{line}");
        assert!(entry(Code { family: Family::Stop, number }).is_some_and(Entry::is_explained), "{line}");
        count += 1;
    }
    assert!(count >= 40, "{count}");
    assert!(stop_parameters(0xD1).unwrap()[0].contains("address that was touched"));
}

#[test]
fn every_name_leads_back_to_its_code() {
    for row in entries().iter().filter(|row| !row.name.is_empty()) {
        let readings = look_up(row.name, Platform::Unknown, &NO_CATALOGUES).unwrap_or_default();
        assert!(readings.iter().any(|reading| reading.code == row.code), "{row:?}");
        if row.code.family.form() == Form::Name {
            assert_eq!(row.code.written(&NO_CATALOGUES), row.name);
        }
    }
}
