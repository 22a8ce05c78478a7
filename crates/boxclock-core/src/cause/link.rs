//! How well one sign leads to a later one, and why.

use std::collections::{HashMap, HashSet};

use super::signs::{Sign, SignKind, Signs};
use super::wording::{self, Class, Effect};
use super::words;
use crate::clock::{DAY, MINUTE, SECOND};

/// In a case with fewer kinds of messages, words count as if it had so many.
pub(super) const FEWEST_KINDS: usize = 60;

/// The most that a word that all programs use can tie.
const COMMON_MOST: f64 = 0.35;
/// How well the name of a program ties what it wrote to what names it.
const BY_NAME: f64 = 0.55;
/// The most that two such words can tie that stand behind one another in both.
const COMMON_PHRASE_MOST: f64 = 0.5;
/// How well a change of the clock, zone or schedule leads to a job of the same host that comes at another time of the day; and the
/// most that anything else does.
const MOVED_BY_CLOCK: f64 = 0.8;
const MOVED_BY_OTHERS: f64 = 0.25;
/// How telling a word that all programs use has to be, so that it ties two messages of one program.
const SELDOM_SAID: f64 = 2.3;
/// How much a word that all programs use counts.
const COMMON_SHARE: f64 = 0.7;

/// Why a sign leads to another.
#[derive(Clone, Debug, PartialEq, Eq)]
pub(super) enum Why {
    /// Both name it.
    Names(u32),
    /// One of them is written by what the other names.
    Program(u32),
    /// Both are written by one program.
    SameProgram(u32),
    /// One names the other's host.
    Host(u32),
    /// It is the next line of the same log.
    NextLine,
    /// A change of that kind has such effects.
    Effect(Effect),
    /// They are trouble of one kind.
    Alike(Effect),
    /// It began at once.
    AtOnce,
    /// Both began to fail at one moment, where neither ever had.
    Together,
}

/// How well a sign leads to a later one, 0 to 1.
pub(super) struct Link {
    pub strength: f64,
    pub why: Why,
    /// Whether nothing but the name of a program or host, or the moment, ties them: much is done to every program and host, and
    /// something always came just before.
    pub by_name_alone: bool,
}

/// What is known for all links.
pub(super) struct Links<'a> {
    signs: &'a Signs,
    /// How telling each word is.
    weight: Vec<f64>,
    /// Words that are programs.
    programs: HashSet<u32>,
    /// Words that are programs or hosts, or made of them: they are judged apart.
    of_programs: Vec<bool>,
    /// Words that all programs use.
    common: Vec<bool>,
    /// For each kind of effect: how few signs have it, 0 to 1, as change and as trouble.
    rare_change: Vec<f64>,
    rare_trouble: Vec<f64>,
    /// How much each sign can be a root, after what is known of all.
    pub(super) change: Vec<f64>,
    /// When each source that a sign is from wrote something.
    busy: HashMap<usize, Vec<i64>>,
}

/// Numbers that stand in both sorted lists.
pub(super) fn shared<'a>(a: &'a [u32], b: &'a [u32]) -> impl Iterator<Item = u32> + 'a {
    let mut other = b.iter().peekable();
    a.iter().copied().filter(move |id| {
        while other.peek().is_some_and(|next| *next < id) {
            other.next();
        }
        other.peek() == Some(&id)
    })
}

/// Whether a word is a number with a fraction.
fn is_decimal(word: &str) -> bool {
    let is_digits = |part: &str| !part.is_empty() && part.bytes().all(|byte| byte.is_ascii_digit());
    word.split_once('.').is_some_and(|(whole, part)| is_digits(whole) && is_digits(part))
}

