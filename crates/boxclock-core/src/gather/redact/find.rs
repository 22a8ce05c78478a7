//! Replacing: all places that the rules find in a text, the same value by the same mark everywhere, and nothing that a reader needs.

use std::collections::{BTreeMap, HashMap};

use aho_corasick::{AhoCorasick, MatchKind};
use sha2::{Digest, Sha256};

use super::rules::Rule;
use super::sieve::Sieve;
use crate::format::Detected;
use crate::gather::seal::AppliedRule;
use crate::text::hex;
use crate::work::{Work, parallel};

/// Different values of one rule that are remembered for the count, the preview, and to be replaced elsewhere.
const VALUES: usize = 1 << 18;
/// Values that are replaced wherever they stand are at least so long; shorter ones stand in too many words.
const SPREAD_BYTES: usize = 5;
/// Names of people that are replaced wherever they stand as a word are at least so long.
const SPREAD_NAME_BYTES: usize = 4;

/// Places of one line that are tried one by one, where all together change what is read.
const TRIED_ONE_BY_ONE: usize = 64;

/// A place to replace.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
struct Span {
    start: usize,
    end: usize,
    /// The number of its rule.
    rule: usize,
}

/// Replaces values, and remembers what it replaced.
pub struct Redactor<'r> {
    rules: &'r [Rule],
    sieve: Sieve,
    key: [u8; 32],
    /// By rule: values in small letters, and how often each was replaced.
    seen: Vec<HashMap<String, u64>>,
    /// By rule: places of values beyond the [`VALUES`] that are remembered.
    unlisted: Vec<u64>,
    /// Values that are replaced wherever they stand, with their rules.
    known: Option<(AhoCorasick, Vec<(String, usize)>)>,
    /// Values that stay as they are, in small letters.
    kept: Vec<String>,
}

impl<'r> Redactor<'r> {
    /// A redactor with the key of a case.
    pub fn new(rules: &'r [Rule], key: [u8; 32]) -> Self {
        Self {
            rules,
            sieve: Sieve::new(rules),
            key,
            seen: vec![HashMap::new(); rules.len()],
            unlisted: vec![0; rules.len()],
            known: None,
            kept: Vec::new(),
        }
    }

    /// The same, but these values stay as they are, whatever rule finds them: somebody has looked at each.
    #[must_use]
    pub fn keeping(mut self, values: &[String]) -> Self {
        self.kept = values.iter().map(|value| value.trim().to_lowercase()).filter(|value| !value.is_empty()).collect();
        self
    }

    fn is_kept(&self, text: &str, (start, end): (usize, usize)) -> bool {
        !self.kept.is_empty() && text.get(start..end).is_some_and(|value| self.kept.contains(&value.to_lowercase()))
    }

    /// HMAC-SHA-256 (RFC 2104) of a value, in lower case: names differ in case from log to log.
    pub(super) fn hash(&self, value: &str) -> [u8; 32] {
        let pad = |byte: u8| {
            let mut block = [byte; 64];
            block.iter_mut().zip(self.key).for_each(|(block, key)| *block ^= key);
            block
        };
        let inner = Sha256::new().chain_update(pad(0x36)).chain_update(value.to_lowercase()).finalize();
        Sha256::new().chain_update(pad(0x5C)).chain_update(inner).finalize().into()
    }

    fn replacement(&self, rule: &Rule, value: &str) -> String {
        let hash = self.hash(&value.replace('-', "."));
        if rule.keeps_shape && value.contains(':') {
            // 100::/64 is discarded by every router (RFC 6666): no such address is anybody's.
            let groups = hash.chunks_exact(2).take(3).map(hex);
            return format!("100::{}", groups.collect::<Vec<_>>().join(":"));
        }
        if rule.keeps_shape {
            // 240.0.0.0/4 is reserved: no such address is anybody's.
            let sign = if value.contains('-') { '-' } else { '.' };
            let lead = 240 + hash[0] % 15;
            return format!("{lead}{sign}{}{sign}{}{sign}{}", hash[1], hash[2], hash[3]);
        }
        // Rules of one kind (`user`, `user-of`) have one mark.
        let kind = rule.name.split('-').next().unwrap_or(&rule.name);
        let mark = format!("{kind}-{}", hex(&hash[..4]));
        // Names of hosts stand where formats expect a name.
        if rule.is_of_hosts() { mark } else { format!("[{mark}]") }
    }

