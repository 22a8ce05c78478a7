//! System calls of two runs: what each process did to which object, and the first outcome that differs.
//!
//! Processes are matched by what they run, not by their numbers. Numbers of files, addresses, sizes and temporary names differ
//! anyway.

use std::collections::HashMap;

use super::logs::{Said, Sides};
use super::{Difference, Kind};

/// A call as it is compared.
struct Call {
    /// Its place in the events.
    at: usize,
    name: String,
    /// The objects it is about, temporary names masked.
    object: String,
    /// `ok`, or the name of the error.
    outcome: String,
    /// The arguments that are plain words: flags and modes.
    flags: String,
}

/// Takes `openat(AT_FDCWD, "/etc/x", O_RDONLY) = -1 ENOENT (No such file)` apart.
fn parse(at: usize, said: &Said) -> Option<Call> {
    let text = said.text.as_str();
    let open = text.find('(')?;
    let name = text.get(..open)?.trim();
    if name.is_empty() || !name.bytes().all(|byte| byte.is_ascii_alphanumeric() || byte == b'_') {
        return None;
    }
    let (arguments, result) = text.get(open + 1..)?.rsplit_once(" = ").unwrap_or((text.get(open + 1..)?, "?"));
    let result = result.trim();
    let outcome = if let Some(rest) = result.strip_prefix("-1 ") {
        rest.split_whitespace().next().unwrap_or("error").to_owned()
    } else if result.starts_with('?') {
        "?".to_owned()
    } else {
        "ok".to_owned()
    };
    // What became of a connection that was begun without waiting.
    if let Some((_, number)) = arguments.split_once("SO_ERROR, [") {
        let number = number.split(']').next().unwrap_or_default();
        let outcome = if number == "0" { "ok".to_owned() } else { format!("error {number}") };
        return Some(Call {
            at,
            name: name.to_owned(),
            object: "the connection (SO_ERROR)".into(),
            outcome,
            flags: String::new(),
        });
    }
    let (mut objects, mut words, mut rest) = (Vec::new(), Vec::new(), arguments);
    while let Some(start) = rest.find('"') {
        words.push(&rest[..start]);
        let inner = &rest[start + 1..];
        let end = inner.find('"').unwrap_or(inner.len());
        objects.push(masked(&inner[..end]));
        rest = inner.get(end + 1..).unwrap_or_default();
    }
    words.push(rest);
    // Upper-case words are flags; modes are octal.
    let flags: Vec<&str> = words
        .iter()
        .flat_map(|text| text.split([',', ' ', ')', '|', '{', '}', '=']))
        .filter(|word| {
            word.len() >= 3
                && (word.bytes().all(|byte| byte.is_ascii_uppercase() || byte.is_ascii_digit() || byte == b'_')
                    && word.bytes().any(|byte| byte.is_ascii_uppercase())
                    || word.starts_with('0') && word.len() >= 4 && word.bytes().all(|byte| byte.is_ascii_digit()))
        })
        .collect();
    Some(Call { at, name: name.to_owned(), object: objects.join(" "), outcome, flags: flags.join("|") })
}

/// A path without what differs from run to run: digits in a row, random endings of temporary names.
fn masked(text: &str) -> String {
    let mut out = String::new();
    let mut digits = 0;
    let in_temp = text.contains("/tmp/") || text.contains("/proc/") || text.contains("/run/");
    for letter in text.chars().take(200) {
        if letter.is_ascii_digit() && (in_temp || digits > 0 || out.ends_with(['.', '-', '_'])) {
            digits += 1;
            if digits == 1 {
                out.push('#');
            }
        } else {
            digits = 0;
            out.push(letter);
        }
    }
    out
}

