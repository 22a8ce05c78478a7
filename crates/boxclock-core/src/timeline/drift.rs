//! Suggestions for wrong clocks, each with its evidence: the two clocks that the seal notes for a host, and the same message
//! or the same identifier seen on two hosts. All hosts are weighed together: who disagrees with the majority is suspected. Where two
//! stand against each other, one of them is named, and that it may as well be the other. Corrections in force count. Nothing is
//! corrected here: a person accepts a suggestion, or not.

use std::collections::BTreeMap;

use rustc_hash::FxHashMap;
use serde::{Deserialize, Serialize};

use crate::analysis::{Analysis, CaseView, Pieces, Seen};
use crate::case::Case;
use crate::clock::human::{drift_text, duration_text};
use crate::clock::{ClockCorrection, SECOND, to_rfc3339};
use crate::event::{EventRef, RecordReader, Row};
use crate::gather::time_of;
use crate::work::Work;

mod shared;

use shared::{MAX_TIMES, Shared, SharedPair};

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
    /// On the host whose clock is in question: source, line, and time as written, UTC nanoseconds.
    #[serde(serialize_with = "place")]
    pub here: (String, u64, i64),
    /// On the other host.
    #[serde(serialize_with = "place")]
    pub there: (String, u64, i64),
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
    /// What it rests on.
    pub ground: Ground,
    /// How sure it is.
    pub confidence: Confidence,
    /// Why.
    pub reason: String,
    /// Some of the evidence.
    pub evidence: Vec<Pair>,
}

/// A place with its time as the contract writes it.
fn place<S: serde::Serializer>((source, line, time): &(String, u64, i64), serializer: S) -> Result<S::Ok, S::Error> {
    (source, line, to_rfc3339(*time)).serialize(serializer)
}

impl Suggestion {
    /// What to add to its times, for people: `-6m41s`.
    pub fn drift_text(&self) -> String {
        drift_text(ClockCorrection::from(self.add_ns))
    }

    /// The suggestion as a line of JSON, without line end.
    pub fn json(&self) -> String {
        let mut line = serde_json::to_value(self).unwrap_or_default();
        if let Some(fields) = line.as_object_mut() {
            fields.insert("drift".into(), self.drift_text().into());
        }
        line.to_string()
    }
}

/// Pairs whose offsets lie this near to each other agree.
const OFFSET_BIN_NS: i64 = 3 * SECOND;
/// Fewest pairs that are worth a word.
const MIN_PAIRS: usize = 3;
/// Pairs that are given as evidence.
const MAX_EVIDENCE: usize = 5;
/// Bytes of a text that are looked at for identifiers.
const MAX_TEXT_BYTES: usize = 2000;
/// Texts and identifiers that are kept of a segment: those with the smallest hashes, so that the same ones are kept everywhere.
const MAX_KEPT: usize = 4096;

/// Looks for clocks that seem to be wrong, with the corrections in force.
#[derive(Clone, Copy, Debug)]
pub struct ClockAnalysis;

/// Texts or identifiers of one segment: hash, first event, and how often.
#[derive(Clone, Debug, Serialize, Deserialize)]
pub struct Sample {
    seen: Vec<(u64, u16, u32)>,
    /// All with a hash up to this are there.
    complete_up_to: u64,
    #[serde(skip)]
    building: FxHashMap<u64, (u16, u32)>,
}

impl Default for Sample {
    fn default() -> Self {
        Self { seen: Vec::new(), complete_up_to: u64::MAX, building: FxHashMap::default() }
    }
}

impl Sample {
    fn add(&mut self, text: &[u8], event: u16) {
        self.building.entry(hash(text)).or_insert((event, 0)).1 += 1;
    }

    fn end(&mut self) {
        let often = |count: u32| count > MAX_TIMES;
        let all = std::mem::take(&mut self.building).into_iter();
        self.seen =
            all.map(|(hash, (event, count))| (hash, event, count)).filter(|(.., count)| !often(*count)).collect();
        self.seen.sort_unstable();
        if self.seen.len() > MAX_KEPT {
            self.seen.truncate(MAX_KEPT);
            self.complete_up_to = self.seen.last().map_or(u64::MAX, |(hash, ..)| *hash);
        }
    }
}

