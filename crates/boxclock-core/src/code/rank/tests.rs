//! Which family comes first, and why.

use super::*;
use crate::code::NO_CATALOGUES;

fn order(number: u32, found: Family, clues: &Clues<'_>) -> Vec<(Family, String)> {
    candidates(Code { family: found, number }, clues, &NO_CATALOGUES)
        .into_iter()
        .map(|candidate| (candidate.reading.code.family, candidate.reason))
        .collect()
}

#[test]
fn what_recognition_took_comes_first_with_its_reason() {
    let clues = Clues { platform: Platform::Windows, format: "msi-log", at_home: &[Family::Msi], ..Clues::default() };
    let order = order(1722, Family::Msi, &clues);
    assert_eq!(order[0].0, Family::Msi);
    assert!(order[0].1.contains("words") && order[0].1.contains("the format msi-log"), "{order:?}");
    assert_eq!(order[1].0, Family::Win32);
    assert!(order[1].1.contains("the source is from Windows"), "{order:?}");
}

#[test]
fn what_a_person_chose_comes_before_all() {
    let clues = Clues { chosen: Some(Family::Kerberos), ..Clues::default() };
    let order = order(24, Family::Errno, &clues);
    assert_eq!((order[0].0, order[0].1.as_str()), (Family::Kerberos, "chosen by you"));
    assert_eq!(order[1].0, Family::Errno);
}

#[test]
fn program_and_other_codes_count() {
    let clues = Clues { component: "slapd", in_source: vec![(Family::Signal, 12)], ..Clues::default() };
    let order = order(16, Family::Exit, &clues);
    let place = |family| order.iter().position(|(other, _)| *other == family).unwrap();
    assert!(place(Family::Ldap) < place(Family::Errno), "{order:?}");
    let (_, reason) = &order[place(Family::Signal)];
    assert!(reason.contains("12 other codes of this source are of it"), "{order:?}");
}

#[test]
fn names_have_one_reading() {
    let row = super::super::catalogue::by_name(b"OOMKilled").unwrap();
    assert_eq!(candidates(row.code, &Clues::default(), &NO_CATALOGUES).len(), 1);
}