/// Calls whose failing or not says nothing.
fn is_noise(name: &str) -> bool {
    matches!(
        name,
        "brk"
            | "mmap"
            | "munmap"
            | "mprotect"
            | "futex"
            | "rt_sigaction"
            | "rt_sigprocmask"
            | "gettimeofday"
            | "clock_gettime"
            | "getpid"
            | "gettid"
            | "set_robust_list"
            | "rseq"
            | "arch_prctl"
            | "set_tid_address"
            | "prlimit64"
            | "getrandom"
            | "poll"
            | "select"
            | "epoll_wait"
            | "nanosleep"
            | "clock_nanosleep"
            | "restart_syscall"
            | "wait4"
            | "close"
            | "lseek"
            | "madvise"
            | "sched_yield"
            | "getppid"
            | "fstat"
            | "newfstatat_fd"
    )
}

/// The processes of a trace, each with its calls: in the order in which they begin.
fn processes(all: &[Said]) -> Vec<(String, Vec<Call>)> {
    let mut order: Vec<Option<u32>> = Vec::new();
    let mut of: HashMap<Option<u32>, Vec<Call>> = HashMap::new();
    for (at, said) in all.iter().enumerate() {
        if !of.contains_key(&said.pid) {
            order.push(said.pid);
        }
        let calls = of.entry(said.pid).or_default();
        calls.extend(parse(at, said));
    }
    order
        .into_iter()
        .map(|pid| {
            let calls = of.remove(&pid).unwrap_or_default();
            let runs = calls
                .iter()
                .rev()
                .find(|call| call.name == "execve" && call.outcome == "ok")
                .map_or(String::new(), |call| call.object.clone());
            (runs, calls)
        })
        .collect()
}

/// The differences of two traces.
pub(super) fn differences(sides: &Sides<'_>) -> Vec<Difference> {
    let (bad, good) = (processes(sides.bad), processes(sides.good));
    let mut taken = vec![false; good.len()];
    let mut found = Vec::new();
    for (runs, calls) in &bad {
        let same = |(at, (other, _)): (usize, &(String, Vec<Call>))| (!taken[at] && other == runs).then_some(at);
        let at = good.iter().enumerate().find_map(same);
        let Some(at) = at.or_else(|| (bad.len() == 1 && good.len() == 1).then_some(0)) else {
            if let Some(first) = calls.first() {
                found.push(Difference {
                    kind: Kind::OnlyBad,
                    bad: sides.bad_place(first.at),
                    good: None,
                    what: format!("a process that runs {runs}"),
                    why: "only on the bad side".into(),
                    score: 0.5,
                });
            }
            continue;
        };
        taken[at] = true;
        found.extend(of_process(sides, calls, &good[at].1));
    }
    for ((runs, calls), _) in good.iter().zip(&taken).filter(|(_, taken)| !**taken) {
        if let Some(first) = calls.first() {
            found.push(Difference {
                kind: Kind::OnlyGood,
                bad: None,
                good: sides.good_place(first.at),
                what: format!("a process that runs {runs}"),
                why: "it was not started on the bad side".into(),
                score: 0.52,
            });
        }
    }
    // The earlier counts more: later ones may follow from it.
    found
        .sort_by_key(|one| (one.kind != Kind::Outcome, one.bad.as_ref().or(one.good.as_ref()).map(|place| place.line)));
    for (order, one) in found.iter_mut().filter(|one| one.score > 0.6).enumerate() {
        one.score -= 0.03 * (order as f64).min(8.0);
    }
    found
}

