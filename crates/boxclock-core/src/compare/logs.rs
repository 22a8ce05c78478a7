//! Logs of two runs: kinds of messages, their order, values, outcomes and times.

use std::collections::{BTreeMap, HashMap, HashSet};

use super::steps::Steps;
use super::{Difference, Kind, Place, calls, kinds, pairs, reader};
use crate::Result;
use crate::analysis::CaseView;
use crate::clock::SECOND;
use crate::event::Row;
use crate::format::LineFormat;
use crate::pattern::{PatternId, template};
use crate::source::Source;
use crate::work::Work;

/// Kinds of messages of a side that are held against those of the other by their words: the first of each.
const MOST_LIKENED: usize = 200;
/// Events of one source that are compared.
const MOST_EVENTS: usize = 2_000_000;

/// An event as it is compared.
pub(super) struct Said {
    pub line: u64,
    pub time: Option<i64>,
    pub severity: u8,
    pub pid: Option<u32>,
    pub component: String,
    pub text: String,
    pub pattern: PatternId,
}

impl Said {
    /// The message with who says it, cut.
    fn shown(&self) -> String {
        if self.component.is_empty() { cut(&self.text) } else { format!("{}: {}", self.component, cut(&self.text)) }
    }
}

/// The events of a source.
pub(super) fn said(view: &CaseView, source: usize, work: &Work) -> Result<Vec<Said>> {
    said_of(view, view.loaded.table.rows_of(source), work)
}

/// The same sources in two parts of a case.
pub(super) fn of_windows(view: &CaseView, bad: &[u32], good: &[u32], work: &Work) -> Result<Vec<Difference>> {
    let table = &view.loaded.table;
    let by_source = |rows: &[u32]| {
        let mut of: BTreeMap<usize, Vec<Row>> = BTreeMap::new();
        for row in rows {
            of.entry(table.event(Row(*row)).source()).or_default().push(Row(*row));
        }
        of
    };
    let (bad, good) = (by_source(bad), by_source(good));
    let mut found = Vec::new();
    for (index, source) in view.case.sources.iter().enumerate() {
        work.check()?;
        let rows = |of: &BTreeMap<usize, Vec<Row>>| of.get(&index).cloned().unwrap_or_default();
        let mut bad = said_of(view, rows(&bad).into_iter(), work)?;
        let mut good = said_of(view, rows(&good).into_iter(), work)?;
        kinds::merge(&mut bad, &mut good);
        if bad.is_empty() && good.is_empty() {
            continue;
        }
        let sides = Sides { bad: &bad, good: &good, bad_name: &source.name, good_name: &source.name };
        found.extend(if is_calls(source) { calls::differences(&sides) } else { of_source(&sides) });
    }
    Ok(found)
}

/// Whether a source holds system calls.
fn is_calls(source: &Source) -> bool {
    source.reader.lines().is_some_and(LineFormat::is_quiet)
}

fn said_of(view: &CaseView, rows: impl Iterator<Item = Row>, work: &Work) -> Result<Vec<Said>> {
    let table = &view.loaded.table;
    let mut reader = reader(view);
    let mut all = Vec::new();
    for row in rows.take(MOST_EVENTS) {
        if all.len().is_multiple_of(4096) {
            work.check()?;
        }
        let event = table.event(row);
        let record = reader.record(event);
        let (place, body) = (record.place.unwrap_or_else(|| event.place()), record.body);
        let text = body.lines().next().unwrap_or_default().to_owned();
        all.push(Said {
            line: place.line,
            time: event.time(),
            severity: event.severity().0,
            pid: event.actor().pid,
            component: event.component().to_owned(),
            pattern: PatternId::of(text.as_bytes()),
            text,
        });
    }
    Ok(all)
}