impl<'a> Links<'a> {
    pub(super) fn new(signs: &'a Signs, busy: HashMap<usize, Vec<i64>>) -> Self {
        let lexicon = &signs.lexicon;
        // A version of two numbers looks like any measure.
        let is_common = |word: &str| match words::parts_of_phrase(word) {
            Some((one, other)) => words::is_common(one) && words::is_common(other),
            None => words::is_common(word) || is_decimal(word),
        };
        let common: Vec<bool> = (0..lexicon.len()).map(|id| is_common(lexicon.word(id as u32))).collect();
        let kinds = signs.kinds.max(FEWEST_KINDS) as f64;
        let weight = lexicon.spread.iter().zip(&common).map(|(spread, common)| {
            (kinds / f64::from((*spread).max(1))).ln().max(0.0) * if *common { COMMON_SHARE } else { 1.0 }
        });
        let weight = weight.collect();
        let programs: HashSet<u32> = signs
            .list
            .iter()
            .flat_map(|sign| sign.identity.iter().copied())
            .chain(signs.hosts.iter().flatten().copied())
            .collect();
        let mut names: HashSet<&str> = programs.iter().map(|id| lexicon.word(*id)).collect();
        let hosts = signs.hosts.iter().flatten().map(|id| lexicon.word(*id));
        // Of pump-ctl also the pump.
        names.extend(hosts.flat_map(|host| host.split(['-', '.', '_'])).filter(|part| part.len() > 3));
        let of_programs = (0..lexicon.len() as u32).map(|id| {
            let word = lexicon.word(id);
            // The folder of a program is as good as its name.
            let folder = word.rsplit_once('/').map(|(_, last)| last);
            names.contains(word)
                || folder.is_some_and(|last| names.contains(last))
                || word.contains(['.', ' ']) && word.split(['.', ' ']).any(|part| names.contains(part))
        });
        let of_programs = of_programs.collect();
        let count = signs.list.len().max(1) as f64;
        let rare = |of: &dyn Fn(&Sign) -> Effect| -> Vec<f64> {
            (0..wording::effect_count())
                .map(|bit| 1.0 - signs.list.iter().filter(|sign| of(sign) & 1 << bit != 0).count() as f64 / count)
                .collect()
        };
        let (rare_change, rare_trouble) = (rare(&|sign| sign.leads_to), rare(&|sign| sign.effects));
        Self { signs, weight, programs, of_programs, common, rare_change, rare_trouble, change: Vec::new(), busy }
    }

    /// How telling a word is: the logarithm of how few kinds of messages have it.
    pub(super) fn weight(&self, id: u32) -> f64 {
        self.weight.get(id as usize).copied().unwrap_or_default()
    }

    /// The most telling words that both have, but for names of programs: the best, its weight, and the sum of all. What a program
    /// says all the time ties none of its messages.
    fn common_words(&self, a: &Sign, b: &Sign) -> (Option<u32>, f64, f64) {
        let mut weights: Vec<(f64, u32)> = shared(&a.words, &b.words)
            .filter(|id| !self.of_programs[*id as usize])
            .filter(|id| !self.signs.is_said_anyway(a, b, *id))
            // Who did something is not what it was done to.
            .filter(|id| !(matches!(a.class, Class::Deed | Class::Person) && self.signs.people.contains(id)))
            .map(|id| (self.weight(id), id))
            .collect();
        // Of a name and its parts, the whole name.
        let length = |id: u32| self.signs.lexicon.word(id).len();
        weights.sort_by(|a, b| b.0.total_cmp(&a.0).then_with(|| length(b.1).cmp(&length(a.1))).then(a.1.cmp(&b.1)));
        weights.truncate(8);
        // What a phrase is made of counts, not the phrase again.
        let is_phrase = |id: u32| words::parts_of_phrase(self.signs.lexicon.word(id)).is_some();
        let best = weights.first().copied();
        let sum = weights.iter().filter(|all| Some(**all) == best || !is_phrase(all.1)).map(|(weight, _)| weight).sum();
        weights.first().map_or((None, 0.0, 0.0), |(weight, id)| (Some(*id), *weight, sum))
    }

    /// How much a link by the program's name alone still counts: less, the longer it went on working.
    fn worked_between(&self, a: &Sign, b: &Sign) -> f64 {
        if a.until >= b.time {
            return 1.0;
        }
        let times = self.busy.get(&b.source).map(Vec::as_slice).unwrap_or_default();
        let worked =
            times.partition_point(|time| *time < b.time).saturating_sub(times.partition_point(|time| *time <= a.until));
        let by_work = 0.3 + 0.7 * (-(worked as f64) / 60.0).exp();
        let apart = b.time.saturating_sub(a.until) as f64 / (20 * MINUTE) as f64;
        f64::min(by_work, 0.25 + 0.75 * (-apart).exp())
    }

    fn rarest(&self, effects: Effect, of: impl Fn(usize) -> f64) -> f64 {
        (0..wording::effect_count()).filter(|bit| effects & 1 << bit != 0).map(of).fold(0.0, f64::max)
    }

