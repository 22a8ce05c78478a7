//! Suggestions for wrong clocks, each with its evidence: the two clocks that the seal notes for a host, and the same message
//! or the same identifier seen on two hosts. Nothing is corrected here: a person accepts a suggestion, or not.

use std::collections::HashMap;
use std::hash::{BuildHasher, Hasher};

use serde::Serialize;

use crate::Result;
use crate::case::{Case, Loaded};
use crate::clock::human::{drift_text, duration_text};
use crate::clock::{Drift, SECOND, to_rfc3339};
use crate::event::{EventRef, RecordReader, Row};
use crate::gather::time_of;
use crate::work::Work;

/// How sure a suggestion is.
#[derive(Clone, Copy, Debug, PartialEq, Eq, PartialOrd, Ord, Serialize)]
#[serde(rename_all = "lowercase")]
pub enum Confidence {
    /// Worth a look.
    Low,
    /// Several places agree.
    Medium,
    /// Many places agree, or it was measured.
    High,
}

impl Confidence {
    /// For people.
    pub fn name(self) -> &'static str {
        match self {
            Self::Low => "low",
            Self::Medium => "medium",
            Self::High => "high",
        }
    }
}

/// What a suggestion rests on.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Serialize)]
#[serde(rename_all = "kebab-case")]
pub enum Ground {
    /// The host's clock and ours at the same moment, noted in the seal.
    SealedClocks,
    /// The same text, once on each host.
    SameMessage,
    /// The same identifier, first seen on each host.
    SameIdentifier,
}

impl Ground {
    /// For people.
    pub fn words(self) -> &'static str {
        match self {
            Self::SealedClocks => "both clocks, noted when it was gathered",
            Self::SameMessage => "the same messages on both hosts",
            Self::SameIdentifier => "the same identifiers on both hosts",
        }
    }
}

/// Two places that ought to be at about the same time.
#[derive(Clone, Debug, PartialEq, Eq, Serialize)]
pub struct Pair {
    /// The text or identifier that they share.
    pub shared: String,
    /// On the host whose clock is in question: source, line, time as written (RFC 3339 UTC).
    pub here: (String, u64, String),
    /// On the other host.
    pub there: (String, u64, String),
    /// Their rows.
    #[serde(skip)]
    pub rows: (Row, Row),
}

/// A clock that seems to be wrong.
#[derive(Clone, Debug, PartialEq, Eq, Serialize)]
pub struct Suggestion {
    /// The host whose clock it is.
    pub host: String,
    /// The host that it was compared with; empty for this program's own clock.
    pub against: String,
    /// What to add to its times as written, in nanoseconds.
    pub add_ns: i64,
    /// The same for people: `-6m41s`.
    pub drift: String,
    /// What it rests on.
    pub ground: Ground,
    /// How sure it is.
    pub confidence: Confidence,
    /// Why.
    pub reason: String,
    /// Some of the evidence.
    pub evidence: Vec<Pair>,
}

/// Events of a host that are looked at, the last ones: enough for evidence, few enough to be quick.
const EVENTS: usize = 300_000;
/// Places that show the same in the narrowest span that still counts as one offset.
const WIDTH: i64 = 3 * SECOND;
/// Fewest pairs that are worth a word.
const FEWEST: usize = 3;
/// Pairs that are kept as evidence.
const KEPT: usize = 5;
/// Bytes of a text that are looked at for identifiers.
const TEXT_BYTES: usize = 2000;

/// Looks for clocks that seem to be wrong, by what is written: corrections in force are not counted.
///
/// # Errors
/// When the work is cancelled.
pub fn suggestions(case: &Case, loaded: &Loaded, work: &Work) -> Result<Vec<Suggestion>> {
    let mut found: Vec<Suggestion> = sealed_clocks(case);
    let seen = look(case, loaded, work)?;
    // The host with the most sources is the one that the others are compared with.
    let mut hosts: Vec<(usize, u16)> =
        (0..seen.hosts.len()).map(|host| (seen.sources[host], u16::try_from(host).unwrap_or(u16::MAX))).collect();
    hosts.sort_by(|a, b| b.0.cmp(&a.0).then(a.1.cmp(&b.1)));
    let mut judged = vec![false; seen.hosts.len()];
    for (place, (_, against)) in hosts.iter().enumerate() {
        for (_, host) in &hosts[place + 1..] {
            work.check()?;
            if judged[usize::from(*host)] {
                continue;
            }
            let messages = offset(&seen, &seen.messages, *host, *against).map(|of| (Ground::SameMessage, of));
            let identifiers =
                || offset(&seen, &seen.identifiers, *host, *against).map(|of| (Ground::SameIdentifier, of));
            if let Some((ground, offset)) = messages.or_else(identifiers) {
                judged[usize::from(*host)] = true;
                found.extend(suggest(case, loaded, &seen, (*host, *against), ground, offset));
            }
        }
    }
    found.sort_by(|a, b| a.host.cmp(&b.host).then(b.confidence.cmp(&a.confidence)));
    Ok(found)
}