/// A hash that is the same on every machine: eight bytes at a time, its bits mixed so that the smallest ones are a fair sample.
fn hash(text: &[u8]) -> u64 {
    const FACTOR: u64 = 0xff51_afd7_ed55_8ccd;
    let step = |hash: u64, word: u64| (hash.rotate_left(23) ^ word).wrapping_mul(FACTOR);
    let (words, rest) = text.as_chunks::<8>();
    let hash = words.iter().fold(text.len() as u64, |hash, word| step(hash, u64::from_le_bytes(*word)));
    let last = rest.iter().fold(0, |word, byte| word << 8 | u64::from(*byte));
    let mixed = step(hash, last);
    let mixed = (mixed ^ (mixed >> 33)).wrapping_mul(FACTOR);
    mixed ^ (mixed >> 33)
}

/// What one segment shares with others, perhaps.
#[derive(Clone, Debug, Default, Serialize, Deserialize)]
pub struct ClockPiece {
    messages: Sample,
    identifiers: Sample,
    /// Plain numbers of six digits and more, which are identifiers where they are rare on each host.
    numbers: Sample,
}

impl Analysis for ClockAnalysis {
    const NAME: &'static str = "clocks";
    const VERSION: u32 = 3;
    type Piece = ClockPiece;
    type Found = Vec<Suggestion>;

    fn see(&self, piece: &mut ClockPiece, seen: &Seen<'_>) {
        let body = seen.body();
        let text = head(&body);
        let event = seen.index as u16;
        if text.len() >= 16 && text.iter().any(u8::is_ascii_digit) {
            piece.messages.add(text, event);
        }
        for word in identifiers(text) {
            piece.identifiers.add(word, event);
        }
        for word in numbers(text) {
            piece.numbers.add(word, event);
        }
    }

    fn end(&self, piece: &mut ClockPiece) {
        piece.messages.end();
        piece.identifiers.end();
        piece.numbers.end();
    }

    fn merge(&self, view: &CaseView, pieces: &Pieces<'_, ClockPiece>, work: &Work) -> crate::Result<Vec<Suggestion>> {
        let mut found: Vec<Suggestion> = sealed_clocks(view);
        let Some(shared) = Shared::of(view, pieces, work)? else { return Ok(found) };
        let edges = shared.edges(work)?;
        let sealed: Vec<String> = found.iter().map(|one| one.host.clone()).collect();
        for suspect in suspects(&edges, &shared.sources, |host| {
            view.loaded.table.hosts.get(host as usize).is_some_and(|host| sealed.contains(host))
        }) {
            work.check()?;
            found.push(suggest(view, &suspect));
        }
        found.sort_by(|a, b| a.host.cmp(&b.host).then(b.confidence.cmp(&a.confidence)));
        Ok(found)
    }
}

/// Two hosts that share enough to compare their clocks.
struct Edge {
    host: u32,
    against: u32,
    ground: Ground,
    offset: Offset,
}

impl Edge {
    /// How far the first clock is ahead of the second, seen from `host`.
    fn ahead_of(&self, host: u32) -> i64 {
        if host == self.host { self.offset.ahead_ns } else { self.offset.ahead_ns.saturating_neg() }
    }

    fn other(&self, host: u32) -> u32 {
        if host == self.host { self.against } else { self.host }
    }

    /// Whether the offset is more than what its pairs differ by.
    fn is_clear(&self) -> bool {
        self.offset.ahead_ns.abs() >= self.offset.spread_ns.saturating_mul(2).max(SECOND)
    }
}

/// A host whose clock disagrees with others.
struct Suspect<'a> {
    host: u32,
    edge: &'a Edge,
    /// Hosts that agree with each other, and disagree with it.
    majority: usize,
    /// Whether nothing says which of two is wrong.
    is_tie: bool,
}