    /// Remembers what stands in a text, without replacing anything: see [`Self::spread`].
    pub fn learn(&mut self, text: &str) {
        for span in self.spans(text) {
            let Some(value) = text.get(span.start..span.end) else { continue };
            if let Some(seen) = self.seen.get_mut(span.rule).filter(|seen| seen.len() < VALUES) {
                seen.entry(value.to_lowercase()).or_default();
            }
        }
    }

    /// From now on, what was learnt is replaced wherever it stands, also escaped as URLs and JSON escape it.
    pub fn spread(&mut self) {
        let mut values: BTreeMap<String, usize> = BTreeMap::new();
        for (index, (rule, seen)) in self.rules.iter().zip(&mut self.seen).enumerate() {
            for value in seen.keys().filter(|_| rule.spreads) {
                let name = rule.is_of_names();
                let long = value.len() >= if name { SPREAD_NAME_BYTES } else { SPREAD_BYTES };
                let number = value.bytes().all(|byte| byte.is_ascii_digit()) && value.len() < 8;
                let word = !name && value.chars().all(char::is_alphabetic) && value.chars().count() < 10;
                if long && !number && !word {
                    for form in
                        [value.clone(), percent(value), value.replace('\\', "\\\\").replace('"', "\\\""), in_xml(value)]
                    {
                        values.entry(form).or_insert(index);
                    }
                }
            }
            seen.clear();
        }
        let list: Vec<(String, usize)> = values.into_iter().collect();
        let built = AhoCorasick::builder()
            .ascii_case_insensitive(true)
            .match_kind(MatchKind::LeftmostLongest)
            .build(list.iter().map(|(value, _)| value));
        self.known = built.ok().filter(|_| !list.is_empty()).map(|automaton| (automaton, list));
    }

    /// What each rule finds in a text; of a large one on all cores.
    fn by_rule(&self, text: &str) -> Vec<Vec<(usize, usize)>> {
        const LARGE: usize = 64 << 10;
        let present = self.sieve.look(text);
        if text.len() < LARGE {
            return self.rules.iter().map(|rule| rule.spans(text, Some(&present)).collect()).collect();
        }
        parallel(self.rules.len(), &Work::default(), |index| {
            self.rules.get(index).map_or(Vec::new(), |rule| rule.spans(text, Some(&present)).collect())
        })
    }

    /// What the rules find in a text: ascending, none over another.
    fn spans(&self, text: &str) -> Vec<Span> {
        let mut all: Vec<Span> = Vec::new();
        for (index, found) in self.by_rule(text).into_iter().enumerate() {
            let suspects = self.rules.get(index).is_some_and(|rule| rule.suspects);
            let found = found.into_iter().filter(|place| !suspects && !self.is_kept(text, *place));
            all.extend(found.map(|(start, end)| Span { start, end, rule: index }));
        }
        if let Some((automaton, list)) = &self.known {
            let whole = |start: usize, end: usize| {
                let word = |letter: char| letter.is_alphanumeric() || letter == '_';
                !text.get(..start).is_some_and(|before| before.ends_with(word))
                    && !text.get(end..).is_some_and(|behind| behind.starts_with(word))
            };
            for found in automaton.find_iter(text) {
                let Some((value, rule)) = list.get(found.pattern().as_usize()) else { continue };
                if value.len() >= 16 || whole(found.start(), found.end()) {
                    all.push(Span { start: found.start(), end: found.end(), rule: *rule });
                }
            }
        }
        // No place goes over the end of its line: lines keep their number.
        let mut lines: Vec<Span> = Vec::with_capacity(all.len());
        for span in all {
            let mut start = span.start;
            for part in text.get(span.start..span.end).unwrap_or_default().split_inclusive('\n') {
                let bare = part.trim_end_matches(['\n', '\r']);
                lines.extend((!bare.is_empty()).then_some(Span { start, end: start + bare.len(), ..span }));
                start += part.len();
            }
        }
        // The first rule names a place that several find; what others find beyond it is replaced with it.
        lines.sort_by_key(|span| (span.start, span.rule, std::cmp::Reverse(span.end)));
        let mut spans: Vec<Span> = Vec::new();
        for span in lines {
            match spans.last_mut() {
                Some(last) if span.start < last.end => {
                    last.end = last.end.max(span.end);
                    last.rule = last.rule.min(span.rule);
                }
                _ => spans.push(span),
            }
        }
        spans
    }