/// The differences of all sources that both sides have.
pub(super) fn differences(bad: &CaseView, good: &CaseView, work: &Work) -> Result<Vec<Difference>> {
    let names = |view: &CaseView| view.case.sources.iter().map(|source| source.name.clone()).collect::<Vec<_>>();
    let (bad_names, good_names) = (names(bad), names(good));
    let mut found = Vec::new();
    for (of_bad, of_good) in pairs(&bad_names, &good_names) {
        work.check()?;
        let (bad_source, good_source) = (&bad.case.sources[of_bad], &good.case.sources[of_good]);
        let (mut bad_said, mut good_said) = (said(bad, of_bad, work)?, said(good, of_good, work)?);
        kinds::merge(&mut bad_said, &mut good_said);
        let sides =
            Sides { bad: &bad_said, good: &good_said, bad_name: &bad_source.name, good_name: &good_source.name };
        if is_calls(bad_source) && is_calls(good_source) {
            found.extend(calls::differences(&sides));
        } else if !super::settings::can_be(&bad_source.name) || is_dated(&bad_said) {
            found.extend(of_source(&sides));
        }
    }
    Ok(found)
}

fn is_dated(all: &[Said]) -> bool {
    let mut times: Vec<i64> = all.iter().filter_map(|one| one.time).collect();
    times.dedup();
    times.len() > 3
}

/// The same source on both sides.
pub(super) struct Sides<'a> {
    pub bad: &'a [Said],
    pub good: &'a [Said],
    pub bad_name: &'a str,
    pub good_name: &'a str,
}

impl Sides<'_> {
    pub fn bad_place(&self, at: usize) -> Option<Place> {
        self.bad.get(at).map(|one| Place { source: self.bad_name.to_owned(), line: one.line })
    }

    pub fn good_place(&self, at: usize) -> Option<Place> {
        self.good.get(at).map(|one| Place { source: self.good_name.to_owned(), line: one.line })
    }
}

/// The places of each kind of message.
fn by_pattern(all: &[Said]) -> BTreeMap<PatternId, Vec<usize>> {
    let mut found: BTreeMap<PatternId, Vec<usize>> = BTreeMap::new();
    for (at, one) in all.iter().enumerate() {
        found.entry(one.pattern).or_default().push(at);
    }
    found
}

fn cut(text: &str) -> String {
    text.chars().take(160).collect()
}

/// How bad a message is, 0.1 to 1.
fn badness(one: &Said) -> f64 {
    crate::cause::badness(&one.text, one.severity).max(0.1)
}

