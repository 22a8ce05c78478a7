//! A suggestion as people read it: the way from the root to the symptom with what surely stands between, its reasons and what speaks
//! against it, in words.

use std::collections::HashMap;

use super::{Search, UNPROVEN};
use crate::cause::link::Why;
use crate::cause::questions::{About, questions};
use crate::cause::signs::SignKind;
use crate::cause::words::parts_of_phrase;
use crate::cause::{CauseLink, CausePlace, OpenQuestion, Suggestion, wording};
use crate::clock::human::{date_time, duration_text};
use crate::event::{RecordReader, Row};

/// Links of a chain.
const MOST_LINKS: usize = 10;

impl Search<'_> {
    fn place(&self, reader: &mut RecordReader, row: Row) -> CausePlace {
        let event = self.view.loaded.table.event(row);
        CausePlace { source: self.view.case.sources[event.source()].name.clone(), line: reader.place(event).line, row }
    }

    fn why(&self, from: usize, to: usize, why: &Why) -> String {
        let lexicon = &self.signs.lexicon;
        let list = &self.signs.list;
        let effects = |effects: &u32| wording::effect_names(*effects).collect::<Vec<_>>().join(", ");
        let words = match why {
            Why::Names(word) => match parts_of_phrase(lexicon.word(*word)) {
                Some((one, other)) => format!("both speak of {one} and {other}"),
                None => format!("both name {}", lexicon.word(*word)),
            },
            Why::Program(word) => format!("one names {}, which wrote the other", lexicon.word(*word)),
            Why::SameProgram(word) => format!("both were written by {}", lexicon.word(*word)),
            Why::Host(word) => format!("one names the host {}", lexicon.word(*word)),
            Why::NextLine => "the same log goes on".to_owned(),
            Why::Effect(bits) => format!("such a change can have this effect ({})", effects(bits)),
            Why::Alike(bits) => format!("trouble of one kind ({})", effects(bits)),
            Why::AtOnce => "it began right after it".to_owned(),
            Why::Together => "both began to fail within a minute".to_owned(),
        };
        let apart = match list[to].time.saturating_sub(list[from].time) {
            ..=0 => "at the same moment".to_owned(),
            apart => format!("{} later", duration_text(apart)),
        };
        let shift = list[to].shift.as_ref().map(|shift| format!("; {shift}")).unwrap_or_default();
        format!("{words}, {apart}{shift}")
    }

    /// The way from a sign to the symptom, with what surely stands between two steps.
    pub(super) fn way(&self, from: usize) -> Vec<(usize, String)> {
        let mut way = vec![(from, String::new())];
        let mut at = from;
        while let Some((next, _, why)) = self.steps[at].next.as_ref().filter(|_| way.len() < MOST_LINKS) {
            way.push((*next, self.why(at, *next, why)));
            at = *next;
        }
        let mut place = 0;
        while place + 1 < way.len() && way.len() < MOST_LINKS {
            let (before, after) = (way[place].0, way[place + 1].0);
            let between = self.sure_steps(before, after, MOST_LINKS - way.len());
            if between.is_empty() {
                place += 1;
                continue;
            }
            let count = between.len();
            let mut at = before;
            for (number, next) in between.into_iter().chain([after]).enumerate() {
                let why = self.link(at, next).map(|link| self.why(at, next, &link.why)).unwrap_or_default();
                if number < count {
                    way.insert(place + 1 + number, (next, why));
                } else {
                    way[place + 1 + number].1 = why;
                }
                at = next;
            }
            // Where one step was put between, another may fit beside it.
            if count > 1 {
                place += count + 1;
            }
        }
        way
    }

    /// Signs between two others by which one surely leads to the other: the fewest, at least one; none where there are none.
    fn sure_steps(&self, from: usize, to: usize, most: usize) -> Vec<usize> {
        const SURE: f64 = 0.5;
        let candidates: Vec<usize> = (from + 1..to).collect();
        // How sure the weakest step to each is, and from where; round by round, with one step more.
        let mut reached: HashMap<usize, (usize, f64)> = HashMap::new();
        let mut front = vec![(from, 1.0)];
        for round in 0..most.min(4) {
            let mut next: HashMap<usize, (usize, f64)> = HashMap::new();
            for (at, sure) in &front {
                for to in candidates.iter().filter(|to| *to > at && !reached.contains_key(to)) {
                    let Some(link) = self.link(*at, *to).filter(|link| link.strength >= SURE) else { continue };
                    let weakest = link.strength.min(*sure);
                    let known = next.entry(*to).or_insert((*at, weakest));
                    if weakest > known.1 {
                        *known = (*at, weakest);
                    }
                }
            }
            let mut ends: Vec<(f64, usize)> = next
                .iter()
                .filter_map(|(at, (_, sure))| {
                    let link = self.link(*at, to).filter(|link| link.strength >= SURE)?;
                    Some((link.strength.min(*sure), *at))
                })
                .collect();
            ends.sort_by(|a, b| b.0.total_cmp(&a.0).then(a.1.cmp(&b.1)));
            front = next.iter().map(|(at, (_, sure))| (*at, *sure)).collect();
            front.sort_by_key(|(at, _)| *at);
            reached.extend(next);
            if let Some((_, last)) = ends.first() {
                let mut steps = vec![*last];
                for _ in 0..round {
                    let Some((before, _)) = steps.last().and_then(|at| reached.get(at)) else { break };
                    steps.push(*before);
                }
                steps.reverse();
                return steps;
            }
        }
        Vec::new()
    }

    fn chain(&self, reader: &mut RecordReader, from: usize) -> Vec<CauseLink> {
        let links = self.way(from).into_iter();
        links
            .map(|(at, why)| {
                let sign = &self.signs.list[at];
                CauseLink { place: self.place(reader, sign.row), text: first_line(&sign.text), why }
            })
            .collect()
    }

    pub(super) fn suggestion(
        &self,
        reader: &mut RecordReader,
        at: usize,
        score: f64,
        symptom: usize,
        is_first: bool,
    ) -> Suggestion {
        let sign = &self.signs.list[at];
        let chain = self.chain(reader, at);
        let mut reasons = Vec::new();
        if let Some(words) = sign.class.words().filter(|_| self.links.change[at] >= 0.4) {
            reasons.push(format!("it is {words}"));
        }
        reasons.push(match (sign.kind, sign.count) {
            (SignKind::Shift, _) => sign.shift.clone().unwrap_or_default(),
            (SignKind::Onset, _) => "its kind is new from here on".to_owned(),
            (_, 1) => "it is the only one of its kind in the case".to_owned(),
            (_, count) => format!("there are {count} of its kind in the case"),
        });
        if let Some(second) = chain.get(1) {
            reasons.push(format!("what follows: {}", second.why));
        }
        if self.unrelated[at] {
            reasons.push("against it: what it was done to is not named in the trouble".to_owned());
        }
        if self.tried[at] {
            reasons.push("against it: the story says that it was undone or tried, and changed nothing".to_owned());
        }
        let proven = score >= UNPROVEN && self.can_be_root(at);
        let what = match (proven, is_first) {
            (true, true) => "is the likeliest root of",
            (true, false) => "could be the root of",
            (false, _) => "is a lead, not a proof, for",
        };
        let symptom = first_line(&self.signs.list[symptom].text);
        let summary = format!("\"{}\" {what} \"{symptom}\": {}.", first_line(&sign.text), reasons.join("; "));
        // Scores are products of many factors: their root is nearer to what a share means to people.
        // A lead counts half.
        let share = score.sqrt().min(0.99) * if proven { 1.0 } else { 0.5 };
        let score = (share * 100.0).round() / 100.0;
        let class = if proven { sign.class.name() } else { "unproven" };
        let questions = self.questions(class, &chain);
        Suggestion { provable: true, score, reasons, chain, missing: Vec::new(), questions, summary, card: None }
    }

    pub(super) fn unproven(&self, reader: &mut RecordReader, end: usize, symptom: usize) -> Suggestion {
        let chain = self.chain(reader, end);
        let sign = &self.signs.list[end];
        let host = self.view.loaded.table.hosts.get(sign.host as usize).cloned().unwrap_or_default();
        let missing = vec![
            format!(
                "logs of what {} speaks to, from before that moment",
                if host.is_empty() { "this machine".to_owned() } else { host }
            ),
            "what was changed outside the machines of this box".to_owned(),
        ];
        let summary = format!(
            "Not provable: the evidence for \"{}\" ends at \"{}\". What is suggested after this is worth a look, but does not prove a root.",
            first_line(&self.signs.list[symptom].text),
            first_line(&sign.text)
        );
        let questions = self.questions("unproven", &chain);
        Suggestion {
            provable: false,
            score: 0.5,
            reasons: vec!["no change in the box is tied to the symptom closely enough".into()],
            chain,
            missing,
            questions,
            summary,
            card: None,
        }
    }
}

impl Search<'_> {
    /// What is still open about a chain whose root is of a class.
    fn questions(&self, class: &str, chain: &[CauseLink]) -> Vec<OpenQuestion> {
        let table = &self.view.loaded.table;
        let mut hosts: Vec<String> = Vec::new();
        for link in chain {
            let host = table.event(link.place.row).host();
            if !host.is_empty() && !hosts.iter().any(|known| known == host) {
                hosts.push(host.to_owned());
            }
        }
        let (Some(first), Some(last)) = (chain.first(), chain.last()) else { return Vec::new() };
        let event = table.event(first.place.row);
        let time = event.time().map_or_else(String::new, |time| date_time(time, &self.view.case.zone)[..16].to_owned());
        questions(&About {
            class,
            root: &first.text,
            host: event.host(),
            hosts: &hosts,
            symptom: &last.text,
            time: &time,
        })
    }
}

fn first_line(text: &str) -> String {
    text.lines().next().unwrap_or_default().chars().take(200).collect()
}