fn of_process(sides: &Sides<'_>, bad: &[Call], good: &[Call]) -> Vec<Difference> {
    let mut found = Vec::new();
    // The n-th call of a name on an object on both sides.
    let key = |call: &Call| (call.name.clone(), call.object.clone());
    let mut of_good: HashMap<(String, String), Vec<usize>> = HashMap::new();
    for (at, call) in good.iter().enumerate() {
        of_good.entry(key(call)).or_default().push(at);
    }
    let mut of_bad: HashMap<(String, String), usize> = HashMap::new();
    for call in bad {
        let turn = of_bad.entry(key(call)).or_default();
        *turn += 1;
        if is_noise(&call.name) || call.object.is_empty() && call.outcome != "ok" && call.name == "ioctl" {
            continue;
        }
        let others = of_good.get(&key(call));
        let same_turn = others.and_then(|others| others.get(*turn - 1));
        // Done more often than there: what matters is an outcome that never was.
        let once_more = others
            .filter(|others| same_turn.is_none() && others.iter().all(|at| good[*at].outcome != call.outcome))
            .and_then(|others| others.last());
        let same_turn = same_turn.or(once_more);
        let place_of = |at: usize| sides.good_place(good[at].at);
        match same_turn {
            Some(at) if good[*at].outcome != call.outcome && call.outcome != "?" && good[*at].outcome != "?" => {
                let other = &good[*at];
                let worse = call.outcome != "ok";
                // Whether a call that names nothing fails is chance more often.
                let named = !call.object.is_empty();
                found.push(Difference {
                    kind: Kind::Outcome,
                    bad: sides.bad_place(call.at),
                    good: place_of(*at),
                    what: format!(
                        "{} of {}: {}, and {} on the good side{}",
                        call.name,
                        object(call),
                        call.outcome,
                        other.outcome,
                        story(call, bad, good)
                    ),
                    why: if worse {
                        "it fails where it went well".into()
                    } else {
                        "it goes well where it failed".into()
                    },
                    score: match (worse, named) {
                        (true, true) => 0.9,
                        (false, true) => 0.7,
                        (_, false) => 0.5,
                    },
                });
            }
            Some(at) if good[*at].flags != call.flags && !call.object.is_empty() => found.push(Difference {
                kind: Kind::Value,
                bad: sides.bad_place(call.at),
                good: place_of(*at),
                what: format!(
                    "{} of {} {} {}, and {} on the good side",
                    call.name,
                    object(call),
                    if call.name.contains("stat") { "finds" } else { "asks for" },
                    call.flags,
                    good[*at].flags
                ),
                why: if call.name.contains("stat") {
                    "the object is of another kind or has other rights".into()
                } else {
                    "it asks for something else".into()
                },
                score: 0.6,
            }),
            None if others.is_none() && !call.object.is_empty() && found.len() < 60 => found.push(Difference {
                kind: Kind::OnlyBad,
                bad: sides.bad_place(call.at),
                good: None,
                what: format!("{} of {}: {}", call.name, object(call), call.outcome),
                why: "an object that only the bad side touches".into(),
                score: if call.outcome == "ok" { 0.4 } else { 0.5 },
            }),
            _ => {}
        }
    }
    for call in good
        .iter()
        .filter(|call| !call.object.is_empty() && !is_noise(&call.name) && !of_bad.contains_key(&key(call)))
        .take(60)
    {
        found.push(Difference {
            kind: Kind::OnlyGood,
            bad: None,
            good: sides.good_place(call.at),
            what: format!("{} of {}: {}", call.name, object(call), call.outcome),
            why: "an object that only the good side touches".into(),
            score: if call.outcome == "ok" { 0.42 } else { 0.36 },
        });
    }
    found
}

fn object(call: &Call) -> String {
    if call.object.is_empty() { "no named object".into() } else { call.object.clone() }
}

/// What else both sides did with the object before.
fn story(call: &Call, bad: &[Call], good: &[Call]) -> String {
    let told = |calls: &[Call]| {
        let same = calls
            .iter()
            .filter(|other| other.object == call.object && !other.object.is_empty() && other.name != call.name)
            .take(3);
        same.map(|other| format!("{} {}", other.name, other.outcome)).collect::<Vec<_>>().join(", ")
    };
    let (bad, good) = (told(bad), told(good));
    if bad == good || bad.is_empty() && good.is_empty() {
        return String::new();
    }
    format!(" (besides: {bad}; and on the good side: {good})")
}
