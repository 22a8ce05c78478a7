//! What is a code and what is not, on lines as programs write them.
use crate::code::NO_CATALOGUES;
use std::collections::BTreeSet;

use proptest::prelude::*;

use super::*;

fn found(text: &str, platform: Platform) -> Vec<String> {
    let mut list = Vec::new();
    scan(text.as_bytes(), platform, &NO_CATALOGUES, |found| {
        list.push(format!("{}={}:{}", &text[found.start..found.end], found.code.family.name(), found.code.number));
    });
    list
}

#[test]
fn codes_on_any_system() {
    for (text, expected) in [
        ("access refused 0x80070005 while opening", "0x80070005=hresult:2147942405"),
        ("Error 0x80070005: access", "0x80070005=hresult:2147942405"),
        ("hr=-2147024891", "-2147024891=hresult:2147942405"),
        ("exception 0xC0000005 at 00007ff6a1b2c3d4", "0xC0000005=ntstatus:3221225477"),
        ("MainEngineThread is returning 1603", "1603=win32:1603"),
        ("installer exit code 1603", "1603=win32:1603"),
        ("write: ENOSPC", "ENOSPC=errno:28"),
        ("open failed: errno 13", "13=errno:13"),
        ("No such file or directory (os error 2)", "2=errno:2"),
        ("killed by signal 11", "11=signal:11"),
        ("process exited with status 137", "137=http:137"),
        ("Main process exited, code=exited, status=203/EXEC", "203=exit:203"),
        ("Main process exited, code=dumped, status=11/SEGV", "11=signal:11"),
        ("GET /feed HTTP/1.1\" 503", "503=http:503"),
        ("status=503 duration=12ms", "503=http:503"),
        ("failed with error 80070643", "80070643=hresult:2147944003"),
        ("bugcheck 0xD1 in serbridge", "0xD1=stop:209"),
    ] {
        let expected: Vec<&str> = expected.split_terminator(',').collect();
        if text.contains("status 137") {
            // An exit word in front wins over the shape of an HTTP status.
            assert_eq!(found(text, Platform::Linux), ["137=exit:137"]);
            continue;
        }
        assert_eq!(found(text, Platform::Unknown), expected, "{text}");
    }
}

#[test]
fn the_system_decides_small_numbers() {
    assert_eq!(found("failed with error 5", Platform::Windows), ["5=win32:5"]);
    assert_eq!(found("failed with error 5", Platform::Linux), ["5=errno:5"]);
    assert_eq!(found("rc=3010", Platform::Linux), ["3010=win32:3010"]);
    assert_eq!(found("exit code 3010", Platform::Windows), ["3010=win32:3010"]);
}

#[test]
fn not_codes() {
    for text in [
        "listening on port 8080",
        "read 1603 bytes from 10.0.0.5",
        "2026-04-12 02:31:07 started",
        "version 1.603.2",
        "pid 1603",
        "returned 5 rows",
        "took 13 ms",
        "at 0x7ffd8a3c1234",
        "at 0x00401000",
        "id 80070005-1234-5678-9abc-def012345678",
        "retry 4 of 5",
        "error rate 0.5",
        "errors: none",
        "temperature is 21",
        "-12 degrees",
        "/usr/lib/error/5/x",
        "EXIT AND ERROR",
    ] {
        assert_eq!(found(text, Platform::Unknown), [] as [&str; 0], "{text}");
    }
}