    /// Replaces what the rules find. Where the format of the text is known, what its reader takes from the head of a line stays as
    /// it is read: time, level, process and thread.
    pub fn text(&mut self, text: &str, detected: Option<Detected>) -> String {
        let spans = self.spans(text);
        let mut out = String::with_capacity(text.len());
        let mut copied = 0;
        let mut at = 0;
        while let Some(first) = spans.get(at) {
            // All places of one line together.
            let start = text.get(..first.start).and_then(|before| before.rfind('\n')).map_or(0, |feed| feed + 1);
            let end =
                text.get(first.start..).and_then(|rest| rest.find('\n')).map_or(text.len(), |feed| first.start + feed);
            let count = spans.get(at..).unwrap_or_default().iter().take_while(|span| span.start < end).count().max(1);
            let of_line = spans.get(at..at + count).unwrap_or_default();
            at += count;
            out.push_str(text.get(copied..start).unwrap_or_default());
            let line = text.get(start..end).unwrap_or_default();
            let of_line: Vec<Span> = of_line
                .iter()
                .map(|span| Span { start: span.start - start, end: span.end - start, rule: span.rule })
                .collect();
            out.push_str(&self.line(line, &of_line, detected));
            copied = end;
        }
        out.push_str(text.get(copied..).unwrap_or_default());
        out
    }

    fn line(&mut self, line: &str, spans: &[Span], detected: Option<Detected>) -> String {
        let all = self.replaced(line, spans);
        let same = |other: &str| detected.is_none_or(|detected| reads_alike(detected, line, other));
        let kept: Vec<Span> = if same(&all) {
            spans.to_vec()
        } else {
            // Those that alone change what is read are no secrets: they are times, levels or numbers of processes.
            // They stand in the head: of a line with very many only the first are tried one by one.
            let (first, others) = spans.split_at(spans.len().min(TRIED_ONE_BY_ONE));
            let mut kept: Vec<Span> =
                first.iter().filter(|span| same(&self.replaced(line, &[**span]))).copied().collect();
            if same(&self.replaced(line, others)) {
                kept.extend(others);
            }
            kept
        };
        for span in &kept {
            let value = line.get(span.start..span.end).unwrap_or_default().to_lowercase();
            let Some(seen) = self.seen.get_mut(span.rule) else { continue };
            if seen.len() < VALUES || seen.contains_key(&value) {
                *seen.entry(value).or_default() += 1;
            } else if let Some(places) = self.unlisted.get_mut(span.rule) {
                *places += 1;
            }
        }
        if kept.len() == spans.len() { all } else { self.replaced(line, &kept) }
    }

    fn replaced(&self, line: &str, spans: &[Span]) -> String {
        let mut out = String::with_capacity(line.len());
        let mut copied = 0;
        for span in spans {
            let (Some(before), Some(value), Some(rule)) =
                (line.get(copied..span.start), line.get(span.start..span.end), self.rules.get(span.rule))
            else {
                continue;
            };
            out.push_str(before);
            out.push_str(&self.replacement(rule, value));
            copied = span.end;
        }
        out.push_str(line.get(copied..).unwrap_or_default());
        out
    }

    /// What still looks like a secret in a text that was redacted: the rule and the value. Marks of ours are none.
    pub fn left_in(&self, text: &str) -> Vec<(String, String)> {
        let mut left = Vec::new();
        for (rule, found) in self.rules.iter().zip(self.by_rule(text)) {
            for (start, end) in found {
                let value = text.get(start..end).unwrap_or_default();
                if !is_ours(text, start, end) && !self.is_kept(text, (start, end)) {
                    left.push((rule.name.clone(), value.to_owned()));
                }
            }
        }
        left
    }