fn sealed_clocks(case: &Case) -> Vec<Suggestion> {
    let hosts = case.seal.iter().flat_map(|seal| &seal.hosts);
    let wrong = hosts.filter_map(|host| {
        let (there, here) = (time_of(host.clock_there.as_deref()?)?, time_of(&host.clock_here)?);
        let within_ms = host.clock_within_ms.unwrap_or(1000);
        let add_ns = here.saturating_sub(there);
        let within_ns = i64::try_from(within_ms).unwrap_or(i64::MAX).saturating_mul(1_000_000);
        let clear = add_ns.abs() > within_ns.saturating_mul(2).max(SECOND / 2);
        let drift = drift_text(Drift::from(add_ns));
        clear.then(|| Suggestion {
            host: host.label.clone(),
            against: String::new(),
            add_ns,
            reason: format!("when it was gathered its clock said {}, this machine's {} (within {within_ms} ms); how far it was off at the failure nobody noted", to_rfc3339(there), to_rfc3339(here)),
            drift,
            ground: Ground::SealedClocks,
            confidence: Confidence::Medium,
            evidence: Vec::new(),
        })
    });
    wrong.collect()
}

/// Where a text or identifier was seen first on a host, and how often.
type Places = HashMap<u64, Vec<(u16, Row, u32)>, BuildPlain>;

struct Seen {
    hosts: Vec<String>,
    sources: Vec<usize>,
    messages: Places,
    identifiers: Places,
    times: HashMap<u32, i64, BuildPlain>,
}

fn look(case: &Case, loaded: &Loaded, work: &Work) -> Result<Seen> {
    let table = &loaded.table;
    let mut seen = Seen {
        hosts: Vec::new(),
        sources: Vec::new(),
        messages: Places::default(),
        identifiers: Places::default(),
        times: HashMap::default(),
    };
    let mut number_of: HashMap<String, u16> = HashMap::new();
    for source in case.sources.iter() {
        let host = source.host.clone().unwrap_or_default();
        if host.is_empty() || number_of.len() >= 64 {
            continue;
        }
        let number = *number_of.entry(host.clone()).or_insert_with(|| {
            seen.hosts.push(host);
            seen.sources.push(0);
            (seen.hosts.len() - 1) as u16
        });
        seen.sources[usize::from(number)] += 1;
    }
    if seen.hosts.len() < 2 {
        return Ok(seen);
    }
    let mut counts = vec![0; seen.hosts.len()];
    let mut reader = RecordReader::new(std::sync::Arc::clone(&case.sources));
    let hasher = std::hash::RandomState::new();
    let mut rows = Vec::new();
    for row in table.order.iter().rev() {
        let event = table.event(Row(*row));
        let host = case.sources[event.source()].host.as_deref().unwrap_or_default();
        let Some(number) = number_of.get(host).copied() else { continue };
        if event.raw_time().is_none() || counts[usize::from(number)] >= EVENTS {
            continue;
        }
        counts[usize::from(number)] += 1;
        rows.push((number, Row(*row)));
    }
    for (at, (number, row)) in rows.into_iter().rev().enumerate() {
        if at % 4096 == 0 {
            work.check()?;
        }
        let event = table.event(row);
        let body = reader.record(event).body;
        let text = head(&body);
        let mut keep = |places: &mut Places, text: &str| {
            let places = places.entry(hasher.hash_one(text)).or_default();
            if let Some((.., count)) = places.iter_mut().find(|(host, ..)| *host == number) {
                *count += 1;
            } else {
                seen.times.insert(row.0, own_time(event));
                places.push((number, row, 1));
            }
        };
        if text.len() >= 16 && text.bytes().any(|byte| byte.is_ascii_digit()) {
            keep(&mut seen.messages, text);
        }
        for word in identifiers(text) {
            keep(&mut seen.identifiers, word);
        }
    }
    Ok(seen)
}

fn own_time(event: EventRef<'_>) -> i64 {
    event.raw_time().unwrap_or_default()
}

fn head(text: &str) -> &str {
    let line = text.lines().next().unwrap_or_default().trim();
    let mut end = line.len().min(TEXT_BYTES);
    while !line.is_char_boundary(end) {
        end -= 1;
    }
    &line[..end]
}

/// Words that look like identifiers: eight characters or more, with letters and at least three digits.
fn identifiers(text: &str) -> impl Iterator<Item = &str> {
    let words = text.split(|c: char| !(c.is_ascii_alphanumeric() || c == '-' || c == '_'));
    words.map(|word| word.trim_matches(['-', '_'])).filter(|word| {
        let digits = word.bytes().filter(u8::is_ascii_digit).count();
        (8..=80).contains(&word.len()) && digits >= 3 && word.bytes().any(|byte| byte.is_ascii_alphabetic())
    })
}