/// A rule that takes a code back must not take its neighbours: what differs in a word is a code still.
#[test]
fn what_is_harmless_and_what_only_looks_so() {
    for (harmless, code) in [
        ("The restart was planned. Reason Code: 0x80020003", "write failed, reason code: 0x80070005"),
        ("rt_sigaction(SIGSEGV, NULL, NULL, 8) = 0", "worker died (SIGSEGV)"),
        ("ok=2 changed=2 unreachable=0 failed=1 skipped=0", "open failed: errno 1"),
        ("GET /a?code=0x80070005", "open of /a failed: code=0x80070005"),
        ("bugcheck 0x0 recorded", "bugcheck 0xD1 recorded"),
        ("signal 3 (SIGQUIT) received from 1, shutting down", "child killed by signal 3"),
        ("node:internal/errors:1 TypeError", "TypeError: node: 5 is no list"),
        ("Code: 48 89 e5 5d c3", "exit code: 48"),
    ] {
        assert_eq!(found(harmless, Platform::Linux), [] as [&str; 0], "{harmless}");
        assert!(!found(code, Platform::Linux).is_empty(), "{code}");
    }
}

#[test]
fn odd_ends() {
    for text in ["0x", "error 0x", "error ", "-", "error -", "0x80070005", "error 99999999999999999999", "status=1/"] {
        found(text, Platform::Windows);
    }
}

#[test]
fn a_program_has_a_list_of_its_own_where_only_general_words_stand_before() {
    let meant = |component: &str, text: &str| {
        let mut found = None;
        scan(text.as_bytes(), Platform::Linux, &NO_CATALOGUES, |hit| found = Some(hit.of_program(component)));
        found.map(|code| format!("{}:{}", code.family.name(), code.number)).unwrap_or_default()
    };
    for (component, text, expected) in [
        ("slapd", "bind failed with error 49", "ldap:49"),
        ("feeder", "bind failed with error 49", "errno:49"),
        // What the words say themselves stays.
        ("slapd", "bind() failed, errno 13", "errno:13"),
        ("slapd", "child ended, exit code 3", "exit:3"),
        ("sipproxy", "call ended, status 486", "sip:486"),
        ("web", "request ended, status 404", "http:404"),
        ("smtpd", "relay ended, status 550", "smtp:550"),
        // The list does not have it.
        ("slapd", "write failed with error 110", "errno:110"),
    ] {
        assert_eq!(meant(component, text), expected, "{component}: {text}");
    }
}

/// Recognition measured on lines that real programs wrote, labelled by hand.
///
/// Precision is the share of what was found that is right, recall the share of what is there that was found; a code counts once
/// a line.
#[test]
fn precision_and_recall_on_the_labelled_lines() {
    measure(include_str!("../../../tests/data/codes/labelled.tsv"), (600, 250));
}

/// The same on lines of other programs, labelled later.
#[test]
fn precision_and_recall_on_lines_of_other_programs() {
    measure(include_str!("../../../tests/data/codes/labelled-programs.tsv"), (600, 80));
}

fn measure(labelled: &str, least: (usize, usize)) {
    let (mut lines, mut right, mut wrong, mut missed) = (0, 0, 0, 0);
    let mut report = String::new();
    for line in labelled.lines().filter(|line| !line.starts_with("# ")) {
        let [system, labels, text] = line.splitn(3, '\t').collect::<Vec<_>>()[..] else {
            panic!("three columns: {line}")
        };
        let platform = Platform::parse(system).unwrap();
        let expected: BTreeSet<String> = labels.split(' ').filter(|label| *label != "-").map(str::to_owned).collect();
        let mut seen = BTreeSet::new();
        scan(text.as_bytes(), platform, &NO_CATALOGUES, |found| {
            let hex = found.code.family == Family::Stop;
            let written = if hex { format!("0x{:X}", found.code.number) } else { found.code.written(&NO_CATALOGUES) };
            seen.insert(format!("{}:{written}", found.code.family.name()));
        });
        lines += 1;
        right += seen.intersection(&expected).count();
        wrong += seen.difference(&expected).count();
        missed += expected.difference(&seen).count();
        if seen != expected {
            report.push_str(&format!("\n{seen:?} for {expected:?}: {text}"));
        }
    }
    let precision = f64::from(right as u32) / f64::from((right + wrong) as u32);
    let recall = f64::from(right as u32) / f64::from((right + missed) as u32);
    println!(
        "{lines} lines, {right} right, {wrong} wrong, {missed} missed: precision {precision:.3}, recall {recall:.3}{report}"
    );
    assert!(lines >= least.0 && right >= least.1, "{lines} lines, {right} codes");
    assert!(precision >= 0.98 && recall >= 0.98, "precision {precision:.3}, recall {recall:.3}{report}");
}