fn of_source(sides: &Sides<'_>) -> Vec<Difference> {
    let (bad, good) = (by_pattern(sides.bad), by_pattern(sides.good));
    let mut found = Vec::new();
    let ratio = sides.bad.len().max(1) as f64 / sides.good.len().max(1) as f64;
    let mut only_bad: Vec<usize> =
        bad.iter().filter(|(id, _)| !good.contains_key(id)).map(|(_, places)| places[0]).collect();
    let mut only_good: Vec<(usize, usize)> =
        good.iter().filter(|(id, _)| !bad.contains_key(id)).map(|(_, places)| (places[0], places.len())).collect();
    only_bad.sort_unstable();
    only_good.sort_unstable();
    // The same step that ended otherwise: nearly the same words, after the same message.
    let mut matched_good: HashSet<usize> = HashSet::new();
    let mut matched_bad: HashSet<usize> = HashSet::new();
    let good_words: Vec<(usize, Vec<String>)> =
        only_good.iter().take(MOST_LIKENED).map(|(at, _)| (*at, words(&sides.good[*at].text))).collect();
    for at in only_bad.iter().take(MOST_LIKENED) {
        let own = words(&sides.bad[*at].text);
        let best = good_words
            .iter()
            .filter(|(other, _)| !matched_good.contains(other))
            .map(|(other, words)| (likeness(&own, words), *other))
            .max_by(|a, b| a.0.total_cmp(&b.0));
        if let Some((like, other)) = best.filter(|(like, _)| *like >= 0.6) {
            matched_good.insert(other);
            matched_bad.insert(*at);
            let worse = badness(&sides.bad[*at]) > badness(&sides.good[other]);
            found.push(Difference {
                kind: if worse { Kind::Outcome } else { Kind::Value },
                bad: sides.bad_place(*at),
                good: sides.good_place(other),
                what: format!(
                    "\"{}\", and on the good side \"{}\"",
                    sides.bad[*at].shown(),
                    cut(&sides.good[other].text)
                ),
                why: "the same message says something else".into(),
                score: if worse { 0.68 } else { 0.5 } + 0.1 * like,
            });
        }
    }
    // In the place of a step stands something else.
    let steps = Steps::new(&bad, &good);
    for (at, _) in only_good.iter().filter(|(_, count)| *count == 1) {
        let Some((from, to)) = steps.between(*at).filter(|_| !matched_good.contains(at)) else { continue };
        let own = words(&sides.good[*at].text);
        let instead = only_bad.iter().copied().find(|new| {
            (from..to).contains(new)
                && !matched_bad.contains(new)
                && likeness(&own, &words(&sides.bad[*new].text)) >= 0.3
        });
        let Some(instead) = instead else { continue };
        matched_good.insert(*at);
        matched_bad.insert(instead);
        found.push(Difference {
            kind: Kind::Outcome,
            bad: sides.bad_place(instead),
            good: sides.good_place(*at),
            what: format!(
                "\"{}\", and on the good side \"{}\"",
                sides.bad[instead].shown(),
                cut(&sides.good[*at].text)
            ),
            why: "between the same steps, another message".into(),
            score: 0.6 + 0.1 * badness(&sides.bad[instead]),
        });
    }
    // What is new, the first first: later ones may follow from it.
    let new: Vec<usize> = only_bad.iter().copied().filter(|at| !matched_bad.contains(at)).collect();
    for (order, at) in new.iter().enumerate() {
        let one = &sides.bad[*at];
        let count = bad.get(&one.pattern).map_or(1, Vec::len);
        let early = 0.08 / (1.0 + order as f64);
        found.push(Difference {
            kind: Kind::OnlyBad,
            bad: sides.bad_place(*at),
            good: None,
            what: format!("\"{}\" ({})", one.shown(), crate::plural::many(count as u64, "time")),
            why: "said only on the bad side".into(),
            score: 0.34 + 0.1 * badness(one) + early + if count > 2 { 0.04 } else { 0.0 },
        });
    }
    let failing: Vec<usize> = new
        .iter()
        .filter(|at| badness(&sides.bad[**at]) >= 0.5)
        .map(|at| bad.get(&sides.bad[*at].pattern).map_or(1, Vec::len))
        .collect();
    let first_new = new.first().copied().unwrap_or(usize::MAX);
    for (at, count) in only_good.iter().filter(|(at, _)| !matched_good.contains(at)) {
        let one = &sides.good[*at];
        // A message of one time may be chance; one that comes again and again is missed, and so is a step among steps.
        let steady = 0.2 * (1.0 - 1.0 / (*count as f64 + 1.0));
        let step = if *count == 1 && steps.between(*at).is_some() { 0.12 } else { 0.0 };
        let before = if *at <= first_new { 0.08 } else { 0.0 };
        // What fails does not come to the message that it ends with.
        let expected = *count as f64 * ratio;
        let instead = *count >= 3 && failing.iter().any(|failed| (*failed as f64 - expected).abs() * 4.0 <= expected);
        let before = if instead { -0.1 } else { before };
        found.push(Difference {
            kind: Kind::OnlyGood,
            bad: None,
            good: sides.good_place(*at),
            what: format!(
                "\"{}\" is missing ({} on the good side)",
                one.shown(),
                crate::plural::many(*count as u64, "time")
            ),
            why: "said only on the good side".into(),
            score: 0.38 + steady + before + step,
        });
    }
    for (id, places) in &bad {
        let Some(others) = good.get(id) else { continue };
        found.extend(counts(sides, places, others, ratio));
        found.extend(values(sides, places, others));
        found.extend(gaps(sides, places, others));
    }
    found.extend(order(sides, &bad, &good));
    earlier_counts_more(sides, &good, &mut found);
    found
}