/// The hosts that disagree with the majority of those that they are connected with. `is_known` says whose clock is known to be wrong.
fn suspects<'a>(edges: &'a [Edge], sources: &BTreeMap<u32, usize>, is_known: impl Fn(u32) -> bool) -> Vec<Suspect<'a>> {
    let mut of_host: BTreeMap<u32, Vec<&Edge>> = BTreeMap::new();
    for edge in edges {
        of_host.entry(edge.host).or_default().push(edge);
        of_host.entry(edge.against).or_default().push(edge);
    }
    // Each host's clock ahead of the first one of those it is connected with, over the edges with the most evidence.
    let mut found = Vec::new();
    let mut met: BTreeMap<u32, i64> = BTreeMap::new();
    for start in of_host.keys().copied().collect::<Vec<_>>() {
        if met.contains_key(&start) {
            continue;
        }
        let mut connected = vec![start];
        met.insert(start, 0);
        loop {
            let open = connected.iter().flat_map(|host| of_host[host].iter().map(|edge| (*host, *edge)));
            let next = open
                .filter(|(host, edge)| !met.contains_key(&edge.other(*host)))
                .max_by_key(|(_, edge)| (edge.ground == Ground::SameMessage, edge.offset.agree.len()));
            let Some((host, edge)) = next else { break };
            let other = edge.other(host);
            let ahead = met[&host].saturating_sub(edge.ahead_of(host));
            met.insert(other, ahead);
            connected.push(other);
        }
        found.extend(of_group(&connected, &met, &of_host, sources, &is_known));
    }
    found
}

/// The suspects among connected hosts.
fn of_group<'a>(
    connected: &[u32],
    ahead: &BTreeMap<u32, i64>,
    of_host: &BTreeMap<u32, Vec<&'a Edge>>,
    sources: &BTreeMap<u32, usize>,
    is_known: &impl Fn(u32) -> bool,
) -> Vec<Suspect<'a>> {
    let mut sorted = connected.to_vec();
    sorted.sort_by_key(|host| (ahead[host], *host));
    let clocks: Vec<&[u32]> =
        sorted.chunk_by(|one, other| ahead[other].saturating_sub(ahead[one]) <= OFFSET_BIN_NS).collect();
    // A clock that is known to be wrong does not count; then hosts, then their sources.
    let weight = |clock: &[u32]| {
        let trusted = clock.iter().filter(|host| !is_known(**host)).count();
        let sources: usize = clock.iter().map(|host| sources.get(host).copied().unwrap_or(0)).sum();
        (trusted, clock.len(), sources)
    };
    let Some(right) = clocks.iter().max_by_key(|clock| (weight(clock), std::cmp::Reverse(clock[0]))) else {
        return Vec::new();
    };
    let others = clocks.iter().filter(|clock| clock[0] != right[0]);
    let (trusted, hosts, _) = weight(right);
    let is_tie = clocks.iter().filter(|clock| (weight(clock).0, weight(clock).1) == (trusted, hosts)).count() > 1;
    let suspect = |host: &u32| {
        // An edge to a clock that is right says it directly; else the one with the most evidence.
        let edges = of_host[host].iter().filter(|edge| edge.is_clear());
        let edge = edges.max_by_key(|edge| (right.contains(&edge.other(*host)), edge.offset.agree.len()))?;
        right.contains(&edge.other(*host)).then_some(Suspect { host: *host, edge, majority: hosts, is_tie })
    };
    others.flat_map(|clock| clock.iter().filter_map(suspect)).collect()
}

fn sealed_clocks(view: &CaseView) -> Vec<Suggestion> {
    let case: &Case = &view.case;
    let hosts = case.seal.iter().flat_map(|seal| &seal.hosts);
    let wrong = hosts.filter_map(|host| {
        let (there, here) = (time_of(host.clock_there.as_deref()?)?, time_of(&host.clock_here)?);
        let within_ms = host.clock_within_ms.unwrap_or(1000);
        let add_ns = here.saturating_sub(there);
        let within_ns = i64::try_from(within_ms).unwrap_or(i64::MAX).saturating_mul(1_000_000);
        // What is corrected already is met.
        let corrected = view.loaded.drift_of_host(&host.label).correct(there).saturating_sub(there);
        let left = add_ns.saturating_sub(corrected);
        let clear = left.abs() > within_ns.saturating_mul(2).max(SECOND / 2);
        clear.then(|| Suggestion {
            host: host.label.clone(),
            against: String::new(),
            add_ns,
            reason: format!("when it was gathered its clock said {}, this machine's {} (within {within_ms} ms); how far it was off at the failure nobody noted", to_rfc3339(there), to_rfc3339(here)),
            ground: Ground::SealedClocks,
            confidence: Confidence::Medium,
            evidence: Vec::new(),
        })
    });
    wrong.collect()
}

