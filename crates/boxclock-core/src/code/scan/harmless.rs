//! Numbers and names that have the shape of a code and are none: arguments, parameters, parts of something else, and what stands in
//! healthy logs. Each rule says what its lines look like; they are asked only of what would otherwise be a code.

use super::words::near_before;
use super::{Code, Family};

/// Whether what was found at `start..end` is no code after all.
pub(super) fn is_harmless(text: &[u8], (start, end): (usize, usize), code: Code) -> bool {
    let (before, rest) = (&text[..start], &text[end.min(text.len())..]);
    let has = |words: &[&[u8]]| words.iter().any(|word| memchr::memmem::find(text, word).is_some());
    match code.family {
        family if family.is_errno() && is_of_resolver(before, rest) => true,
        Family::Signal => is_argument(before) || is_graceful(text, end, code.number) || is_setting(before),
        Family::Stop => code.number == 0,
        // `no valve (ZeroDivisionError)` is Ruby's way, and PHP has names of Java's.
        Family::Python => {
            (before.ends_with(b"(") && rest.starts_with(b")"))
                || has(&[b"node:internal", b".js:", b"Cannot read propert", b" is not a function"])
        }
        Family::Java => has(&[b".php", b"PHP ", b"{main}"]) || before.ends_with(b"new "),
        Family::Exit => {
            is_place(before)
                || before.ends_with(b",code=")
                || is_tally(text, before)
                || is_byte_dump(before, rest)
                || is_usual_exit(before, code.number)
        }
        Family::Hresult | Family::NtStatus if is_reason_of_shutdown(before) => true,
        _ => {
            is_tally(text, before)
                || is_byte_dump(before, rest)
                || is_counter(text, before)
                || is_part_of_status(before, rest)
                || is_in_query(before)
        }
    }
}

/// `DNS error: -2, Name or service not known`: a resolver's own number.
fn is_of_resolver(before: &[u8], rest: &[u8]) -> bool {
    let named = near_before(before, before.len(), 24, b"dns") || near_before(before, before.len(), 40, b"getaddrinfo");
    named || rest.starts_with(b", Name or service not known") || rest.starts_with(b": Name or service not known")
}

/// `in Command line code:1`, `verify return:1`: a line of a program, the answer of a check.
fn is_place(before: &[u8]) -> bool {
    [&b"line code:"[..], b"line code(", b"verify return:"].iter().any(|lead| before.ends_with(lead))
}

/// `rt_sigaction(SIGINT, …`, `kill(99, SIGTERM)`, `[INT TERM]`: the innermost open parenthesis belongs to a call.
fn is_argument(before: &[u8]) -> bool {
    let mut depth = 0_usize;
    for (at, byte) in before.iter().enumerate().rev().take(300) {
        match byte {
            b')' => depth += 1,
            b'(' if depth > 0 => depth -= 1,
            b'(' => {
                let name = before[..at]
                    .iter()
                    .rev()
                    .take_while(|byte| byte.is_ascii_lowercase() || **byte == b'_' || byte.is_ascii_digit());
                return name.count() >= 3 && !before[at..].ends_with(b"== ");
            }
            _ => {}
        }
    }
    false
}

/// `signal 3 (SIGQUIT) received from 1, shutting down`, `caught SIGTERM, stopping`: somebody asked for it.
fn is_graceful(text: &[u8], end: usize, number: u32) -> bool {
    // Quit is the one request among signals that else tell of a failure.
    let is_request = number == 3;
    let rest = &text[end.min(text.len())..];
    let rest = &rest[..rest.len().min(80)];
    let around = |word: &[u8]| {
        rest.windows(word.len()).any(|window| window.eq_ignore_ascii_case(word)) || near_before(text, end, 60, word)
    };
    let asked = [&b"received"[..], b"caught", b"got signal", b"got sig"].iter().any(|word| around(word));
    let obeyed = [
        &b"shut"[..],
        b"grace",
        b"stopping",
        b"exiting",
        b"reload",
        b"reopen",
        b"reconfig",
        b"terminating",
        b"restart",
    ]
    .iter()
    .any(|word| around(word));
    is_request && asked && obeyed
}