/// What differs first cannot follow from what differs later.
fn earlier_counts_more(sides: &Sides<'_>, good: &BTreeMap<PatternId, Vec<usize>>, found: &mut [Difference]) {
    const MOST: f64 = 0.14;
    let moment = |place: &Option<Place>, all: &[Said]| {
        let line = place.as_ref()?.line;
        Some(all.partition_point(|said| said.line < line) as f64 / all.len().max(1) as f64)
    };
    let again = |one: &Difference| {
        let line = one.good.as_ref().map_or(0, |place| place.line);
        let at = sides.good.partition_point(|said| said.line < line);
        sides.good.get(at).is_some_and(|said| good.get(&said.pattern).is_some_and(|places| places.len() > 2))
    };
    let mut by_place: Vec<(f64, usize)> = found
        .iter()
        .enumerate()
        // What no longer comes at all has no moment, if it came again and again.
        .filter(|(_, one)| one.score >= 0.4 && !(one.kind == Kind::OnlyGood && again(one)))
        .filter_map(|(at, one)| Some((moment(&one.bad, sides.bad).or_else(|| moment(&one.good, sides.good))?, at)))
        .collect();
    by_place.sort_by(|one, other| one.0.total_cmp(&other.0));
    for (rank, (_, at)) in by_place.into_iter().enumerate() {
        found[at].score = (found[at].score + MOST / (1.0 + rank as f64)).min(0.97);
    }
}

/// The words of a message without its values.
fn words(text: &str) -> Vec<String> {
    template(text).split_whitespace().map(str::to_owned).collect()
}

/// How much of their words two messages share, in order.
fn likeness(a: &[String], b: &[String]) -> f64 {
    if a.len() < 2 || b.len() < 2 || a.len() > 60 || b.len() > 60 {
        return 0.0;
    }
    let mut row = vec![0_usize; b.len() + 1];
    for word in a {
        let mut diagonal = 0;
        for (at, other) in b.iter().enumerate() {
            let above = row[at + 1];
            row[at + 1] = if word == other { diagonal + 1 } else { above.max(row[at]) };
            diagonal = above;
        }
    }
    2.0 * row[b.len()] as f64 / (a.len() + b.len()) as f64
}

fn counts(sides: &Sides<'_>, places: &[usize], others: &[usize], ratio: f64) -> Option<Difference> {
    let (count, expected) = (places.len() as f64, others.len() as f64 * ratio);
    let (high, low) = (count.max(expected), count.min(expected).max(0.5));
    if high / low < 3.0 || (count - expected).abs() < 5.0 {
        return None;
    }
    let at = places[0];
    Some(Difference {
        kind: Kind::Count,
        bad: sides.bad_place(at),
        good: sides.good_place(others[0]),
        what: format!(
            "\"{}\": {} times, and {} on the good side",
            cut(&sides.bad[at].text),
            places.len(),
            others.len()
        ),
        why: if count > expected { "far more often".into() } else { "far less often".into() },
        score: (0.36 + 0.12 * (high / low).log10() + 0.1 * badness(&sides.bad[at])).min(0.62),
    })
}

/// The values of a message: what stands where the pattern leaves something out.
fn slots(text: &str) -> Vec<&str> {
    text.split_whitespace().filter(|word| word.bytes().any(|byte| byte.is_ascii_digit())).collect()
}

/// A number with the unit behind it, in seconds where it is a duration.
fn duration_s(word: &str, next: Option<&str>) -> Option<f64> {
    let word = word.trim_end_matches([',', ';', '.', ')']);
    let word = word.rsplit('=').next().unwrap_or(word);
    let end = word.find(|letter: char| !letter.is_ascii_digit() && letter != '.').unwrap_or(word.len());
    let number: f64 = word.get(..end)?.parse().ok()?;
    let unit = if end < word.len() { word.get(end..)? } else { next? };
    match unit.trim_end_matches([',', ';', '.', ')']) {
        "ms" => Some(number / 1000.0),
        "us" | "µs" => Some(number / 1e6),
        "s" | "sec" | "seconds" => Some(number),
        "min" | "minutes" => Some(number * 60.0),
        _ => None,
    }
}

fn durations(all: &[Said], places: &[usize]) -> Vec<(f64, usize)> {
    let mut found = Vec::new();
    for at in places {
        let words: Vec<&str> = all[*at].text.split_whitespace().collect();
        let value = words.iter().enumerate().find_map(|(place, word)| duration_s(word, words.get(place + 1).copied()));
        found.extend(value.map(|value| (value, *at)));
    }
    found
}