/// What the pairs of two hosts agree on.
struct Offset {
    /// The clock of the host minus that of the other.
    ahead_ns: i64,
    /// Between the smallest and the largest of those that agree.
    spread_ns: i64,
    /// Pairs that agree.
    agree: Vec<(Row, Row)>,
    /// All pairs.
    of: usize,
}

/// The offset on which most pairs agree.
fn offset(seen: &Seen, places: &Places, host: u16, against: u16) -> Option<Offset> {
    let mut pairs: Vec<(i64, Row, Row)> = Vec::new();
    for seen_at in places.values() {
        let on = |wanted: u16| seen_at.iter().find(|(host, ..)| *host == wanted);
        let (Some(here), Some(there)) = (on(host), on(against)) else { continue };
        // What stands often somewhere is no mark of one moment.
        if here.2 > 8 || there.2 > 8 || here.2.abs_diff(there.2) > 6 {
            continue;
        }
        let time = |row: Row| seen.times.get(&row.0).copied().unwrap_or_default();
        pairs.push((time(here.1).saturating_sub(time(there.1)), here.1, there.1));
    }
    pairs.sort_unstable();
    let (mut best, mut from) = (0..0, 0);
    for to in 0..pairs.len() {
        while pairs[to].0.saturating_sub(pairs[from].0) > WIDTH {
            from += 1;
        }
        if to + 1 - from > best.len() {
            best = from..to + 1;
        }
    }
    let agreeing = &pairs[best];
    if agreeing.len() < FEWEST || agreeing.len() * 2 < pairs.len() {
        return None;
    }
    // Times of whole seconds are cut off, never rounded up: the largest difference is the nearest to the truth, or the smallest.
    let whole = |row: Row| seen.times.get(&row.0).is_some_and(|time| time % SECOND == 0);
    let middle = match agreeing {
        pairs if pairs.iter().all(|(_, here, there)| whole(*here) == whole(*there)) => pairs[pairs.len() / 2].0,
        pairs if pairs.iter().all(|(_, here, _)| whole(*here)) => pairs[pairs.len() - 1].0,
        pairs if pairs.iter().all(|(_, _, there)| whole(*there)) => pairs[0].0,
        pairs => pairs[pairs.len() / 2].0,
    };
    let spread_ns = agreeing[agreeing.len() - 1].0.saturating_sub(agreeing[0].0);
    let agree = agreeing.iter().map(|(_, here, there)| (*here, *there)).collect();
    Some(Offset { ahead_ns: middle, spread_ns, agree, of: pairs.len() })
}

/// Makes a suggestion of an offset that is large enough to be one.
fn suggest(
    case: &Case,
    loaded: &Loaded,
    seen: &Seen,
    (host, against): (u16, u16),
    ground: Ground,
    offset: Offset,
) -> Option<Suggestion> {
    let Offset { ahead_ns, spread_ns, mut agree, of } = offset;
    if ahead_ns.abs() < spread_ns.saturating_mul(2).max(SECOND) {
        return None;
    }
    let count = agree.len();
    let confidence = match ground {
        _ if count >= 10 && count * 10 >= of * 9 => Confidence::High,
        _ if count >= 5 && count * 10 >= of * 7 => Confidence::Medium,
        _ => Confidence::Low,
    };
    let mut reader = RecordReader::new(std::sync::Arc::clone(&case.sources));
    agree.sort_by_key(|(here, _)| seen.times.get(&here.0).copied());
    let mut evidence = Vec::new();
    for (here, there) in agree.into_iter().take(KEPT) {
        let mut place = |row: Row| {
            let event = loaded.table.event(row);
            let record = reader.record(event);
            let line = record.place.unwrap_or_else(|| event.place()).line;
            let text = head(&record.body).to_owned();
            ((case.sources[event.source()].name.clone(), line, to_rfc3339(own_time(event))), text)
        };
        let ((here_at, here_text), (there_at, there_text)) = (place(here), place(there));
        let shared = if ground == Ground::SameMessage {
            here_text
        } else {
            let word = identifiers(&here_text).find(|word| identifiers(&there_text).any(|other| other == *word));
            word.unwrap_or_default().to_owned()
        };
        evidence.push(Pair { shared, here: here_at, there: there_at, rows: (here, there) });
    }
    // No more exact than the pairs agree.
    let ahead_ns = if spread_ns > SECOND / 5 {
        ahead_ns.saturating_add(SECOND / 2).div_euclid(SECOND).saturating_mul(SECOND)
    } else {
        ahead_ns
    };
    let add_ns = ahead_ns.saturating_neg();
    let (host, against) = (seen.hosts[usize::from(host)].clone(), seen.hosts[usize::from(against)].clone());
    let reason = format!(
        "{count} of {of} {} agree within {}: by its own clock {host} is {} {} {against}",
        if ground == Ground::SameMessage { "messages" } else { "identifiers" },
        duration_text(spread_ns),
        duration_text(ahead_ns.abs()),
        if ahead_ns > 0 { "ahead of" } else { "behind" },
    );
    let drift = drift_text(Drift::from(add_ns));
    Some(Suggestion { host, against, add_ns, drift, ground, confidence, reason, evidence })
}

