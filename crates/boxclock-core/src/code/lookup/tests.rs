//! What people type.
use crate::code::NO_CATALOGUES;
use proptest::prelude::*;

use super::*;

fn first(text: &str) -> Option<&'static str> {
    look_up(text, Platform::Unknown, &NO_CATALOGUES).ok()?.first()?.name
}

#[test]
fn every_writing_leads_to_the_same_code() {
    for text in [
        "0x80070005",
        "-2147024891",
        "2147942405",
        "80070005",
        "E_ACCESSDENIED",
        "0X80070005",
        "e_accessdenied",
        "0xFFFFFFFF80070005",
        "FFFFFFFF80070005",
        "\u{2212}2147024891",
        "hresult 0x80070005",
    ] {
        let readings = look_up(text, Platform::Unknown, &NO_CATALOGUES).unwrap();
        assert_eq!(readings[0].name, Some("E_ACCESSDENIED"), "{text}");
        assert_eq!(readings[0].code.number, 2_147_942_405, "{text}");
    }
}

#[test]
fn the_forms_of_families() {
    for (text, name) in [
        ("42P01", Some("undefined_table")),
        ("ORA-00942", Some("ORA-00942")),
        ("TNS-12541", Some("ORA-12541")),
        ("SQL0911N", Some("SQL0911N")),
        ("http 503", Some("Service Unavailable")),
        ("signal:9", Some("SIGKILL")),
        ("stop 0xD1", Some("DRIVER_IRQL_NOT_LESS_OR_EQUAL")),
        ("OOMKilled", Some("OOMKilled")),
        ("oomkilled", Some("OOMKilled")),
        ("NullPointerException", Some("NullPointerException")),
        ("NXDOMAIN", Some("NXDOMAIN")),
        ("ENOSPC", Some("ENOSPC")),
        ("C0000005", Some("STATUS_ACCESS_VIOLATION")),
        ("0x1000007E", None),
    ] {
        assert_eq!(first(text), name, "{text}");
    }
}

#[test]
fn what_is_no_code() {
    for (text, why) in [
        ("0x", NoCode::Form),
        ("", NoCode::Form),
        ("-", NoCode::Form),
        ("hello", NoCode::Form),
        ("0xZZ", NoCode::Form),
        ("99999999999999999999", NoCode::TooLarge),
        ("4294967296", NoCode::TooLarge),
        ("0x123456789", NoCode::TooLarge),
        ("0x11111111111111111", NoCode::TooLarge),
    ] {
        assert_eq!(look_up(text, Platform::Unknown, &NO_CATALOGUES), Err(why), "{text}");
    }
}

#[test]
fn small_numbers_have_several_readings_and_the_system_orders_them() {
    let names = |platform| -> Vec<_> {
        look_up("5", platform, &NO_CATALOGUES).unwrap().into_iter().filter_map(|reading| reading.name).take(3).collect()
    };
    assert_eq!(names(Platform::Unknown), ["ERROR_ACCESS_DENIED", "EIO", "SIGTRAP"]);
    assert_eq!(names(Platform::Windows)[0], "ERROR_ACCESS_DENIED");
    assert_eq!(names(Platform::Linux)[0], "EIO");
    let again = look_up("35", Platform::Freebsd, &NO_CATALOGUES).unwrap();
    assert_eq!(again[0].name, Some("EAGAIN"));
    assert!(
        look_up("35", Platform::Unknown, &NO_CATALOGUES).unwrap().iter().any(|reading| reading.name == Some("EAGAIN"))
    );
}

#[test]
fn words() {
    let names = |words: &str| -> Vec<_> {
        search(words, Platform::Unknown, &NO_CATALOGUES).into_iter().filter_map(|reading| reading.name).collect()
    };
    assert!(names("disk full").iter().take(6).any(|name| *name == "ERROR_DISK_FULL"), "{:?}", names("disk full"));
    assert!(names("access denied").contains(&"ERROR_ACCESS_DENIED"));
    assert!(names("no space left").contains(&"ENOSPC"));
    assert!(names("restart needed").contains(&"ERROR_SUCCESS_REBOOT_REQUIRED"));
    assert!(names("cluster node down").contains(&"ERROR_CLUSTER_NODE_DOWN"), "names alone are searched too");
    assert_eq!(names("gobbledygook zebra"), [] as [&str; 0]);
    assert_eq!(names(" "), [] as [&str; 0]);
    assert!(search("error", Platform::Unknown, &NO_CATALOGUES).len() <= MOST_FOUND);
}

proptest! {
    /// Every writing of a number leads to the same row.
    #[test]
    fn writings_of_any_number(number in any::<u32>()) {
        let all = |text: &str| look_up(text, Platform::Unknown, &NO_CATALOGUES).map(|readings| readings.iter().map(|reading| reading.code).collect::<Vec<_>>());
        let expected = all(&number.to_string());
        let hex = all(&format!("0x{number:X}"));
        let only_numbers = |codes: Result<Vec<Code>, NoCode>| {
            codes.map(|codes| codes.into_iter().filter(|code| code.family != Family::SqlState).collect::<Vec<_>>())
        };
        // Eight digits that begin with 8 are taken for hexadecimal first.
        prop_assume!(!(80_000_000..90_000_000).contains(&number));
        prop_assert_eq!(only_numbers(hex), only_numbers(expected.clone()));
        prop_assert_eq!(only_numbers(all(&format!("0x{number:08x}"))), only_numbers(expected.clone()));
        if number >= 0x8000_0000 {
            prop_assert_eq!(only_numbers(all(&number.cast_signed().to_string())), only_numbers(expected.clone()));
            prop_assert_eq!(only_numbers(all(&format!("0xFFFFFFFF{number:08X}"))), only_numbers(expected));
        }
    }

    #[test]
    fn any_text(text in "\\PC{0,40}") {
        let _ = look_up(&text, Platform::Windows, &NO_CATALOGUES);
        search(&text, Platform::Windows, &NO_CATALOGUES);
    }

    #[test]
    fn states_survive(text in "[0-9A-Z]{5}") {
        prop_assert_eq!(crate::code::family::state_text(state_number(text.as_bytes()).unwrap()), text);
    }
}

#[test]
fn a_small_negative_number_is_an_error_of_the_system_first() {
    for (text, system, name) in [
        ("-104", Platform::Linux, "ECONNRESET"),
        ("-104", Platform::Unknown, "ECONNRESET"),
        ("-2", Platform::Linux, "ENOENT"),
    ] {
        let found = look_up(text, system, &NO_CATALOGUES).unwrap();
        assert_eq!((found[0].name, found[0].known), (Some(name), true), "{text}");
    }
    assert!(look_up("-2147024891", Platform::Linux, &NO_CATALOGUES).unwrap()[0].name == Some("E_ACCESSDENIED"));
}