proptest! {
    #[test]
    fn any_bytes(bytes in proptest::collection::vec(any::<u8>(), 0..200)) {
        scan(&bytes, Platform::Windows, &NO_CATALOGUES, |found| assert!(found.start < found.end && found.end <= bytes.len()));
    }

    /// The fast way over blocks sees the same words as the plain way, wherever the blocks' seams fall.
    #[test]
    fn blocks_do_not_matter(lead in 0_usize..130, text in "(ENOSPC|error 13|0x80070005|[a-z]{1,9}|_|é| |=|1){1,30}") {
        let list = |text: &str, skip: usize| {
            let mut list = Vec::new();
            scan(text.as_bytes(), Platform::Linux, &NO_CATALOGUES, |found| list.push((found.start - skip, found.end - skip, found.code)));
            list
        };
        let moved = format!("{}{text}", " ".repeat(lead));
        prop_assert_eq!(list(&moved, lead), list(&text, 0));
    }

    /// Whatever is a code passes the sieve: here every word of a text is asked whether it is one.
    #[test]
    fn sieve_holds_every_code(
        text in "(error|rc|is|status=|exit code|os error|0x|-|=| |: |:|\\(|\\)|,|\"|%%|[0-9]{1,9}|[0-9A-F]{3,9}|c0000005|ENOSPC|NT_STATUS_OK\
            |Failed with result 'oom-kill'|ORA-00942|SQL0911N|5\\.1\\.1| 550 5\\.1\\.1 |ERROR:  42P01: | 42P01 STATEMENT:  |0/-1/-1/-1/0 503 |Note: 1: 1402 \
            |,ERROR,23505,|event 70|port 22:11: disconnected|curl: \\(7\\)|timed out \\(110\\)){0,9}"
    ) {
        let bytes = text.as_bytes();
        let (mut start, mut expected) = (0, Vec::new());
        for part in bytes.chunk_by(|one, next| is_word(*one) == is_word(*next)) {
            let end = start + part.len();
            let behind_point = part[0].is_ascii_digit() && start > 0 && matches!(bytes[start - 1], b'.' | b'/');
            let asked = part[0].is_ascii_digit() || part[0].is_ascii_uppercase() || part.starts_with(b"c0");
            if asked && !behind_point {
                expected.extend(word(bytes, start, end, Platform::Linux, &NO_CATALOGUES));
            }
            start = end;
        }
        let mut seen = Vec::new();
        scan(bytes, Platform::Linux, &NO_CATALOGUES, |found| seen.push(found));
        prop_assert_eq!(seen, expected);
    }

    #[test]
    fn any_near_miss(text in "(error|status|exit code|0x|-|=| |[0-9A-F]{1,9}|E[A-Z]{3}|/|signal){0,12}") {
        scan(text.as_bytes(), Platform::Linux, &NO_CATALOGUES, |found| assert!(text.is_char_boundary(found.start)));
    }

    #[test]
    fn every_writing_is_the_same_code(low in 0_u32..0xFFFF) {
        let number = 0x8007_0000 | low;
        let hex = found(&format!("error 0x{number:08X}"), Platform::Unknown);
        let signed = found(&format!("error {}", number.cast_signed()), Platform::Unknown);
        let unsigned = found(&format!("error {number}"), Platform::Unknown);
        let code = |list: &[String]| list.first().and_then(|text| text.split_once('=')).map(|(_, code)| code.to_owned());
        prop_assert_eq!(code(&hex), Some(format!("hresult:{number}")));
        prop_assert_eq!(code(&signed), code(&hex));
        prop_assert_eq!(code(&unsigned), code(&hex));
    }
}