fn median(values: &[(f64, usize)]) -> f64 {
    let mut sorted: Vec<f64> = values.iter().map(|(value, _)| *value).collect();
    sorted.sort_by(f64::total_cmp);
    sorted.get(sorted.len() / 2).copied().unwrap_or(0.0)
}

/// Durations, and values that are always the same on each side and not the same on both.
fn values(sides: &Sides<'_>, places: &[usize], others: &[usize]) -> Option<Difference> {
    let (slow, usual) = (durations(sides.bad, places), durations(sides.good, others));
    if !slow.is_empty() && !usual.is_empty() {
        let (now, before) = (median(&slow), median(&usual));
        let worst = slow.iter().max_by(|a, b| a.0.total_cmp(&b.0))?;
        let limit = usual.iter().map(|(value, _)| *value).fold(0.0, f64::max);
        let by_median = now > before * 3.0 && now - before > 0.05 && slow.len() >= 3;
        let by_worst = worst.0 > limit * 4.0 && worst.0 - limit > 1.0;
        if by_median || by_worst {
            let first = slow.iter().find(|(value, _)| *value > limit).unwrap_or(worst);
            let times = if by_median { now / before.max(0.001) } else { worst.0 / limit.max(0.001) };
            return Some(Difference {
                kind: Kind::Duration,
                bad: sides.bad_place(first.1),
                good: sides.good_place(usual[0].1),
                what: format!(
                    "\"{}\" takes {now:.3} s, and {before:.3} s on the good side",
                    cut(&sides.bad[first.1].text)
                ),
                why: format!("slower by {times:.0} times"),
                score: (0.46 + 0.1 * times.log10()).min(0.66),
            });
        }
        return None;
    }
    // Constant on each side.
    let of = |all: &[Said], places: &[usize]| -> Option<Vec<String>> {
        let first: Vec<String> = slots(&all[places[0]].text).into_iter().map(str::to_owned).collect();
        let same = places.iter().take(200).all(|at| slots(&all[*at].text) == first);
        same.then_some(first)
    };
    let (bad, good) = (of(sides.bad, places)?, of(sides.good, others)?);
    if bad.len() != good.len() || bad == good {
        return None;
    }
    let changed: Vec<(&String, &String)> =
        bad.iter().zip(&good).filter(|(bad, good)| bad != good && !is_run_value(bad, good)).collect();
    let text = &sides.bad[places[0]].text;
    let (now, before) = changed.into_iter().find(|(now, _)| !names_a_run(text, now))?;
    // What ends a part of the sentence is no part of the value.
    let bare = |value: &str| value.trim_end_matches([',', ';', ':']).to_owned();
    let (now, before) = (bare(now), bare(before));
    let steady = places.len().min(others.len()) > 1;
    let is_code = ["code", "status", "rc=", "exit", "returned", "result"]
        .iter()
        .any(|word| sides.bad[places[0]].text.to_ascii_lowercase().contains(word));
    Some(Difference {
        kind: if is_code { Kind::Outcome } else { Kind::Value },
        bad: sides.bad_place(places[0]),
        good: sides.good_place(others[0]),
        what: format!("\"{}\": {now}, and {before} on the good side", cut(&sides.bad[places[0]].text)),
        why: if steady {
            "always the same on each side, and not the same on both".into()
        } else {
            "the same message has another value".into()
        },
        score: if steady { 0.6 } else { 0.5 } + if is_code { 0.1 } else { 0.0 },
    })
}

/// Whether a value stands behind a word that says that each run has another (`pid 4711`).
fn names_a_run(text: &str, value: &str) -> bool {
    let before = text.split_whitespace().zip(text.split_whitespace().skip(1)).find(|(_, word)| *word == value);
    before.is_some_and(|(before, _)| {
        let key = before.trim_matches(|letter: char| !letter.is_ascii_alphanumeric()).to_ascii_lowercase();
        RUN_KEYS.contains(&key.as_str())
    })
}

