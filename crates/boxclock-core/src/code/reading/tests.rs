//! What is said of codes that are wrapped, widened, or in no catalogue.
use super::*;
use crate::code::Form;
use crate::code::NO_CATALOGUES;

fn reading(family: Family, number: u32) -> CodeInfo {
    read(Code { family, number }, &NO_CATALOGUES)
}

#[test]
fn wrapped_and_unknown_results() {
    assert_eq!(reading(Family::Hresult, 0x8007_0652).name, Some("ERROR_INSTALL_ALREADY_RUNNING"));
    let unknown = reading(Family::Hresult, 0x8004_FFF4);
    assert!(
        !unknown.known && unknown.is_failure() && unknown.meaning.contains("facility 4 (interface)"),
        "{unknown:?}"
    );
    assert!(
        unknown.meaning.starts_with("Not in any catalogue") && unknown.gloss.is_empty() && unknown.check.is_empty()
    );
    let restart = reading(Family::Hresult, 0x8007_0BC2);
    assert_eq!(restart.outcome, Outcome::Restart, "success that needs a restart is no failure, wrapped or not");
    // A status of the kernel as a component result.
    assert_eq!(reading(Family::Hresult, 0xD000_0022).name, Some("STATUS_ACCESS_DENIED"));
}

#[test]
fn success_is_no_failure() {
    for (family, number) in [
        (Family::Win32, 0),
        (Family::Win32, 3010),
        (Family::Hresult, 0),
        (Family::Hresult, 1),
        (Family::NtStatus, 0x103),
        (Family::Http, 204),
        (Family::Http, 301),
        (Family::Http, 299),
        (Family::Exit, 0),
        (Family::Wait, 0),
        (Family::Msi, 1707),
        (Family::Package, 102),
        (Family::Kerberos, 25),
        (Family::Smtp, 250),
        (Family::SqlState, 0),
    ] {
        assert!(!reading(family, number).is_failure(), "{family:?} {number}");
        assert!(!Code { family, number }.escalates(&NO_CATALOGUES), "{family:?} {number}");
    }
    for (family, number) in
        [(Family::Win32, 1641), (Family::Msi, 1703), (Family::Package, 102), (Family::Hresult, 0x0024_0005)]
    {
        assert_eq!(reading(family, number).outcome, Outcome::Restart, "{family:?} {number}");
    }
}

#[test]
fn shells_and_wait() {
    assert_eq!(reading(Family::Exit, 159).name, Some("SIGSYS"));
    assert_eq!(reading(Family::Exit, 137).gloss, "killed");
    let dumped = reading(Family::Wait, 0x8B);
    assert_eq!((dumped.name, dumped.gloss.as_str()), (Some("SIGSEGV"), "signal 11, with a dump"));
    assert_eq!(reading(Family::Wait, 0x0300).gloss, "exit status 3");
    assert!(reading(Family::Exit, 42).meaning.contains("the program's own choice"));
}

#[test]
fn names_alone_are_read_plainly() {
    let reading = reading(Family::Win32, 5038);
    assert!(reading.known, "{reading:?}");
    assert!(reading.gloss.starts_with("class") || reading.gloss.contains(' '), "{reading:?}");
    assert_eq!(plain_words("ERROR_CLUSTER_NODE_DOWN"), "cluster node down");
    assert_eq!(plain_words("WU_E_UH_INVALIDMETADATA"), "uh invalidmetadata");
    assert_eq!(plain_words("EADV"), "");
}

#[test]
fn every_code_of_every_catalogue_can_be_read_and_written() {
    for row in catalogue::entries() {
        let reading = row.code.info(&NO_CATALOGUES);
        assert!(reading.known && reading.meaning.ends_with('.'), "{reading:?}");
        assert!(!row.code.written(&NO_CATALOGUES).is_empty());
        if row.code.family.form() != Form::Name {
            assert_eq!(row.code.number_out(), Some(row.code.number));
        }
    }
}

proptest::proptest! {
    #[test]
    fn any_number_of_any_family(place in 0..Family::ALL.len(), number in proptest::prelude::any::<u32>()) {
        let reading = read(Code { family: Family::ALL[place], number }, &NO_CATALOGUES);
        proptest::prop_assert!(!reading.meaning.is_empty());
        proptest::prop_assert!(reading.known || reading.meaning.starts_with("Not in any catalogue") || reading.name.is_none());
    }
}

#[test]
fn a_code_in_other_families_by_rule() {
    let code = |family, number| Code { family, number };
    let forms = other_forms;
    assert_eq!(forms(code(Family::Hresult, 0x8007_0643)), [(code(Family::Win32, 1603), "wraps")]);
    assert_eq!(forms(code(Family::Win32, 1603)), [(code(Family::Hresult, 0x8007_0643), "wrapped in")]);
    assert_eq!(forms(code(Family::Hresult, 0xD000_0022)), [(code(Family::NtStatus, 0xC000_0022), "wraps")]);
    assert_eq!(forms(code(Family::Exit, 139)), [(code(Family::Signal, 11), "is 128 and")]);
    assert_eq!(forms(code(Family::Wait, 139)), [(code(Family::Signal, 11), "holds")]);
    assert_eq!(forms(code(Family::Http, 503)), []);
    // There and back again, for every wrapped code.
    for number in 1..=0xFFFF {
        let (wrapped, _) = forms(code(Family::Win32, number))[0];
        assert_eq!(forms(wrapped)[0].0.number, number);
    }
}