    /// How well one sign leads to a later one.
    pub(super) fn between(&self, from: usize, to: usize) -> Option<Link> {
        let (a, b) = (&self.signs.list[from], &self.signs.list[to]);
        let (word, best, sum) = self.common_words(a, b);
        let is_common = word.is_some_and(|id| {
            let word = self.signs.lexicon.word(id);
            self.common[id as usize] || word.len() < 4 && word.bytes().all(|byte| byte.is_ascii_alphabetic())
        });
        let mut strength = 0.0;
        let mut why = None;
        let mut by_name_alone = false;
        if best >= 2.0 {
            strength = 1.0 - (-(best + 0.25 * (sum - best)) / 4.0).exp();
            if is_common {
                let is_phrase = word.is_some_and(|id| words::parts_of_phrase(self.signs.lexicon.word(id)).is_some());
                strength = f64::min(strength, if is_phrase { COMMON_PHRASE_MOST } else { COMMON_MOST });
            }
            why = word.map(Why::Names);
        }
        // What one of them speaks of all the time is as good as its name.
        let is_everyday = word.is_some_and(|id| self.signs.is_everyday_of_one(a, b, id));
        if is_everyday && strength > 0.0 {
            strength = f64::min(strength, BY_NAME);
        }
        let is_specific = best >= 2.5 && !is_common && !is_everyday;
        // Unrelated trouble of the same program is no cause.
        let is_state = a.class == Class::State && a.bad < 0.7;
        let is_passing = a.kind == SignKind::Once && !is_state && (a.bad >= 0.7 || a.bad >= 0.5 && a.change < 0.8);
        let same_program = shared(&a.identity, &b.identity).next();
        for (one, other) in [(a, b), (b, a)] {
            let name = shared(&one.identity, &other.words).find(|id| !self.common[*id as usize]);
            let Some(name) = name.filter(|_| !(is_passing && same_program.is_some())) else { continue };
            if strength < BY_NAME {
                (strength, why, by_name_alone) = (BY_NAME, Some(Why::Program(name)), true);
            } else {
                strength = f64::min(0.97, strength + 0.1);
            }
        }
        // Both speak of a program that wrote neither.
        let spoken_of = shared(&a.words, &b.words).find(|id| {
            self.programs.contains(id)
                && !self.common[*id as usize]
                && !a.identity.contains(id)
                && !b.identity.contains(id)
        });
        if let Some(name) = spoken_of.filter(|_| strength < 0.5) {
            (strength, why) = (0.5, Some(Why::Names(name)));
        }
        if let Some(name) = same_program.filter(|_| !is_passing) {
            if is_common && best >= SELDOM_SAID {
                // A word of all programs, that this one says of little else.
                (strength, by_name_alone) = (f64::max(strength, COMMON_PHRASE_MOST), false);
            } else if strength < 0.45 {
                (strength, why, by_name_alone) = (0.45, Some(Why::SameProgram(name)), true);
            } else {
                strength = f64::min(0.97, strength + 0.1);
            }
        }
        if let Some(host) = self.named_host(a, b) {
            if strength >= 0.3 {
                strength = f64::min(0.97, strength + 0.1);
            } else if a.bad >= 0.5 || a.kind != SignKind::Once {
                // Trouble about the other host that has not ended.
                let goes_on = a.bad >= 0.5 && a.kind == SignKind::Onset && a.until >= b.time;
                let seconds = b.time.saturating_sub(a.time).max(0) as f64 / SECOND as f64;
                let soon = if a.bad >= 0.5 { 0.35 * (-seconds / 30.0).exp() } else { 0.0 };
                (strength, why) = (if goes_on { 0.5 } else { 0.3 + soon }, Some(Why::Host(host)));
            }
        }
        let apart = b.time.saturating_sub(a.time);
        if a.source == b.source && !a.identity.is_empty() && apart < 15 * SECOND && strength < 0.55 {
            (strength, why) = (0.55, Some(Why::NextLine));
        }
        let change = self.change.get(from).copied().unwrap_or(a.change);
        let is_change = change >= 0.8 && a.bad < 0.7;
        let lasts = matches!(b.kind, SignKind::Onset | SignKind::Shift);
        let same_host = a.host == b.host;
        let effects = a.leads_to & b.effects;
        if effects != 0 && (b.bad >= 0.5 || lasts) {
            let rare = self.rarest(effects, |bit| self.rare_change[bit] * self.rare_trouble[bit].powi(2));
            // On another host that it does not name it shows soon, or is tied by more than its kind.
            let days = b.time.saturating_sub(a.until).max(0) as f64 / DAY as f64;
            let is_there = same_host || self.host_named_by(b, a).is_some();
            let elsewhere = if is_there { 1.0 } else { 0.85 / (1.0 + 0.1 * days) };
            let alone = if is_change { 0.45 * rare * elsewhere } else { 0.2 * rare };
            if strength < alone {
                (strength, why) = (alone, Some(Why::Effect(effects)));
            } else if strength > 0.0 {
                strength = f64::min(0.97, strength + 0.15 * rare);
            }
        }
        if b.moved && strength > 0.0 {
            let moving = wording::effect_of("clock") | wording::effect_of("schedule");
            if a.leads_to & (moving | wording::effect_of("service")) == 0 {
                strength = f64::min(strength, MOVED_BY_OTHERS);
            } else if a.leads_to & moving != 0 && is_change && same_host {
                (strength, why) = (f64::max(strength, MOVED_BY_CLOCK), Some(Why::Effect(a.leads_to & moving)));
            }
        }
        let alike = a.effects & b.effects;
        if alike != 0 && a.bad >= 0.5 && b.bad >= 0.5 {
            let rare = self.rarest(alike, |bit| self.rare_trouble[bit]);
            let alone = 0.3 * rare.powi(3) * if same_host { 1.0 } else { 0.8 };
            if strength < alone {
                (strength, why) = (alone, Some(Why::Alike(alike)));
            } else if strength > 0.0 {
                strength = f64::min(0.97, strength + 0.08 * rare);
            }
        }
        if by_name_alone && !is_specific && !b.identity.is_empty() {
            strength *= self.worked_between(a, b);
        }
        // A rare change, and at once something new that lasts.
        if is_change && (lasts || b.kind == SignKind::Named) {
            let seconds = apart.max(0) as f64 / SECOND as f64;
            let alone = 0.5 * (-seconds / 60.0).exp();
            // By the program's name alone it is chance, unless within moments, or where another program complains of it.
            let is_tied = is_specific || effects != 0 || seconds < 30.0 || self.is_complained_of(a, b);
            if strength >= 0.3 && is_tied {
                strength += (0.95 - strength) * 0.6 * (-seconds / 300.0).exp();
            } else if alone > strength {
                (strength, why) = (alone * if same_host { 1.0 } else { 0.8 }, Some(Why::AtOnce));
            }
        }
        // Two things that begin to fail at one moment, each where it never had.
        if a.kind == SignKind::Onset
            && b.kind == SignKind::Onset
            && a.bad >= 0.5
            && b.bad >= 0.5
            && a.message != b.message
        {
            let seconds = apart.max(0) as f64 / SECOND as f64;
            let alone = 0.45 * (-seconds / 40.0).exp();
            if alone > strength {
                (strength, why) = (alone, Some(Why::Together));
            }
        }
        // A job at another hour than usual, and within minutes something that was no trouble before.
        if a.moved && same_host && b.bad >= 0.5 && a.source != b.source {
            let minutes = apart.max(0) as f64 / MINUTE as f64;
            let alone = 0.6 * (-minutes / 10.0).exp();
            if alone > strength {
                (strength, why) = (alone, Some(Why::AtOnce));
            }
        }
        let by_name_alone = match &why {
            Some(Why::AtOnce | Why::NextLine) => true,
            // A change of that program that has such effects says more.
            Some(Why::SameProgram(_) | Why::Program(_) | Why::Host(_)) => effects == 0 || b.bad < 0.5,
            Some(Why::Names(_)) => {
                // Where its words leave open whether something was changed, a word of all programs is not enough.
                let is_loose = is_common && change < 0.8 && same_program.is_none();
                (is_everyday || is_loose) && (effects == 0 || b.bad < 0.5)
            }
            _ => false,
        };
        why.map(|why| Link { strength, why, by_name_alone })
    }