/// `KillSignal=SIGTERM`, `handlers: SIGINT`: what is set, not what came.
fn is_setting(before: &[u8]) -> bool {
    [&b"Signal="[..], b"andler for ", b"andlers: ", b"sa_flags=", b"ignore ", b"ignoring ", b"trap ", b"si_signo="]
        .iter()
        .any(|word| before.ends_with(word))
}

/// `Code: 48 89 e5 …`: the bytes of a program around the place where it failed.
fn is_byte_dump(before: &[u8], rest: &[u8]) -> bool {
    let pair = |text: &[u8]| {
        let text = text.strip_prefix(b"<").or(text.strip_prefix(b"(")).unwrap_or(text);
        text.get(..2).is_some_and(|pair| pair.iter().all(u8::is_ascii_hexdigit))
            && !text.get(2).is_some_and(u8::is_ascii_alphanumeric)
    };
    before.ends_with(b"Code: ") && rest.strip_prefix(b" ").is_some_and(pair)
}

/// `background worker "logical replication launcher" (PID 99) exited with exit code 1`: how such workers end when asked to.
fn is_usual_exit(before: &[u8], number: u32) -> bool {
    number <= 1 && near_before(before, before.len(), 160, b"background worker \"logical replication launcher\"")
}

/// `Reason Code: 0x80020003`: why somebody shut a system down.
fn is_reason_of_shutdown(before: &[u8]) -> bool {
    const LEADS: [&[u8]; 3] = [b"eason code: ", b"eason code = ", b"eason code "];
    let ends =
        |lead: &&[u8]| before.len() >= lead.len() && before[before.len() - lead.len()..].eq_ignore_ascii_case(lead);
    // `failed, reason code: 0x80070005` is a failure.
    let of_shutdown =
        || [&b"shut"[..], b"restart", b"power off"].iter().any(|word| near_before(before, before.len(), 400, word));
    LEADS.iter().any(ends) && of_shutdown()
}

/// `ok=2 changed=1 unreachable=0 failed=1`: a summary that counts what failed.
fn is_tally(text: &[u8], before: &[u8]) -> bool {
    let counted = before.ends_with(b"failed=") || before.ends_with(b"failed: ") || before.ends_with(b"errors=");
    let near = &text[before.len().saturating_sub(160)..text.len().min(before.len() + 80)];
    counted
        && [&b"ok="[..], b"skipped=", b"passed", b"unreachable=", b"skipped:"]
            .iter()
            .any(|word| memchr::memmem::find(near, word).is_some())
}

/// `"WARN": 4, "ERROR": 5`: how many there were of each level.
fn is_counter(text: &[u8], before: &[u8]) -> bool {
    let lead = before.trim_ascii_end();
    let lead = lead.strip_suffix(b":").or(lead.strip_suffix(b"=")).unwrap_or(lead);
    let lead = lead.strip_suffix(b"\"").unwrap_or(lead);
    if !(lead.ends_with(b"ERROR") || lead.ends_with(b"errors") || lead.ends_with(b"ERR")) {
        return false;
    }
    let near = &text[before.len().saturating_sub(160)..text.len().min(before.len() + 160)];
    [&b"\"WARN"[..], b"\"INFO\"", b"WARN=", b"INFO=", b"\"FATAL\"", b"WARN:", b"INFO:"]
        .iter()
        .any(|word| memchr::memmem::find(near, word).is_some())
}

/// `Status: 0xC0000022 Facility=0 Code=34 (0x22)`: a part of what is named already.
fn is_part_of_status(before: &[u8], rest: &[u8]) -> bool {
    let part = before.ends_with(b"Code=") || before.ends_with(b"code=");
    part && (rest.starts_with(b" (0x") || near_before(before, before.len(), 40, b"facility"))
}

/// `/a?code=0x80070005`: what a client asked for.
fn is_in_query(before: &[u8]) -> bool {
    let token = before.iter().rev().take(400).take_while(|byte| !matches!(byte, b' ' | b'"' | b'\t' | b'<' | b'>'));
    let token: Vec<u8> = token.copied().collect();
    let Some(mark) = token.iter().position(|byte| *byte == b'?') else { return false };
    token.get(mark..).is_some_and(|path| path.contains(&b'/'))
        && token.get(..mark).is_some_and(|query| query.contains(&b'='))
}