/// Words for what each run has another of.
const RUN_KEYS: [&str; 20] = [
    "id", "pid", "tid", "port", "time", "ts", "seq", "session", "token", "addr", "uid", "job", "request", "at", "run",
    "process", "thread", "nonce", "since", "until",
];

/// Values that differ from run to run: times, ids, addresses, ports, long numbers.
fn is_run_value(bad: &str, good: &str) -> bool {
    let one = |word: &str| {
        let value =
            word.rsplit(['=', ':']).next().unwrap_or(word).trim_matches(|letter: char| !letter.is_ascii_alphanumeric());
        let key = word.split('=').next().unwrap_or_default().to_ascii_lowercase();
        let run_key = RUN_KEYS.iter().any(|name| key == *name || key.ends_with(&format!("_{name}")));
        let digits = value.bytes().filter(u8::is_ascii_digit).count();
        let hexish = value.len() >= 6 && value.bytes().all(|byte| byte.is_ascii_hexdigit());
        let dated = word.matches(':').count() >= 2 || word.matches('-').count() >= 2 && digits >= 6;
        run_key && word.contains('=') || hexish || dated || digits >= 5 || word.starts_with("0x") || word.contains('[')
    };
    one(bad) && one(good)
}

/// The longest silence between two of a kind.
fn gaps(sides: &Sides<'_>, places: &[usize], others: &[usize]) -> Option<Difference> {
    let longest = |all: &[Said], places: &[usize]| {
        let pairs =
            places.windows(2).filter_map(|pair| Some((all[pair[1]].time?.checked_sub(all[pair[0]].time?)?, pair[1])));
        pairs.max()
    };
    let (bad, at) = longest(sides.bad, places)?;
    let (good, other) = longest(sides.good, others)?;
    // What comes by the clock is missed more.
    let usual = sides.good[others[others.len() - 1]].time.zip(sides.good[others[0]].time);
    let usual = usual.map(|(last, first)| last.saturating_sub(first) / (others.len() as i64 - 1).max(1));
    let regular = usual.is_some_and(|usual| good < usual.saturating_mul(2));
    if others.len() < 5 || bad < good.saturating_mul(4) || bad - good < 10 * SECOND {
        return None;
    }
    Some(Difference {
        kind: Kind::Gap,
        bad: sides.bad_place(at),
        good: sides.good_place(other),
        what: format!(
            "{} s without \"{}\", and at most {} s on the good side",
            bad / SECOND,
            cut(&sides.bad[at].text),
            good / SECOND
        ),
        why: "a longer silence".into(),
        score: if regular { 0.58 } else { 0.44 },
    })
}

/// Messages that come once on each side, in another order.
fn order(
    sides: &Sides<'_>,
    bad: &BTreeMap<PatternId, Vec<usize>>,
    good: &BTreeMap<PatternId, Vec<usize>>,
) -> Option<Difference> {
    let once: HashMap<PatternId, usize> =
        good.iter().filter(|(_, places)| places.len() == 1).map(|(id, places)| (*id, places[0])).collect();
    let mut sequence: Vec<(usize, usize)> = bad
        .iter()
        .filter(|(_, places)| places.len() == 1)
        .filter_map(|(id, places)| Some((places[0], *once.get(id)?)))
        .collect();
    sequence.sort_unstable();
    if sequence.len() < 4 {
        return None;
    }
    // The first that stands before one that it used to follow.
    let turned = sequence.windows(2).find(|pair| pair[0].1 > pair[1].1)?;
    let turns = sequence.windows(2).filter(|pair| pair[0].1 > pair[1].1).count();
    // Many turns are threads that do not wait for each other.
    if turns * 4 > sequence.len() {
        return None;
    }
    let (at, other) = turned[0];
    Some(Difference {
        kind: Kind::Order,
        bad: sides.bad_place(at),
        good: sides.good_place(other),
        what: format!(
            "\"{}\" comes before \"{}\", and after it on the good side",
            cut(&sides.bad[at].text),
            cut(&sides.bad[turned[1].0].text)
        ),
        why: "another order".into(),
        score: 0.52,
    })
}