    /// Whether another program complains of the one in which a change was made, within minutes, and goes on to.
    pub(super) fn is_complained_of(&self, change: &Sign, trouble: &Sign) -> bool {
        let apart = trouble.time.saturating_sub(change.until);
        let names = |id: &u32| trouble.words.binary_search(id).is_ok() && !self.common[*id as usize];
        trouble.bad >= 0.5
            && trouble.kind == SignKind::Onset
            && (0..5 * MINUTE).contains(&apart)
            && shared(&change.identity, &trouble.identity).next().is_none()
            && change.identity.iter().any(names)
    }

    /// The host that a sign is from, where another one names it.
    fn host_named_by(&self, other: &Sign, sign: &Sign) -> Option<u32> {
        let name = self.signs.hosts.get(sign.host as usize).copied().flatten();
        name.filter(|id| other.words.binary_search(id).is_ok())
    }

    fn named_host(&self, a: &Sign, b: &Sign) -> Option<u32> {
        if a.host == b.host {
            return None;
        }
        self.host_named_by(b, a).or_else(|| self.host_named_by(a, b))
    }
}

/// What went away and came back within the hour is no root, nor is its coming back.
pub(super) fn recovered(signs: &[Sign]) -> Vec<bool> {
    let mut recovered = vec![false; signs.len()];
    for (at, gone) in signs.iter().enumerate() {
        if !wording::goes_away(&gone.text) || gone.class == Class::Person {
            continue;
        }
        let hour = gone.time.saturating_add(60 * MINUTE);
        let back = signs.iter().enumerate().skip(at + 1).take_while(|(_, sign)| sign.time <= hour).find(|(_, sign)| {
            let needed = gone.words.len().saturating_sub(2).clamp(1, 2);
            sign.host == gone.host
                && sign.component == gone.component
                && wording::comes_back(&sign.text)
                && shared(&gone.words, &sign.words).count() >= needed
        });
        if let Some((back, sign)) = back {
            recovered[at] = true;
            // What came back as less than it was has not recovered.
            recovered[back] = sign.class != Class::State;
        }
    }
    recovered
}