fn own_time(event: EventRef<'_>) -> i64 {
    event.raw_time().unwrap_or_default()
}

/// The first line of a message, without space around it, not longer than counts.
fn head(text: &[u8]) -> &[u8] {
    let end = memchr::memchr(b'\n', text).unwrap_or(text.len());
    let line = text.get(..end.min(MAX_TEXT_BYTES)).unwrap_or_default();
    line.trim_ascii()
}

/// Words that look like identifiers: eight characters or more, with letters and at least three digits.
fn identifiers(text: &[u8]) -> impl Iterator<Item = &[u8]> {
    // Most words are too short, which their bounds tell.
    let words = text.split(|byte| !WORD[usize::from(*byte)]).filter(|word| word.len() >= 8);
    words.filter_map(|word| {
        let is_dash = |byte: &u8| matches!(byte, b'-' | b'_');
        let start = word.iter().position(|byte| !is_dash(byte))?;
        let end = word.iter().rposition(|byte| !is_dash(byte))? + 1;
        let word = word.get(start..end)?;
        let digits = word.iter().filter(|byte| byte.is_ascii_digit()).count();
        let fits = (8..=80).contains(&word.len()) && digits >= 3 && word.iter().any(u8::is_ascii_alphabetic);
        fits.then_some(word)
    })
}

/// Plain numbers of six to twenty digits. Epoch times are none.
fn numbers(text: &[u8]) -> impl Iterator<Item = &[u8]> {
    let words = text.split(|byte| !WORD[usize::from(*byte)]).filter(|word| (6..=20).contains(&word.len()));
    words.filter(|word| {
        let is_time = word.starts_with(b"1") && matches!(word.len(), 10 | 13 | 16 | 19);
        !is_time && word.iter().all(u8::is_ascii_digit)
    })
}

/// The bytes that words consist of.
static WORD: [bool; 256] = {
    let mut table = [false; 256];
    let mut byte = 0;
    while byte < 256 {
        table[byte] = (byte as u8).is_ascii_alphanumeric() || byte as u8 == b'-' || byte as u8 == b'_';
        byte += 1;
    }
    table
};

/// What the pairs of two hosts agree on.
struct Offset {
    /// The clock of the host minus that of the other.
    ahead_ns: i64,
    /// Between the smallest and the largest of those that agree.
    spread_ns: i64,
    /// Pairs that agree.
    agree: Vec<SharedPair>,
    /// All pairs.
    of: usize,
}

/// The offset on which most pairs agree.
fn offset(pairs: &[SharedPair]) -> Option<Offset> {
    let mut pairs = pairs.to_vec();
    pairs.sort_unstable();
    let (mut best, mut from) = (0..0, 0);
    for to in 0..pairs.len() {
        while pairs[to].ahead_ns.saturating_sub(pairs[from].ahead_ns) > OFFSET_BIN_NS {
            from += 1;
        }
        if to + 1 - from > best.len() {
            best = from..to + 1;
        }
    }
    let agree = &pairs[best];
    if agree.len() < MIN_PAIRS || agree.len() * 2 < pairs.len() {
        return None;
    }
    // Times of whole seconds are cut off, never rounded up: the largest difference is the nearest to the truth, or the smallest.
    let is_whole = |(_, time): (Row, i64)| time % SECOND == 0;
    let middle = match agree {
        agree if agree.iter().all(|pair| is_whole(pair.here) == is_whole(pair.there)) => agree.len() / 2,
        agree if agree.iter().all(|pair| is_whole(pair.here)) => agree.len() - 1,
        agree if agree.iter().all(|pair| is_whole(pair.there)) => 0,
        agree => agree.len() / 2,
    };
    let spread_ns = agree[agree.len() - 1].ahead_ns.saturating_sub(agree[0].ahead_ns);
    Some(Offset { ahead_ns: agree[middle].ahead_ns, spread_ns, agree: agree.to_vec(), of: pairs.len() })
}