/// A hasher for keys that are hashes or row numbers already.
#[derive(Clone, Copy, Default)]
struct BuildPlain;

impl BuildHasher for BuildPlain {
    type Hasher = Plain;

    fn build_hasher(&self) -> Plain {
        Plain(0)
    }
}

struct Plain(u64);

impl Hasher for Plain {
    fn finish(&self) -> u64 {
        self.0
    }

    fn write(&mut self, bytes: &[u8]) {
        self.0 = bytes.iter().fold(self.0, |hash, byte| hash.rotate_left(8) ^ u64::from(*byte));
    }

    fn write_u64(&mut self, number: u64) {
        self.0 = number;
    }

    fn write_u32(&mut self, number: u32) {
        self.0 = u64::from(number).wrapping_mul(0x9E37_79B9_7F4A_7C15);
    }
}

#[cfg(test)]
mod tests {
    use std::fs;

    use super::*;
    use crate::case::Options;

    fn found(gateway: &str, pump: &str) -> Vec<Suggestion> {
        let root = tempfile::tempdir().unwrap();
        let path = |name: &str| root.path().join(name);
        fs::write(path("gw.log"), gateway).unwrap();
        fs::write(path("pump.log"), pump).unwrap();
        fs::write(path("other.log"), "2026-04-12T02:00:00Z pump started\n").unwrap();
        let hosts = [("dose-gw", "gw.log"), ("pump-ctl", "pump.log"), ("pump-ctl", "other.log")];
        let options =
            Options { hosts: hosts.map(|(label, name)| (label.to_owned(), path(name))).to_vec(), ..Options::default() };
        let case = Case::open(&[], options, &Work::default()).unwrap();
        let loaded = case.load(&Work::default()).unwrap();
        suggestions(&case, &loaded, &Work::default()).unwrap()
    }

    fn lines(minute: u32, count: u32, text: &dyn Fn(u32) -> String) -> String {
        let line = |at: u32| format!("2026-04-12T02:{:02}:{:02}Z {}\n", minute + at / 60, at % 60, text(at));
        (0..count).map(line).collect::<Vec<_>>().concat()
    }

    #[test]
    fn the_same_identifiers_on_two_hosts() {
        let gateway = lines(6, 12, &|at| format!("bridge: fr-0412-{at:04} refused"));
        let pump = lines(0, 12, &|at| format!("dosing: no answer to fr-0412-{at:04}, again"));
        let found = found(&gateway, &pump);
        assert_eq!(found.len(), 1, "{found:?}");
        let one = &found[0];
        assert_eq!((one.host.as_str(), one.against.as_str(), one.drift.as_str()), ("dose-gw", "pump-ctl", "−6m"));
        assert_eq!((one.ground, one.confidence), (Ground::SameIdentifier, Confidence::High));
        assert_eq!(one.evidence[0].shared, "fr-0412-0000");
        assert_eq!((one.evidence[0].here.1, one.evidence[0].there.1), (1, 1));
    }

    #[test]
    fn a_relayed_message_counts_more_and_a_few_are_less_sure() {
        let text = |at: u32| format!("valve {at} of 40 opened by hand");
        let found = found(&lines(3, 4, &text), &lines(0, 4, &text));
        assert_eq!((found[0].ground, found[0].confidence), (Ground::SameMessage, Confidence::Low));
        assert_eq!(found[0].add_ns, -180 * SECOND);
    }

    #[test]
    fn clocks_that_agree_and_words_without_moment_suggest_nothing() {
        let text = |at: u32| format!("fr-0412-{at:04} passed");
        assert!(found(&lines(0, 20, &text), &lines(0, 20, &text)).is_empty());
        // The same identifier in every line marks no moment.
        let text = |_: u32| "session s-20260412 is alive".to_owned();
        assert!(found(&lines(5, 40, &text), &lines(0, 40, &text)).is_empty());
        // Offsets that do not agree.
        let scattered = lines(0, 20, &|at| format!("fr-0412-{:04} passed", at * 7 % 20));
        assert!(
            found(&scattered, &lines(0, 20, &|at| format!("fr-0412-{at:04} passed")))
                .iter()
                .all(|one| one.confidence == Confidence::Low)
        );
    }
}