    /// What was replaced so far.
    pub fn applied(&self) -> Vec<AppliedRule> {
        let rows = self.rules.iter().zip(&self.seen).zip(&self.unlisted).filter(|((_, seen), _)| !seen.is_empty());
        rows.map(|((rule, seen), unlisted)| AppliedRule {
            rule: rule.name.clone(),
            places: seen.values().sum::<u64>().saturating_add(*unlisted),
            values: seen.len() as u64,
        })
        .collect()
    }

    /// For each rule some values with their count and what stands in their place, the most frequent first.
    pub fn samples(&self, most: usize) -> Vec<(String, Vec<Sample>)> {
        let rows = self.rules.iter().zip(&self.seen).filter(|(_, seen)| !seen.is_empty()).map(|(rule, seen)| {
            let mut values: Vec<(&String, u64)> = seen.iter().map(|(value, count)| (value, *count)).collect();
            values.sort_by(|a, b| b.1.cmp(&a.1).then_with(|| a.0.cmp(b.0)));
            let samples = values.into_iter().take(most).map(|(value, count)| {
                let instead = self.replacement(rule, value);
                Sample { value: value.clone(), count, instead }
            });
            (rule.name.clone(), samples.collect())
        });
        rows.collect()
    }
}

/// Whether a reader takes the same from the heads of two lines.
fn reads_alike(detected: Detected, one: &str, other: &str) -> bool {
    let head = |line: &str| {
        let head = detected.format.head(line.as_bytes(), detected.hint)?;
        Some((head.stamp, head.severity, head.severity_text.into_owned(), head.pid, head.tid))
    };
    let codes = |line: &str| {
        let mut codes = Vec::new();
        detected.format.column_codes(line.as_bytes(), &mut |found| codes.push(found.code));
        codes
    };
    head(one) == head(other) && codes(one) == codes(other)
}

/// Whether what was found is a replacement of ours, or stands inside one.
fn is_ours(text: &str, start: usize, end: usize) -> bool {
    let value = text.get(start..end).unwrap_or_default();
    let address = value.replace('-', ".").parse::<std::net::Ipv4Addr>();
    let reserved = address.is_ok_and(|address| address.octets()[0] >= 240);
    let before = super::keys::near_end(text.get(..start).unwrap_or_default());
    let behind_mark = before.rfind('[').and_then(|at| before.get(at..)).is_some_and(|lead| {
        // It begins inside a mark, or right behind one, whose end it takes for its own start.
        let mark = text.get(start - lead.len()..).unwrap_or_default();
        mark_length(mark).is_some_and(|length| {
            let between = lead.get(length..).unwrap_or_default();
            // `[user-0123abcd]: walked`: the word that says so is that of the mark.
            !between.contains([' ', '"', ',']) || matches!(between.trim(), ":" | "=")
        })
    });
    reserved
        || value.starts_with("100::")
        || behind_mark
        || value.match_indices('[').any(|(at, _)| mark_length(&value[at..]).is_some())
}

/// Bytes of the mark that a text begins with: `[user-0123abcd]`.
fn mark_length(text: &str) -> Option<usize> {
    let inner = text.strip_prefix('[')?;
    let (kind, rest) =
        inner.split_once('-').filter(|(kind, _)| kind.bytes().all(|byte| byte.is_ascii_alphanumeric()))?;
    let digits = rest.get(..8).filter(|digits| digits.bytes().all(|byte| byte.is_ascii_hexdigit()))?;
    rest.get(8..)?.starts_with(']').then_some(kind.len() + digits.len() + 3)
}

fn percent(value: &str) -> String {
    let mut text = String::new();
    for byte in value.bytes() {
        match byte {
            b'a'..=b'z' | b'A'..=b'Z' | b'0'..=b'9' | b'-' | b'.' | b'_' | b'~' => text.push(char::from(byte)),
            _ => text.push_str(&format!("%{byte:02X}")),
        }
    }
    text
}

fn in_xml(value: &str) -> String {
    value.replace('&', "&amp;").replace('<', "&lt;").replace('>', "&gt;").replace('"', "&quot;")
}

/// A value that is replaced.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Sample {
    /// The value, in lower case.
    pub value: String,
    /// How often it was found.
    pub count: u64,
    /// What stands in its place.
    pub instead: String,
}