/// Makes a suggestion of a suspect.
fn suggest(view: &CaseView, suspect: &Suspect<'_>) -> Suggestion {
    let (case, table) = (&view.case, &view.loaded.table);
    let Suspect { host, edge, majority, is_tie } = *suspect;
    let (against, ground) = (edge.other(host), edge.ground);
    let ahead_ns = edge.ahead_of(host);
    let Offset { spread_ns, of, .. } = edge.offset;
    let mut agree = edge.offset.agree.clone();
    if host != edge.host {
        for pair in &mut agree {
            (pair.here, pair.there) = (pair.there, pair.here);
        }
    }
    let count = agree.len();
    let confidence = match ground {
        // That one of two is wrong may be certain; which of them is not.
        _ if count >= 10 && count * 10 >= of * 9 && !is_tie => Confidence::High,
        _ if count >= 5 && count * 10 >= of * 7 => Confidence::Medium,
        _ => Confidence::Low,
    };
    let mut reader = RecordReader::new(std::sync::Arc::clone(&case.sources));
    agree.sort_by_key(|pair| pair.here.1);
    let mut evidence = Vec::new();
    for SharedPair { here: (here, _), there: (there, _), .. } in agree.iter().copied().take(MAX_EVIDENCE) {
        let mut place = |row: Row| {
            let event = table.event(row);
            let record = reader.record(event);
            let line = record.place.unwrap_or_else(|| event.place()).line;
            let text = head(record.body.as_bytes()).to_vec();
            ((case.sources[event.source()].name.clone(), line, own_time(event)), text)
        };
        let ((here_at, here_text), (there_at, there_text)) = (place(here), place(there));
        let shared = if ground == Ground::SameMessage {
            &here_text[..]
        } else {
            let word = identifiers(&here_text).find(|word| identifiers(&there_text).any(|other| other == *word));
            let number = || numbers(&here_text).find(|word| numbers(&there_text).any(|other| other == *word));
            word.or_else(number).unwrap_or_default()
        };
        let shared = String::from_utf8_lossy(shared).into_owned();
        evidence.push(Pair { shared, here: here_at, there: there_at, rows: (here, there) });
    }
    // No more exact than the pairs agree.
    let ahead_ns = if spread_ns > SECOND / 5 {
        ahead_ns.saturating_add(SECOND / 2).div_euclid(SECOND).saturating_mul(SECOND)
    } else {
        ahead_ns
    };
    // What is in force stays in force: the suggestion is the whole correction.
    let in_force = agree.first().map_or(0, |pair| {
        let event = table.event(pair.here.0);
        event.time().zip(event.raw_time()).map_or(0, |(time, raw)| time.saturating_sub(raw))
    });
    let add_ns = in_force.saturating_sub(ahead_ns);
    let (host, against) = (table.hosts[host as usize].clone(), table.hosts[against as usize].clone());
    let reason = format!(
        "{count} of {of} {} agree within {}: {} {host} is {} {} {against}{}",
        if ground == Ground::SameMessage { "messages" } else { "identifiers" },
        duration_text(spread_ns),
        if in_force == 0 { "by its own clock" } else { "as corrected" },
        duration_text(ahead_ns.abs()),
        if ahead_ns > 0 { "ahead of" } else { "behind" },
        match majority {
            _ if is_tie => format!(
                "; it may as well be {against} that is wrong: a time service's log, the clocks noted in the seal, or an effect before its cause decides"
            ),
            1 => String::new(),
            hosts => format!(
                ", with which {} agree{}",
                crate::many(hosts as u64 - 1, "other host"),
                if hosts == 2 { "s" } else { "" }
            ),
        },
    );
    Suggestion { host, against, add_ns, ground, confidence, reason, evidence }
}

#[cfg(test)]
mod tests;
